"""The find box: one ranked list over tables, columns, fields, saved pulls and commands."""

from __future__ import annotations

import bisect
import itertools
import re
from collections.abc import Callable
from dataclasses import dataclass

from PySide6.QtCore import QEvent, QObject, QPoint, QRect, QSize, Qt
from PySide6.QtGui import QKeyEvent, QPainter
from PySide6.QtWidgets import QLineEdit, QListWidget, QListWidgetItem, QStyle, QStyledItemDelegate, QWidget

from nimble_otter.desktop.kit import tokens
from nimble_otter.desktop.kit.theme import theme, ui_font
from nimble_otter.translation import tr

MOST = 14
_DATA = Qt.ItemDataRole.UserRole


@dataclass(frozen=True, slots=True)
class Finding:
    """`name` is matched; `where` stands beside it; `word` says what it is. `more` is matched too, and not shown."""

    name: str
    where: str
    word: str
    do: Callable[[], object]
    more: str = ""


ENOUGH = 4000
"""Names of one rank that are looked at; the best are sure to be among so many."""


class _Text:
    """Names as lines of one text."""

    def __init__(self, names: list[str]) -> None:
        self._text = "\n" + "\n".join(names) + "\n"
        self._starts = list(itertools.accumulate((len(name) + 1 for name in names), initial=1))

    def places(self, pattern: str) -> set[int]:
        """The numbers of the names that it fits."""
        found = itertools.islice(re.finditer(pattern, self._text), ENOUGH)
        return {bisect.bisect_right(self._starts, match.end() - 1) - 1 for match in found}


class Index:
    """Findings made ready to be searched as one types: all names in one text, so that a key costs one pass in C."""

    def __init__(self, findings: list[Finding]) -> None:
        self.findings = findings
        names = [
            " ".join(f"{f.name} {f.more}".casefold().split()) if f.more else f.name.casefold().replace("\n", "")
            for f in findings
        ]
        short = [name[: len(f.name)] for name, f in zip(names, findings, strict=True)]
        self._whole, self._short = _Text(names), _Text(short)

    def best(self, needle: str, most: int = MOST) -> list[Finding]:
        """The findings that fit, best first: start, start of a word of the name, of a word beside it, inside, words in
        any order, letters of the name; then shorter names before longer, and pages of the guide, which are named as
        what they tell of, behind the rest. With nothing typed the first ones."""
        needle = needle.strip().casefold()
        if not needle:
            return self.findings[:most]
        word = re.escape(needle)
        patterns = [(self._whole, f"\n{word}"), (self._short, f"[_ .]{word}"), (self._whole, f"[_ .]{word}"),
                    (self._whole, word)]  # fmt: skip
        if " " in needle:
            ahead = "".join(rf"(?=(?:.*[_ .])?{re.escape(part)})" for part in needle.split())
            patterns.append((self._whole, f"(?m:^){ahead}."))
        if len(needle) > 2:
            patterns.append((self._short, "[^\n]*?".join(map(re.escape, needle))))
        found: dict[int, None] = {}
        for text, pattern in patterns:
            places = text.places(pattern)
            found.update(dict.fromkeys(sorted(places - found.keys(), key=self._rank)))
            if len(found) >= most:
                break
        return [self.findings[n] for n in itertools.islice(found, most)]

    def _rank(self, place: int) -> tuple[bool, int, int]:
        finding = self.findings[place]
        return finding.word == "guide", len(finding.name), place


class _Paint(QStyledItemDelegate):
    def sizeHint(self, option: object, index: object) -> QSize:
        return QSize(100, 28)

    def paint(self, painter: QPainter, option: object, index: object) -> None:
        finding: Finding = index.data(_DATA)  # type: ignore[attr-defined]
        rect: QRect = option.rect  # type: ignore[attr-defined]
        if option.state & QStyle.StateFlag.State_Selected:  # type: ignore[attr-defined]
            painter.fillRect(rect, theme["water4"])
        inner = rect.adjusted(10, 0, -10, 0)
        middle = Qt.AlignmentFlag.AlignVCenter
        painter.setFont(ui_font(tokens.SMALL_PX))
        painter.setPen(theme["faint"])
        painter.drawText(inner, middle | Qt.AlignmentFlag.AlignRight, finding.word)
        word = painter.fontMetrics().horizontalAdvance(finding.word) + 12
        painter.setFont(ui_font())
        painter.setPen(theme["ink"])
        room = inner.width() - word
        name = painter.fontMetrics().elidedText(finding.name, Qt.TextElideMode.ElideRight, room)
        painter.drawText(inner, middle, name)
        used = painter.fontMetrics().horizontalAdvance(name) + 10
        painter.setFont(ui_font(tokens.SMALL_PX))
        painter.setPen(theme["muted"])
        where = painter.fontMetrics().elidedText(finding.where, Qt.TextElideMode.ElideRight, max(0, room - used))
        painter.drawText(inner.adjusted(used, 1, 0, 0), middle, where)


class FindBox(QObject):
    """Turns a line edit into the find box; the list lies over the window under it."""

    def __init__(self, box: QLineEdit, window: QWidget, collect: Callable[[], list[Finding]]) -> None:
        super().__init__(window)
        self._box, self._window, self._collect = box, window, collect
        self._all = Index([])
        self._before: QWidget | None = None
        self.list = QListWidget(window)
        self.list.setObjectName("found")
        self.list.setAccessibleName(tr("Found"))
        self.list.setItemDelegate(_Paint(self.list))
        self.list.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.list.hide()
        self.list.itemClicked.connect(lambda item: self._go(item.data(_DATA)))
        box.textEdited.connect(lambda _: self._fill())
        box.installEventFilter(self)

    def open(self) -> None:
        """Open the list over all that can be found, with the keyboard in the box."""
        self._before = self._window.focusWidget()
        self._box.setFocus()
        self._box.selectAll()
        self._all = Index(self._collect())
        self._fill()

    def close(self) -> None:
        """Close the list and empty the box."""
        self.list.hide()
        self._box.clear()

    def _leave(self) -> None:
        """Give the keyboard back to where it was, as far as that is known."""
        self._box.clearFocus()
        if self._before is not None and self._before.isVisible():
            self._before.setFocus()

    def _fill(self) -> None:
        if not self._all.findings:
            self._all = Index(self._collect())
        findings = self._all.best(self._box.text())
        self.list.clear()
        for finding in findings:
            item = QListWidgetItem(finding.name)
            item.setData(_DATA, finding)
            self.list.addItem(item)
        if not findings:
            item = QListWidgetItem(tr("Nothing found"))
            item.setData(_DATA, Finding(tr("Nothing found"), "", "", lambda: None))
            self.list.addItem(item)
        self.list.setCurrentRow(0)
        width = max(440, self._box.width())
        corner = self._box.mapTo(self._window, QPoint(self._box.width() - width, self._box.height() + 4))
        self.list.setGeometry(corner.x(), corner.y(), width, 28 * max(1, self.list.count()) + 12)
        self.list.show()
        self.list.raise_()

    def _go(self, finding: Finding) -> None:
        self.close()
        self._leave()
        finding.do()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """Move in the list, take a line or close it by the keyboard."""
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.ShortcutOverride:
            if event.key() == Qt.Key.Key_Escape:
                event.accept()  # it closes the list and stops nothing
            return False
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            row, key = self.list.currentRow(), event.key()
            if key in (Qt.Key.Key_Down, Qt.Key.Key_Up):
                step = 1 if key == Qt.Key.Key_Down else -1
                self.list.setCurrentRow(max(0, min(self.list.count() - 1, row + step)))
                return True
            if key in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self.list.isVisible():
                self._go(self.list.item(max(0, row)).data(_DATA))
                return True
            if key == Qt.Key.Key_Escape:
                self.close()
                self._leave()
                return True
        if event.type() == QEvent.Type.FocusIn and not self.list.isVisible():
            self._all = Index(self._collect())
            self._fill()
        if event.type() == QEvent.Type.FocusOut:
            self.list.hide()
        return False
