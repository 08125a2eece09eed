"""What is painted by hand, as the toolkit's own list and table for those who don't see it (AT-SPI, through Qt).

The toolkit offers Python no way to say what a painted widget holds. So such a widget keeps one of the toolkit's views
over itself, which is never painted and takes no focus and no mouse, and whose items assistive programs read. It is
made when one of them asks for the first time.
"""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QAbstractItemModel, Qt
from PySide6.QtGui import QAccessible, QAccessibleEvent
from PySide6.QtWidgets import QAbstractItemView, QFrame, QListWidget, QWidget


def is_listened_to() -> bool:
    """Whether an assistive program is there."""
    return bool(QAccessible.isActive())


def lay_unseen(view: QAbstractItemView, owner: QWidget) -> None:
    """Put a view over its owner, as large, never painted and out of the way."""
    view.setFocusPolicy(Qt.FocusPolicy.NoFocus)
    view.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
    view.setFrameShape(QFrame.Shape.NoFrame)
    view.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    view.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    for part in (view, view.viewport()):  # what is opaque would keep the owner from being painted
        part.setAutoFillBackground(False)
        part.setAttribute(Qt.WidgetAttribute.WA_NoSystemBackground)
    view.setUpdatesEnabled(False)
    view.setGeometry(owner.rect())
    view.show()


def tell_focus(view: QAbstractItemView, item: int) -> None:
    """Say that the focus is on an item, by its number among the children of the view."""
    event = QAccessibleEvent(view, QAccessible.Event.Focus)
    event.setChild(item)
    QAccessible.updateAccessibility(event)


def child_of(model: QAbstractItemModel, row: int, column: int) -> int:
    """The number of a cell among the children of a table with both headers (QAccessibleTable)."""
    return (row + 1) * (model.columnCount() + 1) + column + 1


class SpokenList(QListWidget):
    """Texts, one of which is the current one."""

    def __init__(self, owner: QWidget, name: str) -> None:
        super().__init__(owner)
        self.setAccessibleName(name)
        lay_unseen(self, owner)

    def show_texts(self, texts: Sequence[str], current: int, aloud: bool) -> None:
        """Have these texts; `aloud`: the owner has the focus."""
        if texts != [self.item(n).text() for n in range(self.count())]:
            self.clear()
            self.addItems(list(texts))
        if current != self.currentRow():
            self.setCurrentRow(current)
        if aloud and current >= 0:
            tell_focus(self, current)
