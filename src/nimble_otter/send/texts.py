"""Columns as texts, a whole block at once: what CSV, JSON, SQL inserts, XML and workbooks are put together from.

Numbers and times are written in C by orjson over the columns' own arrays; words of few different values once each.
"""

from __future__ import annotations

import base64
import datetime as dt
import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import orjson

from nimble_otter.errors import SendError
from nimble_otter.send.format import Option, Output
from nimble_otter.table import MISSING, Column, Field, Kind
from nimble_otter.table.core.columns import TEXT_BYTES
from nimble_otter.table.text.column_format import ColumnFormat, number_text, time_text
from nimble_otter.table.text.column_texts import by_code, moments, numbers, utf8, written
from nimble_otter.table.text.show import plain, shown
from nimble_otter.translation import tr
from nimble_otter.values import Value

_ARRAY = orjson.OPT_SERIALIZE_NUMPY
_WHOLE = 1 << 53
BINARY = Option(
    "binary", tr("Binary values"), "choice", "hex",
    (("hex", tr("as hex")), ("base64", tr("as base64")), ("files", tr("in files beside, with their paths"))),
)  # fmt: skip
BINARY_NAME = Option("binary_name", tr("Names of such files"), "text", "{column}-{row}", hint="{column}-{row}")
SPELLING = (
    Option("values", tr("Values"), "choice", "exact", (("exact", "exact"), ("shown", tr("as the grid shows them")))),
    Option("decimal", tr("Decimal mark"), "choice", "point", (("point", "point"), ("comma", "comma"))),
    Option("date", tr("Dates"), "text", "", hint="yyyy-MM-dd"),
    Option("time", tr("Times"), "text", "", hint="yyyy-MM-dd HH:mm:ss"),
    Option("words", tr("Yes and no"), "text", "true/false"),
    BINARY,
    BINARY_NAME,
)


CHARTS = Option("charts", tr("The pull's charts"), "yes/no", True)
"""Of formats that have pictures."""
GUARD = Option("guard", tr("Guard against formulas"), "yes/no", True)
_GUARDED = tr("texts that begin like a formula have an apostrophe before them")
_MAY_START = frozenset(bytes([byte]) for byte in b"=+-@\t\r\n\v\f \x00\x1c\x1d\x1e\x1f\xc2\xe1\xe2\xe3\xef")
_STARTS = re.compile(
    "[\t\r\n]|[\\s\x00\u00ad\u180e\u200b-\u200f\u202a-\u202e\u2060-\u2069\ufeff]*[=+\\-@＝＋－＠﹢﹣﹦﹫]"
)
_NUMBER = re.compile(r"\s*[+-]?(\d[\d.,]*|\.\d+)([eE][+-]?\d+)?")


def guarded(texts: list[bytes], out: Output, empty: Value = None, times: Value = None) -> list[bytes]:
    """Texts with an apostrophe before those that a spreadsheet could take for a formula: they begin with = + - @ (also
    in full width), a tab or a line end, or with one of these behind blanks and signs that are not seen; numbers are
    left alone. What is at places that are `empty` does not matter; `times` is how often each stands in the column."""
    if _MAY_START.isdisjoint(text[:1] for text in texts):
        return texts
    indices = [
        n for n, text in enumerate(texts)
        if text[:1] in _MAY_START and (empty is None or not empty[n]) and _is_formula(text.decode("utf-8", "replace"))
    ]  # fmt: skip
    if not indices:
        return texts
    texts = list(texts)
    for index in indices:
        texts[index] = b"'" + texts[index]
    out.note(_GUARDED, len(indices) if times is None else int(sum(times[index] for index in indices)))
    return texts


def _is_formula(text: str) -> bool:
    return _STARTS.match(text) is not None and _NUMBER.fullmatch(text) is None


def can_be_formula(column: Column) -> bool:
    """Whether a column may hold texts of any kind, beside numbers and times."""
    return column.kind in (Kind.TEXT, Kind.UUID, Kind.OBJECT, Kind.SPAN)


def spelled_guarded(column: Column, field: Field, spell: Spelling, out: Output) -> list[bytes]:
    """As `spelled`, guarded where the delivery's options ask for it."""
    texts = spelled(column, field, spell)
    return guarded(texts, out, column.empty) if out.options["guard"] and can_be_formula(column) else texts


@dataclass(frozen=True, slots=True)
class Spelling:
    """How values become texts where a format leaves it open. `date` and `time` are patterns of Unicode TS #35; with
    `looks` columns are written as the grid shows them, without groups of digits."""

    comma: bool = False
    date: str = ""
    time: str = ""
    words: tuple[str, str] = ("true", "false")
    looks: bool = False
    bytes_as: Callable[[bytes], str] = bytes.hex


def spelling(out: Output) -> Spelling:
    """The spelling that a delivery's options ask for. Raises: SendError on a pattern or words that can't be."""
    options = out.options
    yes, slash, no = str(options["words"]).partition("/")
    if not slash or yes == no:
        raise SendError(
            tr("Yes and no are two words with / between them, not {words!r}.", words=options["words"]),
            tr("As in yes/no."),
        )
    for name, sample in (("date", dt.date(2031, 5, 28)), ("time", dt.datetime(2031, 5, 28, 23))):
        try:
            time_text(sample, options[name])
        except ValueError as problem:
            raise SendError(
                tr(
                    "{options!r} is not a valid pattern of a {name}: {problem}",
                    options=options[name],
                    name=name,
                    problem=problem,
                )
            ) from problem
    return Spelling(options["decimal"] == "comma", options["date"], options["time"], (yes, no),
                    options["values"] == "shown", bytes_writer(options))  # fmt: skip


def bytes_writer(options: Mapping[str, object]) -> Callable[[bytes], str]:
    """What writes a binary value (files beside are text by then)."""
    return (lambda value: base64.b64encode(value).decode("ascii")) if options["binary"] == "base64" else bytes.hex


def put_empty(texts: list[bytes], column: Column, empty: bytes, missing: bytes | None = None) -> list[bytes]:
    """The same list with what stands for no value, and for a field that a document has not, put in."""
    if column.empty is not None:
        for index in np.flatnonzero(column.empty).tolist():
            texts[index] = empty
        if column.missing is not None and missing is not None:
            for index in np.flatnonzero(column.missing).tolist():
                texts[index] = missing
    return texts


def even_times(column: Column) -> list[Value]:
    """Values for a source that keeps times as text: those of a column all with a fraction, or none, so that they are
    read as times again and sort as such."""
    values = column.values()
    if column.kind not in (Kind.TIME, Kind.ZONED, Kind.CLOCK) or not (column.data % 1_000_000).any():
        return values
    return [
        v if v is None or v is MISSING else (
            v.isoformat(timespec="microseconds") if isinstance(v, dt.time) else v.isoformat(" ", "microseconds")
        )
        for v in values
    ]  # fmt: skip


def spelled(column: Column, field: Field, spell: Spelling) -> list[bytes]:
    """Any column as plain texts; rows without a value hold anything."""
    pieces: list[bytes] | None = None
    looked = spell.looks and field.look is not None
    if column.kind in (Kind.TEXT, Kind.UUID):
        return utf8(column)
    if column.kind.is_number and not looked:
        pieces = numbers(column)
        if pieces is not None and spell.comma and column.kind is not Kind.INT:
            pieces = b"\n".join(pieces).replace(b".", b",").split(b"\n") if pieces else pieces
    elif column.kind.is_moment and not looked:
        if not (spell.date if column.kind is Kind.DATE else spell.time):
            pieces = moments(column)
    elif column.kind in (Kind.CLOCK, Kind.SPAN) and not looked:
        pieces = written(column)
    elif column.kind is Kind.BOOL and not looked:
        no, yes = spell.words[1].encode(), spell.words[0].encode()
        return by_code([no, yes], column.data)
    if pieces is not None:
        return pieces
    if column.kind in (Kind.OBJECT, Kind.FLOAT):  # what is equal there need not be written alike
        return [one(value, field, spell) for value in column.values()]
    known: dict[Any, bytes] = {}
    texts = []
    for value in column.values():
        if value not in known:
            known[value] = one(value, field, spell)
        texts.append(known[value])
    return texts


def one(value: Value, field: Field, spell: Spelling) -> bytes:
    """One value as a plain text."""
    if isinstance(value, bytes):
        return spell.bytes_as(value).encode("ascii")
    if spell.looks and field.look is not None and not isinstance(value, (str, Mapping, list)) and value is not None:
        text = _looked(value, field, field.look)
    elif isinstance(value, bool):
        text = spell.words[not value]
    elif isinstance(value, dt.datetime) and spell.time:
        text = time_text(value, spell.time)
    elif isinstance(value, dt.date) and not isinstance(value, dt.datetime) and spell.date:
        text = time_text(value, spell.date)
    else:
        text = plain(value)
        if spell.comma and not isinstance(value, (int, str, dt.timedelta, dt.time, Mapping, list)):
            text = text.replace(".", ",")
    return text.encode(*TEXT_BYTES)


def _looked(value: object, field: Field, look: ColumnFormat) -> str:
    """As the grid shows it, but without groups between the digits."""
    if isinstance(value, (int, float)) and not isinstance(value, bool) and np.isfinite(value):
        return number_text(value, replace(look, groups=False), "")
    return shown(value, replace(field, look=replace(look, groups=False)))


def woven(pieces: Sequence[list[bytes] | bytes], count: int) -> bytes:
    """Rows put together from columns and what stands between them: for each row all of `pieces` in turn."""
    width = len(pieces)
    flat: list[bytes] = [piece if isinstance(piece, bytes) else b"" for piece in pieces] * count
    for index, piece in enumerate(pieces):
        if not isinstance(piece, bytes):
            flat[index::width] = piece
    return b"".join(flat)


def joined(columns: Sequence[list[bytes]], count: int, start: bytes, between: bytes, end: bytes) -> bytes:
    """As `woven`, for lines that begin, go on and end the same."""
    pieces: list[list[bytes] | bytes] = [start] if start else []
    for index, column in enumerate(columns):
        if index:
            pieces.append(between)
        pieces.append(column)
    return woven([*pieces, end], count)


def too_exact(column: Column) -> Value:
    """A mask of whole numbers that a double can't hold."""
    return (column.data > _WHOLE) | (column.data < -_WHOLE)
