"""The window. It knows no database: it asks the core, in lanes of `jobs.py`, and shows what comes back.

Everything here runs in the main thread but what is handed to `Jobs`. Read `window.py` for how the parts stand,
`session.py` for the state of an open pull, `hub.py` for the sources; a view is one file in `views/`.
"""
