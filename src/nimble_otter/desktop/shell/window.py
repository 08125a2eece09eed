"""The window: its parts at work, its commands, and the box that finds them."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication

from nimble_otter.desktop.pulls.aspect import Aspect
from nimble_otter.desktop.shell.commands import add_commands, collect_findings
from nimble_otter.desktop.shell.find_box import FindBox
from nimble_otter.desktop.shell.workbench import Workbench


class Window(Workbench):
    """One window with its own jobs, sources and open pulls."""

    def __init__(self) -> None:
        super().__init__()
        self.find_box = FindBox(self.title.box, self, lambda: collect_findings(self))
        add_commands(self, self.find_box)
        self.grid_presenter.shown.connect(lambda: self.failing_strip.show_pull(self.pull))
        self.drawer_stack.currentChanged.connect(lambda _: self.detail_presenter.refresh())
        self.failing_strip.all_wanted.connect(self._show_all_rows)

    def _show_rows(self, what: Aspect) -> None:
        """Rows, and what stands beside them of earlier deliveries, which a delivery just made changes."""
        super()._show_rows(what)
        if what & Aspect.PULL and self.detail.showing_last:
            self.detail_presenter.refresh()

    def _show_all_rows(self) -> None:
        """No longer only those that fail a check."""
        if self.pull is not None:
            self.pull.shaping.show_failing(None)
            self.grid.setFocus()

    def take_over(self, files: list[str]) -> None:
        """Open what another start of the program was given, and come to the front."""
        for name in files:
            self.open_any(Path(name))
        self.setWindowState(self.windowState() & ~Qt.WindowState.WindowMinimized)
        self.show()
        self.raise_()
        self.activateWindow()
        QApplication.alert(self)  # where the desktop does not let a window come to the front by itself
