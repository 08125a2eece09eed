"""Columns by mouse and menu, and finding in the rows, in the real window."""

from __future__ import annotations

import datetime as dt
from dataclasses import replace

import numpy as np
import pytest
from PySide6.QtCore import QEvent, QPoint, QPointF, Qt, QTimer
from PySide6.QtGui import QMouseEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QComboBox, QInputDialog, QLineEdit, QMenu

from nimble_otter.desktop.grid.canvas import HEAD
from nimble_otter.desktop.grid.painting import PAD
from nimble_otter.desktop.kit import tokens
from nimble_otter.pull import Query
from nimble_otter.pull.steps import ColumnsStep, Condition, FigureOf, FilterStep, GroupStep, KeyBy
from nimble_otter.table.ops.group import AggregateFunction as Agg
from nimble_otter.table.text.column_format import ColumnFormat
from tests.desktop.conftest import settle
from tests.desktop.test_steps import columns, with_pull


@pytest.fixture
def levels(window):
    window.resize(1280, 800)
    return with_pull(
        window,
        "levels",
        "select reading_id, station_id, taken_at, level_m, flow_m3s, quality, note from reading limit 400",
    )


def mouse(grid, kind, point, button=Qt.MouseButton.LeftButton, held=Qt.MouseButton.LeftButton):
    event = QMouseEvent(
        kind, QPointF(point), QPointF(grid.mapToGlobal(point)), button, held, Qt.KeyboardModifier.NoModifier
    )
    QApplication.sendEvent(grid, event)


def header(grid, column: int, right: int = 0) -> QPoint:
    x = HEAD + grid._left(column) + (grid.widths[column] - right if right else 20)
    return QPoint(x, tokens.HEADER - 12)


def pick(path: list[str], do) -> list[str]:
    """Open a menu with `do`, go down by texts, trigger the last; what the last menu offered."""
    offered: list[str] = []

    def choose():
        menu = QApplication.activePopupWidget()
        assert isinstance(menu, QMenu)
        found = menu
        for text in path[:-1]:
            found = next(a for a in found.actions() if a.text() == text).menu()
        offered.extend(a.text() for a in found.actions())
        action = next((a for a in found.actions() if a.text() == path[-1]), None)
        menu.close()
        if action is not None:
            action.trigger()

    QTimer.singleShot(40, choose)
    do()
    return offered


def test_a_header_is_dragged_to_another_place(window, levels):
    grid = window.grid
    start, end = header(grid, 3), header(grid, 1)
    mouse(grid, QEvent.Type.MouseButtonPress, start)
    mouse(grid, QEvent.Type.MouseMove, start + QPoint(-30, 0))
    mouse(grid, QEvent.Type.MouseMove, end)
    assert grid._gap == 1
    mouse(grid, QEvent.Type.MouseButtonRelease, end, held=Qt.MouseButton.NoButton)
    assert columns(window)[:4] == ["reading_id", "level_m", "station_id", "taken_at"]
    assert levels.pull.steps[0].kind == "columns"
    window.commands.run("undo")
    assert columns(window)[1] == "station_id"


def test_pinned_columns_stay_while_the_others_scroll(window, levels):
    window.column_actions.pin(3)
    grid = window.grid
    assert (columns(window)[0], grid.pinned) == ("level_m", 1)
    for n in range(7):
        grid._set_width(n, 300)
    grid.horizontalScrollBar().setValue(400)
    assert grid._left(0) == 0
    assert grid._column_at(10) == 0
    assert grid._column_at(310) == (310 + 400) // 300
    grid.go(0, 1)
    assert grid.cell_rect(0, 1).left() >= grid.widths[0]
    grid.grab()
    window.column_actions.pin(0)
    assert grid.pinned == 0


def test_titles_formats_and_hidden_columns_by_the_menu(window, levels, monkeypatch):
    grid, actions = window.grid, window.column_actions
    monkeypatch.setattr(QInputDialog, "getText", lambda *_, **__: ("Level", True))
    pick(["Title…"], lambda: actions.menu(-1, 3, QPoint()))
    assert (grid.model.columns[3].title, grid.model.columns[3].under) == ("Level", "level_m")
    pick(["Format…"], lambda: actions.menu(-1, 3, QPoint()))
    assert window.drawer.chosen == "level_m"
    decimals = next(w for w in window.drawer.findChildren(QComboBox) if w.accessibleName() == "Decimals")
    decimals.setCurrentIndex(decimals.findData("1"))
    decimals.activated.emit(0)
    assert levels.pull.steps[0].look("level_m") == ColumnFormat(title="Level", decimals=1)
    assert all(len(grid.line(n).cells[3].text.partition(".")[2]) == 1 for n in range(3))
    pattern = next(w for w in window.drawer.findChildren(QLineEdit) if w.placeholderText() == "level_m")
    assert pattern.text() == "Level"
    pick(["Hide other columns"], lambda: actions.menu(-1, 3, QPoint()))
    assert columns(window) == ["level_m"]
    offered = pick(["Show again", "quality"], lambda: actions.menu(-1, 0, QPoint()))
    assert "All" in offered
    assert columns(window) == ["level_m", "quality"]
    pick(["Show again", "All"], lambda: actions.menu(-1, 0, QPoint()))
    assert len(columns(window)) == 7
    window.drawer.begin_at("taken_at")
    patterns = next(w for w in window.drawer.findChildren(QComboBox) if w.accessibleName() == "Pattern")
    patterns.lineEdit().setText("d MMM bb")
    patterns.lineEdit().editingFinished.emit()
    assert "no meaning" in window.drawer.problem.text()
    patterns.lineEdit().setText("d.M.yyyy HH:mm")
    patterns.lineEdit().editingFinished.emit()
    at, cells = levels.table.index("taken_at"), levels.cells
    assert cells.typed(grid.line(0).cells[columns(window).index("taken_at")].text, at, 0) == cells.stored(0, at)
    assert cells.typed("9.5.2031 07:45", at, 0) == dt.datetime(2031, 5, 9, 7, 45)


def test_the_mark_in_a_header_opens_its_menu_and_conditions_fit_the_kind(window, levels):
    grid = window.grid
    spot = header(grid, 3, right=12)
    mouse(grid, QEvent.Type.MouseMove, spot, Qt.MouseButton.NoButton, Qt.MouseButton.NoButton)
    offered = pick(["Filter where level_m", "more than"], lambda: mouse(grid, QEvent.Type.MouseButtonPress, spot))
    assert "contains" not in offered
    assert levels.pull.steps[0] == FilterStep((Condition("more than", "level_m"),))
    assert "needs a value" in str(levels.course.results[0].error)
    window.commands.run("undo")
    grid.setFocus()
    grid.go(0, 2)
    pick(["Group by part of taken_at", "month"], lambda: window.commands.run("column_menu"))
    assert levels.pull.steps[0].keys == (KeyBy("taken_at", "month"),)
    window.commands.run("undo")
    pick(["Figures"], lambda: window.column_actions.menu(-1, 3, QPoint()))
    assert window.detail.page == 2


def test_picked_values_are_listed_by_count_or_by_value(window, levels):
    window.actions_on_grid.add_condition(Condition("is none of", "quality"))
    settle(window)
    drawer = window.filter_drawer

    def listed() -> list[str]:
        return [drawer.values.item(n).text() for n in range(drawer.values.count())]

    assert listed()[0] == "good"
    drawer.by_value.click()
    assert listed() == sorted(listed())


def test_widths_fit_data_header_and_window(window, levels):
    grid = window.grid
    for path, check in (
        (["Width", "Fit all to the window"], lambda: abs(sum(grid.widths) - grid.viewport().width()) < 40),
        (["Width", "Fit all to headers"], lambda: grid.widths[0] > 60),
        (["Width", "Fit to data"], lambda: grid.widths[0] < 90),
    ):
        pick(path, lambda: window.column_actions.menu(-1, 0, QPoint()))
        assert check(), (path, grid.widths)
    assert levels.pull.widths["reading_id"] == grid.widths[0]


# --- finding -----------------------------------------------------------------------------------------------------


def look_for(window, text: str) -> None:
    window.rows_find.wanted.setText(text)
    window.rows_find.count()
    window.rows_find._timer.stop()
    window.rows_find._look()
    settle(window)


def test_finding_goes_from_cell_to_cell_and_says_how_many(window, levels):
    window.grid.setFocus()
    window.grid.go(0, 0)
    window.commands.run("text_find_text")
    bar = window.rows_find
    assert bar.isVisible()
    look_for(window, "suspect")
    rows = [n for n, v in enumerate(levels.table.column("quality").values()) if v == "suspect"]
    assert bar.said.text().startswith(f"{len(rows)} row")
    seen = []
    for _ in rows:
        QTest.keyClick(bar.wanted, Qt.Key.Key_Return)
        seen.append(window.grid.selection.current)
    assert seen == [(n, 5) for n in rows]
    QTest.keyClick(bar.wanted, Qt.Key.Key_Return, Qt.KeyboardModifier.ShiftModifier)
    assert window.grid.selection.current == seen[-2]
    assert bar.said.text() == f"{len(rows) - 1} of {len(rows)} rows"
    bar.here.setChecked(True)
    window.grid.go(0, 3)
    look_for(window, "suspect")
    assert bar.said.text() == "not found"
    bar.pattern.setChecked(True)
    look_for(window, "(")
    assert "not a regular expression" in bar.said.text()
    window.grid.grab()
    QTest.keyClick(bar.wanted, Qt.Key.Key_Escape)
    assert not bar.isVisible()
    assert window.grid._painter.marked is None


def test_only_the_rows_found_follow_what_is_typed(window, levels):
    window.commands.run("find_rows")
    look_for(window, "sus")
    window.rows_find.only.setChecked(True)
    settle(window)
    assert levels.pull.steps[0] == FilterStep((Condition("anywhere", values=("sus",)),))
    undo = len(levels.undo_stack.back)
    look_for(window, "est")
    assert levels.pull.steps[0] == FilterStep((Condition("anywhere", values=("est",)),))
    assert len(levels.undo_stack.back) == undo
    values = levels.course.end.view.table.column("quality").values(levels.course.end.view.row_ids())
    assert set(values) == {"estimated"}
    window.rows_find.only.setChecked(False)
    assert levels.pull.steps == ()


def test_replacing_makes_pending_changes_or_none(window, levels):
    window.commands.run("replace_rows")
    look_for(window, "suspect")
    bar = window.rows_find
    bar.other.setText("checked")
    count = sum(v == "suspect" for v in levels.table.column("quality").values())
    window.grid.go(0, 0)
    bar.step(1)
    bar.replace()
    assert levels.edits.count == 1
    bar.replace_all()
    assert levels.edits.count == count
    window.grid.setFocus()  # in the field Ctrl+Z is the field's
    window.commands.run("undo")
    assert levels.edits.count == 1
    bar.here.setChecked(True)
    window.grid.go(0, 3)
    look_for(window, ".")
    bar.other.setText("x")
    bar.replace_all()
    assert "Nothing was changed" in window.status.message.text()
    assert levels.edits.count == 1
    levels.shaping.add_step(ColumnsStep(hidden=("note",)), "c")
    assert levels.edits.count == 1


def test_finding_sees_new_rows_and_what_is_pending(window, levels):
    grid, bar, edits = window.grid, window.rows_find, window.actions_on_grid
    quality = next(n for n, c in enumerate(grid.model.columns) if c.name == "quality")
    values = levels.table.column("quality").values()
    rows = [n for n, v in enumerate(values) if v == "suspect"]
    grid.go(0, quality)
    window.commands.run("new_row")  # behind the first: all others stand one lower
    edits.put_texts("Edit", [(grid.model.row_id(1), quality, "suspect"), (rows[0], quality, "good")])
    window.commands.run("replace_rows")
    look_for(window, "suspect")
    wanted = [1, *(n + 1 for n in rows[1:])]
    assert np.flatnonzero(bar._found).tolist() == wanted
    edits.put_texts("Edit", [(rows[1], quality, "good")])
    assert np.flatnonzero(bar._found).tolist() == [1, *wanted[2:]]
    grid.go(0, 0)
    bar.step(1)
    bar.step(1)
    assert grid.selection.current == (wanted[2], quality)
    bar.other.setText("checked")
    bar.replace_all()
    assert [levels.edits.cells[row][quality] for row in rows[:3]] == ["good", "good", "checked"]
    assert grid.model.value(1, quality) == "checked"


# --- side by side ------------------------------------------------------------------------------------------------


@pytest.mark.by_hand
def test_chosen_rows_stand_as_columns_with_what_differs_marked(window, levels):
    window.grid.setFocus()
    window.grid.selection.rows(2, 4, 7)
    window.commands.run("side_rows")
    side = window.side
    model = side.grid.model
    assert [c.name for c in model.columns] == ["column", "row 1", "row 2", "row 3"]
    assert side.grid.pinned == 1
    assert [model.value(0, n) for n in range(1, 4)] == levels.table.column("reading_id").values()[2:5]
    assert model.line(0).head == "≠"
    same = [n for n in range(7) if model.line(n).head != "≠"]
    side.only.click()
    assert side.grid.model.rows == 7 - len(same)
    assert f"{7 - len(same)} of 7 columns differ" in side.said.text()
    QTest.keyClick(side.grid, Qt.Key.Key_Escape)
    assert window.rows_stack.currentWidget() is window.grid


def test_a_pinned_result_is_compared_with_the_next_run_by_key(window, levels):
    window.commands.run("pin")
    names = "reading_id, station_id, level_m + (reading_id = 3) as level_m"
    text = f"select {names} from reading where reading_id <> 5 limit 399"
    levels.shaping.put(replace(levels.pull, query=Query(text)))
    levels.runs.run()
    settle(window)
    pinned = next(iter(levels.pinned))
    window.side.open(pinned)
    window.side._choose(by="reading_id")
    side = window.side
    assert side.said.text() == "1 changed, 1 only there, 398 alike"
    side.only.click()
    lines = [side.grid.model.line(n) for n in range(side.grid.model.rows)]
    assert [(line.head, line.state) for line in lines] == [("≠", "edited"), ("−", "deleted")]
    assert lines[0].cells[2].old is not None
    assert side.grid.model.value(1, 0) == 5
    side.grid.grab()
    window.side._choose(by="")
    assert "alike" in side.said.text()
    others = [w for w in side.findChildren(QComboBox) if w.accessibleName() == "Rows shown"][-1]
    assert others.findData(window.pulls[0].pull.name) >= 0
    side.unpin()
    assert (levels.pinned, side._what) == ({}, "rows as columns")
    window.show_pull(0)
    assert window.rows_stack.currentWidget() is window.grid


def test_typing_goes_to_the_next_row_that_begins_so_where_nothing_can_be_edited(window):
    open_pull = with_pull(window, "names", "select distinct name, river from station order by name")
    names = open_pull.table.column("name").values()
    grid = window.grid
    grid.setFocus()
    grid.go(0, 0)
    for letter in "ot":
        QTest.keyClicks(grid, letter)
        settle(window)
    assert grid.selection.current == (names.index("Otterholt"), 0)
    window.actions_on_grid._jump._at = 0
    QTest.keyClicks(grid, "~")
    settle(window)
    assert "begins with ~" in window.status.message.text()
    open_pull.shaping.add_step(GroupStep((KeyBy("river"),)), "g")
    window.actions_on_grid._jump._at = 0
    grid.go(0, 0)
    QTest.keyClicks(grid, "s")
    assert grid.model.line(grid.selection.current[0]).cells[0].text == "Sallow"


def test_columns_open_as_wide_as_what_they_hold_and_stay_so(window):
    grid, measure = window.grid, window.grid._painter.metrics
    for at, column in enumerate(grid.model.columns):
        room = grid.widths[at] - 2 * PAD
        texts = [grid.line(row).cells[at].text for row in range(12)]
        assert max(map(measure(grid._painter.font).horizontalAdvance, texts)) <= room or grid.widths[at] >= 300
        assert measure(grid._painter.bold).horizontalAdvance(column.title) <= room
    before = list(grid.widths)
    window.pull.shaping.put(replace(window.pull.pull, widths={"sample_id": 205}))
    window.actions_on_grid.add_condition(Condition("is", "station_id", (3,)))
    settle(window)
    assert grid.rows < 200
    assert grid.widths[1:] == before[1:]
    assert grid.widths[0] == 205
    figures = (FigureOf(Agg.SUM, "sample_id"), FigureOf(Agg.COUNT))
    window.pull.shaping.add_step(GroupStep((KeyBy("station_id"),), figures), "Group")
    settle(window)
    totals = grid.model.line(grid.model.rows - 1).cells[1].text
    assert measure(grid._painter.font).horizontalAdvance(totals) <= grid.widths[1] - 2 * PAD
    counted = Query("select 1 as station_id, 4.994307952845792 as rows")  # a column called as one of the group's is
    window.pull.shaping.put(replace(window.pull.pull, query=counted, steps=()))
    window.commands.run("run")
    settle(window)
    assert measure(grid._painter.font).horizontalAdvance(grid.line(0).cells[1].text) <= grid.widths[1] - 2 * PAD


def test_a_result_that_the_limit_cut_offers_more_rows_and_all(window):
    pull = window.pull.pull
    assert not can(window, "more_rows")
    window.pull.shaping.put(replace(pull, query=replace(pull.query, limit=100)))
    window.settings.set("row_limit", 250)
    window.commands.run("run")
    settle(window)
    assert window.grid.rows == 100
    assert window.status.more.isVisible()

    def choose():
        menu = QApplication.activePopupWidget()
        QTest.mouseClick(menu, Qt.MouseButton.LeftButton, pos=menu.actionGeometry(menu.actions()[0]).center())

    QTimer.singleShot(200, choose)
    QTest.mouseClick(window.status.more, Qt.MouseButton.LeftButton)
    settle(window)
    assert (window.grid.rows, window.pull.pull.query.limit) == (350, 350)
    window.commands.run("all_rows")
    settle(window)
    assert window.grid.rows == 3870
    assert not window.status.more.isVisible()
    assert not can(window, "all_rows")


def can(window, key):
    return next(command for command in window.commands.all() if command.key == key).can()
