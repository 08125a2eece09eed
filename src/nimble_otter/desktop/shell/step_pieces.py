"""Steps in several pulls: copied, kept as pieces, and offered where a step is added."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QObject
from PySide6.QtGui import QCursor
from PySide6.QtWidgets import QCheckBox, QDialog, QDialogButtonBox, QLineEdit, QMenu, QMessageBox

from nimble_otter.desktop.kit.widgets import as_plain, calling, column, label
from nimble_otter.desktop.pulls.new_steps import place_for
from nimble_otter.desktop.pulls.open_pull import OpenPull
from nimble_otter.desktop.pulls.workspace import Workspace
from nimble_otter.errors import SavedError
from nimble_otter.pull import places, run_course
from nimble_otter.pull.file import load_pull
from nimble_otter.pull.pieces import Piece, drop_piece, keep_piece, load_pieces
from nimble_otter.pull.steps import Step
from nimble_otter.pull.steps.base import step_title
from nimble_otter.table import Table
from nimble_otter.translation import tr

if TYPE_CHECKING:
    from PySide6.QtWidgets import QWidget


_USABLE = ("filter", "sort", "compute", "group", "columns", "check")


class KeepQuestion(QDialog):
    """Under which name steps are kept, and whether for everybody."""

    def __init__(self, usual: str, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle(tr("Keep as a piece"))
        self.name, self.for_team = QLineEdit(usual), QCheckBox(tr("Share it with the team"))
        self.name.setAccessibleName(tr("Name"))
        self.name.selectAll()
        self.for_team.setVisible(places.team_folder() is not None)
        self.buttons = QDialogButtonBox()
        self.buttons.addButton(tr("Keep"), QDialogButtonBox.ButtonRole.AcceptRole)
        self.buttons.addButton(QDialogButtonBox.StandardButton.Cancel)
        self.buttons.accepted.connect(self.accept)
        self.buttons.rejected.connect(self.reject)
        said = label(tr("The + of every course will offer it."), "muted")
        self.setLayout(column(said, self.name, self.for_team, self.buttons, space=10, margins=(18, 16, 18, 14)))
        self.setMinimumWidth(420)


class StepPieces(QObject):
    """For one window."""

    def __init__(self, workspace: Workspace, parent: QWidget) -> None:
        super().__init__(parent)
        self._workspace, self._parent = workspace, parent

    def offered(self) -> list[Piece]:
        """Those that are kept; what can't be read is told."""
        pieces, problems = load_pieces()
        if problems:
            self._workspace.say(" ".join(problems), True)
        return pieces

    def keep(self, first: int, last: int) -> None:
        """Ask for a name, and keep some steps of the pull in sight under it."""
        pull = self._workspace.pull
        steps = pull.pull.steps[first : last + 1] if pull is not None else ()
        usual = ", ".join(step.name or step_title(step.kind) for step in steps)
        question = KeepQuestion(usual, self._parent)
        if question.exec() != QDialog.DialogCode.Accepted:
            return
        try:
            kept = keep_piece(question.name.text(), steps, question.for_team.isChecked())
        except SavedError as problem:
            self._workspace.say(str(problem), True)
            return
        self._workspace.say(tr("Kept as {stem}; the + of a course offers it.", stem=kept.stem), False)

    def copy(self, at: int) -> None:
        """Put a copy of a step into another open pull, which is chosen from a menu."""
        pull, menu = self._workspace.pull, QMenu(self._parent)
        if pull is None:
            return
        for other in self._workspace.pulls:
            if other is not pull:
                menu.addAction(other.pull.name, calling(self._copy_into, other, pull.pull.steps[at]))
        if menu.isEmpty():
            self._workspace.say(tr("No other pull is open."), True)
            return
        menu.exec(QCursor.pos())

    def _copy_into(self, other: OpenPull, step: Step) -> None:
        other.shaping.add_step(step, tr("Copy {kind}", kind=step.kind), place_for(step, other.pull.steps))
        self._workspace.say(tr("Copied to {pull_name}.", pull_name=other.pull.name), False)

    def used(self, recent: Sequence[Path]) -> list[tuple[Step, str]]:
        """Filters, sorts and the like of other open pulls and of recent ones that fit the columns in sight, each with
        the pull that it is of."""
        pull = self._workspace.pull
        if pull is None or pull.table is None:
            return []
        others = [other.pull for other in self._workspace.pulls if other is not pull]
        for path in recent:
            with suppress(SavedError):
                others.append(load_pull(path))
        nothing = Table(pull.table.fields, tuple(column.take(np.arange(0)) for column in pull.table.columns), 0)
        found: dict[tuple[str, str], tuple[Step, str]] = {}
        mine = {(step.kind, step.words()) for step in pull.pull.steps}
        for other in others:
            for step in other.steps:
                key = (step.kind, step.words())
                if step.kind in _USABLE and key not in mine and key not in found:
                    course = run_course(nothing, (*pull.pull.steps, step))
                    if course.results[-1].error is None:
                        found[key] = step, other.name
        return list(found.values())

    def add_used(self, step: Step, where: str) -> None:
        """Put a step of another pull behind those of the pull in sight."""
        pull = self._workspace.pull
        if pull is not None:
            pull.shaping.add_step(
                step, tr("Add {kind} of {where}", kind=step.kind, where=where), place_for(step, pull.pull.steps)
            )

    def add(self, name: str) -> None:
        """Put the steps of a piece behind those of the pull in sight; one undo takes them away."""
        pull = self._workspace.pull
        piece = self._named(name)
        if pull is None or piece is None:
            return
        changed = pull.pull
        for step in piece.steps:
            changed = changed.with_step(step)
        pull.shaping.change(changed, tr("Add {name}", name=name))
        self._workspace.say(tr("{name} was added.", name=name), False)

    def drop(self, name: str) -> None:
        """Forget a piece, the team's after a question; pulls that have its steps keep them."""
        piece = self._named(name)
        if piece is None:
            return
        if piece.is_shared:
            box = QMessageBox(
                QMessageBox.Icon.Question,
                tr("Remove"),
                as_plain(tr("{name} is the team's.", name=name)),
                parent=self._parent,
            )
            box.setInformativeText(tr("It would be removed for everybody."))
            remove = box.addButton(tr("Remove it"), QMessageBox.ButtonRole.DestructiveRole)
            box.setDefaultButton(box.addButton(tr("Keep it"), QMessageBox.ButtonRole.RejectRole))
            box.exec()
            if box.clickedButton() is not remove:
                return
        try:
            drop_piece(piece)
        except SavedError as problem:
            self._workspace.say(str(problem), True)

    def _named(self, name: str) -> Piece | None:
        return next((piece for piece in self.offered() if piece.name == name), None)
