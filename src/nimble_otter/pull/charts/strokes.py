"""The marks of a chart as matplotlib draws them: lines, areas, bars, boxes, points, shades, and what lies over them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from matplotlib.axes import Axes
from matplotlib.collections import LineCollection, PolyCollection
from matplotlib.colors import LinearSegmentedColormap, to_rgba
from matplotlib.figure import Figure

from nimble_otter.errors import ConditionError
from nimble_otter.pull.charts.data import Drawn, Series
from nimble_otter.pull.charts.ground import Ground, finite_ends, logged
from nimble_otter.pull.charts.hits import bar_room
from nimble_otter.pull.charts.looks import DASHES, HATCHES, SHAPES, TEXT_PX, Look
from nimble_otter.pull.charts.model import ChartKind, Scale, marks_of, value_on_axis
from nimble_otter.pull.charts.places import CATEGORY, TIME, Axis, Floats
from nimble_otter.pull.charts.reduce import reduce_line, spots_of
from nimble_otter.pull.charts.ticks import number_words, set_ticks
from nimble_otter.stop import StopToken
from nimble_otter.table.core.columns import Mask

MOST_SINGLE = 4000
"""Points that are drawn one by one; more are drawn as how many fall on each spot."""
DPI = 100
PT = 72 / DPI
"""Points in a pixel."""
_SPOT_PX = 2.0
_PIECE = 64
"""Points of a dense line that are drawn together."""
_MOST_WORDS = 400
"""Cells of a heat map that have their figures written in."""


class Strokes:
    """Draws the marks of a chart into the panels of a figure of `size` pixels; `points` counts what was drawn."""

    def __init__(
        self, drawn: Drawn, look: Look, figure: Figure, size: tuple[int, int], scale: float, stop: StopToken
    ) -> None:
        self.drawn, self.chart, self.look, self.figure, self.stop = drawn, drawn.chart, look, figure, stop
        (self.width, self.height), self.scale, self.points = size, scale, 0
        self.is_closer = False
        """Whether only a part of the chart is looked at."""
        self.is_sideways = self.chart.sideways and self.chart.kind in (ChartKind.BARS, ChartKind.BOX)

    @property
    def labels_at_ends(self) -> bool:
        """Whether lines have their names at their ends."""
        return (self.chart.kind is ChartKind.LINE and self.chart.legend == "auto" and len(self.drawn.panels) == 1
                and 1 < len(self.drawn.names) <= 8 and self.drawn.second is None
                and len(self.chart.up) == 1 | (not self.chart.by.column))  # fmt: skip

    # --- the marks ---------------------------------------------------------------------------------------------

    def fill(self, axes: Axes, twin: Axes | None, panel: int, ground: Ground, second_scale: Scale) -> None:
        """Draw a panel; `twin` has the second axis."""
        own = [(n, each) for n, each in enumerate(self.drawn.series) if each.panel == panel]
        kind = self.chart.kind
        self._bands(axes, ground)
        if kind is ChartKind.HEAT:
            for _, each in own:
                self._heat(axes, each, ground)
        elif kind in (ChartKind.BARS, ChartKind.HISTOGRAM):
            self._bars(axes, twin, own, (ground.value_scale(self.is_sideways), second_scale))
        elif kind is ChartKind.BOX:
            self._boxes(axes, own)
        elif kind is ChartKind.SCATTER:
            self._scatter(axes, own, ground)
        else:
            ends = []
            for number, each in own:
                on = twin if each.second and twin is not None else axes
                ends.append(self._line(on, number, each, ground))
            if self.labels_at_ends:
                self._name_ends(axes, own, ends, ground)
        self._lines_across(axes, ground)
        self._notes(axes, ground)

    def _columns(self, ground: Ground) -> Floats:
        """The ends of columns of pixels."""
        count = max(2, int(ground.width * self.scale))
        if ground.x_scale.is_log:
            return np.geomspace(ground.x[0], ground.x[1], count + 1)
        return np.linspace(ground.x[0], ground.x[1], count + 1)

    def _line(self, axes: Axes, number: int, each: Series, ground: Ground) -> tuple[float, float] | None:
        columns = self._columns(ground)
        x, y = reduce_line(self.drawn.line(number, self.stop), columns, self.stop)
        self.points += len(x)
        colour, index = self.look.colour(self.chart.palette, each.place), each.place
        dash = DASHES[index % len(DASHES)]
        is_dense = len(x) >= 2 * len(columns)
        style: Any = (0, dash) if dash and len(x) <= ground.width / 2 else "-"
        if self.chart.kind is ChartKind.AREA:
            base: Any = 0.0
            if each.base is not None:
                under = reduce_line(self.drawn.line(number, self.stop, base=True), columns, self.stop)[1]
                base = under if len(under) == len(y) else np.interp(x, each.x, each.base)
            hatch = HATCHES[index % len(HATCHES)] or None
            axes.fill_between(x, base, y, color=to_rgba(colour, 0.85 if each.base is not None else 0.3), linewidth=0,
                              hatch=hatch, edgecolor=to_rgba(self.look.surface, 0.5))  # fmt: skip
        if is_dense:  # in pieces: one long path that crosses itself again and again takes its time
            points = np.stack([x, y], axis=1)
            pieces = [points[n : n + _PIECE + 1] for n in range(0, len(points), _PIECE)]
            axes.add_collection(
                LineCollection(pieces, colors=[colour], linewidths=1.0, antialiaseds=False), autolim=False
            )
        else:
            axes.plot(x, y, color=colour, linewidth=1.5, linestyle=style, solid_joinstyle="round")
        if len(self.drawn.names) > 1 and len(x) > ground.width / 2:  # no dashes can be seen there
            some = x[:: max(1, len(x) // 7)], y[:: max(1, len(x) // 7)]
            axes.plot(*some, linestyle="", marker=SHAPES[index % len(SHAPES)], markersize=6, color=colour,
                      markeredgecolor=self.look.surface, markeredgewidth=0.8)  # fmt: skip
        if len(x) <= 60:
            alone = _alone(y)
            if alone.any():  # a point between two gaps has no line
                axes.plot(x[alone], y[alone], color=colour, marker="o", markersize=3, linestyle="")
        inside = np.flatnonzero(~np.isnan(y) & (x >= ground.x[0]) & (x <= ground.x[1]))
        return (float(x[inside[-1]]), float(y[inside[-1]])) if len(inside) else None

    def _name_ends(
        self, axes: Axes, own: Sequence[tuple[int, Series]], ends: Sequence[tuple[float, float] | None], ground: Ground
    ) -> None:
        """Names beside the ends of lines, moved apart where they would cover each other."""
        results = [(each, end) for (_, each), end in zip(own, ends, strict=True) if end is not None]
        if not results:
            return
        places = ground.pixels(np.array([end[0] for _, end in results]), np.array([end[1] for _, end in results]))[1]
        order, least = np.argsort(places, kind="stable"), 13.0
        tops = np.clip(places[order], ground.top + 4, ground.top + ground.height - 4)
        for n in range(1, len(tops)):
            tops[n] = max(tops[n], tops[n - 1] + least)
        over = tops[-1] - (ground.top + ground.height) if len(tops) else 0
        if over > 0:
            tops -= over
        for n, place in enumerate(order.tolist()):
            each = results[place][0]
            up = 1 - tops[n] / self.height
            self.figure.text((ground.left + ground.width + 6) / self.width, up, each.name, va="center", ha="left",
                             fontsize=TEXT_PX * PT, fontweight=600,
                             color=self.look.colour(self.chart.palette, each.place))  # fmt: skip

    def _bars(
        self, axes: Axes, twin: Axes | None, own: Sequence[tuple[int, Series]], scales: tuple[Scale, Scale]
    ) -> None:
        first, second = scales
        width, shifts = bar_room(self.drawn)
        for _, each in own:
            shift = shifts[each.place]
            keep = ~(np.isnan(each.y) | np.isnan(each.x))
            middle, high = each.x[keep] + shift, each.y[keep]
            low = np.zeros(len(high)) if each.base is None else each.base[keep]
            if (second if each.second else first).is_log:
                low = np.full(len(high), 1e-300)
            half = width * (0.5 if each.base is not None or len(shifts) == 1 else 0.47)
            corners = _corners(middle - half, middle + half, low, high)
            self._polygons(twin if each.second and twin is not None else axes, corners, each)
            self.points += len(high)

    def _polygons(self, axes: Axes, corners: Floats, each: Series, alpha: float = 1.0) -> None:
        if self.is_sideways:
            corners = corners[:, :, ::-1]
        colour = to_rgba(self.look.colour(self.chart.palette, each.place), alpha)
        hatch = HATCHES[each.place % len(HATCHES)] if len(self.drawn.names) > 1 else ""
        axes.add_collection(
            PolyCollection(corners, facecolors=[colour], edgecolors=[to_rgba(self.look.surface, 0.55)],
                           linewidths=0.6 if len(corners) < 200 else 0, hatch=hatch or None), autolim=False
        )  # fmt: skip

    def _boxes(self, axes: Axes, own: Sequence[tuple[int, Series]]) -> None:
        beside = sorted({each.place for _, each in own})
        one = 0.7 / max(1, len(beside))
        for _, each in own:
            shift, colour = (
                -0.35 + one * (beside.index(each.place) + 0.5),
                self.look.colour(self.chart.palette, each.place),
            )
            middle = each.x + shift
            if each.boxes is None:
                self._points(axes, middle, each.y, colour, "o", 3.0, hollow=True)
                continue
            half, b = one * 0.42, each.boxes
            corners = _corners(middle - half, middle + half, b.first, b.third)
            self._polygons(axes, corners, each, 0.45)
            across = [(middle - half, b.median, middle + half, b.median), (middle, b.low, middle, b.first),
                      (middle, b.third, middle, b.high), (middle - half / 2, b.low, middle + half / 2, b.low),
                      (middle - half / 2, b.high, middle + half / 2, b.high)]  # fmt: skip
            for n, (x0, y0, x1, y1) in enumerate(across):
                strokes = np.stack([np.stack([x0, y0], 1), np.stack([x1, y1], 1)], 1)
                strokes = strokes[:, :, ::-1] if self.is_sideways else strokes
                axes.add_collection(
                    LineCollection(strokes, colors=[colour], linewidths=2.0 if n == 0 else 1.0), autolim=False
                )
            self.points += len(middle)

    def _points(
        self, axes: Axes, x: Floats, y: Floats, colour: str, shape: str, size: float, hollow: bool = False
    ) -> None:
        x, y = (y, x) if self.is_sideways else (x, y)
        if len(x) > MOST_SINGLE:
            keep = np.unique(np.random.default_rng(0).integers(0, len(x), MOST_SINGLE))
            ends = np.array([np.nanargmin(y), np.nanargmax(y), np.nanargmin(x), np.nanargmax(x)])
            keep = np.union1d(keep, ends)
            x, y = x[keep], y[keep]
        self.points += len(x)
        axes.plot(x, y, linestyle="", marker=shape, markersize=size, color=colour, alpha=0.8,
                  markerfacecolor="none" if hollow else colour, markeredgewidth=0.8 if hollow else 0)  # fmt: skip

    def _scatter(self, axes: Axes, own: Sequence[tuple[int, Series]], ground: Ground) -> None:
        whole = sum(len(each.x) for _, each in own)
        shades = [each.shade for _, each in own if each.shade is not None]
        limits = finite_ends(shades)
        if whole > MOST_SINGLE:
            self._spots(axes, own, ground, limits)
        sizes = finite_ends([each.size for _, each in own if each.size is not None])
        for _, each in own if whole <= MOST_SINGLE else ():
            colour: Any = self.look.colour(self.chart.palette, each.place)
            area: Any = 26.0
            if each.size is not None and sizes is not None:
                area = 8 + 150 * (np.nan_to_num(each.size, nan=sizes[0]) - sizes[0]) / ((sizes[1] - sizes[0]) or 1)
            more: dict[str, Any] = {"color": colour}
            if each.shade is not None and limits is not None:
                more = {"c": each.shade, "cmap": self._shades(), "vmin": limits[0], "vmax": limits[1],
                        "plotnonfinite": True}  # fmt: skip
            axes.scatter(
                each.x, each.y, s=area, marker=SHAPES[each.place % len(SHAPES)], alpha=0.75, linewidths=0, **more
            )
            self.points += len(each.x)
        if limits is not None and self.drawn.shade is not None:
            self._shade_bar(axes, ground, limits)

    def _spots(
        self, axes: Axes, own: Sequence[tuple[int, Series]], ground: Ground, limits: tuple[float, float] | None
    ) -> None:
        """How many points fall on each spot: the more, the stronger the colour, which is that of most of them."""
        columns, rows = max(2, int(ground.width / _SPOT_PX)), max(2, int(ground.height / _SPOT_PX))
        x_ends, y_ends = ground.x, ground.y
        mixed, weights = np.zeros((rows, columns, 3)), np.zeros((rows, columns))
        shaded = np.zeros((rows, columns))
        for number, each in own:
            x, y, shade = each.x, each.y, each.shade
            if self.is_closer:
                x, y, shade = self.drawn.near(number, ground.x)
            if ground.x_scale.is_log or ground.y_scale.is_log:
                with np.errstate(invalid="ignore", divide="ignore"):
                    x = np.log10(x) if ground.x_scale.is_log else x
                    y = np.log10(y) if ground.y_scale.is_log else y
                x_ends = logged(ground.x) if ground.x_scale.is_log else ground.x
                y_ends = logged(ground.y) if ground.y_scale.is_log else ground.y
            spots = spots_of(x, y, x_ends, y_ends, columns, rows, shade, self.stop)
            colour = np.array(to_rgba(self.look.colour(self.chart.palette, each.place))[:3])
            mixed += spots.counts[:, :, None] * colour
            weights += spots.counts
            if spots.shades is not None:
                shaded += spots.shades
        filled = weights > 0
        image = np.zeros((rows, columns, 4))
        if limits is not None:
            level = np.divide(shaded, weights, out=np.zeros_like(shaded), where=filled)
            image[:] = self._shades()((level - limits[0]) / ((limits[1] - limits[0]) or 1))
        else:
            image[:, :, :3] = np.divide(mixed, weights[:, :, None], out=np.zeros_like(mixed), where=filled[:, :, None])
        most = np.log1p(weights.max()) or 1.0
        image[:, :, 3] = np.where(filled, 0.3 + 0.7 * np.log1p(weights) / most, 0.0)
        image = image[:, ::-1] if ground.x_scale.is_reversed else image
        image = image[::-1] if ground.y_scale.is_reversed else image
        under = self.figure.add_axes(axes.get_position(), zorder=axes.get_zorder() + 0.5)
        under.set_axis_off()
        under.imshow(image, origin="lower", aspect="auto", interpolation="nearest", extent=(0, 1, 0, 1))
        self.points += int(filled.sum())

    def _shades(self) -> LinearSegmentedColormap:
        made = LinearSegmentedColormap.from_list("own", self.look.shades[self.chart.palette])
        return made.with_extremes(bad=self.look.line)

    def _shade_bar(self, axes: Axes, ground: Ground, limits: tuple[float, float]) -> None:
        assert self.drawn.shade is not None
        x = self.width - 62
        bar = self.figure.add_axes((x / self.width, 1 - (ground.top + ground.height) / self.height, 10 / self.width,
                                    ground.height / self.height))  # fmt: skip
        bar.imshow(np.linspace(0, 1, 128)[:, None], origin="lower", aspect="auto", cmap=self._shades(),
                   extent=(0, 1, *limits) if limits[0] < limits[1] else (0, 1, limits[0], limits[0] + 1))  # fmt: skip
        for side in bar.spines.values():
            side.set_visible(False)
        bar.xaxis.set_visible(False)
        set_ticks(bar.yaxis, self.drawn.shade, ground.height)
        bar.yaxis.tick_right()
        bar.tick_params(colors=self.look.muted, labelsize=TEXT_PX * PT, length=0)
        bar.set_title(self.drawn.shade.title, fontsize=TEXT_PX * PT, color=self.look.muted, loc="right", pad=5)

    def _heat(self, axes: Axes, each: Series, ground: Ground) -> None:
        rows, columns = len(self.drawn.y.labels), len(self.drawn.x.labels)
        assert each.shade is not None
        shown = np.full((max(1, rows), max(1, columns)), np.nan)
        at = each.y.astype(np.int64), each.x.astype(np.int64)
        shown[at] = each.shade
        limits = finite_ends([s.shade for s in self.drawn.series if s.shade is not None]) or (0.0, 1.0)
        axes.imshow(np.ma.masked_invalid(shown), origin="lower", aspect="auto", interpolation="nearest",
                    cmap=self._shades(), vmin=limits[0], vmax=limits[1])  # fmt: skip
        axes.set_xlim(*(ground.x[::-1] if ground.x_scale.is_reversed else ground.x))
        axes.set_ylim(*(ground.y[::-1] if ground.y_scale.is_reversed else ground.y))
        self.points += len(each.x)
        if len(each.x) <= _MOST_WORDS and ground.width / max(1, columns) > 38 and ground.height / max(1, rows) > 15:
            words = number_words(self.drawn.shade.field if self.drawn.shade is not None else None)
            span = (limits[1] - limits[0]) or 1.0
            for x, y, value in zip(each.x.tolist(), each.y.tolist(), each.shade.tolist(), strict=True):
                dark = sum(self._shades()((value - limits[0]) / span)[:3]) < 1.5
                axes.text(x, y, words(float(f"{value:.4g}")), ha="center", va="center", fontsize=TEXT_PX * PT,
                          color="#FFFFFF" if dark else "#1D2B2F")  # fmt: skip
        self._shade_bar(axes, ground, limits)

    # --- what is put over it -----------------------------------------------------------------------------------

    def _bands(self, axes: Axes, ground: Ground) -> None:
        for mark in marks_of(self.chart.lines):
            if mark.high is not None:
                span = axes.axvspan if self._is_upright(mark.is_moment) else axes.axhspan
                span(mark.low, mark.high, color=to_rgba(self.look.warn, 0.12), linewidth=0, zorder=0.5)
                self._mark_words(axes, mark.high, mark.words, self._is_upright(mark.is_moment), inside=True)

    def _is_upright(self, is_moment: bool) -> bool:
        return (is_moment and self.drawn.x.kind == TIME) != self.is_sideways

    def _lines_across(self, axes: Axes, ground: Ground) -> None:
        for mark in marks_of(self.chart.lines):
            if mark.high is None:
                upright = self._is_upright(mark.is_moment)
                (axes.axvline if upright else axes.axhline)(
                    mark.low, color=self.look.warn, linewidth=1, linestyle=(0, (5, 3))
                )
                self._mark_words(axes, mark.low, mark.words, upright)

    def _mark_words(self, axes: Axes, at: float, words: str, upright: bool, inside: bool = False) -> None:
        said: dict[str, Any] = {"fontsize": TEXT_PX * PT, "color": self.look.warn, "textcoords": "offset points",
                                "annotation_clip": True}  # fmt: skip
        if upright:
            axes.annotate(words, (at, 1), (4, -3), xycoords=("data", "axes fraction"), va="top", ha="left", **said)
        else:
            side = {"va": "top", "xytext": (-2, -3)} if inside else {"va": "bottom", "xytext": (-2, 3)}
            axes.annotate(words, (1, at), xycoords=("axes fraction", "data"), ha="right", **side, **said)

    def _notes(self, axes: Axes, ground: Ground) -> None:
        for note in self.chart.notes:
            x, y = self._on_axis(self.drawn.x, note.x), self._on_axis(self.drawn.y, note.y)
            if x is None or y is None:
                continue
            x, y = (y, x) if self.is_sideways else (x, y)
            axes.plot([x], [y], marker="o", markersize=4, color=self.look.ink, linestyle="")
            axes.annotate(note.text, (x, y), (7, 7), textcoords="offset points", fontsize=TEXT_PX * PT,
                          color=self.look.ink, annotation_clip=True)  # fmt: skip

    @staticmethod
    def _on_axis(axis: Axis, text: str) -> float | None:
        if axis.kind == CATEGORY:
            return float(axis.labels.index(text)) if text in axis.labels else None
        try:
            return value_on_axis(text)
        except ConditionError:
            return None


def _corners(left: Floats, right: Floats, low: Floats, high: Floats) -> Floats:
    """The corners of boxes that stand upright; shape (boxes, 4, 2)."""
    corners = ((left, low), (left, high), (right, high), (right, low))
    return np.stack([np.stack(corner, axis=1) for corner in corners], axis=1)


def _alone(y: Floats) -> Mask:
    """Points with a gap, or an end, on both sides."""
    gone = np.isnan(y)
    before, after = np.append(True, gone[:-1]), np.append(gone[1:], True)
    return np.asarray(~gone & before & after)
