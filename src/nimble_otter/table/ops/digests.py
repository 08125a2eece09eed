"""Numbers that stand for rows: equal where all values are, and with a chance of 2**-64 a pair where they are not. What
a delivery remembers of its rows, to tell at the next which are new, gone or changed."""

from __future__ import annotations

import hashlib
import uuid
from collections.abc import Sequence
from functools import cache

import numpy as np
from numpy.typing import NDArray

from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table.core import uuids
from nimble_otter.table.core.columns import BufferText, CodedText, Column, Ids, Kind, View, pick
from nimble_otter.table.kernels.codes import codes_of
from nimble_otter.values import Stored

Digests = NDArray[np.uint64]
_STEP = np.uint64(0x9E3779B97F4A7C15)
_BASE = np.uint64(0x100000001B3)
"""An odd number, so that its powers can be undone modulo 2**64."""
_BLOCK = 1 << 20
_NONE, _TEXT, _OTHER, _NUMBER, _MOMENT = (np.uint64(n * 0x2545F4914F6CDD1D % (1 << 64)) for n in range(1, 6))


def row_digests(view: View, columns: Sequence[int], stop: StopToken = NEVER) -> Digests:
    """A digest of each row of a view.

    Parameters
    ----------
    view : View
    columns : sequence of int
        Those that it is taken over, in their order.
    stop : StopToken

    Returns
    -------
    ndarray of uint64, shape (len(view),)
        Equal for equal rows; equal numbers have equal digests, whatever kind holds them.

    Raises
    ------
    Stopped
    """
    ids = view.row_ids()
    found = np.zeros(len(ids), np.uint64)
    for index in columns:
        stop.check()
        found = _mixed(found * _STEP + column_digests(view.table.columns[index], ids))
    return found


def column_digests(column: Column, ids: Ids) -> Digests:
    """One for each of the rows `ids` of a column. Equal numbers have equal digests, whatever kind holds them."""
    if isinstance(column, CodedText):
        words = np.array([_of_bytes(word.encode("utf-8", "surrogateescape")) for word in column.words], np.uint64)
        own = words.take(pick(column.data, ids)) if len(words) else np.zeros(len(ids), np.uint64)
    elif isinstance(column, BufferText):
        own = _of_texts(column, ids)
    elif column.kind in (Kind.INT, Kind.FLOAT, Kind.DECIMAL, Kind.BOOL):
        own = _of_numbers(column, ids)
    elif column.kind is Kind.UUID:
        own = _of_uuids(pick(column.data, ids))
    elif column.kind is Kind.OBJECT:
        codes, examples = codes_of(column, ids)
        values = column.values(ids.take(examples))  # once for each different value
        own = np.array([_of_bytes(repr(value).encode("utf-8", "replace")) ^ int(_OTHER) for value in values], np.uint64)
        own = own.take(codes) if len(own) else np.zeros(len(ids), np.uint64)
    else:
        moments = pick(column.data, ids).astype(np.int64)
        own = _mixed((moments * (86_400_000_000 if column.kind is Kind.DATE else 1)).view(np.uint64) ^ _MOMENT)
    empty = column.empty_at(ids)
    return np.where(empty, _NONE, own) if empty.any() else own


def _mixed(numbers: Digests) -> Digests:
    """Every bit of the result hangs on every bit given (the finalizer of splitmix64; Steele, Lea and Flood, 2014)."""
    numbers = (numbers ^ (numbers >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    numbers = (numbers ^ (numbers >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    found: Digests = numbers ^ (numbers >> np.uint64(31))
    return found


_HEX = [f"{byte:02x}" for byte in range(256)]


def _of_uuids(data: Stored) -> Digests:
    """As `_of_bytes` has it of their texts in quotes."""
    marks, tables = _uuid_terms()
    summed = np.full(len(data), marks, np.uint64)
    for half, own in (("high", tables[:8]), ("low", tables[8:])):
        held = data[half].astype(">u8").view(np.uint8).reshape(-1, 8)
        for at, table in enumerate(own):
            summed += table.take(held[:, at])
    return _mixed(summed ^ _TEXT) ^ _OTHER


@cache
def _uuid_terms() -> tuple[np.uint64, list[Digests]]:
    """What the marks of a UUID's text and each value of each of its 16 bytes, as two letters, add to the sum."""
    powers = [pow(int(_BASE), at, 1 << 64) for at in range(uuids.SIZE + 2)]
    form = f"'{uuid.UUID(int=0)}'"
    marks = sum((ord(mark) + 1) * powers[at] for at, mark in enumerate(form) if mark != "0")
    places = [at for at, mark in enumerate(form) if mark == "0"][::2]
    tables = [
        np.array(
            [((ord(t[0]) + 1) * powers[at] + (ord(t[1]) + 1) * powers[at + 1]) % (1 << 64) for t in _HEX], np.uint64
        )
        for at in places
    ]
    return np.uint64(marks % (1 << 64)), tables


def _of_bytes(text: bytes) -> int:
    """As `_of_texts` has it, for one text."""
    number, power = 0, 1
    for byte in text[:64]:
        number += (byte + 1) * power
        power = power * int(_BASE) % (1 << 64)
    if len(text) > 64:
        number += int.from_bytes(hashlib.blake2b(text[64:], digest_size=8).digest(), "little")
    return int(_mixed(np.array([number % (1 << 64) ^ int(_TEXT)], np.uint64))[0])


def _of_texts(column: BufferText, ids: Ids) -> Digests:
    """A polynomial in _BASE over the first 64 bytes, and a hash of what follows."""
    starts, ends = pick(column.data, ids), pick(column.ends, ids)
    found = np.zeros(len(ids), np.uint64)
    for begin in range(0, len(ids), _BLOCK):
        part = slice(begin, begin + _BLOCK)
        at, lengths = starts[part], np.minimum(ends[part] - starts[part], 64)
        power = np.uint64(1)
        for index in range(int(lengths.max(initial=0))):
            has = np.flatnonzero(lengths > index)
            letters = column.buffer.take(at.take(has) + index).astype(np.uint64) + np.uint64(1)
            found[part][has] += letters * power
            with np.errstate(over="ignore"):
                power = power * _BASE
    for index in np.flatnonzero(ends - starts > 64).tolist():  # long texts, one by one
        text = column.buffer[starts[index] + 64 : ends[index]].tobytes()
        with np.errstate(over="ignore"):
            found[index] += np.uint64(int.from_bytes(hashlib.blake2b(text, digest_size=8).digest(), "little"))
    return _mixed(found ^ _TEXT)


def _of_numbers(column: Column, ids: Ids) -> Digests:
    """Whole numbers by their value, others as doubles; a decimal that is a whole number as that."""
    data = pick(column.data, ids)
    if column.kind is Kind.FLOAT or (column.kind is Kind.DECIMAL and column.scale):
        if column.kind is Kind.DECIMAL:
            whole = data % 10**column.scale == 0
            exact = data // 10**column.scale
            doubles = data / float(10**column.scale)
        else:
            doubles = np.where(data == 0, 0.0, data)  # -0.0 is 0
            whole = (np.abs(doubles) < 2.0**63) & (np.floor(doubles) == doubles)
            exact = np.where(whole, doubles, 0).astype(np.int64)
        numbers = np.where(whole, exact.view(np.uint64), doubles.view(np.uint64) ^ np.uint64(1 << 63))
        return _mixed(numbers ^ _NUMBER)
    return _mixed(data.astype(np.int64).view(np.uint64) ^ _NUMBER)
