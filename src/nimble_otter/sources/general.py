"""A connection to any server that SQLAlchemy has a dialect for: read in a session set to reading where there is such a
thing, written in a transaction of its own. What the server can't do is found by asking it.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from typing import TYPE_CHECKING, Any

from nimble_otter.errors import AuthError, ChangeError, ConnectError, LostError, QueryError
from nimble_otter.query.sql.statements import parameter_places
from nimble_otter.sources import facts
from nimble_otter.sources.catalogue import TableInfo
from nimble_otter.sources.dialects import Dialect
from nimble_otter.sources.dialects.general import GeneralDialect, general_dialect
from nimble_otter.sources.relational import Relational
from nimble_otter.sources.result_stream import Answer, batches_of
from nimble_otter.sources.session import Bound, Done
from nimble_otter.sources.urls import with_secret
from nimble_otter.sources.waits import WAITS
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table import Kind
from nimble_otter.translation import tr
from nimble_otter.values import ClientObject, Value

if TYPE_CHECKING:
    from sqlalchemy import Connection, Engine
    from sqlalchemy.engine.interfaces import DBAPIConnection

_READ_ONLY = {
    "postgresql": "set session characteristics as transaction read only",
    "mysql": "set session transaction read only",
    "mariadb": "set session transaction read only",
    "sqlite": "pragma query_only = on",
}
_WORDS_OF_REFUSAL = ("password", "authentication", "access denied", "logon denied", "login failed")
_WORDS_OF_A_LOST_LINE = ("network", "connection", "closed", "not connected", "broken pipe")


class GeneralConnection(Relational):
    """See sources.source.Connection. `spoken` is what the server speaks, where its driver knows it."""

    word = tr("This kind of server")
    is_typed = False

    def __init__(self, url: str, password: str | None, spoken: Dialect | None = None) -> None:
        self._url = with_secret(url, password)
        self._writer: Engine | None = None
        engine = self._make_engine(**WAITS.pool())
        self._hold_to_reading(engine)
        super().__init__(engine)
        style = str(engine.dialect.paramstyle)
        known = spoken if spoken is not None else general_dialect(engine.dialect.name)
        self._dialect = known.marked(style) if isinstance(known, GeneralDialect) else known
        self._has_asked = self._is_open = False
        self._probe()
        self._is_open = True

    def _make_engine(self, **options: Value) -> Engine:
        from sqlalchemy import create_engine
        from sqlalchemy.exc import ArgumentError

        try:
            return create_engine(self._url, **options)
        except ArgumentError as problem:
            raise ConnectError(
                tr("The URI can't be used."), tr("Write it like dialect://user@host:port/NAME.")
            ) from problem

    @property
    def dialect(self) -> Dialect:
        """What the database's own package tells of the server, and what was found by asking."""
        return self._dialect

    # --- reading -----------------------------------------------------------------------------------------------

    def _start(self, answer: Answer, text: str, values: dict[str, object]) -> tuple[list[str], list[Kind | None]]:
        cursor = answer.cursor = answer.driver.cursor()
        self._execute(cursor, text, values)
        if cursor.description is None:
            return [], []
        answer.rows = _batches(cursor)
        return [c[0] for c in cursor.description], [None] * len(cursor.description)

    def _execute(self, cursor: ClientObject, text: str, values: dict[str, object]) -> None:
        if not values:
            cursor.execute(text)
            return
        made = _clause(text, values).compile(dialect=self._engine.dialect)
        bound = made.construct_params(escape_names=False)
        order = made.positiontup
        cursor.execute(str(made), bound if order is None else tuple(bound[name] for name in order))

    def _marked(self, text: str, values: dict[str, object]) -> str:
        return text  # which `_execute` marks itself

    def cancel(self, handle: ClientObject) -> None:
        """As the client can: there is no general way to stop a query from outside."""
        for name in ("cancel", "interrupt"):
            with suppress(Exception):  # not every client can
                getattr(handle, name)()

    def translate_error(self, problem: Exception, text: str) -> Exception | None:
        """The client's error as one of ours."""
        base = getattr(self._engine.dialect.loaded_dbapi, "Error", None)
        if base is None or not isinstance(problem, base):
            return None
        message = _words_of(problem)
        low = message.lower()
        if not self._is_open:
            if any(word in low for word in _WORDS_OF_REFUSAL):
                return AuthError(tr("The server refused the user name or password."), tr("Check both in the source."))
            return ConnectError(
                tr("The server could not be reached: {message}.", message=message), tr("Check the URI.")
            )
        if any(word in low for word in _WORDS_OF_A_LOST_LINE):
            return LostError(
                tr("The connection to the server was lost."), tr("Run again; the rows fetched so far are kept.")
            )
        return QueryError(tr("The server says: {message}.", message=message))

    # --- writing -----------------------------------------------------------------------------------------------

    @contextmanager
    def _writing(self, messages: list[str], keeps: bool = True, stop: StopToken = NEVER) -> Iterator[object]:
        """A connection of its own, as the others are held to reading."""
        from sqlalchemy import pool

        if self._writer is None:
            self._writer = self._make_engine(poolclass=pool.NullPool)
        connection = self._writer.connect()
        try:
            self._begin(connection)
            yield connection.connection.driver_connection
        finally:
            with suppress(Exception):  # of a line that is lost nothing is left to undo
                connection.rollback()
            connection.close()

    def _begin(self, connection: Connection) -> None:
        """Begin to write; the first time it is found out whether the server has savepoints."""
        self._set_up_writing(connection)
        connection.begin()
        if self._has_asked or not isinstance(self._dialect, GeneralDialect) or not self._dialect.savepoint:
            return
        base = getattr(connection.dialect.loaded_dbapi, "Error", Exception)
        driver: Any = connection.connection.driver_connection
        cursor = driver.cursor()
        try:
            for text in (self._dialect.savepoint, self._dialect.rollback_to_savepoint, self._dialect.release_savepoint):
                if text:
                    cursor.execute(text.format("nimble_otter"))
        except base:
            self._dialect = self._dialect.without_savepoints()
        finally:
            cursor.close()
        driver.rollback()
        self._has_asked = True

    def _set_up_writing(self, connection: Connection) -> None:
        """Before a transaction that writes: it sees what others have committed meanwhile, where that can be chosen."""
        levels: Sequence[str] = ()
        with suppress(NotImplementedError):
            levels = connection.dialect.get_isolation_level_values(connection.connection.dbapi_connection)  # type: ignore[arg-type]
        if "READ COMMITTED" in levels:
            connection.execution_options(isolation_level="READ COMMITTED")

    def begin(self) -> None:
        """Open a transaction that stays open. Raises: ChangeError, where the server has none: what is done in it could
        not be taken back."""
        if not self._dialect.has_transactions:
            raise ChangeError(
                tr(
                    "{display_name} has no transactions: each statement is done at once.",
                    display_name=self._dialect.display_name,
                ),
                tr("Run the statements by themselves."),
            )
        super().begin()

    def without_transactions(self, table: TableInfo) -> str:
        """What keeps a table whose writes can't be rolled back: the server itself, where it has no transactions."""
        spoken = self._dialect
        return "" if spoken.has_transactions else spoken.display_name

    def run_many(self, driver: ClientObject, wanted: Sequence[Bound]) -> list[Done]:
        """Run statements in their order. Raises: ChangeError, where the client does not tell how many rows one met."""
        results = []
        for text, values in wanted:
            cursor = driver.cursor()
            try:
                cursor.execute(text, values) if values else cursor.execute(text)
                rows = tuple(map(tuple, cursor.fetchall())) if cursor.description is not None else ()
                count = self._met(cursor, text, rows)
            except (OverflowError, ValueError, TypeError) as problem:  # what a client says to values it has no form for
                raise QueryError(
                    tr("The client package can't send or read a value: {problem}.", problem=problem)
                ) from problem
            finally:
                with suppress(Exception):
                    cursor.close()
            results.append(Done(count, rows))
        return results

    def _met(self, cursor: ClientObject, text: str, rows: tuple[tuple[Value, ...], ...]) -> int:
        """How many rows a statement met."""
        is_change = text.lstrip()[:6].lower() in ("update", "delete", "insert")
        if rows or not is_change:
            return len(rows)
        if cursor.rowcount < 0:
            raise ChangeError(
                tr("The client package does not tell how many rows a statement changed, so a write can't be checked."),
                tr("Copy the statements and run them with another client."),
            )
        return int(cursor.rowcount)

    def facts_of(self, ask: facts.Ask, schema: str | None, name: str, default: str | None) -> facts.TableFacts:
        """What the inspector tells of a table; triggers it does not know."""
        return facts.of_inspector(self._inspector(), schema, name, default)

    def rights(self) -> tuple[str, ...]:
        """What is not known or can't be done on this server, in sentences for its page."""
        spoken, lines = self._dialect, []
        if not spoken.has_transactions:
            lines.append(
                tr("It has no transactions: changes are written one by one and can't be rehearsed or rolled back.")
            )
        if type(self).facts_of is GeneralConnection.facts_of:
            lines.append(tr("Its triggers are not known here: what they change is seen only after a write."))
        return tuple(lines)

    def close(self) -> None:
        """Close every connection, and roll back what is open."""
        super().close()
        if self._writer is not None:
            self._writer.dispose()

    # --- what a driver gives -----------------------------------------------------------------------------------

    def _hold_to_reading(self, engine: Engine) -> None:
        """Every new connection of the engine is told to only read, where its dialect has such a statement."""
        from sqlalchemy import event

        text = _READ_ONLY.get(engine.dialect.name)

        @event.listens_for(engine, "connect")
        def prepare(connection: DBAPIConnection, record: object) -> None:
            if text:
                cursor = connection.cursor()
                cursor.execute(text)
                cursor.close()
                connection.commit()


def _words_of(problem: Exception) -> str:
    """What a client's error says; some give a mapping in place of a text."""
    parts = [part.get("M", part) if isinstance(part, dict) else part for part in problem.args]
    return " ".join(" ".join(map(str, parts)).split()).rstrip(".") or type(problem).__name__


def _clause(text: str, values: dict[str, object]) -> Any:
    from sqlalchemy import text as clause

    pieces, at = [], 0
    for start, end, name in parameter_places(text):
        pieces += [text[at:start].replace(":", "\\:"), f":{name}"]
        at = end
    return clause("".join(pieces) + text[at:].replace(":", "\\:")).bindparams(**values)


def _batches(cursor: object) -> Iterator[list[Value]]:
    for batch in batches_of(cursor):
        yield [tuple(row) for row in batch]
