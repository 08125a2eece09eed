"""Parts of dates and times, their beginnings, what is so much later and the days between two: for all rows at once."""

from __future__ import annotations

import datetime as dt
from typing import Any

import numpy as np
from numpy.typing import NDArray

from nimble_otter.table.amounts import EXACT_FLOAT, largest
from nimble_otter.table.columns import DAY_US, EPOCH_DAY, Column, Ids, Kind, Mask
from nimble_otter.table.functions import MONTHS

_CLOCK_US = {"hour": 3_600_000_000, "minute": 60_000_000, "second": 1_000_000, "microsecond": 1}
_FIRST, _LAST = dt.date.min.toordinal() - EPOCH_DAY, dt.date.max.toordinal() - EPOCH_DAY
"""The days that the calendar has, from 1970."""


def part_of(column: Column, part: str) -> Column | None:
    """As functions.part_of; None for what a column of this kind has not."""
    if not column.kind.is_moment or (column.kind is Kind.DATE and part in _CLOCK_US):
        return None
    micros, days = _micros_and_days(column)
    made: NDArray[Any]
    if part in _CLOCK_US:
        size = {"hour": 24, "microsecond": 1_000_000}.get(part, 60)
        made = micros % DAY_US // _CLOCK_US[part] % size
    elif part in ("dow", "isodow"):  # the first day was a Thursday
        made = (days + 4) % 7 if part == "dow" else (days + 3) % 7 + 1
    elif part == "week":
        thursday = days - (days + 3) % 7 + 3
        made = _day_of_year(thursday) // 7 + 1
    elif part == "doy":
        made = _day_of_year(days) + 1
    elif part in ("year", "quarter", "month", "day"):
        months = days.astype("M8[D]").astype("M8[M]")
        number = months.astype(np.int64)
        made = {"year": lambda: number // 12 + 1970, "quarter": lambda: number % 12 // 3 + 1,
                "month": lambda: number % 12 + 1,
                "day": lambda: days - months.astype("M8[D]").astype(np.int64) + 1}[part]()  # fmt: skip
    else:
        return None
    return Column(Kind.INT, made, column.empty)


def _micros_and_days(column: Column) -> tuple[Ids, Ids]:
    data = column.data.astype(np.int64)
    return (data * DAY_US, data) if column.kind is Kind.DATE else (data, data // DAY_US)


def _day_of_year(days: Ids) -> Ids:
    years = days.astype("M8[D]").astype("M8[Y]")
    return days - years.astype("M8[D]").astype(np.int64)


def cut(column: Column, unit: str) -> Column | None:
    """As functions.cut."""
    if not column.kind.is_moment:
        return None
    kind = Kind.TIME if column.kind is Kind.DATE else column.kind
    micros, days = _micros_and_days(column)
    if unit in _CLOCK_US:
        return _in_range(Column(kind, micros - micros % _CLOCK_US[unit], column.empty))
    if unit == "week":
        days = days - (days + 3) % 7
    elif unit in MONTHS:
        months = days.astype("M8[D]").astype("M8[M]").astype(np.int64)
        months -= months % MONTHS[unit]
        days = months.astype("M8[M]").astype("M8[D]").astype(np.int64)
    elif unit != "day":
        return None
    return _in_range(Column(kind, days * DAY_US, column.empty))


def moved(column: Column, count: int, unit: str) -> Column | None:
    """As functions.moved."""
    if not column.kind.is_moment:
        return None
    micros, days = _micros_and_days(column)
    if unit in MONTHS:
        if abs(count) > 120_000:
            return None
        months = days.astype("M8[D]").astype("M8[M]")
        later = months.astype(np.int64) + count * MONTHS[unit]
        first, end = (m.astype("M8[M]").astype("M8[D]").astype(np.int64) for m in (later, later + 1))
        to = np.minimum(first + days - months.astype("M8[D]").astype(np.int64), end - 1)
        data = to if column.kind is Kind.DATE else to * DAY_US + micros % DAY_US
        return _in_range(Column(column.kind, data.astype(column.data.dtype), column.empty))
    step = count * {"day": DAY_US, "week": 7 * DAY_US}.get(unit, _CLOCK_US.get(unit, 0))
    if not step or abs(step) > (_LAST - _FIRST) * DAY_US:
        return None
    if column.kind is Kind.DATE and unit in ("day", "week"):
        made = days + step // DAY_US
        fits = _are_days(made, column.empty)
        return Column(Kind.DATE, made.astype(np.int32), column.empty) if fits else None
    return _in_range(Column(Kind.TIME if column.kind is Kind.DATE else column.kind, micros + step, column.empty))


def _in_range(column: Column) -> Column | None:
    """The column, unless a value lies outside the calendar: then each is looked at."""
    return column if _are_days(_micros_and_days(column)[1], column.empty) else None


def _are_days(days: Ids, empty: Mask | None) -> bool:
    outside = (days < _FIRST) | (days > _LAST)
    return not (outside if empty is None else outside & ~empty).any()


def days_between(later: Column, earlier: Column, empty: Mask | None) -> Column | None:
    """As functions.days_between; `empty` where one of them has no value."""
    if not (later.kind.is_moment and earlier.kind.is_moment):
        return None
    if later.kind is earlier.kind is Kind.DATE:
        return Column(Kind.INT, later.data.astype(np.int64) - earlier.data, empty)
    apart = _micros_and_days(later)[0] - _micros_and_days(earlier)[0]
    if largest(apart) > EXACT_FLOAT:
        return None
    return Column(Kind.FLOAT, apart / float(DAY_US), empty)
