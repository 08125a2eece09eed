"""From pending edits to statements: one for each row, matched by its key and the values seen. Nothing is pasted in:
values are bound when executing, and shown through the dialect's own literals."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from nimble_otter.changes.edits import Edits
from nimble_otter.changes.target import Target
from nimble_otter.errors import NoKeyError
from nimble_otter.table import MISSING, Table
from nimble_otter.table.forms import render as render_form

Pairs = tuple[tuple[str, Any], ...]


@dataclass(frozen=True, slots=True)
class Statement:
    """`kind` is update, insert or delete. `values` are what is set, `key` and `seen` what the row is matched by,
    all as the source stores them; `old` are the values before, for the reversal."""

    kind: str
    row_id: int
    values: Pairs = ()
    key: Pairs = ()
    seen: Pairs = ()
    old: Pairs = ()


@dataclass(frozen=True, slots=True)
class Plan:
    """Statements in the order in which they are written: deletes, updates, inserts."""

    table: str
    key: tuple[str, ...]
    statements: tuple[Statement, ...]
    dialect: str = "sqlite"


def make_plan(edits: Edits, table: Table, target: Target, dialect: str = "sqlite") -> Plan:
    """Raises: NoKeyError, where the result has no table to write to or a row's key is empty."""
    if target.table is None:
        raise NoKeyError(target.reason)
    names = {place: info.name for place, info in target.columns}

    def stored(row: int, place: int) -> Any:
        value = edits.seen.get((row, place), UNSEEN)
        value = table.columns[place].value(row) if value is UNSEEN else value
        return None if value is MISSING else render_form(value, table.fields[place].form)

    def given(row: int) -> Pairs:
        own = edits.cells.get(row, {})
        return tuple((names[p], render_form(v, table.fields[p].form)) for p, v in sorted(own.items()))

    def key_of(row: int) -> Pairs:
        key = tuple((column, stored(row, place)) for place, column in target.keys)
        if any(value is None for _, value in key):
            raise NoKeyError("A changed row has no key.", "It comes from an outer join with no row behind it.")
        return key

    deletes, updates, inserts = [], [], []
    for row in edits.deleted:
        whole = tuple((name, stored(row, place)) for place, name in names.items())
        seen = tuple(pair for pair in whole if pair[0] not in target.table.key)
        deletes.append(Statement("delete", row, (), key_of(row), seen, whole))
    for row in edits.edited_rows:
        old = tuple((names[p], stored(row, p)) for p in sorted(edits.cells[row]))
        seen = tuple(pair for pair in old if pair[0] not in target.table.key)
        updates.append(Statement("update", row, given(row), key_of(row), seen, old))
    for row in edits.added:
        inserts.append(Statement("insert", row, given(row)))
    return Plan(target.table.name, target.table.key, (*deletes, *updates, *inserts), dialect)


UNSEEN = object()


def clause(plan: Plan, statement: Statement) -> Any:
    """The statement as an SQLAlchemy expression; values are bound parameters of it."""
    from sqlalchemy import and_, column, delete, insert, null, table, update

    columns = dict.fromkeys([*(n for n, _ in (*statement.values, *statement.key, *statement.seen))])
    named = table(plan.table, *(column(name) for name in columns))
    matched = [column(name) == literal_of(value) for name, value in statement.key]
    matched += [_same(plan, column(name), value) for name, value in statement.seen]
    if statement.kind == "delete":
        return delete(named).where(and_(*matched))
    given = {name: null() if value is None else literal_of(value) for name, value in statement.values}
    if statement.kind == "insert":
        return insert(named).values(given) if given else insert(named)
    return update(named).values(given).where(and_(*matched))


def _same(plan: Plan, held: Any, value: Any) -> Any:
    """Equal, or both empty."""
    from sqlalchemy import null

    if value is None:
        return held.is_(null())
    # SQLAlchemy 2.1's SQLite writes IS without the literal when asked for literals, so IS is spelled out for it
    return (
        held.op("IS", precedence=5, is_comparison=True)(literal_of(value))
        if plan.dialect == "sqlite"
        else held.is_not_distinct_from(literal_of(value))
    )


def literal_of(value: Any) -> Any:
    """Bound with the type of the Python value alone: SQLAlchemy's own conversions must not touch it."""
    from sqlalchemy import Double, Integer, LargeBinary, Numeric, Text, literal

    kinds = {bool: Integer, int: Integer, float: Double, str: Text, bytes: LargeBinary}
    return literal(value, kinds.get(type(value), Numeric)())


def compiled(plan: Plan, statement: Statement) -> tuple[str, tuple[Any, ...]]:
    """(text with the driver's markers, values in their order)."""
    made = clause(plan, statement).compile(dialect=_dialect(plan.dialect))
    return str(made), in_order(made)


def in_order(made: Any) -> tuple[Any, ...]:
    """The bound values of a compiled clause in the order of its markers."""
    values = made.construct_params(escape_names=False)
    return tuple(values[name] for name in made.positiontup or ())


def render(plan: Plan, statements: Sequence[Statement] | None = None) -> list[str]:
    """The statements as text with literals in the dialect's own writing, for showing, copying and the reversal."""
    dialect = _dialect(plan.dialect)
    texts = []
    for statement in plan.statements if statements is None else statements:
        made = clause(plan, statement).compile(dialect=dialect, compile_kwargs={"literal_binds": True})
        texts.append(" ".join(str(made).split("\n")) + ";")
    return texts


def reversal(plan: Plan, keys_written: dict[int, Pairs], deleted: dict[int, Pairs]) -> list[Statement]:
    """Statements that put the old values back, in reverse order. `keys_written` has the key of each row as written,
    `deleted` the whole of each row that was deleted."""
    back = []
    for statement in reversed(plan.statements):
        key = keys_written.get(statement.row_id, statement.key)
        if statement.kind == "insert":
            own = {name for name, _ in key}
            back.append(
                Statement("delete", statement.row_id, (), key, tuple(p for p in statement.values if p[0] not in own))
            )
        elif statement.kind == "delete":
            back.append(Statement("insert", statement.row_id, deleted[statement.row_id]))
        else:
            own = {name for name, _ in key}
            seen = tuple(pair for pair in statement.values if pair[0] not in own)
            back.append(Statement("update", statement.row_id, statement.old, key, seen))
    return back


def _dialect(name: str) -> Any:
    from sqlalchemy.dialects import registry

    return registry.load(name)()
