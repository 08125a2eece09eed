"""Servers that SQLAlchemy's dialects alone tell of: read, written and sent to, tried on two of them; the statements for
servers that are not here are read again by a parser."""

import datetime as dt
import math
import random
import re
import struct
import subprocess
import sys
import threading
import time
from contextlib import suppress
from decimal import Decimal

import pytest
import sqlglot

from nimble_otter.changes import Action, rehearse, script, write
from nimble_otter.changes.plan import Plan, Statement, StatementKind
from nimble_otter.changes.statement_sql import Wording
from nimble_otter.changes.write import render
from nimble_otter.errors import ChangeError, ConnectError, OtterError, QueryError, Stopped, ValueRefused
from nimble_otter.send.transfer import Transfer, transfer
from nimble_otter.sources import Request, Source, connect, driver_for, fetch
from nimble_otter.sources.catalogue import ColumnInfo, EntryKind, TableInfo
from nimble_otter.sources.dialects.general import general_dialect
from nimble_otter.sources.source import dialect_of, source_of_file
from nimble_otter.sources.uri import parts_of, url_of
from nimble_otter.stop import StopToken
from tests.conformance.test_transfer import SAMPLE, rows_of
from tests.unit.test_changes import Bench

TABLES = """create table river (id integer not null primary key, name varchar(40) not null unique);
create table level_of (river integer references river (id) on delete cascade, taken timestamp, m double precision,
  at_sea boolean, primary key (river, taken))"""


@pytest.fixture(params=["firebird", "pg8000"])
def server(request, open_base):
    """A connection to a server that is reached by its dialect alone, with two tables."""
    found = request.getfixturevalue("firebird" if request.param == "firebird" else "postgres")
    url = found.url.replace("postgresql:", "postgresql+pg8000:")
    url = re.sub("/merrow$", "/postgres", url)  # where the survey is not
    connection = open_base(url)
    for text in TABLES.split(";\n"):
        connection.execute(Request(text))
    for n, name in enumerate(("Wend", "Arle", "Söll", "Ock"), 1):
        connection.execute(Request("insert into river values (:n, :name)", {"n": n, "name": name}))
    yield connection
    for name in ("level_of", "river"):
        connection.execute(Request(f"drop table {name}"))


def test_the_catalogue_parameters_and_errors_of_a_server_known_by_its_dialect(server):
    tables = {t.name: t for t in server.tables()}
    assert tables["river"].key == ("id",)
    assert tables["level_of"].column("river").refers == "river.id"
    assert tables["level_of"].key == ("river", "taken")
    assert any("triggers" in said for said in server.rights()) == (server.dialect.key != "firebird")
    fetched = fetch(server, Request("select name from river where id = :n or name = :word", {"n": 2, "word": "Wend"}))
    assert sorted(fetched.table.columns[0].values()) == ["Arle", "Wend"]
    with pytest.raises(QueryError):
        fetch(server, Request("select password from river"))  # which is no refused password
    assert [f.name.lower() for f in fetch(server, Request("select * from level_of")).table.fields][1:3] == [
        "taken",
        "m",
    ]


def test_a_read_only_session_keeps_what_hides_a_write_from_writing(server):
    if server.dialect.key == "firebird":
        server.execute(Request("create procedure sneak returns (n integer) as begin "
                               "delete from river; n = 1; suspend; end"))  # fmt: skip
        text = "select n from sneak"
    else:
        server.execute(Request("create or replace function sneak() returns int language sql as "
                               "'delete from river returning 1'"))  # fmt: skip
        text = "select sneak()"
    try:
        with pytest.raises(OtterError):
            fetch(server, Request(text))
        assert fetch(server, Request("select count(*) as n from river")).table.columns[0].values() == [4]
    finally:
        server.execute(Request("drop procedure sneak" if "from" in text else "drop function sneak()"))


def test_rows_are_sent_to_such_a_server_and_what_it_cannot_do_is_said(server):
    values = {
        "n": [1, 2, None], "s": ["a'b\\", "", None], "f": [0.1, 1e300, None], "b": [True, False, None],
        "a": [dt.datetime(2031, 5, 1, 2, 3), None, None], "d": [dt.date(2031, 5, 1), dt.date(1700, 1, 1), None],
        "m": [Decimal("1.2500"), Decimal("-7.0001"), None],
    }  # fmt: skip
    moved = transfer(rows_of(values), server, Transfer("arrived", is_new=True))
    try:
        assert moved.added == 3
        got = fetch(server, Request("select * from arrived order by 1 nulls last")).table
        assert [column.values() for column in got.columns] == list(values.values())
    finally:
        server.execute(Request("drop table arrived"))
    with pytest.raises(OtterError, match="skipped or updated"):
        transfer(rows_of({"id": [1], "name": ["x"]}), server, Transfer("river", duplicates="skip"))


def test_a_server_without_savepoints_is_found_out_and_its_first_refusal_ends_the_trial(server, monkeypatch):
    monkeypatch.setattr(type(server.dialect), "savepoint", "not a statement {}")
    server._has_asked = False
    bench = Bench(server, "select * from river order by id")
    bench.edits.apply(Action("Edit", ((0, 1, "New"), (1, 1, "Söll"), (3, 1, "Newer"))))
    report = rehearse(server, bench.plan)
    said = [o.problem for o in report.outcomes]
    assert not server.dialect.savepoint
    assert not said[0]
    assert "refused" in said[1]
    assert "Not tried" in said[2]
    assert not write(server, bench.plan).is_written
    assert fetch(server, Request("select name from river order by id")).table.columns[0].value(0) == "Wend"
    bench.edits.apply(Action("Edit", ((1, 1, "Other"),)))
    assert write(server, bench.plan).is_written


@pytest.mark.parametrize(
    ("name", "lock", "save", "release", "bytes_", "time"),
    [
        ("oracle", "FOR UPDATE", "savepoint p", "", "hextoraw('00ff')", "TO_TIMESTAMP"),
        ("mssql", "", "save transaction p", "", "0x00ff", "'2031-05-01"),
    ],
)
def test_statements_for_servers_that_are_not_here_are_written_by_their_dialects(
    name, lock, save, release, bytes_, time
):
    dialect = dialect_of(name)
    assert dialect is general_dialect(name)
    assert dialect.writes
    assert (dialect.savepoint.format("p"), dialect.release_savepoint) == (save, release)
    assert dialect.lock_suffix.strip() == lock
    assert dialect.bytes_literal(b"\x00\xff") == bytes_
    assert time in dialect.literal(dt.datetime(2031, 5, 1, 2, 3, 4, 5), None)
    item = TableInfo(
        "item", EntryKind.TABLE, (ColumnInfo("id", "INTEGER", "number", 1), ColumnInfo("name", "TEXT", "text"))
    )
    plan = Plan(item, ("id",), (
        Statement(StatementKind.INSERT, 5, (("id", 5), ("name", "it's"))),
        Statement(StatementKind.UPDATE, 0, (("name", "x"),), (("id", 1),), (("name", "a"),)),
        Statement(StatementKind.DELETE, 2, (), (("id", 2),)),
    ), dialect)  # fmt: skip
    texts = render(plan)
    assert {type(sqlglot.parse_one(text.rstrip(";"), dialect=dialect.parser)).__name__ for text in texts} == {
        "Insert", "Update", "Delete",
    }  # fmt: skip
    assert "''" in "".join(texts)  # a quote in a value
    assert "commit;" in script(plan)
    for statement in plan.statements:
        text, values = Wording(plan).bound(statement)
        assert text.count(dialect.marker.replace("{}", "")) == len(values)


def test_markers_are_numbered_where_a_client_wants_numbers():
    dialect = general_dialect("oracle").marked("named")
    assert dialect.joined(("a = ", " and b = ", "")) == "a = :1 and b = :2"
    assert dialect.joined(("a = ", ""), 2) == "a = :3"


def test_a_server_that_has_no_transactions_is_known_and_names_nobody_knows_are_told():
    assert not general_dialect("trino").writes or not general_dialect("trino").has_transactions
    assert not general_dialect("no-such-thing").writes
    with pytest.raises(ConnectError):
        driver_for("no-such-thing://h/d")
    with pytest.raises(ValueRefused):
        general_dialect("oracle").insert_tail("skip", ("id",), (), str)


def test_what_a_client_cannot_tell_is_not_taken_for_a_conflict(server):
    class Silent:
        description, rowcount = None, -1

        def execute(self, *_):
            return None

        def close(self):
            return None

    class Driver:
        cursor = Silent

    with pytest.raises(ChangeError, match="does not tell how many rows"):
        server.run_many(Driver(), [("update river set name = 'x'", ())])


def test_a_wrong_password_and_a_closed_port_are_told_apart(firebird):
    with pytest.raises(OtterError) as wrong:
        connect(Source("x", firebird.url.replace("river%20bank", "other")))
    assert "password" in str(wrong.value)
    with pytest.raises(ConnectError):
        connect(Source("x", firebird.url.replace(f":{firebird.port}/", ":1/")))


def test_the_plan_of_a_kept_draft_finds_its_dialect_again():
    assert dialect_of("firebird").display_name == "Firebird"
    assert dialect_of("oracle").display_name == "oracle"


# --- DuckDB ------------------------------------------------------------------------------------------------------

DUCKS = """create type mood as enum ('low', 'it''s'); create schema far; create sequence numbers;
create table river (id integer primary key, name varchar not null unique, mood mood, twice integer generated always as
  (id * 2), check (id > 0)); create table level (river integer references river (id), taken timestamp, m
  decimal(10, 3), primary key (river, taken)); create view named as select name from river;
create index by_mood on river (mood); comment on table river is 'small ones';
insert into river values (1, 'Wend', 'low'), (2, 'Arle', null)"""


@pytest.fixture
def duck(tmp_path, open_base):
    import duckdb

    path = tmp_path / "own.duckdb"
    with duckdb.connect(path) as base:
        base.execute(DUCKS)
    return open_base(f"duckdb:///{path}")


def test_a_duckdb_file_tells_its_catalogue_and_is_known_by_how_it_begins(duck, tmp_path):
    tables = {t.name: t for t in duck.tables()}
    assert set(tables) == {"river", "level", "named"}
    river, level = tables["river"], tables["level"]
    assert (river.key, level.key) == (("id",), ("river", "taken"))
    assert level.column("river").refers == "river.id"
    assert river.column("mood").values == ("low", "it's")
    assert river.column("twice").generated
    assert duck.describe(river).comment == "small ones"
    assert "by_mood" in str(duck.describe(river).indexes)
    assert duck.describe(river).text.startswith("CREATE TABLE")
    assert source_of_file(duck.path).url == f"duckdb:///{duck.path}"
    assert url_of(parts_of(f"duckdb:///{duck.path}")) == f"duckdb:///{duck.path}"
    assert duck.explain(Request("select * from river where id = :n", {"n": 1})).lines()
    with pytest.raises(QueryError, match=r"nearest name is (river|name)") as wrong:
        fetch(duck, Request("select *\nfrom rivr"))
    assert (wrong.value.place.line, wrong.value.place.column) == (2, 6)
    (tmp_path / "broken.duckdb").write_bytes(b"\0" * 8 + b"DUCK" + b"\xff" * 9000)
    with pytest.raises(ConnectError, match="can't be opened"):
        connect(Source("x", f"duckdb:///{tmp_path / 'broken.duckdb'}"))


TOLD = [
    ("interval '1 month 2 days 3 hours'", "1 month 2 days 03:00:00"), ("timestamp_ns '2020-01-01 00:00:00.123456789'",
     "2020-01-01 00:00:00.123456789"), ("'infinity'::date", "infinity"), ("'-infinity'::timestamp", "-infinity"),
    ("date '9999-12-31'", dt.date(9999, 12, 31)), ("'12:00:00+02'::timetz", "12:00:00+02"),
    ("170141183460469231731687303715884105727::hugeint", 2**127 - 1), ("1.50::decimal(5, 2)", Decimal("1.50")),
    ("union_value(k := 1)", "1"), ("bitstring '101'", "101"), ("'\\xAA'::blob", b"\xaa"), ("true", True),
    ("time '23:59:59.5'", dt.time(23, 59, 59, 500000)), ("1e300", 1e300), ("[1, null]", [1, None]), ("null", None),
]  # fmt: skip


def test_what_the_client_of_duckdb_would_change_comes_as_text(duck):
    text = "select " + ", ".join(f"{said} as c{n}" for n, (said, _) in enumerate(TOLD))
    table = fetch(duck, Request(text)).table
    got = [column.value(0) for column in table.columns]
    assert got == [wanted for _, wanted in TOLD]


@pytest.mark.parametrize(
    "text",
    ["copy river to '{0}'", "export database '{0}'", "attach '{0}' as other", "select * from read_csv('/etc/hostname')",
     "select * from '/etc/hostname'", "install httpfs", "load httpfs", "set enable_external_access = true",
     "insert into river values (3, 'x', null)", "create table t as select 1", "drop table level", "checkpoint",
     "pragma enable_profiling", "call nextval('numbers')", "select nextval('numbers')", "vacuum"],
)  # fmt: skip
def test_a_question_to_duckdb_neither_writes_nor_leaves_the_file(duck, tmp_path, text):
    before = duck.path.read_bytes()
    with pytest.raises(OtterError):
        fetch(duck, Request(text.format(tmp_path / "out")))
    assert duck.path.read_bytes() == before
    assert [p.name for p in tmp_path.iterdir() if "out" in p.name] == []


def test_rows_reach_duckdb_and_duplicates_are_skipped_or_updated(duck):
    assert transfer(rows_of(SAMPLE), duck, Transfer("sent %", True, ("id",))).added == 3
    got = fetch(duck, Request('select * from "sent %" order by id')).table
    assert {c.name: v.values() for c, v in zip(got.fields, got.columns, strict=True)}["text"] == SAMPLE["text"]
    rows = rows_of({"id": [2, 3], "name": ["Arle II", "Ock"]})
    assert transfer(rows, duck, Transfer("river", duplicates="skip")).added == 1
    assert transfer(rows, duck, Transfer("river", duplicates="update")).updated == 2
    assert fetch(duck, Request("select name from river order by id")).table.columns[0].values() == [
        "Wend", "Arle II", "Ock",
    ]  # fmt: skip


def test_a_duckdb_file_that_another_program_holds_is_told(duck):
    code = f"import duckdb, sys; c = duckdb.connect({str(duck.path)!r}); print('on', flush=True); sys.stdin.read()"
    with subprocess.Popen([sys.executable, "-c", code], stdin=subprocess.PIPE, stdout=subprocess.PIPE) as other:
        other.stdout.readline()
        with pytest.raises(OtterError, match=r"lock|another|Another|open"):
            fetch(duck, Request("select * from river"))
        other.communicate()
    assert fetch(duck, Request("select * from river")).table.rows == 2


def test_doubles_in_scripts_are_read_as_they_are_by_firebird(firebird, open_base):
    chance, connection = random.Random(7), open_base(firebird.url)
    values = [struct.unpack("d", struct.pack("Q", chance.getrandbits(64)))[0] for _ in range(200)]
    values = [v for v in values if abs(v) < math.inf] + [
        0.1,
        -0.0,
        1e22,
        1e-7,
        12345.678,
        5e-324,
        1.7976931348623157e308,
    ]
    texts = [connection.dialect.literal(value, None) for value in values]
    for start in range(0, len(values), 20):
        some = ", ".join(f"{text} as c{n}" for n, text in enumerate(texts[start : start + 20]))
        got = [c.value(0) for c in fetch(connection, Request(f"select {some} from rdb$database")).table.columns]
        assert got == values[start : start + 20]


LONG = {
    "firebird": "select count(*) as n from rdb$fields a, rdb$fields b, rdb$fields c, rdb$fields d",
    "duckdb": "select count(*) as n from range(10000000) a, range(10000000) b where a.range + b.range = -1",
}


@pytest.mark.parametrize("kind", sorted(LONG))
def test_a_long_query_is_stopped_and_the_connection_goes_on(kind, request, open_base):
    connection = request.getfixturevalue("duck") if kind == "duckdb" else open_base(request.getfixturevalue(kind).url)
    stop = StopToken()
    timer = threading.Timer(0.5, stop.set)
    timer.start()
    began = time.monotonic()
    with suppress(Stopped):
        assert fetch(connection, Request(LONG[kind]), stop).was_stopped
    timer.join()
    assert time.monotonic() - began < 20
    one = "select 1 as n from rdb$database" if kind == "firebird" else "select 1 as n"
    assert fetch(connection, Request(one)).table.columns[0].values() == [1]
