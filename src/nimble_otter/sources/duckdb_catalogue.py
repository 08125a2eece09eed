"""The catalogue of DuckDB for SQLAlchemy's inspector, from the functions in which the database tells of itself
(documentation, "Metadata Functions"); no dialect that is kept up does so. Registered by its driver."""

from __future__ import annotations

import re
from collections.abc import Collection
from contextlib import suppress
from importlib import import_module
from types import ModuleType
from typing import Any

from sqlalchemy import Connection
from sqlalchemy.dialects.postgresql.base import PGIdentifierPreparer
from sqlalchemy.engine.interfaces import (
    ReflectedCheckConstraint,
    ReflectedColumn,
    ReflectedForeignKeyConstraint,
    ReflectedIndex,
    ReflectedPrimaryKeyConstraint,
    ReflectedTableComment,
    ReflectedUniqueConstraint,
)
from sqlalchemy.engine.reflection import ObjectKind
from sqlalchemy.types import UserDefinedType

from nimble_otter.sources.keyless import DescribedDialect
from nimble_otter.values import ClientObject, Value


class DeclaredType(UserDefinedType[Any]):
    """A type by the text in which the database declares it; `enums` are the values of an enumeration."""

    cache_ok = True

    def __init__(self, text: str) -> None:
        self.text = text
        inside = re.fullmatch(r"ENUM(?:8|16)?\((.*)\)", text, re.DOTALL | re.IGNORECASE)
        results = re.findall(r"'((?:[^']|'')*)'", inside[1]) if inside else []
        self.enums = [value.replace("''", "'") for value in results]

    def get_col_spec(self, **_: object) -> str:
        """The text itself."""
        return self.text


class _Preparer(PGIdentifierPreparer):
    """PostgreSQL's words are reserved, and some more (`duckdb_keywords()` of 2.0)."""

    reserved_words = PGIdentifierPreparer.reserved_words | frozenset(
        ("anti", "asof", "at", "by", "collation", "columns", "concurrently", "describe", "exists", "extract", "glob",
         "generated", "interval", "lambda", "lateral", "map", "pivot", "pivot_longer", "pivot_wider", "positional",
         "qualify", "row", "semi", "show", "struct", "summarize", "tablesample", "try_cast", "tuple", "unpack",
         "unpivot", "values")
    )  # fmt: skip


class DuckdbDialect(DescribedDialect):
    """What the inspector asks, and how names are quoted."""

    name = driver = "duckdb"
    preparer = _Preparer
    supports_statement_cache = True
    supports_native_boolean = supports_multivalues_insert = insert_returning = True
    supports_default_values = True
    default_paramstyle = "qmark"
    default_schema_name = "main"

    @classmethod
    def import_dbapi(cls) -> ModuleType:
        """The package, which is imported at the first connection."""
        return import_module("duckdb")

    def initialize(self, connection: Connection) -> None:
        """Nothing is asked."""

    def do_rollback(self, dbapi_connection: ClientObject) -> None:
        """Where a transaction is open."""
        with suppress(Exception):  # most connections have none
            dbapi_connection.rollback()

    def do_ping(self, dbapi_connection: ClientObject) -> bool:
        """A question to a file can always be asked."""
        return True

    def _ask(self, connection: Connection, text: str, *values: object) -> list[Value]:
        return list(connection.exec_driver_sql(text + " and database_name = current_database()", values))

    def get_schema_names(self, connection: Connection, **_: object) -> list[str]:
        """Names of the schemas."""
        text = "select schema_name from duckdb_schemas() where (not internal or schema_name = 'main')"
        return [row[0] for row in self._ask(connection, text)]

    def get_table_names(self, connection: Connection, schema: str | None = None, **_: object) -> list[str]:
        """Names of the tables of a schema."""
        text = "select table_name from duckdb_tables() where not internal and schema_name = ?"
        return [row[0] for row in self._ask(connection, text, schema or "main")]

    def get_view_names(self, connection: Connection, schema: str | None = None, **_: object) -> list[str]:
        """Names of the views of a schema."""
        text = "select view_name from duckdb_views() where not internal and schema_name = ?"
        return [row[0] for row in self._ask(connection, text, schema or "main")]

    def get_view_definition(
        self, connection: Connection, view_name: str, schema: str | None = None, **_: object
    ) -> str:
        """The statement that made a view."""
        text = "select sql from duckdb_views() where schema_name = ? and view_name = ?"
        return "".join(str(row[0]) for row in self._ask(connection, text, schema or "main", view_name))

    def _told(
        self, connection: Connection, what: str, schema: str | None, names: Collection[str] | None, *values: object
    ) -> list[Value]:
        """The answer of a question with a WHERE, of a schema or of some of its tables and views."""
        given = () if names is None else tuple(names)
        some = "" if names is None else f" and table_name in ({', '.join('?' * len(given)) or 'null'})"
        return self._ask(connection, f"{what} and schema_name = ?{some}", *values, schema or "main", *given)

    def get_multi_columns(
        self, connection: Connection, *, schema: str | None = None, filter_names: Collection[str] | None = None,
        kind: ObjectKind = ObjectKind.ANY, **_: object,
    ) -> list[tuple[tuple[str | None, str], list[ReflectedColumn]]]:  # fmt: skip
        """The columns of all tables and views of a schema, or of some, in two questions."""
        text = (
            "select table_name, column_name, data_type, is_nullable, column_default, comment from duckdb_columns() "
            "where not internal"
        )
        own = self._told(connection, "select table_name, sql from duckdb_tables() where true", schema, filter_names)
        statements = {name: str(sql) for name, sql in own}
        results: dict[Any, list[Any]] = {}
        for table, name, declared, nullable, value, comment in self._told(connection, text, schema, filter_names):
            if (ObjectKind.TABLE if table in statements else ObjectKind.VIEW) not in kind:
                continue
            quoted, statement = self.identifier_preparer.quote(name), statements.get(table, "")
            is_computed = "GENERATED ALWAYS AS" in statement.upper() and re.search(
                rf"[(,]\s*{re.escape(quoted)} [^,]*?GENERATED ALWAYS AS", statement, re.IGNORECASE | re.DOTALL
            )
            results.setdefault((schema, table), []).append(
                {"name": name, "type": DeclaredType(declared), "nullable": bool(nullable), "comment": comment,
                 "default": None if is_computed else value} | ({"computed": {"sqltext": value}} if is_computed else {})
            )  # fmt: skip
        return list(results.items())

    def _constraints(
        self, connection: Connection, schema: str | None, names: Collection[str] | None, kind: str
    ) -> list[Value]:
        """The table, name, columns, table and columns referred to, and condition of each."""
        text = (
            "select table_name, constraint_name, constraint_column_names, referenced_table, referenced_column_names, "
            "expression from duckdb_constraints() where constraint_type = ?"
        )
        return self._told(connection, text, schema, names, kind)

    def get_multi_pk_constraint(
        self, connection: Connection, *, schema: str | None = None, filter_names: Collection[str] | None = None,
        **_: object,
    ) -> list[tuple[tuple[str | None, str], ReflectedPrimaryKeyConstraint]]:  # fmt: skip
        """The primary keys of a schema, or of some tables, in one question."""
        found = self._constraints(connection, schema, filter_names, "PRIMARY KEY")
        return [((schema, table), {"name": name, "constrained_columns": list(own)}) for table, name, own, *_ in found]

    def get_pk_constraint(
        self, connection: Connection, table_name: str, schema: str | None = None, **_: object
    ) -> ReflectedPrimaryKeyConstraint:
        """The primary key."""
        found = self.get_multi_pk_constraint(connection, schema=schema, filter_names=[table_name])
        return found[0][1] if found else {"name": None, "constrained_columns": []}

    def get_multi_foreign_keys(
        self, connection: Connection, *, schema: str | None = None, filter_names: Collection[str] | None = None,
        **_: object,
    ) -> list[tuple[tuple[str | None, str], list[ReflectedForeignKeyConstraint]]]:  # fmt: skip
        """The foreign keys of a schema, or of some tables, in one question. They change nothing in other tables."""
        results: dict[Any, list[ReflectedForeignKeyConstraint]] = {}
        for table, name, own, other, theirs, _ in self._constraints(connection, schema, filter_names, "FOREIGN KEY"):
            results.setdefault((schema, table), []).append(
                {"name": name, "constrained_columns": list(own), "referred_schema": schema, "referred_table": other,
                 "referred_columns": list(theirs), "options": {}}
            )  # fmt: skip
        return list(results.items())

    def get_foreign_keys(
        self, connection: Connection, table_name: str, schema: str | None = None, **_: object
    ) -> list[ReflectedForeignKeyConstraint]:
        """The foreign keys of a table."""
        found = self.get_multi_foreign_keys(connection, schema=schema, filter_names=[table_name])
        return found[0][1] if found else []

    def get_unique_constraints(
        self, connection: Connection, table_name: str, schema: str | None = None, **_: object
    ) -> list[ReflectedUniqueConstraint]:
        """Sets of columns that are unique."""
        rows = self._constraints(connection, schema, [table_name], "UNIQUE")
        return [{"name": name, "column_names": list(own)} for _, name, own, *_ in rows]

    def get_check_constraints(
        self, connection: Connection, table_name: str, schema: str | None = None, **_: object
    ) -> list[ReflectedCheckConstraint]:
        """Conditions that every row holds."""
        rows = self._constraints(connection, schema, [table_name], "CHECK")
        return [{"name": name, "sqltext": said} for _, name, *_, said in rows]

    def get_indexes(
        self, connection: Connection, table_name: str, schema: str | None = None, **_: object
    ) -> list[ReflectedIndex]:
        """The indexes that were made as such."""
        text = (
            "select index_name, is_unique, expressions from duckdb_indexes() where schema_name = ? and table_name = ?"
        )
        found: list[ReflectedIndex] = []
        for name, is_unique, said in self._ask(connection, text, schema or "main", table_name):
            names: list[str | None] = [part.strip().strip("\"'") for part in str(said).strip("[]").split(",")]
            found.append({"name": name, "unique": bool(is_unique), "column_names": names, "dialect_options": {}})
        return found

    def get_table_comment(
        self, connection: Connection, table_name: str, schema: str | None = None, **_: object
    ) -> ReflectedTableComment:
        """What was noted of a table."""
        text = "select comment from duckdb_tables() where schema_name = ? and table_name = ?"
        rows = self._ask(connection, text, schema or "main", table_name)
        return {"text": rows[0][0] if rows else None}

    def has_table(self, connection: Connection, table_name: str, schema: str | None = None, **_: object) -> bool:
        """Whether there is a table or view of a name."""
        return table_name in (*self.get_table_names(connection, schema), *self.get_view_names(connection, schema))
