"""Who changed what in a team's folder: a line for each change, in a file of each person and machine, so that two of
them never write the same one (a share has no locks that hold everywhere, and git merges such files by itself)."""

from __future__ import annotations

import datetime as dt
import getpass
import hashlib
import json
import re
import socket
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import asdict, dataclass
from pathlib import Path

from nimble_otter.errors import SavedError
from nimble_otter.files import LARGEST, read_text
from nimble_otter.translation import tr

ADDED, CHANGED, REMOVED = "added", "changed", "removed"
_KINDS = {"sources": "source", "pulls": "pull", "pieces": "piece", "schedules": "schedule", "settings.toml": "settings"}
_SUFFIXES = {".source", ".pull", ".toml"}
_LOGS = "changes"
_OTHERWISE = tr("by other means")
Words = Callable[[str, str], str]
"""What is other in a file, from its text before and after ("" where there is none)."""


@dataclass(frozen=True, slots=True)
class TeamChange:
    """`at`: a moment in UTC; `who`: a user and a machine, "" where that is not known; `file`: the path in the folder;
    `what`: added, changed or removed, and `said` in which way; `digest`: of what the file held then."""

    at: str
    who: str
    file: str
    name: str
    what: str
    said: str = ""
    digest: str = ""

    @property
    def kind(self) -> str:
        """Of what it is a change."""
        return _KINDS.get(self.file.partition("/")[0], "file")


def myself() -> str:
    """The user and the machine, as others see them."""
    try:
        user = getpass.getuser()
    except (KeyError, OSError):  # a user id without a name
        user = "somebody"
    return f"{user}@{socket.gethostname()}"


@contextmanager
def noting(folder: Path | None, path: Path, name: str, words: Words | None = None) -> Iterator[None]:
    """Change a file; where it lies in the team's folder, note by whom once the block ended well."""
    inside = _inside(folder, path)
    before = _text(path) if inside else ""
    was_there = bool(inside) and path.exists()
    yield
    if folder is None or not inside:
        return
    after, is_there = _text(path), path.exists()
    if (not is_there and not was_there) or (is_there and was_there and before == after):
        return
    what = (CHANGED if was_there else ADDED) if is_there else REMOVED
    said = words(before, after) if words is not None and is_there else ""
    now = dt.datetime.now(dt.UTC).isoformat(timespec="microseconds")
    made = TeamChange(now, myself(), inside, name, what, said, _digest(path) if is_there else "")
    with suppress(OSError):  # the change itself is done
        log = folder / _LOGS / f"{re.sub(r'[^-.@A-Za-z0-9]', '_', myself())}.jsonl"
        log.parent.mkdir(parents=True, exist_ok=True)
        with log.open("a", encoding="utf-8") as stream:
            stream.write(json.dumps(asdict(made), ensure_ascii=False) + "\n")


def team_changes(folder: Path, most: int = 500) -> list[TeamChange]:
    """What was changed, the newest first; also what was changed by other means, as far as it can be told from the
    files themselves. Raises: SavedError, where the folder is not there."""
    if not folder.is_dir():
        raise absent(folder)
    noted = sorted((change for log in folder.glob(f"{_LOGS}/*.jsonl") for change in _read(log)), key=lambda c: c.at)
    last = {change.file: change for change in noted}
    known = {(change.file, change.digest) for change in noted}
    others = list[TeamChange]()
    for path in _files(folder):
        inside = _inside(folder, path)
        before = last.pop(inside, None)
        if (inside, _digest(path)) not in known:
            what = CHANGED if before is not None and before.what != REMOVED else ADDED
            others.append(TeamChange(_moment(path), _owner(path), inside, path.stem, what, _OTHERWISE))
    others += [TeamChange("", "", left.file, left.name, REMOVED, _OTHERWISE)
               for left in last.values() if left.what != REMOVED]  # fmt: skip
    return sorted([*noted, *others], key=lambda change: change.at, reverse=True)[:most]


def absent(folder: Path | None) -> SavedError:
    """What is said where the team's folder is not set, or not there."""
    said = (
        tr("No folder of the team is set.")
        if folder is None
        else tr("The folder of the team, {folder}, is not there.", folder=folder)
    )
    return SavedError(said, tr("Name it in the settings, under Team."))


def _files(folder: Path) -> Iterator[Path]:
    for name in _KINDS:
        path = folder / name
        for found in sorted(path.rglob("*")) if path.is_dir() else [path]:
            if found.is_file() and found.suffix in _SUFFIXES and not found.name.startswith("."):
                yield found


def _read(log: Path) -> Iterator[TeamChange]:
    try:
        lines = read_text(log).splitlines()
    except (OSError, UnicodeDecodeError):
        return
    for line in lines:
        try:
            plain = json.loads(line)
            change = TeamChange(**{name: plain[name] for name in TeamChange.__dataclass_fields__})
            dt.datetime.fromisoformat(change.at)
        except (ValueError, KeyError, TypeError, RecursionError):
            continue  # of a newer version, or a merge that went wrong
        if all(isinstance(value, str) for value in asdict(change).values()):
            yield change


def _inside(folder: Path | None, path: Path) -> str:
    """The path in the folder; "" where it is elsewhere."""
    with suppress(ValueError, OSError):
        return "" if folder is None else path.resolve().relative_to(folder.resolve()).as_posix()
    return ""


def _text(path: Path) -> str:
    with suppress(OSError, UnicodeDecodeError):
        return read_text(path)
    return ""


def _digest(path: Path) -> str:
    with suppress(OSError), path.open("rb") as stream:
        return hashlib.sha256(stream.read(LARGEST)).hexdigest()[:16]
    return ""


def _moment(path: Path) -> str:
    with suppress(OSError):
        return dt.datetime.fromtimestamp(path.stat().st_mtime, dt.UTC).isoformat(timespec="microseconds")
    return ""


def _owner(path: Path) -> str:
    with suppress(OSError, KeyError, NotImplementedError):
        return path.owner()
    return ""
