"""An OData service over an SQLite file, for tests: what a request asks is taken apart strictly and answered by SQL."""

import base64
import json
import re
import sqlite3
import threading
from contextlib import closing
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from urllib.parse import parse_qsl, unquote, urlsplit

PAGE = 400
TYPES = {"integer": "Edm.Int64", "real": "Edm.Double", "text": "Edm.String", "date": "Edm.Date", "blob": "Edm.Binary",
         "timestamp": "Edm.DateTimeOffset", "boolean": "Edm.Boolean", "decimal": "Edm.Decimal"}  # fmt: skip
_TOKEN = re.compile(r"\s*('(?:[^']|'')*'|[()]|[\w.:+-]+)")
_WORDS = {
    "eq": "=",
    "ne": "is not",
    "gt": ">",
    "ge": ">=",
    "lt": "<",
    "le": "<=",
    "and": "and",
    "or": "or",
    "(": "(",
    ")": ")",
}


def condition_of(text, columns):
    """A $filter as SQL. Raises: ValueError for anything that is not comparisons joined by and, or."""
    parts, at = [], 0
    while at < len(text.rstrip()):
        token = _TOKEN.match(text, at)
        if token is None:
            raise ValueError(text[at:])
        word, at = token[1], token.end()
        if word in _WORDS:
            parts.append(_WORDS[word])
        elif word in columns:
            parts.append(f'"{word}"')
        elif word.startswith("'"):
            parts.append(f"{word} collate nocase")  # as many services compare
        elif re.fullmatch(r"-?\d+(\.\d+)?", word):
            parts.append(word)
        elif re.fullmatch(r"\d{4}-\d\d-\d\d", word):
            parts.append(f"'{word}'")
        else:
            raise ValueError(word)
    return " ".join(parts)


class Handler(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"

    def log_message(self, *_):
        pass

    def give(self, body, status=200, kind="application/json"):
        body = json.dumps(body) if kind.endswith("/json") else body
        body = body.encode() if isinstance(body, str) else body
        self.send_response(status)
        self.send_header("Content-Type", kind)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def do_GET(self):
        server, parts = self.server, urlsplit(self.path)
        server.asked.append(unquote(self.path))
        if server.wanted and self.headers.get("Authorization") != server.wanted:
            self.give({"error": {"message": "no"}}, 401)
            return
        name, _, more = unquote(parts.path).removeprefix("/svc/").partition("/")
        if name == "$metadata":
            self.give(server.metadata, kind="application/xml")
        elif name not in server.tables or more not in ("", "$count"):
            self.give({"error": {"message": "no such set"}}, 404)
        elif more:
            with closing(sqlite3.connect(server.path)) as base:
                self.give(str(base.execute(f'select count(*) from "{name}"').fetchone()[0]), kind="text/plain")
        else:
            try:
                self.give(self.rows(name, dict(parse_qsl(parts.query))))
            except (ValueError, sqlite3.Error) as problem:
                self.give({"error": {"message": str(problem)}}, 400)

    def rows(self, name, options):
        if not options.keys() <= {"$select", "$filter", "$orderby", "$top", "$skip"} - self.server.unknown:
            raise ValueError("an option that is not known")
        columns = self.server.tables[name]
        wanted = options["$select"].split(",") if "$select" in options else list(columns)
        if not set(wanted) <= columns.keys():
            raise ValueError("$select")
        text = "select " + ", ".join(f'"{c}"' for c in wanted) + f' from "{name}"'
        if "$filter" in options:
            text += f" where {condition_of(options['$filter'], columns)}"
        order = [term.split() for term in options.get("$orderby", "").split(",") if term]
        if any(term[0] not in columns or term[1:] not in ([], ["desc"]) for term in order):
            raise ValueError("$orderby")
        text += f" order by {', '.join(' '.join(term) for term in order) or '1'}"
        skip, top = int(options.get("$skip", 0)), options.get("$top")
        size = PAGE if top is None else min(PAGE, int(top) - skip)
        with closing(sqlite3.connect(self.server.path)) as base:
            found = base.execute(f"{text} limit {size} offset {skip}").fetchall()
        rows = [{c: self.value(columns[c], v) for c, v in zip(wanted, row, strict=True)} for row in found]
        answer = {"@odata.context": "$metadata", "value": rows}
        if len(rows) == PAGE and (top is None or skip + PAGE < int(top)):
            kept = {k: v for k, v in options.items() if k != "$skip"} | {"$skip": skip + PAGE}
            answer["@odata.nextLink"] = self.server.following or f"{name}?" + "&".join(
                f"{k}={v}".replace(" ", "%20").replace("'", "%27") for k, v in kept.items()
            )
        return answer

    @staticmethod
    def value(kind, value):
        if isinstance(value, bytes):
            return base64.urlsafe_b64encode(value).decode().rstrip("=")
        if kind == "Edm.DateTimeOffset" and value is not None:
            return value.replace(" ", "T") + (":00Z" if len(value) == 16 else "Z")
        return bool(value) if kind == "Edm.Boolean" and value is not None else value


def describe(path):
    """Tables with the types of their columns, and the $metadata of the service."""
    with closing(sqlite3.connect(path)) as base:
        names = [row[0] for row in base.execute("select name from sqlite_master where type = 'table' order by 1")]
        info = {n: base.execute(f'pragma table_info("{n}")').fetchall() for n in names}
        links = {n: base.execute(f'pragma foreign_key_list("{n}")').fetchall() for n in names}
    tables = {n: {c[1]: TYPES.get(c[2].lower().partition("(")[0], "Edm.String") for c in info[n]} for n in names}
    types, sets = [], []
    for n in names:
        key = "".join(f'<PropertyRef Name="{c[1]}"/>' for c in sorted(info[n], key=lambda c: c[5]) if c[5])
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
    space = "http://docs.oasis-open.org/odata/ns/edm"
    return tables, (
        f'<edmx:Edmx Version="4.0" xmlns:edmx="{space}x"><edmx:DataServices><Schema Namespace="M" xmlns="{space}">'
        f'{"".join(types)}<EntityContainer Name="C">{"".join(sets)}</EntityContainer></Schema>'
        "</edmx:DataServices></edmx:Edmx>"
    )


class OdataServer(ThreadingHTTPServer):
    """`unknown` are options that it does not know, `following` what it names as the next part."""

    daemon_threads = True

    def __init__(self, path):
        super().__init__(("127.0.0.1", 0), Handler)
        self.path, self.asked, self.wanted, self.unknown, self.following = path, [], "", set(), ""
        self.tables, self.metadata = describe(path)
        self.url = f"odata+http://127.0.0.1:{self.server_port}/svc/"
        self._thread = threading.Thread(target=self.serve_forever)
        self._thread.start()

    def end(self):
        self.shutdown()
        self.server_close()
        self._thread.join()
