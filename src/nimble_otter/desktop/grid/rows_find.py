"""Finding in the rows: in any column or the current one, only the rows that match, and replacing as pending changes."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from PySide6.QtCore import QTimer

from nimble_otter.desktop.grid.actions import GridActions
from nimble_otter.desktop.grid.column_actions import ColumnActions
from nimble_otter.desktop.grid.grid import Grid
from nimble_otter.desktop.grid.model import RowsModel
from nimble_otter.desktop.kit.find_bar import SearchFields
from nimble_otter.desktop.kit.widgets import button
from nimble_otter.desktop.pulls.new_steps import place_for
from nimble_otter.desktop.pulls.open_pull import OpenPull
from nimble_otter.desktop.pulls.workspace import Workspace
from nimble_otter.desktop.runtime.jobs import LOCAL
from nimble_otter.errors import ConditionError
from nimble_otter.pull.steps import Condition, FilterStep
from nimble_otter.table import View
from nimble_otter.table.core.columns import Ids, Mask
from nimble_otter.table.ops.search import Search, find_rows, mask_of, said
from nimble_otter.table.text.show import grouped, rows_words
from nimble_otter.translation import tr, trn

_PAUSE_MS = 120
MOST_REPLACED = 100_000


class RowsFind(SearchFields):
    """One for a grid, above it."""

    def __init__(self, workspace: Workspace, grid: Grid, actions: GridActions, columns: ColumnActions) -> None:
        self.here = button(tr("this column"), look="chip", tip=tr("Only the column of the current cell"))
        self.only = button(tr("only these rows"), look="chip", tip=tr("Keep only the rows found, as a Filter step"))
        super().__init__(self.here, self.only)
        for chip in (self.here, self.only):
            chip.setCheckable(True)
        self.here.toggled.connect(lambda _: self.count())
        self.only.toggled.connect(self._keep_only)
        self._workspace, self._grid, self._actions, self._column_actions = workspace, grid, actions, columns
        self._found: Mask | None = None
        self._stored: Mask | None = None
        """Where the rows hold it as they were pulled; `_found` is by positions of the grid, with what is pending."""
        self._asked: tuple[View, tuple[int, ...], Search] | None = None
        self._answered: tuple[View, tuple[int, ...], Search] | None = None
        self._filter: tuple[OpenPull, int] | None = None
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(_PAUSE_MS)
        self._timer.timeout.connect(self._look)

    # --- what is looked for ------------------------------------------------------------------------------------

    def open(self, replacing: bool = False) -> None:
        """Show it; what was kept by an earlier search stays."""
        self._filter = None
        self.only.blockSignals(True)
        self.only.setChecked(False)
        self.only.blockSignals(False)
        self.appear(replacing)

    def close_bar(self) -> None:
        """Close the bar, unmark the hits and give the keyboard back to the grid."""
        self._timer.stop()
        self._found = self._stored = self._asked = self._answered = None
        self.hide()
        self._grid.mark_texts(None)
        self._grid.setFocus()

    @property
    def search(self) -> Search:
        """What is looked for, as the fields say."""
        return Search(self.wanted.text(), self.case.isChecked(), self.word.isChecked(), self.pattern.isChecked())

    def _columns(self, model: RowsModel) -> tuple[int, ...]:
        if self.here.isChecked():
            return (model.columns[max(0, self._grid.selection.current[1])].place,)
        return tuple(column.place for column in model.columns)

    def count(self) -> None:
        """Look, after a pause in typing."""
        self._timer.start()

    def refresh(self) -> None:
        """The rows are others now."""
        if self.isVisible() and self.wanted.text():
            self._timer.start()

    def take_edits(self) -> None:
        """Something else is pending now."""
        open_pull = self._workspace.pull
        if self.isVisible() and open_pull is not None and self._answered is not None and self._stored is not None:
            self._found = self._with_pending(open_pull, self._answered[0], self._stored)
            self._say()

    def _look(self) -> None:
        open_pull, model, search = self._workspace.pull, self._grid.model, self.search
        if open_pull is None or open_pull.shaped is None or not isinstance(model, RowsModel) or not search.text:
            self._found = self._stored = self._asked = self._answered = None
            self.said.setText("" if isinstance(model, RowsModel) or not search.text else tr("Groups can't be searched"))
            self._grid.mark_texts(None)
            return
        try:
            search.expression()
        except ConditionError as problem:
            self.said.setText(str(problem))
            return
        self._filter_now(search)
        view, columns = open_pull.shaped.view, self._columns(model)
        self._grid.mark_texts(search.test(), columns)
        if open_pull.truncated.first(open_pull.truncated.rows_in(open_pull.shaped, columns), self._look):
            self.said.setText(tr("Fetching whole values first"))
            return
        asked = self._asked = (view, columns, search)
        before = self._answered
        within = None
        if before is not None and before[:2] == asked[:2] and search.narrows(before[2]):
            within = self._stored

        def show(found: Mask) -> None:
            if self._asked is asked:
                self._stored, self._answered = found, asked
                self._found = self._with_pending(open_pull, view, found)
                self._say()

        open_pull.jobs.submit(
            LOCAL, "find in rows", lambda stop, _: find_rows(view, columns, search, stop, within),
            show, title=tr("Finding"),
        )  # fmt: skip

    def _with_pending(self, open_pull: OpenPull, view: View, found: Mask) -> Mask:
        """Which positions of the grid hold it, where the rows `found` of the view do: new rows stand among them, and
        what is pending counts."""
        model = self._grid.model
        if not isinstance(model, RowsModel) or not (open_pull.edits.cells or open_pull.edits.added):
            return found
        here = np.zeros(model.rows, np.bool_)
        here[self._positions(model, view.row_ids()[found])] = True
        for position in self._positions(model, np.fromiter(open_pull.edits.cells, np.int64)).tolist():
            here[position] = bool(self._places_in(position))
        return here

    @staticmethod
    def _positions(model: RowsModel, row_ids: Ids) -> Ids:
        places = model.positions_of(row_ids)
        return places[places >= 0]

    def _say(self) -> None:
        if self._found is None:
            return
        count = int(np.count_nonzero(self._found))
        position = self._grid.selection.current[0]
        at = int(np.count_nonzero(self._found[: position + 1])) if 0 <= position < len(self._found) else 0
        on_one = 0 <= position < len(self._found) and bool(self._found[position])
        rows = rows_words(count)
        self.said.setText(
            (tr("{at} of {rows}", at=grouped(at), rows=rows) if on_one else rows) if count else tr("not found")
        )

    # --- going about -------------------------------------------------------------------------------------------

    def _places_in(self, position: int) -> list[int]:
        """Columns of a row whose cells hold it."""
        model = self._grid.model
        assert isinstance(model, RowsModel)
        test, wanted = self.search.test(), set(self._columns(model))
        return [
            n
            for n, column in enumerate(model.columns)
            if column.place in wanted and (value := model.value(position, n)) is not None and test(said(value))
        ]

    def step(self, way: int) -> None:
        """The next cell that holds it, row by row, round the end."""
        if self._timer.isActive():
            self._timer.stop()
            self._look()
        model, mask = self._grid.model, self._found
        if not isinstance(model, RowsModel) or mask is None or not mask.any():
            return
        position, column = self._grid.selection.current
        rows = np.flatnonzero(mask)
        if 0 <= position < len(mask) and mask[position]:
            places = [n for n in self._places_in(position) if (n > column if way > 0 else n < column)]
            if places:
                self._go(position, places[0 if way > 0 else -1])
                return
        index = int(np.searchsorted(rows, position, "right" if way > 0 else "left"))
        following = int(rows[(index if way > 0 else index - 1) % len(rows)])
        places = self._places_in(following)
        if places:
            self._go(following, places[0 if way > 0 else -1])

    def _go(self, position: int, column: int) -> None:
        self._grid.go(position, column)
        self._say()

    # --- only these rows ---------------------------------------------------------------------------------------

    def _condition(self, search: Search) -> Condition:
        ways = [name for name, on in (("case", search.case), ("word", search.word), ("pattern", search.pattern)) if on]
        model = self._grid.model
        if self.here.isChecked() and not ways and isinstance(model, RowsModel):
            return Condition("contains", self._column_actions.name_of(self._grid.selection.current[1]), (search.text,))
        return Condition("anywhere", values=(search.text, *ways))

    def _keep_only(self, on: bool) -> None:
        open_pull = self._workspace.pull
        if open_pull is None or not self.search.text:
            return
        if on:
            step = FilterStep((self._condition(self.search),))
            at = open_pull.shaping.add_step(step, tr("Find only"), place_for(step, open_pull.pull.steps))
            self._filter = (open_pull, at)
        elif self._held() is not None and self._filter is not None:
            open_pull.shaping.change(open_pull.pull.without_step(self._filter[1]), tr("Find all"))
            self._filter = None

    def _held(self) -> FilterStep | None:
        """The step that keeps only what is found, while it is there as it was made."""
        if self._filter is None or self._filter[0] is not self._workspace.pull:
            return None
        open_pull, at = self._filter
        step = open_pull.pull.steps[at] if at < len(open_pull.pull.steps) else None
        return step if isinstance(step, FilterStep) and len(step.conditions) == 1 else None

    def _filter_now(self, search: Search) -> None:
        """While typing the step follows, without an entry of undo for each key."""
        step = self._held()
        if step is None or self._filter is None:
            return
        open_pull, at = self._filter
        filter_step = replace(step, conditions=(self._condition(search),))
        if filter_step != step:
            open_pull.shaping.change(open_pull.pull.with_step_at(at, filter_step), tr("Find only"), quiet=True)

    # --- replacing ---------------------------------------------------------------------------------------------

    def _new_text(self, text: str) -> str:
        found, other = self.search.expression(), self.other.text()
        if not self.pattern.isChecked():
            return str(found.sub(lambda _: other, text))
        try:
            return str(found.sub(other, text))
        except Exception:  # noqa: BLE001 - a group that there is none of, in either engine's words
            return text

    def _wanted(
        self, model: RowsModel, open_pull: OpenPull, cells: list[tuple[int, int]]
    ) -> list[tuple[int, int, str | None]]:
        """(row id, place, new text) of cells, as a person would type it."""
        assert open_pull.table is not None
        items: list[tuple[int, int, str | None]] = []
        for position, column in cells:
            index = model.columns[column].place
            text = open_pull.cells.text_of(model.value(position, column), index)
            items.append((model.row_id(position), index, self._new_text(text)))
        return items

    def replace(self) -> None:
        """In the current cell, where it holds it; then on to the next."""
        open_pull, model = self._workspace.pull, self._grid.model
        if (
            open_pull is None
            or not isinstance(model, RowsModel)
            or not self.search.text
            or not self._may_write(open_pull)
        ):
            return
        position, column = self._grid.selection.current
        if position >= 0 and open_pull.truncated.first([model.row_id(position)], self.replace):
            return
        if position >= 0 and column in self._places_in(position):
            wanted = self._wanted(model, open_pull, [(position, column)])
            if not self._actions.put_texts(tr("Replace"), wanted):
                return
        self.step(1)

    def replace_all(self) -> None:
        """In every cell found, as one step of undo; nothing where one of them can't take it. Parts of an object that is
        shown too are replaced in the object."""
        open_pull, model = self._workspace.pull, self._grid.model
        if open_pull is None or open_pull.shaped is None or not isinstance(model, RowsModel) or not self.search.text:
            return
        if not self._may_write(open_pull):
            return
        if open_pull.truncated.first(
            open_pull.truncated.rows_in(open_pull.shaped, self._columns(model)), self.replace_all
        ):
            return
        view, cells = open_pull.shaped.view, list[tuple[int, int]]()
        wanted = set(self._columns(model))
        pending = set(self._positions(model, np.fromiter(open_pull.edits.cells, np.int64)).tolist())
        passed = 0
        for n, column in enumerate(model.columns):
            part = open_pull.cells.part_of(column.place)
            if column.place not in wanted or (part is not None and part[0] in wanted):
                continue
            hit = mask_of(view.table.columns[column.place], view.row_ids(), self.search)
            places = set(self._positions(model, view.row_ids()[hit]).tolist()) - pending
            places |= {p for p in pending if n in self._places_in(p)}
            if open_pull.cells.takes(column.place):
                cells += [(position, n) for position in sorted(places)]
            else:
                passed += bool(places)
        if len(cells) > MOST_REPLACED:
            self.said.setText(
                tr(
                    "{cells_count} cells; at most {most_replaced} at once",
                    cells_count=grouped(len(cells)),
                    most_replaced=grouped(MOST_REPLACED),
                )
            )
            return
        if cells and self._actions.put_texts(tr("Replace"), self._wanted(model, open_pull, cells)):
            rest = (
                trn(
                    " It stays in {passed} column that can't be changed.",
                    " It stays in {passed} columns that can't be changed.",
                    passed,
                    passed=passed,
                )
                if passed
                else ""
            )
            self._workspace.say(
                tr(
                    "Replaced in {cells_count} cells; they are pending in Changes.{rest}",
                    cells_count=grouped(len(cells)),
                    rest=rest,
                ),
                False,
            )
        elif passed and not cells:
            self.said.setText(tr("Found only in cells that can't be edited."))

    def _may_write(self, open_pull: OpenPull) -> bool:
        if not open_pull.target.is_open:
            self.said.setText(open_pull.target.reason)
        return open_pull.target.is_open
