"""Grouping rows by columns, nested, with figures of each group and totals at each level."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np

from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table.columns import Ids, Table, View, freeze
from nimble_otter.table.figures import Figure, Groups, Measure, as_floats, check_measure, measured_field
from nimble_otter.table.sort import codes_of, order_by_codes

__all__ = ["Figure", "Grouped", "Level", "Measure", "as_floats", "group_view"]


@dataclass(slots=True, eq=False)
class Level:
    """The groups of one depth, in ascending order of their keys.

    `table` has the key columns down to this depth, then one column a measure. `parent` is the group above each (zeros
    at the top), `counts` how many rows each has. `codes` is the group of each row, in the view's order; `ids` are those
    rows' ids.
    """

    table: Table
    parent: Ids
    counts: Ids
    codes: Ids
    ids: Ids
    _rows: tuple[Ids, Ids] | None = field(default=None, init=False, repr=False)

    def rows_of(self, group: int) -> Ids:
        """Row ids of a group, in the view's order. The rows are put in order of their groups when first asked for."""
        if self._rows is None:
            order = self.ids.take(order_by_codes(self.codes, len(self.counts)))
            self._rows = order, np.concatenate([[0], np.cumsum(self.counts)])
        order, starts = self._rows
        return order[starts[group] : starts[group + 1]]


@dataclass(frozen=True, slots=True, eq=False)
class Grouped:
    """All levels, outermost first, and `totals`: a table of one row, the measures over all rows."""

    view: View
    keys: tuple[int, ...]
    measures: tuple[Measure, ...]
    levels: tuple[Level, ...]
    totals: Table

    @property
    def leaves(self) -> Table:
        """The deepest level: one row a combination of all keys."""
        return self.levels[-1].table


def group_view(view: View, keys: Sequence[int], measures: Sequence[Measure], stop: StopToken = NEVER) -> Grouped:
    """Group the view's rows. Empty keys make a group of their own. Raises: ConditionError, Stopped."""
    table, ids = view.table, view.row_ids()
    for measure in measures:
        check_measure(table, measure)
    codes = np.zeros(len(ids), np.int64)
    parents = 1
    found: list[tuple[Ids, Ids]] = []
    for depth, key in enumerate(keys):
        stop.check()
        own, examples = codes_of(table.columns[key], ids, stop)
        width = max(1, len(examples))
        codes, groups, first = _compress(codes * width + own if depth else own, parents * width)
        found.append((_above(groups, width), first))
        parents = len(groups)
    made = Groups(table, ids, codes, parents, stop)
    levels: list[Level] = []
    for depth in range(len(keys) - 1, -1, -1):  # the deepest first: the others are made of its groups
        parent, first = found[depth]
        fields = [table.fields[k] for k in keys[: depth + 1]]
        columns = [table.columns[k].take(ids.take(first)) for k in keys[: depth + 1]]
        figures = [made.measure(m, parent) for m in measures]
        fields += [measured_field(table, m, c) for m, c in zip(measures, figures, strict=True)]
        held = freeze(made.codes.astype(np.int32))
        assert held is not None
        levels.append(Level(Table(tuple(fields), (*columns, *figures), made.groups), parent, made.counts, held, ids))
        made = made.above(parent, len(found[depth - 1][1]) if depth else 1)
    return Grouped(view, tuple(keys), tuple(measures), tuple(levels[::-1]), _totals(table, measures, made))


def _totals(table: Table, measures: Sequence[Measure], everything: Groups) -> Table:
    columns = [everything.measure(m) for m in measures]
    fields = [measured_field(table, m, c) for m, c in zip(measures, columns, strict=True)]
    return Table(tuple(fields), tuple(columns), 1)


def _above(groups: Ids, width: int) -> Ids:
    """The number, among the combinations one level up, of each combined code; those above are all in use."""
    above = groups // width
    return np.unique(above, return_inverse=True)[1].astype(np.int64) if len(above) else above


def _compress(combined: Ids, span: int) -> tuple[Ids, Ids, Ids]:
    """Number the codes in use: (new codes, the codes in use ascending, the first place of each)."""
    if span <= 4 * len(combined) + 1024:
        first = np.full(span, -1, np.int64)
        first[combined[::-1]] = np.arange(len(combined) - 1, -1, -1)
        groups = np.flatnonzero(first >= 0)
        if len(groups) == span:
            return combined, groups, first
        renumber = np.zeros(span, np.int64)
        renumber[groups] = np.arange(len(groups))
        return renumber.take(combined), groups, first.take(groups)
    groups, first, codes = np.unique(combined, return_index=True, return_inverse=True)
    return codes.astype(np.int64), groups, first.astype(np.int64)
