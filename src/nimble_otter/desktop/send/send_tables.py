"""Sending whole tables from the catalogue: which, in what format, and where to. Nothing of them is shown first."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from PySide6.QtCore import QSize, Qt
from PySide6.QtWidgets import (
    QDialog,
    QDialogButtonBox,
    QFileDialog,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QWidget,
)

from nimble_otter.desktop.kit.widgets import as_plain, boxed, button, column, combo, label, row, set_tone
from nimble_otter.pull.model import SendPlan
from nimble_otter.send import all_formats, format_for
from nimble_otter.sources import Source, TableInfo
from nimble_otter.table.text.show import grouped
from nimble_otter.translation import tr, trn

_EXISTS = (("refuse", tr("stop")), ("number", tr("number the new ones")), ("replace", tr("replace them")))


class SendTables(QDialog):
    """`plan` and `chosen` are what was settled on once it was accepted."""

    def __init__(
        self, parent: QWidget, source: Source, tables: Sequence[TableInfo], ticked: Sequence[str], folder: str = "~"
    ) -> None:
        super().__init__(parent)
        self.setWindowTitle(tr("Send tables"))
        self._known = [table for table in tables if table.holds_rows]
        self.list = QListWidget()
        self.list.setAccessibleName(tr("Tables"))
        for table in self._known:
            text = (
                tr("{table_name}   {rows} rows", table_name=table.name, rows=grouped(table.rows))
                if table.rows is not None
                else table.name
            )
            item = QListWidgetItem(text)
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Checked if table.name in ticked else Qt.CheckState.Unchecked)
            item.setSizeHint(QSize(0, 24))
            self.list.addItem(item)
        self.list.itemChanged.connect(lambda _: self._look())
        self.format = combo(((f.key, f.word) for f in all_formats()), "csv", tr("Format"))
        self.format.activated.connect(lambda _: self._format_chosen())
        self.each = combo((("each", tr("a file for each table")), ("one", tr("all in one file"))), "each", tr("Files"))
        self.each.activated.connect(lambda _: self._format_chosen())
        self.path = QLineEdit(f"{folder}/{source.name}/{{table}}.csv")
        self.path.setAccessibleName(tr("File"))
        self.path.setToolTip(as_plain(tr("Filled in: {table} {source} {date} {time} {date:%Y-%m}")))
        self.path.textChanged.connect(lambda _: self._look())
        self.exists = combo(_EXISTS, "refuse", tr("If a file exists"))
        self.said = label("", "muted", 12, wrap=True)
        self.buttons = QDialogButtonBox()
        self.send = self.buttons.addButton(tr("Send"), QDialogButtonBox.ButtonRole.AcceptRole)
        self.buttons.addButton(tr("Close"), QDialogButtonBox.ButtonRole.RejectRole)
        self.buttons.accepted.connect(self.accept)
        self.buttons.rejected.connect(self.reject)
        every = row(
            button(tr("All"), lambda: self._tick(True)), button(tr("None"), lambda: self._tick(False)), None, space=6
        )
        lines = [
            self._line(name, part)
            for name, part in (
                (tr("Format"), self.format),
                (tr("Files"), self.each),
                (tr("If a file exists"), self.exists),
            )
        ]
        name = label(tr("File"), "muted")
        name.setFixedWidth(110)
        file = row(name, self.path, button("…", self._browse, tip=tr("Choose a folder")), space=8)
        listed = boxed(column(self.list), "surface")
        self.setLayout(
            column(
                label(tr("Tables of {source_name}", source_name=source.name), bold=True),
                listed,
                every,
                *lines,
                file,
                self.said,
                self.buttons,
                space=8,
                margins=(18, 16, 18, 14),
            )
        )
        self.resize(520, 520)
        self._look()

    @staticmethod
    def _line(name: str, part: QWidget) -> QHBoxLayout:
        said = label(name, "muted")
        said.setFixedWidth(110)
        part.setFixedWidth(210)
        return row(said, part, None, space=8)

    def _tick(self, on: bool) -> None:
        for n in range(self.list.count()):
            self.list.item(n).setCheckState(Qt.CheckState.Checked if on else Qt.CheckState.Unchecked)

    @property
    def chosen(self) -> list[TableInfo]:
        """The tables that are ticked."""
        return [t for n, t in enumerate(self._known) if self.list.item(n).checkState() == Qt.CheckState.Checked]

    @property
    def plan(self) -> SendPlan:
        """How the ticked tables are to be sent."""
        return SendPlan(
            str(self.format.currentData()), self.path.text().strip(), {}, str(self.exists.currentData()), "all"
        )

    def _format_chosen(self) -> None:
        format_ = format_for(str(self.format.currentData()))
        if not format_.many:
            self.each.setCurrentIndex(0)
        self.each.setEnabled(format_.many)
        path = Path(self.path.text() or "~/tables")
        is_each = self.each.currentData() == "each"
        folder = path.parent
        self.path.setText(str(folder / (("{table}" if is_each else "tables") + format_.suffix)))
        self._look()

    def _browse(self) -> None:
        folder = QFileDialog.getExistingDirectory(self, tr("Send to"), str(Path(self.path.text()).expanduser().parent))
        if folder:
            self.path.setText(str(Path(folder) / Path(self.path.text()).name))

    def _look(self) -> None:
        """What would be sent, or why it can't be."""
        chosen, is_each = self.chosen, "{table}" in self.path.text()
        many = format_for(str(self.format.currentData())).many
        problem = ""
        if not chosen:
            problem = tr("No table is selected.")
        elif not is_each and len(chosen) > 1 and not many:
            problem = tr("A file of this format holds one table: put {table} into the file name.")
        count = trn("{chosen_count} table", "{chosen_count} tables", len(chosen), chosen_count=len(chosen))
        files = (
            tr("{count} to a file each; rows go straight from the source.", count=count)
            if is_each
            else tr("{count} to one file; rows go straight from the source.", count=count)
        )
        self.said.setText(problem or files)
        set_tone(self.said, "plum" if problem else "muted")
        self.send.setEnabled(not problem)
