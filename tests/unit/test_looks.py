"""How values are shown by the look of their column, and what the Columns step makes of it."""

from __future__ import annotations

import datetime as dt
import math
from decimal import Decimal

import pytest
from hypothesis import assume, given
from hypothesis import strategies as some

from nimble_otter.changes import Edits
from nimble_otter.desktop.grid.model import model_for
from nimble_otter.entry import Entry
from nimble_otter.errors import ConditionError
from nimble_otter.pull import run_course
from nimble_otter.pull.shaped import columns_to_send
from nimble_otter.pull.steps import ColumnsStep, FigureOf, GroupStep, SortBy, SortStep, group_keys
from nimble_otter.pull.tree import Opened, tree_lines
from nimble_otter.table import Field, Kind
from nimble_otter.table.core.build import table_of
from nimble_otter.table.ops.measures import AggregateFunction as Agg
from nimble_otter.table.text.column_format import ColumnFormat, in_zone, time_text
from nimble_otter.table.text.show import THIN, shown
from nimble_otter.table.text.typed_look import as_typed, is_as_shown

AT = dt.datetime(2031, 5, 8, 23, 4, 5, 60_000)
UTC = AT.replace(tzinfo=dt.UTC)


def said(value, name="x", kind=Kind.FLOAT, **look):
    return shown(value, Field(name, kind, look=ColumnFormat(**look))).replace(THIN, " ")


@pytest.mark.parametrize(
    ("value", "look", "text"),
    [
        (1234.5678, {"decimals": 2}, "1 234.57"), (0.125, {"decimals": 2}, "0.13"), (-0.5, {"decimals": 0}, "-1"),
        (1234.5, {"groups": False}, "1234.5"), (0.1428, {"style": "percent", "decimals": 1}, "14.3 %"),
        (0.07, {"style": "percent"}, "7 %"), (Decimal("1.10"), {"groups": True}, "1.10"),
        (12345, {"decimals": 1}, "12 345.0"), (2**70, {"groups": False}, str(2**70)),
        (1_500_000, {"style": "bytes"}, "1.5 MB"), (12, {"style": "bytes"}, "12 bytes"),
        (1234.5, {"style": "scientific", "decimals": 1}, "1.2e+03"), (math.nan, {"decimals": 2}, "nan"),
        (True, {"words": ("on", "off")}, "on"), (False, {"words": ("on", "off")}, "off"),
        (dt.date(2031, 5, 8), {"pattern": "EEE d MMM yyyy"}, "Thu 8 May 2031"),
        (1e22, {"decimals": 1, "groups": False}, "1" + "0" * 22),
        (AT, {"pattern": "yyyy-MM-dd'T'HH:mm:ss.SSS"}, "2031-05-08T23:04:05.060"),
        (AT, {"pattern": "yy/M/d h:mm a"}, "31/5/8 11:04 PM"),
        (AT, {"pattern": "yyyy'W'ww D Q ''"}, "2031W19 128 2 '"), (dt.time(7, 5), {"pattern": "HH:mm"}, "07:05"),
        (UTC, {"zone": "Europe/Vienna", "pattern": "HH:mm xxx EEEE MMMM"}, "01:04 +02:00 Friday May"),
        (UTC, {"zone": "Asia/Tokyo"}, "2031-05-09 08:04:05+09:00"), ("text", {"decimals": 2}, "text"),
        (UTC, {"pattern": "HHX z"}, "23Z UTC"),
    ],
)  # fmt: skip
def test_values_by_their_look(value, look, text):
    assert said(value, **look) == text


def test_numbers_that_are_names_keep_their_digits_together():
    assert said(12345, "station_id", Kind.INT, decimals=0) == "12345"
    assert said(12345, "station_id", Kind.INT, groups=True) == "12 345"
    assert said(None, decimals=2) == ""


@given(some.decimals(-(10**12), 10**12, places=5), some.integers(0, 6))
def test_rounding_for_show_is_half_away_from_zero(value, decimals):
    text = said(value, kind=Kind.DECIMAL, decimals=decimals).replace(" ", "")
    assert abs(Decimal(text) - value) <= Decimal(5).scaleb(-decimals - 1)
    assert len(text.partition(".")[2]) == decimals


def test_a_look_that_says_nothing_is_refused_with_its_place():
    table = table_of(t=[AT])
    for look, say in (
        (ColumnFormat(pattern="yyyy-bb"), "'bb' has no meaning"),
        (ColumnFormat(zone="Moon/Base"), "no time zone Moon/Base"),
    ):
        error = run_course(table, (ColumnsStep(looks=(("t", look),)),)).results[0].error
        assert isinstance(error, ConditionError)
        assert say in str(error)
    for wrong in ({"style": "x"}, {"decimals": 99}, {"words": ["a"]}, {"align": "up"}, {"paint": "red"}):
        with pytest.raises(ValueError):
            ColumnFormat.from_plain(Entry(wrong))
    with pytest.raises(ValueError, match="no meaning"):
        time_text(AT, "J")


LOOKS = ColumnsStep(
    order=("b", "a"),
    hidden=("c",),
    pinned=("a",),
    looks=(
        ("a", ColumnFormat(title="Level", decimals=1, paint="bars")),
        ("b", ColumnFormat(align="centre", words=("x", "y"))),
    ),
)


def test_columns_are_ordered_pinned_titled_and_painted():
    table = table_of(a=[1.25, 3.0, None], b=[True, False, None], c=["x", "y", "z"])
    course = run_course(table, (LOOKS, SortStep((SortBy("a", True),))))
    assert LOOKS.words() == "1 hidden, reordered, 1 pinned, 2 formatted"
    model = model_for(course.end, Edits(3), None, (), {}, frozenset())
    assert [(c.name, c.title, c.under, c.paint, c.is_centred) for c in model.columns] == [
        ("a", "Level", "a", "bars", False), ("b", "b", "", "", True),
    ]  # fmt: skip
    assert model.pinned == 1
    assert [(cell.text, round(cell.share, 3)) for cell in (model.line(n).cells[0] for n in range(3))] == [
        ("3.0", 1.0), ("1.3", 0.417), ("∅", 0.0),
    ]  # fmt: skip
    assert (model.line(0).cells[1].text, model.field(0).name) == ("y", "Level")
    again = model_for(course.end, Edits(3), None, (), {}, frozenset(), model)
    assert [again.line(n).cells[0].share for n in range(3)] == [model.line(n).cells[0].share for n in range(3)]
    fields, columns, _ = columns_to_send(course.end)
    assert [f.name for f in fields] == ["Level", "b"]
    assert columns[0].values() == [1.25, 3.0, None]  # every digit is sent
    assert ColumnsStep.from_plain(Entry(LOOKS.to_plain())) == LOOKS
    assert LOOKS.with_look("a", ColumnFormat()).looks == LOOKS.looks[1:]


def test_looks_of_figures_and_hidden_figures_of_groups():
    table = table_of(k=["x", "y", "y"], v=[1.0, 2.0, 4.0])
    group = GroupStep(
        group_keys("k"),
        (FigureOf(Agg.COUNT), FigureOf(Agg.MEAN, "v"), FigureOf(Agg.SHARE)),
    )
    step = ColumnsStep(hidden=("rows",), looks=(("v mean", ColumnFormat(decimals=2, paint="scale")),))
    course = run_course(table, (group, step))
    model = model_for(course.end, Edits(3), tree_lines(course.end, Opened()), (), {}, frozenset())
    assert [c.title for c in model.columns] == ["k", "v", "rows", "share of rows"]
    assert [cell.text for cell in model.line(1).cells] == ["y", "3.00", "66.7 %", ""]
    assert [model.line(n).cells[1].share for n in range(2)] == [0.0, 1.0]


PATTERNS = (
    "yyyy-MM-dd HH:mm:ss.SSSSSS",
    "d. MMMM yyyy, HH:mm",
    "EEE d MMM HH:mm",
    "dd/MM/yy h:mm a",
    "MM/dd/yyyy 'at' HH.mm",
    "HH:mm",
    "D w",
)


@given(
    some.datetimes(dt.datetime(1, 1, 1), dt.datetime(9999, 12, 31)), some.sampled_from(PATTERNS),
    some.sampled_from((Kind.TIME, Kind.DATE, Kind.CLOCK, Kind.ZONED)), some.sampled_from(("", "Europe/Vienna")),
)  # fmt: skip
def test_what_a_pattern_shows_is_read_back_as_what_stood_there(at, pattern, kind, zone):
    value = {Kind.DATE: at.date(), Kind.CLOCK: at.time()}.get(kind, at)
    if kind is Kind.ZONED:
        assume(at.year not in (1, 9999))
        value = at.replace(tzinfo=dt.UTC)
    look = ColumnFormat(pattern=pattern, zone=zone if kind is Kind.ZONED else "")
    own = in_zone(value, look.zone) if kind is Kind.ZONED else value
    text = time_text(own, pattern)
    assert is_as_shown(text, value, look)
    plain = own.replace(tzinfo=None) if kind is Kind.ZONED else own
    written = plain.isoformat(" ") if isinstance(plain, dt.datetime) else plain.isoformat()
    read = as_typed(text, look, kind, value)
    assert read == (text if pattern == "D w" else written) or dt.datetime.fromisoformat(read) == plain


@pytest.mark.parametrize(
    ("text", "pattern", "before", "read"),
    [
        ("28.5.2031", "d.M.yyyy", None, "2031-05-28"),
        ("28.5.2031 23:15", "d.M.yyyy HH:mm", None, "2031-05-28 23:15:00"),
        ("Fri 9 May 21:00", "EEE d MMM HH:mm", AT, "2031-05-09 21:00:05.060000"),
        ("Mon 9 May 21:00", "EEE d MMM HH:mm", AT, "Mon 9 May 21:00"), ("9 may", "d MMM", None, "9 may"),
        ("31.2.2031", "d.M.yyyy", None, "31.2.2031"), ("2031-05-08", "d.M.yyyy", AT, "2031-05-08"),
        ("7:05 pm", "h:mm a", AT.time(), "19:05:05.060000"), ("7:05 PM", "h:mm a", None, "19:05:00"),
        ("9.5.31", "d.M.yy", dt.date(1999, 1, 1), "1931-05-09"),
        ("9.5.2031", "d.M.yyyy", AT, "2031-05-09 23:04:05.060000"),
        ("9.5.2031 12:00 +02:00", "d.M.yyyy HH:mm xxx", UTC, "2031-05-09 12:00:05.060000+02:00"),
    ],
)  # fmt: skip
def test_a_time_typed_by_the_pattern_of_its_column(text, pattern, before, read):
    kind = Kind.CLOCK if pattern.startswith("h") else Kind.DATE if type(before) is dt.date else Kind.TIME
    assert as_typed(text, ColumnFormat(pattern=pattern), kind, before) == read


def test_percentages_and_words_are_typed_as_they_are_shown():
    percent, words = ColumnFormat(style="percent"), ColumnFormat(words=("open", "shut"))
    assert [as_typed(t, percent, Kind.FLOAT) for t in ("14.3 %", "7%", "7", "x %")] == ["0.143", "0.07", "7", "x %"]
    assert [as_typed(t, words, Kind.BOOL) for t in ("open", "shut", "yes")] == ["yes", "no", "yes"]
    assert [as_typed("open", words, Kind.TEXT), as_typed("7 %", percent, Kind.TEXT)] == ["open", "7 %"]
