"""SELECT over collections gives what the same SELECT gives over the same values in tables."""

import datetime as dt
import re
import sqlite3

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from pymongo import MongoClient

from nimble_otter.demo.standin import StandIn
from nimble_otter.query.documents.match import matches
from nimble_otter.sources import Request, fetch
from nimble_otter.table import MISSING
from tests.proofs import how_many

DAY = dt.datetime(2031, 5, 1)
_FIELDS = [
    {"a": 1, "t": "x", "n": 2, "d": DAY, "l": [3, 1], "o": {"x": 1.5}},
    {"a": 2, "t": "y", "n": 2, "d": dt.datetime(2030, 12, 31, 23, 59, 58), "l": []},
    {"a": None, "t": "y", "o": {"x": None}}, {"t": "x", "n": 5, "o": {}, "l": [1, 1, 5]},
    {"a": 3, "n": 1, "d": DAY}, {"a": 2, "t": None, "n": 4, "l": None}, {"a": 5, "t": "x", "n": 2, "o": {"x": 4.0}},
    {"a": 1, "t": "Zoë ß", "n": 7, "l": [2]},
]  # fmt: skip
ROWS = [{"_id": n, **fields} for n, fields in enumerate(_FIELDS)]
OTHER = [
    {"_id": 1, "k": 1, "name": "one", "n": 3}, {"_id": 2, "k": 1, "name": "uno"},
    {"_id": 3, "k": 2, "name": None, "n": 0},
    {"_id": 4, "k": None, "name": "none"}, {"_id": 5, "name": "nowhere", "n": 9}, {"_id": 6, "k": 9, "name": "x"},
]  # fmt: skip


@pytest.fixture(scope="module", params=["server", "stand-in"])
def url(request):
    """Two collections on the document server, and on the demo's stand-in."""
    if request.param == "server":
        server = request.getfixturevalue("document_server")
        with MongoClient(server.url) as client:
            base = client.get_default_database()
            for name, rows in (("rows", ROWS), ("other", OTHER)):
                base[name].drop()
                base[name].insert_many([dict(row) for row in rows])
        yield server.url
    else:
        server = StandIn("d", {"rows": [dict(r) for r in ROWS], "other": [dict(r) for r in OTHER]})
        yield server.url
        server.close()


@pytest.fixture(scope="module")
def asked(url):
    """A function that gives the rows of a text."""
    from nimble_otter.sources import Source, connect

    connection = connect(Source("test", url))
    yield lambda text, **values: rows_of(fetch(connection, Request(text, values)).table)
    connection.close()


@pytest.fixture(scope="module")
def base():
    """The same in tables, with functions that SQLite lacks."""
    made = sqlite3.connect(":memory:")
    made.execute("create table rows (_id, a, t, n, d, o_x)")
    made.execute("create table lists (_id, x, at)")
    made.execute("create table other (_id, k, name, n)")
    for r in ROWS:
        o, d = r.get("o") or {}, r.get("d")
        values = (r["_id"], r.get("a"), r.get("t"), r.get("n"), d and d.isoformat(" "), o.get("x"))
        made.execute("insert into rows values (?, ?, ?, ?, ?, ?)", values)
        made.executemany(
            "insert into lists values (?, ?, ?)", [(r["_id"], x, n + 1) for n, x in enumerate(r.get("l") or ())]
        )
    made.executemany(
        "insert into other values (?, ?, ?, ?)", [tuple(r.get(c) for c in ("_id", "k", "name", "n")) for r in OTHER]
    )
    made.execute("pragma case_sensitive_like = on")
    for name, at in (("year", slice(0, 4)), ("month", slice(5, 7)), ("hour", slice(11, 13))):
        made.create_function(name, 1, lambda d, at=at: None if d is None else int(d[at]))
    made.create_function("strpos", 2, lambda t, p: None if t is None or p is None else t.find(p) + 1)
    made.create_function("greatest", -1, lambda *v: max((x for x in v if x is not None), default=None))
    made.create_function("to_month", 1, lambda d: None if d is None else d[:7])
    yield made
    made.close()


def rows_of(table):
    columns = [column.values() for column in table.columns]
    return [tuple(plain(value) for value in row) for row in zip(*columns, strict=True)]


def plain(value):
    if value is None or value is MISSING:
        return None
    if isinstance(value, dt.datetime):
        return value.isoformat(" ")
    return round(float(value), 6) if isinstance(value, (float, int)) else value


def of_tables(text):
    """The text as SQLite takes it: paths and lists are columns and a table there."""
    text = re.sub(r"unnest\(r\.l\)( with ordinality as)? (x\(x, at\)|x)", "lists x", text)
    if "lists x" in text:
        text = re.sub(r"left join lists x on true", "left join lists x on x._id = r._id", text)
        text = re.sub(r", lists x\b", " join lists x on x._id = r._id", text)
        text = re.sub(r"(?<![\w.])x(?![\w.('])(?=[^']*(?:'[^']*'[^']*)*$)(?! on)", "x.x", text).replace(
            "lists x.x", "lists x"
        )
    text = text.replace("date_trunc('month', d)", "substr(d, 1, 7) || '-01 00:00:00'").replace("o.x", "o_x")
    text = text.replace("to_char(d, 'YYYY-MM')", "to_month(d)").replace("string_agg(", "group_concat(")
    return text.replace(" / ", " * 1.0 / ") + ("" if "limit" in text or "offset" not in text else " ")


def same(asked, base, text, ordered=False):
    other = of_tables(text)
    if "offset" in other and "limit" not in other:
        other = other.replace("offset", "limit -1 offset")
    want = [tuple(plain(v) for v in row) for row in base.execute(other)]
    got = asked(text)

    def key(row):
        return [(v is not None, str(type(v)), str(v)) for v in row]

    if not ordered:
        want, got = sorted(want, key=key), sorted(got, key=key)
    assert got == want, text


@pytest.mark.parametrize(
    "text",
    [
        "select t, count(*) as c, max(n) as m from rows group by t order by c desc, t",
        "select t, count(*) as c from rows group by t having count(*) > 1 order by t",
        "select t, count(*) as c from rows group by t having max(n) >= 4 and t is not null order by t",
        "select t, count(*) as c from rows group by t having avg(n) < 3 or t = 'z' order by t",
        "select a, t, count(n) as c from rows where n > 1 group by a, t having not (count(*) > 1) order by a, t",
        "select count(distinct t) as c, count(distinct a) as d, count(*) as e from rows",
        "select distinct t from rows order by t", "select distinct a, t from rows where n is not null order by a, t",
        "select _id, n from rows order by _id limit 3 offset 2",
        "select _id from rows where a > 1 order by _id offset 1",
        "select t, count(*) as c from rows group by t order by t limit 2 offset 1",
        "select t, sum(a), sum(distinct n), avg(a) from rows group by t order by t",
        "select sum(a), count(*), min(t), max(n) from rows where a > 100",
        "select count(*) from rows having count(*) > 99",
        "select r._id, o.name from rows r join other o on r.a = o.k order by 1, 2",
        "select r._id, o.name from rows r left join other o on r.a = o.k order by r._id, o._id",
        "select r._id, o.name from rows r left join other o on r.a = o.k and o.name <> 'uno' order by r._id, o._id",
        "select r._id, o._id from rows r join other o on r.a < o.k or o.name = r.t order by 1, 2",
        "select r._id, o._id from rows r, other o where r.a = o.k and lower(r.t) = 'x' order by 1, 2",
        "select r._id, p.name, q.name from rows r join other p on r.a = p.k left join other q on p.n = q.k "
        "order by 1, 2, 3",
        "select o.name, count(r._id), sum(r.n) from other o left join rows r on r.a = o.k group by o.name order "
        "by o.name",
        "select r._id, x from rows r, unnest(r.l) x order by 1, 2",
        "select r._id, x from rows r left join unnest(r.l) x on true order by 1, 2",
        "select x, count(*) as c, sum(r.a) from rows r, unnest(r.l) x where x > 1 group by x order by x",
        "select r._id, x, at from rows r, unnest(r.l) with ordinality as x(x, at) order by 1, at",
        "select o.name, sum(x) from rows r, unnest(r.l) x join other o on o.k = x group by o.name order by 1",
        "select q.t, q.c * 2 as e from (select t, count(*) as c from rows group by t) q where q.c > 1 order by q.t",
        "with c as (select a as k, n from rows where n > 1), e as (select k, max(n) as m from c group by k) "
        "select o.name, e.m from other o join e on e.k = o.k order by 1",
        "select r._id, s.c from rows r left join (select k, count(*) as c from other group by k) s on s.k = r.a "
        "order by 1",
        "select t as v from rows union all select name from other order by v",
        "select t as v from rows union select name from other order by 1 desc limit 3",
        "select _id, case when a > 2 then 'big' when a > 1 then t else 'small' end as c from rows order by 1",
        "select _id, case t when 'x' then 1 when 'y' then 2 end as c from rows order by 1",
        "select _id, upper(t) || '-' || a as u, length(t), substr(t, 2, 2), replace(t, 'o', '0') from rows order by 1",
        "select _id, year(d), month(d), hour(d), date_trunc('month', d), to_char(d, 'YYYY-MM') from rows order by 1",
        "select _id, (a + n) * 2 - 1, a / n, -a, a % 2, abs(a - n), coalesce(a, n, 0), nullif(a, n) from rows "
        "order by 1",
        "select _id, greatest(a, n), round(o.x, 0), trim(t), strpos(t, 'x'), cast(a as text) from rows order by 1",
        "select year(d) as y, count(*) as c from rows group by year(d) having count(*) > 1 order by y",
        "select t, count(*) filter (where a > 1) as c, sum(n) / count(*) as m from rows group by t order by max(n), t",
        "select a > 1 as big, count(*) from rows group by a > 1 order by 1",
        "select _id, a from rows order by a desc nulls first, _id",
        "select _id from rows order by a nulls last, n + 1, _id",
        "select _id from rows where a + 1 = n or not (t = 'x') order by _id",
        "select _id from rows where lower(t) like 'z%' or o.x between 1 and 2 order by _id",
        "select _id from rows where a is distinct from n order by _id", "select _id from rows where d >= '2031-01-01'",
        "select _id from rows where (a = n) is not true and (t = 'x' or t is null) order by _id",
        "select t, string_agg(cast(n as text), '+') as s from (select t, n from rows order by _id) q group by t "
        "order by t",
        "select r.t, r.o.x from rows r where r.o.x is not null order by 2",
    ],
)  # fmt: skip
def test_a_select_gives_what_it_gives_over_tables(asked, base, text):
    same(asked, base, text, ordered="order by" in text)


numbers = st.sampled_from(
    ["a", "n", "o.x", "2", "a + n", "coalesce(a, 0)", "n - a", "case when t = 'x' then a else n end"]
)
leaf = st.one_of(
    st.tuples(numbers, st.sampled_from(["=", "<>", "<", ">=", "is distinct from"]), numbers).map(" ".join),
    st.sampled_from(["t = 'x'", "t like '%o%'", "t in ('x', 'y')", "t is null", "a not in (1, 2)", "lower(t) = 'y'",
                     "n between a and 4", "length(t) > 1", "year(d) = 2031", "d < '2031-01-01'"]),
)  # fmt: skip
tests = st.recursive(
    leaf,
    lambda inner: st.one_of(
        st.tuples(inner, st.sampled_from(["and", "or"]), inner).map(lambda p: f"({p[0]} {p[1]} {p[2]})"),
        inner.map(lambda p: f"not ({p})"),
    ),
    max_leaves=4,
)
figures = st.sampled_from(
    ["count(*)", "count(a)", "sum(n)", "min(a)", "max(t)", "avg(n)", "count(distinct n)", "sum(a + n)"]
)


@st.composite
def queries(draw):
    """A SELECT over `rows` with one or more of what SQL can ask."""
    shape = draw(st.sampled_from(["plain", "grouped", "joined", "nested", "either"]))
    where = draw(tests)
    if shape == "plain":
        return f"select _id, {draw(numbers)} as v, {draw(leaf)} as h from rows where {where}"
    if shape == "grouped":
        key = draw(st.sampled_from(["t", "a", "a % 2", "year(d)", "coalesce(t, 'none')"]))
        figure = draw(figures)
        return (
            f"select {key} as k, {figure} as f, {draw(figures)} as g from rows where {where} group by "
            f"{key} having {figure} is not null"
        )
    if shape == "joined":
        side = draw(st.sampled_from(["join", "left join"]))
        extra = draw(st.sampled_from(["", " and p.name <> 'uno'", " and p.n > 1", " and p.n < r.n"]))
        picked = draw(st.sampled_from(["p.name", "coalesce(p.n, 0)", "p.n is null", "r.a + p.k"]))
        test = draw(st.sampled_from(["r.a > 1", "p.name is null or r.n = 2", "not (p.n > 2)", "r.t = 'x'"]))
        return f"select r._id, {picked} as v from rows r {side} other p on r.a = p.k{extra} where {test}"
    if shape == "nested":
        return (
            f"select q.v, count(*) as c from (select {draw(numbers)} as v, t from rows where {where}) q "
            f"where q.t is not null group by q.v"
        )
    word = draw(st.sampled_from(["union", "union all"]))
    return f"select {draw(numbers)} as v from rows where {where} {word} select n from other where k is not null"


@settings(max_examples=120, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(queries())
def test_generated_selects_give_what_they_give_over_tables(asked, base, text):
    same(asked, base, text)


def test_parameters_are_bound_and_rows_as_they_are_keep_their_documents(asked):
    assert asked("select _id from rows where lower(t) = :t and a >= :a order by 1 limit :m", t="x", a=1, m=1) == [(0,)]
    whole = asked("select * from rows r join other o on r.a = o.k where r._id = 0 order by o._id")
    assert [(r["_id"], o["name"]) for r, o in whole] == [(0, "one"), (0, "uno")]
    assert asked("select o.* from rows r join other o on r.a = o.k where r._id = 1") == [(3, 2, None, 0)]
    assert asked("select *, r.a + o.n as s from other o join rows r on o.n = r.a where o._id = 1 and true")[0][-1] == 6
    assert asked("select _id from rows where 5 = any(l)") == [(3,)]
    assert asked("select cardinality(l), l[1] from rows where _id in (0, 2) order by _id") == [(2, 3), (None, None)]
    assert asked("select d + interval '1 month' from rows where _id = 0") == [("2031-06-01 00:00:00",)]


@st.composite
def filters(draw, depth=2):
    value = st.sampled_from([1, 2, 5, 1.5, 3.0, None, "x", "y", "Zoë ß", True, DAY, [3, 1], [], {"x": 1.5}])
    number = st.sampled_from([0, 1, 2, 4.5])
    path = draw(st.sampled_from(["a", "t", "n", "d", "l", "o", "o.x", "l.0", "zz", "_id"]))
    made = draw(st.sampled_from(["plain", "$eq", "$ne", "$gt", "$gte", "$lt", "$lte", "$in", "$nin", "$exists", "$type",
                                 "$regex", "$size", "$all", "$elemMatch", "$not", "$and", "$or", "$nor"]))  # fmt: skip
    if made in ("$and", "$or", "$nor"):
        if not depth:
            return {path: draw(value)}
        return {made: draw(st.lists(filters(depth - 1), min_size=1, max_size=3))}
    if made == "plain":
        return {path: draw(value)}
    told = {
        "$in": st.lists(value, max_size=3), "$nin": st.lists(value, max_size=3), "$exists": st.booleans(),
        "$type": st.sampled_from(["int", "double", "string", "null", "array", "object", "date", "number"]),
        "$regex": st.sampled_from(["^x", "y", "[ßx]", ".", re.compile("ZO", re.I)]), "$size": st.integers(0, 3),
        "$all": st.lists(number, min_size=1, max_size=2), "$elemMatch": st.builds(lambda n: {"$gte": n}, number),
        "$not": st.builds(lambda n: {"$gt": n}, number),
    }.get(made, number if made[1] in "gl" else value)  # fmt: skip
    return {path: {made: draw(told)}}


@settings(max_examples=how_many(150, 5000), deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(wanted=filters())
def test_filters_held_here_are_the_servers(document_server, wanted):
    with MongoClient(document_server.url) as client:
        held = client.get_default_database().held
        if held.estimated_document_count() != len(ROWS):
            held.drop()
            held.insert_many([dict(row) for row in ROWS])
        told = sorted(row["_id"] for row in held.find(wanted))
    assert [row["_id"] for row in ROWS if matches(wanted, row)] == told
