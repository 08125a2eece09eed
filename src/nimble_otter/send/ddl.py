"""Column types and CREATE TABLE for rows that become a table, in each dialect that is written to."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from decimal import Decimal

from nimble_otter.errors import SendError
from nimble_otter.table import MISSING, Column, Field, Kind

DIALECTS = (("sqlite", "SQLite"), ("postgresql", "PostgreSQL"), ("mysql", "MariaDB and MySQL"))
_TYPES: dict[str, dict[Kind, str]] = {
    "sqlite": {
        Kind.INT: "integer", Kind.FLOAT: "real", Kind.BOOL: "boolean", Kind.TIME: "timestamp", Kind.DATE: "date",
        Kind.DECIMAL: "numeric", Kind.TEXT: "text", Kind.ZONED: "text", Kind.CLOCK: "time", Kind.SPAN: "text",
        Kind.UUID: "text",
    },
    "postgresql": {
        Kind.INT: "bigint", Kind.FLOAT: "double precision", Kind.BOOL: "boolean", Kind.TIME: "timestamp",
        Kind.DATE: "date", Kind.DECIMAL: "numeric", Kind.TEXT: "text", Kind.ZONED: "timestamp with time zone",
        Kind.CLOCK: "time", Kind.SPAN: "interval", Kind.UUID: "uuid",
    },
    "mysql": {
        Kind.INT: "bigint", Kind.FLOAT: "double", Kind.BOOL: "boolean", Kind.TIME: "datetime(6)", Kind.DATE: "date",
        Kind.DECIMAL: "decimal(65, 18)", Kind.TEXT: "longtext", Kind.ZONED: "datetime(6)", Kind.CLOCK: "time(6)",
        Kind.SPAN: "varchar(40)", Kind.UUID: "char(36)",
    },
}  # fmt: skip
_BYTES = {"sqlite": "blob", "postgresql": "bytea", "mysql": "longblob"}
_NESTED = {"sqlite": "text", "postgresql": "jsonb", "mysql": "json"}
_LARGE = {"sqlite": "text", "postgresql": "numeric", "mysql": "decimal(65)"}
_SIZED = re.compile(r"(?:var)?char(?:acter varying)?\((\d+)\)", re.I)
_KEPT = re.compile(r"uuid|inet|cidr|macaddr", re.I)
KEY_LENGTH = 255
"""Characters of a text that is part of a key where the server must know how many (MySQL protocol)."""


def quoter(dialect: str) -> Callable[[str], str]:
    """What quotes a name by the dialect's own rules. Raises: SendError on an unknown one."""
    from sqlalchemy.dialects import registry

    if dialect not in _TYPES:
        raise SendError(f"There is no dialect {dialect} for inserts.", f"There are {', '.join(_TYPES)}.")
    preparer = registry.load(dialect)(paramstyle="named").identifier_preparer  # others double each %
    return lambda name: str(preparer.quote(name))


def quoted_table(name: str, dialect: str) -> str:
    """A table's name with its schema, each part quoted where needed."""
    quote = quoter(dialect)
    return ".".join(quote(part) for part in name.split("."))


def type_of(field: Field, column: Column | None, dialect: str, in_key: bool = False) -> str:
    """The type that holds a column's values; `column` are the first of them, for what its kind leaves open."""
    if field.kind is Kind.OBJECT:
        return _type_of_objects(column, dialect)
    if field.kind is Kind.DECIMAL and column is not None and dialect == "mysql":
        return f"decimal(65, {max(column.scale, 4)})"
    if field.kind is Kind.TEXT:
        if dialect == "postgresql" and _KEPT.fullmatch(field.declared):
            return field.declared.lower()
        sized = _SIZED.fullmatch(field.declared)
        if sized and int(sized[1]) <= 16_000:
            return f"varchar({sized[1]})"
        if in_key and dialect == "mysql":
            return f"varchar({KEY_LENGTH})"
    return _TYPES[dialect][field.kind]


def _type_of_objects(column: Column | None, dialect: str) -> str:
    values = [v for v in column.values() if v is not None and v is not MISSING] if column is not None else []
    types = set(map(type, values))
    if types and types <= {bytes}:
        return _BYTES[dialect]
    if types and types <= {dict, list}:
        return _NESTED[dialect]
    if types and types <= {int, Decimal}:
        return _LARGE[dialect]
    return _TYPES[dialect][Kind.TEXT]


def create_table(
    table: str, fields: Sequence[Field], block: Sequence[Column], keys: Sequence[str], dialect: str
) -> str:
    """The statement that makes the table, without its semicolon; a primary key over `keys`."""
    quote = quoter(dialect)
    lines = []
    for place, field in enumerate(fields):
        column = block[place] if place < len(block) else None
        in_key = field.name in keys
        not_null = " not null" if in_key else ""
        lines.append(f"  {quote(field.name)} {type_of(field, column, dialect, in_key)}{not_null}")
    if keys:
        lines.append(f"  primary key ({', '.join(map(quote, keys))})")
    return f"create table {quoted_table(table, dialect)} (\n" + ",\n".join(lines) + "\n)"
