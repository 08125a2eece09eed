"""History: every query that was run, in one file a line each, for a set time."""

from __future__ import annotations

import datetime as dt
import json
import threading
from collections.abc import Callable, Mapping
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any

from nimble_otter.files import LONGEST_LOG, append_text, read_text, update_text
from nimble_otter.table.text.show import jsonable

DAYS, MOST = 180, 20_000
"""How long runs are kept, and how many."""


@dataclass(frozen=True, slots=True)
class Ran:
    """One run: when (ISO 8601), on which source, the text with its parameters' values, and what came of it: the rows,
    or how many were written, or the error."""

    at: str
    source: str
    url: str
    text: str
    pull: str = ""
    parameters: Mapping[str, Any] = field(default_factory=dict)
    rows: int | None = None
    seconds: float = 0.0
    error: str = ""
    language: str = "sql"
    collection: str = ""


class History:
    """The runs, the latest at the end. A line that can't be read is left where it is and passed over. `add` and `clear`
    change what is held; `save` and `keep` write, from any thread."""

    def __init__(self, path: Path) -> None:
        self._path, self.days = path, DAYS
        self._runs: list[Ran] | None = None
        self._unsaved: list[str] = []
        self._cleared: list[str | None] = []
        self._is_whole = True
        self._lock = threading.Lock()

    def runs(self) -> list[Ran]:
        """All runs that are kept."""
        if self._runs is None:
            self._runs = self._read()
        return self._runs

    def _read(self) -> list[Ran]:
        try:
            lines = read_text(self._path, LONGEST_LOG).splitlines()
        except (OSError, UnicodeDecodeError):
            return []
        since, results = _since(self.days), []
        for line in lines:
            ran = _ran(line)
            if ran is not None and ran.at >= since:
                results.append(ran)
        self._is_whole = len(results) > 0.8 * len(lines)  # else the file is written anew without what is too old
        return results[-MOST:]

    def add(self, ran: Ran) -> None:
        """Note a run."""
        self.runs().append(ran)
        self._unsaved.append(_line(ran))

    def save(self) -> None:
        """Write what was noted to the end of the file. Raises: OSError."""
        if not self._is_whole:
            self._is_whole = True
            self._rewrite(lambda ran: ran.at >= _since(self.days))
        with self._lock:
            lines = [self._unsaved.pop(0) for _ in range(len(self._unsaved))]
            if lines:
                append_text(self._path, "".join(f"{line}\n" for line in lines))

    def keep(self) -> None:
        """Take what was cleared out of the file; what other windows noted meanwhile stays. Raises: OSError."""
        cleared, self._cleared = self._cleared, []
        if cleared:
            self._rewrite(lambda ran: not any(url is None or ran.url == url for url in cleared))

    def _rewrite(self, stays: Callable[[Ran], bool]) -> None:
        def kept(text: str | None) -> str:
            lines = [(line, _ran(line)) for line in (text or "").splitlines()]
            return "".join(f"{line}\n" for line, ran in lines if ran is None or stays(ran))

        update_text(self._path, kept)

    def clear(self, url: str | None = None) -> None:
        """Forget the runs on a source, or all of them; `keep` writes it."""
        self._cleared.append(url)
        self._runs = [] if url is None else [ran for ran in self.runs() if ran.url != url]
        self._unsaved.clear()

    def search(self, words: str, url: str | None = None) -> list[Ran]:
        """Runs that hold every one of the words in their text, source, pull or error, the latest first."""
        wanted = words.casefold().split()
        return [
            ran for ran in reversed(self.runs())
            if (url is None or ran.url == url)
            and all(word in f"{ran.text}\0{ran.source}\0{ran.pull}\0{ran.error}".casefold() for word in wanted)
        ]  # fmt: skip

    def texts(self, url: str) -> list[str]:
        """The different texts that ran on a source, the latest at the end: the way back and forward in the editor."""
        found: dict[str, None] = {}
        for ran in self.runs():
            if ran.url == url:
                found.pop(ran.text, None)
                found[ran.text] = None
        return list(found)


def _line(ran: Ran) -> str:
    return json.dumps(asdict(ran) | {"parameters": jsonable(ran.parameters)}, ensure_ascii=False)


def _since(days: int) -> str:
    """From when on runs are kept."""
    return (dt.datetime.now() - dt.timedelta(days=days)).isoformat()


def _ran(line: str) -> Ran | None:
    """A run of a line of the file; None where it can't be read."""
    known = set(Ran.__dataclass_fields__)
    try:
        ran = Ran(**{name: value for name, value in json.loads(line).items() if name in known})
    except (ValueError, TypeError, AttributeError, RecursionError):
        return None
    texts = (ran.at, ran.source, ran.url, ran.text, ran.pull, ran.error)
    return ran if all(isinstance(text, str) for text in texts) else None
