"""Running several statements one after the other, or one that writes: a line of report for each. While a transaction is
open, reading goes through it too, so that it sees what was written."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

from nimble_otter.errors import ChangeError, OtterError, QueryError, Stopped, place_of
from nimble_otter.query.sql.effects import Effect, of_transaction
from nimble_otter.query.sql.statements import Statement, split_statements
from nimble_otter.sources.fetch import Fetched, fetch
from nimble_otter.sources.source import Connection, Request
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.translation import tr


@dataclass(frozen=True, slots=True)
class Outcome:
    """What became of one statement: rows (of a call there may be `more` results), how many rows a write touched (None:
    not told), what the server said beside it, or the error; the error's place is in the whole script."""

    statement: Statement
    seconds: float = 0.0
    fetched: Fetched | None = None
    affected: int | None = None
    messages: tuple[str, ...] = ()
    error: OtterError | None = None
    more: tuple[Fetched, ...] = ()
    effect: Effect = Effect.READS


def run_script(
    connection: Connection,
    text: str,
    statements: Sequence[Statement],
    request: Request,
    stop: StopToken = NEVER,
    on_outcome: Callable[[list[Outcome]], None] | None = None,
    goes_on: bool = False,
) -> list[Outcome]:
    """Run `statements` of `text` in order, with the parameters and the row limit of `request`. After an error the rest
    is left out, unless `goes_on`. A stop ends it, keeping what was done."""
    outcomes: list[Outcome] = []
    for statement in statements:
        if stop.is_set():
            break
        outcomes.append(_run(connection, text, statement, replace(request, text=statement.text), stop))
        if on_outcome is not None:
            on_outcome(list(outcomes))
        if outcomes[-1].error is not None and not goes_on:
            break
    return outcomes


def apply_script(
    connection: Connection, text: str, request: Request, is_kept: bool, stop: StopToken = NEVER
) -> list[Outcome]:
    """Run a whole script in one transaction: committed where `is_kept` and every statement succeeded, else rolled back.
    Statements that open or end the transaction are left out. Raises: ChangeError, where the script or the source can't
    be run so; OutcomeUnknown, where the line is lost at the commit; SourceError's; Stopped, with nothing written."""
    statements = split_statements(text)
    own = [s for s in statements if not of_transaction(s.text)]
    for number, statement in enumerate(statements):
        what = of_transaction(statement.text)
        if what == "rollback" or (what == "commit" and number < len(statements) - 1):
            line = text.count("\n", 0, statement.start) + 1
            raise ChangeError(
                tr("Line {line} ends the transaction in the middle of the script ({what}).", line=line, what=what),
                tr("Remove it; the whole script is applied as one transaction."),
            )
    connection.begin()
    is_done = False
    try:
        outcomes = run_script(connection, text, own, request, stop)
        stop.check()
        is_done = is_kept and all(outcome.error is None for outcome in outcomes)
    finally:
        if connection.held is not None:
            connection.end(is_done)
    return outcomes


def _run(connection: Connection, text: str, statement: Statement, request: Request, stop: StopToken) -> Outcome:
    began = time.perf_counter()
    effect = connection.verdict(statement.text).effect
    try:
        what = of_transaction(statement.text)
        if what:
            connection.begin() if what == "begin" else connection.end(what == "commit")
            message = {"begin": tr("A transaction is open."), "commit": "Committed.", "rollback": tr("Rolled back.")}[
                what
            ]
            return Outcome(statement, time.perf_counter() - began, messages=(message,))
        # what can't be told is asked where nothing may be written: most are slips, which the server names
        asks = effect is Effect.READS or (effect is Effect.UNKNOWN and connection.is_read_only)
        if asks and connection.held is None:
            fetched = fetch(connection, request, stop)
            return Outcome(statement, time.perf_counter() - began, fetched)
        done = connection.execute(request, stop)
    except Stopped:
        return Outcome(statement, time.perf_counter() - began, error=QueryError(tr("Stopped.")))
    except OtterError as problem:
        if isinstance(problem, QueryError) and problem.place is not None:
            start, end = problem.place.start + statement.start, problem.place.end + statement.start
            problem.place = place_of(text, start, end)
        return Outcome(statement, time.perf_counter() - began, error=problem)
    results = [Fetched(table, was_cut) for table, was_cut in done.tables]
    return Outcome(
        statement, time.perf_counter() - began, results[0] if results else None, done.affected, done.messages,
        more=tuple(results[1:]), effect=effect,
    )  # fmt: skip
