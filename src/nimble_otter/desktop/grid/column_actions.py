"""What is done with a column of the grid: its menu, hiding, pinning, moving, renaming, its look and its widths."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace

from PySide6.QtCore import QPoint, QTimer
from PySide6.QtWidgets import QInputDialog, QMenu

from nimble_otter.desktop.grid.actions import GridActions
from nimble_otter.desktop.grid.copying import COPY_FORMS
from nimble_otter.desktop.grid.grid import Grid
from nimble_otter.desktop.grid.model import RowsModel
from nimble_otter.desktop.kit.commands import Commands
from nimble_otter.desktop.kit.widgets import calling
from nimble_otter.desktop.pulls.new_steps import place_for
from nimble_otter.desktop.pulls.step_ref import step_at
from nimble_otter.desktop.pulls.workspace import Workspace
from nimble_otter.pull.steps import CheckStep, ColumnsStep, Computed, ComputeStep, Condition
from nimble_otter.table import Field, Kind
from nimble_otter.table.ops.binning import parts_for
from nimble_otter.translation import tr, tr_value

_MORE_CONDITIONS = {
    "number": ("more than", "at least", "less than", "at most", "between"),
    "text": ("contains", "does not contain", "starts with"),
    "any": ("is", "is not", "is empty", "is not empty"),
}


class ColumnActions:
    """What is done to the columns of a grid; each becomes a part of the course."""

    def __init__(self, workspace: Workspace, grid: Grid, actions: GridActions, commands: Commands) -> None:
        self._workspace, self._grid, self._actions, self._commands = workspace, grid, actions, commands
        grid.menu_wanted.connect(self.menu)
        grid.column_moved.connect(self.move)

    # --- the Columns step --------------------------------------------------------------------------------------

    def _change(self, name: str, change: Callable[[ColumnsStep], ColumnsStep], look_of: str = "") -> None:
        """Change the last Columns step, or a new one; `look_of` opens its editor at a column."""
        open_pull = self._workspace.pull
        if open_pull is None:
            return
        steps = open_pull.pull.steps
        at = next((n for n in reversed(range(len(steps))) if isinstance(steps[n], ColumnsStep)), None)
        if at is None:
            at = open_pull.shaping.add_step(change(ColumnsStep()), name)
        else:
            step = steps[at]
            assert isinstance(step, ColumnsStep)
            open_pull.shaping.set_step(at, replace(change(step), on=True), name)
        if look_of:
            self._workspace.show_step(step_at(at), part=look_of)

    def name_of(self, column: int) -> str:
        """The name by which steps know a column; "" for the tree and the bars of groups, and where none is current."""
        model = self._grid.model
        assert model is not None
        if not 0 <= column < len(model.columns):
            return ""
        index = model.columns[column].place
        open_pull = self._workspace.pull
        assert open_pull is not None
        assert open_pull.shaped is not None
        return open_pull.shaped.table.fields[index].name if index >= 0 else ""

    def hide(self, column: int) -> None:
        """Hide a column, unless it is the only one."""
        model = self._grid.model
        if model is not None and len(model.columns) > 1 and (name := self.name_of(column)):
            self._change(tr("Hide column"), lambda step: replace(step, hidden=(*step.hidden, name)))

    def hide_all_but(self, column: int) -> None:
        """Hide all columns but this one."""
        model, name = self._grid.model, self.name_of(column)
        if model is not None and name:
            others = [self.name_of(n) for n in range(len(model.columns)) if n != column]
            gone = tuple(filter(None, others))
            self._change(
                tr("Hide columns"), lambda step: replace(step, hidden=tuple(dict.fromkeys((*step.hidden, *gone))))
            )

    def show_all(self) -> None:
        """Show every hidden column again."""
        self._change(tr("Show columns"), lambda step: replace(step, hidden=()))

    def pin(self, column: int) -> None:
        """Keep a column in sight at the left, or let it scroll again."""
        name = self.name_of(column)

        def change(step: ColumnsStep) -> ColumnsStep:
            others = tuple(n for n in step.pinned if n != name)
            return replace(step, pinned=others if name in step.pinned else (*others, name))

        if name:
            self._change(tr("Pin column"), change)

    def move(self, column: int, to: int) -> None:
        """Put a column before the one that stands at `to` (behind all: their number)."""
        open_pull, model = self._workspace.pull, self._grid.model
        if (
            open_pull is None
            or open_pull.shaped is None
            or not isinstance(model, RowsModel)
            or to in (column, column + 1)
        ):
            return
        names = [c.name for c in model.columns]
        name = names.pop(column)
        names.insert(to - (to > column), name)
        every = [f.name for f in open_pull.shaped.table.fields]
        order = (*names, *(n for n in every if n not in names))

        def change(step: ColumnsStep) -> ColumnsStep:
            pinned = tuple(n for n in names if n in step.pinned)
            return replace(step, order=tuple(names) if step.only else order, pinned=pinned)

        self._change(tr("Move column"), change)
        self._grid.go(self._grid.selection.current[0], names.index(name))

    def rename(self, column: int) -> None:
        """Another title in the header and in what is sent; steps go on to know the column by its name."""
        name = self.name_of(column)
        model = self._grid.model
        if not name or model is None:
            return
        text, done = QInputDialog.getText(
            self._grid,
            tr("Title of the column"),
            tr("Title of {name} (empty: its name):", name=name),
            text=model.columns[column].title,
        )
        if done:
            title = "" if text.strip() == name else text.strip()
            self._change(tr("Rename column"), lambda step: step.with_look(name, replace(step.look(name), title=title)))

    def look(self, column: int) -> None:
        """Open the Columns step at a column."""
        name = self.name_of(column)
        if name:
            self._change(tr("Format column"), lambda step: step, look_of=name)

    # --- widths ------------------------------------------------------------------------------------------------

    def fit(self, what: str, column: int | None = None) -> None:
        """Widths by data, by header, or all columns into the window; of one column or of all."""
        grid = self._grid
        if grid.model is None:
            return
        if what == "window":
            grid.fit_window()
            return
        for n in range(len(grid.model.columns)) if column is None else [column]:
            grid.fit_column(n, what)

    # --- the menu ----------------------------------------------------------------------------------------------

    def menu(self, position: int, column: int, at: QPoint) -> None:
        """What can be done at a place: by the header, a row head (column -1) or a cell (position -1 in the header)."""
        commands, model = self._commands, self._grid.model
        if model is None:
            return
        menu, flat = QMenu(self._grid), isinstance(model, RowsModel)
        if column >= 0:
            if position >= 0 and flat:
                self._fill_cell(menu, position, column)
            self._fill_column(menu, column, flat)
        if position >= 0:
            menu.addSeparator()
            keys = ["copy", "copy_header"]
            if flat:
                keys += ["paste", "big_editor", "new_row", "duplicate_rows", "delete_rows", "take_back"]
            commands.fill_menu(menu, [*keys, "trace_row", "value_origin"])
            commands.fill_menu(menu.addMenu(tr("Copy as")), [f"copy_{form}" for form in COPY_FORMS])
            if flat:
                more = menu.addMenu(tr("Set and fill"))
                fills = [f"fill_{way}" for way in ("down", "up", "left", "right", "series")]
                commands.fill_menu(more, ["set_empty", "set_blank", "set_default", *fills, "take_back_cells"])
        menu.exec(at)

    def _fill_cell(self, menu: QMenu, position: int, column: int) -> None:
        actions, model = self._actions, self._grid.model
        assert model is not None
        name = model.columns[column].title
        menu.addAction(
            tr("Keep only rows with this {name}", name=name), lambda: actions.filter_to(position, column, True)
        )
        menu.addAction(
            tr("Exclude rows with this {name}", name=name), lambda: actions.filter_to(position, column, False)
        )
        parts = actions.value_parts(position, column)
        if parts is not None:
            menu.addAction(
                tr("Ask for this {name} in the query", name=name), lambda: actions.condition_wanted.emit(*parts)
            )
        if isinstance(model.value(position, column), (Mapping, list)):
            menu.addAction(tr("Open it here"), lambda: actions.open_nested(position, column))
        menu.addSeparator()

    def begin_at(self, kind: str, column: int) -> bool:
        """Filter, sort or group by a column, where that is what a new step is to do; False for other kinds, and where
        the column has no name."""
        name = self.name_of(column)
        if not name or not isinstance(self._grid.model, RowsModel):
            return False
        if kind == "filter":
            self._filter(Condition("is none of", name))
        elif kind == "sort":
            self._actions.sort_by(column, False)
        elif kind == "group":
            self._actions.group_by(name)
        return kind in ("filter", "sort", "group")

    def _filter(self, condition: Condition) -> None:
        """Add a condition and go on typing where its value belongs, once the menu is gone."""
        at = self._actions.add_condition(condition)
        if at is not None:
            QTimer.singleShot(0, self._grid, lambda: self._workspace.show_step(step_at(at), part="value"))

    def _fill_column(self, menu: QMenu, column: int, flat: bool) -> None:
        model, actions = self._grid.model, self._actions
        assert model is not None
        name, title, field = self.name_of(column), model.columns[column].title, model.field(column)
        menu.addAction(tr("Sort"), lambda: actions.sort_by(column, False))
        if flat:
            menu.addAction(tr("Filter by values…"), lambda: self._filter(Condition("is none of", name)))
            more = menu.addMenu(tr("Filter where {title}", title=title))
            for operator in _conditions_for(field):
                more.addAction(tr_value(operator), calling(self._filter, Condition(operator, name)))
            menu.addAction(tr("Group by {title}", title=title), lambda: actions.group_by(name))
            parts = [p for p in parts_for(field.kind) if not p.startswith(("steps", "first"))]
            if parts:
                inner = menu.addMenu(tr("Group by part of {title}", title=title))
                for part in parts:
                    inner.addAction(part, calling(actions.group_by, name, part))
            menu.addAction(tr("Compute with {title}…", title=title), lambda: self._compute(name))
            menu.addAction(tr("Check {title}…", title=title), lambda: self._check(name))
            if actions.holds_objects(column):
                menu.addAction(tr("Open {title} into columns", title=title), lambda: actions.open_columns(column))
        if not flat and not name:
            self._fill_levels(menu)
        if name:
            menu.addAction(tr("Chart {title}", title=title), lambda: actions.chart_wanted.emit(name))
        menu.addAction(tr("Figures"), lambda: self._figures(column))
        menu.addSeparator()
        if name:
            open_pull = self._workspace.pull
            is_pinned = model.columns[column].place >= 0 and column < model.pinned
            menu.addAction(tr("Unpin") if is_pinned else tr("Pin left"), lambda: self.pin(column))
            menu.addAction(tr("Title…"), lambda: self.rename(column))
            menu.addAction(tr("Format…"), lambda: self.look(column))
            menu.addAction(tr("Hide {title}", title=title), lambda: self.hide(column))
            menu.addAction(tr("Hide other columns"), lambda: self.hide_all_but(column))
            hidden = self._hidden() if open_pull is not None else ()
            if hidden:
                back = menu.addMenu(tr("Show again"))
                for other in hidden[:40]:
                    back.addAction(other, calling(self._bring_back, other))
                back.addSeparator()
                back.addAction(tr("All"), self.show_all)
        widths = menu.addMenu(tr("Width"))
        widths.addAction(tr("Fit to data"), lambda: self.fit("data", column))
        widths.addAction(tr("Fit to header"), lambda: self.fit("header", column))
        widths.addSeparator()
        widths.addAction(tr("Fit all to data"), lambda: self.fit("data"))
        widths.addAction(tr("Fit all to headers"), lambda: self.fit("header"))
        widths.addAction(tr("Fit all to the window"), lambda: self.fit("window"))

    def _fill_levels(self, menu: QMenu) -> None:
        open_pull = self._workspace.pull
        grouped = open_pull.shaped.grouped if open_pull is not None and open_pull.shaped is not None else None
        if open_pull is None or grouped is None:
            return
        actions = self._actions
        more = menu.addMenu(tr("Also group by"))
        for other in actions.further_keys()[:60]:
            more.addAction(other, calling(actions.group_by, other))
        keys = [grouped.leaves.fields[n].name for n in range(len(grouped.keys))]
        for key in keys:
            menu.addAction(tr("Stop grouping by {key}", key=key), calling(actions.stop_grouping, key))
        menu.addSeparator()
        menu.addAction(tr("Collapse all groups"), lambda: open_pull.shaping.open_levels(0))
        for depth in range(1, len(grouped.levels)):
            menu.addAction(
                tr("Expand to level {depth}", depth=depth + 1), calling(open_pull.shaping.open_levels, depth)
            )
        menu.addAction(tr("Expand to the rows"), lambda: open_pull.shaping.open_levels(len(grouped.levels)))

    def _hidden(self) -> tuple[str, ...]:
        open_pull = self._workspace.pull
        steps = open_pull.pull.steps if open_pull is not None else ()
        return next((s.hidden for s in reversed(steps) if isinstance(s, ColumnsStep)), ())

    def _bring_back(self, name: str) -> None:
        self._change(tr("Show column"), lambda step: replace(step, hidden=tuple(n for n in step.hidden if n != name)))

    def _compute(self, name: str) -> None:
        open_pull = self._workspace.pull
        if open_pull is None:
            return
        text = name if name.isidentifier() else '"' + name.replace('"', '""') + '"'
        step = ComputeStep((Computed("", text),))
        at = open_pull.shaping.add_step(step, tr("Compute"), place_for(step, open_pull.pull.steps))
        self._workspace.show_step(step_at(at), focus=True)

    def _check(self, name: str) -> None:
        """What must hold for a column: in the last Check step, or a new one."""
        open_pull = self._workspace.pull
        if open_pull is None:
            return
        steps = open_pull.pull.steps
        at = next((n for n in reversed(range(len(steps))) if isinstance(steps[n], CheckStep)), None)
        if at is None:
            at = open_pull.shaping.add_step(CheckStep(), tr("Check"))
        self._workspace.show_step(step_at(at), part=name)

    def _figures(self, column: int) -> None:
        grid = self._grid
        grid.go(max(0, grid.selection.current[0]), column)
        self._commands.run("detail_2")


def _conditions_for(field: Field) -> tuple[str, ...]:
    kind = field.kind
    own = _MORE_CONDITIONS["text"] if kind in (Kind.TEXT, Kind.UUID) else ()
    if kind.is_number or kind.is_moment or kind in (Kind.CLOCK, Kind.SPAN):
        own = _MORE_CONDITIONS["number"]
    return (*_MORE_CONDITIONS["any"], *own)
