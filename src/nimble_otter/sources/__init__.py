"""Sources: what can be reached, what is in it, and pulling rows out of it.

A `Source` is saved knowledge (a name and a URL without secrets); `connect` gives a `Connection`, which belongs to one
lane: one call at a time, from any thread, except `cancel`, which may come from outside. Read `source.py` first, then
`fetch.py`; a kind of server is one file in `drivers/`.
"""

from nimble_otter.sources.catalogue import ColumnInfo, Shape, Shapes, TableInfo
from nimble_otter.sources.fetch import Fetched, fetch
from nimble_otter.sources.source import Connection, Request, Source, connect, driver_for

__all__ = [
    "ColumnInfo",
    "Connection",
    "Fetched",
    "Request",
    "Shape",
    "Shapes",
    "Source",
    "TableInfo",
    "connect",
    "driver_for",
    "fetch",
]
