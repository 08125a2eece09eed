"""Rows to a collection of documents, in batches; all or none where its server has transactions."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Iterator, Sequence
from decimal import Decimal
from typing import Any

from nimble_otter.errors import SendError, SourceError
from nimble_otter.send.format import Rows
from nimble_otter.sources.source import Connection
from nimble_otter.stop import StopToken
from nimble_otter.table import MISSING, Column
from nimble_otter.table.text.show import plain
from nimble_otter.translation import tr
from nimble_otter.values import Value

_DOCUMENTS = 500
"""In one message."""


def whole_text(text: str) -> str:
    """Raises: SendError for a text with bytes that are none of UTF-8."""
    if not text.isascii():
        try:
            text.encode()
        except UnicodeEncodeError as problem:
            message = tr("A text holds bytes that are not UTF-8, which the server can't store.")
            raise SendError(message, tr("Filter such rows out, or send them to a file.")) from problem
    return text


def documents_of(block: Sequence[Column], places: Sequence[int], names: Sequence[str]) -> Iterator[dict[str, object]]:
    """Rows as documents, without fields that are missing."""
    columns = [block[place].values() for place in places] if block else []
    for row in zip(*columns, strict=True):
        yield {name: _as_bson(value) for name, value in zip(names, row, strict=True) if value is not MISSING}


def _as_bson(value: object) -> Value:
    """A value as documents hold it: decimals exactly, days as midnight in UTC, other times as text."""
    from bson import Decimal128

    if isinstance(value, Decimal):
        return Decimal128(value)
    if isinstance(value, int) and not isinstance(value, bool) and not -(1 << 63) <= value < 1 << 63:
        return Decimal128(str(value))
    if isinstance(value, dt.date) and not isinstance(value, dt.datetime):
        return dt.datetime.combine(value, dt.time())
    if isinstance(value, (dt.time, dt.timedelta)):
        return plain(value)
    return whole_text(value) if isinstance(value, str) else value


def to_documents(
    rows: Rows, connection: Connection, collection: str, duplicates: str, places: list[int], names: list[str],
    stop: StopToken,
    tell: Callable[[int, int | None], object],
) -> tuple[int, int, int]:  # fmt: skip
    """How many were sent, are new, were updated. Raises: SendError, SourceError's, Stopped."""
    sent = added = updated = 0
    has_key = "_id" in names
    if duplicates != "stop" and not has_key:
        raise SendError(
            tr("No column is mapped to _id, which identifies documents."), tr("Map one to it, or let it stop.")
        )
    with connection.transaction(stop) as writer:
        try:
            for block in rows.blocks(stop):
                documents = list(documents_of(block, places, names))
                for start in range(0, len(documents), _DOCUMENTS):
                    stop.check()
                    part = documents[start : start + _DOCUMENTS]
                    there = set[Any]()
                    if duplicates != "stop":
                        there = {d["_id"] for d in writer.documents(collection, [d["_id"] for d in part])}
                    operations: list[Any] = [("insert", d, None) for d in part if not has_key or d["_id"] not in there]
                    new = len(operations)
                    if duplicates == "update":
                        operations += [
                            ("update", {"_id": d["_id"]}, {"$set": {k: v for k, v in d.items() if k != "_id"}})
                            for d in part
                            if d["_id"] in there
                        ]
                    done = writer.bulk(collection, operations) if operations else 0
                    if done != len(operations):
                        raise SendError(
                            tr(
                                "{done} of {operations_count} documents were written.",
                                done=done,
                                operations_count=len(operations),
                            ),
                            tr("Check the collection."),
                        )
                    sent, added, updated = sent + len(part), added + new, updated + len(operations) - new
                    tell(sent, rows.count)
        except (SourceError, SendError) as problem:
            if writer.is_atomic or not added + updated:
                raise
            raise SendError(
                tr(
                    "{message} {added} documents were written before: the server has no transactions.",
                    message=problem.message,
                    added=added + updated,
                ),
                tr("Check the collection before sending again."),
            ) from problem
        if writer.is_atomic:
            writer.commit()
    return sent, added, updated
