"""What SQLAlchemy's inspector is told of servers whose tables have no keys and which have no transactions; the base of
their catalogues."""

from __future__ import annotations

import re
from collections.abc import Collection
from typing import Any

from sqlalchemy import Connection, exc
from sqlalchemy.engine import default
from sqlalchemy.engine.interfaces import (
    ReflectedColumn,
    ReflectedForeignKeyConstraint,
    ReflectedIndex,
    ReflectedPrimaryKeyConstraint,
)
from sqlalchemy.engine.reflection import ObjectKind
from sqlalchemy.sql.compiler import IdentifierPreparer

from nimble_otter.values import ClientObject, Value


class KeylessPreparer(IdentifierPreparer):
    """Names in backticks unless they are plain; reserved are the standard's words (ANSI mode, SQL reference)."""

    def __init__(self, dialect: default.DefaultDialect) -> None:
        super().__init__(dialect, initial_quote="`")

    def _requires_quotes(self, value: str) -> bool:
        return not re.fullmatch(r"[a-z_][a-z0-9_]*", value) or value in self.reserved_words

    def _escape_identifier(self, value: str) -> str:
        return value.replace("`", "``")


class DescribedDialect(default.DefaultDialect):
    """The base of catalogues of our own: the columns of one table are asked for as those of many are."""

    def get_multi_columns(
        self, connection: Connection, *, schema: str | None = None, filter_names: Collection[str] | None = None,
        kind: ObjectKind = ObjectKind.ANY, **_: object,
    ) -> list[tuple[tuple[str | None, str], list[ReflectedColumn]]]:  # fmt: skip
        """The columns of all tables and views of a schema, or of some, in one question."""
        raise NotImplementedError

    def get_columns(
        self, connection: Connection, table_name: str, schema: str | None = None, **_: object
    ) -> list[ReflectedColumn]:
        """The columns of a table or view. Raises: NoSuchTableError."""
        results = self.get_multi_columns(connection, schema=schema, filter_names=[table_name])
        if not results:
            raise exc.NoSuchTableError(table_name)
        return results[0][1]


class KeylessDialect(DescribedDialect):
    """What holds for all of them; a catalogue gives names, columns and comments."""

    preparer = KeylessPreparer  # type: ignore[assignment] # which says the same of every class of this kind
    supports_native_boolean = supports_multivalues_insert = True
    default_paramstyle = "qmark"

    def do_rollback(self, dbapi_connection: ClientObject) -> None:
        """There are no transactions."""

    def do_ping(self, dbapi_connection: ClientObject) -> bool:
        """Raises what the line's loss raises."""
        cursor = dbapi_connection.cursor()
        cursor.execute("select 1")
        cursor.close()
        return True

    def get_pk_constraint(
        self, connection: Connection, table_name: str, schema: str | None = None, **_: object
    ) -> ReflectedPrimaryKeyConstraint:
        """None: what some tables declare is not checked by the engine."""
        return {"name": None, "constrained_columns": []}

    def get_foreign_keys(
        self, connection: Connection, table_name: str, schema: str | None = None, **_: object
    ) -> list[ReflectedForeignKeyConstraint]:
        """None."""
        return []

    def get_indexes(
        self, connection: Connection, table_name: str, schema: str | None = None, **_: object
    ) -> list[ReflectedIndex]:
        """None."""
        return []

    get_unique_constraints = get_check_constraints = get_indexes  # type: ignore[assignment] # none of them either


def asked(connection: Connection, text: str, **values: str) -> list[Value]:
    """The rows of a question to the server, with what its client takes for parameters."""
    made: Any = connection.connection.driver_connection
    cursor = made.cursor()
    try:
        cursor.execute(text, values) if values else cursor.execute(text)
        return list(cursor.fetchall())
    finally:
        cursor.close()
