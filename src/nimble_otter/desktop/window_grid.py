"""Filling the grid with the rows of the pull in sight."""

from __future__ import annotations

from typing import TYPE_CHECKING

from nimble_otter.desktop.grid_model import GridColumn, GroupsModel, RowsModel, first_width, model_for
from nimble_otter.pull.shaped import Shaped
from nimble_otter.table import Kind, Table

if TYPE_CHECKING:
    from nimble_otter.desktop.session import OpenPull
    from nimble_otter.desktop.window import Window

_WIDTHS = {
    Kind.INT: 92, Kind.FLOAT: 102, Kind.BOOL: 76, Kind.TIME: 148, Kind.DATE: 104, Kind.DECIMAL: 102, Kind.TEXT: 124,
    Kind.UUID: 312, Kind.OBJECT: 170, Kind.ZONED: 156, Kind.CLOCK: 92, Kind.SPAN: 104,
}  # fmt: skip


class GridFiller:
    """What goes into the grid when rows or what is pending on them change, and what follows the grid."""

    def __init__(self, window: Window) -> None:
        self._window = window

    def show(self, keep: bool) -> None:
        """The rows as they are now; `keep` leaves the place and the selection where they are."""
        window, session = self._window, self._window.pull
        shaped = session.shaped if session is not None else None
        if session is None or shaped is None:
            window.grid.set_model(None, [], False)
            window.rows_views.refresh()
            return
        before = window.grid.model
        model = self._model(session, shaped)
        widths = [session.pull.widths.get(c.name) or first_width(c, shaped.table, _WIDTHS) for c in model.columns]
        window.grid.set_model(model, widths, keep and _has_columns(before, model))
        window.follower.refresh()
        window.rows_views.refresh()

    def lengthen(self) -> None:
        """Further rows came behind those that are there."""
        session, before = self._window.pull, self._window.grid.model
        shaped = session.shaped if session is not None else None
        if session is None or shaped is None or shaped.grouped is not None:
            return
        model = self._model(session, shaped)
        is_longer = isinstance(before, RowsModel) and 0 < before.rows <= model.rows and _has_columns(before, model)
        if is_longer and isinstance(model, RowsModel):
            self._window.grid.lengthen(model)
        else:
            self.show(True)

    def column_width(self, table: Table, place: int) -> int:
        """As wide as a column of its kind is at first."""
        return first_width(GridColumn("", "", False, place), table, _WIDTHS)

    def _model(self, session: OpenPull, shaped: Shaped) -> RowsModel | GroupsModel:
        conflicts = {o.statement.row_id: o for o in session.report.conflicts} if session.report is not None else {}
        own = {place for place, _ in session.target.columns}
        writable = frozenset((*own, *(p for p, (whole, _) in shaped.opened.items() if whole in own)))
        steps, before = session.pull.steps, self._window.grid.model
        return model_for(shaped, session.edits, session.tree_lines(), steps, conflicts, writable, before, session.fresh)


def _has_columns(before: RowsModel | GroupsModel | None, model: RowsModel | GroupsModel) -> bool:
    return before is not None and [c.name for c in before.columns] == [c.name for c in model.columns]
