"""How Python's memory is kept for work on many rows."""

from __future__ import annotations

import gc


def settle() -> None:
    """Search more rarely for reference cycles, and no more among what was made so far: rows make none, while the
    searches cost a sixth of a pull and hold all threads. Called once, when the process has started."""
    gc.collect()
    gc.freeze()
    gc.set_threshold(50_000, 20, 20)
