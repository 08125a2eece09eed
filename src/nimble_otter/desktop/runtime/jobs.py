"""The one place that starts threads: a serial lane for each connection, a small pool for local work, and hands that
take parts of such work.

Work gets a stop token and a `report` function. Results come back in the main thread, queued. Work submitted under a
key that is in use stops the earlier one, and nothing of the earlier is delivered any more.

What a job holds (its work, its result, what is to be told of it) is let go of in the main thread: it may be the last
that knows of something of the window, and Qt crashes, rarely and anywhere, when that ends in another thread. For the
same reason Python's collector of cycles runs in the main thread alone.

Stopping never waits: servers are told from a thread of its own, and a lane whose work does not end (a server that took
the connection and never answers) is left behind, its waiting work going on in a new one.
"""

from __future__ import annotations

import gc
import itertools
import logging
import os
import queue
import sys
import threading
import time
import traceback
from collections.abc import Callable, Iterable, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from typing import Any, TypeVar

from PySide6.QtCore import QObject, Qt, QTimer, Signal

from nimble_otter.desktop.runtime.turn import Turn
from nimble_otter.errors import ChangeError, OtterError, Stopped
from nimble_otter.log import told
from nimble_otter.stop import StopToken
from nimble_otter.translation import tr

log = logging.getLogger(__name__)

Report = Callable[[Any], None]
Work = Callable[[StopToken, Report], Any]
_Part = TypeVar("_Part")
_Made = TypeVar("_Made")
LOCAL = "local"
CHARTS = "charts"
"""Charts are painted one at a time: the library that paints keeps things for all."""
LISTEN_MS = 850
"""How long stopped work may go on before its lane is left behind."""

TELL_S = 0.1
"""Seconds between two things that work says of how far it is."""

BEAT_MS = 4
LATE_S = 0.008
PATIENCE_S = 0.1
"""While work is under way the main thread says every BEAT_MS that it is at its events; when it did not for LATE_S, work
that looks at its token waits for it, at most so long at a look."""

COLLECT_MS = 200
COLLECT_SHARE = 100
"""A whole collection takes at most one part in this many of the window's time."""

MOST_HANDS = 8
"""More threads than this only wait for the memory."""

CLOSE_S = 3
"""How long a lane may take to end when the program does: a write is rolled back, a hung server is not waited for."""

LONG_S = 10
"""Work that took so long is told elsewhere, when the window is not in front."""


def _nothing(_: object) -> None:
    return


class _UiHeartbeat:
    """When the main thread was last seen to turn to its events; never late while nothing watches it."""

    def __init__(self) -> None:
        self.seen_at = float("inf")

    def is_late(self) -> bool:
        return time.monotonic() - self.seen_at > LATE_S


_beat = _UiHeartbeat()


class _Batch:
    """Parts of one piece of work, taken one after the other by whoever has a hand free."""

    def __init__(self, work: Callable[[Any], Any], parts: Sequence[object]) -> None:
        self._work, self._parts = work, parts
        self._made: list[Any] = [None] * len(parts)
        self._next = iter(range(len(parts)))
        self._failed: BaseException | None = None
        self._busy, self._is_over = 0, False
        self._quiet = threading.Condition()

    def help(self) -> None:
        with self._quiet:
            if self._is_over:
                return
            self._busy += 1
        self._take()
        with self._quiet:
            self._busy -= 1
            self._quiet.notify()

    def all(self) -> list[Any]:
        """Take turns oneself, then wait for what others have begun. Nothing of the work is held here afterwards: what
        it holds never ends in a thread that helped."""
        self._take()
        with self._quiet:
            self._is_over = True
            while self._busy:
                self._quiet.wait()
        items, failed = self._made, self._failed
        del self._work, self._parts, self._made, self._failed
        try:
            if failed is not None:
                raise failed
        finally:
            del failed  # its traceback knows this call, which must not know it
        return items

    def _take(self) -> None:
        try:
            for number in self._next:
                if self._failed is not None:
                    return
                self._made[number] = self._work(self._parts[number])
        except BaseException as problem:  # noqa: BLE001 - told where it is waited for
            self._failed = self._failed or problem


class _WorkerPool:
    """Threads that help with parts of work; begun when first wanted, and ended with the program."""

    def __init__(self, count: int) -> None:
        self._waiting: queue.SimpleQueue[_Batch] = queue.SimpleQueue()
        self.count, self._begun, self._lock = count, False, threading.Lock()

    def all(self, work: Callable[[Any], Any], parts: Sequence[object]) -> list[Any]:
        with self._lock:
            if not self._begun:
                self._begun = True
                for _ in range(self.count):
                    threading.Thread(target=self._serve, name="hand", daemon=True).start()
        turns = _Batch(work, parts)
        for _ in range(min(self.count, len(parts) - 1)):
            self._waiting.put(turns)
        return turns.all()

    def _serve(self) -> None:
        while True:
            self._waiting.get().help()


_pool = _WorkerPool(min(MOST_HANDS, len(os.sched_getaffinity(0))) - 1)


class JobToken(StopToken):
    """Reaches servers from a thread of its own: a server that is asked to cancel may not answer either. Parts of work
    are taken by all processors."""

    parallelism = _pool.count + 1
    _heard: Report | None = None
    _told = 0.0

    def listen(self, heard: Report) -> None:
        """From now on, what the work says of how far it is comes here; short work says nothing."""
        self._heard, self._told = heard, time.monotonic()

    def report_progress(self, done: int, whole: int | None) -> None:
        """Tell how far the work is, not more often than a reader can see."""
        now = time.monotonic()
        if self._heard is not None and now - self._told > TELL_S:
            self._told = now
            self._heard((done, whole))

    def yield_control(self) -> None:
        """Let go of the interpreter, whose own clock for that can be late by 150 ms, and stand still while the window
        is late: its Python and ours would else go on by turns."""
        time.sleep(0)
        if _beat.is_late():
            until = time.monotonic() + PATIENCE_S
            while _beat.is_late() and time.monotonic() < until:
                time.sleep(0.001)

    def map_parallel(self, work: Callable[[_Part], _Made], parts: Iterable[_Part]) -> list[_Made]:
        """Do the parts at once on the pool where there is room, in their order."""
        all_parts = list(parts)
        if len(all_parts) < 2 or self.parallelism < 2:
            return super().map_parallel(work, all_parts)
        return _pool.all(work, all_parts)

    def _call(self, callbacks: list[Callable[[], None]]) -> None:
        for callback in callbacks:
            threading.Thread(target=callback, name="stop", daemon=True).start()


class _SerialExecutor:
    """Work done one after the other, in a thread that the program does not wait for at its end."""

    def __init__(self, name: str, threads: int, run: Callable[[Job], None], ended: Callable[[int], None]) -> None:
        self.waiting: queue.SimpleQueue[Job | None] = queue.SimpleQueue()
        self.was_left = False
        self._run, self._ended = run, ended
        self._threads = [threading.Thread(target=self._serve, name=name, daemon=True) for _ in range(threads)]
        for thread in self._threads:
            thread.start()

    def _serve(self) -> None:
        _here.lane = self
        while (job := self.waiting.get()) is not None:
            self._run(job)
            number, job = job.number, None  # nothing of the job is held here when the main thread hears of its end
            self._ended(number)

    def close(self, wait_s: float) -> None:
        for _ in self._threads:
            self.waiting.put(None)
        for thread in self._threads:
            thread.join(wait_s)


def _area(key: str) -> str:
    """What a job is for, without what it is of: "pull … course" is a course."""
    return key.rpartition(" ")[2] if key.startswith("pull ") and key.count(" ") > 1 else key.partition(" ")[0]


_here = threading.local()


def is_left() -> bool:
    """Whether the lane that asks was left behind: what it does is not wanted by anyone."""
    lane: _SerialExecutor | None = getattr(_here, "lane", None)
    return lane is not None and lane.was_left


@dataclass(slots=True)
class Job:
    """Work under way. `title` is what the status strip calls it; `silent` work is not shown there."""

    number: int
    key: str
    lane: str
    title: str
    silent: bool
    work: Work
    done: Callable[[Any], None]
    failed: Callable[[OtterError], None]
    update: Callable[[Any], None]
    stopped: Callable[[], None] | None
    token: JobToken = field(default_factory=JobToken)
    started: bool = False
    ended: bool = False
    began: float = 0.0
    said: tuple[str, Any] = ("stopped", None)
    """How it ended (done, failed, stopped, crashed) and with what."""

    def stop(self) -> None:
        """Ask the work to end."""
        self.token.set()


class _Collector(QObject):
    """Python's collector of cycles, run by a timer of the main thread and no more by whichever thread makes objects."""

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        self._whole_at = 0.0
        gc.disable()
        timer = QTimer(self, interval=COLLECT_MS)
        timer.timeout.connect(self._look)
        timer.start()

    def _look(self) -> None:
        counts = [have > enough for have, enough in zip(gc.get_count(), gc.get_threshold(), strict=True)]
        began = time.monotonic()
        if not counts[0]:
            return
        if not (counts[2] and began > self._whole_at):
            gc.collect(1 if counts[1] else 0)
            return
        gc.collect()
        self._whole_at = began + COLLECT_SHARE * (time.monotonic() - began)


class Jobs(QObject):
    """Everything that runs beside the window. `changed` when work begins, ends or says something; `lane_left` with a
    lane's name when its thread was left behind; `long_ended` with the title of work that took long and how it ended."""

    changed = Signal()
    crashed = Signal(str)
    lane_left = Signal(str)
    long_ended = Signal(str, str)
    _arrived = Signal(int, str, object)
    _ended = Signal(int)

    def __init__(self) -> None:
        super().__init__()
        self.turn = Turn()
        self._lanes: dict[str, _SerialExecutor] = {}
        self._running: dict[int, Job] = {}
        self._held: dict[int, Job] = {}
        """What a lane knows of, wanted or not."""

        self._numbers = itertools.count(1)
        self.progress: dict[int, Any] = {}
        self._is_closed = False
        self._arrived.connect(self._deliver, Qt.ConnectionType.QueuedConnection)
        self._ended.connect(self._end_of, Qt.ConnectionType.QueuedConnection)
        self._collector = _Collector(self)
        self._beat = QTimer(self, interval=BEAT_MS, timerType=Qt.TimerType.PreciseTimer)
        self._beat.timeout.connect(self._note_beat)
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
        job = Job(next(self._numbers), key, lane, title, not title, work, done, failed, update, stopped)
        if self._is_closed:  # a timer of the window that fires after its end begins nothing any more
            return job
        self._running[job.number] = self._held[job.number] = job
        self._lane(lane).waiting.put(job)
        if not self._beat.isActive():
            self._beat.start()
        self.changed.emit()
        return job

    def _lane(self, name: str) -> _SerialExecutor:
        if name not in self._lanes:
            self._lanes[name] = self._new_lane(name, 2 if name == LOCAL else 1)
        return self._lanes[name]

    def _new_lane(self, name: str, threads: int) -> _SerialExecutor:
        return _SerialExecutor(name, threads, self._run, self._tell_end)

    def stop(self, key: str) -> None:
        """End all work of a key."""
        for job in list(self._running.values()):
            if job.key == key:
                self._end(job)

    def drop(self, key: str) -> None:
        """Nothing of the work under a key, or under one of its own ("key write"), is told any more."""
        for job in list(self._running.values()):
            if job.key == key or job.key.startswith(f"{key} "):
                self._forget(job.number)

    def stop_all(self) -> None:
        """End all work."""
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
        fresh = self._lanes[job.lane] = self._new_lane(job.lane, 1)
        while not lane.waiting.empty():
            fresh.waiting.put(lane.waiting.get())
        lane.waiting.put(None)
        self.lane_left.emit(job.lane)
        self._finish(job.number, "stopped", None)

    def is_running(self, key: str) -> bool:
        """Whether work of a key is under way."""
        return any(job.key == key for job in self._running.values())

    @property
    def is_busy(self) -> bool:
        """Whether any work is under way."""
        return bool(self._running)

    def shown(self) -> Job | None:
        """The job that the status strip tells of: the newest that has a title."""
        return next((job for job in reversed(self._running.values()) if not job.silent), None)

    def close(self) -> None:
        """Stop everything and let the lanes end, as far as they do; nothing is begun any more."""
        self._is_closed = True
        self._beat.stop()
        _beat.seen_at = float("inf")
        for job in self._running.values():
            job.stop()
        for lane in self._lanes.values():
            lane.close(CLOSE_S)
        self._lanes.clear()
        self._running.clear()

    def _note_beat(self) -> None:
        _beat.seen_at = time.monotonic()
        if not self._held:
            _beat.seen_at = float("inf")
            self._beat.stop()

    # --- in the lane -------------------------------------------------------------------------------------------

    def _run(self, job: Job) -> None:
        number = job.number  # all that is kept by what reports: a job must not hold itself

        def report(what: object) -> None:
            self._arrived.emit(number, "update", what)

        job.started, job.began = True, time.monotonic()
        log.debug("job %d began: %s", number, _area(job.key))
        job.token.listen(lambda told: self._arrived.emit(number, "told", told))
        try:
            job.token.check()
            job.said = ("done", job.work(job.token, report))
        except Stopped:
            pass
        except OtterError as problem:
            if not job.token.is_set() or isinstance(
                problem, ChangeError
            ):  # what became of a write is told, stopped or not
                log.warning("job %d failed: %s", number, type(problem).__name__)
                job.said = ("failed", problem.with_traceback(None))  # its traceback holds the job
        except Exception as problem:  # noqa: BLE001 - a bug of ours: told whole, and the lane goes on
            log.error("job %d crashed:\n%s", number, told(problem))
            job.said = ("crashed", traceback.format_exc())
        log.debug("job %d ended: %s, %.3f s", number, job.said[0], time.monotonic() - job.began)
        job.ended = True

    def _tell_end(self, number: int) -> None:
        with suppress(RuntimeError):  # the window is gone
            self._ended.emit(number)

    # --- in the main thread ------------------------------------------------------------------------------------

    def _deliver(self, number: int, what: str, payload: object) -> None:
        job = self._running.get(number)
        if job is None:
            return
        if what == "told" or isinstance(payload, tuple):
            self.progress[number] = payload
            self.changed.emit()
        if what == "update":
            with self.turn:
                job.update(payload)

    def _end_of(self, number: int) -> None:
        job = self._held.pop(number, None)
        if job is not None:
            self._finish(number, *job.said)

    def _finish(self, number: int, what: str, payload: Any) -> None:
        job = self._running.get(number)
        if job is None:
            return
        self._forget(number)
        with self.turn:
            if what == "done":
                job.done(payload)
            elif what == "failed":
                job.failed(payload)
            elif what == "stopped":
                if job.stopped is not None:
                    job.stopped()
            else:
                job.failed(OtterError(tr("Something went wrong inside Nimble Otter."), tr("The report can be copied.")))
        if what == "crashed":
            self.crashed.emit(str(payload))
        if job.title and job.began and what != "stopped" and time.monotonic() - job.began >= LONG_S:
            self.long_ended.emit(
                job.title,
                tr("Done after {seconds:.0f} s.", seconds=time.monotonic() - job.began)
                if what == "done"
                else str(payload)
                if what == "failed"
                else tr("Something went wrong."),
            )

    def _forget(self, number: int) -> None:
        self._running.pop(number, None)
        self.progress.pop(number, None)
        self.changed.emit()
