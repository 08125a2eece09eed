"""Writing back: 1 000 edits over a line of 50 ms there and back, and what 100 000 pending changes cost.

Run with the servers' programs installed: .venv/bin/python benchmarks/writing.py
The stick of the first is the same statements sent one by one (20 of them, times 50); of the second a NumPy copy.
"""

import sys
import tempfile
import time
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parents[1]))

from tests import servers
from tests.servers.lines import Line

from nimble_otter.changes import Action, Edits, find_target, make_plan, render, write
from nimble_otter.changes.statement_sql import Wording
from nimble_otter.pull.drafts import Draft, attach, detach, save_draft
from nimble_otter.sources import Request, Source, connect, fetch
from nimble_otter.stop import StopToken

EDITS, DELAY_S = 1000, 0.025


def pulled(connection, text):
    fetched = fetch(connection, Request(text, with_keys=True))
    target = find_target(fetched.table, fetched.origins, fetched.tables, dialect=connection.dialect)
    return fetched.table, target


def far(kind):
    server = kind()
    line = Line(server.port)
    near = connect(Source("near", server.url))
    away = connect(Source("far", server.url.replace(str(server.port), str(line.port))))
    try:
        near.execute(Request("create table item (id integer primary key, name varchar(40), n integer)"), StopToken())
        rows = ", ".join(f"({n}, 'item {n}', {n})" for n in range(EDITS))
        near.execute(Request(f"insert into item values {rows}"), StopToken())
        table, target = pulled(away, "select * from item order by id")
        edits = Edits(table.rows)
        edits.apply(Action("x", tuple((row, 1, f"new {row}") for row in range(EDITS))))
        plan = make_plan(edits, table, target)
        line.delay_s, line.turns = DELAY_S, 0
        began = time.perf_counter()
        assert write(away, plan).is_written
        spent, turns = time.perf_counter() - began, line.turns
        words = Wording(plan)
        with away.transaction() as writer:
            began = time.perf_counter()
            for statement in plan.statements[:20]:
                writer.execute_many([words.bound(statement)])
            stick = (time.perf_counter() - began) * 50
        said = f"{EDITS} edits {spent:.2f} s, {turns} turns; one by one {stick:.1f} s; {spent / stick:.3f}"
        print(f"{kind.__name__}: {said}")
    finally:
        for made in (away, near, line, server):
            made.close()


def pending(count=100_000):
    import sqlite3

    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "x.sqlite"
        with sqlite3.connect(path) as base:
            base.execute("create table item (id integer primary key, name text, n integer)")
            base.executemany("insert into item values (?, ?, ?)", ((n, f"item {n}", n) for n in range(2 * count)))
        base.close()
        connection = connect(Source("x", f"sqlite:///{path}"))
        table, target = pulled(connection, "select * from item")
        edits = Edits(table.rows)
        copied = np.arange(10_000_000)
        began = time.perf_counter()
        copied.copy()
        stick = time.perf_counter() - began

        def told(name, work):
            began = time.perf_counter()
            found = work()
            spent = time.perf_counter() - began
            print(f"{name}: {spent * 1000:.1f} ms, {spent / stick:.1f} sticks")
            return found

        told("taking all", lambda: edits.apply(Action("x", tuple((row, 1, "y") for row in range(count)))))
        told("one more", lambda: edits.apply(Action("x", ((count + 1, 1, "y"),))))
        plan = told("the statements", lambda: make_plan(edits, table, target))
        told("200 shown", lambda: render(plan, plan.statements[:200]))
        draft = told("as a draft", lambda: detach(edits, table, target))
        told("the draft on disk", lambda: save_draft(Path(folder), "d", Draft("", edits=draft)))
        told("found again", lambda: attach(draft, table, target))
        told("written", lambda: write(connection, plan))
        connection.close()


if __name__ == "__main__":
    pending()
    for kind in (servers.Postgres, servers.Mariadb):
        far(kind)
