"""Lines that go and lines that come, marked so that they are told apart without colour."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtGui import QTextBlockFormat, QTextCharFormat, QTextCursor
from PySide6.QtWidgets import QTextEdit

from nimble_otter.desktop.kit.theme import code_font, theme

_INKS = {"-": ("plum", "plum_bg"), "+": ("water1", "water4"), " ": ("muted", "surface")}


class DiffView(QTextEdit):
    """`show_lines` takes pairs of a mark ("-", "+" or " ") and a line."""

    def __init__(self, name: str) -> None:
        super().__init__()
        self.setReadOnly(True)
        self.setFont(code_font())
        self.setLineWrapMode(QTextEdit.LineWrapMode.NoWrap)
        self.setAccessibleName(name)

    def show_lines(self, lines: Sequence[tuple[str, str]]) -> None:
        """Show lines, each with its mark: same, added or removed."""
        self.clear()
        cursor = QTextCursor(self.document())
        for number, (mark, text) in enumerate(lines):
            ink, ground = _INKS[mark]
            form, block = QTextCharFormat(), QTextBlockFormat()
            form.setForeground(theme[ink])
            block.setBackground(theme[ground])
            cursor.insertBlock(block, form) if number else cursor.setBlockFormat(block)
            cursor.insertText(f"{'−' if mark == '-' else mark} {text}", form)
        changed = [n for n, (mark, _) in enumerate(lines) if mark != " "]
        cursor.setPosition(self.document().findBlockByNumber(changed[0] if changed else 0).position())
        self.setTextCursor(cursor)
