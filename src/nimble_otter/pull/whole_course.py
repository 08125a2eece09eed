"""A pull's whole course as one query of its server: for rows that outgrow this machine. Only the first rows are asked
for, to know the columns; the rest is worked out there.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace

from nimble_otter.errors import ConditionError
from nimble_otter.pull.course import run_course
from nimble_otter.pull.model import Pull, Query
from nimble_otter.pull.shaped import columns_to_send
from nimble_otter.pull.steps import CheckStep, Step, TakesParameters
from nimble_otter.pull.upstream import Moved, move_up
from nimble_otter.query.sql.statements import split_statements
from nimble_otter.sources import Connection, Request, fetch
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table import Column, Field, Table
from nimble_otter.table.text.show import grouped
from nimble_otter.translation import tr

SAMPLE_ROWS = 1000
"""Rows that are looked at before a course is moved."""


@dataclass(frozen=True, slots=True)
class Count:
    """Rows that leave a step, by its place; -1 is the query. `is_exact`: they were counted, else the server's planner
    expects so many (None: it does not tell)."""

    at: int
    rows: int | None
    is_exact: bool = True

    def words(self) -> str:
        """As the course shows it."""
        if self.rows is None:
            return tr("not told by the server")
        return (
            tr("{rows} on the server", rows=grouped(self.rows))
            if self.is_exact
            else tr("about {rows} on the server", rows=grouped(self.rows))
        )


@dataclass(frozen=True, slots=True)
class Whole:
    """The pull whose query does what its whole course did here, why rows may differ, and the columns that come."""

    moved: Moved
    fields: Sequence[Field]


def move_all(pull: Pull, table: Table, parser: str, quoted: Callable[[str], str]) -> Whole:
    """The pull whose query does what all its steps do here; those that are off stay. `table` are the first rows of the
    query. Raises: ConditionError with the step that stands in the way, and why."""
    moves = list(_moves(pull, table, parser, quoted))
    notes = dict.fromkeys(note for move in moves for note in move.notes)
    query, last = (moves[-1].query, moves[-1].table) if moves else (pull.query, table)
    kept = tuple(step for step in pull.steps if not step.on)
    return Whole(Moved(replace(pull, query=query, steps=kept), tuple(notes)), last.fields)


def moved_whole(pull: Pull, connection: Connection, stop: StopToken = NEVER) -> Whole:
    """The same, with the first rows asked for. Raises: ConditionError, SourceError's, Stopped."""
    table, was_cut = _first_rows(pull, connection, stop)
    whole = move_all(pull, table, connection.dialect.parser, connection.quoted)
    if not was_cut or whole.moved.pull.query == pull.query:
        return whole
    note = tr(
        "Only the first {sample_rows} rows were looked at: a value further on may make the server fail.",
        sample_rows=grouped(SAMPLE_ROWS),
    )
    return replace(whole, moved=replace(whole.moved, notes=(*whole.moved.notes, note)))


def counts_there(pull: Pull, connection: Connection, exact: bool, stop: StopToken = NEVER) -> Iterator[Count]:
    """How many rows leave the query and each step that is on, as the server counts them, or with `exact` off as its
    planner expects. Raises: ConditionError, SourceError's, Stopped."""
    values = _values(pull)
    table, _ = _first_rows(pull, connection, stop)
    yield _count(-1, one_query(pull.query), connection, values, exact, stop)
    for move in _moves(pull, table, connection.dialect.parser, connection.quoted):
        stop.check()
        yield _count(move.at, one_query(move.query), connection, values, exact, stop)


def _count(
    at: int, text: str, connection: Connection, values: dict[str, object], exact: bool, stop: StopToken
) -> Count:
    if not exact:
        rows = connection.explain(Request(text, values), stop).rows
        return Count(at, None if rows is None else round(rows), False)
    counting = f"select count(*) as n from (\n{text}\n) as q"
    return Count(at, int(str(fetch(connection, Request(counting, values), stop).table.columns[0].value(0))))


def one_query(query: Query) -> str:
    """The one statement that a query is, without what ends it. Raises: ConditionError."""
    if query.language != "sql":
        raise ConditionError(tr("Only a query in SQL is computed on its server."), tr("Write it as SELECT."))
    statements = split_statements(query.text)
    if len(statements) != 1:
        raise ConditionError(tr("The query is not one statement."), tr("Leave one SELECT in it."))
    return statements[0].text


def _values(pull: Pull) -> dict[str, object]:
    return dict(pull.query.bound().values)


def _first_rows(pull: Pull, connection: Connection, stop: StopToken) -> tuple[Table, bool]:
    one_query(pull.query)
    bound = pull.query.bound()
    fetched = fetch(connection, Request(bound.text, bound.values, SAMPLE_ROWS), stop)
    stop.check()
    fetched.refuse_part()
    return fetched.table, fetched.was_cut


@dataclass(frozen=True, slots=True)
class _Move:
    """A step at its place: the query with it and all before it, what may differ there, the first rows after it."""

    at: int
    query: Query
    notes: tuple[str, ...]
    table: Table


def _moves(pull: Pull, table: Table, parser: str, quoted: Callable[[str], str]) -> Iterator[_Move]:
    """Each step that is on."""
    query, values = pull.query, pull.values()
    for at, step in enumerate(pull.steps):
        if not step.on:
            continue
        own = step.bound(values) if isinstance(step, TakesParameters) else step
        try:
            if isinstance(own, CheckStep):
                raise ConditionError(
                    tr("Checks look at the rows here."), tr("Switch it off, or let the rows come here.")
                )
            moved = move_up(replace(pull, query=query, steps=(own,)), 0, table, parser, quoted)
            table = _after(table, own)
        except ConditionError as problem:
            raise ConditionError(
                tr("Step {at}, {kind}: {message}", at=at + 1, kind=step.kind, message=problem.message), problem.hint
            ) from problem
        query = moved.pull.query
        yield _Move(at, query, moved.notes, table)


def _after(table: Table, step: Step) -> Table:
    """What a step makes of the first rows, as the server's columns would come. Raises: ConditionError."""
    course = run_course(table, (step,))
    if (problem := course.results[0].error) is not None:
        raise problem
    fields, columns, view = columns_to_send(course.end)
    ids = view.row_ids()
    after = Table(tuple(fields), tuple(column.take(ids) for column in columns), len(ids))
    is_same = after.fields == table.fields  # rows went; of what has no value left the kind would not be known
    return table if is_same and any(map(_is_empty, after.columns)) else after


def _is_empty(column: Column) -> bool:
    return bool(column.empty_at().all())
