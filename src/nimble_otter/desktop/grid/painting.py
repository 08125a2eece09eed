"""Painting the grid: header, row heads and the visible cells, from ready text."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from PySide6.QtCore import QPoint, QRect, Qt
from PySide6.QtGui import QBrush, QColor, QFont, QFontMetrics, QPainter, QPen, QPolygon

from nimble_otter.desktop.grid.model import Cell, GridColumn, Line
from nimble_otter.desktop.kit import tokens
from nimble_otter.desktop.kit.theme import theme, ui_font
from nimble_otter.table.text.show import THIN

if TYPE_CHECKING:
    from nimble_otter.desktop.grid.thumbnails import Thumbnails

PAD = 10
CARET = 18
"""Width of the mark in a header that opens the column's menu."""
_STATE_INK = {"edited": "amber_ink", "new": "sea", "deleted": "plum", "conflict": "plum", "written": "water1"}
_WRAPPED = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter | Qt.TextFlag.TextWrapAnywhere


class GridPainter:
    """Fonts and measured texts; one for a grid. Colours are read at each paint, so a theme change needs no more."""

    def __init__(self) -> None:
        self.font, self.bold = ui_font(), ui_font(bold=True)
        self.small = ui_font(tokens.SMALL_PX)
        self.struck = QFont(self.small)
        self.struck.setStrikeOut(True)
        self._fonts = (self.font, self.bold, self.small, self.struck)
        self._metrics = {id(f): QFontMetrics(f) for f in self._fonts}
        self.thumbnails: Thumbnails | None = None
        self.marked: Callable[[str], bool] | None = None
        self.marked_places: frozenset[int] = frozenset()
        self._elided: dict[tuple[str, int, int], tuple[str, int]] = {}
        self._rises = {id(f): (m.ascent() - m.descent()) / 2 for f in self._fonts for m in [QFontMetrics(f)]}

    def metrics(self, font: QFont) -> QFontMetrics:
        """The metrics of one of the grid's fonts, measured once."""
        return self._metrics[id(font)]

    def elide(self, text: str, font: QFont, width: int) -> str:
        """The text as far as it fits."""
        return self._fitted(text, font, width)[0]

    def _fitted(self, text: str, font: QFont, width: int) -> tuple[str, int]:
        """The text as far as it fits, and how wide that is; measured once."""
        key = (text, id(font), width)
        found = self._elided.get(key)
        if found is None:
            if len(self._elided) > 60_000:
                self._elided.clear()
            metrics = self.metrics(font)
            found = (text, metrics.horizontalAdvance(text))
            if found[1] > width:
                short = metrics.elidedText(text, Qt.TextElideMode.ElideRight, width)
                found = (short, metrics.horizontalAdvance(short))
            self._elided[key] = found
        return found

    def text(self, painter: QPainter, rect: QRect, text: str, font: QFont, ink: QColor, right: bool = False) -> None:
        """Draw a text into a rectangle, cut with an ellipsis where it is too long."""
        fitted, width = self._fitted(text, font, rect.width())
        painter.setFont(font)
        painter.setPen(ink)
        # at a point, which is several times quicker than laying it out in the rectangle
        left = rect.right() + 1 - width if right else rect.left()
        painter.drawText(left, int(rect.top() + rect.height() / 2 + self._rises[id(font)] + 0.5), fitted)

    # --- header ------------------------------------------------------------------------------------------------

    def header_cell(self, painter: QPainter, rect: QRect, column: GridColumn, hot: bool) -> None:
        """Draw the header of a column: its name over its origin."""
        painter.fillRect(rect, theme["sunk"] if hot else theme["paper"])
        inner = rect.adjusted(PAD, 5, -PAD, -5)
        upper = QRect(inner.left(), inner.top() + 1, inner.width(), 16)
        lower = QRect(inner.left(), inner.top() + 17, inner.width(), 14)
        if column.mark:
            width = self.metrics(self.small).horizontalAdvance(column.mark)
            said = self.metrics(self.bold).horizontalAdvance(column.title or column.name)
            name_width = min(said, upper.width() - width - 4)
            at = upper.right() - width + 1 if column.right else upper.left() + name_width + 4
            self.text(painter, QRect(at, upper.top(), width + 2, 16), column.mark, self.small, theme["water1"])
            upper.setWidth(upper.width() - width - 4)
        self.text(painter, upper, column.title or column.name, self.bold, theme["ink"], column.right)
        if hot:
            self._caret(painter, QPoint(rect.right() - CARET // 2 - 5, lower.center().y()))
            lower.setWidth(lower.width() - CARET)
        self.text(painter, lower, column.under, self.small, theme["faint"], column.right)
        painter.setPen(theme["line"])
        painter.drawLine(rect.right(), rect.top(), rect.right(), rect.bottom())

    @staticmethod
    def _caret(painter: QPainter, at: QPoint) -> None:
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setBrush(QBrush(theme["muted"]))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.drawPolygon(QPolygon([at + QPoint(-4, -2), at + QPoint(4, -2), at + QPoint(0, 3)]))
        painter.restore()

    # --- rows --------------------------------------------------------------------------------------------------

    def head(self, painter: QPainter, rect: QRect, line: Line, selected: bool) -> None:
        """Draw the head of a row: its number or the mark of its state."""
        painter.fillRect(rect, theme["water4"] if selected else theme["paper"])
        if line.state == "new":
            painter.fillRect(rect, theme["sea_bg"])
        if line.state == "deleted":
            self._hatch(painter, rect)
        strong = bool(line.state)
        ink = theme[_STATE_INK[line.state]] if strong else theme["muted" if selected else "faint"]
        self.text(painter, rect.adjusted(4, 0, -PAD, 0), line.head, self.bold if strong else self.small, ink, True)
        painter.setPen(theme["grid_line"])
        painter.drawLine(rect.left(), rect.bottom(), rect.right(), rect.bottom())

    def ground(self, painter: QPainter, rect: QRect, line: Line) -> None:
        """What lies under all cells of a row."""
        if line.state == "new":
            painter.fillRect(rect, theme["sea_bg"])
        elif line.state == "deleted":
            self._hatch(painter, rect)
        elif line.state == "conflict":
            painter.fillRect(rect, theme["plum_bg"])
        elif line.state == "written":
            painter.fillRect(rect, theme["water4"])
        elif line.is_strong:
            tint = QColor(theme["water4"])
            tint.setAlpha(110)
            painter.fillRect(rect, tint)

    def _hatch(self, painter: QPainter, rect: QRect) -> None:
        painter.fillRect(rect, theme["plum_bg"])
        painter.save()
        painter.setClipRect(rect)
        pen = QPen(theme["surface"], 4)
        painter.setPen(pen)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for x in range(rect.left() - rect.height(), rect.right() + rect.height(), 12):
            painter.drawLine(x, rect.bottom() + 2, x + rect.height() + 4, rect.top() - 2)
        painter.restore()

    def cell(self, painter: QPainter, rect: QRect, cell: Cell, column: GridColumn, line: Line, selected: bool) -> None:  # noqa: C901 - a branch for each kind of cell
        """Draw one cell with the marks of its state."""
        inner = rect.adjusted(PAD, 0, -PAD, 0)
        if column.paint and cell.share and not line.state:
            self._painted(painter, rect, cell.share, column.paint)
        if selected:
            tint = QColor(theme["water3"])
            tint.setAlpha(110)
            painter.fillRect(rect.adjusted(0, 0, -1, -1), tint)
        if cell.old is not None:
            painter.fillRect(rect.adjusted(0, 0, -1, -1), theme["amber_bg"])
            painter.fillRect(QRect(rect.left(), rect.bottom() - 2, rect.width() - 1, 2), theme["amber"])
        if self._is_marked(cell, column):
            painter.fillRect(QRect(rect.left() + 4, rect.bottom() - 3, rect.width() - 9, 2), theme["otter"])
        if cell.look == "bar":
            self._bar(painter, inner, cell.share, line.is_strong)
            return
        if column.place == -1:
            inner = self._branch(painter, inner, line)
        if not cell.text:
            return
        is_tall = rect.height() >= 2 * tokens.ROW
        if is_tall and cell.data is not None and self.thumbnails is not None:
            picture = self.thumbnails.picture(cell.data, rect.height() - 8)
            if picture is not None:
                shown = picture.size().boundedTo(inner.size())
                size = picture.size().scaled(shown, Qt.AspectRatioMode.KeepAspectRatio)
                painter.drawPixmap(QRect(QPoint(inner.left(), rect.center().y() - size.height() // 2), size), picture)
                return
        font = self.bold if line.is_strong else self.font
        if cell.old is not None:
            width = min(self.metrics(self.struck).horizontalAdvance(cell.old) + 6, inner.width() // 2)
            new = min(self.metrics(font).horizontalAdvance(cell.text), inner.width() - width)
            at = inner.right() - new - width + 1 if column.right else inner.left()
            self.text(
                painter, QRect(at, inner.top(), width - 5, inner.height()), cell.old, self.struck, theme["amber_ink"]
            )
            inner = QRect(at + width, inner.top(), inner.right() - at - width + 1, inner.height())
        if is_tall and not column.right and column.place >= 0:
            painter.setFont(font)
            painter.setPen(self._ink(cell, line))
            painter.drawText(inner.adjusted(0, 4, 0, -4), _WRAPPED, cell.text)
            return
        if column.is_centred:
            painter.setFont(font)
            painter.setPen(self._ink(cell, line))
            painter.drawText(inner, Qt.AlignmentFlag.AlignCenter, self.elide(cell.text, font, inner.width()))
            return
        self.text(painter, inner, cell.text, font, self._ink(cell, line), column.right)

    @staticmethod
    def _painted(painter: QPainter, rect: QRect, share: float, paint: str) -> None:
        """A bar behind the number, or the ground deeper where the number is larger: one hue, told by lightness."""
        tint = QColor(theme["water3"])
        if paint == "scale":
            tint.setAlpha(round(20 + 200 * share))
            painter.fillRect(rect.adjusted(0, 0, -1, -1), tint)
        else:
            tint.setAlpha(150)
            painter.fillRect(
                QRect(rect.left(), rect.top() + 4, round((rect.width() - 1) * share), rect.height() - 8), tint
            )

    def _is_marked(self, cell: Cell, column: GridColumn) -> bool:
        is_text = self.marked is not None and column.place in self.marked_places and cell.look in ("plain", "nested")
        return is_text and self.marked is not None and self.marked(cell.text.replace(THIN, ""))

    def _ink(self, cell: Cell, line: Line) -> QColor:
        if line.state == "deleted":
            return theme["plum"]
        if cell.look in ("null", "missing", "blank", "faint"):
            return theme["faint"]
        if cell.look == "required":
            return theme["plum"]
        return theme["sea"] if cell.look == "nested" else theme["ink"]

    def _branch(self, painter: QPainter, inner: QRect, line: Line) -> QRect:
        """The triangle of a group and the room for its depth; returns what is left for the text."""
        indent = max(0, line.depth) * 18
        if line.is_open is not None:
            painter.save()
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            painter.setBrush(QBrush(theme["muted"]))
            painter.setPen(Qt.PenStyle.NoPen)
            x, y = inner.left() + indent, inner.center().y() + 1
            points = ((0, -2), (8, -2), (4, 3)) if line.is_open else ((2, -4), (7, 0), (2, 4))
            painter.drawPolygon(QPolygon([QPoint(x + a, y + b) for a, b in points]))
            painter.restore()
        return inner.adjusted(indent + (13 if line.depth >= 0 else 0), 0, 0, 0)

    def _bar(self, painter: QPainter, inner: QRect, share: float, strong: bool) -> None:
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme["water2" if strong else "water3"])
        width = max(2, round(inner.width() * min(1.0, share)))
        painter.drawRoundedRect(QRect(inner.left(), inner.center().y() - 4, width, 8), 2, 2)
        painter.restore()
