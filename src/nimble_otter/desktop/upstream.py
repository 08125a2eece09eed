"""Moving steps upstream and conditions down, in the window: shown as a change of the query before it is done, and the
rows compared after."""

from __future__ import annotations

from typing import TYPE_CHECKING

from nimble_otter.errors import OtterError
from nimble_otter.pull.upstream import Moved, difference, move_down, move_up

if TYPE_CHECKING:
    from nimble_otter.desktop.session import OpenPull
    from nimble_otter.desktop.window import Window


class Upstream:
    """Works on the pull that is shown."""

    def __init__(self, window: Window) -> None:
        self._window = window
        window.course.upstream_wanted.connect(self.move_up)
        window.course.down_wanted.connect(self.move_down)

    def can_move(self) -> bool:
        """Whether the step selected in the course may be asked to move."""
        session = self._window.pull
        return session is not None and session.table is not None and self._window.course.selected.startswith("step ")

    def move_selected(self) -> None:
        self.move_up(int(self._window.course.selected.removeprefix("step ")))

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
            self._window.say(str(problem), True)
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
            self._window.say(str(problem), True)
            return
        self._propose(session, moved, "The conditions become a local filter; the query gives more rows:")

    def _ready(self) -> OpenPull | None:
        session = self._window.pull
        if session is None or session.table is None or session.is_running:
            self._window.say("Run the query first.", True)
            return None
        if not session.dialect or session.pull.query.language != "sql":
            self._window.say("Steps can be moved into SQL of SQLite, PostgreSQL and MariaDB sources only.", True)
            return None
        if session.edits.count:
            self._window.say("Changes are pending; write them or take them back first.", True)
            return None
        return session

    def _propose(self, session: OpenPull, moved: Moved, title: str) -> None:
        window = self._window
        window.open_drawer("query", focus=False)
        before, after = session.pull.query.text, moved.pull.query.text

        def accept() -> None:
            if session.pull.query.text != before:
                window.say("The query was changed meanwhile; ask again.", True)
                return
            fetched = session.fetched
            is_whole = fetched is not None and not fetched.was_cut and not fetched.is_part
            session.compare_with = session.course.end if is_whole and session.course is not None else None
            session.change(moved.pull, "Move upstream")
            session.run()

        window.query_drawer.propose(title, difference(before, after), moved.notes, accept)
