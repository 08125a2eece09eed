"""Columns: which are shown, and in what order."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any, ClassVar, Self

from nimble_otter.pull.shaped import Shaped
from nimble_otter.pull.steps.base import find_column
from nimble_otter.stop import StopToken


@dataclass(frozen=True, slots=True)
class ColumnsStep:
    """`order` are names from the left; columns it does not name follow in their own order, or with `only` are left
    out. `hidden` are left out too."""

    kind: ClassVar[str] = "columns"
    order: tuple[str, ...] = ()
    hidden: tuple[str, ...] = ()
    only: bool = False
    on: bool = True
    name: str = ""

    def words(self) -> str:
        if self.only:
            return ", ".join(self.order)
        if self.hidden:
            return f"{len(self.hidden)} hidden" + (", reordered" if self.order else "")
        return "reordered" if self.order else "all"

    def apply(self, shaped: Shaped, stop: StopToken) -> Shaped:
        fields = shaped.table.fields
        names = [field.name for field in fields]
        if self.only:
            return replace(shaped, columns=tuple(find_column(shaped.table, name) for name in self.order))
        first = [names.index(name) for name in self.order if name in names]
        wanted = first + [place for place in shaped.shown() if place not in first]
        return replace(shaped, columns=tuple(p for p in wanted if names[p] not in self.hidden))

    def to_plain(self) -> dict[str, Any]:
        return {"order": list(self.order), "hidden": list(self.hidden), **({"only": True} if self.only else {})}

    @classmethod
    def from_plain(cls, plain: Mapping[str, Any]) -> Self:
        return cls(
            tuple(map(str, plain.get("order", ()))), tuple(map(str, plain.get("hidden", ()))), bool(plain.get("only"))
        )
