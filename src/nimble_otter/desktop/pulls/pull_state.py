"""What an open pull is: its text and steps, the rows fetched, their course, what is pending, and what is said of it."""

from __future__ import annotations

import datetime as dt
import uuid
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, QTimer, Signal

from nimble_otter.changes import Edits, Plan, Report, Target
from nimble_otter.desktop.pulls.aspect import Aspect
from nimble_otter.desktop.pulls.notice import NOTHING, Notice
from nimble_otter.desktop.pulls.pending import PendingEdits
from nimble_otter.desktop.pulls.step_ref import QUERY
from nimble_otter.desktop.pulls.undo import UndoStack
from nimble_otter.desktop.runtime.connections import ConnectionManager
from nimble_otter.errors import OtterError
from nimble_otter.pull import Course, Pull, Shaped, pull_from_text
from nimble_otter.pull.model import Query
from nimble_otter.pull.profiles import Beside, DeliveryProfile, mark_of
from nimble_otter.pull.shaped import all_rows
from nimble_otter.pull.steps import Checked, CheckStep
from nimble_otter.pull.tree import Opened
from nimble_otter.pull.whole_course import Count
from nimble_otter.query.sql.names import Names
from nimble_otter.sources import Fetched, Request, Source, TableInfo
from nimble_otter.sources.open_transaction import OpenTransaction
from nimble_otter.sources.plans import PlanNode
from nimble_otter.sources.script import Outcome
from nimble_otter.table import Table, View
from nimble_otter.table.core.columns import Ids
from nimble_otter.table.text.show import grouped, plain
from nimble_otter.translation import tr

if TYPE_CHECKING:
    from nimble_otter.send import Sent

COMING = tr("Rows are still arriving.")
"""Why rows can't be changed before all are there."""
PREVIEW = 200
"""Rows of a query that is being put together."""
_SOON_MS = 100


class PullState(QObject):
    """`changed` tells which `Aspect`s of it are others, once for all that is done in a turn."""

    changed = Signal(object)

    def __init__(self, pull: Pull, hub: ConnectionManager, path: Path | None = None, number: int = 0) -> None:
        super().__init__()
        self.hub, self.jobs = hub, hub.jobs
        self.pull, self.path, self.number = pull, path, number
        self._untold = Aspect(0)
        self.saved_text = ""
        self._saved: tuple[str, Pull | None] = ("", None)
        self.fetched: Fetched | None = None
        self.fetched_at: dt.datetime | None = None
        self.course: Course | None = None
        self.pending = PendingEdits()
        self.undo_stack = UndoStack()
        self.target = Target(None, reason=tr("Run the query first."))
        self.report: Report | None = None
        self.reversal = ""
        self.error: OtterError | None = None
        self.notice = NOTHING
        self.show_at: int | None = None
        self.failing_of: tuple[int, int] | None = None
        """The check step, and its line, of which only the rows that fail are shown."""
        self._shown_failing: tuple[Shaped, Checked, Shaped] | None = None
        self.last_profile: DeliveryProfile | None = None
        """What the last delivery remembers, once a step looks at it."""
        self.beside: Beside | None = None
        """The delivery just made beside those before it."""
        self.opened = Opened()
        self.asked: Request | None = None
        self.asked_of: Source | None = None
        """Where the rows came from; the pull may have been given another source since."""
        self.plan_tree: PlanNode | None = None
        self.selected = QUERY
        """The place of the course that is edited while the pull is in sight."""
        self.there: tuple[Pull, dict[int, Count]] | None = None
        """Rows that the server counted at each step, by its place, of the pull as it was then."""
        self.last_sent = ""
        self.sent: Sent | None = None
        self.uid = uuid.uuid4().hex
        """Tells this pull in drafts and in what is noted of writes, whatever it is called."""
        self.fresh: frozenset[int] = frozenset()
        """Row ids of rows just written, as the server has them."""
        self.moved: Ids | None = None
        """Of a look at watched rows: the row id now for each before (-1: gone), until the grid has followed."""
        self.reviewing: Plan | None = None
        """Statements that are looked at in place of what is pending: a reversal."""
        self.reviewing_of: Source | None = None
        self.came_from: PullState | None = None
        self.script_of = hub.known(pull.source)
        self.in_doubt = False
        """Whether it is not known what became of a write; nothing more is written before that is looked up."""
        self.rows_as = 0
        self.chart_at = 0
        """The chart in sight; behind the last: one is to be added."""
        self._collection: tuple[Query, str] | None = None
        self.other_text = ""
        self.outcomes: tuple[Outcome, ...] = ()
        self.compare_with: Shaped | None = None
        self.script_at = 0
        self.is_preview = False
        self.is_closed = False
        self.waits = False
        """Whether the pull comes from elsewhere and nothing may be asked before the user runs it."""
        self.pinned: dict[str, View] = {}
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.timeout.connect(lambda: self._then())
        self._then: Callable[[], object] = lambda: None
        self._soon = QTimer(self, singleShot=True, interval=_SOON_MS)
        self._soon.timeout.connect(self._tell_all)

    def tell(self, what: Aspect) -> None:
        """Tell that this is another than before: now, or with all else at the end of the turn."""
        self._untold |= what
        self.jobs.turn.at_end(self._tell_all)

    def tell_soon(self, what: Aspect) -> None:
        """As `tell`, of what may follow in quick succession: told some times a second."""
        self._untold |= what
        if not self._soon.isActive():
            self._soon.start()

    def _tell_all(self) -> None:
        what, self._untold = self._untold, Aspect(0)
        if what:
            self.changed.emit(what)

    def let_go(self) -> None:
        """A closed pull holds no rows any more, whatever part of the window still knows of it, and hears of no work."""
        self.is_closed = True
        self.hush()
        self.jobs.drop(self.key)
        self.fetched = self.course = self.compare_with = self.report = None
        self.pending, self.outcomes, self.pinned = PendingEdits(), (), {}
        self.undo_stack.clear()

    def hush(self) -> None:
        """Nothing is told any more, nor done later: whoever listened ends."""
        self.blockSignals(True)
        self._later.stop()
        self._soon.stop()

    def after(self, wait_ms: int, do: Callable[[], object]) -> None:
        """Do something of this pull's later, unless it was closed by then, or something else is to be done later."""
        self._then = do
        self._later.start(wait_ms)

    # --- what it is --------------------------------------------------------------------------------------------

    @property
    def key(self) -> str:
        """The key of this pull's work among the jobs."""
        return f"pull {self.uid}"

    @property
    def edits(self) -> Edits:
        """What is pending on the rows shown; see `pending`."""
        return self.pending.shown

    @property
    def is_writing(self) -> bool:
        """Whether its changes are being written."""
        return self.jobs.is_running(f"{self.key} write")

    @property
    def table(self) -> Table | None:
        """The table that was fetched, if there is one."""
        return self.fetched.table if self.fetched is not None else None

    @property
    def failing(self) -> Checked | None:
        """The line of a check whose failing rows are shown; None where all rows are, or none fails it any more."""
        if self.failing_of is None or self.course is None:
            return None
        at, position = self.failing_of
        step = self.pull.steps[at] if at < min(len(self.pull.steps), len(self.course.results)) else None
        if not isinstance(step, CheckStep) or position >= len(step.lines) or not step.lines[position].on:
            return None
        checked = self.course.results[at].shaped.checked
        index = sum(1 for line in step.lines[:position] if line.on)
        found = checked[index] if index < len(checked) else None
        return found if found is not None and found.failing is not None and len(found.failing) else None

    @property
    def shaped(self) -> Shaped | None:
        """The rows that the grid shows: at the end of the course, as of the step chosen with "show rows here", or those
        that fail a check."""
        if (failing := self.failing) is not None and self.course is not None and self.failing_of is not None:
            here = self.course.results[self.failing_of[0]].shaped
            if here.grouped is None:
                if self._shown_failing is None or self._shown_failing[:2] != (here, failing):
                    rows = replace(here, view=View(here.view.table, failing.failing))
                    self._shown_failing = (here, failing, rows)
                return self._shown_failing[2]
        if self.course is None:
            return all_rows(self.table) if self.table is not None else None
        if self.show_at is not None and self.show_at < len(self.course.results):
            return self.course.results[self.show_at].shaped if self.show_at >= 0 else all_rows(self.course.table)
        return self.course.end

    def count_there(self, at: int) -> Count | None:
        """What the server told of a step, or with -1 of the query, unless one of them is another by now, or all rows
        are here."""
        is_whole = self.fetched is not None and not self.fetched.was_cut and not self.fetched.is_part
        if self.there is None or is_whole:
            return None
        pull, counts = self.there
        is_same = pull.query == self.pull.query and pull.steps[: at + 1] == self.pull.steps[: at + 1]
        return counts.get(at) if is_same else None

    @property
    def was_cut(self) -> bool:
        """Whether the row limit cut the result that is shown."""
        return self.fetched is not None and self.fetched.was_cut and not self.is_preview

    @property
    def is_running(self) -> bool:
        """Whether its query runs."""
        return self.jobs.is_running(self.key)

    @property
    def is_dirty(self) -> bool:
        """Whether something would be lost by closing it: pending changes, or what is not saved."""
        return self.pending.count > 0 or self.in_doubt or self.pull != self.saved_pull()

    def saved_pull(self) -> Pull | None:
        """The pull as it was saved; read again only when it was saved since."""
        if self._saved[0] != self.saved_text:
            try:
                self._saved = (self.saved_text, pull_from_text(self.saved_text))
            except OtterError:
                self._saved = (self.saved_text, None)
        return self._saved[1]

    @property
    def dialect(self) -> str:
        """The parser's name of what the source speaks; "" where it is not known."""
        return self.pull.source.dialect.parser

    @property
    def held(self) -> OpenTransaction | None:
        """The transaction that is open on the source."""
        return self.hub.held(self.hub.known(self.pull.source))

    @property
    def is_documents(self) -> bool:
        """Whether its source holds documents."""
        return self.pull.source.dialect.is_documents

    @property
    def rows_source(self) -> Source:
        """The source that the rows shown came from."""
        return self.asked_of or self.hub.known(self.pull.source)

    def told(self) -> str:
        """Where the rows shown come from: source, time, text and parameters."""
        if self.asked is None or self.fetched_at is None or self.fetched is None:
            return ""
        lines = [
            tr(
                "{rows_source_name}, {fetched_at:%Y-%m-%d %H:%M:%S}, {rows} rows",
                rows_source_name=self.rows_source.name,
                fetched_at=self.fetched_at,
                rows=grouped(self.fetched.table.rows),
            )
        ]
        lines += [f":{name} = {plain(value)}" for name, value in self.asked.parameters.items()]
        return "\n".join([*lines, "", self.asked.text.strip()[:2000]])

    @property
    def can_write(self) -> bool:
        """Whether the source takes changes at all."""
        return self.pull.source.dialect.writes and not self.hub.known(self.pull.source).is_read_only

    @property
    def collection(self) -> str:
        """The collection that is asked, as far as the query tells."""
        from nimble_otter.query import translate_select

        query = self.pull.query
        if self._collection is None or self._collection[0] is not query:  # asked for at every move in the grid
            try:
                name = query.collection or translate_select(query.text, None, query.parameters).collection
            except OtterError:
                name = ""
            self._collection = (query, name)
        return self._collection[1]

    @property
    def tables(self) -> list[TableInfo]:
        """The tables of its source, as far as the catalogue is read."""
        return self.hub.tables.get(self.hub.known(self.pull.source).name, [])

    @property
    def remembered_as(self) -> str:
        """The mark under which its deliveries are remembered."""
        return mark_of(self.pull.name, self.pull.source.url)

    @property
    def tables_asked(self) -> tuple[TableInfo, ...]:
        """The tables that its rows come from, as far as they are known."""
        asked = self.fetched.tables if self.fetched is not None else ()
        return asked if self.target.table is None else (*asked, self.target.table)

    @property
    def names(self) -> Names | None:
        """The catalogue of the source as names; None while it is not known."""
        return self.hub.names(self.hub.known(self.pull.source))

    def forget_error(self) -> None:
        """The text that a run failed with is another one by now."""
        self.error = None

    def failed(self, problem: OtterError | None) -> None:
        """Say what went wrong with a run; None: it was stopped."""
        self.error = problem
        if not self.target.is_open and self.target.reason == COMING:
            self.target = Target(None, reason=tr("Only part of the rows arrived. Run the query again to edit them."))
        self.notice = Notice(tr("Stopped before the first row")) if problem is None else NOTHING
        self.tell(Aspect.RUN)
