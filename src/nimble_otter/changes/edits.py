"""What is pending on a result: new cell values, rows to delete, new rows. Every action gives its own inverse."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from typing import Any

from nimble_otter.translation import tr


class Unset:
    """In place of a value: no edit; the cell is as it was fetched (in a new row: the column's default)."""

    def __repr__(self) -> str:
        return "UNSET"


UNSET = Unset()


class Default:
    """In place of a value: what the table gives by itself."""

    def __repr__(self) -> str:
        return "DEFAULT"


DEFAULT = Default()


@dataclass(frozen=True, slots=True)
class Action:
    """One step of undo: cells to set as (row id, column, value or UNSET), then rows to mark or unmark as deleted, then
    new rows to add as (row id, anchor row id or -1) or to drop. New rows have ids from the table's row count up."""

    name: str
    cells: tuple[tuple[int, int, Any], ...] = ()
    delete: tuple[int, ...] = ()
    restore: tuple[int, ...] = ()
    add: tuple[tuple[int, int], ...] = ()
    drop: tuple[int, ...] = ()


@dataclass(slots=True)
class Edits:
    """Pending edits on a table of `base_rows` rows. `seen` holds values that differ from the table's where a draft
    was begun on older rows. Columns are places in the table."""

    base_rows: int
    cells: dict[int, dict[int, Any]] = field(default_factory=dict)
    deleted: dict[int, None] = field(default_factory=dict)
    added: dict[int, int] = field(default_factory=dict)
    seen: dict[tuple[int, int], Any] = field(default_factory=dict)
    _next: int = -1
    _edited: dict[int, None] | None = None
    """Rows that `edited_rows` gives, once they were asked for; brought up to date by each action."""

    @classmethod
    def after(cls, one: Edits, other: Edits, base_rows: int) -> Edits:
        """No changes yet; row ids that either has given are not given again."""
        return cls(base_rows, _next=max(one._next, other._next))

    def new_ids(self, count: int) -> list[int]:
        """Row ids for `count` rows to be added; never given twice."""
        first = max(self._next, self.base_rows)
        self._next = first + count
        return list(range(first, first + count))

    def apply(self, action: Action) -> Action:
        """Do it; returns what undoes it."""
        back: list[tuple[int, int, Any]] = []
        for row, column, value in action.cells:
            own = self.cells.setdefault(row, {})
            back.append((row, column, own.get(column, UNSET)))
            if value is UNSET:
                own.pop(column, None)
            else:
                own[column] = value
            if not own:
                del self.cells[row]
        newly = tuple(row for row in dict.fromkeys(action.delete) if row not in self.deleted)
        self.deleted.update(dict.fromkeys(newly))
        revived = tuple(row for row in dict.fromkeys(action.restore) if row in self.deleted)
        for row in revived:
            del self.deleted[row]
        dropped = tuple((row, self.added[row]) for row in action.drop if row in self.added)
        for row, _ in dropped:
            del self.added[row]
        added = tuple(row for row, _ in action.add if row not in self.added)
        self.added.update((row, anchor) for row, anchor in action.add if row in added)
        back.reverse()
        if self._edited is not None:
            for row in dict.fromkeys((*(row for row, _, _ in action.cells), *newly, *revived)):
                if self.is_edited(row):
                    self._edited[row] = None
                else:
                    self._edited.pop(row, None)
        return Action(action.name, tuple(back), revived, newly, dropped, added)

    def is_new(self, row: int) -> bool:
        """Whether a row was added here."""
        return row >= self.base_rows

    def is_edited(self, row: int) -> bool:
        """Whether a row that is there has changed cells."""
        return row < self.base_rows and row in self.cells and row not in self.deleted

    def _rows(self) -> dict[int, None]:
        if self._edited is None:
            self._edited = {row: None for row in self.cells if self.is_edited(row)}
        return self._edited

    @property
    def edited_rows(self) -> list[int]:
        """Rows that are there, not deleted, with changed cells, in their order."""
        return list(self._rows())

    @property
    def edited_count(self) -> int:
        """How many `edited_rows` there are."""
        return len(self._rows())

    @property
    def count(self) -> int:
        """How many statements the edits will become."""
        return self.edited_count + len(self.deleted) + len(self.added)

    def copied(self) -> Edits:
        """The same, for another thread to read."""
        cells = {row: dict(own) for row, own in self.cells.items()}
        return Edits(self.base_rows, cells, dict(self.deleted), dict(self.added), dict(self.seen), self._next)

    def only(self, rows: Iterable[int]) -> Edits:
        """What is pending on some rows alone."""
        wanted = set(rows)
        return Edits(
            self.base_rows,
            {row: dict(own) for row, own in self.cells.items() if row in wanted},
            {row: None for row in self.deleted if row in wanted},
            {row: anchor for row, anchor in self.added.items() if row in wanted},
            {(row, place): value for (row, place), value in self.seen.items() if row in wanted},
            self._next,
        )

    def revert(self, rows: Iterable[int] | None = None, cells: Sequence[tuple[int, int]] | None = None) -> Action:
        """The action that takes back some cells, all of some rows, or (neither given) everything."""
        if cells is not None:
            return Action(tr("Revert"), tuple((r, c, UNSET) for r, c in cells if c in self.cells.get(r, {})))
        wanted = set(rows) if rows is not None else {*self.cells, *self.deleted, *self.added}
        return Action(
            tr("Revert"),
            tuple((r, c, UNSET) for r in wanted for c in self.cells.get(r, {})),
            restore=tuple(r for r in self.deleted if r in wanted),
            drop=tuple(r for r in self.added if r in wanted),
        )
