"""Joining, appending, first and sampled rows, and turning tables, against sqlite3 and plain Python."""

from __future__ import annotations

import datetime as dt
import sqlite3
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
    STEPS,
    AppendStep,
    Condition,
    DistinctStep,
    FigureOf,
    FilterStep,
    GroupStep,
    JoinStep,
    KeyBy,
    PivotStep,
    SampleStep,
    TransposeStep,
    UnpivotStep,
    group_keys,
)
from nimble_otter.table import MISSING, Kind, Table, View
from nimble_otter.table.core.build import column_of, table_of
from nimble_otter.table.ops import combine as made
from nimble_otter.table.ops.combine import How, appended, chained, first_of_each, join, sampled, transposed, unpivoted
from nimble_otter.table.ops.measures import AggregateFunction as Agg

ANY = some.one_of(
    some.none(), some.integers(-3, 2**70), some.text("aé\0", max_size=3), some.floats(allow_nan=False), some.booleans(),
    some.decimals(-9, 9, places=2), some.dates(), some.just(MISSING), some.just({"a": 1}), some.times(),
    some.timedeltas(), some.datetimes(), some.datetimes().map(lambda at: at.replace(tzinfo=dt.UTC)),
    some.sampled_from(["12:30:00", "1 day", "2031-05-28", "2031-05-28 12:00:00+00", ""]),
)  # fmt: skip
ONE = some.decimals(0, 9, places=1)
ALIKE = some.sampled_from([
    some.integers(0, 3), some.text("ab", max_size=2), some.dates(), ONE, some.times(), some.timedeltas(),
    some.datetimes(timezones=some.just(dt.UTC)), some.sampled_from(["12:30", ""]),
])  # fmt: skip
COLUMNS = some.lists(
    some.one_of(ALIKE.flatmap(lambda of: some.lists(some.none() | of, max_size=6)), some.lists(ANY, max_size=4)),
    min_size=1, max_size=4,
)  # fmt: skip


def rows_of(table: Table) -> list[tuple]:
    return list(zip(*(c.values() for c in table.columns), strict=True)) if table.columns else []


def same(a: list, b: list) -> bool:
    return [(type(v), v) for v in a] == [(type(v), v) for v in b]


@given(COLUMNS)
def test_columns_behind_each_other_keep_every_value(parts):
    columns = [column_of(values) for values in parts]
    got = chained(columns).values()
    want = [v for column in columns for v in column.values()]
    assert got == want or same(got, want)
    one_kind = {c.kind for c in columns if not c.empty_at().all()}
    if len(one_kind) > 1:
        assert same([v for v in got if v is not None], [v for v in want if v is not None]) or Kind.INT in one_kind


def test_long_texts_and_short_ones_chain_without_loss():
    long = column_of([f"n{n}" for n in range(1500)])
    few = column_of(["x", None, "y"])
    assert chained([few, long, few]).values() == ["x", None, "y", *long.values(), "x", None, "y"]
    both = chained([column_of([f"a{n}" for n in range(900)]), column_of([f"b{n}" for n in range(1200)])])
    assert (len(both), both.value(0), both.value(2099)) == (2100, "a0", "b1199")
    assert chained([column_of([]), column_of([1])]).values() == [1]


KEYS = some.lists(some.tuples(some.none() | some.integers(0, 4), some.none() | some.sampled_from("ab")), max_size=12)


@settings(max_examples=200)
@given(KEYS, KEYS, some.sampled_from(How), some.booleans())
def test_joins_match_sqlite(left, right, how, both_keys):
    here = table_of(k=[k for k, _ in left], c=[c for _, c in left], n=list(range(len(left))))
    there = table_of(k=[k for k, _ in right], c=[c for _, c in right], m=list(range(len(right))))
    on = [(0, 0), (1, 1)] if both_keys else [(0, 0)]
    table, report = join(View(here), there, on, how)
    base = sqlite3.connect(":memory:")
    for name, rows in (("l", left), ("r", right)):
        base.execute(f"create table {name} (k, c, i)")
        base.executemany(f"insert into {name} values (?, ?, ?)", [(k, c, n) for n, (k, c) in enumerate(rows)])
    by = "l.k = r.k and l.c = r.c" if both_keys else "l.k = r.k"
    pairs = base.execute(f"select l.i, r.i from l join r on {by} order by 1, 2").fetchall()
    base.close()
    met, theirs = {a for a, _ in pairs}, {b for _, b in pairs}
    alone = [n for n in range(len(left)) if n not in met]
    want = {
        How.INNER: pairs, How.LEFT: sorted([*pairs, *((n, None) for n in alone)], key=lambda p: (p[0], p[1] or 0)),
        How.ANTI: [(n,) for n in alone], How.SEMI: [(n,) for n in sorted(met)],
    }  # fmt: skip
    want[How.FULL] = [*want[How.LEFT], *((None, n) for n in range(len(right)) if n not in theirs)]
    names = [f.name for f in table.fields]
    got = list(zip(*(table.column(c).values() for c in ("n", "m") if c in names), strict=True))
    assert got == want[how]
    assert (report.rows, report.matched, report.left_alone) == (len(got), len(met), len(alone))
    assert report.right_alone == len(right) - len(theirs)
    assert report.multiplied == sum(n > 1 for n in Counter(a for a, _ in pairs).values())
    if how is How.FULL:  # a column compared under one name has the value of either side
        keys = [(left[a] if a is not None else right[b])[0] for a, b in got]
        assert table.column("k").values() == keys


def test_joins_across_kinds_compare_values_or_refuse():
    here = View(table_of(i=[1, 2, 3], t=["1", "2", None], d=[dt.date(2031, 1, 1)] * 3))
    there = table_of(f=[2.0, 3.5], dec=[Decimal("1.0"), Decimal("3.0")], when=[dt.datetime(2031, 1, 1)] * 2)
    assert rows_of(join(here, there, [(0, 0)], How.SEMI)[0]) == [(2, "2", dt.date(2031, 1, 1))]
    assert join(here, there, [(0, 1)], How.SEMI)[0].column("i").values() == [1, 3]
    assert join(here, there, [(2, 2)], How.INNER)[0].rows == 6
    with pytest.raises(ConditionError, match="they never match"):
        join(here, there, [(1, 0)], How.INNER)
    table, _ = join(here, table_of(i=[9], t=["z"]), [(0, 0)], How.LEFT)
    assert ([f.name for f in table.fields], table.column("t (2)").values()) == (["i", "t", "d", "t (2)"], [None] * 3)
    assert join(here, table_of(i=[]), [(0, 0)], How.FULL)[0].rows == 3


def test_appended_rows_meet_by_name():
    table = appended(table_of(a=[1, 2], b=["x", None]), table_of(B=["y"], c=[dt.date(2031, 1, 1)], a=[2.5]))
    assert [f.name for f in table.fields] == ["a", "b", "c"]
    assert rows_of(table) == [(1, "x", None), (2, None, None), (2.5, "y", dt.date(2031, 1, 1))]


@given(KEYS)
def test_first_of_each_is_the_first(rows):
    view = View(table_of(k=[k for k, _ in rows], c=[c for _, c in rows]))
    kept = first_of_each(view, [0, 1]).row_ids().tolist()
    assert kept == [n for n, row in enumerate(rows) if row not in rows[:n]]


def test_a_sample_is_the_same_again_and_in_order():
    view = View(table_of(a=list(range(500))))
    ids = sampled(view, 40, 3).row_ids()
    assert len(set(ids.tolist())) == 40
    assert (np.diff(ids) > 0).all()
    assert ids.tolist() == sampled(view, 40, 3).row_ids().tolist() != sampled(view, 40, 4).row_ids().tolist()
    assert sampled(view, 600, 1) is view


@given(
    some.lists(
        some.tuples(some.sampled_from("xy"), some.none() | some.integers(0, 3), some.integers(-5, 5)), max_size=20
    )
)
def test_pivoted_cells_are_the_figures_where_keys_meet(rows):
    table = table_of(k=[r[0] for r in rows], c=[r[1] for r in rows], v=[r[2] for r in rows])
    step = PivotStep(group_keys("k"), KeyBy("c"), FigureOf(Agg.SUM, "v"), totals=True)
    result = run_course(table, (step,)).results[0]
    if not rows:
        return
    names = [f.name for f in result.shaped.table.fields]
    got = {row[0]: dict(zip(names[1:], row[1:], strict=True)) for row in rows_of(result.shaped.table)}
    want: dict = {}
    for k, c, v in rows:
        cells = want.setdefault(k, {"all": 0})
        name = "∅" if c is None else str(c)
        cells[name], cells["all"] = cells.get(name, 0) + v, cells["all"] + v
    assert {k: {n: v for n, v in cells.items() if v is not None} for k, cells in got.items()} == want


@given(some.lists(some.tuples(*[some.none() | some.integers(0, 9)] * 3), max_size=8))
def test_columns_into_rows_and_back(rows):
    table = table_of(id=list(range(len(rows))), **{n: [r[p] for r in rows] for p, n in enumerate("abc")})
    long = unpivoted(View(table), [1, 2, 3], "which", "what")
    assert rows_of(long) == [(n, name, row[p]) for n, row in enumerate(rows) for p, name in enumerate("abc")]
    if rows and any(v is not None for row in rows for v in row):
        back = PivotStep(group_keys("id"), KeyBy("which"), FigureOf(Agg.FIRST, "what"))
        assert [r[1:] for r in rows_of(run_course(long, (back,)).end.table)] == rows


def test_mixed_columns_become_rows_and_rows_become_columns():
    table = table_of(n=["p", "q"], a=[1, 2], t=[dt.date(2031, 1, 1), None])
    assert unpivoted(View(table), [1, 2], "c", "v").column("v").values() == [1, dt.date(2031, 1, 1), 2, None]
    turned = transposed(View(table, np.array([1, 0])), 0)
    assert [f.name for f in turned.fields] == ["column", "q", "p"]
    assert rows_of(turned) == [("a", 2, 1), ("t", None, dt.date(2031, 1, 1))]
    with pytest.raises(ConditionError, match="at most"):
        transposed(View(table_of(a=[1] * (made.MOST_COLUMNS + 1))))
    wide = table_of(c=[f"v{n}" for n in range(made.MOST_COLUMNS + 1)])
    assert "can become columns" in str(run_course(wide, (PivotStep((), KeyBy("c")),)).results[0].error)


OTHER = View(table_of(k=["a", "b", "b"], m=[1, 2, 3]))


def test_steps_that_take_other_rows_say_what_they_did_and_what_is_missing():
    table = table_of(k=["a", "b", "c", None], n=[1, 2, 3, 4])
    steps = (JoinStep("other", (("k", "k"),)), FilterStep((Condition("is not empty", "m"),)))
    course = run_course(table, steps, others={"other": OTHER})
    join_said, after = course.results[0].shaped, course.results[1].shaped
    assert join_said.said == "2 rows matched a row of other, 1 of them matched several, 2 matched none"
    assert (after.said, after.rows, after.own_rows, join_said.own_rows) == ("", 3, False, False)
    again = run_course(table, steps, earlier=course, others={"other": OTHER})
    assert again.results[0] is course.results[0]  # the same rows again: nothing to do
    fresh = run_course(table, steps, earlier=course, others={"other": View(table_of(k=["a"], m=[9]))})
    assert fresh.end.rows == 1
    for step, say in (
        (JoinStep("other", (("k", "k"),)), "no rows of other"), (JoinStep(), "No other pull"),
        (AppendStep("x"), "no rows"),
    ):  # fmt: skip
        assert say in str(run_course(table, (step,)).results[0].error)
    for step, say in ((JoinStep("other"), "no columns"), (JoinStep("other", (("k", "z"),)), "no column z in other")):
        assert say in str(run_course(table, (step,), others={"other": OTHER}).results[0].error)
    under = run_course(table, (AppendStep("other"),), others={"other": OTHER}).results[0].shaped
    assert (under.rows, under.said) == (7, "4 rows here, 3 of other; empty there: n; empty here: m")


def test_what_does_not_fit_a_turn_is_said():
    table = table_of(k=["a", "a"], n=[1, 2])
    groups = GroupStep(group_keys("k"))
    for steps, say in (
        ((PivotStep(),), "No column is chosen"), ((UnpivotStep(),), "No columns are chosen"),
        ((PivotStep((), KeyBy("k"), FigureOf(Agg.SHARE)),), "no share"), ((SampleStep(-1),), "0 rows or more"),
        ((groups, DistinctStep()), "not groups"), ((groups, SampleStep(3)), "not groups"),
        ((TransposeStep("z"),), "no column z"),
    ):  # fmt: skip
        assert say in str(run_course(table, steps).results[-1].error), say
    flat = run_course(table, (DistinctStep(("k",)), SampleStep(5), groups, UnpivotStep(("rows",)), TransposeStep("k")))
    assert [r.error for r in flat.results] == [None] * 5
    assert flat.results[0].shaped.said == "1 duplicate rows left out"
    assert flat.results[1].shaped.own_rows


def test_every_step_comes_back_from_its_plain_form():
    steps = (
        JoinStep("o", (("a", "b"),), How.FULL), AppendStep("o"), DistinctStep(("a",)), SampleStep(7, 2),
        PivotStep((KeyBy("t", "month"),), KeyBy("c"), FigureOf(Agg.QUANTILE, "v", 0.9), True), TransposeStep("n"),
        UnpivotStep(("a",)),
    )  # fmt: skip
    for step in steps:
        assert STEPS[step.kind].from_plain(Entry(step.to_plain())) == step
        assert step.words()


def test_what_a_row_met_nowhere_is_no_missing_field():
    made, _ = join(View(table_of(k=[2, 1])), table_of(k=[1, 3], v=[MISSING, 4]), [(0, 0)], How.LEFT)
    assert made.columns[1].values() == [None, MISSING]
