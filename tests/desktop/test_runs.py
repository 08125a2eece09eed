"""One way to run: whoever asks for it, and whatever is in sight when the answer comes."""

import sqlite3
from collections import Counter
from contextlib import closing
from dataclasses import replace

import pytest

from nimble_otter.desktop.detail.record_page import RecordPage
from nimble_otter.desktop.grid.grid import Grid
from nimble_otter.desktop.pulls.step_ref import QUERY
from nimble_otter.desktop.query.query_drawer import QueryDrawer
from nimble_otter.desktop.query.run_questions import AskBeforeRun
from nimble_otter.desktop.steps.course import CourseStrip
from nimble_otter.errors import SourceError
from nimble_otter.pull import Query
from nimble_otter.sources.source import source_of_file
from tests.desktop.conftest import settle


def put(window, text):
    window.open_drawer(QUERY)
    window.query_drawer.editor.setPlainText(text)
    settle(window)


def rows_of(path):
    with closing(sqlite3.connect(path)) as database:
        return database.execute("select count(*) from assay").fetchone()[0]


def from_course(window):
    next(do for word, do in window.course._entries(QUERY) if word == "Run")()


RUNS = {
    "button": lambda window: window.query_drawer.run_all(),
    "course": from_course,
    "command": lambda window: window.commands.run("run_all"),
    "F5": lambda window: window.commands.run("run"),
    "pull": lambda window: window.pull.runs.run(),
}
CARET = ("course", "F5")
"""These run the statement under the caret."""


@pytest.mark.parametrize("way", RUNS)
def test_every_way_to_run_splits_asks_and_wants_values(window, small_demo, monkeypatch, way):
    asked = []
    monkeypatch.setattr(AskBeforeRun, "_agreed", lambda _, source, texts, *rest: asked.append(texts) or False)
    put(window, "select 1 as a; select 2 as b")
    RUNS[way](window)
    settle(window)
    assert window.pull.error is None
    assert len(window.pull.outcomes) == (0 if way in CARET else 2)
    assert [c.name for c in window.grid.model.columns] == ["a" if way in CARET else "b"]
    put(window, "select :n as n")
    RUNS[way](window)
    settle(window)
    assert "n has no value" in str(window.pull.error)
    before = rows_of(small_demo)
    put(window, "delete from assay where 1 = 1")
    assert "an earlier query" not in window.status.fetched.text()  # which goes with the error
    RUNS[way](window)
    settle(window)
    assert asked[-1] == ["delete from assay where 1 = 1"]
    assert rows_of(small_demo) == before > 0


def test_runs_that_nobody_asked_for_only_read(window):
    put(window, "delete from assay where 1 = 1")
    window.pull.runs.run_again()
    settle(window)
    assert window.pull.error is None
    assert not window.pull.outcomes
    put(window, "select count(*) as n from assay")
    window.pull.runs.run_again()
    settle(window)
    assert window.pull.table.columns[0].value(0) > 0


def test_the_error_of_a_run_is_told_at_its_line_of_the_pull_that_asked(window):
    first = window.pull
    window.new_pull()
    second = window.pull
    window.workspace.show(first)
    put(window, "select 1 as a;\n\n\nselect nosuch from station")
    editor = window.query_drawer.editor
    cursor = editor.textCursor()
    cursor.movePosition(cursor.MoveOperation.End)
    editor.setTextCursor(cursor)
    window.query_drawer.run()
    window.workspace.show(second)
    settle(window)
    assert second.error is None
    assert not window.status.message.text()
    window.workspace.show(first)
    assert first.error.place.line == 4
    assert "Line 4" in window.query_drawer.problem.text()


@pytest.mark.parametrize("is_closed", [False, True])
def test_what_becomes_of_a_transaction_is_told_to_the_pull_that_asked(window, monkeypatch, is_closed):
    first = window.pull
    window.new_pull()
    second = window.pull
    window.workspace.show(first)

    def end(commit):
        raise SourceError("The line was lost; it is not known whether it was committed.")

    connection = window.hub.connection(window.hub.known(first.pull.source))
    monkeypatch.setattr(connection, "end", end)
    window.open_drawer(QUERY)
    window.query_drawer.transaction.commit.click()
    if is_closed:
        window.workspace.close(first)
    else:
        window.workspace.show(second)
    settle(window)
    assert second.error is None
    if is_closed:
        assert "not known" in " ".join(window.status.kept)
    else:
        assert "not known" in str(first.error)


def test_a_name_that_begins_like_a_warning_is_none(window, small_demo, tmp_path):
    path = tmp_path / "Cutlery.sqlite"
    path.write_bytes(small_demo.read_bytes())
    source = window.hub.add(replace(source_of_file(path), name="Cutlery"))
    window.add_pull(replace(window.pull.pull, source=source, query=Query("select * from station", limit=None)))
    settle(window)
    assert window.status.writes.text().startswith("Cutlery")
    assert window.status.writes.property("tone") == "muted"
    window.pull.shaping.put(replace(window.pull.pull, query=Query("select * from station", limit=2)))
    window.pull.runs.run()
    settle(window)
    assert window.status.writes.property("tone") == "plum"


def test_each_part_hears_of_a_run_twice_at_most(window, monkeypatch):
    """At its start and at its end, however much of the pull is another then."""
    counts = Counter()

    def count(owner, name):
        real = getattr(owner, name)
        key = f"{owner.__name__}.{name}"
        monkeypatch.setattr(owner, name, lambda *a, **k: (counts.update([key]), real(*a, **k))[1])

    put(window, "select 1 as a union all select 2")
    for owner, name in (
        (CourseStrip, "refresh"),
        (QueryDrawer, "refresh"),
        (Grid, "set_model"),
        (RecordPage, "show_links"),
    ):
        count(owner, name)
    window.commands.run("run")
    settle(window)
    assert window.pull.table.rows == 2
    assert set(counts) == {"CourseStrip.refresh", "QueryDrawer.refresh", "Grid.set_model", "RecordPage.show_links"}
    assert max(counts.values()) <= 2, counts
