"""From rows to what a chart draws: raw rows, or figures by the same kernels that the Group step has."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import partial

import numpy as np

from nimble_otter.errors import ConditionError
from nimble_otter.pull.charts.data import Drawn, RowGroups, Series, labels_of
from nimble_otter.pull.charts.looked import Looked, by_value
from nimble_otter.pull.charts.model import Chart, ChartKind, Up
from nimble_otter.pull.charts.places import CATEGORY, NUMBER, Axis, Floats, kind_of, places_of
from nimble_otter.pull.charts.spread import boxes, histogram
from nimble_otter.pull.shaped import Shaped
from nimble_otter.pull.steps.group import KeyBy
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table.core.columns import Ids
from nimble_otter.table.kernels.keys import key_pieces
from nimble_otter.table.kernels.packing import order_by_codes, order_of
from nimble_otter.table.ops.group import group_view
from nimble_otter.table.text.show import grouped
from nimble_otter.translation import tr

MOST_BARS = 2000


def draw(shaped: Shaped, chart: Chart, stop: StopToken = NEVER) -> Drawn:
    """The marks of a chart over the rows as they stand (of groups the deepest level). Raises: ConditionError where the
    chart does not fit the rows, Stopped."""
    return _Drawing(shaped, chart, stop).drawn()


class _Drawing(Looked):
    def drawn(self) -> Drawn:
        """See `draw`."""
        chart = self.chart
        if not chart.along.column:
            raise ConditionError(tr("Nothing stands along the bottom yet."), tr("Choose a column for it."))
        if chart.kind is not ChartKind.HISTOGRAM and not chart.up:
            raise ConditionError(tr("Nothing stands up yet."), tr("Choose a column, or an aggregate."))
        if chart.kind is ChartKind.HEAT and not chart.by.column:
            raise ConditionError(tr("A heat map has two sides."), tr("Choose a column for the second."))
        self.shorten()
        make: Callable[[], Drawn] = {
            ChartKind.HISTOGRAM: lambda: histogram(self),
            ChartKind.BOX: lambda: boxes(self),
            ChartKind.HEAT: self._heat,
        }.get(chart.kind, self._raw)
        figures = [bool(each.figure) for each in chart.up]
        if chart.kind.has_figures and chart.kind is not ChartKind.HEAT and any(figures):
            if not all(figures):
                raise ConditionError(
                    tr("Aggregates and single rows don't stand in one chart."), tr("Choose an aggregate for each.")
                )
            make = self._figures
        return make()

    # --- each row a mark ---------------------------------------------------------------------------------------

    def _raw(self) -> Drawn:
        chart = self.chart
        if chart.kind in (ChartKind.AREA, ChartKind.BARS) and chart.stack != "beside":
            raise ConditionError(tr("Single rows don't stand on each other."), tr("Choose an aggregate, such as sum."))
        ids, x, x_axis = self._places_along()
        codes, names = self.coded(chart.by if not self.is_shade() else KeyBy(""), ids)
        panels, panel_names = self.coded(chart.panels, ids)
        shade_axis, shade, size = None, None, None
        if self.is_shade():
            of, shades = self.field(chart.by.column)
            shade, shade_axis = places_of(shades, of, ids), Axis(kind_of(of), self.title(chart.by.column), field=of)
        if chart.size:
            size = places_of(self.numbers(Up(chart.size))[1], self.field(chart.size)[0], ids)
        series, parts, count = list[Series](), panels * len(names) + codes, len(names) * len(panel_names)
        ends = np.cumsum(np.bincount(parts, minlength=count)) if count > 1 else np.array([len(ids)])
        order = order_by_codes(parts, count) if count > 1 else None
        for number, up in enumerate(chart.up):
            of, values = self.numbers(up)
            y = self.clean(places_of(values, of, ids), of.name, self.empty(values, ids))
            self.tell_missing(self.empty(values, ids), of.name)
            told = self.told(up)
            for part in range(count):
                own_part = None if order is None else order[ends[part - 1] if part else 0 : ends[part]]
                mine = self._mine(ids, x, y, own_part)
                if mine is not None and not len(mine):
                    continue
                at = ids if mine is None else ids.take(mine)
                own = [each if mine is None or each is None else each.take(mine) for each in (x, y, size, shade)]
                assert own[0] is not None
                assert own[1] is not None
                name, index = self.name(up, names[part % len(names)], number, part % len(names))
                series.append(Series(name, index, part // len(names), own[0], own[1], at, told, None, up.second,
                                     size=own[2], shade=own[3], measure=up.title))  # fmt: skip
        return self.made(x_axis, series, panel_names, names, shade_axis)

    def _mine(self, ids: Ids, x: Floats, y: Floats, mine: Ids | None) -> Ids | None:
        """The places of a series' marks among all rows (None: all of them), lines from left to right."""
        own_x, own_y = (x, y) if mine is None else (x.take(mine), y.take(mine))
        is_line = self.chart.kind in (ChartKind.LINE, ChartKind.AREA)
        gone = np.isnan(own_x) if is_line else np.isnan(own_x) | np.isnan(own_y)
        if gone.any():
            kept = np.flatnonzero(~gone)
            mine, own_x = (kept if mine is None else mine.take(kept)), own_x.take(kept)
        if is_line and (own_x[1:] < own_x[:-1]).any():
            order = self._order_along(ids if mine is None else ids.take(mine), own_x)
            mine = order if mine is None else mine.take(order)
        return mine

    def _order_along(self, ids: Ids, x: Floats) -> Ids:
        """Rows from left to right, by the kernel that sorts rows."""
        column = self.view.table.columns[self.place(self.chart.along)]
        order = order_of([partial(key_pieces, column, ids, False, False, self.stop)], len(ids), self.stop)
        along = x.take(order)
        if (along[1:] >= along[:-1]).all():
            return order
        return np.argsort(x, kind="stable")  # where clocks go back, an hour stands twice

    def _places_along(self) -> tuple[Ids, Floats, Axis]:
        """The rows in the order of their marks, where these stand along the bottom, and the axis there."""
        chart, ids, table = self.chart, self.view.row_ids(), self.view.table
        own, column = table.fields[self.place(chart.along)], table.columns[self.place(chart.along)]
        kind, labels = CATEGORY if chart.kind is ChartKind.BARS else kind_of(own), list[str]()
        if chart.kind is ChartKind.BARS:
            if len(ids) > MOST_BARS:
                raise ConditionError(
                    tr("{ids_count} rows are too many bars.", ids_count=grouped(len(ids))),
                    tr("Choose an aggregate, or fewer rows."),
                )
            ids = ids.take(self._rows_in_order(ids))
            x, labels = np.arange(len(ids), dtype=np.float64), labels_of(column, own, ids)
        elif kind == CATEGORY:
            codes, labels = self.coded(chart.along, ids)
            self.check_count(len(labels), own.name)
            x = codes.astype(np.float64)
        else:
            x = self.clean(places_of(column, own, ids), own.name, self.empty(column, ids))
            self.tell_missing(self.empty(column, ids), own.name)
        return ids, x, Axis(kind, chart.x_title or self.along_title(), tuple(labels), own)

    def _rows_in_order(self, ids: Ids) -> Ids:
        if self.chart.order == "rows":
            return np.arange(len(ids))
        if self.chart.order == "along":
            codes, _ = self.coded(self.chart.along, ids)
            return np.argsort(codes, kind="stable")
        of, values = self.numbers(self.chart.up[0])
        return by_value(places_of(values, of, ids), self.chart.order)

    # --- figures of many rows ----------------------------------------------------------------------------------

    def _figures(self) -> Drawn:
        chart, table = self.chart, self.view.table
        keys = [key for key in (chart.panels, chart.by, chart.along) if key.column]
        found = group_view(self.view, [self.place(key) for key in keys],
                           [each.figure_of.measure(table) for each in chart.up], self.stop)  # fmt: skip
        leaves, level = found.leaves, found.levels[-1]
        every, groups = np.arange(leaves.rows), RowGroups(level.codes, level.ids, leaves.rows)
        along = len(keys) - 1
        own = leaves.fields[along]
        kind = kind_of(own, chart.along.part)
        x, labels = self.along(leaves, along, kind, level.codes)
        panels, panel_names = self.codes_in(leaves, chart.panels, 0)
        codes, names = self.codes_in(leaves, chart.by, 1 if chart.panels.column else 0)
        if not labels:
            self.tell_missing(int(level.counts[np.isnan(x)].sum()), own.name)
        heights = []
        for number, _ in enumerate(chart.up):
            of, column = leaves.fields[len(keys) + number], leaves.columns[len(keys) + number]
            if kind_of(of) not in (NUMBER,):
                raise ConditionError(
                    tr(
                        "{up_title} holds {kind_value}, which has no height.",
                        up_title=chart.up[number].title,
                        kind_value=of.kind.value,
                    ),
                    tr("Choose another aggregate."),
                )
            found_up = places_of(column, of, every)
            heights.append(self.clean(found_up, chart.up[number].title, self.empty(column, every)))
        if labels and chart.order in ("largest", "smallest", "rows"):
            x, labels = self.reordered(x, labels, heights[0], level.codes)
        bases = self.stacked(x, panels, codes, heights)
        series, titled = list[Series](), leaves.with_fields(
            [*leaves.fields[: len(keys)], *(replace(f, name=u.title) for f, u in
                                            zip(leaves.fields[len(keys) :], chart.up, strict=True))])  # fmt: skip
        for number, up in enumerate(chart.up):
            told = tuple((titled.fields[n], titled.columns[n]) for n in (*range(len(keys)), len(keys) + number))
            for part in range(len(names) * len(panel_names)):
                mine = np.flatnonzero((panels * len(names) + codes == part) & ~np.isnan(x))
                mine = mine.take(np.argsort(x.take(mine), kind="stable"))
                if not len(mine):
                    continue
                base = None if bases is None else bases[number].take(mine)
                name, index = self.name(up, names[part % len(names)], number, part % len(names))
                series.append(Series(name, index, part // len(names), x.take(mine), heights[number].take(mine), mine,
                                     told, groups, up.second, base, measure=up.title))  # fmt: skip
        x_axis = Axis(CATEGORY if labels else kind, chart.x_title or self.along_title(), tuple(labels), own)
        return self.made(x_axis, series, panel_names, names)

    # --- heat map ----------------------------------------------------------------------------------------------

    def _heat(self) -> Drawn:
        chart, up = self.chart, self.chart.up[0]
        if not up.figure:
            raise ConditionError(tr("A heat map shows aggregates."), tr("Choose one, such as rows or mean."))
        keys = [key for key in (chart.panels, chart.by, chart.along) if key.column]
        found = group_view(self.view, [self.place(key) for key in keys], [up.figure_of.measure(self.view.table)],
                           self.stop)  # fmt: skip
        leaves, level, every = found.leaves, found.levels[-1], np.arange(found.leaves.rows)
        of = replace(leaves.fields[-1], name=up.title)
        if kind_of(of) != NUMBER:
            raise ConditionError(
                tr("{up_title} holds {kind_value}, which has no shade.", up_title=up.title, kind_value=of.kind.value),
                tr("Choose another aggregate."),
            )
        panels, panel_names = self.codes_in(leaves, chart.panels, 0)
        x, x_names = self.codes_in(leaves, chart.along, len(keys) - 1)
        y, y_names = self.codes_in(leaves, chart.by, len(keys) - 2)
        self.check_count(len(x_names), chart.along.title)
        self.check_count(len(y_names), chart.by.title)
        if chart.order in ("largest", "smallest", "rows"):
            heights = places_of(leaves.columns[-1], of, every)
            places, x_names = self.reordered(x.astype(np.float64), x_names, heights, level.codes)
            x = places.astype(np.int64)
        shade = self.clean(places_of(leaves.columns[-1], of, every), up.title, self.empty(leaves.columns[-1], every))
        groups = RowGroups(level.codes, level.ids, leaves.rows)
        told = tuple(zip((*leaves.fields[:-1], of), leaves.columns, strict=True))
        series = []
        for panel in range(len(panel_names)):
            mine = np.flatnonzero((panels == panel) & ~np.isnan(shade))
            series.append(Series("", 0, panel, x.take(mine).astype(np.float64), y.take(mine).astype(np.float64), mine,
                                 told, groups, shade=shade.take(mine), measure=up.title))  # fmt: skip
        drawn = self.made(
            Axis(CATEGORY, chart.x_title or self.along_title(), tuple(x_names)), series, panel_names, [""]
        )
        y_axis = Axis(CATEGORY, chart.y_title or chart.by.title, tuple(y_names))
        return replace(drawn, y=y_axis, shade=Axis(NUMBER, up.title, field=of))
