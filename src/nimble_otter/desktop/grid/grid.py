"""The grid: what mouse and keyboard do on its canvas, the selection as blocks, and the field over a cell."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import QEvent, QPoint, Qt, Signal
from PySide6.QtGui import (
    QAccessible,
    QAccessibleAnnouncementEvent,
    QAccessibleEvent,
    QDragEnterEvent,
    QDragMoveEvent,
    QDropEvent,
    QFocusEvent,
    QKeyEvent,
    QMouseEvent,
)
from PySide6.QtWidgets import QApplication, QToolTip, QWidget

from nimble_otter.desktop.grid.accessibility import spoken
from nimble_otter.desktop.grid.canvas import HEAD, GridCanvas
from nimble_otter.desktop.grid.cell_editor import CellEditor
from nimble_otter.desktop.grid.fitting import fitting_width, header_widths
from nimble_otter.desktop.grid.model import GroupsModel, RowsModel
from nimble_otter.desktop.grid.painting import CARET, PAD
from nimble_otter.desktop.grid.spoken_table import SpokenTable
from nimble_otter.desktop.kit import tokens
from nimble_otter.desktop.kit.mime_types import KEY_DRAG, drag_column, text_in
from nimble_otter.desktop.kit.spoken_list import is_listened_to
from nimble_otter.desktop.kit.widgets import as_plain
from nimble_otter.table import Table
from nimble_otter.table.core.columns import Ids
from nimble_otter.translation import tr

LEAST, MOST = 36, 700
_NOT_TYPING = Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.AltModifier | Qt.KeyboardModifier.MetaModifier
"""Keys that a key is held with where it is no letter to be typed; AltGr, by which many are, is none of them."""
_GRIP = 5
_BORDER = 3
"""Pixels at a cell's edge by which its value is dragged."""


class Grid(GridCanvas):
    """Signals carry positions and places among the columns shown."""

    header_clicked = Signal(int, bool)
    menu_wanted = Signal(int, int, QPoint)
    group_toggled = Signal(int)
    edit_wanted = Signal(int, int)
    typed = Signal(int, int, str)
    clear_wanted = Signal()
    width_changed = Signal(str, int)
    column_moved = Signal(int, int)
    key_dropped = Signal(str)
    value_carried = Signal(int, int)
    """A value is dragged away from a position and column."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._editor: CellEditor | None = None
        self._spoken: SpokenTable | None = None
        self._press: tuple[str, int, QPoint] | None = None
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.viewport().setMouseTracking(True)
        self.viewport().setAcceptDrops(True)
        self.setAccessibleName(tr("Rows"))

    # --- the mouse ---------------------------------------------------------------------------------------------

    def event(self, event: QEvent) -> bool:
        """Paint the frame and handle the mouse in the margins, which the base class lets go of."""
        if event.type() == QEvent.Type.Paint:
            self._paint_frame()
        if isinstance(event, QMouseEvent):  # the base class lets go of what happens in the margins
            self._mouse(event, event.position().toPoint())
            return True
        return super().event(event)

    def _place(self, point: QPoint) -> tuple[str, int, int]:
        """What lies under a point of the whole widget: (header, grip, head, cell or nothing; position; column)."""
        x = point.x() - HEAD
        position = (point.y() - tokens.HEADER + self.verticalScrollBar().value()) // self.row
        column = self._column_at(x) if x >= 0 else -1
        if point.y() < tokens.HEADER:
            for n in (self._column_at(x - _GRIP), column) if x >= 0 else ():
                if n >= 0 and abs(x - self._left(n) - self.widths[n]) <= _GRIP:
                    return ("grip", -1, n)
            return ("header" if column >= 0 and point.x() >= HEAD else "nothing", -1, column)
        if not 0 <= position < self.rows:
            return ("nothing", -1, -1)
        if point.x() < HEAD:
            return ("head", position, -1)
        return ("cell" if column >= 0 else "nothing", position, column)

    def viewportEvent(self, event: QEvent) -> bool:
        """Handle the mouse in coordinates of the whole widget."""
        # mouse events of the viewport are handled in the widget's own coordinates, together with the margins'
        if isinstance(event, QMouseEvent):
            moved = QPoint(HEAD, tokens.HEADER) + event.position().toPoint()
            self._mouse(event, moved)
            return True
        if event.type() == QEvent.Type.ToolTip:
            self._tell(event)
            return True
        return super().viewportEvent(event)

    def _mouse(self, event: QMouseEvent, point: QPoint) -> None:  # noqa: C901 - a branch for each part of the grid
        kind = event.type()
        if kind == QEvent.Type.MouseMove:
            self._moved(event, point)
            return
        where, position, column = self._place(point)
        shift = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        control = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
        if kind == QEvent.Type.MouseButtonRelease:
            press, self._press = self._press, None
            gap, self._gap = self._gap, -1
            self.unsetCursor()
            if gap >= 0 and press is not None and press[0] == "header":
                self.update()
                self.column_moved.emit(press[1], gap)
            elif press is not None and press[0] == "header" and where == "header" and press[1] == column:
                self.header_clicked.emit(column, shift) if not control else self._select_column(column, shift)
            elif press is not None and press[0] == "grip" and self.model is not None:
                self.width_changed.emit(self.model.columns[press[1]].name, self.widths[press[1]])
            return
        if event.button() == Qt.MouseButton.RightButton:
            if where == "cell" and not self.selection.holds(position, column):
                self.go(position, column)
            if where in ("cell", "header", "head"):
                self.menu_wanted.emit(position, column, event.globalPosition().toPoint())
            return
        if event.button() != Qt.MouseButton.LeftButton:
            return
        if kind == QEvent.Type.MouseButtonDblClick:
            if where == "grip":
                self.fit_column(column)
            elif where == "cell":
                self.edit_wanted.emit(position, column)
            return
        self.setFocus(Qt.FocusReason.MouseFocusReason)
        self.close_editor()
        on_border = where == "cell" and self._on_border(point) and not (shift or control)
        if where == "header" and self._on_caret(column, point):
            self.menu_wanted.emit(-1, column, self.mapToGlobal(QPoint(HEAD + self._left(column), tokens.HEADER)))
            return
        self._press = ("border" if on_border else where, column, point)
        if where == "cell":
            if isinstance(self.model, GroupsModel) and self.model.columns[column].place == -1:
                self.group_toggled.emit(position) if self._on_branch(position, column, point) else None
            self.go(position, column, shift, control)
        elif where == "head":
            anchor = self.selection.anchor[0] if shift else position
            self.selection.rows(anchor, position, len(self.widths), control)
            self._chosen()
        elif where == "nothing" and point.x() < HEAD and point.y() < tokens.HEADER:
            self.select_all()

    def _on_caret(self, column: int, point: QPoint) -> bool:
        """Whether a point is on the mark that opens a column's menu, which is there under the mouse."""
        right = HEAD + self._left(column) + self.widths[column]
        return (
            column == self._hot and right - CARET - _GRIP < point.x() < right - _GRIP and point.y() > tokens.HEADER // 2
        )

    def open_cell_menu(self) -> None:
        """The menu of the current cell, which has all that the column's has; without rows that of the column."""
        position, column = self.selection.current
        if position >= 0 and column >= 0:
            self.reveal(position, column)
            at = self.viewport().mapToGlobal(self.cell_rect(position, column).center())
            self.menu_wanted.emit(position, column, at)
        else:
            self.open_column_menu()

    def open_column_menu(self) -> None:
        """The menu of the current column, under its header; where no cell is current, of the first one."""
        column = max(0, self.selection.current[1])
        if column < len(self.widths):
            self.reveal(max(0, self.selection.current[0]), column)
            self.menu_wanted.emit(-1, column, self.mapToGlobal(QPoint(HEAD + self._left(column), tokens.HEADER)))

    def _on_branch(self, position: int, column: int, point: QPoint) -> bool:
        line = self.line(position)
        left = HEAD + self.cell_rect(position, column).left() + PAD + max(0, line.depth) * 18
        return line.is_open is not None and left - 4 <= point.x() <= left + 14

    def _moved(self, event: QMouseEvent, point: QPoint) -> None:
        where, position, column = self._place(point)
        if self._press is None:
            shapes, on_border = Qt.CursorShape, where == "cell" and self._on_border(point)
            self.setCursor(
                shapes.SplitHCursor if where == "grip" else shapes.OpenHandCursor if on_border else shapes.ArrowCursor
            )
            hot = column if where in ("header",) else -1
            if hot != self._hot:
                self._hot = hot
                self.update()
            return
        kind, pressed, start = self._press
        if kind == "grip":
            left = HEAD + self._left(pressed)
            self.widths[pressed] = max(LEAST, min(MOST, point.x() - left))
            self._measure()
            self.refresh()
        elif kind == "header" and (point - start).manhattanLength() > QApplication.startDragDistance():
            if point.y() < 0 or point.y() > tokens.HEADER:  # out of the header: to the course or the query
                self._press, self._gap = None, -1
                self.unsetCursor()
                self.update()
                self._drag_header(pressed, start)
                return
            self._gap = self._gap_at(point)
            self.setCursor(Qt.CursorShape.ClosedHandCursor)
            self.update()
        elif kind == "border" and (point - start).manhattanLength() > QApplication.startDragDistance():
            self._press = None
            self.value_carried.emit(*self.selection.current)
        elif kind == "cell" and where == "cell" and event.buttons() & Qt.MouseButton.LeftButton:
            self.go(position, column, extend=True)
        elif kind == "head" and where in ("head", "cell"):
            self.selection.rows(self.selection.anchor[0], position, len(self.widths))
            self._chosen()

    def _drag_header(self, column: int, start: QPoint) -> None:
        """Carry a header; of those that make the groups the one that was pressed."""
        if not isinstance(self.model, GroupsModel) or self.model.columns[column].place != -1:
            drag_column(self, self.model.columns[column].name) if self.model is not None else None
            return
        measure, left = self._painter.metrics(self._painter.bold), HEAD + self._left(column) + PAD
        for key in self.model.keys:
            left += measure.horizontalAdvance(f"{key} › ")
            if start.x() < left:
                break
        drag_column(self, key, KEY_DRAG)

    def _takes(self, event: QDragMoveEvent) -> None:
        """A column that the rows are grouped by can be dropped among them."""
        event.acceptProposedAction() if event.mimeData().hasFormat(KEY_DRAG) else event.ignore()

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        """Take a column that is dragged here."""
        self._takes(event)

    def dragMoveEvent(self, event: QDragMoveEvent) -> None:
        """Take a column that is dragged here."""
        self._takes(event)

    def dropEvent(self, event: QDropEvent) -> None:
        """Tell which column was dropped."""
        self.key_dropped.emit(text_in(event.mimeData(), KEY_DRAG))
        event.acceptProposedAction()

    def _gap_at(self, point: QPoint) -> int:
        """The column before which a dragged one would stand; their number behind the last."""
        x = max(0, point.x() - HEAD)
        column = self._column_at(x)
        if column < 0:
            return len(self.widths)
        return column + (x > self._left(column) + self.widths[column] // 2)

    def _on_border(self, point: QPoint) -> bool:
        """Whether a point is on the border of the current cell, by which its value is dragged."""
        position, column = self.selection.current
        if not (0 <= position < self.rows and 0 <= column < len(self.widths)):
            return False
        rect, at = self.cell_rect(position, column), point - QPoint(HEAD, tokens.HEADER)
        return rect.contains(at) and not rect.adjusted(_BORDER, _BORDER, -_BORDER, -_BORDER).contains(at)

    def _tell(self, event: QEvent) -> None:
        point: QPoint = event.pos()  # type: ignore[attr-defined]
        where, position, column = self._place(point + QPoint(HEAD, tokens.HEADER))
        if where == "cell":
            cell = self.line(position).cells[column]
            room = self.widths[column] - 2 * PAD
            if self._painter.metrics(self._painter.font).horizontalAdvance(cell.text) > room:
                QToolTip.showText(event.globalPos(), as_plain(cell.text[:600]), self)  # type: ignore[attr-defined]
                return
        QToolTip.hideText()

    # --- going about -------------------------------------------------------------------------------------------

    def go(self, position: int, column: int, extend: bool = False, add: bool = False) -> None:
        """Make a cell current and bring it into sight."""
        if not self.rows or not self.widths:
            return
        position, column = max(0, min(position, self.rows - 1)), max(0, min(column, len(self.widths) - 1))
        self.selection.move(position, column, extend, add)
        self.reveal(position, column)
        self._chosen()

    def reveal(self, position: int, column: int) -> None:
        """Scroll until a cell is in sight."""
        rect = self.cell_rect(position, column)
        bar, across = self.verticalScrollBar(), self.horizontalScrollBar()
        if rect.top() < 0:
            bar.setValue(bar.value() + rect.top())
        elif rect.bottom() > self.viewport().height():
            bar.setValue(bar.value() + rect.bottom() - self.viewport().height() + 1)
        fixed = self._edges[self.pinned]
        if column < self.pinned:
            return
        if rect.left() < fixed:
            across.setValue(across.value() + rect.left() - fixed)
        elif rect.right() > self.viewport().width() and rect.width() < self.viewport().width() - fixed:
            across.setValue(across.value() + rect.right() - self.viewport().width() + 1)

    def select_all(self) -> None:
        """Select all rows and columns."""
        if self.rows:
            self.selection.everything(self.rows, len(self.widths))
            self._chosen()

    def follow(self, was: int, now: int) -> None:
        """The current row stands elsewhere: the selection and the view go with it."""
        if was == now:
            return
        bar, column = self.verticalScrollBar(), self.selection.current[1]
        bar.setValue(bar.value() + (now - was) * self.row)
        self.selection.move(now, column)
        self._chosen()

    def select_rows(self, positions: Ids) -> None:
        """Select whole rows wherever they are; `positions` ascend."""
        if self.rows:
            self.selection.pick(positions, len(self.widths))
            self._chosen()

    def _select_column(self, column: int, add: bool) -> None:
        self.selection.column(column, self.rows, add)
        self._chosen()

    def _chosen(self) -> None:
        self.viewport().update()
        self.update()
        self.selection_changed.emit()
        self.current_changed.emit(*self.selection.current)
        self._say(aloud=self.hasFocus())

    def refresh(self) -> None:
        """Paint anew, after the rows or edits changed."""
        super().refresh()
        self._say(aloud=False)

    def _say(self, aloud: bool) -> None:
        """What the current cell is, for those who don't see it."""
        position, column = self.selection.current
        if is_listened_to():
            if self._spoken is None:
                self._spoken = SpokenTable(self)
            self._spoken.follow(self.rows, self.selection.current, self.selection.blocks, aloud)
        if self.model is None:
            self.setAccessibleName(tr("Rows"))
        elif 0 <= position < self.rows and column < len(self.model.columns):
            selected = sum(block.cells for block in self.selection.blocks)
            head = self.model.columns[column]
            text = spoken(head.title or head.name, self.line(position), column, position, self.rows, selected)
            self.setAccessibleName(text)
            QAccessible.updateAccessibility(QAccessibleEvent(self, QAccessible.Event.NameChanged))
            if aloud:
                QAccessible.updateAccessibility(QAccessibleAnnouncementEvent(self, text))

    def fitting_width(self, model: RowsModel | GroupsModel, table: Table, column: int) -> int:
        """How wide a column of a model is that nobody has set."""
        return fitting_width(self._painter, model, table, column)

    def fit_column(self, column: int, what: str = "both") -> None:
        """As wide as its header, as the data in sight, or as both."""
        assert self.model is not None
        font, widths = self._painter.font, list[int]()
        if what != "data":
            widths += header_widths(self._painter, self.model.columns[column])
        for position in self._visible_rows() if what != "header" else ():
            widths.append(self._painter.metrics(font).horizontalAdvance(self.line(position).cells[column].text))
        self._set_width(column, max(widths, default=LEAST) + 2 * PAD + 2)

    def fit_window(self) -> None:
        """All columns into the width of the window, each in proportion to what it is now."""
        room, whole = self.viewport().width() - 2, sum(self.widths) or 1
        for column, width in enumerate(list(self.widths)):
            self._set_width(column, width * room // whole)

    def _set_width(self, column: int, width: int) -> None:
        assert self.model is not None
        self.widths[column] = max(LEAST, min(MOST, width))
        self._measure()
        self.refresh()
        self.width_changed.emit(self.model.columns[column].name, self.widths[column])

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Move, select, edit or type ahead by the keyboard."""
        position, column = self.selection.current
        key, modifiers = event.key(), event.modifiers()
        shift = bool(modifiers & Qt.KeyboardModifier.ShiftModifier)
        control = bool(modifiers & Qt.KeyboardModifier.ControlModifier)
        page = max(1, self.viewport().height() // self.row - 1)
        last, end = self.rows - 1, len(self.widths) - 1
        moves = {
            Qt.Key.Key_Up: (0 if control else position - 1, column),
            Qt.Key.Key_Down: (last if control else position + 1, column),
            Qt.Key.Key_Left: (position, 0 if control else column - 1),
            Qt.Key.Key_Right: (position, end if control else column + 1),
            Qt.Key.Key_PageUp: (position - page, column),
            Qt.Key.Key_PageDown: (position + page, column),
            Qt.Key.Key_Home: (0 if control else position, 0),
            Qt.Key.Key_End: (last if control else position, end),
        }
        line = self.line(position) if 0 <= position < self.rows else None
        opens = line is not None and line.is_open == (key == Qt.Key.Key_Left)
        if (
            line is not None
            and line.is_open is not None
            and (key == Qt.Key.Key_Return or (key in (Qt.Key.Key_Left, Qt.Key.Key_Right) and opens))
        ):
            self.group_toggled.emit(position)
            return
        if Qt.Key(key) in moves and not modifiers & Qt.KeyboardModifier.AltModifier:
            self.go(*moves[Qt.Key(key)], extend=shift)
        elif key == Qt.Key.Key_Space and shift and position >= 0:
            self.selection.rows(position, position, len(self.widths))
            self._chosen()
        elif key == Qt.Key.Key_Space and control and column >= 0:
            self._select_column(column, False)
        elif key in (Qt.Key.Key_F2, Qt.Key.Key_Return, Qt.Key.Key_Enter) and not control and position >= 0:
            self.edit_wanted.emit(position, column)
        elif key == Qt.Key.Key_Delete and not modifiers and position >= 0:
            self.clear_wanted.emit()
        elif key == Qt.Key.Key_Backspace and not modifiers and position >= 0:
            self.typed.emit(position, column, "")
        elif key == Qt.Key.Key_Menu:
            self.open_cell_menu()
        elif (
            event.text().isprintable()
            and event.text()
            and not modifiers & _NOT_TYPING
            and position >= 0
            and (key != Qt.Key.Key_Space)
        ):
            self.typed.emit(position, column, event.text())
        else:
            super().keyPressEvent(event)

    def focusInEvent(self, event: QFocusEvent) -> None:
        """Show the focus."""
        super().focusInEvent(event)
        self._say(aloud=True)
        self.viewport().update()

    def focusOutEvent(self, event: QFocusEvent) -> None:
        """Show that the focus is elsewhere."""
        super().focusOutEvent(event)
        self.viewport().update()

    # --- editing in place --------------------------------------------------------------------------------------

    def open_editor(self, position: int, column: int, text: str, commit: object) -> CellEditor:
        """A field over a cell; `commit(text, step)` gives whether the value was taken; step is where to go next."""
        self.close_editor()
        self.go(position, column)
        editor = CellEditor(
            self.viewport(), text, lambda value, step: self._commit(commit, value, step), self.close_editor
        )
        rect = self.cell_rect(position, column)
        editor.setGeometry(rect.adjusted(0, 0, max(0, 120 - rect.width()), 0))
        editor.setAccessibleName(
            tr("Edit {columns_name}", columns_name=self.model.columns[column].name) if self.model else tr("Edit")
        )
        editor.show()
        editor.setFocus()
        self._editor = editor
        return editor

    def _commit(self, commit: Any, value: str, step: tuple[int, int]) -> bool:
        if not commit(value):
            return False
        self.close_editor()
        position, column = self.selection.current
        if step != (0, 0):
            self.go(position + step[0], column + step[1])
        return True

    def close_editor(self) -> None:
        """End the editor of a cell without taking its value."""
        editor, self._editor = self._editor, None
        if editor is not None:
            editor.is_over = True  # hiding it moves the focus away, which must not take the value
            had_focus = self.window().focusWidget() is editor  # hiding it would pass the focus on to anything
            editor.hide()
            editor.deleteLater()
            if had_focus:
                self.setFocus()

    @property
    def editor(self) -> CellEditor | None:
        """The editor that is open over a cell, if one is."""
        return self._editor
