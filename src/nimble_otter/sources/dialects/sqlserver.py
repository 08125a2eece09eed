"""SQL Server (Transact-SQL reference, 2016 and later): texts as N'...', no type for yes and no, no FOR UPDATE."""

from __future__ import annotations

import datetime as dt
import re

from nimble_otter.errors import ValueRefused
from nimble_otter.sources.catalogue import ColumnInfo
from nimble_otter.sources.dialects.dialect import KEY_LENGTH
from nimble_otter.sources.dialects.general import GeneralDialect
from nimble_otter.table.core.columns import Column, Field, Kind
from nimble_otter.table.text.show import plain
from nimble_otter.translation import tr
from nimble_otter.values import Value

_LEGACY = re.compile(r"(SMALL)?DATETIME(?!2|OFFSET)")
"""Types of times that read three digits of a second and refuse more."""


class _SqlServer(GeneralDialect):
    key = family = compiler = "mssql"
    parser = "tsql"
    keys = ("mssql",)
    display_name = "SQL Server"
    returns_keys = True
    lock_suffix = ""
    begin = "begin transaction"
    script_head = "set xact_abort on;\nbegin transaction;"
    savepoint, release_savepoint, rollback_to_savepoint = "save transaction {}", "", "rollback transaction {}"
    truth = ("1", "0")
    text_prefix = b"N"
    bytes_form = "0x{}"
    text_type, bytes_type, nested_type = "nvarchar(max)", "varbinary(max)", "nvarchar(max)"
    byte_length = "datalength"
    types = {
        Kind.INT: "bigint", Kind.FLOAT: "float(53)", Kind.BOOL: "bit", Kind.TIME: "datetime2(6)", Kind.DATE: "date",
        Kind.DECIMAL: "decimal(38, 10)", Kind.TEXT: "nvarchar(max)", Kind.ZONED: "datetimeoffset(6)",
        Kind.CLOCK: "time(6)", Kind.SPAN: "varchar(40)", Kind.UUID: "uniqueidentifier",
    }  # fmt: skip

    def for_driver(self, value: object, info: ColumnInfo | None) -> Value:
        return _sent(super().for_driver(value, info), info)

    def parameter(self, value: object, between: str = "") -> Value:
        return _sent(super().parameter(value, between), None)

    def bounds(self, declared: str) -> tuple[int, int]:
        return (0, 255) if declared.startswith("TINYINT") else super().bounds(declared)

    def literal(self, value: object, info: ColumnInfo | None) -> str:
        given = self.for_driver(value, info)
        is_time = isinstance(value, (dt.date, dt.time)) or given != value
        return f"'{given}'" if is_time and isinstance(given, str) else super().literal(value, info)

    def _float_literal(self, value: float, declared: str) -> str:
        text = super()._float_literal(value, declared)
        return text if "e" in text else f"{text}e0"  # without it a decimal of so many digits

    def text_literal(self, text: bytes) -> bytes:
        return self.text_prefix + super().text_literal(text)

    def text_column(self, in_key: bool) -> str:
        return f"nvarchar({KEY_LENGTH})" if in_key else "nvarchar(max)"

    def decimal_type(self, field: Field, column: Column | None) -> str:
        return f"decimal(38, {max(column.scale if column else 4, 4)})"

    def contains(self, text: str, sought: str) -> str:
        return f"charindex({sought}, {text}) > 0"


def _sent(value: Value, info: ColumnInfo | None) -> Value:
    """A time as a text, in the one form that no setting of the session reads otherwise (ISO 8601 with a T): the client
    would cut it to milliseconds. Raises: ValueRefused, where the column holds fewer digits."""
    if not isinstance(value, (dt.date, dt.time)):
        return value
    text, declared = value.isoformat(), info.declared.upper() if info is not None else ""
    head, point, digits = text.partition(".")
    if not _LEGACY.match(declared) or not point:
        return text
    if digits[3:6].strip("0"):
        raise ValueRefused(
            tr("{declared} holds milliseconds, not {value}.", declared=declared.lower(), value=plain(value)),
            tr("Type fewer digits."),
        )
    return f"{head}.{digits[:3]}"


SQLSERVER = _SqlServer()
