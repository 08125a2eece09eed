"""Grouping rows by columns, nested, with figures of each group and totals at each level."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from functools import partial

import numpy as np

from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table.core.columns import Column, Field, Ids, Kind, Table, View
from nimble_otter.table.kernels.codes import compressed, first_places, numbered
from nimble_otter.table.kernels.packing import order_by_codes, slots_of, stretches
from nimble_otter.table.ops.figures import Groups
from nimble_otter.table.ops.measures import Aggregate, AggregateFunction, check_measure, measured_field

Further = Callable[[Table], tuple[Field, Column]]
__all__ = ["Aggregate", "AggregateFunction", "Grouped", "Level", "group_view"]


_FEW = 4
"""Groups whose rows are looked for one by one, rather than all rows put in order of their groups."""


@dataclass(slots=True, eq=False)
class Level:
    """The groups of one depth, in ascending order of their keys.

    `table` has the key columns down to this depth, then one column a measure. `parent` is the group above each (zeros
    at the top), `counts` how many rows each has. `ids` are the rows' ids.
    """

    table: Table
    parent: Ids
    counts: Ids
    ids: Ids
    _made: Groups
    _rows: tuple[Ids, Ids] | None = field(default=None, init=False, repr=False)

    @property
    def codes(self) -> Ids:
        """The group of each row, in the view's order."""
        return self._made.codes

    def rows_of(self, groups: Ids) -> tuple[Ids, Ids]:
        """Row ids of some groups, one's behind the other's, each in the view's order; and how many each has."""
        if self._rows is None and len(groups) <= _FEW:
            results = [self.ids.take(np.flatnonzero(self.codes == group)) for group in groups.tolist()]
            return np.concatenate(results) if results else self.ids[:0], self.counts.take(groups)
        if self._rows is None:
            order = self.ids.take(order_by_codes(self.codes, len(self.counts)))
            self._rows = order, np.cumsum(self.counts)
        order, ends = self._rows
        places, counts = slots_of(np.stack([ends - self.counts, ends], axis=1).take(groups, axis=0))
        return order.take(places), counts


@dataclass(frozen=True, slots=True, eq=False)
class Grouped:
    """All levels, outermost first, and `totals`: a table of one row, the measures over all rows. `further` made columns
    behind those of the measures, at each level from the columns that this has."""

    view: View
    keys: tuple[int, ...]
    measures: tuple[Aggregate, ...]
    levels: tuple[Level, ...]
    totals: Table
    further: tuple[Further, ...] = ()

    def with_column(self, make: Further) -> Grouped:
        """A further column at each level and in the totals. Raises what `make` raises."""

        def wider(table: Table) -> Table:
            made, column = make(table)
            return Table((*table.fields, made), (*table.columns, column), table.rows)

        levels = tuple(replace(level, table=wider(level.table)) for level in self.levels)
        return replace(self, levels=levels, totals=wider(self.totals), further=(*self.further, make))

    @property
    def leaves(self) -> Table:
        """The deepest level: one row a combination of all keys."""
        return self.levels[-1].table


def group_view(view: View, keys: Sequence[int], measures: Sequence[Aggregate], stop: StopToken = NEVER) -> Grouped:
    """Group the view's rows, level by level.

    Parameters
    ----------
    view : View
    keys : sequence of int
        Columns, the outermost first. Rows without a value make a group of their own.
    measures : sequence of Aggregate
    stop : StopToken

    Returns
    -------
    Grouped
        A table for each level, and the totals over all rows.

    Raises
    ------
    ConditionError
        A measure does not go with its column.
    Stopped

    Examples
    --------
    >>> from nimble_otter.table.core.build import table_of
    >>> from nimble_otter.table.ops.measures import AggregateFunction
    >>> table = table_of(river=["Sallow", "Merrow", "Merrow"], n=[1, 2, 4])
    >>> groups = group_view(View(table), [0], [Aggregate(AggregateFunction.SUM, 1)])
    >>> [column.values() for column in groups.levels[0].table.columns]
    [['Merrow', 'Sallow'], [6, 1]]
    """
    view = View(_with_numbers(view.table, measures), view.ids)
    table, ids = view.table, view.row_ids()
    for measure in measures:
        check_measure(table, measure)
    codes, counts, parents = _coded(table, keys, ids, stop)
    groups = Groups(table, ids, codes, counts, stop)
    first = first_places(codes, len(counts)) if len(ids) else np.empty(0, np.int64)
    levels: list[Level] = []
    for depth in range(len(keys) - 1, -1, -1):  # the deepest first: the others are made of its groups
        fields = [table.fields[k] for k in keys[: depth + 1]]
        columns = [table.columns[k].take(ids.take(first)) for k in keys[: depth + 1]]
        figures = [groups.measure(m, parents[depth]) for m in measures]
        fields += [measured_field(table, m, c) for m, c in zip(measures, figures, strict=True)]
        told = Table(tuple(fields), (*columns, *figures), groups.groups)
        levels.append(Level(told, parents[depth], groups.counts, ids, groups))
        groups, first = _above(groups, parents[depth], first, len(parents[depth - 1]) if depth else 1)
    totals = _totals(table, measures, groups)
    for used in (groups, *(level._made for level in levels)):  # noqa: SLF001 - a part of it
        used.forget()
    return Grouped(view, tuple(keys), tuple(measures), tuple(levels[::-1]), totals)


def _with_numbers(table: Table, measures: Sequence[Aggregate]) -> Table:
    """The table with columns that have no values at all, of which numbers are wanted, as numbers: nobody could tell of
    what kind they are."""
    fields, columns = list(table.fields), list(table.columns)
    for measure in measures:
        at = measure.column
        if at is None or not measure.figure.needs_numbers or fields[at].is_amount or not columns[at].empty_at().all():
            continue
        columns[at] = Column(Kind.FLOAT, np.zeros(table.rows), np.ones(table.rows, np.bool_))
        fields[at] = replace(fields[at], kind=Kind.FLOAT, form="")
    return table if columns == list(table.columns) else Table(tuple(fields), tuple(columns), table.rows)


def _coded(table: Table, keys: Sequence[int], ids: Ids, stop: StopToken) -> tuple[Ids, Ids, list[Ids]]:
    """The group of each row by all keys, how many rows each group has, and for each key the parents of its groups."""
    codes, span = np.zeros(len(ids), np.int64), 1
    counts, parents = np.array([len(ids)]), list[Ids]()
    widths: list[int] = []  # of the keys since the codes were last numbers of groups that there are

    def settle() -> None:
        nonlocal codes, span, counts
        codes, used, counts = compressed(codes, span, stop)
        levels = []
        for width in reversed(widths):
            above = used // width
            begins = np.diff(above, prepend=-1) != 0
            levels.append(np.cumsum(begins) - 1)
            used = above[begins]
        parents.extend(reversed(levels))
        widths.clear()
        span = len(counts)

    for key in keys:
        stop.check()
        own, width = numbered(table.columns[key], ids, stop)
        if widths and span * width > 4 * len(ids) + 1024:
            settle()
        if span > 1:
            stop.map_parallel(partial(_join, own, codes, width), stretches(0, len(own)))
        codes, span = own, span * width
        widths.append(width)
    if keys:
        settle()
    return codes, counts, parents


def _join(own: Ids, codes: Ids, width: int, part: slice) -> None:
    """Numbers below `width` become those of them within the groups so far."""
    own[part] += codes[part] * width


def _above(made: Groups, parent: Ids, first: Ids, count: int) -> tuple[Groups, Ids]:
    """The groups that these are parts of, and the first row of each; parts of one stand together."""
    if not len(first):
        return made.above(parent, count), first
    starts = np.flatnonzero(np.diff(parent, prepend=-1))
    return made.above(parent, count), np.minimum.reduceat(first, starts)


def _totals(table: Table, measures: Sequence[Aggregate], everything: Groups) -> Table:
    columns = [everything.measure(m) for m in measures]
    fields = [measured_field(table, m, c) for m, c in zip(measures, columns, strict=True)]
    return Table(tuple(fields), tuple(columns), 1)
