"""Groups by parts of values and every figure, against plain Python."""

from __future__ import annotations

import datetime as dt
import gc
import math
import statistics
import weakref
from collections import Counter
from decimal import Decimal

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as some

from nimble_otter.entry import Entry
from nimble_otter.errors import ConditionError
from nimble_otter.pull import run_course
from nimble_otter.pull.steps import (
    Computed,
    ComputeStep,
    Condition,
    FigureOf,
    FilterStep,
    GroupStep,
    KeyBy,
    SortBy,
    SortStep,
    group_keys,
)
from nimble_otter.pull.tree import Opened, tree_lines, tree_to_send
from nimble_otter.table import Kind, View
from nimble_otter.table.core.build import column_of, table_of
from nimble_otter.table.kernels.numeric import as_amounts
from nimble_otter.table.ops import figures
from nimble_otter.table.ops.binning import OF_TIMES, part_column, parts_for
from nimble_otter.table.ops.figures import MOST_LISTED
from nimble_otter.table.ops.group import group_view
from nimble_otter.table.ops.measures import Aggregate
from nimble_otter.table.ops.measures import AggregateFunction as Agg
from nimble_otter.table.ops.profile import profile

VALUES = {
    "ints": some.integers(-(2**63), 2**63 - 1) | some.integers(-3, 3),
    "floats": some.floats(-1e6, 1e6) | some.sampled_from([0.0, -0.0, 1.5]),
    "decimals": some.integers(-(10**12), 10**12).map(lambda n: Decimal(n).scaleb(-2)),
    "dates": some.dates(dt.date(1900, 1, 1), dt.date(2100, 1, 1)),
    "texts": some.text("ab é", max_size=3),
    "spans": some.timedeltas(dt.timedelta(days=-9), dt.timedelta(days=9)),
    "numbers": some.one_of(
        some.tuples(some.integers(-(10**6), 10**6), some.integers(0, 9)).map(lambda p: Decimal(p[0]).scaleb(-p[1])),
        some.integers(-(2**70), 2**70),
        some.sampled_from([Decimal("1.5"), Decimal("1.50"), 1]),
    ),
    "whole and not": some.integers(-9, 9) | some.sampled_from([0.5, -2.25, 3.0]),
    "mixed": some.one_of(some.integers(0, 3), some.text("ab", max_size=1)),
}
ROWS = some.sampled_from(sorted(VALUES)).flatmap(
    lambda kind: some.lists(some.tuples(some.sampled_from("xyz"), some.none() | VALUES[kind]), max_size=30)
)


def key(value):
    return (str(type(value)) if not isinstance(value, (int, float, Decimal)) else "", value)


def wanted(figure: Agg, values: list) -> object:
    """The figure of the values of a group that are not empty."""
    if figure in (Agg.FILLED, Agg.DISTINCT):
        return len(values) if figure is Agg.FILLED else len(set(values))
    if not values:
        return None
    ends = {Agg.FIRST: values[0], Agg.LAST: values[-1]}
    if figure in ends:
        return ends[figure]
    ordered = sorted(values, key=key)
    counts = Counter(ordered)
    return {
        Agg.MIN: ordered[0], Agg.MAX: ordered[-1],
        Agg.MODE: next(v for v in ordered if counts[v] == max(counts.values())),
        Agg.LIST: ", ".join(map(figures.plain, dict.fromkeys(ordered))),
    }[figure]  # fmt: skip


@settings(max_examples=150)
@given(ROWS)
def test_figures_of_any_kind_match_plain_python(rows):
    if not rows:
        return
    table = table_of(k=[k for k, _ in rows], v=[v for _, v in rows])
    asked = (
        Agg.FILLED,
        Agg.DISTINCT,
        Agg.FIRST,
        Agg.LAST,
        Agg.MIN,
        Agg.MAX,
        Agg.MODE,
        Agg.LIST,
    )
    leaves = group_view(View(table), [0], [Aggregate(f, 1) for f in asked]).leaves
    held = list(zip(*(c.values() for c in table.columns), strict=True))  # decimals of a column have the same digits
    for group, name in enumerate(leaves.columns[0].values()):
        values = [v for k, v in held if k == name and v is not None]
        got = [column.value(group) for column in leaves.columns[1:]]
        want = [wanted(f, values) for f in asked]
        if table.columns[1].kind is Kind.FLOAT:  # the list says which of 0.0 and -0.0 it met
            got, want = got[:-1], want[:-1]
        assert got == want


@settings(max_examples=150)
@given(ROWS, some.floats(0, 1))
def test_figures_of_amounts_match_plain_python(rows, at):
    table = table_of(k=[k for k, _ in rows], v=[v for _, v in rows])
    if not rows or not table.fields[1].is_amount:
        return
    asked = [
        Agg.SUM,
        Agg.MEAN,
        Agg.SPREAD,
        Agg.RANGE,
        Agg.MEDIAN,
    ]
    measures = [*(Aggregate(f, 1) for f in asked), Aggregate(Agg.QUANTILE, 1, at)]
    leaves = group_view(View(table), [0], measures).leaves
    for group, name in enumerate(leaves.columns[0].values()):
        values = [v for k, v in rows if k == name and v is not None]
        got = [column.value(group) for column in leaves.columns[1:]]
        if not values:
            assert got == [None] * 6
            continue
        is_span = isinstance(values[0], dt.timedelta)
        numbers = [v / dt.timedelta(microseconds=1) if is_span else float(v) for v in values]
        got = [v / dt.timedelta(microseconds=1) if isinstance(v, dt.timedelta) else v for v in got]
        if isinstance(values[0], float):
            assert got[0] == pytest.approx(math.fsum(numbers), rel=1e-9, abs=1e-6)
        else:
            assert leaves.columns[1].value(group) == sum(values[1:], values[0])  # exact, however large
            assert leaves.columns[4].value(group) == max(values) - min(values)
        spread = statistics.stdev(numbers) if len(numbers) > 1 else None
        near = {"rel": 1e-6, "abs": max(map(abs, numbers)) * 1e-9 + 1}
        assert got[1] == pytest.approx(statistics.fmean(numbers), **near)
        assert got[2] is None if spread is None else got[2] == pytest.approx(spread, **near)
        assert got[4] == pytest.approx(statistics.median(numbers), **near)
        assert got[5] == pytest.approx(float(np.quantile(numbers, at)), **near)


def test_a_long_list_says_what_it_leaves_out():
    table = table_of(k=["a"] * (MOST_LISTED + 5), v=[f"{n:05}" for n in range(MOST_LISTED + 5)])
    said = group_view(View(table), [0], [Aggregate(Agg.LIST, 1)]).leaves.columns[1].value(0)
    assert said.endswith("00999 … 5 more")


def test_shares_and_running_totals_stay_inside_their_parent():
    table = table_of(a=["x", "x", "x", "y"], b=[1, 1, 2, 1], v=[Decimal("1.5"), None, Decimal("4.5"), Decimal(0)])
    asked = [
        Aggregate(Agg.SHARE),
        Aggregate(Agg.RUNNING),
        Aggregate(Agg.SHARE, 2),
        Aggregate(Agg.RUNNING, 2),
    ]
    grouped = group_view(View(table), [0, 1], asked)
    outer, inner = ([c.values() for c in level.table.columns[n + 1 :]] for n, level in enumerate(grouped.levels))
    assert outer == [[0.75, 0.25], [3, 4], [1.0, 0.0], [Decimal("6.0"), Decimal("6.0")]]
    assert inner[:2] == [[2 / 3, 1 / 3, 1.0], [2, 3, 1]]
    assert inner[2:] == [[0.25, 0.75, None], [Decimal("1.5"), Decimal("6.0"), Decimal("0.0")]]
    assert [c.value(0) for c in grouped.totals.columns] == [1.0, 4, 1.0, Decimal("6.0")]
    with pytest.raises(ConditionError, match="between 0 and 1"):
        group_view(View(table), [0], [Aggregate(Agg.QUANTILE, 2, 1.5)])


@given(some.lists(some.none() | some.datetimes(dt.datetime(1000, 1, 1), dt.datetime(9000, 1, 1)), min_size=1))
def test_parts_of_times_match_the_calendar(times):
    column, ids = column_of(times), np.arange(len(times))
    if column.kind is not Kind.TIME:
        return
    want = {
        "year": lambda t: t.year, "quarter": lambda t: f"{t:%Y}-Q{(t.month + 2) // 3}", "month": lambda t: f"{t:%Y-%m}",
        "week": lambda t: "{:04}-W{:02}".format(*t.isocalendar()), "day": lambda t: t.date(),
        "month of year": lambda t: t.month, "weekday": lambda t: f"{t.isoweekday()} {t:%A}",
        "hour": lambda t: t.replace(minute=0, second=0, microsecond=0), "hour of day": lambda t: t.hour,
    }  # fmt: skip
    assert tuple(want) == tuple(part for part in want if part in OF_TIMES)
    assert len(want) == len(OF_TIMES)
    for part, of in want.items():
        assert part_column(column, part, ids, "t").values() == [None if t is None else of(t) for t in times], part
    days = column_of([None if t is None else t.date() for t in times])
    assert part_column(days, "week", ids, "d").values() == part_column(column, "week", ids, "t").values()


@given(some.lists(some.none() | some.integers(-(10**6), 10**6), min_size=1), some.sampled_from(["0.1", "0.5", "7"]))
def test_steps_of_numbers_hold_each_number(numbers, step):
    width = Decimal(step)
    for scale in (0, 1, 3):
        exact = [None if n is None else Decimal(n).scaleb(-scale) for n in numbers]
        for values in (exact, [None if v is None else float(v) for v in exact]):
            made = part_column(column_of(values), f"steps of {step}", np.arange(len(values)), "v").values()
            assert made == [None if v is None else math.floor(v / width) * width for v in exact]


def test_parts_that_do_not_fit_say_what_does():
    ids = np.arange(2)
    texts, numbers = column_of(["Otterholt", "Élan"]), column_of([1, 2])
    assert part_column(texts, "first 2", ids, "t").values() == ["Ot", "Él"]
    long = column_of([f"{n:06}" for n in range(1200)])
    assert part_column(long, "first 3", np.arange(1200), "t").values()[-1] == "001"
    for column, part, say in (
        (texts, "month", "can't be grouped by month"), (numbers, "steps of 0", "is not a step"),
        (numbers, "steps of x", "is not a step"), (numbers, "hour", "can't be"),
        (column_of([1e18]), "steps of 1e-9", "small"),
    ):  # fmt: skip
        with pytest.raises(ConditionError, match=say):
            part_column(column, part, np.arange(len(column)), "c")
    assert parts_for(Kind.BOOL) == ()


def test_conditions_and_orders_of_groups_by_parts():
    table = table_of(
        t=[dt.datetime(2031, month, 3) for month in (1, 1, 2, 3, 3, 3)],
        s=list("abacca"),
        v=[1.0, 2.0, 3.0, 4.0, 5.0, 6.0],
    )
    group = GroupStep(
        (KeyBy("t", "month"), KeyBy("s")),
        (FigureOf(Agg.COUNT), FigureOf(Agg.QUANTILE, "v", 0.9)),
    )
    course = run_course(
        table, (group, FilterStep((Condition("at least", "rows", (2,)),)), SortStep((SortBy("rows", True),)))
    )
    assert [r.error for r in course.results] == [None] * 3
    assert course.end.table.fields[0].name == "t by month"
    assert [c.values() for c in course.end.table.columns[:3]] == [["2031-03"], ["c"], [2]]
    assert course.end.grouped.levels[0].table.columns[1].values() == [2]  # outer groups count what is left
    lines = tree_lines(course.end, Opened(turned=frozenset({(0, 0), (1, 0)})))
    assert [(line.depth, line.index) for line in lines] == [(0, 0), (1, 0), (2, 3), (2, 4), (-1, 0)]
    assert GroupStep.from_plain(Entry(group.to_plain())) == group
    assert GroupStep(group_keys("s", "t")).words() == "s › t"


TREE = table_of(
    a=["x", "x", "y", None, "x"], b=[1, 2, 1, 1, 1], v=[Decimal("1.5"), Decimal("2.25"), 3, None, Decimal("0.25")]
)
PER_GROUP = GroupStep((KeyBy("a"), KeyBy("b")), (FigureOf(Agg.COUNT), FigureOf(Agg.SUM, "v")))


def test_columns_are_computed_from_the_figures_of_groups():
    computed = ComputeStep((Computed("each", '"v sum" / rows'), Computed("twice", "b * 2"), Computed("bad", "w + 1")))
    kept = FilterStep((Condition("sql", text="each > 1 or each is null"),))
    course = run_course(TREE, (PER_GROUP, computed, kept, SortStep((SortBy("each", True),))))
    made, left = course.results[1], course.results[3].shaped
    assert "w" in str(made.error)
    outer, inner = (level.table for level in made.shaped.grouped.levels)
    assert inner.column("each").values() == [Decimal("0.875"), Decimal("2.25"), Decimal("3"), None]
    assert inner.column("twice").values() == [2, 4, 2, 2]
    assert [float(v or 0) for v in outer.column("each").values()] == [pytest.approx(4 / 3), 3, 0]
    assert outer.column("twice").values() == [None] * 3  # larger groups have no such key
    assert float(made.shaped.grouped.totals.column("each").value(0)) == pytest.approx(7 / 5)
    assert [f.name for f in left.table.fields] == ["a", "b", "rows", "v sum", "each", "twice"]
    assert left.flat().table.column("each").values(left.orders[-1]) == [Decimal("3"), Decimal("2.25"), None]


def test_groups_are_delivered_as_the_tree_is_open():
    shaped = run_course(TREE, (PER_GROUP, SortStep((SortBy("rows", True),)))).end

    def told(opened):
        fields, columns, view = tree_to_send(shaped, opened)
        assert [f.name for f in fields] == ["level", "a", "b", "rows", "v sum"]
        return list(zip(*(c.values(view.row_ids()) for c in columns), strict=True))

    total = (0, None, None, 5, Decimal("7.00"))
    assert told(Opened()) == [
        (1, "x", None, 3, Decimal("4.00")), (1, "y", None, 1, Decimal("3.00")), (1, None, None, 1, None), total,
    ]  # fmt: skip
    assert told(Opened(turned=frozenset({(0, 0), (1, 0)})))[1:5] == [
        (2, "x", 1, 2, Decimal("1.75")), (3, "x", 1, None, Decimal("1.50")), (3, "x", 1, None, Decimal("0.25")),
        (2, "x", 2, 1, Decimal("2.25")),
    ]  # fmt: skip
    assert [row[0] for row in told(None)] == [1, 2, 2, 1, 2, 1, 2, 0]


def test_groups_end_when_nobody_holds_them():
    gc.disable()  # a cycle would keep the rows until Python looks for it
    try:
        measures = [
            Aggregate(f, 2)
            for f in (
                Agg.MEDIAN,
                Agg.DISTINCT,
                Agg.MAX,
                Agg.SUM,
            )
        ]
        grouped = group_view(View(TREE), [0, 1], measures)
        held = [weakref.ref(level._made) for level in grouped.levels]
        assert [level.rows_of(np.array([0]))[0].tolist() for level in grouped.levels] == [[0, 1, 4], [0, 4]]
        del grouped
        assert [ref() for ref in held] == [None, None]
    finally:
        gc.enable()


ODD = some.sampled_from([5e-324, 1e18, 1e18 + 128, -1.7e308])


@given(some.lists(some.floats(allow_nan=False, allow_infinity=False) | ODD, min_size=1, max_size=30))
def test_the_bins_of_a_column_hold_each_value_once_whatever_doubles_there_are(values):
    found = profile(View(table_of(x=values)), 0)
    assert sum(found.bins) == len(values)
    assert found.bins[0] >= values.count(min(values)) if len(set(values)) == 1 else found.bins[-1] >= 1


def test_times_that_are_all_the_same_have_statistics():
    moments = [dt.datetime(2031, 1, 1, 0, 0, 0, 1)] * 3
    assert profile(View(table_of(at=moments)), 0).bins[0] == 3


@given(some.lists(some.none() | VALUES["numbers"] | VALUES["whole and not"] | VALUES["floats"], min_size=1, max_size=9))
def test_mixed_numbers_are_the_same_as_one_kind(values):
    made = as_amounts(column_of([*values, "and a text"]), np.arange(len(values))).values()
    assert [v is None for v in made] == [v is None for v in values]
    assert all(a == b for a, b in zip(made, values, strict=True))
