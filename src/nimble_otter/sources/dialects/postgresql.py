"""PostgreSQL (documentation of version 15: chapters 4 and 8)."""

from __future__ import annotations

import math
import re
from typing import TYPE_CHECKING, Any

from nimble_otter.errors import ValueRefused
from nimble_otter.sources.catalogue import ColumnInfo
from nimble_otter.sources.dialects.dialect import NUMBERS, Dialect
from nimble_otter.table.core.columns import Field, Kind
from nimble_otter.translation import tr
from nimble_otter.values import Value

if TYPE_CHECKING:
    from nimble_otter.sources.dialects.dialect import Clause

_OWN_EQUALITY = re.compile(
    r"(SMALLINT|INTEGER|BIGINT|INT\d|(SMALL|BIG)?SERIAL|NUMERIC|DECIMAL|REAL|DOUBLE|FLOAT|BOOL|TEXT|(N?VAR)?CHAR|UUID|"
    r"BYTEA|DATE$|TIME|INTERVAL|OID$|BIT)", re.I
)  # fmt: skip
"""Types that are compared by the server's own equality; others have none, or one that takes different values for equal:
they are compared by their texts."""


class _Postgresql(Dialect):
    key = family = compiler = "postgresql"
    keys = ("postgresql",)
    display_name = "PostgreSQL"
    makes_tables_of_queries = True
    adds_keys = True
    has_channels = True
    parser = "postgres"
    writes = True
    overrides_identity = " overriding system value"
    has_lists = has_intervals = has_endless = has_truth = True
    bare_numeric_keeps_all = True
    negative_zero = "'-0'"
    types = {**Dialect.types, Kind.UUID: "uuid"}
    bytes_type, nested_type = "bytea", "jsonb"
    kept_text_types = re.compile(r"uuid|inet|cidr|macaddr", re.I)
    regex_operator, word_edge = "~", r"\y"
    text_order = '{} collate "C"'
    row_hash = "hash_record_extended(row({}), 0)"
    casts_to_search = True
    passes_outputs = selects_from_functions = True

    def check(self, value: object, name: str) -> Any:
        if isinstance(value, str) and "\x00" in value:
            raise ValueRefused(
                tr("{name} can't hold the character NUL.", name=name), tr("PostgreSQL texts can't contain it.")
            )
        return super().check(value, name)

    def for_driver(self, value: object, info: ColumnInfo | None) -> Value:
        if isinstance(value, list) and info is not None and info.declared.upper().startswith("BOX"):
            return postgresql_text(value, ";")  # the one type with another mark between (pg_type.typdelim)
        return value if value is None or isinstance(value, bytes) else postgresql_text(value)

    def parameter(self, value: object, between: str = "") -> Value:
        if isinstance(value, list) and between:
            return postgresql_text(value, between)
        return super().parameter(value)

    def _equals(self, held: Clause, info: ColumnInfo | None, value: Value, bound: Value) -> Value:
        from sqlalchemy import func, literal_column

        declared = info.declared if info is not None else ""
        if is_list(declared):  # which may have no equality, and counts from where it likes
            kind: Any = literal_column(_list_type(declared))
            return func.to_jsonb(held) == func.to_jsonb(bound.op("::", precedence=20)(kind))
        if _OWN_EQUALITY.match(declared):
            return held == bound
        return func.format(literal_column("'%s'"), held) == bound  # as the server shows it; a cast may say more

    def exactly(self, held: Clause, info: ColumnInfo | None) -> Clause | None:
        from sqlalchemy import Text, cast

        return cast(held, Text()) if info is not None and is_list(info.declared) else None

    def compares_here(self, info: ColumnInfo) -> bool:
        return is_list(info.declared)

    def _stored_text(self, value: str, declared: str) -> str:
        is_number = NUMBERS.search(declared) and re.fullmatch(r"-?\d+(\.\d+)?", value)
        return value if is_number else super()._stored_text(value, declared)

    def _float_literal(self, value: float, declared: str) -> str:
        if not math.isfinite(value) or NUMBERS.search(declared):
            return super()._float_literal(value, declared)
        return f"'{value!r}'"  # REAL is not compared with what a longer number rounds to

    def endless_literal(self, value: float) -> str:
        return f"'{postgresql_text(value)}'"

    def bytes_literal(self, value: bytes) -> str:
        return f"E'\\\\x{value.hex()}'"

    def text_literal(self, text: bytes) -> bytes:
        if b"\0" in text:
            raise ValueRefused(tr("PostgreSQL can't store a text with a NUL character."), tr("Filter such rows out."))
        quoted = super().text_literal(text)
        return b"E" + quoted.replace(b"\\", b"\\\\") if b"\\" in text else quoted

    def list_mark(self, field: Field) -> str:
        if field.server not in self.keys or not (field.exact or "").endswith("[]"):
            return ""
        return ";" if (field.exact or "").startswith("box") else ","  # the one type with a mark of its own (typdelim)

    def contains(self, text: str, sought: str) -> str:
        return f"strpos({text}, {sought}) > 0"


def is_list(declared: str) -> bool:
    """Whether a declared type is an array."""
    return declared.rstrip().endswith("[]")


def _list_type(declared: str) -> str:
    """A list's type as the server reads it; what is in it counts by its text where the type is not known here."""
    base = declared.rstrip().rstrip("[]")
    return f"{base}[]" if re.fullmatch(r"[\w ]+(\([\d, ]+\))?[\w ]*", base) and base.upper() != "NULL" else "text[]"


def postgresql_text(value: object, between: str = ",") -> str:
    """The text that the server's input functions read (PostgreSQL documentation, chapter 8)."""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, float):
        return repr(value) if math.isfinite(value) else {"inf": "Infinity", "-inf": "-Infinity"}.get(str(value), "NaN")
    if isinstance(value, list):
        return "{" + between.join(_item(item, between) for item in value) + "}"
    return str(value)


def _item(value: object, between: str) -> str:
    """One item of an array, quoted where it is a text (8.15.6)."""
    if value is None:
        return "NULL"
    if isinstance(value, bytes):
        value = "\\x" + value.hex()
    text = postgresql_text(value, between)
    if isinstance(value, str):
        return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'
    return text


POSTGRESQL = _Postgresql()
