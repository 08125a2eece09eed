"""What is written to one table: statements, one for each row, and those that put the old values back."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from enum import StrEnum
from typing import Any

from nimble_otter.changes.alike import identical
from nimble_otter.sources.catalogue import ColumnInfo, TableInfo
from nimble_otter.sources.dialects import Dialect
from nimble_otter.sources.dialects.sqlite import SQLITE
from nimble_otter.translation import tr

Pairs = tuple[tuple[str, Any], ...]


class StatementKind(StrEnum):
    """What a statement does. SELECT and LOCK read a row, the second keeps others from it."""

    INSERT = "insert"
    UPDATE = "update"
    DELETE = "delete"
    SELECT = "select"
    LOCK = "lock"


class Guard(StrEnum):
    """What a row must still hold beside its key to be changed."""

    SEEN = "seen"
    """Of the columns that change what was seen."""
    ROW = "row"
    """All that was seen of it."""
    KEY = "key"
    """Nothing."""


"""What a row must still hold besides its key: what was seen where it changes, all that was seen, nothing."""


@dataclass(frozen=True, slots=True)
class Statement:
    """`kind` is update, insert or delete. `values` are what is set, `key` and `seen` what the row is matched by,
    all as the source stores them; `old` are the values before, for the reversal."""

    kind: StatementKind
    row_id: int
    values: Pairs = ()
    key: Pairs = ()
    seen: Pairs = ()
    old: Pairs = ()


@dataclass(frozen=True, slots=True)
class Plan:
    """Statements on one table in the order in which they are written. `key` are the columns that tell its rows apart;
    `by_values`: it has none, and a row is matched by all that was seen. `is_exact`: values are written in their own
    types, as a reversal's are, not brought to the type of what stands there. `parks` are values that rows get first, by
    row id, where they exchange what is unique."""

    info: TableInfo
    key: tuple[str, ...]
    statements: tuple[Statement, ...]
    dialect: Dialect = SQLITE
    guard: Guard = Guard.SEEN
    by_values: bool = False
    is_exact: bool = False
    parks: tuple[tuple[int, Pairs], ...] = ()

    @property
    def table(self) -> str:
        """The table's name as queries write it."""
        return self.info.name

    def column(self, name: str) -> ColumnInfo | None:
        """A column of the table; None where it has none of that name."""
        return self.info.column(name)

    @property
    def comment(self) -> str:
        """What begins a comment."""
        return self.dialect.comment

    def parked(self) -> tuple[Statement, ...]:
        """The statements that put rows aside, to be run before every update."""
        by_row = {s.row_id: s for s in self.statements}
        return tuple(
            Statement(StatementKind.UPDATE, row, pairs, by_row[row].key) for row, pairs in self.parks if row in by_row
        )

    def as_run(self, statement: Statement) -> Statement:
        """A statement as it matches its row once that was put aside."""
        pairs = dict(dict(self.parks).get(statement.row_id, ()))
        if not pairs:
            return statement
        key, seen = (tuple((n, pairs.get(n, v)) for n, v in part) for part in (statement.key, statement.seen))
        return replace(statement, key=key, seen=seen)

    @property
    def matched_by(self) -> str:
        """In words, how rows are matched."""
        if self.by_values:
            return tr("all values seen")
        extra = {"seen": tr(" + values seen"), "row": tr(" + the whole row seen"), "key": tr(" alone")}[self.guard]
        return ", ".join(self.key) + extra


def reversal(
    plan: Plan,
    keys_written: Mapping[int, Pairs],
    before: Mapping[int, Mapping[str, object]],
    written: Mapping[int, Mapping[str, object] | None],
    changing: frozenset[str] = frozenset(),
) -> list[Statement]:
    """Statements that put the old values back, in reverse order. `keys_written` has the key of each row as written,
    `before` each changed row as it was, columns that were not edited too where they may have changed, and `written`
    the rows as the server keeps them. What the table computes itself is not in `before`. `changing` are columns that
    the server sets at each update that does not name them."""
    back = []
    for statement in reversed(plan.statements):
        row = statement.row_id
        key = keys_written.get(row, statement.key)
        own = {name for name, _ in key}
        was, kept = before.get(row, {}), written.get(row) or {}
        now = tuple((name, kept.get(name, value)) for name, value in statement.values)
        if statement.kind == StatementKind.INSERT:
            seen = tuple(pair for pair in now if pair[0] not in own)
            back.append(Statement(StatementKind.DELETE, row, (), key, seen, now))
        elif statement.kind == StatementKind.DELETE:
            back.append(Statement(StatementKind.INSERT, row, tuple(was.items())))
        else:
            edited = {name for name, _ in statement.values}
            old = {name: was.get(name, value) for name, value in statement.old}
            more = {n: v for n, v in was.items() if n not in edited and n in kept and not identical(kept[n], v)}
            now += tuple((name, kept[name]) for name in more if name not in changing)
            more |= {name: was[name] for name in changing if name in was and name not in edited}
            seen = tuple(pair for pair in now if pair[0] not in own)
            back.append(Statement(StatementKind.UPDATE, row, tuple((old | more).items()), key, seen, now))
    return back
