"""What a delivery remembers of its rows: counts and figures of each column, and digests of keys and rows, so that the
next one can be laid beside it. Kept for each pull in the state folder; no values but extremes and the most frequent."""

from __future__ import annotations

import datetime as dt
import hashlib
import json
import math
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, field
from pathlib import Path

import numpy as np

from nimble_otter.entry import Entry
from nimble_otter.files import locked, make_private, read_text, replacing, write_text
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table import Field, View
from nimble_otter.table.ops.digests import Digests, row_digests
from nimble_otter.table.ops.profile import profile
from nimble_otter.table.text.show import plain

FOLDER = "profiles"
KEPT = 60
"""Profiles that are kept of a pull."""
MOST_KEYED = 1_000_000
"""Rows up to which digests are kept: 16 bytes each, of the last delivery only."""
USUAL_FROM = 3
"""Deliveries from which on a figure has a usual range."""
_LONGEST = 200


@dataclass(frozen=True, slots=True)
class ColumnFigures:
    """Of a column as delivered: `numbers` are figures by name, for those that have any."""

    name: str
    kind: str
    empty: int = 0
    distinct: int = 0
    smallest: str = ""
    largest: str = ""
    numbers: Mapping[str, float] = field(default_factory=dict)
    frequent: tuple[tuple[str, int], ...] = ()


@dataclass(frozen=True, slots=True)
class DeliveryProfile:
    """Of a delivery: `key` names the columns that told rows apart."""

    at: str
    rows: int
    columns: tuple[ColumnFigures, ...] = ()
    key: tuple[str, ...] = ()

    @property
    def moment(self) -> dt.datetime:
        """When it was delivered."""
        return dt.datetime.fromisoformat(self.at)

    def figures(self) -> dict[str, float]:
        """Every figure by its name, such as "level_m lowest"."""
        found: dict[str, float] = {"rows": self.rows}
        for column in self.columns:
            share = column.empty / self.rows if self.rows else 0.0
            found[f"{column.name} NULL"] = share
            found[f"{column.name} distinct"] = column.distinct
            found |= {f"{column.name} {name}": value for name, value in column.numbers.items()}
        return found


@dataclass(frozen=True, slots=True, eq=False)
class Keyed:
    """Digests of keys and of whole rows, in the order of the keys."""

    keys: Digests
    rows: Digests


@dataclass(frozen=True, slots=True)
class Moved:
    """Rows beside those of the delivery before, told apart by key."""

    new: int
    gone: int
    changed: int


@dataclass(frozen=True, slots=True)
class Unusual:
    """A figure outside the range that it had in the deliveries before."""

    name: str
    value: float
    low: float
    high: float


@dataclass(frozen=True, slots=True)
class Beside:
    """A delivery beside those before it, the last of them first in `before`. `moved` is None where rows have no key or
    are too many; `appeared`, `went` and `other_kind` are names of columns."""

    now: DeliveryProfile
    before: tuple[DeliveryProfile, ...]
    moved: Moved | None = None
    appeared: tuple[str, ...] = ()
    went: tuple[str, ...] = ()
    other_kind: tuple[str, ...] = ()
    unusual: tuple[Unusual, ...] = ()


def profile_of(view: View, fields: Sequence[Field], key: Sequence[str], at: dt.datetime,
               stop: StopToken = NEVER) -> tuple[DeliveryProfile, Keyed | None]:  # fmt: skip
    """The profile of rows that are delivered, whose columns are called `fields`. Raises: Stopped."""
    columns = []
    for index, own in enumerate(fields):
        stop.check()
        found = profile(view, index, stop=stop)
        numbers = {}
        if found.mean is not None:
            pairs = [("lowest", found.smallest), ("highest", found.largest), ("mean", found.mean), ("sum", found.total),
                     ("lower quarter", found.low_quarter), ("median", found.median),
                     ("upper quarter", found.high_quarter)]  # fmt: skip
            numbers = {name: number for name, value in pairs if (number := _number(value)) is not None}
        frequent = tuple((_short(value), count) for value, count in found.frequent)
        columns.append(
            ColumnFigures(own.name, own.kind.value, found.empty, found.distinct, _short(found.smallest),
                          _short(found.largest), numbers, frequent)
        )  # fmt: skip
    names = [own.name for own in fields]
    places = [names.index(name) for name in key if name in names]
    made = DeliveryProfile(at.isoformat(timespec="seconds"), len(view), tuple(columns), tuple(names[p] for p in places))
    if not places or len(places) != len(key) or len(view) > MOST_KEYED:
        return made, None
    keys = row_digests(view, places, stop)
    order = np.argsort(keys, kind="stable")
    return made, Keyed(keys[order], row_digests(view, range(len(fields)), stop)[order])


def _number(value: object) -> float | None:
    try:
        number = float(value)  # type: ignore[arg-type]
    except (TypeError, ValueError, OverflowError):
        return None
    return number if math.isfinite(number) else None


def _short(value: object) -> str:
    return "" if value is None else plain(value)[:_LONGEST]


# --- kept ------------------------------------------------------------------------------------------------------------


def mark_of(name: str, url: str) -> str:
    """The name under which a pull's profiles are kept: of its name and the address of its source."""
    return hashlib.sha256(f"{name}\0{url}".encode()).hexdigest()[:24]


def load_profiles(folder: Path, mark: str) -> list[DeliveryProfile]:
    """Those of a pull, the newest first; what can't be read is passed over."""
    try:
        lines = read_text(folder / FOLDER / f"{mark}.jsonl").splitlines()
    except (OSError, UnicodeDecodeError):
        return []
    results = []
    for line in reversed(lines):
        try:
            results.append(_from_plain(Entry(json.loads(line))))
        except (ValueError, TypeError, KeyError, RecursionError):
            continue
    return results


def load_keyed(folder: Path, mark: str) -> Keyed | None:
    """The digests of a pull's last delivery; None where there are none."""
    return read_keyed(folder / FOLDER / f"{mark}.npz")


def read_keyed(path: Path) -> Keyed | None:
    """Digests in a file; None where there are none that can be read."""
    try:
        with np.load(path, allow_pickle=False) as kept:
            keys, rows = kept["keys"], kept["rows"]
    except (OSError, ValueError, KeyError, EOFError):
        return None
    return Keyed(keys, rows) if keys.dtype == rows.dtype == np.uint64 and keys.shape == rows.shape else None


def write_keyed(path: Path, made: Keyed) -> None:
    """Put digests into a file. Raises: OSError."""
    with replacing(path, is_private=True) as stream:
        np.savez(stream, keys=made.keys, rows=made.rows)


def keep_profile(folder: Path, mark: str, made: DeliveryProfile, keyed: Keyed | None) -> None:
    """Add a profile to a pull's. Raises: OSError."""
    own = folder / FOLDER
    make_private(own)
    path = own / f"{mark}.jsonl"
    with locked(path):
        kept = load_profiles(folder, mark)[: KEPT - 1]
        lines = [json.dumps(asdict(each), ensure_ascii=False) for each in (*reversed(kept), made)]
        write_text(path, "\n".join(lines) + "\n")
        digests = own / f"{mark}.npz"
        if keyed is None:
            digests.unlink(missing_ok=True)
            return
        write_keyed(digests, keyed)


def _from_plain(plain: Entry) -> DeliveryProfile:
    columns = []
    for c in plain.entries("columns"):
        numbers = c.entry("numbers")
        columns.append(ColumnFigures(
            c.text("name"), c.text("kind"), c.whole("empty"), c.whole("distinct"), c.text("smallest"),
            c.text("largest"), {name: numbers.number(name) for name in numbers},
            c.counts("frequent"),
        ))  # fmt: skip
    made = DeliveryProfile(plain.text("at"), plain.whole("rows"), tuple(columns), plain.texts("key"))
    assert made.moment
    return made


# --- beside each other -----------------------------------------------------------------------------------------------


def beside(now: DeliveryProfile, keyed: Keyed | None, before: Sequence[DeliveryProfile], last: Keyed | None) -> Beside:
    """A delivery beside those before it (the newest first), and beside the digests of the last."""
    if not before:
        return Beside(now, ())
    mine, theirs = ({c.name: c.kind for c in each.columns} for each in (now, before[0]))
    moved = None
    if keyed is not None and last is not None and now.key == before[0].key and len(last.keys) == before[0].rows:
        both, here, there = np.intersect1d(keyed.keys, last.keys, assume_unique=False, return_indices=True)
        same = keyed.rows[here] == last.rows[there]
        moved = Moved(len(keyed.keys) - len(both), len(last.keys) - len(both), int(np.count_nonzero(~same)))
    return Beside(
        now,
        tuple(before),
        moved,
        tuple(name for name in mine if name not in theirs),
        tuple(name for name in theirs if name not in mine),
        tuple(name for name, kind in mine.items() if theirs.get(name, kind) != kind),
        tuple(_unusual(now, before)),
    )


def usual(name: str, before: Sequence[DeliveryProfile]) -> tuple[float, float] | None:
    """The range that a figure had; None where it was not there often enough."""
    values = [value for each in before if (value := each.figures().get(name)) is not None]
    return (min(values), max(values)) if len(values) >= USUAL_FROM else None


def _unusual(now: DeliveryProfile, before: Sequence[DeliveryProfile]) -> list[Unusual]:
    results, past = [], [each.figures() for each in before]
    keys = tuple(f"{name} " for name in now.key)  # which only number the rows
    for name, value in now.figures().items():
        if name.startswith(keys):
            continue
        values = [own[name] for own in past if name in own]
        if len(values) < USUAL_FROM:
            continue
        low, high = min(values), max(values)
        room = max(high - low, abs(high) * 0.02, abs(low) * 0.02)  # a figure that hardly moved may move a little
        if value < low - room or value > high + room:
            results.append(Unusual(name, value, low, high))
    return results
