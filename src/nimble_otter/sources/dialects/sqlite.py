"""SQLite (https://sqlite.org/datatype3.html): declared types don't bind, times are texts, decimals doubles."""

from __future__ import annotations

import datetime as dt
import math
from decimal import Decimal
from typing import TYPE_CHECKING, Any

import numpy as np

from nimble_otter.errors import ValueRefused
from nimble_otter.sources.catalogue import ColumnInfo
from nimble_otter.sources.dialects.dialect import BROKEN, Dialect, Floats
from nimble_otter.table.core.columns import Column, Field, Kind, is_utf8
from nimble_otter.table.text.doubles import exact_literal, loses_precision
from nimble_otter.table.text.show import plain
from nimble_otter.translation import tr
from nimble_otter.values import Value

if TYPE_CHECKING:
    from nimble_otter.sources.dialects.dialect import Clause


class _Sqlite(Dialect):
    key = family = parser = compiler = "sqlite"
    text_order = "{} collate binary"
    keys = ("sqlite",)
    display_name = "SQLite"
    makes_tables_of_queries = True
    writes = True
    marker = "?"
    lock_suffix = ""
    tells_rows_beside = True
    takes_default_in_update = False
    is_loose = True
    times_are_texts = True
    null_numbers_keys = True
    truth = ("1", "0")
    keeps_negative_zero = False
    types = {
        Kind.INT: "integer", Kind.FLOAT: "real", Kind.BOOL: "boolean", Kind.TIME: "timestamp", Kind.DATE: "date",
        Kind.DECIMAL: "numeric", Kind.TEXT: "text", Kind.ZONED: "text", Kind.CLOCK: "time", Kind.SPAN: "text",
        Kind.UUID: "text",
    }  # fmt: skip
    byte_length = "length"

    def check(self, value: object, name: str) -> Any:
        if isinstance(value, int) and not -(1 << 63) <= value < 1 << 63:
            raise ValueRefused(
                tr("{name} can't hold {value}: it is too large.", name=name, value=value),
                tr("It holds 64-bit integers."),
            )
        return value

    def for_driver(self, value: object, info: ColumnInfo | None) -> Value:
        if isinstance(value, bool):
            return int(value)
        if isinstance(value, (dt.date, dt.time, dt.timedelta)):  # of a column that had no value, and so no form, before
            return plain(value)
        if isinstance(value, str) and BROKEN.search(value):
            return value.encode("utf-8", "surrogateescape")
        return str(value) if isinstance(value, Decimal) else value

    def parameter(self, value: object, between: str = "") -> Value:
        if value != value:
            raise ValueRefused(
                tr("A number is {value}, which the server can't hold.", value=value), tr("Filter such rows out.")
            )
        if isinstance(value, bool):
            return int(value)
        if isinstance(value, int):
            return value if -(1 << 63) <= value < 1 << 63 else str(value)
        return value if isinstance(value, (str, bytes, float)) else plain(value)

    def place(self, value: object, bound: object) -> Value:
        from sqlalchemy import Text, cast

        return cast(bound, Text()) if isinstance(value, str) and BROKEN.search(value) else bound

    def _equals(self, held: Clause, info: ColumnInfo | None, value: Value, bound: Value) -> Value:
        folds = info is not None and info.folds and isinstance(value, str)
        return held == (bound.collate("binary") if folds else bound)

    def _float_literal(self, value: float, declared: str) -> str:
        if math.isfinite(value) and loses_precision([repr(value)], [value]):
            return exact_literal(value)
        return super()._float_literal(value, declared)

    def endless_literal(self, value: float) -> str:
        return super().endless_literal(value) if value != value else "9e999" if value > 0 else "-9e999"

    def text_literal(self, text: bytes) -> bytes:
        if b"\0" not in text and is_utf8(text):
            return b"'" + text.replace(b"'", b"''") + b"'"
        return b"cast(x'" + text.hex().encode() + b"' as text)"

    def double_literals(self, texts: list[bytes], values: Floats) -> None:
        long = np.flatnonzero(np.fromiter(map(len, texts), np.int64, len(texts)) > 15).tolist()
        written = b"\n".join([texts[p] for p in long]).decode().split("\n") if long else []
        for index in loses_precision(written, values[long].tolist()):
            texts[long[index]] = exact_literal(float(values[long[index]])).encode()

    def bits(self, declared: str) -> int:
        return 64

    def is_single(self, declared: str) -> bool:
        return False

    def own_type(self, exact: str, in_key: bool) -> str:
        return "" if exact.upper() == "ANY" else exact  # only strict tables know that word

    def decimal_type(self, field: Field, column: Column | None) -> str:
        is_long = column is not None and bool(((column.data >= 10**15) | (column.data <= -(10**15))).any())
        return "text" if is_long else "numeric"  # which rounds to 15 digits

    def mixed_type(self, field: Field, types: set[type]) -> str:
        return "" if types else "text"  # holds each value as it is


SQLITE = _Sqlite()
