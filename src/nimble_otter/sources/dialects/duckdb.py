"""DuckDB (documentation of version 1.4 and later): strong types, one writer at a time, no savepoints."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence

from nimble_otter.sources.dialects.dialect import Dialect
from nimble_otter.sources.dialects.general import GeneralDialect
from nimble_otter.table.core.columns import Column, Field, Kind


class _Duckdb(GeneralDialect):
    key = family = compiler = "duckdb"
    parser = "duckdb"
    own_package = "nimble_otter.sources.duckdb_catalogue:DuckdbDialect"
    keys = ("duckdb",)
    display_name = "DuckDB"
    makes_tables_of_queries = True
    adds_keys = True
    returns_keys = has_truth = has_endless = True
    defining_commits = False
    folds_texts = False
    lock_suffix = ""  # the file has one writer
    savepoint = release_savepoint = rollback_to_savepoint = ""
    script_head = "begin;"
    begin = "begin"
    types = {**Dialect.types, Kind.FLOAT: "double", Kind.DECIMAL: "decimal(38, 10)", Kind.TEXT: "varchar",
             Kind.ZONED: "timestamptz", Kind.UUID: "uuid"}  # fmt: skip
    bytes_type, nested_type = "blob", "json"
    text_type = "varchar"
    byte_length = "strlen"
    regex_operator = "~"

    def endless_literal(self, value: float) -> str:
        word = "nan" if math.isnan(value) else ("inf" if value > 0 else "-inf")
        return f"'{word}'::double"

    def _float_literal(self, value: float, declared: str) -> str:
        text = super()._float_literal(value, declared)
        return text if "e" in text or "'" in text else f"{text}e0"  # without it a decimal of so many digits

    def bytes_literal(self, value: bytes) -> str:
        return f"unhex('{value.hex()}')"

    def text_column(self, in_key: bool) -> str:
        return "varchar"

    def decimal_type(self, field: Field, column: Column | None) -> str:
        return f"decimal(38, {max(column.scale if column else 4, 4)})"

    def insert_tail(self, mode: str, keys: Sequence[str], others: Sequence[str], quote: Callable[[str], str]) -> str:
        return Dialect.insert_tail(self, mode, keys, others, quote)


DUCKDB = _Duckdb()
