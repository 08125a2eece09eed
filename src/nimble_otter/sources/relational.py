"""What connections to relational servers have in common: the catalogue, read-only pulls, stopping, places of errors.

Catalogue, quoting and pooling are SQLAlchemy's; rows come from the driver's own cursor below it. A driver gives the
hooks at the end of `Relational`.
"""

from __future__ import annotations

import time
from collections.abc import Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager, suppress
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from nimble_otter.errors import ChangeError, LostError, OutcomeUnknown, QueryError, SourceError
from nimble_otter.query.conditions import nearest
from nimble_otter.query.kinds import changes_catalogue
from nimble_otter.query.statements import find_parameters, mark_parameters
from nimble_otter.sources.answer import Answer, Explained, results, sever
from nimble_otter.sources.catalogue import Definition, ForeignKey, Shapes, TableInfo
from nimble_otter.sources.held import Held, HeldTransaction
from nimble_otter.sources.long import LongColumns, is_long, shorten
from nimble_otter.sources.plans import PlanNode
from nimble_otter.sources.reflect import Written, describe, label_of, read_checks, read_tables, read_unique, word_of
from nimble_otter.sources.source import Executed, Request, Run, check_writable
from nimble_otter.sources.texts import names_in, one_statement
from nimble_otter.sources.trace import Origin, declared_kinds, trace_origins, with_keys
from nimble_otter.sources.writer import Bound, Done, Writer, run_each
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table import Field, Kind

if TYPE_CHECKING:
    from sqlalchemy import Engine, Inspector

CONNECT_S = 8
"""Longest wait for a server to take a connection."""
IDLE_S = 1
"""A connection unused for so long is tried before it is used."""
_EXACT = (Kind.TIME, Kind.ZONED, Kind.DATE, Kind.CLOCK, Kind.SPAN)
"""What a driver says of a result's column is nearer than what the word for its type says."""
KIND_OF_WORD = {"time": Kind.TIME, "date": Kind.DATE, "yes/no": Kind.BOOL, "uuid": Kind.UUID}


class Relational:
    """See sources.source.Connection. Only reads, except inside `transaction`."""

    dialect = ""
    word = ""
    is_read_only = False
    can_write = False
    is_typed = True
    """Whether a column holds only values of its declared type."""
    marks = "pyformat"
    """How the driver marks parameters; see mark_parameters."""
    no_values: Any = None
    drains = False
    """Whether the client library reads all that is left of a result when it is closed: then the line is cut."""
    defining_commits = False
    """Whether CREATE and the like end the transaction they are in."""
    counts_at_once = False
    """Whether exact counts are cheap enough to be made for every table."""
    settles: tuple[str, ...] = ()
    """What makes the server check now what it would check at the commit."""
    signs = ""
    """A query that gives by what a transaction is known afterwards."""

    def __init__(self, engine: Engine) -> None:
        self._engine = engine
        self._known: dict[str, TableInfo] = {}
        self._held: HeldTransaction | None = None
        self._has_all = False
        self._default: str | None = None
        self._used_at = time.monotonic()

    def _probe(self) -> None:
        """Connect once, so that what is wrong is said now. Raises: SourceError's; nothing is left open."""
        try:
            with self._explained(), self._engine.connect():
                pass
        except SourceError:
            self.close()
            raise

    def _ask(self, text: str, values: Any = ()) -> list[Any]:
        """All rows of a small question of our own, with the driver's marks for values."""
        with self._engine.connect() as connection:
            plain = {} if values else {"no_parameters": True}
            return list(connection.exec_driver_sql(text, values or None, execution_options=plain))

    def _ready(self, stop: StopToken = NEVER) -> None:
        """Open the connection again when it dropped while nobody used it. A stop wakes who waits for a hung server."""
        if time.monotonic() - self._used_at < IDLE_S:
            return
        with self._explained():
            raw = self._engine.raw_connection()
        driver: Any = raw.driver_connection
        number = driver.fileno() if hasattr(driver, "fileno") else None

        def cut() -> None:
            if number is not None:
                sever(number)

        stop.on_stop(cut)
        try:
            self._engine.dialect.do_ping(driver)
        except Exception:  # however it failed, this connection is of no use
            raw.invalidate()
            self._engine.dispose()
            stop.check()
        else:
            raw.close()
        finally:
            stop.forget(cut)
        self._used_at = time.monotonic()

    @property
    def reader(self) -> str:
        """sqlglot's name of the dialect; "" where it has none."""
        return {"postgresql": "postgres", "mariadb": "mysql", "mysql": "mysql", "sqlite": "sqlite"}.get(
            self.dialect, ""
        )

    # --- catalogue ---------------------------------------------------------------------------------------------

    def names(self) -> list[TableInfo]:
        """What there is, by name alone: the first thing a long catalogue shows."""
        self._ready()
        with self._explained():
            inspector = self._inspector()
            default = self._default_schema(inspector)
            found = []
            for schema in self._schemas(inspector):
                for kind, names in (
                    ("table", inspector.get_table_names(schema)),
                    ("view", inspector.get_view_names(schema)),
                ):
                    for name in names:
                        label = label_of(schema, name, default)
                        found.append(TableInfo(label, kind, schema=label[: -len(name) - 1]))
            return _in_order(found)

    def tables(self) -> list[TableInfo]:
        self._ready()
        with self._explained():
            inspector = self._inspector()
            default = self._default_schema(inspector)
            found = read_tables(inspector, self._schemas(inspector), default, declared=self._declared)
            estimates = self._estimates(default)
            found = [replace(t, rows=estimates[t.name], is_estimate=True) if t.name in estimates else t for t in found]
            found += self._others(default)
        self._known = {t.name: t for t in found}
        self._has_all = True
        return _in_order(found)

    def _tables_of(self, text: str) -> list[TableInfo]:
        """The tables that a query names; those that the catalogue does not have (yet) are read on the spot."""
        wanted = names_in(text, self.reader)
        folded = {name.casefold() for name in wanted}
        found = [t for t in self._known.values() if t.name.casefold() in folded]
        if len(found) >= len(folded):
            return found
        with self._explained():
            inspector = self._inspector()
            default = self._default_schema(inspector)
            by_schema: dict[str | None, list[str]] = {}
            for name in wanted:
                own, _, bare = name.rpartition(".")
                by_schema.setdefault(own or default, []).append(bare)
            for schema, names in by_schema.items():
                for table in read_tables(inspector, [schema], default, names, self._declared):
                    self._known[table.name] = table
        return [t for t in self._known.values() if t.name.casefold() in folded]

    def count(self, table: str) -> int:
        from sqlalchemy import func, select

        text = select(func.count()).select_from(self._clause_of(table))
        self._ready()
        with self._explained(), self._engine.connect() as connection:
            return int(connection.execute(text).scalar_one())

    def describe(self, table: TableInfo) -> Definition:
        """The definition of one entry of the catalogue. Raises: SourceError's."""
        self._ready()
        with self._explained():
            own = self._definition(table)
            if own is not None and table.kind in ("routine", "sequence"):
                return Definition(own)
            found = describe(self._inspector(), self._engine, table.bare, table.schema or None, table.kind)
            indexes = self._indexes(table)
        found = found if indexes is None else replace(found, indexes=indexes)
        return found if own is None else replace(found, text=own)

    def shapes(self, collection: str, sample: int = 1000) -> Shapes:
        raise SourceError(f"{self.word} has no collections.")

    def select_all(self, table: str) -> str:
        return f"select *\nfrom {self.quoted(table)}"

    def quoted(self, name: str) -> str:
        """A table's or column's name as this dialect writes it, quoted only where it must be."""
        known = self._known.get(name)
        parts = (known.schema, known.bare) if known is not None and known.schema else (name,)
        return ".".join(map(self._quoted, parts))

    def _quoted(self, name: str) -> str:
        said = str(self._engine.dialect.identifier_preparer.quote(name))
        is_doubled = said.count("%") == 2 * name.count("%")  # for drivers that look for places of values
        return said.replace("%%", "%") if is_doubled else said

    def _clause_of(self, name: str) -> Any:
        from sqlalchemy import table

        known = self._known.get(name)
        return table(name) if known is None or not known.schema else table(known.bare, schema=known.schema)

    def _inspector(self) -> Inspector:
        from sqlalchemy import inspect

        return inspect(self._engine)

    # --- asking ------------------------------------------------------------------------------------------------

    def run(self, request: Request, stop: StopToken) -> Run:
        text = one_statement(request)
        names = find_parameters(text)
        self._ready(stop)
        shorter = self._shortened(text) if request.shorten else None
        sent, long = shorter or (text, None)
        more: list[Origin] = []
        if shorter is None and request.with_keys:
            sent, more = self._with_keys(text)
        with self._explained(request.text):
            raw = self._engine.raw_connection()
        answer = Answer(self, raw, request.text, stop)
        try:
            with self._explained(request.text):
                labels, hints = self._start(answer, sent, self._written({n: request.parameters[n] for n in names}))
        except BaseException as problem:
            answer.finish(is_whole=False)
            stop.check()
            if sent is not text and isinstance(problem, QueryError):  # told by its place in the text as written
                return self.run(replace(request, shorten=False, with_keys=False), stop)
            raise
        if not labels:
            answer.finish(is_whole=True)
            raise QueryError("The statement gave no rows.", "Ask with SELECT; write through Changes.")
        try:
            tables, views = self._known_in(text)
            shown = labels[: len(labels) - len(more)]
            traced = [*trace_origins(text, shown, tables, self.reader, views, self._default), *more]
            origins = self._confirmed(traced, answer.numbers, tables, shorter is None) if answer.numbers else traced
            declared = declared_kinds(origins, tables)
        except BaseException:
            answer.finish(is_whole=False)
            raise
        fields = tuple(
            Field(label, Kind.TEXT, origin.label if origin else "", kind)
            for label, origin, kind in zip(labels, origins, declared, strict=True)
        )
        found = tuple(
            (self._kind_of(kind) or hint) if kind and hint not in _EXACT else hint
            for hint, kind in zip(hints, declared, strict=True)
        )
        return Run(
            answer.batches(), fields, found, (), sent, tuple(origins), long, tuple(tables), len(more),
            is_typed=self.is_typed,
        )  # fmt: skip

    def _with_keys(self, text: str) -> tuple[str, list[Origin]]:
        """The text with keys of its tables fetched along, and their origins; see trace.with_keys."""
        tables, views = self._known_in(text)
        origins = trace_origins(text, None, tables, self.reader, views, self._default)
        return with_keys(text, origins, tables, self.reader, self.quoted)

    def _known_in(self, text: str) -> tuple[list[TableInfo], dict[str, str]]:
        """The tables that a query names, those behind its views too, and the definitions of these views."""
        tables, views = self._tables_of(text), dict[str, str]()
        with self._explained():
            inspector = self._inspector()
            self._default = self._default_schema(inspector)
            queue = [t for t in tables if t.kind == "view"]
            while queue:
                view = queue.pop()
                with suppress(Exception):  # without its definition a view ends the trail
                    views[view.name] = str(inspector.get_view_definition(view.bare, view.schema or None) or "")
                    inside = self._tables_of(views[view.name])
                    fresh = [t for t in inside if t.name not in {known.name for known in tables}]
                    tables += fresh
                    queue += [t for t in fresh if t.kind == "view"]
            found = []
            for table in tables:
                if table.kind == "table" and not table.key and not table.unique:
                    table = self._known[table.name] = replace(table, unique=self._unique(inspector, table))
                if table.kind == "table" and table.checks is None:
                    table = self._known[table.name] = replace(table, checks=self._checks(inspector, table))
                found.append(table)
        return found, views

    def _shortened(self, text: str) -> tuple[str, LongColumns] | None:
        """The text with long values cut by the server; see long.shorten."""
        names = names_in(text, self.reader)
        known = self._tables_of(text) if len(names) == 1 else []
        if len(known) != 1 or known[0].kind != "table" or not any(map(is_long, known[0].columns)):
            return None
        with self._explained():  # * means the columns of now
            inspector = self._inspector()
            schema = known[0].schema or self._default_schema(inspector)
            fresh = read_tables(inspector, [schema], self._default_schema(inspector), [known[0].bare], self._declared)
        return shorten(text, fresh[0], self.reader, self.quoted) if fresh else None

    def execute(self, request: Request, stop: StopToken = NEVER) -> Executed:
        text = one_statement(request)
        check_writable(self)
        values = self._written({name: request.parameters[name] for name in find_parameters(text)})
        held, messages = self._held, list[str]()
        if held is None:
            self._ready(stop)
        elif self.defining_commits and changes_catalogue(text):
            raise ChangeError(
                f"On {self.word} this would commit what was done before it.",
                "Commit or roll back the transaction first.",
            )
        messages = held.messages if held is not None else messages
        is_begun = False
        try:
            with self._explained(request.text), held.statement() if held else self._alone(messages) as driver:
                handle = self._handle(driver)

                def cancel() -> None:
                    self._cancel(handle)

                stop.on_stop(cancel)
                cursor = driver.cursor()
                try:
                    is_begun = True
                    cursor.execute(mark_parameters(text, values, self.marks), values or self.no_values)
                    tables = results(cursor, request.limit)
                    affected = cursor.rowcount if cursor.rowcount >= 0 and not tables else None
                    messages += self._warnings(cursor)
                finally:
                    stop.forget(cancel)
                    with suppress(Exception):
                        cursor.close()
        except LostError:
            if held is not None:
                self._let_go()
                raise LostError(
                    "The connection was lost, and the open transaction with it.", "Nothing of it was written."
                ) from None
            if not is_begun:
                raise
            hint = "Read back what it was to change before running it again."
            raise OutcomeUnknown("The connection was lost; whether it was written is not known.", hint) from None
        except SourceError:
            stop.check()
            raise
        return Executed(tuple(tables), affected, tuple(messages))

    @property
    def held(self) -> Held | None:
        """The transaction that is open."""
        return self._held.told if self._held is not None else None

    def begin(self) -> None:
        """Open a transaction that stays; statements run in it until `end`. Raises: SourceError's, ChangeError."""
        if self._held is not None:
            raise ChangeError("A transaction is open already.", "Commit it or roll it back first.")
        check_writable(self)
        self._ready()
        messages: list[str] = []
        with self._explained():
            self._held = HeldTransaction(self._writing(messages), messages)

    def end(self, commit: bool) -> None:
        """Commit the open transaction, or roll it back. Raises: OutcomeUnknown when the connection is lost then."""
        held, self._held = self._held, None
        if held is None:
            raise ChangeError("No transaction is open.", "BEGIN opens one.")
        try:
            with self._explained():
                held.end(commit)
        except LostError:
            if commit:
                hint = "Read back what it was to change before running it again."
                raise OutcomeUnknown("The connection was lost; whether it was committed is not known.", hint) from None

    def _let_go(self) -> None:
        """Roll back what is open, as far as the server is still there."""
        held, self._held = self._held, None
        if held is not None:
            with suppress(Exception):
                held.end(False)

    def explain(self, request: Request, stop: StopToken = NEVER) -> PlanNode:
        """The server's plan of a query, as a tree; the query is not run. Raises: SourceError's."""
        text = one_statement(request)
        values = {name: request.parameters[name] for name in find_parameters(text)}
        self._ready(stop)
        with self._explained(request.text):
            return self._plan(text, values)

    @contextmanager
    def transaction(self, stop: StopToken = NEVER, atomic: bool = True) -> Iterator[Writer]:
        """A transaction of its own that changes rows, rolled back unless it was committed. Raises: SourceError's;
        ChangeError where writing is not possible."""
        check_writable(self)
        if not self.can_write:
            raise ChangeError(f"Writing to {self.word} is not possible yet.", "Copy the statements, or send the rows.")
        self._ready(stop)
        with self._explained(), self._writing([]) as driver:
            handle = self._handle(driver)

            def cancel() -> None:
                self._cancel(handle)

            stop.on_stop(cancel)
            try:
                yield Writer(self, driver)
            except SourceError:
                stop.check()
                raise
            finally:
                stop.forget(cancel)

    def referring(self, table: TableInfo) -> tuple[ForeignKey, ...]:
        """Foreign keys of other tables whose rows change or go when a row of this one is deleted. Raises:
        SourceError's."""
        if not self._has_all:
            self.tables()
        return tuple(k for t in self._known.values() for k in t.foreign if k.target == table.name and k.on_delete)

    def without_transactions(self, table: TableInfo) -> str:
        """What keeps a table whose writes can't be rolled back; "" for every other. Raises: SourceError's."""
        return ""

    def outcome_of(self, mark: str) -> bool | None:
        """Whether a signed transaction was committed; None where that can't be told. Raises: SourceError's."""
        self._engine.dispose()  # none of the old connections is believed
        return None

    @property
    def writes_as(self) -> str:
        """The dialect of statements that write."""
        return self.dialect

    @contextmanager
    def _alone(self, messages: list[str]) -> Iterator[Any]:
        """A transaction for one statement, committed when it succeeds."""
        with self._writing(messages) as driver:
            yield driver
            driver.commit()

    def close(self) -> None:
        self._let_go()
        self._engine.dispose()

    # --- explaining --------------------------------------------------------------------------------------------

    def _explained(self, text: str = "") -> AbstractContextManager[None]:
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
        return f"The nearest name is {near}." if near else ""

    # --- what a driver gives -----------------------------------------------------------------------------------

    def _schemas(self, inspector: Inspector) -> list[str | None]:
        return [None]

    def _default_schema(self, inspector: Inspector) -> str | None:
        return inspector.default_schema_name

    def _declared(self, schema: str, table: str) -> dict[str, Written]:
        """What reflection changes or misses of columns, by name."""
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
        """Keys of a table beside its primary one."""
        return read_unique(inspector, table, table.schema or self._default)

    def _checks(self, inspector: Inspector, table: TableInfo) -> tuple[str, ...]:
        return read_checks(inspector, table, table.schema or self._default)

    def _confirmed(
        self, origins: list[Origin | None], numbers: list[tuple[int, int]], tables: list[TableInfo], is_whole: bool
    ) -> list[Origin | None]:
        """The origins without those that the server denies. `is_whole`: no column was shortened on the way."""
        return origins

    def _kind_of(self, declared: str) -> Kind | None:
        """What a column of this type may be held as; see ColumnBuilder."""
        return KIND_OF_WORD.get(word_of(declared))

    def _start(self, answer: Answer, text: str, values: dict[str, Any]) -> tuple[list[str], list[Kind | None]]:
        """Execute; set `answer.rows` to an iterator over batches. Returns the columns' names and kinds."""
        raise NotImplementedError

    def _release(self, driver: Any) -> None:
        """What a run set on the driver's connection is taken off again."""

    def _writing(self, messages: list[str]) -> AbstractContextManager[Any]:
        """A driver's connection in a transaction that may write, rolled back unless it was committed; what the server
        says beside its answers goes to `messages`."""
        raise ChangeError(f"{self.word} can't be written to here.")

    def _many(self, driver: Any, wanted: Sequence[Bound]) -> list[Done]:
        """Run statements in their order, with as few waits as the driver can."""
        return run_each(driver, wanted)

    def _reading_cursor(self, driver: Any) -> Any:
        """A cursor that gives values in the forms in which `run` gives them."""
        return driver.cursor()

    def _written(self, values: dict[str, Any]) -> dict[str, Any]:
        """Parameters' values as the driver takes them."""
        return values

    def _warnings(self, cursor: Any) -> list[str]:
        """What the server warns of after a statement, where it has to be asked for."""
        return []

    def _handle(self, driver: Any) -> Any:
        """What `_cancel` needs to know of a connection."""
        return driver

    def _cancel(self, handle: Any) -> None:
        """Ask the server, from outside, to end what a connection does."""

    def _plan(self, text: str, values: dict[str, Any]) -> PlanNode:
        raise SourceError(f"{self.word} tells no plan here.")

    def _say(self, problem: Exception, text: str) -> Exception | None:
        """An error of the driver in our words; None where it is not one of the driver's."""
        raise NotImplementedError


_ORDER = {"table": 0, "collection": 0, "materialized view": 1, "view": 2, "routine": 3, "sequence": 4}


def _in_order(found: list[TableInfo]) -> list[TableInfo]:
    """Default schema first, tables before views before routines, then by name."""
    return sorted(found, key=lambda t: (bool(t.schema), t.schema, _ORDER[t.kind], t.name.casefold()))
