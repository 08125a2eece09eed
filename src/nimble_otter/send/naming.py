"""File names from a pattern: {pull}, {source}, {table}, {date}, {time}, {count}, and {param.name} for a parameter.

A date or time may say its form as in {date:%Y-%m} (the signs of strftime, ISO 9899).
"""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from nimble_otter.errors import SendError
from nimble_otter.translation import tr

PLACES = ("pull", "source", "table", "date", "time", "count")
_PLACE = re.compile(r"\{([^{}]*)\}")
MOST_BYTES = 240
"""Bytes of a file's name, with room for an ending and a number below the 255 that file systems hold."""


@dataclass(frozen=True, slots=True)
class Names:
    """What the places of a pattern stand for."""

    pull: str
    source: str
    at: dt.datetime
    table: str = ""
    count: int | None = None
    parameters: Mapping[str, Any] = field(default_factory=dict)


def needs_count(pattern: str) -> bool:
    """Whether a file's name holds the number of rows, which is known only when all are there."""
    return "{count}" in pattern


def fill_name(pattern: str, names: Names) -> str:
    """The pattern with its places filled. Values can't add folders. Raises: SendError on an unknown place."""

    def fill(found: re.Match[str]) -> str:
        name, colon, form = found[1].partition(":")
        if not name and form:  # an older way to write a parameter
            name, colon, form = f"param.{form}", "", ""
        if name in ("date", "time"):
            return safe_part(_moment(names.at, form or ("%Y-%m-%d" if name == "date" else "%H%M%S")))
        if colon:
            raise SendError(
                tr("{{{name}}} in the file name takes no format.", name=name), tr("Only {date:…} and {time:…} do.")
            )
        if name.startswith("param."):
            return _parameter(name.removeprefix("param."), names.parameters)
        if name not in PLACES:
            known = ", ".join(f"{{{place}}}" for place in PLACES)
            raise SendError(
                tr("There is no {{{found}}} for a file name.", found=found[1]),
                tr("There are {known}, {{param.name}}.", known=known),
            )
        if name == "count":
            return "unknown" if names.count is None else str(names.count)
        return safe_part(str(getattr(names, name)) or (names.pull if name == "table" else ""))

    name = _PLACE.sub(fill, pattern).strip()
    if not name or name.endswith("/"):
        raise SendError(tr("The delivery has no file name."), tr("Write one, such as levels-{date}.csv."))
    if len(Path(name).name.encode()) > MOST_BYTES:
        raise SendError(
            tr(
                "The file name is {size} bytes long; {most_bytes} fit.",
                size=len(Path(name).name.encode()),
                most_bytes=MOST_BYTES,
            ),
            tr("Shorten it."),
        )
    return name


def _moment(at: dt.datetime, form: str) -> str:
    text = at.strftime(form)
    if "%" in text or not text.strip():
        raise SendError(
            tr("{form!r} in the file name is not a time format.", form=form), tr("Write it like %Y-%m or %H%M.")
        )
    return text


def _parameter(name: str, parameters: Mapping[str, object]) -> str:
    value = parameters.get(name)
    if value is None:
        raise SendError(
            tr("The parameter {name} in the file name has no value.", name=name), tr("Give it one beside the query.")
        )
    return safe_part("+".join(map(_short, value)) if isinstance(value, list) else _short(value))


def _short(value: object) -> str:
    """A day without its midnight."""
    if isinstance(value, dt.datetime):
        return f"{value:%Y-%m-%d}" if value.time() == dt.time() else f"{value:%Y-%m-%d %H%M}"
    return str(value)


def safe_part(text: str) -> str:
    """A text as a part of a file's name: nothing that leads to another folder, that is hidden, or that ends oddly."""
    return re.sub(r'[/\\\0-\x1f\x7f:*?"<>|]', "-", text).strip(" .") or "untitled"


def numbered(path: Path) -> Path:
    """The path, or the first free one with a number behind its name."""
    free, number = path, 1
    while free.exists():
        number += 1
        free = path.with_name(f"{path.stem} ({number}){path.suffix}")
    return free
