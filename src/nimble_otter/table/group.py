"""Grouping rows by columns, nested, with figures of each group and totals at each level."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Context, Decimal
from enum import StrEnum
from typing import Any

import numpy as np
from numpy.typing import NDArray

from nimble_otter.errors import ConditionError
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table.build import column_of
from nimble_otter.table.columns import Column, Field, Ids, Kind, Table, View
from nimble_otter.table.sort import Piece, codes_of, key_pieces, order_of


class Figure(StrEnum):
    """What can be worked out over the rows of a group. All but COUNT pass over empty values."""

    COUNT = "count"
    FILLED = "filled"
    SUM = "sum"
    MEAN = "mean"
    MEDIAN = "median"
    MIN = "min"
    MAX = "max"
    DISTINCT = "distinct"

    @property
    def needs_numbers(self) -> bool:
        return self in (Figure.SUM, Figure.MEAN, Figure.MEDIAN)


@dataclass(frozen=True, slots=True)
class Measure:
    """A figure of a column; COUNT needs none."""

    figure: Figure
    column: int | None = None


@dataclass(frozen=True, slots=True, eq=False)
class Level:
    """The groups of one depth, in ascending order of their keys.

    `table` has the key columns down to this depth, then one column a measure. `parent` is the group above each (zeros
    at the top). The rows of group g are `order[starts[g]:starts[g + 1]]`, row ids in the grouped view's order.
    """

    table: Table
    parent: Ids
    order: Ids
    starts: Ids


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
        _check(table, measure)
    codes = np.zeros(len(ids), np.int64)
    levels: list[Level] = []
    parents = 1
    for depth, key in enumerate(keys):
        stop.check()
        own, _ = codes_of(table.columns[key], ids, stop)
        width = int(own.max()) + 1 if len(own) else 1
        combined = codes * width + own
        codes, groups, first = _compress(combined, parents * width)
        parent = codes_before(groups, width)
        order = _by_code(codes, len(groups), stop)
        starts = np.searchsorted(codes.take(order), np.arange(len(groups) + 1))
        fields = [table.fields[k] for k in keys[: depth + 1]]
        columns = [table.columns[k].take(ids.take(first)) for k in keys[: depth + 1]]
        figures = [_measure(table, m, ids, order, starts, codes, stop) for m in measures]
        fields += [_field(table, m, c) for m, c in zip(measures, figures, strict=True)]
        levels.append(Level(Table(tuple(fields), (*columns, *figures), len(groups)), parent, ids.take(order), starts))
        parents = len(groups)
    return Grouped(view, tuple(keys), tuple(measures), tuple(levels), _totals(table, measures, ids, stop))


def _totals(table: Table, measures: Sequence[Measure], ids: Ids, stop: StopToken) -> Table:
    everything = np.arange(len(ids), dtype=np.int64)
    edges = np.array([0, len(ids)], np.int64)
    columns = [_measure(table, m, ids, everything, edges, np.zeros(len(ids), np.int64), stop) for m in measures]
    return Table(tuple(_field(table, m, c) for m, c in zip(measures, columns, strict=True)), tuple(columns), 1)


def codes_before(groups: Ids, width: int) -> Ids:
    """The number, among the combinations one level up, of each combined code; those above are all in use."""
    above = groups // width
    return np.unique(above, return_inverse=True)[1].astype(np.int64) if len(above) else above


def _compress(combined: Ids, span: int) -> tuple[Ids, Ids, Ids]:
    """Number the codes in use: (new codes, the codes in use ascending, the first place of each)."""
    if span <= 4 * len(combined) + 1024:
        first = np.full(span, -1, np.int64)
        first[combined[::-1]] = np.arange(len(combined) - 1, -1, -1)
        groups = np.flatnonzero(first >= 0)
        renumber = np.zeros(span, np.int64)
        renumber[groups] = np.arange(len(groups))
        return renumber.take(combined), groups, first.take(groups)
    groups, first, codes = np.unique(combined, return_index=True, return_inverse=True)
    return codes.astype(np.int64), groups, first.astype(np.int64)


def _by_code(codes: Ids, groups: int, stop: StopToken) -> Ids:
    keys = codes.astype(np.uint64)
    bits = max(1, int(groups - 1).bit_length()) if groups else 1
    return order_of([lambda: iter([Piece(bits, lambda at: keys if at is None else keys.take(at))])], len(codes), stop)


def _check(table: Table, measure: Measure) -> None:
    if measure.column is None:
        return
    field = table.fields[measure.column]
    if measure.figure.needs_numbers and not field.kind.is_number:
        raise ConditionError(
            f"{field.name} holds {field.kind.value}, which has no {measure.figure.value}.",
            "Use min, max, count, filled or distinct.",
        )


def _field(table: Table, measure: Measure, column: Column) -> Field:
    if measure.column is None:
        return Field("rows", column.kind, note="count")
    source = table.fields[measure.column]
    return Field(source.name, column.kind, note=measure.figure.value, form=source.form)


def _measure(table: Table, measure: Measure, ids: Ids, order: Ids, starts: Ids, codes: Ids, stop: StopToken) -> Column:
    """One figure for each group; `order` are places in `ids` by group, `codes` the group of each place."""
    groups = len(starts) - 1
    if measure.column is None or measure.figure is Figure.COUNT:
        return Column(Kind.INT, np.diff(starts))
    column = table.columns[measure.column]
    full = ~column.empty_at(ids)
    counts = np.bincount(codes[full], minlength=groups).astype(np.int64)
    if measure.figure is Figure.FILLED:
        return Column(Kind.INT, counts)
    places = order[full.take(order)]
    edges = np.concatenate([[0], np.cumsum(counts)])
    none = counts == 0
    if measure.figure is Figure.SUM:
        return _sum(column, ids.take(places), edges, none)
    if measure.figure is Figure.MEAN:
        numbers = as_floats(column, ids[full])
        sums = np.bincount(codes[full], weights=numbers, minlength=groups)
        return Column(Kind.FLOAT, np.where(none, 0.0, sums / np.maximum(counts, 1)), none if none.any() else None)
    return _ordered_figure(measure.figure, column, ids.take(places), codes.take(places), edges, none, stop)


def as_floats(column: Column, ids: Ids) -> NDArray[np.float64]:
    """Numbers of the rows as float64 (decimals rounded once)."""
    data = column.data.take(ids).astype(np.float64)
    return data / 10.0**column.scale if column.kind is Kind.DECIMAL else data


def _sum(column: Column, ids: Ids, edges: Ids, none: NDArray[np.bool_]) -> Column:
    """Exact for integers and decimals, however large; floats by pairwise-free float64 addition in row order."""
    data = column.data.take(ids)
    empty = none if none.any() else None
    if len(data) == 0:
        return Column(column.kind, np.zeros(len(none), data.dtype), empty, scale=column.scale)
    if column.kind is not Kind.FLOAT:
        peak = max(abs(int(data.min())), abs(int(data.max())))
        if peak * len(data) >= 1 << 63:
            return _big_sums(column, data, edges, none)
    sums = np.add.reduceat(np.append(data, data.dtype.type(0)), edges[:-1])
    return Column(column.kind, np.where(none, data.dtype.type(0), sums), empty, scale=column.scale)


def _big_sums(column: Column, data: NDArray[Any], edges: Ids, none: NDArray[np.bool_]) -> Column:
    high, low = data >> np.int64(32), data & np.int64(0xFFFF_FFFF)
    halves = [np.add.reduceat(np.append(half, np.int64(0)), edges[:-1]).tolist() for half in (high, low)]
    sums = [(a << 32) + b for a, b in zip(*halves, strict=True)]
    exact = sums if column.kind is Kind.INT else [_decimal(s, column.scale) for s in sums]
    return column_of([None if gone else s for s, gone in zip(exact, none.tolist(), strict=True)])


def _decimal(scaled: int, scale: int) -> Any:
    return Decimal(scaled).scaleb(-scale, Context(prec=60))


def _ordered_figure(
    figure: Figure, column: Column, ids: Ids, codes: Ids, edges: Ids, none: NDArray[np.bool_], stop: StopToken
) -> Column:
    """Figures that need each group's values in order: smallest, largest, middle, how many different."""
    groups = len(none)
    keys = codes.astype(np.uint64)
    bits = max(1, int(max(groups - 1, 0)).bit_length())
    by_group = Piece(bits, lambda at: keys if at is None else keys.take(at))
    order = order_of([lambda: iter([by_group]), lambda: key_pieces(column, ids, False, False)], len(ids), stop)
    empty = none if none.any() else None
    if figure is Figure.DISTINCT:
        new = np.zeros(len(ids), np.bool_)
        new[edges[:-1][~none]] = True
        for piece in key_pieces(column, ids, False, False):
            values = piece.take(None).take(order)
            new[1:] |= values[1:] != values[:-1]
        total = np.concatenate([[0], np.cumsum(new)])
        return Column(Kind.INT, total[edges[1:]] - total[edges[:-1]])
    last = max(len(ids) - 1, 0)
    if len(ids) == 0:
        return column_of([None] * groups)
    if figure is Figure.MEDIAN:
        counts = np.diff(edges)
        low = np.clip(edges[:-1] + (counts - 1) // 2, 0, last)
        high = np.clip(edges[:-1] + counts // 2, 0, last)
        numbers = as_floats(column, ids)
        middle = numbers[order[low]] / 2 + numbers[order[high]] / 2
        middle = np.where(low == high, numbers[order[low]], middle)
        return Column(Kind.FLOAT, np.where(none, 0.0, middle), empty)
    at = edges[:-1] if figure is Figure.MIN else edges[1:] - 1
    picked = column.take(ids.take(order.take(np.clip(at, 0, last))))
    if empty is None:
        return picked
    return column_of([None if gone else v for v, gone in zip(picked.values(), none.tolist(), strict=True)])
