"""Plain aligned text: columns of even width for a mail or a terminal; figures stand at the right.

The widths are those of the widest values, so all rows are looked at before the first is written.
"""

from __future__ import annotations

import unicodedata
from collections.abc import Iterator
from itertools import repeat
from pathlib import Path

from nimble_otter.send.format import Option, Output, Rows
from nimble_otter.send.texts import GUARD, SPELLING, put_empty, spelled_guarded, spelling
from nimble_otter.table.core.columns import TEXT_BYTES
from nimble_otter.translation import tr

_ODD = frozenset(b"\n\r\t")
_LINES = str.maketrans({"\n": "⏎", "\r": "⏎", "\t": " ", "\0": "\ufffd"})


class _Text:
    key = "text"
    word = tr("Aligned text")
    suffix = ".txt"
    place = 10
    is_text = True
    many = False
    changes = ()
    options = (
        Option("header", tr("Header row"), "yes/no", True),
        Option("empty", tr("Empty values"), "text", ""),
        Option("most", tr("Widest column"), "number", 60),
        GUARD,
        *SPELLING,
    )

    def write(self, rows: Rows, out: Output) -> Iterator[int]:
        spell, most = spelling(out), max(4, out.options["most"])
        empty = str(out.options["empty"]).encode()
        right = [field.is_number for field in rows.fields]
        names = [_cut(name.translate(_LINES), most) for name in rows.names]
        widths = [_width(name) if out.options["header"] else 0 for name in names]
        kept: list[list[_Cells]] = []
        for block in rows.blocks(out.stop):
            cells = []
            for index, (field, column) in enumerate(zip(rows.fields, block, strict=True)):
                texts = put_empty(spelled_guarded(column, field, spell, out), column, empty)
                cells.append(_Cells(texts, most, out))
                widths[index] = max(widths[index], cells[-1].width)
            kept.append(cells)
        if out.options["header"]:
            rule = "  ".join("-" * width for width in widths)
            heads = (_padded(name, width, by) for name, width, by in zip(names, widths, right, strict=True))
            out.stream.write(f"{'  '.join(heads).rstrip(' ')}\n{rule}\n".encode("utf-8", "replace"))
        done = 0
        for cells in kept:
            out.stop.check()
            columns = [own.padded(width, by) for own, width, by in zip(cells, widths, right, strict=True)]
            lines = list(map(str.rstrip, map("  ".join, zip(*columns, strict=True)), repeat(" ")))
            out.stream.write("\n".join([*lines, ""]).encode("utf-8", "replace"))
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


def _padded(text: str, width: int, is_right: bool) -> str:
    blanks = " " * (width - _width(text))
    return blanks + text if is_right else text + blanks


def _cut(text: str, most: int) -> str:
    return text if len(text) <= most else text[: most - 1] + "…"


class _Cells:
    """The cells of a column over some rows, `width` wide at most: all at once where they are of ASCII."""

    def __init__(self, texts: list[bytes], most: int, out: Output) -> None:
        block = b"\0".join(texts)
        self._is_plain = block.isascii() and _ODD.isdisjoint(block) and block.count(b"\0") == max(0, len(texts) - 1)
        if self._is_plain:
            self._words = block.decode("ascii").split("\0") if texts else []
        else:
            self._words = [out.whole(text.decode(*TEXT_BYTES)).translate(_LINES) for text in texts]
        if max(map(len, self._words), default=0) > most:
            out.note(
                tr("values wider than {most} characters are cut", most=most),
                sum(len(word) > most for word in self._words),
            )
            self._words = [_cut(word, most) for word in self._words]
            self._is_plain = False
        self.width = max(map(len if self._is_plain else _width, self._words), default=0)

    def padded(self, width: int, is_right: bool) -> Iterator[str]:
        """Each cell with blanks before or behind it."""
        if self._is_plain:
            return map(str.rjust if is_right else str.ljust, self._words, repeat(width))
        return (_padded(word, width, is_right) for word in self._words)


FORMAT = _Text()
