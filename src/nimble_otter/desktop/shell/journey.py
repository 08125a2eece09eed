"""The first journey: nine things on the demo, one at a time under the live window, each of which it sees done.

The words are those of the guide's page "Start"; what counts as done is looked at in the pull in sight, however it came
about (mouse, key, command).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtWidgets import QWidget

from nimble_otter.desktop.kit.widgets import button, label, row, set_tone
from nimble_otter.desktop.pulls.open_pull import OpenPull
from nimble_otter.desktop.pulls.workspace import Workspace
from nimble_otter.pull.steps import FilterStep, GroupStep, SortStep
from nimble_otter.translation import tr

LOOK_MS, REST_MS = 250, 1200
"""How often it is looked whether a thing is done, and how long that is told."""


def _asks_frost(pull: OpenPull) -> bool:
    return pull.fetched is not None and pull.asked is not None and "where" in pull.asked.text.casefold()


def _has(pull: OpenPull, kind: type, is_on: bool = True) -> bool:
    return any(isinstance(step, kind) and step.on is is_on for step in pull.pull.steps)


@dataclass(frozen=True, slots=True)
class Stage:
    """Something to do, and whether it is done: by the open pulls and the one in sight."""

    title: str
    text: str
    is_done: Callable[[OpenPull], bool]


STAGES = (
    Stage(
        tr("Open a table"),
        tr("Double-click visit in Sources, at the left."),
        lambda pull: pull.fetched is not None and "visit" in pull.pull.query.text,
    ),
    Stage(tr("Ask"), tr("Write  where weather = 'frost'  under the query and press Ctrl+Enter."), _asks_frost),
    Stage(
        tr("Sort"),
        tr("Click the header visited_on. The course, at the top, has a step that says so."),
        lambda pull: _has(pull, SortStep),
    ),
    Stage(
        tr("Filter"),
        tr("Right-click a cell in station_id and choose “Keep only rows with this station_id”."),
        lambda pull: _has(pull, FilterStep),
    ),
    Stage(
        tr("Group"),
        tr("Drag the header volunteer_id on to the course, or choose Group from its +."),
        lambda pull: _has(pull, GroupStep),
    ),
    Stage(
        tr("Switch a step off"),
        tr("Select the group in the course and press Space. The rows are back; nothing is lost."),
        lambda pull: _has(pull, GroupStep, False),
    ),
    Stage(
        tr("Change a cell"),
        tr("Type over a cell in remark and press Enter. Nothing is written yet."),
        lambda pull: pull.edits.count > 0,
    ),
    Stage(
        tr("Rehearse"),
        tr("Alt+2 shows the statement; Rehearse runs it and rolls it back."),
        lambda pull: pull.report is not None,
    ),
    Stage(
        tr("Send"),
        tr("Alt+3. Choose CSV, a file name such as visits-{date}.csv, and Send."),
        lambda pull: bool(pull.last_sent),
    ),
)


class JourneyStrip(QWidget):
    """`demo_wanted` where the demo is not there yet; `guide_wanted` for the page with the same steps."""

    demo_wanted = Signal()
    guide_wanted = Signal()

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self._workspace = workspace
        self.at, self._rests = 0, False
        self.setObjectName("journey")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setAccessibleName(tr("First journey"))
        self.place, self.title, self.text = label("", "muted", 12), label("", bold=True), label("", wrap=True)
        self.skip = button(tr("Skip"), self._next, "link", tr("Go on without it"))
        self.read = button(tr("Read more"), self.guide_wanted.emit, "link", tr("The guide's page on the first steps"))
        self.end = button(tr("End"), self.leave, "plain", tr("End the journey"))
        parts = row(self.place, self.title, self.text, self.skip, self.read, self.end, space=12, margins=(15, 7, 12, 7))
        parts.setStretch(2, 1)
        self.setLayout(parts)
        self._timer = QTimer(self)
        self._timer.setInterval(LOOK_MS)
        self._timer.timeout.connect(self.look)
        self.hide()

    def begin(self) -> None:
        """From the first thing on; the demo is opened where it is not there."""
        if not self._workspace.hub.has_demo:
            self.demo_wanted.emit()
        self.at, self._rests = 0, False
        self.show()
        self._show()
        self._timer.start()

    def leave(self) -> None:
        """End it."""
        self._timer.stop()
        self.hide()

    def look(self) -> None:
        """Go on where the thing to do is done."""
        pull = self._workspace.pull
        if self._rests or pull is None or not STAGES[self.at].is_done(pull):
            return
        self._rests = True
        self.text.setText(tr("Done."))
        set_tone(self.text, "water1")
        QTimer.singleShot(REST_MS, self, self._next)

    def _next(self) -> None:
        self.at, self._rests = self.at + 1, False
        if self.at < len(STAGES):
            self._show()
            return
        self._timer.stop()
        self.place.setText("")
        self.title.setText(tr("That was the way of every pull."))
        self.text.setText(tr("Ctrl+S puts it on the shelf; next Monday it runs again with fresh rows."))
        self.skip.hide()

    def _show(self) -> None:
        self.place.setText(tr("{at} of {stages_count}", at=self.at + 1, stages_count=len(STAGES)))
        self.title.setText(STAGES[self.at].title)
        self.text.setText(STAGES[self.at].text)
        set_tone(self.text, "ink")
        self.skip.show()
