"""Checks: every rule against plain Python over random rows, the step in the course, what a delivery remembers."""

import datetime as dt
import hashlib
import json
import re
from collections import Counter
from dataclasses import replace
from decimal import Decimal

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nimble_otter.cli import main
from nimble_otter.pull import Pull, Query, SendPlan, account, pull_from_text, pull_to_text, run_course, save_pull
from nimble_otter.pull.account import deliveries
from nimble_otter.pull.course import checks_of
from nimble_otter.pull.places import state_folder
from nimble_otter.pull.profiles import (
    KEPT,
    ColumnFigures,
    DeliveryProfile,
    beside,
    keep_profile,
    load_keyed,
    load_profiles,
    mark_of,
    profile_of,
    usual,
)
from nimble_otter.pull.shaped import all_rows
from nimble_otter.pull.steps import CheckLine, CheckStep, Condition, FigureOf, FilterStep, GroupStep, Rule, group_keys
from nimble_otter.pull.steps.check import stopping, suggested
from nimble_otter.pull.steps.check_rules import check
from nimble_otter.sources import Source
from nimble_otter.stop import NEVER
from nimble_otter.table import View
from nimble_otter.table.core.build import table_of
from nimble_otter.table.ops.digests import row_digests
from nimble_otter.table.ops.group import AggregateFunction as Agg
from tests.files import sqlite_file
from tests.proofs import how_many

LAST = DeliveryProfile("2031-05-25T04:30:00", 20, (ColumnFigures("v", "number"), ColumnFigures("w", "text")))
NOW = dt.datetime(2031, 6, 1, 12, tzinfo=dt.UTC)
VALUES = {
    "i": st.integers(-6, 6),
    "f": st.floats(-3, 3).map(lambda x: round(x, 1)),
    "t": st.sampled_from(["", "a", "ab", "B", "é1"]),
    "d": st.decimals(-2, 2, places=1),
    "at": st.datetimes(dt.datetime(2031, 5, 30), dt.datetime(2031, 6, 2)),
    "b": st.booleans(),
}


@st.composite
def rows(draw):
    """Columns of each kind, some of them NULL, and an order over some of the rows."""
    count = draw(st.integers(0, 12))
    columns = {
        name: draw(st.lists(st.none() | values, min_size=count, max_size=count)) for name, values in VALUES.items()
    }
    table = table_of(**columns)
    ids = draw(st.permutations(range(count)).flatmap(lambda p: st.integers(0, count).map(lambda n: p[:n])))
    whole = [dict(zip(columns, row, strict=True)) for row in zip(*columns.values(), strict=True)]
    return View(table, np.array(ids, np.int64)), whole


def looked(line, view, others=None, last=None):
    return check(line, replace(all_rows(view.table), view=view), others or {}, last, NEVER, NOW)


def expected(line, here):
    """Positions of rows that fail, in plain Python."""
    name = line.columns[0] if line.columns else ""
    values = [row[name] for row in here] if name else []
    if line.rule is Rule.FILLED:
        return [n for n, v in enumerate(values) if v is None]
    if line.rule is Rule.UNIQUE:
        keys = [tuple(row[c] for c in line.columns) for row in here]
        counts = Counter(key for key in keys if None not in key)
        return [n for n, key in enumerate(keys) if counts[key] > 1]
    if line.rule is Rule.NO_DUPLICATES:
        keys = [tuple(row.values()) for row in here]
        return [n for n, key in enumerate(keys) if Counter(keys)[key] > 1]
    if line.rule is Rule.AMONG:
        return [n for n, v in enumerate(values) if v is not None and v not in line.values]
    if line.rule is Rule.RANGE:
        low, high = line.values
        return [n for n, v in enumerate(values) if v is not None and not low <= v <= high]
    if line.rule is Rule.PATTERN:
        return [n for n, v in enumerate(values) if v is not None and not re.fullmatch(line.values[0], v, re.DOTALL)]
    raise AssertionError(line.rule)


LINES = st.one_of(
    st.builds(lambda c: CheckLine(Rule.FILLED, (c,)), st.sampled_from(list(VALUES))),
    st.builds(
        lambda c: CheckLine(Rule.UNIQUE, tuple(c)),
        st.lists(st.sampled_from(list(VALUES)), min_size=1, max_size=3, unique=True),
    ),
    st.just(CheckLine(Rule.NO_DUPLICATES)),
    st.builds(lambda v: CheckLine(Rule.AMONG, ("t",), tuple(v)), st.lists(VALUES["t"], min_size=1)),
    st.builds(lambda v: CheckLine(Rule.AMONG, ("i",), tuple(v)), st.lists(VALUES["i"], min_size=1)),
    *(
        st.builds(lambda a, b, c=c: CheckLine(Rule.RANGE, (c,), (min(a, b), max(a, b))), VALUES[c], VALUES[c])
        for c in "ifd"
    ),
    st.builds(lambda a, b: CheckLine(Rule.RANGE, ("at",), (min(a, b), max(a, b))), VALUES["at"], VALUES["at"]),
    st.builds(
        lambda p: CheckLine(Rule.PATTERN, ("t",), (p,)), st.sampled_from(["a.?", "[a-z]+|", "a|ab", ".*b", "é\\d"])
    ),
)


@settings(max_examples=how_many(100, 5000))
@given(rows(), LINES)
def test_each_rule_of_rows_is_as_in_plain_python(made, line):
    view, whole = made
    here = [whole[row] for row in view.row_ids().tolist()]
    found = looked(line, view)
    assert found.failing.tolist() == [int(view.row_ids()[n]) for n in expected(line, here)]
    assert found.holds == (not len(found.failing))
    assert str(len(found.failing)) in found.said or found.holds


@settings(max_examples=how_many(30, 2000))
@given(rows(), rows(), st.sampled_from(["i", "t", "d", "at", "b"]))
def test_values_of_another_pull_and_its_figures(mine, theirs, name):
    (view, whole), (other, there) = mine, theirs
    here, known = ([rows[n][name] for n in v.row_ids().tolist()] for v, rows in ((view, whole), (other, there)))
    found = looked(CheckLine(Rule.ELSEWHERE, (name,), other="o"), view, {"o": other})
    if found.problem is None:
        wanted = [int(n) for n, v in zip(view.row_ids(), here, strict=True) if v is not None and v not in known]
        assert found.failing.tolist() == wanted
    for figure in ("max", "count", "distinct"):
        line = CheckLine(Rule.AGGREGATE, (name,), figure=figure, other="o")
        filled = [[v for v in each if v is not None] for each in (here, known)]
        ends = [{"max": lambda v: max(v, default=None), "count": len, "distinct": lambda v: len(set(v))}[figure](v)
                for v in (filled if figure != "count" else (here, known))]  # fmt: skip
        if figure != "max" or name != "b":
            assert looked(line, view, {"o": other}).holds == (ends[0] == ends[1])


def table_line(line, **columns):
    found = looked(line, View(table_of(**columns)))
    return found.holds, found.said


def test_rules_of_the_whole_in_words():
    level = [1.5, -0.25, None, 3.0]
    assert table_line(CheckLine(Rule.FILLED, ("v",), (1,)), v=level) == (True, "1 NULL (25.0 %)")
    assert table_line(CheckLine(Rule.FILLED, ("v",), ("20 %",)), v=level) == (False, "1 NULL (25.0 %)")
    assert table_line(CheckLine(Rule.RANGE, ("v",), (0, "")), v=level) == (False, "1 outside, -0.25")
    assert table_line(CheckLine(Rule.RANGE, ("v",), ("", 1)), v=level) == (False, "2 outside, 1.5 to 3.0")
    assert table_line(CheckLine(Rule.ROWS, values=(4, "")), v=level) == (True, "4 rows")
    assert table_line(CheckLine(Rule.ROWS, values=("", 3)), v=level)[0] is False
    assert table_line(CheckLine(Rule.AGGREGATE, ("v",), (1, 2), figure="mean"), v=level)[0] is True
    assert table_line(CheckLine(Rule.AGGREGATE, ("v",), (5, ""), figure="sum"), v=level)[0] is False
    assert table_line(CheckLine(Rule.AGGREGATE, ("v",), ("", 5), figure="sum"), v=[None])[0] is False
    assert table_line(CheckLine(Rule.SQL, text="v > 0"), v=level) == (False, "2 rows fail")  # unknown is not true
    assert table_line(CheckLine(Rule.SQL, text="v > 0 or v is null or v < 0"), v=level) == (True, "4 of 4")
    assert table_line(CheckLine(Rule.ROWS, values=(4, 4)), v=level)[0] is True
    assert table_line(CheckLine(Rule.PATTERN, ("v",), ("a|b",)), v=["a", "ab", "ba", "b", "b\n"])[1].startswith(
        "3 don't"
    )
    for rows, holds in ((19, True), (18, False)):
        found = looked(CheckLine(Rule.SINCE_LAST, values=(95,)), View(table_of(v=[0] * rows)), last=LAST)
        assert (found.holds, found.said) == (holds, f"{100 * rows / 20:.1f} % of 20")
    now = [CheckLine(Rule.COLUMNS), View(table_of(v=["a"], x=[1]))]
    assert looked(*now, last=LAST).said == "w missing; x new; v of another type"
    assert looked(*now).holds
    assert table_line(CheckLine(Rule.TYPE, ("v",), ("number",)), v=level) == (True, "number")
    assert table_line(CheckLine(Rule.TYPE, ("v",), ("text",)), v=level) == (False, "number")
    assert table_line(CheckLine(Rule.TYPE, ("v",), ("text",)), v=[None]) == (True, "no values")


@pytest.mark.parametrize(
    ("newest", "within", "holds", "said"),
    [
        (dt.datetime(2031, 6, 1, 6, tzinfo=dt.UTC), "6 hours", True, "6 hours ago"),
        (dt.datetime(2031, 6, 1, 5, 59, tzinfo=dt.UTC), "6 hours", False, "6 hours ago"),
        (dt.datetime(2031, 5, 30, 12, tzinfo=dt.UTC), "2 days", True, "2 days ago"),
        (dt.datetime(2031, 6, 1, 11, 59, 30, tzinfo=dt.UTC), "1 minute", True, "less than a minute ago"),
        (dt.date(2031, 5, 31), "1 day", True, "12 hours ago"), (dt.date(2031, 5, 1), "3 weeks", False, "4 weeks ago"),
        (None, "1 day", False, "no value"),
    ],
)  # fmt: skip
def test_the_newest_row(newest, within, holds, said, monkeypatch):
    monkeypatch.setenv("TZ", "UTC")
    assert table_line(CheckLine(Rule.NEWEST, ("v",), (within,)), v=[newest, None]) == (holds, said)


def test_what_can_not_be_checked_does_not_hold_and_says_why():
    table = {"v": [1, 2], "t": ["a", "b"]}
    for line, said in (
        (CheckLine(Rule.FILLED, ("w",)), "There is no column w"),
        (CheckLine(Rule.UNIQUE), "names no column"),
        (CheckLine(Rule.RANGE, ("v",)), "no bound"),
        (CheckLine(Rule.PATTERN, ("t",), ("(",)), "regular expression"),
        (CheckLine(Rule.PATTERN, ("t",)), "no pattern"),
        (CheckLine(Rule.TYPE, ("t",), ("river",)), "not a type"),
        (CheckLine(Rule.NEWEST, ("v",), ("2 days",)), "no age"),
        (CheckLine(Rule.NEWEST, ("v",), ("soon",)), "names no age"),
        (CheckLine(Rule.SQL, text="v >"), ""),
        (CheckLine(Rule.SQL), "no condition"),
        (CheckLine(Rule.ELSEWHERE, ("v",), other="gone"), "no rows of gone"),
        (CheckLine(Rule.AGGREGATE, ("v",), (1, 2), figure="sums"), "not an aggregate"),
        (CheckLine(Rule.AGGREGATE, (), (1, 2), figure="sum"), "names no column"),
        (CheckLine(Rule.ROWS, values=("many", "")), "not a number"),
        (CheckLine(Rule.FILLED, ("v",), ("few",)), "not a number of rows"),
    ):
        found = looked(line, View(table_of(**table)))
        assert not found.holds
        assert found.problem is not None
        assert said in found.said


def test_tolerances():
    other = {"o": View(table_of(v=[100]))}
    for tolerance, holds in (("", False), ("1", False), ("2", True), ("1 %", False), ("2 %", True)):
        line = CheckLine(Rule.AGGREGATE, ("v",), figure="sum", other="o", tolerance=tolerance)
        assert looked(line, View(table_of(v=[98])), other).holds is holds
    wrong = CheckLine(Rule.AGGREGATE, ("v",), figure="sum", other="o", tolerance="some")
    assert "number or a percentage" in looked(wrong, View(table_of(v=[1])), other).problem.hint


STEP = CheckStep(
    (
        CheckLine(Rule.FILLED, ("a",), (0,)),
        CheckLine(Rule.UNIQUE, ("a", "b")),
        CheckLine(Rule.AMONG, ("b",), ("x", 1, True)),
        CheckLine(Rule.ELSEWHERE, ("a",), other="rivers", other_column="id", stops=False),
        CheckLine(Rule.RANGE, ("a",), ("", ":most")),
        CheckLine(Rule.PATTERN, ("b",), ("x.*",), on=False),
        CheckLine(Rule.TYPE, ("a",), ("number",)),
        CheckLine(Rule.NO_DUPLICATES),
        CheckLine(Rule.ROWS, values=(1, 10)),
        CheckLine(Rule.SINCE_LAST, values=(95,)),
        CheckLine(Rule.AGGREGATE, ("a",), figure="sum", other="rivers", tolerance="2 %"),
        CheckLine(Rule.NEWEST, ("at",), ("2 days",)),
        CheckLine(Rule.COLUMNS),
        CheckLine(Rule.SQL, text="a < :most"),
    )
)


def test_a_check_moves_with_the_pull_file():
    pull = Pull("p", Source("s", "sqlite:///x"), Query("select 1"), (STEP, replace(STEP, on=False, name="again")))
    assert pull_from_text(pull_to_text(pull)) == pull
    assert {line.rule for line in STEP.lines} == set(Rule)
    assert STEP.others == ("rivers",)
    assert STEP.renamed("rivers", "streams").others == ("streams",)
    assert STEP.parameters() == ["most", "most"]
    assert STEP.bound({"most": 7}).lines[4].values == ("", 7)
    assert all(line.words() and line.subject for line in STEP.lines)
    for wrong in ('rule = "sound"', 'rule = "filled"\nseverity = "loud"', ""):
        text = pull_to_text(replace(pull, steps=())) + f'\n[[step]]\nkind = "check"\n[[step.lines]]\n{wrong}\n'
        with pytest.raises(Exception, match=r"Rule|severity|lines|rule"):
            pull_from_text(text)


def test_checks_stand_in_the_course_and_change_no_row():
    table = table_of(a=[1, 2, 2, None], b=["x", "y", "y", "x"])
    lines = (
        CheckLine(Rule.UNIQUE, ("a",)),
        CheckLine(Rule.FILLED, ("a",), stops=False),
        CheckLine(Rule.FILLED, ("b",), on=False),
    )
    step, few = CheckStep(lines), FilterStep((Condition("is not empty", "a"),))
    course = run_course(table, (step, few, step))
    assert [r.shaped.rows for r in course.results] == [4, 3, 3]
    assert [c.holds for c in checks_of(course)] == [False, False, False, True]
    assert [c.said for c in stopping(checks_of(course))] == ["2 rows share a value"] * 2
    assert course.results[1].shaped.checked == ()
    assert checks_of(run_course(table, (replace(step, on=False),))) == []
    grouped = run_course(
        table,
        (GroupStep(group_keys("b"), (FigureOf(Agg.SUM, "a"),)), CheckStep((CheckLine(Rule.RANGE, ("a",), (2, 9)),))),
    )
    assert [c.holds for c in checks_of(grouped)] == [False]
    again = run_course(
        table, (step,), earlier=run_course(table, (step,)), last=DeliveryProfile("2031-05-01T00:00:00", 9)
    )
    assert again.results[0].applied.last.rows == 9


def test_suggested_lines_hold():
    rows = 60
    table = table_of(id=list(range(rows)), kind=["a", "b", "c"] * 20, level=[n % 7 / 2 for n in range(rows)],
                     note=[None, "x"] * 30, none=[None] * rows)  # fmt: skip
    lines = suggested(View(table), range(5))
    assert [(line.rule, *line.columns) for line in lines] == [
        (Rule.UNIQUE, "id"), (Rule.FILLED, "id"), (Rule.FILLED, "kind"), (Rule.AMONG, "kind"), (Rule.FILLED, "level"),
        (Rule.RANGE, "level"), (Rule.AMONG, "note"), (Rule.SINCE_LAST,), (Rule.COLUMNS,)]  # fmt: skip
    assert all(looked(line, View(table)).holds for line in lines)


# --- what a delivery remembers ------------------------------------------------------------------------------------


def profiled(at=1, key=("k",), **columns):
    table = table_of(**columns)
    return profile_of(View(table), table.fields, key, dt.datetime(2031, 5, at))


def test_a_delivery_beside_the_last(tmp_path):
    first, keyed = profiled(1, k=[1, 2, 3, 4], v=["a", "b", "c", None], w=[1.0, 2.0, 3.0, 4.0])
    keep_profile(tmp_path, "m", first, keyed)
    now, mine = profiled(2, k=[2, 3, 5], v=["b", "C", "e"], x=[dt.date(2031, 5, 1)] * 3)
    found = beside(now, mine, load_profiles(tmp_path, "m"), load_keyed(tmp_path, "m"))
    assert (found.appeared, found.went) == (("x",), ("w",))
    same, again = profiled(2, k=[2, 3, 5, 6], v=["b", "C", None, "d"], w=[2.0, 3.0, 4.0, 5.0])
    moved = beside(same, again, load_profiles(tmp_path, "m"), load_keyed(tmp_path, "m")).moved
    assert (moved.new, moved.gone, moved.changed) == (2, 2, 1)
    assert beside(now, None, [first], keyed).moved is None
    (tmp_path / "profiles" / "m.npz").write_bytes(b"not one")
    assert load_keyed(tmp_path, "m") is None
    assert load_profiles(tmp_path, "none") == []


def test_profiles_are_kept_privately_and_not_for_ever(tmp_path):
    for at in range(1, KEPT + 9):
        keep_profile(tmp_path, "m", DeliveryProfile(f"2031-05-01T00:00:{at % 60:02}", at), None)
    kept = load_profiles(tmp_path, "m")
    assert [k.rows for k in kept] == list(range(KEPT + 8, 8, -1))
    path = tmp_path / "profiles" / "m.jsonl"
    assert path.stat().st_mode & 0o777 == 0o600
    path.write_text(
        "[]\n" + json.dumps({"at": "soon", "rows": 1, "columns": [], "key": []}) + "\nno\n" + path.read_text()
    )
    assert len(load_profiles(tmp_path, "m")) == KEPT


def test_figures_outside_their_usual_range_are_named():
    before = [profiled(n, k=[1, 2], v=[0.05 + n / 100, 1.8])[0] for n in range(1, 6)]
    assert usual("v lowest", before) == (pytest.approx(0.06), pytest.approx(0.10))
    assert usual("v lowest", before[:2]) is None
    odd = beside(profiled(6, k=[1, 2], v=[-0.3, 1.8])[0], None, before, None)
    assert [u.name for u in odd.unusual if u.name == "v lowest"] == ["v lowest"]
    assert "v highest" not in [u.name for u in odd.unusual]
    assert beside(profiled(6, k=[1, 2], v=[0.07, 1.8])[0], None, before, None).unusual == ()


@settings(max_examples=how_many(30, 3000))
@given(rows(), rows())
def test_digests_are_equal_where_rows_are(one, other):
    """Over rows of every kind, in any order; equal ones in different tables too."""
    made = []
    for view, whole in (one, other):
        digests = row_digests(view, range(len(VALUES)))
        made += zip([tuple(whole[row].values()) for row in view.row_ids().tolist()], digests.tolist(), strict=True)
    assert len({digest for _, digest in made}) == len({row for row, _ in made})
    assert all((a == b) == (x == y) for a, x in made for b, y in made)


def test_digests_of_long_texts_numbers_and_nested_values():
    texts = [f"{'x' * 70}{n}" for n in range(2000)] + ["y" * 64, "y" * 65, "y" * 66, "", None]
    column = row_digests(View(table_of(v=texts)), [0])
    assert len(set(column.tolist())) == len(texts)
    few = row_digests(View(table_of(v=[texts[3], texts[3], "z"])), [0])  # held as codes
    assert few[0] == few[1] == column[3]
    numbers = [row_digests(View(table_of(v=values)), [0])[0] for values in ([2], [2.0], [Decimal("2.00")])]
    assert len(set(numbers)) == 1
    assert (
        row_digests(View(table_of(v=[0.0, -0.0, 0.5])), [0]).tolist()[0]
        == row_digests(View(table_of(v=[-0.0])), [0])[0]
    )
    swapped = row_digests(View(table_of(a=[1, 2], b=[2, 1])), [0, 1])
    assert swapped[0] != swapped[1]
    nested = row_digests(View(table_of(v=[{"a": 1}, {"a": 2}, {"a": 1}])), [0])
    assert nested[0] == nested[2] != nested[1]


def test_the_mark_of_a_pull_is_of_its_name_and_source():
    assert len({mark_of(*pair) for pair in (("p", "sqlite:///x"), ("q", "sqlite:///x"), ("p", "sqlite:///y"))}) == 3


# --- delivered from the command line ------------------------------------------------------------------------------


@pytest.fixture
def saved(base, tmp_path):
    """A pull of two columns with a check on each, in a file, over a table that tests change."""
    path = base(
        "create table level (id integer primary key, m real); insert into level values (1, 1.5), (2, 2.5), (3, null)"
    )
    lines = (
        CheckLine(Rule.UNIQUE, ("id",)),
        CheckLine(Rule.RANGE, ("m",), (0, 6)),
        CheckLine(Rule.FILLED, ("m",), stops=False),
    )
    pull = Pull("levels", Source("s", f"sqlite:///{path}"), Query("select * from level"), (CheckStep(lines),),
                SendPlan("csv", str(tmp_path / "o.csv")))  # fmt: skip
    save_pull(pull, tmp_path / "levels.pull")

    def change(text):
        with sqlite_file(path) as connection:
            connection.executescript(text)
        connection.close()

    return ["run", str(tmp_path / "levels.pull"), "--exists", "replace"], change, tmp_path / "o.csv"


def test_a_delivery_is_held_back_by_its_checks(saved, capsys):
    run, change, out = saved
    assert main(run) == 0
    told = capsys.readouterr()
    assert "check failed: m never NULL: 1 NULL" in told.err  # which only warns
    assert out.read_text().count("\n") == 4
    change("update level set m = -1 where id = 1")
    out.unlink()
    assert main(run) == 6
    told = capsys.readouterr()
    assert "1 of 3 checks fails: m between 0 and 6: 1 outside, -1.0. Nothing was delivered." in told.err
    assert not out.exists()
    assert main([*run, "--send-anyway", "--report", "json"]) == 0
    report = json.loads(capsys.readouterr().err)
    assert [c["holds"] for c in report["checks"]] == [True, False, False]
    assert report["last"] == {"new": 0, "gone": 0, "changed": 1}
    assert out.exists()
    made = deliveries(state_folder())
    assert [(d.outcome, d.rows) for d in made] == [("sent", 3), ("held back", 0), ("sent", 3)]
    assert "m between 0 and 6" in made[0].said
    assert made[0].sha256 == hashlib.sha256(out.read_bytes()).hexdigest()
    assert made[0].as_pull().name == "levels"
    assert main(["history", "--json"]) == 0
    assert [line["outcome"] for line in json.loads(capsys.readouterr().out)] == ["sent", "held back", "sent"]


def test_what_a_run_says_beside_the_last(saved, capsys):
    run, change, _ = saved
    assert main(run) == 0
    capsys.readouterr()
    change(
        "delete from level where id = 2; insert into level values (7, 1), (8, 2); update level set m = 3 where id = 1"
    )
    assert main(run) == 0
    assert "+1 rows since" in (told := capsys.readouterr().err)
    assert "2 new, 1 gone, 1 changed" in told
    for _ in range(3):
        assert main(run) == 0
    change("update level set m = 5.9 where id = 8; insert into level select id + 10, m from level")
    capsys.readouterr()
    assert main(run) == 0
    told = capsys.readouterr().err
    assert "m highest 5.9 (usual " in told
    assert "rows 8 (usual 3 to 4)" in told


def test_the_account_is_put_aside_when_long_and_read_whole(tmp_path, monkeypatch):
    monkeypatch.setattr(account, "MOST_BYTES", 600)
    pull = Pull("p", Source("s", "sqlite:///x"), Query("select 1"))
    for number in range(6):
        made = account.delivered(pull, "csv", None, NOW.replace(tzinfo=None), "nightly" if number % 2 else "hand",
                                 account.Outcome.FAILED, f"no {number}", "x.csv")  # fmt: skip
        account.keep_delivery(tmp_path, made)
    assert (tmp_path / account.OLDER).exists()
    read = deliveries(tmp_path)
    assert [d.said for d in read] == [f"no {n}" for n in range(5, 5 - len(read), -1)]
    assert len(read) >= 2
    assert {d.by for d in deliveries(tmp_path, by="nightly")} == {"nightly"}
    with (tmp_path / account.LOG).open("a") as stream:
        old = {"at": "2031-01-01T00:00:00", "pull": "old", "source": "s", "format": "csv", "path": "p", "newer": 1}
        stream.write(f'no\n[]\n{{"at": "x"}}\n{json.dumps(old)}\n')
    assert deliveries(tmp_path)[0].pull == "old"
