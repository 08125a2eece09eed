"""Filling the grid with the rows of the pull in sight."""

from __future__ import annotations

from weakref import WeakKeyDictionary

import numpy as np
from PySide6.QtCore import QObject, Qt, Signal

from nimble_otter.desktop.grid.fitting import ENOUGH
from nimble_otter.desktop.grid.grid import Grid
from nimble_otter.desktop.grid.model import ComparedModel, GroupsModel, RowsModel, model_for
from nimble_otter.desktop.pulls.open_pull import OpenPull
from nimble_otter.desktop.pulls.workspace import Workspace
from nimble_otter.pull.shaped import Shaped
from nimble_otter.table import Table

_Fitted = dict[tuple[str, str, bool], tuple[int, int]]
"""By a column's name, what stands under it and whether two values stand in it: the width that fits, and how many rows
were looked at."""
_LAST = 480
"""Pixels up to which the last column takes what is left, where it holds texts."""


class GridPresenter(QObject):
    """What goes into the grid when rows or what is pending on them change; `shown` when it is there."""

    shown = Signal()

    def __init__(self, workspace: Workspace, grid: Grid) -> None:
        super().__init__(grid)
        self._workspace, self._grid = workspace, grid
        self._fitted: WeakKeyDictionary[OpenPull, _Fitted] = WeakKeyDictionary()
        # when a bar beside the rows came or went, the column that takes what is left is fitted anew
        grid.room_changed.connect(self._refit, Qt.ConnectionType.QueuedConnection)

    def show(self, keep: bool) -> None:
        """The rows as they are now; `keep` leaves the place and the selection where they are."""
        open_pull = self._workspace.pull
        shaped = open_pull.shaped if open_pull is not None else None
        if open_pull is None or shaped is None:
            self._grid.set_model(None, [], False)
        else:
            before = self._grid.model
            model = self._model(open_pull, shaped)
            widths = self._widths(open_pull, model, shaped.table)
            follow = self._follow(open_pull, shaped, before) if keep else None
            self._grid.set_model(model, widths, keep and _has_columns(before, model))
            if follow is not None:
                self._grid.follow(*follow)
        self.shown.emit()

    def _refit(self) -> None:
        open_pull, model = self._workspace.pull, self._grid.model
        shaped = open_pull.shaped if open_pull is not None else None
        if open_pull is not None and shaped is not None and model is not None and model.columns:
            last = self._width(open_pull, model, shaped.table, len(model.columns) - 1)
            self._grid.set_widths(self._filled(open_pull, model, [*self._grid.widths[:-1], last]))

    def _widths(self, open_pull: OpenPull, model: RowsModel | GroupsModel, table: Table) -> list[int]:
        """Widths as they were set, else as they fit; those stay, whatever is edited, filtered or sorted."""
        results = [self._width(open_pull, model, table, at) for at in range(len(model.columns))]
        return self._filled(open_pull, model, results)

    def _width(self, open_pull: OpenPull, model: RowsModel | GroupsModel, table: Table, at: int) -> int:
        column, fitted, rows = model.columns[at], self._fitted.setdefault(open_pull, {}), min(model.rows, ENOUGH)
        width = open_pull.pull.widths.get(column.name)
        if width is None:
            key = column.name, column.under, isinstance(model, ComparedModel) and model.is_pair(column)
            width, seen = fitted.get(key, (0, -1))
            if seen < rows:
                width = self._grid.fitting_width(model, table, at)
                fitted[key] = width, rows
        return width

    def _filled(self, open_pull: OpenPull, model: RowsModel | GroupsModel, results: list[int]) -> list[int]:
        """The widths, the last of them with the room that is left."""
        last, room = model.columns[-1] if model.columns else None, self._grid.viewport().width() - sum(results) - 1
        if (
            last is not None
            and room > 0
            and not last.right
            and last.place >= 0
            and last.name not in open_pull.pull.widths
        ):
            results[-1] = min(results[-1] + room, max(results[-1], _LAST))
        return results

    def _follow(
        self, open_pull: OpenPull, shaped: Shaped, before: RowsModel | GroupsModel | None
    ) -> tuple[int, int] | None:
        """Where the current row stood and stands now, after a look at watched rows."""
        moved, open_pull.moved = open_pull.moved, None
        at = self._grid.selection.current[0]
        if moved is None or not isinstance(before, RowsModel) or shaped.grouped is not None or not shaped.own_rows:
            return None
        was = before.row_id(at) if 0 <= at < before.rows else -1
        now = int(moved[was]) if 0 <= was < len(moved) else -1
        found = np.flatnonzero(shaped.view.row_ids() == now)[:1].tolist() if now >= 0 else []
        return (at, found[0]) if found else None

    def lengthen(self) -> None:
        """Further rows came behind those that are there."""
        open_pull, before = self._workspace.pull, self._grid.model
        shaped = open_pull.shaped if open_pull is not None else None
        if open_pull is None or shaped is None or shaped.grouped is not None:
            return
        model = self._model(open_pull, shaped)
        is_longer = isinstance(before, RowsModel) and 0 < before.rows <= model.rows and _has_columns(before, model)
        if is_longer and isinstance(model, RowsModel):
            had = before.rows if before is not None else 0
            self._grid.lengthen(model)
            if had < ENOUGH:  # widths were taken from a few rows
                self.show(True)
        else:
            self.show(True)

    def _model(self, open_pull: OpenPull, shaped: Shaped) -> RowsModel | GroupsModel:
        conflicts = {o.statement.row_id: o for o in open_pull.report.conflicts} if open_pull.report is not None else {}
        unset = open_pull.cells.unset() if open_pull.edits.added else {}
        steps, before = open_pull.pull.steps, self._grid.model
        return model_for(
            shaped, open_pull.edits, open_pull.shaping.tree_lines(), steps, conflicts, unset, before, open_pull.fresh
        )


def _has_columns(before: RowsModel | GroupsModel | None, model: RowsModel | GroupsModel) -> bool:
    return before is not None and [c.name for c in before.columns] == [c.name for c in model.columns]
