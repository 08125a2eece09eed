"""Help: the guide in parts that can be searched, and every key on one page."""

from __future__ import annotations

import re
import sysconfig
from functools import cache
from html import escape
from pathlib import Path
from typing import Any

from PySide6.QtCore import Qt, QTimer, QUrl, Signal
from PySide6.QtGui import QImage, QTextBlockFormat, QTextCursor, QTextDocument
from PySide6.QtWidgets import QLineEdit, QListWidget, QListWidgetItem, QTextBrowser, QWidget

from nimble_otter.desktop.kit import tokens
from nimble_otter.desktop.kit.commands import Commands, shown_keys
from nimble_otter.desktop.kit.theme import theme, ui_font
from nimble_otter.desktop.kit.widgets import button, column, label, row
from nimble_otter.desktop.shell.menu import MENU
from nimble_otter.desktop.shell.shortcuts import FAMILIES
from nimble_otter.errors import OtterError
from nimble_otter.files import read_text
from nimble_otter.translation import tr

KEYS = "Keyboard"
TROUBLE = "When something goes wrong"
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
def _folder() -> Path | None:
    return next((each for each in _FOLDERS if (each / "guide" / "README.md").exists()), None)


class _Page(QTextBrowser):
    """Shows a part of the guide; its pictures, which stand beside the sources alone, are as wide as there is room."""

    def loadResource(self, kind: int, name: QUrl | str) -> Any:  # noqa: N802 - Qt's name
        """A picture by its path in the guide."""
        folder = _folder()
        path = (
            (folder / "guide" / (name if isinstance(name, str) else name.toString())).resolve()
            if folder is not None
            else None
        )
        if kind != QTextDocument.ResourceType.ImageResource.value or path is None or not path.is_file():
            return super().loadResource(kind, name)
        ratio = self.devicePixelRatioF()
        width = int(min(_WIDTH, self.viewport().width()) - 40)
        picture = QImage(str(path)).scaledToWidth(int(width * ratio), Qt.TransformationMode.SmoothTransformation)
        picture.setDevicePixelRatio(ratio)
        return picture


@cache
def _pages() -> dict[str, tuple[str, str]]:
    """Titles and texts by the names of their files; none where the guide was not installed."""
    folder = _folder()
    if folder is None:
        return {}
    found: dict[str, tuple[str, str]] = {}
    try:
        for file in re.findall(r"\]\(([\w-]+\.md)\)", read_text(folder / "guide" / "README.md")):
            text = read_text(folder / "guide" / file)
            found[file] = text.partition("\n")[0].lstrip("# "), text
        found |= {file: (name, read_text(folder / file)) for file, name in _PARTS.items() if (folder / file).exists()}
    except (OSError, OtterError):
        return {}
    return found


def guide_parts() -> dict[str, str]:
    """The guide's parts by their titles, in Markdown; none where it was not installed."""
    return dict(_pages().values())


class HelpPage(QWidget):
    """`closed` when it is left."""

    closed = Signal()

    def __init__(self, commands: Commands) -> None:
        super().__init__()
        self.setObjectName("surface")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._commands, self._parts = commands, guide_parts()
        self.words, self.list, self.text = QLineEdit(), QListWidget(), _Page()
        self.words.setPlaceholderText(tr("words to find in the guide"))
        self.words.setAccessibleName(tr("Words to find in the guide"))
        self.words.setClearButtonEnabled(True)
        self.words.textChanged.connect(lambda _: self._fill())
        self.list.setAccessibleName(tr("Parts of the guide"))
        self.list.setFixedWidth(216)
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.list.currentItemChanged.connect(lambda *_: self._show())
        self.text.setAccessibleName(tr("Guide"))
        self.text.setOpenLinks(False)
        self.text.anchorClicked.connect(lambda link: self._follow(link.path().rpartition("/")[2]))
        self.text.setFrameShape(QTextBrowser.Shape.NoFrame)
        self.text.setMaximumWidth(_WIDTH)
        beside = row(self.list, 18, self.text, None)
        beside.setStretchFactor(self.text, 100)
        layout = column(
            row(label(tr("Guide"), px=18, bold=True), None, self.words, button(tr("Close"), self.closed.emit)), 4,
            beside, space=9, margins=(28, 22, 28, 18),
        )  # fmt: skip
        self.words.setFixedWidth(300)
        layout.setStretch(2, 1)
        self.setLayout(layout)
        theme.changed.connect(self._show)

    def open(self, part: str = "", heading: str = "") -> None:
        """Show a part of the guide, or the first, from a heading of it on."""
        self.words.clear()
        self._fill()
        at = next((n for n in range(self.list.count()) if self.list.item(n).text() == part), 0)
        self.list.setCurrentRow(at)
        self.list.setFocus()
        if heading and self.text.find(heading):
            QTimer.singleShot(0, self.text, self._raise_heading)  # once it is laid out where it stands

    def _raise_heading(self) -> None:
        """The heading that was found goes to the top."""
        bar = self.text.verticalScrollBar()
        bar.setValue(bar.value() + self.text.cursorRect().top() - 10)

    def _follow(self, file: str) -> None:
        """Another part of the guide, by the name of its file; what is not part of it is left alone."""
        if file in _pages():
            self.open(_pages()[file][0])
            self.text.setFocus()

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
            self.text.setPlainText(tr("No part of the guide has these words."))
        elif item.text() == KEYS:
            self.text.setHtml(self._keys())
        else:
            self.text.setMarkdown(self._with_pictures(self._parts[item.text()]))
        if not self._parts and item is not None and not self.words.text():
            self.text.append("<p>The rest of the guide is not installed with this program.</p>")
        airy = QTextBlockFormat()
        airy.setLineHeight(135.0, QTextBlockFormat.LineHeightTypes.ProportionalHeight.value)
        apart = QTextBlockFormat(airy)
        apart.setTopMargin(16)
        block = self.text.document().begin()
        while block.isValid():
            if "\ufffc" not in block.text():  # which a picture is
                QTextCursor(block).mergeBlockFormat(airy if block.blockFormat().headingLevel() < 2 else apart)
            block = block.next()
        self._mark()

    def _with_pictures(self, text: str) -> str:
        """The text without the pictures that are not here."""
        folder = _folder()
        return re.sub(
            r"!\[[^\]]*\]\(([^)]+)\)\n",
            lambda found: found[0] if folder is not None and (folder / "guide" / found[1]).is_file() else "",
            text,
        )

    def _mark(self) -> None:
        """Go to the first of the words."""
        self.text.moveCursor(QTextCursor.MoveOperation.Start)
        for word in self.words.text().split()[:1]:
            self.text.find(word)

    def _keys(self) -> str:
        by_key = {command.key: command for command in self._commands.all()}
        items, everywhere = [], tr("Everywhere")
        for title, parts in MENU:
            keys = ["menu"] if not title else []
            keys += [key for part in parts for key in ([part] if isinstance(part, str) else part[1]) if key]
            lines = [(by_key[key].name, shown_keys(by_key[key].shortcut)) for key in keys
                     if by_key[key].shortcut]  # fmt: skip
            cells = "".join(f"<tr><td><b>{escape(keys)}</b></td><td>{escape(name)}</td></tr>" for name, keys in lines)
            items.append(f"<h3>{escape(title or everywhere)}</h3><table>{cells}</table>" if lines else "")
        ways = "".join(f"<tr><td><b>{stroke}, …</b></td><td>{escape(what)}</td></tr>" for stroke, what in FAMILIES)
        text = tr(
            "What every desktop has is where it always is. Alt with a digit goes to a place, Ctrl with a digit shows "
            "the rows in another way. All else is two strokes, one after the other: what it is about, then its letter. "
            "After the first, a list tells the letters."
        )
        return f"<p>{text}</p><table>{ways}</table>{''.join(items)}"
