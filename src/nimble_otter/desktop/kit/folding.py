"""Long lists and subqueries of a text, put away into the line on which their bracket opens."""

from __future__ import annotations

from PySide6.QtGui import QTextBlock
from PySide6.QtWidgets import QPlainTextEdit

from nimble_otter.query.sql.scopes import tokens_of

_LEAST = 2
"""Lines inside brackets that are worth folding."""


class Folding:
    """Works on lines from 0. Lines that are put away come back when the caret goes into them."""

    def __init__(self, editor: QPlainTextEdit) -> None:
        self._editor = editor
        self._seen: tuple[str, int] = ("", -1)
        self._regions: dict[int, int] = {}
        editor.cursorPositionChanged.connect(self._follow)

    def look(self, text: str, first: int) -> None:
        """Know the regions of a statement that begins on line `first`."""
        if (text, first) == self._seen:
            return
        self._seen, self._regions = (text, first), {}
        opened: list[int] = []
        for token in tokens_of(text):
            if token.text == "(":
                opened.append(token.start)
            elif token.text == ")" and opened:
                start, end = (first + text.count("\n", 0, at) for at in (opened.pop(), token.start))
                if end - start > _LEAST:
                    self._regions[start] = max(end, self._regions.get(start, 0))

    def mark(self, line: int) -> str:
        """What stands beside a line: ▸ where something is put away, ▾ where it could be."""
        return "▸" if self.is_folded(line) else "▾" if line in self._regions else ""

    def is_folded(self, line: int) -> bool:
        """Whether the lines under this one are folded away."""
        block = self._editor.document().findBlockByNumber(line).next()
        return block.isValid() and not block.isVisible()

    def toggle(self, line: int) -> bool:
        """Fold the brackets that open on a line, or the ones around it; or unfold it. False where there are none."""
        if self.is_folded(line):
            self._show(self._editor.document().findBlockByNumber(line).next(), True)
            return True
        starts = [start for start, end in self._regions.items() if start <= line <= end]
        if not starts:
            return False
        start = line if line in starts else max(starts)
        cursor = self._editor.textCursor()
        if start < cursor.blockNumber() < self._regions[start]:
            cursor.setPosition(self._editor.document().findBlockByNumber(start).position())
            self._editor.setTextCursor(cursor)
        self._show(self._editor.document().findBlockByNumber(start + 1), False, self._regions[start])
        return True

    def _show(self, block: QTextBlock, visible: bool, end: int = 1 << 30) -> None:
        """Show or hide lines from a block on: up to line `end`, or as long as they are hidden."""
        begin = block.position()
        while block.isValid() and block.blockNumber() < end and (not visible or not block.isVisible()):
            block.setVisible(visible)
            block = block.next()
        document = self._editor.document()
        stop = block.position() if block.isValid() else document.characterCount() - 1
        document.markContentsDirty(begin, max(0, stop - begin))
        layout = document.documentLayout()
        layout.documentSizeChanged.emit(layout.documentSize())
        self._editor.viewport().update()
        self._editor.update()

    def _follow(self) -> None:
        block = self._editor.textCursor().block()
        if block.isVisible():
            return
        while block.previous().isValid() and not block.isVisible():
            block = block.previous()
        self._show(block.next(), True)
