"""Working out an expression for all rows: numbers and times as arrays where that is exact, everything else by value."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table.core.column_builder import ColumnBuilder
from nimble_otter.table.core.columns import CodedText, Column, Ids, Kind, Table, pick, placed
from nimble_otter.table.ops.combine import spread
from nimble_otter.table.ops.conditions import ColumnAt, Node, Operand
from nimble_otter.table.ops.filter import BLOCK, column_of_operand, values_of
from nimble_otter.table.ops.windows import without_windows


def compute(operand: Operand, table: Table, ids: Ids, stop: StopToken = NEVER) -> Column:
    """Work out an expression for some rows.

    Parameters
    ----------
    operand : Operand
        As `query.local` parses it.
    table : Table
    ids : ndarray of int64, shape (n,)
        The rows that it is worked out for.
    stop : StopToken

    Returns
    -------
    Column
        As long as the table, without a value for all other rows; none too where an argument is none, or there is no
        such value (1 / 0).

    Raises
    ------
    Stopped

    Examples
    --------
    >>> import numpy as np
    >>> from nimble_otter.query.local.conditions import parse_expression
    >>> from nimble_otter.table.core.build import table_of
    >>> table = table_of(n=[3, 0, None])
    >>> compute(parse_expression("6 / n", table), table, np.arange(3)).values()
    [2, None, None]
    """
    stop.check()
    operand, table = without_windows(operand, table, ids, compute, stop)
    column = _by_words(operand, table, ids)
    if column is not None:
        return column
    column = column_of_operand(operand, table, ids) if len(ids) else None
    if column is not None and column.kind not in (Kind.TEXT, Kind.UUID):
        return placed(column, table.rows, ids)  # which also puts zero where there is no value
    if column is not None:
        return _for_all(column, table.rows, ids)
    builder = ColumnBuilder()
    for start in range(0, len(ids), BLOCK):
        stop.check()
        stop.report_progress(start, len(ids))
        builder.extend(values_of(operand, table, ids[start : start + BLOCK]))
    return _for_all(builder.finish(), table.rows, ids)


def _for_all(column: Column, rows: int, ids: Ids) -> Column:
    is_whole = len(ids) == rows and bool((ids[:-1] < ids[1:]).all())
    return column if is_whole else spread(column, rows, ids)


def _by_words(operand: Operand, table: Table, ids: Ids) -> Column | None:
    """An expression of one column of few texts, worked out for each text once."""
    places = columns_in(operand)
    column = table.columns[next(iter(places))] if len(places) == 1 else None
    if not isinstance(column, CodedText) or column.missing is not None or len(column.words) * 4 > len(ids):
        return None
    if column.empty_at(ids).all():  # a column without a value has no kind of its own
        return None
    count = len(column.words)
    codes, empty = np.arange(count + 1), np.zeros(count + 1, np.bool_)
    codes[count], empty[count] = 0, True  # the last one stands for no text
    short = CodedText(Kind.TEXT, codes.astype(np.int32), empty, words=column.words or ("",))
    columns = tuple(short if at in places else c for at, c in enumerate(table.columns))
    builder = ColumnBuilder()
    builder.extend(values_of(operand, Table(table.fields, columns, count + 1), np.arange(count + 1)))
    by_word = builder.finish()
    wanted = np.full(table.rows, -1, np.int64)
    wanted[ids] = np.where(column.empty_at(ids), count, pick(column.data, ids))
    outside = wanted < 0
    made = by_word.take(np.where(outside, count, wanted))
    if not outside.any():
        return made
    gone = made.empty_at() | outside
    return None if made.kind is Kind.OBJECT else replace(made, empty=gone)


def columns_in(operand: Operand | Node) -> set[int]:
    """The places of the columns that an expression names."""
    if isinstance(operand, ColumnAt):
        return {operand.index} if not operand.path else {operand.index, -1}
    found: set[int] = set()
    for name in getattr(operand, "__slots__", ()):
        value = getattr(operand, name)
        for part in value if isinstance(value, tuple) else (value,):
            for inner in part if isinstance(part, tuple) else (part,):
                if hasattr(inner, "__slots__") and type(inner).__module__ == ColumnAt.__module__:
                    found |= columns_in(inner)
    return found
