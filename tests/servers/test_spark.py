"""Spark SQL: what can be told without the engine, and in the long check everything against a real one."""

import datetime as dt
import random
import threading
import time
from contextlib import closing
from decimal import Decimal
from types import SimpleNamespace

import pytest
import sqlglot

from nimble_otter.errors import ChangeError, ClearPassword, ConnectError, NotReading, OtterError, QueryError, Stopped
from nimble_otter.pull import Pull, Query, run_course
from nimble_otter.pull.send_there import write_there
from nimble_otter.pull.upstream import compare
from nimble_otter.query.sql.effects import Effect, classify
from nimble_otter.send.literals import Literals
from nimble_otter.send.on_server import AskedThere, transfer_there
from nimble_otter.send.transfer import Transfer, transfer
from nimble_otter.sources import Request, Source, connect, fetch
from nimble_otter.sources.catalogue import EntryKind
from nimble_otter.sources.dialects.spark import SPARK
from nimble_otter.sources.drivers import spark
from nimble_otter.sources.hive_client import batch_of, rows_of
from nimble_otter.sources.script import apply_script
from nimble_otter.stop import StopToken
from nimble_otter.table import Kind, TableBuilder, View
from nimble_otter.table.core.build import table_of
from nimble_otter.table.core.columns import Field
from tests.conformance import test_on_server, test_upstream
from tests.conformance.test_transfer import rows_of as to_rows
from tests.conftest import started
from tests.proofs import proven
from tests.servers import Spark

LONG = pytest.mark.long


@pytest.fixture(scope="module")
def server():
    with started(Spark) as own:
        yield own


@pytest.fixture
def engine(server):
    with closing(connect(Source("engine", server.url))) as connection:
        yield connection
        for table in connection.tables():
            kind = "view" if table.kind is EntryKind.VIEW else "table"
            connection.execute(Request(f"drop {kind} {connection.quoted(table.name)}"))


# --- without the engine --------------------------------------------------------------------------------------------


def column(name, values, empty=()):
    """A column as the protocol gives it: one list of several, and a bit for each NULL."""
    bits = bytearray(max((place // 8 for place in empty), default=-1) + 1)
    for place in empty:
        bits[place // 8] |= 1 << place % 8
    lists = dict.fromkeys(("boolVal", "byteVal", "i16Val", "i32Val", "i64Val", "doubleVal", "stringVal", "binaryVal"))
    return SimpleNamespace(**{**lists, name: SimpleNamespace(values=list(values), nulls=bytes(bits))})


def test_columns_of_the_protocol_become_columns_of_a_table():
    texts = ["", "it's", "ü😀", "a\0b", "x" * 90]
    for chosen in (texts[:3], texts, ["x"] * 20, []):
        for empty in ((), (0,), (1, 2), (9, 17)):
            empty = [place for place in empty if place < len(chosen)]
            raw = [b"" if place in empty else text.encode() for place, text in enumerate(chosen)]
            numbered, truths = range(len(chosen)), [True] * len(chosen)
            batch = batch_of([column("stringVal", raw, empty), column("i32Val", numbered, empty),
                              column("boolVal", truths, empty), column("binaryVal", raw, empty)], ())  # fmt: skip
            wanted = [None if place in empty else text for place, text in enumerate(chosen)]
            numbers = [None if place in empty else place for place in range(len(chosen))]
            builder = TableBuilder([Field(name, Kind.TEXT) for name in "tnbr"])
            builder.append(batch)
            table = builder.table()
            assert table.columns[0].values() == wanted
            assert table.columns[1].values() == numbers
            assert table.columns[2].values() == [None if n is None else True for n in numbers]
            assert list(rows_of(batch)) == list(zip(*(c.values() for c in table.columns), strict=True))
    moments = batch_of([column("stringVal", [b"2031-05-28 08:01:02.5", b""], [1])], [0])
    builder = TableBuilder([Field("at", Kind.TEXT)], [Kind.ZONED], True)
    builder.append(moments)
    assert builder.table().columns[0].values() == [dt.datetime(2031, 5, 28, 8, 1, 2, 500000, dt.UTC), None]


VALUES = [None, True, 0, -7, 2**40, 0.1, -0.0, 1e300, 5e-324, Decimal("1.50"), Decimal("-0.001"), "", "it's", "a\\'b\n",
          "'' or 1=1 --", "ü😀", b"\x00\xff", dt.date(1, 1, 1), dt.datetime(2031, 5, 28, 8, 1, 2, 5),
          dt.datetime(2031, 5, 28, 8, tzinfo=dt.timezone(dt.timedelta(hours=2)))]  # fmt: skip


def test_literals_are_one_value_whatever_is_in_them():
    for value in VALUES:
        text = SPARK.literal(value, None)
        parsed = sqlglot.parse_one(f"select {text}", read="spark").expressions
        assert len(parsed) == 1, text
        if isinstance(value, str):
            assert parsed[0].this == value, text
    assert SPARK.literal(0.1, None) == "0.1D"
    assert SPARK.literal(Decimal("1E+3"), None) == "1000BD"
    assert SPARK.literal(VALUES[-1], None) == "timestamp '2031-05-28 06:00:00Z'"
    assert SPARK.literal(float("-inf"), None) == "double('-Infinity')"
    texts = table_of(t=["it's", "a\\b", "plain", None], f=[1.5, -0.0, 1e300, None])
    made = Literals(SPARK, SimpleNamespace(note=lambda *_: None))
    assert made.of(texts.fields[0], texts.columns[0]) == [b"'it\\'s'", b"'a\\\\b'", b"'plain'", b"null"]
    assert made.of(texts.fields[1], texts.columns[1])[:3] == [b"1.5D", b"-0.0D", b"1e+300D"]
    with pytest.raises(OtterError):
        SPARK.mark("a\x010\x01b")


HARMFUL = [
    "insert into t values (1)", "insert overwrite table t select 1", "from t insert into u select *", "add jar x",
    "drop table t", "set spark.x = 1", "select reflect('java.lang.Runtime', 'x')", "select `reflect`('a', 'b')",
    "select java_method('a', 'b')", "select transform(a) using 'sh' from t", "from t map a using 'sh' as b",
    "with x as (select 1) insert into t select * from x", "cache table t", "select 1; drop table t",
    "-- \\\n/*\ninsert into t values (1) -- */ select 1", "load data inpath 'x' into table t", "truncate table t",
    "select try_reflect('a','b')", "create table t as select 1", "refresh table t", "merge into t using u on 1 = 1",
]  # fmt: skip


@pytest.mark.parametrize("text", HARMFUL)
def test_what_may_write_is_not_taken_for_reading(text):
    assert classify(text, "spark").effect is not Effect.READS


@pytest.mark.parametrize("text", [
    "select `a b`, t.c from t lateral view explode(xs) e as x where c rlike 'a.b'", "show tables in `x`", "describe t",
    "select * from range(5) where id in (1, 2)", "with x as (select 1 a) select * from x", "explain select 1",
    "select \"it's\", 'a\\'b' -- done\n",
    "select * from t tablesample (5 percent) qualify row_number() over (order by a) = 1",
])  # fmt: skip
def test_what_reads_is_taken_for_that(text):
    assert classify(text, "spark").reads


def test_addresses_passwords_and_words_of_errors():
    where = spark._where("spark://me@h/s%20x", "secret", True)
    assert (where.host, where.port, where.user, where.schema, where.mechanism) == ("h", 10000, "me", "s x", "PLAIN")
    assert where.context is None
    own = spark._where("spark://[::1]:7/x?auth=nosasl", None, False)
    assert (own.host, own.port, own.mechanism) == ("::1", 7, "NOSASL")
    secure = spark._where("spark://h/x?tls=verified&auth=ldap", "secret", False)
    assert secure.context.check_hostname
    assert not spark._where("spark://h/x?tls=required", "secret", False).context.check_hostname
    with pytest.raises(ClearPassword):
        spark._where("spark://h/x", "secret", False)
    with pytest.raises(ConnectError, match="option"):
        connect(Source("x", "spark://h/x?conf=a"))
    with pytest.raises(ConnectError, match="could not be reached"):
        connect(Source("x", "spark://127.0.0.1:1/x"))
    raw = ("org.apache.hive.service.cli.HiveSQLException: Error running query: [TABLE_OR_VIEW_NOT_FOUND] "
           "org.apache.spark.sql.AnalysisException: [TABLE_OR_VIEW_NOT_FOUND] The table `x` cannot be found. Verify "
           "the spelling. SQLSTATE: 42P01; line 1 pos 14;\n'Project [*]\n\tat org.apache")  # fmt: skip
    assert spark._first_words(raw) == "The table `x` cannot be found"


def test_no_transaction_is_said_to_be_open_where_there_are_none():
    """A script that is rehearsed in one would be written for good."""
    connection = spark.SparkConnection.__new__(spark.SparkConnection)
    connection._dialect = SPARK
    with pytest.raises(ChangeError, match="no transactions"):
        connection.begin()
    with pytest.raises(ChangeError, match="no transactions"):
        apply_script(connection, "insert into t values (1)", Request(""), is_kept=False)
    assert connection.without_transactions(None) == "Spark SQL"


def test_a_plan_is_a_tree_with_the_rows_that_are_expected():
    text = ("== Optimized Logical Plan ==\nAggregate [a#1], [a#1], Statistics(sizeInBytes=9.0 B, rowCount=3)\n"
            "+- Join Inner, (x = y), Statistics(sizeInBytes=7.0 B)\n"
            "   :- Project [a#1], Statistics(sizeInBytes=1 B, rowCount=1.5E+6)\n"
            "   +- Range (0, 9), Statistics(sizeInBytes=72.0 B, rowCount=9)\n\n== Physical Plan ==\nx")  # fmt: skip
    plan = spark.plan_of(text)
    assert [(depth, node.name, node.rows) for depth, node in plan.lines()] == [
        (0, "aggregate", 3.0), (1, "join", None), (2, "project", 1_500_000.0), (2, "range", 9.0)
    ]  # fmt: skip


# --- against the engine ---------------------------------------------------------------------------------------------

TYPES = {
    "i": ("bigint", [1, -(2**63), None]), "s": ("smallint", [7, -7, None]), "f": ("double", [0.1, float("inf"), None]),
    "r": ("float", [0.5, 1.25, None]), "d": ("decimal(20,4)", [Decimal("1.5000"), Decimal("-0.0001"), None]),
    "b": ("boolean", [True, False, None]), "t": ("string", ["it's", "", None]),
    "v": ("varchar(9)", ["ü😀", "\\", None]),
    "day": ("date", [dt.date(1, 1, 1), dt.date(9999, 12, 31), None]), "raw": ("binary", [b"\0\xff", b"", None]),
    "at": ("timestamp_ntz", [dt.datetime(2031, 5, 28, 8, 1, 2, 500000), dt.datetime(1999, 1, 1), None]),
    "z": ("timestamp", [dt.datetime(2031, 5, 28, 8, tzinfo=dt.UTC), dt.datetime(1, 1, 1, tzinfo=dt.UTC), None]),
}  # fmt: skip


@LONG
def test_every_type_is_written_and_read_as_it_is(engine):
    engine.execute(Request(f"create table kinds ({', '.join(f'{n} {kind}' for n, (kind, _) in TYPES.items())})"))
    values = {name: held for name, (_, held) in TYPES.items()}
    assert transfer(to_rows(values), engine, Transfer("kinds")).added == 3
    table = fetch(engine, Request("select * from kinds order by i nulls last")).table
    order = [1, 0, 2]
    for name, own in zip(values, table.columns, strict=True):
        assert own.values() == [values[name][n] for n in order], name
    assert [t.name for t in engine.tables()] == ["kinds"]  # nothing is left of how the rows came
    nested = fetch(engine, Request("select array('a\"b', null) as a, map('k', struct(1 as x)) as m")).table
    assert [c.value(0) for c in nested.columns] == ['["a\\"b",null]', '{"k":{"x":1}}']
    for name, (_, held) in TYPES.items():  # as parameters, too
        found = fetch(engine, Request(f"select count(*) from kinds where {name} = :v", {"v": held[0]})).table
        assert found.columns[0].value(0) == 1, name


@LONG
def test_catalogue_errors_with_their_places_and_reading_only(engine):
    engine.execute(Request("create table odd_name (`a``b` int comment 'first', c array<string>)"))
    engine.execute(Request("create view seen as select `a``b` as n from odd_name"))
    tables = {t.name: t for t in engine.tables()}
    assert [(c.name, c.declared, c.word) for c in tables["odd_name"].columns] == [
        ("a`b", "INT", "number"), ("c", "ARRAY<STRING>", "list")
    ]  # fmt: skip
    assert tables["seen"].kind is EntryKind.VIEW
    assert fetch(engine, Request("select n from seen")).table.fields[0].origin == "odd_name.a`b"
    with pytest.raises(QueryError, match="cannot be resolved") as told:
        fetch(engine, Request("select\n  nosuch\nfrom seen"))
    assert (told.value.place.line, told.value.place.column) == (2, 3)
    with pytest.raises(QueryError, match="Syntax error"):
        engine.parse(Request("selec 1"))
    for text in HARMFUL:
        with pytest.raises(OtterError):
            fetch(engine, Request(text))
    assert sorted(t.name for t in engine.tables()) == ["odd_name", "seen"]
    with pytest.raises(NotReading):
        transfer_there(AskedThere("insert into seen values (1)", {}, ()), engine, Transfer("made", True))
    engine.is_read_only = True
    with pytest.raises(ChangeError, match="read-only"):
        engine.execute(Request("create table x (a int)"))
    engine.is_read_only = False


@LONG
def test_a_long_query_is_stopped_and_a_limit_is_told_to_the_engine(engine):
    stop = StopToken()
    timer = threading.Timer(1.5, stop.set)
    timer.start()
    began = time.monotonic()
    with pytest.raises(Stopped):
        fetch(engine, Request("select count(*) from range(1000000000) a join range(100000) b on a.id > b.id"), stop)
    assert time.monotonic() - began < 15
    timer.join()
    fetched = fetch(engine, Request("select id, cast(id as string) s from range(900000000000)", {}, 1000))
    assert (fetched.table.rows, fetched.was_cut) == (1000, True)
    whole = fetch(engine, Request("select id from range(25001)"))
    assert (whole.table.rows, whole.was_cut) == (25001, False)


KINDS = {"id": "int", "i": "bigint", "j": "int", "f": "double", "r": "float", "d": "decimal(12,3)",
         "n": "decimal(20,6)", "t": "string", "u": "varchar(20)", "c": "char(4)", "b": "boolean",
         "day": "date", "at": "timestamp_ntz", "few": "timestamp", "clock": "string", "g": "string"}  # fmt: skip


@pytest.fixture
def odd(engine):
    """The columns of test_upstream, as this engine has them."""

    def cell(name, text):
        if text == "null":
            return text
        if name == "b":
            return "true" if text == "1" else "false"
        return f"double('{text}')" if name in "fr" else f"cast({text} as {KINDS[name]})"

    held = test_upstream.ROWS
    rows = [f"({', '.join([str(row), *(cell(n, held[n][row]) for n in held)])})" for row in range(8)]
    engine.execute(Request(f"create table odd_rows ({', '.join(f'{n} {kind}' for n, kind in KINDS.items())})"))
    engine.execute(Request(f"insert into odd_rows values {', '.join(rows)}"))
    return engine


@LONG
@pytest.mark.timeout(900)
def test_every_function_sign_and_condition_means_the_same_there(odd):
    table = fetch(odd, Request("select * from odd_rows")).table
    steps = test_upstream.odd_steps()
    told = {text: test_upstream.outcome(odd, table, step) for text, step in steps}
    wrong = {text: said for text, said in told.items() if said not in ("same", "noted", "refused")}
    assert not wrong, wrong
    same = sum(said == "same" for said in told.values())
    assert same > 800
    proven("steps moved upstream", "Spark SQL", len(told), f"{same} the same")


@LONG
def test_courses_written_there_and_rows_sent_to_a_table_that_is_there(odd):
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
    odd.execute(Request("create table few (i int)"))
    with pytest.raises(OtterError, match="have digits"):
        transfer_there(AskedThere("select 2.5 as i", {}, (Field("i", Kind.DECIMAL),)), odd, Transfer("few"))
    with pytest.raises(OtterError):  # one of its batches has no room there: nothing of the others arrives
        transfer(to_rows({"i": [*range(1200), 2**40]}), odd, Transfer("few"))
    assert odd.count("few") == 0
    assert transfer(to_rows({"i": list(range(1200))}), odd, Transfer("few")).added == 1200
    assert sorted(t.name for t in odd.tables()) == ["few", "odd_rows"]
    assert View(table).row_ids().tolist()
