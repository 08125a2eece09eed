"""Main-thread time of the grid: a page, a wheel step, the jump to the end, select all, a dragged column.

.venv/bin/python -m benchmarks.painting [ROWS] [COLUMNS]
"""

from __future__ import annotations

import statistics
import sys
import time
from collections.abc import Callable

import numpy as np

from nimble_otter.desktop.kit.offscreen import use_offscreen

use_offscreen()

from PySide6.QtCore import QRect  # noqa: E402
from PySide6.QtGui import QImage, QPainter  # noqa: E402

from nimble_otter.changes import Edits  # noqa: E402
from nimble_otter.desktop.grid.grid import Grid  # noqa: E402
from nimble_otter.desktop.grid.model import model_for  # noqa: E402
from nimble_otter.desktop.shell.application import make_app  # noqa: E402
from nimble_otter.pull.shaped import all_rows  # noqa: E402
from nimble_otter.table import Column, Field, Kind, Table  # noqa: E402
from nimble_otter.table.core.build import column_of  # noqa: E402


def make(rows: int, columns: int) -> Table:
    """Five columns of different kinds, again and again: they share their memory."""
    rng = np.random.default_rng(1)
    words = column_of([f"station {n}" for n in range(900)]).take(rng.integers(0, 900, rows))
    kinds = [
        Column(Kind.INT, rng.integers(0, 10**9, rows)), Column(Kind.FLOAT, rng.normal(2, 1, rows)),
        Column(Kind.TIME, rng.integers(0, 10**15, rows)), words, Column(Kind.BOOL, rng.random(rows) < 0.5),
    ]  # fmt: skip
    held = [kinds[n % len(kinds)] for n in range(columns)]
    return Table(tuple(Field(f"c{n}", c.kind) for n, c in enumerate(held)), tuple(held), rows)


def main() -> None:
    rows, columns = (
        (int(sys.argv[1]) if len(sys.argv) > 1 else 10_000_000),
        (int(sys.argv[2]) if len(sys.argv) > 2 else 200),
    )
    app = make_app()
    table, grid = make(rows, columns), Grid()
    grid.resize(1240, 830)
    model = model_for(all_rows(table), Edits(rows), frozenset(), (), {}, frozenset())
    grid.set_model(model, [100] * columns, False)
    grid.show()
    app.processEvents()

    def paint() -> None:
        app.processEvents()

    def spent(do: Callable[[int], object], times: int = 40) -> float:
        found = []
        for n in range(times):
            began = time.perf_counter()
            do(n)
            paint()
            found.append(time.perf_counter() - began)
        return statistics.median(found) * 1000

    bar = grid.verticalScrollBar()
    stick = QImage(grid.size(), QImage.Format.Format_ARGB32_Premultiplied)

    def fill() -> None:
        painter = QPainter(stick)
        for n in range(31 * 12):
            painter.drawText(QRect(n % 12 * 100, n // 12 * 25, 90, 25), 0, f"{n:08}")
        painter.end()

    began = time.perf_counter()
    for _ in range(20):
        fill()
    text = (time.perf_counter() - began) / 20 * 1000
    print(f"{rows} rows x {columns} columns; stick: {31 * 12} texts drawn plainly, {text:.1f} ms")
    for name, do in {
        "a page of rows": lambda n: bar.setValue((n * 7919 % max(1, rows // 40)) * 25 * 30),
        "a wheel step (3 rows)": lambda n: bar.setValue(bar.value() + 75),
        "the end and back": lambda n: grid.go(rows - 1 if n % 2 else 0, columns - 1 if n % 2 else 0),
        "select all": lambda n: grid.select_all(),
        "a column wider": lambda n: grid._set_width(3, 90 + n),
    }.items():
        took = spent(do)
        print(f"{name}: {took:.1f} ms, {took / text:.1f} of the stick")


if __name__ == "__main__":
    main()
