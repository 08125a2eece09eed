"""Pulls that were run here before: what comes from elsewhere shows its source and text first, and reaches nothing
until Run is pressed once."""

from __future__ import annotations

import hashlib
import json
from contextlib import suppress
from pathlib import Path

from nimble_otter.files import read_text, set_aside, update_text
from nimble_otter.pull.model import Pull
from nimble_otter.translation import tr

VERSION = 1
MOST = 20_000


def mark_of(pull: Pull) -> str:
    """What a pull asks, and whom, as a hash. Steps, names, values of parameters and layout are not part of it."""
    query = pull.query
    choices = sorted((name, ask.choices) for name, ask in query.asks.items() if ask.choices)
    whole = [pull.source.url, query.text, query.language, query.collection, choices]
    return hashlib.sha256(json.dumps(whole, ensure_ascii=True).encode()).hexdigest()


class KnownPulls:
    """The marks of one home, shared with other windows of it. A file that can't be read means that none is known; it is
    set aside and named in `problem`."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self._marks: set[str] | None = None
        self.problem = ""

    def has(self, pull: Pull) -> bool:
        """Whether a pull was saved here, in this form."""
        return mark_of(pull) in self._loaded()

    def add(self, pull: Pull) -> None:
        """Note that a pull was run here. Raises: OSError; it is known in this window nevertheless."""
        mark = mark_of(pull)
        if mark in self._loaded():
            return
        self._loaded().add(mark)

        def merged(text: str | None) -> str:
            marks = [*_read(text), mark]
            return json.dumps({"version": VERSION, "marks": list(dict.fromkeys(marks))[-MOST:]})

        update_text(self._path, merged)

    def _loaded(self) -> set[str]:
        if self._marks is None:
            self._marks = set()
            try:
                self._marks = set(_read(read_text(self._path)))
            except FileNotFoundError:
                pass
            except (OSError, ValueError) as problem:
                self.problem = tr("The list of pulls that were run here can't be read: {problem}.", problem=problem)
                with suppress(OSError):
                    aside = set_aside(self._path).name
                    self.problem = tr(
                        "The list of pulls that were run here was damaged; it is kept as {aside}.", aside=aside
                    )
        return self._marks


def _read(text: str | None) -> list[str]:
    """Raises: ValueError."""
    if not text:
        return []
    try:
        whole = json.loads(text)
    except RecursionError as problem:
        raise ValueError(tr("it is nested too deeply")) from problem
    marks = whole.get("marks") if isinstance(whole, dict) else None
    if not isinstance(marks, list) or not all(isinstance(mark, str) for mark in marks):
        raise ValueError(tr("it is not a list of marks"))
    return marks
