"""Edits of an open pull, and undo over them and over its text and steps."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from nimble_otter.changes import (
    UNSET,
    Action,
    exactly,
    with_part,
)
from nimble_otter.desktop.pulls.aspect import Aspect
from nimble_otter.desktop.pulls.cells import CellValues
from nimble_otter.desktop.pulls.notice import Notice
from nimble_otter.desktop.pulls.pull_state import PullState
from nimble_otter.desktop.pulls.shaping import Shaping
from nimble_otter.desktop.pulls.undo import EditEntry, Entry, WaitingEntry, WrittenEntry
from nimble_otter.errors import ValueRefused
from nimble_otter.translation import tr


class EditController:
    """What is pending stands in the pull's `pending`, what undo brings back in its `undo_stack`."""

    def __init__(self, own: PullState, cells: CellValues, shaping: Shaping) -> None:
        self._own, self._cells, self._shaping = own, cells, shaping

    def edit(self, action: Action) -> None:
        """Do something to the pending edits, with undo."""
        opened = self._own.shaped.opened if self._own.shaped is not None else {}
        if opened and any(place in opened for _, place, _ in action.cells):
            try:
                action = self._in_wholes(action)
            except ValueRefused as refused:
                self._own.failed(refused)
                return
        if not (action.cells or action.delete or action.restore or action.add or action.drop):
            return
        self._own.undo_stack.push(EditEntry(self._own.edits.apply(action)))
        self._shaping.truncated.fetch(
            {*(row for row, _, _ in action.cells), *action.delete}
        )  # what is written is matched by them
        self._edited()

    def _in_wholes(self, action: Action) -> Action:
        """Values of parts put into the values that they are parts of. Raises: ValueRefused."""
        cells: list[tuple[int, int, Any]] = []
        wholes: dict[tuple[int, int], Any] = {}
        for row, index, value in action.cells:
            part = self._cells.part_of(index)
            if part is None:
                cells.append((row, index, value))
                continue
            at = (row, part[0])
            if at not in wholes:
                pending = self._own.edits.cells.get(row, {}).get(part[0], UNSET)
                wholes[at] = self._cells.stored(*at) if pending is UNSET else pending
            value = self._cells.stored(row, index) if value is UNSET else value
            wholes[at] = with_part(wholes[at], part[1], value, self._own.target.column(part[0]).name)
        for (row, index), whole in wholes.items():
            same = not self._own.edits.is_new(row) and exactly(whole, self._cells.stored(row, index))
            cells.append((row, index, UNSET if same else whole))
        return replace(action, cells=tuple(cells))

    def _edited(self) -> None:
        self._own.report = None
        self._own.tell(Aspect.EDITS)

    def undo(self) -> None:
        """Undo the last change to the pull or its cells."""
        self._step_back(self._own.undo_stack.back, self._own.undo_stack.forth)

    def redo(self) -> None:
        """Do again what was undone last."""
        self._step_back(self._own.undo_stack.forth, self._own.undo_stack.back)

    @property
    def can_undo(self) -> bool:
        """Whether there is something to undo."""
        return bool(self._own.undo_stack.back)

    @property
    def can_redo(self) -> bool:
        """Whether something was undone."""
        return bool(self._own.undo_stack.forth)

    def _step_back(self, origin: list[Entry], other: list[Entry]) -> None:
        if not origin:
            return
        entry = origin.pop()
        if isinstance(entry, EditEntry):
            other.append(EditEntry(self._own.edits.apply(entry.action)))
            self._edited()
        elif isinstance(entry, WaitingEntry):
            if self._own.pending.waiting is None:
                self._own.pending.wait(entry.edits)
                other.append(entry)
            else:
                other.append(WaitingEntry(self._own.pending.revert_waiting() or entry.edits))
            self._edited()
        elif isinstance(entry, WrittenEntry):
            self._own.notice = Notice(
                tr("Changes holds the reversal of the last write; review it there. Undo again goes further back")
            )
            self._own.tell(Aspect.RUN)
        else:
            other.append(entry.of(self._own.pull))
            self._shaping.take_pull(entry.on(self._own.pull))

    def revert_waiting(self) -> None:
        """Let go what waits for rows that are not here; undo brings it back."""
        gone = self._own.pending.revert_waiting()
        if gone is not None:
            self._own.undo_stack.push(WaitingEntry(gone))
            self._edited()
            self._own.tell(Aspect.RUN)
