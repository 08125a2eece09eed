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
from urllib.parse import parse_qsl, quote, unquote, urlsplit

from nimble_otter.demo.entity_options import branches_of, condition_of, groups_of
from nimble_otter.sources.odata import text_literal
from nimble_otter.sources.sqlite_file import quote_name
from nimble_otter.values import Value

PAGE, INNER_PAGE = 400, 30
_TYPES = {"integer": "Edm.Int64", "real": "Edm.Double", "text": "Edm.String", "date": "Edm.Date", "blob": "Edm.Binary",
          "timestamp": "Edm.DateTimeOffset", "boolean": "Edm.Boolean", "decimal": "Edm.Decimal"}  # fmt: skip
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
    """Serves until `close`. What a service may do otherwise can be set: `unknown` options are refused, `ignored` ones
    passed over, `following` is what it names as the next part, `password` the header that signs in, `gives_etags`,
    `takes_batches`, and `folds`: texts are equal whatever the case of their letters. `asked` are the paths that were
    asked for."""

    daemon_threads = True

    def __init__(self, path: Path) -> None:
        super().__init__(("127.0.0.1", 0), _Handler)
        self.path, self.asked, self.password = path, list[str](), ""
        self.unknown, self.ignored, self.following = set[str](), set[str](), ""
        self.gives_etags, self.takes_batches, self.folds = True, True, False
        self.tables, self.keys, self.ways, self.metadata = _described(path)
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
        options = {k: v for k, v in parse_qsl(parts.query) if k not in self.ignored}
        with closing(sqlite3.connect(self.path)) as base:
            try:
                if more:
                    where = self._where_of(name, options)
                    count = base.execute(f"select count(*) from {quote_name(name)}{where}").fetchone()[0]
                    return _Answer(200, str(count).encode(), "text/plain")
                return _json(self._groups(base, name, options) if "$apply" in options else
                             self._page(base, name, options, PAGE))  # fmt: skip
            except (ValueError, sqlite3.Error) as problem:
                raise _Refused(400, str(problem)) from problem

    def _groups(self, base: sqlite3.Connection, name: str, options: Mapping[str, str]) -> dict[str, Value]:
        if options.keys() != {"$apply"} or "$apply" in self.unknown:
            raise ValueError("an option that is not known")
        text, kinds = groups_of(options["$apply"], name, self.tables[name], self.folds)
        rows = [dict(zip(kinds, row, strict=True)) for row in base.execute(text)]
        told = [{column: _given(kinds[column], value) for column, value in row.items()} for row in rows]
        return {"@odata.context": f"$metadata#{name}({','.join(kinds)})", "value": told}

    def _where_of(self, name: str, options: Mapping[str, str]) -> str:
        return (
            f" where {condition_of(options['$filter'], self.tables[name], self.folds)}" if "$filter" in options else ""
        )

    def _page(self, base: sqlite3.Connection, name: str, options: Mapping[str, str], page: int) -> dict[str, Value]:
        if not options.keys() <= {"$select", "$filter", "$orderby", "$top", "$skip", "$expand"} - self.unknown:
            raise ValueError("an option that is not known")
        columns = self.tables[name]
        wanted = options["$select"].split(",") if "$select" in options else list(columns)
        if not columns.keys() >= set(wanted):
            raise ValueError("$select")
        order = [term.split() for term in options.get("$orderby", "").split(",") if term]
        if any(term[0] not in columns or term[1:] not in ([], ["desc"]) for term in order):
            raise ValueError("$orderby")
        text = f"select * from {quote_name(name)}{self._where_of(name, options)}"
        text += f" order by {', '.join(' '.join(term) for term in order) or '1'}"
        skip, top = int(options.get("$skip", 0)), options.get("$top")
        size = page if top is None else min(page, int(top) - skip)
        found = base.execute(f"{text} limit {size} offset {skip}").fetchall()
        rows = [self._entity(name, row, wanted) for row in found]
        for branch in branches_of(options.get("$expand", "")):
            target, pairs, is_list = self.ways[name][branch.name]
            for entity, row in zip(rows, found, strict=True):
                by_name = dict(zip(columns, row, strict=True))
                met = {other: by_name[own] for own, other in pairs}
                entity |= self._beside(base, branch.name, target, met, branch.options, is_list)
        answer: dict[str, Value] = {"@odata.context": "$metadata", "value": rows}
        if len(rows) == page and (top is None or skip + page < int(top)):
            kept = {k: v for k, v in options.items() if k != "$skip"} | {"$skip": str(skip + page)}
            told = "&".join(f"{k}={quote(v, safe='')}" for k, v in kept.items())
            answer["@odata.nextLink"] = self.following or f"{name}?{told}"
        return answer

    def _beside(
        self, base: sqlite3.Connection, way: str, target: str, met: Mapping[str, Value], options: Mapping[str, str],
        is_list: bool,
    ) -> dict[str, Value]:  # fmt: skip
        """What comes along a way of an entity: a part of a long list, with where the rest is."""
        if None in met.values():
            return {way: [] if is_list else None}
        same = [f"{name} eq {text_literal(value) if isinstance(value, str) else value}" for name, value in met.items()]
        told = f" and ({options['$filter']})" if "$filter" in options else ""
        page = self._page(base, target, {**options, "$filter": " and ".join(same) + told}, INNER_PAGE)
        if not is_list:
            return {way: next(iter(page["value"]), None)}
        following = {f"{way}@odata.nextLink": page["@odata.nextLink"]} if "@odata.nextLink" in page else {}
        return {way: page["value"], **following}

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


_Ways = dict[str, dict[str, tuple[str, list[tuple[str, str]], bool]]]


def _described(path: Path) -> tuple[dict[str, dict[str, str]], dict[str, list[str]], _Ways, str]:
    """Tables with the types of their columns, their keys, the ways between them, and the $metadata of the service."""
    with closing(sqlite3.connect(path)) as base:
        names = [row[0] for row in base.execute("select name from sqlite_master where type = 'table' order by 1")]
        info = {n: base.execute(f"pragma table_info({quote_name(n)})").fetchall() for n in names}
        links = {n: base.execute(f"pragma foreign_key_list({quote_name(n)})").fetchall() for n in names}
    tables = {n: {c[1]: _TYPES.get(c[2].lower().partition("(")[0], "Edm.String") for c in info[n]} for n in names}
    keys = {n: [c[1] for c in sorted(info[n], key=lambda c: c[5]) if c[5]] for n in names}
    ways: _Ways = {n: {} for n in names}
    for n in names:
        for key in links[n]:
            if sum(each[0] == key[0] for each in links[n]) == 1:
                other = key[4] or keys[key[2]][0]
                ways[n][f"to_{key[3]}"] = (key[2], [(key[3], other)], False)
                ways[key[2]][f"{n}_by_{key[3]}"] = (n, [(other, key[3])], True)
    types, sets = [], []
    for n in names:
        key = "".join(f'<PropertyRef Name="{each}"/>' for each in keys[n])
        properties = "".join(
            f'<Property Name="{c[1]}" Type="{tables[n][c[1]]}" Nullable="{"false" if c[3] else "true"}"/>'
            for c in info[n]
        )
        told = "".join(_way(name, *way) for name, way in ways[n].items())
        types.append(f'<EntityType Name="{n}">{f"<Key>{key}</Key>" if key else ""}{properties}{told}</EntityType>')
        bound = "".join(f'<NavigationPropertyBinding Path="{name}" Target="{w[0]}"/>' for name, w in ways[n].items())
        sets.append(f'<EntitySet Name="{n}" EntityType="M.{n}">{bound}</EntitySet>')
    text = (
        f'<edmx:Edmx Version="4.0" xmlns:edmx="{_SPACE}x"><edmx:DataServices><Schema Namespace="M" xmlns="{_SPACE}">'
        f'{"".join(types)}<EntityContainer Name="C">{"".join(sets)}</EntityContainer></Schema>'
        "</edmx:DataServices></edmx:Edmx>"
    )
    return tables, keys, ways, text


def _way(name: str, target: str, pairs: list[tuple[str, str]], is_list: bool) -> str:
    (own, other), *_ = pairs
    if is_list:
        return f'<NavigationProperty Name="{name}" Type="Collection(M.{target})" Partner="to_{other}"/>'
    return (
        f'<NavigationProperty Name="{name}" Type="M.{target}"><ReferentialConstraint Property="{own}" '
        f'ReferencedProperty="{other}"/></NavigationProperty>'
    )
