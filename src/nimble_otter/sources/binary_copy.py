"""Rows of PostgreSQL's binary COPY as columns (PostgreSQL documentation, COPY, Binary Format; the values as each
type's send function writes them, in the server's `backend/utils/adt`). Nothing here is done for each value."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np

from nimble_otter.sources import binary_lists, binary_texts
from nimble_otter.sources.binary_cells import Cells
from nimble_otter.sources.singles import as_shown
from nimble_otter.sources.time_parts import days_part, moments_part
from nimble_otter.table import Kind
from nimble_otter.table.core import uuids
from nimble_otter.table.core.columns import DAY_US
from nimble_otter.table.core.parts import ArrayPart, ColumnBatch, Part, TextPart, given
from nimble_otter.translation import tr
from nimble_otter.values import Value

SIGNATURE = b"PGCOPY\n\xff\r\n\x00"
HEADER = len(SIGNATURE) + 8
TRAILER = b"\xff\xff"
_MOST_DAYS = 50_000_000
_MOST_REST = 1_000_000_000 * 3_600_000_000
"""Days of the longest interval that a column of them holds, and microseconds beside the days."""


Reader = Callable[[Cells], Part]


def batch_of(rows: bytearray, widths: Sequence[int], readers: Sequence[Reader]) -> ColumnBatch:
    """Rows that stand one after the other, each of so many bytes. Raises: ValueError where they are not what `readers`
    read."""
    rows += b"\0" * 16
    buffer = np.frombuffer(rows, np.uint8)
    sized = np.array(widths, np.int64)
    at = np.cumsum(sized) - sized
    width = int(sized[0]) if (sized == sized[0]).all() else 0
    begin = 2
    sizes_at = np.ndarray((len(buffer) - 3,), ">i4", buffer, 0, (1,))
    counts = np.ndarray((len(buffer) - 1,), ">i2", buffer, 0, (1,))[at]
    if (counts != len(readers)).any():
        raise ValueError(tr("a row has another number of columns"))
    ends, at = at + sized, at + 2
    parts: list[Part] = []
    for reader in readers:
        if width:  # as long as every value of the columns before had one size
            told = np.ndarray((len(sized),), ">i4", buffer, begin, (width,))
            size = int(told[0])
            if size >= 0 and (told == size).all():
                cells = Cells(buffer, at + 4, np.full(len(sized), size, np.int64), None, (begin + 4, width))
                parts.append(reader(cells))
                at, begin = at + (4 + size), begin + 4 + size
                continue
            width = 0
        sizes = sizes_at[np.minimum(at, len(sizes_at) - 1)].astype(np.int64)
        at = at + 4
        empty = sizes < 0
        has_empty = bool(empty.any())
        if has_empty:
            sizes[empty] = 0
        parts.append(reader(Cells(buffer, at, sizes, empty if has_empty else None)))
        at = at + sizes
    if (at != ends).any():
        raise ValueError(tr("a row ends elsewhere than its columns"))
    return ColumnBatch(parts, len(widths))


# --- values ------------------------------------------------------------------------------------------------------


def _array(kind: Kind, dtype: str) -> Reader:
    def read(cells: Cells) -> Part:
        data = cells.numbers(dtype)
        stored = data.astype(np.int64) if kind is Kind.INT else data
        return ArrayPart(kind, stored, cells.empty, lambda: given(stored.tolist(), cells.empty))

    return read


def _bool(cells: Cells) -> Part:
    data = cells.numbers("|u1").astype(np.bool_)
    return ArrayPart(Kind.BOOL, data, cells.empty, lambda: given(data.tolist(), cells.empty))


def _float4(cells: Cells) -> Part:
    data = as_shown(cells.numbers(">f4"))
    return ArrayPart(Kind.FLOAT, data, cells.empty, lambda: given(data.tolist(), cells.empty))


def _text(cells: Cells) -> Part:
    return TextPart(cells.buffer, cells.starts, cells.sizes, cells.empty)


def _jsonb(cells: Cells) -> Part:
    """A version byte stands before the text."""
    lead = 1 if cells.empty is None else (~cells.empty).astype(np.int64)
    return TextPart(cells.buffer, cells.starts + lead, cells.sizes - lead, cells.empty)


def _uuid(cells: Cells) -> Part:
    data = np.empty(len(cells.starts), uuids.DTYPE)
    data["high"], data["low"] = cells.numbers(">u8"), cells.numbers(">u8", 8)
    return ArrayPart(Kind.UUID, data, cells.empty, lambda: given(list(uuids.texts_of(data)), cells.empty))


def _date(cells: Cells) -> Part:
    told = cells.numbers(">i4").astype(np.int64)
    ends = told == np.iinfo(np.int32).min, told == np.iinfo(np.int32).max
    return days_part(told + binary_texts.FROM_1970, cells.empty, ends)


def _moment(kind: Kind, tail: str) -> Reader:
    def read(cells: Cells) -> Part:
        told = cells.numbers(">i8")
        ends = told == np.iinfo(np.int64).min, told == np.iinfo(np.int64).max
        return moments_part(kind, *binary_texts.split_moments(told), cells.empty, tail, ends)

    return read


def _clock(cells: Cells) -> Part:
    micros = cells.numbers(">i8")

    def texts() -> TextPart:
        return binary_texts.clocks(micros, cells.empty)

    return ArrayPart(Kind.CLOCK, micros, cells.empty, texts) if (micros < DAY_US).all() else texts()


def _interval(cells: Cells) -> Part:
    rest, days, months = (
        cells.numbers(form, at).astype(np.int64) for form, at in ((">i8", 0), (">i4", 8), (">i4", 12))
    )

    def texts() -> TextPart:
        return binary_texts.intervals(months, days, rest, cells.empty)

    is_odd = (months != 0) | ((days != 0) & (rest != 0) & ((days > 0) != (rest > 0))) | (np.abs(days) >= _MOST_DAYS)
    if is_odd.any() or (rest > _MOST_REST).any() or (rest < -_MOST_REST).any():
        return texts()
    return ArrayPart(Kind.SPAN, days * DAY_US + rest, cells.empty, texts, days=days, rest=rest)


def _numeric(cells: Cells) -> Part:
    """Groups of four digits, the first of them worth 10000 ** weight, so many digits shown behind the point."""
    groups, weight = cells.numbers(">i2").astype(np.int64), cells.numbers(">i2", 2).astype(np.int64)
    sign, shown = cells.numbers(">u2", 4), cells.numbers(">i2", 6).astype(np.int64)
    held = np.ones(len(groups), np.bool_) if cells.empty is None else ~cells.empty

    def texts() -> list[Value]:
        return [None if raw is None else numeric_text(raw) for raw in cells.raw()]

    scale = int(shown[held][0]) if held.any() else 0
    is_even = (shown[held] == scale).all() and scale <= 17 and np.isin(sign[held], (0, 0x4000)).all()
    if not is_even or weight[held].max(initial=0) > 4 or groups.max(initial=0) > 10:
        return texts()
    data, rough = np.zeros(len(groups), np.int64), np.zeros(len(groups), np.float64)
    for index in range(int(groups.max(initial=0))):
        digits = np.where(index < groups, cells.numbers(">i2", 8 + 2 * index).astype(np.int64), 0)
        power = np.where(index < groups, 4 * (weight - index) + scale, 0)
        rough += digits * 10.0**power
        power = np.clip(power, -4, 18)
        data += np.where(power >= 0, digits * 10 ** np.maximum(power, 0), digits // 10 ** np.maximum(-power, 0))
    if rough.max(initial=0) >= 9.9e17:  # near what 18 digits hold: told one by one
        return texts()
    data = np.where(sign == 0x4000, -data, data)
    return ArrayPart(Kind.DECIMAL, data, cells.empty, texts, scale=scale)


def _bytes(cells: Cells) -> Part:
    return cells.raw()


READERS: dict[int, Reader] = {
    16: _bool, 17: _bytes, 20: _array(Kind.INT, ">i8"), 21: _array(Kind.INT, ">i2"), 23: _array(Kind.INT, ">i4"),
    25: _text, 26: _array(Kind.INT, ">u4"), 114: _text, 700: _float4, 701: _array(Kind.FLOAT, ">f8"), 1042: _text,
    1043: _text, 1082: _date, 1083: _clock, 1114: _moment(Kind.TIME, ""), 1184: _moment(Kind.ZONED, "+00"),
    1186: _interval, 1700: _numeric, 2950: _uuid, 3802: _jsonb,
    1005: binary_lists.of_numbers(">i2"), 1007: binary_lists.of_numbers(">i4"), 1016: binary_lists.of_numbers(">i8"),
    1009: binary_lists.of_texts, 1015: binary_lists.of_texts,
}  # fmt: skip
"""By the number of the type (the server's catalogue pg_type) what reads its values."""


def text_reader(load: Callable[[bytes], Value] | None) -> Reader:
    """Values that the server wrote as text, as `load` reads each; texts as they are without it."""
    if load is None:
        return _text
    return lambda cells: [None if raw is None else load(raw) for raw in cells.raw()]


def numeric_text(raw: bytes) -> str:
    """A numeric as the server writes it, from its bytes."""
    groups, weight, sign, shown = (int(n) for n in np.frombuffer(raw[:8], ">u2"))
    named = {0xC000: "NaN", 0xD000: "Infinity", 0xF000: "-Infinity"}.get(sign)
    if named is not None:
        return named
    weight -= (weight & 0x8000) << 1
    whole = 0
    for digits in np.frombuffer(raw[8:], ">i2").tolist():
        whole = whole * 10_000 + digits
    behind = 4 * (groups - 1 - weight) if groups else 0  # digits behind the point
    whole = whole * 10 ** (shown - behind) if shown >= behind else whole // 10 ** (behind - shown)
    padded = str(whole).rjust(shown + 1, "0")
    text = f"{padded[:-shown]}.{padded[-shown:]}" if shown else padded
    return f"-{text}" if sign == 0x4000 else text
