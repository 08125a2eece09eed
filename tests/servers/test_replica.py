"""What is held of a server: rows read from its replica, and connections, which are few and closed when unused."""

import os
import socket
import time
from contextlib import suppress

import pytest

from nimble_otter.changes import rehearse, write
from nimble_otter.errors import ConnectError, SourceError
from nimble_otter.sources import Request, Source, connect, fetch
from nimble_otter.sources.marks import reach_of, same_reach
from nimble_otter.sources.uri import parts_of, url_of
from nimble_otter.sources.urls import split_replica
from nimble_otter.sources.waits import WAITS
from nimble_otter.stop import StopToken
from tests.servers import Server
from tests.servers.lines import Line
from tests.unit.test_changes import Bench


@pytest.fixture(params=["postgresql", "mariadb"])
def lines(request):
    """A source whose rows come through a line of their own, with that line and the server's own client."""
    server = request.getfixturevalue({"postgresql": "postgres"}.get(request.param, request.param))
    line = Line(server.port)
    server.ask("create table replicated (id integer primary key, name varchar(20))", "merrow")
    server.ask("insert into replicated values (1, 'one'), (2, 'two')", "merrow")
    connection = connect(Source("s", f"{server.url}?replica=127.0.0.1:{line.port}"))
    yield connection, line, server
    connection.close()
    line.close()
    server.ask("drop table replicated", "merrow")


def turns(line, do):
    """How often the replica was spoken to."""
    before = line.turns
    do()
    return line.turns - before


def test_rows_come_from_the_replica_until_something_was_written(lines):
    connection, line, server = lines
    ask = lambda: fetch(connection, Request("select * from replicated order by id"))  # noqa: E731
    assert turns(line, ask) > 0
    assert turns(line, lambda: connection.count("replicated")) > 0
    bench = Bench(connection, "select * from replicated order by id")
    bench.set(0, "name", "mine")
    plan = bench.plan
    assert turns(line, lambda: rehearse(connection, plan)) == 0
    assert turns(line, ask) > 0
    assert turns(line, lambda: write(connection, plan)) == 0
    assert server.ask("select name from replicated where id = 1", "merrow")[0][0] == "mine"
    assert turns(line, ask) == 0  # which may not be there yet
    assert ask().table.column("name").values() == ["mine", "two"]


def test_statements_and_transactions_are_the_server_s_own(lines):
    connection, line, _ = lines
    connection.begin()
    assert turns(line, lambda: fetch(connection, Request("select 1 as one"))) == 0
    connection.end(False)
    assert turns(line, lambda: fetch(connection, Request("select 1 as one"))) > 0
    line.cut()
    line.is_refusing = True
    with pytest.raises(SourceError):
        fetch(connection, Request("select * from replicated"))
    text = "update replicated set name = 'x' where id = 2"
    assert turns(line, lambda: connection.execute(Request(text), StopToken())) == 0
    assert fetch(connection, Request("select name from replicated where id = 2")).table.columns[0].values() == ["x"]


def test_a_replica_that_is_not_there_is_named(postgres):
    with pytest.raises(ConnectError, match=r"The replica 127\.0\.0\.1:1 can't be read from"):
        connect(Source("s", f"{postgres.url}?replica=127.0.0.1:1"))
    for where in ("", "a b", "user:word@host", "host:x", "host/db"):
        with pytest.raises(ConnectError, match="not the host of a replica"):
            split_replica(f"postgresql://u@h:5/d?replica={where}")


def test_a_url_with_a_replica_keeps_its_parts():
    url = "postgresql://u@h:5433/d?sslmode=require&replica=r.example%3A77"
    assert split_replica(url) == (
        "postgresql://u@h:5433/d?sslmode=require",
        "postgresql://u@r.example:77/d?sslmode=require",
    )
    assert split_replica("mariadb://u@h:77/d?replica=r")[1] == "mariadb://u@r:77/d"
    assert split_replica("mariadb://u@h/d?replica=[::1]:8")[1] == "mariadb://u@[::1]:8/d"
    assert split_replica("mariadb://u@h/d") == ("mariadb://u@h/d", "")
    parts = parts_of(url)
    assert (parts.replica, parts.tls, parts.rest, url_of(parts)) == ("r.example:77", "required", (), url)
    assert same_reach(reach_of(url), reach_of("postgresql://x@h:5433/d"))


class Standby(Server):
    """A hot standby of a PostgreSQL server (its documentation, 27.2)."""

    def __init__(self, main):
        super().__init__("standby")
        with (main.folder / "data" / "pg_hba.conf").open("a") as file:
            file.write("host replication all all trust\n")
        main.ask("select pg_reload_conf()")
        data, where = str(self.folder / "data"), main.url.replace("/merrow", "/postgres")
        self.do(f"{main._bin}/pg_basebackup", "-d", where, "-D", data, "-R", "-X", "stream", "-c", "fast")
        self.start(f"{main._bin}/postgres", "-D", data, "-p", str(self.port), "-c", "listen_addresses=127.0.0.1",
                   "-c", f"unix_socket_directories={self.folder}")  # fmt: skip
        self.wait(self.answers)


@pytest.mark.long
@pytest.mark.timeout(120)
def test_a_standby_server_is_read_and_what_was_written_is_seen(postgres):
    postgres.ask("create table followed (id integer primary key, n integer)", "merrow")
    postgres.ask("insert into followed values (1, 0)", "merrow")
    standby, until, connection = Standby(postgres), time.monotonic() + 30, None
    try:
        while connection is None:
            assert time.monotonic() < until
            with suppress(ConnectError):
                connection = connect(Source("s", f"{postgres.url}?replica=127.0.0.1:{standby.port}"))
        asked = Request("select pg_is_in_recovery() as is_standby, n from followed where id = 1")
        postgres.ask("update followed set n = 5", "merrow")
        while fetch(connection, asked).table.columns[1].values() != [5]:
            assert time.monotonic() < until
        assert fetch(connection, asked).table.columns[0].values() == [True]
        bench = Bench(connection, "select * from followed")
        bench.set(0, "n", 6)
        assert write(connection, bench.plan).is_written
        assert [c.values() for c in fetch(connection, asked).table.columns] == [[False], [6]]
        connection.close()
    finally:
        standby.close()
        postgres.ask("drop table followed", "merrow")


KEPT = {
    "postgresql": "select count(*) from pg_stat_activity where application_name = 'nimble-otter'",
    "mariadb": "select count(*) from information_schema.processlist where user = 'root' and db = 'merrow'",
}


def test_connections_that_nobody_uses_are_closed_and_opened_again(lines, monkeypatch):
    connection, _, server = lines
    text = KEPT["postgresql" if "postgresql" in server.url else "mariadb"]
    kept = lambda: server.ask(text, "postgres" if "postgresql" in server.url else "mysql")[0][0]  # noqa: E731
    before = kept()
    assert before >= 2
    connection.rest(60)
    assert kept() == before
    connection.begin()
    connection.rest(0)
    assert fetch(connection, Request("select id from replicated")).table.rows == 2  # in the open transaction
    connection.end(False)
    connection.rest(0)
    until = time.monotonic() + 5
    while kept() > before - 2 and time.monotonic() < until:
        time.sleep(0.02)
    assert kept() <= before - 2
    assert fetch(connection, Request("select id from replicated")).table.rows == 2


def test_a_source_has_so_many_connections_at_most_and_its_lines_are_looked_after(mariadb, postgres, monkeypatch):
    monkeypatch.setattr(WAITS, "most_lines", 2)
    for server in (mariadb, postgres):
        connection = connect(Source("s", server.url))
        try:
            taken = [connection._engine.raw_connection() for _ in range(2)]
            monkeypatch.setattr(connection._engine.pool, "_timeout", 0.01)
            with pytest.raises(Exception, match="limit"):
                connection._engine.raw_connection()
            number = connection.socket_of(taken[0].driver_connection)
            with socket.socket(fileno=os.dup(number)) as line:
                assert line.getsockopt(socket.SOL_SOCKET, socket.SO_KEEPALIVE) == 1
                assert line.getsockopt(socket.IPPROTO_TCP, socket.TCP_KEEPIDLE) == 20
            for each in taken:
                each.close()
        finally:
            connection.close()
