"""Where the values of a column stand among the bytes of a batch."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from nimble_otter.table.core.columns import Mask
from nimble_otter.table.core.parts import given
from nimble_otter.values import Stored, Value


@dataclass(frozen=True, slots=True)
class Cells:
    """The values of one column in one batch: where each begins in `buffer` (with eight bytes more behind the last) and
    how many bytes it has; `empty` where it is NULL. `even`: the first begin and the distance from each to the next,
    where that is the same for all."""

    buffer: NDArray[np.uint8]
    starts: NDArray[np.int64]
    sizes: NDArray[np.int64]
    empty: Mask | None
    even: tuple[int, int] | None = None

    def numbers(self, dtype: str, at: int = 0) -> Stored:
        """The number that stands at the `at`-th byte of each value, as a number of this machine; 0 for NULL."""
        size = np.dtype(dtype).itemsize
        if self.even is not None:
            begin, step = self.even
            return np.ndarray((len(self.starts),), dtype, self.buffer, begin + at, (step,)).astype(dtype[1:])
        windows = np.ndarray((len(self.buffer) - size + 1,), dtype, self.buffer, 0, (1,))
        found = windows[np.minimum(self.starts + at, len(windows) - 1)].astype(dtype[1:])
        if self.empty is not None:
            found[self.empty] = 0
        return found

    def raw(self) -> list[Value]:
        """The bytes of each value, None for NULL."""
        held, ends = self.buffer.tobytes(), (self.starts + self.sizes).tolist()
        return given([held[a:b] for a, b in zip(self.starts.tolist(), ends, strict=True)], self.empty)
