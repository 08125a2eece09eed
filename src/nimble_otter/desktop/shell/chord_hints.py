"""After the first of two strokes: a list of the letters there are, until one is struck."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QObject, QPoint, QRect
from PySide6.QtGui import QKeyEvent, QKeySequence
from PySide6.QtWidgets import QToolTip, QWidget

from nimble_otter.desktop.kit.commands import Commands, shown_keys
from nimble_otter.desktop.kit.widgets import as_plain
from nimble_otter.desktop.shell.shortcuts import FAMILIES
from nimble_otter.translation import tr

_SHOWN_MS = 6000


class ChordHints(QObject):
    """One for a window. Commands that can't be done now are left out."""

    def __init__(self, window: QWidget, commands: Commands) -> None:
        super().__init__(window)
        self._window, self._commands = window, commands
        self._strokes = {QKeySequence(stroke): what for stroke, what in FAMILIES}
        self.shown = ""
        window.installEventFilter(self)  # what nobody under the focus took comes up to it

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """Nothing is taken: the keys go where they go."""
        if event.type() == QEvent.Type.ShortcutOverride and isinstance(event, QKeyEvent):
            stroke = QKeySequence(event.keyCombination())
            if stroke in self._strokes:
                self._tell(stroke)
        return False

    def _tell(self, stroke: QKeySequence) -> None:
        lines = [
            f"{shown_keys(command.shortcut).rpartition(', ')[2]}   {command.name.partition(' (')[0]}"
            for command in self._commands.beginning_with(stroke.toString()) if command.can()
        ]  # fmt: skip
        said = "\n".join(sorted(lines)) if lines else tr("Nothing can be done there now.")
        self.shown = f"{shown_keys(stroke.toString())}, {self._strokes[stroke]}\n{said}"
        window = self._window
        place = window.mapToGlobal(QPoint(window.width() // 3, window.height() // 3))
        QToolTip.showText(place, as_plain(self.shown), window, QRect(), _SHOWN_MS)
