"""Figures of groups of rows: each is worked out for all groups at once, by counting, adding at a group's place, or
ordering the values inside the groups."""

from __future__ import annotations

from collections.abc import Callable
from decimal import Context, Decimal
from functools import partial
from itertools import pairwise
from typing import Any

import numpy as np
from numpy.typing import NDArray

from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table.core.build import column_of
from nimble_otter.table.core.columns import BufferText, CodedText, Column, Ids, Kind, Mask, Table, pick
from nimble_otter.table.kernels.codes import codes_of, small_codes
from nimble_otter.table.kernels.numeric import as_amounts, as_floats, exact_sums, largest, middles
from nimble_otter.table.kernels.packing import Words, keep_low, order_of, sort_words, stretches, whole_source
from nimble_otter.table.ops.measures import Aggregate, AggregateFunction
from nimble_otter.table.text.show import plain
from nimble_otter.values import Stored, Value

_Back = Callable[[NDArray[Any], Mask | None], Column]
"""From keys to the column of their values, empty where told."""
MOST_LISTED = 1000
"""Values that a list names; how many more there are is said behind them."""
_BITMAP = 1 << 26


class Groups:
    """Rows in groups: `codes` gives the group of each place in `ids`, `counts` the rows of each group. What several
    figures of a column need is worked out once."""

    def __init__(
        self,
        table: Table,
        ids: Ids,
        codes: Ids | None,
        counts: Ids,
        stop: StopToken = NEVER,
        below: tuple[Groups, Ids] | None = None,
    ) -> None:
        self.table, self.ids, self.counts, self.groups, self._stop = table, ids, counts, len(counts), stop
        self._below, self._codes = below, codes
        self._parts: dict[tuple[int, bool], _Part] = {}

    def forget(self) -> None:
        """Let go of what was worked out once for several figures: more than the rows themselves, and in cycles."""
        for part in self._parts.values():
            part.forget()
        self._parts.clear()

    def above(self, up: Ids, count: int) -> Groups:
        """Larger groups made of these: `up` is the one that each is a part of. Their counts, sums, means and extremes
        come from these, not from the rows again."""
        return Groups(self.table, self.ids, None, _added(self.counts, up, count, self._stop), self._stop, (self, up))

    @property
    def codes(self) -> Ids:
        """The group of each row: int64, shape (rows,)."""
        if self._codes is None:
            assert self._below is not None
            self._codes = self._below[1].take(self._below[0].codes)
        return self._codes

    def measure(self, measure: Aggregate, parent: Ids | None = None) -> Column:
        """One figure for each group. `parent` is the group above each: shares and running totals stay inside it."""
        self._stop.check()
        figure = measure.figure
        if figure in (AggregateFunction.SHARE, AggregateFunction.RUNNING):
            base = Aggregate(
                AggregateFunction.COUNT if measure.column is None else AggregateFunction.SUM, measure.column
            )
            above = np.zeros(self.groups, np.int64) if parent is None else parent
            return (
                _share(self.measure(base), above)
                if figure is AggregateFunction.SHARE
                else _running(self.measure(base), above)
            )
        if measure.column is None or figure is AggregateFunction.COUNT:
            return Column(Kind.INT, self.counts)
        return self._part(measure.column, figure.needs_numbers).figure(measure)

    def _part(self, place: int, as_numbers: bool) -> _Part:
        """`as_numbers`: mixed numbers are brought to one kind, which may have more digits than each value."""
        column = self.table.columns[place]
        as_numbers = as_numbers and column.kind is Kind.OBJECT
        part = self._parts.get((place, as_numbers))
        if part is None:
            below = None if self._below is None else (self._below[0]._part(place, as_numbers), self._below[1])  # noqa: SLF001 - a part of it
            column = below[0].column if below is not None else as_amounts(column) if as_numbers else column
            part = self._parts[place, as_numbers] = _Part(column, self, self._stop, below)
        return part


class _Part:
    """The rows of one column that have a value, by group."""

    def __init__(self, column: Column, of: Groups, stop: StopToken, below: tuple[_Part, Ids] | None) -> None:
        self.column, self.groups, self._of, self._stop, self._below = column, of.groups, of, stop, below
        self._empty: Mask | None = None
        self.counts: Ids
        if below is not None:
            self._empty = below[0]._empty  # noqa: SLF001 - a part of it
            self.counts = _added(below[0].counts, below[1], self.groups, stop)
        else:
            empty = column.empty_at(of.ids) if column.empty is not None else None
            self._empty = empty if empty is not None and empty.any() else None
            self.counts = of.counts
            if self._empty is not None:
                self.counts = self.counts - np.bincount(of.codes[self._empty], minlength=self.groups)
        self.none: Mask | None = self.counts == 0
        self.none = self.none if self.none.any() else None
        self._full: tuple[Ids, Ids] | None = None
        self._keys: tuple[NDArray[Any], _Back] | None = None
        self._ranks: tuple[Ids, Ids] | None = None
        self._small: tuple[tuple[Ids, int] | None] | None = None
        self._within: tuple[Words, Mask] | None = None
        self._order: Ids | None = None
        self._sum: Column | None = None
        self._sums: NDArray[np.float64] | None = None
        self._both: dict[bool, NDArray[Any]] = {}

    @property
    def ids(self) -> Ids:
        """Rows that have a value."""
        return self._filled()[0]

    @property
    def codes(self) -> Ids:
        """Their groups."""
        return self._filled()[1]

    def _filled(self) -> tuple[Ids, Ids]:
        if self._full is None:
            full = None if self._empty is None else np.flatnonzero(~self._empty)
            ids, codes = self._of.ids, self._of.codes
            self._full = (ids, codes) if full is None else (ids.take(full), codes.take(full))
        return self._full

    def forget(self) -> None:
        self._keys = None  # the way back knows this part

    def figure(self, measure: Aggregate) -> Column:
        figure = measure.figure
        if figure is AggregateFunction.FILLED:
            return Column(Kind.INT, self.counts)
        if not self.counts.any():
            return _nothing(self.groups) if figure is not AggregateFunction.DISTINCT else Column(Kind.INT, self.counts)
        made: dict[AggregateFunction, Callable[[], Column]] = {
            AggregateFunction.SUM: self._summed,
            AggregateFunction.MEAN: self._mean,
            AggregateFunction.MIN: lambda: self._extreme(largest=False),
            AggregateFunction.MAX: lambda: self._extreme(largest=True),
            AggregateFunction.RANGE: self._range,
            AggregateFunction.SPREAD: self._spread,
            AggregateFunction.MEDIAN: lambda: self._quantile(0.5),
            AggregateFunction.QUANTILE: lambda: self._quantile(measure.at),
            AggregateFunction.DISTINCT: self._distinct,
            AggregateFunction.MODE: self._mode,
            AggregateFunction.LIST: self._list,
            AggregateFunction.FIRST: lambda: self._at_end(last=False),
            AggregateFunction.LAST: lambda: self._at_end(last=True),
        }
        return made[figure]()

    # --- adding up ---------------------------------------------------------------------------------------------

    def _summed(self) -> Column:
        """Exact for whole numbers, decimals and spans, however large; doubles are added in the order of the rows."""
        if self._sum is not None:
            return self._sum
        column, below = self.column, self._below
        if column.kind is Kind.FLOAT:
            self._sum = self._made(self._float_sums())
            return self._sum
        if column.kind is Kind.OBJECT:
            sums = exact_sums(pick(column.data, self._of.ids).tolist(), self._of.codes.tolist(), self.groups)
            self._sum = column_of([None if c == 0 else s for s, c in zip(sums, self.counts.tolist(), strict=True)])
            return self._sum
        of_parts = below[0]._summed() if below is not None else None  # noqa: SLF001 - a part of it
        if of_parts is not None and below is not None and of_parts.kind is column.kind:
            data, codes = of_parts.data, below[1]
        else:  # where there is no value, zero is held
            data, codes = pick(column.data, self._of.ids), self._of.codes
        if largest(data) * len(data) < 1 << 63:
            self._sum = self._made(_added(data, codes, self.groups, self._stop))
        else:
            halves = [
                _added(half, codes, self.groups, self._stop).tolist() for half in (data >> 32, data & 0xFFFF_FFFF)
            ]
            sums = [(a << 32) + b for a, b in zip(*halves, strict=True)]
            exact = [_decimal(s, column.scale) for s in sums] if column.kind is Kind.DECIMAL else sums
            gone = self.counts == 0
            self._sum = column_of([None if g else s for s, g in zip(exact, gone.tolist(), strict=True)])
        return self._sum

    def _mean(self) -> Column:
        return self._numbers(self._means())

    def _float_sums(self) -> NDArray[np.float64]:
        if self._sums is None:
            if self._below is not None:
                sums, codes = self._below[0]._float_sums(), self._below[1]  # noqa: SLF001 - a part of it
            else:
                sums, codes = as_floats(self.column, self._of.ids), self._of.codes
            self._sums = np.asarray(np.bincount(codes, weights=sums, minlength=self.groups), np.float64)
        return self._sums

    def _means(self) -> NDArray[np.float64]:
        return self._float_sums() / np.maximum(self.counts, 1)

    def _spread(self) -> Column:
        """The sample's standard deviation, in two passes; none of a single value."""
        apart = as_floats(self.column, self.ids) - self._means().take(self.codes)
        squares = np.bincount(self.codes, weights=apart * apart, minlength=self.groups)
        few = self.counts < 2
        found = np.where(few, 0.0, np.sqrt(squares / np.maximum(self.counts - 1, 1)))
        return self._numbers(found, few if few.any() else None)

    # --- ends --------------------------------------------------------------------------------------------------

    def _extreme(self, largest: bool) -> Column:
        return self._back()(self._ends(largest), self.none)

    def _back(self) -> _Back:
        return self._keyed()[1] if self._below is None else self._below[0]._back()  # noqa: SLF001 - a part of it

    def _ends(self, largest: bool) -> Stored:
        """The smallest or largest of each group; NaN counts as larger than every number."""
        if largest not in self._both:
            if self._below is None:
                self._both[largest] = self._found_ends(self._keyed()[0], self._of.codes, self._empty, largest)
            else:
                part, up = self._below
                self._both[largest] = self._found_ends(part._ends(largest), up, part.counts == 0, largest)  # noqa: SLF001 - a part of it
        return self._both[largest]

    def _found_ends(
        self, keys: NDArray[np.generic], codes: Ids, empty: Mask | None, largest: bool
    ) -> NDArray[np.generic]:
        limits = np.iinfo(np.int64)
        worst: Any = limits.min if largest else limits.max
        better: Any = np.maximum if largest else np.minimum
        if keys.dtype == np.float64:
            worst, better = (-np.inf, np.maximum) if largest else (np.nan, np.fmin)
        ends = np.full(self.groups, worst, keys.dtype)
        with np.errstate(invalid="ignore"):
            for part in stretches(0, len(keys)):
                some = keys[part] if empty is None else np.where(empty[part], worst, keys[part])
                better.at(ends, codes[part], some)
                self._stop.yield_control()
        return ends

    def _range(self) -> Column:
        if self.column.kind is Kind.OBJECT:
            ends = zip(self._extreme(True).values(), self._extreme(False).values(), strict=True)
            return column_of([None if b is None else _less(b, a) for b, a in ends])
        low, high = self._ends(False), self._ends(True)
        if low.dtype == np.float64:
            return self._made(high - low)
        wide = [b - a for a, b in zip(low.tolist(), high.tolist(), strict=True)]  # may pass 64 bits
        gone = self.counts == 0
        if all(g or w < 1 << 63 for w, g in zip(wide, gone.tolist(), strict=True)):
            return self._made(np.where(gone, 0, high - np.where(gone, 0, low)))
        return column_of([None if g else _decimal(w, self.column.scale) if self.column.scale else w
                          for w, g in zip(wide, gone.tolist(), strict=True)])  # fmt: skip

    def _at_end(self, last: bool) -> Column:
        """The value of the first or last row, in the order of the rows."""
        at = np.zeros(self.groups, np.int64)
        places = np.arange(len(self.ids))
        if last:
            at[self.codes] = places
        else:
            at[self.codes[::-1]] = places[::-1]
        return self._picked(self.ids.take(at), self.none)

    # --- order inside the groups -------------------------------------------------------------------------------

    def _keyed(self) -> tuple[Stored, _Back]:
        """Numbers of all rows in the order of the values, equal where they are equal, and the way back to a column."""
        if self._keys is None:
            column, ids = self.column, self._of.ids
            if isinstance(column, CodedText):
                ranks = column.word_ranks()
                words = np.argsort(ranks)
                self._keys = ranks.take(pick(column.data, ids)), partial(_coded, column, words)
            elif isinstance(column, BufferText) or column.kind in (Kind.UUID, Kind.OBJECT):
                codes, first = self._ranked()
                examples = ids.take(first)
                self._keys = codes, lambda k, none: self._picked(examples.take(np.clip(k, 0, len(examples) - 1)), none)
            else:
                data = pick(column.data, ids)
                data = data if column.kind is Kind.FLOAT else data.astype(np.int64, copy=False)
                self._keys = data, self._as_before
        return self._keys

    def _ranked(self) -> tuple[Ids, Ids]:
        """A number for each place in the order of the values, those without one last, and a place that has it; worked
        out once for all levels."""
        if self._below is not None:
            return self._below[0]._ranked()  # noqa: SLF001 - a part of it
        if self._ranks is None:
            self._ranks = codes_of(self.column, self._of.ids, self._stop)
        return self._ranks

    def _ordered(self) -> tuple[Words, Mask]:
        """The numbers of the values, group by group and in order inside each; and where a value begins."""
        if self._within is None:
            ranks, groups = self._ranked()[0], self._of.codes
            bits = max(1, int(ranks.max()).bit_length())
            wide = bits + (self.groups - 1).bit_length() > 32
            words: Words = np.empty(len(ranks), np.uint64 if wide else np.uint32)

            def fill(part: slice) -> None:
                words[part] = (groups[part] << bits) | ranks[part]

            self._stop.map_parallel(fill, stretches(0, len(words)))
            sort_words(words, self._stop)
            begins = np.ones(len(words), np.bool_)
            np.not_equal(words[1:], words[:-1], out=begins[1:])
            keep_low(words, bits, self._stop)
            self._within = words, begins
        return self._within

    def _edges(self) -> Ids:
        return np.concatenate([[0], np.cumsum(self._of.counts)])

    def _quantile(self, at: float) -> Column:
        """Between the two values next to the place, in proportion (as PERCENTILE_CONT of ISO 9075)."""
        starts, last = self._edges()[:-1], len(self._of.ids) - 1
        place = at * np.maximum(self.counts - 1, 0)
        low = np.floor(place).astype(np.int64)
        rest = place - low
        lower = self._rows_at(np.minimum(starts + low, last))
        upper = self._rows_at(np.minimum(starts + np.ceil(place).astype(np.int64), last))
        if at == 0.5:
            return self._numbers(middles(self.column, lower, upper))
        below, above = as_floats(self.column, lower), as_floats(self.column, upper)
        with np.errstate(invalid="ignore"):
            between = np.where(below == above, below, below * (1 - rest) + above * rest)
        return self._numbers(np.where(rest == 0, below, between))

    def _rows_at(self, places: Ids) -> Ids:
        """Rows that have the values which stand at these places of the order."""
        if self.column.kind is Kind.OBJECT:  # equal values may be written differently: those of the group itself
            if self._order is None:
                ranks, examples = self._ranked()
                keys = [whole_source(self._of.codes, self.groups - 1), whole_source(ranks, len(examples) - 1)]
                self._order = order_of(keys, len(self._of.ids), self._stop)
            return self._of.ids.take(self._order.take(places))
        ranks = self._ordered()[0].take(places).astype(np.int64)
        return self._of.ids.take(self._ranked()[1].take(ranks))

    def _distinct(self) -> Column:
        if self._within is None and (small := self._numbered()) is not None:
            keys, span = small
            if span * self.groups <= min(_BITMAP, 16 * len(keys) + 1024):
                seen = np.zeros((self.groups, span), np.bool_)
                seen.reshape(-1)[self._of.codes * span + keys] = True
                if self.column.empty is not None:
                    seen = seen[:, :-1]  # the last stands for no value
                return Column(Kind.INT, np.count_nonzero(seen, axis=1).astype(np.int64))
        begins = self._ordered()[1]
        many = np.add.reduceat(begins, self._edges()[:-1], dtype=np.int64)
        return Column(Kind.INT, many - (self.counts < self._of.counts))

    def _numbered(self) -> tuple[Ids, int] | None:
        """Numbers of the values without ordering them, where that can be; worked out once for all levels."""
        if self._below is not None:
            return self._below[0]._numbered()  # noqa: SLF001 - a part of it
        if self._small is None:
            self._small = (small_codes(self.column, self._of.ids, self._stop),)
        return self._small[0]

    def _begins(self) -> tuple[Ids, Ids, Ids]:
        """Where in the order a value begins, how many rows have it, and the group of each."""
        starts = np.flatnonzero(self._ordered()[1])
        groups = np.repeat(np.arange(self.groups), self._of.counts).take(starts)
        lengths = np.diff(np.append(starts, len(self._of.ids)))
        filled = starts - self._edges().take(groups) < self.counts.take(groups)
        return starts[filled], lengths[filled], groups[filled]

    def _mode(self) -> Column:
        """The value that most rows have; the smallest of several."""
        starts, lengths, groups = self._begins()
        most = np.zeros(self.groups, np.int64)
        np.maximum.at(most, groups, lengths)
        best = np.flatnonzero(lengths == most.take(groups))[::-1]
        at = np.zeros(self.groups, np.int64)
        at[groups.take(best)] = starts.take(best)
        return self._picked(self._rows_at(at), self.none)

    def _list(self) -> Column:
        """The different values in order, as one text."""
        starts, _, groups = self._begins()
        texts: list[str | None] = [None] * self.groups
        bounds = np.searchsorted(groups, np.arange(self.groups + 1)).tolist()
        values = self.column.values(self._rows_at(starts))
        for group, (start, end) in enumerate(pairwise(bounds)):
            if end > start:
                more = end - start - MOST_LISTED
                text = ", ".join(map(plain, values[start : min(end, start + MOST_LISTED)]))
                texts[group] = f"{text} … {more} more" if more > 0 else text
        return column_of(texts)

    # --- back to columns ---------------------------------------------------------------------------------------

    def _made(self, data: Stored) -> Column:
        """One value of the column's own kind for each group."""
        return self._as_before(data, self.none)

    def _as_before(self, data: NDArray[np.generic], empty: Mask | None) -> Column:
        data = data if empty is None else np.where(empty, 0, data)
        return Column(self.column.kind, data.astype(self.column.data.dtype), empty, scale=self.column.scale)

    def _numbers(self, data: NDArray[np.float64], empty: Mask | None = None) -> Column:
        """Doubles, or spans where the column holds those."""
        empty = self.none if empty is None else empty
        if empty is not None:
            data = np.where(empty, 0.0, data)
        if self.column.kind is Kind.SPAN:
            return Column(Kind.SPAN, np.rint(data).astype(np.int64), empty)
        return Column(Kind.FLOAT, data, empty)

    def _picked(self, ids: Ids, empty: Mask | None) -> Column:
        column = self.column.take(ids)
        if empty is None:
            return column
        return column_of([None if g else v for v, g in zip(column.values(), empty.tolist(), strict=True)])


def _coded(column: CodedText, words: Ids, ranks: NDArray[np.generic], empty: Mask | None) -> Column:
    codes = words.take(np.clip(ranks, 0, len(words) - 1)).astype(np.int32)
    return CodedText(Kind.TEXT, codes if empty is None else np.where(empty, 0, codes), empty, words=column.words)


def _added(data: NDArray[np.generic], codes: Ids, groups: int, stop: StopToken) -> NDArray[np.int64]:
    sums = np.zeros(groups, np.int64)
    for part in stretches(0, len(data)):  # all at once would hold the interpreter
        np.add.at(sums, codes[part], data[part].astype(np.int64, copy=False))
        stop.yield_control()
    return sums


def _share(base: Column, parent: Ids) -> Column:
    """Each group's part of its parent's sum, between 0 and 1."""
    amounts = as_floats(base)
    whole = np.bincount(parent, weights=amounts, minlength=int(parent.max(initial=0)) + 1).take(parent)
    none = (whole == 0) | base.empty_at()
    with np.errstate(invalid="ignore", divide="ignore"):
        return Column(Kind.FLOAT, np.where(none, 0.0, amounts / whole), none if none.any() else None)


def _running(base: Column, parent: Ids) -> Column:
    """Sums of the groups up to each inside its parent, in ascending order of their keys; groups stand by parent."""
    if base.kind is Kind.OBJECT:  # sums beyond 64 bits
        return column_of(_running_values(base, parent))
    data = np.where(base.empty_at(), 0, base.data)
    begins = np.ones(len(data), np.bool_)
    begins[1:] = parent[1:] != parent[:-1]
    if base.kind is not Kind.FLOAT and len(data) and largest(data) * len(data) >= 1 << 63:
        return column_of(_running_values(base, parent))
    parts = [part.cumsum() for part in np.split(data, np.flatnonzero(begins)[1:])]
    return Column(base.kind, np.concatenate(parts), scale=base.scale)


def _running_values(base: Column, parent: Ids) -> list[Value]:
    results: list[Any] = []
    for index, value in enumerate(base.values()):
        goes_on = index and parent[index] == parent[index - 1]
        results.append((value or 0) + (results[-1] if goes_on else 0))
    return results


def _less(high: Value, low: Value) -> Value:
    return float(high) - float(low) if float in (type(high), type(low)) else high - low


def _nothing(groups: int) -> Column:
    return column_of([None] * groups)


def _decimal(scaled: int, scale: int) -> Value:
    return Decimal(scaled).scaleb(-scale, Context(prec=60))
