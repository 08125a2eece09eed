"""What the grid shows: lines of ready text, made for the visible rows only, from flat rows or from groups."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from decimal import Decimal
from types import MappingProxyType
from typing import Any

import numpy as np

from nimble_otter.changes import DEFAULT, UNSET, Edits, Filling, Outcome, UnsetCell, exactly
from nimble_otter.desktop.kit.usual_looks import usual_looks
from nimble_otter.pull.compared import Compared
from nimble_otter.pull.shaped import Shaped
from nimble_otter.pull.steps import SortStep
from nimble_otter.pull.tree import TreeLines, TreeRow
from nimble_otter.table import MISSING, Column, Field, Kind, Table, View
from nimble_otter.table.core.columns import Ids
from nimble_otter.table.kernels.numeric import as_floats
from nimble_otter.table.ops.compare import CHANGED, ONLY_HERE, ONLY_THERE, SAME
from nimble_otter.table.text.column_format import PLAIN
from nimble_otter.table.text.show import grouped, shown
from nimble_otter.values import Value

_BLOCK = 64
"""Rows whose values are taken at once."""

_LOOKED_AT = 200
"""Values that tell with how many decimals a column is shown."""


@dataclass(frozen=True, slots=True)
class GridColumn:
    """A column of the grid: `place` is the column in the shown table, -1 for the tree of groups and -2 for bars.
    `title` is what the header says, `paint` bars or scale."""

    name: str
    under: str
    right: bool
    place: int
    mark: str = ""
    title: str = ""
    is_centred: bool = False
    paint: str = ""


@dataclass(frozen=True, slots=True)
class Cell:
    """`look` is plain, null, missing, blank, nested, faint, required or bar; `old` what stood there before an edit,
    `data` bytes that may be a picture."""

    text: str
    look: str = "plain"
    old: str | None = None
    share: float = 0.0
    data: bytes | None = None


class Cells(Sequence[Cell]):
    """The cells of a line, each made when it is first looked at: of 200 columns only some are in sight."""

    __slots__ = ("_made", "_make")

    def __init__(self, count: int, make: Callable[[int], Cell]) -> None:
        self._make = make
        self._made: list[Any] = [None] * count

    def __len__(self) -> int:
        return len(self._made)

    def __getitem__(self, at: Value) -> Value:
        found = self._made[at]
        if found is None:
            found = self._made[at] = self._make(at)
        return found


@dataclass(frozen=True, slots=True)
class Line:
    """`state` is "", edited, new, deleted or conflict; `depth` -1 for flat rows and the totals."""

    head: str
    cells: Cells
    state: str = ""
    depth: int = -1
    is_open: bool | None = None
    is_strong: bool = False


def cell_of(value: object, field: Field, decimals: int = 0, is_day: bool = False) -> Cell:
    """Ready text; a number with fewer than `decimals` digits behind the point is filled up, none is cut. In a column of
    days (`is_day`) midnight is not shown."""
    if value is None:
        return Cell(usual_looks().null, "null")
    if value is MISSING:
        return Cell("·", "missing")
    if value is DEFAULT:
        return Cell("default", "faint")
    if isinstance(value, str) and value == "":
        return Cell("“ ”", "blank")
    if isinstance(value, bytes):
        return Cell(shown(value, field), data=value)
    if is_day and isinstance(value, dt.datetime) and value.time() == dt.time():
        return Cell(usual_looks().day(value.date()), "plain")
    text = shown(value, field)
    if (
        decimals
        and (field.look is None or (field.look.decimals is None and not field.look.style))
        and isinstance(value, float)
        and text.isascii()
        and "e" not in text
        and "n" not in text
    ):
        text += "0" * (decimals - len(text.partition(".")[2]))
    return Cell(text, "nested" if isinstance(value, (Mapping, list)) else "plain")


def _column(shaped: Shaped, place: int, marks: Mapping[str, str]) -> GridColumn:
    field = usual_looks().of(shaped.field(place))
    look = field.look or PLAIN
    right = look.align == "right" or (not look.align and field.is_amount)
    under = field.note or field.origin
    title = shaped.title(place)
    under = under if title == field.name else field.name
    if field.kind is Kind.ZONED and look.pattern:  # which does not say the zone in each cell
        under = f"{under} · {look.zone or 'UTC'}" if under else look.zone or "UTC"
    mark = marks.get(field.name, "")
    return GridColumn(field.name, under, right, place, mark, title, look.align == "centre", look.paint)


def extremes_of(view: View, place: int) -> tuple[float, float] | None:
    """Smallest and largest finite number of a column, for painting; None where there is none."""
    column, ids = view.table.columns[place], view.row_ids()
    if not column.kind.is_amount:
        return None
    numbers = as_floats(column, ids if column.empty is None else ids[~column.empty_at(ids)])
    numbers = numbers[np.isfinite(numbers)]
    return (float(numbers.min()), float(numbers.max())) if len(numbers) else None


def share_of(value: object, extremes: tuple[float, float] | None, paint: str) -> float:
    """Where a value lies between the extremes, from 0 to 1; bars begin at zero where all values are above it."""
    if extremes is None or isinstance(value, bool) or not isinstance(value, (int, float, Decimal, dt.timedelta)):
        return 0.0
    number = value / dt.timedelta(microseconds=1) if isinstance(value, dt.timedelta) else float(value)
    low, high = extremes
    low = min(low, 0.0) if paint == "bars" else low
    return 0.0 if number != number else max(0.0, min(1.0, (number - low) / (high - low) if high > low else 1.0))


def decimals_of(table: Table, place: int, ids: Ids) -> int:
    """Most digits behind the point among some values of a number column, at most 6."""
    if table.fields[place].kind is not Kind.FLOAT:
        return 0
    texts = [repr(v).partition(".")[2] for v in table.columns[place].values(ids[:_LOOKED_AT]) if v is not None]
    number = max((len(t) for t in texts if t.isdigit()), default=0)
    return number if number <= 6 else 0


def are_days(table: Table, place: int, ids: Ids) -> bool:
    """Whether some times of a column are all at midnight, so that they stand for days."""
    field = table.fields[place]
    if field.kind is not Kind.TIME or (field.look is not None and field.look.pattern):
        return False
    results = [
        v for v in table.columns[place].values(ids[:_LOOKED_AT]) if isinstance(v, dt.datetime)
    ]  # none is MISSING
    return bool(results) and all(v.time() == dt.time() for v in results)


def sort_marks(steps: tuple[object, ...]) -> dict[str, str]:
    """Direction and place of each sort key, from the last sort that is on."""
    sorts = [step for step in steps if isinstance(step, SortStep) and step.on]
    if not sorts:
        return {}
    keys = sorts[-1].keys
    many = len(keys) > 1
    return {k.column: f"{n if many else ''}{'↓' if k.descending else '↑'}" for n, k in enumerate(keys, 1)}


_Extremes = dict[int, tuple[float, float] | None]


class RowsModel:
    """Flat rows with what is pending on them; new rows stand behind the row they were made from, or at the end."""

    def __init__(
        self,
        shaped: Shaped,
        edits: Edits,
        marks: Mapping[str, str],
        conflicts: Mapping[int, Outcome],
        unset: Mapping[int, UnsetCell] = MappingProxyType({}),
        before: RowsModel | None = None,
        fresh: frozenset[int] = frozenset(),
    ) -> None:
        self._table, self._fresh, self._opened = shaped.view.table, fresh, shaped.opened
        self._edits = edits
        self._conflicts, self._unset = conflicts, unset
        self.columns = [_column(shaped, place, marks) for place in shaped.shown()]
        self.pinned = shaped.pinned
        self._fields = {place: usual_looks().of(shaped.field(place)) for place in shaped.shown()}
        self._ids = _with_new(shaped, edits)
        self.rows = len(shaped.view) if self._ids is None else len(self._ids)
        self._view = shaped.view
        some = shaped.view.row_ids(0, _LOOKED_AT)
        # a model is made anew at every edit, of the same rows: what takes going through all of them is kept
        is_same = before is not None and before._view is shaped.view  # noqa: SLF001 - another of its own class
        known: _Extremes = before._extremes if before is not None and is_same else {}  # noqa: SLF001 - another of its own class
        self._extremes: _Extremes = {
            c.place: known[c.place] if c.place in known else extremes_of(shaped.view, c.place)
            for c in self.columns
            if c.paint
        }
        self._decimals = {c.place: decimals_of(self._table, c.place, some) for c in self.columns}
        self._days = {c.place for c in self.columns if are_days(self._table, c.place, some)}
        self._block, self._values = -1, dict[int, list[Any]]()
        self._places: Ids | None = None

    def field(self, column: int) -> Field:
        """What is known of a column, under the name that its header says."""
        head = self.columns[column]
        return replace(self._fields[head.place], name=head.title)

    def row_id(self, position: int) -> int:
        """The row of the stored table at a position."""
        if self._ids is not None:
            return int(self._ids[position])
        return position if self._view.ids is None else int(self._view.ids[position])

    def position_of(self, row_id: int) -> int | None:
        """Where a row stands, or None when a step has taken it out."""
        number = int(self.positions_of(np.array([row_id]))[0])
        return number if number >= 0 else None

    def positions_of(self, row_ids: Ids) -> Ids:
        """Where rows stand; -1 for those that a step has taken out."""
        ids = self._ids if self._ids is not None else self._view.ids
        if ids is None:
            return np.where(row_ids < self.rows, row_ids, -1)
        if self._places is None:
            self._places = np.full(max(self._table.rows, int(ids.max(initial=-1)) + 1), -1)
            self._places[ids] = np.arange(len(ids))
        known = row_ids < len(self._places)
        return np.where(known, self._places.take(np.where(known, row_ids, 0)) if len(self._places) else -1, -1)

    def value(self, position: int, column: int) -> Value:
        """The value of a cell as it would be after its pending edit."""
        row, index = self.row_id(position), self.columns[column].place
        edited = self._pending(self._edits.cells.get(row, {}), row, index)
        if edited is not UNSET:
            return edited
        return None if self._edits.is_new(row) else self._table.columns[index].value(row)

    def unset(self, position: int, column: int) -> UnsetCell | None:
        """What the source will put into a cell of a new row that nothing was typed into; None for any other cell."""
        row, place = self.row_id(position), self.columns[column].place
        if not self._edits.is_new(row) or self._pending(self._edits.cells.get(row, {}), row, place) is not UNSET:
            return None
        return self._unset.get(place)

    def _pending(self, own: Mapping[int, object], row: int, place: int) -> object:
        """What is pending in a cell of a row with these edits; UNSET where nothing is."""
        if place not in self._opened:
            return own.get(place, UNSET)
        place_of_whole, names = self._opened[place]
        whole = own.get(place_of_whole, UNSET)
        if whole is UNSET:
            return UNSET
        for name in names:
            whole = whole.get(name, MISSING) if isinstance(whole, Mapping) else MISSING
        stored = MISSING if self._edits.is_new(row) else self._table.columns[place].value(row)
        return UNSET if exactly(whole, stored) else whole

    def _before(self, position: int, place: int) -> object:
        """A stored value; those of the rows around it are taken at once, which is several times faster."""
        block = position // _BLOCK
        if block != self._block:
            self._block, self._values = block, {}
        if place not in self._values:
            start, stop = block * _BLOCK, (block + 1) * _BLOCK
            ids = self._view.row_ids(start, stop) if self._ids is None else self._ids[start:stop]
            self._values[place] = self._table.columns[place].values(np.minimum(ids, self._table.rows - 1))
        return self._values[place][position % _BLOCK]

    def stored(self, start: int, stop: int) -> tuple[Value, list[Column]] | None:
        """The row ids at some positions and the columns as they are stored; None where anything is pending there."""
        ids = self._view.row_ids(start, stop) if self._ids is None else self._ids[start:stop]
        if len(self._edits.cells) and not self._edits.cells.keys().isdisjoint(ids.tolist()):
            return None
        if len(ids) and int(ids.max()) >= self._table.rows:
            return None
        return ids, [self._table.columns[column.place] for column in self.columns]

    def line(self, position: int) -> Line:
        """What is painted of the row at a position."""
        row = self.row_id(position)
        own = self._edits.cells.get(row, {})
        cells = Cells(len(self.columns), lambda at: self._cell(position, row, own, self.columns[at]))
        head, state = str(position + 1), ""
        if row in self._conflicts:
            head, state = "!", "conflict"
        elif self._edits.is_new(row):
            head, state = "+", "new"
        elif row in self._edits.deleted:
            head, state = "−", "deleted"
        elif own:
            head, state = "±", "edited"
        elif row in self._fresh:
            head, state = "✓", "written"
        return Line(head, cells, state)

    def _cell(self, position: int, row: int, own: Mapping[int, object], column: GridColumn) -> Cell:
        field = self._fields[column.place]
        edited = self._pending(own, row, column.place) if own else UNSET
        style = self._decimals[column.place], column.place in self._days
        if self._edits.is_new(row):
            return _unset(self._unset.get(column.place)) if edited is UNSET else cell_of(edited, field, *style)
        before = self._before(position, column.place)
        if edited is not UNSET:
            now, old = cell_of(edited, field, *style), cell_of(before, field, *style)
            return Cell(now.text, now.look, old.text)
        cell = cell_of(before, field, *style)
        if column.paint:
            return replace(cell, share=share_of(before, self._extremes[column.place], column.paint))
        return cell


def _unset(cell: UnsetCell | None) -> Cell:
    """What a cell of a new row shows that nothing was typed into."""
    if cell is None:
        return Cell("", "faint")
    if cell.filling is Filling.NULL:
        return Cell(usual_looks().null, "null")
    if cell.filling is Filling.ABSENT:
        return Cell("·", "missing")
    return Cell(cell.text, "required" if cell.filling is Filling.REQUIRED else "faint")


def _with_new(shaped: Shaped, edits: Edits) -> Ids | None:
    """Row ids with the new rows put behind their anchors; None when there are none."""
    if not edits.added:
        return None
    ids = np.array(shaped.view.row_ids())
    behind: dict[int, list[int]] = {}
    for row, anchor in edits.added.items():
        behind.setdefault(anchor, []).append(row)

    def chain(anchor: int) -> Iterator[int]:
        """The new rows behind a row, each with those behind itself."""
        stack = behind.get(anchor, [])[::-1]
        while stack:
            row = stack.pop()
            yield row
            stack += behind.get(row, [])[::-1]

    order = np.argsort(ids, kind="stable")
    roots = np.array([anchor for anchor in behind if anchor not in edits.added], np.int64)
    found = np.searchsorted(ids, roots, sorter=order)
    at, new = list[int](), list[int]()
    for anchor, place in zip(roots.tolist(), found.tolist(), strict=True):
        is_here = place < len(ids) and int(ids[order[place]]) == anchor
        own = list(chain(anchor))
        at += [int(order[place]) + 1 if is_here else len(ids)] * len(own)
        new += own
    return np.insert(ids, at, new)


DIFFERENCE_MARKS = {SAME: ("", ""), CHANGED: ("≠", "edited"), ONLY_HERE: ("−", "deleted"), ONLY_THERE: ("+", "new")}
"""What is painted at the head of a row of differences, and how, where the right side is the later one."""


class ComparedModel(RowsModel):
    """Rows that differ: the value on the right with that on the left struck through before it, in one column."""

    def __init__(self, shaped: Shaped, compared: Compared, marks: Mapping[str, str]) -> None:
        super().__init__(shaped, Edits(shaped.view.table.rows), marks, {})
        own = {column.place for column in self.columns}
        beside = {before for place, before in compared.before.items() if place in own}
        self.columns = [column for column in self.columns if column.place not in beside]
        self._compared = compared

    def is_pair(self, column: GridColumn) -> bool:
        """Whether two values stand in a column."""
        return column.place in self._compared.before

    def line(self, position: int) -> Line:
        """What is painted of a row, with the mark of its difference."""
        made = super().line(position)
        at = int(self._compared.lines[self.row_id(position)])
        head, state = DIFFERENCE_MARKS[int(self._compared.found.states[at])]
        return replace(made, head=head or made.head, state=state)

    def _cell(self, position: int, row: int, own: Mapping[int, object], column: GridColumn) -> Cell:
        cell = super()._cell(position, row, own, column)
        pair, before = self._compared.pairs.get(column.place), self._compared.before.get(column.place)
        if pair is None or before is None:
            return cell
        if not self._compared.found.changed[pair][self._compared.lines[row]]:
            return cell
        old = cell_of(self._table.columns[before].value(row), self._fields.get(before, self._table.fields[before]))
        return Cell(cell.text, cell.look, old.text)


class GroupsModel:
    """Groups as a tree in the grid: the keys in one column, the figures, and a bar for the share of rows."""

    def __init__(self, shaped: Shaped, lines: TreeLines, marks: Mapping[str, str]) -> None:
        assert shaped.grouped is not None
        self._grouped = shaped.grouped
        self._lines = lines
        leaves = self._grouped.leaves
        names = [leaves.fields[n].name for n in range(len(self._grouped.keys))]
        self.keys = tuple(names)
        levels = len(names)
        tree_mark = next((marks[name] for name in names if name in marks), "")
        self.columns = [
            GridColumn(
                " › ".join(names), f"{levels} level{'s' if levels > 1 else ''}", False, -1, tree_mark, " › ".join(names)
            )
        ]
        self.pinned = 1 if shaped.pinned else 0
        self._fields = {index: usual_looks().of(shaped.field(index)) for index in range(len(leaves.fields))}
        for index in (p for p in shaped.shown() if p >= levels):
            field = leaves.fields[index]
            source = field.name.removesuffix(f" {field.note}") if field.note != "count" else field.name
            grid_column = _column(shaped, index, marks)
            title = grid_column.title if grid_column.title != field.name else source
            self.columns.append(replace(grid_column, name=source, under=field.note, title=title))
        self._extremes = {c.place: extremes_of(View(leaves), c.place) for c in self.columns if c.paint}
        if any(f.name == "rows" for f in leaves.fields):
            self.columns.append(GridColumn("share of rows", "", False, -2, title="share of rows"))
        self.rows = len(self._lines)
        some = np.arange(min(leaves.rows, _LOOKED_AT))
        self._decimals = {
            p: max((_decimals_of(v) for v in leaves.columns[p].values(some) if v is not None), default=0)
            for p in range(levels, len(leaves.fields))
            if leaves.fields[p].kind is Kind.FLOAT
        }
        self._most = max(1, int(max(level.counts.max(initial=1) for level in self._grouped.levels[:1])))

    def field(self, column: int) -> Field:
        """What is known of a column; the tree's and the bars' have a name alone."""
        head = self.columns[column]
        if head.place < 0:
            return Field(head.name, Kind.OBJECT, note=head.under or "group")
        return replace(self._fields[head.place], name=head.title, note=head.under)

    def tree_row(self, position: int) -> TreeRow:
        """The line of the tree of groups at a position."""
        return self._lines[position]

    def row_id(self, position: int) -> int:
        """The row of the stored table at a position; -1 for a group's line."""
        line = self._lines[position]
        return line.index if line.depth == len(self._grouped.levels) else -1

    def position_of(self, row_id: int) -> int | None:
        """Where a row stands, or None where its group is folded."""
        found = np.flatnonzero((self._lines.index == row_id) & (self._lines.depths == len(self._grouped.levels)))
        return int(found[0]) if len(found) else None

    def value(self, position: int, column: int) -> Value:
        """The value of a cell: of a row, or the aggregate of a group."""
        line, index = self._lines[position], self.columns[column].place
        depth = line.depth
        if depth == len(self._grouped.levels):
            return self._row_value(line.index, column)
        if depth < 0:
            return None if index < 0 else self._totals(index)
        table = self._grouped.levels[depth].table
        if index == -1:
            return table.columns[depth].value(line.index)
        if index == -2:
            return self._share(line)
        return table.columns[index - len(self._grouped.keys) + depth + 1].value(line.index)

    def _totals(self, place: int) -> object:
        return self._grouped.totals.columns[place - len(self._grouped.keys)].value(0)

    def _share(self, line: TreeRow) -> float:
        return float(self._grouped.levels[line.depth].counts[line.index]) / self._most

    def _row_value(self, row: int, column: int) -> object:
        """Inside the deepest group: the row's own value of the column whose figure this is."""
        measure = self.columns[column].place - len(self._grouped.keys)
        measures = self._grouped.measures
        if self.columns[column].place < 0 or measure >= len(measures) or measures[measure].column is None:
            return None
        index = self._grouped.measures[measure].column
        assert index is not None
        return self._grouped.view.table.columns[index].value(row)

    def line(self, position: int) -> Line:
        """What is painted of the group or row at a position."""
        line = self._lines[position]
        depth, levels = line.depth, len(self._grouped.levels)
        cells = Cells(len(self.columns), lambda at: self._cell(position, line, at))
        if depth < 0:
            return Line("", cells)
        is_group = depth < levels
        return Line(str(position + 1), cells, "", depth, line.is_open if is_group else None, depth == 0 and levels > 1)

    def _cell(self, position: int, line: TreeRow, at: int) -> Cell:
        column, value = self.columns[at], self.value(position, at)
        depth, levels = line.depth, len(self._grouped.levels)
        if column.place == -2:
            return Cell("", "bar", share=value or 0.0) if 0 <= depth < levels else Cell("")
        if column.place == -1:
            return self._tree_cell(line, value)
        if value is None and depth == levels:
            return Cell("")
        field = self._fields[column.place]
        said = value if field.look is not None else _rounded(value)
        cell = cell_of(said, field, self._decimals.get(column.place, 0))
        if column.paint and depth == levels - 1:
            return replace(cell, share=share_of(value, self._extremes[column.place], column.paint))
        return cell

    def _tree_cell(self, line: TreeRow, value: object) -> Cell:
        if line.depth < 0:
            return Cell("all rows", "faint")
        if line.depth == len(self._grouped.levels):
            return Cell(f"row {grouped(line.index + 1)}", "faint")
        key = self._grouped.keys[line.depth]
        return cell_of(value, usual_looks().of(self._grouped.view.table.fields[key]))


def _decimals_of(value: float) -> int:
    return min(3, len(repr(_rounded(value)).partition(".")[2]))


def _rounded(value: object) -> object:
    """Figures are shown with at most three decimals; what is delivered has all digits."""
    return round(value, 3) if isinstance(value, float) and value == value and abs(value) < 1e12 else value


def model_for(
    shaped: Shaped,
    edits: Edits,
    lines: TreeLines | None,
    steps: tuple[object, ...],
    conflicts: Mapping[int, Outcome],
    unset: Mapping[int, UnsetCell],
    before: RowsModel | GroupsModel | None = None,
    fresh: frozenset[int] = frozenset(),
) -> RowsModel | GroupsModel:
    """`lines` are those of groups, None for rows; `before` is the model that was shown, of which what still holds is
    used again; `fresh` are rows just written."""
    marks = sort_marks(steps)
    if shaped.grouped is not None:
        assert lines is not None
        return GroupsModel(shaped, lines, marks)
    if shaped.compared is not None:
        return ComparedModel(shaped, shaped.compared, marks)
    if not shaped.own_rows:
        return RowsModel(shaped, Edits(shaped.view.table.rows), marks, {})
    earlier = before if isinstance(before, RowsModel) else None
    return RowsModel(shaped, edits, marks, conflicts, unset, earlier, fresh)


_WIDTHS = {
    Kind.INT: 92, Kind.FLOAT: 102, Kind.BOOL: 76, Kind.TIME: 148, Kind.DATE: 104, Kind.DECIMAL: 102, Kind.TEXT: 124,
    Kind.UUID: 312, Kind.OBJECT: 170, Kind.ZONED: 156, Kind.CLOCK: 92, Kind.SPAN: 104,
}  # fmt: skip


def column_width(table: Table, place: int) -> int:
    """Pixels of a table's column before anyone has set them."""
    return first_width(GridColumn("", "", False, place), table)


def first_width(column: GridColumn, table: Table, kind_widths: Mapping[Kind, int] = _WIDTHS) -> int:
    """A column's width before anyone has set it, from its kind."""
    if column.place == -1:
        return 200
    if column.place == -2:
        return 114
    field = table.fields[column.place]
    if field.kind is Kind.TIME and not field.form.endswith("%H:%M"):
        return 166
    return kind_widths.get(field.kind, 120)
