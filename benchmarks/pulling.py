"""Pulling N rows of 12 columns into the table engine, against the bare driver's own fetch loop of the same rows.

    .venv/bin/python -m benchmarks.pulling [ROWS] [KIND ...]

Kinds: sqlite postgresql mariadb documents. Each is a server of its own, started for the run (see tests/servers). A line
gives the ratio to the bare loop (best of three, turn about), the milliseconds to the first snapshot, and the memory
that the engine holds a row. Ratios, not times, are to be compared between machines.
"""

from __future__ import annotations

import datetime as dt
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
_COLUMNS = "id int, a int, f double precision, d numeric(12, 2), t timestamp, dd date, s varchar(40), n varchar(40), "
_COLUMNS += "e int, b int, g double precision, q varchar(20)"


def values(n: int) -> tuple[Any, ...]:
    at = dt.datetime(2031, 1, 1) + dt.timedelta(seconds=n)
    return (
        n, n * 7 % 97, n / 3.7, round(n / 8, 2), at.isoformat(" "), at.date().isoformat(), f"station {n % 42}",
        f"note {n}", n % 5 or None, n % 2, n * 1.5, "good",
    )  # fmt: skip


def race(name: str, url: str, rows: int, bare: Callable[[], int], text: str = "select * from m") -> None:
    """Both ways turn about, and what the first rows and the memory came to."""
    connection = connect(Source(name, url))
    connection.tables()
    ours, sticks, firsts, nbytes = [], [], [], 0
    for _ in range(TIMES):
        began = time.perf_counter()
        assert bare() == rows
        sticks.append(time.perf_counter() - began)
        began = time.perf_counter()
        fetched = fetch(connection, Request(text), on_snapshot=lambda table: None)
        ours.append(time.perf_counter() - began)
        firsts.append(fetched.first_s)
        assert fetched.table.rows == rows
        nbytes = fetched.table.nbytes
    connection.close()
    print(
        f"{name}: {rows} rows, {min(ours) / min(sticks):.2f} of the bare loop ({min(sticks):.2f} s), first rows "
        f"{min(firsts) * 1000:.0f} ms, {nbytes / rows:.0f} bytes a row held",
        flush=True,
    )


def drain(cursor: Any) -> int:
    count = 0
    while batch := cursor.fetchmany(1000):
        count += len(batch)
    return count


def sqlite(rows: int) -> None:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "m.sqlite"
        with closing(sqlite3.connect(path)) as base:
            base.execute(f"create table m ({_COLUMNS})")
            base.executemany(f"insert into m values ({', '.join('?' * 12)})", map(values, range(1, rows + 1)))
            base.commit()
            race("sqlite", f"sqlite:///{path}", rows, lambda: drain(base.execute("select * from m")))


def postgresql(rows: int) -> None:
    import psycopg

    with closing(servers.Postgres()) as server:
        server.ask(
            "create table m as select n as id, n * 7 % 97 as a, n / 3.7::float as f, (n / 8.0)::numeric(12, 2) as d, "
            "timestamp '2031-01-01' + n * interval '1 second' as t, date '2001-01-01' + n % 9000 as dd, "
            "'station ' || n % 42 as s, 'note ' || n as n, nullif(n % 5, 0) as e, n % 2 as b, n * 1.5::float as g, "
            f"'good'::text as q from generate_series(1, {rows}) n",
            "merrow",
        )

        def bare() -> int:
            with psycopg.connect(server.url) as connection, connection.cursor() as cursor:
                return sum(1 for _ in cursor.stream("select * from m", size=1000))

        race("postgresql", server.url, rows, bare)


def mariadb(rows: int) -> None:
    import MySQLdb
    from MySQLdb.constants import FIELD_TYPE as T
    from MySQLdb.converters import conversions
    from MySQLdb.cursors import SSCursor

    with closing(servers.Mariadb()) as server:
        server.ask(
            "create table m as select seq as id, seq * 7 % 97 as a, seq / 3.7e0 as f, cast(seq / 8 as decimal(12, 2)) "
            "as d, date_add('2031-01-01 00:00:00', interval seq second) as t, date_add('2001-01-01', interval seq % "
            "9000 day) as dd, concat('station ', seq % 42) as s, concat('note ', seq) as n, nullif(seq % 5, 0) as e, "
            f"seq % 2 as b, seq * 1.5e0 as g, 'good' as q from seq_1_to_{rows}",
            "merrow",
        )
        fast = dict(conversions) | {T.DATETIME: dt.datetime.fromisoformat, T.DATE: dt.date.fromisoformat}

        def bare() -> int:
            with closing(
                MySQLdb.connect(
                    host="127.0.0.1", port=server.port, user="root", db="merrow", conv=fast, cursorclass=SSCursor
                )
            ) as connection:
                cursor = connection.cursor()
                cursor.execute("select * from m")
                return drain(cursor)

        race("mariadb", server.url, rows, bare)


def documents(rows: int) -> None:
    from pymongo import MongoClient

    rows = min(rows, 20_000)  # the server of the tests is not lazy
    with closing(servers.Documents()) as server, MongoClient(server.url) as client:
        names = "a b c d e f g h i j k".split()  # noqa: SIM905
        batch = [
            dict(zip(names, values(n)[1:], strict=True)) | {"inner": {"x": n, "list": [n, n]}} for n in range(rows)
        ]
        for start in range(0, rows, 5000):
            client.merrow.m.insert_many(batch[start : start + 5000])
        race("documents", server.url, rows, lambda: sum(1 for _ in client.merrow.m.find(batch_size=1000)))


def main() -> None:
    rows = int(sys.argv[1]) if len(sys.argv) > 1 else 1_000_000
    settle()
    kinds = {"sqlite": sqlite, "postgresql": postgresql, "mariadb": mariadb, "documents": documents}
    for name in sys.argv[2:] or kinds:
        kinds[name](rows)


if __name__ == "__main__":
    main()
