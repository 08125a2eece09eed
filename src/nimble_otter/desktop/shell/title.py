"""The title strip: the mark (its menu has every command), open pulls as tabs, the find box."""

from __future__ import annotations

from PySide6.QtCore import QRect, Qt
from PySide6.QtGui import QPainter, QPainterPath, QPaintEvent, QPen
from PySide6.QtWidgets import QHBoxLayout, QLineEdit, QPushButton, QVBoxLayout, QWidget

from nimble_otter.desktop.kit import tokens
from nimble_otter.desktop.kit.commands import shown_keys
from nimble_otter.desktop.kit.theme import theme, ui_font
from nimble_otter.desktop.shell.tabs import Tabs
from nimble_otter.translation import tr


def paint_mark(painter: QPainter, rect: QRect) -> None:
    """An otter's curve over a water line."""
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.translate(rect.topLeft())
    painter.scale(rect.width() / 64, rect.height() / 64)
    curve = QPainterPath()
    curve.moveTo(8, 38)
    curve.cubicTo(10, 20, 26, 10, 38, 20)
    curve.cubicTo(44, 25, 42, 34, 35, 34)
    curve.cubicTo(29, 34, 27, 28, 31, 25)
    water = QPainterPath()
    water.moveTo(6, 48)
    water.cubicTo(14, 41, 20, 41, 27, 48)
    water.cubicTo(34, 55, 41, 55, 58, 46)
    for path, colour in ((curve, "otter"), (water, "water2")):
        painter.setPen(QPen(theme[colour], 6.5, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap))
        painter.drawPath(path)
    painter.restore()


class _Mark(QPushButton):
    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName(tr("Nimble Otter menu"))
        self.setToolTip(tr("All commands"))
        self.setFixedSize(136, tokens.TITLE)
        self.setCursor(Qt.CursorShape.PointingHandCursor)

    def paintEvent(self, event: QPaintEvent) -> None:
        with QPainter(self) as painter:
            paint_mark(painter, QRect(12, 9, 22, 22))
            painter.setFont(ui_font(bold=True))
            painter.setPen(theme["otter"])
            painter.drawText(self.rect().adjusted(42, 0, 0, 0), Qt.AlignmentFlag.AlignVCenter, "Nimble Otter")
            if self.hasFocus():
                painter.setPen(theme["water2"])
                painter.drawRoundedRect(self.rect().adjusted(4, 5, -5, -6), 6, 6)


class TitleStrip(QWidget):
    """The strip at the top: the mark, the tabs and the find box."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("paper")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedHeight(tokens.TITLE)
        self.mark, self.tabs, self.box = _Mark(), Tabs(), QLineEdit()
        self.box.setObjectName("find")
        self.box.setPlaceholderText(tr("Find a table, column, pull or command"))
        self.box.setAccessibleName(tr("Find a table, column, pull or command"))
        self.box.setFixedWidth(310)
        hint = QHBoxLayout(self.box)
        hint.setContentsMargins(0, 0, 12, 0)
        hint.addStretch(1)
        hint.addWidget(_KeyHint(shown_keys("Ctrl+K").replace("+", " ")))
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 0, 10, 0)
        layout.setSpacing(4)
        layout.addLayout(_in_first_row(self.mark))
        layout.addWidget(self.tabs, 1)
        layout.addLayout(_in_first_row(self.box))
        self.tabs.height_changed.connect(self.setFixedHeight)

    def paintEvent(self, event: QPaintEvent) -> None:
        """Paint the ground and the line under it."""
        with QPainter(self) as painter:
            painter.fillRect(self.rect(), theme["paper"])
            painter.setPen(theme["line"])
            painter.drawLine(0, self.height() - 1, self.width(), self.height() - 1)


def _in_first_row(widget: QWidget) -> QVBoxLayout:
    """A layout that keeps a widget where it stands when there are no further rows of tabs."""
    first, column = QWidget(), QVBoxLayout()
    first.setFixedHeight(tokens.TITLE)
    inner = QHBoxLayout(first)
    inner.setContentsMargins(0, 0, 0, 0)
    inner.addWidget(widget)
    column.addWidget(first)
    column.addStretch(1)
    return column


class _KeyHint(QWidget):
    """A key's name in a small frame."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self._text = text
        self.setFixedSize(44, 17)
        self.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)

    def paintEvent(self, event: QPaintEvent) -> None:
        with QPainter(self) as painter:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            painter.setPen(theme["line"])
            painter.setBrush(theme["paper"])
            painter.drawRoundedRect(self.rect().adjusted(0, 0, -1, -1), 4, 4)
            painter.setFont(ui_font(tokens.SMALL_PX))
            painter.setPen(theme["muted"])
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, self._text)
