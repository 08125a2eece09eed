"""Numbers of single precision as they are shown: by the shortest decimal that means the same one, which is what servers
write, and what is kept."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

_DIGITS = 9
"""So many tell every number of single precision from the next (IEEE 754-2008, 5.12.2)."""
_EXACT = 22
"""Powers of ten up to it are exact as doubles, so that one division gives the double nearest to a decimal."""
_POWERS = 10.0 ** np.arange(_EXACT + 1)


def as_shown(values: NDArray[np.float32]) -> NDArray[np.float64]:
    """The doubles nearest to the shortest decimals of `values` (any length; NaN and infinity as they are)."""
    with np.errstate(invalid="ignore", over="ignore"):  # of NaN, and of decimals beyond the largest number
        return _shown(values)


def _shown(values: NDArray[np.float32]) -> NDArray[np.float64]:
    data = values.astype(np.float64)
    whole = data == np.rint(data)
    left = np.flatnonzero(np.isfinite(data) & ~(whole & (np.abs(data) < 1e6)))  # small whole numbers are their own
    exponents = np.floor(np.log10(np.abs(data[left]))).astype(np.int64)
    is_far = (exponents < _DIGITS - 1 - _EXACT) | (exponents > _EXACT)
    far = left[is_far]
    data[far] = values[far].astype("U").astype(np.float64)
    left, exponents = left[~is_far], exponents[~is_far]
    for digits in range(1, _DIGITS + 1):
        power = digits - 1 - exponents
        up, down = _POWERS[np.clip(power, 0, _EXACT)], _POWERS[np.clip(-power, 0, _EXACT)]
        exact = values[left].astype(np.float64)
        short = np.rint(exact * up / down) * down / up
        is_same = short.astype(np.float32) == values[left]
        data[left[is_same]] = short[is_same]
        left, exponents = left[~is_same], exponents[~is_same]
    return data
