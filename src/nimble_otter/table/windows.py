"""Window functions: values worked out over the rows of a partition in an order (ISO 9075, default frame)."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from decimal import Decimal
from typing import Any

import numpy as np

from nimble_otter.stop import StopToken
from nimble_otter.table.build import column_of
from nimble_otter.table.codes import changes, starts_of
from nimble_otter.table.columns import Column, Field, Ids, Kind, Table, View, blanked
from nimble_otter.table.conditions import Call, Case, ColumnAt, Literal, Operand, Windowed
from nimble_otter.table.sort import SortKey, sort_view

WINDOWS = ("row_number", "rank", "dense_rank", "lag", "lead", "first_value", "sum", "count", "avg", "min", "max")
Work = Callable[[Operand, Table, Ids, StopToken], Column]


def without_windows(operand: Operand, table: Table, ids: Ids, work: Work, stop: StopToken) -> tuple[Operand, Table]:
    """The expression with its window functions as further columns of the table, worked out over the rows `ids`; `work`
    works out what is inside them."""
    if isinstance(operand, Windowed):
        operand, table = _put(_window(operand, table, ids, work, stop), table)
    elif isinstance(operand, Call):
        args = []
        for arg in operand.args:
            made, table = without_windows(arg, table, ids, work, stop)
            args.append(made)
        operand = replace(operand, args=tuple(args))
    elif isinstance(operand, Case):
        branches = []
        for test, value in operand.branches:
            made, table = without_windows(value, table, ids, work, stop)
            branches.append((test, made))
        default, table = without_windows(operand.default, table, ids, work, stop)
        operand = Case(tuple(branches), default)
    return operand, table


def _put(column: Column, table: Table) -> tuple[ColumnAt, Table]:
    place = len(table.fields)
    field = Field(f"\0{place}", column.kind)
    return ColumnAt(place), Table((*table.fields, field), (*table.columns, column), table.rows)


def _window(node: Windowed, table: Table, ids: Ids, work: Work, stop: StopToken) -> Column:
    wide, places = table, list[int]()
    for part in (*node.per, *(by for by, _, _ in node.by)):
        at, wide = _put(work(part, table, ids, stop), wide)
        places.append(at.index)
    per, by = places[: len(node.per)], places[len(node.per) :]
    keys = [SortKey(p) for p in per] + [SortKey(p, d, e) for p, (_, d, e) in zip(by, node.by, strict=True)]
    order = sort_view(View(wide, ids), keys, stop).row_ids()
    columns = wide.columns
    begins = changes([columns[p] for p in per], order, stop)
    peers = changes([columns[p] for p in (*per, *by)], order, stop)
    if not node.by and node.name not in ("row_number", "lag", "lead", "first_value"):
        peers = begins.copy()  # without an order all rows of a partition are alike
    if node.name in ("row_number", "rank", "dense_rank"):
        return _numbered(node.name, order, begins, peers, table.rows)
    if node.name in ("lag", "lead") and len(node.args) < 3:
        moved = _moved(node, work(node.args[0], table, ids, stop), order, begins)
        if moved is not None:
            return moved
    values: list[Any] = [1] * len(order)
    if node.args and not (isinstance(node.args[0], Literal) and node.name == "count"):
        values = work(node.args[0], table, ids, stop).values(order)
    starts = np.append(np.flatnonzero(begins), len(order)).tolist()
    made: list[Any] = []
    for start, end in itertools.pairwise(starts):
        stop.check()
        made += _of_partition(node, values[start:end], peers[start:end])
    out: list[Any] = [None] * table.rows
    for place, value in zip(order.tolist(), made, strict=True):
        out[place] = value
    return column_of(out)


def _numbered(name: str, order: Ids, begins: Any, peers: Any, rows: int) -> Column:
    places, starts = np.arange(len(order)), starts_of(begins)
    if name == "row_number":
        made = places - starts + 1
    elif name == "rank":
        made = starts_of(peers) - starts + 1
    else:
        counted = np.cumsum(peers)
        made = counted - counted[starts] + 1
    data, empty = np.zeros(rows, np.int64), np.ones(rows, np.bool_)
    data[order], empty[order] = made, False
    return Column(Kind.INT, data, empty if empty.any() else None)


def _moved(node: Windowed, column: Column, order: Ids, begins: Any) -> Column | None:
    """The value of a row before or after, of the same partition; None where values are to be moved one by one."""
    by = node.args[1].value if len(node.args) > 1 and isinstance(node.args[1], Literal) else 1
    if column.kind is Kind.OBJECT or column.missing is not None or not isinstance(by, int) or not len(order):
        return None
    starts = starts_of(begins)
    sizes = np.diff(np.append(np.flatnonzero(begins), len(order)))
    ends = starts + np.repeat(sizes, sizes)
    places = np.arange(len(order)) + (-by if node.name == "lag" else by)
    inside = (places >= starts) & (places < ends)
    origin = np.zeros(len(column), np.int64)
    origin[order] = order[np.where(inside, places, 0)]
    outside = np.ones(len(column), np.bool_)
    outside[order] = ~inside
    made = column.take(origin)
    return replace(made, data=blanked(made.data, outside), empty=made.empty_at() | outside)


def _of_partition(node: Windowed, values: list[Any], peers: Any) -> list[Any]:
    count, name = len(values), node.name
    if name in ("lag", "lead"):
        by = node.args[1].value if len(node.args) > 1 and isinstance(node.args[1], Literal) else 1
        other = node.args[2].value if len(node.args) > 2 and isinstance(node.args[2], Literal) else None
        steps = -by if name == "lag" else by
        return [values[n + steps] if 0 <= n + steps < count else other for n in range(count)]
    if name == "first_value":
        return [values[0]] * count
    firsts = [*np.flatnonzero(peers).tolist(), count]
    found: list[Any] = []
    running = _running(name, values, firsts)
    for first, end in itertools.pairwise(firsts):
        found += [next(running)] * (end - first)
    return found


def _running(name: str, values: Sequence[Any], firsts: Sequence[int]) -> Iterator[Any]:
    """A figure of all rows up to the end of each set of rows that are alike in the order."""
    total, seen, most = 0, 0, None
    for first, end in itertools.pairwise(firsts):
        for value in values[first:end]:
            if value is None:
                continue
            seen += 1
            if name in ("sum", "avg"):
                mixed = isinstance(value, float) and isinstance(total, Decimal)
                total = (float(total) if mixed else total) + value
            elif name in ("min", "max"):
                better = most is None or (value < most if name == "min" else value > most)
                most = value if better else most
        if name == "count":
            yield seen
        elif name in ("min", "max"):
            yield most
        elif not seen:
            yield None
        else:
            whole = isinstance(total, int)
            yield total if name == "sum" else Decimal(total) / seen if whole else total / seen
