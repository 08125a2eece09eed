"""Figures of one column over the rows of a view: counts, extremes, mean, histogram, most frequent values."""

from __future__ import annotations

import re
from collections import Counter
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table.core.columns import BufferText, Column, Ids, Kind, View, pick
from nimble_otter.table.kernels.codes import counted
from nimble_otter.table.kernels.numeric import as_amounts, as_floats, holds_numbers
from nimble_otter.table.ops.group import Aggregate, AggregateFunction, group_view

MOST_PATTERNED = 20_000
"""Different texts whose forms are looked at, the most frequent first."""
_DIGITS, _UPPER, _LOWER = (re.compile(f"{letter}{{2,}}") for letter in "9Aa")


@dataclass(frozen=True, slots=True)
class Profile:
    """Figures of a column. `bins` are counts of equal steps from `bin_low` to `bin_high` (numbers and times);
    `frequent` the most frequent values with counts, most first; figures that don't apply are None. The quarters are the
    values that a quarter and three quarters of the rows lie below. `patterns` are the forms that most texts have, with
    their share: A and a mean letters, 9 a digit, + one or more of the same."""

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
    low_quarter: Any = None
    high_quarter: Any = None
    shortest: str | None = None
    longest: str | None = None
    patterns: tuple[tuple[str, float], ...] = ()


def profile(view: View, index: int, bins: int = 16, stop: StopToken = NEVER) -> Profile:
    """Work out the figures of column `index`. `spread` is the sample standard deviation. Raises: Stopped."""
    column = view.table.columns[index]
    ids = view.row_ids()
    full = ids[~column.empty_at(ids)]
    if not len(full):
        return Profile(len(ids), len(ids), 0)
    first, counts = counted(column, full, stop)
    top = _most_frequent(column, full, first, counts, 5)
    found = Profile(len(ids), len(ids) - len(full), len(first), frequent=tuple(top))
    if holds_numbers(column):
        column, view = as_amounts(column), _with_amounts(view, index)
    elif column.kind is Kind.OBJECT:
        return found
    ends = column.take(full.take(first[[0, -1]])).values()
    found = _with(found, smallest=ends[0], largest=ends[1])
    if column.kind is Kind.TEXT:
        return _of_texts(found, column, full.take(first), counts, stop)
    if not (column.kind.is_number or column.kind.is_moment or column.kind in (Kind.CLOCK, Kind.SPAN)):
        return found
    numbers = as_floats(column, full)
    finite = numbers[np.isfinite(numbers)]
    if len(finite):
        heights = np.histogram(_shares(finite), bins=bins, range=(0.0, 1.0))[0]
        found = _with(found, bins=tuple(heights.tolist()), bin_low=ends[0], bin_high=ends[1])
    if column.kind.is_number:
        stop.check()
        with np.errstate(invalid="ignore", over="ignore"):  # between infinities there is no number; some sums have none
            quarters = np.quantile(numbers, [0.25, 0.75]).tolist()
            found = _with(
                found,
                mean=float(numbers.mean()),
                median=float(np.median(numbers)),
                low_quarter=quarters[0],
                high_quarter=quarters[1],
                spread=float(numbers.std(ddof=1)) if len(numbers) > 1 else None,
                total=_total(view, index, full),
            )
    return found


def _shares(values: NDArray[np.float64]) -> NDArray[np.float64]:
    """How far each value is from the lowest to the highest, from 0 to 1: bins of those are there whatever the values,
    as far apart as doubles reach or next to each other."""
    low, high = float(values.min()), float(values.max())
    if low == high:
        return np.zeros(len(values))
    if not np.isfinite(high - low):
        values, low, high = values / 2, low / 2, high / 2
    return (values - low) / (high - low)


def _with_amounts(view: View, index: int) -> View:
    columns = [as_amounts(c) if n == index else c for n, c in enumerate(view.table.columns)]
    return View(replace(view.table, columns=tuple(columns)), view.ids)


def _of_texts(found: Profile, column: Column, examples: Ids, counts: Ids, stop: StopToken) -> Profile:
    """Shortest, longest, and the forms that texts have, over the different values."""
    lengths = _lengths(column, examples)
    ends = [column.value(int(examples[place])) for place in (int(lengths.argmin()), int(lengths.argmax()))]
    many = np.argsort(-counts, kind="stable")[:MOST_PATTERNED]
    forms: Counter[str] = Counter()
    for text, count in zip(column.values(examples.take(many)), counts.take(many).tolist(), strict=True):
        forms[form_of(text)] += count
    stop.check()
    whole = sum(forms.values())
    common = tuple((form, count / whole) for form, count in forms.most_common(3))
    return _with(found, shortest=ends[0], longest=ends[1], patterns=common)


def _lengths(column: Column, ids: Ids) -> Ids:
    """Characters of texts; bytes where they are held as such, which puts them in nearly the same order."""
    if isinstance(column, BufferText):
        lengths: Ids = pick(column.ends, ids) - pick(column.data, ids)
        return lengths
    return np.array([len(text) for text in column.values(ids)], np.int64)


def form_of(text: str) -> str:
    """The form of a text: "Aa+ 9+" of "Station 12"."""
    return _LOWER.sub("a+", _UPPER.sub("A+", _DIGITS.sub("9+", _shape(text[:60]))))


def _shape(text: str) -> str:
    return "".join("9" if c.isdigit() else "A" if c.isupper() else "a" if c.isalpha() else c for c in text)


def _total(view: View, index: int, ids: Ids) -> object:
    totals = group_view(View(view.table, ids), [], [Aggregate(AggregateFunction.SUM, index)]).totals
    return totals.columns[0].value(0)


def _with(found: Profile, **changes: Any) -> Profile:
    return replace(found, **changes)


def value_counts(view: View, index: int, most: int | None = None, stop: StopToken = NEVER) -> list[tuple[object, int]]:
    """The different values of a column with how many rows have each.

    Parameters
    ----------
    view : View
    index : int
        The column.
    most : int, optional
        Only so many of the most frequent are given.
    stop : StopToken

    Returns
    -------
    list of (value, int)
        The most frequent first, then in ascending order; None stands for no value.

    Raises
    ------
    Stopped

    Examples
    --------
    >>> from nimble_otter.table.core.build import table_of
    >>> value_counts(View(table_of(river=["Sallow", "Merrow", None, "Merrow"])), 0)
    [('Merrow', 2), ('Sallow', 1), (None, 1)]
    """
    column = view.table.columns[index]
    ids = view.row_ids()
    if not len(ids):
        return []
    return _most_frequent(column, ids, *counted(column, ids, stop), most)


def _most_frequent(column: Column, ids: Ids, first: Ids, counts: Ids, most: int | None) -> list[tuple[object, int]]:
    by_count = np.argsort(-counts, kind="stable")[:most]
    examples = ids.take(first.take(by_count))
    pairs = zip(
        column.values(examples), counts.take(by_count).tolist(), column.empty_at(examples).tolist(), strict=True
    )
    return [(None if is_gone else value, count) for value, count, is_gone in pairs]
