"""Finding and replacing: a line with what is looked for, how, and how often it is there. For texts here, for rows in
rows_find.py."""

from __future__ import annotations

import re
from typing import Any

from PySide6.QtCore import QEvent, QObject, QSize, Qt
from PySide6.QtGui import QKeyEvent, QTextCursor
from PySide6.QtWidgets import QLayout, QLineEdit, QPlainTextEdit, QWidget

from nimble_otter.desktop.kit.widgets import ElidedLabel, boxed, button, column, row
from nimble_otter.errors import ConditionError
from nimble_otter.table.text.patterns import compiled
from nimble_otter.translation import tr


class SearchFields(QWidget):
    """What both have: the fields, and ways to look. Enter goes on, with Shift back, Escape closes."""

    def __init__(self, *more: QWidget) -> None:
        super().__init__()
        self.setObjectName("raised")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.wanted, self.other = QLineEdit(), QLineEdit()
        for field, name in ((self.wanted, tr("Find")), (self.other, tr("Replace by"))):
            field.setPlaceholderText(name)
            field.setAccessibleName(name)
            field.installEventFilter(self)
            field.setMinimumWidth(56)
            field.setMaximumWidth(190)
        self.case, self.word, self.pattern = (
            button("Aa", look="chip", tip=tr("Match case")),
            button(tr("word"), look="chip", tip=tr("Whole words only")),
            button(".*", look="chip", tip=tr("Regular expression")),
        )
        for made in (self.case, self.word, self.pattern):
            made.setCheckable(True)
            made.toggled.connect(lambda _: self.count())
        self.said = ElidedLabel("", "muted", 11)
        self.one, self.all = (
            button(tr("Replace"), self.replace),
            button(tr("All"), self.replace_all, tip=tr("Replace all")),
        )
        shut = button("×", self.close_bar, "flat", tr("Close"))
        first = row(self.wanted, self.case, self.word, self.pattern, *more, self.said, shut, space=4)
        first.setStretch(0, 2)
        first.setStretch(4 + len(more), 1)
        self._other_row = boxed(row(self.other, self.one, self.all, None, space=6))
        self.setLayout(column(first, self._other_row, space=4, margins=(12, 5, 8, 5)))
        self.setMinimumWidth(0)
        layout = self.layout()
        assert layout is not None
        layout.setSizeConstraint(QLayout.SizeConstraint.SetNoConstraint)  # it never makes the window wider
        self.wanted.textEdited.connect(lambda _: self.count())
        self.hide()

    def appear(self, replacing: bool) -> None:
        """Show the bar with the keyboard in its first field."""
        self._other_row.setVisible(replacing)
        self.show()
        self.wanted.setFocus()
        self.wanted.selectAll()
        self.count()

    def minimumSizeHint(self) -> QSize:
        """Narrow enough for a small pane."""
        return QSize(100, super().minimumSizeHint().height())

    def close_bar(self) -> None:
        """Hide it, and give the keyboard back."""
        raise NotImplementedError

    def count(self) -> None:
        """Say how many there are."""
        raise NotImplementedError

    def step(self, way: int) -> None:
        """Go to the next one (1) or the one before (-1)."""
        raise NotImplementedError

    def replace(self) -> None:
        """Replace the one that is current, and go to the next."""
        raise NotImplementedError

    def replace_all(self) -> None:
        """Replace every hit; what that means is the bar's own matter."""
        raise NotImplementedError

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """Next hit at Enter, the one before at Shift+Enter, close at Escape."""
        if not isinstance(event, QKeyEvent):
            return super().eventFilter(watched, event)
        if event.type() == QEvent.Type.ShortcutOverride and event.key() == Qt.Key.Key_Escape:
            event.accept()
            return True
        if event.type() == QEvent.Type.KeyPress:
            if event.key() == Qt.Key.Key_Escape:
                self.close_bar()
                return True
            if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
                back = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
                self.replace() if watched is self.other else self.step(-1 if back else 1)
                return True
        return super().eventFilter(watched, event)


class FindBar(SearchFields):
    """For a text, whose selection is looked for first."""

    def __init__(self, editor: QPlainTextEdit) -> None:
        self._editor = editor
        super().__init__()

    def open(self, replacing: bool = False) -> None:
        """Show it, with what is selected in the text."""
        chosen = self._editor.textCursor().selectedText()
        if chosen and "\u2029" not in chosen:
            self.wanted.setText(chosen)
        self.appear(replacing)

    def close_bar(self) -> None:
        """Close the bar and give the keyboard back to the editor."""
        self.hide()
        self._editor.setFocus()

    def _expression(self) -> Any:
        text = self.wanted.text()
        if not text:
            return None
        body = text if self.pattern.isChecked() else re.escape(text)
        body = rf"\b(?:{body})\b" if self.word.isChecked() else body
        try:
            return compiled(body, self.case.isChecked(), lines=True)
        except ConditionError as problem:
            self.said.setText(tr("not a pattern: {message}", message=problem.message))
            return None

    def _found(self) -> list[Any]:
        wanted = self._expression()
        text = self._editor.toPlainText()
        return [m for m in wanted.finditer(text) if m.end() > m.start()] if wanted is not None else []

    def _places(self) -> list[tuple[int, int]]:
        return [found.span() for found in self._found()]

    def count(self) -> None:
        """Say how many there are, and which of them is selected."""
        if self.wanted.text() and self._expression() is None:
            return
        places, cursor = self._places(), self._editor.textCursor()
        at = (cursor.selectionStart(), cursor.selectionEnd())
        number = places.index(at) + 1 if at in places else 0
        text = (
            tr("{number} of {places_count}", number=number, places_count=len(places))
            if number
            else (tr("{places_count} found", places_count=len(places)) if places else tr("not found"))
        )
        self.said.setText(text if self.wanted.text() else "")

    def step(self, way: int) -> None:
        """Select the next one (1) or the one before (-1), round the text's end."""
        places = self._places()
        if places:
            cursor = self._editor.textCursor()
            if way > 0:
                at = next((p for p in places if p[0] >= cursor.selectionEnd()), places[0])
            else:
                at = next((p for p in reversed(places) if p[1] <= cursor.selectionStart()), places[-1])
            cursor.setPosition(at[0])
            cursor.setPosition(at[1], QTextCursor.MoveMode.KeepAnchor)
            self._editor.setTextCursor(cursor)
        self.count()

    def _new(self, found: Any) -> str:
        """What stands for a match; a regular expression may name its groups."""
        if not self.pattern.isChecked():
            return self.other.text()
        try:
            return str(found.expand(self.other.text()))
        except Exception:  # noqa: BLE001 - a group that there is none of, in either engine's words
            return str(found[0])

    def replace(self) -> None:
        """Replace the one selected, and go to the next."""
        cursor = self._editor.textCursor()
        at = (cursor.selectionStart(), cursor.selectionEnd())
        chosen = next((found for found in self._found() if found.span() == at), None)
        if chosen is not None:
            cursor.insertText(self._new(chosen))
        self.step(1)

    def replace_all(self) -> None:
        """Replace all of them, as one step of undo."""
        results = self._found()
        new = [self._new(match) for match in results]
        cursor = QTextCursor(self._editor.document())
        cursor.beginEditBlock()
        for match, text in zip(reversed(results), reversed(new), strict=True):
            cursor.setPosition(match.start())
            cursor.setPosition(match.end(), QTextCursor.MoveMode.KeepAnchor)
            cursor.insertText(text)
        cursor.endEditBlock()
        changed = sum(match[0] != text for match, text in zip(results, new, strict=True))
        self.said.setText(tr("{changed} replaced", changed=changed))
