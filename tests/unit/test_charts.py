"""Charts: what is drawn against all rows, figures against plain Python, picks against filters, files read back."""

from __future__ import annotations

import datetime as dt
import math
import re
import statistics
import uuid
import zlib
from collections import defaultdict
from dataclasses import replace
from decimal import Decimal
from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as some
from lxml import etree

from nimble_otter.errors import ConditionError, CorruptError, SendError
from nimble_otter.pull import Pull, Query, pull_from_text, pull_to_text
from nimble_otter.pull.charts import Chart, ChartKind, Up
from nimble_otter.pull.charts.data import place_text
from nimble_otter.pull.charts.hits import Hit, hit, rows_inside, rows_within, step
from nimble_otter.pull.charts.looks import LOOKS
from nimble_otter.pull.charts.make import draw
from nimble_otter.pull.charts.model import LEGENDS, ORDERS, PALETTES, STACKS, Mark, Note, Scale, marks_of, scale_of
from nimble_otter.pull.charts.paint import FORMATS, Window, paint
from nimble_otter.pull.charts.picking import Stretch, conditions_of, figures_of, title_of
from nimble_otter.pull.charts.places import places_of
from nimble_otter.pull.charts.reduce import line_of, reduce_line, spots_of
from nimble_otter.pull.charts.spread import bin_edges
from nimble_otter.pull.charts.suggest import chart_of, offers
from nimble_otter.pull.shaped import all_rows
from nimble_otter.pull.steps import FilterStep, GroupStep, SortBy, SortStep
from nimble_otter.pull.steps.group import KeyBy
from nimble_otter.sources import Source
from nimble_otter.stop import NEVER
from nimble_otter.table import Field, Kind, Table
from nimble_otter.table.core.build import ColumnBuilder, table_of
from nimble_otter.table.ops.binning import parts_for
from nimble_otter.table.ops.measures import AggregateFunction as Agg
from nimble_otter.table.text.column_format import ColumnFormat, in_zone
from tests.proofs import how_many

K = KeyBy
SOURCE = Source("s", "sqlite:////q.db")
WORDS = ("Sallow", "Merrow", "Tarn'beck", "", "Élan weir")
FLOATS = some.floats(-1e6, 1e6) | some.sampled_from([math.nan, math.inf, -math.inf, 0.0])


def built(values, kind):
    builder = ColumnBuilder(kind)
    builder.extend(values)
    return builder.finish()


def rows(count: int, seed: int = 0, nulls: float = 0.1):
    """A table of every kind that has a place, with NULLs."""
    rng = np.random.default_rng(seed)
    start = dt.datetime(2030, 11, 2)

    def some_of(values):
        return [None if rng.random() < nulls else value for value in values]

    moments = [start + dt.timedelta(minutes=int(m)) for m in rng.integers(0, 400_000, count)]
    columns = {
        "at": moments, "zoned": [m.replace(tzinfo=dt.UTC) for m in moments], "day": [m.date() for m in moments],
        "clock": [m.time() for m in moments],
        "span": [dt.timedelta(seconds=int(s)) for s in rng.integers(-9, 99, count)],
        "n": rng.integers(-5, 60, count).tolist(), "level": np.round(rng.normal(2, 1, count), 2).tolist(),
        "cost": [Decimal(int(v)).scaleb(-2) for v in rng.integers(-900, 90_000, count)],
        "river": [WORDS[i] for i in rng.integers(0, len(WORDS), count)], "ok": (rng.random(count) < 0.4).tolist(),
        "key": [str(uuid.UUID(int=int(i))) for i in rng.integers(0, 4, count)],
    }  # fmt: skip
    order = ["TIME", "ZONED", "DATE", "CLOCK", "SPAN", "INT", "FLOAT", "DECIMAL", "TEXT", "BOOL", "UUID"]
    kinds = {name: Kind[kind] for name, kind in zip(columns, order, strict=True)}
    made = [built(some_of(values), kinds[name]) for name, values in columns.items()]
    fields = tuple(Field(name, column.kind) for name, column in zip(columns, made, strict=True))
    assert [column.kind for column in made] == list(kinds.values())
    return all_rows(Table(fields, tuple(made), count))


def values(shaped, name):
    return shaped.table.column(name).values()


def marks_by_key(drawn, shaped, chart):
    """What each mark stands for, from its own told columns: {(panel, by, along): (height, rows)}."""
    found = {}
    keys = [key for key in (chart.panels, chart.by, chart.along) if key.column]
    for each in drawn.series:
        told = {field.name: column for field, column in each.told}
        for mark, at in enumerate(each.at.tolist()):
            key = tuple(told[k.title].value(at) for k in keys)
            base = 0.0 if each.base is None else float(each.base[mark])
            found[key, each.measure] = (float(each.y[mark]) - base, each.rows_of(np.array([mark])).tolist())
    return found


# --- reduction ----------------------------------------------------------------------------------------------------


@given(some.lists(some.tuples(some.integers(0, 300), FLOATS), max_size=700), some.integers(1, 40), some.data())
@settings(max_examples=how_many(150, 4000))
def test_a_reduced_line_reaches_as_far_in_each_column_as_all_marks_do(points, columns, data):
    points.sort(key=lambda p: p[0])
    x, y = np.array([p[0] for p in points], float), np.array([p[1] for p in points], float)
    y[np.isinf(y)] = np.nan
    low = data.draw(some.floats(-10, 310))
    ends = np.linspace(low, low + data.draw(some.floats(1, 330)), columns + 1)
    rx, ry = reduce_line(line_of(np.repeat(x, 3), np.repeat(y, 3)), ends)
    assert len(rx) <= 4 * columns + 2 or len(rx) <= 4 * (columns + 1)
    assert (np.diff(rx) >= 0).all()
    for left, right in pairwise(ends):
        own, reduced = y[(x >= left) & (x < right)], ry[(rx >= left) & (rx < right)]
        assert (len(own) > 0) == (len(reduced) > 0)
        if (~np.isnan(own)).any():
            assert (np.nanmin(own), np.nanmax(own)) == (np.nanmin(reduced), np.nanmax(reduced))
        if len(own):
            for whole, few in ((own[0], reduced[0]), (own[-1], reduced[-1])):  # a line breaks where it did
                assert whole == few or (np.isnan(whole) and np.isnan(few))


def test_long_lines_are_reduced_by_blocks_to_the_same_extremes():
    rng = np.random.default_rng(5)
    y = rng.normal(0, 1, 200_000).cumsum()
    y[rng.integers(0, len(y), 900)] = np.nan
    y[40_000:40_700] = np.nan
    x = np.sort(rng.random(len(y)))
    line = line_of(x, y)
    for low, high in ((0.0, 1.0), (0.2, 0.2004), (0.17, 0.61), (-3.0, 0.3), (0.5, 9.0)):
        ends = np.linspace(low, high, 321)
        rx, ry = reduce_line(line, ends)
        for left, right in pairwise(ends):
            own, few = y[(x >= left) & (x < right)], ry[(rx >= left) & (rx < right)]
            if (~np.isnan(own)).any():
                assert (np.nanmin(own), np.nanmax(own)) == (np.nanmin(few), np.nanmax(few))
    assert len(reduce_line(line, np.linspace(0, 1, 321))[0]) < 1300


@given(some.lists(some.tuples(FLOATS, FLOATS), min_size=1, max_size=300), some.integers(1, 30), some.integers(1, 20))
@settings(max_examples=how_many(80, 2000))
def test_spots_count_each_point_once_where_it_falls(points, columns, down):
    x, y = np.array([p[0] for p in points]), np.array([p[1] for p in points])
    found = spots_of(x, y, (-1e6, 1e6), (-1e6, 1e6), columns, down, np.ones(len(x)))
    inside = np.isfinite(x) & np.isfinite(y)
    assert found.counts.sum() == inside.sum() == found.shades.sum()
    wanted, *_ = np.histogram2d(y[inside], x[inside], (down, columns), ((-1e6, 1e6), (-1e6, 1e6)))
    near = np.abs((x[inside] + 1e6) * columns / 2e6 % 1 - 0.5) > 0.4999  # at an edge either spot is right
    if not near.any() and not (np.abs((y[inside] + 1e6) * down / 2e6 % 1 - 0.5) > 0.4999).any():
        assert (found.counts == wanted).all()


# --- figures ------------------------------------------------------------------------------------------------------


def filled(values):
    return [value for value in values if value is not None]


FIGURES = {
    Agg.COUNT: len, Agg.FILLED: lambda v: sum(x is not None for x in v),
    Agg.SUM: lambda v: sum(filled(v)), Agg.MEAN: lambda v: statistics.fmean(filled(v)),
    Agg.MAX: lambda v: max(filled(v)),
    Agg.MEDIAN: lambda v: statistics.median(filled(v)), Agg.MIN: lambda v: min(filled(v)),
    Agg.DISTINCT: lambda v: len(set(filled(v))),
}  # fmt: skip


@pytest.mark.parametrize("figure", FIGURES)
@pytest.mark.parametrize("kind", [ChartKind.BARS, ChartKind.LINE, ChartKind.HEAT])
def test_figures_are_those_of_plain_python_and_of_the_group_step(kind, figure):
    shaped = rows(700, seed=len(figure))
    column = "" if figure is Agg.COUNT else "level"
    chart = Chart(kind, along=K("day", "month"), by=K("river"), up=(Up(column, figure.value),), panels=K("ok"))
    found = marks_by_key(draw(shaped, chart), shaped, chart)
    groups = defaultdict(list)
    for row, key in enumerate(zip(values(shaped, "ok"), values(shaped, "river"), values(shaped, "day"), strict=True)):
        month = key[2].isoformat()[:7] if key[2] else None
        groups[key[0], key[1], month].append(row)
    level = values(shaped, "level")
    for key, own in groups.items():
        if key[2] is None and kind is ChartKind.LINE:
            continue
        of = [level[row] for row in own]
        if all(v is None for v in of) and figure not in (Agg.COUNT, Agg.FILLED, Agg.DISTINCT):
            continue
        height, behind = found[key, chart.up[0].title] if kind is not ChartKind.HEAT else (None, None)
        if height is not None:
            assert math.isclose(height, FIGURES[figure](of), rel_tol=1e-9, abs_tol=1e-9)
            assert behind == own
    step_keys = tuple(key for key in (chart.panels, chart.by, chart.along) if key.column)
    grouped = GroupStep(step_keys, (chart.up[0].figure_of,)).apply(shaped, NEVER).table
    drawn = draw(shaped, chart)
    heights = [float(v) for each in drawn.series for v in (each.shade if kind is ChartKind.HEAT else each.y)]
    months = grouped.columns[2].values()
    wanted = [float(v) for v, month in zip(grouped.columns[-1].values(), months, strict=True)
              if v is not None and (month is not None or kind is not ChartKind.LINE)]  # fmt: skip
    assert sorted(v for v in heights if v == v) == pytest.approx(sorted(wanted))


def test_every_kind_of_chart_takes_every_kind_of_column_or_says_why_not():
    shaped, drawn, refused = rows(160, seed=3), 0, list[str]()
    names = [field.name for field in shaped.table.fields]
    for kind in ChartKind:
        for along in names:
            parts = ("", *(p for p in parts_for(shaped.table.fields[names.index(along)].kind)))
            for part in parts:
                for up in (
                    Up("level"),
                    Up("", "count"),
                    Up("cost", "sum"),
                    Up("span", "mean"),
                    Up("river", "distinct"),
                ):
                    chart = Chart(kind, along=K(along, part), up=(up,), by=K("river"))
                    try:
                        made = draw(shaped, chart)
                    except ConditionError as problem:
                        refused.append(problem.message)
                        continue
                    drawn += 1
                    picked = made.series[0].rows_of(np.arange(len(made.series[0].x)))
                    assert len(picked) <= 160
    assert drawn > 300
    assert all(refused)
    assert not any("failed" in message for message in refused)


def test_series_stand_on_each_other_and_shares_make_a_whole():
    shaped = rows(500, seed=8)
    for stack, kind in (("stacked", ChartKind.AREA), ("share", ChartKind.BARS)):
        chart = Chart(kind, along=K("at", "month"), by=K("river"), up=(Up("", "count"),), stack=stack)
        drawn = draw(shaped, chart)
        tops, heights = defaultdict(float), defaultdict(float)
        for each in drawn.series:
            for x, y, base in zip(each.x.tolist(), each.y.tolist(), each.base.tolist(), strict=True):
                assert math.isclose(base, heights[x], abs_tol=1e-9)
                heights[x] = y
                tops[x] = max(tops[x], y)
        if stack == "share":
            assert list(tops.values()) == pytest.approx([100.0] * len(tops))
    both = all_rows(table_of(k=["a", "a", "a", "b"], c=["x", "y", "z", "x"], v=[3.0, -2.0, 4.0, -1.0]))
    drawn = draw(both, Chart(ChartKind.BARS, along=K("k"), by=K("c"), up=(Up("v", "sum"),), stack="stacked"))
    assert [(s.base.tolist(), s.y.tolist()) for s in drawn.series] == [([0, 0], [3, -1]), ([0], [-2]), ([3], [7])]
    ground = paint(drawn, LOOKS["light"], (700, 420)).grounds[0]
    for number, each in enumerate(drawn.series):
        for mark in range(len(each.x)):
            px, py = ground.pixels(each.x[[mark]], (each.y[[mark]] + each.base[[mark]]) / 2)
            assert hit(drawn, ground, 0, float(px[0]), float(py[0])) == Hit(number, mark)  # those below 0, too
    with pytest.raises(ConditionError, match="have no share"):
        draw(both, replace(drawn.chart, stack="share"))
    with pytest.raises(ConditionError, match="don't stand on each other"):
        draw(shaped, replace(chart, up=(Up("level"),)))
    with pytest.raises(ConditionError, match="Choose an aggregate for each"):
        draw(shaped, replace(chart, stack="beside", up=(Up("level"), Up("n", "mean"))))


def test_the_rest_of_the_top_is_one_bar_of_all_other_rows():
    shaped = rows(900, seed=11, nulls=0)
    chart = Chart(ChartKind.BARS, along=K("n"), up=(Up("level", "mean"),), top=5, order="largest")
    drawn = draw(shaped, chart)
    labels = list(drawn.x.labels)
    assert len(labels) == 6
    assert labels[-1] == "other"
    means = defaultdict(list)
    for n, level in zip(values(shaped, "n"), values(shaped, "level"), strict=True):
        means[n].append(level)
    ranked = sorted(means, key=lambda n: -statistics.fmean(means[n]))
    assert [int(label) for label in labels[:5]] == ranked[:5]
    rest = [level for n in ranked[5:] for level in means[n]]
    assert drawn.series[0].y[-1] == pytest.approx(statistics.fmean(rest))
    assert len(drawn.series[0].rows_of(np.array([5]))) == len(rest)
    many = draw(rows(900, seed=2), Chart(ChartKind.LINE, along=K("day", "month"), by=K("n"), up=(Up("", "count"),)))
    assert len(many.names) == 12
    assert "stand as “other”" in " ".join(many.notes)
    assert sum(each.y.sum() for each in many.series) == sum(v is not None for v in values(rows(900, seed=2), "day"))


def test_gaps_in_time_are_seen_and_nulls_break_lines():
    days = [dt.date(2031, 1, 5), dt.date(2031, 1, 9), dt.date(2031, 4, 1), None]
    shaped = all_rows(table_of(day=days, v=[1.0, None, 3.0, 4.0]))
    bars = draw(shaped, Chart(ChartKind.BARS, along=K("day", "month"), up=(Up("", "count"),)))
    assert bars.x.labels == ("2031-01", "2031-02", "2031-03", "2031-04", "NULL")
    assert bars.series[0].x.tolist() == [0, 3, 4]
    line = draw(shaped, Chart(ChartKind.LINE, along=K("day"), up=(Up("v"),)))
    assert np.isnan(line.series[0].y[1])
    assert set(line.notes) == {"1 without day", "1 without v"}
    endless = all_rows(table_of(x=[1.0, 2.0, 3.0], v=[math.inf, math.nan, 5.0]))
    drawn = draw(endless, Chart(ChartKind.SCATTER, along=K("x"), up=(Up("v"),)))
    assert drawn.series[0].x.tolist() == [3.0]
    assert set(drawn.notes) == {"1 infinite of v left out", "1 NaN of v left out"}


@pytest.mark.parametrize("zone", ["Europe/Lisbon", "Australia/Lord_Howe", "Asia/Kolkata", "UTC", "Nowhere/None"])
def test_times_with_a_zone_stand_where_the_grid_shows_them(zone):
    moments = [dt.datetime(2031, 3, 30, tzinfo=dt.UTC) + dt.timedelta(minutes=37 * n) for n in range(9000)]
    column = built(moments, Kind.ZONED)
    found = places_of(column, Field("z", Kind.ZONED, look=ColumnFormat(zone=zone)), np.arange(len(moments)))
    wanted = [(in_zone(m, zone).replace(tzinfo=None) - dt.datetime(1970, 1, 1)) / dt.timedelta(days=1) for m in moments]
    assert found.tolist() == pytest.approx(wanted, abs=1e-9)


def test_bins_and_boxes_are_those_of_plain_reckoning():
    shaped = rows(800, seed=4)
    level = [v for v in values(shaped, "level") if v is not None]
    for wanted in (0, 7):
        drawn = draw(shaped, Chart(ChartKind.HISTOGRAM, along=K("level"), bins=wanted))
        counts, _ = np.histogram(level, drawn.edges)
        assert drawn.series[0].y.tolist() == counts.tolist()
        assert drawn.series[0].y.sum() == len(level)
    assert len(bin_edges(np.array([3.0, 3.0]))) == 2
    drawn = draw(shaped, Chart(ChartKind.BOX, along=K("river"), up=(Up("level"),)))
    boxes, outside = (each for each in drawn.series)
    by = defaultdict(list)
    for river, v in zip(values(shaped, "river"), values(shaped, "level"), strict=True):
        by[river].append(v)
    for mark, label in enumerate(boxes.at.tolist()):
        own = np.array([v for v in by[boxes.told[0][1].value(label)] if v is not None])
        first, median, third = np.percentile(own, (25, 50, 75))
        near = own[(own >= first - 1.5 * (third - first)) & (own <= third + 1.5 * (third - first))]
        got = [getattr(boxes.boxes, name)[mark] for name in ("first", "median", "third", "low", "high")]
        assert got == pytest.approx([first, median, third, near.min(), near.max()])
        assert (outside.x == boxes.x[mark]).sum() == len(own) - len(near)


# --- picking ------------------------------------------------------------------------------------------------------

CHARTS = [
    Chart(ChartKind.LINE, along=K("at", "month"), up=(Up("level", "mean"),), by=K("river")),
    Chart(ChartKind.LINE, along=K("zoned"), up=(Up("level"),)),
    Chart(ChartKind.AREA, along=K("day", "week"), up=(Up("", "count"),)),
    Chart(ChartKind.BARS, along=K("river"), up=(Up("level", "sum"),)),
    Chart(ChartKind.BARS, along=K("at", "hour of day"), up=(Up("", "count"),), by=K("ok")),
    Chart(ChartKind.BARS, along=K("day", "weekday"), up=(Up("", "count"),)),
    Chart(ChartKind.BARS, along=K("day", "quarter"), up=(Up("", "count"),)),
    Chart(ChartKind.BARS, along=K("n", "steps of 10"), up=(Up("", "count"),)),
    Chart(ChartKind.BARS, along=K("river", "first 1"), up=(Up("", "count"),)),
    Chart(ChartKind.SCATTER, along=K("level"), up=(Up("cost"),), by=K("river")),
    Chart(ChartKind.HISTOGRAM, along=K("level"), by=K("ok")),
    Chart(ChartKind.HEAT, along=K("at", "month of year"), by=K("river"), up=(Up("", "count"),)),
    Chart(ChartKind.BOX, along=K("river"), up=(Up("level"),)),
    Chart(ChartKind.SCATTER, along=K("clock"), up=(Up("n"),)),
]


def filtered(shaped, conditions):
    return FilterStep(tuple(conditions)).apply(shaped, NEVER).view.row_ids().tolist()


@pytest.mark.parametrize("chart", CHARTS, ids=lambda chart: f"{chart.kind} {chart.along.title}")
def test_what_is_picked_is_what_a_filter_keeps_and_the_rest_what_it_leaves(chart):
    shaped = rows(300, seed=13)
    drawn, rng = draw(shaped, chart), np.random.default_rng(1)
    low, high = drawn.x_ends()
    for _ in range(6):
        x = np.sort(rng.uniform(low, high, 2))
        y = None
        if chart.kind in (ChartKind.SCATTER, ChartKind.HEAT):
            y = tuple(np.sort(rng.uniform(*drawn.y_ends(), 2)).tolist())
        picked = rows_within(drawn, 0, (x[0], x[1]), y).tolist()
        stretch = Stretch(0, (float(x[0]), float(x[1])), y)
        if chart.kind is not ChartKind.HISTOGRAM and picked and chart.kind is not ChartKind.BOX:
            keep, leave = (conditions_of(drawn, stretch, way) for way in (True, False))
            if chart.along.column in ("zoned", "at", "clock") and not chart.along.part:
                assert set(picked) >= set(filtered(shaped, keep))  # ends between two microseconds
            else:
                kept = filtered(shaped, keep)
                extra = set(kept) - set(picked)  # rows that stand nowhere for want of a height
                assert set(picked) <= set(kept)
                assert all(values(shaped, up.column)[row] is None for row in extra for up in chart.up if up.column)
                assert sorted(filtered(shaped, leave) + kept) == list(range(300))
    for number, each in enumerate(drawn.series):
        for mark in rng.integers(0, len(each.x), 4).tolist():
            behind = each.rows_of(np.array([mark])).tolist()
            keep, leave = (conditions_of(drawn, Hit(number, mark), way) for way in (True, False))
            kept = filtered(shaped, keep)
            assert set(behind) <= set(kept)
            if each.groups is not None and chart.kind is not ChartKind.BOX:
                assert behind == kept
            assert sorted(filtered(shaped, leave) + kept) == list(range(300))
            mask = np.zeros(300, bool)
            mask[behind] = True
            assert each.holding(mask)[mark] or not behind
            assert title_of(drawn, Hit(number, mark)) is not None


def test_a_pointer_finds_the_mark_that_stands_there():
    shaped = rows(240, seed=21, nulls=0.05)
    for chart in (
        *CHARTS,
        replace(CHARTS[3], sideways=True),
        replace(CHARTS[9], x_scale="reversed", y_scale="0 to 900"),
    ):
        drawn = draw(shaped, chart)
        ground = paint(drawn, LOOKS["light"], (700, 420)).grounds[0]
        tried = 0
        for number, each in enumerate(drawn.series):
            for mark in range(0, len(each.x), 7):
                y = each.y[mark]
                if chart.kind in (ChartKind.BARS, ChartKind.HISTOGRAM):
                    base = 0.0 if each.base is None else each.base[mark]
                    y = (y + base) / 2
                    if each.y[mark] == base:
                        continue
                from nimble_otter.pull.charts.hits import bar_room

                shift = bar_room(drawn)[1][each.place] if chart.kind in ("bars", "histogram", "box") else 0.0
                at = [np.array([each.x[mark] + shift]), np.array([y])]
                px, py = ground.pixels(*(at[::-1] if chart.sideways else at))
                if math.isnan(y) or not ground.holds(px[0], py[0]):
                    continue
                found = hit(drawn, ground, 0, float(px[0]), float(py[0]))
                assert found is not None
                tried += 1
                if chart.kind in (ChartKind.BARS, ChartKind.HISTOGRAM, ChartKind.HEAT):
                    assert found == Hit(number, mark)
                else:
                    other = drawn.series[found.series]
                    near = ground.pixels(*([other.x[[found.mark]], other.y[[found.mark]]]))
                    if other.boxes is None and each.boxes is None:
                        assert math.hypot(near[0][0] - px[0], near[1][0] - py[0]) < 9 or chart.kind is ChartKind.BOX
        assert tried
        assert hit(drawn, ground, 0, ground.left - 20, ground.top) is None


def test_keys_reach_every_mark_and_an_outline_picks_what_is_in_it():
    shaped = rows(60, seed=2, nulls=0)
    drawn = draw(shaped, CHARTS[0])
    at, seen = step(drawn, None, (1, 0)), set()
    for _ in range(len(drawn.series)):
        for way in (-1, 1):
            before = None
            while at != before:
                seen.add(at)
                before, at = at, step(drawn, at, (way, 0))
        at = step(drawn, at, (0, 1))
    assert len(seen) == sum((~np.isnan(each.y)).sum() for each in drawn.series)
    drawn = draw(shaped, CHARTS[9])
    ground = paint(drawn, LOOKS["light"], (600, 400)).grounds[0]
    left, top, right, bottom = ground.left, ground.top, ground.left + ground.width / 2, ground.top + ground.height / 2
    box = [(left, top), (right, top), (right, bottom), (left, bottom)]
    x, y = ground.place(right, bottom)
    assert rows_inside(drawn, ground, 0, box).tolist() == rows_within(drawn, 0, (-1e9, x), (y, 1e9)).tolist()
    assert rows_inside(drawn, ground, 0, [(0, 0), (1, 1), (2, 0)]).tolist() == []


def test_figures_of_what_is_picked():
    shaped = rows(300, seed=5, nulls=0)
    picked = np.arange(40, 90)
    told = dict(figures_of(draw(shaped, CHARTS[0]), shaped.table, picked))
    level = values(shaped, "level")[40:90]
    assert float(told["level, mean"]) == pytest.approx(statistics.fmean(level), rel=1e-5)
    assert float(told["level, highest"]) == max(level)
    assert told["there: river"] == values(shaped, "river")[40 + level.index(max(level))]


# --- kept and read ------------------------------------------------------------------------------------------------

TEXTS = some.text(some.characters(exclude_categories=["Cs"]), max_size=12)
KEYS = some.builds(KeyBy, TEXTS, some.sampled_from(["", "month", "steps of 10"])).map(
    lambda k: k if k.column else K("")
)
NOTES = some.builds(Note, TEXTS, TEXTS, TEXTS)
UPS = some.builds(Up, TEXTS, some.sampled_from(["", "mean", "count", "quantile"]), some.just(0.5), some.booleans())
ANY = some.builds(
    Chart, some.sampled_from(ChartKind), TEXTS, KEYS, some.lists(UPS, max_size=3).map(tuple), KEYS, TEXTS, KEYS,
    some.sampled_from(STACKS), some.booleans(), some.sampled_from(ORDERS), some.integers(0, 99), some.integers(0, 99),
    *([TEXTS] * 8), some.lists(NOTES, max_size=2).map(tuple), some.sampled_from(LEGENDS),
    some.booleans(), some.sampled_from(PALETTES),
)  # fmt: skip


@given(some.lists(ANY, max_size=3).map(tuple))
@settings(max_examples=how_many(60, 2000))
def test_charts_are_kept_in_the_pull_file(charts):
    pull = Pull("p", SOURCE, Query("select 1"), charts=charts)
    text = pull_to_text(pull)
    assert pull_from_text(text).charts == charts
    assert ("version = 2" in text) == bool(charts)


@pytest.mark.parametrize(
    "plain",
    ['kind = "pie"', 'kind = "line"\nstack = "up"', 'kind = "line"\ntop = "many"', 'kind = "line"\nbins = -1',
     'along = "x"', 'kind = "line"\nup = [{figure = "guess"}]', 'kind = "line"\nnotes = [{x = "1"}]'],
)  # fmt: skip
def test_damaged_charts_are_refused_whole(plain):
    text = pull_to_text(Pull("p", SOURCE, Query("select 1"), charts=(Chart(),)))
    with pytest.raises(CorruptError):
        pull_from_text(text.replace('kind = "line"', plain))
    with pytest.raises(CorruptError, match="at most"):
        pull_from_text(pull_to_text(Pull("p", SOURCE, Query("select 1"), charts=(Chart(),) * 51)))


@pytest.mark.parametrize(
    ("text", "wanted"),
    [("", Scale()), ("0 to 4", Scale(0, 4)), ("4 to 0", Scale(0, 4, is_reversed=True)), ("log", Scale(is_log=True)),
     ("log 0.1 to 100", Scale(0.1, 100, True)), ("reversed", Scale(is_reversed=True)), ("from 2", Scale(2)),
     ("to 9 reversed", Scale(None, 9, is_reversed=True)), ("2031-05-01 to 2031-05-03", Scale(22400, 22402)),
     ("log 0 to 9", None), ("1 to 1", None), ("wide", None), ("nan to 4", None), ("0 to inf", None)],
)  # fmt: skip
def test_scales_are_read_as_they_are_typed(text, wanted):
    if wanted is None:
        with pytest.raises(ConditionError):
            scale_of(text)
    else:
        assert scale_of(text) == wanted


def test_lines_and_bands_are_read_as_they_are_typed():
    assert marks_of("3.2 flood watch; 2 to 3 usual;") == [Mark(3.2, None, "flood watch"), Mark(2, 3, "usual")]
    assert marks_of("2031-05-18 the storm")[0].is_moment
    with pytest.raises(ConditionError, match="does not begin"):
        marks_of("flood watch")


def test_offers_draw_and_fit_the_kinds_of_columns():
    shaped = rows(200, seed=6)
    for fields in (shaped.table.fields, shaped.table.fields[5:8], shaped.table.fields[8:10], shaped.table.fields[:2]):
        made = offers(fields)
        assert made
        for chart in made:
            assert set(chart.columns()) <= {field.name for field in fields}
            assert draw(shaped, chart).marks
    kinds = [(chart.kind, chart.along.column) for chart in offers(shaped.table.fields)]
    assert kinds[0] == (ChartKind.LINE, "at")
    assert offers(shaped.table.fields[5:7])[0].kind is ChartKind.SCATTER
    for field in shaped.table.fields:
        assert draw(shaped, chart_of(shaped.table.fields, field.name)).marks
    grouped = GroupStep((K("river"),), (Up("level", "mean").figure_of,)).apply(shaped, NEVER)
    assert draw(grouped, offers(grouped.table.fields, True)[0]).series[0].at.tolist() == list(range(grouped.rows))


# --- the picture --------------------------------------------------------------------------------------------------


def pdf_words(data: bytes) -> int:
    """How many of the streams of a PDF are whole."""
    streams = re.findall(rb"FlateDecode.*?stream\r?\n(.*?)\r?\nendstream", data, re.DOTALL)
    return sum(bool(zlib.decompress(part)) for part in streams)


@pytest.mark.parametrize("chart", {chart.kind: chart for chart in CHARTS}.values(), ids=lambda chart: chart.kind)
def test_pictures_are_whole_files_and_hold_what_was_asked(chart):
    said = {"title": "Höhe <&> \u6c34", "lines": "3.2 flood watch; 1 to 2 usual", "x_title": "bottom", "y_title": "up"}
    chart = replace(chart, **said)
    drawn = draw(rows(150, seed=9), chart)
    for name, look in LOOKS.items():
        picture = paint(drawn, look, (640, 400), 1.0 if name == "light" else 2.0)
        pixels, width, height = picture.pixels()
        assert (width, height) == ((640, 400) if name == "light" else (1280, 800))
        assert len(pixels) == 4 * width * height
    light = paint(drawn, LOOKS["light"])
    text = light.file("svg")
    assert light.file("svg") == text
    svg = etree.fromstring(text)
    words = " ".join("".join(node.itertext()) for node in svg.iter("{http://www.w3.org/2000/svg}text"))
    assert all(word in words for word in ("Höhe <&> \u6c34", "bottom", "up"))
    assert ("flood watch" in words) == (chart.kind is not ChartKind.HEAT) or "flood watch" in words
    pdf = light.file("pdf")
    assert pdf.startswith(b"%PDF-")
    assert pdf.rstrip().endswith(b"%%EOF")
    assert pdf_words(pdf) > 0
    assert light.file("png").startswith(b"\x89PNG")
    with pytest.raises(SendError, match="png, svg and pdf"):
        light.file("bmp")
    assert set(FORMATS) == {"png", "svg", "pdf"}


@pytest.mark.parametrize(
    "scales", [("", "log"), ("reversed", ""), ("log", "log 0.01 to 100"), ("-3 to 9", "from 1"), ("", "reversed")]
)
def test_pixels_and_places_are_each_others_way_back(scales):
    shaped = rows(200, seed=14)
    chart = Chart(ChartKind.SCATTER, along=K("level"), up=(Up("cost"),), x_scale=scales[0], y_scale=scales[1],
                  panels=K("ok"))  # fmt: skip
    drawn = draw(shaped, chart)
    picture = paint(drawn, LOOKS["light"], (800, 500), window=Window(None, (1.0, 600.0)))
    assert len(picture.grounds) == len(drawn.panels) == 3
    for ground in picture.grounds:
        for across, down in ((0.1, 0.2), (0.5, 0.5), (0.97, 0.8)):
            px, py = ground.left + across * ground.width, ground.top + down * ground.height
            x, y = ground.place(px, py)
            back = ground.pixels(np.array([x]), np.array([y]))
            assert (back[0][0], back[1][0]) == pytest.approx((px, py))


def test_the_table_of_what_is_drawn_has_the_exact_values():
    shaped = SortStep((SortBy("at"),)).apply(rows(120, seed=19, nulls=0), NEVER)
    drawn = draw(shaped, Chart(ChartKind.BARS, along=K("river"), up=(Up("cost", "sum"),), panels=K("ok")))
    table = drawn.as_table()
    sums = defaultdict(Decimal)
    for ok, river, cost in zip(values(shaped, "ok"), values(shaped, "river"), values(shaped, "cost"), strict=True):
        sums[ok, river] += cost
    assert {(a, b): c for a, b, c in zip(*(c.values() for c in table.columns), strict=True)} == sums
    raw = draw(shaped, Chart(ChartKind.LINE, along=K("at"), up=(Up("cost"),)))
    assert raw.as_table().column("at").values() == sorted(values(shaped, "at"))
    assert dict(raw.series[0].values(3))["cost"]
    assert place_text(raw.x, raw.series[0].x[0]).startswith("203")
