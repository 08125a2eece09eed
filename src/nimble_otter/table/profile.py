"""Figures of one column over the rows of a view: counts, extremes, mean, histogram, most frequent values."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table.columns import Column, Ids, Kind, View
from nimble_otter.table.group import Figure, Measure, as_floats, group_view
from nimble_otter.table.sort import codes_of


@dataclass(frozen=True, slots=True)
class Profile:
    """Figures of a column. `bins` are counts of equal steps from `bin_low` to `bin_high` (numbers and times);
    `frequent` the most frequent values with counts, most first; figures that don't apply are None."""

    rows: int
    empty: int
    distinct: int
    smallest: Any = None
    largest: Any = None
    mean: float | None = None
    median: float | None = None
    total: Any = None
    spread: float | None = None
    bins: tuple[int, ...] = ()
    bin_low: Any = None
    bin_high: Any = None
    frequent: tuple[tuple[Any, int], ...] = ()


def profile(view: View, index: int, bins: int = 16, stop: StopToken = NEVER) -> Profile:
    """Work out the figures of column `index`. `spread` is the sample standard deviation. Raises: Stopped."""
    column = view.table.columns[index]
    ids = view.row_ids()
    full = ids[~column.empty_at(ids)]
    if not len(full):
        return Profile(len(ids), len(ids), 0)
    codes, first = codes_of(column, full, stop)
    top = _most_frequent(column, full, codes, first, 5)
    found = Profile(len(ids), len(ids) - len(full), len(first), frequent=tuple(top))
    if column.kind is Kind.OBJECT:
        return found
    ends = column.take(full.take(first[[0, -1]])).values()
    found = _with(found, smallest=ends[0], largest=ends[1])
    if not (column.kind.is_number or column.kind.is_moment or column.kind in (Kind.CLOCK, Kind.SPAN)):
        return found
    numbers = as_floats(column, full)
    finite = numbers[np.isfinite(numbers)]
    if len(finite):
        low, high = float(finite.min()), float(finite.max())
        edges = (low, high if high > low else low + 1)
        heights = np.histogram(finite, bins=bins, range=edges)[0]
        found = _with(found, bins=tuple(heights.tolist()), bin_low=ends[0], bin_high=ends[1])
    if column.kind.is_number:
        stop.check()
        found = _with(
            found,
            mean=float(numbers.mean()),
            median=float(np.median(numbers)),
            spread=float(numbers.std(ddof=1)) if len(numbers) > 1 else None,
            total=_total(view, index, full),
        )
    return found


def _total(view: View, index: int, ids: Ids) -> Any:
    totals = group_view(View(view.table, ids), [], [Measure(Figure.SUM, index)]).totals
    return totals.columns[0].value(0)


def _with(found: Profile, **changes: Any) -> Profile:
    return replace(found, **changes)


def value_counts(view: View, index: int, most: int | None = None, stop: StopToken = NEVER) -> list[tuple[Any, int]]:
    """Different values with how many rows have each, most first, then ascending; None stands for no value. Only the
    `most` most frequent are given when there are more. Raises: Stopped."""
    column = view.table.columns[index]
    ids = view.row_ids()
    if not len(ids):
        return []
    codes, first = codes_of(column, ids, stop)
    return _most_frequent(column, ids, codes, first, most)


def _most_frequent(column: Column, ids: Ids, codes: Ids, first: Ids, most: int | None) -> list[tuple[Any, int]]:
    counts = np.bincount(codes, minlength=len(first))
    by_count = np.argsort(-counts, kind="stable")[:most]
    examples = ids.take(first.take(by_count))
    pairs = zip(
        column.values(examples), counts.take(by_count).tolist(), column.empty_at(examples).tolist(), strict=True
    )
    return [(None if is_gone else value, count) for value, count, is_gone in pairs]
