"""Programs killed in the middle of a write, the server's and our own: all of it is there or nothing, and what was
reported is true."""

import os
import random
import signal
import subprocess
import sys
import threading
import time
from contextlib import suppress
from pathlib import Path

import pytest

from nimble_otter.changes import Action, write
from nimble_otter.errors import ChangeError, LostError, OutcomeUnknown, Stopped
from nimble_otter.sources import Source, connect
from nimble_otter.stop import StopToken
from tests import servers
from tests.conftest import started
from tests.unit.test_changes import Bench

LONG = bool(os.environ.get("NIMBLE_OTTER_LONG"))
ROWS = 400
WRITER = """
import sys
from nimble_otter.changes import Action, write
from nimble_otter.sources import Source, connect
from nimble_otter.stop import StopToken
from tests.unit.test_changes import Bench
connection = connect(Source("w", sys.argv[1]))
bench = Bench(connection, "select * from faults order by id")
bench.edits.apply(Action("Edit", tuple((row, 1, sys.argv[2]) for row in range(bench.table.rows))))
plan = bench.plan
print("ready", flush=True)
write(connection, plan)
"""


@pytest.fixture(scope="module", params=["sqlite", "postgresql", "mariadb"])
def place(request, tmp_path_factory):
    """(URL, server) of a table of its own, on a server that keeps what it committed when it is killed."""
    if request.param == "sqlite":
        path = tmp_path_factory.mktemp("faults") / "faults.sqlite"
        path.touch()
        url = f"sqlite:///{path}"
        _fill(url)
        yield url, None
        return
    with started({"postgresql": servers.Postgres, "mariadb": servers.Mariadb}[request.param]) as server:
        safe = {"--innodb-flush-log-at-trx-commit=0": "--innodb-flush-log-at-trx-commit=2"}
        server._command = tuple(safe.get(part, part) for part in server._command)
        server.restart()
        _fill(server.url)
        yield server.url, server


def _fill(url):
    from nimble_otter.sources import Request
    from nimble_otter.stop import StopToken

    connection = connect(Source("w", url))
    connection.execute(Request("create table faults (id integer primary key, said varchar(40))"), StopToken())
    values = ", ".join(f"({n}, 'as it was')" for n in range(ROWS))
    connection.execute(Request(f"insert into faults values {values}"), StopToken())
    connection.close()


def _said(url):
    """What stands in the rows now."""
    connection = connect(Source("w", url))
    try:
        return Bench(connection, "select * from faults order by id").table.column("said").values()
    finally:
        connection.close()


def _whole(values):
    """Whether all rows hold the same: one write, or the one before it."""
    return len(values) == ROWS and len(set(values)) == 1


@pytest.mark.timeout(1800 if LONG else 60)
def test_our_program_killed_while_it_writes_leaves_all_or_nothing(place):
    url, _ = place
    root, seen = Path(__file__).parents[2], set()
    for number in range(60 if LONG else 2):
        word, chance = f"killed {number}", random.Random(number)
        before = set(_said(url))
        with subprocess.Popen(
            [sys.executable, "-c", WRITER, url, word], stdout=subprocess.PIPE, cwd=root, env={**os.environ}
        ) as writer:
            assert writer.stdout.readline() == b"ready\n"
            time.sleep(0.5 * chance.random() ** 2)
            writer.kill()
        values = _said(url)
        assert _whole(values)
        assert set(values) in (before, {word})
        seen.add(values[0] == word)
    assert not LONG or seen == {True, False}  # some were in time, some were not


def _kill_and_start(server, after_s):
    time.sleep(after_s)
    os.kill(server.process.pid, signal.SIGKILL)
    server.process.wait()
    for _ in range(60):  # what it started may live a moment longer
        server.start(*server._command)
        with suppress(RuntimeError):
            server.wait(server.is_up)
            return
        time.sleep(0.2)


@pytest.mark.timeout(1800 if LONG else 60)
def test_a_server_killed_while_it_is_written_to_is_never_reported_wrongly(place):
    url, server = place
    if server is None:
        pytest.skip("a file has no server")
    seen = set()
    for number in range(50 if LONG else 2):
        word, chance = f"server {number}", random.Random(number)
        before = set(_said(url))
        connection = connect(Source("w", url))
        bench = Bench(connection, "select * from faults order by id")
        bench.edits.apply(Action("Edit", tuple((row, 1, word) for row in range(ROWS))))
        plan, wrote = bench.plan, None
        killer = threading.Thread(target=_kill_and_start, args=(server, chance.uniform(0, 0.12)))
        killer.start()
        try:
            wrote = write(connection, plan).is_written
        except OutcomeUnknown:
            pass
        except (ChangeError, LostError) as problem:
            wrote = False if "othing was written" in str(problem) else problem
        killer.join(60)
        connection.close()
        values = _said(url)
        assert _whole(values)
        assert set(values) in (before, {word})
        assert wrote is None or wrote == (values[0] == word)
        seen.add(wrote)
    assert not LONG or False in seen


def _holding(url, server):
    """A connection of another program that has changed the first row and not committed."""
    import sqlite3

    import MySQLdb
    import psycopg

    if server is None:
        other = sqlite3.connect(url.removeprefix("sqlite:///"), isolation_level=None)
        other.execute("begin immediate")
        return other
    if url.startswith("postgresql"):
        other = psycopg.connect(url)
    else:
        other = MySQLdb.connect(host="127.0.0.1", port=server.port, user="root", database="merrow")
    other.cursor().execute("update faults set said = 'held' where id = 0")
    return other


def test_a_stop_while_another_program_holds_the_row_is_no_conflict_and_writes_nothing(place):
    """The wait for a lock ends at once, as a stop: on SQLite, too, whose library would wait for five seconds."""
    url, server = place
    connection, before = connect(Source("w", url)), _said(url)
    bench = Bench(connection, "select * from faults order by id")
    bench.edits.apply(Action("Edit", ((0, 1, "stopped"),)))
    other = _holding(url, server)
    stop, plan = StopToken(), bench.plan
    threading.Timer(0.5, stop.set).start()
    began = time.monotonic()
    with pytest.raises(Stopped):
        write(connection, plan, stop)
    assert time.monotonic() - began < 3
    other.rollback()
    other.close()
    connection.close()
    assert _said(url) == before
