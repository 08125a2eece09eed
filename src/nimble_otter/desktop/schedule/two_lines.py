"""Rows of a list whose first column has a name and, under it, a few words."""

from __future__ import annotations

from PySide6.QtCore import QModelIndex, QPersistentModelIndex, QRect, QSize, Qt
from PySide6.QtGui import QPainter
from PySide6.QtWidgets import QStyle, QStyledItemDelegate, QStyleOptionViewItem

from nimble_otter.desktop.kit.theme import theme, ui_font

UNDER, TONE = Qt.ItemDataRole.UserRole + 1, Qt.ItemDataRole.UserRole + 2
"""Roles of a row's first cell: the words under its name; the token of their colour."""
HEIGHT = 44


class TwoLines(QStyledItemDelegate):
    """Paints the cells of such a row; all its cells know their row's first."""

    def sizeHint(self, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex) -> QSize:
        """As high as two lines."""
        return QSize(super().sizeHint(option, index).width(), HEIGHT)

    def paint(
        self, painter: QPainter, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex
    ) -> None:
        """Paint a cell."""
        self.initStyleOption(option, index)
        rect: QRect = option.rect
        first = index.sibling(index.row(), 0)
        tone = first.data(TONE) or "muted"
        selected = bool(option.state & QStyle.StateFlag.State_Selected)
        ground = "water4" if selected else "plum_bg" if tone == "plum" else "surface"
        painter.save()
        painter.fillRect(rect, theme[ground])
        painter.setPen(theme["grid_line"])
        painter.drawLine(rect.bottomLeft(), rect.bottomRight())
        inner, under = rect.adjusted(6, 4, -8, -4), str(index.data(UNDER) or "")
        self._line(painter, inner, 0, str(index.data() or ""), 13, index.column() == 0, "ink")
        if under:
            self._line(painter, inner, 18, under, 11, False, tone if index.column() == 0 else "muted")
        painter.restore()

    @staticmethod
    def _line(painter: QPainter, inner: QRect, top: int, text: str, px: int, bold: bool, tone: str) -> None:
        painter.setFont(ui_font(px, bold))
        painter.setPen(theme[tone])
        message = painter.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, inner.width())
        painter.drawText(
            QRect(inner.left(), inner.top() + top, inner.width(), 18), Qt.AlignmentFlag.AlignVCenter, message
        )
