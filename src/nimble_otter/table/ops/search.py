"""Looking for a text in columns of any kind: in what they hold as text, whole stretches of bytes at a time."""

from __future__ import annotations

import itertools
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import orjson
from numpy.typing import NDArray

from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table.core import uuids
from nimble_otter.table.core.columns import (
    MISSING,
    TEXT_BYTES,
    BufferText,
    CodedText,
    Column,
    Ids,
    Kind,
    Mask,
    View,
    every,
    pick,
)
from nimble_otter.table.kernels.packing import slots_of
from nimble_otter.table.text.column_texts import written
from nimble_otter.table.text.digits import (
    MOST_DECIMALS,
    are_few,
    in_clocks,
    in_days,
    in_decimals,
    in_short_floats,
    in_spans,
    in_times,
    in_wholes,
    short_floats,
)
from nimble_otter.table.text.patterns import compiled, tester
from nimble_otter.table.text.show import plain
from nimble_otter.values import Value

BLOCK = 1 << 18
_IN_NUMBERS = frozenset("0123456789.-+e")
_IN_UUIDS = frozenset("0123456789abcdef-")
_COMMON_US = 253_402_300_800_000_000 // 5
"""Microseconds around 1970 in which every day has a year of four digits."""
_IN_EXACT = frozenset("0123456789-:+. ")
_IN_TIMES = frozenset("0123456789-: .")
_GAP = 3
_SMALL = ord("a") - ord("A")
"""The bit that tells a small letter of ASCII from a capital one; two bytes alone become a small letter by it."""
_LOOKED = 64
_STRETCH = 1 << 17
_SAMPLED = 1000
_GATHERED = 1 << 24
_MANY = 0.7
_BETWEEN = frozenset(b'\0,"')
"""At most so many bytes stand between values, and these: a text that holds them could reach across."""
_BROAD = ("\u212a", "\u0130", "\u017f")
"""The characters outside ASCII whose case folds to letters inside it (Unicode, CaseFolding)."""


@dataclass(frozen=True, slots=True)
class Search:
    """What is looked for: `text`, with letters' `case` or without, as a whole `word`, or as a regular expression
    (`pattern`)."""

    text: str
    case: bool = False
    word: bool = False
    pattern: bool = False

    @property
    def body(self) -> str:
        """What is looked for as a regular expression."""
        body = self.text if self.pattern else re.escape(self.text)
        return rf"\b(?:{body})\b" if self.word else body

    def expression(self) -> Value:
        """See patterns.compiled. Raises: ConditionError for what is no regular expression."""
        if self.pattern:
            tester(self.text, self.case)  # so that what is wrong is told of the text that was typed
        return compiled(self.body, self.case)

    def test(self) -> Callable[[str], bool]:
        """Whether a text holds it. Raises: ConditionError."""
        if not self.text:
            return lambda text: True
        if self.pattern or self.word:
            return tester(self.body, self.case)
        if self.case:
            return lambda text: self.text in text
        low = self.text.casefold()
        return lambda text: low in text.casefold()

    @property
    def is_plain(self) -> bool:
        """Whether it is a text that is looked for as it is."""
        return not (self.pattern or self.word)

    def narrows(self, other: Search) -> bool:
        """Whether all that this finds is found by the other too."""
        same = (self.case, self.word, self.pattern) == (other.case, other.word, other.pattern)
        return same and self.is_plain and other.text in self.text


def said(value: object) -> str:
    """A value as it is looked for: yes and no as they are shown, everything else exactly."""
    if isinstance(value, bool):
        return "yes" if value else "no"
    return plain(value)


def find_rows(
    view: View,
    columns: Sequence[int],
    search: Search,
    stop: StopToken = NEVER,
    within: Mask | None = None,
) -> Mask:
    """Which rows hold what is searched for.

    Parameters
    ----------
    view : View
    columns : sequence of int
        Those that are looked into.
    search : Search
    stop : StopToken
    within : ndarray of bool, shape (len(view),), optional
        The positions that come into question; all where it is left out.

    Returns
    -------
    ndarray of bool, shape (len(view),)
        True at the positions of the view where any of the columns holds it.

    Raises
    ------
    ConditionError
        The pattern can't be read.
    Stopped
    """
    search.expression()
    mask = np.zeros(len(view), np.bool_)
    order = sorted(columns, key=lambda n: _cost(view.table.columns[n]))
    done = itertools.count(1)

    def look(start: int) -> None:
        ids = view.row_ids(start, start + BLOCK)
        left = np.arange(len(ids)) if within is None else np.flatnonzero(within[start : start + BLOCK])
        for index in order:
            stop.check()
            if not len(left):
                break
            column = view.table.columns[index]
            if len(left) > _MANY * len(ids):  # looking at all is less work than picking these
                hit = mask_of(column, ids, search).take(left)
            else:
                hit = mask_of(column, ids.take(left), search)
            if hit.any():
                mask[start + left[hit]] = True
                left = left[~hit]
        stop.report_progress(min(next(done) * BLOCK, len(view)), len(view))

    every(0, len(view))  # grown once, not by each hand
    stop.map_parallel(look, range(0, len(view), BLOCK))
    return mask


def _cost(column: Column) -> int:
    """The columns that are quickly searched come first: rows found in them are not looked for in the others."""
    if isinstance(column, CodedText) or column.kind in (Kind.BOOL, Kind.INT):
        return 0
    return {Kind.DATE: 1, Kind.TIME: 1, Kind.TEXT: 2, Kind.UUID: 2, Kind.FLOAT: 3}.get(column.kind, 4)


def mask_of(column: Column, ids: Ids, search: Search) -> Mask:
    """True where the rows `ids` hold it; rows without a value never do. Raises: ConditionError."""
    test = search.test()
    if isinstance(column, CodedText):
        words = np.fromiter(map(test, column.words), np.bool_, len(column.words))
        hit = words.take(pick(column.data, ids)) if len(words) else np.zeros(len(ids), np.bool_)
    elif column.kind is Kind.BOOL:
        hit = np.where(pick(column.data, ids), test("yes"), test("no"))
    elif search.is_plain and column.kind is Kind.UUID:
        hit = _in_uuids(column, ids, search)
    elif not search.is_plain or column.kind is Kind.OBJECT:
        return _one_by_one(column, ids, test)
    elif column.kind in (Kind.DECIMAL, Kind.CLOCK, Kind.SPAN, Kind.ZONED):
        digits = _in_digits(column, ids, search.text)
        hit = digits if digits is not None else _in_written(column.take(ids), search, test)
    elif isinstance(column, BufferText):
        hit = _in_buffer(column, ids, search, test)
    elif column.whole is not None:
        hit = _in_both(column, ids, search, test)
    else:
        hit = _in_numbers(column, ids, search, test)
    return hit & ~column.empty_at(ids) if column.empty is not None else hit


def _in_both(column: Column, ids: Ids, search: Search, test: Callable[[str], bool]) -> Mask:
    """Doubles and whole numbers side by side: each is looked for as it is written."""
    assert column.whole is not None
    whole = pick(column.whole, ids)
    numbers = Column(Kind.INT, np.where(column.whole, column.data, 0.0).astype(np.int64))
    hit = np.zeros(len(ids), np.bool_)
    hit[whole] = _in_numbers(numbers, ids[whole], search, test)
    hit[~whole] = _in_numbers(replace(column, whole=None), ids[~whole], search, test)
    return hit


def _one_by_one(column: Column, ids: Ids, test: Callable[[str], bool]) -> Mask:
    values = column.values(ids)
    return np.fromiter((v is not None and v is not MISSING and test(said(v)) for v in values), np.bool_, len(ids))


def equals(column: BufferText, text: str, ids: Ids) -> Mask:
    """True where the rows `ids` are exactly the text."""
    needle = text.encode(*TEXT_BYTES)
    starts, ends = pick(column.data, ids), pick(column.ends, ids)
    return _start_with(column, needle, starts, (ends - starts) == len(needle))


def begins(column: BufferText, text: str, ids: Ids) -> Mask:
    """True where the rows `ids` begin with the text."""
    needle = text.encode(*TEXT_BYTES)
    starts, ends = pick(column.data, ids), pick(column.ends, ids)
    return _start_with(column, needle, starts, (ends - starts) >= len(needle))


def _start_with(column: BufferText, needle: bytes, starts: Ids, long: Mask) -> Mask:
    """Of the rows that are long enough, look at the byte that tells most apart, then at eight at a time."""
    places = np.flatnonzero(long)
    if not needle or not len(places):
        return long
    some = starts.take(places[:_SAMPLED])
    like = [np.count_nonzero(column.buffer.take(some + at) == byte) for at, byte in enumerate(needle[:64])]
    at = int(np.argmin(like))
    if len(places) == len(starts):
        places = np.flatnonzero(column.buffer.take(starts + at) == needle[at])
    else:
        places = places[column.buffer.take(starts.take(places) + at) == needle[at]]
    windows: NDArray[Any] = np.ndarray((max(0, column.buffer.size - 7),), "<u8", column.buffer.data, 0, (1,))
    for at in range(0, len(needle), 8):
        part = needle[at : at + 8]
        mask = np.uint64((1 << 8 * len(part)) - 1)
        want = np.uint64(int.from_bytes(part, "little"))
        places = places[(windows[starts.take(places) + at] & mask) == want]
    held = np.zeros(len(starts), np.bool_)
    held[places] = True
    return held


def _in_buffer(column: BufferText, ids: Ids, search: Search, test: Callable[[str], bool]) -> Mask:
    starts, ends = pick(column.data, ids), pick(column.ends, ids)
    if not len(ids):
        return np.zeros(0, np.bool_)
    low, high, size = int(starts.min()), int(ends.max()), int((ends - starts).sum())
    rises = len(ids) < 2 or bool((np.diff(starts) >= 0).all())
    if rises and high - low <= 2 * (size + len(ids)) + 4096:
        block, starts, ends = column.buffer[low:high], starts - low, ends - low
    elif size > _GATHERED:
        return _one_by_one(column, ids, test)
    else:
        block, starts, ends = _gathered(column.buffer, starts, ends)
    is_exact = search.case or (search.text.isascii() and search.text.lower() == search.text.upper())
    if is_exact:
        return _held(block, search.text.encode(*TEXT_BYTES), starts, ends)
    if not search.text.isascii() or (block.max(initial=0) > 127 and _is_broad(block.tobytes())):
        return _one_by_one(column, ids, test)
    return _held(block, search.text.lower().encode("ascii"), starts, ends, block | np.uint8(_SMALL))


def _in_digits(column: Column, ids: Ids, text: str) -> Mask | None:
    """A few digits, told by arithmetic; None where that is not possible."""
    if not are_few(text) or not len(ids):
        return None
    data = pick(column.data, ids)
    if column.kind is Kind.CLOCK:
        return in_clocks(data, text)
    if column.kind is Kind.DECIMAL:
        return in_decimals(data, column.scale, text) if text[0] != "0" and column.scale <= MOST_DECIMALS else None
    if column.kind is Kind.SPAN:
        return in_spans(data, text)
    is_common = column.kind is Kind.ZONED and abs(data).max() < _COMMON_US
    return (in_times(data, text) | (text in "00")) if is_common else None


def _in_written(column: Column, search: Search, test: Callable[[str], bool]) -> Mask:
    """Each value as the text that stands for it exactly, all written at once."""
    if not set(search.text) <= _IN_EXACT or not len(column):
        return np.zeros(len(column), np.bool_)
    texts = written(column)
    if texts is None:
        return _one_by_one(column, every(0, len(column)), test)
    ends = np.cumsum(np.fromiter(map(len, texts), np.int64, len(texts)) + 1) - 1
    starts = np.concatenate([[0], ends[:-1] + 1])
    block = np.frombuffer(b"\0".join([*texts, b""]), np.uint8)
    return _held(block, search.text.encode(), starts, ends) & ~column.empty_at()


def _in_uuids(column: Column, ids: Ids, search: Search) -> Mask:
    text = search.text if search.case else search.text.lower()
    if not set(text) <= _IN_UUIDS or not len(ids):
        return np.zeros(len(ids), np.bool_)
    starts = np.arange(len(ids)) * (uuids.SIZE + 1)
    return _held(uuids.write(pick(column.data, ids)).reshape(-1), text.encode(), starts, starts + uuids.SIZE)


def _gathered(buffer: NDArray[np.uint8], starts: Ids, ends: Ids) -> tuple[NDArray[np.uint8], Ids, Ids]:
    """Stretches that stand apart, one behind the other, each with the zero byte behind it; and where they are then."""
    places, sizes = slots_of(np.stack([starts, ends + 1], axis=1))
    after = np.cumsum(sizes)
    return buffer.take(places), after - sizes, after - 1


def _is_broad(block: bytes) -> bool:
    return any(mark.encode() in block for mark in _BROAD)


def _in_numbers(column: Column, ids: Ids, search: Search, test: Callable[[str], bool]) -> Mask:  # noqa: C901 - a branch for each kind of number
    """Numbers and times written in one go, as JSON has them, with a comma behind each."""
    is_time = column.kind.is_moment
    text = search.text.lower()
    nothing = np.zeros(len(ids), np.bool_)
    if not len(ids):
        return nothing
    if not set(text) <= (_IN_TIMES if is_time else _IN_NUMBERS):
        odd = column.kind is Kind.FLOAT and bool(set(text) <= set("nainf-")) and not np.isfinite(column.data).all()
        if not odd:
            return nothing
    data = pick(column.data, ids)
    if column.kind is Kind.INT and are_few(text) and text[0] != "0":
        return in_wholes(data, text)
    if column.kind is Kind.FLOAT and are_few(text) and text[0] != "0":
        short = short_floats(data)
        if short.all():
            return in_short_floats(data, text)
        if short.any():
            nothing[short] = in_short_floats(data[short], text)
            nothing[~short] = _in_numbers(column, ids[~short], search, test)
            return nothing
    if column.kind is Kind.FLOAT and (text == "" or set("e+naif") & set(text) or not np.isfinite(data).all()):
        return _one_by_one(column, ids, test)
    if is_time:
        data = data.view("M8[us]") if column.kind is Kind.TIME else data.astype("M8[D]")
        if (data < np.datetime64("0001-01-01")).any() or (data > np.datetime64("9999-12-31T23:59:59")).any():
            return _one_by_one(column, ids, test)
        if are_few(text):
            whole = data.astype(np.int64)
            return in_times(whole, text) if column.kind is Kind.TIME else in_days(whole, text)
    written = np.frombuffer(orjson.dumps(np.ascontiguousarray(data), option=orjson.OPT_SERIALIZE_NUMPY), np.uint8)
    commas = np.flatnonzero(written == ord(","))
    starts = np.concatenate([[1], commas + 1])
    ends = np.concatenate([commas, [len(written) - 1]])
    if is_time:
        starts, ends = starts + 1, ends - 1  # inside the quotes
        ends = np.minimum(ends, starts + 10) if column.kind is Kind.DATE else ends
        text = text.replace(" ", "T")  # as JSON has it
    return _held(written, text.encode(), starts, ends)


def _held(
    block: NDArray[np.uint8], needle: bytes, starts: Ids, ends: Ids, small: NDArray[np.uint8] | None = None
) -> Mask:
    """Which of the stretches from `starts` to `ends`, in ascending order, hold the bytes. In `small`, where given, the
    letters of ASCII are small ones: there those of the needle are looked for."""
    size = len(needle)
    if not size:
        return np.ones(len(starts), np.bool_)
    if size > len(block):
        return np.zeros(len(starts), np.bool_)
    room = len(block) - size + 1
    blocks = [block if small is None or not ord("a") <= byte <= ord("z") else small for byte in needle]
    some = [np.count_nonzero(own[: 1 << 14] == byte) for own, byte in zip(blocks, needle[:_LOOKED], strict=False)]
    rarest = [*sorted(range(len(some)), key=some.__getitem__), *range(len(some), size)]
    hit = np.zeros(len(block) + 1, np.bool_)
    _mark(hit[:room], blocks, needle, rarest[:3])
    held = np.zeros(len(starts), np.bool_)
    if np.count_nonzero(hit) < len(starts) // 8:
        at = np.flatnonzero(hit)
        for offset in rarest[3:]:
            at = at[blocks[offset].take(at + offset) == needle[offset]]
        row = np.searchsorted(starts, at, "right") - 1
        held[row[(row >= 0) & (at + size <= ends[row])]] = True
        return held
    _mark(hit[:room], blocks, needle, rarest[3:], further=True)
    close = (starts[1:] - ends[:-1] <= _GAP).all() and not set(needle) & _BETWEEN
    if close:
        hit[max(0, int(ends[-1]) - size + 1) :] = False
        return np.logical_or.reduceat(hit[: int(ends[-1]) + 1], starts)
    total = np.concatenate([[0], np.cumsum(hit, dtype=np.int32)])
    return total[np.maximum(starts, ends - size + 1)] > total[starts]


def _mark(
    hit: Mask, blocks: Sequence[NDArray[np.uint8]], needle: bytes, offsets: Sequence[int], further: bool = False
) -> None:
    """Where these bytes of the needle stand (`further`: also where marked already), a stretch at a time as the cache
    of the processor holds."""
    for start in range(0, len(hit), _STRETCH):
        out = hit[start : start + _STRETCH]
        for index, offset in enumerate(offsets):
            same = blocks[offset][start + offset : start + offset + len(out)] == needle[offset]
            out[:] = same if not (index or further) else out & same
