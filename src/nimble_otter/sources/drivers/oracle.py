"""Oracle databases, by the package oracledb (which needs no client of Oracle's) and SQLAlchemy's dialect. No server was
at hand: the statements are proven by the dialect's compiler and a parser, not by a server."""

from __future__ import annotations

import ssl
from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import replace
from decimal import Decimal
from typing import TYPE_CHECKING

from nimble_otter.errors import ConnectError
from nimble_otter.sources import facts
from nimble_otter.sources.address import AddressForm
from nimble_otter.sources.dialects.oracle import ORACLE
from nimble_otter.sources.general import GeneralConnection
from nimble_otter.sources.plans import PlanNode
from nimble_otter.sources.result_stream import Answer
from nimble_otter.sources.urls import check_options
from nimble_otter.sources.waits import WAITS
from nimble_otter.table import Kind
from nimble_otter.translation import tr
from nimble_otter.values import ClientObject, Value

if TYPE_CHECKING:
    from sqlalchemy import URL, Engine

_OPTIONS = {"tls": "required|verified", "ca": r"[^\0]+", "sid": r"[\w.\-]{1,64}"}
_PLAN = "/* plan */ "
_WHOLE_DIGITS = 18


class _Oracle:
    key = "oracle"
    word = "Oracle"
    schemes = ("oracle", "oracle+oracledb")
    dialects = (ORACLE,)
    address = AddressForm(
        "Oracle", 9, "oracle://user@host:1521/service", 1521, ca="ca",
        tls={"required": {"tls": "required"}, "verified": {"tls": "verified"}}, has_replicas=True,
    )  # fmt: skip

    def takes(self, scheme: str) -> bool:
        return scheme in self.schemes

    def connect(self, url: str, password: str | None = None, clear_password: bool = False) -> OracleConnection:
        check_options(url, _OPTIONS)
        try:
            import oracledb  # noqa: F401 - to say what is missing
        except ImportError as problem:
            raise ConnectError(
                tr("Oracle needs the package oracledb."), tr("Install nimble-otter[oracle].")
            ) from problem
        return OracleConnection(f"oracle+oracledb://{url.partition('://')[2]}", password)


class OracleConnection(GeneralConnection):
    """See sources.source.Connection."""

    word = "Oracle"
    is_typed = True
    plan_form = _PLAN

    def __init__(self, url: str, password: str | None) -> None:
        super().__init__(url, password, ORACLE)

    def _make_engine(self, **options: Value) -> Engine:
        from sqlalchemy import create_engine, make_url

        told = client_options(make_url(self._url))

        def connect() -> ClientObject:
            import oracledb

            connection = oracledb.connect(**told)
            connection.outputtypehandler = whole_values
            return connection

        return create_engine(make_url("oracle+oracledb://"), creator=connect, **options)

    def _hold_to_reading(self, engine: Engine) -> None:
        """Each transaction begins as one that only reads, which ends with it."""
        from sqlalchemy import event

        @event.listens_for(engine, "checkout")
        def prepare(connection: ClientObject, record: object, proxy: object) -> None:
            with connection.cursor() as cursor:
                cursor.execute("set transaction read only")

    def cancel(self, handle: ClientObject) -> None:
        """The one call that a connection takes from another thread (OCIBreak)."""
        with suppress(Exception):  # it may have ended meanwhile
            handle.cancel()

    def _start(self, answer: Answer, text: str, values: dict[str, object]) -> tuple[list[str], list[Kind | None]]:
        if not text.startswith(_PLAN):
            return super()._start(answer, text, values)
        answer.driver.rollback()  # a plan is written into a table of the session, which reading alone does not allow
        with answer.driver.cursor() as cursor:
            cursor.execute("delete from plan_table where statement_id = 'nimble_otter'")
            asked = f"explain plan set statement_id = 'nimble_otter' for {text.removeprefix(_PLAN)}"
            self._execute(cursor, asked, values)
            cursor.execute(
                "select id, parent_id, operation, options, object_name, cardinality, cost, filter_predicates, "
                "access_predicates from plan_table where statement_id = 'nimble_otter' order by id"
            )
            names = [c[0].lower() for c in cursor.description]
            answer.rows = iter([[dict(zip(names, row, strict=True)) for row in cursor.fetchall()]])
        answer.driver.rollback()
        return names, [None] * len(names)

    def _plan_of(self, rows: list[Value]) -> PlanNode:
        return plan_of(rows)

    def facts_of(self, ask: facts.Ask, schema: str | None, name: str, default: str | None) -> facts.TableFacts:
        """What the inspector tells of a table, and its triggers."""
        table_facts = super().facts_of(ask, schema, name, default)
        spoken = self._engine.dialect
        owner = spoken.denormalize_name(schema or default or spoken.default_schema_name or "")
        rows = ask(
            "select lower(triggering_event), trigger_name from all_triggers where status = 'ENABLED' "
            "and table_owner = :1 and table_name = :2",
            (owner, spoken.denormalize_name(name)),
        )
        events = ("insert", "update", "delete")
        triggers = {event: tuple(str(n) for told, n in rows if event in str(told)) for event in events}
        return replace(table_facts, triggers=triggers)

    def rights(self) -> tuple[str, ...]:
        """See `GeneralConnection.rights`."""
        return (*super().rights(), tr("It was not tried against a server of this kind yet; rehearse before you write."))


def client_options(parts: URL) -> dict[str, object]:
    """What the client is told; the path of the URL is the service, unless the option `sid` names a system."""
    query = {name: str(value) for name, value in parts.query.items()}
    told: dict[str, object] = {
        "host": parts.host or "localhost", "port": parts.port or 1521, "user": parts.username or "",
        "password": parts.password or "", "tcp_connect_timeout": float(WAITS.connect_s), "program": "Nimble Otter",
    }  # fmt: skip
    told |= {"sid": query["sid"]} if "sid" in query else {"service_name": parts.database or ""}
    if "tls" in query:
        context = ssl.create_default_context(cafile=query.get("ca") or None)
        if query["tls"] == "required":
            context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
        told |= {"protocol": "tcps", "ssl_context": context, "ssl_server_dn_match": query["tls"] == "verified"}
    return told


def whole_values(cursor: ClientObject, metadata: ClientObject) -> ClientObject:
    """How a column comes: numbers that a double would change as decimals, long texts and bytes whole."""
    import oracledb

    kind, size = metadata.type_code, cursor.arraysize
    if kind is oracledb.DB_TYPE_NUMBER and not (metadata.scale == 0 and 0 < (metadata.precision or 0) <= _WHOLE_DIGITS):
        return cursor.var(Decimal, arraysize=size)
    if kind in (oracledb.DB_TYPE_CLOB, oracledb.DB_TYPE_NCLOB):
        return cursor.var(oracledb.DB_TYPE_LONG, arraysize=size)
    return cursor.var(oracledb.DB_TYPE_LONG_RAW, arraysize=size) if kind is oracledb.DB_TYPE_BLOB else None


def plan_of(rows: Sequence[Mapping[str, Value]]) -> PlanNode:
    """From PLAN_TABLE: a row for each step, with its id and that of the step above."""

    def under(parent: Value) -> tuple[PlanNode, ...]:
        return tuple(
            PlanNode(
                " ".join(filter(None, (row["operation"], row["options"], row["object_name"]))).lower(),
                "; ".join(filter(None, (row["access_predicates"], row["filter_predicates"]))),
                row["cardinality"], row["cost"], under(row["id"]),
            )
            for row in rows if row["parent_id"] == parent
        )  # fmt: skip

    steps = under(None)
    return steps[0] if len(steps) == 1 else PlanNode("query", children=steps)


DRIVER = _Oracle()
