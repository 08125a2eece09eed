"""Parts of dates, times and intervals, their beginnings, what is so much later and what lies between two: for all rows
at once, as `dates.py` does it one by one."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from nimble_otter.table.core.columns import DAY_US, EPOCH_DAY, Column, Ids, Kind, Mask
from nimble_otter.table.kernels.numeric import largest
from nimble_otter.table.ops.dates import CLOCK_US, MONTHS, unit_of

_FIRST, _LAST = dt.date.min.toordinal() - EPOCH_DAY, dt.date.max.toordinal() - EPOCH_DAY
"""The days that the calendar has, from 1970."""
_MOST = 1 << 61
_SPANS = (Kind.SPAN, Kind.CLOCK)


def part_of(column: Column, part: str) -> Column | None:
    """As dates.part_of; None for what a column of this kind has not."""
    part = unit_of(part)
    if column.kind in _SPANS:
        return _clock_part(column, column.data.astype(np.int64), part, column.kind is Kind.CLOCK)
    if not column.kind.is_moment:
        return None
    micros, days = _micros_and_days(column)
    made: NDArray[Any]
    if part in CLOCK_US:
        return _clock_part(column, micros % DAY_US, part, True)
    if part == "epoch" and column.kind is Kind.DATE:
        made = days * 86_400
    elif part == "epoch":
        return Column(Kind.DECIMAL, micros, column.empty, scale=6)
    elif part in ("dow", "isodow"):  # the first day was a Thursday
        made = (days + 4) % 7 if part == "dow" else (days + 3) % 7 + 1
    elif part in ("week", "isoyear"):
        thursday = days - (days + 3) % 7 + 3
        made = _day_of_year(thursday) // 7 + 1 if part == "week" else _year(thursday)
    elif part == "doy":
        made = _day_of_year(days) + 1
    elif part in ("century", "millennium"):
        made = (_year(days) - 1) // (MONTHS[part] // 12) + 1
    else:
        months = days.astype("M8[D]").astype("M8[M]")
        number = months.astype(np.int64)
        parts: dict[str, Callable[[], Ids]] = {
            "year": lambda: number // 12 + 1970, "quarter": lambda: number % 12 // 3 + 1,
            "month": lambda: number % 12 + 1, "decade": lambda: (number // 12 + 1970) // 10,
            "day": lambda: days - months.astype("M8[D]").astype(np.int64) + 1,
        }  # fmt: skip
        if part not in parts:
            return None
        made = parts[part]()
    return Column(Kind.INT, made, column.empty)


def _clock_part(column: Column, micros: Ids, part: str, is_clock: bool) -> Column | None:
    if part == "epoch":
        return Column(Kind.DECIMAL, micros, column.empty, scale=6)
    if part not in CLOCK_US or (part == "hour" and not is_clock):
        return None
    sign, size = np.sign(micros), np.abs(micros)
    if part in ("hour", "minute"):
        return Column(Kind.INT, sign * (size // CLOCK_US[part] % (24 if part == "hour" else 60)), column.empty)
    made = sign * (size % CLOCK_US["minute"])
    scale = {"second": 6, "millisecond": 3}.get(part, 0)
    return Column(Kind.DECIMAL if scale else Kind.INT, made, column.empty, scale=scale)


def _micros_and_days(column: Column) -> tuple[Ids, Ids]:
    data = column.data.astype(np.int64)
    return (data * DAY_US, data) if column.kind is Kind.DATE else (data, data // DAY_US)


def _year(days: Ids) -> Ids:
    return days.astype("M8[D]").astype("M8[Y]").astype(np.int64) + 1970


def _day_of_year(days: Ids) -> Ids:
    years = days.astype("M8[D]").astype("M8[Y]")
    return days - years.astype("M8[D]").astype(np.int64)


def cut(column: Column, unit: str) -> Column | None:
    """As dates.cut."""
    if not column.kind.is_moment:
        return None
    unit = unit_of(unit)
    kind = Kind.TIME if column.kind is Kind.DATE else column.kind
    micros, days = _micros_and_days(column)
    if unit in CLOCK_US:
        return _in_range(Column(kind, micros - micros % CLOCK_US[unit], column.empty))
    if unit == "week":
        days = days - (days + 3) % 7
    elif unit in MONTHS:
        months = days.astype("M8[D]").astype("M8[M]").astype(np.int64) + 1970 * 12
        behind = 12 if unit in ("century", "millennium") else 0  # they begin with their year 1
        months -= (months - behind) % MONTHS[unit]
        days = (months - 1970 * 12).astype("M8[M]").astype("M8[D]").astype(np.int64)
    elif unit != "day":
        return None
    return _in_range(Column(kind, days * DAY_US, column.empty))


def moved(column: Column, months: int) -> Column | None:
    """As dates.moved."""
    if not column.kind.is_moment or abs(months) > 120_000:
        return None
    micros, days = _micros_and_days(column)
    now = days.astype("M8[D]").astype("M8[M]")
    later = now.astype(np.int64) + months
    first, end = (m.astype("M8[M]").astype("M8[D]").astype(np.int64) for m in (later, later + 1))
    to = np.minimum(first + days - now.astype("M8[D]").astype(np.int64), end - 1)
    kind = Kind.TIME if column.kind is Kind.DATE else column.kind
    return _in_range(Column(kind, to * DAY_US + micros % DAY_US, column.empty))


def _in_range(column: Column) -> Column | None:
    """The column, unless a value lies outside the calendar: then each is looked at."""
    days = _micros_and_days(column)[1]
    outside = (days < _FIRST) | (days > _LAST)
    return None if (outside if column.empty is None else outside & ~column.empty).any() else column


def added(left: Column, right: Column, sign: int, empty: Mask | None) -> Column | None:
    """As functions.FUNCTIONS["+"] and ["-"] of what is not two numbers; `empty` where one of them has no value."""
    kinds = (left.kind, right.kind)
    if sign > 0 and not left.kind.is_moment and (right.kind.is_moment or right.kind is Kind.CLOCK):
        left, right, kinds = right, left, (right.kind, left.kind)
    if any(largest(c.data) > _MOST for c in (left, right) if c.kind is not Kind.FLOAT):
        return None
    a, b = left.data.astype(np.int64), right.data.astype(np.int64) if right.kind is not Kind.FLOAT else right.data
    if kinds == (Kind.DATE, Kind.INT):
        if largest(b) > 1 << 30:  # more days than any calendar has
            return None
        column = _in_range(Column(Kind.DATE, a + sign * b, empty))
        return None if column is None else Column(Kind.DATE, column.data.astype(np.int32), empty)
    if sign < 0 and kinds == (Kind.DATE, Kind.DATE):
        return Column(Kind.INT, a - b, empty)
    if sign < 0 and left.kind.is_moment and right.kind.is_moment:
        return Column(Kind.SPAN, _micros_and_days(left)[0] - _micros_and_days(right)[0], empty)
    if kinds == (Kind.SPAN, Kind.SPAN) or (sign < 0 and kinds == (Kind.CLOCK, Kind.CLOCK)):
        return _span(a + sign * b, empty)
    if kinds == (Kind.CLOCK, Kind.SPAN):
        return Column(Kind.CLOCK, (a + sign * b) % DAY_US, empty)
    if left.kind.is_moment and (right.kind is Kind.SPAN or (sign > 0 and kinds == (Kind.DATE, Kind.CLOCK))):
        kind = Kind.TIME if left.kind is Kind.DATE else left.kind
        return _in_range(Column(kind, _micros_and_days(left)[0] + sign * b, empty))
    return None


def _span(micros: Ids, empty: Mask | None) -> Column | None:
    return None if largest(micros) // DAY_US >= 50_000_000 else Column(Kind.SPAN, micros, empty)


def times(left: Column, right: Column, empty: Mask | None) -> Column | None:
    """An interval so many (whole) times."""
    span, by = (left, right) if left.kind is Kind.SPAN else (right, left)
    if span.kind is not Kind.SPAN or by.kind is not Kind.INT:
        return None
    most = [largest(c.data) for c in (span, by)]
    return _span(span.data * by.data, empty) if most[0] * most[1] < _MOST else None


def days_between(later: Column, earlier: Column, empty: Mask | None) -> Column | None:
    """As dates.days_between."""
    if not (later.kind.is_moment and earlier.kind.is_moment):
        return None
    return Column(Kind.INT, _micros_and_days(later)[1] - _micros_and_days(earlier)[1], empty)
