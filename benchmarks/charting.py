"""Charts of many rows: what is drawn brought down to pixels, against a copy of the points; the first chart of a million
rows and a look closer at ten million, against the library's own drawing of two thousand points.

    .venv/bin/python -m benchmarks.charting [POINTS]

A line gives milliseconds (best of five) and the ratio to its stick in the same run; the last one the worst delay of the
window's 16 ms timer while a million rows are drawn, looked at closer, and picked.
"""

from __future__ import annotations

import os
import sys
import tempfile
import time

import numpy as np
from benchmarks.checking import best_ms

from nimble_otter.pull.charts import Chart, ChartKind, Up
from nimble_otter.pull.charts.ground import Window
from nimble_otter.pull.charts.looks import LIGHT
from nimble_otter.pull.charts.make import draw
from nimble_otter.pull.charts.reduce import line_of, reduce_line, spots_of
from nimble_otter.pull.shaped import Shaped, all_rows
from nimble_otter.pull.steps.group import KeyBy
from nimble_otter.table import Field, Kind, Table
from nimble_otter.table.core.columns import CodedText, Column
from nimble_otter.table.text.column_format import ColumnFormat

SIZE = (768, 438)


def rows_of(count: int) -> Shaped:
    """A column of every kind that has a place, times ascending."""
    rng = np.random.default_rng(1)
    at = np.datetime64("2031-01-01", "us").astype(np.int64) + np.arange(count) * 1_000_000
    level = rng.normal(0, 1, count).cumsum()
    columns = {
        "at": Column(Kind.TIME, at),
        "zoned": Column(Kind.ZONED, at),
        "day": Column(Kind.DATE, (at // 86_400_000_000).astype(np.int32)),
        "clock": Column(Kind.CLOCK, at % 86_400_000_000),
        "n": Column(Kind.INT, rng.integers(0, 1000, count)),
        "cost": Column(Kind.DECIMAL, rng.integers(0, 10**6, count), scale=2),
        "level": Column(Kind.FLOAT, level),
        "gaps": Column(Kind.FLOAT, level, rng.random(count) < 0.01),
        "river": CodedText(Kind.TEXT, rng.integers(0, 4, count).astype(np.int32), words=("a", "b", "c", "d")),
    }
    zone = ColumnFormat(zone="Europe/Lisbon")
    fields = [Field(name, column.kind, look=zone if name == "zoned" else None) for name, column in columns.items()]
    return all_rows(Table(tuple(fields), tuple(columns.values()), count))


def own_drawing() -> None:
    """The stick: two thousand points by the library alone."""
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.figure import Figure

    figure = Figure((SIZE[0] / 100, SIZE[1] / 100), dpi=100)
    canvas = FigureCanvasAgg(figure)
    axes = figure.add_subplot()
    axes.plot(np.arange(2000), np.sin(np.arange(2000) / 50))
    axes.set_title("two thousand points")
    canvas.draw()
    canvas.buffer_rgba()


def charts() -> dict[str, Chart]:
    """One of each kind, and lines along columns of each kind."""
    along = KeyBy
    up = (Up("level"),)
    found = {
        f"line along {name}": Chart(along=along(name), up=up) for name in ("at", "zoned", "day", "clock", "n", "cost")
    }
    return found | {
        "line, gaps": Chart(along=along("at"), up=(Up("gaps"),)),
        "line, 4 colours": Chart(along=along("at"), up=up, by=along("river")),
        "line, mean by hour, 4 colours": Chart(along=along("at", "hour"), up=(Up("level", "mean"),), by=along("river")),
        "bars, mean of 4": Chart(ChartKind.BARS, along=along("river"), up=(Up("level", "mean"),)),
        "scatter": Chart(ChartKind.SCATTER, along=along("level"), up=(Up("cost"),)),
        "scatter, 4 colours": Chart(ChartKind.SCATTER, along=along("level"), up=(Up("cost"),), by=along("river")),
        "histogram": Chart(ChartKind.HISTOGRAM, along=along("level")),
        "box of 4": Chart(ChartKind.BOX, along=along("river"), up=up),
        "heat map": Chart(
            ChartKind.HEAT, along=along("at", "hour of day"), by=along("river"), up=(Up("level", "mean"),)
        ),
    }


def main() -> None:
    """Print the lines."""
    points = int(sys.argv[1]) if len(sys.argv) > 1 else 10_000_000
    from nimble_otter.pull.charts.paint import paint

    rng = np.random.default_rng(2)
    x, y = np.arange(float(points)), rng.normal(0, 1, points).cumsum()
    copy = best_ms(lambda: (x.copy(), y.copy()))
    print(f"copy of {points} points {copy:8.1f} ms")
    ends = np.linspace(0, points, SIZE[0] + 1)
    low, high = float(y.min()), float(y.max())
    for name, do in {
        "line, looked at once and reduced": lambda: reduce_line(line_of(x, y), ends),
        "spots": lambda: spots_of(x, y, (0.0, float(points)), (low, high), 384, 219),
        "spots with shades": lambda: spots_of(x, y, (0.0, float(points)), (low, high), 384, 219, y),
    }.items():
        ms = best_ms(do)
        print(f"{name:40} {ms:8.1f} ms  {ms / copy:5.2f} of a copy")
    paint(draw(rows_of(1000), charts()["line along at"]), LIGHT, SIZE).pixels()  # fonts and the like, once
    own = best_ms(own_drawing)
    print(f"{'2 000 points by the library':40} {own:8.1f} ms")
    million = rows_of(1_000_000)
    for name, chart in charts().items():
        ms = best_ms(lambda chart=chart: paint(draw(million, chart), LIGHT, SIZE).pixels())
        print(f"first, 1 M rows: {name:40} {ms:8.1f} ms  {ms / own:5.2f}")
    large = rows_of(points)
    for name in ("line along at", "line, gaps", "line, 4 colours", "scatter"):
        drawn = draw(large, charts()[name])
        paint(drawn, LIGHT, SIZE).pixels()
        first, last = drawn.x_ends() or (0.0, 1.0)
        closer = Window((first + (last - first) * 0.3, first + (last - first) * 0.7))
        ms = best_ms(lambda drawn=drawn, closer=closer: paint(drawn, LIGHT, SIZE, window=closer).pixels())
        print(f"closer, {points} rows: {name:33} {ms:8.1f} ms  {ms / own:5.2f}")
    print(f"worst delay of the window's timer, 1 M rows: {window_gap_ms():.0f} ms")


def window_gap_ms() -> float:
    """While charts of a million rows are drawn, looked at closer and picked."""
    folder = tempfile.TemporaryDirectory()
    os.environ["NIMBLE_OTTER_HOME"] = folder.name
    from nimble_otter.desktop.kit.offscreen import use_offscreen, wait_until

    use_offscreen()
    from PySide6.QtCore import Qt, QTimer

    from nimble_otter.desktop.shell.application import make_app
    from nimble_otter.desktop.shell.window import Window as Shown
    from nimble_otter.pull import Pull, Query
    from nimble_otter.pull.charts.picking import Stretch
    from nimble_otter.sources import Fetched, Source

    make_app()
    window = Shown()
    window.resize(1280, 800)
    window.show()
    window.begin()
    wait_until(lambda: not window.jobs.is_busy, 60)
    window.add_pull(Pull("p", Source("s", "sqlite:////nowhere"), Query("")))
    window.pull.fetched = Fetched(rows_of(1_000_000).table)
    window.pull.shaping.walk()
    window.charting.open()
    wait_until(lambda: not window.jobs.is_busy, 60)
    presenter, gaps, last = window.charting.presenter, [0.0], [time.perf_counter()]

    def beat() -> None:
        now = time.perf_counter()
        gaps.append(now - last[0])
        last[0] = now

    timer = QTimer(interval=16, timerType=Qt.TimerType.PreciseTimer)
    presenter.add(charts()["line along at"])  # the library is imported once, in the background
    wait_until(lambda: not window.jobs.is_busy and presenter.canvas.painted is not None, 60)
    timer.timeout.connect(beat)
    last[0] = time.perf_counter()
    timer.start()
    for name in ("line, 4 colours", "scatter", "histogram", "line, mean by hour, 4 colours"):
        presenter.add(charts()[name])
        wait_until(lambda: not window.jobs.is_busy and presenter.canvas.painted is not None, 60)
        first, end = presenter.made.drawn.x_ends()
        for share in (0.4, 0.45, 0.49):
            presenter.look((first + (end - first) * share, end - (end - first) * share), None)
            wait_until(lambda: False, 0.1)
            wait_until(lambda: not window.jobs.is_busy, 60)
        presenter.pick(Stretch(0, (first, (first + end) / 2)))
        wait_until(lambda: False, 0.1)
        wait_until(lambda: not window.jobs.is_busy, 60)
        wait_until(lambda: False, 0.2)
    timer.stop()
    window.close()
    folder.cleanup()
    return 1000 * (max(gaps) - 0.016)


if __name__ == "__main__":
    main()
