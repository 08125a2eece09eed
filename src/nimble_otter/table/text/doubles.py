"""Doubles in scripts for SQLite, which up to 3.40 takes some numbers of 16 and 17 digits for their neighbours."""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence
from contextlib import closing

_AT_ONCE = 500


def loses_precision(texts: Sequence[str], values: Sequence[float]) -> list[int]:
    """Places of the finite numbers that SQLite would not read as the values that their texts mean (as `repr` writes
    them)."""
    wrong = []
    with closing(sqlite3.connect(":memory:")) as base:  # its JSON is no help: that reads what its SQL does not
        for start in range(0, len(texts), _AT_ONCE):
            some = texts[start : start + _AT_ONCE]
            rows = base.execute(f"values ({'),('.join(some)})")
            wrong += [place for place, (read,) in enumerate(rows, start) if read != values[place]]
    return wrong


def exact_literal(value: float) -> str:
    """The number as a whole one times or divided by powers of two, which are all read and reckoned exactly."""
    over, under = value.as_integer_ratio()
    zeros = (over & -over).bit_length() - 1 if abs(over) > 1 << 53 else 0
    shift = zeros - (under.bit_length() - 1)
    parts, sign, left = [str(over >> zeros)], "*" if shift > 0 else "/", abs(shift)
    while left:
        step = min(left, 32)
        parts.append(f"{float(1 << step)!r}")
        left -= step
    return f"({f' {sign} '.join(parts)})"
