"""Working out an expression for all rows: numbers and times as arrays where that is exact, everything else by value."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from decimal import Decimal

import numpy as np
from numpy.typing import NDArray

from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table.build import ColumnBuilder
from nimble_otter.table.columns import CodedText, Column, Ids, Kind, Mask, Table, pick, placed
from nimble_otter.table.conditions import Call, ColumnAt, Literal, Node, Operand
from nimble_otter.table.filter import BLOCK, values_of
from nimble_otter.table.functions import rounded
from nimble_otter.table.windows import without_windows

_EXACT = 1 << 62
"""Whole numbers whose result stays below this are worked out as int64; others value by value."""


def compute(operand: Operand, table: Table, ids: Ids, stop: StopToken = NEVER) -> Column:
    """A column with one value for each row of the table: worked out for the rows `ids`, none for all others. Where an
    argument is none, or there is no such value (1 / 0), the result is none. Raises: Stopped."""
    stop.check()
    operand, table = without_windows(operand, table, ids, compute, stop)
    made = _by_words(operand, table, ids)
    if made is not None:
        return made
    made = _array(operand, table, ids) if len(ids) else None
    if made is not None:
        return placed(made, table.rows, ids)
    builder = ColumnBuilder()
    for start in range(0, len(ids), BLOCK):
        stop.check()
        stop.tell(start, len(ids))
        builder.extend(values_of(operand, table, ids[start : start + BLOCK]))
    column = builder.finish()
    if len(ids) == table.rows and (ids[:-1] < ids[1:]).all():
        return column
    return _spread(column, table.rows, ids)


def _by_words(operand: Operand, table: Table, ids: Ids) -> Column | None:
    """An expression of one column of few texts, worked out for each text once."""
    places = _columns_in(operand)
    column = table.columns[next(iter(places))] if len(places) == 1 else None
    if not isinstance(column, CodedText) or column.missing is not None or len(column.words) * 4 > len(ids):
        return None
    if column.empty_at(ids).all():  # a column without a value has no kind of its own
        return None
    count = len(column.words)
    codes, empty = np.arange(count + 1), np.zeros(count + 1, np.bool_)
    codes[count], empty[count] = 0, True  # the last one stands for no text
    short = CodedText(Kind.TEXT, codes.astype(np.int32), empty, words=column.words or ("",))
    columns = tuple(short if at in places else c for at, c in enumerate(table.columns))
    builder = ColumnBuilder()
    builder.extend(values_of(operand, Table(table.fields, columns, count + 1), np.arange(count + 1)))
    by_word = builder.finish()
    wanted = np.full(table.rows, -1, np.int64)
    wanted[ids] = np.where(column.empty_at(ids), count, pick(column.data, ids))
    outside = wanted < 0
    made = by_word.take(np.where(outside, count, wanted))
    if not outside.any():
        return made
    gone = made.empty_at() | outside
    return None if made.kind is Kind.OBJECT else replace(made, empty=gone)


def _columns_in(operand: Operand | Node) -> set[int]:
    """The places of the columns that an expression names."""
    if isinstance(operand, ColumnAt):
        return {operand.index} if not operand.path else {operand.index, -1}
    found: set[int] = set()
    for name in getattr(operand, "__slots__", ()):
        value = getattr(operand, name)
        for part in value if isinstance(value, tuple) else (value,):
            for inner in part if isinstance(part, tuple) else (part,):
                if hasattr(inner, "__slots__") and type(inner).__module__ == ColumnAt.__module__:
                    found |= _columns_in(inner)
    return found


def _spread(column: Column, rows: int, ids: Ids) -> Column:
    """A column made for some rows as one for all of them: the others have no value."""
    place = np.zeros(rows, np.int64)
    place[ids] = np.arange(len(ids))
    if not len(ids):
        builder = ColumnBuilder()
        builder.extend([None] * rows)
        return builder.finish()
    spread = column.take(place)
    outside = np.ones(rows, np.bool_)
    outside[ids] = False
    empty = spread.empty_at() | outside
    data = spread.data
    if column.kind is Kind.OBJECT:
        data = data.copy()
        data[empty] = None
    return replace(spread, data=data, empty=empty if empty.any() else None)


# --- arrays ----------------------------------------------------------------------------------------------------------


def _array(operand: Operand, table: Table, ids: Ids) -> Column | None:
    """The values for the rows as a column of them alone; None where that is not possible, or not exact."""
    if isinstance(operand, ColumnAt):
        column = table.columns[operand.index]
        fits = column.kind.is_number or column.kind in (Kind.TIME, Kind.DATE)
        return column.take(ids) if fits and not operand.path and column.missing is None else None
    if isinstance(operand, Literal):
        value = operand.value
        if type(value) is int and abs(value) < _EXACT:
            return Column(Kind.INT, np.full(len(ids), value, np.int64))
        if isinstance(value, Decimal) and value.is_finite() and (scale := -int(value.as_tuple().exponent)) in range(13):
            whole = int(value.scaleb(scale))
            return Column(Kind.DECIMAL, np.full(len(ids), whole), scale=scale) if abs(whole) < _EXACT else None
        return Column(Kind.FLOAT, np.full(len(ids), value)) if isinstance(value, float) else None
    if not isinstance(operand, Call):
        return None
    made = _ARRAYS.get(operand.name)
    if made is None:
        return None
    parts = [_array(arg, table, ids) for arg in operand.args]
    known = [p for p in parts if p is not None]
    return made(*known) if len(known) == len(parts) else None


def _either(*columns: Column) -> Mask | None:
    masks = [c.empty for c in columns if c.empty is not None]
    if not masks:
        return None
    either: Mask = np.logical_or.reduce(masks)
    return either


def _floats(column: Column) -> NDArray[np.float64]:
    data = column.data.astype(np.float64)
    return data / 10.0**column.scale if column.kind is Kind.DECIMAL and column.scale else data


def _most(column: Column) -> int:
    return max(abs(int(column.data.min())), abs(int(column.data.max()))) if len(column) else 0


def _added(sign: int) -> Callable[..., Column | None]:
    def add(left: Column, right: Column) -> Column | None:
        if not (left.kind.is_number and right.kind.is_number):
            return None
        empty = _either(left, right)
        if Kind.FLOAT in (left.kind, right.kind):
            return Column(Kind.FLOAT, _floats(left) + sign * _floats(right), empty)
        scale = max(left.scale, right.scale)
        if any(_most(c) * 10 ** (scale - c.scale) >= _EXACT for c in (left, right)):
            return None
        a, b = (c.data.astype(np.int64) * 10 ** (scale - c.scale) for c in (left, right))
        kind = Kind.DECIMAL if Kind.DECIMAL in (left.kind, right.kind) else Kind.INT
        return Column(kind, a + sign * b, empty, scale=scale)

    return add


def _multiplied(left: Column, right: Column) -> Column | None:
    if not (left.kind.is_number and right.kind.is_number):
        return None
    empty = _either(left, right)
    if Kind.FLOAT in (left.kind, right.kind):
        return Column(Kind.FLOAT, _floats(left) * _floats(right), empty)
    if _most(left) * _most(right) >= _EXACT or left.scale + right.scale > 15:
        return None
    kind = Kind.DECIMAL if Kind.DECIMAL in (left.kind, right.kind) else Kind.INT
    return Column(kind, left.data.astype(np.int64) * right.data.astype(np.int64), empty, scale=left.scale + right.scale)


def _divided(left: Column, right: Column) -> Column | None:
    if Kind.FLOAT not in (left.kind, right.kind) or not (left.kind.is_number and right.kind.is_number):
        return None  # whole numbers and decimals are divided as decimals
    by = _floats(right)
    zero = by == 0
    empty = _either(left, right)
    with np.errstate(all="ignore"):
        made = np.where(zero, 0.0, _floats(left) / np.where(zero, 1.0, by))
    return Column(Kind.FLOAT, made, (zero if empty is None else empty | zero) if zero.any() else empty)


def _negated(column: Column) -> Column | None:
    return Column(column.kind, -column.data, column.empty, scale=column.scale) if column.kind.is_number else None


def _absolute(column: Column) -> Column | None:
    return Column(column.kind, np.abs(column.data), column.empty, scale=column.scale) if column.kind.is_number else None


def _rounded(column: Column, digits: Column | None = None) -> Column | None:
    """Halves away from zero, to so many digits as the literal says; of doubles by their shortest decimal form."""
    count = int(digits.data[0]) if digits is not None and len(digits) else 0
    is_one = digits is None or (digits.kind is Kind.INT and bool((digits.data == count).all()) and digits.empty is None)
    if not is_one or not 0 <= count <= 12 or column.kind not in (Kind.FLOAT, Kind.DECIMAL):
        return None
    if column.kind is Kind.DECIMAL:
        step = 10 ** max(0, column.scale - count)
        half = (np.abs(column.data) + step // 2) // step
        whole = np.sign(column.data) * half * 10 ** max(0, count - column.scale)
        return Column(Kind.DECIMAL, whole, column.empty, scale=count)
    shifted = np.abs(column.data) * 10.0**count
    made = np.copysign(np.floor(shifted + 0.5) / 10.0**count, column.data)
    unsure = (np.abs(shifted - np.floor(shifted) - 0.5) < 1e-4) | ~(shifted < 1e9)
    for place in np.flatnonzero(unsure).tolist():
        made[place] = rounded(float(column.data[place]), count)
    return Column(Kind.FLOAT, made, column.empty)


def _calendar(unit: str) -> Callable[[Column], Column | None]:
    def part(column: Column) -> Column | None:
        if column.kind not in (Kind.TIME, Kind.DATE):
            return None
        days = column.data.view("M8[us]") if column.kind is Kind.TIME else column.data.astype("M8[D]")
        months = days.astype("M8[M]")
        if unit == "year":
            made = days.astype("M8[Y]").astype(np.int64) + 1970
        elif unit == "month":
            made = months.astype(np.int64) % 12 + 1
        else:
            made = (days.astype("M8[D]") - months.astype("M8[D]")).astype(np.int64) + 1
        return Column(Kind.INT, made, column.empty)

    return part


_ARRAYS: dict[str, Callable[..., Column | None]] = {
    "+": _added(1), "-": _added(-1), "*": _multiplied, "/": _divided, "neg": _negated, "abs": _absolute,
    "round": _rounded,
    "year": _calendar("year"), "month": _calendar("month"), "day": _calendar("day"),
}  # fmt: skip
