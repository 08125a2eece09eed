"""A change of the query's text that is proposed: what goes and what comes, before it is accepted."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PySide6.QtGui import QTextBlockFormat, QTextCharFormat, QTextCursor
from PySide6.QtWidgets import QTextEdit, QWidget

from nimble_otter.desktop.parts import button, column, label, row
from nimble_otter.desktop.theme import code_font, theme


class Proposal(QWidget):
    """`propose` shows it; one of the two buttons ends it."""

    def __init__(self) -> None:
        super().__init__()
        self.title = label("", bold=True, wrap=True)
        self.lines = QTextEdit()
        self.lines.setReadOnly(True)
        self.lines.setFont(code_font())
        self.lines.setLineWrapMode(QTextEdit.LineWrapMode.NoWrap)
        self.lines.setAccessibleName("What changes in the query")
        self.notes = label("", "muted", 11, wrap=True)
        self.accept_button = button("Accept and run", lambda: self._end(True), "primary")
        self.leave_button = button("Leave it", lambda: self._end(False))
        self.setLayout(
            column(self.title, self.lines, self.notes, row(self.accept_button, self.leave_button, None), space=7,
                   margins=(12, 9, 12, 9))
        )  # fmt: skip
        self._accepted: Callable[[], object] = lambda: None
        self._ended: Callable[[], object] = lambda: None
        self.is_open = False

    def propose(
        self, title: str, lines: Sequence[tuple[str, str]], notes: Sequence[str], accepted: Callable[[], object],
        ended: Callable[[], object],
    ) -> None:  # fmt: skip
        """Show lines marked "-", "+" or " "; `accepted` is called when it is taken, `ended` in any case."""
        self.title.setText(title)
        self.lines.clear()
        cursor = QTextCursor(self.lines.document())
        inks = {"-": ("plum", "plum_bg"), "+": ("water1", "water4"), " ": ("muted", "surface")}
        for number, (mark, text) in enumerate(lines):
            ink, ground = inks[mark]
            form, block = QTextCharFormat(), QTextBlockFormat()
            form.setForeground(theme[ink])
            block.setBackground(theme[ground])
            cursor.insertBlock(block, form) if number else cursor.setBlockFormat(block)
            cursor.insertText(f"{'−' if mark == '-' else mark} {text}", form)
        changed = [n for n, (mark, _) in enumerate(lines) if mark != " "]
        cursor.setPosition(self.lines.document().findBlockByNumber(changed[-1] if changed else 0).position())
        self.lines.setTextCursor(cursor)
        self.notes.setText("\n".join(dict.fromkeys(notes)))
        self.notes.setVisible(bool(notes))
        self._accepted, self._ended, self.is_open = accepted, ended, True
        self.accept_button.setFocus()

    def _end(self, is_accepted: bool) -> None:
        self.is_open = False
        self._ended()
        if is_accepted:
            self._accepted()
