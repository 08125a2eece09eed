"""JSON Lines: one JSON text (RFC 8259) a line, for programs that read row by row."""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from pathlib import Path

from nimble_otter.send.format import Output, Rows
from nimble_otter.send.json_texts import OPTIONS, json_blocks
from nimble_otter.translation import tr


class _JsonLines:
    key = "jsonl"
    word = tr("JSON Lines")
    suffix = ".jsonl"
    place = 4
    is_text = True
    many = False
    changes = (("append", tr("add the rows below")),)
    options = OPTIONS

    def write(self, rows: Rows, out: Output) -> Iterator[int]:
        if out.existing is not None and out.existing.stat().st_size:
            with out.existing.open("rb") as old:
                shutil.copyfileobj(old, out.stream, 1 << 20)
                old.seek(-1, 2)
                out.stream.write(b"" if old.read() == b"\n" else b"\n")
        done = 0
        for lines, whole, count in json_blocks(rows, out):
            out.stream.write(b"".join(line + b"\n" for line in lines) if lines else whole)
            done += count
            yield done
        yield done

    def count(self, path: Path, out: Output) -> int:
        with path.open("rb") as stream:
            return sum(block.count(b"\n") for block in iter(lambda: stream.read(1 << 20), b""))


FORMAT = _JsonLines()
