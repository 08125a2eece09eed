"""Questions that are asked before something is written."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QDialog, QDialogButtonBox, QLineEdit, QMessageBox, QWidget

from nimble_otter.changes import Plan
from nimble_otter.desktop.kit.widgets import as_plain, button, calling, column, label
from nimble_otter.errors import OtterError
from nimble_otter.sources import Source
from nimble_otter.table.text.show import grouped
from nimble_otter.translation import tr, trn

if TYPE_CHECKING:
    from nimble_otter.send import Format


class CareQuestion(QDialog):
    """A source marked "take care" is written to only when its name was typed; `said` is what would be written."""

    def __init__(self, source: Source, said: str) -> None:
        super().__init__()
        self.setWindowTitle(tr("Write"))
        self.name = QLineEdit()
        self.name.setAccessibleName(tr("The source's name"))
        self.name.setPlaceholderText(source.name)
        self._wanted = source.name.strip().casefold()
        self.buttons = QDialogButtonBox()
        self.write = self.buttons.addButton(tr("Write them"), QDialogButtonBox.ButtonRole.AcceptRole)
        self.buttons.addButton(tr("Don't write"), QDialogButtonBox.ButtonRole.RejectRole)
        self.write.setEnabled(False)
        self.name.textChanged.connect(self._look)
        self.buttons.accepted.connect(self.accept)
        self.buttons.rejected.connect(self.reject)
        self.setLayout(
            column(
                label(tr("{source_name} is marked “take care”.", source_name=source.name), bold=True),
                label(said, wrap=True),
                label(tr("Type the source's name to go on:"), "muted"),
                self.name,
                self.buttons,
                space=10,
                margins=(18, 16, 18, 14),
            )
        )
        self.setMinimumWidth(420)

    def _look(self) -> None:
        self.write.setEnabled(self.name.text().strip().casefold() == self._wanted)


def ask_care(source: Source, plan: Plan) -> bool:
    """Whether the source's name was typed for the statements of a plan."""
    count = len(plan.statements)
    place = f" ({source.stage})" if source.stage else ""
    text = trn(
        "{count} statement would be written to {table}{place}.",
        "{count} statements would be written to {table}{place}.",
        count,
        count=grouped(count),
        table=plan.table,
        place=place,
    )
    return ask_name(source, text)


def ask_name(source: Source, said: str) -> bool:
    """Whether the source's name was typed."""
    return CareQuestion(source, said).exec() == QDialog.DialogCode.Accepted


class ExistsQuestion(QDialog):
    """What to do about a file that is there: a button a line; Enter does none of it. `way` is what was chosen."""

    def __init__(self, path: Path, format_: Format) -> None:
        super().__init__()
        self.setWindowTitle(tr("Send"))
        self.way = ""
        text = tr("It is in {parent}. Set “If it exists” to skip this question next time.", parent=path.parent)
        ways = (("number", tr("Add a number")), ("replace", tr("Replace it")), *format_.changes)
        self.buttons = {way: button(word[:1].upper() + word[1:], calling(self._take, way)) for way, word in ways}
        leave = button(tr("Don't send"), self.reject, "primary")
        for made in self.buttons.values():
            made.setAutoDefault(False)
        leave.setDefault(True)
        self.setLayout(
            column(
                label(tr("{path_name} already exists.", path_name=path.name), bold=True),
                label(text, "muted", wrap=True),
                *self.buttons.values(),
                leave,
                space=8,
                margins=(18, 16, 18, 14),
            )
        )
        self.setMinimumWidth(380)
        leave.setFocus()

    def _take(self, way: str) -> None:
        self.way = way
        self.accept()


def ask_exists(path: Path, format_: Format) -> str:
    """What to do about a file that is there; "" for nothing."""
    question = ExistsQuestion(path, format_)
    question.exec()
    return question.way


def ask_one_by_one(problem: OtterError, plan: Plan) -> bool:
    """Whether to write without a transaction."""
    box = QMessageBox(QMessageBox.Icon.Question, tr("Write"), as_plain(problem.message))
    count = len(plan.statements)
    how_many = trn("{count} statement", "{count} statements", count, count=grouped(count))
    box.setInformativeText(
        tr(
            "{how_many} can be written one by one, until the first that fails. The rows written "
            "by then stay; the report lists them.",
            how_many=how_many,
        )
    )
    write = box.addButton(tr("Write one by one"), QMessageBox.ButtonRole.AcceptRole)
    box.addButton(tr("Don't write"), QMessageBox.ButtonRole.RejectRole)
    box.exec()
    return box.clickedButton() is write


def ask_despite(lasting: str, plan: Plan | None) -> bool:
    """Whether to write what a reversal would not restore whole; without a plan: whether to go on though it is not
    known what became of an earlier write."""
    box = QMessageBox(QMessageBox.Icon.Warning, tr("Write"), "")
    if plan is None:
        box.setText(as_plain(lasting))
        box.setInformativeText(tr("Compare the rows with the pending changes, and revert those already written."))
        write = box.addButton(tr("I have compared them"), QMessageBox.ButtonRole.AcceptRole)
        leave = box.addButton(tr("Not yet"), QMessageBox.ButtonRole.RejectRole)
    else:
        box.setText(as_plain(tr("A reversal of this write to {table} would not restore everything.", table=plan.table)))
        box.setInformativeText(as_plain(tr("These stay as written: {lasting}.", lasting=lasting)))
        write = box.addButton(tr("Write it"), QMessageBox.ButtonRole.AcceptRole)
        leave = box.addButton(tr("Don't write"), QMessageBox.ButtonRole.RejectRole)
    box.setDefaultButton(leave)
    box.exec()
    return box.clickedButton() is write


def ask_while_writing(names: list[str]) -> bool:
    """Whether to close the window though writes are under way."""
    box = QMessageBox(
        QMessageBox.Icon.Warning, tr("Close"), as_plain(tr("A write is under way: {names}.", names=", ".join(names)))
    )
    box.setInformativeText(tr("If you close now, its outcome is checked at the next start."))
    close = box.addButton(tr("Close"), QMessageBox.ButtonRole.DestructiveRole)
    wait = box.addButton(tr("Wait for it"), QMessageBox.ButtonRole.RejectRole)
    box.setDefaultButton(wait)
    box.exec()
    return box.clickedButton() is close


def ask_drop(text: str, parent: QWidget) -> bool:
    """Whether to close a pull though something is pending on it."""
    box = QMessageBox(QMessageBox.Icon.Question, tr("Close"), as_plain(text), parent=parent)
    drop = box.addButton(tr("Discard them and close"), QMessageBox.ButtonRole.DestructiveRole)
    box.addButton(tr("Keep it open"), QMessageBox.ButtonRole.RejectRole)
    box.exec()
    return box.clickedButton() is drop
