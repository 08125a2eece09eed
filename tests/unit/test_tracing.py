"""What became of a row: each step's answer against the rows that are there after it, on random courses."""

from __future__ import annotations

import pytest
from hypothesis import given, settings
from hypothesis import strategies as some

from nimble_otter.errors import ConditionError
from nimble_otter.pull.course import run_course
from nimble_otter.pull.steps import (
    AppendStep,
    ColumnsStep,
    CompareStep,
    Computed,
    ComputeStep,
    Condition,
    DistinctStep,
    FilterStep,
    GroupStep,
    JoinStep,
    KeyBy,
    PivotStep,
    SampleStep,
    SortBy,
    SortStep,
    TopStep,
    TransposeStep,
    UnpivotStep,
)
from nimble_otter.pull.tracing import Fate, find_rows, trace
from nimble_otter.table import View
from nimble_otter.table.core.build import table_of
from nimble_otter.table.ops.combine import How
from tests.proofs import how_many

OTHER = table_of(a=[1, 1, 2, 9], w=["x", "y", "z", "n"])
AFTER = table_of(k=[100, 101], a=[1, 1], b=["p", "q"])
CONDITIONS = some.sampled_from([
    Condition("more than", "a", (1,)), Condition("at most", "a", (2,)), Condition("is one of", "b", ("p", "q")),
    Condition("is empty", "b"), Condition("sql", text="a > 0 or b = 'q'"), Condition("is not", "a", (2,), on=False),
    Condition("contains", "b", ("p",)),
])  # fmt: skip
STEPS = some.one_of(
    some.lists(CONDITIONS, min_size=1, max_size=2).map(lambda each: FilterStep(tuple(each))),
    some.sampled_from([
        TopStep(3), TopStep(2, (SortBy("a", True),), ("b",)), DistinctStep(("a",)), DistinctStep(("a", "b")),
        SampleStep(4), CompareStep("other2", ("k",)), CompareStep("other2", ("k",), with_same=True),
        SortStep((SortBy("b"), SortBy("a", True))), ComputeStep((Computed("c", "a + 1"),)),
        *(JoinStep("other", (("a", "a"),), how) for how in How), AppendStep("after"), FilterStep((), on=False),
        UnpivotStep(("b",)), DistinctStep(("zz",)),
    ]))  # fmt: skip
PLAIN = some.tuples(some.none() | some.integers(0, 3), some.sampled_from([None, "p", "q", "r"]))
TABLES = some.lists(PLAIN, min_size=1, max_size=9)


@given(TABLES, some.lists(STEPS, min_size=1, max_size=4), some.data())
@settings(max_examples=how_many(120, 6000), deadline=None)
def test_the_fate_of_a_row_is_seen_in_the_rows_after_each_step(rows, steps, data):
    table = table_of(k=list(range(len(rows))), a=[a for a, _ in rows], b=[b for _, b in rows])
    own = data.draw(some.integers(0, len(rows) - 1))
    same = table_of(k=[own, 77], a=[rows[own][0], 1], b=[data.draw(some.sampled_from([rows[own][1], "o"])), "p"])
    others = {"other": View(OTHER), "after": View(AFTER), "other2": View(same)}
    course = run_course(table, tuple(steps), others=others)
    found = trace(course, own)
    lost = None
    for at, result in enumerate(course.results):
        shaped = result.shaped
        names = [field.name for field in shaped.table.fields]
        ids = shaped.view.row_ids()
        there = [
            int(i)
            for i, k in zip(ids, shaped.view.table.columns[names.index("k")].values(ids), strict=True)
            if k == own
        ]
        fate = next(p.fate for p in found.passages if p.at == at)
        if lost is None and not there:
            lost = at
        assert fate is (Fate.UNREACHED if lost is not None and at > lost else Fate.LOST if at == lost else fate), (
            at,
            fate,
        )
        if lost is None:
            assert fate not in (Fate.LOST, Fate.UNREACHED)
            if at == len(course.results) - 1:
                assert sorted(found.rows.tolist()) == sorted(there)
    assert (found.lost.at if found.lost else None) == lost
    if found.lost is not None:
        for remedy in found.lost.remedies:
            if isinstance(remedy.step, FilterStep) and len([c for c in steps[lost].conditions if c.on]) > 1:
                continue  # other conditions may leave it out as well
            again = run_course(table, (*steps[:lost], remedy.step), others=others)
            view = again.end.view
            names = [field.name for field in view.table.fields]
            assert own in view.table.columns[names.index("k")].values(view.row_ids()), remedy.words


READINGS = table_of(k=[1, 2, 3, 4], level=[0.21, 1.5, None, 2.0], river=["Sallow", "Sallow", "Merrow", "Merrow"])
FILTER = FilterStep((Condition("more than", "level", (0.3,)), Condition("is one of", "river", ("Sallow",))))


@pytest.mark.parametrize(("steps", "row", "said"), [
    ((FILTER,), 0, "left out here: level 0.21 is not > 0.3 (river = Sallow holds)"),
    ((FILTER,), 2, "left out here: level NULL is not > 0.3, river Merrow is not Sallow"),
    ((FILTER,), 1, "kept: level > 0.3, river = Sallow"),
    ((FilterStep((Condition("is empty", "level"),)),), 0, "left out here: level is 0.21: level is empty does not hold"),
    ((FilterStep((Condition("sql", text="k > 3"),)),), 0, "left out here: k > 3 does not hold"),
    ((TopStep(2, (SortBy("level", True),)),), 0, "left out here: at place 3; the first 2 are kept"),
    ((DistinctStep(("river",)),), 1, "left out here: row 1 has the same values in river (2 equal rows, the first is"),
    ((SortStep((SortBy("level", True),)),), 3, "from place 4 to 1"),
    ((ComputeStep((Computed("cm", "level * 100"),)),), 1, "cm is 150"),
    ((GroupStep((KeyBy("river"),)),), 0, "in the group river Sallow, with 1 other rows"),
    ((PivotStep((KeyBy("river"),), KeyBy("k")),), 2, "in the column 3 of row 1"),
    ((TransposeStep("k"),), 1, "became column 3"),
    ((ColumnsStep(("k",)),), 1, "kept"),
    ((SampleStep(0),), 1, "left out here: 0 of 4 are drawn at random, not this one"),
])  # fmt: skip
def test_what_is_said(steps, row, said):
    found = trace(run_course(READINGS, steps), row)
    assert found.passages[1].said.startswith(said)
    assert (
        found.passages[0].said
        == f"returned: k {row + 1}, level {[0.21, 1.5, 'NULL', 2.0][row]:}, river {READINGS.columns[2].value(row)}"
    )


@pytest.mark.parametrize("row", range(4))
def test_each_row_of_a_comparison_is_followed(row):
    there = table_of(k=[1, 2, 3, 4], level=[9.0, 1.5, 9.0, 2.0], river=["Sallow", "Sallow", "Merrow", "Merrow"])
    passage = trace(run_course(READINGS, (CompareStep("o", ("k",)),), others={"o": View(there)}), row).passages[1]
    assert (passage.fate, passage.said) == (
        (Fate.LOST, "left out here: it is the same in o") if row % 2 else (Fate.KEPT, "changed in level"))  # fmt: skip


def test_groups_are_followed_to_the_end():
    steps = (
        GroupStep((KeyBy("river"),)),
        FilterStep((Condition("is one of", "river", ("Merrow",)),)),
        SortStep((SortBy("river"),)),
    )
    course = run_course(READINGS, steps)
    assert trace(course, 0).lost.said.startswith("left out here: river Sallow is not Merrow")
    assert trace(course, 2).passages[-1].said == "in the group river Merrow, at place 1 of 1"
    joined = run_course(
        READINGS,
        (*steps, JoinStep("o", (("river", "river"),))),
        others={"o": View(table_of(river=["Merrow"] * 2, n=[1, 2]))},
    )
    assert trace(joined, 2).passages[-1].said == "at place 1, 2 of 2"


def test_rows_are_found_by_a_condition():
    assert find_rows(READINGS, "level > 1 and river = 'Merrow'").tolist() == [3]
    for wrong, says in (("", "Which row"), ("nope = 1", "nope")):
        with pytest.raises(ConditionError, match=says):
            find_rows(READINGS, wrong)
