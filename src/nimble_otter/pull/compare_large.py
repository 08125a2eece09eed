"""Two sides that do not fit into memory: both are read in the order of the key, and compared stretch by stretch."""

from __future__ import annotations

from collections.abc import Callable, Generator, Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np

from nimble_otter.errors import ConditionError
from nimble_otter.pull.compared import differences_table
from nimble_otter.pull.deliver import table_blocks
from nimble_otter.pull.delivery import request_of
from nimble_otter.pull.model import Pull
from nimble_otter.pull.steps.compare import CompareStep
from nimble_otter.sources import Connection, fetch
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table import Kind, Table, View
from nimble_otter.table.core.columns import BufferText, Ids
from nimble_otter.table.kernels.codes import combined_codes
from nimble_otter.table.ops.alike import levelled
from nimble_otter.table.ops.combine import chained
from nimble_otter.table.ops.compare import SAME, compare_views

STRETCH = 65_536
"""Rows of a side that are compared at once, or more."""
MOST_KEPT = 1_000_000
"""Differences that are kept; further ones are counted."""
_KINDS = (Kind.INT, Kind.DECIMAL, Kind.DATE, Kind.TIME, Kind.ZONED, Kind.UUID, Kind.TEXT)
"""Kinds whose order servers and we agree on (texts: by code points)."""


@dataclass(frozen=True, slots=True, eq=False)
class LargeCompared:
    """`counts` are rows by state (SAME to ONLY_THERE), `table` the first differences, `read` the rows of both sides."""

    counts: tuple[int, int, int, int]
    table: Table
    read: tuple[int, int]

    @property
    def left_out(self) -> int:
        """Differences that are only counted."""
        return sum(self.counts) - self.counts[SAME] - self.table.rows


def in_order(pull: Pull, keys: Sequence[str], connection: Connection, stop: StopToken = NEVER) -> Pull:
    """The pull with its rows in the order of the key. Raises: ConditionError, where the server's order of the key is
    not known, SourceError's."""
    if connection.dialect.is_documents or pull.query.language != "sql" or pull.steps:
        raise ConditionError(f"{pull.name} can't be read in order.", "Compare tables, or pulls without steps.")
    text = pull.query.text.rstrip().rstrip(";")
    some = fetch(
        connection, request_of(replace(pull, query=replace(pull.query, text=text, limit=1000)), connection), stop
    ).table
    parts = []
    for key in keys:
        field = next((f for f in some.fields if f.name.casefold() == key.casefold()), None)
        if field is None:
            raise ConditionError(f"{key} is not in {pull.name}.", "Choose a column that both sides have.")
        if field.kind not in _KINDS:
            raise ConditionError(
                f"{key} holds {field.kind.value}; rows can't be read in its order.", "Choose another key."
            )
        quoted = connection.quoted(field.name)
        parts.append(connection.dialect.text_order.format(quoted) if field.kind is Kind.TEXT else quoted)
    wrapped = f"select * from (\n{text}\n) ordered order by {', '.join(parts)}"
    return replace(pull, query=replace(pull.query, text=wrapped, limit=None))


def blocks(pull: Pull, connection: Connection, stop: StopToken = NEVER) -> Generator[Table]:
    """The rows of a pull as tables of some thousands each. Raises: SourceError's, Stopped."""
    return table_blocks(connection, request_of(pull, connection), stop)


def compare_ordered(
    left: Iterator[Table],
    right: Iterator[Table],
    step: CompareStep,
    stop: StopToken = NEVER,
    tell: Callable[[int, int], None] = lambda left, right: None,
) -> LargeCompared:
    """Compare rows that come in the order of the step's key; `tell` is told how many were read. Raises: ConditionError,
    where they come in another order, SourceError's, Stopped."""
    if not step.keys:
        raise ConditionError("Large sides are compared by a key.", "Name one.")
    sides = _Side(left), _Side(right)
    counts, kept, found_rows = np.zeros(4, np.int64), list[Table](), 0
    while True:
        stop.check()
        for side in sides:
            side.fill(STRETCH)
        here, there = (side.held for side in sides)
        pairs = step.paired(here, there)
        codes = _codes(here, there, step, pairs)
        ends = [own[-1] if len(own) and not side.is_done else None for own, side in zip(codes, sides, strict=True)]
        bounds = [int(end) for end in ends if end is not None]
        taken = [own < min(bounds) if bounds else np.ones(len(own), np.bool_) for own in codes]
        if bounds and not any(each.any() for each in taken):
            for side, end in zip(sides, ends, strict=True):
                if end is not None and int(end) == min(bounds):
                    side.fill(side.held.rows + STRETCH)  # one key fills the stretch
            continue
        views = [View(side.held, np.flatnonzero(each)) for side, each in zip(sides, taken, strict=True)]
        found = compare_views(views[0], views[1], step.keys, stop, pairs, step.rules_at(here))
        counts += np.bincount(found.states, minlength=4)
        if found_rows < MOST_KEPT and (found.states != SAME).any():
            made, _ = differences_table(found)
            kept.append(_compact(made.take(np.arange(min(made.rows, MOST_KEPT - found_rows)))))
            found_rows += kept[-1].rows
        for side, each in zip(sides, taken, strict=True):
            side.keep(~each)
        tell(sides[0].read, sides[1].read)
        if all(side.is_done and not side.held.rows for side in sides):
            break
    one, other = sides
    table = _joined(kept) if kept else _nothing(step, one.held, other.held)
    same, changed, only_left, only_right = (int(count) for count in counts)
    return LargeCompared((same, changed, only_left, only_right), table, (one.read, other.read))


class _Side:
    """Rows of one side that were read and not compared yet."""

    def __init__(self, blocks: Iterator[Table]) -> None:
        self._blocks, self.held = blocks, next(blocks)
        self.is_done, self.read = False, self.held.rows

    def fill(self, rows: int) -> None:
        """Read until there are so many rows, or no more come."""
        parts, count = [self.held], self.held.rows
        while count < rows and not self.is_done:
            block = next(self._blocks, None)
            if block is None:
                self.is_done = True
                break
            parts.append(block)
            count += block.rows
            self.read += block.rows
        self.held = _joined(parts) if len(parts) > 1 else parts[0]

    def keep(self, which: np.ndarray[tuple[int], np.dtype[np.bool_]]) -> None:
        """Hold on to some rows only."""
        self.held = _compact(self.held.take(np.flatnonzero(which)))


def _codes(here: Table, there: Table, step: CompareStep, pairs: Sequence[tuple[int, int]]) -> tuple[Ids, Ids]:
    """Numbers of the keys in their order. Raises: ConditionError, where a side is not in that order."""
    by_name = {here.fields[a].name.casefold(): (a, b) for a, b in pairs}
    columns = []
    for key in step.keys:
        pair = by_name.get(key.casefold())
        if pair is None:
            raise ConditionError(f"{key} is not in both sides.", "Choose a column that both have.")
        mine, theirs = levelled(here.columns[pair[0]], there.columns[pair[1]])
        columns.append(chained([mine, theirs]))
    codes = combined_codes(columns, np.arange(here.rows + there.rows))
    both = codes[: here.rows], codes[here.rows :]
    if any((np.diff(own) < 0).any() for own in both):
        raise ConditionError(
            f"The rows do not come in our order of {', '.join(step.keys)}.",
            "Compare by a key of numbers or times, without NULL.",
        )
    return both


def _joined(parts: Sequence[Table]) -> Table:
    """Tables of the same columns below each other."""
    columns = tuple(chained([part.columns[n] for part in parts]) for n in range(len(parts[0].columns)))
    fields = tuple(replace(f, kind=c.kind) for f, c in zip(parts[0].fields, columns, strict=True))
    return Table(fields, columns, sum(part.rows for part in parts))


def _compact(table: Table) -> Table:
    """The same rows, holding no more than their own texts."""
    columns = []
    for column in table.columns:
        if isinstance(column, BufferText):
            lengths = column.ends - column.data + 1  # with the zero byte behind each
            starts = np.cumsum(lengths) - lengths
            at = np.arange(int(lengths.sum())) + np.repeat(column.data - starts, lengths)
            buffer = np.concatenate([column.buffer.take(at), np.zeros(8, np.uint8)])
            column = replace(column, data=starts, ends=starts + lengths - 1, buffer=buffer)
        columns.append(column)
    return Table(table.fields, tuple(columns), table.rows)


def _nothing(step: CompareStep, here: Table, there: Table) -> Table:
    """What differences would be, without any."""
    none = np.empty(0, np.int64)
    return differences_table(
        compare_views(View(here, none), View(there, none), step.keys, NEVER, step.paired(here, there))
    )[0]
