"""Catalogue, plans, search and following on every kind of server."""

import re
from dataclasses import replace

import pytest

from nimble_otter.errors import ConnectError, QueryError, SourceError, Stopped
from nimble_otter.query.sql.parameters import Ask
from nimble_otter.sources import Request, Source, TableInfo, connect, driver_for, fetch
from nimble_otter.sources.calls import call_of
from nimble_otter.sources.follow import MOST, find_links, follow_query, values_of
from nimble_otter.sources.search import Sought, find_value
from nimble_otter.sources.source import dialect_of
from nimble_otter.sources.truncation import fetch_whole
from nimble_otter.stop import StopToken
from nimble_otter.table.text.show import LONGEST
from tests.files import sqlite_file

SERVERS = ["sqlite", "postgresql", "mariadb"]
_MORE = {
    "postgresql": """create schema far; create table far."Big Table" ("the key" int primary key, total numeric(12, 2)
  generated always as (2 * 3.5) stored, id int generated always as identity, at timestamptz default now(),
  doc jsonb, kinds text[], check ("the key" > 0), unique (total, id));
comment on table far."Big Table" is 'kept far away'; comment on column far."Big Table".doc is 'nested';
create index by_doc on far."Big Table" ((doc->>'a')); create materialized view far.sums as select 1 as one;
create sequence far.steps; create function far.twice(n int) returns int language sql as 'select 2 * n';
create table far.child (a int, k int references far."Big Table" on delete cascade);
create table essay (part int, name varchar(9), body text, raw bytea, primary key (part, name));
insert into essay values (1, 'long', repeat('é', 70000), decode(repeat('ab', 70000), 'hex')),
  (2, 'short', 'é', null);""",
    "mariadb": """create table `Big Table` (`the key` int primary key, total decimal(12, 2) as (`the key` * 2) stored,
  id int auto_increment unique comment 'nested', at timestamp default now(), doc json, check (`the key` > 0))
  comment 'kept far away';
create index by_at on `Big Table` (at); create sequence steps;
create function twice(n int) returns int return 2 * n;
create table child (a int, k int, foreign key (k) references `Big Table` (`the key`) on delete cascade);
create table essay (part int, name varchar(9), body mediumtext, raw longblob, primary key (part, name));
insert into essay values (1, 'long', repeat('é', 70000), unhex(repeat('ab', 70000))), (2, 'short', 'é', null);""",
    "sqlite": """create table "Big Table" ("the key" integer primary key, total numeric as ("the key" * 2) stored,
  id int unique, at text default current_timestamp, doc blob, check ("the key" > 0));
create index by_at on "Big Table" (at, lower(doc));
create table child (a int, k int references "Big Table" ("the key") on delete cascade);
create table essay (part int, name varchar(9), body text, raw blob, primary key (part, name));
insert into essay values (1, 'long', replace(hex(zeroblob(35000)), '0', 'é'), zeroblob(70000)), (2, 'short', 'é', 5);
""",
}


@pytest.fixture(params=SERVERS)
def kind(request):
    return request.param


@pytest.fixture
def server(kind, request, own_survey):
    """The survey with a few more tables, of a test's own where it is a file."""
    if kind == "sqlite":
        with sqlite_file(own_survey) as base:
            base.executescript(_MORE[kind])
        base.close()
        return own_survey
    found = request.getfixturevalue("postgres" if kind == "postgresql" else "mariadb")
    if not getattr(found, "has_more", False):
        for text in re.split(r";\s*(?=create|comment|insert|$)", _MORE[kind]):
            if text.strip():
                found.ask(text, "merrow")
        found.has_more = True
    return found.url


@pytest.fixture
def connection(server, open_base):
    return open_base(server)


def test_the_catalogue_tells_columns_keys_and_references(kind, connection):
    tables = {t.name: t for t in connection.tables()}
    assert {t.name for t in connection.names()} <= set(tables) | {"far.sums"}
    far = "far." if kind == "postgresql" else ""
    big, child = tables[f"{far}Big Table"], tables[f"{far}child"]
    assert (big.kind, big.key, big.bare) == ("table", ("the key",), "Big Table")
    assert big.column("total").generated
    assert big.column("at").default
    assert big.column("doc").word in ("nested", "text", "binary")
    assert child.foreign[0].target == f"{far}Big Table"
    assert child.foreign[0].referred == ("the key",)
    assert tables["high_water"].kind == "view"
    assert tables["loan"].key == ("volunteer_id", "item", "lent_on")
    if kind != "sqlite":
        assert big.column("id").generated == "identity"
        assert tables["reading"].is_estimate
        assert tables["reading"].rows is not None
        kinds = {t.kind for t in tables.values()}
        assert {"routine", "sequence"} <= kinds
        routine = next(t for t in tables.values() if t.kind == "routine" and "twice" in t.name)
        assert "twice" in connection.describe(routine).text
        assert "steps" in connection.describe(tables[f"{far}steps"]).text.lower()
    if kind == "postgresql":
        assert tables["far.sums"].kind == "materialized view"
        assert big.column("doc").comment == "nested"


def test_a_definition_has_the_statement_constraints_and_indexes(kind, connection):
    tables = {t.name: t for t in connection.tables()}
    far = "far." if kind == "postgresql" else ""
    found = connection.describe(tables[f"{far}Big Table"])
    assert "CREATE TABLE" in found.text.upper()
    said = " ".join(text for _, text in found.constraints)
    assert "primary key (the key)" in said
    assert "check" in said
    assert len(found.indexes) >= 1
    child = connection.describe(tables[f"{far}child"])
    assert any("refers to Big Table" in text for _, text in child.constraints)
    assert "cascade" in (child.text + str(child.constraints)).lower()
    assert "level_m" in connection.describe(tables["high_water"]).text
    if kind != "sqlite":
        assert found.comment == "kept far away"


def test_names_of_every_kind_can_be_opened_and_counted(kind, connection):
    tables = connection.tables()
    for table in tables:
        if table.holds_rows:
            assert fetch(connection, Request(connection.select_all(table.name), limit=3)).table.rows <= 3
    big = next(t.name for t in tables if t.bare == "Big Table")
    assert connection.count(big) == 0
    fields = fetch(connection, Request(connection.select_all(big))).table.fields
    assert fields[0].origin == f"{big}.the key"


def test_origins_come_before_the_catalogue_is_read(connection):
    table = fetch(connection, Request("select r.level_m as l, s.name from reading r join station s using (station_id)", limit=2)).table  # fmt: skip  # noqa: E501
    assert [f.origin for f in table.fields] == ["reading.level_m", "station.name"]


def test_the_plan_is_a_tree(connection):
    plan = connection.explain(Request("select * from reading where station_id = :s", {"s": 3}), StopToken())
    lines = plan.lines()
    assert any("reading" in node.name.lower() or "reading" in node.detail.lower() for _, node in lines)
    with pytest.raises(QueryError):
        connection.explain(Request("select * from nowhere"), StopToken())


@pytest.mark.parametrize(
    ("sought", "hits"),
    [
        (Sought("OTTERHOLT"), {("station", "name")}),
        (Sought("OTTERHOLT", is_cased=True), set()),
        (Sought("Otterholt", is_cased=True), {("station", "name")}),
        (Sought("otterhol", is_word=True), set()),
        (Sought("otterholt", is_word=True), {("station", "name")}),
        (Sought("^Otter.*t$", is_regex=True, is_cased=True), {("station", "name")}),
        (Sought("100%_"), set()),
    ],
)
def test_a_value_is_found_in_its_column(connection, sought, hits):
    tables = [t for t in connection.tables() if t.name in ("station", "river", "gauge")]
    found = list(find_value(connection, tables, sought))
    assert [h for h in found if h.problem] == []
    assert {(h.table, h.column) for h in found} & {("station", "name")} == hits
    for hit in found:
        rows = fetch(connection, hit.request).table
        assert rows.rows == hit.rows
        assert len(hit.examples) == min(3, hit.rows)


def test_numbers_are_found_and_a_search_can_be_stopped(connection):
    tables = connection.tables()
    found = list(find_value(connection, [t for t in tables if t.name == "station"], Sought("7")))
    assert ("station", "station_id") in {(h.table, h.column) for h in found}
    stop = StopToken()
    stop.set()
    with pytest.raises(Stopped):
        list(find_value(connection, tables, Sought("7"), stop))
    with pytest.raises(QueryError, match="regular expression"):
        list(find_value(connection, tables, Sought("(", is_regex=True)))


def test_rows_are_followed_both_ways_and_back(connection):
    tables = connection.tables()
    fetched = fetch(connection, Request("select r.*, s.name from reading r join station s using (station_id)", limit=9))
    links = find_links(fetched.origins, tables)
    up = next(link for link in links if link.table == "station" and link.is_up)
    values = values_of(up, fetched.table, range(fetched.table.rows))
    text, parameters = follow_query(connection, up, values)
    rows = fetch(connection, Request(text, parameters)).table
    assert rows.rows == len(values)
    down = [link for link in find_links(fetch(connection, Request(text, parameters)).origins, tables) if not link.is_up]
    assert {"reading", "visit", "gauge"} <= {link.table for link in down}
    link = next(link for link in down if link.table == "reading")
    text, parameters = follow_query(connection, link, values_of(link, rows, [0]), count=True)
    counted = fetch(connection, Request(text, parameters)).table
    assert counted.columns[0].value(0) > 0
    many = [(n,) for n in range(MOST + 5)]
    assert len(follow_query(connection, link, many)[1]) == MOST


def test_composite_keys_are_followed(base, open_base):
    path = base(
        'create table a (x int, "y y" text, primary key (x, "y y"));'
        'create table b (id integer primary key, bx int, by_ text, foreign key (bx, by_) references a (x, "y y"));'
        "insert into a values (1, 'p'), (1, 'q'); insert into b values (1, 1, 'q'), (2, 1, 'q'), (3, null, 'q')"
    )
    connection = open_base(path)
    tables = connection.tables()
    fetched = fetch(connection, Request("select * from b"))
    (link,) = find_links(fetched.origins, tables)
    values = values_of(link, fetched.table, [0, 1, 2])
    assert values == [(1, "q")]
    rows = fetch(connection, Request(*follow_query(connection, link, values))).table
    assert rows.columns[1].values() == ["q"]


# --- documents ---------------------------------------------------------------------------------------------------


@pytest.fixture(params=["stand-in", "documents"])
def store(request, open_base):
    return open_base(request.getfixturevalue("reports" if request.param == "stand-in" else "document_server").url)


def test_documents_are_searched_by_path(document_server, open_base):
    store = open_base(document_server.url)
    tables = [t for t in store.tables() if t.name == "report"]
    found = {h.column: h for h in find_value(store, tables, Sought("otterholt"))}
    assert set(found) == {"place"}
    assert fetch(store, found["place"].request).table.rows == found["place"].rows > 0
    assert list(find_value(store, tables, Sought("OTTERHOLT", is_cased=True))) == []


def test_a_pipeline_shows_its_rows_after_each_stage(store):
    text = '[{"$match": {"kind": "sighting"}}, {"$group": {"_id": "$place", "n": {"$sum": 1}}}, {"$limit": 2}]'
    counts = [
        fetch(store, Request(text, {}, None, "native", "report", stages)).table.rows for stages in (0, 1, 2, 3, None)
    ]
    assert counts[0] > counts[1] > counts[2] > counts[3] == counts[4] == 2


def test_definitions_and_plans_of_documents(store):
    table = next(t for t in store.tables() if t.name == "report")
    assert "report" in store.describe(table).text
    request = Request("select * from report where kind = 'sighting'")
    if store.count("report") == 3000:
        assert store.explain(request, StopToken()).lines()
    else:  # the stand-in has no plans
        with pytest.raises(SourceError, match="explain"):
            store.explain(request, StopToken())


# --- any other dialect -------------------------------------------------------------------------------------------


def test_another_dialect_opens_by_its_url(postgres, open_base):
    url = postgres.url.replace("postgresql:", "postgresql+pg8000:")
    assert driver_for(url).key == "other"
    connection = open_base(url)
    tables = {t.name: t for t in connection.tables()}
    assert tables["reading"].column("station_id").refers == "station.station_id"
    fetched = fetch(connection, Request("select name, 'a%b' as p from station where station_id = :s", {"s": 3}))
    assert fetched.table.rows == 1
    assert fetched.table.fields[0].origin == "station.name"
    with pytest.raises(SourceError):
        fetch(connection, Request("select nothing from station"))
    with pytest.raises(ConnectError):
        connect(Source("x", url.replace("127.0.0.1", "no-such-host.invalid")))
    with pytest.raises(ConnectError, match="no driver"):
        driver_for("snowflake://h/d")


# --- long values -------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    "text", ["select * from essay order by part", "select e.raw as r, body, name, part from essay e"]
)
def test_long_values_are_cut_by_the_server_and_fetched_whole_by_key(connection, text, kind):
    whole = fetch(connection, Request(text))
    fetched = fetch(connection, Request(text, shorten=True))
    assert not whole.cut
    body, raw = fetched.table.index("body"), 0 if "r," in text else fetched.table.index("raw")
    row = fetched.table.column("part").values().index(1)
    assert {place: ids.tolist() for place, ids in fetched.cut.items()} == {body: [row], raw: [row]}
    assert len(fetched.table.columns[body].value(row)) == len(fetched.table.columns[raw].value(row)) == LONGEST + 1
    assert fetched.table.columns[raw].value(1 - row) == (5 if kind == "sqlite" else None)
    assert fetched.origins == whole.origins
    steps = []
    got = fetch_whole(connection, fetched.table, fetched.long, {row: [body, raw]}, progress=lambda *n: steps.append(n))
    assert got == {row: {place: whole.table.columns[place].value(row) for place in (body, raw)}}
    assert steps == [(1, 1)]


@pytest.mark.parametrize(
    "text",
    ["select body, raw from essay", "select distinct * from essay", "select part, name, upper(body) as b from essay",
     "select a.* from essay a join essay b on a.part = b.part", "with e as (select * from essay) select * from e"],
)  # fmt: skip
def test_queries_that_are_not_plain_rows_of_a_table_come_whole(connection, text):
    fetched = fetch(connection, Request(text, shorten=True))
    assert fetched.sent == text
    assert not fetched.cut
    assert max(len(v) for v in fetched.table.columns[0 if "body, raw" in text else 2].values()) == 70000


def test_errors_of_shortened_queries_tell_the_place_in_the_text(connection):
    with pytest.raises(QueryError) as problem:
        fetch(connection, Request("select *\nfrom essay where bodi = 1", shorten=True))
    assert (problem.value.place.line, problem.value.place.column) == (2, 18)


def test_a_row_that_is_gone_is_said_when_its_whole_value_is_wanted(connection):
    fetched = fetch(connection, Request("select * from essay where part = 1", shorten=True))
    long = replace(fetched.long, keys=((0, "part"), (0, "part")))
    gone = fetch(connection, Request("select part + 70 as part, name from essay where part = 1")).table
    with pytest.raises(QueryError, match="not at the source"):
        fetch_whole(connection, gone, long, {0: [2]})


def test_a_routine_is_called_with_a_parameter_for_each_argument(connection, kind):
    routine = next((t for t in connection.tables() if t.kind == "routine" and "twice" in t.name), None)
    assert (routine is None) == (kind == "sqlite")
    if routine is None:
        return
    text, asks = call_of(routine, connection.dialect, connection.quoted)
    assert asks == {"n": Ask("number")}
    found = fetch(connection, Request(text, {"n": 4}))
    assert found.table.columns[0].values() == [8]


@pytest.mark.parametrize(
    ("comment", "dialect", "text", "asks"),
    [
        ("(a integer, OUT b text) → integer", "postgresql", "select *\nfrom p(:a)", {"a": Ask("number")}),
        ("(INOUT \"x y\" date, b numeric(12, 2) DEFAULT 1) → procedure", "postgresql", "call p(:x_y, :b)",
         {"x_y": Ask("date"), "b": Ask("number")}),
        ("(OUT a int, timestamp without time zone) → procedure", "postgresql", "call p(null, :timestamp)", None),
        ("(who varchar(20)) → int(11)", "mariadb", "select p(:who) as p", {"who": Ask("text")}),
        ("() → procedure", "mariadb", "call p()", {}),
    ],
)  # fmt: skip
def test_calls_are_written_from_what_the_server_says_of_arguments(comment, dialect, text, asks):
    made = call_of(TableInfo("p(…)", "routine", comment=comment), dialect_of(dialect), str)
    assert made[0] == text
    assert asks is None or made[1] == asks
