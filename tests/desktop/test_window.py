"""The window by mouse and keyboard: the grid, editing, the clipboard, the course, errors, keeping."""

import datetime as dt
import os
import re
import signal
import sqlite3
import subprocess
import sys
import time
from dataclasses import fields

import pytest
from PySide6.QtCore import QMimeData, QPoint, QPointF, Qt, QUrl
from PySide6.QtGui import QDropEvent, QKeySequence
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QMessageBox, QPushButton

from nimble_otter import errors
from nimble_otter.cli import main
from nimble_otter.demo import DEMO_SOURCES
from nimble_otter.desktop.grid.canvas import HEAD
from nimble_otter.desktop.grid.model import RowsModel
from nimble_otter.desktop.grid.selection import Selection
from nimble_otter.desktop.kit import tokens
from nimble_otter.desktop.kit.offscreen import wait_until
from nimble_otter.desktop.kit.theme import theme
from nimble_otter.desktop.kit.usual_looks import UsualLooks
from nimble_otter.desktop.pulls.new_steps import new_step
from nimble_otter.desktop.pulls.step_ref import CHANGES, QUERY, SEND, SOURCE, step_at
from nimble_otter.desktop.runtime.settings import Settings, read_settings
from nimble_otter.desktop.shell.find_box import Finding, Index
from nimble_otter.desktop.shell.help_page import TROUBLE, guide_parts
from nimble_otter.desktop.shell.settings_page import LINES
from nimble_otter.desktop.shell.shortcuts import CHORDS, FAMILIES, FORMER
from nimble_otter.desktop.shell.window import Window
from nimble_otter.memory import LIMIT
from nimble_otter.pull import Pull, Query
from nimble_otter.pull.deliver import rows_to_send
from nimble_otter.pull.steps import Condition, FilterStep, GroupStep, SortBy, SortStep, group_keys
from nimble_otter.send.send import format_for, send_text
from nimble_otter.sources import Source
from nimble_otter.sources.waits import ANSWER_S, CONNECT_S, WAITS
from nimble_otter.table.core.columns import Field, Kind
from nimble_otter.table.text.column_format import ColumnFormat
from nimble_otter.table.text.show import shown
from tests.desktop.conftest import settle
from tests.files import sqlite_file

CONTROL, SHIFT, NONE = (
    Qt.KeyboardModifier.ControlModifier,
    Qt.KeyboardModifier.ShiftModifier,
    Qt.KeyboardModifier.NoModifier,
)
LEFT = Qt.MouseButton.LeftButton


def press(window, key, modifiers=NONE):
    QTest.keyClick(window.focusWidget() or window, key, modifiers)


def place(window, name):
    return [c.name for c in window.grid.model.columns].index(name)


def value(window, position, name):
    return window.grid.model.value(position, place(window, name))


def click_cell(window, position, column, modifiers=NONE, double=False):
    point = window.grid.cell_rect(position, column).center()
    (QTest.mouseDClick if double else QTest.mouseClick)(window.grid.viewport(), LEFT, modifiers, point)


def click_header(window, column, modifiers=NONE):
    rect = window.grid.cell_rect(0, column)
    QTest.mouseClick(window.grid, LEFT, modifiers, QPoint(HEAD + rect.center().x(), tokens.HEADER // 2))
    settle(window)


def edit(window, position, name, text, key=Qt.Key.Key_Return):
    window.grid.go(position, place(window, name))
    QTest.keyClick(window.grid, Qt.Key.Key_F2)
    editor = window.grid.editor
    editor.selectAll()
    QTest.keyClicks(editor, text)
    QTest.keyClick(editor, key)


# --- the grid ----------------------------------------------------------------------------------------------------


def test_keys_go_about_and_select(window):
    grid = window.grid
    rows, columns = grid.rows, len(grid.widths)
    assert rows == 3870
    for key, modifiers, where in (
        (Qt.Key.Key_Down, NONE, (1, 0)), (Qt.Key.Key_Right, NONE, (1, 1)), (Qt.Key.Key_End, NONE, (1, columns - 1)),
        (Qt.Key.Key_End, CONTROL, (rows - 1, columns - 1)), (Qt.Key.Key_Home, CONTROL, (0, 0)),
        (Qt.Key.Key_Up, NONE, (0, 0)), (Qt.Key.Key_Down, CONTROL, (rows - 1, 0)), (Qt.Key.Key_Up, CONTROL, (0, 0)),
        (Qt.Key.Key_Right, CONTROL, (0, columns - 1)),
    ):  # fmt: skip
        QTest.keyClick(grid, key, modifiers)
        assert grid.selection.current == where
    QTest.keyClick(grid, Qt.Key.Key_Home, CONTROL)
    QTest.keyClick(grid, Qt.Key.Key_PageDown)
    assert grid.selection.current[0] > 8
    QTest.keyClick(grid, Qt.Key.Key_Down, SHIFT)
    QTest.keyClick(grid, Qt.Key.Key_Right, SHIFT)
    assert grid.selection.blocks[-1].cells == 4
    QTest.keyClick(grid, Qt.Key.Key_Space, SHIFT)
    assert grid.selection.row_count == 1
    QTest.keyClick(grid, Qt.Key.Key_Space, CONTROL)
    assert grid.selection.row_count == rows
    window.commands.run("select_all")
    assert grid.selection.blocks[0].cells == rows * columns
    said = f"row {grid.selection.current[0] + 1} of {rows}: "
    assert said in grid.accessibleName()
    assert grid.accessibleName().endswith(f"{shown(rows * columns)} cells selected")


def test_the_mouse_selects_blocks_rows_columns_and_sorts(window):
    grid = window.grid
    click_cell(window, 2, 1)
    click_cell(window, 4, 3, SHIFT)
    click_cell(window, 7, 0, CONTROL)
    assert [b.cells for b in grid.selection.blocks] == [9, 1]
    QTest.mouseClick(grid, LEFT, NONE, QPoint(10, tokens.HEADER + 3 * tokens.ROW + 5))
    assert grid.selection.blocks[0].top == 3
    assert grid.selection.row_count == 1
    click_header(window, 2, CONTROL)
    assert grid.selection.row_count == grid.rows
    clarity = place(window, "clarity_cm")
    click_header(window, clarity)
    assert value(window, 0, "clarity_cm") == 5
    assert grid.model.columns[clarity].mark == "↑"
    click_header(window, clarity)
    assert value(window, 0, "clarity_cm") == 119
    click_header(window, place(window, "station_id"), SHIFT)
    assert window.pull.pull.steps == (SortStep((SortBy("clarity_cm", True), SortBy("station_id"))),)
    assert grid.model.columns[clarity].mark == "1↓"
    click_header(window, clarity)
    assert window.pull.pull.steps == ()


def test_columns_are_resized_by_their_edge_and_fit_by_a_double_click(window):
    grid = window.grid
    edge, wide = QPoint(HEAD + grid.widths[0], tokens.HEADER // 2), grid.widths[0] + 140
    QTest.mousePress(grid, LEFT, NONE, edge)
    QTest.mouseMove(grid, edge + QPoint(140, 0))
    QTest.mouseRelease(grid, LEFT, NONE, edge + QPoint(140, 0))
    assert grid.widths[0] == wide
    assert window.pull.pull.widths == {"sample_id": wide}
    QTest.mouseDClick(grid, LEFT, NONE, QPoint(HEAD + grid.widths[0], tokens.HEADER // 2))
    assert grid.widths[0] < wide


def test_selection_blocks():
    selection = Selection()
    selection.move(5, 1)
    selection.move(2, 3, extend=True)
    assert (selection.blocks[0].top, selection.blocks[0].cells) == (2, 12)
    selection.rows(4, 8, 5, add=True)
    assert list(selection.positions()) == list(range(2, 9))
    assert selection.row_count == 7
    selection.fit(4, 2)
    assert selection.current[0] <= 3
    selection.fit(0, 0)
    assert selection.blocks == []


@pytest.mark.by_hand
def test_ten_million_positions_are_no_work_for_the_grid(window):
    class Large(RowsModel):
        def __init__(self, like):
            self.__dict__.update(like.__dict__)
            self.asked = 0

        def line(self, position):
            self.asked += 1
            return super().line(position % 3870)

        def value(self, position, column):
            return super().value(position % 3870, column)

    model = Large(window.grid.model)
    model.rows = 10_000_000
    window.grid.set_model(model, window.grid.widths, False)
    window.grid.select_all()
    window.grid.grab()
    QTest.keyClick(window.grid, Qt.Key.Key_End, CONTROL)
    window.grid.grab()
    assert window.grid.selection.current[0] == 9_999_999
    assert model.asked < 200


# --- editing -----------------------------------------------------------------------------------------------------


def test_type_over_enter_tab_escape_and_undo(window):
    grid, pull = window.grid, window.pull
    grid.go(0, place(window, "clarity_cm"))
    QTest.keyClicks(grid, "7")
    QTest.keyClick(grid.editor, Qt.Key.Key_Return)
    assert value(window, 0, "clarity_cm") == 7
    assert grid.selection.current == (1, place(window, "clarity_cm"))
    line = grid.line(0)
    assert (line.head, line.state, line.cells[place(window, "clarity_cm")].old is not None) == ("±", "edited", True)
    edit(window, 2, "bottle", "MR-x", Qt.Key.Key_Tab)
    assert grid.selection.current == (2, place(window, "bottle") + 1)
    edit(window, 3, "bottle", "gone", Qt.Key.Key_Escape)
    assert pull.edits.count == 2
    assert window.course.stops[-2].words == "2 pending"
    window.commands.run("undo")
    window.commands.run("undo")
    assert pull.edits.count == 0
    window.commands.run("redo")
    assert value(window, 0, "clarity_cm") == 7
    before = window.pull.table.columns[place(window, "clarity_cm")].value(0)
    edit(window, 0, "clarity_cm", str(before))
    assert pull.edits.count == 0


@pytest.mark.parametrize(
    ("name", "text", "says"),
    [
        ("clarity_cm", "many", "holds numbers"),
        ("drawn_at", "noon", "2031-05-28 23:00"),
        ("station_id", "2.5", "whole numbers"),
    ],
)
def test_wrong_values_are_refused_in_place(window, name, text, says):
    edit(window, 0, name, text)
    assert window.grid.editor is not None
    assert says in window.status.message.text()
    assert window.grid.editor.property("state") == "wrong"
    QTest.keyClick(window.grid.editor, Qt.Key.Key_Escape)
    assert window.pull.edits.count == 0


def test_rows_are_added_duplicated_deleted_and_taken_back(window):
    grid, pull = window.grid, window.pull
    rows = grid.rows
    grid.go(4, 1)
    press(window, Qt.Key.Key_Insert, CONTROL)
    assert grid.rows == rows + 1
    assert grid.line(5).head == "+"
    edit(window, 5, "station_id", "3")
    grid.go(2, 1)
    press(window, Qt.Key.Key_D, CONTROL)
    assert value(window, 3, "bottle") == value(window, 2, "bottle")
    assert value(window, 3, "sample_id") is None
    grid.selection.rows(8, 10, len(grid.widths))
    press(window, Qt.Key.Key_Delete, CONTROL)
    assert [grid.line(n).state for n in (8, 9, 10)] == ["deleted"] * 3
    QTest.keyClick(grid, Qt.Key.Key_F2)
    assert grid.editor is None
    window.open_drawer(CHANGES)
    settle(window)
    assert "5 changes" in window.changes_drawer.write.text()
    grid.selection.rows(9, 9, len(grid.widths))
    window.commands.run("take_back")
    assert pull.edits.count == 4
    grid.selection.rows(0, 0, len(grid.widths))
    window.commands.run("take_back")
    assert (pull.edits.count, grid.rows) == (0, rows)


def test_a_block_is_pasted_also_below_the_last_row_or_not_at_all(window):
    grid, pull = window.grid, window.pull
    rows = grid.rows
    grid.go(rows - 1, place(window, "bottle"))
    QApplication.clipboard().setText('"one\ntwo"\t11\r\nthree\t22\r\n')
    window.commands.run("paste")
    assert (pull.edits.count, grid.rows) == (2, rows + 1)
    assert (value(window, rows - 1, "bottle"), value(window, rows, "clarity_cm")) == ("one\ntwo", 22)
    grid.go(0, place(window, "clarity_cm"))
    QApplication.clipboard().setText("5\nmany")
    window.commands.run("paste")
    assert pull.edits.count == 2
    assert "Nothing was pasted" in window.status.message.text()
    QApplication.clipboard().setText("\t".join("1" * 20))
    window.commands.run("paste")
    assert "columns wide" in window.status.message.text()
    grid.selection.move(1, place(window, "clarity_cm"))
    grid.selection.move(3, place(window, "clarity_cm"), extend=True)
    QApplication.clipboard().setText("9")
    window.commands.run("paste")
    assert [value(window, n, "clarity_cm") for n in (1, 2, 3)] == [9, 9, 9]
    window.commands.run("set_empty")
    assert [value(window, n, "clarity_cm") for n in (1, 2, 3)] == [None] * 3
    assert grid.line(1).cells[place(window, "clarity_cm")].look == "null"
    window.commands.run("undo")
    assert value(window, 1, "clarity_cm") == 9


def test_copy_quotes_what_must_be_and_takes_the_header(window):
    grid = window.grid
    edit(window, 0, "bottle", 'a "b"')
    grid.selection.move(0, place(window, "bottle"))
    grid.selection.move(1, place(window, "clarity_cm"), extend=True)
    window.commands.run("copy_header")
    first, second, third = QApplication.clipboard().text().split("\n")
    assert first == "bottle\tclarity_cm"
    assert second.startswith('"a ""b"""\t')
    assert third.startswith("MR-00002\t")
    window.commands.run("copy")
    assert QApplication.clipboard().text().count("\n") == 1


def test_a_changed_row_that_a_filter_hides_is_told_of(window):
    edit(window, 0, "bottle", "x")
    window.pull.shaping.add_step(FilterStep((Condition("more than", "sample_id", (100,)),)), "Filter")
    settle(window)
    window.open_drawer(CHANGES)
    settle(window)
    assert "1 not in the rows shown" in window.changes_drawer.head.words.text()
    window.changes_drawer.write.click()
    settle(window)
    assert window.pull.report.is_written


def test_a_key_can_be_changed_and_a_written_row_is_shown_as_the_source_has_it(window, small_demo):
    edit(window, 0, "sample_id", "99001")
    window.commands.run("write")
    settle(window)
    assert "NOT" in window.pull.report.conflicts[0].problem or "FOREIGN KEY" in window.pull.report.conflicts[0].problem
    assert window.grid.line(0).state == "conflict"
    window.commands.run("undo")
    window.grid.go(0, 1)
    press(window, Qt.Key.Key_Insert, CONTROL)
    edit(window, 1, "station_id", "5")
    window.commands.run("write")
    settle(window)
    assert window.pull.edits.count == 0
    assert value(window, window.grid.rows - 1, "sample_id") == 3871
    with sqlite_file(small_demo) as base:
        assert base.execute("select station_id from lab_sample where sample_id = 3871").fetchone() == (5,)
    (kept,) = (small_demo.parents[2] / "state" / "reversals").glob("*.sql")
    assert "DELETE" in kept.read_text()


# --- the course and its drawers ----------------------------------------------------------------------------------


def test_the_course_by_mouse_and_keyboard(window):
    course, pull = window.course, window.pull
    window.add_step(new_step("sort"))
    window.drawer_of("sort").add()
    window.add_step(new_step("filter"))
    window.filter_drawer.add_condition()
    settle(window)
    assert [s.kind for s in pull.pull.steps] == ["filter", "sort"]
    QTest.mouseClick(course, LEFT, NONE, course.rect_of(step_at(1)).center() - QPoint(0, 20))
    assert window.drawer is window.drawer_of("sort")
    course.setFocus()
    QTest.keyClick(course, Qt.Key.Key_Left)
    assert pull.selected == step_at(0)
    QTest.keyClick(course, Qt.Key.Key_Space)
    assert not pull.pull.steps[0].on
    assert course.stops[2].under == "off"
    QTest.keyClick(course, Qt.Key.Key_Right, Qt.KeyboardModifier.AltModifier)
    assert [s.kind for s in pull.pull.steps] == ["sort", "filter"]
    QTest.keyClick(course, Qt.Key.Key_Delete)
    assert [s.kind for s in pull.pull.steps] == ["sort"]
    for _ in range(4):
        window.commands.run("undo")
    assert window.drawer.isVisible()
    assert "Query" in course.accessibleDescription()


def test_rows_are_shown_as_of_a_step(window):
    window.pull.shaping.add_step(FilterStep((Condition("less than", "sample_id", (11,)),)), "f")
    window.pull.shaping.add_step(GroupStep(group_keys("station_id")), "g")
    settle(window)
    assert not isinstance(window.grid.model, RowsModel)
    window.pull.shaping.show_rows_at(0)
    assert (window.grid.rows, isinstance(window.grid.model, RowsModel)) == (10, True)
    window.pull.shaping.show_rows_at(-1)
    assert window.grid.rows == 3870
    window.commands.run("show_end")
    assert not isinstance(window.grid.model, RowsModel)


def test_values_are_picked_with_counts_and_typed_conditions_show_their_errors(window):
    actions, drawer = window.actions_on_grid, window.filter_drawer
    actions.add_condition(Condition("is none of", "clarity_cm"))
    settle(window)
    assert drawer.values.count() > 100
    first = drawer.values.item(0)
    assert first.checkState() == Qt.CheckState.Checked
    before = window.pull.shaped.rows
    drawer.values.itemClicked.emit(first)
    settle(window)
    assert window.pull.shaped.rows < before
    drawer.search.setText("11")
    assert 0 < drawer.values.count() < 20
    row = drawer._rows[0]
    row.operator.setCurrentIndex(row.operator.findData("more than"))
    row.operator.activated.emit(0)
    drawer._rows[0].value.setText("many")
    drawer._rows[0].value.setModified(True)
    drawer._rows[0].value.editingFinished.emit()
    settle(window)
    assert "holds numbers" in drawer.problem.text()
    assert "left out" in window.course.stops[2].under
    drawer._rows[0].column.setCurrentIndex(drawer._rows[0].column.count() - 1)
    drawer._rows[0].column.activated.emit(0)
    settle(window)
    field = drawer._rows[0].sql
    assert (field.isVisible(), drawer._rows[0].value.isVisible()) == (True, False)
    field.setFocus()
    field.selectAll()
    QTest.keyClicks(field, "clarity_cm > 100 and bottle like 'MR-0%'")
    QTest.keyClick(field, Qt.Key.Key_Return)
    settle(window)
    assert 0 < window.pull.shaped.rows < 1000
    assert "clarity_cm > 100" in drawer.sql.text()


def test_groups_from_the_header_open_to_their_rows(window):
    window.actions_on_grid.group_by("station_id")
    window.actions_on_grid.group_by("bottle")
    settle(window)
    grid = window.grid
    grid.setFocus()
    grid.go(0, 0)
    QTest.keyClick(grid, Qt.Key.Key_Right)
    QTest.keyClick(grid, Qt.Key.Key_Down)
    QTest.keyClick(grid, Qt.Key.Key_Return)
    assert [grid.line(n).depth for n in range(3)] == [0, 1, 2]
    assert grid.line(2).cells[0].text.startswith("row ")
    assert grid.line(grid.rows - 1).cells[0].text == "all rows"
    QTest.keyClick(grid, Qt.Key.Key_F2)
    assert grid.editor is None
    point = grid.cell_rect(0, 0).topLeft() + QPoint(14, 12)
    QTest.mouseClick(grid.viewport(), LEFT, NONE, point)
    assert grid.line(1).depth == 0
    drawer = window.drawer_of("group")
    drawer.add_figure()
    settle(window)
    assert len(window.pull.pull.steps[0].figures) == 3
    click_header(window, 1)
    assert isinstance(window.pull.pull.steps[-1], SortStep)
    assert grid.model.columns[1].mark == "↑"


def test_hiding_columns_and_bringing_them_back(window):
    window.column_actions.hide(0)
    settle(window)
    assert "sample_id" not in [c.name for c in window.grid.model.columns]
    window.open_drawer(step_at(0))
    window.column_actions.show_all()
    settle(window)
    assert window.grid.model.columns[0].name == "sample_id"


# --- asking ------------------------------------------------------------------------------------------------------


def test_parameters_are_asked_for_and_remembered(window):
    drawer = window.query_drawer
    window.open_drawer(QUERY)
    drawer.editor.setPlainText("select * from station where river = :river")
    drawer.run()
    assert ":river has no value" in drawer.problem.text()
    assert drawer.editor.extraSelections()
    settle(window)
    assert window.focusWidget() is drawer.parameters.fields["river"]
    QTest.keyClicks(drawer.parameters.fields["river"], "Merrow")
    QTest.keyClick(drawer.parameters.fields["river"], Qt.Key.Key_Return)
    settle(window)
    assert window.pull.table.rows == 6
    assert window.pull.pull.query.parameters == {"river": "Merrow"}
    assert window.pull.target.table.name == "station"


def test_one_statement_of_several_runs_and_its_error_stands_at_its_place(window):
    editor = window.query_drawer.editor
    window.open_drawer(QUERY)
    editor.setPlainText("select 1 as a;\n\nselect nme from station;\nselect 3 as c")
    cursor = editor.textCursor()
    cursor.setPosition(25)
    editor.setTextCursor(cursor)
    window.query_drawer.run()
    settle(window)
    assert window.pull.error.place.line == 3
    assert "Line 3, column 8" in window.query_drawer.problem.text()
    assert "name" in window.query_drawer.problem.text()
    cursor.setPosition(len(editor.toPlainText()))
    editor.setTextCursor(cursor)
    QTest.keyClick(editor, Qt.Key.Key_Return, CONTROL)
    settle(window)
    assert [c.name for c in window.grid.model.columns] == ["c"]
    editor.selectAll()
    editor.toggle_comment()
    assert editor.toPlainText().startswith("-- select 1")
    editor.selectAll()
    editor.toggle_comment()
    assert editor.toPlainText().startswith("select 1")
    editor.setPlainText("  ")
    window.query_drawer.run()
    assert "empty" in window.query_drawer.problem.text()


def test_rows_appear_while_they_still_come_and_stop_keeps_them(window):
    window.open_drawer(QUERY)
    text = "with recursive n(i) as (select 1 union all select i + 1 from n where i < 90000000) select i from n"
    window.query_drawer.editor.setPlainText(text)
    window.query_drawer.limit.setText("")
    window.query_drawer.limit.editingFinished.emit()
    window.query_drawer.run()
    columns = lambda: [c.name for c in window.grid.model.columns]  # noqa: E731
    assert wait_until(lambda: window.pull.is_running and columns() == ["i"] and window.grid.rows >= 1000, 20)
    assert window.status.stop.isVisible()
    window.status.stop.click()
    assert wait_until(lambda: not window.pull.is_running, 5)
    settle(window)
    assert "Stopped" in window.status.message.text()
    assert window.grid.rows == window.pull.table.rows >= 1000


def test_a_source_that_is_gone_says_so_and_keeps_rows_and_changes(window, small_demo):
    edit(window, 0, "bottle", "kept")
    hidden = small_demo.with_suffix(".away")
    small_demo.rename(hidden)
    window.commands.run("write")
    settle(window)
    assert "can't be written" in window.status.message.text()
    assert (window.pull.edits.count, window.grid.rows) == (1, 3870)
    hidden.rename(small_demo)
    window.commands.run("write")
    settle(window)
    assert window.pull.edits.count == 0


def test_a_dead_source_is_marked_in_the_tree_and_its_pull_says_why(make_window, tmp_path):
    window = make_window(demo=False)
    window.add_pull(Pull("lost", Source("lost", f"sqlite:///{tmp_path / 'gone.db'}"), Query("select 1")))
    settle(window)
    assert "no file" in window.query_drawer.problem.text()
    source = window.hub.add(Source("lost", f"sqlite:///{tmp_path / 'gone.db'}"))
    settle(window)
    assert source.name in window.hub.errors
    assert "not reached" in str(window.sources._tops()[-1].data(0, 256))
    empty = tmp_path / "empty.db"
    sqlite3.connect(empty).close()
    window.add_pull(Pull("none", Source("none", f"sqlite:///{empty}"), Query("select * from sqlite_master")))
    settle(window)
    assert (window.grid.rows, window.pull.error) == (0, None)
    window.grid.grab()


# --- keeping -----------------------------------------------------------------------------------------------------


def test_what_is_dropped_is_opened(make_window, base, tmp_path):
    window = make_window(demo=False)
    path = base("create table t (a integer primary key)", "dropped here.sqlite")
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(path))])
    window.dropEvent(QDropEvent(QPointF(9, 9), Qt.DropAction.CopyAction, data, LEFT, NONE))
    settle(window)
    assert "dropped here" in window.hub.tables
    assert "dropped here" in (window.store.folder.parent / "config" / "sources.toml").read_text()
    assert window.sources.tree.currentItem() is not None or window.sources.tree.topLevelItemCount() == 4


@pytest.mark.parametrize(("name", "held", "says"), [
    ("a.csv", b"a,b\n1,2\n", "it is not a database"), ("empty.db", b"", "is empty"),
    ("folder", None, "is a folder"),
    ("broken.sqlite", b"SQLite format 2\0" + bytes(90), "does not begin as"), ("gone.db", b"gone", "can't be read"),
])  # fmt: skip
def test_what_is_no_database_is_told_and_becomes_no_source(make_window, tmp_path, name, held, says):
    window = make_window(demo=False)
    path, before = tmp_path / name, list(window.hub.sources)
    path.mkdir() if held is None else path.write_bytes(held)
    if held == b"gone":
        path.unlink()
    window.open_any(path)
    settle(window)
    assert says in window.status.message.text()
    assert window.hub.sources == before


def test_nothing_is_written_for_the_demo_before_it_is_opened_and_without_a_source_it_is_said(qapp, home):
    window = Window()
    window.show()
    window.begin()
    settle(window)
    assert not (home / "data").exists() or not list((home / "data").rglob("*.sqlite"))
    assert [source.name for source in window.hub.sources] == [source.name for source in DEMO_SOURCES]
    window.hub.remove(DEMO_SOURCES[1])
    assert window.hub.sources == []
    for command in ("new_pull", "find_value"):
        window.commands.run("start_page")
        window.commands.run(command)
        assert "There is no source to" in window.status.message.text()
        assert window.source_page.isVisible()
    for command in window.commands.all():
        if command.key in ("history", "deliveries", "start_page", "guide"):
            command.do()
    window.close()


def test_the_demo_is_removed_and_comes_back(make_window, capsys):
    window = make_window(demo=False)
    window.hub.remove(window.hub.sources[0])
    assert not window.hub.has_demo
    again = make_window(demo=False)
    assert not again.hub.has_demo
    assert main(["sources"]) == 0
    assert "Merrow survey" not in capsys.readouterr().out
    again.commands.run("demo")
    settle(again)
    assert again.hub.has_demo
    assert again.pull.pull.name == "High water, May"
    again.commands.run("demo")
    assert len(again.pulls) == 2
    assert main(["sources"]) == 0
    assert "Merrow survey" in capsys.readouterr().out


def test_light_or_dark_is_kept(make_window):
    window = make_window(demo=False)
    window.commands.run("dark")
    assert theme.is_dark
    window.close()
    theme.choose("light")
    again = make_window(demo=False)
    assert theme.is_dark
    again.commands.run("light")
    assert not theme.is_dark
    again.commands.run("as_desktop")
    assert theme.chosen == ""


def test_saved_pulls_stand_on_the_shelf_and_open_once(window):
    window.save_pull()
    assert window.sources.shelf.topLevelItemCount() == 1
    assert not window.pull.is_dirty
    path = window.pull.path
    window.pull.shaping.add_step(SortStep((SortBy("bottle"),)), "Sort")
    settle(window)
    assert window.title.tabs.tabs[0].is_dirty
    window.open_file(path)
    assert len(window.pulls) == 1
    path.write_text("broken")
    window.close_pull(0, ask=False)
    assert window.centre.currentWidget() is window.start_page
    window.open_file(path)
    assert (
        "not a readable pull file" in window.status.message.text() or "not a pull file" in window.status.message.text()
    )
    window.commands.run("reopen")
    settle(window)
    assert window.pull.pull.steps == (SortStep((SortBy("bottle"),)),)


def test_closing_a_pull_with_pending_changes_asks(window, monkeypatch):
    edit(window, 0, "bottle", "x")
    monkeypatch.setattr(QMessageBox, "exec", lambda self: None)
    window.close_pull(0)
    assert len(window.pulls) == 1


def test_layout_and_widths_come_back(make_window):
    window = make_window()
    window.resize(1100, 700)
    window.toggle_part("right", False)
    window.grid.width_changed.emit("station", 210)
    window.show_pull(1)
    settle(window)
    window.close()
    again = make_window()
    assert [s.pull.name for s in again.pulls] == ["High water, May", "Field reports by shape"]
    assert again.current == 1
    assert (again.width(), again.detail.isVisibleTo(again)) == (1100, False)
    again.show_pull(0)
    settle(again)
    assert again.grid.widths[0] == 210


def test_a_damaged_layout_and_draft_are_set_aside_and_named(make_window, home):
    state = home / "state"
    (state / "drafts").mkdir(parents=True)
    (state / "layout.json").write_text("{")
    (state / "drafts" / "pull-1.json").write_text("[]")
    window = make_window()
    assert "damaged" in window.status.message.text()
    assert len(list(state.rglob("*.damaged-1"))) == 2
    assert len(window.pulls) == 2


KILLED = """
import sys
from nimble_otter.desktop.kit.offscreen import use_offscreen, wait_until
use_offscreen()
from nimble_otter.desktop.shell.application import make_app
app = make_app()
from nimble_otter.desktop.shell.window import Window
from nimble_otter.changes import Action
window = Window()
window.show()
window.begin(True)
wait_until(lambda: not window.jobs.is_busy)
pull = window.pull
place = pull.table.index("level_m")
pull.changes.edit(Action("Edit", ((5, place, 9.87), (9, place, 1.25))))
wait_until(lambda: False, 0.8)
print("ready", flush=True)
app.exec()
"""


def test_a_killed_window_brings_back_pulls_and_pending_changes(make_window):
    process = subprocess.Popen([sys.executable, "-c", KILLED], stdout=subprocess.PIPE, text=True, env=os.environ.copy())
    assert process.stdout.readline().strip() == "ready"
    process.send_signal(signal.SIGKILL)
    process.wait()
    process.stdout.close()
    window = make_window()
    assert [s.pull.name for s in window.pulls] == ["High water, May", "Field reports by shape"]
    assert window.pull.edits.count == 2
    place_ = window.pull.table.index("level_m")
    assert {own[place_] for own in window.pull.edits.cells.values()} == {9.87, 1.25}


# --- the rest ----------------------------------------------------------------------------------------------------


def test_the_find_box_ranks_whole_names_then_starts_then_words(window):
    names = ["reading", "bread", "spreading sheet", "re", "river and read"]
    found = Index([Finding(n, "", "", lambda: None) for n in names]).best("read")
    assert [f.name for f in found] == ["reading", "river and read", "bread", "spreading sheet"]
    window.commands.run("find")
    QTest.keyClicks(window.title.box, "zzzz")
    assert "Nothing" in window.find_box.list.item(0).text()
    QTest.keyClick(window.title.box, Qt.Key.Key_Escape)
    assert not window.find_box.list.isVisible()
    window.commands.run("find")
    QTest.keyClicks(window.title.box, "dark")
    QTest.keyClick(window.title.box, Qt.Key.Key_Return)
    assert theme.is_dark
    window.grab()
    theme.use(False)
    many = [Finding(f"table_{n}_name", "", "", lambda: None) for n in range(20_000)]
    began = time.process_time()
    Index(many).best("le_19")
    assert time.process_time() - began < 5


def test_every_command_has_a_name_and_shortcuts_are_not_used_twice(window):
    commands = window.commands.all()
    shortcuts = [c.shortcut for c in commands if c.shortcut]
    assert len(shortcuts) == len(set(shortcuts))
    assert all(c.name for c in commands)
    assert len(commands) > 35


@pytest.mark.parametrize("size", [(860, 560), (1920, 1080)])
def test_small_and_large_windows_with_panes_open_and_closed(window, size):
    window.resize(*size)
    for part in ("left", "right", "drawer"):
        window.commands.run(part)
        window.grab()
    for part in ("left", "right", "drawer"):
        window.commands.run(part)
    for ref in (SOURCE, QUERY, CHANGES, SEND):
        window.open_drawer(ref)
        window.grab()
    assert window.work.isVisible()


def test_controls_have_accessible_names(window):
    from PySide6.QtWidgets import QComboBox, QLineEdit, QPushButton

    window.add_step(new_step("sort"))
    window.add_step(new_step("filter"))
    window.filter_drawer.add_condition()
    for kind in (QLineEdit, QComboBox, QPushButton):
        for widget in window.findChildren(kind):
            named = widget.accessibleName() or (widget.text() if not isinstance(widget, QComboBox) else "")
            assert named, (widget, widget.parent())


# --- settings ----------------------------------------------------------------------------------------------------


def test_settings_take_effect_at_once_are_kept_and_set_back(make_window, home):
    window = make_window(demo=False)
    window.commands.run("settings")
    page, file = window.settings_page, home / "config" / "settings.toml"
    assert page.isVisible()
    page.open("Height of rows")
    box = page.fields["row_height"]
    assert wait_until(box.hasFocus)
    box.setCurrentIndex(1)
    box.activated.emit(1)
    assert window.grid.row == 50
    page.open("Stop a new pull after")
    for text, wanted in (("12 345", 12_345), ("nothing", 12_345), ("0", 12_345), ("-4", 12_345)):
        page.fields["row_limit"].setText(text)
        page.fields["row_limit"].editingFinished.emit()
        assert window.settings.now.row_limit == wanted
        assert bool(page.problem.text()) == (text != "12 345")
    window.new_pull()
    assert window.pull.pull.query.limit == 12_345
    page.words.setText("kept days")
    assert page.fields == {}
    page.words.setText("run for days")
    assert list(page.fields) == ["history_days"]
    assert {"row_height = 50", "row_limit = 12345"} <= set(file.read_text().splitlines())
    assert make_window(demo=False).grid.row == 50
    page.open("Height of rows")
    back = [each for each in page.findChildren(QPushButton) if each.text() == "Set back" and each.isVisibleTo(page)]
    back[0].click()
    assert window.grid.row == 25
    assert "row_height =" not in file.read_text()


def test_every_error_has_its_section_in_the_guide_and_leads_there(window):
    text = guide_parts()[TROUBLE]
    headings = set(re.findall(r"^## (.*)$", text, re.M))
    kinds = [kind for kind in vars(errors).values() if isinstance(kind, type) and issubclass(kind, errors.OtterError)]
    assert {kind.topic for kind in kinds} <= headings
    assert (len(kinds) > 20, errors.PasswordMissing.topic, errors.ValueRefused.topic) == (
        True, "A password is asked for or refused", "A change is refused")  # fmt: skip
    window.query_drawer.editor.setPlainText("select nosuch from lab_sample")
    window.commands.run("run")
    settle(window)
    assert window.pull.error is not None
    assert window.query_drawer.more.isVisible()
    window.query_drawer.more.click()
    assert window.centre.currentWidget() is window.help_page
    assert (window.help_page.list.currentItem().text(), window.help_page.text.textCursor().selectedText()) == (
        TROUBLE, "A query fails")  # fmt: skip
    window.help_page.closed.emit()
    window.commands.run("guide")
    assert window.help_page.text.textCursor().selectedText() == "A query fails"
    window.help_page.closed.emit()
    window.query_drawer.editor.setPlainText("select 1 as n")
    window.commands.run("run")
    settle(window)
    assert (window.pull.error, window.query_drawer.more.isVisible()) == (None, False)


SET = {
    "theme": "dark", "language": "de", "text_percent": 110,
    "row_height": 50, "stripes": True, "null_mark": "NULL", "thousands": False,
    "date_form": "dd.MM.yyyy", "time_form": "dd.MM.yyyy HH:mm", "time_zone": "Europe/Vienna", "row_limit": 12,
    "history_days": 3, "code_size": 18, "wrap_lines": True, "offer_names": False, "guard": "row", "memory_mb": 8192,
    "connect_s": 30, "answer_s": 60, "idle_min": 30, "most_lines": 8,
    "send_folder": "~/deliveries/", "team_folder": "~/team",
}  # fmt: skip


def test_every_setting_can_be_set_on_its_page_and_is_there_at_the_next_start(make_window, home):
    window = make_window(demo=False)
    window.commands.run("settings")
    page = window.settings_page
    assert {line.key for line in LINES} == set(SET) == {each.name for each in fields(Settings)} - {"keys"}
    for line in LINES:
        page.open(line.name)
        made = page.fields[line.key]
        if line.choices:
            made.setCurrentIndex(made.findData(str(SET[line.key])))
            made.activated.emit(made.currentIndex())
        else:
            made.setText(str(SET[line.key]))
            made.editingFinished.emit()
        assert (getattr(window.settings.now, line.key), page.problem.text()) == (SET[line.key], ""), line.key
    assert read_settings(home / "config" / "settings.toml") == (Settings(**SET), "")
    for key, wrong in (("time_zone", "Europe/Vien"), ("time_form", "J"), ("date_form", "nonJ"), ("row_limit", "0"),
                       ("send_folder", "not/whole")):  # fmt: skip
        page.open(next(line.name for line in LINES if line.key == key))
        page.fields[key].setText(wrong)
        page.fields[key].editingFinished.emit()
        assert (getattr(window.settings.now, key), wrong in page.problem.text()) == (SET[key], True)
    again = make_window(demo=False)
    again.new_pull()
    assert again.pull.pull.guard == "row"
    assert LIMIT.bytes == 8192 << 20
    assert (WAITS.connect_s, WAITS.answer_s, WAITS.idle_s, WAITS.most_lines) == (30, 60, 1800, 8)
    LIMIT.set(0)  # they are those of the process
    WAITS.set(CONNECT_S, ANSWER_S)
    again.open_drawer(SEND)
    assert again.send_drawer.plan.path == "~/deliveries/{pull}-{date}.csv"
    again.open_drawer(QUERY)
    editor = again.query_drawer.editor
    assert (editor.font().pixelSize(), editor.lineWrapMode()) == (18, editor.LineWrapMode.WidgetWidth)
    editor.setFocus()
    QTest.keyClicks(editor, "select * from sta")
    assert not editor.completions.isVisible()
    QTest.keyClick(editor, Qt.Key.Key_Space, CONTROL)
    assert editor.completions.isVisible()


def test_values_look_as_set_and_are_typed_as_they_look_but_sent_as_they_are(window, qapp):
    source = window.hub.sources[0]
    window.open_table(source, next(t for t in window.hub.tables[source.name] if t.name == "reading"))
    settle(window)
    place = {column.name: n for n, column in enumerate(window.grid.model.columns)}

    def text(name):
        return window.grid.line(0).cells[place[name]].text

    stored = window.grid.model.value(0, place["taken_at"])
    for name, value in SET.items():
        if name in ("null_mark", "thousands", "date_form", "time_form", "stripes"):
            window.settings.set(name, value)
    assert text("taken_at") == stored.strftime("%d.%m.%Y %H:%M")
    assert "NULL" in {window.grid.line(row).cells[place["note"]].text for row in range(20)}
    ground = window.grid.grab().toImage()
    top, x = HEAD + window.grid.row // 2, window.grid.width() - 30
    assert ground.pixelColor(x, top) != ground.pixelColor(x, top + window.grid.row)
    assert window.actions_on_grid.put_texts("Edit", [(0, place["taken_at"], "03.06.2031 07:30")])
    settle(window)
    assert text("taken_at") == "03.06.2031 07:30"
    assert window.grid.model.value(0, place["taken_at"]) == dt.datetime(2031, 6, 3, 7, 30)
    shaped = window.pull.shaped
    assert shaped.field(place["taken_at"]).look is None
    assert b"03.06" not in send_text(rows_to_send(shaped, "t"), format_for("csv")).encode()
    window.settings.set("time_form", "")
    assert text("taken_at") == "2031-06-03 07:30"
    own = Field("t", Kind.ZONED, look=ColumnFormat(pattern="yyyy", zone="Asia/Tokyo"))
    assert UsualLooks(time="dd.MM.", zone="Europe/Vienna", groups=False).of(own).look == own.look  # which comes first


def test_two_strokes_do_a_thing_their_letters_are_told_and_none_means_two(window, qapp):
    editor, hints = window.query_drawer.editor, window.chord_hints
    commands = [each for each in window.commands.all() if each.shortcut and each.anywhere]
    for each in commands:
        assert window.commands.with_shortcut(each.shortcut) == [each], each.key
    assert {*CHORDS, *FORMER} <= {each.key for each in window.commands.all()}
    for stroke, _ in FAMILIES:
        assert len(window.commands.beginning_with(stroke)) > 5
    window.open_drawer(QUERY)
    editor.setFocus()
    editor.setPlainText("select name from station")
    QTest.keyClick(editor, Qt.Key.Key_J, CONTROL)
    assert hints.shown.startswith("Ctrl+J, the text of the query\nA   Rename the table alias")
    QTest.keyClick(editor, Qt.Key.Key_F)
    assert editor.text == "select\n  name\nfrom station"
    window.grid.setFocus()
    steps = len(window.pull.pull.steps)
    QTest.keyClick(window.grid, Qt.Key.Key_G, CONTROL)
    assert "S   Add a Sort step" in hints.shown
    assert "Join step (" not in hints.shown
    QTest.keyClick(window.grid, Qt.Key.Key_S)
    settle(window)
    assert len(window.pull.pull.steps) == steps + 1
    window.commands.run("settings")
    window.settings_page.words.setText("shift+f6")
    window.settings_page.list.setCurrentRow(window.settings_page.list.count() - 1)
    tree = window.settings_page.keys.tree
    assert [tree.topLevelItem(0).text(n) for n in range(3)] == ["Rename the table alias…", "Ctrl+J, A", "was Shift+F6"]


def test_a_settings_file_changed_from_outside_is_taken_in_and_a_broken_one_is_told(make_window, home):
    window = make_window(demo=False)
    file = home / "config" / "settings.toml"
    window.settings.set("row_limit", 5)
    file.write_text('theme = "dark"\nrow_height = 37\nunknown = 1\n')
    assert wait_until(lambda: theme.is_dark)
    assert window.grid.row == 25
    assert "row_height" in window.status.message.text()
    window.settings.set("row_limit", 7)
    assert "unknown = 1" in file.read_text()
    file.write_text("not [ toml")
    assert wait_until(lambda: not theme.is_dark)
    assert list(file.parent.glob("settings.toml.damaged-*"))
    window.settings.set("row_limit", 9)
    assert "row_limit = 9" in file.read_text()


def test_keys_can_be_given_and_taken_and_never_twice(make_window):
    window = make_window(demo=False)
    window.commands.run("settings")
    page = window.settings_page
    page.list.setCurrentRow(page.list.count() - 1)
    keys = page.keys
    keys.choose("pin")
    keys.edit.setKeySequence(QKeySequence("Ctrl+T"))
    assert "New pull" in keys.said.text()
    assert not keys.use.isEnabled()
    keys.choose("new_pull")
    keys.none.click()
    keys.choose("pin")
    keys.edit.setKeySequence(QKeySequence("Ctrl+T"))
    keys.use.click()
    assert [each.key for each in window.commands.with_shortcut("Ctrl+T")] == ["pin"]
    again = make_window(demo=False)
    assert [each.key for each in again.commands.with_shortcut("Ctrl+T")] == ["pin"]
    count = len(again.pulls)
    QTest.keyClick(again, Qt.Key.Key_T, Qt.KeyboardModifier.ControlModifier)
    assert len(again.pulls) == count
    keys.choose("new_pull")
    keys.back.click()
    assert "has Ctrl+T now" in keys.said.text()
    keys.choose("pin")
    keys.back.click()
    keys.choose("new_pull")
    keys.back.click()
    assert [each.key for each in window.commands.with_shortcut("Ctrl+T")] == ["new_pull"]
    assert window.settings.now.keys == {}
    page.words.setText("undo")
    assert keys.tree.topLevelItemCount() == 1
