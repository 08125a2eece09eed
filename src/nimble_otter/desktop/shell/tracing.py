"""Tracing in the window: of the row under the cursor, or of one that a condition names, pulled or not."""

from __future__ import annotations

from functools import cached_property
from typing import TYPE_CHECKING

from PySide6.QtCore import QTimer

from nimble_otter.desktop.grid.model import GroupsModel
from nimble_otter.desktop.kit.commands import Command
from nimble_otter.desktop.pulls.aspect import Aspect
from nimble_otter.desktop.pulls.open_pull import OpenPull
from nimble_otter.desktop.pulls.step_ref import QUERY, step_at
from nimble_otter.desktop.runtime.jobs import LOCAL
from nimble_otter.desktop.shell.shortcuts import CHORDS
from nimble_otter.errors import OtterError
from nimble_otter.translation import tr, trn

if TYPE_CHECKING:
    from nimble_otter.desktop.shell.workbench import Workbench
    from nimble_otter.desktop.steps.trace_strip import TraceStrip
    from nimble_otter.pull.steps import Step
    from nimble_otter.pull.tracing import Passage, Trace
    from nimble_otter.pull.tracing_query import QueryTrace

_MOST_TOLD = 3


class Tracing:
    """What the window has to do with tracing; the strip is made when it is first wanted."""

    def __init__(self, window: Workbench) -> None:
        self._window = window
        self._is_made = False
        self._open_pull: OpenPull | None = None
        self._row = self._here = -1

    def add_commands(self) -> None:
        """The commands of tracing."""
        add, window = self._window.commands.add, self._window

        def has_rows() -> bool:
            return window.pull is not None and window.pull.course is not None

        add(Command("trace_row", tr("Trace this row"), self.trace_current, CHORDS["trace_row"], "view", has_rows))
        add(Command("trace", tr("Why is a row not here?…"), self.open, "", "view", has_rows))
        add(
            Command(
                "value_origin",
                tr("Where does this value come from?"),
                self.trace_value,
                CHORDS["value_origin"],
                "view",
                has_rows,
            )
        )

    @cached_property
    def strip(self) -> TraceStrip:
        """Over the rows."""
        from nimble_otter.desktop.steps.trace_strip import TraceStrip

        trace_strip = TraceStrip()
        self._window.over_rows.insertWidget(0, trace_strip)
        trace_strip.asked.connect(self._find)
        trace_strip.closed.connect(self.close)
        trace_strip.step_chosen.connect(self._show_step)
        trace_strip.remedy_chosen.connect(self._mend)
        self._is_made = True
        return trace_strip

    def open(self) -> None:
        """Ask which row is meant."""
        self._open_pull, self._row = self._window.pull, -1
        self.strip.field.setText("")
        self.strip.show_passages((), tr("which row? Its key, or any condition"))
        self.strip.show()
        self.strip.field.setFocus()

    def close(self) -> None:
        """Put the strip away."""
        self._open_pull, self._row = None, -1
        self.strip.hide()
        self._window.grid.setFocus()

    def trace_current(self) -> None:
        """Trace the row under the cursor."""
        open_pull, model = self._window.pull, self._window.grid.model
        if open_pull is None or open_pull.shaped is None or model is None or not model.rows:
            return
        self.open()
        row = model.row_id(self._window.grid.selection.current[0])
        if not open_pull.shaped.own_rows or row < 0 or open_pull.table is None or row >= open_pull.table.rows:
            self.strip.show_passages((), tr("These rows are made by steps; say which of the rows pulled is meant."))
            return
        self.strip.field.setText(self._condition(open_pull, row))
        self._trace(row)

    def trace_value(self) -> None:
        """Follow the value under the cursor back to the source."""
        from nimble_otter.pull.value_origin import origin_of
        from nimble_otter.query.pieces.model import read_pieces
        from nimble_otter.query.sql.names import Names

        open_pull, model = self._window.pull, self._window.grid.model
        if open_pull is None or open_pull.course is None or open_pull.shaped is None or model is None or not model.rows:
            return
        position, at = self._window.grid.selection.current
        index, row, grouped = model.columns[at].place, model.row_id(position), open_pull.shaped.grouped
        if isinstance(model, GroupsModel):
            line = model.tree_row(position)
            row = line.index if grouped is not None and line.depth == len(grouped.levels) - 1 else -1
            index = len(grouped.keys) - 1 if grouped is not None and index == -1 else index
        self.open()
        if row < 0 or index < 0 or open_pull.shaped is not open_pull.course.end:
            self.strip.show_passages(
                (), tr("Choose a value of a row, or of a group of the deepest level, at the end."), True
            )
            return
        course, text = open_pull.course, open_pull.pull.query.text
        query = read_pieces(text, 0, Names(())) if open_pull.pull.query.language == "sql" else None

        def show(found: tuple[Passage, ...]) -> None:
            if self._open_pull is open_pull:
                self.strip.show_passages(found, "where the value comes from")

        open_pull.jobs.submit(
            LOCAL, f"{open_pull.key} trace", lambda stop, _: origin_of(course, row, index, query, stop), show,
            title=tr("Tracing"),
        )  # fmt: skip

    def refresh(self, what: Aspect) -> None:
        """Another pull is in sight, or its rows are others."""
        if not self._is_made or self._open_pull is None:
            return
        is_own = self._open_pull is self._window.pull
        self.strip.setVisible(is_own)
        if is_own and what & Aspect.ROWS and self._row >= 0:
            self._trace(self._row)

    @staticmethod
    def _condition(open_pull: OpenPull, row: int) -> str:
        """What says which row it is: its key, else its first value."""
        table = open_pull.table
        assert table is not None
        places = [index for index, _ in open_pull.target.keys if index < len(table.fields)] or [0]
        parts = []
        for index in places:
            value, name = table.columns[index].value(row), table.fields[index].name
            quoted = name if name.isidentifier() else '"' + name.replace('"', '""') + '"'
            is_bare = isinstance(value, (int, float)) and not isinstance(value, bool)
            text = str(value) if is_bare else "'" + str(value).replace("'", "''") + "'"
            parts.append(f"{quoted} is null" if value is None else f"{quoted} = {text}")
        return " and ".join(parts)

    def _trace(self, row: int) -> None:
        from nimble_otter.pull.tracing import trace

        open_pull = self._open_pull
        if open_pull is None or open_pull.course is None:
            return
        course = open_pull.course
        if row >= course.table.rows:
            self.strip.show_passages((), tr("The row is not among those pulled any more."), True)
            return
        self._row = row

        def show(found: Trace) -> None:
            if self._open_pull is open_pull:
                self._here = int(found.rows[0]) if len(found.rows) else -1
                self.strip.show_passages(found.passages, tr("it is here") if len(found.rows) else tr("it is not here"))

        open_pull.jobs.submit(LOCAL, f"{open_pull.key} trace", lambda stop, _: trace(course, row, stop), show,
                              title=tr("Tracing"))  # fmt: skip

    def _find(self, condition: str) -> None:
        """Trace the row that a condition names; one that was not pulled, through the query."""
        from nimble_otter.pull.tracing import find_rows

        open_pull = self._open_pull
        if open_pull is None or open_pull.course is None:
            return
        try:
            rows = find_rows(open_pull.course.table, condition)
        except OtterError as problem:
            self.strip.show_passages((), str(problem), True)
            return
        if not len(rows):
            self._ask(open_pull, condition)
            return
        self._trace(int(rows[0]))
        if len(rows) > 1:
            self._window.say(tr("{rows_count} rows are meant; the first is traced.", rows_count=len(rows)), False)

    def _ask(self, open_pull: OpenPull, condition: str) -> None:
        """Ask the query again for the row alone."""
        from nimble_otter.pull.tracing import Fate, Passage
        from nimble_otter.pull.tracing_query import trace_query

        self._row = -1
        source, pull = open_pull.rows_source, open_pull.pull
        self.strip.show_passages((), tr("not among the rows pulled; asking the query for it"))

        def show(found: QueryTrace) -> None:
            if self._open_pull is not open_pull:
                return
            fate = Fate.RETURNED if found.is_returned else Fate.LOST
            count = len(found.asked)
            text = trn(
                "asked {count} time, for one row at most",
                "asked {count} times, for one row at most",
                count,
                count=count,
            )
            self.strip.show_passages((Passage(-1, tr("Query"), fate, found.words()),), text)
            if found.lost is not None:
                self._window.open_drawer(QUERY)
                drawer = self._window.query_drawer
                drawer.show_text()
                drawer.editor.select_span(found.lost.span.start, found.lost.span.end)

        def failed(problem: Exception) -> None:
            if self._open_pull is open_pull:
                self.strip.show_passages((), str(problem), True)

        open_pull.jobs.submit(
            open_pull.hub.lane(source), f"{open_pull.key} trace query",
            lambda stop, _: trace_query(pull, condition, open_pull.hub.connection(source), stop), show, failed,
            title=tr("Asking for the row"),
        )  # fmt: skip

    def _show_step(self, at: int) -> None:
        open_pull = self._open_pull
        if open_pull is None or open_pull is not self._window.pull:
            return
        if at < len(open_pull.pull.steps):
            self._window.open_drawer(QUERY if at < 0 else step_at(at))
        elif self._here >= 0:
            if open_pull.show_at is not None:
                open_pull.shaping.show_rows_at(None)
            open_pull.shaping.open_around(self._here)
            QTimer.singleShot(0, self._window, self._go_there)  # once the rows are in the grid

    def _go_there(self) -> None:
        grid = self._window.grid
        position = grid.model.position_of(self._here) if grid.model is not None else None
        if position is not None:
            grid.go(position, max(0, grid.selection.current[1]))
            grid.setFocus()

    def _mend(self, at: int, step: Step) -> None:
        """Change a step so that the row comes back; undo takes it back."""
        open_pull = self._open_pull
        if open_pull is not None and at < len(open_pull.pull.steps):
            open_pull.shaping.set_step(at, step, tr("Bring the row back"))
