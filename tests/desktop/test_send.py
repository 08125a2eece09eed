"""Sending as one does it in the window: files that are there, previews, columns, the clipboard, other sources."""

import gc
import sqlite3
import subprocess
import sys
import time
from contextlib import closing
from dataclasses import replace
from types import SimpleNamespace

import openpyxl
import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication, QCheckBox, QComboBox, QFileDialog, QLineEdit

from nimble_otter.desktop.grid.selection import Block
from nimble_otter.desktop.kit.confirm_dialogs import ExistsQuestion, ask_exists
from nimble_otter.desktop.pulls.step_ref import SEND
from nimble_otter.desktop.send import sending
from nimble_otter.desktop.send.send_tables import SendTables
from nimble_otter.desktop.shell.status_text import work_words
from nimble_otter.pull.model import SendPlan
from nimble_otter.pull.steps import ColumnsStep, Condition, FilterStep
from nimble_otter.send import format_for
from nimble_otter.sources.source import Source, source_of_file
from tests.desktop.conftest import settle


@pytest.fixture
def drawer(window):
    window.open_drawer(SEND)
    settle(window, 0.3)
    return window.send_drawer


def put(window, *plan, **more):
    window.pull.shaping.put(replace(window.pull.pull, send=SendPlan(*plan, **more)))
    settle(window, 0.3)


def write(window):
    window.send_drawer.write.click()
    settle(window)
    return window.status.message.text()


def test_what_happens_to_a_file_that_is_there_is_asked_or_set(window, drawer, tmp_path, monkeypatch):
    path, answers = tmp_path / "a.csv", []
    monkeypatch.setattr(sending, "ask_exists", lambda path, format_: answers.pop())
    put(window, "csv", str(path))
    assert "Sent" in write(window)
    answers.append("")
    assert write(window) == "Nothing was sent."
    answers.append("number")
    assert "a (2).csv" in write(window)
    assert not answers
    put(window, "csv", str(path), exists="append")
    write(window)
    assert len(path.read_text().splitlines()) == 2 * 3870 + 1
    put(window, "csv", str(tmp_path / "{nosuch}.csv"))
    assert "no {nosuch}" in write(window)
    window.pull.last_sent = ""
    drawer.sending._looked_up.clear()
    drawer.refresh()
    assert window.course.stops[-1].under.startswith("last sent")  # from the log


def test_options_made_anew_leave_no_places_of_the_layouts_behind(window, drawer, tmp_path):
    counts = []
    for key in ("csv", "xlsx", "json") * 3:
        put(window, key, str(tmp_path / f"a.{key}"))
        counts.append(sum(type(o).__name__ == "QWidgetItem" for o in gc.get_objects()))
        assert window.send_drawer.form.path.isVisible()
    assert counts[-3:] == counts[3:6]


def test_fields_that_others_need_come_and_go_with_them(window, drawer, tmp_path):
    def fields():
        return {edit.accessibleName() for edit in drawer.findChildren(QLineEdit) if edit.isVisibleTo(drawer)}

    put(window, "csv", str(tmp_path / "a.csv"))
    assert "Names of such files" not in fields()
    combo = next(c for c in drawer.findChildren(QComboBox) if c.accessibleName() == "Binary values")
    combo.setCurrentIndex(combo.findData("files"))
    combo.activated.emit(combo.currentIndex())
    settle(window, 0.3)
    assert "Names of such files" in fields()
    put(window, "sql", str(tmp_path / "a.sql"))
    assert "Primary key" not in fields()
    tick = next(t for t in drawer.findChildren(QCheckBox) if t.accessibleName() == "With CREATE TABLE")
    tick.setChecked(True)
    settle(window, 0.3)
    assert "Primary key" in fields()


def test_the_question_about_a_file_that_is_there(tmp_path, monkeypatch):
    shown = []

    def answer(question):
        shown.append([made.text() for made in question.buttons.values()])
        question.buttons["append"].click()

    monkeypatch.setattr(ExistsQuestion, "exec", answer)
    assert ask_exists(tmp_path / "a.xlsx", format_for("xlsx")) == "append"
    assert shown[0][:3] == ["Add a number", "Replace it", "Replace this sheet only"]
    monkeypatch.setattr(ExistsQuestion, "exec", lambda question: question.reject())
    assert ask_exists(tmp_path / "a.csv", format_for("csv")) == ""


def test_the_preview_is_what_will_be_written_or_says_what_is_wrong(window, drawer, tmp_path):
    put(window, "csv", str(tmp_path / "p.csv"), {"delimiter": "semicolon"})
    write(window)
    shown = drawer.preview.toPlainText().splitlines()
    assert shown == (tmp_path / "p.csv").read_text().splitlines()[:13]
    put(window, "csv", "x.csv", {"date": "PP"})
    assert "not a valid pattern" in drawer._said.text()
    assert drawer.preview.toPlainText() == ""
    put(window, "xlsx", "x.xlsx")
    assert "holds them as values" in drawer._said.text()
    assert "sample_id" in drawer.preview.toPlainText()
    for place in range(drawer.formats.count()):
        drawer.formats.setCurrentRow(place)
        settle(window, 0.2)
        assert drawer.preview.toPlainText() or drawer.plan.format == "source"
    drawer.resize(1400, 300)
    assert not drawer.views.isVisible()


def test_columns_are_ticked_moved_and_renamed_beside_the_options(window, drawer, tmp_path):
    columns = drawer.columns
    columns.item(0).setCheckState(Qt.CheckState.Unchecked)
    settle(window)
    columns.item(0).setText("place")
    settle(window)
    moved = columns.takeItem(1)
    columns.insertItem(0, moved)
    columns.changed.emit("Move columns")
    settle(window)
    (step,) = window.pull.pull.steps
    assert isinstance(step, ColumnsStep)
    assert step.look("station_id").title == "place"
    put(window, "csv", str(tmp_path / "c.csv"))
    write(window)
    assert (tmp_path / "c.csv").read_text().splitlines()[0].startswith("drawn_at,place,")
    window.pull.changes.undo()
    settle(window)


def test_all_rows_or_those_straight_from_the_query(window, drawer, tmp_path):
    window.pull.shaping.add_step(FilterStep((Condition("sql", text="sample_id < 10"),)), "Filter")
    settle(window)
    for scope, rows in (("shown", 9), ("all", 3870), ("query", 3870)):
        put(window, "jsonl", str(tmp_path / f"{scope}.jsonl"), scope=scope)
        assert "Sent" in write(window)
        assert len((tmp_path / f"{scope}.jsonl").read_text().splitlines()) == rows
        assert window.pull.sent.rows == rows
    assert drawer.head.words.text() == "all rows of the query, without showing them"
    assert (tmp_path / "query.jsonl").read_text() == (tmp_path / "all.jsonl").read_text()


@pytest.mark.by_hand
def test_cells_are_copied_in_many_forms_and_pasted_as_they_were(window):
    grid, actions = window.grid, window.actions_on_grid
    grid.selection.blocks = [Block(0, 0, 1, 1), Block(3, 1, 3, 1)]
    actions.copy(header=True)
    settle(window)
    data = QApplication.clipboard().mimeData()
    lines = data.text().splitlines()
    assert lines[0] == "sample_id\tstation_id"
    assert len(lines) == 5
    assert data.html().startswith('<meta charset="utf-8"><table><tr><th>sample_id')
    grid.selection.blocks = [Block(0, 0, 2, 0)]
    for form, text in (
        ("names", "sample_id"),
        ("list", "1, 2, 3"),
        ("json", '{"sample_id":1}'),
        ("sql", "insert into lab_"),
    ):
        actions.copy_as(form)
        settle(window)
        assert text in QApplication.clipboard().text()
    column = next(n for n, c in enumerate(grid.model.columns) if c.name == "bottle")
    grid.selection.blocks, grid.selection.current = [Block(0, column, 0, column)], (0, column)
    QApplication.clipboard().setText("=1+1")
    actions.paste()
    settle(window)
    actions.copy()
    settle(window)
    assert QApplication.clipboard().text() == "'=1+1"  # for a spreadsheet
    grid.selection.blocks, grid.selection.current = [Block(1, column, 1, column)], (1, column)
    actions.paste()
    settle(window)
    assert grid.model.value(1, column) == "=1+1"
    window.layout_state.copying = {"decimal": "comma"}
    place = next(n for n, c in enumerate(grid.model.columns) if c.name == "temperature_c")
    row = next(p for p in range(50) if grid.model.value(p, place) not in (None, int(grid.model.value(p, place) or 0)))
    grid.selection.blocks = [Block(row, place, row, place)]
    actions.copy()
    assert "," in QApplication.clipboard().text()


@pytest.mark.by_hand
def test_a_million_cells_are_copied_in_the_background(window):
    grid = window.grid
    rows, columns = grid.model.rows, len(grid.model.columns)
    grid.selection.blocks = [Block(0, 0, rows - 1, columns - 1)] * 3
    window.actions_on_grid.copy()
    settle(window)
    assert f"{3 * rows * columns:,}".replace(",", "\u2009") in window.status.message.text()
    assert len(QApplication.clipboard().text().splitlines()) == 3 * rows
    grid.selection.blocks = [Block(0, 0, rows - 1, columns - 1)] * 60
    window.actions_on_grid.copy()
    assert "belong in a file" in window.status.message.text()


def test_rows_become_a_table_of_another_source(window, drawer, tmp_path, monkeypatch):
    path = tmp_path / "other.sqlite"
    sqlite3.connect(path).close()
    other = window.hub.add(source_of_file(path))
    settle(window)
    put(window, "source", "", {"source": other.name})
    assert "no table" in drawer._said.text()
    put(window, "source", "", {"source": other.name, "table": "samples", "key": "sample_id"})
    assert "create table samples" in drawer.preview.toPlainText()
    assert "3\u2009870 rows are new in samples" in write(window)
    settle(window)
    assert any(table.name == "samples" for table in window.hub.tables[other.name])
    assert drawer.write.text() == "Send rows"
    write(window)
    assert "samples" in window.status.message.text()  # the key is there already: refused, and said
    put(window, "source", "", {"source": other.name, "table": "samples", "duplicates": "skip"})
    assert "3\u2009870 skipped (key already exists)" in write(window)
    asked = []
    monkeypatch.setattr(sending, "ask_name", lambda source, said: bool(asked.append(said)))
    monkeypatch.setattr(window.hub, "find", lambda name: replace(other, care=True))
    assert write(window) == "Nothing was sent."
    assert "3\u2009870 rows would be written to samples" in asked[0]


def test_rows_are_written_by_the_server_itself(window, drawer, small_demo):
    own = window.pull.pull.source.name

    def offered():
        combo = next(c for c in drawer.findChildren(QComboBox) if c.accessibleName() == "Rows")
        return combo.findData("server") >= 0

    put(window, "source", "", {"source": "elsewhere", "table": "kept"})
    assert not offered()
    put(window, "source", "", {"source": own, "table": "kept"})
    assert offered()
    put(window, "source", "", {"source": own, "table": "kept"}, scope="server")
    assert "computed on the server" in drawer.head.words.text()
    text = drawer.preview.toPlainText()
    assert text.startswith("create table kept as\nselect")
    said = write(window)
    assert "rows are new in kept of" in said, said
    assert any(table.name == "kept" for table in window.hub.tables[own])
    rows = window.pull.shaped.rows
    with closing(sqlite3.connect(small_demo)) as base:
        assert base.execute("select count(*) from kept").fetchone() == (rows,)
    put(window, "source", "", {"source": "elsewhere", "table": "kept"}, scope="server")
    assert "No source is chosen" in write(window)
    items = drawer.formats
    items.setCurrentItem(
        next(i for i in map(items.item, range(items.count())) if i.data(Qt.ItemDataRole.UserRole) == "csv")
    )
    settle(window, 0.3)
    assert (drawer.plan.format, drawer.plan.scope) == ("csv", "shown")
    assert not offered()


def test_tables_of_the_catalogue_go_to_files_unseen(window, tmp_path, monkeypatch):
    source = window.hub.sources[0]

    def settled(asked):
        asked.list.item(0).setCheckState(Qt.CheckState.Unchecked)
        asked.path.setText(str(tmp_path / "{table}.csv"))
        assert asked.send.isEnabled()
        asked.path.setText(str(tmp_path / "all.csv"))
        assert not asked.send.isEnabled()
        assert "put {table} into" in asked.said.text()
        asked.format.setCurrentIndex(asked.format.findData("xlsx"))
        asked.each.setCurrentIndex(1)
        asked._format_chosen()
        asked._browse()
        assert asked.path.text() == str(tmp_path / "elsewhere" / "tables.xlsx")
        asked.path.setText(str(tmp_path / "tables.xlsx"))
        return True

    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda _parent, _said, at: f"{at}/elsewhere")
    monkeypatch.setattr(SendTables, "exec", settled)
    tables = [t for t in window.hub.tables[source.name] if t.name in ("station", "river")]
    window.sources.send_wanted.emit(source, tables)
    settle(window)
    assert "of 2 tables" in window.status.message.text()
    book = openpyxl.load_workbook(tmp_path / "tables.xlsx")
    assert {sheet.title: sheet.max_row for sheet in book.worksheets} == {"river": 8, "station": 43}


def test_long_work_tells_its_rate_and_what_is_left():
    jobs = SimpleNamespace(progress={1: (3000, 9000)})
    for spent, said in (
        (0.5, "Sending 3\u2009000 of 9\u2009000"),
        (2, ", 1\u2009500 a second, 4 s left"),
        (90, "3 min left"),
    ):
        job = SimpleNamespace(number=1, title="Sending", began=time.monotonic() - spent)
        jobs.shown = lambda job=job: job
        assert work_words(jobs).endswith(said)
    jobs.progress[1] = (50, None)
    assert work_words(jobs).startswith("Sending 50, ")


COPIES = """
from nimble_otter.desktop.kit.offscreen import use_offscreen
use_offscreen()
from nimble_otter.desktop.shell.application import make_app
from nimble_otter.desktop.send.sending import _put
from nimble_otter.send.clipboard import Copied
def main():
    app = make_app()
    _put(Copied("a", "<b>a</b>", 1, "=a"))
    app.processEvents()
main()
"""


def test_a_program_that_copied_ends_well():
    assert subprocess.run([sys.executable, "-c", COPIES], capture_output=True).returncode == 0


def test_copies_are_written_as_the_source_of_the_rows_writes(window):
    own = window.pull.pull
    for url, family in (("mariadb://h/d", "mysql"), ("postgresql://h/d", "postgresql"), ("mongodb://h/d", "sqlite")):
        window.pull.pull = replace(own, source=Source("s", url))
        assert window.sending._dialect(window.pull).family == family
    window.pull.pull = own
