"""SQL Server, by the package pymssql and SQLAlchemy's dialect. No server was at hand: the statements are proven by the
dialect's compiler and a parser, not by a server."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from nimble_otter.errors import ConnectError
from nimble_otter.sources import facts
from nimble_otter.sources.address import AddressForm
from nimble_otter.sources.dialects.sqlserver import SQLSERVER
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

_OPTIONS = {"encryption": "off|request|require", "tds_version": r"[\d.]{1,4}", "charset": r"[\w\-]{1,20}"}
_LOCAL = ("", "localhost", "127.0.0.1", "::1")
_PLAN = "/* plan */ "


class _SqlServer:
    key = "sqlserver"
    word = "SQL Server"
    schemes = ("sqlserver", "mssql", "mssql+pymssql")
    dialects = (SQLSERVER,)
    address = AddressForm(
        "SQL Server", 8, "sqlserver://user@host:1433/name", 1433, tls={"required": {"encryption": "require"}},
        has_replicas=True,
    )  # fmt: skip

    def takes(self, scheme: str) -> bool:
        return scheme in self.schemes

    def connect(self, url: str, password: str | None = None, clear_password: bool = False) -> SqlServerConnection:
        check_options(url, _OPTIONS)
        try:
            import pymssql  # noqa: F401 - to say what is missing
        except ImportError as problem:
            raise ConnectError(
                tr("SQL Server needs the package pymssql."), tr("Install nimble-otter[sqlserver].")
            ) from problem
        return SqlServerConnection(f"mssql+pymssql://{url.partition('://')[2]}", password)


class SqlServerConnection(GeneralConnection):
    """See sources.source.Connection. What reads runs in a transaction that is rolled back: there is no session that
    only reads."""

    word = "SQL Server"
    is_typed = True
    plan_form = _PLAN

    def __init__(self, url: str, password: str | None) -> None:
        super().__init__(url, password, SQLSERVER)

    def _make_engine(self, **options: Value) -> Engine:
        from sqlalchemy import create_engine, make_url

        told: dict[str, Any] = {**client_options(make_url(self._url))}

        def connect() -> ClientObject:
            import pymssql

            return pymssql.connect(**told)

        return create_engine(make_url("mssql+pymssql://"), creator=connect, **options)

    def _hold_to_reading(self, engine: Engine) -> None:
        """What a query changes, however it does, is rolled back when its connection goes back to the pool."""

    def _start(self, answer: Answer, text: str, values: dict[str, object]) -> tuple[list[str], list[Kind | None]]:
        if not text.startswith(_PLAN):
            return super()._start(answer, text, values)
        with answer.driver.cursor() as cursor:
            cursor.execute("set showplan_all on")
        try:
            names, kinds = super()._start(answer, text.removeprefix(_PLAN), values)
            rows = answer.cursor.fetchall()
        finally:
            with answer.driver.cursor() as cursor:
                cursor.execute("set showplan_all off")
        answer.rows = iter([[dict(zip(names, row, strict=True)) for row in rows]])
        return names, kinds

    def _plan_of(self, rows: list[Value]) -> PlanNode:
        return plan_of(rows)

    def facts_of(self, ask: facts.Ask, schema: str | None, name: str, default: str | None) -> facts.TableFacts:
        """What the inspector tells of a table, and its triggers."""
        table_facts = super().facts_of(ask, schema, name, default)
        rows = ask(
            "select lower(e.type_desc), t.name from sys.triggers t join sys.trigger_events e on e.object_id = "
            "t.object_id where t.is_disabled = 0 and t.parent_id = object_id(%s)",
            (f"{_bracketed(schema)}.{_bracketed(name)}" if schema else _bracketed(name),),
        )
        return replace(table_facts, triggers=by_event(rows))

    def rights(self) -> tuple[str, ...]:
        """See `GeneralConnection.rights`."""
        return (*super().rights(), tr("It was not tried against a server of this kind yet; rehearse before you write."))


def client_options(parts: URL) -> dict[str, str | int | bool]:
    """What the client is told. Beyond this machine it is TLS or nothing, unless the URL says otherwise."""
    host = parts.host or "localhost"
    query = {name: str(value) for name, value in parts.query.items()}
    return {
        "server": host, "port": str(parts.port or 1433), "user": parts.username or "", "password": parts.password or "",
        "database": parts.database or "", "login_timeout": WAITS.connect_s, "appname": "Nimble Otter",
        "encryption": "request" if host in _LOCAL else "require", "tds_version": "7.4", "use_datetime2": True,
        **query,
    }  # fmt: skip


def by_event(rows: Sequence[tuple[Value, ...]]) -> dict[str, tuple[str, ...]]:
    """Names of triggers by insert, update and delete, from pairs of event and name."""
    names: dict[str, list[str]] = {"insert": [], "update": [], "delete": []}
    for event, name in rows:
        if event in names:
            names[event].append(str(name))
    return {event: tuple(own) for event, own in names.items()}


def plan_of(rows: Sequence[Mapping[str, Value]]) -> PlanNode:
    """From SET SHOWPLAN_ALL: a row for each step, with NodeId and Parent (0 for a statement)."""

    def under(parent: Value) -> tuple[PlanNode, ...]:
        return tuple(
            PlanNode(
                str(row["PhysicalOp"] or row["StmtText"] or "query").strip(), str(row["Argument"] or "").strip(),
                row["EstimateRows"], row["TotalSubtreeCost"], under(row["NodeId"]),
            )
            for row in rows if row["Parent"] == parent
        )  # fmt: skip

    steps = under(0)
    return steps[0] if len(steps) == 1 else PlanNode("query", children=steps)


def _bracketed(name: str) -> str:
    return f"[{name.replace(']', ']]')}]"


DRIVER = _SqlServer()
