"""Firebird 3 (language reference): names in upper case unless quoted, rows kept from others by WITH LOCK."""

from __future__ import annotations

import datetime as dt
import math
import re
from decimal import Decimal

from nimble_otter.sources.catalogue import ColumnInfo
from nimble_otter.sources.dialects.dialect import Dialect, Floats
from nimble_otter.sources.dialects.general import GeneralDialect
from nimble_otter.table.core.columns import Kind
from nimble_otter.table.text.doubles import exact_literal
from nimble_otter.values import Value


class _Firebird(GeneralDialect):
    key = family = compiler = "firebird"
    keys = ("firebird",)
    display_name = "Firebird"
    returns_keys = has_truth = True
    lock_suffix = " WITH LOCK"
    takes_many_rows = False
    fraction_digits = literal_digits = 4
    most_digits = 18
    script_head = "set autoddl off;"
    text_type, bytes_type, nested_type = "varchar(8191)", "blob", "blob sub_type text"
    types = {
        **Dialect.types, Kind.DECIMAL: "numeric(18, 6)", Kind.TEXT: "blob sub_type text", Kind.ZONED: "varchar(40)",
        Kind.SPAN: "varchar(40)",
    }  # fmt: skip

    def for_driver(self, value: object, info: ColumnInfo | None) -> Value:
        return _sent(super().for_driver(value, info))

    def parameter(self, value: object, between: str = "") -> Value:
        return _sent(super().parameter(value, between))

    def _moment(self, value: dt.date | dt.time) -> str:
        return re.sub(r"(\.\d{4})\d+'", r"\1'", super()._moment(value))  # it reads no more digits

    def _float_literal(self, value: float, declared: str) -> str:
        return _literal(value) if math.isfinite(value) else self.endless_literal(value)

    def double_literals(self, texts: list[bytes], values: Floats) -> None:
        for index, value in enumerate(values.tolist()):
            if math.isfinite(value):
                texts[index] = _literal(value).encode()


def _sent(value: Value) -> Value:
    """A day that the client package can't send (it counts from 1858-11-17 on) as a text."""
    if not isinstance(value, dt.date) or value.year >= 1859:
        return value
    return re.sub(r"(\.\d{4})\d+$", r"\1", str(value))


def _literal(value: float) -> str:
    """A double that is read as it is: this server (3.0.11) misreads every third of random ones, none with few digits or
    made of powers of two."""
    digits, exponent = Decimal(repr(value)).normalize().as_tuple()[1:]
    if len(digits) > 15 or not isinstance(exponent, int) or not -20 <= exponent <= 6:
        return exact_literal(value).replace(".0", "e0")
    text = repr(value)
    return text if "e" in text else f"{text}e0"


FIREBIRD = _Firebird()
