"""Group: by columns, nested, with figures."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any, ClassVar, Self

import numpy as np

from nimble_otter.errors import ConditionError
from nimble_otter.pull.shaped import Shaped
from nimble_otter.pull.steps.base import find_column
from nimble_otter.stop import StopToken
from nimble_otter.table.columns import Table
from nimble_otter.table.group import Figure, Grouped, Measure, group_view


@dataclass(frozen=True, slots=True)
class FigureOf:
    """A figure of a column; count needs none."""

    figure: Figure
    column: str = ""

    @property
    def title(self) -> str:
        return "rows" if self.figure is Figure.COUNT else f"{self.column} {self.figure.value}"


@dataclass(frozen=True, slots=True)
class GroupStep:
    kind: ClassVar[str] = "group"
    keys: tuple[str, ...] = ()
    figures: tuple[FigureOf, ...] = (FigureOf(Figure.COUNT),)
    on: bool = True
    name: str = ""

    def words(self) -> str:
        return " › ".join(self.keys) or "nothing"

    def apply(self, shaped: Shaped, stop: StopToken) -> Shaped:
        if not self.keys:
            raise ConditionError("The group has no columns to group by.", "Choose one in its drawer.")
        view = shaped.flat()
        keys = [find_column(view.table, name) for name in self.keys]
        measures = [
            Measure(f.figure, None if f.figure is Figure.COUNT else find_column(view.table, f.column))
            for f in self.figures
        ]
        grouped = self._titled(group_view(view, keys, measures, stop))
        return Shaped(view, grouped, tuple(np.arange(level.table.rows) for level in grouped.levels))

    def _titled(self, grouped: Grouped) -> Grouped:
        """Figures get names of their own, so that later steps and deliveries can tell them apart."""
        count = len(self.figures)

        def named(table: Table) -> Table:
            at = len(table.fields) - count
            fields = [
                replace(field, name=figure.title) for field, figure in zip(table.fields[at:], self.figures, strict=True)
            ]
            return table.with_fields((*table.fields[:at], *fields))

        levels = tuple(replace(level, table=named(level.table)) for level in grouped.levels)
        return replace(grouped, levels=levels, totals=named(grouped.totals))

    def to_plain(self) -> dict[str, Any]:
        figures = [{"figure": f.figure.value, **({"column": f.column} if f.column else {})} for f in self.figures]
        return {"keys": list(self.keys), "figures": figures}

    @classmethod
    def from_plain(cls, plain: Mapping[str, Any]) -> Self:
        figures = [FigureOf(Figure(f["figure"]), str(f.get("column", ""))) for f in plain.get("figures", ())]
        return cls(tuple(map(str, plain["keys"])), tuple(figures))
