"""What the grid does to a pull: editing cells and rows, the clipboard, sorting and filtering from the grid."""

from __future__ import annotations

import csv
import io
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from typing import Any

from PySide6.QtWidgets import QApplication

from nimble_otter.changes import UNSET, Action, value_text
from nimble_otter.desktop.commands import Commands
from nimble_otter.desktop.grid_model import RowsModel
from nimble_otter.desktop.selection import Block
from nimble_otter.desktop.session import OpenPull
from nimble_otter.desktop.views.grid import Grid
from nimble_otter.desktop.views.nested_panel import NestedPanel
from nimble_otter.errors import OtterError
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
from nimble_otter.query.pieces_conditions import literal
from nimble_otter.table import MISSING
from nimble_otter.table.forms import render
from nimble_otter.table.group import Figure
from nimble_otter.table.show import grouped, plain

MOST_COPIED_CELLS = 2_000_000


class GridActions:
    """Bound to a grid; `pull` gives the pull that is shown, `say` tells the user, `open_step` shows a step's drawer."""

    def __init__(
        self,
        grid: Grid,
        pull: Callable[[], OpenPull | None],
        say: Callable[[str, bool], None],
        open_step: Callable[[int], None],
        commands: Commands,
    ) -> None:
        self._grid, self._pull, self._say, self._open_step, self._commands = grid, pull, say, open_step, commands
        self._panel: NestedPanel | None = None
        grid.edit_wanted.connect(lambda position, column: self.begin_edit(position, column, None))
        grid.typed.connect(self.begin_edit)
        grid.header_clicked.connect(self.sort_by)
        grid.group_toggled.connect(self.toggle)
        grid.value_parts = self.value_parts
        self.ask_for: Callable[[str, str, str], object] = lambda table, column, said: None
        self.jump: Callable[[int, str], object] = lambda column, text: None

    # --- editing -----------------------------------------------------------------------------------------------

    def _rows(self) -> tuple[OpenPull, RowsModel] | None:
        """The pull and its flat rows, or None with the reason said."""
        session, model = self._pull(), self._grid.model
        if session is None or model is None:
            return None
        if not isinstance(model, RowsModel):
            self._say("Groups can't be edited; switch the Group step off, or show rows before it.", True)
            return None
        if session.shaped is not None and not session.shaped.own_rows:
            self._say("These rows were made by a step; show the rows before it to change them.", True)
            return None
        return session, model

    def _only_shows(self) -> bool:
        """Whether no cell here can be typed over, so that letters are free to go about."""
        session = self._pull()
        if session is None or session.shaped is None or not isinstance(self._grid.model, RowsModel):
            return session is not None
        return not session.shaped.own_rows or not session.target.is_open

    def begin_edit(self, position: int, column: int, typed: str | None) -> None:
        """Open the editor over a cell, with what was typed or what is there; say why when it can't be edited."""
        if typed is not None and self._only_shows():
            self.jump(column, typed)
            return
        found = self._rows()
        if found is None:
            if not isinstance(self._grid.model, RowsModel) and self._grid.model is not None and typed is None:
                self.toggle(position)
            return
        session, model = found
        if typed is None and self.open_nested(position, column):
            return
        row, place = model.row_id(position), model.columns[column].place
        try:
            session.target.column(place)
        except OtterError as refused:
            self._say(str(refused), True)
            return
        if row in session.edits.deleted:
            self._say("The row is marked to be deleted; take that back first (Ctrl+Z).", True)
            return
        if session.whole.is_cut(row, place):
            self._say("Fetching the whole value first.", False)
            session.whole.fetch([row], lambda: self.begin_edit(position, column, typed))
            return
        assert session.table is not None
        field = session.table.fields[place]
        before = model.value(position, column)
        text = value_text(before, field)
        editor = self._grid.open_editor(
            position,
            column,
            text if typed is None else typed,
            lambda value: self._take(session, row, place, value, text, before),
        )
        if typed is None:
            editor.selectAll()

    def _take(self, session: OpenPull, row: int, place: int, text: str, shown: str, before: Any) -> bool:
        if text == shown:
            return True
        assert session.table is not None
        try:
            value = session.typed(text, place)
        except OtterError as refused:
            self._say(str(refused), True)
            editor = self._grid.editor
            if editor is not None:
                editor.mark(str(refused))
            return False
        session.edit(Action("Edit", ((row, place, self._or_unset(session, row, place, value)),)))
        return True

    @staticmethod
    def _or_unset(session: OpenPull, row: int, place: int, value: Any) -> Any:
        """A value that is what was fetched is no edit."""
        assert session.table is not None
        if session.edits.is_new(row):
            return value
        stored = session.table.columns[place].value(row)
        return UNSET if stored is not MISSING and stored == value and type(stored) is type(value) else value

    def put_texts(self, name: str, wanted: list[tuple[int, int, str | None]]) -> bool:
        """Set texts (None: empty) at (row id, place), all or none."""
        session = self._pull()
        assert session is not None
        assert session.table is not None
        cells = []
        try:
            for row, place, text in wanted:
                if row in session.edits.deleted:
                    continue
                value = session.typed(text, place)
                cells.append((row, place, self._or_unset(session, row, place, value)))
        except OtterError as refused:
            self._say(f"Nothing was changed: {refused}", True)
            return False
        session.edit(Action(name, tuple(cells)))
        return True

    def set_empty(self) -> None:
        """Empty (NULL) in every selected cell."""
        found = self._rows()
        if found is None:
            return
        _, model = found
        wanted: list[tuple[int, int, str | None]] = [
            (model.row_id(position), model.columns[column].place, None)
            for block in self._grid.selection.blocks
            for position in range(block.top, block.bottom + 1)
            for column in range(block.left, block.right + 1)
        ]
        self.put_texts("Set empty", wanted)

    def paste(self) -> None:
        """A block from the clipboard at the current cell; lines below the last row become new rows."""
        found = self._rows()
        block = read_block(QApplication.clipboard().text())
        if found is None or not block:
            return
        session, model = found
        if not session.target.is_open:
            self._say(session.target.reason, True)
            return
        top, left = self._grid.selection.current
        top, left = max(0, top), max(0, left)
        blocks = self._grid.selection.blocks
        if len(block) == 1 and len(block[0]) == 1 and blocks and blocks[-1].cells > 1:
            one = block[0][0]  # a single value fills the selection
            area = blocks[-1]
            top, left = area.top, area.left
            block = [[one] * (area.right - area.left + 1) for _ in range(area.bottom - area.top + 1)]
        if left + max(map(len, block)) > len(model.columns):
            self._say(
                f"The block is {max(map(len, block))} columns wide; only {len(model.columns) - left} are here.", True
            )
            return
        assert session.table is not None
        below = max(0, top + len(block) - model.rows)
        new = session.edits.new_ids(below)
        rows = [model.row_id(top + n) if top + n < model.rows else new[top + n - model.rows] for n in range(len(block))]
        cells = []
        try:
            for row, line in zip(rows, block, strict=True):
                for offset, text in enumerate(line):
                    place = model.columns[left + offset].place
                    value = session.typed(text, place)
                    cells.append((row, place, self._or_unset(session, row, place, value)))
        except OtterError as refused:
            self._say(f"Nothing was pasted: {refused}", True)
            return
        session.edit(Action("Paste", tuple(cells), add=tuple((row, -1) for row in new)))
        self._say(f"Pasted {grouped(len(cells))} cells" + (f", {below} as new rows" if below else ""), False)

    def _selected_rows(self) -> list[int]:
        found = self._rows()
        return [] if found is None else [found[1].row_id(position) for position in self._grid.selection.positions()]

    def _open_target(self) -> OpenPull | None:
        found = self._rows()
        if found is None:
            return None
        if not found[0].target.is_open:
            self._say(found[0].target.reason, True)
            return None
        return found[0]

    def new_row(self) -> None:
        """A new row behind the current one; what is not given gets the table's default."""
        session = self._open_target()
        if session is not None:
            position = self._grid.selection.current[0]
            anchor = self._grid.model.row_id(position) if position >= 0 and self._grid.model is not None else -1
            self._go_to(session, Action("New row", add=((session.edits.new_ids(1)[0], anchor),)))

    def duplicate(self) -> None:
        """Copies of the selected rows as new rows, without a key that the table numbers itself."""
        session = self._open_target()
        if session is None or session.table is None or session.target.table is None:
            return
        rows = self._selected_rows()
        new = session.edits.new_ids(len(rows))
        info = session.target.table
        numbered = len(info.key) == 1 and (info.column(info.key[0]) or info.columns[0]).word == "number"
        cells = []
        for row, copy in zip(rows, new, strict=True):
            for place, column in session.target.columns:
                if column.key and numbered:
                    continue
                value = session.edits.cells.get(row, {}).get(place, UNSET)
                if value is UNSET and not session.edits.is_new(row):
                    value = session.table.columns[place].value(row)
                if value is not UNSET and value is not MISSING:
                    cells.append((copy, place, value))
        self._go_to(session, Action("Duplicate", tuple(cells), add=tuple(zip(new, rows, strict=True))))

    def _go_to(self, session: OpenPull, action: Action) -> None:
        session.edit(action)
        model = self._grid.model
        position = model.position_of(action.add[0][0]) if isinstance(model, RowsModel) and action.add else None
        if position is not None:
            self._grid.go(position, max(0, self._grid.selection.current[1]))

    def delete(self) -> None:
        """Mark the selected rows to be deleted; new ones are dropped."""
        session = self._open_target()
        if session is None:
            return
        rows = self._selected_rows()
        new = tuple(row for row in rows if session.edits.is_new(row))
        cells = tuple((row, place, UNSET) for row in new for place in session.edits.cells.get(row, {}))
        session.edit(Action("Delete", cells, delete=tuple(r for r in rows if not session.edits.is_new(r)), drop=new))

    def take_back(self) -> None:
        """Take back what is pending on the selected rows; when nothing is, everything."""
        session = self._pull()
        if session is None:
            return
        rows = self._selected_rows() if isinstance(self._grid.model, RowsModel) else []
        action = session.edits.take_back(rows=rows)
        if not (action.cells or action.restore or action.drop):
            action = session.edits.take_back()
        session.edit(action)

    def go_to_row(self, row: int, place: int) -> None:
        """Make a pending row current; say so when the steps have taken it out of sight."""
        model = self._grid.model
        position = model.position_of(row) if isinstance(model, RowsModel) else None
        if position is None or model is None:
            self._say("The row is not among the rows shown: a step leaves it out.", True)
            return
        columns = [n for n, c in enumerate(model.columns) if c.place == place]
        self._grid.go(position, columns[0] if columns else max(0, self._grid.selection.current[1]))
        self._grid.setFocus()

    # --- the clipboard -----------------------------------------------------------------------------------------

    def copy(self, header: bool = False) -> None:
        """The selected block as tab-separated text, quoted where a cell holds a tab or a line end."""
        model, blocks = self._grid.model, self._grid.selection.blocks
        if model is None or not blocks:
            return
        if sum(block.cells for block in blocks) > MOST_COPIED_CELLS:
            self._say(f"That is more than {grouped(MOST_COPIED_CELLS)} cells; send them to a file instead.", True)
            return
        cut = self._cut_in(blocks)
        session = self._pull()
        if cut and session is not None:
            self._say("Fetching whole values first.", False)
            session.whole.fetch(cut, lambda: self.copy(header))
            return
        out = io.StringIO()
        writer = csv.writer(out, delimiter="\t", lineterminator="\n")
        for block in blocks:
            columns = range(block.left, block.right + 1)
            if header:
                writer.writerow([model.columns[column].name for column in columns])
            for position in range(block.top, block.bottom + 1):
                writer.writerow([plain(model.value(position, column)) for column in columns])
        text = out.getvalue()
        QApplication.clipboard().setText(text[:-1] if text.endswith("\n") else text)
        cells = sum(block.cells for block in blocks)
        self._say(
            f"Copied {grouped(cells)} cell{'s' if cells != 1 else ''}" + (" with header" if header else ""), False
        )

    def _cut_in(self, blocks: Sequence[Block]) -> set[int]:
        """Rows of which the blocks hold a value that the source cut."""
        session, model = self._pull(), self._grid.model
        if session is None or session.shaped is None or not isinstance(model, RowsModel):
            return set()
        found: set[int] = set()
        for block in blocks:
            places = {model.columns[column].place for column in range(block.left, block.right + 1)}
            rows = session.whole.rows_in(session.shaped, places)
            if rows and session.shaped.own_rows:
                rows &= {model.row_id(p) for p in range(block.top, block.bottom + 1)}
            found |= rows
        return found

    # --- steps from the grid -----------------------------------------------------------------------------------

    def sort_by(self, column: int, add: bool) -> None:
        """A header click: ascending, descending, off; with Shift a further key."""
        session, model = self._pull(), self._grid.model
        if session is None or model is None:
            return
        name = self._sort_name(session, column)
        if name is None:
            return
        at = next((n for n, s in reversed(list(enumerate(session.pull.steps))) if isinstance(s, SortStep)), None)
        step = session.pull.steps[at] if at is not None else SortStep()
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
            session.add_step(SortStep(keys), "Sort")
        elif keys:
            session.set_step(at, replace(step, keys=keys, on=True), "Sort")
        else:
            session.change(session.pull.without_step(at), "Sort off")

    def _sort_name(self, session: OpenPull, column: int) -> str | None:
        """The name by which a step finds the column; in groups the figures' own names."""
        model = self._grid.model
        assert model is not None
        place = model.columns[column].place
        shaped = session.shaped
        if shaped is None:
            return None
        if shaped.grouped is None:
            return model.columns[column].name
        if place == -2:
            return "rows"
        return shaped.table.fields[0 if place == -1 else place].name

    def value_parts(self, position: int, column: int) -> tuple[str, str, str] | None:
        """(table, column, the value as queries write it) of a cell; None where it is no plain value of a table."""
        session, model = self._pull(), self._grid.model
        if session is None or session.fetched is None or not isinstance(model, RowsModel):
            return None
        place = model.columns[column].place
        if session.shaped is None or not session.shaped.own_rows or place >= len(session.fetched.table.fields):
            return None
        origins, value = session.fetched.origins, model.value(position, column)
        if value is MISSING or isinstance(value, (bytes, Mapping, list)):
            return None
        said = literal(value, session.dialect, plain(render(value, session.fetched.table.fields[place].form)))
        if session.is_documents:
            return session.collection, session.fetched.table.fields[place].origin, said
        origin = origins[place] if place < len(origins) else None
        return (origin.table, origin.column, said) if origin is not None else None

    def filter_to(self, position: int, column: int, keep: bool) -> None:
        """Keep, or leave out, rows that have this cell's value."""
        session, model = self._pull(), self._grid.model
        if session is None or not isinstance(model, RowsModel):
            return
        value = model.value(position, column)
        empty = value is None or value is MISSING
        condition = Condition(
            "is one of" if keep else "is none of", model.columns[column].name, () if empty else (value,), empty
        )
        self.add_condition(condition)

    def add_condition(self, condition: Condition) -> None:
        """Put a condition into the last Filter step, or into a new one before any group."""
        session = self._pull()
        if session is None:
            return
        steps = session.pull.steps
        group = next((n for n, s in enumerate(steps) if isinstance(s, GroupStep)), len(steps))
        at = next((n for n in reversed(range(group)) if isinstance(steps[n], FilterStep) and steps[n].on), None)
        if at is not None:
            step = steps[at]
            assert isinstance(step, FilterStep)
            session.set_step(at, replace(step, conditions=(*step.conditions, condition)), "Filter")
        else:
            at = next((n for n, s in enumerate(steps) if isinstance(s, (SortStep, GroupStep))), len(steps))
            session.add_step(FilterStep((condition,)), "Filter", at)
        self._open_step(at)

    def group_by(self, name: str, part: str = "") -> None:
        """Group by a column or a part of its values, inside the groups that are there."""
        session = self._pull()
        if session is None or session.table is None:
            return
        at = next((n for n, s in enumerate(session.pull.steps) if isinstance(s, GroupStep)), None)
        if at is not None:
            step = session.pull.steps[at]
            assert isinstance(step, GroupStep)
            if KeyBy(name, part) not in step.keys:
                session.set_step(at, replace(step, keys=(*step.keys, KeyBy(name, part))), "Group")
        else:
            keys = [
                f for f in session.table.fields if f.kind.is_number and not f.name.endswith("_id") and f.name != name
            ]
            figures = (FigureOf(Figure.COUNT), *(FigureOf(Figure.MEAN, f.name) for f in keys[:1]))
            steps = session.pull.steps
            at = next((n for n, s in enumerate(steps) if isinstance(s, ColumnsStep)), len(steps))
            session.add_step(GroupStep((KeyBy(name, part),), figures), "Group", at)
        self._open_step(at)

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
        session, model = self._pull(), self._grid.model
        if session is None or not isinstance(model, RowsModel):
            return
        name = model.columns[column].name
        steps = session.pull.steps
        at = next((n for n, s in enumerate(steps) if isinstance(s, OpenStep)), None)
        if at is None:
            at = next((n for n, s in enumerate(steps) if s.kind in ("group", "sort", "columns")), len(steps))
            session.add_step(OpenStep((name,)), f"Open {name}", at)
        else:
            step = steps[at]
            assert isinstance(step, OpenStep)
            session.set_step(at, replace(step, paths=(*step.paths, name)), f"Open {name}")
        self._open_step(at)

    def holds_objects(self, column: int) -> bool:
        """Whether any of the first rows has an object in a column."""
        model = self._grid.model
        if not isinstance(model, RowsModel):
            return False
        return any(isinstance(model.value(p, column), Mapping) for p in range(min(model.rows, 500)))

    def toggle(self, position: int) -> None:
        session, model = self._pull(), self._grid.model
        if session is not None and model is not None and not isinstance(model, RowsModel):
            line = model.tree_row(position)
            if 0 <= line.depth < len(model.columns) and model.line(position).is_open is not None:
                session.toggle_group(line.depth, line.index)


def read_block(text: str) -> list[list[str]]:
    """Clipboard text as lines of cells: tabs between, quotes around cells that hold tabs or line ends."""
    text = text.replace("\r\n", "\n").replace("\r", "\n")
    text = text[:-1] if text.endswith("\n") else text
    if not text:
        return []
    return [line or [""] for line in csv.reader(io.StringIO(text, newline=""), delimiter="\t")]
