"""Help: the guide in parts that can be searched, and every key on one page."""

from __future__ import annotations

import re
import sysconfig
from functools import cache
from html import escape
from pathlib import Path

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QKeySequence, QTextBlockFormat, QTextCursor
from PySide6.QtWidgets import QLineEdit, QListWidget, QListWidgetItem, QTextBrowser, QWidget

from nimble_otter.desktop.kit import tokens
from nimble_otter.desktop.kit.commands import Commands
from nimble_otter.desktop.kit.theme import theme, ui_font
from nimble_otter.desktop.kit.widgets import button, column, label, row
from nimble_otter.desktop.shell.menu import MENU
from nimble_otter.errors import OtterError
from nimble_otter.files import read_text

KEYS = "Keyboard"
_PARTS = {"local-sql.md": "SQL over rows", "sql-over-documents.md": "SQL over documents", "types.md": "Types",
          "pull-file.md": "The pull file", "security.md": "Security"}  # fmt: skip
"""Further files of the guide, and what they are called here."""
_FOLDERS = (Path(__file__).parents[4] / "docs", Path(sysconfig.get_path("data")) / "share" / "doc" / "nimble-otter")
SECTIONS = {
    "query": "Ask", "source": "Get oriented", "changes": "Change", "send": "Send", "check": "Check",
    "compare": "Compare", "chart": "See", "watch": "Watch",
}  # fmt: skip
"""What is read first from a drawer; from others Shape."""
_WIDTH = 760


@cache
def guide_parts() -> dict[str, str]:
    """The guide's parts by their titles, in Markdown; none where it was not installed."""
    folder = next((each for each in _FOLDERS if (each / "guide.md").exists()), None)
    if folder is None:
        return {}
    found: dict[str, str] = {}
    try:
        for paragraph in read_text(folder / "guide.md").split("\n\n"):
            title = re.match(r"\*\*([^*]+?)\.?\*\*\s*(?:\((.*?)\))?", paragraph)
            if title is not None:
                found[title[1]] = f"## {title[1]}\n\n{paragraph[title.end(1) + 2 :].lstrip('*. ')}"
            elif found:
                found[list(found)[-1]] += f"\n\n{paragraph}"
        found |= {name: read_text(folder / file) for file, name in _PARTS.items() if (folder / file).exists()}
    except (OSError, OtterError):
        return {}
    return found


class HelpPage(QWidget):
    """`closed` when it is left."""

    closed = Signal()

    def __init__(self, commands: Commands) -> None:
        super().__init__()
        self.setObjectName("surface")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._commands, self._parts = commands, guide_parts()
        self.words, self.list, self.text = QLineEdit(), QListWidget(), QTextBrowser()
        self.words.setPlaceholderText("words to find in the guide")
        self.words.setAccessibleName("Words to find in the guide")
        self.words.setClearButtonEnabled(True)
        self.words.textChanged.connect(lambda _: self._fill())
        self.list.setAccessibleName("Parts of the guide")
        self.list.setFixedWidth(200)
        self.list.currentItemChanged.connect(lambda *_: self._show())
        self.text.setAccessibleName("Guide")
        self.text.setOpenLinks(False)
        self.text.setFrameShape(QTextBrowser.Shape.NoFrame)
        self.text.setMaximumWidth(_WIDTH)
        beside = row(self.list, 18, self.text, None)
        beside.setStretchFactor(self.text, 100)
        layout = column(
            row(label("Guide", px=18, bold=True), None, self.words, button("Close", self.closed.emit)), 4,
            beside, space=9, margins=(28, 22, 28, 18),
        )  # fmt: skip
        self.words.setFixedWidth(300)
        layout.setStretch(2, 1)
        self.setLayout(layout)
        theme.changed.connect(self._show)

    def open(self, part: str = "") -> None:
        """Show a part of the guide, or the first."""
        self.words.clear()
        self._fill()
        at = next((n for n in range(self.list.count()) if self.list.item(n).text() == part), 0)
        self.list.setCurrentRow(at)
        self.list.setFocus()

    def _text_of(self, title: str) -> str:
        if title == KEYS:
            return " ".join(command.name for command in self._commands.all())
        return self._parts[title]

    def _fill(self) -> None:
        """The parts that have all the words."""
        wanted = self.words.text().casefold().split()
        before = self.list.currentItem().text() if self.list.currentItem() is not None else ""
        titles = [title for title in (*self._parts, KEYS)
                  if all(word in f"{title} {self._text_of(title)}".casefold() for word in wanted)]  # fmt: skip
        self.list.blockSignals(True)
        self.list.clear()
        for title in titles:
            self.list.addItem(QListWidgetItem(title))
        self.list.setCurrentRow(titles.index(before) if before in titles else 0)
        self.list.blockSignals(False)
        self._show()

    def _show(self) -> None:
        item = self.list.currentItem()
        self.text.document().setDefaultStyleSheet(
            f"td {{ padding: 3px 26px 3px 0; }} h3 {{ color: {theme['water1'].name()}; }}"
        )
        self.text.setFont(ui_font(tokens.UI_PX + 1))
        if item is None:
            self.text.setPlainText("No part of the guide has these words.")
        elif item.text() == KEYS:
            self.text.setHtml(self._keys())
        else:
            self.text.setMarkdown(self._parts[item.text()])
        if not self._parts and item is not None and not self.words.text():
            self.text.append("<p>The rest of the guide is not installed with this program.</p>")
        whole = QTextCursor(self.text.document())
        whole.select(QTextCursor.SelectionType.Document)
        airy = QTextBlockFormat()
        airy.setLineHeight(135.0, QTextBlockFormat.LineHeightTypes.ProportionalHeight.value)
        whole.mergeBlockFormat(airy)
        self._mark()

    def _mark(self) -> None:
        """Go to the first of the words."""
        self.text.moveCursor(QTextCursor.MoveOperation.Start)
        for word in self.words.text().split()[:1]:
            self.text.find(word)

    def _keys(self) -> str:
        by_key = {command.key: command for command in self._commands.all()}
        made = []
        for title, parts in MENU:
            keys = ["menu"] if not title else []
            keys += [key for part in parts for key in ([part] if isinstance(part, str) else part[1]) if key]
            lines = [(by_key[key].name, QKeySequence(by_key[key].shortcut).toString()) for key in keys
                     if by_key[key].shortcut]  # fmt: skip
            cells = "".join(f"<tr><td><b>{escape(keys)}</b></td><td>{escape(name)}</td></tr>" for name, keys in lines)
            made.append(f"<h3>{escape(title or 'Everywhere')}</h3><table>{cells}</table>" if lines else "")
        return "".join(made)
