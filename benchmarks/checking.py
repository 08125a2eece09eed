"""Checks of a million rows, against grouping the same rows by the same column and counting; remembering a delivery.

    .venv/bin/python -m benchmarks.checking [ROWS]

A line gives the milliseconds (best of five) and the ratio to the group by that column in the same run; the last ones
are ten checks together against the mean of the groups, and remembering a delivery against all of them.
"""

from __future__ import annotations

import datetime as dt
import sys
import time
from collections.abc import Callable

import numpy as np

from nimble_otter.pull.profiles import profile_of
from nimble_otter.pull.shaped import all_rows
from nimble_otter.pull.steps import CheckLine, Rule
from nimble_otter.pull.steps.check_rules import check
from nimble_otter.stop import NEVER
from nimble_otter.table import Table, View
from nimble_otter.table.core.build import table_of
from nimble_otter.table.ops.digests import row_digests
from nimble_otter.table.ops.group import Aggregate, AggregateFunction, group_view

TEN = (
    CheckLine(Rule.FILLED, ("level",)), CheckLine(Rule.RANGE, ("level",), (-2, 9)), CheckLine(Rule.UNIQUE, ("id",)),
    CheckLine(Rule.AMONG, ("quality",), ("good", "suspect", "void")),
    CheckLine(Rule.PATTERN, ("quality",), ("[a-z]+",)),
    CheckLine(Rule.AGGREGATE, ("level",), (0, 4), figure="mean"), CheckLine(Rule.TYPE, ("level",), ("number",)),
    CheckLine(Rule.NEWEST, ("at",), ("900 weeks",)), CheckLine(Rule.SQL, ("level",), text="level < 9 or station > 3"),
    CheckLine(Rule.ROWS, values=(1, "")),
)  # fmt: skip
MORE = (
    CheckLine(Rule.UNIQUE, ("note",)), CheckLine(Rule.AMONG, ("note",), ("a", "b")),
    CheckLine(Rule.UNIQUE, ("station", "at")),
    CheckLine(Rule.PATTERN, ("note",), ("note \\d+",)), CheckLine(Rule.NO_DUPLICATES),
)  # fmt: skip


def made(rows: int) -> Table:
    """Numbers, texts with few and with many values, times."""
    rng = np.random.default_rng(1)
    times = np.datetime64("2031-01-01T00:00", "us") + rng.integers(0, 10**13, rows).astype("m8[us]")
    return table_of(
        id=list(range(rows)), level=rng.normal(2, 1, rows).round(2).tolist(), at=times.tolist(),
        quality=np.array(["good", "suspect", "void"])[rng.integers(0, 3, rows)].tolist(),
        station=rng.integers(0, 42, rows).tolist(),
        note=[f"note {n}" for n in rng.integers(0, rows // 2, rows).tolist()],
    )  # fmt: skip


def best_ms(do: Callable[[], object], times: int = 5) -> float:
    """The least of some runs."""
    found = []
    for _ in range(times):
        began = time.perf_counter()
        do()
        found.append(time.perf_counter() - began)
    return min(found) * 1000


def main() -> None:
    """Print the lines."""
    rows = int(sys.argv[1]) if len(sys.argv) > 1 else 1_000_000
    table = made(rows)
    shaped, count = all_rows(table), [Aggregate(AggregateFunction.COUNT)]
    groups = {
        field.name: best_ms(lambda n=place: group_view(View(table), [n], count, NEVER))  # type: ignore[misc]
        for place, field in enumerate(table.fields)
    }
    for line in (*TEN, *MORE):
        spent = best_ms(lambda line=line: check(line, shaped, {}, None, NEVER))  # type: ignore[misc]
        stick = sum(groups[name] for name in line.columns) or sum(groups.values())
        print(f"{line.rule.value:<20} {', '.join(line.columns):<12} {spent:8.1f} ms  {spent / stick:5.2f}")
    spent = best_ms(lambda: [check(line, shaped, {}, None, NEVER) for line in TEN])
    print(f"ten checks together               {spent:8.1f} ms  {spent / np.mean(list(groups.values())):5.2f}")
    spent = best_ms(lambda: profile_of(View(table), table.fields, ("id",), dt.datetime(2031, 1, 1)), 2)
    print(f"remembering the delivery          {spent:8.1f} ms  {spent / sum(groups.values()):5.2f}")
    spent = best_ms(lambda: row_digests(View(table), range(len(table.fields))), 2)
    print(f"digests of the rows               {spent:8.1f} ms  {spent / sum(groups.values()):5.2f}")


if __name__ == "__main__":
    main()
