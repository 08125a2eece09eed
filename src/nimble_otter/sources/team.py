"""The sources of a team: a folder on a share or in git with a file for each, so that changes of two people to different
sources never meet. Passwords, and what would run or reveal something by itself, are not in it."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from nimble_otter.errors import SavedError
from nimble_otter.files import locked
from nimble_otter.sources.saved import SUFFIX, export_source, import_source
from nimble_otter.sources.source import Source
from nimble_otter.team_changes import absent, noting
from nimble_otter.translation import tr

_FOLDER = "sources"


def team_sources(folder: Path) -> tuple[list[Source], list[str]]:
    """The sources of a team's folder by their names, and what is wrong with those that can't be read: the others are
    there all the same."""
    found: dict[str, Source] = {}
    troubles = list[str]()
    inside = folder / _FOLDER
    if not folder.is_dir():
        return [], [str(absent(folder))]
    for path in sorted(inside.glob(f"*{SUFFIX}")) if inside.is_dir() else ():
        try:
            source = _shared(path)
        except SavedError as problem:
            troubles.append(str(problem))
            continue
        if source.name in found:
            troubles.append(
                tr(
                    "{path_name}: the team has another source {source_name}.",
                    path_name=path.name,
                    source_name=source.name,
                )
            )
        found.setdefault(source.name, source)
    return [found[name] for name in sorted(found)], troubles


def with_team(own: Sequence[Source], folder: Path | None) -> tuple[list[Source], list[str]]:
    """One's own sources and those of the team that have no name of these; and what `team_sources` finds wrong."""
    shared, troubles = team_sources(folder) if folder is not None else ([], [])
    names = {source.name for source in own}
    return [*own, *(source for source in shared if source.name not in names)], troubles


def share(source: Source, folder: Path, before: Source | None = None) -> Source:
    """Put a source into the team's folder, in the place of what was there `before`. Raises: SavedError, where somebody
    else changed that one meanwhile, or has one of this name there."""
    path = _file(folder, source.name)
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        with locked(path):
            old = _file(folder, before.name) if before is not None else path
            there = _shared(old) if old.exists() else None
            if there is not None and (before is None or not _is_same(there, before)):
                raise SavedError(
                    tr(
                        "{there_name} was changed by somebody else: it is {words} now.",
                        there_name=there.name,
                        words=_words(there),
                    ),
                    tr("Open its page again, then change it.") if before is not None else tr("Choose another name."),
                )
            if old != path and path.exists():
                raise SavedError(
                    tr("The team has a source {source_name}.", source_name=source.name), tr("Choose another name.")
                )
            said = _words(source) if before is None else f"{_words(before)} → {_words(source)}"
            with noting(folder, path, source.name, lambda *_: said):
                export_source(source, path)
            if old != path:
                with noting(folder, old, there.name if there is not None else source.name):
                    old.unlink(missing_ok=True)
    except OSError as problem:
        raise SavedError(
            tr("{path} can't be written: {strerror}.", path=path, strerror=problem.strerror),
            tr("Check the team's folder."),
        ) from problem
    return replace(source, is_shared=True, password_command="", clear_password=False)


def withdraw(source: Source, folder: Path) -> None:
    """Take a source out of the team's folder. Raises: SavedError."""
    path = _file(folder, source.name)
    try:
        with noting(folder, path, source.name):
            path.unlink(missing_ok=True)
    except OSError as problem:
        raise SavedError(
            tr("{source_name} can't be removed: {strerror}.", source_name=source.name, strerror=problem.strerror),
            tr("Check the team's folder."),
        ) from problem


def _file(folder: Path, name: str) -> Path:
    plain = re.sub(r"[^-\w .()]+", "_", name).strip(" .") or "source"
    return folder / _FOLDER / f"{plain}{SUFFIX}"


def _shared(path: Path) -> Source:
    return replace(import_source(path), is_shared=True)


def _is_same(one: Source, other: Source) -> bool:
    return _words(one) == _words(other)


def _words(source: Source) -> str:
    """What of a source the file has."""
    marks = [source.stage, tr("take care") if source.care else "", "read-only" if source.read_only else ""]
    return ", ".join([source.url, *filter(None, marks)])
