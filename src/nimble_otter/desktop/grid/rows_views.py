"""Rows as a table, a tree or JSON: one current row for all three, views made when they are first wanted. A chart of
them stands beside, or in their place."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, Signal
from PySide6.QtWidgets import QStackedWidget

from nimble_otter.desktop.grid.document_views import JsonView, TreeView
from nimble_otter.desktop.grid.grid import Grid
from nimble_otter.desktop.grid.side_by_side import SideBySide
from nimble_otter.desktop.pulls.workspace import Workspace

if TYPE_CHECKING:
    from nimble_otter.table import View

TABLE, TREE, JSON, CHART_ALONE, BOTH = range(5)


class RowsViews(QObject):
    """Keeps the view in sight in step with the grid, which stays the owner of the selection."""

    offered = Signal(bool, bool, int)
    """Whether rows are shown, whether they are documents (which have further views), and which view is in sight."""
    chart_wanted = Signal(bool, bool)
    """Whether a chart of the rows is to be in sight, and whether the rows are too."""

    def __init__(self, workspace: Workspace, grid: Grid, side: SideBySide, stack: QStackedWidget) -> None:
        super().__init__(stack)
        self._workspace, self._grid, self._side, self._stack = workspace, grid, side, stack
        self._made: dict[int, TreeView | JsonView] = {}
        self._shown: tuple[int, View | None] | None = None
        side.closed.connect(self.refresh)
        grid.current_changed.connect(lambda position, _: self._follow(position))

    def choose(self, place: int) -> None:
        """Show the rows of the present pull as a table, a tree or JSON."""
        open_pull = self._workspace.pull
        if open_pull is not None:
            open_pull.rows_as = place
            self.refresh()
            shown = self._stack.currentWidget()
            assert shown is not None
            if place != CHART_ALONE:
                shown.setFocus()

    def view(self, place: int) -> TreeView | JsonView:
        """The tree or JSON view, made when it is first needed."""
        if place not in self._made:
            made: TreeView | JsonView = TreeView() if place == TREE else JsonView()
            made.position_changed.connect(self._moved)
            self._stack.addWidget(made)
            self._made[place] = made
        return self._made[place]

    def refresh(self) -> None:
        """Bring the view in sight up to date with the rows shown."""
        open_pull = self._workspace.pull
        shaped = open_pull.shaped if open_pull is not None else None
        wanted = open_pull.rows_as if open_pull is not None and shaped is not None else TABLE
        is_chart = wanted in (CHART_ALONE, BOTH)
        index = TABLE if is_chart or (shaped is not None and shaped.grouped is not None) else wanted
        is_documents = open_pull is not None and (open_pull.is_documents or index != TABLE)
        self.offered.emit(shaped is not None, is_documents, wanted if is_chart else index)
        self.chart_wanted.emit(is_chart, wanted != CHART_ALONE)
        if self._side.is_open:
            self._side.refresh()
            return
        if index == TABLE or shaped is None:
            self._stack.setCurrentWidget(self._grid)
            self._shown = None
            return
        made = self.view(index)
        if self._shown is None or self._shown[0] != index or self._shown[1] is not shaped.view:
            self._shown = (index, shaped.view)
            made.show_rows(shaped.whole(), max(0, self._grid.selection.current[0]))
        self._stack.setCurrentWidget(made)

    def _follow(self, position: int) -> None:
        if self._shown is not None and position >= 0:
            self.view(self._shown[0]).go(position)

    def _moved(self, position: int) -> None:
        grid = self._grid
        if grid.selection.current[0] != position:
            grid.go(position, max(0, grid.selection.current[1]))
