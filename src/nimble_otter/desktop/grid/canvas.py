"""The canvas of the grid: a scroll area that paints the visible cells of a model itself, with columns that stay at the
left. What mouse and keyboard do is in grid.py; painting a cell in grid_paint.py."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Callable

from PySide6.QtCore import QLine, QRect, Signal
from PySide6.QtGui import QPainter, QPaintEvent, QPen, QResizeEvent
from PySide6.QtWidgets import QAbstractScrollArea, QWidget

from nimble_otter.desktop.grid.model import GroupsModel, Line, RowsModel
from nimble_otter.desktop.grid.painting import GridPainter
from nimble_otter.desktop.grid.selection import Selection
from nimble_otter.desktop.grid.thumbnails import Thumbnails
from nimble_otter.desktop.kit import tokens
from nimble_otter.desktop.kit.theme import theme
from nimble_otter.desktop.kit.usual_looks import usual_looks
from nimble_otter.desktop.runtime.jobs import Jobs

HEAD = 45
_MOST_PIXELS = 1 << 30


class GridCanvas(QAbstractScrollArea):
    """Shows a model and a selection; positions are rows on the screen, columns places among those shown."""

    current_changed = Signal(int, int)
    selection_changed = Signal()
    room_changed = Signal()
    """There is more or less room for columns."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.model: RowsModel | GroupsModel | None = None
        self.selection = Selection()
        self.widths: list[int] = []
        self._edges: list[int] = [0]
        self.row = tokens.ROW
        self._lines: dict[int, Line] = {}
        self._painter = GridPainter()
        self._hot = self._gap = -1
        self.setFrameShape(QAbstractScrollArea.Shape.NoFrame)
        self.setViewportMargins(HEAD, tokens.HEADER, 0, 0)
        self.verticalScrollBar().valueChanged.connect(self._scrolled)
        self.horizontalScrollBar().valueChanged.connect(self._scrolled)
        theme.changed.connect(self.viewport().update)

    def close_editor(self) -> None:
        """What is open over a cell goes when the cells move."""

    # --- what is shown -----------------------------------------------------------------------------------------

    def set_model(self, model: RowsModel | GroupsModel | None, widths: list[int], keep: bool) -> None:
        """Show a model; `keep` leaves the place and the selection where they are."""
        self.close_editor()
        self.model, self.widths = model, list(widths)
        self._lines.clear()
        self._measure()
        if keep:
            self.selection.fit(self.rows, len(self.widths))
        else:
            self.selection.clear()
            self.verticalScrollBar().setValue(0)
            self.horizontalScrollBar().setValue(0)
            if self.rows and self.widths:
                self.selection.move(0, 0)
        self.refresh()
        self.selection_changed.emit()
        self.current_changed.emit(*self.selection.current)

    def set_widths(self, widths: list[int]) -> None:
        """Other widths for the columns that are there."""
        if widths != self.widths:
            self.widths = list(widths)
            self._measure()
            self.refresh()

    def lengthen(self, model: RowsModel) -> None:
        """Rows came behind those that are there: what is in sight stays painted where it filled the page."""
        was_full = self.cell_rect(self.rows - 1, 0).top() > self.viewport().height() if self.rows else False
        self.model = model
        self._measure()
        if not was_full:
            self.refresh()
        self.current_changed.emit(*self.selection.current)

    def show_pictures(self, jobs: Jobs) -> None:
        """Cells of tall rows show the pictures that their bytes are."""
        self._painter.thumbnails = Thumbnails(jobs, self.viewport().update)

    def set_row_height(self, height: int) -> None:
        """Rows of this height; the row at the top stays there."""
        bar = self.verticalScrollBar()
        top, self.row = bar.value() // self.row, height
        self.close_editor()
        self._measure()
        bar.setValue(top * height)
        self.refresh()

    def mark_texts(self, test: Callable[[str], bool] | None, places: tuple[int, ...] = ()) -> None:
        """Underline the cells of some columns whose text passes a test; None: no cells."""
        self._painter.marked = test
        self._painter.marked_places = frozenset(places)
        self.viewport().update()

    def refresh(self) -> None:
        """Paint again from the model."""
        self._lines.clear()
        self.viewport().update()
        self.update()

    @property
    def rows(self) -> int:
        """How many rows the grid has."""
        return self.model.rows if self.model is not None else 0

    def _measure(self) -> None:
        self._edges = [0]
        for width in self.widths:
            self._edges.append(self._edges[-1] + width)
        page = self.viewport().height()
        bar = self.verticalScrollBar()
        bar.setRange(0, max(0, min(_MOST_PIXELS, self.rows * self.row - page + 8)))
        bar.setPageStep(page)
        bar.setSingleStep(self.row)
        across = self.horizontalScrollBar()
        across.setRange(0, max(0, self._edges[-1] - self.viewport().width() + 1))
        across.setPageStep(self.viewport().width())
        across.setSingleStep(40)

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Measure again how far it scrolls."""
        super().resizeEvent(event)
        self._measure()
        if event.size().width() != event.oldSize().width():
            self.room_changed.emit()

    def _scrolled(self) -> None:
        self.close_editor()
        self.update()

    def scrollContentsBy(self, dx: int, dy: int) -> None:
        """Up and down the pixels are moved and only what comes into sight is painted."""
        if dx or isinstance(self.model, GroupsModel):  # columns and totals that stay in place would move along
            self.viewport().update()
        else:
            self.viewport().scroll(0, dy)

    def line(self, position: int) -> Line:
        """The row at a position as it is painted; kept until the rows change."""
        found = self._lines.get(position)
        if found is None:
            assert self.model is not None
            if len(self._lines) > 4000:
                self._lines.clear()
            found = self._lines[position] = self.model.line(position)
        return found

    def _visible_rows(self) -> range:
        top = self.verticalScrollBar().value()
        return range(top // self.row, min(self.rows, (top + self.viewport().height()) // self.row + 1))

    @property
    def pinned(self) -> int:
        """How many columns stay at the left; none where they would leave no room."""
        count = min(self.model.pinned, len(self.widths)) if self.model is not None else 0
        return count if self._edges[count] < self.viewport().width() - 100 else 0

    def _visible_columns(self) -> range:
        """Of the columns that scroll."""
        left, right = self.horizontalScrollBar().value(), self.horizontalScrollBar().value() + self.viewport().width()
        first = bisect_right(self._edges, left + self._edges[self.pinned]) - 1
        last = bisect_left(self._edges, right)
        return range(max(self.pinned, first), min(last, len(self.widths)))

    def _left(self, column: int) -> int:
        """Where a column begins in the viewport."""
        return self._edges[column] - (self.horizontalScrollBar().value() if column >= self.pinned else 0)

    def _column_at(self, x: int) -> int:
        """The column at a place of the viewport, or -1."""
        x += self.horizontalScrollBar().value() if x >= self._edges[self.pinned] else 0
        return bisect_right(self._edges, x) - 1 if 0 <= x < self._edges[-1] else -1

    def cell_rect(self, position: int, column: int) -> QRect:
        """In the viewport's coordinates."""
        y = position * self.row - self.verticalScrollBar().value()
        return QRect(self._left(column), y, self.widths[column], self.row)

    # --- painting ----------------------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent) -> None:
        """Paint the visible cells, headers and row heads."""
        with QPainter(self.viewport()) as painter:
            painter.fillRect(self.viewport().rect(), theme["surface"])
            if self.model is None:
                return
            fixed, area, top = self._edges[self.pinned], event.rect(), self.verticalScrollBar().value()
            rows = range(max(0, (top + area.top()) // self.row), min(self.rows, (top + area.bottom()) // self.row + 1))
            painter.setClipRect(QRect(fixed, 0, self.viewport().width(), self.viewport().height()) & area)
            width = self._edges[-1] - self.horizontalScrollBar().value()
            self._paint_cells(painter, self._visible_columns(), rows, width)
            if fixed:
                painter.setClipRect(QRect(0, 0, fixed + 1, self.viewport().height()) & area)
                painter.fillRect(QRect(0, 0, fixed, self.viewport().height()), theme["surface"])
                self._paint_cells(painter, range(self.pinned), rows, fixed)
                painter.fillRect(QRect(fixed - 1, 0, 2, self.viewport().height()), theme["line"])
            painter.setClipping(False)
            self._paint_totals(painter)

    def _paint_totals(self, painter: QPainter) -> None:
        """The totals of groups stay in sight at the foot while their line is further down."""
        last, foot = self.rows - 1, self.viewport().height() - self.row
        if not isinstance(self.model, GroupsModel) or last < 0 or self.cell_rect(last, 0).top() <= foot:
            return
        painter.fillRect(QRect(0, foot - 1, self.viewport().width(), self.row + 1), theme["paper"])
        painter.fillRect(QRect(0, foot - 1, self.viewport().width(), 1), theme["line"])
        line = self.line(last)
        for column in (*self._visible_columns(), *range(self.pinned)):
            rect = QRect(self._left(column), foot, self.widths[column], self.row)
            self._painter.cell(painter, rect, line.cells[column], self.model.columns[column], line, False)

    def _paint_cells(self, painter: QPainter, columns: range, rows: range, width: int) -> None:
        assert self.model is not None
        model_columns = self.model.columns
        spans = [(n, self._left(n), self.widths[n], model_columns[n]) for n in columns]
        top, paint = self.verticalScrollBar().value(), self._painter.cell
        striped = usual_looks().stripes
        for position in rows:
            line = self.line(position)
            y = position * self.row - top
            if striped and position % 2:
                painter.fillRect(QRect(0, y, width, self.row), theme["paper"])
            self._painter.ground(painter, QRect(0, y, width, self.row), line)
            for column, left, wide, head in spans:
                selected = self._is_marked(position, column)
                paint(painter, QRect(left, y, wide, self.row), line.cells[column], head, line, selected)
        self._paint_lines(painter, [left + wide - 1 for _, left, wide, _ in spans], rows, width)
        position, column = self.selection.current
        if 0 <= position < self.rows and column in columns:
            colour = theme["water1"] if self.hasFocus() else theme["faint"]
            painter.setPen(QPen(colour, 2))
            painter.drawRect(self.cell_rect(position, column).adjusted(0, 0, -2, -2))

    def _paint_lines(self, painter: QPainter, uprights: list[int], rows: range, width: int) -> None:
        top = self.verticalScrollBar().value()
        end = min(rows.stop * self.row - top, self.viewport().height())
        lines = [QLine(x, 0, x, end - 1) for x in uprights]
        lines += [QLine(0, y, width - 1, y) for y in ((n + 1) * self.row - top - 1 for n in rows)]
        painter.setPen(theme["grid_line"])
        painter.drawLines(lines)

    def _is_marked(self, position: int, column: int) -> bool:
        single = len(self.selection.blocks) == 1 and self.selection.blocks[0].cells == 1
        return not single and self.selection.holds(position, column)

    def _paint_frame(self) -> None:
        """The header and the row heads, which lie in the margins around the viewport."""
        with QPainter(self) as painter:
            painter.fillRect(QRect(0, 0, self.width(), tokens.HEADER), theme["paper"])
            painter.fillRect(QRect(0, tokens.HEADER, HEAD, self.height()), theme["surface"])
            if self.model is not None:
                fixed = self._edges[self.pinned]
                for columns, left in ((self._visible_columns(), fixed), (range(self.pinned), 0)):
                    right = self.viewport().width() if left or not self.pinned else fixed
                    painter.setClipRect(QRect(HEAD + left, 0, right - left, tokens.HEADER))
                    for column in columns:
                        rect = QRect(HEAD + self._left(column), 0, self.widths[column], tokens.HEADER)
                        self._painter.header_cell(painter, rect, self.model.columns[column], column == self._hot)
                if self._gap >= 0:
                    x = (
                        self._left(self._gap)
                        if self._gap < len(self.widths)
                        else self._left(self._gap - 1) + self.widths[-1]
                    )
                    painter.setClipping(False)
                    painter.fillRect(QRect(HEAD + x - 1, 2, 3, tokens.HEADER - 4), theme["water1"])
                painter.setClipRect(QRect(0, tokens.HEADER, HEAD, self.viewport().height()))
                for position in self._visible_rows():
                    y = tokens.HEADER + position * self.row - self.verticalScrollBar().value()
                    marked = self.selection.holds_row(position)
                    self._painter.head(painter, QRect(0, y, HEAD, self.row), self.line(position), marked)
                painter.setClipping(False)
            painter.setPen(theme["line"])
            painter.drawLine(0, tokens.HEADER - 1, self.width(), tokens.HEADER - 1)
            painter.drawLine(HEAD - 1, 0, HEAD - 1, self.height())
