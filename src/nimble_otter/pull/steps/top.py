"""Top: the first so many rows in an order, of all rows or of each group of them."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import ClassVar, Self

import numpy as np

from nimble_otter.entry import Entry
from nimble_otter.errors import ConditionError
from nimble_otter.pull.shaped import Shaped
from nimble_otter.pull.steps.base import find_column
from nimble_otter.pull.steps.sort import SortBy, keys_of, plain_keys, sort_keys
from nimble_otter.stop import StopToken
from nimble_otter.table import View
from nimble_otter.table.core.columns import Ids
from nimble_otter.table.kernels.codes import changes, starts_of
from nimble_otter.table.ops.sort import SortKey, sort_view
from nimble_otter.translation import tr


@dataclass(frozen=True, slots=True)
class TopStep:
    """`count` rows by `keys` (as they come, without any), for each set of values of the `per` columns. The rows kept
    stand in that order, group by group."""

    kind: ClassVar[str] = "top"
    count: int = 10
    keys: tuple[SortBy, ...] = ()
    per: tuple[str, ...] = ()
    on: bool = True
    name: str = ""

    def words(self) -> str:
        """The step in a line of the course."""
        by = ", ".join(f"{key.column} {'↓' if key.descending else '↑'}" for key in self.keys)
        each = tr(" for each {per}", per=", ".join(self.per)) if self.per else ""
        return (tr("{count} by {columns}", count=self.count, columns=by) if by else str(self.count)) + each

    def apply(self, shaped: Shaped, stop: StopToken) -> Shaped:
        """What comes of the rows. Raises: ConditionError."""
        if shaped.grouped is not None:
            raise ConditionError(tr("Top takes rows, not groups."), tr("Put it before the Group step."))
        if self.count < 0:
            raise ConditionError(tr("Top takes 0 rows or more."), tr("Type a whole number."))
        ids, within = self.ranked(shaped, stop)
        return replace(shaped, view=View(shaped.view.table, ids[within < self.count]))

    def ranked(self, shaped: Shaped, stop: StopToken) -> tuple[Ids, Ids]:
        """The row ids in order, and the place of each among those of its `per` columns, from 0. Raises:
        ConditionError."""
        table = shaped.view.table
        per = [find_column(table, name) for name in self.per]
        view = sort_view(shaped.view, [*map(SortKey, per), *keys_of(table, self.keys, strict=True)], stop)
        ids = view.row_ids()
        begins = changes([table.columns[place] for place in per], ids, stop)
        return ids, np.arange(len(ids)) - starts_of(begins)

    def to_plain(self) -> dict[str, object]:
        """As a pull file has it."""
        return {"count": self.count, "keys": plain_keys(self.keys), "per": list(self.per)}

    @classmethod
    def from_plain(cls, plain: Entry) -> Self:
        """What `to_plain` made. Raises: ValueError."""
        return cls(plain.whole("count"), sort_keys(plain.entries("keys")), plain.texts("per"))
