"""One column under construction: types widen as values arrive and nothing is cut or rounded."""

from __future__ import annotations

import datetime as dt
import uuid
from array import array as plain_array
from collections.abc import Sequence
from contextlib import suppress
from decimal import Decimal
from itertools import repeat
from operator import attrgetter, is_, sub
from typing import Any

import numpy as np
from numpy.typing import NDArray

from nimble_otter.table.core import uuids
from nimble_otter.table.core.columns import (
    EPOCH,
    EPOCH_DAY,
    MISSING,
    TEXT_BYTES,
    BufferText,
    CodedText,
    Column,
    Kind,
    Missing,
)
from nimble_otter.table.core.growable import Codes, GrowableArray
from nimble_otter.table.core.parts import ArrayPart, KnownTexts, Part, TextPart
from nimble_otter.table.kernels.numeric import EXACT_FLOAT, are_numbers
from nimble_otter.table.text import text_format
from nimble_otter.values import Value

MANY_WORDS = 1000
"""Above so many different texts a column goes over from dictionary codes to one buffer of UTF-8."""
_BY_TYPE: dict[type, Kind] = {
    int: Kind.INT,
    float: Kind.FLOAT,
    bool: Kind.BOOL,
    str: Kind.TEXT,
    dt.datetime: Kind.TIME,
    dt.date: Kind.DATE,
    dt.time: Kind.CLOCK,
    dt.timedelta: Kind.SPAN,
    Decimal: Kind.DECIMAL,
}
_STYLED = (Kind.ZONED, Kind.CLOCK, Kind.SPAN)
_SURE = (Kind.INT, Kind.FLOAT, Kind.TEXT)
_DTYPES: dict[Kind, Any] = {
    Kind.INT: np.int64,
    Kind.FLOAT: np.float64,
    Kind.BOOL: np.bool_,
    Kind.TIME: np.int64,
    Kind.ZONED: np.int64,
    Kind.DATE: np.int32,
    Kind.CLOCK: np.int64,
    Kind.SPAN: np.int64,
    Kind.DECIMAL: np.int64,
    Kind.UUID: uuids.DTYPE,
    Kind.TEXT: np.int32,
    Kind.OBJECT: np.object_,
}
_FROM_TEXT = (Kind.TIME, Kind.ZONED, Kind.DATE, Kind.CLOCK, Kind.SPAN, Kind.DECIMAL, Kind.UUID)
"""Kinds that a server writes as texts: only where the source declares it, one becomes a value of its kind."""
_ONE_FORM = {Kind.DATE: "%Y-%m-%d", Kind.CLOCK: text_format.CLOCK_FORM, Kind.ZONED: text_format.UTC_FORM}
_EMPTY_AS_DECLARED = (
    Kind.INT, Kind.FLOAT, Kind.DECIMAL, Kind.BOOL, Kind.TIME, Kind.ZONED, Kind.DATE, Kind.SPAN, Kind.UUID,
)  # fmt: skip
_FILL: dict[Kind, Any] = {
    Kind.TEXT: "",
    Kind.TIME: EPOCH,
    Kind.ZONED: EPOCH.replace(tzinfo=dt.UTC),
    Kind.DATE: dt.date(1970, 1, 1),
    Kind.CLOCK: dt.time(),
    Kind.SPAN: dt.timedelta(),
    Kind.DECIMAL: Decimal(0),
    Kind.UUID: uuids.NONE,
}


def _micros(spans: Sequence[Any]) -> NDArray[np.int64]:
    """Each as a number of microseconds; each part is taken of all of them at once, which is quicker than dividing."""
    days, seconds, rest = (np.fromiter(map(attrgetter(name), spans), np.int64, len(spans))
                           for name in ("days", "seconds", "microseconds"))  # fmt: skip
    return (days * 86_400 + seconds) * 1_000_000 + rest


class _Retype(Exception):
    """A batch does not fit the column's present kind."""


class ColumnBuilder:
    """One column under construction. `hint` is the kind that the source declares, used only where every value fits
    it exactly: texts as times or UUIDs, 0 and 1 as yes/no. A hint of INT or FLOAT is a promise of the
    driver that there are no booleans and, among FLOAT, no integers; of TEXT, that there is nothing else but None: so
    that not every value has to be looked at. `is_typed`: a column of nothing but empty values is of its hint's kind."""

    def __init__(self, hint: Kind | None = None, is_typed: bool = False) -> None:
        self.hint, self._is_typed = hint, is_typed
        self.form = ""
        self.kind: Kind | None = None
        self.scale = 0
        self.rows = 0
        self._data = GrowableArray(np.int8)
        self._empty: GrowableArray | None = None
        self._missing: GrowableArray | None = None
        self._whole: GrowableArray | None = None
        self._new_whole: NDArray[np.bool_] | None = None
        self._codes: Codes | None = None
        self._known: KnownTexts | None = None
        self._bytes: GrowableArray | None = None
        self._ends = GrowableArray(np.int64)
        self._held: set[type] = set()

    @property
    def numbers(self) -> bool:
        """Whether it holds mixed values that are all numbers."""
        return self.kind is Kind.OBJECT and are_numbers(self._held)

    def extend(self, values: Sequence[object]) -> None:
        """Add a batch. Any mixture of Python values is taken; None is NULL and MISSING a missing field."""
        if self.hint in _SURE and self.kind is self.hint and self._extend_sure(self.hint, values):
            return
        types = set(map(type, values))
        mask = missing = None
        if Missing in types:
            missing = _where(values, MISSING)
            types.discard(Missing)
        if type(None) in types or missing is not None:
            mask = _where(values, None)
            mask = mask if missing is None else mask | missing
            types.discard(type(None))
        self._new_whole = None
        if types:
            self._extend_values(values, types, mask)
        else:
            self._pad(len(values))
        self._mark("_empty", mask, len(values))
        self._mark("_missing", missing, len(values))
        self._mark("_whole", self._new_whole, len(values))
        self.rows += len(values)

    def _extend_sure(self, kind: Kind, values: Sequence[Value]) -> bool:
        """Add values that the driver promised to be of one kind; False where that takes a closer look."""
        mask: NDArray[np.bool_] | None = None
        array: NDArray[Any]
        if kind is Kind.TEXT:
            if self._codes is None or len(self._codes) > MANY_WORDS:
                return False
            array = np.fromiter(map(self._codes.__getitem__, values), np.int32, len(values))
            if array.min(initial=0) < 0:
                mask = array < 0
                array[mask] = 0
        else:
            try:  # unlike NumPy's own, these refuse what is no integer, or no number
                array = np.frombuffer(plain_array("q" if kind is Kind.INT else "d", values), _DTYPES[kind])
            except (TypeError, OverflowError):
                return False
        self._data.extend(array)
        self._mark_batch(mask, len(values))
        return True

    def extend_part(self, part: Part) -> None:
        """Add a batch that a client gave as arrays: as `extend` with its values would, without making them."""
        if isinstance(part, list):
            self.extend(part)
        elif isinstance(part, TextPart):
            if not self._extend_texts(part):
                self.extend(part.values())
        elif not self._extend_array(part):
            self.extend_part(part.as_rows())

    def _extend_array(self, part: ArrayPart) -> bool:
        """Add an array as it is; False where its values have to be looked at one by one."""
        kind = part.kind
        if self.kind not in (None, kind) or self.hint not in (None, kind) or (kind in _FROM_TEXT and self.hint is None):
            return False
        if part.empty is not None and part.empty.all():
            self._pad(len(part))
        else:
            text = self._form_with(part)
            if text is None or (kind is Kind.DECIMAL and not self._takes_scale(part.scale)):
                return False
            if self.kind is None:
                self._start(kind)
            self.form = text
            self._data.extend(part.data)
        self._mark_batch(part.empty, len(part))
        return True

    def _form_with(self, part: ArrayPart) -> str | None:
        """The form that writes what is there and these values back to the letter; None where there is none."""
        kind, form = part.kind, self.form
        if kind in _ONE_FORM:
            return _ONE_FORM[kind] if form in ("", _ONE_FORM[kind]) else None
        if kind is Kind.TIME and part.digits is not None:
            given = part.digits if part.empty is None else part.digits[~part.empty]
            wanted = text_format.form_of_digits(int(given[0]))
            is_even = form in ("", wanted) and bool((given == given[0]).all())
            return wanted if is_even else text_format.ANY_FORM
        if kind is Kind.SPAN and part.days is not None and part.rest is not None:
            stored = self._data.view() if self.kind is kind else np.zeros(0, np.int64)
            is_new = not form and not stored.any()
            largest = 0 if is_new else int(np.abs(stored).max(initial=0))
            return text_format.span_form(part.days, part.rest, form, is_new, largest) if is_new or form else None
        return None if form else ""

    def _takes_scale(self, scale: int) -> bool:
        """Whether decimals of so many digits after the point fit; the first ones say how many there are."""
        if not self.rows or self.kind is None or (self._empty is not None and self._empty.view().all()):
            self.scale = scale
        return self.scale == scale

    def _extend_texts(self, part: TextPart) -> bool:
        """Add texts by their bytes; False where they have to be looked at one by one."""
        if self.kind is not Kind.TEXT and (self.kind or self.hint not in (None, Kind.TEXT, Kind.OBJECT)):
            return False
        if part.empty is not None and part.empty.all():
            self._pad(len(part))
            self._mark_batch(part.empty, len(part))
            return True
        if self.kind is None:
            self._start(Kind.TEXT)
        codes = None
        if self._codes is not None:
            if not part.is_short:
                return False
            self._known = self._known or KnownTexts(self._codes)
            codes = self._known.find(part, MANY_WORDS)
            if codes is not None:
                self._data.extend(codes)
            if codes is None or len(self._codes) > MANY_WORDS:
                self._leave_codes()
        if codes is None:
            self._append_joined(*part.joined())
        self._mark_batch(part.empty, len(part))
        return True

    def _mark_batch(self, empty: NDArray[np.bool_] | None, count: int) -> None:
        self._mark("_empty", empty, count)
        self._mark("_missing", None, count)
        self._mark("_whole", None, count)
        self.rows += count

    def finish(self) -> Column:
        """The column so far; later batches do not change it."""
        kind = self.kind or Kind.TEXT
        empty = None if self._empty is None else self._empty.view()
        missing = None if self._missing is None else self._missing.view()
        if self.kind is None and self._is_typed and self.hint in _EMPTY_AS_DECLARED:
            none: NDArray[Any] = np.zeros(self.rows, _DTYPES[self.hint])
            return Column(self.hint, none, np.ones(self.rows, np.bool_), missing)
        if self.kind is None:
            return CodedText(kind, np.zeros(self.rows, np.int32), np.ones(self.rows, np.bool_), missing, words=("",))
        if kind is Kind.TEXT and self._bytes is not None:
            return BufferText(
                kind,
                self._data.view(),
                empty,
                missing,
                buffer=self._bytes.view(extra=8),
                ends=self._ends.view(),
            )
        if kind is Kind.TEXT:
            assert self._codes is not None
            return CodedText(kind, self._data.view(), empty, missing, words=tuple(self._codes.words))
        whole = None if self._whole is None or kind is not Kind.FLOAT else self._whole.view()
        return Column(kind, self._data.view(), empty, missing, scale=self.scale, whole=whole)

    # --- kinds -------------------------------------------------------------------------------------------------

    def _extend_values(self, values: Sequence[object], types: set[type], mask: NDArray[np.bool_] | None) -> None:
        if self.kind is None:
            self._start(self._first_kind(values, types))
        assert self.kind is not None
        try:
            self._append(self.kind, values, types, mask)
        except _Retype as wanted:
            self._become(wanted.args[0])
            self._extend_values(values, types, mask)

    def _first_kind(self, values: Sequence[object], types: set[type]) -> Kind:
        if self.hint in (Kind.TIME, Kind.DATE) and types == {str}:
            first = next(v for v in values if isinstance(v, str))
            self.form = text_format.form_of(first, self.hint)
            if self.form:
                return self.hint
            if text_format.parse([first], f"%Y-%m-%d %H:%M:%S{text_format.ANY}") is not None:
                self.form = f"%Y-%m-%d %H:%M:%S{text_format.ANY}"
                return Kind.TIME  # also in a column that is declared to hold dates
        if self.hint is Kind.UUID and types in ({str}, {uuid.UUID}):
            return self.hint
        if self.hint is Kind.DECIMAL and types == {str}:
            return self.hint
        if self.hint in _STYLED and types == {str}:
            return self.hint
        if self.hint is Kind.BOOL and types == {int}:
            self.form = "0/1"
            return Kind.BOOL
        if types == {int, float}:
            return Kind.FLOAT
        if types == {dt.datetime} and any(getattr(v, "tzinfo", None) is not None for v in values):
            return Kind.ZONED
        return _BY_TYPE.get(next(iter(types)), Kind.OBJECT) if len(types) == 1 else Kind.OBJECT

    def _start(self, kind: Kind) -> None:
        self.kind = kind
        self._data = GrowableArray(_DTYPES[kind])
        if kind is Kind.TEXT:
            self._codes, self._known = Codes(), None
            self._codes[""]  # code 0, so that rows without a value hold a valid code
            self._codes[None] = -1  # type: ignore[index]
        self._pad(self.rows)

    def _pad(self, count: int) -> None:
        """Room for rows without a value."""
        if self.kind is None or not count:
            return
        if self.kind is Kind.TEXT and self._bytes is not None:
            self._append_buffer([""] * count)
        else:
            nothing = np.full(count, None) if self.kind is Kind.OBJECT else np.zeros(count, _DTYPES[self.kind])
            self._data.extend(nothing)

    def _append(self, kind: Kind, values: Sequence[Value], types: set[type], mask: NDArray[np.bool_] | None) -> None:
        if mask is not None and kind is not Kind.OBJECT:
            fill = "" if types == {str} and kind is not Kind.UUID else (0 if self.form == "0/1" else _FILL.get(kind, 0))
            values = [fill if v is None or v is MISSING else v for v in values]
        if kind is Kind.OBJECT:
            array = np.empty(len(values), np.object_)
            if self.hint is Kind.DECIMAL and str in types:
                values = _decimals(values) if types == {str} else [_decimal(v) if type(v) is str else v for v in values]
                types = set(map(type, values)) - {type(None), Missing}
            array[:] = [None if v is MISSING else v for v in values]
            self._held |= types
            self._data.extend(array)
        elif kind is Kind.TEXT:
            self._need(types <= {str})
            self._append_text(values)
        elif kind in (Kind.TIME, Kind.DATE) and self.form:
            self._need(types <= {str}, Kind.OBJECT)
            self._need(_only_gone(values, mask), Kind.TEXT)
            filled = values if mask is None else [v or text_format.FILLERS[self.form] for v in values]
            array_or_none = text_format.parse(filled, self.form)
            stored = self._data.view() if self._empty is None else self._data.view()[~self._empty.view()]
            if array_or_none is None and (wider := text_format.widen(self.form, stored)):
                array_or_none = text_format.parse([v or text_format.FILLERS[wider] for v in values], wider)
                self.form = self.form if array_or_none is None else wider
            self._need(array_or_none is not None, Kind.TEXT)
            assert array_or_none is not None
            if mask is not None:
                array_or_none[mask] = 0
            self._data.extend(array_or_none)
        elif kind is Kind.UUID:
            self._need(types in ({str}, {uuid.UUID}))
            read = uuids.parse(values) if types == {str} else uuids.of(values)
            self._need(read is not None, Kind.TEXT)
            assert read is not None
            self._data.extend(read)
        elif kind in _STYLED and str in types:
            self._append_styled(kind, values, types, mask)
        elif kind is Kind.DECIMAL and self.hint is kind and types == {str}:
            self._need(_only_gone(values, mask))
            filler = text_format.zero_of(next(filter(None, values)))
            found = text_format.parse_decimals(values if mask is None else [v or filler for v in values])
            self._need(found is not None)
            assert found is not None
            self._need(self._takes_scale(found[1]))
            self._data.extend(found[0])
        else:
            self._data.extend(self._plain(kind, values, types))
            if kind is Kind.FLOAT and int in types:
                self._new_whole = np.frombuffer(bytes(map(is_, map(type, values), repeat(int))), np.bool_)
                self._new_whole = self._new_whole if mask is None else self._new_whole & ~mask

    def _append_styled(
        self, kind: Kind, values: Sequence[Value], types: set[type], mask: NDArray[np.bool_] | None
    ) -> None:
        """Times with their zone, times of day and intervals, from texts that can be written back to the letter (zones
        may differ: the moment is the same); what is none of these stays text."""
        self._need(types == {str} and self.hint in _STYLED)  # what is no time at its source stays a text
        self._need(_only_gone(values, mask), Kind.TEXT)
        texts = list(filter(None, values))
        stored = self._data.view()
        is_new = not self.form and not stored.any()
        if is_new or self.form:
            largest = int(np.abs(stored).max(initial=0)) if kind is Kind.SPAN and not is_new else 0
            at_once = text_format.read_styled_at_once(texts, kind, self.form, is_new, largest)
            if at_once is not None:
                found, self.form = at_once
                if mask is not None:
                    found, given = np.zeros(len(values), np.int64), found
                    found[~mask] = given
                self._data.extend(found)
                return
        read = text_format.read_styled(texts, kind)
        if read is not None and texts and not (self.form and text_format.keeps_letters(texts, read, self.form)):
            form = text_format.style_of(texts, read, kind) if is_new else ""
            if form or kind is Kind.ZONED:
                self.form = form
            else:  # the form of before stays: it is needed to write what is stored as text
                read = None
        if read is None and kind is Kind.CLOCK and not self._data.view().any():
            self._need(False, Kind.SPAN)  # a server's TIME may be a span of hours
        self._need(read is not None, Kind.TEXT)
        assert read is not None
        left = iter(read)
        self._data.extend(self._plain(kind, [next(left) if v else _FILL[kind] for v in values], {type(_FILL[kind])}))

    def _plain(self, kind: Kind, values: Sequence[Value], types: set[type]) -> NDArray[np.generic]:
        if kind is Kind.INT:
            self._need(types <= {int}, Kind.FLOAT if types <= {int, float} else Kind.OBJECT)
            try:
                return np.array(values, np.int64)
            except OverflowError as problem:
                raise _Retype(Kind.OBJECT) from problem
        if kind is Kind.FLOAT:
            self._need(types <= {int, float})
            if int in types:
                self._need(all(abs(v) <= EXACT_FLOAT for v in values if type(v) is int))
            return np.array(values, np.float64)
        if kind is Kind.BOOL and self.form:
            self._need(types <= {int}, Kind.OBJECT)
            self._need(set(values) <= {0, 1}, Kind.INT)
            return np.array(values, np.bool_)
        if kind is Kind.BOOL:
            self._need(types <= {bool})
            return np.array(values, np.bool_)
        if kind is Kind.TIME:
            self._need(types <= {dt.datetime} and all(v.tzinfo is None for v in values))
            return _micros(list(map(sub, values, repeat(EPOCH))))
        if kind is Kind.ZONED:
            self._need(types <= {dt.datetime} and all(v.utcoffset() == dt.timedelta() for v in values))
            return _micros(list(map(sub, values, repeat(_FILL[kind]))))
        if kind is Kind.CLOCK:
            self._need(types <= {dt.time} and all(v.tzinfo is None and not v.fold for v in values))
            minutes = np.array([v.hour * 60 + v.minute for v in values], np.int64)
            return minutes * 60_000_000 + np.array([v.second * 1_000_000 + v.microsecond for v in values], np.int64)
        if kind is Kind.SPAN:
            self._need(types <= {dt.timedelta} and all(abs(v.days) < 50_000_000 for v in values))
            return _micros(values)
        if kind is Kind.DATE:
            self._need(types <= {dt.date})
            return np.array([v.toordinal() - EPOCH_DAY for v in values], np.int32)
        return self._of_decimals(values, types)

    def _of_decimals(self, values: Sequence[Value], types: set[type]) -> NDArray[np.generic]:
        self._need(types <= {Decimal})
        given = next((v for v in values if v is not _FILL[Kind.DECIMAL]), None)
        if given is not None:  # many are read by their texts at once, where all are alike
            fill = text_format.zero_of(str(given))
            found = text_format.parse_decimals([fill if v is _FILL[Kind.DECIMAL] else str(v) for v in values])
            if found is not None:
                self._need(self._keeps_scale(found[1]))
                return found[0]
        self._need(all(v.is_finite() and not (v.is_zero() and v.is_signed()) for v in values))
        scales = {-int(v.as_tuple().exponent) for v in values if v}
        scales = scales or {-int(v.as_tuple().exponent) for v in values if v is not _FILL[Kind.DECIMAL]}
        scale = next(iter(scales)) if scales else self.scale
        keeps = self._keeps_scale(scale)
        self._need(len(scales) <= 1 and keeps)
        scaled = [int(v.scaleb(scale)) for v in values]
        self._need(min(scaled) > -(10**18) and max(scaled) < 10**18)
        return np.array(scaled, np.int64)

    def _keeps_scale(self, scale: int) -> bool:
        """Whether decimals have as many digits after the point as those before, which are part of their value."""
        if not self.scale and not self._data.view().any():
            self.scale = scale
        return scale == self.scale

    @staticmethod
    def _need(holds: bool, otherwise: Kind = Kind.OBJECT) -> None:
        if not holds:
            raise _Retype(otherwise)

    def _become(self, kind: Kind) -> None:
        """Turn what is stored into `kind`: exact, as every present value fits it or it is OBJECT."""
        old = self.finish()
        stored = old.values()
        if self.form and kind is not Kind.BOOL:
            stored = text_format.render_all(stored, self.form)
        elif old.kind is Kind.ZONED and kind is Kind.TEXT:
            stored = [v if v is None or v is MISSING else v.isoformat(" ") for v in stored]
        if kind is Kind.FLOAT and any(abs(v) > EXACT_FLOAT for v in stored if type(v) is int):
            kind = Kind.OBJECT
        self.form, self._codes, self._bytes = "", None, None
        rows, self.rows = self.rows, 0
        self._start(kind)
        mask = old.empty_at() if old.empty is not None else None
        types = set(map(type, stored)) - {type(None), Missing}
        self._whole = self._new_whole = None
        if types:
            self._append(kind, stored, types, mask)
        else:
            self._pad(rows)
        if self._new_whole is not None:
            self._whole = GrowableArray(np.bool_)
            self._whole.extend(self._new_whole)
        self._new_whole = None
        self.rows = rows

    # --- text --------------------------------------------------------------------------------------------------

    def _append_text(self, values: Sequence[str]) -> None:
        if self._codes is not None:
            self._data.extend(np.fromiter(map(self._codes.__getitem__, values), np.int32, len(values)))
            if len(self._codes) > MANY_WORDS:
                self._leave_codes()
            return
        self._append_buffer(values)

    def _leave_codes(self) -> None:
        """Go over to one buffer: there are too many different texts."""
        assert self._codes is not None
        codes, words = self._data.view().tolist(), self._codes.words
        self._codes, self._known, self._bytes = None, None, GrowableArray(np.uint8, spare=8)
        self._data, self._ends = GrowableArray(np.int64), GrowableArray(np.int64)
        for start in range(0, len(codes), 65536):
            self._append_buffer([words[code] for code in codes[start : start + 65536]])

    def _append_buffer(self, values: Sequence[str]) -> None:
        joined = "\0".join(values).encode(*TEXT_BYTES) + b"\0"
        added = np.frombuffer(joined, np.uint8)
        ends = np.flatnonzero(added == 0)
        if len(ends) != len(values):  # a text holds a zero character of its own
            lengths = np.fromiter((len(v.encode(*TEXT_BYTES)) + 1 for v in values), np.int64, len(values))
            ends = np.cumsum(lengths) - 1
        self._append_joined(added, ends)

    def _append_joined(self, added: NDArray[np.uint8], ends: NDArray[np.int64]) -> None:
        """Add texts that stand one after the other, the zero byte behind each at `ends`."""
        assert self._bytes is not None
        start = self._bytes.size
        ends = ends + start
        self._bytes.extend(added)
        self._data.extend(np.concatenate([np.array([start], np.int64), ends[:-1] + 1]))
        self._ends.extend(ends)

    def _mark(self, name: str, mask: NDArray[np.bool_] | None, count: int) -> None:
        grown: GrowableArray | None = getattr(self, name)
        if grown is None:
            if mask is None:
                return
            grown = GrowableArray(np.bool_)
            grown.extend(np.zeros(self.rows, np.bool_))
            setattr(self, name, grown)
        grown.extend(np.zeros(count, np.bool_) if mask is None else mask)


def _decimals(values: Sequence[Value]) -> list[Value]:
    """Texts as decimals, where they say such; None and MISSING as they are."""
    if text_format.are_decimals(values):
        with suppress(ArithmeticError):  # "1-2" is made of the same signs
            return [v if v is None or v is MISSING else Decimal(v) for v in values]
    return [_decimal(v) if type(v) is str else v for v in values]


def _decimal(text: str) -> Decimal | str:
    """What a text says as a decimal; the text where it says something else."""
    try:
        return Decimal(text) if text.strip() == text and "_" not in text else text
    except ArithmeticError:
        return text


def _only_gone(values: Sequence[object], mask: NDArray[np.bool_] | None) -> bool:
    """Whether the only empty texts among the values are those that stand for no value."""
    return values.count("") == (0 if mask is None else int(np.count_nonzero(mask)))


def _where(values: Sequence[object], mark: object) -> NDArray[np.bool_]:
    """Where `values` hold `mark` itself; several times faster than a list of booleans made an array."""
    return np.frombuffer(bytes(map(is_, values, repeat(mark))), np.bool_)
