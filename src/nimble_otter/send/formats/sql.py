"""SQL inserts for a chosen dialect (ISO 9075), several rows a statement, with CREATE TABLE if wanted.

Names are quoted by the dialect; literals are written column by column, so that they mean the same under every setting
of the server that changes how texts are read.
"""

from __future__ import annotations

import re
import shutil
from collections.abc import Iterator
from pathlib import Path

from nimble_otter.errors import SendError
from nimble_otter.send.ddl import create_table, quoted_table, quoter
from nimble_otter.send.format import Option, Output, Rows
from nimble_otter.send.literals import Literals
from nimble_otter.send.texts import woven
from nimble_otter.sources.source import dialect_of, written_dialects
from nimble_otter.table.core.columns import TEXT_BYTES
from nimble_otter.translation import tr

_TEXTS = re.compile(rb"'(?:[^']|'')*'|\"(?:[^\"]|\"\")*\"|`(?:[^`]|``)*`")
_PART = 1 << 18
_ROW = re.compile(rb"^  \(", re.M)


class _Sql:
    key = "sql"
    word = tr("SQL inserts")
    suffix = ".sql"
    place = 5
    is_text = True
    many = True
    changes = (("append", tr("add the statements below")),)
    options = (
        Option("dialect", tr("For"), "choice", "sqlite", written_dialects()),
        Option("table", tr("Table"), "text", "", hint=tr("as it is called")),
        Option("create", tr("With CREATE TABLE"), "yes/no", False),
        Option("drop", tr("Drop it first"), "yes/no", False, needs="create"),
        Option("key", tr("Primary key"), "text", "", needs="create", hint=tr("column, column")),
        Option("rows", tr("Rows a statement"), "number", 500),
        Option("transaction", tr("In one transaction"), "yes/no", False),
    )

    def write(self, rows: Rows, out: Output) -> Iterator[int]:
        options, put = out.options, out.stream.write
        dialect = dialect_of(str(options["dialect"]))
        size = max(1, options["rows"]) if dialect.takes_many_rows else 1
        name, quote = str(options["table"]) or rows.table, quoter(dialect)
        table = quoted_table(name, dialect)
        if out.existing is not None:
            with out.existing.open("rb") as old:
                shutil.copyfileobj(old, out.stream, 1 << 20)
        left_out = frozenset[str]() if options["create"] else rows.computed & set(rows.names)
        out.note(tr("columns that their table computes itself are left out"), len(left_out))
        kept = [index for index, name in enumerate(rows.names) if name not in left_out]
        names = [rows.names[index] for index in kept]
        if not names:
            raise SendError(tr("The table {name} computes every column that would go.", name=name), tr("Show another."))
        blocks = rows.blocks(out.stop)
        block = next(blocks, None)
        if options["transaction"] and dialect.begin:
            put(f"{dialect.begin};\n".encode())
        if options["create"]:
            if options["drop"]:
                put(dialect.drop_table(table).encode(*TEXT_BYTES))
            put((create_table(name, rows.fields, block or (), _keys(rows, options["key"]), dialect) + ";\n").encode())
        own = dialect.overrides_identity if rows.has_identity and not options["create"] else ""
        head = f"insert into {table} ({', '.join(map(quote, names))}){own} values\n".encode(*TEXT_BYTES)
        done, writer = 0, Literals(dialect, out)
        while block is not None:
            count = len(block[0]) if block else 0
            lead = [b",\n  ("] * count
            for index in range(-done % size, count, size):
                lead[index] = (b";\n" if done + index else b"") + head + b"  ("
            pieces: list[list[bytes] | bytes] = [lead]
            for index in kept:
                pieces += ([b", "] if index != kept[0] else []) + [writer.of(rows.fields[index], block[index])]
            put(woven([*pieces, b")"], count))
            done += count
            yield done
            block = next(blocks, None)
        put(b";\n" if done else b"")
        put(b"commit;\n" if options["transaction"] else b"")
        yield done

    def count(self, path: Path, out: Output) -> int:
        """Rows are lines of their own once texts and quoted names are taken out; read in parts, each whole in that."""
        number, rest = 0, b""
        with path.open("rb") as stream:
            while chunk := stream.read(_PART):
                out.stop.check()
                whole, rest = rest + chunk, b""
                cut = len(whole)
                while (cut := whole.rfind(b"\n", 0, cut)) > 0:
                    bare = _TEXTS.sub(b"", whole[:cut])
                    if not any(mark in bare for mark in (b"'", b'"', b"`")):
                        break
                cut = max(cut, 0)
                number += len(_ROW.findall(bare)) if cut else 0
                rest = whole[cut:]
        return number + len(_ROW.findall(_TEXTS.sub(b"", rest)))


def _keys(rows: Rows, typed: str) -> tuple[str, ...]:
    if not typed.strip():
        return rows.keys if set(rows.keys) <= set(rows.names) else ()
    keys = tuple(name.strip() for name in typed.split(",") if name.strip())
    for key in keys:
        if key not in rows.names:
            raise SendError(
                tr("The primary key names {key}, which is not a column.", key=key),
                tr("There are {names}.", names=", ".join(rows.names)),
            )
    return keys


FORMAT = _Sql()
