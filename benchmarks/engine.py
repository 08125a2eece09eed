"""The table engine at N rows against plain ways on the same arrays, in the same run.

    .venv/bin/python benchmarks/engine.py [ROWS]

The sticks: np.sort of the same int64 column for sorting, one NumPy pass for filters and groups, and the driver's own
fetchmany loop for pulling. Ratios, not times, are to be compared between machines.
"""

from __future__ import annotations

import sqlite3
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np

from nimble_otter.query.local.conditions import parse_condition, parse_expression
from nimble_otter.sources import Request, Source, connect, fetch
from nimble_otter.table import Column, Field, Kind, Table, View
from nimble_otter.table.core.build import column_of
from nimble_otter.table.ops.expressions import compute
from nimble_otter.table.ops.filter import filter_view
from nimble_otter.table.ops.group import Aggregate, group_view
from nimble_otter.table.ops.group import AggregateFunction as Agg
from nimble_otter.table.ops.profile import value_counts
from nimble_otter.table.ops.sort import SortKey, sort_view


def best(work: Callable[[], object], times: int = 3) -> float:
    found = []
    for _ in range(times):
        began = time.perf_counter()
        work()
        found.append(time.perf_counter() - began)
    return min(found)


def make(rows: int) -> Table:
    rng = np.random.default_rng(1)
    empty = rng.random(rows) < 0.05
    floats = np.where(empty, 0.0, rng.normal(2, 1, rows))
    words = column_of([f"station {n:04}" for n in rng.integers(0, 900, min(rows, 200_000))])
    coded = words.take(rng.integers(0, len(words), rows))
    texts = column_of([f"note {n}" for n in range(100_000)]).take(rng.integers(0, 100_000, rows))
    columns = {
        "i": Column(Kind.INT, rng.integers(-(10**12), 10**12, rows)),
        "f": Column(Kind.FLOAT, floats, empty),
        "t": Column(Kind.TIME, rng.integers(0, 10**15, rows)),
        "c": coded,
        "s": texts,
    }
    return Table(tuple(Field(n, c.kind) for n, c in columns.items()), tuple(columns.values()), rows)


def pulling(rows: int) -> None:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "pull.sqlite"
        from nimble_otter.demo.survey import write_survey

        write_survey(path, rows)
        base = sqlite3.connect(path)

        def stick() -> None:
            cursor = base.execute("select * from reading")
            while cursor.fetchmany(1000):
                pass

        connection = connect(Source("x", f"sqlite:///{path}"))
        connection.tables()
        first = fetch(connection, Request("select * from reading")).first_s
        ours, bare = best(lambda: fetch(connection, Request("select * from reading"))), best(stick)
        print(
            f"pull {rows} rows of 7 columns: {ours / bare:.2f} of the driver's loop; first rows {first * 1000:.0f} ms"
        )
        connection.close()
        base.close()


def main() -> None:
    rows = int(sys.argv[1]) if len(sys.argv) > 1 else 1_000_000
    table = make(rows)
    view = View(table)
    raw = table.columns[0].data
    numbers = table.columns[1].data
    codes = table.columns[3].data
    stick = best(lambda: np.sort(raw))
    for name, keys in {
        "sort integer": [SortKey(0)], "sort number with empties": [SortKey(1)], "sort time": [SortKey(2, True)],
        "sort text, few values": [SortKey(3)], "sort text, many values": [SortKey(4)],
        "sort three keys": [SortKey(3), SortKey(1), SortKey(0)],
    }.items():  # fmt: skip
        print(f"{name}: {best(lambda keys=keys: sort_view(view, keys)) / stick:.1f} of np.sort of the integers")
    node = parse_condition("i > 0 and f between 0.3 and 2.5 and c <> 'station 0001'", table)
    plain = best(lambda: np.flatnonzero((raw > 0) & (numbers > 0.3) & (numbers < 2.5) & (codes != 1)))
    print(f"filter three conditions: {best(lambda: filter_view(view, node)) / plain:.1f} of one NumPy expression")
    measures = [
        Aggregate(Agg.COUNT),
        Aggregate(Agg.SUM, 1),
        Aggregate(Agg.MEAN, 1),
    ]
    counting = best(lambda: np.bincount(codes, weights=numbers))
    print(f"group, count sum mean: {best(lambda: group_view(view, [3], measures)) / counting:.1f} of one bincount")
    more = [
        Aggregate(Agg.MIN, 1),
        Aggregate(Agg.MAX, 1),
        Aggregate(Agg.MEDIAN, 1),
    ]
    print(f"group, min max median: {best(lambda: group_view(view, [3], more)) / counting:.1f} of one bincount")
    ids = view.row_ids()
    sums = best(lambda: numbers * 2.0 + numbers)
    for text in ("f * 2.0 + f", "round(f, 1)", "case when f > 2 then 'high' else 'low' end", "upper(c)"):
        spent = best(lambda text=text: compute(parse_expression(text, table), table, ids), 1)
        print(f"compute {text}: {spent / sums:.0f} of NumPy's f * 2 + f, {spent / rows * 1e9:.0f} ns a row")
    print(f"values with counts: {best(lambda: value_counts(view, 3)) / counting:.1f} of one bincount")
    pulling(min(rows, 500_000))


if __name__ == "__main__":
    main()
