"""What local expressions can call: each takes Python values and gives one, or None where there is no such value."""

from __future__ import annotations

import calendar
import datetime as dt
import math
import operator
from collections.abc import Callable
from decimal import ROUND_HALF_UP, Decimal
from typing import Any

from nimble_otter.table.columns import MISSING
from nimble_otter.table.show import plain

_UNITS = ("microsecond", "millisecond", "second", "minute", "hour", "day", "week", "month", "quarter", "year")


MONTHS = {"month": 1, "quarter": 3, "year": 12}
"""How many months a unit has."""


def _arithmetic(whole: Callable[[Any, Any], Any]) -> Callable[[Any, Any], Any]:
    def calculate(a: Any, b: Any) -> Any:
        if isinstance(a, Decimal) and isinstance(b, (float, dt.timedelta)):
            a = float(a)
        elif isinstance(a, (float, dt.timedelta)) and isinstance(b, Decimal):
            b = float(b)
        if isinstance(b, dt.timedelta) and type(a) is dt.date:
            a = as_time(a)
        return whole(a, b)

    return calculate


def _divided(a: Any, b: Any) -> Any:
    return Decimal(a) / Decimal(b) if isinstance(a, int) and isinstance(b, int) else a / b


def _less(a: Any, b: Any) -> Any:
    """Numbers, or the days between two times."""
    if isinstance(a, dt.date) and isinstance(b, dt.date):
        return days_between(a, b)
    return operator.sub(a, b)


def as_time(value: Any) -> dt.datetime:
    if isinstance(value, dt.datetime):
        return value
    if isinstance(value, dt.date):
        return dt.datetime.combine(value, dt.time())
    return dt.datetime.fromisoformat(str(value).strip())


def _without_zone(value: Any) -> dt.datetime:
    """A time, in UTC where it has a zone."""
    moment = as_time(value)
    return moment if moment.tzinfo is None else moment.astimezone(dt.UTC).replace(tzinfo=None)


def days_between(later: Any, earlier: Any) -> Any:
    """Days from one to the other: whole ones of dates, with a fraction of times."""
    if type(later) is dt.date and type(earlier) is dt.date:
        return (later - earlier).days
    return (_without_zone(later) - _without_zone(earlier)) / dt.timedelta(days=1)


def moved(value: Any, count: int, unit: str) -> Any:
    """A date or time so many units later; the last of a month stays in its month."""
    if unit in MONTHS:
        months = value.year * 12 + value.month - 1 + count * MONTHS[unit]
        year, month = divmod(months, 12)
        day = min(value.day, calendar.monthrange(year, month + 1)[1])
        return value.replace(year=year, month=month + 1, day=day)
    step = dt.timedelta(**{f"{unit}s": count}) if unit != "week" else dt.timedelta(days=7 * count)
    if type(value) is dt.date and unit not in ("day", "week"):
        value = as_time(value)
    return value + step


def cut(unit: str, value: Any) -> dt.datetime:
    """The beginning of the unit that a time is in; weeks begin on Monday (ISO 8601)."""
    if unit not in _UNITS:
        raise ValueError(unit)
    at = as_time(value)
    if unit == "week":
        at, unit = at - dt.timedelta(days=at.weekday()), "day"
    if unit == "quarter":
        at, unit = at.replace(day=1, month=(at.month - 1) // 3 * 3 + 1), "month"
    parts = ("year", "month", "day", "hour", "minute", "second", "microsecond")
    rest: dict[str, Any] = {p: 1 if p in ("month", "day") else 0 for p in parts[parts.index(unit) + 1 :]}
    return at.replace(**rest)


def part_of(part: str, value: Any) -> Any:
    """A part of a time, as EXTRACT names it (ISO 9075)."""
    if part == "quarter":
        return (value.month - 1) // 3 + 1
    if part == "week":
        return value.isocalendar()[1]
    if part in ("dow", "isodow"):
        return value.isoweekday() % 7 if part == "dow" else value.isoweekday()
    if part == "doy":
        return value.timetuple().tm_yday
    if part == "epoch":
        if isinstance(value, dt.timedelta):
            return value / dt.timedelta(seconds=1)
        return (_without_zone(value) - dt.datetime(1970, 1, 1)) / dt.timedelta(seconds=1)
    return getattr(value, part)


def rounded(value: Any, digits: int = 0) -> Any:
    """Halves away from zero, as SQL servers round decimals; a number that is a double stays one."""
    if isinstance(value, int):
        return int(Decimal(value).quantize(Decimal(1).scaleb(-digits), ROUND_HALF_UP)) if digits < 0 else value
    if isinstance(value, float):
        return (
            float(Decimal(repr(value)).quantize(Decimal(1).scaleb(-digits), ROUND_HALF_UP))
            if math.isfinite(value)
            else value
        )
    return value.quantize(Decimal(1).scaleb(-digits), ROUND_HALF_UP)


def as_kind(value: Any, kind: str) -> Any:
    """CAST: a value as text, whole number, number, decimal, yes/no, date or time. Raises: ValueError."""
    if kind == "text":
        return plain(value)
    if kind == "time":
        return as_time(value)
    if kind == "date":
        return as_time(value).date()
    if kind == "bool":
        if isinstance(value, str):
            return {"true": True, "yes": True, "1": True, "false": False, "no": False, "0": False}[
                value.strip().lower()
            ]
        return bool(value)
    number = value.strip() if isinstance(value, str) else value
    if kind == "integer":
        return int(rounded(Decimal(str(number)))) if not isinstance(number, (int, bool)) else int(number)
    return float(number) if kind == "number" else Decimal(str(number))


def _substring(text: str, start: int, length: int | None = None) -> str:
    """From the character at `start`, counted from 1 (ISO 9075)."""
    end = len(text) + 1 if length is None else start + length
    return text[max(0, start - 1) : max(0, end - 1)]


def _split(text: str, between: str, place: int) -> str:
    parts = text.split(between)
    return parts[place - 1] if 0 < place <= len(parts) else ""


def known(values: tuple[Any, ...]) -> list[Any]:
    return [v for v in values if v is not None and v is not MISSING]


FUNCTIONS: dict[str, Callable[..., Any]] = {
    "+": _arithmetic(operator.add), "-": _arithmetic(_less), "*": _arithmetic(operator.mul), "/": _arithmetic(_divided),
    "%": _arithmetic(lambda a, b: math.fmod(a, b) if isinstance(a, float) else a % b), "neg": operator.neg, "abs": abs,
    "round": rounded, "ceil": math.ceil, "floor": math.floor, "trunc": math.trunc,
    "sqrt": lambda v: math.sqrt(v), "power": lambda a, b: float(a) ** float(b), "ln": lambda v: math.log(v),
    "exp": lambda v: math.exp(v), "sign": lambda v: (v > 0) - (v < 0),
    "lower": lambda text: text.lower(), "upper": lambda text: text.upper(), "trim": lambda text: text.strip(),
    "ltrim": lambda text: text.lstrip(), "rtrim": lambda text: text.rstrip(), "length": len,
    "substring": _substring, "left": lambda text, n: text[:n], "right": lambda text, n: text[-n:] if n else "",
    "replace": lambda text, old, new: text.replace(old, new), "position": lambda text, part: text.find(part) + 1,
    "split_part": _split, "reverse": lambda text: text[::-1], "||": lambda a, b: plain(a) + plain(b),
    "year": lambda time: time.year, "month": lambda time: time.month, "day": lambda time: time.day,
    "extract": part_of, "date_trunc": cut, "days": days_between, "moved": moved, "cast": as_kind,
    "to_char": lambda time, form: time.strftime(form),
}  # fmt: skip
"""Give NULL of NULL: they are not called where an argument is none."""
TOLERANT: dict[str, Callable[..., Any]] = {
    "coalesce": lambda *values: next(iter(known(values)), None),
    "greatest": lambda *values: max(known(values), default=None),
    "least": lambda *values: min(known(values), default=None),
    "nullif": lambda a, b: None if a is not None and a == b else a,
    "concat": lambda *values: "".join(plain(v) for v in known(values)),
}
"""Take NULL as an argument."""
