"""MariaDB and MySQL (manual of MariaDB 10.11): collations that take different texts for equal, and settings that change
what a backslash means."""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Callable, Sequence
from decimal import Decimal
from typing import TYPE_CHECKING

from nimble_otter.sources.catalogue import ColumnInfo
from nimble_otter.sources.dialects.dialect import KEY_LENGTH, NUMBERS, Dialect, sized_number
from nimble_otter.table.core.columns import Column, Field, Kind, is_utf8
from nimble_otter.table.text.show import plain
from nimble_otter.values import Value

if TYPE_CHECKING:
    from nimble_otter.sources.dialects.dialect import Clause

_CONTROL = re.compile(rb"[\x00-\x08\x0b-\x1f\x7f\\]")
_TEXTS = re.compile(r"CHAR|TEXT|ENUM|SET|JSON", re.I)


class _Mysql(Dialect):
    key = family = parser = compiler = "mysql"
    keys = ("mysql", "mariadb")
    display_name = "MySQL"
    makes_tables_of_queries = True
    adds_keys = True
    writes = True
    binary_collation = "utf8mb4_bin"
    begin = "start transaction"
    script_head = "set time_zone = '+00:00';\nstart transaction;"
    returns_keys = False
    defining_commits = True
    fraction_digits = 0
    clocks_span_days = True
    folds_texts = True
    zones_are_kept = False
    rounds_decimals_after = 30
    negative_zero = "-0e0"
    types = {
        **Dialect.types,
        Kind.FLOAT: "double", Kind.TIME: "datetime(6)", Kind.DECIMAL: "decimal(65, 18)", Kind.TEXT: "longtext",
        Kind.ZONED: "datetime(6)", Kind.CLOCK: "time(6)", Kind.SPAN: "varchar(40)",
    }  # fmt: skip
    bytes_type, nested_type = "longblob", "json"
    text_type = "char"
    text_order = "cast({} as binary)"

    def for_driver(self, value: object, info: ColumnInfo | None) -> Value:
        if isinstance(value, bool):
            return int(value)
        if isinstance(value, (dt.date, dt.time, dt.timedelta)):  # of a column that had no value, and so no form, before
            return plain(value)
        if isinstance(value, bytes) and info is not None and info.declared.upper().startswith("BIT"):
            return int.from_bytes(value)
        return value

    def parameter(self, value: object, between: str = "") -> Value:
        if isinstance(value, bool):
            return int(value)
        if isinstance(value, dt.datetime) and value.tzinfo is not None:
            return value.astimezone(dt.UTC).replace(tzinfo=None)
        return plain(value) if isinstance(value, dt.time) else super().parameter(value)

    def _equals(self, held: Clause, info: ColumnInfo | None, value: Value, bound: Value) -> Value:
        from sqlalchemy import CHAR, cast, literal_column

        declared = info.declared if info is not None else ""
        if isinstance(value, bytes) or declared.upper().startswith("BIT"):
            return held == bound
        if _TEXTS.search(declared):
            return held == bound.op("collate", precedence=20)(literal_column(self.binary_collation))
        if isinstance(value, float) and not NUMBERS.search(declared):  # FLOAT holds less than it shows
            return cast(held, CHAR()).op("+")(literal_column("0e0")) == bound
        return (held if NUMBERS.search(declared) else cast(held, CHAR())) == bound

    def exactly(self, held: Clause, info: ColumnInfo | None) -> Clause | None:
        from sqlalchemy import literal_column

        is_float = info is not None and re.match(r"FLOAT", info.declared, re.I)
        return held.op("+")(literal_column("0e0")) if is_float else None

    def _truth_literal(self, value: bool) -> str:
        return str(int(value))

    def text_literal(self, text: bytes) -> bytes:
        if _CONTROL.search(text) and is_utf8(text):  # what a backslash means is a setting there
            return b"convert(x'" + text.hex().encode() + b"' using utf8mb4)"
        return super().text_literal(text)

    def needs_care(self, block: bytes, texts: Sequence[bytes]) -> bool:
        return super().needs_care(block, texts) or any(map(_CONTROL.search, texts))

    def is_single(self, declared: str) -> bool:
        return super().is_single(declared) and not declared.startswith("REAL")

    def own_type(self, exact: str, in_key: bool) -> str:
        if in_key and re.match(r"(?:tiny|medium|long)?(?:text|blob)", exact):
            return f"varchar({KEY_LENGTH})"
        # without it this server fills in the time of the insert
        return f"{exact} null" if exact.startswith("timestamp") and not in_key else super().own_type(exact, in_key)

    def text_column(self, in_key: bool) -> str:
        return f"varchar({KEY_LENGTH})" if in_key else super().text_column(in_key)

    def decimal_type(self, field: Field, column: Column | None) -> str:
        sized = sized_number(field)
        return f"decimal({sized[0]}, {sized[1]})" if sized else f"decimal(65, {max(column.scale if column else 4, 4)})"

    def mixed_type(self, field: Field, types: set[type]) -> str:
        if not types or not types <= {int, float, Decimal}:
            return super().mixed_type(field, types)
        if float in types and Decimal not in types:
            return self.types[Kind.FLOAT]
        sized = sized_number(field)
        return f"decimal({sized[0]}, {sized[1]})" if sized else "decimal(65)" if types == {int} else "decimal(65, 30)"

    def cast_type(self, there: ColumnInfo) -> str:
        declared = super().cast_type(there)
        if re.match(r"(?:BIG|SMALL|TINY|MEDIUM)?INT", declared, re.IGNORECASE):
            return "unsigned" if "unsigned" in declared.lower() else "signed"
        is_known = re.match(r"(?:DECIMAL|NUMERIC|DATETIME|DATE|DOUBLE)\b", declared, re.IGNORECASE)
        return declared.partition(" ")[0] if is_known else ""

    def insert_tail(self, mode: str, keys: Sequence[str], others: Sequence[str], quote: Callable[[str], str]) -> str:
        sets = others if mode == "update" and others else keys[:1]
        value = "values({0})" if mode == "update" else "{0}"
        return " on duplicate key update " + ", ".join(f"{quote(n)} = {value.format(quote(n))}" for n in sets)

    def contains(self, text: str, sought: str) -> str:
        return f"instr(cast({text} as binary), cast({sought} as binary)) > 0"

    def regex(self, pattern: str, is_cased: bool) -> str:
        # the server's default collation takes letters of both cases for the same
        return ("(?-i)" if is_cased else "(?i)") + pattern


class _Mariadb(_Mysql):
    key = compiler = "mariadb"
    display_name = "MariaDB"
    binary_collation = "utf8mb4_nopad_bin"
    returns_keys = True


MYSQL, MARIADB = _Mysql(), _Mariadb()
