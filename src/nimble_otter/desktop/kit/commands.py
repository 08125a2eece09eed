"""Commands: a name, a shortcut, what it does and when it can. The menu, the find box and the tests use the same."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace

from PySide6.QtCore import Qt
from PySide6.QtGui import QAction, QKeySequence
from PySide6.QtWidgets import QMenu, QToolTip, QWidget


def shown_keys(shortcut: str) -> str:
    """A shortcut as the reader's keyboard names its keys."""
    return QKeySequence(shortcut).toString(QKeySequence.SequenceFormat.NativeText)


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
        self._usual: dict[str, str] = {}
        self._actions: dict[str, QAction] = {}
        self._bound: Mapping[str, str] = {}

    def add(self, command: Command) -> None:
        """Register a command, and its shortcut where it holds for the whole window."""
        self._usual[command.key] = command.shortcut
        self._commands[command.key] = command
        if command.anywhere:
            self._bind(command.key, self._bound.get(command.key, command.shortcut))

    def _bind(self, key: str, shortcut: str) -> None:
        command = self._commands[key] = replace(self._commands[key], shortcut=shortcut)
        action = self._actions.get(key)
        if action is None and shortcut:
            action = self._actions[key] = QAction(command.name, self._window)
            action.setShortcutContext(Qt.ShortcutContext.WindowShortcut)
            action.triggered.connect(lambda: self.run(key))
            self._window.addAction(action)
        if action is not None:
            action.setShortcut(QKeySequence(shortcut))

    def bind(self, keys: Mapping[str, str]) -> None:
        """Give commands other shortcuts than the usual ones ("": none); those not named have the usual ones."""
        self._bound = keys
        for command in self.all():
            wanted = keys.get(command.key, self._usual[command.key])
            if command.anywhere and wanted != command.shortcut:
                self._bind(command.key, wanted)

    def usual(self, key: str) -> str:
        """The shortcut of a command unless another was set."""
        return self._usual[key]

    def with_shortcut(self, shortcut: str) -> list[Command]:
        """The commands that have a shortcut, or one that begins so or that it begins with: of these only one could be
        meant."""
        wanted, none = QKeySequence(shortcut), QKeySequence.SequenceMatch.NoMatch
        return [
            each for each in self.all() if shortcut and each.shortcut and each.anywhere
            and (wanted.matches(own := QKeySequence(each.shortcut)) != none or own.matches(wanted) != none)
        ]  # fmt: skip

    def beginning_with(self, stroke: str) -> list[Command]:
        """The commands of two strokes of which this is the first."""
        first = f"{QKeySequence(stroke).toString()}, "
        return [each for each in self.all() if QKeySequence(each.shortcut).toString().startswith(first)]

    def all(self) -> list[Command]:
        """All commands, in the order they were registered."""
        return list(self._commands.values())

    def run(self, key: str) -> None:
        """Do a command, when it can be done now."""
        command = self._commands[key]
        QToolTip.hideText()
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
