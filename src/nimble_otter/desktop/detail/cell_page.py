"""The current value whole: text, nested values as a tree, bytes by their kind."""

from __future__ import annotations

import json
import tempfile
from collections.abc import Mapping
from pathlib import Path

from PySide6.QtCore import QSize, Qt, QUrl, Signal
from PySide6.QtGui import QDesktopServices, QPainter, QPaintEvent, QPixmap
from PySide6.QtWidgets import (
    QFileDialog,
    QHeaderView,
    QPlainTextEdit,
    QStackedWidget,
    QTreeWidget,
    QTreeWidgetItem,
    QVBoxLayout,
    QWidget,
)

from nimble_otter.desktop.kit import tokens
from nimble_otter.desktop.kit.theme import code_font, theme, ui_font
from nimble_otter.desktop.kit.widgets import ElidedLabel, Segments, boxed, button, clear, column, label, row
from nimble_otter.files import replacing
from nimble_otter.table import MISSING, Field
from nimble_otter.table.text.content import MOST_HEX, Content, content_of, hex_lines
from nimble_otter.table.text.show import grouped, plain, shown
from nimble_otter.translation import tr
from nimble_otter.values import Value

TEXT, TREE, BYTES = 0, 1, 2
_LONGEST, _PART, _MOST = 10_000, 2000, 100_000
"""Characters of a line from which on it is shown in parts, of each part, and of a text that is shown."""
PICTURE, WORDS, HEX = 0, 1, 2


class CellPage(QWidget):
    """`fill` with a value; everything else follows from it."""

    whole_wanted = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.head = ElidedLabel("", "muted", tokens.SMALL_PX)
        self.note = label("", "faint", tokens.SMALL_PX, wrap=True)
        self.whole = button(tr("Fetch the whole value"), self.whole_wanted.emit)
        self.text = _reader(tr("The whole value"))
        self.tree = QTreeWidget()
        self.tree.setHeaderHidden(True)
        self.tree.setColumnCount(2)
        self.tree.setIndentation(14)
        self.tree.setAccessibleName(tr("The nested value"))
        self.tree.header().setSectionResizeMode(0, QHeaderView.ResizeMode.ResizeToContents)
        self.bytes = _BytesView()
        self._views = QStackedWidget()
        for view in (self.text, self.tree, self.bytes):
            self._views.addWidget(view)
        self.setLayout(column(self.head, self._views, self.note, row(self.whole, None), space=8))

    def fill(self, field: Field | None, value: object, note: str, is_cut: bool = False) -> None:
        """Show one cell; `is_cut` when only the beginning of its value is here."""
        self.whole.setVisible(is_cut)
        self.head.setText("" if field is None else f"{field.name} — {field.origin or field.note or field.kind.value}")
        self.note.setText(note)
        nested = _nested(value)
        if nested is not None:
            self._views.setCurrentIndex(TREE)
            self.tree.clear()
            add_tree(self.tree.invisibleRootItem(), nested)
            self.tree.expandToDepth(1)
            return
        if isinstance(value, bytes):
            self._views.setCurrentIndex(BYTES)
            self.bytes.fill(value, field.name if field is not None else "value")
            return
        self._views.setCurrentIndex(TEXT)
        self.text.setFont(ui_font())
        words = {None: tr("∅ no value"), MISSING: tr("· the document has no such field"), "": tr("“ ” an empty text")}
        if field is None:
            self.text.setPlainText("")
        elif value is None or value is MISSING or (isinstance(value, str) and not value):
            self.text.setPlainText(words[value])
        else:
            self.text.setPlainText(_readable(plain(value)))


def _readable(text: str) -> str:
    """A text as it is shown: its beginning where it is very long, and long lines in parts, as the field takes the
    square of their length to lay them out."""
    if all(len(line) <= _LONGEST for line in text[:_MOST].split("\n")):
        return text if len(text) <= _MOST else text[:_MOST] + _more(text)
    lines = [line[n : n + _PART] for line in text[:_MOST].split("\n") for n in range(0, max(1, len(line)), _PART)]
    return "\n".join(lines) + (_more(text) if len(text) > _MOST else "")


def _more(text: str) -> str:
    return tr("\n… {text_count} more characters; the editor has all of them", text_count=grouped(len(text) - _MOST))


def _reader(name: str) -> QPlainTextEdit:
    editor = QPlainTextEdit()
    editor.setReadOnly(True)
    editor.setAccessibleName(name)
    return editor


def _nested(value: object) -> object:
    """The value as a mapping or list, also where a server keeps it as JSON text; None where it is none."""
    if isinstance(value, (Mapping, list)):
        return value
    if isinstance(value, str) and value[:1] in "{[" and value[-1:] in "}]" and value:
        try:
            found = json.loads(value, parse_float=str)
        except (ValueError, RecursionError):
            return None
        return found if isinstance(found, (dict, list)) else None
    return None


def add_tree(parent: QTreeWidgetItem, value: Value, depth: int = 0) -> None:
    """Names and values; at most 500 entries a level are listed."""
    pairs = list(value.items()) if isinstance(value, Mapping) else list(enumerate(value))
    for name, inner in pairs[:500]:
        nested = isinstance(inner, (Mapping, list))
        item = QTreeWidgetItem([str(name), shown(inner) if inner is not None else "∅"])
        item.setForeground(0, theme["muted"])
        if nested:
            item.setText(1, f"{{ {len(inner)} }}" if isinstance(inner, Mapping) else f"[ {len(inner)} ]")
            item.setForeground(1, theme["sea"])
            if depth < 40:
                add_tree(item, inner, depth + 1)
        parent.addChild(item)
    if len(pairs) > 500:
        parent.addChild(QTreeWidgetItem([tr("… {pairs_count} more", pairs_count=grouped(len(pairs) - 500))]))


class _BytesView(QWidget):
    """Kind and size, then picture, text or hex; opened with the desktop's program, or saved."""

    def __init__(self) -> None:
        super().__init__()
        self.kind = ElidedLabel()
        self.kind.setFont(ui_font(bold=True))
        self.pages = Segments([tr("Picture"), tr("Text"), tr("Hex")], self._choose)
        self._chosen: tuple[str, int] | None = None
        self.picture, self.words, self.hex = (
            _Picture(),
            _reader(tr("The bytes as text")),
            _reader(tr("The bytes in hex")),
        )
        self.hex.setFont(code_font(11))
        self.hex.setLineWrapMode(QPlainTextEdit.LineWrapMode.NoWrap)
        self._stack = QStackedWidget()
        for page in (self.picture, self.words, self.hex):
            self._stack.addWidget(page)
        self._facts = QVBoxLayout()
        self._facts.setSpacing(2)
        self.said = label("", "muted", tokens.SMALL_PX, wrap=True)
        parts = column(
                self.kind, self.pages, self._stack, boxed(self._facts),
                row(button(tr("Open with…"), self._open, "", tr("Open with the default application")),
                    button(tr("Save…"), self._save), None),
                self.said, space=8,
            )  # fmt: skip
        parts.setStretch(2, 1)
        self.setLayout(parts)
        self._data, self._name, self._content = b"", "value", Content("bytes")

    def fill(self, data: bytes, name: str) -> None:
        self._data, self._name, self._content = data, name, content_of(data)
        self.said.setText("")
        self.kind.setText(tr("{word} · {data_count} bytes", word=self._content.word, data_count=grouped(len(data))))
        self.picture.show_picture(data if self._content.is_picture else b"")
        self.words.setPlainText(self._content.text if self._content.text is not None else tr("Not a text value."))
        more = (
            tr("\n… {data_count} bytes more", data_count=grouped(len(data) - MOST_HEX)) if len(data) > MOST_HEX else ""
        )
        self.hex.setPlainText("\n".join(hex_lines(data, 8)) + more)
        clear(self._facts)
        for fact, value in self._content.facts[:14]:
            self._facts.addLayout(row(label(fact, "muted", 11), ElidedLabel(value, px=11, right=True)))
        page = PICTURE if self._content.is_picture else (WORDS if self._content.text is not None else HEX)
        if self._chosen is not None and self._chosen[0] == name:  # of this column the reader wanted to see another
            page = self._chosen[1]
        self.pages.choose(page)
        self._stack.setCurrentIndex(page)

    def _choose(self, page: int) -> None:
        self._chosen = (self._name, page)
        self._stack.setCurrentIndex(page)

    def _open(self) -> None:
        folder = Path(tempfile.mkdtemp(prefix="nimble-otter-"))
        path = folder / f"{_safe(self._name)}{self._content.suffix}"
        path.write_bytes(self._data)
        if not QDesktopServices.openUrl(QUrl.fromLocalFile(str(path))):
            self.said.setText(tr("No application is set for this type of file. Save it, then choose one."))

    def _save(self) -> None:
        start = f"{_safe(self._name)}{self._content.suffix}"
        path, _ = QFileDialog.getSaveFileName(self, tr("Save the value"), start)
        if path:
            self.save_to(Path(path))

    def save_to(self, path: Path) -> None:
        """Write the bytes to a file, whole or not at all."""
        try:
            with replacing(path) as file:
                file.write(self._data)
        except OSError as problem:
            self.said.setText(
                tr("{path_name} can't be written: {strerror}.", path_name=path.name, strerror=problem.strerror)
            )
        else:
            self.said.setText(tr("Saved {data_count} bytes to {path}", data_count=grouped(len(self._data)), path=path))


def _safe(name: str) -> str:
    return "".join(c if c.isalnum() or c in "-_ " else "-" for c in name).strip() or "value"


class _Picture(QWidget):
    """A picture, made smaller to fit, never larger."""

    def __init__(self) -> None:
        super().__init__()
        self._pixmap = QPixmap()
        self.setAccessibleName(tr("Picture"))
        self.setMinimumHeight(80)

    def show_picture(self, data: bytes) -> None:
        self._pixmap = QPixmap()
        if data:
            self._pixmap.loadFromData(data)
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(200, 200)

    def paintEvent(self, event: QPaintEvent) -> None:
        with QPainter(self) as painter:
            if self._pixmap.isNull():
                painter.setPen(theme["faint"])
                painter.setFont(ui_font())
                painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, tr("No picture"))
                return
            ratio = self.devicePixelRatioF()
            size = self._pixmap.size().scaled(self.size() * ratio, Qt.AspectRatioMode.KeepAspectRatio)
            size = size.boundedTo(self._pixmap.size() * max(1, round(ratio)))
            smooth = self._pixmap.scaled(
                size, Qt.AspectRatioMode.KeepAspectRatio, Qt.TransformationMode.SmoothTransformation
            )
            smooth.setDevicePixelRatio(ratio)
            painter.drawPixmap((self.width() - round(smooth.width() / ratio)) // 2, 0, smooth)
