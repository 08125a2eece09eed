"""What is said of the grid's current cell to those who don't see it."""

from __future__ import annotations

from nimble_otter.desktop.grid.model import Line
from nimble_otter.table.text.show import grouped
from nimble_otter.translation import tr

_NOTHING = {"null": tr("no value"), "missing": tr("no such field"), "blank": tr("empty text")}
_STATES = {"new": tr("new row"), "deleted": tr("row to be deleted"), "conflict": tr("row in conflict")}


def spoken_cell(line: Line, column: int) -> str:
    """The value of a cell, and what stood there before an edit."""
    cell = line.cells[column]
    value = _NOTHING.get(cell.look, cell.text)
    return tr("{value}, before {old}", value=value, old=cell.old or tr("no value")) if cell.old is not None else value


def spoken(name: str, line: Line, column: int, position: int, rows: int, selected: int) -> str:
    """Column, value and row of a cell, what is pending there, and how many cells are selected if more than one."""
    lines = [
        tr(
            "{name}, row {position} of {rows}: {spoken_cell}",
            name=name,
            position=position + 1,
            rows=rows,
            spoken_cell=spoken_cell(line, column),
        )
    ]
    if line.state in _STATES:
        lines.append(_STATES[line.state])
    if line.is_open is not None:
        lines.append(
            tr("group of level {depth}, open", depth=line.depth + 1)
            if line.is_open
            else tr("group of level {depth}, closed", depth=line.depth + 1)
        )
    if selected > 1:
        lines.append(tr("{selected} cells selected", selected=grouped(selected)))
    return "; ".join(lines)
