"""Charts that fit the columns there are: a time and a number give a line, a category and a number bars, two numbers
points."""

from __future__ import annotations

from collections.abc import Sequence

from nimble_otter.pull.charts.model import Chart, ChartKind, Up
from nimble_otter.pull.charts.places import CATEGORY, CLOCK, NUMBER, TIME, kind_of
from nimble_otter.pull.steps.group import KeyBy
from nimble_otter.table import Field, Kind

MOST = 6


def figure_for(field: Field) -> str:
    """The figure that says most of a column over many rows: whole numbers are added up, measures have a mean."""
    if not field.is_amount:
        return "count"
    return "sum" if field.kind is Kind.INT else "mean"


def up_of(field: Field) -> Up:
    """A column as what stands up, over many rows."""
    figure = figure_for(field)
    return Up("" if figure == "count" else field.name, figure)


def chart_of(fields: Sequence[Field], name: str, is_grouped: bool = False) -> Chart:
    """A chart of one column, with the others that go with it. `is_grouped`: the rows are figures already."""
    own = next(field for field in fields if field.name == name)
    kind = kind_of(own)
    times = [field for field in fields if kind_of(field) == TIME]
    names = [field for field in fields if _is_name(field)]
    if kind == NUMBER and not _is_id(own):
        if is_grouped and (times or names):
            along = (times or names)[0]
            return Chart(ChartKind.LINE if times else ChartKind.BARS, along=KeyBy(along.name), up=(Up(name),))
        if times:
            return Chart(ChartKind.LINE, along=KeyBy(times[0].name), up=(Up(name),))
        return Chart(ChartKind.HISTOGRAM, along=KeyBy(name))
    if kind == TIME:
        amounts = [field for field in fields if kind_of(field) == NUMBER and not _is_id(field)]
        if amounts:
            return Chart(ChartKind.LINE, along=KeyBy(name), up=(Up(amounts[0].name),))
        return Chart(ChartKind.BARS, along=KeyBy(name, "month"), up=(Up("", "count"),))
    if kind == CLOCK:
        return Chart(ChartKind.BARS, along=KeyBy(name, "hour of day"), up=(Up("", "count"),))
    return Chart(ChartKind.BARS, along=KeyBy(name), up=(Up("", "count"),), order="largest", top=20)


def offers(fields: Sequence[Field], is_grouped: bool = False) -> list[Chart]:
    """Charts to begin with, the likeliest first."""
    times = [field for field in fields if kind_of(field) == TIME]
    amounts = [field for field in fields if kind_of(field) == NUMBER and not _is_id(field)]
    names = [field for field in fields if _is_name(field)]
    charts: list[Chart] = []
    if times and amounts:
        charts.append(Chart(ChartKind.LINE, along=KeyBy(times[0].name), up=(Up(amounts[0].name),)))
        if not is_grouped:
            key = KeyBy(times[0].name, "day")
            charts.append(Chart(ChartKind.LINE, along=key, up=(up_of(amounts[0]),)))
    if names and amounts:
        up = Up(amounts[0].name) if is_grouped else up_of(amounts[0])
        charts.append(Chart(ChartKind.BARS, along=KeyBy(names[0].name), up=(up,)))
        if not is_grouped:
            charts.append(Chart(ChartKind.BOX, along=KeyBy(names[0].name), up=(Up(amounts[0].name),)))
    if len(amounts) > 1:
        charts.append(Chart(ChartKind.SCATTER, along=KeyBy(amounts[0].name), up=(Up(amounts[1].name),)))
    if len(names) > 1 and not is_grouped:
        charts.append(Chart(ChartKind.HEAT, along=KeyBy(names[0].name), by=KeyBy(names[1].name), up=(Up("", "count"),)))
    if amounts:
        charts.append(Chart(ChartKind.HISTOGRAM, along=KeyBy(amounts[0].name)))
    if names and not charts:
        charts.append(chart_of(fields, names[0].name))
    if times and not charts:
        charts.append(chart_of(fields, times[0].name))
    return charts[:MOST]


def _is_id(field: Field) -> bool:
    return field.name == "id" or field.name.endswith("_id")


def _is_name(field: Field) -> bool:
    """Whether a column tells things apart by words."""
    return kind_of(field) == CATEGORY and field.kind in (Kind.TEXT, Kind.BOOL)
