"""ClickHouse: what can be told without the engine; test_engines.py has the rest."""

import datetime as dt
import random
from decimal import Decimal
from types import SimpleNamespace
from uuid import UUID
from zoneinfo import ZoneInfo

import numpy as np
import pytest

from nimble_otter.errors import AuthError, ClearPassword, ConnectError, LostError, SendError, ValueRefused
from nimble_otter.send.ddl import create_table
from nimble_otter.send.room import check_room
from nimble_otter.sources import Source, connect
from nimble_otter.sources.catalogue import ColumnInfo
from nimble_otter.sources.clickhouse_client import bare, kind_of, reader_of
from nimble_otter.sources.dialects.clickhouse import CLICKHOUSE
from nimble_otter.sources.drivers import clickhouse
from nimble_otter.sources.reached import reached
from nimble_otter.sources.singles import as_shown
from nimble_otter.table import Kind, TableBuilder
from nimble_otter.table.core.build import column_of
from nimble_otter.table.core.columns import Field
from nimble_otter.table.core.parts import ColumnBatch


def read(declared, held, zone="UTC"):
    """What a column of the package becomes in a table, as columns and as rows."""
    builder = TableBuilder([Field("v", Kind.TEXT)], [kind_of(declared)], True)
    part = reader_of(declared, zone)(held)
    builder.append(ColumnBatch([part], len(held)))
    return builder.table().columns[0].values(), [row[0] for row in ColumnBatch([part], len(held)).as_rows()]


def test_columns_of_the_package_become_columns_of_a_table():
    for declared, held, wanted in (
        ("UInt64", [1, 2**64 - 1], None), ("Nullable(Int8)", [1, None], None), ("Float64", [0.1, float("inf")], None),
        ("Float32", [0.10000000149011612, 1e10], [0.1, 1e10]), ("Nullable(Bool)", [True, None, False], None),
        ("String", [b"a", "Söll".encode(), b"\xff", b"z\0"], ["a", "Söll", "\udcff", "z\0"]),
        ("LowCardinality(Nullable(String))", [b"", None], ["", None]), ("Decimal(9, 2)", [Decimal("1.50"), None], None),
        ("Date32", [-25567, 120529], [dt.date(1900, 1, 1), dt.date(2299, 12, 31)]),
        ("Nullable(DateTime64(3))", [1500, None], [dt.datetime(1970, 1, 1, 0, 0, 1, 500000), None]),
        ("DateTime('Asia/Tokyo')", [0], [dt.datetime(1970, 1, 1, tzinfo=dt.UTC)]),
        ("DateTime64(9)", [1_000_000_001, 0], ["1970-01-01 00:00:01.000000001", "1970-01-01 00:00:00.000000000"]),
        ("IntervalDay", [3, 1, None], ["3 days", "1 day", None]), ("Array(Int8)", [[1, None], []], None),
        ("Tuple(String, Map(String, Date))", [(b"\xff", {b"k": dt.date(2031, 1, 1)})],
         [["\udcff", {"k": dt.date(2031, 1, 1)}]]),
        ("UUID", [UUID(int=5)], [str(UUID(int=5))]),
    ):  # fmt: skip
        table, _ = read(declared, held)
        assert table == (held if wanted is None else wanted), declared
    assert bare("LowCardinality(Nullable(Enum8('a(b' = 1)))") == "Enum8('a(b' = 1)"


@pytest.mark.parametrize("zone", ["Europe/Paris", "America/Sao_Paulo", "Asia/Kathmandu", "Australia/Lord_Howe"])
def test_times_without_a_zone_are_told_by_the_clocks_of_the_server(zone):
    chance = random.Random(2)
    seconds = [chance.randrange(-2_000_000_000, 4_000_000_000) for _ in range(3000)]
    wanted = [(dt.datetime(1970, 1, 1, tzinfo=dt.UTC) + dt.timedelta(seconds=s)).astimezone(ZoneInfo(zone))
              .replace(tzinfo=None) for s in seconds]  # fmt: skip
    since = [at for at, moment in enumerate(wanted) if moment.year > 1945]  # before, zones were off by odd seconds
    table, _ = read("DateTime64(0)", [seconds[at] for at in since], zone)
    assert table == [wanted[at] for at in since]


def test_numbers_of_single_precision_are_their_shortest_decimals():
    bits = np.random.default_rng(1).integers(0, 2**32, 200_000, dtype=np.uint64).astype(np.uint32)
    odd = [f"1e{power}" for power in range(-45, 39)] + ["0", "-0", "nan", "inf", "-inf", "16777217", "0.3", "123456.7"]
    values = np.concatenate([bits.view(np.float32), np.array(odd, np.float32)])
    values = values[~np.isnan(values)]
    got, wanted = as_shown(values), values.astype("U").astype(np.float64)
    assert (got == wanted).all()
    assert (np.signbit(got) == np.signbit(wanted)).all()
    assert np.isnan(as_shown(np.array(["nan"], np.float32))).all()


ZONED = dt.datetime(2031, 5, 28, 8, tzinfo=dt.timezone(dt.timedelta(hours=2)))


def test_literals_are_of_their_own_kinds():
    assert CLICKHOUSE.literal(Decimal("1E+3"), None) == "toDecimal256('1000', 0)"
    assert CLICKHOUSE.literal(ZONED, None) == "toDateTime64('2031-05-28 06:00:00', 6, 'UTC')"
    for early in (dt.date(1899, 12, 31), dt.datetime(2300, 1, 1)):
        with pytest.raises(ValueRefused, match="1900-01-01 to 2299-12-31"):
            CLICKHOUSE.literal(early, None)
    with pytest.raises(ValueRefused, match="skipped by the clocks of Europe/Paris"):
        CLICKHOUSE.in_zone("Europe/Paris").parameter(dt.datetime(2031, 3, 30, 2, 30))
    assert CLICKHOUSE.in_zone("Europe/Paris").parameter(dt.datetime(2031, 3, 30, 3, 30))
    with pytest.raises(ValueRefused, match="control character"):
        CLICKHOUSE.mark("a\x010\x01b")


def test_parameters_are_sent_apart_and_long_ones_as_literals():
    text, values = clickhouse._bound("select :a, :b, ':a', :a", {"a": "it's", "b": "x" * 3000})
    assert text == "select {p0:String}, '" + "x" * 3000 + "', ':a', {p0:String}"
    assert values == {"p0": "it's"}
    for value, word in ((True, "Bool"), (5, "Int64"), (2**70, "Int256"), (0.5, "Float64"), (None, "Nullable(String)"),
                        (Decimal("1.50"), "Decimal(76, 2)"), (dt.date(2031, 1, 1), "Date32")):  # fmt: skip
        assert clickhouse._bound("select :v", {"v": value})[0] == f"select {{p0:{word}}}"


def test_a_new_table_has_an_order_and_a_key_without_null():
    fields = [
        Field("id", Kind.INT),
        Field("t", Kind.TEXT),
        Field("a", Kind.TEXT, exact="Array(Int8)", server="clickhouse"),
    ]
    text = create_table("made", fields, (), ("id",), CLICKHOUSE)
    assert "id Int64 not null" in text
    assert "t Nullable(String)" in text
    assert "a Array(Int8)" in text
    assert text.endswith("primary key (id)\n)\nengine = MergeTree")
    assert create_table("made", fields[1:], (), (), CLICKHOUSE).endswith("engine = MergeTree\norder by tuple()")


@pytest.mark.parametrize(("declared", "held", "fits"), [
    ("Int8", [127, -128], True), ("Int8", [128], False), ("UInt8", [-1], False), ("UInt64", [2**63], True),
    ("Int64", [1.5], False), ("Decimal(76, 40)", [Decimal(10) ** 36], False), ("Decimal(76, 40)", [Decimal(9)], True),
    ("Decimal(9, 2)", [Decimal("1234567.89")], True), ("Decimal(9, 2)", [Decimal("12345678")],
    False), ("Decimal(9, 2)", [Decimal("1.234")], False), ("Date", [dt.date(1970, 1, 1)], True),
    ("Date", [dt.date(1969, 12, 31)], False), ("DateTime", [dt.datetime(2106, 1, 1)], True),
    ("DateTime", [dt.datetime(2107, 1, 1)], False), ("DateTime", [dt.datetime(2031, 1, 1, 0, 0, 0, 1)], False),
    ("DateTime64(3, 'UTC')", [dt.datetime(1900, 1, 1, 0, 0, 0, 1000)], True), ("Float32", [0.5], True),
    ("DateTime64(3, 'UTC')", [dt.datetime(1900, 1, 1, 0, 0, 0, 1)], False), ("Float32", [0.123456789], False),
    ("Float64", [0.123456789], True), ("String", ["x" * 300], True),
])  # fmt: skip
def test_values_without_room_are_found_before_they_are_sent(declared, held, fits):
    column, there = column_of(held), ColumnInfo("v", declared, "number", exact=declared)
    if fits:
        check_room(column, there, CLICKHOUSE)
        return
    with pytest.raises(SendError, match=r"no room|rounded"):
        check_room(column, there, CLICKHOUSE)


def test_addresses_passwords_and_words_of_errors():
    at = reached("clickhouse://me@h/s%20x", 8123, "secret", True)
    assert (at.host, at.port, at.user, at.password, at.path, at.context()) == ("h", 8123, "me", "secret", "s x", None)
    assert reached("clickhouse://[::1]:7/x", 8123, "p", False).port == 7
    assert reached("clickhouse://h/x?tls=verified", 8123, "secret", False).context().check_hostname
    assert not reached("clickhouse://h/x?tls=required", 8123, "secret", False).context().check_hostname
    with pytest.raises(ClearPassword):
        reached("clickhouse://h/x", 8123, "secret", False)
    with pytest.raises(ConnectError, match="option"):
        connect(Source("x", "clickhouse://h/x?session_id=a"))
    with pytest.raises(ConnectError, match=r"127.0.0.1:1 could not be reached: .*refused"):
        connect(Source("x", "clickhouse://127.0.0.1:1/x"))
    own = clickhouse.ClickhouseConnection.__new__(clickhouse.ClickhouseConnection)
    own._at, own._is_open = at, True
    text = "select 1 fron t"
    raw = ("Code: 62. DB::Exception: Syntax error: failed at position 20 (fron) (line 1, col 20): fron t\n). Expected "
           "one of: token, Comma, FROM. (SYNTAX_ERROR) (version 26.9.2.1 (official build))")  # fmt: skip
    told = own.translate_error(OSError(raw), text)
    assert told.message == "The server says: Syntax error: near fron."
    assert (told.place.start, told.place.end) == (9, 13)
    raw = ("Code: 47. DB::Exception: Unknown expression identifier `lvl` in scope SELECT lvl. Maybe you meant: "
           "['level']. (UNKNOWN_IDENTIFIER)")  # fmt: skip
    told = own.translate_error(OSError(raw), "select a,\n lvl from t")
    assert (told.message, told.hint) == ("The server says: Unknown expression identifier `lvl`.",
                                         "The nearest names are level.")  # fmt: skip
    assert (told.place.line, told.place.column) == (2, 2)
    raw = raw.replace("47", "62").replace("Unknown", "Syntax error: failed at position 19 ()): )\n. Expected one of: x")
    told = own.translate_error(OSError(raw), "select 1 +")
    assert (told.message, told.place.start) == ("The server says: Syntax error: the query ends too early.", 9)
    assert isinstance(own.translate_error(OSError("reset"), text), LostError)
    assert own.translate_error(KeyError("x"), text) is None
    own._is_open = False
    assert isinstance(own.translate_error(OSError("Code: 516. DB::Exception: no"), text), AuthError)


@pytest.mark.parametrize(("told", "sent"), [({"value": "0", "readonly": 0}, {"readonly": "1"}),
    ({"value": "1", "readonly": 1}, {"readonly": "1"}), ({"value": "2", "readonly": 1}, {}),
    ({"value": "0", "readonly": 1}, None)])  # fmt: skip
def test_reading_is_held_to_it_or_not_begun(told, sent):
    own = clickhouse.ClickhouseConnection.__new__(clickhouse.ClickhouseConnection)
    own._at = reached("clickhouse://me@h/x", 8123, None, False)
    own._client = SimpleNamespace(server_settings={"readonly": SimpleNamespace(**told)})  # others are not known to it
    if sent is None:
        with pytest.raises(ConnectError, match="me may not be held to reading"):
            own._open()
    else:
        assert own._open()._settings == sent


def test_a_plan_is_a_tree():
    node = {"Node Type": "Sorting", "Description": "by a", "Plans": [{"Node Type": "ReadFromMergeTree"}]}
    assert [(depth, n.name, n.detail) for depth, n in clickhouse.plan_of(node).lines()] == [
        (0, "sorting", "by a"), (1, "readfrommergetree", "")
    ]  # fmt: skip
