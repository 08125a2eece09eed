"""The command line, on the core alone: query, run, tables, formats, demo.

Exit codes: 0 done, 2 usage, 3 source, 4 query, 5 send. One thread. Read `main.py` first; `flags.py` makes the flags,
`delivery.py` takes rows from a source to files.
"""

from nimble_otter.cli.flags import UsageError, parse_group, parse_parameters, parse_sort
from nimble_otter.cli.main import main

__all__ = ["UsageError", "main", "parse_group", "parse_parameters", "parse_sort"]
