"""Column types and CREATE TABLE for rows that become a table, in each dialect that is written to."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence

from nimble_otter.errors import SendError
from nimble_otter.sources.dialects import Dialect
from nimble_otter.sources.source import dialect_of
from nimble_otter.table import MISSING, Column, Field, Kind
from nimble_otter.translation import tr

_SIZED = re.compile(r"(?:var)?char(?:acter varying)?\((\d+)\)", re.I)


def quoter(dialect: Dialect) -> Callable[[str], str]:
    """What quotes a name by the dialect's own rules."""
    preparer = dialect.spoken()(paramstyle="named").identifier_preparer  # type: ignore[call-arg] # others double each %
    return lambda name: str(preparer.quote(name))


def quoted_table(name: str, dialect: Dialect) -> str:
    """A table's name with its schema, each part quoted where needed."""
    quote = quoter(dialect)
    return ".".join(quote(part) for part in name.split("."))


def type_of(field: Field, column: Column | None, dialect: Dialect, in_key: bool = False) -> str:
    """The type that holds a column's values; `column` are the first of them, for what its kind leaves open. The same
    server's own type where it is known, else as docs/types.md has it. Raises: SendError."""
    if field.exact is not None and field.server in dialect.keys:
        return dialect.own_type(field.exact, in_key)
    if field.kind is Kind.OBJECT:
        return _type_of_objects(field, column, dialect)
    if field.kind is Kind.DECIMAL:
        return dialect.decimal_type(field, column)
    if field.kind is Kind.TEXT:
        if dialect.kept_text_types is not None and dialect.kept_text_types.fullmatch(field.declared):
            return field.declared.lower()
        sized = None if dialect_of(field.server).is_loose else _SIZED.fullmatch(field.declared)
        if sized and int(sized[1]) <= 16_000:
            return f"varchar({sized[1]})"
        return dialect.text_column(in_key)
    return dialect.types[field.kind]


def _type_of_objects(field: Field, column: Column | None, dialect: Dialect) -> str:
    values = [v for v in column.values() if v is not None and v is not MISSING] if column is not None else []
    types = set(map(type, values))
    if types and types <= {bytes}:
        return dialect.bytes_type
    if types and types <= {dict, list}:
        return dialect.nested_type
    if bytes in types and not dialect.is_loose:
        text = tr("{field_name} holds bytes among other values, which one column there can't.", field_name=field.name)
        raise SendError(text, tr("Leave it out, or filter such rows out."))
    return dialect.mixed_type(field, types)


def create_table(
    table: str, fields: Sequence[Field], block: Sequence[Column], keys: Sequence[str], dialect: Dialect
) -> str:
    """The statement that makes the table, without its semicolon; a primary key over `keys`."""
    quote = quoter(dialect)
    lines = []
    for index, field in enumerate(fields):
        column = block[index] if index < len(block) else None
        in_key = field.name in keys
        declared = type_of(field, column, dialect, in_key)
        declared = f"{dialect.key_type(declared)} not null" if in_key else declared
        lines.append(f"  {quote(field.name)} {declared}".rstrip())
    if keys:
        lines.append(f"  primary key ({', '.join(map(quote, keys))})")
    return f"create table {quoted_table(table, dialect)} (\n" + ",\n".join(lines) + "\n)" + dialect.table_end(keys)
