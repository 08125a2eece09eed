"""Long deeds on a pull that reach a source or a file: rehearsing, writing, sending."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from PySide6.QtWidgets import QApplication

from nimble_otter.changes import Plan, Report, Target, rehearse, write, write_each
from nimble_otter.desktop.hub import Hub
from nimble_otter.desktop.jobs import LOCAL, Jobs
from nimble_otter.desktop.keeping import Keeper
from nimble_otter.desktop.session import OpenPull
from nimble_otter.desktop.views.questions import ask_care, ask_one_by_one
from nimble_otter.errors import NoTransactions, OtterError
from nimble_otter.pull.model import SendPlan
from nimble_otter.pull.shaped import columns_to_send
from nimble_otter.pull.writes import Written, keep_write
from nimble_otter.send import Rows, Sent, fill_name, format_for, send_text, send_to_file
from nimble_otter.sources import Fetched
from nimble_otter.table.patch import patched
from nimble_otter.table.show import grouped

MOST_TO_CLIPBOARD = 200_000


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

    @staticmethod
    def _wait_for_whole(session: OpenPull, then: Callable[[OpenPull], None], all_rows: bool = False) -> bool:
        """Whether values are still to be fetched whole before something is done with them; it is done then."""
        rows = {*session.edits.edited_rows, *session.edits.deleted}
        if all_rows and session.shaped is not None:
            rows = session.whole.rows_in(session.shaped)
        if not session.whole.cells(rows):
            return False
        session.whole.fetch(rows, lambda: then(session))
        return True

    def rehearse(self, session: OpenPull) -> None:
        """Run what is pending and roll it back; the report stands in the drawer."""
        if self._wait_for_whole(session, self.rehearse):
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
        if self._wait_for_whole(session, self.write):
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

    # --- sending -----------------------------------------------------------------------------------------------

    @staticmethod
    def _rows(session: OpenPull) -> Rows | None:
        shaped = session.shaped
        if shaped is None:
            return None
        fields, columns, view = columns_to_send(shaped)
        table = session.target.table.name if session.target.table is not None else session.pull.name
        return Rows(fields, columns, view, table)

    def send_file(self, session: OpenPull, plan: SendPlan) -> None:
        """Write the rows as shown to the plan's file, in the background."""
        if self._wait_for_whole(session, lambda session: self.send_file(session, plan), True):
            return
        rows = self._rows(session)
        if rows is None:
            self._say("There are no rows to send; run the query first.", True)
            return
        try:
            format_ = format_for(plan.format)
            name = fill_name(
                plan.path,
                session.pull.name,
                session.pull.source.name,
                len(rows),
                dt.datetime.now(),
                session.pull.values(),
            )
        except OtterError as problem:
            self._say(str(problem), True)
            return
        path = Path(name if name.lower().endswith(format_.suffix) else name + format_.suffix).expanduser()

        def work(stop: Any, report: Any) -> Sent:
            return send_to_file(rows, format_, path, plan.options, stop, lambda n, m: report((n, m)))

        def done(sent: Sent) -> None:
            session.last_sent = f"last sent {dt.datetime.now():%a %H:%M}"
            self._say(f"Sent {grouped(sent.rows)} rows to {sent.path} ({grouped(-(-sent.bytes // 1024))} kB)", False)
            session.pull_changed.emit()

        self._jobs.submit(
            LOCAL, f"{session.key} send", work, done, lambda problem: self._say(str(problem), True),
            stopped=lambda: self._say("Stopped; no file was left behind.", False), title=f"Sending {path.name}",
        )  # fmt: skip

    def send_clipboard(self, session: OpenPull, plan: SendPlan) -> None:
        """The rows as shown, as text of the plan's format."""
        if self._wait_for_whole(session, lambda session: self.send_clipboard(session, plan), True):
            return
        rows = self._rows(session)
        if rows is None:
            self._say("There are no rows to copy; run the query first.", True)
            return
        if len(rows) > MOST_TO_CLIPBOARD:
            self._say(f"More than {grouped(MOST_TO_CLIPBOARD)} rows; write a file instead.", True)
            return
        format_ = format_for(plan.format)

        def done(text: str) -> None:
            QApplication.clipboard().setText(text)
            self._say(f"Copied {grouped(len(rows))} rows as {format_.word}", False)

        self._jobs.submit(
            LOCAL, f"{session.key} send", lambda stop, _: send_text(rows, format_, plan.options, stop), done,
            lambda problem: self._say(str(problem), True), title="Copying",
        )  # fmt: skip


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
