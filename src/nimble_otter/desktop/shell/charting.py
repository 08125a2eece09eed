"""Charts in the window: made when one is first wanted, beside the rows or in their place, with drawer and detail."""

from __future__ import annotations

from functools import cached_property
from typing import TYPE_CHECKING

from PySide6.QtCore import QTimer

from nimble_otter.desktop.grid.rows_views import BOTH, CHART_ALONE, TABLE
from nimble_otter.desktop.kit.commands import Command
from nimble_otter.desktop.kit.widgets import calling
from nimble_otter.desktop.pulls.aspect import Aspect
from nimble_otter.desktop.pulls.step_ref import CHART, QUERY
from nimble_otter.translation import tr

if TYPE_CHECKING:
    from nimble_otter.desktop.chart.drawer import ChartDrawer
    from nimble_otter.desktop.chart.pictures import Pictures
    from nimble_otter.desktop.chart.presenter import ChartPresenter
    from nimble_otter.desktop.shell.workbench import Workbench

_WHILE_ARRIVING_MS = 700


class Charting:
    """What the window has to do with charts."""

    def __init__(self, window: Workbench) -> None:
        self._window = window
        self._is_made = False
        window.rows_views.chart_wanted.connect(self._show)
        window.actions_on_grid.chart_wanted.connect(self.chart_column)
        self._arriving = QTimer(window, singleShot=True, interval=_WHILE_ARRIVING_MS)
        self._arriving.timeout.connect(lambda: self.refresh(Aspect.ROWS))

    def add_commands(self) -> None:
        """The commands of charts."""
        add, window = self._window.commands.add, self._window

        def has_rows() -> bool:
            return window.pull is not None and window.pull.shaped is not None

        add(Command("chart", tr("Chart of the rows"), self.open, "Alt+4", "view", has_rows))
        add(Command("chart_beside", tr("Chart beside the rows"), lambda: self.open(True), "Alt+5", "view", has_rows))
        add(Command("copy_chart", tr("Copy the chart's picture"), lambda: self.pictures.copy("png"), "", "view",
                    self.has_chart))  # fmt: skip
        add(Command("send_chart", tr("Send the chart's picture"), lambda: self.pictures.ask("png", 2.0), "", "view",
                    self.has_chart))  # fmt: skip

    @cached_property
    def presenter(self) -> ChartPresenter:
        """Charts at work, made when one is first wanted."""
        from nimble_otter.desktop.chart.picked_page import PickedPage
        from nimble_otter.desktop.chart.presenter import ChartPresenter
        from nimble_otter.desktop.chart.view import ChartView

        window, view, page = self._window, ChartView(), PickedPage()
        chart_presenter = ChartPresenter(window.workspace, window.grid, window.actions_on_grid, view, page)
        view.hide()
        window.rows_split.addWidget(view)
        window.rows_split.setStretchFactor(1, 1)
        chart_presenter.drawn.connect(self._refresh_drawer)
        chart_presenter.picking.connect(lambda has_rows: window.detail.offer_picked(page if has_rows else None))
        chart_presenter.rows_wanted.connect(lambda: window.rows_views.choose(BOTH))
        self._is_made = True
        return chart_presenter

    @cached_property
    def pictures(self) -> Pictures:
        """How pictures leave."""
        from nimble_otter.desktop.chart.pictures import Pictures

        return Pictures(self._window.workspace, self.presenter)

    def _show(self, is_shown: bool, with_rows: bool) -> None:
        """Bring the chart into sight, alone or beside the rows; or put it away."""
        if not is_shown and not self._is_made:
            return
        view, rows = self.presenter.view, self._window.rows_stack
        was_shown = view.isVisibleTo(self._window.rows_split)
        was_beside = was_shown and rows.isVisibleTo(self._window.rows_split)
        rows.setVisible(with_rows or not is_shown)
        view.setVisible(is_shown)
        if is_shown and with_rows and not was_beside:
            width = self._window.rows_split.width()
            self._window.rows_split.setSizes([width // 2, width - width // 2])
        if is_shown:
            self.presenter.refresh()
        else:
            self._window.detail.offer_picked(None)
            pull = self._window.pull
            if was_shown and pull is not None and pull.selected == CHART:
                self._window.open_drawer(QUERY, focus=False)

    def open(self, with_rows: bool = False) -> None:
        """The chart of the pull in sight, and its drawer."""
        self._window.rows_views.choose(BOTH if with_rows else CHART_ALONE)
        self._window.open_drawer(CHART, focus=False)
        QTimer.singleShot(0, self.presenter.view, self.presenter.view.focus_offer)

    def chart_column(self, name: str) -> None:
        """A chart of a column."""
        pull = self._window.pull
        if pull is not None:
            if pull.rows_as <= TABLE or pull.rows_as not in (CHART_ALONE, BOTH):
                pull.rows_as = BOTH
            self.presenter.chart_column(name)
            self.open(pull.rows_as == BOTH)

    def refresh(self, what: Aspect) -> None:
        """The rows, or the pull, are others."""
        if not self._is_made or not what & (Aspect.ROWS | Aspect.MORE_ROWS | Aspect.PULL):
            return
        pull = self._window.pull
        if pull is not None and pull.is_running and what & Aspect.MORE_ROWS:
            if not self._arriving.isActive():
                self._arriving.start()
        else:
            self.presenter.refresh()

    def _refresh_drawer(self) -> None:
        if self._window.is_shown("chart"):
            self._window.drawer.refresh()

    def has_chart(self) -> bool:
        """Whether a chart is in sight."""
        return self._is_made and self.presenter.made is not None and self.presenter.view.isVisible()

    def fill_drawer(self, drawer: ChartDrawer) -> None:
        """Bring the drawer up to date."""
        self.presenter.fill_drawer(drawer)

    def wire_drawer(self, drawer: ChartDrawer) -> None:
        """Connect the drawer of charts, which was just made."""
        drawer.changed.connect(self.presenter.put)
        drawer.keep_wanted.connect(calling(self.presenter.filter_picked, True))
        for button, copies in ((drawer.copy, True), (drawer.send, False)):
            menu = button.menu()
            assert menu is not None
            self.pictures.fill_menu(menu, copies)
