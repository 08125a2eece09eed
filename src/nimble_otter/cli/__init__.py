"""The command line, on the core alone: query, run, tables, sources, describe, shelf, history, formats, demo.

Exit codes: 0 done, 2 usage, 3 source, 4 query, 5 send, 6 held back by checks,
128 + n ended by signal n. One thread. Read `entry.py` first,
then `commands.py`; `flags.py` makes the flags, `delivery.py` takes rows from a source to files, `listing.py` tells what
there is.
"""

from nimble_otter.cli.entry import main

__all__ = ["main"]
