"""An open pull: what it is, and the controllers of what is done with it."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from nimble_otter.desktop.pulls.cells import CellValues
from nimble_otter.desktop.pulls.edit_controller import EditController
from nimble_otter.desktop.pulls.plans import PlanController
from nimble_otter.desktop.pulls.pull_state import PullState
from nimble_otter.desktop.pulls.run_controller import RunController, RunQuestions, Unattended
from nimble_otter.desktop.pulls.shaping import RowsOfOthers, Shaping, no_rows
from nimble_otter.desktop.pulls.versions import PullVersions
from nimble_otter.desktop.pulls.watch import Watch
from nimble_otter.desktop.runtime.connections import ConnectionManager
from nimble_otter.pull import Pull


class OpenPull(PullState):
    """Views read it; only its controllers, and those of the features, change it."""

    def __init__(
        self,
        pull: Pull,
        hub: ConnectionManager,
        path: Path | None = None,
        number: int = 0,
        others: RowsOfOthers = no_rows,
        questions: RunQuestions | None = None,
    ) -> None:
        super().__init__(pull, hub, path, number)
        self.shaping = Shaping(self, others)
        self.truncated = self.shaping.truncated
        self.cells = CellValues(self)
        self.changes = EditController(self, self.cells, self.shaping)
        self.plans = PlanController(self, self.shaping)
        self.versions = PullVersions(self)
        self.runs = RunController(self, self.shaping, self.versions, questions or Unattended())
        self.watch = Watch(self, self.runs)

    def let_go(self) -> None:
        """A closed pull holds no rows any more, whatever part of the window still knows of it, and hears of no work."""
        super().let_go()
        self.watch.set_every(0)
        self.shaping.forget()

    def wait_for_whole(self, then: Callable[[OpenPull], object], all_rows: bool = False) -> bool:
        """Whether values are still to be fetched whole before something is done with the changed rows, or with all; it
        is done then."""
        rows = {*self.edits.edited_rows, *self.edits.deleted}
        if all_rows and self.shaped is not None:
            rows = self.truncated.rows_in(self.shaped)
        if not self.truncated.cells(rows):
            return False
        self.truncated.fetch(rows, lambda: then(self))
        return True
