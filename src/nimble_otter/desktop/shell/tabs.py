"""Open pulls as tabs: in several rows where one has no room, dragged to another place, each with its source."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from PySide6.QtCore import QPoint, QRect, QSize, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPainterPath, QPaintEvent, QPen, QResizeEvent
from PySide6.QtWidgets import QApplication, QSizePolicy, QWidget

from nimble_otter.desktop.kit import tokens
from nimble_otter.desktop.kit.theme import theme, ui_font
from nimble_otter.desktop.kit.widgets import as_plain
from nimble_otter.desktop.pulls.open_pull import OpenPull
from nimble_otter.translation import tr

ROW = 30
"""Pixels of each further row."""
_LEAST, _MOST, _ROWS = 96, 220, 3
"""Pixels of a tab before there is another row, of the longest, and rows beyond which tabs grow narrower."""
_MARK, _PLUS, _CROSS = 14, 34, 20


@dataclass(frozen=True, slots=True)
class Tab:
    """A pull's name, whether it has something unsaved or pending, its source's name and environment, and what else is
    to be known of the source."""

    name: str
    is_dirty: bool = False
    source: str = ""
    stage: str = ""
    more: str = ""

    @property
    def told(self) -> str:
        """What stands in the tab's tooltip."""
        place = f"{self.source} ({self.stage})" if self.stage else self.source
        lines = [
            self.name,
            tr("Source: {place}", place=place) if place else "",
            self.more,
            tr("Not saved, or changes are pending"),
        ]
        return "\n".join(line for line in lines[: 4 if self.is_dirty else 3] if line)


def tab_of(open_pull: OpenPull) -> Tab:
    """The tab of an open pull."""
    source = open_pull.pull.source
    more = "" if open_pull.can_write else "read-only"
    return Tab(open_pull.pull.name, open_pull.is_dirty, source.name, source.stage, more)


class Tabs(QWidget):
    """A dot marks what is not saved or pending, a square the environment of the source: filled for production. Middle
    click or × closes, + opens a new one; a tab is dragged to another place, or moved there by Ctrl and an arrow."""

    chosen = Signal(int)
    closed = Signal(int)
    added = Signal()
    moved = Signal(int, int)
    """From a place, and to which."""
    height_changed = Signal(int)

    def __init__(self) -> None:
        super().__init__()
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setMouseTracking(True)
        self.setAccessibleName(tr("Open pulls"))
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFixedHeight(tokens.TITLE)
        self.tabs: tuple[Tab, ...] = ()
        self.current = -1
        self._hot = self._drop = -1
        self._press: tuple[int, QPoint] | None = None
        theme.changed.connect(self.update)

    def show_tabs(self, tabs: Sequence[Tab], current: int) -> None:
        """Show these, and which is in sight."""
        if len(tabs) != len(self.tabs):  # one that was closed meanwhile is not dragged on
            self._press, self._drop = None, -1
        self.tabs, self.current = tuple(tabs), current
        self.setAccessibleDescription(
            ", ".join(
                (
                    tr("{name} on {source} not saved", name=t.name, source=t.source)
                    if t.is_dirty
                    else tr("{name} on {source}", name=t.name, source=t.source)
                )
                for t in self.tabs
            )
        )
        self._fit()
        self.update()

    def sizeHint(self) -> QSize:
        """As high as its rows."""
        return QSize(300, self.height())

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Use as many rows as there need be."""
        super().resizeEvent(event)
        self._fit()

    def _fit(self) -> None:
        height = tokens.TITLE + ROW * max(0, self._lines()[-1][0])
        if height != self.minimumHeight():
            self.setFixedHeight(height)
            self.height_changed.emit(height)

    def _lines(self) -> list[tuple[int, int]]:
        """The row and the width of each tab, then those of the plus."""
        metrics, room = self.fontMetrics(), max(self.width() - 8, _LEAST + _PLUS)
        wanted = [
            min(_MOST, metrics.horizontalAdvance(tab.name) + (46 if tab.is_dirty else 42) + (_MARK if tab.stage else 0))
            for tab in self.tabs
        ]
        if sum(wanted) + _PLUS <= room:
            return [(0, width) for width in (*wanted, _PLUS)]
        count = len(wanted)
        rows = min(_ROWS, -(-count // max(1, (room - _PLUS) // _LEAST)))
        in_row = -(-count // rows)
        width = min(_MOST, max(16, (room - _PLUS) // in_row))
        return [*((at // in_row, width) for at in range(count)), ((count - 1) // in_row, _PLUS)]

    def rects(self) -> list[QRect]:
        """Each tab, then the plus."""
        rects, x, before = [], 4, 0
        for row, width in self._lines():
            x = x if row == before else 4
            top = 7 if row == 0 else tokens.TITLE + ROW * (row - 1) + 1
            rects.append(QRect(x, top, width, (tokens.TITLE - 7) if row == 0 else ROW - 1))
            x, before = x + width, row
        return rects

    # --- painting ------------------------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent) -> None:
        """Paint the tabs and the one to add another."""
        with QPainter(self) as painter:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            rects = self.rects()
            for index, (tab, rect) in enumerate(zip(self.tabs, rects, strict=False)):
                self._paint_tab(painter, index, tab, rect)
            painter.setFont(ui_font(16))
            painter.setPen(theme["muted"])
            painter.drawText(rects[-1], Qt.AlignmentFlag.AlignCenter, "+")
            painter.setPen(QPen(theme["water2"], 2 if self._drop >= 0 else 1))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            if self._drop >= 0:
                at = rects[self._drop]
                painter.drawLine(at.left(), at.top() + 4, at.left(), at.bottom() - 4)
            elif self.hasFocus() and 0 <= self.current < len(self.tabs):
                painter.drawRoundedRect(rects[self.current].adjusted(4, 6, -4, -5), 4, 4)

    def _paint_tab(self, painter: QPainter, index: int, tab: Tab, rect: QRect) -> None:
        active = index == self.current
        if active:
            path = QPainterPath()
            path.addRoundedRect(rect.adjusted(0, 1, 0, 10 if rect.bottom() + 2 >= self.height() else 0), 7, 7)
            painter.setPen(theme["line"])
            painter.setBrush(theme["surface"])
            painter.drawPath(path)
        painter.setFont(ui_font(bold=active))
        colour = theme["ink" if active else "muted"]
        inner = rect.adjusted(13, 0, -22 if tab.is_dirty or index == self._hot else -8, 0)
        if tab.stage:
            is_grave = tab.stage == "production"
            painter.setPen(QPen(colour, 1, Qt.PenStyle.SolidLine if is_grave else Qt.PenStyle.DotLine))
            painter.setBrush(colour if is_grave else Qt.BrushStyle.NoBrush)
            painter.drawRect(QRect(inner.left(), rect.center().y() - 3, 8, 8))
            inner.setLeft(inner.left() + _MARK)
        painter.setPen(colour)
        text = painter.fontMetrics().elidedText(tab.name, Qt.TextElideMode.ElideRight, inner.width())
        painter.drawText(inner, Qt.AlignmentFlag.AlignVCenter, text)
        if index == self._hot:
            painter.setFont(ui_font(14))
            painter.drawText(rect.adjusted(rect.width() - _CROSS, 0, 0, 0), Qt.AlignmentFlag.AlignVCenter, "×")
        elif tab.is_dirty:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(theme["amber"])
            painter.drawEllipse(QPoint(rect.right() - 14, rect.center().y() + 1), 4, 4)

    # --- mouse and keyboard --------------------------------------------------------------------------------------

    def _at(self, point: QPoint) -> int:
        return next((n for n, rect in enumerate(self.rects()) if rect.contains(point)), -1)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Choose, close or add a tab."""
        point = event.position().toPoint()
        index = self._at(point)
        if index == len(self.tabs):
            self.added.emit()
        elif index >= 0:
            on_cross = point.x() > self.rects()[index].right() - _CROSS
            if event.button() == Qt.MouseButton.MiddleButton or on_cross:
                self.closed.emit(index)
                return
            self._press = (index, point)
            self.chosen.emit(index)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Show what is under the mouse, or where the tab that is held would go."""
        point = event.position().toPoint()
        if self._press is not None and event.buttons() & Qt.MouseButton.LeftButton:
            far = (point - self._press[1]).manhattanLength() >= QApplication.startDragDistance()
            self._drop = self._gap(point) if far or self._drop >= 0 else -1
            self.update()
            return
        index = self._at(point)
        hot = index if index < len(self.tabs) else -1
        if hot != self._hot:
            self._hot = hot
            told = as_plain(self.tabs[hot].told) if hot >= 0 else ""
            self.setToolTip(tr("New pull") if index == len(self.tabs) else told)
            self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """Put the tab that was dragged where the line stands."""
        press, drop = self._press, self._drop
        self._press, self._drop = None, -1
        if press is not None and drop >= 0:
            self._move(press[0], drop - (drop > press[0]))
        self.update()

    def _gap(self, point: QPoint) -> int:
        """Before which tab one would be put that is let go at a point."""
        rects = self.rects()
        in_row = [n for n, rect in enumerate(rects[:-1]) if rect.top() <= point.y() <= rect.bottom()]
        return next((n for n in in_row if point.x() < rects[n].center().x()), (in_row or [len(rects) - 2])[-1] + 1)

    def _move(self, at: int, to: int) -> None:
        if at != to and 0 <= to < len(self.tabs):
            self.moved.emit(at, to)

    def leaveEvent(self, event: object) -> None:
        """Show nothing as under the mouse."""
        self._hot = -1
        self.update()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Go to the next or the previous tab by the arrow keys; with Ctrl, move the one in sight."""
        if event.key() == Qt.Key.Key_Escape and self._press is not None:
            self._press, self._drop = None, -1
            self.update()
        elif event.key() in (Qt.Key.Key_Left, Qt.Key.Key_Right) and self.tabs:
            to = self.current + (-1 if event.key() == Qt.Key.Key_Left else 1)
            if event.modifiers() & Qt.KeyboardModifier.ControlModifier:
                self._move(self.current, to)
            else:
                self.chosen.emit(max(0, min(len(self.tabs) - 1, to)))
        else:
            super().keyPressEvent(event)
