"""The grid as a table for those who don't see it: rows, columns, headers, the current cell and the selection."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from PySide6.QtCore import (
    QAbstractTableModel,
    QItemSelection,
    QItemSelectionModel,
    QModelIndex,
    QPersistentModelIndex,
    Qt,
)
from PySide6.QtWidgets import QTableView

from nimble_otter.desktop.grid.accessibility import spoken_cell
from nimble_otter.desktop.grid.selection import Block
from nimble_otter.desktop.kit.spoken_list import child_of, lay_unseen, tell_focus
from nimble_otter.table.text.show import grouped
from nimble_otter.translation import tr
from nimble_otter.values import Value

if TYPE_CHECKING:
    from nimble_otter.desktop.grid.canvas import GridCanvas

MOST = 100_000
"""Rows that the table has at a time: those around the current one."""
Index = QModelIndex | QPersistentModelIndex


class _Rows(QAbstractTableModel):
    def __init__(self, grid: GridCanvas) -> None:
        super().__init__()
        self._grid = grid
        self.base, self._shape = 0, (0, 0)

    def take(self, base: int) -> None:
        """Have the rows from a position on, as they are now."""
        shape = min(MOST, max(0, self._grid.rows - base)), len(self._grid.widths)
        if (base, shape) != (self.base, self._shape):
            self.beginResetModel()
            self.base, self._shape = base, shape
            self.endResetModel()

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008 - the toolkit's own way
        return 0 if parent.isValid() else self._shape[0]

    def columnCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008 - the toolkit's own way
        return 0 if parent.isValid() else self._shape[1]

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Value:
        position = self.base + index.row()
        if role not in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.AccessibleTextRole) or position >= self._grid.rows:
            return None
        return spoken_cell(self._grid.line(position), index.column())

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Value:
        model = self._grid.model
        if role not in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.AccessibleTextRole) or model is None:
            return None
        if orientation == Qt.Orientation.Vertical:
            return str(self.base + section + 1)
        return model.columns[section].title or model.columns[section].name if section < len(model.columns) else None


class SpokenTable(QTableView):
    """See `kit.spoken_list`."""

    def __init__(self, grid: GridCanvas) -> None:
        super().__init__(grid.viewport())  # which alone is read of what a scrolled area has inside
        self._rows = _Rows(grid)
        self.setModel(self._rows)
        for header in (self.horizontalHeader(), self.verticalHeader()):
            header.hide()
        lay_unseen(self, grid.viewport())

    def follow(self, rows: int, current: tuple[int, int], blocks: Sequence[Block], aloud: bool) -> None:
        """Have the current cell and the selection; `aloud`: the grid has the focus."""
        position, column = current
        base = max(0, position) // MOST * MOST
        owner = self.parentWidget()
        if owner is not None:  # which moves what is inside when it scrolls
            self.setGeometry(owner.rect())
        self._rows.take(base)
        self.setAccessibleName(tr("Rows"))
        self.setAccessibleDescription(
            tr("{rows} rows, {columns} columns", rows=grouped(rows), columns=self._rows.columnCount())
        )
        keep = QItemSelectionModel.SelectionFlag.NoUpdate
        chosen = QItemSelection()
        for block in blocks[-1:]:
            top, bottom = block.top - base, min(block.bottom - base, self._rows.rowCount() - 1)
            if 0 <= top <= bottom:
                chosen.select(self._rows.index(top, block.left), self._rows.index(bottom, block.right))
        model = self.selectionModel()
        model.select(chosen, QItemSelectionModel.SelectionFlag.ClearAndSelect)
        index = self._rows.index(position - base, column)
        if index.isValid():
            model.setCurrentIndex(index, keep)
            self.scrollTo(index)
            if aloud:
                tell_focus(self, child_of(self._rows, index.row(), column))
