"""The catalogue of ClickHouse for SQLAlchemy's inspector, from its system tables (documentation, "System Tables"): one
question for all columns of a schema, where the client's own dialect asks for each table. Registered by its driver."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Collection
from types import ModuleType
from typing import Any

from sqlalchemy import Connection
from sqlalchemy.engine.interfaces import ReflectedColumn, ReflectedIndex, ReflectedTableComment
from sqlalchemy.engine.reflection import ObjectKind

from nimble_otter.sources.clickhouse_client import bare
from nimble_otter.sources.duckdb_catalogue import DeclaredType
from nimble_otter.sources.keyless import KeylessDialect, KeylessPreparer, asked

_NULLABLE = re.compile(r"(?:LowCardinality\()?Nullable\(")
_STORED = "engine not in ('View', 'MaterializedView', 'LiveView', 'WindowView') and name not like '.inner%'"
_OWN = "database = {schema:String} and not is_temporary"


class _Preparer(KeylessPreparer):
    """A backslash in a name stands for the sign behind it (documentation, "Syntax")."""

    def _escape_identifier(self, value: str) -> str:
        return super()._escape_identifier(value).replace("\\", "\\\\")


class ClickhouseDialect(KeylessDialect):
    """What the inspector asks, and how names are quoted."""

    name = driver = "clickhouse"
    preparer = _Preparer
    supports_statement_cache = True
    default_schema_name = "default"

    @classmethod
    def import_dbapi(cls) -> ModuleType:
        """The client, whose connections the engine's creator makes."""
        from nimble_otter.sources import clickhouse_client

        return clickhouse_client

    def initialize(self, connection: Connection) -> None:
        """In which schema names are looked for."""
        self.default_schema_name = str(asked(connection, "select currentDatabase()")[0][0])

    def get_schema_names(self, connection: Connection, **_: object) -> list[str]:
        """Names of the schemas."""
        rows = asked(connection, "select name from system.databases order by name")
        return [name for (name,) in rows if name.lower() not in ("system", "information_schema")]

    def _named(self, connection: Connection, schema: str | None, which: str) -> list[str]:
        text = f"select name from system.tables where {_OWN} and {which} order by name"
        return [row[0] for row in asked(connection, text, schema=schema or self._own)]

    @property
    def _own(self) -> str:
        return self.default_schema_name or "default"

    def get_table_names(self, connection: Connection, schema: str | None = None, **_: object) -> list[str]:
        """Names of the tables of a schema."""
        return self._named(connection, schema, _STORED)

    def get_view_names(self, connection: Connection, schema: str | None = None, **_: object) -> list[str]:
        """Names of the views of a schema."""
        return self._named(connection, schema, "engine = 'View'")

    def get_materialized_view_names(self, connection: Connection, schema: str | None = None, **_: object) -> list[str]:
        """Names of those views whose rows are kept."""
        return self._named(connection, schema, "engine = 'MaterializedView'")

    def _told(self, connection: Connection, schema: str | None, name: str, what: str) -> str:
        text = f"select {what} from system.tables where {_OWN} and name = {{name:String}}"
        rows = asked(connection, text, schema=schema or self._own, name=name)
        return str(rows[0][0]) if rows else ""

    def get_view_definition(
        self, connection: Connection, view_name: str, schema: str | None = None, **_: object
    ) -> str:
        """The query of a view."""
        return self._told(connection, schema, view_name, "as_select")

    def get_table_comment(
        self, connection: Connection, table_name: str, schema: str | None = None, **_: object
    ) -> ReflectedTableComment:
        """What was noted of a table."""
        return {"text": self._told(connection, schema, table_name, "comment") or None}

    def get_indexes(
        self, connection: Connection, table_name: str, schema: str | None = None, **_: object
    ) -> list[ReflectedIndex]:
        """By what its rows are sorted, which is what this server finds them by; it allows any row twice."""
        sorted_by = self._told(connection, schema, table_name, "sorting_key")
        if not sorted_by:
            return []
        return [{"name": "sorting key", "column_names": [None], "expressions": [sorted_by], "unique": False}]

    def has_table(self, connection: Connection, table_name: str, schema: str | None = None, **_: object) -> bool:
        """Whether there is a table or view of a name."""
        return bool(self._told(connection, schema, table_name, "name"))

    def get_multi_columns(
        self, connection: Connection, *, schema: str | None = None, filter_names: Collection[str] | None = None,
        kind: ObjectKind = ObjectKind.ANY, **_: object,
    ) -> list[tuple[tuple[str | None, str], list[ReflectedColumn]]]:  # fmt: skip
        """The columns of all tables and views of a schema, or of some, in one question; those that only an insert may
        name are left out."""
        wanted = None if filter_names is None else set(filter_names)
        one = next(iter(wanted)) if wanted is not None and len(wanted) == 1 else ""
        rows = asked(
            connection, "select table, name, type, default_kind, default_expression, comment from system.columns "
            "where database = {schema:String} and ({name:String} = '' or table = {name:String}) "
            "and default_kind <> 'EPHEMERAL' and table not like '.inner%' order by table, position",
            schema=schema or self._own, name=one,
        )  # fmt: skip
        results: dict[str, list[Any]] = defaultdict(list)
        for table, name, declared, how, expression, comment in rows:
            if wanted is not None and table not in wanted:
                continue
            is_computed = how in ("MATERIALIZED", "ALIAS")
            results[table].append(
                {"name": name, "type": DeclaredType(bare(declared)), "nullable": bool(_NULLABLE.match(declared)),
                 "default": None if is_computed else expression or None, "comment": comment or None}
                | ({"computed": {"sqltext": expression}} if is_computed else {})
            )  # fmt: skip
        return [((schema, table), columns) for table, columns in results.items()]
