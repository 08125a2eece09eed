"""Reading what was typed as its column is shown: times by their pattern, percentages, the words for yes and no. The way
back of `column_format`; what is read is text that any column of the kind takes."""

from __future__ import annotations

import datetime as dt
import re
from decimal import Decimal, InvalidOperation

from nimble_otter.table.core.columns import Kind
from nimble_otter.table.text.column_format import DAYS, MONTHS, ColumnFormat, in_zone, pattern_parts, time_text

_DIGITS = {"d": "day", "H": "hour", "m": "minute", "s": "second", "h": "half", "M": "month", "L": "month"}
_TIMES = (Kind.TIME, Kind.DATE, Kind.ZONED, Kind.CLOCK)
_PARTS = ("year", "month", "day", "hour", "minute", "second", "microsecond")
_OFFSET = r"(?P<offset>Z|[+-]\d\d:\d\d)"


def as_typed(text: str, look: ColumnFormat, kind: Kind, before: object = None) -> str:
    """`text` as a value without a look is typed: ISO 8601 for times, yes or no, a number. What the pattern leaves out
    (the year, the seconds) is as it is in `before`, the value that stands there; where none does, it is nothing or
    the text comes back as it is. A text that is not written by the look comes back as it is, too."""
    if kind is Kind.BOOL and len(look.words) == 2 and text.strip() in look.words:
        return "yes" if text.strip() == look.words[0] else "no"
    if kind.is_number and look.style == "percent" and text.strip().endswith("%"):
        try:
            return format(Decimal(re.sub(r"[\s\u2009]", "", text.strip()[:-1])) / 100, "f")
        except InvalidOperation:
            return text
    moment = _by_pattern(text.strip(), look, before) if look.pattern and kind in _TIMES else None
    return text if moment is None else moment


def _by_pattern(text: str, look: ColumnFormat, before: object) -> str | None:
    expression = _expression(look.pattern)
    match = re.fullmatch(expression, text, re.IGNORECASE) if expression else None
    if match is None:
        return None
    given = {name: said for name, said in match.groupdict().items() if said is not None}
    if isinstance(before, dt.datetime):
        base: dt.datetime | None = in_zone(before, look.zone)
    elif isinstance(before, dt.time):
        base = dt.datetime.combine(dt.date(1970, 1, 1), before)
    else:
        base = dt.datetime.combine(before, dt.time()) if isinstance(before, dt.date) else None
    parts = _numbers(given, base)
    is_dated = base is not None or {"year", "month", "day"} <= parts.keys()
    if not is_dated and not (isinstance(before, dt.time) or _is_clock(look.pattern)):
        return None
    start = base.replace(tzinfo=None) if base is not None else dt.datetime(1970, 1, 1)
    try:
        moment = dt.datetime(*(parts.get(name, getattr(start, name)) for name in _PARTS))
    except ValueError:
        return None
    if "weekday" in given and DAYS[moment.weekday()][:3].casefold() != given["weekday"][:3].casefold():
        return None
    if isinstance(before, dt.time) or not is_dated:
        return moment.time().isoformat()
    if not isinstance(before, dt.datetime) and (type(before) is dt.date or not _has(look.pattern, "HhmsS")):
        return moment.date().isoformat()
    offset = given.get("offset", "").upper().replace("Z", "+00:00")
    return moment.isoformat(" ") + offset


def _numbers(given: dict[str, str], base: dt.datetime | None) -> dict[str, int]:
    """What a text says of each part of a time."""
    parts = {name: int(said) for name, said in given.items() if said.isdecimal() and name != "half"}
    if "short" in parts:
        parts["year"] = (base.year if base is not None else 2000) // 100 * 100 + parts.pop("short")
    if "named" in given:
        parts["month"] = [name[:3].casefold() for name in MONTHS].index(given["named"][:3].casefold()) + 1
    if "half" in given:
        late = (
            given["half_of_day"].casefold() == "pm" if "half_of_day" in given else base is not None and base.hour > 11
        )
        parts["hour"] = int(given["half"]) % 12 + (12 if late else 0)
    if "fraction" in given:
        parts.pop("fraction")
        parts["microsecond"] = int(given["fraction"].ljust(6, "0")[:6])
    return parts


def _has(pattern: str, letters: str) -> bool:
    return any(not is_text and part[0] in letters for part, is_text in pattern_parts(pattern))


def _is_clock(pattern: str) -> bool:
    return _has(pattern, "Hh") and not _has(pattern, "yMLdE")


def _expression(pattern: str) -> str:
    """The regular expression of what a pattern shows; "" where that does not tell a time (weeks, quarters, names of
    zones)."""
    text, known = "", set[str]()
    for part, is_text in pattern_parts(pattern):
        piece = re.sub(r"\\?\s+", r"\\s+", re.escape(part)) if is_text else _piece(part[0], len(part))
        if not piece:
            return ""
        name = re.match(r"\(\?P<(\w+)>", piece)
        if name and name[1] in known:
            return ""
        known |= {name[1]} if name else set()
        text += piece
    return text


def _piece(letter: str, width: int) -> str:
    if letter == "y":
        return r"(?P<short>\d\d)" if width == 2 else r"(?P<year>\d{1,4})"
    if letter in "ML" and width > 2:
        return _named("named", MONTHS, width)
    if letter in "Ec":
        return _named("weekday", DAYS, width)
    if letter == "S":
        return rf"(?P<fraction>\d{{1,{min(width, 6)}}})"
    if letter == "a":
        return "(?P<half_of_day>AM|PM)"
    if letter in "xXZ":
        return _OFFSET
    return rf"(?P<{_DIGITS[letter]}>\d{{1,2}})" if letter in _DIGITS else ""


def _named(group: str, names: tuple[str, ...], width: int) -> str:
    return f"(?P<{group}>{'|'.join(name[:3] if width <= 3 else name for name in names)})"


def is_as_shown(text: str, value: object, look: ColumnFormat) -> bool:
    """Whether a text is what a time's pattern shows of it, so that nothing was changed."""
    if not look.pattern or not isinstance(value, (dt.date, dt.time)):
        return False
    shown = in_zone(value, look.zone) if isinstance(value, dt.datetime) else value
    return time_text(shown, look.pattern) == text
