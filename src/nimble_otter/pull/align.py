"""Bringing one side of a comparison into line with the other: differences become pending changes of its rows."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from nimble_otter.changes import Action, Edits, Target
from nimble_otter.changes.values import read_value, value_text
from nimble_otter.errors import ConditionError, ValueRefused
from nimble_otter.pull.compared import Compared
from nimble_otter.sources.catalogue import ColumnInfo
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table import MISSING, Table
from nimble_otter.table.core.columns import Ids, Kind
from nimble_otter.table.ops.compare import CHANGED, ONLY_HERE, ONLY_THERE, Differences, Pair
from nimble_otter.table.text.show import grouped
from nimble_otter.translation import tr, trn

_WIDER = {Kind.INT: (Kind.DECIMAL,), Kind.DATE: (), Kind.CLOCK: (), Kind.BOOL: ()}
"""Kinds whose values can stand as they are in a column of these."""
_MOST_TOLD = 20


@dataclass(frozen=True, slots=True)
class Wanted:
    """Which differences become changes: rows that the side lacks are inserted, those that differ updated, those that
    only it has deleted; `columns` (names on the left; None: all that are compared) are the ones that are set."""

    insert: bool = True
    update: bool = True
    delete: bool = False
    columns: tuple[str, ...] | None = None


@dataclass(frozen=True, slots=True)
class Aligned:
    """`action` makes the changes pending; the counts are rows; `notes` say what can't be brought into line, and why."""

    action: Action
    inserts: int
    updates: int
    deletes: int
    notes: tuple[str, ...] = ()

    @property
    def count(self) -> int:
        """How many rows change."""
        return self.inserts + self.updates + self.deletes

    def words(self) -> str:
        """The counts."""
        inserts, updates, deletes = self.inserts, self.updates, self.deletes
        lines = (
            trn("{count} insert", "{count} inserts", inserts, count=grouped(inserts)) if inserts else "",
            trn("{count} update", "{count} updates", updates, count=grouped(updates)) if updates else "",
            trn("{count} delete", "{count} deletes", deletes, count=grouped(deletes)) if deletes else "",
        )
        return ", ".join(filter(None, lines)) or tr("nothing to change")


@dataclass(frozen=True, slots=True, eq=False)
class Side:
    """The side that is changed: whether it is the left, the `table` that was pulled, ids for `new` rows of it, where it
    comes from, and the `places` in it of the columns that were compared."""

    is_left: bool
    table: Table
    new: Sequence[int]
    target: Target
    places: tuple[int, ...]


def lacking(is_left: bool) -> int:
    """The state of rows that a side does not have."""
    return ONLY_THERE if is_left else ONLY_HERE


def reserve(compared: Compared, is_left: bool, edits: Edits) -> list[int]:
    """Ids of new rows for all that a side lacks."""
    return edits.new_ids(compared.found.count(lacking(is_left)))


def align(compared: Compared, side: Side, wanted: Wanted, lines: Ids | None = None, stop: StopToken = NEVER) -> Aligned:
    """The changes for some rows of the differences (by their place in that table; None: all). What a column of the
    table can't take is left as it is, and said. Raises: ConditionError, where the side can't be changed, Stopped."""
    if side.target.table is None:
        raise ConditionError(tr("This side can't be changed."), side.target.reason)
    differences = compared.found
    at = compared.lines if lines is None else compared.lines.take(lines)
    states = differences.states.take(at)
    own, other = (
        (differences.here_ids, differences.there_ids) if side.is_left else (differences.there_ids, differences.here_ids)
    )
    refused: dict[str, int] = {}
    setters = _setters(differences, side, wanted, refused)
    cells: list[tuple[int, int, object]] = []
    updated: set[int] = set()
    if wanted.update:
        for number, setter in setters:
            stop.check()
            if differences.pairs[number] in differences.keys:
                continue
            rows = at[(states == CHANGED) & differences.changed[number].take(at)]
            for row, value in zip(own.take(rows).tolist(), setter.values(other.take(rows)), strict=True):
                if (given := setter.read(value)) is not _REFUSED:
                    cells.append((row, setter.place, given))
                    updated.add(row)
    add: list[tuple[int, int]] = []
    if wanted.insert:
        rows = at[states == lacking(side.is_left)]
        new = side.new[: len(rows)]
        whole = _setters(differences, side, Wanted(), refused, are_new=True)
        for _, setter in whole:
            stop.check()
            for row, value in zip(new, setter.values(other.take(rows)), strict=True):
                if value is not None and value is not MISSING and (given := setter.read(value)) is not _REFUSED:
                    cells.append((row, setter.place, given))
        add = [(row, -1) for row in new]
    gone = tuple(own.take(at[states == lacking(not side.is_left)]).tolist()) if wanted.delete else ()
    notes = [
        tr("{said} ({count} rows)", said=said, count=grouped(count)) if count else said
        for said, count in list(refused.items())[:_MOST_TOLD]
    ]
    action = Action(tr("Bring into line"), tuple(cells), gone, add=tuple(add))
    return Aligned(action, len(add), len(updated), len(gone), tuple(notes))


_REFUSED = object()


@dataclass(frozen=True, slots=True, eq=False)
class _Setter:
    """Gives a column of the side that is changed the values of the other."""

    place: int
    values: Callable[[Ids], list[object]]
    read: Callable[[object], object]


def _setters(
    found: Differences, side: Side, wanted: Wanted, refused: dict[str, int], are_new: bool = False
) -> list[tuple[int, _Setter]]:
    """What sets the columns that are compared; the name of a document only in those that `are_new`."""
    items = []
    for number, pair in enumerate(found.pairs):
        name = found.here.table.fields[pair[0]].name
        if wanted.columns is not None and name not in wanted.columns:
            continue
        index = side.places[pair[0 if side.is_left else 1]]
        is_name = side.target.dialect.is_documents and index == side.target.keys[0][0]
        if not side.target.takes(index) and not (is_name and are_new):
            is_needed = pair in found.keys or bool(np.any(found.changed[number]))
            if is_needed and not is_name:
                refused[dict(side.target.refusals).get(index, f"{name} can't be changed.")] = 0
            continue
        items.append((number, _setter(found, side, pair, index, refused)))
    return items


def _setter(found: Differences, side: Side, pair: Pair, place: int, refused: dict[str, int]) -> _Setter:
    theirs, at = (found.there.table, pair[1]) if side.is_left else (found.here.table, pair[0])
    column, field, own = theirs.columns[at], theirs.fields[at], side.table.fields[place]
    dialect = side.target.dialect
    info = side.target.column(place) if side.target.takes(place) else ColumnInfo(field.name)
    is_plain = (column.kind is own.kind and column.kind is not Kind.OBJECT) or own.kind in _WIDER.get(column.kind, ())
    is_plain = is_plain or dialect.is_documents

    def read(value: object) -> object:
        try:
            if value is None:
                return read_value(None, own, info, dialect)
            if value is MISSING or is_plain:
                return None if value is MISSING and not dialect.is_documents else value
            return read_value(value_text(value, field), own, info, dialect)
        except ValueRefused as problem:
            text = f"{info.name}: {problem.message}"
            refused[text] = refused.get(text, 0) + 1
            return _REFUSED

    return _Setter(place, lambda ids: column.values(ids), read)
