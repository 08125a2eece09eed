"""Nothing that writes runs where only reading is asked for, whatever the text: tried with hostile texts on real
servers, and what the servers, files, settings and locks are before is compared with what they are after."""

import json
import os
import sqlite3
from contextlib import suppress

import pytest

from nimble_otter.errors import ChangeError, NotReading, OtterError, QueryError
from nimble_otter.query.sql.destroying import destroying
from nimble_otter.query.sql.effects import Effect, classify
from nimble_otter.query.sql.statements import split_statements
from nimble_otter.sources import Request, Source, connect, fetch
from nimble_otter.sources.hits import find_hits
from nimble_otter.sources.marks import guarded_databases
from nimble_otter.sources.script import run_script
from tests.files import sqlite_file
from tests.hostile import hostile_pipelines, hostile_texts
from tests.proofs import IS_LONG, how_many, proven

PARSER = {"postgresql": "postgres", "mariadb": "mysql", "sqlite": "sqlite"}


class Guarded:
    """A database to be harmed, and its whole state as far as a text could change it."""

    def __init__(self, url, folder, ask):
        self.url, self.folder, self._ask = url, folder, ask

    def open(self, read_only=True):
        return connect(Source("guarded", self.url, read_only=read_only))

    def state(self):
        return [*self._ask(), sorted(p.name for p in self.folder.iterdir())]


@pytest.fixture(scope="module", params=["sqlite", "postgresql", "mariadb"])
def kind(request):
    return request.param


@pytest.fixture(scope="module")
def guarded(kind, request, tmp_path_factory):
    folder = tmp_path_factory.mktemp("guarded")
    folder.chmod(0o777)
    if kind == "sqlite":
        path = folder / "guarded.sqlite"
        with sqlite_file(path) as made:
            made.executescript(
                "create table victim (id integer primary key, word text); insert into victim values (1, 'a')"
            )
        made.close()
        yield Guarded(f"sqlite:///{path}", folder, lambda: [path.read_bytes()])
    elif kind == "postgresql":
        server = request.getfixturevalue("postgres")
        server.ask("create database guarded")
        for text in (
            "create table victim (id int primary key, word text)", "insert into victim values (1, 'a'), (2, 'b')",
            "create sequence numbers", "create materialized view kept as select 1 as a",
            "create view high as select 2 as a",
            "create function planted() returns int language sql as 'delete from victim; select 1'",
            "create procedure planting() language sql as 'delete from victim'", "create extension dblink",
        ):  # fmt: skip
            server.ask(text, "guarded")
        asked = (
            "select * from victim order by 1",
            "select relname, relkind from pg_class where relpersistence <> 't' order by 1",
            "select last_value, is_called from numbers", "select * from pg_db_role_setting",
            "select rolname, rolsuper from pg_roles",
            "select lomowner from pg_largeobject_metadata", "select name, setting from pg_file_settings",
            "select proname from pg_proc "
            "where pronamespace = 'public'::regnamespace order by 1",
            "select definition from pg_views where viewname = 'high'",
            "select gid from pg_prepared_xacts",
            "select description from pg_description d join pg_class c on c.oid = d.objoid "
            "where relname = 'victim'", "select relacl from pg_class where relname = 'victim'",
            "select locktype, mode from pg_locks join pg_stat_activity using (pid) where (locktype = 'advisory' or "
            "mode ~ 'Exclusive' and relation is not null) and datname = current_database() "
            "and backend_type = 'client backend'",  # the server's own cleaning locks tables when it likes
        )  # fmt: skip
        yield Guarded(
            server.url.replace("/merrow", "/guarded"), folder, lambda: [server.ask(text, "guarded") for text in asked]
        )
        server.ask("drop database guarded with (force)")
    else:
        server = request.getfixturevalue("mariadb")
        server.ask("create database guarded")
        for text in (
            "create table victim (id int primary key, word text)", "insert into victim values (1, 'a'), (2, 'b')",
            "create sequence numbers", "create procedure planting() delete from victim",
            "create function planted() returns int begin delete from victim; return 1; end",
        ):  # fmt: skip
            server.ask(text, "guarded")
        asked = (
            "select * from victim order by 1", "show tables", "show create table victim",
            "show create sequence numbers",
            "select next_not_cached_value from numbers", "select user, host from mysql.user order by 1, 2",
            "select variable_name, variable_value from information_schema.global_variables where variable_name in ("
            "'max_connections', 'read_only', 'sql_mode', 'general_log', 'local_infile', 'event_scheduler') order by 1",
            "select routine_name from information_schema.routines where routine_schema = 'guarded' order by 1",
            "select is_free_lock('planted')", "show databases", "xa recover",
            "select count(*) from information_schema.plugins",
        )  # fmt: skip

        def ask():
            with suppress(ValueError):  # a lock that is held makes this wait and fail
                server.ask("lock tables guarded.victim write nowait")
            return [server.ask(text, "guarded") for text in asked]

        yield Guarded(server.url.replace("/merrow", "/guarded"), folder, ask)
        server.ask("drop database guarded")


def tried(opened, text):
    """Every way in which the application runs a text, on a connection."""
    for do in (
        lambda: fetch(opened, Request(text, limit=5)),
        lambda: fetch(opened, Request(text, limit=5, shorten=True, with_keys=True)),
        lambda: opened.explain(Request(text), _never()),
        lambda: run_script(opened, text, split_statements(text), Request("", limit=5), goes_on=True),
        lambda: find_hits(opened, [text], Request("")),
    ):
        with suppress(OtterError):
            do()


def _never():
    from nimble_otter.stop import StopToken

    return StopToken()


@pytest.mark.timeout(3600 if IS_LONG else 180)
def test_hostile_texts_change_nothing_on_a_source_that_is_read_only(kind, guarded):
    count = how_many(60, 5000)
    texts, before, passed = hostile_texts(PARSER[kind], count, 20, str(guarded.folder)), guarded.state(), 0
    opened = guarded.open()
    try:
        for start in range(0, count, 40):
            for text in texts[start : start + 40]:
                passed += opened.verdict(text).reads
                tried(opened, text)
            assert guarded.state() == before, texts[start : start + 40]
    finally:
        opened.close()
    proven("hostile texts", kind, count, f"{passed} of them only read and ran")


@pytest.mark.timeout(3600 if IS_LONG else 180)
def test_hostile_texts_change_nothing_where_nothing_was_asked(kind, guarded):
    """On a source that may be written to, what only asks (opening, preview, plan, other pulls) writes nothing."""
    count, before = how_many(30, 2500), guarded.state()
    opened = guarded.open(read_only=False)
    try:
        for text in hostile_texts(PARSER[kind], count, 21, str(guarded.folder)):
            for do in (lambda t: fetch(opened, Request(t, limit=5)), lambda t: opened.explain(Request(t), _never())):
                with suppress(OtterError):
                    do(text)
        assert guarded.state() == before
    finally:
        opened.close()
    proven("hostile texts, only asked", kind, count)


def test_the_server_itself_is_held_to_reading(kind, guarded, monkeypatch):
    """With our own guard asleep the server still refuses: a second line that does not know the first."""
    monkeypatch.setattr("nimble_otter.sources.relational.refuse_writing", lambda *_: None)
    before, opened = guarded.state(), guarded.open()
    try:
        for text in (
            "delete from victim",
            "create table planted (a int)",
            "insert into victim select 9, word from victim",
        ):
            with pytest.raises(OtterError, match="reading only"):
                fetch(opened, Request(text))
        for text in ("select 1 /*; */; delete from victim", "select 1; commit; delete from victim",
                     "select 1; set session transaction read write; commit; delete from victim; commit"):  # fmt: skip
            monkeypatch.setattr("nimble_otter.sources.relational.one_statement", lambda request: request.text)
            with suppress(OtterError):
                fetch(opened, Request(text))
            with suppress(OtterError):
                opened.explain(Request(text), _never())
        assert guarded.state() == before
    finally:
        opened.close()


def test_a_plan_is_made_of_what_reads_alone(kind, guarded):
    opened = guarded.open(read_only=False)
    text = {"sqlite": "select load_extension('x')", "postgresql": "select nextval('numbers')",
            "mariadb": "select get_lock('planted', 0)"}[kind]  # fmt: skip
    with pytest.raises(NotReading):
        opened.explain(Request(text), _never())
    assert opened.explain(Request("select * from victim"), _never()).name
    opened.close()


def test_what_only_reads_still_runs(kind, guarded):
    opened = guarded.open()
    texts = ["select * from victim", "with a as (select id from victim) select * from a where id in (1, 2)",
        "-- x\nselect 1",
             "select count(*) from victim group by word having count(*) > 0 order by 1",
             "select 'delete from victim; drop' as a", "explain select * from victim"]  # fmt: skip
    texts += {
        "postgresql": ["show all", "table victim", "values (1), (2)", "select E'\\'' as a, $$it's;$$ as b",
        "select pg_size_pretty(1::bigint)",
                       "explain (analyze, format json) select 1", "select '{\"a\": 1}'::jsonb @> '{}'",
                       "select now() - interval '1 day'"],
        "mariadb": ["show tables", "select 'a\\'b' as a", "describe victim", "show create table victim", "select 5 --1",
                    "analyze select * from victim", "select @a := 1",
                    "select group_concat(word separator ';') from victim"],
        "sqlite": ["pragma table_info('victim')", "pragma user_version", "select [word] from victim",
        "select x'00', typeof(1)"],
    }[kind]  # fmt: skip
    try:
        for text in texts:
            assert opened.verdict(text).reads, (text, opened.verdict(text).why)
            assert fetch(opened, Request(text, limit=5)).table.rows >= 0
    finally:
        opened.close()


@pytest.mark.parametrize(
    ("text", "dialect", "effect"),
    [
        ("select 5 --1; set session transaction read write; commit; delete from t; commit", "mysql", Effect.UNKNOWN),
        ("select E'\\''; commit; begin read write; delete from t; commit; --'", "postgres", Effect.UNKNOWN),
        ("explain (a, b, analyze) delete from t", "postgres", Effect.ROWS), ("explain delete from t", "postgres",
        Effect.READS),
        ("with x(a) as (select 1) replace into t select * from x", "sqlite", Effect.ROWS),
        ("select /*! sleep(1) */ 1", "mysql", Effect.UNKNOWN), ("select '/*!' || 1", "postgres", Effect.READS),
        ("shutdown", "mysql", Effect.CONTROLS), ("kill 5", "mysql", Effect.CONTROLS), ("flush tables", "mysql",
        Effect.CONTROLS),
        ("optimize table t", "mysql", Effect.DEFINES), ("checkpoint", "postgres", Effect.CONTROLS),
        ("pragma x = y", "sqlite", Effect.CONTROLS), ("copy t to program 'x'", "postgres", Effect.ROWS),
        ("select '\\' :x ', :y", "mysql", Effect.UNKNOWN), ("select * from t where a = :x and b = '\\' and c = :y",
        "postgres",
                                                           Effect.READS),
        ("select 1 where a in (" + "1, " * 5000 + "1)", "postgres", Effect.READS), ("select a\0b", "sqlite",
        Effect.UNKNOWN),
        ("select " + "(" * 3000 + "1" + ")" * 3000, "postgres", Effect.UNKNOWN), ("select next value for s", "mysql",
        Effect.UNKNOWN),
        ("select * from t for update", "mysql", Effect.ROWS), ("select * from t lock in share mode", "mysql",
        Effect.ROWS),
        ("select * into x from t", "postgres", Effect.ROWS), ("with d as (delete from t returning 1) select 1",
        "postgres",
                                                              Effect.ROWS),
        ("select -- 1, 2\n, 3, 4 ; drop table t", "postgres", Effect.UNKNOWN), ("select a -- 1, 2, 3, 4\n from t",
        "postgres",
                                                                           Effect.READS),
        ("selct 1", "sqlite", Effect.UNKNOWN), ("insert into t select 1", "", Effect.ROWS),
        ("lock tables t write", "mysql", Effect.CONTROLS), ("handler t open", "mysql", Effect.CONTROLS),
    ],
)  # fmt: skip
def test_what_a_statement_does_is_told_by_reading_all_of_it(text, dialect, effect):
    assert classify(text, dialect).effect is effect


def test_every_function_of_postgresql_that_may_change_something_is_known(postgres):
    """The server's own catalogue: what it calls volatile is refused, or was looked at and only tells something."""
    with suppress(Exception):
        postgres.ask("create database volatile")
    wanted = ("dblink", "adminpack", "lo", "tablefunc", "pg_prewarm", "pg_stat_statements", "pg_surgery", "amcheck")
    has = {name for (name,) in postgres.ask("select name from pg_available_extensions")}
    for name in has.intersection(wanted):  # one of them went with PostgreSQL 17
        postgres.ask(f"create extension if not exists {name}", "volatile")
    names = {name for (name,) in postgres.ask(
        "select proname from pg_proc where provolatile = 'v' and prokind = 'f' and prorettype not in "
        "('trigger'::regtype, 'internal'::regtype, 'event_trigger'::regtype)", "volatile")}  # fmt: skip
    postgres.ask("drop database volatile with (force)")
    open_ = {name for name in names if classify(f"select {name}()", "postgres").reads}
    told = {"amvalidate", "array_sample", "array_shuffle", "bernoulli", "clock_timestamp", "current_query", "currtid2",
            "currval", "gen_random_uuid", "gin_index_check", "lastval", "normal_rand", "random", "random_normal",
            "system", "timeofday", "txid_status", "uuidv4", "uuidv7", "verify_heapam"}  # fmt: skip
    handlers = {name for name in open_ if name.endswith("handler")}
    asked = (
        "_get_",
        "_size",
        "_control_",
        "_wal_",
        "_sleep",
        "_xact",
        "_stat_",
        "_partition_",
        "_is_",
        "_blocking_pids",
    )
    rest = {n for n in open_ - told - handlers if not any(part in n for part in asked)}
    assert rest <= {"pg_current_logfile", "pg_extension_config_dump", "pg_hba_file_rules", "pg_ident_file_mappings",
                    "pg_isolation_test_session_is_blocked", "pg_jit_available", "pg_lock_status",
                    "pg_sequence_last_value",
                    "pg_show_all_file_settings", "pg_show_replication_origin_status"}  # fmt: skip
    assert len(names) > 150
    assert "pg_terminate_backend" not in open_


@pytest.mark.timeout(3600 if IS_LONG else 180)
def test_pipelines_that_write_are_refused_at_any_depth(document_server):
    from pymongo import MongoClient

    opened = connect(Source("guarded", document_server.url))
    with MongoClient(document_server.url) as client:
        client.merrow.victim.insert_many([{"a": 1}, {"a": 2}])
        state = lambda: (  # noqa: E731
            sorted(client.list_database_names()), sorted(client.merrow.list_collection_names()),
            list(client.merrow.victim.find().sort("_id")),
        )  # fmt: skip
        before, count = state(), how_many(40, 5000)
        for pipeline in hostile_pipelines(count, 22):
            request = Request(json.dumps(pipeline), {}, None, "native", "victim")
            for do in (lambda r=request: fetch(opened, r), lambda r=request: opened.explain(r, _never())):
                with pytest.raises(NotReading, match="not known to only read"):
                    do()
        assert state() == before
    opened.close()
    proven("hostile pipelines", "documents", count)


def test_what_a_statement_holds_ends_with_it(guarded, kind):
    """A lock or setting of one statement is on no connection that is used afterwards."""
    opened = guarded.open(read_only=False)
    texts = {
        "sqlite": [], "postgresql": ["select pg_advisory_lock(7)", "set statement_timeout = 77"],
        "mariadb": ["lock tables victim write", "handler victim open", "do get_lock('planted', 0)",
        "update victim set word = word where get_lock('planted', 0) = 2",
        "flush tables with read lock"],
    }[kind]  # fmt: skip
    before = guarded.state()
    try:
        for text in texts:
            opened.execute(Request(text, limit=5))
            assert guarded.state() == before, text
    finally:
        opened.close()


def test_a_general_driver_is_held_to_reading(postgres, tmp_path, own_survey):
    """What SQLAlchemy alone knows of: the same guard, and the session set to reading."""
    for url in (f"sqlite+pysqlite:///{own_survey}", postgres.url.replace("postgresql:", "postgresql+pg8000:")):
        opened = connect(Source("other", url))
        try:
            for text in ("drop table river", f"vacuum into '{tmp_path / 'v'}'", f"attach '{tmp_path / 'a'}' as a",
                         "pragma journal_mode = wal",
                         "with x(a) as (select 1) replace into river select * from x"):  # fmt: skip
                with pytest.raises(OtterError):
                    fetch(opened, Request(text))
            assert fetch(opened, Request("select count(*) as n from river")).table.columns[0].values() == [7]
        finally:
            opened.close()
    assert not [p for p in tmp_path.iterdir() if p.name in ("v", "a")]


HITS = [
    ("delete from victim", "delete", 2, 2, True), ("delete from victim where 1 = 1", "delete", 2, 2, True),
    ("delete from victim where id = id or word is null", "delete", 2, 2, True),
    ("delete from victim where id = 1", "delete", 1, 2, False), ("update victim set word = 'x' where id > 0", "update",
    2, 2, True),
    ("update victim set word = 'x' where id = 77", "update", 0, 2, False), ("drop table victim", "drop", 2, 2, True),
    ("drop table if exists victim", "drop", 2, 2, True), ("alter table victim drop column word", "alter", 2, 2, True),
    ("delete from victim where id in (select id from victim)", "delete", 2, 2, True), ("drop view nothing", "drop",
    None, None, True),
]  # fmt: skip


@pytest.mark.parametrize(("text", "way", "rows", "total", "is_every"), HITS, ids=[h[0] for h in HITS])
def test_what_a_statement_would_destroy_is_counted_before(postgres, mariadb, base, text, way, rows, total, is_every):
    script = "create table victim (id int primary key, word varchar(9))"
    path = base(f"{script}; insert into victim values (1, 'a'), (2, 'b')")
    for server in (postgres, mariadb):
        with suppress(Exception):
            server.ask("create database hits")
            server.ask(script, "hits")
            server.ask("insert into victim values (1, 'a'), (2, 'b')", "hits")
    for url in (f"sqlite:///{path}", postgres.url.replace("/merrow", "/hits"), mariadb.url.replace("/merrow", "/hits")):
        opened = connect(Source("hits", url))
        try:
            hit = find_hits(opened, [text], Request(""))[0]
            assert (hit.what.way, hit.rows, hit.total, hit.is_every) == (way, rows, total, is_every)
        finally:
            opened.close()
    assert not destroying("select 1", "postgres")
    assert destroying("truncate victim", "mysql")[0].table == "victim"


def test_files_of_a_read_only_source_are_left_alone(tmp_path):
    """Attaching makes no file, neither in reading nor in writing."""
    path = tmp_path / "one.sqlite"
    sqlite3.connect(path).close()
    opened = connect(Source("one", f"sqlite:///{path}"))
    for do in (lambda r: fetch(opened, r), opened.execute):
        with pytest.raises(OtterError):
            do(Request(f"attach '{tmp_path / 'two.sqlite'}' as two"))
    opened.close()
    assert os.listdir(tmp_path) == ["one.sqlite"]


def test_a_database_marked_read_only_is_not_written_to_by_a_name_in_the_text(mariadb):
    mariadb.ask("create database kept")
    mariadb.ask("create table kept.t (id int primary key)")
    own = Source("own", mariadb.url)
    marked = Source("kept", mariadb.url.replace("/merrow", "/kept"), read_only=True)
    guarded = guarded_databases(own, [own, marked])
    assert guarded == ("kept",)
    opened = connect(own, guarded=guarded)
    for text in ("insert into kept.t values (1)", "insert into `kept`.`t` values (1)", "create table KEPT.u (a int)"):
        with pytest.raises(ChangeError, match="kept"):
            opened.execute(Request(text), _never())
    with opened.transaction() as writer, pytest.raises(ChangeError):
        writer.execute_many([("insert into `kept`.`t` values (1)", ())])
    opened.close()
    assert mariadb.ask("select count(*) from kept.t") == ((0,),)
    mariadb.ask("drop database kept")


def test_what_a_role_may_do_beyond_rows_is_told(postgres, mariadb):
    for url, word in ((postgres.url, "superuser"), (mariadb.url, "ALL PRIVILEGES")):
        opened = connect(Source("strong", url))
        assert word in opened.rights()[0]
        opened.close()
    for url in (postgres.url.replace("postgres@", "otter@"), mariadb.url.replace("root@", "otter@")):
        opened = connect(Source("weak", url), "river bank")
        assert opened.rights() == ()
        opened.close()


def test_a_slip_of_the_keyboard_is_told_by_the_server_at_its_place(guarded, kind):
    """What can't be parsed is read by the server, and not run; what only the server knows is still no reading."""
    opened = guarded.open()
    for text, place in (("selct 1", 0), ("select 1 from", None), ("select *\nfrom victim\nwehre id = :a", 21)):
        with pytest.raises(QueryError) as refused:
            fetch(opened, Request(text, {"a": 1} if ":a" in text else {}))
        assert not isinstance(refused.value, NotReading), refused.value
        if place is not None and kind != "sqlite":
            assert refused.value.place.start in (place, place + 6), refused.value.place
    only_there = {
        "postgresql": "select * from victim order by id using >",
        "mariadb": "do sleep(0)",
        "sqlite": "reindex",
    }[kind]
    opened.parse(Request(only_there))
    told = run_script(opened, "selct 1", split_statements("selct 1"), Request(""))[0].error
    assert isinstance(told, QueryError)
    assert not isinstance(told, NotReading)
    with pytest.raises(NotReading):
        fetch(opened, Request(only_there))
    opened.close()
