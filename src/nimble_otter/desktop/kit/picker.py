"""A popup to pick one of many by typing a part of it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from PySide6.QtCore import QEvent, QObject, QPoint, QSize, Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QFrame, QLineEdit, QTreeWidget, QTreeWidgetItem, QWidget

from nimble_otter.desktop.kit.theme import theme
from nimble_otter.desktop.kit.widgets import as_plain, column
from nimble_otter.translation import tr

_MOST = 300
_WIDTH, _ROWS, _ROW = 400, 9, 24


@dataclass(frozen=True, slots=True)
class Choice:
    """What can be picked: a text, what it is (shown at the right), and what is handed on."""

    text: str
    note: str = ""
    data: Any = None


class Picker(QFrame):
    """Stands under its parent until one is taken, or Escape. `taken` gets the choice's data."""

    def __init__(self, parent: QWidget, what: str, choices: Sequence[Choice], taken: Callable[[Any], object]) -> None:
        super().__init__(parent, Qt.WindowType.Popup)
        self.setObjectName("glance")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self._choices, self._taken = choices, taken
        self.typed, self.list = QLineEdit(), QTreeWidget()
        self.typed.setPlaceholderText(what)
        self.typed.setAccessibleName(what)
        self.list.setAccessibleName(what)
        self.list.setColumnCount(2)
        self.list.setHeaderHidden(True)
        self.list.setRootIsDecorated(False)
        self.list.setUniformRowHeights(True)
        self.list.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.list.header().setStretchLastSection(True)
        self.list.setTextElideMode(Qt.TextElideMode.ElideRight)
        self.setLayout(column(self.typed, self.list, space=6, margins=(8, 8, 8, 6)))
        self.typed.installEventFilter(self)
        self.typed.textChanged.connect(lambda _: self._fill())
        self.list.itemClicked.connect(lambda item: self._take(item))
        self._fill()

    def open_at(self, place: QPoint) -> Picker:
        """Show it at a place of the screen, as far as there is room."""
        self.resize(_WIDTH, 52 + _ROW * min(_ROWS, max(2, len(self._choices))))
        screen = self.screen().availableGeometry()
        left = min(place.x(), screen.right() - self.width())
        top = place.y() if place.y() + self.height() < screen.bottom() else max(screen.top(), place.y() - self.height())
        self.move(max(screen.left(), left), top)
        self.show()
        self.typed.setFocus()
        return self

    def _fill(self) -> None:
        words = self.typed.text().casefold().split()
        fits = [c for c in self._choices if all(word in f"{c.text} {c.note}".casefold() for word in words)]
        fits.sort(key=lambda c: not c.text.casefold().startswith(words[0] if words else ""))
        self.list.clear()
        for choice in fits[:_MOST]:
            item = QTreeWidgetItem([choice.text, choice.note])
            item.setData(0, Qt.ItemDataRole.UserRole, choice)
            item.setForeground(1, theme["muted"])
            item.setSizeHint(0, QSize(0, _ROW))
            item.setToolTip(0, as_plain(choice.text))
            self.list.addTopLevelItem(item)
        if not fits:
            nothing = QTreeWidgetItem([tr("No match.")])
            nothing.setFlags(Qt.ItemFlag.NoItemFlags)
            self.list.addTopLevelItem(nothing)
        self.list.setColumnWidth(0, int(_WIDTH * 0.42))
        self._go(0)

    def _go(self, at: int) -> None:
        item = self.list.topLevelItem(max(0, min(at, self.list.topLevelItemCount() - 1)))
        if item is not None:
            self.list.setCurrentItem(item)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """Move in the list by the keyboard while one types."""
        if event.type() == QEvent.Type.KeyPress and isinstance(event, QKeyEvent):
            way = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1, Qt.Key.Key_PageDown: _ROWS, Qt.Key.Key_PageUp: -_ROWS}
            if event.key() in way:
                self._go(self.list.currentIndex().row() + way[Qt.Key(event.key())])
                return True
            if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
                self._take(self.list.currentItem())
                return True
        return super().eventFilter(watched, event)

    def _take(self, item: QTreeWidgetItem | None) -> None:
        choice = item.data(0, Qt.ItemDataRole.UserRole) if item is not None else None
        if choice is not None:
            self.close()
            self._taken(choice.data)
