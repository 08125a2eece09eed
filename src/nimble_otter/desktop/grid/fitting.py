"""How wide columns are before anyone has set them: as wide as what they hold."""

from __future__ import annotations

from nimble_otter.desktop.grid.model import GridColumn, GroupsModel, RowsModel, first_width
from nimble_otter.desktop.grid.painting import PAD, GridPainter
from nimble_otter.table import Kind, Table

ENOUGH = 24
"""Rows looked at; with fewer a width is worked out again when more are there."""
_SPREAD = 8
_LETTERS = 90
"""Of a text that are measured."""
_LEAST, _MOST, _MOST_UNDER = 60, 320, 150
_CELLS = 2400
"""Looked at in all; what columns are beyond has the width of its kind."""


def fitting_width(painter: GridPainter, model: RowsModel | GroupsModel, table: Table, at: int) -> int:
    """Pixels for a column: its header, where it comes from, and what stands in some of its rows, up to a limit."""
    column = model.columns[at]
    if column.place < 0 or column.paint or at * ENOUGH > _CELLS:
        return first_width(column, table)
    head, under = header_widths(painter, column)
    measure = painter.metrics(painter.font).horizontalAdvance
    shown = _some(model.rows)
    if isinstance(model, GroupsModel) and shown:
        shown.append(model.rows - 1)  # the totals, whose figures are the longest
    cells = [model.line(position).cells[at] for position in shown]
    texts = {(cell.text[:_LETTERS], (cell.old or "")[:_LETTERS]) for cell in cells}
    widest = max((measure(text) + (measure(old) + PAD if old else 0) for text, old in texts), default=0)
    least = _LEAST if texts else first_width(column, table)
    most = _MOST if table.fields[column.place].kind is not Kind.OBJECT else _MOST * 3 // 4
    return max(least, min(most, max(head, min(_MOST_UNDER, under), widest) + 2 * PAD + 2))


def header_widths(painter: GridPainter, column: GridColumn) -> tuple[int, int]:
    """Pixels of what stands in a header: the title with its mark, and where the column comes from."""
    title = f"{column.title or column.name} {column.mark}".rstrip()
    under = painter.metrics(painter.small).horizontalAdvance(column.under)
    return painter.metrics(painter.bold).horizontalAdvance(title) + 4, under


def _some(rows: int) -> list[int]:
    """The first rows, and some from all over."""
    spread = range(0, rows, max(1, rows // _SPREAD)) if rows > ENOUGH else ()
    return sorted({*range(min(rows, ENOUGH - _SPREAD if rows > ENOUGH else ENOUGH)), *spread})
