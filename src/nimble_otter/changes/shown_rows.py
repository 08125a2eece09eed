"""The rows of a result as they are once a plan was written: what the server gave back in their place."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from nimble_otter.changes.plan import StatementKind
from nimble_otter.changes.report import Report
from nimble_otter.changes.target import Target
from nimble_otter.sources import Fetched
from nimble_otter.table.ops.patch import patched


@dataclass(frozen=True, slots=True)
class ShownRows:
    """`moved`: the row ids that rows have now, by those that they had; rows that are gone have none. `fresh`: the ids
    of those that were written."""

    fetched: Fetched
    moved: Mapping[int, int]
    fresh: frozenset[int]


def rows_after(fetched: Fetched, target: Target, report: Report) -> ShownRows:
    """Rows that were deleted, or that the server does not give back, go; new ones stand at the end. Reads all rows: not
    for the window's thread where they are many."""
    width = len(fetched.table.fields)
    places = dict[str, list[int]]()
    for at, name in (*((at, info.name) for at, info in target.columns), *target.keys, *target.computed):
        if at not in places.setdefault(name, []):
            places[name].append(at)
    values, added, gone = dict[int, dict[int, Any]](), dict[int, dict[int, Any]](), list[int]()
    for statement in (o.statement for o in report.outcomes if o.is_good):
        row = report.written.get(statement.row_id)
        if row is not None:
            own = {at: value for name, value in row.items() for at in places.get(name, ())}
            (added if statement.kind == StatementKind.INSERT else values)[statement.row_id] = own
        elif statement.kind != StatementKind.INSERT:
            gone.append(statement.row_id)
    table = patched(fetched.table, values, gone, [*added.values()])
    unseen = fetched.unseen
    if unseen is not None:
        behind = [
            {row: {at - width: v for at, v in own.items()} for row, own in part.items()} for part in (values, added)
        ]
        unseen = patched(unseen, behind[0], gone, [*behind[1].values()])
    kept = np.setdiff1d(np.arange(fetched.table.rows), np.array(gone, np.int64))
    moved = dict(zip(kept.tolist(), range(len(kept)), strict=True))
    moved |= dict(zip(added, range(len(kept), table.rows), strict=True))
    fresh = frozenset(moved[row] for row in (*values, *added))
    return ShownRows(replace(fetched, table=table, unseen=unseen), moved, fresh)
