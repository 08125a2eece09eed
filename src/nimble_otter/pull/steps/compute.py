"""Compute: further columns, each an SQL expression over the others."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import partial
from typing import ClassVar, Self

import numpy as np

from nimble_otter.entry import Entry
from nimble_otter.errors import ConditionError
from nimble_otter.pull.shaped import PartlyDone, Shaped
from nimble_otter.pull.steps.filter import bound_text
from nimble_otter.query.local.conditions import parse_expression
from nimble_otter.query.sql.statements import find_parameters
from nimble_otter.stop import StopToken
from nimble_otter.table import Field, Table, View
from nimble_otter.table.core.build import column_of
from nimble_otter.table.core.columns import Column, Ids
from nimble_otter.table.ops.combine import taken
from nimble_otter.table.ops.expressions import compute
from nimble_otter.table.ops.group import Grouped
from nimble_otter.translation import tr


@dataclass(frozen=True, slots=True)
class Computed:
    """A column by its name and its expression."""

    label: str
    text: str


@dataclass(frozen=True, slots=True)
class ComputeStep:
    """`columns` in turn: an expression may name the columns before it."""

    kind: ClassVar[str] = "compute"
    columns: tuple[Computed, ...] = ()
    on: bool = True
    name: str = ""

    def words(self) -> str:
        """The step in a line of the course."""
        return ", ".join(c.label for c in self.columns) or tr("nothing")

    def parameters(self) -> list[str]:
        """Parameters that its expressions name."""
        return [name for column in self.columns for name in find_parameters(column.text)]

    def bound(self, values: Mapping[str, object]) -> ComputeStep:
        """With the values of the parameters in its expressions."""
        made = tuple(replace(c, text=bound_text(c.text, values)) for c in self.columns)
        return self if made == self.columns else replace(self, columns=made)

    def apply(self, shaped: Shaped, stop: StopToken) -> Shaped:
        """What comes of the rows. Raises: ConditionError."""
        if shaped.grouped is not None:
            return self._for_groups(shaped, shaped.grouped, stop)
        table, columns = shaped.view.table, shaped.columns
        ids, problem = shaped.view.row_ids(), None
        for computed in self.columns:
            if not computed.label and not computed.text:
                continue  # one that is being written
            try:
                column = _made(computed, table, ids, stop)
            except ConditionError as wrong:  # the others are there all the same
                problem = problem or wrong
                continue
            field = Field(computed.label, column.kind, note="computed")
            table = Table((*table.fields, field), (*table.columns, column), table.rows)
            columns = None if columns is None else (*columns, len(table.fields) - 1)
        done = replace(shaped, view=View(table, shaped.view.ids), columns=columns)
        if problem is not None:
            raise PartlyDone(problem, done)
        return done

    def _for_groups(self, shaped: Shaped, grouped: Grouped, stop: StopToken) -> Shaped:
        columns, problem = shaped.columns, None
        for computed in (c for c in self.columns if c.label or c.text):
            try:
                grouped = grouped.with_column(partial(_of_groups, computed, len(grouped.leaves.fields), stop))
            except ConditionError as wrong:  # the others are there all the same
                problem = problem or wrong
                continue
            columns = None if columns is None else (*columns, len(grouped.leaves.fields) - 1)
        done = replace(shaped, grouped=grouped, columns=columns)
        if problem is not None:
            raise PartlyDone(problem, done)
        return done

    def to_plain(self) -> dict[str, object]:
        """As a pull file has it."""
        return {"columns": [{"name": c.label, "expression": c.text} for c in self.columns]}

    @classmethod
    def from_plain(cls, plain: Entry) -> Self:
        """What `to_plain` made. Raises: ValueError."""
        return cls(tuple(Computed(c.text("name"), c.text("expression")) for c in plain.entries("columns")))


_LOOKED_AT = 1000
"""Rows that tell the kind of a column where no row is left."""


def _of_groups(computed: Computed, whole: int, stop: StopToken, table: Table) -> tuple[Field, Column]:
    """The column at one level; larger groups, which have no such keys (`whole` columns has the deepest level), have no
    value. Raises: ConditionError, Stopped."""
    try:
        column = _made(computed, table, np.arange(table.rows), stop)
    except ConditionError:
        if len(table.fields) == whole:
            raise
        column = column_of([None] * table.rows)
    return Field(computed.label, column.kind, note="computed"), column


def _made(computed: Computed, table: Table, ids: Ids, stop: StopToken) -> Column:
    """Raises: ConditionError, Stopped."""
    if not computed.label.strip():
        raise ConditionError(tr("A computed column has no name."), tr("Write one before its expression."))
    if any(f.name.casefold() == computed.label.casefold() for f in table.fields):
        raise ConditionError(
            tr("A column {computed_label} already exists.", computed_label=computed.label), tr("Choose another name.")
        )
    expression = parse_expression(computed.text, table)
    if len(ids) or not table.rows:
        return compute(expression, table, ids, stop)
    some = compute(expression, table, np.arange(min(_LOOKED_AT, table.rows)), stop)  # for its kind
    return taken(some, np.zeros(table.rows, np.int64), np.ones(table.rows, np.bool_))
