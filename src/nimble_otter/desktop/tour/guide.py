"""What every step of the tour uses: a window of its own, keys, pictures, and waiting until nothing runs."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QWidget

from nimble_otter.desktop.kit.offscreen import take_picture, wait_for_rest, wait_until
from nimble_otter.desktop.pulls.step_ref import QUERY

if TYPE_CHECKING:
    from nimble_otter.desktop.pulls.open_pull import OpenPull
    from nimble_otter.desktop.shell.window import Window


class StepFailed(Exception):
    """What a step says did not hold."""


def hold(is_so: object, what: str) -> None:
    """Raises: StepFailed."""
    if not is_so:
        raise StepFailed(what)


class Guide:
    """A window with a home of its own in `folder`; steps in order, each told and remembered."""

    def __init__(self, folder: Path, pictures: bool = True) -> None:
        self.folder, self.pictures = folder, pictures
        self.done: list[str] = []
        self.window: Window = self.start()

    def start(self) -> Window:
        """Open the window on the demo."""
        from nimble_otter.desktop.shell.window import Window

        self.window = Window()
        self.window.show()
        self.window.begin(demo=True)
        self.settle()
        return self.window

    # --- helpers -----------------------------------------------------------------------------------------------

    def settle(self, seconds: float = 0.15) -> None:
        """Until nothing runs and the timers of the panes have had their turn."""
        wait_until(lambda: False, seconds)
        quiet = wait_for_rest(self.window, lambda: self.window.jobs.is_busy, 60)
        hold(quiet, "work went on for more than a minute")

    def picture(self, name: str, over: QWidget | None = None) -> None:
        """Keep a picture of the window, with what lies `over` it, where pictures are wanted."""
        if self.pictures:
            self.settle()
            take_picture(self.window, self.folder / "pictures" / f"{name}.png", over)

    @property
    def pull(self) -> OpenPull:
        """The pull that is shown."""
        shown = self.window.pull
        hold(shown is not None, "no pull is shown")
        assert shown is not None
        return shown

    def key(self, key: Qt.Key, modifiers: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier) -> None:
        """Press a key where the focus is."""
        QTest.keyClick(self.window.focusWidget() or self.window, key, modifiers)

    def type(self, text: str) -> None:
        """Type a text where the focus is."""
        QTest.keyClicks(self.window.focusWidget() or self.window, text)

    def put_query(self, text: str) -> None:
        """Put a text into the editor of the query."""
        self.window.open_drawer(QUERY)
        self.window.query_drawer.editor.setPlainText(text)

    def run_query(self) -> None:
        """Run the query by the keyboard and wait for it."""
        self.window.query_drawer.editor.setFocus()
        self.key(Qt.Key.Key_Return, Qt.KeyboardModifier.ControlModifier)
        self.settle()

    def place(self, name: str) -> int:
        """The place of a column in the grid."""
        model = self.window.grid.model
        assert model is not None
        return [column.name for column in model.columns].index(name)

    def edit(self, position: int, name: str, text: str) -> None:
        """Go to a cell, F2, type, Enter."""
        grid = self.window.grid
        grid.setFocus()
        grid.go(position, self.place(name))
        QTest.keyClick(grid, Qt.Key.Key_F2)
        editor = grid.editor
        hold(editor is not None, f"{name} could not be edited: {self.window.status.message.text()}")
        assert editor is not None
        editor.selectAll()
        QTest.keyClicks(editor, text)
        QTest.keyClick(editor, Qt.Key.Key_Return)
        self.settle(0.05)

    def survey(self) -> Path:
        """The demo's database."""
        from nimble_otter.pull.places import demo_folder

        return demo_folder() / "merrow.sqlite"
