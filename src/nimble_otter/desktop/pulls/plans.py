"""The statements that an open pull's edits become, and what came of writing them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

from nimble_otter.changes import (
    Action,
    Outcome,
    Plan,
    Report,
    ShownRows,
    make_plan,
    target_of,
)
from nimble_otter.changes.plan import Guard, StatementKind
from nimble_otter.desktop.pulls.aspect import Aspect
from nimble_otter.desktop.pulls.notice import NOTHING
from nimble_otter.desktop.pulls.pending import Snapshot, moved
from nimble_otter.desktop.pulls.pull_state import PullState
from nimble_otter.desktop.pulls.shaping import Shaping
from nimble_otter.errors import ChangeError
from nimble_otter.pull.drafts import EditDraft
from nimble_otter.sources.truncation import cut_rows
from nimble_otter.table.ops.patch import patched
from nimble_otter.translation import tr


class PlanController:
    """Plans under review, answers to conflicts, and the rows as they are after a write."""

    def __init__(self, own: PullState, shaping: Shaping) -> None:
        self._own, self._shaping = own, shaping

    def plan(self) -> Plan:
        """The statements under review: of what is pending, or of a reversal. Raises: ChangeError, also where they are
        of another source than the pull's."""
        now = self._own.hub.known(self._own.pull.source)
        came = self._own.rows_source if self._own.reviewing is None else self._own.reviewing_of or now
        if came.url != now.url:
            what = tr("These rows") if self._own.reviewing is None else tr("These statements")
            hint = tr(
                "Choose {came_name} again, or run the pull: the changes then wait for matching rows.",
                came_name=came.name,
            )
            raise ChangeError(
                tr(
                    "{what} are of {came_name}; the pull asks {now_name} now.",
                    what=what,
                    came_name=came.name,
                    now_name=now.name,
                ),
                hint,
            )
        if self._own.reviewing is not None:
            return self._own.reviewing
        assert self._own.table is not None
        return make_plan(self._own.edits, self._own.table, self._own.target, self._own.pull.guard)

    def match_by_values(self) -> None:
        """Take rows of a table without a key by all their values: asked for, and kept with the pull."""
        self._own.pull = replace(self._own.pull, by_values=True)
        self._own.tell(Aspect.PULL)
        if self._own.fetched is not None and self._own.target.could_match:
            self._own.target = target_of(self._own.fetched, self._own.target.dialect, True)
        self._own.tell(Aspect.EDITS | Aspect.RUN)

    def settle(self) -> None:
        """Mark what was just written no longer."""
        if self._own.fresh:
            self._own.fresh = frozenset()
            self._own.tell(Aspect.ROWS)

    def review(self, plan: Plan | None) -> None:
        """Look at a reversal's statements in place of what is pending; None: back."""
        self._own.reviewing, self._own.report = plan, None
        self._own.reviewing_of = self._own.hub.known(self._own.pull.source)
        self._own.tell(Aspect.RUN)

    def set_guard(self, guard: Guard) -> None:
        """What a changed row must still hold; kept with the pull."""
        self._own.pull = replace(self._own.pull, guard=guard)
        self._own.report = None
        self._own.tell(Aspect.PULL | Aspect.EDITS)

    def resolve(self, outcome: Outcome, names: Sequence[str], mine: bool) -> None:
        """Answer a conflict in some columns: keep what is pending there against what others wrote, or take theirs."""
        row, places = outcome.statement.row_id, {info.name: at for at, info in self._own.target.columns}
        theirs = {places[name]: value for name, value in outcome.now if name in names and name in places}
        if outcome.is_gone:
            action = self._own.edits.revert(rows=[row])
        elif mine:
            action = Action(tr("Keep mine"))
        elif outcome.statement.kind == StatementKind.DELETE:
            action = Action(tr("Keep the row"), restore=(row,))
        else:
            action = self._own.edits.revert(cells=[(row, place) for place in theirs])
        left = tuple(pair for pair in outcome.now if pair[0] not in names)
        report = self._own.report
        self.take_current({row: theirs} if theirs else {}, action)
        if report is not None:  # what is answered is no conflict any more; what is not is still shown
            rest = [o for o in report.outcomes if o.statement.row_id != row]
            rest += [replace(outcome, now=left)] if left and not outcome.is_gone else []
            self._own.report = replace(report, outcomes=tuple(rest))
            self._own.tell(Aspect.EDITS)

    def take_current(self, values: Mapping[int, Mapping[int, object]], action: Action) -> None:
        """What others wrote meanwhile, by row id and place, becomes what was seen; `action` answers it."""
        assert self._own.fetched is not None
        if values:
            self._own.fetched = replace(self._own.fetched, table=patched(self._own.fetched.table, values))
        for row, own in values.items():
            for index in own:
                self._own.edits.seen.pop((row, index), None)
        self._own.edits.apply(action)
        self._own.undo_stack.rows_changed()  # it would bring back what is not seen now
        self._own.report, self._own.course = None, None
        self._shaping.walk()
        self._own.tell(Aspect.EDITS)

    def take_written(self, shown: ShownRows, report: Report, done: Snapshot) -> None:
        """After a write: the rows as the server has them; what was changed since the plan was made, and what was not
        written, is still pending."""
        assert self._own.table is not None
        left = self._own.pending.left_after(done, report, self._own.table, self._own.target)
        fetched, table = shown.fetched, shown.fetched.table
        long = fetched.long if fetched.cut else None
        self._own.fetched = replace(fetched, cut=cut_rows(table, long) if long is not None else {})
        self._own.target = replace(self._own.target, unseen=fetched.unseen)
        self._own.pending.shown = moved(left, shown.moved, table.rows)
        self._own.report, self._own.reversal, self._own.fresh, self._own.notice = (
            report,
            report.reversal,
            shown.fresh,
            NOTHING,
        )
        self._own.undo_stack.written()
        self._own.course = None
        self._shaping.walk()
        self._own.tell(Aspect.EDITS | Aspect.RUN)

    def take_written_unseen(self, report: Report, done: EditDraft, keys: dict[object, tuple[object, ...]]) -> None:
        """After a write whose rows are not shown any more, or of which is heard only now: nothing of it is pending."""
        self._own.pending.subtract(done, keys, self._own.table, self._own.target)
        self._own.report, self._own.reversal = report, report.reversal
        self._own.undo_stack.written()
        self._own.tell(Aspect.EDITS | Aspect.RUN)
