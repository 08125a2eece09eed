"""Delivering rows once: those whose key was not delivered before by a schedule, and, if asked, those that changed.

What was delivered is known by digests of keys and rows. They are moved only when a delivery has arrived: before it an
intent is noted, with the state of the file that it will change, so that the run after a crash can tell what became."""

from __future__ import annotations

import json
import os
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from nimble_otter.errors import ConditionError, SavedError
from nimble_otter.files import make_private, read_text, write_text
from nimble_otter.pull.growing import High
from nimble_otter.pull.profiles import Keyed, read_keyed, write_keyed
from nimble_otter.pull.shaped import Shaped
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table import View
from nimble_otter.table.ops.digests import row_digests
from nimble_otter.translation import tr

NOTHING = Keyed(np.zeros(0, np.uint64), np.zeros(0, np.uint64))


class Marks:
    """What a schedule has delivered to one target, in a folder of the schedule. One run at a time."""

    def __init__(self, folder: Path, target: str) -> None:
        import hashlib

        name = hashlib.sha256(target.encode()).hexdigest()[:16]
        self._kept, self._next = folder / f"{name}.npz", folder / f"{name}.next.npz"
        self._intent = folder / f"{name}.intent"
        self._high, self._next_high = folder / f"{name}.high", folder / f"{name}.next.high"

    def load(self) -> Keyed:
        """What was delivered so far, after a look at what a run that was cut off left behind. Raises: OSError;
        SavedError, where it can't be read: rows would be delivered twice."""
        self._settle()
        if not self._kept.exists():
            return NOTHING
        keyed = read_keyed(self._kept)
        if keyed is None:
            raise SavedError(
                tr("What was delivered before can't be read: {kept} is damaged.", kept=self._kept),
                tr("Reset the schedule's marks to deliver all rows again."),
            )
        return keyed

    def high(self) -> High | None:
        """The highest value that was read of a column that grows. Raises: OSError."""
        self._settle()
        try:
            return High.from_text(read_text(self._high))
        except FileNotFoundError:
            return None

    def intend(self, after: Keyed, path: Path | None, high: High | None = None) -> None:
        """What will have been delivered, and up to where, once the file at `path` has changed (None: not a file).
        Raises: OSError."""
        make_private(self._kept.parent)
        write_keyed(self._next, after)
        if high is not None:
            write_text(self._next_high, high.to_text())
        write_text(self._intent, json.dumps({"path": str(path) if path is not None else "", "before": state_of(path)}))

    def arrived(self) -> None:
        """It has arrived. Raises: OSError."""
        os.replace(self._next, self._kept)
        with suppress(FileNotFoundError):
            os.replace(self._next_high, self._high)
        self._intent.unlink(missing_ok=True)

    def failed(self) -> None:
        """Nothing of it arrived. Raises: OSError."""
        for path in (self._intent, self._next, self._next_high):
            path.unlink(missing_ok=True)

    def forget(self) -> None:
        """Everything counts as new again. Raises: OSError."""
        for path in (self._intent, self._next, self._kept, self._high, self._next_high):
            path.unlink(missing_ok=True)

    def set_back(self, high: High) -> None:
        """What comes from a value on counts as new again. Raises: OSError."""
        self.forget()
        write_text(self._high, high.to_text())

    def _settle(self) -> None:
        try:
            plain = json.loads(read_text(self._intent))
            path, before = str(plain["path"]), str(plain["before"])
        except FileNotFoundError:
            return
        except (ValueError, KeyError, TypeError):
            self.failed()  # written whole or not at all: not by us
            return
        has_changed = bool(path) and state_of(Path(path)) != before
        if has_changed and self._next.exists():
            self.arrived()
        else:
            self.failed()


def state_of(path: Path | None) -> str:
    """What tells whether a file was replaced since: every delivery puts another file in its place."""
    if path is None:
        return ""
    try:
        status = path.stat()
    except OSError:
        return "none"
    return f"{status.st_ino} {status.st_size} {status.st_mtime_ns}"


def only_new(
    shaped: Shaped, key: Sequence[str], before: Keyed, changed_too: bool = False, stop: StopToken = NEVER
) -> tuple[Shaped, Keyed]:
    """The rows that were not delivered before, and what will have been once they are. A key that occurs twice among
    them is delivered once. Raises: ConditionError, where the key has no columns here; Stopped."""
    if shaped.grouped is not None:
        raise ConditionError(
            tr("Only new rows can't be told among groups."), tr("Remove the Group step, or deliver all rows.")
        )
    if not key:
        raise ConditionError(
            tr("Nothing tells rows apart that were delivered."), tr("Name the key: columns that are unique.")
        )
    names = {shaped.title(place): place for place in shaped.shown()}
    if missing := [name for name in key if name not in names]:
        raise ConditionError(
            tr("The key column {missing} is not delivered.", missing=missing[0]),
            tr("There are {names}.", names=", ".join(names)),
        )
    keys = row_digests(shaped.view, [names[name] for name in key], stop)
    rows = row_digests(shaped.view, shaped.shown(), stop)
    place = np.searchsorted(before.keys, keys)
    inside = np.minimum(place, max(0, len(before.keys) - 1))
    known: NDArray[np.bool_] = (before.keys.take(inside) == keys) if len(before.keys) else np.zeros(len(keys), np.bool_)
    wanted = ~known
    if changed_too and len(before.keys):
        wanted |= known & (before.rows.take(inside) != rows)
    _, first = np.unique(keys, return_index=True)
    once = np.zeros(len(keys), np.bool_)
    once[first] = True
    chosen = np.flatnonzero(wanted & once)
    merged = np.concatenate([keys[chosen], before.keys])
    merged_rows = np.concatenate([rows[chosen], before.rows])
    unique, at = np.unique(merged, return_index=True)  # the first, which is the newer one
    view = View(shaped.view.table, shaped.view.row_ids().take(chosen))
    return replace(shaped, view=view), Keyed(unique, merged_rows[at])
