"""What a format is, the rows it is handed, and where it writes."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, BinaryIO, Protocol

from nimble_otter.errors import SendError
from nimble_otter.stop import StopToken
from nimble_otter.table import Column, Field, View
from nimble_otter.translation import tr
from nimble_otter.values import Value

BATCH = 8192
"""Rows handed on at a time: about 1 MB of text of twelve columns, so that the window's thread is never kept long."""

_SURROGATES = re.compile("[\ud800-\udfff]")


@dataclass(frozen=True, slots=True)
class Option:
    """One setting of a format. `kind` is choice, text, number or yes/no; `choices` are (value, label); `needs` names
    a yes/no option without which this one says nothing; `hint` stands in an empty field."""

    name: str
    label: str
    kind: str
    default: Any
    choices: tuple[tuple[str, str], ...] = ()
    needs: str = ""
    hint: str = ""


Blocks = Callable[[StopToken], Iterator[Sequence[Column]]]


@dataclass(frozen=True, slots=True)
class CellChart:
    """A chart over delivered columns: their places along (`x`) and up (`ys`, with their `names`). `kind` is line,
    area, bars or scatter; `is_measured`: what stands along are numbers or times (`is_moment`), no categories."""

    kind: str
    x: int
    ys: tuple[int, ...]
    names: tuple[str, ...]
    title: str
    x_title: str = ""
    y_title: str = ""
    is_measured: bool = False
    is_moment: bool = False
    is_sideways: bool = False
    ends: tuple[float, float] | None = None
    """Of numbers, or of times as days since 1970."""


@dataclass(frozen=True, slots=True, eq=False)
class Attached:
    """A chart that goes with rows: `picture` gives it as "png" or "svg", `cells` as one over the delivered columns
    where that is possible. Both draw when they are called, and raise ConditionError where the chart does not fit the
    rows."""

    title: str
    picture: Callable[[str], bytes]
    cells: Callable[[], CellChart | None] = lambda: None


@dataclass(frozen=True, slots=True, eq=False)
class Rows:
    """Rows on their way out: `fields`, and `blocks`, which gives their columns for at most some thousand rows at a
    time. `count` is None while nobody knows it (rows that stream from a source). `table` names them in SQL inserts;
    `keys` are the names of the columns that make a row's key, where that is known; `linked` those of columns that hold
    paths of files beside the delivery, `computed` those that their table computes itself; `has_identity` says that it
    numbers one of them. `charts` go with them where a format has pictures."""

    fields: Sequence[Field]
    blocks: Blocks
    count: int | None
    table: str = "result"
    keys: tuple[str, ...] = ()
    linked: frozenset[str] = frozenset()
    computed: frozenset[str] = frozenset()
    has_identity: bool = False
    charts: tuple[Attached, ...] = ()

    @property
    def names(self) -> list[str]:
        """Names of the columns as they are delivered."""
        return [field.name for field in self.fields]


def rows_of_view(
    fields: Sequence[Field], columns: Sequence[Column], view: View, table: str = "result", keys: tuple[str, ...] = ()
) -> Rows:
    """Columns over the rows of a view, in its order. Blocks raise Stopped."""

    def blocks(stop: StopToken) -> Iterator[Sequence[Column]]:
        for start in range(0, len(view), BATCH):
            stop.check()
            ids = view.row_ids(start, start + BATCH)
            yield [column.take(ids) for column in columns]

    return Rows(fields, blocks, len(view), table, keys)


@dataclass(slots=True)
class Output:
    """Where a format writes and what it tells. `existing` is a file as it was, where rows are added to it (`mode` is
    "append") or a part of it is replaced ("within", "over"); formats that can't will not get one. `path` is the file
    that `stream` writes, where there is one. `notes` counts what had to be written otherwise than it was, by what is to
    be said of it; `part` and `parts` are the table, or the parts of a package, that hold the rows."""

    stream: BinaryIO
    options: Mapping[str, Any]
    stop: StopToken
    existing: Path | None = None
    mode: str = "replace"
    path: Path | None = None
    notes: dict[str, int] = field(default_factory=dict)
    part: str = ""
    parts: list[str] = field(default_factory=list)

    def note(self, said: str, count: int = 1) -> None:
        """Tell of what is written otherwise than it is, of how many values."""
        if count:
            self.notes[said] = self.notes.get(said, 0) + count

    def whole(self, text: str) -> str:
        """A text without the bytes that were no UTF-8 at the source, which this format can't hold; noted."""
        clean = text if text.isascii() else _SURROGATES.sub("\ufffd", text)
        self.note(tr("texts with bytes that are not UTF-8 have \ufffd in their place"), clean != text)
        return clean


class Format(Protocol):
    """`suffix` ends its files' names, `place` says where it stands among the formats; only formats that are text go to
    the clipboard. `changes` are the ways in which it can change a file that is there, with their labels; `many` says
    that several tables go into one of its files."""

    key: str
    word: str
    suffix: str
    place: int
    is_text: bool
    options: Sequence[Option]
    changes: Sequence[tuple[str, str]]
    many: bool

    def write(self, rows: Rows, out: Output) -> Iterator[int]:
        """Write everything; yields the rows done so far now and then. Raises: SendError, Stopped."""

    def count(self, path: Path, out: Output) -> int | None:
        """How many rows a delivery holds, read back from it (all of them, those that were there before too); None where
        that can't be told."""


def settings(format_: Format, given: Mapping[str, object]) -> dict[str, Value]:
    """All options of a format, the given ones over the defaults; `binary_name` passes through. Raises: SendError where
    one can't be."""
    found = {}
    for option in format_.options:
        value = given.get(option.name, option.default)
        if option.kind == "choice" and str(value) not in {key for key, _ in option.choices}:
            known = ", ".join(key for key, _ in option.choices)
            raise SendError(
                tr(
                    "{word} has no {option_label} {value!r}.",
                    word=format_.word,
                    option_label=option.label.lower(),
                    value=value,
                ),
                tr("There are {known}.", known=known),
            )
        if option.kind == "number":
            value = _number(option, value)
        elif option.kind == "yes/no":
            value = value if isinstance(value, bool) else str(value).lower() in ("yes", "true", "1", "on")
        else:
            value = str(value)
        found[option.name] = value
    return found


def _number(option: Option, value: Value) -> int:
    try:
        number = int(value)
    except (TypeError, ValueError) as problem:
        raise SendError(
            tr("{option_label} takes a whole number, not {value!r}.", option_label=option.label, value=value)
        ) from problem
    if number < 0:
        raise SendError(
            tr("{option_label} takes a number from 0, not {number}.", option_label=option.label, number=number)
        )
    return number
