"""A change of the query's text that is proposed: what goes and what comes, before it is accepted."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PySide6.QtWidgets import QWidget

from nimble_otter.desktop.parts import button, column, label, row
from nimble_otter.desktop.views.diff_view import DiffView


class Proposal(QWidget):
    """`propose` shows it; one of the two buttons ends it."""

    def __init__(self) -> None:
        super().__init__()
        self.title = label("", bold=True, wrap=True)
        self.lines = DiffView("What changes in the query")
        self.notes = label("", "muted", 11, wrap=True)
        self.accept_button = button("Accept and run", lambda: self._end(True), "primary")
        self.leave_button = button("Leave it", lambda: self._end(False))
        self.setLayout(
            column(self.title, self.lines, self.notes, row(self.accept_button, self.leave_button, None), space=7,
                   margins=(12, 9, 12, 9))
        )  # fmt: skip
        self._accepted: Callable[[], object] = lambda: None
        self._ended: Callable[[], object] = lambda: None
        self._left: Callable[[], object] = lambda: None
        self.is_open = False

    def propose(
        self, title: str, lines: Sequence[tuple[str, str]], notes: Sequence[str], accepted: Callable[[], object],
        ended: Callable[[], object], word: str = "Accept and run",
        other: tuple[str, Callable[[], object]] | None = None,
    ) -> None:  # fmt: skip
        """Show lines marked "-", "+" or " "; `accepted` is called when it is taken, `ended` in any case. `word` is what
        the first button says, `other` what the second one says and does."""
        self.accept_button.setText(word)
        self.leave_button.setText(other[0] if other is not None else "Leave it")
        self._left = other[1] if other is not None else lambda: None
        self.title.setText(title)
        self.lines.show_lines(lines)
        self.notes.setText("\n".join(dict.fromkeys(notes)))
        self.notes.setVisible(bool(notes))
        self._accepted, self._ended, self.is_open = accepted, ended, True
        self.accept_button.setFocus()

    def _end(self, is_accepted: bool) -> None:
        self.is_open = False
        self._ended()
        self._accepted() if is_accepted else self._left()
