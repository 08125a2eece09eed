"""Filling the right pane and the selection's figures from what is current in the grid."""

from __future__ import annotations

from typing import Any

import numpy as np
from PySide6.QtCore import QObject, QTimer, Signal

from nimble_otter.desktop.detail.detail import CELL, COLUMN, RECORD, Detail
from nimble_otter.desktop.detail.last_times import look_back
from nimble_otter.desktop.grid.grid import Grid
from nimble_otter.desktop.grid.model import GroupsModel, RowsModel
from nimble_otter.desktop.pulls.step_ref import SEND
from nimble_otter.desktop.pulls.workspace import Workspace
from nimble_otter.desktop.runtime.jobs import LOCAL, Report
from nimble_otter.errors import OtterError
from nimble_otter.pull.steps import CheckStep
from nimble_otter.sources import Source
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table import View
from nimble_otter.table.kernels.numeric import as_floats
from nimble_otter.table.ops.profile import Profile, profile
from nimble_otter.table.text.show import grouped, shown_float
from nimble_otter.translation import tr

MOST_SUMMED = 5_000_000
_AT_ONCE = 50_000
"""Numbers that are added up without a job."""


class DetailPresenter(QObject):
    """Light pages at once, figures in the background, a moment after the last move. `figures_changed` says those of the
    selection."""

    figures_changed = Signal(str)

    def __init__(self, workspace: Workspace, detail: Detail, grid: Grid) -> None:
        super().__init__(detail)
        self._workspace, self._detail, self._grid = workspace, detail, grid
        self._collection: tuple[Source, str] | None = None
        self._profiled: Any = None
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(90)
        self._later.timeout.connect(self._heavy)
        self._grid.current_changed.connect(lambda *_: self.refresh(moved=True))
        self._grid.selection_changed.connect(self._later.start)
        self._detail.step_wanted.connect(self._step)
        self._detail.shapes.sample_wanted.connect(self._sample)
        self._detail.turned.connect(lambda: self.refresh())
        self._detail.cell.whole_wanted.connect(self._fetch_whole)
        self._laid: tuple[object, ...] = ()

    def _offer_last(self) -> None:
        """While checks or the delivery are edited, what was delivered before stands beside the rows."""
        open_pull = self._workspace.pull
        steps = open_pull.pull.steps if open_pull is not None else ()
        at = open_pull.selected if open_pull is not None else None
        is_check = at is not None and at.is_step and at.at < len(steps) and isinstance(steps[at.at], CheckStep)
        is_offered = at is not None and (at == SEND or is_check)
        self._detail.offer_last(is_offered)
        if open_pull is None or not is_offered or self._detail.page != RECORD:
            return
        laid = (open_pull, open_pull.course, open_pull.beside)
        if laid != self._laid:
            self._laid = laid
            self._detail.last.empty(tr("Looking at the deliveries before."))
            if not look_back(open_pull, self._detail.last.fill):
                self._detail.last.empty(tr("There are no rows to compare, or too many."))

    def refresh(self, moved: bool = False) -> None:
        """Bring the shown page up to date; a move in the grid puts shapes away."""
        if moved and self._detail.showing_shapes and self._grid.hasFocus():
            self._detail.offer_shapes(None)
        self._later.start()
        page, model = self._detail.page, self._grid.model
        self._offer_last()
        if page == RECORD and self._detail.showing_last:
            return
        position, column = self._grid.selection.current
        if model is None or position < 0 or position >= model.rows:
            if page == CELL:
                self._detail.cell.fill(None, None, "")
            elif page == RECORD:
                self._detail.record.empty(tr("Select a row to see all its fields."))
            elif not self._detail.showing_shapes:
                self._detail.column.empty(tr("Select a column to see its statistics."))
            self._profiled = None
            return
        if page == CELL:
            self._fill_cell(model, position, column)
        elif page == RECORD:
            self._fill_record(model, position)

    def _table(self) -> object:
        open_pull = self._workspace.pull
        return open_pull.shaped.view.table if open_pull is not None and open_pull.shaped is not None else None

    def _fill_cell(self, model: RowsModel | GroupsModel, position: int, column: int) -> None:
        value = model.value(position, column)
        if isinstance(model, GroupsModel):
            self._detail.cell.fill(model.field(column), value, "")
            return
        open_pull, index = self._workspace.pull, model.columns[column].place
        assert open_pull is not None
        table = self._table()
        note = ""
        try:
            open_pull.cells.column_at(index)
        except OtterError as refused:
            note = str(refused)
        is_cut = (
            open_pull.shaped is not None
            and open_pull.shaped.own_rows
            and table is open_pull.table
            and open_pull.truncated.is_cut(model.row_id(position), index)
        )
        note = tr("The first 64 kB; the rest is at the source. {note}", note=note).strip() if is_cut else note
        self._detail.cell.fill(model.field(column), value, note, is_cut)

    def _fetch_whole(self) -> None:
        open_pull, model = self._workspace.pull, self._grid.model
        if open_pull is not None and isinstance(model, RowsModel):
            open_pull.truncated.fetch([model.row_id(self._grid.selection.current[0])])

    def _fill_record(self, model: RowsModel | GroupsModel, position: int) -> None:
        places = [n for n, c in enumerate(model.columns) if c.place != -2]
        fields = tuple(model.field(n) for n in places)
        values = [model.value(position, n) for n in places]
        if isinstance(model, RowsModel):
            unset = [model.unset(position, n) for n in places]
            values = [value if cell is None else cell for value, cell in zip(values, unset, strict=True)]
        self._detail.record.fill(fields, values, position, model.rows)

    def _step(self, way: int) -> None:
        position, column = self._grid.selection.current
        self._grid.go(position + way, max(0, column))

    # --- figures -----------------------------------------------------------------------------------------------

    def _heavy(self) -> None:
        self._column_figures()
        self._selection_figures()

    def _column_of(self) -> tuple[View, int] | None:
        """The rows and the column whose figures are asked for."""
        open_pull, model = self._workspace.pull, self._grid.model
        column = self._grid.selection.current[1]
        if open_pull is None or model is None or open_pull.shaped is None or not 0 <= column < len(model.columns):
            return None
        index = model.columns[column].place
        if isinstance(model, RowsModel):
            return open_pull.shaped.view, index
        grouping = open_pull.shaped.grouped
        assert grouping is not None
        if index < 0:
            return grouping.view, grouping.keys[0]
        measured = grouping.measures[index - len(grouping.keys)].column
        return (grouping.view, measured) if measured is not None else None

    def _column_figures(self) -> None:
        found = self._column_of()
        if self._detail.page != COLUMN or self._detail.showing_shapes or found is None:
            return
        view, index = found
        if self._workspace.pull is not None and self._workspace.pull.is_running:
            self._detail.column.empty(tr("Rows are still arriving."))
            self._profiled = None
            return
        wanted = (id(view.table), id(view.ids), len(view), index)
        if wanted == self._profiled:
            return
        self._profiled = wanted
        field = view.table.fields[index]
        if len(view) > 100_000:
            self._detail.column.busy(field)

        def show(figures: Profile) -> None:
            if self._profiled == wanted:
                self._detail.column.fill(field, figures)

        self._workspace.hub.jobs.submit(LOCAL, "profile", lambda stop, _: profile(view, index, stop=stop), show)

    def _selection_figures(self) -> None:
        """Sum and mean of the selected numbers; of one cell, of its whole column."""
        open_pull, model, selection = self._workspace.pull, self._grid.model, self._grid.selection
        if open_pull is None or open_pull.shaped is None or not isinstance(model, RowsModel) or not selection.blocks:
            self.figures_changed.emit("")
            return
        table, block = open_pull.shaped.view.table, selection.blocks[-1]
        single = len(selection.blocks) == 1 and block.cells == 1
        places = [model.columns[c].place for c in range(block.left, block.right + 1)]
        numbers = [p for p in places if table.fields[p].is_number and not _is_key(table.fields[p].name)]
        top, bottom = (0, model.rows - 1) if single else (block.top, block.bottom)
        lead = (
            tr(
                "{rows} × {places_count} selected",
                rows=grouped(block.bottom - block.top + 1),
                places_count=len(places),
            )
            if not single
            else ""
        )
        if not numbers or len(selection.blocks) > 1 or (bottom - top + 1) * len(numbers) > MOST_SUMMED:
            self.figures_changed.emit(lead)
            return
        view, name = open_pull.shaped.view, f"{table.fields[numbers[0]].name}: " if single else f"{lead}: "

        def work(stop: StopToken, _: Report) -> str:
            sums, count = 0.0, 0
            for index in numbers:
                stop.check()
                column = table.columns[index]
                ids = view.row_ids(top, bottom + 1)
                full = ids[~column.empty_at(ids)]
                sums, count = sums + float(np.sum(as_floats(column, full))), count + len(full)
            mean = tr(" · mean {number}", number=shown_float(round(sums / count, 3))) if count else ""
            return tr("{column}sum {total}{mean}", column=name, total=shown_float(round(sums, 3)), mean=mean)

        if (bottom - top + 1) * len(numbers) <= _AT_ONCE:
            self._workspace.hub.jobs.stop("selection")
            self.figures_changed.emit(work(NEVER, lambda _: None))
        else:
            self._workspace.hub.jobs.submit(LOCAL, "selection", work, self.figures_changed.emit)

    # --- shapes ------------------------------------------------------------------------------------------------

    def _sample(self, size: int) -> None:
        if self._collection is not None:
            self._workspace.hub.sample(*self._collection, size)

    def show_collection(self, source: Source, name: str) -> None:
        """Show the shapes of a collection once they are known."""
        self._collection = (source, name)
        self.show_shapes()

    def show_shapes(self) -> None:
        """Show the shapes of the selected collection, as far as they are known."""
        if self._collection is not None:
            source, name = self._collection
            self._detail.offer_shapes(self._workspace.hub.shapes.get((source.name, name)), name)


def _is_key(name: str) -> bool:
    return name == "id" or name.endswith("_id")
