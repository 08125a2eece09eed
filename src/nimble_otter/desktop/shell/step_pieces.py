"""Steps kept as pieces: put by from the course, and offered where a step is added."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QObject
from PySide6.QtWidgets import QInputDialog

from nimble_otter.desktop.pulls.workspace import Workspace
from nimble_otter.errors import SavedError
from nimble_otter.pull.pieces import Piece, drop_piece, keep_piece, load_pieces

if TYPE_CHECKING:
    from PySide6.QtWidgets import QWidget


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
        usual = ", ".join(step.name or step.kind.capitalize() for step in steps)
        name, is_wanted = QInputDialog.getText(self._parent, "Keep as a piece", "Name:", text=usual)
        if not is_wanted:
            return
        try:
            kept = keep_piece(name, steps)
        except SavedError as problem:
            self._workspace.say(str(problem), True)
            return
        self._workspace.say(f"Kept as {kept.stem}; the + of a course offers it.", False)

    def add(self, name: str) -> None:
        """Put the steps of a piece behind those of the pull in sight; one undo takes them away."""
        pull = self._workspace.pull
        piece = next((piece for piece in self.offered() if piece.name == name), None)
        if pull is None or piece is None:
            return
        changed = pull.pull
        for step in piece.steps:
            changed = changed.with_step(step)
        pull.shaping.change(changed, f"Add {name}")
        self._workspace.say(f"{name} was added.", False)

    def drop(self, name: str) -> None:
        """Forget a piece; pulls that have its steps keep them."""
        try:
            drop_piece(name)
        except SavedError as problem:
            self._workspace.say(str(problem), True)
