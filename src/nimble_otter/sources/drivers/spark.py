"""Spark SQL by the HiveServer2 protocol (the package impyla). The engine works on more machines than one: steps are
moved upstream, tables are written from queries there; nothing is edited in place, as its tables have no keys."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from typing import Any

from nimble_otter.errors import AuthError, ConnectError, LostError, QueryError, place_of
from nimble_otter.sources.address import AddressForm
from nimble_otter.sources.catalogue import TableInfo
from nimble_otter.sources.dialects.spark import SPARK
from nimble_otter.sources.engines import EngineConnection
from nimble_otter.sources.hive_client import HiveConnection, HiveCursor, HiveError, Where
from nimble_otter.sources.literal_cursors import LiteralConnection, with_literals
from nimble_otter.sources.plans import PlanNode
from nimble_otter.sources.reached import reached
from nimble_otter.sources.result_stream import FIRST, Answer
from nimble_otter.sources.urls import check_options
from nimble_otter.sources.waits import WAITS
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table import Kind
from nimble_otter.translation import tr
from nimble_otter.values import ClientObject, Value

_PORT = 10000
_OPTIONS = {
    "tls": "required|verified",
    "ca": r"[^\0]+",
    "auth": "plain|ldap|nosasl|kerberos",
    "service": r"[\w\-]{1,40}",
}
_MECHANISMS = {"plain": "PLAIN", "ldap": "LDAP", "nosasl": "NOSASL", "kerberos": "GSSAPI"}
_SETTINGS = {
    "spark.sql.session.timeZone": "UTC", "spark.sql.ansi.enabled": "true",
    "spark.sql.thriftServer.incrementalCollect": "true",
    "spark.sql.parser.escapedStringLiterals": "false", "spark.sql.ansi.doubleQuotedIdentifiers": "false",
}  # fmt: skip
"""Of each session: moments are told in UTC, what has no value is an error rather than NULL, the rows of a result are
gathered part by part, and quotes are what the parser here takes them for."""
_BATCH = 10_000
_KINDS = (
    (re.compile("date$"), Kind.DATE), (re.compile("timestamp_ntz"), Kind.TIME), (re.compile("timestamp"), Kind.ZONED),
    (re.compile("boolean"), Kind.BOOL), (re.compile("(?:big|small|tiny)?int$"), Kind.INT),
    (re.compile("double|float"), Kind.FLOAT), (re.compile("decimal"), Kind.DECIMAL),
)  # fmt: skip
_NESTED = re.compile("array<|map<|struct<|variant")


class _Spark:
    key = "spark"
    word = "Spark SQL"
    schemes = ("spark", "hive2")
    dialects = (SPARK,)
    address = AddressForm(
        "Spark SQL", 10, "spark://user@host:10000/schema", _PORT, ca="ca",
        tls={"required": {"tls": "required"}, "verified": {"tls": "verified"}},
    )  # fmt: skip

    def takes(self, scheme: str) -> bool:
        return scheme in self.schemes

    def connect(self, url: str, password: str | None = None, clear_password: bool = False) -> SparkConnection:
        check_options(url, _OPTIONS)
        try:
            import impala.hiveserver2  # noqa: F401 - to say what is missing
            import thrift_sasl  # noqa: F401
        except ImportError as problem:
            raise ConnectError(
                tr("Spark SQL needs the package impyla."), tr("Install nimble-otter[spark].")
            ) from problem
        return SparkConnection(_where(url, password, clear_password))


class SparkConnection(EngineConnection):
    """See sources.source.Connection."""

    word = "Spark SQL"
    speaks = SPARK
    plan_form = "explain cost "
    edits_none = tr(
        "Its tables have no keys, so cells are not edited in place; rows and whole queries can be sent to tables."
    )

    def __init__(self, where: Where) -> None:
        self._where = where
        super().__init__()

    def _open(self) -> HiveConnection:
        """A session of its own, as each keeps which files a table had when it was first asked for."""
        connection = HiveConnection(self._where, dict(_SETTINGS), WAITS.connect_s)
        if self._where.schema:
            cursor = connection.cursor()
            try:
                cursor.execute(f"use `{self._where.schema.replace('`', '``')}`")
            except BaseException:
                connection.close()
                raise
            cursor.close()
        return connection

    # --- reading -----------------------------------------------------------------------------------------------

    def _start(self, answer: Answer, text: str, values: dict[str, object]) -> tuple[list[str], list[Kind | None]]:
        cursor = answer.cursor = answer.driver.cursor()
        whole = with_literals(text, values, SPARK)
        known = [] if text.startswith(self.plan_form) else _types(cursor, whole)
        kinds = [_kind(declared) for _, declared in known]
        cursor.execute(_wrapped(whole, [declared for _, declared in known], answer.limit) if known else whole)
        if cursor.description is None:
            return [], []
        zoned = [place for place, kind in enumerate(kinds) if kind is Kind.ZONED]
        self._give(answer, cursor.batches(FIRST, _BATCH, zoned))
        if known:
            return [name for name, _ in known], kinds
        return [name for name, _ in cursor.description], [None] * len(cursor.description)

    def _execute(self, cursor: ClientObject, text: str, values: dict[str, object]) -> None:
        cursor.execute(with_literals(text, values, SPARK))

    def _parse(self, driver: ClientObject, text: str, values: dict[str, object]) -> None:
        cursor = driver.cursor()
        try:
            cursor.execute(f"explain {with_literals(text, values, SPARK)}")
            told = "\n".join(str(row[0]) for row in cursor.fetchall())
        finally:
            cursor.close()
        if "AnalysisException" in told or "ParseException" in told:
            raise QueryError(tr("The server says: {first_words}.", first_words=_first_words(told)))

    def _plan_of(self, rows: list[Value]) -> PlanNode:
        return plan_of("\n".join(str(row[0]) for row in rows))

    def _definition(self, table: TableInfo) -> str | None:
        cursor: Any
        with suppress(Exception), self._engine.connect() as connection:  # some views are not told
            driver: Any = connection.connection.driver_connection
            cursor = driver.cursor()
            cursor.execute(f"show create table {self.quoted(table.name)}")
            return str(cursor.fetchall()[0][0])
        return None

    # --- writing -----------------------------------------------------------------------------------------------

    @contextmanager
    def _writing(self, messages: list[str], keeps: bool = True, stop: StopToken = NEVER) -> Iterator[LiteralConnection]:
        """A connection of its own. Each statement is done at once."""
        connection = self._open()
        try:
            yield LiteralConnection(connection, SPARK)
        finally:
            connection.close()

    def translate_error(self, problem: Exception, text: str) -> Exception | None:
        """The server's words, the place that they point to, and what it would take instead."""
        from thrift.Thrift import TException

        if isinstance(problem, HiveError):
            return self._refusal(problem, text)
        if not isinstance(problem, (TException, OSError)):
            return None
        if not self._is_open:
            where = f"{self._where.host}:{self._where.port}"
            if "auth" in str(problem).lower() or "sasl" in str(problem).lower():
                return AuthError(tr("The server refused the user name or password."), tr("Check both in the source."))
            return ConnectError(
                tr("{where} could not be reached: {first_words}.", where=where, first_words=_first_words(str(problem))),
                tr("Check host and port."),
            )
        return LostError(
            tr("The connection to the server was lost."), tr("Run again; the rows fetched so far are kept.")
        )

    def _refusal(self, problem: ClientObject, text: str) -> Exception:
        wording = str(problem)
        if not self._is_open and problem.state.startswith("28"):
            return AuthError(tr("The server refused the user name or password."), tr("Check both in the source."))
        if not self._is_open:
            return ConnectError(
                tr("The server says: {first_words}.", first_words=_first_words(wording)),
                tr("Check the schema of the source."),
            )
        near = re.search(r"Did you mean (?:one of the following\?|) ?\[?(`[^\]?]+`)", wording)
        at = re.search(r"\(?line (\d+),? pos(?:ition)? (\d+)\)?", wording)
        place = None
        if at and text:
            start = sum(len(line) + 1 for line in text.split("\n")[: int(at[1]) - 1]) + int(at[2])
            word = re.match(r"[\w`]+|\S", text[start:])
            place = place_of(text, start, start + (word.end() if word else 1))
        hint = tr("The nearest names are {near}.", near=near[1].replace("`", "")) if near else ""
        return QueryError(tr("The server says: {first_words}.", first_words=_first_words(wording)), hint, place)


def _where(url: str, password: str | None, clear_password: bool) -> Where:
    """Where a URL leads. Raises: ClearPassword, where a password would go over the network in clear."""
    at = reached(url, _PORT, password, clear_password)
    mechanism = _MECHANISMS[at.options.get("auth", "plain")]
    return Where(
        at.host, at.port, at.user or "anonymous", at.password or "anonymous", mechanism, at.path, at.context(),
        at.options.get("service", "hive"),
    )  # fmt: skip


def _types(cursor: HiveCursor, text: str) -> list[tuple[str, str]]:
    """Names and types of a query's columns without running it; none for what is no query."""
    try:
        cursor.execute(f"describe query {text}")
    except HiveError:  # SHOW and its kind, and what the run itself will say better
        return []
    return [(str(row[0]), str(row[1])) for row in cursor.fetchall()]


def _wrapped(text: str, types: Sequence[str], limit: int | None) -> str:
    """The query with no more rows than are read, which the server else gathers before it gives the first; nested values
    as JSON, as it else writes texts inside them without quoting what is in them."""
    if not any(map(_NESTED.match, types)) and limit is None:
        return text
    names = [f"c{n}" for n in range(len(types))]
    shown = ", ".join(f"to_json({n}) as {n}" if _NESTED.match(t) else n for n, t in zip(names, types, strict=True))
    tail = "" if limit is None else f"\nlimit {limit + 1}"
    return f"select {shown} from (\n{text}\n) as q({', '.join(names)}){tail}"


def _kind(declared: str) -> Kind | None:
    return next((kind for pattern, kind in _KINDS if pattern.match(declared)), None)


def _first_words(wording: str) -> str:
    """What went wrong, without the names of the server's own classes, the advice behind it and the trail of its
    calls."""
    text = re.split(r"\n\tat |\nCaused by|== SQL|SQLSTATE:", wording)[0]
    text = re.sub(
        r"^(?:[\w.$]+(?:Exception|Error): ?|Error running query: ?|Error operating \w+: ?)+", "", text.strip()
    )
    text = re.sub(r"\[[A-Z0-9_.]+\] ?(?:[\w.$]+Exception: ?)?", "", text)
    text = re.split(r"\. (?=[A-Z])", " ".join(text.split()))[0]
    return text.rstrip(" .;") or tr("the statement failed")


_COUNT = re.compile(r"rowCount=([\d.E+]+)")
_SIZE = re.compile(r"sizeInBytes=([\d.]+) (\w+)")


def plan_of(text: str) -> PlanNode:
    """From EXPLAIN COST: the optimized plan, a line for each step, deeper ones behind more signs."""
    lines = (
        text.partition("== Optimized Logical Plan ==")[2].partition("== Physical Plan ==")[0].strip("\n").split("\n")
    )
    stack: list[tuple[int, list[Value]]] = []
    top: list[Value] = ["query", "", None, []]
    for line in filter(None, lines):
        depth = len(re.match(r"[\s:|+\-]*", line)[0])  # type: ignore[index]
        what, _, told = line[depth:].partition(", Statistics(")
        name, _, detail = what.partition(" ")
        count = _COUNT.search(told)
        node: list[Value] = [name.lower(), detail, float(count[1]) if count else None, []]
        while stack and stack[-1][0] >= depth:
            stack.pop()
        (stack[-1][1] if stack else top)[3].append(node)
        stack.append((depth, node))
    return _node(top)


def _node(found: list[Value]) -> PlanNode:
    children = tuple(map(_node, found[3]))
    if found[0] == "query" and len(children) == 1:
        return children[0]
    return PlanNode(found[0], found[1], found[2], None, children)


DRIVER = _Spark()
