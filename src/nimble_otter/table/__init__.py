"""The table engine: immutable columns on NumPy, and what is done with them on this machine.

Columns and tables are never changed once made: their arrays are not writeable, and a view is an array of row ids over
a table. Every call may run in any thread; the results may be shared between threads. Long work takes a stop token.
Read `core/columns.py` first, then `core/build.py` (from row batches to columns) and `ops/sort.py` (the packed sort that
grouping and figures stand on).
"""

from nimble_otter.table.core.build import TableBuilder
from nimble_otter.table.core.columns import MISSING, Column, Field, Kind, Table, View

__all__ = ["MISSING", "Column", "Field", "Kind", "Table", "TableBuilder", "View"]
