"""What is pending on an open pull, from being typed to being written: one life, whatever happens to the rows.

Changes stand on rows that are shown, by row id, or wait for their rows by key. They move between the two when rows
come and go, and leave only by being written, or by being reverted.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from nimble_otter.changes import UNSET, Edits, Report, Target
from nimble_otter.changes.alike import identical
from nimble_otter.pull.drafts import EditDraft, attach, detach
from nimble_otter.table import MISSING, Table


@dataclass(frozen=True, slots=True)
class Snapshot:
    """What a write was made from: the changes as they were then, by row id and by key."""

    shown: Edits
    by_key: EditDraft


class PendingEdits:
    """`shown` are changes on the rows fetched, `waiting` those whose rows are not among them."""

    def __init__(self) -> None:
        self.shown = Edits(0)
        self.waiting: EditDraft | None = None

    @property
    def waiting_count(self) -> int:
        """How many changes wait for their rows to be in the result."""
        return self.waiting.count if self.waiting is not None else 0

    @property
    def count(self) -> int:
        """Rows changed, deleted or new, in sight or not."""
        return self.shown.count + self.waiting_count

    def by_key(self, table: Table | None, target: Target) -> EditDraft | None:
        """All of it without row ids; None where nothing is pending."""
        if table is None or not self.shown.count:
            return self.waiting
        return detach(self.shown, table, target).over(self.waiting)

    def lift(self, table: Table | None, target: Target) -> None:
        """The rows go: everything waits."""
        self.waiting = self.by_key(table, target)
        self.shown = Edits(0)

    def land(self, table: Table, target: Target) -> int:
        """Other rows came: what is pending on them is on them again. Returns how many still wait."""
        self.shown = Edits(table.rows)
        if self.waiting is not None:
            self.shown, left = attach(self.waiting, table, target)
            self.waiting = left if left.count else None
        return self.waiting_count

    def snapshot(self, table: Table, target: Target) -> Snapshot:
        """The edits as they are, and free of this table, for a draft."""
        return Snapshot(self.shown.copied(), detach(self.shown, table, target))

    def left_after(self, done: Snapshot, report: Report, base: Table, target: Target) -> Edits:
        """What is still pending when a snapshot was written, on the rows as they were before: what was changed since,
        with what was taken back since as a change to what stood there before, and what was not written."""
        now, then = self.shown, done.shown
        unwritten = {s.row_id for s in report.left}
        left = Edits.after(now, then, base.rows)
        for row in dict.fromkeys((*now.cells, *then.cells)):
            was_sent = row not in unwritten and (row < base.rows or row in then.added)
            own, sent = now.cells.get(row, {}), then.cells.get(row, {}) if was_sent else {}
            is_there = row not in now.deleted and row not in then.deleted and (row < base.rows or row in now.added)
            for index in dict.fromkeys((*own, *sent)):
                value = own.get(index, UNSET)
                if index in sent and value is not UNSET and identical(value, sent[index]):
                    continue
                if value is UNSET:
                    if not is_there or not target.takes(index):
                        continue
                    before = base.columns[index].value(row) if row < base.rows else None
                    value = None if before is MISSING else before
                left.cells.setdefault(row, {})[index] = value
        self._rows_left(left, done, unwritten, base, target)
        return left

    def _rows_left(self, left: Edits, done: Snapshot, unwritten: set[int], base: Table, target: Target) -> None:
        """The rows of `left_after` that are deleted and added."""
        now, then = self.shown, done.shown
        for row in now.deleted:
            if row in unwritten or row not in then.deleted:
                left.deleted[row] = None
        for row in then.deleted:
            if row not in now.deleted and row not in unwritten:  # brought back since: a new row like the one deleted
                (new,) = left.new_ids(1)
                left.added[new] = -1
                left.cells[new] = {p: v for p, _ in target.columns if (v := base.columns[p].value(row)) is not MISSING}
                left.cells[new] |= now.cells.get(row, {})
                left.cells.pop(row, None)
        for row, anchor in now.added.items():
            if row in unwritten or row not in then.added:
                left.added[row] = anchor
        for row in then.added:
            if row not in now.added and row not in unwritten:  # taken out since: the row that was written goes again
                left.cells.pop(row, None)
                left.deleted[row] = None

    def subtract(
        self, done: EditDraft, keys: dict[object, tuple[object, ...]], table: Table | None, target: Target
    ) -> None:
        """A write of which nobody heard was done after all."""
        self.lift(table, target)
        if self.waiting is not None:
            left = self.waiting.without(done, keys)
            self.waiting = left if left.count else None
        if table is not None:
            self.land(table, target)

    def revert_waiting(self) -> EditDraft | None:
        """Let what waits go, which the user asked for; returns it, for undo."""
        edit_draft, self.waiting = self.waiting, None
        return edit_draft

    def wait(self, edits: EditDraft | None) -> None:
        """Let changes wait again, or as they are read from a draft."""
        self.waiting = edits if edits is not None and edits.count else None


def moved(edits: Edits, rows: Mapping[int, int], base_rows: int) -> Edits:
    """Changes on other row ids: those in `rows` get theirs, what is new goes behind `base_rows`."""
    made = Edits(base_rows)
    ids = dict(rows)
    new = [row for row in edits.added if row not in ids]
    ids.update(zip(new, made.new_ids(len(new)), strict=True))
    made.cells = {ids[row]: dict(own) for row, own in edits.cells.items() if row in ids}
    made.deleted = {ids[row]: None for row in edits.deleted if row in ids}
    made.added = {ids[row]: ids.get(anchor, -1) for row, anchor in edits.added.items() if row in new}
    made.seen = {(ids[row], place): value for (row, place), value in edits.seen.items() if row in ids}
    return made
