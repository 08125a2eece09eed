"""Values as text, what the grid says of rows and groups, and the engine's smaller parts."""

import datetime as dt
import json
import math
import sqlite3
from decimal import Decimal

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nimble_otter.changes import Action, Edits, Filling, UnsetCell, unset_cell
from nimble_otter.desktop.grid.model import GroupsModel, RowsModel, cell_of, decimals_of, model_for, sort_marks
from nimble_otter.pull import run_course
from nimble_otter.pull.steps import (
    ColumnsStep,
    Condition,
    FigureOf,
    FilterStep,
    GroupStep,
    SortBy,
    SortStep,
    group_keys,
)
from nimble_otter.pull.tree import Opened, tree_lines
from nimble_otter.sources import ColumnInfo
from nimble_otter.sources.dialects.sqlite import SQLITE
from nimble_otter.sources.shapes import find_shapes, type_word
from nimble_otter.table import MISSING, Field, Kind, View
from nimble_otter.table.core.build import ColumnBuilder, column_of, table_of
from nimble_otter.table.ops.group import Aggregate, group_view
from nimble_otter.table.ops.group import AggregateFunction as Agg
from nimble_otter.table.ops.patch import patched
from nimble_otter.table.ops.profile import profile, value_counts
from nimble_otter.table.text.show import THIN, grouped, jsonable, plain, shown, shown_float
from nimble_otter.table.text.text_format import FILLERS, form_of, parse, render, render_all

ANY = Field("x", Kind.OBJECT)


@pytest.mark.parametrize(
    ("value", "screen", "exact"),
    [
        (1234567, "1\u2009234\u2009567", "1234567"),
        (-1234, "-1\u2009234", "-1234"),
        (12345.678, "12\u2009345.678", "12345.678"),
        (-1234.5, "-1\u2009234.5", "-1234.5"),
        (1e300, "1e+300", "1e+300"),
        (math.nan, "nan", "nan"),
        (0.1 + 0.2, "0.30000000000000004", "0.30000000000000004"),
        (True, "yes", "true"),
        ("two\nlines", "two lines", "two\nlines"),
        (dt.datetime(2031, 5, 28, 23), "2031-05-28 23:00:00", "2031-05-28 23:00:00"),
        (dt.date(2031, 5, 28), "2031-05-28", "2031-05-28"),
        (Decimal("1.10"), "1.10", "1.10"),
        (Decimal("1E+3"), "1000", "1000"),
        (b"\x00\xff", "2 bytes", "00ff"),
        ({"a": 1, "b": None}, "{ 2 } a 1, b ∅", '{"a": 1, "b": null}'),
        ([1, 2], "[ 2 ] 1, 2", "[1, 2]"),
        ([{"a": 1}], "[ 1 ] item", '[{"a": 1}]'),
        (None, "", ""),
        (MISSING, "", ""),
    ],
)
def test_values_on_screen_and_exact(value, screen, exact):
    assert shown(value, ANY) == screen
    assert plain(value) == exact


def test_keys_and_years_are_not_grouped_and_minutes_stay_minutes():
    assert shown(60212, Field("reading_id", Kind.INT)) == "60212"
    assert shown(2031, Field("year", Kind.INT)) == "2031"
    assert shown(dt.datetime(2031, 5, 28, 23), Field("at", Kind.TIME, form="%Y-%m-%d %H:%M")) == "2031-05-28 23:00"
    assert grouped(999) == "999"
    assert shown_float(999.5) == "999.5"
    assert len(shown("x" * 10_000, ANY)) == 300


SCALARS = st.none() | st.booleans() | st.integers() | st.floats() | st.text(st.characters(codec="utf-8"))


def nested(inner):
    return st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=3), inner, max_size=3)


@given(st.recursive(SCALARS, nested))
def test_nested_values_become_valid_json(value):
    json.loads(json.dumps(jsonable(value), allow_nan=False))
    assert isinstance(shown(value, ANY), str)


@given(st.datetimes(min_value=dt.datetime(1, 1, 1)), st.sampled_from([f for f in FILLERS if f != "%Y-%m-%d"]))
def test_times_in_every_form_come_back_to_the_letter(moment, form):
    keep = {"%H:%M": {"second": 0, "microsecond": 0}, "%S": {"microsecond": 0}}
    if form[-1].isdigit():
        step = 10 ** (6 - int(form[-1]))
        keep[form] = {"microsecond": moment.microsecond // step * step}
    moment = moment.replace(**next((v for k, v in keep.items() if form.endswith(k)), {}))
    text = render(moment, form)
    assert form_of(text, Kind.TIME) == form or form.endswith("?")
    assert parse([text], form).view("M8[us]").tolist() == [moment]


def built(hint, *batches):
    builder = ColumnBuilder(hint)
    for batch in batches:
        builder.extend(batch)
    column = builder.finish()
    return column.kind, render_all(column.values(), builder.form)


DAY = "2031-01-01 00:00:0"


@pytest.mark.parametrize(
    ("batches", "kind"),
    [
        ([[DAY + "0"], [DAY + "0.5", None]], Kind.TIME),
        ([[DAY + "0.123456", None], [DAY + "1"]], Kind.TIME),
        ([[None, DAY + "0.5"], [DAY + "0.51"]], Kind.TIME),
        ([[DAY + "0.50"], [DAY + "0.51"]], Kind.TIME),
        ([[DAY + "0.50"], [DAY + "0.5"]], Kind.TEXT),
        ([[DAY + "0.5"], ["infinity"]], Kind.TEXT),
        ([[DAY + "0.51", "0044-03-15 00:00:00 BC"]], Kind.TEXT),
    ],
)
def test_times_with_as_many_digits_as_they_need_are_kept_to_the_letter(batches, kind):
    assert built(Kind.TIME, *batches) == (kind, [v for batch in batches for v in batch])


@given(st.lists(st.none() | st.decimals(allow_nan=False, allow_infinity=False, places=2), max_size=8), st.booleans())
def test_decimals_given_as_text_are_exact(values, even):
    texts = [None if v is None else (f"{v:.2f}" if even else str(v.normalize())) for v in values]
    values = [None if t is None else Decimal(t) for t in texts]
    kind, found = built(Kind.DECIMAL, texts)
    assert found == values
    assert kind in (Kind.DECIMAL, Kind.OBJECT, Kind.TEXT)
    if even and all(v is None or abs(v) < 10**15 for v in values) and any(v is not None for v in values):
        assert kind is Kind.DECIMAL


@pytest.mark.parametrize("text", ["2031-5-28", "2031/05/28", "28.05.2031", "２031-05-28", "2031-05-28 ", ""])
def test_what_is_no_form_is_none(text):
    assert form_of(text, Kind.DATE) == ""


@pytest.mark.parametrize("texts", [["0000-01-01"], ["2031-13-01"], ["2031-02-29"], ["2031-01-01", "2031-1-01"]])
def test_impossible_dates_are_not_parsed(texts):
    assert parse(texts, "%Y-%m-%d") is None


# --- what the grid says ------------------------------------------------------------------------------------------


@pytest.fixture
def rows():
    return table_of(
        name=["a", "", None, "d"], level=[1.5, 2.25, None, 3.0], doc=[{"a": 1}, MISSING, None, []], n=[1, 2, 3, 40000]
    )  # fmt: skip


def model(table, steps=(), edits=None, conflicts=(), unset=None, opened=frozenset()):
    shaped = run_course(table, steps).end
    lines = tree_lines(shaped, Opened(turned=opened)) if shaped.grouped is not None else None
    return model_for(shaped, edits or Edits(table.rows), lines, steps, dict(conflicts), unset or {})


def test_null_missing_and_empty_are_told_apart(rows):
    grid = model(rows)
    looks = [[cell.look for cell in grid.line(n).cells] for n in range(4)]
    assert looks == [
        ["plain", "plain", "nested", "plain"],
        ["blank", "plain", "missing", "plain"],
        ["null", "null", "null", "plain"],
        ["plain", "plain", "nested", "plain"],
    ]
    assert [grid.line(n).cells[1].text for n in (0, 1, 3)] == ["1.50", "2.25", "3.00"]
    assert [c.right for c in grid.columns] == [False, True, False, True]
    assert cell_of(1e-9, rows.fields[1], 2).text == "1e-09"
    assert decimals_of(rows, 3, np.arange(4)) == 0


def test_edits_show_old_and_new_and_every_state_has_a_mark(rows):
    edits = Edits(4)
    edits.apply(Action("x", ((0, 1, 9.0), (4, 0, "new"), (5, 1, 2.0)), delete=(3,), add=((4, 1), (5, -1))))
    unset = {1: unset_cell(ColumnInfo("n", default=" 1 +\n 2"), SQLITE, True), 0: UnsetCell(Filling.REQUIRED)}
    grid = model(rows, edits=edits, conflicts={2: None}.items(), unset=unset)
    assert [grid.line(n).head for n in range(grid.rows)] == ["±", "2", "+", "!", "−", "+"]
    assert [grid.line(n).state for n in range(grid.rows)] == ["edited", "", "new", "conflict", "deleted", "new"]
    cell = grid.line(0).cells[1]
    assert (cell.text, cell.old) == ("9.00", "1.50")
    assert [c.text for c in grid.line(2).cells] == ["new", "default 1 + 2", "", ""]
    assert [(c.text, c.look) for c in grid.line(5).cells][:2] == [("required", "required"), ("2.00", "plain")]
    assert grid.unset(2, 1) == unset[1]
    assert grid.unset(2, 0) is grid.unset(1, 1) is None
    assert grid.value(2, 0) == "new"
    assert grid.value(2, 1) is None
    assert [grid.position_of(row) for row in (0, 4, 5, 99)] == [0, 2, 5, None]
    filtered = model(rows, (FilterStep((Condition("more than", "n", (1,)),)), SortStep((SortBy("n", True),))), edits)
    assert [filtered.row_id(n) for n in range(filtered.rows)] == [3, 2, 1, 4, 5]
    assert filtered.position_of(0) is None
    assert model(rows).position_of(2) == 2


def test_hidden_and_moved_columns_and_sort_marks(rows):
    steps = (ColumnsStep(order=("n",), hidden=("doc",)), SortStep((SortBy("n"), SortBy("name", True))))
    grid = model(rows, steps)
    assert [(c.name, c.mark) for c in grid.columns] == [("n", "1↑"), ("name", "2↓"), ("level", "")]
    assert grid.value(0, 0) == 1
    assert sort_marks((SortStep((SortBy("a"),), on=False),)) == {}


def test_groups_have_bars_totals_rounded_figures_and_rows(rows):
    table = table_of(k=["x", "y", "x"], j=[1, 1, 2], v=[1 / 3, 2.0, None])
    steps = (GroupStep(group_keys("k", "j"), (FigureOf(Agg.COUNT), FigureOf(Agg.MEAN, "v"))),)
    grid = model(table, steps, opened=frozenset({(0, 0), (1, 0)}))
    assert isinstance(grid, GroupsModel)
    assert [c.name for c in grid.columns] == ["k › j", "rows", "v", "share of rows"]
    assert [c.under for c in grid.columns] == ["2 levels", "count", "mean", ""]
    lines = [grid.line(n) for n in range(grid.rows)]
    assert [line.cells[0].text for line in lines] == ["x", "1", "row 1", "2", "y", "all rows"]
    assert [line.is_open for line in lines] == [True, True, None, False, False, None]
    assert lines[0].is_strong
    assert lines[0].cells[2].text == "0.333"
    assert lines[2].cells[2].text == "0.333"
    assert lines[3].cells[2].look == "null"
    assert lines[5].cells[1].text == "3"
    assert (lines[0].cells[3].share, lines[4].cells[3].share) == (1.0, 0.5)
    assert [grid.row_id(n) for n in range(grid.rows)] == [-1, -1, 0, -1, -1, -1]
    assert isinstance(model(table), RowsModel)


# --- smaller parts of the engine ---------------------------------------------------------------------------------

MIXED = st.lists(
    st.tuples(
        st.none() | st.dates(dt.date(2030, 1, 1), dt.date(2030, 1, 4)),
        st.none() | st.booleans(),
        st.none() | st.integers(-300, 300).map(lambda n: Decimal(n or 1).scaleb(-2)),
        st.none() | st.sampled_from(["", "a", "é", "zz"]),
    ),
    min_size=1,
    max_size=40,
)


@settings(max_examples=80, deadline=None)
@given(MIXED)
def test_groups_of_every_kind_agree_with_sqlite(rows):
    table = table_of(**dict(zip("abcd", map(list, zip(*rows, strict=True)), strict=True)))
    measures = [
        Aggregate(Agg.COUNT),
        Aggregate(Agg.FILLED, 3),
        Aggregate(Agg.MIN, 3),
        Aggregate(Agg.MAX, 0),
    ]
    measures += [
        Aggregate(Agg.DISTINCT, 3),
        Aggregate(Agg.DISTINCT, 2),
        Aggregate(Agg.MIN, 2),
    ]
    leaves = group_view(View(table), [0, 1], measures).leaves
    got = list(zip(*(c.values() for c in leaves.columns), strict=True))
    base = sqlite3.connect(":memory:")
    base.execute("create table t (a, b, c integer, d)")
    stored = [(a and a.isoformat(), b, None if c is None else int(c * 100), d) for a, b, c, d in rows]
    base.executemany("insert into t values (?,?,?,?)", stored)
    want = base.execute(
        "select a, b, count(*), count(d), min(d), max(a), count(distinct d), count(distinct c), min(c) from t "
        "group by a, b order by a nulls last, b nulls last"
    ).fetchall()
    base.close()
    plain_got = [
        (a and a.isoformat(), b, n, f, low, high and high.isoformat(), d, e, None if c is None else int(c * 100))
        for a, b, n, f, low, high, d, e, c in got
    ]
    assert plain_got == [(a, None if b is None else bool(b), *rest) for a, b, *rest in want]


@settings(max_examples=60, deadline=None)
@given(MIXED)
def test_value_counts_agree_with_plain_counting(rows):
    for values in map(list, zip(*rows, strict=True)):
        counts = value_counts(View(table_of(x=values)), 0)
        assert dict(counts) == {v: values.count(v) for v in values}
        assert [n for _, n in counts] == sorted((n for _, n in counts), reverse=True)


def test_profiles_of_every_kind():
    times = [dt.datetime(2031, 1, d) for d in (1, 2, 3)]
    found = profile(View(table_of(t=times)), 0)
    assert (found.smallest, found.largest, found.mean, sum(found.bins)) == (times[0], times[2], None, 3)
    texts = profile(View(table_of(t=["b", "a", "b"])), 0)
    assert (texts.smallest, texts.largest, texts.bins, texts.frequent) == ("a", "b", (), (("b", 2), ("a", 1)))
    odd = profile(View(table_of(o=[{"a": 1}, [1], {"a": 1}, MISSING])), 0)
    assert (odd.distinct, odd.empty, odd.frequent[0][1]) == (2, 1, 2)
    money = profile(View(table_of(d=[Decimal("0.10"), Decimal("0.20")])), 0)
    assert (money.total, money.median) == (Decimal("0.30"), pytest.approx(0.15))
    broken = profile(View(table_of(f=[1.0, math.nan, math.inf])), 0)
    assert sum(broken.bins) == 1
    one = profile(View(table_of(f=[2.0, 2.0])), 0)
    assert (sum(one.bins), one.spread) == (2, 0.0)
    some = profile(View(table_of(n=list(range(10))), np.array([9, 3])), 0)
    assert (some.rows, some.total) == (2, 12)


def test_sums_beyond_64_bits_are_exact():
    table = table_of(k=["a"] * 3, n=[2**62, 2**62, 2**62], d=[Decimal(10**17).scaleb(-2)] * 3)
    leaves = group_view(View(table), [0], [Aggregate(Agg.SUM, 1), Aggregate(Agg.SUM, 2)]).leaves
    assert leaves.columns[1].values() == [3 * 2**62]
    assert leaves.columns[2].values() == [Decimal(3 * 10**17).scaleb(-2)]


@settings(max_examples=60, deadline=None)
@given(st.lists(st.none() | st.text("ab\0é", max_size=4), min_size=3, max_size=20), st.data())
def test_patched_tables_are_what_was_asked_and_leave_the_old_alone(values, data):
    table = table_of(t=values, n=list(range(len(values))))
    places = st.integers(0, len(values) - 1)
    new = data.draw(st.dictionaries(places, st.none() | st.text("xy", max_size=3), max_size=4))
    gone = data.draw(st.lists(places, unique=True, max_size=3))
    added = data.draw(st.lists(st.text("z", max_size=2), max_size=3))
    fresh = patched(table, {row: {0: value} for row, value in new.items()}, gone, [{0: text} for text in added])
    want = [new.get(n, v) for n, v in enumerate(values)]
    assert fresh.columns[0].values() == [v for n, v in enumerate(want) if n not in gone] + added
    assert table.columns[0].values() == values
    assert fresh.rows == len(values) - len(gone) + len(added)


def test_shapes_tell_variants_rare_sets_and_unnamed_ones():
    documents = [{"_id": n, "kind": "a", "x": 1, "y": {"p": n}} for n in range(60)]
    documents += [{"_id": n, "b": [1], "c": "t" if n % 2 else 5, "d": None} for n in range(40)]
    documents += [{"_id": 1, "zz": 1}, {"_id": 2, "qq": 1}]
    shapes = find_shapes("c", documents, 500)
    assert [s.name for s in shapes.shapes] == ["a", "b, c, d", "one-off forms"]
    assert shapes.shapes[0].fields == ("kind", "x", "y{1}")
    assert shapes.shapes[2].fields == ("2 other field sets",)
    assert shapes.types["y.p"] == {"number": 1.0}
    assert shapes.differing == ("c",)
    assert find_shapes("c", [], 0).shapes == ()
    words = [type_word(v) for v in (None, True, 1, 1.5, "", dt.datetime.now(), {}, [], b"")]
    assert words == ["empty", "yes/no", "number", "number", "text", "time", "object", "list", "binary"]


def test_decimals_keep_their_digits_and_kinds_widen_only_where_exact():
    assert column_of([Decimal("1.10"), Decimal("2.5")]).values() == [Decimal("1.10"), Decimal("2.5")]
    assert [str(v) for v in column_of([Decimal("1.10"), Decimal("2.50")]).values()] == ["1.10", "2.50"]
    assert column_of([1, 2.5]).kind is Kind.FLOAT
    assert column_of([2**53 + 1, 2.5]).values() == [2**53 + 1, 2.5]
    assert column_of([True, 1]).kind is Kind.OBJECT
    assert column_of([Decimal("NaN")]).kind is Kind.OBJECT
    assert column_of([dt.date(1, 1, 1), dt.date(9999, 12, 31)]).values() == [dt.date(1, 1, 1), dt.date(9999, 12, 31)]


NAMES = ["reading_id", "stationId", "zip", "order_no", "founded_year", "area code"]


@pytest.mark.parametrize(
    ("name", "is_key"), [(n, False) for n in (*NAMES, "amount", "decoded", "casino")] + [("n", True)]
)
def test_numbers_that_name_things_are_not_grouped(name, is_key):
    is_name = is_key or name in NAMES
    assert shown(12345, Field(name, Kind.INT, is_key=is_key)) == ("12345" if is_name else f"12{THIN}345")


def test_times_that_are_all_at_midnight_are_shown_as_days_and_others_whole():
    days = [dt.datetime(2031, 5, n) for n in range(1, 9)]
    table = table_of(day=[*days[:-1], MISSING, None], mixed=[*days, dt.datetime(2031, 5, 9, 12)], empty=[None] * 9)
    model = RowsModel(run_course(table, ()).end, Edits(table.rows), {}, {})
    assert [cell.text for cell in model.line(0).cells] == ["2031-05-01", "2031-05-01 00:00:00", "∅"]
    assert model.line(8).cells[0].text == "∅"
    edits = Edits(table.rows)
    edits.apply(Action("Edit", ((0, 0, dt.datetime(2031, 5, 1, 8, 30)),)))
    edited = RowsModel(run_course(table, ()).end, edits, {}, {}).line(0).cells[0]
    assert (edited.text, edited.old) == ("2031-05-01 08:30:00", "2031-05-01")
