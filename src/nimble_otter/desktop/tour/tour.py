"""The tour: one journey through everything in the real window without a screen, leaving pictures and files.

Each step does what a person would, then looks whether it held. The desktop tests take the same journey.
"""

from __future__ import annotations

import csv
import json
import os
import re
import shutil
import sqlite3
import subprocess
import sys
import traceback
from collections.abc import Callable
from contextlib import closing
from dataclasses import replace
from importlib.util import find_spec
from pathlib import Path
from typing import Any

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from nimble_otter.desktop.grid.document_views import JsonView
from nimble_otter.desktop.kit.offscreen import use_offscreen, wait_until
from nimble_otter.desktop.kit.theme import theme
from nimble_otter.desktop.pulls.step_ref import ADD, CHANGES, SEND
from nimble_otter.desktop.tour.comparing import Comparing
from nimble_otter.desktop.tour.guide import StepFailed, hold
from nimble_otter.pull.model import SendPlan
from nimble_otter.pull.steps import ColumnsStep
from nimble_otter.pull.steps.base import step_title
from nimble_otter.send import all_formats
from nimble_otter.sources.catalogue import EntryKind
from nimble_otter.sources.source import source_of_file
from nimble_otter.table.text.column_format import ColumnFormat
from nimble_otter.translation import tr


class Tour(Comparing):
    """A window with a home of its own in `folder`; steps in order, each told and remembered."""

    # --- steps -------------------------------------------------------------------------------------------------

    def reach(self) -> str:
        """Open the sources and read their catalogues."""
        window, hub = self.window, self.window.hub
        for source in hub.sources[:2]:
            hub.open(source)
        self.settle()
        tables = {table.name: table for table in hub.tables["Merrow survey"]}
        hold(tables["reading"].rows == 61_320, "reading is not counted")
        station = tables["reading"].column("station_id")
        hold(station is not None and station.refers == "station.station_id", "the foreign key is not shown")
        hold(tables["high_water"].kind == EntryKind.VIEW, "the view is not told from tables")
        window.sources.reveal("Field reports", "report")
        self.settle(0.4)
        shapes = hub.shapes.get(("Field reports", "report"))
        hold(shapes is not None and len(shapes.shapes) == 5, "the collection has not its five shapes")
        other = self.folder / "other survey.sqlite"
        with closing(sqlite3.connect(other, isolation_level=None)) as base:
            base.execute('create table if not exists "odd ""name"" ü" (id integer primary key, "select" text)')
        window.open_any(other)
        self.settle()
        hold("other survey" in hub.tables, "the file that was dropped is not in Sources")
        page = window.source_page
        window.pages.add_source(True)
        page.url.setText("postgresql://reader@127.0.0.1:9/survey?sslmode=require")
        page.url.textEdited.emit(page.url.text())
        page.name.setText("Catchment HQ")
        page.stage.setCurrentIndex(2)
        page.care.setChecked(True)
        page.test.click()
        self.settle()
        hold(page.outcome.text() and page.save.text() == tr("Save anyway"), "a dead server was not told of")
        hold(page.host.text() == "127.0.0.1" and page.tls.currentData() == "required", "fields and URI differ")
        self.picture("8-add-source")
        from nimble_otter.demo import resolve
        from nimble_otter.pull.places import demo_folder

        page.url.setText(resolve(hub.sources[1], demo_folder()).url)
        page.name.setText("Reports again")
        page.url.textEdited.emit(page.url.text())
        page.test.click()
        self.settle()
        hold(page.save.isEnabled(), f"the document server was not reached: {page.outcome.text()}")
        page.save.click()
        self.settle()
        hold("Reports again" in hub.tables, "the saved server is not in Sources")
        for name in ("other survey", "Reports again"):
            found = hub.find(name)
            hold(found is not None, f"{name} was not saved")
            assert found is not None
            hub.remove(found)
        window.sources.reveal("Merrow survey", "station")
        window.sources.tree.setFocus()
        self.key(Qt.Key.Key_Space)
        self.settle()
        rows = window.glance.grid.model
        hold(window.glance.isVisible() and rows is not None and rows.rows == 42, "Space shows no glance")
        self.picture("14-glance")
        QTest.keyClick(window.glance, Qt.Key.Key_Escape)
        window.commands.run("find_value")
        search = window.search_page
        search.text.setText("otter")
        search.search()
        self.settle()
        hold(search.hits.topLevelItemCount() >= 1, "the value was not found")
        self.picture("15-find-value")
        search.closed.emit()
        window.sources.reveal("Merrow survey", "gauge")
        window.sources.tree.setFocus()
        before = len(window.pulls)
        self.key(Qt.Key.Key_Return)
        self.settle()
        hold(len(window.pulls) == before + 1 and self.pull.table is not None, "Enter did not open the table")
        window.grid.setFocus()
        window.detail.turn(1)
        window.grid.go(1, 0)
        self.settle(0.6)
        links = [link.table for link in window.follower.links]
        hold("station" in links, "a gauge can't be followed to its station")
        window.follower.go(links.index("station"))
        self.settle()
        hold(self.pull.table is not None and self.pull.table.rows == 1, "following gave not the one station")
        window.close_pull(window.current)
        window.close_pull(window.current)
        return "sources, a server tested and saved, five shapes, a glance, a value found, a row followed to its station"

    def look(self) -> str:
        """Look at a cell, a record and a column."""
        window = self.window
        window.grid.setFocus()
        window.grid.go(2, self.place("flood"))
        window.commands.run("detail_0")
        self.settle()
        hold(window.detail.cell.tree.topLevelItemCount() > 0, "the nested value is not a tree")
        self.picture("11-cell")
        window.commands.run("rows_2")
        self.settle()
        shown = window.rows_views.view(2)
        hold(isinstance(shown, JsonView) and '"flood"' in shown.text.toPlainText(), "JSON does not show the documents")
        self.picture("16-json")
        window.commands.run("rows_0")
        window.grid.setFocus()
        window.grid.go(2, self.place("readings"))
        self.key(Qt.Key.Key_Return)
        window.grid.go(3, 0)
        window.show_pull(0)
        window.grid.setFocus()
        window.grid.go(5, self.place("level_m"))
        window.commands.run("detail_1")
        window.detail.step_wanted.emit(1)
        hold(window.grid.selection.current[0] == 6, "next record did not go on")
        window.commands.run("detail_2")
        self.settle(0.3)
        hold(window.detail.column.lines.count() > 8, "the column has no figures")
        window.commands.run("detail_1")
        return "a nested value as a tree, a record and the next, figures of a column"

    def shape(self) -> str:
        """Filter, sort, group, and switch a step off."""
        window, actions = self.window, self.window.actions_on_grid
        pull = self.pull
        hold(pull.shaped is not None and pull.table is not None, "no rows")
        assert pull.shaped is not None
        rows = pull.shaped.rows
        window.grid.go(0, self.place("quality"))
        actions.filter_to(0, self.place("quality"), True)
        self.settle()
        hold(pull.shaped.rows <= rows and window.drawer is window.filter_drawer, "picking a value did not filter")
        self.picture("3-filter")
        window.course.setFocus()
        at = pull.selected.at
        window.course.switch(at)
        self.settle()
        assert pull.course is not None
        hold(pull.shaped.rows == pull.course.before(at).rows, "switching the step off did not bring the rows back")
        pull.changes.undo()
        pull.changes.undo()
        self.settle()
        hold(pull.shaped.rows == rows, "undo did not take the filter back")
        window.grid.header_clicked.emit(self.place("flow_m3s"), False)
        self.settle()
        model = window.grid.model
        assert model is not None
        flows = [model.value(n, self.place("flow_m3s")) for n in range(5)]
        hold(flows == sorted(flows), "a header click did not sort")
        pull.changes.undo()
        actions.group_by("river")
        actions.group_by("station")
        self.settle()
        pull.shaping.toggle_group(0, 0)
        self.settle()
        hold(pull.shaped.grouped is not None and window.grid.rows > 8, "the groups do not open")
        self.picture("3-group")
        for _ in range(3):
            if pull.shaped.grouped is not None:
                pull.changes.undo()
                self.settle()
        hold(pull.shaped.grouped is None, "undo did not take the group away")
        return f"filter, a step switched off, sort by a header, nested groups, undo; {self.shape_more()}"

    def shape_more(self) -> str:
        """Looks of columns, finding, parts of dates, a pinned result: all is undone again."""
        window, pull = self.window, self.pull
        steps = pull.pull.steps
        window.column_actions.pin(self.place("station"))
        window.column_actions.look(self.place("level_m"))
        step = ColumnsStep(
            pinned=("station",),
            looks=(
                ("level_m", ColumnFormat(title="Level, m", decimals=2, paint="bars")),
                ("flow_m3s", ColumnFormat(paint="scale")),
                ("taken_at", ColumnFormat(pattern="EEE d MMM HH:mm")),
            ),
        )
        at = next(n for n, s in enumerate(pull.pull.steps) if s.kind == "columns")
        pull.shaping.set_step(at, step, "Looks")
        self.settle()
        window.drawer_of("columns").begin_at("level_m")
        model = window.grid.model
        titles = [c.title for c in model.columns] if model is not None else []
        hold(window.grid.pinned == 1 and "Level, m" in titles, "the looks of columns are not shown")
        self.picture("22-columns")
        window.commands.run("find_rows")
        window.rows_find.wanted.setText("otterholt")
        window.rows_find.step(1)
        self.settle()
        hold(re.search(r"\d", window.rows_find.said.text()), "the station was not found in the rows")
        window.rows_find.only.click()
        self.settle()
        assert pull.shaped is not None
        hold(0 < pull.shaped.rows < pull.course.before(0).rows if pull.course else False, "only the rows found stay")
        window.rows_find.close_bar()
        window.side.pin()
        window.side.open(next(iter(pull.pinned)))
        hold(window.side.said.text(), "a pinned result is not compared")
        window.side.close_it()
        window.actions_on_grid.group_by("taken_at", "month")
        self.settle()
        hold(pull.shaped.grouped is not None, "rows are not grouped by month")
        pull.shaping.change(replace(pull.pull, steps=steps), "Back")
        self.settle()
        return "columns pinned and formatted, rows found, a pinned result compared, groups by month"

    def change(self) -> str:
        """Edit cells, rehearse and write."""
        window, pull = self.window, self.pull
        hold(pull.target.is_open, pull.target.reason)
        window.grid.setFocus()
        window.grid.go(0, self.place("station"))
        QTest.keyClick(window.grid, Qt.Key.Key_F2)
        hold(window.grid.editor is None and "station" in window.status.message.text(), "no reason was given")
        self.edit(1, "level_m", "1.81")
        rows = window.grid.model
        assert rows is not None
        self.edit(2, "quality", "suspect" if rows.value(2, self.place("quality")) != "suspect" else "good")
        hold(pull.edits.count == 2, "the edits are not pending")
        QTest.keyClick(window.grid, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        window.commands.run("undo")
        window.commands.run("redo")
        hold(pull.edits.count >= 1, "undo and redo lost an edit")
        window.grid.go(7, 0)
        window.commands.run("delete_rows")
        window.open_drawer(CHANGES)
        self.settle()
        self.picture("2-changes-pending")
        model: Any = window.grid.model
        key = int(model.value(1, self.place("reading_id")))
        with closing(sqlite3.connect(self.survey(), timeout=30, isolation_level=None)) as base:
            level = base.execute("select level_m from reading where reading_id = ?", (key,)).fetchone()[0]
            base.execute("update reading set level_m = 2.95 where reading_id = ?", (key,))
        window.changes_drawer.rehearse.click()
        self.settle()
        report = pull.report
        hold(report is not None and len(report.conflicts) == 1, "the conflict was not seen")
        assert report is not None
        hold("2.95" in report.conflicts[0].problem, "the conflict does not say the value")
        self.picture("2-changes")
        theme.use(True)
        self.picture("13-dark")
        theme.use(False)
        window.changes_drawer.write.click()
        self.settle()
        hold(
            pull.report is not None and not pull.report.is_written and pull.edits.count > 0,
            "a conflict was written over",
        )
        with closing(sqlite3.connect(self.survey(), timeout=30, isolation_level=None)) as base:
            base.execute("update reading set level_m = ? where reading_id = ?", (level, key))
        window.changes_drawer.write.click()
        self.settle()
        hold(pull.report is not None and pull.report.is_written, f"not written: {window.status.message.text()}")
        with closing(sqlite3.connect(self.survey(), timeout=30, isolation_level=None)) as base:
            hold(
                base.execute("select level_m from reading where reading_id = ?", (key,)).fetchone()[0] == 1.81,
                "wrong value",
            )
        hold("UPDATE" in pull.reversal.upper(), "no reversal was kept")
        self.picture("12-written")
        window.changes_drawer.review.click()
        hold(pull.reviewing is not None, "the reversal is not under review")
        window.changes_drawer.write.click()
        self.settle()
        with closing(sqlite3.connect(self.survey(), timeout=30, isolation_level=None)) as base:
            back = base.execute("select level_m from reading where reading_id = ?", (key,)).fetchone()[0]
        hold(back == level, "the reversal did not put the value back")
        hold(pull.reviewing is None, "the reversal is still under review")
        return "edits with undo, a reason where none can be made, rehearsed, a conflict kept out, written, reversed"

    def send(self) -> str:
        """Deliver the rows as files."""
        window, pull = self.window, self.pull
        window.open_drawer(SEND)
        hold(pull.shaped is not None, "no rows")
        assert pull.shaped is not None
        rows = pull.shaped.rows
        drawer, folder = window.send_drawer, self.folder / "delivered"
        wanted = [format_ for format_ in all_formats() if format_.key != "parquet" or find_spec("pyarrow") is not None]
        for format_ in wanted:
            path = str(folder / f"{{pull}}-{{count}}{format_.suffix}")
            pull.shaping.put(replace(pull.pull, send=SendPlan(format_.key, path, {}, "replace")))
            drawer.refresh()
            drawer.write.click()
            self.settle()
            hold(pull.sent is not None and pull.sent.rows == rows, f"{format_.word}: {window.status.message.text()}")
            hold(pull.sent is not None and pull.sent.checked, f"{format_.word} was not counted by reading back")
        files = {path.suffix: path for path in folder.iterdir()}
        hold(set(files) == {format_.suffix for format_ in wanted}, f"delivered were {sorted(files)}")
        with files[".csv"].open(newline="", encoding="utf-8") as stream:
            hold(len(list(csv.reader(stream))) == rows + 1, "the CSV has not all rows")
        hold(len(json.loads(files[".json"].read_text("utf-8"))) == rows, "the JSON has not all rows")
        self.send_to_source(rows)
        window.say("")
        options = {"sheet": "May", "first": "B5", "buttons": True}
        pull.sent = None
        pull.shaping.put(
            replace(pull.pull, send=SendPlan("xlsx", "~/deliveries/levels-{date}.xlsx", options, "within"))
        )
        self.picture("5-send")
        window.grid.setFocus()
        window.grid.select_all()
        window.commands.run("copy_header")
        copied = QApplication.clipboard().text().split("\n")
        hold(len(copied) == rows + 1 and copied[0].startswith("station\triver"), "the clipboard has not all rows")
        return f"{rows} rows in {len(wanted)} formats, to another source and to the clipboard"

    def send_to_source(self, rows: int) -> None:
        """The rows become a table of another database."""
        window, path = self.window, self.folder / "levels.sqlite"
        sqlite3.connect(path).close()
        source = window.hub.add(source_of_file(path))
        self.settle()
        options = {"source": source.name, "table": "levels"}
        self.pull.shaping.put(replace(self.pull.pull, send=SendPlan("source", "", options)))
        window.send_drawer.refresh()
        window.send_drawer.write.click()
        self.settle()
        with closing(sqlite3.connect(path)) as base:
            there = base.execute("select count(*) from levels").fetchone()[0]
        hold(there == rows, f"{there} of {rows} rows are in the other source")
        window.hub.remove(source)

    def keep(self) -> str:
        """Save the pull and its draft."""
        window = self.window
        path = self.folder / "High water.pull"
        window.save_pull(path)
        hold(path.read_text("utf-8").startswith("format ="), "the pull was not saved as text")
        self.edit(3, "note", "seen on the tour")
        window.keep_drafts()
        window.close()
        wait_until(lambda: False, 0.1)
        window = self.start()
        self.settle()
        names = [open_pull.pull.name for open_pull in window.pulls]
        hold("High water" in names, f"after a restart there are {names}")
        window.show_pull(names.index("High water"))
        self.settle()
        hold(self.pull.edits.count == 1, "the pending edit did not come back")
        self.pull.changes.edit(self.pull.edits.revert())
        return "saved as text, closed with an edit pending, started again: pull and edit are back"

    def find(self) -> str:
        """Find a table by the find box."""
        window = self.window
        window.commands.run("find")
        window.title.box.setText("lab_s")
        window.title.box.textEdited.emit("lab_s")
        hold(window.find_box.list.item(0).text() == "lab_sample", "the table is not found first")
        self.picture("7-find")
        QTest.keyClick(window.title.box, Qt.Key.Key_Return)
        self.settle()
        hold(self.pull.pull.name == "lab_sample", "Enter did not open what was found")
        window.course.add_wanted.emit(window.course.mapToGlobal(window.course.rect_of(ADD).bottomLeft()))
        self.picture("31-steps", window.step_palette)
        window.step_palette.field.insert(step_title("top"))
        window.step_palette.field.textEdited.emit(step_title("top"))
        QTest.keyClick(window.step_palette.field, Qt.Key.Key_Return)
        self.settle()
        hold([step.kind for step in self.pull.pull.steps] == ["top"], "the palette added no step")
        window.commands.run("guide")
        hold(window.help_page.list.currentItem().text() == "Shape", "the guide opened at another part")
        window.commands.run("settings")
        window.settings_page.open(tr("Stripes"))
        self.picture("32-settings")
        window.commands.run("stop")
        return "a table found by a part of its name, a step from the palette, the guide at that step, the settings"

    def show_start(self) -> str:
        """Show the start page."""
        self.window.show_pull(-1)
        self.picture("6-start")
        hold(self.window.centre.currentWidget() is self.window.start_page, "no start page")
        return "the start page"

    def command_line(self) -> str:
        """Deliver the same rows by the command line."""
        out = self.folder / "delivered" / "by-command.csv"
        command = [
            sys.executable, "-m", "nimble_otter.cli", "query", "--source", str(self.survey()),
            "--sql", "select * from reading join station using (station_id) where taken_at >= :since",
            "--param", "since=2031-05-01", "--filter", "level_m > 3", "--group", "river: count, mean(level_m)",
            "--sort", "rows desc", "--send", str(out),
        ]  # fmt: skip
        result = subprocess.run(command, capture_output=True, text=True, check=False)
        hold(result.returncode == 0, result.stderr)
        hold(out.read_text("utf-8").startswith("river,rows,level_m mean"), "the groups were not delivered")
        again = [sys.executable, "-m", "nimble_otter.cli", "run", str(self.folder / "High water.pull"), "--send"]
        result = subprocess.run(
            [*again, str(self.folder / "delivered" / "run.json")], capture_output=True, text=True, check=False
        )
        hold(result.returncode == 0, result.stderr)
        return "a query and the saved pull, without a window"

    def steps(self) -> list[tuple[str, Callable[[], str]]]:
        """The stages of the tour with their names, in order."""
        return [
            ("Reach", self.reach), ("Ask", self.ask), ("Look", self.look), ("Shape", self.shape),
            ("See", self.see), ("Trace", self.trace), ("Change", self.change),
            ("Send", self.send), ("Repeat", self.repeat), ("Keep", self.keep),
            ("Compare", self.compare), ("Find", self.find),
            ("Command line", self.command_line), ("Start page", self.show_start),
        ]  # fmt: skip

    def close(self) -> None:
        """Close the window."""
        self.window.close()


def run_tour(folder: Path) -> int:
    """Take the whole journey; 0 only when each step held."""
    folder = folder.resolve()
    home = folder / "home"
    shutil.rmtree(home, ignore_errors=True)
    for name in ("pictures", "delivered"):
        shutil.rmtree(folder / name, ignore_errors=True)
    folder.mkdir(parents=True, exist_ok=True)
    os.environ["NIMBLE_OTTER_HOME"] = str(home)
    use_offscreen()
    from nimble_otter.desktop.shell.application import make_app

    make_app()
    tour = Tour(folder)
    failed = 0
    for name, step in tour.steps():
        try:
            print(f"{name}: {step()}", flush=True)
        except Exception as problem:  # noqa: BLE001 - whatever it was, it is told, and the tour goes on
            failed += 1
            print(f"{name}: FAILED, {problem or type(problem).__name__}", flush=True)
            if not isinstance(problem, StepFailed):
                traceback.print_exc()
    tour.close()
    pictures = len(list((folder / "pictures").glob("*.png")))
    print(
        f"{len(tour.steps()) - failed} of {len(tour.steps())} steps held; {pictures} pictures and the files: {folder}"
    )
    return 1 if failed else 0
