"""Rows as a table, a tree or JSON: one current row for all three, views made when they are first wanted."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QObject

from nimble_otter.desktop.views.document_views import JsonView, TreeView

if TYPE_CHECKING:
    from nimble_otter.desktop.window import Window
    from nimble_otter.table import View

TABLE, TREE, JSON = 0, 1, 2


class RowsViews(QObject):
    """Keeps the view in sight in step with the grid, which stays the owner of the selection."""

    def __init__(self, window: Window) -> None:
        super().__init__(window)
        self._window = window
        self._made: dict[int, TreeView | JsonView] = {}
        self._shown: tuple[int, View | None] | None = None
        window.status.view_chosen.connect(self.choose)
        window.grid.current_changed.connect(lambda position, _: self._follow(position))

    def choose(self, place: int) -> None:
        """Show the rows of the present pull as a table, a tree or JSON."""
        session = self._window.pull
        if session is not None:
            session.rows_as = place
            self.refresh()
            self._window.rows_stack.currentWidget().setFocus()

    def view(self, place: int) -> TreeView | JsonView:
        if place not in self._made:
            made: TreeView | JsonView = TreeView() if place == TREE else JsonView()
            made.position_changed.connect(self._moved)
            self._window.rows_stack.addWidget(made)
            self._made[place] = made
        return self._made[place]

    def refresh(self) -> None:
        """Bring the view in sight up to date with the rows shown."""
        session = self._window.pull
        shaped = session.shaped if session is not None else None
        place = session.rows_as if session is not None and shaped is not None and shaped.grouped is None else TABLE
        offered = session is not None and shaped is not None and (session.is_documents or place != TABLE)
        self._window.status.show_views(offered, place)
        if self._window.side.is_open:
            self._window.side.refresh()
            return
        if place == TABLE or shaped is None:
            self._window.rows_stack.setCurrentWidget(self._window.grid)
            self._shown = None
            return
        made = self.view(place)
        if self._shown is None or self._shown[0] != place or self._shown[1] is not shaped.view:
            self._shown = (place, shaped.view)
            made.show_rows(shaped.whole(), max(0, self._window.grid.selection.current[0]))
        self._window.rows_stack.setCurrentWidget(made)

    def _follow(self, position: int) -> None:
        if self._shown is not None and position >= 0:
            self.view(self._shown[0]).go(position)

    def _moved(self, position: int) -> None:
        grid = self._window.grid
        if grid.selection.current[0] != position:
            grid.go(position, max(0, grid.selection.current[1]))
