"""What every driver must do, on real files and servers."""

import contextlib
import datetime as dt
import json
import logging
import sqlite3
import threading
import time

import pytest

from nimble_otter.errors import ConnectError, QueryError, SourceError, SourceTimeout, Stopped
from nimble_otter.sources import Request, Source, connect, driver_for, fetch
from nimble_otter.sources.source import all_drivers, source_of_file
from nimble_otter.sources.waits import WAITS
from nimble_otter.stop import StopToken
from nimble_otter.table import MISSING, Kind
from tests.files import sqlite_file
from tests.servers.couch import StandIn, fill


@pytest.fixture(params=["sqlite", "postgresql", "mariadb", "stand-in", "documents", "couch"])
def place(request, open_base):
    """A connection with a table that has many rows, and words for it."""
    if request.param == "couch":
        server = StandIn()
        fill(server, "report", [{"_id": str(n), "kind": "x", "n": n} for n in range(2500)])
        yield open_base(server.url), "report", 2500
        server.close()
    elif request.param in ("stand-in", "documents"):
        server = request.getfixturevalue("reports" if request.param == "stand-in" else "document_server")
        yield open_base(server.url), "report", 2000 if request.param == "stand-in" else 3000
    else:
        yield open_base(where(request)), "reading", 4200


def where(request, kind=None):
    """The survey on the kind of server that a test asks for."""
    fixture = {"sqlite": "survey", "postgresql": "postgres", "mariadb": "mariadb"}[kind or request.param]
    found = request.getfixturevalue(fixture)
    return getattr(found, "url", found)


RELATIONAL = pytest.mark.parametrize("relational", ["sqlite", "postgresql", "mariadb"], indirect=True)


@pytest.fixture
def relational(request, open_base):
    return open_base(where(request))


def test_every_driver_file_offers_one_driver():
    keys = ["clickhouse", "couchdb", "duckdb", "firebird", "mariadb", "mongodb", "odata", "oracle", "other",
            "postgresql", "spark", "sqlite", "sqlserver", "web"]  # fmt: skip
    assert [driver.key for driver in all_drivers()] == keys
    assert len({driver.address.place for driver in all_drivers()}) == len(keys)
    for url, key in (("sqlite:////a.db", "sqlite"), ("/some/file", "sqlite"), ("mongodb://h/d", "mongodb"),
                     ("postgres://h/d", "postgresql"), ("mysql://h/d", "mariadb"), ("couchdb://h/d", "couchdb"),
                     ("https://h/a.csv", "web"), ("mssql+pymssql://h/d", "sqlserver"), ("oracle://h/d", "oracle"),
                     ("odata+https://h/s/", "odata"), ("spark://h/d", "spark"),
                     ("clickhouse://h/d", "clickhouse")):  # fmt: skip
        assert driver_for(url).key == key
    with pytest.raises(ConnectError, match="snowflake"):
        driver_for("snowflake://h/d")


def test_catalogue_count_and_whole_table(place):
    connection, name, rows = place
    assert name in [t.name for t in connection.tables()]
    assert connection.count(name) == rows
    snapshots = []
    fetched = fetch(connection, Request(connection.select_all(name)), on_snapshot=lambda t: snapshots.append(t.rows))
    assert fetched.table.rows == rows
    assert 0 < snapshots[0] <= 1000
    assert 0 < fetched.first_s <= fetched.all_s
    assert not fetched.was_cut


@pytest.mark.parametrize("limit", [0, 1, 999, 1000, 1001, -1, None])
def test_the_row_limit_cuts_and_says_so(place, limit):
    connection, name, rows = place
    limit = rows if limit is None else (rows - 1 if limit < 0 else limit)
    fetched = fetch(connection, Request(f"select * from {name}", limit=limit))
    assert fetched.table.rows == limit
    assert fetched.was_cut == (limit < rows)


def test_an_empty_result_has_its_columns_or_none(place):
    connection, name, _ = place
    column = "reading_id" if name == "reading" else "kind"
    fetched = fetch(connection, Request(f"select {column} from {name} where {column} is null", limit=10))
    assert fetched.table.rows == 0
    assert [f.name for f in fetched.table.fields] == [column]


def test_a_stopped_pull_keeps_the_rows_it_has(place):
    connection, name, rows = place
    stop = StopToken()
    fetched = fetch(connection, Request(f"select * from {name}"), stop, lambda table: stop.set())
    assert fetched.was_stopped
    assert 0 < fetched.table.rows < rows
    assert fetch(connection, Request(f"select * from {name}", limit=5)).table.rows == 5


def test_unknown_tables_name_the_nearest_with_its_place(place):
    connection, name, _ = place
    with pytest.raises(QueryError) as caught:
        fetch(connection, Request(f"select *\nfrom {name}x"))
    assert name in caught.value.hint
    assert (caught.value.place.line, caught.value.place.column) == (2, 6)


def test_parameters_are_bound(place):
    connection, name, _ = place
    column, value = ("quality", "good' or '1'='1") if name == "reading" else ("kind", {"$ne": 1})
    fetched = fetch(connection, Request(f"select {column} from {name} where {column} = :p", {"p": value}))
    assert fetched.table.rows == 0
    with pytest.raises(QueryError, match="p"):
        fetch(connection, Request(f"select {column} from {name} where {column} = :p"))


def test_sqlite_catalogue_has_types_keys_and_references(survey, open_base):
    tables = {t.name: t for t in open_base(survey).tables()}
    assert tables["loan"].key == ("volunteer_id", "item", "lent_on")
    assert tables["legacy_note"].key == ()
    assert tables["high_water"].kind == "view"
    assert tables["visit_photo"].has_binary
    assert tables["reading"].column("station_id").refers == "station.station_id"
    assert tables["gauge"].column("station_id").refers == "station.station_id"
    words = {c.name: c.word for c in tables["reading"].columns}
    assert (words["taken_at"], words["level_m"], words["quality"]) == ("time", "number", "text")


def test_sqlite_with_hostile_names_and_values(hostile, open_base):
    connection = open_base(hostile)
    assert [t.name for t in connection.tables()] == ['or"der by', "v iew"]
    assert connection.count('or"der by') == 3
    table = fetch(connection, Request(connection.select_all('or"der by'))).table
    assert [f.name for f in table.fields] == ["id", "select", "Größe ü", "a b", "it's", "data"]
    assert table.column("a b").values() == [2**63 - 1, None, -(2**63)]
    assert table.column("data").values() == [b"\x00\xff", None, b""]
    assert table.column("it's").values() == ["quo'te", "", "ü€"]
    assert table.fields[2].origin == 'or"der by.Größe ü'


def test_sqlite_keeps_bytes_that_are_no_utf8_big_integers_and_old_dates(base, open_base):
    path = base(
        "create table t (a text, d date, n);"
        "insert into t values (cast(x'61ff62' as text), '0099-12-31', 1), ('b', '1969-01-01', 2.5)"
    )
    table = fetch(open_base(path), Request("select * from t")).table
    assert table.columns[0].values()[0].encode("utf-8", "surrogateescape") == b"a\xffb"
    assert table.fields[1].kind is Kind.DATE
    assert [d.year for d in table.columns[1].values()] == [99, 1969]
    assert table.columns[2].values() == [1.0, 2.5]


@pytest.mark.parametrize("bad", [0, 1, 999, 1000, 2500])
def test_sqlite_rows_around_bytes_that_are_no_utf8_come_once_each(base, open_base, bad):
    path = base(
        "create table t as with recursive n(i) as (select 0 union all select i + 1 from n where i < 2999) "
        f"select i, case when i = {bad} then cast(x'61ff' as text) else 'text ' || i end as s from n"
    )
    table = fetch(open_base(path), Request("select * from t")).table
    assert table.columns[0].values() == list(range(3000))
    assert table.columns[1].value(bad).encode("utf-8", "surrogateescape") == b"a\xff"
    assert table.columns[1].value(2998) == "text 2998"


def test_two_hundred_columns_and_columns_of_one_name(base, open_base):
    names = ", ".join(f"c{n}" for n in range(200))
    connection = open_base(base(f"create table wide ({names}); insert into wide (c0, c199) values (1, 2)"))
    table = fetch(connection, Request("select *, c0 from wide")).table
    assert len(table.fields) == 201
    assert [f.name for f in table.fields][-2:] == ["c199", "c0 (2)"]


@pytest.mark.parametrize(
    ("text", "says", "column"),
    [
        ("selct 1", "syntax", 1),
        ("select 1 from", "ncomplete", None),
        ("update reading set level_m = 1", "may write: UPDATE writes", 1),
        ("select 1; select 2", "one statement", None),
        ("-- nothing", "no statement", None),
        ("select nofunction(1)", "nofunction", 8),
        ("select r.levle_m from reading r", "level_m", 8),
    ],
)
def test_sqlite_errors_keep_the_servers_words_and_their_place(survey, open_base, text, says, column):
    with pytest.raises(QueryError) as caught:
        fetch(open_base(survey), Request(text))
    assert says in str(caught.value)
    if column is not None:
        assert caught.value.place.column == column


def test_a_stop_that_comes_before_the_statement_runs_is_not_lost(survey, open_base, monkeypatch):
    """An interruption only ends a statement that runs; one that came too early left it going, and the file locked."""
    base, stop = open_base(survey), StopToken()
    monkeypatch.setattr(base, "cancel", lambda handle: None)
    timer = threading.Timer(0.2, stop.set)
    timer.start()
    began = time.perf_counter()
    with pytest.raises(Stopped):
        fetch(base, Request("select count(*) from reading a, reading b, station"), stop)
    assert time.perf_counter() - began < 20
    assert fetch(base, Request("select count(*) from station")).table.columns[0].values() == [42]


def test_a_long_sqlite_query_stops_at_once(survey, open_base):
    stop = StopToken()
    threading.Timer(0.2, stop.set).start()
    began = time.monotonic()
    with pytest.raises(Stopped):
        fetch(open_base(survey), Request("select count(*) from reading a, reading b, reading c"), stop)
    assert time.monotonic() - began < 20


def test_what_is_no_database_is_refused_in_plain_words(tmp_path):
    text = tmp_path / "notes.txt"
    text.write_text("not a database at all, but long enough to look like something" * 20)
    with pytest.raises(ConnectError, match="not a database"):
        connect(source_of_file(text))
    with pytest.raises(ConnectError, match="no file"):
        connect(source_of_file(tmp_path / "gone.sqlite"))


def test_the_survey_is_read_only_for_queries(survey, open_base):
    connection = open_base(survey)
    with pytest.raises(QueryError):
        fetch(connection, Request("delete from reading returning 1"))
    assert connection.count("reading") == 4200


# --- documents ---------------------------------------------------------------------------------------------------


def test_documents_keep_types_missing_fields_and_shares(documents):
    table = fetch(documents, Request("select * from report")).table
    names = [f.name for f in table.fields]
    assert names[:4] == ["_id", "kind", "at", "place"]
    assert table.column("at").kind is Kind.TIME
    assert table.fields[names.index("flood")].note == "33 % · object"
    assert MISSING in table.column("flood").values()
    detail = next(d for d in table.column("detail").values() if isinstance(d, dict) and d.get("closed", 1) is None)
    assert detail["closed"] is None


def test_native_filters_pipelines_and_dates(documents):
    run = lambda text: fetch(documents, Request(text, language="native", collection="report")).table  # noqa: E731
    late = run('{"at": {"$gte": {"$date": "2031-05-20T00:00:00Z"}}, "kind": "sighting"}')
    assert set(late.column("kind").values()) == {"sighting"}
    assert 0 < late.rows < 1000
    counted = run('[{"$group": {"_id": "$kind", "n": {"$sum": 1}}}, {"$sort": {"n": -1}}]')
    assert sum(counted.column("n").values()) == 2000
    for text, says in (
        ("{kind: 1}", "not JSON"),
        ("[1", "not JSON"),
        ("3", "JSON object"),
        ('{"a": {"$nope": 1}}', "refused"),
    ):
        with pytest.raises(QueryError, match=says):
            run(text)
    assert run("").rows == 2000


def test_sql_on_documents_agrees_with_plain_python(documents, reports):
    everything = list(reports._store["report"].find())
    for where, keeps in {
        "flood.level > 4": lambda d: d.get("flood", {}).get("level", 0) > 4,
        "place is null": lambda d: d.get("place") is None,
        "not (kind like '%i%')": lambda d: "i" not in d["kind"],
        "detail.count is not null and kind = 'sighting'": lambda d: d["kind"] == "sighting",
        "at >= '2031-05-20' and urgent": lambda d: d["at"].isoformat() >= "2031-05-20" and d.get("urgent") is True,
    }.items():
        table = fetch(documents, Request(f"select _id from report where {where}")).table
        assert sorted(map(str, table.column("_id").values())) == sorted(
            str(d["_id"]) for d in everything if keeps(d)
        ), where
    table = fetch(
        documents, Request("select place, count(*) as n from report group by place order by n desc limit 5")
    ).table
    assert table.column("n").values() == sorted(table.column("n").values(), reverse=True)
    sent = json.loads(fetch(documents, Request("select * from report where at > '2031-05-28'")).sent)
    assert sent["filter"] == {"at": {"$gt": {"$date": "2031-05-28T00:00:00Z"}}}


def test_shapes_are_the_five_of_the_demo(documents):
    shapes = documents.shapes("report")
    by_name = {s.name: s for s in shapes.shapes}  # in the order of a random sample's shares, the rare ones last
    assert set(by_name) == {"flood watch", "sighting", "clarity check", "fault ticket", "one-off forms"}
    shares = [s.share for s in shapes.shapes]
    assert shares[:-1] == sorted(shares[:-1], reverse=True)
    assert shapes.shapes[-1].name == "one-off forms"
    assert shapes.sampled == 1000
    assert abs(sum(shares) - 1) < 0.001
    assert {"flood{4}", "readings[ ]"} <= set(by_name["flood watch"].fields)
    assert "detail.count" in shapes.differing
    assert shapes.type_words()["at"] == {"time"}


def test_document_servers_that_do_not_answer(monkeypatch):
    monkeypatch.setattr(WAITS, "connect_s", 0.4)
    with pytest.raises(ConnectError, match="refused"):
        connect(Source("x", "mongodb://127.0.0.1:9/x"))
    import socket

    with socket.socket() as silent:
        silent.bind(("127.0.0.1", 0))
        silent.listen()
        with pytest.raises(SourceTimeout, match="in time"):
            connect(Source("x", f"mongodb://127.0.0.1:{silent.getsockname()[1]}/x?socketTimeoutMS=200"))
    with pytest.raises(ConnectError, match="URI"):
        connect(Source("x", "mongodb://host:port/x"))


def test_a_document_server_that_goes_away_is_said_and_can_come_back(monkeypatch):
    from nimble_otter.demo.standin import StandIn

    monkeypatch.setattr(WAITS, "connect_s", 0.6)
    server = StandIn("d", {"c": [{"a": n} for n in range(10)]})
    connection = connect(Source("x", server.url))
    assert fetch(connection, Request("select * from c")).table.rows == 10
    connection.close()  # as a stop does: the next call opens a new client
    assert connection.count("c") == 10
    connection.close()
    server.close()
    with pytest.raises(SourceError):
        connection.count("c")
    connection.close()


def test_the_stand_in_refuses_what_it_does_not_know(reports):
    from pymongo import MongoClient
    from pymongo.errors import OperationFailure

    with MongoClient(reports.url) as client:
        store = client.get_default_database()
        assert client.server_info()["version"]
        assert store.report.count_documents({"kind": "sighting"}) == len(
            list(store.report.find({"kind": "sighting"}, batch_size=50))
        )
        assert len(store.report.distinct("kind")) == 7
        assert store.report.find().skip(3).limit(2).to_list()[0] == store.report.find_one(skip=3)
        with pytest.raises(OperationFailure, match="no such command"):
            store.command("mapReduce", "report")
        with pytest.raises(OperationFailure):
            store.report.find_one({"a": {"$nope": 1}})


def test_a_second_reader_does_not_disturb_a_writer(own_survey, open_base):
    connection = open_base(own_survey)
    with sqlite_file(own_survey) as other:
        other.execute("update station set name = 'Changed' where station_id = 1")
    table = fetch(connection, Request("select name from station where station_id = 1")).table
    assert table.columns[0].values() == ["Changed"]


def test_a_begin_that_is_typed_does_not_freeze_what_is_seen(own_survey, open_base):
    connection = open_base(own_survey)
    with pytest.raises(QueryError, match="BEGIN changes the session"):
        fetch(connection, Request("begin"))
    fetch(connection, Request("select * from station"))
    with sqlite_file(own_survey) as other:
        other.execute("update station set name = 'After' where station_id = 1")
    other.close()
    assert fetch(connection, Request("select name from station where station_id = 1")).table.columns[0].values() == [
        "After"
    ]


# --- times with a zone, times of day, intervals ----------------------------------------------------------------------

IN_POSTGRESQL = """select at, clock, span, long, odd from (values
  (timestamptz '2031-05-28 23:00:00+02', time '23:05', interval '26 hours', interval '1 day 02:00', interval '1 mon'),
  (timestamptz '2031-01-28 23:00:00.25+00', time '07:30:00.5', interval '-1 second', interval '3 days',
   interval '1 day'),
  (null, null, null, null, null)) x (at, clock, span, long, odd)"""
IN_MARIADB = """select cast('23:05:00.5' as time(1)) clock, cast('838:59:59' as time) span
  union all select cast('07:30:00.0' as time(1)), cast('-01:00:00' as time) union all select null, null"""


def test_times_of_servers_become_what_they_are(postgres, mariadb, open_base):
    hour = dt.timedelta(hours=1)
    table = fetch(open_base(postgres.url), Request(IN_POSTGRESQL)).table
    assert [c.kind for c in table.columns] == [Kind.ZONED, Kind.CLOCK, Kind.SPAN, Kind.SPAN, Kind.TEXT]
    assert table.columns[0].values() == [
        dt.datetime(2031, 5, 28, 21, tzinfo=dt.UTC), dt.datetime(2031, 1, 28, 23, 0, 0, 250_000, tzinfo=dt.UTC), None,
    ]  # fmt: skip
    assert table.columns[1].values() == [dt.time(23, 5), dt.time(7, 30, 0, 500_000), None]
    assert [c.values() for c in table.columns[2:4]] == [[26 * hour, -hour / 3600, None], [26 * hour, 72 * hour, None]]
    assert table.columns[4].values() == ["1 mon", "1 day", None]  # months have no fixed length
    table = fetch(open_base(mariadb.url), Request(IN_MARIADB)).table
    assert [c.kind for c in table.columns] == [Kind.CLOCK, Kind.SPAN]
    assert table.columns[0].values() == [dt.time(23, 5, 0, 500_000), dt.time(7, 30), None]
    assert table.columns[1].values() == [839 * hour - hour / 3600, -hour, None]


@pytest.mark.parametrize("kind", ["sqlite", "postgresql", "mariadb"])
def test_uuids_are_held_as_such_wherever_a_column_is_declared_so(kind, request, open_base, tmp_path):
    texts = ["6f9619ff-8b86-d011-b42d-00cf4fc964ff", None, "00000000-0000-0000-0000-000000000007"]
    literals = ", ".join(f"('{t}')" if t else "(null)" for t in texts)
    if kind == "sqlite":
        with contextlib.closing(sqlite3.connect(tmp_path / "made.sqlite")) as base, base:
            base.executescript(f"create table gate (key uuid); insert into gate values {literals}")
        connection = open_base(tmp_path / "made.sqlite")
    else:
        server = request.getfixturevalue({"postgresql": "postgres"}.get(kind, kind))
        connection = open_base(server.url)
        for text in ("drop table if exists gate", f"create table gate ({connection.quoted('key')} uuid)",
                     f"insert into gate values {literals}"):  # fmt: skip
            server.ask(text, "merrow")
    name = connection.quoted("key")
    table = fetch(connection, Request(f"select {name}, {name} as same from gate")).table
    assert [c.kind for c in table.columns] == [Kind.UUID, Kind.UUID]
    assert [c.values() for c in table.columns] == [texts, texts]
    assert next(t for t in connection.tables() if t.name == "gate").columns[0].word == "uuid"
    if kind == "postgresql":
        made = fetch(connection, Request("select gen_random_uuid() as made, null::uuid as none"))
        assert [c.kind for c in made.table.columns] == [Kind.UUID, Kind.UUID]
    if kind != "sqlite":
        server.ask("drop table gate", "merrow")


@pytest.mark.parametrize("kind", ["sqlite", "postgresql", "mariadb"])
def test_a_query_that_fails_says_so_once_and_leaves_the_connection_in_use(
    kind, request, open_base, survey, caplog, capfd
):
    where = survey if kind == "sqlite" else request.getfixturevalue({"postgresql": "postgres"}.get(kind, kind)).url
    connection = open_base(where)
    for text in ("select nosuch from reading", "select 1 from nosuch", "select abs(", "select 1"):
        with contextlib.suppress(QueryError):
            fetch(connection, Request(text))
    assert [each for each in caplog.records if each.levelno >= logging.WARNING] == []
    assert capfd.readouterr().err == ""
