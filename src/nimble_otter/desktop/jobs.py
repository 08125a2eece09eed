"""The one place that starts threads: a serial lane for each connection, a small pool for local work.

Work gets a stop token and a `report` function. Results come back in the main thread, queued. Work submitted under a
key that is in use stops the earlier one, and nothing of the earlier is delivered any more.
"""

from __future__ import annotations

import itertools
import sys
import traceback
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import QObject, Qt, Signal

from nimble_otter.errors import OtterError, Stopped
from nimble_otter.stop import StopToken

if TYPE_CHECKING:
    from concurrent.futures import ThreadPoolExecutor

Report = Callable[[Any], None]
Work = Callable[[StopToken, Report], Any]
LOCAL = "local"


def _nothing(_: Any) -> None:
    return


@dataclass(slots=True)
class Job:
    """Work under way. `title` is what the status strip calls it; `silent` work is not shown there."""

    number: int
    key: str
    title: str
    silent: bool
    done: Callable[[Any], None]
    failed: Callable[[OtterError], None]
    update: Callable[[Any], None]
    stopped: Callable[[], None] | None
    token: StopToken = field(default_factory=StopToken)

    def stop(self) -> None:
        self.token.set()


class Jobs(QObject):
    """Everything that runs beside the window. `changed` when work begins, ends or says something."""

    changed = Signal()
    crashed = Signal(str)
    _arrived = Signal(int, str, object)

    def __init__(self) -> None:
        super().__init__()
        self._lanes: dict[str, ThreadPoolExecutor] = {}
        self._running: dict[int, Job] = {}
        self._numbers = itertools.count(1)
        self.progress: dict[int, Any] = {}
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
                job.stop()
                self._forget(job.number)
        job = Job(next(self._numbers), key, title, not title, done, failed, update, stopped)
        self._running[job.number] = job
        if lane not in self._lanes:
            from concurrent.futures import ThreadPoolExecutor

            self._lanes[lane] = ThreadPoolExecutor(2 if lane == LOCAL else 1, thread_name_prefix=lane)
        self._lanes[lane].submit(self._run, job, work)
        self.changed.emit()
        return job

    def stop(self, key: str) -> None:
        for job in list(self._running.values()):
            if job.key == key:
                job.stop()

    def stop_all(self) -> None:
        for job in list(self._running.values()):
            job.stop()

    def is_running(self, key: str) -> bool:
        return any(job.key == key for job in self._running.values())

    @property
    def is_busy(self) -> bool:
        return bool(self._running)

    def shown(self) -> Job | None:
        """The job that the status strip tells of: the newest that has a title."""
        return next((job for job in reversed(self._running.values()) if not job.silent), None)

    def close(self) -> None:
        """Stop everything and let the lanes end."""
        self.stop_all()
        for lane in self._lanes.values():
            lane.shutdown(wait=True, cancel_futures=True)
        self._lanes.clear()
        self._running.clear()

    # --- in the lane -------------------------------------------------------------------------------------------

    def _run(self, job: Job, work: Work) -> None:
        def report(what: Any) -> None:
            self._arrived.emit(job.number, "update", what)

        try:
            job.token.check()
            result = work(job.token, report)
        except Stopped:
            self._arrived.emit(job.number, "stopped", None)
        except OtterError as problem:
            self._arrived.emit(job.number, "failed", problem)
        except Exception:  # a bug of ours: told whole, and the lane goes on
            self._arrived.emit(job.number, "crashed", traceback.format_exc())
        else:
            self._arrived.emit(job.number, "done", result)

    # --- in the main thread ------------------------------------------------------------------------------------

    def _deliver(self, number: int, what: str, payload: Any) -> None:
        job = self._running.get(number)
        if job is None:
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
