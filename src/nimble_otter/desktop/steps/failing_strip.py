"""What stands over the grid while it shows only the rows that fail a check: which, and the way back to all."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QWidget

from nimble_otter.desktop.kit.widgets import ElidedLabel, button, row
from nimble_otter.desktop.pulls.open_pull import OpenPull
from nimble_otter.table.text.show import grouped
from nimble_otter.translation import tr, trn


class FailingStrip(QWidget):
    """`all_wanted`: the rows are to be shown whole again."""

    all_wanted = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("failing")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedHeight(30)
        self.words = ElidedLabel("", "plum", 12)
        parts = row(self.words, button(tr("all rows"), self.all_wanted.emit, "link"), margins=(12, 0, 12, 0))
        parts.setStretch(0, 1)
        self.setLayout(parts)
        self.hide()

    def show_pull(self, open_pull: OpenPull | None) -> None:
        """Bring it up to date with the pull in sight."""
        failing = open_pull.failing if open_pull is not None else None
        self.setVisible(failing is not None)
        if failing is not None and failing.failing is not None:
            count = len(failing.failing)
            text = trn("The row that fails", "The {count} rows that fail", count, count=grouped(count))
            self.words.setText(f"{text} “{failing.line.told}”")
