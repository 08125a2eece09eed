"""The query editor: line numbers, the statement under the caret, brackets that belong together, places of problems."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence

from PySide6.QtCore import QEvent, QMimeData, QPoint, QRect, QSize, Qt, Signal
from PySide6.QtGui import (
    QColor,
    QFocusEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QResizeEvent,
    QTextCharFormat,
    QTextCursor,
)
from PySide6.QtWidgets import QPlainTextEdit, QTextEdit, QWidget

from nimble_otter.desktop.kit import tokens
from nimble_otter.desktop.kit.completion_list import CompletionList
from nimble_otter.desktop.kit.folding import Folding
from nimble_otter.desktop.kit.highlighter import Highlighter
from nimble_otter.desktop.kit.mime_types import NAME_DRAG, text_in
from nimble_otter.desktop.kit.theme import code_font, theme
from nimble_otter.errors import Place
from nimble_otter.query.assist.completion import Completion, Offer
from nimble_otter.query.assist.diagnosis import Problem
from nimble_otter.query.sql.scopes import tokens_of
from nimble_otter.query.sql.statements import Script, Statement, statement_near
from nimble_otter.translation import tr

_NEAR = 20_000
"""Characters around the caret in which the other bracket is looked for."""
_PAIRS = {"(": ")", "[": "]", "{": "}"}


_LONG_STATEMENT = 60_000
"""Characters above which a statement is looked through for what can be folded only when that is asked for."""


class _Numbers(QWidget):
    def __init__(self, editor: SqlEditor) -> None:
        super().__init__(editor)
        self._editor = editor

    def sizeHint(self) -> QSize:
        return QSize(self._editor.gutter, 0)

    def paintEvent(self, event: QPaintEvent) -> None:
        self._editor.paint_numbers(event)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        line = self._editor.cursorForPosition(QPoint(0, event.position().toPoint().y())).blockNumber()
        self._editor.fold(line)


class SqlEditor(QPlainTextEdit):
    """Plain text with a gutter; Ctrl+Enter asks for a run of the selection or the statement under the caret."""

    run_wanted = Signal()
    run_all_wanted = Signal()

    def __init__(self, numbered: bool = True, quoted: Callable[[str], str] = str) -> None:
        super().__init__()
        self.setFont(code_font())
        self.setAccessibleName(tr("Query text"))
        self.setTabStopDistance(self.fontMetrics().horizontalAdvance(" ") * 4)
        self.setLineWrapMode(
            QPlainTextEdit.LineWrapMode.NoWrap if numbered else QPlainTextEdit.LineWrapMode.WidgetWidth
        )
        self.highlighter = Highlighter(self.document())
        self._numbered = numbered
        self._numbers = _Numbers(self)
        self._error: Place | None = None
        self._problems: tuple[Problem, ...] = ()
        self._brackets: tuple[int, ...] = ()
        self._script = Script()
        self.document().contentsChange.connect(
            lambda at, removed, added: self._script.edit(self.toPlainText(), at, removed, added)
        )
        self._current: Statement | None = None
        self.completions: CompletionList | None = None
        self.quoted = quoted
        self.document().setDocumentMargin(6)
        self.gutter = 40 if numbered else 4
        self.setViewportMargins(self.gutter, 0, 0, 0)
        self.updateRequest.connect(lambda rect, dy: self._numbers.scroll(0, dy) if dy else self._numbers.update())
        self.blockCountChanged.connect(lambda _: self._fit_gutter())
        theme.changed.connect(self.update)
        theme.changed.connect(self._show_marks)
        self.folding = Folding(self)
        if numbered:
            self.cursorPositionChanged.connect(self._moved)

    def canInsertFromMimeData(self, source: QMimeData) -> bool:
        """Take dragged names beside plain text."""
        return source.hasFormat(NAME_DRAG) or super().canInsertFromMimeData(source)

    def insertFromMimeData(self, source: QMimeData) -> None:
        """A name dropped from the catalogue goes in as the source writes it; pasted text as plain text."""
        if source.hasFormat(NAME_DRAG):
            self.insertPlainText(self.quoted(text_in(source, NAME_DRAG)))
            self.setFocus()
        else:
            super().insertFromMimeData(source)

    def _fit_gutter(self) -> None:
        if self._numbered:
            digits = len(str(max(1, self.blockCount())))
            self.gutter = 24 + self.fontMetrics().horizontalAdvance("9") * max(2, digits)
            self.setViewportMargins(self.gutter, 0, 0, 0)

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Keep the line numbers at the left edge."""
        super().resizeEvent(event)
        area = self.contentsRect()
        self._numbers.setGeometry(QRect(area.left(), area.top(), self.gutter, area.height()))

    def paint_numbers(self, event: QPaintEvent) -> None:
        """Paint the line numbers and fold marks that are in sight."""
        with QPainter(self._numbers) as painter:
            painter.fillRect(event.rect(), theme["raised"] if self._numbered else theme["surface"])
            if not self._numbered:
                return
            several, current = len(self.statements()) > 1, self._current
            first = last = -1
            if several and current is not None:
                first = self.document().findBlock(current.start).blockNumber()
                last = self.document().findBlock(current.end).blockNumber()
            block = self.firstVisibleBlock()
            top = self.blockBoundingGeometry(block).translated(self.contentOffset()).top()
            painter.setFont(code_font(tokens.SMALL_PX))
            while block.isValid() and top <= event.rect().bottom():
                height = self.blockBoundingRect(block).height()
                at_error = self._error is not None and self._error.line == block.blockNumber() + 1
                if not block.isVisible():
                    block = block.next()
                    continue
                mark = self.folding.mark(block.blockNumber())
                if mark:
                    painter.setPen(theme["water1" if mark == "▸" else "faint"])
                    painter.drawText(QPoint(2, round(top) + self.fontMetrics().ascent()), mark)
                painter.setPen(theme["plum" if at_error else "faint"])
                where = QRect(0, round(top), self.gutter - 12, self.fontMetrics().height())
                painter.drawText(
                    where, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, str(block.blockNumber() + 1)
                )
                if several and first <= block.blockNumber() <= last:
                    x, y = self.gutter - 6, round(top)
                    painter.setPen(QPen(theme["water2"], 2))
                    begin = y + 3 if block.blockNumber() == first else y
                    end = y + round(height) - 3 if block.blockNumber() == last else y + round(height)
                    painter.drawLine(x, begin, x, end)
                    if block.blockNumber() == first:
                        painter.drawLine(x, begin, x + 3, begin)
                    if block.blockNumber() == last:
                        painter.drawLine(x, end, x + 3, end)
                block, top = block.next(), top + height

    def fold(self, line: int | None = None) -> bool:
        """Fold or unfold the brackets on a line, or at the caret; False where there are none."""
        at = self.textCursor().blockNumber() if line is None else line
        position = self.document().findBlockByNumber(at).position()
        statement = statement_near(self.statements(), position)
        if statement is not None:
            first = self.document().findBlock(statement.start).blockNumber()
            self.folding.look(statement.text, first)
        done = self.folding.toggle(at)
        self._numbers.update()
        return done

    # --- marks -------------------------------------------------------------------------------------------------

    def mark_error(self, place: Place | None) -> None:
        """Underline a place of the server's error, or nothing."""
        self._error = place
        self._show_marks()
        self._numbers.update()

    def show_problems(self, problems: Sequence[Problem]) -> None:
        """Underline what is wrong or suspicious."""
        self._problems = tuple(problems)
        self._show_marks()

    def _show_marks(self) -> None:
        marks = [self._mark(p.place, "plum" if p.is_error else "amber", None) for p in self._problems]
        if self._error is not None:
            marks.append(self._mark(self._error, "plum", "plum_bg"))
        for at in self._brackets:
            mark = QTextEdit.ExtraSelection()
            mark.cursor = self._cursor(at, at + 1)
            look = QTextCharFormat()
            look.setBackground(theme["water3"])
            mark.format = look
            marks.append(mark)
        self.setExtraSelections(marks)

    def select_span(self, start: int, end: int) -> None:
        """Select a stretch of the text, and bring it into sight."""
        self.setTextCursor(self._cursor(start, end))
        self.ensureCursorVisible()

    def _cursor(self, start: int, end: int) -> QTextCursor:
        most = self.document().characterCount() - 1
        cursor = QTextCursor(self.document())
        cursor.setPosition(min(start, most))
        cursor.setPosition(min(max(end, start), most), QTextCursor.MoveMode.KeepAnchor)
        return cursor

    def _mark(self, place: Place, ink: str, ground: str | None) -> QTextEdit.ExtraSelection:
        mark, look = QTextEdit.ExtraSelection(), QTextCharFormat()
        look.setUnderlineStyle(QTextCharFormat.UnderlineStyle.WaveUnderline)
        look.setUnderlineColor(QColor(theme[ink]))
        if ground is not None:
            look.setBackground(theme[ground])
        mark.cursor, mark.format = self._cursor(place.start, place.end), look
        return mark

    def _moved(self) -> None:
        """The caret moved: the bracket that belongs to the one beside it, and the statement it is in."""
        found = _pair(self.text, self.textCursor().position())
        if found != self._brackets:
            self._brackets = found
            self._show_marks()
        statement = self.statement()
        if statement != self._current:
            self._current = statement
            if statement is not None and len(statement.text) < _LONG_STATEMENT:
                self.folding.look(statement.text, self.document().findBlock(statement.start).blockNumber())
            self._numbers.update()

    # --- statements --------------------------------------------------------------------------------------------

    @property
    def text(self) -> str:
        """The whole text; asking for it costs nothing."""
        return self._script.text

    def statements(self) -> list[Statement]:
        """The statements of the text."""
        return self._script.statements

    def statement(self) -> Statement | None:
        """The statement under the caret."""
        return statement_near(self.statements(), self.textCursor().position())

    def wanted_text(self) -> tuple[str, int]:
        """What a run means here: the selection, or the statement under the caret, with its place in the text."""
        cursor = self.textCursor()
        if cursor.hasSelection():
            return cursor.selectedText().replace("\u2029", "\n"), cursor.selectionStart()
        statement = self.statement()
        return (statement.text, statement.start) if statement is not None else (self.text, 0)

    # --- keys --------------------------------------------------------------------------------------------------

    def help_with(self, ask: Callable[[int], Completion], taken: Callable[[Offer], object]) -> None:
        """Offer what can come next while one types."""
        self.completions = CompletionList(self, ask, taken)

    def use_look(self, px: int, wraps: bool, offers: bool) -> None:
        """Letters of this size, lines folded at the edge or not, names offered while one types or when asked for."""
        if self.font().pixelSize() != px:
            self.setFont(code_font(px))
            self.setTabStopDistance(self.fontMetrics().horizontalAdvance(" ") * 4)
            self._fit_gutter()
        mode = QPlainTextEdit.LineWrapMode
        self.setLineWrapMode(mode.WidgetWidth if wraps else mode.NoWrap)
        if self.completions is not None:
            self.completions.waits = not offers

    def event(self, event: QEvent) -> bool:
        """Take the keys of the offers and of folding before the window's commands do."""
        if event.type() == QEvent.Type.ShortcutOverride and isinstance(event, QKeyEvent):
            shown = self.completions is not None and self.completions.isVisible()
            if shown and event.key() == Qt.Key.Key_Escape:
                event.accept()  # closes the list, and stops nothing
                return True
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Type, indent, close brackets or take an offer."""
        control = event.modifiers() & Qt.KeyboardModifier.ControlModifier
        offers = self.completions
        if offers is not None and offers.takes_key(event):
            return
        if control and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            shift = event.modifiers() & Qt.KeyboardModifier.ShiftModifier
            (self.run_all_wanted if shift else self.run_wanted).emit()
            return
        if control and event.key() == Qt.Key.Key_Slash:
            self.toggle_comment()
            return
        if control and event.key() == Qt.Key.Key_Space and offers is not None:
            offers.offer(asked=True)
            return
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and not event.modifiers():
            self._new_line()
            return
        super().keyPressEvent(event)
        if offers is not None:
            typed = event.text()
            if (
                (typed and not control and (typed.isalnum() or typed in self._openers()))
                or (typed == " " and not control and self._is_after_word())
                or (event.key() == Qt.Key.Key_Backspace and offers.isVisible())
            ):
                offers.offer()
            elif event.key() not in (Qt.Key.Key_Shift, Qt.Key.Key_Control, Qt.Key.Key_Alt):
                offers.hide()

    def focusOutEvent(self, event: QFocusEvent) -> None:
        """Hide the offers when the focus goes elsewhere."""
        super().focusOutEvent(event)
        if self.completions is not None:
            self.completions.hide()

    def _openers(self) -> str:
        """Marks behind which something is offered at once."""
        return '_.$"' if self.highlighter.is_json else "_."

    def _is_after_word(self) -> bool:
        """Whether the word before the space asks for a name: from, join, on, by ..."""
        line = self.textCursor().block().text()[: self.textCursor().positionInBlock()]
        return re.search(r"(?i)\b(from|join|on|by|update|into|=)\s$", line) is not None or line.endswith("= ")

    def _new_line(self) -> None:
        """A line that begins where the one before begins."""
        line = self.textCursor().block().text()[: self.textCursor().positionInBlock()]
        indent = line[: len(line) - len(line.lstrip())]
        self.textCursor().insertText("\n" + indent)
        self.ensureCursorVisible()
        if self.completions is not None:
            self.completions.hide()

    def replace_text(self, text: str) -> None:
        """Another text in place of this one, as one step of undo; the caret stays near."""
        at, cursor = self.textCursor().position(), QTextCursor(self.document())
        cursor.select(QTextCursor.SelectionType.Document)
        cursor.insertText(text)
        cursor.setPosition(min(at, len(text)))
        self.setTextCursor(cursor)

    def toggle_comment(self) -> None:
        """Comment the selected lines out, or in."""
        cursor = self.textCursor()
        first = self.document().findBlock(cursor.selectionStart())
        last = self.document().findBlock(max(cursor.selectionStart(), cursor.selectionEnd() - 1))
        lines = range(first.blockNumber(), last.blockNumber() + 1)
        texts = [self.document().findBlockByNumber(n).text() for n in lines]
        off = all(text.lstrip().startswith("--") for text in texts if text.strip())
        cursor.beginEditBlock()
        for number, text in zip(lines, texts, strict=True):
            at = QTextCursor(self.document().findBlockByNumber(number))
            at.movePosition(QTextCursor.MoveOperation.EndOfBlock, QTextCursor.MoveMode.KeepAnchor)
            at.insertText(re.sub(r"--\s?", "", text, count=1) if off else f"-- {text}")
        cursor.endEditBlock()


def _pair(text: str, at: int) -> tuple[int, ...]:
    """Places of the bracket beside `at` and of the one that belongs to it; () where there is none."""
    beside = [n for n in (at, at - 1) if 0 <= n < len(text) and text[n] in "()[]{}"]
    if not beside:
        return ()
    low = max(0, at - _NEAR)
    marks = [t for t in tokens_of(text[low : at + _NEAR]) if t.kind == "mark" and t.text in "()[]{}"]
    open_: list[tuple[int, str]] = []
    for token in marks:
        index = low + token.start
        if token.text in _PAIRS:
            open_.append((index, _PAIRS[token.text]))
        elif open_ and open_[-1][1] == token.text:
            start, _ = open_.pop()
            if beside[0] in (start, index):
                return (start, index)
    return ()
