"""A transaction on an OData service: the entities that statements are about are fetched into a database in memory, the
statements run there, and what they changed goes to the service when it is committed."""

from __future__ import annotations

import re
import sqlite3
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Protocol

from nimble_otter.errors import QueryError
from nimble_otter.query.lazy import exp, sqlglot
from nimble_otter.sources import odata
from nimble_otter.sources.odata_changes import Change, added, changed, removed
from nimble_otter.sources.sqlite_file import quote_name, surrogate_text
from nimble_otter.stop import StopToken
from nimble_otter.values import Value

_DEEDS = {"insert": "new", "update": "new", "delete": "old"}
_IN_ONE = 40
"""How many conditions go with one request: an address has its limits."""


class Service(Protocol):
    """What the entities come from and what is changed."""

    @property
    def entity_sets(self) -> Mapping[str, odata.EntitySet]:
        """By their names."""

    def entities(self, asked: odata.Asked, stop: StopToken) -> Iterator[Mapping[str, Value]]:
        """Those that a request is about, and maybe more."""

    def send_changes(self, changes: list[Change]) -> None:
        """Have them made."""


@dataclass(frozen=True, slots=True)
class _Fetched:
    etag: str
    row: dict[str, Value]


class _Cursor(sqlite3.Cursor):
    def execute(self, text: str, values: Value = ()) -> _Cursor:
        own = self.connection
        assert isinstance(own, EntitySession)
        own.fetch_for(text, values)
        return super().execute(text, values)


class EntitySession(sqlite3.Connection):
    """A client's connection to the copies. `at_once`: what a statement changes is sent behind it, as the service takes
    no change sets. Errors are QueryError's and those of the service."""

    def begin(self, service: Service, stop: StopToken, at_once: bool) -> None:
        """Before the first statement."""
        self._service, self._stop, self.at_once = service, stop, at_once
        self._before: dict[tuple[str, str], _Fetched] = {}
        self._asked: dict[str, list[frozenset[str]]] = {}
        self.text_factory = surrogate_text
        for text in odata.statements(service.entity_sets, is_copied=True):
            self.execute_here(text)
        self.execute_here("create temp table fetching (is_on)")
        self.execute_here("create temp table change_log (entity_set text, key_text text, place integer)")
        self.create_function("exact_number", 1, odata.exact_number, deterministic=True)
        for name, table in service.entity_sets.items():
            exact = "".join(
                f"update {quote_name(name)} set {quote_name(p.name)} = exact_number({quote_name(p.name)}) "
                f"where rowid = new.rowid and typeof({quote_name(p.name)}) = 'text'; "
                for p in table.properties if p.edm == "Edm.Decimal"
            )  # fmt: skip
            for deed, row in _DEEDS.items() if table.key else ():
                self.execute_here(
                    f"create temp trigger {quote_name(f'{deed} {name}')} after {deed} on main.{quote_name(name)} "
                    "when not exists (select 1 from fetching) begin insert into change_log values "
                    f"({_quoted(name)}, {_key_text(table, f'{row}.')}, {row}.rowid); "
                    f"{exact if row == 'new' else ''}end"
                )
        self.execute_here("begin")

    def cursor(self, factory: type[sqlite3.Cursor] = _Cursor) -> sqlite3.Cursor:  # type: ignore[override]
        """One whose statements find the entities that they are about."""
        return super().cursor(factory)

    def execute_here(self, text: str, values: Value = ()) -> sqlite3.Cursor:
        """A statement of our own, over what is here."""
        return super().cursor(sqlite3.Cursor).execute(text, values)

    def commit(self) -> None:
        """Have the service make the changes, all or none. Raises: QueryError (nothing was changed), LostError."""
        self.flush()
        self.execute_here("commit")

    def flush(self) -> None:
        """Send what was changed since the last time."""
        changes = list(self._changes())
        if changes:
            self._service.send_changes(changes)
        self.execute_here("delete from change_log")

    # --- what the statements are about -----------------------------------------------------------------------------

    def fetch_for(self, text: str, values: Value) -> None:
        """Fetch the entities that a statement may be about, but for those that are here. Raises: QueryError, where it
        changes what the service can't."""
        try:
            trees = sqlglot.parse(text, dialect="sqlite")
        except sqlglot.errors.SqlglotError:
            return  # which the database explains
        for tree in trees:
            if isinstance(tree, (exp.Create, exp.Drop, exp.Alter)):
                raise QueryError("An OData service's sets can't be made or changed, only their entities.")
            self._refuse(tree)
            named = _named(tree, values) if tree is not None else {}
            wanted: dict[str, list[frozenset[str]]] = {}
            for name, conditions in odata.conditions_inside(tree, self._service.entity_sets, named):
                done = self._asked.setdefault(name, [])
                if not any(each <= conditions for each in done):
                    wanted.setdefault(name, []).append(conditions)
                    done.append(conditions)
            for name, parts in wanted.items():
                for asked in _together(name, parts):
                    self._fetch(asked)

    def _refuse(self, tree: Value) -> None:
        """Raises: QueryError, where a service could not do what the statement does."""
        if not isinstance(tree, (exp.Insert, exp.Update, exp.Delete)):
            return
        place = tree.find(exp.Table)
        table = odata.set_of(place.name, self._service.entity_sets) if place is not None else None
        if table is None:
            return
        if not table.key:
            raise QueryError(f"{table.name} has no key in the service, so its entities can't be changed.")
        numbered = [p.name for p in table.properties if p.name in table.key and p.is_computed]
        if isinstance(tree, exp.Insert) and numbered:
            raise QueryError(f"The service gives {numbered[0]} itself; entities of {table.name} can't be added here.")
        keys = {name.casefold() for name in table.key}
        for each in tree.expressions if isinstance(tree, exp.Update) else ():
            if isinstance(each, exp.EQ) and each.this.name.casefold() in keys:
                raise QueryError(
                    f"{each.this.name} is the key of {table.name}, which a service does not change.",
                    "Add a new entity, and delete the old one.",
                )

    def _fetch(self, asked: odata.Asked) -> None:
        table = self._service.entity_sets[asked.name]
        place, marks = quote_name(table.name), ", ".join("?" * max(1, len(table.properties)))
        self.execute_here("insert into fetching values (1)")
        try:
            for entity in self._service.entities(asked, self._stop):
                row = odata.row_of(table, entity)
                made = self.execute_here(f"insert or ignore into {place} values ({marks})", row)
                if made.rowcount == 1 and table.key:
                    self._keep(table, made.lastrowid, odata.etag_of(entity))
        finally:
            self.execute_here("delete from fetching")

    def _keep(self, table: odata.EntitySet, place: int | None, etag: str) -> None:
        """Know an entity as it was; one that was deleted here meanwhile does not come back."""
        where = f"{quote_name(table.name)} where rowid = ?"
        key, *row = self.execute_here(f"select {_key_text(table, '')}, * from {where}", (place,)).fetchone()
        if (table.name, key) in self._before:
            self.execute_here(f"delete from {where}", (place,))
        else:
            self._before[table.name, key] = _Fetched(etag, _by_name(table, row))

    # --- what they changed -----------------------------------------------------------------------------------------

    def _changes(self) -> Iterator[Change]:
        """In the order of the statements, one for each entity."""
        log = self.execute_here("select entity_set, key_text, place from change_log order by rowid").fetchall()
        for (name, key), place in {(name, key): place for name, key, place in log}.items():
            table, before = self._service.entity_sets[name], self._before.get((name, key))
            now = self._row(table, key, place)
            if before is None:
                if now is not None:
                    yield added(table, now)
            elif not before.etag:
                raise QueryError(
                    f"The service gives no ETag for {name}: somebody else's change could be written over.",
                    "It can only be read here.",
                )
            elif now is None:
                yield removed(table, before.row, before.etag)
            elif (change := changed(table, before.row, now, before.etag)) is not None:
                yield change

    def _row(self, table: odata.EntitySet, key: str, place: int) -> dict[str, Value] | None:
        found = self.execute_here(
            f"select * from {quote_name(table.name)} where rowid = ? and {_key_text(table, '')} = ?", (place, key)
        ).fetchone()
        return None if found is None else _by_name(table, found)


def _by_name(table: odata.EntitySet, row: Sequence[Value]) -> dict[str, Value]:
    return dict(zip((p.name for p in table.properties), row, strict=True))


def _together(name: str, parts: Sequence[frozenset[str]]) -> Iterator[odata.Asked]:
    """Requests for the entities that any of the conditions are about."""
    if frozenset() in parts:
        yield odata.Asked(name)
        return
    for start in range(0, len(parts), _IN_ONE):
        texts = [" and ".join(sorted(each)) for each in parts[start : start + _IN_ONE]]
        yield odata.Asked(name, (), (" or ".join(f"({text})" for text in texts) if len(texts) > 1 else texts[0],))


def _key_text(table: odata.EntitySet, row: str) -> str:
    return f"json_array({', '.join(f'{row}{quote_name(name)}' for name in table.key)})"


def _quoted(text: str) -> str:
    return "'" + text.replace("'", "''") + "'"


def _named(tree: Value, values: Value) -> Mapping[str, object]:
    """The values of a statement by the names of their places; those that are only marked get one by their number."""
    if isinstance(values, Mapping):
        return values
    places = [place for place in tree.find_all(exp.Placeholder) if not place.args.get("this")]
    for number, place in enumerate(places):
        place.set("this", f"value{number}")
    in_order = re.findall(r":(value\d+)\b", tree.sql(dialect="sqlite"))
    return dict(zip(in_order, values, strict=True)) if len(in_order) == len(places) == len(values) else {}
