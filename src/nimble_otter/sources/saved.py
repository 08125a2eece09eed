"""The list of saved sources: one TOML file, without secrets."""

from __future__ import annotations

import tomllib
from pathlib import Path
from typing import Any

import tomli_w

from nimble_otter.errors import CorruptError, TooNewError
from nimble_otter.files import set_aside, write_text
from nimble_otter.sources.secrets import split_secret
from nimble_otter.sources.source import Source

VERSION = 1


def load_sources(path: Path) -> list[Source]:
    """The saved sources; none when there is no file yet. Raises: CorruptError (the file is set aside), TooNewError."""
    if not path.exists():
        return []
    try:
        whole = tomllib.loads(path.read_text("utf-8"))
        if whole["version"] > VERSION:
            raise TooNewError(f"{path} was written by a newer Nimble Otter.", "Update it first.")
        return [
            Source(
                str(item["name"]), str(item["url"]), str(item.get("stage", "")), bool(item.get("care", False)),
                bool(item.get("read_only", False)),
            )
            for item in whole.get("source", [])
        ]  # fmt: skip
    except (tomllib.TOMLDecodeError, UnicodeDecodeError, KeyError, TypeError):
        aside = set_aside(path)
        raise CorruptError(
            f"The list of sources was damaged; it is kept as {aside.name}.", f"It is in {aside.parent}."
        ) from None


def save_sources(path: Path, sources: list[Source]) -> None:
    items = []
    for source in sources:
        item: dict[str, Any] = {"name": source.name, "url": split_secret(source.url)[0]}
        marks = {"stage": source.stage, "care": source.care, "read_only": source.read_only}
        items.append(item | {name: mark for name, mark in marks.items() if mark})
    write_text(path, tomli_w.dumps({"version": VERSION, "source": items}))
