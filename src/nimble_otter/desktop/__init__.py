"""The window. It knows no database: it asks the core, in lanes of `runtime/jobs.py`, and shows what comes back.

Everything here runs in the main thread but what is handed to `Jobs`. Packages import downwards only:

    app > tour > shell > query, steps, changes, send, sources, detail > grid > pulls > runtime > kit

Features do not know each other. `shell/window.py` connects them, `pulls/workspace.py` is what they have in common.
"""
