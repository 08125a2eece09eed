"""Send: a format, its options, where the file goes, and the columns in their order."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from PySide6.QtCore import QSize, Qt, Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFileDialog,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from nimble_otter.desktop.parts import Line, boxed, button, clear, column, combo, label, row
from nimble_otter.desktop.views.drawer import Drawer
from nimble_otter.pull.model import SendPlan
from nimble_otter.pull.steps import ColumnsStep
from nimble_otter.send import Option, all_formats, format_for
from nimble_otter.table.show import grouped

DEFAULT_FOLDER = "~/"


class SendDrawer(Drawer):
    title = "Send"
    write_wanted = Signal()
    copy_wanted = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.copy = button("Copy", self.copy_wanted.emit, tip="Copy the rows to the clipboard in this format")
        self.write = button("Write file", self.write_wanted.emit, "primary")
        self.head.right.addWidget(self.copy)
        self.head.right.addWidget(self.write)
        self.formats = QListWidget()
        self.formats.setObjectName("formats")
        self.formats.setAccessibleName("Format")
        self.formats.setFixedWidth(140)
        for format_ in all_formats():
            item = QListWidgetItem(format_.word)
            item.setData(Qt.ItemDataRole.UserRole, format_.key)
            item.setSizeHint(QSize(0, 24))
            self.formats.addItem(item)
        self.formats.currentItemChanged.connect(lambda item, _: self._choose(item))
        self.path = QLineEdit()
        self.path.setAccessibleName("File")
        self.path.setToolTip("{pull}, {source}, {date}, {time} and {count} are filled in")
        self.path.editingFinished.connect(self._path_typed)
        browse = button("…", self._browse, tip="Choose a file")
        self._options = QVBoxLayout()
        self._options.setSpacing(6)
        self.outcome = label("", "muted", 12, wrap=True)
        self.outcome.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        name = label("File", "muted")
        name.setFixedWidth(136)
        form = column(
            row(name, self.path, browse, space=8), self._options, self.outcome, None, space=7, margins=(14, 10, 14, 8)
        )
        middle = QScrollArea()
        middle.setWidgetResizable(True)
        middle.setWidget(boxed(form))
        self.columns = QListWidget()
        self.columns.setAccessibleName("Columns, in order")
        self.columns.itemChanged.connect(lambda _: self._columns_ticked())
        side = boxed(column(label("Columns, in order", "muted", 12), self.columns, margins=(12, 9, 8, 6)), "raised")
        side.setFixedWidth(200)
        self.set_body(self.formats, middle, Line(True, "grid_line"), side, stretch=(0, 1, 0, 0))
        self._shape: Any = None

    @property
    def plan(self) -> SendPlan:
        """The pull's plan, or the one it would begin with."""
        assert self.session is not None
        return self.session.pull.send or SendPlan("csv", f"{DEFAULT_FOLDER}{{pull}}-{{date}}.csv")

    def refresh(self) -> None:
        session = self.session
        assert session is not None
        shaped, plan = session.shaped, self.plan
        if shaped is None:
            self.head.words.setText("no rows yet: run the query first")
        else:
            noun = "groups (the deepest level)" if shaped.grouped is not None else "rows"
            words = f"{grouped(shaped.rows)} {noun} × {len(shaped.shown())} columns, as shown"
            if session.edits.count:
                words += " · pending changes are not sent until written"
            self.head.words.setText(words)
        self.write.setEnabled(shaped is not None and not session.is_running)
        self.copy.setEnabled(shaped is not None and not session.is_running)
        self.formats.blockSignals(True)
        for place in range(self.formats.count()):
            if self.formats.item(place).data(Qt.ItemDataRole.UserRole) == plan.format:
                self.formats.setCurrentRow(place)
        self.formats.blockSignals(False)
        if not self.path.hasFocus():
            self.path.setText(plan.path)
            self.path.setCursorPosition(0)
        shape = (id(session), plan.format, tuple(sorted(plan.options.items())))
        if shape != self._shape:
            if self._shape is None or self._shape[:2] != shape[:2]:
                self._build_options(plan)
            self._shape = shape
        self.columns.blockSignals(True)
        self.columns.clear()
        if shaped is not None:
            fields, order = shaped.table.fields, shaped.shown()
            for at in [*order, *(n for n in range(len(fields)) if n not in order)]:
                item = QListWidgetItem(fields[at].name)
                item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
                item.setCheckState(Qt.CheckState.Checked if at in order else Qt.CheckState.Unchecked)
                self.columns.addItem(item)
        self.columns.blockSignals(False)

    def _build_options(self, plan: SendPlan) -> None:
        clear(self._options)
        for option in format_for(plan.format).options:
            name = label(option.label, "muted")
            name.setFixedWidth(136)
            self._options.addLayout(row(name, self._field(option, plan.options), None, space=8))

    def _field(self, option: Option, given: Mapping[str, Any]) -> QWidget:
        value = given.get(option.name, option.default)
        if option.kind == "choice":
            choice: QComboBox = combo(option.choices, str(value), option.label)
            choice.setMinimumWidth(150)
            choice.activated.connect(lambda _: self._set(option.name, choice.currentData()))
            return choice
        if option.kind == "yes/no":
            tick = QCheckBox("yes")
            tick.setAccessibleName(option.label)
            tick.setChecked(bool(value))
            tick.toggled.connect(lambda on: self._set(option.name, on))
            return tick
        text = QLineEdit(str(value))
        text.setAccessibleName(option.label)
        text.setFixedWidth(150)
        if option.name == "empty":
            text.setPlaceholderText("leave blank")
        text.editingFinished.connect(lambda: self._set(option.name, text.text()))
        return text

    def _put(self, plan: SendPlan) -> None:
        assert self.session is not None
        if plan != self.session.pull.send:
            self.session.change(replace(self.session.pull, send=plan), "Change delivery")

    def _choose(self, item: QListWidgetItem | None) -> None:
        if item is None or self.session is None:
            return
        format_, old = format_for(item.data(Qt.ItemDataRole.UserRole)), format_for(self.plan.format)
        path = self.plan.path
        path = path[: -len(old.suffix)] if path.lower().endswith(old.suffix) else path
        self._put(SendPlan(format_.key, path + format_.suffix, {}))

    def _path_typed(self) -> None:
        if self.session is not None and self.path.text().strip():
            self._put(replace(self.plan, path=self.path.text().strip()))

    def _browse(self) -> None:
        format_ = format_for(self.plan.format)
        path, _ = QFileDialog.getSaveFileName(self, "Send to", self.plan.path, f"{format_.word} (*{format_.suffix})")
        if path:
            self._put(replace(self.plan, path=path))
            self.refresh()

    def _set(self, name: str, value: Any) -> None:
        self._put(replace(self.plan, options={**self.plan.options, name: value}))

    def _columns_ticked(self) -> None:
        """Ticks here are the Columns step: one place for what is shown and sent."""
        session = self.session
        assert session is not None
        hidden = tuple(
            self.columns.item(n).text()
            for n in range(self.columns.count())
            if self.columns.item(n).checkState() == Qt.CheckState.Unchecked
        )
        if len(hidden) == self.columns.count():
            self.refresh()
            return
        for at, step in reversed(list(enumerate(session.pull.steps))):
            if isinstance(step, ColumnsStep):
                session.set_step(at, replace(step, hidden=hidden), "Change columns")
                return
        session.add_step(ColumnsStep(hidden=hidden), "Change columns")
