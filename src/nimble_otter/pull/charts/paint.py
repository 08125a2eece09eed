"""The picture of a chart, by matplotlib, which is imported with this module: only when a chart is first drawn."""

from __future__ import annotations

import io
import logging
import math
import warnings
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Any

import matplotlib as mpl
from matplotlib import font_manager
from matplotlib.axes import Axes
from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.figure import Figure
from matplotlib.lines import Line2D
from matplotlib.patches import Patch

from nimble_otter.errors import ConditionError, SendError
from nimble_otter.pull.charts.data import Drawn, Series
from nimble_otter.pull.charts.ground import Ground, Window, roomy
from nimble_otter.pull.charts.looks import DASHES, FONT, FONTS, HATCHES, SHAPES, TEXT_PX, TITLE_PX, Look
from nimble_otter.pull.charts.model import ChartKind, Scale, scale_of
from nimble_otter.pull.charts.places import CATEGORY, TIME
from nimble_otter.pull.charts.strokes import DPI, PT, Strokes
from nimble_otter.pull.charts.ticks import safe_times, set_ticks, texts_of, width_px
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.translation import tr

FORMATS = ("png", "svg", "pdf")
_FEW_BARS = 4
"""Fewer categories have room beside them, so that no bar is as wide as the chart."""
mpl.rcParams.update({
    "font.family": [FONT, "Noto Sans CJK SC", "Noto Sans CJK JP", "Noto Sans", "DejaVu Sans"],
    "svg.fonttype": "none", "pdf.fonttype": 42, "axes.unicode_minus": False,
    "axes.linewidth": 0.8, "hatch.linewidth": 0.6, "path.simplify": False, "svg.hashsalt": "nimble-otter",
})  # fmt: skip
logging.getLogger("matplotlib.font_manager").setLevel(logging.ERROR)  # it tells of each weight that a fallback lacks
for _path in sorted(FONTS.glob("Inter-*.otf")):
    font_manager.fontManager.addfont(str(_path))


@contextmanager
def _quietly() -> Iterator[None]:
    """A letter that no font here has is drawn as a box: the library's warning tells nobody."""
    with warnings.catch_warnings():
        warnings.filterwarnings("ignore", message="Glyph ")
        yield


@dataclass(frozen=True, slots=True, eq=False)
class Picture:
    """A chart as it is painted: its figure and the grounds of its panels (in pixels at a scale of 1)."""

    figure: Figure
    grounds: tuple[Ground, ...]
    width: int
    height: int
    points: int

    def pixels(self) -> tuple[bytes, int, int]:
        """RGBA, and how many across and down."""
        canvas = self.figure.canvas
        assert isinstance(canvas, FigureCanvasAgg)
        with _quietly():
            canvas.draw()
        buffer = canvas.buffer_rgba()
        return bytes(buffer), int(buffer.shape[1]), int(buffer.shape[0])

    def file(self, form: str) -> bytes:
        """As PNG, SVG or PDF. Raises: SendError for another."""
        if form not in FORMATS:
            raise SendError(tr("A picture can't be written as {form}.", form=form), tr("There are png, svg and pdf."))
        out = io.BytesIO()
        told = {"png": {"Software": "Nimble Otter"}, "svg": {"Creator": "Nimble Otter", "Date": None},
                "pdf": {"Creator": "Nimble Otter", "Producer": "Nimble Otter", "CreationDate": None}}  # fmt: skip
        with _quietly():
            self.figure.savefig(out, format=form, metadata=told[form], facecolor=self.figure.get_facecolor())
        return out.getvalue()


def paint(
    drawn: Drawn, look: Look, size: tuple[int, int] = (960, 540), scale: float = 1.0, window: Window | None = None,
    stop: StopToken = NEVER,
) -> Picture:  # fmt: skip
    """Paint a chart into so many pixels (each `scale` pixels of the screen). Raises: ConditionError where a scale or a
    line of the chart is not what it should be, Stopped."""
    return _Painting(drawn, look, size, scale, window or Window(), stop).picture()


class _Painting:
    def __init__(
        self, drawn: Drawn, look: Look, size: tuple[int, int], scale: float, window: Window, stop: StopToken
    ) -> None:
        self.drawn, self.chart, self.look, self.stop = drawn, drawn.chart, look, stop
        self.width, self.height, self.scale, self.window = max(160, size[0]), max(110, size[1]), scale, window
        self.x_scale, self.y_scale = scale_of(self.chart.x_scale), scale_of(self.chart.y_scale)
        self.second_scale = scale_of(self.chart.second_scale)
        if drawn.x.kind == CATEGORY and self.x_scale.is_log:
            raise ConditionError(
                tr("Categories have no powers of ten."), tr("Take log off the scale along the bottom.")
            )
        self.figure = Figure(
            (self.width / DPI, self.height / DPI), dpi=DPI * scale, facecolor=look.surface, edgecolor=look.surface
        )
        FigureCanvasAgg(self.figure)
        self.strokes = Strokes(drawn, look, self.figure, (self.width, self.height), scale, stop)
        self.is_sideways = self.strokes.is_sideways
        self.strokes.is_closer = self.window.x is not None

    # --- ends of the axes --------------------------------------------------------------------------------------

    def _x_ends(self) -> tuple[float, float]:
        found = self.drawn.x_ends() or (0.0, 1.0)
        if self.drawn.x.kind != CATEGORY and self.drawn.edges is None:
            found = roomy(found, 0.02 if self.chart.kind is ChartKind.SCATTER else 0.0)
        if self.chart.kind in (ChartKind.BARS, ChartKind.BOX) and len(self.drawn.x.labels) < _FEW_BARS:
            found = roomy(found, (_FEW_BARS - len(self.drawn.x.labels)) / (2 * max(1, len(self.drawn.x.labels))))
        return self._limited(found, self.x_scale, self.window.x)

    def _y_ends(self, second: bool = False) -> tuple[float, float]:
        found = self.drawn.y_ends(second) or (0.0, 1.0)
        scale = self.second_scale if second else self.y_scale
        if self.drawn.y.kind != CATEGORY:
            stands = self.chart.kind in (ChartKind.BARS, ChartKind.AREA, ChartKind.HISTOGRAM)
            low, high = (min(0.0, found[0]), max(0.0, found[1])) if stands and not scale.is_log else found
            found = roomy((low, high), 0.05)
            if stands and not scale.is_log:
                found = (low if low == 0 else found[0], high if high == 0 else found[1])
            if self.chart.stack == "share" and self.chart.kind.stacks:
                found = (0.0, 100.0)
        return self._limited(found, scale, self.window.y if not second else None)

    def _limited(
        self, ends: tuple[float, float], scale: Scale, window: tuple[float, float] | None
    ) -> tuple[float, float]:
        low = ends[0] if scale.low is None else scale.low
        high = ends[1] if scale.high is None else scale.high
        low, high = window if window is not None else (low, high)
        if scale.is_log and low <= 0:
            lows = [v for v in (self._lowest_above_zero(), high / 1000) if v > 0]
            low, high = (min(lows), max(high, min(lows) * 10)) if lows else (0.1, 10.0)
        if not low < high:
            low, high = roomy((low, low), 0.05) if low == high else (high, low)
        return low, high

    def _lowest_above_zero(self) -> float:
        results = [each.y[each.y > 0] for each in self.drawn.series]
        return min((float(each.min()) for each in results if len(each)), default=0.0)

    # --- the whole ---------------------------------------------------------------------------------------------

    def picture(self) -> Picture:
        """See `paint`."""
        drawn = self.drawn
        x_ends, y_ends = self._x_ends(), self._y_ends()
        second_ends = self._y_ends(True) if drawn.second is not None else None
        if drawn.x.kind == TIME and not safe_times(x_ends):
            raise ConditionError(tr("Times beyond the calendar can't stand on an axis."), tr("Filter them out."))
        count = len(drawn.panels)
        across = (
            1 if count == 1 else max(1, min(count, round(math.sqrt(count * self.width / max(1, self.height) / 1.4))))
        )
        down = -(-count // across)
        left, right, top, bottom = self._margins(y_ends, second_ends, across, down)
        gap_x, gap_y = (16, 28) if count > 1 else (0, 0)
        width = max(30.0, (self.width - left - right - gap_x * (across - 1)) / across)
        height = max(30.0, (self.height - top - bottom - gap_y * (down - 1)) / down)
        grounds = []
        for panel in range(count):
            column, row = panel % across, panel // across
            at = (left + column * (width + gap_x), top + row * (height + gap_y))
            axes = self.figure.add_axes(
                (at[0] / self.width, 1 - (at[1] + height) / self.height, width / self.width, height / self.height)
            )
            is_last = panel + across >= count
            ground = self._dress(axes, at, (width, height), x_ends, y_ends, second_ends, column == 0, is_last)
            twin = self._twin(axes, ground, column == across - 1) if second_ends is not None else None
            self.strokes.fill(axes, twin, panel, ground, self.second_scale)
            if count > 1:
                axes.set_title(drawn.panels[panel], loc="left", fontsize=TEXT_PX * PT, color=self.look.ink, pad=4,
                               fontweight=600)  # fmt: skip
            grounds.append(ground)
            self.stop.check()
        if self._title():
            self.figure.text(left / self.width, 1 - 14 / self.height, self._title(), va="top", ha="left",
                             fontsize=TITLE_PX * PT, fontweight=600, color=self.look.ink)  # fmt: skip
        self._axis_titles(left, right, top, bottom)
        self._legend(left, top)
        return Picture(self.figure, tuple(grounds), self.width, self.height, self.strokes.points)

    def _title(self) -> str:
        return self.chart.title or self.chart.words()

    def _margins(
        self, y_ends: tuple[float, float], second: tuple[float, float] | None, across: int, down: int
    ) -> tuple[float, float, float, float]:
        drawn, probe = self.drawn, Figure().add_subplot()
        up = drawn.x if self.is_sideways else drawn.y
        ends = (drawn.x_ends() or (0.0, 1.0)) if self.is_sideways else y_ends
        set_ticks(probe.yaxis, up, self.height / down)
        left = 24 + min(self.width * 0.3, width_px(texts_of(probe.yaxis, ends))) + 16
        right = 22.0
        if second is not None:
            assert drawn.second is not None
            set_ticks(probe.yaxis, drawn.second, self.height / down)
            right = 30 + width_px(texts_of(probe.yaxis, second)) + 16
        if self.strokes.labels_at_ends:
            right = max(right, 14 + min(self.width * 0.25, width_px(drawn.names) * 1.05))
        if drawn.shade is not None:
            right += 66
        top = 44.0 + (16 if len(drawn.panels) > 1 else 0) + (22 if self._legend_names() else 0)
        bottom = 50.0
        if drawn.x.kind == CATEGORY and not self.is_sideways:
            room = (self.width - left - right) / across / max(1, len(drawn.x.labels))
            if width_px(drawn.x.labels) + 6 > room:
                bottom += min(self.height * 0.25, 0.75 * width_px(drawn.x.labels))
        return left, right, top, bottom

    def _legend_names(self) -> list[Series]:
        """One series of each name, where names stand above."""
        if self.chart.legend == "none" or self.strokes.labels_at_ends:
            return []
        found: dict[str, Series] = {}
        for each in self.drawn.series:
            if each.name:
                found.setdefault(each.name, each)
        ordered = sorted(found.values(), key=lambda each: each.place)
        return ordered if len(ordered) > 1 or self.drawn.second is not None else []

    # --- the ground --------------------------------------------------------------------------------------------

    def _dress(
        self, axes: Axes, at: tuple[float, float], size: tuple[float, float], x_ends: tuple[float, float],
        y_ends: tuple[float, float], second: tuple[float, float] | None, is_first: bool, is_last: bool,
    ) -> Ground:  # fmt: skip
        look, drawn = self.look, self.drawn
        across, up = (drawn.y, drawn.x) if self.is_sideways else (drawn.x, drawn.y)
        x_scale, y_scale = (self.y_scale, self.x_scale) if self.is_sideways else (self.x_scale, self.y_scale)
        x_ends, y_ends = (y_ends, x_ends) if self.is_sideways else (x_ends, y_ends)
        if self.is_sideways and drawn.x.kind == CATEGORY:
            y_scale = Scale(y_scale.low, y_scale.high, False, not y_scale.is_reversed)  # the first on top
        axes.set_facecolor(look.surface)
        for side in ("top", "right"):
            axes.spines[side].set_visible(False)
        axes.spines["left"].set_visible(False)
        axes.spines["bottom"].set_color(look.line)
        if x_scale.is_log:
            axes.set_xscale("log")
        if y_scale.is_log:
            axes.set_yscale("log")
        set_ticks(axes.xaxis, across, size[0], x_scale.is_log)
        set_ticks(axes.yaxis, up, size[1], y_scale.is_log)
        axes.set_xlim(*(x_ends[::-1] if x_scale.is_reversed else x_ends))
        axes.set_ylim(*(y_ends[::-1] if y_scale.is_reversed else y_ends))
        axes.tick_params(colors=look.muted, labelsize=TEXT_PX * PT, length=3, width=0.8, color=look.line,
                         labelleft=is_first, labelbottom=is_last)  # fmt: skip
        axes.tick_params(axis="y", length=0)
        if self.chart.grid and self.chart.kind is not ChartKind.HEAT:
            axes.grid(True, axis="x" if self.is_sideways else "y", color=look.grid, linewidth=0.9)
            if self.chart.kind is ChartKind.SCATTER:
                axes.grid(True, axis="x", color=look.grid, linewidth=0.9)
            axes.set_axisbelow(True)
        if across.kind == CATEGORY and width_px(across.labels) + 6 > size[0] / max(1, len(across.labels)):
            for text in axes.get_xticklabels():
                text.set(rotation=40, ha="right", rotation_mode="anchor")
        axes.xaxis.offsetText.set_visible(False)
        return Ground(at[0], at[1], size[0], size[1], x_ends, y_ends, x_scale, y_scale, second)

    def _twin(self, axes: Axes, ground: Ground, is_last: bool) -> Axes:
        assert self.drawn.second is not None
        assert ground.second is not None
        twin = axes.twinx()
        for side in twin.spines.values():
            side.set_visible(False)
        if self.second_scale.is_log:
            twin.set_yscale("log")
        set_ticks(twin.yaxis, self.drawn.second, ground.height, self.second_scale.is_log)
        twin.set_ylim(*(ground.second[::-1] if self.second_scale.is_reversed else ground.second))
        twin.tick_params(colors=self.look.muted, labelsize=TEXT_PX * PT, length=0, labelright=is_last)
        return twin

    def _axis_titles(self, left: float, right: float, top: float, bottom: float) -> None:
        across, up = (self.drawn.y, self.drawn.x) if self.is_sideways else (self.drawn.x, self.drawn.y)
        words = across.title
        if across.kind == TIME:  # what the ticks leave out: the year, or the day
            axes = self.figure.axes[0]
            axes.xaxis.get_major_formatter().format_ticks(axes.xaxis.get_majorticklocs())
            words = ", ".join(filter(None, (words, axes.xaxis.get_major_formatter().get_offset())))
        said = {"fontsize": TEXT_PX * PT, "color": self.look.muted}
        middle = (left + self.width - right) / 2 / self.width
        self.figure.text(middle, 10 / self.height, words, ha="center", va="bottom", **said)
        upright = 1 - (top + (self.height - top - bottom) / 2) / self.height
        self.figure.text(10 / self.width, upright, up.title, ha="left", va="center", rotation=90, **said)
        if self.drawn.second is not None:
            self.figure.text(1 - 10 / self.width, upright, self.drawn.second.title, ha="right", va="center",
                             rotation=270, **said)  # fmt: skip

    def _legend(self, left: float, top: float) -> None:
        handles: list[Any] = []
        for each in self._legend_names():
            colour = self.look.colour(self.chart.palette, each.place)
            if self.chart.kind is ChartKind.LINE:
                dash = DASHES[each.place % len(DASHES)]
                handles.append(Line2D([], [], color=colour, linestyle=(0, dash) if dash else "-", label=each.name))
            elif self.chart.kind is ChartKind.SCATTER:
                shape = SHAPES[each.place % len(SHAPES)]
                handles.append(Line2D([], [], color=colour, marker=shape, linestyle="", markersize=5, label=each.name))
            else:
                handles.append(self._patch(each, colour))
        if handles:
            room = max(1, int((self.width - left) / (width_px([h.get_label() for h in handles]) + 40)))
            self.figure.legend(
                handles=handles, loc="upper left", bbox_to_anchor=((left - 6) / self.width, 1 - 36 / self.height),
                ncol=min(len(handles), room), frameon=False, fontsize=TEXT_PX * PT, labelcolor=self.look.muted,
                borderpad=0, borderaxespad=0, handlelength=1.8, handletextpad=0.5, columnspacing=1.4,
            )  # fmt: skip

    def _patch(self, each: Series, colour: str) -> Patch:
        return Patch(facecolor=colour, edgecolor=self.look.surface, hatch=HATCHES[each.place % len(HATCHES)] or None,
                     label=each.name, linewidth=0)  # fmt: skip
