"""Work on wide rows and long cells in the real window: how long it is held, beside the same on thirty columns and on
twenty characters.

python -m benchmarks.wide [COLUMNS]
"""

import os
import sqlite3
import sys
import tempfile
import time
from pathlib import Path

os.environ["QT_QPA_PLATFORM"] = "offscreen"
os.environ["NIMBLE_OTTER_HOME"] = tempfile.mkdtemp()

from nimble_otter.changes import Action
from nimble_otter.demo.standin import StandIn
from nimble_otter.desktop.kit.offscreen import use_offscreen, wait_until
from nimble_otter.desktop.shell.application import make_app
from nimble_otter.desktop.shell.window import Window
from nimble_otter.pull.model import Pull, Query
from nimble_otter.pull.steps import ColumnsStep
from nimble_otter.sources import Source

ROWS, FEW, LONG = 50, 30, 1_000_000


def settle(window):
    wait_until(lambda: not window.jobs.is_busy, 120)
    wait_until(lambda: False, 0.2)


def held(app, do):
    """Seconds until the window is at its events again: the best of three."""
    found = []
    for _ in range(3):
        wait_until(lambda: False, 0.05)
        began = time.perf_counter()
        do()
        app.processEvents()
        found.append(time.perf_counter() - began)
    return min(found)


def wide(app, window, name):
    """Moving from row to row with the record in sight, editing a cell, showing and hiding columns."""
    source = window.hub.find("wide")
    window.add_pull(Pull(name, source, Query("{}", "native", name)))
    settle(window)
    window.detail.turn(1)
    rows, pull = iter(range(1, ROWS)), window.pull
    window.open_drawer("changes")
    return {
        "go to another row, with its record in sight": held(app, lambda: window.grid.go(next(rows), 2)),
        "edit a cell, with Changes in sight": held(
            app, lambda: pull.changes.edit(Action("Edit", ((next(rows), 3, next(rows)),)))
        ),
        "add a Columns step and undo it": held(app, lambda: (window.add_step(ColumnsStep()), pull.changes.undo())),
    }


def long(app, window, row):
    """Looking at a cell, opening it, changing it with Changes in sight."""
    window.detail.turn(0)
    window.open_drawer("changes")
    grid, pull = window.grid, window.pull
    text = "x" * (LONG if row == 0 else 20)
    return {
        "look at the cell": held(app, lambda: (grid.go(2, 1), grid.go(row, 1))),
        "open it in an editor": held(
            app, lambda: (window.actions_on_grid.open_big(), window.actions_on_grid._big.leave())
        ),
        "change it, with Changes in sight": held(
            app, lambda: pull.changes.edit(Action("Edit", ((row, 1, text + str(time.perf_counter())),)))
        ),
    }


def main(columns):
    app = use_offscreen() or make_app()
    fields = {name: {f"c{n}": n for n in range(count)} for name, count in (("few", FEW), ("many", columns))}
    server = StandIn("wide", {name: [{"_id": n, **own} for n in range(ROWS)] for name, own in fields.items()})
    path = Path(tempfile.mkdtemp()) / "long.sqlite"
    with sqlite3.connect(path) as base:
        base.execute("create table long (id integer primary key, said text)")
        base.executemany("insert into long values (?, ?)", [(1, "x" * LONG), (2, "x" * 20), (3, "")])
    window = Window()
    window.show()
    window.begin(False)
    window.hub.add(Source("wide", server.url))
    settle(window)
    few, many = wide(app, window, "few"), wide(app, window, "many")
    print(f"{columns} columns, as a multiple of {FEW} (milliseconds that the window is held)")
    for what in few:
        print(f"  {what:46} {many[what] / few[what]:6.1f}  ({1000 * many[what]:.0f} ms)")
    window.add_pull(Pull("long", window.hub.add(Source("long", f"sqlite:///{path}")), Query("select * from long")))
    settle(window)
    window.pull.truncated.fetch()
    settle(window)
    short, whole = long(app, window, 1), long(app, window, 0)
    print(f"a cell of {LONG} characters in one line, as a multiple of one of 20")
    for what in short:
        print(f"  {what:46} {whole[what] / short[what]:6.1f}  ({1000 * whole[what]:.0f} ms)")
    sys.stdout.flush()
    os._exit(0)


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 3000)
