"""Deliveries: what is on a schedule, with its next and last run, and every delivery that was made or held back."""

from __future__ import annotations

import tempfile
from dataclasses import dataclass
from pathlib import Path

from PySide6.QtCore import Qt, QTimer, QUrl, Signal
from PySide6.QtGui import QColor, QDesktopServices
from PySide6.QtWidgets import QHeaderView, QLineEdit, QTreeWidget, QTreeWidgetItem, QWidget

from nimble_otter.desktop.kit.theme import theme
from nimble_otter.desktop.kit.widgets import as_plain, button, column, combo, label, row
from nimble_otter.desktop.runtime.jobs import LOCAL, Jobs, Report
from nimble_otter.desktop.schedule.beside import call_beside
from nimble_otter.desktop.schedule.schedules_list import Known, SchedulesList, known_schedules
from nimble_otter.errors import OtterError
from nimble_otter.files import write_text
from nimble_otter.pull import places
from nimble_otter.pull.account import Delivered, Outcome, deliveries
from nimble_otter.stop import StopToken
from nimble_otter.table.text.show import grouped, moment_words
from nimble_otter.translation import tr, tr_value, trn

_OWN = Qt.ItemDataRole.UserRole
_MOST, _LOOK_MS = 500, 4000


@dataclass(frozen=True, slots=True)
class _Seen:
    """What the page shows: each schedule with its state, next moment, whether it runs and what it delivered once; the
    deliveries."""

    schedules: tuple[Known, ...]
    made: tuple[Delivered, ...]
    problem: str = ""


class DeliveriesPage(QWidget):
    """`opened` has a pull as it was delivered; `edit_wanted` a schedule; `repeat_wanted` a new one; `said` a word for
    the status strip, and whether it is a problem."""

    opened = Signal(object)
    edit_wanted = Signal(object)
    repeat_wanted = Signal()
    said = Signal(str, bool)
    closed = Signal()

    def __init__(self, jobs: Jobs) -> None:
        super().__init__()
        self.setObjectName("surface")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._jobs, self._seen = jobs, _Seen((), ())
        self.words = QLineEdit()
        self.words.setPlaceholderText(tr("words of the pull, file or error"))
        self.words.setAccessibleName(tr("Words to find"))
        self.words.setClearButtonEnabled(True)
        self.words.setFixedWidth(260)
        outcomes = [("", tr("all outcomes")), *((o.value, tr_value(o)) for o in Outcome)]
        self.outcome = combo(outcomes, "", tr("Outcome"))
        self.found = label("", "muted")
        self.schedules = SchedulesList(jobs)
        self.schedules.edit_wanted.connect(self.edit_wanted)
        self.schedules.said.connect(self.said)
        self.schedules.changed.connect(self.refresh)
        self.made = self._list()
        self.made.setHeaderLabels([tr("When"), tr("Pull"), tr("To"), tr("Rows"), tr("Size"), tr("What")])
        for place in (3, 4):
            self.made.headerItem().setTextAlignment(place, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self.open_button = button(tr("Open file"), lambda: self._file(False))
        self.folder_button = button(tr("Show in folder"), lambda: self._file(True))
        self.pull_button = button(tr("Open the pull as it was"), self._open)
        self.again_button = button(
            tr("Send again"), self._again, "", tr("Ask the same query again and send its rows where they went")
        )
        self.nothing_made = label(tr("Nothing was delivered yet."), "faint")
        self.nothing_made.setAlignment(Qt.AlignmentFlag.AlignTop)
        deeds = row(self.open_button, self.folder_button, self.pull_button, self.again_button, None,
                    button(tr("Close"), self.closed.emit), space=8)  # fmt: skip
        layout = column(
            label(tr("Deliveries"), px=18, bold=True), 4,
            row(self.words, self.outcome, self.found, None,
                button(tr("Repeat a delivery…"), self.repeat_wanted.emit, "", tr("Make a schedule"))),
            8, label(tr("On a schedule"), "muted", 12, bold=True), self.schedules,
            8, label(tr("Delivered"), "muted", 12, bold=True), self.nothing_made, self.made, deeds,
            space=6, margins=(28, 22, 28, 18),
        )  # fmt: skip
        for each in (self.made, self.nothing_made):  # one of them is there
            layout.setStretch(layout.indexOf(each), 1)
        self.setLayout(layout)
        self._later = QTimer(self, singleShot=True, interval=150)
        self._later.timeout.connect(self._show)
        self._look = QTimer(self, interval=_LOOK_MS)
        self._look.timeout.connect(self.refresh)
        self.words.textEdited.connect(lambda _: self._later.start())
        self.outcome.currentIndexChanged.connect(lambda _: self._show())
        self.made.currentItemChanged.connect(lambda *_: self._enable())
        self.made.itemActivated.connect(lambda *_: self._open())

    @staticmethod
    def _list() -> QTreeWidget:
        tree_widget = QTreeWidget()
        tree_widget.setObjectName("rows")
        tree_widget.setAccessibleName(tr("Deliveries"))
        tree_widget.setColumnCount(6)
        tree_widget.setRootIsDecorated(False)
        tree_widget.setUniformRowHeights(True)
        header = tree_widget.header()
        header.setStretchLastSection(False)
        for index, width in enumerate((132, 130, 0, 70, 76, 0)):  # 0: what is left
            mode = QHeaderView.ResizeMode.Interactive if width else QHeaderView.ResizeMode.Stretch
            header.setSectionResizeMode(index, mode)
            if width:
                tree_widget.setColumnWidth(index, width)
        return tree_widget

    # --- what is there -----------------------------------------------------------------------------------------

    def open(self) -> None:
        """Show what there is now, and look again as long as the page is in sight."""
        self.refresh()
        self._look.start()
        self.words.setFocus()

    def refresh(self) -> None:
        """Read schedules and account anew, in the background."""
        if not self.isVisible() and self._seen.made:
            self._look.stop()
            return

        def work(stop: StopToken, _: Report) -> _Seen:
            made = tuple(deliveries(places.state_folder(), most=_MOST))
            known, problem = known_schedules()
            return _Seen(tuple(known), made, problem)

        def show(seen: _Seen) -> None:
            if seen.problem and seen.problem != self._seen.problem:
                self.said.emit(seen.problem, True)
            if seen != self._seen:
                self._seen = seen
                self._show()
            self._enable()

        self._jobs.submit(LOCAL, "deliveries", work, show)

    def _show(self) -> None:
        words, outcome = self.words.text().casefold().split(), str(self.outcome.currentData() or "")
        self.schedules.show_known(self._seen.schedules, words)
        self._show_made(words, outcome)
        self._enable()

    def _show_made(self, words: list[str], outcome: str) -> None:
        self.made.clear()
        for delivered in self._seen.made:
            if outcome and delivered.outcome != outcome:
                continue
            text = f"{delivered.pull} {delivered.path} {delivered.said} {delivered.source} {delivered.by}".casefold()
            if not all(word in text for word in words):
                continue
            is_sent = delivered.outcome == Outcome.SENT.value
            by = {"hand": tr("by hand"), "command line": tr("from the command line")}.get(
                delivered.by, tr("on its schedule")
            )
            what = delivered.said or by
            name = Path(delivered.path).name if "/" in delivered.path else delivered.path
            size = _size(delivered.bytes) if delivered.bytes else ""
            rows, message = (
                (grouped(delivered.rows), what) if is_sent else ("", f"{tr_value(delivered.outcome)}: {what}")
            )
            item = QTreeWidgetItem([moment_words(delivered.moment), delivered.pull, name, rows, size, message])
            item.setData(0, _OWN, delivered)
            item.setToolTip(2, as_plain(delivered.path))
            item.setToolTip(5, as_plain(what))
            for place in (3, 4):
                item.setTextAlignment(place, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            if not is_sent:
                item.setForeground(5, QColor(theme["plum"]))
            self.made.addTopLevelItem(item)
        count = self.made.topLevelItemCount()
        self.found.setText(
            trn("{count} delivery", "{count} deliveries", count, count=grouped(count)) if self._seen.made else ""
        )
        self.nothing_made.setVisible(not self._seen.made)
        self.made.setVisible(bool(self._seen.made))
        if count:
            self.made.setCurrentItem(self.made.topLevelItem(0))  # type: ignore[arg-type]

    def _enable(self) -> None:
        delivered = self._delivered()
        self.schedules.enable()
        is_file = delivered is not None and delivered.outcome == Outcome.SENT.value and delivered.path.startswith("/")
        self.open_button.setEnabled(is_file)
        self.folder_button.setEnabled(is_file)
        self.pull_button.setEnabled(delivered is not None and bool(delivered.pull_text))
        can_go = delivered is not None and bool(delivered.pull_text) and delivered.format not in ("clipboard", "source")
        self.again_button.setEnabled(can_go)

    def _delivered(self) -> Delivered | None:
        item = self.made.currentItem()
        found = item.data(0, _OWN) if item is not None else None
        return found if isinstance(found, Delivered) else None

    # --- doing -------------------------------------------------------------------------------------------------

    def _again(self) -> None:
        """The same pull as it was then, asked and sent anew, to where it went."""
        delivered = self._delivered()
        if delivered is None or not delivered.pull_text:
            return
        folder = tempfile.TemporaryDirectory(prefix="nimble-otter-")
        path = Path(folder.name) / "again.pull"
        try:
            pull = delivered.as_pull()
            write_text(path, delivered.pull_text)
        except (OtterError, OSError) as problem:
            folder.cleanup()
            self.said.emit(str(problem), True)
            return
        words = ["run", str(path)]
        if pull is not None and (
            pull.send is None or pull.send.format != delivered.format
        ):  # it went by a schedule's own
            words += ["--send", delivered.path, "--format", delivered.format, "--exists", "replace"]

        def ended() -> None:
            folder.cleanup()
            self.refresh()

        call_beside(self._jobs, words, f"{delivered.pull} again", self.said.emit, ended)

    def _open(self) -> None:
        delivered = self._delivered()
        if delivered is None:
            return
        try:
            pull = delivered.as_pull()
        except OtterError as problem:
            self.said.emit(str(problem), True)
            return
        if pull is not None:
            self.opened.emit(pull)

    def _file(self, folder: bool) -> None:
        delivered = self._delivered()
        if delivered is None:
            return
        path = Path(delivered.path)
        if not path.exists():
            self.said.emit(tr("{path} no longer exists.", path=path), True)
        elif not QDesktopServices.openUrl(QUrl.fromLocalFile(str(path.parent if folder else path))):
            self.said.emit(tr("No application is set to open {path_name}.", path_name=path.name), True)


def _size(size: int) -> str:
    for unit, least in (("GB", 1 << 30), ("MB", 1 << 20), ("kB", 1 << 10)):
        if size >= least:
            return f"{size / least:.1f} {unit}"
    return tr("{size} bytes", size=size)
