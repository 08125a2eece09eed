"""CouchDB's protocol for tests: a stand-in of ours in memory, and a server of others, where it was installed."""

import hashlib
import json
import os
import re
import shutil
import threading
from contextlib import suppress
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from urllib.parse import parse_qsl, unquote, urlsplit
from urllib.request import Request as Ask
from urllib.request import urlopen

from nimble_otter.query.documents.match import matches
from tests.servers import NoServer, Server

_PROGRAM = Path(__file__).parents[2] / ".servers" / "pouch" / "node_modules" / ".bin" / "pouchdb-server"


class Handler(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    wbufsize = 1 << 16  # head and body in one packet

    def log_message(self, *_):
        pass

    def answer(self):
        server, parts = self.server, urlsplit(self.path)
        data = self.rfile.read(int(self.headers.get("Content-Length") or 0))
        server.asked.append((self.command, unquote(self.path)))
        if server.fails and server.fails(self.command, parts.path):
            self.close_connection = True
            return
        if server.wanted and self.headers.get("Authorization") != server.wanted:
            status, told = 401, {"error": "unauthorized", "reason": "Name or password is incorrect."}
        else:
            options = dict(parse_qsl(parts.query))
            path = [unquote(part) for part in parts.path.strip("/").split("/") if part]
            with server.lock:
                status, told = server.do(self.command, path, options, json.loads(data) if data else None)
        body = json.dumps(told).encode()
        self.send_response(status)
        self.send_header("Content-Type", "application/json")
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)


for _verb in ("GET", "PUT", "POST", "DELETE"):
    setattr(Handler, f"do_{_verb}", Handler.answer)


class StandIn(ThreadingHTTPServer):
    """`fails` tells of requests whose line is cut before the answer; `asked` are all requests."""

    daemon_threads = True

    def __init__(self):
        super().__init__(("127.0.0.1", 0), Handler)
        self.bases, self.lock, self.asked, self.wanted, self.fails = {}, threading.Lock(), [], "", None
        self.root, self.url = (f"{s}://127.0.0.1:{self.server_port}/" for s in ("http", "couchdb"))
        self._thread = threading.Thread(target=self.serve_forever)
        self._thread.start()

    def close(self):
        self.shutdown()
        self.server_close()
        self._thread.join()

    def do(self, verb, path, options, body):
        missing = 404, {"error": "not_found", "reason": "missing"}
        if not path:
            return 200, {"couchdb": "Welcome", "version": "3"}
        if path[0] in ("_all_dbs", "_session"):
            return 200, sorted(self.bases) if path[0] == "_all_dbs" else {
                "userCtx": {"name": None, "roles": ["_admin"]}
            }
        if len(path) == 1 and verb == "PUT":
            return (412, {"error": "file_exists"}) if self.bases.setdefault(path[0], {}) else (201, {"ok": True})
        if path[0] not in self.bases:
            return missing
        base = self.bases[path[0]]
        if len(path) == 1:
            if verb == "DELETE":
                del self.bases[path[0]]
            return 200, {"db_name": path[0], "doc_count": len(base)}
        if path[1] == "_all_docs":
            return 200, self.all_docs(base, options, body)
        if path[1] == "_bulk_docs":
            return 201, [self.put(base, doc["_id"], doc)[1] | {"id": doc["_id"]} for doc in body["docs"]]
        if path[1] == "_find":
            rows = [d for d in base.values() if not d["_id"].startswith("_design") and matches(body["selector"], d)]
            return 200, {"docs": rows[body.get("skip", 0) :][: body.get("limit", 25)]}
        if path[1] == "_index":
            return 200, {"indexes": [{"name": "_all_docs", "def": {"fields": [{"_id": "asc"}]}}]}
        if path[1] == "_design" and len(path) > 3:
            return self.view(base, f"_design/{path[2]}", path[4], options)
        key = "/".join(path[1:])
        if verb == "PUT":
            return self.put(base, key, body)
        if key not in base:
            return missing
        if verb == "DELETE":
            if options.get("rev") != base[key]["_rev"]:
                return 409, {"error": "conflict"}
            del base[key]
            return 200, {"ok": True}
        return 200, base[key]

    @staticmethod
    def put(base, key, body):
        before = base.get(key, {}).get("_rev")
        if body.get("_rev") != before:
            return 409, {"error": "conflict", "reason": "Document update conflict."}
        number = int((before or "0-").split("-")[0]) + 1
        mark = hashlib.md5(json.dumps(body, sort_keys=True).encode()).hexdigest()
        base[key] = {**body, "_id": key, "_rev": f"{number}-{mark}"}
        return 201, {"ok": True, "id": key, "rev": base[key]["_rev"]}

    @staticmethod
    def all_docs(base, options, body):
        if body is not None:
            found = [base.get(key) for key in body["keys"]]
            return {"rows": [{"id": d["_id"], "doc": d} if d else {"error": "not_found"} for d in found]}
        low, high = (json.loads(options[n]) if n in options else None for n in ("startkey", "endkey"))
        keys = [k for k in sorted(base) if (low is None or k >= low) and (high is None or k <= high)]
        keys = keys[: int(options["limit"])] if "limit" in options else keys
        rows = [{"id": k, "key": k} | ({"doc": base[k]} if options.get("include_docs") else {}) for k in keys]
        return {"total_rows": len(base), "offset": 0, "rows": rows}

    @staticmethod
    def view(base, design, name, options):
        field = re.search(r"emit\(\w+\.(\w+)", base[design]["views"][name]["map"])[1]
        rows = [{"id": d["_id"], "key": d.get(field), "value": 1} for d in base.values() if d["_id"] != design]
        rows.sort(key=lambda row: (str(row["key"]), row["id"]))
        skip = int(options.get("skip", 0))
        return 200, {"total_rows": len(rows), "rows": rows[skip : skip + int(options.get("limit", len(rows)))]}


class Pouch(Server):
    """pouchdb-server, in memory."""

    def __init__(self):
        if not _PROGRAM.exists() or shutil.which("node") is None:
            raise NoServer("pouchdb-server")
        super().__init__("pouch")
        self._who = {} if os.access(_PROGRAM, os.R_OK) else self._who
        self.start(shutil.which("node"), str(_PROGRAM), "-m", "-n", "-o", "127.0.0.1", "-p", str(self.port))
        self.wait(self.is_up)
        self.root, self.url = f"http://127.0.0.1:{self.port}/", f"couchdb://127.0.0.1:{self.port}/"

    def is_up(self):
        with suppress(OSError), urlopen(f"http://127.0.0.1:{self.port}/", timeout=2) as told:
            return told.status == 200
        return False


def ask(server, verb, path, body=None):
    """A request of the tests' own."""
    data = None if body is None else json.dumps(body).encode()
    asked = Ask(server.root + path, method=verb, data=data, headers={"Content-Type": "application/json"})
    with urlopen(asked, timeout=20) as told:
        return json.loads(told.read())


def fill(server, name, documents):
    """A database with these documents and no others."""
    if name in ask(server, "GET", "_all_dbs"):
        ask(server, "DELETE", name)
    ask(server, "PUT", name)
    ask(server, "POST", f"{name}/_bulk_docs", {"docs": documents})


def held(server, name):
    """The documents of a database by their _id, without revisions."""
    rows = ask(server, "GET", f"{name}/_all_docs?include_docs=true")["rows"]
    return {row["id"]: {k: v for k, v in row["doc"].items() if k != "_rev"} for row in rows}
