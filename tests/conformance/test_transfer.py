"""Rows to another source: every pair of servers, new tables and those that are there, duplicates, failures."""

import datetime as dt
from decimal import Decimal

import pytest

from nimble_otter.errors import OtterError, SendError, Stopped
from nimble_otter.pull.deliver import rows_as_pulled
from nimble_otter.send import rows_of_view
from nimble_otter.send.transfer import Transfer, preview, transfer
from nimble_otter.sources import Request, Source, connect, fetch
from nimble_otter.stop import StopToken
from nimble_otter.table import View
from nimble_otter.table.core.build import table_of

SAMPLE = {
    "id": [1, 2, 3],
    "level %": [1.5, None, -0.25],
    "price": [Decimal("1.10"), Decimal("-2.25"), None],
    "ok": [True, None, False],
    "at": [dt.datetime(2031, 5, 28, 8, 1, 2, 500000), None, dt.datetime(1999, 1, 1)],
    "on": [dt.date(2031, 5, 28), None, dt.date(1850, 1, 1)],
    "text": ["it's ü😀", "", None],
    "nested": [{"a": [1, None]}, None, {"b": "x"}],
    "raw": [b"\x00\xff", None, b""],
}


def rows_of(columns, table="t"):
    made = table_of(**columns)
    return rows_of_view(made.fields, made.columns, View(made), table)


@pytest.fixture(params=["sqlite", "postgresql", "mariadb"])
def place(request, tmp_path):
    """An open connection, and what drops a table there."""
    if request.param == "sqlite":
        import sqlite3

        sqlite3.connect(tmp_path / "x.sqlite").close()
        url = f"sqlite:///{tmp_path / 'x.sqlite'}"
    else:
        url = request.getfixturevalue("postgres" if request.param == "postgresql" else "mariadb").url
    connection = connect(Source("s", url))
    drop = lambda: connection.execute(Request("drop table if exists " + connection.quoted("sent %")), StopToken())  # noqa: E731
    drop()
    yield connection
    drop()
    connection.close()


def held(connection, name="sent %"):
    return fetch(connection, Request(f"select * from {connection.quoted(name)} order by id")).table


def test_rows_become_a_table_and_are_added_to_it(place):
    moved = transfer(rows_of(SAMPLE), place, Transfer("sent %", True, ("id",)))
    assert (moved.sent, moved.added, moved.updated, moved.skipped) == (3, 3, 0, 0)
    table = held(place)
    for name in ("id", "level %", "at", "on", "text", "raw"):
        assert table.column(name).values() == SAMPLE[name], name
    assert [None if v is None else Decimal(str(v)) for v in table.column("price").values()] == SAMPLE["price"]
    assert next(t for t in place.tables() if t.name == "sent %").key == ("id",)
    with pytest.raises(SendError, match="already"):
        transfer(rows_of(SAMPLE), place, Transfer("sent %", True))
    again = {"id": [3, 4], "text": ["new three", "four"]}
    with pytest.raises(OtterError):
        transfer(rows_of(again), place, Transfer("sent %"))
    assert held(place).rows == 3  # nothing of it was kept
    moved = transfer(rows_of(again), place, Transfer("sent %", duplicates="skip"))
    assert (moved.added, moved.updated, moved.skipped) == (1, 0, 1)
    assert held(place).column("text").values() == ["it's ü😀", "", None, "four"]
    moved = transfer(rows_of(again), place, Transfer("sent %", duplicates="update"))
    assert (moved.added, moved.updated, moved.skipped) == (0, 2, 0)
    assert held(place).column("text").values()[2:] == ["new three", "four"]
    moved = transfer(rows_of({"key": [9], "words": ["x"], "no": [1]}), place,
                     Transfer("sent %", columns={"key": "id", "words": "text", "no": None}))  # fmt: skip
    assert held(place).column("id").values() == [1, 2, 3, 4, 9]


def test_many_rows_arrive_whole_or_not_at_all(place):
    count = 3000
    columns = {"id": list(range(count)), "t": [f"row {n}" for n in range(count)]}
    told = []
    transfer(rows_of(columns), place, Transfer("sent %", True, ("id",)), progress=lambda n, m: told.append((n, m)))
    assert told[-1] == (count, count)
    assert held(place).column("t").values() == columns["t"]
    columns["id"] = [n + count for n in range(count - 1)] + [0]
    with pytest.raises(OtterError):
        transfer(rows_of(columns), place, Transfer("sent %"))
    assert held(place).rows == count
    stop = StopToken()
    with pytest.raises(Stopped):
        transfer(rows_of(columns), place, Transfer("sent %", duplicates="skip"), stop, lambda n, m: stop.set())
    assert held(place).rows == count


def test_a_new_table_that_fails_half_way_is_not_left(place):
    bad = {"id": [1, 1], "t": ["a", "b"]}
    with pytest.raises(OtterError):
        transfer(rows_of(bad), place, Transfer("sent %", True, ("id",)))
    assert "sent %" not in {t.name for t in place.tables()}


def test_what_can_not_go_is_said_before(place):
    transfer(rows_of({"id": [1], "t": ["a"]}), place, Transfer("sent %", True, ("id",)))
    for rows, wanted, match in (
        ({"id": [2], "u": [1]}, Transfer("sent %"), "no column u; it has id, t"),
        ({"id": [2], "t": ["a"]}, Transfer("sent %", columns={"id": None, "t": None}), "No column"),
        ({"id": [2], "t": ["a"]}, Transfer("sent %", columns={"t": "id"}), "Two columns"),
        ({"id": [2]}, Transfer("nowhere"), "no table nowhere"),
        ({"id": [2]}, Transfer("other", True, ("x",)), "key names x"),
        ({"t": ["b"]}, Transfer("sent %", duplicates="update"), "no key"),
    ):
        with pytest.raises(SendError, match=match):
            transfer(rows_of(rows), place, wanted)
    assert held(place).rows == 1
    text = preview(rows_of(SAMPLE), Transfer("sent %", True, ("id",)), place.dialect, None)
    assert "create table" in text
    assert "primary key (id)" in text
    assert "insert into" in text
    info = next(t for t in place.tables() if t.name == "sent %")
    text = preview(rows_of({"id": [1], "t": ["a?"]}), Transfer("sent %", duplicates="skip"), place.dialect, info)
    assert "(1, 'a?')" in text
    assert "on conflict" in text or "on duplicate key" in text


def test_documents_come_from_tables_and_become_tables(place, reports, document_server):
    connection, name = connect(Source("d", document_server.url)), f"arrived_{place.dialect.key}"
    first = {"_id": [1, 2], **{k: v[:2] for k, v in SAMPLE.items()}}
    try:
        moved = transfer(rows_of(first), connection, Transfer(name))
        assert moved.added == 2
        with pytest.raises(OtterError):
            transfer(rows_of({"_id": [2, 3], "id": [7, 8]}), connection, Transfer(name))
        moved = transfer(rows_of({"_id": [2, 3], "id": [7, 8]}), connection, Transfer(name, duplicates="skip"))
        assert (moved.added, moved.skipped) == (1 if connection.count(name) == 3 else 0, 1)
        moved = transfer(rows_of({"_id": [2], "id": [7]}), connection, Transfer(name, duplicates="update"))
        assert moved.updated == 1
        table = fetch(connection, Request(f"select * from {name}")).table
        assert sorted(table.column("id").values()) == [1, 7, 8]
        assert table.column("price").values()[0].to_decimal() == Decimal("1.10")
        assert table.column("nested").values()[0] == {"a": [1, None]}
        with pytest.raises(SendError, match="_id"):
            transfer(rows_of({"id": [2]}), connection, Transfer(name, duplicates="skip"))
        assert '"_id": 1' in preview(rows_of({"_id": [1]}), Transfer("x"), connection.dialect, None)
        back = rows_as_pulled(table, name)
        moved = transfer(back, place, Transfer("sent %", True, ("_id",)))
        assert moved.added == 3
    finally:
        connection.close()


def test_values_that_the_table_would_round_are_refused_and_those_it_holds_arrive(place):
    """The server's own answer says what it would have made of them."""
    if place.dialect.key == "sqlite":
        pytest.skip("it keeps what it is given")
    at = dt.datetime(2031, 5, 28, 8, 1, 2)
    clock = "timestamp(0)" if place.dialect.key == "postgresql" else "datetime"
    columns = {
        "price": ("decimal(10,1)", [Decimal("1.10"), 2.5, 3], [Decimal("1.25"), 0.05]),
        "number": ("integer", [1, 2.0, Decimal("3.0")], [1.5, Decimal("0.5")]),
        "at": (clock, [at], [at.replace(microsecond=500000)]),
        "small": ("real" if place.dialect.key == "postgresql" else "float", [0.5, 0.1], [0.123456789]),
        "large": ("double precision", [0.1, Decimal("0.5"), 1], [Decimal("0.12345678901234567890"), 2**53 + 1]),
        "day": ("date", [at.replace(hour=0, minute=0, second=0)], [at]),
    }  # fmt: skip
    name = place.quoted("sent %")
    for column, (kind, exact, altered) in columns.items():
        place.execute(Request(f"create table {name} (id int primary key, {column} {kind})"), StopToken())
        for value in altered:
            with pytest.raises(SendError, match="would be rounded"):
                transfer(rows_of({"id": [1, 2], column: [exact[0], value]}), place, Transfer("sent %"))
        assert held(place).rows == 0
        for number, value in enumerate(exact):
            transfer(rows_of({"id": [number], column: [value]}), place, Transfer("sent %"))
        got = held(place).column(column).values()
        assert [str(v)[:10] if column == "day" else v for v in got] == [
            str(v)[:10] if column == "day" else v for v in exact
        ]
        place.execute(Request(f"drop table {name}"), StopToken())


def test_what_arrived_is_told_where_a_server_has_no_transactions(tmp_path, monkeypatch):
    import sqlite3

    from nimble_otter.sources.dialects.sqlite import SQLITE

    with sqlite3.connect(tmp_path / "x.sqlite") as base:
        base.execute("create table t (n integer check (n < 1700))")
    base.close()
    connection = connect(Source("s", f"sqlite:///{tmp_path / 'x.sqlite'}"))
    rows = rows_of({"n": list(range(2000))})
    try:
        with pytest.raises(OtterError) as plain:
            transfer(rows, connection, Transfer("t"))
        assert "were written before" not in str(plain.value)
        monkeypatch.setattr(type(SQLITE), "has_transactions", False)
        monkeypatch.setattr(type(SQLITE), "makes_tables_of_queries", False)
        with pytest.raises(SendError, match="1500 rows were written before: the server has no transactions"):
            transfer(rows, connection, Transfer("t"))
        monkeypatch.setattr(type(SQLITE), "makes_tables_of_queries", True)
        with pytest.raises(OtterError):  # by a table beside it, from which one statement brings all or none
            transfer(rows, connection, Transfer("t"))
        assert [t.name for t in connection.tables()] == ["t"]
        assert connection.count("t") == 0
    finally:
        connection.close()
