"""A nested value opened in place: a small table under its row, over the grid."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from PySide6.QtCore import QEvent, QObject, QRect, Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QFrame, QVBoxLayout

from nimble_otter.changes import Edits
from nimble_otter.desktop.grid.canvas import HEAD
from nimble_otter.desktop.grid.grid import Grid
from nimble_otter.desktop.grid.model import RowsModel, model_for
from nimble_otter.desktop.kit import tokens
from nimble_otter.desktop.kit.widgets import ElidedLabel, button, label, row
from nimble_otter.pull.shaped import all_rows
from nimble_otter.table import MISSING, Field, Table
from nimble_otter.table.core.build import column_of
from nimble_otter.table.text.show import grouped
from nimble_otter.translation import tr
from nimble_otter.values import Value

_WIDTH, _MOST_ROWS = 120, 8


def table_of_nested(value: Value) -> Table:
    """A list of objects as rows with their fields as columns, another list as one column, an object as two."""
    columns: dict[str, list[Any]] = {}
    if isinstance(value, Mapping):
        columns = {"field": [str(name) for name in value], "value": list(value.values())}
    elif any(isinstance(item, Mapping) for item in value):
        names = dict.fromkeys(str(name) for item in value if isinstance(item, Mapping) for name in item)
        for name in names:
            columns[name] = [item.get(name, MISSING) if isinstance(item, Mapping) else MISSING for item in value]
        if not all(isinstance(item, Mapping) for item in value):
            columns["value"] = [MISSING if isinstance(item, Mapping) else item for item in value]
    else:
        columns = {"value": list(value)}
    made = {name: column_of(values) for name, values in columns.items()}
    fields = tuple(Field(name, column.kind, note=column.kind.value) for name, column in made.items())
    return Table(fields, tuple(made.values()), len(value))


class NestedPanel(QFrame):
    """Shown under a cell; deeper values open in it by the same keys. Closes on Escape, or when the grid moves on."""

    def __init__(self, grid: Grid) -> None:
        super().__init__(grid.viewport())
        self._over = grid
        self.setObjectName("glance")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.title = ElidedLabel()
        self.up = button("‹", self._go_up, "plain", tr("Back to the enclosing value"))
        self.grid = Grid()
        layout = QVBoxLayout(self)
        layout.setContentsMargins(1, 4, 1, 1)
        layout.setSpacing(2)
        head = row(self.up, self.title, label(tr("Esc closes"), "faint", tokens.SMALL_PX), margins=(8, 0, 12, 0))
        head.setStretch(1, 1)
        layout.addLayout(head)
        layout.addWidget(self.grid, 1)
        self._path: list[tuple[str, Any]] = []
        self._at = (0, 0)
        self.grid.edit_wanted.connect(self._go_in)
        grid.verticalScrollBar().valueChanged.connect(lambda _: self.close_it())
        grid.horizontalScrollBar().valueChanged.connect(lambda _: self.close_it())
        grid.current_changed.connect(lambda *at: self.close_it() if at != self._at else None)
        self.grid.installEventFilter(self)
        self.hide()

    def open(self, position: int, column: int, name: str, value: object) -> None:
        """Show a value under its cell."""
        self._at, self._path = (position, column), [(name, value)]
        self._show()
        self.grid.setFocus()

    def _show(self) -> None:
        _, value = self._path[-1]
        table = table_of_nested(value)
        noun = tr("fields") if isinstance(value, Mapping) else tr("items")
        self.title.setText(f"{' › '.join(step for step, _ in self._path)}   {grouped(len(value))} {noun}")
        self.up.setVisible(len(self._path) > 1)
        model = model_for(all_rows(table), Edits(table.rows), None, (), {}, {})
        widths = [200 if name == "value" else _WIDTH for name in (c.name for c in model.columns)]
        self.grid.set_model(model, widths, False)
        cell, room = self._over.cell_rect(*self._at), self._over.viewport().rect()
        height = min(HEAD + tokens.ROW * min(max(1, table.rows), _MOST_ROWS) + 44, room.height() - 30)
        width = min(max(340, sum(widths) + 70), room.width() - 20)
        left = max(4, min(cell.left() + 12, room.width() - width - 6))
        top = cell.bottom() + 2 if cell.bottom() + height < room.height() else max(2, cell.top() - height - 2)
        self.setGeometry(QRect(left, top, width, height))
        self.show()
        self.raise_()
        self.grid.go(0, 0)

    def _go_in(self, position: int, column: int) -> None:
        model = self.grid.model
        if not isinstance(model, RowsModel):
            return
        value = model.value(position, column)
        if isinstance(value, (Mapping, list)) and value:
            self._path.append((f"{position} {model.columns[column].name}", value))
            self._show()

    def _go_up(self) -> None:
        if len(self._path) > 1:
            self._path.pop()
            self._show()

    def close_it(self) -> None:
        """Close the panel and give the keyboard back to the grid."""
        if self.isVisible():
            self.hide()
            self._over.setFocus()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """Close at Escape and Backspace."""
        if isinstance(event, QKeyEvent) and event.key() in (Qt.Key.Key_Escape, Qt.Key.Key_Backspace):
            if event.type() == QEvent.Type.ShortcutOverride:
                event.accept()
            elif event.type() == QEvent.Type.KeyPress:
                if event.key() == Qt.Key.Key_Backspace:
                    self._go_up()
                else:
                    self.close_it()
                return True
        return False
