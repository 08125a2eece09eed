"""Rehearsing and writing a plan: one transaction, each statement must touch exactly one row, or nothing is written."""

from __future__ import annotations

import datetime as dt
import sqlite3
from dataclasses import dataclass, field
from typing import Any

from nimble_otter.changes.plan import Pairs, Plan, Statement, compiled, in_order, literal_of, render, reversal
from nimble_otter.errors import ChangeError, OutcomeUnknown
from nimble_otter.sources.source import Connection
from nimble_otter.stop import NEVER, Progress, StopToken


@dataclass(frozen=True, slots=True)
class Outcome:
    """What one statement did or would do. `now` holds, for a conflict, the columns that differ from what was seen with
    their present values; `problem` says in words what is wrong; `beside` counts rows that triggers changed too."""

    statement: Statement
    rows: int
    problem: str = ""
    now: Pairs = ()
    is_conflict: bool = False
    beside: int = 0

    @property
    def is_good(self) -> bool:
        return self.rows == 1 and not self.problem


@dataclass(frozen=True, slots=True)
class Report:
    """All outcomes. When `is_written`: `written` has each row as the server now has it (by row id, None: deleted) and
    `reversal` the script that puts the old values back."""

    outcomes: tuple[Outcome, ...]
    at: dt.datetime
    is_written: bool = False
    written: dict[int, dict[str, Any] | None] = field(default_factory=dict)
    reversal: str = ""

    @property
    def good(self) -> int:
        return sum(outcome.is_good for outcome in self.outcomes)

    @property
    def conflicts(self) -> tuple[Outcome, ...]:
        return tuple(outcome for outcome in self.outcomes if not outcome.is_good)


def rehearse(connection: Connection, plan: Plan, stop: StopToken = NEVER, progress: Progress | None = None) -> Report:
    """Run every statement in one transaction and roll it back. Raises: SourceError's, Stopped; nothing is written."""
    with connection.transaction() as writer:
        outcomes, _, _ = _run(writer, plan, stop, progress)
    return Report(outcomes, dt.datetime.now())


def write(connection: Connection, plan: Plan, stop: StopToken = NEVER, progress: Progress | None = None) -> Report:
    """Write all, or nothing when any statement does not touch exactly one row (the report says which and why).

    Raises: SourceError's, Stopped (nothing written); OutcomeUnknown when the commit itself was not answered.
    """
    with connection.transaction() as writer:
        outcomes, rows, whole = _run(writer, plan, stop, progress)
        report = Report(outcomes, dt.datetime.now())
        if report.conflicts:
            return report
        written: dict[int, dict[str, Any] | None] = {}
        keys: dict[int, Pairs] = {}
        for statement in plan.statements:
            key = _key_after(plan, statement, rows)
            keys[statement.row_id] = key
            written[statement.row_id] = None if statement.kind == "delete" else _read_row(writer, plan, key)
        stop.check()
        try:
            writer.execute("commit")
        except sqlite3.OperationalError as problem:
            if writer.in_transaction:  # refused, and so still open: it will be rolled back
                raise ChangeError(
                    f"Nothing was written: {problem}.", "Try again when no other program writes."
                ) from None
            raise OutcomeUnknown(f"The commit was not answered: {problem}.", "Run the query again to see.") from None
    back = render(plan, reversal(plan, keys, whole))
    head = f"-- Puts back what was written to {plan.table} at {report.at:%Y-%m-%d %H:%M:%S}.\nbegin;\n"
    return Report(outcomes, report.at, True, written, head + "\n".join(back) + "\ncommit;\n")


def _run(
    writer: sqlite3.Connection, plan: Plan, stop: StopToken, progress: Progress | None
) -> tuple[tuple[Outcome, ...], dict[int, int], dict[int, Pairs]]:
    """Every statement in its own savepoint, so that one that fails does not hide the next.

    Returns the outcomes, the server's row numbers of new rows, and deleted rows whole, columns not pulled included.
    """
    outcomes = []
    rows: dict[int, int] = {}
    whole: dict[int, Pairs] = {}
    for number, statement in enumerate(plan.statements):
        stop.check()
        if progress is not None and number % 64 == 0:
            progress(number, len(plan.statements))
        text, values = compiled(plan, statement)
        if statement.kind == "delete":
            whole[statement.row_id] = tuple((_read_row(writer, plan, statement.key) or {}).items())
        before = writer.total_changes
        writer.execute("savepoint one")
        try:
            cursor = writer.execute(text, values)
        except (sqlite3.Error, OverflowError) as problem:
            writer.execute("rollback to one")
            writer.execute("release one")
            outcomes.append(Outcome(statement, 0, f"The server refused it: {problem}."))
            continue
        touched, beside = cursor.rowcount, writer.total_changes - before - max(cursor.rowcount, 0)
        rows[statement.row_id] = cursor.lastrowid or 0
        if touched == 1 and not (beside and statement.kind == "delete"):
            writer.execute("release one")
            outcomes.append(Outcome(statement, 1, beside=beside))
            continue
        writer.execute("rollback to one")
        writer.execute("release one")
        if touched == 1:
            problem_text = f"Deleting it would also change {beside} rows that refer to it."
            outcomes.append(Outcome(statement, 1 + beside, problem_text, beside=beside))
        else:
            outcomes.append(_conflict(writer, plan, statement, touched))
    return tuple(outcomes), rows, whole


def _conflict(writer: sqlite3.Connection, plan: Plan, statement: Statement, touched: int) -> Outcome:
    if touched > 1:
        return Outcome(statement, touched, f"It would change {touched} rows; the key does not tell them apart.")
    current = _read_row(writer, plan, statement.key)
    if current is None:
        return Outcome(statement, 0, "The row is gone: someone else deleted it or changed its key.", (), True)
    now = tuple((n, current.get(n)) for n, seen in statement.seen if not _same(current.get(n), seen))
    words = ", ".join(f"{name} is now {'empty' if value is None else value}" for name, value in now)
    return Outcome(statement, 0, f"Someone else changed this row: {words or 'it no longer matches'}.", now, True)


def _same(a: Any, b: Any) -> bool:
    return a == b and (a is None) == (b is None)


def _read_row(writer: sqlite3.Connection, plan: Plan, key: Pairs) -> dict[str, Any] | None:
    from sqlalchemy import and_, column, literal_column, select, table
    from sqlalchemy.dialects import registry

    named = table(plan.table)
    where = and_(*(column(name) == literal_of(value) for name, value in key))
    made = select(literal_column("*")).select_from(named).where(where).compile(dialect=registry.load(plan.dialect)())
    cursor = writer.execute(str(made), in_order(made))
    row = cursor.fetchone()
    return None if row is None else dict(zip([c[0] for c in cursor.description], row, strict=True))


def _key_after(plan: Plan, statement: Statement, rows: dict[int, int]) -> Pairs:
    """The key of a row once written: an edited key is the new one, a key given by the server is the new row's id."""
    given = dict(statement.values)
    before = dict(statement.key)
    if statement.kind == "insert" and len(plan.key) == 1 and given.get(plan.key[0]) is None:
        return ((plan.key[0], rows[statement.row_id]),)
    return tuple((name, given.get(name, before.get(name))) for name in plan.key)
