"""From pending edits to statements: one for each row, matched by its key and the values seen."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Hashable, Iterable, Mapping
from dataclasses import dataclass
from typing import Any

from nimble_otter.changes.edits import Edits
from nimble_otter.changes.spelling import check
from nimble_otter.changes.target import Target
from nimble_otter.errors import NoKeyError
from nimble_otter.sources.catalogue import ColumnInfo, ForeignKey, TableInfo
from nimble_otter.table import MISSING, Table
from nimble_otter.table.forms import render as render_form

Pairs = tuple[tuple[str, Any], ...]
GUARDS = ("seen", "row", "key")
"""What a row must still hold besides its key: what was seen where it changes, all that was seen, nothing."""


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
    """Statements on one table in the order in which they are written. `key` are the columns that tell its rows apart;
    `by_values`: it has none, and a row is matched by all that was seen. `referring` are foreign keys of other tables
    that change or delete rows there when a row here is deleted. `is_exact`: values are written in their own types, as a
    reversal's are, not brought to the type of what stands there."""

    info: TableInfo
    key: tuple[str, ...]
    statements: tuple[Statement, ...]
    dialect: str = "sqlite"
    guard: str = "seen"
    by_values: bool = False
    referring: tuple[ForeignKey, ...] = ()
    is_exact: bool = False

    @property
    def table(self) -> str:
        return self.info.name

    def column(self, name: str) -> ColumnInfo | None:
        return self.info.column(name)

    def parts_of(self, label: str) -> tuple[str | None, str]:
        """Schema and bare name of a table by its label."""
        if label == self.info.name:
            return self.info.schema or None, self.info.bare
        schema, _, bare = label.rpartition(".") if self.info.schema else ("", "", label)
        return schema or None, bare

    @property
    def comment(self) -> str:
        """What begins a comment."""
        return "//" if self.dialect == "documents" else "--"

    @property
    def matched_by(self) -> str:
        """In words, how rows are matched."""
        if self.by_values:
            return "all values seen"
        extra = {"seen": " + values seen", "row": " + the whole row seen", "key": " alone"}[self.guard]
        return ", ".join(self.key) + extra


def make_plan(
    edits: Edits,
    table: Table,
    target: Target,
    guard: str = "seen",
) -> Plan:
    """Raises: NoKeyError, where the result has no table to write to or a row's key is empty; ValueRefused."""
    if target.dialect == "documents":
        from nimble_otter.changes.document_plan import make_document_plan

        return make_document_plan(edits, table, target, guard)
    if target.table is None:
        raise NoKeyError(target.reason)
    info, dialect, key_names = target.table, target.dialect, tuple(name for _, name in target.keys)
    names = {place: column.name for place, column in target.columns}

    touched = [*edits.deleted, *edits.edited_rows]
    wanted = (
        range(len(table.fields))
        if edits.deleted or guard == "row"
        else {p for r in touched for p in edits.cells.get(r, ())}
    )
    known = {at: target.values(table, at, touched) for at in {*wanted, *(at for at, _ in target.keys)}}
    forms = {at: target.field(table, at).form for at in known}

    def stored(row: int, place: int) -> Any:
        value = edits.seen.get((row, place), _UNSEEN)
        value = known[place][row] if value is _UNSEEN else value
        return None if value is MISSING else render_form(value, forms[place])

    def given(row: int) -> Pairs:
        own = edits.cells.get(row, {})
        return tuple(
            (names[p], check(_given(v, table.fields[p].form, dialect), names[p], dialect))
            for p, v in sorted(own.items())
        )

    def key_of(row: int) -> Pairs:
        key = tuple((column, stored(row, place)) for place, column in target.keys)
        if not target.by_values and any(value is None for _, value in key):
            raise NoKeyError("A changed row has no key.", "It comes from an outer join with no row behind it.")
        return key

    def seen(row: int, places: Iterable[int]) -> Pairs:
        pairs = tuple((names[p], stored(row, p)) for p in places)
        return tuple(pair for pair in pairs if pair[0] not in key_names)

    deletes, updates, inserts = [], [], []
    for row in edits.deleted:
        whole = tuple((name, stored(row, place)) for place, name in names.items())
        held = seen(row, names) if guard != "key" else ()
        deletes.append(Statement("delete", row, (), key_of(row), held, whole))
    for row in edits.edited_rows:
        changed = sorted(edits.cells[row])
        old = tuple((names[p], stored(row, p)) for p in changed)
        held = () if guard == "key" else seen(row, changed if guard == "seen" else names)
        updates.append(Statement("update", row, given(row), key_of(row), held, old))
    for row in edits.added:
        inserts.append(Statement("insert", row, given(row)))
    statements = _in_order(info, key_names, deletes, updates, inserts)
    return Plan(info, key_names, statements, dialect, guard, target.by_values)


_UNSEEN = object()


def _given(value: Any, form: str, dialect: str) -> Any:
    """A new value as the source stores it: in the form of its column where that is kept as text (SQLite), else whole,
    whatever digits the rows pulled have."""
    if dialect == "sqlite" or not isinstance(value, (dt.datetime, dt.time)):
        return render_form(value, form)
    return value.isoformat(" ") if isinstance(value, dt.datetime) else value.isoformat()


def _in_order(
    info: TableInfo, key: tuple[str, ...], deletes: list[Statement], updates: list[Statement], inserts: list[Statement]
) -> tuple[Statement, ...]:
    """Deletes first, as they make room for what is unique, then updates, then inserts; a key is given away before it is
    taken. Where rows refer to rows of the same table, those referred to are written first and deleted last."""
    updates = _after(updates, lambda s: _of(s.key, key), lambda s: [_of((*s.key, *s.values), key)])
    own = next((link for link in info.foreign if link.target == info.name), None)
    if own is None:
        return (*deletes, *updates, *inserts)
    inserts = _after(inserts, lambda s: _of(s.values, own.referred), lambda s: [_of(s.values, own.columns)])
    children = _after(deletes, lambda s: _of(s.old, own.referred), lambda s: [_of(s.old, own.columns)])
    return (*inserts, *updates, *reversed(children))


def _of(pairs: Pairs, names: tuple[str, ...]) -> Hashable:
    found = dict(pairs)
    values = tuple(found.get(name) for name in names)
    return None if None in values else values


def _after(
    statements: list[Statement], name: Callable[[Statement], Hashable], needs: Callable[[Statement], list[Hashable]]
) -> list[Statement]:
    """Each statement behind those whose name it needs; rings stay as they are, for the server to refuse."""
    by_name: Mapping[Hashable, Statement] = {name(s): s for s in statements if name(s) is not None}
    done: dict[int, Statement] = {}
    for first in statements:
        chain, found = [first], {first.row_id}
        while chain:
            wanted = [by_name[n] for n in needs(chain[-1]) if n in by_name]
            ahead = next((s for s in wanted if s.row_id not in done and s.row_id not in found), None)
            if ahead is not None:
                chain.append(ahead)
                found.add(ahead.row_id)
            else:
                done.setdefault(chain[-1].row_id, chain[-1])
                chain.pop()
    return list(done.values())


def reversal(
    plan: Plan,
    keys_written: Mapping[int, Pairs],
    deleted: Mapping[int, Pairs],
    written: Mapping[int, Mapping[str, Any] | None],
) -> list[Statement]:
    """Statements that put the old values back, in reverse order. `keys_written` has the key of each row as written,
    `deleted` the whole of each row that was deleted, `written` the others as the server keeps them."""
    back = []
    for statement in reversed(plan.statements):
        key = keys_written.get(statement.row_id, statement.key)
        own = {name for name, _ in key}
        kept = written.get(statement.row_id) or {}
        now = tuple((name, kept.get(name, value)) for name, value in statement.values)
        seen = tuple(pair for pair in now if pair[0] not in own)
        if statement.kind == "insert":
            back.append(Statement("delete", statement.row_id, (), key, seen, now))
        elif statement.kind == "delete":
            back.append(Statement("insert", statement.row_id, deleted[statement.row_id]))
        else:
            back.append(Statement("update", statement.row_id, statement.old, key, seen, now))
    return back
