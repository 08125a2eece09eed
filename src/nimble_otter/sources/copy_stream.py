"""A query's rows as columns: COPY to the client in PostgreSQL's binary format, as it runs."""

from __future__ import annotations

import select
from collections.abc import Iterator, Sequence
from contextlib import suppress
from itertools import repeat

from nimble_otter.sources.binary_copy import HEADER, READERS, SIGNATURE, TRAILER, Reader, batch_of, text_reader
from nimble_otter.sources.result_stream import FIRST
from nimble_otter.table.core.parts import ColumnBatch
from nimble_otter.translation import tr
from nimble_otter.values import ClientObject

_NUMERIC = 1700
COPIED = 8000
"""Rows of a batch of columns."""
_AS_WRITTEN = "case when num_nonnulls({0}) = 1 then format('%s', {0}) end"
"""A value as its type's output function writes it, which a cast to text need not; of rows too."""
_DRAIN_S = 5


def reader_of(form: ClientObject, place: int, cursor: ClientObject) -> tuple[Reader, bool]:
    """What reads the values of a column, and whether the server has to write them as text for that."""
    from psycopg.pq import Format
    from psycopg.types.string import TextLoader

    oid = form.ftype(place)
    is_unscaled = oid == _NUMERIC and form.fmod(place) < 0  # any number of digits behind the point
    if oid in READERS and not is_unscaled:
        return READERS[oid], False
    loader = cursor.adapters.get_loader(oid, Format.TEXT)
    is_plain = loader is None or issubclass(loader, TextLoader)
    return text_reader(None if is_plain else loader(oid, cursor).load), True


def copy_of(query: str, is_cast: Sequence[bool]) -> str:
    """COPY of a query, with those columns as text that are to be."""
    if any(is_cast):
        names = [f"c{n}" for n in range(len(is_cast))]
        shown = ", ".join(_AS_WRITTEN.format(name) if cast else name for name, cast in zip(names, is_cast, strict=True))
        query = f"select {shown} from ({query}\n) as q ({', '.join(names)})"
    return f"copy ({query}\n) to stdout (format binary)"


def batches_of(driver: ClientObject, readers: Sequence[Reader]) -> Iterator[ColumnBatch]:
    """The batches of a COPY that was begun; the server sends each row in a message of its own (PostgreSQL
    documentation, 55.2.6). Closed early, it has the server stop."""
    from psycopg import errors, generators
    from psycopg.pq import ExecStatus

    plain, wanted = driver.pgconn, FIRST
    take = plain.get_copy_data
    line = select.poll()
    line.register(plain.socket, select.POLLIN)
    rows, widths, is_begun, is_over = bytearray(), list[int](), False, False
    try:
        while not is_over:
            count = 0
            for _ in repeat(None, wanted - len(widths)):
                count, message = take(1)
                if count <= len(TRAILER):
                    break
                rows += message
                widths.append(count)
            if not is_begun and widths:  # the file's header stands before the first row
                is_begun, begins = True, _header_of(rows)
                rows, widths = rows[begins:], [width for width in (widths[0] - begins, *widths[1:]) if width > 2]
            if len(widths) >= wanted:
                yield batch_of(rows, widths, readers)
                rows, widths, wanted = bytearray(), [], COPIED
            elif count == 0:
                line.poll()
                plain.consume_input()
            is_over = count < 0
        for result in driver.wait(generators.fetch_many(plain)):  # unlike get_result it lets other threads run
            if result.status == ExecStatus.FATAL_ERROR:
                raise errors.error_from_result(result)
        if widths:
            yield batch_of(rows, widths, readers)
    finally:
        if not is_over:
            with suppress(Exception):
                _end_copy(driver, line)


def _header_of(rows: bytearray) -> int:
    """Where the rows begin, behind the file's header; see COPY, Binary Format. Raises: ValueError."""
    if rows[: len(SIGNATURE)] != SIGNATURE:
        raise ValueError(tr("the server's COPY does not begin as one"))
    return HEADER + int.from_bytes(rows[HEADER - 4 : HEADER], "big")


def _end_copy(driver: ClientObject, line: select.poll) -> None:
    """Have the server stop, and take what was under way, so that the connection can be used again; one that does not
    come to its end is closed."""
    from psycopg import generators

    driver.cancel_safe(timeout=1)
    while (count := driver.pgconn.get_copy_data(1)[0]) >= 0:
        if count == 0:
            if not line.poll(1000 * _DRAIN_S):
                driver.close()
                return
            driver.pgconn.consume_input()
    driver.wait(generators.fetch_many(driver.pgconn))


def after_first(first: ColumnBatch, batches: Iterator[ColumnBatch]) -> Iterator[ColumnBatch]:
    """The first batch and those behind it."""
    try:
        yield first
        yield from batches
    finally:
        batches.close()  # type: ignore[attr-defined]
