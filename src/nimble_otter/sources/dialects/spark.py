"""Spark SQL (documentation of 4.0, SQL reference): statements are done at once, there are no keys and no transactions;
values stand in the text, as the protocol has no place for them."""

from __future__ import annotations

import datetime as dt
import math
from decimal import Decimal

from nimble_otter.sources.catalogue import ColumnInfo
from nimble_otter.sources.dialects.dialect import Dialect, Floats
from nimble_otter.sources.dialects.general import WrittenDialect
from nimble_otter.table.core.columns import Column, Field, Kind
from nimble_otter.values import Value


class _Spark(WrittenDialect):
    key = family = compiler = "spark"
    parser = "spark"
    own_package = "nimble_otter.sources.spark_catalogue:SparkDialect"
    keys = ("spark",)
    display_name = "Spark SQL"
    has_truth = has_endless = True
    types = {
        **Dialect.types, Kind.FLOAT: "double", Kind.DECIMAL: "decimal(38, 10)", Kind.TEXT: "string",
        Kind.TIME: "timestamp_ntz", Kind.ZONED: "timestamp", Kind.CLOCK: "string", Kind.SPAN: "string",
        Kind.UUID: "string",
    }  # fmt: skip
    time_prefix = {Kind.TIME: b"timestamp_ntz ", Kind.ZONED: b"timestamp ", Kind.DATE: b"date "}
    bytes_type, nested_type, text_type = "binary", "string", "string"
    byte_length = "octet_length"
    regex_operator = "rlike"

    def _float_literal(self, value: float, declared: str) -> str:
        return self.endless_literal(value) if not math.isfinite(value) else f"{value!r}D"

    def endless_literal(self, value: float) -> str:
        word = "NaN" if math.isnan(value) else ("Infinity" if value > 0 else "-Infinity")
        return f"double('{word}')"

    def double_literals(self, texts: list[bytes], values: Floats) -> None:
        for place, value in enumerate(values.tolist()):
            if math.isfinite(value):
                texts[place] = f"{value!r}D".encode()

    def literal(self, value: object, info: ColumnInfo | None) -> str:
        if isinstance(value, Decimal):
            return f"{value:f}BD"
        return super().literal(value, info)

    def _moment(self, value: dt.date | dt.time) -> str:
        if isinstance(value, dt.datetime):
            utc = value.astimezone(dt.UTC).replace(tzinfo=None) if value.tzinfo is not None else value
            return (
                f"timestamp{'_ntz' if value.tzinfo is None else ''} '{utc.isoformat(' ')}{'Z' if value.tzinfo else ''}'"
            )
        return f"date '{value.isoformat()}'" if isinstance(value, dt.date) else f"'{value.isoformat()}'"

    def text_column(self, in_key: bool) -> str:
        return "string"

    def decimal_type(self, field: Field, column: Column | None) -> str:
        return f"decimal(38, {max(column.scale if column else 4, 4)})"

    def contains(self, text: str, sought: str) -> str:
        return f"contains({text}, {sought})"

    def parameter(self, value: object, between: str = "") -> Value:
        # written as a literal of its own kind
        return value if isinstance(value, (dt.date, dt.time, bool)) else super().parameter(value, between)


SPARK = _Spark()
