"""Changing through the window: conflicts answered, reversals reviewed, filling, bigger editors, choices, documents."""

from dataclasses import replace

import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QPushButton

from nimble_otter.changes import DEFAULT, Action
from nimble_otter.desktop.grid.selection import Block
from nimble_otter.desktop.pulls.step_ref import CHANGES, QUERY
from nimble_otter.pull.model import Pull, Query
from nimble_otter.sources import Source
from nimble_otter.table import MISSING
from tests.desktop.conftest import settle
from tests.files import sqlite_file

SCRIPT = """
create table kind (code text primary key, title text);
insert into kind values ('a', 'Alder'), ('b', 'Birch');
create table tree (id integer primary key, kind text references kind (code), height real, ok boolean, note text,
  photo blob, seen date);
insert into tree values (1, 'a', 1.5, 1, 'one', x'00', '2031-01-01'), (2, 'b', 2.5, 0, 'two', null, '2031-01-03'),
  (3, 'a', 3.5, null, 'three', null, null), (4, 'b', null, null, 'four', null, null);
create table loose (a integer, b text);
insert into loose values (1, 'x'), (2, 'y');
"""


@pytest.fixture
def trees(window, base):
    """A pull of a small table."""
    path = base(SCRIPT)
    source = window.hub.add(Source("wood", f"sqlite:///{path}"))
    settle(window)
    window.add_pull(Pull("trees", source, Query("select * from tree order by id")))
    settle(window)
    window.grid.setFocus()
    return path


def place(window, name):
    return [c.name for c in window.grid.model.columns].index(name)


def select(window, top, bottom, left, right=None):
    right = left if right is None else right
    window.grid.go(top, left)
    window.grid.selection.blocks[:] = [Block(top, left, bottom, right)]


def column(window, name):
    return [window.grid.model.value(n, place(window, name)) for n in range(window.grid.rows)]


def ask(path, text):
    with sqlite_file(path) as base:
        return base.execute(text).fetchall()


def click(window, name):
    """The last button of the side with this accessible name or text."""
    made = [b for b in window.changes_drawer.side.findChildren(QPushButton) if name in (b.accessibleName(), b.text())]
    made[-1].click()


def test_fill_series_cut_and_default(window, trees):
    at = place(window, "height")
    select(window, 0, 3, at)
    window.commands.run("fill_series")
    assert column(window, "height") == [1.5, 2.5, 3.5, 4.5]
    window.commands.run("undo")
    assert column(window, "height") == [1.5, 2.5, 3.5, None]
    select(window, 1, 3, place(window, "note"))
    window.commands.run("fill_down")
    assert column(window, "note") == ["one", "two", "two", "two"]
    select(window, 0, 0, place(window, "note"))
    window.commands.run("fill_up")
    assert column(window, "note")[0] == "two"
    select(window, 1, 3, place(window, "seen"))
    window.commands.run("fill_series")
    assert [str(v) for v in column(window, "seen")[1:]] == ["2031-01-03", "2031-01-04", "2031-01-05"]
    select(window, 0, 1, place(window, "note"))
    window.commands.run("cut")
    assert QApplication.clipboard().text() == "two\ntwo"
    assert column(window, "note")[:2] == [None, None]
    assert window.grid.accessibleName() == "note, row 1 of 4: no value, before one; 2 cells selected"
    window.commands.run("take_back_cells")
    assert column(window, "note")[:2] == ["one", "two"]
    window.commands.run("set_default")
    assert "new rows only" in window.status.message.text()
    window.commands.run("set_blank")
    assert column(window, "note")[:2] == ["", ""]
    assert "empty text, before one" in window.grid.accessibleName()
    select(window, 0, 0, at, at + 2)
    window.commands.run("fill_right")
    assert "Nothing was filled" in window.status.message.text()


def test_what_may_stand_in_a_cell_is_offered(window, trees):
    window.grid.go(0, place(window, "kind"))
    QTest.keyClick(window.grid, Qt.Key.Key_F2)
    settle(window)
    editor = window.grid.editor
    shown = editor.completer().model()
    assert [shown.index(n, 0).data() for n in range(shown.rowCount())] == ["a  Alder", "b  Birch"]
    editor.completer().popup().hide()
    window.grid.close_editor()
    window.grid.go(0, place(window, "ok"))
    QTest.keyClick(window.grid, Qt.Key.Key_F2)
    assert window.grid.editor.completer().model().rowCount() == 2
    window.grid.editor.completer().popup().hide()
    window.grid.close_editor()


def test_the_bigger_editor_takes_lines_empties_and_bytes_of_a_file(window, trees, tmp_path, monkeypatch):
    from nimble_otter.desktop.kit import big_editor

    window.grid.go(0, place(window, "note"))
    window.commands.run("big_editor")
    big = window.actions_on_grid._big
    assert big.isVisible()
    big.text.setPlainText("one\ntwo")
    QTest.keyClick(big.text, Qt.Key.Key_Return, Qt.KeyboardModifier.ControlModifier)
    assert not big.isVisible()
    assert column(window, "note")[0] == "one\ntwo"
    window.commands.run("big_editor")
    big.empty.click()
    assert column(window, "note")[0] is None
    window.grid.go(1, place(window, "photo"))
    window.commands.run("big_editor")
    assert not big.accept.isVisible()
    name = tmp_path / "p.bin"
    name.write_bytes(b"\x01\x02")
    monkeypatch.setattr(big_editor.QFileDialog, "getOpenFileName", lambda *a: (str(name), ""))
    big.file.click()
    assert column(window, "photo")[1] == b"\x01\x02"
    window.commands.run("write")
    settle(window)
    assert ask(trees, "select note, photo from tree order by id limit 2") == [(None, b"\x00"), ("two", b"\x01\x02")]


@pytest.mark.parametrize(("answer", "after"), [("Take theirs", [(9.0, "mine")]), ("Keep yours", [(1.75, "mine")])])
def test_a_conflict_is_answered_field_by_field(window, trees, answer, after):
    pull = window.pull
    names = [f.name for f in pull.table.fields]
    pull.changes.edit(Action("Edit", ((0, names.index("height"), 1.75), (0, names.index("note"), "mine"))))
    window.open_drawer(CHANGES)
    ask(trees, "update tree set height = 9 where id = 1")
    window.changes_drawer.rehearse.click()
    settle(window)
    assert "in conflict" in window.changes_drawer.list.entries.entry(0).end
    click(window, f"{answer} height")
    settle(window)
    assert not pull.report.conflicts
    window.changes_drawer.write.click()
    settle(window)
    assert ask(trees, "select height, note from tree where id = 1") == after
    assert window.grid.line(0).state == "written"


def test_changes_of_columns_that_a_query_leaves_out_wait_for_them(window, trees):
    open_pull = window.pull
    window.actions_on_grid.put_texts("Edit", [(1, 2, "7.5"), (0, 4, "first")])

    def run(query):
        window.open_drawer(QUERY)
        window.query_drawer.editor.replace_text(query)
        window.query_drawer.run()
        settle(window)
        return open_pull.notice.text

    assert "1 changed row waits for a result that has" in run("select id, note from tree order by id")
    assert open_pull.edits.cells == {0: {1: "first"}}
    run("select nosuch from tree")
    assert open_pull.error is not None
    assert open_pull.edits.cells == {0: {1: "first"}}  # shown still, and what waited goes on waiting
    assert "2 changed rows wait" in run("select count(*) from tree")  # nothing of it can be changed
    assert run("select * from tree order by id") == ""
    assert open_pull.edits.cells == {1: {2: 7.5}, 0: {4: "first"}}


def test_changes_never_go_to_another_source_than_their_rows_came_from(window, trees, tmp_path):
    pull, other = window.pull, tmp_path / "other.sqlite"
    other.write_bytes(trees.read_bytes())
    ask(other, "update tree set note = 'there' where id = 1")
    pull.changes.edit(Action("Edit", ((0, 4, "x"),)))
    window.open_drawer(CHANGES)
    settle(window)
    source, wood = window.hub.add(Source("other wood", f"sqlite:///{other}")), pull.pull.source
    settle(window)
    pull.shaping.change(replace(pull.pull, source=source), "Change source")
    settle(window)
    assert window.status.writes.text() == "other wood: writes are reviewed"
    for press in (window.changes_drawer.rehearse, window.changes_drawer.write):
        press.click()
        settle(window)
        assert "are of wood; the pull asks other wood now" in window.status.message.text()
    assert pull.told().startswith("wood, ")
    pull.runs.run()
    settle(window)
    assert pull.told().startswith("other wood, ")
    assert "Changes made on rows of wood are pending on these now" in pull.notice.text
    assert pull.edits.cells == {0: {4: "x"}}
    pull.shaping.change(replace(pull.pull, source=wood), "Change source")
    window.changes_drawer.write.click()
    settle(window)
    assert ask(other, "select note from tree where id = 1") == [("there",)]


def test_a_row_that_is_gone_is_left_out(window, trees):
    window.pull.changes.edit(Action("Edit", ((1, 4, "x"),)))
    window.open_drawer(CHANGES)
    ask(trees, "delete from tree where id = 2")
    window.changes_drawer.rehearse.click()
    settle(window)
    click(window, "Leave it out")
    settle(window)
    assert window.pull.edits.count == 0


def test_rows_and_statements_are_in_step_and_a_reversal_is_reviewed_and_written(window, trees):
    pull, drawer = window.pull, window.changes_drawer
    window.open_drawer(CHANGES)
    pull.changes.edit(Action("Edit", ((0, 4, "x"), (2, 4, "y"))))
    settle(window)
    drawer.list.choose(1)
    assert drawer.text.textCursor().block().text().startswith("-- 2")
    drawer.text.setFocus()
    drawer.text.moveCursor(drawer.text.textCursor().MoveOperation.Start)
    assert drawer.list.at == 0
    drawer.list.activated.emit(drawer.list.currentIndex())
    assert window.grid.selection.current == (0, place(window, "note"))
    drawer.write.click()
    settle(window)
    assert drawer.review.isVisibleTo(drawer)
    drawer.review.click()
    assert "putting back 2" in drawer.head.words.text()
    drawer.revert.click()
    assert pull.reviewing is None
    drawer.review.click()
    drawer.rehearse.click()
    settle(window)
    assert pull.report.good == 2
    drawer.write.click()
    settle(window)
    assert ask(trees, "select note from tree order by id") == [("one",), ("two",), ("three",), ("four",)]
    assert column(window, "note")[0] == "one"
    assert "Restored 2 rows" in drawer.list.entries.entry(0).text


def test_a_table_without_a_key_is_matched_by_all_values_when_asked(window, trees):
    window.add_pull(Pull("loose", window.pull.pull.source, Query("select * from loose")))
    settle(window)
    window.open_drawer(CHANGES)
    assert "no key" in window.pull.target.reason
    click(window, "Match by all values")
    settle(window)
    window.pull.changes.edit(Action("Edit", ((0, 1, "z"),)))
    window.changes_drawer.side.findChildren(QPushButton)
    window.commands.run("write")
    settle(window)
    assert ask(trees, "select b from loose order by a") == [("z",), ("y",)]
    assert window.pull.pull.by_values


def test_the_guard_is_chosen_and_kept_with_the_pull(window, trees):
    window.pull.changes.edit(Action("Edit", ((0, 4, "x"),)))
    window.open_drawer(CHANGES)
    window.changes_drawer._set_guard("key")
    settle(window)
    assert "id alone" in window.changes_drawer.head.words.text()
    assert window.pull.plans.plan().statements[0].seen == ()


def test_documents_are_changed_one_by_one_where_there_are_no_transactions(window, monkeypatch):
    from nimble_otter.desktop.changes import write_controller as deeds

    window.hub.open(window.hub.sources[1])
    settle(window)
    window.add_pull(Pull("docs", window.hub.sources[1], Query("select * from report limit 5")))
    settle(window)
    pull = window.pull
    assert pull.target.dialect.is_documents
    at = pull.table.index("kind")
    before = pull.table.columns[at].value(0)
    window.grid.go(0, place(window, "kind"))
    pull.changes.edit(Action("Edit", ((0, at, pull.cells.typed("flood watch!", at, 0)),)))
    monkeypatch.setattr(deeds, "ask_one_by_one", lambda problem, plan: True)
    window.open_drawer(CHANGES)
    assert "$set" in window.changes_drawer.text.toPlainText()
    window.changes_drawer.write.click()
    settle(window)
    assert pull.table.columns[at].value(0) == "flood watch!"
    assert pull.edits.count == 0
    window.changes_drawer.review.click()
    window.changes_drawer.write.click()
    settle(window)
    assert pull.table.columns[at].value(0) == before
    select(window, 0, 0, place(window, "kind"))
    window.commands.run("set_default")
    assert pull.edits.cells[0][at] is MISSING


def test_pending_defaults_are_shown_and_survive(window, trees):
    from nimble_otter.pull.drafts import plain_in, plain_out

    window.pull.changes.edit(Action("Edit", ((0, 4, DEFAULT),)))
    assert window.grid.line(0).cells[place(window, "note")].text == "default"
    assert plain_in(plain_out(DEFAULT)) is DEFAULT
