"""Values as places along an axis: numbers as they are, times as days since 1970, everything else as categories."""

from __future__ import annotations

import datetime as dt
import re
from dataclasses import dataclass
from zoneinfo import ZoneInfo

import numpy as np
from numpy.typing import NDArray

from nimble_otter.table import Field, Kind
from nimble_otter.table.core.columns import DAY_US, Column, Ids
from nimble_otter.table.kernels.numeric import as_floats
from nimble_otter.table.ops.binning import OF_TIMES
from nimble_otter.table.text.show import THIN, plain, shown

Floats = NDArray[np.float64]
NUMBER, TIME, CLOCK, CATEGORY = "number", "time", "clock", "category"
_LONGEST = 40
_HOUR_US = 3_600_000_000
_QUARTER_US, _DAY = _HOUR_US // 4, 96
"""Clocks are changed at quarters of an hour; how many a day has."""
_MOST_DAYS = 150_000
"""Days (some 400 years) over which the clock changes of a zone are looked for."""
_FILLED = ("year", "quarter", "month", "week", "day")
MOST_FILLED = 400


@dataclass(frozen=True, slots=True)
class Axis:
    """`kind` is one of NUMBER, TIME (days since 1970), CLOCK (hours), CATEGORY (places from 0 in `labels`)."""

    kind: str
    title: str = ""
    labels: tuple[str, ...] = ()
    field: Field | None = None


def kind_of(field: Field, part: str = "") -> str:
    """What kind of axis a column makes, or a part of its values."""
    if part:
        if part in (*_FILLED, "hour"):
            return TIME
        return NUMBER if part.startswith("steps of") else CATEGORY
    if field.kind.is_moment:
        return TIME
    if field.kind is Kind.CLOCK:
        return CLOCK
    return NUMBER if field.is_amount else CATEGORY


def places_of(column: Column, field: Field, ids: Ids) -> Floats:
    """Where the rows' values stand; NaN where there is none. Times with a zone stand where the grid shows them."""
    if column.kind.is_moment:
        held = column.data.take(ids).astype(np.int64)
        if column.kind is Kind.ZONED and field.look is not None and field.look.zone:
            held = held + _offsets(held, field.look.zone)
        found = held.astype(np.float64) / (1 if column.kind is Kind.DATE else DAY_US)
    elif column.kind in (Kind.CLOCK, Kind.SPAN):
        found = column.data.take(ids) / float(_HOUR_US if column.kind is Kind.CLOCK else 1_000_000)
    else:
        found = as_floats(column, ids)
    if column.empty is not None:
        gone = column.empty_at(ids)
        if gone.any():
            found = found.copy() if found.base is not None or not found.flags.writeable else found
            found[gone] = np.nan
    return found


def _offsets(moments: Ids, zone: str) -> Ids:
    """Microseconds that a zone is ahead of UTC at each moment."""
    try:
        key = ZoneInfo(zone)
    except (ValueError, OSError, KeyError):
        return np.zeros(len(moments), np.int64)

    def ahead(quarter: int) -> int:
        """At a quarter of an hour since 1970, in microseconds."""
        moment = dt.datetime(1970, 1, 1, tzinfo=dt.UTC) + dt.timedelta(minutes=15 * quarter)
        return (moment.astimezone(key).utcoffset() or dt.timedelta()) // dt.timedelta(microseconds=1)

    if not len(moments):
        return moments
    first, last = int(moments.min()) // _QUARTER_US, int(moments.max()) // _QUARTER_US + 1
    if not (first > -17_000_000 and last < 70_000_000) or (last - first) > _DAY * _MOST_DAYS:
        return np.zeros(len(moments), np.int64)
    changes, values = [first], [ahead(first)]
    for day in range(first, last, _DAY):
        end = min(day + _DAY, last)
        if ahead(end) == values[-1]:
            continue
        low, high = day, end
        while high - low > 1:
            middle = (low + high) // 2
            low, high = (middle, high) if ahead(middle) == values[-1] else (low, middle)
        changes.append(high)
        values.append(ahead(high))
    at = np.searchsorted(np.array(changes), moments // _QUARTER_US, side="right") - 1
    return np.array(values, np.int64).take(at.clip(0))


def label_of(value: object, field: Field) -> str:
    """What a category is called."""
    if value is None:
        return "NULL"
    text = shown(value, field).replace(THIN, " ") or plain(value) or "(empty)"
    return text if len(text) <= _LONGEST else f"{text[: _LONGEST - 1]}…"


def day_of_part(text: str, part: str) -> float:
    """The first day of a part of dates as binning.py writes it, in days since 1970; NaN for none."""
    try:
        if part == "year":
            day = dt.date(int(text), 1, 1)
        elif part == "quarter":
            year, quarter = text.split("-Q")
            day = dt.date(int(year), 3 * int(quarter) - 2, 1)
        elif part == "month":
            day = dt.date.fromisoformat(f"{text}-01")
        elif part == "week":
            year, week = text.split("-W")
            day = dt.date.fromisocalendar(int(year), int(week), 1)
        else:
            day = dt.date.fromisoformat(text)
    except (ValueError, TypeError, AttributeError):
        return np.nan
    return float(day.toordinal() - dt.date(1970, 1, 1).toordinal())


def parts_between(first: str, last: str, part: str) -> list[str]:
    """All parts of dates from one to another, those without a row too; none where they are too many."""
    low, high = day_of_part(first, part), day_of_part(last, part)
    if part not in _FILLED or np.isnan(low) or np.isnan(high) or high - low > 366 * MOST_FILLED:
        return []
    found: dict[str, None] = {}
    day, end = dt.date(1970, 1, 1) + dt.timedelta(days=low), dt.date(1970, 1, 1) + dt.timedelta(days=high)
    step = dt.timedelta(days={"year": 300, "quarter": 80, "month": 27, "week": 7, "day": 1}[part])
    while day <= end:
        found[_named(day, part)] = None
        if len(found) > MOST_FILLED:
            return []
        day += step
    found[last] = None
    return sorted(found)


def _named(day: dt.date, part: str) -> str:
    if part == "year":
        return f"{day.year:04}"
    if part == "quarter":
        return f"{day.year:04}-Q{(day.month + 2) // 3}"
    if part == "month":
        return f"{day:%Y-%m}"
    if part == "week":
        year, week, _ = day.isocalendar()
        return f"{year:04}-W{week:02}"
    return day.isoformat()


def time_texts(days: float) -> str:
    """A place on an axis of times, as ISO 8601 has it."""
    moment = dt.datetime(1970, 1, 1) + dt.timedelta(days=days)
    if moment.time() == dt.time():
        return moment.date().isoformat()
    return moment.isoformat(" ", "seconds" if not moment.microsecond else "auto")


def is_part_of_time(part: str) -> bool:
    """Whether a part is one of dates or times."""
    return part in OF_TIMES


_STEP = re.compile(r"steps of (\S+)")


def step_of(part: str) -> float:
    """How wide the steps of a part of numbers are; 0 for other parts."""
    match = _STEP.fullmatch(part)
    return float(match[1]) if match else 0.0
