"""Markdown tables (GitHub Flavored Markdown, 4.10): for notes, tickets and pages kept as text."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from nimble_otter.send.format import Option, Output, Rows
from nimble_otter.send.texts import GUARD, SPELLING, joined, put_empty, spelled_guarded, spelling
from nimble_otter.translation import tr


class _Markdown:
    key = "markdown"
    word = "Markdown"
    suffix = ".md"
    place = 9
    is_text = True
    many = False
    changes = ()
    options = (
        Option("title", tr("Title"), "text", ""),
        Option("empty", tr("Empty values"), "text", ""),
        GUARD,
        *SPELLING,
    )

    def write(self, rows: Rows, out: Output) -> Iterator[int]:
        spell, put = spelling(out), out.stream.write
        if out.options["title"]:
            put(f"# {out.options['title']}\n\n".encode())
        heads = [_escaped([name.encode("utf-8", "surrogateescape")])[0] for name in rows.names]
        put(joined([[head] for head in heads], 1, b"| ", b" | ", b" |\n"))
        put("|".join(["", *("---:" if field.is_number else "---" for field in rows.fields), ""]).encode() + b"\n")
        empty, done = str(out.options["empty"]).encode(), 0
        for block in rows.blocks(out.stop):
            cells = []
            for field, column in zip(rows.fields, block, strict=True):
                texts = spelled_guarded(column, field, spell, out)
                cells.append(put_empty(_escaped(texts), column, empty))
            done += len(cells[0]) if cells else 0
            put(joined(cells, len(cells[0]) if cells else 0, b"| ", b" | ", b" |\n"))
            yield done
        yield done

    def count(self, path: Path, out: Output) -> int:
        with path.open("rb") as stream:
            return sum(line.startswith(b"|") for line in stream) - 2


def _escaped(texts: list[bytes]) -> list[bytes]:
    """Signs that would end a cell or start a markup are escaped; a line end becomes a break."""
    block = b"\0".join(texts)
    if block.count(b"\0") != len(texts) - 1:
        texts = [text.replace(b"\0", "\ufffd".encode()) for text in texts]
        block = b"\0".join(texts)
    if not any(mark in block for mark in (b"|", b"\\", b"\n", b"\r", b"<", b"*", b"_", b"`", b"[")):
        return texts
    for mark in (b"\\", b"|", b"<", b"*", b"`", b"[", b"_"):
        block = block.replace(mark, b"\\" + mark)
    return block.replace(b"\r\n", b"<br>").replace(b"\n", b"<br>").replace(b"\r", b"<br>").split(b"\0")


FORMAT = _Markdown()
