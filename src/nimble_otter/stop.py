"""The stop token and the progress callback that are handed to long work."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterable
from typing import TypeVar

from nimble_otter.errors import Stopped
from nimble_otter.translation import tr

_Part = TypeVar("_Part")
_Made = TypeVar("_Made")
Progress = Callable[[int, int | None], None]
"""Called with (units done, units in all or None when not known)."""


class StopToken:
    """Set once, from any thread, to end work that checks it; callbacks reach a server from outside its lane."""

    parallelism: int = 1
    """How many parts `map_parallel` works on at once."""

    def __init__(self) -> None:
        self._event = threading.Event()
        self._lock = threading.Lock()
        self._callbacks: list[Callable[[], None]] = []

    def set(self) -> None:
        """Ask the work to end, and run what `on_stop` registered (once)."""
        with self._lock:
            self._event.set()
            callbacks, self._callbacks = self._callbacks, []
        self._call(callbacks)

    def _call(self, callbacks: list[Callable[[], None]]) -> None:
        """Reach the servers; a token whose setter must not wait does this elsewhere."""
        for callback in callbacks:
            callback()

    def is_set(self) -> bool:
        """Whether the work is to end."""
        return self._event.is_set()

    def check(self) -> None:
        """Raises: Stopped, when the token is set."""
        self.yield_control()
        if self._event.is_set():
            raise Stopped

    def report_progress(self, done: int, whole: int | None) -> None:
        """What work says of how far it is, in rows; for whoever handed out the token to hear."""

    def yield_control(self) -> None:
        """Let other threads have their turn. Work calls this, or `check`, every few thousand values."""

    def map_parallel(self, work: Callable[[_Part], _Made], parts: Iterable[_Part]) -> list[_Made]:
        """What `work` makes of each part, in their order. No part may need another to be done: whoever handed out the
        token may have several worked on at once; here they come one by one.

        Raises what `work` raises; parts that were not begun are left out then."""
        return [work(part) for part in parts]

    def on_stop(self, callback: Callable[[], None]) -> None:
        """Run `callback` when the token is set, at once if it is set already."""
        with self._lock:
            if not self._event.is_set():
                self._callbacks.append(callback)
                return
        callback()

    def forget(self, callback: Callable[[], None]) -> None:
        """Take back what `on_stop` registered; unknown callbacks are ignored."""
        with self._lock:
            if callback in self._callbacks:
                self._callbacks.remove(callback)


class _Never(StopToken):
    def set(self) -> None:
        raise RuntimeError(tr("the token that never stops cannot be set"))

    def on_stop(self, callback: Callable[[], None]) -> None:
        return


NEVER: StopToken = _Never()
"""For work that nobody can stop: tests and very short calls."""
