"""Columns of mixed numbers, whole ones beyond 64 bits and decimals of different digits, added up and ordered exactly.

A server's NUMERIC without a scale gives such columns. Each value stays as it came; for figures they are brought to one
kind where that is exact.
"""

from __future__ import annotations

from decimal import Context, Decimal
from typing import Any

import numpy as np
from numpy.typing import NDArray

from nimble_otter.table.core.columns import Column, Ids, Kind, pick
from nimble_otter.values import Value

_NUMBERS = frozenset({int, float, Decimal})
EXACT_FLOAT = 1 << 53
"""Up to this size each whole number is a double."""
_MOST = 10**18
_WIDE = Context(prec=2000)


def are_numbers(types: set[type]) -> bool:
    """Whether values of these types, apart from None, are all numbers."""
    return bool(types - {type(None)}) and types <= _NUMBERS | {type(None)}


def holds_numbers(column: Column) -> bool:
    """Whether each value of a column of mixed values is a number."""
    return column.kind is Kind.OBJECT and are_numbers(set(map(type, column.data.tolist())))


def as_amounts(column: Column, ids: Ids | None = None) -> Column:
    """The rows `ids` (None: all) of a column of mixed numbers as one kind, where each is held exactly; else the rows as
    they are."""
    taken = column if ids is None else column.take(ids)
    values = taken.data.tolist() if column.kind is Kind.OBJECT else []
    types = set(map(type, values)) - {type(None)}
    if not types or not types <= _NUMBERS or types == _NUMBERS or types == {float, Decimal}:
        return taken
    if float in types:
        if any(type(v) is int and abs(v) > EXACT_FLOAT for v in values):
            return taken
        return Column(Kind.FLOAT, np.array([0.0 if v is None else v for v in values], np.float64), taken.empty)
    digits = {-int(v.as_tuple().exponent) for v in values if type(v) is Decimal and v.is_finite()}
    if any(type(v) is Decimal and not v.is_finite() for v in values) or max(digits, default=0) > 18:
        return taken
    scale = max(0, *digits, 0)
    scaled = [0 if v is None else int(v.scaleb(scale, _WIDE)) if type(v) is Decimal else v * 10**scale for v in values]
    if min(scaled) <= -_MOST or max(scaled) >= _MOST:
        return taken
    kind = Kind.DECIMAL if scale or Decimal in types else Kind.INT
    return Column(kind, np.array(scaled, np.int64), taken.empty, scale=scale)


def exact_numbers(column: Column) -> tuple[NDArray[np.generic], int] | None:
    """Whole numbers and decimals as whole numbers of one scale (Python's own where 64 bits are too few), 0 where there
    is none, and that scale; None for doubles and what has no end."""
    if column.kind in (Kind.INT, Kind.DECIMAL):
        return column.data.astype(np.int64), column.scale
    values = column.data.tolist() if column.kind is Kind.OBJECT else [0.0]
    if any(type(v) is float or (type(v) is Decimal and not v.is_finite()) for v in values):
        return None
    scale = max(0, *(-int(v.as_tuple().exponent) for v in values if type(v) is Decimal), 0)
    scaled = [0 if v is None else int(Decimal(v).scaleb(scale, _WIDE)) for v in values]
    return np.array(scaled, object), scale


def as_floats(column: Column, ids: Ids | None = None) -> NDArray[np.float64]:
    """Numbers of the rows `ids` (None: all) as float64 (decimals rounded once)."""
    held = column.data if ids is None else pick(column.data, ids)
    if column.kind is Kind.OBJECT:
        return floats(held)
    data = held.astype(np.float64)
    return data / 10.0**column.scale if column.kind is Kind.DECIMAL else data


def middles(column: Column, one: Ids, other: Ids) -> NDArray[np.float64]:
    """Halfway between the numbers of two rows each, as float64; of whole numbers and decimals rounded once."""
    if column.kind in (Kind.INT, Kind.DECIMAL) and column.data.dtype.kind == "i":
        a, b = (pick(column.data, ids).astype(np.int64) for ids in (one, other))
        made = ((a >> 1) + (b >> 1)).astype(np.float64) + ((a & 1) + (b & 1)) / 2  # their sum may not fit
        return made / 10.0**column.scale if column.kind is Kind.DECIMAL else made
    low, high = as_floats(column, one), as_floats(column, other)
    with np.errstate(invalid="ignore"):
        return np.where(low == high, low, low / 2 + high / 2)


def largest(data: NDArray[np.generic]) -> int:
    """The largest size of whole numbers, whatever their sign; 0 where there are none."""
    return max(abs(int(data.min())), abs(int(data.max()))) if len(data) else 0


def floats(data: NDArray[np.generic]) -> NDArray[np.float64]:
    """Mixed numbers as doubles, 0 where there is none."""
    return np.array([0.0 if v is None else float(v) for v in data.tolist()], np.float64)


def exact_sums(values: list[Value], codes: list[int], groups: int) -> list[Value]:
    """The sum of the numbers of each group.

    Parameters
    ----------
    values : list of int, float or Decimal
    codes : list of int
        The group of each value, 0 to `groups`.
    groups : int

    Returns
    -------
    list
        Exact for whole numbers and decimals, a double where there are doubles; 0 for a group without numbers.

    Examples
    --------
    >>> exact_sums([2**62, 2**62, 5], [0, 0, 1], 3)
    [9223372036854775808, 5, 0]
    """
    exact: list[Any] = [0] * groups
    rough: list[float | None] = [None] * groups
    for value, code in zip(values, codes, strict=True):
        if type(value) is float:
            rough[code] = (rough[code] or 0.0) + value
        elif type(value) is Decimal or type(exact[code]) is Decimal:
            if value is not None:
                exact[code] = _WIDE.add(Decimal(exact[code]), Decimal(value))
        elif value is not None:
            exact[code] += value
    return [e if r is None else float(e) + r for e, r in zip(exact, rough, strict=True)]
