"""What is said of the grid's current cell to those who don't see it."""

from __future__ import annotations

from nimble_otter.desktop.grid.model import Line
from nimble_otter.table.text.show import grouped

_NOTHING = {"null": "no value", "missing": "no such field", "blank": "empty text"}
_STATES = {"new": "new row", "deleted": "row to be deleted", "conflict": "row in conflict"}


def spoken_cell(line: Line, column: int) -> str:
    """The value of a cell, and what stood there before an edit."""
    cell = line.cells[column]
    value = _NOTHING.get(cell.look, cell.text)
    return f"{value}, before {cell.old or 'no value'}" if cell.old is not None else value


def spoken(name: str, line: Line, column: int, position: int, rows: int, selected: int) -> str:
    """Column, value and row of a cell, what is pending there, and how many cells are selected if more than one."""
    lines = [f"{name}, row {position + 1} of {rows}: {spoken_cell(line, column)}"]
    if line.state in _STATES:
        lines.append(_STATES[line.state])
    if line.is_open is not None:
        lines.append(f"group of level {line.depth + 1}, {'open' if line.is_open else 'closed'}")
    if selected > 1:
        lines.append(f"{grouped(selected)} cells selected")
    return "; ".join(lines)
