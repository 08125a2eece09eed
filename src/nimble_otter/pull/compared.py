"""The differences of two results as a result of their own, and a key by which their rows can be matched."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import combinations

import numpy as np

from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table import Column, Field, Kind, Table, View
from nimble_otter.table.core.columns import CodedText, Ids, distinct_names
from nimble_otter.table.kernels.codes import combined_codes
from nimble_otter.table.ops.alike import Alike, are_comparable, reconciled
from nimble_otter.table.ops.combine import chained, taken
from nimble_otter.table.ops.compare import CHANGED, ONLY_HERE, ONLY_THERE, SAME, Differences, Pair, common_pairs
from nimble_otter.table.text.show import grouped
from nimble_otter.translation import tr, tr_value

STATES = {SAME: "same", CHANGED: "changed", ONLY_HERE: "only left", ONLY_THERE: "only right"}
DIFFERENCE, CHANGED_COLUMNS = "difference", "changed in"
LEFT = " left"
"""What follows a column's name where its value on the left stands beside the one on the right."""
_MOST_TRIED = 8
"""Columns of which two together are tried as a key."""


@dataclass(frozen=True, slots=True, eq=False)
class Compared:
    """What a table of differences comes from: `lines` gives for each of its rows the line of `found`, `before` for the
    place of a column that of its values on the left, `pairs` for the same place which of the pairs of `found` it is.
    `places` are those of the left side's columns among the ones pulled; None where its rows are not those pulled."""

    found: Differences
    lines: Ids
    before: Mapping[int, int]
    pairs: Mapping[int, int]
    places: tuple[int, ...] | None = None


def differences_table(found: Differences, with_same: bool = False) -> tuple[Table, Compared]:
    """A row for each that differs (or for all): the key, what the difference is and in which columns, and for every
    pair the value on the right (on the left where it is only there), with that on the left beside it."""
    lines = np.arange(len(found.states)) if with_same else np.flatnonzero(found.states != SAME)
    here, there = found.here_ids.take(lines), found.there_ids.take(lines)
    fields, columns = list[Field](), list[Column]()
    before, pairs = dict[int, int](), dict[int, int]()
    for pair in found.keys:
        fields.append(replace(found.here.table.fields[pair[0]], note="key", origin=""))
        columns.append(_either(found, pair, here, there))
    states = found.states.take(lines)
    words = tuple(STATES.values())
    fields.append(Field(DIFFERENCE, Kind.TEXT))
    columns.append(CodedText(Kind.TEXT, states.astype(np.int32), words=words))
    fields.append(Field(CHANGED_COLUMNS, Kind.TEXT))
    columns.append(_changed_names(found, lines))
    for number, pair in enumerate(found.pairs):
        if pair in found.keys:
            continue
        own = found.here.table.fields[pair[0]]
        column = _either(found, pair, here, there)
        pairs[len(fields)], before[len(fields)] = number, len(fields) + 1
        fields.append(_field(own, column, found.there.table.fields[pair[1]]))
        columns.append(column)
        fields.append(replace(own, name=own.name + LEFT, origin=""))
        columns.append(taken(found.here.table.columns[pair[0]], here, here < 0))
    table = Table(tuple(distinct_names(fields)), tuple(columns), len(lines))
    return table, Compared(found, lines, before, pairs)


def _field(own: Field, made: Column, theirs: Field) -> Field:
    form = own.form if made.kind is own.kind and own.form == theirs.form else ""
    return replace(own, kind=made.kind, form=form, origin="", exact=None)


def _either(found: Differences, pair: Pair, here: Ids, there: Ids) -> Column:
    """The values on the right; of rows that are only there, those on the left."""
    left, right = found.here.table.columns[pair[0]], found.there.table.columns[pair[1]]
    mine, theirs = taken(left, here, here < 0), taken(right, there, there < 0)
    at = np.where(there < 0, np.arange(len(here)), np.arange(len(here)) + len(here))
    return chained([mine, theirs]).take(at)


def _changed_names(found: Differences, lines: Ids) -> Column:
    """The names of the columns in which a row differs, made once for each combination."""
    names = [found.here.table.fields[a].name for a, _ in found.pairs]
    none = np.zeros(len(lines), np.bool_)
    marks = [Column(Kind.BOOL, mask.take(lines)) for mask in found.changed]
    codes = combined_codes(marks, np.arange(len(lines))) if marks else none.astype(np.int64)
    _, first = np.unique(codes, return_index=True)
    words = tuple(", ".join(n for n, mark in zip(names, marks, strict=True) if mark.data[at]) for at in first.tolist())
    place = np.zeros(int(codes.max(initial=0)) + 1, np.int32)
    place[codes.take(first)] = np.arange(len(first))
    own = place.take(codes)
    empty = np.array([not word for word in words] or [True], np.bool_).take(own)
    return CodedText(Kind.TEXT, np.where(empty, 0, own).astype(np.int32), empty, words=words or ("",))


def summary(found: Differences, rules: Mapping[int, Alike]) -> str:
    """What was found, what was taken as the same, and what could not be compared, in a line."""
    counts = [(found.count(state), STATES[state]) for state in (CHANGED, ONLY_HERE, ONLY_THERE)]
    parts = [f"{grouped(count)} {tr_value(word)}" for count, word in counts if count]
    lines = [
        tr("{parts}; {count} same", parts=", ".join(parts) or tr("no differences"), count=grouped(found.count(SAME)))
    ]
    here, there = found.here.table, found.there.table
    for left, right in found.pairs:
        name, rule = here.fields[left].name, rules.get(left)
        if rule is not None and rule.words():
            lines.append(f"{name} {rule.words()}")
        if words := reconciled(here.columns[left].kind, there.columns[right].kind):
            lines.append(f"{name}: {words}")
    lines += [
        tr("{fields_name} is not compared: {why}", fields_name=here.fields[a].name, why=why)
        for (a, _), why in found.unfit
    ]
    sides = (tr("left"), tr("right"))
    for side, count in zip(sides, found.repeated, strict=True):
        if count:
            lines.append(tr("{count} rows on the {side} have the key of another row", count=grouped(count), side=side))
    for side, count in zip(sides, found.keyless, strict=True):
        if count:
            lines.append(tr("{count} rows on the {side} have NULL in the key", count=grouped(count), side=side))
    used = [{p for pair in (*found.pairs, *(p for p, _ in found.unfit)) for p in (pair[side],)} for side in (0, 1)]
    for side, table, places in zip(sides, (here, there), used, strict=True):
        if alone := [f.name for n, f in enumerate(table.fields) if n not in places]:
            lines.append(tr("only on the {side}: {alone}", side=side, alone=", ".join(alone)))
    return "; ".join(lines)


def find_key(here: View, there: View, wanted: Sequence[str] = (), stop: StopToken = NEVER) -> tuple[str, ...]:
    """Columns whose values, together, stand once at most on each side and are never NULL: those `wanted` (a primary
    key) if they do, else one column, else two; none where there is no such. Names on the left."""
    fit = [pair for pair in common_pairs(here.table, there.table)
           if are_comparable(here.table.columns[pair[0]].kind, there.table.columns[pair[1]].kind)]  # fmt: skip
    names = {here.table.fields[pair[0]].name.casefold(): pair for pair in fit}
    tried = (
        [[names[name.casefold()] for name in wanted]] if wanted and all(n.casefold() in names for n in wanted) else []
    )
    likely = sorted(fit, key=lambda pair: not here.table.fields[pair[0]].name.casefold().endswith("id"))
    likely = [p for p in likely if here.table.columns[p[0]].kind not in (Kind.OBJECT, Kind.FLOAT, Kind.BOOL)]
    tried += [[pair] for pair in likely] + [list(two) for two in combinations(likely[:_MOST_TRIED], 2)]
    for pairs in tried:
        stop.check()
        if all(_is_key(view, [p[side] for p in pairs], stop) for side, view in enumerate((here, there))):
            return tuple(here.table.fields[left].name for left, _ in pairs)
    return ()


def _is_key(view: View, places: Sequence[int], stop: StopToken) -> bool:
    columns, ids = [view.table.columns[place] for place in places], view.row_ids()
    if any(column.empty_at(ids).any() for column in columns):
        return False
    some = ids[:1000]  # most columns show at once that they are none
    return all(len(np.unique(combined_codes(columns, part, stop))) == len(part) for part in (some, ids))
