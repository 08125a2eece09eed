"""Places in the state folder for windows that run at the same time on one home: each has its own drafts and layout, and
takes over those of windows that ended without a word."""

from __future__ import annotations

import fcntl
import os
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from nimble_otter.files import make_private
from nimble_otter.translation import tr

ROOM = 100_000
"""Numbers of pulls that each seat has."""
_MOST = 1000


class Seat:
    """Held as long as the object is; a process that ends, however it does, gives it up."""

    def __init__(self, folder: Path) -> None:
        """Take the first free seat of the state folder. Raises: OSError."""
        self._folder, self._held = folder / "seats", -1
        make_private(self._folder)
        for number in range(1, _MOST):
            held = self._take(number)
            if held is not None:
                self.number, self._held = number, held
                return
        raise OSError(tr("too many windows on one home"))

    def _take(self, number: int) -> int | None:
        """The open lock file; None where another window holds it."""
        handle = os.open(self._folder / f"{number}.lock", os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
        try:
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            os.close(handle)
            return None
        return handle

    @property
    def first_number(self) -> int:
        """The first number of a pull of this seat."""
        return (self.number - 1) * ROOM + 1

    def owns(self, number: int) -> bool:
        """Whether a number was given out by this seat."""
        return (number - 1) // ROOM + 1 == self.number

    @contextmanager
    def taking_over(self, number: int) -> Iterator[bool]:
        """Whether the seat that a pull's number belongs to is free; nobody else takes it over meanwhile."""
        other = (number - 1) // ROOM + 1
        held = self._take(other) if 0 < other < _MOST and other != self.number else None
        try:
            yield held is not None
        finally:
            if held is not None:
                os.close(held)

    def release(self) -> None:
        """Leave the seat."""
        held, self._held = self._held, -1
        if held >= 0:
            with suppress(OSError):
                os.close(held)

    def __del__(self) -> None:
        self.release()
