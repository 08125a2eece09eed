"""Which table of a result can be changed, by what key, and for every other column why not."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from nimble_otter.errors import NoKeyError
from nimble_otter.sources.catalogue import ColumnInfo, TableInfo
from nimble_otter.sources.trace import Origin
from nimble_otter.table import Table, View
from nimble_otter.table.group import group_view


@dataclass(frozen=True, slots=True)
class Target:
    """`keys` and `columns` map places in the result to columns of `table`; `refusals` the other places to reasons.

    `table` is None where nothing can be changed; `reason` says why.
    """

    table: TableInfo | None
    keys: tuple[tuple[int, str], ...] = ()
    columns: tuple[tuple[int, ColumnInfo], ...] = ()
    refusals: tuple[tuple[int, str], ...] = ()
    reason: str = ""

    def column(self, place: int) -> ColumnInfo:
        """The column behind a place in the result. Raises: NoKeyError that says why it can't be changed."""
        for at, info in self.columns:
            if at == place:
                return info
        raise NoKeyError(dict(self.refusals).get(place, self.reason) or "This column can't be changed.")

    def takes(self, place: int) -> bool:
        """Whether the column at a place can be changed."""
        return any(at == place for at, _ in self.columns)

    @property
    def is_open(self) -> bool:
        return self.table is not None


def find_target(table: Table, origins: Sequence[Origin | None], tables: Sequence[TableInfo]) -> Target:
    """Choose the first table in the query whose whole key is in the result, once for each row."""
    by_name = {t.name: t for t in tables}
    reasons: dict[str, str] = {}
    chosen: tuple[str, TableInfo, dict[str, int]] | None = None
    for alias in dict.fromkeys(o.alias for o in origins if o is not None):
        own = {o.column: place for place, o in reversed(list(enumerate(origins))) if o is not None and o.alias == alias}
        name = next(o.table for o in origins if o is not None and o.alias == alias)
        info = by_name[name]
        problem = _problem(table, info, own, [o for o in origins if o is not None and o.alias == alias])
        if problem:
            reasons[alias] = problem
        elif chosen is None:
            chosen = (alias, info, own)
        else:
            reasons[alias] = f"Changes go to {chosen[1].name} here; open {name} to change it."
    if chosen is None:
        return Target(None, reason=next(iter(reasons.values()), "No column of the result comes straight from a table."))
    alias, info, own = chosen
    keys = tuple((own[column], column) for column in info.key)
    columns, refusals = [], []
    for place, origin in enumerate(origins):
        if origin is None:
            refusals.append(
                (place, f"{table.fields[place].name} is worked out by the query; it has no column to write to.")
            )
        elif origin.alias != alias:
            refusals.append((place, reasons.get(origin.alias, f"{origin.label} can't be changed here.")))
        elif own[origin.column] != place:
            refusals.append((place, f"{origin.label} is in the result twice; change the first one."))
        else:
            known = info.column(origin.column)
            assert known is not None
            columns.append((place, known))
    return Target(info, keys, tuple(columns), tuple(refusals))


def _problem(table: Table, info: TableInfo, own: dict[str, int], origins: Sequence[Origin]) -> str:
    if info.kind == "view":
        return f"{info.name} is a view; open the table behind it to change it."
    if not origins[0].is_direct:
        return "The query groups or merges rows, so that a result row is not one row of the table."
    if not info.key:
        return f"{info.name} has no key, so its rows can't be told apart."
    absent = [column for column in info.key if column not in own]
    if absent:
        return f"The key of {info.name} is not in the result; add {', '.join(absent)} to the query."
    places = [own[column] for column in info.key]
    filled = np.arange(table.rows)[~np.any([table.columns[p].empty_at() for p in places], axis=0)]
    if len(filled) and group_view(View(table, filled), places, []).leaves.rows < len(filled):
        return f"Rows of {info.name} appear more than once in the result; open {info.name} to change it."
    return ""
