"""Computed columns: what expressions give, against SQLite and plain Python, and the step in the course."""

import datetime as dt
import math
import operator
import sqlite3
import statistics
from contextlib import closing
from dataclasses import replace
from decimal import Decimal
from functools import cache

import numpy as np
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from nimble_otter.errors import ConditionError, Stopped
from nimble_otter.pull import Pull, Query, pull_from_text, pull_to_text, run_course
from nimble_otter.pull.steps import (
    ColumnsStep,
    Computed,
    ComputeStep,
    Condition,
    FigureOf,
    FilterStep,
    GroupStep,
    SortBy,
    SortStep,
    TopStep,
    group_keys,
)
from nimble_otter.pull.upstream import move_up
from nimble_otter.query.local.conditions import parse_condition, parse_expression
from nimble_otter.sources import Source
from nimble_otter.stop import StopToken
from nimble_otter.table import Kind, View
from nimble_otter.table.core.build import table_of
from nimble_otter.table.ops.expressions import compute
from nimble_otter.table.ops.filter import column_of_operand, false_of, filter_view, true_of, values_of
from nimble_otter.table.ops.group import AggregateFunction as Agg
from tests.proofs import how_many

DAY = dt.datetime(2031, 5, 31, 13, 4, 5)
TABLE = table_of(
    i=[1, 2, None, -7], f=[1.5, -0.0, None, 4.0], d=[Decimal("1.50"), Decimal("2.25"), None, Decimal("-0.01")],
    t=["Alder Weir", "x-y-z", None, " é "], at=[DAY, dt.datetime(2030, 12, 31), None, dt.datetime(1969, 7, 20)],
    day=[dt.date(2031, 5, 31), dt.date(2032, 2, 29), None, dt.date(1900, 1, 1)], ok=[True, False, None, True],
)  # fmt: skip
ALL = np.arange(4)


def worked(text, table=TABLE, ids=None):
    return compute(parse_expression(text, table), table, np.arange(table.rows) if ids is None else ids).values()


@pytest.mark.parametrize(
    ("text", "values"),
    [
        ("i + 1", [2, 3, None, -6]), ("i * i - i", [0, 2, None, 56]), ("-i", [-1, -2, None, 7]),
        ("abs(i)", [1, 2, None, 7]),
        ("d + i", [Decimal("2.50"), Decimal("4.25"), None, Decimal("-7.01")]),
        ("d * d", [Decimal("2.2500"), Decimal("5.0625"), None, Decimal("0.0001")]),
        ("f + d", [3.0, 2.25, None, 3.99]), ("f / 2.0", [0.75, -0.0, None, 2.0]),
        ("f / (i - 1)", [None, -0.0, None, -0.5]),
        ("i / 2", [0, 1, None, -3]), ("i % 2", [1, 0, None, -1]),
        ("i / 2.0", [Decimal("0.5"), 1, None, Decimal("-3.5")]),
        ("round(f)", [2.0, -0.0, None, 4.0]),
        ("round(d, 1)", [Decimal("1.5"), Decimal("2.3"), None, Decimal("0.0")]), ("ceil(f)", [2, 0, None, 4]),
        ("sqrt(f)", [math.sqrt(1.5), -0.0, None, 2.0]),
        ("power(i, 2)", [1.0, 4.0, None, 49.0]), ("sqrt(i)", [1.0, math.sqrt(2), None, None]),
        ("sign(i)", [1, 1, None, -1]),
        ("year(at)", [2031, 2030, None, 1969]), ("month(day)", [5, 2, None, 1]), ("day(at)", [31, 31, None, 20]),
        ("extract(quarter from at)", [2, 4, None, 3]), ("extract(dow from day)", [6, 0, None, 1]),
        ("hour(at)", [13, 0, None, 0]),
        ("date_trunc('month', at)", [dt.datetime(2031, 5, 1), dt.datetime(2030, 12, 1), None, dt.datetime(1969, 7, 1)]),
        ("day + interval '1 month'", [dt.datetime(2031, 6, 30), dt.datetime(2032, 3, 29), None,
                                       dt.datetime(1900, 2, 1)]),
        ("day - interval '1 year'", [dt.datetime(2030, 5, 31), dt.datetime(2031, 2, 28), None,
                                      dt.datetime(1899, 1, 1)]),
        ("at + interval '90 minutes'", [DAY + dt.timedelta(minutes=90), dt.datetime(2030, 12, 31, 1, 30), None,
                                        dt.datetime(1969, 7, 20, 1, 30)]),
        ("day - date '2031-05-01'", [30, 304, None, -47967]),
        ("to_char(day, 'YYYY-MM')", ["2031-05", "2032-02", None, "1900-01"]),
        ("upper(t)", ["ALDER WEIR", "X-Y-Z", None, " É "]), ("length(trim(t))", [10, 5, None, 1]),
        ("left(t, 2) || '!'", ["Al!", "x-!", None, " é!"]),
        ("substring(t, 2, 3)", ["lde", "-y-", None, "é "]), ("split_part(t, '-', 2)", ["", "y", None, ""]),
        ("replace(t, '-', '')", ["Alder Weir", "xyz", None, " é "]),
        ("position('-' in t)", [0, 2, None, 0]), ("coalesce(t, 'none')", ["Alder Weir", "x-y-z", "none", " é "]),
        ("concat(i, t)", ["1Alder Weir", "2x-y-z", "", "-7 é "]),
        ("nullif(i, 2)", [1, None, None, -7]), ("greatest(i, 0)", [1, 2, 0, 0]), ("least(i, f)", [1, -0.0, None, -7]),
        ("case when i > 1 then 'many' when ok then t else 'none' end", ["Alder Weir", "many", "none", " é "]),
        ("case i when 1 then 'one' end", ["one", None, None, None]), ("i > 1", [False, True, None, False]),
        ("t is null", [False, False, True, False]),
        ("cast(i as text)", ["1", "2", None, "-7"]), ("cast(f as integer)", [2, 0, None, 4]),
        ("cast('2031-05-01' as date)", [dt.date(2031, 5, 1)] * 4),
        ("cast(t as integer)", [None] * 4), ("7", [7] * 4), ("null", [None] * 4),
    ],
)  # fmt: skip
def test_expressions_give_what_sql_gives(text, values):
    made = worked(text)
    assert [type(v) for v in made if isinstance(v, bool)] == [type(v) for v in values if isinstance(v, bool)]
    assert made == values
    assert all(
        math.copysign(1, a) == math.copysign(1, b) for a, b in zip(made, values, strict=True) if isinstance(b, float)
    )


@pytest.mark.parametrize(
    ("text", "says"),
    [("", "is empty"), ("i +", "Syntax error"), ("nosuch + 1", "no column nosuch"),
     ("soundex(t)", "no function soundex"),
     ("select 1", "not one expression"), ("i as x", "not one expression"), ("cast(i as inet)", "can't be cast"),
     ("at + interval '1 fortnight'", "interval"), (":p", "has no value")],
)  # fmt: skip
def test_what_can_not_be_worked_out_is_said(text, says):
    with pytest.raises(ConditionError, match=says):
        parse_expression(text, TABLE)


cells = st.one_of(st.none(), st.integers(-5, 5), st.sampled_from([2**61, -(2**62), 2**40]))
small = st.one_of(st.none(), st.integers(-9, 9))
expressions = st.recursive(
    st.sampled_from(["a", "b", "c", "2", "-3"]),
    lambda inner: st.one_of(
        st.tuples(inner, st.sampled_from(["+", "-", "*"]), inner).map(lambda p: f"({p[0]} {p[1]} {p[2]})"),
        inner.map(lambda p: f"abs({p})"), st.tuples(inner, inner).map(lambda p: f"coalesce({p[0]}, {p[1]})"),
        st.tuples(inner, inner, inner).map(lambda p: f"case when {p[0]} > {p[1]} then {p[1]} else {p[2]} end"),
        st.tuples(inner, inner).map(lambda p: f"nullif({p[0]}, {p[1]})"),
    ),
    max_leaves=6,
)  # fmt: skip


@example(expression="case when a > 2 then 2 else a end", rows=[(None, None, None)] * 4)
@settings(max_examples=150, deadline=None)
@given(expression=expressions, rows=st.lists(st.tuples(small, small, small), min_size=1, max_size=6))
def test_whole_numbers_are_worked_out_as_sqlite_does(expression, rows):
    table = table_of(**{name: [row[n] for row in rows] for n, name in enumerate("abc")})
    with closing(sqlite3.connect(":memory:")) as base:
        base.execute("create table t (a, b, c)")
        base.executemany("insert into t values (?, ?, ?)", rows)
        want = [value for (value,) in base.execute(f"select {expression} from t order by rowid")]
    assert worked(expression, table) == want


@given(expression=expressions, rows=st.lists(st.tuples(cells, cells, cells), min_size=1, max_size=5), data=st.data())
def test_arrays_and_single_values_agree_and_nothing_overflows(expression, rows, data):
    table = table_of(**{name: [row[n] for row in rows] for n, name in enumerate("abc")})
    operand = parse_expression(expression, table)
    ids = np.array(sorted(data.draw(st.sets(st.integers(0, len(rows) - 1)))), np.int64)
    column = compute(operand, table, ids)
    assert len(column) == table.rows
    assert [column.values()[n] for n in ids] == values_of(operand, table, ids)
    assert all(column.values()[n] is None for n in set(range(len(rows))) - set(ids.tolist()))


KINDS = {
    "i": st.integers(-3, 3) | st.sampled_from([2**53 + 1, -(2**62)]),
    "f": st.sampled_from([0.0, -0.0, 1.5, 2.0, math.nan, math.inf, 2.0**53]),
    "c": st.integers(-30, 30).map(lambda n: Decimal(n).scaleb(-1)),
    "d": st.dates(dt.date(2031, 1, 1), dt.date(2031, 1, 4)),
    "t": st.sampled_from(["", "a", "b"]), "w": st.text("ab\0é", max_size=3), "y": st.booleans(),
    "s": st.timedeltas(dt.timedelta(0), dt.timedelta(seconds=2)), "o": st.sampled_from([1, 2.5, "a"]),
}  # fmt: skip


@settings(max_examples=how_many(40, 2000))
@given(st.data(), st.integers(0, 6), st.sampled_from(["=", "<>", "<", "<=", ">", ">="]))
def test_columns_are_compared_and_chosen_among_as_their_values_are(data, rows, sign):
    held = {n: data.draw(st.lists(st.none() | kind, min_size=rows, max_size=rows)) for n, kind in KINDS.items()}
    table, ids = table_of(**held), np.arange(rows)
    names = {"=": "eq", "<>": "ne", "<": "lt", "<=": "le", ">": "gt", ">=": "ge"}
    test = getattr(operator, names[sign])
    put = lambda v: (True, 0) if v != v else (False, v)  # noqa: E731 (NaN is itself, and more than any other)
    for left, right in (("i", "f"), ("f", "i"), ("c", "i"), ("c", "f"), ("d", "d"), ("s", "s"), ("y", "y"), ("f", "f")):
        node = parse_condition(f"{left} {sign} {right}", table)
        pairs = [(float(a) if isinstance(b, float) and isinstance(a, Decimal) else a, b)
                 for a, b in zip(held[left], held[right], strict=True)]  # fmt: skip
        pairs = [(a, float(b) if isinstance(a, float) and isinstance(b, Decimal) else b) for a, b in pairs]
        wanted = [None if a is None or b is None else test(put(a), put(b)) for a, b in pairs]
        assert true_of(node, table, ids).tolist() == [w is True for w in wanted]
        assert false_of(node, table, ids).tolist() == [w is False for w in wanted]
    texts = ["i % 3", "i % i", "f % f", "f % 2.0", "floor(f)", "ceil(f)", "trunc(f)", "trunc(i)", "floor(c)", "sqrt(f)",
             "sqrt(i)", "nullif(f, 1.5)", "nullif(i, f)", "i / nullif(f, 0)", "nullif(d, d)"]  # fmt: skip
    cases = f"case when i {sign} f then {{0}} when d is null then {{1}} else {{2}} end"
    for text in (cases, "coalesce({0}, {1}, {2})"):
        texts += [text.format(*parts) for parts in (
            ("i", "f", "0"), ("f", "i", "null"), ("t", "'none'", "w"), ("w", "t", "w"), ("d", "d", "null"),
            ("c", "c", "1.5"), ("'x'", "t", "'y'"), ("y", "true", "false"), ("o", "o", "o"), ("s", "s", "s"),
            ("i + 1", "i * 2", "7"))]  # fmt: skip
    for text in texts:
        operand = parse_expression(text, table)
        made, want = compute(operand, table, ids).values(), values_of(operand, table, ids)
        assert [v if v == v else "nan" for v in made] == [v if v == v else "nan" for v in want], text


MOMENTS = st.datetimes() | st.sampled_from([
    dt.datetime(1, 1, 1), dt.datetime(9999, 12, 31, 23, 59, 59, 999999), dt.datetime(2032, 2, 29, 1),
    dt.datetime(2031, 1, 31), dt.datetime(2026, 12, 31, 12), dt.datetime(1969, 12, 31, 23, 59, 59, 999999),
])  # fmt: skip
CLOCK = ("hour", "minute", "second")
DAYS = ("year", "quarter", "month", "week", "day")
OF_MOMENTS = [
    *(f"extract({part} from {{0}})" for part in (*DAYS, *CLOCK, "dow", "isodow", "doy", "epoch", "decade",
                                                        "century", "millennium", "isoyear", "millisecond")),
    *(f"date_trunc('{unit}', {{0}})" for unit in (*DAYS, *CLOCK, "decade", "century", "millennium")),
    *(f"{{0}} {moved}'" for moved in ("+ interval '1 month", "- interval '13 months", "+ interval '4 years",
                                     "- interval '1 quarter", "+ interval '90 days", "- interval '2 weeks",
                                     "+ interval '25 hours", "- interval '1 second")),
    "{0} - {1}", "{1} - {0}", "datediff({0}, {1})", "year({0}) * 100 + month({0})", "day({0})", "{0} + ({1} - {0})",
    "({0} - {1}) * 2", "extract(second from {0} - {1})",
]  # fmt: skip


@given(st.lists(st.tuples(st.none() | MOMENTS, st.none() | MOMENTS), min_size=1, max_size=6))
def test_times_are_worked_with_by_arrays_as_one_by_one(rows):
    table = table_of(
        t=[t for t, _ in rows], d=[None if t is None else t.date() for _, t in rows],
        z=[None if t is None else t.replace(tzinfo=dt.UTC) for _, t in rows],
    )  # fmt: skip
    ids = np.arange(len(rows))
    for operand in moment_operands():
        assert compute(operand, table, ids).values() == values_of(operand, table, ids), operand


@cache
def moment_operands():
    """All of OF_MOMENTS on each kind of column where it means something, parsed once."""
    at = dt.datetime(2031, 5, 28, 9)
    table, found = table_of(t=[at], d=[at.date()], z=[at.replace(tzinfo=dt.UTC)]), []
    for text in OF_MOMENTS:
        for names in (("t", "d"), ("d", "d"), ("z", "t")):
            try:
                found.append(parse_expression(text.format(*names), table))
            except ConditionError:  # a date has no hour; days are no interval
                assert names[0] == "d"
        plain = parse_expression(text.format("t", "t"), table)
        assert column_of_operand(plain, table, np.arange(1)) is not None, text
    return found


@given(
    st.lists(
        st.one_of(st.none(), st.floats(-1e7, 1e7), st.integers(-99999, 99999).map(lambda n: n / 1000)), min_size=1
    ),
    st.integers(0, 4),
)
def test_doubles_are_rounded_by_arrays_as_one_by_one(values, digits):
    table = table_of(f=values)
    operand = parse_expression(f"round(f, {digits})", table)
    made = compute(operand, table, np.arange(len(values))).values()
    assert made == values_of(operand, table, np.arange(len(values)))


def test_texts_that_come_often_are_worked_out_once_and_the_same():
    table = table_of(t=["a", "b", None, "a", "", "b"] * 30, n=list(range(180)))
    for text in (
        "upper(t) || '!'",
        "case when t = 'a' then 1 else 2 end",
        "coalesce(t, 'none')",
        "length(t)",
        "t is null",
    ):
        operand = parse_expression(text, table)
        for ids in (np.arange(180), np.arange(0, 180, 7)):
            made = compute(operand, table, ids)
            assert [made.values()[n] for n in ids] == values_of(operand, table, ids)
            assert all(made.values()[n] is None for n in set(range(180)) - set(ids.tolist()))


def test_conditions_take_the_same_functions():
    kept = filter_view(
        View(TABLE), parse_condition("coalesce(i, 0) < 1 and round(f) is null or left(t, 1) = 'x'", TABLE)
    )
    assert kept.row_ids().tolist() == [1, 2]
    case = "case when ok then i else 9 end = 9"
    assert filter_view(View(TABLE), parse_condition(case, TABLE)).row_ids().tolist() == [1, 2]


def test_a_compute_step_adds_columns_that_later_steps_use():
    step = ComputeStep((Computed("double", "i * 2"), Computed("more", "double + :plus"), Computed("", "")))
    steps = (
        FilterStep((Condition("is not empty", "i"),)), step, FilterStep((Condition("more than", "more", (-10,)),)),
        SortStep((SortBy("more", True),)), ColumnsStep(order=("more", "i"), only=True),
    )  # fmt: skip
    course = run_course(TABLE, steps, values={"plus": 1})
    assert [str(r.error) for r in course.results if r.error] == []
    view = course.end.view
    place = view.table.index("more")
    assert view.table.columns[place].values(view.row_ids()) == [5, 3]
    assert view.table.columns[place].values() == [3, 5, None, -13]  # a row that was filtered out has none
    assert view.table.fields[place].kind is Kind.INT
    assert course.end.shown()[0] == place
    assert "has no value" in str(run_course(TABLE, steps).results[1].error)
    for columns, says in (((("i", "1"),), "already"), ((("", "1"),), "no name"), ((("x", "nosuch"),), "nosuch")):
        wrong = run_course(TABLE, (ComputeStep(tuple(Computed(*c) for c in columns)),))
        assert says in str(wrong.results[0].error)
    late = run_course(TABLE, (GroupStep(group_keys("ok"), (FigureOf(Agg.COUNT),)), step), values={"plus": 1})
    assert "There is no column i. The columns are ok, rows." in str(late.results[1].error)
    pull = Pull("p", Source("s", "sqlite:///s"), Query("select 1", parameters={"plus": 1}), (step,))
    assert pull_from_text(pull_to_text(pull)) == pull
    assert pull.parameters() == ["plus"]
    stop = StopToken()
    stop.set()
    with pytest.raises(Stopped):
        run_course(TABLE, (replace(step, columns=(Computed("u", "upper(t)"),)),), stop)


def test_computing_moves_upstream():
    table = table_of(i=[1, 2, None], **{"a b": [1.5, 2.5, 3.5]})
    step = ComputeStep((Computed("c", 'i * 2 + "a b"'), Computed("e", "case when c > 5 then 'much' else 'few' end")))
    pull = Pull("p", Source("s", "sqlite:///s"), Query('select i, x as "a b" from t'), (step,))
    moved = move_up(pull, 0, table, "sqlite", lambda name: f'"{name}"' if " " in name else name)
    with closing(sqlite3.connect(":memory:")) as base:
        base.execute("create table t (i, x)")
        base.executemany("insert into t values (?, ?)", [(1, 1.5), (2, 2.5), (None, 3.5)])
        assert base.execute(moved.pull.query.text).fetchall() == [
            (1, 1.5, 3.5, "few"), (2, 2.5, 6.5, "much"), (None, 3.5, None, "few")
        ]  # fmt: skip
    assert moved.pull.steps == ()


rows_of_three = st.lists(
    st.tuples(st.sampled_from(["x", "y", None]), st.integers(-3, 3) | st.none(), st.integers(0, 99))
)


@given(rows_of_three, st.integers(0, 3), st.booleans(), st.sampled_from([(), ("g",)]))
def test_top_keeps_the_first_of_each_group_in_order(rows, count, descending, per):
    table = table_of(g=[r[0] for r in rows], n=[r[1] for r in rows], m=[r[2] for r in rows])
    course = run_course(table, (TopStep(count, (SortBy("n", descending),), per),))
    assert course.results[0].error is None
    groups = {}
    for place, (g, _, _) in enumerate(rows):
        groups.setdefault(g if per else None, []).append(place)

    def key(place):
        n = rows[place][1]
        return (n is None, 0 if n is None else -n if descending else n)

    wanted = [p for g in sorted(groups, key=lambda g: (g is None, g or "")) for p in sorted(groups[g], key=key)[:count]]
    assert course.end.view.row_ids().tolist() == wanted


def test_a_top_step_says_what_it_can_not_do_is_kept_and_moves_upstream():
    step = TopStep(2, (SortBy("n", True),), ("g",))
    assert step.words() == "2 by n ↓ for each g"
    pull = Pull("p", Source("s", "sqlite:///s"), Query("select g, n from t"), (step,))
    assert pull_from_text(pull_to_text(pull)) == pull
    rows = [("x", 1), ("y", 5), ("x", 3), ("x", 2), (None, 4)]
    table = table_of(g=[g for g, _ in rows], n=[n for _, n in rows])
    late = run_course(table, (GroupStep(group_keys("g"), (FigureOf(Agg.COUNT),)), step))
    assert "before the Group step" in str(late.results[1].error)
    assert "nosuch" in str(run_course(table, (replace(step, per=("nosuch",)),)).results[0].error)
    with closing(sqlite3.connect(":memory:")) as base:
        base.execute("create table t (g, n)")
        base.executemany("insert into t values (?, ?)", rows)
        for made in (step, replace(step, per=())):
            moved = move_up(replace(pull, steps=(made,)), 0, table, "sqlite", str)
            view = run_course(table, (made,)).end.view
            here = list(zip(*(c.values(view.row_ids()) for c in table.columns), strict=True))
            assert base.execute(moved.pull.query.text).fetchall() == here
    with pytest.raises(ConditionError, match="any rows"):
        move_up(replace(pull, steps=(TopStep(2),)), 0, table, "sqlite", str)


windows = st.tuples(
    st.sampled_from(["row_number()", "rank()", "dense_rank()", "percent_rank()", "cume_dist()", "ntile(3)", "ntile(5)",
                     "sum(n)", "count(n)", "count(*)", "min(n)", "max(n)", "avg(n)", "sum(x)", "avg(x)", "max(g)",
                     "min(g)", "lag(n)", "lag(g, 2)", "lead(n, 2, 7)", "lag(n, 1, m)", "first_value(n)",
                     "last_value(g)", "nth_value(n, 2)", "sum(n + m)", "count(*) filter (where n > 0)",
                     "sum(n) filter (where m > 0)"]),
    st.sampled_from(["", "partition by g", "partition by g, m % 2"]),
    st.sampled_from(["m", "m desc", "n nulls last, m", "n desc nulls first, m", "m % 3"]),
    st.sampled_from(["", "rows between 3 preceding and 1 preceding", "rows 2 preceding", "groups 2 preceding",
                     "rows between current row and unbounded following", "rows between 1 following and 2 following",
                     "rows between unbounded preceding and 2 following", "groups between 1 preceding and 1 following",
                     "range between unbounded preceding and unbounded following", "range 2 preceding",
                     "range between 1 preceding and 2 following", "range between 2 preceding and 1 preceding"]),
)  # fmt: skip


@settings(deadline=None)
@given(rows_of_three, windows)
def test_window_functions_give_what_sqlite_gives(rows, window):
    function, per, by, frame = window
    of_rows = function.split("(")[0] in ("row_number", "ntile", "lag", "lead", "first_value", "last_value", "nth_value")
    if of_rows or "rows" in frame:  # of rows that are alike any may come first
        by += ", k"
    if "range" in frame and ("2 p" in frame or "1 p" in frame):  # of distances there is one key
        by = "k" if of_rows else by.split(",")[0]
    text = f"{function} over ({per} order by {by} {frame})"
    table = table_of(g=[r[0] for r in rows], n=[r[1] for r in rows], m=[r[2] for r in rows], k=list(range(len(rows))),
                     x=[None if r[1] is None else r[1] / 8 for r in rows])  # fmt: skip
    with closing(sqlite3.connect(":memory:")) as base:
        base.execute("create table t (g, n, m, k, x)")
        base.executemany("insert into t values (?, ?, ?, ?, ?)", zip(*(c.values() for c in table.columns), strict=True))
        want = [value for (value,) in base.execute(f"select {text} from t order by k")]
    assert worked(text, table) == want


def test_window_functions_move_upstream_with_their_empties():
    table = table_of(n=[3, None, 1], k=[0, 1, 2])
    step = ComputeStep((Computed("place", "row_number() over (order by n desc, k)"),))
    pull = Pull("p", Source("s", "sqlite:///s"), Query("select n, k from t"), (step,))
    here = run_course(table, (step,)).end.view.table.columns[2].values()
    moved = move_up(pull, 0, table, "sqlite", str)
    with closing(sqlite3.connect(":memory:")) as base:
        base.execute("create table t (n, k)")
        base.executemany("insert into t values (?, ?)", [(3, 0), (None, 1), (1, 2)])
        assert [row[2] for row in base.execute(f"{moved.pull.query.text} order by k")] == here == [1, 3, 2]


def test_windows_take_the_rows_that_reach_the_step_and_stand_inside_expressions():
    table = table_of(g=["a", "a", "b", "b"], n=[1, 3, 5, None])
    assert worked("n * 100 / sum(n) over (partition by g)", table) == [25, 75, 100, None]
    assert worked("avg(n) over ()", table, np.array([0, 1])) == [2, 2, None, None]
    assert worked("case when n > 1 then rank() over (order by n desc) end", table) == [None, 2, 1, None]
    with pytest.raises(ConditionError, match="can't be used here"):
        filter_view(View(table), parse_condition("rank() over (order by n) < 2", table))
    for wrong, said in (
        ("string_agg(n, n) over ()", "not a window function"), ("sum(distinct n) over ()", "no distinct"),
        ("rank() ignore nulls over (order by n)", "already ignores NULL"),
        ("ntile(0) over (order by n)", "whole number"),
        ("sum(n) over w", "Named windows"), ("sum(n) over (order by n rows 1.5 preceding)", "whole number"),
        ("sum(n) over (order by n, g range 1 preceding)", "one column"), ("lag(n, g) over ()", "whole"),
        ("sum(n) over (rows between unbounded following and current row)", "before it begins"),
        ("sum(n) over (order by n groups current row exclude ties)", "EXCLUDE"), ("ntile() over ()", "needs"),
    ):  # fmt: skip
        with pytest.raises(ConditionError, match=said):
            parse_expression(wrong, table)
    for wrong, said in (
        ("median(n) over (order by n)", "whole partitions"), ("sum(g) over ()", "Text has no sum"),
        ("count(*) over (order by g range 1 preceding)", "text"),
        ("count(*) over (order by n range interval '1 day' preceding)", "range is a number"),
    ):  # fmt: skip
        with pytest.raises(ConditionError, match=said):
            worked(wrong, table)


def test_frames_by_days_and_sums_that_nothing_outside_touches():
    days = [dt.date(2031, 5, d) for d in (1, 2, 4, 9, 10)]
    table = table_of(d=days, at=[dt.datetime.combine(d, dt.time(9)) for d in days], x=[1.0, math.inf, 1e300, 0.1, 0.2],
                     n=[2**62, 2**62, 2**62, 1, -1], c=[Decimal("1.5"), Decimal("2.5"), None, Decimal("0.5"), None],
                     mixed=[1, Decimal("0.5"), 2.5, None, 2**70])  # fmt: skip
    for key in ("d", "at"):
        assert worked(f"count(*) over (order by {key} range interval '2 days' preceding)", table) == [1, 2, 2, 1, 2]
    assert worked("sum(x) over (order by d rows 1 preceding)", table) == [1.0, math.inf, math.inf, 1e300, 0.1 + 0.2]
    assert worked("sum(n) over (order by d)", table) == [2**62, 2**63, 3 * 2**62, 3 * 2**62 + 1, 3 * 2**62]
    assert worked("sum(c) over (order by d rows 1 preceding)", table) == [
        Decimal(v) for v in ("1.5", "4", "2.5", "0.5", "0.5")
    ]
    assert worked("avg(c) over (order by c desc range 1 preceding)", table) == [2.0, 2.5, None, 1.0, None]
    assert worked("sum(mixed) over (order by d rows 1 preceding)", table) == [1, 1.5, 3.0, 2.5, 2**70]
    assert worked("max(mixed) over (order by d)", table) == [1, 1, 2.5, 2.5, 2**70]


def test_one_column_that_fails_leaves_the_others():
    table = table_of(a=[1, 2])
    step = ComputeStep((Computed("b", "a * 2"), Computed("c", "nosuch + 1"), Computed("d", "b + 1")))
    result = run_course(table, (step,)).results[0]
    assert "nosuch" in str(result.error)
    assert [f.name for f in result.shaped.table.fields] == ["a", "b", "d"]
    assert result.shaped.table.column("d").values() == [3, 5]


def test_any_of_a_list_and_regular_expressions():
    lists = [["ice", "wind"], [], None, ["x", None], "ice", [3, 7]]
    table = table_of(t=lists, n=[{"of": [5, 1]}, {"of": 9}, {}, None, {"of": []}, {"of": [None]}], s=list("abcdef"))

    def kept(text: str) -> list[int]:
        return filter_view(View(table), parse_condition(text, table)).row_ids().tolist()

    assert kept("'ice' = any(t)") == kept("any(t) = 'ice'") == [0, 4]
    assert kept("not 'ice' = any(t)") == [1, 5]  # unknown where an item has no value
    assert kept("any(t) like 'w%'") == [0]
    assert (kept("4 < any(n.of)"), kept("any(n.of) < 4")) == ([0, 1], [0])
    assert (kept("s ~ '[ace]'"), kept("s ~* 'A|F'"), kept("not s ~ '[a-d]'")) == ([0, 2, 4], [0, 5], [4, 5])
    assert kept("any(t) ~ 'i.e'") == [0, 4]
    for wrong, says in (("s ~ '('", "not a regular expression"), ("s ~ n", "is written in quotes")):
        with pytest.raises(ConditionError, match=says):
            kept(wrong)


@given(
    st.lists(st.tuples(st.integers(0, 2), st.none() | st.integers(-4, 4) | st.floats(-2, 2)), max_size=12),
    st.integers(1, 2),
)
def test_medians_different_values_and_values_beyond_empty_ones(rows, n):
    table = table_of(g=[g for g, _ in rows], v=[v for _, v in rows], at=list(range(len(rows))))
    parts = {g: [v for h, v in rows if h == g and v is not None] for g, _ in rows}
    middles = {g: statistics.median(map(float, some)) if some else None for g, some in parts.items()}
    assert worked("median(v) over (partition by g)", table) == [middles[g] for g, _ in rows]
    assert worked("count(distinct v) over (partition by g)", table) == [len(set(parts[g])) for g, _ in rows]
    before = [[v for h, v in rows[:at] if h == g and v is not None] for at, (g, _) in enumerate(rows)]
    after = [[v for h, v in rows[at + 1 :] if h == g and v is not None] for at, (g, _) in enumerate(rows)]
    by = "over (partition by g order by at)"
    assert worked(f"lag(v, {n}) ignore nulls {by}", table) == [b[-n] if len(b) >= n else None for b in before]
    assert worked(f"lead(v, {n}) ignore nulls {by}", table) == [a[n - 1] if len(a) >= n else None for a in after]
    upto = [b + [v] * (v is not None) for b, (_, v) in zip(before, rows, strict=True)]
    assert worked(f"last_value(v) ignore nulls {by}", table) == [u[-1] if u else None for u in upto]
    assert worked(f"nth_value(v, {n}) ignore nulls {by}", table) == [u[n - 1] if len(u) >= n else None for u in upto]
    whole = worked("first_value(v) ignore nulls over (partition by g)", table)
    assert whole == [parts[g][0] if parts[g] else None for g, _ in rows]
