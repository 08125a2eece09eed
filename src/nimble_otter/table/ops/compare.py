"""Two results: which rows are in both, and where they differ."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from nimble_otter.errors import ConditionError
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table.core.columns import Column, Ids, Kind, Mask, Table, View
from nimble_otter.table.kernels.codes import combined_codes, starts_of
from nimble_otter.table.kernels.packing import order_by_codes
from nimble_otter.table.ops.alike import EQUAL, Alike, are_comparable, levelled, unequal
from nimble_otter.table.ops.combine import chained
from nimble_otter.translation import tr

SAME, CHANGED, ONLY_HERE, ONLY_THERE = range(4)


Pair = tuple[int, int]
"""Places of two columns, here and there."""


@dataclass(frozen=True, slots=True, eq=False)
class Differences:
    """Rows of `here` in their order, then those only `there`. `pairs` are the columns that are compared (places here
    and there); `here_ids` and `there_ids` are row ids, -1 where there is none. `states` says what each row is;
    `changed`, for each pair, where the values differ. `keys` are the pairs by which rows are matched, `unfit` those
    whose kinds have no values in common. `repeated` counts rows, here and there, whose key an earlier row has too;
    `keyless` those with a key that is NULL in part."""

    here: View
    there: View
    pairs: tuple[Pair, ...]
    here_ids: Ids
    there_ids: Ids
    states: Ids
    changed: tuple[Mask, ...]
    keys: tuple[Pair, ...] = ()
    unfit: tuple[tuple[Pair, str], ...] = ()
    repeated: tuple[int, int] = (0, 0)
    keyless: tuple[int, int] = (0, 0)

    def count(self, state: int) -> int:
        """How many rows differ."""
        return int(np.count_nonzero(self.states == state))


def common_pairs(here: Table, there: Table) -> tuple[Pair, ...]:
    """Columns of one name, whatever their letters' case."""
    names = {f.name.casefold(): n for n, f in reversed(list(enumerate(there.fields)))}
    return tuple((n, names[f.name.casefold()]) for n, f in enumerate(here.fields) if f.name.casefold() in names)


def compare_views(
    here: View,
    there: View,
    keys: Sequence[str] = (),
    stop: StopToken = NEVER,
    pairs: Sequence[Pair] | None = None,
    rules: Mapping[int, Alike] | None = None,
) -> Differences:
    """What differs between two sets of rows.

    Parameters
    ----------
    here, there : View
    keys : sequence of str
        Columns of both that say which rows are the same. Without any, rows at the same position are. Where several rows
        have one key, those that are alike are matched first, then the first with the first.
    stop : StopToken
    pairs : sequence of (int, int), optional
        The columns that are compared: here, there; those of one name where it is left out.
    rules : mapping of int to Alike, optional
        What counts as equal, by the place of the column here.

    Returns
    -------
    Differences

    Raises
    ------
    ConditionError
        A key is not in both.
    Stopped
    """
    pairs = common_pairs(here.table, there.table) if pairs is None else tuple(pairs)
    rules = rules or {}
    if not pairs:
        raise ConditionError(tr("The two results have no column in common."), tr("Give them the same names."))
    on = tuple(_key_pair(here.table, pairs, key) for key in keys)
    compared, unfit = list[Pair](), list[tuple[Pair, str]]()
    for pair in pairs:
        a, b = here.table.columns[pair[0]], there.table.columns[pair[1]]
        if (
            are_comparable(a.kind, b.kind)
            or any(_are_documents(here, there, pair))
            or a.empty_at().all()
            or b.empty_at().all()
        ):
            compared.append(pair)
        else:
            unfit.append(
                (
                    pair,
                    tr(
                        "{kind} can't be compared with {other_kind}",
                        kind=a.kind.value,
                        other_kind=b.kind.value,
                    ),
                )
            )
    if lost := next((said for pair, said in unfit if pair in on), None):
        raise ConditionError(tr("The keys never match: {lost}.", lost=lost))
    codes = _key_codes(here, there, on, rules, stop) if on else None
    repeated = keyless = (0, 0)
    if codes is None:
        count = max(len(here), len(there))
        mine, theirs = _padded(here.row_ids(), count), _padded(there.row_ids(), count)
    else:
        repeated = _repeated(codes[0]), _repeated(codes[1])
        if any(repeated):
            rest = tuple(pair for pair in compared if pair not in on)
            codes = _alike_first(here, there, codes, rest, rules, stop)
        mine, theirs = _matched(here.row_ids(), there.row_ids(), *codes, are_unique=not any(repeated))
        keyless = _without_key(here, [a for a, _ in on]), _without_key(there, [b for _, b in on])
    changed, any_changed = [], np.zeros(len(mine), np.bool_)
    both = np.flatnonzero((mine >= 0) & (theirs >= 0))
    for left, right in compared:
        stop.check()
        differs = np.zeros(len(mine), np.bool_)
        if (left, right) not in on:
            a = here.table.columns[left].take(mine[both])
            b = there.table.columns[right].take(theirs[both])
            fits = are_comparable(a.kind, b.kind)
            differs[both] = unequal(a, b, rules.get(left, EQUAL), stop) if fits else ~(a.empty_at() & b.empty_at())
            if all(_are_documents(here, there, (left, right))):  # there, no field is another thing than NULL
                differs[both] |= _missing(a) != _missing(b)
        changed.append(differs)
        any_changed |= differs
    states = np.where(any_changed, CHANGED, SAME)
    states = np.where(mine < 0, ONLY_THERE, np.where(theirs < 0, ONLY_HERE, states))
    return Differences(here, there, tuple(compared), mine, theirs, states.astype(np.int64), tuple(changed), on,
                       tuple(unfit), repeated, keyless)  # fmt: skip


def _are_documents(here: View, there: View, pair: Pair) -> tuple[bool, bool]:
    """Whether a column comes from documents, whose fields have no declared type: here, there."""
    fields = here.table.fields[pair[0]], there.table.fields[pair[1]]
    return bool(fields[0].origin and not fields[0].declared), bool(fields[1].origin and not fields[1].declared)


def _missing(column: Column) -> Mask:
    return column.missing if column.missing is not None else np.zeros(len(column), np.bool_)


def _key_pair(here: Table, pairs: Sequence[Pair], key: str) -> Pair:
    found = next((p for p in pairs if here.fields[p[0]].name.casefold() == key.casefold()), None)
    if found is None:
        raise ConditionError(tr("{key} is not in both results.", key=key), tr("Choose a column that both have."))
    return found


def _without_key(view: View, places: Sequence[int]) -> int:
    gone = np.zeros(len(view), np.bool_)
    for index in places:
        gone |= view.table.columns[index].empty_at(view.row_ids())
    return int(np.count_nonzero(gone))


def _key_codes(
    here: View, there: View, on: Sequence[Pair], rules: Mapping[int, Alike], stop: StopToken
) -> tuple[Ids, Ids]:
    """Numbers of the keys of both, equal where these are; a tolerance counts for nothing here."""
    both = []
    for left, right in on:
        a, b = here.table.columns[left].take(here.row_ids()), there.table.columns[right].take(there.row_ids())
        both.append(chained(levelled(a, b, rules.get(left, EQUAL))))
    codes = combined_codes(both, np.arange(len(here) + len(there)), stop)
    return codes[: len(here)], codes[len(here) :]


def _alike_first(
    here: View, there: View, codes: tuple[Ids, Ids], rest: Sequence[Pair], rules: Mapping[int, Alike], stop: StopToken
) -> tuple[Ids, Ids]:
    """Keys that stand more than once, told apart: rows alike in the other columns too have a number of their own."""
    whole = _key_codes(here, there, rest, rules, stop) if rest else (np.zeros_like(codes[0]), np.zeros_like(codes[1]))
    number = combined_codes(
        [Column(Kind.INT, np.concatenate(each)) for each in (codes, whole)], np.arange(len(here) + len(there)), stop
    )
    own = number[: len(here)], number[len(here) :]
    nth = _times_before(*own)
    span = len(number) + 1
    marks = own[0] * span + nth[: len(here)], own[1] * span + nth[len(here) :]
    met = np.intersect1d(marks[0], marks[1])
    base = int(max(codes[0].max(initial=0), codes[1].max(initial=0))) + 1
    results = []
    for mark, code in zip(marks, codes, strict=True):
        at = np.minimum(np.searchsorted(met, mark), max(0, len(met) - 1))
        is_met = met.take(at) == mark if len(met) else np.zeros(len(mark), np.bool_)
        results.append(np.where(is_met, base + at, code))
    return results[0], results[1]


def _repeated(codes: Ids) -> int:
    """How many rows have the number of an earlier one."""
    return len(codes) - int(np.count_nonzero(np.bincount(codes)))


def _matched(mine: Ids, theirs: Ids, a: Ids, b: Ids, are_unique: bool) -> tuple[Ids, Ids]:
    """Row ids of both, beside each other where codes are equal, the first with the first; -1 where a row has no
    other. `are_unique`: no code stands twice on a side."""
    if not are_unique:
        codes = combined_codes([Column(Kind.INT, np.concatenate([a, b])), Column(Kind.INT, _times_before(a, b))],
                               np.arange(len(a) + len(b)))  # fmt: skip
        a, b = codes[: len(a)], codes[len(a) :]
    place = np.full(max(int(a.max(initial=0)), int(b.max(initial=0))) + 1, -1, np.int64)
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
    results = []
    for codes in (a, b):
        order = order_by_codes(codes, int(codes.max(initial=0)) + 1)
        ordered = codes.take(order)
        begins = np.ones(len(codes), np.bool_)
        begins[1:] = ordered[1:] != ordered[:-1]
        times = np.empty(len(codes), np.int64)
        times[order] = np.arange(len(codes)) - starts_of(begins)
        results.append(times)
    return np.concatenate(results)
