"""Columns put behind each other, rows put beside each other, and tables turned: all give new tables."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from enum import StrEnum

import numpy as np

from nimble_otter.errors import ConditionError
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table.core.build import column_of
from nimble_otter.table.core.column_builder import MANY_WORDS, ColumnBuilder
from nimble_otter.table.core.columns import (
    DAY_US,
    BufferText,
    CodedText,
    Column,
    Field,
    Ids,
    Kind,
    Mask,
    Table,
    View,
    blanked,
    distinct_names,
)
from nimble_otter.table.kernels.codes import codes_of, combined_codes
from nimble_otter.table.kernels.packing import order_by_codes
from nimble_otter.table.ops.group import group_view
from nimble_otter.table.ops.measures import Aggregate
from nimble_otter.table.text.show import plain
from nimble_otter.table.text.text_format import render_all
from nimble_otter.translation import tr

MOST_COLUMNS = 500
"""Columns that turning rows into columns may make."""


# --- columns behind each other -----------------------------------------------------------------------------------


def taken(column: Column, ids: Ids, gone: Mask) -> Column:
    """The rows `ids`, empty where `gone` is True (ids there count for nothing)."""
    if not len(column):
        return column_of([None] * len(ids))
    made = column.take(np.where(gone, 0, ids))
    if not gone.any():
        return made
    data = made.data if isinstance(made, BufferText) else blanked(made.data, gone)
    missing = None if made.missing is None else made.missing & ~gone
    return replace(made, data=data, empty=made.empty_at() | gone, missing=missing)


def spread(column: Column, rows: int, ids: Ids) -> Column:
    """Values of the rows `ids` as a column of so many rows, which has none elsewhere."""
    places = np.full(rows, -1, np.int64)
    places[ids] = np.arange(len(ids))
    return taken(column, places, places < 0)


def chained(columns: Sequence[Column]) -> Column:
    """The columns behind each other as one, of the narrowest kind that holds all exactly."""
    parts = [c for c in columns if len(c)] or list(columns[:1])
    filled = [c for c in parts if not c.empty_at().all()] or parts[:1]
    first = filled[0]
    alike = all(type(c) is type(first) and c.kind is first.kind and c.scale == first.scale for c in filled)
    if not alike and all(c.kind is Kind.TEXT for c in filled):
        parts, filled, alike = [buffered(c) for c in parts], [], True
        first = parts[0]
    if not alike:
        builder = ColumnBuilder()
        for column in parts:
            builder.extend(column.values())
        return builder.finish()
    empty = _joined_masks([c.empty for c in parts], parts)
    missing = _joined_masks([c.missing for c in parts], parts)
    same = [c if type(c) is type(first) and c.kind is first.kind else _blank(first, len(c)) for c in parts]
    if isinstance(first, CodedText):
        return _chained_codes([c for c in same if isinstance(c, CodedText)], empty, missing)
    if isinstance(first, BufferText):
        return _chained_buffers([c for c in same if isinstance(c, BufferText)], empty, missing)
    whole = _joined_masks([c.whole for c in same], parts)
    return Column(first.kind, np.concatenate([c.data for c in same]), empty, missing, first.scale, whole)


def _blank(like: Column, count: int) -> Column:
    """Rows without a value, held as another column is."""
    data = np.full(count, None) if like.kind is Kind.OBJECT else np.zeros(count, like.data.dtype)
    if isinstance(like, BufferText):
        return replace(like, data=data, ends=data, empty=None, missing=None)
    return replace(like, data=data, empty=None, missing=None, whole=None)


def _joined_masks(masks: Sequence[Mask | None], columns: Sequence[Column]) -> Mask | None:
    if all(mask is None for mask in masks):
        return None
    return np.concatenate([np.zeros(len(c), np.bool_) if m is None else m for m, c in zip(masks, columns, strict=True)])


def _chained_codes(columns: Sequence[CodedText], empty: Mask | None, missing: Mask | None) -> Column:
    place: dict[str, int] = {}
    codes = []
    for column in columns:
        own = np.array([place.setdefault(word, len(place)) for word in column.words], np.int32)
        codes.append(own.take(column.data) if len(own) else np.zeros(len(column), np.int32))
    made = CodedText(Kind.TEXT, np.concatenate(codes), empty, missing, words=tuple(place))
    return made if len(place) <= 2 * MANY_WORDS else buffered(made)


def _chained_buffers(columns: Sequence[BufferText], empty: Mask | None, missing: Mask | None) -> Column:
    starts, ends, buffers, at = [], [], [], 0
    for column in columns:
        starts.append(column.data + at)
        ends.append(column.ends + at)
        buffers.append(column.buffer)
        at += column.buffer.size
    return BufferText(Kind.TEXT, np.concatenate(starts), empty, missing, buffer=np.concatenate(buffers),
                      ends=np.concatenate(ends))  # fmt: skip


def buffered(column: Column) -> Column:
    """A column of texts as they are held when many differ; any other as it is."""
    if not isinstance(column, CodedText):
        return column
    words = [word.encode("utf-8", "surrogateescape") for word in column.words] or [b""]
    lengths = np.array([len(word) for word in words], np.int64)
    starts = np.cumsum(lengths + 1) - lengths - 1
    buffer = np.frombuffer(b"\0".join(words) + b"\0" * 9, np.uint8)
    codes = column.data if len(column.words) else np.zeros(len(column), np.int32)
    begins = starts.take(codes)
    return BufferText(Kind.TEXT, begins, column.empty, column.missing, buffer=buffer, ends=begins + lengths.take(codes))


def appended(table: Table, more: Table) -> Table:
    """Rows of both, columns matched by name; what one of them lacks is empty there."""
    names = {f.name.casefold(): n for n, f in enumerate(more.fields)}
    fields, columns = [], []
    for field, column in zip(table.fields, table.columns, strict=True):
        at = names.pop(field.name.casefold(), None)
        other = column_of([None] * more.rows) if at is None else more.columns[at]
        form = field.form if at is None or more.fields[at].form == field.form else ""
        if column.kind is not other.kind and at is not None:  # a text that only looks like a time stays that text
            column, other = _as_written(column, field), _as_written(other, more.fields[at])
        made = chained([column, other])
        is_same = at is None or more.fields[at].exact == field.exact
        exact = field.exact if is_same and made.kind is field.kind else None
        fields.append(replace(field, kind=made.kind, form=form if made.kind is field.kind else "", exact=exact))
        columns.append(made)
    for at in names.values():
        made = chained([column_of([None] * table.rows), more.columns[at]])
        fields.append(replace(more.fields[at], kind=made.kind))
        columns.append(made)
    return Table(tuple(fields), tuple(columns), table.rows + more.rows)


def _as_written(column: Column, field: Field) -> Column:
    if not field.form or not (column.kind.is_moment or column.kind in (Kind.CLOCK, Kind.SPAN)):
        return column
    return column_of(render_all(column.values(), field.form))


# --- rows beside each other --------------------------------------------------------------------------------------


class How(StrEnum):
    """Which rows a join keeps."""

    INNER = "matching rows"
    LEFT = "all rows here"
    FULL = "all rows of both"
    ANTI = "rows without a match"
    SEMI = "rows with a match"


@dataclass(frozen=True, slots=True)
class JoinReport:
    """`multiplied` rows here met more than one row there; `left_alone` and `right_alone` met none."""

    rows: int
    matched: int
    multiplied: int
    left_alone: int
    right_alone: int


def join(
    left: View, right: Table, on: Sequence[tuple[int, int]], how: How, stop: StopToken = NEVER
) -> tuple[Table, JoinReport]:
    """Rows of two tables beside each other where values are equal; no value equals nothing, as in SQL.

    Parameters
    ----------
    left : View
    right : Table
    on : sequence of (int, int)
        The columns that are compared: here, there.
    how : How
        Which rows stay that met none.
    stop : StopToken

    Returns
    -------
    table : Table
        Rows in the order of the left, then of the right; with FULL those of the right that met none are last. Columns
        of the right follow, but for those compared under the same name.
    report : JoinReport
        How many rows met one, several or none.

    Raises
    ------
    ConditionError
        Two columns have no values in common, or the result is too large.
    Stopped
    """
    met = join_rows(left, right, on, how, stop)
    report, here_ids, there_ids = met.report, met.here_ids, met.there_ids
    if how in (How.ANTI, How.SEMI):
        return left.table.take(here_ids), report
    here_gone, there_gone, total = here_ids < 0, there_ids < 0, int(np.count_nonzero(here_ids >= 0))
    stop.check()
    same = {h: t for h, t in on if left.table.fields[h].name.casefold() == right.fields[t].name.casefold()}
    fields, columns = list(left.table.fields), []
    for n, column in enumerate(left.table.columns):
        made = taken(column, here_ids, here_gone)
        if n in same and total < len(here_ids):  # compared under one name: one column with the value of either
            alone = there_ids[total:]
            made = chained([made.take(np.arange(total)), right.columns[same[n]].take(alone)])
            fields[n] = replace(fields[n], kind=made.kind)
        columns.append(made)
    for n, column in enumerate(right.columns):
        if n not in same.values():
            fields.append(right.fields[n])
            columns.append(taken(column, there_ids, there_gone))
    return Table(tuple(distinct_names(fields)), tuple(columns), len(here_ids)), report


@dataclass(frozen=True, slots=True, eq=False)
class JoinedRows:
    """The row ids, here and there, of each row of a join; -1 where a row of the other side met none."""

    here_ids: Ids
    there_ids: Ids
    report: JoinReport


def join_rows(left: View, right: Table, on: Sequence[tuple[int, int]], how: How, stop: StopToken = NEVER) -> JoinedRows:
    """Which rows of both stand beside each other in a join; those of the right that met none are last. Raises:
    ConditionError, Stopped."""
    ids = left.row_ids()
    for here, there in on:
        _check_comparable(left.table, here, right, there)
    mine, theirs, none = pair_codes(left, right, on, stop)
    stop.check()
    there_are, here_are = (np.bincount(codes, minlength=none + 1) for codes in (theirs, mine))
    there_are[none] = here_are[none] = 0
    by_code = np.flatnonzero(theirs != none)
    by_code = by_code.take(order_by_codes(theirs.take(by_code), none))
    first = (np.cumsum(there_are) - there_are).take(mine)
    counts = there_are.take(mine)
    met = here_are.take(theirs) > 0
    report = JoinReport(0, int(np.count_nonzero(counts)), int(np.count_nonzero(counts > 1)),
                        int(np.count_nonzero(counts == 0)), right.rows - int(np.count_nonzero(met)))  # fmt: skip
    if how in (How.ANTI, How.SEMI):
        kept = ids[(counts == 0) if how is How.ANTI else (counts > 0)]
        return JoinedRows(kept, np.full(len(kept), -1, np.int64), replace(report, rows=len(kept)))
    repeats = counts if how is How.INNER else np.maximum(counts, 1)
    total = int(repeats.sum())
    place = np.repeat(np.arange(len(ids)), repeats)
    within = np.arange(total) - np.repeat(np.cumsum(repeats) - repeats, repeats)
    at = np.minimum(np.repeat(first, repeats) + within, max(0, len(by_code) - 1))
    gone = np.repeat(counts == 0, repeats)
    there_ids = np.where(gone, -1, by_code.take(at) if len(by_code) else -1)
    alone = np.flatnonzero(~met) if how is How.FULL else np.empty(0, np.int64)
    here_ids = np.concatenate([ids.take(place), np.full(len(alone), -1, np.int64)])
    there_ids = np.concatenate([there_ids, alone])
    return JoinedRows(here_ids, there_ids, replace(report, rows=len(here_ids)))


def _check_comparable(table: Table, here: int, right: Table, there: int) -> None:
    a, b = table.fields[here], right.fields[there]
    classes = [0 if k.is_number else 1 if k.is_moment else Kind.TEXT if k is Kind.UUID else k for k in (a.kind, b.kind)]
    alike = classes[0] == classes[1] or Kind.OBJECT in (a.kind, b.kind)
    filled = not (table.columns[here].empty_at().all() or right.columns[there].empty_at().all())
    if not alike and filled:
        raise ConditionError(
            tr(
                "{a_name} holds {kind} here, {b_name} holds {other_kind} there: they never match.",
                a_name=a.name,
                kind=a.kind.value,
                b_name=b.name,
                other_kind=b.kind.value,
            ),
            tr("Compute a column with cast(... as text) or the like in one of the pulls."),
        )


def pair_codes(
    left: View,
    right: Table,
    on: Sequence[tuple[int, int]],
    stop: StopToken,
    empty_equal: bool = False,
    there_ids: Ids | None = None,
) -> tuple[Ids, Ids, int]:
    """Numbers that are equal where all columns are, and the number of those where one has no value (which are numbered
    as any other with `empty_equal`)."""
    ids, count = left.row_ids(), len(left)
    both = []
    for here, there in on:
        theirs = right.columns[there] if there_ids is None else right.columns[there].take(there_ids)
        both.append(chained([_plain_kind(left.table.columns[here].take(ids)), _plain_kind(theirs)]))
    codes = combined_codes(both, np.arange(len(both[0])), stop)
    none = int(codes.max(initial=0)) + 1
    if not empty_equal:
        gone = np.zeros(len(codes), np.bool_)
        for column in both:
            gone |= column.empty_at()
        codes = np.where(gone, none, codes)
    return codes[:count], codes[count:], none


def _plain_kind(column: Column) -> Column:
    """Dates and times in one kind, so that equal moments are equal."""
    if column.kind is Kind.DATE:
        return Column(Kind.TIME, column.data.astype(np.int64) * DAY_US, column.empty, column.missing)
    return replace(column, kind=Kind.TIME) if column.kind is Kind.ZONED else column


# --- fewer rows --------------------------------------------------------------------------------------------------


def first_of_each(view: View, columns: Sequence[int], stop: StopToken = NEVER) -> View:
    """The first row of every combination of values, in order."""
    ids = view.row_ids()
    codes = combined_codes([view.table.columns[place] for place in columns], ids, stop)
    first = np.zeros(int(codes.max(initial=-1)) + 1, np.int64)
    first[codes[::-1]] = np.arange(len(ids) - 1, -1, -1)
    return View(view.table, ids.take(np.sort(first)))


def sampled(view: View, count: int, seed: int) -> View:
    """So many rows by chance, in their order; the same for the same seed and number of rows."""
    if count >= len(view):
        return view
    chosen = np.random.default_rng(seed).choice(len(view), count, replace=False, shuffle=False)
    return View(view.table, view.row_ids().take(np.sort(chosen)))


# --- turned ------------------------------------------------------------------------------------------------------


def pivoted(
    view: View, keys: Sequence[int], column: int, measure: Aggregate, totals: bool = False, stop: StopToken = NEVER
) -> Table:
    """A row for each combination of keys, a column for each value of a column, a figure where they meet.

    Parameters
    ----------
    view : View
    keys : sequence of int
    column : int
        Its values become columns, in ascending order.
    measure : Aggregate
        The figure of the rows that meet.
    totals : bool
        Whether a last column has the figure over all of them.
    stop : StopToken

    Returns
    -------
    Table

    Raises
    ------
    ConditionError
        There are more than MOST_COLUMNS values.
    Stopped
    """
    table = view.table
    codes, first = codes_of(table.columns[column], view.row_ids(), stop)
    if len(first) > MOST_COLUMNS:
        raise ConditionError(
            tr(
                "{fields_name} has {first_count} values; at most {most_columns} can become columns.",
                fields_name=table.fields[column].name,
                first_count=len(first),
                most_columns=MOST_COLUMNS,
            ),
            tr("Filter or group it into fewer first."),
        )
    across = table.columns[column].take(view.row_ids().take(first))
    names = [plain(v) if v not in (None, "") else "∅" if v is None else "“ ”" for v in across.values()]
    numbered = Table((*table.fields, Field("", Kind.INT)), (*table.columns, _at_rows(table, view, codes)), table.rows)
    numbered_view = View(numbered, view.ids)
    cells = group_view(numbered_view, [*keys, len(table.fields)], [measure], stop).levels[-1]
    rows = group_view(numbered_view, keys, [measure], stop).levels[-1].table if keys else None
    count = rows.rows if rows is not None else 1
    parent = cells.parent
    fields = [table.fields[k] for k in keys]
    columns = list(rows.columns[: len(keys)]) if rows is not None else []
    which, figures = cells.table.columns[-2].data, cells.table.columns[-1]
    look = cells.table.fields[-1].look
    for number, name in enumerate(names):
        places = np.flatnonzero(which == number)
        ids, gone = np.zeros(count, np.int64), np.ones(count, np.bool_)
        ids[parent[places]], gone[parent[places]] = places, False
        columns.append(taken(figures, ids, gone))
        fields.append(Field(name, figures.kind, note=measure.words, look=look))
    if totals and rows is not None:
        columns.append(rows.columns[-1])
        fields.append(Field("all", rows.columns[-1].kind, note=measure.words, look=look))
    return Table(tuple(distinct_names(fields)), tuple(columns), count)


def _at_rows(table: Table, view: View, codes: Ids) -> Column:
    whole = np.zeros(table.rows, np.int64)
    whole[view.row_ids()] = codes
    return Column(Kind.INT, whole)


def unpivoted(view: View, columns: Sequence[int], name: str, value: str) -> Table:
    """A row for each of some columns, beside the row's other columns.

    Parameters
    ----------
    view : View
    columns : sequence of int
        Those that become rows.
    name, value : str
        What the columns are called that hold their names and values.

    Returns
    -------
    Table
        As many rows as the view has, times the columns.
    """
    table, ids = view.table, view.row_ids()
    others = [n for n in range(len(table.fields)) if n not in columns]
    count = len(columns)
    differ = len({(table.fields[n].kind, table.fields[n].form) for n in columns}) > 1
    again = np.repeat(ids, count)
    held = [_as_written(table.columns[n], table.fields[n]) if differ else table.columns[n] for n in columns]
    whole = chained([column.take(ids) for column in held])
    order = (np.arange(count)[None, :] * len(ids) + np.arange(len(ids))[:, None]).reshape(-1)
    words = tuple(table.fields[n].name for n in columns)
    labels = CodedText(Kind.TEXT, np.tile(np.arange(count, dtype=np.int32), len(ids)), words=words or ("",))
    first = table.fields[columns[0]]
    form = first.form if whole.kind is first.kind and not differ else ""
    fields = [*(table.fields[n] for n in others), Field(name, Kind.TEXT), Field(value, whole.kind, form=form)]
    made = [*(table.columns[n].take(again) for n in others), labels, whole.take(order)]
    return Table(tuple(distinct_names(fields)), tuple(made), len(again))


def transposed(view: View, names_from: int | None = None) -> Table:
    """Rows as columns, named by a column's values or by their numbers. Raises: ConditionError for too many rows."""
    if len(view) > MOST_COLUMNS:
        raise ConditionError(
            tr(
                "There are {view_count} rows; at most {most_columns} can become columns.",
                view_count=len(view),
                most_columns=MOST_COLUMNS,
            ),
            tr("Filter or group first."),
        )
    table, ids = view.table, view.row_ids()
    places = [n for n in range(len(table.fields)) if n != names_from]
    values = [table.columns[n].values(ids) for n in places]
    names = [f"row {n + 1}" for n in range(len(ids))]
    if names_from is not None:
        names = [plain(v) or "∅" for v in table.columns[names_from].values(ids)]
    rows = [[values[n][row] for n in range(len(places))] for row in range(len(ids))]
    columns = [column_of([table.fields[n].name for n in places]), *map(column_of, rows)]
    fields = [Field("column", Kind.TEXT), *(Field(n, c.kind) for n, c in zip(names, columns[1:], strict=True))]
    return Table(tuple(distinct_names(fields)), tuple(columns), len(places))
