"""MariaDB and MySQL, through mysqlclient or PyMySQL (see docs/decisions/005 and 028)."""

from __future__ import annotations

import json
import re
import socket
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from typing import TYPE_CHECKING, Any

from nimble_otter.errors import (
    AuthError,
    ClearPassword,
    ConnectError,
    LostError,
    Place,
    QueryError,
    SourceError,
    SourceTimeout,
    place_of,
)
from nimble_otter.query.sql.statements import mark_parameters, parameter_places
from nimble_otter.sources import facts
from nimble_otter.sources.address import AddressForm
from nimble_otter.sources.catalogue import EntryKind, TableInfo
from nimble_otter.sources.dialects import Dialect
from nimble_otter.sources.dialects.mariadb import MARIADB, MYSQL
from nimble_otter.sources.mysql_client import client_for
from nimble_otter.sources.plans import PlanNode, of_mariadb
from nimble_otter.sources.reflect import Written, label_of
from nimble_otter.sources.relational import Relational
from nimble_otter.sources.result_stream import Answer, batches_of
from nimble_otter.sources.session import Bound, Done
from nimble_otter.sources.texts import find_word
from nimble_otter.sources.urls import check_options, read_url, with_secret
from nimble_otter.sources.waits import WAITS, keep_alive
from nimble_otter.sources.writer import run_each
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table import Kind
from nimble_otter.translation import tr
from nimble_otter.values import ClientObject, Value

if TYPE_CHECKING:
    from sqlalchemy import Engine, Inspector
    from sqlalchemy.engine.interfaces import DBAPIConnection

_SYSTEM = ("information_schema", "mysql", "performance_schema", "sys")


_FILE, _NUMBER = r"[^\0]+", r"\d{1,9}"
_OPTIONS = {
    "ssl_mode": "DISABLED|PREFERRED|REQUIRED|VERIFY_CA|VERIFY_IDENTITY", "ssl_ca": _FILE, "ssl_cert": _FILE,
    "ssl_key": _FILE, "ssl_capath": _FILE, "ssl_cipher": r"[\w:\-]+", "connect_timeout": _NUMBER,
    "read_timeout": _NUMBER, "write_timeout": _NUMBER, "compress": "0|1|true|false", "unix_socket": r"/[^\0]*",
    "charset": "utf8mb4|utf8",
}  # fmt: skip
"""Options that a URL may give, named as mysqlclient names them."""
_REFUSED = {
    "local_infile": tr(", as it lets the server take files of this machine"),
    "read_default_file": tr(", as it reads passwords from a file"),
    "init_command": tr(", as it runs a statement unasked"),
}


_HINTS = {10: Kind.DATE, 7: Kind.TIME, 12: Kind.TIME, 11: Kind.CLOCK, 5: Kind.FLOAT, 246: Kind.DECIMAL}
_HINTS |= dict.fromkeys((1, 2, 3, 8, 9), Kind.INT)
"""By the number of a type in the protocol (enum_field_types): DATE, TIMESTAMP, DATETIME, TIME, DOUBLE, NEWDECIMAL, and
the integers TINY, SHORT, LONG, LONGLONG and INT24."""


class _Mariadb:
    key = "mariadb"
    word = "MariaDB"
    schemes = ("mariadb", "mysql", "mariadb+mysqldb", "mysql+mysqldb", "mariadb+pymysql", "mysql+pymysql")
    dialects = (MARIADB, MYSQL)
    address = AddressForm(
        tr("MariaDB or MySQL"), 3, "mariadb://user@host:3306/name", 3306, ca="ssl_ca", reaches_databases=True,
        tls={"required": {"ssl_mode": "REQUIRED"}, "verified": {"ssl_mode": "VERIFY_IDENTITY"}},
        has_replicas=True,
    )  # fmt: skip

    def takes(self, scheme: str) -> bool:
        return scheme in self.schemes

    def connect(self, url: str, password: str | None = None, clear_password: bool = False) -> MariadbConnection:
        check_options(url, _OPTIONS, _REFUSED)
        return MariadbConnection(url, password, clear_password)


class MariadbConnection(Relational):
    """See sources.source.Connection."""

    word = "MariaDB"
    drains = True
    facts_of = staticmethod(facts.of_mariadb)
    plan_form = "explain format=json "

    def __init__(self, url: str, password: str | None, clear_password: bool = False) -> None:
        self._client, self._takes_several = client_for(url.partition(":")[0]), False
        self._guards = _guards(url, clear_password, self._client)
        super().__init__(_engine(with_secret(url, password), self._guards, self._client))
        self._database = self._engine.url.database
        self._probe()
        with self.explained():
            mode = str(self._ask("select @@sql_mode")[0][0])
        self.plain_quotes = "NO_BACKSLASH_ESCAPES" in mode or "ANSI_QUOTES" in mode

    def _schemas(self, inspector: Inspector) -> list[str | None]:
        if self._database:
            return [self._database]
        return [s for s in inspector.get_schema_names() if s not in _SYSTEM]

    def _in_schemas(self) -> tuple[str, tuple[str, ...]]:
        if self._database:
            return "= %s", (self._database,)
        return f"not in ({', '.join(['%s'] * len(_SYSTEM))})", _SYSTEM

    def _estimates(self, default: str | None) -> dict[str, int]:
        where, values = self._in_schemas()
        text = f"select table_schema, table_name, table_rows from information_schema.tables where table_schema {where}"
        return {label_of(s, n, default): int(rows) for s, n, rows in self._ask(text, values) if rows is not None}

    def _others(self, default: str | None) -> list[TableInfo]:
        where, values = self._in_schemas()
        routines = (
            "select r.routine_schema, r.routine_name, r.routine_type, r.dtd_identifier, (select group_concat("
            "concat(p.parameter_name, ' ', p.dtd_identifier) order by p.ordinal_position separator ', ') "
            "from information_schema.parameters p where p.specific_schema = r.routine_schema and p.specific_name = "
            f"r.specific_name and p.ordinal_position > 0) from information_schema.routines r "
            f"where r.routine_schema {where}"
        )
        sequences = (
            "select table_schema, table_name from information_schema.tables where table_type = 'SEQUENCE' "
            f"and table_schema {where}"
        )
        results = []
        for schema, name, kind, result, arguments in self._ask(routines, values):
            label = label_of(schema, name, default)
            comment = f"({arguments or ''}) → {result or str(kind).lower()}"
            results.append(TableInfo(label, EntryKind.ROUTINE, schema=label[: -len(name) - 1], comment=comment))
        for schema, name in self._ask(sequences, values):
            label = label_of(schema, name, default)
            results.append(TableInfo(label, EntryKind.SEQUENCE, schema=label[: -len(name) - 1]))
        return results

    def _declared(self, schema: str | None, tables: Sequence[str] | None) -> dict[str, dict[str, Written]]:
        text = (
            "select table_name, column_name, concat(column_type, if(coalesce(character_set_name, 'utf8mb4') = "
            "'utf8mb4', '', concat(' character set ', character_set_name))), extra like '%%INVISIBLE%%' from "
            "information_schema.columns where table_schema = coalesce(%s, database())"
        )
        names = set(tables) if tables is not None else None
        found: dict[str, dict[str, Written]] = {}
        for table, column, kind, is_hidden in self._ask(text, (schema,)):
            if names is None or table in names:
                found.setdefault(table, {})[column] = Written(is_hidden=bool(is_hidden), exact=str(kind))
        return found

    def _definition(self, table: TableInfo) -> str | None:
        """SHOW CREATE, whose words are the server's own."""
        prepare = self._engine.dialect.identifier_preparer
        name = ".".join(prepare.quote_identifier(part) for part in (table.schema, table.bare) if part)
        kinds = ("FUNCTION", "PROCEDURE") if table.kind == EntryKind.ROUTINE else (table.kind.upper().split(" ")[-1],)
        for kind in kinds:
            try:
                rows = self._ask(f"show create {kind} {name}")
            except Exception as problem:  # a procedure asked for as a function
                if kind is kinds[-1]:
                    raise problem
                continue
            return str(rows[0][2 if table.kind == EntryKind.ROUTINE else 1]) + ";"
        return None

    def _start(self, answer: Answer, text: str, values: dict[str, object]) -> tuple[list[str], list[Kind | None]]:
        # SET SESSION in an earlier query could have lifted a default
        _tell(answer.driver, "start transaction read only")
        cursor = answer.cursor = answer.driver.cursor(self._client.stream_cursor())
        cursor.execute(mark_parameters(text, values, "pyformat"), values or None)
        if cursor.description is None:
            return [], []
        answer.rows = batches_of(cursor)
        return [c[0] for c in cursor.description], [_HINTS.get(c[1]) for c in cursor.description]

    @contextmanager
    def _writing(self, messages: list[str], keeps: bool = True, stop: StopToken = NEVER) -> Iterator[object]:
        raw = self._engine.raw_connection()
        driver: Any = raw.driver_connection
        try:
            _tell(driver, "set session transaction read write")  # what defines tables ends the transaction it is in
            _tell(driver, "start transaction read write")
            _tell(driver, "set @mode = @@sql_mode, sql_mode = concat(@@sql_mode, ',STRICT_ALL_TABLES')")
            yield driver
        finally:
            try:
                if self._takes_several:
                    self._takes_several = False
                    self._client.allow_several(driver, False)
                driver.rollback()
                _tell(driver, "set sql_mode = coalesce(@mode, @@sql_mode)")
                _tell(driver, "set session transaction read only")
                raw.close() if keeps else raw.invalidate()
            except Exception:  # noqa: BLE001 - a connection of which this can't be said is let go
                raw.invalidate()

    @property
    def dialect(self) -> Dialect:
        """The dialect of the server that answered: MariaDB's or MySQL's."""
        return MARIADB if getattr(self._engine.dialect, "is_mariadb", False) else MYSQL

    def rights(self) -> tuple[str, ...]:
        """What the user may do that reaches beyond reading, in words for the source's page."""
        self._ready()
        with self.explained():
            grants = [str(grant[0]).upper() for grant in self._ask("show grants")]
        everywhere = " ".join(grant for grant in grants if " ON *.* " in grant)
        strong = (
            "ALL PRIVILEGES",
            "SUPER",
            "FILE",
            "SHUTDOWN",
            "PROCESS",
            "CREATE USER",
            "CONNECTION ADMIN",
            "BINLOG ADMIN",
        )
        names = [right for right in strong if re.search(rf"\b{right}\b", everywhere)]
        if not names:
            return ()
        return (
            tr(
                "This user has {names} on the whole server. Use one with fewer rights for reading.",
                names=", ".join(names),
            ),
        )

    def without_transactions(self, table: TableInfo) -> str:
        """The engine of a table if it has no transactions; empty if it has."""
        text = (
            "select t.engine from information_schema.tables t join information_schema.engines e on e.engine = t.engine "
            "where t.table_schema = coalesce(%s, database()) and t.table_name = %s and e.transactions <> 'YES'"
        )
        self._ready()
        with self.explained():
            results = self._ask(text, (table.schema or None, table.bare))
        return str(results[0][0]) if results else ""

    def run_many(self, driver: ClientObject, wanted: Sequence[Bound]) -> list[Done]:
        """All in one message; the answers come one after the other."""
        if len(wanted) == 1:
            return run_each(lambda: self.reading_cursor(driver), wanted)
        if not self._takes_several:  # for texts of ours alone, until this transaction ends
            self._client.allow_several(driver, True)
            self._takes_several = True
        cursor = driver.cursor()
        try:
            results = []
            cursor.execute(b";".join(self._client.with_values(driver, *one) for one in wanted))
            while True:
                rows = tuple(cursor.fetchall()) if cursor.description is not None else ()
                results.append(Done(len(rows) if rows else max(cursor.rowcount, 0), rows))
                if not cursor.nextset():
                    return results
        finally:
            with suppress(Exception):
                cursor.close()

    def _warnings(self, cursor: ClientObject) -> list[str]:
        cursor.execute("show warnings")
        return [f"{level}: {said}" for level, _, said in cursor.fetchall()]

    def handle_of(self, driver: ClientObject) -> int:
        """The client's own connection under the pool's."""
        return int(driver.thread_id())

    def socket_of(self, driver: object) -> int | None:
        """The number of the socket of a client's connection."""
        return self._client.socket_of(driver)

    def abandon(self, driver: object, cursor: object) -> None:
        """The line of this connection was cut while rows were left: nobody waits for them."""
        self._client.abandon(driver, cursor)

    def cancel(self, handle: int) -> None:
        """KILL QUERY from a second connection; the client library has no other way."""
        args, options = self._engine.dialect.create_connect_args(self._engine.url)
        own = {name: value for name, value in options.items() if name != "client_flag"}
        connection = self._engine.dialect.connect(*args, **{**own, **self._guards, "connect_timeout": 1})
        try:
            cursor = connection.cursor()
            cursor.execute(f"kill query {handle}")
            cursor.close()
        finally:
            connection.close()

    def _parse(self, driver: ClientObject, text: str, values: dict[str, object]) -> None:
        pieces, at = [], 0
        for start, end, _ in parameter_places(text) if values else ():
            pieces += [text[at:start], "?"]
            at = end
        cursor = driver.cursor()
        try:
            cursor.execute("prepare nimble_otter from %s", ("".join(pieces) + text[at:],))
            cursor.execute("deallocate prepare nimble_otter")
        except self._engine.dialect.loaded_dbapi.Error as problem:
            if problem.args and problem.args[0] != 1295:  # understood, but nothing that can be prepared
                raise
        finally:
            cursor.close()

    def _plan_of(self, rows: list[Value]) -> PlanNode:
        return of_mariadb(json.loads(rows[0][0]))

    def translate_error(self, problem: Exception, text: str) -> Exception | None:  # noqa: C901 - a branch for each number of error
        """The client's error as one of ours."""
        client = self._engine.dialect.loaded_dbapi
        if not isinstance(problem, (client.Error, UnicodeDecodeError)):
            return None
        code = problem.args[0] if problem.args and isinstance(problem.args[0], int) else 0
        message = str(problem.args[1]) if len(problem.args) > 1 else str(problem)
        if "restricted_auth" in message:
            return ClearPassword(
                tr("The server asks for the password in clear text, and it was not sent."),
                tr("Choose TLS on the source's page, or allow it there."),
            )
        if code in (1044, 1045, 1698):
            return AuthError(tr("The server refused the user name or password."), tr("Check both in the source."))
        if code == 1049:
            return ConnectError(f"{message.rstrip('.')}.", tr("Check the database's name in the source."))
        if code in (1040, 1203, 1226):
            return ConnectError(
                tr("The server has too many connections open."), tr("Try again later, or ask the administrator.")
            )
        if code in (2003, 2002, 2005):
            return _say_connect(message, self._engine.url.host or "localhost", self._engine.url.port or 3306)
        if code == 2026 or "SSL" in message or "TLS" in message:
            return ConnectError(
                tr("TLS failed: {message}.", message=message),
                tr("Check the TLS setting and the certificate in the source."),
            )
        if code in (2006, 2013, 2055, 4031, 1927) or isinstance(problem, client.InterfaceError):
            if code == 2013 and (
                "handshake" in message or "initial communication" in message or "reading auth" in message
            ):
                return SourceTimeout(tr("The server did not answer in time."), tr("Check the host and port."))
            return LostError(
                tr("The connection to the server was lost."), tr("Run again; the rows fetched so far are kept.")
            )
        hint, place = "", None
        if code in (1054, 1146):
            match = re.search(r"'([^']+)'", message)
            name = match[1] if match else ""
            name = name.rpartition(".")[2] if code == 1146 else name
            hint = self._hint("column" if code == 1054 else "table", name, text)
            place = find_word(text, name)
        elif code == 1064:
            place = _syntax_place(text, message)
        elif code in (1792, 1290):
            message, hint = (
                tr("The source is open for reading only"),
                tr("Correct cells in the grid and write through Changes."),
            )
        return QueryError(f"{message[:1].upper()}{message[1:].rstrip('.')}.", hint, place)


def _tell(driver: DBAPIConnection, text: str) -> None:
    """A statement of our own that gives no rows."""
    cursor = driver.cursor()
    cursor.execute(text)
    cursor.close()


def _guards(url: str, clear_password: bool, client: ClientObject) -> dict[str, Value]:
    """What every connection is told before the server is heard; see `mysql_client`."""
    parts = read_url(url)
    options = dict(parts.options) if parts is not None else {}
    has_tls = options.get("ssl_mode", "") in ("REQUIRED", "VERIFY_CA", "VERIFY_IDENTITY")
    return {"charset": "utf8mb4", **client.options(options, clear_password or has_tls)}


def _engine(url: str, guards: dict[str, Value], client: ClientObject) -> Engine:
    from sqlalchemy import create_engine, event, make_url

    made = make_url(url)
    made = made.set(drivername=f"{made.drivername.partition('+')[0]}+{client.scheme}")
    options: dict[str, Any] = dict(guards)
    if "connect_timeout" not in made.query:
        options["connect_timeout"] = WAITS.connect_s
    made = made.difference_update_query(client.not_in_url)
    engine = create_engine(made, connect_args=options, **WAITS.pool())

    @event.listens_for(engine, "connect")
    def prepare(connection: DBAPIConnection, record: object) -> None:
        keep_alive(client.socket_of(connection))
        cursor = connection.cursor()
        cursor.execute("set session transaction read only")
        cursor.execute("set names utf8mb4")
        cursor.execute("set time_zone = '+00:00'")  # no hour twice, whatever the server's zone
        cursor.close()

    return engine


def _syntax_place(text: str, message: str) -> Place | None:
    """The server names the rest of the text from the first word it could not read, and the line."""
    match = re.search(r"near '(.*)' at line (\d+)", message, re.DOTALL)
    if not match:
        return None
    rest, line = match[1], int(match[2])
    start = sum(len(part) + 1 for part in text.split("\n")[: line - 1])
    if not rest:
        return place_of(text, len(text.rstrip()) - 1, len(text.rstrip()))
    at = text.find(rest[:60], start)
    at = at if at >= 0 else text.find(rest.split("\n")[0], start)
    at = (
        at if at >= 0 else text.find(rest.split("\n")[0].split("?")[0], start)
    )  # a parameter of a text that is only read
    word = re.match(r"\w+|\S", rest)
    return place_of(text, at, at + (word.end() if word else 1)) if at >= 0 else None


def _say_connect(text: str, host: str, port: int) -> SourceError:
    """The client library tells one number for most reasons; knocking at the port tells which it is."""
    try:
        socket.create_connection((host, port), 2).close()
    except socket.gaierror:
        return ConnectError(tr("The host's name is not known."), tr("Check its spelling."))
    except ConnectionRefusedError:
        return ConnectError(
            tr("No server answers at this host and port: refused."), tr("Check the port, or start the server.")
        )
    except TimeoutError:
        return SourceTimeout(
            tr("The server did not answer in time."), tr("Check the host and port; a firewall may drop it.")
        )
    except OSError as problem:
        return ConnectError(
            tr("The server could not be reached: {strerror}.", strerror=problem.strerror),
            tr("Check the host and port."),
        )
    return ConnectError(
        tr("The server could not be reached: {text}.", text=text.rstrip(".")), tr("Check the host and port.")
    )


DRIVER = _Mariadb()
