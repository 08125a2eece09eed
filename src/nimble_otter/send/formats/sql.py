"""SQL inserts for a chosen dialect (ISO 9075), several rows a statement, with CREATE TABLE if wanted.

Names are quoted by the dialect; literals are written column by column, as the dialects' own tools read them.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator, Mapping
from decimal import Decimal
from typing import Any, BinaryIO

from nimble_otter.errors import SendError
from nimble_otter.send.format import Option, Rows
from nimble_otter.stop import StopToken
from nimble_otter.table import MISSING, Kind
from nimble_otter.table.show import plain

_TYPES: dict[str, dict[Kind, str]] = {
    "sqlite": {
        Kind.INT: "integer", Kind.FLOAT: "real", Kind.BOOL: "boolean", Kind.TIME: "timestamp", Kind.DATE: "date",
        Kind.DECIMAL: "numeric", Kind.TEXT: "text", Kind.OBJECT: "blob", Kind.ZONED: "text", Kind.CLOCK: "time",
        Kind.SPAN: "text",
    },
    "postgresql": {
        Kind.INT: "bigint", Kind.FLOAT: "double precision", Kind.BOOL: "boolean", Kind.TIME: "timestamp",
        Kind.DATE: "date", Kind.DECIMAL: "numeric", Kind.TEXT: "text", Kind.OBJECT: "text",
        Kind.ZONED: "timestamp with time zone", Kind.CLOCK: "time", Kind.SPAN: "interval",
    },
    "mysql": {
        Kind.INT: "bigint", Kind.FLOAT: "double", Kind.BOOL: "boolean", Kind.TIME: "datetime(6)", Kind.DATE: "date",
        Kind.DECIMAL: "decimal(65, 18)", Kind.TEXT: "longtext", Kind.OBJECT: "longtext", Kind.ZONED: "varchar(40)",
        Kind.CLOCK: "time(6)", Kind.SPAN: "varchar(40)",
    },
}  # fmt: skip


class _Sql:
    key = "sql"
    word = "SQL inserts"
    suffix = ".sql"
    is_text = True
    options = (
        Option(
            "dialect",
            "For",
            "choice",
            "sqlite",
            (("sqlite", "SQLite"), ("postgresql", "PostgreSQL"), ("mysql", "MariaDB and MySQL")),
        ),
        Option("table", "Table", "text", ""),
        Option("create", "With CREATE TABLE", "yes/no", False),
        Option("rows", "Rows a statement", "choice", "500", (("1", "1"), ("100", "100"), ("500", "500"))),
    )

    def write(self, rows: Rows, stream: BinaryIO, options: Mapping[str, Any], stop: StopToken) -> Iterator[int]:
        from sqlalchemy.dialects import registry

        dialect = str(options["dialect"])
        if dialect not in _TYPES:
            raise SendError(f"There is no dialect {dialect} for inserts.", f"There are {', '.join(_TYPES)}.")
        quote = registry.load(dialect)().identifier_preparer.quote
        table = ".".join(quote(part) for part in (str(options["table"]) or rows.table).split("."))
        names = [str(quote(name)) for name in rows.names]
        if options["create"]:
            types = [_TYPES[dialect][field.kind] for field in rows.fields]
            inner = ",\n".join(f"  {name} {type_}" for name, type_ in zip(names, types, strict=True))
            stream.write(f"create table {table} (\n{inner}\n);\n".encode())
        head = f"insert into {table} ({', '.join(names)}) values\n"
        size = max(1, int(options["rows"]))
        done = 0
        for batch in rows.batches(stop):
            columns = [
                [_literal(v, dialect, f.form) for v in values] for f, values in zip(rows.fields, batch, strict=True)
            ]
            lines = [f"  ({', '.join(row)})" for row in zip(*columns, strict=True)]
            for start in range(0, len(lines), size):
                text = head + ",\n".join(lines[start : start + size]) + ";\n"
                stream.write(text.encode("utf-8", "surrogateescape"))
            done += len(lines)
            yield done
        yield done


def _literal(value: Any, dialect: str, form: str) -> str:
    if value is None or value is MISSING:
        return "null"
    if isinstance(value, bool):
        return str(int(value)) if dialect == "sqlite" else ("true" if value else "false")
    if isinstance(value, int):
        return str(value)
    if isinstance(value, float):
        return _float(value, dialect)
    if isinstance(value, Decimal):
        return format(value, "f")
    if isinstance(value, bytes):
        return f"'\\x{value.hex()}'" if dialect == "postgresql" else f"x'{value.hex()}'"
    if isinstance(value, (dt.date, dt.datetime)) and dialect == "sqlite" and form:
        from nimble_otter.table.forms import render

        value = render(value, form)
    return _text(plain(value), dialect)


def _float(value: float, dialect: str) -> str:
    if value == value and value not in (float("inf"), float("-inf")):
        return repr(value)
    word = "NaN" if value != value else ("Infinity" if value > 0 else "-Infinity")
    if dialect == "postgresql":
        return f"'{word}'"
    if dialect == "sqlite" and value == value:
        return "9e999" if value > 0 else "-9e999"
    raise SendError(f"{dialect} has no {word}.", "Filter such rows out, or send another format.")


def _text(text: str, dialect: str) -> str:
    if "\0" in text and dialect == "postgresql":
        raise SendError("PostgreSQL can't hold a text with a zero character.", "Filter such rows out.")
    if dialect == "sqlite" and "\0" in text:
        return f"cast(x'{text.encode('utf-8', 'surrogateescape').hex()}' as text)"
    text = text.replace("'", "''")
    return "'" + (text.replace("\\", "\\\\") if dialect == "mysql" else text) + "'"


FORMAT = _Sql()
