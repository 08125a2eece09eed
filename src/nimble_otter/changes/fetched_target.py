"""Where changes of fetched rows go."""

from __future__ import annotations

from nimble_otter.changes.document_plan import document_target
from nimble_otter.changes.target import Target, find_target
from nimble_otter.sources import Connection, Fetched, Source
from nimble_otter.sources.dialects import Dialect
from nimble_otter.translation import tr


def target_of(fetched: Fetched, dialect: Dialect, by_values: bool) -> Target:
    """What rows of a result are at the source: the table that they can be changed in, or why they can't."""
    origins = (*fetched.origins, *fetched.key_origins)
    return find_target(fetched.table, origins, fetched.tables, fetched.unseen, by_values, dialect)


def target_for(fetched: Fetched, connection: Connection, source: Source, by_values: bool) -> Target:
    """Where changes of the rows go. Whether the key tells all rows apart takes a moment on many rows: not for the
    window's thread."""
    if source.is_read_only:
        return Target(None, reason=tr("{source_name} is marked read-only on its page.", source_name=source.name))
    if not connection.dialect.writes:
        return Target(None, reason=tr("Rows of {word} can't be changed yet; send them instead.", word=source.word))
    if not fetched.origins:
        if not fetched.collection:
            return Target(None, reason=tr("The request groups or joins documents; a row is not a single document."))
        return document_target(fetched.table, fetched.collection, fetched.unseen, connection.dialect)
    return target_of(fetched, connection.dialect, by_values)
