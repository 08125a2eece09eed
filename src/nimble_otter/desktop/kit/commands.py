"""Commands: a name, a shortcut, what it does and when it can. The menu, the find box and the tests use the same."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from PySide6.QtCore import Qt
from PySide6.QtGui import QAction, QKeySequence
from PySide6.QtWidgets import QMenu, QWidget


def _always() -> bool:
    return True


@dataclass(frozen=True, slots=True)
class Command:
    """`group` is the part of the menu it stands in; `anywhere` makes the shortcut work in the whole window."""

    key: str
    name: str
    do: Callable[[], None]
    shortcut: str = ""
    group: str = ""
    can: Callable[[], bool] = _always
    anywhere: bool = True


class Commands:
    """All commands of a window, in the order in which they were added."""

    def __init__(self, window: QWidget) -> None:
        self._window = window
        self._commands: dict[str, Command] = {}
        self.used: list[str] = []
        """The keys of those that were done, the last first."""

    def add(self, command: Command) -> None:
        """Register a command, and its shortcut where it holds for the whole window."""
        self._commands[command.key] = command
        if command.shortcut and command.anywhere:
            action = QAction(command.name, self._window)
            action.setShortcut(QKeySequence(command.shortcut))
            action.setShortcutContext(Qt.ShortcutContext.WindowShortcut)
            action.triggered.connect(lambda: self.run(command.key))
            self._window.addAction(action)

    def all(self) -> list[Command]:
        """All commands, in the order they were registered."""
        return list(self._commands.values())

    def run(self, key: str) -> None:
        """Do a command, when it can be done now."""
        command = self._commands[key]
        if command.can():
            self.used = [key, *(each for each in self.used if each != key)]
            command.do()

    def fill_menu(self, menu: QMenu, keys: list[str] | None = None) -> None:
        """Entries for the commands (None: all), groups apart."""
        last = None
        for command in self.all() if keys is None else [self._commands[k] for k in keys]:
            if last is not None and command.group != last:
                menu.addSeparator()
            last = command.group
            text = f"{command.name}\t{QKeySequence(command.shortcut).toString()}" if command.shortcut else command.name
            entry = menu.addAction(text)
            entry.setEnabled(command.can())
            entry.triggered.connect(lambda _=False, key=command.key: self.run(key))
