"""Steps moved into the query give the rows that they gave here, on every kind of relational server."""

from dataclasses import replace

import pytest

from nimble_otter.errors import ConditionError
from nimble_otter.pull import Pull, Query, run_course
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
from nimble_otter.pull.upstream import compare, difference, move_down, move_up
from nimble_otter.sources import Request, Source, fetch
from nimble_otter.table.group import Figure

PLAIN = "select reading_id, level_m, quality, station_id, flow_m3s from reading"
JOINED = (
    "select r.reading_id as id, s.name as station, r.level_m as level, r.quality from reading r "
    "join station s on r.station_id = s.station_id where r.level_m > 0.4 or r.quality = 'void'"
)


@pytest.fixture(params=["sqlite", "postgresql", "mariadb"])
def connection(request, open_base):
    fixture = {"sqlite": "survey", "postgresql": "postgres", "mariadb": "mariadb"}[request.param]
    found = request.getfixturevalue(fixture)
    return open_base(getattr(found, "url", found))


def rows_of(connection, pull):
    return run_course(fetch(connection, Request(pull.query.text)).table, pull.steps)


def filtered(*conditions):
    return FilterStep(tuple(conditions))


def computed(**columns):
    return ComputeStep(tuple(Computed(name, text) for name, text in columns.items()))


STEPS = [
    (PLAIN, filtered(Condition("is one of", "quality", ("good", "suspect")))),
    (PLAIN, filtered(Condition("is none of", "quality", ("good",)), Condition("more than", "level_m", (0.5,)))),
    (PLAIN, filtered(Condition("is none of", "quality", (), True))),
    (PLAIN, filtered(Condition("contains", "quality", ("oo",)))),
    (PLAIN, filtered(Condition("does not contain", "quality", ("%_\\!'",)))),
    (PLAIN, filtered(Condition("contains", "reading_id", ("17",)))),
    (PLAIN, filtered(Condition("between", "level_m", (0.3, 0.9)), Condition("is not empty", "flow_m3s"))),
    (PLAIN, filtered(Condition("sql", text="level_m > 1 or flow_m3s is null and quality <> 'void'"))),
    ("select * from reading", filtered(Condition("sql", text="level_m * 2 > 1 and not quality in ('good')"))),
    (JOINED, filtered(Condition("sql", text="station like '%ller%' or level > 1"))),
    (f"{PLAIN} where level_m > 0.2 order by reading_id", filtered(Condition("less than", "level_m", (0.9,)))),
    (f"{PLAIN} order by reading_id limit 500", filtered(Condition("less than", "level_m", (0.9,)))),
    ("select quality, count(*) as n from reading group by quality", filtered(Condition("more than", "n", (10,)))),
    (PLAIN, SortStep((SortBy("level_m", True), SortBy("reading_id")))),
    (f"{PLAIN} order by reading_id limit 700", SortStep((SortBy("flow_m3s", False, True), SortBy("reading_id")))),
    ("select * from reading", ColumnsStep(("level_m",), ("quality",))),
    (PLAIN, ColumnsStep(("quality", "reading_id"), only=True)),
    (PLAIN, GroupStep(group_keys("station_id", "quality"), (FigureOf(Figure.COUNT), FigureOf(Figure.SUM, "level_m"),
        FigureOf(Figure.MEAN, "level_m"), FigureOf(Figure.MAX, "flow_m3s"), FigureOf(Figure.DISTINCT, "level_m")))),
    (PLAIN, TopStep(40, (SortBy("level_m", True), SortBy("reading_id")))),
    (PLAIN, TopStep(3, (SortBy("flow_m3s"), SortBy("reading_id")), ("station_id", "quality"))),
    (PLAIN, computed(double="reading_id * 2 - station_id", word="upper(quality) || '!'", year="coalesce(level_m, 0)")),
    (PLAIN, computed(kind="case when level_m > 1 and quality = 'good' then 'high' when level_m is null then 'no' end")),
    (JOINED, computed(short="substring(station, 2, 4)", size="length(station)")),
    (JOINED, computed(place="rank() over (order by level, id)")),
    (PLAIN, computed(before="lag(level_m) over (partition by station_id order by reading_id)")),
]  # fmt: skip


@pytest.mark.parametrize(("text", "step"), STEPS)
def test_a_step_gives_the_same_rows_upstream(connection, text, step):
    pull = Pull("p", Source("s", "x"), Query(text), (step,))
    here = rows_of(connection, pull)
    assert here.results[0].error is None
    moved = move_up(pull, 0, here.table, connection.reader, connection.quoted)
    assert moved.pull.steps == ()
    there = rows_of(connection, moved.pull)
    found = compare(here.end, there.end)
    assert found.is_same, (moved.pull.query.text, found)
    assert found.after > 0 or "_" in str(step)
    if isinstance(step, SortStep):
        keys = [here.end.view.table.index("reading_id")]
        ids = [shaped.view.table.columns[keys[0]].values(shaped.view.row_ids()) for shaped in (here.end, there.end)]
        assert ids[0] == ids[1]


@pytest.mark.parametrize("text", [JOINED, f"{PLAIN} where level_m > 0.5 and quality = 'good' order by reading_id"])
def test_conditions_come_down_and_keep_the_rows(connection, text):
    pull = Pull("p", Source("s", "x"), Query(text))
    there = rows_of(connection, pull)
    moved = move_down(pull, there.table, connection.reader)
    assert "where" not in moved.pull.query.text
    here = rows_of(connection, moved.pull)
    assert here.results[0].error is None
    assert here.table.rows > there.table.rows
    assert compare(there.end, here.end).is_same
    again = move_up(moved.pull, 0, here.table, connection.reader, connection.quoted)
    assert compare(rows_of(connection, again.pull).end, there.end).is_same


def test_what_stands_in_the_way_is_said(connection):
    table = fetch(connection, Request(PLAIN)).table
    sort, keep = SortStep((SortBy("level_m"),)), filtered(Condition("is not empty", "level_m"))
    pull = Pull("p", Source("s", "x"), Query(PLAIN), (sort, keep))
    wrong = [
        (pull, 1, "Steps before"),
        (replace(pull, steps=(replace(sort, on=False),)), 0, "switched off"),
        (replace(pull, steps=(FilterStep(),)), 0, "no condition"),
        (replace(pull, query=Query("select 1; select 2")), 0, "one statement"),
        (replace(pull, steps=(GroupStep(group_keys("quality"), (FigureOf(Figure.MEDIAN, "level_m"),)),)), 0, "median"),
        (replace(pull, steps=(filtered(Condition("is", "nosuch", (1,))),)), 0, "no column nosuch"),
    ]
    for broken, at, said in wrong:
        with pytest.raises(ConditionError, match=said):
            move_up(broken, at, table, connection.reader, connection.quoted)
    for text, said in ((PLAIN, "no condition"), (f"{PLAIN} where level_m > :x", "parameter"),
                       ("select level_m from reading where quality = 'good'", "not among")):  # fmt: skip
        with pytest.raises(ConditionError, match=said):
            move_down(replace(pull, query=Query(text)), fetch(connection, Request("select level_m from reading")).table,
                      connection.reader)  # fmt: skip


def test_differences_are_found_with_examples(connection):
    one = rows_of(connection, Pull("p", Source("s", "x"), Query("select 1 as a, 2.5 as b")))
    two = rows_of(connection, Pull("p", Source("s", "x"), Query("select 2.5 as b, 1 as a union all select 7, 8")))
    assert compare(one.end, one.end).is_same
    found = compare(one.end, two.end)
    assert not found.is_same
    assert (found.only_before, found.only_after) == (0, 1)
    assert found.examples[0].startswith("only after: 8, 7")
    assert difference("a\nb", "a\nc") == [(" ", "a"), ("-", "b"), ("+", "c")]
