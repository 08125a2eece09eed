"""Sort: several keys, each with its direction and where empty values go. Groups are sorted inside their parents."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from typing import ClassVar, Self

import numpy as np

from nimble_otter.entry import Entry
from nimble_otter.pull.shaped import Shaped
from nimble_otter.pull.steps.base import find_column
from nimble_otter.stop import StopToken
from nimble_otter.table import Table, View
from nimble_otter.table.ops.sort import SortKey, sort_view
from nimble_otter.table.text.collation import LANGUAGES, ORDERS
from nimble_otter.translation import tr


@dataclass(frozen=True, slots=True)
class SortBy:
    """`order` is how texts are compared, one of table.collation.ORDERS, but by code point in the order of a `language`,
    one of its LANGUAGES."""

    column: str
    descending: bool = False
    empty_first: bool = False
    order: str = ""
    language: str = ""


@dataclass(frozen=True, slots=True)
class SortStep:
    """Put the rows in the order of its keys; equal ones stay as they were."""

    kind: ClassVar[str] = "sort"
    keys: tuple[SortBy, ...] = ()
    on: bool = True
    name: str = ""

    def words(self) -> str:
        """The step in a line of the course."""
        return ", ".join(f"{key.column} {'↓' if key.descending else '↑'}" for key in self.keys) or tr("nothing")

    def apply(self, shaped: Shaped, stop: StopToken) -> Shaped:
        """What comes of the rows. Raises: ConditionError."""
        if shaped.grouped is None:
            view = sort_view(shaped.view, keys_of(shaped.view.table, self.keys, strict=True), stop)
            return replace(shaped, view=view)
        keys_of(shaped.table, self.keys, strict=True)
        orders = []
        for level, before in zip(shaped.grouped.levels, shaped.orders, strict=True):
            keys = keys_of(level.table, self.keys, strict=False)
            orders.append(np.array(sort_view(View(level.table, before), keys, stop).row_ids()))
        return shaped.with_orders(orders)

    def to_plain(self) -> dict[str, object]:
        """As a pull file has it."""
        return {"keys": plain_keys(self.keys)}

    @classmethod
    def from_plain(cls, plain: Entry) -> Self:
        """What `to_plain` made. Raises: ValueError."""
        return cls(sort_keys(plain.entries("keys")))


def plain_keys(keys: tuple[SortBy, ...]) -> list[dict[str, object]]:
    """Keys as a pull file has them."""
    return [
        {"column": k.column, "descending": k.descending, "empty_first": k.empty_first}
        | {name: said for name, said in (("order", k.order), ("language", k.language)) if said}
        for k in keys
    ]


def sort_keys(plain: Iterable[Entry]) -> tuple[SortBy, ...]:
    """Keys from a pull file. Raises: ValueError."""
    return tuple(
        SortBy(
            k.text("column"), k.flag("descending"), k.flag("empty_first"),
            k.word("order", ORDERS, ""), k.word("language", ("", *LANGUAGES), ""),
        )
        for k in plain
    )  # fmt: skip


def keys_of(table: Table, wanted: tuple[SortBy, ...], strict: bool) -> list[SortKey]:
    """Keys as places; a level of groups that lacks a column (not `strict`) is not sorted by it."""
    names = {field.name for field in table.fields}
    return [
        SortKey(find_column(table, k.column), k.descending, k.empty_first, k.order, k.language)
        for k in wanted
        if strict or k.column in names
    ]
