"""Completion, diagnosis and rewriting of query text."""

import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from nimble_otter.errors import QueryError
from nimble_otter.query.assist.completion import complete
from nimble_otter.query.assist.diagnosis import diagnose
from nimble_otter.query.assist.functions import functions_of
from nimble_otter.query.assist.native import complete_native
from nimble_otter.query.assist.rewrite import expand_stars, format_sql, make_parameter, name_part, rename_alias
from nimble_otter.query.sql.names import Key, TableNames, names_of
from nimble_otter.query.sql.scopes import read
from nimble_otter.query.sql.statements import Script, find_parameters, split_statements, statement_near


def table(name, columns, *keys):
    return TableNames(name, "table", tuple((c, "number") for c in columns.split()), keys)


NAMES = names_of(
    [
        table("reading", "reading_id station_id level_m at", Key(("station_id",), "station", ("station_id",))),
        table("station", "station_id name river_id", Key(("river_id",), "river", ("river_id",))),
        table("river", "river_id name"),
        table("loan", "item_no loan_no who"),
        table("loan_note", "item_no loan_no said", Key(("item_no", "loan_no"), "loan", ("item_no", "loan_no"))),
        table("far.big", "x"),
        TableNames("report", "collection", (("place.lat", "number"), ("place.name", "text"), ("kind", "text"))),
    ]
)


def offers(marked, **more):
    at = marked.index("|")
    found = complete(marked.replace("|", ""), at, NAMES, "sqlite", **more)
    return [offer.text for offer in found.offers]


@pytest.mark.parametrize(
    ("text", "first"),
    [
        ("|", ["select", "with"]),
        ("sel|", ["select"]),
        ("select r.| from reading r", ["reading_id", "station_id", "level_m", "at"]),
        ("select le| from reading", ["level_m", "lead(", "length("]),
        ("select lm| from reading", ["level_m"]),
        ("select sta| from reading r join station s on 1 = 1", ["r.station_id", "s.station_id"]),
        ("select * from rea|", ["reading"]),
        ("select * from far.|", ["big"]),
        ("select * from reading r join |", ["station s on r.station_id = s.station_id", "reading"]),
        ("select * from reading s join |", ["station s2 on s.station_id = s2.station_id", "reading"]),
        ("select * from loan l join |", ["loan_note ln on l.item_no = ln.item_no and l.loan_no = ln.loan_no"]),
        ("select * from reading r join station s on |", ["r.station_id = s.station_id", "reading_id"]),
        ("select * from reading r |", ["join", "left join", "where"]),
        ("select * from reading where level_m |", ["and", "or", "in"]),
        ("with a as (select level_m as l, at from reading) select | from a", ["l", "at", "a."]),
        ("with a(p, q) as (select 1, 2) select a.| from a", ["p", "q"]),
        ("select * from (select name as n, river_id from station) q where q.|", ["n", "river_id"]),
        ("select * from river v where exists (select 1 from station s where s.river_id = v.|)", ["river_id", "name"]),
        ("select count(*) as n, name from station group by na|", ["name"]),
        ("select * from station order |", ["by"]),
        ("select level_m as high from reading order by hi|", ["high"]),
        ("select * from reading limit 5; select na| from station", ["name"]),
        ("select * from river union all select * from station where nam|", ["name"]),
        ("update station set na|", ["name"]),
        ("select place.| from report", ["lat", "name"]),
        ('select "le| from reading', ["level_m"]),
    ],
)  # fmt: skip
def test_what_can_come_next_is_offered(text, first):
    assert offers(text)[: len(first)] == first


@pytest.mark.parametrize(
    "text", ["select 'le|' from reading", "select 1 -- le|", "select 1 /* le|", "select :na|", "select 1|"]
)
def test_nothing_is_offered_in_texts_comments_parameters_and_numbers(text):
    assert offers(text) == []


@pytest.mark.parametrize("text", ["name = |", "s.name in (|", "name in ('a', |", "name <> |"])
def test_values_seen_lately_come_first_behind_a_comparison(text):
    asked = []

    def values(table, column):
        asked.append((table, column))
        return ["'b'", "'c'"]

    assert offers(f"select * from station s where {text}", values=values)[:2] == ["'b'", "'c'"]
    assert asked[0] == ("station", "name")


def test_what_is_used_often_comes_first_and_names_are_quoted_as_the_source_takes_them():
    assert offers("select | from station", used={"river_id": 3})[0] == "river_id"
    assert offers("select | from station", quoted=lambda name: f"<{name}>")[0] == "<station_id>"


@given(st.integers(0, 400), st.text(alphabet="selct from()'\"*.,;-/=:ab \n", max_size=30))
def test_completion_and_diagnosis_answer_at_any_place_of_any_text(at, text):
    whole = f"with a as (select 1 as x) select {text} from reading r join a on {text} where (x = 'y"
    complete(whole, min(at, len(whole)), NAMES, "postgres")
    read(text, NAMES)
    diagnose(text, NAMES, "postgres")


def test_every_function_has_a_name_and_arguments():
    for dialect in ("", "sqlite", "postgres", "mysql"):
        assert all(call.count("(") >= 1 and call.endswith(")") for call in functions_of(dialect))
        assert "count(*)" in functions_of(dialect)


@pytest.mark.parametrize(
    ("text", "word", "said", "fixes"),
    [
        ("select r.nam from station r", "nam", "no column nam in r", ("name",)),
        ("select * from staton", "staton", "The nearest is station", ("station",)),
        ("select levl_m from reading", "levl_m", "nearest is level_m", ("level_m",)),
        ("select x.name from station s", "x", "no table x in this query", ()),
        ("select station_id from reading r, station s where r.station_id = s.station_id", "station_id",
         "is in r and s", ("r.station_id", "s.station_id")),
        ("with a as (select level_m as l from reading) select lx from a", "lx", "nearest is l", ("l",)),
        ("select 1 from river v where exists (select foo from station s where s.river_id = v.river_id)", "foo",
         "no column foo", ()),
        ("select * fro reading", "reading", "Syntax error", ()),
        ("select 1;\nselect *\nfrom reading\nwhere level_m = ", "=", "Syntax error", ()),
        ("delete from reading", "delete", "no WHERE", ()),
        ("update reading set level_m = 1", "update", "no WHERE", ()),
        ("select 1 from reading r join station s", "station", "this is a cross join", ()),
        ("select 1 from reading r, station s where r.level_m > 1", "station", "this is a cross join", ()),
    ],
)  # fmt: skip
def test_what_is_wrong_is_told_at_its_place(text, word, said, fixes):
    problem = diagnose(text, NAMES, "sqlite")[0]
    assert text[problem.place.start : problem.place.end] == word
    assert said in problem.message
    assert problem.fixes == fixes
    assert problem.is_error == ("WHERE" not in said and "cross" not in said)


@pytest.mark.parametrize(
    "text",
    [
        "select * from reading join station using (station_id) where station_id = 1",
        "select s.name as n, count(*) from station s group by n order by n",
        "select s.name from station s where exists (select 1 from reading where station_id = s.river_id)",
        "with recursive t(n) as (select 1 union all select n + 1 from t) select n from t",
        "select a.l from (select level_m l from reading union all select 1) a",
        "select r.*, j.value from reading r, json_each(r.at) j",
        "select level_m, rowid from reading where at > :since and level_m in (select max(level_m) from reading)",
        "select rank() over (partition by station_id order by level_m) from reading",
        "select far.big.x from far.big", "select tbl_name from sqlite_master", "create table reading2 (a int)",
        "select place.lat from report", "insert into river (river_id, name) values (1, 'a')",
        "delete from reading where level_m > 1", "select 1 from reading cross join station",
    ],
)  # fmt: skip
def test_right_queries_are_left_alone(text):
    assert diagnose(text, NAMES, "sqlite") == []


def test_without_a_catalogue_only_syntax_is_looked_at():
    assert diagnose("select nothing from nowhere", None, "postgres") == []
    assert len(diagnose("select from where", None, "postgres")) == 1


def test_stars_are_written_as_columns():
    assert expand_stars("select * from river", 3, NAMES, str) == "select river_id, name from river"
    two = "select v.*, count(*) from river v join station s using (river_id)"
    assert expand_stars(two, 0, NAMES, str).startswith("select v.river_id, v.name, count(*) from")
    assert expand_stars("select 1; select * from river", 12, NAMES, str) == "select 1; select river_id, name from river"
    inner = "select * from (select * from river) q"
    assert expand_stars(inner, inner.index("(") + 5, NAMES, str) == "select * from (select river_id, name from river) q"
    assert expand_stars(inner, 3, NAMES, str) == "select river_id, name from (select * from river) q"
    for text in ("select 1", "select 2 * 3", "select * from elsewhere"):
        with pytest.raises(QueryError):
            expand_stars(text, 3, NAMES, str)


def test_an_alias_is_renamed_where_it_is_meant_and_nowhere_else():
    text = "select r.level_m, 'r.x' from reading r where exists (select r.name from river r) and r.at > 1"
    wanted = "select q.level_m, 'r.x' from reading q where exists (select r.name from river r) and q.at > 1"
    assert rename_alias(text, 7, "q") == wanted
    assert rename_alias("select river.name from river", 8, "v") == "select v.name from river v"
    for new, at in (("from", 7), ("2x", 7), ("q", 0)):
        with pytest.raises(QueryError):
            rename_alias(text, at, new)


def test_a_part_is_named_and_a_value_becomes_a_parameter():
    text = "select * from (select 1 as a) p where a = 'it''s'"
    assert name_part(text, 14, 29) == "with part as (\n  select 1 as a\n)\nselect * from part p where a = 'it''s'"
    again = name_part("with part as (select 2 as b) " + text, 43, 58)
    assert again.startswith("with part2 as (\n  select 1 as a\n),\npart as")
    assert make_parameter(text, 42, 49) == ("select * from (select 1 as a) p where a = :a", "a", "it's")
    assert make_parameter("select :a where a > 2.5", 20, 23) == ("select :a where a > :a2", "a2", 2.5)
    for wrong in (lambda: name_part(text, 0, 6), lambda: make_parameter(text, 0, 6), lambda: name_part(text, 14, 20)):
        with pytest.raises(QueryError):
            wrong()


@pytest.mark.parametrize("dialect", ["sqlite", "postgres", "mysql"])
def test_layout_changes_nothing_but_the_layout(dialect):
    text = "select a, count(*) n -- why\nfrom Reading where b = :since and c in ('SELECT', 'x') group by a;\nselect 2"
    made = format_sql(text, dialect)
    assert made.startswith("select\n  a,\n  count(*) as n /* why */\nfrom Reading\nwhere\n  b = :since")
    assert format_sql(made, dialect) == made
    assert find_parameters(made) == ["since"]
    assert len(split_statements(made)) == 2
    assert "'SELECT'" in made
    with pytest.raises(QueryError):
        format_sql("select from where", dialect)


_PIECES = st.sampled_from(
    ["select 1", ";", " ", "\n", "'a;b'", "'", "-- x;\n", "-", "/* ; */", "/*", "*/", '"q;"', ":p", "from t", ""]
)


@example([], [(0, 0, "'a;b'"), (0, 1, "-- x;\n"), (10, 0, "'a;b'"), (2, 4, "select 1")])
@settings(max_examples=400)
@given(st.lists(_PIECES, max_size=8), st.lists(st.tuples(st.integers(0, 60), st.integers(0, 9), _PIECES), max_size=6))
def test_statements_of_an_edited_text_are_those_of_the_text_as_it_is(pieces, edits):
    script = Script()
    script.edit("".join(pieces), 0, 0, len("".join(pieces)))
    for at, removed, new in edits:
        at = min(at, len(script.text))
        removed = min(removed, len(script.text) - at)
        script.edit(script.text[:at] + new + script.text[at + removed :], at, removed, len(new))
        assert script.statements == split_statements(script.text)
        for caret in range(0, len(script.text), 3):
            near = statement_near(script.statements, caret)
            inside = [s for s in script.statements if s.start <= caret <= s.end + 1]
            assert near == inside[0] if inside else near in (*script.statements, None)


FIELDS = [("place.lat", "number"), ("place.name", "text"), ("kind", "text")]


@pytest.mark.parametrize(
    ("text", "first"),
    [
        ('{"ki|', ["kind"]), ('{"place.|', ["place.lat", "place.name"]), ('{"$o|', ["$or"]),
        ('{"kind": {"$|', ["$eq", "$ne"]), ('[{"$match": {"kind": 1}}, {"$so|', ["$sort", "$sortByCount"]),
        ('{"kind": "|', ["$place.lat"]), ('[{"$ma|', ["$match"]), ('[{"$match": {"k|', ["kind"]),
        ('[{"$match": {"kind": {"$g|', ["$gt", "$gte"]),
        ('[{"$group": {"|', ["_id"]), ('[{"$group": {"_id": "$k|', ["$kind"]), ('[{"$group": {"n": {"$s|', ["$sum"]),
        ('[{"$match": {"$and": [{"kind": 1}, {"pl|', ["place.lat"]), ('[{"$lookup": {"from": "re|', ["report"]),
        ('[{"$lookup": {"lo|', ["localField"]), ('[{"$project": {"x": {"$to|', ["$toLower", "$toUpper"]),
        ('{"kind": {"$regex": "|', []), ('{"kind": 5, |', []), ("|", []), ('{"a\\"ki|', []),
    ],
)  # fmt: skip
def test_native_requests_are_completed_by_their_place(text, first):
    at = text.index("|")
    whole = text.replace("|", "")
    found = complete_native(whole, at, FIELDS, ["report", "notice"])
    assert [o.text for o in found.offers][: len(first)] == first
    assert bool(first) == bool(found.offers)


@given(st.text(alphabet='{}[]",:$ak \\', max_size=40))
def test_native_completion_answers_for_any_text(text):
    complete_native(text, len(text), FIELDS)
