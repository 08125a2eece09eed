"""Queries in pieces: what is read from the text, and that each change leaves all else as it is written."""

import sqlite3
from contextlib import closing

import pytest
import sqlglot
from hypothesis import given
from hypothesis import strategies as st

from nimble_otter.errors import QueryError
from nimble_otter.query.assist.rewrite import qualify
from nimble_otter.query.pieces import conditions, edits
from nimble_otter.query.pieces.model import Group, Predicate, read_pieces
from nimble_otter.query.sql.names import Key, TableNames, names_of

NAMES = names_of([
    TableNames("river", "table", (("river_id", "number"), ("name", "text"))),
    TableNames("station", "table", (("station_id", "number"), ("name", "text"), ("river_id", "number"),
                                    ("above_id", "number")),
               (Key(("river_id",), "river", ("river_id",)), Key(("above_id",), "station", ("station_id",)))),
    TableNames("reading", "table", (("reading_id", "number"), ("station_id", "number"), ("level_m", "number"),
                                    ("quality", "text")), (Key(("station_id",), "station", ("station_id",)),)),
    TableNames("visit", "table", (("day", "date"), ("station_id", "number"), ("helper_id", "number")),
               (Key(("station_id",), "station", ("station_id",)), Key(("helper_id",), "station", ("station_id",)))),
    TableNames("pair", "table", (("a", "number"), ("b", "number"))),
    TableNames("gear", "table", (("x", "number"), ("y", "number")), (Key(("x", "y"), "pair", ("a", "b")),)),
])  # fmt: skip
LONG = """with near as (select 1 -- kept
)
select s.name as station, r.level_m, -- the level
  upper(r.quality) q, count(*) over (partition by s.name) n, case when r.level_m > 1 and 1 = 1 then 'a' end band
from reading r join station s using (station_id) left join river v on v.river_id = s.river_id and v.name <> 'x, y'
where r.level_m > 0.3 and (r.quality = 'good' or r.quality is null) /* why */
  and r.level_m between 1 and 2 and exists (select 1 from near) and not r.quality in ('a', 'b')
order by r.level_m desc nulls last, 1
limit 10"""


def quoted(name):
    return f'"{name}"' if " " in name else name


def read(text, at=0):
    return read_pieces(text, at, NAMES)


def shape(node):
    """A condition tree in a few words."""
    if isinstance(node, Predicate):
        return (node.left, node.sign, node.right) if node.sign else node.text
    return [node.word, *map(shape, node.parts)]


def test_a_select_is_read_with_every_piece_at_its_place():
    pieces = read(LONG)
    assert [(i.said, i.label, i.role) for i in pieces.items] == [
        ("s.name", "station", "key"), ("r.level_m", "", "key"), ("upper(r.quality)", "q", "key"),
        ("count(*) over (partition by s.name)", "n", "window"),
        ("case when r.level_m > 1 and 1 = 1 then 'a' end", "band", "key"),
    ]  # fmt: skip
    assert [(c.alias, c.table, c.join) for c in pieces.cards] == [
        ("r", "reading", ""), ("s", "station", "inner"), ("v", "river", "left")
    ]  # fmt: skip
    assert [(li.other, li.columns, li.others) for c in pieces.cards for li in c.links] == [
        ("r", ("station_id",), ("station_id",)), ("s", ("river_id",), ("river_id",))
    ]  # fmt: skip
    assert pieces.cards[2].rest == ("v.name <> 'x, y'",)
    assert shape(pieces.where) == [
        "and", ("r.level_m", ">", "0.3"), ["or", ("r.quality", "=", "'good'"), ("r.quality", "is null", "")],
        ("r.level_m", "between", "1 and 2"), "exists (select 1 from near)", "not r.quality in ('a', 'b')",
    ]  # fmt: skip
    assert [(o.said, o.way) for o in pieces.orders] == [("r.level_m", "desc nulls last"), ("1", "")]
    assert pieces.limit == "10"
    assert pieces.before.text.startswith("with near")
    assert pieces.behind is None
    spans = [pieces.where, *pieces.items, *pieces.cards, *pieces.orders, *pieces.clauses.values()]
    assert all(LONG[s.start : s.end] == s.text for s in spans)


def test_what_pieces_can_not_show_is_said_or_kept_as_text():
    assert read("").why_not == ""
    assert not read("").cards
    assert "UPDATE" in read("update river set name = 'x'").why_not
    assert "DISTINCT ON" in read("select distinct on (a) b from t").why_not
    both = read("select name from river union all select name from station order by 1")
    assert both.behind.text.startswith("union all")
    assert not both.orders
    assert edits.set_distinct(both, True).startswith("select distinct name from river union all")
    with pytest.raises(QueryError, match="kept as text"):
        edits.add_order(both, "name")
    odd = read("select x::double precision, a is distinct from b, r.* from (select 1) q, lateral f(q.a) g")
    assert [(i.said, i.label) for i in odd.items] == [
        ("x::double precision", ""), ("a is distinct from b", ""), ("r.*", "")
    ]  # fmt: skip
    assert [(c.alias, c.table, c.join) for c in odd.cards] == [("q", "", ""), ("g", "", ",")]


def test_a_query_is_made_from_nothing_by_pieces_alone():
    text = ""

    def do(make, *args, **more):
        nonlocal text
        text = make(read(text), *args, **more)
        assert sqlglot.parse_one(text)

    do(edits.add_table, NAMES, "reading", str)
    (way,) = edits.routes(read(text), NAMES, "station")
    do(edits.add_table, NAMES, "station", str, way)
    assert text == "select *\nfrom reading\njoin station on reading.station_id = station.station_id"
    (up,) = edits.routes(read(text), NAMES, "river")
    do(edits.add_table, NAMES, "river", str, up, kind="left")
    ways = edits.routes(read(text), NAMES, "station")
    assert [w.said for w in ways] == [
        "reading.station_id = station_id", "station.above_id = station_id", "station.station_id = above_id",
        "river.river_id = river_id",
    ]  # fmt: skip
    do(edits.add_table, NAMES, "station", str, ways[1])
    assert "join station s on station.above_id = s.station_id" in text
    do(edits.only_columns, read(text).cards[3], NAMES, str, False)
    do(edits.only_columns, read(text).cards[0], NAMES, str, False)
    do(edits.tick, read(text).cards[0], "level_m", True, NAMES, str)
    do(edits.only_columns, read(text).cards[1], NAMES, str, False)
    assert [i.said for i in read(text).items] == ["river.river_id", "river.name", "reading.level_m"]
    do(edits.set_function, 2, "avg", str)
    do(edits.rename_item, 2, "mean level", quoted)
    do(edits.tick, read(text).cards[2], "river_id", False, NAMES, str)
    assert text.startswith('select river.name, avg(reading.level_m) as "mean level"\n')
    assert "\ngroup by river.name" in text
    do(conditions.add_condition, "where", "reading.quality = 'good'")
    do(conditions.add_condition, "having", "count(*) > 3")
    do(edits.add_order, "2", True)
    do(edits.set_limit, "50")
    assert text.endswith(
        "where reading.quality = 'good'\ngroup by river.name\nhaving count(*) > 3\norder by 2 desc\nlimit 50"
    )
    do(edits.set_function, 1, "", quoted)
    assert "group by" not in text
    assert 'reading.level_m as "mean level"' in text
    with pytest.raises(QueryError, match="The last column stays"):
        edits.remove_item(read("select name from river"), "select", 0)


def test_tables_that_share_names_make_columns_be_told_apart():
    text = "select name, count(*) n from river where name <> 'x' group by name order by name"
    (way,) = edits.routes(read(text), NAMES, "station")
    assert edits.add_table(read(text), NAMES, "station", str, way) == (
        "select river.name, count(*) n from river\njoin station on river.river_id = station.river_id"
        " where river.name <> 'x' group by river.name order by name"
    )
    both = "select level_m as level, s.name, cast(day as date) from reading r join station s using (station_id), visit"
    assert qualify(both, 3, NAMES, str).startswith("select r.level_m as level, s.name, cast(visit.day as date) from")
    assert qualify(both, 3, NAMES, str).endswith("using (station_id), visit")


def test_joins_are_turned_rerouted_and_taken_away_with_what_hangs_on_them():
    text = "select s.name, v.day\nfrom station s\njoin visit v on s.station_id = v.station_id and v.day > '2031'"
    pieces = read(text)
    assert edits.set_join(pieces, 1, "left").count("left join visit v on") == 1
    assert edits.set_join(read(edits.set_join(pieces, 1, "full")), 1, "inner") == text
    helper = next(w for w in edits.routes(pieces, NAMES, "visit") if w.pairs == (("station_id", "helper_id"),))
    assert edits.set_route(pieces, 1, helper, str).endswith("join visit v on s.station_id = v.helper_id")
    gone, count = edits.remove_table(pieces, 1)
    assert (gone, count) == ("select s.name\nfrom station s", 1)
    assert edits.remove_table(pieces, 0) == ("select v.day\nfrom visit v", 1)
    with pytest.raises(QueryError, match="v is joined to s"):
        edits.remove_table(read(LONG), 1)
    with pytest.raises(QueryError, match="no condition"):
        edits.set_join(read("select 1 from river cross join pair"), 1, "left")
    (way,) = edits.routes(read("select x from gear"), NAMES, "pair")
    assert way.said == "gear.x = a, gear.y = b"
    listed = edits.add_table(read("select x from gear, river"), NAMES, "pair", str, way)
    assert listed == "select x from gear, river, pair\nwhere gear.x = pair.a and gear.y = pair.b"
    assert "\ncross join pair" in edits.add_table(read("select x from gear"), NAMES, "pair", str)
    where = "select s.name, count(*) n from station s join river r using (river_id) where r.name = 'a' or s.name = 'b'"
    assert edits.remove_table(read(where), 1)[0].endswith("from station s where s.name = 'b'")


@pytest.mark.parametrize(
    ("start", "make", "end"),
    [
        ("a = 1", lambda p: conditions.add_condition(p, "where", "b = 2"), "a = 1\n  and b = 2"),
        ("a = 1", lambda p: conditions.add_condition(p, "where", "b = 2", (), "or"), "a = 1\n  or b = 2"),
        ("a = 1 or b = 2", lambda p: conditions.add_condition(p, "where", "c = 3", (), "and"),
         "(a = 1 or b = 2)\n  and c = 3"),
        ("a = 1 and b = 2", lambda p: conditions.add_condition(p, "where", "c = 3", (1,), "or"),
         "a = 1 and (b = 2 or c = 3)"),
        ("a = 1 and (b = 2 or c = 3)", lambda p: conditions.add_condition(p, "where", "d = 4", (1,)),
         "a = 1 and (b = 2 or c = 3 or d = 4)"),
        ("a = 1 and b = 2", lambda p: conditions.add_condition(p, "where", "c = 3 or d = 4"),
         "a = 1 and b = 2\n  and (c = 3 or d = 4)"),
        ("a = 1 and (b = 2 or c = 3)", lambda p: conditions.remove_condition(p, "where", (1, 0)), "a = 1 and c = 3"),
        ("a = 1 and -- first\n b = 2 and c = 3", lambda p: conditions.remove_condition(p, "where", (0,)),
         "  -- first\n b = 2 and c = 3"),
        ("x and (a = 1 and b = 2)", lambda p: conditions.set_word(p, "where", (), "or"), "x or (a = 1 and b = 2)"),
        ("a = 1 OR b = 2", lambda p: conditions.set_word(p, "where", (), "and"), "a = 1 AND b = 2"),
        ("a = 1 or b = 2 and c = 3", lambda p: conditions.set_word(p, "where", (1,), "or"), "a = 1 or b = 2 or c = 3"),
        ("a = 1 and b = 2", lambda p: conditions.set_condition(p, "where", (1,), "b = 2 or c = 3"),
         "a = 1 and (b = 2 or c = 3)"),
    ],
)  # fmt: skip
def test_conditions_change_at_their_place(start, make, end):
    assert make(read(f"select 1 from t where {start} order by 1")) == f"select 1 from t where {end} order by 1"


def test_comments_and_layout_stay_whatever_is_removed_or_moved():
    text = "select a, -- one\n  b, -- two\n  c -- three\nfrom t -- four\nwhere x = 1 -- five\norder by a, /* six */ b"
    for n in range(3):
        made = edits.remove_item(read(text), "select", n)
        assert sqlglot.parse_one(made)
        assert all(word in made for word in ("one", "two", "three", "four", "five", "six"))
        assert [i.said for i in read(made).items] == [c for k, c in enumerate("abc") if k != n]
    assert edits.move_item(read(text), "select", 0, 1).startswith("select b, -- one\n  a, -- two\n")
    assert "six" in edits.remove_item(read(text), "order", 0)
    assert "six" in edits.remove_item(read(text), "order", 1)
    assert "five" in edits.set_limit(read(text), "5")
    assert edits.set_limit(read(text), "").count("limit") == 0
    assert edits.turn_order(read(text), 1).endswith("/* six */ b desc")
    assert edits.turn_order(read("select a from t order by a desc nulls first"), 0).endswith("by a nulls first")
    assert edits.set_distinct(read(edits.set_distinct(read(text), True)), False) == text


def test_groups_follow_the_columns_unless_they_were_made_by_hand():
    text = "select a, upper(b) u, 'x' as kind, sum(c) from t group by a, upper(b)"
    assert edits.remove_item(read(text), "select", 0).endswith("group by upper(b)")
    assert edits.add_item(read(text), "d + 1", "e").endswith("d + 1 as e from t group by a, upper(b), d + 1")
    by_hand = "select a, sum(c) from t group by a, rollup(b)"
    assert edits.add_item(read(by_hand), "d").endswith("group by a, rollup(b)")
    assert edits.set_function(read("select * from t"), 0, "count", str) == "select count(*) from t"
    with pytest.raises(QueryError, match="can't be grouped by"):
        edits.set_function(read("select *, a from t"), 1, "sum", str)
    once = edits.set_function(read("select a, b from t"), 1, "count distinct", str)
    assert once == "select a, count(distinct b) as b_count_distinct from t\ngroup by a"
    assert edits.set_function(read(once), 1, "max", str) == "select a, max(b) as b_max from t\ngroup by a"
    assert edits.set_function(read(once), 1, "", str) == "select a, b from t"


def test_typed_values_are_written_as_the_dialect_wants_them():
    known = {"name", "s.name", "level_m"}
    said = [
        ("good", "=", True, "'good'"), ("Sallow Bridge", "=", True, "'Sallow Bridge'"), ("s.name", "=", True, "s.name"),
        ("5", "=", True, "'5'"), ("5", "<", False, "5"), (":since", ">=", True, ":since"), ("o'b", "=", True, "'o''b'"),
        ("2031-05-01", "=", False, "'2031-05-01'"), ("a, 'b', 3", "in", True, "('a', 'b', '3')"),
        ("(1, 2)", "not in", False, "(1, 2)"),
        ("select 1", "in", False, "(select 1)"), (":many", "in", True, "(:many)"),
        ("1 and level_m", "between", False, "1 and level_m"), ("lower('A')", "=", True, "lower('A')"),
        ("%x%", "like", True, "'%x%'"), ("level_m * 2", "=", False, "level_m * 2"), ("null", "=", True, "null"),
    ]  # fmt: skip
    for typed, sign, is_text, end in said:
        assert conditions.value_said(typed, sign, is_text, known, "sqlite") == end, typed
    assert conditions.value_said("a\\b", "=", True, known, "mysql") == "'a\\\\b'"
    for typed, sign, match in (("", "=", "no value"), ("3", "between", "two values")):
        with pytest.raises(QueryError, match=match):
            conditions.value_said(typed, sign, False, known, "sqlite")
    for typed in ("", "a, b", "a; drop", "a -- b", "a from t", "a +"):
        with pytest.raises(QueryError):
            edits.one_expression(typed, "sqlite")
    assert edits.one_expression(" (select max(a) from t) ", "sqlite") == "(select max(a) from t)"


trees = st.recursive(
    st.tuples(st.sampled_from("abc"), st.sampled_from(["=", "<", ">="]), st.integers(0, 3)),
    lambda inner: st.tuples(st.sampled_from(["and", "or"]), st.lists(inner, min_size=2, max_size=3)),
    max_leaves=7,
)


def written(tree, top=True):
    if len(tree) == 3:
        return f"{tree[0]} {tree[1]} {tree[2]}"
    inner = f" {tree[0]} ".join(written(part, False) for part in tree[1])
    return inner if top else f"({inner})"


def holds(node, row):
    """What a condition tree means, worked out without SQL."""
    if isinstance(node, Predicate):
        left, right = row[node.left], int(node.right)
        return {"=": left == right, "<": left < right, ">=": left >= right}[node.sign]
    return (all if node.word == "and" else any)(holds(part, row) for part in node.parts)


@given(tree=trees, data=st.data())
def test_conditions_mean_after_a_change_what_their_pieces_say(tree, data):
    text = f"select a, b, c from t where {written(tree)}"
    rows = [(a, b, c) for a in range(4) for b in range(4) for c in range(4)]
    with closing(sqlite3.connect(":memory:")) as base:
        base.execute("create table t (a int, b int, c int)")
        base.executemany("insert into t values (?, ?, ?)", rows)
        for _ in range(4):
            pieces = read(text)
            wanted = [r for r in rows if pieces.where is None or holds(pieces.where, dict(zip("abc", r, strict=True)))]
            assert base.execute(text).fetchall() == wanted
            if pieces.where is None:
                break
            paths, node = [()], pieces.where
            path = ()
            while isinstance(node, Group) and data.draw(st.booleans()):
                at = data.draw(st.integers(0, len(node.parts) - 1))
                path, node = (*path, at), node.parts[at]
                paths.append(path)
            what = data.draw(st.sampled_from(["remove", "add", "beside", "word"]))
            if what == "remove":
                text = conditions.remove_condition(pieces, "where", path)
            elif what == "word" and isinstance(node, Group):
                word = "or" if node.word == "and" else "and"
                text = conditions.set_word(pieces, "where", path, word)
            else:
                word = data.draw(st.sampled_from(["and", "or"])) if what == "beside" else ""
                text = conditions.add_condition(pieces, "where", "b >= 2", path, word)
