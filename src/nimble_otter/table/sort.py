"""Ordering rows by packing key bits and the row's place into 64-bit integers and sorting those.

Each key is cut into pieces of bits, most significant first. As many bits as fit beside the place are packed and
sorted at once, which is stable because the place stands in the low bits; runs that tie on them are sorted again by
the next bits. Measured against argsort and lexsort this is 5 to 20 times faster (see benchmarks/RESULTS.md).
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table.collation import ranked
from nimble_otter.table.columns import BufferText, CodedText, Column, Ids, Kind, View, pick
from nimble_otter.table.show import plain

Words = NDArray[np.uint64]
BLOCK = 1 << 16


@dataclass(frozen=True, slots=True)
class SortKey:
    """A column's place in the table and how to order by it. NaN comes after all numbers, before the empty ones. `order`
    is one of collation.ORDERS, for texts."""

    column: int
    descending: bool = False
    empty_first: bool = False
    order: str = ""


@dataclass(frozen=True, slots=True)
class Piece:
    """Some bits of a key: `take(places)` gives uint64 values below 2**bits for those places (None: all of them)."""

    bits: int
    take: Callable[[Ids | None], Words]


Pieces = Iterator[Piece]


def sort_view(view: View, keys: Sequence[SortKey], stop: StopToken = NEVER) -> View:
    """The view's rows in order of the keys; stable. Raises: Stopped."""
    if not keys or len(view) < 2:
        return view
    ids = view.row_ids()
    columns = [_ordered(view.table.columns[key.column], ids, key.order, stop) for key in keys]
    if len(keys) == 1 and columns[0].empty is not None:
        return View(view.table, _sort_with_empties(columns[0], ids, keys[0], stop))
    sources = [
        key_pieces(column, ids, key.descending, key.empty_first) for column, key in zip(columns, keys, strict=True)
    ]
    order = order_of([partial(_same, pieces) for pieces in sources], len(ids), stop)
    return View(view.table, ids.take(order))


def _ordered(column: Column, ids: Ids, order: str, stop: StopToken) -> Column:
    return ranked(column, ids, order, stop) if order and column.kind is Kind.TEXT else column


def _same(pieces: Pieces) -> Pieces:
    return pieces


def _sort_with_empties(column: Column, ids: Ids, key: SortKey, stop: StopToken) -> Ids:
    """One key: rows without a value are cut off before sorting, and put first or last in their own order."""
    empty = column.empty_at(ids)
    full = ids[~empty]
    order = order_of([lambda: key_pieces(column, full, key.descending, False)], len(full), stop)
    parts = [full.take(order), ids[empty]]
    return np.concatenate(parts[::-1] if key.empty_first else parts)


def order_of(sources: Sequence[Callable[[], Pieces]], count: int, stop: StopToken = NEVER) -> Ids:
    """Places 0..count in the order of the keys; each source gives the pieces of one key, most significant first."""
    pieces = (piece for source in sources for piece in source())
    row_bits = max(1, int(count - 1).bit_length())
    packed = np.zeros(count, np.uint64)
    rest = _pack(packed, pieces, None, 64 - row_bits, row_bits, None, stop)
    packed |= np.arange(count, dtype=np.uint64)
    packed.sort()
    stop.check()
    order = (packed & np.uint64((1 << row_bits) - 1)).astype(np.int64)
    head = packed >> np.uint64(row_bits)
    run = _runs(head)
    while rest is not None and len(run):
        order, run, rest = _repair(order, run, rest, pieces, stop)
    return order


def _runs(head: Words) -> Ids:
    """Start and end of each run of equal neighbours longer than one; shape (runs, 2)."""
    same = head[1:] == head[:-1]
    edges = np.flatnonzero(np.diff(np.concatenate([[False], same, [False]]).astype(np.int8)))
    return (edges.reshape(-1, 2) + np.array([0, 1])) if len(edges) else np.empty((0, 2), np.int64)


def _repair(order: Ids, runs: Ids, rest: Piece, pieces: Pieces, stop: StopToken) -> tuple[Ids, Ids, Piece | None]:
    """Sort the rows inside the runs by the next bits; returns the order, the runs still tied, and what is left."""
    lengths = runs[:, 1] - runs[:, 0]
    total = int(lengths.sum())
    slots = np.repeat(runs[:, 0] - np.concatenate([[0], np.cumsum(lengths)[:-1]]), lengths) + np.arange(total)
    rows = order.take(slots)
    row_bits = max(1, int(total - 1).bit_length())
    run_bits = int(len(runs) - 1).bit_length()
    packed = (
        np.repeat(np.arange(len(runs), dtype=np.uint64), lengths) << np.uint64(64 - run_bits)
        if run_bits
        else (np.zeros(total, np.uint64))
    )
    left = _pack(packed, pieces, rows, 64 - run_bits - row_bits, row_bits, rest, stop)
    packed |= np.arange(total, dtype=np.uint64)
    packed.sort()
    stop.check()
    order[slots] = rows.take((packed & np.uint64((1 << row_bits) - 1)).astype(np.int64))
    tied = _runs(packed >> np.uint64(row_bits))
    if len(tied):  # runs of slots are contiguous inside each former run, so slots map start to start
        tied = np.stack([slots[tied[:, 0]], slots[tied[:, 1] - 1] + 1], axis=1)
    return order, tied, left


def _pack(
    packed: Words,
    pieces: Pieces,
    places: Ids | None,
    room: int,
    shift: int,
    first: Piece | None,
    stop: StopToken,
) -> Piece | None:
    """Or the next bits into `packed` just above `shift`; `room` bits are free. Returns what is left."""
    piece = first if first is not None else next(pieces, None)
    while piece is not None:
        stop.check()
        values = piece.take(places)
        if piece.bits > room:
            low = piece.bits - room
            if room:
                packed |= (values >> np.uint64(low)) << np.uint64(shift)
            mask, take = np.uint64((1 << low) - 1), piece.take
            return Piece(low, lambda rows, take=take, mask=mask: take(rows) & mask)  # type: ignore[misc]
        room -= piece.bits
        packed |= values << np.uint64(shift + room)
        piece = next(pieces, None)
    return None


def key_pieces(column: Column, ids: Ids, descending: bool, empty_first: bool) -> Pieces:
    """A column's rows as pieces of bits in ascending order of what is wanted. Places are into `ids`."""
    empty = column.empty_at(ids) if column.empty is not None else None
    if empty is not None and empty.any():
        flags = (empty != empty_first).astype(np.uint64)
        yield Piece(1, lambda places: flags if places is None else flags.take(places))
    else:
        empty = None
    if isinstance(column, BufferText):
        yield from _text_pieces(column, ids, descending, empty)
        return
    keys = ordinal_keys(column, ids)
    if len(keys) == 0:
        return
    low, high = (keys.min(), keys.max()) if empty is None else _bounds(keys, empty)
    bits = int(high - low).bit_length()
    if not bits:
        return
    keys = (high - keys) if descending else (keys - low)
    if empty is not None:
        keys[empty] = 0
    yield Piece(bits, lambda places: keys if places is None else keys.take(places))


def _bounds(keys: Words, empty: NDArray[np.bool_]) -> tuple[np.uint64, np.uint64]:
    full = keys[~empty]
    return (full.min(), full.max()) if len(full) else (np.uint64(0), np.uint64(0))


def ordinal_keys(column: Column, ids: Ids) -> Words:
    """uint64 keys in the order of the values (not for BufferText). Equal keys are equal values."""
    if isinstance(column, CodedText):
        return column.word_ranks().astype(np.uint64).take(pick(column.data, ids))
    data = pick(column.data, ids)
    if column.kind is Kind.FLOAT:
        data = data + 0.0  # -0.0 and 0.0 are one value
        data[np.isnan(data)] = np.nan  # one bit pattern for every NaN
        bits = data.view(np.uint64)
        negative = (bits >> np.uint64(63)).astype(np.bool_)
        keys: Words = np.where(negative, ~bits, bits | np.uint64(1 << 63))
        return keys
    if column.kind is Kind.OBJECT:
        return _object_ranks(data)
    if column.kind is Kind.BOOL:
        return np.asarray(data, np.uint64)
    flipped: Words = data.astype(np.int64).view(np.uint64) ^ np.uint64(1 << 63)
    return flipped


def _object_ranks(data: NDArray[Any]) -> Words:
    """Places in the order of mixed values; see object_key."""
    keys = [object_key(value) for value in data.tolist()]
    order = sorted(range(len(keys)), key=keys.__getitem__)
    ranks = np.zeros(len(keys), np.uint64)
    rank = 0
    for before, place in zip([-1, *order], order, strict=False):
        rank += before >= 0 and keys[before] != keys[place]
        ranks[place] = rank
    return ranks


def object_key(value: Any) -> tuple[int, Any, str]:
    """What mixed values are ordered and told apart by: numbers, then texts, yes/no, dates and times, times of day,
    intervals, identifiers, bytes, objects and lists; each of these in its own order."""
    if isinstance(value, bool):
        return (2, value, "")
    if isinstance(value, (int, float, Decimal)):
        return (0, (value != value, 0 if value != value else value), "")
    if isinstance(value, str):
        return (1, value, "")
    if isinstance(value, dt.datetime):
        utc = value if value.tzinfo is None else value.astimezone(dt.UTC).replace(tzinfo=None)
        return (3, utc, "zoned" if value.tzinfo is not None else "time")
    if isinstance(value, dt.date):
        return (3, dt.datetime.combine(value, dt.time()), "date")
    if isinstance(value, dt.time):
        return (4, value.replace(tzinfo=None), str(value.tzinfo or ""))
    if isinstance(value, dt.timedelta):
        return (5, value, "")
    if isinstance(value, (Mapping, list, tuple)):
        return (8, plain(value), "")
    return (7, value, "") if isinstance(value, bytes) else (6, plain(value), type(value).__name__)


def _text_pieces(column: BufferText, ids: Ids, descending: bool, empty: NDArray[np.bool_] | None) -> Pieces:
    """UTF-8 bytes, eight at a time as one big-endian number; UTF-8 keeps code point order."""
    starts, ends = pick(column.data, ids), pick(column.ends, ids)
    if len(ids) == 0:
        return
    longest = int((ends - starts).max())
    windows: NDArray[Any] = np.ndarray(
        (max(0, column.buffer.size - 7),), dtype=">u8", buffer=column.buffer.data, strides=(1,)
    )
    flip = np.uint64(0xFFFF_FFFF_FFFF_FFFF)

    def prefix(depth: int) -> Callable[[Ids | None], Words]:
        whole: list[Words] = []

        def take(places: Ids | None) -> Words:
            # going through the buffer in order is several times quicker than jumping about in it
            if places is not None and len(places) > len(starts) // 8:
                if not whole:
                    whole.append(read(None))
                return whole[0].take(places)
            return read(places)

        def read(places: Ids | None) -> Words:
            first = (starts if places is None else starts.take(places)) + depth
            left = np.clip((ends if places is None else ends.take(places)) - first, 0, 8).astype(np.uint64)
            np.minimum(first, windows.size - 1, out=first)
            out = np.empty(len(first), np.uint64)
            for block in range(0, len(first), BLOCK):
                out[block : block + BLOCK] = windows[first[block : block + BLOCK]]
            cut = (np.uint64(8) - left) * np.uint64(8)
            whole = left == 8
            out = np.where(left == 0, np.uint64(0), (out >> np.where(whole, np.uint64(0), cut % 64)) << (cut % 64))
            if descending:
                out ^= flip
            if empty is not None:
                out[empty if places is None else empty.take(places)] = 0
            return out

        return take

    def with_length(places: Ids | None) -> Words:
        # texts that end in zero characters have the same bytes as shorter ones: the length tells them apart
        length: Words = ((ends - starts) if places is None else (ends - starts).take(places)).astype(np.uint64)
        if descending:
            length = np.uint64(longest) - length
        return length

    depth = _alike(prefix, longest)
    if depth < longest:
        yield _packed(prefix(depth))
        depth += 8
    for further in range(depth, longest, 8):
        yield Piece(64, prefix(further))
    yield Piece(max(1, longest.bit_length()), with_length)


def _alike(prefix: Callable[[int], Callable[[Ids | None], Words]], longest: int) -> int:
    """How many bytes all texts begin with alike."""
    depth = 0
    while depth < longest:
        values = prefix(depth)(None)
        differ = int(np.bitwise_or.reduce(values ^ values[0]))
        if differ:
            return depth + (64 - differ.bit_length()) // 8
        depth += 8
    return depth


def _packed(take: Callable[[Ids | None], Words]) -> Piece:
    """Eight bytes with only as many bits of each as the texts differ in, so that more of them are sorted at once."""
    whole = take(None)
    parts: list[tuple[np.uint64, np.uint64, np.uint64]] = []
    bits = 0
    for shift in range(0, 64, 8):
        byte = (whole >> np.uint64(shift)) & np.uint64(0xFF)
        low, high = byte.min(), byte.max()
        if high > low:
            parts.append((np.uint64(shift), low, np.uint64(bits)))
            bits += int(high - low).bit_length()

    def pack(values: Words) -> Words:
        out = np.zeros(len(values), np.uint64)
        for shift, low, at in parts:
            out |= (((values >> shift) & np.uint64(0xFF)) - low) << at
        return out

    first = pack(whole)
    return Piece(bits, lambda places: first if places is None else pack(take(places)))


def codes_of(column: Column, ids: Ids, stop: StopToken = NEVER) -> tuple[Ids, Ids]:
    """Number the different values of the rows `ids` in ascending order, rows without a value last as one of them.

    Returns (codes, examples): int64 codes of shape (len(ids),), and for each code the place in `ids` of its first row.
    """
    count = len(ids)
    if count == 0:
        return np.empty(0, np.int64), np.empty(0, np.int64)
    small = _small_codes(column, ids)
    if small is not None:
        raw, span = small
        first = np.full(span, count, np.int64)
        np.minimum.at(first, raw, np.arange(count)) if span > 4 * count else _first_places(first, raw)
        used = first < count
        renumber = np.cumsum(used) - 1
        return renumber.take(raw), first[used]
    order = order_of([lambda: key_pieces(column, ids, False, False)], count, stop)
    changed = np.zeros(count, np.bool_)
    for piece in key_pieces(column, ids, False, False):
        stop.check()
        keys = piece.take(None).take(order)
        changed[1:] |= keys[1:] != keys[:-1]
    changed[0] = True
    codes = np.empty(count, np.int64)
    codes[order] = np.cumsum(changed) - 1
    return codes, order[changed]


def order_by_codes(codes: NDArray[Any], count: int) -> Ids:
    """Places in ascending order of whole numbers below `count`; stable."""
    keys = codes.astype(np.uint64)
    piece = Piece(max(1, int(count - 1).bit_length()), lambda at: keys if at is None else keys.take(at))
    return order_of([lambda: iter([piece])], len(keys))


def combined_codes(columns: Sequence[Column], ids: Ids, stop: StopToken = NEVER) -> Ids:
    """Numbers of the rows `ids` that are equal where all the columns are; without columns all rows are equal."""
    codes = np.zeros(len(ids), np.int64)
    for place, column in enumerate(columns):
        own, examples = codes_of(column, ids, stop)
        if place:
            whole = Column(Kind.INT, codes * max(1, len(examples)) + own)
            own = codes_of(whole, np.arange(len(ids)), stop)[0]
        codes = own
    return codes


def changes(columns: Sequence[Column], ids: Ids, stop: StopToken = NEVER) -> NDArray[np.bool_]:
    """True where a row of `ids` differs from the one before it in some of the columns; the first one does."""
    found = np.zeros(len(ids), np.bool_)
    found[:1] = True
    for column in columns:
        codes = codes_of(column, ids, stop)[0]
        found[1:] |= codes[1:] != codes[:-1]
    return found


def starts_of(begins: NDArray[np.bool_]) -> Ids:
    """For each place the last one up to it that is True: where its run begins."""
    return np.maximum.accumulate(np.where(begins, np.arange(len(begins)), 0))


def _first_places(first: Ids, raw: Ids) -> None:
    first[raw[::-1]] = np.arange(len(raw) - 1, -1, -1)  # the last write wins, and that is the first row


def _small_codes(column: Column, ids: Ids) -> tuple[Ids, int] | None:
    """Codes in ascending order of value without sorting rows, where the values span a small range."""
    if isinstance(column, BufferText) or column.kind in (Kind.FLOAT, Kind.OBJECT):
        return None
    if isinstance(column, CodedText):
        raw, span = column.word_ranks().take(pick(column.data, ids)), len(column.words)
    else:
        raw = pick(column.data, ids).astype(np.int64)
        low, high = int(raw.min()), int(raw.max())
        span = high - low + 1
        if span > 4 * len(ids) + 1024:
            return None
        raw = raw - low
    if column.empty is not None:
        raw = np.where(column.empty_at(ids), span, raw)
        span += 1
    return raw.astype(np.int64), max(1, span)
