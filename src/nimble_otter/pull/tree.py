"""Groups as the lines of a tree, opened to any depth, for the grid and for delivery."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from nimble_otter.pull.shaped import Shaped
from nimble_otter.table import Field, Kind, Table, View
from nimble_otter.table.build import column_of
from nimble_otter.table.columns import Column, Ids, distinct_names
from nimble_otter.table.combine import chained
from nimble_otter.table.group import Level, Measure

LEVEL = "level"
"""The first column of a tree that is delivered: 1 for the outermost groups, 0 for the totals."""


@dataclass(frozen=True, slots=True)
class TreeRow:
    """A line of a grouped grid: a group (`depth` from 0, `index` at its level), a row inside one (`depth` is the number
    of levels, `index` a row id), or the totals (`depth` -1)."""

    depth: int
    index: int
    is_open: bool = False


def tree_rows(shaped: Shaped, is_open: frozenset[tuple[int, int]], most: int = 200_000) -> list[TreeRow]:
    """Lines of the tree with the given groups (depth, index) open; the totals last. Stops at `most` lines."""
    assert shaped.grouped is not None
    levels = shaped.grouped.levels
    children = [_children(level, order) for level, order in zip(levels[1:], shaped.orders[1:], strict=True)]
    lines: list[TreeRow] = []

    def add(depth: int, groups: list[int]) -> None:
        for group in groups:
            if len(lines) >= most:
                return
            opened = (depth, group) in is_open
            lines.append(TreeRow(depth, group, opened))
            if not opened:
                continue
            if depth + 1 < len(levels):
                add(depth + 1, children[depth].get(group, []))
            else:
                rows = levels[depth].rows_of(group)[: most - len(lines)]
                lines.extend(TreeRow(depth + 1, row) for row in rows.tolist())

    add(0, shaped.orders[0].tolist())
    lines.append(TreeRow(-1, 0))
    return lines


def _children(level: Level, order: Ids) -> dict[int, list[int]]:
    found: dict[int, list[int]] = {}
    for parent, group in zip(level.parent[order].tolist(), order.tolist(), strict=True):
        found.setdefault(parent, []).append(group)
    return found


def all_open(shaped: Shaped) -> frozenset[tuple[int, int]]:
    """Every group but those of the deepest level, so that no rows are among the lines."""
    assert shaped.grouped is not None
    above = shaped.grouped.levels[:-1]
    return frozenset((depth, group) for depth, level in enumerate(above) for group in range(level.table.rows))


def tree_to_send(
    shaped: Shaped, is_open: frozenset[tuple[int, int]] | None = None
) -> tuple[list[Field], list[Column], View]:
    """The lines of the tree as rows: how deep each is, the keys down to there, then the columns shown. Without
    `is_open` all groups are open, but not their rows."""
    assert shaped.grouped is not None
    lines = tree_rows(shaped, all_open(shaped) if is_open is None else is_open, most=1 << 60)
    grouped = shaped.grouped
    depths = np.array([line.depth for line in lines], np.int64)
    index = np.array([line.index for line in lines], np.int64)
    found = [-1, *range(len(grouped.levels) + 1)]
    chosen = [np.flatnonzero(depths == depth) for depth in found]
    order = np.empty(len(lines), np.int64)  # where each line stands when those of one depth are behind each other
    order[np.concatenate(chosen)] = np.arange(len(lines))
    ids = [index.take(places) for places in chosen]
    fields = [Field(LEVEL, Kind.INT)]
    columns = [Column(Kind.INT, depths + 1)]
    keys = len(grouped.keys)
    for place in dict.fromkeys((*range(keys), *(p for p in shaped.shown() if p >= keys))):
        parts = [_at_depth(shaped, depth, place, some) for depth, some in zip(found, ids, strict=True)]
        made = chained(parts).take(order)
        fields.append(replace(shaped.field(place), name=shaped.title(place), kind=made.kind))
        columns.append(made)
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


def _measured(measures: Sequence[Measure], figure: int) -> int | None:
    return measures[figure].column if figure < len(measures) else None
