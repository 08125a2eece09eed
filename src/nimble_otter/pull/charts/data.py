"""What a chart draws: marks with their places, made of rows, and which rows each mark stands for. No pixels here."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from nimble_otter.pull.charts.model import Chart
from nimble_otter.pull.charts.places import CATEGORY, TIME, Axis, Floats, label_of, time_texts
from nimble_otter.pull.charts.reduce import Cloud, Line, cloud_of, line_of
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table import Field, Kind, Table
from nimble_otter.table.core.build import column_of
from nimble_otter.table.core.columns import Column, Ids, Mask
from nimble_otter.table.ops.combine import chained
from nimble_otter.table.text.show import shown
from nimble_otter.values import Stored

_MANY = 500_000
"""Points from which on a look closer is worth putting them in order."""
MOST_TOLD = 1_000_000
"""Marks that are handed out as a table."""


@dataclass(frozen=True, slots=True, eq=False)
class RowGroups:
    """Which group each row is in: `codes` for the rows `ids`, of `count` groups."""

    codes: Ids
    ids: Ids
    count: int

    def rows_of(self, groups: Ids) -> Ids:
        """Ids of the rows of some groups, in the rows' order."""
        wanted = np.zeros(self.count, np.bool_)
        wanted[groups] = True
        return self.ids[wanted[self.codes]]

    def holding(self, rows: Mask) -> Mask:
        """The groups that hold any of the rows (by id)."""
        mask = np.zeros(self.count, np.bool_)
        mask[self.codes[rows.take(self.ids)]] = True
        return mask


@dataclass(frozen=True, slots=True, eq=False)
class Boxes:
    """For each box: where the middle half of the values begins, their median, where it ends, and how far the values
    reach that are within one and a half times its height."""

    first: Floats
    median: Floats
    third: Floats
    low: Floats
    high: Floats


@dataclass(frozen=True, slots=True, eq=False)
class Series:
    """Marks of one name, colour (`place` among all names) and panel. `x` and `y` say where each stands (NaN: nowhere),
    `base` where it begins when it stands on others. `told` are the columns that name a mark's exact values, `at` the
    place of each mark in them: a row id, or the number of a group of `groups`. `size` and `shade` are those of a
    scatter's marks, `boxes` those of a box plot, whose marks are what lies outside of them."""

    name: str
    place: int
    panel: int
    x: Floats
    y: Floats
    at: Ids
    told: tuple[tuple[Field, Column], ...]
    groups: RowGroups | None = None
    second: bool = False
    base: Floats | None = None
    size: Floats | None = None
    shade: Floats | None = None
    boxes: Boxes | None = None
    measure: str = ""

    def rows_of(self, marks: Ids | Mask) -> Ids:
        """Ids of the rows behind some marks."""
        at = self.at[marks]
        return np.sort(at) if self.groups is None else self.groups.rows_of(at)

    def holding(self, rows: Mask) -> Mask:
        """The marks that stand for any of the rows (by id)."""
        return rows.take(self.at) if self.groups is None else self.groups.holding(rows).take(self.at)

    def values(self, mark: int) -> list[tuple[str, str]]:
        """A mark's exact values, with their names."""
        at = int(self.at[mark])
        results = [(own.name, column.value(at), own) for own, column in self.told]
        return [(name, shown(value, own) or ("NULL" if value is None else "")) for name, value, own in results]


@dataclass(frozen=True, slots=True, eq=False)
class Drawn:
    """A chart's marks, its axes and panels; `rows` were looked at (of a
    table of `table_rows`), `notes` say what of them is not drawn. `edges` are
    the ends of a histogram's bins, `names` what the colours stand for."""

    chart: Chart
    x: Axis
    y: Axis
    second: Axis | None
    series: tuple[Series, ...]
    panels: tuple[str, ...] = ("",)
    names: tuple[str, ...] = ("",)
    rows: int = 0
    table_rows: int = 0
    notes: tuple[str, ...] = ()
    edges: Floats | None = None
    shade: Axis | None = None
    _ends: dict[bool, tuple[float, float] | None] = field(default_factory=dict, repr=False)
    _lines: dict[tuple[int, bool], Line] = field(default_factory=dict, repr=False)
    _clouds: dict[int, Cloud] = field(default_factory=dict, repr=False)

    def line(self, number: int, stop: StopToken = NEVER, base: bool = False) -> Line:
        """The line of a series, or that under it, looked at once and kept."""
        found = self._lines.get((number, base))
        if found is None:
            own = self.series[number]
            found = line_of(own.x, own.base if base and own.base is not None else own.y, stop)
            self._lines[(number, base)] = found
        return found

    def near(self, number: int, ends: tuple[float, float]) -> tuple[Floats, Floats, Floats | None]:
        """The points of a series near a stretch along the bottom, with their shades; of many, put in order once."""
        own = self.series[number]
        if len(own.x) < _MANY:
            return own.x, own.y, own.shade
        if number not in self._clouds:
            self._clouds[number] = cloud_of(own.x, own.y, own.shade)
        cloud = self._clouds[number]
        at = cloud.near(ends)
        return cloud.x[at], cloud.y[at], None if cloud.shade is None else cloud.shade[at]

    @property
    def marks(self) -> int:
        """How many there are."""
        return sum(len(each.x) for each in self.series)

    def x_ends(self) -> tuple[float, float] | None:
        """Where the marks begin and end along the bottom; None without any."""
        if self.x.kind == CATEGORY:
            return (-0.5, max(1, len(self.x.labels)) - 0.5)
        if self.edges is not None and len(self.edges):
            return float(self.edges[0]), float(self.edges[-1])
        return _ends([each.x for each in self.series])

    def y_ends(self, second: bool = False) -> tuple[float, float] | None:
        """The same of what stands up, on one of both axes."""
        if second not in self._ends:
            own = [each for each in self.series if each.second == second]
            if self.y.kind == CATEGORY:
                self._ends[second] = (-0.5, max(1, len(self.y.labels)) - 0.5)
            else:
                boxes = [part for each in own if each.boxes for part in (each.boxes.low, each.boxes.high)]
                found = _ends([*(each.y for each in own), *(e.base for e in own if e.base is not None), *boxes])
                self._ends[second] = found
        return self._ends[second]

    def as_table(self) -> Table:
        """The marks with their exact values: a table that can be copied and sent."""
        tables = []
        for each in self.series:
            at = each.at[:MOST_TOLD]
            columns = [(own, column.take(at)) for own, column in each.told]
            if len(self.panels) > 1 and not any(own.name == self.chart.panels.title for own, _ in columns):
                columns.insert(0, _constant(self.chart.panels.title, self.panels[each.panel], len(at)))
            if not each.told:
                columns = [_floats(self.x, each.x), _floats(self.y, each.y)]
            tables.append(Table(tuple(f for f, _ in columns), tuple(c for _, c in columns), len(at)))
        if not tables:
            return Table((), (), 0)
        fields = tables[0].fields
        if any([f.name for f in t.fields] != [f.name for f in fields] for t in tables):
            tables = tables[:1]
        made = [chained([t.columns[n] for t in tables]) for n in range(len(fields))]
        return Table(tuple(replace(f, kind=c.kind) for f, c in zip(fields, made, strict=True)), tuple(made),
                     sum(t.rows for t in tables))  # fmt: skip


def _constant(name: str, value: str, rows: int) -> tuple[Field, Column]:
    return Field(name, Kind.TEXT), column_of([value] * rows)


def _floats(axis: Axis, values: Floats) -> tuple[Field, Column]:
    if axis.kind == CATEGORY:
        return Field(axis.title, Kind.TEXT), column_of([axis.labels[int(v)] for v in values.tolist()])
    return Field(axis.title, Kind.FLOAT), Column(Kind.FLOAT, np.nan_to_num(values), np.isnan(values))


def _ends(parts: Sequence[Stored]) -> tuple[float, float] | None:
    lows = [float(np.fmin.reduce(part)) for part in parts if len(part)]
    highs = [float(np.fmax.reduce(part)) for part in parts if len(part)]
    lows, highs = [v for v in lows if v == v], [v for v in highs if v == v]
    return (min(lows), max(highs)) if lows else None


def place_text(axis: Axis, place: float) -> str:
    """A place on an axis in words, as a condition or a note has it."""
    if axis.kind == CATEGORY:
        number = round(place)
        return axis.labels[number] if 0 <= number < len(axis.labels) else ""
    return time_texts(place) if axis.kind == TIME else f"{place:.6g}"


def labels_of(column: Column, own: Field, at: Ids) -> list[str]:
    """What the values of a column are called."""
    return [label_of(value, own) for value in column.values(at)]
