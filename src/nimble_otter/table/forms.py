"""Times and dates that a source keeps as text: recognising their form, and writing them back to the letter."""

from __future__ import annotations

import calendar
import datetime as dt
import re
from collections.abc import Sequence
from functools import cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from nimble_otter.table.columns import MISSING, Kind

_TIME_FORMS = {
    f"0000-00-00{sep}00:00{tail}": f"%Y-%m-%d{sep}%H:%M{form}"
    for sep in (" ", "T")
    for tail, form in (("", ""), (":00", ":%S"), *((":00." + "0" * n, f":%S.%{n}") for n in range(1, 7)))
}
_LEAP = np.array([calendar.isleap(year) for year in range(10_000)], np.int64)
_YEARS = np.array([0, *(dt.date(year, 1, 1).toordinal() for year in range(1, 10_000))], np.int64) - 719_164
"""Days from 1970-01-01 to the last day before each year."""
_LENGTHS = np.array([0, 31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31] * 2, np.int64)
_LENGTHS[15] = 29
_MONTHS = np.concatenate([[0, 0], np.cumsum(_LENGTHS[1:12]), [0, 0], np.cumsum(_LENGTHS[14:25])])
"""Days of the year before each month (0 stands for none), of common years and then of leap years."""
_FORMS = {"0000-00-00": "%Y-%m-%d", **_TIME_FORMS}
_PATTERNS = {form: pattern for pattern, form in _FORMS.items()}
ANY = "?"
"""Ends a form with as many digits of the second as are needed, none to six, without zeros at the end."""
FILLERS = {form: "1970-01-01" + pattern[10:] for form, pattern in _PATTERNS.items()}
FILLERS |= {f"%Y-%m-%d{sep}%H:%M:%S{ANY}": f"1970-01-01{sep}00:00:00" for sep in (" ", "T")}
"""For each form a text that stands in for an empty value while a batch is parsed."""


def form_of(text: str, kind: Kind) -> str:
    """The form of a text that holds a time or date in ISO 8601's extended order, or "" when it holds none."""
    form = _FORMS.get("".join("0" if c in "0123456789" else c for c in text), "")
    return form if form and (form == "%Y-%m-%d") == (kind is Kind.DATE) else ""


def parse(texts: Sequence[str], form: str) -> NDArray[Any] | None:
    """int64 microseconds (dates: int32 days) since 1970, or None when any text is not exactly of this form."""
    if form.endswith(ANY):
        return _parse_any(texts, form)
    return _parse_even("".join(texts), len(texts), form) if len(set(map(len, texts))) == 1 else None


def _parse_even(joined: str, count: int, form: str) -> NDArray[Any] | None:
    """Texts of one length, joined: digits become numbers by arithmetic, which is several times faster than NumPy's own
    reading of dates."""
    pattern = _PATTERNS[form]
    if len(joined) != count * len(pattern) or not joined.isascii():
        return None
    points = np.frombuffer(joined.encode("ascii"), np.uint8).reshape(count, len(pattern))
    marks, weights = _plan(pattern)
    if (points[:, marks] != np.frombuffer(pattern.encode(), np.uint8)[marks]).any():
        return None
    digits = np.delete(points, marks, axis=1) - np.uint8(48)  # what is below "0" wraps round to above 9
    if digits.max() > 9:
        return None
    parts = (digits.astype(np.float32) @ weights).astype(np.int64).T
    year, month, day = parts[:3]
    if year.min() < 1 or month.min() < 1 or month.max() > 12 or day.min() < 1:
        return None  # year 0 is no date in Python
    month = month + _LEAP.take(year) * 13
    if (day > _LENGTHS.take(month)).any():
        return None
    days = _YEARS.take(year) + _MONTHS.take(month) + day
    if form == "%Y-%m-%d":
        dates: NDArray[Any] = days.astype(np.int32)
        return dates
    hour, minute = parts[3:5]
    if hour.max() > 23 or minute.max() > 59:
        return None
    moments: NDArray[Any] = days * 86_400_000_000 + hour * 3_600_000_000 + minute * 60_000_000
    if len(parts) > 5:
        if parts[5].max() > 59:
            return None
        moments += parts[5] * 1_000_000
    if len(parts) > 6:
        moments += parts[6] * 10 ** (6 - int(form[-1]))
    return moments


@cache
def _plan(pattern: str) -> tuple[list[int], NDArray[np.float32]]:
    """Where a pattern has no digits, and the weights that make numbers of its digits: shape (digits, numbers). All
    numbers are below 10**6 and so are exact as float32."""
    marks = [n for n, c in enumerate(pattern) if c != "0"]
    parts = [len(part) for part in re.findall("0+", pattern)]
    weights = np.zeros((sum(parts), len(parts)), np.float32)
    at = 0
    for place, length in enumerate(parts):
        weights[at : at + length, place] = 10.0 ** np.arange(length - 1, -1, -1)
        at += length
    return marks, weights


def _parse_any(texts: Sequence[str], form: str) -> NDArray[Any] | None:
    """As `parse`, each text with the digits of the second that it needs."""
    lengths = np.fromiter(map(len, texts), np.int64, len(texts))
    if len(lengths) == 0 or lengths.min() < 19 or lengths.max() > 26 or (lengths == 20).any():
        return None
    chars = np.array(texts, "U26")
    points = chars.view(np.uint32).reshape(len(texts), 26)
    ends = points[np.arange(len(texts)), lengths - 1]
    fractions = points[:, 20:]
    is_digit = (fractions >= ord("0")) & (fractions <= ord("9"))
    if not (is_digit | (fractions == 0)).all() or (ends[lengths > 19] == ord("0")).any():
        return None
    if not np.isin(points[:, 19], (0, ord("."))).all():
        return None
    whole = _parse_even("".join([text[:19] for text in texts]), len(texts), form.removesuffix(ANY))
    if whole is None:
        return None
    digits = np.where(is_digit, fractions.astype(np.int64) - ord("0"), 0)
    seconds: NDArray[Any] = whole + digits @ np.array([100_000, 10_000, 1000, 100, 10, 1], np.int64)
    return seconds


def widen(form: str, stored: NDArray[Any]) -> str:
    """The form with as many digits as needed that also says what is stored in `form` (int64 microseconds), or ""."""
    base, dot, digits = form.partition("%S")
    if not dot or form.endswith(ANY):
        return ""
    if digits:
        step = 10 ** (6 - int(digits[-1]))
        if ((stored // step) % 10 == 0).any():
            return ""
    return f"{base}%S{ANY}"


def render(value: Any, form: str) -> Any:
    """The source's own writing of a value in a column of this form; other values pass unchanged."""
    if form == "0/1" and isinstance(value, bool):
        return int(value)
    if form and isinstance(value, dt.datetime):
        if form.endswith(ANY):
            text = value.isoformat(form[8])
            return text.rstrip("0") if value.microsecond else text
        if form[-1].isdigit():
            return value.isoformat(form[8], "microseconds")[: 20 + int(form[-1])]
        return value.isoformat(form[8], "seconds" if form.endswith("%S") else "minutes")
    if form and isinstance(value, dt.date):
        return value.isoformat()
    return value


def render_all(values: Sequence[Any], form: str) -> list[Any]:
    """`render` over a list; None and MISSING pass unchanged."""
    return [value if value is None or value is MISSING else render(value, form) for value in values]
