"""Writing back 1 000 edited cells of every type, on each server: times the server's own median.

    .venv/bin/python -m benchmarks.writing_kinds [SERVER ...]

Servers: postgresql mariadb sqlite, each started for the run. Each edit puts the value of another row into a row; a
cell over 3 needs a reason (benchmarks/RESULTS.md).
"""

from __future__ import annotations

import sqlite3
import statistics
import sys
import tempfile
import time
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

from benchmarks.kinds import MARIADB, POSTGRESQL, SQLITE
from tests import servers

from nimble_otter.changes import Action, Edits, find_target, make_plan, write
from nimble_otter.sources import Connection, Request, Source, connect, fetch

EDITS, TIMES = 1000, 3


def spent_on(connection: Connection, table_name: str) -> float:
    """Seconds for the edits, the best of some, each with other values."""
    best = float("inf")
    for turn in range(TIMES):
        fetched = fetch(connection, Request(f"select * from {table_name} order by id", with_keys=True))
        table = fetched.table
        target = find_target(table, fetched.origins, fetched.tables, dialect=connection.dialect)
        edits, shift = Edits(table.rows), EDITS + turn
        edits.apply(Action("Edit", tuple((row, 1, table.columns[1].value(row + shift)) for row in range(EDITS))))
        plan = make_plan(edits, table, target)
        began = time.perf_counter()
        report = write(connection, plan)
        spent = time.perf_counter() - began
        assert report.is_written, report
        best = min(best, spent)
    return best


def told(name: str, connection: Connection, kinds: dict[str, str]) -> None:
    """A line for each type."""
    found = {kind: spent_on(connection, kind) for kind in kinds}
    middle = statistics.median(found.values())
    names = dict(zip(found, kinds.values(), strict=True))
    for table, spent in sorted(found.items(), key=lambda pair: -pair[1]):
        print(f"{name}, {names[table]}: {spent / middle:.2f} of the median ({1000 * spent:.0f} ms)", flush=True)


def made(values: dict[str, str], ask: Callable[[str], object], form: str) -> dict[str, str]:
    """A table with a key for each type, by its name."""
    results = {}
    for at, (kind, value) in enumerate(values.items()):
        for text in form.format(name=f"k{at}", value=value, kind=kind.partition(",")[0]).split(";"):
            ask(text)
        results[f"k{at}"] = kind
    return results


def main(wanted: list[str]) -> None:
    rows = EDITS + TIMES + 1000
    keyed = "alter table {name} add primary key (id)"
    served = {
        "postgresql": (
            servers.Postgres,
            POSTGRESQL,
            f"select n as id, {{value}} as v from generate_series(1, {rows}) n",
        ),
        "mariadb": (servers.Mariadb, MARIADB, f"select seq as id, {{value}} as v from seq_1_to_{rows}"),
    }
    for name in (name for name in served if name in wanted):
        start, values, query = served[name]
        with closing(start()) as server:
            kinds = made(
                values, lambda text, to=server: to.ask(text, "merrow"), f"create table {{name}} as {query};{keyed}"
            )
            with closing(connect(Source("s", server.url))) as connection:
                told(name, connection, kinds)
    if "sqlite" in wanted:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "k.sqlite"
            with closing(sqlite3.connect(path)) as base:
                form = ("create table {name} (id integer primary key, v {kind});"
                        f"with recursive s (n) as (select 1 union all select n + 1 from s where n < {rows}) "
                        "insert into {name} select n, {value} from s")  # fmt: skip
                own = {kind.replace("half NULL", "integer, half NULL"): value for kind, value in SQLITE.items()}
                kinds = made(own, base.execute, form)
                base.commit()
            with closing(connect(Source("s", f"sqlite:///{path}"))) as connection:
                told("sqlite", connection, kinds)


if __name__ == "__main__":
    main(sys.argv[1:] or ["postgresql", "mariadb", "sqlite"])
