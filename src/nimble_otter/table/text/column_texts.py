"""Columns as texts, a whole column at once: what is searched, and what deliveries are put together from.

Numbers and times are written in C by orjson over the columns' own arrays; words of few different values once each. A
text is the exact one (`show.plain`), as UTF-8; rows without a value hold anything.
"""

from __future__ import annotations

import operator
from collections.abc import Sequence
from itertools import repeat

import numpy as np
import orjson

from nimble_otter.table.core import uuids
from nimble_otter.table.core.columns import TEXT_BYTES, BufferText, CodedText, Column, Kind
from nimble_otter.table.text.show import plain
from nimble_otter.values import Value

_ARRAY = orjson.OPT_SERIALIZE_NUMPY
_SECOND_US = 1_000_000
_IN_HOUR = [b":%02d:%02d" % divmod(second, 60) for second in range(3600)]


def written(column: Column) -> list[bytes] | None:
    """Numbers and times of any kind; None where the column is of another kind, or holds NaN or infinities."""
    if column.kind.is_number:
        return numbers(column)
    return spans(column) if column.kind is Kind.SPAN else moments(column)


def numbers(column: Column) -> list[bytes] | None:
    """INT, FLOAT and DECIMAL columns with all their digits (empty rows hold anything); None where the column is of
    another kind, or holds NaN or infinities."""
    if column.kind is Kind.INT:
        return _dumped(column.data).split(b",") if len(column) else []
    if column.kind is Kind.FLOAT:
        if not np.isfinite(column.data).all():
            return None
        pieces = _dumped(column.data).split(b",") if len(column) else []
        for index in np.flatnonzero(column.whole).tolist() if column.whole is not None else ():
            pieces[index] = b"%d" % int(column.data[index])
        return pieces
    if column.kind is Kind.DECIMAL:
        return _decimals(column)
    return None


def moments(column: Column, between: bytes = b" ") -> list[bytes] | None:
    """TIME, ZONED, DATE and CLOCK columns in ISO 8601 form, with `between` the day and the time; else None."""
    kind = column.kind
    if kind not in (Kind.TIME, Kind.ZONED, Kind.DATE, Kind.CLOCK):
        return None
    if not len(column):
        return []
    try:
        if kind is Kind.DATE:
            pieces = _dumped(column.data.astype("M8[D]"))[1:-1].split(b'T00:00:00","')
            pieces[-1] = pieces[-1].removesuffix(b"T00:00:00")
            return pieces
        option = _ARRAY | (orjson.OPT_NAIVE_UTC if kind is Kind.ZONED else 0)
        text = orjson.dumps(np.ascontiguousarray(column.data).view("M8[us]"), option=option)[2:-2]
    except (TypeError, orjson.JSONEncodeError):  # days at the very ends of the calendar
        pieces = [plain(v).encode() for v in column.values()]
        return pieces if between == b" " else [t.replace(b" ", between) for t in pieces]
    if kind is Kind.CLOCK:
        return text.replace(b"1970-01-01T", b"").split(b'","')
    return (text if between == b"T" else text.replace(b"T", between)).split(b'","')


def spans(column: Column) -> list[bytes]:
    """A SPAN column as hours, minutes and seconds: 26:03:04.5, with a minus in front below zero."""
    micros = column.data
    if not len(micros):
        return []
    if micros.min() == np.iinfo(np.int64).min:  # it has no positive counterpart
        return [plain(value).encode() for value in column.values()]
    seconds, rest = np.divmod(np.abs(micros), _SECOND_US)
    hours, inside = np.divmod(seconds, 3600)
    signed, codes = np.unique(np.where(micros < 0, -hours - 1, hours), return_inverse=True)
    heads = [b"-%02d" % (-hour - 1) if hour < 0 else b"%02d" % hour for hour in signed.tolist()]
    texts = list(map(operator.add, by_code(heads, codes), by_code(_IN_HOUR, inside)))
    if rest.any():
        digits = (b"," + _dumped(rest + _SECOND_US)).replace(b",1", b",.")[1:].split(b",")
        tails = map(bytes.rstrip, digits, repeat(b"0"))
        texts = list(map(operator.add, texts, map(bytes.removesuffix, tails, repeat(b"."))))
    return texts


def utf8(column: Column) -> list[bytes]:
    """A column of texts or UUIDs as UTF-8, as it was at the source; rows without a value hold anything."""
    if isinstance(column, CodedText):
        words = [word.encode(*TEXT_BYTES) for word in column.words] or [b""]
        return by_code(words, column.data)
    if column.kind is Kind.UUID:
        return uuids.write(column.data).tobytes().split(b"\0")[:-1]
    assert isinstance(column, BufferText)
    starts, ends = column.data, column.ends
    if not len(starts):
        return []
    low, high = int(starts.min()), int(ends.max())
    if high - low <= 64 * len(starts) + 4096:
        block = column.buffer[low:high].tobytes()
        if np.array_equal(starts[1:], ends[:-1] + 1) and (found := block.split(b"\0")) and len(found) == len(starts):
            return found
        return [block[a:b] for a, b in zip((starts - low).tolist(), (ends - low).tolist(), strict=True)]
    memory = column.buffer.data
    return [bytes(memory[a:b]) for a, b in zip(starts.tolist(), ends.tolist(), strict=True)]


def by_code(words: Sequence[bytes], codes: Value) -> list[bytes]:
    """The word of each code (an integer array, or one of truth values for two words)."""
    known = np.empty(len(words), np.object_)
    known[:] = words
    return list(known.take(codes.view(np.int8) if codes.dtype == np.bool_ else codes).tolist())


def _dumped(data: object) -> bytes:
    return orjson.dumps(np.ascontiguousarray(data), option=_ARRAY)[1:-1]


def _decimals(column: Column) -> list[bytes]:
    if not len(column):
        return []
    if not column.scale:
        return _dumped(column.data).split(b",")
    unit = 10**column.scale
    if column.scale > 17 or (column.data == np.iinfo(np.int64).min).any():
        return [format(v, "f").encode() if v is not None else b"0" for v in column.values()]
    size = np.abs(column.data)
    whole = _dumped(size // unit * np.sign(column.data)).split(b",")
    for index in np.flatnonzero((column.data < 0) & (size < unit)).tolist():
        whole[index] = b"-0"
    # behind a one the digits keep their zeros; that one then becomes the point
    rest = (b"," + _dumped(size % unit + unit)).replace(b",1", b",.")[1:].split(b",")
    return list(map(operator.add, whole, rest))
