"""Rows picked in a chart: what a filter says of them, and their figures."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from nimble_otter.pull.charts.data import Drawn, Series, place_text
from nimble_otter.pull.charts.hits import Hit
from nimble_otter.pull.charts.model import ChartKind
from nimble_otter.pull.charts.places import CATEGORY, CLOCK, TIME, day_of_part, kind_of, places_of, step_of, time_texts
from nimble_otter.pull.steps.filter import Condition
from nimble_otter.pull.steps.group import KeyBy
from nimble_otter.table import Field, Kind, Table
from nimble_otter.table.core.columns import Ids
from nimble_otter.table.text.show import plain, shown
from nimble_otter.translation import tr
from nimble_otter.values import Value

MOST_FIGURES = 8
_LENGTHS = {"year": 366, "quarter": 92, "month": 31, "week": 7, "day": 1}
_EXTRACTED = {"hour of day": "hour", "weekday": "isodow", "month of year": "month"}


@dataclass(frozen=True, slots=True)
class Stretch:
    """A stretch of a panel: its ends along the bottom and up (None: whatever stands up)."""

    panel: int
    x: tuple[float, float]
    y: tuple[float, float] | None = None


def title_of(drawn: Drawn, picked: Stretch | Hit) -> str:
    """What a place of a chart is called."""
    if isinstance(picked, Hit):
        return ", ".join(value for _, value in drawn.series[picked.series].values(picked.mark)[:2])
    if drawn.x.kind == CATEGORY:
        inside = [label for n, label in enumerate(drawn.x.labels) if picked.x[0] <= n <= picked.x[1]]
        return ", ".join(inside[:3]) + (
            tr(" and {inside_count} more", inside_count=len(inside) - 3) if len(inside) > 3 else ""
        )
    low, high = picked.x
    if drawn.x.kind == TIME:
        return " to ".join(time_texts(end)[: 10 if high - low > 2 else 16] for end in (low, high))
    return tr("{low} to {high}", low=place_text(drawn.x, low), high=place_text(drawn.x, high))


def conditions_of(drawn: Drawn, picked: Stretch | Hit, keep: bool) -> tuple[Condition, ...]:
    """What keeps the rows of a stretch or a mark, or leaves them out; none where that can't be said."""
    conditions = _of_mark(drawn, picked) if isinstance(picked, Hit) else _of_stretch(drawn, picked)
    if keep or not conditions:
        return tuple(conditions)
    if len(conditions) == 1 and conditions[0].operator == "is one of":
        return (Condition("is none of", conditions[0].column, conditions[0].values, conditions[0].with_empty),)
    whole = " and ".join(f"({each.as_sql()})" for each in conditions)
    return (Condition("sql", text=f"({whole}) is not true"),)


def _of_stretch(drawn: Drawn, picked: Stretch) -> list[Condition]:
    chart, conditions = drawn.chart, list[Condition]()
    if drawn.x.kind == CATEGORY:
        conditions += _among(
            drawn, chart.along, [n for n in range(len(drawn.x.labels)) if picked.x[0] <= n <= picked.x[1]]
        )
    else:
        low, high = (_text(drawn.x.kind, place) for place in picked.x)
        conditions.append(Condition("between", chart.along.column, (low, high)))
        if drawn.x.field is not None and drawn.x.field.kind is Kind.DATE:
            ends = (float(np.ceil(picked.x[0])), float(np.floor(picked.x[1])))
            conditions = [Condition("between", chart.along.column, tuple(time_texts(end) for end in ends))]
        if chart.along.part:  # marks of parts stand where these begin: all of a part is picked, or nothing
            inside = [each.x[(each.x >= picked.x[0]) & (each.x <= picked.x[1])] for each in drawn.series]
            inside = [each for each in inside if len(each)]
            conditions = (
                _span(chart.along, min(e.min() for e in inside), max(e.max() for e in inside)) if inside else []
            )
    if picked.y is not None:
        if drawn.y.kind == CATEGORY:
            within = [n for n in range(len(drawn.y.labels)) if picked.y[0] <= n <= picked.y[1]]
            conditions += _among(drawn, chart.by, within, upright=True)
        elif chart.up and not chart.up[0].figure and len(chart.up) == 1:
            conditions.append(Condition("between", chart.up[0].column, tuple(f"{v:.12g}" for v in picked.y)))
    if len(drawn.panels) > 1 and chart.panels.column:
        conditions += _equal(drawn, chart.panels, picked.panel)
    return conditions


def _text(kind: str, place: float) -> str:
    if kind == TIME:
        return time_texts(place)
    if kind == CLOCK:
        return (dt.datetime.min + dt.timedelta(hours=place)).time().isoformat()
    return f"{place:.12g}"


def _span(key: KeyBy, first: float, last: float) -> list[Condition]:
    """From where one part of a column begins to where another ends."""
    name = _quoted_name(key.column)
    width = step_of(key.part)
    if width:
        return [Condition("sql", text=f"{name} >= {first:.12g} and {name} < {last + width:.12g}")]
    begin = dt.datetime(1970, 1, 1) + dt.timedelta(days=last)
    if key.part == "hour":
        end = begin + dt.timedelta(hours=1)
    else:
        day = begin.date()
        after = day + dt.timedelta(days=_LENGTHS.get(key.part, 1))
        if key.part in ("year", "quarter", "month"):
            after = after.replace(day=1)
        end = dt.datetime.combine(after, dt.time())
    lines = [time_texts(first), time_texts((end - dt.datetime(1970, 1, 1)) / dt.timedelta(days=1))]
    return [Condition("sql", text=f"{name} >= '{lines[0]}' and {name} < '{lines[1]}'")]


def _among(drawn: Drawn, key: KeyBy, places: Sequence[int], upright: bool = False) -> list[Condition]:
    """That a key is one of the categories at some places."""
    values: dict[Any, None] = {}
    for each in drawn.series:
        spots = each.y if upright else each.x
        marks = np.flatnonzero(np.isin(np.rint(spots), places))
        own = _told(each, key.title)
        if own is None:
            return []
        for value in own[1].values(each.at[marks]):
            values[value] = None
    return _one_of(key, list(values), own[0] if drawn.series and own is not None else None)


def _equal(drawn: Drawn, key: KeyBy, panel: int) -> list[Condition]:
    each = next((s for s in drawn.series if s.panel == panel and len(s.at)), None)
    own = _told(each, key.title) if each is not None else None
    return _one_of(key, [own[1].value(int(each.at[0]))], own[0]) if each is not None and own is not None else []


def _told(each: Series, name: str) -> tuple[Field, Value] | None:
    return next(((own, column) for own, column in each.told if own.name == name), None)


def _one_of(key: KeyBy, values: list[Value], field: Field | None) -> list[Condition]:
    """That a key has one of some values; parts of values as the local language extracts them."""
    filled = [value for value in values if value is not None]
    if not key.part:
        return [Condition("is one of", key.column, tuple(filled), len(filled) < len(values))] if values else []
    name, parts = _quoted_name(key.column), list[str]()
    for value in filled:
        if key.part in _EXTRACTED:
            number = value if isinstance(value, int) else int(str(value).split()[0])
            parts.append(f"extract({_EXTRACTED[key.part]} from {name}) = {number}")
        elif key.part.startswith("first "):
            quoted = str(value).replace("'", "''")
            parts.append(f"left({name}, {int(key.part.split()[1])}) = '{quoted}'")
        elif step_of(key.part):
            parts += [c.text for c in _span(key, float(value), float(value))]
        elif key.part in _LENGTHS or key.part == "hour":
            text = value.isoformat() if isinstance(value, (dt.date, dt.datetime)) else str(value)
            day = (
                (dt.datetime.fromisoformat(text).replace(tzinfo=None) - dt.datetime(1970, 1, 1)) / dt.timedelta(days=1)
                if key.part in ("hour", "day")
                else day_of_part(text, key.part)
            )
            parts += [c.text for c in _span(key, day, day)]
    if len(filled) < len(values):
        parts.append(f"{name} is null")
    whole = " or ".join(f"({part})" if " and " in part else part for part in parts)
    return [Condition("sql", text=whole)] if whole else []


def _of_mark(drawn: Drawn, picked: Hit) -> list[Condition]:
    """That each of a mark's columns has the value that it has there."""
    each, chart, conditions = drawn.series[picked.series], drawn.chart, list[Condition]()
    at = int(each.at[picked.mark])
    if chart.kind is ChartKind.HISTOGRAM:
        low, high = (own[1].value(at) for name in ("from", "to") if (own := _told(each, name)) is not None)
        name = _quoted_name(chart.along.column)
        quote = "'" if drawn.x.kind == TIME else ""
        is_last = drawn.edges is not None and picked.mark == len(drawn.edges) - 2
        text = f"{name} >= {quote}{plain(low)}{quote} and {name} {'<=' if is_last else '<'} {quote}{plain(high)}{quote}"
        conditions.append(Condition("sql", text=text))
        own = _told(each, chart.by.title) if chart.by.column else None
        return [*conditions, *_one_of(chart.by, [own[1].value(at)], own[0])] if own is not None else conditions
    keys = [key for key in (chart.panels, chart.by, chart.along) if key.column]
    if each.groups is None:
        keys += [KeyBy(up.column) for up in chart.up if up.title == each.measure]
    for key in {key.title: key for key in keys}.values():
        own = _told(each, key.title)
        if own is not None:
            conditions += _one_of(key, [own[1].value(at)], own[0])
    return conditions


def _quoted_name(name: str) -> str:
    return name if name.isidentifier() and name == name.lower() else '"' + name.replace('"', '""') + '"'


def figures_of(drawn: Drawn, table: Table, rows: Ids) -> tuple[tuple[str, str], ...]:
    """Figures of the rows picked: of what stands up, and of each colour."""
    chart, results = drawn.chart, list[tuple[str, str]]()
    names = [up.column for up in chart.up if up.column] or [chart.along.column]
    for name in dict.fromkeys(names):
        try:
            index = table.index(name)
        except KeyError:
            continue
        field, column = table.fields[index], table.columns[index]
        if kind_of(field) == CATEGORY or not len(rows):
            continue
        values = places_of(column, field, rows)
        values, own = values[np.isfinite(values)], rows[np.isfinite(values)]
        if not len(values):
            continue
        if field.is_number:
            results.append((tr("{name}, mean", name=name), shown(float(f"{values.mean():.6g}"), field)))
        low, high = int(np.argmin(values)), int(np.argmax(values))
        results += [(tr("{name}, lowest", name=name), shown(column.value(int(own[low])), field)),
                  (tr("{name}, highest", name=name), shown(column.value(int(own[high])), field))]  # fmt: skip
        results += _beside(table, chart.columns(), name, int(own[high]))
    return tuple(results[: 2 * MOST_FIGURES])


def _beside(table: Table, names: Sequence[str], but: str, row: int) -> list[tuple[str, str]]:
    """What else stands in the row of the highest value."""
    results: list[tuple[str, str]] = []
    for name in names:
        if name != but and len(results) < 3:
            index = table.index(name)
            results.append(
                (tr("there: {name}", name=name), shown(table.columns[index].value(row), table.fields[index]))
            )
    return results
