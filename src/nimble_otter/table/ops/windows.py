"""Window functions: values worked out over the rows of a partition in an order, or over a frame of them (ISO 9075).

Everything is worked out for all rows at once, in their order: a frame is where it begins and ends there.
"""

from __future__ import annotations

import datetime as dt
import math
from collections.abc import Callable
from dataclasses import dataclass, fields, is_dataclass, replace
from decimal import Decimal
from itertools import pairwise
from typing import Any

import numpy as np
from numpy.typing import NDArray

from nimble_otter.errors import ConditionError
from nimble_otter.stop import StopToken
from nimble_otter.table.core.build import column_of
from nimble_otter.table.core.columns import DAY_US, Column, Field, Ids, Kind, Mask, Table, View
from nimble_otter.table.kernels.codes import changes, codes_of, counted_to, starts_of
from nimble_otter.table.kernels.numeric import as_amounts, as_floats, exact_numbers, holds_numbers, largest, middles
from nimble_otter.table.kernels.packing import stretches
from nimble_otter.table.ops.arrays import EXACT
from nimble_otter.table.ops.combine import chained, spread, taken
from nimble_otter.table.ops.conditions import ColumnAt, Frame, Literal, Operand, Windowed
from nimble_otter.table.ops.sort import SortKey, sort_view
from nimble_otter.translation import tr
from nimble_otter.values import Stored, Value

_PLACES = ("row_number", "rank", "dense_rank", "percent_rank", "cume_dist", "ntile")
_SPREADS = ("stddev", "stddev_samp", "stddev_pop", "variance", "var_samp", "var_pop")
_FIGURES = ("sum", "count", "avg", "min", "max", "median", *_SPREADS)
WINDOWS = (*_PLACES, "lag", "lead", "first_value", "last_value", "nth_value", *_FIGURES)
Work = Callable[[Operand, Table, Ids, StopToken], Column]


def without_windows(operand: Operand, table: Table, ids: Ids, work: Work, stop: StopToken) -> tuple[Operand, Table]:
    """The expression with its window functions as further columns of the table, worked out over the rows `ids`; `work`
    works out what is inside them. Raises: ConditionError, Stopped."""
    made, table = _replaced(operand, table, lambda node, wide: _put(_window(node, wide, ids, work, stop), wide))
    return made, table


def _replaced(
    part: object, table: Table, put: Callable[[Windowed, Table], tuple[ColumnAt, Table]]
) -> tuple[Value, Table]:
    """An expression, or a condition inside one, with `put` in place of each window function."""
    if isinstance(part, Windowed):
        return put(part, table)
    if isinstance(part, tuple):
        items = []
        for inner in part:
            one, table = _replaced(inner, table, put)
            items.append(one)
        return tuple(items), table
    if is_dataclass(part) and not isinstance(part, type) and type(part).__module__ == Windowed.__module__:
        changed = {}
        for field in fields(part):
            inner = getattr(part, field.name)
            changed[field.name], table = _replaced(inner, table, put)
        return replace(part, **changed), table
    return part, table


def _put(column: Column, table: Table) -> tuple[ColumnAt, Table]:
    index = len(table.fields)
    field = Field(f"\0{index}", column.kind)
    return ColumnAt(index), Table((*table.fields, field), (*table.columns, column), table.rows)


@dataclass(frozen=True, slots=True)
class _Rows:
    """The rows `ids` in the order of a window, of a table of so many: where a partition, and a set of rows that are
    alike in the order, begins; and for each place where its partition begins and ends."""

    ids: Ids
    rows: int
    begins: Mask
    peers: Mask
    first: Ids
    end: Ids

    def at_rows(self, column: Column) -> Column:
        """Values in the window's order as a column of the table, which has none at other rows."""
        return spread(column, self.rows, self.ids)

    def picked(self, column: Column, places: Ids, gone: Mask) -> Column:
        """For each place the value that a column of the table has at another, none where `gone`."""
        rows, none = np.zeros(self.rows, np.int64), np.ones(self.rows, np.bool_)
        rows[self.ids] = self.ids.take(np.where(gone, 0, places)) if len(self.ids) else 0
        none[self.ids] = gone
        return taken(column, rows, none)


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
    peers = begins | changes([columns[p] for p in by], order, stop)
    starts = np.flatnonzero(begins)
    sizes = np.diff(np.append(starts, len(order)))
    first = np.repeat(starts, sizes)
    rows = _Rows(order, table.rows, begins, peers, first, first + np.repeat(sizes, sizes))
    if node.name in _PLACES:
        return rows.at_rows(_placed(node, rows))
    argument = node.args[0] if node.args else Literal(1)
    if node.name in ("lag", "lead"):
        return _moved(node, work(argument, table, ids, stop), rows, lambda other: work(other, table, ids, stop))
    start, end = _framed(node, rows, [columns[p] for p in by], stop)
    if node.distinct or node.name == "median":
        if not ((start == rows.first) & (end == rows.end)).all():
            text = "count(distinct ...)" if node.distinct else "median"
            raise ConditionError(
                tr("{text} goes over whole partitions only.", text=text), tr("Leave out order by and the frame.")
            )
        return _of_partition(node, work(argument, table, ids, stop), rows, stop)
    if node.name in _FIGURES:
        if isinstance(argument, Literal) and node.name == "count":
            return rows.at_rows(Column(Kind.INT, end - start))
        return _figure(node.name, work(argument, table, ids, stop), rows, start, end, stop)
    if node.skips_empty:
        return _beyond_empty(node, work(argument, table, ids, stop), rows, start, end)
    spots = {"first_value": start, "last_value": end - 1}.get(node.name, start + (_number(node, 1, 1) - 1))
    return rows.picked(work(argument, table, ids, stop), spots, (spots < start) | (spots >= end))


def _number(node: Windowed, place: int, otherwise: int) -> int:
    """A whole number among the arguments; see conditions.Windowed."""
    given = node.args[place] if len(node.args) > place else Literal(otherwise)
    assert isinstance(given, Literal)
    return int(given.value)


# --- places in the order ---------------------------------------------------------------------------------------------


def _placed(node: Windowed, rows: _Rows) -> Column:
    name, sizes = node.name, rows.end - rows.first
    places: Ids = np.arange(len(rows.ids)) - rows.first
    if name == "row_number":
        return Column(Kind.INT, places + 1)
    if name == "ntile":
        count = _number(node, 0, 1)
        least, more = sizes // count, sizes % count
        large = more * (least + 1)  # rows in the parts that have one more than the others
        small = more + (places - large) // np.maximum(least, 1)
        return Column(Kind.INT, np.where(places < large, places // (least + 1), small) + 1)
    alike = starts_of(rows.peers) - rows.first
    if name == "rank":
        return Column(Kind.INT, alike + 1)
    if name == "percent_rank":
        return Column(Kind.FLOAT, alike / np.maximum(sizes - 1, 1))
    if name == "cume_dist":
        return Column(Kind.FLOAT, (_ends_of(rows.peers) - rows.first) / np.maximum(sizes, 1))
    counted: Ids = counted_to(rows.peers)
    return Column(Kind.INT, counted - counted.take(rows.first) + 1)


def _ends_of(begins: Mask) -> Ids:
    """For each place where its run ends."""
    starts = np.flatnonzero(begins)
    ends = np.append(starts[1:], len(begins)) if len(starts) else starts
    return np.repeat(ends, ends - starts)


def _moved(node: Windowed, column: Column, rows: _Rows, work: Callable[[Operand], Column]) -> Column:
    """The value of a row before or after, of the same partition; the third argument where there is no such row."""
    by = _number(node, 1, 1) * (-1 if node.name == "lag" else 1)
    at = np.arange(len(rows.ids)) + by
    if node.skips_empty and by:
        full, before = _filled(column, rows)
        place = before[:-1] + by if by < 0 else before[1:] + by - 1
        at = np.append(full, -1).take(np.where((place < 0) | (place >= len(full)), len(full), place))
    outside = (at < rows.first) | (at >= rows.end)
    if len(node.args) < 3:
        return rows.picked(column, at, outside)
    both = chained([column, work(node.args[2])])
    origin, none = np.zeros(rows.rows, np.int64), np.ones(rows.rows, np.bool_)
    origin[rows.ids] = np.where(outside, rows.ids + rows.rows, rows.ids.take(np.where(outside, 0, at)))
    none[rows.ids] = False
    return taken(both, origin, none)


# --- frames ----------------------------------------------------------------------------------------------------------


def _framed(node: Windowed, rows: _Rows, by: list[Column], stop: StopToken) -> tuple[Ids, Ids]:
    """Where the frame of each place begins and ends; an empty one ends where it begins."""
    frame, places = node.frame, np.arange(len(rows.ids))
    if frame.unit == "rows":
        start, end = (rows.first if frame.start is None else places + frame.start,
                      rows.end if frame.end is None else places + frame.end + 1)  # fmt: skip
    elif frame.unit == "range" and (frame.start or frame.end):
        start, end = _near(frame, rows, by[0], node.by[0][1], stop)
    else:
        start, end = _grouped(frame, rows)
    start, end = np.clip(start, rows.first, rows.end), np.clip(end, rows.first, rows.end)
    return start, np.maximum(start, end)


def _grouped(frame: Frame, rows: _Rows) -> tuple[Ids, Ids]:
    """Frames of whole sets of rows that are alike in the order."""
    groups = counted_to(rows.peers) - 1
    edges = np.append(np.flatnonzero(rows.peers), len(groups))
    last = len(edges) - 1
    start = rows.first if frame.start is None else edges.take(np.clip(groups + frame.start, 0, last))
    end = rows.end if frame.end is None else edges.take(np.clip(groups + frame.end + 1, 0, last))
    return start, end


def _near(frame: Frame, rows: _Rows, key: Column, descending: bool, stop: StopToken) -> tuple[Ids, Ids]:
    """Frames of the rows whose key is at most so far before or behind; those without a key go together."""
    start, end = _grouped(Frame("groups", frame.start and 0, frame.end and 0), rows)
    if not len(rows.ids) or key.empty_at(rows.ids).all():
        return start, end
    keys, apart = _distances(frame, key.take(rows.ids))
    keys = -keys if descending else keys
    empty = key.empty_at(rows.ids)
    if keys.dtype == np.float64:
        empty = empty | np.isnan(keys)
    start, end = start.copy(), end.copy()
    for first, last in zip(np.flatnonzero(rows.begins).tolist(), rows.end[rows.begins].tolist(), strict=True):
        stop.check()
        full = np.flatnonzero(~empty[first:last])  # they stand together
        if not len(full):
            continue
        a, b = first + int(full[0]), first + int(full[-1]) + 1
        some = keys[a:b]
        if frame.start is not None:
            start[a:b] = a + np.searchsorted(some, _far(some, apart[0]), "left")
        if frame.end is not None:
            end[a:b] = a + np.searchsorted(some, _far(some, apart[1]), "right")
    return start, end


def _distances(frame: Frame, key: Column) -> tuple[Stored, tuple[Value, Value]]:
    """The keys as numbers, and the frame's ends in the same unit: as few and as many whole ones as are meant."""
    ends = [frame.start or 0, frame.end or 0]
    spans = any(isinstance(end, dt.timedelta) for end in ends)
    if spans != (key.kind.is_moment or key.kind in (Kind.SPAN, Kind.CLOCK)):
        what = tr("an interval such as interval '7 days'") if not spans else tr("a number")
        raise ConditionError(
            tr("The frame's order is by {kind_value}: its range is {what}.", kind_value=key.kind.value, what=what)
        )
    if key.kind is Kind.FLOAT:
        return key.data + 0.0, (float(ends[0]), float(ends[1]))
    if not spans and not key.kind.is_number:
        raise ConditionError(
            tr("The frame's order is by {kind_value}, which has no distances.", kind_value=key.kind.value),
            tr("Count rows instead."),
        )
    data = key.data.astype(np.int64) * (DAY_US if key.kind is Kind.DATE else 1)
    exact = [
        Decimal(end // dt.timedelta(microseconds=1))
        if isinstance(end, dt.timedelta)
        else Decimal(end).scaleb(key.scale)
        for end in ends
    ]
    return data, (math.ceil(exact[0]), math.floor(exact[1]))


def _far(keys: Stored, by: Any) -> Stored:
    """Each key moved; never beyond what 64 bits hold."""
    if keys.dtype == np.float64 or not by:
        return np.asarray(keys + by)
    limits = np.iinfo(np.int64)
    if abs(by) > limits.max:
        return np.full(len(keys), limits.max if by > 0 else limits.min)
    edge = limits.max - by if by > 0 else limits.min - by
    over = keys > edge if by > 0 else keys < edge
    return np.where(over, limits.max if by > 0 else limits.min, np.where(over, 0, keys) + by)


# --- figures of frames -----------------------------------------------------------------------------------------------


def _filled(column: Column, rows: _Rows) -> tuple[Ids, Ids]:
    """The places in the window's order that have a value, and how many of them stand before each place."""
    full = ~column.empty_at(rows.ids)
    return np.flatnonzero(full), np.concatenate([[0], counted_to(full)])


def _beyond_empty(node: Windowed, column: Column, rows: _Rows, start: Ids, end: Ids) -> Column:
    """The first, last or n-th value of each frame that is one."""
    full, before = _filled(column, rows)
    nth = before.take(end) - 1 if node.name == "last_value" else before.take(start) + _number(node, 1, 1) - 1
    inside = (nth >= before.take(start)) & (nth < before.take(end))
    return rows.picked(column, np.append(full, 0).take(np.where(inside, nth, len(full))), ~inside)


def _of_partition(node: Windowed, column: Column, rows: _Rows, stop: StopToken) -> Column:
    """How many different values a partition has, or its median."""
    own = column.take(rows.ids)
    full = np.flatnonzero(~own.empty_at())
    part = counted_to(rows.begins) - 1
    parts = int(part[-1]) + 1 if len(part) else 0
    if node.name == "median":
        own = as_amounts(own)
        if full.size and not (own.kind.is_number or holds_numbers(own)):
            raise ConditionError(
                tr("{kind} has no median.", kind=own.kind.value.capitalize()), tr("Use min, max or count.")
            )
        values = as_floats(own).take(full) if full.size else np.zeros(0)
        order = np.lexsort((values, part.take(full)))
        ids, of = full.take(order), part.take(full).take(order)
        first = np.searchsorted(of, np.arange(parts), "left")
        count = np.searchsorted(of, np.arange(parts), "right") - first
        gone, middle = count == 0, np.zeros(parts)
        low, high = (first + (count - 1) // 2)[~gone], (first + count // 2)[~gone]
        middle[~gone] = middles(own, ids.take(low), ids.take(high))
        return rows.at_rows(Column(Kind.FLOAT, middle.take(part), gone.take(part)))
    codes, examples = codes_of(own, np.arange(len(own)), stop)
    pairs = np.unique(part.take(full) * (len(examples) + 1) + np.asarray(codes).take(full))
    counts = np.bincount(pairs // (len(examples) + 1), minlength=parts)
    return rows.at_rows(Column(Kind.INT, counts.take(part).astype(np.int64)))


def _deviation(name: str, own: Column, rows: _Rows, start: Ids, end: Ids, stop: StopToken) -> Column:
    """Variance or standard deviation of each frame, of a sample unless for the whole: exact for whole numbers and
    decimals until the last division, of doubles by what they lie apart from the mean of their partition."""
    empty = own.empty_at()
    before = np.concatenate([[0], counted_to(~empty)])
    filled = before.take(end) - before.take(start)
    is_whole = name.endswith("_pop")
    gone = filled <= (0 if is_whole else 1)
    over = np.where(gone, 1, filled if is_whole else filled - 1)
    exact = exact_numbers(own)
    if exact is not None:
        data, scale = exact
        fits = data.dtype != object and largest(data) ** 2 * max(len(data), 1) ** 2 < EXACT
        numbers: NDArray[Any] = data if fits else data.astype(object)
        sums, squares = (np.concatenate([[0], np.cumsum(v)]) for v in (numbers, numbers * numbers))
        apart = filled * (squares[end] - squares[start]) - (sums[end] - sums[start]) ** 2
        made = np.asarray(apart / (np.maximum(filled, 1) * over), np.float64) / 10.0 ** (2 * scale)
    else:
        values = np.where(empty, 0.0, as_floats(own))
        part = counted_to(rows.begins) - 1
        sound = np.isfinite(values) & ~empty
        means = np.bincount(part, np.where(sound, values, 0.0)) / np.maximum(np.bincount(part, sound), 1)
        values = np.where(empty, 0.0, values - means.take(part))
        total, square = (_sums(Column(Kind.FLOAT, v), start, end, filled, stop).data for v in (values, values * values))
        made = np.maximum(square - total**2 / np.maximum(filled, 1), 0.0) / over
    return Column(Kind.FLOAT, np.where(gone, 0.0, np.sqrt(made) if name.startswith("std") else made), gone)


def _figure(name: str, column: Column, rows: _Rows, start: Ids, end: Ids, stop: StopToken) -> Column:
    if name in ("sum", "avg", *_SPREADS) and column.kind is Kind.OBJECT:
        column = as_amounts(column)
    own = column.take(rows.ids)
    empty = own.empty_at()
    before = np.concatenate([[0], counted_to(~empty)])
    filled = before.take(end) - before.take(start)
    none = filled == 0
    if name == "count":
        return rows.at_rows(Column(Kind.INT, filled))
    if none.all():
        return column_of([None] * rows.rows)
    if name in ("min", "max"):
        codes, examples = codes_of(own, np.arange(len(own)), stop)
        ranks = np.where(empty, -1 if name == "max" else len(examples), codes).astype(np.int32)
        best = _extremes(ranks, start, end, np.maximum if name == "max" else np.minimum, stop)
        return rows.picked(column, examples.take(np.where(none, 0, best)), none)
    if not (own.kind.is_amount or own.kind is Kind.BOOL or holds_numbers(own)):
        raise ConditionError(
            tr("{kind} has no {name}.", kind=own.kind.value.capitalize(), name=name),
            tr("Use min, max or count."),
        )
    if name in _SPREADS:
        return rows.at_rows(_deviation(name, own, rows, start, end, stop))
    made = _sums(own, start, end, filled, stop)
    if name == "avg":
        means = np.where(none, 0.0, as_floats(made) / np.maximum(filled, 1))
        is_span = own.kind is Kind.SPAN
        made = Column(Kind.SPAN, np.rint(means).astype(np.int64)) if is_span else Column(Kind.FLOAT, means)
    return rows.at_rows(replace(made, empty=made.empty_at() | none))


def _sums(column: Column, start: Ids, end: Ids, filled: Ids, stop: StopToken) -> Column:
    """Exact for whole numbers, decimals and spans; doubles are added in their order where many frames begin at one row,
    else by pairs, so that nothing outside a frame touches its sum."""
    if column.kind is Kind.FLOAT:
        moved = np.diff(start, prepend=-1)
        is_running = bool((moved >= 0).all()) and np.count_nonzero(moved) <= len(start) // 8 + 1
        with np.errstate(invalid="ignore", over="ignore"):
            found = (_running if is_running else _by_pairs)(column.data, start, end, stop)
        return Column(Kind.FLOAT, found)
    if column.kind is Kind.OBJECT:
        return _sums_of_values(column, start, end, filled, stop)
    kind = Kind.INT if column.kind is Kind.BOOL else column.kind
    data = column.data.astype(np.int64)
    if largest(data) * len(data) < EXACT:
        before = np.concatenate([[0], np.cumsum(data)])
        return Column(kind, before.take(end) - before.take(start), scale=column.scale)
    large = np.concatenate([[0], np.cumsum(data.astype(object))])
    sums = (large[end] - large[start]).tolist()
    if kind is Kind.DECIMAL:
        sums = [Decimal(n).scaleb(-column.scale) for n in sums]
    return column_of([dt.timedelta(microseconds=n) for n in sums] if kind is Kind.SPAN else sums)


def _sums_of_values(column: Column, start: Ids, end: Ids, filled: Ids, stop: StopToken) -> Column:
    """Numbers of kinds that no array holds together, one by one."""
    values, results, at = column.values(), [], (-1, -1)
    total: Any = 0
    for first, last in zip(start.tolist(), end.tolist(), strict=True):
        goes_on = first == at[0] and last >= at[1]
        total = total if goes_on else 0
        for value in values[at[1] if goes_on else first : last]:
            if value is not None:
                mixed = {float, Decimal} <= {type(value), type(total)}
                total = float(total) + float(value) if mixed else total + value
        at = (first, last)
        results.append(total)
        stop.check()
    return column_of([None if not n else t for n, t in zip(filled.tolist(), results, strict=True)])


def _running(data: NDArray[np.float64], start: Ids, end: Ids, stop: StopToken) -> NDArray[np.float64]:
    """Sums of frames of which many begin at one place, added in the order of the rows."""
    found = np.zeros(len(data), np.float64)
    cuts = np.append(np.flatnonzero(np.diff(start, prepend=-1)), len(start)).tolist()
    for first, last in pairwise(cuts):
        stop.check()
        begin, stop_at = int(start[first]), int(end[first:last].max())
        sums = np.concatenate([[0.0], np.cumsum(data[begin:stop_at])])
        found[first:last] = sums.take(end[first:last] - begin)
    return found


def _by_pairs(data: NDArray[np.float64], start: Ids, end: Ids, stop: StopToken) -> NDArray[np.float64]:
    """Sums of stretches, each made of stretches of 1, 2, 4, ... values."""
    found, at, left = np.zeros(len(data)), start.copy(), end - start
    some, size, most = data, 1, int((end - start).max(initial=0))

    def add(part: slice) -> None:
        stop.check()
        wanted = (left[part] & size) != 0
        if wanted.any():
            found[part] += np.where(wanted, some.take(at[part], mode="clip"), 0.0)
            at[part] += np.where(wanted, size, 0)

    while size <= most:
        stop.map_parallel(add, stretches(0, len(data)))
        some = some[:-size] + some[size:] if size < len(some) else some[:0]
        size *= 2
    return found


def _extremes(codes: Stored, start: Ids, end: Ids, better: Value, stop: StopToken) -> Stored:
    """The smallest or largest code of each stretch, from two stretches of 1, 2, 4, ... codes that cover it."""
    found = np.zeros(len(codes), codes.dtype)
    best, size, most = codes, 1, int((end - start).max(initial=0))

    def look(part: slice) -> None:
        stop.check()
        length = end[part] - start[part]
        wanted = (length >= size) & (length < 2 * size)
        if wanted.any():
            last = best.take(end[part] - size, mode="clip")
            found[part] = np.where(wanted, better(best.take(start[part], mode="clip"), last), found[part])

    while size <= most:
        stop.map_parallel(look, stretches(0, len(codes)))
        best = better(best[:-size], best[size:]) if size < len(best) else best[:1]
        size *= 2
    return found
