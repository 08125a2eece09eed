"""Watching a pull: its rows are asked for again every so often, and what is another than before is marked and kept."""

from __future__ import annotations

import datetime as dt
import time
from collections import deque

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication

from nimble_otter.desktop.pulls.aspect import Aspect
from nimble_otter.desktop.pulls.pull_state import PullState
from nimble_otter.desktop.pulls.run_controller import Answer, RunController
from nimble_otter.desktop.runtime.jobs import LOCAL, Report
from nimble_otter.errors import OtterError, SourceError
from nimble_otter.pull.course import checks_of
from nimble_otter.pull.steps.check import stopping
from nimble_otter.pull.watching import Looked, OtherColumns, Seen, look, matching, wait_s
from nimble_otter.session_bus import notify
from nimble_otter.sources.source import Listening
from nimble_otter.stop import StopToken
from nimble_otter.translation import tr, trn

_TOLD_MS = 300
"""What is told at once is one look."""
MOST_KEPT = 10_000
"""Changes that are kept, the newest first."""


class Watch:
    """One for each open pull. `every_s` 0: it is not watched. `seen` are the changes, the newest first; `condition` is
    of the local language: rows that are new or changed and for which it holds are told by a notification; so is a check
    that fails where it held before. `rests_hidden`: nothing is asked while the window can't be seen."""

    def __init__(self, own: PullState, runs: RunController) -> None:
        self._own, self._runs = own, runs
        self.every_s, self.condition, self.rests_hidden, self.tells_checks = 0, "", True, True
        self.channel = ""
        self.seen: deque[Seen] = deque(maxlen=MOST_KEPT)
        self.words, self.problem = "", ""
        self.looks = 0
        self._began = 0.0
        self._held: set[str] = set()
        self._timer = QTimer(own, singleShot=True)
        self._timer.timeout.connect(self._look)
        self._told = QTimer(own, singleShot=True, interval=_TOLD_MS)
        self._told.timeout.connect(self._look)

    def set_channel(self, channel: str) -> None:
        """Look when something is told on a channel of the server, too; "" for none."""
        self.channel = channel.strip()
        self._listen()

    def _listen(self) -> None:
        """Listen, as long as there is a channel and the pull is watched."""
        own, key = self._own, f"{self._own.key} listen"
        own.jobs.stop(key)
        if not (self.every_s and self.channel):
            return
        source, channel = own.hub.known(own.pull.source), self.channel

        def work(stop: StopToken, report: Report) -> None:
            connection = own.hub.connect_new(source)
            try:
                if not isinstance(connection, Listening):
                    raise SourceError(
                        tr("{word} has no channels to listen to.", word=source.word), tr("Watch it by time alone.")
                    )
                for text in connection.listen(channel, stop):
                    report(text)
            finally:
                connection.close()

        own.jobs.submit(f"listen {own.uid}", key, work, failed=self._failed_to_listen, update=lambda _: self._hear())

    def _hear(self) -> None:
        if not self._told.isActive():
            self._told.start()

    def _failed_to_listen(self, problem: OtterError) -> None:
        """Told; the next look by time begins to listen anew."""
        self.problem, self._is_deaf = str(problem), True
        self._own.tell(Aspect.RUN)

    _is_deaf = False

    def set_every(self, seconds: int) -> None:
        """Watch every so many seconds; 0 ends it. What only reads is watched, nothing else."""
        self.problem = ""
        if seconds and not self._runs.may_run_unasked(self._own.pull.query.text):
            self.problem = tr("Only a query that reads, with a value for each parameter, is watched.")
            seconds = 0
        elif seconds and self._own.table is None:
            self.problem = tr("There are no rows to compare with yet: run the query first.")
            seconds = 0
        self.every_s = seconds
        self._timer.stop()
        if seconds:
            self.words = ""
            self._timer.start(1000 * seconds)
        self._listen()
        self._own.tell(Aspect.RUN)

    def clear(self) -> None:
        """Forget the changes."""
        self.seen.clear()
        self._own.tell(Aspect.RUN)

    def _next(self, took_s: float = 0.0) -> None:
        if self.every_s and not self._own.is_closed:
            self._timer.start(int(1000 * wait_s(self.every_s, took_s)))

    def _is_hidden(self) -> bool:
        return not any(w.isVisible() and not w.isMinimized() for w in QApplication.topLevelWidgets())

    def _look(self) -> None:
        own = self._own
        busy = own.is_running or own.is_writing or own.held is not None or own.show_at is not None
        if busy or own.table is None or (self.rests_hidden and self._is_hidden()):
            self._next()
            return
        if self._is_deaf:
            self._is_deaf = False
            self._listen()
        self._timer.stop()
        self._began = time.monotonic()
        self._runs.look(self._compare, self._failed)

    def _failed(self, problem: OtterError) -> None:
        """Told once, and tried again: a server that is down may come back."""
        self.problem = str(problem)
        self._own.tell(Aspect.RUN)
        self._next(time.monotonic() - self._began)

    def _compare(self, answer: Answer) -> None:
        own, before, now = self._own, self._own.table, dt.datetime.now()
        if before is None or not self.every_s or own.is_running:
            self._next()
            return
        places = [place for place, _ in own.target.keys]
        shown = all(place < len(before.fields) for place in places)
        keys = [before.fields[place].name for place in places] if shown else []
        condition = self.condition

        def work(stop: StopToken, _: Report) -> tuple[Looked, int]:
            looked = look(before, answer.fetched.table, keys, now, stop)
            return looked, matching(answer.fetched.table, looked.fresh, condition, stop)

        def done(found: tuple[Looked, int]) -> None:
            if own.table is before and self.every_s:
                self._take(answer, *found, now)
            self._next(time.monotonic() - self._began)

        def failed(problem: OtterError) -> None:
            is_other = isinstance(problem, OtherColumns)
            self.problem = str(problem)
            if is_other:
                self.set_every(0)
                self.problem = str(problem)
            own.tell(Aspect.RUN)
            self._next(time.monotonic() - self._began)

        own.jobs.submit(LOCAL, f"{own.key} watch", work, done, failed)

    def _take(self, answer: Answer, found: Looked, matches: int, now: dt.datetime) -> None:
        own = self._own
        self.looks += 1
        self.problem, self.words = "", f"{now:%H:%M:%S}: {found.words()}"
        if found.is_same:
            own.fetched_at = now
            own.tell(Aspect.RUN)
            return
        self.seen.extendleft(reversed(found.seen))
        self._runs.take_look(answer, found.moved, frozenset(found.fresh.tolist()), self._look_at_checks)
        if matches:
            self._notify(
                trn(
                    "{matches} row: {condition}",
                    "{matches} rows: {condition}",
                    matches,
                    matches=matches,
                    condition=self.condition,
                )
            )

    def _look_at_checks(self) -> None:
        own = self._own
        if not self.tells_checks or own.course is None:
            return
        failing = {each.words() for each in stopping(checks_of(own.course))}
        lines = {each.split(":")[0] for each in failing}
        if fresh := sorted(each for each in failing if each.split(":")[0] not in self._held):
            self._notify(tr("Check fails: {fresh}", fresh="; ".join(fresh)))
        self._held = lines

    def _notify(self, said: str) -> None:
        name = self._own.pull.name
        self._own.jobs.submit(LOCAL, "notify", lambda *_: notify(name, said))
        self.words += f" · {said}"
        self._own.tell(Aspect.RUN)
