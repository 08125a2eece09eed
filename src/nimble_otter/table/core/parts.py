"""Batches of columns, as clients give them that do not hand over rows: arrays of values, or of where texts stand."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from nimble_otter.table.core.columns import TEXT_BYTES, Kind, Mask
from nimble_otter.table.core.growable import Codes
from nimble_otter.values import Value

_LONGEST = 64
"""Bytes of the longest text that is told from others by arrays; longer ones are made Python's."""
_MASKS = np.array([(1 << 8 * size) - 1 for size in range(9)], np.uint64)
"""Of eight bytes as a little-endian number, the first so many."""
_PRIME = np.uint64(0x9E3779B97F4A7C15)


@dataclass(frozen=True, slots=True)
class ArrayPart:
    """Values of one column in one batch. `data` as a Column of this kind holds it, with zero where `empty` is True;
    `as_rows` gives them as a client does that gives rows (times, say, as the server's texts). `scale` belongs to
    DECIMAL; `digits` (uint8) are the digits behind the second that each TIME has; `days` and `rest` (microseconds)
    the parts of each SPAN."""

    kind: Kind
    data: NDArray[Any]
    empty: Mask | None
    as_rows: Callable[[], TextPart | list[Any]]
    scale: int = 0
    digits: NDArray[np.uint8] | None = None
    days: NDArray[np.int64] | None = None
    rest: NDArray[np.int64] | None = None

    def __len__(self) -> int:
        return len(self.data)

    def first(self, count: int) -> ArrayPart:
        """The first values of it."""
        cut = {name: held[:count] for name in ("data", "empty", "digits", "days", "rest")
               if (held := getattr(self, name)) is not None}  # fmt: skip
        return replace(self, as_rows=lambda: first_of(self.as_rows(), count), **cut)


@dataclass(frozen=True, slots=True)
class TextPart:
    """Texts of one column in one batch, none with a zero byte in it: UTF-8 in `buffer` (uint8, at least 8 bytes behind
    the last), from `starts`, `sizes` bytes each (int64; 0 where `empty` is True)."""

    buffer: NDArray[np.uint8]
    starts: NDArray[np.int64]
    sizes: NDArray[np.int64]
    empty: Mask | None

    def __len__(self) -> int:
        return len(self.starts)

    @property
    def is_short(self) -> bool:
        """Whether each can be told from others by arrays."""
        return int(self.sizes.max(initial=0)) <= _LONGEST

    def first(self, count: int) -> TextPart:
        """The first texts of it."""
        empty = self.empty[:count] if self.empty is not None else None
        return TextPart(self.buffer, self.starts[:count], self.sizes[:count], empty)

    def values(self) -> list[Value]:
        """The texts as Python's, None where there is no value."""
        texts: list[Any] = self.joined()[0].tobytes().decode(*TEXT_BYTES).split("\0")[:-1]
        for index in np.flatnonzero(self.empty).tolist() if self.empty is not None else ():
            texts[index] = None
        return texts

    def joined(self) -> tuple[NDArray[np.uint8], NDArray[np.int64]]:
        """All texts one after the other, a zero byte behind each, and where those zero bytes are."""
        widths = self.sizes + 1
        after = np.cumsum(widths)
        begins = after - widths
        places = np.arange(int(after[-1]) if len(after) else 0)
        places += np.repeat(self.starts - begins, widths)
        joined = self.buffer.take(places, mode="clip")
        joined[after - 1] = 0
        return joined, after - 1


Part = ArrayPart | TextPart | list[Any]


def first_of(part: Part, count: int) -> Value:
    """The first values of a part."""
    return part[:count] if isinstance(part, list) else part.first(count)


@dataclass(frozen=True, slots=True)
class ColumnBatch:
    """Rows as columns: one part for each field, all of `rows` values."""

    parts: Sequence[Part]
    rows: int

    def __len__(self) -> int:
        return self.rows

    def __getitem__(self, wanted: slice) -> ColumnBatch:
        """The first rows of it: `batch[:count]`."""
        count = min(self.rows, wanted.stop)
        return ColumnBatch([first_of(part, count) for part in self.parts], count)

    def as_rows(self) -> Iterator[tuple[Value, ...]]:
        """The rows, as a client gives them that gives rows."""
        lists: list[Any] = []
        for part in self.parts:
            held: Any = part.as_rows() if isinstance(part, ArrayPart) else part
            lists.append(held.values() if isinstance(held, TextPart) else held)
        return zip(*lists, strict=True)


def text_part(values: Sequence[bytes], empty: Mask | None, tail: bytes = b"") -> TextPart | list[Value]:
    """Texts by their UTF-8 bytes, nothing where `empty` is True; `tail` goes behind each."""
    joined = tail.join(values) + tail
    if 0 in joined:
        return given([(text + tail).decode(*TEXT_BYTES) for text in values], empty)
    widths = np.fromiter(map(len, values), np.int64, len(values)) + len(tail)
    starts = np.cumsum(widths) - widths
    buffer = np.frombuffer(joined + b"\0" * 8, np.uint8)
    return TextPart(buffer, starts, widths if empty is None else np.where(empty, 0, widths), empty)


def given(values: list[Value], empty: Mask | None) -> list[Value]:
    """The values with None where there is none."""
    for index in np.flatnonzero(empty).tolist() if empty is not None else ():
        values[index] = None
    return values


class KnownTexts:
    """Codes of texts by their bytes: which of the texts met before each one is, found by arrays. Texts that are new
    get their codes from `codes`, in the order in which they come."""

    def __init__(self, codes: Codes) -> None:
        self._codes = codes
        self._tables: dict[int, _Known] = {}

    def find(self, part: TextPart, most: int) -> NDArray[np.int32] | None:
        """The code of each text (see `TextPart.is_short`); None when more than `most` are new: nothing was coded."""
        width = next(w for w in (1, 2, 4, 8) if part.sizes.max(initial=0) <= 8 * w)
        table = self._tables.setdefault(width, _Known.none(width))
        words, keys = _words(part, width)
        found = table.codes_of(words, keys, part.sizes)
        new = np.flatnonzero(found < 0)
        if len(new):
            _, first = np.unique(keys[new], return_index=True)
            if len(first) > most:
                return None
            rows = new[np.sort(first)]
            one = TextPart(part.buffer, part.starts[rows], part.sizes[rows], None)
            given = np.array([self._codes[text] for text in one.values()], np.int32)
            table = self._tables[width] = table.with_more(words[rows], keys[rows], part.sizes[rows], given)
            found[new] = table.codes_of(words[new], keys[new], part.sizes[new])
            for row in np.flatnonzero(found < 0).tolist():  # two texts of one key
                found[row] = self._codes[str(part.buffer.data[part.starts[row] :][: part.sizes[row]], *TEXT_BYTES)]
        return found


@dataclass(frozen=True, slots=True)
class _Known:
    """Texts of so many words at most, in the order of their keys."""

    keys: NDArray[np.uint64]
    words: NDArray[np.uint64]
    sizes: NDArray[np.int64]
    codes: NDArray[np.int32]

    @staticmethod
    def none(width: int) -> _Known:
        no = np.zeros(0, np.int64)
        return _Known(no.view(np.uint64), np.zeros((0, width), np.uint64), no, no.astype(np.int32))

    def codes_of(
        self, words: NDArray[np.uint64], keys: NDArray[np.uint64], sizes: NDArray[np.int64]
    ) -> NDArray[np.int32]:
        """The code of each, -1 for those that are not known."""
        if not len(self.keys):
            return np.full(len(keys), -1, np.int32)
        at = np.minimum(np.searchsorted(self.keys, keys), len(self.keys) - 1)
        same = (self.keys.take(at) == keys) & (self.sizes.take(at) == sizes)
        for index in range(words.shape[1]):
            same &= self.words[:, index].take(at) == words[:, index]
        return np.where(same, self.codes.take(at), np.int32(-1))

    def with_more(
        self,
        words: NDArray[np.uint64],
        keys: NDArray[np.uint64],
        sizes: NDArray[np.int64],
        codes: NDArray[np.int32],
    ) -> _Known:
        keys = np.concatenate([self.keys, keys])
        order = np.argsort(keys, kind="stable")
        return _Known(
            keys[order],
            np.concatenate([self.words, words])[order],
            np.concatenate([self.sizes, sizes])[order],
            np.concatenate([self.codes, codes])[order],
        )


def _words(part: TextPart, width: int) -> tuple[NDArray[np.uint64], NDArray[np.uint64]]:
    """The bytes of each text as numbers of eight, shape (rows, width), and a key made of them."""
    windows = np.ndarray((len(part.buffer) - 7,), "<u8", part.buffer, 0, (1,))
    words = np.empty((len(part), width), np.uint64)
    keys = part.sizes.astype(np.uint64) << np.uint64(56)
    for index in range(width):
        taken = windows[np.minimum(part.starts + 8 * index, len(windows) - 1)]
        words[:, index] = taken & _MASKS.take(np.clip(part.sizes - 8 * index, 0, 8))
        keys = keys ^ words[:, index] if width == 1 else ((keys ^ words[:, index]) * _PRIME) ^ (keys >> np.uint64(29))
    return words, keys
