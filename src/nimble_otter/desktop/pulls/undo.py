"""Undo over everything that is done to a pull: changes of cells and rows, its steps, its text, its name. An entry holds
only what it changed, so that taking one back leaves the others."""

from __future__ import annotations

from dataclasses import dataclass, fields, replace
from typing import Any

from nimble_otter.changes import Action
from nimble_otter.pull import Pull
from nimble_otter.pull.drafts import EditDraft
from nimble_otter.translation import tr
from nimble_otter.values import Value

MOST = 500
_UNTOLD = ("widths",)
"""What is set by the way and has no entry."""


@dataclass(frozen=True, slots=True)
class EditEntry:
    """Cells and rows: what takes the change back."""

    action: Action


@dataclass(frozen=True, slots=True)
class PullEntry:
    """Parts of the pull by their names ("steps", "query.text"), as they were before."""

    parts: tuple[tuple[str, Any], ...]
    name: str

    def on(self, pull: Pull) -> Pull:
        """The pull with the parts of this entry put back."""
        own = {name: value for name, value in self.parts if "." not in name}
        query = {name.removeprefix("query."): value for name, value in self.parts if "." in name}
        return replace(pull, **own, query=replace(pull.query, **query))

    def of(self, pull: Pull) -> PullEntry:
        """The same parts as they are in a pull."""
        return PullEntry(tuple((name, _part(pull, name)) for name, _ in self.parts), self.name)


@dataclass(frozen=True, slots=True)
class WaitingEntry:
    """Changes that waited for their rows and were let go."""

    edits: EditDraft


@dataclass(frozen=True, slots=True)
class WrittenEntry:
    """Here something was written: undo says once how it is put back."""


Entry = EditEntry | PullEntry | WaitingEntry | WrittenEntry


def changed_parts(before: Pull, after: Pull) -> tuple[tuple[str, object], ...]:
    """The parts in which two states of a pull differ, as they were before."""
    names = [f.name for f in fields(Pull) if f.name not in ("query", *_UNTOLD)]
    names += [f"query.{f.name}" for f in fields(type(before.query))]
    return tuple((name, _part(before, name)) for name in names if _part(before, name) != _part(after, name))


def _part(pull: Pull, name: str) -> Value:
    owner, _, own = name.rpartition(".")
    return getattr(pull.query if owner else pull, own)


class UndoStack:
    """Entries of both directions; the newest stands at the end."""

    def __init__(self) -> None:
        self.back: list[Entry] = []
        self.forth: list[Entry] = []

    def push(self, entry: Entry) -> None:
        """Remember an entry; what was undone can't be done again after it."""
        self.back.append(entry)
        del self.back[:-MOST]
        self.forth.clear()

    def note(self, before: Pull, after: Pull, name: str, is_typing: bool = False) -> None:
        """Another state of the pull; typing goes on in the entry that it began."""
        parts = changed_parts(before, after)
        if not parts:
            return
        last = self.back[-1] if self.back else None
        names, typing = {part for part, _ in parts}, tr("Typing")
        if is_typing and isinstance(last, PullEntry) and last.name == typing and {p for p, _ in last.parts} == names:
            self.forth.clear()
            return
        self.push(PullEntry(parts, typing if is_typing else name))

    def rows_changed(self) -> None:
        """Entries that speak of cells by their rows hold no longer; those of the pull do."""
        self.back = [e for e in self.back if not isinstance(e, EditEntry)]
        self.forth = [e for e in self.forth if not isinstance(e, EditEntry)]

    def written(self) -> None:
        """Note that changes were written: the edits before can't be undone any more."""
        self.rows_changed()
        self.back = [e for e in self.back if not isinstance(e, WrittenEntry)]
        self.push(WrittenEntry())

    def clear(self) -> None:
        """Forget everything."""
        self.back.clear()
        self.forth.clear()
