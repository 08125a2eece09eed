"""What a user has set: one file, written whole, read again when it is changed from outside."""

from __future__ import annotations

import tomllib
from collections.abc import Mapping
from dataclasses import dataclass, field, fields, replace
from pathlib import Path
from typing import Any

import tomli_w
from PySide6.QtCore import QFileSystemWatcher, QObject, Signal

from nimble_otter.desktop.kit.theme import THEMES
from nimble_otter.files import locked, read_text, set_aside, write_text
from nimble_otter.pull import places
from nimble_otter.pull.history import DAYS
from nimble_otter.pull.model import ROW_LIMIT

TEXT_SIZES = (80, 90, 100, 110, 125, 150, 175, 200)
"""Sizes of text in percent of what the desktop has."""
ROW_HEIGHTS = (25, 50, 100, 200)
MOST_ROWS, MOST_DAYS = 50_000_000, 3650
_HEAD = """# Settings of Nimble Otter. A line that is not here has its usual value:
# theme = "light" or "dark"; text_percent; row_height in pixels; row_limit; history_days;
# [keys] command = "Ctrl+Shift+X", "" for none.
"""
Value = str | int | Mapping[str, str]


@dataclass(frozen=True, slots=True)
class Settings:
    """`theme`: light, dark or "" for the desktop's; `text_percent`: from the next start on; `row_height` in pixels;
    `row_limit`: where new pulls stop; `history_days`: how long runs are kept; `keys`: shortcuts by command ("": none)
    that are not the usual ones."""

    theme: str = ""
    text_percent: int = 100
    row_height: int = ROW_HEIGHTS[0]
    row_limit: int = ROW_LIMIT
    history_days: int = DAYS
    keys: Mapping[str, str] = field(default_factory=dict)


USUAL = Settings()


def _is_fit(name: str, value: object) -> bool:
    if name == "keys":
        return isinstance(value, dict) and all(isinstance(keys, str) for keys in value.values())
    if name == "theme":
        return value in ("", *THEMES)
    known = {"text_percent": TEXT_SIZES, "row_height": ROW_HEIGHTS, "row_limit": range(1, MOST_ROWS + 1),
             "history_days": range(1, MOST_DAYS + 1)}  # fmt: skip
    return type(value) is int and value in known[name]


def settings_file() -> Path:
    """Where they are kept."""
    return places.config_folder() / "settings.toml"


def read_settings(path: Path) -> tuple[Settings, str]:
    """The settings of a file, the usual ones where it has none; and what is wrong with it, "" where nothing is.
    A file that can't be read is set aside."""
    if not path.exists():
        return USUAL, ""
    try:
        whole = tomllib.loads(read_text(path))
    except (OSError, ValueError) as problem:
        try:
            return USUAL, f"The settings could not be read; they are kept as {set_aside(path).name}."
        except OSError:
            return USUAL, f"The settings can't be read ({problem})."
    found = {each.name: whole[each.name] for each in fields(Settings) if each.name in whole}
    odd = [name for name, value in found.items() if not _is_fit(name, value)]
    settings = replace(USUAL, **{name: value for name, value in found.items() if name not in odd})
    return settings, f"Settings with values that can't be used: {', '.join(odd)}." if odd else ""


class SettingsStore(QObject):
    """`changed` when something is set, here or in the file; `trouble` with what is wrong."""

    changed = Signal()
    trouble = Signal(str)

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        self.path = settings_file()
        self.now, self.problem = read_settings(self.path)
        self._watcher = QFileSystemWatcher(self)
        self._watcher.fileChanged.connect(lambda _: self._look())
        self._watcher.directoryChanged.connect(lambda _: self._look())
        self._watch()

    def _watch(self) -> None:
        wanted = [str(path) for path in (self.path, self.path.parent) if path.exists()]
        if left := [path for path in wanted if path not in (*self._watcher.files(), *self._watcher.directories())]:
            self._watcher.addPaths(left)

    def _look(self) -> None:
        """The file may have been changed from outside."""
        self._watch()
        settings, problem = read_settings(self.path)
        if problem:
            self.trouble.emit(problem)
        if settings != self.now:
            self.now = settings
            self.changed.emit()

    def set(self, name: str, value: Value) -> None:
        """Set one, now and in the file, whose other lines stay as they are."""
        if getattr(self.now, name) == value:
            return
        self.now = replace(self.now, **{name: value})  # type: ignore[arg-type]
        self.write(name, value)
        self.changed.emit()

    def write(self, name: str = "", value: Value = "") -> None:
        """Write the file, with a setting that is new."""
        try:
            self.path.parent.mkdir(parents=True, exist_ok=True)
            with locked(self.path):
                whole: dict[str, Any] = tomllib.loads(read_text(self.path)) if self.path.exists() else {}
                whole.pop(name, None)
                if name and value != getattr(USUAL, name):
                    whole[name] = value
                write_text(self.path, _HEAD + tomli_w.dumps(whole))
        except (OSError, ValueError) as problem:
            self.trouble.emit(f"The settings can't be saved: {problem}")
        self._watch()
