"""Why a row is, or is not, in a result: what each step of the course made of it, and what would bring it back."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from enum import StrEnum
from typing import Any

import numpy as np

from nimble_otter.errors import ConditionError
from nimble_otter.pull.compared import STATES
from nimble_otter.pull.course import Course
from nimble_otter.pull.shaped import Shaped
from nimble_otter.pull.steps import (
    AppendStep,
    ColumnsStep,
    CompareStep,
    ComputeStep,
    Condition,
    DistinctStep,
    FilterStep,
    GroupStep,
    JoinStep,
    PivotStep,
    SampleStep,
    SortStep,
    Step,
    TopStep,
    TransposeStep,
    UnpivotStep,
    find_column,
)
from nimble_otter.pull.steps.base import step_title
from nimble_otter.pull.steps.group import with_parts
from nimble_otter.pull.steps.join import needed
from nimble_otter.query.local.conditions import parse_condition
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table import Table, View
from nimble_otter.table.core.columns import Ids
from nimble_otter.table.kernels.codes import combined_codes
from nimble_otter.table.ops.combine import join_rows
from nimble_otter.table.ops.filter import filter_view
from nimble_otter.table.ops.group import group_view
from nimble_otter.table.text.show import grouped, shown
from nimble_otter.translation import tr

_ABOVE = {"more than": "at least", "at least": "at least"}
_BELOW = {"less than": "at most", "at most": "at most"}
_SIGNED = ("is", "is not", "more than", "at least", "less than", "at most", "between", "is one of", "is none of")


class Fate(StrEnum):
    """What became of a row at a place of the course."""

    RETURNED = "returned"
    KEPT = "kept"
    LOST = "left out"
    MERGED = "merged"
    MULTIPLIED = "multiplied"
    MOVED = "moved"
    UNREACHED = "not reached"


@dataclass(frozen=True, slots=True)
class Remedy:
    """What would bring the row back: the step in another form."""

    words: str
    step: Step


@dataclass(frozen=True, slots=True)
class Passage:
    """What became of the row at the step `at` (-1: the query; behind the last: the result)."""

    at: int
    title: str
    fate: Fate
    said: str
    remedies: tuple[Remedy, ...] = ()

    def words(self) -> str:
        """In a sentence."""
        return f"{self.title}: {self.said}"


@dataclass(frozen=True, slots=True, eq=False)
class Trace:
    """The way of one row; `rows` are the ids that it has among the rows at the end (several where it was multiplied),
    none where it is not among them."""

    passages: tuple[Passage, ...]
    rows: Ids

    @property
    def lost(self) -> Passage | None:
        """Where it was left out."""
        return next((each for each in self.passages if each.fate is Fate.LOST), None)


def find_rows(table: Table, condition: str, stop: StopToken = NEVER) -> Ids:
    """The rows pulled for which a condition (of the local language) holds. Raises: ConditionError, Stopped."""
    if not condition.strip():
        raise ConditionError(tr("Which row is meant?"), tr("Write a condition, such as reading_id = 42."))
    return filter_view(View(table), parse_condition(condition, table), stop).row_ids()


def trace(course: Course, row: int, stop: StopToken = NEVER) -> Trace:
    """Follow one of the rows pulled, by its id, along the course. Raises: Stopped."""
    rows = np.array([row], np.int64)
    passages = [
        Passage(-1, tr("Query"), Fate.RETURNED, tr("returned: {row_words}", row_words=row_words(course.table, row)))
    ]
    for at, result in enumerate(course.results):
        stop.check()
        step = result.applied if result.applied is not None else result.step
        title = step.name or f"{step_title(step.kind)} {step.words()}"
        if not len(rows):
            passages.append(Passage(at, title, Fate.UNREACHED, tr("not reached")))
        elif not step.on:
            passages.append(Passage(at, title, Fate.KEPT, tr("switched off")))
        elif result.error is not None:
            passages.append(Passage(at, title, Fate.KEPT, tr("passed over: {message}", message=result.error.message)))
        else:
            try:
                rows, fate, text, remedies = _followed(step, course.before(at), result.shaped, rows, stop)
            except ConditionError as problem:
                rows, fate, text, remedies = (
                    rows[:0],
                    Fate.UNREACHED,
                    tr("can't be followed: {message}", message=problem.message),
                    (),
                )
            passages.append(Passage(at, title, fate, text, remedies))
    end = course.end
    if len(rows):
        passages.append(Passage(len(course.results), tr("Result"), Fate.KEPT, _standing(end, rows)))
    return Trace(tuple(passages), rows)


def row_words(table: Table, row: int, most: int = 5) -> str:
    """The first values of a row, as they are shown."""
    parts = [f"{f.name} {value_words(table, n, row)}" for n, f in enumerate(table.fields[:most])]
    return ", ".join(parts) + ("…" if len(table.fields) > most else "")


def value_words(table: Table, place: int, row: int) -> str:
    """A value as it is shown."""
    value = table.columns[place].value(row)
    return "NULL" if value is None else shown(value, table.fields[place])


def _standing(end: Shaped, rows: Ids) -> str:
    places = _places(end, rows)
    if end.grouped is not None:
        key = _key(end, int(_leaves(end, rows)[0]))
        return tr(
            "in the group {key}, at place {places} of {rows}",
            key=key,
            places=grouped(places[0] + 1),
            rows=grouped(end.rows),
        )
    text = ", ".join(grouped(place + 1) for place in places[:5]) + ("…" if len(places) > 5 else "")
    return tr("at place {text} of {rows}", text=text, rows=grouped(end.rows))


def _places(shaped: Shaped, rows: Ids) -> list[int]:
    """Where rows stand (of groups: where theirs do), from 0."""
    wanted = rows if shaped.grouped is None else np.unique(_leaves(shaped, rows))
    ids = shaped.flat().row_ids()
    return [int(place) for place in np.flatnonzero(np.isin(ids, wanted))]


def _leaves(shaped: Shaped, rows: Ids) -> Ids:
    """The deepest groups that rows are in."""
    assert shaped.grouped is not None
    level = shaped.grouped.levels[-1]
    return level.codes[np.isin(level.ids, rows)]


def _key(shaped: Shaped, leaf: int) -> str:
    assert shaped.grouped is not None
    leaves, count = shaped.grouped.leaves, len(shaped.grouped.keys)
    return ", ".join(f"{leaves.fields[n].name} {value_words(leaves, n, leaf)}" for n in range(count)) or tr(
        "of all rows"
    )


Followed = tuple[Ids, Fate, str, tuple[Remedy, ...]]


def _followed(step: Step, before: Shaped, after: Shaped, rows: Ids, stop: StopToken) -> Followed:
    """The row ids after a step, and what is to be said of it."""
    for kind, follow in _WAYS:
        if isinstance(step, kind):
            return follow(step, before, after, rows, stop)
    kept = _still_there(after, rows)
    return kept, Fate.KEPT if len(kept) else Fate.LOST, tr("kept") if len(kept) else tr("left out here"), ()


def _still_there(after: Shaped, rows: Ids) -> Ids:
    ids = after.view.row_ids()
    return rows[np.isin(rows, ids)]


def _filtered(step: FilterStep, before: Shaped, after: Shaped, rows: Ids, stop: StopToken) -> Followed:
    kept = _still_there(after, rows)
    lost = rows[~np.isin(rows, kept)]
    shown_row = int((lost if len(lost) else kept)[0])
    at = shown_row if before.grouped is None else int(_leaves(before, np.array([shown_row]))[0])
    table, lines, holding, remedies = before.table, list[str](), list[str](), list[Remedy]()
    for number, condition in enumerate(step.conditions):
        if not condition.on:
            continue
        if len(filter_view(View(table, np.array([at])), condition.node(table), stop)):
            holding.append(condition.words())
            continue
        lines.append(_failing(condition, table, at))
        remedies += _remedies(step, number, condition, table, at)
    if not len(lost):
        return kept, Fate.KEPT, tr("kept: {holding}", holding=", ".join(holding)), ()
    holds = ", ".join(tr("{condition} holds", condition=each) for each in holding)
    also = f" ({holds})" if holds else ""
    words = tr("left out here: {lines}{also}", lines=", ".join(lines), also=also)
    if len(kept):
        return (
            kept,
            Fate.KEPT,
            tr("{kept_count} of {rows_count} kept; {words}", kept_count=len(kept), rows_count=len(rows), words=words),
            tuple(remedies),
        )
    return kept, Fate.LOST, words, tuple(remedies)


def _failing(condition: Condition, table: Table, row: int) -> str:
    if condition.operator in _SIGNED:
        index = find_column(table, condition.column)
        rest, value = condition.words().removeprefix(condition.column).strip(), value_words(table, index, row)
        if rest.startswith(("≠", "not in")):
            return tr("{column} is {value}, which {rest} leaves out", column=condition.column, value=value, rest=rest)
        rest = (
            tr("one of the {rest}", rest=rest.removeprefix("in "))
            if rest.startswith("in ")
            else rest.removeprefix("= ")
        )
        return tr("{column} {value} is not {rest}", column=condition.column, value=value, rest=rest)
    if condition.column:
        index = find_column(table, condition.column)
        return tr(
            "{column} is {value_words}: {words} does not hold",
            column=condition.column,
            value_words=value_words(table, index, row),
            words=condition.words(),
        )
    return tr("{words} does not hold", words=condition.words())


def _remedies(step: FilterStep, number: int, condition: Condition, table: Table, row: int) -> list[Remedy]:
    def put(made: Condition) -> FilterStep:
        return replace(step, conditions=(*step.conditions[:number], made, *step.conditions[number + 1 :]))

    remedies = [Remedy(tr("Switch off {words}", words=condition.words()), put(replace(condition, on=False)))]
    operator = _ABOVE.get(condition.operator) or _BELOW.get(condition.operator)
    value = table.columns[find_column(table, condition.column)].value(row) if condition.column else None
    if operator is not None and value is not None:
        wider = replace(condition, operator=operator, values=(value,))
        remedies.append(Remedy(wider.words(), put(wider)))
    return remedies


def _topped(step: TopStep, before: Shaped, after: Shaped, rows: Ids, stop: StopToken) -> Followed:
    ids, within = step.ranked(before, stop)
    ranks = within[np.isin(ids, rows)]
    best = int(ranks.min()) + 1
    per = tr(" for {per}", per=", ".join(step.per)) if step.per else ""
    kept = _still_there(after, rows)
    text = tr(
        "at place {best}{per}; the first {count} are kept", best=grouped(best), per=per, count=grouped(step.count)
    )
    if len(kept):
        return kept, Fate.KEPT, text, ()
    return (
        kept,
        Fate.LOST,
        tr("left out here: {text}", text=text),
        (Remedy(tr("Keep {best}", best=grouped(best)), replace(step, count=best)),),
    )


def _distinct(step: DistinctStep, before: Shaped, after: Shaped, rows: Ids, stop: StopToken) -> Followed:
    kept = _still_there(after, rows)
    table, ids = before.view.table, before.view.row_ids()
    places = [find_column(table, name) for name in step.columns] or list(before.shown())
    codes = combined_codes([table.columns[place] for place in places], ids, stop)
    own = codes[np.isin(ids, rows)][0]
    same = int(np.count_nonzero(codes == own))
    if len(kept):
        return (
            kept,
            Fate.KEPT,
            tr("kept, the first of {same} equal ones", same=grouped(same))
            if same > 1
            else tr("kept: no other is like it"),
            (),
        )
    first = int(np.flatnonzero(codes == own)[0])
    by = tr(" in {columns}", columns=", ".join(step.columns)) if step.columns else ""
    words = tr("left out here: row {first} has the same values{by}", first=grouped(first + 1), by=by)
    words += tr(" ({same} equal rows, the first is kept)", same=grouped(same))
    return kept, Fate.LOST, words, (Remedy(tr("Switch Distinct off"), replace(step, on=False)),)


def _drawn(step: SampleStep, before: Shaped, after: Shaped, rows: Ids, stop: StopToken) -> Followed:
    kept = _still_there(after, rows)
    text = tr(
        "{count} of {view_count} are drawn at random", count=grouped(step.count), view_count=grouped(len(before.view))
    )
    if len(kept):
        return kept, Fate.KEPT, tr("drawn: {text}", text=text), ()
    whole = replace(step, count=len(before.view))
    return kept, Fate.LOST, tr("left out here: {text}, not this one", text=text), (Remedy(tr("Draw all rows"), whole),)


def _sorted(step: SortStep, before: Shaped, after: Shaped, rows: Ids, stop: StopToken) -> Followed:
    start, end = _places(before, rows)[0] + 1, _places(after, rows)[0] + 1
    return rows, Fate.MOVED, tr("from place {start} to {end}", start=grouped(start), end=grouped(end)), ()


def _hidden(step: ColumnsStep, before: Shaped, after: Shaped, rows: Ids, stop: StopToken) -> Followed:
    gone = [before.title(place) for place in before.shown() if place not in after.shown()]
    return rows, Fate.KEPT, tr("kept; hidden: {gone}", gone=", ".join(gone)) if gone else tr("kept"), ()


def _computed(step: ComputeStep, before: Shaped, after: Shaped, rows: Ids, stop: StopToken) -> Followed:
    lines = []
    at = int(rows[0]) if after.grouped is None else int(_leaves(after, rows)[0])
    for each in step.columns:
        if each.label in [field.name for field in after.table.fields]:
            lines.append(
                tr(
                    "{each_label} is {value_words}",
                    each_label=each.label,
                    value_words=value_words(after.table, find_column(after.table, each.label), at),
                )
            )
    return rows, Fate.KEPT, ", ".join(lines) or tr("kept"), ()


def _merged(step: GroupStep, before: Shaped, after: Shaped, rows: Ids, stop: StopToken) -> Followed:
    flat = _flat_ids(before, rows)
    leaf = int(_leaves(after, flat)[0])
    assert after.grouped is not None
    others = int(after.grouped.levels[-1].counts[leaf]) - len(flat)
    text = (
        tr("in the group {key}, with {others} other rows", key=_key(after, leaf), others=grouped(others))
        if others
        else tr("alone in {key}", key=_key(after, leaf))
    )
    return flat, Fate.MERGED, text, ()


def _flat_ids(before: Shaped, rows: Ids) -> Ids:
    """The ids that rows have in the view that a step sees: their own, or those of their groups."""
    return rows if before.grouped is None else np.unique(_leaves(before, rows))


def _joined(step: JoinStep, before: Shaped, after: Shaped, rows: Ids, stop: StopToken) -> Followed:
    right = needed(step.other, step.rows)
    met = join_rows(before.as_shown(), right, step.places(before), step.how, stop)
    mine = np.isin(met.here_ids, _flat_ids(before, rows)) & (met.here_ids >= 0)
    found, partners = np.flatnonzero(mine), met.there_ids[mine]
    by = ", ".join(f"{here} {value_words(before.as_shown().table, p, int(_flat_ids(before, rows)[0]))}"
                   for (here, _), (p, _) in zip(step.pairs, step.places(before), strict=True))  # fmt: skip
    if not len(found):
        words = tr("left out here: {by} matches no row of {other}", by=by, other=step.other)
        if step.how.value == "rows without a match":
            words = tr("left out here: {by} matches a row of {other}", by=by, other=step.other)
        return found, Fate.LOST, words, (Remedy(tr("Keep all rows here"), replace(step, how=type(step.how).LEFT)),)
    if len(found) > len(rows):
        return (
            found,
            Fate.MULTIPLIED,
            tr("{by} matches {found_count} rows of {other}", by=by, found_count=grouped(len(found)), other=step.other),
            (),
        )
    row = int(partners[0])
    return (
        found,
        Fate.KEPT,
        tr("beside {row_words}", row_words=row_words(right, row, 3))
        if row >= 0
        else tr("kept; {by} matches no row of {other}", by=by, other=step.other),
        (),
    )


def _appended(step: AppendStep, before: Shaped, after: Shaped, rows: Ids, stop: StopToken) -> Followed:
    found = np.array(_places(before, rows), np.int64)
    return found, Fate.KEPT, tr("kept; the rows of {other} follow", other=step.other), ()


def _unpivoted(step: UnpivotStep, before: Shaped, after: Shaped, rows: Ids, stop: StopToken) -> Followed:
    count, places = len(step.columns), np.array(_places(before, rows), np.int64)
    found = (places[:, None] * count + np.arange(count)).reshape(-1)
    return found, Fate.MULTIPLIED, tr("a row for each of {columns}", columns=", ".join(step.columns)), ()


def _pivoted(step: PivotStep, before: Shaped, after: Shaped, rows: Ids, stop: StopToken) -> Followed:
    view = with_parts(before.flat(), (*step.keys, step.column))
    ids = view.row_ids()
    keys = [view.table.index(key.title) for key in step.keys]
    codes = group_view(view, keys, (), stop).levels[-1].codes if keys else np.zeros(len(ids), np.int64)
    own = np.unique(codes[np.isin(ids, _flat_ids(before, rows))])
    value = value_words(view.table, view.table.index(step.column.title), int(_flat_ids(before, rows)[0]))
    return own, Fate.MERGED, tr("in the column {value} of row {own}", value=value, own=grouped(int(own[0]) + 1)), ()


def _turned(step: TransposeStep, before: Shaped, after: Shaped, rows: Ids, stop: StopToken) -> Followed:
    index = _places(before, rows)[0]
    return rows[:0], Fate.MERGED, tr("became column {index}", index=grouped(index + 2)), ()


def _compared(step: CompareStep, before: Shaped, after: Shaped, rows: Ids, stop: StopToken) -> Followed:
    assert after.compared is not None
    differences = after.compared.found
    at = np.flatnonzero(np.isin(differences.here_ids, _flat_ids(before, rows)) & (differences.here_ids >= 0))
    lines = np.flatnonzero(np.isin(after.compared.lines, at))
    if not len(lines):
        remedy = Remedy(tr("Show rows that are the same"), replace(step, with_same=True))
        return lines, Fate.LOST, tr("left out here: it is the same in {other}", other=step.other), (remedy,)
    fields, marked = differences.here.table.fields, zip(differences.pairs, differences.changed, strict=True)
    names = [fields[a].name for (a, _), mark in marked if mark[at[0]]]
    words = STATES[int(differences.states[at[0]])]
    return lines, Fate.KEPT, tr("{words} in {names}", words=words, names=", ".join(names)) if names else words, ()


_WAYS: Sequence[tuple[type, Callable[[Any, Shaped, Shaped, Ids, StopToken], Followed]]] = (
    (FilterStep, _filtered), (TopStep, _topped), (DistinctStep, _distinct), (SampleStep, _drawn), (SortStep, _sorted),
    (ColumnsStep, _hidden), (ComputeStep, _computed), (GroupStep, _merged), (JoinStep, _joined),
    (AppendStep, _appended), (UnpivotStep, _unpivoted), (PivotStep, _pivoted), (TransposeStep, _turned),
    (CompareStep, _compared),
)  # fmt: skip
