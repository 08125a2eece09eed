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
        session = self._workspace.pull
        return session is not None and session.table is not None and session.selected.is_step

    def move_selected(self) -> None:
        if (session := self._workspace.pull) is not None and session.selected.is_step:
            self.move_up(session.selected.at)

    def move_up(self, at: int) -> None:
        """Propose the query that does what a step did here."""
        session = self._ready()
        if session is None or session.table is None:
            return
        source = session.hub.known(session.pull.source)
        try:
            moved = move_up(
                session.pull, at, session.table, session.dialect, lambda name: session.hub.quoted(source, name)
            )
        except OtterError as problem:
            self._workspace.say(str(problem), True)
            return
        kind = session.pull.steps[at].kind
        self._propose(session, moved, f"The {kind} becomes part of the query:")

    def move_down(self) -> None:
        """Propose the query without its conditions, which become a local filter."""
        session = self._ready()
        if session is None or session.table is None:
            return
        try:
            moved = move_down(session.pull, session.table, session.dialect)
        except OtterError as problem:
            self._workspace.say(str(problem), True)
            return
        self._propose(session, moved, "The conditions become a local filter; the query returns more rows:")

    def _ready(self) -> OpenPull | None:
        session = self._workspace.pull
        if session is None or session.table is None or session.is_running:
            self._workspace.say("Run the query first.", True)
            return None
        if not session.dialect or session.pull.query.language != "sql":
            self._workspace.say("Steps can be moved into SQL of SQLite, PostgreSQL and MariaDB sources only.", True)
            return None
        if session.edits.count:
            self._workspace.say("Changes are pending; write or revert them first.", True)
            return None
        return session

    def _propose(self, session: OpenPull, moved: Moved, title: str) -> None:
        self._workspace.show_step(QUERY)
        before, after = session.pull.query.text, moved.pull.query.text

        def accept() -> None:
            if session.pull.query.text != before:
                self._workspace.say("The query was changed meanwhile; try again.", True)
                return
            fetched = session.fetched
            is_whole = fetched is not None and not fetched.was_cut and not fetched.is_part
            session.compare_with = session.course.end if is_whole and session.course is not None else None
            session.shaping.change(moved.pull, "Move upstream")
            session.runs.run()

        self._workspace.propose(Proposal(title, difference(before, after), moved.notes, accept))
