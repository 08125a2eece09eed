"""What runs cost: times, rows and bytes of the last runs of every query text, kept between sessions."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import asdict, dataclass
from pathlib import Path

from nimble_otter.files import read_text, set_aside, update_text
from nimble_otter.translation import tr

EACH, ALL = 8, 500
"""Runs kept of one text, and texts kept."""


@dataclass(frozen=True, slots=True)
class Cost:
    """One finished run: when (ISO 8601), seconds to the first rows and to all, rows, bytes held by them here."""

    at: str
    first_s: float
    all_s: float
    rows: int
    bytes: int


class Costs:
    """Costs by source and text; the texts themselves are not written, only a mark of each."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self._unsaved: dict[str, list[Cost]] = {}
        self._by_text: dict[str, list[Cost]] | None = None

    def of(self, url: str, text: str) -> Sequence[Cost]:
        """The last runs of a text on a source, the latest at the end."""
        return tuple(self._load().get(_mark(url, text), ()))

    def add(self, url: str, text: str, cost: Cost) -> None:
        """Note a run; `save` writes what is noted."""
        known, mark = self._load(), _mark(url, text)
        runs = [*known.pop(mark, []), cost][-EACH:]
        known[mark] = runs  # the last ones used stand at the end
        for old in list(known)[: max(0, len(known) - ALL)]:
            del known[old]
        self._unsaved[mark] = runs

    def save(self) -> None:
        """Write to disk; from any thread. Raises: OSError."""
        fresh = {mark: self._unsaved.pop(mark) for mark in list(self._unsaved)}
        if not fresh:
            return

        def merged(text: str | None) -> str:
            known = _read(text)
            for mark, runs in fresh.items():
                known.pop(mark, None)
                known[mark] = runs  # the last ones used stand at the end
            for old in list(known)[: max(0, len(known) - ALL)]:
                del known[old]
            return json.dumps({mark: [asdict(c) for c in costs] for mark, costs in known.items()})

        update_text(self._path, merged)

    def _load(self) -> dict[str, list[Cost]]:
        if self._by_text is None:
            self._by_text = {}
            if self._path.exists():
                try:
                    self._by_text = _read(read_text(self._path), strict=True)
                except (OSError, ValueError):
                    with suppress(OSError):
                        set_aside(self._path)
        return self._by_text


def _read(text: str | None, strict: bool = False) -> dict[str, list[Cost]]:
    """What a file's text holds; nothing where it can't be read, or ValueError where it is `strict`."""
    try:
        whole = json.loads(text) if text else {}
        return {str(mark): [Cost(**cost) for cost in costs] for mark, costs in whole.items()}
    except (ValueError, TypeError, AttributeError, RecursionError) as problem:
        if strict:
            raise ValueError(tr("it is not a list of costs")) from problem
        return {}


def _mark(url: str, text: str) -> str:
    return hashlib.sha256(f"{url}\0{' '.join(text.split())}".encode()).hexdigest()[:24]
