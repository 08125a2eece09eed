"""Open: objects in a column become columns of their own (`flood` becomes `flood.level`, `flood.trend`, ...)."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import ClassVar, Self

from nimble_otter.entry import Entry
from nimble_otter.errors import ConditionError
from nimble_otter.pull.shaped import Shaped
from nimble_otter.pull.steps.base import find_column
from nimble_otter.stop import StopToken
from nimble_otter.table import MISSING, Field, Table, View
from nimble_otter.table.core.build import column_of
from nimble_otter.table.core.columns import Column
from nimble_otter.translation import tr

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
        """The step in a line of the course."""
        return ", ".join(self.paths) or tr("nothing")

    def apply(self, shaped: Shaped, stop: StopToken) -> Shaped:
        """What comes of the rows. Raises: ConditionError."""
        if shaped.grouped is not None and self.paths:
            raise ConditionError(tr("Groups hold no objects to open."), tr("Put the Open step before the Group step."))
        table, shown, opened = shaped.view.table, list(shaped.shown()), dict(shaped.opened)
        for path in self.paths:
            stop.check()
            index = find_column(table, path)
            whole, names = opened.get(index, (index, ()))
            before = len(table.fields)
            table, parts, keeps = _opened(table, index)
            opened |= {before + n: (whole, (*names, name)) for n, name in enumerate(parts)}
            if index in shown:
                at = shown.index(index)
                shown[at : at + 1] = [*([index] if keeps else []), *range(before, before + len(parts))]
        return replace(shaped, view=View(table, shaped.view.ids), columns=tuple(shown), opened=opened)

    def to_plain(self) -> dict[str, object]:
        """As a pull file has it."""
        return {"paths": list(self.paths)}

    @classmethod
    def from_plain(cls, plain: Entry) -> Self:
        """What `to_plain` made. Raises: ValueError."""
        return cls(plain.texts("paths"))


def _opened(table: Table, place: int) -> tuple[Table, list[str], bool]:
    """The table with the fields of one column's objects as columns behind the others; the fields' names; and whether
    the column has other values too, so that it stays in sight."""
    field, values = table.fields[place], table.columns[place].values()
    names: Counter[str] = Counter()
    for value in values:
        if isinstance(value, Mapping):
            names.update(value.keys())
    if not names:
        raise ConditionError(
            tr("{field_name} holds no objects.", field_name=field.name), tr("Only objects can be opened into columns.")
        )
    if len(names) > MOST_FIELDS:
        raise ConditionError(
            tr(
                "The objects of {field_name} have {names_count} different fields.",
                field_name=field.name,
                names_count=len(names),
            ),
            tr("At most {most_fields} can become columns.", most_fields=MOST_FIELDS),
        )
    taken = {f.name for f in table.fields}
    fields: list[Field] = []
    columns: list[Column] = []
    for name, count in names.items():
        columns.append(column_of([v.get(name, MISSING) if isinstance(v, Mapping) else MISSING for v in values]))
        label = f"{field.name}.{name}"
        while label in taken:
            label += "'"
        taken.add(label)
        note = f"{round(100 * count / max(1, table.rows))} % · {columns[-1].kind.value}"
        origin = f"{field.origin or field.name}.{name}"
        fields.append(Field(label, columns[-1].kind, origin, note=note))
    keeps = any(value is not None and value is not MISSING and not isinstance(value, Mapping) for value in values)
    return Table((*table.fields, *fields), (*table.columns, *columns), table.rows), list(names), keeps
