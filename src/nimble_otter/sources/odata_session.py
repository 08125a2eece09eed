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
from nimble_otter.sources.odata_query import conditions_inside
from nimble_otter.sources.odata_requests import Asked
from nimble_otter.sources.sqlite_file import may_write, quote_name, surrogate_text
from nimble_otter.stop import StopToken
from nimble_otter.translation import tr
from nimble_otter.values import Value

_DEEDS = {"insert": "new", "update": "new", "delete": "old"}
_IN_ONE = 40
"""How many conditions go with one request: an address has its limits."""


class Service(Protocol):
    """What the entities come from and what is changed."""

    @property
    def entity_sets(self) -> Mapping[str, odata.EntitySet]:
        """By their names."""

    def entities(self, asked: Asked, stop: StopToken) -> Iterator[Mapping[str, Value]]:
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
        if text.lstrip()[:8].lower() == "rollback":
            own.lose()
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
        self._watched: set[str] = set()
        self.execute_here("begin")
        self.set_authorizer(may_write)

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
        changes = self._changes()
        if changes:
            self._service.send_changes([change for _, change in changes])
        for place, _ in changes if self.at_once else ():  # what the service made of it is fetched when it is asked for
            self._forget(*place)
        self.execute_here("delete from change_log")

    def lose(self) -> None:
        """What was fetched or watched since a savepoint is no longer so once that was gone back to."""
        self._asked.clear()
        self._watched.clear()

    def _forget(self, name: str, key: str) -> None:
        table = self._service.entity_sets[name]
        self._before.pop((name, key), None)
        self._asked.clear()
        self.execute_here("insert into fetching values (1)")
        self.execute_here(f"delete from {quote_name(name)} where {_key_text(table, '')} = ?", (key,))
        self.execute_here("delete from fetching")

    # --- what the statements are about -----------------------------------------------------------------------------

    def fetch_for(self, text: str, values: Value) -> None:
        """Fetch the entities that a statement may be about, but for those that are here. Raises: QueryError, where it
        changes what the service can't; sqlite3.Error, where it is no statement."""
        wanted: dict[str, list[frozenset[str]]] = {}
        for name, conditions in self._about(text, values):
            parts = wanted.setdefault(name, [])
            if not any(each <= conditions for each in (*self._asked.get(name, ()), *parts)):
                parts.append(conditions)
        for name, parts in wanted.items():
            for asked in _together(name, parts):
                self._fetch(asked)
            self._asked.setdefault(name, []).extend(parts)

    def _about(self, text: str, values: Value) -> Iterator[tuple[str, frozenset[str]]]:
        """The sets that a statement is about, each with what holds for its entities; they are watched from then on."""
        sets = self._service.entity_sets
        try:
            trees = sqlglot.parse(text, dialect="sqlite")
        except sqlglot.errors.SqlglotError:
            self.execute_here(f"explain {text}", values)  # which tells what is wrong; else any name counts
            for name, table in sets.items():
                if name.casefold() in text.casefold():
                    self._watch(table)
                    yield name, frozenset()
            return
        for tree in trees:
            if isinstance(tree, (exp.Create, exp.Drop, exp.Alter)):
                raise QueryError(tr("An OData service's sets can't be made or changed, only their entities."))
            for place in tree.find_all(exp.Table) if tree is not None else ():
                if (own := odata.set_of(place.name, sets)) is not None:
                    self._watch(own)
            yield from conditions_inside(tree, sets, _named(tree, values) if tree is not None else {})

    def _watch(self, table: odata.EntitySet) -> None:
        """Keep the log of a set, of which a service may have very many."""
        if table.name not in self._watched:
            for text in _triggers(table):
                self.execute_here(text)
            self._watched.add(table.name)

    def _fetch(self, asked: Asked) -> None:
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
        log = "select 1 from change_log where entity_set = ? and key_text = ?"
        if self.execute_here(log, (table.name, key)).fetchone() is not None:
            self.execute_here(f"delete from {where}", (place,))
        else:
            self._before[table.name, key] = _Fetched(etag, _by_name(table, row))

    # --- what they changed -----------------------------------------------------------------------------------------

    def _changes(self) -> list[tuple[tuple[str, str], Change]]:
        """In the order of the statements, one for each entity, with its set and key."""
        log = self.execute_here("select entity_set, key_text, place from change_log order by rowid").fetchall()
        found = {(name, key): self._change(name, key, place) for name, key, place in log}
        return [(place, change) for place, change in found.items() if change is not None]

    def _change(self, name: str, key: str, place: int) -> Change | None:
        """What is to be asked for an entity; None where it is as it was. Raises: QueryError."""
        table, before = self._service.entity_sets[name], self._before.get((name, key))
        now = self._row(table, key, place)
        if before is None:
            return None if now is None else added(table, now)
        if not before.etag:
            raise QueryError(
                tr("The service gives no ETag for {name}: somebody else's change could be written over.", name=name),
                tr("It can only be read here."),
            )
        return removed(table, before.row, before.etag) if now is None else changed(table, before.row, now, before.etag)

    def _row(self, table: odata.EntitySet, key: str, place: int) -> dict[str, Value] | None:
        found = self.execute_here(
            f"select * from {quote_name(table.name)} where rowid = ? and {_key_text(table, '')} = ?", (place, key)
        ).fetchone()
        return None if found is None else _by_name(table, found)


def _triggers(table: odata.EntitySet) -> Iterator[str]:
    """What keeps the log of a set, and refuses what a service can't do. Numbers that were typed get the form in which
    they are fetched."""
    own, unasked = quote_name(table.name), "not exists (select 1 from fetching)"

    def refusal(deed: str, condition: str, text: str) -> str:
        return (
            f"create temp trigger if not exists {quote_name(f'no {deed} {table.name}')} before {deed} on main.{own} "
            f"when {condition} begin select raise(abort, {odata.text_literal(text)}); end"
        )

    if not table.key:
        for deed in _DEEDS:
            yield refusal(
                deed,
                unasked,
                tr("{table_name} has no key in the service, so its entities can't be changed", table_name=table.name),
            )
        return
    is_other = " or ".join(f"old.{quote_name(name)} is not new.{quote_name(name)}" for name in table.key)
    yield refusal(
        "update",
        is_other,
        tr(
            "{key} is the key of {table_name}, which a service does not change",
            key=", ".join(table.key),
            table_name=table.name,
        ),
    )
    for each in table.properties:
        if each.is_computed and each.name in table.key:
            yield refusal(
                "insert",
                unasked,
                tr("The service gives {each_name} itself: entities can't be added here", each_name=each.name),
            )
            break
    decimals = [quote_name(each.name) for each in table.properties if each.edm == "Edm.Decimal"]
    exact = "".join(
        f"update {own} set {name} = exact_number({name}) where rowid = new.rowid and typeof({name}) = 'text'; "
        for name in decimals
    )
    literal = odata.text_literal(table.name)
    for deed, row in _DEEDS.items():
        yield (
            f"create temp trigger if not exists {quote_name(f'{deed} {table.name}')} after {deed} on main.{own} "
            f"when {unasked} begin insert into change_log values ({literal}, {_key_text(table, f'{row}.')}, "
            f"{row}.rowid); {exact if row == 'new' else ''}end"
        )


def _by_name(table: odata.EntitySet, row: Sequence[Value]) -> dict[str, Value]:
    return dict(zip((p.name for p in table.properties), row, strict=True))


def _together(name: str, parts: Sequence[frozenset[str]]) -> Iterator[Asked]:
    """Requests for the entities that any of the conditions are about."""
    if frozenset() in parts:
        yield Asked(name)
        return
    for start in range(0, len(parts), _IN_ONE):
        texts = [" and ".join(sorted(each)) for each in parts[start : start + _IN_ONE]]
        yield Asked(name, (), (" or ".join(f"({text})" for text in texts) if len(texts) > 1 else texts[0],))


def _key_text(table: odata.EntitySet, row: str) -> str:
    return f"json_array({', '.join(f'{row}{quote_name(name)}' for name in table.key)})"


def _named(tree: Value, values: Value) -> Mapping[str, object]:
    """The values of a statement by the names of their places; those that are only marked get one by their number."""
    if isinstance(values, Mapping):
        return values
    places = [place for place in tree.find_all(exp.Placeholder) if not place.args.get("this")]
    for number, place in enumerate(places):
        place.set("this", f"value{number}")
    in_order = re.findall(r":(value\d+)\b", tree.sql(dialect="sqlite"))
    return dict(zip(in_order, values, strict=True)) if len(in_order) == len(places) == len(values) else {}
