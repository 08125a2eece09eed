"""A bigger editor over a cell: texts of several lines, JSON that is checked, and values taken from a file."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

from PySide6.QtCore import QEvent, QObject, QRect, Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QFileDialog, QFrame, QPlainTextEdit, QWidget

from nimble_otter.desktop.kit.theme import code_font
from nimble_otter.desktop.kit.widgets import ElidedLabel, button, column, label, row, set_tone
from nimble_otter.table.text.show import grouped
from nimble_otter.translation import tr

_LONGEST_LINE, _PART = 10_000, 2000
"""Characters from which on a line is shown in parts, and of each part."""
_GOES_ON = 1
_SIZE = (520, 280)


class BigEditor(QFrame):
    """Ctrl+Enter takes the value, Escape leaves it. `take` gives why a value can't be taken, "" when it was."""

    def __init__(self, over: QWidget) -> None:
        super().__init__(over)
        self.setObjectName("glance")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.title = label(bold=True)
        self.text = QPlainTextEdit()
        self.text.setFont(code_font())
        self.text.setAccessibleName(tr("Value"))
        self.text.setTabChangesFocus(True)
        self.text.installEventFilter(self)
        self.text.textChanged.connect(self._look)
        self.note = ElidedLabel("", "muted", 12)
        self.file = button(tr("From a file…"), self._from_file)
        self.empty = button("NULL", lambda: self._give(None), tip=tr("Set NULL"))
        self.cancel = button(tr("Cancel"), self.leave)
        self.accept = button(tr("Accept"), self._accept, "primary", tr("Accept the value (Ctrl+Enter)"))
        self.setLayout(
            column(
                row(self.title, None, label(tr("Ctrl+Enter accepts, Esc cancels"), "faint", 12)),
                self.text,
                self.note,
                row(self.file, self.empty, None, self.cancel, self.accept),
                space=8,
                margins=(12, 10, 12, 10),
            )
        )
        self._take: Callable[[Any], str] = lambda value: ""
        self._then: Callable[[], object] = lambda: None
        self._is_json = self._is_binary = False
        self.hide()

    def open(
        self, cell: QRect, name: str, text: str, is_json: bool, size: int | None, is_binary: bool,
        take: Callable[[object], str], then: Callable[[], object],
    ) -> None:  # fmt: skip
        """Over the cell, or where there is room; `size` is of the bytes that are there."""
        self._take, self._then, self._is_json, self._is_binary = take, then, is_json, is_binary
        self.title.setText(name)
        self._mark = "\ufeff" if text.startswith("\ufeff") else ""  # which the text field would drop
        self._show_text(text)
        self.text.setReadOnly(is_binary)
        if is_binary:
            self.text.setPlainText("")
            held = tr("no value") if size is None else tr("{size} bytes", size=grouped(size))
            self.text.setPlaceholderText(tr("It holds {held}. Bytes can't be typed; load them from a file.", held=held))
        else:
            self.text.setPlaceholderText("JSON" if is_json else tr("An empty text; the button NULL removes the value"))
        self.accept.setVisible(not is_binary)
        parent = self.parentWidget()
        assert parent is not None
        over = parent.rect()
        width, height = min(_SIZE[0], over.width() - 16), min(_SIZE[1], over.height() - 16)
        left = max(8, min(cell.left(), over.width() - width - 8))
        top = max(8, min(cell.top(), over.height() - height - 8))
        self.setGeometry(left, top, width, height)
        self._look()
        self.show()
        self.raise_()
        (self.file if is_binary else self.text).setFocus()
        self.text.selectAll()

    def _show_text(self, text: str) -> None:
        """Lines of very many characters are laid out in parts, as the field takes the square of their length for it."""
        if all(len(line) <= _LONGEST_LINE for line in text.split("\n")):
            self.text.setPlainText(text)
            return
        lines, goes_on = list[str](), list[bool]()
        for line in text.split("\n"):
            parts = [line[n : n + _PART] for n in range(0, max(1, len(line)), _PART)]
            lines += parts
            goes_on += [False, *[True] * (len(parts) - 1)]
        self.text.setPlainText("\n".join(lines))
        block = self.text.document().begin()
        for number in goes_on:
            block.setUserState(_GOES_ON if number else -1)
            block = block.next()

    def _whole_text(self) -> str:
        """What is typed, with the parts of lines put together again."""
        pieces, block = list[str](), self.text.document().begin()
        while block.isValid():
            if pieces and block.userState() != _GOES_ON:
                pieces.append("\n")
            pieces.append(block.text())
            block = block.next()
        return "".join(pieces)

    def leave(self) -> None:
        """Close it; the cell stays as it was."""
        self.hide()
        self._then()

    def _look(self) -> None:
        """Say at once where JSON is wrong, and how long the text is."""
        text, message, is_wrong = self._whole_text(), "", False
        if self._is_json and text.strip()[:1] in ("{", "["):
            try:
                json.loads(text)
                message = "JSON"
            except json.JSONDecodeError as problem:
                message, is_wrong = (
                    tr(
                        "{msg} in line {lineno}, column {colno}",
                        msg=problem.msg,
                        lineno=problem.lineno,
                        colno=problem.colno,
                    ),
                    True,
                )
        elif text:
            message = tr("{text_count} characters", text_count=grouped(len(text)))
        self._say(message, is_wrong)

    def _say(self, text: str, is_wrong: bool) -> None:
        self.note.setText(text)
        set_tone(self.note, "plum" if is_wrong else "muted")

    def _accept(self) -> None:
        text = self._whole_text()
        self._give(text if text.startswith(self._mark) else self._mark + text)

    def _give(self, value: object) -> None:
        problem = self._take(value)
        if problem:
            self._say(problem, True)
        else:
            self.leave()

    def _from_file(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, tr("Load the value from a file"), str(Path.home()))
        if not name:
            return
        try:
            data = Path(name).read_bytes()
            self._give(data if self._is_binary else data.decode("utf-8"))
        except OSError as problem:
            self._say(tr("It can't be read: {strerror}.", strerror=problem.strerror), True)
        except UnicodeDecodeError:
            self._say(tr("The file is not text (UTF-8)."), True)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """Take the keys that mean the text before the window's commands do."""
        if event.type() == QEvent.Type.ShortcutOverride:
            event.accept()  # while one types, keys mean the text and not the window's commands
            return True
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            is_enter = event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter)
            if is_enter and event.modifiers() & Qt.KeyboardModifier.ControlModifier and not self._is_binary:
                self._accept()
                return True
        return super().eventFilter(watched, event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Leave at Escape."""
        if event.key() == Qt.Key.Key_Escape:
            self.leave()
        else:
            super().keyPressEvent(event)
