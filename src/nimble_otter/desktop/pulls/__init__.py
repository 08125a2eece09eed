"""Open pulls without their widgets: what is pending on them, undo, running them, and what was noted of their writes.

Everything here belongs to the main thread; work goes to lanes through `jobs`. Read `pending.py` first.
"""
