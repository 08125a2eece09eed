"""Moving steps upstream and conditions down, in the window: shown as a change of the query before it is done, and the
rows compared after."""

from __future__ import annotations

from typing import TYPE_CHECKING

from nimble_otter.desktop.pulls.step_ref import QUERY
from nimble_otter.desktop.pulls.workspace import Proposal
from nimble_otter.errors import OtterError
from nimble_otter.pull.upstream import Moved, difference, move_down, move_up

if TYPE_CHECKING:
    from nimble_otter.desktop.pulls.open_pull import OpenPull
    from nimble_otter.desktop.pulls.workspace import Workspace


class Upstream:
    """Works on the pull that is shown."""

    def __init__(self, workspace: Workspace) -> None:
        self._workspace = workspace

    def can_move(self) -> bool:
        """Whether the step selected in the course may be asked to move."""
        open_pull = self._workspace.pull
        return open_pull is not None and open_pull.table is not None and open_pull.selected.is_step

    def move_selected(self) -> None:
        """Move the selected step upstream."""
        if (open_pull := self._workspace.pull) is not None and open_pull.selected.is_step:
            self.move_up(open_pull.selected.at)

    def move_up(self, at: int) -> None:
        """Propose the query that does what a step did here."""
        open_pull = self._ready()
        if open_pull is None or open_pull.table is None:
            return
        source = open_pull.hub.known(open_pull.pull.source)
        try:
            moved = move_up(
                open_pull.pull, at, open_pull.table, open_pull.dialect, lambda name: open_pull.hub.quoted(source, name)
            )
        except OtterError as problem:
            self._workspace.say(str(problem), True)
            return
        kind = open_pull.pull.steps[at].kind
        self._propose(open_pull, moved, f"The {kind} becomes part of the query:")

    def move_down(self) -> None:
        """Propose the query without its conditions, which become a local filter."""
        open_pull = self._ready()
        if open_pull is None or open_pull.table is None:
            return
        try:
            moved = move_down(open_pull.pull, open_pull.table, open_pull.dialect)
        except OtterError as problem:
            self._workspace.say(str(problem), True)
            return
        self._propose(open_pull, moved, "The conditions become a local filter; the query returns more rows:")

    def _ready(self) -> OpenPull | None:
        open_pull = self._workspace.pull
        if open_pull is None or open_pull.table is None or open_pull.is_running:
            self._workspace.say("Run the query first.", True)
            return None
        if not open_pull.dialect or open_pull.pull.query.language != "sql":
            self._workspace.say("Steps can be moved into SQL of SQLite, PostgreSQL and MariaDB sources only.", True)
            return None
        if open_pull.edits.count:
            self._workspace.say("Changes are pending; write or revert them first.", True)
            return None
        return open_pull

    def _propose(self, open_pull: OpenPull, moved: Moved, title: str) -> None:
        self._workspace.show_step(QUERY)
        before, after = open_pull.pull.query.text, moved.pull.query.text

        def accept() -> None:
            if open_pull.pull.query.text != before:
                self._workspace.say("The query was changed meanwhile; try again.", True)
                return
            fetched = open_pull.fetched
            is_whole = fetched is not None and not fetched.was_cut and not fetched.is_part
            open_pull.compare_with = open_pull.course.end if is_whole and open_pull.course is not None else None
            open_pull.shaping.change(moved.pull, "Move upstream")
            open_pull.runs.run()

        self._workspace.propose(Proposal(title, difference(before, after), moved.notes, accept))
