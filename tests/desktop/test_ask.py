"""The query's text in the real window: offers, problems, finding, laying out."""

from dataclasses import replace

import pytest
from PySide6.QtCore import QPoint, Qt, QTimer
from PySide6.QtGui import QTextCursor
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QInputDialog, QMenu, QMessageBox

from nimble_otter.changes import Action
from nimble_otter.desktop.kit.offscreen import wait_until
from nimble_otter.desktop.pulls.step_ref import QUERY
from nimble_otter.desktop.query.run_questions import AskBeforeRun
from nimble_otter.desktop.shell.commands import collect_findings
from nimble_otter.desktop.steps.course import stops_of
from nimble_otter.pull import Pull, Query, pull_from_text, pull_to_text
from nimble_otter.pull.steps import Condition, FigureOf, FilterStep, GroupStep, SortBy, SortStep, group_keys
from nimble_otter.query.sql.parameters import Ask
from nimble_otter.sources import TableInfo
from nimble_otter.sources.dialects.sqlite import SQLITE
from nimble_otter.table.ops.group import AggregateFunction
from nimble_otter.table.text.show import grouped
from tests.desktop.conftest import answer, settle

CONTROL, SHIFT = Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.ShiftModifier


@pytest.fixture
def drawer(window):
    window.open_drawer(QUERY)
    window.query_drawer.editor.setFocus()
    return window.query_drawer


def put(drawer, text, at=None):
    """Text in the editor with the caret at its end, or at a place; | marks both ends of a selection."""
    editor = drawer.editor
    parts = text.split("|")
    editor.replace_text("".join(parts))
    cursor = editor.textCursor()
    cursor.setPosition(len(parts[0]) if at is None else at)
    if len(parts) == 3:
        cursor.setPosition(len(parts[0]) + len(parts[1]), QTextCursor.MoveMode.KeepAnchor)
    editor.setTextCursor(cursor)
    return editor


def shown(editor):
    return [editor.completions.item(n).text() for n in range(editor.completions.count())]


def test_names_are_offered_while_one_types_and_put_in_by_tab(drawer):
    editor = put(drawer, "select * from lab_sample where ")
    QTest.keyClicks(editor, "samp")
    assert editor.completions.isVisible()
    assert shown(editor)[0] == "sample_id"
    QTest.keyClick(editor, Qt.Key.Key_Tab)
    assert editor.toPlainText().endswith("where sample_id")
    assert not editor.completions.isVisible()
    QTest.keyClicks(editor, " = 1 and visi")
    QTest.keyClick(editor, Qt.Key.Key_Escape)
    assert not editor.completions.isVisible()
    QTest.keyClick(editor, Qt.Key.Key_Z, CONTROL)
    assert drawer.help.used == {"sample_id": 1}


def test_enter_is_a_new_line_where_nothing_is_left_to_put_in(drawer):
    editor = put(drawer, "select * from ")
    QTest.keyClicks(editor, "visit")
    assert editor.completions.isVisible()
    assert shown(editor)[:2] == ["visit", "visit_photo"]
    QTest.keyClick(editor, Qt.Key.Key_Return)
    assert editor.toPlainText() == "select * from visit\n"
    editor = put(drawer, "  select * from visit ")
    QTest.keyClicks(editor, "a")
    assert not editor.completions.isVisible()  # an alias, as likely as not
    QTest.keyClick(editor, Qt.Key.Key_Return)
    assert editor.toPlainText() == "  select * from visit a\n  "


def test_joins_come_whole_and_values_from_the_rows_seen(drawer):
    editor = put(drawer, "select * from lab_sample s join ")
    QTest.keyClick(editor, Qt.Key.Key_Space, CONTROL)
    assert shown(editor)[0].startswith("visit v on s.visit_id = v.visit_id") or "on s." in shown(editor)[0]
    QTest.keyClick(editor, Qt.Key.Key_Down)
    QTest.keyClick(editor, Qt.Key.Key_Up)
    QTest.keyClick(editor, Qt.Key.Key_Return)
    assert " on s." in editor.toPlainText()
    column = drawer.open_pull.table.fields[3].name
    editor = put(drawer, f"select * from lab_sample where {column} = ")
    QTest.keyClick(editor, Qt.Key.Key_Space, CONTROL)
    assert editor.completions.item(0).data(Qt.ItemDataRole.UserRole).kind == "value"


def test_problems_are_told_after_a_pause_and_mended_by_a_key(drawer, window):
    editor = put(drawer, "select * from lab_sampel where 1 = 1", at=18)
    assert wait_until(lambda: len(drawer.help.problems) == 1, 5)
    assert "The nearest is lab_sample." in drawer.problem.text()
    assert len(editor.extraSelections()) >= 1
    QTest.keyClicks(editor, "x")
    assert drawer.help.problems == []  # what is edited is looked at anew
    editor.undo()
    assert wait_until(lambda: len(drawer.help.problems) == 1, 5)
    window.commands.run("text_mend")
    assert editor.toPlainText() == "select * from lab_sample where 1 = 1"
    assert wait_until(lambda: not drawer.problem.isVisibleTo(window), 5)


def test_enter_behind_a_word_typed_in_full_is_a_new_line_unless_an_offer_was_chosen(drawer):
    editor = drawer.editor
    for typed, keys, wanted in (("select * from reading", (), "select * from reading\n"),
                                ("select * FROM", (), "select * FROM\n"), ("select * from rea", (),
                                    "reading")):  # fmt: skip
        editor.setPlainText("")
        QTest.keyClicks(editor, typed)
        for key in (*keys, Qt.Key.Key_Return):
            QTest.keyClick(editor, key)
        assert wanted in editor.toPlainText(), editor.toPlainText()


def test_several_fixes_are_offered_in_a_menu(drawer, window):
    put(drawer, "select station_id from visit s join station v on s.station_id = v.station_id", at=10)
    assert wait_until(lambda: len(drawer.help.problems) == 1, 5)
    window.commands.run("text_mend")
    menu = drawer.editor.findChildren(QMenu)[-1]
    assert [a.text() for a in menu.actions()] == ["s.station_id", "v.station_id"]
    menu.actions()[1].trigger()
    assert drawer.editor.toPlainText().startswith("select v.station_id from")


def test_finding_and_replacing(drawer, window):
    editor = put(drawer, "select a, A, ab from t\nwhere a = 'a'")
    bar = drawer.finder
    window.commands.run("text_replace_text")
    bar.wanted.setText("a")
    bar.count()
    assert bar.said.text() == "5 found"
    bar.word.setChecked(True)
    bar.case.setChecked(True)
    assert bar.said.text() == "3 found"
    QTest.keyClick(bar.wanted, Qt.Key.Key_Return)
    assert editor.textCursor().selectedText() == "a"
    assert bar.said.text() == "1 of 3"
    QTest.keyClick(bar.wanted, Qt.Key.Key_Return, SHIFT)
    assert bar.said.text() == "3 of 3"
    bar.pattern.setChecked(True)
    bar.wanted.setText("(a)(?=,| =)")
    bar.other.setText(r"[\1]")
    bar.word.setChecked(False)
    bar.replace_all()
    assert editor.toPlainText() == "select [a], A, ab from t\nwhere [a] = 'a'"
    editor.undo()
    assert editor.toPlainText() == "select a, A, ab from t\nwhere a = 'a'"
    bar.wanted.setText("(")
    bar.count()
    assert "not a pattern" in bar.said.text()
    QTest.keyClick(bar.wanted, Qt.Key.Key_Escape)
    assert not bar.isVisibleTo(window)


def test_the_text_as_a_whole(drawer, window, monkeypatch):
    editor = put(drawer, "select s.* from lab_sample s where s.visit_id = |7|")
    window.commands.run("text_parameter")
    assert editor.toPlainText().endswith("s.visit_id = :visit_id")
    assert drawer.open_pull.pull.query.parameters["visit_id"] == 7
    put(drawer, editor.toPlainText(), at=8)
    monkeypatch.setattr(QInputDialog, "getText", lambda *_, **__: ("q", True))
    window.commands.run("text_rename_alias")
    assert editor.toPlainText() == "select q.* from lab_sample q where q.visit_id = :visit_id"
    window.commands.run("text_expand")
    assert editor.toPlainText().startswith("select sample_id, ")
    window.commands.run("text_format")
    assert editor.toPlainText().startswith("select\n  sample_id,\n")
    editor.undo()
    assert editor.toPlainText().startswith("select sample_id, ")
    put(drawer, "select (")
    window.commands.run("text_format")
    assert drawer.problem.isVisibleTo(window)


def test_the_gutter_and_brackets_show_where_the_caret_is(drawer):
    editor = put(drawer, "select (1 + (2));\n\nselect ')'\nfrom t", at=8)
    assert editor._brackets == (7, 15)
    assert editor.statement().text == "select (1 + (2))"
    editor.moveCursor(QTextCursor.MoveOperation.End)
    assert editor.statement().text == "select ')'\nfrom t"
    assert editor.wanted_text() == ("select ')'\nfrom t", 19)
    assert not editor._numbers.grab().isNull()


def test_ten_thousand_lines_are_taken_after_a_pause(drawer, window):
    line = "select reading_id, level_m from reading where level_m > 1 and quality = 'good';\n"
    editor = put(drawer, line * 10_000)
    editor.moveCursor(QTextCursor.MoveOperation.End)
    QTest.keyClicks(editor, "select level_m from reading where stat")
    assert shown(editor)[0] == "station_id"
    assert len(drawer.open_pull.pull.query.text) < 1000  # at every key only the text itself changes
    window.save_pull(window.store.folder / "long.pull")
    assert drawer.open_pull.pull.query.text == editor.toPlainText()
    assert not drawer.open_pull.is_dirty
    QTest.keyClicks(editor, "x")
    window.add_pull(Pull("other", window.hub.sources[0], Query("select 1")))
    settle(window)
    assert editor.toPlainText() == "select 1"
    assert window.pulls[0].pull.query.text.endswith("statx")
    assert window.pulls[0].is_dirty


# --- scripts -----------------------------------------------------------------------------------------------------


def lines(drawer):
    tree = drawer.outcomes
    return [
        [tree.topLevelItem(n).text(c) for c in (0, 1)] for n in range(tree.topLevelItemCount())
    ]  # fmt: skip


def test_a_script_shows_what_became_of_each_statement(drawer, window):
    text = "create table one (a int);\ninsert into one values (1), (2);\nselect * from one;\nselect nosuch from one;\n"
    text += "select 2"
    editor = put(drawer, text)
    assert drawer.all_button.isVisibleTo(window)
    drawer.all_button.click()
    settle(window)
    assert [line[1] for line in lines(drawer)] == ["done", "2 written", "2 rows", "Error"]
    assert drawer.open_pull.table.rows == 2
    assert "no such column" in drawer.problem.text().lower()
    place = drawer.open_pull.error.place
    assert text[place.start : place.end] == "nosuch"
    assert any(t.name == "one" for t in drawer.open_pull.tables)
    drawer.side.goes_on.setChecked(True)
    put(drawer, text.replace("create table one (a int);\n", "") + ";\nselect 3")
    QTest.keyClick(editor, Qt.Key.Key_Return, CONTROL | SHIFT)
    settle(window)
    assert len(lines(drawer)) == 5
    assert drawer.open_pull.table.columns[0].values() == [3]
    drawer.outcomes._choose(drawer.outcomes.topLevelItem(1))
    assert drawer.open_pull.table.rows == 4
    assert editor.statement().text == "select * from one"
    assert "script" in drawer.open_pull.target.reason
    put(drawer, "select 7")
    drawer.run()
    settle(window)
    assert drawer.open_pull.outcomes == ()


def test_statements_that_mean_every_row_or_a_careful_source_are_shown_first(drawer, window):
    put(drawer, "delete from loan")
    said = []

    answer("Don't run", said)
    drawer.run()
    settle(window)
    assert "no WHERE" in said[0]
    assert drawer.open_pull.outcomes == ()
    window.hub.sources[0] = replace(window.hub.sources[0], care=True, stage="production")
    put(drawer, "delete from loan where 1 = 0")
    answer("Run", said)
    drawer.run()
    settle(window)
    assert "(production)" in said[1]
    assert "delete from loan where 1 = 0" in said[1]
    assert lines(drawer) == [["delete from loan where 1 = 0", "0 written"]]


def test_a_pull_whose_text_writes_is_not_run_unasked(window):
    window.add_pull(Pull("w", window.hub.sources[0], Query("delete from loan")))
    settle(window)
    assert window.pull.outcomes == ()
    assert window.pull.error is None
    source = replace(window.hub.sources[0], read_only=True)
    window.hub.sources[0] = source
    window.hub._drop(source)
    window.query_drawer.run()
    settle(window)
    assert "read-only" in str(window.pull.error)


# --- history -----------------------------------------------------------------------------------------------------


def test_what_was_run_is_found_again_and_opened(drawer, window, make_window):
    put(drawer, "select 41 as answer where :n = 1")
    asked = replace(drawer.open_pull.pull.query, parameters={"n": 1})
    drawer.open_pull.shaping.put(replace(drawer.open_pull.pull, query=asked))
    for text in ("select 41 as answer where :n = 1", "select nosuch from river", "select 43 as answer"):
        put(drawer, text)
        drawer.run()
        settle(window)
    window.commands.run("history")
    page = window.history_page
    assert page.isVisibleTo(window)
    assert [page.list.topLevelItem(n).text(3) for n in range(3)] == ["1", "error", "1"]
    page.words.setText("answer 41")
    page.refresh()
    assert page.list.topLevelItemCount() == 1
    assert ":n = 1" in page.text.toPlainText()
    page.open_button.click()
    settle(window)
    assert window.pull.table.columns[0].values() == [41]
    again = make_window(demo=False)
    again.commands.run("history")
    again.history_page.source.setCurrentIndex(0)
    assert again.history_page.list.topLevelItemCount() >= 4
    again.history_page.words.setText("nothing like it")
    again.history_page.refresh()
    assert "No run" in again.history_page.found.text()
    again.history_page.words.clear()
    again.history_page._clear()
    again.history_page._sure()
    settle(again)
    assert again.history_page.list.topLevelItemCount() == 0


def test_texts_go_back_and_forward_in_the_editor(drawer, window):
    for text in ("select 1", "select 2"):
        put(drawer, text)
        drawer.run()
        settle(window)
    put(drawer, "select 3 -- not run")
    window.commands.run("text_before")
    assert drawer.editor.text == "select 2"
    window.commands.run("text_before")
    assert drawer.editor.text == "select 1"
    window.commands.run("text_after")
    window.commands.run("text_after")
    assert drawer.editor.text == "select 3 -- not run"
    window.commands.run("text_after")
    assert drawer.editor.text == "select 3 -- not run"


# --- upstream ----------------------------------------------------------------------------------------------------


def test_a_step_moves_upstream_after_its_change_of_the_query_was_seen(window):
    window.add_pull(Pull("r", window.hub.sources[0], Query("select reading_id, level_m, quality from reading")))
    settle(window)
    window.actions_on_grid.add_condition(Condition("more than", "level_m", (1,)))
    settle(window)
    shown_rows = window.pull.shaped.rows
    window.upstream.move_up(0)
    drawer = window.query_drawer
    assert drawer.proposal.isVisibleTo(window)
    assert "+ where level_m > 1" in drawer.proposal.lines.toPlainText()
    drawer.proposal.leave_button.click()
    assert not drawer.proposal.isVisibleTo(window)
    assert len(window.pull.pull.steps) == 1
    window.upstream.move_up(0)
    drawer.proposal.accept_button.click()
    settle(window)
    assert window.pull.pull.steps == ()
    assert window.pull.table.rows == shown_rows
    assert window.pull.notice.text == f"The same {grouped(shown_rows)} rows as before"
    window.upstream.move_down()
    assert "− where level_m > 1" in drawer.proposal.lines.toPlainText()
    drawer.proposal.accept_button.click()
    settle(window)
    assert window.pull.table.rows > shown_rows
    assert window.pull.shaped.rows == shown_rows
    assert "The same" in window.pull.notice.text
    window.pull.changes.undo()
    assert window.pull.pull.steps == ()


def test_a_whole_course_moves_upstream_and_is_counted_there_before_a_row_is_here(window, tmp_path):
    steps = (FilterStep((Condition("more than", "level_m", (0.5,)),)), SortStep((SortBy("reading_id"),), on=False),
             FilterStep((Condition("is", "quality", ("good",)),)))  # fmt: skip
    text = "select reading_id, level_m, quality from reading"
    window.add_pull(Pull("r", window.hub.sources[0], Query(text), steps), tmp_path / "r.pull")
    window.commands.run("count_there")
    settle(window)
    assert window.pull.table is None
    counted = [stop.under for stop in stops_of(window.pull)[1:5]]
    assert [text.endswith("on the server") for text in counted] == [True, True, False, True]
    window.commands.run("estimate_there")
    settle(window)
    assert "does not tell" in window.status.message.text()  # of this server
    proposal = window.query_drawer.proposal
    window.commands.run("upstream_all")
    window.pull.shaping.put(replace(window.pull.pull, came_from="elsewhere"))  # before the answer is there
    settle(window)
    assert not proposal.isVisibleTo(window)
    assert "changed meanwhile" in window.status.message.text()
    window.commands.run("upstream_all")
    settle(window)
    assert proposal.isVisibleTo(window)
    assert "first 1\u2009000 rows" in proposal.notes.text()
    proposal.accept_button.click()
    settle(window)
    assert window.pull.pull.steps == (steps[1],)
    assert counted[3] == f"{grouped(window.pull.table.rows)} on the server"
    assert not any("on the server" in stop.under for stop in stops_of(window.pull))  # those were of another query
    window.commands.run("count_there")
    settle(window)
    assert not any("on the server" in stop.under for stop in stops_of(window.pull))  # all rows are here
    window.upstream.move_all()
    assert "no steps to move" in window.status.message.text()


def test_an_engine_offers_to_work_out_the_course_before_the_first_row(window, monkeypatch, tmp_path):
    monkeypatch.setattr(type(SQLITE), "is_engine", True)
    steps = (FilterStep((Condition("is", "quality", ("good",)),)),)
    for accepts in (True, False):
        query = Query(f"select * from reading where '{accepts}' <> ''")
        window.add_pull(Pull("r", window.hub.sources[0], query, steps), tmp_path / "r.pull")
        window.commands.run("run")
        settle(window)
        proposal = window.query_drawer.proposal
        assert proposal.isVisibleTo(window)
        assert window.pull.table is None
        (proposal.accept_button if accepts else proposal.leave_button).click()
        settle(window)
        assert window.pull.pull.steps == (() if accepts else steps)
        assert (window.pull.table.rows > window.pull.shaped.rows) is not accepts
        window.commands.run("run")  # it is offered once
        settle(window)
        assert not proposal.isVisibleTo(window)
    window.add_pull(Pull("r", window.hub.sources[0], Query("select * from reading"), steps), tmp_path / "r.pull")
    for _ in range(2):  # an offer that is passed over is not made again
        window.commands.run("run")
        settle(window)
    assert window.pull.shaped is not None
    median = GroupStep(group_keys("quality"), (FigureOf(AggregateFunction.MEDIAN, "level_m"),))
    window.add_pull(Pull("r", window.hub.sources[0], Query("select * from reading"), (median,)), tmp_path / "r.pull")
    window.commands.run("run")
    settle(window)
    assert window.pull.shaped is not None
    assert "stays here. Step 1, group" in window.status.message.text()


def test_a_cut_pull_says_that_its_steps_are_of_a_part_and_differences_are_told(window):
    query = Query("select reading_id, quality from reading order by reading_id", limit=100)
    window.add_pull(Pull("r", window.hub.sources[0], query))
    settle(window)
    window.actions_on_grid.add_condition(Condition("is", "quality", ("good",)))
    settle(window)
    assert stops_of(window.pull)[2].under.endswith("of a part")
    window.pull.compare_with = window.pull.course.end
    window.upstream.move_up(0)
    window.query_drawer.proposal.accept_button.click()
    settle(window)
    assert "The same" not in window.pull.notice.text  # what was a part is not compared
    window.pull.compare_with = window.pull.course.end
    window.query_drawer.editor.replace_text("select reading_id, quality from reading order by reading_id desc")
    window.query_drawer.run()
    settle(window)
    assert window.pull.notice.text.startswith("The rows differ")
    window.pull.changes.edit(Action("Edit", cells=((0, 1, "void"),)))
    window.upstream.move_down()
    assert "pending" in window.status.message.text()


# --- parameters --------------------------------------------------------------------------------------------------


def test_parameters_know_their_kind_take_days_and_several_values(drawer, window):
    text = "select count(*) as n from reading where taken_at >= :since and quality in (:kinds)"
    put(drawer, text)
    drawer.take_text()
    fields, notes = drawer.parameters.fields, drawer.parameters.notes
    assert list(fields) == ["since", "kinds"]
    assert "separate several with commas" in notes["kinds"].text()
    QTest.keyClicks(fields["since"], "start of last month - 10 years")
    QTest.keyClicks(fields["kinds"], "good, suspect")
    assert notes["kinds"].text().startswith("2 values")
    assert drawer.open_pull.pull.query.parameters["kinds"] == ["good", "suspect"]
    drawer.run()
    settle(window)
    assert drawer.open_pull.error is None, drawer.open_pull.error
    assert drawer.open_pull.table.rows == 1
    assert ":kinds__1 = good" in drawer.open_pull.told()
    saved = pull_from_text(pull_to_text(drawer.open_pull.pull))
    assert saved == drawer.open_pull.pull
    menu = drawer.parameters.menu("kinds")
    assert menu.actions()[0].text() == "good, suspect"  # from the history
    put(drawer, text.replace("quality in", "nosuch in"))
    drawer.run()
    settle(window)
    place = drawer.open_pull.error.place
    assert drawer.editor.text[place.start : place.end] == "nosuch"


def test_a_kind_that_was_set_refuses_other_values_and_lists_come_from_a_query(drawer, window, monkeypatch):
    put(drawer, "select * from gauge where :n = 1 and 1 in (:river)")
    drawer.take_text()
    kinds = next(a.menu() for a in drawer.parameters.menu("n").actions() if a.text() == "Kind")
    next(a for a in kinds.actions() if a.text() == "number").trigger()
    drawer.parameters.fields["n"].setText("")
    QTest.keyClicks(drawer.parameters.fields["n"], "one")
    assert "is not a valid number" in drawer.parameters.notes["n"].text()
    drawer.parameters.fields["river"].setText("x")
    drawer.parameters._typed("river", "x")
    drawer.run()
    settle(window)
    assert "is not a valid number" in str(drawer.open_pull.error)
    monkeypatch.setattr(QInputDialog, "getMultiLineText", lambda *_: ("select river_id from river order by 1", True))
    drawer.parameters._ask_choices("river", drawer.open_pull.pull.query.asks.get("river", Ask()))
    settle(window)
    actions = {a.text(): a for a in drawer.parameters.menu("river").actions()}
    actions["2"].trigger()
    assert drawer.open_pull.pull.query.parameters["river"] == ["x", 2]
    drawer.open_pull.changes.undo()  # the value, then where values come from
    drawer.open_pull.changes.undo()
    assert "river" not in drawer.open_pull.pull.query.asks


# --- versions ----------------------------------------------------------------------------------------------------


def test_versions_of_a_pull_are_kept_shown_and_taken_back(drawer, window, tmp_path):
    for text in ("select 1 as a", "select 2 as a"):
        put(drawer, text)
        drawer.run()
        settle(window)
    window.save_pull(tmp_path / "kept.pull")
    settle(window)
    window.actions_on_grid.add_condition(Condition("is", "a", (2,)))
    settle(window)
    window.commands.run("versions")
    page = window.versions_page
    kept = [page.list.topLevelItem(n).text(1) for n in range(page.list.topLevelItemCount())]
    assert kept[:3] == ["saved", "run", "run"]
    assert '+ kind = "filter"' in page.lines.toPlainText()
    page.list.setCurrentItem(page.list.topLevelItem(2))
    assert '− text = "select 1 as a"' in page.lines.toPlainText()
    page.back_button.click()
    assert window.pull.pull.query.text.strip() == "select 1 as a"
    assert window.pull.pull.steps == ()
    window.commands.run("undo")
    assert len(window.pull.pull.steps) == 1
    window.commands.run("versions")
    page.open_button.click()
    settle(window)
    assert len(window.pulls) == 2
    window.commands.run("copy_pull")
    assert window.pull.pull.name.endswith("copy")
    settle(window)


def test_calling_a_routine_opens_a_pull_with_its_arguments(window):
    source = replace(window.hub.sources[0])
    window.pages.call(source, TableInfo("twice(n integer)", "routine", comment="(n integer, d date) → integer"))
    assert window.pull.pull.query.text == "select twice(:n, :d) as twice"
    assert list(window.query_drawer.parameters.fields) == ["n", "d"]
    assert window.pull.error is None  # it is not run before its values are there
    assert window.pull.pull.query.asks["d"] == Ask("date")


def test_a_saved_pull_is_found_by_the_tables_it_reads(drawer, window):
    put(drawer, "select 1 from gauge g join station s on s.station_id = g.station_id")
    drawer.take_text()
    window.rename_pull("Instruments")
    window.save_pull()
    found = [f.name for f in collect_findings(window) if f.word == "pull"]
    assert found == ["Instruments · gauge + station"]


def test_a_transaction_stays_open_in_sight_and_closing_asks(drawer, window, monkeypatch):
    monkeypatch.setattr(AskBeforeRun, "_agreed", lambda *_: True)
    source = window.hub.known(drawer.open_pull.pull.source)
    put(drawer, "begin; delete from assay where 1 = 1; select count(*) as n from assay")
    drawer.run_all()
    settle(window)
    assert "2 statements" in drawer.transaction.words.text()
    assert drawer.transaction.isVisible()
    assert drawer.open_pull.table.columns[0].values() == [0]
    assert window.status.writes.text().endswith("transaction open")
    put(drawer, "select count(*) as n from assay")
    drawer.run()
    settle(window)
    assert drawer.open_pull.table.columns[0].values() == [0]  # reading goes through it
    asked = []

    def answer(name):
        def click(box):
            asked.append(box.informativeText())
            button = next(b for b in box.buttons() if b.text() == name)
            QTimer.singleShot(0, button.click)
            return QMessageBox.__mro__[1].exec(box)

        monkeypatch.setattr(QMessageBox, "exec", click)

    answer("Not yet")
    window.close()
    assert window.isVisible()
    assert "statements ran in it" in asked[0]
    window.commands.run("roll_back")
    settle(window)
    assert not drawer.transaction.isVisible()
    assert window.hub.held(source) is None
    drawer.run()
    settle(window)
    assert drawer.open_pull.table.columns[0].values()[0] > 0
    window.commands.run("begin")
    settle(window)
    assert "nothing ran in it yet" in drawer.transaction.words.text()
    assert window.hub.holding() == [source]
    answer("Roll back")
    window.close_pull(window.current)  # the last one on this source
    assert wait_until(lambda: not window.pulls, 5)
    assert window.hub.holding() == []
    window.hub.begin(source, lambda problem: None)
    settle(window)
    answer("Commit")
    window.close()
    assert wait_until(lambda: not window.isVisible(), 5)


def test_columns_are_written_with_their_tables_on_demand(drawer, window):
    editor = put(
        drawer, "select weather, s.name from visit v join station s on v.station_id = s.station_id where remark is null"
    )
    window.commands.run("text_qualify")
    assert editor.text.startswith("select v.weather, s.name from")
    assert editor.text.endswith("where v.remark is null")
    window.commands.run("text_qualify")
    assert "already qualified" in drawer.problem.text()


def test_a_pull_that_is_changed_on_disk_is_taken_in_or_shown_beside(drawer, window, tmp_path):
    path = tmp_path / "shared.pull"
    put(drawer, "select *\nfrom lab_sample\nwhere 1 = 1\n")
    window.save_pull(path)
    open_pull, text = drawer.open_pull, path.read_text("utf-8")
    path.write_text(text.replace("limit = 100000", "limit = 77"), "utf-8")
    assert wait_until(lambda: open_pull.pull.query.limit == 77, 5)  # noticed while it is open
    assert not open_pull.is_dirty
    assert "the row limit taken in" in window.status.message.text()
    put(drawer, "select *\nfrom lab_sample\nwhere 1 = 1\norder by 1\n")
    path.write_text(path.read_text("utf-8").replace("select *", "select sample_id"), "utf-8")
    window.save_pull()  # not silently over the other's
    assert open_pull.pull.query.text == "select sample_id\nfrom lab_sample\nwhere 1 = 1\norder by 1\n"
    assert "order by 1" in path.read_text("utf-8")
    window.commands.run("undo") if window.focusWidget() is window.grid else open_pull.changes.undo()
    assert open_pull.pull.query.text.startswith("select *")
    open_pull.changes.redo()
    window.save_pull()
    put(drawer, open_pull.pull.query.text.replace("1 = 1", "2 = 2"))
    theirs = path.read_text("utf-8").replace("1 = 1", "3 = 3")
    path.write_text(theirs, "utf-8")
    window.save_pull()
    assert path.read_text("utf-8") == theirs
    assert drawer.proposal.is_open
    assert "the query's text" in drawer.proposal.notes.text()
    assert "3 = 3" in drawer.proposal.lines.toPlainText()
    drawer.proposal.leave_button.click()  # keep mine
    window.save_pull()
    assert "2 = 2" in path.read_text("utf-8")
    put(drawer, open_pull.pull.query.text.replace("2 = 2", "4 = 4"))
    path.write_text(theirs, "utf-8")
    assert wait_until(lambda: drawer.proposal.is_open, 5)
    drawer.proposal.accept_button.click()
    assert "3 = 3" in drawer.editor.text
    assert not open_pull.is_dirty
    path.write_text("no pull", "utf-8")
    window.save_pull()
    assert "can't be read" in window.status.message.text()
    assert path.read_text("utf-8") == "no pull"


def test_brackets_over_several_lines_fold_and_come_back_when_the_caret_goes_in(drawer, window):
    text = "select *\nfrom visit\nwhere visit_id in (\n  1,\n  2,\n  3,\n  4\n)\nand 1 = 1"
    editor = put(drawer, text, at=text.index("2,"))
    lines = [editor.document().findBlockByNumber(n) for n in range(9)]
    window.commands.run("text_fold")
    assert [block.isVisible() for block in lines] == [True, True, True, False, False, False, False, True, True]
    assert editor.textCursor().blockNumber() == 2  # not left behind where it can't be seen
    assert (editor.folding.mark(2), editor.folding.mark(0)) == ("▸", "")
    assert editor.text == text
    editor.moveCursor(QTextCursor.MoveOperation.End)
    cursor = editor.textCursor()
    cursor.setPosition(text.index("3,"))
    editor.setTextCursor(cursor)
    assert all(block.isVisible() for block in lines)
    assert editor.folding.mark(2) == "▾"
    QTest.mouseClick(
        editor._numbers,
        Qt.MouseButton.LeftButton,
        pos=QPoint(4, round(editor.blockBoundingGeometry(lines[2]).center().y())),
    )
    assert editor.folding.is_folded(2)
    editor.grab()
    window.commands.run("text_format")
    assert "1," in editor.text
    put(drawer, "select 1")
    window.commands.run("text_fold")
    assert "no multi-line brackets" in drawer.problem.text()
