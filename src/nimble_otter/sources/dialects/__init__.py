"""What the kinds of servers speak: one object for each, owned by its driver, asked by whoever makes a statement, reads
a value that was typed, or sends rows. Read `dialect.py` first: what it says holds for every server that is not told
otherwise. Any thread may ask."""

from nimble_otter.sources.dialects.dialect import Dialect

__all__ = ["Dialect"]
