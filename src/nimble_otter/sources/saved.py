"""The list of saved sources: one TOML file, without secrets, shared by every window of a home."""

from __future__ import annotations

import tomllib
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import tomli_w

from nimble_otter.errors import CorruptError, SavedError, TooNewError
from nimble_otter.files import read_text, set_aside, update_text, write_text
from nimble_otter.sources.source import Source
from nimble_otter.translation import tr

VERSION = 1
SUFFIX = ".source"
"""Of the file of one source."""
_MARKS = ("stage", "care", "read_only", "clear_password", "password_command")
_TEXTS = ("stage", "password_command")


def load_sources(path: Path) -> list[Source]:
    """The saved sources; none when there is no file yet. Raises: CorruptError (the file is set aside), TooNewError."""
    if not path.exists():
        return []
    try:
        return _read(read_text(path), path)
    except (OSError, UnicodeDecodeError, ValueError) as problem:
        aside = set_aside(path)
        raise CorruptError(
            tr("The list of sources was damaged; it is kept as {aside_name}.", aside_name=aside.name),
            tr("It is in {parent}.", parent=aside.parent),
        ) from problem


def change_sources(path: Path, change: Callable[[list[Source]], list[Source]]) -> list[Source]:
    """Change the list as it is on disk now, which another window may have changed meanwhile; returns it. Raises:
    TooNewError, where a newer version of ours wrote it, and CorruptError: nothing is written then; OSError."""
    found: list[Source] = []

    def merged(text: str | None) -> str:
        nonlocal found
        try:
            found = change(_read(text, path) if text is not None else [])
        except ValueError as problem:
            raise CorruptError(
                tr("The list of sources is damaged: {problem}.", problem=problem), tr("It is {path}.", path=path)
            ) from problem
        return _written(found)

    try:
        update_text(path, merged)
    except UnicodeDecodeError as problem:
        raise CorruptError(
            tr("The list of sources is damaged: it is not text."), tr("It is {path}.", path=path)
        ) from problem
    return found


def export_source(source: Source, path: Path) -> None:
    """Write one source into a file of its own, without its password or what gets it. Raises: SavedError."""
    try:
        write_text(path, _written([replace(source, password_command="", clear_password=False)]), is_private=False)
    except OSError as problem:
        raise SavedError(
            tr("{path} can't be written: {strerror}.", path=path, strerror=problem.strerror),
            tr("Choose another folder."),
        ) from problem


def import_source(path: Path) -> Source:
    """The source of such a file. What would run or reveal something by itself is left out of it: the command that
    prints a password, and leave to send one in clear. Raises: SavedError's."""
    try:
        found = _read(read_text(path), path)
    except OSError as problem:
        raise SavedError(tr("{path} can't be read: {strerror}.", path=path, strerror=problem.strerror)) from problem
    except (UnicodeDecodeError, ValueError) as problem:
        raise CorruptError(
            tr("{path_name} is not the file of a source: {problem}.", path_name=path.name, problem=problem)
        ) from problem
    if len(found) != 1:
        raise CorruptError(
            tr("{path_name} has {found_count} sources.", path_name=path.name, found_count=len(found)),
            tr("A file of a source has one."),
        )
    return replace(found[0], password_command="", clear_password=False)


def _read(text: str, path: Path) -> list[Source]:
    """Raises: ValueError, TooNewError."""
    try:
        whole = tomllib.loads(text)
    except RecursionError as problem:
        raise ValueError(tr("it is nested too deeply")) from problem
    version, items = whole.get("version"), whole.get("source", [])
    if not isinstance(version, int) or not isinstance(items, list):
        raise ValueError(tr("it has no version or no list of sources"))
    if version > VERSION:
        raise TooNewError(tr("{path} was written by a newer Nimble Otter.", path=path), tr("Update it first."))
    results = []
    for item in items:
        if not isinstance(item, dict) or not isinstance(item.get("name"), str) or not isinstance(item.get("url"), str):
            raise ValueError(tr("a source has no name or no URL"))
        marks = {name: item[name] for name in _MARKS if name in item}
        if any(not isinstance(mark, str if name in _TEXTS else bool) for name, mark in marks.items()):
            raise ValueError(tr("a mark of {name} is not what it should be", name=item["name"]))
        results.append(Source(item["name"], item["url"], **marks))
    return results


def _written(sources: list[Source]) -> str:
    items = []
    for source in sources:
        marks: dict[str, Any] = {name: getattr(source, name) for name in _MARKS}
        items.append({"name": source.name, "url": source.url} | {name: mark for name, mark in marks.items() if mark})
    return tomli_w.dumps({"version": VERSION, "source": items})
