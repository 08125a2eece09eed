"""How Python's memory is kept for work on many rows, and how much of it this program may hold."""

from __future__ import annotations

import gc
import os
from contextlib import suppress

SHARE = 0.75
"""Of the machine's memory, that the program may hold where nothing else is set."""
_PAGE = os.sysconf("SC_PAGE_SIZE")


def settle() -> None:
    """Search more rarely for reference cycles, and no more among what was made so far: rows make none, while the
    searches cost a sixth of a pull and hold all threads. Called once, when the process has started."""
    gc.collect()
    gc.freeze()
    gc.set_threshold(50_000, 20, 20)


def machine() -> int:
    """Bytes of the memory that this process may have: the machine's, or those of its control group (cgroup v2)."""
    whole = os.sysconf("SC_PHYS_PAGES") * _PAGE
    with suppress(OSError, ValueError), open("/sys/fs/cgroup/memory.max") as told:
        whole = min(whole, int(told.read()))  # "max" where there is no limit
    return whole


def resident() -> int:
    """Bytes of memory that this process holds now (proc(5)); 0 where that is not told."""
    try:
        with open("/proc/self/statm", "rb") as told:
            return int(told.read().split()[1]) * _PAGE
    except (OSError, ValueError, IndexError):
        return 0


class MemoryLimit:
    """The limit of this process. Whoever takes in rows asks it as they come, and ends where there is no room."""

    def __init__(self) -> None:
        self._bytes = 0

    def set(self, megabytes: int) -> None:
        """0: three quarters of the machine's."""
        self._bytes = megabytes << 20

    @property
    def bytes(self) -> int:
        """How much may be held."""
        return self._bytes or int(machine() * SHARE)

    def is_reached(self) -> bool:
        """Whether that much is held now."""
        return resident() > self.bytes


LIMIT = MemoryLimit()
