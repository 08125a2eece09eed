"""Files that tests write to by themselves."""

import sqlite3
from contextlib import closing, contextmanager


@contextmanager
def sqlite_file(path, **more):
    """A connection to a file of SQLite: committed at the end, and closed."""
    with closing(sqlite3.connect(path, **more)) as made, made:
        yield made
