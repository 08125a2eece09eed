"""Computed columns in the real window."""

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QComboBox

from tests.desktop.conftest import settle


def write(field, text):
    field.setFocus()
    field.selectAll()
    QTest.keyClicks(field, text)
    QTest.keyClick(field, Qt.Key.Key_Return)


def names(window):
    return [column.name for column in window.grid.model.columns]


def test_a_column_is_computed_mended_named_and_undone(window):
    window.commands.run("add_compute")
    settle(window)
    drawer = window.drawer
    assert drawer.title == "Compute"
    ((_name, text),) = drawer.fields_of
    before = names(window)
    write(text, "sample_id * ")
    settle(window)
    assert "Column" in drawer.problem.text()
    assert drawer.problem.isVisible()
    write(drawer.fields_of[0][1], "sample_id * 2")
    settle(window)
    assert names(window) == [*before, "computed"]
    write(drawer.fields_of[0][0], "double")
    settle(window)
    assert names(window)[-1] == "double"
    table = window.pull.shaped.table
    ids, doubles = (table.columns[table.index(n)].values() for n in ("sample_id", "double"))
    assert doubles == [2 * i for i in ids]
    field, low = drawer.fields_of[0][1], drawer.fields_of[0][1].minimumHeight()
    field.setFocus()
    QTest.keyClick(field, Qt.Key.Key_Return, Qt.KeyboardModifier.ShiftModifier)
    assert (field.text(), field.minimumHeight() > low) == ("sample_id * 2\n", True)
    QTest.keyClick(field, Qt.Key.Key_Tab)
    settle(window)
    assert not field.hasFocus()
    assert drawer.current.columns[0].text == "sample_id * 2"
    drawer.add()
    write(drawer.fields_of[1][1], "case when double > 20 then 'late' else 'early' end")
    settle(window)
    assert names(window)[-2:] == ["double", "computed"]
    item = next(drawer.help.topLevelItem(n) for n in range(drawer.help.topLevelItemCount())
                if drawer.help.topLevelItem(n).text(0) == "double")  # fmt: skip
    drawer.help.itemDoubleClicked.emit(item, 0)
    assert drawer.fields_of[1][1].text().endswith("enddouble")
    drawer.fields_of[1][1].setText("upper('x')")
    drawer._remove(1)
    settle(window)
    assert names(window)[-1] == "double"
    window.grid.setFocus()
    position = window.grid.selection.current
    window.grid.go(0, names(window).index("double"))
    assert window.grid.model.value(0, names(window).index("double")) == 2 * ids[0]
    window.actions_on_grid.begin_edit(0, names(window).index("double"), None)
    assert window.grid.editor is None  # what is computed can't be typed over
    window.grid.go(*position)
    window.pull.changes.undo()
    settle(window)
    assert names(window)[-1] == "computed"


def test_a_computed_column_can_be_sorted_grouped_and_sent(window):
    window.commands.run("add_compute")
    drawer = window.drawer
    write(drawer.fields_of[0][1], "sample_id % 3")
    write(drawer.fields_of[0][0], "third")
    settle(window)
    at = names(window).index("third")
    window.actions_on_grid.group_by("third")
    settle(window)
    kinds = [step.kind for step in window.pull.pull.steps]
    assert kinds == ["compute", "group"]
    assert window.pull.shaped.grouped is not None
    window.pull.changes.undo()
    settle(window)
    window.actions_on_grid.sort_by(at, False)
    settle(window)
    assert [step.kind for step in window.pull.pull.steps] == ["compute", "sort"]
    assert all(result.error is None for result in window.pull.course.results)


def test_the_top_rows_of_each_group_are_kept(window):
    table = window.pull.table
    window.commands.run("add_top")
    drawer = window.drawer
    assert drawer.title == "Top"
    drawer.count.setValue(2)
    drawer.add_key()
    drawer.add_per()
    name = next(c for c in drawer.findChildren(QComboBox) if c.accessibleName() == "For each 1")
    name.setCurrentText("station_id")
    name.activated.emit(name.currentIndex())
    settle(window)
    stations = set(table.columns[table.index("station_id")].values())
    assert window.pull.shaped.rows <= 2 * len(stations)
    assert window.pull.shaped.rows >= len(stations)
    assert window.pull.pull.steps[0].per == ("station_id",)
    drawer._set_per(0, "")
    drawer._drop_key(0)
    settle(window)
    assert window.pull.shaped.rows == 2
    window.pull.changes.undo()
    settle(window)
    assert len(window.pull.pull.steps[0].keys) == 1
