"""The worst delay of a 16 ms timer in the window while it pulls, sends, sorts, filters, groups and watches N rows.

.venv/bin/python -m benchmarks.window_gap [ROWS] [postgresql | mariadb]

With a server's name it also pulls 12 columns of generated rows from one that is started for the run.
"""

from __future__ import annotations

import sqlite3
import sys
import time
from collections.abc import Callable
from pathlib import Path

from benchmarks.survey_window import open_window

from nimble_otter.desktop.kit.offscreen import wait_until


def main() -> None:
    rows = int(sys.argv[1]) if len(sys.argv) > 1 else 1_000_000
    window, path, folder = open_window(rows)
    from PySide6.QtCore import QTimer
    from tests import servers

    from nimble_otter.desktop.pulls.step_ref import SEND
    from nimble_otter.pull import Pull, Query, SendPlan
    from nimble_otter.pull.steps import Condition, SortBy, SortStep
    from nimble_otter.sources import Source
    from nimble_otter.sources.source import source_of_file

    wait_until(lambda: False, 3)  # a window that was just opened makes itself ready for a second or so
    wait_until(lambda: not window.jobs.is_busy)
    gaps: list[float] = []
    last = [time.perf_counter()]

    def tick() -> None:
        now = time.perf_counter()
        gaps.append(now - last[0])
        last[0] = now

    timer = QTimer()
    timer.timeout.connect(tick)
    timer.start(16)

    def phase(name: str, do: Callable[[], object]) -> None:
        gaps.clear()
        last[0] = time.perf_counter()
        do()
        wait_until(lambda: not window.jobs.is_busy, 600)
        wait_until(lambda: False, 0.3)
        print(f"{name}: worst {max(gaps) * 1000:.0f} ms")

    few = Pull("few", source_of_file(path), Query("select * from station"))
    phase("the first pull of a new window, 42 rows", lambda: window.add_pull(few))
    pull = Pull("readings", source_of_file(path), Query("select * from reading", limit=None))
    phase("pull", lambda: window.add_pull(pull))
    assert window.pull is not None
    shown = window.pull
    window.open_drawer(SEND)
    wait_until(lambda: False, 1)
    for key in ("csv", "jsonl", "sql", "xlsx"):
        plan = SendPlan(key, str(Path(folder.name) / f"out.{key}"), {}, "replace")
        phase(f"send {key}", lambda p=plan: window.sending.send(shown, p))
    phase("sort", lambda: shown.shaping.add_step(SortStep((SortBy("flow_m3s", True),)), "Sort"))
    condition = Condition("sql", text="level_m > 1 and quality <> 'void'")
    phase("filter", lambda: window.actions_on_grid.add_condition(condition))
    phase("group", lambda: window.actions_on_grid.group_by("station_id"))
    few = Pull("watched", source_of_file(path), Query("select * from reading limit 100000", limit=None))
    window.add_pull(few)
    wait_until(lambda: not window.jobs.is_busy, 60)
    watched = window.pull
    watched.watch.set_every(5)

    def look() -> None:
        looks = watched.watch.looks
        watched.watch._look()
        wait_until(lambda: watched.watch.looks > looks, 60)

    for _ in range(3):
        with sqlite3.connect(path) as connection:
            connection.execute("update reading set level_m = level_m + 1 where reading_id % 97 = 0")
        connection.close()
        phase("watch 100 000 rows, of which a thousand change", look)
    watched.watch.set_every(0)
    for name in sys.argv[2:]:
        server = {"postgresql": servers.Postgres, "mariadb": servers.Mariadb}[name]()
        made = "generate_series(1, {}) n" if name == "postgresql" else "(select seq as n from seq_1_to_{}) q"
        text = (
            "select n as id, n * 7 as a, n / 3.7 as f, n / 8.0 as d, n % 42 as s, concat('note ', n) as t, n % 5 as e, "
            "n % 2 as b, n * 1.5 as g, 'good' as q, concat('station ', n % 42) as c, n as h from " + made.format(rows)
        )
        source = window.hub.add(Source(name, server.url))
        wait_until(lambda: not window.jobs.is_busy, 60)
        phase(f"pull from {name}", lambda q=text, s=source: window.add_pull(Pull("p", s, Query(q, limit=None))))
        server.close()
    window.close()
    folder.cleanup()


if __name__ == "__main__":
    main()
