"""Versions of a pull: its file's text at every run and save, one file for each pull."""

from __future__ import annotations

import datetime as dt
import hashlib
import json
import threading
from dataclasses import asdict, dataclass
from pathlib import Path

from nimble_otter.files import locked, make_private, read_text, write_text

MOST = 200
"""Versions kept of one pull; the oldest go first."""


@dataclass(frozen=True, slots=True)
class Version:
    """A pull as it was: when (ISO 8601), why it was kept ("run" or "saved"), and its file's text."""

    at: str
    why: str
    text: str


def key_of(path: Path | None, number: int) -> str:
    """What a pull's versions are filed under: where it is saved, or its number among those that are not."""
    return hashlib.sha256(str(path).encode()).hexdigest()[:24] if path is not None else f"pull-{number}"


class Versions:
    """In a folder of their own. Any thread may call it. A damaged line is passed over."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._lock = threading.Lock()

    def _path(self, key: str) -> Path:
        return self._folder / f"{key}.jsonl"

    def all(self, key: str) -> list[Version]:
        """The versions of a pull, the latest at the end."""
        try:
            lines = read_text(self._path(key)).splitlines()
        except (OSError, UnicodeDecodeError):
            return []
        results = []
        for line in lines:
            try:
                results.append(Version(**json.loads(line)))
            except (ValueError, TypeError, RecursionError):
                continue
        return results

    def _write(self, key: str, versions: list[Version]) -> None:
        lines = (json.dumps(asdict(version), ensure_ascii=False) for version in versions[-MOST:])
        write_text(self._path(key), "".join(f"{line}\n" for line in lines))

    def add(self, key: str, why: str, text: str) -> None:
        """Keep a version, unless it is as the last one. Raises: OSError."""
        make_private(self._folder)
        with self._lock, locked(self._path(key)):
            there = self.all(key)
            if there and there[-1].text == text and (there[-1].why == why or why == "run"):
                return
            version = Version(dt.datetime.now().isoformat(timespec="seconds"), why, text)
            self._write(key, [*there, version])

    def move(self, old: str, new: str) -> None:
        """File a pull's versions elsewhere: it was saved, under a name for the first time or under another. What is
        there already stays before them. Raises: OSError."""
        with self._lock:
            versions = self.all(old)
            if old == new or not versions:
                return
            self._write(new, [*self.all(new), *versions])
            if old.startswith("pull-"):
                self._path(old).unlink(missing_ok=True)
