"""The list of what can come next, under the caret of a text; the text keeps the keyboard."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QModelIndex, QPersistentModelIndex, QPoint, QRect, QSize, Qt
from PySide6.QtGui import QFontMetrics, QKeyEvent, QPainter
from PySide6.QtWidgets import QListWidget, QListWidgetItem, QPlainTextEdit, QStyledItemDelegate, QStyleOptionViewItem

from nimble_otter.desktop.kit import tokens
from nimble_otter.desktop.kit.theme import code_font, theme, ui_font
from nimble_otter.desktop.kit.widgets import as_plain
from nimble_otter.query.assist.completion import Completion, Offer
from nimble_otter.translation import tr

_ROWS, _ROW, _LEAST, _MOST = 9, 22, 260, 560
_WORDS = {"column": "c", "table": "t", "join": "j", "function": "f", "keyword": "", "value": "=", "schema": "s"}
_INKS = {"column": "water1", "table": "otter", "join": "otter", "function": "sea", "value": "plum"}


class _Look(QStyledItemDelegate):
    """A mark for the kind, the text, and what it is at the right."""

    def sizeHint(self, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex) -> QSize:
        return QSize(100, _ROW)

    def paint(
        self, painter: QPainter, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex
    ) -> None:
        offer: Offer = index.data(Qt.ItemDataRole.UserRole)
        rect: QRect = option.rect
        shown = self.parent()
        current = isinstance(shown, QListWidget) and shown.currentRow() == index.row()
        painter.fillRect(rect, theme["water3"] if current else theme["surface"])
        left = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
        painter.setFont(ui_font(tokens.SMALL_PX))
        painter.setPen(theme["muted"])
        painter.drawText(rect.adjusted(8, 0, 0, 0), left, _WORDS.get(offer.kind, ""))
        small = QFontMetrics(ui_font(tokens.SMALL_PX))
        note = small.elidedText(offer.note, Qt.TextElideMode.ElideRight, rect.width() // 2)
        painter.drawText(rect.adjusted(0, 0, -8, 0), Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, note)
        painter.setFont(code_font())
        painter.setPen(theme[_INKS.get(offer.kind, "ink")])
        room = rect.width() - 34 - small.horizontalAdvance(note) - 14
        text = QFontMetrics(code_font()).elidedText(offer.shown, Qt.TextElideMode.ElideRight, room)
        painter.drawText(rect.adjusted(26, 0, 0, 0), left, text)


class CompletionList(QListWidget):
    """`ask(position)` gives the offers; `taken` is told of the one put in."""

    def __init__(
        self, editor: QPlainTextEdit, ask: Callable[[int], Completion], taken: Callable[[Offer], object]
    ) -> None:
        super().__init__(editor)
        self._editor, self._ask, self._taken = editor, ask, taken
        self._start, self._typed, self._was_chosen = 0, "", False
        self.waits = False
        """Whether names are offered only when they are asked for."""
        self.setItemDelegate(_Look(self))
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.setObjectName("completion")
        self.setAccessibleName(tr("Suggestions"))
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setUniformItemSizes(True)
        self.itemClicked.connect(lambda _: self.take())
        theme.changed.connect(self.hide)
        self.hide()

    def offer(self, asked: bool = False) -> None:
        """Show what can come at the caret; unless asked for, only behind the beginning of a word, or a dot."""
        cursor = self._editor.textCursor()
        if cursor.hasSelection() or (self.waits and not asked and not self.isVisible()):
            self.hide()
            return
        completion = self._ask(cursor.position())
        self._start = completion.start
        line = cursor.block()
        typed = line.text()[max(0, completion.start - line.position()) : cursor.positionInBlock()]
        offers = completion.offers
        behind_dot = line.text()[: max(0, completion.start - line.position())].endswith((".", '"'))
        if not asked and len(typed) == 1 and not behind_dot:
            self.hide()  # an alias of one letter is meant as often as a word
            return
        self._typed, self._was_chosen = typed, False
        if not offers or (not asked and len(offers) == 1 and offers[0].text == typed):
            self.hide()
            return
        self.clear()
        for offer in offers:
            item = QListWidgetItem(offer.shown)
            item.setData(Qt.ItemDataRole.UserRole, offer)
            item.setToolTip(as_plain(offer.shown))
            self.addItem(item)
        self.setCurrentRow(0)
        self._place()

    def _place(self) -> None:
        """Under the caret, or over it where there is no room; inside the window."""
        over = self._editor.window()
        if self.parentWidget() is not over:
            self.setParent(over)
        code, small = QFontMetrics(code_font()), QFontMetrics(ui_font(tokens.SMALL_PX))
        offers = [self.item(n).data(Qt.ItemDataRole.UserRole) for n in range(min(self.count(), 30))]
        wide = max(code.horizontalAdvance(o.shown) + min(160, small.horizontalAdvance(o.note)) + 66 for o in offers)
        width, height = max(_LEAST, min(_MOST, wide)), min(_ROWS, self.count()) * _ROW + 2 * self.frameWidth()
        rect = self._editor.cursorRect()
        at = self._editor.viewport().mapTo(over, QPoint(rect.left() - 26, rect.bottom() + 3))
        if at.y() + height > over.height():
            at.setY(self._editor.viewport().mapTo(over, rect.topLeft()).y() - height - 3)
        at.setX(max(0, min(at.x(), over.width() - width)))
        self.setGeometry(QRect(at, QSize(width, height)))
        self.raise_()
        self.show()

    def take(self) -> None:
        """Put the current offer in place of what was typed of it."""
        item = self.currentItem()
        self.hide()
        if item is None:
            return
        offer: Offer = item.data(Qt.ItemDataRole.UserRole)
        cursor = self._editor.textCursor()
        cursor.setPosition(self._start)
        cursor.setPosition(self._editor.textCursor().position(), cursor.MoveMode.KeepAnchor)
        cursor.insertText(offer.text)
        self._editor.setTextCursor(cursor)
        self._taken(offer)

    def takes_key(self, event: QKeyEvent) -> bool:
        """Whether a key of the text means the list; it is done then."""
        if not self.isVisible():
            return False
        key = Qt.Key(event.key())
        steps = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1, Qt.Key.Key_PageDown: _ROWS, Qt.Key.Key_PageUp: -_ROWS}
        if event.modifiers() & ~Qt.KeyboardModifier.KeypadModifier:
            return False
        if key in steps:
            self._was_chosen = True
            self.setCurrentRow(max(0, min(self.count() - 1, self.currentRow() + steps[key])))
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Tab):
            offered = [self.item(n).data(Qt.ItemDataRole.UserRole).text for n in range(self.count())]
            is_whole = self._typed.casefold() in map(str.casefold, offered) and not self._was_chosen
            if is_whole and key != Qt.Key.Key_Tab:
                self.hide()  # nothing to put in: the key means a new line
                return False
            self.take()
        elif key == Qt.Key.Key_Escape:
            self.hide()
        else:
            return False
        return True
