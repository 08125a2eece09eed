"""Typing goes to the next row that begins so, where the cells can't be typed over."""

from __future__ import annotations

import time

import numpy as np

from nimble_otter.desktop.grid.grid import Grid
from nimble_otter.desktop.grid.model import GroupsModel, RowsModel
from nimble_otter.desktop.pulls.workspace import Workspace
from nimble_otter.desktop.runtime.jobs import LOCAL
from nimble_otter.stop import StopToken
from nimble_otter.table import MISSING, View
from nimble_otter.table.ops.search import said
from nimble_otter.translation import tr

_PAUSE_S = 1.0
"""After so long a letter begins a new word."""
_BLOCK = 4096


class Jump:
    """One for a grid."""

    def __init__(self, workspace: Workspace, grid: Grid) -> None:
        self._workspace, self._grid, self._text, self._at = workspace, grid, "", 0.0

    def type(self, column: int, text: str) -> None:
        """One more letter: to the next row, from the current one on, whose cell in a column begins with the word."""
        grid, open_pull = self._grid, self._workspace.pull
        now = time.monotonic()
        self._text = (self._text if now - self._at < _PAUSE_S else "") + text
        self._at = now
        word, model, start = self._text.casefold(), grid.model, max(0, grid.selection.current[0])
        start += len(self._text) == 1  # a new word looks further down
        if isinstance(model, GroupsModel):
            order = [*range(start, model.rows), *range(min(start, model.rows))]
            texts = ((n, model.line(n).cells[column].text) for n in order)
            self._go(next((n for n, shown in texts if shown.casefold().startswith(word)), -1), column)
        elif isinstance(model, RowsModel) and open_pull is not None and open_pull.shaped is not None:
            view, index = open_pull.shaped.view, model.columns[column].place
            open_pull.jobs.submit(LOCAL, "jump", lambda stop, _: find_beginning(view, index, word, start, stop),
                                lambda found: self._go(found, column))  # fmt: skip

    def _go(self, position: int, column: int) -> None:
        if position < 0:
            self._workspace.say(tr("No row of this column begins with {text}.", text=self._text), False)
            return
        self._grid.go(position, column)


def find_beginning(view: View, place: int, word: str, start: int, stop: StopToken) -> int:
    """The first position from `start` on, round the end, whose value begins with a word in small letters; or -1."""
    column, count = view.table.columns[place], len(view)
    for block in (*range(start, count, _BLOCK), *range(0, min(start, count), _BLOCK)):
        stop.check()
        ids = view.row_ids(block, block + _BLOCK)
        for offset, value in enumerate(column.values(np.asarray(ids))):
            if value is not None and value is not MISSING and said(value).casefold().startswith(word):
                return int(block + offset)
    return -1
