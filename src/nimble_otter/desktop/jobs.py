"""The one place that starts threads: a serial lane for each connection, a small pool for local work.

Work gets a stop token and a `report` function. Results come back in the main thread, queued. Work submitted under a
key that is in use stops the earlier one, and nothing of the earlier is delivered any more.

Stopping never waits: servers are told from a thread of its own, and a lane whose work does not end (a server that took
the connection and never answers) is left behind, its waiting work going on in a new one.
"""

from __future__ import annotations

import itertools
import queue
import sys
import threading
import time
import traceback
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from PySide6.QtCore import QObject, Qt, QTimer, Signal

from nimble_otter.errors import OtterError, Stopped
from nimble_otter.stop import StopToken

Report = Callable[[Any], None]
Work = Callable[[StopToken, Report], Any]
LOCAL = "local"
LISTEN_MS = 850
"""How long stopped work may go on before its lane is left behind."""

TELL_S = 0.1
"""Seconds between two things that work says of how far it is."""

CLOSE_S = 3
"""How long a lane may take to end when the program does: a write is rolled back, a hung server is not waited for."""


def _nothing(_: Any) -> None:
    return


class _Token(StopToken):
    """Reaches servers from a thread of its own: a server that is asked to cancel may not answer either."""

    _heard: Report | None = None
    _told = 0.0

    def listen(self, heard: Report) -> None:
        """From now on, what the work says of how far it is comes here; short work says nothing."""
        self._heard, self._told = heard, time.monotonic()

    def tell(self, done: int, whole: int | None) -> None:
        now = time.monotonic()
        if self._heard is not None and now - self._told > TELL_S:
            self._told = now
            self._heard((done, whole))

    def give_way(self) -> None:
        time.sleep(0)  # lets go of the interpreter, whose own clock for that can be late by 150 ms

    def _call(self, callbacks: list[Callable[[], None]]) -> None:
        for callback in callbacks:
            threading.Thread(target=callback, name="stop", daemon=True).start()


class _Lane:
    """Work done one after the other, in a thread that the program does not wait for at its end."""

    def __init__(self, name: str, threads: int) -> None:
        self.waiting: queue.SimpleQueue[Callable[[], None] | None] = queue.SimpleQueue()
        self.was_left = False
        self._threads = [threading.Thread(target=self._serve, name=name, daemon=True) for _ in range(threads)]
        for thread in self._threads:
            thread.start()

    def _serve(self) -> None:
        _here.lane = self
        while (work := self.waiting.get()) is not None:
            work()

    def close(self, wait_s: float) -> None:
        for _ in self._threads:
            self.waiting.put(None)
        for thread in self._threads:
            thread.join(wait_s)


_here = threading.local()


def is_left() -> bool:
    """Whether the lane that asks was left behind: what it does is not wanted by anyone."""
    lane: _Lane | None = getattr(_here, "lane", None)
    return lane is not None and lane.was_left


@dataclass(slots=True)
class Job:
    """Work under way. `title` is what the status strip calls it; `silent` work is not shown there."""

    number: int
    key: str
    lane: str
    title: str
    silent: bool
    done: Callable[[Any], None]
    failed: Callable[[OtterError], None]
    update: Callable[[Any], None]
    stopped: Callable[[], None] | None
    token: _Token = field(default_factory=_Token)
    started: bool = False
    ended: bool = False
    began: float = 0.0

    def stop(self) -> None:
        self.token.set()


class Jobs(QObject):
    """Everything that runs beside the window. `changed` when work begins, ends or says something; `lane_left` with a
    lane's name when its thread was left behind."""

    changed = Signal()
    crashed = Signal(str)
    lane_left = Signal(str)
    _arrived = Signal(int, str, object)

    def __init__(self) -> None:
        super().__init__()
        self._lanes: dict[str, _Lane] = {}
        self._running: dict[int, Job] = {}
        self._numbers = itertools.count(1)
        self.progress: dict[int, Any] = {}
        self._is_closed = False
        self._arrived.connect(self._deliver, Qt.ConnectionType.QueuedConnection)
        sys.setswitchinterval(0.0005)  # a worker's plain Python must not hold the window for 5 ms at a time

    def submit(
        self,
        lane: str,
        key: str,
        work: Work,
        done: Callable[[Any], None] = _nothing,
        failed: Callable[[OtterError], None] = _nothing,
        update: Callable[[Any], None] = _nothing,
        stopped: Callable[[], None] | None = None,
        title: str = "",
    ) -> Job:
        """Run `work(token, report)` in a lane. Callbacks run in the main thread, unless a newer job has the key."""
        for job in list(self._running.values()):
            if job.key == key:
                self._end(job)
                self._forget(job.number)
        job = Job(next(self._numbers), key, lane, title, not title, done, failed, update, stopped)
        if self._is_closed:  # a timer of the window that fires after its end begins nothing any more
            return job
        self._running[job.number] = job
        self._lane(lane).waiting.put(lambda: self._run(job, work))
        self.changed.emit()
        return job

    def _lane(self, name: str) -> _Lane:
        if name not in self._lanes:
            self._lanes[name] = _Lane(name, 2 if name == LOCAL else 1)
        return self._lanes[name]

    def stop(self, key: str) -> None:
        for job in list(self._running.values()):
            if job.key == key:
                self._end(job)

    def stop_all(self) -> None:
        for job in list(self._running.values()):
            self._end(job)

    def _end(self, job: Job) -> None:
        job.stop()
        if job.lane != LOCAL:
            QTimer.singleShot(LISTEN_MS, self, lambda: self._leave(job))

    def _leave(self, job: Job) -> None:
        """Stopped work has not ended: leave its thread behind and go on in a new one."""
        lane = self._lanes.get(job.lane)
        if job.ended or not job.started or lane is None:
            return
        lane.was_left = True
        fresh = self._lanes[job.lane] = _Lane(job.lane, 1)
        while not lane.waiting.empty():
            fresh.waiting.put(lane.waiting.get())
        lane.waiting.put(None)
        self.lane_left.emit(job.lane)
        self._deliver(job.number, "stopped", None)

    def is_running(self, key: str) -> bool:
        return any(job.key == key for job in self._running.values())

    @property
    def is_busy(self) -> bool:
        return bool(self._running)

    def shown(self) -> Job | None:
        """The job that the status strip tells of: the newest that has a title."""
        return next((job for job in reversed(self._running.values()) if not job.silent), None)

    def close(self) -> None:
        """Stop everything and let the lanes end, as far as they do; nothing is begun any more."""
        self._is_closed = True
        for job in self._running.values():
            job.stop()
        for lane in self._lanes.values():
            lane.close(CLOSE_S)
        self._lanes.clear()
        self._running.clear()

    # --- in the lane -------------------------------------------------------------------------------------------

    def _run(self, job: Job, work: Work) -> None:
        def report(what: Any) -> None:
            self._arrived.emit(job.number, "update", what)

        job.started, job.began = True, time.monotonic()
        job.token.listen(lambda told: self._arrived.emit(job.number, "told", told))
        try:
            job.token.check()
            result = work(job.token, report)
        except Stopped:
            said: tuple[str, Any] = ("stopped", None)
        except OtterError as problem:
            said = ("stopped", None) if job.token.is_set() else ("failed", problem)
        except Exception:  # a bug of ours: told whole, and the lane goes on
            said = ("crashed", traceback.format_exc())
        else:
            said = ("done", result)
        job.ended = True
        try:
            self._arrived.emit(job.number, *said)
        except RuntimeError:  # the window is gone
            return

    # --- in the main thread ------------------------------------------------------------------------------------

    def _deliver(self, number: int, what: str, payload: Any) -> None:
        job = self._running.get(number)
        if job is None:
            return
        if what == "told":
            self.progress[number] = payload
            self.changed.emit()
            return
        if what == "update":
            if isinstance(payload, tuple):
                self.progress[number] = payload
                self.changed.emit()
            job.update(payload)
            return
        self._forget(number)
        if what == "done":
            job.done(payload)
        elif what == "failed":
            job.failed(payload)
        elif what == "stopped":
            if job.stopped is not None:
                job.stopped()
        else:
            job.failed(OtterError("Something went wrong inside Nimble Otter.", "The report can be copied."))
            self.crashed.emit(str(payload))

    def _forget(self, number: int) -> None:
        self._running.pop(number, None)
        self.progress.pop(number, None)
        self.changed.emit()
