"""Comparing in the window: what begins it from outside the course."""

from __future__ import annotations

from typing import TYPE_CHECKING

from nimble_otter.desktop.pulls.step_ref import step_at
from nimble_otter.pull.steps import CompareStep
from nimble_otter.sources import Source
from nimble_otter.sources.catalogue import TableInfo
from nimble_otter.translation import tr

if TYPE_CHECKING:
    from nimble_otter.desktop.shell.workbench import Workbench


class Comparing:
    """What the window has to do with comparisons."""

    def __init__(self, window: Workbench) -> None:
        self._window = window
        window.sources.compare_wanted.connect(self.compare_with)

    def compare_with(self, source: Source, table: TableInfo) -> None:
        """Compare the rows of the pull in sight with a table's, by the key that both have."""
        open_pull = self._window.pull
        if open_pull is None or open_pull.course is None:
            self._window.say(tr("Open a pull and run it first; its rows are then compared with the table."), True)
            return
        other = f"{source.name}#{table.name}"
        key = tuple(name for name in table.key if any(f.name.casefold() == name.casefold()
                                                      for f in open_pull.course.end.table.fields))  # fmt: skip
        at = open_pull.shaping.add_step(CompareStep(other, key), tr("Compare"))
        self._window.open_drawer(step_at(at))
