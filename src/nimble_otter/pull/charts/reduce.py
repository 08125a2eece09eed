"""Many marks brought down to what pixels can show: lines by their extremes in each column of pixels, points by how many
fall on each spot. What is drawn reaches as far, column by column, as all marks would."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from nimble_otter.pull.charts.places import Floats
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table.core.columns import Ids
from nimble_otter.table.kernels.packing import order_by_codes, slots_of

_BUCKETS = 2048
"""Stretches that points are put in the order of."""
_PART = 1 << 18
"""Points that are counted at once."""
_BLOCK = 256
"""Marks whose extremes are known together."""
FEW = 4
"""Points of a line in each column of pixels: the first, the lowest, the highest, the last."""


@dataclass(frozen=True, slots=True, eq=False)
class Line:
    """A line ready to be reduced again and again: `x` ascending, `y` with NaN where it breaks, and the extremes of each
    block of it."""

    x: Floats
    y: Floats
    low: Floats
    high: Floats


def line_of(x: Floats, y: Floats, stop: StopToken = NEVER) -> Line:
    """Look at all marks of a line once; `x` ascends."""
    whole = len(y) // _BLOCK * _BLOCK
    low, high = np.empty(len(y) // _BLOCK), np.empty(len(y) // _BLOCK)

    def look(part: slice) -> None:
        stop.check()
        values = y[part.start * _BLOCK : part.stop * _BLOCK].reshape(-1, _BLOCK)
        values.min(axis=1, out=low[part])
        values.max(axis=1, out=high[part])
        broken = np.flatnonzero(np.isnan(low[part]))
        if len(broken):
            low[part][broken] = np.fmin.reduce(values[broken], axis=1)
            high[part][broken] = np.fmax.reduce(values[broken], axis=1)

    step = 1024
    stop.map_parallel(look, [slice(n, min(n + step, whole // _BLOCK)) for n in range(0, whole // _BLOCK, step)])
    return Line(x, y, low, high)


def reduce_line(line: Line, ends: NDArray[np.float64], stop: StopToken = NEVER) -> tuple[Floats, Floats]:
    """The points to draw between the `ends` of columns of pixels, ascending: in each column the first mark, the lowest,
    the highest and the last, and the marks beside the view on either side. NaN breaks the line."""
    x, y = line.x, line.y
    if not len(x):
        return x, y
    cuts = np.searchsorted(x, ends)
    before, after = max(0, int(cuts[0]) - 1), min(len(x), int(cuts[-1]) + 1)
    if after - before <= FEW * len(ends):
        return x[before:after], y[before:after]
    cuts = np.unique(cuts)
    starts, stops = cuts[:-1], cuts[1:]
    low, high = _extremes(line, starts, stops, stop)
    middle = (x[starts] + x[stops - 1]) / 2
    xs = np.stack([x[starts], middle, middle, x[stops - 1]], axis=1).ravel()
    ys = np.stack([y[starts], low, high, y[stops - 1]], axis=1).ravel()
    first, last = slice(before, int(cuts[0])), slice(int(cuts[-1]), after)
    return np.concatenate([x[first], xs, x[last]]), np.concatenate([y[first], ys, y[last]])


def _extremes(line: Line, starts: Ids, stops: Ids, stop: StopToken) -> tuple[Floats, Floats]:
    """The lowest and highest of each stretch of marks: from whole blocks where it has some, and from its ends."""
    y = line.y
    first, last = -(-starts // _BLOCK), np.minimum(stops // _BLOCK, len(line.low))
    has_blocks = last > first
    low, high = np.full(len(starts), np.nan), np.full(len(starts), np.nan)
    at = np.flatnonzero(has_blocks)
    if len(at):
        for found, blocks, better in ((low, line.low, np.fmin), (high, line.high, np.fmax)):
            found[at] = _over(better, blocks, first[at], last[at])
    lead_stop = np.where(has_blocks, first * _BLOCK, stops)
    tail_start = np.where(has_blocks, last * _BLOCK, stops)
    for begins, ends in ((starts, lead_stop), (tail_start, stops)):
        stop.check()
        own = np.flatnonzero(ends > begins)
        if len(own):
            low[own] = np.fmin(low[own], _over(np.fmin, y, begins[own], ends[own]))
            high[own] = np.fmax(high[own], _over(np.fmax, y, begins[own], ends[own]))
    return low, high


def _over(better: np.ufunc, values: Floats, starts: Ids, stops: Ids) -> Floats:
    """`better` over each stretch, none of which is empty."""
    places, counts = slots_of(np.stack([starts, stops], axis=1))
    return np.asarray(better.reduceat(values.take(places), np.cumsum(counts) - counts), np.float64)


@dataclass(frozen=True, slots=True, eq=False)
class Spots:
    """How many points fall on each spot: an array of (rows, columns) from the lower left; with the sum of their shades
    where they have some."""

    counts: NDArray[np.int64]
    shades: Floats | None = None


def spots_of(
    x: Floats, y: Floats, x_ends: tuple[float, float], y_ends: tuple[float, float], columns: int, rows: int,
    shade: Floats | None = None, stop: StopToken = NEVER,
) -> Spots:  # fmt: skip
    """Count points (places on evenly running axes) by spot; those outside and NaN are left out."""
    wide, whole = columns + 2, (columns + 2) * (rows + 2)  # with an edge all around for what is outside

    def places(values: Floats, ends: tuple[float, float], count: int) -> NDArray[np.int32]:
        """From 1 within, 0 or one more than `count` outside; what ends the view is still in it."""
        found = values - ends[0]
        found *= count / (ends[1] - ends[0]) * (1 - 1e-12)
        found += 1.0
        with np.errstate(invalid="ignore"):  # what is no number, or beyond all, has the lowest place as an integer
            cut = found.astype(np.int32)
        return np.clip(cut, 0, count + 1, out=cut)

    def look(part: slice) -> tuple[NDArray[np.int64], Floats | None]:
        stop.check()
        spots = places(y[part], y_ends, rows)
        spots *= wide
        spots += places(x[part], x_ends, columns)
        own = np.bincount(spots, minlength=whole).astype(np.int64)
        if shade is None:
            return own, None
        weights = shade[part]
        weights = np.nan_to_num(weights) if np.isnan(weights).any() else weights
        return own, np.bincount(spots, weights, minlength=whole).astype(np.float64)

    counts, shades = np.zeros(whole, np.int64), np.zeros(whole)
    for own, weights in stop.map_parallel(look, [slice(n, n + _PART) for n in range(0, len(x), _PART)]):
        counts += own
        if weights is not None:
            shades += weights
    shown = counts.reshape(rows + 2, wide)[1:-1, 1:-1]
    return Spots(shown, shades.reshape(rows + 2, wide)[1:-1, 1:-1] if shade is not None else None)


@dataclass(frozen=True, slots=True, eq=False)
class Cloud:
    """Many points put in the order of where they stand along the bottom, bucket by bucket, so that a look closer counts
    only those near it."""

    x: Floats
    y: Floats
    shade: Floats | None
    low: float
    step: float
    starts: Ids

    def near(self, ends: tuple[float, float]) -> slice:
        """The points of the buckets between two ends."""
        first, last = (int(np.clip((end - self.low) / self.step, 0, _BUCKETS - 1)) for end in ends)
        return slice(int(self.starts[first]), int(self.starts[last + 1]))


def cloud_of(x: Floats, y: Floats, shade: Floats | None = None) -> Cloud:
    """Put points in order once; none is NaN."""
    low, high = float(x.min()), float(x.max())
    step = (high - low) / _BUCKETS or 1.0
    buckets = ((x - low) / step).astype(np.int32)
    np.clip(buckets, 0, _BUCKETS - 1, out=buckets)
    order = order_by_codes(buckets, _BUCKETS)
    starts = np.concatenate([[0], np.cumsum(np.bincount(buckets, minlength=_BUCKETS))])
    return Cloud(x.take(order), y.take(order), None if shade is None else shade.take(order), low, step, starts)
