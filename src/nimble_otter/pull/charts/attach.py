"""Charts that go with delivered rows: as pictures, or over the delivered cells where a workbook can hold them so."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

import numpy as np

from nimble_otter.pull.charts.data import Drawn
from nimble_otter.pull.charts.looks import LIGHT
from nimble_otter.pull.charts.make import draw
from nimble_otter.pull.charts.model import Chart, ChartKind, scale_of
from nimble_otter.pull.model import Pull, SendPlan
from nimble_otter.pull.shaped import Shaped
from nimble_otter.send import Rows, format_for
from nimble_otter.send.format import Attached, CellChart
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table import Kind

SIZE = (960, 540)
_MOST_CELLS = 32_000
"""Rows that a chart of a workbook stands over; more are delivered as a picture."""
_MEASURED = frozenset({Kind.INT, Kind.FLOAT, Kind.DECIMAL, Kind.TIME, Kind.DATE})


def wants_charts(pull: Pull, plan: SendPlan) -> bool:
    """Whether a delivery has the pull's charts with it."""
    if not pull.charts or plan.format in ("source", "clipboard", ""):
        return False
    option = next((each for each in format_for(plan.format).options if each.name == "charts"), None)
    given = plan.options.get("charts", option.default if option is not None else False)
    return option is not None and str(given).lower() not in ("no", "false", "0", "off", "")


def with_charts(rows: Rows, pull: Pull, shaped: Shaped, plan: SendPlan, stop: StopToken = NEVER) -> Rows:
    """The rows with the pull's charts of them, which are drawn when they are written."""
    if not wants_charts(pull, plan):
        return rows
    return replace(rows, charts=tuple(_attached(chart, shaped, rows.names, stop) for chart in pull.charts))


def _attached(chart: Chart, shaped: Shaped, names: Sequence[str], stop: StopToken) -> Attached:
    drawn: list[Drawn] = []

    def made() -> Drawn:
        if not drawn:
            drawn.append(draw(shaped, chart, stop))
        return drawn[0]

    def picture(form: str) -> bytes:
        from nimble_otter.pull.charts.paint import paint

        return paint(made(), LIGHT, SIZE, 2.0 if form == "png" else 1.0, stop=stop).file(form)

    return Attached(chart.title or chart.words(), picture, _over_cells(chart, shaped, names, made))


def _over_cells(
    chart: Chart, shaped: Shaped, names: Sequence[str], made: Callable[[], Drawn]
) -> Callable[[], CellChart | None]:
    """The same chart over delivered cells; None where a workbook has none of the kind, or no cells for it."""

    def cells() -> CellChart | None:
        own = [shaped.table.fields[place].name for place in shaped.shown()]
        columns = (chart.along.column, *(up.column for up in chart.up))
        is_plain = not (chart.by.column or chart.panels.column or chart.along.part or chart.size or chart.notes)
        kinds = (ChartKind.LINE, ChartKind.AREA, ChartKind.BARS, ChartKind.SCATTER)
        if not is_plain or chart.kind not in kinds or any(up.figure or up.second for up in chart.up):
            return None
        if chart.lines or any(column not in own for column in columns) or shaped.rows > _MOST_CELLS:
            return None
        if any(scale_of(scale).is_log for scale in (chart.x_scale, chart.y_scale)):
            return None
        field = shaped.field(shaped.shown()[own.index(chart.along.column)])
        is_measured = field.kind in _MEASURED
        if chart.kind is ChartKind.SCATTER and not is_measured:
            return None
        drawn = made()
        if not drawn.series or (chart.kind is ChartKind.AREA and is_measured):
            return None
        if (
            chart.kind is ChartKind.LINE
            and is_measured
            and any((np.diff(_places(shaped, each.at)) < 0).any() for each in drawn.series)
        ):
            return None  # a workbook joins its points in the order of their rows
        if chart.kind is ChartKind.BARS and chart.order != "rows":
            first = _places(shaped, drawn.series[0].at)
            if (np.diff(first) < 0).any():
                return None
        at = [own.index(column) for column in columns]
        return CellChart(
            chart.kind.value, at[0], tuple(at[1:]), tuple(names[n] for n in at[1:]), chart.title or chart.words(),
            drawn.x.title, drawn.y.title, is_measured and chart.kind is not ChartKind.BARS, field.kind.is_moment,
            chart.sideways, drawn.x_ends() if is_measured else None,
        )  # fmt: skip

    return cells


def _places(shaped: Shaped, rows: np.ndarray) -> np.ndarray:
    """Where rows stand among those delivered."""
    ids = shaped.flat().row_ids()
    at = np.zeros(shaped.table.rows, np.int64)
    at[ids] = np.arange(len(ids))
    return at.take(rows)
