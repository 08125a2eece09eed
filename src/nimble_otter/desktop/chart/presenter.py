"""Charts at work: drawn and painted beside the window as rows and charts change, with one selection for chart and
grid."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QObject, QPoint, QTimer, Signal
from PySide6.QtGui import QImage
from PySide6.QtWidgets import QInputDialog, QMenu

from nimble_otter.desktop.chart.canvas import Painted
from nimble_otter.desktop.chart.picked_page import Picked, PickedPage
from nimble_otter.desktop.chart.view import ChartView
from nimble_otter.desktop.grid.actions import GridActions
from nimble_otter.desktop.grid.grid import Grid
from nimble_otter.desktop.kit.theme import theme
from nimble_otter.desktop.kit.widgets import calling
from nimble_otter.desktop.pulls.open_pull import OpenPull
from nimble_otter.desktop.pulls.workspace import Workspace
from nimble_otter.desktop.runtime.jobs import CHARTS, LOCAL, Report
from nimble_otter.errors import OtterError
from nimble_otter.memory import settle
from nimble_otter.pull.charts import Chart, Up
from nimble_otter.pull.charts.data import Drawn, place_text
from nimble_otter.pull.charts.ground import Window
from nimble_otter.pull.charts.hits import Hit, rows_inside, rows_within
from nimble_otter.pull.charts.looks import DARK, LIGHT
from nimble_otter.pull.charts.make import draw
from nimble_otter.pull.charts.model import Note
from nimble_otter.pull.charts.picking import Stretch, conditions_of, figures_of, title_of
from nimble_otter.pull.charts.suggest import chart_of, figure_for, offers
from nimble_otter.pull.shaped import Shaped
from nimble_otter.pull.steps.group import KeyBy
from nimble_otter.stop import StopToken
from nimble_otter.table import Field
from nimble_otter.table.core.columns import Ids
from nimble_otter.table.text.show import grouped
from nimble_otter.translation import tr

if TYPE_CHECKING:
    from nimble_otter.desktop.chart.drawer import ChartDrawer


_MOST_BLOCKS = 2000
"""Blocks of rows selected in the grid that are looked for in the chart."""


@dataclass(frozen=True, slots=True, eq=False)
class Made:
    """A chart as it was drawn, and from which rows."""

    shaped: Shaped
    chart: Chart
    drawn: Drawn


class ChartPresenter(QObject):
    """`drawn` when words, problem or picture are others; `picking` says whether rows are picked."""

    drawn = Signal()
    picking = Signal(bool)

    def __init__(
        self, workspace: Workspace, grid: Grid, actions: GridActions, view: ChartView, page: PickedPage
    ) -> None:
        super().__init__(view)
        self._workspace, self._grid, self._actions, self.view, self._page = workspace, grid, actions, view, page
        self.canvas = view.canvas
        self.made: Made | None = None
        self.window = Window()
        self.rows: Ids | None = None
        self.picked: Stretch | Hit | None = None
        self.words, self.problem = "", ""
        self._of: OpenPull | None = None
        self._as_painted: tuple[object, ...] = ()
        self._is_picking = self._has_settled = False
        self._soon = QTimer(self, singleShot=True, interval=60)
        self._soon.timeout.connect(self.refresh)
        self._ringing = QTimer(self, singleShot=True, interval=90)
        self._ringing.timeout.connect(self._ring)
        canvas = self.canvas
        canvas.resized.connect(self._soon.start)
        canvas.brushed.connect(self.pick)
        canvas.lassoed.connect(self._lasso)
        canvas.picked_mark.connect(self.pick)
        canvas.viewed.connect(self.look)
        canvas.dropped.connect(self.drop)
        canvas.menu_wanted.connect(self._menu)
        view.chosen.connect(self.choose)
        view.made.connect(self.add)
        view.tab_menu.connect(self._tab_menu)
        grid.selection_changed.connect(self._ringing.start)
        page.shown.connect(self._show_in_grid)
        page.kept.connect(lambda: self.filter_picked(True))
        page.left_out.connect(lambda: self.filter_picked(False))
        theme.changed.connect(self._soon.start)

    # --- which chart -------------------------------------------------------------------------------------------

    @property
    def chart(self) -> Chart | None:
        """The chart in sight."""
        open_pull = self._workspace.pull
        if open_pull is None or open_pull.chart_at >= len(open_pull.pull.charts):
            return None
        return open_pull.pull.charts[open_pull.chart_at]

    def fields(self) -> tuple[Field, ...]:
        """The columns that a chart can have."""
        open_pull = self._workspace.pull
        shaped = open_pull.shaped if open_pull is not None else None
        return tuple(shaped.field(place) for place in shaped.shown()) if shaped is not None else ()

    def choose(self, at: int) -> None:
        """Bring a chart into sight; behind the last: offer another."""
        open_pull = self._workspace.pull
        if open_pull is not None:
            open_pull.chart_at = at
            self.window = Window()
            self.refresh()

    def add(self, chart: Chart) -> None:
        """One more chart."""
        open_pull = self._workspace.pull
        if open_pull is not None:
            open_pull.chart_at = len(open_pull.pull.charts)
            self.window = Window()
            open_pull.shaping.change(open_pull.pull.with_chart(open_pull.chart_at, chart), tr("Add a chart"))

    def put(self, chart: Chart, name: str) -> None:
        """Another state of the chart in sight."""
        open_pull, before = self._workspace.pull, self.chart
        if open_pull is not None and before is not None:
            if chart.along != before.along or chart.kind is not before.kind:
                self.window = Window()
            open_pull.shaping.change(open_pull.pull.with_chart(open_pull.chart_at, chart), name)

    def chart_column(self, name: str) -> None:
        """A chart of a column, with the others that go with it."""
        open_pull = self._workspace.pull
        shaped = open_pull.shaped if open_pull is not None else None
        if shaped is not None and any(field.name == name for field in self.fields()):
            self.add(chart_of(self.fields(), name, shaped.grouped is not None))

    def _tab_menu(self, place: int, at: QPoint) -> None:
        menu = QMenu(self.view)
        self.fill_tab_menu(menu, place)
        menu.exec(at)

    def fill_tab_menu(self, menu: QMenu, place: int) -> None:
        """What can be done with a chart as a whole."""
        open_pull = self._workspace.pull
        if open_pull is not None and place < len(open_pull.pull.charts):
            menu.addAction(tr("Name…"), calling(self._rename, place))
            menu.addAction(tr("Copy to a new tab"), calling(self.add, open_pull.pull.charts[place]))
            menu.addAction(tr("Remove"), calling(self.remove, place))

    def _rename(self, place: int) -> None:
        open_pull = self._workspace.pull
        assert open_pull is not None
        chart = open_pull.pull.charts[place]
        text, done = QInputDialog.getText(self.view, tr("Name of the chart"), tr("Name:"), text=chart.label)
        if done:
            named = open_pull.pull.with_chart(place, replace(chart, name=text.strip()))
            open_pull.shaping.change(named, tr("Name a chart"))

    def remove(self, place: int) -> None:
        """Take a chart away."""
        open_pull = self._workspace.pull
        if open_pull is not None and place < len(open_pull.pull.charts):
            open_pull.shaping.change(open_pull.pull.without_chart(place), tr("Remove a chart"))
            open_pull.chart_at = max(0, min(open_pull.chart_at, len(open_pull.pull.charts) - 1))

    # --- drawing -----------------------------------------------------------------------------------------------

    def refresh(self) -> None:
        """Bring the chart in sight up to date with rows, chart and size, when anybody looks."""
        open_pull = self._workspace.pull
        if open_pull is None or not self.view.isVisible():
            return
        if open_pull is not self._of:
            self._of, self.made, self.window = open_pull, None, Window()
            self.canvas.show_words("")
            self._take(None)
        shaped, charts = open_pull.shaped, open_pull.pull.charts
        open_pull.chart_at = min(open_pull.chart_at, len(charts))
        chart = self.chart
        offered = offers(self.fields(), shaped is not None and shaped.grouped is not None) if chart is None else []
        words = tr("Choose one to begin with. A header dragged here, or a column's menu, makes others.")
        words = tr("There are no rows to draw yet: run the query first.") if shaped is None else words
        self.view.show_charts(charts, open_pull.chart_at, offered, words)
        if chart is None or shaped is None:
            self.made = None
            self._tell("", "")
            return
        picture, wanted = self.made, self._wanted()
        if picture is None or not picture.shaped.is_like(shaped) or picture.chart != chart:
            self._work(open_pull, lambda stop, _: _drawn(shaped, chart, wanted, stop), wanted)
        elif self.canvas.painted is None or self._as_painted != wanted:
            self._work(open_pull, lambda stop, _: (picture, painted(picture.drawn, *wanted, stop)), wanted)

    def _wanted(self) -> tuple[tuple[int, int], float, bool, Window]:
        """Size, pixels of the screen in each, theme, and what is looked at."""
        return self.size(), self.view.devicePixelRatioF(), theme.is_dark, self.window

    def size(self) -> tuple[int, int]:
        """How large the picture is."""
        return max(160, self.canvas.width()), max(110, self.canvas.height())

    def _work(self, open_pull: OpenPull, work: Callable[..., object], wanted: tuple[object, ...]) -> None:
        def done(found: tuple[Made, Painted]) -> None:
            if open_pull is self._workspace.pull:
                if self.made is not found[0]:
                    self.made = found[0]
                    self._take(None)
                self._as_painted = wanted
                self._show(found[1])

        def failed(problem: OtterError) -> None:
            self.made = None
            self.canvas.show_words(str(problem))
            self._tell("", str(problem))

        def stopped() -> None:
            if self.canvas.painted is None:
                self.canvas.show_words(tr("Drawing was stopped. Home draws again."))

        if self.canvas.painted is None:
            self.canvas.show_words(tr("Drawing."))
        open_pull.jobs.submit(
            CHARTS, f"{open_pull.key} chart", work, done, failed, stopped=stopped, title=tr("Drawing a chart")
        )

    def _show(self, picture: Painted) -> None:
        drawn = picture.drawn
        if not self._has_settled:  # what the library that paints brought with it stays: nobody looks through it again
            self._has_settled = True
            settle()
        self.canvas.show_painted(picture)
        self.view.notes.setText("; ".join(drawn.notes))
        words = tr("{rows} rows drawn as {points} points", rows=grouped(drawn.rows), points=grouped(picture.points))
        self._tell(words, "")
        self._ring()

    def _tell(self, words: str, problem: str) -> None:
        self.words, self.problem = words, problem
        self.drawn.emit()

    def look(self, x: tuple[float, float] | None, y: tuple[float, float] | None) -> None:
        """Look at a part of the chart; None for all of it."""
        self.window = Window(x, y if y is not None or x is None else self.window.y)
        self._soon.start()

    # --- one selection -----------------------------------------------------------------------------------------

    def pick(self, what: Stretch | Hit | None) -> None:
        """Pick the rows of a stretch or a mark, in the grid too; None for none."""
        picture = self.made
        if what is None or picture is None:
            self._take(None)
            return

        def rows() -> Ids:
            if isinstance(what, Hit):
                return picture.drawn.series[what.series].rows_of(np.array([what.mark]))
            return rows_within(picture.drawn, what.panel, what.x, what.y)

        self._find(picture, what, title_of(picture.drawn, what), rows)

    def _lasso(self, panel: int, outline: list[tuple[float, float]]) -> None:
        made, picture = self.made, self.canvas.painted
        if made is not None and picture is not None:
            ground = picture.grounds[panel]
            self._find(made, None, tr("within the outline"), lambda: rows_inside(made.drawn, ground, panel, outline))

    def _find(self, made: Made, what: Stretch | Hit | None, title: str, rows: Callable[[], Ids]) -> None:
        def work(stop: StopToken, _: Report) -> tuple[Picked, Ids]:
            found = rows()
            stop.check()
            picked = Picked(title, found, made.drawn.rows, figures_of(made.drawn, made.shaped.table, found))
            return picked, _positions(made.shaped, found)

        def show(found: tuple[Picked, Ids]) -> None:
            if self.made is made:
                self._take(found[0], what, found[1])

        self._workspace.hub.jobs.submit(LOCAL, "pick in a chart", work, show)

    def _take(self, found: Picked | None, what: Stretch | Hit | None = None, positions: Ids | None = None) -> None:
        has_rows = found is not None and len(found.rows) > 0
        was = self.rows is not None
        self.rows, self.picked = (found.rows, what) if found is not None and has_rows else (None, None)
        self._page.fill(found if has_rows else None)
        if (has_rows or was) and self.made is not None and self.made.shaped.grouped is None:
            self._is_picking = True
            self._grid.select_rows(positions if positions is not None else np.empty(0, np.int64))
            if positions is not None and len(positions):
                self._grid.reveal(int(positions[0]), 0)
            self._is_picking = False
        self.picking.emit(has_rows)
        self._ring()
        self.drawn.emit()

    def _ring(self) -> None:
        """Ring the marks of the rows that are picked here, or selected in the grid."""
        picture = self.made
        if picture is None or self.canvas.painted is None or self._is_picking or not self.view.isVisible():
            return
        picked = self.rows if self.canvas.brush is None else None  # a brush shows what is in it
        view, in_grid = picture.shaped.view, self._grid.hasFocus() and picture.shaped.grouped is None
        blocks = self._grid.selection.blocks if in_grid else ()
        if len(blocks) > _MOST_BLOCKS or (not in_grid and picked is None):
            self.canvas.ring([])
            return

        def work(stop: StopToken, _: Report) -> list[tuple[int, Ids]]:
            parts = [view.row_ids(block.top, block.bottom + 1) for block in blocks]
            wanted = np.concatenate(parts) if parts else picked
            if wanted is None or not len(wanted) or (in_grid and len(wanted) == len(view)):
                return []
            rows = np.zeros(picture.drawn.table_rows, np.bool_)
            rows[wanted] = True
            stop.check()
            return [(n, np.flatnonzero(each.holding(rows))) for n, each in enumerate(picture.drawn.series)]

        self._workspace.hub.jobs.submit(LOCAL, "ring in a chart", work, self.canvas.ring)

    def _show_in_grid(self) -> None:
        if self.made is not None and self.rows is not None and self.made.shaped.grouped is None:
            open_pull = self._workspace.pull
            assert open_pull is not None
            positions = _positions(self.made.shaped, self.rows)
            self.rows_wanted.emit()
            self._grid.select_rows(positions)
            if len(positions):
                self._grid.reveal(int(positions[0]), 0)
            self._grid.setFocus()

    rows_wanted = Signal()
    """The grid is to be in sight."""

    def filter_picked(self, keep: bool) -> None:
        """A Filter step that keeps the rows picked, or leaves them out, by where they stand on the axes."""
        if self.made is None or self.rows is None:
            return
        conditions = conditions_of(self.made.drawn, self.picked, keep) if self.picked is not None else ()
        if not conditions:
            self._workspace.say(
                tr("What lies within an outline can't be said as conditions: drag over it instead."), True
            )
            return
        for condition in conditions:
            self._actions.add_condition(condition)

    # --- menus, and columns dropped ----------------------------------------------------------------------------

    def drop(self, name: str, side: str) -> None:
        """A column dropped on an axis ("x", "y"), or on the marks ("by")."""
        chart = self.chart
        own = next((field for field in self.fields() if field.name == name), None)
        if own is None:
            return
        if chart is None:
            self.chart_column(name)
        elif side == "x":
            self.put(replace(chart, along=KeyBy(name)), tr("Change along"))
        elif side == "y":
            figure = figure_for(own) if any(up.figure for up in chart.up) or not own.is_amount else ""
            up = Up("" if figure == "count" else name, figure)
            self.put(replace(chart, up=(up, *chart.up[1:])), tr("Change up"))
        else:
            self.put(replace(chart, by=KeyBy(name)), tr("Change colour"))

    def _menu(self, at: QPoint, mark: Hit | None) -> None:
        menu = QMenu(self.view)
        self.fill_menu(menu, mark)
        menu.exec(at)

    def fill_menu(self, menu: QMenu, mark: Hit | None) -> None:
        """What can be done with the chart, and with a mark of it."""
        if mark is not None:
            menu.addAction(tr("Pick its rows"), calling(self.pick, mark))
            menu.addAction(tr("Pin a note here…"), calling(self._pin, mark))
            menu.addSeparator()
        if self.rows is not None:
            menu.addAction(tr("Keep only the rows picked"), calling(self.filter_picked, True))
            menu.addAction(tr("Leave out the rows picked"), calling(self.filter_picked, False))
            menu.addSeparator()
        menu.addAction(tr("Look at all of it"), calling(self.look, None, None))

    def _pin(self, mark: Hit) -> None:
        chart, picture = self.chart, self.made
        if chart is None or picture is None:
            return
        text, done = QInputDialog.getText(self.view, tr("Note"), tr("What it says:"))
        if done and text.strip():
            each = picture.drawn.series[mark.series]
            x = place_text(picture.drawn.x, float(each.x[mark.mark]))
            y = place_text(picture.drawn.y, float(each.y[mark.mark]))
            self.put(replace(chart, notes=(*chart.notes, Note(x, y, text.strip()))), tr("Pin a note"))

    def fill_drawer(self, drawer: ChartDrawer) -> None:
        """Bring the drawer up to date."""
        picked = len(self.rows) if self.rows is not None else 0
        drawer.show_chart(self.chart, self.fields(), self.words, self.problem, picked)


def painted(drawn: Drawn, size: tuple[int, int], ratio: float, dark: bool, window: Window, stop: StopToken) -> Painted:
    """A chart as a picture for the screen. Raises: ConditionError, Stopped."""
    from nimble_otter.pull.charts.paint import paint

    picture = paint(drawn, DARK if dark else LIGHT, size, ratio, window, stop)
    data, width, height = picture.pixels()
    image = QImage(data, width, height, 4 * width, QImage.Format.Format_RGBA8888).copy()
    return Painted(drawn, image, picture.grounds, size, picture.points)


def _drawn(
    shaped: Shaped, chart: Chart, wanted: tuple[tuple[int, int], float, bool, Window], stop: StopToken
) -> tuple[Made, Painted]:
    picture = Made(shaped, chart, draw(shaped, chart, stop))
    return picture, painted(picture.drawn, *wanted, stop)


def _positions(shaped: Shaped, rows: Ids) -> Ids:
    """Where rows stand in the grid, ascending; none where it shows groups."""
    if shaped.grouped is not None:
        return np.empty(0, np.int64)
    if shaped.view.ids is None:
        return rows
    at = np.full(shaped.table.rows, -1, np.int64)
    at[shaped.view.ids] = np.arange(len(shaped.view.ids))
    found = at.take(rows)
    return np.sort(found[found >= 0])
