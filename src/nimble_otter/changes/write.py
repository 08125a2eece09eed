"""Rehearsing and writing a plan: one transaction, each statement must touch exactly one row, or nothing is written.

What is to be committed is noted before it is: a write that is stopped, cut off or killed while it commits can be looked
up afterwards, by what the server says of its transaction or by its rows.
"""

from __future__ import annotations

import datetime as dt
import time
from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import replace

from nimble_otter.changes import document_write as documents
from nimble_otter.changes.alike import alike, identical
from nimble_otter.changes.commit import Commit, Note
from nimble_otter.changes.execution import Execution
from nimble_otter.changes.locked_rows import Row
from nimble_otter.changes.order import arranged
from nimble_otter.changes.plan import Guard, Pairs, Plan, Statement, StatementKind, reversal
from nimble_otter.changes.report import Intent, Outcome, Report, one_by_one, partly
from nimble_otter.changes.statement_sql import Wording
from nimble_otter.errors import (
    ChangeError,
    LostError,
    NoTransactions,
    OtterError,
    OutcomeUnknown,
)
from nimble_otter.sources.source import Connection
from nimble_otter.sources.writer import Writer
from nimble_otter.stop import NEVER, Progress, StopToken
from nimble_otter.translation import tr

_ATTEMPTS, _PAUSE_S = 6, 1.0
"""How often it is tried to reach a server again that was lost in a commit."""
_TRIAL = "nimble_otter_trial"


def render(plan: Plan, statements: Sequence[Statement] | None = None) -> list[str]:
    """The statements as text with literals in the dialect's own writing, for showing, copying and scripts."""
    if plan.dialect.is_documents:
        return documents.render(plan, statements)
    words = Wording(plan)
    return [words.shown(plan.as_run(s)) for s in (plan.statements if statements is None else statements)]


def render_parks(plan: Plan) -> list[str]:
    """The statements that put rows aside which exchange what is unique; they run before the others."""
    words = Wording(plan)
    return [words.shown(statement) for statement in plan.parked()]


def script(plan: Plan, head: str = "") -> str:
    """The statements as a script for the server's own client, in one transaction."""
    if plan.dialect.is_documents:
        return documents.script(plan, head)
    first = next((n for n, s in enumerate(plan.statements) if s.kind == StatementKind.UPDATE), 0)
    texts = render(plan)
    texts[first:first] = render_parks(plan)
    return "\n".join([*(f"-- {line}" for line in head.splitlines()), plan.dialect.script_head, *texts, "commit;", ""])


def rehearse(connection: Connection, plan: Plan, stop: StopToken = NEVER, progress: Progress | None = None) -> Report:
    """Run every statement in one transaction and roll it back. Raises: SourceError's, Stopped; nothing is written."""
    if plan.dialect.is_documents:
        return documents.rehearse(connection, plan, stop, progress)
    _refuse_held(connection)
    _refuse_without_transactions(connection, plan)
    with connection.transaction(stop) as writer:
        run = Execution(writer, plan, stop, progress)
        outcomes, lasting = run.all(), ""
        if all(outcome.is_good for outcome in outcomes):
            written, keys = run.read_back()
            outcomes = run.with_notes(outcomes, written)
            writer.check_deferred()
            lasting = _lasting(writer, run, _back(run, keys, written), stop)
    return Report(outcomes, dt.datetime.now(), lasting=lasting, said=writer.rehearsal_note)


def write(
    connection: Connection,
    plan: Plan,
    stop: StopToken = NEVER,
    progress: Progress | None = None,
    note: Note = lambda intent: None,
    accepts: bool = True,
) -> Report:
    """Write all, or nothing when any statement does not touch exactly one row (the report says which and why), or when
    a reversal would not restore everything and that is not what the user `accepts`. `note` keeps what is about to be
    committed.

    Raises: SourceError's, Stopped (nothing written); ChangeError when the commit was refused; OutcomeUnknown when it
    was not answered and the rows don't tell either.
    """
    if plan.dialect.is_documents:
        return documents.write(connection, plan, stop, progress, note)
    _refuse_held(connection)
    with Commit(stop, note, lambda intent: look_up(connection, intent)) as commit:
        _refuse_without_transactions(connection, plan)
        with connection.transaction(stop) as writer:
            run = Execution(writer, plan, stop, progress)
            outcomes = run.all()
            report = Report(outcomes, dt.datetime.now())
            if report.conflicts:
                return report
            written, keys = run.read_back()
            outcomes = run.with_notes(outcomes, written)
            back = _back(run, keys, written)
            writer.check_deferred()
            lasting = _lasting(writer, run, back, stop)
            if lasting and not accepts:
                return Report(outcomes, dt.datetime.now(), lasting=lasting)
            writer.record_transaction_id()
            stop.check()
            report = _written(run.plan, outcomes, written, back, lasting)
            commit.make(writer, Intent(run.plan, keys, written, writer.mark, report))
    return commit.report()


def write_each(
    connection: Connection,
    plan: Plan,
    stop: StopToken = NEVER,
    progress: Progress | None = None,
    note: Note = lambda intent: None,
) -> Report:
    """Where there are no transactions: one statement after the other, until one fails or it is stopped; the report
    tells exactly which were written. Raises: SourceError's, before the first; OutcomeUnknown."""
    if plan.dialect.is_documents:
        return documents.write_each(connection, plan, stop, progress, note)
    _refuse_held(connection)
    with connection.transaction() as writer:
        run = Execution(writer, plan, NEVER)
        note(Intent(run.plan, {}, {}, "", Report((), dt.datetime.now()), is_atomic=False))

        def finish(done: Plan) -> tuple[dict[int, Row | None], dict[int, Pairs]]:
            found = run.read_back(done)
            writer.commit()
            return found

        outcomes, done, (written, keys) = one_by_one(plan, stop, progress, run.alone, finish)
    back = _back(run, keys, written, done)
    return partly(_written(done, outcomes, written, back, run.lasting), plan, done)


def _back(
    run: Execution, keys: Mapping[int, Pairs], written: Mapping[int, Row | None], done: Plan | None = None
) -> Plan:
    """The reversal of what was run."""
    plan = done or run.plan
    changing = frozenset(column.name for column in run.facts.columns if column.changes)
    made = replace(
        run.plan,
        statements=tuple(reversal(plan, keys, run.before, written, changing)),
        guard=Guard.SEEN,
        is_exact=True,
        parks=(),
    )
    rows = {row_id: row for row_id, row in written.items() if row is not None}
    return arranged(made, run.facts.uniques, rows)


def _lasting(writer: Writer, run: Execution, back: Plan, stop: StopToken) -> str:
    """What the reversal would not restore, in words: where more hangs on the table than its rows, the reversal is
    tried here, inside the transaction, and taken back."""
    facts = run.facts
    if not any(facts.triggers.values()) and not facts.has_policies:
        return run.lasting
    if not writer.can_go_back:
        return "; ".join(
            filter(None, (run.lasting, tr("what triggers would do to the reversal, which can't be tried here")))
        )
    writer.execute(writer.dialect.savepoint.format(_TRIAL))
    try:
        trial = Execution(writer, back, stop)
        outcomes = trial.all()
        bad = next((o.problem for o in outcomes if not o.is_good), "")
        differing = [] if bad else run.differences()
    finally:
        with suppress(LostError):
            writer.go_back(_TRIAL)
    lines = list(dict.fromkeys(part for part in (run.lasting, trial.lasting) if part))
    if bad:
        lines.append(tr("the reversal itself would be refused ({bad})", bad=bad.rstrip(".")))
    if differing:
        lines.append(tr("{differing}, which the server sets again", differing=", ".join(differing)))
    return "; ".join(lines)


def _written(
    plan: Plan, outcomes: tuple[Outcome, ...], written: Mapping[int, Row | None], back: Plan, lasting: str
) -> Report:
    at = dt.datetime.now()
    head = tr("Restores what was written to {table} at {at:%Y-%m-%d %H:%M:%S}.", table=plan.table, at=at)
    text = script(back, tr("{head}\nIt does not restore {lasting}.", head=head, lasting=lasting) if lasting else head)
    return Report(outcomes, at, True, written, text, back, lasting=lasting)


def _refuse_held(connection: Connection) -> None:
    """Raises: ChangeError, where a transaction of the user's is open on this source: what is written here has one of
    its own, and would wait for that."""
    if connection.held is not None:
        raise ChangeError(tr("A transaction is open on this source."), tr("Commit it or roll it back, then write."))


def _refuse_without_transactions(connection: Connection, plan: Plan) -> None:
    """Raises: NoTransactions."""
    engine = connection.without_transactions(plan.info)
    if engine:
        raise NoTransactions(
            tr(
                "{table} uses {engine}, which has no transactions: nothing can be rehearsed or rolled back.",
                table=plan.table,
                engine=engine,
            ),
            tr("Write sends the statements one by one and stops at the first that fails."),
        )


def look_up(connection: Connection, intent: Intent, patience: int = _ATTEMPTS) -> str:
    """After a commit that was not answered, or of which nobody heard: whether it was done. Returns what to say when it
    was. Raises: ChangeError when nothing was written; OutcomeUnknown."""
    if intent.plan.dialect.is_documents:
        return documents.look_up(connection, intent)
    lost = tr("The server did not confirm the commit")
    done: bool | None = None
    for attempt in range(patience):
        try:
            done = connection.outcome_of(intent.mark) if intent.mark else None
            text = tr("The server says that")
            if done is None:
                done, text = _look(connection, intent), tr("The rows show that")
            break
        except OtterError as problem:
            if attempt + 1 == patience:
                raise OutcomeUnknown(
                    tr("{lost}, and the rows can't be read: {message}", lost=lost, message=problem.message),
                    tr("It is looked up again before anything more is written."),
                ) from problem
            time.sleep(_PAUSE_S)
    if done is None:
        raise OutcomeUnknown(
            tr("{lost}. Some rows match neither the old nor the new values.", lost=lost),
            tr("Run the query again and compare before writing again."),
        )
    if not done:
        raise ChangeError(
            tr("{lost}. {text} nothing was written; the changes are still pending.", lost=lost, text=text),
            tr("Write them again."),
        )
    return tr("{lost}, but {witness}{rest} all of it was written.", lost=lost, witness=text[0].lower(), rest=text[1:])


def _look(connection: Connection, intent: Intent) -> bool | None:
    """Whether the rows are as they were to be (True), as before (False), or neither; waits for whoever still holds
    them, as the transaction that was cut off may."""
    plan, keys, written = intent.plan, intent.keys, intent.written
    words = Wording(plan)
    columns = [c.name for c in plan.info.columns]
    states = set()
    with connection.transaction() as writer:

        def row_of(key: Pairs) -> dict[str, object] | None:
            found = writer.query(words.locking(key, columns))[1]
            return dict(zip(columns, found[0], strict=False)) if found else None

        for statement in plan.statements:
            key = keys[statement.row_id] if statement.kind != StatementKind.DELETE else statement.key
            now = row_of(key)
            before = row_of(statement.key) if statement.kind == StatementKind.UPDATE and key != statement.key else now
            states.add(_state(statement, now, before, written[statement.row_id]))
    states.discard("both")
    if not states:
        return True
    return {"after": True, "before": False}.get(states.pop()) if len(states) == 1 else None


def _state(
    statement: Statement,
    now: dict[str, object] | None,
    before: dict[str, object] | None,
    after: dict[str, object] | None,
) -> str:
    if statement.kind == StatementKind.DELETE:
        return "after" if now is None else "before"
    is_after = now is not None and after is not None and same_row(now, after)
    if statement.kind == StatementKind.INSERT:
        return "after" if is_after else ("before" if now is None else "neither")
    is_before = before is not None and all(alike(before.get(n), v) for n, v in statement.old)
    return "both" if is_after and is_before else ("after" if is_after else ("before" if is_before else "neither"))


def same_row(one: Mapping[str, object], other: Mapping[str, object]) -> bool:
    """Whether two rows have the same columns with the same values, types included."""
    return one.keys() == other.keys() and all(identical(value, other[name]) for name, value in one.items())
