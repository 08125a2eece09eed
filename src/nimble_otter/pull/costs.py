"""What runs cost: times, rows and bytes of the last runs of every query text, kept between sessions."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from pathlib import Path

from nimble_otter.files import set_aside, write_text

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
        self._path, self._text = path, ""
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
        self._text = json.dumps({mark: [asdict(c) for c in costs] for mark, costs in known.items()})

    def save(self) -> None:
        """Write to disk; from any thread. Raises: OSError."""
        if self._text:
            write_text(self._path, self._text)

    def _load(self) -> dict[str, list[Cost]]:
        if self._by_text is None:
            self._by_text = {}
            if self._path.exists():
                try:
                    whole = json.loads(self._path.read_text("utf-8"))
                    self._by_text = {mark: [Cost(**cost) for cost in costs] for mark, costs in whole.items()}
                except (OSError, ValueError, TypeError, AttributeError):
                    set_aside(self._path)
        return self._by_text


def _mark(url: str, text: str) -> str:
    return hashlib.sha256(f"{url}\0{' '.join(text.split())}".encode()).hexdigest()[:24]
