"""Which mark a pointer means, and which rows lie within a stretch of a chart."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from nimble_otter.pull.charts.data import Drawn, Series
from nimble_otter.pull.charts.ground import Ground
from nimble_otter.pull.charts.model import ChartKind
from nimble_otter.table.core.columns import Ids, Mask

REACH_PX = 9.0
MOST_LOOKED = 400_000
"""Marks in no order among which the nearest is looked for."""
_NEAR = 20_000
BAR, BOX = 0.76, 0.7
"""How much of the room of a category bars and boxes take."""


@dataclass(frozen=True, slots=True)
class Hit:
    """A mark: the place of its series, and its own within that."""

    series: int
    mark: int


def bar_room(drawn: Drawn) -> tuple[float, dict[int, float]]:
    """How wide bars (or boxes) are, and how far those of each colour stand beside the middle of their category."""
    if drawn.chart.kind is ChartKind.BOX:
        whole = BOX
    else:
        whole = BAR if drawn.edges is None else float(drawn.edges[1] - drawn.edges[0]) * 0.96
    places = sorted({each.place for each in drawn.series})
    if any(each.base is not None for each in drawn.series):
        return whole, dict.fromkeys(places, 0.0)
    one = whole / max(1, len(places))
    return one, {place: -whole / 2 + one * (n + 0.5) for n, place in enumerate(places)}


def hit(drawn: Drawn, ground: Ground, panel: int, x: float, y: float) -> Hit | None:
    """The mark at a pixel of a panel; the nearest within reach where marks are points."""
    if not ground.holds(x, y):
        return None
    kind, own = drawn.chart.kind, [(n, each) for n, each in enumerate(drawn.series) if each.panel == panel]
    is_sideways = drawn.chart.sideways and kind in (ChartKind.BARS, ChartKind.BOX)
    across, up = ground.place(x, y)
    across, up = (up, across) if is_sideways else (across, up)
    if kind is ChartKind.HEAT:
        for n, each in own:
            found = np.flatnonzero((each.x == round(across)) & (each.y == round(up)))
            if len(found):
                return Hit(n, int(found[0]))
        return None
    if kind in (ChartKind.BARS, ChartKind.HISTOGRAM, ChartKind.BOX):
        found_bar = _bar(drawn, own, across, up)
        if found_bar is not None or kind is not ChartKind.BOX:
            return found_bar
        own = [(n, each) for n, each in own if each.boxes is None]
    return _nearest(drawn, ground, own, (x, y), is_sideways)


def _bar(drawn: Drawn, own: list[tuple[int, Series]], across: float, up: float) -> Hit | None:
    width, shifts = bar_room(drawn)
    for n, each in own:
        if drawn.chart.kind is ChartKind.BOX and each.boxes is None:
            continue
        inside = np.abs(each.x + shifts[each.place] - across) <= width / 2
        if each.boxes is not None:
            inside &= (up >= each.boxes.low) & (up <= each.boxes.high)
        else:
            base = np.zeros(len(each.y)) if each.base is None else each.base
            inside &= (up >= np.minimum(base, each.y)) & (up <= np.maximum(base, each.y))
        found = np.flatnonzero(inside)
        if len(found):
            return Hit(n, int(found[0]))
    return None


def _nearest(
    drawn: Drawn, ground: Ground, own: list[tuple[int, Series]], at: tuple[float, float], is_sideways: bool
) -> Hit | None:
    best, least = None, REACH_PX**2
    _, shifts = bar_room(drawn) if drawn.chart.kind is ChartKind.BOX else (0.0, {})
    is_line = drawn.chart.kind in (ChartKind.LINE, ChartKind.AREA)
    for n, each in own:
        first, last = 0, len(each.x)
        if is_line:
            ends = sorted(ground.place(at[0] + way * REACH_PX, at[1])[0] for way in (-1, 1))
            first, last = (int(v) for v in np.searchsorted(each.x, ends))
        elif len(each.x) > MOST_LOOKED:
            continue
        step = max(1, (last - first) // _NEAR) if is_line else 1
        x, y = each.x[first:last:step] + shifts.get(each.place, 0.0), each.y[first:last:step]
        if not len(x):
            continue
        across, down = ground.pixels(*((y, x) if is_sideways else (x, y)), second=each.second)
        far = (across - at[0]) ** 2 + (down - at[1]) ** 2
        far = np.where(np.isnan(far), np.inf, far)
        index = int(np.argmin(far))
        if far[index] < least:
            best, least = Hit(n, first + index * step), float(far[index])
    return best


def rows_within(drawn: Drawn, panel: int, x: tuple[float, float], y: tuple[float, float] | None) -> Ids:
    """Ids of the rows whose marks lie within a stretch of a panel's axes (`y` None: whatever stands up), ascending.
    Categories are within as a whole, where their middles are."""
    results = []
    for each in drawn.series:
        if each.panel != panel:
            continue
        inside: Mask = (each.x >= x[0]) & (each.x <= x[1])
        if y is not None and each.boxes is None:
            inside &= (each.y >= y[0]) & (each.y <= y[1])
        if inside.any():
            results.append(each.rows_of(inside))
    picked = np.zeros(drawn.table_rows, np.bool_)
    for rows in results:
        picked[rows] = True
    return np.flatnonzero(picked)


def rows_inside(drawn: Drawn, ground: Ground, panel: int, outline: Sequence[tuple[float, float]]) -> Ids:
    """Ids of the rows whose marks lie within an outline of pixels, ascending (the even-odd rule)."""
    kind = drawn.chart.kind
    is_sideways = drawn.chart.sideways and kind in (ChartKind.BARS, ChartKind.BOX)
    shifts = bar_room(drawn)[1] if kind in (ChartKind.BARS, ChartKind.BOX) else {}
    picked = np.zeros(drawn.table_rows, np.bool_)
    for each in drawn.series:
        if each.panel != panel:
            continue
        x = each.x + shifts.get(each.place, 0.0)
        across, down = ground.pixels(*((each.y, x) if is_sideways else (x, each.y)), second=each.second)
        inside = np.zeros(len(across), np.bool_)
        for (x0, y0), (x1, y1) in zip(outline, [*outline[1:], outline[0]], strict=True):
            if y0 != y1:
                crosses = (y0 > down) != (y1 > down)
                inside ^= crosses & (across < (x1 - x0) * (down - y0) / (y1 - y0) + x0)
        picked[each.rows_of(inside)] = True
    return np.flatnonzero(picked)


def step(drawn: Drawn, at: Hit | None, way: tuple[int, int]) -> Hit | None:
    """The mark beside another: along its series (`way` (1, 0) or (-1, 0)), or the nearest of the next (0, 1). Marks
    that stand nowhere are passed over."""
    own = [n for n, each in enumerate(drawn.series) if len(each.x) and not np.isnan(each.y).all()]
    if not own:
        return None
    if at is None or at.series not in own:
        n = own[0]
        return Hit(n, int(np.flatnonzero(~np.isnan(drawn.series[n].y))[0]))
    each = drawn.series[at.series]
    if way[0]:
        order = np.argsort(each.x, kind="stable")
        order = order[~np.isnan(each.y.take(order))]
        index = int(np.flatnonzero(order == at.mark)[0]) + way[0] if at.mark in order else 0
        return Hit(at.series, int(order[max(0, min(len(order) - 1, index))]))
    n = own[(own.index(at.series) + way[1]) % len(own)]
    other = drawn.series[n]
    far = np.abs(other.x - each.x[at.mark])
    return Hit(n, int(np.argmin(np.where(np.isnan(other.y), np.inf, far))))
