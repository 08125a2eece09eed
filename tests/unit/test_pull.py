"""Steps, the course, the pull file, drafts of pulls."""

import datetime as dt
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from nimble_otter.errors import ConditionError, CorruptError, SavedError, SendError, Stopped, TooNewError
from nimble_otter.pull import Pull, Query, SendPlan, load_pull, pull_from_text, pull_to_text, run_course, save_pull
from nimble_otter.pull.merge import Merged, merge
from nimble_otter.pull.model import SCOPES
from nimble_otter.pull.shaped import all_rows, columns_to_send
from nimble_otter.pull.steps import (
    ColumnsStep,
    Condition,
    FigureOf,
    FilterStep,
    GroupStep,
    OpenStep,
    SortBy,
    SortStep,
    TopStep,
    group_keys,
)
from nimble_otter.pull.steps.filter import OPERATORS
from nimble_otter.pull.tree import Opened, tree_lines
from nimble_otter.query.local.conditions import parse_condition
from nimble_otter.send import Names, fill_name
from nimble_otter.sources import Source
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table import MISSING, View
from nimble_otter.table.core.build import table_of
from nimble_otter.table.ops.filter import filter_view
from nimble_otter.table.ops.group import AggregateFunction as Agg

COUNT = FigureOf(Agg.COUNT)


@pytest.fixture
def table():
    return table_of(
        river=["m", "s", "m", "t", None, "s", "m"],
        station=["a", "b", "c", "d", "e", "f", "a"],
        level=[1.5, 2.5, None, 0.5, 3.5, 2.0, 4.5],
        at=[dt.datetime(2031, 5, n + 1) for n in range(7)],
        ok=[True, False, True, None, True, False, True],
        n=[5, 4, 3, 2, 1, 0, -1],
    )


def ids(course):
    return course.end.view.row_ids().tolist()


def shown(course):
    view = course.end.flat()
    return [c.values(view.row_ids()) for c in view.table.columns]


CONDITIONS = [
    (Condition("is one of", "river", ("m", "t")), [0, 2, 3, 6]),
    (Condition("is one of", "river", (), True), [4]),
    (Condition("is one of", "river", ("s",), True), [1, 4, 5]),
    (Condition("is none of", "river", ("m",)), [1, 3, 4, 5]),
    (Condition("is none of", "river", ("m",), True), [1, 3, 5]),
    (Condition("is", "level", ("2.5",)), [1]),
    (Condition("is not", "n", (4,)), [0, 2, 3, 4, 5, 6]),
    (Condition("more than", "level", (2.0,)), [1, 4, 6]),
    (Condition("at most", "at", ("2031-05-02",)), [0, 1]),
    (Condition("less than", "at", (dt.date(2031, 5, 2),)), [0]),
    (Condition("between", "n", ("2", "4")), [1, 2, 3]),
    (Condition("contains", "station", ("A",)), [0, 6]),
    (Condition("does not contain", "station", ("a",)), [1, 2, 3, 4, 5]),
    (Condition("starts with", "station", ("b",)), [1]),
    (Condition("is empty", "level"), [2]),
    (Condition("is not empty", "river"), [0, 1, 2, 3, 5, 6]),
    (Condition("is", "ok", ("yes",)), [0, 2, 4, 6]),
    (Condition("sql", text="level > 2 or river = 't'"), [1, 3, 4, 6]),
    (Condition("is", "level", ("2.5",), on=False), list(range(7))),
]


@pytest.mark.parametrize(("condition", "kept"), CONDITIONS)
def test_every_kind_of_condition(table, condition, kept):
    course = run_course(table, (FilterStep((condition,)),))
    assert course.results[0].error is None
    assert ids(course) == kept
    if condition.on and condition.operator != "sql" and "ok" not in condition.column:
        typed = filter_view(View(table), parse_condition(condition.as_sql(), table))
        assert typed.row_ids().tolist() == kept, condition.as_sql()
    assert condition.words()


def test_every_operator_is_tried():
    assert {c.operator for c, _ in CONDITIONS} - {"sql"} == set(OPERATORS) - {"at least"}


@pytest.mark.parametrize(
    ("condition", "says"),
    [
        (Condition("is", "levl", (1,)), "level"),
        (Condition("is", "level"), "needs a value"),
        (Condition("between", "level", (1,)), "needs a value"),
        (Condition("more than", "level", ("high",)), "holds numbers"),
        (Condition("near", "level", (1,)), "not a comparison"),
        (Condition("sql", text="level >"), ""),
    ],
)
def test_a_step_that_does_not_fit_says_so_and_lets_the_rest_go_on(table, condition, says):
    course = run_course(table, (FilterStep((condition,)), SortStep((SortBy("n"),))))
    assert isinstance(course.results[0].error, ConditionError)
    assert says in str(course.results[0].error)
    assert ids(course) == [6, 5, 4, 3, 2, 1, 0]


def test_sort_keys_directions_and_empties(table):
    course = run_course(table, (SortStep((SortBy("river", True, True), SortBy("n"))),))
    assert ids(course) == [4, 3, 5, 1, 6, 2, 0]
    assert SortStep((SortBy("river", True), SortBy("n"))).words() == "river ↓, n ↑"


def test_groups_sort_inside_their_parents_and_filter_by_their_figures(table):
    group = GroupStep(
        group_keys("river", "station"),
        (COUNT, FigureOf(Agg.MAX, "level"), FigureOf(Agg.SUM, "n")),
    )
    course = run_course(table, (group,))
    assert [f.name for f in course.end.table.fields] == ["river", "station", "rows", "level max", "n sum"]
    assert shown(course)[0] == ["m", "m", "s", "s", "t", None]
    down = run_course(table, (group, SortStep((SortBy("level max", True),))))
    assert shown(down)[1] == ["a", "c", "e", "b", "f", "d"]
    by_rows = run_course(table, (group, SortStep((SortBy("station", True),))))
    assert shown(by_rows)[1] == ["c", "a", "f", "b", "d", "e"]
    kept = run_course(
        table, (group, SortStep((SortBy("level max", True),)), FilterStep((Condition("sql", text="rows > 1"),)))
    )
    assert kept.end.rows == 1
    assert kept.end.grouped.levels[0].table.columns[1].values() == [2]
    assert kept.end.grouped.totals.columns[0].values() == [2]
    assert [f.name for f in kept.end.table.fields] == ["river", "station", "rows", "level max", "n sum"]
    again = run_course(table, (group, GroupStep(group_keys("rows"), (COUNT,))))
    assert shown(again) == [[1, 2], [5, 1]]
    late = run_course(table, (SortStep((SortBy("n"),)), group))
    level = late.end.grouped.levels[1]
    assert level.rows_of(np.array([0]))[0].tolist() == [6, 0]
    assert str(run_course(table, (GroupStep(()),)).results[0].error)


def test_the_tree_opens_group_by_group_down_to_the_rows(table):
    end = run_course(table, (GroupStep(group_keys("river", "station"), (COUNT,)),)).end
    closed = tree_lines(end, Opened())
    assert [(t.depth, t.is_open) for t in closed] == [(0, False)] * 4 + [(-1, False)]
    opened = tree_lines(end, Opened(turned=frozenset({(0, 0), (1, 0)})))
    assert [(t.depth, t.index) for t in opened] == [
        (0, 0),
        (1, 0),
        (2, 0),
        (2, 6),
        (1, 1),
        (0, 1),
        (0, 2),
        (0, 3),
        (-1, 0),
    ]


@settings(max_examples=200)
@given(
    st.lists(st.tuples(st.integers(0, 5), st.none() | st.integers(0, 4), st.integers(0, 3)), min_size=1, max_size=40),
    st.integers(0, 3), st.sets(st.tuples(st.integers(0, 2), st.integers(0, 12)), max_size=8), st.booleans(),
)  # fmt: skip
def test_lines_of_a_tree_are_those_that_opening_one_by_one_gives(rows, levels, turned, is_sorted):
    table = table_of(a=[r[0] for r in rows], b=[r[1] for r in rows], c=[r[2] for r in rows])
    steps = (GroupStep(group_keys("a", "b", "c"), (COUNT,)), *((SortStep((SortBy("rows", True),)),) * is_sorted))
    shaped, opened = run_course(table, steps).end, Opened(levels, frozenset(turned))
    grouped, want = shaped.grouped, []

    def add(depth, groups):
        for group in groups:
            is_open = (depth < levels) != ((depth, group) in turned)
            want.append((depth, group, is_open))
            if is_open and depth < 2:
                below = grouped.levels[depth + 1].parent
                add(depth + 1, [n for n in shaped.orders[depth + 1].tolist() if below[n] == group])
            elif is_open:
                own = np.flatnonzero(grouped.levels[2].codes == group).tolist()
                want.extend((3, row, False) for row in own)

    add(0, shaped.orders[0].tolist())
    found = [(line.depth, line.index, line.is_open) for line in tree_lines(shaped, opened)]
    assert found == [*want, (-1, 0, False)]


def test_columns_hide_order_and_restrict(table):
    course = run_course(table, (ColumnsStep(order=("n", "level"), hidden=("ok", "at")),))
    fields, columns, view = columns_to_send(course.end)
    assert [f.name for f in fields] == ["n", "level", "river", "station"]
    assert len(columns) == 4
    assert len(view) == 7
    only = run_course(table, (ColumnsStep(order=("n",), only=True), FilterStep((Condition("is", "n", (3,)),))))
    assert [f.name for f in columns_to_send(only.end)[0]] == ["n"]
    assert run_course(table, (ColumnsStep(order=("nn",), only=True),)).results[0].error is not None


def test_a_step_that_is_off_lets_rows_pass_and_results_are_used_again(table):
    steps = (FilterStep((Condition("is", "river", ("m",)),)), SortStep((SortBy("n"),)))
    first = run_course(table, steps)
    assert ids(first) == [6, 2, 0]
    second = run_course(table, (steps[0], replace(steps[1], on=False)), earlier=first)
    assert second.results[0] is first.results[0]
    assert ids(second) == [0, 2, 6]
    third = run_course(table, (replace(steps[0], on=False), steps[1]), earlier=first)
    assert third.results[1] is not first.results[1]
    assert ids(third) == [6, 5, 4, 3, 2, 1, 0]
    assert first.before(1).rows == 3
    stop = StopToken()
    stop.set()
    with pytest.raises(Stopped):
        run_course(table, steps, stop)


PULL = Pull(
    "High water, May",
    Source("Merrow ü", "mongodb://me:secret@h/db"),
    Query(
        "select '''\"\\n' -- ü\nfrom x\n", "sql", "", {"since": "2031-05-01", "n": 5, "d": dt.date(2031, 1, 1)}, None
    ),
    (
        FilterStep(tuple(c for c, _ in CONDITIONS), on=False, name="mine"),
        GroupStep(group_keys("river"), (COUNT, FigureOf(Agg.MEDIAN, "level"))),
        SortStep((SortBy("rows", True, True), SortBy("station", order="dictionary", language="sv"))),
        ColumnsStep(("a", "b"), ("c",), True),
    ),
    SendPlan("xlsx", "~/{pull}.xlsx", {"header": False, "sheet": "May"}),
    {"river": 120},
)


def test_a_pull_comes_back_from_its_file_and_holds_no_secret(tmp_path):
    path = tmp_path / "shelf" / "High water.pull"
    save_pull(PULL, path)
    text = path.read_text("utf-8")
    assert "secret" not in text
    assert text.startswith('format = "nimble otter pull"\nversion = 1\n')
    back = load_pull(path)
    assert back == replace(PULL, source=Source("Merrow ü", "mongodb://me@h/db"))
    assert pull_to_text(back) == text
    for scope in SCOPES:
        sent = replace(PULL.send, scope=scope)
        assert pull_from_text(pull_to_text(replace(PULL, send=sent))).send == sent


@settings(max_examples=100)
@given(
    st.text(st.characters(codec="utf-8"), max_size=60),
    st.dictionaries(
        st.from_regex("[a-z]{1,5}", fullmatch=True),
        st.text(st.characters(codec="utf-8"), max_size=9) | st.integers() | st.booleans(),
        max_size=3,
    ),
    st.lists(st.text(st.characters(codec="utf-8"), max_size=9) | st.floats(allow_nan=False), max_size=3),
)
@example("select 1", {}, ["a\r\nb"])
def test_any_text_and_value_survives_the_file(text, parameters, values):
    pull = replace(
        PULL,
        name=text,
        query=Query(text, parameters=parameters),
        steps=(FilterStep((Condition("is one of", text, tuple(values)),)),),
    )
    assert pull_from_text(pull_to_text(pull)).query == pull.query
    assert pull_from_text(pull_to_text(pull)).steps == pull.steps


@pytest.mark.parametrize(
    ("change", "problem", "says"),
    [
        (("version = 1", "version = 3"), TooNewError, "newer"),
        (("version = 1", "version = 0"), CorruptError, "version"),
        (("nimble otter pull", "other"), CorruptError, "not a pull file"),
        (('kind = "group"', 'kind = "melt"'), CorruptError, "melt"),
        (("name = ", "nome = "), CorruptError, "name"),
        (("[query]", "[query"), CorruptError, "readable"),
        (('"median"', '"mood"'), CorruptError, "mood"),
        (('"sv"', '"swe"'), CorruptError, "swe"),
    ],
)
def test_damaged_pull_files_are_refused_and_left_alone(tmp_path, change, problem, says):
    path = tmp_path / "x.pull"
    path.write_text(pull_to_text(PULL).replace(*change), "utf-8")
    before = path.read_bytes()
    with pytest.raises(problem, match=says):
        load_pull(path)
    assert path.read_bytes() == before


def test_files_that_are_not_there_or_not_text(tmp_path):
    with pytest.raises(SavedError, match="can't be read"):
        load_pull(tmp_path / "gone.pull")
    (tmp_path / "b.pull").write_bytes(b"\xff\xfe")
    with pytest.raises(CorruptError, match="not text"):
        load_pull(tmp_path / "b.pull")
    (tmp_path / "file").write_text("")
    with pytest.raises(SavedError, match="written"):
        save_pull(PULL, tmp_path / "file" / "x.pull")


def test_steps_are_put_moved_and_removed():
    pull = replace(PULL, steps=())
    a, b, c = SortStep(name="a"), SortStep(name="b"), SortStep(name="c")
    pull = pull.with_step(a).with_step(c).with_step(b, 1)
    assert [s.name for s in pull.steps] == ["a", "b", "c"]
    assert [s.name for s in pull.with_step_moved(0, 2).steps] == ["b", "c", "a"]
    assert [s.name for s in pull.with_step_moved(2, 0).steps] == ["c", "a", "b"]
    assert [s.name for s in pull.without_step(1).steps] == ["a", "c"]
    assert [s.name for s in pull.with_step_at(1, a).steps] == ["a", "a", "c"]


# --- open --------------------------------------------------------------------------------------------------------


def test_objects_become_columns_and_nothing_is_lost():
    rows = table_of(n=[1, 2, 3, 4], o=[{"a": 1, "b": {"c": "x"}}, None, {"a": 2.5}, "plain"], p=["q"] * 4)
    shaped = OpenStep(("o", "o.b")).apply(all_rows(rows), NEVER)
    opened = shaped.table
    assert [opened.fields[place].name for place in shaped.shown()] == ["n", "o", "o.a", "o.b.c", "p"]
    assert opened.columns[:3] == rows.columns  # edits find their columns where they were
    assert {opened.fields[n].name: at for n, at in shaped.opened.items()} == {
        "o.a": (1, ("a",)), "o.b": (1, ("b",)), "o.b.c": (1, ("b", "c")),
    }  # fmt: skip
    assert [f.name for f in shaped.whole().table.fields] == ["n", "o", "p"]
    assert opened.column("o.a").values() == [1, MISSING, 2.5, MISSING]
    assert opened.column("o.b.c").values() == ["x", MISSING, MISSING, MISSING]
    assert opened.fields[opened.index("o.b.c")].origin == "o.b.c"


def test_what_can_not_be_opened_is_said():
    rows = table_of(n=[1], o=[{str(n): n for n in range(600)}])
    for path, says in (("n", "no objects"), ("x", "no column"), ("o", "600 different")):
        with pytest.raises(ConditionError, match=says):
            OpenStep((path,)).apply(all_rows(rows), NEVER)


def test_an_open_step_keeps_the_columns_shown_and_the_pull_file():
    rows = table_of(n=[1], o=[{"a": 1, "b": 2}], p=[3])
    shaped = OpenStep(("o",)).apply(ColumnsStep(order=("p", "o"), only=True).apply(all_rows(rows), NEVER), NEVER)
    assert [shaped.table.fields[p].name for p in shaped.shown()] == ["p", "o.a", "o.b"]
    pull = Pull("p", Source("s", "sqlite:///x"), Query("select 1"), (OpenStep(("o", "o.b")),), came_from="a row of b")
    assert pull_from_text(pull_to_text(pull)) == pull


def test_history_keeps_what_was_run_for_a_time_and_passes_over_damage(tmp_path):
    from nimble_otter.pull.history import DAYS, History, Ran

    path = tmp_path / "state" / "history.jsonl"
    now, old = dt.datetime.now(), dt.datetime.now() - dt.timedelta(days=DAYS + 1)
    history = History(path)
    for at, url, text in (
        (old, "a", "old"),
        (now, "a", "select Level"),
        (now, "b", "select level, x"),
        (now, "a", "z"),
    ):
        history.add(Ran(at.isoformat(), f"source {url}", url, text, parameters={"since": dt.date(2031, 1, 2)}))
    history.save()
    history.add(Ran(now.isoformat(), "source a", "a", "select Level", error="no such table"))
    history.save()
    path.write_text("{damaged\n" + path.read_text("utf-8"), "utf-8")
    again = History(path)
    assert [ran.text for ran in again.runs()] == ["select Level", "select level, x", "z", "select Level"]
    assert again.runs()[0].parameters == {"since": "2031-01-02"}
    assert [ran.url for ran in again.search("LEVEL select")] == ["a", "b", "a"]
    assert [ran.error for ran in again.search("such", "a")] == ["no such table"]
    assert again.texts("a") == ["z", "select Level"]
    again.add(Ran(now.isoformat(), "source b", "b", "new"))
    again.save()
    assert "old" not in path.read_text("utf-8")
    again.clear("a")
    again.keep()
    assert [ran.text for ran in History(path).runs()] == ["select level, x", "new"]
    again.clear()
    again.keep()
    assert History(path).runs() == []


def test_versions_are_kept_once_moved_when_saved_and_survive_damage(tmp_path):
    from nimble_otter.pull import versions as module
    from nimble_otter.pull.versions import Versions, key_of

    kept = Versions(tmp_path / "versions")
    number, saved = key_of(None, 3), key_of(tmp_path / "a.pull", 3)
    for why, text in (("run", "one"), ("run", "one"), ("run", "two"), ("saved", "two"), ("run", "two")):
        kept.add(number, why, text)
    assert [(v.why, v.text) for v in kept.all(number)] == [("run", "one"), ("run", "two"), ("saved", "two")]
    kept.add(saved, "saved", "zero")
    kept.move(number, saved)
    assert [v.text for v in kept.all(saved)] == ["zero", "one", "two", "two"]
    assert kept.all(number) == []
    path = tmp_path / "versions" / f"{saved}.jsonl"
    path.write_text("{half\n" + path.read_text("utf-8"), "utf-8")
    assert len(kept.all(saved)) == 4
    for n in range(module.MOST + 5):
        kept.add(saved, "run", str(n))
    assert len(kept.all(saved)) == module.MOST
    assert kept.all(saved)[-1].text == str(module.MOST + 4)


def test_filters_and_file_names_take_parameters(table):
    conditions = (Condition("sql", text="n >= :least and river in (:rivers)"), Condition("at most", "n", (":most",)))
    pull = Pull(
        "p", Source("s", "sqlite:///s"),
        Query("select * from t where day = :day", parameters={"least": 2, "rivers": ["m", "x'y"], "most": 3}),
        (FilterStep(conditions),), SendPlan("csv", "a-{:since}-{:rivers}"),
    )  # fmt: skip
    assert pull.parameters() == ["day", "least", "rivers", "most", "since"]
    values = pull.values()
    course = run_course(table, pull.steps, values=values)
    assert course.results[0].error is None
    plain = run_course(table, (FilterStep((Condition("sql", text="n between 2 and 3 and river = 'm'"),)),))
    assert course.end.rows == plain.end.rows
    assert "x''y" in course.results[0].applied.as_sql()
    assert course.results[0].step == pull.steps[0]  # the pull keeps the names
    again = run_course(table, pull.steps, earlier=course, values={**values, "least": 99})
    assert again.end.rows == 0
    assert "has no value" in str(run_course(table, pull.steps, values={"rivers": "m", "most": 3}).results[0].error)
    query = replace(pull.query, parameters={**pull.query.parameters, "since": "start of last month"})
    since = replace(pull, query=query).values(dt.date(2031, 5, 20))
    at = dt.datetime(2031, 5, 20)
    assert fill_name("a-{param.since}-{:rivers}", Names("p", "s", at, parameters=since)) == "a-2031-04-01-m+x'y"
    with pytest.raises(SendError, match="since in the file name has no value"):
        fill_name("{param.since}", Names("p", "s", at))
    assert pull_from_text(pull_to_text(pull)) == pull


def test_two_peoples_changes_of_a_pull_are_brought_together_where_they_do_not_touch():
    base = Pull(
        "p", Source("s", "sqlite:///s"), Query("select a\nfrom t\nwhere b = :b\norder by a", parameters={"b": 1}),
        (SortStep((SortBy("a"),)), ColumnsStep(hidden=("c",))), SendPlan("csv", "x"),
    )  # fmt: skip
    text = base.query.text
    mine = replace(base, query=replace(base.query, text=text.replace("select a", "select a, b")), widths={"a": 50})
    theirs = replace(
        base, query=replace(base.query, text=text + " desc", parameters={"b": 2}), send=SendPlan("json", "x"),
        steps=(*base.steps, FilterStep((Condition("is", "a", (1,)),))), widths={"a": 9, "b": 7},
    )  # fmt: skip
    both = merge(base, mine, theirs)
    assert both.conflicts == ()
    assert both.theirs == ("the query's text", ":b", "the steps", "the delivery")
    assert both.pull.query.text == "select a, b\nfrom t\nwhere b = :b\norder by a desc"
    assert both.pull.steps == theirs.steps
    assert both.pull.send == theirs.send
    assert both.pull.widths == {"a": 50, "b": 7}
    touching = replace(
        mine, query=replace(mine.query, text=text.replace("order by a", "order by b"), parameters={"b": 3})
    )
    found = merge(base, touching, theirs)
    assert found.conflicts == ("the query's text", ":b")
    assert found.pull.query == touching.query
    gone = merge(base, replace(base, steps=base.steps[1:]), replace(base, steps=(base.steps[0],)))
    assert gone.conflicts == ("the steps",)
    assert merge(base, mine, mine) == Merged(mine)
    assert merge(base, base, theirs).pull == theirs
    assert merge(base, mine, base) == Merged(mine)


lines = st.lists(st.sampled_from("abcdef"), max_size=6)


@given(lines, lines, lines)
def test_a_merge_keeps_one_side_whole_or_has_what_both_did(base, mine, theirs):
    def pull(text):
        return Pull("p", Source("s", "sqlite:///s"), Query("\n".join(text)))

    found = merge(pull(base), pull(mine), pull(theirs))
    text = found.pull.query.text
    if found.conflicts or mine == theirs or theirs == base:
        assert text == "\n".join(mine)
    elif mine == base:
        assert text == "\n".join(theirs)
    else:
        other = merge(pull(base), pull(theirs), pull(mine))
        assert other.pull.query.text == text  # whoever merges gets the same


def test_whatever_fails_in_a_step_is_that_steps_error_and_the_others_go_on(monkeypatch):
    def broken(self, shaped, stop):
        raise ZeroDivisionError("planted")

    monkeypatch.setattr(SortStep, "apply", broken)
    steps = (FilterStep((Condition("more than", "n", (1,)),)), SortStep((SortBy("n"),)), TopStep(1, (SortBy("n"),)))
    course = run_course(table_of(n=[1, 2, 3]), steps)
    assert [r.error is None for r in course.results] == [True, False, True]
    assert "ZeroDivisionError" in str(course.results[1].error)
    assert [r.shaped.rows for r in course.results] == [2, 2, 1]
