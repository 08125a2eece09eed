"""Dates, times and intervals as PostgreSQL writes them, many at a time: what no column of times can hold (infinity,
years before 1 and after 9999, months, 24:00) is kept as the server's text (`EncodeDateOnly`, `EncodeDateTime` and
`EncodeInterval` of its datetime.c, ISO and INTSTYLE_POSTGRES)."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from nimble_otter.table.core.columns import DAY_US, Mask
from nimble_otter.table.core.parts import TextPart

Numbers = NDArray[np.int64]
FROM_1970 = 10_957
"""Days from 1970 to 2000, which is where the server counts from."""


class _Letters:
    """Lines of text under construction, a column of letters at a time; 0 where a line has none there."""

    def __init__(self, rows: int) -> None:
        self._rows = rows
        self._columns: list[NDArray[np.uint8]] = []

    def add(self, letters: str, where: Mask) -> None:
        """The same letters, in the lines where they stand."""
        if not where.any():
            return
        self._columns += [np.where(where, np.uint8(ord(letter)), np.uint8(0)) for letter in letters]

    def number(self, values: Numbers, least: int, most: int, where: Mask) -> None:
        """Numbers of at least and at most so many digits."""
        if not where.any():
            return
        largest = int(values.max(where=where, initial=0))
        for index in range(min(most, max(least, len(str(largest)))) - 1, -1, -1):
            digits = values // 10**index % 10 + 48
            shown = where if index < least else where & (values >= 10**index)
            self._columns.append(np.where(shown, digits, 0).astype(np.uint8))

    def clock(self, micros: Numbers, where: Mask) -> None:
        """Hours of any number, minutes, seconds, and what is left of the second without zeros at its end."""
        seconds, rest = np.divmod(micros, 1_000_000)
        self.number(seconds // 3600, 2, 10, where)
        self.add(":", where)
        self.number(seconds // 60 % 60, 2, 2, where)
        self.add(":", where)
        self.number(seconds % 60, 2, 2, where)
        self.add(".", where & (rest != 0))
        for index in range(6 if rest.any() else 0):
            self.number(rest // 10 ** (5 - index) % 10, 1, 1, where & (rest % 10 ** (6 - index) != 0))

    def part(self, empty: Mask | None) -> TextPart:
        """The lines as texts."""
        matrix = np.stack(self._columns, axis=1) if self._columns else np.zeros((self._rows, 0), np.uint8)
        held = matrix != 0
        if empty is not None:
            held[empty] = False
        sizes = held.sum(axis=1, dtype=np.int64)
        return TextPart(np.append(matrix[held], np.zeros(8, np.uint8)), np.cumsum(sizes) - sizes, sizes, empty)


def dates(days: Numbers, is_before: Mask, is_after: Mask, empty: Mask | None) -> TextPart:
    """Days since 1970; `is_before` and `is_after` all others: minus infinity and infinity."""
    lines = _Letters(len(days))
    _day(lines, days, is_before, is_after)
    _era(lines, days, is_before | is_after)
    return lines.part(empty)


def moments(days: Numbers, rest: Numbers, tail: str, ends: tuple[Mask, Mask], empty: Mask | None) -> TextPart:
    """Days since 1970 and microseconds of the day, the zone `tail` behind them; `ends` as in `dates`."""
    lines = _Letters(len(days))
    _day(lines, days, *ends)
    is_known = ~(ends[0] | ends[1])
    lines.add(" ", is_known)
    lines.clock(rest, is_known)
    lines.add(tail, is_known)
    _era(lines, days, ~is_known)
    return lines.part(empty)


def clocks(micros: Numbers, empty: Mask | None) -> TextPart:
    """Microseconds since midnight."""
    lines = _Letters(len(micros))
    lines.clock(micros, np.ones(len(micros), np.bool_))
    return lines.part(empty)


def intervals(months: Numbers, days: Numbers, rest: Numbers, empty: Mask | None) -> TextPart:
    """Months, days and microseconds. A part above zero behind one below zero has its sign."""
    lines = _Letters(len(months))
    least, most = np.iinfo(np.int32).min, np.iinfo(np.int32).max
    is_before = (months == least) & (days == least) & (rest == np.iinfo(np.int64).min)
    is_after = (months == most) & (days == most) & (rest == np.iinfo(np.int64).max)
    lines.add("-", is_before)
    lines.add("infinity", is_before | is_after)
    known = ~(is_before | is_after)
    size = np.abs(months)
    sign = np.where(months < 0, -1, 1)
    begun, was_below = np.zeros(len(months), np.bool_), np.zeros(len(months), np.bool_)
    for value, unit in ((sign * (size // 12), "year"), (sign * (size % 12), "mon"), (days, "day")):
        here = known & (value != 0)
        lines.add(" ", here & begun)
        lines.add("+", here & was_below & (value > 0))
        lines.add("-", here & (value < 0))
        lines.number(np.abs(value), 1, 10, here)
        lines.add(f" {unit}", here)
        lines.add("s", here & (value != 1))
        begun, was_below = begun | here, np.where(here, value < 0, was_below)
    here = known & ((rest != 0) | ~begun)
    lines.add(" ", here & begun)
    lines.add("-", here & (rest < 0))
    lines.add("+", here & (rest >= 0) & was_below)
    lines.clock(np.abs(rest), here)
    return lines.part(empty)


def _day(lines: _Letters, days: Numbers, is_before: Mask, is_after: Mask) -> None:
    lines.add("-", is_before)
    lines.add("infinity", is_before | is_after)
    known = ~(is_before | is_after)
    moment = np.where(known, days, 0).astype("M8[D]")
    month = moment.astype("M8[M]")
    year = _years(days, known)
    lines.number(np.where(year > 0, year, 1 - year), 4, 7, known)
    lines.add("-", known)
    lines.number(month.astype(np.int64) % 12 + 1, 2, 2, known)
    lines.add("-", known)
    lines.number((moment - month.astype("M8[D]")).astype(np.int64) + 1, 2, 2, known)


def _era(lines: _Letters, days: Numbers, is_endless: Mask) -> None:
    lines.add(" BC", ~is_endless & (_years(days, ~is_endless) <= 0))


def _years(days: Numbers, known: Mask) -> Numbers:
    found: Numbers = np.where(known, days, 0).astype("M8[D]").astype("M8[Y]").astype(np.int64) + 1970
    return found


def split_moments(micros: Numbers) -> tuple[Numbers, Numbers]:
    """Days and microseconds of the day of moments that are counted from 2000, whatever their size."""
    days, rest = np.divmod(micros, DAY_US)
    return days + FROM_1970, rest
