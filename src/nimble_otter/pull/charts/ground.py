"""Where the panels of a chart stand, and what their pixels are on its axes."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from nimble_otter.pull.charts.model import Scale
from nimble_otter.pull.charts.places import Floats


@dataclass(frozen=True, slots=True)
class Window:
    """The part of a chart that is looked at: ends along the bottom and up; None: all."""

    x: tuple[float, float] | None = None
    y: tuple[float, float] | None = None


@dataclass(frozen=True, slots=True)
class Ground:
    """Where a panel stands, in pixels from the upper left, and what its edges are on the axes."""

    left: float
    top: float
    width: float
    height: float
    x: tuple[float, float]
    y: tuple[float, float]
    x_scale: Scale
    y_scale: Scale
    second: tuple[float, float] | None = None

    def value_scale(self, is_sideways: bool) -> Scale:
        """The scale of what stands up, which lies along the bottom where the chart lies on its side."""
        return self.x_scale if is_sideways else self.y_scale

    def holds(self, x: float, y: float) -> bool:
        """Whether a pixel lies on it."""
        return self.left <= x <= self.left + self.width and self.top <= y <= self.top + self.height

    def place(self, x: float, y: float) -> tuple[float, float]:
        """What a pixel is on the axes."""
        across, up = (x - self.left) / self.width, 1 - (y - self.top) / self.height
        return _at(across, self.x, self.x_scale), _at(up, self.y, self.y_scale)

    def pixels(self, x: Floats, y: Floats, second: bool = False) -> tuple[Floats, Floats]:
        """Where places on the axes are."""
        ends = self.second if second and self.second is not None else self.y
        across, up = _share(x, self.x, self.x_scale), _share(y, ends, self.y_scale)
        return self.left + across * self.width, self.top + (1 - up) * self.height


def _at(share: float, ends: tuple[float, float], scale: Scale) -> float:
    share = 1 - share if scale.is_reversed else share
    if scale.is_log:
        low, high = math.log10(ends[0]), math.log10(ends[1])
        return float(10 ** (low + share * (high - low)))
    return float(ends[0] + share * (ends[1] - ends[0]))


def _share(values: Floats, ends: tuple[float, float], scale: Scale) -> Floats:
    if scale.is_log:
        with np.errstate(invalid="ignore", divide="ignore"):
            values, ends = np.log10(values), (math.log10(ends[0]), math.log10(ends[1]))
    found = (values - ends[0]) / (ends[1] - ends[0])
    return np.asarray(1 - found if scale.is_reversed else found)


def roomy(ends: tuple[float, float], share: float) -> tuple[float, float]:
    """Ends with some room beyond them."""
    low, high = ends
    if low == high:
        own = abs(low) * 0.1 or 0.5
        return low - own, high + own
    return low - share * (high - low), high + share * (high - low)


def logged(ends: tuple[float, float]) -> tuple[float, float]:
    """Ends as powers of ten."""
    return math.log10(ends[0]), math.log10(ends[1])


def finite_ends(parts: Sequence[Floats]) -> tuple[float, float] | None:
    """The lowest and the highest of some values that have an end; None without any."""
    results = [each[np.isfinite(each)] for each in parts]
    results = [each for each in results if len(each)]
    return (min(float(e.min()) for e in results), max(float(e.max()) for e in results)) if results else None
