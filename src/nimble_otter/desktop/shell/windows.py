"""The windows of one process: each has its own pulls, drafts and connections; sources, settings and the shelf are those
of all."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from PySide6.QtCore import QObject
from PySide6.QtWidgets import QApplication

from nimble_otter.desktop.shell.window import Window

_STEP = 28


class Windows(QObject):
    """`opened` are those that stand, the last one used at the end."""

    def __init__(self) -> None:
        super().__init__()
        self._made: list[Window] = []

    @property
    def opened(self) -> list[Window]:
        """The windows that are open."""
        active = QApplication.activeWindow()
        return sorted((each for each in self._made if each.isVisible()), key=lambda window: window is active)

    def _forget_closed(self) -> None:
        for window in [each for each in self._made if not each.isVisible()]:
            self._made.remove(window)
            window.deleteLater()

    def add(self, files: Sequence[str] = (), demo: bool = False) -> Window:
        """Another window, with these files; beside the one that was used last."""
        self._forget_closed()
        before = self.opened[-1:]
        window = Window()
        window.window_wanted.connect(self.add)
        if before:
            window.move(before[0].pos().x() + _STEP, before[0].pos().y() + _STEP)
        window.show()
        self._made.append(window)
        QApplication.processEvents()  # the window is there before the first source is reached
        window.begin(demo)
        for name in files:
            window.open_any(Path(name))
        return window

    def take(self, files: list[str]) -> None:
        """What another start of the program was given goes to the window that was used last."""
        if self.opened:
            self.opened[-1].take_over(files)

    def take_anew(self, files: list[str]) -> None:
        """What another start was given for a window of its own."""
        self.add(files).take_over([])
