"""Trust in the window: what comes from elsewhere waits, what destroys is shown first, what ends is never called."""

import ast
import gc
import json
import os
from dataclasses import replace
from pathlib import Path

import pytest

from nimble_otter.changes import Action
from nimble_otter.desktop.kit.offscreen import wait_until
from nimble_otter.desktop.kit.widgets import as_plain
from nimble_otter.desktop.pulls.aspect import Aspect
from nimble_otter.pull import Pull, Query, places, save_pull
from nimble_otter.pull.known import KnownPulls
from nimble_otter.pull.steps import Condition, FilterStep
from nimble_otter.query.sql.parameters import Ask
from nimble_otter.sources import Source
from nimble_otter.sources.saved import change_sources
from tests.desktop.conftest import answer, settle
from tests.unit.test_trust import _clear, damage


@pytest.fixture
def elsewhere(tmp_path, base):
    """A pull of somebody else, on a database that is no source here."""
    path = base("create table t (a int); insert into t values (1), (2)", "theirs.sqlite")

    def make(text="select * from t", **more):
        pull = Pull("theirs", Source("theirs", f"sqlite:///{path}"), Query(text, **more))
        save_pull(pull, tmp_path / "theirs.pull")
        return tmp_path / "theirs.pull"

    return make


def test_a_pull_from_elsewhere_reaches_nothing_until_run(make_window, elsewhere):
    window, reached = make_window(demo=False), []
    connect_new = window.hub.connect_new
    window.hub.connect_new = lambda source, *more: reached.append(source.url) or connect_new(source, *more)
    path = elsewhere("select * from t where a < :n", parameters={"n": 5}, asks={"n": Ask("number", "select a from t")})
    window.open_file(path)
    settle(window)
    assert reached == []
    assert window.pull.waits
    assert window.pull.table is None
    waiting = window.query_drawer.waiting
    assert waiting.isVisible()
    assert "theirs.sqlite" in waiting.words.text()
    window.query_drawer.parameters.fetch_choices("n", lambda: None)
    assert not window.jobs.is_running("choices n")
    window.pull.runs.run_again()
    window.workspace.dependencies.rows_for(window.pull, "theirs", True)
    settle(window)
    assert reached == []
    assert window.hub.errors == {}  # and nobody tried
    window.query_drawer.run_button.click()
    settle(window)
    assert window.pull.table.rows == 2
    assert not waiting.isVisible()
    window.close_pull(0)
    window.open_file(path)
    settle(window)
    assert window.pull.table.rows == 2  # it is known now


def test_a_pull_from_elsewhere_that_destroys_is_counted_and_asked_about_first(make_window, elsewhere):
    window, said = make_window(demo=False), []
    window.open_file(elsewhere("delete from t where a = a"))
    answer("Don't run", said)
    window.query_drawer.run_button.click()
    settle(window)
    assert "DELETE on all 2 rows of t" in said[0]
    assert window.pull.waits
    assert not window.hub.known_pulls.has(window.pull.pull)


def test_a_pull_that_is_changed_from_outside_waits_again(make_window, elsewhere):
    window = make_window(demo=False)
    path = elsewhere()
    window.open_file(path)
    window.commands.run("run")
    settle(window)
    assert not window.pull.waits
    elsewhere("select 7 as a from t")
    window.file_watcher.look()
    assert window.pull.waits
    window.pull.runs.run_again()
    settle(window)
    assert window.pull.table.columns[0].values() == [1, 2]


def test_a_joined_pull_that_never_ran_here_is_not_run_for_another(make_window, elsewhere):
    window = make_window(demo=False)
    path = elsewhere()
    shelf = places.shelf_folder()
    shelf.mkdir(parents=True, exist_ok=True)
    path.rename(shelf / "theirs.pull")
    window.new_pull()
    assert window.workspace.dependencies.rows_for(window.pull, "theirs", False) is None
    settle(window)
    assert "was not run here" in window.status.message.text()


def test_drafts_of_a_pull_that_never_ran_wait_after_a_restart(make_window, elsewhere):
    window = make_window(demo=False)
    window.open_file(elsewhere())
    window.close()
    again = make_window(demo=False)
    settle(again)
    assert again.pull.waits
    assert again.pull.table is None
    assert not KnownPulls(places.state_folder() / "known-pulls.json").has(again.pull.pull)


DESTROYING = [
    ("delete from loan where 1 = 1", "the WHERE clause matches every row"), ("drop table loan",
    "DROP table loan, which holds"),
    ("update loan set deposit = 1 where item = item or 1", "the WHERE clause"), ("delete from loan",
    "no WHERE clause"),
    ("alter table volunteer drop column email", "drop column email of volunteer"),
]  # fmt: skip


def test_what_destroys_is_shown_with_what_it_would_hit(make_window):
    window = make_window(demo=False)
    source, said = window.hub.sources[0], []
    window.add_pull(Pull("w", source, Query("")))
    for text, words in DESTROYING:
        window.query_drawer.editor.setPlainText(text)
        answer("Don't run", said)
        window.commands.run("run")
        settle(window)
        assert words in said[-1], said[-1]
        assert window.pull.outcomes == ()
    assert len(said) == len(DESTROYING)
    window.query_drawer.editor.setPlainText("selct 1")
    window.commands.run("run")  # a slip of the keyboard: not asked, but told
    settle(window)
    assert "syntax error" in str(window.pull.error)
    assert window.pull.error.place.column == 1
    window.query_drawer.editor.setPlainText("update loan set rowid = rowid where rowid = -1")
    window.commands.run("run")  # hits nothing: not asked
    settle(window)
    assert len(window.pull.outcomes) == 1
    window.query_drawer.editor.setPlainText("delete from loan where 1 = 1")
    answer("Run", said)
    window.commands.run("run")
    settle(window)
    assert window.pull.outcomes[0].affected > 0


def test_a_long_script_is_read_beside_the_window_before_it_is_run(make_window):
    window = make_window(demo=False)
    window.add_pull(Pull("long", window.hub.sources[0], Query("")))
    lines = [f"select '{'x' * 90}' as a{n}" for n in range(250)]
    window.query_drawer.editor.setPlainText(";\n".join([*lines, "delete from loan where item is null"]))
    window.commands.run("run_all")
    assert window.jobs.is_running(f"{window.pull.key} read")
    assert window.pull.outcomes == ()
    settle(window)
    assert len(window.pull.outcomes) == 251
    assert window.pull.error is None
    tree, outcomes = window.query_drawer.outcomes, window.pull.outcomes
    shown = [[item.text(0), item.text(1), item.data(0, 0x0100)] for n in range(251) for item in [tree.topLevelItem(n)]]
    assert (tree.topLevelItemCount(), shown[9]) == (251, [lines[9], "1 row", (9, 0)])
    parts = [outcomes[:3], outcomes[:9], outcomes[:9] + outcomes[3:5], outcomes[:4], outcomes[1:4], (), outcomes[:2]]
    for part in parts:  # of one that goes on, only what is new is made
        tree.fill(part)
        texts = [tree.topLevelItem(n).text(0) for n in range(tree.topLevelItemCount())]
        assert texts == [outcome.statement.text for outcome in part]


@pytest.mark.by_hand  # its pull is hushed
def test_a_pull_closed_after_a_write_is_never_called_again(make_window, monkeypatch):
    monkeypatch.setattr("nimble_otter.desktop.shell.workbench.FRESH_MS", 30)
    window, crashed = make_window(demo=False), []
    window.jobs.crashed.connect(crashed.append)
    source = window.hub.sources[0]
    table = next(t for t in window.hub.tables[source.name] if t.name == "lab_sample")
    for n in range(6):
        window.open_table(source, table)
        settle(window, 0.02)
        open_pull = window.pull
        place = open_pull.table.index("note") if "note" in [f.name for f in open_pull.table.fields] else 2
        open_pull.changes.edit(Action("Edit", cells=((0, place, f"n{n}"),)))
        window.writes.write(open_pull)
        wait_until(lambda: not window.jobs.is_busy, 20)
        open_pull.after(20, lambda: crashed.append("called"))
        window.close_pull(window.current, ask=False)
        wait_until(lambda: False, 0.06)
        gc.collect()
    assert crashed == []
    window.open_table(source, table)
    open_pull = window.pull
    open_pull.after(1, lambda: crashed.append("called"))
    open_pull.hush()
    open_pull.changed.connect(lambda _: crashed.append("told"))
    open_pull.tell(Aspect.ROWS)
    wait_until(lambda: False, 0.05)
    assert crashed == []


def test_a_damaged_home_never_keeps_the_window_from_starting(make_window, small_demo):
    state, config = places.state_folder(), places.config_folder()
    (state / "drafts").mkdir(parents=True)
    (state / "versions").mkdir()
    config.mkdir(parents=True, exist_ok=True)
    files = [state / "layout.json", state / "history.jsonl", state / "costs.json", state / "known-pulls.json",
             state / "drafts" / "pull-1.json", config / "sources.toml"]  # fmt: skip
    told = 0
    for _ in zip(*map(damage, files), strict=True):
        window = make_window(demo=True)
        told += len(window.status.kept)
        kept = list(window.status.kept)
        window.say("")
        assert window.status.kept == kept  # told until it is read
        assert window.status.notices.isVisible() == bool(kept)
        window.close()
        for path in files:
            _clear(path)
    assert told > 40


def test_two_windows_of_one_home_lose_nothing_of_each_other(make_window, base):
    first, second = make_window(demo=False), make_window(demo=False)
    one = base("create table t (a int)", "one.sqlite")
    two = base("create table t (a int)", "two.sqlite")
    first.open_database(one)
    second.open_database(two)
    settle(first)
    settle(second)
    kept = second.hub.find("two")
    second.hub.add(replace(kept, read_only=True), before=kept)
    first.hub.add(Source("two", f"sqlite:///{base('create table t (a int)', 'three.sqlite')}"))
    assert first.hub.find("two").read_only  # what the other window marked is known with the next change
    assert first.hub.find("two 2") is not None
    settle(first)
    settle(second)
    first.add_pull(Pull("mine", first.hub.sources[0], Query("select 1 as a")))
    second.add_pull(Pull("yours", second.hub.sources[0], Query("select 2 as a")))
    for window in (first, second):
        settle(window)
        window.keep_drafts()
    second.close()
    first.close()
    again = make_window(demo=False)
    settle(again)
    assert {"one", "two"} <= {s.name for s in again.hub.sources}
    assert {"mine", "yours"} <= {s.pull.name for s in again.pulls}
    drafts = [json.loads(p.read_text()) for p in (places.state_folder() / "drafts").glob("*.json")]
    assert len(drafts) == len(again.pulls)


def test_the_same_database_by_another_name_keeps_its_marks(make_window, base, tmp_path):
    path = base("create table t (a int primary key); insert into t values (1)")
    link = tmp_path / "other.sqlite"
    link.symlink_to(path)
    change_sources(
        places.config_folder() / "sources.toml",
        lambda _: [Source("kept", f"sqlite:///{path}", "production", True, True)],
    )
    window = make_window(demo=False)
    reached = window.hub.known(Source("x", f"sqlite+pysqlite:///{link}"))
    assert (reached.read_only, reached.stage) == (True, "production")
    os.unlink(link)
    os.link(path, link)
    added = window.hub.add(Source("again", f"sqlite:///{link}"))
    assert added.read_only
    assert added.care


def test_a_pattern_that_does_not_end_leaves_the_window_free(window):
    open_pull = window.pull
    rows = open_pull.table.rows
    for condition in (
        Condition("sql", text="bottle ~ '^(a+)+$' or sample_id > 0"),
        Condition("sql", text="bottle like '%a%a%a%a%b'"),
    ):
        open_pull.shaping.add_step(FilterStep((condition,)), "Filter")
        settle(window)
        assert open_pull.course.results[-1].error is None
    assert open_pull.table.rows == rows


def test_no_tip_or_message_box_takes_data_as_markup():
    """Every text given to the toolkit's rich places is a plain one of ours, or goes through `as_plain`."""
    assert as_plain("<b>x</b>") != "<b>x</b>"
    assert "&lt;img" in as_plain("<img src='file:///etc/passwd'>")
    assert as_plain("a < b") == "a < b"
    places = {"setToolTip": -1, "setInformativeText": 0, "showText": 1, "setText": 0}

    def is_ours(node):
        if isinstance(node, ast.IfExp):
            return is_ours(node.body) or is_ours(node.orelse)
        if isinstance(node, ast.BinOp):
            return is_ours(node.left)
        is_text = isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id in ("tr", "trn")
        if is_text and {keyword.arg for keyword in node.keywords} <= {"how_many"}:
            return True
        return isinstance(node, ast.Constant) or "as_plain(" in ast.unparse(node)

    bad = []
    for path in (Path(__file__).parents[2] / "src" / "nimble_otter" / "desktop").rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute) and node.func.attr in places:
                is_rich = node.func.attr != "setText" or ast.unparse(node.func.value) == "box"
                if is_rich and node.args and not is_ours(node.args[places[node.func.attr]]):
                    bad.append(f"{path.name}: {ast.unparse(node)}")
    assert bad == []


def test_a_stop_while_a_lock_is_waited_for_is_no_conflict(window, small_demo):
    import sqlite3

    other = sqlite3.connect(small_demo, isolation_level=None)
    other.execute("begin immediate")
    open_pull = window.pull
    open_pull.changes.edit(Action("Edit", cells=((0, 2, "x"),)))
    window.writes.write(open_pull)
    wait_until(lambda: False, 0.3)
    window.jobs.stop_all()
    assert wait_until(lambda: not window.jobs.is_busy, 3)  # not after the five seconds of the library's own waiting
    assert open_pull.report is None
    assert open_pull.edits.count == 1
    other.execute("rollback")
    other.close()
    assert replace(open_pull.pull, name="x")
