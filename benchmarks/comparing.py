"""Comparing: values of each kind for equality against one group by that column; two results of so many rows by their
key against one join of them; and two tables read in order, against reading both, with the memory that it takes.

    .venv/bin/python -m benchmarks.comparing [ROWS] [postgresql]

A line gives milliseconds (best of three) and the ratio to its stick in the same run.
"""

from __future__ import annotations

import resource
import sqlite3
import sys
import tempfile
import time
from contextlib import closing
from pathlib import Path

import numpy as np
from benchmarks.charting import rows_of
from benchmarks.checking import best_ms

from nimble_otter.pull import Pull, Query
from nimble_otter.pull.compare_large import blocks, compare_by_ranges, compare_ordered, in_order
from nimble_otter.pull.steps.compare import CompareStep
from nimble_otter.sources import Source, connect
from nimble_otter.table import Field, Kind, Table, View
from nimble_otter.table.core.build import column_of
from nimble_otter.table.core.columns import Column
from nimble_otter.table.ops.alike import Alike, unequal
from nimble_otter.table.ops.combine import How, join
from nimble_otter.table.ops.compare import compare_views
from nimble_otter.table.ops.group import group_view

_INSERT = "insert into reading values (?, ?, ?, ?, ?, ?, ?, ?)"


def with_texts(table: Table) -> Table:
    """With a key, and a column of many different texts."""
    rows = np.arange(table.rows)
    texts = column_of([f"note {n * 7919 % 1_000_003}" for n in rows.tolist()])
    fields = (Field("id", Kind.INT), *table.fields, Field("note", Kind.TEXT))
    return Table(fields, (Column(Kind.INT, rows), *table.columns, texts), table.rows)


def by_kind(table: Table) -> None:
    """Equality of each column with a copy of it, against a group by it."""
    again = table.take(np.arange(table.rows))
    for number, field in enumerate(table.fields):
        stick = best_ms(lambda n=number: group_view(View(table), [n], ()), 3)
        took = best_ms(lambda n=number: unequal(table.columns[n], again.columns[n]), 3)
        print(f"equal {field.name:<8} {took:8.1f} {took / stick:6.2f} of a group by it")
    took = best_ms(lambda: unequal(table.column("level"), again.column("level"), Alike(0.01)), 3)
    print(f"level within .01 {took:6.1f}")
    took = best_ms(lambda: unequal(table.column("cost"), again.column("level")), 3)
    print(f"decimal against double {took:6.1f}")


def whole(table: Table) -> None:
    """Two results by key, in memory."""
    ids = np.arange(table.rows)
    other = table.take(ids[ids % 1000 != 7])
    stick = best_ms(lambda: join(View(table), other, [(0, 0)], How.FULL), 3)
    took = best_ms(lambda: compare_views(View(table), View(other), ("id",)), 3)
    print(f"compare {table.rows} x {len(table.fields)} by key {took:8.1f} {took / stick:6.2f} of a full join")


def large(rows: int) -> None:
    """Two tables of a database, read in order and compared, against reading both."""
    with tempfile.TemporaryDirectory() as folder:
        pulls = []
        for name in ("left", "right"):
            path = Path(folder) / f"{name}.sqlite"
            with sqlite3.connect(path) as base:
                base.execute("create table reading (id integer primary key, taken text, station text, level real, "
                             "flow real, quality text, note text, n integer)")  # fmt: skip
                base.executemany(_INSERT, (
                    (i, f"2031-05-{1 + i % 28:02} 04:{i % 60:02}", f"Station {i % 97}", i * 0.37 % 7, i * 1.7 % 40,
                     ("good", "suspect", "void")[i % 3], f"note {i * 7919 % 1_000_003}", i * 3)
                    for i in range(rows) if i % 100_000 != (7 if name == "left" else 8)))  # fmt: skip
            base.close()
            pulls.append(Pull(name, Source(name, f"sqlite:///{path}"), Query("select * from reading", limit=None)))
        connections = [connect(pull.source) for pull in pulls]
        ordered = [in_order(pull, ("id",), c) for pull, c in zip(pulls, connections, strict=True)]
        began = time.perf_counter()
        for pull, connection in zip(ordered, connections, strict=True):
            for _ in blocks(pull, connection):
                pass
        stick = time.perf_counter() - began
        before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        began = time.perf_counter()
        streams = [blocks(pull, connection) for pull, connection in zip(ordered, connections, strict=True)]
        found = compare_ordered(streams[0], streams[1], CompareStep("right", ("id",)))
        took = time.perf_counter() - began
        after = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        print(f"large {rows} x 8 a side {took * 1000:8.0f} {took / stick:6.2f} of reading both; counts {found.counts}; "
              f"peak {after // 1024} MB, {max(0, after - before) // 1024} MB more than reading")  # fmt: skip
        for connection in connections:
            connection.close()


def ranges(rows: int) -> None:
    """Two tables of a PostgreSQL server with ten differences: ranges whose hashes are alike are not read."""
    from tests import servers

    with closing(servers.Postgres()) as server:
        connection = connect(Source("pg", server.url))
        for name, change in (("a", 0), ("b", 1)):
            server.ask(
                f"create table {name} as select n as id, timestamp '2031-05-01' + n * interval '1 second' as taken, "
                f"'Station ' || n % 97 as station, n * 0.37 + (n % {rows // 10} = 7)::int * {change} as level, "
                "(n * 17 % 4001)::float8 / 100 as flow, (array['good', 'suspect', 'void'])[1 + n % 3] as quality, "
                f"'note ' || n::bigint * 7919 % 1000003 as note, n::bigint * 3 as k from generate_series(1, {rows}) n",
                "merrow",
            )
            server.ask(f"alter table {name} add primary key (id); analyze {name}", "merrow")  # fmt: skip
        pulls = [Pull(name, Source("pg", server.url), Query(f"select * from {name}", limit=None)) for name in "ab"]
        other = connect(Source("pg", server.url))
        ordered = [in_order(pull, ("id",), connection) for pull in pulls]
        began = time.perf_counter()
        for pull in ordered:
            for _ in blocks(pull, connection):
                pass
        stick = time.perf_counter() - began
        began = time.perf_counter()
        found = compare_by_ranges(pulls[0], pulls[1], CompareStep("b", ("id",)), (connection, other))
        took = time.perf_counter() - began
        assert found is not None
        print(f"ranges {rows} x 8 a side {took * 1000:8.0f} {took / stick:6.2f} of reading both; counts {found.counts}")
        began = time.perf_counter()
        streams = [blocks(pull, each) for pull, each in zip(ordered, (connection, other), strict=True)]
        found = compare_ordered(streams[0], streams[1], CompareStep("b", ("id",)))
        took = time.perf_counter() - began
        print(
            f"in order {rows} x 8 a side {took * 1000:8.0f} {took / stick:6.2f} of reading both; counts {found.counts}"
        )
        connection.close()
        other.close()


def main() -> None:
    """All three."""
    rows = int(sys.argv[1]) if len(sys.argv) > 1 else 1_000_000
    if "postgresql" in sys.argv:
        ranges(rows)
        return
    large(rows)  # first: the peak of memory is its own
    table = with_texts(rows_of(rows).view.table)
    by_kind(table)
    whole(table)


if __name__ == "__main__":
    main()
