"""What is said, and can be done, while a transaction is open on a pull's source."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtWidgets import QMessageBox, QWidget

from nimble_otter.desktop.kit.widgets import as_plain, button, label, row
from nimble_otter.desktop.pulls.open_pull import OpenPull
from nimble_otter.desktop.runtime.connections import ConnectionManager
from nimble_otter.errors import OtterError
from nimble_otter.sources import Source
from nimble_otter.sources.open_transaction import OpenTransaction
from nimble_otter.translation import tr, trn


def words_of(held: OpenTransaction) -> str:
    """How long a transaction is open, and how much was done in it."""
    count = held.statements
    ran = trn("{count} statement ran in it", "{count} statements ran in it", count, count=count)
    ran = ran if count else tr("nothing ran in it yet")
    return tr("open since {since:%H:%M}; {ran}", since=held.since, ran=ran)


class TransactionStrip(QWidget):
    """Stands under the head of the query as long as a transaction is open there."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("raised")
        self._open_pull: OpenPull | None = None
        self.words = label("", "plum", 12)
        self.commit = button(tr("Commit"), self._commit, "", tr("Keep the changes made in it"))
        self.roll_back = button(tr("Roll back"), self._roll_back, "", tr("Discard the changes made in it"))
        self.setLayout(row(self.words, None, self.roll_back, self.commit, space=8, margins=(12, 3, 12, 3)))
        self.setAccessibleName(tr("Open transaction"))
        self.hide()

    def show_pull(self, open_pull: OpenPull) -> None:
        """Bring it up to date with a pull's source."""
        self._open_pull = open_pull
        held = open_pull.held
        self.setVisible(held is not None)
        if held is not None:
            self.words.setText(
                tr(
                    "A transaction on {known_name} is {words_of}.",
                    known_name=open_pull.hub.known(open_pull.pull.source).name,
                    words_of=words_of(held),
                )
            )
        for made in (self.commit, self.roll_back):
            made.setEnabled(not open_pull.is_running)

    def _commit(self) -> None:
        if self._open_pull is not None:
            self._open_pull.runs.end(True)

    def _roll_back(self) -> None:
        if self._open_pull is not None:
            self._open_pull.runs.end(False)


def ask_to_end(parent: QWidget, hub: ConnectionManager, sources: list[Source], then: Callable[[], object]) -> None:
    """Ask what becomes of open transactions, before what would leave them behind; `then` only when all are ended."""
    box = QMessageBox(QMessageBox.Icon.Question, tr("Open transaction"), "", parent=parent)
    names = ", ".join(s.name for s in sources)
    box.setText(as_plain(tr("A transaction is open on {names}.", names=names)))
    box.setInformativeText(
        as_plain("\n".join(f"{s.name}: {words_of(held)}." for s in sources if (held := hub.held(s)) is not None))
    )
    commit = box.addButton(tr("Commit"), QMessageBox.ButtonRole.AcceptRole)
    back = box.addButton(tr("Roll back"), QMessageBox.ButtonRole.DestructiveRole)
    box.addButton(tr("Not yet"), QMessageBox.ButtonRole.RejectRole)
    box.exec()
    if box.clickedButton() not in (commit, back):
        return
    left = len(sources)

    def done(problem: OtterError | None) -> None:
        nonlocal left
        left -= 1
        if problem is not None:
            hub.trouble.emit(str(problem))
        elif not left:
            then()

    for source in sources:
        hub.end(source, box.clickedButton() is commit, done)
