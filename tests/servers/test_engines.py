"""Engines without keys and transactions, to which steps and whole tables are moved: what is taken for reading, and in
the long check everything against real ones."""

import datetime as dt
import math
import random
import struct
import threading
import time
from contextlib import closing
from dataclasses import dataclass
from decimal import Decimal

import pytest
import sqlglot

from nimble_otter.errors import ChangeError, NotReading, OtterError, QueryError, Stopped
from nimble_otter.pull import Pull, Query, run_course
from nimble_otter.pull.send_there import write_there
from nimble_otter.pull.upstream import compare
from nimble_otter.query.sql.effects import Effect, classify
from nimble_otter.send.on_server import AskedThere, transfer_there
from nimble_otter.send.transfer import Transfer, transfer
from nimble_otter.sources import Request, Source, connect, fetch
from nimble_otter.sources.catalogue import EntryKind
from nimble_otter.sources.dialects import clickhouse, spark
from nimble_otter.sources.search import Sought, find_value
from nimble_otter.stop import StopToken
from nimble_otter.table import Kind
from nimble_otter.table.core.columns import Field
from tests.conformance import test_on_server, test_upstream
from tests.conformance.test_transfer import rows_of
from tests.conftest import started
from tests.proofs import proven
from tests.servers import Clickhouse, Spark

LONG = pytest.mark.long
UTC = dt.UTC


@dataclass(frozen=True)
class Engine:
    """What differs between them: types by the kinds of `VALUES` and by the columns of test_upstream, and texts."""

    server: type
    name: str
    types: dict
    odd: dict
    nested: tuple
    endless: str
    numbers: str
    tail: str = ""
    nullable: str = "{}"
    least_same: int = 700
    first_day: dt.date = dt.date.min
    last_day: dt.date = dt.date.max


SPARK = Engine(
    Spark, "Spark SQL",
    {"i": "bigint", "s": "smallint", "f": "double", "r": "float", "d": "decimal(20,4)", "b": "boolean", "t": "string",
     "v": "varchar(9)", "day": "date", "at": "timestamp_ntz", "z": "timestamp", "raw": "binary"},
    {"id": "int", "i": "bigint", "j": "int", "f": "double", "r": "float", "d": "decimal(12,3)", "n": "decimal(20,6)",
     "t": "string", "u": "varchar(20)", "c": "char(4)", "b": "boolean", "day": "date", "at": "timestamp_ntz",
     "few": "timestamp", "clock": "string", "g": "string"},
    ("array('a\"b', null)", '["a\\"b",null]', "map('k', struct(1 as x))", '{"k":{"x":1}}'),
    "select count(*) from range(1000000000) a join range(100000) b on a.id > b.id",
    "select id, cast(id as string) s from range({})", least_same=800,
)  # fmt: skip
CLICKHOUSE = Engine(
    Clickhouse, "ClickHouse",
    {"i": "Int64", "s": "Int16", "f": "Float64", "r": "Float32", "d": "Decimal(20,4)", "b": "Bool", "t": "String",
     "v": "LowCardinality(Nullable(String))", "day": "Date32", "at": "DateTime64(6)", "z": "DateTime64(6, 'UTC')"},
    {"id": "Int32", "i": "Int64", "j": "Int32", "f": "Float64", "r": "Float32", "d": "Decimal(12,3)",
     "n": "Decimal(20,6)", "t": "String", "u": "String", "c": "String", "b": "Bool", "day": "Date32",
     "at": "DateTime64(6)", "few": "DateTime64(6,'UTC')", "clock": "String", "g": "UUID"},
    ("['a\"b', null]", ['a"b', None], "map('k', tuple(1))", {"k": [1]}),
    "select count() from numbers(100000000000) where number % 7 = 3",
    "select number as id, toString(number) as s from numbers({})", " order by tuple()", "Nullable({})",
    first_day=dt.date(1900, 1, 1), last_day=dt.date(2299, 12, 31),
)  # fmt: skip


@pytest.fixture(scope="module", params=[SPARK, CLICKHOUSE], ids=lambda kind: kind.name)
def kind(request):
    return request.param


@pytest.fixture(scope="module")
def server(kind):
    with started(kind.server) as own:
        yield own


@pytest.fixture
def engine(server):
    with closing(connect(Source("engine", server.url))) as connection:
        yield connection
        for table in connection.tables():
            word = "view" if table.kind is EntryKind.VIEW else "table"
            connection.execute(Request(f"drop {word} {connection.quoted(table.name)}"))


def made(engine, kind, name, columns):
    """A table with columns that may be NULL."""
    told = ", ".join(
        f"{n} {t if n == 'id' or 'Nullable' in t else kind.nullable.format(t)}" for n, t in columns.items()
    )
    engine.execute(Request(f"create table {name} ({told}){kind.tail}"))


# --- what only reads -------------------------------------------------------------------------------------------------

HARMFUL = {"spark": [
    "insert into t values (1)", "insert overwrite table t select 1", "from t insert into u select *", "add jar x",
    "drop table t", "set spark.x = 1", "select reflect('java.lang.Runtime', 'x')", "select `reflect`('a', 'b')",
    "select java_method('a', 'b')", "select transform(a) using 'sh' from t", "from t map a using 'sh' as b",
    "with x as (select 1) insert into t select * from x", "cache table t", "select 1; drop table t",
    "-- \\\n/*\ninsert into t values (1) -- */ select 1", "load data inpath 'x' into table t", "truncate table t",
    "select try_reflect('a','b')", "create table t as select 1", "refresh table t", "merge into t using u on 1 = 1",
], "clickhouse": [
    "insert into t values (1)", "insert into function file('x', 'CSV') select 1", "alter table t delete where 1",
    "drop table t", "set max_threads = 1", "select * from file('/etc/passwd', 'LineAsString')", "delete from t where 1",
    "select * from `url`('http://x', 'CSV', 'a Int8')", "select file('/etc/passwd')", "optimize table t",
    "system reload config",
    "select 1 into outfile '/tmp/x'", "select * from remote('h', 'd', 't')", "select 1; drop table t",
    "kill query where 1",
    "select * from executable('sh', 'CSV', 'a Int8')", "with x as (select 1) insert into t select * from x",
    "select dictGet('d', 'a', 1), * from s3('x')", "exchange tables t and u", "create table t as select 1", "use x",
    "truncate table t", "rename table t to u", "attach table t", "update t set a = 1 where 1",
    "backup table t to Disk('d', 'x')",
    "select * from mysql('h:1', 'd', 't', 'u', 'p')", "grant all on *.* to u", "select 1 settings readonly = 0",
]}  # fmt: skip
READING = {"spark": [
    "select `a b`, t.c from t lateral view explode(xs) e as x where c rlike 'a.b'", "show tables in `x`", "describe t",
    "select * from range(5) where id in (1, 2)", "with x as (select 1 a) select * from x", "explain select 1",
    "select \"it's\", 'a\\'b' -- done\n",
    "select * from t tablesample (5 percent) qualify row_number() over (order by a) = 1",
], "clickhouse": [
    "select `a b`, t.c from t array join xs as x where c like 'a.b'", "show tables from `x`", "describe table t",
    "select * from numbers(5) where number in (1, 2)", "with x as (select 1 a) select * from x", "explain select 1",
    "select 'it\\'s', 'a''b' -- done\n", "select * from t final prewhere a > 1 limit 2 by b", "select map('k', 1)['k']",
    "select a.1, arrayMap(x -> x + 1, xs), toDate(d) from t sample 0.1", "select url, file from t where remote = 1",
    "select quantile(0.9)(level), uniqExact(id), argMax(a, b) from t group by x with totals",
    "select 1 union all select 2",
]}  # fmt: skip


@pytest.mark.parametrize(("parser", "text"), [(p, text) for p, texts in HARMFUL.items() for text in texts])
def test_what_may_write_is_not_taken_for_reading(parser, text):
    assert classify(text, parser).effect is not Effect.READS


@pytest.mark.parametrize(("parser", "text"), [(p, text) for p, texts in READING.items() for text in texts])
def test_what_reads_is_taken_for_that(parser, text):
    assert classify(text, parser).reads


LITERALS = [None, True, 0, -7, 2**40, 2**70, 0.1, -0.0, 1e300, 5e-324, Decimal("1.50"), Decimal("-0.001"), "", "it's",
            "a\\'b\n", "'' or 1=1 --", "ü😀", b"\x00\xff", dt.datetime(2031, 5, 28, 8, 1, 2, 5),
            dt.datetime(2031, 5, 28, 8, tzinfo=dt.timezone(dt.timedelta(hours=2)))]  # fmt: skip


@pytest.mark.parametrize(("dialect", "first_day"), [(spark.SPARK, SPARK.first_day),
                                                    (clickhouse.CLICKHOUSE, CLICKHOUSE.first_day)])  # fmt: skip
def test_literals_are_one_value_whatever_is_in_them(dialect, first_day):
    for value in (*LITERALS, first_day):
        text = dialect.literal(value, None)
        parsed = sqlglot.parse_one(f"select {text}", read=dialect.parser).expressions
        assert len(parsed) == 1, text
        if isinstance(value, str):
            assert parsed[0].this == value, text


# --- against the engines ---------------------------------------------------------------------------------------------

VALUES = {
    "i": [1, -(2**63), None], "s": [7, -7, None], "f": [0.1, float("inf"), None], "r": [0.5, 1.25, None],
    "d": [Decimal("1.5000"), Decimal("-0.0001"), None], "b": [True, False, None], "t": ["it's", "", None],
    "v": ["ü😀", "\\", None], "raw": [b"\0\xff", b"", None],
    "at": [dt.datetime(2031, 5, 28, 8, 1, 2, 500000), dt.datetime(1999, 1, 1), None],
    "z": [dt.datetime(2031, 5, 28, 8, tzinfo=UTC), dt.datetime(1950, 1, 1, tzinfo=UTC), None],
}  # fmt: skip


@LONG
def test_every_type_is_written_and_read_as_it_is(engine, kind):
    values = {n: v for n, v in VALUES.items() if n in kind.types} | {"day": [kind.first_day, kind.last_day, None]}
    made(engine, kind, "kinds", kind.types)
    assert transfer(rows_of(values), engine, Transfer("kinds")).added == 3
    assert transfer(rows_of(values), engine, Transfer("new_ones", True)).added == 3
    for name in ("kinds", "new_ones"):
        table = fetch(engine, Request(f"select * from {name} order by i nulls last")).table
        got = {field.name: column.values() for field, column in zip(table.fields, table.columns, strict=True)}
        assert got == {n: [v[place] for place in (1, 0, 2)] for n, v in values.items()}
    assert [t.name for t in engine.tables()] == ["kinds", "new_ones"]  # nothing is left of how the rows came
    one, told, two, told_two = kind.nested
    nested = fetch(engine, Request(f"select {one} as a, {two} as m")).table
    assert [c.value(0) for c in nested.columns] == [told, told_two]
    for name, held in values.items():  # as parameters, too
        found = fetch(engine, Request(f"select count(*) from kinds where {name} = :v", {"v": held[0]})).table
        assert found.columns[0].value(0) == 1, name


@LONG
def test_texts_and_doubles_go_there_and_back_as_they_are(engine):
    chance = random.Random(5)
    doubles = [struct.unpack("d", struct.pack("Q", chance.getrandbits(64)))[0] for _ in range(2000)]
    doubles = [*filter(math.isfinite, doubles), 0.1, -0.0, 5e-324, 1.7976931348623157e308]
    signs = "a'\"\\\t\n\r\0 ;%_{}:$`/*-?\u00e9\u202e\U0001f99d\x01"
    texts = ["", "\\N", "null", "{x:Int8}", "$$x$$", "\x010\x01", "x" * 5000, "'' or 1=1 --", ":x", "\\x41", "\\'"]
    texts += ["".join(chance.choices(signs, k=chance.randrange(1, 9))) for _ in range(60)]
    rows = {"n": list(range(len(doubles))), "f": doubles, "t": [texts[n % len(texts)] for n in range(len(doubles))]}
    assert transfer(rows_of(rows), engine, Transfer("odd", True)).added == len(doubles)
    table = fetch(engine, Request("select f, t from odd order by n")).table
    assert [struct.pack("d", v) for v in table.columns[0].values()] == [struct.pack("d", v) for v in doubles]
    assert table.columns[1].values() == rows["t"]
    for text in texts:
        assert fetch(engine, Request("select :x as x", {"x": text})).table.columns[0].value(0) == text


@LONG
def test_catalogue_errors_with_their_places_and_reading_only(engine, kind):
    is_spark = kind is SPARK
    name, list_type = "`a``b`", "array<string>" if is_spark else "Array(String)"
    number = "int" if is_spark else "Nullable(Int32)"
    engine.execute(Request(f"create table odd_name ({name} {number} comment 'first', c {list_type}){kind.tail}"))
    engine.execute(Request(f"create view seen as select {name} as n from odd_name"))
    tables = {t.name: t for t in engine.tables()}
    assert [(c.name, c.declared.upper(), c.word, c.comment, c.nullable) for c in tables["odd_name"].columns] == [
        ("a`b", "INT" if is_spark else "INT32", "number", "first", True),
        ("c", list_type.upper(), "list", "", is_spark),
    ]  # fmt: skip
    assert tables["seen"].kind is EntryKind.VIEW
    assert fetch(engine, Request("select n from seen")).table.fields[0].origin == "odd_name.a`b"
    with pytest.raises(QueryError, match=r"nosuch") as told:
        fetch(engine, Request("select\n  nosuch\nfrom seen"))
    assert (told.value.place.line, told.value.place.column) == (2, 3)
    with pytest.raises(QueryError, match="Syntax error"):
        engine.parse(Request("selec 1"))
    assert engine.explain(Request("select n from seen where n > :a", {"a": 1})).lines()
    assert engine.describe(tables["odd_name"]).text.lower().startswith("create table")
    for text in HARMFUL[engine.dialect.parser]:
        with pytest.raises(OtterError):
            fetch(engine, Request(text))
    assert sorted(t.name for t in engine.tables()) == ["odd_name", "seen"]
    with pytest.raises(NotReading):
        transfer_there(AskedThere("insert into seen values (1)", {}, ()), engine, Transfer("made", True))
    engine.is_read_only = True
    with pytest.raises(ChangeError, match="read-only"):
        engine.execute(Request("create table x (a int)"))
    engine.is_read_only = False
    with pytest.raises(ChangeError, match="no transactions"):
        engine.begin()


@LONG
def test_a_value_is_found_whatever_its_kind(engine, kind):
    day = dt.date(2031, 5, 28)
    values = {"t": ["Söll", "x_y"], "i": [7, 12], "day": [day, None], "d": [Decimal("2.5000"), None]}
    made(engine, kind, "sought", {name: kind.types[name] for name in values})
    transfer(rows_of(values), engine, Transfer("sought"))
    sought = [("SÖL", "t", False), ("Söl", "t", True), ("söl", "", True), ("2031-05-28", "day", False),
              ("12", "i", False), ("2.5", "d", False), ("_", "t", False), ("%", "", False)]  # fmt: skip
    for text, found, cased in sought:
        hits = list(find_value(engine, engine.tables(), Sought(text, cased)))
        assert [(hit.column, hit.rows) for hit in hits] == ([(found, 1)] if found else []), (text, hits)
        for hit in hits:
            assert fetch(engine, hit.request).table.rows == 1
    assert [hit.column for hit in find_value(engine, engine.tables(), Sought("^S.ll$", is_regex=True))] == ["t"]


@LONG
def test_a_long_query_is_stopped_and_a_limit_is_told_to_the_engine(engine, kind):
    stop = StopToken()
    timer = threading.Timer(1.5, stop.set)
    timer.start()
    began = time.monotonic()
    with pytest.raises(Stopped):
        fetch(engine, Request(kind.endless), stop)
    assert time.monotonic() - began < 15
    timer.join()
    fetched = fetch(engine, Request(kind.numbers.format(900_000_000_000), {}, 1000))
    assert (fetched.table.rows, fetched.was_cut) == (1000, True)
    whole = fetch(engine, Request(kind.numbers.format(25001)))
    assert (whole.table.rows, whole.was_cut) == (25001, False)
    assert whole.table.columns[0].values() == list(range(25001))
    assert fetch(engine, Request(f"{kind.numbers.format(5)} where 1 = 0")).table.rows == 0


@pytest.fixture
def odd(engine, kind):
    """The columns of test_upstream, as this engine has them."""

    def cell(name, text):
        if text == "null":
            return text
        if name == "b":
            return "true" if text == "1" else "false"
        return f"cast('{text}' as {kind.odd[name]})" if name in "fr" else f"cast({text} as {kind.odd[name]})"

    held = test_upstream.ROWS
    rows = [f"({', '.join([str(row), *(cell(n, held[n][row]) for n in held)])})" for row in range(8)]
    made(engine, kind, "odd_rows", {name: kind.odd[name] for name in ("id", *held)})
    engine.execute(Request(f"insert into odd_rows values {', '.join(rows)}"))
    return engine


@LONG
@pytest.mark.timeout(900)
def test_every_function_sign_and_condition_means_the_same_there(odd, kind):
    table = fetch(odd, Request("select * from odd_rows")).table
    steps = test_upstream.odd_steps()
    told = {text: test_upstream.outcome(odd, table, step) for text, step in steps}
    wrong = {text: said for text, said in told.items() if said not in ("same", "noted", "refused")}
    assert not wrong, wrong
    same = sum(said == "same" for said in told.values())
    assert same > kind.least_same
    proven("steps moved upstream", kind.name, len(told), f"{same} the same")


@LONG
def test_courses_written_there_and_rows_sent_to_a_table_that_is_there(odd, kind):
    pull = Pull("p", Source("engine", "x"), Query("select * from odd_rows where i <> :n", parameters={"n": 12}))
    generator = random.Random(3)
    pieces = [test_on_server.filtered(test_on_server.Condition("sql", text="j is not null")),
              test_on_server.computed(twice="i * 2"), test_on_server.SortStep((test_on_server.SortBy("id"),)),
              test_on_server.TopStep(4, (test_on_server.SortBy("id", True),))]  # fmt: skip
    table = fetch(odd, Request("select * from odd_rows where i <> 12")).table
    for _ in range(6):
        steps = tuple(generator.sample(pieces, 3))
        here = run_course(table, steps)
        sent, _ = write_there(Pull("p", pull.source, pull.query, steps), odd, Transfer("made", True))
        there = fetch(odd, Request("select * from made")).table
        assert sent.added == here.end.rows
        assert compare(here.end, run_course(there, ()).end).is_same, steps
        odd.execute(Request("drop table made"))
    made(odd, kind, "few", {"i": kind.odd["id"]})
    with pytest.raises(OtterError, match="have digits"):
        transfer_there(AskedThere("select 2.5 as i", {}, (Field("i", Kind.DECIMAL),)), odd, Transfer("few"))
    with pytest.raises(OtterError):  # one of its batches has no room there: nothing of the others arrives
        transfer(rows_of({"i": [*range(1200), 2**40]}), odd, Transfer("few"))
    assert odd.count("few") == 0
    assert transfer(rows_of({"i": list(range(1200))}), odd, Transfer("few")).added == 1200
    assert sorted(t.name for t in odd.tables()) == ["few", "odd_rows"]
