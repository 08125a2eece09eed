"""What a chart is: a value that a pull keeps. What it draws is in data.py, how it looks in paint.py."""

from __future__ import annotations

import datetime as dt
import math
import re
from dataclasses import dataclass, fields, replace
from enum import StrEnum
from typing import Self

from nimble_otter.entry import Entry
from nimble_otter.errors import ConditionError
from nimble_otter.pull.steps.group import FigureOf, KeyBy
from nimble_otter.table.ops.measures import AggregateFunction
from nimble_otter.translation import tr

_NO_KEY = KeyBy("")
MOST_CHARTS = 50
MOST_BINS = 1000
_RANGE = re.compile(r"(\S+)\s+to\s+(\S+)", re.IGNORECASE)
_FORMS = "Write it like 0 to 4, log, log 1 to 100, or reversed."
_LINE_FORMS = "Write a value and its name, such as 3.2 flood watch; 2 to 3 marks a band; ; stands between several."


class ChartKind(StrEnum):
    """What stands for the rows."""

    LINE = "line"
    AREA = "area"
    BARS = "bars"
    SCATTER = "scatter"
    HISTOGRAM = "histogram"
    BOX = "box"
    HEAT = "heat map"

    @property
    def stacks(self) -> bool:
        """Whether several series can stand on each other."""
        return self in (ChartKind.AREA, ChartKind.BARS, ChartKind.HISTOGRAM)

    @property
    def has_figures(self) -> bool:
        """Whether what stands up can be a figure of many rows."""
        return self in (ChartKind.LINE, ChartKind.AREA, ChartKind.BARS, ChartKind.HEAT)


STACKS = ("beside", "stacked", "share")
"""How the series of bars and areas stand: beside (areas: behind) each other, on each other, as shares of 100 %."""
ORDERS = ("along", "largest", "smallest", "rows")
"""How categories stand: by their own order, by what stands up, as the rows come."""
LEGENDS = ("auto", "beside", "none")
PALETTES = ("river", "strong", "grey")


@dataclass(frozen=True, slots=True)
class Up:
    """What stands up: the values of a column, or a `figure` of it over the rows of each mark ("": each row is a mark of
    its own); on the `second` axis or the first."""

    column: str = ""
    figure: str = ""
    at: float = 0.5
    second: bool = False

    @property
    def figure_of(self) -> FigureOf:
        """As the Group step has it."""
        return FigureOf(AggregateFunction(self.figure), self.column, self.at)

    @property
    def title(self) -> str:
        """What it is called where nobody gave it a name."""
        return self.figure_of.title if self.figure else self.column

    @classmethod
    def from_plain(cls, plain: Entry) -> Self:
        """Raises: ValueError."""
        figure = plain.word("figure", ("", *AggregateFunction), "")
        return cls(plain.text("column", ""), figure, plain.number("at", 0.5), plain.flag("second"))

    def to_plain(self) -> dict[str, object]:
        """As a pull file has it."""
        plain: dict[str, object] = {name: getattr(self, name) for name in ("column", "figure") if getattr(self, name)}
        if self.figure == AggregateFunction.QUANTILE:
            plain["at"] = self.at
        return plain | ({"second": True} if self.second else {})


@dataclass(frozen=True, slots=True)
class Note:
    """Words pinned to a point: `x` and `y` are values as texts, as they stand on the axes."""

    x: str
    y: str
    text: str


@dataclass(frozen=True, slots=True)
class Scale:
    """How an axis runs: its ends (None: where the marks end), in powers of ten, from high to low."""

    low: float | None = None
    high: float | None = None
    is_log: bool = False
    is_reversed: bool = False


@dataclass(frozen=True, slots=True)
class Mark:
    """A line across the chart at `low`, or a band up to `high`, with its words; upright where it is of an axis of
    times (`is_moment`)."""

    low: float
    high: float | None = None
    words: str = ""
    is_moment: bool = False


@dataclass(frozen=True, slots=True)
class Chart:
    """`along` is what stands along the bottom, `up` what stands up, `by` the column whose values have a colour (the
    second side of a heat map), `size` that of a scatter's marks, `panels` the column whose values have a panel each.
    Scales and lines are texts as they were typed, see `scale_of` and `marks_of`."""

    kind: ChartKind = ChartKind.LINE
    name: str = ""
    along: KeyBy = _NO_KEY
    up: tuple[Up, ...] = ()
    by: KeyBy = _NO_KEY
    size: str = ""
    panels: KeyBy = _NO_KEY
    stack: str = "beside"
    sideways: bool = False
    order: str = "along"
    top: int = 0
    bins: int = 0
    title: str = ""
    x_title: str = ""
    y_title: str = ""
    second_title: str = ""
    x_scale: str = ""
    y_scale: str = ""
    second_scale: str = ""
    lines: str = ""
    notes: tuple[Note, ...] = ()
    legend: str = "auto"
    grid: bool = True
    palette: str = "river"

    def words(self) -> str:
        """What it shows, in a few words."""
        if self.title:
            return self.title
        up = ", ".join(each.title for each in self.up)
        along = self.along.title
        text = {
            ChartKind.HISTOGRAM: f"rows by {along}",
            ChartKind.SCATTER: f"{up} against {along}",
            ChartKind.HEAT: f"{up} by {along} and {self.by.title}",
        }.get(self.kind, f"{up} by {along}")
        return f"{text}, {self.by.title}" if self.by.column and self.kind is not ChartKind.HEAT else text

    @property
    def label(self) -> str:
        """What its tab says."""
        return self.name or self.words()

    def columns(self) -> list[str]:
        """Names of the columns it looks at."""
        names = [self.along.column, *(each.column for each in self.up), self.by.column, self.size, self.panels.column]
        return list(dict.fromkeys(filter(None, names)))

    def to_plain(self) -> dict[str, object]:
        """As a pull file has it: what is usual is left out."""
        plain: dict[str, object] = {"kind": self.kind.value}
        for name in ("along", "by", "panels"):
            key: KeyBy = getattr(self, name)
            if key.column:
                plain[name] = {"column": key.column, "part": key.part} if key.part else key.column
        plain["up"] = [each.to_plain() for each in self.up]
        usual = Chart()
        for name in _PLAIN:
            if getattr(self, name) != getattr(usual, name):
                plain[name] = getattr(self, name)
        if self.notes:
            plain["notes"] = [{"x": n.x, "y": n.y, "text": n.text} for n in self.notes]
        return plain

    @classmethod
    def from_plain(cls, plain: Entry) -> Self:
        """What `to_plain` made. Raises: ValueError."""
        chart = cls(
            plain.member("kind", ChartKind),
            up=tuple(map(Up.from_plain, plain.entries("up"))),
            notes=tuple(Note(n.text("x"), n.text("y"), n.text("text")) for n in plain.entries("notes")),
        )
        keys = {name: KeyBy.of_value(plain.value(name), name) for name in ("along", "by", "panels") if name in plain}
        read = {str: plain.text, int: plain.whole, bool: plain.flag}
        own = {name: read[kind](name) for name, kind in _PLAIN.items() if name in plain}
        chart = replace(chart, **keys, **own)  # type: ignore[arg-type]
        words = (("stack", STACKS), ("order", ORDERS), ("legend", LEGENDS), ("palette", PALETTES))
        for name, known in words:
            plain.word(name, known, getattr(chart, name))
        if not (0 <= chart.top <= 10_000 and 0 <= chart.bins <= MOST_BINS):
            raise ValueError(tr("{at} has too many bins or values", at=plain.at))
        return chart


_PLAIN: dict[str, type] = {
    f.name: {"str": str, "int": int, "bool": bool}[str(f.type)]
    for f in fields(Chart)
    if str(f.type) in ("str", "int", "bool")
}


def value_on_axis(text: str) -> float:
    """A number, or a date or time as days since 1970. Raises: ConditionError."""
    try:
        number = float(text.replace("\u2009", ""))
    except ValueError:
        try:
            moment = dt.datetime.fromisoformat(text.replace("_", " "))
        except ValueError as problem:
            raise ConditionError(
                tr("{text} is not a number, date or time.", text=text), tr("Write 3.2 or 2031-05-18.")
            ) from problem
        moment = moment if moment.tzinfo is None else moment.astimezone(dt.UTC).replace(tzinfo=None)
        return (moment - dt.datetime(1970, 1, 1)) / dt.timedelta(days=1)
    if not math.isfinite(number):
        raise ConditionError(tr("{text} has no place on an axis.", text=text), tr("Write a number such as 3.2."))
    return number


def scale_of(text: str) -> Scale:
    """What a text says of an axis: "", "0 to 4", "from 0", "log", "reversed", several of them. Raises:
    ConditionError."""
    rest = f" {text.strip()} "
    is_log, is_reversed = " log " in rest, " reversed " in rest
    rest = rest.replace(" log ", " ").replace(" reversed ", " ").strip()
    low = high = None
    if rest:
        match = _RANGE.fullmatch(rest)
        if match is not None:
            low, high = value_on_axis(match[1]), value_on_axis(match[2])
        elif rest.startswith("from "):
            low = value_on_axis(rest.removeprefix("from ").strip())
        elif rest.startswith("to "):
            high = value_on_axis(rest.removeprefix("to ").strip())
        else:
            raise ConditionError(tr("{text} is not a scale.", text=text), _FORMS)
    if low is not None and high is not None:
        if low == high:
            raise ConditionError(tr("{text} has no room.", text=text), _FORMS)
        if low > high:
            low, high, is_reversed = high, low, True
    if is_log and ((low is not None and low <= 0) or (high is not None and high <= 0)):
        raise ConditionError(tr("A scale in powers of ten begins above 0."), tr("Write log 0.1 to 100."))
    return Scale(low, high, is_log, is_reversed)


def marks_of(text: str) -> list[Mark]:
    """Lines and bands across the chart: "3.2 flood watch; 2 to 3 usual". Raises: ConditionError."""
    results = []
    for part in filter(None, (each.strip() for each in text.split(";"))):
        words = part.split()
        if len(words) >= 3 and words[1].lower() == "to":
            low, high = value_on_axis(words[0]), value_on_axis(words[2])
            results.append(Mark(min(low, high), max(low, high), " ".join(words[3:]), not _is_number(words[0])))
            continue
        try:
            results.append(Mark(value_on_axis(words[0]), None, " ".join(words[1:]), not _is_number(words[0])))
        except ConditionError as problem:
            raise ConditionError(tr("{part} does not begin with a value.", part=part), _LINE_FORMS) from problem
    return results


def _is_number(text: str) -> bool:
    try:
        float(text)
    except ValueError:
        return False
    return True
