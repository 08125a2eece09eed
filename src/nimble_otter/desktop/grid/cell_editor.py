"""The field over a cell that is edited in place."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from PySide6.QtCore import QEvent, QModelIndex, QPoint, Qt, QTimer
from PySide6.QtGui import QFocusEvent, QKeyEvent, QStandardItem, QStandardItemModel
from PySide6.QtWidgets import QCompleter, QLineEdit, QToolTip, QWidget

from nimble_otter.desktop.kit.widgets import as_plain


class CellEditor(QLineEdit):
    """Enter takes the value and goes down, Tab goes right, Escape leaves the cell as it was."""

    def __init__(self, parent: QWidget, text: str, commit: Any, cancel: Any) -> None:
        super().__init__(parent)
        self.setMaxLength((1 << 31) - 1)  # the toolkit's own limit of 32 767 would cut the value
        self.setText(text)
        self.setObjectName("cell")
        self._do, self._cancel = commit, cancel
        self.is_over = False
        self._choices: QCompleter | None = None
        self.textEdited.connect(lambda: self.mark(""))

    def mark(self, problem: str) -> None:
        """Show that the value was refused, and why."""
        self.setProperty("state", "wrong" if problem else "")
        self.style().unpolish(self)
        self.style().polish(self)
        self.setToolTip(as_plain(problem))
        if problem:
            QToolTip.showText(self.mapToGlobal(QPoint(0, self.height())), as_plain(problem), self)

    def offer(self, choices: Sequence[tuple[str, str]]) -> None:
        """Show what may stand here, as (value, words beside it); typing narrows it, Enter takes the chosen one."""
        model = QStandardItemModel(self)
        for value, beside in choices:
            item = QStandardItem(f"{value}  {beside}".rstrip())
            item.setData(value, Qt.ItemDataRole.UserRole)
            model.appendRow(item)
        completer = QCompleter(model, self)
        completer.setFilterMode(Qt.MatchFlag.MatchContains)
        completer.setCaseSensitivity(Qt.CaseSensitivity.CaseInsensitive)
        completer.setMaxVisibleItems(9)
        popup = completer.popup()
        assert popup is not None
        popup.setMinimumWidth(max(180, self.width()))
        self._choices = completer
        self.setCompleter(completer)
        # the text is the value alone, whatever the line shows beside it
        completer.activated[QModelIndex].connect(  # type: ignore[index]
            lambda index: QTimer.singleShot(0, self, lambda: self.setText(index.data(Qt.ItemDataRole.UserRole)))
        )
        self.show_choices()

    def show_choices(self) -> None:
        """All of them, whatever is typed."""
        if self._choices is not None:
            self._choices.setCompletionPrefix("")
            self._choices.complete()

    def event(self, event: QEvent) -> bool:
        """Take the keys that mean the text before the window's commands do."""
        if event.type() == QEvent.Type.ShortcutOverride:
            event.accept()  # while one types, keys mean the text and not the window's commands
            return True
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            steps = {
                Qt.Key.Key_Return: (1, 0),
                Qt.Key.Key_Enter: (1, 0),
                Qt.Key.Key_Tab: (0, 1),
                Qt.Key.Key_Backtab: (0, -1),
            }
            if Qt.Key(event.key()) in steps:
                self._do(self.text(), steps[Qt.Key(event.key())])
                return True
            if event.key() == Qt.Key.Key_Down and self._choices is not None:
                self.show_choices()
                return True
            if event.key() == Qt.Key.Key_Escape:
                self._cancel()
                return True
        return super().event(event)

    def focusOutEvent(self, event: QFocusEvent) -> None:
        """Take the value when the reader goes elsewhere by mouse or Tab."""
        super().focusOutEvent(event)
        if not self.is_over and event.reason() in (Qt.FocusReason.MouseFocusReason, Qt.FocusReason.TabFocusReason):
            self._do(self.text(), (0, 0))
