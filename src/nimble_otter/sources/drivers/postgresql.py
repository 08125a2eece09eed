"""PostgreSQL, through psycopg 3."""

from __future__ import annotations

import json
import re
import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from itertools import islice
from typing import TYPE_CHECKING, Any

from nimble_otter.errors import (
    AuthError,
    ClearPassword,
    ConnectError,
    LostError,
    QueryError,
    SourceError,
    SourceTimeout,
    place_of,
)
from nimble_otter.query.sql.statements import mark_parameters
from nimble_otter.sources import copy_stream, facts
from nimble_otter.sources.address import AddressForm
from nimble_otter.sources.catalogue import EntryKind, TableInfo
from nimble_otter.sources.dialects.postgresql import POSTGRESQL
from nimble_otter.sources.plans import PlanNode, of_postgresql
from nimble_otter.sources.postgresql_client import (
    KINDS,
    answered,
    batches_from,
    begin_reading,
    columns_of,
    form_of,
    make_engine,
    numbers_of,
    told_by,
)
from nimble_otter.sources.reflect import Written, label_of
from nimble_otter.sources.relational import Relational
from nimble_otter.sources.result_stream import BATCH, FIRST, Answer
from nimble_otter.sources.session import Bound, Done
from nimble_otter.sources.trace import Origin
from nimble_otter.sources.urls import check_options, with_secret
from nimble_otter.sources.writer import run_each
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table import Kind
from nimble_otter.translation import tr
from nimble_otter.values import ClientObject, Value

if TYPE_CHECKING:
    from sqlalchemy import Inspector
    from sqlalchemy.engine.interfaces import DBAPICursor

_AS_TEXT = ("date", "timestamp", "timestamptz", "time", "timetz", "interval", "numeric", "json", "jsonb", "uuid",
            "inet", "cidr", "macaddr", "int4range", "int8range", "numrange", "daterange", "tsrange", "tstzrange",
            "int4multirange", "int8multirange", "nummultirange", "datemultirange", "tsmultirange",
            "tstzmultirange")  # fmt: skip
"""Types kept as the server writes them: Python's cannot hold all their values (infinity, BC, 24:00, months), and the
engine reads times and decimals from text faster than from objects."""

_FILE, _NUMBER, _WORD = r"[^\0]+", r"\d{1,9}", r"[\w.\- ]{1,60}"
_OPTIONS = {
    "sslmode": "disable|allow|prefer|require|verify-ca|verify-full", "sslrootcert": _FILE, "sslcert": _FILE,
    "sslkey": _FILE, "sslcrl": _FILE, "ssl_min_protocol_version": _WORD, "connect_timeout": _NUMBER,
    "application_name": _WORD, "keepalives": "0|1", "keepalives_idle": _NUMBER, "keepalives_interval": _NUMBER,
    "keepalives_count": _NUMBER, "tcp_user_timeout": _NUMBER, "channel_binding": "disable|prefer|require",
    "gssencmode": "disable|prefer|require", "krbsrvname": _WORD, "client_encoding": _WORD,
    "target_session_attrs": "any|read-write|read-only|primary|standby|prefer-standby", "host": r"/[^,\0]*",
}  # fmt: skip
"""Options of libpq that a URL may give (PostgreSQL documentation, 34.1.2). `host` is the folder of a socket file
only."""
_REFUSED = {
    "options": tr(", as it can run settings before ours"),
    "hostaddr": tr(", as it reaches another host than the URL names"),
    "service": tr(", as it reads settings from a file"),
    "passfile": tr(", as it reads passwords from a file"),
}
_NEED_TYPES = ("42P18", "42883", "42804", "42846")
"""What is refused only because values have no types yet (PostgreSQL documentation, appendix A)."""
_COPIED = re.compile(r"(?:\s|--[^\n]*\n|/\*[^*]*\*/)*(?:select|with|values|table)\b|\s*\(", re.I)
"""How queries begin that COPY takes."""
_PATIENCE = 100
"""Tenths of a second for a transaction that was cut off to come to its end."""


_Named = dict[tuple[int, int], tuple[str, ...] | None]


class _Postgresql:
    key = "postgresql"
    word = "PostgreSQL"
    schemes = ("postgresql", "postgres", "postgresql+psycopg")
    dialects = (POSTGRESQL,)
    address = AddressForm(
        "PostgreSQL", 2, "postgresql://user@host:5432/name", 5432, ca="sslrootcert", user_names_database=True,
        tls={"required": {"sslmode": "require"}, "verified": {"sslmode": "verify-full"}}, address_option="hostaddr",
        has_replicas=True,
    )  # fmt: skip

    def takes(self, scheme: str) -> bool:
        return scheme in self.schemes

    def connect(self, url: str, password: str | None = None, clear_password: bool = False) -> PostgresqlConnection:
        check_options(url, _OPTIONS, _REFUSED)
        return PostgresqlConnection(url, password, clear_password)


_LISTEN_S, _MOST_HEARD = 0.5, 100


class PostgresqlConnection(Relational):
    """See sources.source.Connection."""

    dialect = POSTGRESQL
    word = "PostgreSQL"
    settles = ("set constraints all immediate",)
    signs = "select txid_current()"
    counts_changes = "select coalesce(sum(n_tup_ins + n_tup_upd + n_tup_del), 0)::bigint from pg_stat_xact_user_tables"
    facts_of = staticmethod(facts.of_postgresql)
    plan_form = "explain (format json) "

    def __init__(self, url: str, password: str | None, clear_password: bool = False) -> None:
        super().__init__(make_engine(with_secret(url, password), clear_password))
        self._named: _Named = {}
        self._probe()

    def _schemas(self, inspector: Inspector) -> list[str | None]:
        hidden = ("information_schema",)
        return [s for s in inspector.get_schema_names() if s not in hidden and not s.startswith("pg_")]

    def _estimates(self, default: str | None) -> dict[str, int]:
        text = (
            "select n.nspname, c.relname, c.reltuples::bigint from pg_class c join pg_namespace n "
            "on n.oid = c.relnamespace where c.relkind in ('r', 'm', 'p', 'f') and c.reltuples >= 0"
        )
        return {label_of(schema, name, default): int(rows) for schema, name, rows in self._ask(text)}

    def _others(self, default: str | None) -> list[TableInfo]:
        routines = (
            "select n.nspname, p.proname, pg_get_function_identity_arguments(p.oid), "
            "coalesce(pg_get_function_result(p.oid), 'procedure') from pg_proc p "
            "join pg_namespace n on n.oid = p.pronamespace "
            "where n.nspname not like 'pg\\_%' and n.nspname <> 'information_schema' and p.prokind in ('f', 'p')"
        )
        sequences = "select schemaname, sequencename from pg_sequences"
        results = []
        for schema, name, arguments, result in self._ask(routines):
            label = label_of(schema, name, default)
            own = label[: -len(name) - 1]
            results.append(
                TableInfo(f"{label}({arguments})", EntryKind.ROUTINE, schema=own, comment=f"({arguments}) → {result}")
            )
        for schema, name in self._ask(sequences):
            label = label_of(schema, name, default)
            results.append(TableInfo(label, EntryKind.SEQUENCE, schema=label[: -len(name) - 1]))
        return results

    def _declared(self, schema: str | None, tables: Sequence[str] | None) -> dict[str, dict[str, Written]]:
        from sqlalchemy.dialects.postgresql.base import ischema_names

        base = "case when t.typtype = 'd' then t.typbasetype else t.oid end"
        text = (
            "select c.relname, a.attname, format_type(a.atttypid, a.atttypmod), (e.oid is not null or "
            "t.typtype not in ('e', 'd') and format_type(t.oid, null) <> all(%s)), "
            f"(select n.nspname = 'pg_catalog' from pg_type b left join pg_type i on i.oid = b.typelem and "
            f"b.typcategory = 'A' join pg_namespace n on n.oid = coalesce(i.typnamespace, b.typnamespace) "
            f"where b.oid = {base}), case when t.typtype = 'd' then format_type(t.typbasetype, t.typtypmod) end, "
            "t.typname = 'citext' or not coalesce(l.collisdeterministic, true) from pg_attribute a "
            "join pg_class c on c.oid = a.attrelid join pg_namespace n on n.oid = c.relnamespace "
            "join pg_type t on t.oid = a.atttypid left join pg_type e on e.oid = t.typelem and t.typcategory = 'A' "
            "left join pg_collation l on l.oid = a.attcollation where a.attnum > 0 and not a.attisdropped "
            "and n.nspname = coalesce(%s, current_schema()) "
            "and c.relkind in ('r', 'p', 'v', 'm', 'f') and (%s::text[] is null or c.relname = any(%s))"
        )
        names = list(tables) if tables is not None else None
        found: dict[str, dict[str, Written]] = {}
        for table, column, kind, is_missed, is_common, base, folds in self._ask(
            text, (list(ischema_names), schema, names, names)
        ):
            exact = (base or kind) if is_common else ""
            found.setdefault(table, {})[column] = Written(kind.upper() if is_missed else None, folds=folds, exact=exact)
        return found

    def _definition(self, table: TableInfo) -> str | None:
        if table.kind == EntryKind.ROUTINE:
            schema = table.schema or "public"
            text = (
                "select pg_get_functiondef(p.oid) from pg_proc p join pg_namespace n on n.oid = p.pronamespace where "
                "n.nspname = %s and p.proname || '(' || pg_get_function_identity_arguments(p.oid) || ')' = %s"
            )
            rows = self._ask(text, (schema, table.bare))
            return str(rows[0][0]) if rows else ""
        if table.kind == EntryKind.SEQUENCE:
            return f"CREATE SEQUENCE {self.quoted(table.name)};"
        return None

    def _start(self, answer: Answer, text: str, values: dict[str, object]) -> tuple[list[str], list[Kind | None]]:
        from psycopg import ProgrammingError

        begin_reading(answer.driver)
        if answer.in_columns:
            told = self._start_columns(answer, text, values)
            if told is not None:
                return told
            begin_reading(answer.driver)  # what was tried may have ended its transaction
        cursor = answer.cursor = self.reading_cursor(answer.driver)
        rows = cursor.stream(mark_parameters(text, values, "pyformat"), values or None, size=BATCH)
        try:
            first = list(islice(rows, FIRST))
        except ProgrammingError as problem:
            if "didn't produce" in str(problem) or "did not produce" in str(problem):
                return [], []
            raise
        if not first:  # the client library tells the columns only with a row
            form = form_of(answer.driver, mark_parameters(text, values, "dollar"))
            names, kinds, answer.numbers = columns_of(form)
            return names, kinds
        answer.rows = batches_from(first, rows)
        answer.numbers = numbers_of(cursor.pgresult)
        return [c.name for c in cursor.description], [KINDS.get(c.type_code) for c in cursor.description]

    def _start_columns(
        self, answer: Answer, text: str, values: dict[str, object]
    ) -> tuple[list[str], list[Kind | None]] | None:
        """Have the rows come as columns, by a binary COPY of the query; None where they have to come as rows. The
        server reads the text alone first, so that nothing in it can end the COPY around it."""
        import psycopg

        driver, plain = answer.driver, answer.driver.pgconn
        if not (_COPIED.match(text) and driver.info.encoding == "utf-8" and told_by(plain, "integer_datetimes") == "on"
                and told_by(plain, "server_encoding") != "SQL_ASCII"):  # fmt: skip
            return None
        bound = mark_parameters(text, values, "pyformat")
        if values:
            bound = psycopg.ClientCursor(driver).mogrify(bound, values)
        form = form_of(driver, bound)
        if form.status != psycopg.pq.ExecStatus.COMMAND_OK or not form.nfields:
            return None
        cursor = self.reading_cursor(driver)
        readers, is_cast = zip(*(copy_stream.reader_of(form, n, cursor) for n in range(form.nfields)), strict=True)
        plain.send_query_params(copy_stream.copy_of(bound, is_cast).encode(), None)
        begun = answered(driver)
        if begun.status != psycopg.pq.ExecStatus.COPY_OUT:
            if answer.is_stopped():
                raise psycopg.errors.error_from_result(begun)
            return None
        batches = copy_stream.batches_of(driver, readers)
        try:
            first = next(batches, None)
        except psycopg.Error as problem:
            if problem.diag.statement_position:  # counted in a text that nobody wrote
                return None
            raise
        answer.cursor = cursor
        answer.rows = copy_stream.after_first(first, batches) if first is not None else iter(())
        names, kinds, answer.numbers = columns_of(form)
        return names, kinds

    def _confirmed(
        self, origins: list[Origin | None], numbers: list[tuple[int, int]], tables: list[TableInfo], is_whole: bool
    ) -> list[Origin | None]:
        """Of tables the server tells the column itself; of views only that it is theirs."""
        places = {t.name: (t.schema or self.default_schema or "public", t.bare) for t in tables}

        def holds(origin: Origin, number: tuple[int, int]) -> bool:
            if not number[0]:
                return not is_whole
            named = self._named.get(number)
            return named is None or named == (*places.get(origin.table, ("", "")), origin.column)

        def held() -> list[Origin | None]:
            pairs = zip(origins, numbers, strict=True)
            return [origin if origin is not None and holds(origin, number) else None for origin, number in pairs]

        unknown = {number for number in numbers if number[0]} - self._named.keys()
        if unknown or held() != origins:  # or a table was changed since it was asked about
            with self.explained():
                self._named |= self._names_of(sorted({table for table, _ in numbers if table}), unknown)
        return held()

    def _names_of(self, tables: list[int], unknown: set[tuple[int, int]]) -> _Named:
        """Schema, table and column of each number; None for those of views and of what else has no rows of its own."""
        results = self._ask(
            "select a.attrelid::bigint, a.attnum, n.nspname, c.relname, a.attname from pg_attribute a "
            "join pg_class c on c.oid = a.attrelid join pg_namespace n on n.oid = c.relnamespace where a.attnum > 0 "
            "and c.relkind in ('r', 'p', 'f') and a.attrelid = any(%s)",
            (tables,),
        )
        named: _Named = dict.fromkeys(unknown)
        return named | {(table, column): tuple(names) for table, column, *names in results}

    @contextmanager
    def _writing(self, messages: list[str], keeps: bool = True, stop: StopToken = NEVER) -> Iterator[object]:
        raw = self._engine.raw_connection()
        driver: Any = raw.driver_connection

        def note(said: ClientObject) -> None:
            messages.append(f"{str(said.severity).capitalize()}: {said.message_primary}")

        driver.add_notice_handler(note)
        try:
            driver.read_only = False
            yield driver
        finally:
            try:
                driver.remove_notice_handler(note)
                driver.rollback()
                driver.read_only = None
                raw.close() if keeps else raw.invalidate()
            except Exception:  # noqa: BLE001 - a connection of which this can't be said is let go
                raw.invalidate()

    def run_many(self, driver: ClientObject, wanted: Sequence[Bound]) -> list[Done]:
        """All sent before the first answer is read."""
        if len(wanted) == 1:
            return run_each(lambda: self.reading_cursor(driver), wanted)
        cursors = []
        with driver.pipeline():
            for text, values in wanted:
                cursors.append(self.reading_cursor(driver))
                cursors[-1].execute(text, values)
        return [Done(c.rowcount, tuple(c.fetchall()) if c.description is not None else ()) for c in cursors]

    def reading_cursor(self, driver: ClientObject) -> ClientObject:
        """A cursor whose values come as the table engine reads them."""
        from psycopg.types.string import TextLoader

        cursor = driver.cursor()
        for name in _AS_TEXT:
            cursor.adapters.register_loader(name, TextLoader)
        return cursor

    def rights(self) -> tuple[str, ...]:
        """What the user may do that reaches beyond reading, in words for the source's page."""
        roles = ("pg_execute_server_program", "pg_write_server_files", "pg_read_server_files", "pg_signal_backend")
        asked = ", ".join(f"pg_has_role(current_user, '{role}', 'member')" for role in roles)
        self._ready()
        with self.explained():
            name, is_super, *held = self._ask(
                f"select current_user, rolsuper, {asked} from pg_roles where rolname = current_user"
            )[0]
        if is_super:
            what = tr("{name} is a superuser: its functions reach files and programs of the server.", name=name)
            return (tr("{what} Use a role with fewer rights for reading.", what=what),)
        names = [role for role, has in zip(roles, held, strict=True) if has]
        return (
            (
                tr(
                    "{name} is a member of {names}. Use a role with fewer rights for reading.",
                    name=name,
                    names=", ".join(names),
                ),
            )
            if names
            else ()
        )

    def outcome_of(self, mark: str) -> bool | None:
        """What became of a transaction whose answer was lost."""
        super().outcome_of(mark)
        for _ in range(_PATIENCE):
            with self.explained():
                said = self._ask("select txid_status(%s::bigint)", (mark,))[0][0]
            if said != "in progress":
                return {"committed": True, "aborted": False}.get(said)
            time.sleep(0.1)
        return None

    def listen(self, channel: str, stop: StopToken) -> Iterator[str]:
        """What is told on a channel (LISTEN), on a connection of its own."""
        from psycopg import sql

        with self.explained():
            raw = self._engine.raw_connection()
        driver: Any = raw.driver_connection
        try:
            with self.explained():
                driver.rollback()
                driver.autocommit = True
                driver.execute(sql.SQL("listen {}").format(sql.Identifier(channel)))
                while True:
                    stop.check()
                    for said in driver.notifies(timeout=_LISTEN_S, stop_after=_MOST_HEARD):
                        yield said.payload
        finally:
            raw.invalidate()

    def cancel(self, handle: ClientObject) -> None:
        """Ask the server to end what this connection runs."""
        handle.cancel_safe(timeout=1)

    def _execute(self, cursor: DBAPICursor, text: str, values: dict[str, object]) -> None:
        """Through the extended protocol, which takes one statement (PostgreSQL documentation, 55.2.3): a pipeline
        speaks no other."""
        with cursor.connection.pipeline():
            cursor.execute(text, values or None)

    def _parse(self, driver: ClientObject, text: str, values: dict[str, object]) -> None:
        import psycopg

        begin_reading(driver)
        driver.pgconn.send_prepare(b"", mark_parameters(text, values, "dollar").encode())
        result = answered(driver)
        state = (result.error_field(psycopg.pq.DiagnosticField.SQLSTATE) or b"").decode()
        if result.status == psycopg.pq.ExecStatus.FATAL_ERROR and state not in _NEED_TYPES:
            raise psycopg.errors.error_from_result(result)

    def _plan_of(self, rows: list[Value]) -> PlanNode:
        return of_postgresql(json.loads(rows[0][0])[0]["Plan"])

    def translate_error(self, problem: Exception, text: str) -> Exception | None:
        """The client's error as one of ours."""
        import psycopg

        if not isinstance(problem, psycopg.Error):
            return None
        state, message = problem.sqlstate or "", _first_line(problem)
        if not state and (isinstance(problem, psycopg.OperationalError) or "closed the connection" in message):
            return _say_connect(str(problem))
        if state.startswith("28"):
            return AuthError(tr("The server refused the user name or password."), tr("Check both in the source."))
        if state == "3D000":
            return ConnectError(f"{_sentence(message)}", tr("Check the database's name in the source."))
        if state == "53300":
            return ConnectError(
                tr("The server has too many connections open."), tr("Try again later, or ask the administrator.")
            )
        if state.startswith(("08", "57P0")):
            return _lost()
        hint, place = problem.diag.message_hint or "", None
        if problem.diag.statement_position and text:
            place = _place(text, int(problem.diag.statement_position))
        if state in ("42703", "42P01"):
            what = "column" if state == "42703" else "table"
            match = re.search(r'"([^"]+)"|column (\S+) ', message)
            name = (match[1] or match[2]) if match else ""
            hint = hint or self._hint(what, name, text)
        if state == "25006":
            message, hint = (
                tr("The source is open for reading only"),
                tr("Correct cells in the grid and write through Changes"),
            )
        return QueryError(_sentence(message), _sentence(hint) if hint else "", place)


def _place(text: str, position: int) -> Any:
    """The server counts characters of the text with $1 for each parameter; ours has :name in its place."""
    from nimble_otter.query.sql.statements import parameter_places, split_statements

    start = split_statements(text)[0].start
    at = start + position - 1
    numbers: dict[str, int] = {}
    for begin, end, name in parameter_places(text):
        if begin >= at:
            break
        numbers.setdefault(name, len(numbers) + 1)
        at += (end - begin) - len(f"${numbers[name]}")
    word = re.match(r'"[^"]*"|[\w.]+|\S', text[at:])
    return place_of(text, at, at + (word.end() if word else 1))


def _first_line(problem: ClientObject) -> str:
    return problem.diag.message_primary or str(problem).split("\n")[0]


def _sentence(text: str) -> str:
    return f"{text[:1].upper()}{text[1:].rstrip('.')}."


def _lost() -> LostError:
    return LostError(tr("The connection to the server was lost."), tr("Run again; the rows fetched so far are kept."))


def _say_connect(text: str) -> SourceError:
    """libpq's words for a connection that failed have no code; the reason is told from the text."""
    low = text.lower()
    if "authentication method requirement" in low:
        return ClearPassword(
            tr("The server asks for the password in clear text, and it was not sent."),
            tr("Choose TLS on the source's page, or allow it there."),
        )
    if "password" in low or "authentication failed" in low:
        return AuthError(tr("The server refused the user name or password."), tr("Check both in the source."))
    if "does not exist" in low and "database" in low:
        match = re.search(r'database "([^"]*)"', text)
        name = match[1] if match else ""
        return ConnectError(
            tr("There is no database {name} on this server.", name=name), tr("Check its name in the source.")
        )
    if "too many" in low or "remaining connection slots" in low:
        return ConnectError(
            tr("The server has too many connections open."), tr("Try again later, or ask the administrator.")
        )
    if "ssl" in low or "certificate" in low:
        first = text.strip().split("\n")[-1]
        return ConnectError(
            tr("TLS failed: {first}.", first=first), tr("Check the TLS setting and the certificate file in the source.")
        )
    if "could not translate" in low or "not known" in low or "resolve" in low:
        return ConnectError(tr("The host's name is not known."), tr("Check its spelling."))
    if "refused" in low:
        return ConnectError(
            tr("No server answers at this host and port: refused."), tr("Check the port, or start the server.")
        )
    if "timeout" in low or "timed out" in low:
        return SourceTimeout(
            tr("The server did not answer in time."), tr("Check the host and port; a firewall may drop it.")
        )
    if "closed" in low or "lost" in low or "terminat" in low or "reset" in low or "broken" in low:
        return _lost()
    return ConnectError(
        tr("The server could not be reached: {reason}.", reason=text.strip().splitlines()[0]),
        tr("Check host and port."),
    )


DRIVER = _Postgresql()
