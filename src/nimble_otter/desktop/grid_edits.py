"""Editing in the grid: cells, rows, blocks of the clipboard, filling; everything becomes one action with undo."""

from __future__ import annotations

import csv
import io
from collections.abc import Callable, Mapping
from dataclasses import replace
from typing import Any

from PySide6.QtWidgets import QApplication

from nimble_otter.changes import DEFAULT, UNSET, Action, to_json, value_text
from nimble_otter.changes.fills import series
from nimble_otter.desktop.grid_model import RowsModel
from nimble_otter.desktop.references import References
from nimble_otter.desktop.session import OpenPull
from nimble_otter.desktop.views.big_editor import BigEditor
from nimble_otter.desktop.views.grid import Grid
from nimble_otter.errors import OtterError
from nimble_otter.table import MISSING, Kind
from nimble_otter.table.show import grouped

EXACT = "application/x-nimble-otter-cells"
"""Cells that were copied here, where what other programs get is guarded against formulas."""


class GridEdits:
    """Bound to a grid; `pull` gives the pull that is shown, `say` tells the user."""

    def __init__(self, grid: Grid, pull: Callable[[], OpenPull | None], say: Callable[[str, bool], None]) -> None:
        self._grid, self._pull, self._say = grid, pull, say
        self._big: BigEditor | None = None
        self._references = References()
        grid.edit_wanted.connect(lambda position, column: self.begin_edit(position, column, None))
        grid.typed.connect(self.begin_edit)
        self.jump: Callable[[int, str], object] = lambda column, text: None

    def open_nested(self, position: int, column: int) -> bool:
        """Show an object or list in place; False where the cell holds none."""
        return False

    def toggle(self, position: int) -> None:
        """Open or close a group."""

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
            session.column_at(place)
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
        field, info = session.field_at(place), session.column_at(place)
        before = model.value(position, column)
        is_nested = isinstance(before, (Mapping, list))
        text = self._text_of(before, session, place)
        if isinstance(before, bytes) or info.word == "binary" or is_nested or "\n" in text:
            self.open_big()
            return
        editor = self._grid.open_editor(
            position,
            column,
            text if typed is None else typed,
            lambda value: self._take(session, row, place, value, text, before),
        )
        if info.values or field.kind is Kind.BOOL:
            editor.offer([(value, "") for value in info.values or ("yes", "no")])
        elif info.refers:
            self._references.find(session, info, lambda found: editor is self._grid.editor and editor.offer(found))
        if typed is None:
            editor.selectAll()

    @staticmethod
    def _text_of(value: Any, session: OpenPull, place: int) -> str:
        """A value as one types it; nested ones as JSON."""
        assert session.table is not None
        if value is DEFAULT or value is MISSING or value is None:
            return ""
        if isinstance(value, (Mapping, list)):
            return to_json(value)
        return value_text(value, session.field_at(place))

    def open_big(self) -> None:
        """The current cell in a bigger editor: long texts, JSON, and values from files."""
        found = self._rows()
        position, column = self._grid.selection.current
        if found is None or position < 0:
            return
        session, model = found
        row, place = model.row_id(position), model.columns[max(0, column)].place
        try:
            info = session.column_at(place)
        except OtterError as refused:
            self._say(str(refused), True)
            return
        before = model.value(position, max(0, column))
        assert session.table is not None
        is_json = info.word == "nested" or isinstance(before, (Mapping, list)) or session.target.dialect == "documents"
        if isinstance(before, (Mapping, list)):
            text = to_json(before, indent=2)
        else:
            text = "" if isinstance(before, bytes) else self._text_of(before, session, place)
        if self._big is None:
            self._big = BigEditor(self._grid.viewport())

        def take(value: Any) -> str:
            """Returns why the value can't be taken, "" when it was."""
            try:
                made = value if isinstance(value, bytes) else session.typed(value, place, row)
            except OtterError as refused:
                return str(refused)
            session.edit(Action("Edit", ((row, place, self._or_unset(session, row, place, made)),)))
            return ""

        size = len(before) if isinstance(before, bytes) else None
        self._big.open(
            self._grid.cell_rect(position, max(0, column)), info.name, text, is_json, size,
            info.word == "binary" or size is not None, take, self._grid.setFocus,
        )  # fmt: skip

    def _take(self, session: OpenPull, row: int, place: int, text: str, shown: str, before: Any) -> bool:
        if text == shown:
            return True
        assert session.table is not None
        try:
            value = session.typed(text, place, row)
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
        stored = session.stored(row, place)
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
                value = session.typed(text, place, row)
                cells.append((row, place, self._or_unset(session, row, place, value)))
        except OtterError as refused:
            self._say(f"Nothing was changed: {refused}", True)
            return False
        session.edit(Action(name, tuple(cells)))
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

    def set_empty(self) -> None:
        """Empty (NULL) in every selected cell."""
        self.put_texts("Set empty", [(row, place, None) for row, place in self._selected_cells()])

    def set_blank(self) -> None:
        """An empty text, which is not the same as empty, in every selected cell."""
        self.put_texts("Set empty text", [(row, place, "") for row, place in self._selected_cells()])

    def set_default(self) -> None:
        """What the table gives by itself; in documents: the field is removed."""
        session, cells = self._pull(), self._selected_cells()
        if session is None or not cells:
            return
        is_documents = session.target.dialect == "documents"
        found = []
        try:
            for row, place in cells:
                info = session.column_at(place)
                if is_documents:
                    found.append((row, place, self._or_unset(session, row, place, MISSING)))
                elif session.edits.is_new(row):
                    found.append((row, place, UNSET))
                else:
                    found.append((row, place, session.default_of(info)))
        except OtterError as refused:
            self._say(f"Nothing was changed: {refused}", True)
            return
        session.edit(Action("Remove the field" if is_documents else "Set default", tuple(found)))

    def take_back_cells(self) -> None:
        """Take back what is pending in the selected cells alone."""
        session = self._pull()
        if session is not None:
            cells = self._selected_cells()
            parts = tuple((row, place, UNSET) for row, place in cells if session.part_of(place) is not None)
            action = session.edits.take_back(cells=cells)
            session.edit(replace(action, cells=(*action.cells, *parts)))

    def cut(self) -> None:
        """Copy the selected cells and empty them."""
        cells = self._selected_cells()
        if cells:
            self.copy()
            self.put_texts("Cut", [(row, place, None) for row, place in cells])

    def copy(self, header: bool = False) -> None:
        """The selected cells to the clipboard."""

    def fill(self, way: str) -> None:
        """Fill the selection from its first line in a direction (down, up, left, right), or go on with what its first
        cells begin (series). A selection one line high takes the line before it."""
        found = self._rows()
        blocks = self._grid.selection.blocks
        if found is None or not blocks:
            return
        session, model = found
        block = blocks[-1]
        rows, columns = list(range(block.top, block.bottom + 1)), list(range(block.left, block.right + 1))
        is_upright = way in ("down", "up", "series")
        if len(rows if is_upright else columns) == 1:
            before = {"down": rows[0] - 1, "up": rows[0] + 1, "right": columns[0] - 1, "left": columns[0] + 1}.get(
                way, -1
            )
            if not 0 <= before < (model.rows if is_upright else len(model.columns)):
                self._say("There is nothing to fill from; select the cells to fill and one to begin with.", True)
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
                    row, place = model.row_id(at[0]), model.columns[at[1]].place
                    if row in session.edits.deleted:
                        continue
                    if not is_upright:
                        first = model.columns[line[0][1]].place
                        text = None if value is None else self._text_of(value, session, first)
                        value = session.typed(text, place, row)
                    elif value is None:
                        value = session.typed(None, place, row)
                    else:
                        session.column_at(place)
                    cells.append((row, place, self._or_unset(session, row, place, value)))
        except OtterError as refused:
            self._say(f"Nothing was filled: {refused}", True)
            return
        session.edit(Action("Fill", tuple(cells)))
        self._say(f"Filled {grouped(len(cells))} cell{'s' if len(cells) != 1 else ''}", False)

    def paste(self) -> None:
        """A block from the clipboard at the current cell; lines below the last row become new rows."""
        found = self._rows()
        data = QApplication.clipboard().mimeData()
        exact = bytes(data.data(EXACT).data()).decode("utf-8", "surrogateescape") if data.hasFormat(EXACT) else ""
        block = read_block(exact or data.text())
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
                    value = session.typed(text, place, row)
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
        session = self._pull()
        parts = (
            {p for p, (whole, _) in session.shaped.opened.items() if whole == place}
            if session and session.shaped
            else ()
        )
        columns = [n for n, c in enumerate(model.columns) if c.place == place or c.place in parts]
        self._grid.go(position, columns[0] if columns else max(0, self._grid.selection.current[1]))
        self._grid.setFocus()


def read_block(text: str) -> list[list[str]]:
    """Clipboard text as lines of cells: tabs between, quotes around cells that hold tabs or line ends."""
    text = text.replace("\r\n", "\n").replace("\r", "\n")
    text = text[:-1] if text.endswith("\n") else text
    if not text:
        return []
    return [line or [""] for line in csv.reader(io.StringIO(text, newline=""), delimiter="\t")]
