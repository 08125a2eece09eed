"""From pending edits to statements: one for each row, matched by its key and the values seen."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterable

from nimble_otter.changes.document_plan import make_document_plan
from nimble_otter.changes.edits import Edits
from nimble_otter.changes.order import arranged
from nimble_otter.changes.plan import Guard, Pairs, Plan, Statement, StatementKind
from nimble_otter.changes.target import Target
from nimble_otter.errors import NoKeyError
from nimble_otter.sources.dialects import Dialect
from nimble_otter.table import MISSING, Table
from nimble_otter.table.text.text_format import render as render_form
from nimble_otter.translation import tr
from nimble_otter.values import Value


def make_plan(
    edits: Edits,
    table: Table,
    target: Target,
    guard: Guard = Guard.SEEN,
) -> Plan:
    """Raises: NoKeyError, where the result has no table to write to or a row's key is empty; ValueRefused."""
    if target.dialect.is_documents:
        return make_document_plan(edits, table, target, guard)
    if target.table is None:
        raise NoKeyError(target.reason)
    info, dialect, key_names = target.table, target.dialect, tuple(name for _, name in target.keys)
    names = {place: column.name for place, column in target.columns}

    touched = [*edits.deleted, *edits.edited_rows]
    wanted = (
        range(len(table.fields))
        if edits.deleted or guard == Guard.ROW
        else {p for r in touched for p in edits.cells.get(r, ())}
    )
    known = {at: target.values(table, at, touched) for at in {*wanted, *(at for at, _ in target.keys)}}
    forms = {at: target.field(table, at).form for at in known}

    def stored(row: int, place: int) -> Value:
        value = edits.seen.get((row, place), _UNSEEN)
        value = known[place][row] if value is _UNSEEN else value
        return None if value is MISSING else render_form(value, forms[place])

    def given(row: int) -> Pairs:
        own = edits.cells.get(row, {})
        return tuple(
            (names[p], dialect.check(_given(v, table.fields[p].form, dialect), names[p]))
            for p, v in sorted(own.items())
        )

    def key_of(row: int) -> Pairs:
        key = tuple((column, stored(row, place)) for place, column in target.keys)
        if not target.by_values and any(value is None for _, value in key):
            raise NoKeyError(tr("A changed row has no key."), tr("It comes from an outer join with no row behind it."))
        return key

    def seen(row: int, places: Iterable[int]) -> Pairs:
        pairs = tuple((names[p], stored(row, p)) for p in places)
        return tuple(pair for pair in pairs if pair[0] not in key_names)

    deletes, updates, inserts = [], [], []
    for row in edits.deleted:
        whole = tuple((name, stored(row, place)) for place, name in names.items())
        held = seen(row, names) if guard != Guard.KEY else ()
        deletes.append(Statement(StatementKind.DELETE, row, (), key_of(row), held, whole))
    for row in edits.edited_rows:
        changed = sorted(edits.cells[row])
        old = tuple((names[p], stored(row, p)) for p in changed)
        held = () if guard == Guard.KEY else seen(row, changed if guard == Guard.SEEN else names)
        updates.append(Statement(StatementKind.UPDATE, row, given(row), key_of(row), held, old))
    for row in edits.added:
        inserts.append(Statement(StatementKind.INSERT, row, given(row)))
    plan = Plan(info, key_names, (*deletes, *updates, *inserts), dialect, guard, target.by_values)
    return arranged(plan, info.distinct or (), {})


_UNSEEN = object()


def _given(value: object, form: str, dialect: Dialect) -> Value:
    """A new value as the source stores it: in the form of its column where that is kept as text (SQLite), else whole,
    whatever digits the rows pulled have."""
    if dialect.times_are_texts or not isinstance(value, (dt.datetime, dt.time)):
        return render_form(value, form)
    return value.isoformat(" ") if isinstance(value, dt.datetime) else value.isoformat()
