"""What the grid does to a pull: editing cells and rows, the clipboard, sorting and filtering from the grid."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

from PySide6.QtCore import Signal

from nimble_otter.desktop.grid.clipboard_cells import exact_cells
from nimble_otter.desktop.grid.copying import block_rows
from nimble_otter.desktop.grid.editing import GridEdits
from nimble_otter.desktop.grid.grid import Grid
from nimble_otter.desktop.grid.model import RowsModel
from nimble_otter.desktop.grid.nested_panel import NestedPanel
from nimble_otter.desktop.grid.selection import Block
from nimble_otter.desktop.kit.mime_types import drag_value
from nimble_otter.desktop.pulls.open_pull import OpenPull
from nimble_otter.desktop.pulls.workspace import Workspace
from nimble_otter.desktop.runtime.state_store import Layout
from nimble_otter.pull.steps import (
    ColumnsStep,
    Condition,
    FigureOf,
    FilterStep,
    GroupStep,
    KeyBy,
    OpenStep,
    SortBy,
    SortStep,
)
from nimble_otter.query.pieces.conditions import literal
from nimble_otter.sources.document_paths import can_be_asked
from nimble_otter.table import MISSING
from nimble_otter.table.ops.group import AggregateFunction
from nimble_otter.table.text.show import plain
from nimble_otter.table.text.text_format import render
from nimble_otter.translation import tr


class GridActions(GridEdits):
    """`copy_wanted` hands on a pull, blocks of rows, the form and exact cells; `condition_wanted` a value for the
    query: its table, its column, how queries write it."""

    copy_wanted = Signal(object, list, str, object)
    condition_wanted = Signal(str, str, str)
    chart_wanted = Signal(str)

    def __init__(self, workspace: Workspace, grid: Grid, layout: Layout) -> None:
        super().__init__(workspace, grid, layout)
        self._panel: NestedPanel | None = None
        grid.header_clicked.connect(self.sort_by)
        grid.group_toggled.connect(self.toggle)
        grid.value_carried.connect(self._carry)

    def _carry(self, position: int, column: int) -> None:
        """Drag a value away, to where it can become a condition."""
        parts = self.value_parts(position, column)
        if parts is not None:
            drag_value(self._grid, parts)

    # --- the clipboard -----------------------------------------------------------------------------------------

    def copy(self, header: bool = False) -> None:
        """The selected blocks as tab-separated text and as a table."""
        self.copy_as("header" if header else "cells")

    def copy_as(self, form: str) -> None:
        """The selected blocks in a form of `send.clipboard`."""
        model, blocks = self._grid.model, self._grid.selection.blocks
        if model is None or not blocks:
            return
        cut, open_pull = self._cut_in(blocks), self._pull()
        if open_pull is None:
            return
        if cut:
            self._say(tr("Fetching whole values first."), False)
            open_pull.truncated.fetch(cut, lambda: self.copy_as(form))
            return
        exact = None
        if form in ("cells", "header") and isinstance(model, RowsModel):
            exact = exact_cells(model, blocks, open_pull.cells.text_of, form == "header")
        table = open_pull.target.table
        name = table.bare if table is not None else open_pull.pull.name
        self.copy_wanted.emit(open_pull, [block_rows(model, block, name) for block in blocks], form, exact)

    def _cut_in(self, blocks: Sequence[Block]) -> set[int]:
        """Rows of which the blocks hold a value that the source cut."""
        open_pull, model = self._pull(), self._grid.model
        if open_pull is None or open_pull.shaped is None or not isinstance(model, RowsModel):
            return set()
        found: set[int] = set()
        for block in blocks:
            places = {model.columns[column].place for column in range(block.left, block.right + 1)}
            rows = open_pull.truncated.rows_in(open_pull.shaped, places)
            if rows and open_pull.shaped.own_rows:
                rows &= {model.row_id(p) for p in range(block.top, block.bottom + 1)}
            found |= rows
        return found

    # --- steps from the grid -----------------------------------------------------------------------------------

    def sort_by(self, column: int, add: bool) -> None:
        """A header click: ascending, descending, off; with Shift a further key."""
        open_pull, model = self._pull(), self._grid.model
        if open_pull is None or model is None:
            return
        name = self._sort_name(open_pull, column)
        if name is None:
            return
        at = next((n for n, s in reversed(list(enumerate(open_pull.pull.steps))) if isinstance(s, SortStep)), None)
        step = open_pull.pull.steps[at] if at is not None else SortStep()
        assert isinstance(step, SortStep)
        old = next((key for key in step.keys if key.column == name), None)
        others = tuple(key for key in step.keys if key.column != name) if add else ()
        if old is None:
            keys = (*others, SortBy(name))
        elif not old.descending:
            keys = tuple(replace(k, descending=True) if k == old else k for k in (step.keys if add else (old,)))
        else:
            keys = others
        if at is None:
            open_pull.shaping.add_step(SortStep(keys), tr("Sort"))
        elif keys:
            open_pull.shaping.set_step(at, replace(step, keys=keys, on=True), tr("Sort"))
        else:
            open_pull.shaping.change(open_pull.pull.without_step(at), tr("Sort off"))

    def _sort_name(self, open_pull: OpenPull, column: int) -> str | None:
        """The name by which a step finds the column; in groups the figures' own names."""
        model = self._grid.model
        assert model is not None
        index = model.columns[column].place
        shaped = open_pull.shaped
        if shaped is None:
            return None
        if shaped.grouped is None:
            return model.columns[column].name
        if index == -2:
            return "rows"
        return shaped.table.fields[0 if index == -1 else index].name

    def value_parts(self, position: int, column: int) -> tuple[str, str, str] | None:
        """(table, column, the value as queries write it) of a cell; None where it is no plain value of a table, or
        no query can name its field."""
        open_pull, model = self._pull(), self._grid.model
        if open_pull is None or open_pull.fetched is None or not isinstance(model, RowsModel):
            return None
        index = model.columns[column].place
        if open_pull.shaped is None or not open_pull.shaped.own_rows or index >= len(open_pull.fetched.table.fields):
            return None
        origins, value = open_pull.fetched.origins, model.value(position, column)
        if value is MISSING or isinstance(value, (bytes, Mapping, list)):
            return None
        text = literal(value, open_pull.dialect, plain(render(value, open_pull.fetched.table.fields[index].form)))
        if open_pull.is_documents:
            path = open_pull.fetched.table.fields[index].origin
            return (open_pull.collection, path, text) if can_be_asked(path) else None
        origin = origins[index] if index < len(origins) else None
        return (origin.table, origin.column, text) if origin is not None else None

    def filter_to(self, position: int, column: int, keep: bool) -> None:
        """Keep, or leave out, rows that have this cell's value."""
        open_pull, model = self._pull(), self._grid.model
        if open_pull is None or not isinstance(model, RowsModel):
            return
        value = model.value(position, column)
        empty = value is None or value is MISSING
        condition = Condition(
            "is one of" if keep else "is none of", model.columns[column].name, () if empty else (value,), empty
        )
        self.add_condition(condition)

    def add_condition(self, condition: Condition) -> int | None:
        """Put a condition into the last Filter step, or into a new one before any group; returns the step's number."""
        open_pull = self._pull()
        if open_pull is None:
            return None
        steps = open_pull.pull.steps
        group = next((n for n, s in enumerate(steps) if isinstance(s, GroupStep)), len(steps))
        at = next((n for n in reversed(range(group)) if isinstance(steps[n], FilterStep) and steps[n].on), None)
        if at is not None:
            step = steps[at]
            assert isinstance(step, FilterStep)
            open_pull.shaping.set_step(at, replace(step, conditions=(*step.conditions, condition)), tr("Filter"))
        else:
            at = next((n for n, s in enumerate(steps) if isinstance(s, (SortStep, GroupStep))), len(steps))
            open_pull.shaping.add_step(FilterStep((condition,)), tr("Filter"), at)
        self._workspace.show_local_step(at)
        return at

    def stop_grouping(self, title: str) -> None:
        """Take a column out of the groups; with the last one the step goes."""
        open_pull = self._pull()
        at = self._group_at()
        if open_pull is None or at is None:
            return
        step = open_pull.pull.steps[at]
        assert isinstance(step, GroupStep)
        keys = tuple(key for key in step.keys if key.title != title)
        if keys:
            open_pull.shaping.set_step(at, replace(step, keys=keys), tr("Stop grouping by {title}", title=title))
            self._workspace.show_local_step(at)
        else:
            open_pull.shaping.change(open_pull.pull.without_step(at), tr("Stop grouping by {title}", title=title))

    def _group_at(self) -> int | None:
        open_pull = self._pull()
        steps = open_pull.pull.steps if open_pull is not None else ()
        return next((n for n, s in enumerate(steps) if isinstance(s, GroupStep) and s.on), None)

    def further_keys(self) -> list[str]:
        """Columns that rows could be grouped by inside the groups that are there."""
        open_pull, at = self._pull(), self._group_at()
        if open_pull is None or at is None or open_pull.course is None or at >= len(open_pull.course.results):
            return []
        step = open_pull.pull.steps[at]
        assert isinstance(step, GroupStep)
        used = {key.column for key in step.keys}
        return [field.name for field in open_pull.course.before(at).table.fields if field.name not in used]

    def group_by(self, name: str, part: str = "") -> None:
        """Group by a column or a part of its values, inside the groups that are there."""
        open_pull = self._pull()
        if open_pull is None or open_pull.table is None:
            return
        at = next((n for n, s in enumerate(open_pull.pull.steps) if isinstance(s, GroupStep)), None)
        if at is not None:
            step = open_pull.pull.steps[at]
            assert isinstance(step, GroupStep)
            if KeyBy(name, part) not in step.keys:
                open_pull.shaping.set_step(at, replace(step, keys=(*step.keys, KeyBy(name, part))), tr("Group"))
        else:
            keys = [f for f in open_pull.table.fields if f.is_number and not f.name.endswith("_id") and f.name != name]
            figures = (FigureOf(AggregateFunction.COUNT), *(FigureOf(AggregateFunction.MEAN, f.name) for f in keys[:1]))
            steps = open_pull.pull.steps
            at = next((n for n, s in enumerate(steps) if isinstance(s, ColumnsStep)), len(steps))
            open_pull.shaping.add_step(GroupStep((KeyBy(name, part),), figures), tr("Group"), at)
        self._workspace.show_local_step(at)

    def open_nested(self, position: int, column: int) -> bool:
        """Show an object or list as a small table under its row; False where the cell holds none."""
        model = self._grid.model
        if not isinstance(model, RowsModel) or not 0 <= column < len(model.columns):
            return False
        value = model.value(position, column)
        if not isinstance(value, (Mapping, list)) or not value:
            return False
        if self._panel is None:
            self._panel = NestedPanel(self._grid)
        self._panel.open(position, column, model.columns[column].name, value)
        return True

    def open_columns(self, column: int) -> None:
        """Make columns of a column's objects: a part of the course like any other step."""
        open_pull, model = self._pull(), self._grid.model
        if open_pull is None or not isinstance(model, RowsModel):
            return
        name = model.columns[column].name
        steps = open_pull.pull.steps
        at = next((n for n, s in enumerate(steps) if isinstance(s, OpenStep)), None)
        if at is None:
            at = next((n for n, s in enumerate(steps) if s.kind in ("group", "sort", "columns")), len(steps))
            open_pull.shaping.add_step(OpenStep((name,)), tr("Open {name}", name=name), at)
        else:
            step = steps[at]
            assert isinstance(step, OpenStep)
            open_pull.shaping.set_step(at, replace(step, paths=(*step.paths, name)), tr("Open {name}", name=name))
        self._workspace.show_local_step(at)

    def holds_objects(self, column: int) -> bool:
        """Whether any of the first rows has an object in a column."""
        model = self._grid.model
        if not isinstance(model, RowsModel):
            return False
        return any(isinstance(model.value(p, column), Mapping) for p in range(min(model.rows, 500)))

    def toggle(self, position: int) -> None:
        """Open or fold the group at a position."""
        open_pull, model = self._pull(), self._grid.model
        if open_pull is not None and model is not None and not isinstance(model, RowsModel):
            line = model.tree_row(position)
            if 0 <= line.depth < len(model.columns) and model.line(position).is_open is not None:
                open_pull.shaping.toggle_group(line.depth, line.index)
