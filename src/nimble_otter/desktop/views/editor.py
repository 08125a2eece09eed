"""The query editor: line numbers, SQL or JSON highlighting, the place of an error underlined."""

from __future__ import annotations

import re
from collections.abc import Callable

from PySide6.QtCore import QMimeData, QRect, QSize, Qt, Signal
from PySide6.QtGui import (
    QColor,
    QFont,
    QKeyEvent,
    QPainter,
    QPaintEvent,
    QResizeEvent,
    QSyntaxHighlighter,
    QTextCharFormat,
    QTextCursor,
    QTextDocument,
    QTextFormat,
)
from PySide6.QtWidgets import QPlainTextEdit, QTextEdit, QWidget

from nimble_otter.desktop import tokens
from nimble_otter.desktop.theme import code_font, theme
from nimble_otter.errors import Place
from nimble_otter.query import statement_at

_KEYWORDS = (
    "all|and|as|asc|between|by|case|cast|collate|create|cross|current_date|current_timestamp|delete|desc|"
    "distinct|drop|else|end|escape|except|exists|false|first|for|from|full|group|having|ilike|in|index|"
    "inner|insert|intersect|into|is|join|last|left|like|limit|natural|not|null|nulls|offset|on|or|order|"
    "outer|over|partition|primary|recursive|references|returning|right|rollback|select|set|table|then|"
    "true|union|unique|update|using|values|view|when|where|window|with|begin|commit"
)
_TOKENS = re.compile(
    rf"(?P<comment>--[^\n]*|/\*.*?(?:\*/|$))|(?P<text>'(?:[^']|'')*'?)|(?P<name>\"(?:[^\"]|\"\")*\"?)"
    rf"|(?P<parameter>(?<![:\w]):\w+)|(?P<word>\b(?:{_KEYWORDS})\b)|(?P<number>\b\d+(?:\.\d+)?\b)",
    re.IGNORECASE,
)
_JSON = re.compile(
    r'(?P<word>"[^"\n]*"(?=\s*:))|(?P<text>"[^"\n]*"?)|(?P<number>-?\b\d+(?:\.\d+)?\b)|(?P<parameter>\btrue|false|null\b)'
)
_LONG_LINE = 5000
_INKS = {"comment": "faint", "text": "otter", "parameter": "plum", "word": "water1", "number": "plum"}


class Highlighter(QSyntaxHighlighter):
    """Colours words as they are typed; very long lines are left plain, they would hold the window."""

    def __init__(self, document: QTextDocument) -> None:
        super().__init__(document)
        self.is_json = False
        theme.changed.connect(self.rehighlight)

    def highlightBlock(self, text: str) -> None:
        if len(text) > _LONG_LINE:
            return
        open_comment = self.previousBlockState() == 1
        start = 0
        if open_comment:
            end = text.find("*/")
            start = len(text) if end < 0 else end + 2
            self._ink(0, start, "comment")
        self.setCurrentBlockState(1 if open_comment and start == len(text) and "*/" not in text else 0)
        for found in (_JSON if self.is_json else _TOKENS).finditer(text, start):
            kind = found.lastgroup or ""
            self._ink(found.start(), found.end() - found.start(), kind)
            if kind == "comment" and found[0].startswith("/*") and not found[0].endswith("*/"):
                self.setCurrentBlockState(1)

    def _ink(self, start: int, length: int, kind: str) -> None:
        if kind in _INKS:
            look = QTextCharFormat()
            look.setForeground(theme[_INKS[kind]])
            if kind == "word":
                look.setFontWeight(QFont.Weight.DemiBold)
            self.setFormat(start, length, look)


class _Numbers(QWidget):
    def __init__(self, editor: SqlEditor) -> None:
        super().__init__(editor)
        self._editor = editor

    def sizeHint(self) -> QSize:
        return QSize(self._editor.gutter, 0)

    def paintEvent(self, event: QPaintEvent) -> None:
        self._editor.paint_numbers(event)


NAME_DRAG = "application/x-nimble-otter-name"
"""What is dragged from the catalogue: a name, to be quoted where it lands."""


class SqlEditor(QPlainTextEdit):
    """Plain text with a gutter; Ctrl+Enter asks for a run of the selection or the statement under the caret."""

    run_wanted = Signal()

    def __init__(self, numbered: bool = True) -> None:
        super().__init__()
        self.setFont(code_font())
        self.setAccessibleName("Query text")
        self.setTabStopDistance(self.fontMetrics().horizontalAdvance(" ") * 4)
        self.setLineWrapMode(
            QPlainTextEdit.LineWrapMode.NoWrap if numbered else QPlainTextEdit.LineWrapMode.WidgetWidth
        )
        self.highlighter = Highlighter(self.document())
        self._numbered = numbered
        self._numbers = _Numbers(self)
        self._error: Place | None = None
        self.quoted: Callable[[str], str] = str
        self.document().setDocumentMargin(6)
        self.gutter = 40 if numbered else 4
        self.setViewportMargins(self.gutter, 0, 0, 0)
        self.updateRequest.connect(lambda rect, dy: self._numbers.scroll(0, dy) if dy else self._numbers.update())
        self.blockCountChanged.connect(lambda _: self._fit_gutter())
        theme.changed.connect(self.update)

    def canInsertFromMimeData(self, source: QMimeData) -> bool:
        return source.hasFormat(NAME_DRAG) or super().canInsertFromMimeData(source)

    def insertFromMimeData(self, source: QMimeData) -> None:
        """A name dropped from the catalogue goes in as the source writes it; pasted text as plain text."""
        if source.hasFormat(NAME_DRAG):
            self.insertPlainText(self.quoted(bytes(source.data(NAME_DRAG).data()).decode()))
            self.setFocus()
        else:
            super().insertFromMimeData(source)

    def _fit_gutter(self) -> None:
        if self._numbered:
            digits = len(str(max(1, self.blockCount())))
            self.gutter = 24 + self.fontMetrics().horizontalAdvance("9") * max(2, digits)
            self.setViewportMargins(self.gutter, 0, 0, 0)

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        area = self.contentsRect()
        self._numbers.setGeometry(QRect(area.left(), area.top(), self.gutter, area.height()))

    def paint_numbers(self, event: QPaintEvent) -> None:
        painter = QPainter(self._numbers)
        painter.fillRect(event.rect(), theme["raised"] if self._numbered else theme["surface"])
        if not self._numbered:
            return
        block = self.firstVisibleBlock()
        top = self.blockBoundingGeometry(block).translated(self.contentOffset()).top()
        painter.setFont(code_font(tokens.SMALL_PX))
        while block.isValid() and top <= event.rect().bottom():
            height = self.blockBoundingRect(block).height()
            at_error = self._error is not None and self._error.line == block.blockNumber() + 1
            painter.setPen(theme["plum" if at_error else "faint"])
            where = QRect(0, round(top), self.gutter - 12, round(height))
            painter.drawText(
                where, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, str(block.blockNumber() + 1)
            )
            block, top = block.next(), top + height

    def mark_error(self, place: Place | None) -> None:
        """Underline a place, or nothing."""
        self._error = place
        marks = []
        if place is not None and place.end <= self.document().characterCount():
            mark = QTextEdit.ExtraSelection()
            cursor = QTextCursor(self.document())
            cursor.setPosition(place.start)
            cursor.setPosition(max(place.end, place.start), QTextCursor.MoveMode.KeepAnchor)
            look = QTextCharFormat()
            look.setUnderlineStyle(QTextCharFormat.UnderlineStyle.WaveUnderline)
            look.setUnderlineColor(QColor(theme["plum"]))
            look.setBackground(theme["plum_bg"])
            look.setProperty(QTextFormat.Property.FullWidthSelection, False)
            mark.cursor, mark.format = cursor, look
            marks.append(mark)
        self.setExtraSelections(marks)
        self._numbers.update()

    def wanted_text(self) -> tuple[str, int]:
        """What a run means here: the selection, or the statement under the caret, with its place in the text."""
        cursor, whole = self.textCursor(), self.toPlainText()
        if cursor.hasSelection():
            return cursor.selectedText().replace("\u2029", "\n"), cursor.selectionStart()
        statement = statement_at(whole, cursor.position())
        return (statement.text, statement.start) if statement is not None else (whole, 0)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        control = event.modifiers() & Qt.KeyboardModifier.ControlModifier
        if control and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.run_wanted.emit()
            return
        if control and event.key() == Qt.Key.Key_Slash:
            self.toggle_comment()
            return
        super().keyPressEvent(event)

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
