"""Query text: statements, parameters, and SELECT over documents."""

import datetime as dt
import re

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nimble_otter.errors import QueryError
from nimble_otter.query import find_parameters, parameter_value, split_statements, statement_at, translate_select

TRIGGER = "create trigger t after insert on a begin update b set x = case when 1 then 2 end; delete from c; end"


@pytest.mark.parametrize(
    ("text", "parts"),
    [
        ("select 1", ["select 1"]),
        ("select 1; select 2 ;", ["select 1", "select 2"]),
        ("select ';'; -- a; b\nselect \"x;y\"", ["select ';'", '-- a; b\nselect "x;y"']),
        ("/* ; */ ; ;\n", []),
        ("select 'it''s; fine'; select [a;b]", ["select 'it''s; fine'", "select [a;b]"]),
        (f"{TRIGGER}; select 1", [TRIGGER, "select 1"]),
        ("begin; select 1", ["begin", "select 1"]),
        ("select 'open", ["select 'open"]),
        ("", []),
    ],
)  # fmt: skip
def test_scripts_are_cut_where_statements_end(text, parts):
    found = split_statements(text)
    assert [s.text for s in found] == parts
    assert all(text[s.start : s.end] == s.text for s in found)


@given(st.text("ab';\"-/* \n[]:", max_size=40))
def test_any_text_is_cut_without_loss(text):
    for statement in split_statements(text):
        assert text[statement.start : statement.end] == statement.text


@pytest.mark.parametrize(
    ("caret", "want"), [(0, "select 1"), (8, "select 1"), (12, "select 2"), (22, "select 3"), (99, "select 3")]
)
def test_the_statement_under_the_caret(caret, want):
    assert statement_at("select 1;  select 2; \nselect 3", caret).text == want
    assert statement_at("  ", 1) is None


@pytest.mark.parametrize(
    ("text", "names"),
    [
        ("select :a, :b_2, :a", ["a", "b_2"]),
        ("select ':no', \":no\", x::int, a:b -- :no\n, :yes /* :no */", ["yes"]),
        ("select '12:30', :1x", []),
    ],
)
def test_parameters_are_found_outside_quotes_and_comments(text, names):
    assert find_parameters(text) == names


@pytest.mark.parametrize(
    ("text", "value"), [("5", 5), ("-2.5", -2.5), ("007", "007"), ("'5'", "5"), ("2031-05-01", "2031-05-01"), ("", "")]
)
def test_typed_parameters(text, value):
    assert parameter_value(text) == value
    assert type(parameter_value(text)) is type(value)


DAY = dt.datetime(2031, 5, 1)


@pytest.mark.parametrize(
    ("where", "filter_"),
    [
        ("a = 1 and b > 2.5", {"a": 1, "b": {"$gt": 2.5}}),
        ("a = 1 and a < 5", {"$and": [{"a": 1}, {"a": {"$lt": 5}}]}),
        ("not a = 1", {"a": {"$nin": [1, None]}}),
        ("a <> 1", {"a": {"$nin": [1, None]}}),
        ("5 < a.b", {"a.b": {"$gt": 5}}),
        ("a in ('x', null)", {"a": {"$in": ["x"]}}),
        ("a not in (1, 2)", {"a": {"$nin": [1, 2, None]}}),
        ("a not in (1, null)", {"_id": {"$in": []}}),
        ("a is null", {"a": None}),
        ("a is not null", {"a": {"$ne": None}}),
        ("a between 1 and 3", {"$and": [{"a": {"$gte": 1}}, {"a": {"$lte": 3}}]}),
        ("a like 'x%_.'", {"a": {"$regex": "^x.*.\\.$", "$options": "s"}}),
        ("at >= '2031-05-01'", {"at": {"$gte": DAY}}),
        ("at >= date '2031-05-01' or a = :p", {"$or": [{"at": {"$gte": DAY}}, {"a": 7}]}),
        ("r.a = 1", {"a": 1}),
    ],
)
def test_conditions_become_filters(where, filter_):
    assert (
        translate_select(f"select * from report r where {where}", lambda _: {"at": {"time"}}, {"p": 7}).filter
        == filter_
    )


def test_columns_order_and_limit():
    request = translate_select("select kind, flood.level as l, flood from report order by l desc, kind limit 3")
    assert request.columns == (("kind", "kind"), ("l", "flood.level"), ("flood", "flood"))
    assert request.projection == {"kind": 1, "flood": 1, "_id": 0}
    assert (request.sort, request.limit) == ((("flood.level", -1), ("kind", 1)), 3)


@pytest.mark.parametrize(
    ("text", "says", "word"),
    [
        ("select * from a full join b using (x)", "FULL JOIN", "b"),
        ("select * from a natural join b", "NATURAL JOIN", "b"),
        ("select * from a join b on a.x = b.x where y = 1", "Which of a, b has y?", "y"),
        ("with recursive r as (select 1) select * from r", "Recursive", ""),
        ("select x from a except select x from b", "EXCEPT", ""),
        ("select x from a union all select x, y from b", "as many columns", ""),
        ("select rank() over (order by x) from a", "Window functions", ""),
        ("select x from a where x in (select y from b)", "Subqueries", "x"),
        ("select soundex(x) from a", "soundex", "soundex"),
        ("select * from unnest(a.l) x", "collection whose lists", ""),
        ("select x from a order by 2", "no column 2", ""),
        ("select x + interval '1 fortnight' from a", "interval", "x"),
        ("select cast(x as inet) from a", "inet", ""),
        ("delete from a", "with SELECT", ""),
        ("select * from report wher x = 1", "", ""),
        ("select kind, count(*) from report group by place", "GROUP BY", "kind"),
        ("select * from report where a = :who", "who", ""),
        ("select * from report where a = 'open", "quote", "'open"),
        ("select sum(a) from report order by b", "must be in GROUP BY", "b"),
        ("select distinct * from report", "DISTINCT", ""),
        ("select kind from report having kind = 'a'", "HAVING", ""),
        ("select * from report offset 1.5", "OFFSET", ""),
    ],
)
def test_what_can_not_be_asked_is_said_with_its_place(text, says, word):
    with pytest.raises(QueryError) as caught:
        translate_select(text)
    assert says in str(caught.value)
    if word:
        assert text[caught.value.place.start :].startswith(word)


ROWS = [
    {"_id": n, **fields}
    for n, fields in enumerate(
        [
            {"a": 1, "t": "x"},
            {"a": 2, "t": "Xy"},
            {"a": None, "t": "y"},
            {"t": "x_y"},
            {"a": 3},
            {"a": 2, "t": None},
            {"a": 5},
        ]
    )
]
leaf = st.sampled_from(
    ["a = 2", "a <> 2", "a < 3", "a >= 2", "a in (1, 3)", "a not in (1, 3)", "a in (1, null)", "a is null",
     "a between 2 and 3", "t = 'x'", "t like 'x%'", "t not like 'x%'", "t is not null", "t in ('x', 'y')", "2 < a"]
)  # fmt: skip
condition = st.recursive(
    leaf,
    lambda inner: st.one_of(
        st.tuples(inner, inner).map(lambda p: f"({p[0]} and {p[1]})"),
        st.tuples(inner, inner).map(lambda p: f"({p[0]} or {p[1]})"),
        inner.map(lambda p: f"not ({p})"),
    ),
    max_leaves=6,
)


@settings(max_examples=150, deadline=None)
@given(condition)
def test_filters_match_what_sqlite_keeps(text):
    """The same rows as SQL's three-valued logic, a missing field counting as NULL."""
    import sqlite3

    import mongomock

    store = mongomock.MongoClient()["d"]["c"]
    store.insert_many([dict(row) for row in ROWS])
    base = sqlite3.connect(":memory:")
    base.execute("pragma case_sensitive_like = on")
    base.execute("create table c (_id, a, t)")
    base.executemany("insert into c values (?, ?, ?)", [(r["_id"], r.get("a"), r.get("t")) for r in ROWS])
    want = [i for (i,) in base.execute(f"select _id from c where {text} order by _id")]
    base.close()
    found = store.find(translate_select(f"select * from c where {text}").filter)
    assert sorted(row["_id"] for row in found) == want


def test_grouping_becomes_a_pipeline():
    request = translate_select(
        "select kind, count(*) as n, avg(flood.level) as level, count(place) from report where a = 1 "
        "group by kind order by n desc, kind limit 2"
    )
    assert [next(iter(stage)) for stage in request.pipeline] == ["$match", "$group", "$sort", "$limit", "$project"]
    assert request.columns == (("kind", "kind"), ("n", "n"), ("level", "level"), ("count(place)", "c3"))
    assert request.pipeline[2] == {"$sort": {"f0": -1, "_id.k0": 1}}
    assert re.fullmatch(r"\$flood\.level", request.pipeline[1]["$group"]["f1"]["$avg"])


@pytest.mark.parametrize(
    "body",
    [
        "create function f() returns int language sql as $$ select 1; select ':x' $$",
        "create function f() returns int as $body$ begin; $$ ; $$ end $body$ language plpgsql",
        "create or replace procedure two(n int) begin select n as a; select case n when 1 then 2 end; end",
        "create trigger t after insert on r begin delete from s; end",
    ],
)
def test_bodies_of_routines_and_triggers_are_not_cut(body):
    found = split_statements(f"select 1;{body};\nselect 2")
    assert [statement.text for statement in found] == ["select 1", body, "select 2"]
    assert find_parameters(body) == []
