"""Colours for the words of SQL and JSON."""

from __future__ import annotations

import re
from functools import cache

from PySide6.QtGui import QFont, QSyntaxHighlighter, QTextCharFormat, QTextDocument

from nimble_otter.desktop.kit.theme import theme
from nimble_otter.query.sql.grammar import grammar_of

_KEYWORDS = (
    "all|and|as|asc|between|by|case|cast|collate|create|cross|current_date|current_timestamp|delete|desc|"
    "distinct|drop|else|end|escape|except|exists|false|first|for|from|full|group|having|ilike|in|index|"
    "inner|insert|intersect|into|is|join|last|left|like|limit|natural|not|null|nulls|offset|on|or|order|"
    "outer|over|partition|primary|recursive|references|returning|right|rollback|select|set|table|then|"
    "true|union|unique|update|using|values|view|when|where|window|with|begin|commit"
)


@cache
def _tokens(dialect: str) -> re.Pattern[str]:
    """What is coloured in a dialect: its words, its quotes, its comments."""
    own = grammar_of(dialect)
    words = f"{_KEYWORDS}|{own.keywords}".rstrip("|")
    return re.compile(
        rf"(?P<comment>{own.comments})|(?P<text>{own.texts})|(?P<name>{own.names})"
        rf"|(?P<parameter>(?<![:\w]):\w+)|(?P<word>\b(?:{words})\b)|(?P<number>\b\d+(?:\.\d+)?\b)",
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
        self.dialect = ""
        theme.changed.connect(self.rehighlight)

    def highlightBlock(self, text: str) -> None:
        """Colour one line; lines of great length stay plain."""
        if len(text) > _LONG_LINE:
            return
        open_comment = self.previousBlockState() == 1
        start = 0
        if open_comment:
            end = text.find("*/")
            start = len(text) if end < 0 else end + 2
            self._ink(0, start, "comment")
        self.setCurrentBlockState(1 if open_comment and start == len(text) and "*/" not in text else 0)
        for match in (_JSON if self.is_json else _tokens(self.dialect)).finditer(text, start):
            kind = match.lastgroup or ""
            self._ink(match.start(), match.end() - match.start(), kind)
            if kind == "comment" and match[0].startswith("/*") and not match[0].endswith("*/"):
                self.setCurrentBlockState(1)

    def _ink(self, start: int, length: int, kind: str) -> None:
        if kind in _INKS:
            look = QTextCharFormat()
            look.setForeground(theme[_INKS[kind]])
            if kind == "word":
                look.setFontWeight(QFont.Weight.DemiBold)
            self.setFormat(start, length, look)
