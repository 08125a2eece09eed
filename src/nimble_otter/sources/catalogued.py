"""What connections to relational servers know of the catalogue: SQLAlchemy's reflection, and what it misses.

The catalogue is read lazily: names alone, all of it, or only the tables that a query names. A driver gives the hooks at
the end of `Catalogued`.
"""

from __future__ import annotations

import time
from collections.abc import Mapping, Sequence
from contextlib import AbstractContextManager, suppress
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from nimble_otter.errors import SourceError
from nimble_otter.query.parsed import nearest
from nimble_otter.sources.catalogue import Definition, EntryKind, Shapes, TableInfo
from nimble_otter.sources.dialects import Dialect
from nimble_otter.sources.reflect import Written, describe, label_of, read_checks, read_tables, read_unique
from nimble_otter.sources.result_stream import Explained, sever
from nimble_otter.sources.texts import names_in
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.translation import tr
from nimble_otter.values import ClientObject, Value

if TYPE_CHECKING:
    from sqlalchemy import Engine, Inspector

    from nimble_otter.sources.tunnel import Tunnel

IDLE_S = 1
"""A connection unused for so long is tried before it is used."""


def close_left_behind(engine: Engine) -> None:
    """Have a connection that was in use while the engine gave up all of its own closed once it is given back."""
    from sqlalchemy import event

    def connected(_: object, record: ClientObject) -> None:
        record.info["pool"] = engine.pool

    def given_back(_: object, record: ClientObject) -> None:
        if record.info.get("pool") is not engine.pool:
            record.invalidate()

    event.listen(engine, "connect", connected)
    event.listen(engine, "checkin", given_back)


class Catalogued:
    """An engine of SQLAlchemy and what is known of its tables, views and routines."""

    word = ""
    main = ""
    """What a query may put before the tables of a source that has no schemas."""

    def __init__(self, engine: Engine) -> None:
        self._engine = engine
        self._known: dict[str, TableInfo] = {}
        self._has_all = False
        self.default_schema: str | None = None
        self._used_at = time.monotonic()
        self._tunnel: Tunnel | None = None
        close_left_behind(engine)

    @property
    def dialect(self) -> Dialect:
        """What this server speaks."""
        return Dialect()

    def close(self) -> None:
        """Close every connection."""
        self._engine.dispose()
        if self._tunnel is not None:
            self._tunnel.close()

    def use_tunnel(self, tunnel: Tunnel) -> None:
        """See `Connection.use_tunnel`."""
        from sqlalchemy import event

        self._tunnel = tunnel
        event.listen(self._engine, "do_connect", lambda *_: tunnel.ensure())

    def rest(self, idle_s: float) -> None:
        """See `Connection.rest`."""
        if time.monotonic() - self._used_at >= idle_s:
            self._engine.dispose()

    def drop_connections(self) -> None:
        """Nor is any other connection of before believed once a line was lost; the next statement opens a new one."""
        self._engine.dispose()

    def note_use(self) -> None:
        """The line was in use just now; it need not be tried before the next statement."""
        self._used_at = time.monotonic()

    def _probe(self) -> None:
        """Connect once, so that what is wrong is said now. Raises: SourceError's; nothing is left open."""
        try:
            with self.explained(), self._engine.connect():
                pass
        except SourceError:
            self.close()
            raise

    def _ask(self, text: str, values: Value = ()) -> list[Value]:
        """All rows of a small question of our own, with the driver's marks for values."""
        with self._engine.connect() as connection:
            plain = {} if values else {"no_parameters": True}
            return list(connection.exec_driver_sql(text, values or None, execution_options=plain))

    def socket_of(self, driver: ClientObject) -> int | None:
        """The number of the socket of a client's connection; None where there is none to be cut."""
        return int(driver.fileno()) if hasattr(driver, "fileno") else None

    def _ready(self, stop: StopToken = NEVER, is_sure: bool = False) -> None:
        """Open the connection again when it dropped while nobody used it; `is_sure`: however short that was. A stop
        wakes who waits for a hung server."""
        if not is_sure and time.monotonic() - self._used_at < IDLE_S:
            return
        with self.explained():
            raw = self._engine.raw_connection()
        driver: Any = raw.driver_connection
        number = self.socket_of(driver)

        def cut() -> None:
            if number is not None:
                sever(number)

        stop.on_stop(cut)
        try:
            self._engine.dialect.do_ping(driver)
        except Exception:  # noqa: BLE001 - however it failed, this connection is of no use
            raw.invalidate()
            self._engine.dispose()
            stop.check()
        else:
            raw.close()
        finally:
            stop.forget(cut)
        self._used_at = time.monotonic()

    # --- catalogue ---------------------------------------------------------------------------------------------

    def names(self) -> list[TableInfo]:
        """What there is, by name alone: the first thing a long catalogue shows."""
        self._ready()
        with self.explained():
            inspector = self._inspector()
            default = self._default_schema(inspector)
            results = []
            for schema in self._schemas(inspector):
                for kind, names in (
                    (EntryKind.TABLE, inspector.get_table_names(schema)),
                    (EntryKind.VIEW, inspector.get_view_names(schema)),
                ):
                    for name in names:
                        label = label_of(schema, name, default)
                        results.append(TableInfo(label, kind, schema=label[: -len(name) - 1]))
            return _in_order(results)

    def tables(self) -> list[TableInfo]:
        """Tables, views and routines with their columns. Raises: SourceError's."""
        self._ready()
        with self.explained():
            inspector = self._inspector()
            default = self._default_schema(inspector)
            infos = read_tables(inspector, self._schemas(inspector), default, declared=self._declared)
            estimates = self._estimates(default)
            infos = [replace(t, rows=estimates[t.name], is_estimate=True) if t.name in estimates else t for t in infos]
            infos += self._others(default)
        self._known = {t.name: t for t in infos}
        self._has_all = True
        return _in_order(infos)

    def _tables_of(self, text: str) -> list[TableInfo]:
        """The tables that a query names; those that the catalogue does not have (yet) are read on the spot."""
        wanted = names_in(text, self.dialect.parser)
        if any("." in name for name in wanted):
            with self.explained():
                own = self._default_schema(self._inspector()) or self.main
            wanted = [label_of(*(name.rpartition(".")[::2]), own) if "." in name else name for name in wanted]
        folded = {name.casefold() for name in wanted}
        tables = [t for t in self._known.values() if t.name.casefold() in folded]
        if len(tables) >= len(folded):
            return tables
        with self.explained():
            inspector = self._inspector()
            default = self._default_schema(inspector)
            by_schema: dict[str | None, list[str]] = {}
            for name in wanted:
                own_schema, _, bare = name.rpartition(".")
                by_schema.setdefault(own_schema or default, []).append(bare)
            for schema, names in by_schema.items():
                for table in read_tables(inspector, [schema], default, names, self._declared):
                    self._known[table.name] = table
        return [t for t in self._known.values() if t.name.casefold() in folded]

    def count(self, table: str) -> int:
        """How many rows a table has now. Raises: SourceError's."""
        from sqlalchemy import func, select

        text = select(func.count()).select_from(self._clause_of(table))
        self._ready()
        with self.explained(), self._engine.connect() as connection:
            return int(connection.execute(text).scalar_one())

    def describe(self, table: TableInfo) -> Definition:
        """The definition of one entry of the catalogue. Raises: SourceError's."""
        self._ready()
        with self.explained():
            own = self._definition(table)
            if own is not None and table.kind in (EntryKind.ROUTINE, EntryKind.SEQUENCE):
                return Definition(own)
            definition = describe(self._inspector(), self._engine, table.bare, table.schema or None, table.kind)
            indexes = self._indexes(table)
        definition = definition if indexes is None else replace(definition, indexes=indexes)
        return definition if own is None else replace(definition, text=own)

    def shapes(self, collection: str, sample: int = 1000) -> Shapes:
        """Raises: SourceError, as there are no collections."""
        raise SourceError(tr("{word} has no collections.", word=self.word))

    def select_all(self, table: str) -> str:
        """The query text that gives a whole table."""
        return f"select *\nfrom {self.quoted(table)}"

    def quoted(self, name: str) -> str:
        """A table's or column's name as this dialect writes it, quoted only where it must be."""
        known = self._known.get(name)
        parts = (known.schema, known.bare) if known is not None and known.schema else (name,)
        return ".".join(map(self._quoted, parts))

    def _quoted(self, name: str) -> str:
        text = str(self._engine.dialect.identifier_preparer.quote(name))
        is_doubled = text.count("%") == 2 * name.count("%")  # for drivers that look for places of values
        return text.replace("%%", "%") if is_doubled else text

    def _clause_of(self, name: str) -> Any:
        from sqlalchemy import table

        known = self._known.get(name)
        return table(name) if known is None or not known.schema else table(known.bare, schema=known.schema)

    def _inspector(self) -> Inspector:
        from sqlalchemy import inspect

        return inspect(self._engine)

    def _known_in(self, text: str) -> tuple[list[TableInfo], dict[str, str]]:
        """The tables that a query names, those behind its views too, and the definitions of these views."""
        tables, views = self._tables_of(text), dict[str, str]()
        with self.explained():
            inspector = self._inspector()
            self.default_schema = self._default_schema(inspector)
            queue = [t for t in tables if t.kind == EntryKind.VIEW]
            while queue:
                view = queue.pop()
                with suppress(Exception):  # without its definition a view ends the trail
                    views[view.name] = str(inspector.get_view_definition(view.bare, view.schema or None) or "")
                    inside = self._tables_of(views[view.name])
                    fresh = [t for t in inside if t.name not in {known.name for known in tables}]
                    tables += fresh
                    queue += [t for t in fresh if t.kind == EntryKind.VIEW]
            results = []
            for table in tables:
                if table.kind == EntryKind.TABLE and table.checks is None:
                    distinct, filled = self._unique(inspector, table), {c.name for c in table.columns if not c.nullable}
                    keys = () if table.key else tuple(names for names in distinct if filled.issuperset(names))
                    checks = self._checks(inspector, table)
                    table = replace(table, unique=keys, checks=checks, distinct=distinct)
                    self._known[table.name] = table
                results.append(table)
        return results, views

    # --- explaining --------------------------------------------------------------------------------------------

    def explained(self, text: str = "") -> AbstractContextManager[None]:
        """What is done inside has its errors told in our words."""
        return Explained(self, text)

    def _hint(self, what: str, name: str, text: str) -> str:
        """The nearest name that exists, among tables or among the columns of the tables that the text names."""
        names: list[str] = []
        with suppress(SourceError):
            if what == "column":
                names = [c.name for t in self._tables_of(text) for c in t.columns]
            elif what == "table":
                names = [t.name for t in (self._known.values() if self._has_all else self.names())]
        near = nearest(name.rpartition(".")[2] if what == "column" else name, names)
        return tr("The nearest name is {near}.", near=near) if near else ""

    # --- what a driver gives -----------------------------------------------------------------------------------

    def _schemas(self, inspector: Inspector) -> list[str | None]:
        return [None]

    def _default_schema(self, inspector: Inspector) -> str | None:
        return inspector.default_schema_name

    def _declared(self, schema: str | None, tables: Sequence[str] | None) -> Mapping[str, Mapping[str, Written]]:
        """What reflection changes or misses of columns, by table and name; of a schema's tables, or of some."""
        return {}

    def _estimates(self, default: str | None) -> dict[str, int]:
        return {}

    def _others(self, default: str | None) -> list[TableInfo]:
        """Routines and sequences."""
        return []

    def _definition(self, table: TableInfo) -> str | None:
        """The server's own words for an entry, where it has them."""
        return None

    def _indexes(self, table: TableInfo) -> tuple[tuple[str, str], ...] | None:
        """Names and what is indexed, where reflection misses some."""
        return None

    def _unique(self, inspector: Inspector, table: TableInfo) -> tuple[tuple[str, ...], ...]:
        """Sets of columns of a table that are unique, beside its primary key."""
        return read_unique(inspector, table, table.schema or self.default_schema)

    def _checks(self, inspector: Inspector, table: TableInfo) -> tuple[str, ...]:
        return read_checks(inspector, table, table.schema or self.default_schema)

    def translate_error(self, problem: Exception, text: str) -> Exception | None:
        """An error of the driver in our words; None where it is not one of the driver's."""
        raise NotImplementedError


_ORDER = {"table": 0, "collection": 0, "materialized view": 1, "view": 2, "routine": 3, "sequence": 4}


def _in_order(found: list[TableInfo]) -> list[TableInfo]:
    """Default schema first, tables before views before routines, then by name."""
    return sorted(found, key=lambda t: (bool(t.schema), t.schema, _ORDER[t.kind], t.name.casefold()))
