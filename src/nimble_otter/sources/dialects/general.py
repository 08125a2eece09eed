"""Any server that SQLAlchemy has a dialect for: what that dialect tells of it, else what the standard says (ISO 9075).

Names, types, literals of times and the clauses of statements are the package's; what it does not know (savepoints,
bytes as literals, backslashes in quotes) stands in small tables here, by the name of the dialect.
"""

from __future__ import annotations

import copy
import datetime as dt
import json
import re
import uuid
from collections.abc import Callable, Sequence
from decimal import Decimal
from functools import cache
from typing import TYPE_CHECKING, Any

from nimble_otter.errors import ValueRefused
from nimble_otter.sources.catalogue import ColumnInfo
from nimble_otter.sources.dialects.dialect import KEY_LENGTH, Dialect
from nimble_otter.table.core.columns import Column, Field, Kind
from nimble_otter.table.text.show import plain
from nimble_otter.translation import tr
from nimble_otter.values import Value

if TYPE_CHECKING:
    from sqlalchemy.engine import Dialect as Spoken

_MARKERS = {"qmark": "?", "format": "%s", "pyformat": "%s", "numeric": ":{}", "named": ":{}", "numeric_dollar": "${}"}
"""How a client marks the place of a value (PEP 249, paramstyle); clients that take names take their places, too."""
_PARSERS = {"postgresql": "postgres", "mariadb": "mysql", "mssql": "tsql", "impala": "hive", "sparksql": "spark"}
_BYTES = {"mssql": "0x{}", "oracle": "hextoraw('{}')", "postgresql": "'\\x{}'", "snowflake": "to_binary('{}')"}
_SAVEPOINTS = {
    "mssql": ("save transaction {}", "", "rollback transaction {}"),
    "oracle": ("savepoint {}", "", "rollback to savepoint {}"),
}
_BACKSLASHES = frozenset(("bigquery", "clickhouse", "databricks", "hive", "impala", "sparksql", "spark", "drill"))
"""Dialects in which a backslash in quotes stands for the sign behind it."""
_WITHOUT_TRANSACTIONS = frozenset(
    ("athena", "awsathena", "bigquery", "clickhouse", "databricks", "drill", "druid", "elasticsearch", "hive",
     "impala", "kylin", "pinot", "presto", "sparksql", "spark", "trino")
)  # fmt: skip


PLACE = "\x01{}\x01"
"""Where a value goes, by its number from 1 on, in texts into which the connection writes it."""


class GeneralDialect(Dialect):
    """What holds for servers that are reached by SQLAlchemy's dialect alone; see `general_dialect`."""

    writes = True
    folds_texts = True
    takes_default_in_update = False
    returns_keys = False
    defining_commits = True
    marker = "?"
    most_digits = 38
    """Of a decimal."""
    has_backslashes = False
    bytes_form = "x'{}'"
    script_head = "-- run this with your client's automatic commit switched off"

    @property
    def _spoken(self) -> Spoken:
        if self.own_package:
            self.spoken()
        return _spoken(self.compiler)

    def marked(self, style: str) -> GeneralDialect:
        """The same for a client that marks values in another style."""
        dialect = copy.copy(self)
        dialect.marker = _MARKERS.get(style, "?")
        return dialect

    def without_savepoints(self) -> GeneralDialect:
        """The same for a server that turned out to have none."""
        dialect = copy.copy(self)
        dialect.savepoint = dialect.release_savepoint = dialect.rollback_to_savepoint = ""
        return dialect

    def for_driver(self, value: object, info: ColumnInfo | None) -> Value:
        """See `Dialect.for_driver`."""
        if isinstance(value, bool):
            return value if self.has_truth else int(value)
        if isinstance(value, (list, dict)):
            return json.dumps(value, ensure_ascii=False, default=str)
        if isinstance(value, str) and info is not None:
            return _as_declared(value, info)
        return str(value) if isinstance(value, uuid.UUID) else value

    def parameter(self, value: object, between: str = "") -> Value:
        """See `Dialect.parameter`."""
        return int(value) if isinstance(value, bool) and not self.has_truth else super().parameter(value)

    def compares_here(self, info: ColumnInfo) -> bool:
        """Texts, which many servers compare without case and trailing blanks, where the row is locked."""
        return bool(self.lock_suffix) and info.word == "text"

    def literal(self, value: object, info: ColumnInfo | None) -> str:
        """See `Dialect.literal`."""
        given = self.for_driver(value, info) if isinstance(value, str) else value
        return self._moment(given) if isinstance(given, (dt.date, dt.time)) else super().literal(value, info)

    def _moment(self, value: dt.date | dt.time) -> str:
        from sqlalchemy import types

        has_zone = getattr(value, "tzinfo", None) is not None
        kind: Any = types.Time() if isinstance(value, dt.time) else types.Date()
        kind = types.TIMESTAMP(timezone=has_zone) if isinstance(value, dt.datetime) else kind
        write = kind.dialect_impl(self._spoken).literal_processor(self._spoken)
        return str(write(value)) if write is not None else f"'{plain(value)}'"

    def bytes_literal(self, value: bytes) -> str:
        """See `Dialect.bytes_literal`."""
        return self.bytes_form.format(value.hex())

    def text_literal(self, text: bytes) -> bytes:
        """See `Dialect.text_literal`."""
        return super().text_literal(text.replace(b"\\", b"\\\\") if self.has_backslashes else text)

    def text_column(self, in_key: bool) -> str:
        """See `Dialect.text_column`."""
        return f"varchar({KEY_LENGTH})" if in_key else self.types[Kind.TEXT]

    def decimal_type(self, field: Field, column: Column | None) -> str:
        """See `Dialect.decimal_type`."""
        return f"numeric({self.most_digits}, {max(column.scale if column else 4, 4)})"

    def mixed_type(self, field: Field, types: set[type]) -> str:
        """See `Dialect.mixed_type`."""
        if types and types <= {int, float, Decimal}:
            return self.types[Kind.FLOAT]
        return self.types[Kind.TEXT]

    def insert_tail(self, mode: str, keys: Sequence[str], others: Sequence[str], quote: Callable[[str], str]) -> str:
        """See `Dialect.insert_tail`."""
        raise ValueRefused(
            tr(
                "Rows whose key exists can't be skipped or updated on {display_name} yet.",
                display_name=self.display_name,
            ),
            tr("Let duplicates stop the delivery, or filter them out before."),
        )


class WrittenDialect(GeneralDialect):
    """What holds for engines whose clients have no place for values: they stand in the text, at marks of our own, in
    quotes in which a backslash stands for the sign behind it. Statements are done at once, there are no transactions
    and no keys."""

    marker = PLACE
    is_engine = makes_tables_of_queries = takes_many_rows = zones_are_kept = has_backslashes = True
    has_transactions = folds_texts = False
    begin = lock_suffix = savepoint = release_savepoint = rollback_to_savepoint = ""
    script_head = "-- each statement is done at once: there are no transactions here"

    def marked(self, style: str) -> GeneralDialect:
        """See `GeneralDialect.marked`: the marks are its own, whatever the client's style."""
        return self

    def mark(self, text: str) -> str:
        """See `Dialect.mark`. Raises: ValueRefused, where a text holds the mark."""
        if "\x01" in text:
            raise ValueRefused(
                tr(
                    "A name holds a control character, which can't be sent to {display_name}.",
                    display_name=self.display_name,
                )
            )
        return text

    def text_literal(self, text: bytes) -> bytes:
        """See `Dialect.text_literal`."""
        Dialect.text_literal(self, text)  # which refuses what is no text
        # two quotes are one in some versions only; in others they join two texts
        return b"'" + text.replace(b"\\", b"\\\\").replace(b"'", b"\\'") + b"'"

    def needs_care(self, block: bytes, texts: Sequence[bytes]) -> bool:
        """See `Dialect.needs_care`."""
        return b"'" in block.replace(b"'\0'", b"") or super().needs_care(block, texts)


class _Told(GeneralDialect):
    """One of which SQLAlchemy tells."""

    def __init__(self, name: str) -> None:
        spoken = _spoken(name)
        self.key = self.family = self.compiler = self.display_name = name
        self.keys = (name,)
        self.parser = _PARSERS.get(name, name) if _is_parsed(_PARSERS.get(name, name)) else ""
        self.returns_keys = bool(getattr(spoken, "insert_returning", False))
        self.has_truth = bool(getattr(spoken, "supports_native_boolean", False))
        self.truth = ("true", "false") if self.has_truth else ("1", "0")
        self.lock_suffix = " FOR UPDATE" if _locks(spoken) else ""
        self.takes_many_rows = bool(getattr(spoken, "supports_multivalues_insert", False))
        self.has_transactions = name not in _WITHOUT_TRANSACTIONS
        self.bytes_form, self.has_backslashes = _BYTES.get(name, "x'{}'"), name in _BACKSLASHES
        if name in _SAVEPOINTS:
            self.savepoint, self.release_savepoint, self.rollback_to_savepoint = _SAVEPOINTS[name]
        self.text_type = _type_text(spoken, "Unicode", KEY_LENGTH)
        self.bytes_type = _type_text(spoken, "LargeBinary")
        self.nested_type = _type_text(spoken, "UnicodeText")
        types = {
            Kind.INT: _type_text(spoken, "BigInteger"), Kind.FLOAT: _type_text(spoken, "Double"),
            Kind.BOOL: _type_text(spoken, "Boolean" if self.has_truth else "SmallInteger"),
            Kind.TIME: _type_text(spoken, "DateTime"), Kind.DATE: _type_text(spoken, "Date"),
            Kind.DECIMAL: "numeric(38, 10)", Kind.TEXT: _type_text(spoken, "UnicodeText"),
            Kind.ZONED: _type_text(spoken, "DateTime", True), Kind.CLOCK: _type_text(spoken, "Time"),
            Kind.SPAN: "varchar(40)", Kind.UUID: "char(36)",
        }  # fmt: skip
        self.types = types  # type: ignore[misc] # each of these has its own


@cache
def general_dialect(name: str) -> Dialect:
    """The dialect of this name as SQLAlchemy tells it; what the standard says, where it knows none of that name."""
    from sqlalchemy.exc import SQLAlchemyError

    try:
        return _Told(name)
    except (SQLAlchemyError, ImportError, TypeError):
        return Dialect()


def _as_declared(value: str, info: ColumnInfo) -> object:
    """A time that was typed into a column that had no value, and so no form, before; any other text as it is."""
    declared = info.declared.upper()
    kind = {"time": dt.datetime, "date": dt.date}.get(info.word, dt.time if re.match(r"TIME\b", declared) else None)
    if kind is None:
        return value
    try:
        return kind.fromisoformat(value)
    except ValueError:  # which the server may read otherwise
        return value


@cache
def _spoken(name: str) -> Spoken:
    from sqlalchemy import make_url

    made: Any = make_url(f"{name}://").get_dialect()
    return made()  # type: ignore[no-any-return]


def _is_parsed(name: str) -> bool:
    from nimble_otter.query.lazy import sqlglot

    return sqlglot.Dialect.get(name) is not None


def _locks(spoken: Spoken) -> bool:
    from sqlalchemy import column, select, table

    text = str(select(column("a")).select_from(table("t", column("a"))).with_for_update().compile(dialect=spoken))
    return text.upper().rstrip().endswith("FOR UPDATE")


def _type_text(spoken: Spoken, name: str, *arguments: Value) -> str:
    from sqlalchemy import types
    from sqlalchemy.exc import SQLAlchemyError

    try:
        return str(getattr(types, name)(*arguments).compile(dialect=spoken))
    except (SQLAlchemyError, TypeError):  # a type that needs a length, or to know which server it is
        return f"varchar({KEY_LENGTH})"
