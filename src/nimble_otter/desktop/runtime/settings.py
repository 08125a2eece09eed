"""What a user has set: one file, written whole, read again when it is changed from outside."""

from __future__ import annotations

import datetime as dt
import tomllib
from collections.abc import Container, Mapping
from dataclasses import dataclass, field, fields, replace
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import tomli_w
from PySide6.QtCore import QFileSystemWatcher, QObject, Signal

from nimble_otter.changes import Guard
from nimble_otter.desktop.kit.theme import THEMES
from nimble_otter.desktop.kit.tokens import CODE_PX
from nimble_otter.files import locked, read_text, set_aside, write_text
from nimble_otter.home import settings_file
from nimble_otter.pull import places
from nimble_otter.pull.history import DAYS
from nimble_otter.pull.model import ROW_LIMIT
from nimble_otter.sources.waits import ANSWER_S, CONNECT_S, IDLE_MIN, MOST_LINES
from nimble_otter.table.text.column_format import time_text
from nimble_otter.team_changes import noting
from nimble_otter.translation import languages, tr

TEXT_SIZES = (80, 90, 100, 110, 125, 150, 175, 200)
"""Sizes of text in percent of what the desktop has."""
ROW_HEIGHTS = (25, 50, 100, 200)
MOST_ROWS, MOST_DAYS = 50_000_000, 3650
NULL_MARKS = ("∅", "NULL", "–", "")
MEMORIES = (0, 512, 1024, 2048, 4096, 8192, 16384, 32768)
IDLE_MINUTES, LINES_MOST = (0, 2, 5, 10, 30, 60), (2, 4, 8, 16)
WAITED_S = (4, 8, 15, 30, 60, 120)
CODE_SIZES = (11, 12, 13, 14, 16, 18, 20, 24)
_HEAD = """# Settings of Nimble Otter. A line that is not here has its usual value; the guide names them all.
# [keys] command = "Ctrl+Shift+X", "" for none.
"""
Value = str | int | bool | Mapping[str, str]


@dataclass(frozen=True, slots=True)
class Settings:
    """`theme`: light, dark or "" for the desktop's; `language`: its code, or "" for the desktop's, and `text_percent`:
    from the next start on; `row_height` in pixels;
    `stripes`, `null_mark`, `thousands`, `date_form`, `time_form`, `time_zone`: see UsualLooks; `row_limit`: where new
    pulls stop; `history_days`: how long runs are kept; `code_size` in pixels, `wrap_lines` and `offer_names` of the
    query's text; `guard`: how rows of new pulls are matched; `memory_mb`: what the program may
    hold, 0 for three quarters of the machine's; `connect_s` and `answer_s`: how long a server may take to accept a
    connection, and a web service to say more; `idle_min` and `most_lines`: until an unused connection is closed (0:
    never), and how many a source may have; `send_folder`: where files of new deliveries go; `team_folder`: what
    colleagues share, "" for nothing; `keys`: shortcuts by command ("": none) that are not the usual ones."""

    theme: str = ""
    language: str = ""
    text_percent: int = 100
    row_height: int = ROW_HEIGHTS[0]
    stripes: bool = False
    null_mark: str = NULL_MARKS[0]
    thousands: bool = True
    date_form: str = ""
    time_form: str = ""
    time_zone: str = ""
    row_limit: int = ROW_LIMIT
    history_days: int = DAYS
    code_size: int = CODE_PX
    wrap_lines: bool = False
    offer_names: bool = True
    guard: str = Guard.SEEN.value
    memory_mb: int = 0
    connect_s: int = CONNECT_S
    answer_s: int = ANSWER_S
    idle_min: int = IDLE_MIN
    most_lines: int = MOST_LINES
    send_folder: str = "~"
    team_folder: str = ""
    keys: Mapping[str, str] = field(default_factory=dict)


USUAL = Settings()


TEAM_WIDE = (
    "stripes", "null_mark", "thousands", "date_form", "time_form", "time_zone", "row_limit", "history_days", "guard",
    "connect_s", "answer_s", "idle_min", "most_lines",
)  # fmt: skip
"""What a team's folder can say for those who have not set it themselves."""


_KNOWN: dict[str, Container[object]] = {
    "theme": ("", *THEMES),
    "language": ("", *languages()),
    "text_percent": TEXT_SIZES,
    "row_height": ROW_HEIGHTS,
    "null_mark": NULL_MARKS,
    "row_limit": range(1, MOST_ROWS + 1),
    "history_days": range(1, MOST_DAYS + 1),
    "code_size": CODE_SIZES,
    "guard": tuple(guard.value for guard in Guard),
    "memory_mb": MEMORIES,
    "connect_s": WAITED_S,
    "answer_s": WAITED_S,
    "idle_min": IDLE_MINUTES,
    "most_lines": LINES_MOST,
}


def trouble_with(name: str, value: object) -> str:
    """What is wrong with a value for a setting; "" where it can be used."""
    usual = getattr(USUAL, name)
    if name == "keys":
        fits = isinstance(value, dict) and all(isinstance(keys, str) for keys in value.values())
        return "" if fits else tr("is not a list of keys by command")
    if type(value) is not type(usual) or (name in _KNOWN and value not in _KNOWN[name]):
        return tr("is not one of its values")
    try:
        if name in ("date_form", "time_form") and value:
            moment = dt.datetime(2031, 5, 28, 23, 30)
            time_text(moment.date() if name == "date_form" else moment, str(value))
        if name == "time_zone" and value:
            ZoneInfo(str(value))
        if name in ("send_folder", "team_folder") and value and not Path(str(value)).expanduser().is_absolute():
            return tr("is not a whole path")
    except (ValueError, OSError, RuntimeError) as problem:  # ZoneInfoNotFoundError is a KeyError
        return tr("can't be used: {problem}", problem=problem)
    except KeyError:
        return tr("is not a known time zone")
    return ""


def team_file() -> Path | None:
    """Where the team's are."""
    team = places.team_folder()
    return team / "settings.toml" if team is not None else None


def usual_settings() -> tuple[Settings, str]:
    """What holds until it is set: the usual values, and in their place the team's; and what is wrong with these, which
    stay as they are."""
    path = team_file()
    if path is None or not path.exists():
        return USUAL, ""
    try:
        whole = tomllib.loads(read_text(path))
    except (OSError, ValueError, RecursionError) as problem:
        return USUAL, tr("The team's settings can't be read ({problem}).", problem=problem)
    settings, odd = _taken({name: whole[name] for name in TEAM_WIDE if name in whole}, USUAL)
    return settings, tr(
        "Settings of the team with values that can't be used: {odd}.", odd=", ".join(odd)
    ) if odd else ""


def read_settings(path: Path, usual: Settings = USUAL) -> tuple[Settings, str]:
    """The settings of a file, the usual ones where it has none; and what is wrong with it, "" where nothing is.
    A file that can't be read is set aside."""
    if not path.exists():
        return usual, ""
    try:
        whole = tomllib.loads(read_text(path))
    except (OSError, ValueError, RecursionError) as problem:
        try:
            return usual, tr(
                "The settings could not be read; they are kept as {set_aside_name}.",
                set_aside_name=set_aside(path).name,
            )
        except OSError:
            return usual, tr("The settings can't be read ({problem}).", problem=problem)
    settings, odd = _taken({each.name: whole[each.name] for each in fields(Settings) if each.name in whole}, usual)
    return settings, tr("Settings with values that can't be used: {odd}.", odd=", ".join(odd)) if odd else ""


def _taken(found: Mapping[str, Any], usual: Settings) -> tuple[Settings, list[str]]:
    """The settings with those values that can be used, and the names of the others."""
    odd = [name for name, value in found.items() if trouble_with(name, value)]
    return replace(usual, **{name: value for name, value in found.items() if name not in odd}), odd


def _put(path: Path, name: str, value: Value, usual: Settings) -> None:
    """Write one into a file, whose other lines stay; "": none. Raises: OSError, ValueError, where it is damaged."""
    path.parent.mkdir(parents=True, exist_ok=True)
    with locked(path):
        whole: dict[str, Any] = tomllib.loads(read_text(path)) if path.exists() else {}
        whole.pop(name, None)
        if name and value != getattr(usual, name):
            whole[name] = value
        write_text(path, _HEAD + tomli_w.dumps(whole), is_private=places.is_ours(path))


class SettingsStore(QObject):
    """`now` is what holds, `usual` what would without being set here. `changed` when something is set, here or in a
    file; `trouble` with what is wrong."""

    changed = Signal()
    trouble = Signal(str)

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        self.path = settings_file()
        self.usual, team_problem = usual_settings()
        self.now, problem = read_settings(self.path, self.usual)
        self.problem = " ".join(filter(None, (problem, team_problem)))
        self._watcher = QFileSystemWatcher(self)
        self._watcher.fileChanged.connect(lambda _: self._look())
        self._watcher.directoryChanged.connect(lambda _: self._look())
        self._watch()

    def _watch(self) -> None:
        folder = next((each for each in self.path.parents if each.exists()), self.path.parent)
        team = team_file()
        places_seen = (self.path, folder, *((team, team.parent) if team is not None else ()))
        wanted = [str(path) for path in places_seen if path.exists()]
        if left := [path for path in wanted if path not in (*self._watcher.files(), *self._watcher.directories())]:
            self._watcher.addPaths(left)

    def _look(self) -> None:
        """A file may have been changed from outside."""
        self._watch()
        before = self.usual, self.now
        self.usual, team_problem = usual_settings()
        self.now, problem = read_settings(self.path, self.usual)
        for said in filter(None, (problem, team_problem)):
            self.trouble.emit(said)
        if (self.usual, self.now) != before:
            self.changed.emit()

    def set(self, name: str, value: Value) -> None:
        """Set one, now and in the file, whose other lines stay as they are."""
        if getattr(self.now, name) == value:
            return
        self.now = replace(self.now, **{name: value})  # type: ignore[arg-type]
        self.write(name, value)
        if name == "team_folder":
            self._look()
        self.changed.emit()

    def give_to_team(self, name: str) -> None:
        """Let a value hold for everybody in the team who has not set another."""
        path, value = team_file(), getattr(self.now, name)
        if path is None:
            return
        try:
            with noting(path.parent, path, "settings", lambda *_: tr("{name} is {value!s}", name=name, value=value)):
                _put(path, name, value, USUAL)
        except (OSError, ValueError) as problem:
            self.trouble.emit(tr("The team's settings can't be saved: {problem}", problem=problem))
            return
        self.usual = usual_settings()[0]
        self.write(name, value)  # one's own line goes, as it says the same
        self._watch()
        self.changed.emit()

    def write(self, name: str = "", value: Value = "") -> None:
        """Write the file, with a setting that is new."""
        try:
            _put(self.path, name, value, self.usual)
        except (OSError, ValueError) as problem:
            self.trouble.emit(tr("The settings can't be saved: {problem}", problem=problem))
        self._watch()
