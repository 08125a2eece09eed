"""Repeat: the page on which a delivery gets its times, and a schedule is changed."""

from __future__ import annotations

import datetime as dt
from dataclasses import replace
from pathlib import Path

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QCheckBox

from nimble_otter.desktop.kit.forms import FormPage
from nimble_otter.desktop.kit.widgets import boxed, button, column, combo, label, row, set_tone
from nimble_otter.desktop.runtime.jobs import LOCAL, Jobs, Report
from nimble_otter.errors import OtterError, SavedError
from nimble_otter.pull import Pull, timers
from nimble_otter.pull.growing import check_overlap
from nimble_otter.pull.model import SendPlan
from nimble_otter.pull.schedule_run import plans_of
from nimble_otter.pull.schedules import Schedule, added, changed, target_words
from nimble_otter.pull.timetable import DAYS, STEPS, Timetable, timetable
from nimble_otter.stop import StopToken
from nimble_otter.table.text.show import moment_words
from nimble_otter.translation import tr

_EVERY = [
    ("day", tr("every day")),
    ("weekday", tr("on weekdays")),
    ("week", tr("every week on")),
    ("month", tr("every month on day")),
    ("hour", tr("every hour")),
    ("minutes", tr("every few minutes")),
    ("calendar", tr("by a calendar expression")),
]
_BY = [
    ("systemd", tr("systemd (a timer of yours)")),
    ("cron", tr("cron (your crontab)")),
    ("none", tr("nothing: by hand only")),
]


class RepeatPage(FormPage):
    """`saved` with the schedule; `closed` when the page is left."""

    name_width = 108
    saved = Signal(object)
    closed = Signal()

    def __init__(self, jobs: Jobs) -> None:
        super().__init__()
        self._jobs = jobs
        self._pull: Pull | None = None
        self._before: Schedule | None = None
        self._path, self._plans = Path(), tuple[SendPlan, ...]()
        self.title = label(tr("Repeat a delivery"), px=18, bold=True)
        self.what, self.outcome = label("", "muted", wrap=True), label("", "plum", wrap=True)
        self.next = label("", "water")
        self.notes = label("", "amber", wrap=True)
        self.name, self.at, self.zone, self.days = (
            self.field(n) for n in (tr("Name"), tr("At"), tr("Time zone"), tr("Days"))
        )
        self.expression, self.key = self.field(tr("Calendar expression")), self.field(tr("Key"))
        self.grows, self.overlap = self.field(tr("Column that grows")), self.field(tr("Overlap"))
        self.grows.setPlaceholderText(tr("a time or a number, such as taken_at; all rows are read if empty"))
        self.overlap.setPlaceholderText(tr("for rows that come late, such as 1 day"))
        self.between = self.field(tr("Between"))
        self.between.setPlaceholderText(tr("the whole day, or hours such as 08:00-18:00"))
        self.zone.setPlaceholderText(tr("the machine's own"))
        self.expression.setPlaceholderText(tr("minute hour day month weekday, such as 30 4 * * 1-5"))
        self.key.setPlaceholderText(tr("the pull's key, or columns with commas between"))
        self.every = combo(_EVERY, "day", tr("How often"))
        self.minutes = combo([(str(n), tr("{n} minutes", n=n)) for n in STEPS], "15", tr("Minutes"))
        missed = [("run", tr("run once when the machine is up again")), ("skip", tr("skip it"))]
        self.missed = combo(missed, "run", tr("Missed runs"))
        self.tell = combo(
            [("failed", tr("when it fails or is held back")), ("always", tr("always")), ("never", tr("never"))],
            "failed",
            tr("Notify"),
        )
        self.by = combo(_BY, "systemd", tr("Started by"))
        self.only_new, self.changed = QCheckBox(tr("deliver each row once")), QCheckBox(tr("and again when it changed"))
        self.anyway = QCheckBox(tr("deliver rows that fail their checks all the same"))
        self.save = button(tr("Save"), self._save, "primary")
        self._lines = {
            "days": row(self.named(""), self.days),
            "at": row(self.named(tr("At")), self.at),
            "minutes": row(self.named(""), self.minutes, None),
            "expression": row(self.named(""), self.expression),
            "zone": row(self.named(tr("Time zone")), self.zone),
            "key": row(self.named(tr("Rows told apart by")), self.key),
            "changed": row(self.named(""), self.changed),
            "grows": row(self.named(tr("Read only since")), self.grows),
            "overlap": row(self.named(tr("with an overlap of")), self.overlap),
        }
        self._boxes = {name: boxed(line) for name, line in self._lines.items()}
        inner = column(
            self.title, self.what, 6,
            row(self.named(tr("Name")), self.name), row(self.named(tr("How often")), self.every, None),
            self._boxes["days"], self._boxes["minutes"], self._boxes["expression"], self._boxes["at"],
            row(self.named(tr("Only between")), self.between), self._boxes["zone"], row(self.named(""), self.next), 6,
            row(self.named(tr("A missed run")), self.missed, None), row(self.named(tr("Only new rows")), self.only_new),
            self._boxes["changed"], self._boxes["key"], self._boxes["grows"], self._boxes["overlap"],
            row(self.named(tr("Checks")), self.anyway),
            row(self.named(tr("Notify")), self.tell, None), row(self.named(tr("Started by")), self.by, None),
            row(self.named(""), self.notes), 8,
            row(self.named(""), self.save, button(tr("Cancel"), self.closed.emit), None),
            row(self.named(""), self.outcome), None, space=8,
        )  # fmt: skip
        self.lay_out(inner)
        for each in (self.at, self.between, self.zone, self.days, self.expression, self.name):
            each.textEdited.connect(lambda _: self._show())
            each.returnPressed.connect(self.save.click)
        for chosen in (self.every, self.minutes, self.by):
            chosen.activated.connect(lambda _: self._show())
        self.only_new.toggled.connect(lambda _: self._show())

    def open(self, pull: Pull, path: Path, plans: tuple[SendPlan, ...], before: Schedule | None = None) -> None:
        """For a saved pull and where it goes; or for a schedule that is there."""
        self._pull, self._path, self._plans, self._before = pull, path, plans, before
        self.title.setText(tr("Repeat a delivery") if before is None else before.name)
        self.name.setText(pull.name if before is None else before.name)
        self.name.setReadOnly(before is not None)
        names = ", ".join(target_words(plan) for plan in plans)
        self.what.setText(
            tr("{path_name} is delivered to {names}.", path_name=path.name, names=names or tr("where the pull says"))
        )
        schedule = before or Schedule("", "", timetable("day"), by="systemd")
        self._show_table(schedule.table)
        self.zone.setText(schedule.table.zone)
        self.between.setText(schedule.table.between)
        for chosen, value in ((self.missed, schedule.missed), (self.tell, schedule.told), (self.by, schedule.by)):
            chosen.setCurrentIndex(max(0, chosen.findData(value)))
        self.only_new.setChecked(schedule.only_new)
        self.changed.setChecked(schedule.changed_too)
        self.anyway.setChecked(schedule.anyway)
        self.key.setText(", ".join(schedule.key))
        self.grows.setText(schedule.grows)
        self.overlap.setText(schedule.overlap)
        self.outcome.setText("")
        self._show()
        self._look_what_starts(before is None)
        (self.every if before is None else self.at).setFocus()

    def _show_table(self, table: Timetable) -> None:
        """The form's fields for an expression that has one; the expression itself for every other."""
        minute, hour, day, month, weekday = table.expression.split()
        at = f"{int(hour):02}:{int(minute):02}" if hour.isdigit() and minute.isdigit() else ""
        every, days = "calendar", ""
        if month == "*":
            if minute.startswith("*/") and (hour, day, weekday) == ("*",) * 3 and int(minute[2:]) in STEPS:
                every = "minutes"
                self.minutes.setCurrentIndex(max(0, self.minutes.findData(minute[2:])))
            elif minute.isdigit() and (hour, day, weekday) == ("*",) * 3:
                every, at = "hour", f":{int(minute):02}"
            elif at and day == "*":
                every = {"*": "day", "1-5": "weekday"}.get(weekday, "week")
                if every == "week":
                    parts = weekday.split(",")
                    if all(part.isdigit() for part in parts):
                        days = ",".join(DAYS[(int(part) - 1) % 7] for part in parts)
                    else:
                        every = "calendar"
            elif at and weekday == "*" and (day == "L" or day.isdigit()):
                every, days = "month", "last" if day == "L" else day
        self.every.setCurrentIndex(self.every.findData(every))
        self.at.setText(at)
        self.days.setText(days)
        self.expression.setText(table.expression)

    def table(self) -> Timetable:
        """What the form says. Raises: SavedError."""
        every = str(self.every.currentData())
        return timetable(every, self.at.text().strip(), self.days.text().strip(), int(str(self.minutes.currentData())),
                         self.expression.text(), self.zone.text().strip(), self.between.text())  # fmt: skip

    def _show(self) -> None:
        every = str(self.every.currentData())
        shown = {"days": every in ("week", "month"), "minutes": every == "minutes", "expression": every == "calendar",
                 "at": every not in ("minutes", "calendar"), "changed": self.only_new.isChecked(),
                 **dict.fromkeys(("key", "grows", "overlap"), self.only_new.isChecked())}  # fmt: skip
        for name, is_shown in shown.items():
            self._boxes[name].setVisible(is_shown)
        self.days.setPlaceholderText("Mon,Thu" if every == "week" else tr("1 to 31, or last"))
        self.at.setPlaceholderText(":00" if every == "hour" else "04:30")
        try:
            runs = self.table().runs(dt.datetime.now(dt.UTC))
            moments = [moment_words(moment) for moment, _ in zip(runs, range(3), strict=False)]
            self.next.setText(tr("next {moments}", moments=", ".join(moments)) if moments else tr("never"))
            set_tone(self.next, "water")
        except SavedError as problem:
            self.next.setText(problem.message)
            set_tone(self.next, "plum")
        self.save.setEnabled(self.next.property("tone") == "water" and bool(self.name.text().strip()))

    def _look_what_starts(self, is_new: bool) -> None:
        """Choose what there is to start it, and say what will be missing."""
        pull = self._pull
        if pull is None:
            return

        def work(stop: StopToken, _: Report) -> tuple[str, list[str]]:
            by = timers.available()
            return by, timers.warnings(by, pull.source.url, "")

        def show(found: tuple[str, list[str]]) -> None:
            by, notes = found
            if is_new:
                self.by.setCurrentIndex(self.by.findData(by))
            self.notes.setText(" ".join(notes))
            self.notes.setVisible(bool(notes))

        self._jobs.submit(LOCAL, "what starts schedules", work, show)

    def schedule(self) -> Schedule:
        """What the form says. Raises: SavedError."""
        made = self._before or Schedule("", str(self._path), self.table(), self._plans)
        return replace(
            made, name=self.name.text().strip(), table=self.table(), missed=str(self.missed.currentData()),
            told=str(self.tell.currentData()), by=str(self.by.currentData()), only_new=self.only_new.isChecked(),
            changed_too=self.only_new.isChecked() and self.changed.isChecked(), anyway=self.anyway.isChecked(),
            grows=self.grows.text().strip() if self.only_new.isChecked() else "",
            overlap=self.overlap.text().strip() if self.only_new.isChecked() else "",
            key=tuple(name.strip() for name in self.key.text().split(",") if name.strip()),
        )  # fmt: skip

    def _save(self) -> None:
        pull, before = self._pull, self._before
        try:
            schedule = self.schedule()
            check_overlap(schedule.overlap)
            if pull is not None:
                plans_of(schedule, pull)
        except OtterError as problem:
            self.outcome.setText(str(problem))
            return

        def work(stop: StopToken, _: Report) -> None:
            timers.reschedule(added(schedule) if before is None else changed(schedule))

        self.save.setEnabled(False)

        def failed(problem: OtterError) -> None:
            self.outcome.setText(str(problem))
            self.save.setEnabled(True)

        self._jobs.submit(LOCAL, "save a schedule", work, lambda _: self.saved.emit(schedule), failed)
