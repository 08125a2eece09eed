"""Rehearsing and writing a plan: one transaction, each statement must touch exactly one row, or nothing is written."""

from __future__ import annotations

import datetime as dt
import time
from collections.abc import Iterable, Mapping, Sequence
from contextlib import suppress
from dataclasses import replace
from typing import Any

from nimble_otter.changes import document_write as documents
from nimble_otter.changes.edits import DEFAULT
from nimble_otter.changes.plan import Pairs, Plan, Statement, reversal
from nimble_otter.changes.report import AT_ONCE, Outcome, Report, one_by_one, partly
from nimble_otter.changes.wording import Wording
from nimble_otter.errors import ChangeError, LostError, NoTransactions, OtterError, OutcomeUnknown, SourceError
from nimble_otter.sources.source import Connection
from nimble_otter.sources.writer import Done, Writer
from nimble_otter.stop import NEVER, Progress, StopToken
from nimble_otter.table.show import grouped, plain

_POINT = "nimble_otter"
_ATTEMPTS, _PAUSE_S = 6, 1.0
"""How often it is tried to reach a server again that was lost in a commit."""


def render(plan: Plan, statements: Sequence[Statement] | None = None) -> list[str]:
    """The statements as text with literals in the dialect's own writing, for showing, copying and scripts."""
    if plan.dialect == "documents":
        return documents.render(plan, statements)
    words = Wording(plan)
    return [words.shown(statement) for statement in (plan.statements if statements is None else statements)]


def script(plan: Plan, head: str = "") -> str:
    """The statements as a script for the server's own client, in one transaction."""
    if plan.dialect == "documents":
        return documents.script(plan, head)
    begin = {"sqlite": "begin;", "postgresql": "begin;"}.get(
        plan.dialect, "set time_zone = '+00:00';\nstart transaction;"
    )
    return "\n".join([*(f"-- {line}" for line in head.splitlines()), begin, *render(plan), "commit;", ""])


def rehearse(connection: Connection, plan: Plan, stop: StopToken = NEVER, progress: Progress | None = None) -> Report:
    """Run every statement in one transaction and roll it back. Raises: SourceError's, Stopped; nothing is written."""
    if plan.dialect == "documents":
        return documents.rehearse(connection, plan, stop, progress)
    plan = _prepared(connection, plan)
    with connection.transaction(stop) as writer:
        run = _Run(writer, plan, stop, progress)
        outcomes = run.all()
        if all(outcome.is_good for outcome in outcomes):
            outcomes = run.with_notes(outcomes, run.read_back()[0])
            writer.settle()
    return Report(outcomes, dt.datetime.now())


def write(connection: Connection, plan: Plan, stop: StopToken = NEVER, progress: Progress | None = None) -> Report:
    """Write all, or nothing when any statement does not touch exactly one row (the report says which and why).

    Raises: SourceError's, Stopped (nothing written); ChangeError when the commit was refused; OutcomeUnknown when it
    was not answered and the rows don't tell either.
    """
    if plan.dialect == "documents":
        return documents.write(connection, plan, stop, progress)
    plan = _prepared(connection, plan)
    asked = answered = False
    try:
        with connection.transaction(stop) as writer:
            run = _Run(writer, plan, stop, progress)
            outcomes = run.all()
            report = Report(outcomes, dt.datetime.now())
            if report.conflicts:
                return report
            written, keys = run.read_back()
            outcomes = run.with_notes(outcomes, written)
            writer.sign()
            stop.check()
            asked = True
            writer.commit()
            answered = True
    except LostError as problem:
        if not asked:
            raise LostError(f"{problem.message} Nothing was written.", problem.hint) from None
    except SourceError as problem:
        if asked and not answered:
            raise ChangeError(f"Nothing was written: {problem.message}", problem.hint) from None
        raise
    said = "" if answered else _find_out(connection, plan, keys, written, writer.mark)
    return _written(plan, outcomes, written, keys, run.whole, said)


def write_each(connection: Connection, plan: Plan, stop: StopToken = NEVER, progress: Progress | None = None) -> Report:
    """Where there are no transactions: one statement after the other, until one fails or it is stopped; the report
    tells exactly which were written. Raises: SourceError's, before the first; OutcomeUnknown."""
    if plan.dialect == "documents":
        return documents.write_each(connection, plan, stop, progress)
    with connection.transaction() as writer:
        run = _Run(writer, plan, NEVER, None)

        def finish(done: Plan) -> tuple[dict[int, dict[str, Any] | None], dict[int, Pairs]]:
            found = run.read_back(done)
            writer.commit()
            return found

        outcomes, done, (written, keys) = one_by_one(plan, stop, progress, run.alone, finish)
    return partly(_written(done, outcomes, written, keys, run.whole, ""), plan, done)


def _written(
    plan: Plan,
    outcomes: tuple[Outcome, ...],
    written: Mapping[int, dict[str, Any] | None],
    keys: Mapping[int, Pairs],
    whole: Mapping[int, Pairs],
    said: str,
) -> Report:
    at = dt.datetime.now()
    back = replace(plan, statements=tuple(reversal(plan, keys, whole, written)), guard="seen")
    text = script(back, f"Puts back what was written to {plan.table} at {at:%Y-%m-%d %H:%M:%S}.")
    return Report(outcomes, at, True, written, text, back, said)


def _prepared(connection: Connection, plan: Plan) -> Plan:
    """The plan with what hangs on rows to delete. Raises: ChangeError where the table has no transactions."""
    engine = connection.without_transactions(plan.info)
    if engine:
        raise NoTransactions(
            f"{plan.table} is kept by {engine}, which has no transactions: nothing can be tried or rolled back.",
            "Write sends the statements one by one and stops at the first that fails.",
        )
    if plan.dialect == "sqlite" or not any(s.kind == "delete" for s in plan.statements):
        return plan  # SQLite counts what a delete changes elsewhere
    return replace(plan, referring=connection.referring(plan.info))


class _Run:
    """A plan's statements in one transaction."""

    def __init__(self, writer: Writer, plan: Plan, stop: StopToken, progress: Progress | None) -> None:
        self._writer, self._plan, self._stop, self._progress = writer, plan, stop, progress
        self._words = Wording(plan)
        self._done: dict[int, Outcome] = {}
        self._new: dict[int, Pairs] = {}
        self.whole: dict[int, Pairs] = {}
        """Deleted rows by their row id, columns that were not pulled included."""

    def all(self) -> tuple[Outcome, ...]:
        """Many at a time while they go well; where they don't, the statement that fails is found by halving."""
        statements = self._plan.statements
        doomed = [s for s in statements if s.kind == "delete"]
        for batch in _parts(doomed, AT_ONCE):
            rows = self._read({s.row_id: s.key for s in batch})
            self.whole |= {row_id: tuple(row.items()) for row_id, row in rows.items() if row is not None}
        beside = self._referring(doomed)
        for batch in _parts(statements, AT_ONCE):
            self._stop.check()
            if self._progress is not None:
                self._progress(len(self._done), len(statements))
            self._batch(batch, beside)
        missed = [o.statement for o in self._done.values() if o.rows == 0 and not o.problem]
        for batch in _parts(missed, AT_ONCE):
            rows = self._read({s.row_id: s.key for s in batch})
            for statement in batch:
                self._done[statement.row_id] = _conflict(self._plan, statement, rows[statement.row_id])
        return tuple(self._done[s.row_id] for s in statements)

    def _batch(self, batch: Sequence[Statement], beside: Mapping[int, str]) -> None:
        self._stop.check()
        self._writer.tell(f"savepoint {_POINT}")
        problem: SourceError | None = None
        found: list[Done] = []
        try:
            found = self._writer.many([self._words.bound(s, self._returning(s)) for s in batch])
        except LostError:
            raise
        except SourceError as refused:
            problem = refused
        is_even = problem is None and all(
            d.touched <= 1 and not (d.beside and s.kind == "delete") for s, d in zip(batch, found, strict=True)
        )
        if is_even or len(batch) == 1:
            self._writer.tell(f"{'release' if is_even else 'rollback to'} savepoint {_POINT}")
            if is_even:
                for statement, done in zip(batch, found, strict=True):
                    self._done[statement.row_id] = self._good(statement, done, beside.get(statement.row_id, ""))
            else:
                self._done[batch[0].row_id] = self._bad(batch[0], found[0] if found else None, problem)
            return
        self._writer.tell(f"rollback to savepoint {_POINT}")
        half = len(batch) // 2
        self._batch(batch[:half], beside)
        self._batch(batch[half:], beside)

    def _returning(self, statement: Statement) -> tuple[str, ...]:
        """What tells a new row again: its key, where it has one."""
        if statement.kind != "insert" or self._plan.dialect == "mysql":
            return ()
        return self._plan.info.key or self._plan.key

    def _good(self, statement: Statement, done: Done, beside: str) -> Outcome:
        if statement.kind == "insert" and done.rows:
            self._new[statement.row_id] = tuple(zip(self._returning(statement), done.rows[0], strict=True))
        if done.touched and beside:
            return Outcome(statement, 1, f"Deleting it would also change {beside}.")
        if not done.touched and statement.kind == "insert":
            return Outcome(
                statement, 0, "The server took it without an error, but added no row (a trigger may refuse it)."
            )
        extra = f"{grouped(done.beside)} more row{'s' if done.beside > 1 else ''} by triggers" if done.beside else ""
        return Outcome(statement, done.touched, note=extra)

    def _bad(self, statement: Statement, done: Done | None, problem: SourceError | None) -> Outcome:
        if problem is not None:
            hint = f" {problem.hint}" if problem.hint else ""
            return Outcome(statement, 0, f"The server refused it: {problem.message}{hint}")
        assert done is not None
        if done.touched <= 1:
            text = f"Deleting it would also change {grouped(done.beside)} rows that refer to it."
            return Outcome(statement, 1 + done.beside, text)
        told = "nothing tells them apart" if self._plan.by_values else "the key does not tell them apart"
        return Outcome(statement, done.touched, f"It would change {grouped(done.touched)} rows; {told}.")

    def _referring(self, doomed: Sequence[Statement]) -> dict[int, str]:
        """By row id what deleting a row would change elsewhere, in words."""
        found: dict[int, list[str]] = {}
        for link in self._plan.referring:
            for statement in doomed:
                row = dict(self.whole.get(statement.row_id, ()))
                key = tuple((name, row.get(name)) for name in link.referred)
                if any(value is None for _, value in key):
                    continue
                count = self._writer.ask(self._words.counting(link.table, link.columns, key))[1][0][0]
                if count:
                    found.setdefault(statement.row_id, []).append(
                        f"{grouped(count)} of {link.table} ({link.on_delete})"
                    )
        return {row_id: ", ".join(said) for row_id, said in found.items()}

    def alone(self, statement: Statement) -> Outcome:
        """One statement that stays done, as its table knows no other way."""
        if statement.kind == "delete":
            row = self._read({0: statement.key})[0]
            self.whole[statement.row_id] = tuple((row or {}).items())
        try:
            done = self._writer.many([self._words.bound(statement, self._returning(statement))])[0]
        except LostError:
            raise
        except SourceError as refused:
            return self._bad(statement, None, refused)
        if done.touched > 1:
            return self._bad(statement, done, None)
        outcome = self._good(statement, done, "")
        if done.touched or statement.kind == "insert":
            return outcome
        return _conflict(self._plan, statement, self._read({0: statement.key})[0])

    def read_back(self, done: Plan | None = None) -> tuple[dict[int, dict[str, Any] | None], dict[int, Pairs]]:
        """Rows as they are after the statements, and their keys."""
        statements = (done or self._plan).statements
        keys = {s.row_id: self._key_after(s) for s in statements}
        rows = self._read({s.row_id: keys[s.row_id] for s in statements if s.kind != "delete"})
        return {s.row_id: rows.get(s.row_id) for s in statements}, keys

    def with_notes(
        self, outcomes: Sequence[Outcome], written: Mapping[int, dict[str, Any] | None]
    ) -> tuple[Outcome, ...]:
        """The outcomes, with what the server would keep otherwise than it was given."""
        found = []
        for outcome in outcomes:
            row = written.get(outcome.statement.row_id)
            given = [] if row is None else [p for p in outcome.statement.values if p[0] in row and p[1] is not DEFAULT]
            other = [(name, (row or {})[name]) for name, value in given if not alike((row or {})[name], value)]
            kept = "; ".join(f"{name} is kept as {_shown(value)}" for name, value in other[:3])
            found.append(replace(outcome, note="; ".join(part for part in (outcome.note, kept) if part)))
        return tuple(found)

    def _key_after(self, statement: Statement) -> Pairs:
        """The key of a row once written: an edited key is the new one, a new row's is what the server gave it."""
        if statement.row_id in self._new:
            return self._new[statement.row_id]
        given = dict(statement.values)
        if statement.kind == "insert" and not self._plan.key:
            return statement.values
        before = dict(statement.key)
        return tuple((name, given.get(name, before.get(name))) for name in self._plan.key)

    def _read(self, keys: Mapping[int, Pairs]) -> dict[int, dict[str, Any] | None]:
        return read_rows(self._writer, self._words, keys)


def read_rows(writer: Writer, words: Wording, keys: Mapping[int, Pairs]) -> dict[int, dict[str, Any] | None]:
    """Rows of the plan's table by their keys, every column of them; None where there is none."""
    found: dict[int, dict[str, Any] | None] = dict.fromkeys(keys)
    for part in _parts(list(keys), AT_ONCE):
        names, rows = writer.ask(words.reading([keys[row_id] for row_id in part]))
        for row in rows:
            found[part[row[0]]] = dict(zip(names[1:], row[1:], strict=True))
    return found


def _conflict(plan: Plan, statement: Statement, current: dict[str, Any] | None) -> Outcome:
    if current is None:
        said = (
            "is not there as it was seen" if plan.by_values else "is gone: someone else deleted it or changed its key"
        )
        return Outcome(statement, 0, f"The row {said}.", (), True, is_gone=True)
    now = tuple((n, current.get(n)) for n, seen in statement.seen if not alike(current.get(n), seen))
    words = ", ".join(f"{name} is now {_shown(value)}" for name, value in now)
    return Outcome(statement, 0, f"Someone else changed this row: {words or 'it no longer matches'}.", now, True)


def alike(a: Any, b: Any) -> bool:
    """Whether two values as the source stores them are one: numbers by value, everything else to the letter."""
    if a is None or b is None:
        return a is b
    if isinstance(a, float) and isinstance(b, float):
        return a == b or (a != a and b != b)
    if a == b and isinstance(a, str) is isinstance(b, str):
        return True
    if isinstance(a, str) and isinstance(b, str) and a[:1].isdigit() and b[:1].isdigit():
        with suppress(ValueError):  # times with more or fewer zeros at their end
            return dt.datetime.fromisoformat(a) == dt.datetime.fromisoformat(b)
    return (plain(a) == plain(b) and type(a) is not bytes and type(b) is not bytes) or _number(a) == _number(
        b
    ) is not None


def _number(value: Any) -> Any:
    from decimal import Decimal, InvalidOperation

    with suppress(InvalidOperation, ValueError, TypeError):
        return Decimal(str(value) if isinstance(value, float) else value) if not isinstance(value, bytes) else None
    return None


def _shown(value: Any) -> str:
    if value is None:
        return "empty"
    text = plain(value)
    return (text if len(text) <= 60 else text[:59] + "…") or "an empty text"


def _find_out(
    connection: Connection,
    plan: Plan,
    keys: Mapping[int, Pairs],
    written: Mapping[int, dict[str, Any] | None],
    mark: str,
) -> str:
    """After a commit that was not answered: whether it was done. Returns what to say when it was. Raises: ChangeError
    when nothing was written; OutcomeUnknown."""
    lost = "The connection was lost while committing"
    for attempt in range(_ATTEMPTS):
        try:
            done = connection.outcome_of(mark)
            told = "The server says that"
            if done is None:
                done, told = _look(connection, plan, keys, written), "The rows show that"
            break
        except OtterError as problem:
            if attempt + 1 == _ATTEMPTS:
                raise OutcomeUnknown(
                    f"{lost}, and the rows can't be looked at: {problem.message}",
                    "Nothing is written again by itself. Run the query again before writing anew.",
                ) from None
            time.sleep(_PAUSE_S)
    if done is None:
        raise OutcomeUnknown(
            f"{lost}; some rows are neither as before nor as they were to be.",
            "Run the query again and compare before writing anew.",
        )
    if not done:
        raise ChangeError(f"{lost}. {told} nothing was written; the changes are still pending.", "Write them again.")
    return f"{lost}, but {told[0].lower()}{told[1:]} all of it was written."


def _look(
    connection: Connection, plan: Plan, keys: Mapping[int, Pairs], written: Mapping[int, dict[str, Any] | None]
) -> bool | None:
    """Whether the rows are as they were to be (True), as before (False), or neither; waits for whoever still holds
    them, as the transaction that was cut off may."""
    words = Wording(plan)
    states = set()
    with connection.transaction() as writer:
        for statement in plan.statements:
            key = keys[statement.row_id] if statement.kind != "delete" else statement.key
            now = _row(writer.ask(words.locking(key)))
            before = now
            if statement.kind == "update" and key != statement.key:
                before = _row(writer.ask(words.locking(statement.key)))
            states.add(_state(statement, now, before, written[statement.row_id]))
    states.discard("both")
    if not states:
        return True
    return {"after": True, "before": False}.get(states.pop()) if len(states) == 1 else None


def _row(found: tuple[list[str], list[tuple[Any, ...]]]) -> dict[str, Any] | None:
    names, rows = found
    return dict(zip(names[1:], rows[0][1:], strict=True)) if rows else None


def _state(
    statement: Statement, now: dict[str, Any] | None, before: dict[str, Any] | None, after: dict[str, Any] | None
) -> str:
    if statement.kind == "delete":
        return "after" if now is None else "before"
    is_after = now is not None and now == after
    if statement.kind == "insert":
        return "after" if is_after else ("before" if now is None else "neither")
    is_before = before is not None and all(alike(before.get(n), v) for n, v in statement.old)
    return "both" if is_after and is_before else ("after" if is_after else ("before" if is_before else "neither"))


def _parts(items: Iterable[Any], size: int) -> list[list[Any]]:
    whole = list(items)
    return [whole[n : n + size] for n in range(0, len(whole), size)]
