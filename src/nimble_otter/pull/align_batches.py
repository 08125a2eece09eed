"""Bringing a side into line with more changes than one transaction should hold: written in batches, one after the
other, each whole or not at all and with a reversal of its own."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from nimble_otter.changes import Edits, Guard, Target, make_plan, write
from nimble_otter.errors import ChangeError
from nimble_otter.pull.align import Side, Wanted, align, lacking, reserve
from nimble_otter.pull.compared import Compared
from nimble_otter.pull.drafts import EditDraft
from nimble_otter.pull.writes import WriteJournal, Written
from nimble_otter.sources import Connection, Source
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table import Table
from nimble_otter.table.core.columns import Ids
from nimble_otter.table.ops.compare import CHANGED
from nimble_otter.translation import tr

BATCH = 50_000
"""Rows of a batch."""


@dataclass(frozen=True, slots=True)
class Batch:
    """One that was written: its number, how many there are, its changes in words, and the script that takes them back
    (None: nothing could be changed). `notes` say what can't be brought into line."""

    number: int
    count: int
    rows: int
    words: str
    reversal: Path | None
    notes: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True, eq=False)
class Place:
    """Where the left side's rows come from: the `table` that was pulled, what can be written to, and as what."""

    name: str
    source: Source
    table: Table
    target: Target
    guard: Guard = Guard.SEEN


def write_in_batches(
    compared: Compared,
    place: Place,
    wanted: Wanted,
    connection: Connection,
    journal: WriteJournal,
    size: int = BATCH,
    stop: StopToken = NEVER,
) -> Iterator[Batch]:
    """Make the left side like the right: deletes first, then updates, then inserts. Ends where a batch can't be
    written; those before it stay.

    Raises: ChangeError with the first conflict, SourceError's, SavedError, OutcomeUnknown, Stopped."""
    lines = _lines(compared, wanted)
    parts = [lines[start : start + size] for start in range(0, len(lines), size)]
    for number, part in enumerate(parts, 1):
        stop.check()
        edits = Edits(place.table.rows)
        assert compared.places is not None
        side = Side(True, place.table, reserve(compared, True, edits), place.target, compared.places)
        aligned = align(compared, side, wanted, part, stop)
        if not aligned.count:
            yield Batch(number, len(parts), 0, aligned.words(), None, aligned.notes)
            continue
        edits.apply(aligned.action)
        plan = make_plan(edits, place.table, place.target, place.guard)
        written = Written(dt.datetime.now(), place.name, place.source.name, plan.table, len(plan.statements), Path())
        report, noted = journal.write(
            written,
            place.source.url,
            EditDraft(),
            lambda note, plan=plan: write(connection, plan, stop, note=note),  # type: ignore[misc]
        )
        if not report.is_written or noted is None:
            first = next(iter(report.conflicts), None)
            why = first.problem if first is not None else report.lasting
            raise ChangeError(
                tr(
                    "Batch {number} of {parts_count} was not written: {why}",
                    number=number,
                    parts_count=len(parts),
                    why=why,
                ),
                tr("Compare again and go on."),
            )
        journal.taken(noted)
        yield Batch(number, len(parts), aligned.count, aligned.words(), noted.written.script, aligned.notes)


def _lines(compared: Compared, wanted: Wanted) -> Ids:
    """The differences that become changes, by their place among those that are shown."""
    states = compared.found.states.take(compared.lines)
    kinds = ((lacking(False), wanted.delete), (CHANGED, wanted.update), (lacking(True), wanted.insert))
    results = [np.flatnonzero(states == state) for state, is_wanted in kinds if is_wanted]
    return np.concatenate(results) if results else np.zeros(0, np.int64)
