"""Plain aligned text: columns of even width for a mail or a terminal; figures stand at the right.

The widths are those of the widest values, so all rows are looked at before the first is written.
"""

from __future__ import annotations

import unicodedata
from collections.abc import Iterator
from pathlib import Path

from nimble_otter.send.format import Option, Output, Rows
from nimble_otter.send.texts import GUARD, SPELLING, put_empty, spelled_guarded, spelling
from nimble_otter.table.core.columns import TEXT_BYTES
from nimble_otter.values import Value

_LINES = str.maketrans({"\n": "⏎", "\r": "⏎", "\t": " ", "\0": "\ufffd"})


class _Text:
    key = "text"
    word = "Aligned text"
    suffix = ".txt"
    place = 10
    is_text = True
    many = False
    changes = ()
    options = (
        Option("header", "Header row", "yes/no", True),
        Option("empty", "Empty values", "text", ""),
        Option("most", "Widest column", "number", 60),
        GUARD,
        *SPELLING,
    )

    def write(self, rows: Rows, out: Output) -> Iterator[int]:
        spell, most = spelling(out), max(4, out.options["most"])
        empty = str(out.options["empty"]).encode()
        right = [field.is_number for field in rows.fields]
        names = [_cut(name.translate(_LINES), most) for name in rows.names]
        widths = [_width(name) if out.options["header"] else 0 for name in names]
        kept: list[list[list[str]]] = []
        for block in rows.blocks(out.stop):
            cells = []
            for index, (field, column) in enumerate(zip(rows.fields, block, strict=True)):
                texts = put_empty(spelled_guarded(column, field, spell, out), column, empty)
                words = [_cut(out.whole(t.decode(*TEXT_BYTES)).translate(_LINES), most) for t in texts]
                cut = sum(word.endswith("…") for word in words)
                out.note(f"values wider than {most} characters are cut", cut)
                widths[index] = max(widths[index], max(map(_width, words), default=0))
                cells.append(words)
            kept.append(cells)
        if out.options["header"]:
            rule = "  ".join("-" * width for width in widths)
            out.stream.write(f"{_line(names, widths, right)}\n{rule}\n".encode("utf-8", "replace"))
        done = 0
        for cells in kept:
            out.stop.check()
            lines = [_line(row, widths, right) + "\n" for row in zip(*cells, strict=True)]
            out.stream.write("".join(lines).encode("utf-8", "replace"))
            done += len(lines)
            yield done
        yield done

    def count(self, path: Path, out: Output) -> int:
        with path.open("rb") as stream:
            return sum(1 for _ in stream) - 2 * bool(out.options["header"])


def _width(text: str) -> int:
    """Columns of a terminal: wide signs of East Asia take two, marks upon others none (Unicode TR 11)."""
    if text.isascii():
        return len(text)
    return sum(0 if unicodedata.combining(c) else 2 if unicodedata.east_asian_width(c) in "WF" else 1 for c in text)


def _cut(text: str, most: int) -> str:
    return text if len(text) <= most else text[: most - 1] + "…"


def _line(row: Value, widths: list[int], right: list[bool]) -> str:
    parts = []
    for text, width, is_right in zip(row, widths, right, strict=True):
        blank = " " * (width - _width(text))
        parts.append(blank + text if is_right else text + blank)
    return "  ".join(parts).rstrip()


FORMAT = _Text()
