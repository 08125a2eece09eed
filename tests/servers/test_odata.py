"""OData services: a query gives what it gives over the tables that the service stands on, whatever goes along."""

import sqlite3
from contextlib import closing

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from nimble_otter.demo.entity_service import EntityService
from nimble_otter.errors import AuthError, ConnectError, LostError, SourceError
from nimble_otter.sources import Request, Source, connect, fetch, odata, odata_reading, odata_requests
from tests.files import sqlite_file
from tests.proofs import how_many, proven


@pytest.fixture(scope="module")
def service(survey):
    server = EntityService(survey)
    yield server
    server.close()


@pytest.fixture
def opened(service, monkeypatch):
    monkeypatch.setattr(odata_reading, "FRESH_S", 0)
    made = connect(Source("s", service.url))
    service.asked.clear()
    yield made
    made.close()
    service.unknown, service.following, service.password = set(), "", ""
    service.gives_etags = service.takes_batches = True


def test_sets_are_tables_with_their_keys_and_links(opened, service, survey, monkeypatch):
    tables = {t.name: t for t in opened.tables()}
    assert tables.keys() == service.tables.keys()
    assert tables["reading"].column("station_id").refers == "station.station_id"
    assert tables["loan"].key == ("volunteer_id", "gauge_id") or len(tables["loan"].key) > 1
    with sqlite_file(survey) as base:
        for name in ("river", "reading", "legacy_note"):
            assert opened.count(name) == base.execute(f"select count(*) from {name}").fetchone()[0]
    with pytest.raises(SourceError):
        fetch(opened, Request("delete from river"))
    real = opened._client.get

    def get(url, *more):
        if url.endswith("$count"):
            raise ConnectError("It does not count.")
        return real(url, *more)

    monkeypatch.setattr(opened._client, "get", get)
    with sqlite_file(survey) as base:
        assert opened.count("volunteer") == base.execute("select count(*) from volunteer").fetchone()[0]


def told(opened, service, survey, text, limit=None, **values):
    """The rows by the service and by the file, and what the service was asked."""
    service.asked.clear()
    got = fetch(opened, Request(text, values, limit))
    with closing(sqlite3.connect(survey)) as base:
        wanted = base.execute(text, values).fetchall()
    rows = [tuple(row) for row in zip(*(c.values() for c in got.table.columns), strict=True)]
    return rows, wanted if limit is None else wanted[:limit], [a.removeprefix("/svc/") for a in service.asked]


@pytest.mark.parametrize(
    ("text", "asked"),
    [
        ("select name from river where river_id = 3", "river?$select=river_id,name&$filter=river_id eq 3"),
        ("select river_id from river where name = 'it''s' and 2 < river_id",
         "river?$select=river_id,name&$filter=name eq 'it''s' and river_id gt 2"),
        ("select name from river where 5 > river_id and 4 >= river_id and 1 <= river_id",
         "river?$select=river_id,name&$filter=river_id lt 5 and river_id le 4 and river_id ge 1"),
        ("select river_id from river where name > 'M'", "river?$select=river_id,name"),
        ("select river_id from river where river_id in (1, 2) or name = 'x'",
         "river?$select=river_id,name&$filter=((river_id eq 1 or river_id eq 2) or name eq 'x')"),
        ("select name from river where river_id = 1 or name > 'x'", "river?$select=river_id,name"),
        ("select name from river where river_id = 1 or (name > 'x' and river_id < 5)",
         "river?$select=river_id,name&$filter=(river_id eq 1 or (river_id lt 5))"),
        ("select river_id from river where river_id in (1, -2)",
         "river?$select=river_id&$filter=(river_id eq 1 or river_id eq -2)"),
        ("select river_id from river where river_id in (1, 'x')", "river?$select=river_id"),
        ("select * from river limit 2", "river?$top=2"),
        ("select * from river order by river_id desc limit 2 offset 1", "river?$orderby=river_id desc&$top=3"),
        ("select * from river order by name limit 2", "river"),
        ("select count(*) from river limit 1", "river?$apply=aggregate($count as g1)"),
        ("select count(*) from river where name > 'x' limit 1", "river?$select=river_id,name"),
        ("select visit_id from visit where weather is null and not remark is null",
         "visit?$select=visit_id,station_id,volunteer_id,weather,remark&$filter=weather eq null and remark ne null"),
        ("select visit_id from visit where visited_on >= '2030-01-01' and visit_id < 40.0",
         "visit?$select=visit_id,station_id,volunteer_id,visited_on&$filter="
         "visited_on ge 2030-01-01 and visit_id lt 40"),
    ],
)  # fmt: skip
def test_what_goes_along_with_a_request(opened, service, survey, text, asked):
    rows, wanted, sent = told(opened, service, survey, text)
    assert sent == [asked]
    assert len(rows) == len(wanted)
    if "limit" not in text:
        assert sorted(rows) == sorted(wanted)


def test_joins_parameters_limits_and_pages(opened, service, survey):
    text = ("select r.name, count(*) as n from river r join station s on s.river = r.name "
            "where s.station_id < :most and r.river_id <> 2 group by r.name order by r.name")  # fmt: skip
    rows, wanted, sent = told(opened, service, survey, text, most=30)
    assert rows == wanted
    assert sent == ["river?$select=river_id,name&$filter=river_id ne 2"
                    "&$expand=station_by_river($select=station_id,river;$filter=station_id lt 30)"]  # fmt: skip
    rows, wanted, sent = told(opened, service, survey, "select reading_id from reading", limit=1000)
    assert (len(rows), len(sent)) == (1000, 3)
    got = fetch(opened, Request("select reading_id from reading", {}, 1000))
    assert got.was_cut
    assert "GET http://127.0.0.1" in got.sent
    assert "$top=1001" in got.sent
    rows, wanted, _ = told(opened, service, survey, "select count(*), min(level_m), max(level_m) from reading")
    assert rows == wanted
    photo = fetch(opened, Request("select photo_id, picture from visit_photo order by photo_id limit 3")).table
    with sqlite_file(survey) as base:
        kept = base.execute("select picture from visit_photo order by photo_id limit 3").fetchall()
    assert photo.columns[1].values() == [row[0] for row in kept]


COLUMNS = {"river": ["river_id", "name"], "station": ["station_id", "height_m", "name"],
           "visit": ["visit_id", "station_id", "volunteer_id", "visited_on", "weather", "remark"]}  # fmt: skip


@st.composite
def queries(draw):
    table = draw(st.sampled_from(sorted(COLUMNS)))
    names = COLUMNS[table]

    def condition():
        name = draw(st.sampled_from(names))
        value = draw(
            st.sampled_from(["3", "-1", "12.5", "'dry'", "'DRY'", "'2030-06-21'", "'all well'", "null", "''", "40"])
        )
        sign = draw(st.sampled_from(["=", "<>", "<", ">", "<=", ">=", "is", "is not"]))
        sides = (name, value) if draw(st.booleans()) or sign.startswith("is") else (value, name)
        return f"{'not ' if draw(st.integers(0, 6)) == 0 else ''}{sides[0]} {sign} {sides[1]}"

    parts = [condition() for _ in range(draw(st.integers(0, 3)))]
    where = f" where {draw(st.sampled_from([' and ', ' or '])).join(parts)}" if parts else ""
    kept = draw(st.lists(st.sampled_from(names), min_size=1, max_size=3, unique=True))
    what = draw(st.sampled_from(["*", ", ".join(kept), "count(*)", f"distinct {kept[0]}", f"max({kept[0]})"]))
    key = names[0]
    order = draw(st.sampled_from(["", f" order by {key}", f" order by {kept[0]}, {key}", f" order by {key} desc"]))
    is_plain = "(" not in what and "distinct" not in what
    cut = f" limit {draw(st.integers(0, 9))}" if order and is_plain and draw(st.booleans()) else ""
    return f"select {what} from {table}{where}{order if is_plain else ''}{cut}"


@pytest.mark.timeout(1800)
@settings(max_examples=(count := how_many(60, 1500)), deadline=None,
          suppress_health_check=[HealthCheck.function_scoped_fixture])  # fmt: skip
@given(queries())
def test_any_select_gives_what_the_tables_give(opened, service, survey, text):
    rows, wanted, _ = told(opened, service, survey, text)
    plain = [
        tuple(v.isoformat() if hasattr(v, "isoformat") else int(v) if v is True or v is False else v for v in row)
        for row in rows
    ]
    assert sorted(map(str, plain)) == sorted(map(str, wanted)), text


def test_the_proof_is_counted():
    proven("selects over an OData service against its tables", "odata", count)


def test_what_a_service_does_not_know_is_asked_without(opened, service, survey):
    service.unknown = {"$filter"}
    rows, wanted, sent = told(opened, service, survey, "select name from river where river_id = 3")
    assert rows == wanted
    assert sent[-1] == "river"
    service.unknown = set()
    for following, says in (("http://127.0.0.2:1/x", "another host"), ("reading?$skip=0", "answer|next")):
        service.following = following
        with pytest.raises((ConnectError, LostError), match=says):
            fetch(opened, Request("select * from reading"))
        fetch(opened, Request("select 1 as one"))


def test_what_was_asked_a_moment_ago_is_not_asked_again(service, monkeypatch):
    monkeypatch.setattr(odata_reading, "FRESH_S", 60)
    connection = connect(Source("s", service.url))
    service.asked.clear()
    for text in ("select name from river", "select name from river", "select river_id from river", "select 1 as one"):
        fetch(connection, Request(text))
    assert len(service.asked) == 2
    assert len(list(connection.path.parent.iterdir())) == 1
    connection.close()
    assert not connection.path.parent.exists()


def test_an_identifier_goes_along_in_its_own_form():
    sets = {"t": odata.EntitySet("t", (odata.Property("g", "Edm.Guid"), odata.Property("n", "Edm.Int32")))}
    known = "0f8fad5b-d9cb-469f-a165-70867728950e"
    for text, filters in ((f"g = '{known}'", (f"g eq {known}",)), ("g = 'x'", ()), (f"g > '{known}'", ()),
                          (f"n = '{known}'", ())):  # fmt: skip
        (asked,) = odata_requests.requests_of(f"select * from t where {text}", sets, ["t"], {}, None)
        assert asked.filters == filters, text


def test_signing_in_and_what_is_no_service(service, opened, tmp_path):
    service.password = "Bearer word"
    with pytest.raises(AuthError):
        connect(Source("s", service.url))
    connect(Source("s", service.url), "word").close()
    service.password = ""
    with pytest.raises(ConnectError, match=r"404|not XML"):
        connect(Source("s", service.url.replace("/svc/", "/other/")))
    for data in (b"", b"<a/>", b"{}", b'<!DOCTYPE x [<!ENTITY e SYSTEM "file:///etc/passwd">]><x>&e;</x>'):
        with pytest.raises(ConnectError):
            odata.read_metadata(data)
    for data in (b"", b"[]", b'{"value": 3}', b'{"value": [1]}', b"[" * 100_000):
        with pytest.raises(ConnectError):
            odata.entities(data, "http://h/x")


def test_types_of_the_standard_are_kept(tmp_path):
    kinds = [
        ("a", "Edm.Decimal", "0.12345678901234567890", "0.12345678901234567890"),
        ("b", "Edm.Int64", "9007199254740993", 9007199254740993), ("c", "Edm.Binary", "AP-_", b"\x00\xff\xbf"),
        ("d", "M.Address", {"x": 1}, '{"x": 1}'), ("e", "Collection(Edm.Int32)", [1], "[1]"),
        ("f", "Edm.Boolean", True, True), ("g", "Edm.Date", "2031-05-01", "2031-05-01"), ("h", "Edm.Int32", None, None),
        ("j", "M.Address", None, None), ("k", "Edm.Decimal", 2.0, 2),
        ("m", "Edm.Int64", 1 << 70, str(1 << 70)), ("l", "Edm.Decimal", "0.10", 0.1),
        ("i", "Edm.DateTimeOffset", "2031-05-01T06:30:00Z", "2031-05-01 06:30:00+00:00"),
    ]  # fmt: skip
    table = odata.EntitySet("t", tuple(odata.Property(n, edm) for n, edm, _, _ in kinds))
    assert odata.row_of(table, {n: given_ for n, _, given_, _ in kinds}) == [wanted for *_, wanted in kinds]
    derived = b"""<edmx:Edmx xmlns:edmx="http://docs.oasis-open.org/odata/ns/edmx"><edmx:DataServices>
        <Schema Namespace="M" Alias="Self" xmlns="http://docs.oasis-open.org/odata/ns/edm">
        <EntityType Name="Base" Abstract="true"><Key><PropertyRef Name="id"/></Key>
        <Property Name="id" Type="Edm.Int32"/></EntityType>
        <EntityType Name="Weir" BaseType="Self.Base"><Property Name="name" Type="Edm.String"/></EntityType>
        <EntityContainer Name="C"><EntitySet Name="weirs" EntityType="M.Weir"/></EntityContainer>
        </Schema></edmx:DataServices></edmx:Edmx>"""
    (weirs,) = odata.read_metadata(derived).values()
    assert ([p.name for p in weirs.properties], weirs.key) == (["id", "name"], ("id",))
