"""What local expressions can call, as PostgreSQL defines it: each takes Python values and gives one, or None where
there is no such value. Which kinds each takes stands in query/local/meaning.py."""

from __future__ import annotations

import datetime as dt
import math
import operator
import re
import uuid
from collections.abc import Callable
from decimal import ROUND_DOWN, ROUND_HALF_UP, Context, Decimal
from functools import lru_cache
from typing import Any

import numpy as np

from nimble_otter.table.core.columns import MISSING
from nimble_otter.table.ops import dates
from nimble_otter.table.text.patterns import compiled
from nimble_otter.table.text.show import plain
from nimble_otter.values import Value

WIDE = Context(prec=2000)
"""Decimals are never cut: what a server's NUMERIC holds has room."""
_WHOLE = {"smallint": 1 << 15, "integer": 1 << 31, "bigint": 1 << 63}
_TRUTHS = {"true": True, "yes": True, "on": True, "1": True, "false": False, "no": False, "off": False, "0": False}
_ALONE = {"i\u0307": "i"}
"""The one letter that a server makes of one that becomes several."""
_ISO_DAY = re.compile(r"\s*\d{4}-\d\d-\d\d(?:[ T]\s*\d\d:\d\d.*)?\s*", re.ASCII)
_NUMBER = re.compile(r"[+-]?(?:\d+\.?\d*|\.\d+)(?:e[+-]?\d+)?|[+-]?(?:nan|inf(?:inity)?)", re.IGNORECASE)


# --- numbers ---------------------------------------------------------------------------------------------------------


def _pair(a: Value, b: Value) -> tuple[Value, Value]:
    """Two numbers of one kind: doubles where one is, else decimals where one is."""
    if isinstance(a, float) or isinstance(b, float):
        return float(a), float(b)
    if isinstance(a, Decimal) or isinstance(b, Decimal):
        return Decimal(a), Decimal(b)
    return a, b


def _calculated(
    whole: Callable[[Value, Value], Value], wide: Callable[[Value, Value], Value]
) -> Callable[[Value, Value], Value]:
    def calculate(a: object, b: object) -> Value:
        a, b = _pair(a, b)
        return wide(a, b) if isinstance(a, Decimal) else _finite(whole(a, b), a, b)

    return calculate


def _finite(made: Value, *of: Value) -> Value:
    """Raises: OverflowError where a double went beyond what doubles hold."""
    if isinstance(made, float) and math.isinf(made) and all(math.isfinite(v) for v in of):
        raise OverflowError(made)
    return made


def _added(a: Value, b: Value) -> Value:
    if isinstance(a, dt.timedelta) and isinstance(b, dt.timedelta):
        return a + b
    if isinstance(a, (int, dt.timedelta)) and isinstance(b, (dt.date, dt.time)):
        a, b = b, a
    if isinstance(a, dt.time) and isinstance(b, dt.date):
        a, b = b, a
    if isinstance(a, dt.date) and isinstance(b, dt.time):
        return dt.datetime.combine(a, b)
    if isinstance(a, (dt.date, dt.time)):
        return dates.later(a, b)
    return _SUM(a, b)


def _less(a: Value, b: Value) -> Value:
    if isinstance(a, (dt.date, dt.time)):
        if isinstance(b, (dt.date, dt.time)):
            return dates.less(a, b)
        return dates.later(a, -b)
    return a - b if isinstance(a, dt.timedelta) else _DIFFERENCE(a, b)


def _times(a: Value, b: Value) -> Value:
    if isinstance(a, dt.timedelta) or isinstance(b, dt.timedelta):
        span, by = (a, b) if isinstance(a, dt.timedelta) else (b, a)
        return span * (by if isinstance(by, int) else float(by))
    return _PRODUCT(a, b)


def _divided(a: Value, b: Value) -> Value:
    """Whole numbers give a whole number, cut towards zero; decimals as many digits as PostgreSQL keeps."""
    if isinstance(a, dt.timedelta):
        return a / (b if isinstance(b, int) else float(b))
    a, b = _pair(a, b)
    if isinstance(a, Decimal):
        return _decimal_quotient(a, b)
    return _cut_quotient(a, b) if isinstance(a, int) else _finite(a / b, a, b)


def _cut_quotient(a: int, b: int) -> int:
    number = abs(a) // abs(b)
    return number if (a < 0) == (b < 0) else -number


def _decimal_quotient(a: Decimal, b: Decimal) -> Decimal:
    """At least 16 significant digits and those of both numbers, counted in groups of four digits as PostgreSQL's
    select_div_scale (src/backend/utils/adt/numeric.c) does."""
    if not (a.is_finite() and b.is_finite()):
        return WIDE.divide(a, b)
    (first, weight), (second, other) = _leading(a), _leading(b)
    groups = weight - other - (first <= second)
    scale = max(16 - groups * 4, _scale_of(a), _scale_of(b), 0)
    decimal = WIDE.divide(a, b)
    return _quantized(decimal, min(scale, 1000))


def _leading(number: Decimal) -> tuple[int, int]:
    """The first group of four digits that is not zero, and which group before the point it is, from 0."""
    if not number:
        return 0, 0
    group = number.adjusted() // 4
    return int(abs(number).scaleb(-4 * group, WIDE)), group


def _scale_of(number: Decimal) -> int:
    return max(0, -int(number.as_tuple().exponent))


def _quantized(number: Decimal, digits: int, rounding: str = ROUND_HALF_UP) -> Decimal:
    return number.quantize(Decimal(1).scaleb(-digits), rounding, WIDE)


def _remainder(a: Value, b: Value) -> Value:
    """With the sign of the dividend."""
    a, b = _pair(a, b)
    if isinstance(a, Decimal):
        return WIDE.remainder(a, b)
    return math.fmod(a, b) if isinstance(a, float) else a - b * _cut_quotient(a, b)


def rounded(value: Value, digits: int | None = None) -> Value:
    """Halves away from zero; a double without digits to the nearest even number, with digits by its shortest decimal
    form."""
    if isinstance(value, float):
        if digits is None or not math.isfinite(value):
            return float(np.rint(value))
        return float(_quantized(Decimal(repr(value)), digits))
    if isinstance(value, int):
        return value if (digits or 0) >= 0 else int(_quantized(Decimal(value), digits or 0))
    return value if not value.is_finite() else _shown(_quantized(value, digits or 0))


def _shown(number: Decimal) -> Decimal:
    """Without the exponent that rounding before the point leaves."""
    return number if int(number.as_tuple().exponent) <= 0 else number.quantize(Decimal(1), context=WIDE)


def _truncated(value: Value, digits: int = 0) -> Value:
    if isinstance(value, int) and digits >= 0:
        return value
    if isinstance(value, float) and not digits:
        return _as_whole(np.trunc(value))
    if isinstance(value, float):
        return float(_quantized(Decimal(repr(value)), digits, ROUND_DOWN)) if math.isfinite(value) else value
    made = _shown(_quantized(Decimal(value), digits, ROUND_DOWN)) if Decimal(value).is_finite() else value
    return int(made) if isinstance(value, int) else made


def _stepped(by: Callable[[Value], Value], rounding: str) -> Callable[[Value], Value]:
    def step(value: object) -> Value:
        if isinstance(value, Decimal):
            return value.to_integral_value(rounding, WIDE) if value.is_finite() else value
        return value if isinstance(value, int) else _as_whole(by(value))

    return step


def _as_whole(number: Value) -> Value:
    """A double that is whole, as a whole number where each is one."""
    return int(number) if abs(number) < 1 << 53 else float(number)


def _power(a: Value, b: Value) -> float:
    base, by = float(a), float(b)
    if base < 0 and math.isfinite(base) and math.isfinite(by) and b != int(b):
        raise ValueError(b)
    return float(_finite(math.pow(base, by), base, by))


def _logarithm(a: Value, b: Value = None) -> float:
    return math.log10(a) if b is None else math.log(b) / math.log(a)


_SUM = _calculated(operator.add, WIDE.add)
_DIFFERENCE = _calculated(operator.sub, WIDE.subtract)
_PRODUCT = _calculated(operator.mul, WIDE.multiply)


# --- texts -----------------------------------------------------------------------------------------------------------


def _cased(text: str, change: Callable[[str], str]) -> str:
    """Letter by letter, as the server does: one that would become several stays."""
    if text.isascii():
        return change(text)
    return "".join(made if len(made := change(letter)) == 1 else _ALONE.get(made, letter) for letter in text)


def _initials(text: str) -> str:
    letters, starts = [], True
    for letter in text:
        letters.append(_cased(letter, str.upper if starts else str.lower))
        starts = not letter.isalnum()
    return "".join(letters)


def _substring(text: str, start: int, length: int | None = None) -> str:
    """From the character at `start`, counted from 1 (ISO 9075). Raises: ValueError for a length below 0."""
    if length is not None and length < 0:
        raise ValueError(length)
    end = len(text) + 1 if length is None else start + length
    return text[max(0, start - 1) : max(0, end - 1)]


def _split(text: str, between: str, place: int) -> str:
    parts = text.split(between) if between else [text]
    if not place:
        raise ValueError(place)
    at = place - 1 if place > 0 else len(parts) + place
    return parts[at] if text and 0 <= at < len(parts) else ""


def _padded(is_left: bool) -> Callable[..., str]:
    def pad(text: str, length: int, fill: str = " ") -> str:
        length = max(length, 0)
        if length > 1 << 24:
            raise ValueError(length)
        more = (fill * (length // len(fill) + 1))[: max(0, length - len(text))] if fill else ""
        return more + text[:length] if is_left else text[:length] + more

    return pad


def _repeated(text: str, count: int) -> str:
    if len(text) * count > 1 << 26:
        raise ValueError(count)
    return text * count


def _overlaid(text: str, new: str, start: int, length: int | None = None) -> str:
    length = len(new) if length is None else length
    if start < 1:
        raise ValueError(start)
    return text[: start - 1] + new + text[max(0, start - 1 + length) :]


@lru_cache(256)
def _pattern(pattern: str, flags: str) -> Value:
    return compiled(pattern, "i" not in flags)


def _substituted(text: str, pattern: str, new: str, flags: str = "") -> str:
    """The first match, or all with the flag g, in another text, in which \\1 and \\& stand for what was found."""
    found = _pattern(pattern, flags)

    def put(match: Value) -> str:
        return re.sub(r"\\([0-9&\\])", lambda m: "\\" if m[1] == "\\" else
                      match.group(0 if m[1] == "&" else int(m[1])) or "", new)  # fmt: skip

    return str(found.sub(put, text, 0 if "g" in flags else 1))


def _out(value: object) -> str:
    """A value as CONCAT writes it: a yes or no by its letter."""
    return {True: "t", False: "f"}[value] if isinstance(value, bool) else as_text(value)


def as_text(value: object) -> str:
    """CAST to text, as PostgreSQL writes values: doubles with the shortest digits, times without zeros at their end;
    intervals in hours."""
    if isinstance(value, float):
        return float_text(value)
    if isinstance(value, dt.datetime):
        zone = "" if value.tzinfo is None else "+00"
        moment = value if value.tzinfo is None else value.astimezone(dt.UTC).replace(tzinfo=None)
        return _short(moment.isoformat(" ")) + zone
    return _short(value.isoformat()) if isinstance(value, dt.time) else plain(value)


def _short(text: str) -> str:
    return text.rstrip("0") if "." in text else text


def float_text(value: float) -> str:
    """A double with the fewest digits that give it again, with an exponent from 10^15 on and below 0.0001."""
    if not math.isfinite(value):
        return "NaN" if value != value else "Infinity" if value > 0 else "-Infinity"
    number = Decimal(repr(value)).normalize()
    if not number or -5 < number.adjusted() < 15:
        return format(number, "f")
    mantissa = format(number.scaleb(-number.adjusted()), "f")
    return f"{mantissa}e{number.adjusted():+03}"


# --- casts -----------------------------------------------------------------------------------------------------------


def as_kind(value: object, kind: str, size: int | None = None, scale: int = 0) -> Value:
    """CAST: a value as another type (see query/meaning.CASTS); `size` are the letters of a text or the digits of a
    decimal, `scale` those behind its point. Raises: ValueError, ArithmeticError, KeyError."""
    return _CASTS[kind](value) if kind in _CASTS else _sized(value, kind, size, scale)


def _sized(value: object, kind: str, size: int | None, scale: int) -> Value:
    if kind == "text":
        return as_text(value)[:size]
    if kind in _WHOLE:
        count = _as_integer(value)
        if not -_WHOLE[kind] <= count < _WHOLE[kind]:
            raise OverflowError(count)
        return count
    number = _as_decimal(value)
    if size is not None and number.is_infinite():
        raise OverflowError(number)
    if size is not None and number.is_finite():
        number = _quantized(number, scale)
        if number and number.adjusted() >= size - scale:
            raise OverflowError(number)
    return number


def _as_integer(value: Value) -> int:
    if isinstance(value, str):
        if not re.fullmatch(r"\s*[+-]?\d+\s*", value, re.ASCII):
            raise ValueError(value)
        return int(value)
    if isinstance(value, float):
        return int(np.rint(value)) if math.isfinite(value) else int(value)
    return int(value.to_integral_value(ROUND_HALF_UP, WIDE)) if isinstance(value, Decimal) else int(value)


def _as_decimal(value: Value) -> Decimal:
    if isinstance(value, str):
        return Decimal(_number_text(value))
    return Decimal(f"{value:.15g}") if isinstance(value, float) else Decimal(value)


def _number_text(text: str) -> str:
    value = text.strip()
    if not _NUMBER.fullmatch(value) or not value.isascii():
        raise ValueError(text)
    return value


def _as_double(value: Value) -> float:
    number = float(_number_text(value) if isinstance(value, str) else value)
    is_endless = isinstance(value, float) or str(value).strip(" +-").lower().startswith("inf")
    return number if is_endless else _finite(number)


def _as_real(value: object) -> float:
    double = _as_double(value)
    with np.errstate(over="ignore"):
        number = float(np.float32(double))
    return float(_finite(number, double))


def _as_bool(value: object) -> bool:
    if not isinstance(value, str):
        return bool(value)
    word = value.strip().lower()
    found = {truth for name, truth in _TRUTHS.items() if word and name.startswith(word)}
    if len(found) != 1:  # "o" may be on and off
        raise ValueError(value)
    return found.pop()


def _as_moment(value: object) -> dt.datetime:
    return _from_iso(value).replace(tzinfo=None) if isinstance(value, str) else dates.as_time(value)


def _from_iso(text: str) -> dt.datetime:
    if not _ISO_DAY.fullmatch(text):
        raise ValueError(text)
    return dt.datetime.fromisoformat(text.strip())


def _as_zoned(value: object) -> dt.datetime:
    moment = _from_iso(value) if isinstance(value, str) else value
    moment = moment if isinstance(moment, dt.datetime) else dates.as_time(moment)
    return moment.replace(tzinfo=dt.UTC) if moment.tzinfo is None else moment.astimezone(dt.UTC)


def _as_clock(value: object) -> dt.time:
    if isinstance(value, str):
        if ":" not in value:
            raise ValueError(value)
        return dt.time.fromisoformat(value.strip()).replace(tzinfo=None)
    if isinstance(value, dt.timedelta):
        return (dates.EPOCH + value % dt.timedelta(days=1)).time()
    return value if isinstance(value, dt.time) else dates.as_time(value).time()


def _as_span(value: Value) -> dt.timedelta:
    if isinstance(value, str):
        months, span = dates.parse_interval(value)
        if months:
            raise ValueError(value)
        return span
    return value if isinstance(value, dt.timedelta) else dates.clock_span(value)


_CASTS: dict[str, Callable[[Any], Any]] = {
    "double": _as_double, "real": _as_real,
    "bool": _as_bool, "date": lambda v: _as_moment(v).date(), "time": _as_moment, "zoned": _as_zoned,
    "clock": _as_clock, "span": _as_span, "uuid": lambda v: str(uuid.UUID(str(v).strip())),
}  # fmt: skip


# --- which value -----------------------------------------------------------------------------------------------------


def known(values: tuple[object, ...]) -> list[Value]:
    """Whether the local language has a function of that name."""
    return [v for v in values if v is not None and v is not MISSING]


def ordered(value: object) -> Value:
    """What puts values of a kind in order: NaN comes last, a time with a zone by its moment."""
    if isinstance(value, (float, Decimal)):
        return (value != value, 0 if value != value else value)
    if isinstance(value, bool) or not isinstance(value, (int, dt.date)):
        return value
    return (False, value) if isinstance(value, int) else dates.as_time(value)


FUNCTIONS: dict[str, Callable[..., Any]] = {
    "+": _added, "-": _less, "*": _times, "/": _divided, "%": _remainder,
    "neg": lambda v: v.copy_negate() if isinstance(v, Decimal) and v else -v if not isinstance(v, Decimal) else v,
    "abs": lambda v: v.copy_abs() if isinstance(v, Decimal) else abs(v), "round": rounded,
    "ceil": _stepped(np.ceil, "ROUND_CEILING"), "floor": _stepped(np.floor, "ROUND_FLOOR"), "trunc": _truncated,
    "sqrt": lambda v: math.sqrt(v), "power": _power,
    "ln": lambda v: math.log(v), "exp": lambda v: math.exp(v), "log": _logarithm,
    "sign": lambda v: (v > 0) - (v < 0),
    "lower": lambda t: _cased(t, str.lower), "upper": lambda t: _cased(t, str.upper), "initcap": _initials,
    "trim": lambda t, chars=" ": t.strip(chars) if chars else t,
    "ltrim": lambda t, chars=" ": t.lstrip(chars) if chars else t,
    "rtrim": lambda t, chars=" ": t.rstrip(chars) if chars else t, "length": len,
    "substring": _substring, "left": lambda t, n: t[:n], "right": lambda t, n: t[-n:] if n else "",
    "replace": lambda t, old, new: t.replace(old, new) if old else t, "position": lambda t, part: t.find(part) + 1,
    "split_part": _split, "reverse": lambda t: t[::-1], "||": lambda a, b: as_text(a) + as_text(b),
    "lpad": _padded(True), "rpad": _padded(False), "repeat": _repeated, "overlay": _overlaid,
    "starts_with": lambda t, begin: t.startswith(begin), "regexp_replace": _substituted,
    "extract": dates.part_of, "date_trunc": dates.cut, "days": dates.days_between, "moved": dates.moved,
    "in_zone": dates.in_zone, "cast": as_kind, "to_char": dates.to_char,
}  # fmt: skip
"""Give NULL of NULL: they are not called where an argument is none."""
TOLERANT: dict[str, Callable[..., Any]] = {
    "coalesce": lambda *values: next(iter(known(values)), None),
    "greatest": lambda *values: max(known(values), default=None, key=ordered),
    "least": lambda *values: min(known(values), default=None, key=ordered),
    "nullif": lambda a, b: None if a is not None and b is not None and ordered(a) == ordered(b) else a,
    "concat": lambda *values: "".join(map(_out, known(values))),
    "concat_ws": lambda between, *values: None if between is None else _out(between).join(map(_out, known(values))),
}
"""Take NULL as an argument."""
