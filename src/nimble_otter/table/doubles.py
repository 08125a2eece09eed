"""Doubles in scripts for SQLite, which up to 3.40 takes some numbers of 16 and 17 digits for their neighbours."""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence
from contextlib import closing


def misread(texts: Sequence[str], values: Sequence[float]) -> list[int]:
    """Places of the finite numbers that SQLite would not read as the values that their texts mean."""
    if not texts:
        return []
    with closing(sqlite3.connect(":memory:")) as base:  # its JSON reads numbers as its SQL does, several times faster
        rows = base.execute("select value from json_each(?)", (f"[{','.join(texts)}]",)).fetchall()
    return [place for place, (value, (read,)) in enumerate(zip(values, rows, strict=True)) if value != read]


def in_powers(value: float) -> str:
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
