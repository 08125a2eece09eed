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
_FAMILY = {"sqlite": "sqlite", "postgresql": "postgresql", "mariadb": "mysql", "mysql": "mysql"}
"""What a source speaks, as the dialect of statements."""
_SIZED = re.compile(r"(?:var)?char(?:acter varying)?\((\d+)\)", re.I)
_NUMERIC = re.compile(r"(?:numeric|decimal)\((\d+)(?:, ?(\d+))?\)(?: unsigned)?", re.I)
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
    """The type that holds a column's values; `column` are the first of them, for what its kind leaves open. The same
    server's own type where it is known, else as docs/types.md has it."""
    if field.exact is not None and _FAMILY.get(field.server) == dialect:
        return _own_type(field, dialect, in_key)
    if field.kind is Kind.OBJECT:
        return _type_of_objects(field, column, dialect)
    if field.kind is Kind.DECIMAL:
        return _decimal_type(field, column, dialect)
    if field.kind is Kind.TEXT:
        if dialect == "postgresql" and _KEPT.fullmatch(field.declared):
            return field.declared.lower()
        sized = _SIZED.fullmatch(field.declared) if field.server != "sqlite" else None  # where texts may be longer
        if sized and int(sized[1]) <= 16_000:
            return f"varchar({sized[1]})"
        if in_key and dialect == "mysql":
            return f"varchar({KEY_LENGTH})"
    return _TYPES[dialect][field.kind]


def _own_type(field: Field, dialect: str, in_key: bool) -> str:
    exact = field.exact or ""
    if dialect == "sqlite":
        return "" if exact.upper() == "ANY" else exact  # only strict tables know that word
    if not exact:  # a type of that database's own, which another may not have
        return _TYPES[dialect][Kind.TEXT]
    if dialect == "mysql" and in_key and re.match(r"(?:tiny|medium|long)?(?:text|blob)", exact):
        return f"varchar({KEY_LENGTH})"
    # without it this server fills in the time of the insert
    return f"{exact} null" if dialect == "mysql" and exact.startswith("timestamp") and not in_key else exact


def _decimal_type(field: Field, column: Column | None, dialect: str) -> str:
    """Decimals of one scale: as many digits as the server's type has, or as its source declares."""
    if dialect == "sqlite":
        is_long = column is not None and bool(((column.data >= 10**15) | (column.data <= -(10**15))).any())
        return "text" if is_long else "numeric"  # which rounds to 15 digits
    if dialect != "mysql":
        return "numeric"
    sized = _sized_number(field)
    return f"decimal({sized[0]}, {sized[1]})" if sized else f"decimal(65, {max(column.scale if column else 4, 4)})"


def _sized_number(field: Field) -> tuple[int, int] | None:
    """The digits of a decimal, and those behind its point, that its source declares, where MariaDB has them."""
    found = _NUMERIC.fullmatch(field.exact or field.declared)
    size, scale = (int(found[1]), int(found[2] or 0)) if found else (0, 0)
    return (size, scale) if 0 < size <= 65 and 0 <= scale <= min(30, size) else None


def _type_of_objects(field: Field, column: Column | None, dialect: str) -> str:
    values = [v for v in column.values() if v is not None and v is not MISSING] if column is not None else []
    types = set(map(type, values))
    if types and types <= {bytes}:
        return _BYTES[dialect]
    if types and types <= {dict, list}:
        return _NESTED[dialect]
    if dialect == "sqlite":
        return "" if types else "text"  # holds each value as it is
    if bytes in types:
        said = f"{field.name} holds bytes among other values, which one column there can't."
        raise SendError(said, "Leave it out, or filter such rows out.")
    if types and types <= {int, float, Decimal}:
        if float in types and types <= {int, float}:
            return _TYPES[dialect][Kind.FLOAT] if dialect == "mysql" else "numeric"
        if dialect == "postgresql":
            return "numeric"
        whole = types == {int}
        sized = _sized_number(field)
        return f"decimal({sized[0]}, {sized[1]})" if sized else "decimal(65)" if whole else "decimal(65, 30)"
    return _TYPES[dialect][Kind.TEXT]


def list_mark(field: Field, dialect: str) -> str:
    """What stands between the items of a column of lists that stays one; "" where it does not."""
    if dialect != "postgresql" or field.server != dialect or not (field.exact or "").endswith("[]"):
        return ""
    return ";" if (field.exact or "").startswith("box") else ","  # the one type with a mark of its own (typdelim)


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
        lines.append(f"  {quote(field.name)} {type_of(field, column, dialect, in_key)}".rstrip() + not_null)
    if keys:
        lines.append(f"  primary key ({', '.join(map(quote, keys))})")
    return f"create table {quoted_table(table, dialect)} (\n" + ",\n".join(lines) + "\n)"
