"""A stand-in for a document server: speaks OP_MSG on a free loopback port over collections held in memory.

It exists so that the demo needs no server: the app reaches it through the ordinary client. One thread a connection.
hello and ping are answered outside the lock, or clients would take a long query for a dead server.
Wire format: OP_MSG and the legacy OP_QUERY hello of the MongoDB wire protocol.
"""

from __future__ import annotations

import itertools
import socketserver
import struct
import threading
from collections.abc import Iterable, Mapping, Sequence
from typing import Any

import bson

from nimble_otter.query.documents import evaluate
from nimble_otter.query.documents.order import NotHere
from nimble_otter.values import Value

OP_QUERY, OP_REPLY, OP_MSG = 2004, 1, 2013
MAX_MESSAGE_BYTES = 48_000_000
BATCH = 101


class StandIn:
    """Serves `collections` (name to documents, at most 10 000 each) as one database until `close`."""

    def __init__(self, database: str, collections: Mapping[str, Iterable[dict[str, object]]]) -> None:
        import mongomock

        self.database = database
        self._store: Any = mongomock.MongoClient()[database]
        for name, documents in collections.items():
            whole: list[Any] = list(documents)
            self._store[name].insert_many(whole)
        self._lock = threading.Lock()
        self._cursors: dict[int, tuple[str, list[dict[str, Any]]]] = {}
        self._numbers = itertools.count(7001)
        self._server = socketserver.ThreadingTCPServer(("127.0.0.1", 0), _Handler, bind_and_activate=True)
        self._server.daemon_threads = True
        self._server.standin = self  # type: ignore[attr-defined]
        threading.Thread(target=self._server.serve_forever, name="demo documents", daemon=True).start()

    @property
    def url(self) -> str:
        """Where it answers."""
        return f"mongodb://127.0.0.1:{self._server.server_address[1]}/{self.database}"

    def close(self) -> None:
        """Stop answering and end its threads."""
        self._server.shutdown()
        self._server.server_close()

    def answer(self, command: Mapping[str, object]) -> dict[str, object]:
        """The reply to one command; errors are replies too."""
        name = next(iter(command), "")
        lower = name.lower()
        if lower in ("hello", "ismaster"):
            return _HELLO | {"ok": 1.0}
        if lower in ("ping", "endsessions"):
            return {"ok": 1.0}
        handler = getattr(self, f"_do_{lower}", None)
        if handler is None:
            return {"ok": 0.0, "code": 59, "codeName": "CommandNotFound", "errmsg": f"no such command: '{name}'"}
        try:
            with self._lock:
                return {**handler(command[name], command), "ok": 1.0}
        except Exception as problem:  # noqa: BLE001 - whatever the store can't do is told to the client, as a server would
            return {"ok": 0.0, "code": 2, "codeName": "BadValue", "errmsg": str(problem) or type(problem).__name__}

    # --- commands ----------------------------------------------------------------------------------------------

    def _do_buildinfo(self, _: object, __: Mapping[str, object]) -> dict[str, object]:
        return {"version": "7.0.0", "versionArray": [7, 0, 0, 0], "maxBsonObjectSize": 16_777_216}

    def _do_listdatabases(self, _: object, __: Mapping[str, object]) -> dict[str, object]:
        return {"databases": [{"name": self.database, "sizeOnDisk": 0, "empty": False}], "totalSize": 0}

    def _do_listcollections(self, _: object, __: Mapping[str, object]) -> dict[str, object]:
        names = sorted(self._store.list_collection_names())
        results = [{"name": name, "type": "collection", "options": {}, "info": {"readOnly": False}} for name in names]
        return {"cursor": {"id": 0, "ns": f"{self.database}.$cmd.listCollections", "firstBatch": results}}

    def _do_listindexes(self, collection: str, _: Mapping[str, object]) -> dict[str, object]:
        results = [{"v": 2, "key": {"_id": 1}, "name": "_id_"}]
        return {"cursor": {"id": 0, "ns": f"{self.database}.{collection}", "firstBatch": results}}

    def _do_count(self, collection: str, command: Mapping[str, object]) -> dict[str, object]:
        return {"n": self._store[collection].count_documents(command.get("query") or {})}

    def _do_distinct(self, collection: str, command: Mapping[str, object]) -> dict[str, object]:
        return {"values": self._store[collection].distinct(command["key"], command.get("query") or {})}

    def _do_find(self, collection: str, command: Mapping[str, Value]) -> dict[str, object]:
        # asked as a pipeline, whose answer is one list: a cursor of the store copies that list for every document
        stages: list[dict[str, Any]] = [{"$match": command.get("filter") or {}}]
        if command.get("sort"):
            stages.append({"$sort": command["sort"]})
        if command.get("skip"):
            stages.append({"$skip": command["skip"]})
        if command.get("limit"):
            stages.append({"$limit": abs(command["limit"])})
        if command.get("projection"):
            stages.append({"$project": command["projection"]})
        results = self._answer(collection, stages)
        return self._first(collection, results, command.get("batchSize", BATCH), bool(command.get("singleBatch")))

    def _answer(self, collection: str, stages: Sequence[Mapping[str, Value]]) -> list[dict[str, Value]]:
        try:
            return evaluate.run(self._all(collection), stages, self._all)
        except NotHere:
            return list(self._store[collection].aggregate(list(stages)))

    def _all(self, collection: str) -> list[dict[str, object]]:
        return list(self._store[collection].aggregate([]))

    def _do_aggregate(self, collection: str, command: Mapping[str, Value]) -> dict[str, object]:
        results = self._answer(collection, command["pipeline"])
        return self._first(collection, results, command.get("cursor", {}).get("batchSize", BATCH), False)

    def _do_insert(self, collection: str, command: Mapping[str, Value]) -> dict[str, object]:
        if any(self._store[collection].find_one({"_id": d["_id"]}) for d in command["documents"]):
            return {"n": 0, "writeErrors": [{"index": 0, "code": 11000, "errmsg": "duplicate key: _id"}]}
        self._store[collection].insert_many(command["documents"])
        return {"n": len(command["documents"])}

    def _do_delete(self, collection: str, command: Mapping[str, Value]) -> dict[str, object]:
        results = [self._matching(collection, wanted["q"]) for wanted in command["deletes"]]
        gone = [document["_id"] for document in results if document is not None]
        self._store[collection].delete_many({"_id": {"$in": gone}})
        return {"n": len(gone)}

    def _do_update(self, collection: str, command: Mapping[str, Value]) -> dict[str, object]:
        """One document each, by $set and $unset."""
        changed = 0
        for wanted in command["updates"]:
            document = self._matching(collection, wanted["q"])
            if document is None:
                continue
            for path, value in wanted["u"].get("$set", {}).items():
                inner, last = _parent(document, path)
                inner[int(last) if isinstance(inner, list) else last] = value
            for path in wanted["u"].get("$unset", {}):
                inner, last = _parent(document, path)
                inner.pop(last, None)
            self._store[collection].replace_one({"_id": document["_id"]}, document)
            changed += 1
        return {"n": changed, "nModified": changed}

    def _matching(self, collection: str, wanted: Mapping[str, Value]) -> dict[str, object] | None:
        """The document of an _id, when each path of the filter holds exactly what it says."""
        document: dict[str, Any] | None = self._store[collection].find_one({"_id": wanted["_id"]})
        for path, condition in wanted.items():
            if document is None or path == "_id":
                continue
            inner, last = _parent(document, path)
            held = _ABSENT
            if isinstance(inner, dict):
                held = inner.get(last, _ABSENT)
            elif isinstance(inner, list) and last.isdigit() and int(last) < len(inner):
                held = inner[int(last)]
            if "$exists" in condition:
                document = document if (held is not _ABSENT) is condition["$exists"] else None
            elif held != condition["$eq"] or (held is None) is not (condition["$eq"] is None):
                document = None
        return document

    def _first(self, collection: str, found: list[dict[str, object]], size: int, whole: bool) -> dict[str, object]:
        number, namespace = 0, f"{self.database}.{collection}"
        if len(found) > size and not whole:
            number = next(self._numbers)
            self._cursors[number] = (namespace, found[size:])
        return {"cursor": {"id": bson.Int64(number), "ns": namespace, "firstBatch": found[:size]}}

    def _do_getmore(self, number: int, command: Mapping[str, Value]) -> dict[str, object]:
        if number not in self._cursors:
            raise ValueError(f"cursor id {number} not found")
        namespace, left = self._cursors.pop(number)
        size = command.get("batchSize") or 1000
        if len(left) > size:
            self._cursors[number] = (namespace, left[size:])
        going_on = number if number in self._cursors else 0
        return {"cursor": {"id": bson.Int64(going_on), "ns": namespace, "nextBatch": left[:size]}}

    def _do_killcursors(self, _: str, command: Mapping[str, Value]) -> dict[str, object]:
        killed = [number for number in command["cursors"] if self._cursors.pop(number, None)]
        return {"cursorsKilled": killed, "cursorsNotFound": [], "cursorsAlive": [], "cursorsUnknown": []}


_ABSENT = object()


def _parent(document: Value, path: str) -> tuple[Value, str]:
    """What holds the last part of a dotted path (objects that are not there are made), and that part."""
    *above, last = path.split(".")
    for part in above:
        document = document[int(part)] if isinstance(document, list) else document.setdefault(part, {})
    return document, last


_HELLO = {
    "isWritablePrimary": True,
    "ismaster": True,
    "maxBsonObjectSize": 16_777_216,
    "maxMessageSizeBytes": MAX_MESSAGE_BYTES,
    "maxWriteBatchSize": 100_000,
    "minWireVersion": 0,
    "maxWireVersion": 21,
    "readOnly": False,
}


class _Handler(socketserver.BaseRequestHandler):
    """Frames of one connection."""

    def handle(self) -> None:
        standin: StandIn = self.server.standin  # type: ignore[attr-defined]
        while (head := self._read(16)) is not None:
            length, request, _, code = struct.unpack("<iiii", head)
            if not 16 <= length <= MAX_MESSAGE_BYTES or (body := self._read(length - 16)) is None:
                return
            if code == OP_MSG:
                flags, command = _read_message(body)
                answer = standin.answer(command)
                if not flags & 2:  # moreToCome: the client wants no answer
                    self._send(request, OP_MSG, struct.pack("<IB", 0, 0) + bson.encode(answer))
            elif code == OP_QUERY:
                end = body.index(b"\0", 4)
                answer = standin.answer(bson.decode(_document(body, end + 9)))
                self._send(request, OP_REPLY, struct.pack("<iqii", 8, 0, 0, 1) + bson.encode(answer))
            else:
                return

    def _read(self, count: int) -> bytes | None:
        data = b""
        while len(data) < count:
            try:
                more = self.request.recv(count - len(data))
            except OSError:
                return None
            if not more:
                return None
            data += more
        return data

    def _send(self, request: int, code: int, body: bytes) -> None:
        try:
            self.request.sendall(struct.pack("<iiii", 16 + len(body), 0, request, code) + body)
        except OSError:
            return  # the client has gone; the next read ends this connection


def _document(body: bytes, at: int) -> bytes:
    return body[at : at + struct.unpack_from("<i", body, at)[0]]


def _read_message(body: bytes) -> tuple[int, dict[str, object]]:
    """Flags and the command, with document sequences (kind 1 sections) put back into it."""
    flags = struct.unpack_from("<I", body)[0]
    at, command, sequences = 4, {}, {}
    end = len(body) - (4 if flags & 1 else 0)
    while at < end:
        kind, at = body[at], at + 1
        size = struct.unpack_from("<i", body, at)[0]
        if kind == 0:
            command = bson.decode(body[at : at + size])
        else:
            name_end = body.index(b"\0", at + 4)
            documents, index = [], name_end + 1
            while index < at + size:
                raw = _document(body, index)
                documents.append(bson.decode(raw))
                index += len(raw)
            sequences[body[at + 4 : name_end].decode()] = documents
        at += size
    return flags, command | sequences
