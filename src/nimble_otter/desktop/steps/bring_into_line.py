"""Bring into line: which side of a comparison is to become like the other, by which differences."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np
from PySide6.QtWidgets import QCheckBox, QVBoxLayout, QWidget

from nimble_otter.desktop.kit.widgets import button, column, label, row
from nimble_otter.desktop.pulls.open_pull import OpenPull
from nimble_otter.desktop.runtime.jobs import LOCAL
from nimble_otter.pull.align import Aligned, Side, Wanted, align, lacking, reserve
from nimble_otter.pull.compared import Compared
from nimble_otter.pull.row_files import is_rows_file
from nimble_otter.pull.steps import CompareStep
from nimble_otter.table.core.columns import Ids
from nimble_otter.table.ops.compare import CHANGED
from nimble_otter.table.text.show import grouped
from nimble_otter.translation import tr, trn

_WIDTH = 290
_MOST = 200_000
"""Changes that are pending at once, at most."""
_TOO_MANY = tr("More than 200 000 changes are written in batches: nimble-otter compare LEFT RIGHT --write.")


class BringIntoLine(QWidget):
    """Beside the editor of a Compare step. `show_pending` shows a pull of which differences became pending changes."""

    def __init__(self, open_pulls: Callable[[], Sequence[OpenPull]], show_pending: Callable[[OpenPull], None]) -> None:
        super().__init__()
        self.setObjectName("raised")
        self._open_pulls, self._show_pending = open_pulls, show_pending
        self.open_pull: OpenPull | None = None
        self._step = CompareStep()
        self.compared: Compared | None = None
        self._is_left = True
        self.insert, self.update_, self.delete = QCheckBox(), QCheckBox(), QCheckBox()
        self.insert.setChecked(True)
        self.update_.setChecked(True)
        self.shown_only = QCheckBox(tr("only rows that the last step shows"))
        self.into = label("", "muted", wrap=True)
        self.refused = label("", "plum", 12, wrap=True)
        self.make = button(
            tr("Make changes pending"), self.bring, "primary", tr("They are rehearsed and written in Changes")
        )
        self.turn = button(tr("Other way round"), self.turn_round, "", tr("Change the other side"))
        for each in (self.insert, self.update_, self.delete, self.shown_only):
            each.toggled.connect(lambda _: self._show_count())
        whole = QVBoxLayout(self)
        whole.setContentsMargins(14, 10, 14, 10)
        whole.addLayout(column(
            row(label(tr("Bring into line"), bold=True), None, self.turn), self.into, self.insert, self.update_,
            self.delete, self.shown_only, self.refused, row(self.make, None), None, space=7,
        ))  # fmt: skip
        self.setFixedWidth(_WIDTH)

    def show_step(self, open_pull: OpenPull, step: CompareStep, compared: Compared | None) -> None:
        """Show what the differences of a step would change."""
        self.open_pull, self._step, self.compared = open_pull, step, compared
        self.setVisible(compared is not None)
        if compared is not None:
            self._show(compared)

    def turn_round(self) -> None:
        """Change the other side."""
        self._is_left = not self._is_left
        if self.compared is not None:
            self._show(self.compared)

    @property
    def _other(self) -> OpenPull | None:
        return next((each for each in self._open_pulls() if each.pull.name == self._step.other), None)

    def _show(self, compared: Compared) -> None:
        assert self.open_pull is not None
        names = self.open_pull.pull.name, self._step.other.rpartition("/")[2]
        changed, like = names if self._is_left else names[::-1]
        self.into.setText(tr("{changed} becomes like {like}", changed=changed, like=like))
        differences = compared.found
        sides = (tr("right"), tr("left")) if self._is_left else (tr("left"), tr("right"))
        counts = (
            differences.count(lacking(self._is_left)),
            differences.count(CHANGED),
            differences.count(lacking(not self._is_left)),
        )
        texts = (
            tr("insert what is only {sides}", sides=sides[0]),
            tr("update what differs"),
            tr("delete what is only {sides}", sides=sides[1]),
        )
        for mark, words, count in zip((self.insert, self.update_, self.delete), texts, counts, strict=True):
            mark.setText(f"{words}   {grouped(count)}")
        self._show_count()

    def _show_count(self) -> None:
        compared = self.compared
        if compared is None:
            return
        lines, wanted = self._lines(compared), self.wanted
        states = compared.found.states.take(compared.lines if lines is None else compared.lines.take(lines))
        marks = (
            (lacking(self._is_left), wanted.insert),
            (CHANGED, wanted.update),
            (lacking(not self._is_left), wanted.delete),
        )
        count = sum(int(np.count_nonzero(states == state)) for state, is_wanted in marks if is_wanted)
        why = _TOO_MANY if count > _MOST else self._why_not(compared)
        self.make.setText(
            trn("Make {count} change pending", "Make {count} changes pending", count, count=grouped(count))
        )
        self.make.setEnabled(bool(count) and not why)
        self.refused.setText(why)
        self.refused.setVisible(bool(why))

    @property
    def wanted(self) -> Wanted:
        """Which differences become changes."""
        return Wanted(self.insert.isChecked(), self.update_.isChecked(), self.delete.isChecked())

    def _why_not(self, compared: Compared) -> str:
        """Why the side can't be changed; "" where it can."""
        if self._is_left:
            if compared.places is None:
                return tr("These rows are made by steps above; move them below, or compare the table itself.")
            return self.open_pull.target.reason if self.open_pull is not None else ""
        other = self._other
        if is_rows_file(self._step.other):
            return tr("A file is not changed; send the rows over it.")
        if self.open_pull is not None and self._step.other in self.open_pull.pinned:
            return tr("A pinned result is a copy; there is nothing to change.")
        if other is None or other.course is None:
            return tr("Open {other} first: its rows are changed there.", other=self._step.other)
        if other.shaped is None or not other.course.end.own_rows or other.course.end.grouped is not None:
            return tr("The rows of {pull_name} are made by its steps.", pull_name=other.pull.name)
        return other.target.reason

    def _side(self, compared: Compared) -> tuple[OpenPull, Side] | None:
        own = self.open_pull if self._is_left else self._other
        if own is None or own.table is None or own.course is None:
            return None
        places = compared.places if self._is_left else own.course.end.shown()
        view = compared.found.here if self._is_left else compared.found.there
        if places is None or view.table.columns[0] is not own.table.columns[places[0]]:
            return None  # the rows came anew, and are compared again
        new = reserve(compared, self._is_left, own.edits)
        return own, Side(self._is_left, own.table, new, own.target, places)

    def bring(self) -> None:
        """Make the differences pending changes of the side that is to change."""
        compared, open_pull = self.compared, self.open_pull
        if compared is None or open_pull is None or (found := self._side(compared)) is None:
            return
        own, side = found
        wanted, lines = self.wanted, self._lines(compared)

        def show(made: Aligned) -> None:
            own.changes.edit(made.action)
            self.refused.setText("; ".join(made.notes))
            self.refused.setVisible(bool(made.notes))
            self._show_pending(own)

        open_pull.jobs.submit(
            LOCAL, f"{open_pull.key} align", lambda stop, _: align(compared, side, wanted, lines, stop), show,
            title=tr("Bringing into line"),
        )  # fmt: skip

    def _lines(self, compared: Compared) -> Ids | None:
        """The differences that are shown at the end of the course; None for all."""
        course = self.open_pull.course if self.open_pull is not None else None
        if not self.shown_only.isChecked() or course is None or course.end.compared is not compared:
            return None
        return course.end.view.row_ids()
