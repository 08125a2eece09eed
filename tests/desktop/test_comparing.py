"""Comparing in the window: a step, its key and rules, differences in the grid, and changes made pending of them."""

import pytest
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QComboBox, QFileDialog, QLineEdit

from nimble_otter.desktop.kit.offscreen import wait_until
from nimble_otter.desktop.pulls.step_ref import step_at
from nimble_otter.pull import Pull, Query
from nimble_otter.sources import Source
from tests.desktop.conftest import settle
from tests.files import sqlite_file

ROWS = "select station_id, name, height_m, opened, active from station where station_id < 20"


@pytest.fixture
def two(make_window, small_demo, tmp_path):
    """A pull of stations beside one of a copy of them in which some rows are others."""
    window = make_window(demo=False)
    copy = tmp_path / "hq.sqlite"
    copy.write_bytes(small_demo.read_bytes())
    with sqlite_file(copy) as base:
        base.execute("update station set height_m = height_m + 0.2 where station_id = 3")
        base.execute("update station set name = 'Lower Tarn Sluice' where station_id = 8")
        base.execute("update station set height_m = height_m + 0.001 where station_id = 5")
        base.execute("delete from station where station_id = 9")
    base.close()
    left, right = Source("Merrow", f"sqlite:///{small_demo}"), Source("Catchment HQ", f"sqlite:///{copy}")
    for each in (right, left):
        open_pull = window.workspace.open(Pull("station" if each is left else "hq", each, Query(ROWS)), run=True)
        settle(window)
        assert open_pull.error is None, open_pull.error
    return window


def drawer_of(window):
    window.commands.run("add_compare")
    settle(window)
    drawer = window.drawer_of("compare")
    other = field(drawer, "Other pull", QComboBox)
    other.setCurrentIndex(other.findData("hq"))
    other.activated.emit(other.currentIndex())
    wait_until(lambda: drawer.compared is not None)
    settle(window)
    import os

    if os.environ.get("PIC"):
        window.grab().save(os.environ["PIC"])
    return drawer


def field(drawer, name, kind=QLineEdit):
    return next(each for each in drawer.findChildren(kind) if each.accessibleName() == name)


def texts(window):
    lines = [window.grid.model.line(row) for row in range(window.grid.model.rows)]
    return [(line.head, line.state, [(line.cells[n].text, line.cells[n].old) for n in range(len(line.cells))])
            for line in lines]  # fmt: skip


def test_differences_are_shown_and_become_changes_of_either_side(two):
    window, drawer = two, drawer_of(two)
    assert drawer.compare.keys == ("station_id",)
    assert "3 changed, 1 only left; 15 same" in drawer.report.text()
    names = [column.title for column in window.grid.model.columns]
    assert names == ["station_id", "difference", "changed in", "name", "height_m", "opened", "active"]
    heads = [(head, state) for head, state, _ in texts(window)]
    assert heads == [("≠", "edited")] * 3 + [("−", "deleted")]
    changed = next(cells for head, _, cells in texts(window) if cells[0][0] == "8")
    assert changed[3][0] == "Lower Tarn Sluice"
    assert changed[3][1] not in ("", None, "Lower Tarn Sluice")
    within = field(drawer, "Tolerance of height_m")
    within.setText("0.01")
    within.editingFinished.emit()
    settle(window)
    assert "2 changed, 1 only left; 16 same; height_m within 0.01" in drawer.report.text()
    assert drawer.panel.make.text() == "Make 2 changes pending"
    drawer.panel.delete.setChecked(True)
    assert drawer.panel.make.text() == "Make 3 changes pending"
    assert drawer.panel.into.text() == "station becomes like hq"
    drawer.panel.make.click()
    settle(window)
    assert window.pull.pull.name == "station"
    assert (window.pull.edits.edited_count, len(window.pull.edits.deleted)) == (2, 1)
    assert window.is_shown("changes")
    window.commands.run("undo")
    settle(window)
    assert window.pull.edits.count == 0
    window.open_drawer(step_at(0))
    drawer.panel.turn.click()
    assert drawer.panel.into.text() == "hq becomes like station"
    assert drawer.panel.insert.text().startswith("insert what is only left   1")
    drawer.panel.make.click()
    settle(window)
    assert window.pull.pull.name == "hq"
    assert (window.pull.edits.edited_count, len(window.pull.edits.added)) == (2, 1)
    window.commands.run("write")
    settle(window)
    assert window.pull.edits.count == 0 or window.pull.report is not None


def test_columns_keys_and_rules_are_chosen(two, monkeypatch, tmp_path):
    window, drawer = two, drawer_of(two)
    against = field(drawer, "Compared with height_m", QComboBox)
    against.setCurrentIndex(0)
    against.activated.emit(0)
    settle(window)
    assert drawer.compare.left_out == ("height_m",)
    assert "1 changed, 1 only left" in drawer.report.text()
    window.commands.run("undo")
    settle(window)
    key = field(drawer, "Matched by")
    key.setFocus()
    key.selectAll()
    QTest.keyClicks(key, "nope")
    key.editingFinished.emit()
    settle(window)
    assert "nope is not in both" in drawer.problem.text()
    assert not drawer.panel.isVisibleTo(drawer)
    key = field(drawer, "Matched by")
    key.setText("")
    key.editingFinished.emit()
    settle(window)
    assert window.pull.course.results[0].error is None
    drawer.same.click()
    settle(window)
    assert window.grid.model.rows == 19
    path = tmp_path / "delivered.csv"
    path.write_text("station_id,name\n1,Nobody\n")
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(path), ""))
    drawer.ask_file()
    wait_until(lambda: drawer.compare.other == str(path))
    settle(window)
    assert drawer.compare.keys == ("station_id",)
    assert "1 changed, 18 only left; 0 same" in drawer.report.text()
    drawer.panel.turn.click()
    assert "A file is not changed" in drawer.panel.refused.text()
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(tmp_path / "none.csv"), ""))
    drawer.ask_file()
    settle(window, 0.3)
    assert "can't be read" in drawer.problem.text()


def test_a_table_of_the_catalogue_and_a_pinned_result_are_sides(two):
    window = two
    window.commands.run("pin")
    source = next(each for each in window.hub.sources if each.name == "Merrow survey")
    table = next(each for each in window.hub.tables[source.name] if each.name == "station")
    window.sources.compare_wanted.emit(source, table)
    drawer = window.drawer_of("compare")
    wait_until(lambda: drawer.compared is not None)
    settle(window)
    assert drawer.compare.other == "Merrow survey#station"
    assert drawer.compare.keys == ("station_id",)
    assert "23 only right; 19 same" in drawer.report.text()
    other = field(drawer, "Other pull", QComboBox)
    pinned = next(other.itemText(n) for n in range(other.count()) if other.itemText(n).startswith("pinned"))
    drawer.choose(pinned)
    wait_until(lambda: drawer.compare.other == pinned)
    settle(window)
    assert "no differences; 19 same" in drawer.report.text()
    drawer.panel.turn.click()
    assert "A pinned result" in drawer.panel.refused.text()
