"""What the window tells of a run when it has ended, and of what went wrong inside the program."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QApplication, QMessageBox, QWidget

from nimble_otter.desktop.kit.widgets import as_plain
from nimble_otter.log import log_path
from nimble_otter.pull import places
from nimble_otter.translation import tr

if TYPE_CHECKING:
    from nimble_otter.desktop.pulls.open_pull import OpenPull


class Telling:
    """One for a window; `show_query` brings the query into sight, where an error has its place."""

    def __init__(self, window: QWidget, say: Callable[[str, bool], None], show_query: Callable[[], None]) -> None:
        self._window, self._say, self._show_query, self._told_of_run = window, say, show_query, False

    def of_run(self, open_pull: OpenPull) -> None:
        """What became of a run, or of what was asked beside it; it goes with the next one."""
        if open_pull.error is not None:
            self._say(str(open_pull.error), True)
            self._told_of_run = True
            self._show_query()
        elif open_pull.notice and not open_pull.is_running:
            self._say(open_pull.notice.text, open_pull.notice.is_warning)
            self._told_of_run = True
        elif self._told_of_run and not open_pull.is_running:
            self._say("", False)  # what was said of an earlier run
            self._told_of_run = False

    def crash(self, report: str) -> None:
        """An error of ours: where it is written down, and the report to be copied."""
        box = QMessageBox(
            QMessageBox.Icon.Critical,
            "Nimble Otter",
            tr("Something went wrong inside Nimble Otter."),
            parent=self._window,
        )
        where = tr(
            "The report can be copied; the log is {log_path}.", log_path=log_path(places.state_folder(), "window")
        )
        box.setInformativeText(as_plain(tr("Your rows and pending changes are kept. {where}", where=where)))
        box.setDetailedText(report)
        copy = box.addButton(tr("Copy the report"), QMessageBox.ButtonRole.ActionRole)
        box.addButton(tr("Close"), QMessageBox.ButtonRole.RejectRole)
        copy.clicked.connect(lambda: QApplication.clipboard().setText(report))
        box.open()
