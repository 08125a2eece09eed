"""ClickHouse by its HTTP interface (the package clickhouse-connect). Steps are moved upstream, tables are written from
queries there; nothing is edited in place, as its keys allow any row twice."""

from __future__ import annotations

import json
import logging
import re
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from typing import Any

from nimble_otter.errors import AuthError, ConnectError, LostError, Place, QueryError, place_of
from nimble_otter.query.sql.statements import parameter_places
from nimble_otter.sources.address import AddressForm
from nimble_otter.sources.catalogue import TableInfo
from nimble_otter.sources.clickhouse_client import Connection, is_query, kind_of
from nimble_otter.sources.dialects.clickhouse import CLICKHOUSE
from nimble_otter.sources.engines import EngineConnection
from nimble_otter.sources.literal_cursors import LiteralConnection
from nimble_otter.sources.plans import PlanNode
from nimble_otter.sources.reached import Reached, reached
from nimble_otter.sources.reflect import Written
from nimble_otter.sources.result_stream import Answer
from nimble_otter.sources.urls import check_options
from nimble_otter.sources.waits import WAITS
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table import Kind
from nimble_otter.translation import tr
from nimble_otter.values import ClientObject, Value

_PORT = 8123
_OPTIONS = {"tls": "required|verified", "ca": r"[^\0]+"}
_READING = {"readonly": "1", "cancel_http_readonly_queries_on_client_close": "1"}
_WRITING = {
    "input_format_null_as_default": "0", "insert_null_as_default": "0", "precise_float_parsing": "1",
    "async_insert": "0", "mutations_sync": "1", "default_table_engine": "MergeTree",
    "create_table_empty_primary_key_by_default": "1",
}  # fmt: skip
"""Of what writes: NULL is never changed to another value, a double is the one that is written, what is done is done
when the statement ends, and a table made of a query needs no order."""
_REASONS = {
    "refused": tr("the connection was refused"),
    "timed out": tr("it does not answer"),
    "ertificate": tr("its certificate is not valid"),
    "Name or service": tr("there is no such host"),
    "resolve": tr("there is no such host"),
    "reset": tr("it closed the connection"),
    "aborted": tr("it closed the connection"),
}
"""By what a client's message holds."""
_LONGEST = 2000
"""Letters of a parameter that is sent as one."""
_ENDLESS_S = 7 * 86_400
"""How long the client waits for a query's first row: until the user stops it."""


class _Clickhouse:
    key = "clickhouse"
    word = "ClickHouse"
    schemes = ("clickhouse",)
    dialects = (CLICKHOUSE,)
    address = AddressForm(
        "ClickHouse", 11, "clickhouse://user@host:8123/database", _PORT, ca="ca",
        tls={"required": {"tls": "required"}, "verified": {"tls": "verified"}},
    )  # fmt: skip

    def takes(self, scheme: str) -> bool:
        return scheme in self.schemes

    def connect(self, url: str, password: str | None = None, clear_password: bool = False) -> ClickhouseConnection:
        check_options(url, _OPTIONS)
        try:
            import clickhouse_connect  # noqa: F401 - to say what is missing
        except ImportError as problem:
            raise ConnectError(
                tr("ClickHouse needs the package clickhouse-connect."), tr("Install nimble-otter[clickhouse].")
            ) from problem
        return ClickhouseConnection(reached(url, _PORT, password, clear_password))


class ClickhouseConnection(EngineConnection):
    """See sources.source.Connection."""

    word = "ClickHouse"
    speaks = CLICKHOUSE
    edits_none = tr(
        "Its keys allow any row twice, so cells are not edited in place; rows and queries can be sent to tables."
    )
    plan_form = "explain json = 1, description = 1 "

    def __init__(self, at: Reached) -> None:
        self._at = at
        self._client: Any = None
        super().__init__()
        self._dialect = CLICKHOUSE.in_zone(self._open().zone)

    def _open(self, settings: Mapping[str, str] | None = None) -> Connection:
        """A connection for reading, unless `settings` are given. Raises: what the client raises."""
        if self._client is None:
            self._client = self._connected()
        given = _READING if settings is None else settings
        taken = {}
        for name, value in given.items():  # an older server does not know all of them
            known = self._client.server_settings.get(name)
            if known is None or (str(known.readonly) == "1" and known.value != value):
                continue
            taken[name] = value
        if (
            settings is None
            and not taken.keys() & {"readonly"}
            and self._client.server_settings["readonly"].value == "0"
        ):
            raise ConnectError(
                tr("{user} may not be held to reading on this server.", user=self._at.user or tr("This user")),
                tr("Ask its administrator to let the setting readonly be changed, or use another user."),
            )
        return Connection(self._client, taken)

    def _connected(self) -> ClientObject:
        from clickhouse_connect import get_client
        from clickhouse_connect.driver.httputil import get_pool_manager

        logging.getLogger("clickhouse_connect").addHandler(logging.NullHandler())  # errors are told by us
        at, context = self._at, self._at.context()
        pool: Any = get_pool_manager(ca_cert=at.options.get("ca"), verify=at.tls == "verified") if context else None
        return get_client(
            interface="https" if context else "http", host=at.host, port=at.port, username=at.user or None,
            password=at.password, database=at.path or None, autogenerate_session_id=False, pool_mgr=pool,
            connect_timeout=WAITS.connect_s, send_receive_timeout=_ENDLESS_S, query_retries=0, compress=False,
            autogenerate_query_id=False,
        )  # fmt: skip

    # --- reading -----------------------------------------------------------------------------------------------

    def _start(self, answer: Answer, text: str, values: dict[str, object]) -> tuple[list[str], list[Kind | None]]:
        cursor = answer.cursor = answer.driver.cursor()
        marked, given = _bound(text, values)
        columns = cursor.described(marked, given) if is_query(text) else []
        cursor.execute(marked, given, answer.limit + 1 if answer.limit is not None and columns else None, columns)
        if cursor.description is None:
            return [], []
        self._give(answer, cursor.batches())
        return [name for name, _ in cursor.description], [kind_of(declared) for declared in cursor.types]

    def _execute(self, cursor: ClientObject, text: str, values: dict[str, object]) -> None:
        cursor.execute(*_bound(text, values))

    def socket_of(self, driver: object) -> int | None:
        """Lines are the client's."""
        return None

    def _parse(self, driver: ClientObject, text: str, values: dict[str, object]) -> None:
        marked, given = _bound(text, values)
        cursor = driver.cursor()
        if is_query(text):
            cursor.described(marked, given)
        else:
            cursor.execute(f"explain ast {marked}", given)
        cursor.close()

    def _plan_of(self, rows: list[Value]) -> PlanNode:
        return plan_of(json.loads("\n".join(str(row[0]) for row in rows))[0]["Plan"])

    def _estimates(self, default: str | None) -> dict[str, int]:
        text = "select database, name, total_rows from system.tables where total_rows is not null and not is_temporary"
        return {name if schema == default else f"{schema}.{name}": int(rows) for schema, name, rows in self._ask(text)}

    def _declared(self, schema: str | None, tables: Sequence[str] | None) -> dict[str, dict[str, Written]]:
        """Which columns the server computes, which * leaves out."""
        results: dict[str, dict[str, Written]] = {}
        own = "currentDatabase()" if schema is None else CLICKHOUSE.literal(schema, None)
        for table, name, declared in self._ask(
            "select table, name, type from system.columns where default_kind in ('MATERIALIZED', 'ALIAS') "
            f"and database = {own}"
        ):
            if tables is None or table in tables:
                results.setdefault(table, {})[name] = Written(is_hidden=True, generated="always", exact=declared)
        return results

    def _definition(self, table: TableInfo) -> str | None:
        rows = self._ask(f"show create table {self.quoted(table.name)}")
        return str(rows[0][0]) if rows else None

    # --- writing -----------------------------------------------------------------------------------------------

    @contextmanager
    def _writing(self, messages: list[str], keeps: bool = True, stop: StopToken = NEVER) -> Iterator[LiteralConnection]:
        """Each statement is done at once."""
        yield LiteralConnection(self._open(_WRITING), CLICKHOUSE)

    def translate_error(self, problem: Exception, text: str) -> Exception | None:
        """The server's words, the place that they point to, and what it would take instead."""
        from clickhouse_connect.driver.exceptions import Error
        from urllib3.exceptions import HTTPError

        if not isinstance(problem, (Error, HTTPError, OSError)):
            return None
        said = re.search(r"Code: (\d+)\. DB::Exception: (.*)", str(problem), re.DOTALL)
        if said is None:
            if not self._is_open:
                is_certificate = "ertificate" in str(problem)
                hint = tr("Name its certificate in the source.") if is_certificate else tr("Check host, port and TLS.")
                where = f"{self._at.host}:{self._at.port}"
                return ConnectError(
                    tr("{where} could not be reached: {reason}.", where=where, reason=_reason(problem)), hint
                )
            return LostError(
                tr("The connection to the server was lost."), tr("Run again; the rows fetched so far are kept.")
            )
        wording = first_words(said[2])
        if wording.endswith("near )") and not text.rstrip().endswith(")"):  # the bracket is that of DESCRIBE
            wording = tr("Syntax error: the query ends too early")
        if said[1] in ("192", "193", "194", "516"):
            return AuthError(tr("The server refused the user name or password."), tr("Check both in the source."))
        if not self._is_open:
            return ConnectError(
                tr("The server says: {wording}.", wording=wording), tr("Check the database of the source.")
            )
        near = re.search(r"[Mm]aybe you meant:? \[?([^\]?.]+)", said[2])
        hint = tr("The nearest names are {near}.", near=near[1].replace(chr(39), "")) if near else ""
        return QueryError(tr("The server says: {wording}.", wording=wording), hint, _place(said[2], text))

    def close(self) -> None:
        """Close every line."""
        super().close()
        if self._client is not None:
            self._client.close()


def _bound(text: str, values: Mapping[str, object]) -> tuple[str, dict[str, object]]:
    """A query with the server's places for its parameters, and their values by name; long ones as literals, as the
    others are part of an address."""
    names: dict[str, str] = {}
    pieces, at = [], 0
    for start, end, name in parameter_places(text) if values else ():
        value = values[name]
        if isinstance(value, (str, bytes)) and len(value) > _LONGEST:
            place = CLICKHOUSE.literal(value, None)
        else:
            place = f"{{{names.setdefault(name, f'p{len(names)}')}:{CLICKHOUSE.bound_type(value)}}}"
        pieces += [text[at:start], place]
        at = end
    return "".join(pieces) + text[at:], {own: CLICKHOUSE.bound(values[name]) for name, own in names.items()}


def first_words(wording: str) -> str:
    """What went wrong, without the error's number and name, the scope of a name and what else was expected."""
    text = re.sub(r"\s*\((?:version [^)]*|official build|[A-Z_]{3,}|for url [^)]*)\)", "", wording)
    text = re.sub(r"^(?:Code: \d+\. DB::Exception: )+", "", text)
    text = re.split(
        r"\. Expected one of|[.:,]? ?[Ii]n scope |[.,]? [Mm]aybe you meant|:? While executing|,? at: ", text
    )[0]
    text = re.sub(
        r"failed at position \d+ \((.{1,40}?)\)(?: \(line \d+, col \d+\))?: .*", r"near \1", text, flags=re.DOTALL
    )
    return " ".join(text.split()).rstrip(" .:")[:400] or tr("the statement failed")


def _reason(problem: Exception) -> str:
    text = str(problem)
    return next((words for sign, words in _REASONS.items() if sign in text), text[:200])


def _place(wording: str, text: str) -> Place | None:
    at = re.search(
        r"failed at position \d+ \([^\n]*?\)(?: \(line \d+, col \d+\))?: (.*?)(?:\n?\)?)?\. Expected",
        wording,
        re.DOTALL,
    )
    if at:  # the position is one in the request, which has more in front
        is_end = at[1].strip() in ("", ")") and not text.rstrip().endswith(")")
        start = len(text.rstrip()) - 1 if is_end else text.find(at[1].rstrip())
        word = re.match(r"\w+|\S", text[max(start, 0) :])
        return place_of(text, start, start + (word.end() if word else 1)) if start >= 0 else None
    name = re.search(
        r"(?:identifier|Function with name|function) [`']([^`']+)[`']|Table \S+?\.?(\w+) does not", wording
    )
    found = re.search(rf"(?<![\w.]){re.escape(name[1] or name[2])}\b", text) if name else None
    return place_of(text, found.start(), found.end()) if found else None


def plan_of(node: Mapping[str, Value]) -> PlanNode:
    """From EXPLAIN json = 1."""
    children = tuple(plan_of(child) for child in node.get("Plans") or ())
    return PlanNode(str(node.get("Node Type", "")).lower(), str(node.get("Description", "")), None, None, children)


DRIVER = _Clickhouse()
