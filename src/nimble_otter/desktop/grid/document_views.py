"""A result's rows as a tree or as JSON: the same rows, order and current row as the table shows."""

from __future__ import annotations

import json
from collections.abc import Mapping
from typing import Any

from PySide6.QtCore import QAbstractItemModel, QModelIndex, QObject, QPersistentModelIndex, QRect, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QTextCursor, QTextDocument
from PySide6.QtWidgets import QHeaderView, QLineEdit, QPlainTextEdit, QTreeView, QVBoxLayout, QWidget

from nimble_otter.desktop.kit.highlighter import Highlighter
from nimble_otter.desktop.kit.theme import code_font, theme
from nimble_otter.desktop.kit.widgets import button, label, row
from nimble_otter.table import MISSING, View
from nimble_otter.table.text.show import grouped, jsonable, shown
from nimble_otter.translation import tr

PAGE = 100
"""Documents that the JSON view shows at once."""
_Index = QModelIndex | QPersistentModelIndex


def document_at(view: View, position: int) -> dict[str, object]:
    """The row at a position as a document: fields that it does not have are left out."""
    row_id = int(view.row_ids(position, position + 1)[0])
    table = view.table
    found = {f.name: c.value(row_id) for f, c in zip(table.fields, table.columns, strict=True)}
    return {name: value for name, value in found.items() if value is not MISSING}


class _Node:
    """A value in the tree; what is inside is made when it is first asked for."""

    __slots__ = ("_inside", "name", "place", "up", "value")

    def __init__(self, name: str, value: object, place: int, up: _Node | None) -> None:
        self.name, self.value, self.place, self.up = name, value, place, up
        self._inside: list[_Node] | None = None

    @property
    def inside(self) -> list[_Node]:
        if self._inside is None:
            pairs: list[tuple[Any, Any]] = []
            if isinstance(self.value, Mapping):
                pairs = list(self.value.items())
            elif isinstance(self.value, list):
                pairs = list(enumerate(self.value))
            self._inside = [_Node(str(name), value, at, self) for at, (name, value) in enumerate(pairs)]
        return self._inside


class _Model(QAbstractItemModel):
    """Rows at the top, their fields and what is in them below."""

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        self._view: View | None = None
        self._tops: dict[int, _Node] = {}

    def show(self, view: View | None) -> None:
        self.beginResetModel()
        self._view, self._tops = view, {}
        self.endResetModel()

    def node(self, index: _Index) -> _Node | None:
        found = index.internalPointer() if index.isValid() else None
        return found if isinstance(found, _Node) else None

    def index(self, at: int, column: int, parent: _Index = QModelIndex()) -> QModelIndex:  # noqa: B008
        above = self.node(parent)
        if above is not None:
            return self.createIndex(at, column, above.inside[at])
        if self._view is None or not 0 <= at < len(self._view):
            return QModelIndex()
        if at not in self._tops:
            self._tops[at] = _Node(grouped(at + 1), document_at(self._view, at), at, None)
        return self.createIndex(at, column, self._tops[at])

    def parent(self, index: _Index) -> QModelIndex:  # type: ignore[override]
        node = self.node(index)
        up = node.up if node is not None else None
        return QModelIndex() if up is None else self.createIndex(up.place, 0, up)

    def rowCount(self, parent: _Index = QModelIndex()) -> int:  # noqa: B008
        if parent.column() > 0:
            return 0
        node = self.node(parent)
        if node is None:
            return 0 if self._view is None or parent.isValid() else len(self._view)
        return len(node.inside)

    def hasChildren(self, parent: _Index = QModelIndex()) -> bool:  # noqa: B008
        node = self.node(parent)
        return isinstance(node.value, (Mapping, list)) and bool(node.value) if node is not None else self.rowCount() > 0

    def columnCount(self, parent: _Index = QModelIndex()) -> int:  # noqa: B008
        return 2

    def data(self, index: _Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        node = self.node(index)
        if node is None:
            return None
        if role == Qt.ItemDataRole.ForegroundRole:
            nested = isinstance(node.value, (Mapping, list)) or node.value is None
            return theme[
                "muted" if index.column() == 0 else ("faint" if node.value is None else "sea" if nested else "ink")
            ]
        if role != Qt.ItemDataRole.DisplayRole:
            return None
        if index.column() == 0:
            return node.name
        return "∅" if node.value is None else ("“ ”" if node.value == "" else shown(node.value))

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        return (tr("Row and field"), tr("Value"))[section] if role == Qt.ItemDataRole.DisplayRole else None


class TreeView(QTreeView):
    """`position_changed` with the position of the row that the current item belongs to."""

    position_changed = Signal(int)

    def __init__(self) -> None:
        super().__init__()
        self._model = _Model(self)
        self.setModel(self._model)
        self.setUniformRowHeights(True)
        self.setAccessibleName(tr("Rows as a tree"))
        self.setObjectName("rows")
        self.setFrameShape(QTreeView.Shape.NoFrame)
        self.setIndentation(18)
        self.header().setSectionResizeMode(0, QHeaderView.ResizeMode.Interactive)
        self.setColumnWidth(0, 260)
        self._following = False
        self.selectionModel().currentChanged.connect(lambda index, _: self._moved(index))

    def show_rows(self, view: View | None, position: int) -> None:
        """Show these rows as trees, from a position on."""
        self._model.show(view)
        self.go(position)

    def go(self, position: int) -> None:
        """Make a row the current one and open it."""
        index = self._model.index(position, 0)
        if index.isValid() and self._top(self.currentIndex()) != position:
            self._following = True
            self.setCurrentIndex(index)
            self.expand(index)
            self.scrollTo(index)
            self._following = False

    def _top(self, index: QModelIndex) -> int:
        while index.parent().isValid():
            index = index.parent()
        return index.row()

    def _moved(self, index: QModelIndex) -> None:
        if not self._following and index.isValid():
            self.position_changed.emit(self._top(index))


class _JsonText(QPlainTextEdit):
    """Read-only text with a gutter whose marks fold what is between brackets."""

    def __init__(self) -> None:
        super().__init__()
        self.setReadOnly(True)
        self.setFont(code_font())
        self.setLineWrapMode(QPlainTextEdit.LineWrapMode.NoWrap)
        self.setAccessibleName(tr("Rows as JSON"))
        self.setViewportMargins(26, 0, 0, 0)
        highlighter = Highlighter(self.document())
        highlighter.is_json = True
        self._gutter = _Gutter(self)
        self.updateRequest.connect(lambda *_: self._gutter.update())

    def resizeEvent(self, event: Any) -> None:
        super().resizeEvent(event)
        area = self.contentsRect()
        self._gutter.setGeometry(QRect(area.left(), area.top(), 26, area.height()))

    def is_foldable(self, block: Any) -> bool:
        return bool(block.text().rstrip().endswith(("{", "[")))

    def is_folded(self, block: Any) -> bool:
        return block.next().isValid() and not block.next().isVisible()

    def fold(self, block: Any) -> None:
        """Hide or show the lines between a bracket and its end."""
        if not self.is_foldable(block):
            return
        fold = not self.is_folded(block)
        indent = len(block.text()) - len(block.text().lstrip())
        inner = block.next()
        while inner.isValid() and (len(inner.text()) - len(inner.text().lstrip()) > indent or not inner.text()):
            inner.setVisible(not fold)
            inner = inner.next()
        self.document().markContentsDirty(block.position(), inner.position() - block.position())
        self.viewport().update()
        self._gutter.update()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Space:
            self.fold(self.textCursor().block())
        else:
            super().keyPressEvent(event)

    def lines(self) -> list[tuple[Any, QRect]]:
        """The blocks in sight with their places."""
        results, block = [], self.firstVisibleBlock()
        top = self.blockBoundingGeometry(block).translated(self.contentOffset()).top()
        while block.isValid() and top <= self.viewport().height():
            height = self.blockBoundingRect(block).height()
            if block.isVisible():
                results.append((block, QRect(0, round(top), 26, round(height))))
            block, top = block.next(), top + height
        return results


class _Gutter(QWidget):
    def __init__(self, text: _JsonText) -> None:
        super().__init__(text)
        self._text = text

    def paintEvent(self, event: QPaintEvent) -> None:
        with QPainter(self) as painter:
            painter.fillRect(event.rect(), theme["raised"])
            painter.setFont(code_font(13))
            painter.setPen(theme["muted"])
            for block, rect in self._text.lines():
                if self._text.is_foldable(block):
                    mark = "▸" if self._text.is_folded(block) else "▾"
                    painter.drawText(rect, Qt.AlignmentFlag.AlignCenter, mark)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        for block, rect in self._text.lines():
            if rect.contains(event.position().toPoint()):
                self._text.fold(block)
                return


class JsonView(QWidget):
    """A page of documents as JSON, with folding and search; pages follow the current row."""

    position_changed = Signal(int)

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("surface")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.text = _JsonText()
        self.needle = QLineEdit()
        self.needle.setPlaceholderText(tr("Find in these rows"))
        self.needle.setAccessibleName(tr("Find in these rows"))
        self.needle.setMaximumWidth(260)
        self.needle.returnPressed.connect(self.find_next)
        self.needle.textChanged.connect(lambda _: self.find_next(again=False))
        self.said = label("", "muted", 12)
        before, after = button("‹", lambda: self._turn(-1), "plain", tr("Rows before")), button("›", lambda: self._turn(1), "plain", tr("Rows after"))  # fmt: skip  # noqa: E501
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addLayout(row(self.needle, None, self.said, before, after, margins=(12, 6, 8, 6)))
        layout.addWidget(self.text, 1)
        self._view: View | None = None
        self._first = 0
        self._starts: list[int] = []
        self._following = False
        self.text.cursorPositionChanged.connect(self._moved)

    def show_rows(self, view: View | None, position: int) -> None:
        """Show these rows as JSON, the page that holds a position."""
        self._view = view
        self._fill(max(0, position) // PAGE * PAGE)
        self.go(position)

    def _fill(self, first: int) -> None:
        self._following = True
        self._first, self._starts, texts, lines = first, [], [], 0
        count = len(self._view) if self._view is not None else 0
        for position in range(first, min(first + PAGE, count)):
            assert self._view is not None
            text = json.dumps(jsonable(document_at(self._view, position)), ensure_ascii=False, indent=2)
            self._starts.append(lines)
            lines += text.count("\n") + 1
            texts.append(text)
        self.text.setPlainText("\n".join(texts))
        last = min(first + PAGE, count)
        self.said.setText(
            tr("rows {first} to {last} of {count}", first=grouped(first + 1), last=grouped(last), count=grouped(count))
            if count
            else tr("no rows")
        )
        self._following = False

    def go(self, position: int) -> None:
        """Show a row, turning the page when needed."""
        if self._view is None or not 0 <= position < len(self._view) or position == self._position():
            return
        if position // PAGE * PAGE != self._first:
            self._fill(position // PAGE * PAGE)
        self._following = True
        block = self.text.document().findBlockByNumber(self._starts[position - self._first])
        self.text.setTextCursor(QTextCursor(block))
        self.text.verticalScrollBar().setValue(block.firstLineNumber())
        self._following = False

    def _position(self) -> int:
        line = self.text.textCursor().blockNumber()
        return self._first + max(0, sum(start <= line for start in self._starts) - 1)

    def _moved(self) -> None:
        if not self._following and self._starts:
            self.position_changed.emit(self._position())

    def _turn(self, way: int) -> None:
        count = len(self._view) if self._view is not None else 0
        first = self._first + way * PAGE
        if 0 <= first < count:
            self._fill(first)
            self.position_changed.emit(first)

    def find_next(self, again: bool = True) -> None:
        """The next place of the text that is typed, from the top again at the end."""
        needle = self.needle.text()
        if not needle:
            return
        if not again:
            cursor = self.text.textCursor()
            cursor.setPosition(cursor.selectionStart())
            self.text.setTextCursor(cursor)
        if not self.text.find(needle):
            start = QTextCursor(self.text.document())
            self.text.setTextCursor(start)
            if not self.text.find(needle, QTextDocument.FindFlag(0)):
                self.said.setText(
                    tr(
                        "not in the rows {first} to {last}",
                        first=grouped(self._first + 1),
                        last=grouped(self._first + len(self._starts)),
                    )
                )
