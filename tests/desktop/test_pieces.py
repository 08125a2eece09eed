"""A query in pieces in the real window: cards, lines, fields, dropping, the preview."""

import pytest
from PySide6.QtCore import QMimeData, QPoint, QPointF, Qt
from PySide6.QtGui import QDropEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QComboBox, QLineEdit, QMenu

from nimble_otter.desktop.kit.mime_types import FIELD_DRAG, NAME_DRAG, put_parts, value_data
from nimble_otter.desktop.kit.offscreen import wait_until
from nimble_otter.desktop.kit.picker import Picker
from nimble_otter.desktop.pulls.step_ref import QUERY
from tests.desktop.conftest import settle

CONTROL = Qt.KeyboardModifier.ControlModifier


@pytest.fixture
def view(window):
    window.open_drawer(QUERY)
    window.query_drawer.show_pieces()
    window.query_drawer.pieces.rows.preview.setChecked(False)
    return window.query_drawer.pieces


def put(view, text):
    view._drawer.editor.replace_text(text)
    view.refresh()


def text(view):
    return view._drawer.editor.text


def field(view, name, kind=QLineEdit):
    found = view.rows.widget().findChild(kind, name)
    assert found is not None, name
    return found


def write(view, name, typed):
    """Type into a field and leave it by Enter."""
    made = field(view, name)
    made.setFocus()
    made.selectAll()
    QTest.keyClicks(made, typed)
    QTest.keyClick(made, Qt.Key.Key_Return)


def box(view, at, name):
    """(tree, item) of a column of a card."""
    tree = view.cards.boxes[at].columns
    return tree, next(
        tree.topLevelItem(n) for n in range(tree.topLevelItemCount()) if tree.topLevelItem(n).text(0) == name
    )


def tick(view, at, name):
    """As a user does it with the keyboard."""
    tree, item = box(view, at, name)
    tree.setFocus()
    tree.setCurrentItem(item)
    QTest.keyClick(tree, Qt.Key.Key_Space)


def drop(view, data):
    event = QDropEvent(QPointF(5, 5), Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton,
                       Qt.KeyboardModifier.NoModifier)  # fmt: skip
    view.cards._ground.dropEvent(event)


def picker():
    return next(w for w in QApplication.topLevelWidgets() if isinstance(w, Picker) and w.isVisible())


def test_a_query_is_put_together_by_keys_alone_and_stays_in_step_with_the_text(view, window):
    put(view, "")
    assert view.cards.nothing.isVisible()
    view.cards.add.setFocus()
    QTest.keyClick(view.cards.add, Qt.Key.Key_Space)
    QTest.keyClicks(picker().typed, "lab_s")
    QTest.keyClick(picker().typed, Qt.Key.Key_Return)
    assert text(view) == "select *\nfrom lab_sample"
    view.cards.pick()
    first = picker().list.topLevelItem(0)
    assert first.text(1).startswith("by lab_sample.")  # tables that a key leads to come first
    QTest.keyClicks(picker().typed, "station station_id")
    QTest.keyClick(picker().typed, Qt.Key.Key_Down)
    QTest.keyClick(picker().typed, Qt.Key.Key_Up)
    QTest.keyClick(picker().typed, Qt.Key.Key_Return)
    assert text(view).endswith("\njoin station on lab_sample.station_id = station.station_id")
    join = view.cards.joins[1]
    assert join.text() == "inner\nstation_id"
    assert "left" in join.toolTip()
    join.setFocus()
    QTest.keyClick(join, Qt.Key.Key_Space)
    assert "\nleft join station on" in text(view)
    assert view.cards.joins[1].hasFocus()
    tick(view, 0, "all columns")
    assert text(view).startswith("select station.station_id, station.name")
    tick(view, 1, "station_id")
    assert text(view).startswith("select station.name,")
    assert view.cards.boxes[1].columns.hasFocus()
    tree, item = box(view, 1, "name")
    tree.setCurrentItem(item)
    QTest.keyClick(tree, Qt.Key.Key_Return)  # a condition on it
    assert field(view, "draft right").hasFocus()
    write(view, "draft right", "Otter%")
    assert text(view).endswith("\nwhere station.name = 'Otter%'")
    view.rows.begin("where", "lab_sample.taken_at")
    write(view, "draft right", "2031-01-01")
    assert text(view).endswith("\n  and lab_sample.taken_at = '2031-01-01'")
    sign = field(view, "where 0 sign", QComboBox)
    sign.setCurrentText("like")
    sign.activated.emit(sign.currentIndex())
    assert "where station.name like 'Otter%'" in text(view)
    word = field(view, "where  word", QComboBox)
    word.setCurrentIndex(1)
    word.activated.emit(1)
    assert "\n  or lab_sample.taken_at" in text(view)
    window.commands.run("undo")
    assert "\n  and lab_sample.taken_at" in text(view)
    assert window.pull.pull.query.text == text(view)


def test_an_empty_query_takes_no_distinct_and_no_limit(view):
    put(view, "")
    view.rows.distinct.click()
    assert "Add a table first" in view._drawer.problem.text()
    assert not view.rows.distinct.isChecked()
    view._drawer.say("")
    view.rows.limit.setText("10")
    view.rows.limit.editingFinished.emit()
    assert "Add a table first" in view._drawer.problem.text()
    put(view, "select river_id from station")
    view.rows.distinct.click()
    assert text(view) == "select distinct river_id from station"


def test_columns_are_named_computed_ordered_and_made_into_figures(view):
    put(view, "select s.name, r.level_m -- kept\nfrom station s join reading r on s.station_id = r.station_id")
    write(view, "select 0 name", "place of it")
    assert text(view).startswith('select s.name as "place of it", r.level_m -- kept')
    figure = field(view, "select 1 aggregate", QComboBox)
    figure.setCurrentText("mean")
    figure.activated.emit(figure.currentIndex())
    assert "avg(r.level_m) as level_m_avg -- kept" in text(view)
    assert text(view).endswith("group by s.name")
    view.rows.begin("having", "avg(r.level_m)")
    write(view, "draft right", "2")
    assert text(view).endswith("having avg(r.level_m) = 2")
    view.rows.begin_expression()
    write(view, "draft", "upper(s.river)")
    assert "upper(s.river) -- kept" in text(view)
    assert "group by s.name, upper(s.river)" in text(view)
    field(view, "select 2 up", object).click()
    assert text(view).index("upper(s.river)") < text(view).index("avg(r.level_m)")
    view.rows.begin_expression()
    write(view, "draft", "1 +")
    assert "Syntax error" in view._drawer.problem.text() or "incomplete" in view._drawer.problem.text()
    assert field(view, "draft") is not None  # what was typed can be mended
    view.rows._drop_draft()
    view.rows._offer_order()
    QTest.keyClicks(picker().typed, "level_m_avg")
    QTest.keyClick(picker().typed, Qt.Key.Key_Return)
    field(view, "order 0 way", object).click()
    assert text(view).endswith("\norder by level_m_avg desc")
    view.rows.limit.setText("5 000")
    view.rows.limit.editingFinished.emit()
    view.rows.distinct.click()
    assert text(view).endswith("\nlimit 5000")
    assert text(view).startswith("select distinct ")
    view.rows.limit.setText("many")
    view.rows.limit.editingFinished.emit()
    assert "is not a limit" in view._drawer.problem.text()
    assert view.rows.limit.text() == "5000"


def test_names_keys_and_values_can_be_dropped(view, window):
    put(view, "select * from lab_sample")
    data = QMimeData()
    data.setData(NAME_DRAG, b"reading")
    drop(view, data)
    assert "cross join reading" in text(view)  # no key leads there
    assert view.cards.joins[1].property("state") == "wrong"
    put(view, "select * from lab_sample")
    key = QMimeData()
    put_parts(key, FIELD_DRAG, "lab_sample", "station_id")
    drop(view, key)
    assert text(view).endswith("join station on lab_sample.station_id = station.station_id")
    drop(view, value_data("lab_sample", "sample_id", "7"))
    drop(view, value_data("station", "river", "NULL"))
    assert text(view).endswith("where lab_sample.sample_id = 7\n  and station.river is null")
    drop(view, value_data("nosuch", "a", "1"))
    assert "not traced" in view._drawer.problem.text()
    data.setData(NAME_DRAG, b"nosuch")
    drop(view, data)
    assert "not a table of this source" in view._drawer.problem.text()
    column = QMimeData()
    put(view, "select sample_id from lab_sample")
    put_parts(column, FIELD_DRAG, "lab_sample", "taken_at")
    drop(view, column)
    assert text(view) == "select sample_id, taken_at from lab_sample"


def test_a_value_of_the_grid_is_carried_by_its_border_or_asked_for_from_its_menu(window, monkeypatch):
    carried = []
    monkeypatch.setattr("nimble_otter.desktop.grid.actions.drag_value", lambda _, parts: carried.append(parts))
    grid, model = window.grid, window.grid.model
    names = [c.name for c in model.columns]
    at = names.index("station_id")
    grid.go(2, at)
    rect = grid.cell_rect(2, at)
    port = grid.viewport()
    QTest.mouseMove(port, QPoint(rect.left() + 1, rect.center().y()))
    QTest.mousePress(port, Qt.MouseButton.LeftButton, pos=QPoint(rect.left() + 1, rect.center().y()))
    QTest.mouseMove(port, rect.center() + QPoint(60, 60))
    QTest.mouseRelease(port, Qt.MouseButton.LeftButton, pos=rect.center())
    value = model.value(2, at)
    assert carried == [("lab_sample", "station_id", str(value))]
    assert grid.selection.blocks[0].cells == 1  # nothing else was marked on the way
    window.actions_on_grid.condition_wanted.emit(*carried[0])
    assert f"\nwhere station_id = {value}\n" in window.query_drawer.editor.text
    assert not window.query_drawer.shows_pieces
    note = next(n for n, name in enumerate(names) if model.value(0, n) is None or isinstance(model.value(0, n), str))
    said = window.actions_on_grid.value_parts(0, note)
    assert said is None or said[2] == "NULL" or said[2].startswith("'")


def test_rows_are_previewed_while_pieces_change_and_not_noted(view, window):
    put(view, "select reading_id, level_m from reading")
    view.rows.preview.setChecked(True)
    view.rows.begin("where", "level_m")
    sign = field(view, "draft sign", QComboBox)
    sign.setCurrentText(">")
    sign.activated.emit(sign.currentIndex())
    write(view, "draft right", "0")
    assert wait_until(lambda: window.pull.is_preview and not window.jobs.is_busy, 10)
    assert window.pull.table.rows == 200
    assert "Preview" in window.pull.notice.text
    assert not any("level_m > 0" in ran.text for ran in window.hub.history.runs())
    window.commands.run("run")
    settle(window)
    assert any("level_m > 0" in ran.text for ran in window.hub.history.runs())
    assert not window.pull.is_preview
    assert window.pull.table.rows > 200
    assert wait_until(lambda: not window.jobs.is_busy, 5)


def test_what_pieces_can_not_show_is_kept_as_text(view, window):
    put(view, "with q as (select 1)\nselect name from river\nunion select name from station")
    assert view.rows._pieces.behind is not None
    tick(view, 0, "river_id")
    assert text(view).startswith("with q as (select 1)\nselect name, river_id from river\nunion select")
    put(view, "update river set name = 'x' where 1 = 0")
    assert "UPDATE" in view.why_not.text()
    window.commands.run("pieces")
    assert not window.query_drawer.shows_pieces
    window.commands.run("pieces")
    put(view, "select a from (select 1 as a) q, nosuch")
    assert [b.card.alias for b in view.cards.boxes] == ["q", "nosuch"]
    view.cards.remove(1)
    assert text(view) == "select a from (select 1 as a) q"
    view.cards.remove(0)
    assert "last table stays" in view._drawer.problem.text()
    put(
        view,
        "select r.level_m, s.name from station s join reading r on s.station_id = r.station_id where r.level_m > 1",
    )
    view.cards.offer(1)
    menu = view.cards.findChildren(QMenu)[-1]
    next(a for a in menu.actions() if a.text().startswith("full")).trigger()
    assert "full join reading r" in text(view)
    menu.close()
    view.cards.boxes[1].columns.setFocus()
    QTest.keyClick(view.cards.boxes[1].columns, Qt.Key.Key_Delete)
    assert text(view) == "select s.name from station s"
    assert "2 parts" in view._drawer.problem.text()
