"""Pulling columns of every type, against the bare client's own loop over the same rows.

    .venv/bin/python -m benchmarks.kinds [ROWS] [SERVER ...]

Servers: postgresql mariadb sqlite duckdb clickhouse, each started for the run. A row is (id, v, v). A line gives, by
type, the ratio to the bare loop (best of three, turn about).
"""

from __future__ import annotations

import sqlite3
import sys
import tempfile
import time
from collections.abc import Callable
from contextlib import closing
from pathlib import Path
from typing import Any

from tests import servers

from nimble_otter.memory import settle
from nimble_otter.sources import Request, Source, connect, fetch

TIMES = 3
POSTGRESQL = {
    "int4": "n * 7", "int8": "n * 7000000000", "float8": "n / 3.7::float8", "numeric": "(n / 8.0)::numeric(12, 2)",
    "numeric, any scale": "n::numeric / (n % 9 + 1)", "bool": "n % 3 = 0", "text, few": "'station ' || n % 42",
    "text, many": "'note ' || n", "date": "date '2001-01-01' + n % 9000",
    "timestamp": "timestamp '2031-01-01' + n * interval '1 second'",
    "timestamp, digits": "timestamp '2031-01-01' + n * interval '1.0371 second'",
    "timestamptz": "timestamptz '2031-01-01' + n * interval '1 second'",
    "timestamptz, digits": "timestamptz '2031-01-01' + n * interval '1.0371 second'",
    "time": "time '00:00' + n * interval '1.037 second'", "interval": "n * interval '37.5 second'",
    "interval, days": "n * interval '1 day 37.5 second'", "uuid": "md5(n::text)::uuid",
    "bytea": "decode(md5(n::text), 'hex')",
    "jsonb": "jsonb_build_object('a', n, 'b', array[n, 2])", "int[]": "array[n, n + 1]",
    "text[]": "array['a' || n, 'b']",
    "inet": "'10.0.0.0'::inet + n", "half NULL": "case when n % 2 = 0 then n end",
}  # fmt: skip
MARIADB = {
    "int": "seq * 7", "bigint": "seq * 7000000000", "double": "seq / 3.7e0",
    "decimal": "cast(seq / 8 as decimal(12, 2))",
    "text, few": "concat('station ', seq % 42)", "text, many": "concat('note ', seq)",
    "date": "date_add('2001-01-01', interval seq % 9000 day)",
    "datetime": "date_add('2031-01-01 00:00:00', interval seq second)",
    "datetime(6)": "cast(date_add('2031-01-01 00:00:00', interval seq * 1.0371 second) as datetime(6))",
    "time": "sec_to_time(seq)", "blob": "unhex(md5(seq))", "half NULL": "if(seq % 2, seq, null)",
}  # fmt: skip
SQLITE = {
    "integer": "n * 7", "real": "n / 3.7", "text, few": "'station ' || (n % 42)", "text, many": "'note ' || n",
    "date": "date('2001-01-01', (n % 9000) || ' days')", "timestamp": "datetime('2031-01-01', n || ' seconds')",
    "blob": "randomblob(16)", "half NULL": "case when n % 2 then n end",
}  # fmt: skip
DUCKDB = {
    "int": "n * 7", "double": "n / 3.7", "decimal": "(n / 8.0)::decimal(12, 2)", "boolean": "n % 3 = 0",
    "text, few": "'station ' || n % 42", "text, many": "'note ' || n", "date": "date '2001-01-01' + (n % 9000)::int",
    "timestamp": "timestamp '2031-01-01' + to_seconds(n)", "timestamptz": "timestamptz '2031-01-01' + to_seconds(n)",
    "time": "time '00:00' + to_seconds(n)", "uuid": "md5(n::text)::uuid", "blob": "unhex(md5(n::text))",
    "half NULL": "case when n % 2 = 0 then n end",
}  # fmt: skip
CLICKHOUSE = {
    "Int32": "toInt32(number * 7)", "Int64": "toInt64(number * 7000000000)", "Float64": "number / 3.7",
    "Float32": "toFloat32(number / 3.7)", "Decimal": "toDecimal64(number / 8, 2)", "Bool": "toBool(number % 3 = 0)",
    "String, few": "concat('station ', toString(number % 42))", "String, many": "concat('note ', toString(number))",
    "LowCardinality": "toLowCardinality(concat('station ', toString(number % 42)))",
    "Date": "toDate('2001-01-01') + number % 9000", "DateTime": "toDateTime('2031-01-01 00:00:00') + number",
    "DateTime64": "toDateTime64('2031-01-01 00:00:00', 3) + number", "UUID": "reinterpretAsUUID(MD5(toString(number)))",
    "Array": "[number, number + 1]", "half NULL": "if(number % 2 = 0, number, null)",
}  # fmt: skip


def race(name: str, url: str, rows: int, bare: Callable[[str], int], texts: dict[str, str]) -> None:
    """Both ways turn about, type by type."""
    connection = connect(Source(name, url))
    worst = 0.0
    for kind, text in texts.items():
        ours, sticks = [], []
        for _ in range(TIMES):
            began = time.perf_counter()
            assert bare(text) == rows
            sticks.append(time.perf_counter() - began)
            began = time.perf_counter()
            fetched = fetch(connection, Request(text), on_snapshot=lambda table: None)
            ours.append(time.perf_counter() - began)
            assert fetched.table.rows == rows
        ratio = min(ours) / min(sticks)
        worst = max(worst, ratio)
        print(f"{name}, {kind}: {ratio:.2f} ({fetched.table.columns[1].kind.value}; {min(sticks):.2f} s)", flush=True)
    connection.close()
    print(f"{name}: at most {worst:.2f}", flush=True)


def postgresql(rows: int) -> None:
    import psycopg

    with closing(servers.Postgres()) as server:
        texts = {}
        for at, (kind, value) in enumerate(POSTGRESQL.items()):
            made = f"select n as id, {value} as v, {value} as w from generate_series(1, {rows}) n"
            server.ask(f"create table k{at} as {made}", "merrow")
            texts[kind] = f"select * from k{at}"

        def bare(text: str) -> int:
            with psycopg.connect(server.url) as connection, connection.cursor() as cursor:
                return sum(1 for _ in cursor.stream(text, size=1000))

        race("postgresql", server.url, rows, bare, texts)


def mariadb(rows: int) -> None:
    import MySQLdb
    from MySQLdb.cursors import SSCursor

    with closing(servers.Mariadb()) as server:
        texts = {}
        for at, (kind, value) in enumerate(MARIADB.items()):
            server.ask(
                f"create table k{at} as select seq as id, {value} as v, {value} as w from seq_1_to_{rows}", "merrow"
            )
            texts[kind] = f"select * from k{at}"

        def bare(text: str) -> int:
            with closing(
                MySQLdb.connect(host="127.0.0.1", port=server.port, user="root", db="merrow", cursorclass=SSCursor)
            ) as connection:
                return drained(connection.cursor(), text)

        race("mariadb", server.url, rows, bare, texts)


def sqlite(rows: int) -> None:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "k.sqlite"
        with closing(sqlite3.connect(path)) as base:
            texts = {}
            for at, (kind, value) in enumerate(SQLITE.items()):
                declared = kind.partition(",")[0].replace("half NULL", "integer")
                base.execute(f"create table k{at} (id integer, v {declared}, w {declared})")
                base.execute(
                    f"with recursive s (n) as (select 1 union all select n + 1 from s where n < {rows}) "
                    f"insert into k{at} select n, {value}, {value} from s"
                )
                texts[kind] = f"select * from k{at}"
            base.commit()
            race("sqlite", f"sqlite:///{path}", rows, lambda text: drained(base.cursor(), text), texts)


def duckdb(rows: int) -> None:
    import duckdb as client

    with tempfile.TemporaryDirectory() as folder:
        path, texts = Path(folder) / "k.duckdb", {}
        with client.connect(str(path)) as base:
            for at, (kind, value) in enumerate(DUCKDB.items()):
                made = f"select n as id, {value} as v, {value} as w from range(1, {rows + 1}) as of (n)"
                base.execute(f"create table k{at} as {made}")
                texts[kind] = f"select * from k{at}"

        def bare(text: str) -> int:
            with client.connect(str(path), read_only=True) as base:
                return drained(base, text)

        race("duckdb", f"duckdb:///{path}", rows, bare, texts)


def clickhouse(rows: int) -> None:
    from clickhouse_connect import get_client

    with closing(servers.Clickhouse()) as server:
        client = get_client(host="127.0.0.1", port=server.port, username="otter", password="river bank", compress=False,
                            database="merrow", autogenerate_session_id=False)  # fmt: skip
        texts = {}
        for at, (kind, value) in enumerate(CLICKHOUSE.items()):
            made = f"select number as id, {value} as v, {value} as w from numbers({rows})"
            client.command(f"create table k{at} engine = MergeTree order by id as {made}")
            texts[kind] = f"select * from k{at}"

        def bare(text: str) -> int:
            with client.query_rows_stream(text) as stream:
                return sum(1 for _ in stream)

        race("clickhouse", server.url, rows, bare, texts)


def drained(cursor: Any, text: str) -> int:
    cursor.execute(text)
    count = 0
    while batch := cursor.fetchmany(1000):
        count += len(batch)
    return count


if __name__ == "__main__":
    settle()
    given = int(sys.argv[1]) if len(sys.argv) > 1 else 200_000
    for name in sys.argv[2:] or ("sqlite", "postgresql", "mariadb"):
        {"sqlite": sqlite, "postgresql": postgresql, "mariadb": mariadb, "duckdb": duckdb, "clickhouse": clickhouse}[
            name
        ](given)
