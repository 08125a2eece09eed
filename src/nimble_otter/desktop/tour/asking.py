"""The part of the tour that asks: errors, cuts, stops, pieces, completion, scripts, documents."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import Qt
from PySide6.QtGui import QTextCursor
from PySide6.QtTest import QTest

from nimble_otter.desktop.kit.offscreen import wait_until
from nimble_otter.desktop.tour.guide import Guide, hold
from nimble_otter.pull import Pull, Query
from nimble_otter.pull.steps import Condition, FilterStep


class Asking(Guide):
    """Steps that put queries."""

    def ask(self) -> str:
        """A wrong query is told, the right one runs."""
        window = self.window
        window.show_pull(0)
        self.settle()
        good = self.pull.pull.query.text
        self.put_query("select levl_m\nfrom reading")
        self.run_query()
        problem: Any = self.pull.error
        hold(problem is not None and problem.place is not None and problem.place.column == 8, f"no place in {problem}")
        hold("level_m" in str(problem), "the near name is not offered")
        hold(window.query_drawer.editor.toPlainText() == "select levl_m\nfrom reading", "the text was not kept")
        self.picture("9-query-error")
        self.put_query("select a.reading_id from reading a, reading b")
        window.query_drawer.limit.setText("5000")
        window.query_drawer.limit.editingFinished.emit()
        self.run_query()
        table = self.pull.table
        is_told = self.pull.fetched is not None and self.pull.fetched.was_cut and bool(self.pull.notice)
        hold(table is not None and table.rows == 5000 and is_told, "the row limit gave no notice")
        self.put_query("select count(*) from reading a, reading b, station")
        window.query_drawer.editor.setFocus()
        self.key(Qt.Key.Key_Return, Qt.KeyboardModifier.ControlModifier)
        wait_until(lambda: self.pull.is_running, 5)
        self.key(Qt.Key.Key_Escape)
        hold(wait_until(lambda: not self.pull.is_running, 5), "Stop did not stop the query")
        window.query_drawer.limit.setText("100000")
        window.query_drawer.limit.editingFinished.emit()
        self.put_query(good)
        self.run_query()
        hold(
            self.pull.error is None and self.pull.table is not None and self.pull.table.rows > 4000,
            "the query gave no rows",
        )
        self.picture("1-query")
        self.piece_together(good)
        self.write(good)
        window.show_pull(1)
        self.settle()
        self.put_query(
            "select kind, count(*) as n, avg(flood.level) as level from report group by kind order by n desc"
        )
        self.run_query()
        hold(self.pull.table is not None and self.pull.table.rows == 7, f"grouping documents failed: {self.pull.error}")
        hold("$group" in window.query_drawer.sent.toPlainText(), "the native request is not shown")
        self.put_query(
            "select r.kind, year(r.at) as year, count(*) as readings, round(avg(x.level_m), 2) as level\n"
            "from report r join unnest(r.readings) x on true\nwhere lower(r.place) like '%weir%'\n"
            "group by r.kind, year(r.at)\norder by readings desc"
        )
        self.run_query()
        hold(self.pull.error is None and self.pull.table is not None, f"lists were not opened: {self.pull.error}")
        hold("$unwind" in window.query_drawer.sent.toPlainText(), "the native request of a list is not shown")
        window.query_drawer.native.click()
        self.put_query('{ "flood.level": { "$gt": 4.0 } }')
        self.run_query()
        hold(
            self.pull.error is None and self.pull.table is not None and self.pull.table.rows > 20,
            f"a native filter failed: {self.pull.error}",
        )
        self.picture("10-native")
        window.query_drawer.sql.click()
        self.put_query("select * from report where kind in ('flood watch', 'sighting') and at >= '2031-05-01'")
        self.run_query()
        hold(self.pull.error is None, f"the SELECT failed: {self.pull.error}")
        window.sources.reveal("Field reports", "report")
        self.settle(0.3)
        self.picture("4-documents")
        return (
            "a query with a parameter, completion, a script, a step moved upstream, history, an error at its place, a "
            "cut, a stop, SQL and native requests on documents"
        )

    def piece_together(self, good: str) -> None:
        """The query in pieces: a table along its key, a condition typed in a field, a figure; then as it was."""
        drawer = self.window.query_drawer
        drawer.show_pieces()
        self.settle()
        view = drawer.pieces
        hold(view is not None and len(view.cards.boxes) == 2, "the query is not shown in pieces")
        assert view is not None
        view.rows.preview.setChecked(False)
        view.take_table("visit", drawer.mapToGlobal(drawer.rect().center()))
        hold("join visit v on s.station_id = v.station_id" in drawer.editor.text, "the table was not joined by its key")
        view.rows.begin("where", "r.quality")
        self.type("good")
        self.key(Qt.Key.Key_Return)
        hold("and r.quality = 'good'" in drawer.editor.text, "the condition is not in the text")
        view.cards.joins[2].click()
        hold("left join visit v" in drawer.editor.text, "the join was not turned")
        self.window.toggle_part("right", False)
        self.run_query_in_pieces()
        self.picture("21-pieces")
        self.window.toggle_part("right", True)
        drawer.show_text()
        self.put_query(good)
        self.run_query()

    def run_query_in_pieces(self) -> None:
        """Run the query that was put together in pieces."""
        self.window.commands.run("run")
        self.settle()
        hold(self.pull.error is None and self.pull.table is not None, f"pieces gave no rows: {self.pull.error}")

    def write(self, good: str) -> None:
        """Completion, a script, and a step moved upstream; the pull is left as it was."""
        window, drawer = self.window, self.window.query_drawer
        editor = drawer.editor
        self.put_query("select r.taken_at, r.level_m\nfrom reading r\njoin ")
        editor.moveCursor(QTextCursor.MoveOperation.End)
        editor.setFocus()
        QTest.keyClicks(editor, "st")
        hold(editor.completions is not None and editor.completions.isVisible(), "nothing is offered")
        assert editor.completions is not None
        first = editor.completions.item(0).text()
        hold(first.startswith("station s on r.station_id = s.station_id"), f"the join does not come whole: {first}")
        self.picture("18-completion")
        QTest.keyClick(editor, Qt.Key.Key_Tab)
        hold("join station s on" in editor.toPlainText(), "the offer was not put in")
        before = self.pull
        window.add_pull(Pull("Levels", before.pull.source, Query("select 1 as a")))
        self.settle()
        self.put_query("select river_id, name from river;\nselect count(*) as n from reading;\nselect nam from river;")
        drawer.run_all()
        self.settle()
        hold(
            len(self.pull.outcomes) == 3 and self.pull.outcomes[2].error is not None, "the script's outcomes are wrong"
        )
        self.put_query("select reading_id, level_m, quality\nfrom reading\nwhere level_m > 2")
        self.run_query()
        window.add_step(FilterStep((Condition("is one of", "quality", ("good", "suspect")),)))
        self.settle()
        window.upstream.move_up(0)
        self.picture("19-upstream")
        drawer.proposal.accept_button.click()
        self.settle()
        notice = self.pull.notice
        hold(notice and not notice.is_warning, f"the step moved upstream gave other rows: {notice.text}")
        window.commands.run("history")
        self.picture("20-history")
        hold(window.history_page.list.topLevelItemCount() > 3, "the history is empty")
        window.pages.leave()
        window.close_pull(window.current)
        window.show_pull(window.pulls.index(before))
        self.settle()
        self.put_query(good)
        self.run_query()
