"""Editing in the grid: cells, rows, blocks of the clipboard, filling; everything becomes one action with undo."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

from PySide6.QtCore import QObject
from PySide6.QtWidgets import QApplication

from nimble_otter.changes import UNSET, Action, to_json, without_marks
from nimble_otter.changes.fills import series
from nimble_otter.desktop.grid.clipboard_cells import EXACT, Pasted, columns_named, read_block, read_exact
from nimble_otter.desktop.grid.grid import Grid
from nimble_otter.desktop.grid.model import RowsModel
from nimble_otter.desktop.grid.type_ahead import Jump
from nimble_otter.desktop.kit.big_editor import BigEditor
from nimble_otter.desktop.pulls.open_pull import OpenPull
from nimble_otter.desktop.pulls.references import References
from nimble_otter.desktop.pulls.workspace import Workspace
from nimble_otter.desktop.runtime.state_store import Layout
from nimble_otter.errors import OtterError
from nimble_otter.table import MISSING, Kind
from nimble_otter.table.text.show import grouped
from nimble_otter.translation import tr, trn
from nimble_otter.values import Value

_LONGEST_INLINE = 2000
"""Characters of a text that is edited over its cell; longer ones go to the bigger editor."""


class GridEdits(QObject):
    """Bound to a grid and the pull in sight; `layout` knows how numbers are written where copied cells go."""

    def __init__(self, workspace: Workspace, grid: Grid, layout: Layout) -> None:
        super().__init__(grid)
        self._workspace, self._grid, self._layout = workspace, grid, layout
        self._say = workspace.say
        self._jump = Jump(workspace, grid)
        self._big: BigEditor | None = None
        self._references = References()
        grid.edit_wanted.connect(lambda position, column: self.begin_edit(position, column, None))
        grid.typed.connect(self.begin_edit)
        grid.clear_wanted.connect(self.clear)

    def _pull(self) -> OpenPull | None:
        return self._workspace.pull

    def open_nested(self, position: int, column: int) -> bool:
        """Show an object or list in place; False where the cell holds none."""
        return False

    def toggle(self, position: int) -> None:
        """Open or close a group."""

    def _rows(self) -> tuple[OpenPull, RowsModel] | None:
        """The pull and its flat rows, or None with the reason said."""
        open_pull, model = self._pull(), self._grid.model
        if open_pull is None or model is None:
            return None
        if not isinstance(model, RowsModel):
            self._say(tr("Groups can't be edited; switch the Group step off, or show rows before it."), True)
            return None
        if open_pull.shaped is not None and not open_pull.shaped.own_rows:
            self._say(tr("These rows were made by a step; show the rows before it to change them."), True)
            return None
        return open_pull, model

    def _only_shows(self) -> bool:
        """Whether no cell here can be typed over, so that letters are free to go about."""
        open_pull = self._pull()
        if open_pull is None or open_pull.shaped is None or not isinstance(self._grid.model, RowsModel):
            return open_pull is not None
        return not open_pull.shaped.own_rows or not open_pull.target.is_open

    def begin_edit(self, position: int, column: int, typed: str | None) -> None:  # noqa: C901 - a branch for each kind of cell
        """Open the editor over a cell, with what was typed or what is there; say why when it can't be edited."""
        if typed is not None and self._only_shows():
            self._jump.type(column, typed)
            return
        found = self._rows()
        if found is None:
            if not isinstance(self._grid.model, RowsModel) and self._grid.model is not None and typed is None:
                self.toggle(position)
            return
        open_pull, model = found
        if typed is None and self.open_nested(position, column):
            return
        row, index = model.row_id(position), model.columns[column].place
        try:
            open_pull.cells.column_at(index)
        except OtterError as refused:
            self._say(str(refused), True)
            return
        if row in open_pull.edits.deleted:
            self._say(tr("The row is marked for deletion; revert that first (Ctrl+Backspace)."), True)
            return
        if open_pull.truncated.is_cut(row, index):
            self._say(tr("Fetching the whole value first."), False)
            open_pull.truncated.fetch([row], lambda: self.begin_edit(position, column, typed))
            return
        assert open_pull.table is not None
        field, info = open_pull.cells.field_at(index), open_pull.cells.column_at(index)
        before = model.value(position, column)
        is_nested = isinstance(before, (Mapping, list))
        text = open_pull.cells.text_of(before, index)
        if (
            isinstance(before, bytes)
            or info.word == "binary"
            or is_nested
            or "\n" in text
            or len(text) > _LONGEST_INLINE
        ):
            self._grid.go(position, column)
            self.open_big()
            return
        editor = self._grid.open_editor(
            position,
            column,
            text if typed is None else typed,
            lambda value: self._take(open_pull, row, index, value, text, before),
        )
        if info.values or field.kind is Kind.BOOL:
            editor.offer([(value, "") for value in info.values or ("yes", "no")])
        elif info.refers:

            def offer(found: list[tuple[str, str]]) -> None:
                if editor is self._grid.editor:
                    editor.offer(found)

            self._references.find(open_pull, info, offer)
        if typed is None:
            editor.selectAll()

    def open_big(self) -> None:
        """The current cell in a bigger editor: long texts, JSON, and values from files."""
        found = self._rows()
        position, column = self._grid.selection.current
        if found is None or position < 0:
            return
        open_pull, model = found
        row, index = model.row_id(position), model.columns[max(0, column)].place
        try:
            info = open_pull.cells.column_at(index)
        except OtterError as refused:
            self._say(str(refused), True)
            return
        before = model.value(position, max(0, column))
        assert open_pull.table is not None
        is_json = info.word == "nested" or isinstance(before, (Mapping, list)) or open_pull.target.dialect.is_documents
        if isinstance(before, (Mapping, list)):
            text = to_json(before, indent=2)
        else:
            text = "" if isinstance(before, bytes) else open_pull.cells.text_of(before, index)
        if self._big is None:
            self._big = BigEditor(self._grid.viewport())

        def take(value: Value) -> str:
            """Returns why the value can't be taken, "" when it was."""
            try:
                made = value if isinstance(value, bytes) else open_pull.cells.typed(value, index, row)
            except OtterError as refused:
                return str(refused)
            open_pull.changes.edit(Action(tr("Edit"), ((row, index, self._or_unset(open_pull, row, index, made)),)))
            return ""

        size = len(before) if isinstance(before, bytes) else None
        self._big.open(
            self._grid.cell_rect(position, max(0, column)), info.name, text, is_json, size,
            info.word == "binary" or size is not None, take, self._grid.setFocus,
        )  # fmt: skip

    def _take(self, open_pull: OpenPull, row: int, place: int, text: str, shown: str, before: object) -> bool:
        if text == shown:
            return True
        assert open_pull.table is not None
        try:
            value = open_pull.cells.typed(text, place, row)
        except OtterError as refused:
            self._say(str(refused), True)
            editor = self._grid.editor
            if editor is not None:
                editor.mark(str(refused))
            return False
        open_pull.changes.edit(Action(tr("Edit"), ((row, place, self._or_unset(open_pull, row, place, value)),)))
        return True

    @staticmethod
    def _or_unset(open_pull: OpenPull, row: int, place: int, value: object) -> object:
        """A value that is what was fetched is no edit."""
        assert open_pull.table is not None
        if open_pull.edits.is_new(row):
            return value
        stored = open_pull.cells.stored(row, place)
        return UNSET if stored is not MISSING and stored == value and type(stored) is type(value) else value

    def put_texts(self, name: str, wanted: list[tuple[int, int, str | None]]) -> bool:
        """Set texts (None: empty) at (row id, place), all or none."""
        open_pull = self._pull()
        assert open_pull is not None
        assert open_pull.table is not None
        cells = []
        try:
            for row, index, text in wanted:
                if row in open_pull.edits.deleted:
                    continue
                value = open_pull.cells.typed(text, index, row)
                cells.append((row, index, self._or_unset(open_pull, row, index, value)))
        except OtterError as refused:
            self._say(tr("Nothing was changed: {refused}", refused=refused), True)
            return False
        open_pull.changes.edit(Action(name, tuple(cells)))
        return True

    def _selected_cells(self) -> list[tuple[int, int]]:
        """(row id, place) of every selected cell."""
        found = self._rows()
        if found is None:
            return []
        model = found[1]
        return [
            (model.row_id(position), model.columns[column].place)
            for block in self._grid.selection.blocks
            for position in range(block.top, block.bottom + 1)
            for column in range(block.left, block.right + 1)
        ]

    def clear(self) -> None:
        """Delete on cells: NULL in every selected one; where there is nothing to change, why."""
        open_pull = self._open_target()
        if open_pull is not None:
            self.set_empty()

    def set_empty(self) -> None:
        """NULL in every selected cell."""
        self.put_texts(tr("Set NULL"), [(row, place, None) for row, place in self._selected_cells()])

    def set_blank(self) -> None:
        """An empty text, which is not the same as empty, in every selected cell."""
        self.put_texts(tr("Set empty text"), [(row, place, "") for row, place in self._selected_cells()])

    def set_default(self) -> None:
        """What the table gives by itself; in documents: the field is removed."""
        open_pull, cells = self._pull(), self._selected_cells()
        if open_pull is None or not cells:
            return
        is_documents = open_pull.target.dialect.is_documents
        results = []
        try:
            for row, index in cells:
                info = open_pull.cells.column_at(index)
                if is_documents:
                    results.append((row, index, self._or_unset(open_pull, row, index, MISSING)))
                elif open_pull.edits.is_new(row):
                    results.append((row, index, UNSET))
                else:
                    results.append((row, index, open_pull.cells.default_of(info)))
        except OtterError as refused:
            self._say(tr("Nothing was changed: {refused}", refused=refused), True)
            return
        open_pull.changes.edit(Action(tr("Remove the field") if is_documents else tr("Set default"), tuple(results)))

    def revert_cells(self) -> None:
        """Take back what is pending in the selected cells alone."""
        open_pull = self._pull()
        if open_pull is not None:
            cells = self._selected_cells()
            parts = tuple((row, place, UNSET) for row, place in cells if open_pull.cells.part_of(place) is not None)
            action = open_pull.edits.revert(cells=cells)
            open_pull.changes.edit(replace(action, cells=(*action.cells, *parts)))

    def cut(self) -> None:
        """Copy the selected cells and empty them."""
        cells = self._selected_cells()
        if cells:
            self.copy()
            self.put_texts(tr("Cut"), [(row, place, None) for row, place in cells])

    def copy(self, header: bool = False) -> None:
        """The selected cells to the clipboard."""

    def fill(self, way: str) -> None:  # noqa: C901 - a branch for each kind of cell
        """Fill the selection from its first line in a direction (down, up, left, right), or go on with what its first
        cells begin (series). A selection one line high takes the line before it."""
        found = self._rows()
        blocks = self._grid.selection.blocks
        if found is None or not blocks:
            return
        open_pull, model = found
        block = blocks[-1]
        ids = [model.row_id(p) for p in range(max(0, block.top - 1), min(model.rows, block.bottom + 2))]
        if open_pull.truncated.first(ids, lambda: self.fill(way)):
            self._say(tr("Fetching whole values first."), False)
            return
        rows, columns = list(range(block.top, block.bottom + 1)), list(range(block.left, block.right + 1))
        is_upright = way in ("down", "up", "series")
        if len(rows if is_upright else columns) == 1:
            before = {"down": rows[0] - 1, "up": rows[0] + 1, "right": columns[0] - 1, "left": columns[0] + 1}.get(
                way, -1
            )
            if not 0 <= before < (model.rows if is_upright else len(model.columns)):
                self._say(tr("There is nothing to fill from; select the cells to fill and one to begin with."), True)
                return
            if is_upright:
                rows.insert(0 if way == "down" else len(rows), before)
            else:
                columns.insert(0 if way == "right" else len(columns), before)
        lines = [[(r, c) for r in rows] for c in columns] if is_upright else [[(r, c) for c in columns] for r in rows]
        if way in ("up", "left"):
            lines = [line[::-1] for line in lines]
        cells = []
        try:
            for line in lines:
                values = [model.value(*at) for at in line]
                made = series(values) if way == "series" else [values[0]] * len(values)
                for at, value in zip(line[1:], made[1:], strict=True):
                    row, index = model.row_id(at[0]), model.columns[at[1]].place
                    if row in open_pull.edits.deleted:
                        continue
                    if not is_upright:
                        first = model.columns[line[0][1]].place
                        text = None if value is None else open_pull.cells.text_of(value, first)
                        value = open_pull.cells.typed(text, index, row)
                    elif value is None:
                        value = open_pull.cells.typed(None, index, row)
                    else:
                        open_pull.cells.column_at(index)
                    cells.append((row, index, self._or_unset(open_pull, row, index, value)))
        except OtterError as refused:
            self._say(tr("Nothing was filled: {refused}", refused=refused), True)
            return
        open_pull.changes.edit(Action(tr("Fill"), tuple(cells)))
        self._say(
            trn("Filled {cells_count} cell", "Filled {cells_count} cells", len(cells), cells_count=grouped(len(cells))),
            False,
        )

    def paste(self) -> None:
        """A block from the clipboard at the current cell; lines below the last row become new rows. A single value
        fills the selection. A header line says which columns are meant."""
        found = self._rows()
        data = QApplication.clipboard().mimeData()
        block = read_exact(bytes(data.data(EXACT).data())) if data is not None and data.hasFormat(EXACT) else []
        block = block or read_block(data.text() if data is not None else "")
        if found is None:
            return
        open_pull, model = found
        if not block:
            self._say(tr("The clipboard contains no text."), True)
            return
        if not open_pull.target.is_open:
            self._say(open_pull.target.reason, True)
            return
        top, left = (max(0, at) for at in self._grid.selection.current)
        areas = self._grid.selection.blocks
        header = ""
        if len(block) == 1 and len(block[0]) == 1 and sum(area.cells for area in areas) > 1:
            cells = [
                (model.row_id(position), model.columns[column].place, block[0][0])
                for area in areas
                for position in range(area.top, area.bottom + 1)
                for column in range(area.left, area.right + 1)
            ]
            new: list[int] = []
        else:
            width = max(map(len, block))
            columns = list(range(left, left + width))
            if len(block) > 1:
                titles = [column.title or column.name for column in model.columns]
                for names in (titles, [column.name for column in model.columns]):
                    named = columns_named(block[0], names, left)
                    if named is not None:
                        block, columns, header = block[1:], named, tr("; the header line was left out")
                        break
            if columns[-1] >= len(model.columns):
                here = len(model.columns) - left
                self._say(tr("The block is {width} columns wide; only {here} are here.", width=width, here=here), True)
                return
            new = open_pull.edits.new_ids(max(0, top + len(block) - model.rows))
            rows = [
                model.row_id(top + n) if top + n < model.rows else new[top + n - model.rows] for n in range(len(block))
            ]
            cells = [
                (row, model.columns[column].place, cell)
                for row, line in zip(rows, block, strict=True)
                for column, cell in zip(columns, line, strict=False)
            ]
        try:
            made = tuple(
                (row, place, self._or_unset(open_pull, row, place, self._pasted(open_pull, cell, place, row)))
                for row, place, cell in cells
                if row not in open_pull.edits.deleted
            )
        except OtterError as refused:
            self._say(tr("Nothing was pasted: {refused}", refused=refused), True)
            return
        open_pull.changes.edit(Action(tr("Paste"), made, add=tuple((row, -1) for row in new)))
        more = tr(", {new_count} as new rows", new_count=len(new)) if new else ""
        self._say(
            trn(
                "Pasted {made_count} cell{more}{header}",
                "Pasted {made_count} cells{more}{header}",
                len(made),
                made_count=grouped(len(made)),
                more=more,
                header=header,
            ),
            False,
        )

    def _pasted(self, open_pull: OpenPull, cell: Pasted, place: int, row: int) -> object:
        """The value of a pasted cell: of one of ours what it was, of a spreadsheet's what its words mean here. Raises:
        ChangeError."""
        info = open_pull.cells.column_at(place)
        if cell.is_own and open_pull.target.dialect.is_documents:
            return cell.value
        if isinstance(cell.value, bytes) and info.word == "binary":
            return cell.value
        text = cell.text
        if text is None or cell.is_own or open_pull.target.dialect.is_documents:
            return open_pull.cells.typed(text, place, row)
        if not text.strip() and (info.nullable or info.word != "text"):
            return open_pull.cells.typed(None, place, row)
        if info.word == "number" or open_pull.cells.field_at(place).kind.is_number:
            text = without_marks(text, self._layout.copying.get("decimal") == "comma")
        return open_pull.cells.typed(text, place, row)

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
        open_pull = self._open_target()
        if open_pull is not None:
            position = self._grid.selection.current[0]
            anchor = self._grid.model.row_id(position) if position >= 0 and self._grid.model is not None else -1
            self._go_to(open_pull, Action(tr("New row"), add=((open_pull.edits.new_ids(1)[0], anchor),)))

    def duplicate(self) -> None:
        """Copies of the selected rows as new rows, without a key that the table numbers itself."""
        open_pull = self._open_target()
        if open_pull is None or open_pull.table is None or open_pull.target.table is None:
            return
        rows = self._selected_rows()
        if open_pull.truncated.first(rows, self.duplicate):
            self._say(tr("Fetching whole values first."), False)
            return
        new = open_pull.edits.new_ids(len(rows))
        info = open_pull.target.table
        numbered = len(info.key) == 1 and (info.column(info.key[0]) or info.columns[0]).word == "number"
        cells = []
        for row, copy in zip(rows, new, strict=True):
            for index, column in open_pull.target.columns:
                if column.key and numbered:
                    continue
                value = open_pull.edits.cells.get(row, {}).get(index, UNSET)
                if value is UNSET and not open_pull.edits.is_new(row):
                    value = open_pull.table.columns[index].value(row)
                if value is not UNSET and value is not MISSING:
                    cells.append((copy, index, value))
        self._go_to(open_pull, Action(tr("Duplicate"), tuple(cells), add=tuple(zip(new, rows, strict=True))))

    def _go_to(self, open_pull: OpenPull, action: Action) -> None:
        open_pull.changes.edit(action)
        model = self._grid.model
        position = model.position_of(action.add[0][0]) if isinstance(model, RowsModel) and action.add else None
        if position is not None:
            self._grid.go(position, max(0, self._grid.selection.current[1]))

    def delete(self) -> None:
        """Mark the selected rows to be deleted; new ones are dropped."""
        open_pull = self._open_target()
        if open_pull is None:
            return
        rows = self._selected_rows()
        new = tuple(row for row in rows if open_pull.edits.is_new(row))
        cells = tuple((row, place, UNSET) for row in new for place in open_pull.edits.cells.get(row, {}))
        open_pull.changes.edit(
            Action(tr("Delete"), cells, delete=tuple(r for r in rows if not open_pull.edits.is_new(r)), drop=new)
        )

    def revert(self) -> None:
        """Take back what is pending on the selected rows; when nothing is, everything."""
        open_pull = self._pull()
        if open_pull is None:
            return
        rows = self._selected_rows() if isinstance(self._grid.model, RowsModel) else []
        action = open_pull.edits.revert(rows=rows)
        if not (action.cells or action.restore or action.drop):
            action = open_pull.edits.revert()
        if not open_pull.edits.count and open_pull.pending.waiting_count:
            open_pull.changes.revert_waiting()
            return
        open_pull.changes.edit(action)

    def go_to_row(self, row: int, place: int) -> None:
        """Make a pending row current; say so when the steps have taken it out of sight."""
        model = self._grid.model
        position = model.position_of(row) if isinstance(model, RowsModel) else None
        if position is None or model is None:
            self._say(tr("The row is not shown: a step excludes it."), True)
            return
        open_pull = self._pull()
        parts = (
            {p for p, (whole, _) in open_pull.shaped.opened.items() if whole == place}
            if open_pull and open_pull.shaped
            else ()
        )
        columns = [n for n, c in enumerate(model.columns) if c.place == place or c.place in parts]
        self._grid.go(position, columns[0] if columns else max(0, self._grid.selection.current[1]))
        self._grid.setFocus()
