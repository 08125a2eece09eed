"""The title strip: the mark (its menu has every command), open pulls as tabs, the find box."""

from __future__ import annotations

from PySide6.QtCore import QPoint, QRect, QSize, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPainterPath, QPaintEvent, QPen
from PySide6.QtWidgets import QHBoxLayout, QLineEdit, QPushButton, QSizePolicy, QWidget

from nimble_otter.desktop.kit import tokens
from nimble_otter.desktop.kit.theme import theme, ui_font


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
        self.setAccessibleName("Nimble Otter menu")
        self.setToolTip("All commands")
        self.setFixedSize(130, tokens.TITLE)
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


class Tabs(QWidget):
    """Open pulls; a dot marks what is not saved or pending. Middle click or × closes, + opens a new one."""

    chosen = Signal(int)
    closed = Signal(int)
    added = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setMouseTracking(True)
        self.setAccessibleName("Open pulls")
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFixedHeight(tokens.TITLE)
        self.names: list[tuple[str, bool]] = []
        self.current = -1
        self._hot = -1
        theme.changed.connect(self.update)

    def show_tabs(self, names: list[tuple[str, bool]], current: int) -> None:
        """Show these names, each with whether it has something unsaved."""
        self.names, self.current = names, current
        self.setAccessibleDescription(", ".join(f"{n}{' not saved' if dirty else ''}" for n, dirty in names))
        self.update()

    def sizeHint(self) -> QSize:
        """As high as the title strip."""
        return QSize(300, tokens.TITLE)

    def rects(self) -> list[QRect]:
        """Each tab, then the plus."""
        metrics = self.fontMetrics()
        widths = [min(220, metrics.horizontalAdvance(name) + (34 if dirty else 30) + 12) for name, dirty in self.names]
        room = self.width() - 34
        if sum(widths) > room > 0:
            widths = [max(16, w * room // sum(widths)) for w in widths]
        rects, x = [], 4
        for width in widths:
            rects.append(QRect(x, 7, width, tokens.TITLE - 7))
            x += width
        return [*rects, QRect(x, 8, 28, tokens.TITLE - 8)]

    def paintEvent(self, event: QPaintEvent) -> None:
        """Paint the tabs and the one to add another."""
        with QPainter(self) as painter:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            rects = self.rects()
            for index, ((name, dirty), rect) in enumerate(zip(self.names, rects, strict=False)):
                active = index == self.current
                if active:
                    path = QPainterPath()
                    path.addRoundedRect(rect.adjusted(0, 1, 0, 10), 7, 7)
                    painter.setPen(theme["line"])
                    painter.setBrush(theme["surface"])
                    painter.drawPath(path)
                painter.setFont(ui_font(bold=active))
                painter.setPen(theme["ink" if active else "muted"])
                inner = rect.adjusted(13, 0, -22 if dirty or index == self._hot else -8, 0)
                text = painter.fontMetrics().elidedText(name, Qt.TextElideMode.ElideRight, inner.width())
                painter.drawText(inner, Qt.AlignmentFlag.AlignVCenter, text)
                if index == self._hot:
                    painter.setFont(ui_font(14))
                    painter.drawText(rect.adjusted(rect.width() - 20, 0, 0, 0), Qt.AlignmentFlag.AlignVCenter, "×")
                elif dirty:
                    painter.setPen(Qt.PenStyle.NoPen)
                    painter.setBrush(theme["amber"])
                    painter.drawEllipse(QPoint(rect.right() - 14, rect.center().y() + 1), 4, 4)
            painter.setFont(ui_font(16))
            painter.setPen(theme["muted"])
            painter.drawText(rects[-1], Qt.AlignmentFlag.AlignCenter, "+")
            if self.hasFocus() and 0 <= self.current < len(self.names):
                painter.setPen(theme["water2"])
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.drawRoundedRect(rects[self.current].adjusted(4, 6, -4, -5), 4, 4)

    def _at(self, point: QPoint) -> int:
        return next((n for n, rect in enumerate(self.rects()) if rect.contains(point)), -1)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Choose, close or add a tab."""
        index = self._at(event.position().toPoint())
        if index == len(self.names):
            self.added.emit()
        elif index >= 0:
            on_cross = event.position().x() > self.rects()[index].right() - 20
            is_middle = event.button() == Qt.MouseButton.MiddleButton
            (self.closed if is_middle or on_cross else self.chosen).emit(index)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Show what is under the mouse."""
        index = self._at(event.position().toPoint())
        hot = index if index < len(self.names) else -1
        if hot != self._hot:
            self._hot = hot
            self.setToolTip("New pull" if index == len(self.names) else (self.names[hot][0] if hot >= 0 else ""))
            self.update()

    def leaveEvent(self, event: object) -> None:
        """Show nothing as under the mouse."""
        self._hot = -1
        self.update()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Go to the next or the previous tab by the arrow keys."""
        if event.key() in (Qt.Key.Key_Left, Qt.Key.Key_Right) and self.names:
            way = -1 if event.key() == Qt.Key.Key_Left else 1
            self.chosen.emit(max(0, min(len(self.names) - 1, self.current + way)))
        else:
            super().keyPressEvent(event)


class TitleStrip(QWidget):
    """The strip at the top: the mark, the tabs and the find box."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("paper")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedHeight(tokens.TITLE)
        self.mark, self.tabs, self.box = _Mark(), Tabs(), QLineEdit()
        self.box.setObjectName("find")
        self.box.setPlaceholderText("Find a table, column, pull or command")
        self.box.setAccessibleName("Find a table, column, pull or command")
        self.box.setFixedWidth(310)
        hint = QHBoxLayout(self.box)
        hint.setContentsMargins(0, 0, 12, 0)
        hint.addStretch(1)
        hint.addWidget(_KeyHint("Ctrl K"))
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 0, 10, 0)
        layout.setSpacing(4)
        layout.addWidget(self.mark)
        layout.addWidget(self.tabs, 1)
        layout.addWidget(self.box)

    def paintEvent(self, event: QPaintEvent) -> None:
        """Paint the ground and the line under it."""
        with QPainter(self) as painter:
            painter.fillRect(self.rect(), theme["paper"])
            painter.setPen(theme["line"])
            painter.drawLine(0, self.height() - 1, self.width(), self.height() - 1)


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
