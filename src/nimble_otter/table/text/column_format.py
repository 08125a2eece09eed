"""How a column is shown: its heading, the form of its numbers and times, its side, and paint in its cells. What is
delivered keeps every digit."""

from __future__ import annotations

import datetime as dt
import re
from dataclasses import dataclass, fields
from decimal import ROUND_HALF_UP, Decimal
from functools import cache, lru_cache
from typing import Self
from zoneinfo import ZoneInfo

from nimble_otter.entry import Entry
from nimble_otter.errors import ConditionError
from nimble_otter.translation import tr

STYLES = ("", "percent", "bytes", "scientific")
ALIGNS = ("", "left", "centre", "right")
PAINTS = ("", "bars", "scale")
MOST_DECIMALS = 15
_SIZES = ("bytes", "kB", "MB", "GB", "TB", "PB")
_TOKEN = re.compile(r"'((?:[^']|'')*)'|([A-Za-z])\2*|.", re.DOTALL)
MONTHS = ("January", "February", "March", "April", "May", "June", "July", "August", "September", "October",
           "November", "December")  # fmt: skip
DAYS = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")


@dataclass(frozen=True, slots=True)
class ColumnFormat:
    """Empty texts and None stand for what is usual. `groups` are thin spaces between thousands; `pattern` is a date
    pattern of Unicode TS #35 ("yyyy-MM-dd HH:mm"); `zone` an IANA zone that times with a zone are shown in; `words` are
    those for yes and no."""

    title: str = ""
    decimals: int | None = None
    groups: bool | None = None
    style: str = ""
    pattern: str = ""
    zone: str = ""
    words: tuple[str, ...] = ()
    align: str = ""
    paint: str = ""

    def to_plain(self) -> dict[str, object]:
        """As a pull file has it: what is usual is left out."""
        plain = {f.name: getattr(self, f.name) for f in fields(self)}
        plain["words"] = list(self.words)
        return {name: value for name, value in plain.items() if value not in (None, "", [])}

    @classmethod
    def from_plain(cls, plain: Entry) -> Self:
        """Raises: ValueError for what is no look."""
        words, decimals = plain.texts("words"), plain.whole("decimals") if "decimals" in plain else None
        if len(words) not in (0, 2):
            raise ValueError(tr("words of {at} should be two, for yes and no", at=plain.at))
        if decimals is not None and not 0 <= decimals <= MOST_DECIMALS:
            raise ValueError(
                tr("decimals of {at} should be 0 to {most_decimals}", at=plain.at, most_decimals=MOST_DECIMALS)
            )
        return cls(
            plain.text("title", ""), decimals, plain.flag("groups") if "groups" in plain else None,
            plain.word("style", STYLES, ""), plain.text("pattern", ""), plain.text("zone", ""), words,
            plain.word("align", ALIGNS, ""), plain.word("paint", PAINTS, ""),
        )  # fmt: skip

    def check(self, name: str) -> None:
        """Raises: ConditionError where the pattern or the zone says nothing."""
        if self.pattern:
            try:
                time_text(dt.datetime(2031, 5, 28, tzinfo=dt.UTC), self.pattern)
            except ValueError as problem:
                raise ConditionError(f"{name}: {problem}", "Write it like yyyy-MM-dd HH:mm:ss.") from problem
        if self.zone and _zone(self.zone) is None:
            raise ConditionError(
                tr("{name}: there is no time zone {zone}.", name=name, zone=self.zone),
                tr("Write it like Europe/Vienna or UTC."),
            )


PLAIN = ColumnFormat()


@lru_cache(64)
def _zone(key: str) -> ZoneInfo | None:
    try:
        return ZoneInfo(key)
    except (ValueError, OSError, KeyError):
        return None


def in_zone(value: dt.datetime, zone: str) -> dt.datetime:
    """A time with a zone in another one; others as they are."""
    found = _zone(zone) if zone and value.tzinfo is not None else None
    return value.astimezone(found) if found is not None else value


def time_text(value: dt.date | dt.time, pattern: str) -> str:
    """A date or time by a pattern of Unicode TS #35; parts that it has not are zero. Raises: ValueError."""
    if isinstance(value, dt.time):
        value = dt.datetime.combine(dt.date(1970, 1, 1), value)
    elif type(value) is dt.date:
        value = dt.datetime.combine(value, dt.time())
    assert isinstance(value, dt.datetime)
    return "".join(part if is_text else _part(value, part) for part, is_text in pattern_parts(pattern))


@cache
def pattern_parts(pattern: str) -> tuple[tuple[str, bool], ...]:
    """The parts of a date pattern in their order, and whether each is text that stands for itself."""
    results = []
    for match in _TOKEN.finditer(pattern):
        if match[2]:
            results.append((match[0], False))
        else:
            results.append(
                ("'" if match[0] == "''" else match[0] if match[1] is None else match[1].replace("''", "'"), True)
            )
    return tuple(results)


def _part(at: dt.datetime, token: str) -> str:
    letter, width = token[0], len(token)
    if letter == "y":
        return f"{at.year % 100:02}" if width == 2 else f"{at.year:0{width}}"
    if letter in "ML":
        name = MONTHS[at.month - 1]
        return f"{at.month:0{width}}" if width < 3 else name[:3] if width == 3 else name
    if letter in "Ec":
        return DAYS[at.weekday()][:3] if width <= 3 else DAYS[at.weekday()]
    if letter == "S":
        return f"{at.microsecond:06}".ljust(width, "0")[:width]
    if letter == "a":
        return "AM" if at.hour < 12 else "PM"
    if letter in "xXZ":
        offset = at.utcoffset()
        if offset is None or (letter == "X" and not offset):
            return "" if offset is None else "Z"
        minutes = int(offset.total_seconds() // 60)
        return f"{'-' if minutes < 0 else '+'}{abs(minutes) // 60:02}:{abs(minutes) % 60:02}"
    if letter == "z":
        return at.tzname() or ""
    year, week, _ = at.isocalendar()
    numbers = {
        "d": at.day, "D": at.timetuple().tm_yday, "H": at.hour, "h": at.hour % 12 or 12, "m": at.minute, "s": at.second,
        "w": week, "Y": year, "Q": (at.month + 2) // 3,
    }  # fmt: skip
    if letter not in numbers:
        raise ValueError(tr("{token!r} has no meaning in a date pattern.", token=token))
    return f"{numbers[letter]:0{width}}"


def number_text(value: int | float | Decimal, look: ColumnFormat, thin: str) -> str:
    """A finite number by its look; `thin` stands between thousands."""
    if look.style == "bytes":
        return _size_text(float(value), look.decimals)
    if look.style == "scientific":
        return f"{value:.{look.decimals if look.decimals is not None else 3}e}"
    number: int | float | Decimal = value
    if look.style == "percent":
        number = Decimal(repr(value) if isinstance(value, float) else value) * 100
    decimals = look.decimals
    if decimals is not None:
        exact = (
            number if isinstance(number, Decimal) else Decimal(repr(number) if isinstance(number, float) else number)
        )
        text = format(exact.quantize(Decimal(1).scaleb(-decimals), ROUND_HALF_UP), "f") if abs(exact) < 10**20 else ""
        text = text or format(exact, "f")
    elif isinstance(number, Decimal):
        text = format(number.normalize() if look.style == "percent" else number, "f")
    else:
        text = repr(number)
    sign, digits = ("-", text[1:]) if text.startswith("-") else ("", text)
    whole, dot, rest = digits.partition(".")
    if whole.isdigit() and look.groups is not False and "e" not in text:
        whole = f"{int(whole):,}".replace(",", thin)
    return f"{sign}{whole}{dot}{rest}{' %' if look.style == 'percent' else ''}"


def _size_text(value: float, decimals: int | None) -> str:
    index = 0
    while abs(value) >= 1000 and index < len(_SIZES) - 1:
        value, index = value / 1000, index + 1
    return f"{value:.{decimals if decimals is not None else (1 if index else 0)}f} {_SIZES[index]}"
