"""The part of the tour that looks: charts of the rows, what is picked in them, and a picture that leaves."""

from __future__ import annotations

from nimble_otter.desktop.grid.rows_views import TABLE
from nimble_otter.desktop.kit.theme import theme
from nimble_otter.desktop.tour.guide import hold
from nimble_otter.desktop.tour.repeating import Repeating
from nimble_otter.pull.charts import Chart, ChartKind, Up
from nimble_otter.pull.charts.picking import Stretch
from nimble_otter.pull.steps.group import KeyBy


class Charted(Repeating):
    """Steps that draw the rows."""

    def see(self) -> str:
        """Charts of four kinds, rows picked in one, a picture written."""
        window, presenter, before = self.window, self.window.charting.presenter, self.pull.pull
        window.charting.open()
        day, river, level = KeyBy("taken_at", "day"), KeyBy("river"), (Up("level_m", "mean"),)
        presenter.add(Chart(ChartKind.LINE, "Levels by day", day, level, river, title="Mean level by day, May 2031",
                            y_title="level, m", lines="2.8 flood watch"))  # fmt: skip
        self.settle(0.4)
        drawn = presenter.made.drawn if presenter.made is not None else None
        hold(drawn is not None and len(drawn.series) == 3, f"no line for each river: {presenter.problem}")
        assert drawn is not None
        low, high = drawn.x_ends() or (0.0, 0.0)
        presenter.canvas.brush = Stretch(0, (low + (high - low) * 0.6, low + (high - low) * 0.7))
        presenter.pick(presenter.canvas.brush)
        self.settle(0.3)
        hold(presenter.rows is not None and window.grid.selection.row_count == len(presenter.rows), "nothing is picked")
        self.picture("25-chart")
        presenter.pick(None)
        presenter.canvas.brush = None
        presenter.add(Chart(ChartKind.BARS, "Stations", KeyBy("station"), (Up("level_m", "max"),), order="largest",
                            top=12, sideways=True, title="Highest level by station", y_title="level, m"))  # fmt: skip
        window.charting.open(True)
        self.settle(0.4)
        hold(window.rows_stack.isVisible() and presenter.canvas.painted is not None, "the chart is not beside the rows")
        self.picture("26-chart-bars")
        theme.use(True)
        presenter.add(Chart(ChartKind.SCATTER, "Flow", KeyBy("level_m"), (Up("flow_m3s"),), river,
                            title="Flow against level", x_title="level, m", y_title="flow, m³/s"))  # fmt: skip
        window.charting.open()
        self.settle(0.4)
        self.picture("27-chart-points")
        presenter.add(Chart(ChartKind.HEAT, "Readings", KeyBy("taken_at", "weekday"), (Up("", "count"),),
                            KeyBy("station"), title="Readings by weekday and station"))  # fmt: skip
        self.settle(0.4)
        self.picture("28-chart-heat")
        theme.use(False)
        for form in ("png", "svg", "pdf"):
            window.charting.pictures.write(self.folder / "charts" / f"levels.{form}", form)
            self.settle(0.2)
        kept = [path for path in (self.folder / "charts").glob("levels.*") if path.stat().st_size > 1000]
        hold(len(kept) == 3, f"written were {kept}")
        window.rows_views.choose(TABLE)
        self.pull.shaping.change(before, "Remove the charts")
        self.settle()
        return f"four charts, rows picked in one, {len(kept)} pictures written"
