"""Moving steps upstream and conditions down, in the window: shown as a change of the query before it is done, and the
rows compared after."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from nimble_otter.desktop.pulls.aspect import Aspect
from nimble_otter.desktop.pulls.step_ref import QUERY
from nimble_otter.desktop.pulls.workspace import Proposal
from nimble_otter.errors import OtterError
from nimble_otter.pull.upstream import Moved, difference, move_down, move_up
from nimble_otter.pull.whole_course import Count, Whole, counts_there, moved_whole
from nimble_otter.translation import tr

if TYPE_CHECKING:
    from nimble_otter.desktop.pulls.open_pull import OpenPull
    from nimble_otter.desktop.pulls.pull_state import PullState
    from nimble_otter.desktop.pulls.workspace import Workspace
    from nimble_otter.stop import StopToken


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
        self._propose(open_pull, moved, tr("The {kind} becomes part of the query:", kind=kind))

    def has_course(self) -> bool:
        """Whether the pull in sight has steps that may be asked to move."""
        open_pull = self._workspace.pull
        return open_pull is not None and any(step.on for step in open_pull.pull.steps)

    def can_ask(self) -> bool:
        """Whether the server of the pull in sight can count its rows."""
        open_pull = self._workspace.pull
        return open_pull is not None and open_pull.pull.query.language == "sql" and not open_pull.is_documents

    def move_all(self) -> None:
        """Propose the query that does what all steps do, from its first rows; none need be here yet."""
        open_pull = self._workspace.pull
        if open_pull is None or not self._may_move(open_pull):
            return
        if not self.has_course():
            self._workspace.say(tr("The course has no steps to move."), True)
            return
        self._ask_whole(
            open_pull, tr("All steps become part of the query:"), lambda text: self._workspace.say(text, True)
        )

    def offer(self, state: PullState, go: Callable[[], None]) -> None:
        """Propose the same before the first row is fetched; `go` runs the query as it is."""
        open_pull = self._workspace.find(state.uid)
        if open_pull is None:
            return

        def stays(text: str) -> None:
            self._workspace.say(tr("The course stays here. {text}", text=text))
            go()

        title = tr("{word} can compute the whole course before a row is fetched:", word=open_pull.pull.source.word)
        self._ask_whole(open_pull, title, stays, go)

    def _ask_whole(
        self, open_pull: OpenPull, title: str, failed: Callable[[str], None], leave: Callable[[], None] | None = None
    ) -> None:
        pull, source = open_pull.pull, open_pull.hub.known(open_pull.pull.source)
        open_pull.runs.release()
        open_pull.hub.reach(source)

        def done(whole: Whole) -> None:
            if open_pull.pull != pull:
                self._workspace.say(tr("The pull was changed meanwhile; try again."), True)
            elif self._workspace.pull is open_pull:
                self._propose(open_pull, whole.moved, title, leave)

        open_pull.jobs.submit(
            open_pull.hub.lane(source), f"{open_pull.key} whole",
            lambda stop, _: moved_whole(pull, open_pull.hub.connection(source), stop),
            done, lambda problem: failed(str(problem)), title=tr("Looking at the first rows"),
        )  # fmt: skip

    def estimate(self) -> None:
        """Ask the server's planner how many rows it expects at each step."""
        self._ask_counts(False)

    def count(self) -> None:
        """Let the server count the rows at each step."""
        self._ask_counts(True)

    def _ask_counts(self, exact: bool) -> None:
        open_pull = self._workspace.pull
        if open_pull is None or not self.can_ask():
            return
        pull, source, found = open_pull.pull, open_pull.hub.known(open_pull.pull.source), dict[int, Count]()
        open_pull.runs.release()
        open_pull.hub.reach(source)

        def work(stop: StopToken, report: Callable[[object], None]) -> None:
            for count in counts_there(pull, open_pull.hub.connection(source), exact, stop):
                report(count)

        def tell(count: Count) -> None:
            found[count.at] = count
            open_pull.there = pull, dict(found)
            open_pull.tell(Aspect.PULL)

        def done(_: object) -> None:
            untold = [count for count in found.values() if count.rows is None]
            if untold:
                self._workspace.say(
                    tr("{word} does not tell how many rows it expects; count them instead.", word=source.word)
                )

        open_pull.jobs.submit(
            open_pull.hub.lane(source), f"{open_pull.key} there", work, done,
            lambda problem: self._workspace.say(str(problem), True), tell,
            title=(tr("Counting on the server") if exact else tr("Estimating on the server")),
        )  # fmt: skip

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
        self._propose(open_pull, moved, tr("The conditions become a local filter; the query returns more rows:"))

    def _ready(self) -> OpenPull | None:
        open_pull = self._workspace.pull
        if open_pull is None or open_pull.table is None or open_pull.is_running:
            self._workspace.say(tr("Run the query first."), True)
            return None
        return open_pull if self._may_move(open_pull) else None

    def _may_move(self, open_pull: OpenPull) -> bool:
        """Whether its query may become another; what keeps it is said."""
        if not open_pull.dialect or open_pull.pull.query.language != "sql":
            self._workspace.say(
                tr(
                    "Steps can be moved into SQL of SQLite, PostgreSQL, MariaDB, DuckDB, Spark SQL and ClickHouse only."
                ),
                True,
            )
        elif open_pull.edits.count:
            self._workspace.say(tr("Changes are pending; write or revert them first."), True)
        else:
            return True
        return False

    def _propose(self, open_pull: OpenPull, moved: Moved, title: str, leave: Callable[[], None] | None = None) -> None:
        self._workspace.show_step(QUERY)
        before, after = open_pull.pull.query.text, moved.pull.query.text

        def accept() -> None:
            if open_pull.pull.query.text != before:
                self._workspace.say(tr("The query was changed meanwhile; try again."), True)
                return
            fetched = open_pull.fetched
            is_whole = fetched is not None and not fetched.was_cut and not fetched.is_part
            open_pull.compare_with = open_pull.course.end if is_whole and open_pull.course is not None else None
            open_pull.shaping.change(moved.pull, tr("Move upstream"))
            open_pull.runs.run()

        lines = difference(before, after)
        if leave is None:
            self._workspace.propose(Proposal(title, lines, moved.notes, accept))
        else:
            self._workspace.propose(
                Proposal(
                    title,
                    lines,
                    moved.notes,
                    accept,
                    tr("Move upstream and run"),
                    tr("Fetch the rows as they are"),
                    leave,
                )
            )
