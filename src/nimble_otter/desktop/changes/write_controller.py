"""Rehearsing and writing what is pending on a pull, and finding out what became of a write of which nobody heard."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from nimble_otter.changes import Plan, Report, ShownRows, look_up, rehearse, rows_after, write, write_each
from nimble_otter.desktop.kit.confirm_dialogs import ask_care, ask_despite, ask_one_by_one
from nimble_otter.desktop.pulls.aspect import Aspect
from nimble_otter.desktop.pulls.drafts import DraftStore
from nimble_otter.desktop.pulls.open_pull import OpenPull
from nimble_otter.desktop.runtime.connections import ConnectionManager
from nimble_otter.desktop.runtime.jobs import Jobs
from nimble_otter.errors import ChangeError, NoTransactions, OtterError, OutcomeUnknown
from nimble_otter.pull.drafts import EditDraft
from nimble_otter.pull.writes import Noted, WriteJournal, Written
from nimble_otter.sources import Source
from nimble_otter.table.text.show import grouped
from nimble_otter.translation import tr, trn

if TYPE_CHECKING:
    from nimble_otter.stop import StopToken


class WriteController:
    """`say(text, is_problem)` tells the user; results go to the pull that asked, whatever is shown by then. `find`
    gives the open pull with a uid."""

    def __init__(
        self, jobs: Jobs, hub: ConnectionManager, drafts: DraftStore, reversals: Path, say: Callable[[str, bool], None],
        find: Callable[[str], OpenPull | None],
    ) -> None:  # fmt: skip
        self._jobs, self._hub, self._drafts, self._say, self._find = jobs, hub, drafts, say, find
        self.journal = WriteJournal(reversals)
        self._unheard: list[Noted] = []
        hub.changed.connect(self._source_opened)

    # --- writing -----------------------------------------------------------------------------------------------

    def _plan(self, open_pull: OpenPull) -> Plan | None:
        try:
            plan: Plan = open_pull.plans.plan()
        except OtterError as refused:
            self._say(str(refused), True)
            return None
        if not plan.statements:
            waits = open_pull.pending.waiting_count
            text = (
                tr("{waits} changed rows wait for a result that has them", waits=grouped(waits))
                if waits
                else tr("Nothing is pending")
            )
            self._say(f"{text}.", bool(waits))
            return None
        return plan

    def rehearse(self, open_pull: OpenPull) -> None:
        """Run what is pending and roll it back; the report stands in the drawer."""
        if self._is_busy(open_pull) or open_pull.wait_for_whole(self.rehearse):
            return
        plan = self._plan(open_pull)
        if plan is None:
            return
        source, edits = self._hub.known(open_pull.pull.source), open_pull.edits.copied()

        def work(stop: StopToken, report: Callable[[object], None]) -> Report:
            return rehearse(self._hub.connection(source), plan, stop, lambda n, m: report((n, m)))

        def done(report: Report) -> None:
            self._say(_said(report, tr("would write"), plan), bool(report.conflicts))
            now = open_pull.edits
            if (now.cells, now.deleted, now.added) == (edits.cells, edits.deleted, edits.added):  # else it is of others
                open_pull.report = report
                open_pull.tell(Aspect.RUN | Aspect.ROWS)

        self._submit(
            open_pull, work, done, tr("Rehearsing"), lambda: self._say(tr("Stopped; nothing was written."), False)
        )

    def _is_busy(self, open_pull: OpenPull) -> bool:
        """Whether a write is under way, which is said."""
        if open_pull.is_writing:
            self._say(tr("A write is under way. What is changed meanwhile stays pending."), False)
        return open_pull.is_writing

    def write(self, open_pull: OpenPull, one_by_one: bool = False, accepts: bool = False) -> None:  # noqa: C901 - counts its callbacks in
        """Write all of what is under review, or nothing; then show the rows as the source has them. `accepts`: also
        where a reversal would not restore everything."""
        if self._is_busy(open_pull):
            return
        if open_pull.in_doubt:
            self.find_out(open_pull)
            return
        if open_pull.wait_for_whole(self.write):
            return
        plan, fetched, target, table = self._plan(open_pull), open_pull.fetched, open_pull.target, open_pull.table
        if plan is None:
            return
        source, is_reversal = self._hub.known(open_pull.pull.source), open_pull.reviewing is not None
        if source.care and not one_by_one and not accepts and not ask_care(source, plan):
            self._say(tr("Nothing was written."), False)
            return
        sent = None if is_reversal or table is None else open_pull.pending.snapshot(table, target)
        by_key = EditDraft() if sent is None else sent.by_key
        written = Written(
            dt.datetime.now(), open_pull.pull.name, source.name, plan.table, len(plan.statements), Path(), is_reversal,
            open_pull.uid,
        )  # fmt: skip

        def work(stop: StopToken, tell: Callable[[object], None]) -> tuple[Report, Noted | None, ShownRows | None]:
            connection = self._hub.connection(source)

            def do(note: Any) -> Report:
                if one_by_one:
                    return write_each(connection, plan, stop, lambda n, m: tell((n, m)), note)
                return write(connection, plan, stop, lambda n, m: tell((n, m)), note, accepts)

            result, noted = self.journal.write(written, source.url, by_key, do)
            if not result.is_written or sent is None or fetched is None:
                return result, noted, None
            return result, noted, rows_after(fetched, target, result)

        def done(result: tuple[Report, Noted | None, ShownRows | None]) -> None:
            report, noted, shown = result
            if not report.is_written:
                self._not_written(open_pull, plan, report, one_by_one)
                return
            if shown is not None and sent is not None and open_pull.fetched is fetched:
                open_pull.plans.take_written(shown, report, sent)
            else:
                open_pull.plans.take_written_unseen(report, by_key, noted.keys if noted is not None else {})
                open_pull.reviewing = None
                open_pull.runs.run_again()
            self._take(open_pull, noted)
            self._say_written(report, plan, noted)
            open_pull.tell(Aspect.RUN)

        def failed(problem: OtterError) -> None:
            if isinstance(problem, OutcomeUnknown):
                open_pull.in_doubt = True
                open_pull.tell(Aspect.EDITS)
            elif isinstance(problem, NoTransactions) and not one_by_one and ask_one_by_one(problem, plan):
                self.write(open_pull, one_by_one=True)

        def stopped() -> None:
            if self._notes(open_pull):
                open_pull.in_doubt = True
                self.find_out(open_pull)
            else:
                self._say(tr("Stopped; nothing was written."), False)

        self._submit(open_pull, work, done, tr("Writing"), stopped, failed)

    def _not_written(self, open_pull: OpenPull, plan: Plan, report: Report, one_by_one: bool) -> None:
        open_pull.report = report
        if report.lasting and not report.conflicts:
            if ask_despite(report.lasting, plan):
                self.write(open_pull, one_by_one, accepts=True)
                return
            self._say(tr("Nothing was written."), False)
        else:
            self._say(_said(report, tr("would write"), plan) + tr(" Nothing was written."), True)
        open_pull.tell(Aspect.ROWS | Aspect.RUN)

    def _say_written(self, report: Report, plan: Plan, noted: Noted | None) -> None:
        count = report.good
        text = trn(
            "Wrote {count} row to {table}",
            "Wrote {count} rows to {table}",
            count,
            count=grouped(count),
            table=plan.table,
        )
        if report.left:
            text += tr(
                "; {left_count} are left: {reason}", left_count=grouped(len(report.left)), reason=_reason(report)
            )
        kept = (
            tr("; the reversal is kept as {script_name}", script_name=noted.written.script.name)
            if noted is not None
            else ""
        )
        self._say(f"{text}{kept}. {report.said}".strip(" ."), bool(report.left))

    def _take(self, open_pull: OpenPull, noted: Noted | None) -> None:
        """The pull knows that it was written; once that is on disk the note is of no use any more."""
        if noted is not None and self._drafts.keep(open_pull):
            self.journal.taken(noted)

    # --- what became of it -------------------------------------------------------------------------------------

    def _notes(self, open_pull: OpenPull) -> list[Noted]:
        return [noted for noted in self.journal.open() if noted.written.uid == open_pull.uid]

    def begin(self) -> None:
        """Writes of last time: what was written leaves the drafts, what is not known is found out when its source can
        be asked."""
        for noted in self.journal.open():
            open_pull = self._find(noted.written.uid)
            if noted.is_alive:  # of another window
                continue
            if noted.outcome and open_pull is not None:
                open_pull.pending.subtract(noted.edits, noted.keys, open_pull.table, open_pull.target)
                self._take(open_pull, noted)
            elif noted.outcome:
                self.journal.taken(noted)
            else:
                self._unheard.append(noted)
                if open_pull is not None:
                    open_pull.in_doubt = True

    def _source_opened(self, name: str) -> None:
        source = self._hub.find(name)
        for noted in [n for n in self._unheard if source is not None and n.url == source.url]:
            self._unheard.remove(noted)
            self._look_up(noted)

    def find_out(self, open_pull: OpenPull) -> None:
        """Look up what became of the last write of a pull."""
        notes = self._notes(open_pull)
        if not notes:
            open_pull.in_doubt = False
            self._say(tr("Nothing was written; the changes are still pending."), False)
            open_pull.tell(Aspect.EDITS)
        for noted in notes:
            self._look_up(noted)

    def _look_up(self, noted: Noted) -> None:
        open_pull = self._find(noted.written.uid)
        source = next((s for s in self._hub.sources if s.url == noted.url), Source(noted.written.source, noted.url))

        def work(stop: object, report: object) -> tuple[bool, str, Noted]:
            if noted.outcome:
                return True, tr("All of it was written."), noted
            try:
                text = look_up(self._hub.connection(source), noted.intent())
            except OutcomeUnknown:
                raise
            except ChangeError as problem:
                self.journal.drop(noted)
                return False, str(problem), noted
            return True, text, self.journal.settle(noted)

        def done(found: tuple[bool, str, Noted]) -> None:
            was_written, text, settled = found
            self._say(f"{noted.written.table}: {text}", not was_written)
            if open_pull is None:
                self.journal.taken(settled)
                return
            open_pull.in_doubt = False
            if was_written:
                report = Report((), noted.written.at, True)
                open_pull.plans.take_written_unseen(report, settled.edits, settled.keys)
                self._take(open_pull, settled)
                open_pull.runs.run_again()
            open_pull.tell(Aspect.EDITS)

        def failed(problem: OtterError) -> None:
            self._say(f"{noted.written.table}: {problem}", True)
            if open_pull is not None and isinstance(problem, OutcomeUnknown) and ask_despite(str(problem), None):
                self.journal.settle(noted)
                self.journal.taken(noted)
                open_pull.in_doubt = False
                open_pull.tell(Aspect.EDITS)

        key = f"{open_pull.key if open_pull is not None else noted.path.name} write"
        self._hub.reach(source)
        self._jobs.submit(self._hub.lane(source), key, work, done, failed, title=tr("Checking what was written"))

    def _submit(
        self, open_pull: OpenPull, work: Any, done: Any, title: str, then_stopped: Callable[[], None],
        then: Callable[[OtterError], None] | None = None,
    ) -> None:  # fmt: skip
        def failed(problem: OtterError) -> None:
            self._say(str(problem), True)
            if then is not None:
                then(problem)
            open_pull.tell(Aspect.RUN)

        def stopped() -> None:
            then_stopped()
            open_pull.tell(Aspect.RUN)

        lane = self._hub.lane(self._hub.known(open_pull.pull.source))
        self._jobs.submit(lane, f"{open_pull.key} write", work, done, failed, stopped=stopped, title=title)
        open_pull.tell(Aspect.RUN)


def _said(report: Report, would: str, plan: Plan) -> str:
    count = len(report.outcomes)
    if not report.conflicts:
        text = (
            tr("All {count} statements {would} one row each", count=grouped(count), would=would)
            if count > 1
            else tr("The statement {would} one row", would=would)
        )
        return (
            tr("{text}. A reversal would not restore {lasting}.", text=text, lasting=report.lasting)
            if report.lasting
            else f"{text}."
        )
    first = report.conflicts[0]
    where = ", ".join(f"{name} {value}" for name, value in first.statement.key) or tr("the new row")
    return tr(
        "{good} of {count} statements {would} one row each; {where}: {problem}",
        good=report.good,
        count=count,
        would=would,
        where=where,
        problem=first.problem,
    )


def _reason(report: Report) -> str:
    bad = next((o.problem for o in report.outcomes if not o.is_good), "")
    return bad or tr("it was stopped.")
