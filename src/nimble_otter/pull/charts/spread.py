"""How values spread: histograms and boxes."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from nimble_otter.errors import ConditionError
from nimble_otter.pull.charts.data import Boxes, Drawn, RowGroups, Series
from nimble_otter.pull.charts.looked import Looked
from nimble_otter.pull.charts.places import CATEGORY, TIME, Axis, Floats, kind_of, places_of
from nimble_otter.pull.steps.group import FigureOf
from nimble_otter.table import Field, Kind, Table, View
from nimble_otter.table.core.columns import Column, Ids
from nimble_otter.table.kernels.codes import first_places
from nimble_otter.table.ops.group import group_view
from nimble_otter.table.ops.measures import AggregateFunction
from nimble_otter.translation import tr

_QUARTERS = tuple(FigureOf(AggregateFunction.QUANTILE, "", at) for at in (0.25, 0.5, 0.75))


def histogram(looked: Looked) -> Drawn:
    """How many rows lie in each of equal stretches of a column."""
    chart, ids = looked.chart, looked.view.row_ids()
    own, column = looked.field(chart.along.column)
    kind = kind_of(own)
    if kind == CATEGORY:
        raise ConditionError(
            tr("{own_name} holds {kind_value}, which has no bins.", own_name=own.name, kind_value=own.kind.value),
            tr("Bars count its values."),
        )
    values = looked.clean(places_of(column, own, ids), own.name, looked.empty(column, ids))
    looked.tell_missing(looked.empty(column, ids), own.name)
    keep = ~np.isnan(values)
    ids, values = ids[keep], values[keep]
    edges = bin_edges(values, chart.bins, own.kind in (Kind.INT, Kind.DATE))
    bins = len(edges) - 1
    places = np.clip(np.searchsorted(edges, values, side="right") - 1, 0, bins - 1)
    codes, names = looked.coded(chart.by, ids)
    panels, panel_names = looked.coded(chart.panels, ids)
    parts = (panels * len(names) + codes) * bins + places
    whole = len(names) * len(panel_names) * bins
    counts = np.bincount(parts, minlength=whole).astype(np.float64)
    groups = RowGroups(parts, ids, whole)
    middles = (edges[:-1] + edges[1:]) / 2
    keys = np.arange(whole)
    told = [(Field("from", Kind.FLOAT), _numbers_of(np.tile(edges[:-1], len(names) * len(panel_names)))),
            (Field("to", Kind.FLOAT), _numbers_of(np.tile(edges[1:], len(names) * len(panel_names)))),
            (Field("rows", Kind.INT), Column(Kind.INT, counts.astype(np.int64)))]  # fmt: skip
    if kind == TIME:
        told[:2] = [(Field(name, Kind.TIME), Column(Kind.TIME, np.rint(each.data * 86_400_000_000).astype(np.int64)))
                    for (name, each) in (("from", told[0][1]), ("to", told[1][1]))]  # fmt: skip
    if chart.by.column:
        index = looked.place(chart.by)
        examples = looked.view.table.columns[index].take(ids.take(first_places(codes, len(names))))
        told.insert(0, (looked.view.table.fields[index], examples.take(keys // bins % len(names))))
    heights = [counts]
    x = np.tile(middles, len(names) * len(panel_names))
    stack = chart if chart.stack != "beside" or len(names) == 1 else replace(chart, stack="stacked")
    looked.chart = stack
    bases = looked.stacked(x, keys // bins // len(names), keys // bins % len(names), heights)
    looked.chart = chart
    series = []
    for part in range(len(names) * len(panel_names)):
        mine = keys[part * bins : (part + 1) * bins]
        series.append(Series(names[part % len(names)], part % len(names), part // len(names), middles,
                             heights[0].take(mine), mine, tuple(told), groups,
                             base=None if bases is None else bases[0].take(mine), measure="rows"))  # fmt: skip
    x_axis = Axis(kind, chart.x_title or looked.title(chart.along.column), (), own)
    return replace(looked.made(x_axis, series, panel_names, names), edges=edges)


def boxes(looked: Looked) -> Drawn:
    """The quarters of the values of each category, and what lies far outside."""
    chart, up = looked.chart, looked.chart.up[0]
    own, column = looked.numbers(up)
    ids = looked.view.row_ids()
    values = looked.clean(places_of(column, own, ids), own.name, looked.empty(column, ids))
    looked.tell_missing(looked.empty(column, ids), own.name)
    keep = np.flatnonzero(~np.isnan(values))
    ids, values = ids.take(keep), values.take(keep)
    whole, keys = looked.view.table, [key for key in (chart.panels, chart.by, chart.along) if key.column]
    of_values = Table((*whole.fields, Field("\0", Kind.FLOAT)),
                      (*whole.columns, _spread(values, whole.rows, ids)), whole.rows)  # fmt: skip
    places = [looked.place(key) for key in keys]
    grouped = group_view(View(of_values, ids), places,
                       [replace(f, column="\0").measure(of_values) for f in _QUARTERS], looked.stop)  # fmt: skip
    leaves, level = grouped.leaves, grouped.levels[-1]
    first, median, third = (
        places_of(leaves.columns[len(keys) + n], leaves.fields[len(keys) + n], np.arange(leaves.rows)) for n in range(3)
    )
    reach = 1.5 * (third - first)
    inside = (values >= (first - reach)[level.codes]) & (values <= (third + reach)[level.codes])
    low, high = np.full(leaves.rows, np.inf), np.full(leaves.rows, -np.inf)
    np.minimum.at(low, level.codes[inside], values[inside])
    np.maximum.at(high, level.codes[inside], values[inside])
    x, labels = looked.along(leaves, len(keys) - 1, CATEGORY, level.codes)
    panels, panel_names = looked.codes_in(leaves, chart.panels, 0)
    codes, names = looked.codes_in(leaves, chart.by, 1 if chart.panels.column else 0)
    if chart.order in ("largest", "smallest", "rows"):
        x, labels = looked.reordered(x, labels, median, level.codes)
    groups = RowGroups(level.codes, ids, leaves.rows)
    words = ("low", "first quarter", "median", "third quarter", "high")
    figures = zip((f"{up.column} {word}" for word in words), (low, first, median, third, high), strict=True)
    told = tuple(zip(leaves.fields[: len(keys)], leaves.columns[: len(keys)], strict=True))
    told += tuple((Field(name, Kind.FLOAT), _numbers_of(each)) for name, each in figures)
    told += ((Field("rows", Kind.INT), Column(Kind.INT, level.counts)),)
    outside = np.flatnonzero(~inside)
    row_told = looked.told(up)
    series, parts = list[Series](), panels * len(names) + codes
    for part in range(len(names) * len(panel_names)):
        mine, name, index = np.flatnonzero(parts == part), names[part % len(names)], part % len(names)
        if not len(mine):
            continue
        boxes = Boxes(*(each.take(mine) for each in (first, median, third, low, high)))
        series.append(Series(name, index, part // len(names), x.take(mine), median.take(mine), mine, told, groups,
                             boxes=boxes, measure=up.column))  # fmt: skip
        far = outside[parts[level.codes[outside]] == part]
        if len(far):
            series.append(Series(name, index, part // len(names), x.take(level.codes[far]), values[far], ids[far],
                                 row_told, measure=up.column))  # fmt: skip
    x_axis = Axis(CATEGORY, chart.x_title or looked.along_title(), tuple(labels))
    return looked.made(x_axis, series, panel_names, names)


def bin_edges(values: Floats, wanted: int = 0, whole: bool = False) -> Floats:
    """The ends of bins of one width, at round numbers where nobody said how many; `whole`: not within whole numbers."""
    if not len(values):
        return np.array([0.0, 1.0])
    low, high = float(values.min()), float(values.max())
    if low == high:
        return np.array([low - 0.5, low + 0.5])
    if wanted:
        return np.linspace(low, high, wanted + 1)
    aim = (high - low) / max(8, min(40, np.sqrt(len(values))))
    power = 10.0 ** np.floor(np.log10(aim))
    step = next(power * n for n in (1, 2, 2.5, 5, 10) if power * n >= aim)
    step = max(1.0, np.ceil(step)) if whole else step
    start = np.floor(low / step) * step
    count = int(np.floor((high - start) / step)) + 1
    return np.asarray(start + step * np.arange(count + 1), np.float64)


def _numbers_of(values: Floats) -> Column:
    gone = ~np.isfinite(values)
    return Column(Kind.FLOAT, np.where(gone, 0.0, values), gone if gone.any() else None)


def _spread(values: Floats, rows: int, ids: Ids) -> Column:
    data = np.zeros(rows)
    data[ids] = values
    return Column(Kind.FLOAT, data)
