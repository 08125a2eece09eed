"""The figures that groups of rows can have: their names, which columns have them, what their columns are called."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from nimble_otter.errors import ConditionError
from nimble_otter.table.core.columns import Column, Field, Kind, Table
from nimble_otter.table.kernels.numeric import holds_numbers
from nimble_otter.table.text.column_format import ColumnFormat
from nimble_otter.translation import tr


class AggregateFunction(StrEnum):
    """What can be worked out over the rows of a group. All but COUNT, SHARE and RUNNING pass over empty values; those
    two count rows, or add up a column where one is named."""

    COUNT = "count"
    FILLED = "filled"
    SUM = "sum"
    MEAN = "mean"
    MEDIAN = "median"
    MIN = "min"
    MAX = "max"
    RANGE = "range"
    SPREAD = "standard deviation"
    QUANTILE = "quantile"
    DISTINCT = "distinct"
    FIRST = "first"
    LAST = "last"
    MODE = "most frequent"
    LIST = "list"
    SHARE = "share"
    RUNNING = "running total"

    @property
    def needs_numbers(self) -> bool:
        """Whether it works on numbers only."""
        return self in _NUMERIC

    @property
    def of_rows(self) -> bool:
        """Whether the figure can do without a column."""
        return self in (AggregateFunction.COUNT, AggregateFunction.SHARE, AggregateFunction.RUNNING)


_NUMERIC = frozenset(
    {
        AggregateFunction.SUM,
        AggregateFunction.MEAN,
        AggregateFunction.MEDIAN,
        AggregateFunction.RANGE,
        AggregateFunction.SPREAD,
        AggregateFunction.QUANTILE,
        AggregateFunction.SHARE,
        AggregateFunction.RUNNING,
    }
)


@dataclass(frozen=True, slots=True)
class Aggregate:
    """A figure of a column (of the rows themselves without one); `at` is where a QUANTILE lies, between 0 and 1."""

    figure: AggregateFunction
    column: int | None = None
    at: float = 0.5

    @property
    def words(self) -> str:
        """What its column is called."""
        return f"{self.figure.value} {self.at:g}" if self.figure is AggregateFunction.QUANTILE else self.figure.value


def check_measure(table: Table, measure: Aggregate) -> None:
    """Raises: ConditionError where a column has no such figure."""
    if measure.column is None:
        return
    field = table.fields[measure.column]
    if measure.figure.needs_numbers and not field.is_amount and not holds_numbers(table.columns[measure.column]):
        raise ConditionError(
            tr(
                "{field_name} holds {kind_value}, which has no {figure_value}.",
                field_name=field.name,
                kind_value=field.kind.value,
                figure_value=measure.figure.value,
            ),
            tr("Use min, max, count, filled, distinct, first, last, most frequent or list."),
        )
    if measure.figure is AggregateFunction.QUANTILE and not 0 <= measure.at <= 1:
        raise ConditionError(
            tr("A quantile lies between 0 and 1."), tr("0.9 is the value that 9 of 10 rows stay below.")
        )


def measured_field(table: Table, measure: Aggregate, column: Column) -> Field:
    """What is known of the column of a figure."""
    look = ColumnFormat(style="percent", decimals=1) if measure.figure is AggregateFunction.SHARE else None
    if measure.column is None:
        return Field("rows", column.kind, note=measure.words, look=look)
    source = table.fields[measure.column]
    form = source.form if column.kind is source.kind and column.kind is not Kind.TEXT else ""
    return Field(source.name, column.kind, note=measure.words, form=form, look=look, numbers=holds_numbers(column))
