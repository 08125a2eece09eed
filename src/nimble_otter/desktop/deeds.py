"""Long deeds on a pull that change a source: rehearsing and writing."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from nimble_otter.changes import Plan, Report, Target, rehearse, write, write_each
from nimble_otter.desktop.hub import Hub
from nimble_otter.desktop.jobs import Jobs
from nimble_otter.desktop.keeping import Keeper
from nimble_otter.desktop.session import OpenPull
from nimble_otter.desktop.views.questions import ask_care, ask_one_by_one
from nimble_otter.desktop.whole_values import wait_for_whole
from nimble_otter.errors import NoTransactions, OtterError
from nimble_otter.pull.writes import Written, keep_write
from nimble_otter.sources import Fetched
from nimble_otter.table.patch import patched
from nimble_otter.table.show import grouped


class Deeds:
    """`say(text, is_problem)` tells the user; results go to the pull that asked, whatever is shown by then."""

    def __init__(self, jobs: Jobs, hub: Hub, keeper: Keeper, say: Callable[[str, bool], None]) -> None:
        self._jobs, self._hub, self._keeper, self._say = jobs, hub, keeper, say

    # --- writing -----------------------------------------------------------------------------------------------

    def _plan(self, session: OpenPull) -> Plan | None:
        try:
            plan: Plan = session.plan()
        except OtterError as refused:
            self._say(str(refused), True)
            return None
        if not plan.statements:
            self._say("Nothing is pending.", False)
            return None
        return plan

    def rehearse(self, session: OpenPull) -> None:
        """Run what is pending and roll it back; the report stands in the drawer."""
        if wait_for_whole(session, self.rehearse):
            return
        plan = self._plan(session)
        if plan is None:
            return
        source = self._hub.known(session.pull.source)

        def work(stop: Any, report: Any) -> Report:
            return rehearse(self._hub.connection(source), plan, stop, lambda n, m: report((n, m)))

        def done(report: Report) -> None:
            session.report = report
            self._say(_said(report, "would write", plan), bool(report.conflicts))
            session.state_changed.emit()
            session.rows_changed.emit()

        self._submit(session, work, done, "Rehearsing")

    def write(self, session: OpenPull, one_by_one: bool = False) -> None:
        """Write all of what is under review, or nothing; then show the rows as the source has them."""
        if wait_for_whole(session, self.write):
            return
        plan, fetched, target = self._plan(session), session.fetched, session.target
        if plan is None:
            return
        source, is_reversal = self._hub.known(session.pull.source), session.reviewing is not None
        if source.care and not one_by_one and not ask_care(source, plan):
            self._say("Nothing was written.", False)
            return

        def work(stop: Any, report: Any) -> tuple[Report, Fetched | None, frozenset[int]]:
            do = write_each if one_by_one else write
            result = do(self._hub.connection(source), plan, stop, lambda n, m: report((n, m)))
            if not result.is_written or is_reversal or fetched is None:
                return result, None, frozenset()
            return result, *_shown_after(fetched, target, result)

        def done(result: tuple[Report, Fetched | None, frozenset[int]]) -> None:
            report, fresh, rows = result
            if not report.is_written:
                session.report = report
                self._say(_said(report, "would write", plan) + " Nothing was written.", True)
                session.rows_changed.emit()
            else:
                kept = self._keep(session, plan, report, is_reversal)
                if fresh is not None and session.fetched is fetched:
                    session.take_written(fresh, report, rows)
                else:
                    session.report, session.reversal = report, report.reversal
                    session.reviewing = None
                    session.run()
                count = report.good
                said = f"Wrote {grouped(count)} row{'s' if count != 1 else ''} to {plan.table}"
                if report.left:
                    said += f"; {grouped(len(report.left))} are left: {_reason(report)}"
                self._say(f"{said}{kept}. {report.said}".strip(" ."), bool(report.left))
            session.state_changed.emit()

        def alone(problem: OtterError) -> None:
            if isinstance(problem, NoTransactions) and not one_by_one and ask_one_by_one(problem, plan):
                self.write(session, one_by_one=True)

        self._submit(session, work, done, "Writing", alone)

    def _keep(self, session: OpenPull, plan: Plan, report: Report, was_reversal: bool) -> str:
        """Keep the reversal and a line of the log; returns what to say of it."""
        assert report.back is not None
        made = Written(
            report.at, session.pull.name, session.pull.source.name, plan.table, report.good, Path(), was_reversal
        )
        try:
            made = keep_write(self._keeper.reversals, made, report.back, report.reversal)
        except OSError as problem:
            return f"; the reversal can't be kept: {problem.strerror}"
        return f"; the reversal is kept as {made.script.name}"

    def _submit(
        self, session: OpenPull, work: Any, done: Any, title: str, then: Callable[[OtterError], None] | None = None
    ) -> None:
        def failed(problem: OtterError) -> None:
            self._say(str(problem), True)
            session.state_changed.emit()
            if then is not None:
                then(problem)

        def stopped() -> None:
            self._say("Stopped; nothing was written.", False)
            session.state_changed.emit()

        lane = self._hub.lane(self._hub.known(session.pull.source))
        self._jobs.submit(lane, f"{session.key} write", work, done, failed, stopped=stopped, title=title)
        session.state_changed.emit()


def _said(report: Report, would: str, plan: Plan) -> str:
    count = len(report.outcomes)
    if not report.conflicts:
        return (
            f"All {grouped(count)} statements {would} one row each." if count > 1 else f"The statement {would} one row."
        )
    first = report.conflicts[0]
    where = ", ".join(f"{name} {value}" for name, value in first.statement.key) or "the new row"
    return f"{report.good} of {count} statements {would} one row each; {where}: {first.problem}"


def _reason(report: Report) -> str:
    bad = next((o.problem for o in report.outcomes if not o.is_good), "")
    return bad or "it was stopped."


def _shown_after(fetched: Fetched, target: Target, report: Report) -> tuple[Fetched, frozenset[int]]:
    """The fetched rows with what was read back, and the ids of these rows; runs in the lane."""
    width = len(fetched.table.fields)
    places = dict[str, list[int]]()
    for at, name in (*((at, info.name) for at, info in target.columns), *target.keys, *target.computed):
        if at not in places.setdefault(name, []):
            places[name].append(at)
    values, added, deleted = dict[int, dict[int, Any]](), list[dict[int, Any]](), list[int]()
    for outcome in report.outcomes:
        if not outcome.is_good:
            continue
        statement = outcome.statement
        row = report.written.get(statement.row_id)
        if row is None:
            deleted.append(statement.row_id)
            continue
        own = {at: value for name, value in row.items() for at in places.get(name, ())}
        if statement.kind == "insert":
            added.append(own)
        else:
            values[statement.row_id] = own
    table = patched(fetched.table, values, deleted, added)
    unseen = fetched.unseen
    if unseen is not None:
        own_values = {row: {at - width: v for at, v in own.items()} for row, own in values.items()}
        unseen = patched(unseen, own_values, deleted, [{at - width: v for at, v in own.items()} for own in added])
    gone = np.sort(np.array(deleted, np.int64))
    moved = [int(row - np.searchsorted(gone, row)) for row in values]
    fresh = frozenset((*moved, *range(table.rows - len(added), table.rows)))
    return replace(fetched, table=table, unseen=unseen), fresh
