"""The window: its parts at work, its commands, and the box that finds them."""

from __future__ import annotations

from nimble_otter.desktop.shell.commands import add_commands, collect_findings
from nimble_otter.desktop.shell.find_box import FindBox
from nimble_otter.desktop.shell.workbench import Workbench


class Window(Workbench):
    """One window with its own jobs, sources and open pulls."""

    def __init__(self) -> None:
        super().__init__()
        self.find_box = FindBox(self.title.box, self, lambda: collect_findings(self))
        add_commands(self, self.find_box)
