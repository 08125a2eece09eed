"""Connections that drop, hang or crawl, on real servers through a line that does just that."""

import os
import shlex
import subprocess
import threading
import time
from contextlib import closing
from dataclasses import replace

import psycopg
import pytest

from nimble_otter.errors import AuthError, ConnectError, LostError, QueryError, SourceError, SourceTimeout, Stopped
from nimble_otter.sources import Request, Source, catalogued, connect, fetch
from nimble_otter.sources.source import Listening
from nimble_otter.sources.uri import parts_of, url_of
from nimble_otter.sources.waits import WAITS
from nimble_otter.stop import StopToken
from tests.servers.lines import Line

SLOW = {"postgresql": "select pg_sleep(30)", "mariadb": "select sleep(30)"}
BUSY = {
    "postgresql": "select count(*) from pg_stat_activity where query like '%sleep(30)%' and state = 'active' "
    "and pid <> pg_backend_pid()",
    "mariadb": "select count(*) from information_schema.processlist where info like 'select sleep(30)%'",
}
MANY = {
    "postgresql": "select n, repeat('x', 100) as t from generate_series(1, 300000) n",
    "mariadb": "select seq, repeat('x', 100) as t from seq_1_to_300000",
}


@pytest.fixture(params=["postgresql", "mariadb"])
def server(request):
    found = request.getfixturevalue({"postgresql": "postgres", "mariadb": "mariadb"}[request.param])
    found.kind = request.param
    return found


@pytest.fixture
def line(server):
    made = Line(server.port)
    yield made
    made.close()


@pytest.fixture
def linked(server, line, open_base, monkeypatch):
    monkeypatch.setattr(catalogued, "IDLE_S", 0)
    return open_base(server.url.replace(str(server.port), str(line.port)))


def stop_after(seconds, stop):
    timer = threading.Timer(seconds, stop.set)
    timer.start()
    return timer


def test_a_stop_ends_the_servers_work_too(server, linked):
    stop = StopToken()
    stop_after(0.4, stop)
    began = time.monotonic()
    try:
        assert fetch(linked, Request(SLOW[server.kind]), stop).was_stopped
    except Stopped:
        pass  # where the server answers a cancel with an error
    assert time.monotonic() - began < 5
    assert server.ask(BUSY[server.kind])[0][0] == 0
    assert fetch(linked, Request("select 1 as a")).table.rows == 1


def test_a_stop_while_rows_stream_keeps_them(server, linked):
    stop = StopToken()
    fetched = fetch(linked, Request(MANY[server.kind]), stop, lambda table: stop.set())
    assert fetched.was_stopped
    assert 0 < fetched.table.rows < 300_000
    assert fetch(linked, Request("select 1 as a")).table.rows == 1


def test_a_server_that_hangs_lets_go_when_stopped(server, linked, line):
    line.hold()
    stop = StopToken()
    stop_after(0.3, stop)
    began = time.monotonic()
    with pytest.raises((Stopped, SourceError)):
        fetch(linked, Request("select 1 as a"), stop)
    assert time.monotonic() - began < 10
    line.go_on()
    assert fetch(linked, Request("select 1 as a")).table.rows == 1


def test_a_connection_that_dropped_while_idle_is_opened_again_unnoticed(linked, line):
    assert fetch(linked, Request("select 1 as a")).table.rows == 1
    line.cut()
    assert fetch(linked, Request("select 2 as a")).table.columns[0].values() == [2]
    line.cut()
    assert "reading" in [t.name for t in linked.tables()]


def test_a_connection_lost_while_rows_come_keeps_the_rows(server, linked, line):
    def cut(table):
        line.cut()

    fetched = fetch(linked, Request(MANY[server.kind]), on_snapshot=cut)
    assert isinstance(fetched.lost, LostError)
    assert fetched.is_part
    assert 0 < fetched.table.rows < 300_000
    assert fetch(linked, Request("select 1 as a")).table.rows == 1


def test_a_server_that_ends_the_connection_is_lost_and_can_be_asked_again(server, linked):
    kill = {
        "postgresql": "select pg_terminate_backend(pid) from pg_stat_activity where query like '%sleep(30)%' "
        "and pid <> pg_backend_pid()",
        "mariadb": "select concat('kill ', id) from information_schema.processlist where info like 'select sleep(30)%'",
    }[server.kind]

    def end():
        rows = server.ask(kill)
        if server.kind == "mariadb":
            server.ask(rows[0][0])

    timer = threading.Timer(0.5, end)
    timer.start()
    with pytest.raises(LostError, match="lost"):
        fetch(linked, Request(SLOW[server.kind]))
    timer.join()
    assert fetch(linked, Request("select 1 as a")).table.rows == 1


def test_a_slow_line_still_shows_its_first_rows_early(server, open_base):
    line = Line(server.port, delay_s=0.02, bytes_s=125_000)  # 1 Mbit/s
    connection = open_base(server.url.replace(str(server.port), str(line.port)))
    try:
        fetched = fetch(connection, Request("select * from reading", limit=2000))
        assert fetched.table.rows == 2000
        assert fetched.first_s < fetched.all_s
        stop = StopToken()
        stop_after(0.5, stop)
        began = time.monotonic()
        try:
            assert fetch(connection, Request(MANY[server.kind]), stop).was_stopped
        except Stopped:
            pass  # before the first rows were through
        assert time.monotonic() - began < 8
    finally:
        connection.close()
        line.close()


def test_why_a_connection_fails_is_said_in_plain_words(server, monkeypatch, tmp_path):
    monkeypatch.setattr(WAITS, "connect_s", 2)
    base, own = server.url, f"{server.port}"
    user = base.split("//")[1].split("@")[0]

    def failing(url, password=None):
        with pytest.raises(SourceError) as caught:
            connect(Source("x", url), password).close()
        assert "river bank" not in str(caught.value)
        return caught.value

    assert isinstance(failing(base.replace(f"{user}@", "otter@"), "wrong river bank"), AuthError)
    assert "no database" in str(failing(base.replace("merrow", "nowhere"))).lower() or "Unknown database" in str(
        failing(base.replace("merrow", "nowhere"))
    )
    refused = failing(base.replace(own, "9"))
    assert isinstance(refused, ConnectError)
    assert "refused" in str(refused)
    assert "name" in str(failing(base.replace("127.0.0.1", "no-such-host.invalid")))
    missing = tmp_path / "none.pem"
    option = "sslmode=verify-full&sslrootcert" if server.kind == "postgresql" else "ssl_mode=VERIFY_CA&ssl_ca"
    assert "TLS" in str(failing(f"{base}?{option}={missing}"))
    silent = Line(server.port)
    silent.hold()
    wait = "connect_timeout=2" if server.kind == "postgresql" else "connect_timeout=1&read_timeout=1"
    assert isinstance(failing(base.replace(own, str(silent.port)) + f"?{wait}"), (SourceTimeout, LostError))
    silent.close()


def test_passwords_work_and_are_nowhere_to_be_seen(server, open_base):
    user = server.url.split("//")[1].split("@")[0]
    connection = connect(Source("x", server.url.replace(f"{user}@", "otter@")), "river bank")
    try:
        assert fetch(connection, Request("select 1 as a")).table.rows == 1
        with pytest.raises(QueryError) as caught:
            fetch(connection, Request("select nothing_here from nowhere"))
        assert "river bank" not in str(caught.value) + repr(connection.__dict__)
    finally:
        connection.close()


@pytest.fixture(scope="module")
def certificate(tmp_path_factory):
    """A certificate of our own for 127.0.0.1, and its key."""
    folder = tmp_path_factory.mktemp("tls")
    command = (
        "openssl req -x509 -newkey rsa:2048 -nodes -days 2 -subj /CN=127.0.0.1 -addext subjectAltName=IP:127.0.0.1 "
        "-keyout key.pem -out cert.pem"
    )
    subprocess.run(shlex.split(command), cwd=folder, check=True, capture_output=True)
    return folder


def who_is_certified(postgres, parts, folder):
    """A user that has no password, but a certificate of its own: with it, and without."""
    for command in (
        "openssl req -newkey rsa:2048 -nodes -subj /CN=heron -keyout heron.key -out heron.csr",
        "openssl x509 -req -in heron.csr -CA cert.pem -CAkey key.pem -CAcreateserial -days 2 -out heron.pem",
    ):
        subprocess.run(shlex.split(command), cwd=folder, check=True, capture_output=True)
    (folder / "heron.key").chmod(0o600)
    rules = postgres.folder / "data" / "pg_hba.conf"
    before = rules.read_text()
    rules.write_text(f"hostssl all heron all cert\n{before}")
    postgres.ask(f"alter system set ssl_ca_file = '{postgres.folder}/cert.pem'")
    postgres.ask("create role heron login")
    postgres.ask("select pg_reload_conf()")
    try:
        own = (("sslcert", str(folder / "heron.pem")), ("sslkey", str(folder / "heron.key")))
        source = Source("x", url_of(replace(parts, user="heron", rest=own)))
        postgres.wait(lambda: _answers(source))
        with pytest.raises(SourceError):
            connect(Source("x", url_of(replace(parts, user="heron"))))
    finally:
        rules.write_text(before)
        postgres.ask("alter system reset ssl_ca_file")
        postgres.ask("drop role heron")


def _answers(source):
    try:
        connection = connect(source)
    except SourceError:
        return False
    found = fetch(connection, Request("select current_user as who")).table.columns[0].values() == ["heron"]
    connection.close()
    return found


def test_tls_is_used_and_the_certificate_checked(postgres, certificate, monkeypatch):
    for name in ("cert.pem", "key.pem"):
        target = postgres.folder / name
        target.write_bytes((certificate / name).read_bytes())
        if os.getuid() == 0:
            os.chown(target, postgres.folder.stat().st_uid, -1)
        target.chmod(0o600)
    for text in ("ssl_cert_file = '{}/cert.pem'", "ssl_key_file = '{}/key.pem'", "ssl = 'on'"):
        postgres.ask("alter system set " + text.format(postgres.folder))
    postgres.ask("select pg_reload_conf()")
    postgres.wait(lambda: postgres.ask("show ssl")[0][0] == "on")
    parts = replace(parts_of(postgres.url), tls="verified", ca=str(certificate / "cert.pem"))
    connection = connect(Source("x", url_of(parts)))
    try:
        asked = "select ssl from pg_stat_ssl where pid = pg_backend_pid()"
        assert fetch(connection, Request(asked)).table.columns[0].values() == [True]
    finally:
        connection.close()
    with pytest.raises(ConnectError, match="TLS"):
        connect(Source("x", url_of(replace(parts, host="localhost"))))  # not the name in the certificate
    who_is_certified(postgres, parts, certificate)
    postgres.ask("alter system set ssl = 'off'")
    postgres.ask("select pg_reload_conf()")
    postgres.wait(lambda: postgres.ask("show ssl")[0][0] == "off")
    with pytest.raises(ConnectError, match="TLS"):
        connect(Source("x", url_of(replace(parts, tls="required", ca=""))))


def test_nothing_can_be_written_by_a_query(server, linked):
    for text in (
        "delete from reading", "create table own (a int)", "update station set name = 'x'",
        "insert into river (river_id) values (99)",
    ):  # fmt: skip
        with pytest.raises(QueryError, match="may write"):
            fetch(linked, Request(text))
    for text in ("set session transaction read write", "commit", "rollback"):
        with pytest.raises(SourceError):
            fetch(linked, Request(text))
        with pytest.raises(QueryError, match="may write"):
            fetch(linked, Request("update station set name = 'x'"))
    assert server.ask("select count(*) from reading", "merrow")[0][0] == 4200


def test_too_many_connections_are_said(server):
    if server.kind == "postgresql":
        server.ask("create role crowd login connection limit 0")
        url = server.url.replace("postgres@", "crowd@")
    else:
        server.ask("create or replace user crowd@'127.0.0.1' with max_user_connections 1")
        server.ask("create or replace user crowd@'localhost' with max_user_connections 1")
        url = server.url.replace("root@", "crowd@").replace("/merrow", "")
    kept = connect(Source("x", url)) if server.kind == "mariadb" else None
    with pytest.raises(ConnectError, match="too many connections"):
        connect(Source("x", url))
    if kept is not None:
        kept.close()


# --- documents ---------------------------------------------------------------------------------------------------

DOCUMENTS = Request('{"kind": {"$ne": "no such kind"}}', language="native", collection="report")


@pytest.fixture
def documents(document_server, open_base):
    """A connection to the document server through a line."""
    port = int(document_server.url.split(":")[2].split("/")[0])
    line = Line(port)
    # without this the client would go to the address that the server says of itself
    connection = open_base(document_server.url.replace(str(port), str(line.port)) + "?directConnection=true")
    yield connection, line
    connection.close()  # its client would go on looking for the server while the line is closed
    line.close()


def test_documents_come_again_after_a_line_that_dropped_while_idle(documents):
    connection, line = documents
    assert fetch(connection, DOCUMENTS).table.rows == 3000
    line.cut()
    assert fetch(connection, DOCUMENTS).table.rows == 3000
    line.cut()
    assert "report" in [t.name for t in connection.tables()]


def test_what_is_told_on_a_channel_is_heard_until_it_is_stopped(postgres):
    """LISTEN and NOTIFY (PostgreSQL documentation, part VI): on a connection that otherwise only reads."""
    heard, stop, ended = [], StopToken(), threading.Event()

    def hear():
        with closing(connect(Source("s", postgres.url))) as connection:
            assert isinstance(connection, Listening)
            try:
                for said in connection.listen('odd "channel"; drop', stop):
                    heard.append(said)
            except Stopped:
                ended.set()

    hearing = threading.Thread(target=hear)
    hearing.start()
    with psycopg.connect(postgres.url, autocommit=True) as teller:
        deadline = time.monotonic() + 20
        while not heard and time.monotonic() < deadline:
            teller.execute("select pg_notify(%s, %s)", ('odd "channel"; drop', "1"))
            time.sleep(0.1)
        teller.execute("select pg_notify(%s, %s)", ("another", "no"))
        teller.execute("select pg_notify(%s, %s)", ('odd "channel"; drop', "last"))
        while heard[-1:] != ["last"] and time.monotonic() < deadline:
            time.sleep(0.05)
    assert heard[-1] == "last"
    assert set(heard) == {"1", "last"}
    stop.set()
    assert ended.wait(10)
    hearing.join(10)
