"""Our own command line in a process beside the window, which ends if it is stopped."""

from __future__ import annotations

import subprocess
from collections.abc import Callable

from nimble_otter.desktop.runtime.jobs import Jobs, Report
from nimble_otter.errors import OtterError, SendError
from nimble_otter.pull import timers
from nimble_otter.stop import StopToken
from nimble_otter.translation import tr


def key_of(name: str) -> str:
    """Under which the jobs know what delivers this."""
    return f"schedule {name}"


def call_beside(
    jobs: Jobs, words: list[str], name: str, said: Callable[[str, bool], object], ended: Callable[[], None]
) -> None:
    """Run a command; what it says last is `said`, and whether it is a problem. `ended` in any case."""

    def work(stop: StopToken, _: Report) -> str:
        process = subprocess.Popen(
            [*timers.command(), *words], stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
        )
        stop.on_stop(process.terminate)
        out, err = process.communicate()
        stop.check()
        if process.returncode:
            raise SendError((err.strip().splitlines() or [tr("It ended without a word.")])[-1])
        return (out.strip().splitlines() or [name])[-1]

    def done(text: str) -> None:
        said(text, False)
        ended()

    def failed(problem: OtterError) -> None:
        said(str(problem), True)
        ended()

    jobs.submit(key_of(name), key_of(name), work, done, failed, stopped=ended, title=tr("Delivering {name}", name=name))
