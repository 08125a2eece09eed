"""Lists in PostgreSQL's binary format (`array_send` of its arrayfuncs.c): the dimensions, whether a value is NULL and
the type, 4 bytes each; for each dimension its size and where it begins; then the values, each behind its size."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from nimble_otter.sources.binary_cells import Cells
from nimble_otter.table.core.columns import TEXT_BYTES
from nimble_otter.table.core.parts import given
from nimble_otter.values import Value

_MANY = 64
"""Values of a list above which it is read by itself."""
_PLAIN = re.compile(r"(?!null$)[^ \t\n\r\v\f{},\"\\]+", re.I)
Take = Callable[[Cells], list[Any]]


def of_numbers(dtype: str) -> Callable[[Cells], list[Value]]:
    """What reads lists of whole numbers."""
    return lambda cells: _lists(cells, lambda inner: given(inner.numbers(dtype).tolist(), inner.empty))


def of_texts(cells: Cells) -> list[Value]:
    """Lists of texts."""
    return _lists(cells, lambda inner: [None if v is None else v.decode(*TEXT_BYTES) for v in inner.raw()])


def _lists(cells: Cells, take: Take) -> list[Value]:
    """Python's lists; one of several dimensions holds lists, one that does not begin at 1 is the server's text."""
    dimensions, counts, begins = (cells.numbers(">i4", at).astype(np.int64) for at in (0, 12, 16))
    held = np.ones(len(counts), np.bool_) if cells.empty is None else ~cells.empty
    is_plain = held & (dimensions == 1) & (begins == 1) & (counts <= _MANY)
    counts = np.where(is_plain, counts, 0)
    ends = np.cumsum(counts)
    flat = take(_values(cells, counts, ends - counts))
    lists: list[Any] = [flat[a:b] for a, b in zip((ends - counts).tolist(), ends.tolist(), strict=True)]
    for row in np.flatnonzero(held & ~is_plain & (dimensions != 0)).tolist():
        lists[row] = _one(cells, row, int(dimensions[row]), take)
    return given(lists, cells.empty)


def _values(cells: Cells, counts: NDArray[np.int64], begins: NDArray[np.int64]) -> Cells:
    """The values of all lists, one list after the other: the first of each, then the second of each, and so on."""
    total = int(counts.sum())
    starts, sizes = np.zeros(total, np.int64), np.zeros(total, np.int64)
    sizes_at = np.ndarray((len(cells.buffer) - 3,), ">i4", cells.buffer, 0, (1,))
    rows = np.flatnonzero(counts)
    at = cells.starts + 20
    for index in range(int(counts.max(initial=0))):
        rows = rows[counts[rows] > index]
        here = at[rows]
        size = sizes_at[here].astype(np.int64)
        starts[begins[rows] + index], sizes[begins[rows] + index] = here + 4, size
        at[rows] = here + 4 + np.maximum(size, 0)
    return _cells(cells, starts, sizes)


def _cells(cells: Cells, starts: NDArray[np.int64], sizes: NDArray[np.int64]) -> Cells:
    empty = sizes < 0
    return Cells(cells.buffer, starts, np.maximum(sizes, 0), empty if empty.any() else None)


def _one(cells: Cells, row: int, dimensions: int, take: Take) -> Value:
    """One list of any form."""
    raw = cells.buffer[cells.starts[row] :][: cells.sizes[row]]
    head = np.frombuffer(raw[: 12 + 8 * dimensions].tobytes(), ">i4").tolist()
    sizes, begins = head[3::2], head[4::2]
    starts, widths, at, data = [], [], 12 + 8 * dimensions, raw.tobytes()
    while at < len(data):
        width = int.from_bytes(data[at : at + 4], "big", signed=True)
        starts.append(at + 4)
        widths.append(width)
        at += 4 + max(width, 0)
    base = int(cells.starts[row])
    results = take(_cells(cells, np.array(starts, np.int64) + base, np.array(widths, np.int64)))
    for size in reversed(sizes[1:]):
        results = [results[n : n + size] for n in range(0, len(results), size)]
    if all(begin == 1 for begin in begins):
        return results
    bounds = "".join(f"[{begin}:{begin + size - 1}]" for begin, size in zip(begins, sizes, strict=True))
    return f"{bounds}={_written(results)}"


def _written(values: list[Value]) -> str:
    """A list as the server writes it (`array_out`)."""
    lines = []
    for value in values:
        if isinstance(value, list):
            lines.append(_written(value))
        elif value is None or isinstance(value, int):
            lines.append("NULL" if value is None else str(value))
        else:
            lines.append(value if _PLAIN.fullmatch(value) else '"' + re.sub(r'(["\\\\])', r"\\\1", value) + '"')
    return f"{{{','.join(lines)}}}"
