"""Nimble Otter: pull query results, shape them here, correct cells safely, deliver the rows.

Everything but `desktop` is the core: it imports no interface code, starts no threads and may be called from any
one thread at a time. Read `table/__init__.py` first, then `pull/__init__.py`.
"""

__version__ = "0.2.0"
APPLICATION_ID = "org.nimbleotter.NimbleOtter"
"""By which the desktop knows the program."""
