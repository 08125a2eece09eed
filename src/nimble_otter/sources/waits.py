"""How long servers are waited for, and what is held of them. Whoever connects asks here; the window sets what its user
chose."""

from __future__ import annotations

import os
import socket
from contextlib import suppress

from nimble_otter.values import Value

CONNECT_S, ANSWER_S, IDLE_MIN, MOST_LINES = 8, 30, 10, 4
"""The usual ones: until a server takes a connection, until a web service says something more, until a connection that
nobody uses is closed, and connections to one source at most."""
_KEPT = 2


def keep_alive(number: int | None) -> None:
    """Have the system look after a socket, by its number, while nothing is sent: a line that is gone is found out
    within a minute, and routers do not forget one that is quiet (RFC 9293, 3.8.4). None: there is no socket."""
    if number is None:
        return
    with socket.socket(fileno=os.dup(number)) as line, suppress(OSError):
        line.setsockopt(socket.SOL_SOCKET, socket.SO_KEEPALIVE, 1)
        for option, value in ((socket.TCP_KEEPIDLE, 20), (socket.TCP_KEEPINTVL, 5), (socket.TCP_KEEPCNT, 3)):
            line.setsockopt(socket.IPPROTO_TCP, option, value)


class Waits:
    """Times in whole seconds, `idle_s` 0 for ever. A query may take as long as it takes: it is stopped by the user."""

    def __init__(self) -> None:
        self.set(CONNECT_S, ANSWER_S)

    def set(self, connect_s: int, answer_s: int, idle_min: int = IDLE_MIN, most_lines: int = MOST_LINES) -> None:
        """From the next connection, or request, on."""
        self.connect_s, self.answer_s, self.idle_s, self.most_lines = connect_s, answer_s, 60 * idle_min, most_lines

    def pool(self) -> dict[str, Value]:
        """How SQLAlchemy keeps the connections of a source."""
        more = max(0, self.most_lines - _KEPT)
        return {"pool_size": _KEPT, "max_overflow": more, "pool_timeout": 5, "pool_use_lifo": True}


WAITS = Waits()
