"""Numbering the different values of columns: what grouping, joining and counting stand on."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table.core.columns import BufferText, CodedText, Column, Ids, Kind, pick
from nimble_otter.table.kernels.keys import key_pieces
from nimble_otter.table.kernels.packing import gather, order_and_runs, slots_of, stretches

_STRETCH = 1 << 16


def codes_of(column: Column, ids: Ids, stop: StopToken = NEVER) -> tuple[Ids, Ids]:
    """Number the different values of some rows in ascending order.

    Parameters
    ----------
    column : Column
    ids : ndarray of int64, shape (n,)
        The rows; those without a value are equal to each other and come last.
    stop : StopToken

    Returns
    -------
    codes : ndarray of int64, shape (n,)
        From 0 without gaps.
    examples : ndarray of int64
        For each code the place in `ids` of its first row.

    Raises
    ------
    Stopped

    Examples
    --------
    >>> import numpy as np
    >>> from nimble_otter.table.core.build import column_of
    >>> codes, examples = codes_of(column_of(["b", "a", None, "b"]), np.arange(4))
    >>> codes.tolist(), examples.tolist()
    ([1, 0, 2, 1], [1, 0, 2])
    """
    small = small_codes(column, ids, stop)
    if small is not None:
        codes, used, _ = compressed(*small, stop)
        return codes, first_places(codes, len(used))
    order, begins = _sorted(column, ids, stop)
    codes = np.empty(len(ids), np.int32)  # half as much memory to jump about in
    numbers = counted_to(begins).astype(np.int32) - np.int32(1)

    def put(part: slice) -> None:
        codes[order[part]] = numbers[part]

    stop.map_parallel(put, stretches(0, len(ids)))
    return codes.astype(np.int64), order[begins]


def _sorted(column: Column, ids: Ids, stop: StopToken) -> tuple[Ids, NDArray[np.bool_]]:
    """Places of the rows in order, and where in it a value begins."""
    order, runs = order_and_runs([lambda: key_pieces(column, ids, False, False, stop)], len(ids), stop)
    return order, begins_of(runs, len(ids))


def counted(column: Column, ids: Ids, stop: StopToken = NEVER) -> tuple[Ids, Ids]:
    """For each different value, in ascending order, the place in `ids` of its first row, and how many rows have it."""
    small = small_codes(column, ids, stop)
    if small is not None:
        codes, used, counts = compressed(*small, stop)
        return first_places(codes, len(used)), counts
    order, begins = _sorted(column, ids, stop)
    starts = np.flatnonzero(begins)
    return order.take(starts), np.diff(np.append(starts, len(ids)))


def numbered(column: Column, ids: Ids, stop: StopToken = NEVER) -> tuple[Ids, int]:
    """As `codes_of`, but numbers of which not all need be in use, and what all are below."""
    small = small_codes(column, ids, stop)
    if small is not None:
        return small
    codes, examples = codes_of(column, ids, stop)
    return codes, max(1, len(examples))


def compressed(codes: Ids, span: int, stop: StopToken = NEVER) -> tuple[Ids, Ids, Ids]:
    """Codes below `span` as numbers of those in use: (new codes, the codes in use ascending, how many have each)."""
    if span > 4 * len(codes) + 1024:
        used, new, counts = np.unique(codes, return_inverse=True, return_counts=True)
        return new.astype(np.int64), used, counts.astype(np.int64)
    counts = np.bincount(codes, minlength=span)
    used = np.flatnonzero(counts)
    if len(used) == span:
        return codes, used, counts
    renumber = np.zeros(span, np.int64)
    renumber[used] = np.arange(len(used))
    return gather(renumber, codes, stop), used, counts.take(used)


def first_places(codes: Ids, count: int) -> Ids:
    """The first place of each code below `count`, which are all in use."""
    first = np.full(count, -1, np.int64)
    for start in range(0, len(codes), _STRETCH):  # mostly all are met long before the end
        some = codes[start : start + _STRETCH]
        new = np.flatnonzero(first.take(some) < 0)[::-1]
        first[some.take(new)] = new + start  # the last write wins, and that is the first row
        if start + _STRETCH < len(codes) and len(new) < _STRETCH >> 6 and first.min() >= 0:
            break
    return first


def begins_of(runs: Ids, count: int) -> NDArray[np.bool_]:
    """True where, in an order of which `runs` are equal, a value begins."""
    begins = np.ones(count, np.bool_)
    begins[slots_of(runs + np.array([1, 0]))[0]] = False
    return begins


def combined_codes(columns: Sequence[Column], ids: Ids, stop: StopToken = NEVER) -> Ids:
    """Number the rows that are equal in several columns.

    Parameters
    ----------
    columns : sequence of Column
        Without any, all rows are equal.
    ids : ndarray of int64, shape (n,)
    stop : StopToken

    Returns
    -------
    ndarray of int64, shape (n,)
        Equal where all the columns are, NULL with NULL; from 0 without gaps, ascending by the first column, then the
        next.

    Raises
    ------
    Stopped
    """
    codes = np.zeros(len(ids), np.int64)
    for index, column in enumerate(columns):
        own, examples = codes_of(column, ids, stop)
        if index:
            whole = Column(Kind.INT, codes * max(1, len(examples)) + own)
            own = codes_of(whole, np.arange(len(ids)), stop)[0]
        codes = own
    return codes


def changes(columns: Sequence[Column], ids: Ids, stop: StopToken = NEVER) -> NDArray[np.bool_]:
    """True where a row of `ids` differs from the one before it in some of the columns; the first one does."""
    mask = np.zeros(len(ids), np.bool_)
    mask[:1] = True
    for column in columns:
        mask[1:] |= _differ(column, ids, stop)
    return mask


def _differ(column: Column, ids: Ids, stop: StopToken) -> NDArray[np.bool_]:
    """Where each row but the first has another value than the one before it."""
    if isinstance(column, BufferText) or column.kind is Kind.OBJECT:
        codes = codes_of(column, ids, stop)[0]
        return np.asarray(codes[1:] != codes[:-1])
    data = pick(column.data, ids)
    differ: NDArray[np.bool_] = data[1:] != data[:-1]
    if column.kind is Kind.FLOAT:
        differ &= ~(np.isnan(data[1:]) & np.isnan(data[:-1]))
    if column.empty is not None:
        gone = column.empty_at(ids)
        differ = np.where(gone[1:] | gone[:-1], gone[1:] != gone[:-1], differ)
    return differ


def counted_to(mask: NDArray[np.bool_]) -> Ids:
    """How many are True up to each place. Adding the booleans themselves would hold the interpreter."""
    return mask.astype(np.int64).cumsum()


def starts_of(begins: NDArray[np.bool_]) -> Ids:
    """For each place the last one up to it that is True: where its run begins."""
    return np.maximum.accumulate(np.where(begins, np.arange(len(begins)), 0))


def small_codes(column: Column, ids: Ids, stop: StopToken = NEVER) -> tuple[Ids, int] | None:
    """Codes in ascending order of value without sorting rows, where the values span a small range."""
    if isinstance(column, BufferText) or column.kind in (Kind.FLOAT, Kind.UUID, Kind.OBJECT):
        return None
    if not len(ids):
        return np.empty(0, np.int64), 1
    data = pick(column.data, ids)
    low, ranks = 0, column.word_ranks() if isinstance(column, CodedText) else None
    if ranks is not None:
        span = len(ranks)
    else:
        low, high = int(data.min()), int(data.max())
        span = high - low + 1
        if span > 4 * len(ids) + 1024:
            return None
    empty = column.empty_at(ids) if column.empty is not None else None
    codes = np.empty(len(ids), np.int64)

    def fill(part: slice) -> None:
        some = np.subtract(data[part], low, dtype=np.int64) if ranks is None else ranks.take(data[part])
        codes[part] = some if empty is None else np.where(empty[part], span, some)

    stop.map_parallel(fill, stretches(0, len(codes)))
    return codes, max(1, span + (empty is not None))
