"""The picture of a chart, and what is done with it by mouse and keyboard. It is painted elsewhere, see presenter.py."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QEvent, QPoint, QPointF, QRect, QRectF, Qt, Signal
from PySide6.QtGui import (
    QColor,
    QContextMenuEvent,
    QDragEnterEvent,
    QDragMoveEvent,
    QDropEvent,
    QHelpEvent,
    QImage,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QResizeEvent,
    QWheelEvent,
)
from PySide6.QtWidgets import QToolTip, QWidget

from nimble_otter.desktop.kit.mime_types import COLUMN_DRAG, text_in
from nimble_otter.desktop.kit.theme import theme, ui_font
from nimble_otter.desktop.kit.widgets import as_plain
from nimble_otter.pull.charts.data import Drawn
from nimble_otter.pull.charts.ground import Ground
from nimble_otter.pull.charts.hits import Hit, hit, step
from nimble_otter.pull.charts.picking import Stretch
from nimble_otter.table.core.columns import Ids
from nimble_otter.translation import tr

_LEAST_PX = 4
_MOST_RINGS = 3000
"""Picked marks that are ringed one by one."""


@dataclass(frozen=True, slots=True, eq=False)
class Painted:
    """A chart as it was painted."""

    drawn: Drawn
    image: QImage
    grounds: tuple[Ground, ...]
    size: tuple[int, int]
    points: int


class ChartCanvas(QWidget):
    """`brushed` has a Stretch (None: nothing is picked any more), `lassoed` a panel and an outline of
    pixels, `picked_mark` a Hit, `viewed` the ends that are to be
    looked at ((x, y), each None for all), `dropped` the name of a column and the side it was dropped on ("x", "y" or
    "by"), `menu_wanted` a place on the screen and the mark there, `resized` that it is to be painted anew."""

    brushed = Signal(object)
    lassoed = Signal(int, object)
    picked_mark = Signal(object)
    viewed = Signal(object, object)
    dropped = Signal(str, str)
    menu_wanted = Signal(QPoint, object)
    resized = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName(tr("Chart"))
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setAcceptDrops(True)
        self.setMinimumSize(160, 110)
        self.painted: Painted | None = None
        self.words = ""
        self.brush: Stretch | None = None
        self.current: Hit | None = None
        self._rings: list[QPointF] = []
        self._press: tuple[int, QPointF, bool] | None = None
        self._drag: QRectF | None = None
        self._lasso: list[QPointF] = []
        self._shift: QPointF | None = None
        theme.changed.connect(self.update)

    # --- what is shown -----------------------------------------------------------------------------------------

    def show_painted(self, painted: Painted) -> None:
        """Show a picture."""
        same = self.painted is not None and self.painted.drawn is painted.drawn
        self.painted, self.words, self._shift = painted, "", None
        if not same:
            self.current, self.brush = None, None
        chart = painted.drawn.chart
        text = tr("{words}: {marks} marks", words=chart.words(), marks=painted.drawn.marks)
        self.setAccessibleDescription(". ".join((text, *painted.drawn.notes)))
        self.update()

    @property
    def is_picking(self) -> bool:
        """Whether something is picked."""
        return self.brush is not None or bool(self._rings)

    def show_words(self, words: str) -> None:
        """Words in the place of a picture."""
        self.painted, self.words = None, words
        self.setAccessibleDescription(words)
        self.update()

    def ring(self, marks: list[tuple[int, Ids]]) -> None:
        """Mark the marks of series that stand for picked rows."""
        self._rings = []
        painted = self.painted
        if painted is not None:
            left = _MOST_RINGS
            for number, places in marks:
                some = places[:: max(1, len(places) // max(1, left))][:left]
                left -= len(some)
                self._rings += self._pixels(number, some)
        self.update()

    def _pixel(self, at: Hit) -> QPointF | None:
        point_fs = self._pixels(at.series, np.array([at.mark]))
        return point_fs[0] if point_fs else None

    def _pixels(self, number: int, marks: Ids) -> list[QPointF]:
        """Where some marks of a series are, as far as they are in sight."""
        painted = self.painted
        if painted is None:
            return []
        each, chart = painted.drawn.series[number], painted.drawn.chart
        ground, (x, y) = painted.grounds[each.panel], (each.x[marks], each.y[marks])
        x, y = (y, x) if chart.sideways and chart.kind in ("bars", "box") else (x, y)
        across, down = ground.pixels(x, y, each.second)
        found = zip(across.tolist(), down.tolist(), strict=True)
        return [QPointF(a, b) for a, b in found if ground.holds(a, b)]

    def paintEvent(self, event: QPaintEvent) -> None:
        """Paint the picture, what is picked, and the mark that the keyboard is at."""
        with QPainter(self) as painter:
            painter.fillRect(self.rect(), theme["surface"])
            if self.painted is None:
                painter.setFont(ui_font())
                painter.setPen(theme["muted"])
                words = Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap
                painter.drawText(self.rect().adjusted(40, 20, -40, -20), words, self.words)
                return
            painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
            painter.drawImage(QRectF(self.rect()), self.painted.image)
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            self._paint_brush(painter)
            painter.setPen(QPen(theme["ink"], 1.2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            for at in self._rings:
                painter.drawEllipse(at, 4.5, 4.5)
            here = self._pixel(self.current) if self.current is not None else None
            if here is not None and self.hasFocus():
                painter.setPen(QPen(theme["water2"], 2))
                painter.drawEllipse(here, 7, 7)
            if self.hasFocus():
                painter.setPen(QPen(theme["water3"], 1))
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.drawRect(self.rect().adjusted(0, 0, -1, -1))

    def _paint_brush(self, painter: QPainter) -> None:
        if self._lasso:
            painter.setPen(QPen(theme["water2"], 1.2, Qt.PenStyle.DotLine))
            painter.drawPolygon(self._lasso)
        rect = self._drag if self._drag is not None else self._brush_rect()
        if rect is None:
            return
        wash = QColor(theme["water2"])
        wash.setAlpha(34)
        painter.fillRect(rect, wash)
        painter.setPen(QPen(theme["water2"], 1.2, Qt.PenStyle.DotLine))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(rect)

    def _brush_rect(self) -> QRectF | None:
        painted, brush = self.painted, self.brush
        if painted is None or brush is None or brush.panel >= len(painted.grounds):
            return None
        ground = painted.grounds[brush.panel]
        y = brush.y if brush.y is not None else ground.y
        across, down = ground.pixels(np.array(brush.x), np.array(y))
        rect = QRectF(QPointF(across.min(), down.min()), QPointF(across.max(), down.max()))
        return rect & QRectF(ground.left, ground.top, ground.width, ground.height)

    # --- the mouse ---------------------------------------------------------------------------------------------

    def _panel_at(self, at: QPointF) -> int:
        grounds = self.painted.grounds if self.painted is not None else ()
        return next((n for n, each in enumerate(grounds) if each.holds(at.x(), at.y())), -1)

    def hit_at(self, at: QPointF) -> Hit | None:
        """The mark under a pixel."""
        panel = self._panel_at(at)
        if self.painted is None or panel < 0:
            return None
        return hit(self.painted.drawn, self.painted.grounds[panel], panel, at.x(), at.y())

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Begin to brush, with Alt to draw an outline, with Shift or the middle button to move the view."""
        panel = self._panel_at(event.position())
        moves = event.button() == Qt.MouseButton.MiddleButton or bool(
            event.modifiers() & Qt.KeyboardModifier.ShiftModifier
        )
        is_lasso = bool(event.modifiers() & Qt.KeyboardModifier.AltModifier)
        self._lasso = [event.position()] if is_lasso and panel >= 0 else []
        if panel >= 0 and event.button() in (Qt.MouseButton.LeftButton, Qt.MouseButton.MiddleButton):
            self._press = (panel, event.position(), moves)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Go on brushing or moving."""
        if self._press is None or self.painted is None:
            return
        panel, start, moves = self._press
        ground, at = self.painted.grounds[panel], event.position()
        if moves:
            self._shift = at - start
            return
        if self._lasso:
            self._lasso.append(at)
            self.update()
            return
        inside = QRectF(ground.left, ground.top, ground.width, ground.height)
        drag = QRectF(start, at).normalized() & inside
        if not self._brushes_both(drag):
            drag = self._stretch(ground, drag)
        self._drag = drag if (at - start).manhattanLength() >= _LEAST_PX else None
        self.update()

    def _brushes_both(self, drag: QRectF) -> bool:
        """Whether a brush has ends on both axes: where marks are points, and the drag is not flat."""
        assert self.painted is not None
        kind = self.painted.drawn.chart.kind
        return kind in ("scatter", "heat map") or (kind == "line" and drag.height() > 60 and drag.width() > 12)

    def _stretch(self, ground: Ground, drag: QRectF) -> QRectF:
        assert self.painted is not None
        chart = self.painted.drawn.chart
        if chart.sideways and chart.kind in ("bars", "box"):
            return QRectF(ground.left, drag.top(), ground.width, drag.height())
        return QRectF(drag.left(), ground.top, drag.width(), ground.height)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """End a brush, or pick the mark under a click."""
        press, drag = self._press, self._drag
        self._press = self._drag = None
        if press is None or self.painted is None:
            return
        panel, _, moves = press
        ground = self.painted.grounds[panel]
        if moves:
            if self._shift is not None:
                self._move_by(ground, self._shift)
            return
        outline, self._lasso = self._lasso, []
        if len(outline) > 2:
            self.brush = None
            self.lassoed.emit(panel, [(at.x(), at.y()) for at in outline])
        elif drag is not None:
            first, last = (ground.place(p.x(), p.y()) for p in (drag.topLeft(), drag.bottomRight()))
            x, y = sorted((first[0], last[0])), sorted((first[1], last[1]))
            chart = self.painted.drawn.chart
            if chart.sideways and chart.kind in ("bars", "box"):
                x, y = y, x
            both = self._brushes_both(drag)
            self.brush = Stretch(panel, (x[0], x[1]), (y[0], y[1]) if both else None)
            self.brushed.emit(self.brush)
        elif event.button() == Qt.MouseButton.LeftButton:
            found = self.hit_at(event.position())
            self.brush, self.current = None, found
            self.picked_mark.emit(found) if found is not None else self.brushed.emit(None)
        self.update()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        """Look at all of it again."""
        self.viewed.emit(None, None)

    def wheelEvent(self, event: QWheelEvent) -> None:
        """Look closer, or from further away, where the pointer is; over an axis along that alone."""
        at, up = event.position(), event.angleDelta().y() or event.angleDelta().x()
        if self.painted is not None and up:
            self._zoom(0.8 if up > 0 else 1.25, at)
            event.accept()

    def _zoom(self, share: float, at: QPointF | None = None) -> None:
        painted = self.painted
        if painted is None:
            return
        panel = max(0, self._panel_at(at)) if at is not None else 0
        ground = painted.grounds[panel]
        middle = at if at is not None else QPointF(ground.left + ground.width / 2, ground.top + ground.height / 2)
        left, top = middle.x() - (middle.x() - ground.left) * share, middle.y() - (middle.y() - ground.top) * share
        rect = QRectF(left, top, ground.width * share, ground.height * share)
        over_y = middle.x() < ground.left
        over_x = middle.y() > ground.top + ground.height
        self._look_at(ground, rect, along=not over_y, up=over_y or (not over_x and self._zooms_up()))

    def _zooms_up(self) -> bool:
        assert self.painted is not None
        return self.painted.drawn.chart.kind in ("scatter", "heat map")

    def _look_at(self, ground: Ground, rect: QRectF, along: bool, up: bool) -> None:
        first, last = ground.place(rect.left(), rect.bottom()), ground.place(rect.right(), rect.top())
        x, y = sorted((first[0], last[0])), sorted((first[1], last[1]))
        own_x = (x[0], x[1]) if along else ground.x
        own_y = (y[0], y[1]) if up else None
        if all(np.isfinite(value) for value in (*own_x, *(own_y or ()))) and own_x[0] < own_x[1]:
            self.viewed.emit(own_x, own_y)

    def _move_by(self, ground: Ground, by: QPointF) -> None:
        self._shift = None
        rect = QRectF(ground.left - by.x(), ground.top - by.y(), ground.width, ground.height)
        self._look_at(ground, rect, along=True, up=self._zooms_up())

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        """What can be done with the chart, and with the mark there."""
        by_mouse = event.reason() == QContextMenuEvent.Reason.Mouse
        found = self.hit_at(QPointF(event.pos())) if by_mouse else self.current
        self.menu_wanted.emit(event.globalPos(), found)

    def event(self, event: QEvent) -> bool:
        """Name the exact values of the mark under the pointer; Escape lets go of what is picked before it ends work."""
        is_key = event.type() == QEvent.Type.ShortcutOverride and isinstance(event, QKeyEvent)
        if is_key and event.key() == Qt.Key.Key_Escape and self.is_picking:  # type: ignore[attr-defined]
            event.accept()
            return True
        if event.type() == QEvent.Type.ToolTip and isinstance(event, QHelpEvent):
            found = self.hit_at(QPointF(event.pos()))
            if found is None:
                QToolTip.hideText()
            else:
                QToolTip.showText(event.globalPos(), as_plain(self.told(found)), self, QRect(event.pos(), event.pos()))
            return True
        return super().event(event)

    def told(self, at: Hit) -> str:
        """A mark's exact values, a line each."""
        assert self.painted is not None
        return "\n".join(f"{name}: {value}" for name, value in self.painted.drawn.series[at.series].values(at.mark))

    # --- the keyboard ------------------------------------------------------------------------------------------

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Arrows go from mark to mark, Enter picks its rows, + and - look closer, Ctrl and arrows move, Home shows
        all of it, Escape picks nothing."""
        key, painted = event.key(), self.painted
        arrows = {Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_Right: (1, 0), Qt.Key.Key_Up: (0, -1), Qt.Key.Key_Down: (0, 1)}
        if key == Qt.Key.Key_Home:
            self.viewed.emit(None, None)
        elif painted is None:
            super().keyPressEvent(event)
        elif key in arrows and event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            way, ground = arrows[Qt.Key(key)], painted.grounds[0]
            self._move_by(ground, QPointF(-way[0] * ground.width / 5, -way[1] * ground.height / 5))
        elif key in arrows:
            self.current = step(painted.drawn, self.current, arrows[Qt.Key(key)])
            self._say_current()
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space) and self.current is not None:
            self.picked_mark.emit(self.current)
        elif key in (Qt.Key.Key_Plus, Qt.Key.Key_Equal, Qt.Key.Key_Minus):
            self._zoom(1.25 if key == Qt.Key.Key_Minus else 0.8)
        elif key == Qt.Key.Key_Escape and self.is_picking:
            self.brush = None
            self.brushed.emit(None)
        else:
            super().keyPressEvent(event)
        self.update()

    def _say_current(self) -> None:
        if self.current is None:
            return
        text = self.told(self.current)
        self.setAccessibleDescription(text.replace("\n", ", "))
        at = self._pixel(self.current)
        if at is not None and self.hasFocus():
            QToolTip.showText(self.mapToGlobal(at.toPoint() + QPoint(10, 10)), as_plain(text), self)

    # --- columns dragged here ----------------------------------------------------------------------------------

    def _takes(self, event: QDragEnterEvent | QDragMoveEvent) -> None:
        if text_in(event.mimeData(), COLUMN_DRAG):
            event.acceptProposedAction()

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        """Take columns."""
        self._takes(event)

    def dragMoveEvent(self, event: QDragMoveEvent) -> None:
        """Take columns."""
        self._takes(event)

    def dropEvent(self, event: QDropEvent) -> None:
        """A column dropped near the bottom stands along it, near the left edge it stands up, elsewhere it colours."""
        name = text_in(event.mimeData(), COLUMN_DRAG)
        if not name:
            return
        at = event.position()
        side = "y" if at.x() < 90 else "x" if at.y() > self.height() - 70 else "by"
        event.acceptProposedAction()
        self.dropped.emit(name, side)

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Paint for the new size."""
        super().resizeEvent(event)
        self.resized.emit()
