"""What is sent to a document server, and a query as stages on its way there."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from nimble_otter.query.documents.names import Reading, Types

if TYPE_CHECKING:
    from nimble_otter.query.lazy import exp

Stages = list[dict[str, Any]]


@dataclass(frozen=True, slots=True)
class DocumentRequest:
    """What is sent: a find (`filter`, `projection`, `sort`, `limit`) unless `pipeline` is given.

    `columns` are (name shown, path in the answer) in order; empty for `select *`. `collections` are all that are read.
    """

    collection: str
    filter: dict[str, Any] = field(default_factory=dict)
    projection: dict[str, Any] | None = None
    sort: tuple[tuple[str, int], ...] = ()
    limit: int | None = None
    pipeline: tuple[dict[str, Any], ...] | None = None
    columns: tuple[tuple[str, str], ...] = ()
    collections: tuple[str, ...] = ()

    def as_native(self) -> object:
        """What the server gets, as nested Python values, to be shown."""
        if self.pipeline is not None:
            return list(self.pipeline)
        shown: dict[str, Any] = {"find": self.collection, "filter": self.filter}
        if self.projection:
            shown["projection"] = self.projection
        if self.sort:
            shown["sort"] = dict(self.sort)
        if self.limit is not None:
            shown["limit"] = self.limit
        return shown


@dataclass(frozen=True, slots=True)
class Built:
    """A query as stages on a collection. `columns` are (label, field) of its rows, none for `select *`; `types` are the
    kinds of values by path in those rows. `find` is the same without stages, where that can be."""

    collection: str
    stages: Stages
    columns: tuple[tuple[str, str], ...] = ()
    types: Types = field(default_factory=dict)
    find: DocumentRequest | None = None


def distinct() -> Stages:
    """Remove duplicate rows; all their fields must be there, null where they are empty."""
    return [{"$group": {"_id": "$$ROOT"}}, {"$replaceRoot": {"newRoot": "$_id"}}]


def paged(reading: Reading, node: exp.Expr) -> Stages:
    """OFFSET and LIMIT."""
    offset, limit = node.args.get("offset"), node.args.get("limit")
    skip = reading.number(offset.expression, "OFFSET") if offset is not None else 0
    stages: Stages = [{"$skip": skip}] if skip else []
    if limit is not None:
        count = reading.number(limit.expression, "LIMIT")
        stages.append({"$limit": count} if count else {"$match": {"_id": {"$in": []}}})
    return stages
