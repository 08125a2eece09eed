"""Rows on their way along the course: what a step takes and gives."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from dataclasses import field as made_by
from typing import Any

import numpy as np

from nimble_otter.errors import ConditionError
from nimble_otter.pull.compared import Compared
from nimble_otter.table import Field, Table, View
from nimble_otter.table.core.columns import Column, Ids, distinct_names
from nimble_otter.table.ops.group import Grouped
from nimble_otter.table.text.column_format import ColumnFormat


@dataclass(frozen=True, slots=True, eq=False)
class Shaped:
    """`view` are the rows; when they are `grouped`, `orders` gives for each level the order in which its groups stand
    (already with children behind their parents). `columns` are the places shown, in order (None: all); the first
    `pinned` of them stay in sight, and `looks` (by place) say how they are shown. `own_rows` is False once row ids are
    no longer those of the rows pulled. `opened` are columns that are parts of others: the place of the whole and the
    names that lead from it to the part. `said` is what the last step tells of what it did, `checked` what it found,
    `compared` what differences come from."""

    view: View
    grouped: Grouped | None = None
    orders: tuple[Ids, ...] = ()
    columns: tuple[int, ...] | None = None
    own_rows: bool = True
    said: str = ""
    checked: tuple[Any, ...] = ()
    compared: Compared | None = None
    pinned: int = 0
    looks: Mapping[int, ColumnFormat] = made_by(default_factory=dict)
    opened: Mapping[int, tuple[int, tuple[str, ...]]] = made_by(default_factory=dict)

    @property
    def table(self) -> Table:
        """What a further step sees: the groups of the deepest level, or the rows' table."""
        return self.grouped.leaves if self.grouped is not None else self.view.table

    @property
    def rows(self) -> int:
        """How many rows are shown."""
        return self.table.rows if self.grouped is not None else len(self.view)

    def flat(self) -> View:
        """The rows in order, or the deepest groups in the order in which they stand."""
        return View(self.grouped.leaves, self.orders[-1]) if self.grouped is not None else self.view

    def is_like(self, other: Shaped) -> bool:
        """Whether another has the very same rows and columns, shown alike."""
        mine, theirs = ((s.view.table, s.view.ids, s.grouped, s.orders) for s in (self, other))
        return self is other or (
            mine[0] is theirs[0] and mine[1] is theirs[1] and mine[2] is theirs[2]
            and all(a is b for a, b in zip(mine[3], theirs[3], strict=False))
            and (self.columns, self.looks) == (other.columns, other.looks)
        )  # fmt: skip

    def as_shown(self) -> View:
        """As `flat`, with the columns that are shown, in their order."""
        view = self.flat()
        if self.columns is None:
            return view
        fields, columns = view.table.fields, view.table.columns
        places = self.columns
        return View(
            Table(tuple(fields[p] for p in places), tuple(columns[p] for p in places), view.table.rows), view.ids
        )

    def whole(self) -> View:
        """The rows without the columns that are parts of others."""
        table, kept = self.view.table, [n for n in range(len(self.view.table.fields)) if n not in self.opened]
        fields, columns = ([part[n] for n in kept] for part in (table.fields, table.columns))
        return View(Table(tuple(fields), tuple(columns), table.rows), self.view.ids)  # type: ignore[arg-type]

    def shown(self) -> tuple[int, ...]:
        """Places of the columns shown, in their order."""
        return tuple(range(len(self.table.fields))) if self.columns is None else self.columns

    def field(self, place: int) -> Field:
        """What is known of a column, with its look; one that the user gave comes before its own."""
        field = self.table.fields[place]
        look = self.looks.get(place)
        return field if look is None else replace(field, look=look)

    def title(self, place: int) -> str:
        """What the header of a column says."""
        look = self.looks.get(place)
        return look.title if look is not None and look.title else self.table.fields[place].name

    def shown_fields(self) -> list[Field]:
        """The columns shown, in their order, under the names they are given."""
        return [replace(self.field(place), name=self.title(place)) for place in self.shown()]

    def with_orders(self, wanted: list[Ids]) -> Shaped:
        """Order groups: `wanted` orders each level on its own; parents' order comes first."""
        assert self.grouped is not None
        orders: list[Ids] = []
        for level, own in zip(self.grouped.levels, wanted, strict=True):
            if orders:
                place = np.empty(len(orders[-1]), np.int64)
                place[orders[-1]] = np.arange(len(place))
                own = own[np.argsort(place[level.parent[own]], kind="stable")]
            orders.append(own)
        return replace(self, orders=tuple(orders))


def all_rows(table: Table) -> Shaped:
    """A table as it was pulled, without steps."""
    return Shaped(View(table))


def made_anew(table: Table, said: str = "") -> Shaped:
    """Rows that a step made: they are no longer those that were pulled."""
    return Shaped(View(table), own_rows=False, said=said)


class PartlyDone(ConditionError):
    """A step of several parts of which one did not fit: `shaped` is what the others made."""

    def __init__(self, problem: ConditionError, shaped: Shaped) -> None:
        super().__init__(problem.message, problem.hint, problem.place)
        self.shaped = shaped


def columns_to_send(shaped: Shaped) -> tuple[list[Field], list[Column], View]:
    """What is delivered: fields and columns as shown, under the names they are given, and the view that orders their
    rows."""
    view = shaped.flat()
    return distinct_names(shaped.shown_fields()), [view.table.columns[p] for p in shaped.shown()], view
