"""Tracing in the window: the row under the cursor, one that a step leaves out, one that the query leaves out."""

from dataclasses import replace
from types import SimpleNamespace

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtGui import QGuiApplication
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QPushButton

from nimble_otter.desktop.kit.offscreen import wait_until
from nimble_otter.desktop.shell.tracing import Tracing
from nimble_otter.pull import Pull, Query
from nimble_otter.pull.steps import (
    Computed,
    ComputeStep,
    Condition,
    FigureOf,
    FilterStep,
    GroupStep,
    KeyBy,
    SortBy,
    SortStep,
)
from nimble_otter.pull.tracing import Fate
from nimble_otter.sources import Source
from nimble_otter.table.core.build import table_of
from nimble_otter.table.ops.measures import AggregateFunction
from tests.desktop.conftest import settle

TEXT = "select station_id, name, river, height_m, active from station where height_m > 15 order by station_id"
STEPS = (FilterStep((Condition("at least", "height_m", (20,)),)), SortStep((SortBy("height_m", True),)))


def opened(make_window, small_demo, steps=STEPS):
    window = make_window(demo=False)
    window.workspace.open(Pull("high", Source("Merrow", f"sqlite:///{small_demo}"), Query(TEXT), steps), run=True)
    settle(window)
    assert window.pull.error is None
    return window


def type_row(window, text):
    strip = window.tracing.strip
    strip.field.setText("")
    QTest.keyClicks(strip.field, text)
    QTest.keyClick(strip.field, Qt.Key.Key_Return)
    settle(window, 0.2)
    return strip


def low_station(window):
    table = window.pull.table
    return next(
        i for i, h in zip(table.column("station_id").values(), table.column("height_m").values(), strict=True) if h < 20
    )


def test_the_row_under_the_cursor_is_traced(make_window, small_demo):
    window = opened(make_window, small_demo)
    window.grid.setFocus()
    window.commands.run("trace_row")
    settle(window, 0.2)
    strip = window.tracing.strip
    assert strip.isVisible()
    assert [each.fate for each in strip.passages] == [Fate.RETURNED, Fate.KEPT, Fate.MOVED, Fate.KEPT]
    assert strip.field.text().startswith("station_id = ")
    assert strip.said.text() == "it is here"
    window.pull.shaping.change(window.pull.pull.with_step(GroupStep((KeyBy("active"),))), "Group")
    settle(window, 0.2)
    assert strip.passages[-1].said.startswith("in the group active")
    QTest.keyClick(strip.field, Qt.Key.Key_Escape)
    assert not strip.isVisible()
    assert window.grid.hasFocus()
    window.commands.run("trace_row")
    settle(window)
    assert "made by steps" in strip.said.text() or strip.passages


def test_the_condition_of_a_row_says_each_kind_as_it_is_typed():
    keys = {"id": 3, "Full name": "O'Hara", "is on": True, "gone": None}
    table = table_of(**{name: [value] for name, value in keys.items()})
    found = Tracing._condition(SimpleNamespace(table=table, target=SimpleNamespace(keys=[(n, n) for n in range(4)])), 0)
    assert found == """id = 3 and "Full name" = 'O''Hara' and "is on" = 'True' and gone is null"""


def test_a_row_that_a_step_leaves_out_is_brought_back(make_window, small_demo):
    window = opened(make_window, small_demo)
    window.commands.run("trace")
    assert window.tracing.strip.field.hasFocus()
    key = low_station(window)
    strip = type_row(window, f"station_id = {key}")
    lost = next(each for each in strip.passages if each.fate is Fate.LOST)
    assert "is not ≥ 20" in lost.said
    assert strip.said.text() == "it is not here"
    ways = [each for each in strip.findChildren(QPushButton) if each.text() in [r.words for r in lost.remedies]]
    assert len(ways) == 2
    before = window.pull.course.end.rows
    ways[1].click()
    settle(window, 0.2)
    assert window.pull.course.end.rows > before
    assert strip.said.text() == "it is here"
    window.pull.changes.undo()
    settle(window, 0.2)
    assert strip.said.text() == "it is not here"
    strip.copy.click()
    assert "left out here" in QGuiApplication.clipboard().text()


def test_a_row_that_never_came_is_sought_in_the_query(make_window, small_demo):
    window = opened(make_window, small_demo)
    window.commands.run("trace")
    strip = type_row(window, "nope = 1")
    assert "no column nope" in strip.said.text()
    strip = type_row(window, "height_m < 15")
    wait_until(lambda: bool(strip.passages))
    settle(window)
    assert strip.passages[0].said == "Left out by the condition of WHERE: height_m > 15"
    assert window.query_drawer.editor.textCursor().selectedText() == "height_m > 15"
    strip = type_row(window, "station_id = 99999")
    wait_until(lambda: bool(strip.passages))
    assert strip.passages[0].said == "No table that the query reads has such a row."
    window.show_pull(-1)
    settle(window)
    assert not strip.isVisible()


def test_a_value_is_followed_back(make_window, small_demo):
    steps = (ComputeStep((Computed("cm", "height_m * 100"),)),)
    window = opened(make_window, small_demo, steps)
    window.grid.go(0, [column.name for column in window.grid.model.columns].index("cm"))
    window.commands.run("value_origin")
    settle(window, 0.2)
    said = [each.said for each in window.tracing.strip.passages]
    assert [line.split(" ")[0] for line in said] == ["cm", "cm", "station.height_m,"]
    group = GroupStep((KeyBy("active"),), (FigureOf(AggregateFunction.MEAN, "cm"),))
    window.pull.shaping.change(window.pull.pull.with_step(group), "Group")
    settle(window, 0.2)
    window.grid.go(0, 1)
    window.commands.run("value_origin")
    settle(window, 0.2)
    said = [each.said for each in window.tracing.strip.passages]
    assert said[1].startswith("mean over the ")
    assert said[-1].startswith("station.height_m, of ")


def test_where_the_row_is_can_be_gone_to(make_window, small_demo):
    window = opened(make_window, small_demo)
    row = 30
    window.grid.go(0, 0)
    for steps in (STEPS[1:], (GroupStep((KeyBy("river"), KeyBy("active")), (FigureOf(AggregateFunction.COUNT),)),)):
        window.pull.shaping.change(replace(window.pull.pull, steps=steps), "Steps")
        settle(window)
        for group in range(2) if window.pull.shaped.grouped is not None else ():
            window.pull.shaping.toggle_group(0, group)
        settle(window)
        assert window.pull.opened.turned == {(0, 0), (0, 1)} or window.pull.shaped.grouped is None
        window.tracing.open()
        strip = type_row(window, f"station_id = {window.pull.table.column('station_id').value(row)}")
        strip.step_chosen.emit(len(steps))
        settle(window)
        assert window.grid.model.row_id(window.grid.selection.current[0]) == row
        assert window.grid.hasFocus()
        assert window.pull.shaped.grouped is None or window.pull.opened.at(0, np.arange(2)).all()
