"""The drawer under the grid: a head with title, a few words and buttons, and the editor of the selected step."""

from __future__ import annotations

from PySide6.QtCore import QSize, Qt, Signal
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QHBoxLayout, QSizePolicy, QVBoxLayout, QWidget

from nimble_otter.desktop.kit import tokens
from nimble_otter.desktop.kit.theme import theme
from nimble_otter.desktop.kit.widgets import ElidedLabel, label, row
from nimble_otter.desktop.pulls.open_pull import OpenPull

_MOST_ASKED = 620
"""Pixels that a drawer can ask for: the centre has some 770 in a window of 1280 with both panes open."""


class Head(QWidget):
    """The drawer's head: title, words, then what is added to `right`."""

    def __init__(self, title: str) -> None:
        super().__init__()
        self.setFixedHeight(tokens.DRAWER_HEAD)
        self.title, self.words = label(title, bold=True), ElidedLabel("", "muted")
        self.words.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Preferred)
        self.left, self.right = QHBoxLayout(), QHBoxLayout()
        self.left.setSpacing(6)
        self.right.setSpacing(8)
        parts = row(self.title, self.words, self.left, self.right, space=10, margins=(12, 3, 12, 3))
        parts.setStretch(1, 1)
        self.setLayout(parts)

    def paintEvent(self, event: QPaintEvent) -> None:
        """Paint the ground and the line above it."""
        with QPainter(self) as painter:
            painter.fillRect(self.rect(), theme["paper"])
            painter.setPen(theme["line"])
            painter.drawLine(0, 0, self.width(), 0)
            painter.setPen(theme["grid_line"])
            painter.drawLine(0, self.height() - 1, self.width(), self.height() - 1)


class Drawer(QWidget):
    """Base of all: `show_pull` hands it a pull, `refresh` brings it up to date with that. `step_wanted` asks for the
    editor of another step."""

    step_wanted = Signal(int)
    title = ""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("surface")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.open_pull: OpenPull | None = None
        self.head = Head(self.title)
        self._whole = QVBoxLayout(self)
        self._whole.setContentsMargins(0, 0, 0, 0)
        self._whole.setSpacing(0)
        self._whole.addWidget(self.head)

    def minimumSizeHint(self) -> QSize:
        """No drawer pushes the panes beside it away for good: what is too wide is cut while there is so little room."""
        wanted = super().minimumSizeHint()
        return QSize(min(wanted.width(), _MOST_ASKED), wanted.height())

    def set_body(self, *parts: QWidget, stretch: tuple[int, ...] = (1,)) -> None:
        """Parts beside each other under the head."""
        layout = row(*parts, space=0)
        for index, share in enumerate(stretch):
            layout.setStretch(index, share)
        self._whole.addLayout(layout, 1)

    def show_pull(self, open_pull: OpenPull | None) -> None:
        """Show what the drawer is for of this pull."""
        self.open_pull = open_pull
        if open_pull is not None:
            self.refresh()

    def show_step(self, at: int) -> None:
        """Which step it edits; only drawers of local steps need to know."""

    def refresh(self) -> None:
        """Overridden by each."""

    def begin_at(self, part: str) -> None:
        """Show a part of what it edits, such as a column; each knows its own."""

    def focus_first(self) -> None:
        """Put the keyboard where one would begin."""
