"""A table with some values replaced, rows left out and rows added: a new table that shares what did not change."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

import numpy as np

from nimble_otter.table.core.column_builder import ColumnBuilder
from nimble_otter.table.core.columns import Column, Field, Kind, Table
from nimble_otter.table.kernels.numeric import holds_numbers


def patched(
    table: Table,
    values: Mapping[int, Mapping[int, object]],
    dropped: Sequence[int] = (),
    added: Sequence[Mapping[int, object]] = (),
) -> Table:
    """A table with some values replaced, rows dropped and rows added.

    Parameters
    ----------
    table : Table
    values : mapping of int to mapping
        New values, as the source stores them, by row and column.
    dropped : sequence of int
        Rows that go; those behind them move up.
    added : sequence of mappings
        Values of new rows by column; they are put at the end.

    Returns
    -------
    Table
        Kinds are found anew for the columns that were touched.
    """
    columns = []
    for index, (field, column) in enumerate(zip(table.fields, table.columns, strict=True)):
        own = {row: cells[index] for row, cells in values.items() if index in cells}
        more = [row.get(index) for row in added]
        columns.append(_patched(column, field, own, more) if own or added else column)
    kinds = [
        replace(f, kind=c.kind, look=None, numbers=holds_numbers(c)) if c is not old else f
        for f, c, old in zip(table.fields, columns, table.columns, strict=True)
    ]
    whole = Table(tuple(kinds), tuple(columns), table.rows + len(added))
    if not dropped:
        return whole
    keep = np.ones(whole.rows, np.bool_)
    keep[np.array(dropped, np.int64)] = False
    return whole.take(np.flatnonzero(keep))


def _patched(column: Column, field: Field, own: Mapping[int, object], more: Sequence[object]) -> Column:
    from nimble_otter.table.text.text_format import render_all

    hint = field.kind if field.form or field.kind in (Kind.TIME, Kind.DATE, Kind.BOOL, Kind.UUID) else None
    builder = ColumnBuilder(hint)
    stored = column.values()
    stored = render_all(stored, field.form) if field.form else stored
    for row, value in own.items():
        stored[row] = value
    builder.extend([*stored, *more])
    return builder.finish()
