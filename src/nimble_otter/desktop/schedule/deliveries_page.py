"""Deliveries: what is on a schedule, with its next and last run, and every delivery that was made or held back."""

from __future__ import annotations

import datetime as dt
import subprocess
import tempfile
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path

from PySide6.QtCore import Qt, QTimer, QUrl, Signal
from PySide6.QtGui import QColor, QDesktopServices
from PySide6.QtWidgets import QHeaderView, QLineEdit, QTreeWidget, QTreeWidgetItem, QWidget

from nimble_otter.desktop.kit.theme import theme
from nimble_otter.desktop.kit.widgets import as_plain, boxed, button, column, combo, label, row
from nimble_otter.desktop.runtime.jobs import LOCAL, Jobs, Report
from nimble_otter.desktop.schedule.two_lines import TONE, UNDER, TwoLines
from nimble_otter.errors import OtterError, SendError
from nimble_otter.files import write_text
from nimble_otter.pull import places, timers
from nimble_otter.pull.account import Delivered, Outcome, deliveries
from nimble_otter.pull.model import SendPlan
from nimble_otter.pull.schedule_run import is_running, marks_of, set_back
from nimble_otter.pull.schedules import (
    Change,
    RunState,
    Schedule,
    changed,
    load_schedules,
    load_state,
    target_words,
    without,
)
from nimble_otter.stop import StopToken
from nimble_otter.table.text.show import grouped

_OWN = Qt.ItemDataRole.UserRole
_MOST, _LOOK_MS, _STOP_S = 500, 4000, 10


@dataclass(frozen=True, slots=True)
class _Seen:
    """What the page shows: each schedule with its state, next moment, whether it runs and what it delivered once; the
    deliveries."""

    schedules: tuple[tuple[Schedule, RunState, dt.datetime | None, bool, str], ...]
    made: tuple[Delivered, ...]
    problem: str = ""


class DeliveriesPage(QWidget):
    """`opened` has a pull as it was delivered, `pull_wanted` the file of a schedule's; `edit_wanted` a schedule;
    `repeat_wanted` a new one; `said` a word for the status strip, and whether it is a problem."""

    opened = Signal(object)
    pull_wanted = Signal(object)
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
        self.words.setPlaceholderText("words of the pull, file or error")
        self.words.setAccessibleName("Words to find")
        self.words.setClearButtonEnabled(True)
        self.words.setFixedWidth(260)
        outcomes = [("", "all outcomes"), *((o.value, o.value) for o in Outcome)]
        self.outcome = combo(outcomes, "", "Outcome")
        self.found = label("", "muted")
        self.schedules = self._list("Schedules", 4)
        self.schedules.setItemDelegate(TwoLines(self.schedules))
        self.schedules.setHeaderHidden(True)
        self.nothing = label(
            "Nothing repeats yet. A saved pull is repeated from its Send step, or by “Repeat a delivery…”.", "faint"
        )
        self.run_button = button("Run now", self._run, "", "Deliver now, as at its time")
        self.pause_button = button("Pause", self._pause)
        self.edit_button = button("Edit…", lambda: self._edit())
        self.reset_button = button("Deliver all again", self._reset, "", "Forget which rows were delivered once")
        self.remove_button = button("Remove", self._remove, "", "Remove the schedule; pull and files stay")
        self.made = self._list("Deliveries", 6)
        self.made.setHeaderLabels(["When", "Pull", "To", "Rows", "Size", "What"])
        for place in (3, 4):
            self.made.headerItem().setTextAlignment(place, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self.open_button = button("Open file", lambda: self._file(False))
        self.folder_button = button("Show in folder", lambda: self._file(True))
        self.pull_button = button("Open the pull as it was", self._open)
        self.again_button = button(
            "Send again", self._again, "", "Ask the same query again and send its rows where they went"
        )
        self.nothing_made = label("Nothing was delivered yet.", "faint")
        controls = row(
            self.run_button, self.pause_button, self.edit_button, self.reset_button, self.remove_button, None, space=8
        )
        deeds = row(self.open_button, self.folder_button, self.pull_button, self.again_button, None,
                    button("Close", self.closed.emit), space=8)  # fmt: skip
        self._controls = boxed(controls)
        layout = column(
            label("Deliveries", px=18, bold=True), 4,
            row(self.words, self.outcome, self.found, None,
                button("Repeat a delivery…", self.repeat_wanted.emit, "", "Make a schedule")),
            8, label("On a schedule", "muted", 12, bold=True), self.nothing, self.schedules, self._controls,
            8, label("Delivered", "muted", 12, bold=True), self.nothing_made, self.made, deeds,
            space=6, margins=(28, 22, 28, 18),
        )  # fmt: skip
        layout.setStretch(layout.indexOf(self.made), 1)
        self.setLayout(layout)
        self._later = QTimer(self, singleShot=True, interval=150)
        self._later.timeout.connect(self._show)
        self._look = QTimer(self, interval=_LOOK_MS)
        self._look.timeout.connect(self.refresh)
        self.words.textEdited.connect(lambda _: self._later.start())
        self.outcome.currentIndexChanged.connect(lambda _: self._show())
        self.schedules.currentItemChanged.connect(lambda *_: self._enable())
        self.schedules.itemActivated.connect(lambda *_: self._edit())
        self.made.currentItemChanged.connect(lambda *_: self._enable())
        self.made.itemActivated.connect(lambda *_: self._open())

    @staticmethod
    def _list(name: str, columns: int) -> QTreeWidget:
        tree_widget = QTreeWidget()
        tree_widget.setObjectName("rows")
        tree_widget.setAccessibleName(name)
        tree_widget.setColumnCount(columns)
        tree_widget.setRootIsDecorated(False)
        tree_widget.setUniformRowHeights(True)
        header = tree_widget.header()
        header.setStretchLastSection(False)
        widths = (0, 190, 0, 140) if columns == 4 else (132, 130, 0, 70, 76, 0)
        for index, width in enumerate(widths):  # 0: what is left
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
            made, now = tuple(deliveries(places.state_folder(), most=_MOST)), dt.datetime.now(dt.UTC)
            try:
                known = load_schedules()
            except OtterError as problem:
                return _Seen((), made, str(problem))
            states = (
                (s, load_state(s), s.table.next_run(now) if s.is_on else None, is_running(s), _marks_words(s))
                for s in known
            )
            return _Seen(tuple(states), made)

        def show(seen: _Seen) -> None:
            if seen.problem:
                self.said.emit(seen.problem, True)
            if seen != self._seen:
                self._seen = seen
                self._show()
            self._enable()

        self._jobs.submit(LOCAL, "deliveries", work, show)

    def _show(self) -> None:
        words, outcome = self.words.text().casefold().split(), str(self.outcome.currentData() or "")
        chosen, now = self._schedule(), dt.datetime.now().astimezone()
        self.schedules.clear()
        for schedule, state, moment, runs, marks in self._seen.schedules:
            texts = (schedule.name, schedule.table.words(), _targets(schedule.sends), _next_words(moment, now, runs))
            if not all(word in " ".join((*texts, state.said)).casefold() for word in words):
                continue
            item = QTreeWidgetItem(list(texts))
            item.setData(0, _OWN, schedule)
            is_bad = state.outcome in (Outcome.FAILED.value, Outcome.HELD.value)
            text = (": " if is_bad else ", ").join(filter(None, (state.outcome, state.said)))
            under = text or "not run yet"
            item.setData(0, UNDER, under)
            item.setData(0, TONE, "plum" if is_bad else "muted")
            item.setData(1, UNDER, f"only new rows{f': {marks}' if marks else ''}" if schedule.only_new else "")
            item.setData(3, UNDER, f"by {schedule.by}" if schedule.by != "none" else "nothing starts it")
            item.setData(0, Qt.ItemDataRole.AccessibleTextRole, f"{', '.join(texts)}; {under}")
            self.schedules.addTopLevelItem(item)
            if chosen is not None and schedule.name == chosen.name:
                self.schedules.setCurrentItem(item)
        has_any = self.schedules.topLevelItemCount() > 0
        self.nothing.setVisible(not self._seen.schedules)
        self.schedules.setVisible(has_any)
        self._controls.setVisible(has_any)
        self.schedules.setFixedHeight(min(4, self.schedules.topLevelItemCount()) * 45 + 4)
        if has_any and self.schedules.currentItem() is None:
            self.schedules.setCurrentItem(self.schedules.topLevelItem(0))  # type: ignore[arg-type]
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
            by = {"hand": "by hand", "command line": "from the command line"}.get(delivered.by, "on its schedule")
            what = delivered.said or by
            name = Path(delivered.path).name if "/" in delivered.path else delivered.path
            size = _size(delivered.bytes) if delivered.bytes else ""
            rows, message = (grouped(delivered.rows), what) if is_sent else ("", f"{delivered.outcome}: {what}")
            item = QTreeWidgetItem([f"{delivered.moment:%a %d %b %H:%M}", delivered.pull, name, rows, size, message])
            item.setData(0, _OWN, delivered)
            item.setToolTip(2, as_plain(delivered.path))
            item.setToolTip(5, as_plain(what))
            for place in (3, 4):
                item.setTextAlignment(place, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            if not is_sent:
                item.setForeground(5, QColor(theme["plum"]))
            self.made.addTopLevelItem(item)
        count = self.made.topLevelItemCount()
        self.found.setText(f"{grouped(count)} deliver{'ies' if count != 1 else 'y'}" if self._seen.made else "")
        self.nothing_made.setVisible(not self._seen.made)
        self.made.setVisible(bool(self._seen.made))
        if count:
            self.made.setCurrentItem(self.made.topLevelItem(0))  # type: ignore[arg-type]

    def _enable(self) -> None:
        schedule, delivered = self._schedule(), self._delivered()
        for each in (self.run_button, self.pause_button, self.edit_button, self.remove_button):
            each.setEnabled(schedule is not None)
        self.reset_button.setEnabled(schedule is not None and schedule.only_new)
        self.pause_button.setText("Resume" if schedule is not None and not schedule.is_on else "Pause")
        is_running_here = schedule is not None and self._jobs.is_running(f"schedule {schedule.name}")
        self.run_button.setEnabled(schedule is not None and not is_running_here)
        is_file = delivered is not None and delivered.outcome == Outcome.SENT.value and delivered.path.startswith("/")
        self.open_button.setEnabled(is_file)
        self.folder_button.setEnabled(is_file)
        self.pull_button.setEnabled(delivered is not None and bool(delivered.pull_text))
        can_go = delivered is not None and bool(delivered.pull_text) and delivered.format not in ("clipboard", "source")
        self.again_button.setEnabled(can_go)

    def _schedule(self) -> Schedule | None:
        item = self.schedules.currentItem()
        found = item.data(0, _OWN) if item is not None else None
        return found if isinstance(found, Schedule) else None

    def _delivered(self) -> Delivered | None:
        item = self.made.currentItem()
        found = item.data(0, _OWN) if item is not None else None
        return found if isinstance(found, Delivered) else None

    # --- doing -------------------------------------------------------------------------------------------------

    def _run(self) -> None:
        """As its timer does: in a process of its own, which ends if it is stopped."""
        schedule = self._schedule()
        if schedule is not None:
            self._call(["schedule", "run", schedule.name], schedule.name, lambda: None)
            self._enable()

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
        self._call(words, f"{delivered.pull} again", folder.cleanup)

    def _call(self, words: list[str], name: str, after: Callable[[], object]) -> None:
        """Our command line, beside the window; what it says last is told."""

        def work(stop: StopToken, _: Report) -> str:
            process = subprocess.Popen(
                [*timers.command(), *words], stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
            )
            stop.on_stop(process.terminate)
            try:
                out, err = process.communicate()
            finally:
                after()
            stop.check()
            if process.returncode:
                raise SendError((err.strip().splitlines() or ["It ended without a word."])[-1])
            return (out.strip().splitlines() or [name])[-1]

        def done(said: str) -> None:
            self.said.emit(said, False)
            self.refresh()

        def failed(problem: OtterError) -> None:
            self.said.emit(str(problem), True)
            self.refresh()

        key = f"schedule {name}"
        self._jobs.submit(key, key, work, done, failed, stopped=self.refresh, title=f"Delivering {name}")

    def _change(self, schedule: Schedule, change: Change, said: str) -> None:
        """Change the list, and what starts its schedules, in the background."""

        def work(stop: StopToken, _: Report) -> None:
            timers.reschedule(change)

        def done(_: object) -> None:
            self.said.emit(said, False)
            self.refresh()

        def failed(problem: OtterError) -> None:
            self.said.emit(str(problem), True)
            self.refresh()

        self._jobs.submit(LOCAL, f"change {schedule.name}", work, done, failed)

    def _reset(self) -> None:
        """Let all rows of a schedule count as new again."""
        schedule = self._schedule()
        if schedule is None:
            return

        def done(_: object) -> None:
            self.said.emit(f"{schedule.name} delivers all rows at its next run.", False)
            self.refresh()

        self._jobs.submit(LOCAL, f"reset {schedule.name}", lambda stop, _: set_back(schedule), done,
                          lambda problem: self.said.emit(str(problem), True))  # fmt: skip

    def _pause(self) -> None:
        schedule = self._schedule()
        if schedule is not None:
            text = f"{schedule.name} {'is paused' if schedule.is_on else 'runs again'}"
            self._change(schedule, changed(replace(schedule, is_on=not schedule.is_on)), text)

    def _remove(self) -> None:
        schedule = self._schedule()
        if schedule is not None:
            text = f"{schedule.name} was removed; its pull and what it delivered stay"
            self._change(schedule, without(schedule), text)

    def _edit(self) -> None:
        schedule = self._schedule()
        if schedule is not None:
            self.edit_wanted.emit(schedule)

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
            self.said.emit(f"{path} no longer exists.", True)
        elif not QDesktopServices.openUrl(QUrl.fromLocalFile(str(path.parent if folder else path))):
            self.said.emit(f"No application is set to open {path.name}.", True)


def _marks_words(schedule: Schedule) -> str:
    """What was delivered once, target by target."""
    try:
        return "; ".join(mark.words() for mark in marks_of(schedule))
    except (OtterError, OSError):
        return ""


def _targets(sends: tuple[SendPlan, ...]) -> str:
    names = [target_words(plan).rsplit("/", 1)[-1] for plan in sends]
    return ", ".join(names) or "as the pull says"


def _next_words(moment: dt.datetime | None, now: dt.datetime, runs: bool) -> str:
    if runs:
        return "running"
    if moment is None:
        return "paused"
    minutes = max(0, round((moment - now).total_seconds() / 60))
    days, rest = divmod(minutes, 1440)
    if days:
        return f"next in {days} d {rest // 60} h"
    return f"next in {rest // 60} h {rest % 60} min" if rest >= 60 else f"next in {rest} min"


def _size(size: int) -> str:
    for unit, least in (("GB", 1 << 30), ("MB", 1 << 20), ("kB", 1 << 10)):
        if size >= least:
            return f"{size / least:.1f} {unit}"
    return f"{size} bytes"
