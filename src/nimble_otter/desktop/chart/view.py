"""The view beside the table: the charts of a pull as named tabs, and the one that is in sight."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

from PySide6.QtCore import QPoint, Qt, Signal
from PySide6.QtWidgets import QButtonGroup, QPushButton, QStackedWidget, QWidget

from nimble_otter.desktop.chart.canvas import ChartCanvas
from nimble_otter.desktop.kit.widgets import ElidedLabel, boxed, button, clear, column, label, row
from nimble_otter.pull.charts import Chart
from nimble_otter.translation import tr, tr_value

_WIDEST_NAME = 28


_DRAW = tr("Draw this chart")


class ChartView(QWidget):
    """`chosen` has the place of a chart, `made` a new one, `tab_menu` a chart's place and one on the screen."""

    chosen = Signal(int)
    made = Signal(object)
    tab_menu = Signal(int, QPoint)

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("surface")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setMinimumWidth(220)
        self.canvas = ChartCanvas()
        self.notes = ElidedLabel("", "faint", 11, right=True)
        self._tabs = row(space=2)
        self._group = QButtonGroup(self)
        self._group.idClicked.connect(self.chosen.emit)
        more = button("+", self.add, "plain", tr("Another chart"))
        more.setFixedWidth(26)
        parts = row(self._tabs, more, self.notes, space=6, margins=(10, 4, 12, 0))
        parts.setStretch(2, 1)
        self.strip = boxed(parts)
        self._offers = column(space=6)
        self._words = label("", "muted", wrap=True)
        first = column(
            label(tr("A chart of these rows"), px=15, bold=True),
            2,
            self._words,
            6,
            self._offers,
            None,
            space=4,
            margins=(28, 24, 28, 16),
        )
        self.pages = QStackedWidget()
        self.pages.addWidget(self.canvas)
        self.pages.addWidget(boxed(first))
        self.setLayout(column(self.strip, self.pages, space=0))
        layout = self.layout()
        assert layout is not None
        self._shown: tuple[object, ...] = ()
        self._to_offer: Sequence[Chart] = ()

    def show_charts(self, charts: Sequence[Chart], at: int, offers: Sequence[Chart], words: str) -> None:
        """The charts there are, which is in sight, and what is offered where there is none (or one is to be added,
        `at` behind the last)."""
        names = tuple(chart.label for chart in charts)
        self._to_offer = offers
        shown = (names, at, tuple(offers), words)
        if shown == self._shown:
            return
        self._shown = shown
        clear(self._tabs)
        for index, name in enumerate(names):
            made = button(name if len(name) <= _WIDEST_NAME else f"{name[: _WIDEST_NAME - 1]}…", look="chip", tip=name)
            made.setCheckable(True)
            made.setChecked(index == at)
            made.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
            made.customContextMenuRequested.connect(partial(self._menu, index, made))
            self._group.addButton(made, index)
            self._tabs.addWidget(made)
        self.strip.setVisible(bool(charts))
        self._fill_offers(offers, words, bool(charts))
        self.pages.setCurrentIndex(0 if at < len(charts) else 1)

    def _menu(self, place: int, tab: QWidget, at: QPoint) -> None:
        self.tab_menu.emit(place, tab.mapToGlobal(at))

    def focus_offer(self) -> None:
        """Put the keyboard on the first chart that is offered, where some are."""
        first = next((b for b in self.findChildren(QPushButton) if b.toolTip() == _DRAW), None)
        if first is not None and first.isVisible():
            first.setFocus()

    def _fill_offers(self, offers: Sequence[Chart], words: str, has_some: bool) -> None:
        clear(self._offers)
        self._words.setText(words)
        for chart in offers:
            text = f"{tr_value(chart.kind.value.capitalize())}: {chart.words()}"
            self._offers.addLayout(row(button(text, partial(self.made.emit, chart), "", _DRAW), None))
        self._offers.addLayout(row(button(tr("Choose everything in the drawer"), self._empty, "link"), None))

    def _empty(self) -> None:
        self.made.emit(Chart())

    def add(self) -> None:
        """Offer another chart."""
        self.chosen.emit(self._group_count())

    def _group_count(self) -> int:
        return len(self._shown[0]) if self._shown and isinstance(self._shown[0], tuple) else 0
