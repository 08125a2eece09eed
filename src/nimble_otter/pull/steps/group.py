"""Group: by columns or by parts of their values, nested, with figures."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from typing import ClassVar, Self

import numpy as np

from nimble_otter.entry import Entry
from nimble_otter.errors import ConditionError
from nimble_otter.pull.shaped import Shaped
from nimble_otter.pull.steps.base import find_column
from nimble_otter.stop import StopToken
from nimble_otter.table import Field, View
from nimble_otter.table.core.columns import Table
from nimble_otter.table.ops.binning import part_column
from nimble_otter.table.ops.group import Grouped, group_view
from nimble_otter.table.ops.measures import Aggregate, AggregateFunction
from nimble_otter.translation import tr


@dataclass(frozen=True, slots=True)
class KeyBy:
    """A column to group by: its values, or a `part` of them (see table/ops/binning.py)."""

    column: str
    part: str = ""

    @property
    def title(self) -> str:
        """What the key is called."""
        return f"{self.column} by {self.part}" if self.part else self.column

    @classmethod
    def from_plain(cls, plain: Entry) -> Self:
        """What stands for a part. Raises: ValueError."""
        return cls(plain.text("column"), plain.text("part"))

    @classmethod
    def of_value(cls, value: object, at: str) -> Self:
        """The key of a column's name, or of a part of one, as it stands `at` a place. Raises: ValueError."""
        return cls(value) if isinstance(value, str) else cls.from_plain(Entry(value, at))

    @classmethod
    def of_list(cls, plain: Entry, name: str) -> tuple[Self, ...]:
        """The keys of a list. Raises: ValueError."""
        return tuple(
            cls.of_value(value, tr("{name} {k} of {at}", name=name, k=k, at=plain.at))
            for k, value in enumerate(plain.values(name), 1)
        )


def group_keys(*names: str) -> tuple[KeyBy, ...]:
    """Keys that are the values of columns."""
    return tuple(map(KeyBy, names))


@dataclass(frozen=True, slots=True)
class FigureOf:
    """A figure of a column; count, share and running total can do without one. `at` is where a quantile lies."""

    figure: AggregateFunction
    column: str = ""
    at: float = 0.5

    @property
    def title(self) -> str:
        """What the figure is called."""
        if self.figure is AggregateFunction.COUNT:
            return "rows"
        return f"{self.column or 'rows'} {Aggregate(self.figure, at=self.at).words}"

    def measure(self, table: Table) -> Aggregate:
        """Raises: ConditionError where there is no such column."""
        if self.figure is AggregateFunction.COUNT or (self.figure.of_rows and not self.column):
            return Aggregate(self.figure)
        return Aggregate(self.figure, find_column(table, self.column), self.at)

    @classmethod
    def from_plain(cls, plain: Entry) -> Self:
        """What `plain_figure` made. Raises: ValueError."""
        return cls(plain.member("figure", AggregateFunction), plain.text("column", ""), plain.number("at", 0.5))


@dataclass(frozen=True, slots=True)
class GroupStep:
    """One row for each group of equal keys, with aggregates and conditions on them."""

    kind: ClassVar[str] = "group"
    keys: tuple[KeyBy, ...] = ()
    figures: tuple[FigureOf, ...] = (FigureOf(AggregateFunction.COUNT),)
    on: bool = True
    name: str = ""

    def words(self) -> str:
        """The step in a line of the course."""
        return " › ".join(key.title for key in self.keys) or tr("nothing")

    def apply(self, shaped: Shaped, stop: StopToken) -> Shaped:
        """What comes of the rows. Raises: ConditionError."""
        if not self.keys:
            raise ConditionError(tr("The group has no columns to group by."), tr("Choose one in its drawer."))
        view = with_parts(shaped.flat(), self.keys)
        keys = [view.table.index(key.title) for key in self.keys]
        measures = [figure.measure(view.table) for figure in self.figures]
        grouped = self._titled(group_view(view, keys, measures, stop))
        orders = tuple(np.arange(level.table.rows) for level in grouped.levels)
        return Shaped(view, grouped, orders, own_rows=shaped.own_rows and shaped.grouped is None)

    def _titled(self, grouped: Grouped) -> Grouped:
        """Figures get names of their own, so that later steps and deliveries can tell them apart."""
        count = len(self.figures)

        def named(table: Table) -> Table:
            at = len(table.fields) - count
            fields = [
                replace(field, name=figure.title) for field, figure in zip(table.fields[at:], self.figures, strict=True)
            ]
            return table.with_fields((*table.fields[:at], *fields))

        levels = tuple(replace(level, table=named(level.table)) for level in grouped.levels)
        return replace(grouped, levels=levels, totals=named(grouped.totals))

    def to_plain(self) -> dict[str, object]:
        """As a pull file has it."""
        return {"keys": plain_keys_by(self.keys), "figures": [plain_figure(f) for f in self.figures]}

    @classmethod
    def from_plain(cls, plain: Entry) -> Self:
        """What `to_plain` made. Raises: ValueError."""
        return cls(KeyBy.of_list(plain, "keys"), tuple(map(FigureOf.from_plain, plain.entries("figures"))))


def plain_keys_by(keys: Iterable[KeyBy]) -> list[object]:
    """Keys of groups as a pull file has them."""
    return [{"column": k.column, "part": k.part} if k.part else k.column for k in keys]


def plain_figure(figure: FigureOf) -> dict[str, object]:
    """A figure as a pull file has it."""
    plain: dict[str, object] = {"figure": figure.figure.value}
    if figure.column:
        plain["column"] = figure.column
    return plain | ({"at": figure.at} if figure.figure is AggregateFunction.QUANTILE else {})


def with_parts(view: View, keys: Iterable[KeyBy]) -> View:
    """The rows with a further column for each part of a column that is named. Raises: ConditionError."""
    table = view.table
    for key in keys:
        index = find_column(table, key.column)
        if key.part and all(field.name != key.title for field in table.fields):
            column = part_column(table.columns[index], key.part, view.row_ids(), key.column)
            form = table.fields[index].form if column.kind is table.columns[index].kind else ""
            field = Field(key.title, column.kind, form=form if column.kind.is_moment else "")
            table = Table((*table.fields, field), (*table.columns, column), table.rows)
    return View(table, view.ids)
