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

from nimble_otter.table.core.columns import DAY_US, MISSING, Kind
from nimble_otter.values import Stored, Value

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
ANY_FORM = f"%Y-%m-%d %H:%M:%S{ANY}"
UTC_FORM = f"{ANY_FORM}+00"
CLOCK_FORM = f"%H:%M:%S{ANY}"
FILLERS = {form: "1970-01-01" + pattern[10:] for form, pattern in _PATTERNS.items()}
FILLERS |= {f"%Y-%m-%d{sep}%H:%M:%S{ANY}": f"1970-01-01{sep}00:00:00" for sep in (" ", "T")}
"""For each form a text that stands in for an empty value while a batch is parsed."""


def form_of(text: str, kind: Kind) -> str:
    """The form of a text that holds a time or date in ISO 8601's extended order, or "" when it holds none."""
    form = _FORMS.get("".join("0" if c in "0123456789" else c for c in text), "")
    return form if form and (form == "%Y-%m-%d") == (kind is Kind.DATE) else ""


def form_of_digits(count: int) -> str:
    """The form of a time with so many digits behind its second."""
    return f"%Y-%m-%d %H:%M:%S.%{count}" if count else "%Y-%m-%d %H:%M:%S"


def parse(texts: Sequence[str], form: str) -> Stored | None:
    """int64 microseconds (dates: int32 days) since 1970, or None when any text is not exactly of this form."""
    if form.endswith(ANY):
        return _parse_any("\n".join(texts) + "\n", len(texts), form)
    return _parse_even(texts, form)


def _parse_even(texts: Sequence[str], form: str) -> Stored | None:
    """Texts of one form, which are as long as each other."""
    width = len(_PATTERNS[form]) + 1
    joined = "\n".join(texts) + "\n"
    if len(joined) != len(texts) * width or not joined.isascii():
        return None
    return _parse_lines(joined.encode("ascii"), form)


def _parse_lines(raw: bytes, form: str) -> Stored | None:
    """Lines of one form: two digits at a time become numbers by a table, which is several times faster than NumPy's
    own reading of dates."""
    pattern = _PATTERNS[form]
    width = len(pattern) + 1
    points = np.frombuffer(raw, np.uint8).reshape(-1, width)
    count = len(points)
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


def _parse_any(lines: str, count: int, form: str) -> Stored | None:
    """As `parse`, each of so many lines with the digits of the second that it needs."""
    if not lines.isascii():
        return None
    raw = lines.encode("ascii")
    if len(raw) == 20 * count:
        return _parse_lines(raw, form.removesuffix(ANY))
    points = np.frombuffer(raw, np.uint8)
    ends = np.flatnonzero(points == 10)
    starts = np.concatenate([[0], ends[:-1] + 1])
    sizes = ends - starts
    if len(ends) != count or sizes.min() < 19 or sizes.max() > 26 or (sizes == 20).any():
        return None
    wholes = np.full((count, 20), 10, np.uint8)
    wholes[:, :19] = points[starts[:, None] + np.arange(19)]
    seconds = _parse_lines(wholes.tobytes(), form.removesuffix(ANY))
    if seconds is None:
        return None
    longer = np.flatnonzero(sizes > 19)
    start, end = starts[longer] + 20, ends[longer]
    if (points[start - 1] != 46).any() or (points[end - 1] == 48).any():
        return None
    micros = _fractions(points, start, end)
    if micros is None:
        return None
    seconds[longer] += micros
    return seconds


def _fractions(points: NDArray[np.uint8], starts: NDArray[np.int64], ends: NDArray[np.int64]) -> object:
    """Microseconds of digits behind a point, which stand from `starts` to `ends`; None where others stand there."""
    micros = np.zeros(len(starts), np.int64)
    for index in range(int((ends - starts).max(initial=0))):
        at = starts + index
        digits = np.where(at < ends, points[np.minimum(at, len(points) - 1)].astype(np.int64) - 48, 0)
        if digits.min() < 0 or digits.max() > 9:
            return None
        micros += digits * 10 ** (5 - index)
    return micros


_SPAN = re.compile(
    r"\s*(?:([+-]?\d+)\s+weeks?\s*)?(?:([+-]?\d+)\s+days?\s*)?"
    r"(?:([+-]?)(\d+):(\d\d)(?::(\d\d)(?:\.(\d{1,6}))?)?\s*)?"
    r"(?:([+-]?\d+)\s+hours?\s*)?(?:([+-]?\d+)\s+min(?:ute)?s?\s*)?(?:([+-]?\d+)\s+sec(?:ond)?s?\s*)?"
)
SPAN_FORMS = ("h:m:s", "d h:m:s")
"""How intervals are written: hours alone, or days in front of them."""
_CLOCK_FORMS = (CLOCK_FORM, "%H:%M:%S", "%H:%M", *(f"%H:%M:%S.%{n}" for n in range(1, 7)))


def read_styled(texts: Sequence[str], kind: Kind) -> list[object] | None:
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


def style_of(texts: Sequence[str], values: Sequence[object], kind: Kind) -> str:
    """The form that writes all the values back to the letter, or ""."""
    forms: Sequence[str] = _CLOCK_FORMS if kind is Kind.CLOCK else SPAN_FORMS
    if kind is Kind.ZONED and texts:
        match = re.search(r"(?:Z|[+-][\d:]+)$", texts[0][19:])
        tail = match[0] if match is not None else "?"
        forms = [f"{base}{tail}" for base in ("%Y-%m-%d %H:%M:%S" + ANY, "%Y-%m-%dT%H:%M:%S" + ANY)]
    return next((form for form in forms if keeps_letters(texts, values, form)), "")


def keeps_letters(texts: Sequence[str], values: Sequence[object], form: str) -> bool:
    """Whether texts, read by a form and written again, are what they were to the letter."""
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
    text = f"{days} day{'' if days == 1 else 's'}" if days else ""
    if rest or not days:
        plus = "+" if days < 0 < rest else ""
        text += f"{' ' if text else ''}{plus}{_hours(rest)}"
    return text


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


def are_decimals(values: Sequence[Value]) -> bool:
    """Whether the texts among the values are all of digits, points and signs, and none is empty."""
    joined = "\n".join([value for value in values if type(value) is str])
    return bool(joined) and joined.isascii() and "\n\n" not in f"\n{joined}\n" and bool(
        _IN_DECIMALS[np.frombuffer(joined.encode("ascii"), np.uint8)].all())  # fmt: skip


def widen(form: str, stored: Stored) -> str:
    """The form with as many digits as needed that also says what is stored in `form` (int64 microseconds), or ""."""
    base, dot, digits = form.partition("%S")
    if not dot or form.endswith(ANY):
        return ""
    if digits:
        step = 10 ** (6 - int(digits[-1]))
        if ((stored // step) % 10 == 0).any():
            return ""
    return f"{base}%S{ANY}"


def render(value: object, form: str) -> Value:
    """The source's own writing of a value in a column of this form; other values pass unchanged."""
    if form == "0/1" and isinstance(value, bool):
        return int(value)
    if isinstance(value, dt.timedelta):
        return value if not form else span_text(value) if form == SPAN_FORMS[0] else _days_text(value)
    if form and isinstance(value, dt.datetime) and value.tzinfo is not None:
        base, _, tail = form.partition(ANY)
        local = value.replace(tzinfo=None) + dt.timedelta(microseconds=_shift(tail))
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


def render_all(values: Sequence[object], form: str) -> list[object]:
    """`render` over a list; None and MISSING pass unchanged."""
    return [value if value is None or value is MISSING else render(value, form) for value in values]


# --- columns of times with a zone, times of day and intervals at once --------------------------------------------


def read_styled_at_once(
    texts: Sequence[str], kind: Kind, form: str, is_first: bool, largest: int
) -> tuple[NDArray[np.int64], str] | None:
    """What `read_styled` and `style_of` give, worked out by arrays: int64 microseconds (of ZONED since 1970 in UTC, of
    CLOCK since midnight) and the form that writes every text back to the letter. `form` is that of the rows before,
    any where `is_first`; `largest` is the longest interval among them. None where the texts are not all of one such
    form: single values may then still be read."""
    if not texts:
        return None
    if kind is Kind.ZONED:
        return _zoned_at_once(texts, form, is_first)
    if kind is Kind.CLOCK:
        wanted = CLOCK_FORM
        lines = "1970-01-01 " + "\n1970-01-01 ".join(texts) + "\n"
        found = _parse_any(lines, len(texts), "%Y-%m-%d " + wanted) if is_first or form == wanted else None
        return None if found is None else (found, wanted)
    joined = "\n".join(texts) + "\n"
    if not joined.isascii() or joined.count("\n") != len(texts):
        return None
    read = _spans_in(np.frombuffer(joined.encode("ascii"), np.uint8))
    if read is None:
        return None
    days, rest, spans = read
    found_form = span_form(days, rest, form, is_first, largest)
    return None if found_form is None else (spans, found_form)


def span_form(days: NDArray[np.int64], rest: NDArray[np.int64], form: str, is_first: bool, largest: int) -> str | None:
    """The form that writes intervals of these days and microseconds to the letter; `form`, `is_first` and `largest` as
    in `read_styled_at_once`."""
    by_hours, by_days = not days.any(), bool((np.abs(rest) < DAY_US).all())
    wanted = SPAN_FORMS[0] if by_hours and (is_first or form == SPAN_FORMS[0]) else SPAN_FORMS[1]
    fits = by_hours if wanted == SPAN_FORMS[0] else by_days and (is_first or form == wanted or largest < DAY_US)
    return wanted if fits else None


def _zoned_at_once(texts: Sequence[str], form: str, is_first: bool) -> tuple[NDArray[np.int64], str] | None:
    """Times that are all written alike, with the same zone behind each."""
    base, _, end = form.partition(ANY)
    if is_first:
        tail = _TAIL.search(texts[0][19:])
        base, end = f"%Y-%m-%d{texts[0][10:11]}%H:%M:%S", tail[0] if tail is not None else ""
    lines, mark = "\n".join(texts) + "\n", end + "\n"
    if not end or base + ANY not in FILLERS or lines.count(mark) != len(texts):
        return None
    found = _parse_any(lines.replace(mark, "\n"), len(texts), base + ANY)
    if found is None:
        return None
    found = found - _shift(end)
    is_held = found.min() >= _FIRST_US and found.max() <= _LAST_US
    return (found, base + ANY + end) if is_held else None


_TAIL = re.compile(r"(?:Z|[+-](?:[01]\d|2[0-3])(?::?[0-5]\d)?)$")
_FIRST_US, _LAST_US = (int(days) * DAY_US for days in (_YEARS[1] + 1, _YEARS[9999] + 366))
"""Microseconds from 1970 to the first and last moments that Python has."""


def _shift(tail: str) -> int:
    """Microseconds that a zone such as +05:30 is ahead of UTC."""
    digits = tail[1:].replace(":", "").ljust(4, "0")
    if tail[:1] not in ("+", "-"):
        return 0
    return (int(digits[:2]) * 3600 + int(digits[2:4]) * 60) * 1_000_000 * (-1 if tail[0] == "-" else 1)


def _digits_before(points: NDArray[np.uint8], ends: NDArray[np.int64], starts: NDArray[np.int64]) -> Value:
    """The number that stands before each place, and how many digits it has (at most 9, or -1)."""
    number, count, goes_on = np.zeros(len(ends), np.int64), np.zeros(len(ends), np.int64), ends > starts
    for power in range(10):
        digit = points[np.maximum(ends - 1 - power, 0)].astype(np.int64) - 48
        goes_on &= (ends - 1 - power >= starts) & (digit >= 0) & (digit <= 9)
        if not goes_on.any():
            return number, count
        number += np.where(goes_on, digit * 10**power, 0)
        count += goes_on
    return number, np.where(goes_on, -1, count)


def _spans_in(points: NDArray[np.uint8]) -> tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.int64]] | None:  # noqa: C901 - one pass over the bytes
    """Days, the rest and the whole (microseconds) of intervals, one a line, each as PostgreSQL writes it and as
    `_days_text` or `span_text` would; None where any is not."""
    ends = np.flatnonzero(points == 10)
    starts = np.concatenate([[0], ends[:-1] + 1])
    colons = np.append(np.flatnonzero(points == 58), len(points))
    first = np.searchsorted(colons, starts)
    count = np.searchsorted(colons, ends) - first
    if not np.isin(count, (0, 2)).all() or (ends == starts).any():
        return None
    has_clock = count == 2
    rest = np.zeros(len(ends), np.int64)
    head = ends.copy()
    sign = np.zeros(len(ends), np.uint8)
    if has_clock.any():
        start, end, colon = starts[has_clock], ends[has_clock], colons[first[has_clock]]
        if (colons[first[has_clock] + 1] != colon + 3).any() or (end < colon + 6).any():
            return None
        minute, second = (
            _PAIRS.take(points[colon + at].astype(np.int64) + (points[colon + at + 1].astype(np.int64) << 8))
            for at in (1, 4)
        )
        hours, digits = _digits_before(points, colon, start)
        lead = points[colon - np.maximum(digits, 1)]
        if minute.max() > 59 or second.max() > 59 or digits.min() < 2 or ((digits > 2) & (lead == 48)).any():
            return None
        micros = (hours * 3600 + minute * 60 + second) * 1_000_000
        size = end - (colon + 6)
        if size.any():
            dotted = size > 0
            if (points[colon[dotted] + 6] != 46).any() or (size[dotted] < 2).any() or size.max() > 7:
                return None
            if (points[end[dotted] - 1] == 48).any():
                return None
            fractions = _fractions(points, colon[dotted] + 7, end[dotted])
            if fractions is None:
                return None
            micros[dotted] += fractions
        place = colon - digits
        mark = np.where(place > start, points[np.maximum(place - 1, 0)], 32).astype(np.uint8)
        signed = (mark == 43) | (mark == 45)
        place = place - signed
        follows = place > start  # a space, and days before that
        if not (signed | (mark == 32)).all() or (follows & (points[np.maximum(place - 1, 0)] != 32)).any():
            return None
        if (follows & (place - 1 == start)).any():
            return None
        sign[has_clock] = np.where(signed, mark, 0)
        head[has_clock] = np.where(follows, place - 1, start)
        rest[has_clock] = np.where(mark == 45, -micros, micros)
    days = np.zeros(len(ends), np.int64)
    has_days = head > starts
    if has_days.any():
        start, end = starts[has_days], head[has_days]
        spaces = np.append(np.flatnonzero(points == 32), len(points))
        space = spaces[np.searchsorted(spaces, start)]
        plural = end - space == 5
        if not (plural | (end - space == 4)).all():
            return None
        for place, letter in enumerate(b"day", 1):
            if (points[space + place] != letter).any():
                return None
        number, digits = _digits_before(points, space, start)
        below = points[start] == 45
        if digits.min() < 1 or (start + below != space - digits).any() or (points[space - digits] == 48).any():
            return None
        number = np.where(below, -number, number)
        if (plural & (points[np.minimum(space + 4, len(points) - 1)] != 115)).any() or (plural == (number == 1)).any():
            return None
        days[has_days] = number
    bad = ~has_clock & ~has_days
    bad |= has_clock & has_days & ((rest == 0) | ((rest > 0) != (days > 0)))
    bad |= (sign == 43) | ((sign == 45) != (rest < 0)) | (np.abs(days) >= 50_000_000)
    return None if bad.any() else (days, rest, days * DAY_US + rest)
