"""The values of columns as bits that are in the order of the values: what sorting, grouping and joining stand on."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Mapping
from decimal import Decimal
from functools import partial
from itertools import chain
from typing import Any

import numpy as np
from numpy.typing import NDArray

from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table.core.columns import BufferText, CodedText, Column, Ids, Kind, pick
from nimble_otter.table.kernels.numeric import as_amounts
from nimble_otter.table.kernels.packing import BLOCK, KeyPieces, Piece, Rows, Words, at, gather, stretches, whole_piece
from nimble_otter.table.text.show import plain
from nimble_otter.values import Stored, Value

_SIGN = np.uint64(1 << 63)


def key_pieces(column: Column, ids: Ids, descending: bool, empty_first: bool, stop: StopToken = NEVER) -> KeyPieces:  # noqa: C901 - a branch for each kind of column
    """A column's rows as pieces of bits in ascending order of what is wanted. Places are into `ids`."""
    empty = column.empty_at(ids) if column.empty is not None else None
    if empty is not None and not empty.any():
        empty = None
    if isinstance(column, BufferText):
        if empty is not None:
            yield _flags(empty, empty_first)
        yield from _text_pieces(column, ids, descending, empty, stop)
        return
    if column.kind is Kind.UUID:
        if empty is not None:
            yield _flags(empty, empty_first)
        for half in ("high", "low"):
            words = pick(column.data, ids)[half]
            yield whole_piece(~words if descending else words, (1 << 64) - 1)
        return
    data, encode = _encoded(column, ids)
    bounds = _bounds(column, data, encode, empty, stop)
    if bounds is None:
        return
    low, high = bounds
    span = (int(high) - int(low)) % (1 << 64)  # keys of whole numbers go round at zero
    if not span and empty is None:
        return
    bits = max(1, span.bit_length())
    apart = empty is not None and bits == 64  # else a bit above the others tells them from the empty ones
    if apart and empty is not None:
        yield _flags(empty, empty_first)
    above = np.uint64(0 if empty is None or apart else 1 << bits)
    instead = np.uint64(0) if empty_first else above

    def take(rows: Rows) -> Words:
        keys = encode(at(data, rows))
        keys = high - keys if descending else keys - low
        if empty_first and above:
            keys += above
        if empty is not None:
            keys[at(empty, rows)] = instead
        return keys

    yield Piece(bits + bool(above), take)


def _flags(empty: NDArray[np.bool_], empty_first: bool) -> Piece:
    return whole_piece(empty != empty_first, 1)


Encode = Callable[[NDArray[Any]], Words]


def _encoded(column: Column, ids: Ids) -> tuple[NDArray[np.generic], Encode]:
    """The rows' data, and what makes new uint64 keys of a part of it: equal for equal values, and in their order as far
    as differences from the smallest go."""
    if column.kind is Kind.OBJECT:
        column, ids = as_amounts(column, ids), np.arange(len(ids))
        if column.kind is Kind.OBJECT:
            return _object_ranks(column.data), np.array
    data = pick(column.data, ids)
    if isinstance(column, CodedText):
        return data, column.word_ranks().astype(np.uint64).take
    if column.kind is Kind.FLOAT:
        return data, _float_keys
    return data, _whole_keys


def _whole_keys(data: NDArray[np.generic]) -> Words:
    return data.astype(np.int64).view(np.uint64)


def _float_keys(data: Stored) -> Words:
    """Doubles by their bits, flipped for negative numbers (IEEE 754); -0.0 and 0.0 are one value, all NaN are one."""
    data = data + 0.0
    gone = np.isnan(data)
    if gone.any():
        data[gone] = np.nan
    bits = data.view(np.int64)
    return (bits ^ ((bits >> 63) & np.int64((1 << 63) - 1))).view(np.uint64) ^ _SIGN


def _bounds(
    column: Column, data: NDArray[np.generic], encode: Encode, empty: NDArray[np.bool_] | None, stop: StopToken
) -> tuple[np.uint64, np.uint64] | None:
    """The keys of the smallest and the largest value, or more; None where there is none."""
    if isinstance(column, CodedText):
        return (np.uint64(0), np.uint64(len(column.words) - 1)) if len(column.words) and len(data) else None

    def ends_of(part: slice) -> list[Value]:
        full = data[part] if empty is None else data[part][~empty[part]]
        return [np.fmin.reduce(full), full.max()] if len(full) else []

    results = list(chain.from_iterable(stop.map_parallel(ends_of, stretches(0, len(data)))))
    if not results:
        return None
    low, high = encode(np.array([np.fmin.reduce(results), np.max(results)]))
    return low, high


def _object_ranks(data: NDArray[np.generic]) -> Words:
    """Places in the order of mixed values; see object_key."""
    keys = [object_key(value) for value in data.tolist()]
    order = sorted(range(len(keys)), key=keys.__getitem__)
    ranks = np.zeros(len(keys), np.uint64)
    rank = 0
    for before, index in zip([-1, *order], order, strict=False):
        rank += before >= 0 and keys[before] != keys[index]
        ranks[index] = rank
    return ranks


def object_key(value: object) -> tuple[int, Value, str]:
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


def _text_pieces(
    column: BufferText, ids: Ids, descending: bool, empty: NDArray[np.bool_] | None, stop: StopToken
) -> KeyPieces:
    """UTF-8 bytes, eight at a time as one big-endian number; UTF-8 keeps code point order."""
    if len(ids) == 0:
        return
    texts = _Texts(column, ids, descending, empty, stop)
    depth = texts.alike()
    if depth < texts.longest:
        yield texts.first_bytes(depth)
        depth += 8
    for further in range(depth, texts.longest, 8):
        yield Piece(64, partial(texts.bytes_at, further))
    yield Piece(max(1, texts.longest.bit_length()), texts.lengths)


class _Texts:
    """Eight bytes of each text from a depth on, as numbers in the order that is wanted."""

    def __init__(
        self, column: BufferText, ids: Ids, descending: bool, empty: NDArray[np.bool_] | None, stop: StopToken
    ) -> None:
        self._stop = stop
        self._starts, self._ends, self._empty = pick(column.data, ids), pick(column.ends, ids), empty
        self._windows: NDArray[Any] = np.ndarray(
            (max(0, column.buffer.size - 7),), dtype=">u8", buffer=column.buffer.data, strides=(1,)
        )
        self._flip = np.uint64(0xFFFF_FFFF_FFFF_FFFF if descending else 0)
        self._descending = descending
        self._whole: tuple[int, Words] | None = None
        self._sure = self._windows.size - 1 - int(self._starts.max())
        """Up to this depth eight bytes can be read of every text."""
        self.longest = int((self._ends - self._starts).max())

    def bytes_at(self, depth: int, rows: Rows) -> Words:
        few = BLOCK if isinstance(rows, slice) else len(rows)
        if few <= len(self._starts) // 16 and (self._whole is None or self._whole[0] != depth):
            return self._read(depth, at(self._starts, rows), at(self._ends, rows), rows)
        if isinstance(rows, slice):
            return self._all_at(depth)[rows]
        return gather(self._all_at(depth), rows, self._stop)

    def _all_at(self, depth: int) -> Words:
        """Going through the buffer in order is several times quicker than jumping about in it."""
        if self._whole is None or self._whole[0] != depth:
            made = np.empty(len(self._starts), np.uint64)

            def fill(stretch: slice) -> None:
                for start in range(stretch.start, stretch.stop, BLOCK):
                    rows = slice(start, min(stretch.stop, start + BLOCK))
                    made[rows] = self._read(depth, self._starts[rows], self._ends[rows], rows)

            self._stop.map_parallel(fill, stretches(0, len(made)))
            self._whole = depth, made
        return self._whole[1]

    def _read(self, depth: int, starts: Ids, ends: Ids, rows: Rows) -> Words:
        first = starts + depth
        past = 8 - (ends - first)  # how many of the eight bytes are behind the text
        if depth > self._sure:
            np.minimum(first, self._windows.size - 1, out=first)
        keys: Words = self._windows[first].astype(np.uint64)
        if past.max(initial=0) > 0:
            cut = np.clip(past, 0, 8, out=past).view(np.uint64) << np.uint64(3)
            keys = (keys >> cut) << cut  # a shift by 64 leaves nothing
        if self._flip:
            keys ^= self._flip
        if self._empty is not None:
            keys[at(self._empty, rows)] = 0
        return keys

    def lengths(self, rows: Rows) -> Words:
        """Texts that end in zero characters have the same bytes as shorter ones: the length tells them apart."""
        lengths: Words = (at(self._ends, rows) - at(self._starts, rows)).astype(np.uint64)
        return np.uint64(self.longest) - lengths if self._descending else lengths

    def alike(self) -> int:
        """How many bytes all texts begin with alike."""
        depth = 0
        while depth < self.longest:
            same, ever = self._bits(depth)
            if same != ever:
                return depth + (64 - (same ^ ever).bit_length()) // 8
            depth += 8
        return depth

    def _bits(self, depth: int) -> tuple[int, int]:
        """The bits that all have, and those that some have."""
        values = self._all_at(depth)
        return int(np.bitwise_and.reduce(values)), int(np.bitwise_or.reduce(values))

    def first_bytes(self, depth: int) -> Piece:
        """Only the bits in which the texts differ, so that more of them are sorted at once."""
        all_have, some_have = self._bits(depth)
        differ = all_have ^ some_have
        parts: list[tuple[np.uint64, np.uint64]] = []  # runs of bits, from the lowest: which, how far down they go
        index, number = 0, 0
        while differ >> index:
            if not differ >> index & 1:
                index += 1
                continue
            end = index
            while differ >> end & 1:
                end += 1
            parts.append((np.uint64((1 << end) - (1 << index)), np.uint64(index - number)))
            number, index = number + end - index, end

        def take(rows: Rows) -> Words:
            values = self.bytes_at(depth, rows)
            keys = np.zeros(len(values), np.uint64)
            for start in range(0, len(values), BLOCK):
                some, out = values[start : start + BLOCK], keys[start : start + BLOCK]
                for which, down in parts:
                    out |= (some & which) >> down
            return keys

        return Piece(number, take)
