"""Our entry in the desktop: menu entry, icons, description and the type of pull files, for this user.

`share/` beside this package is laid out as the XDG base directory specification lays out a data folder; putting it in
place is copying it, with the command of this installation in the menu entry (Desktop Entry Specification 1.5).
"""

from __future__ import annotations

import os
import re
import shlex
import shutil
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

from nimble_otter import APPLICATION_ID
from nimble_otter.errors import SavedError
from nimble_otter.files import write_text
from nimble_otter.translation import tr

SHARE = Path(__file__).parents[1] / "share"
ICON = SHARE / "icons/hicolor/scalable/apps" / f"{APPLICATION_ID}.svg"
_ENTRY = Path("applications") / f"{APPLICATION_ID}.desktop"
_SERVICE = Path("dbus-1/services") / f"{APPLICATION_ID}.service"
_FORMER = ("applications/nimble-otter.desktop", "metainfo/nimble-otter.metainfo.xml",
           "icons/hicolor/scalable/apps/nimble-otter.svg")  # fmt: skip
"""What versions before 0.2.0 put there."""
_CACHES = (("update-desktop-database", "applications"), ("update-mime-database", "mime"))
"""Programs that let the desktop see what is new, where they are there; each with its folder."""


def data_folder() -> Path:
    """Where this user's entries are (XDG Base Directory Specification 0.8)."""
    named = os.environ.get("XDG_DATA_HOME", "")
    return Path(named) if os.path.isabs(named) else Path.home() / ".local/share"


def install() -> Path:
    """Put the application into the desktop's menu for this user; returns the menu entry. Raises: SavedError."""
    folder = data_folder()
    try:
        for relative in _files():
            (folder / relative).parent.mkdir(parents=True, exist_ok=True)
            if relative == _ENTRY:
                text = (SHARE / relative).read_text("utf-8")
                write_text(folder / relative, entry_with(text, command()), is_private=False)
            elif relative == _SERVICE:
                text = (SHARE / relative).read_text("utf-8")
                write_text(folder / relative, service_with(text, command()), is_private=False)
            else:
                shutil.copyfile(SHARE / relative, folder / relative)
        _remove(folder, map(Path, _FORMER))
    except OSError as problem:
        raise SavedError(
            tr(
                "{filename} can't be written: {strerror}.",
                filename=problem.filename or folder,
                strerror=problem.strerror,
            )
        ) from problem
    _tell_desktop(folder)
    return folder / _ENTRY


def uninstall() -> int:
    """Take it out again; returns how many files went. Settings, sources and pulls stay. Raises: SavedError."""
    folder = data_folder()
    try:
        removed = _remove(folder, (*_files(), *map(Path, _FORMER)))
    except OSError as problem:
        raise SavedError(
            tr("{filename} can't be removed: {strerror}.", filename=problem.filename, strerror=problem.strerror)
        ) from problem
    _tell_desktop(folder)
    return removed


def command() -> list[str]:
    """How this installation is started, as it was started now."""
    script = Path(sys.argv[0]).absolute()
    if script.name == "nimble-otter-desktop" and os.access(script, os.X_OK):
        return [str(script)]
    beside = Path(sys.executable).with_name("nimble-otter-desktop")
    return [str(beside)] if os.access(beside, os.X_OK) else [sys.executable, "-m", "nimble_otter.desktop.app"]


def entry_with(text: str, words: list[str]) -> str:
    """The menu entry with another command."""
    lines = []
    for line in text.splitlines():
        if line.startswith("Exec="):
            flags = line.partition(" ")[2]  # the files to open, or --new-window
            line = f"Exec={' '.join(map(_quoted, words))} {flags}"
        elif line.startswith("TryExec="):
            line = f"TryExec={words[0]}".replace("\\", "\\\\")
        lines.append(line)
    return "\n".join(lines) + "\n"


def service_with(text: str, words: list[str]) -> str:
    """The file by which the session bus starts the program, with another command (quoted as a shell's words)."""
    return re.sub(r"(?m)^Exec=\S+", lambda _: f"Exec={shlex.join(words)}", text)


def _quoted(word: str) -> str:
    """An argument of Exec: quoted, then escaped as every value of the file is, and without field codes."""
    inner = "".join("\\" + c if c in '"`$\\' else c for c in word)
    return f'"{inner}"'.replace("\\", "\\\\").replace("%", "%%")


def _files() -> Iterator[Path]:
    return (path.relative_to(SHARE) for path in sorted(SHARE.rglob("*")) if path.is_file())


def _remove(folder: Path, names: Iterator[Path] | tuple[Path, ...]) -> int:
    removed = 0
    for relative in names:
        if (path := folder / relative).is_file() or path.is_symlink():
            path.unlink()
            removed += 1
    return removed


def _tell_desktop(folder: Path) -> None:
    for program, inside in _CACHES:
        if (found := shutil.which(program)) and (folder / inside).is_dir():
            subprocess.run([found, str(folder / inside)], check=False, capture_output=True, timeout=60)
