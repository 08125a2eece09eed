"""Groups as the lines of a tree, opened to any depth, for the grid and for delivery."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from nimble_otter.pull.shaped import Shaped
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table import Field, Kind, Table, View
from nimble_otter.table.core.build import column_of
from nimble_otter.table.core.columns import Column, Ids, Mask, distinct_names
from nimble_otter.table.kernels.packing import slots_of
from nimble_otter.table.ops.combine import chained
from nimble_otter.table.ops.group import Aggregate

LEVEL = "level"
"""The first column of a tree that is delivered: 1 for the outermost groups, 0 for the totals."""


@dataclass(frozen=True, slots=True)
class TreeRow:
    """A line of a grouped grid: a group (`depth` from 0, `index` at its level), a row inside one (`depth` is the number
    of levels, `index` a row id), or the totals (`depth` -1)."""

    depth: int
    index: int
    is_open: bool = False


@dataclass(frozen=True, slots=True)
class Opened:
    """Which groups are open: all of the first `levels` depths and no others, but for those `turned` (depth, index)."""

    levels: int = 0
    turned: frozenset[tuple[int, int]] = frozenset()

    def toggled(self, depth: int, group: int) -> Opened:
        """With a group open that was shut, or shut that was open."""
        return replace(self, turned=self.turned ^ {(depth, group)})

    def around(self, shaped: Shaped, row: int) -> Opened:
        """With all groups open that a row is in."""
        assert shaped.grouped is not None
        codes = [level.codes[level.ids == row] for level in shaped.grouped.levels]
        way = [(depth, int(own[0])) for depth, own in enumerate(codes) if len(own)]
        shut = {each for each in way if not self.at(each[0], np.array([each[1]]))[0]}
        return replace(self, turned=self.turned ^ shut)

    def at(self, depth: int, groups: Ids) -> Mask:
        """True where groups of a depth are open."""
        turned = [group for own, group in self.turned if own == depth]
        held = np.full(len(groups), depth < self.levels)
        return held ^ np.isin(groups, turned) if turned else held


@dataclass(frozen=True, slots=True, eq=False)
class TreeLines:
    """The lines of a tree, one place each: how deep, which group or row, whether open; as in TreeRow."""

    depths: NDArray[np.int8]
    index: Ids
    opens: Mask

    def __len__(self) -> int:
        return len(self.depths)

    def __getitem__(self, at: int) -> TreeRow:
        return TreeRow(int(self.depths[at]), int(self.index[at]), bool(self.opens[at]))


def tree_lines(shaped: Shaped, opened: Opened, stop: StopToken = NEVER) -> TreeLines:
    """Lines of the tree with these groups open, in the order shown; the totals last. Raises: Stopped."""
    lines, _ = _expanded(shaped, opened, 0, shaped.orders[0], stop)
    return TreeLines(np.append(lines.depths, np.int8(-1)), np.append(lines.index, 0), np.append(lines.opens, False))


def _expanded(shaped: Shaped, opened: Opened, depth: int, groups: Ids, stop: StopToken) -> tuple[TreeLines, Ids]:
    """Lines of some groups of a depth (behind the deepest: of rows) and what is open inside them; how many each has."""
    stop.check()
    assert shaped.grouped is not None
    sizes = np.ones(len(groups), np.int64)
    opens = opened.at(depth, groups) if depth < len(shaped.grouped.levels) else np.zeros(len(groups), np.bool_)
    if not opens.any():
        return TreeLines(np.full(len(groups), depth, np.int8), groups, opens), sizes
    inner, counts = _inside(shaped, depth, groups[opens])
    below, below_sizes = _expanded(shaped, opened, depth + 1, inner, stop)
    ends = np.concatenate([[0], np.cumsum(below_sizes)]).take(np.concatenate([[0], np.cumsum(counts)]))
    sizes[opens] += np.diff(ends)
    own = np.zeros(int(sizes.sum()), np.bool_)
    own[np.cumsum(sizes) - sizes] = True
    lines = TreeLines(np.full(len(own), depth, np.int8), np.empty(len(own), np.int64), np.zeros(len(own), np.bool_))
    lines.depths[~own] = below.depths
    for made, mine, theirs in ((lines.index, groups, below.index), (lines.opens, opens, below.opens)):
        made[own], made[~own] = mine, theirs
    return lines, sizes


def _inside(shaped: Shaped, depth: int, parents: Ids) -> tuple[Ids, Ids]:
    """What stands right below groups of a depth, in the order shown, one group's behind the other's; how many each."""
    assert shaped.grouped is not None
    level = shaped.grouped.levels[depth]
    if depth + 1 == len(shaped.grouped.levels):
        return level.rows_of(parents)
    order = shaped.orders[depth + 1]
    above = shaped.grouped.levels[depth + 1].parent.take(order)
    begins = np.flatnonzero(np.diff(above, prepend=-1))  # those of one parent are together
    runs = np.zeros((level.table.rows, 2), np.int64)
    runs[above.take(begins)] = np.stack([begins, np.append(begins[1:], len(order))], axis=1)
    places, counts = slots_of(runs.take(parents, axis=0))
    return order.take(places), counts


def tree_to_send(shaped: Shaped, opened: Opened | None = None) -> tuple[list[Field], list[Column], View]:
    """The lines of the tree as rows: how deep each is, the keys down to there, then the columns shown. Without
    `opened` all groups are open, but not their rows."""
    assert shaped.grouped is not None
    grouped = shaped.grouped
    lines = tree_lines(shaped, Opened(len(grouped.levels) - 1) if opened is None else opened)
    depths, index = lines.depths.astype(np.int64), lines.index
    results = [-1, *range(len(grouped.levels) + 1)]
    chosen = [np.flatnonzero(depths == depth) for depth in results]
    order = np.empty(len(lines), np.int64)  # where each line stands when those of one depth are behind each other
    order[np.concatenate(chosen)] = np.arange(len(lines))
    ids = [index.take(places) for places in chosen]
    fields = [Field(LEVEL, Kind.INT)]
    columns = [Column(Kind.INT, depths + 1)]
    keys = len(grouped.keys)
    for place in dict.fromkeys((*range(keys), *(p for p in shaped.shown() if p >= keys))):
        parts = [_at_depth(shaped, depth, place, some) for depth, some in zip(results, ids, strict=True)]
        column = chained(parts).take(order)
        fields.append(replace(shaped.field(place), name=shaped.title(place), kind=column.kind))
        columns.append(column)
    return distinct_names(fields), columns, View(Table(tuple(fields), tuple(columns), len(lines)))


def _at_depth(shaped: Shaped, depth: int, place: int, ids: Ids) -> Column:
    """A column of the deepest level's table as lines of one depth have it: groups, rows inside them, or the totals."""
    assert shaped.grouped is not None
    grouped, keys = shaped.grouped, len(shaped.grouped.keys)
    is_key, figure = place < keys, place - keys
    nothing = column_of([None] * len(ids))
    if depth < 0:
        return nothing if is_key else grouped.totals.columns[figure].take(ids)
    if depth < len(grouped.levels):
        table = grouped.levels[depth].table
        if is_key:
            return table.columns[place].take(ids) if place <= depth else nothing
        return table.columns[depth + 1 + figure].take(ids)
    own = grouped.keys[place] if is_key else _measured(grouped.measures, figure)
    return nothing if own is None else grouped.view.table.columns[own].take(ids)


def _measured(measures: Sequence[Aggregate], figure: int) -> int | None:
    return measures[figure].column if figure < len(measures) else None
