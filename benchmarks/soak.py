"""A long day in minutes: pulls, stops, steps, edits reverted, deliveries, tabs closed and reopened, in the real window.

.venv/bin/python -m benchmarks.soak [MINUTES] [ROWS]

Prints the resident memory at the end of each minute, and how the last third of them lies to the second: a level stays.
"""

from __future__ import annotations

import gc
import random
import sys
import time
from collections import Counter
from dataclasses import replace

from benchmarks.survey_window import open_window

from nimble_otter.desktop.kit.offscreen import wait_until

TEXTS = ("select * from reading", "select * from station", "select * from lab_sample",
         "select r.*, s.name from reading r join station s using (station_id) where r.level_m > 0.5")  # fmt: skip


class Day:
    """What a user does, at random."""

    def __init__(self, window, source, folder):
        self.window, self.source, self.folder = window, source, folder
        self.chance, self.did = random.Random(4), Counter()

    @property
    def pull(self):
        pull = self.window.pull
        return pull if pull is not None and pull.table is not None else None

    def rest(self, seconds=0.05):
        wait_until(lambda: False, seconds)
        wait_until(lambda: not self.window.jobs.is_busy, 60)

    def open_pull(self):
        from nimble_otter.pull import Pull, Query

        query = Query(self.chance.choice(TEXTS), limit=None)
        self.window.add_pull(Pull(f"p{self.chance.randrange(99)}", self.source, query))
        if self.chance.random() < 0.3:
            wait_until(lambda: False, self.chance.random() * 0.4)
            self.window.commands.run("stop")
            self.did["stopped"] += 1

    def shape(self):
        from nimble_otter.pull.steps import Condition, FigureOf, GroupStep, SortBy, SortStep, group_keys
        from nimble_otter.table.ops.group import AggregateFunction as Agg

        pull = self.pull
        number = next((f.name for f in pull.table.fields if f.is_number), "") if pull is not None else ""
        if number and self.chance.random() < 0.5:
            pull.shaping.add_step(SortStep((SortBy(number, True),)), "Sort")
        elif number and len(pull.pull.steps) < 4:
            figures = (FigureOf(Agg.COUNT), FigureOf(Agg.MEAN, number))
            pull.shaping.add_step(GroupStep(group_keys(number), figures), "Group")
        elif pull is not None:
            self.window.actions_on_grid.add_condition(Condition("is not empty", pull.table.fields[0].name))

    def edit(self):
        from nimble_otter.changes import Action
        from nimble_otter.desktop.pulls.step_ref import CHANGES

        pull = self.pull
        if pull is not None and pull.target.keys and pull.table.rows:
            cells = tuple((row, 1, None) for row in range(min(50, pull.table.rows)))
            pull.changes.edit(Action("Edit", cells=cells))
            self.window.open_drawer(CHANGES)
            self.rest()
            pull.changes.undo()

    def send(self):
        from nimble_otter.desktop.pulls.step_ref import SEND
        from nimble_otter.pull import SendPlan

        if (pull := self.pull) is not None:
            self.window.open_drawer(SEND)
            plan = SendPlan("csv", f"{self.folder}/out.csv", {}, "replace")
            pull.shaping.put(replace(pull.pull, send=plan))
            self.window.sending.send(pull, plan)

    def close(self):
        pulls = self.window.workspace.pulls
        if pulls:
            self.window.workspace.close(self.chance.choice(pulls))

    def reopen(self):
        self.window.closing.reopen()

    def act(self):
        from nimble_otter.desktop.pulls.step_ref import QUERY

        acts = [self.open_pull] * 3 + [self.shape] * 4 + [self.edit] * 2 + [self.send, self.reopen] + [self.close] * 3
        while len(self.window.workspace.pulls) > 6:
            self.close()
        act = self.chance.choice(acts)
        act()
        self.did[act.__name__] += 1
        self.rest()
        if self.window.pull is not None:
            self.window.open_drawer(QUERY)

    def level(self):
        """Megabytes held with nothing open."""
        from nimble_otter.memory import resident

        while self.window.workspace.pulls:
            self.close()
        self.rest(0.3)
        gc.collect()
        return resident() / 1e6


def main() -> None:
    minutes = float(sys.argv[1]) if len(sys.argv) > 1 else 30.0
    rows = int(sys.argv[2]) if len(sys.argv) > 2 else 200_000
    window, path, folder = open_window(rows)
    from nimble_otter.sources.source import source_of_file

    day = Day(window, window.hub.add(source_of_file(path)), folder.name)
    began, levels = time.monotonic(), list[float]()
    while time.monotonic() - began < minutes * 60:
        day.act()
        if time.monotonic() - began > 60 * (len(levels) + 1):
            levels.append(day.level())
            print(
                f"minute {len(levels)}: {levels[-1]:.0f} MB with nothing open, {sum(day.did.values())} acts", flush=True
            )
    third = max(1, len(levels) // 3)
    middle, last = levels[third : 2 * third] or levels, levels[-third:]
    ratio = (sum(last) / len(last)) / (sum(middle) / len(middle))
    print(dict(day.did))
    print(f"last third of {len(levels)} minutes at {ratio:.3f} of the second; {levels[0]:.0f} MB after the first, "
          f"{max(levels):.0f} MB at most")  # fmt: skip
    window.hub.holding = list
    window.close()


if __name__ == "__main__":
    main()
