"""What of an open pull can be another than before."""

from __future__ import annotations

from enum import Flag, auto


class Aspect(Flag):
    """PULL: its text, steps or name. ROWS: what the grid shows; MORE_ROWS: further ones behind those. EDITS: what is
    pending. RUN: running, errors, notices, reports."""

    PULL = auto()
    ROWS = auto()
    MORE_ROWS = auto()
    EDITS = auto()
    RUN = auto()
