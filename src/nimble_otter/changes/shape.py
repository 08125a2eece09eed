"""What of a value decides the text of its statement."""

from __future__ import annotations

from nimble_otter.changes.edits import DEFAULT
from nimble_otter.sources.dialects.dialect import BROKEN


def shape(value: object) -> str:
    """Statements whose values have the same shapes have the same text."""
    if isinstance(value, str):
        return "broken" if BROKEN.search(value) else "text"
    if value is DEFAULT:
        return "default"
    return "none" if value is None else ("bytes" if isinstance(value, bytes) else "plain")
