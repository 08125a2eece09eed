"""Columns, tables and views. The one place that knows how values of each kind are held."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from decimal import Decimal
from enum import StrEnum
from typing import Any

import numpy as np
from numpy.typing import NDArray

from nimble_otter.table.core.uuids import texts_of
from nimble_otter.table.text.column_format import ColumnFormat
from nimble_otter.values import Stored, Value

Ids = NDArray[np.int64]
Mask = NDArray[np.bool_]


class Kind(StrEnum):
    """What a column holds. OBJECT columns keep each value as the driver gave it."""

    INT = "integer"
    FLOAT = "number"
    BOOL = "yes/no"
    TIME = "time"
    ZONED = "time with zone"
    DATE = "date"
    CLOCK = "time of day"
    SPAN = "interval"
    DECIMAL = "decimal"
    UUID = "uuid"
    TEXT = "text"
    OBJECT = "value"

    @property
    def is_number(self) -> bool:
        """Whether values are numbers."""
        return self in (Kind.INT, Kind.FLOAT, Kind.DECIMAL)

    @property
    def is_amount(self) -> bool:
        """Whether values can be added up."""
        return self.is_number or self is Kind.SPAN

    @property
    def is_moment(self) -> bool:
        """Whether values are dates or times of a day."""
        return self in (Kind.TIME, Kind.ZONED, Kind.DATE)


class Missing:
    """The one value that says: this document has no such field."""

    def __repr__(self) -> str:
        return "MISSING"


MISSING = Missing()
EPOCH = dt.datetime(1970, 1, 1)
EPOCH_DAY = dt.date(1970, 1, 1).toordinal()
DAY_US = 86_400_000_000
TEXT_BYTES = ("utf-8", "surrogateescape")
"""Text is held as UTF-8; bytes that were not valid UTF-8 at the source pass through unchanged."""


def is_utf8(text: bytes) -> bool:
    """Whether bytes are valid UTF-8."""
    try:
        return text.isascii() or bool(text.decode())
    except UnicodeDecodeError:
        return False


_EVERY = np.arange(1 << 17)
"""Row ids from 0, grown as needed: blocks of rows in their own order are stretches of it, which `pick` knows."""
_EVERY.flags.writeable = False


def every(start: int, stop: int) -> Ids:
    """The row ids start..stop; what is picked by them is no copy."""
    global _EVERY
    if stop > len(_EVERY):
        _EVERY = np.arange(max(stop, 2 * len(_EVERY)))
        _EVERY.flags.writeable = False
    return _EVERY[start:stop]


def pick(array: Stored, ids: Ids) -> Stored:
    """The rows `ids` of an array: a view where they are a stretch made by `every`, else a copy."""
    if ids.base is _EVERY and len(ids) and ids.strides == _EVERY.strides:
        start = int(ids[0])
        return array[start : start + len(ids)]
    return array.take(ids)


def freeze(array: NDArray[np.generic] | None) -> NDArray[np.generic] | None:
    """The same memory, not writeable through what is returned."""
    if array is None:
        return None
    view = array.view()
    view.flags.writeable = False
    return view


@dataclass(frozen=True, slots=True, eq=False)
class Column:
    """Values of one kind. `empty` is True where there is no value; `missing`, a part of it, where a document has no
    such field. Either may be None: nothing of the sort. `data` of each kind:

    INT, FLOAT, BOOL: int64, float64, bool. TIME: int64 microseconds since 1970 without a zone; ZONED: the same in UTC.
    DATE: int32 days since 1970. CLOCK: int64 microseconds since midnight. SPAN: int64 microseconds. DECIMAL: int64 of
    value * 10**scale. UUID: see uuids.DTYPE. OBJECT: object. TEXT: see CodedText and BufferText.
    What `data` holds where `empty` is True is zero (OBJECT: None). `whole` is True where a number of a FLOAT column
    is a whole one, of the type that its source keeps apart from doubles; None: nowhere.
    """

    kind: Kind
    data: NDArray[Any]
    empty: Mask | None = None
    missing: Mask | None = None
    scale: int = 0
    whole: Mask | None = None

    def __post_init__(self) -> None:
        for name in ("data", "empty", "missing", "whole"):
            object.__setattr__(self, name, freeze(getattr(self, name)))

    def __len__(self) -> int:
        return len(self.data)

    def take(self, ids: Ids) -> Column:
        """A column of some rows.

        Parameters
        ----------
        ids : ndarray of int64, shape (n,)
            The rows in the order wanted; one may stand there more than once.

        Returns
        -------
        Column
            Of n rows; a copy, but see `pick`.
        """
        return replace(
            self,
            data=pick(self.data, ids),
            empty=_take(self.empty, ids),
            missing=_take(self.missing, ids),
            whole=_take(self.whole, ids),
        )

    def empty_at(self, ids: Ids | None = None) -> Mask:
        """Where rows have no value.

        Parameters
        ----------
        ids : ndarray of int64, shape (n,), optional
            The rows asked for; all where it is left out.

        Returns
        -------
        ndarray of bool, shape (n,)
            True for NULL and for a missing field.
        """
        if self.empty is None:
            return np.zeros(len(self) if ids is None else len(ids), np.bool_)
        return self.empty if ids is None else pick(self.empty, ids)

    def values(self, ids: Ids | None = None) -> list[Value]:
        """Python values of some rows.

        Parameters
        ----------
        ids : ndarray of int64, shape (n,), optional
            The rows asked for; all where it is left out.

        Returns
        -------
        list
            int, float, bool, datetime, date, Decimal, str (also UUIDs) or what the driver gave; None for NULL and
            `MISSING` for a missing field.
        """
        data = self.data if ids is None else pick(self.data, ids)
        out = self._to_python(data)
        if self.whole is not None:
            for index in np.flatnonzero(self.whole if ids is None else pick(self.whole, ids)).tolist():
                out[index] = int(out[index])
        empty = self.empty_at(ids)
        if self.empty is not None and empty.any():
            for index in np.flatnonzero(empty).tolist():
                out[index] = None
            if self.missing is not None:
                missing = self.missing if ids is None else pick(self.missing, ids)
                for index in np.flatnonzero(missing).tolist():
                    out[index] = MISSING
        return out

    def value(self, row_id: int) -> Value:
        """One Python value, as in `values`."""
        return self.values(np.array([row_id], np.int64))[0]

    def _to_python(self, data: NDArray[np.generic]) -> list[Value]:
        if self.kind is Kind.TIME:
            return list(data.view("M8[us]").tolist())
        if self.kind is Kind.DATE:
            return list(data.astype("M8[D]").tolist())
        if self.kind is Kind.ZONED:
            return [value.replace(tzinfo=dt.UTC) for value in data.view("M8[us]").tolist()]
        if self.kind is Kind.CLOCK:
            return [value.time() for value in data.view("M8[us]").tolist()]
        if self.kind is Kind.SPAN:
            return list(data.view("m8[us]").tolist())
        if self.kind is Kind.UUID:
            return list(texts_of(data))
        if self.kind is Kind.DECIMAL:
            return [Decimal(v).scaleb(-self.scale) for v in data.tolist()]
        return list(data.tolist())


@dataclass(frozen=True, slots=True, eq=False)
class CodedText(Column):
    """Text with few different values: `data` holds int32 places in `words`, which are all different."""

    words: Sequence[str] = ()

    def _to_python(self, data: NDArray[np.generic]) -> list[Value]:
        words = self.words
        return [words[code] for code in data.tolist()] if words else [None] * len(data)

    def word_ranks(self) -> NDArray[np.int64]:
        """The place of each word when the words are in code point order; shape (words,)."""
        order = sorted(range(len(self.words)), key=self.words.__getitem__)
        ranks = np.empty(len(order), np.int64)
        ranks[order] = np.arange(len(order))
        return ranks


@dataclass(frozen=True, slots=True, eq=False)
class BufferText(Column):
    """Text with many different values: `buffer` holds each as UTF-8 with a zero byte behind it, and `data` the
    offsets at which each starts; `ends` where each ends (its zero byte). At least 8 bytes follow the last one."""

    buffer: NDArray[np.uint8] = None  # type: ignore[assignment]
    ends: NDArray[np.int64] = None  # type: ignore[assignment]

    def __post_init__(self) -> None:
        super(BufferText, self).__post_init__()
        object.__setattr__(self, "buffer", freeze(self.buffer))
        object.__setattr__(self, "ends", freeze(self.ends))

    def take(self, ids: Ids) -> Column:
        """The texts of these rows, as a column of its own."""
        return replace(
            self,
            data=pick(self.data, ids),
            ends=pick(self.ends, ids),
            empty=_take(self.empty, ids),
            missing=_take(self.missing, ids),
        )

    def values(self, ids: Ids | None = None) -> list[Value]:
        """The texts of these rows as Python's, None where NULL."""
        starts = self.data if ids is None else pick(self.data, ids)
        ends = self.ends if ids is None else pick(self.ends, ids)
        out = self._slices(starts, ends)
        for index in np.flatnonzero(self.empty_at(ids)).tolist() if self.empty is not None else ():
            out[index] = None
        if self.missing is not None:
            for index in np.flatnonzero(self.missing if ids is None else pick(self.missing, ids)).tolist():
                out[index] = MISSING
        return out

    def _slices(self, starts: NDArray[np.int64], ends: NDArray[np.int64]) -> list[Value]:
        if len(starts) == 0:
            return []
        low = int(starts.min())
        if int(ends.max()) - low <= 64 * len(starts) + 4096:  # near each other: one copy, then slices of it
            block = self.buffer[low : int(ends.max())].tobytes()
            return [
                block[a:b].decode(*TEXT_BYTES)
                for a, b in zip((starts - low).tolist(), (ends - low).tolist(), strict=True)
            ]
        memory = self.buffer.data
        return [str(memory[a:b], *TEXT_BYTES) for a, b in zip(starts.tolist(), ends.tolist(), strict=True)]


def blanked(data: Stored, gone: Mask) -> Stored:
    """A copy of a column's data that holds zero (objects: None) where there is no value."""
    data = data.copy()
    data[gone] = None if data.dtype == np.object_ else 0
    return data


def placed(made: Column, rows: int, ids: Ids) -> Column:
    """Values of some rows as a column of all rows.

    Parameters
    ----------
    made : Column
        The values, of n rows; not of texts or objects.
    rows : int
        How many rows the new column has.
    ids : ndarray of int64, shape (n,)
        Where each value belongs.

    Returns
    -------
    Column
        Without a value everywhere else.
    """
    data = np.zeros(rows, made.data.dtype)
    empty = np.ones(rows, np.bool_)
    keep = ~made.empty_at()
    data[ids] = np.where(keep, made.data, 0)
    empty[ids] = ~keep
    whole = None
    if made.whole is not None:
        whole = np.zeros(rows, np.bool_)
        whole[ids] = made.whole & keep
    return Column(made.kind, data, empty if empty.any() else None, scale=made.scale, whole=whole)


def _take(mask: Mask | None, ids: Ids) -> Mask | None:
    return None if mask is None else pick(mask, ids)


@dataclass(frozen=True, slots=True)
class Field:
    """What is known of a result column.

    `origin` is where its values come from ("reading.level_m"), `declared` the source's type name, `form` how a source
    that keeps times or yes/no as text or numbers writes them ("%Y-%m-%d %H:%M", "0/1"), `note` what stands under the
    name when there is no origin ("31 % · object"), `look` how its values are shown, `numbers` whether mixed values are
    all numbers. `server` is the dialect of the source, `exact` the type with which a new table there would hold the
    same values ("" for any value in SQLite, for one of a database's own types elsewhere; None: not known),
    `generated` what fills the column there ("identity", or an expression). `folds`: texts that differ may count as
    equal there. `is_key`: whole numbers name a row, as those of a key do, or one of another table.
    """

    name: str
    kind: Kind
    origin: str = ""
    declared: str = ""
    form: str = ""
    note: str = ""
    look: ColumnFormat | None = None
    numbers: bool = False
    server: str = ""
    exact: str | None = None
    generated: str = ""
    folds: bool = False
    is_key: bool = False

    @property
    def is_number(self) -> bool:
        """Whether values are numbers, mixed ones too."""
        return self.kind.is_number or (self.kind is Kind.OBJECT and self.numbers)

    @property
    def is_amount(self) -> bool:
        """Whether values can be added up."""
        return self.is_number or self.kind is Kind.SPAN


def distinct_names(fields: Iterable[Field]) -> list[Field]:
    """Steps find columns by name, so a second column of one name gets a number behind it."""
    taken: set[str] = set()
    results = []
    for field in fields:
        name, number = field.name, 1
        while name.casefold() in taken:
            number += 1
            name = f"{field.name} ({number})"
        taken.add(name.casefold())
        results.append(replace(field, name=name))
    return results


@dataclass(frozen=True, slots=True, eq=False)
class Table:
    """Columns of one length, each with its field. Names need not differ: a query may give two columns one name."""

    fields: tuple[Field, ...]
    columns: tuple[Column, ...]
    rows: int

    def index(self, name: str) -> int:
        """The place of the first column called `name`; letters' case counts only when needed. Raises: KeyError."""
        names = [field.name for field in self.fields]
        if name in names:
            return names.index(name)
        folded = [n.casefold() for n in names]
        if name.casefold() in folded:
            return folded.index(name.casefold())
        raise KeyError(name)

    def column(self, name: str) -> Column:
        """A column by its name. Raises: KeyError."""
        return self.columns[self.index(name)]

    @property
    def nbytes(self) -> int:
        """Bytes that the columns' arrays hold; objects behind pointers are not counted."""
        arrays = ("data", "empty", "missing", "buffer", "ends")
        found = (getattr(column, name, None) for column in self.columns for name in arrays)
        return sum(int(array.nbytes) for array in found if array is not None)

    def with_fields(self, fields: Sequence[Field]) -> Table:
        """The same columns under other fields."""
        return Table(tuple(fields), self.columns, self.rows)

    def take(self, ids: Ids) -> Table:
        """A table of some rows (copies).

        Parameters
        ----------
        ids : ndarray of int64, shape (n,)
            The rows in the order wanted.

        Returns
        -------
        Table
        """
        return Table(self.fields, tuple(column.take(ids) for column in self.columns), len(ids))


@dataclass(frozen=True, slots=True, eq=False)
class View:
    """Rows of a table in an order: `ids` are row ids (None: all, as stored)."""

    table: Table
    ids: Ids | None = None

    def __post_init__(self) -> None:
        object.__setattr__(self, "ids", freeze(self.ids))

    def __len__(self) -> int:
        return self.table.rows if self.ids is None else len(self.ids)

    def row_ids(self, start: int = 0, stop: int | None = None) -> Ids:
        """Row ids at the positions start..stop (a view, or made on the spot)."""
        stop = len(self) if stop is None else min(stop, len(self))
        if self.ids is None:
            return every(start, max(start, stop))
        return self.ids[start:stop]
