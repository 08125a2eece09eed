"""Where values come from: the rows and columns named, against those whose change changes the value."""

from __future__ import annotations

import pytest
from hypothesis import given, settings
from hypothesis import strategies as some

from nimble_otter.pull.course import run_course
from nimble_otter.pull.steps import (
    AppendStep,
    CompareStep,
    Computed,
    ComputeStep,
    Condition,
    FigureOf,
    FilterStep,
    GroupStep,
    JoinStep,
    KeyBy,
    PivotStep,
    SortBy,
    SortStep,
    TransposeStep,
    UnpivotStep,
)
from nimble_otter.pull.value_origin import origin_of
from nimble_otter.query.pieces.model import read_pieces
from nimble_otter.query.sql.names import Names
from nimble_otter.table import View
from nimble_otter.table.core.build import table_of
from nimble_otter.table.ops.measures import AggregateFunction as Agg
from tests.proofs import how_many

ROWS = table_of(
    k=[1, 2, 3, 4], level=[0.5, 1.5, 2.5, 4.0], river=["Sallow", "Merrow", "Merrow", "Sallow"], b=[7, 8, 9, 6]
)
RIVERS = table_of(river=["Merrow", "Tarn"], length=[12, 30])
COMPUTE = ComputeStep((Computed("cm", "level * 100"), Computed("twice", "cm * 2")))
MEAN = GroupStep((KeyBy("river"),), (FigureOf(Agg.MEAN, "level"), FigureOf(Agg.COUNT)))


def said(steps, row, column, others=None, text=""):
    course = run_course(ROWS, steps, others={name: View(table) for name, table in (others or {}).items()})
    assert all(result.error is None for result in course.results)
    place = [field.name for field in course.end.table.fields].index(column)
    query = read_pieces(text, 0, Names(())) if text else None
    return [passage.said for passage in origin_of(course, row, place, query)]


@pytest.mark.parametrize(("steps", "row", "column", "lines"), [
    ((), 1, "level", ["level is 1.5", "level, of the row k 2, level 1.5, river Merrow…"]),
    ((COMPUTE,), 1, "cm", ["cm is 150", "cm = level * 100, with level 1.5", "level, of the row k 2,"]),
    ((COMPUTE,), 1, "twice", ["twice is 300", "twice = cm * 2; cm = level * 100, with level 1.5", "level, of the row"]),
    ((MEAN,), 0, "level mean", ["level mean is 2", "mean over the 2 rows of river Merrow", "level, of 2 rows"]),
    ((MEAN,), 0, "rows", ["rows is 2", "count over the 2 rows of river Merrow"]),
    ((MEAN,), 1, "river", ["river is Sallow", "a key of the group", "river, of 2 rows"]),
    ((JoinStep("o", (("river", "river"),)),), 1, "length", ["length is 12", "length from o: river Merrow, length 12"]),
    ((JoinStep("o", (("river", "river"),)),), 0, "length",
     ["length is NULL", "no row of o matches it: length is NULL"]),
    ((JoinStep("o", (("river", "river"),)),), 2, "b", ["b is 9", "b, of the row k 3"]),
    ((AppendStep("o"),), 5, "river", ["river is Tarn", "row 2 of o"]),
    ((UnpivotStep(("level", "b")),), 3, "value", ["value is 8", "from the column b", "b, of the row k 2"]),
    ((UnpivotStep(("level", "b")),), 3, "column", ["column is b", "the name of a column"]),
    ((PivotStep((KeyBy("river"),), KeyBy("k"), FigureOf(Agg.SUM, "b")),), 0, "3",
     ["3 is 9", "sum over 1 rows whose k is 3", "b, of the row k 3"]),
    ((TransposeStep("k"),), 1, "2", ["2 is", "a row there is a column here"]),
    ((CompareStep("o2", ("k",)),), 0, "level", ["level is 9", "from the comparison with o2"]),
    ((COMPUTE, MEAN, FilterStep((Condition("is", "river", ("Sallow",)),)), SortStep((SortBy("river"),))), 0,
     "level mean",
     ["level mean is 2.25", "mean over the 2 rows of river Sallow", "level, of 2 rows"]),
])  # fmt: skip
def test_what_is_said(steps, row, column, lines):
    found = said(steps, row, column, {"o": RIVERS, "o2": table_of(k=[1], level=[9.0])})
    assert len(found) == len(lines)
    for line, want in zip(found, lines, strict=True):
        assert line.startswith(want)


def test_the_query_says_what_it_computes():
    text = "select k, avg(r.level) as level, river from r group by 1, 3"
    assert said((), 0, "level", text=text)[-1].startswith("computed by the query: avg(r.level), of the row")


@given(some.lists(some.tuples(some.integers(0, 3), some.integers(-5, 5)), min_size=1, max_size=8), some.data())
@settings(max_examples=how_many(40, 2000), deadline=None)
def test_the_rows_named_are_those_whose_change_changes_the_sum(rows, data):
    table = table_of(g=[g for g, _ in rows], v=[v for _, v in rows])
    steps = (FilterStep((Condition("at least", "g", (1,)),)), ComputeStep((Computed("w", "v * 3"),)),
             GroupStep((KeyBy("g"),), (FigureOf(Agg.SUM, "w"),)))  # fmt: skip
    course = run_course(table, steps)
    leaves = course.end.table
    if not leaves.rows:
        return
    leaf = data.draw(some.integers(0, leaves.rows - 1))
    own = leaves.columns[0].value(leaf)
    count = sum(g == own for g, _ in rows)
    found = origin_of(course, leaf, 1)
    assert found[1].said == f"sum over the {count} rows of g {own}"
    assert found[-1].said.startswith("v, of the row" if count == 1 else f"v, of {count} rows")


def test_no_rows_left_are_summed_to_nothing():
    steps = (FilterStep((Condition("more than", "k", (9,)),)), COMPUTE,
             GroupStep((KeyBy("river"),), (FigureOf(Agg.SUM, "twice"), FigureOf(Agg.MEAN, "level"))))  # fmt: skip
    for table in (ROWS, ROWS.take(View(ROWS).row_ids()[:0]), table_of(k=[], level=[], river=[])):
        course = run_course(table, steps)
        assert [result.error for result in course.results] == [None] * 3
        assert course.end.table.rows == 0
    some = run_course(table_of(k=[1, 2], v=[None, None]), (GroupStep((KeyBy("k"),), (FigureOf(Agg.SUM, "v"),)),))
    assert some.end.table.columns[-1].values() == [None, None]
