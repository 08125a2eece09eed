"""Servers that speak CouchDB's protocol (CouchDB 3 documentation, "API Reference"): a database is a collection.

The server filters and groups little: documents are fetched in pages, and what a request asks is worked out over them
here, by `query/documents/evaluate.py`. A filter with a `selector` is asked of the server as it is (Mango). A document
is written with the revision that was read just before, so that nobody's change is written over.
"""

from __future__ import annotations

import datetime as dt
import json
import random
import uuid
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from dataclasses import replace
from decimal import Decimal
from typing import TYPE_CHECKING
from urllib.parse import quote, urlsplit

from nimble_otter.errors import AuthError, ConditionError, ConnectError, LostError, QueryError, SourceError, Stopped
from nimble_otter.query.documents import evaluate
from nimble_otter.query.documents.order import NotHere
from nimble_otter.query.documents.request import DocumentRequest
from nimble_otter.sources.address import AddressForm
from nimble_otter.sources.catalogue import Definition, EntryKind, Shapes, TableInfo
from nimble_otter.sources.dialects.documents import COUCH
from nimble_otter.sources.document_connection import DocumentConnection, refuse_missing
from nimble_otter.sources.plans import PlanNode
from nimble_otter.sources.shapes import find_shapes
from nimble_otter.sources.source import Request, Run, check_writable
from nimble_otter.sources.trace import KEY_NAME
from nimble_otter.sources.urls import check_options
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.translation import tr
from nimble_otter.values import Value

if TYPE_CHECKING:
    from nimble_otter.sources.tunnel import Tunnel

PAGE = 1000
_MOST_SAMPLED_IDS = 100_000
"""Documents up to which a sample is drawn from all; of more it is drawn from the first."""
_KEEPING = ("$match", "$sort", "$limit", "$skip")
_ONE_BY_ONE = ("$match", "$set", "$addFields", "$project", "$unset", "$replaceRoot", "$replaceWith", "$unwind")
"""Stages that look at one document at a time, so that pages can go through them as they come."""
_Document = dict[str, Value]


class _Couchdb:
    key = "couchdb"
    word = "CouchDB"
    schemes = ("couchdb",)
    dialects = (COUCH,)
    address = AddressForm(
        tr("Documents (CouchDB protocol)"), 5, "couchdb://user@host:5984/name", 5984, tls={"verified": {"tls": "true"}}
    )

    def takes(self, scheme: str) -> bool:
        return scheme in self.schemes

    def connect(self, url: str, password: str | None = None, clear_password: bool = False) -> CouchConnection:
        check_options(url, {"tls": "true"})
        return CouchConnection(url, password, clear_password)


class CouchConnection(DocumentConnection):
    """See sources.source.Connection. A URI with a name has that one database as its collection, else all of them."""

    dialect = COUCH

    def __init__(self, url: str, password: str | None, clear_password: bool = False) -> None:
        from nimble_otter.sources.web_client import WebClient, signed_in

        super().__init__()
        parts = urlsplit(url)
        has_tls = "tls=true" in parts.query
        if parts.port is None:
            parts = parts._replace(netloc=f"{parts.netloc}:{6984 if has_tls else 5984}")
        plain = f"{'https' if has_tls else 'http'}://{parts.netloc}/"
        self._root, headers = signed_in(plain, password, clear_password)
        self._client = WebClient(self._root, headers)
        self._tunnel: Tunnel | None = None
        self._database = parts.path.strip("/")
        try:
            hello = self._get("")
            if not isinstance(hello, dict) or not {"couchdb", "express-pouchdb", "version"} & hello.keys():
                raise ConnectError(
                    tr("The server does not speak CouchDB's protocol."), tr("Check the host and the port.")
                )
            if self._database:
                self._get(quote(self._database, safe=""))
        except SourceError:
            self.close()
            raise

    # --- the catalogue -------------------------------------------------------------------------------------------

    def names(self) -> list[TableInfo]:
        """The databases and their views, which are all that there is."""
        return self.tables()

    def tables(self) -> list[TableInfo]:
        """The databases as collections, and the views of each."""
        results = [TableInfo(name, EntryKind.COLLECTION) for name in self._databases()]
        for name in self._databases():
            for design in self._rows(
                f'{_path(name)}/_all_docs?startkey="_design/"&endkey="_design0"&include_docs=true'
            ):
                views = (design.get("doc") or {}).get("views") or {}
                title = str(design["id"]).removeprefix("_design/")
                results += [TableInfo(f"{name}/{title}/{view}", EntryKind.VIEW) for view in sorted(views)]
        return results

    def _databases(self) -> list[str]:
        if self._database:
            return [self._database]
        names = self._get("_all_dbs")
        return sorted(name for name in names if isinstance(name, str) and not name.startswith("_"))

    def count(self, table: str) -> int:
        """How many documents a database has; design documents are not counted."""
        if "/" in table:
            return int(self._get(f"{_path(table)}?limit=0").get("total_rows", 0))
        designs = self._rows(f'{_path(table)}/_all_docs?startkey="_design/"&endkey="_design0"')
        return int(self._get(f"{_path(table)}/_all_docs?limit=0")["total_rows"]) - len(list(designs))

    def shapes(self, collection: str, sample: int = 1000) -> Shapes:
        """The shapes of a database's documents, from a sample."""
        total = self.count(collection)
        if "/" in collection or total <= sample or total > _MOST_SAMPLED_IDS:
            documents = [d for page, _ in zip(self._pages(collection, NEVER), [0], strict=False) for d in page][:sample]
        else:
            rows = self._rows(f"{_path(collection)}/_all_docs")
            known = [row["id"] for row in rows if not str(row["id"]).startswith("_design/")]
            documents = self.by_key(collection, random.Random(total).sample(known, sample))  # the same each time
        found = self._shapes[collection] = find_shapes(collection, documents, total, ("_id",))
        return found

    def describe(self, table: TableInfo) -> Definition:
        """What the server tells of a database, with its indexes, or the functions of a view."""
        if "/" in table.name:
            name, design, view = table.name.split("/", 2)
            held = self._get(f"{_path(name)}/_design/{quote(design, safe='')}")["views"][view]
            return Definition("\n\n".join(f"{part}: {text}" for part, text in held.items()))
        told = json.dumps(self._get(_path(table.name)), indent=2)
        try:
            indexes = self._get(f"{_path(table.name)}/_index").get("indexes", [])
        except SourceError:
            indexes = []
        named = tuple((str(i.get("name")), json.dumps((i.get("def") or {}).get("fields", []))) for i in indexes)
        return Definition(f"database {table.name}\n{told}", (), named)

    def explain(self, request: Request, stop: StopToken) -> PlanNode:
        """How the server would answer a request with a selector. Raises: SourceError for every other."""
        wanted = self.translate(request)
        if "selector" not in wanted.filter:
            raise SourceError(
                tr("The server has a plan for requests with a selector alone."), tr("Others are computed here.")
            )
        told = self._client.send("POST", f"{self._root}{_path(wanted.collection)}/_explain", dict(wanted.filter), stop)
        index = _json(told).get("index") or {}
        return PlanNode(f"{index.get('type', '')} {index.get('name', '')}".strip() or "query", json.dumps(index))

    def rights(self) -> tuple[str, ...]:
        """What the user may do that reaches beyond reading, in words for the source's page."""
        try:
            roles = (self._get("_session").get("userCtx") or {}).get("roles") or []
        except SourceError:
            return ()
        return (tr("This user is an administrator: one that only reads is safer."),) if "_admin" in roles else ()

    # --- asking --------------------------------------------------------------------------------------------------

    def run(self, request: Request, stop: StopToken) -> Run:
        """Fetch, and work out the rows as they come. Raises: SourceError's, Stopped."""
        wanted = self.translate(request)
        refuse_missing(wanted, [table.name for table in self.tables()], request)
        unseen = [name for name in wanted.collections if name not in self._shapes]
        for name in unseen:
            self.shapes(name)
        wanted = self.translate(request) if unseen else wanted
        is_direct = "/" not in wanted.collection and all(next(iter(s), "") in _KEEPING for s in wanted.pipeline or ())
        columns = wanted.columns
        along = int(request.with_keys and is_direct and bool(columns) and all(path != "_id" for _, path in columns))
        if along:
            columns = (*columns, (KEY_NAME + "0", "_id"))
            if wanted.projection is not None:
                wanted = replace(wanted, projection={**wanted.projection, "_id": 1})
        most = [n for n in (wanted.limit, None if request.limit is None else request.limit + 1) if n is not None]
        rows = self._kept(self._answer(wanted, min(most, default=None), stop))
        collection = wanted.collection if is_direct else ""
        return Run(rows, columns=columns, sent=COUCH.shown(wanted), unseen=along, collection=collection)

    @staticmethod
    def _kept(pages: Iterator[list[Value]]) -> Iterator[list[Value]]:
        """Pages until a stop: those that have come are kept."""
        with suppress(Stopped):
            yield from pages

    def _answer(self, wanted: DocumentRequest, limit: int | None, stop: StopToken) -> Iterator[list[Value]]:
        if wanted.pipeline is None and isinstance(wanted.filter.get("selector"), dict):
            yield from _cut(self._selected(wanted, stop), limit)
            return
        stages = list(wanted.pipeline) if wanted.pipeline is not None else _stages_of(wanted)

        def whole(name: str) -> list[_Document]:
            return [document for page in self._pages(name, stop) for document in page]

        def worked_out(documents: Sequence[_Document]) -> list[_Document]:
            try:
                return evaluate.run(documents, stages, whole)
            except NotHere as problem:
                raise QueryError(tr("{problem} is not supported for CouchDB documents.", problem=problem)) from problem
            except (ConditionError, QueryError):
                raise
            except (ArithmeticError, ValueError, TypeError, KeyError, IndexError) as problem:
                raise QueryError(tr("The request can't be computed: {problem}.", problem=problem)) from problem

        if all(next(iter(stage), "") in _ONE_BY_ONE for stage in stages):
            yield from _cut(map(worked_out, self._pages(wanted.collection, stop)), limit)
        else:
            yield from _cut([worked_out(whole(wanted.collection))], limit)

    def _selected(self, wanted: DocumentRequest, stop: StopToken) -> Iterator[list[_Document]]:
        """What the server finds by a selector of its own."""
        skip, most = int(wanted.filter.get("skip", 0)), wanted.filter.get("limit")
        while most is None or most > 0:
            size = PAGE if most is None else min(PAGE, int(most))
            body = {**wanted.filter, "skip": skip, "limit": size}
            reply = self._client.send("POST", f"{self._root}{_path(wanted.collection)}/_find", body, stop)
            found = [_shown(document) for document in _json(reply).get("docs", [])]
            yield found
            skip, most = skip + len(found), None if most is None else most - len(found)
            if len(found) < size:
                return

    def _pages(self, name: str, stop: StopToken) -> Iterator[list[_Document]]:
        """All documents of a database, or the rows of a view, some at a time."""
        if "/" in name:
            skip = 0
            while True:
                rows = list(self._rows(f"{_path(name)}?reduce=false&limit={PAGE}&skip={skip}", stop))
                yield [{"_id": row.get("id"), "key": row.get("key"), "value": row.get("value")} for row in rows]
                skip += len(rows)
                if len(rows) < PAGE:
                    return
        begin = ""
        while True:
            rows = list(self._rows(f"{_path(name)}/_all_docs?include_docs=true&limit={PAGE + 1}{begin}", stop))
            yield [
                _shown(row["doc"])
                for row in rows[:PAGE] if row.get("doc") and not str(row["id"]).startswith("_design/")
            ]  # fmt: skip
            if len(rows) <= PAGE:
                return
            begin = f"&startkey={quote(json.dumps(rows[PAGE]['id']), safe='')}"

    def by_key(self, name: str, keys: Sequence[str]) -> list[_Document]:
        """Documents by their _id, with their revisions."""
        address = f"{self._root}{_path(name)}/_all_docs?include_docs=true"
        found: list[_Document] = []
        for start in range(0, len(keys), PAGE):
            reply = self._client.send("POST", address, {"keys": list(keys[start : start + PAGE])})
            found += [row["doc"] for row in _json(reply).get("rows", []) if row.get("doc")]
        return found

    def _rows(self, path: str, stop: StopToken = NEVER) -> Iterator[_Document]:
        yield from self._get(path, stop).get("rows", [])

    def _get(self, path: str, stop: StopToken = NEVER) -> Value:
        try:
            return _json((200, self._client.get(f"{self._root}{path}", None, stop).data or b""))
        except ConnectError as problem:
            if "(404)" in problem.message:
                name = path.partition("/")[0] or tr("the server's address")
                raise ConnectError(tr("There is no database {name}.", name=name), tr("Check its name.")) from problem
            raise

    # --- writing -------------------------------------------------------------------------------------------------

    @contextmanager
    def transaction(self, stop: StopToken = NEVER, atomic: bool = True) -> Iterator[CouchWriter]:
        """There are no transactions: what is written, is. Raises: ChangeError where the source is marked read-only."""
        check_writable(self)

        def send(method: str, path: str, body: Value) -> tuple[int, bytes]:
            return self._client.send(method, f"{self._root}{path}", body)  # a write that began is not stopped

        yield CouchWriter(send, self.by_key)

    def close(self) -> None:
        """End the connection."""
        self._client.close()
        if self._tunnel is not None:
            self._tunnel.close()

    def use_tunnel(self, tunnel: Tunnel) -> None:
        """See `Connection.use_tunnel`."""
        self._tunnel = tunnel


class CouchWriter:
    """See `DocumentWriter`. What `documents` gave is what the changes are made to, by its revision."""

    is_atomic = False

    def __init__(
        self, send: Callable[[str, str, Value], tuple[int, bytes]], by_key: Callable[[str, list[str]], list[_Document]]
    ) -> None:
        self._send, self._by_key = send, by_key
        self._held: dict[tuple[str, str], _Document] = {}

    @staticmethod
    def new_id() -> object:
        """The _id of a new document."""
        return uuid.uuid4().hex

    def documents(self, collection: str, keys: Sequence[object]) -> list[_Document]:
        """Documents by their _id, whole but for their revision."""
        wanted = [key for key in keys if isinstance(key, str)]
        found = self._by_key(collection, wanted) if wanted else []
        for key in wanted:
            self._held.pop((collection, key), None)
        self._held |= {(collection, document["_id"]): document for document in found}
        return [_shown(document) for document in found]

    def one(self, collection: str, operation: tuple[object, ...]) -> int:
        """See `DocumentWriter.one`: none, where somebody else wrote the document since it was read."""
        kind, first, change = operation
        assert isinstance(first, dict)
        if kind == "insert":
            document = _storable({key: value for key, value in first.items() if key != "_rev"})
            status, data = self._put(collection, document)
            if status == 409:
                raise QueryError(
                    tr("There is a document with the _id {id} already.", id=document["_id"]), tr("Give it another.")
                )
            return self._done(status, data)
        key = str(first["_id"])
        held = self._held.get((collection, key))
        if held is None:
            self.documents(collection, [key])
            held = self._held.get((collection, key))
        if held is None:
            return 0
        path = f"{_path(collection)}/{quote(key, safe='')}"
        if kind == "delete":
            status, data = self._send("DELETE", f"{path}?rev={quote(held['_rev'], safe='')}", None)
        else:
            assert isinstance(change, dict)
            status, data = self._put(collection, _changed(held, change))
        self._held.pop((collection, key), None)
        return 0 if status in (404, 409) else self._done(status, data)

    def bulk(self, collection: str, operations: Sequence[tuple[Value, ...]]) -> int:
        """Several in their order; new documents in one message. Raises: QueryError at the first that is refused."""
        new = [operation for operation in operations if operation[0] == "insert"]
        done = 0
        if new:
            whole = [_storable({"_id": self.new_id(), **first}) for _, first, _ in new]
            status, data = self._send("POST", f"{_path(collection)}/_bulk_docs", {"docs": whole})
            if status == 404:  # a collection begins with its first document
                self._done(*self._send("PUT", _path(collection), None))
                status, data = self._send("POST", f"{_path(collection)}/_bulk_docs", {"docs": whole})
            self._done(status, data)
            told = json.loads(data)
            done = sum("error" not in one for one in told)
            refused = next((one for one in told if "error" in one), None)
            if refused is not None:
                why = refused.get("reason") or refused["error"]
                raise QueryError(
                    tr(
                        "The server refused the document {id}: {why} ({done} were written).",
                        id=refused.get("id"),
                        why=why,
                        done=done,
                    )
                )
        return done + sum(self.one(collection, operation) for operation in operations if operation[0] != "insert")

    def commit(self) -> None:
        """Nothing: what is written, is."""

    def _put(self, collection: str, document: _Document) -> tuple[int, bytes]:
        address = f"{_path(collection)}/{quote(document['_id'], safe='')}"
        status, data = self._send("PUT", address, document)
        if status == 404 and "_rev" not in document:
            self._done(*self._send("PUT", _path(collection), None))
            return self._send("PUT", address, document)
        return status, data

    @staticmethod
    def _done(status: int, data: bytes) -> int:
        _json((status, data))
        return 1


def _path(name: str) -> str:
    """A database, or a view of one, in an address."""
    if "/" not in name:
        return quote(name, safe="")
    database, design, view = (quote(part, safe="") for part in name.split("/", 2))
    return f"{database}/_design/{design}/_view/{view}"


def _json(reply: tuple[int, bytes]) -> Value:
    """What the server said. Raises: AuthError, QueryError, ConnectError, LostError."""
    status, data = reply
    try:
        told = json.loads(data)
    except (ValueError, RecursionError) as problem:
        raise ConnectError(tr("The server's answer is not JSON."), tr("Check the host and the port.")) from problem
    if status in (401, 403):
        raise AuthError(
            tr("The server refused the user name or password, or the user may not do this."), tr("Check both.")
        )
    if status >= 500:
        raise LostError(tr("The server failed while it answered."), tr("Look at what is there, then try again."))
    if status >= 400:
        said = told.get("reason") or told.get("error") if isinstance(told, dict) else ""
        raise QueryError(tr("The server refused the request: {said}.", said=said or status))
    return told


def _shown(document: Mapping[str, Value]) -> _Document:
    return {name: value for name, value in document.items() if name != "_rev"}


def _cut(pages: Iterator[list[_Document]] | Sequence[list[_Document]], limit: int | None) -> Iterator[list[Value]]:
    left = limit
    for page in pages:
        if left is None:
            yield page
            continue
        if page[:left]:
            yield page[:left]
        left -= len(page)
        if left <= 0:
            return


def _stages_of(wanted: DocumentRequest) -> list[Mapping[str, Value]]:
    stages: list[Mapping[str, Value]] = [{"$match": wanted.filter}] if wanted.filter else []
    stages += [{"$sort": dict(wanted.sort)}] if wanted.sort else []
    return stages + ([{"$project": wanted.projection}] if wanted.projection else [])


def _changed(document: _Document, change: Mapping[str, Mapping[str, Value]]) -> _Document:
    """A document with values set and taken out at their paths."""
    made: _Document = json.loads(json.dumps(document))
    for path, value in change.get("$set", {}).items():
        inner, last = _parent(made, path)
        if isinstance(inner, list):
            inner[int(last)] = _storable(value)
        else:
            inner[last] = _storable(value)
    for path in change.get("$unset", {}):
        inner, last = _parent(made, path)
        if isinstance(inner, dict):
            inner.pop(last, None)
    return made


def _parent(document: Value, path: str) -> tuple[Value, str]:
    *above, last = path.split(".")
    for name in above:
        if isinstance(document, list):
            document = document[int(name)]
        else:
            document = document.setdefault(name, {})
    return document, last


def _storable(value: Value) -> Value:
    """A value as JSON has it: times as texts (ISO 8601), decimals as numbers where they stay what they are. Raises:
    QueryError for what JSON does not have."""
    if isinstance(value, Mapping):
        return {str(name): _storable(inner) for name, inner in value.items()}
    if isinstance(value, (list, tuple)):
        return [_storable(item) for item in value]
    if isinstance(value, (dt.date, dt.time)):
        return value.isoformat()
    if hasattr(value, "to_decimal"):  # as decimals are given to other servers of documents
        value = value.to_decimal()
    if isinstance(value, Decimal):
        return float(value) if Decimal(repr(float(value))) == value else str(value)
    if isinstance(value, float) and (value != value or value in (float("inf"), float("-inf"))):
        raise QueryError(
            tr("{value} can't be stored: JSON has no such number.", value=value), tr("Set NULL, or a text.")
        )
    if value is None or isinstance(value, (str, bool, int, float)):
        return value
    if isinstance(value, uuid.UUID):
        return str(value)
    raise QueryError(
        tr("A value of the type {name} can't be stored in JSON.", name=type(value).__name__),
        tr("Leave the column out."),
    )


DRIVER = _Couchdb()
