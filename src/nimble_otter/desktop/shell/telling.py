"""What the window tells of a run when it has ended, and of what went wrong inside the program."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtWidgets import QApplication, QMessageBox

from nimble_otter.desktop.kit.widgets import as_plain
from nimble_otter.desktop.pulls.step_ref import QUERY
from nimble_otter.log import log_path
from nimble_otter.pull import places

if TYPE_CHECKING:
    from nimble_otter.desktop.pulls.open_pull import OpenPull
    from nimble_otter.desktop.shell.workbench import Workbench


class Telling:
    """One for a window."""

    def __init__(self, window: Workbench) -> None:
        self._window, self._told_of_run = window, False

    def of_run(self, open_pull: OpenPull) -> None:
        """What became of a run, or of what was asked beside it; it goes with the next one."""
        window = self._window
        if open_pull.error is not None:
            window.say(str(open_pull.error), True)
            self._told_of_run = True
            if not window.is_shown("query"):
                window.open_drawer(QUERY, focus=False)
        elif open_pull.notice and not open_pull.is_running:
            window.say(open_pull.notice.text, open_pull.notice.is_warning)
            self._told_of_run = True
        elif self._told_of_run and not open_pull.is_running:
            window.say("")  # what was said of an earlier run
            self._told_of_run = False

    def crash(self, report: str) -> None:
        """An error of ours: where it is written down, and the report to be copied."""
        box = QMessageBox(
            QMessageBox.Icon.Critical, "Nimble Otter", "Something went wrong inside Nimble Otter.", parent=self._window
        )
        where = f"The report can be copied; the log is {log_path(places.state_folder(), 'window')}."
        box.setInformativeText(as_plain(f"Your rows and pending changes are kept. {where}"))
        box.setDetailedText(report)
        copy = box.addButton("Copy the report", QMessageBox.ButtonRole.ActionRole)
        box.addButton("Close", QMessageBox.ButtonRole.RejectRole)
        copy.clicked.connect(lambda: QApplication.clipboard().setText(report))
        box.open()
