"""Servers of documents: their statements are objects, and written by `changes.document_write`."""

from __future__ import annotations

from nimble_otter.sources.dialects.dialect import Dialect


class _Documents(Dialect):
    key = family = "documents"
    keys = ("documents",)
    display_name = "documents"
    is_documents = True
    writes = True
    comment = "//"
    script_suffix = ".js"


DOCUMENTS = _Documents()
