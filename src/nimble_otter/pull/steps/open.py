"""Open: objects in a column become columns of their own (`flood` becomes `flood.level`, `flood.trend`, ...)."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any, ClassVar, Self

from nimble_otter.errors import ConditionError
from nimble_otter.pull.shaped import Shaped
from nimble_otter.pull.steps.base import find_column
from nimble_otter.stop import StopToken
from nimble_otter.table import MISSING, Field, Table, View
from nimble_otter.table.build import column_of
from nimble_otter.table.columns import Column

MOST_FIELDS = 500
"""Fields that one column may open into; objects used as dictionaries would make thousands."""


@dataclass(frozen=True, slots=True)
class OpenStep:
    """`paths` are the columns that are opened, in turn: a column that came out of one may be opened by a later one."""

    kind: ClassVar[str] = "open"
    paths: tuple[str, ...] = ()
    on: bool = True
    name: str = ""

    def words(self) -> str:
        return ", ".join(self.paths) or "nothing"

    def apply(self, shaped: Shaped, stop: StopToken) -> Shaped:
        if shaped.grouped is not None and self.paths:
            raise ConditionError("Groups hold no objects to open.", "Put the Open step before the Group step.")
        table, columns = shaped.view.table, shaped.columns
        for path in self.paths:
            stop.check()
            place = find_column(table, path)
            table = _opened(table, place)
            more = len(table.fields) - len(shaped.view.table.fields)
            if columns is not None:
                columns = _moved(columns, place, more)
        return replace(shaped, view=View(table, shaped.view.ids), columns=columns)

    def to_plain(self) -> dict[str, Any]:
        return {"paths": list(self.paths)}

    @classmethod
    def from_plain(cls, plain: Mapping[str, Any]) -> Self:
        return cls(tuple(map(str, plain.get("paths", ()))))


def _opened(table: Table, place: int) -> Table:
    """The table with the objects of one column as columns in its place; values that are no objects stay in it."""
    field, values = table.fields[place], table.columns[place].values()
    names: Counter[str] = Counter()
    for value in values:
        if isinstance(value, Mapping):
            names.update(value.keys())
    if not names:
        raise ConditionError(f"{field.name} holds no objects.", "Only objects can be opened into columns.")
    if len(names) > MOST_FIELDS:
        raise ConditionError(
            f"The objects of {field.name} have {len(names)} different fields.",
            f"At most {MOST_FIELDS} can become columns.",
        )
    taken = {f.name for f in table.fields}
    fields: list[Field] = []
    columns: list[Column] = []
    if any(value is not None and value is not MISSING and not isinstance(value, Mapping) for value in values):
        rest = [MISSING if isinstance(value, Mapping) else value for value in values]
        columns.append(column_of(rest))
        fields.append(replace(field, kind=columns[-1].kind))
    for name, count in names.items():
        columns.append(column_of([v.get(name, MISSING) if isinstance(v, Mapping) else MISSING for v in values]))
        label = f"{field.name}.{name}"
        while label in taken:
            label += "'"
        taken.add(label)
        note = f"{round(100 * count / max(1, table.rows))} % · {columns[-1].kind.value}"
        origin = f"{field.origin or field.name}.{name}"
        fields.append(Field(label, columns[-1].kind, origin, note=note))
    return Table(
        (*table.fields[:place], *fields, *table.fields[place + 1 :]),
        (*table.columns[:place], *columns, *table.columns[place + 1 :]),
        table.rows,
    )


def _moved(columns: tuple[int, ...], place: int, more: int) -> tuple[int, ...]:
    """Places shown, after `more` columns came in behind `place`."""
    found: list[int] = []
    for at in columns:
        if at == place:
            found += range(place, place + more + 1)
        else:
            found.append(at + more if at > place else at)
    return tuple(found)
