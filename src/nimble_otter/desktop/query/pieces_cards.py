"""The tables of a query as cards beside each other, joined by lines; their columns are ticked in them."""

from __future__ import annotations

from functools import partial

from PySide6.QtCore import QEvent, QObject, QPoint, QPointF, QRect, QSize, Qt, QTimerEvent
from PySide6.QtGui import (
    QDragEnterEvent,
    QDropEvent,
    QKeyEvent,
    QPainter,
    QPainterPath,
    QPaintEvent,
    QPen,
    QResizeEvent,
)
from PySide6.QtWidgets import (
    QFrame,
    QHeaderView,
    QMenu,
    QPushButton,
    QScrollArea,
    QTreeWidget,
    QTreeWidgetItem,
    QWidget,
)

from nimble_otter.desktop.kit import tokens
from nimble_otter.desktop.kit.mime_types import FIELD_DRAG, NAME_DRAG, VALUE_DRAG, parts_in, text_in
from nimble_otter.desktop.kit.theme import theme, ui_font
from nimble_otter.desktop.kit.widgets import ElidedLabel, Line, as_plain, button, calling, column, label, row
from nimble_otter.desktop.query.query_host import PiecesHost
from nimble_otter.query.pieces.edits import (
    JOINS,
    add_order,
    column_said,
    only_columns,
    remove_table,
    routes,
    set_join,
    set_route,
    tick,
    ticked,
)
from nimble_otter.query.pieces.model import QueryModel, TableRef
from nimble_otter.translation import tr, trn

_WIDTH, _GAP, _EDGE, _LANE = 172, 104, 12, 16
_LEAST, _ROW = 104, 21
_NAME = Qt.ItemDataRole.UserRole


class _CardBox(QFrame):
    """A card: the table's name, and its columns to be ticked."""

    def __init__(self, cards: Cards, view: PiecesHost, at: int) -> None:
        super().__init__()
        self.setObjectName("card")
        self._cards, self._view, self.at = cards, view, at
        card = self.card
        bare = card.table.rpartition(".")[2]
        head = ElidedLabel(card.alias or card.text)
        head.setFont(label("", bold=True).font())
        under = ElidedLabel(bare if bare and bare.casefold() != card.alias.casefold() else "", "muted", tokens.SMALL_PX)
        close = button(
            "×", lambda: self._cards.remove(at), "plain", tr("Remove {alias}", alias=card.alias or tr("this part"))
        )
        title = row(head, under, close, space=6, margins=(9, 3, 2, 1))
        title.setStretch(0, 3)
        title.setStretch(1, 2 if under.text() else 0)
        self.columns = QTreeWidget()
        self.columns.setAccessibleName(tr("Columns of {alias}", alias=card.alias))
        self.columns.setColumnCount(2)
        self.columns.setHeaderHidden(True)
        self.columns.setRootIsDecorated(False)
        self.columns.setIndentation(0)
        self.columns.setUniformRowHeights(True)
        self.columns.setTextElideMode(Qt.TextElideMode.ElideMiddle)
        self.columns.setObjectName(f"card {at}")
        self.columns.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.columns.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.columns.header().setStretchLastSection(True)
        self.setLayout(column(title, Line(colour="grid_line"), self.columns, space=0, margins=(1, 1, 1, 4)))
        self._fill()
        self.columns.itemChanged.connect(self._ticked)
        self.columns.customContextMenuRequested.connect(self.offer)
        self.columns.installEventFilter(self)

    @property
    def card(self) -> TableRef:
        return self._view.asked.pieces.cards[self.at]

    def _fill(self) -> None:
        card, asked = self.card, self._view.asked
        columns, on = asked.columns(card), ticked(asked.pieces, card, asked.names)
        if not columns:
            what = tr("a query of its own") if not card.table else tr("not in the catalogue")
            item = QTreeWidgetItem([what])
            item.setFlags(Qt.ItemFlag.ItemIsEnabled)
            item.setForeground(0, theme["faint"])
            item.setToolTip(0, as_plain(card.text))
            item.setFirstColumnSpanned(True)
            self.columns.addTopLevelItem(item)
            return
        known = asked.names.table(card.table)
        keys = {name for key in known.keys for name in key.columns} if known is not None else set()
        count = sum(name.casefold() in on for name, _ in columns)
        whole = count == len(columns) or "*" in on
        states, small = Qt.CheckState, ui_font(tokens.SMALL_PX)
        state = states.Checked if whole else states.PartiallyChecked if count else states.Unchecked
        for name, word in (("", f"{len(columns)}"), *columns):
            item = QTreeWidgetItem([name or tr("all columns"), f"→ {word}" if name in keys else word])
            item.setData(0, _NAME, name)
            item.setSizeHint(0, QSize(0, _ROW))
            item.setForeground(1, theme["muted"])
            item.setFont(1, small)
            item.setTextAlignment(1, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            if not name:
                item.setForeground(0, theme["muted"])
            ticks = state if not name else states.Checked if "*" in on or name.casefold() in on else states.Unchecked
            item.setCheckState(0, ticks)
            item.setToolTip(0, as_plain(name))
            self.columns.addTopLevelItem(item)
        header, modes = self.columns.header(), QHeaderView.ResizeMode
        header.setStretchLastSection(False)
        header.setMinimumSectionSize(20)
        header.setSectionResizeMode(0, modes.Stretch)
        header.setSectionResizeMode(1, modes.ResizeToContents)

    def _ticked(self, item: QTreeWidgetItem) -> None:
        name, on = item.data(0, _NAME), item.checkState(0) == Qt.CheckState.Checked
        if not name:
            done = self._view.change(
                lambda p: only_columns(p, self.card, self._view.asked.names, self._view.quoted, on)
            )
        else:
            done = self._cards.tick(self.card, name, on)
        if not done:
            self._cards.fill_later()  # the tick goes back to what the query says

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if event.type() == QEvent.Type.KeyPress and isinstance(event, QKeyEvent):
            item = self.columns.currentItem()
            name = item.data(0, _NAME) if item is not None else ""
            if event.key() == Qt.Key.Key_Delete:
                self._cards.remove(self.at)
                return True
            if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and name:
                self._view.begin_condition(self.said(name))
                return True
            if event.key() == Qt.Key.Key_Menu:
                self.offer(self.columns.visualItemRect(item).bottomLeft() if item is not None else QPoint())
                return True
        return super().eventFilter(watched, event)

    def said(self, name: str) -> str:
        """A column as conditions and the order write it."""
        return column_said(self._view.asked.pieces, self.card, name, self._view.quoted)

    def offer(self, at: QPoint) -> None:
        item = self.columns.itemAt(at) or self.columns.currentItem()
        name = item.data(0, _NAME) if item is not None else ""
        menu = QMenu(self)
        if name:
            menu.addAction(tr("Condition on {name}…", name=name), lambda: self._view.begin_condition(self.said(name)))
            menu.addAction(tr("Order by it"), lambda: self._view.change(lambda p: add_order(p, self.said(name))))
            menu.addAction(tr("Order by it, descending"), partial(self._order_down, name))
            menu.addSeparator()
        menu.addAction(tr("Remove {alias}", alias=self.card.alias), lambda: self._cards.remove(self.at))
        menu.popup(self.columns.viewport().mapToGlobal(at))

    def _order_down(self, name: str) -> None:
        self._view.change(lambda p: add_order(p, self.said(name), True))


class Cards(QScrollArea):
    """All cards, left to right in the order of the text; takes tables, columns and values that are dropped."""

    def __init__(self, view: PiecesHost) -> None:
        super().__init__()
        self._view = view
        self._ground = _Ground(self)
        self.setWidget(self._ground)
        self.setWidgetResizable(True)
        self.setMinimumWidth(220)
        self.setObjectName("surface")
        self.boxes: list[_CardBox] = []
        self.joins: dict[int, QPushButton] = {}
        self.add = button(tr("+ Table"), lambda: self.pick(), "", tr("Add a table"))
        self.add.setParent(self._ground)
        self.nothing = label(tr("No table yet. Add one, or drag one here from Sources."), "faint", wrap=True)
        self.nothing.setParent(self._ground)
        theme.changed.connect(self._ground.update)

    def pick(self) -> None:
        """Open the list of tables to add one."""
        self._view.pick_table(self.add.mapToGlobal(QPoint(0, self.add.height() + 2)))

    def reveal_last(self) -> None:
        """Bring the table that came in last into sight."""
        if self.boxes:
            self.ensureWidgetVisible(self.boxes[-1])

    def fill_later(self) -> None:
        """Fill anew once the tree that asks for it is done with its event."""
        self._ground.startTimer(0)

    def fill(self) -> None:
        """Make the cards anew, with the keyboard and the scrolled places where they were."""
        held = self._focus()
        tops = {box.columns.objectName(): box.columns.verticalScrollBar().value() for box in self.boxes}
        for old in (*self.boxes, *self.joins.values()):
            old.hide()
            old.setParent(None)
            old.deleteLater()
        pieces = self._view.asked.pieces
        self.boxes = [_CardBox(self, self._view, at) for at in range(len(pieces.cards))]
        self.joins = {at: self._join(at) for at in range(1, len(pieces.cards))}
        for widget in (*self.boxes, *self.joins.values()):
            widget.setParent(self._ground)
            widget.show()
        self.nothing.setVisible(not self.boxes)
        self.place()
        for box in self.boxes:
            box.columns.verticalScrollBar().setValue(tops.get(box.columns.objectName(), 0))
        if held is not None:
            self._give_focus(*held)
        self._ground.update()

    def _focus(self) -> tuple[str, int] | None:
        for box in self.boxes:
            if box.columns.hasFocus():
                return box.columns.objectName(), box.columns.currentIndex().row()
        return next((("join", at) for at, made in self.joins.items() if made.hasFocus()), None)

    def _give_focus(self, name: str, at: int) -> None:
        if name == "join" and at in self.joins:
            self.joins[at].setFocus()
        for box in self.boxes:
            if box.columns.objectName() == name:
                item = box.columns.topLevelItem(at)
                if item is not None:
                    box.columns.setCurrentItem(item)
                box.columns.setFocus()

    def _join(self, at: int) -> QPushButton:
        """The button in the middle of a line: how, and along which key."""
        card = self._view.asked.pieces.cards[at]
        columns = [c for link in card.links for c in link.columns]
        by = (
            columns[0]
            if len(columns) == 1
            else tr("{columns_count} columns", columns_count=len(columns))
            if columns
            else ""
        )
        by = by or (tr("a condition") if card.condition is not None else tr("no key"))
        by += f" + {len(card.rest)}" if card.rest and columns else ""
        word = {",": "listed"}.get(card.join, card.join)
        made = QPushButton()
        made.setText(f"{word}\n{made.fontMetrics().elidedText(by, Qt.TextElideMode.ElideMiddle, _GAP - 34)}")
        made.setProperty("look", "join")
        made.setProperty("state", "" if card.condition is not None or card.join in (",", "natural") else "wrong")
        made.setCursor(Qt.CursorShape.PointingHandCursor)
        condition = card.condition.text if card.condition is not None else tr("Cross join: each row with each row.")
        other = "inner" if card.join == "left" else "left"
        made.setToolTip(
            as_plain(tr("{condition}\nClick for {other}; right click for more", condition=condition, other=other))
        )
        made.setAccessibleName(tr("{alias}: {word} join, {by}", alias=card.alias, word=word, by=by))
        made.clicked.connect(lambda: self._turn(at))
        made.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        made.customContextMenuRequested.connect(lambda _: self.offer(at))
        return made

    def _turn(self, at: int) -> None:
        card = self._view.asked.pieces.cards[at]
        if card.condition is None:
            self.offer(at)
        else:
            self._view.change(lambda p: set_join(p, at, "inner" if card.join == "left" else "left"))

    def offer(self, at: int) -> None:
        """The kinds of join, and the keys to join by."""
        asked = self._view.asked
        card, menu = asked.pieces.cards[at], QMenu(self)
        for kind, words in (
            ("inner", tr("only rows that match")), ("left", tr("all rows before it")),
            ("right", tr("all rows of {alias}", alias=card.alias)), ("full", tr("all rows of both")),
        ):  # fmt: skip
            entry = menu.addAction(f"{kind}\t{words}", calling(self._view.change, partial(set_join, at=at, kind=kind)))
            entry.setCheckable(True)
            entry.setChecked(card.join == kind)
            entry.setEnabled(card.condition is not None and kind in JOINS)
        menu.addSeparator()
        ways = [w for w in routes(asked.pieces, asked.names, card.table) if asked.pieces.cards.index(w.card) < at]
        for way in ways:
            menu.addAction(
                tr("by {said}", said=way.said),
                calling(self._view.change, partial(set_route, at=at, route=way, quoted=self._view.quoted)),
            )
        menu.addAction(tr("Change the condition as text"), lambda: self._view.edit_join(at))
        made = self.joins[at]
        menu.popup(made.mapToGlobal(made.rect().bottomLeft()))

    def tick(self, card: TableRef, name: str, on: bool) -> bool:
        """Take a column into the result or out of it; whether it was done."""
        return self._view.change(lambda p: tick(p, card, name, on, self._view.asked.names, self._view.quoted))

    def remove(self, at: int) -> None:
        """Remove a table and what depends on it, and say how much that was."""
        gone = 0

        def make(pieces: QueryModel) -> str:
            nonlocal gone
            text, gone = remove_table(pieces, at)
            return text

        alias = self._view.asked.pieces.cards[at].alias
        if self._view.change(make) and gone:
            self._view.tell(
                trn(
                    "{alias} was removed, with {gone} part that used it. Ctrl+Z restores them.",
                    "{alias} was removed, with {gone} parts that used it. Ctrl+Z restores them.",
                    gone,
                    alias=alias,
                    gone=gone,
                )
            )

    # --- places ------------------------------------------------------------------------------------------------

    def place(self) -> None:
        """Put cards, buttons and the ground's size where they belong."""
        height = max(_LEAST, self.viewport().height() - 2 * _EDGE - (_LANE if self._far() else 0))
        left = _EDGE
        for at, box in enumerate(self.boxes):
            left += _GAP if at else 0
            box.setGeometry(left, _EDGE, _WIDTH, height)
            if at in self.joins:
                self.joins[at].setGeometry(left - _GAP + 12, _EDGE + 30, _GAP - 24, 40)
            left += _WIDTH
        left += 14 if self.boxes else 0
        self.nothing.setGeometry(_EDGE, _EDGE, 190, 40)
        width = max(74, self.add.sizeHint().width())
        self.add.setGeometry(left, _EDGE if self.boxes else _EDGE + 48, width, 27)
        self._ground.setMinimumSize(left + width + 12, height + 2 * _EDGE)

    def _far(self) -> bool:
        cards = self._view.asked.pieces.cards
        return any(link.other != cards[at - 1].alias for at, card in enumerate(cards) for link in card.links)

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Place the cards anew."""
        super().resizeEvent(event)
        self.place()

    def focus_first(self) -> None:
        """Put the keyboard on the first card, else on the button to add one."""
        self.boxes[0].columns.setFocus() if self.boxes else self.add.setFocus()

    # --- dropping ----------------------------------------------------------------------------------------------

    def drop(self, event: QDropEvent) -> None:
        """Take a dropped field or table."""
        data, at = event.mimeData(), self._ground.mapToGlobal(event.position().toPoint())
        if data.hasFormat(FIELD_DRAG):
            table, name = parts_in(data, FIELD_DRAG)
            self._view.take_field(table, name, at)
        elif data.hasFormat(VALUE_DRAG):
            table, name, text = parts_in(data, VALUE_DRAG)
            self._view.take_value(table, name, text)
        else:
            self._view.take_table(text_in(data, NAME_DRAG), at)
        event.acceptProposedAction()


class _Ground(QWidget):
    """What the cards stand on; paints the lines between them."""

    def __init__(self, cards: Cards) -> None:
        super().__init__()
        self._cards = cards
        self.setAcceptDrops(True)

    def sizeHint(self) -> QSize:
        return self.minimumSize()

    def paintEvent(self, event: QPaintEvent) -> None:
        with QPainter(self) as painter:
            painter.fillRect(self.rect(), theme["surface"])
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            cards = self._cards._view.asked.pieces.cards  # noqa: SLF001 - a part of it
            for at, made in self._cards.joins.items():
                own = self._cards.boxes[at].geometry()
                painter.setPen(QPen(theme["water2"], 1.5))
                for link in cards[at].links:
                    other = next((n for n, c in enumerate(cards[:at]) if c.alias == link.other), at - 1)
                    self._line(painter, self._cards.boxes[other].geometry(), own, made.geometry(), other == at - 1)
                if not cards[at].links:
                    painter.setPen(QPen(theme["faint"], 1.5, Qt.PenStyle.DashLine))
                    self._line(painter, self._cards.boxes[at - 1].geometry(), own, made.geometry(), True)

    @staticmethod
    def _line(painter: QPainter, other: QRect, own: QRect, join: QRect, is_near: bool) -> None:
        y = join.center().y()
        if is_near:
            painter.drawLine(QPointF(other.right() + 1, y), QPointF(own.left(), y))
            return
        lane = own.bottom() + _LANE * 0.7
        path = QPainterPath(QPointF(own.left(), y))
        path.lineTo(join.center().x(), y)
        path.lineTo(join.center().x(), lane)
        path.lineTo(other.center().x(), lane)
        path.lineTo(other.center().x(), other.bottom())
        painter.drawPath(path)

    def timerEvent(self, event: QTimerEvent) -> None:
        self.killTimer(event.timerId())
        self._cards.fill()

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if any(event.mimeData().hasFormat(kind) for kind in (NAME_DRAG, FIELD_DRAG, VALUE_DRAG)):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        self._cards.drop(event)
