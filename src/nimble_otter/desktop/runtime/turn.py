"""A turn: what happens at once for the user, however many parts of the program tell of it."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QTimer


class Turn:
    """While it lasts (`with turn:`), what is to be told waits for its end and is told once."""

    def __init__(self) -> None:
        self._depth = 0
        self._waiting: dict[Callable[[], object], None] = {}

    def at_end(self, tell: Callable[[], object]) -> None:
        """Tell at the end of the turn, once however often it was asked for; at once where there is none."""
        if not self._depth:
            tell()
            return
        if not self._waiting:
            QTimer.singleShot(
                0, self._tell_all
            )  # a dialog that is opened within a turn does not keep it from being told
        self._waiting[tell] = None

    def __enter__(self) -> None:
        self._depth += 1

    def __exit__(self, *_: object) -> None:
        try:
            self._tell_all()
        finally:
            self._depth -= 1

    def _tell_all(self) -> None:
        while self._waiting:
            tell = next(iter(self._waiting))
            del self._waiting[tell]
            tell()
