"""From batches of row tuples, or of columns, to tables."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import replace

from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table.core.column_builder import ColumnBuilder
from nimble_otter.table.core.columns import MISSING, Column, Field, Kind, Table
from nimble_otter.table.core.parts import ColumnBatch


class TableBuilder:
    """A table under construction, from batches of row tuples. Not thread-safe; the tables it gives are."""

    def __init__(self, fields: Iterable[Field], hints: Sequence[Kind | None] = (), is_typed: bool = False) -> None:
        """`fields` name the columns (their kinds are found from the values); `hints` and `is_typed` as in
        ColumnBuilder."""
        self._fields = list(fields)
        self._builders = [
            ColumnBuilder(hints[place] if place < len(hints) else None, is_typed) for place in range(len(self._fields))
        ]
        self.rows = 0

    def append(self, batch: Sequence[Sequence[object]] | ColumnBatch, stop: StopToken = NEVER) -> None:
        """Add rows as they come from a source.

        Parameters
        ----------
        batch : sequence of rows, or ColumnBatch
            Each row as long as there are fields.
        stop : StopToken
            Says when to give way; a batch is always taken whole.
        """
        if not len(batch):
            return
        if isinstance(batch, ColumnBatch):
            for builder, part in zip(self._builders, batch.parts, strict=True):
                builder.extend_part(part)
                stop.yield_control()
            self.rows += len(batch)
            return
        for builder, values in zip(self._builders, zip(*batch, strict=True), strict=True):
            builder.extend(values)
            stop.yield_control()
        self.rows += len(batch)

    def append_columns(self, columns: Sequence[Sequence[object]], count: int, stop: StopToken = NEVER) -> None:
        """Add rows that come as columns.

        Parameters
        ----------
        columns : sequence of sequences
            One for each field, each of `count` values.
        count : int
            How many rows there are, which no column tells where there is none.
        stop : StopToken
            Says when to give way; all rows are always taken.
        """
        for builder, values in zip(self._builders, columns, strict=True):
            builder.extend(values)
            stop.yield_control()
        self.rows += count

    def add_field(self, field: Field) -> None:
        """A further column, missing in all rows so far: documents bring fields as they come."""
        builder = ColumnBuilder()
        if self.rows:
            builder.extend([MISSING] * self.rows)
        self._fields.append(field)
        self._builders.append(builder)

    def table(self) -> Table:
        """The rows so far as an immutable table that shares memory with the builder."""
        columns = tuple(builder.finish() for builder in self._builders)
        fields = tuple(
            replace(field, kind=column.kind, form=builder.form, numbers=builder.numbers)
            for field, column, builder in zip(self._fields, columns, self._builders, strict=True)
        )
        return Table(fields, columns, self.rows)


def column_of(values: Sequence[object]) -> Column:
    """A column from Python values, of the narrowest kind that holds them exactly.

    Parameters
    ----------
    values : sequence
        None stands for NULL, `MISSING` for a field that a document lacks.

    Returns
    -------
    Column
        As long as `values`. What goes together under no kind is kept as the objects themselves.

    Examples
    --------
    >>> column_of([1, None, 3]).kind, column_of([1, None, 3]).values()
    (<Kind.INT: 'integer'>, [1, None, 3])
    """
    builder = ColumnBuilder()
    builder.extend(values)
    return builder.finish()


def table_of(**columns: Sequence[object]) -> Table:
    """A small table from Python values.

    Parameters
    ----------
    **columns : sequence
        The values of each column by its name, all of one length; see `column_of`.

    Returns
    -------
    Table

    Examples
    --------
    >>> table_of(river=["Merrow", "Sallow"], level_m=[0.31, None]).rows
    2
    """
    made = {name: column_of(values) for name, values in columns.items()}
    fields = tuple(Field(name, column.kind) for name, column in made.items())
    return Table(fields, tuple(made.values()), len(next(iter(made.values()))) if made else 0)
