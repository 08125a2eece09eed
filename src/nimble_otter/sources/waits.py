"""How long servers are waited for. Whoever connects asks here; the window sets what its user chose."""

from __future__ import annotations

CONNECT_S, ANSWER_S = 8, 30
"""The usual ones: until a server takes a connection, and until a web service says something more."""


class Waits:
    """In whole seconds. A query may take as long as it takes: it is stopped by the user."""

    def __init__(self) -> None:
        self.connect_s, self.answer_s = CONNECT_S, ANSWER_S

    def set(self, connect_s: int, answer_s: int) -> None:
        """From the next connection, or request, on."""
        self.connect_s, self.answer_s = connect_s, answer_s


WAITS = Waits()
