"""A document result as table, tree and JSON: one set of rows, one order, one current row."""

import json
from dataclasses import replace

import pytest
from PySide6.QtCore import QModelIndex, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QInputDialog

from nimble_otter.desktop.grid.document_views import PAGE, document_at
from nimble_otter.desktop.grid.rows_views import JSON, TABLE, TREE
from nimble_otter.desktop.pulls.step_ref import QUERY
from nimble_otter.pull import Pull, Query
from nimble_otter.pull.steps import GroupStep, SortBy, SortStep, group_keys
from nimble_otter.sources.document_paths import path_of
from tests.desktop.conftest import settle


@pytest.fixture
def reports_window(window):
    source = window.hub.find("Field reports")
    window.add_pull(
        Pull("r", source, Query("select * from report where kind = 'flood watch'"), (SortStep((SortBy("at"),)),))
    )
    settle(window)
    return window


def test_a_result_without_rows_follows_one_with_many(reports_window):
    window = reports_window
    window.grid.go(40, 1)
    window.open_drawer(QUERY)
    window.query_drawer.editor.replace_text("select * from report where kind = 'nothing of the kind'")
    window.query_drawer.run()
    settle(window)
    assert (window.pull.error, window.pull.table.rows, window.follower.references) == (None, 0, [])


def test_a_column_leads_to_its_collection_and_a_name_with_a_dot_to_no_query(reports_window, monkeypatch):
    window, asked = reports_window, []
    window.follower.origin_wanted.connect(lambda *place: asked.append(place))
    window.add_pull(Pull("q", window.pull.pull.source, Query("select detail.count, kind from report")))
    settle(window)
    window.grid.go(0, 0)
    window.commands.run("origin")
    assert asked == [("Field reports", "report", "detail.count")]
    row = window.pull.table.column("kind").values().index("sighting")
    assert window.actions_on_grid.value_parts(row, 1) == ("report", "kind", "'sighting'")
    fields = [replace(field, origin=path_of("k.d")) for field in window.pull.fetched.table.fields]
    monkeypatch.setattr(
        window.pull, "fetched", replace(window.pull.fetched, table=window.pull.table.with_fields(fields))
    )
    assert window.actions_on_grid.value_parts(row, 1) is None


def test_the_tree_has_the_rows_of_the_table_in_their_order(reports_window):
    window = reports_window
    view = window.pull.shaped.view
    window.grid.go(40, 1)
    window.commands.run("rows_1")
    tree = window.rows_views.view(TREE)
    assert window.rows_stack.currentWidget() is tree
    model = tree.model()
    assert model.rowCount() == len(view)
    assert tree.currentIndex().row() == 40
    top = model.index(40, 0)
    names = [model.index(n, 0, top).data() for n in range(model.rowCount(top))]
    assert names == list(document_at(view, 40))
    readings = model.index(names.index("readings"), 0, top)
    assert model.hasChildren(readings)
    first = model.index(0, 0, readings)
    assert model.index(0, 0, first).data() == "minute"
    assert model.parent(model.parent(first)) == top
    assert model.parent(top) == QModelIndex()
    tree.setCurrentIndex(model.index(41, 0))
    assert window.grid.selection.current[0] == 41
    inner = model.index(0, 0, model.index(7, 0))
    tree.setCurrentIndex(inner)
    assert window.grid.selection.current[0] == 7


def test_json_pages_follow_the_current_row_and_fold(reports_window):
    window = reports_window
    view = window.pull.shaped.view
    window.grid.go(PAGE + 3, 0)
    window.commands.run("rows_2")
    page = window.rows_views.view(JSON)
    assert page.said.text().startswith(f"rows {PAGE + 1} to {2 * PAGE}")
    line = page._starts[3]
    assert page.text.textCursor().blockNumber() == line
    end = page._starts[4]
    lines = page.text.toPlainText().split("\n")[line:end]
    assert json.loads("\n".join(lines))["place"] == document_at(view, PAGE + 3).get("place")
    block = page.text.document().findBlockByNumber(line)
    page.text.fold(block)
    assert page.text.is_folded(block)
    assert not page.text.document().findBlockByNumber(line + 2).isVisible()
    assert page.text.document().findBlockByNumber(end).isVisible()
    page.text.fold(block)
    assert page.text.document().findBlockByNumber(line + 2).isVisible()
    page._turn(1)
    assert window.grid.selection.current[0] == 2 * PAGE
    window.grid.go(2, 0)
    assert page.said.text().startswith("rows 1 to")
    QTest.keyClicks(page.needle, '"trend": "falling"')
    QTest.keyClick(page.needle, Qt.Key.Key_Return)
    position = window.grid.selection.current[0]
    assert document_at(view, position)["flood"]["trend"] == "falling"
    page.needle.setText("nowhere to be found")
    assert "not in the rows" in page.said.text()


def test_groups_and_tables_stand_as_a_table(reports_window):
    window = reports_window
    window.status._ways.button(TREE).click()
    assert window.status._ways.button(1).isVisible()
    window.pull.shaping.add_step(GroupStep(group_keys("place")), "Group")
    settle(window)
    assert window.rows_stack.currentWidget() is window.grid
    window.commands.run("undo")
    settle(window)
    assert window.rows_stack.currentWidget() is window.rows_views.view(TREE)
    window.commands.run(f"rows_{TABLE}")
    assert window.rows_stack.currentWidget() is window.grid
    window.show_pull(0)
    assert not window.status._ways.button(1).isVisible()


def test_a_pipeline_is_run_up_to_any_of_its_stages(window):
    source = window.hub.find("Field reports")
    text = '[{"$match": {"kind": "sighting"}}, {"$group": {"_id": "$place"}}]'
    window.add_pull(Pull("p", source, Query(text, "native", "report")))
    settle(window)
    whole = window.pull.table.rows
    window.query_drawer.side._run_stages(1)
    settle(window)
    assert window.pull.table.rows > whole
    assert "kind" in [f.name for f in window.pull.table.fields]


def test_shapes_are_found_from_as_many_documents_as_asked(window):
    source = window.hub.find("Field reports")
    window.hub.open(source)
    settle(window)
    window.pages.describe(source, "report")
    settle(window)
    assert window.hub.shapes["Field reports", "report"].sampled == 1000
    window.detail.shapes.sample_wanted.emit(100)
    settle(window)
    assert window.hub.shapes["Field reports", "report"].sampled == 100


def test_a_field_that_looks_like_a_reference_is_followed_once_it_is_confirmed(window, monkeypatch):
    source = window.hub.find("Field reports")
    window.add_pull(Pull("n", source, Query("select * from notice where report is not null limit 20")))
    settle(window)
    window.detail.turn(1)
    window.grid.go(2, 0)
    notices = window.pull
    wanted = document_at(notices.shaped.view, 2)["report"]
    assert [(r.field, r.targets) for r in window.follower.references] == [("report", ("report",))]
    assert window.detail.record._links == [("report ?", "by report")]
    asked = []
    monkeypatch.setattr(QInputDialog, "getItem", lambda *a: (asked.append(a), ("report", len(asked) > 1))[1])
    window.follower.go(0)
    assert window.pull is notices  # not confirmed
    window.follower.go(0)
    settle(window)
    assert window.pull.table.column("_id").values() == [wanted]
    assert window.pull.pull.came_from.startswith("followed from 1 value of report")
    window.commands.run("go_back")
    window.grid.go(3, 0)
    settle(window)
    assert window.detail.record._links == [("report", "by report")]
    window.follower.go(0)
    settle(window)
    assert len(asked) == 2


def test_a_list_opens_to_a_table_under_its_row_and_deeper(reports_window):
    window = reports_window
    names = [c.name for c in window.grid.model.columns]
    column = names.index("readings")
    window.grid.go(0, column)
    QTest.keyClick(window.grid, Qt.Key.Key_Return)
    panel = window.actions_on_grid._panel
    assert panel.isVisible()
    assert [c.name for c in panel.grid.model.columns] == ["minute", "level_m", "by"]
    assert panel.geometry().top() > window.grid.cell_rect(0, column).bottom()
    QTest.keyClick(panel.grid, Qt.Key.Key_Escape)
    assert not panel.isVisible()
    panel.open(0, column, "deep", {"a": [1, [2, 3]], "b": {}})
    panel._go_in(0, 1)
    assert panel.title.text().startswith("deep › 0 value")
    panel._go_in(0, 0)
    QTest.keyClick(panel.grid, Qt.Key.Key_Backspace)
    assert panel.title.text().startswith("deep   2 fields")
    window.grid.go(3, 0)
    assert not panel.isVisible()


def test_objects_are_opened_into_columns_and_closed_again(reports_window):
    window = reports_window
    names = [c.name for c in window.grid.model.columns]
    levels = [d["flood"]["level"] for d in (document_at(window.pull.shaped.view, n) for n in range(5))]
    window.actions_on_grid.open_columns(names.index("flood"))
    settle(window)
    opened = [c.name for c in window.grid.model.columns]
    assert "flood" not in opened
    assert opened[names.index("flood")] == "flood.level"
    place = window.pull.shaped.table.index("flood.level")
    assert window.pull.shaped.table.columns[place].values(window.pull.shaped.view.row_ids(0, 5)) == levels
    drawer = window.drawer_of("open")
    assert window.is_shown("open")
    drawer._close("flood")
    settle(window)
    assert [c.name for c in window.grid.model.columns] == names


def test_parts_of_opened_objects_are_changed_where_they_are(reports_window):
    window = reports_window
    pull, edits = window.pull, window.actions_on_grid
    edits.open_columns([c.name for c in window.grid.model.columns].index("flood"))
    settle(window)
    names = [c.name for c in window.grid.model.columns]
    level, trend, title = (names.index(n) for n in ("flood.level", "flood.trend", "at"))
    row, model = window.grid.model.row_id(3), window.grid.model
    whole = pull.table.index("flood")
    before = pull.table.columns[whole].value(row)
    beside = model.value(3, title)
    edits.put_texts("Edit", [(row, model.columns[level].place, "7.25"), (row, model.columns[trend].place, "odd")])
    assert pull.edits.cells == {row: {whole: {**before, "level": 7.25, "trend": "odd"}}}
    (statement,) = pull.plans.plan().statements
    assert dict(statement.values) == {"flood.level": 7.25, "flood.trend": "odd"}
    assert dict(statement.seen) == {"flood.level": before["level"], "flood.trend": before["trend"]}
    model = window.grid.model
    cells = model.line(3).cells
    assert (cells[level].text, cells[trend].text) == ("7.25", "odd")
    assert cells[level].old
    assert not cells[title].old
    assert model.value(3, title) == beside
    window.grid.go(3, level)
    edits.revert_cells()
    assert pull.edits.cells == {row: {whole: {**before, "trend": "odd"}}}
    edits.put_texts("Edit", [(row, model.columns[trend].place, before["trend"])])
    assert not pull.edits.count  # what is as it was is no change
    window.grid.go(3, trend)
    edits.set_default()
    assert pull.edits.cells == {row: {whole: {n: v for n, v in before.items() if n != "trend"}}}
    pull.changes.undo()
    model = window.grid.model
    shown = [model.value(n, trend) for n in range(model.rows)]
    found = window.rows_find
    found.open(True)
    found.wanted.setText("falling")
    found.other.setText("sinking")
    settle(window)
    found.replace_all()
    settle(window)
    model = window.grid.model
    assert [model.value(n, trend) for n in range(model.rows)] == [s and s.replace("falling", "sinking") for s in shown]
    assert {place for own in pull.edits.cells.values() for place in own} == {whole}
    pull.changes.undo()
    assert not pull.edits.count
    edits.open_big()
    window.grid.go(3, [c.name for c in model.columns].index("_id"))
    edits.begin_edit(3, [c.name for c in model.columns].index("_id"), "x")
    assert "_id" in window.status.message.text()
    assert not pull.edits.count
