"""Two sides that do not fit into memory: both are read in the order of the key, and compared stretch by stretch."""

from __future__ import annotations

from collections.abc import Callable, Generator, Iterator, Sequence
from contextlib import closing
from dataclasses import dataclass, replace

import numpy as np

from nimble_otter.errors import ConditionError, QueryError
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
from nimble_otter.translation import tr

STRETCH = 65_536
"""Rows of a side that are compared at once, or more."""
RANGES = 4096
"""Ranges of the key of which the servers give sums of hashes."""
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
        raise ConditionError(
            tr("{pull_name} can't be read in order.", pull_name=pull.name),
            tr("Compare tables, or pulls without steps."),
        )
    text, some = _text(pull), _few(pull, connection, stop)
    parts = []
    for key in keys:
        field = next((f for f in some.fields if f.name.casefold() == key.casefold()), None)
        if field is None:
            raise ConditionError(
                tr("{key} is not in {pull_name}.", key=key, pull_name=pull.name),
                tr("Choose a column that both sides have."),
            )
        if field.kind not in _KINDS:
            raise ConditionError(
                tr("{key} holds {kind_value}; rows can't be read in its order.", key=key, kind_value=field.kind.value),
                tr("Choose another key."),
            )
        quoted = connection.quoted(field.name)
        parts.append(connection.dialect.text_order.format(quoted) if field.kind is Kind.TEXT else quoted)
    wrapped = f"select * from (\n{text}\n) ordered order by {', '.join(parts)}"
    return replace(pull, query=replace(pull.query, text=wrapped, limit=None))


def blocks(pull: Pull, connection: Connection, stop: StopToken = NEVER) -> Generator[Table]:
    """The rows of a pull as tables of some thousands each. Raises: SourceError's, Stopped."""
    return table_blocks(connection, request_of(pull, connection), stop)


def compare_by_ranges(
    left: Pull,
    right: Pull,
    step: CompareStep,
    connections: tuple[Connection, Connection],
    stop: StopToken = NEVER,
    tell: Callable[[int, int], None] = lambda left, right: None,
) -> LargeCompared | None:
    """As `compare_ordered`, where both servers can hash their rows alike: only ranges of the key are read whose sums of
    hashes differ. None where that can't be done: the key is not one whole number, columns have rules, other names or
    kinds, or the servers are of two kinds. Raises: SourceError's, Stopped."""
    here, there = connections
    if (
        here.dialect.key != there.dialect.key
        or not here.dialect.row_hash
        or len(step.keys) != 1
        or step.rules
        or step.pairs
    ):
        return None
    pulls = left, right
    if any(pull.steps or pull.query.language != "sql" for pull in pulls):
        return None
    some = [_few(pull, connection, stop) for pull, connection in zip(pulls, connections, strict=True)]
    names = {f.name.casefold(): f.name for f in some[1].fields}
    common = [(f.name, names[f.name.casefold()]) for f in some[0].fields
              if f.name.casefold() in names and f.name not in step.left_out]  # fmt: skip
    key = next((pair for pair in common if pair[0].casefold() == step.keys[0].casefold()), None)
    if key is None or any(table.column(name).kind is not Kind.INT for table, name in zip(some, key, strict=True)):
        return None
    if any(some[0].column(a).kind is not some[1].column(b).kind for a, b in common):
        return None  # hashes of two kinds say nothing
    ends = [_ends(pull, name, connection, stop) for pull, name, connection in zip(pulls, key, connections, strict=True)]
    known = [end for end in ends if end is not None]
    if len(known) < 2:
        return None
    low, high = min(end[0] for end in known), max(end[1] for end in known)
    width = max(1, (high - low) // RANGES + 1)

    def summed(side: int) -> _Sums | None:
        names = [pair[side] for pair in common]
        return _sums(pulls[side], names, key[side], low, width, connections[side], stop)

    sums = stop.map_parallel(summed, (0, 1))  # each server works on its own
    if sums[0] is None or sums[1] is None:
        return None
    tell(*(sum(count for count, _ in each.values()) for each in sums if each is not None))
    unlike = sorted(bucket for bucket in sums[0].keys() | sums[1].keys() if sums[0].get(bucket) != sums[1].get(bucket))
    if 4 * len(unlike) > len(sums[0].keys() | sums[1].keys()):
        return None  # most of it is to be read anyway
    same = sum(count for bucket, (count, _) in sums[0].items() if sums[1].get(bucket) == sums[0][bucket])
    totals = [sum(count for count, _ in each.values()) for each in sums if each is not None]
    if not unlike:
        return LargeCompared((same, 0, 0, 0), _nothing(step, some[0], some[1]), (totals[0], totals[1]))
    bounds = [(low + first * width, low + (last + 1) * width - 1) for first, last in _stretches(unlike)]
    streams = [blocks(in_order(_within(pull, name, bounds, connection), (name,), connection), connection, stop)
               for pull, name, connection in zip(pulls, key, connections, strict=True)]  # fmt: skip
    with closing(streams[0]), closing(streams[1]):
        compared = compare_ordered(streams[0], streams[1], step, stop)
    return replace(
        compared,
        counts=(compared.counts[0] + same, *compared.counts[1:]),
        read=(totals[0], totals[1]),
    )


_Sums = dict[int, tuple[int, int]]


def _text(pull: Pull) -> str:
    return pull.query.text.rstrip().rstrip(";")


def _few(pull: Pull, connection: Connection, stop: StopToken) -> Table:
    """Some rows, to know the columns."""
    few = replace(pull, query=replace(pull.query, text=_text(pull), limit=1000))
    return fetch(connection, request_of(few, connection), stop).table


def _asked(pull: Pull, text: str, connection: Connection, stop: StopToken) -> Table:
    own = replace(pull, query=replace(pull.query, text=text, limit=None))
    return fetch(connection, request_of(own, connection), stop).table


def _ends(pull: Pull, key: str, connection: Connection, stop: StopToken) -> tuple[int, int] | None:
    """The lowest and highest key; None where there is none, or where one is NULL."""
    quoted = connection.quoted(key)
    text = (f"select min({quoted}) as low, max({quoted}) as high, count(*) - count({quoted}) as gone "
            f"from (\n{_text(pull)}\n) ranged")  # fmt: skip
    (low, high, gone), *_ = zip(*(c.values() for c in _asked(pull, text, connection, stop).columns), strict=True)
    return (int(low), int(high)) if low is not None and not gone else None


def _sums(
    pull: Pull, names: Sequence[str], key: str, low: int, width: int, connection: Connection, stop: StopToken
) -> _Sums | None:
    """For each range of the key how many rows there are and the sum of their hashes (rows that stand twice would go out
    of anything that takes them together by bits); None where the server has no hash of one of the columns."""
    columns = ", ".join(map(connection.quoted, names))
    text = (
        f"select ({connection.quoted(key)} - {low}) / {width} as bucket, count(*) as n, "
        f"sum({connection.dialect.row_hash.format(columns)}) as hash from (\n{_text(pull)}\n) ranged group by 1"
    )
    try:
        table = _asked(pull, text, connection, stop)
    except QueryError:  # a type without a hash
        return None
    buckets, counts, hashes = (column.values() for column in table.columns)
    return {int(b): (int(n), int(h)) for b, n, h in zip(buckets, counts, hashes, strict=True)}


def _within(pull: Pull, key: str, bounds: Sequence[tuple[int, int]], connection: Connection) -> Pull:
    quoted = connection.quoted(key)
    ranges = " or ".join(f"{quoted} between {low} and {high}" for low, high in bounds)
    text = f"select * from (\n{_text(pull)}\n) ranged where {ranges}"
    return replace(pull, query=replace(pull.query, text=text))


def _stretches(buckets: Sequence[int]) -> Iterator[tuple[int, int]]:
    """Neighbours taken together: (first, last) of each stretch."""
    first = last = None
    for bucket in buckets:
        if last is not None and first is not None and bucket > last + 1:
            yield first, last
            first = bucket
        first = bucket if first is None else first
        last = bucket
    if first is not None and last is not None:
        yield first, last


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
        raise ConditionError(tr("Large sides are compared by a key."), tr("Name one."))
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
        differences = compare_views(views[0], views[1], step.keys, stop, pairs, step.rules_at(here))
        counts += np.bincount(differences.states, minlength=4)
        if found_rows < MOST_KEPT and (differences.states != SAME).any():
            made, _ = differences_table(differences)
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
            raise ConditionError(tr("{key} is not in both sides.", key=key), tr("Choose a column that both have."))
        mine, theirs = levelled(here.columns[pair[0]], there.columns[pair[1]])
        columns.append(chained([mine, theirs]))
    codes = combined_codes(columns, np.arange(here.rows + there.rows))
    both = codes[: here.rows], codes[here.rows :]
    if any((np.diff(own) < 0).any() for own in both):
        raise ConditionError(
            tr("The rows do not come in our order of {keys}.", keys=", ".join(step.keys)),
            tr("Compare by a key of numbers or times, without NULL."),
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
