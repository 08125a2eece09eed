"""UUIDs (RFC 9562) as 16 bytes each, and as the texts of 36 characters that sources write, many at a time."""

from __future__ import annotations

import uuid
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from nimble_otter.values import Stored

DTYPE = np.dtype([("high", np.uint64), ("low", np.uint64)])
"""Its first and its last eight bytes as numbers, which compare as the texts do."""
SIZE = 36
_DASHES = [8, 13, 18, 23]
_PARTS = [(0, 8, 0), (9, 13, 8), (14, 18, 12), (19, 23, 16), (24, 36, 20)]
"""Where digits stand among the characters, and which they are of the 32."""
_PAIRS = np.frombuffer("".join(f"{byte:02x}" for byte in range(256)).encode("ascii"), np.uint16)
"""The two digits of each byte."""
_ODD = 256
_BYTES = np.full(1 << 16, _ODD, np.uint16)
_BYTES[_PAIRS] = np.arange(256)
NONE = str(uuid.UUID(int=0))


def parse(texts: Sequence[str]) -> NDArray[np.generic] | None:
    """Texts in the form that they are written back in (small letters, four dashes); None where one is in another."""
    try:
        block = np.frombuffer("".join(texts).encode("ascii"), np.uint8)
    except UnicodeEncodeError:
        return None
    if block.size != SIZE * len(texts) or set(map(len, texts)) - {SIZE}:
        return None
    written = block.reshape(len(texts), SIZE)
    digits = np.empty((len(texts), 32), np.uint8)
    for start, end, at in _PARTS:
        digits[:, at : at + end - start] = written[:, start:end]
    found = _BYTES.take(digits.view(np.uint16))
    if any((written[:, place] != ord("-")).any() for place in _DASHES) or found.max(initial=0) == _ODD:
        return None
    words = found.astype(np.uint8).view(">u8")
    data = np.empty(len(texts), DTYPE)
    data["high"], data["low"] = words[:, 0], words[:, 1]
    return data


def of(values: Sequence[object]) -> NDArray[np.generic]:
    """Those that a driver gave as objects; zeros for whatever else stands there."""
    whole = b"".join([v.bytes if isinstance(v, uuid.UUID) else bytes(16) for v in values])
    words = np.frombuffer(whole, ">u8").reshape(-1, 2)
    data = np.empty(len(values), DTYPE)
    data["high"], data["low"] = words[:, 0], words[:, 1]
    return data


def halves(text: str) -> tuple[int, int] | None:
    """A UUID in any of its forms (with braces, without dashes, capital letters) as its two halves; None for others."""
    try:
        whole = uuid.UUID(text.strip()).int
    except ValueError:
        return None
    return whole >> 64, whole & (1 << 64) - 1


def write(data: Stored) -> NDArray[np.uint8]:
    """The characters of each and a zero byte, shape (len(data), SIZE + 1)."""
    held = np.stack([data["high"], data["low"]], axis=1).astype(">u8").view(np.uint8)
    written = np.empty((len(data), SIZE + 1), np.uint8)
    digits = _PAIRS.take(held).view(np.uint8)
    for start, end, at in _PARTS:
        written[:, start:end] = digits[:, at : at + end - start]
    for index in _DASHES:
        written[:, index] = ord("-")
    written[:, SIZE] = 0
    return written


def texts_of(data: NDArray[np.generic]) -> list[str]:
    """The 36 characters of each, as bytes: shape (n, 16) of uint8 gives n texts."""
    return write(data).tobytes().decode("ascii").split("\0")[:-1]


def compare(data: Stored, op: str, value: tuple[int, int]) -> NDArray[np.bool_]:
    """Which of them are =, <>, <, <=, > or >= one that is given by its halves."""
    high, low = np.uint64(value[0]), np.uint64(value[1])
    same = data["high"] == high
    less: NDArray[np.bool_]
    if op in ("=", "<>"):
        same &= data["low"] == low
        return np.asarray(same if op == "=" else ~same)
    less = data["high"] < high
    less |= same & ((data["low"] < low) if op in ("<", ">=") else (data["low"] <= low))
    return less if op in ("<", "<=") else ~less
