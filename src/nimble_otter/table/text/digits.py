"""Whether numbers and times hold a few digits in a row, told by arithmetic and small tables rather than by writing them
as text, which takes several times as long."""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from nimble_otter.table.core.columns import Mask
from nimble_otter.values import Stored

MOST = 3
"""Digits that are looked for here."""
MOST_DECIMALS = 4
"""Digits behind the point of decimals, to which they are looked for here."""
_WIDE = 4
_DAY_S = 86_400
_DAY_US = _DAY_S * 1_000_000
_BLOCK = 8192
_EXACT = 10**15
"""Below it no two decimals of three places are the same double."""


@lru_cache(64)
def _table(needle: str, width: int) -> Mask:
    """Which numbers of so many digits, with zeros before them, hold the digits."""
    numbers, size = np.arange(10**width), len(needle)
    held = np.zeros(len(numbers), np.bool_)
    for index in range(width - size + 1):
        held |= numbers // 10**index % 10**size == int(needle)
    return held


@lru_cache(16)
def _seconds(needle: str) -> Mask:
    """Which seconds of a day hold the digits, written as hours, minutes and seconds apart."""
    pairs, second = _pairs(needle), np.arange(_DAY_S)
    return pairs[second // 3600] | pairs[second // 60 % 60] | pairs[second % 60]


@lru_cache(16)
def _thousandths(needle: str) -> Mask:
    """Which thousandths hold the digits, written without zeros behind ("5" for 500, "0" for none)."""
    return np.array([needle in (f"{n:03}".rstrip("0") or "0") for n in range(1000)], np.bool_)


def _pairs(needle: str) -> Mask:
    return _table(needle, 2) if len(needle) <= 2 else np.zeros(100, np.bool_)


def are_few(needle: str) -> bool:
    """Whether the times can be told; and numbers, but with a zero first, for the zeros before short ones."""
    return 0 < len(needle) <= MOST and needle.isascii() and needle.isdigit()


def in_wholes(values: NDArray[np.int64], needle: str) -> Mask:
    """Which whole numbers hold the digits: several of theirs are looked up at once, with steps that leave no gap."""
    table, step = _table(needle, _WIDE), 10 ** (_WIDE - len(needle) + 1)
    return _in_blocks(values, lambda block: _in_wholes(block, table, step))


def _in_wholes(values: NDArray[np.int64], table: Mask, step: int) -> Mask:
    rest: NDArray[Any] = np.abs(values).view(np.uint64)  # right for the least number too
    most = int(rest.max())
    rest = rest.astype(np.uint32) if most < 1 << 32 else rest
    kind, held = rest.dtype.type, np.zeros(len(values), np.bool_)
    while most:
        upper = rest // kind(10**_WIDE)
        held |= table.take((rest - upper * kind(10**_WIDE)).astype(np.int64))
        rest, most = rest // kind(step), most // step
    return held


def _in_blocks(values: Stored, work: Callable[[Stored], Mask]) -> Mask:
    """What is made of one block stays in the cache of the processor for the next step."""
    if len(values) <= _BLOCK:
        return work(values) if len(values) else np.zeros(0, np.bool_)
    return np.concatenate([work(values[start : start + _BLOCK]) for start in range(0, len(values), _BLOCK)])


def in_days(days: NDArray[np.int64], needle: str) -> Mask:
    """Which days, counted from 1970 and of the years 1 to 9999, hold the digits in their year, month or day."""
    if not len(days):
        return np.zeros(0, np.bool_)
    first, last = int(days.min()), int(days.max())
    is_dense = last - first < len(days)
    held: Mask = _days(np.arange(first, last + 1), needle).take(days - first) if is_dense else _days(days, needle)
    return held


def _days(days: NDArray[np.int64], needle: str) -> Mask:
    dates = days.astype("M8[D]")
    months = dates.astype("M8[M]")
    month, pairs = months.astype(np.int64), _pairs(needle)
    held: Mask = _table(needle, 4).take(month // 12 + 1970) | pairs.take(month % 12 + 1)
    held |= pairs.take((dates - months.astype("M8[D]")).astype(np.int64) + 1)
    return held


def in_times(times: NDArray[np.int64], needle: str) -> Mask:
    """Which times, in microseconds from 1970, hold the digits in a part of theirs. Parts of a second have six digits,
    or none where they are zero."""
    if not len(times):
        return np.zeros(0, np.bool_)
    first, last = int(times.min()) // _DAY_US, int(times.max()) // _DAY_US
    dates = _days(np.arange(first, last + 1), needle) if last - first < len(times) else None

    def work(block: NDArray[np.int64]) -> Mask:
        day = block // _DAY_US
        held = dates.take(day - first) if dates is not None else _days(day, needle)
        return np.logical_or(held, _in_clock(block - day * _DAY_US, needle))

    return _in_blocks(times, work)


def in_clocks(times: NDArray[np.int64], needle: str) -> Mask:
    """Which times of a day, in microseconds, hold the digits in a part of theirs."""
    return _in_blocks(times, lambda block: _in_clock(block, needle))


def _in_clock(times: NDArray[np.int64], needle: str) -> Mask:
    second = times // 1_000_000
    part = times - second * 1_000_000
    held: Mask = _seconds(needle).take(second)
    if part.any():
        parts = _table(needle, _WIDE)
        held = held | ((parts.take(part // 100) | parts.take(part - part // 10_000 * 10_000)) & (part != 0))
    return held


def in_spans(spans: NDArray[np.int64], needle: str) -> Mask | None:
    """Which spans, in microseconds, hold the digits; None where some have 100 hours, or parts of a second."""
    seconds, rest = np.divmod(np.abs(spans), 1_000_000)
    if rest.any() or seconds.max(initial=0) >= 360_000:
        return None
    pairs = _pairs(needle)
    held: Mask = pairs.take(seconds // 3600) | pairs.take(seconds // 60 % 60) | pairs.take(seconds % 60)
    return held


def in_decimals(values: NDArray[np.int64], scale: int, needle: str) -> Mask:
    """Which of decimals with so many digits behind the point hold the digits, before it or behind."""
    if not scale:
        return in_wholes(values, needle)
    whole, rest = np.divmod(np.abs(values), 10**scale)
    held = in_wholes(whole, needle)
    return held | _table(needle, scale).take(rest) if len(needle) <= scale else held


def short_floats(values: NDArray[np.float64]) -> Mask:
    """Which of the numbers have at most three decimals."""
    with np.errstate(invalid="ignore", over="ignore"):
        scaled = np.rint(values * 1000)
        short: Mask = (np.abs(scaled) < _EXACT) & (scaled / 1000 == values)
        return short


def in_short_floats(values: NDArray[np.float64], needle: str) -> Mask:
    """Which of numbers with at most three decimals hold the digits."""
    table = _thousandths(needle)

    def work(block: NDArray[np.float64]) -> Mask:
        scaled = np.abs(np.rint(block * 1000)).astype(np.int64)
        whole = scaled // 1000
        held: Mask = in_wholes(whole, needle) | table.take(scaled - whole * 1000)
        return held

    return _in_blocks(values, work)
