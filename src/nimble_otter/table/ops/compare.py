"""Two results side by side: which rows are in both, and where they differ."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from nimble_otter.errors import ConditionError
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table.core.columns import Column, Ids, Kind, Mask, View
from nimble_otter.table.kernels.codes import codes_of, combined_codes, starts_of
from nimble_otter.table.kernels.packing import order_by_codes
from nimble_otter.table.ops.combine import chained, pair_codes

SAME, CHANGED, ONLY_HERE, ONLY_THERE = range(4)


@dataclass(frozen=True, slots=True, eq=False)
class Differences:
    """Rows of `here` in their order, then those only `there`. `pairs` are the columns that both have (places here and
    there); `here_ids` and `there_ids` are row ids, -1 where there is none. `states` says what each row is; `changed`,
    for each pair, where the values differ."""

    here: View
    there: View
    pairs: tuple[tuple[int, int], ...]
    here_ids: Ids
    there_ids: Ids
    states: Ids
    changed: tuple[Mask, ...]

    def count(self, state: int) -> int:
        """How many rows differ."""
        return int(np.count_nonzero(self.states == state))


def compare_views(here: View, there: View, keys: Sequence[str] = (), stop: StopToken = NEVER) -> Differences:
    """Rows with equal `keys` are the same row (the first with the first where several have them); without keys, rows at
    the same position. Raises: ConditionError where a key is not in both, Stopped."""
    names = {f.name.casefold(): n for n, f in reversed(list(enumerate(there.table.fields)))}
    pairs = tuple((n, names[f.name.casefold()]) for n, f in enumerate(here.table.fields) if f.name.casefold() in names)
    if not pairs:
        raise ConditionError("The two results have no column in common.", "Give them the same names.")
    mine, theirs = _matched(here, there, keys, pairs, stop)
    changed, any_changed = [], np.zeros(len(mine), np.bool_)
    both = (mine >= 0) & (theirs >= 0)
    for left, right in pairs:
        stop.check()
        differs = np.zeros(len(mine), np.bool_)
        a = here.table.columns[left].take(mine[both])
        b = there.table.columns[right].take(theirs[both])
        codes = codes_of(chained([_level(a), _level(b)]), np.arange(2 * len(a)))[0] if len(a) else np.empty(0, np.int64)
        differs[both] = codes[: len(a)] != codes[len(a) :]
        changed.append(differs)
        any_changed |= differs
    states = np.where(both, np.where(any_changed, CHANGED, SAME), np.where(mine >= 0, ONLY_HERE, ONLY_THERE))
    return Differences(here, there, pairs, mine, theirs, states.astype(np.int64), tuple(changed))


def _level(column: Column) -> Column:
    """Whole numbers and doubles alike, so that 1 and 1.0 are equal; decimals by value."""
    return column if column.kind is not Kind.BOOL else Column(Kind.INT, column.data.astype(np.int64), column.empty)


def _matched(
    here: View, there: View, keys: Sequence[str], pairs: Sequence[tuple[int, int]], stop: StopToken
) -> tuple[Ids, Ids]:
    """Row ids of both, beside each other; -1 where a row has no other."""
    mine, theirs = here.row_ids(), there.row_ids()
    if not keys:
        count = max(len(mine), len(theirs))
        return _padded(mine, count), _padded(theirs, count)
    on = []
    for key in keys:
        found = next((p for p in pairs if here.table.fields[p[0]].name.casefold() == key.casefold()), None)
        if found is None:
            raise ConditionError(f"{key} is not in both results.", "Choose a column that both have.")
        on.append(found)
    a, b, _ = pair_codes(here, there.table, on, stop, empty_equal=True, there_ids=theirs)
    codes = combined_codes([Column(Kind.INT, np.concatenate([a, b])), Column(Kind.INT, _times_before(a, b))],
                           np.arange(len(a) + len(b)), stop)  # fmt: skip
    a, b = codes[: len(a)], codes[len(a) :]
    place = np.full(int(codes.max(initial=0)) + 1, -1, np.int64)
    place[b] = np.arange(len(b))
    other = place.take(a)
    met = np.zeros(len(b), np.bool_)
    met[other[other >= 0]] = True
    alone = np.flatnonzero(~met)
    found_ids = np.where(other >= 0, theirs.take(np.maximum(other, 0)) if len(theirs) else -1, -1)
    return (np.concatenate([mine, np.full(len(alone), -1, np.int64)]), np.concatenate([found_ids, theirs.take(alone)]))


def _padded(ids: Ids, count: int) -> Ids:
    return np.concatenate([ids, np.full(count - len(ids), -1, np.int64)])


def _times_before(a: Ids, b: Ids) -> Ids:
    """How many rows before it on its side have the same key."""
    found = []
    for codes in (a, b):
        order = order_by_codes(codes, int(codes.max(initial=0)) + 1)
        ordered = codes.take(order)
        begins = np.ones(len(codes), np.bool_)
        begins[1:] = ordered[1:] != ordered[:-1]
        times = np.empty(len(codes), np.int64)
        times[order] = np.arange(len(codes)) - starts_of(begins)
        found.append(times)
    return np.concatenate(found)
