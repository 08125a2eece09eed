"""Blocks of the grid as rows that can be copied: as they stand there, with what is pending on them."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from nimble_otter.desktop.grid.model import RowsModel
from nimble_otter.desktop.grid.selection import Block
from nimble_otter.table.core.build import column_of
from nimble_otter.table.core.columns import Column
from nimble_otter.translation import tr

if TYPE_CHECKING:
    from nimble_otter.send import Rows
    from nimble_otter.stop import StopToken

COPY_FORMS = {
    "names": tr("the names of the columns"),
    "list": tr("as a list for IN (…)"),
    "csv": tr("as CSV"),
    "json": tr("as JSON"),
    "markdown": tr("as Markdown"),
    "sql": tr("as SQL inserts"),
}
"""Forms of a copy beside cells and cells with header, and their words."""


def block_rows(model: Any, block: Block, table: str) -> Rows:
    """A block of any model; the columns of stored rows are taken as they are, others from the values shown."""
    from dataclasses import replace

    from nimble_otter.send.format import BATCH, Rows

    places = range(block.left, block.right + 1)
    count = block.bottom - block.top + 1
    stored = model.stored(block.top, block.bottom + 1) if isinstance(model, RowsModel) else None
    made: list[Column] | None = None
    if stored is None:  # what is pending, groups and rows of a tree are taken here, in the window's own thread
        made = [column_of([model.value(p, c) for p in range(block.top, block.bottom + 1)]) for c in places]
    fields = [model.field(c) for c in places]
    if made is not None:
        fields = [replace(field, kind=column.kind, form="") for field, column in zip(fields, made, strict=True)]

    def blocks(stop: StopToken) -> Iterator[Sequence[Column]]:
        for start in range(0, count, BATCH):
            stop.check()
            if made is not None:
                ids = np.arange(start, min(start + BATCH, count))
                yield [column.take(ids) for column in made]
            else:
                assert stored is not None
                ids, columns = stored
                yield [columns[c].take(ids[start : start + BATCH]) for c in places]

    return Rows(fields, blocks, count, table)
