"""A change of the query's text that is proposed: what goes and what comes, before it is accepted."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtWidgets import QWidget

from nimble_otter.desktop.kit.diff_view import DiffView
from nimble_otter.desktop.kit.widgets import button, column, label, row
from nimble_otter.desktop.pulls.workspace import Proposal
from nimble_otter.translation import tr


class ProposalView(QWidget):
    """`propose` shows it; one of the two buttons ends it."""

    def __init__(self) -> None:
        super().__init__()
        self.title = label("", bold=True, wrap=True)
        self.lines = DiffView(tr("What changes in the query"))
        self.notes = label("", "muted", 11, wrap=True)
        self.accept_button = button(tr("Accept and run"), lambda: self._end(True), "primary")
        self.leave_button = button(tr("Leave it"), lambda: self._end(False))
        self.setLayout(
            column(self.title, self.lines, self.notes, row(self.accept_button, self.leave_button, None), space=7,
                   margins=(12, 9, 12, 9))
        )  # fmt: skip
        self._proposal: Proposal | None = None
        self._ended: Callable[[], object] = lambda: None
        self.is_open = False

    def propose(self, proposal: Proposal, ended: Callable[[], object]) -> None:
        """Show a proposal; `ended` is called when it was taken or left."""
        self.accept_button.setText(proposal.accept_text)
        self.leave_button.setText(proposal.leave_text)
        self.title.setText(proposal.title)
        self.lines.show_lines(proposal.lines)
        self.notes.setText("\n".join(dict.fromkeys(proposal.notes)))
        self.notes.setVisible(bool(proposal.notes))
        self._proposal, self._ended, self.is_open = proposal, ended, True
        self.accept_button.setFocus()

    def _end(self, is_accepted: bool) -> None:
        proposal, self._proposal, self.is_open = self._proposal, None, False
        self._ended()
        if proposal is not None:
            proposal.accept() if is_accepted else proposal.leave()
