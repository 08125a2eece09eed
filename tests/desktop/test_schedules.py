"""Deliveries that repeat, in the window: made from Send, listed, run, paused, changed, removed; the account."""

import os
from dataclasses import replace

import pytest
from PySide6.QtGui import QDesktopServices

from nimble_otter.desktop.kit.offscreen import wait_until
from nimble_otter.desktop.pulls.step_ref import SEND
from nimble_otter.pull import SendPlan, timers
from nimble_otter.pull.account import deliveries
from nimble_otter.pull.schedules import Schedule, added, change_schedules, load_schedules, load_state
from nimble_otter.pull.timetable import timetable
from nimble_otter.sources import Source
from tests.desktop.conftest import settle


@pytest.fixture
def saved(window, tmp_path, monkeypatch, own_survey):
    """The window on a saved pull that goes to a file; nothing of the machine starts schedules."""
    monkeypatch.setattr(timers, "available", lambda: "none")
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path / "config"))
    source = window.hub.add(Source("own", f"sqlite:///{own_survey}"))
    settle(window)
    window.open_table(source, next(t for t in window.hub.tables["own"] if t.name == "loan"))
    settle(window)
    plan = SendPlan("csv", str(tmp_path / "loans.csv"), {}, "replace")
    window.pull.shaping.put(replace(window.pull.pull, send=plan))
    window.pull.path = tmp_path / "loans.pull"
    window.commands.run("save")
    settle(window)
    return tmp_path


def choose(combo, value):
    combo.setCurrentIndex(combo.findData(value))
    combo.activated.emit(combo.currentIndex())


def rows_of(tree):
    return [[tree.topLevelItem(n).text(c) for c in range(tree.columnCount())] for n in range(tree.topLevelItemCount())]


def test_a_delivery_is_repeated_from_send_with_two_clicks(window, saved):
    window.workspace.show_step(SEND, True)
    window.send_drawer.repeat_wanted.emit()
    settle(window)
    page = window.repeat_page
    assert window.centre.currentWidget() is page
    assert "neither a systemd session" in page.notes.text()
    page.save.click()
    assert wait_until(load_schedules, 10)
    settle(window)
    (made,) = load_schedules()
    assert (made.pull, made.table.expression, made.by) == (str(saved / "loans.pull"), "30 4 * * *", "none")
    assert window.centre.currentWidget() is window.deliveries_page
    assert rows_of(window.deliveries_page.schedules.list)[0][:2] == ["loan", "daily 04:30"]
    window.deliveries_page.closed.emit()
    window.send_drawer.refresh()
    assert window.course.stops[-1].under.startswith("next ")
    assert window.course.stops[-1].under.endswith(" 04:30")


def test_a_schedule_runs_is_paused_changed_and_removed(window, saved):
    change_schedules(
        added(Schedule("loans", str(saved / "loans.pull"), timetable("week", "06:05", "Mon,Thu"), by="none"))
    )
    page = window.deliveries_page
    window.commands.run("deliveries")
    settle(window)
    page.schedules.run_button.click()
    assert wait_until(lambda: (saved / "loans.csv").exists() and not window.jobs.is_busy, 30)
    settle(window)
    assert load_state(load_schedules()[0]).outcome == "sent"
    assert "sent, 160 rows" in page.schedules.list.topLevelItem(0).data(0, 0x0101)
    assert rows_of(page.made)[0][1:4] == ["loan", "loans.csv", "160"]
    page.schedules.pause_button.click()
    assert wait_until(lambda: not load_schedules()[0].is_on, 10)
    settle(window)
    assert page.schedules.pause_button.text() == "Resume"
    assert rows_of(page.schedules.list)[0][3] == "paused"
    page.schedules.edit_button.click()
    settle(window)
    form = window.repeat_page
    assert (form.every.currentData(), form.days.text(), form.at.text(), form.name.isReadOnly()) == (
        "week", "Mon,Thu", "06:05", True)  # fmt: skip
    choose(form.every, "month")
    form.days.setText("32")
    form._show()
    assert not form.save.isEnabled()
    form.days.setText("last")
    form.only_new.setChecked(True)
    form._show()
    form.save.click()
    assert wait_until(lambda: load_schedules()[0].table.expression == "5 6 L * *", 10)
    assert load_schedules()[0].only_new
    settle(window)
    page.schedules.remove_button.click()
    assert wait_until(lambda: load_schedules() == [], 10)
    settle(window)
    assert not page.schedules.nothing.isHidden()
    assert (saved / "loans.csv").exists()


def test_a_run_that_fails_and_one_that_is_stopped_say_so(window, saved, own_survey):
    change_schedules(added(Schedule("loans", str(saved / "gone.pull"), timetable("day"), by="none")))
    page, told = window.deliveries_page, []
    page.said.connect(lambda text, problem: told.append((text, problem)))
    window.commands.run("deliveries")
    settle(window)
    page.schedules.run_button.click()
    assert wait_until(lambda: told, 30)
    assert "gone.pull" in told[0][0]
    assert told[0][1]
    settle(window)
    assert rows_of(page.made)[0][5].startswith("failed: ")
    page.outcome.setCurrentIndex(page.outcome.findData("sent"))
    assert page.made.topLevelItemCount() == 0
    page.outcome.setCurrentIndex(0)
    page.words.setText("nothing like it")
    page._show()
    assert (page.made.topLevelItemCount(), page.schedules.list.topLevelItemCount()) == (0, 0)
    page.schedules.edit_button.setEnabled(True)
    page.words.setText("")
    page._show()
    page.schedules._edit()
    assert "gone.pull" in told[-1][0] or "gone.pull" in window.status.message.text()


def test_the_account_opens_files_and_pulls_as_they_were(window, saved, monkeypatch):
    opened, told = [], []
    monkeypatch.setattr(QDesktopServices, "openUrl", lambda url: opened.append(url.toLocalFile()) or True)
    window.deliveries_page.said.connect(lambda text, problem: told.append(text))
    window.sending.send(window.pull, window.pull.pull.send)
    assert wait_until(lambda: deliveries(window.store.folder), 20)
    settle(window)
    window.commands.run("deliveries")
    settle(window)
    page = window.deliveries_page
    page.open_button.click()
    page.folder_button.click()
    assert opened == [str(saved / "loans.csv"), str(saved)]
    count = len(window.pulls)
    page.pull_button.click()
    settle(window)
    assert len(window.pulls) == count + 1
    assert window.pull.pull.query.text == window.pulls[count - 1].pull.query.text
    os.unlink(saved / "loans.csv")
    page.open_button.click()
    assert "no longer exists" in told[-1]
    window.commands.run("deliveries")
    settle(window)
    page.again_button.click()  # asked anew, and sent where it went
    assert wait_until(lambda: (saved / "loans.csv").exists() and "loans.csv" in told[-1], 30), told
    settle(window)
    assert len(deliveries(window.store.folder)) == 2
    assert rows_of(page.made)[0][3] == rows_of(page.made)[1][3]


FORMS = ("30 4 * * *", "30 4 * * 1-5", "5 6 * * 1,4", "5 6 L * *", "5 6 31 * *", "15 * * * *", "*/20 * * * *",
         "0 12 13 * 5", "*/7 8-18 * * *")  # fmt: skip


def test_the_form_says_what_it_was_given(window, saved):
    for expression in FORMS:
        table = timetable("calendar", calendar=expression, zone="Europe/Lisbon")
        made = Schedule("x", str(saved / "loans.pull"), table, by="none")
        window.repeat_page.open(window.pull.pull, saved / "loans.pull", (), made)
        assert window.repeat_page.schedule() == made
        assert "next " in window.repeat_page.next.text()


def test_what_can_not_be_repeated_says_why(window, saved):
    window.new_pull()
    window.pages.repeat()
    assert "set its Send step first" in window.status.message.text()


def test_what_was_delivered_once_is_seen_and_forgotten(window, saved):
    own = Schedule("loans", str(saved / "loans.pull"), timetable("day"), by="none", only_new=True)
    change_schedules(added(own))
    page = window.deliveries_page
    window.commands.run("deliveries")
    settle(window)
    page.schedules.run_button.click()
    assert wait_until(lambda: (saved / "loans.csv").exists() and not window.jobs.is_busy, 30)
    settle(window)
    assert page.schedules.list.topLevelItem(0).data(1, 0x0101) == "only new rows: 160 delivered"
    page.schedules.reset_button.click()
    settle(window)
    assert page.schedules.list.topLevelItem(0).data(1, 0x0101) == "only new rows: 0 delivered"
