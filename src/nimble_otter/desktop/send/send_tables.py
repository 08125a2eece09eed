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

_EXISTS = (("refuse", "stop"), ("number", "number the new ones"), ("replace", "replace them"))


class SendTables(QDialog):
    """`plan` and `chosen` are what was settled on once it was accepted."""

    def __init__(
        self, parent: QWidget, source: Source, tables: Sequence[TableInfo], ticked: Sequence[str], folder: str = "~"
    ) -> None:
        super().__init__(parent)
        self.setWindowTitle("Send tables")
        self._known = [table for table in tables if table.holds_rows]
        self.list = QListWidget()
        self.list.setAccessibleName("Tables")
        for table in self._known:
            text = f"{table.name}   {grouped(table.rows)} rows" if table.rows is not None else table.name
            item = QListWidgetItem(text)
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Checked if table.name in ticked else Qt.CheckState.Unchecked)
            item.setSizeHint(QSize(0, 24))
            self.list.addItem(item)
        self.list.itemChanged.connect(lambda _: self._look())
        self.format = combo(((f.key, f.word) for f in all_formats()), "csv", "Format")
        self.format.activated.connect(lambda _: self._format_chosen())
        self.each = combo((("each", "a file for each table"), ("one", "all in one file")), "each", "Files")
        self.each.activated.connect(lambda _: self._format_chosen())
        self.path = QLineEdit(f"{folder}/{source.name}/{{table}}.csv")
        self.path.setAccessibleName("File")
        self.path.setToolTip(as_plain("Filled in: {table} {source} {date} {time} {date:%Y-%m}"))
        self.path.textChanged.connect(lambda _: self._look())
        self.exists = combo(_EXISTS, "refuse", "If a file exists")
        self.said = label("", "muted", 12, wrap=True)
        self.buttons = QDialogButtonBox()
        self.send = self.buttons.addButton("Send", QDialogButtonBox.ButtonRole.AcceptRole)
        self.buttons.addButton("Close", QDialogButtonBox.ButtonRole.RejectRole)
        self.buttons.accepted.connect(self.accept)
        self.buttons.rejected.connect(self.reject)
        every = row(button("All", lambda: self._tick(True)), button("None", lambda: self._tick(False)), None, space=6)
        lines = [
            self._line(name, part)
            for name, part in (("Format", self.format), ("Files", self.each), ("If a file exists", self.exists))
        ]
        name = label("File", "muted")
        name.setFixedWidth(110)
        file = row(name, self.path, button("…", self._browse, tip="Choose a folder"), space=8)
        listed = boxed(column(self.list), "surface")
        self.setLayout(
            column(
                label(f"Tables of {source.name}", bold=True), listed, every, *lines, file, self.said, self.buttons,
                space=8, margins=(18, 16, 18, 14),
            )
        )  # fmt: skip
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
        folder = QFileDialog.getExistingDirectory(self, "Send to", str(Path(self.path.text()).expanduser().parent))
        if folder:
            self.path.setText(str(Path(folder) / Path(self.path.text()).name))

    def _look(self) -> None:
        """What would be sent, or why it can't be."""
        chosen, is_each = self.chosen, "{table}" in self.path.text()
        many = format_for(str(self.format.currentData())).many
        problem = ""
        if not chosen:
            problem = "No table is selected."
        elif not is_each and len(chosen) > 1 and not many:
            problem = "A file of this format holds one table: put {table} into the file name."
        count = f"{len(chosen)} table{'s' if len(chosen) != 1 else ''}"
        files = f"{count} to {'a file each' if is_each else 'one file'}; rows go straight from the source."
        self.said.setText(problem or files)
        set_tone(self.said, "plum" if problem else "muted")
        self.send.setEnabled(not problem)
