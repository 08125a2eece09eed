"""Expressions worked out for all rows at once: numbers, times, and choices among columns, wherever that gives exactly
what single values would give."""

from __future__ import annotations

import datetime as dt
import operator
from collections.abc import Callable, Sequence
from dataclasses import replace
from decimal import Decimal
from typing import Any

import numpy as np
from numpy.typing import NDArray

from nimble_otter.table.core.build import column_of
from nimble_otter.table.core.columns import BufferText, Column, Ids, Kind, Mask, Table, blanked
from nimble_otter.table.kernels.numeric import EXACT_FLOAT, as_floats, largest
from nimble_otter.table.ops import datetime_ops
from nimble_otter.table.ops.combine import chained
from nimble_otter.table.ops.conditions import Call, Case, ColumnAt, Literal, Node, Operand
from nimble_otter.table.ops.functions import rounded
from nimble_otter.values import Value

EXACT = 1 << 62
"""Whole numbers whose result stays below this are worked out as int64; others value by value."""
COMPARE: dict[str, Callable[[Any, Any], Any]] = {
    "=": operator.eq, "<>": operator.ne, "<": operator.lt, "<=": operator.le, ">": operator.gt, ">=": operator.ge,
}  # fmt: skip


Truth = Callable[[Node, Table, Ids], NDArray[np.bool_]]
"""Where a condition is true, for the rows of a table with these numbers: what CASE needs of conditions."""


def array_of(operand: Operand, table: Table, ids: Ids, truth: Truth) -> Column | None:
    """The values for the rows as a column of them alone; None where that is not possible, or not exact."""
    if isinstance(operand, ColumnAt):
        column = table.columns[operand.index]
        fits = column.kind not in (Kind.TEXT, Kind.UUID, Kind.OBJECT)
        return column.take(ids) if fits and not operand.path and column.missing is None else None
    if isinstance(operand, Case):
        return _case(operand, table, ids, truth)
    if isinstance(operand, Literal):
        value = operand.value
        if isinstance(value, bool):
            return Column(Kind.BOOL, np.full(len(ids), value))
        if type(value) is int and abs(value) < EXACT:
            return Column(Kind.INT, np.full(len(ids), value, np.int64))
        if isinstance(value, Decimal) and value.is_finite() and (scale := -int(value.as_tuple().exponent)) in range(13):
            whole = int(value.scaleb(scale))
            return Column(Kind.DECIMAL, np.full(len(ids), whole), scale=scale) if abs(whole) < EXACT else None
        if isinstance(value, (dt.date, dt.time, dt.timedelta)):
            one = column_of([value])
            return None if one.kind is Kind.OBJECT else one.take(np.zeros(len(ids), np.int64))
        return Column(Kind.FLOAT, np.full(len(ids), value)) if isinstance(value, float) else None
    return _called(operand, table, ids, truth) if isinstance(operand, Call) else None


def _called(operand: Call, table: Table, ids: Ids, truth: Truth) -> Column | None:
    if operand.name == "coalesce":
        return _coalesced(operand.args, table, ids, truth)
    if operand.name in ("extract", "date_trunc", "moved"):
        return _of_moments(operand, table, ids, truth)
    if operand.name in _LETTERS:
        return _of_text(operand, table, ids)
    made = _ARRAYS.get(operand.name)
    if made is None:
        return None
    parts = [array_of(arg, table, ids, truth) for arg in operand.args]
    known = [p for p in parts if p is not None]
    return made(*known) if len(known) == len(parts) else None


def compared(op: str, left: Column, right: Column) -> Mask | None:
    """Where the comparison holds, whatever rows have no value; None where it takes a closer look at each. A decimal is
    compared with doubles as the nearest one, as SQL servers do."""
    test = COMPARE[op]
    if not (left.kind.is_number and right.kind.is_number):
        is_plain = left.kind is right.kind and left.kind not in (Kind.TEXT, Kind.UUID, Kind.OBJECT)
        return np.asarray(test(left.data, right.data)) if is_plain else None
    if Kind.FLOAT in (left.kind, right.kind):
        if any(c.kind is Kind.INT and _most(c) > EXACT_FLOAT for c in (left, right)):
            return None
        return compare_doubles(op, as_floats(left), as_floats(right))
    pair = _in_one_scale(left, right)
    return None if pair is None else np.asarray(test(*pair))


def compare_doubles(op: str, left: Value, right: Value) -> Mask:
    """Doubles as PostgreSQL puts them in order: NaN is itself, and more than any other."""
    if op in (">", "<"):
        left, right = (left, right) if op == ">" else (right, left)
        return np.asarray(~(left <= right) & (right == right))
    if op in (">=", "<="):
        left, right = (left, right) if op == ">=" else (right, left)
        return np.asarray(~(left < right) & ((right == right) | (left != left)))
    same = (left == right) | ((left != left) & (right != right))
    return np.asarray(same if op == "=" else ~same)


def _of_moments(operand: Call, table: Table, ids: Ids, truth: Truth) -> Column | None:
    inner = next((a for a in operand.args if not isinstance(a, Literal)), None)
    column = array_of(inner, table, ids, truth) if inner is not None else None
    lines = [a.value for a in operand.args if isinstance(a, Literal)]
    if column is None:
        return None
    if operand.name == "moved":
        return datetime_ops.moved(column, lines[0]) if len(lines) == 1 and type(lines[0]) is int else None
    if len(lines) != 1 or not isinstance(lines[0], str):
        return None
    return (datetime_ops.part_of if operand.name == "extract" else datetime_ops.cut)(column, lines[0])


def _of_text(operand: Call, table: Table, ids: Ids) -> Column | None:
    """The lengths of many texts, or those with other letters, where all are of ASCII."""
    at = operand.args[0]
    column = table.columns[at.index] if isinstance(at, ColumnAt) and not at.path and len(operand.args) == 1 else None
    if not isinstance(column, BufferText) or column.missing is not None or column.buffer.size > _SPARSE * len(ids):
        return None
    if column.buffer.max(initial=0) > 127:
        return None
    if operand.name == "length":
        return Column(Kind.INT, column.ends - column.data, column.empty).take(ids)
    first, last, step = _LETTERS[operand.name]
    is_letter = (column.buffer >= first) & (column.buffer <= last)
    buffer = np.where(is_letter, column.buffer ^ np.uint8(step), column.buffer)
    return replace(column, buffer=buffer).take(ids)


def _case(operand: Case, table: Table, ids: Ids, truth: Truth) -> Column | None:
    parts = _parts([*(value for _, value in operand.branches), operand.default], table, ids, truth)
    if parts is None:
        return None
    which = np.full(len(ids), len(parts) - 1)
    left = np.ones(len(ids), np.bool_)
    for at, (test, _) in enumerate(operand.branches):
        true = truth(test, table, ids) & left
        which[true] = at
        left &= ~true
    return _chosen(parts, which)


def _coalesced(operands: Sequence[Operand], table: Table, ids: Ids, truth: Truth) -> Column | None:
    parts = _parts(operands, table, ids, truth)
    if parts is None:
        return None
    which = np.full(len(ids), len(parts) - 1)
    for at in range(len(parts) - 1, -1, -1):
        which = np.where(np.broadcast_to(parts[at].empty_at(), len(ids)), which, at)
    return _chosen(parts, which)


def _parts(operands: Sequence[Operand], table: Table, ids: Ids, truth: Truth) -> list[Column] | None:
    """Columns of one kind for the rows, a literal as one row; None where they are of several."""
    parts = []
    for operand in operands:
        made: Column | None
        if isinstance(operand, Literal) and (operand.value is None or isinstance(operand.value, str)):
            made = column_of([operand.value])
        elif isinstance(operand, Literal):
            made = array_of(operand, table, ids[:1], truth)
        elif isinstance(operand, ColumnAt) and not operand.path:
            column = table.columns[operand.index]
            made = column.take(ids) if column.kind is not Kind.OBJECT and column.missing is None else None
        else:
            made = array_of(operand, table, ids, truth)
        if made is None:
            return None
        parts.append(made)
    filled = [part for part in parts if not part.empty_at().all()]
    kinds = {(part.kind, part.scale) for part in filled}
    if kinds == {(Kind.INT, 0), (Kind.FLOAT, 0)} and all(_most(p) <= EXACT_FLOAT for p in filled if p.kind is Kind.INT):
        parts = [replace(p, kind=Kind.FLOAT, data=as_floats(p)) if p.kind is Kind.INT else p for p in parts]
    elif len(kinds) > 1:
        return None
    return parts


def _chosen(parts: Sequence[Column], which: Ids) -> Column:
    """For each row the value of one of the columns; one of a single row has it for all."""
    lengths = np.array([len(part) for part in parts])
    starts = np.cumsum(lengths) - lengths
    rows = np.where(lengths.take(which) == 1, 0, np.arange(len(which)))
    column = chained(parts).take(starts.take(which) + rows)
    if column.empty is not None and not column.empty.any():
        column = replace(column, empty=None)
    return column


def _either(*columns: Column) -> Mask | None:
    masks = [c.empty for c in columns if c.empty is not None]
    if not masks:
        return None
    either: Mask = np.logical_or.reduce(masks)
    return either


def _most(column: Column) -> int:
    return largest(column.data)


def _in_one_scale(left: Column, right: Column) -> tuple[Ids, Ids] | None:
    """Whole numbers and decimals with as many digits behind the point; None where that takes more than 64 bits."""
    scale = max(left.scale, right.scale)
    ups = [10 ** (scale - column.scale) for column in (left, right)]
    if any(_most(column) * up >= EXACT for column, up in zip((left, right), ups, strict=True)):
        return None
    return left.data.astype(np.int64) * ups[0], right.data.astype(np.int64) * ups[1]


def _added(sign: int) -> Callable[..., Column | None]:
    def add(left: Column, right: Column) -> Column | None:
        empty = _either(left, right)
        if not (left.kind.is_number and right.kind.is_number):
            return datetime_ops.added(left, right, sign, empty)
        if Kind.FLOAT in (left.kind, right.kind):
            return _doubles(np.add if sign > 0 else np.subtract, left, right)
        pair = _in_one_scale(left, right)
        kind = Kind.DECIMAL if Kind.DECIMAL in (left.kind, right.kind) else Kind.INT
        scale = max(left.scale, right.scale)
        return None if pair is None else Column(kind, pair[0] + sign * pair[1], empty, scale=scale)

    return add


def _doubles(by: Callable[..., Value], left: Column, right: Column) -> Column:
    """Doubles worked out with each other; none where that goes beyond what they hold."""
    a, b = as_floats(left), as_floats(right)
    with np.errstate(all="ignore"):
        made = by(a, b)
    over = np.isinf(made)
    if over.any():
        over &= np.isfinite(a) & np.isfinite(b)
    return _without(Column(Kind.FLOAT, made, _either(left, right)), over)


def _multiplied(left: Column, right: Column) -> Column | None:
    empty = _either(left, right)
    if not (left.kind.is_number and right.kind.is_number):
        return datetime_ops.times(left, right, empty)
    if Kind.FLOAT in (left.kind, right.kind):
        return _doubles(np.multiply, left, right)
    if _most(left) * _most(right) >= EXACT or left.scale + right.scale > 15:
        return None
    kind = Kind.DECIMAL if Kind.DECIMAL in (left.kind, right.kind) else Kind.INT
    return Column(kind, left.data.astype(np.int64) * right.data.astype(np.int64), empty, scale=left.scale + right.scale)


def _divided(left: Column, right: Column) -> Column | None:
    """Whole numbers cut towards zero, doubles as they are; decimals are divided one by one."""
    kinds = {left.kind, right.kind}
    if kinds == {Kind.INT}:
        return _by_whole(left, right, lambda whole, _: whole)
    if Kind.FLOAT not in kinds or not (left.kind.is_number and right.kind.is_number):
        return None
    by = as_floats(right)
    zero = by == 0
    safe = Column(Kind.FLOAT, np.where(zero, 1.0, by), right.empty)
    return _without(_doubles(np.divide, left, safe), zero)


def _by_whole(left: Column, right: Column, give: Callable[[Ids, Ids], Ids]) -> Column | None:
    """Of whole numbers what is made of their quotient, cut towards zero, and the divisor."""
    if _most(left) >= EXACT or _most(right) >= EXACT:
        return None
    zero = right.data == 0
    by = np.where(zero, 1, right.data)
    whole = np.abs(left.data) // np.abs(by)
    made = give(np.where((left.data < 0) == (by < 0), whole, -whole), by)
    return _without(Column(Kind.INT, made, _either(left, right)), zero)


def _negated(column: Column) -> Column | None:
    fits = (column.kind.is_number or column.kind is Kind.SPAN) and (column.kind is Kind.FLOAT or _most(column) < EXACT)
    return replace(column, data=-column.data) if fits else None


def _absolute(column: Column) -> Column | None:
    fits = column.kind.is_number and (column.kind is Kind.FLOAT or _most(column) < EXACT)
    return replace(column, data=np.abs(column.data)) if fits else None


def _rounded(column: Column, digits: Column | None = None) -> Column | None:
    """Halves away from zero, to so many digits as the literal says; of doubles by their shortest decimal form."""
    count = int(digits.data[0]) if digits is not None and len(digits) else 0
    is_one = digits is None or (digits.kind is Kind.INT and bool((digits.data == count).all()) and digits.empty is None)
    if not is_one or not 0 <= count <= 12 or column.kind not in (Kind.FLOAT, Kind.DECIMAL):
        return None
    if column.kind is Kind.FLOAT and digits is None:
        return replace(column, data=np.rint(column.data))
    if column.kind is Kind.DECIMAL:
        if _most(column) * 10 ** max(0, count - column.scale) >= EXACT:
            return None
        step = 10 ** max(0, column.scale - count)
        half = (np.abs(column.data) + step // 2) // step
        whole = np.sign(column.data) * half * 10 ** max(0, count - column.scale)
        return Column(Kind.DECIMAL, whole, column.empty, scale=count)
    shifted = np.abs(column.data) * 10.0**count
    made = np.copysign(np.floor(shifted + 0.5) / 10.0**count, column.data)
    with np.errstate(invalid="ignore"):
        unsure = (np.abs(shifted - np.floor(shifted) - 0.5) < 1e-4) | ~(shifted < 1e9)
    for index in np.flatnonzero(unsure).tolist():
        made[index] = rounded(float(column.data[index]), count)
    return Column(Kind.FLOAT, made, column.empty)


def _without(column: Column, gone: Mask) -> Column:
    """The column without the values where there are none by the rules of arithmetic."""
    if not gone.any():
        return column
    empty = gone if column.empty is None else column.empty | gone
    return replace(column, data=blanked(column.data, empty), empty=empty)


def _remainder(left: Column, right: Column) -> Column | None:
    """With the sign of the dividend."""
    kinds = {left.kind, right.kind}
    if kinds == {Kind.INT}:
        return _by_whole(left, right, lambda whole, by: left.data.astype(np.int64) - whole * by)
    if kinds == {Kind.FLOAT}:
        with np.errstate(invalid="ignore"):
            column = Column(Kind.FLOAT, np.fmod(left.data, right.data), _either(left, right))
        return _without(column, (right.data == 0) | np.isinf(left.data))
    return None


def _whole(by: Callable[[Value], Value]) -> Callable[..., Column | None]:
    """Doubles as whole numbers (`by` says which); the others one by one."""

    def whole(column: Column, digits: Column | None = None) -> Column | None:
        if column.kind is Kind.INT and digits is None:
            return column
        if column.kind is not Kind.FLOAT or digits is not None:
            return None
        found = by(column.data)
        return Column(Kind.INT, found.astype(np.int64), column.empty) if (np.abs(found) < EXACT_FLOAT).all() else None

    return whole


def _root(column: Column) -> Column | None:
    if column.kind not in (Kind.INT, Kind.FLOAT):
        return None
    data = as_floats(column)
    below = data < 0
    return _without(Column(Kind.FLOAT, np.sqrt(np.where(below, 0.0, data)), column.empty), below)


def _nullif(left: Column, right: Column) -> Column | None:
    same = compared("=", left, right)
    return None if same is None else _without(left, same & ~left.empty_at() & ~right.empty_at())


_SPARSE = 256
"""Bytes of text a row from which on the few rows that are asked for are looked at one by one."""
_LETTERS = {"length": (0, 0, 0), "upper": (ord("a"), ord("z"), 32), "lower": (ord("A"), ord("Z"), 32)}
_ARRAYS: dict[str, Callable[..., Column | None]] = {
    "+": _added(1), "-": _added(-1), "*": _multiplied, "/": _divided, "neg": _negated, "abs": _absolute,
    "round": _rounded, "%": _remainder, "sqrt": _root, "nullif": _nullif,
    "floor": _whole(np.floor), "ceil": _whole(np.ceil), "trunc": _whole(np.trunc),
    "days": lambda a, b: datetime_ops.days_between(a, b, _either(a, b)),
}  # fmt: skip
