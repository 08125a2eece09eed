"""Dates and times as columns of a batch, from the numbers in which servers tell them; as texts where a date is beyond
the years that the table holds as such."""

from __future__ import annotations

import datetime as dt

import numpy as np
from numpy.typing import NDArray

from nimble_otter.sources import binary_texts
from nimble_otter.table.core.columns import DAY_US, EPOCH_DAY, Kind, Mask
from nimble_otter.table.core.parts import ArrayPart, Part, TextPart

_FIRST_DAY, _LAST_DAY = (day.toordinal() - EPOCH_DAY for day in (dt.date.min, dt.date.max))


def days_part(days: NDArray[np.int64], empty: Mask | None, ends: tuple[Mask, Mask] | None = None) -> Part:
    """Dates by their days since 1970; `ends` are the places of minus infinity and infinity."""
    ends = ends if ends is not None else _no_ends(len(days))
    if empty is not None:
        days[empty] = 0

    def texts() -> TextPart:
        return binary_texts.dates(days, *ends, empty)

    if not ((days >= _FIRST_DAY) & (days <= _LAST_DAY)).all():
        return texts()
    return ArrayPart(Kind.DATE, days.astype(np.int32), empty, texts)


def moments_part(
    kind: Kind, days: NDArray[np.int64], rest: NDArray[np.int64], empty: Mask | None, tail: str,
    ends: tuple[Mask, Mask] | None = None,
) -> Part:  # fmt: skip
    """Times by their days since 1970 and microseconds of the day; `tail` is the zone behind their texts, `ends` as in
    `days_part`."""
    ends = ends if ends is not None else _no_ends(len(days))
    if empty is not None:
        days[empty] = rest[empty] = 0

    def texts() -> TextPart:
        return binary_texts.moments(days, rest, tail, ends, empty)

    if not ((days >= _FIRST_DAY) & (days <= _LAST_DAY)).all():
        return texts()
    return ArrayPart(kind, days * DAY_US + rest, empty, texts, digits=_digits(rest) if kind is Kind.TIME else None)


def _no_ends(count: int) -> tuple[Mask, Mask]:
    return np.zeros(count, np.bool_), np.zeros(count, np.bool_)


def _digits(micros: NDArray[np.int64]) -> NDArray[np.uint8]:
    """How many digits the second of each has behind its point, without zeros at the end."""
    rest = micros % 1_000_000
    found = np.zeros(len(micros), np.uint8)
    if rest.any():
        for count in range(6, 0, -1):
            found[(found == 0) & (rest % 10 ** (7 - count) != 0)] = count
    return found
