"""What stands at the ticks of an axis: numbers as their column shows them, times with as much as tells them apart."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Sequence
from dataclasses import replace

import numpy as np
from matplotlib.axis import Axis as PaintedAxis
from matplotlib.dates import AutoDateLocator, ConciseDateFormatter
from matplotlib.ticker import FixedLocator, FuncFormatter, LogLocator, MaxNLocator, NullFormatter, NullLocator

from nimble_otter.pull.charts.places import CATEGORY, CLOCK, TIME, Axis
from nimble_otter.table import Field, Kind
from nimble_otter.table.text.column_format import ColumnFormat, number_text, time_text
from nimble_otter.table.text.show import THIN, shown

_LABEL_PX = 6.3
"""Width of a character of a label, on the whole."""
_EPOCH_YEARS = (1, 9998)


def number_words(field: Field | None) -> Callable[[float], str]:
    """How numbers of a column are written beside an axis."""
    look = field.look if field is not None and field.look is not None else ColumnFormat()

    def words(value: float) -> str:
        if field is not None and field.kind is Kind.SPAN:
            return shown(dt.timedelta(seconds=value))
        if look.style in ("percent", "bytes", "scientific"):
            return number_text(value, look, THIN)
        if value and not 1e-6 <= abs(value) < 1e15:
            return f"{value:.3g}"
        text = f"{value:.10f}".rstrip("0").rstrip(".")
        return number_text(float(text), replace(look, decimals=len(text.partition(".")[2])), THIN)

    return words


def _clock(value: float) -> str:
    minutes = round(value * 60)
    return f"{minutes // 60:02}:{minutes % 60:02}"


def set_ticks(painted: PaintedAxis, axis: Axis, room_px: float, is_log: bool = False) -> None:
    """Place ticks along an axis of so many pixels."""
    across = painted.axis_name == "x"
    most = max(2, int(room_px / (46 if not across else 90 if axis.kind == TIME else 64)))
    if axis.kind == CATEGORY:
        every = max(1, -(-len(axis.labels) // max(1, int(room_px / 15))))
        places = list(range(0, len(axis.labels), every))
        painted.set_major_locator(FixedLocator(places))
        painted.set_major_formatter(FuncFormatter(lambda v, _: _label(axis.labels, v)))
    elif axis.kind == TIME:
        locator = AutoDateLocator(minticks=2, maxticks=most)
        painted.set_major_locator(locator)
        pattern = axis.field.look.pattern if axis.field is not None and axis.field.look is not None else ""
        painted.set_major_formatter(_patterned(pattern) if pattern else _times(locator))
    elif is_log:
        painted.set_major_locator(LogLocator(numticks=most + 1))
        words = number_words(axis.field)
        painted.set_major_formatter(FuncFormatter(lambda v, _: words(v)))
        painted.set_minor_formatter(NullFormatter())
    else:
        painted.set_major_locator(MaxNLocator(most, steps=[1, 2, 2.5, 5, 10]))
        words = _clock if axis.kind == CLOCK else number_words(axis.field)
        painted.set_major_formatter(FuncFormatter(lambda v, _: words(v)))
    painted.set_minor_locator(NullLocator())


def _times(locator: AutoDateLocator) -> ConciseDateFormatter:
    made = ConciseDateFormatter(
        locator,
        formats=["%Y", "%b", "%-d %b", "%H:%M", "%H:%M", "%S.%f"],
        zero_formats=["", "%b %Y", "%-d %b", "%-d %b", "%H:%M", "%H:%M"],
        offset_formats=["", "%Y", "%Y", "%-d %b %Y", "%-d %b %Y", "%-d %b %Y %H:%M"],
    )
    made.set_useoffset = True
    return made


def _patterned(pattern: str) -> FuncFormatter:
    """Times by the pattern that their column is shown in."""

    def words(value: float, _: object) -> str:
        try:
            return time_text(dt.datetime(1970, 1, 1) + dt.timedelta(days=round(value * 86_400) / 86_400), pattern)
        except (ValueError, OverflowError):
            return ""

    return FuncFormatter(words)


def _label(labels: Sequence[str], value: float) -> str:
    number = round(value)
    return labels[number] if 0 <= number < len(labels) and abs(value - number) < 1e-6 else ""


def texts_of(painted: PaintedAxis, ends: tuple[float, float]) -> list[str]:
    """The words at the ticks between two ends."""
    try:
        values = np.asarray(painted.get_major_locator().tick_values(*ends), np.float64)
    except (ValueError, OverflowError):
        return []
    values = values[(values >= ends[0]) & (values <= ends[1])]
    return [str(text) for text in painted.get_major_formatter().format_ticks(values)]


def width_px(texts: Sequence[str]) -> float:
    """About how wide the longest of some labels is."""
    return max((len(text) for text in texts), default=0) * _LABEL_PX


def safe_times(ends: tuple[float, float]) -> bool:
    """Whether places on an axis of times are within what calendars have."""
    epoch = dt.date(1970, 1, 1).toordinal()
    low, high = (dt.date(year, 1, 1).toordinal() - epoch for year in _EPOCH_YEARS)
    return low < ends[0] and ends[1] < high
