"""The drawers of the steps that make other rows, and rows taken from other pulls, in the real window."""

from __future__ import annotations

from dataclasses import replace

import pytest
from PySide6.QtCore import QLocale, QMimeData, QPoint, QPointF, Qt, QTimer
from PySide6.QtGui import QDragMoveEvent, QDropEvent
from PySide6.QtWidgets import QApplication, QComboBox, QMenu, QSpinBox, QToolTip

from nimble_otter.desktop.grid.canvas import HEAD
from nimble_otter.desktop.grid.painting import PAD
from nimble_otter.desktop.kit.mime_types import KEY_DRAG
from nimble_otter.desktop.kit.theme import theme
from nimble_otter.desktop.pulls.new_steps import new_step
from nimble_otter.desktop.pulls.step_ref import step_at
from nimble_otter.desktop.shell.step_pieces import KeepQuestion
from nimble_otter.desktop.steps import course
from nimble_otter.pull import Pull, Query, places, save_pull
from nimble_otter.pull.steps import (
    Condition,
    FigureOf,
    FilterStep,
    GroupStep,
    JoinStep,
    KeyBy,
    PivotStep,
    SampleStep,
    SortBy,
    SortStep,
)
from nimble_otter.table.ops.combine import How
from nimble_otter.table.ops.measures import AggregateFunction as Agg
from tests.desktop.conftest import settle


def named(window, name: str, kind: type = QComboBox):
    """The control of an accessible name in the drawer in sight."""
    found = [w for w in window.drawer.findChildren(kind) if w.accessibleName() == name]
    return found[-1]  # those of before go when the event loop comes round


def choose(box: QComboBox, value: str) -> None:
    place = box.findData(value)
    assert place >= 0, [box.itemText(n) for n in range(box.count())]
    box.setCurrentIndex(place)
    box.activated.emit(place)


def columns(window) -> list[str]:
    return [c.name for c in window.grid.model.columns]


def with_pull(window, name: str, text: str):
    open_pull = window.add_pull(Pull(name, window.pulls[0].pull.source, Query(text)))
    settle(window)
    return open_pull


def test_groups_by_parts_quantiles_and_conditions_on_groups(window, qtbot):
    open_pull = with_pull(window, "levels", "select taken_at, level_m, quality from reading limit 400")
    window.add_step(new_step("group"))
    window.drawer.add_key()
    choose(named(window, "Part of taken_at"), "month")
    assert open_pull.pull.steps[0].keys == (KeyBy("taken_at", "month"),)
    window.drawer.add_figure()
    choose(window.drawer.findChildren(QComboBox)[-2], "quantile")
    assert open_pull.pull.steps[0].figures[1] == FigureOf(Agg.QUANTILE, "level_m", 0.9)
    window.drawer._typed_part(0, KeyBy("level_m"), "0.5")
    assert open_pull.pull.steps[0].keys == (KeyBy("level_m", "steps of 0.5"),)
    assert columns(window)[0] == "level_m by steps of 0.5"
    before = open_pull.course.end.rows
    window.drawer.add_condition()
    assert open_pull.pull.steps[1].kind == "filter"
    assert window.is_shown("filter")
    condition = open_pull.pull.steps[1].conditions[0]
    open_pull.shaping.set_step(
        1, replace(open_pull.pull.steps[1], conditions=(replace(condition, values=(60,)),)), "more"
    )
    assert 0 < open_pull.course.end.rows < before
    assert all(n >= 60 for n in open_pull.course.end.table.column("rows").values())


def test_distinct_sample_and_turning_by_their_drawers(window, qtbot):
    open_pull = with_pull(window, "q", "select quality, station_id, level_m from reading limit 300")
    window.commands.run("add_distinct")
    ticks = window.drawer.ticks
    ticks.narrow.setText("qual")
    assert [ticks.list.item(n).isHidden() for n in range(3)] == [False, True, True]
    ticks.list.item(0).setCheckState(Qt.CheckState.Checked)
    values = open_pull.course.end.view.table.column("quality").values(open_pull.course.end.view.row_ids())
    assert sorted(values, key=str) == sorted(set(open_pull.table.column("quality").values()), key=str)
    assert "duplicate rows left out" in open_pull.course.results[0].shaped.said
    open_pull.shaping.change(open_pull.pull.without_step(0), "off")
    window.commands.run("add_sample")
    named(window, "Rows to keep", QSpinBox).setValue(20)
    first = open_pull.course.end.view.row_ids().tolist()
    window.drawer.draw_again()
    assert open_pull.pull.steps == (SampleStep(20, 2),)
    assert open_pull.course.end.view.row_ids().tolist() != first
    assert open_pull.course.end.own_rows
    open_pull.shaping.change(open_pull.pull.without_step(0), "off")
    window.commands.run("add_pivot")
    choose(named(window, "Column whose values become columns"), "quality")
    choose(named(window, "Aggregate"), "mean")
    choose(named(window, "of column"), "level_m")
    window.drawer.add_key()
    window.drawer.totals.setChecked(True)
    step = open_pull.pull.steps[0]
    assert isinstance(step, PivotStep)
    assert (step.keys, step.figure, step.totals) == (
        (KeyBy("station_id"),),
        FigureOf(Agg.MEAN, "level_m"),
        True,
    )
    assert columns(window)[0] == "station_id"
    assert columns(window)[-1] == "all"
    window.commands.run("add_unpivot")
    for n in range(1, window.drawer.ticks.list.count()):
        window.drawer.ticks.list.item(n).setCheckState(Qt.CheckState.Checked)
    window.drawer.label_name.setText("quality")
    window.drawer.label_name.editingFinished.emit()
    assert columns(window) == ["station_id", "quality", "value"]
    window.actions_on_grid.begin_edit(0, 0, None)
    assert "made by a step" in window.status.message.text()
    assert not open_pull.edits.count
    open_pull.shaping.change(replace(open_pull.pull, steps=open_pull.pull.steps[:1]), "back")
    window.commands.run("add_transpose")
    choose(named(window, "Named by"), "station_id")
    assert columns(window)[0] == "column"


def test_a_join_with_an_open_pull_follows_its_rows(window, qtbot):
    stations = with_pull(window, "stations", "select station_id, name station_name from station where station_id < 6")
    open_pull = with_pull(window, "levels", "select station_id, level_m from reading limit 500")
    window.commands.run("add_join")
    assert "No other pull" in str(open_pull.course.results[0].error)
    choose(named(window, "Other pull"), "stations")
    step = open_pull.pull.steps[0]
    assert step == JoinStep("stations", (("station_id", "station_id"),))
    assert columns(window) == ["station_id", "level_m", "station_name"]
    assert "matched a row of stations" in window.drawer.report.text()
    choose(named(window, "Which rows are kept"), How.INNER.value)
    inner = open_pull.course.end.rows
    assert 0 < inner < 500
    window.show_pull(window.pulls.index(stations))
    stations.shaping.add_step(SortStep((SortBy("station_name", True),)), "s")
    assert open_pull.course.results[0].error is None
    stations.shaping.put(replace(stations.pull, query=Query("select station_id, name as station_name from station")))
    stations.runs.run()
    settle(window)
    assert open_pull.course.end.rows == 500 > inner
    assert window.workspace.dependencies.names_for(stations) == [
        p.pull.name for p in window.pulls if p not in (stations, open_pull)
    ]
    stations.shaping.add_step(JoinStep("levels", (("station_id", "station_id"),)), "ring")
    assert "no rows of levels" in str(stations.course.results[-1].error)
    assert "can't be joined to it" in window.status.message.text()


def test_a_join_with_a_pull_on_the_shelf_fetches_it_unseen(window, qtbot):
    source = window.pulls[0].pull.source
    groups = GroupStep((KeyBy("station_id"),), (FigureOf(Agg.COUNT), FigureOf(Agg.MAX, "level_m")))
    places.shelf_folder().mkdir(parents=True, exist_ok=True)
    highest = Pull("highest", source, Query("select * from reading"), (groups,))
    save_pull(highest, places.shelf_folder() / "highest.pull")
    window.hub.known_pulls.add(highest)  # it ran here before
    open_pull = with_pull(window, "st", "select station_id, name as station_name from station")
    open_pull.shaping.add_step(JoinStep("highest", (("station_id", "station_id"),)), "j")
    qtbot.waitUntil(lambda: open_pull.course.results[0].error is None, timeout=8000)
    settle(window)
    assert columns(window) == ["station_id", "station_name", "rows", "level_m max"]
    assert "highest" not in [s.pull.name for s in window.pulls]
    open_pull.shaping.add_step(JoinStep("nowhere", (("station_id", "station_id"),)), "k")
    assert "no rows of nowhere" in str(open_pull.course.results[1].error)
    assert open_pull.course.results[1].shaped.rows == open_pull.course.results[0].shaped.rows


def test_rows_made_by_a_step_are_not_followed(window):
    open_pull = with_pull(window, "one", "select * from reading limit 3")
    window.grid.go(1, 0)
    assert window.follower.links
    assert window.follower._rows() == [1]
    open_pull.shaping.add_step(PivotStep((KeyBy("station_id"),), KeyBy("quality")), "p")
    settle(window)
    window.grid.go(0, 0)
    assert window.follower._rows() == []
    before = len(window.pulls)
    window.follower.go(0)
    assert "to follow" in window.status.message.text()
    assert len(window.pulls) == before


def test_a_dragged_step_tells_the_counts_that_would_result(window, monkeypatch):
    open_pull = with_pull(window, "levels", "select station_id, level_m from reading limit 300")
    open_pull.shaping.add_step(FilterStep((Condition("at least", "level_m", (2,)),)), "f")
    open_pull.shaping.add_step(SampleStep(50), "s")
    kept = open_pull.course.results[0].shaped.rows
    told = []
    monkeypatch.setattr(QToolTip, "showText", lambda place, text, widget: told.append(text))
    window.course._drop_at = 4
    window.course._tell_counts(0, 1)
    settle(window)
    assert told[-1].startswith("Sample: 50 rows\nFilter: ")
    assert int(told[-1].split()[-2]) < 50 <= kept
    assert [s.kind for s in open_pull.pull.steps] == ["filter", "sample"]  # only tried


def test_the_band_moves_only_where_motion_is_wanted(window, monkeypatch):
    open_pull = with_pull(window, "levels", "select station_id, level_m from reading limit 300")
    strip = window.course
    assert strip._motion.state() == strip._motion.State.Stopped
    monkeypatch.setattr(course, "motion_ms", lambda: 500)
    open_pull.shaping.add_step(SampleStep(3), "s")
    strip._motion.stop()
    open_pull.shaping.set_step(0, SampleStep(200), "s")
    assert strip._motion.state() == strip._motion.State.Running
    assert strip._shown_band()[2] < strip._heights[2]
    strip.grab()
    strip._motion.stop()
    assert strip._shown_band() == strip._heights


def test_groups_open_by_level_and_their_totals_stay_in_sight(window):
    open_pull = with_pull(window, "levels", "select station_id, quality, level_m from reading")
    open_pull.shaping.add_step(GroupStep((KeyBy("station_id"), KeyBy("quality"))), "g")
    settle(window)
    grid = window.grid
    open_pull.shaping.open_levels(1)
    model = grid.model
    assert model.rows == open_pull.course.end.grouped.levels[0].table.rows + open_pull.course.end.rows + 1
    grid.go(0, 0)
    low = grid.viewport().height() - grid.row // 2
    picture = grid.viewport().grab().toImage()
    open_pull.shaping.open_levels(0)
    assert picture.pixelColor(2, low) == theme["paper"]  # the foot, not a group
    open_pull.shaping.open_levels(2)
    assert grid.model.rows > 300
    open_pull.shaping.open_levels(0)
    assert grid.model.rows == 43


def test_texts_are_sorted_in_the_readers_language_or_another(window, monkeypatch):
    monkeypatch.setattr(QLocale, "system", lambda: QLocale("sv_SE"))
    texts = "select 'zebra' as t union all select 'ål' union all select 'apa' union all select 'ärt'"
    open_pull = with_pull(window, "words", texts)
    open_pull.shaping.add_step(SortStep((SortBy("t"),)), "s")
    settle(window)
    window.workspace.show_local_step(0)

    def sorted_by(name, value):
        choose(named(window, name), value)
        settle(window)
        return [window.grid.model.value(row, 0) for row in range(4)]

    assert sorted_by("Text order", "dictionary") == ["apa", "zebra", "ål", "ärt"]
    assert open_pull.pull.steps[0].keys[0].language == "sv"
    assert sorted_by("Language", "") == ["ål", "apa", "ärt", "zebra"]
    assert sorted_by("Text order", "") == ["apa", "zebra", "ärt", "ål"]


def test_a_step_is_copied_into_another_pull(window, qtbot):
    first = window.pulls[0]
    first.shaping.add_step(SortStep((SortBy("level_m"),)), "s")
    other = with_pull(window, "copy here", "select level_m from reading limit 5")
    window.show_pull(0)

    def pick():
        menu = QApplication.activePopupWidget()
        assert isinstance(menu, QMenu)
        action = next(a for a in menu.actions() if a.text() == "copy here")
        menu.close()
        action.trigger()

    QTimer.singleShot(50, pick)
    window.course.copy_wanted.emit(0)
    assert other.pull.steps == (SortStep((SortBy("level_m"),)),)


def test_columns_come_into_groups_and_out_of_them(window):
    actions, grid = window.actions_on_grid, window.grid
    actions.group_by("bottle")
    settle(window)
    assert "sample_id" in actions.further_keys()
    assert "bottle" not in actions.further_keys()
    actions.group_by("station_id")
    settle(window)
    assert grid.model.keys == ("bottle", "station_id")
    carried = []
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr("nimble_otter.desktop.grid.grid.drag_column", lambda _, *named: carried.append(named))
        for x in (2, 150):
            grid._drag_header(0, QPoint(HEAD + PAD + x, 10))
        grid._drag_header(1, QPoint(HEAD + 300, 10))
    assert carried == [("bottle", KEY_DRAG), ("station_id", KEY_DRAG), ("rows",)]
    data = QMimeData()
    data.setData(KEY_DRAG, b"bottle")
    place = QPointF(60, 80)
    left = (Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier)
    over = QDragMoveEvent(place.toPoint(), *left)
    grid.dragMoveEvent(over)
    assert over.isAccepted()
    grid.dropEvent(QDropEvent(place, *left))
    settle(window)
    assert grid.model.keys == ("station_id",)
    actions.stop_grouping("station_id")
    settle(window)
    assert window.pull.shaped.grouped is None
    assert not any(step.kind == "group" for step in window.pull.pull.steps)
    window.commands.run("undo")
    settle(window)
    assert grid.model.keys == ("station_id",)


def test_steps_are_kept_as_a_piece_and_used_in_another_pull(window, monkeypatch, qtbot):
    steps = FilterStep((Condition("more than", "sample_id", (3,)),)), SortStep((SortBy("sample_id", True),))
    for step in steps:
        window.add_step(step)
    settle(window)
    rows = window.pull.shaped.rows
    names = iter(["  ", "deep / ones", "deep / ones"])
    monkeypatch.setattr(KeepQuestion, "exec", lambda own: (own.name.setText(next(names)), own.DialogCode.Accepted)[1])
    own = places.pieces_folders()[0]
    keep = dict(window.course._entries(step_at(0)))
    keep["Keep as a piece…"]()
    assert "needs a name" in window.status.message.text()
    keep["Keep all steps as a piece…"]()
    assert (own / "deep - ones.pull").exists()
    assert "merrow" not in (own / "deep - ones.pull").read_text()  # nothing of the source
    (own / "odd.pull").write_text("broken")
    source = window.hub.sources[0]
    window.open_table(source, next(t for t in window.hub.tables[source.name] if t.name == "lab_sample"))
    settle(window)
    window.course.add_wanted.emit(QPoint(0, 0))
    palette = window.step_palette
    assert "odd.pull" in window.status.message.text()  # told, and left as it is
    assert [(e.title, e.line) for e in palette.entries if e.is_piece] == [("deep - ones", "Filter, Sort")]
    used = [(e.title, e.line) for e in palette.entries if e.line.endswith("in lab_sample")]
    assert used == [(step.words(), f"{step.kind.capitalize()}, in lab_sample") for step in steps]
    next(e for e in palette.entries if e.line == "Sort, in lab_sample").click()
    assert window.pull.pull.steps == steps[1:]
    window.course.add_wanted.emit(QPoint(0, 0))
    assert [e.line for e in palette.entries if e.line.endswith("in lab_sample")] == ["Filter, in lab_sample"]
    palette.close()
    window.commands.run("undo")
    window.open_table(source, next(t for t in window.hub.tables[source.name] if t.name == "river"))
    settle(window)
    window.course.add_wanted.emit(QPoint(0, 0))
    assert not any(e.line.endswith("in lab_sample") for e in palette.entries)  # no such columns here
    palette.close()
    window.show_pull(1)
    settle(window)
    window.course.add_wanted.emit(QPoint(0, 0))
    qtbot.keyClicks(palette.field, "deep")
    qtbot.keyClick(palette.field, Qt.Key.Key_Return)
    settle(window)
    assert window.pull.pull.steps == steps
    assert window.pull.shaped.rows == rows
    window.commands.run("undo")
    assert window.pull.pull.steps == ()
    window.course.add_wanted.emit(QPoint(0, 0))
    qtbot.keyClicks(palette.field, "deep")
    qtbot.keyClick(palette.field, Qt.Key.Key_Delete)
    assert not any(entry.is_piece for entry in palette.entries)
    assert not (own / "deep - ones.pull").exists()
    palette.close()


def test_the_menu_of_a_grouped_column_offers_its_levels(window):
    with_pull(window, "levels", "select level_m, quality from reading limit 40")
    menu = QMenu()
    window.column_actions._fill_levels(menu)
    assert menu.actions() == []
    window.add_step(GroupStep((KeyBy("quality"),)))
    settle(window)
    window.column_actions._fill_levels(menu)
    assert menu.actions()[0].text() == "Also group by"
