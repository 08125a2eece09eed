"""Spark SQL: what can be told without the engine; test_engines.py has the rest."""

import datetime as dt
from decimal import Decimal
from types import SimpleNamespace

import pytest

from nimble_otter.errors import ChangeError, ClearPassword, ConnectError, OtterError
from nimble_otter.send.literals import Literals
from nimble_otter.sources import Request, Source, connect
from nimble_otter.sources.dialects.spark import SPARK
from nimble_otter.sources.drivers import spark
from nimble_otter.sources.hive_client import batch_of
from nimble_otter.sources.script import apply_script
from nimble_otter.table import Kind, TableBuilder
from nimble_otter.table.core.build import table_of
from nimble_otter.table.core.columns import Field


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
            assert list(batch.as_rows()) == list(zip(*(c.values() for c in table.columns), strict=True))
    moments = batch_of([column("stringVal", [b"2031-05-28 08:01:02.5", b""], [1])], [0])
    builder = TableBuilder([Field("at", Kind.TEXT)], [Kind.ZONED], True)
    builder.append(moments)
    assert builder.table().columns[0].values() == [dt.datetime(2031, 5, 28, 8, 1, 2, 500000, dt.UTC), None]


ZONED = dt.datetime(2031, 5, 28, 8, tzinfo=dt.timezone(dt.timedelta(hours=2)))


def test_literals_are_of_their_own_kinds():
    assert SPARK.literal(0.1, None) == "0.1D"
    assert SPARK.literal(Decimal("1E+3"), None) == "1000BD"
    assert SPARK.literal(ZONED, None) == "timestamp '2031-05-28 06:00:00Z'"
    assert SPARK.literal(float("-inf"), None) == "double('-Infinity')"
    texts = table_of(t=["it's", "a\\b", "plain", None], f=[1.5, -0.0, 1e300, None])
    made = Literals(SPARK, SimpleNamespace(note=lambda *_: None))
    assert made.of(texts.fields[0], texts.columns[0]) == [b"'it\\'s'", b"'a\\\\b'", b"'plain'", b"null"]
    assert made.of(texts.fields[1], texts.columns[1])[:3] == [b"1.5D", b"-0.0D", b"1e+300D"]
    with pytest.raises(OtterError):
        SPARK.mark("a\x010\x01b")


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
