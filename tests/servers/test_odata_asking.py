"""What an OData service groups and joins itself: every query gives what it gives over the tables, whoever made the
service, and whatever it does not know."""

import re
import sqlite3
import subprocess
from contextlib import closing, suppress
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from nimble_otter.demo import prepare
from nimble_otter.demo.entity_service import EntityService
from nimble_otter.sources import Request, Source, connect, fetch, odata_groups, odata_reading
from nimble_otter.sources.odata import EntitySet
from nimble_otter.sources.odata_flat import flattened
from nimble_otter.sources.odata_query import query_over, select_of
from tests.proofs import how_many, proven

PROGRAM, PYTHON = Path(__file__).with_name("entity_server.py"), Path(__file__).parents[2] / ".servers/bin/python"
COLUMNS = {
    "station": {"river": "'Merrow'", "active": "1", "opened": "'2011-05-01'", "height_m": "90.5", "station_id": "12"},
    "visit": {"weather": "'dry'", "visited_on": "'2030-06-21'", "volunteer_id": "3", "station_id": "7"},
    "reading": {"quality": "'GOOD'", "station_id": "20", "level_m": "1.5", "reading_id": "2000"},
    "volunteer": {"hours": "20", "joined": "'2020-01-01'", "name": "'x'"},
    "assay": {"substance": "'nitrate'", "mg_per_l": "0.5", "below_limit": "0", "sample_id": "9"},
}
LINKS = [("station s", "reading r", "r.station_id = s.station_id"),
         ("visit s", "station r", "s.station_id = r.station_id"),
         ("volunteer s", "visit r", "s.volunteer_id = r.volunteer_id"), ("river s", "station r", "s.name = r.river"),
         ("lab_sample s", "assay r", "r.sample_id = s.sample_id")]  # fmt: skip

OTHERS = ("folds", "no apply", "passed over", "no expand", "bare")


@pytest.fixture(scope="module")
def survey(tmp_path_factory):
    """Small: the other service goes through all entities at each request."""
    path = prepare(tmp_path_factory.mktemp("small"), readings=200)
    with closing(sqlite3.connect(path, isolation_level=None)) as base:
        base.execute("delete from assay where sample_id > 50")
        base.execute("delete from lab_sample where sample_id > 70")
        base.execute("delete from visit_photo")
        base.execute("delete from visit where visit_id > 150")
    return path


@pytest.fixture(scope="module")
def other_service(survey):
    """A service of another maker, in pages of 60."""
    with subprocess.Popen(
        [PYTHON, PROGRAM, survey, "60"], stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL
    ) as process:
        yield f"odata+http://127.0.0.1:{int(process.stdout.readline())}/svc/"
        with suppress(OSError):
            process.stdin.close()


@pytest.fixture(scope="module")
def services(survey, other_service):
    """By what they do: open connections."""
    ours = {name: EntityService(survey) for name in ("ours", *OTHERS)}
    ours["folds"].folds = True
    ours["no apply"].unknown, ours["passed over"].ignored = {"$apply"}, {"$apply", "$expand"}
    ours["no expand"].unknown, ours["bare"].unknown = {"$expand"}, {"$apply", "$expand", "$filter"}
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(odata_reading, "FRESH_S", 0)
        opened = {name: connect(Source(name, each.url)) for name, each in ours.items()}
        opened["another maker"] = connect(Source("o", other_service))
        yield opened, ours
    for each in (*opened.values(), *ours.values()):
        each.close()


def alike(value):
    if hasattr(value, "isoformat"):
        return value.isoformat()
    if isinstance(value, str) and re.fullmatch(r"\d{4}-\d\d-\d\d \d\d:\d\d", value):
        return f"{value}:00+00:00"  # as a service tells the moments of the file
    return f"{value:.9g}" if isinstance(value, (int, float)) else str(value)


def rows_of(connection, text, values):
    got = fetch(connection, Request(text, values, None))
    return got, [tuple(map(alike, row)) for row in zip(*(c.values() for c in got.table.columns), strict=True)]


def wanted_of(path, text, values):
    with closing(sqlite3.connect(path)) as base:
        return [tuple(map(alike, row)) for row in base.execute(text, values)]


def check(services, survey, text, values=None, ordered=False, names=None):
    """The same from each service, told as the same columns; returns what each was asked."""
    wanted, told, sent = wanted_of(survey, text, values or {}), None, {}
    for name in names or services[0]:
        connection = services[0][name]
        got, rows = rows_of(connection, text, values or {})
        assert (rows if ordered else sorted(rows)) == (wanted if ordered else sorted(wanted)), (name, text)
        shown = got.table.fields, got.origins
        told = told or shown
        assert shown == told or not rows, (name, text)
        sent[name] = got.sent
    return sent


@st.composite
def groupings(draw):
    table = draw(st.sampled_from(sorted(COLUMNS)))
    columns = list(COLUMNS[table])
    keys = draw(st.lists(st.sampled_from(columns), max_size=2, unique=True))
    numbers = [c for c in columns if c.endswith(("_m", "hours", "_id", "_l"))]
    figures = [
        draw(st.sampled_from([
            "count(*)", f"count({n})", f"sum({n})", f"min({n})", f"max({n})", f"avg({n})",
            f"round(sum({n}) / 3, 2) + 1",
            f"count(distinct {n})", f"total({n})", f"coalesce(max({n}), -1)", f"sum({n}) filter (where {n} > 3)",
            f"min({draw(st.sampled_from(columns))})", f"length(group_concat({n}))", f"sum(distinct {n})",
            f"min({n}, 7)",
        ]))
        for n in (draw(st.sampled_from(numbers)) for _ in range(draw(st.integers(not keys, 3))))
    ]  # fmt: skip
    conditions = []
    for _ in range(draw(st.integers(0, 2))):
        name = draw(st.sampled_from(columns))
        value = COLUMNS[table][name]
        conditions.append(draw(st.sampled_from([
            f"{name} = {value}", f"{name} <> {value}", f"{name} > {value}", f"{value} >= {name}", f"{name} is null",
            f"{name} is not null", f"{name} in ({value}, {value})", f"not {name} = {value}", f"{name} = :given",
            f"({name} <> {value} or {columns[0]} is null)", f"{name} like '%a%'", f"{name} = upper({value})",
        ])))  # fmt: skip
    what = [*(f"t.{k}" if draw(st.booleans()) else k for k in keys), *figures]
    named = [f"{each} as c{n}" if draw(st.booleans()) else each for n, each in enumerate(what)]
    by = f" group by {', '.join(keys)}" if keys else ""
    having = draw(st.sampled_from(["", "", f" having count(*) > {draw(st.integers(0, 9))}"])) if keys else ""
    order = f" order by {', '.join(keys)}" if keys and draw(st.booleans()) else ""
    distinct = "distinct " if draw(st.integers(0, 5)) == 0 else ""
    where = f" where {draw(st.sampled_from([' and ', ' or '])).join(conditions)}" if conditions else ""
    source = draw(st.sampled_from([f"{table} as t", f"(select * from {table}) as t",
                                   f"(select {', '.join(columns)} from {table} where {columns[-1]} is not null) as t",
                                   ]))  # fmt: skip
    cut = f" limit {draw(st.integers(0, 5))}" if order and draw(st.booleans()) else ""
    made = f"select {distinct}{', '.join(named)} from {source}{where}{by}{having}{order}{cut}"
    outer = draw(st.sampled_from(["", "", "select * from ({}) as o", "select count(*) as n from ({}) as o",
                                  "select * from (select * from ({}) as o) as p where 1 = 1",
                                  "select o.* from ({}) as o",
                                  "select * from ({}) as o where exists (select 1 from river)"]))  # fmt: skip
    return (outer.format(made), False) if outer else (made, bool(order))


@pytest.mark.timeout(3000)
@settings(max_examples=(count := how_many(20, 1500)), deadline=None,
          suppress_health_check=[HealthCheck.function_scoped_fixture])  # fmt: skip
@given(groupings(), st.sampled_from(OTHERS))
def test_groups_are_what_the_tables_give(services, survey, query, other):
    values = {"given": 3} if ":given" in query[0] else {}
    check(services, survey, query[0], values, query[1], ("ours", "another maker", other))


@st.composite
def joins(draw):
    left, right, on = draw(st.sampled_from(LINKS))
    conditions = [
        draw(st.sampled_from([f"{a}.{c} = {v}", f"{a}.{c} <> {v}", f"{a}.{c} is null", f"{a}.{c} > {v}"]))
        for a, t in (("s", left.split()[0]), ("r", right.split()[0]))
        for c, v in COLUMNS.get(t, {}).items()
        if draw(st.integers(0, 4)) == 0
    ]
    more = f" and {draw(st.sampled_from(conditions))}" if conditions and draw(st.integers(0, 4)) == 0 else ""
    how = draw(st.sampled_from(["join", "left join", "right join", "full join", "cross"]))
    first, second = draw(st.permutations([left, right]))
    source = f"{first}, {second}" if how == "cross" else f"{first} {how} {second} on {on}{more}"
    kept = [*conditions, on] if how == "cross" else conditions
    where = f" where {' and '.join(kept)}" if kept else ""
    what = draw(st.sampled_from(["*", "count(*)", on.replace(" = ", ", "), "count(s.rowid), count(r.rowid)"]))
    return f"select {what} from {source}{where}"


@pytest.mark.timeout(3000)
@settings(max_examples=count, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(joins(), st.sampled_from(OTHERS))
def test_joins_are_what_the_tables_give(services, survey, text, other):
    if "rowid" in text and ("lab_sample" in text or "assay" in text):
        text = text.replace("s.rowid", "s.sample_id").replace("r.rowid", "r.sample_id")
    check(services, survey, text, names=("ours", "another maker", other))


def test_the_proof_is_counted():
    proven("groups and joins over seven OData services against the tables", "odata asked", 2 * count)


@pytest.mark.parametrize(
    ("text", "asked"),
    [
        ("select count(*) from reading where station_id = 3",
         "reading?$apply=filter(station_id eq 3)/aggregate($count as g1)"),
        ("select river, avg(height_m) from station where active > 0 group by river", "station?$select"),
        ("select count(*) from station where active = 1 and active <> false",
         "station?$apply=filter(active eq true and active ne false)/aggregate($count as g1)"),
        ("select river, avg(height_m) from station where station_id <> 3 group by 1",
         "station?$apply=filter(station_id ne 3)/groupby((river),aggregate(height_m with average as g1,$count as g2))"),
        ("select volunteer_id from visit where volunteer_id <> 3 group by volunteer_id",
         "visit?$apply=filter((volunteer_id ne 3 and volunteer_id ne null))/"
         "groupby((volunteer_id),aggregate($count as g1))"),
        ("select max(x) from (select level_m as x from reading where reading_id < 50) as q",
         "reading?$apply=filter(reading_id lt 50)/aggregate(level_m with max as g1,$count as g2)"),
        ("select * from (select quality, count(*) as n from reading group by quality) as q where n > 10",
         "reading?$apply=groupby((quality),aggregate($count as g1))"),
        ("select n, count(*) as m from (select quality as q, count(*) as n from (select * from reading) as r group by "
         "quality) as q group by n order by n", "reading?$apply=groupby((quality),aggregate($count as g1))"),
        ("select * from (select quality, count(*) from reading group by quality) as q", "reading"),
        ("select weather as g1, count(*) as n from visit group by weather having g1 = 'dry' and n > 1",
         "visit?$apply=groupby((weather),aggregate($count as g2))"),
        ("select distinct weather from visit", "visit?$apply=groupby((weather),aggregate($count as g1))"),
        ("select taken_at, count(*) from reading group by taken_at", "reading?$select"),
        ("select total(level_m) from reading group by station_id", "reading?$select"),
        ("select name, count(*) from river group by name order by max(length_km) desc limit 2",
         "river?$apply=groupby((name),aggregate($count as g1,length_km with max as g2))"),
        ("select s.name, r.level_m from station s join reading r using (station_id) where s.station_id = 3",
         "station?$filter=station_id eq 3\nGET reading"),
        ("select s.name, r.level_m from station s join reading r on r.station_id = s.station_id where s.station_id = 3",
         "station?$select=station_id,name,river&$filter=station_id eq 3"
         "&$expand=reading_by_station_id($select=reading_id,station_id,level_m)"),
        ("select s.name from station s, reading r where r.station_id = s.station_id and r.reading_id = 3",
         "reading?$select=reading_id,station_id&$filter=reading_id eq 3"
         "&$expand=to_station_id($select=station_id,name,river)"),
        ("select s.name from station s, reading r where r.station_id = s.station_id and r.reading_id > 3",
         "station?$select=station_id,name,river\nGET reading?$select=reading_id,station_id&$filter=reading_id gt 3"),
        ("select r.name, v.remark from river r join station s on s.river = r.name join visit v on "
         "v.station_id = s.station_id where r.river_id = 2",
         "river?$select=river_id,name&$filter=river_id eq 2&$expand=station_by_river($select=station_id,river;"
         "$expand=visit_by_station_id($select=visit_id,station_id,volunteer_id,remark))"),
    ],
)  # fmt: skip
def test_what_is_asked(services, survey, text, asked):
    sent = check(services, survey, text)
    root = services[1]["ours"].url.removeprefix("odata+")
    told = sent["ours"].replace(root, "").removeprefix("GET ")
    assert told == asked or (asked.endswith("$select") and told.startswith(asked)), told
    for name in ("no apply", "bare", "passed over", "folds" if "by" in text and "river" in text else "bare"):
        assert "$apply" not in sent[name]
    assert "$expand" not in sent["no expand"] + sent["passed over"]
    if "$apply" in asked or "$expand" in asked:
        assert ("$apply" in sent["another maker"], "$expand" in sent["another maker"]) == (
            "$apply" in asked,
            "$expand" in asked,
        )


@pytest.mark.parametrize("spelt", ["DRY", "dry ", "drý"])
def test_a_service_that_folds_texts_is_not_asked_for_groups_by_them(own_survey, spelt):
    with closing(sqlite3.connect(own_survey, isolation_level=None)) as base:
        base.execute("update visit set weather = ? where visit_id % 5 = 0 and weather = 'dry'", [spelt])
    for folds in (False, True):
        service = EntityService(own_survey)
        service.folds = folds
        connection = connect(Source("s", service.url))
        for text in ("select weather, count(*) from visit group by weather",
                     "select count(*) from visit where weather = 'dRy'",
                     f"select count(*) from visit where weather = '{spelt}'",
                     "select station_id, count(*) from visit where weather = 'DRY' group by station_id",
                     "select hours, count(*) from volunteer where name in ('x', 'DRY') group by hours"):  # fmt: skip
            got, rows = rows_of(connection, text, {})
            assert sorted(rows) == sorted(wanted_of(own_survey, text, {})), (folds, text)
            assert "$apply" in got.sent or (folds and "visit" in text)
        connection.close()
        service.close()


@pytest.mark.parametrize("edit", [
    lambda answer: answer | {"value": answer["value"][:-1], "@odata.nextLink": "station?$apply=x&$skip=9"},
    lambda answer: answer | {"value": [*answer["value"][:-1], {"river": "x"}]},
    lambda answer: answer | {"value": [row | {"g1": "many"} for row in answer["value"]]},
    lambda answer: {"value": []} if "river" not in str(answer) else {"value": 3},
])  # fmt: skip
def test_groups_that_can_t_be_right_are_not_taken(survey, monkeypatch, edit):
    service = EntityService(survey)
    real = service._groups
    monkeypatch.setattr(service, "_groups", lambda *given: edit(real(*given)))
    connection = connect(Source("s", service.url))
    for text in ("select river, count(*) from station group by river", "select count(*) from station"):
        assert sorted(rows_of(connection, text, {})[1]) == sorted(wanted_of(survey, text, {})), text
    connection.close()
    service.close()


def test_neither_rows_nor_groups_are_the_newest_for_long(survey, monkeypatch):
    service, now = EntityService(survey), [100.0]
    monkeypatch.setattr(odata_reading, "FRESH_S", 2)
    monkeypatch.setattr(odata_reading.time, "monotonic", lambda: now[0])
    rows, groups = "select name from river", "select count(*) from river"
    with closing(connect(Source("s", service.url))) as connection:
        service.asked.clear()
        for seconds, text, more in ((0, rows, 1), (1, rows, 0), (1, groups, 1), (1.5, rows, 1), (0.4, groups, 0),
                                    (1, groups, 1), (0.1, rows, 0)):  # fmt: skip
            now[0] += seconds
            before = len(service.asked)
            fetch(connection, Request(text))
            assert len(service.asked) - before == more, (now, text)
    service.close()


def test_a_service_without_groups_is_soon_asked_no_more_and_long_conditions_stay_here(survey):
    service = EntityService(survey)
    service.unknown = {"$apply"}
    with closing(connect(Source("s", service.url))) as connection:
        service.asked.clear()
        for number in range(6):
            fetch(connection, Request(f"select count(*) from river where river_id > {number}"))
        assert sum("$apply" in each for each in service.asked) == 3
        text = f"select count(*) from river where river_id in ({', '.join(map(str, range(2000)))})"
        assert rows_of(connection, text, {})[1] == [("7",)]
        assert max(map(len, service.asked)) < 6000
    service.close()


@pytest.mark.parametrize(("text", "flat"), [
    ("select a from (select a, b as c from t where b > 1) as q where c < 9 order by c",
     "SELECT a FROM t WHERE b > 1 AND b < 9 ORDER BY b"),
    ("select c from (select a, b as c from t) as q group by q.c", "SELECT b AS \"c\" FROM t GROUP BY b"),
    ("select * from (select * from t as x where x.a = 1) as q where q.b = 2",
     "SELECT * FROM t AS x WHERE a = 1 AND b = 2"),
    ("select a as n from (select * from t) as q order by n", "SELECT a AS n FROM t ORDER BY n"),
    ("select * from (select a from t) as q", None), ("select a from (select a + 1 as a from t) as q", None),
    ("select a from (select a from t limit 3) as q", None), ("select a from (select distinct a from t) as q", None),
    ("select a from (select a from t) as q join u on true", None), ("select z from (select a from t) as q", None),
    ("select a from (select a from t, u) as q", None), ("select q.* from (select a from t) as q", None),
    ("select a from t", None), ("select a from (select a from t union select a from u) as q", None),
])  # fmt: skip
def test_a_frame_that_only_picks_is_taken_off(text, flat):
    from sqlglot import parse_one

    made = flattened(parse_one(text, dialect="sqlite"))
    assert (made and made.sql(dialect="sqlite")) == flat


def test_a_probe_tells_services_apart():
    texts = [("river", ""), ("name", "mill 3")]
    found = list(odata_groups.probes(texts, {"river": ["Kelder", "x"]}))
    assert found == [("river", "", ["Kelder", "Kelder ", "Kélder", "kELDER"]),
                     ("name", "mill 3", ["mill 3", "mill 3 ", "míll 3", "MILL 3"])]  # fmt: skip
    asked = [one.path for one, _ in odata_groups.requests_for_texts(EntitySet("t", ()), *found[0][::2])]
    assert asked == ["t?$select=river&$filter=river%20eq%20%27Kelder%27&$top=20",
                     "t?$select=river&$filter=(river%20eq%20%27Kelder%20%27%20or%20river%20eq%20%27K%C3%A9lder%27"
                     "%20or%20river%20eq%20%27kELDER%27)&$top=20"]  # fmt: skip
    assert list(odata_groups.probes([("river", "")], {"river": [""]})) == []
    assert next(odata_groups.probes([("river", "")], {"river": ["7ß"]}))[2] == ["7ß", "7ß ", "7SS"]


def test_what_can_t_be_read_is_no_query_over_sets(survey):
    service = EntityService(survey)
    with closing(connect(Source("s", service.url))) as connection:
        sets = connection._service.sets
    service.close()
    for text in ("select", "update river set name = 'x'", "with r as (select 1) select * from river, r",
                 "select * from river r, river q", "select * from river union select * from river", "select 1",
                 "select (select 1) from river"):  # fmt: skip
        tree = select_of(text)
        query = query_over(tree, sets, {}) if tree is not None else None
        assert query is None or not query.sets, text
