"""What is on a schedule, here or with a colleague: its next and last run, and what can be done about it."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QHeaderView, QSizePolicy, QTreeWidget, QTreeWidgetItem, QWidget

from nimble_otter.desktop.kit.widgets import as_plain, boxed, button, column, label, row
from nimble_otter.desktop.runtime.jobs import LOCAL, Jobs, Report
from nimble_otter.desktop.schedule.beside import call_beside, key_of
from nimble_otter.desktop.schedule.two_lines import HEIGHT, TONE, UNDER, TwoLines
from nimble_otter.errors import OtterError
from nimble_otter.pull import places, timers
from nimble_otter.pull.account import Outcome
from nimble_otter.pull.model import SendPlan
from nimble_otter.pull.schedule_run import is_running, marks_of, set_back
from nimble_otter.pull.schedule_sharing import all_schedules, share_schedule, take_over, unshare_schedule
from nimble_otter.pull.schedules import (
    RunState,
    Schedule,
    changed,
    load_state,
    target_words,
    without,
)
from nimble_otter.stop import StopToken
from nimble_otter.translation import tr, tr_value

_OWN = Qt.ItemDataRole.UserRole
_IN_SIGHT = 4


@dataclass(frozen=True, slots=True)
class Known:
    """A schedule with what became of it; `marks`: what it delivered once; `keeper`: who runs it, "" where this machine
    does."""

    schedule: Schedule
    state: RunState = field(default_factory=RunState)
    following: dt.datetime | None = None
    is_running: bool = False
    marks: str = ""
    keeper: str = ""


def known_schedules() -> tuple[list[Known], str]:
    """Those of this machine, and those of the team that run elsewhere; and what is wrong with their files."""
    now = dt.datetime.now(dt.UTC)
    found, problems = all_schedules()
    known = [
        Known(s, load_state(s), s.table.next_run(now) if s.is_on else None, is_running(s), _marks_words(s))
        if each.is_mine else Known(s, keeper=each.keeper)
        for each in found for s in [each.schedule]
    ]  # fmt: skip
    return known, " ".join(problems)


class SchedulesList(QWidget):
    """`edit_wanted` has a schedule; `said` a word, and whether it is a problem; `changed` where all is to be read
    anew."""

    edit_wanted = Signal(object)
    said = Signal(str, bool)
    changed = Signal()

    def __init__(self, jobs: Jobs) -> None:
        super().__init__()
        self._jobs = jobs
        self.list = QTreeWidget()
        self.list.setObjectName("rows")
        self.list.setAccessibleName(tr("Schedules"))
        self.list.setColumnCount(4)
        self.list.setRootIsDecorated(False)
        self.list.setUniformRowHeights(True)
        self.list.setHeaderHidden(True)
        self.list.setItemDelegate(TwoLines(self.list))
        header = self.list.header()
        header.setStretchLastSection(False)
        for at, width in enumerate((0, 190, 0, 140)):  # 0: what is left
            mode = QHeaderView.ResizeMode.Interactive if width else QHeaderView.ResizeMode.Stretch
            header.setSectionResizeMode(at, mode)
            if width:
                self.list.setColumnWidth(at, width)
        self.nothing = label(
            tr("Nothing repeats yet. A saved pull is repeated from its Send step, or by “Repeat a delivery…”."), "faint"
        )
        self.run_button = button(tr("Run now"), self._run, "", tr("Deliver now, as at its time"))
        self.pause_button = button(tr("Pause"), self._pause)
        self.edit_button = button(tr("Edit…"), lambda: self._edit())
        self.reset_button = button(
            tr("Deliver all again"), self._reset, "", tr("Forget which rows were delivered once")
        )
        self.remove_button = button(tr("Remove"), self._remove, "", tr("Remove the schedule; pull and files stay"))
        self.share_button = button(tr("Share"), self._share, "", tr("Let the team see it, and take it over"))
        self._controls = boxed(row(
            self.run_button, self.pause_button, self.edit_button, self.reset_button, self.share_button,
            self.remove_button, None, space=8,
        ))  # fmt: skip
        self.setLayout(column(self.nothing, self.list, self._controls, space=6))
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Maximum)
        self.list.currentItemChanged.connect(lambda *_: self.enable())
        self.list.itemActivated.connect(lambda *_: self._edit())

    def show_known(self, known: Sequence[Known], words: Sequence[str]) -> None:
        """List those that have the words."""
        chosen, now = self._schedule(), dt.datetime.now().astimezone()
        self.list.clear()
        for each in known:
            item = _item(each, now)
            if not all(word in _all_words(item, each) for word in words):
                continue
            self.list.addTopLevelItem(item)
            if chosen is not None and each.schedule.name == chosen.name:
                self.list.setCurrentItem(item)
        count = self.list.topLevelItemCount()
        self.nothing.setVisible(not known)
        self.list.setVisible(count > 0)
        self._controls.setVisible(count > 0)
        self.list.setFixedHeight(min(_IN_SIGHT, count) * (HEIGHT + 1) + 4)
        if count and self.list.currentItem() is None:
            self.list.setCurrentItem(self.list.topLevelItem(0))  # type: ignore[arg-type]
        self.enable()

    def enable(self) -> None:
        """What can be done with the one that is chosen."""
        known = self._known()
        schedule, is_here = (None, False) if known is None else (known.schedule, not known.keeper)
        for each in (self.pause_button, self.edit_button, self.remove_button):
            each.setEnabled(is_here)
        self.reset_button.setEnabled(schedule is not None and is_here and schedule.only_new)
        self.pause_button.setText(tr("Resume") if schedule is not None and not schedule.is_on else tr("Pause"))
        self.run_button.setEnabled(
            schedule is not None and is_here and not self._jobs.is_running(key_of(schedule.name))
        )
        self.share_button.setVisible(places.team_folder() is not None)
        if schedule is not None:
            text, said = (tr("Share"), tr("Let the team see it, and take it over"))
            if not is_here:
                text, said = tr("Take over"), tr("Run it on this machine instead, from where the other stopped")
            elif schedule.is_shared:
                text, said = tr("Stop sharing"), tr("It goes on here, and the team no longer sees it")
            self.share_button.setText(text)
            self.share_button.setToolTip(as_plain(said))

    def _known(self) -> Known | None:
        item = self.list.currentItem()
        return item.data(0, _OWN) if item is not None else None

    def _schedule(self) -> Schedule | None:
        known = self._known()
        return known.schedule if known is not None else None

    # --- doing -------------------------------------------------------------------------------------------------

    def _run(self) -> None:
        """As its timer does."""
        schedule = self._schedule()
        if schedule is not None:
            call_beside(self._jobs, ["schedule", "run", schedule.name], schedule.name, self.said.emit,
                        self.changed.emit)  # fmt: skip
            self.enable()

    def _do(self, schedule: Schedule, work: Callable[[], object], said: str) -> None:
        """Change the list, and what starts its schedules, in the background."""

        def done(_: object) -> None:
            self.said.emit(said, False)
            self.changed.emit()

        def failed(problem: OtterError) -> None:
            self.said.emit(str(problem), True)
            self.changed.emit()

        def change(stop: StopToken, _: Report) -> None:
            work()

        self._jobs.submit(LOCAL, f"change {schedule.name}", change, done, failed)

    def _reset(self) -> None:
        """Let all rows of a schedule count as new again."""
        schedule = self._schedule()
        if schedule is not None:
            self._do(
                schedule,
                lambda: set_back(schedule),
                tr("{schedule_name} delivers all rows at its next run.", schedule_name=schedule.name),
            )

    def _pause(self) -> None:
        schedule = self._schedule()
        if schedule is not None:
            name = schedule.name
            text = tr("{name} is paused", name=name) if schedule.is_on else tr("{name} runs again", name=name)
            change = changed(replace(schedule, is_on=not schedule.is_on))
            self._do(schedule, lambda: timers.reschedule(change), text)

    def _remove(self) -> None:
        schedule = self._schedule()
        if schedule is not None:
            whole = tr(", here and for the team") if schedule.is_shared else ""
            text = tr(
                "{schedule_name} was removed{whole}; its pull and what it delivered stay",
                schedule_name=schedule.name,
                whole=whole,
            )
            self._do(schedule, lambda: timers.reschedule(without(schedule)), text)

    def _share(self) -> None:
        """Give it to the team, take it back, or take over what runs elsewhere."""
        known = self._known()
        if known is None:
            return
        name = known.schedule.name
        if known.keeper:
            self._do(
                known.schedule,
                lambda: take_over(name),
                tr("{name} runs here now, no longer with {keeper}", name=name, keeper=known.keeper),
            )
        elif known.schedule.is_shared:
            self._do(
                known.schedule,
                lambda: unshare_schedule(name),
                tr("{name} is no longer the team's; it runs here", name=name),
            )
        else:
            self._do(known.schedule, lambda: share_schedule(name), tr("{name} is the team's, and runs here", name=name))

    def _edit(self) -> None:
        known = self._known()
        if known is not None and not known.keeper:
            self.edit_wanted.emit(known.schedule)


def _item(known: Known, now: dt.datetime) -> QTreeWidgetItem:
    schedule, state = known.schedule, known.state
    following = (
        tr("with {keeper}", keeper=known.keeper)
        if known.keeper
        else _next_words(known.following, now, known.is_running)
    )
    texts = (schedule.name, schedule.table.words(), _targets(schedule.sends), following)
    item = QTreeWidgetItem(list(texts))
    item.setData(0, _OWN, known)
    is_bad = state.outcome in (Outcome.FAILED.value, Outcome.HELD.value)
    text = (": " if is_bad else ", ").join(filter(None, (tr_value(state.outcome), state.said)))
    under = tr("the team's, not run here") if known.keeper else text or tr("not run yet")
    item.setData(0, UNDER, under)
    item.setData(0, TONE, "plum" if is_bad else "muted")
    marks = f": {known.marks}" if known.marks else ""
    item.setData(
        1,
        UNDER,
        tr("only new rows{marks}", marks=marks) if schedule.only_new else "",
    )
    by = "" if known.keeper else tr("by {by}", by=schedule.by) if schedule.by != "none" else tr("nothing starts it")
    item.setData(3, UNDER, tr("{by} · team", by=by) if schedule.is_shared and by else by)
    item.setData(0, Qt.ItemDataRole.AccessibleTextRole, f"{', '.join(texts)}; {under}")
    return item


def _all_words(item: QTreeWidgetItem, known: Known) -> str:
    return " ".join([*(item.text(at) for at in range(4)), known.state.said]).casefold()


def _marks_words(schedule: Schedule) -> str:
    """What was delivered once, target by target."""
    try:
        return "; ".join(mark.words() for mark in marks_of(schedule))
    except (OtterError, OSError):
        return ""


def _targets(sends: Sequence[SendPlan]) -> str:
    names = [target_words(plan).rsplit("/", 1)[-1] for plan in sends]
    return ", ".join(names) or tr("as the pull says")


def _next_words(moment: dt.datetime | None, now: dt.datetime, runs: bool) -> str:
    if runs:
        return tr("running")
    if moment is None:
        return tr("paused")
    minutes = max(0, round((moment - now).total_seconds() / 60))
    days, rest = divmod(minutes, 1440)
    if days:
        return tr("next in {days} d {hours} h", days=days, hours=rest // 60)
    return (
        tr("next in {hours} h {minutes} min", hours=rest // 60, minutes=rest % 60)
        if rest >= 60
        else tr("next in {minutes} min", minutes=rest)
    )
