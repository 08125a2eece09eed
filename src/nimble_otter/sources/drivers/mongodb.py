"""Servers that speak the MongoDB protocol, through pymongo."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager, nullcontext, suppress
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from nimble_otter.errors import (
    AuthError,
    ClearPassword,
    ConnectError,
    LostError,
    QueryError,
    SourceError,
    SourceTimeout,
    Stopped,
)
from nimble_otter.query.documents.request import DocumentRequest
from nimble_otter.sources.address import AddressForm
from nimble_otter.sources.catalogue import Definition, EntryKind, Shapes, TableInfo
from nimble_otter.sources.dialects.documents import DOCUMENTS
from nimble_otter.sources.document_connection import DocumentConnection, refuse_missing
from nimble_otter.sources.document_writer import DocumentWriter
from nimble_otter.sources.plans import PlanNode, of_documents
from nimble_otter.sources.shapes import find_shapes
from nimble_otter.sources.source import Request, Run, check_writable
from nimble_otter.sources.trace import KEY_NAME
from nimble_otter.sources.urls import check_options, read_url, with_secret
from nimble_otter.sources.waits import WAITS
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.translation import tr
from nimble_otter.values import ClientObject, Value

if TYPE_CHECKING:
    from pymongo import MongoClient

    from nimble_otter.sources.tunnel import Tunnel

BATCH = 1000
_KEEPING = ("$match", "$sort", "$limit", "$skip", "$sample")
"""Stages after which each row is still a document of the collection."""


_FILE, _NUMBER, _FLAG = r"[^\0]+", r"\d{1,9}", "true|false"
_OPTIONS = {
    "authSource": r"[^\0]+", "authMechanism": r"[\w\-]+", "replicaSet": r"[\w.\-]+", "tls": _FLAG, "ssl": _FLAG,
    "tlsCAFile": _FILE, "tlsCertificateKeyFile": _FILE, "tlsAllowInvalidCertificates": _FLAG,
    "tlsAllowInvalidHostnames": _FLAG, "tlsInsecure": _FLAG, "directConnection": _FLAG, "loadBalanced": _FLAG,
    "readPreference": r"\w+", "readConcernLevel": r"\w+", "w": r"\w+", "journal": _FLAG, "retryReads": _FLAG,
    "retryWrites": _FLAG, "connectTimeoutMS": _NUMBER, "serverSelectionTimeoutMS": _NUMBER, "socketTimeoutMS": _NUMBER,
    "maxPoolSize": _NUMBER, "minPoolSize": _NUMBER, "compressors": r"[\w,]+", "appName": r"[\w.\- ]{1,60}",
    "uuidRepresentation": r"\w+",
}  # fmt: skip
"""Options of pymongo that a URI may give."""


class _Mongodb:
    key = "mongodb"
    word = tr("documents")
    schemes = ("mongodb", "mongodb+srv")
    dialects = (DOCUMENTS,)
    address = AddressForm(
        tr("Documents (MongoDB protocol)"), 4, "mongodb://user@host:27017/name", 27017, ca="tlsCAFile", many_hosts=True,
        tls={"required": {"tls": "true", "tlsAllowInvalidCertificates": "true"}, "verified": {"tls": "true"}},
        forwarded={"directConnection": "true"},
    )  # fmt: skip

    def takes(self, scheme: str) -> bool:
        return scheme in self.schemes

    def connect(self, url: str, password: str | None = None, clear_password: bool = False) -> MongodbConnection:
        check_options(url, _OPTIONS)
        options = {name.lower(): value.lower() for name, value in read_url(url).options}  # type: ignore[union-attr]
        has_tls = "true" in (options.get("tls"), options.get("ssl")) or url.startswith("mongodb+srv")
        if options.get("authmechanism") == "plain" and not has_tls and not clear_password:
            raise ClearPassword(
                tr("The URI asks for the password in clear text, and it was not sent."),
                tr("Choose TLS on the source's page, or allow it there."),
            )
        return MongodbConnection(url, password)


class MongodbConnection(DocumentConnection):
    """See sources.source.Connection. A stop closes the client from outside; the next call opens a new one."""

    dialect = DOCUMENTS

    def __init__(self, url: str, password: str | None) -> None:
        super().__init__()
        self._url = with_secret(url, password)
        self._client: MongoClient[dict[str, Any]] | None = None
        self._tunnel: Tunnel | None = None
        try:
            with _explained():
                self._database_name = self._find_database()
        except SourceError:
            self.close()
            raise
        except ValueError as problem:
            raise ConnectError(
                tr("The URI can't be used: {problem}.", problem=problem), tr("Write it like mongodb://host:27017/NAME.")
            ) from problem

    def _open(self) -> MongoClient[dict[str, object]]:
        if self._client is None:
            from pymongo import MongoClient

            self._client = MongoClient(
                self._url,
                # a server that refuses is tried again all that time
                serverSelectionTimeoutMS=int(WAITS.connect_s * 500),
                connectTimeoutMS=int(WAITS.connect_s * 1000),
                maxIdleTimeMS=int(WAITS.idle_s * 1000) or None,
                appname="nimble-otter",
            )
        return self._client

    def _find_database(self) -> str:
        client = self._open()
        client.admin.command("ping")
        named = client.get_default_database(default="").name if "/" in self._url.split("://", 1)[1] else ""
        if named:
            return named
        names = [n for n in client.list_database_names() if n not in ("admin", "config", "local")]
        if len(names) != 1:
            some = ", ".join(names[:6]) or tr("none of one's own")
            raise ConnectError(
                tr("The URI names no database; the server has {some}.", some=some),
                tr("Add one: mongodb://host:port/NAME."),
            )
        return names[0]

    @property
    def _database(self) -> ClientObject:
        return self._open()[self._database_name]

    def names(self) -> list[TableInfo]:
        """The collections, which are all that there is."""
        return self.tables()

    def tables(self) -> list[TableInfo]:
        """The collections of the database."""
        with _explained():
            names = sorted(n for n in self._database.list_collection_names() if not n.startswith("system."))
        return [TableInfo(name, EntryKind.COLLECTION) for name in names]

    def count(self, table: str) -> int:
        """How many documents a collection has."""
        with _explained():
            return int(self._database[table].estimated_document_count())

    def shapes(self, collection: str, sample: int = 1000) -> Shapes:
        """The shapes of a collection's documents, from a sample."""
        with _explained():
            total = self.count(collection)
            documents = list(self._database[collection].aggregate([{"$sample": {"size": sample}}]))
        indexed = tuple(dict.fromkeys(columns[0] for _, columns in self._indexes(collection)))
        found = self._shapes[collection] = find_shapes(collection, documents, total, indexed)
        return found

    def _indexes(self, collection: str) -> list[tuple[str, list[str]]]:
        """Names and paths of a collection's indexes; none where the server does not tell."""
        from pymongo.errors import OperationFailure

        with _explained():
            try:
                found = self._database[collection].index_information()
            except OperationFailure:
                return []
        return [(name, [path for path, _ in index["key"]]) for name, index in found.items()]

    def describe(self, table: TableInfo) -> Definition:
        """The collection's options and indexes."""
        from bson import json_util

        with _explained():
            results = [c for c in self._database.list_collections() if c["name"] == table.name]
        options = json_util.dumps((results[0] if results else {}).get("options", {}), indent=2)
        indexes = tuple((name, f"({', '.join(paths)})") for name, paths in self._indexes(table.name))
        return Definition(f"collection {table.name}\noptions {options}", (), indexes)

    def explain(self, request: Request, stop: StopToken) -> PlanNode:
        """How the server would answer a request."""
        wanted = self.translate(request)
        if wanted.pipeline is not None:
            command: dict[str, Any] = {
                "aggregate": wanted.collection, "pipeline": list(wanted.pipeline), "cursor": {}
            }  # fmt: skip
        else:
            command = {"find": wanted.collection, "filter": wanted.filter}
            command |= {"sort": dict(wanted.sort)} if wanted.sort else {}
        with _explained():
            return of_documents(self._database.command("explain", command, verbosity="queryPlanner"))

    def run(self, request: Request, stop: StopToken) -> Run:
        """Run a request and give its rows as they come."""
        wanted = self.translate(request)
        with _explained():
            names = self._database.list_collection_names()
            refuse_missing(wanted, names, request)
            unseen = [name for name in wanted.collections if name not in self._shapes]
            for name in unseen:
                self.shapes(name)
            wanted = self.translate(request) if unseen else wanted
        limits = [n for n in (wanted.limit, None if request.limit is None else request.limit + 1) if n is not None]
        is_direct = all(next(iter(stage), "") in _KEEPING for stage in wanted.pipeline or ())
        columns = wanted.columns
        lacks_key = bool(columns) and all(path != "_id" for _, path in columns)
        along = int(request.with_keys and is_direct and lacks_key)
        if along:
            columns = (*columns, (KEY_NAME + "0", "_id"))
            if wanted.projection is not None:
                wanted = replace(wanted, projection={**wanted.projection, "_id": 1})
        rows = self._batches(wanted, min(limits, default=None), stop)
        collection = wanted.collection if is_direct else ""
        return Run(rows, columns=columns, sent=DOCUMENTS.shown(wanted), unseen=along, collection=collection)

    def _batches(self, wanted: DocumentRequest, limit: int | None, stop: StopToken) -> Iterator[list[Value]]:
        if limit == 0:
            return
        collection = self._database[wanted.collection]
        close = self.close
        stop.on_stop(close)
        try:
            with _explained():
                if wanted.pipeline is not None:
                    cursor = collection.aggregate([*wanted.pipeline, *([{"$limit": limit}] if limit else [])])
                else:
                    cursor = collection.find(wanted.filter, wanted.projection, batch_size=BATCH)
                    cursor = cursor.sort(list(wanted.sort)) if wanted.sort else cursor
                    cursor = cursor.limit(limit) if limit else cursor
                batch = []
                for document in cursor:
                    batch.append(document)
                    if len(batch) >= BATCH:
                        yield batch
                        batch = []
                yield batch
        except SourceError:
            if not stop.is_set():
                raise
        finally:
            stop.forget(close)

    @contextmanager
    def transaction(self, stop: StopToken = NEVER, atomic: bool = True) -> Iterator[DocumentWriter]:
        """Raises: ChangeError where the source is marked read-only; SourceError's."""
        check_writable(self)
        with _explained():
            client, hello = self._open(), self._open().admin.command("hello")
        has_them = atomic and ("setName" in hello or hello.get("msg") == "isdbgrid")
        close = self.close
        stop.on_stop(close)
        try:
            with _explained(), client.start_session() if has_them else nullcontext() as session:
                if session is not None:
                    session.start_transaction()
                try:
                    yield DocumentWriter(client[self._database_name], session, _explained)
                finally:
                    if session is not None and session.in_transaction:
                        with suppress(Exception):  # of a connection that is lost the server itself rolls back
                            session.abort_transaction()
        except SourceError:
            stop.check()
            raise
        finally:
            stop.forget(close)

    def rights(self) -> tuple[str, ...]:
        """What the user may do that reaches beyond reading, in words for the source's page."""
        from pymongo.errors import OperationFailure

        with _explained():
            try:
                found = self._open().admin.command("connectionStatus").get("authInfo", {})
            except OperationFailure:
                return ()
        roles = {str(role.get("role")) for role in found.get("authenticatedUserRoles", [])}
        strong = sorted(
            roles & {"root", "dbOwner", "dbAdminAnyDatabase", "readWriteAnyDatabase", "clusterAdmin", "__system"}
        )
        return (
            (tr("This user has the roles {strong}: one that only reads is safer.", strong=", ".join(strong)),)
            if strong
            else ()
        )

    def close(self) -> None:
        """End the connection."""
        client, self._client = self._client, None
        if client is not None:
            client.close()
        if self._tunnel is not None:
            self._tunnel.close()

    def use_tunnel(self, tunnel: Tunnel) -> None:
        """See `Connection.use_tunnel`; pymongo opens its connections by itself."""
        self._tunnel = tunnel


@contextmanager
def _explained() -> Iterator[None]:
    """Turn the driver's errors into ours, in plain words and without the URI."""
    from pymongo import errors

    try:
        yield
    except errors.BulkWriteError as problem:
        found = problem.details.get("writeErrors") or problem.details.get("writeConcernErrors") or [{}]
        raise QueryError(
            tr("The server refused the request: {errmsg}.", errmsg=found[0].get("errmsg", tr("no reason given")))
        ) from problem
    except errors.OperationFailure as problem:
        if problem.code in (13, 18):
            raise AuthError(
                tr("The server refused the user name or password."), tr("Check both in the source.")
            ) from problem
        detail = (problem.details or {}).get("errmsg", "") if isinstance(problem.details, dict) else ""
        raise QueryError(
            tr("The server refused the request: {detail}.", detail=detail or tr("no reason given"))
        ) from problem
    except errors.ConfigurationError as problem:
        raise ConnectError(
            tr("The URI can't be used: {problem}.", problem=problem), tr("Write it like mongodb://host:27017/NAME.")
        ) from problem
    except errors.ServerSelectionTimeoutError as problem:
        raise _no_server(str(problem)) from problem
    except errors.AutoReconnect as problem:
        raise LostError(
            tr("The connection to the server was lost."), tr("Run again; the rows fetched so far are kept.")
        ) from problem
    except errors.InvalidOperation as problem:
        raise SourceError(tr("The request was ended: {problem}.", problem=problem)) from problem
    except Stopped:
        raise
    except errors.PyMongoError as problem:
        raise SourceError(tr("The server's answer can't be used: {problem}.", problem=problem)) from problem


def _no_server(text: str) -> SourceError:
    if "refused" in text:
        return ConnectError(
            tr("No server answers at this host and port: refused."), tr("Check the port, or start the server.")
        )
    if "not known" in text or "resolution" in text or "nodename" in text:
        return ConnectError(tr("The host's name is not known."), tr("Check its spelling."))
    return SourceTimeout(
        tr("The server did not answer in time."), tr("Check the host and port; a firewall may drop it.")
    )


DRIVER = _Mongodb()
