"""The status strip: rows shown of rows fetched, figures of the selection, notices, and running work with its Stop."""

from __future__ import annotations

from PySide6.QtCore import QTimer, Signal
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QButtonGroup, QMessageBox, QSizePolicy, QWidget

from nimble_otter.desktop.kit import tokens
from nimble_otter.desktop.kit.theme import theme
from nimble_otter.desktop.kit.widgets import ElidedLabel, as_plain, button, label, row, set_tone
from nimble_otter.translation import tr, trn

_VIEWS = (
    (tr("Table"), tr("Show the rows as a table")),
    (tr("Tree"), tr("Show the rows as a tree")),
    ("JSON", tr("Show the rows as JSON")),
    (tr("Chart"), tr("Show a chart of the rows")),
    (tr("Both"), tr("Show the rows and their chart side by side")),
)
_OF_DOCUMENTS = (1, 2)


class StatusStrip(QWidget):
    """`say` shows a message for a while; a problem stays until the next one. What `keep` is told, of files that were
    set aside and the like, stays until it was read."""

    stop_wanted = Signal()
    more_wanted = Signal()
    view_chosen = Signal(int)

    def __init__(self) -> None:
        super().__init__()
        self.setFixedHeight(tokens.STATUS)
        self.setAccessibleName(tr("Status"))
        self.strong, self.rows = label("", px=12, bold=True), label("", "muted", 12)
        self.figures = label("", "muted", 12)
        self.message = ElidedLabel("", "muted", 12)
        self.kept: list[str] = []
        self.notices = button("", self._read, "link", tr("Unread messages"))
        self.notices.setVisible(False)
        self.work = label("", "water", 12)
        self.stop = button(tr("Stop"), self.stop_wanted.emit, "link", tr("Stop what is running (Escape)"))
        self.more = button(
            tr("Fetch more"), self.more_wanted.emit, "link", tr("The row limit cut the result; fetch more")
        )
        self.more.setVisible(False)
        self.views = QWidget()
        self._ways = QButtonGroup(self)
        ways = row(space=2)
        for index, (name, tip) in enumerate(_VIEWS):
            made = button(name, look="chip", tip=tip)
            made.setCheckable(True)
            self._ways.addButton(made, index)
            ways.addWidget(made)
        self._ways.idClicked.connect(self.view_chosen.emit)
        self.views.setLayout(ways)
        self.views.setVisible(False)
        self.fetched, self.writes = (ElidedLabel("", "muted", 12, right=True) for _ in range(2))
        for each in (self.fetched, self.writes):  # as wide as their texts, where there is room
            each.setSizePolicy(QSizePolicy.Policy.Maximum, QSizePolicy.Policy.Preferred)
        shown = (
            self.figures,
            self.notices,
            self.message,
            self.work,
            self.stop,
            self.views,
            self.fetched,
            self.writes,
            self.more,
        )
        parts = row(row(self.strong, self.rows, space=4), *shown, space=18, margins=(15, 0, 14, 0))
        parts.setStretch(3, 1)
        self.setLayout(parts)
        self._fade = QTimer(self)
        self._fade.setSingleShot(True)
        self._fade.timeout.connect(lambda: self.message.setText(""))
        self.show_work("")

    def paintEvent(self, event: QPaintEvent) -> None:
        """Paint the ground and the line above it."""
        with QPainter(self) as painter:
            painter.fillRect(self.rect(), theme["paper"])
            painter.setPen(theme["line"])
            painter.drawLine(0, 0, self.width(), 0)

    def show_views(self, shown: bool, are_documents: bool, chosen: int) -> None:
        """Offer the ways to show the rows; documents have more of them."""
        self.views.setVisible(shown)
        for index in _OF_DOCUMENTS:
            self._ways.button(index).setVisible(are_documents)
        self._ways.button(chosen).setChecked(True)

    def show_rows(self, strong: str, rest: str) -> None:
        """Show how many rows there are."""
        self.strong.setText(strong)
        self.rows.setText(rest)
        self.strong.setVisible(bool(strong))

    def say(self, text: str, problem: bool = False) -> None:
        """Say something for a moment; a problem stays until the next word."""
        set_tone(self.message, "plum" if problem else "water")
        self.message.setText(text)
        self.message.setAccessibleName(text)
        if problem:
            self._fade.stop()
        else:
            self._fade.start(9000)

    def keep(self, text: str) -> None:
        """Tell something that must not be overlooked."""
        if text not in self.kept:
            self.kept.append(text)
        self._show_kept()

    def _show_kept(self) -> None:
        count = len(self.kept)
        self.notices.setText(trn("{count} notice", "{count} notices", count, count=count))
        self.notices.setVisible(bool(count))

    def _read(self) -> None:
        box = QMessageBox(QMessageBox.Icon.Information, tr("Notices"), as_plain("\n\n".join(self.kept)), parent=self)
        box.exec()
        self.kept.clear()
        self._show_kept()

    def show_work(self, text: str) -> None:
        """Show what is under way, with a Stop; an empty text hides both."""
        self.work.setText(text)
        self.work.setVisible(bool(text))
        self.stop.setVisible(bool(text))

    def show_right(self, fetched: str, writes: str, tone: str = "muted") -> None:
        """Show when the rows were fetched, and whether writes are reviewed."""
        self.fetched.setText(fetched)
        self.writes.setText(writes)
        set_tone(self.writes, tone)
