"""The left pane: sources with their tables and columns, and the shelf of saved pulls."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from PySide6.QtCore import (
    QEvent,
    QMimeData,
    QModelIndex,
    QObject,
    QPersistentModelIndex,
    QPoint,
    QRect,
    QSize,
    Qt,
    Signal,
)
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPen
from PySide6.QtWidgets import (
    QFrame,
    QLineEdit,
    QMenu,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QTreeWidget,
    QTreeWidgetItem,
    QVBoxLayout,
    QWidget,
)

from nimble_otter.desktop.kit import tokens
from nimble_otter.desktop.kit.mime_types import FIELD_DRAG, NAME_DRAG, put_parts
from nimble_otter.desktop.kit.theme import theme, ui_font
from nimble_otter.desktop.kit.widgets import as_plain, button, label, row
from nimble_otter.desktop.runtime.connections import ConnectionManager
from nimble_otter.pull import places
from nimble_otter.pull.file import SUFFIX
from nimble_otter.sources import ColumnInfo, Source, TableInfo
from nimble_otter.sources.catalogue import EntryKind
from nimble_otter.table.text.show import grouped
from nimble_otter.translation import tr, tr_value

_ROLE = Qt.ItemDataRole.UserRole
_RIGHT, _LEVEL, _DATA = _ROLE, _ROLE + 1, _ROLE + 2
MOST_SHOWN = 400
"""Tables of a source that the tree lists; the others are found by typing."""

_NAME_SHARE, _GAP = 0.7, 8
"""How much of a line a name takes before the word at its right is cut; pixels between them."""


class _Paint(QStyledItemDelegate):
    """Name on the left, a faint word or count on the right; depth by indent and size."""

    def sizeHint(self, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex) -> QSize:
        return QSize(100, 22 if index.data(_LEVEL) == 2 else tokens.ROW)

    def paint(
        self, painter: QPainter, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex
    ) -> None:
        level = index.data(_LEVEL) or 0
        rect: QRect = option.rect
        state = option.state
        whole = QRect(0, rect.top(), rect.right() + 1, rect.height())
        if state & QStyle.StateFlag.State_Selected:
            painter.fillRect(whole, theme["water4"])
            painter.fillRect(QRect(0, rect.top(), 3, rect.height()), theme["water1"])
        elif state & QStyle.StateFlag.State_MouseOver:
            painter.fillRect(whole, theme["sunk"])
        indent = (29, 28, 44)[level]
        if level == 0:
            self._house(painter, QPoint(14, rect.center().y()))
        right = str(index.data(_RIGHT) or "")
        data = index.data(_DATA)
        if level == 0 and isinstance(data, Source) and data.stage:
            rect = rect.adjusted(0, 0, -self._tag(painter, rect, data.stage), 0)
        inner = QRect(indent, rect.top(), rect.right() - indent - 10, rect.height())
        painter.setFont(ui_font(tokens.UI_PX if level < 2 else 12))
        name_room = min(painter.fontMetrics().horizontalAdvance(str(index.data())), round(inner.width() * _NAME_SHARE))
        painter.setFont(ui_font(tokens.SMALL_PX))
        right = painter.fontMetrics().elidedText(
            right, Qt.TextElideMode.ElideRight, inner.width() - name_room - _GAP
        )  # the name comes first
        width = painter.fontMetrics().horizontalAdvance(right)
        painter.setPen(theme["faint"])
        painter.drawText(inner, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, right)
        painter.setFont(ui_font(tokens.UI_PX if level < 2 else 12))
        painter.setPen(theme["ink" if level < 2 else "muted"])
        room = inner.width() - width - _GAP
        text = painter.fontMetrics().elidedText(str(index.data()), Qt.TextElideMode.ElideRight, room)
        painter.drawText(inner.adjusted(0, 0, -width, 0), Qt.AlignmentFlag.AlignVCenter, text)

    @staticmethod
    def _tag(painter: QPainter, rect: QRect, stage: str) -> int:
        """What the source is for, told by the frame as well: doubled for production, broken for the rest."""
        painter.save()
        painter.setFont(ui_font(10, stage == "production"))
        width = painter.fontMetrics().horizontalAdvance(stage) + 10
        box = QRect(rect.right() - width - 8, rect.center().y() - 7, width, 15)
        pen = QPen(theme["ink" if stage == "production" else "muted"], 1)
        pen.setStyle(Qt.PenStyle.SolidLine if stage == "production" else Qt.PenStyle.DashLine)
        painter.setPen(pen)
        painter.drawRect(box)
        if stage == "production":
            painter.drawRect(box.adjusted(-2, -2, 2, 2))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, stage)
        painter.restore()
        return width + 6

    @staticmethod
    def _house(painter: QPainter, at: QPoint) -> None:
        """A small well: where water is drawn from."""
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(theme["muted"], 1.3))
        x, y = at.x(), at.y()
        painter.drawLine(x, y, x + 4, y - 4)
        painter.drawLine(x + 4, y - 4, x + 8, y)
        painter.drawRect(x + 1, y, 6, 4)
        painter.restore()


class _Tree(QTreeWidget):
    entered_item = Signal()
    glanced = Signal()
    searched = Signal(str)

    def __init__(self, name: str) -> None:
        super().__init__()
        self.setHeaderHidden(True)
        self.setIndentation(0)
        self.setRootIsDecorated(False)
        self.setExpandsOnDoubleClick(False)
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setMouseTracking(True)
        self.setItemDelegate(_Paint(self))
        self.setAccessibleName(name)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        theme.changed.connect(self.viewport().update)
        self._under: QTreeWidgetItem | None = None

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """With Alt held, what is under the mouse is glanced at."""
        item = self.itemAt(event.position().toPoint())
        if event.modifiers() & Qt.KeyboardModifier.AltModifier and not event.buttons() and item is not None:
            if isinstance(item.data(0, _DATA), TableInfo) and item is not self._under:
                self._under = item
                self.setCurrentItem(item)
                self.glanced.emit()
            return
        self._under = None
        super().mouseMoveEvent(event)

    def mimeData(self, items: Sequence[QTreeWidgetItem]) -> QMimeData:
        """A table's or column's name, to be dropped on the query."""
        mime_data = QMimeData()
        data = items[0].data(0, _DATA) if items else None
        if isinstance(data, (TableInfo, ColumnInfo)):
            mime_data.setData(NAME_DRAG, data.name.encode())
        above = items[0].parent() if items else None
        table = above.data(0, _DATA) if above is not None else None
        if isinstance(data, ColumnInfo) and isinstance(table, TableInfo):
            put_parts(mime_data, FIELD_DRAG, table.name, data.name)
        return mime_data

    def keyPressEvent(self, event: QKeyEvent) -> None:
        item = self.currentItem()
        if item is not None and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.entered_item.emit()
        elif item is not None and event.key() == Qt.Key.Key_Space:
            self.glanced.emit()
        elif event.text().strip() and not event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self.searched.emit(event.text())
        elif item is not None and event.key() == Qt.Key.Key_Right and item.childCount() and not item.isExpanded():
            item.setExpanded(True)
        elif item is not None and event.key() == Qt.Key.Key_Left and not item.isExpanded() and item.parent():
            above = item.parent()
            assert above is not None
            self.setCurrentItem(above)
        else:
            super().keyPressEvent(event)


class SourcesPane(QWidget):
    """`opened` a table of a source, `collection_chosen` a collection to be described, `shelf_opened` a saved pull."""

    opened = Signal(object, object)
    collection_chosen = Signal(object, str)
    table_chosen = Signal(object, str)
    shelf_opened = Signal(Path)
    add_wanted = Signal()
    name_wanted = Signal(object, str)
    glance_wanted = Signal(object, object)
    page_wanted = Signal(object)
    send_wanted = Signal(object, object)
    compare_wanted = Signal(object, object)
    search_wanted = Signal(object, object)
    call_wanted = Signal(object, object)

    def __init__(self, hub: ConnectionManager) -> None:
        super().__init__()
        self.setObjectName("paper")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._hub = hub
        self.tree, self.shelf = _Tree(tr("Sources")), _Tree(tr("Shelf"))
        add = button("+", self.add_wanted.emit, "plain", tr("Add a source"))
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 13, 0, 8)
        layout.setSpacing(4)
        title = label(tr("Sources"), "muted", tokens.SMALL_PX, True)
        layout.addLayout(row(title, None, add, margins=(14, 0, 6, 0)))
        self.filter = QLineEdit()
        self.filter.setPlaceholderText(tr("Filter by name"))
        self.filter.setAccessibleName(tr("Filter the sources by name"))
        self.filter.setClearButtonEnabled(True)
        self.filter.textChanged.connect(lambda _: self._filtered())
        self.filter.installEventFilter(self)
        layout.addLayout(row(self.filter, margins=(12, 0, 12, 2)))
        layout.addWidget(self.tree, 1)
        layout.addLayout(row(label(tr("Shelf"), "muted", tokens.SMALL_PX, True), margins=(14, 6, 6, 2)))
        self.nothing = label(tr("Saved pulls appear here (Ctrl+S)."), "faint", 12, wrap=True)
        self.nothing.setContentsMargins(28, 2, 8, 4)
        layout.addWidget(self.nothing)
        layout.addWidget(self.shelf)
        self.tree.itemClicked.connect(lambda item: self._clicked(item))
        self.tree.itemDoubleClicked.connect(lambda item: self.open_item(item))
        self.tree.entered_item.connect(lambda: self.open_item(self.tree.currentItem()))
        self.tree.glanced.connect(lambda: self.glance(self.tree.currentItem()))
        self.tree.searched.connect(self._search)
        self.tree.itemExpanded.connect(self._fill_columns)
        self.tree.setDragEnabled(True)
        self.tree.currentItemChanged.connect(lambda item, _: self._described(item))
        self.tree.customContextMenuRequested.connect(self._menu)
        self.shelf.itemDoubleClicked.connect(lambda item: self._open_from_shelf(item))
        self.shelf.entered_item.connect(lambda: self._open_from_shelf(self.shelf.currentItem()))
        hub.changed.connect(self.refresh)
        self.refresh("")
        self.refresh_shelf()

    # --- filling -----------------------------------------------------------------------------------------------

    def refresh(self, name: str) -> None:
        """Fill the tree, or one source of it, leaving open what was open."""
        if not name:
            open_names = {top.text(0) for top in self._tops() if top.isExpanded()}
            self.tree.clear()
            for source in self._hub.sources:
                item = self._item(source.name, _kind(source), 0, source)
                self.tree.addTopLevelItem(item)
                self._fill(item, source)
                item.setExpanded(source.name in open_names)
            return
        for item in self._tops():
            if item.text(0) == name:
                self._fill(item, item.data(0, _DATA))

    def _fill(self, item: QTreeWidgetItem, source: Source) -> None:
        opened = {child.text(0) for child in self._children(item) if child.isExpanded()}
        current = self.tree.currentItem()
        chosen = current.text(0) if current is not None and current in self._children(item) else ""
        bar = self.tree.verticalScrollBar().value()
        first_time = item.childCount() == 0
        item.takeChildren()
        problem = self._hub.errors.get(source.name)
        if problem is not None:
            item.setData(0, _RIGHT, tr("not reached"))
            item.setToolTip(0, as_plain(str(problem)))
            item.addChild(self._item(problem.message, "", 2, None))
            item.setExpanded(True)
            return
        item.setData(0, _RIGHT, _kind(source))
        tables = self._wanted(source)
        children = []
        for table in tables[:MOST_SHOWN]:
            child = self._item(table.name, self._count(source, table), 1, table)
            if table.columns or (source.name, table.name) in self._hub.shapes:
                child.setChildIndicatorPolicy(QTreeWidgetItem.ChildIndicatorPolicy.ShowIndicator)
            children.append(child)
        item.addChildren(children)
        for child, table in zip(children, tables, strict=False):
            if table.name in opened or table.name == chosen:
                child.setExpanded(table.name in opened)
                self._fill_columns(child)
            if table.name == chosen:
                self.tree.setCurrentItem(child)
        if len(tables) > MOST_SHOWN:
            more = tr("{tables_count} more: type to filter", tables_count=grouped(len(tables) - MOST_SHOWN))
            item.addChild(self._item(more, "", 2, None))
        if self.filter.text().strip() and children:
            item.setExpanded(True)
        if first_time and item.childCount():
            item.setExpanded(True)
        self.tree.verticalScrollBar().setValue(bar)

    def _wanted(self, source: Source) -> list[TableInfo]:
        """The tables whose name, or the name of a column, has what is typed; all with nothing typed."""
        tables, needle = self._hub.tables.get(source.name, []), self.filter.text().strip().casefold()
        if not needle:
            return tables
        named = [t for t in tables if needle in t.name.casefold()]
        return named or [t for t in tables if any(needle in c.name.casefold() for c in t.columns)]

    def _filtered(self) -> None:
        for top in self._tops():
            self._fill(top, top.data(0, _DATA))

    def _search(self, text: str) -> None:
        """Typing in the tree filters it."""
        self.filter.setFocus()
        self.filter.setText(text)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """Glance, open and narrow by the keyboard."""
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.ShortcutOverride:
            if event.key() == Qt.Key.Key_Escape and self.filter.text():
                event.accept()
        elif isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            if event.key() == Qt.Key.Key_Escape and self.filter.text():
                self.filter.clear()
                return True
            if event.key() in (Qt.Key.Key_Down, Qt.Key.Key_Return, Qt.Key.Key_Enter):
                self._go_to_first()
                return True
        return False

    def _go_to_first(self) -> None:
        self.tree.setFocus()
        for top in self._tops():
            first = top.child(0)
            if top.isExpanded() and first is not None:
                self.tree.setCurrentItem(first)
                return

    def _fill_columns(self, item: QTreeWidgetItem) -> None:
        """A table's columns, made when they are first to be seen."""
        source, table = self._table_of(item)
        if source is None or table is None or item.data(0, _DATA) is not table or item.childCount():
            return
        columns = table.columns or self._fields(source, table)
        item.addChildren([self._item(column.name, _column_word(column), 2, column) for column in columns])

    @staticmethod
    def _children(item: QTreeWidgetItem) -> list[QTreeWidgetItem]:
        return [child for n in range(item.childCount()) if (child := item.child(n)) is not None]

    def _tops(self) -> list[QTreeWidgetItem]:
        return self._children(self.tree.invisibleRootItem())

    def _fields(self, source: Source, table: TableInfo) -> list[ColumnInfo]:
        """The fields of a collection that has been sampled, with what they hold."""
        shapes = self._hub.shapes.get((source.name, table.name))
        return [] if shapes is None else [ColumnInfo(path, word=" or ".join(by)) for path, by in shapes.types.items()]

    def _count(self, source: Source, table: TableInfo) -> str:
        if table.kind in (EntryKind.VIEW, EntryKind.MATERIALIZED_VIEW, EntryKind.ROUTINE, EntryKind.SEQUENCE):
            return (
                tr("view")
                if table.kind != EntryKind.ROUTINE and table.kind != EntryKind.SEQUENCE
                else tr_value(table.kind)
            )
        shapes = self._hub.shapes.get((source.name, table.name))
        if shapes is not None:
            return tr("{shapes_count} shapes", shapes_count=len(shapes.shapes))
        binary = "▤ " if table.has_binary else ""
        about = "≈ " if table.is_estimate else ""
        return binary + about + (grouped(table.rows) if table.rows is not None else "")

    @staticmethod
    def _item(text: str, right: str, level: int, data: object) -> QTreeWidgetItem:
        item = QTreeWidgetItem([text])
        item.setData(0, _RIGHT, right)
        item.setData(0, _LEVEL, level)
        item.setData(0, _DATA, data)
        if level == 2:
            item.setToolTip(0, as_plain(f"{text}: {right}" if right else text))
        return item

    def _open_from_shelf(self, item: QTreeWidgetItem | None) -> None:
        if item is not None:
            self.shelf_opened.emit(item.data(0, _DATA))

    def refresh_shelf(self) -> None:
        """Read the shelf's folder."""
        self.shelf.clear()
        for folder in places.shelf_folders():
            whose = "" if folder == places.shelf_folder() else tr("team")
            for path in sorted(folder.rglob(f"*{SUFFIX}")) if folder.is_dir() else ():
                name = str(path.relative_to(folder).with_suffix(""))
                self.shelf.addTopLevelItem(self._item(name, whose, 1, path))
        count = self.shelf.topLevelItemCount()
        self.nothing.setVisible(not count)
        self.shelf.setVisible(count > 0)
        self.shelf.setFixedHeight(min(8, max(1, count)) * tokens.ROW + 4)

    # --- doing -------------------------------------------------------------------------------------------------

    def _clicked(self, item: QTreeWidgetItem) -> None:
        data = item.data(0, _DATA)
        if isinstance(data, Source):
            if data.name not in self._hub.tables:
                self._hub.open(data, again=data.name in self._hub.errors)
            item.setExpanded(not item.isExpanded() or data.name not in self._hub.tables)
        elif isinstance(data, TableInfo):
            item.setExpanded(not item.isExpanded())

    def _described(self, item: QTreeWidgetItem | None) -> None:
        source, table = self._table_of(item)
        if source is not None and table is not None:
            if table.kind == EntryKind.COLLECTION:
                self.collection_chosen.emit(source, table.name)
            else:
                self.table_chosen.emit(source, table.name)

    @staticmethod
    def _table_of(start: QTreeWidgetItem | None) -> tuple[Source | None, TableInfo | None]:
        item = start
        while item is not None and not isinstance(item.data(0, _DATA), TableInfo):
            item = item.parent()
        above = item.parent() if item is not None else None
        if item is None or above is None:
            return None, None
        return above.data(0, _DATA), item.data(0, _DATA)

    def open_item(self, item: QTreeWidgetItem | None) -> None:
        """Open the table under an item as a pull; a source is opened or folded."""
        if item is None:
            return
        source, table = self._table_of(item)
        if source is not None and table is not None and not table.holds_rows:
            self.glance_wanted.emit(source, table)
        elif source is not None and table is not None:
            self.opened.emit(source, table)
        elif isinstance(item.data(0, _DATA), Source):
            self._hub.open(item.data(0, _DATA), again=True)
            item.setExpanded(True)

    def glance(self, item: QTreeWidgetItem | None) -> None:
        """Show what a table is, without opening it."""
        source, table = self._table_of(item)
        if source is not None and table is not None:
            self.glance_wanted.emit(source, table)

    def reveal(self, source: str, table: str, column: str = "") -> None:
        """Select a table, or a column of it, opening its source."""
        if self.filter.text() and table:
            self.filter.clear()
        for item in self._tops():
            if item.text(0) != source:
                continue
            item.setExpanded(True)
            for child in self._children(item):
                if child.text(0) == table:
                    self.tree.setCurrentItem(child)
                    self.tree.scrollToItem(child)
                    if column:
                        child.setExpanded(True)
                        self._fill_columns(child)
                        named = [c for c in self._children(child) if c.text(0) == column]
                        self.tree.setCurrentItem(named[0] if named else child)

    def _menu(self, at: QPoint) -> None:
        item = self.tree.itemAt(at)
        if item is None:
            return
        menu, data = QMenu(self), item.data(0, _DATA)
        source, _ = self._table_of(item)
        if isinstance(data, TableInfo) and source is not None:
            if data.holds_rows:
                menu.addAction(tr("Open as a pull"), lambda: self.open_item(item))
            menu.addAction(tr("Glance (Space)"), lambda: self.glance(item))
            if data.kind == EntryKind.ROUTINE:
                menu.addAction(tr("Call it…"), lambda: self.call_wanted.emit(source, data))
            if data.holds_rows:
                menu.addAction(tr("Send the rows…"), lambda: self.send_wanted.emit(source, [data]))
                menu.addAction(tr("Compare this pull with it…"), lambda: self.compare_wanted.emit(source, data))
                menu.addAction(tr("Count exactly"), lambda: self._hub.count_exactly(source, data.name))
                menu.addAction(tr("Find a value in it…"), lambda: self.search_wanted.emit(source, data))
        if isinstance(data, (TableInfo, ColumnInfo)) and source is not None:
            menu.addAction(tr("Insert the name into the query"), lambda: self.name_wanted.emit(source, data.name))
        if isinstance(data, Source):
            menu.addAction(tr("Read the catalogue again"), lambda: self._hub.open(data, again=True))
            menu.addAction(tr("Find a value in it…"), lambda: self.search_wanted.emit(data, None))
            menu.addAction(tr("Send tables…"), lambda: self.send_wanted.emit(data, []))
            if not data.url.startswith("demo:"):
                menu.addAction(tr("Its page…"), lambda: self.page_wanted.emit(data))
            is_demo = data.url.startswith("demo:")
            menu.addAction(
                tr("Remove the demo") if is_demo else tr("Remove from the list"), lambda: self._hub.remove(data)
            )
        if menu.actions():
            menu.exec(self.tree.viewport().mapToGlobal(at))


def _column_word(column: ColumnInfo) -> str:
    if column.key:
        return tr("key") if not column.refers else tr("key → {split}", split=column.refers.split(".")[0])
    return f"→ {column.refers.split('.')[0]}" if column.refers else column.word


def _kind(source: Source) -> str:
    """What stands at the right of a source."""
    return tr("team · {word}", word=source.word) if source.is_shared else source.word
