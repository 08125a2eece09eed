"""A condition of a filter as a line: on or off, column, comparison and value, or a typed SQL condition."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QCheckBox, QComboBox, QLineEdit, QWidget

from nimble_otter.desktop.kit.widgets import button, combo, row
from nimble_otter.desktop.steps.expression_field import ExpressionField
from nimble_otter.pull.steps import Condition
from nimble_otter.pull.steps.filter import OPERATORS
from nimble_otter.table.text.show import plain
from nimble_otter.translation import tr, tr_value

_SQL = tr("as SQL")
_ANY = tr("any column")
SHOWN = {"is none of": "is not one of"}
"""What is shown where it is not the word of the file."""
PICKS = ("is one of", "is none of")
"""Comparisons with values that are picked."""


class ConditionRow(QWidget):
    """On or off, column, comparison, value; or a typed SQL condition."""

    changed = Signal(object)
    removed = Signal()
    focused = Signal()

    def __init__(self, names: list[str], condition: Condition) -> None:
        super().__init__()
        self._condition = condition
        self.on = QCheckBox()
        self.on.setAccessibleName(tr("Condition on"))
        self.column: QComboBox = combo([*names, (_ANY, _ANY), (_SQL, _SQL)], condition.column, tr("Column"))
        if condition.column and condition.column not in names:
            self.column.insertItem(0, condition.column, condition.column)
            self.column.setCurrentIndex(0)
        self.operator: QComboBox = combo(
            [(o, tr_value(SHOWN.get(o, o))) for o in OPERATORS], condition.operator, tr("Comparison")
        )
        self.value = QLineEdit()
        self.value.setAccessibleName(tr("Value"))
        self.sql = ExpressionField(condition.text)
        self.sql.setAccessibleName(tr("SQL condition"))
        self.sql.setPlaceholderText("level_m > 0.3 and quality <> 'void'")
        self.column.setFixedWidth(112)
        self.operator.setFixedWidth(122)
        gone = button("×", self.removed.emit, "plain", tr("Remove the condition"))
        line = row(self.on, self.column, self.operator, self.value, self.sql, gone, space=6)
        self.setLayout(line)
        line.setStretch(3, 1)
        line.setStretch(4, 1)
        self.sql.lead(line, self.on, self.column, self.operator, self.value, gone)
        self.setFocusProxy(self.column)
        self.fill(condition)
        self.on.toggled.connect(lambda on: self._put(replace(self._condition, on=on)))
        self.column.activated.connect(lambda _: self._column_chosen())
        self.operator.activated.connect(lambda _: self._operator_chosen())
        self.value.editingFinished.connect(self._typed)
        self.sql.editingFinished.connect(self._sql_typed)
        for part in (self.column, self.operator, self.value, self.sql):
            part.installEventFilter(self)

    def eventFilter(self, watched: Any, event: Any) -> bool:
        """Tell when one of its fields has the focus."""
        if event.type() == event.Type.FocusIn:
            self.focused.emit()
        return False

    def fill(self, condition: Condition) -> None:
        """Show a condition."""
        self._condition = condition
        self.on.blockSignals(True)
        self.on.setChecked(condition.on)
        self.on.blockSignals(False)
        whole = {"sql": _SQL, "anywhere": _ANY}.get(condition.operator, "")
        self.operator.setVisible(not whole)
        self.column.setCurrentIndex(self.column.findData(whole or condition.column))
        self.operator.setCurrentIndex(max(0, self.operator.findData(condition.operator)))
        self.value.setVisible(condition.operator not in ("is empty", "is not empty", "sql"))
        self.sql.setVisible(condition.operator == "sql")
        if not self.sql.hasFocus() and self.sql.text() != condition.text:
            self.sql.setText(condition.text)
        self.value.setReadOnly(condition.operator in PICKS and any(not isinstance(v, str) for v in condition.values))
        self.value.setPlaceholderText(tr("low and high") if condition.operator == "between" else tr("value"))
        if not self.value.hasFocus() or not self.value.isModified():
            self.value.setText(self._text(condition))
            self.value.setCursorPosition(0)

    @staticmethod
    def _text(condition: Condition) -> str:
        if condition.operator == "anywhere":
            return condition.search().text
        joined = " and ".join if condition.operator == "between" else ", ".join
        return joined([*(plain(v) for v in condition.values), *(["∅"] if condition.with_empty else [])])

    def _column_chosen(self) -> None:
        name = self.column.currentData()
        if name == _SQL:
            text = self._condition.as_sql() if self._condition.values else ""
            self._put(Condition("sql", text=text, on=self._condition.on))
        elif name == _ANY:
            self._put(
                Condition("anywhere", values=tuple(map(plain, self._condition.values[:1])), on=self._condition.on)
            )
        else:
            is_whole = self._condition.operator in ("sql", "anywhere")
            operator = "is not empty" if is_whole else self._condition.operator
            values = () if name != self._condition.column else self._condition.values
            self._put(
                replace(self._condition, column=name, operator=operator, values=values, text="", with_empty=False)
            )

    def _operator_chosen(self) -> None:
        operator = self.operator.currentData()
        values = self._condition.values
        if operator in ("is empty", "is not empty"):
            values = ()
        elif operator not in (*PICKS, "between"):
            values = values[:1]
        self._put(replace(self._condition, operator=operator, values=values, with_empty=False))
        if operator not in PICKS:
            self.value.setFocus()

    def _typed(self) -> None:
        if not self.value.isModified():
            return
        self.value.setModified(False)
        text, condition = self.value.text().strip(), self._condition
        if condition.operator == "anywhere":
            self._put(replace(condition, values=(text, *condition.values[1:])))
        elif condition.operator == "between":
            low, _, high = text.partition(" and ")
            self._put(replace(condition, values=(low.strip(), high.strip()) if high else ((low,) if low else ())))
        elif condition.operator in PICKS:
            parts = [part.strip() for part in text.split(",") if part.strip()]
            empty = "∅" in parts
            self._put(replace(condition, values=tuple(p for p in parts if p != "∅"), with_empty=empty))
        else:
            self._put(replace(condition, values=(text,) if text else ()))

    def _sql_typed(self) -> None:
        if self._condition.operator == "sql":
            self._put(replace(self._condition, text=self.sql.text().strip()))

    def _put(self, condition: Condition) -> None:
        if condition != self._condition:
            self._condition = condition
            self.changed.emit(condition)
