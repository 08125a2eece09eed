"""The columns of a delivery in their order: ticked, dragged and renamed here, kept by the Columns step."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QAbstractItemView, QListWidget, QListWidgetItem

from nimble_otter.desktop.kit.widgets import as_plain
from nimble_otter.pull import Pull, Shaped
from nimble_otter.pull.steps import ColumnsStep
from nimble_otter.translation import tr

_NAME = Qt.ItemDataRole.UserRole


class SendColumns(QListWidget):
    """`changed` with what was done, after which `step` gives the Columns step as it is wanted."""

    changed = Signal(str)

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName(tr("Columns, in order"))
        self.setToolTip(tr("Drag to move, double-click or F2 to rename"))
        self.setDragDropMode(QAbstractItemView.DragDropMode.InternalMove)
        self.setEditTriggers(QAbstractItemView.EditTrigger.DoubleClicked | QAbstractItemView.EditTrigger.EditKeyPressed)
        self.itemChanged.connect(self._item_changed)
        self.model().rowsMoved.connect(lambda *_: self.changed.emit(tr("Move columns")))
        self._shown: list[tuple[str, str, bool]] = []

    def forget(self) -> None:
        """Fill the list anew the next time."""
        self._shown = []

    def show_rows(self, shaped: Shaped | None) -> None:
        """Columns as shown first, then those that are hidden."""
        wanted: list[tuple[str, str, bool]] = []
        if shaped is not None:
            fields, order = shaped.table.fields, shaped.shown()
            for at in [*order, *(n for n in range(len(fields)) if n not in order)]:
                wanted.append((fields[at].name, shaped.title(at), at in order))
        if wanted == self._shown:
            return
        self._shown = wanted
        self.blockSignals(True)
        self.model().blockSignals(True)
        self.clear()
        self.model().blockSignals(False)
        for name, title, is_shown in wanted:
            item = QListWidgetItem(title)
            flags = item.flags() | Qt.ItemFlag.ItemIsUserCheckable | Qt.ItemFlag.ItemIsEditable
            item.setFlags(flags & ~Qt.ItemFlag.ItemIsDropEnabled)
            item.setCheckState(Qt.CheckState.Checked if is_shown else Qt.CheckState.Unchecked)
            item.setData(_NAME, name)
            if title != name:
                item.setToolTip(as_plain(tr("{name}, sent as {title}", name=name, title=title)))
            self.addItem(item)
        self.blockSignals(False)
        self.viewport().update()

    def _items(self) -> list[QListWidgetItem]:
        return [self.item(n) for n in range(self.count())]

    def _item_changed(self, item: QListWidgetItem) -> None:
        is_renamed = item.text() != next((t for n, t, _ in self._shown if n == item.data(_NAME)), item.text())
        self.changed.emit(tr("Rename the column") if is_renamed else tr("Change columns"))

    def step(self, pull: Pull) -> tuple[int | None, ColumnsStep]:
        """(which step it is, None for a new one; the step as the list says)."""
        at = next((n for n, s in reversed(list(enumerate(pull.steps))) if isinstance(s, ColumnsStep)), None)
        step = pull.steps[at] if at is not None else ColumnsStep()
        assert isinstance(step, ColumnsStep)
        names = [str(item.data(_NAME)) for item in self._items()]
        unticked = [n for n, i in zip(names, self._items(), strict=True) if i.checkState() == Qt.CheckState.Unchecked]
        before = [name for name, _, _ in self._shown]
        for item, name in zip(self._items(), names, strict=True):
            title = item.text().strip()
            old = next((t for n, t, _ in self._shown if n == name), title)
            if title != old:
                step = step.with_look(name, replace(step.look(name), title="" if title == name else title))
        if step.only:
            return at, replace(step, order=tuple(n for n in names if n not in unticked))
        hidden = tuple(dict.fromkeys((*(n for n in step.hidden if n not in names), *unticked)))
        step = replace(step, hidden=hidden)
        return at, replace(step, order=tuple(names)) if names != before else step

    @property
    def ticked(self) -> int:
        """How many columns are to be sent."""
        return sum(item.checkState() == Qt.CheckState.Checked for item in self._items())
