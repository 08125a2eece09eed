"""A stand-in for an OData service: serves the tables of an SQLite file on a free loopback port, as the standard says
(OASIS OData 4.01, part 1), with what is needed of it taken apart strictly. Entities are changed by their ETags, several
in a change set. It exists so that the demo, and tests, need no service of others.
"""

from __future__ import annotations

import base64
import email
import hashlib
import json
import re
import sqlite3
import threading
from collections.abc import Mapping, Sequence
from contextlib import closing
from dataclasses import dataclass
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from urllib.parse import parse_qsl, unquote, urlsplit

from nimble_otter.sources.sqlite_file import quote_name
from nimble_otter.values import Value

PAGE = 400
_TYPES = {"integer": "Edm.Int64", "real": "Edm.Double", "text": "Edm.String", "date": "Edm.Date", "blob": "Edm.Binary",
          "timestamp": "Edm.DateTimeOffset", "boolean": "Edm.Boolean", "decimal": "Edm.Decimal"}  # fmt: skip
_TOKEN = re.compile(r"\s*('(?:[^']|'')*'|[()]|[\w.:+-]+)")
_SIGNS = {"eq": "=", "ne": "is not", "gt": ">", "ge": ">=", "lt": "<", "le": "<=", "and": "and", "or": "or", "(": "(",
          ")": ")"}  # fmt: skip
_SPACE = "http://docs.oasis-open.org/odata/ns/edm"
_ROOT = "/svc/"


@dataclass(frozen=True, slots=True)
class _Answer:
    status: int
    body: bytes = b""
    kind: str = "application/json"
    etag: str = ""


class _Refused(Exception):
    def __init__(self, status: int, message: str) -> None:
        super().__init__(message)
        self.status = status


class EntityService(ThreadingHTTPServer):
    """Serves until `close`. What a service may do otherwise can be set: `unknown` options are refused, `following` is
    what it names as the next part, `password` the header that signs in, `gives_etags` and `takes_batches`. `asked` are
    the paths that were asked for."""

    daemon_threads = True

    def __init__(self, path: Path) -> None:
        super().__init__(("127.0.0.1", 0), _Handler)
        self.path, self.asked, self.password = path, list[str](), ""
        self.unknown, self.following, self.gives_etags, self.takes_batches = set[str](), "", True, True
        self.tables, self.keys, self.metadata = _described(path)
        self.url = f"odata+http://127.0.0.1:{self.server_port}{_ROOT}"
        self._lock = threading.Lock()
        self._thread = threading.Thread(target=self.serve_forever, args=(0.05,), name="demo service", daemon=True)
        self._thread.start()

    def close(self) -> None:
        """Stop answering and end its thread."""
        self.shutdown()
        self.server_close()
        self._thread.join()

    # --- reading -----------------------------------------------------------------------------------------------

    def read(self, path: str) -> _Answer:
        """What stands behind a path. Raises: _Refused."""
        parts = urlsplit(path)
        name, _, more = unquote(parts.path).removeprefix(_ROOT).partition("/")
        if not name:
            sets = [{"name": n, "kind": "EntitySet", "url": n} for n in self.tables]
            return _json({"@odata.context": "$metadata", "value": sets})
        if name == "$metadata":
            return _Answer(200, self.metadata.encode(), "application/xml")
        if name not in self.tables or more not in ("", "$count"):
            raise _Refused(404, "no such set")
        with closing(sqlite3.connect(self.path)) as base:
            if more:
                count = base.execute(f"select count(*) from {quote_name(name)}").fetchone()[0]
                return _Answer(200, str(count).encode(), "text/plain")
            try:
                return _json(self._page(base, name, dict(parse_qsl(parts.query))))
            except (ValueError, sqlite3.Error) as problem:
                raise _Refused(400, str(problem)) from problem

    def _page(self, base: sqlite3.Connection, name: str, options: Mapping[str, str]) -> dict[str, Value]:
        if not options.keys() <= {"$select", "$filter", "$orderby", "$top", "$skip"} - self.unknown:
            raise ValueError("an option that is not known")
        columns = self.tables[name]
        wanted = options["$select"].split(",") if "$select" in options else list(columns)
        if not columns.keys() >= set(wanted):
            raise ValueError("$select")
        text = f"select * from {quote_name(name)}"
        if "$filter" in options:
            text += f" where {condition_of(options['$filter'], columns)}"
        order = [term.split() for term in options.get("$orderby", "").split(",") if term]
        if any(term[0] not in columns or term[1:] not in ([], ["desc"]) for term in order):
            raise ValueError("$orderby")
        text += f" order by {', '.join(' '.join(term) for term in order) or '1'}"
        skip, top = int(options.get("$skip", 0)), options.get("$top")
        size = PAGE if top is None else min(PAGE, int(top) - skip)
        found = base.execute(f"{text} limit {size} offset {skip}").fetchall()
        rows = [self._entity(name, row, wanted) for row in found]
        answer: dict[str, Value] = {"@odata.context": "$metadata", "value": rows}
        if len(rows) == PAGE and (top is None or skip + PAGE < int(top)):
            kept = {k: v for k, v in options.items() if k != "$skip"} | {"$skip": str(skip + PAGE)}
            told = "&".join(f"{k}={v}".replace(" ", "%20").replace("'", "%27") for k, v in kept.items())
            answer["@odata.nextLink"] = self.following or f"{name}?{told}"
        return answer

    def _entity(self, name: str, row: Sequence[Value], wanted: Sequence[str]) -> dict[str, Value]:
        columns = self.tables[name]
        values = {c: _given(kind, v) for (c, kind), v in zip(columns.items(), row, strict=True) if c in wanted}
        return ({"@odata.etag": etag_of(row)} if self.gives_etags else {}) | values

    # --- changing ----------------------------------------------------------------------------------------------

    def change(self, wanted: Sequence[tuple[str, str, Mapping[str, str], bytes]]) -> list[_Answer]:
        """Requests that change something, all or none, as (method, path, headers, body). Raises: _Refused."""
        with self._lock, closing(sqlite3.connect(self.path, isolation_level=None, timeout=5)) as base:
            base.execute("pragma foreign_keys = on")
            base.execute("begin immediate")
            answers = []
            for method, path, headers, body in wanted:
                try:
                    answers.append(self._changed(base, method, unquote(urlsplit(path).path), headers, body))
                except (ValueError, sqlite3.Error) as problem:
                    raise _Refused(
                        409 if isinstance(problem, sqlite3.IntegrityError) else 400, str(problem)
                    ) from problem
            base.execute("commit")
            return answers

    def _changed(
        self, base: sqlite3.Connection, method: str, path: str, headers: Mapping[str, str], body: bytes
    ) -> _Answer:
        match = re.fullmatch(rf"{_ROOT}(\w+)(?:\((.+)\))?", path, re.DOTALL)
        if match is None or match[1] not in self.tables:
            raise _Refused(404, "no such set")
        name, place = match[1], quote_name(match[1])
        given = json.loads(body) if body else {}
        if not self.tables[name].keys() >= given.keys():
            raise _Refused(400, "a property that is not known")
        values = {column: _taken(self.tables[name][column], value) for column, value in given.items()}
        columns, marks = ", ".join(map(quote_name, values)), ", ".join("?" * len(values))
        if method == "POST" and match[2] is None:
            base.execute(f"insert into {place} ({columns}) values ({marks})", list(values.values()))
            row = base.execute(f"select * from {place} where rowid = last_insert_rowid()").fetchone()
            return _Answer(201, json.dumps(self._entity(name, row, list(self.tables[name]))).encode())
        if match[2] is None or method not in ("PATCH", "DELETE"):
            raise _Refused(405, "not here")
        where, key = self._where(name, match[2])
        row = base.execute(f"select * from {place} where {where}", key).fetchone()
        if row is None:
            raise _Refused(404, "no such entity")
        if self.gives_etags and headers.get("if-match") != etag_of(row):
            raise _Refused(412 if "if-match" in headers else 428, "the entity was changed meanwhile")
        if method == "DELETE":
            base.execute(f"delete from {place} where {where}", key)
        elif values:
            told = ", ".join(f"{quote_name(column)} = ?" for column in values)
            base.execute(f"update {place} set {told} where {where}", [*values.values(), *key])
        return _Answer(204)

    def _where(self, name: str, text: str) -> tuple[str, list[Value]]:
        names = self.keys[name]
        parts = re.findall(r"(?:(\w+)=)?('(?:[^']|'')*'|[^,']+)(?:,|$)", text)
        if {n for n, _ in parts} != (set(names) if len(names) > 1 else {""}):
            raise _Refused(400, "the key")
        given = {n or names[0]: v[1:-1].replace("''", "'") if v[0] == "'" else json.loads(v) if v.lstrip("-").isdigit()
                 else v for n, v in parts}  # fmt: skip
        return " and ".join(f"{quote_name(n)} = ?" for n in names), [given[n] for n in names]


class _Handler(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    server: EntityService

    def log_message(self, *_: object) -> None:
        pass

    def do_GET(self) -> None:
        self._do(lambda body: self.server.read(self.path))

    def do_POST(self) -> None:
        self._do(self._batch if unquote(self.path) == f"{_ROOT}$batch" else self._change)

    def do_PATCH(self) -> None:
        self._do(self._change)

    def do_DELETE(self) -> None:
        self._do(self._change)

    def _do(self, answer_of: Value) -> None:
        body = self.rfile.read(int(self.headers.get("Content-Length") or 0))
        self.server.asked.append(unquote(self.path))
        try:
            if self.server.password and self.headers.get("Authorization") != self.server.password:
                raise _Refused(401, "no")
            answer = answer_of(body)
        except _Refused as problem:
            answer = _told(problem)
        self.send_response(answer.status)
        self.send_header("Content-Type", answer.kind)
        self.send_header("Content-Length", str(len(answer.body)))
        self.end_headers()
        self.wfile.write(answer.body)

    def _change(self, body: bytes) -> _Answer:
        headers = {name.lower(): value for name, value in self.headers.items()}
        return self.server.change([(self.command, self.path, headers, body)])[0]

    def _batch(self, body: bytes) -> _Answer:
        if not self.server.takes_batches:
            raise _Refused(404, "no batches")
        whole = email.message_from_bytes(f"Content-Type: {self.headers['Content-Type']}\r\n\r\n".encode() + body)
        lines = list[str]()
        for part in whole.get_payload():
            assert not isinstance(part, str)
            if part.get_content_type() == "application/http":
                lines += _written(self._read_part(part), "outer")
                continue
            inside = part.get_payload()
            wanted = [_request_of(each) for each in inside if not isinstance(each, str)]
            self.server.asked += [f"{method} {unquote(urlsplit(path).path)}" for method, path, _, _ in wanted]
            try:
                answers = self.server.change(wanted)
                told = [line for answer in answers for line in _written(answer, "inner")]
                lines += ["--outer", "Content-Type: multipart/mixed; boundary=inner", "", *told, "--inner--"]
            except _Refused as problem:  # one answer for all of the set
                lines += _written(_told(problem), "outer")
        return _Answer(200, "\r\n".join([*lines, "--outer--", ""]).encode(), "multipart/mixed; boundary=outer")

    def _read_part(self, part: Value) -> _Answer:
        method, path, _, _ = _request_of(part)
        try:
            if method != "GET":
                raise _Refused(400, "outside of a change set")
            return self.server.read(path)
        except _Refused as problem:
            return _told(problem)


def _request_of(part: Value) -> tuple[str, str, dict[str, str], bytes]:
    head, _, body = part.get_payload(decode=True).partition(b"\r\n\r\n")
    first, *lines = head.decode().split("\r\n")
    method, path, _ = first.split(" ")
    headers = {name.lower(): value.strip() for name, _, value in (line.partition(":") for line in lines)}
    return method, path, headers, body[: int(headers.get("content-length") or 0)]


def _written(answer: _Answer, mark: str) -> list[str]:
    return [f"--{mark}", "Content-Type: application/http", "Content-Transfer-Encoding: binary", "",
            f"HTTP/1.1 {answer.status} -", f"Content-Type: {answer.kind}", "", answer.body.decode()]  # fmt: skip


def _json(value: Value) -> _Answer:
    return _Answer(200, json.dumps(value).encode())


def _told(problem: _Refused) -> _Answer:
    return _Answer(problem.status, json.dumps({"error": {"code": "", "message": str(problem)}}).encode())


def etag_of(row: Sequence[Value]) -> str:
    """The same for the same values, types included."""
    return f'W/"{hashlib.sha256(repr(tuple(row)).encode()).hexdigest()[:16]}"'


def condition_of(text: str, columns: Mapping[str, str]) -> str:
    """A $filter as SQL. Raises: ValueError for anything that is not comparisons joined by and, or."""
    parts, at = [], 0
    while at < len(text.rstrip()):
        token = _TOKEN.match(text, at)
        if token is None:
            raise ValueError(text[at:])
        word, at = token[1], token.end()
        if word in _SIGNS:
            parts.append(_SIGNS[word])
        elif word in columns:
            parts.append(quote_name(word))
        elif word.startswith("'"):
            parts.append(f"{word} collate nocase")  # as many services compare
        elif re.fullmatch(r"-?\d+(\.\d+)?", word):
            parts.append(word)
        elif re.fullmatch(r"\d{4}-\d\d-\d\d", word):
            parts.append(f"'{word}'")
        else:
            raise ValueError(word)
    return " ".join(parts)


def _given(kind: str, value: Value) -> Value:
    if isinstance(value, bytes):
        return base64.urlsafe_b64encode(value).decode().rstrip("=")
    if kind == "Edm.DateTimeOffset" and value is not None:
        return value.replace(" ", "T") + (":00Z" if len(value) == 16 else "Z")
    return bool(value) if kind == "Edm.Boolean" and value is not None else value


def _taken(kind: str, value: Value) -> Value:
    """A value of a request as it is stored. Raises: ValueError, where it is not of its type."""
    if value is None:
        return None
    types: Mapping[str, tuple[type, ...]] = {"Edm.Int64": (int,), "Edm.Double": (int, float), "Edm.Boolean": (bool,),
                                             "Edm.Decimal": (str, int, float)}  # fmt: skip
    if not isinstance(value, types.get(kind, (str,))):
        raise ValueError(f"{value!r} is not of {kind}")
    if isinstance(value, bool):
        return int(value)
    if not isinstance(value, str):
        return value
    if kind == "Edm.Binary":
        return base64.urlsafe_b64decode(value + "=" * (-len(value) % 4))
    if kind == "Edm.DateTimeOffset":
        if not re.fullmatch(r"\d{4}-\d\d-\d\dT\d\d:\d\d(:\d\d(\.\d+)?)?Z", value):
            raise ValueError(f"{value!r} is not of {kind}")
        return re.sub(r"(:\d\d):00$", r"\1", value[:-1].replace("T", " "))
    return value


def _described(path: Path) -> tuple[dict[str, dict[str, str]], dict[str, list[str]], str]:
    """Tables with the types of their columns, their keys, and the $metadata of the service."""
    with closing(sqlite3.connect(path)) as base:
        names = [row[0] for row in base.execute("select name from sqlite_master where type = 'table' order by 1")]
        info = {n: base.execute(f"pragma table_info({quote_name(n)})").fetchall() for n in names}
        links = {n: base.execute(f"pragma foreign_key_list({quote_name(n)})").fetchall() for n in names}
    tables = {n: {c[1]: _TYPES.get(c[2].lower().partition("(")[0], "Edm.String") for c in info[n]} for n in names}
    keys = {n: [c[1] for c in sorted(info[n], key=lambda c: c[5]) if c[5]] for n in names}
    types, sets = [], []
    for n in names:
        key = "".join(f'<PropertyRef Name="{each}"/>' for each in keys[n])
        properties = "".join(
            f'<Property Name="{c[1]}" Type="{tables[n][c[1]]}" Nullable="{"false" if c[3] else "true"}"/>'
            for c in info[n]
        )
        ways = "".join(
            f'<NavigationProperty Name="to_{k[3]}" Type="M.{k[2]}"><ReferentialConstraint Property="{k[3]}" '
            f'ReferencedProperty="{k[4]}"/></NavigationProperty>'
            for k in links[n]
            if k[1] == 0
        )
        types.append(f'<EntityType Name="{n}"><Key>{key}</Key>{properties}{ways}</EntityType>' if key else
                     f'<EntityType Name="{n}">{properties}</EntityType>')  # fmt: skip
        bound = "".join(f'<NavigationPropertyBinding Path="to_{k[3]}" Target="{k[2]}"/>' for k in links[n])
        sets.append(f'<EntitySet Name="{n}" EntityType="M.{n}">{bound}</EntitySet>')
    text = (
        f'<edmx:Edmx Version="4.0" xmlns:edmx="{_SPACE}x"><edmx:DataServices><Schema Namespace="M" xmlns="{_SPACE}">'
        f'{"".join(types)}<EntityContainer Name="C">{"".join(sets)}</EntityContainer></Schema>'
        "</edmx:DataServices></edmx:Edmx>"
    )
    return tables, keys, text
