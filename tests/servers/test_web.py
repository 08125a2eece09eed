"""JSON and CSV over HTTP, from a service on this machine that answers well, badly, and with bad intent."""

import base64
import gzip
import json
import socket
import threading
import time
from decimal import Decimal
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

import pytest

from nimble_otter.cli import main
from nimble_otter.errors import AuthError, ChangeError, ClearPassword, ConnectError, SourceError, Stopped
from nimble_otter.sources import Request, Source, connect, fetch, web_client
from nimble_otter.sources.drivers import web
from nimble_otter.sources.source import check_writable
from nimble_otter.stop import StopToken

READINGS = [{"id": n, "river": ["Merrow", "Sallow"][n % 2], "level": n / 4, "at": f"2031-05-{n + 1:02}T06:30:00",
             "ok": n % 3 == 0, "note": None if n % 4 else "ice", "tags": [n]} for n in range(20)]  # fmt: skip
CSV = (
    'station;level;code;long;far\r\nAlder Weir;0.25;007;0.1234567890123456789;1e400\r\n"Stone; Leat";1.5;;2;1e-400\r\n'
)


class Handler(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"

    def log_message(self, *_):
        pass

    def give(self, body, status=200, kind="application/json", **headers):
        body = json.dumps(body) if kind.endswith("/json") and not isinstance(body, bytes) else body
        body = body.encode() if isinstance(body, str) else body
        self.send_response(status)
        for name, value in {"Content-Type": kind, "Content-Length": len(body), **headers}.items():
            self.send_header(name.replace("_", "-"), str(value))
        self.end_headers()
        self.wfile.write(body)

    def do_GET(self):
        self.server.asked.append((self.path, dict(self.headers)))
        path, _, query = self.path.partition("?")
        at = int(query.partition("=")[2] or 0)
        port = self.server.server_port
        if path == "/rows.json":
            self.give(self.server.rows)
        elif path == "/nested":
            self.give({"meta": {"n": 1}, "data": {"items": READINGS}})
        elif path == "/two":
            self.give({"river": [{"name": "Merrow"}], "station": [{"id": 1}, {"id": 2, "name": "Alder Weir"}]})
        elif path == "/pages":
            more = {"next": f"/pages?at={at + 5}"} if at < 15 else {"next": None}
            self.give({"rows": READINGS[at : at + 5], "links": more})
        elif path == "/linked":
            link = {"Link": f'</linked?at={at + 5}>; rel="next", </linked>; rel=first'} if at < 15 else {}
            self.give(READINGS[at : at + 5], **link)
        elif path == "/elsewhere":
            self.give({"rows": READINGS, "next": "http://127.0.0.2:1/x"})
        elif path == "/levels.csv":
            self.give(CSV, kind="text/csv; charset=utf-8")
        elif path == "/lines.jsonl":
            self.give("\n".join(map(json.dumps, READINGS)), kind="application/x-ndjson")
        elif path == "/marked":
            if self.headers.get("If-None-Match") == '"7"':
                self.give(b"", 304)
            else:
                self.give(READINGS, ETag='"7"')
        elif path == "/packed":
            self.give(gzip.compress(json.dumps(READINGS).encode()), Content_Encoding="gzip")
        elif path == "/bomb":
            self.give(gzip.compress(b"[" + b" " * (8 << 20)), Content_Encoding="gzip")
        elif path == "/secret":
            self.give(READINGS if self.headers.get("Authorization") == self.server.wanted else {}, 200 if
                      self.headers.get("Authorization") == self.server.wanted else 401)  # fmt: skip
        elif path == "/key":
            self.give(READINGS, 200 if self.headers.get("X-Api-Key") == "river bank" else 403)
        elif path == "/busy":
            self.server.busy -= 1
            self.give(READINGS, 503 if self.server.busy >= 0 else 200, Retry_After="0")
        elif path == "/round":
            self.give(b"", 302, Location="/round")
        elif path == "/moved":
            self.give(b"", 302, Location="/rows.json")
        elif path == "/away":
            self.give(b"", 302, Location=f"http://localhost:{port}/secret")
        elif path == "/file":
            self.give(b"", 302, Location="file:///etc/passwd")
        elif path in ("/endless", "/slow", "/cut"):
            self.send_response(200)
            self.send_header("Content-Type", "application/json")
            if path == "/cut":
                self.send_header("Content-Length", "1000")
            self.end_headers()
            self.wfile.write(b"[")
            self.close_connection = True
            while path != "/cut" and not self.server.is_over:
                try:
                    self.wfile.write(b" " * (1 << 16 if path == "/endless" else 1))
                    time.sleep(0 if path == "/endless" else 0.05)
                except OSError:
                    return
        elif path == "/page.html":
            self.give("<html><body>Sign in</body></html>", kind="text/html")
        elif path == "/deep":
            self.give(b"[" * 100_000)
        elif path == "/odd":
            self.give([{"a": 1}, "x"])
        else:
            self.give({}, 404)


@pytest.fixture(scope="module")
def service():
    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    server.daemon_threads, server.asked, server.rows, server.is_over = True, [], READINGS, False
    thread = threading.Thread(target=server.serve_forever)
    thread.start()
    server.base = f"http://127.0.0.1:{server.server_port}"
    yield server
    server.is_over = True
    server.shutdown()
    server.server_close()
    thread.join()


@pytest.fixture
def opened():
    made = []

    def open_(url, password=None, **marks):
        made.append(connect(Source("s", url, **marks), password))
        return made[-1]

    yield open_
    for connection in made:
        connection.close()


def asked(connection, text, stop=None):
    return fetch(connection, Request(text), *([stop] if stop else [])).table


def test_json_is_asked_like_any_table_and_anew_at_each_run(service, opened, monkeypatch):
    service.rows = READINGS
    connection = opened(f"{service.base}/rows.json")
    assert [(t.name, [c.name for c in t.columns]) for t in connection.tables()] == [("rows", list(READINGS[0]))]
    table = asked(connection, "select * from rows order by id")
    assert [column.kind.value for column in table.columns] == [
        "integer", "text", "number", "time", "yes/no", "text", "text"]  # fmt: skip
    for n, name in enumerate(READINGS[0]):
        if name not in ("at", "tags"):
            assert table.columns[n].values() == [row[name] for row in READINGS]
    assert [value.isoformat() for value in table.columns[3].values()] == [row["at"] for row in READINGS]
    grouped = asked(connection, "select river, sum(level) as n from rows where ok group by river order by river")
    assert grouped.columns[1].values() == [
        sum(r["level"] for r in READINGS if r["ok"] and r["river"] == name) for name in ("Merrow", "Sallow")
    ]
    service.rows = [*READINGS, {"id": 99, "river": "Tarnbeck", "depth": 2}]
    assert asked(connection, "select count(*) from rows").columns[0].values() == [20]  # it was asked a moment ago
    monkeypatch.setattr(web, "FRESH_S", 0)
    assert asked(connection, "select count(*), max(depth) from rows").columns[0].values() == [21]
    assert "depth" in [c.name for c in connection.tables()[0].columns]
    service.rows = {"gate": [{"id": 1}], "station": [{"id": 2}]}
    assert asked(connection, "select id from gate").rows == 1
    assert sorted(t.name for t in connection.tables()) == ["gate", "station"]
    service.rows = READINGS


def test_more_pages_than_are_asked_for_are_told_and_not_left_out(service, opened, monkeypatch):
    monkeypatch.setattr(web, "_PAGES", 3)
    with pytest.raises(ConnectError, match="more than 3 pages"):
        connect(Source("s", f"{service.base}/linked"))
    assert asked(opened(f"{service.base}/linked#pages=3"), "select * from linked").rows == 15  # as it was said
    assert asked(opened(f"{service.base}/linked#pages=4"), "select * from linked").rows == 20


def test_nothing_is_written_to_a_service(service, opened):
    connection = opened(f"{service.base}/rows.json")
    with pytest.raises(ChangeError):
        check_writable(connection)
    with pytest.raises(SourceError):
        fetch(connection, Request("delete from rows"))
    with pytest.raises(ChangeError), connection.transaction():
        pass


@pytest.mark.parametrize(
    ("path", "count"),
    [("/nested#at=data.items", 20), ("/pages#at=rows&next=links.next", 20),
     ("/pages#at=rows&next=links.next&pages=2", 10), ("/linked", 20), ("/lines.jsonl", 20), ("/packed", 20),
     ("/moved", 20), ("/rows.json?limit=5#at=3.tags", 1)],
)  # fmt: skip
def test_rows_are_found_where_they_are(service, opened, path, count):
    connection = opened(service.base + path)
    (table,) = connection.tables()
    assert asked(connection, f'select * from "{table.name}"').rows == count


def test_lists_under_names_are_tables_and_csv_keeps_its_codes(service, opened):
    assert sorted(t.name for t in opened(f"{service.base}/two").tables()) == ["river", "station"]
    table = asked(opened(f"{service.base}/levels.csv"), "select * from levels")
    assert [c.values() for c in table.columns] == [
        ["Alder Weir", "Stone; Leat"], [0.25, 1.5], ["007", None], ["0.1234567890123456789", "2"],
        ["1e400", "1e-400"]]  # fmt: skip


def test_what_is_not_new_is_not_sent_again(service, opened, monkeypatch):
    monkeypatch.setattr(web, "FRESH_S", 0)
    connection = opened(f"{service.base}/marked")
    file = connection.path
    assert asked(connection, "select count(*) from marked").columns[0].values() == [20]
    assert (connection.path, service.asked[-1][1].get("If-None-Match")) == (file, '"7"')


def test_secrets_go_to_their_host_alone_and_not_in_clear(service, opened):
    service.wanted = "Basic " + base64.b64encode(b"otter:river bank").decode()
    named = service.base.replace("//", "//otter@")
    assert opened(f"{named}/secret", "river bank").tables()
    service.wanted = "Bearer river bank"
    assert opened(f"{service.base}/secret", "river bank").tables()
    assert opened(f"{named.replace('otter', 'bearer')}/secret", "river bank").tables()
    assert opened(f"{service.base}/key#header=X-Api-Key", "river bank").tables()
    for url, password in ((f"{named}/secret", "wrong"), (f"{service.base}/key", "river bank")):
        with pytest.raises(AuthError):
            opened(url, password)
    with pytest.raises(AuthError):  # the other name of the host is not told
        opened(f"{service.base}/away", "river bank")
    assert "Authorization" not in service.asked[-1][1]
    with pytest.raises(ClearPassword):
        opened("http://otter@levels.example/x", "river bank")


@pytest.mark.parametrize(
    ("path", "says"),
    [
        ("/none", "nothing at /none"), ("/page.html", "neither JSON nor CSV .text/html"),
        ("/deep", "nested too deeply"),
        ("/round", "redirects without end"), ("/file", "to none of the web"), ("/cut", "broke off"),
        ("/nested#at=data.rows", "has no data.rows"), ("/nested#at=meta.n", "there are no rows"),
        ("/rows.json#where=x", "not an option"), ("/rows.json#pages=x", "not a number"),
        ("/elsewhere#at=rows&next=next", "on another host"),
    ],
)  # fmt: skip
def test_bad_answers_are_told_and_never_taken(service, opened, path, says):
    with pytest.raises(SourceError, match=says):
        opened(service.base + path)


def test_answers_without_end_are_ended(service, opened, monkeypatch):
    monkeypatch.setattr(web_client, "MOST_BYTES", 1 << 20)
    for path in ("/endless", "/bomb"):
        with pytest.raises(ConnectError, match="longer than 1 MB"):
            opened(service.base + path)
    monkeypatch.setattr(web_client, "PATIENCE_S", 0.3)
    with pytest.raises(SourceError, match="did not end"):
        opened(f"{service.base}/slow")


def test_a_slow_answer_is_stopped_and_the_rows_of_before_stay(service, opened, monkeypatch):
    monkeypatch.setattr(web, "FRESH_S", 0)
    connection = opened(f"{service.base}/rows.json")
    stop, connection._url = StopToken(), f"{service.base}/slow"
    threading.Timer(0.2, stop.set).start()
    begun = time.monotonic()
    with pytest.raises(Stopped):
        asked(connection, "select * from rows", stop)
    assert time.monotonic() - begun < 3
    monkeypatch.setattr(web, "FRESH_S", 60)
    assert asked(connection, "select count(*) from rows").columns[0].values() == [20]


def test_a_busy_service_is_asked_again_and_a_silent_one_is_told(service, opened):
    service.busy = 2
    assert opened(f"{service.base}/busy").tables()
    service.busy = 9
    with pytest.raises(ConnectError, match="status 503"):
        opened(f"{service.base}/busy")
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        with pytest.raises(ConnectError, match="can't be reached"):
            opened(f"http://127.0.0.1:{probe.getsockname()[1]}/x")
    for url in ("http:///x", "http://no.such.host.invalid/x", "http://127.0.0.1:99999/x", "http://exa mple/x"):
        with pytest.raises(SourceError):
            opened(url)


def test_a_public_service_does_not_lead_into_the_local_network(service, opened, monkeypatch):
    monkeypatch.setattr(web_client, "_is_public", lambda url: "127.0.0.1" in url)
    with pytest.raises(ConnectError, match="into the local network"):
        opened(f"{service.base}/away")


def test_numbers_and_texts_of_every_kind_come_as_they_are(service, opened):
    long = "0.12345678901234567890123"
    rows = ['{"a": 9007199254740993, "b": 1.5, "c": "\\ud800x", "d": ' + long + ', "e": 10000000000000000000000}',
            '{"a": 1, "b": 2, "c": "é\\u0000y", "d": 1.5, "e": 2}',
            '{"a": NaN, "A": true, "f": {"x": [1]}}']  # fmt: skip
    service.rows = None
    monkey = Handler.give
    try:
        Handler.give = lambda self, body, *more, **others: monkey(self, f"[{','.join(rows)}]".encode())
        table = asked(opened(f"{service.base}/rows.json"), "select * from rows")
    finally:
        Handler.give, service.rows = monkey, READINGS
    values = {f.name: c.values() for f, c in zip(table.fields, table.columns, strict=True)}
    assert values["a"] == [9007199254740993, 1, "NaN"]
    assert (values["b"], values["A (2)"], values["f"][2]) == ([1.5, 2.0, None], [None, None, True], '{"x": [1]}')
    assert (values["c"][0][-1], values["c"][1]) == ("x", "é\0y")
    assert Decimal(values["d"][0]) == Decimal(long)
    assert (int(values["e"][0]), values["e"][1]) == (10**22, 2)


def test_the_command_line_asks_a_service_by_its_address(service, capsys):
    words = [
        "query",
        "--source",
        f"{service.base}/levels.csv",
        "--sql",
        "select station from levels",
        "--format",
        "csv",
    ]
    assert main(words) == 0
    assert "Stone; Leat" in capsys.readouterr().out
