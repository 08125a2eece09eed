"""One query under way on a relational server: its connection, its rows, its end, and its errors in our words."""

from __future__ import annotations

import os
import socket
import threading
from collections.abc import Iterator, Sequence
from contextlib import suppress
from typing import TYPE_CHECKING, Any

from nimble_otter.errors import LostError, SourceError
from nimble_otter.sources.session import Explaining, Running
from nimble_otter.stop import StopToken
from nimble_otter.table import Field, Kind, Table, TableBuilder
from nimble_otter.table.core.columns import distinct_names
from nimble_otter.table.core.parts import ColumnBatch
from nimble_otter.translation import tr
from nimble_otter.values import ClientObject, Value

if TYPE_CHECKING:
    from sqlalchemy.engine.interfaces import DBAPICursor

FIRST = 500
"""Rows of the first batch, which is to be seen at once."""
BATCH = 2000
LISTEN_S = 0.6
"""How long a server may take to heed a cancel before the line is cut."""


class Explained:
    """Turns the driver's errors, wrapped by SQLAlchemy or not, into ours."""

    def __init__(self, connection: Explaining, text: str) -> None:
        self._connection, self._text = connection, text

    def __enter__(self) -> None:
        return

    def __exit__(self, kind: object, problem: BaseException | None, _: object) -> None:
        if not isinstance(problem, Exception) or isinstance(problem, SourceError):
            return
        from sqlalchemy.exc import DBAPIError, SQLAlchemyError

        inner = problem.orig if isinstance(problem, DBAPIError) and problem.orig is not None else problem
        said = self._connection.translate_error(inner, self._text) if isinstance(inner, Exception) else None
        if said is None and isinstance(problem, SQLAlchemyError):
            said = SourceError(tr("The server's answer can't be used: {problem}.", problem=problem))
        if isinstance(said, LostError):
            self._connection.drop_connections()
        if said is not None:
            raise said from problem


Batch = Sequence[Value] | ColumnBatch
"""Rows as they come: a list of rows, or columns."""


class Answer:
    """One query under way: its connection out of the pool, its rows, and how it is stopped from outside."""

    def __init__(self, connection: Running, raw: ClientObject, text: str, stop: StopToken) -> None:
        self._connection, self._raw, self._text, self._stop = connection, raw, text, stop
        self.driver: Any = raw.driver_connection
        self.rows: Iterator[Batch] = iter(())
        self.cursor: Any = None
        self.in_columns = False
        """Whether batches of columns are taken, too."""
        self.limit: int | None = None
        """Rows beyond which none are read: a server that gives the first row when it has all may be told."""
        self.numbers: list[tuple[int, int]] = []
        """The server's numbers of each column's table and of the column in it, 0 where it has none; empty where the
        server does not tell."""
        self._handle = connection.handle_of(self.driver)  # some clients may not be asked from another thread
        self._socket = connection.socket_of(self.driver)
        self._done = threading.Event()
        self._thread = threading.get_ident()
        stop.on_stop(self._end)

    def _end(self) -> None:
        """Cancel at the server; when it does not listen, cut the line so that the lane comes free."""
        with suppress(Exception):
            self._connection.cancel(self._handle)
        if threading.get_ident() != self._thread and not self._done.wait(LISTEN_S) and self._socket is not None:
            sever(self._socket)

    def is_stopped(self) -> bool:
        """Whether it was ended before all rows had come."""
        return self._stop.is_set()

    def batches(self) -> Iterator[list[Value]]:
        """The rows, batch by batch; must be used up or closed."""
        is_whole = False
        try:
            with self._connection.explained(self._text):
                yield from self.rows  # type: ignore[misc]
            is_whole = True
        except SourceError:
            if not self._stop.is_set():
                raise
        finally:
            self.finish(is_whole)

    def finish(self, is_whole: bool) -> None:
        """Give the connection back; one whose rows were not all read is told to stop first."""
        self._stop.forget(self._end)
        self._connection.note_use()
        try:
            if not is_whole and self.cursor is not None:
                if not self._stop.is_set():
                    with suppress(Exception):
                        self._connection.cancel(self._handle)
                if self._connection.drains and self._socket is not None:
                    sever(self._socket)
                    self._connection.abandon(self.driver, self.cursor)
            close = getattr(self.rows, "close", None)
            if close is not None:
                close()
            if self.cursor is not None:
                self.cursor.close()
            self._connection.release(self.driver)
            self._raw.close()
        except Exception:  # noqa: BLE001 - a connection that can't even be closed is let go; the next run opens a new one
            with suppress(Exception):
                self._raw.invalidate()
        finally:
            self._done.set()


def results(cursor: DBAPICursor, limit: int | None) -> list[tuple[Table, bool]]:
    """Every result of a call as a table, with whether the limit cut it."""
    items = []
    while True:
        if cursor.description is not None:
            rows = list(cursor.fetchall() if limit is None else cursor.fetchmany(limit + 1))
            builder = TableBuilder(distinct_names(Field(c[0], Kind.TEXT) for c in cursor.description))
            builder.append([tuple(row) for row in rows[:limit]])
            items.append((builder.table(), limit is not None and len(rows) > limit))
        if not (getattr(cursor, "nextset", None) and cursor.nextset()):
            return items


def batches_of(cursor: ClientObject) -> Iterator[Sequence[Value]]:
    """A cursor's rows, the first few at once."""
    size = FIRST
    while batch := cursor.fetchmany(size):
        yield batch
        size = BATCH


def sever(number: int) -> None:
    """Shut a connection's socket from outside, so that whoever waits for it is woken with an error."""
    with suppress(OSError):
        copy = socket.socket(fileno=os.dup(number))
        try:
            copy.shutdown(socket.SHUT_RDWR)
        finally:
            copy.close()
