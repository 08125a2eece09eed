"""Servers of documents: their statements are objects, and written by `changes.document_write`."""

from __future__ import annotations

import json
from collections.abc import Mapping
from typing import TYPE_CHECKING, ClassVar

from nimble_otter.sources.dialects.dialect import Dialect

if TYPE_CHECKING:
    from nimble_otter.query.documents.request import DocumentRequest


class Documents(Dialect):
    """`statements` are the forms of what is done to one document, as people copy them: with the `name` of its
    collection, the `whole` new document, what it is `matched` by and the `change`, each as JSON."""

    key = family = "documents"
    keys: tuple[str, ...] = ("documents",)
    display_name = "documents"
    is_documents = True
    writes = True
    comment = "//"
    script_suffix = ".js"
    statements: ClassVar[Mapping[str, str]] = {
        "insert": "db.getCollection({name}).insertOne({whole});",
        "update": "db.getCollection({name}).updateOne({matched}, {change});",
        "delete": "db.getCollection({name}).deleteOne({matched});",
    }

    def shown(self, wanted: DocumentRequest) -> str:
        """A request as people read it: JSON with the server's own types written out (extended JSON, relaxed)."""
        from bson import json_util

        options = json_util.RELAXED_JSON_OPTIONS
        return json_util.dumps(wanted.as_native(), json_options=options, indent=2, ensure_ascii=False)


class _Couch(Documents):
    """CouchDB's protocol: JSON over HTTP, a revision for each document, no transactions. What a request filters, groups
    and joins is worked out here."""

    key = family = "couchdb"
    keys = ("couchdb", "documents")
    display_name = "CouchDB documents"
    statements: ClassVar[Mapping[str, str]] = {
        "insert": '{{"into": {name}, "insert": {whole}}}',
        "update": '{{"in": {name}, "where": {matched}, "change": {change}}}',
        "delete": '{{"from": {name}, "delete": {matched}}}',
    }

    def shown(self, wanted: DocumentRequest) -> str:
        """What is fetched, and what is done to it here."""
        names = wanted.collections or (wanted.collection,)
        fetched = [f"GET /{name}/_all_docs?include_docs=true" for name in names]
        here = json.dumps(wanted.as_native(), indent=2, ensure_ascii=False, default=str)
        return "\n".join([*fetched, "then here:", here])


DOCUMENTS = Documents()
COUCH = _Couch()
