"""Trace: a strip over the rows that says what became of one of them, step by step, and what would bring it back."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PySide6.QtCore import QEvent, QObject, Qt, Signal
from PySide6.QtGui import QGuiApplication, QKeyEvent
from PySide6.QtWidgets import QGridLayout, QLineEdit, QScrollArea, QWidget

from nimble_otter.desktop.kit.widgets import boxed, button, calling, clear, column, label, row
from nimble_otter.pull.tracing import Fate, Passage, Remedy
from nimble_otter.translation import tr

_DOTS = {Fate.LOST: ("✕", "plum"), Fate.UNREACHED: ("○", "faint")}
_LINE, _MOST_LINES, _HEAD, _TITLE = 26, 7, 46, 220


class TraceStrip(QWidget):
    """`asked` with the condition that says which row, `remedy_chosen` with the place of a step and what it becomes,
    `step_chosen` with the place of a step, `closed` when it is left."""

    asked = Signal(str)
    remedy_chosen = Signal(int, object)
    step_chosen = Signal(int)
    closed = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("trace")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.field = QLineEdit()
        self.field.setAccessibleName(tr("Row to trace"))
        self.field.setPlaceholderText(tr("which row, such as reading_id = 42"))
        self.field.setFixedWidth(270)
        self.field.returnPressed.connect(lambda: self.asked.emit(self.field.text()))
        self.field.installEventFilter(self)
        self.said = label(tr("why is this row here, or not?"), "muted")
        self.copy = button(tr("copy"), self._copy, "link", tr("Copy these sentences"))
        head = row(label(tr("Trace"), bold=True), self.field, self.said, None, self.copy,
                   button(tr("close"), self.closed.emit, "link"), space=10)  # fmt: skip
        self.lines = QGridLayout()
        self.lines.setContentsMargins(0, 0, 0, 0)
        self.lines.setHorizontalSpacing(10)
        self.lines.setVerticalSpacing(4)
        self.lines.setColumnStretch(2, 1)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setWidget(boxed(column(self.lines, None)))
        area.setFrameShape(QScrollArea.Shape.NoFrame)
        self.setLayout(column(head, area, space=6, margins=(14, 8, 14, 6)))
        self._area = area
        self.passages: tuple[Passage, ...] = ()
        self.show_passages(())

    def show_passages(self, passages: Sequence[Passage], said: str = "", is_wrong: bool = False) -> None:
        """The way of a row; or only what is to be said."""
        self.passages = tuple(passages)
        clear(self.lines)
        for line, each in enumerate(self.passages):
            mark, tone = _DOTS.get(each.fate, ("●", "water"))
            short = self.fontMetrics().elidedText(each.title, Qt.TextElideMode.ElideRight, _TITLE)
            dot, title = (
                label(mark, tone),
                button(_bare(short), calling(self.step_chosen.emit, each.at), "link", each.title),
            )
            what = label(each.said, "plum" if each.fate is Fate.LOST else "", wrap=True)
            for each_label in (dot, what):
                each_label.setContentsMargins(0, 3, 0, 0)  # on the line of the button beside it
            what.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
            self.lines.addWidget(dot, line, 0, Qt.AlignmentFlag.AlignTop)
            self.lines.addWidget(title, line, 1, Qt.AlignmentFlag.AlignTop)
            tip = tr("Change the step so that the row comes back")
            ways = [button(_bare(r.words), self._choose(each.at, r), "link", tip) for r in each.remedies]
            self.lines.addWidget(boxed(column(what, row(*ways, None, space=12) if ways else None)), line, 2)
        if said:
            self.said.setText(said)
        self.said.setProperty("tone", "plum" if is_wrong else "muted")
        self.said.style().unpolish(self.said)
        self.said.style().polish(self.said)
        self.copy.setVisible(bool(self.passages))
        self._area.setVisible(bool(self.passages))
        remedies = sum(bool(each.remedies) for each in self.passages)
        self.setFixedHeight(
            _HEAD + _LINE * min(_MOST_LINES, len(self.passages) + remedies) + (8 if self.passages else 0)
        )

    def _choose(self, at: int, remedy: Remedy) -> Callable[[], None]:
        return lambda: self.remedy_chosen.emit(at, remedy.step)

    def _copy(self) -> None:
        QGuiApplication.clipboard().setText("\n".join(each.words() for each in self.passages))

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """Close at Escape."""
        if isinstance(event, QKeyEvent) and event.key() == Qt.Key.Key_Escape:
            if event.type() == QEvent.Type.ShortcutOverride:
                event.accept()
            elif event.type() == QEvent.Type.KeyPress:
                self.closed.emit()
                return True
        return super().eventFilter(watched, event)


def _bare(text: str) -> str:
    """A text whose ampersands are ampersands on a button."""
    return text.replace("&", "&&")
