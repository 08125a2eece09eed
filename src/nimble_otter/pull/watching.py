"""Watching a pull: what is another than at the look before, row by row and cell by cell."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

import numpy as np

from nimble_otter.errors import ConditionError
from nimble_otter.pull.steps.base import find_column
from nimble_otter.query.local.conditions import parse_condition
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table import Table, View
from nimble_otter.table.core.columns import Ids
from nimble_otter.table.ops.compare import CHANGED, ONLY_HERE, ONLY_THERE, compare_views
from nimble_otter.table.ops.filter import filter_view
from nimble_otter.table.text.show import shown
from nimble_otter.translation import tr, tr_value

INTERVALS_S = (5, 10, 30, 60, 300, 900, 3600)
MOST_SEEN = 2000
"""Changes of one look that are told one by one."""
_WAITS = 4
"""A look that takes long is not made again before so many times as long have passed."""


class What(StrEnum):
    """What became of a row."""

    NEW = "new"
    GONE = "gone"
    CHANGED = "changed"


@dataclass(frozen=True, slots=True)
class Seen:
    """A change: of a row (`row` names it), or of one of its cells with the texts before and after."""

    at: dt.datetime
    what: What
    row: str
    column: str = ""
    before: str = ""
    after: str = ""


@dataclass(frozen=True, slots=True, eq=False)
class Looked:
    """What a look found: `fresh` are the ids of rows that are new or changed, `moved` the row now for each id before
    (-1: gone), the counts, and the first changes one by one."""

    fresh: Ids
    moved: Ids
    new: int
    gone: int
    changed: int
    seen: tuple[Seen, ...]

    @property
    def is_same(self) -> bool:
        """Whether nothing changed."""
        return not (self.new or self.gone or self.changed)

    def words(self) -> str:
        """The counts."""
        counts = ((self.new, "new"), (self.gone, "gone"), (self.changed, "changed"))
        return ", ".join(f"{count} {tr_value(word)}" for count, word in counts if count) or tr("nothing changed")


class OtherColumns(ConditionError):
    """A run has other columns than the one before, so that their rows can't be compared."""


def look(before: Table, after: Table, keys: Sequence[str], at: dt.datetime, stop: StopToken = NEVER) -> Looked:
    """Compare the rows of two runs by their key; without one, rows are the same where all their values are. Raises:
    OtherColumns, Stopped."""
    names = [field.name for field in after.fields]
    if names != [field.name for field in before.fields]:
        raise OtherColumns(tr("The columns are others than before."), tr("Run the query, then watch it again."))
    own = [name for name in keys if name in names]
    differences = compare_views(View(after), View(before), own or names, stop)
    new, gone, changed = (np.flatnonzero(differences.states == state) for state in (ONLY_HERE, ONLY_THERE, CHANGED))
    moved = np.full(before.rows, -1, np.int64)
    both = (differences.here_ids >= 0) & (differences.there_ids >= 0)
    moved[differences.there_ids[both]] = differences.here_ids[both]
    fresh = differences.here_ids[np.concatenate([new, changed])]
    seen: list[Seen] = []
    places = [find_column(after, name) for name in (own or names[:3])]

    def named(table: Table, row: int) -> str:
        return ", ".join(shown(table.columns[p].value(row), table.fields[p]) or "NULL" for p in places)

    for rows, what, table, ids in (
        (new, What.NEW, after, differences.here_ids),
        (gone, What.GONE, before, differences.there_ids),
    ):
        for at_row in rows[: MOST_SEEN - len(seen)].tolist():
            seen.append(Seen(at, what, named(table, int(ids[at_row]))))
    for at_row in changed[: max(0, MOST_SEEN - len(seen))].tolist():
        stop.check()
        here, there = int(differences.here_ids[at_row]), int(differences.there_ids[at_row])
        for index, (left, right) in enumerate(differences.pairs):
            if differences.changed[index][at_row]:
                texts = [
                    shown(table.columns[column].value(row), table.fields[column]) or "NULL"
                    for table, column, row in ((before, right, there), (after, left, here))
                ]
                seen.append(Seen(at, What.CHANGED, named(after, here), after.fields[left].name, *texts))
    return Looked(np.sort(fresh), moved, len(new), len(gone), len(changed), tuple(seen[:MOST_SEEN]))


def matching(table: Table, rows: Ids, condition: str, stop: StopToken = NEVER) -> int:
    """For how many of the rows a condition (of the local language) holds. Raises: ConditionError, Stopped."""
    if not condition.strip() or not len(rows):
        return 0
    return len(filter_view(View(table, rows), parse_condition(condition, table), stop))


def wait_s(every_s: float, took_s: float) -> float:
    """How long to wait before the next look."""
    return max(every_s, _WAITS * took_s)
