"""Names for the few things whose type only the running program knows. Every other type is written out."""

from __future__ import annotations

from typing import Any

from numpy.typing import NDArray

Value = Any
"""A cell's value in Python: None, MISSING, bool, int, float, Decimal, str, bytes, a date, time, span or UUID and, of
documents, lists, mappings and the types of BSON. Which of them follows from the kind of its column."""

Stored = NDArray[Any]
"""A column's values as one array. Its dtype follows from the kind of the column; see `table.core.columns`."""

ClientObject = Any
"""An object of a server's client library (a connection, a cursor, a message), as that library documents it. Its package
may be missing, and no two have the same methods beyond PEP 249."""

Element = Any
"""An element of an XML tree (lxml, which has no types of its own)."""
