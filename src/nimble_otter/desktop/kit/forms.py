"""Pages that are forms: names beside fields, in a column of a width that can be read, which scrolls."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QLayout, QLineEdit, QScrollArea, QVBoxLayout, QWidget

from nimble_otter.desktop.kit.widgets import boxed, label, row

_WIDEST = 620


class FormPage(QWidget):
    """A page with a form; `lay_out` puts it there."""

    name_width = 92

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("surface")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)

    def lay_out(self, inner: QLayout) -> None:
        """Put the form in the middle of the page."""
        box = QWidget()
        box.setMaximumWidth(_WIDEST)
        box.setLayout(inner)
        scrolled = QScrollArea()
        scrolled.setWidgetResizable(True)
        whole = row(None, box, None, margins=(24, 22, 24, 20))
        whole.setStretch(1, 8)
        scrolled.setWidget(boxed(whole))
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(scrolled)

    @staticmethod
    def field(name: str) -> QLineEdit:
        """A field for a line of text."""
        line_edit = QLineEdit()
        line_edit.setAccessibleName(name)
        return line_edit

    def named(self, text: str) -> QWidget:
        """The name that stands beside a field."""
        made = label(text, "muted")
        made.setFixedWidth(self.name_width)
        made.setWordWrap(True)
        return made
