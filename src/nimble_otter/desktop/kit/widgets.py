"""Small parts that views are built from."""

from __future__ import annotations

import html
from collections.abc import Callable, Iterable
from functools import partial

from PySide6.QtCore import QSize, Qt, QTimer
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtGui import Qt as GuiQt
from PySide6.QtWidgets import (
    QButtonGroup,
    QComboBox,
    QFrame,
    QHBoxLayout,
    QLabel,
    QLayout,
    QListWidget,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QSpinBox,
    QVBoxLayout,
    QWidget,
)

from nimble_otter.desktop.kit import tokens
from nimble_otter.desktop.kit.theme import theme, ui_font


def calling(do: Callable[..., object], *given: object) -> Callable[[], None]:
    """What does something with these values, whatever the toolkit tells who is called."""

    def call() -> None:
        do(*given)

    return call


def as_plain(text: str) -> str:
    """A text for a place where the toolkit would take what looks like markup for markup: tips and message boxes."""
    if not GuiQt.mightBeRichText(text):
        return text
    return f"<qt><span style='white-space:pre-wrap'>{html.escape(text)}</span></qt>"


def label(text: str = "", tone: str = "", px: int = tokens.UI_PX, bold: bool = False, wrap: bool = False) -> QLabel:
    """A label of plain text, in the tone of a token."""
    made = QLabel(text)
    made.setFont(ui_font(px, bold))
    made.setTextFormat(Qt.TextFormat.PlainText)
    made.setWordWrap(wrap)
    if tone:
        made.setProperty("tone", tone)
    return made


def set_tone(widget: QLabel, tone: str) -> None:
    """Give a label another tone."""
    if widget.property("tone") != tone:
        widget.setProperty("tone", tone)
        widget.style().unpolish(widget)
        widget.style().polish(widget)


def button(text: str, do: Callable[[], object] | None = None, look: str = "", tip: str = "") -> QPushButton:
    """A button that calls `do`; `look` names how it is drawn, `tip` explains it."""
    made = QPushButton(text)
    made.setCursor(Qt.CursorShape.PointingHandCursor)
    made.setAutoDefault(True)  # Enter presses it, not the space bar alone
    if look:
        made.setProperty("look", look)
    if tip:
        made.setToolTip(as_plain(tip))
        made.setAccessibleName(tip if len(text) < 3 else text)
    if do is not None:
        made.clicked.connect(lambda: do())
    return made


def combo(choices: Iterable[str | tuple[str, str]], current: str = "", name: str = "") -> QComboBox:
    """A choice of texts, or of (value, text)."""
    combo_box = QComboBox()
    combo_box.setAccessibleName(name)
    for choice in choices:
        value, text = choice if isinstance(choice, tuple) else (choice, choice)
        combo_box.addItem(text, value)
    combo_box.setCurrentIndex(max(0, combo_box.findData(current)))
    combo_box.view().setTextElideMode(Qt.TextElideMode.ElideRight)
    return combo_box


def count_field(name: str, changed: Callable[[int], object]) -> QSpinBox:
    """A field for a number of rows; arrows and the wheel change it too."""
    spin_box = QSpinBox()
    spin_box.setRange(0, 1_000_000_000)
    spin_box.setKeyboardTracking(False)
    spin_box.setGroupSeparatorShown(True)
    # its buttons have no width in the theme: without any, Qt 6.11 leaves the text no room
    spin_box.lineEdit().setTextMargins(6, 0, 6, 0)
    spin_box.setFixedWidth(130)
    spin_box.setAccessibleName(name)
    spin_box.valueChanged.connect(changed)
    return spin_box


def narrow(items: QListWidget, words: str) -> None:
    """Show only the items whose text holds the words."""
    for n in range(items.count()):
        items.item(n).setHidden(words.casefold() not in items.item(n).text().casefold())


def row(
    *parts: QWidget | QLayout | int | None, space: int = 8, margins: tuple[int, int, int, int] = (0, 0, 0, 0)
) -> QHBoxLayout:
    """Parts beside each other; None stretches, a number is a gap."""
    return _line(QHBoxLayout(), parts, space, margins)  # type: ignore[return-value]


def column(
    *parts: QWidget | QLayout | int | None, space: int = 6, margins: tuple[int, int, int, int] = (0, 0, 0, 0)
) -> QVBoxLayout:
    """Parts under each other; None stretches, a number is a gap."""
    return _line(QVBoxLayout(), parts, space, margins)  # type: ignore[return-value]


def _line(layout: QHBoxLayout | QVBoxLayout, parts: Iterable[object], space: int, margins: tuple[int, ...]) -> QLayout:
    layout.setSpacing(space)
    layout.setContentsMargins(*margins)
    for part in parts:
        if part is None:
            layout.addStretch(1)
        elif isinstance(part, int):
            layout.addSpacing(part)
        elif isinstance(part, QLayout):
            layout.addLayout(part)
        elif isinstance(part, QWidget):
            layout.addWidget(part)
    return layout


def boxed(layout: QLayout, ground: str = "") -> QWidget:
    """A widget around a layout; `ground` is paper, surface or raised."""
    widget = QWidget()
    if ground:
        widget.setObjectName(ground)
        widget.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
    widget.setLayout(layout)
    return widget


def clear(layout: QLayout, keep: QWidget | None = None) -> None:
    """Take everything out of a layout and let it go, but for a widget that is put in again.

    Nothing leaves a layout in another way: where a widget is given another parent, or ends, while it has its place in a
    layout, the toolkit frees the place, and its Python wrapper is not told (`addLayout` makes some, and `itemAt`).
    What is made at that address is then taken for the place, or crashes."""
    while layout.count():
        item = layout.takeAt(0)
        assert item is not None
        widget, inner = item.widget(), item.layout()
        if widget is not None:
            widget.hide()
            widget.setParent(None)
            if widget is not keep:  # held until then: without a parent it would end at once, maybe in its own event
                QTimer.singleShot(0, partial(QWidget.deleteLater, widget))
        elif inner is not None:
            clear(inner, keep)


class Line(QFrame):
    """A hairline."""

    def __init__(self, upright: bool = False, colour: str = "line") -> None:
        super().__init__()
        self._colour = colour
        self.setFixedWidth(1) if upright else self.setFixedHeight(1)

    def paintEvent(self, event: QPaintEvent) -> None:
        """Paint the line in its colour of the theme."""
        with QPainter(self) as painter:
            painter.fillRect(self.rect(), theme[self._colour])


class Segments(QFrame):
    """A switch between a few views, in a sunk well."""

    def __init__(self, names: list[str], chosen: Callable[[int], None]) -> None:
        super().__init__()
        self.setObjectName("segments")
        self._group = QButtonGroup(self)
        layout = row(space=2, margins=(3, 3, 3, 3))
        self.setLayout(layout)
        for index, name in enumerate(names):
            made = button(name, look="segment")
            made.setCheckable(True)
            made.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
            self._group.addButton(made, index)
            layout.addWidget(made, 1)
        self._group.idClicked.connect(chosen)
        self.choose(0)

    def choose(self, place: int) -> None:
        """Choose a segment."""
        self._group.button(place).setChecked(True)

    def rename(self, place: int, name: str) -> None:
        """Give a segment another name."""
        self._group.button(place).setText(name)

    @property
    def chosen(self) -> int:
        """The segment that is chosen."""
        return self._group.checkedId()


class ElidedLabel(QLabel):
    """A label that cuts its text with an ellipsis and tells the whole in its tip."""

    def __init__(self, text: str = "", tone: str = "", px: int = tokens.UI_PX, right: bool = False) -> None:
        super().__init__(text)
        self.setFont(ui_font(px))
        self.setTextFormat(Qt.TextFormat.PlainText)
        if tone:
            self.setProperty("tone", tone)
        self._right = right
        self._whole = ""
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)

    def minimumSizeHint(self) -> QSize:
        """Nearly no width: it cuts its text."""
        return QSize(20, super().minimumSizeHint().height())

    def paintEvent(self, event: QPaintEvent) -> None:
        """Paint the text, cut with an ellipsis where it is too long."""
        with QPainter(self) as painter:
            painter.setPen(self.palette().color(self.foregroundRole()))
            text = self.fontMetrics().elidedText(self.text(), Qt.TextElideMode.ElideRight, self.width())
            side = Qt.AlignmentFlag.AlignRight if self._right else Qt.AlignmentFlag.AlignLeft
            painter.drawText(self.rect(), side | Qt.AlignmentFlag.AlignVCenter, text)
            if self.toolTip() == self._whole:  # not one that says more
                whole = self.text() if text != self.text() else ""
                self.setToolTip(as_plain(whole))
                self._whole = self.toolTip()


class ScrolledLines(QScrollArea):
    """A page whose parts are made anew at each filling."""

    def __init__(self) -> None:
        super().__init__()
        self.setWidgetResizable(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.lines = QVBoxLayout()
        self.lines.setContentsMargins(0, 0, 4, 0)
        self.lines.setSpacing(0)
        self.setWidget(boxed(self.lines))

    def empty(self, text: str) -> None:
        """Say why there is nothing."""
        clear(self.lines)
        self.lines.addWidget(label(text, "faint", wrap=True))
        self.lines.addStretch(1)
