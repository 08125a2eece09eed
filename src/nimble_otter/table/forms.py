"""Times and dates that a source keeps as text: recognising their form, and writing them back to the letter."""

from __future__ import annotations

import calendar
import datetime as dt
import re
from collections.abc import Callable, Sequence
from functools import cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from nimble_otter.table.columns import DAY_US, MISSING, Kind

_TIME_FORMS = {
    f"0000-00-00{sep}00:00{tail}": f"%Y-%m-%d{sep}%H:%M{form}"
    for sep in (" ", "T")
    for tail, form in (("", ""), (":00", ":%S"), *((":00." + "0" * n, f":%S.%{n}") for n in range(1, 7)))
}
_IN_DECIMALS = np.zeros(256, np.bool_)
_IN_DECIMALS[[10, 45, 46, *range(48, 58)]] = True
_NONE = 10_000
"""Stands for two characters that are not digits: more than any part of a time."""
_PAIRS = np.full(1 << 16, _NONE, np.int64)
_DIGITS = np.arange(48, 58)
_PAIRS[np.add.outer(_DIGITS, _DIGITS << 8)] = np.add.outer(10 * np.arange(10), np.arange(10))
"""The number that two digits make, by the two bytes as one little-endian integer."""
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
    return _parse_even(texts, form)


def _parse_even(texts: Sequence[str], form: str) -> NDArray[Any] | None:
    """Texts of one form: two digits at a time become numbers by a table, which is several times faster than NumPy's
    own reading of dates."""
    pattern, count = _PATTERNS[form], len(texts)
    joined = "\n".join(texts) + "\n"
    width = len(pattern) + 1
    if len(joined) != count * width or not joined.isascii():
        return None
    raw = joined.encode("ascii")
    points = np.frombuffer(raw, np.uint8).reshape(count, width)
    if any((points[:, at] != mark).any() for at, mark in _marks(pattern)):
        return None

    def pair(at: int) -> NDArray[np.int64]:
        return _PAIRS.take(np.ndarray((count,), "<u2", raw, at, (width,)))

    month, day = pair(5), pair(8)
    year = pair(0) * 100 + pair(2)
    if year.min() < 1 or year.max() > 9999 or month.min() < 1 or month.max() > 12 or day.min() < 1:
        return None  # year 0 is no date in Python
    month += _LEAP.take(year) * 13
    if (day > _LENGTHS.take(month)).any():
        return None
    days = _YEARS.take(year) + _MONTHS.take(month) + day
    if form == "%Y-%m-%d":
        dates: NDArray[Any] = days.astype(np.int32)
        return dates
    hour, minute = pair(11), pair(14)
    if hour.max() > 23 or minute.max() > 59:
        return None
    seconds = days * 86_400 + hour * 3_600 + minute * 60
    if len(pattern) > 16:
        second = pair(17)
        if second.max() > 59:
            return None
        seconds += second
    moments: NDArray[Any] = seconds * 1_000_000
    if len(pattern) > 20:
        digits = points[:, 20:-1] - np.uint8(48)  # what is below "0" wraps round to above 9
        if digits.max() > 9:
            return None
        moments += digits @ 10 ** np.arange(5, 5 - digits.shape[1], -1)
    return moments


@cache
def _marks(pattern: str) -> list[tuple[int, int]]:
    """Where a pattern has no digits, and what stands there; the line's end behind it too."""
    return [(at, ord(mark)) for at, mark in enumerate(pattern + "\n") if mark != "0"]


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
    whole = _parse_even([text[:19] for text in texts], form.removesuffix(ANY))
    if whole is None:
        return None
    digits = np.where(is_digit, fractions.astype(np.int64) - ord("0"), 0)
    seconds: NDArray[Any] = whole + digits @ np.array([100_000, 10_000, 1000, 100, 10, 1], np.int64)
    return seconds


_SPAN = re.compile(
    r"\s*(?:([+-]?\d+)\s+weeks?\s*)?(?:([+-]?\d+)\s+days?\s*)?"
    r"(?:([+-]?)(\d+):(\d\d)(?::(\d\d)(?:\.(\d{1,6}))?)?\s*)?"
    r"(?:([+-]?\d+)\s+hours?\s*)?(?:([+-]?\d+)\s+min(?:ute)?s?\s*)?(?:([+-]?\d+)\s+sec(?:ond)?s?\s*)?"
)
SPAN_FORMS = ("h:m:s", "d h:m:s")
"""How intervals are written: hours alone, or days in front of them."""
_CLOCK_FORMS = ("%H:%M:%S" + ANY, "%H:%M:%S", "%H:%M", *(f"%H:%M:%S.%{n}" for n in range(1, 7)))


def read_styled(texts: Sequence[str], kind: Kind) -> list[Any] | None:
    """Times with their zone (in UTC then), times of day or intervals; None when any text is none."""
    read: dict[Kind, Callable[[str], Any]] = {
        Kind.ZONED: _zoned, Kind.CLOCK: dt.time.fromisoformat, Kind.SPAN: parse_span,
    }  # fmt: skip
    try:
        values = list(map(read[kind], texts))
    except (ValueError, OverflowError):
        return None
    return None if kind is Kind.CLOCK and any(v.tzinfo is not None for v in values) else values


def _zoned(text: str) -> dt.datetime:
    moment = dt.datetime.fromisoformat(text)
    if moment.tzinfo is None:
        raise ValueError(text)
    return moment.astimezone(dt.UTC)


def style_of(texts: Sequence[str], values: Sequence[Any], kind: Kind) -> str:
    """The form that writes all the values back to the letter, or ""."""
    forms: Sequence[str] = _CLOCK_FORMS if kind is Kind.CLOCK else SPAN_FORMS
    if kind is Kind.ZONED and texts:
        found = re.search(r"(?:Z|[+-][\d:]+)$", texts[0][19:])
        tail = found[0] if found is not None else "?"
        forms = [f"{base}{tail}" for base in ("%Y-%m-%d %H:%M:%S" + ANY, "%Y-%m-%dT%H:%M:%S" + ANY)]
    return next((form for form in forms if keeps_letters(texts, values, form)), "")


def keeps_letters(texts: Sequence[str], values: Sequence[Any], form: str) -> bool:
    return all(render(value, form) == text for value, text in zip(values, texts, strict=True))


def parse_span(text: str) -> dt.timedelta:
    """An interval such as 26:03:04.5, 1 day 02:00:00 or 2 hours; months have no fixed length. Raises: ValueError."""
    match = _SPAN.fullmatch(text)
    if match is None or not text.strip():
        raise ValueError(text)
    weeks, days, sign, hours, minutes, seconds, rest, *more = match.groups()
    clock = (int(hours or 0) * 3600 + int(minutes or 0) * 60 + int(seconds or 0)) * 1_000_000
    clock = (clock + int((rest or "").ljust(6, "0"))) * (-1 if sign == "-" else 1)
    clock += sum(int(n or 0) * size for n, size in zip(more, (3_600_000_000, 60_000_000, 1_000_000), strict=True))
    return dt.timedelta(days=int(weeks or 0) * 7 + int(days or 0), microseconds=clock)


def span_text(value: dt.timedelta) -> str:
    """Hours, minutes and seconds: 26:03:04.5, with a minus in front below zero."""
    return _hours(value // dt.timedelta(microseconds=1))


def _days_text(value: dt.timedelta) -> str:
    """As PostgreSQL writes intervals: whole days, then what is left, each with its own sign."""
    micros = value // dt.timedelta(microseconds=1)
    days = abs(micros) // DAY_US * (-1 if micros < 0 else 1)
    rest = micros - days * DAY_US
    said = f"{days} day{'' if days == 1 else 's'}" if days else ""
    if rest or not days:
        plus = "+" if days < 0 < rest else ""
        said += f"{' ' if said else ''}{plus}{_hours(rest)}"
    return said


def _hours(micros: int) -> str:
    seconds, rest = divmod(abs(micros), 1_000_000)
    tail = f".{rest:06}".rstrip("0") if rest else ""
    return f"{'-' if micros < 0 else ''}{seconds // 3600:02}:{seconds // 60 % 60:02}:{seconds % 60:02}{tail}"


def zero_of(text: str) -> str:
    """A zero with as many digits after the point as a decimal in text."""
    _, point, digits = text.partition(".")
    return f"0.{'0' * len(digits)}" if point else "0"


def parse_decimals(texts: Sequence[str]) -> tuple[NDArray[np.int64], int] | None:
    """Decimals in text, all with the same digits after the point, as int64 of value * 10**scale, and the scale; None
    when any is of another form or has more than 18 digits."""
    joined = "\n".join(texts) + "\n"
    if not joined.isascii():
        return None
    points = np.frombuffer(joined.encode("ascii"), np.uint8)
    if not _IN_DECIMALS[points].all():
        return None
    ends = np.flatnonzero(points == 10)
    dots = np.flatnonzero(points == 46)
    scale = int(ends[0] - dots[0] - 1) if len(dots) else 0
    if len(ends) != len(texts) or (len(dots) and (len(dots) != len(ends) or (ends - dots != scale + 1).any())):
        return None
    starts = np.concatenate([[0], ends[:-1] + 1])
    minus = points == 45
    signed = points[starts] == 45
    if np.count_nonzero(minus) != np.count_nonzero(signed):
        return None
    lengths = ends - starts - signed - (1 if scale or len(dots) else 0)
    if lengths.min() <= scale or lengths.max() > 18:
        return None
    scaled = np.fromstring(joined.replace(".", ""), np.int64, sep="\n")
    if len(scaled) != len(texts) or (signed & (scaled == 0)).any():
        return None  # minus zero is kept as it is written
    return scaled, scale


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
    if isinstance(value, dt.timedelta):
        return value if not form else span_text(value) if form == SPAN_FORMS[0] else _days_text(value)
    if form and isinstance(value, dt.datetime) and value.tzinfo is not None:
        base, _, tail = form.partition(ANY)
        sign, digits = tail[:1], tail[1:].replace(":", "").ljust(4, "0")
        shift = dt.timedelta(hours=int(digits[:2]), minutes=int(digits[2:])) if sign in ("+", "-") else dt.timedelta()
        local = value.replace(tzinfo=None) + (-shift if sign == "-" else shift)
        return render(local, base + ANY) + tail
    if form and isinstance(value, dt.time):
        if form.endswith(ANY):
            return value.isoformat().rstrip("0") if value.microsecond else value.isoformat()
        if form[-1].isdigit():
            return value.isoformat("microseconds")[: 9 + int(form[-1])]
        return value.isoformat("seconds" if form.endswith("%S") else "minutes")
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
