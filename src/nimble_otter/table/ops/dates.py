"""Dates, times and intervals, one by one, as PostgreSQL works them out: parts, beginnings, distances, and as text."""

from __future__ import annotations

import calendar
import datetime as dt
import re
from collections.abc import Callable
from decimal import Decimal
from functools import cache
from zoneinfo import ZoneInfo

from nimble_otter.values import Value

MONTHS = {"month": 1, "quarter": 3, "year": 12, "decade": 120, "century": 1200, "millennium": 12_000}
"""How many months a unit has."""
CLOCK_US = {"hour": 3_600_000_000, "minute": 60_000_000, "second": 1_000_000, "millisecond": 1_000, "microsecond": 1}
"""How many microseconds a unit of a clock has."""
UNITS = (*CLOCK_US, "day", "week", *MONTHS)
PARTS = (*UNITS, "dow", "isodow", "doy", "isoyear", "epoch")
"""What EXTRACT knows of a date or time."""
EPOCH = dt.datetime(1970, 1, 1)
_MICRO = dt.timedelta(microseconds=1)
_SPELLED = {"msec": "millisecond", "usec": "microsecond", "sec": "second", "min": "minute", "hr": "hour", "h": "hour",
            "mon": "month", "yr": "year", "centurie": "century", "millennia": "millennium", "dec": "decade",
            "m": "minute", "s": "second", "d": "day", "w": "week", "y": "year", "decs": "decade"}  # fmt: skip
_PIECE = re.compile(r"([+-]?\d+(?:\.\d+)?)\s*([a-z]+)|([+-]?)(\d+):(\d\d)(?::(\d\d(?:\.\d{1,6})?))?", re.IGNORECASE)


def unit_of(word: str) -> str:
    """A unit by any of its names (days, hr, mons); "" for what is none."""
    low = word.strip().lower()
    for name in (low, low.removesuffix("s"), low.removesuffix("s").removesuffix("ie") + "y"):
        name = _SPELLED.get(name, name)
        if name in PARTS:
            return name
    return ""


def parse_interval(text: str) -> tuple[int, dt.timedelta]:
    """Months and what has a fixed length, of an interval such as "1 month 2 days 03:04" or "90 minutes ago". Raises:
    ValueError, OverflowError."""
    body = text.strip()
    is_past = body.lower().endswith("ago")
    body = body[:-3] if is_past else body
    body += " seconds" if re.fullmatch(r"[+-]?\d+(\.\d+)?", body) else ""
    months, rest, at = 0, dt.timedelta(), 0
    for match in _PIECE.finditer(body):
        if body[at : match.start()].strip(" ,"):
            raise ValueError(text)
        at = match.end()
        number, unit, sign, hours, minutes, seconds = match.groups()
        if number is None:
            clock = dt.timedelta(hours=int(hours), minutes=int(minutes)) + _seconds(seconds or "0")
            rest += -clock if sign == "-" else clock
            continue
        unit, amount = unit_of(unit), Decimal(number)
        if unit in MONTHS and amount == int(amount):
            months += int(amount) * MONTHS[unit]
        elif unit in CLOCK_US or unit in ("day", "week"):
            micros = amount * {"day": 86_400_000_000, "week": 604_800_000_000}.get(unit, CLOCK_US.get(unit, 0))
            rest += dt.timedelta(microseconds=int(micros))
        else:
            raise ValueError(text)
    if not at or body[at:].strip(" ,"):
        raise ValueError(text)
    return (-months, -rest) if is_past else (months, rest)


def _seconds(text: str) -> dt.timedelta:
    return dt.timedelta(microseconds=int(Decimal(text) * 1_000_000))


def as_time(value: object) -> dt.datetime:
    """A date or time as a time without zone (in UTC where it had one). Raises: TypeError."""
    if isinstance(value, dt.datetime):
        return value if value.tzinfo is None else value.astimezone(dt.UTC).replace(tzinfo=None)
    if isinstance(value, dt.date):
        return dt.datetime.combine(value, dt.time())
    raise TypeError(value)


def less(later: Value, earlier: Value) -> Value:
    """Days between dates, an interval between times."""
    if type(later) is dt.date and type(earlier) is dt.date:
        return (later - earlier).days
    if isinstance(later, dt.time):
        return clock_span(later) - clock_span(earlier)
    return as_time(later) - as_time(earlier)


def days_between(later: object, earlier: object) -> int:
    """Days from the date of one time to that of the other."""
    return (as_time(later).date() - as_time(earlier).date()).days


def clock_span(value: dt.time) -> dt.timedelta:
    """A time of day as the interval since midnight."""
    return dt.datetime.combine(EPOCH, value) - EPOCH


def later(value: Value, span: int | dt.timedelta) -> object:
    """A date (a time then), time or time of day (round the clock) so much later; a date so many days."""
    if isinstance(span, int):
        return value + dt.timedelta(days=span)
    if isinstance(value, dt.time):
        return (EPOCH + (clock_span(value) + span) % dt.timedelta(days=1)).time()
    return (value if isinstance(value, dt.datetime) else as_time(value)) + span


def moved(value: object, months: int) -> Value:
    """A time so many months later; the last of a month stays in its month."""
    at = value if isinstance(value, dt.datetime) else as_time(value)
    year, month = divmod(at.year * 12 + at.month - 1 + months, 12)
    return at.replace(year=year, month=month + 1, day=min(at.day, calendar.monthrange(year, month + 1)[1]))


def cut(unit: str, value: object) -> dt.datetime:
    """The beginning of the unit that a time is in; weeks begin on Monday (ISO 8601), centuries in their year 1."""
    unit = unit_of(unit)
    at = value if isinstance(value, dt.datetime) else as_time(value)
    if unit in CLOCK_US:
        return at - dt.timedelta(microseconds=(clock_span(at.time()) // _MICRO) % CLOCK_US[unit])
    day = dt.datetime.combine(at, dt.time(), at.tzinfo)
    if unit == "week":
        return day - dt.timedelta(days=at.weekday())
    if unit == "day":
        return day
    if unit in ("century", "millennium", "decade"):
        years = MONTHS[unit] // 12
        first = at.year // years * years if unit == "decade" else (at.year - 1) // years * years + 1
        return day.replace(year=first, month=1, day=1)
    return day.replace(month=(at.month - 1) // MONTHS[unit] * MONTHS[unit] + 1 if unit != "year" else 1, day=1)


def part_of(part: str, value: object) -> object:
    """A part of a date, time, time of day or interval, as EXTRACT names it (ISO 9075); seconds with their fraction."""
    part = unit_of(part)
    if isinstance(value, (dt.time, dt.timedelta)):
        span = value if isinstance(value, dt.timedelta) else clock_span(value)
        micros = abs(span) // _MICRO
        sign = -1 if span < dt.timedelta() else 1
        return _of_clock(part, micros, sign, None if isinstance(value, dt.timedelta) else 24)
    at = as_time(value)
    if part in CLOCK_US:
        return _of_clock(part, clock_span(at.time()) // _MICRO, 1, 24)
    if part == "epoch":
        whole = (at - EPOCH) // _MICRO
        return whole // 1_000_000 if type(value) is dt.date else Decimal(whole).scaleb(-6)
    if part in ("century", "millennium"):
        return (at.year - 1) // (MONTHS[part] // 12) + 1
    found: dict[str, Callable[[], int]] = {
        "decade": lambda: at.year // 10, "year": lambda: at.year, "quarter": lambda: (at.month + 2) // 3,
        "month": lambda: at.month, "day": lambda: at.day, "week": lambda: at.isocalendar()[1],
        "isoyear": lambda: at.isocalendar()[0], "dow": lambda: at.isoweekday() % 7, "isodow": at.isoweekday,
        "doy": lambda: at.timetuple().tm_yday,
    }  # fmt: skip
    return found[part]()


def _of_clock(part: str, micros: int, sign: int, hours: int | None) -> object:
    if part == "epoch":
        return Decimal(sign * micros).scaleb(-6)
    if part == "hour":
        number = micros // CLOCK_US["hour"]
        return sign * (number % hours if hours else number)
    if part == "minute":
        return sign * (micros // CLOCK_US["minute"] % 60)
    seconds = sign * (micros % CLOCK_US["minute"])
    return seconds if part == "microsecond" else Decimal(seconds).scaleb({"second": -6, "millisecond": -3}[part])


def in_zone(zone: str, value: dt.datetime) -> dt.datetime:
    """AT TIME ZONE: what a clock there says of a time with a zone; of one without, the time at which it says so."""
    there = _zone(zone)
    if value.tzinfo is not None:
        return value.astimezone(there).replace(tzinfo=None)
    return value.replace(tzinfo=there).astimezone(dt.UTC)


@cache
def _zone(name: str) -> ZoneInfo:
    """Raises: ValueError."""
    try:
        return ZoneInfo(name)
    except (KeyError, OSError) as problem:
        raise ValueError(name) from problem


# --- as text ---------------------------------------------------------------------------------------------------------

_NAMES = {"month": ("January", "February", "March", "April", "May", "June", "July", "August", "September", "October",
                    "November", "December"),
          "day": ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")}  # fmt: skip
_TOKENS: dict[str, Callable[[dt.datetime], tuple[int, int]]] = {
    "YYYY": lambda t: (t.year, 4), "YYY": lambda t: (t.year % 1000, 3), "YY": lambda t: (t.year % 100, 2),
    "Y": lambda t: (t.year % 10, 1), "IYYY": lambda t: (t.isocalendar()[0], 4), "CC": lambda t: ((t.year + 99) // 100,
    2), "Q": lambda t: ((t.month + 2) // 3, 1), "MM": lambda t: (t.month, 2), "WW": lambda t: ((t.timetuple().tm_yday
    + 6) // 7, 2), "W": lambda t: ((t.day + 6) // 7, 1), "IW": lambda t: (t.isocalendar()[1], 2),
    "DDD": lambda t: (t.timetuple().tm_yday, 3), "DD": lambda t: (t.day, 2), "D": lambda t: (t.isoweekday() % 7 + 1, 1),
    "ID": lambda t: (t.isoweekday(), 1), "HH24": lambda t: (t.hour, 2), "HH12": lambda t: (t.hour % 12 or 12, 2),
    "HH": lambda t: (t.hour % 12 or 12, 2), "MI": lambda t: (t.minute, 2), "SS": lambda t: (t.second, 2),
    "MS": lambda t: (t.microsecond // 1000, 3), "US": lambda t: (t.microsecond, 6),
    "SSSSS": lambda t: (clock_span(t.time()) // dt.timedelta(seconds=1), 1),
    "SSSS": lambda t: (clock_span(t.time()) // dt.timedelta(seconds=1), 1), "IYY": lambda t: (t.isocalendar()[0] % 1000,
    3), "IY": lambda t: (t.isocalendar()[0] % 100, 2), "I": lambda t: (t.isocalendar()[0] % 10, 1),
    "J": lambda t: (t.toordinal() + 1_721_425, 1), "IDDD": lambda t: ((t.isocalendar()[1] - 1) * 7 + t.isoweekday(), 3),
}  # fmt: skip
_WORDS = ("Month", "Mon", "Day", "Dy", "AM", "PM", "A.M.", "P.M.", "BC", "AD", "B.C.", "A.D.")
_UNKNOWN = ("TZH", "TZM", "TZ", "OF", "FX", "TM", "RM", "SP", "Y,YYY", *(f"FF{n}" for n in range(1, 7)))
_FORM = re.compile(
    '"((?:[^"\\\\]|\\\\.)*)"|(FM)?('
    + "|".join(re.escape(name) for name in sorted((*_TOKENS, *_WORDS, *_UNKNOWN), key=len, reverse=True))
    + ")(TH|th)?|(.)",
    re.IGNORECASE | re.DOTALL | re.ASCII,
)


@cache
def _form_parts(form: str) -> tuple[tuple[str, ...], ...]:
    return tuple(tuple(part or "" for part in match.groups()) for match in _FORM.finditer(form))


def to_char(value: object, form: str) -> str | None:
    """A date or time by a form of PostgreSQL's: YYYY, MM, Mon, HH24 and so on; FM leaves out blanks and zeros in front,
    what stands in double quotes is kept. Raises: ValueError for what it has not (TZ, RM, TM)."""
    at, items = as_time(value), []
    for quoted, is_filled, token, ordinal, other in _form_parts(form):
        if not token:
            items.append(other or re.sub(r"\\(.)", r"\1", quoted))
            continue
        name = token.upper()
        if name in _TOKENS:
            number, width = _TOKENS[name](at)
            text = str(number) if is_filled else f"{number:0{width}}"
            tail = {1: "st", 2: "nd", 3: "rd"}.get(number % 10 if number % 100 not in (11, 12, 13) else 0, "th")
            items.append(text + (tail.upper() if ordinal.isupper() else tail) * bool(ordinal))
        elif name in _UNKNOWN:
            raise ValueError(token)
        elif name in _WORDS[4:]:
            half = "ad" if name.replace(".", "") in ("AD", "BC") else "am" if at.hour < 12 else "pm"
            half = f"{half[0]}.{half[1]}." if "." in name else half
            items.append((half.upper() if token[0].isupper() else half) + ordinal)
        else:
            full = _NAMES["month"][at.month - 1] if name.startswith("M") else _NAMES["day"][at.weekday()]
            text = full if name in ("MONTH", "DAY") else full[:3]
            text = text.upper() if token[:2].isupper() else text if token[0].isupper() else text.lower()
            items.append((text if is_filled or (len(name) < 4 and name != "DAY") else f"{text:9}") + ordinal)
    return "".join(items) or None
