"""The catalogue of Spark for SQLAlchemy's inspector, by the questions that the HiveServer2 protocol has for it (one for
all columns of a schema); no dialect that is kept up does so. Registered by its driver."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Collection
from types import ModuleType
from typing import Any

from sqlalchemy import Connection
from sqlalchemy.engine.interfaces import (
    ReflectedColumn,
    ReflectedTableComment,
)
from sqlalchemy.engine.reflection import ObjectKind

from nimble_otter.sources.duckdb_catalogue import DeclaredType
from nimble_otter.sources.hive_client import HiveConnection
from nimble_otter.sources.keyless import KeylessDialect, asked
from nimble_otter.values import Value

_ALL = "%"
_VIEW = "VIEW"


class SparkDialect(KeylessDialect):
    """What the inspector asks, and how names are quoted."""

    name = driver = "spark"
    supports_statement_cache = True
    default_schema_name = "default"

    @classmethod
    def import_dbapi(cls) -> ModuleType:
        """The client, whose connections the engine's creator makes."""
        from nimble_otter.sources import hive_client

        return hive_client

    def initialize(self, connection: Connection) -> None:
        """In which schema names are looked for."""
        self.default_schema_name = str(asked(connection, "select current_database()")[0][0])

    def get_schema_names(self, connection: Connection, **_: object) -> list[str]:
        """Names of the schemas."""
        rows = _told(connection, "GetSchemas", "TGetSchemasReq")
        return [row["TABLE_SCHEM"] for row in rows if row["TABLE_SCHEM"] != "global_temp"]

    def _entries(self, connection: Connection, schema: str | None) -> list[dict[str, Value]]:
        return _told(connection, "GetTables", "TGetTablesReq", schemaName=_exactly(schema or self._own), tableName=_ALL)

    @property
    def _own(self) -> str:
        return self.default_schema_name or "default"

    def get_table_names(self, connection: Connection, schema: str | None = None, **_: object) -> list[str]:
        """Names of the tables of a schema."""
        return [r["TABLE_NAME"] for r in self._entries(connection, schema) if _VIEW not in r["TABLE_TYPE"]]

    def get_view_names(self, connection: Connection, schema: str | None = None, **_: object) -> list[str]:
        """Names of the views of a schema."""
        return [r["TABLE_NAME"] for r in self._entries(connection, schema) if _VIEW in r["TABLE_TYPE"]]

    def get_view_definition(
        self, connection: Connection, view_name: str, schema: str | None = None, **_: object
    ) -> str:
        """The query of a view."""
        quote = self.identifier_preparer.quote
        where = f"{quote(schema or self._own)}.{quote(view_name)}"
        rows = asked(connection, f"describe table extended {where}")
        return next((str(text) for name, text, *_ in rows if name == "View Text"), "")

    def get_multi_columns(
        self, connection: Connection, *, schema: str | None = None, filter_names: Collection[str] | None = None,
        kind: ObjectKind = ObjectKind.ANY, **_: object,
    ) -> list[tuple[tuple[str | None, str], list[ReflectedColumn]]]:  # fmt: skip
        """The columns of all tables and views of a schema, or of some, in one question."""
        wanted = None if filter_names is None else set(filter_names)
        name = _exactly(next(iter(wanted))) if wanted is not None and len(wanted) == 1 else _ALL
        rows = _told(
            connection, "GetColumns", "TGetColumnsReq", schemaName=_exactly(schema or self._own), tableName=name,
            columnName=_ALL,
        )  # fmt: skip
        results: dict[str, list[Any]] = defaultdict(list)
        for row in rows:
            if wanted is None or row["TABLE_NAME"] in wanted:
                results[row["TABLE_NAME"]].append(
                    {"name": row["COLUMN_NAME"], "type": DeclaredType(row["TYPE_NAME"]), "default": None,
                     "nullable": row["IS_NULLABLE"] != "NO", "comment": row["REMARKS"] or None}
                )  # fmt: skip
        return [((schema, table), columns) for table, columns in results.items()]

    def get_table_comment(
        self, connection: Connection, table_name: str, schema: str | None = None, **_: object
    ) -> ReflectedTableComment:
        """What was noted of a table."""
        rows = [r for r in self._entries(connection, schema) if r["TABLE_NAME"] == table_name]
        return {"text": rows[0]["REMARKS"] or None if rows else None}

    def has_table(self, connection: Connection, table_name: str, schema: str | None = None, **_: object) -> bool:
        """Whether there is a table or view of a name."""
        return any(row["TABLE_NAME"] == table_name for row in self._entries(connection, schema))


def _exactly(name: str) -> str:
    """A name as a pattern of the protocol, in which some signs stand for others."""
    return re.sub(r"([\\_%])", r"\\\1", name)


def _client(connection: Connection) -> HiveConnection:
    made: Any = connection.connection.driver_connection
    return made  # type: ignore[no-any-return]


def _told(connection: Connection, name: str, request: str, **given: str) -> list[dict[str, Value]]:
    """Rows of one of the protocol's own questions, by the names of their columns."""
    cursor = _client(connection).cursor()
    try:
        cursor.ask(name, request, **given)
        names = [column[0] for column in cursor.description or ()]
        return [dict(zip(names, row, strict=True)) for row in cursor.fetchall()]
    finally:
        cursor.close()
