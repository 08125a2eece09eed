"""A pull that is watched: what others write is marked, kept and told; what is chosen and pending stays."""

import time

import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from nimble_otter.desktop.kit.offscreen import wait_until
from nimble_otter.desktop.pulls import watch as watching
from nimble_otter.pull.steps import CheckLine, CheckStep, Rule, SortBy, SortStep
from tests.desktop.conftest import settle
from tests.files import sqlite_file

COLUMNS = "sample_id, station_id"


@pytest.fixture
def told(monkeypatch):
    found = []
    monkeypatch.setattr(watching, "notify", lambda title, text: found.append((title, text)) or True)
    return found


def change(path, *statements):
    with sqlite_file(path) as connection:
        for statement in statements:
            connection.execute(statement)
    connection.close()


def look(window):
    """The next look, at once."""
    watch, looks = window.pull.watch, window.pull.watch.looks
    watch._timer.stop()
    watch._look()
    assert wait_until(lambda: watch.looks > looks or watch.problem, 20)
    settle(window, 0.2)


def watched(window):
    window.commands.run("watch")
    drawer = window.drawer_of("watch")
    drawer.every.setCurrentIndex(drawer.every.findData("5"))
    drawer.every.activated.emit(drawer.every.currentIndex())
    assert window.pull.watch.every_s == 5
    return drawer


def row_of(window, key):
    ids = window.pull.table.column("sample_id").values()
    return window.pull.shaped.view.row_ids().tolist().index(ids.index(key))


def test_changes_of_others_are_marked_listed_and_the_row_is_followed(window, small_demo, told):
    drawer = watched(window)
    assert "first look" in window.status.fetched.text()
    look(window)
    assert window.pull.watch.words.endswith("nothing changed")
    keys = window.pull.table.column("sample_id").values()
    rows = window.pull.fetched
    window.grid.go(row_of(window, keys[40]), 1)
    change(small_demo, f"delete from assay where sample_id in ({keys[3]}, {keys[4]})",
           f"delete from lab_sample where sample_id in ({keys[3]}, {keys[4]})",
           f"update lab_sample set station_id = 1 - station_id where sample_id = {keys[40]}")  # fmt: skip
    look(window)
    watch = window.pull.watch
    assert window.pull.fetched is not rows
    assert watch.words.endswith("2 gone, 1 changed")
    assert window.grid.selection.current == (row_of(window, keys[40]), 1)  # two rows above it are gone
    assert window.pull.fresh == {window.pull.table.column("sample_id").values().index(keys[40])}
    assert drawer.list.topLevelItemCount() == 3
    texts = [[drawer.list.topLevelItem(n).text(c) for c in range(1, 6)] for n in range(3)]
    assert sorted(t[0] for t in texts) == ["changed", "gone", "gone"]
    (changed,) = [t for t in texts if t[0] == "changed"]
    assert changed[2] == "station_id"
    assert changed[3] != changed[4]
    drawer.copy.click()
    assert len(QApplication.clipboard().text().splitlines()) == 4
    drawer.clear.click()
    settle(window)
    assert not watch.seen
    assert not drawer.nothing.isHidden()
    assert told == []


def test_pending_changes_steps_and_order_stay(window, small_demo):
    window.add_step(SortStep((SortBy("sample_id", True),)))
    settle(window)
    keys = window.pull.table.column("sample_id").values()
    window.grid.go(row_of(window, keys[10]), 1)
    window.commands.run("delete_rows")
    settle(window)
    assert len(window.pull.edits.deleted) == 1
    watched(window)
    change(small_demo, f"update lab_sample set station_id = 1 where sample_id = {keys[20]} or station_id = 1")
    change(
        small_demo,
        f"delete from assay where sample_id = {keys[0]}",
        f"delete from lab_sample where sample_id = {keys[0]}",
    )
    look(window)
    (row,) = window.pull.edits.deleted
    assert window.pull.table.column("sample_id").values()[row] == keys[10]
    assert [step.kind for step in window.pull.pull.steps] == ["sort"]
    shown = [window.pull.table.column("sample_id").values()[i] for i in window.pull.shaped.view.row_ids().tolist()]
    assert shown == sorted(shown, reverse=True)


def test_conditions_and_checks_are_told_and_trouble_is_said_until_it_ends(window, small_demo, told):
    window.add_step(CheckStep((CheckLine(Rule.RANGE, ("station_id",), ("", "5000")),)))
    settle(window)
    drawer = watched(window)
    drawer.condition.setText("station_id >")
    drawer.condition.editingFinished.emit()
    assert drawer.problem.text()
    assert window.pull.watch.condition == ""
    drawer.condition.setText("station_id > 8000")
    drawer.condition.editingFinished.emit()
    key = window.pull.table.column("sample_id").values()[7]
    change(small_demo, "pragma foreign_keys = off", f"update lab_sample set station_id = 9000 where sample_id = {key}")
    look(window)
    assert wait_until(lambda: len(told) == 2, 10), told
    assert told[0] == ("lab_sample", "1 row: station_id > 8000")
    assert told[1][1].startswith("Check fails: station_id at most 5000")
    look(window)
    settle(window)
    assert len(told) == 2  # it fails still, which is nothing new
    change(small_demo, "alter table lab_sample rename to elsewhere")
    look(window)
    assert "lab_sample" in window.pull.watch.problem
    assert window.pull.watch.every_s == 5
    change(small_demo, "alter table elsewhere rename to lab_sample")
    window.pull.watch.problem = ""
    look(window)
    assert window.pull.watch.problem == ""
    change(small_demo, "alter table lab_sample add column more text")
    look(window)
    assert "columns are others" in window.pull.watch.problem
    assert window.pull.watch.every_s == 0


def test_it_rests_while_hidden_and_only_what_reads_is_watched(window):
    watched(window)
    watch = window.pull.watch
    asked = []
    watch._runs.look = lambda done, failed: asked.append(done)
    window.hide()
    watch._look()
    assert asked == []
    watch.rests_hidden = False
    watch._look()
    assert len(asked) == 1
    window.show()
    watch.set_every(0)
    window.query_drawer.editor.setPlainText("delete from lab_sample")
    window.query_drawer.take_text()
    watch.set_every(5)
    assert watch.every_s == 0
    assert "query that reads" in watch.problem
    window.new_pull()
    window.pull.watch.set_every(5)
    assert window.pull.watch.every_s == 0
    QTest.keyClick(window, Qt.Key.Key_Escape)


def test_what_is_told_on_a_channel_is_a_look(window, small_demo, monkeypatch):
    """The server's part is tested on a server; this is the window's."""
    said, ways = [], []

    class Told:
        def listen(self, channel, stop):
            ways.append(channel)
            while True:
                stop.check()
                if said:
                    yield said.pop()
                time.sleep(0.01)

        def close(self):
            ways.append("closed")

    monkeypatch.setattr(window.hub, "connect_new", lambda source: Told())
    watched(window)
    watch = window.pull.watch
    watch.set_every(3600)
    watch.set_channel(" samples ")
    assert wait_until(lambda: ways == ["samples"], 10)
    key = window.pull.table.column("sample_id").values()[5]
    change(small_demo, f"update lab_sample set station_id = 1 - station_id where sample_id = {key}")
    said += ["a", "b"]
    assert wait_until(lambda: watch.looks == 1 and watch.seen, 10)
    watch.set_channel("")
    assert wait_until(lambda: ways == ["samples", "closed"], 10)
    monkeypatch.setattr(window.hub, "connect_new", lambda source: Silent())
    watch.set_channel("samples")
    assert wait_until(lambda: "no channels" in watch.problem, 10)
    watch.set_every(0)


class Silent:
    def close(self):
        pass
