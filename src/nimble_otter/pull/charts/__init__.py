"""Charts of the rows as they stand: what one is, the marks it is made of, their reduction to pixels, the picture."""

from nimble_otter.pull.charts.model import Chart, ChartKind, Up

__all__ = ["Chart", "ChartKind", "Up"]
