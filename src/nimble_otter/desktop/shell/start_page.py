"""The start page: what stands in the centre when no pull is shown."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PySide6.QtCore import QRect, Qt, Signal
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QFrame, QVBoxLayout, QWidget

from nimble_otter.desktop.kit.theme import theme
from nimble_otter.desktop.kit.widgets import button, clear, column, label, row
from nimble_otter.desktop.runtime.connections import ConnectionManager
from nimble_otter.desktop.shell.title import paint_mark
from nimble_otter.translation import tr


class StartPage(QWidget):
    """Recent pulls, the sources, where to drop a file."""

    source_opened = Signal(object)
    pull_opened = Signal(Path)
    file_wanted = Signal()
    add_wanted = Signal()
    demo_wanted = Signal()
    journey_wanted = Signal()

    def __init__(self, hub: ConnectionManager) -> None:
        super().__init__()
        self.setObjectName("surface")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._hub = hub
        self._recent: list[Path] = []
        self._pulls, self._sources = QVBoxLayout(), QVBoxLayout()
        drop = _DropBox()
        pick = button(tr("Open a database file"), self.file_wanted.emit)
        add = button(tr("Add a server"), self.add_wanted.emit)
        demo = button(tr("Open the demo"), self.demo_wanted.emit, "", tr("Two pulls on an invented river survey"))
        journey = button(
            tr("First journey"), self.journey_wanted.emit, "", tr("Nine things to do on the demo, each seen done")
        )
        left = column(label(tr("Recent pulls"), "muted", 12, True), self._pulls, None, space=8)
        right = column(label(tr("Sources"), "muted", 12, True), self._sources, None, space=8)
        title = label(tr("Pull rows, shape them here, deliver them."), px=20, bold=True)
        title.setWordWrap(True)
        under = label(tr("Open a table from a source, or go on with a saved pull."), "muted")
        lists = row(left, right, space=40)
        lists.setStretch(0, 1)
        lists.setStretch(1, 1)
        inner = column(_Mark(), title, under, 14, lists, 10, drop, row(pick, add, demo, journey, None), space=8)
        box = QWidget()
        box.setMaximumWidth(640)
        box.setLayout(inner)
        parts = row(None, column(None, box, None, None), None, margins=(24, 20, 24, 20))
        parts.setStretch(1, 8)
        self.setLayout(parts)
        hub.changed.connect(lambda _: self.refresh(self._recent))

    def refresh(self, recent: list[Path]) -> None:
        """Show the recent pulls and the sources."""
        self._recent = recent
        clear(self._pulls)
        for path in recent[:6]:
            made = button(path.stem, partial(self.pull_opened.emit, path), "link", str(path))
            self._pulls.addWidget(made)
        if not recent:
            self._pulls.addWidget(label(tr("None yet. Saved pulls come here."), "faint", wrap=True))
        clear(self._sources)
        for source in self._hub.sources[:8]:
            made = button(source.name, partial(self.source_opened.emit, source), "link")
            self._sources.addLayout(row(made, label(source.word, "faint", 11), None))


class _Mark(QWidget):
    def __init__(self) -> None:
        super().__init__()
        self.setFixedSize(52, 48)

    def paintEvent(self, event: QPaintEvent) -> None:
        with QPainter(self) as painter:
            paint_mark(painter, QRect(0, 0, 48, 48))


class _DropBox(QFrame):
    """Says that files can be dropped; the whole window takes them."""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedHeight(58)
        self.setAccessibleName(tr("Drop a database file here"))

    def paintEvent(self, event: QPaintEvent) -> None:
        with QPainter(self) as painter:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            pen = painter.pen()
            pen.setColor(theme["line"])
            pen.setStyle(Qt.PenStyle.DashLine)
            pen.setWidthF(1.4)
            painter.setPen(pen)
            painter.setBrush(theme["paper"])
            painter.drawRoundedRect(self.rect().adjusted(1, 1, -2, -2), 8, 8)
            painter.setPen(theme["muted"])
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, tr("Drop a database file here"))
