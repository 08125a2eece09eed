"""Two pulls beside each other: the rows of another open pull as they are there, beside those in sight. They are read
and copied here, and changed where that pull is in sight: swapping the two is one press."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QObject, Qt, Signal
from PySide6.QtGui import QKeyEvent, QKeySequence
from PySide6.QtWidgets import QScrollBar, QVBoxLayout, QWidget

from nimble_otter.desktop.grid.copying import block_rows
from nimble_otter.desktop.grid.grid import Grid
from nimble_otter.desktop.grid.model import model_for
from nimble_otter.desktop.kit.widgets import ElidedLabel, boxed, button, clear, combo, row
from nimble_otter.desktop.pulls.aspect import Aspect
from nimble_otter.desktop.pulls.open_pull import OpenPull
from nimble_otter.desktop.pulls.workspace import Workspace
from nimble_otter.table.text.show import rows_words
from nimble_otter.translation import tr


class BesidePull(QWidget):
    """One for a window. `opened` and `closed` tell whether it stands beside the grid; `copy_wanted` has a pull, blocks
    of its rows, the form they are copied in, and None."""

    opened = Signal()
    closed = Signal()
    copy_wanted = Signal(object, list, str, object)

    def __init__(self, workspace: Workspace, main: Grid) -> None:
        super().__init__()
        self._workspace, self._main = workspace, main
        self.other: OpenPull | None = None
        self._left: OpenPull | None = None
        self._is_moving = False
        self._choices = QVBoxLayout()
        self.said = ElidedLabel("", "muted")
        self.together = button(tr("scroll together"), self._move_along, "chip")
        self.together.setCheckable(True)
        self.swap = button(tr("Swap"), self.swap_sides, "link", tr("Bring these rows into sight, and those here"))
        head = row(
            boxed(self._choices), self.said, self.together, self.swap, button("×", self.close_it, "flat", tr("Close")),
            space=8, margins=(8, 3, 8, 3),
        )  # fmt: skip
        head.setStretch(1, 1)
        self.grid = Grid()
        self.grid.setAccessibleName(tr("Rows of another pull"))
        self.grid.installEventFilter(self)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addWidget(boxed(head, "raised"))
        layout.addWidget(self.grid, 1)
        for own, theirs in ((self.grid, main), (main, self.grid)):
            own.verticalScrollBar().valueChanged.connect(lambda _, a=own, b=theirs: self._follow(a, b))
        workspace.leaving.connect(self._note)
        workspace.current_changed.connect(self._look)
        workspace.pull_closed.connect(lambda _: self._look())
        self.hide()

    # --- which ---------------------------------------------------------------------------------------------------

    def open(self) -> None:
        """Show the pull that was in sight before, or the one beside it among the tabs."""
        others = self._others()
        if not others:
            self._workspace.say(tr("There is no other pull open to stand beside this one."), True)
            return
        self.show_pull(self._left if self._left in others else others[-1])
        self.opened.emit()
        self.grid.setFocus()

    def close_it(self) -> None:
        """Close it and give the keyboard back to the rows in sight."""
        self.show_pull(None)
        self.closed.emit()
        self._main.setFocus()

    def swap_sides(self) -> None:
        """These rows come into sight, and those in sight stand here."""
        if self.other is not None:
            self._workspace.show(self.other)

    def show_pull(self, other: OpenPull | None) -> None:
        """Show the rows of this pull from now on, whatever becomes of them."""
        if self.other is not None:
            self.other.changed.disconnect(self._changed)
        self.other = other
        if other is not None:
            other.changed.connect(self._changed)
        self.setVisible(other is not None)
        self.refresh()

    def _others(self) -> list[OpenPull]:
        return [pull for pull in self._workspace.pulls if pull is not self._workspace.pull]

    def _note(self) -> None:
        self._left = self._workspace.pull

    def _look(self) -> None:
        """Another pull is in sight, or one was closed."""
        if self.other is None:
            return
        others = self._others()
        if self.other not in others:
            last = others[-1] if others else None
            wanted = self._left if self._left in others else last
            self.show_pull(wanted)
            if wanted is None:
                self.closed.emit()
        else:
            self.refresh()

    # --- filling -------------------------------------------------------------------------------------------------

    def _changed(self, what: Aspect) -> None:
        if what & (Aspect.ROWS | Aspect.PULL | Aspect.EDITS):
            self.refresh()

    def refresh(self) -> None:
        """The rows, and the pulls there are to choose from, as they are now."""
        other = self.other
        clear(self._choices)
        if other is None:
            self.grid.set_model(None, [], False)
            return
        others = self._others()
        chosen = combo([(pull.uid, _named(pull)) for pull in others], other.uid, tr("Pull beside"))
        chosen.setMinimumWidth(190)
        chosen.activated.connect(lambda _: self.show_pull(self._workspace.find(str(chosen.currentData()))))
        self._choices.addWidget(chosen)
        shaped = other.shaped
        if shaped is None:
            self.said.setText(tr("no rows yet"))
            self.grid.set_model(None, [], False)
            return
        count = len(shaped.grouped.view) if shaped.grouped is not None else shaped.rows
        self.said.setText(rows_words(count))
        before = self.grid.model
        model = model_for(
            shaped, other.edits, other.shaping.tree_lines(), other.pull.steps, {}, {}, before, other.fresh
        )
        widths = [
            other.pull.widths.get(column.name) or self.grid.fitting_width(model, shaped.table, at)
            for at, column in enumerate(model.columns)
        ]
        is_same = before is not None and [c.name for c in before.columns] == [c.name for c in model.columns]
        self.grid.set_model(model, widths, is_same)

    # --- scrolling, keys -----------------------------------------------------------------------------------------

    def _move_along(self) -> None:
        self._follow(self._main, self.grid)

    def _follow(self, moved: Grid, along: Grid) -> None:
        """The other side goes to the same row, as far as it has one."""
        if self._is_moving or not self.together.isChecked() or self.other is None:
            return
        self._is_moving = True
        bar: QScrollBar = along.verticalScrollBar()
        bar.setValue(min(bar.maximum(), moved.verticalScrollBar().value()))
        self._is_moving = False

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """Copy from here, close at Escape, swap at Enter."""
        if not isinstance(event, QKeyEvent):
            return super().eventFilter(watched, event)
        is_copy = event.matches(QKeySequence.StandardKey.Copy)
        keys = (Qt.Key.Key_Escape, Qt.Key.Key_Return, Qt.Key.Key_Enter)
        if not is_copy and Qt.Key(event.key()) not in keys:
            return super().eventFilter(watched, event)
        if event.type() == QEvent.Type.ShortcutOverride:
            event.accept()
        elif event.type() == QEvent.Type.KeyPress:
            self.copy() if is_copy else self.close_it() if event.key() == Qt.Key.Key_Escape else self.swap_sides()
            return True
        return super().eventFilter(watched, event)

    def copy(self) -> None:
        """The selected blocks of these rows."""
        model, other = self.grid.model, self.other
        if model is not None and other is not None and self.grid.selection.blocks:
            blocks = [block_rows(model, block, other.pull.name) for block in self.grid.selection.blocks]
            self.copy_wanted.emit(other, blocks, "cells", None)


def _named(pull: OpenPull) -> str:
    """A pull with its source, and what that is for."""
    source = pull.hub.known(pull.pull.source)
    stage = f"{source.stage.upper()} " if source.stage else ""
    return f"{pull.pull.name} · {stage}{source.name}"
