"""A field for one expression: as high as its text needs, up to some lines, coloured as SQL."""

from __future__ import annotations

from PySide6.QtCore import QSize, Qt, Signal
from PySide6.QtGui import QFocusEvent, QKeyEvent, QResizeEvent, QTextCursor
from PySide6.QtWidgets import QLayout, QPlainTextEdit, QSizePolicy, QWidget

from nimble_otter.desktop.kit.highlighter import Highlighter
from nimble_otter.desktop.kit.theme import code_font

MOST_LINES = 5
_AROUND = 9
"""Pixels of frame and margins above and below the lines together."""


class ExpressionField(QPlainTextEdit):
    """What a line edit is to its owner: `editingFinished` when Enter is pressed or it is left. Shift+Enter begins a new
    line."""

    editingFinished = Signal()

    def __init__(self, text: str) -> None:
        super().__init__()
        self.setObjectName("expression")
        self.setFont(code_font())
        self.setTabChangesFocus(True)
        self.setLineWrapMode(QPlainTextEdit.LineWrapMode.WidgetWidth)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.document().setDocumentMargin(2)
        self.highlighter = Highlighter(self.document())
        self.document().documentLayout().documentSizeChanged.connect(lambda _: self._fit())
        self.setPlainText(text)

    def text(self) -> str:
        """What is typed."""
        return self.toPlainText()

    def setText(self, text: str) -> None:
        """Put a text in the place of what is typed."""
        self.setPlainText(text)

    def insert(self, text: str) -> None:
        """Put a text in at the caret."""
        self.insertPlainText(text)

    def cursorPosition(self) -> int:
        """The place of the caret in the text."""
        return self.textCursor().position()

    def end(self, mark: bool) -> None:
        """Put the caret at the end; with `mark` selecting up to there."""
        keep = QTextCursor.MoveMode.KeepAnchor if mark else QTextCursor.MoveMode.MoveAnchor
        self.moveCursor(QTextCursor.MoveOperation.End, keep)

    def lead(self, line: QLayout, *beside: QWidget) -> None:
        """Let what stands beside it in a line be as high as one line of text, and stay at the top."""
        for widget in beside:
            widget.setFixedHeight(self.sizeHint().height())
            line.setAlignment(widget, Qt.AlignmentFlag.AlignTop)

    def sizeHint(self) -> QSize:
        """One line high."""
        return QSize(200, self.fontMetrics().lineSpacing() + _AROUND)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Take the text at Enter; Shift+Enter begins a line."""
        is_enter = event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter)
        if is_enter and not event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self.editingFinished.emit()
            return
        if event.key() == Qt.Key.Key_Escape:
            event.ignore()
            return
        super().keyPressEvent(event)

    def focusOutEvent(self, event: QFocusEvent) -> None:
        """Take the text when the focus goes elsewhere."""
        super().focusOutEvent(event)
        if event.reason() != Qt.FocusReason.PopupFocusReason:
            self.editingFinished.emit()

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Grow or shrink to the lines there are."""
        super().resizeEvent(event)
        self._fit()

    def _fit(self) -> None:
        lines = min(MOST_LINES, max(1, int(self.document().size().height())))
        self.setFixedHeight(lines * self.fontMetrics().lineSpacing() + _AROUND)
