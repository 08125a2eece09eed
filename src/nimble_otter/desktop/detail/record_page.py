"""A row as a list of its fields. Only the lines in sight are painted, so that a row of thousands is as quick as one of
ten."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial
from typing import Any

from PySide6.QtCore import QAbstractListModel, QModelIndex, QPersistentModelIndex, QRect, QSize, Qt, Signal
from PySide6.QtGui import QPainter
from PySide6.QtWidgets import (
    QAbstractItemView,
    QLabel,
    QListView,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QVBoxLayout,
    QWidget,
)

from nimble_otter.changes import Filling, UnsetCell
from nimble_otter.desktop.kit import tokens
from nimble_otter.desktop.kit.theme import theme, ui_font
from nimble_otter.desktop.kit.widgets import ElidedLabel, as_plain, button, clear, label, row
from nimble_otter.table import MISSING, Field
from nimble_otter.table.text.show import grouped, shown
from nimble_otter.translation import tr
from nimble_otter.values import Value

_LINE_PX = 44
_MOST = 400
"""Characters of a value that are made into text for a line."""
Index = QModelIndex | QPersistentModelIndex


class _Fields(QAbstractListModel):
    def __init__(self) -> None:
        super().__init__()
        self.fields: Sequence[Field] = ()
        self.values: Sequence[Any] = ()

    def fill(self, fields: Sequence[Field], values: Sequence[object]) -> None:
        if len(fields) != len(self.fields):
            self.beginResetModel()
            self.fields, self.values = fields, values
            self.endResetModel()
            return
        self.fields, self.values = fields, values
        if fields:
            self.dataChanged.emit(self.index(0, 0), self.index(len(fields) - 1, 0))

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008 - the toolkit's own way
        return 0 if parent.isValid() else len(self.fields)

    def words(self, at: int) -> tuple[str, str]:
        """What a line says of its value, and the ink it is said in: faint where that is nothing."""
        value, field = self.values[at], self.fields[at]
        if value is None:
            return "∅ NULL", "faint"
        if value is MISSING:
            return tr("· no such field"), "faint"
        if isinstance(value, UnsetCell):
            return value.sentence[:_MOST], "plum" if value.filling is Filling.REQUIRED else "faint"
        if isinstance(value, str):
            return (shown(value[:_MOST], field), "ink") if value else (tr("“ ” empty text"), "faint")
        return shown(value, field)[:_MOST], "ink"

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Value:
        if not index.isValid() or role not in (
            Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.AccessibleTextRole, Qt.ItemDataRole.ToolTipRole,
        ):  # fmt: skip
            return None
        text = f"{self.fields[index.row()].name}: {self.words(index.row())[0]}"
        return as_plain(text) if role == Qt.ItemDataRole.ToolTipRole else text


class _Paint(QStyledItemDelegate):
    """The name with its origin at the right, and the value below."""

    def sizeHint(self, option: QStyleOptionViewItem, index: Index) -> QSize:
        return QSize(100, _LINE_PX)

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: Index) -> None:
        model, at = index.model(), index.row()
        assert isinstance(model, _Fields)
        field, (words, ink) = model.fields[at], model.words(at)
        rect = QRect(option.rect).adjusted(0, 4, -4, -1)
        half = rect.height() // 2
        top, below = QRect(rect.left(), rect.top(), rect.width(), half), rect.adjusted(0, half, 0, 0)
        painter.save()
        painter.setPen(theme["grid_line"])
        painter.drawLine(rect.left(), rect.bottom() + 1, rect.right(), rect.bottom() + 1)
        painter.setFont(ui_font(tokens.SMALL_PX))
        painter.setPen(theme["muted"])
        metrics, elide = painter.fontMetrics(), Qt.TextElideMode.ElideRight
        name = metrics.elidedText(field.name, elide, top.width() * 2 // 3)
        painter.drawText(top, Qt.AlignmentFlag.AlignVCenter, name)
        under = metrics.elidedText(
            field.origin or field.note, elide, top.width() - metrics.horizontalAdvance(name) - 10
        )
        painter.drawText(top, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, under)
        painter.setFont(ui_font(tokens.UI_PX))
        painter.setPen(theme[ink])
        painter.drawText(
            below, Qt.AlignmentFlag.AlignVCenter, painter.fontMetrics().elidedText(words, elide, below.width())
        )
        painter.restore()


class RecordPage(QWidget):
    """`step_wanted` -1 or 1: the record before or after; `follow_wanted`: a way to follow, by its place; `back_wanted`:
    the way back."""

    step_wanted = Signal(int)
    follow_wanted = Signal(int)
    back_wanted = Signal()

    def __init__(self) -> None:
        super().__init__()
        self._fields, self.list = _Fields(), QListView()
        self.list.setModel(self._fields)
        self.list.setItemDelegate(_Paint(self.list))
        self.list.setUniformItemSizes(True)
        self.list.setFrameShape(QListView.Shape.NoFrame)
        self.list.setSelectionMode(QAbstractItemView.SelectionMode.NoSelection)
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.list.setVerticalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
        self.list.setAccessibleName(tr("Fields of the record"))
        self.list.setObjectName("record")
        self.list.viewport().setAutoFillBackground(False)
        self._none = label("", "faint", wrap=True)
        self._foot = label("", "muted", 12)
        self.back = button("", self.back_wanted.emit, "link", tr("To the rows that these were followed from"))
        self.back.hide()
        self._follow = QVBoxLayout()
        self._follow.setSpacing(2)
        self._links: list[tuple[str, str]] = []
        self._counts: list[QLabel] = []
        before = button("‹", lambda: self.step_wanted.emit(-1), "plain", tr("Previous record"))
        after = button("›", lambda: self.step_wanted.emit(1), "plain", tr("Next record"))
        self._ways = QWidget()
        self._ways.setLayout(row(self._foot, before, after, None, margins=(0, 6, 0, 0), space=4))
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addWidget(self._none)
        layout.addWidget(self.list, 1000)
        layout.addLayout(self._follow)
        layout.addWidget(self.back)
        layout.addWidget(self._ways)
        layout.addStretch(1)
        self.empty(tr("Select a row to see all its fields."))

    def fill(self, fields: Sequence[Field], values: Sequence[object], position: int, rows: int) -> None:
        """Show the fields and values of one row, the `position`-th of `rows`."""
        self._none.hide()
        if fields != self._fields.fields:
            self._forget_links()
        self._fields.fill(fields, values)
        self.list.setMaximumHeight(len(fields) * _LINE_PX + 2)
        self.list.show()
        self._ways.show()
        self._foot.setText(tr("Row {position} of {rows}", position=grouped(position + 1), rows=grouped(rows)))

    def _forget_links(self) -> None:
        clear(self._follow)
        self._links, self._counts = [], []  # counts may still be on their way

    def show_back(self, name: str) -> None:
        """The way back to a pull of this name; "" where there is none."""
        self.back.setText(tr("‹ Back to {name}", name=name))
        self.back.setVisible(bool(name))

    def show_links(self, links: list[tuple[str, str]]) -> None:
        """Ways to follow the record: (table, by which columns); counts are shown as they come."""
        if not self._fields.fields or links == self._links:
            for made in self._counts if links == self._links else ():
                made.setText("")
            return
        self._forget_links()
        self._links = links
        if links:
            self._follow.addSpacing(8)
            self._follow.addWidget(label(tr("Follow this row to"), "muted", tokens.SMALL_PX, True))
        for index, (table, by) in enumerate(links):
            go = button(
                table, partial(self.follow_wanted.emit, index), "link", tr("Rows of {table}, {by}", table=table, by=by)
            )
            go.setAccessibleName(tr("Follow to {table}, {by}", table=table, by=by))
            count = label("", "faint", tokens.SMALL_PX)
            self._counts.append(count)
            self._follow.addLayout(row(go, ElidedLabel(by, "faint", tokens.SMALL_PX), count, space=6))

    def show_count(self, place: int, text: str) -> None:
        """Tell beside a link how many related rows there are."""
        if place < len(self._counts):
            self._counts[place].setText(text)

    def empty(self, text: str) -> None:
        """Show no row, and say why."""
        self._forget_links()
        self._fields.fill((), ())
        self._none.setText(text)
        self._none.show()
        self.list.hide()
        self._ways.hide()
