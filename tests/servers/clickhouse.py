"""ClickHouse's own engine (the package chdb) behind the HTTP interface of its server: run with the Python that has the
package, as `python clickhouse.py PORT FOLDER`. A session is a connection of the engine's own, the settings of a
request are set in it before its text runs; names and passwords are those of the one user here."""

import base64
import re
import sys
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from urllib.parse import parse_qsl, urlsplit

import chdb

_USER = ("otter", "river bank")
_TRANSPORT = {"query", "database", "query_id", "default_format", "session_id", "session_timeout", "session_check",
              "wait_end_of_query", "compress", "decompress", "enable_http_compression", "client_protocol_version",
              "send_progress_in_http_headers", "http_headers_progress_interval_ms", "quota_key", "role",
              "cancel_http_readonly_queries_on_client_close", "user", "password"}  # fmt: skip
_FORMAT = re.compile(r"\sFORMAT\s+(\w+)\s*;?\s*\Z", re.IGNORECASE)
_STREAMED = re.compile(r"(?:/\*[\w-]+\*/)?[\s(]*(?:select|with)\b", re.IGNORECASE)
_KILLED = re.compile(r"(kill query where query_id = )('[\w-]+')", re.IGNORECASE)


class _Handler(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"

    def do_POST(self):
        given = dict(parse_qsl(urlsplit(self.path).query, keep_blank_values=True))
        body = self.rfile.read(int(self.headers.get("Content-Length", 0))).decode("utf-8", "surrogateescape")
        own = base64.b64encode(":".join(_USER).encode()).decode()
        if self.headers.get("Authorization") not in (None, f"Basic {own}"):
            return self._refuse(b"Code: 516. DB::Exception: Authentication failed: wrong password", 516, 403)
        text = " ".join(part for part in (given.get("query", ""), body) if part)
        wanted = _FORMAT.search(text)
        kind = wanted[1] if wanted else given.get("default_format", "TabSeparated")
        text = _KILLED.sub(lambda m: f"kill query where startsWith(query, concat('/*', {m[2]}, '*/'))",
                           _FORMAT.sub("", text))  # fmt: skip
        if given.get("query_id"):  # the engine gives its queries numbers of its own
            text = f"/*{given['query_id']}*/{text}"
        connection = chdb.connect(self.server.folder)
        try:
            self._answer(connection, given, text, kind)
        except (RuntimeError, ValueError) as problem:
            self._failed(str(problem))
        except OSError:  # the client has gone
            self.close_connection = True
        finally:
            connection.close()

    do_GET = do_POST  # noqa: N815 - the library's name

    def _answer(self, connection, given, text, kind):
        self.is_begun = False
        if given.get("database"):
            connection.query(f"use `{given['database']}`")
        settings = [(n, v) for n, v in given.items() if n not in _TRANSPORT and not n.startswith("param_")]
        for name, value in sorted(settings, key=lambda item: item[0] == "readonly"):  # behind which nothing is set
            connection.query(f"set {name} = '{value}'")
        values = {name[6:]: value for name, value in given.items() if name.startswith("param_")}
        if kind != "Native" or not _STREAMED.match(text):
            return self._send([connection.query(text, kind, params=values).bytes()])
        stream = connection.send_query(text, kind, params=values)
        try:
            self._send(chunk.bytes() for chunk in stream)
        finally:
            stream.close()

    def _send(self, chunks):
        chunks = iter(chunks)
        first = next(chunks, b"")
        self.is_begun = True
        self.send_response(200)
        self.send_header("X-ClickHouse-Timezone", self.server.zone)
        self.send_header("Transfer-Encoding", "chunked")
        self.end_headers()
        self._chunk(first)
        for chunk in chunks:
            self._chunk(chunk)
        self.wfile.write(b"0\r\n\r\n")

    def _chunk(self, chunk):
        if chunk:
            self.wfile.write(f"{len(chunk):x}\r\n".encode() + chunk + b"\r\n")

    def _failed(self, wording):
        wording = wording[max(0, wording.find("Code: ")) :]
        code = re.match(r"Code: (\d+)", wording)
        if self.is_begun:  # as the server does: the words end what was sent
            self._chunk(wording.encode())
            self.wfile.write(b"0\r\n\r\n")
            return
        self._refuse(wording.encode(), int(code[1]) if code else 1, 500)

    def _refuse(self, wording, code, status):
        self.send_response(status)
        self.send_header("X-ClickHouse-Exception-Code", str(code))
        self.send_header("Content-Length", str(len(wording)))
        self.end_headers()
        self.wfile.write(wording)

    def log_message(self, *_):
        pass


if __name__ == "__main__":
    server = ThreadingHTTPServer(("127.0.0.1", int(sys.argv[1])), _Handler)
    server.daemon_threads, server.folder = True, sys.argv[2]
    with_one = chdb.connect(server.folder)
    with_one.query("create database if not exists merrow")
    server.zone = with_one.query("select timezone()", "TabSeparatedRaw").bytes().decode().strip()
    server.serve_forever()
