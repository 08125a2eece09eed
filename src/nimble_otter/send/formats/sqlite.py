"""An SQLite database file: a table with the rows, in a new file or one that is there."""

from __future__ import annotations

import errno
import shutil
import sqlite3
from collections.abc import Iterator
from contextlib import closing
from decimal import Decimal
from pathlib import Path
from typing import Any

import numpy as np

from nimble_otter.errors import SendError
from nimble_otter.send.ddl import create_table, quoter
from nimble_otter.send.format import Option, Output, Rows
from nimble_otter.send.texts import even_times
from nimble_otter.sources.dialects.sqlite import SQLITE
from nimble_otter.table import MISSING, Column, Field, Kind
from nimble_otter.table.text.show import plain
from nimble_otter.table.text.text_format import render
from nimble_otter.translation import tr
from nimble_otter.values import Value


class _Sqlite:
    key = "sqlite"
    word = tr("SQLite file")
    suffix = ".sqlite"
    place = 6
    is_text = False
    many = True
    changes = (("within", tr("replace this table only")), ("append", tr("add the rows to the table")))
    options = (
        Option("table", tr("Table"), "text", "", hint=tr("as it is called")),
        Option("key", tr("Primary key"), "text", "", hint=tr("column, column")),
    )

    def write(self, rows: Rows, out: Output) -> Iterator[int]:
        if out.existing is not None:
            with out.existing.open("rb") as old:
                shutil.copyfileobj(old, out.stream, 1 << 20)
            out.stream.flush()
        name, quote = str(out.options["table"]) or rows.table, quoter(SQLITE)
        out.part = name
        assert out.path is not None
        try:
            with closing(sqlite3.connect(out.path, isolation_level=None)) as base:
                base.execute("pragma journal_mode = off")
                base.execute("pragma synchronous = off")
                yield from _fill(base, rows, out, name, quote)
        except sqlite3.Error as problem:
            if getattr(problem, "sqlite_errorcode", 0) in (sqlite3.SQLITE_FULL, sqlite3.SQLITE_IOERR_WRITE):
                raise OSError(errno.ENOSPC, tr("no space")) from problem  # told as of any other file
            raise SendError(
                tr("The table {name} can't be written: {problem}.", name=name, problem=problem),
                tr("Check its columns and its key."),
            ) from problem
        out.stream.seek(0, 2)

    def count(self, path: Path, out: Output) -> int:
        with closing(sqlite3.connect(f"file:{path}?mode=ro", uri=True)) as base:
            if not base.execute("select 1 from sqlite_master where name = ? collate nocase", (out.part,)).fetchone():
                return 0
            return int(base.execute(f"select count(*) from {quoter(SQLITE)(out.part)}").fetchone()[0])


def _fill(base: sqlite3.Connection, rows: Rows, out: Output, name: str, quote: Any) -> Iterator[int]:
    table = quote(name)
    blocks = rows.blocks(out.stop)
    block = next(blocks, None)
    base.execute("begin")
    if out.mode == "within":
        base.execute(f"drop table if exists {table}")
    is_there = base.execute("select 1 from sqlite_master where name = ? collate nocase", (name,)).fetchone()
    if is_there and out.mode != "append":
        raise SendError(tr("The file has a {name} already.", name=name), tr("Name another table."))
    if not is_there:
        keys = tuple(k.strip() for k in str(out.options["key"]).split(",") if k.strip()) or rows.keys
        keys = keys if set(keys) <= set(rows.names) else ()
        # the name is one table here, whatever dots it holds
        text = create_table("t", rows.fields, block or (), keys, SQLITE).partition("(")[2]
        base.execute(f"create table {table} ({text}")
    marks = ", ".join("?" * len(rows.fields))
    insert = f"insert into {table} ({', '.join(map(quote, rows.names))}) values ({marks})"
    done = 0
    while block is not None:
        columns = [_stored(field, column, out) for field, column in zip(rows.fields, block, strict=True)]
        base.executemany(insert, zip(*columns, strict=True))
        done += len(columns[0]) if columns else 0
        yield done
        block = next(blocks, None)
    base.execute("commit")
    yield done


def _stored(field: Field, column: Column, out: Output) -> list[Value]:
    """Values as SQLite holds them; decimals and large whole numbers as text, so that none is rounded."""
    if column.kind is Kind.FLOAT:
        out.note(tr("numbers that are NaN are NULL: SQLite has none"), int(np.isnan(column.data).sum()))
    values = column.values() if field.form else even_times(column)
    if column.kind in (Kind.INT, Kind.FLOAT, Kind.UUID, Kind.TEXT) and column.empty is None:
        return [out.whole(v) for v in values] if column.kind is Kind.TEXT else values
    return [_one(value, field, out) for value in values]


def _one(value: object, field: Field, out: Output) -> object:
    if value is None or value is MISSING:
        return None
    if isinstance(value, bool):
        return int(value)
    if isinstance(value, (float, bytes)):
        return value
    if isinstance(value, int):
        return value if -(1 << 63) <= value < 1 << 63 else str(value)
    if isinstance(value, Decimal):
        return format(value, "f")
    return out.whole(plain(render(value, field.form)))


FORMAT = _Sqlite()
