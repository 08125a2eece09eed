"""Which pulls are open, which is in sight, and what is asked of the window as a whole. The parts of the window work
with this and never with the window itself."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

from PySide6.QtCore import QObject, Signal

from nimble_otter.desktop.pulls.notice import Notice, Severity
from nimble_otter.desktop.pulls.open_pull import OpenPull
from nimble_otter.desktop.pulls.pull_dependencies import PullDependencies
from nimble_otter.desktop.pulls.run_controller import RunQuestions
from nimble_otter.desktop.pulls.step_ref import StepRef, step_at
from nimble_otter.desktop.runtime.connections import ConnectionManager
from nimble_otter.pull import Pull, pull_to_text
from nimble_otter.translation import tr


@dataclass(frozen=True, slots=True)
class Proposal:
    """A change of a query's text to be accepted or left: its lines are marked "-", "+" or " "."""

    title: str
    lines: Sequence[tuple[str, str]]
    notes: Sequence[str]
    accept: Callable[[], object]
    accept_text: str = tr("Accept and run")
    leave_text: str = tr("Leave it")
    leave: Callable[[], object] = lambda: None


class Workspace(QObject):
    """Has no widgets. `leaving` is told before another pull comes into sight, `current_changed` after;
    `moved` says that the pulls stand in another order."""

    leaving = Signal()
    current_changed = Signal()
    pull_opened = Signal(object)
    pull_closed = Signal(object)
    moved = Signal()
    noticed = Signal(object)
    step_wanted = Signal(object, bool, str)
    """A `StepRef` to be edited, whether the keyboard goes there, and the part of it to begin at ("": none)."""
    proposed = Signal(object)

    def __init__(
        self,
        hub: ConnectionManager,
        first_number: int = 1,
        questions: RunQuestions | None = None,
        parent: QObject | None = None,
    ) -> None:
        super().__init__(parent)
        self.hub, self._questions = hub, questions
        self.pulls: list[OpenPull] = []
        self.current = -1
        self.next_number = first_number
        self.dependencies = PullDependencies(hub, self.pulls, self.say)

    @property
    def pull(self) -> OpenPull | None:
        """The pull in sight; None on the start page."""
        return self.pulls[self.current] if 0 <= self.current < len(self.pulls) else None

    def find(self, uid: str) -> OpenPull | None:
        """An open pull by its uid."""
        return next((pull for pull in self.pulls if pull.uid == uid), None)

    def open_quietly(self, pull: Pull, path: Path | None = None, number: int | None = None) -> OpenPull:
        """Open a pull in a tab of its own that is not shown yet. `number` is that of its draft."""
        number = number if number is not None else self.next_number
        self.next_number = max(self.next_number, number) + 1
        open_pull = OpenPull(pull, self.hub, path, number, self.dependencies.rows_for, self._questions)
        self.pulls.append(open_pull)
        self.pull_opened.emit(open_pull)
        return open_pull

    def open(self, pull: Pull, path: Path | None = None, run: bool = False) -> OpenPull:
        """Open a pull in a tab of its own and show it. One without a path was made here, by what the user did."""
        open_pull = self.open_quietly(pull, path)
        open_pull.waits = path is not None and not self.hub.known_pulls.has(pull)
        if path is not None:
            open_pull.saved_text = pull_to_text(pull)
        self.show(open_pull)
        if run:
            open_pull.runs.run()
        return open_pull

    def show(self, pull: OpenPull | None) -> None:
        """Bring an open pull into sight; None: the start page."""
        self.show_at(self.pulls.index(pull) if pull is not None else -1)

    def show_at(self, at: int) -> None:
        """Bring the tab number `at` into sight; the start page where there is none."""
        self.leaving.emit()
        self.current = at if 0 <= at < len(self.pulls) else -1
        self.current_changed.emit()

    def move(self, at: int, to: int) -> None:
        """Put the tab number `at` where the tab number `to` stands; what is in sight stays there."""
        shown = self.pull
        self.pulls.insert(to, self.pulls.pop(at))
        self.current = self.pulls.index(shown) if shown is not None else -1
        self.moved.emit()

    def close(self, pull: OpenPull) -> None:
        """Close a tab without asking; the one beside it comes into sight."""
        at = self.pulls.index(pull)
        self.leaving.emit()
        self.pulls.pop(at)
        self.current = min(self.current if at >= self.current else self.current - 1, len(self.pulls) - 1)
        self.current_changed.emit()
        self.pull_closed.emit(pull)
        pull.let_go()
        pull.deleteLater()

    def say(self, text: str, problem: bool = False) -> None:
        """Tell the user something in the status strip."""
        self.noticed.emit(Notice(text, Severity.WARNING if problem else Severity.INFO))

    def show_step(self, ref: StepRef, focus: bool = False, part: str = "") -> None:
        """Open the editor of a place of the course, at a part of it (a column, a value) where one is named."""
        self.step_wanted.emit(ref, focus, part)

    def show_local_step(self, at: int) -> None:
        """Open the editor of the local step number `at`."""
        self.show_step(step_at(at))

    def propose(self, proposal: Proposal) -> None:
        """Show a change of the query's text, to be accepted or left."""
        self.proposed.emit(proposal)
