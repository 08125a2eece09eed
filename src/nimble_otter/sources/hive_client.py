"""A client of the HiveServer2 protocol (Spark, Hive; Apache Hive's `TCLIService.thrift`), as PEP 249 has it, above the
transport and the messages of the package impyla. Rows come as columns; a statement is asked for until it is done, so
that it can be stopped from any thread.
"""

from __future__ import annotations

import logging
import ssl
import threading
from collections.abc import Container, Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass
from itertools import chain
from typing import Any

import numpy as np

from nimble_otter.sources.column_cursor import ColumnCursor
from nimble_otter.table import Kind
from nimble_otter.table.core.columns import Mask
from nimble_otter.table.core.parts import ArrayPart, ColumnBatch, Part, given, text_part
from nimble_otter.translation import tr
from nimble_otter.values import ClientObject, Value

for _package in ("thrift", "impala"):  # what goes wrong is told by us
    logging.getLogger(_package).addHandler(logging.NullHandler())
_FIRST_LOOK_S, _LONGEST_LOOK_S = 0.005, 0.2
"""How soon it is asked whether a statement is done, and the longest time between two such questions."""
_UNDER_WAY = frozenset((0, 1, 7))
_DONE, _CANCELLED = 2, 3
"""Of TOperationState: initialized, running, pending; finished; cancelled."""
_REFUSED = frozenset((3, 4))
"""Of TStatusCode: ERROR, INVALID_HANDLE."""
_ZONE = b"+00"
_MANY = 10_000
"""Rows asked for at a time where it is not told how many."""
_NEXT = 0
"""Of TFetchOrientation."""
_OPTIONAL_KINDS = (("boolVal", Kind.BOOL), ("byteVal", Kind.INT), ("i16Val", Kind.INT), ("i32Val", Kind.INT),
                   ("i64Val", Kind.INT), ("doubleVal", Kind.FLOAT))  # fmt: skip
_DTYPES: dict[Kind, Any] = {Kind.BOOL: np.bool_, Kind.INT: np.int64, Kind.FLOAT: np.float64}


class HiveError(Exception):
    """What the server says of a statement; `state` is its SQLSTATE, "" without one."""

    def __init__(self, message: str, state: str = "") -> None:
        super().__init__(message)
        self.state = state


Error, paramstyle = HiveError, "qmark"
"""As PEP 249 has a client's module give them."""


@dataclass(frozen=True, slots=True)
class Where:
    """A server and how to sign in there: `mechanism` is one of SASL's as impyla names them, or NOSASL. `context` is for
    TLS, None without it."""

    host: str
    port: int
    user: str
    password: str
    mechanism: str = "PLAIN"
    schema: str = ""
    context: ssl.SSLContext | None = None
    service: str = "hive"


class HiveConnection:
    """One session. Any thread may `cancel` or `close`; statements go one by one."""

    def __init__(self, where: Where, settings: dict[str, str], connect_s: float) -> None:
        """Raises: OSError; what the packages thrift and thrift_sasl raise; HiveError."""
        from impala import hiveserver2 as protocol
        from thrift.transport.TSocket import TSocket

        self._protocol = protocol
        if where.context is None:
            self._socket = TSocket(where.host, where.port)
        else:
            from thrift.transport.TSSLSocket import TSSLSocket

            self._socket = TSSLSocket(where.host, where.port, ssl_context=where.context, server_hostname=where.host)
        self._socket.setTimeout(connect_s * 1000)
        self._transport = protocol.get_transport(
            self._socket, where.host, where.service, where.mechanism, where.user, where.password
        )
        self._turn, self.is_cancelled = threading.Lock(), threading.Event()
        try:
            self._transport.open()
            self._client = protocol.ThriftClient(protocol.TBinaryProtocolAccelerated(self._transport))
            session = self.call(
                "OpenSession", "TOpenSessionReq", client_protocol=protocol.V6_VERSION, username=where.user,
                configuration=settings,
            )  # fmt: skip
            self._session = session.sessionHandle
            self._socket.setTimeout(None)
        except BaseException:
            self._transport.close()
            raise

    def call(self, name: str, request: str, **given: object) -> ClientObject:
        """One message and its answer. Raises: HiveError; what the transport raises."""
        message = getattr(self._protocol, request)(**given)
        with self._turn:
            answer = getattr(self._client, name)(message)
        if answer.status.statusCode in _REFUSED:
            raise HiveError(str(answer.status.errorMessage or name), str(answer.status.sqlState or ""))
        return answer

    def fileno(self) -> int:
        """The number of the socket."""
        return int(self._socket.handle.fileno())

    def cursor(self) -> HiveCursor:
        """For one statement at a time."""
        return HiveCursor(self, self._session)

    def cancel(self) -> None:
        """End the statement that runs: whoever waits for it sees to it."""
        self.is_cancelled.set()

    def commit(self) -> None:
        """Nothing: there are no transactions."""

    rollback = commit

    def close(self) -> None:
        """End the session and the connection."""
        with suppress(Exception):  # of a line that is lost nothing is left to end
            self._socket.setTimeout(2000)
            self.call("CloseSession", "TCloseSessionReq", sessionHandle=self._session)
        self._transport.close()


class HiveCursor(ColumnCursor):
    """See PEP 249. `description` has (name, type's number) for each column."""

    arraysize = 1
    rowcount = -1

    def __init__(self, connection: HiveConnection, session: ClientObject) -> None:
        self._connection, self._session = connection, session
        self._operation: Any = None
        self._left: Iterator[tuple[Value, ...]] = iter(())
        self.description: list[tuple[str, Any]] | None = None

    def execute(self, text: str, values: Sequence[object] = ()) -> None:
        """Run a statement to its end; values have to stand in it. Raises: HiveError."""
        self.close()
        self._connection.is_cancelled.clear()
        begun = self._connection.call(
            "ExecuteStatement", "TExecuteStatementReq", sessionHandle=self._session, statement=text, confOverlay=None,
            runAsync=True,
        )  # fmt: skip
        self._take(begun)

    def ask(self, name: str, request: str, **given: object) -> None:
        """One of the protocol's own questions of the catalogue (GetColumns, ...)."""
        self.close()
        self._take(self._connection.call(name, request, sessionHandle=self._session, **given))

    def _take(self, begun: ClientObject) -> None:
        self._operation = begun.operationHandle
        has_rows = self._wait() or self._operation.hasResultSet
        self.description = self._columns() if has_rows else None
        self._left = chain.from_iterable(batch.as_rows() for batch in self.batches(_MANY, _MANY))

    def _wait(self) -> bool:
        """Until the statement is done; tells whether it gives rows."""
        look = _FIRST_LOOK_S
        while True:
            told = self._connection.call(
                "GetOperationStatus", "TGetOperationStatusReq", operationHandle=self._operation
            )
            if told.operationState not in _UNDER_WAY:
                break
            if self._connection.is_cancelled.wait(look):
                self._end("CancelOperation", "TCancelOperationReq")
                raise HiveError(tr("The statement was stopped."), "57014")
            look = min(look * 1.5, _LONGEST_LOOK_S)
        if told.operationState != _DONE:
            word = "The statement was stopped." if told.operationState == _CANCELLED else "The statement failed."
            raise HiveError(str(told.errorMessage or word), str(told.sqlState or ""))
        return bool(told.hasResultSet)

    def _columns(self) -> list[tuple[str, Any]]:
        told = self._connection.call(
            "GetResultSetMetadata", "TGetResultSetMetadataReq", operationHandle=self._operation
        )
        return [(c.columnName, c.typeDesc.types[0].primitiveEntry.type) for c in told.schema.columns]

    def batches(self, first: int, most: int, zoned: Container[int] = ()) -> Iterator[ColumnBatch]:
        """The rows as columns, the first batch of so many, the others of at most so many; moments of the columns at
        `zoned` with their zone, which is UTC."""
        size = first
        while self.description is not None:
            if self._connection.is_cancelled.is_set():
                raise HiveError(tr("The statement was stopped."), "57014")
            told = self._connection.call(
                "FetchResults", "TFetchResultsReq", operationHandle=self._operation,
                orientation=_NEXT, maxRows=size,
            )  # fmt: skip
            batch = batch_of(told.results.columns, zoned)
            if not batch.rows:
                return
            yield batch
            size = most

    def _end(self, name: str, request: str) -> None:
        with suppress(Exception):  # the server forgets it with the session
            self._connection.call(name, request, operationHandle=self._operation)

    def close(self) -> None:
        """Let the server forget the statement."""
        if self._operation is not None:
            self._end("CloseOperation", "TCloseOperationReq")
        self._operation, self.description, self._left = None, None, iter(())


def batch_of(columns: Sequence[ClientObject], zoned: Container[int]) -> ColumnBatch:
    """Columns of the protocol (TColumn) as a batch; `zoned` as in `batches`."""
    parts = [_part(column, _ZONE if place in zoned else b"") for place, column in enumerate(columns)]
    return ColumnBatch(parts, len(parts[0]) if parts else 0)


def _part(column: ClientObject, tail: bytes) -> Part:
    """The values of a TColumn: one of its lists is there, with a bit for each value that is NULL. `tail` goes behind
    each text."""
    for name, kind in _OPTIONAL_KINDS:
        held = getattr(column, name)
        if held is not None:
            return _numbers(held.values, kind, _empty(held))
    if column.binaryVal is not None:
        empty = _empty(column.binaryVal)
        return given(column.binaryVal.values, empty)
    return text_part(column.stringVal.values, _empty(column.stringVal), tail)


def _empty(held: ClientObject) -> Mask | None:
    """Which are NULL; the bits behind the last byte are 0."""
    bits = np.unpackbits(np.frombuffer(held.nulls, np.uint8), bitorder="little")[: len(held.values)]
    if not bits.any():
        return None
    mask = np.zeros(len(held.values), np.bool_)
    mask[: len(bits)] = bits
    return mask


def _numbers(values: list[Any], kind: Kind, empty: Mask | None) -> ArrayPart:
    return ArrayPart(kind, np.array(values, _DTYPES[kind]), empty, lambda: given(list(values), empty))
