"""What grows while a column is built: an array that is added to at its end, and the codes of a column's texts."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import DTypeLike, NDArray

from nimble_otter.values import Stored


class GrowableArray:
    """An array that grows at its end. Rows once written never change, so slices of it may be handed out."""

    def __init__(self, dtype: DTypeLike, spare: int = 0) -> None:
        self._spare = spare
        self._array: NDArray[Any] = np.zeros(1024 + spare, dtype)
        self.size = 0

    def extend(self, more: NDArray[np.generic]) -> None:
        """Add values at the end; amortised O(1) a value."""
        need = self.size + len(more)
        if need + self._spare > len(self._array):
            wider: NDArray[Any] = np.zeros(max(need + self._spare, len(self._array) * 3 // 2), self._array.dtype)
            wider[: self.size] = self._array[: self.size]
            self._array = wider
        self._array[self.size : need] = more
        self.size = need

    def view(self, extra: int = 0) -> Stored:
        """What is there so far: a view, not a copy."""
        return self._array[: self.size + extra]


class Codes(dict[str, int]):
    """Gives each new text the next code."""

    def __init__(self) -> None:
        super().__init__()
        self.words: list[str] = []

    def __missing__(self, text: str) -> int:
        code = self[text] = len(self.words)
        self.words.append(text)
        return code
