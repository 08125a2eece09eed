"""Side by side, over the grid: the chosen rows as columns, or this result against a pinned one or another pull's."""

from __future__ import annotations

import datetime as dt
from dataclasses import replace

import numpy as np
from PySide6.QtCore import QEvent, QObject, Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QStackedWidget, QVBoxLayout, QWidget

from nimble_otter.changes import Edits
from nimble_otter.desktop.grid.grid import Grid
from nimble_otter.desktop.grid.model import Cell, Cells, GridColumn, Line, RowsModel, cell_of, column_width, first_width
from nimble_otter.desktop.kit.widgets import ElidedLabel, boxed, button, clear, combo, label, row
from nimble_otter.desktop.pulls.open_pull import OpenPull
from nimble_otter.desktop.pulls.workspace import Workspace
from nimble_otter.desktop.runtime.jobs import LOCAL
from nimble_otter.errors import ConditionError
from nimble_otter.pull.shaped import all_rows
from nimble_otter.table import Field, Kind, Table, View
from nimble_otter.table.core.columns import Ids, Mask
from nimble_otter.table.ops.combine import MOST_COLUMNS, transposed
from nimble_otter.table.ops.compare import CHANGED, ONLY_HERE, ONLY_THERE, SAME, Differences, compare_views
from nimble_otter.table.text.show import grouped
from nimble_otter.translation import tr
from nimble_otter.values import Value

_WIDTHS = {Kind.TEXT: 150, Kind.OBJECT: 150}
_MARKS = {SAME: ("", ""), CHANGED: ("≠", "edited"), ONLY_HERE: ("+", "new"), ONLY_THERE: ("−", "deleted")}
_ROWS, _BY_PLACE = tr("rows as columns"), tr("row by row")


class DifferencesModel:
    """Rows of two results as lines of one grid: values here, with those there struck through where they differ."""

    def __init__(self, found: Differences, only_different: bool) -> None:
        self._found, self.pinned = found, 0
        self._lines = np.flatnonzero(found.states != SAME) if only_different else np.arange(len(found.states))
        self.rows = len(self._lines)
        fields = found.here.table.fields
        self.columns = [
            GridColumn(fields[a].name, fields[a].origin or fields[a].note, fields[a].is_number, n, title=fields[a].name)
            for n, (a, _) in enumerate(found.pairs)
        ]

    def _sides(self, position: int, column: int) -> tuple[object, object]:
        at, (left, right) = self._lines[position], self._found.pairs[column]
        here, there = int(self._found.here_ids[at]), int(self._found.there_ids[at])
        mine = self._found.here.table.columns[left].value(here) if here >= 0 else None
        return mine, self._found.there.table.columns[right].value(there) if there >= 0 else None

    def field(self, column: int) -> Field:
        """The field that a column shows."""
        return self._found.here.table.fields[self._found.pairs[column][0]]

    def value(self, position: int, column: int) -> Value:
        """The value on this side, or the other's where the row is only there."""
        mine, theirs = self._sides(position, column)
        return theirs if self._found.here_ids[self._lines[position]] < 0 else mine

    def row_id(self, position: int) -> int:
        """-1: the rows of a comparison can't be edited."""
        return -1

    def line(self, position: int) -> Line:
        """What is painted of a compared row, with the mark of its difference."""
        at = self._lines[position]
        head, state = _MARKS[int(self._found.states[at])]
        return Line(head or str(position + 1), Cells(len(self.columns), lambda n: self._cell(position, n)), state)

    def _cell(self, position: int, column: int) -> Cell:
        at, (mine, theirs) = self._lines[position], self._sides(position, column)
        cell = cell_of(theirs if self._found.here_ids[at] < 0 else mine, self.field(column))
        if self._found.changed[column][at]:
            return Cell(cell.text, cell.look, cell_of(theirs, self.field(column)).text)
        return cell


class TurnedModel(RowsModel):
    """Rows as columns; lines where they are not all alike are marked."""

    def __init__(self, table: Table, differ: Mask) -> None:
        super().__init__(all_rows(table), Edits(table.rows), {}, {})
        self._differ, self.pinned = differ, 1

    def line(self, position: int) -> Line:
        """What is painted of a field, marked where the records differ."""
        made = super().line(position)
        return replace(made, head="≠", state="edited") if self._differ[position] else made


class SideBySide(QWidget):
    """One for a window; it lies where the grid lies while it is open."""

    closed = Signal()

    def __init__(self, workspace: Workspace, main: Grid, stack: QStackedWidget) -> None:
        super().__init__()
        self._workspace, self._main, self._stack = workspace, main, stack
        self.open_pull: OpenPull | None = None
        self._what, self._by = _ROWS, ""
        self._found: Differences | None = None
        self._chosen: Ids = np.empty(0, np.int64)
        self.only = button(tr("differences only"), self.refresh_rows, "chip")
        self.only.setCheckable(True)
        self.said = ElidedLabel("", "muted")
        self._choices = QVBoxLayout()
        shut = button("×", self.close_it, "flat", tr("Close"))
        head = row(boxed(self._choices), self.only, self.said, shut, space=8, margins=(12, 5, 8, 5))
        head.setStretch(2, 1)
        strip = boxed(head, "raised")
        self.grid = Grid()
        self.grid.setAccessibleName(tr("Side by side"))
        self.grid.installEventFilter(self)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addWidget(strip)
        layout.addWidget(self.grid, 1)
        stack.addWidget(self)

    # --- opening -----------------------------------------------------------------------------------------------

    def open(self, what: str = _ROWS) -> None:
        """Show the chosen rows as columns, or compare with a pinned result or another pull by its name."""
        open_pull, main = self._workspace.pull, self._main
        if open_pull is None or open_pull.shaped is None:
            return
        self.open_pull, self._what = open_pull, what
        if open_pull.shaped.grouped is None:
            blocks = main.selection.row_count
            positions = main.selection.positions() if blocks > 1 else range(len(open_pull.shaped.view))
            few = np.fromiter((p for _, p in zip(range(MOST_COLUMNS), positions, strict=False)), np.int64)
            self._chosen = open_pull.shaped.view.row_ids().take(few[few < len(open_pull.shaped.view)])
        if not self._by or self._by not in self._names():
            keys = [open_pull.shaped.table.fields[place].name for place, _ in open_pull.target.keys]
            self._by = keys[0] if len(keys) == 1 and open_pull.shaped.own_rows else ""
        self._stack.setCurrentWidget(self)
        self.refresh()
        self.grid.setFocus()

    @property
    def is_open(self) -> bool:
        """Whether it shows the pull that is current."""
        return self.open_pull is not None and self.open_pull is self._workspace.pull

    def close_it(self) -> None:
        """Close it and give the keyboard back to the grid."""
        self.open_pull = None
        self.closed.emit()
        self._main.setFocus()

    def pin(self) -> None:
        """Keep the rows shown as they are, to be compared with those of later runs."""
        open_pull = self._workspace.pull
        if open_pull is None or open_pull.shaped is None:
            return
        name = tr("pinned {now:%H:%M:%S}", now=dt.datetime.now())
        open_pull.pinned[name] = open_pull.shaped.as_shown()
        self._workspace.say(
            tr(
                "{pinned_count} rows are pinned; compare with them after the next run.",
                pinned_count=grouped(len(open_pull.pinned[name])),
            )
        )
        if self.is_open:
            self.refresh()

    def unpin(self) -> None:
        """Let go of the pinned result that is compared with."""
        if self.open_pull is not None:
            self.open_pull.pinned.pop(self._what, None)
            self.refresh()

    # --- filling -----------------------------------------------------------------------------------------------

    def _names(self) -> list[str]:
        assert self.open_pull is not None
        assert self.open_pull.shaped is not None
        return [field.name for field in self.open_pull.shaped.as_shown().table.fields]

    def _others(self) -> dict[str, View]:
        """What can be compared with: pinned results, then the other open pulls."""
        assert self.open_pull is not None
        found = dict(reversed(self.open_pull.pinned.items()))
        for other in self._workspace.pulls:
            if other is not self.open_pull and other.course is not None:
                found.setdefault(other.pull.name, other.course.end.as_shown())
        return found

    def refresh(self) -> None:
        """The rows, or what there is to compare with, are others now."""
        if not self.is_open or self.open_pull is None or self.open_pull.shaped is None:
            return
        others = self._others()
        self._what = self._what if self._what in others else _ROWS
        clear(self._choices)
        what = combo([(_ROWS, _ROWS), *((n, tr("against {n}", n=n)) for n in others)], self._what, tr("Rows shown"))
        what.activated.connect(lambda _: self._choose(what=what.currentData()))
        by = combo(
            [("", _BY_PLACE), *((n, tr("by {n}", n=n)) for n in self._names())], self._by, tr("Rows are matched by")
        )
        by.activated.connect(lambda _: self._choose(by=by.currentData()))
        by.setVisible(self._what != _ROWS)
        what.setMinimumWidth(170)
        unpin = button(tr("Unpin"), self.unpin, "link", tr("Unpin the rows"))
        unpin.setVisible(self._what in self.open_pull.pinned)
        self._choices.addWidget(boxed(row(label(tr("Side by side"), bold=True), what, by, unpin, space=8)))
        self._found = None
        if self._what == _ROWS:
            self._show_rows()
            return
        here, there, keys = self.open_pull.shaped.as_shown(), others[self._what], [self._by] if self._by else []
        asked = self._what, self._by

        def show(found: Differences) -> None:
            if asked == (self._what, self._by) and self.is_open:
                self._found = found
                self.refresh_rows()

        def failed(problem: Exception) -> None:
            self.said.setText(str(problem))
            self.grid.set_model(None, [], False)

        self.said.setText(tr("Comparing"))
        try:
            if len(here) + len(there) <= 40_000:
                show(compare_views(here, there, keys))
                return
        except ConditionError as problem:
            failed(problem)
            return
        self.open_pull.jobs.submit(LOCAL, "side by side", lambda stop, _: compare_views(here, there, keys, stop), show,
                                 failed, title=tr("Comparing"))  # fmt: skip

    def _choose(self, what: str | None = None, by: str | None = None) -> None:
        self._what = self._what if what is None else what
        self._by = self._by if by is None else by
        self.refresh()

    def refresh_rows(self) -> None:
        """Show the comparison anew: all rows, or those that differ."""
        differences = self._found
        if differences is None:
            self._show_rows()
            return
        model = DifferencesModel(differences, self.only.isChecked())
        parts = (
            (CHANGED, tr("changed")),
            (ONLY_HERE, tr("only here")),
            (ONLY_THERE, tr("only there")),
            (SAME, tr("alike")),
        )
        self.said.setText(", ".join(f"{grouped(n)} {word}" for state, word in parts if (n := differences.count(state))))
        widths = [column_width(differences.here.table, a) for a, _ in differences.pairs]
        self.grid.set_model(model, widths, False)  # type: ignore[arg-type]

    def _show_rows(self) -> None:
        """Chosen rows as columns; with the differences alone, only the lines where they are not all alike."""
        open_pull = self.open_pull
        if open_pull is None or open_pull.shaped is None or self._what != _ROWS:
            return
        shown = open_pull.shaped.as_shown()
        ids = self._chosen if open_pull.shaped.grouped is None else shown.row_ids()[:MOST_COLUMNS]
        ids = ids[ids < shown.table.rows]
        table = transposed(View(shown.table, ids))
        differ = _differing(table)
        if self.only.isChecked():
            table, differ = table.take(np.flatnonzero(differ)), differ[differ]
        more = (len(shown) if self._main.selection.row_count < 2 else len(ids)) - len(ids)
        text = tr(
            "{ids_count} rows{more}",
            ids_count=grouped(len(ids)),
            more=tr(", {more} more are not shown", more=grouped(more)) if more > 0 else "",
        )
        self.said.setText(
            tr(
                "{text}; {sum} of {fields_count} columns differ",
                text=text,
                sum=grouped(int(differ.sum())),
                fields_count=len(shown.table.fields),
            )
        )
        model = TurnedModel(table, differ)
        self.grid.set_model(model, [first_width(c, table, _WIDTHS) for c in model.columns], False)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """Close at Escape."""
        is_escape = isinstance(event, QKeyEvent) and event.key() == Qt.Key.Key_Escape
        if is_escape and event.type() == QEvent.Type.ShortcutOverride:
            event.accept()
        elif is_escape and event.type() == QEvent.Type.KeyPress:
            self.close_it()
            return True
        return super().eventFilter(watched, event)


def _differing(table: Table) -> Mask:
    """Lines of a transposed table whose values are not all the same."""
    rows = list(zip(*(column.values() for column in table.columns[1:]), strict=True))
    return np.array([any(v != row[0] for v in row[1:]) for row in rows] or [False] * table.rows, np.bool_)
