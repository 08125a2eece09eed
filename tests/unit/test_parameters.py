"""Parameters: their kinds, days relative to today, lists."""

import datetime as dt
from decimal import Decimal

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nimble_otter.errors import QueryError
from nimble_otter.query.sql.names import TableNames, names_of
from nimble_otter.query.sql.parameters import PHRASES, Ask, Use, bind, day_of, find_uses, last_values, shown, typed

NAMES = names_of(
    [
        TableNames("reading", "table", (("at", "time"), ("level", "number"), ("quality", "text"), ("doc", "nested"))),
        TableNames("visit", "table", (("day", "date"), ("level", "text"))),
    ]
)
TODAY = dt.date(2031, 3, 31)


@pytest.mark.parametrize(
    ("text", "use"),
    [
        ("select 1 from reading where at >= :p", Use("time", "reading", "at")),
        ("select 1 from reading r join visit v on 1 = 1 where v.level <> :p", Use("text", "visit", "level")),
        ("select 1 from reading where quality in (:p)", Use("text", "reading", "quality", True)),
        ("select 1 from reading where quality not in ('a', :p)", Use("text", "reading", "quality", True)),
        ("select 1 from visit where day between :p and :q", Use("date", "visit", "day")),
        ("select 1 from visit where day between :q and :p", Use("date", "visit", "day")),
        ("select 1 from reading where doc = :p", Use("", "reading", "doc")),
        ("select :p from reading", Use()),
        ("select 1 from elsewhere where x = :p", Use()),
        ("with a as (select * from visit where day = :p) select * from a", Use("date", "visit", "day")),
    ],
)
def test_what_a_parameter_is_compared_with_tells_its_kind(text, use):
    assert find_uses(text, NAMES)["p"] == use


@pytest.mark.parametrize(
    ("phrase", "day"),
    [
        ("today", "2031-03-31"), ("Yesterday", "2031-03-30"), ("start of this week", "2031-03-31"),
        ("end of last week", "2031-03-30"), ("start of last month", "2031-02-01"), ("end of last month", "2031-02-28"),
        ("end of next month", "2031-04-30"), ("start of this quarter", "2031-01-01"),
        ("end of last quarter", "2030-12-31"),
        ("start of next year", "2032-01-01"), ("today - 7 days", "2031-03-24"), ("today + 1 month", "2031-04-30"),
        ("start of this year - 2 years", "2029-01-01"), ("today -1 week", "2031-03-24"), ("now", "2031-03-31"),
    ],
)  # fmt: skip
def test_days_are_told_relative_to_today(phrase, day):
    assert day_of(phrase, TODAY) == dt.date.fromisoformat(day)


@given(st.dates(dt.date(1900, 1, 1), dt.date(2200, 1, 1)), st.sampled_from(PHRASES))
def test_every_phrase_means_a_day_on_every_day(today, phrase):
    found = day_of(phrase, today)
    assert abs((found - today).days) <= 732
    assert phrase[:5] != "start" or "year" not in phrase or (found.month, found.day) == (1, 1)


@pytest.mark.parametrize("text", ["todays", "start of month", "today - days", "", "today - 9999 years", "2031-01-01"])
def test_other_texts_mean_no_day(text):
    assert day_of(text, TODAY) is None


def test_values_are_bound_by_their_kind():
    asks = {
        "d": Ask("date"),
        "n": Ask("number"),
        "m": Ask("number"),
        "y": Ask("yes/no"),
        "s": Ask("text"),
        "t": Ask("time"),
    }
    given = {"d": "2031-05-01", "n": "12", "m": "1.50", "y": "Yes", "s": 5, "t": "2031-05-01 14:00", "free": "today"}
    bound = bind("select :d, :n", given, asks, today=TODAY)
    assert bound.values == {
        "d": dt.date(2031, 5, 1), "n": 12, "m": Decimal("1.50"), "y": True, "s": "5",
        "t": dt.datetime(2031, 5, 1, 14), "free": "today",
    }  # fmt: skip
    assert bound.text == "select :d, :n"
    for name, wrong in (("d", "soon"), ("n", "1,5"), ("y", "perhaps"), ("t", "noon")):
        with pytest.raises(QueryError, match=f"value of :{name} is no"):
            bind("", {name: wrong}, asks)
    uses = {"d": Use("time"), "s": Use("text")}
    assert bind("", {"d": "start of last month", "s": "today"}, {}, uses, TODAY).values == {
        "d": dt.datetime(2031, 2, 1), "s": "today",
    }  # fmt: skip
    assert bind("", {"d": "any text"}, {}, uses).values == {"d": "any text"}  # a guess refuses nothing


def test_lists_are_spread_and_places_found_again():
    text = "select ':a' from t where q in (:a) and b = :b and c in (:a, :none) or d"
    bound = bind(text, {"a": ["x", "y", "z"], "b": 1, "none": []})
    assert bound.text == (
        "select ':a' from t where q in (:a__1, :a__2, :a__3) and b = :b and c in (:a__1, :a__2, :a__3, null) or d"
    )
    assert bound.values == {"a__1": "x", "a__2": "y", "a__3": "z", "b": 1}
    for word in (" and b", "c in", "or d", "from"):
        assert bound.written_at(bound.text.index(word)) == text.index(word)


@given(
    st.lists(st.text(alphabet="ab ,'1.", min_size=1, max_size=6).map(str.strip).filter(bool), min_size=2, max_size=5)
)
def test_lists_come_back_from_their_field_as_they_were(values):
    assert typed(shown(values), "text", True) == values


def test_single_values_come_back_too_and_earlier_ones_are_remembered():
    for value in ("text", "5", 5, 2.5, "it's"):
        assert typed(shown(value), "", False) == value
    runs = [{"a": 1}, {"a": 2, "b": 3}, {"a": 1}, {"b": ""}]
    assert last_values(runs, "a") == [1, 2]
    assert last_values(runs, "b") == [3]
