"""Writing documents: one at a time, in a transaction of the server's where it has them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import AbstractContextManager
from typing import Any

from nimble_otter.values import ClientObject, Value


class DocumentWriter:
    """`session` is a transaction under way, or None where the server has none. Errors are SourceError's."""

    def __init__(
        self, database: ClientObject, session: ClientObject, explained: Callable[[], AbstractContextManager[None]]
    ) -> None:
        self._database, self._session, self._explained = database, session, explained

    @property
    def is_atomic(self) -> bool:
        """Whether the server has transactions: all of it is written, or nothing."""
        return self._session is not None

    @staticmethod
    def new_id() -> object:
        """The _id of a new document."""
        import bson

        return bson.ObjectId()

    def documents(self, collection: str, keys: Sequence[object]) -> list[dict[str, object]]:
        """Documents by their _id, whole."""
        if not keys:
            return []
        with self._explained():
            return list(self._database[collection].find({"_id": {"$in": list(keys)}}, session=self._session))

    def one(self, collection: str, operation: tuple[object, ...]) -> int:
        """Insert, update or delete one document, as (kind, filter or new document, change). Returns how many were
        touched: none or one."""
        return self.bulk(collection, [operation])

    def bulk(self, collection: str, operations: Sequence[tuple[Value, ...]]) -> int:
        """Several in their order, in one message. Returns how many documents were touched by all."""
        from pymongo import DeleteOne, InsertOne, UpdateOne

        items: list[Any] = []
        for kind, first, change in operations:
            items.append(
                InsertOne(first)
                if kind == "insert"
                else DeleteOne(first)
                if kind == "delete"
                else UpdateOne(first, change)
            )
        with self._explained():
            done = self._database[collection].bulk_write(items, session=self._session)
        return int(done.inserted_count + done.matched_count + done.deleted_count)

    def commit(self) -> None:
        """Raises: SourceError's; after LostError the outcome is not known."""
        with self._explained():
            self._session.commit_transaction()
