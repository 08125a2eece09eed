"""Distinct, Sample, Pivot, Unpivot and Transpose: other rows from the same values."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import ClassVar, Self

from nimble_otter.entry import Entry
from nimble_otter.errors import ConditionError
from nimble_otter.pull.shaped import Shaped, made_anew
from nimble_otter.pull.steps.base import find_column
from nimble_otter.pull.steps.group import FigureOf, KeyBy, plain_figure, plain_keys_by, with_parts
from nimble_otter.stop import StopToken
from nimble_otter.table.ops.combine import first_of_each, pivoted, sampled, transposed, unpivoted
from nimble_otter.table.ops.measures import AggregateFunction
from nimble_otter.table.text.show import grouped
from nimble_otter.translation import tr

_NOTHING, _COUNT = KeyBy(""), FigureOf(AggregateFunction.COUNT)


def _rows_only(shaped: Shaped, what: str) -> None:
    if shaped.grouped is not None:
        raise ConditionError(tr("{what} takes rows, not groups.", what=what), tr("Put it before the Group step."))


@dataclass(frozen=True, slots=True)
class DistinctStep:
    """The first row of each combination of values in `columns` (none: in all that are shown)."""

    kind: ClassVar[str] = "distinct"
    columns: tuple[str, ...] = ()
    on: bool = True
    name: str = ""

    def words(self) -> str:
        """The step in a line of the course."""
        return ", ".join(self.columns) or tr("whole rows")

    def apply(self, shaped: Shaped, stop: StopToken) -> Shaped:
        """What comes of the rows. Raises: ConditionError."""
        _rows_only(shaped, tr("Distinct"))
        table = shaped.view.table
        places = [find_column(table, name) for name in self.columns] or list(shaped.shown())
        view = first_of_each(shaped.view, places, stop)
        text = tr("{view_count} duplicate rows left out", view_count=grouped(len(shaped.view) - len(view)))
        return replace(shaped, view=view, said=text)

    def to_plain(self) -> dict[str, object]:
        """As a pull file has it."""
        return {"columns": list(self.columns)}

    @classmethod
    def from_plain(cls, plain: Entry) -> Self:
        """What `to_plain` made. Raises: ValueError."""
        return cls(plain.texts("columns"))


@dataclass(frozen=True, slots=True)
class SampleStep:
    """`count` rows by chance; another `seed` gives others."""

    kind: ClassVar[str] = "sample"
    count: int = 1000
    seed: int = 1
    on: bool = True
    name: str = ""

    def words(self) -> str:
        """The step in a line of the course."""
        return tr("{count} at random", count=grouped(self.count))

    def apply(self, shaped: Shaped, stop: StopToken) -> Shaped:
        """What comes of the rows. Raises: ConditionError."""
        _rows_only(shaped, tr("Sample"))
        if self.count < 0:
            raise ConditionError(tr("A sample takes 0 rows or more."), tr("Type a whole number."))
        view = sampled(shaped.view, self.count, self.seed)
        return replace(shaped, view=view)

    def to_plain(self) -> dict[str, object]:
        """As a pull file has it."""
        return {"count": self.count, "seed": self.seed}

    @classmethod
    def from_plain(cls, plain: Entry) -> Self:
        """What `to_plain` made. Raises: ValueError."""
        return cls(plain.whole("count"), plain.whole("seed", 1))


@dataclass(frozen=True, slots=True)
class PivotStep:
    """A row for each combination of the `keys`, a column for each value of `column`, the figure where they meet, and
    with `totals` the figure over all of them."""

    kind: ClassVar[str] = "pivot"
    keys: tuple[KeyBy, ...] = ()
    column: KeyBy = _NOTHING
    figure: FigureOf = _COUNT
    totals: bool = False
    on: bool = True
    name: str = ""

    def words(self) -> str:
        """The step in a line of the course."""
        keys = ", ".join(key.title for key in self.keys)
        return tr(
            "{column_title} into columns{keys}",
            column_title=self.column.title or "nothing",
            keys=tr(", by {keys}", keys=keys) if keys else "",
        )

    def apply(self, shaped: Shaped, stop: StopToken) -> Shaped:
        """What comes of the rows. Raises: ConditionError."""
        if not self.column.column:
            raise ConditionError(
                tr("No column is chosen whose values become columns."), tr("Choose one in the drawer.")
            )
        if self.figure.figure in (AggregateFunction.SHARE, AggregateFunction.RUNNING):
            raise ConditionError(
                tr("A pivot has no {figure_value}.", figure_value=self.figure.figure.value),
                tr("Choose another aggregate."),
            )
        view = with_parts(shaped.flat(), (*self.keys, self.column))
        keys = [view.table.index(key.title) for key in self.keys]
        measure = self.figure.measure(view.table)
        return made_anew(pivoted(view, keys, view.table.index(self.column.title), measure, self.totals, stop))

    def to_plain(self) -> dict[str, object]:
        """As a pull file has it."""
        plain = {"keys": plain_keys_by(self.keys), "column": plain_keys_by((self.column,))[0]}
        return {**plain, "figure": plain_figure(self.figure), "totals": self.totals}

    @classmethod
    def from_plain(cls, plain: Entry) -> Self:
        """What `to_plain` made. Raises: ValueError."""
        column = KeyBy.of_value(plain.value("column"), tr("column of {at}", at=plain.at))
        figure = FigureOf.from_plain(plain.entry("figure"))
        return cls(KeyBy.of_list(plain, "keys"), column, figure, plain.flag("totals"))


@dataclass(frozen=True, slots=True)
class UnpivotStep:
    """A row for each of the `columns`, with its name in `label` and its value in `value`."""

    kind: ClassVar[str] = "unpivot"
    columns: tuple[str, ...] = ()
    label: str = "column"
    value: str = "value"
    on: bool = True
    name: str = ""

    def words(self) -> str:
        """The step in a line of the course."""
        few = (
            ", ".join(self.columns)
            if len(self.columns) <= 3
            else tr("{columns_count} columns", columns_count=len(self.columns))
        )
        return tr("{few} into rows", few=few or "nothing")

    def apply(self, shaped: Shaped, stop: StopToken) -> Shaped:
        """What comes of the rows. Raises: ConditionError."""
        if not self.columns:
            raise ConditionError(tr("No columns are chosen that become rows."), tr("Check some in the drawer."))
        view = shaped.as_shown()
        places = [find_column(view.table, name) for name in self.columns]
        return made_anew(unpivoted(view, places, self.label or "column", self.value or "value"))

    def to_plain(self) -> dict[str, object]:
        """As a pull file has it."""
        return {"columns": list(self.columns), "label": self.label, "value": self.value}

    @classmethod
    def from_plain(cls, plain: Entry) -> Self:
        """What `to_plain` made. Raises: ValueError."""
        return cls(plain.texts("columns"), plain.text("label", "column"), plain.text("value", "value"))


@dataclass(frozen=True, slots=True)
class TransposeStep:
    """Rows as columns, named by the values of `names` (or numbered)."""

    kind: ClassVar[str] = "transpose"
    names: str = ""
    on: bool = True
    name: str = ""

    def words(self) -> str:
        """The step in a line of the course."""
        return tr("named by {names}", names=self.names) if self.names else tr("rows as columns")

    def apply(self, shaped: Shaped, stop: StopToken) -> Shaped:
        """What comes of the rows. Raises: ConditionError."""
        view = shaped.as_shown()
        return made_anew(transposed(view, find_column(view.table, self.names) if self.names else None))

    def to_plain(self) -> dict[str, object]:
        """As a pull file has it."""
        return {"names": self.names}

    @classmethod
    def from_plain(cls, plain: Entry) -> Self:
        """What `to_plain` made. Raises: ValueError."""
        return cls(plain.text("names", ""))
