"""Cells on the clipboard: ours are kept exact beside what other programs get, and blocks from elsewhere are read."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from nimble_otter.desktop.grid.model import RowsModel
from nimble_otter.desktop.grid.selection import Block
from nimble_otter.pull.drafts import plain_in, plain_out

EXACT = "application/x-nimble-otter-cells"
MOST_EXACT = 200_000
"""Cells that are kept exact; of more only the text is."""
_CELL = re.compile(r'"((?:[^"]|"")*)"(?=[\t\n]|\Z)|([^\t\n]*)')


@dataclass(frozen=True, slots=True)
class Pasted:
    """A cell to paste: `text` as one types it (None: NULL), and the `value` itself where it was copied here. `is_own`:
    the text is exact, not a spreadsheet's."""

    text: str | None
    value: Any = None
    is_own: bool = False


def exact_cells(
    model: RowsModel, blocks: Sequence[Block], text_of: Callable[[object, int], str], header: bool
) -> bytes | None:
    """Blocks one below the other, as `read_exact` reads them; None where they are too many."""
    if sum(block.cells for block in blocks) > MOST_EXACT:
        return None
    lines = []
    for block in blocks:
        columns = range(block.left, block.right + 1)
        for position in range(block.top, block.bottom + 1):
            line = []
            for column in columns:
                value = model.value(position, column)
                text = None if value is None else text_of(value, model.columns[column].place)
                line.append([text, plain_out(value)])
            lines.append(line)
    return json.dumps({"cells": lines, "header": header}).encode()


def read_exact(data: bytes) -> list[list[Pasted]]:
    """Nothing where it is none of ours."""
    try:
        whole = json.loads(data)
        return [[Pasted(text, plain_in(value), True) for text, value in line] for line in whole["cells"]]
    except (ValueError, KeyError, TypeError):
        return []


def read_block(text: str) -> list[list[Pasted]]:
    """Clipboard text as lines of cells: tabs between, quotes around cells that hold tabs or line ends."""
    text = text.replace("\r\n", "\n").replace("\r", "\n")
    text = text[:-1] if text.endswith("\n") else text
    if not text:
        return []
    lines: list[list[Pasted]] = [[]]
    at = 0
    while True:
        match = _CELL.match(text, at)
        assert match is not None  # the other side of the pattern takes anything, nothing too
        quoted = match[1]
        lines[-1].append(Pasted(match[2] if quoted is None else quoted.replace('""', '"')))
        at = match.end()
        if at >= len(text):
            return lines
        if text[at] == "\n":
            lines.append([])
        at += 1


def columns_named(line: Sequence[Pasted], names: Sequence[str], left: int) -> list[int] | None:
    """Where the columns stand that the first line of a block names; None where it is no header line."""
    known = {name.casefold(): at for at, name in reversed(list(enumerate(names)))}
    lines = [(cell.text or "").strip().casefold() for cell in line]
    if not all(name in known for name in lines) or len(set(lines)) < len(lines):
        return None
    here = [name.casefold() for name in names[left : left + len(lines)]]
    return list(range(left, left + len(lines))) if here == lines else [known[name] for name in lines]
