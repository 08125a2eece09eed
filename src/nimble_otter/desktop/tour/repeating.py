"""The part of the tour that repeats: checks that hold a delivery back, and a schedule that delivers."""

from __future__ import annotations

from dataclasses import replace

from nimble_otter.desktop.kit.offscreen import wait_until
from nimble_otter.desktop.pulls.step_ref import SEND
from nimble_otter.desktop.steps.check_drawer import CheckDrawer
from nimble_otter.desktop.tour.asking import Asking
from nimble_otter.desktop.tour.guide import hold
from nimble_otter.pull.model import SendPlan
from nimble_otter.pull.schedules import Schedule, added, change_schedules, load_schedules
from nimble_otter.pull.steps import CheckLine, CheckStep, Rule
from nimble_otter.pull.timetable import timetable
from nimble_otter.translation import tr_value


class Repeating(Asking):
    """Steps that check rows, and deliver them again by themselves. Nothing of the machine's timers is touched."""

    def repeat(self) -> str:
        """A delivery is held back, then goes by its schedule."""
        window, out = self.window, self.folder / "delivered" / "scheduled.csv"
        lines = (
            CheckLine(Rule.UNIQUE, ("reading_id",)), CheckLine(Rule.RANGE, ("level_m",), ("0", "3.5")),
            CheckLine(Rule.AMONG, ("quality",), ("good", "estimated", "suspect")),
            CheckLine(Rule.SINCE_LAST, values=("95",)), CheckLine(Rule.FILLED, ("note",), ("60 %",), stops=False),
        )  # fmt: skip
        window.grid.setFocus()
        window.grid.go(0, 0)
        window.say("")
        window.add_step(CheckStep(lines))
        self.settle()
        drawer = window.drawer_of("check")
        assert isinstance(drawer, CheckDrawer)
        window.workspace.show_local_step(len(self.pull.pull.steps) - 1)
        drawer.lines.setCurrentItem(drawer.lines.topLevelItem(1))  # type: ignore[arg-type]
        self.settle()
        failing = self.pull.failing
        hold(failing is not None and failing.failing is not None, "the check does not fail")
        assert failing is not None
        assert failing.failing is not None
        model = window.grid.model
        hold(model is not None and model.rows == len(failing.failing), "the rows that fail are not those shown")
        self.picture("23-check")
        window.failing_strip.all_wanted.emit()
        self.pull.shaping.put(replace(self.pull.pull, send=SendPlan("csv", str(out), {}, "replace")))
        window.open_drawer(SEND)
        self.settle()
        window.send()
        self.settle()
        hold(not out.exists() and window.status.message.text(), "it was not held back")
        at = len(self.pull.pull.steps) - 1
        self.pull.shaping.set_step(at, CheckStep(lines[:1]), "Change check")
        self.settle()
        path = self.folder / "Monday levels.pull"
        window.save_pull(path)
        table = timetable("week", "04:30", "Mon", zone="Europe/Lisbon")
        change_schedules(added(Schedule("Monday levels", str(path), table, by="none")))
        new = SendPlan("jsonl", str(self.folder / "delivered" / "new.jsonl"), {}, "append")
        change_schedules(
            added(Schedule("New readings", str(path), timetable("day", "02:00"), (new,), only_new=True, by="none"))
        )
        page = window.deliveries_page
        window.commands.run("deliveries")
        for name in ("Monday levels", "New readings", "New readings"):
            self.settle()
            item = next(i for n in range(page.schedules.list.topLevelItemCount())
                        if (i := page.schedules.list.topLevelItem(n)) is not None and i.text(0) == name)  # fmt: skip
            page.schedules.list.setCurrentItem(item)
            wait_until(page.schedules.run_button.isEnabled, 10)  # its last run is known to be over
            page.schedules.run_button.click()
            wait_until(lambda name=name: not window.jobs.is_running(f"schedule {name}"), 60)  # type: ignore[misc]
        self.settle()
        hold(out.exists(), f"the schedule did not deliver: {window.status.message.text()}")
        text = window.status.message.text()
        hold(tr_value("nothing new") in text or "nothing new" in text, f"the second run delivered again: {text}")
        self.picture("24-deliveries")
        page.closed.emit()
        self.pull.shaping.change(self.pull.pull.without_step(at), "Remove check")
        self.settle()
        count = len(load_schedules())
        held = len(failing.failing)
        return f"{held} rows held a delivery back; {count} schedules delivered, one of them each row once"
