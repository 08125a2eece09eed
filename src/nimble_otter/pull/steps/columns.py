"""Columns: which are shown, in what order, and how they look."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any, ClassVar, Self

from nimble_otter.entry import Entry
from nimble_otter.pull.shaped import Shaped
from nimble_otter.pull.steps.base import find_column
from nimble_otter.stop import StopToken
from nimble_otter.table.text.column_format import PLAIN, ColumnFormat
from nimble_otter.translation import tr


@dataclass(frozen=True, slots=True)
class ColumnsStep:
    """`order` are names from the left; columns it does not name follow in their own order, or with `only` are left
    out. `hidden` are left out too. `pinned` stay in sight at the left. `looks` say how columns are shown."""

    kind: ClassVar[str] = "columns"
    order: tuple[str, ...] = ()
    hidden: tuple[str, ...] = ()
    only: bool = False
    pinned: tuple[str, ...] = ()
    looks: tuple[tuple[str, ColumnFormat], ...] = ()
    on: bool = True
    name: str = ""

    def words(self) -> str:
        """The step in a line of the course."""
        if self.only:
            return ", ".join(self.order)
        lines = [tr("{hidden_count} hidden", hidden_count=len(self.hidden))] if self.hidden else []
        lines += [tr("reordered")] if self.order else []
        lines += [tr("{pinned_count} pinned", pinned_count=len(self.pinned))] if self.pinned else []
        lines += [tr("{looks_count} formatted", looks_count=len(self.looks))] if self.looks else []
        return ", ".join(lines) or tr("all")

    def look(self, name: str) -> ColumnFormat:
        """How a column is shown."""
        return dict(self.looks).get(name, PLAIN)

    def with_look(self, name: str, look: ColumnFormat) -> ColumnsStep:
        """With a look for a column; a plain one takes it out."""
        others = tuple((n, held) for n, held in self.looks if n != name)
        return replace(self, looks=others if look == PLAIN else (*others, (name, look)))

    def apply(self, shaped: Shaped, stop: StopToken) -> Shaped:
        """What comes of the rows. Raises: ConditionError."""
        names = [field.name for field in shaped.table.fields]
        looks = dict(shaped.looks)
        for name, look in self.looks:
            if name in names:
                look.check(name)
                looks[names.index(name)] = look
        if self.only:
            wanted = [find_column(shaped.table, name) for name in self.order]
        else:
            apart = {whole for whole, _ in shaped.opened.values()} - set(shaped.shown())  # their parts stand for them
            wanted = [n for name in self.order if name in names and (n := names.index(name)) not in apart]
            wanted += [place for place in shaped.shown() if place not in wanted]
        kept = [place for place in wanted if names[place] not in self.hidden]
        first = [names.index(name) for name in self.pinned if name in names and names.index(name) in kept]
        kept = [*first, *(place for place in kept if place not in first)]
        return replace(shaped, columns=tuple(kept), pinned=len(first), looks=looks)

    def to_plain(self) -> dict[str, object]:
        """As a pull file has it."""
        plain: dict[str, Any] = {"order": list(self.order), "hidden": list(self.hidden)}
        plain |= {"only": True} if self.only else {}
        plain |= {"pinned": list(self.pinned)} if self.pinned else {}
        return plain | ({"looks": {name: look.to_plain() for name, look in self.looks}} if self.looks else {})

    @classmethod
    def from_plain(cls, plain: Entry) -> Self:
        """What `to_plain` made. Raises: ValueError."""
        order, hidden, pinned = map(plain.texts, ("order", "hidden", "pinned"))
        looks = tuple((name, ColumnFormat.from_plain(look)) for name, look in plain.named("looks").items())
        return cls(order, hidden, plain.flag("only"), pinned, looks)
