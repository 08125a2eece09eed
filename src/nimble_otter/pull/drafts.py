"""Drafts: unsaved pulls and pending edits, written as one works, so that a crash loses nothing.

Edits are kept by key, not by row id, with the values seen: after a restart the rows are fetched again and the edits
find their rows; what someone else changed meanwhile shows as a conflict when it is written.
"""

from __future__ import annotations

import base64
import datetime as dt
import json
from collections.abc import Hashable, Mapping
from dataclasses import dataclass, field
from decimal import Decimal
from pathlib import Path
from typing import Any

from nimble_otter.changes.alike import identical
from nimble_otter.changes.edits import DEFAULT, Edits
from nimble_otter.changes.target import Target
from nimble_otter.errors import CorruptError
from nimble_otter.files import read_text, set_aside, write_text
from nimble_otter.table import MISSING, Table
from nimble_otter.translation import tr
from nimble_otter.values import Value

VERSION = 1
_UNSEEN = object()


@dataclass(frozen=True, slots=True)
class EditDraft:
    """Pending edits without row ids: rows by key values, columns by name. `old` are the values seen."""

    cells: tuple[tuple[tuple[Any, ...], dict[str, Any], dict[str, Any]], ...] = ()
    deleted: tuple[tuple[Any, ...], ...] = ()
    added: tuple[dict[str, Any], ...] = ()

    @property
    def count(self) -> int:
        """How many cells and rows are changed."""
        return len({*(as_name(key) for key, _, _ in self.cells), *map(as_name, self.deleted)}) + len(self.added)

    @property
    def names(self) -> set[str]:
        """The columns that have edits."""
        return {name for _, new, _ in self.cells for name in new} | {name for new in self.added for name in new}

    def over(self, older: EditDraft | None) -> EditDraft:
        """Both; where they speak of one cell this one, with the value that was seen first."""
        if older is None:
            return self
        cells = {as_name(key): (key, dict(new), dict(old)) for key, new, old in older.cells}
        for key, new, old in self.cells:
            known = cells.get(as_name(key))
            cells[as_name(key)] = (key, {**(known[1] if known else {}), **new}, {**old, **(known[2] if known else {})})
        deleted = {as_name(key): key for key in (*older.deleted, *self.deleted)}
        return EditDraft(tuple(cells.values()), tuple(deleted.values()), older.added + self.added)

    def without(self, done: EditDraft, keys: Mapping[Hashable, tuple[object, ...]]) -> EditDraft:
        """What is left when `done` was written: what was changed since stays, on rows whose keys are others now by the
        new ones (`keys`, by name of the old one). What was taken back since is not taken back."""
        written = {as_name(key): new for key, new, _ in done.cells}
        cells = []
        for key, new, old in self.cells:
            name = as_name(key)
            own = written.get(name, {})
            left = {n: v for n, v in new.items() if n not in own or not same_value(own[n], v)}
            if left:
                cells.append((keys.get(name, key), left, {n: own.get(n, old.get(n)) for n in left}))
        gone = {as_name(key) for key in done.deleted}
        rest = list(done.added)
        added = []
        for values in self.added:
            at = next((n for n, one in enumerate(rest) if same_value(one, values)), None)
            if at is None:
                added.append(values)
            else:
                rest.pop(at)
        deleted = tuple(keys.get(as_name(key), key) for key in self.deleted if as_name(key) not in gone)
        return EditDraft(tuple(cells), deleted, tuple(added))


def as_name(key: tuple[object, ...]) -> Hashable:
    """A key as it can be looked up by; one may hold lists."""
    try:
        hash(key)
    except TypeError:
        return tuple(map(repr, key))
    return key


def same_value(a: object, b: object) -> bool:
    """Whether two values are the same in type and value, NaN included."""
    if isinstance(a, Mapping) and isinstance(b, Mapping):
        return a.keys() == b.keys() and all(same_value(a[name], b[name]) for name in a)
    return identical(a, b)


@dataclass(frozen=True, slots=True)
class Draft:
    """One open pull: its text as a pull file, where it was saved, and what is pending. `uid` tells it from every other
    one, whatever it is called."""

    pull_text: str
    path: str = ""
    saved_text: str = ""
    edits: EditDraft = field(default_factory=EditDraft)
    uid: str = ""


def detach(edits: Edits, table: Table, target: Target) -> EditDraft:
    """Pending edits as a draft."""

    rows = [row for row in (*edits.cells, *edits.deleted) if not edits.is_new(row)]
    places = {place for row in edits.cells for place in edits.cells[row]}
    keys = [target.values(table, place, rows) for place, _ in target.keys]
    held = {place: target.values(table, place, rows) for place in places}

    def key(row: int) -> tuple[object, ...]:
        return tuple(values[row] for values in keys)

    def seen(row: int, place: int) -> Value:
        found = edits.seen.get((row, place), _UNSEEN)
        return held[place][row] if found is _UNSEEN else found

    names = [column.name for column in table.fields]
    cells = []
    for row in (r for r in edits.cells if not edits.is_new(r)):
        new = {names[p]: v for p, v in edits.cells[row].items()}
        cells.append((key(row), new, {names[p]: seen(row, p) for p in edits.cells[row]}))
    added = tuple({names[p]: v for p, v in edits.cells.get(row, {}).items()} for row in edits.added)
    return EditDraft(tuple(cells), tuple(key(row) for row in edits.deleted), added)


def attach(draft: EditDraft, table: Table, target: Target) -> tuple[Edits, EditDraft]:
    """Edits on freshly fetched rows, and those whose rows or columns are not among them."""
    edits = Edits(table.rows)
    lost: list[tuple[tuple[Any, ...], dict[str, Any], dict[str, Any]]] = []
    lost_deletes = []
    wanted = {as_name(key) for key, _, _ in draft.cells} | set(map(as_name, draft.deleted))
    rows: dict[Hashable, int] = {}
    if wanted and target.is_open:
        keys = zip(*(target.held(table, index).values() for index, _ in target.keys), strict=True)
        rows = {name: row for row, key in enumerate(keys) if (name := as_name(key)) in wanted}
    indices = [rows[name] for key, _, _ in draft.cells if (name := as_name(key)) in rows]
    here = {f.name for f in table.fields}
    held = {name: target.values(table, table.index(name), indices) for name in draft.names & here}
    for key, new, old in draft.cells:
        row = rows.get(as_name(key))
        if row is None:
            lost.append((key, new, old))
            continue
        if not new.keys() <= here:
            gone = new.keys() - here
            lost.append((key, {n: new[n] for n in gone}, {n: v for n, v in old.items() if n in gone}))
        for name, value in ((n, v) for n, v in new.items() if n in here):
            index = table.index(name)
            edits.cells.setdefault(row, {})[index] = value
            now = held[name][row]
            if not same_value(old.get(name), None if now is MISSING else now):
                edits.seen[row, index] = old.get(name)
    for key in draft.deleted:
        if as_name(key) in rows:
            edits.deleted[rows[as_name(key)]] = None
        else:
            lost_deletes.append(key)
    fits = [target.is_open and values.keys() <= here for values in draft.added]
    whole = [values for values, fit in zip(draft.added, fits, strict=True) if fit]
    for row, values in zip(edits.new_ids(len(whole)), whole, strict=True):
        edits.added[row] = -1
        if values:
            edits.cells[row] = {table.index(name): value for name, value in values.items()}
    left = tuple(values for values, fit in zip(draft.added, fits, strict=True) if not fit)
    return edits, EditDraft(tuple(lost), tuple(lost_deletes), left)


def save_draft(folder: Path, name: str, draft: Draft) -> None:
    """Write one draft; quick enough to be called after every edit."""
    whole = {
        "version": VERSION, "uid": draft.uid, "pull": draft.pull_text, "path": draft.path, "saved": draft.saved_text,
        "edits": edits_out(draft.edits),
    }  # fmt: skip
    write_text(
        folder / f"{name}.json", json.dumps(whole, ensure_ascii=True, indent=1 if draft.edits.count < 1000 else None)
    )


def edits_out(edits: EditDraft) -> dict[str, object]:
    """As JSON."""
    return {
        "cells": [[plain_out(k), plain_out(new), plain_out(old)] for k, new, old in edits.cells],
        "deleted": [plain_out(key) for key in edits.deleted],
        "added": [plain_out(values) for values in edits.added],
    }


def edits_in(edits: Mapping[str, Value]) -> EditDraft:
    """Raises: KeyError, TypeError, ValueError, AttributeError for what is not such JSON."""
    return EditDraft(
        tuple((tuple(plain_in(k)), plain_in(new), plain_in(old)) for k, new, old in edits["cells"]),
        tuple(tuple(plain_in(key)) for key in edits["deleted"]),
        tuple(plain_in(values) for values in edits["added"]),
    )


def load_draft(path: Path) -> Draft:
    """Raises: CorruptError; the file is set aside, not deleted."""
    try:
        whole = json.loads(read_text(path))
        if not all(isinstance(whole[name], str) for name in ("pull", "path", "saved")):
            raise TypeError(tr("not a text"))
        edits = edits_in(whole["edits"])
        return Draft(whole["pull"], whole["path"], whole["saved"], edits, str(whole.get("uid", "")))
    except (
        OSError,
        ValueError,
        KeyError,
        TypeError,
        AttributeError,
        ArithmeticError,
        StopIteration,
        RecursionError,
    ) as problem:
        aside = set_aside(path)
        raise CorruptError(
            tr("A draft was damaged; it is kept as {aside_name}.", aside_name=aside.name),
            tr("It is in {parent}.", parent=aside.parent),
        ) from problem


def drop_draft(folder: Path, name: str) -> None:
    """Remove a draft's file, if there is one."""
    (folder / f"{name}.json").unlink(missing_ok=True)


def plain_out(value: object) -> object:
    """JSON that keeps the types JSON has not."""
    if isinstance(value, Mapping):
        return {"map": {str(k): plain_out(v) for k, v in value.items()}}
    if isinstance(value, (list, tuple)):
        return [plain_out(item) for item in value]
    if value is MISSING or value is DEFAULT:
        return {"missing" if value is MISSING else "default": True}
    if type(value).__module__.partition(".")[0] == "bson":
        from bson import json_util

        return {"bson": json_util.dumps(value, json_options=json_util.CANONICAL_JSON_OPTIONS)}
    for kind, (name, write, _) in _TYPES.items():
        if type(value) is kind:
            return {name: write(value)}
    return value if value is None or isinstance(value, (bool, int, str)) else {"text": str(value)}


def plain_in(value: object) -> Value:
    """The value of what `plain_out` made."""
    if isinstance(value, list):
        return [plain_in(item) for item in value]
    if not isinstance(value, dict):
        return value
    name, inner = next(iter(value.items()))
    if name == "map":
        return {key: plain_in(item) for key, item in inner.items()}
    if name == "missing":
        return MISSING
    if name == "default":
        return DEFAULT
    if name == "bson":
        from bson import json_util

        return json_util.loads(inner, json_options=json_util.CANONICAL_JSON_OPTIONS)
    return next((read(inner) for known, _, read in _TYPES.values() if known == name), inner)


_TYPES: dict[type, tuple[str, Any, Any]] = {
    dt.datetime: ("time", dt.datetime.isoformat, dt.datetime.fromisoformat),
    dt.date: ("date", dt.date.isoformat, dt.date.fromisoformat),
    dt.time: ("clock", dt.time.isoformat, dt.time.fromisoformat),
    dt.timedelta: ("span", lambda v: v // dt.timedelta(microseconds=1), lambda v: dt.timedelta(microseconds=v)),
    Decimal: ("decimal", str, Decimal),
    float: ("float", repr, float),
    bytes: ("bytes", lambda v: base64.b64encode(v).decode(), base64.b64decode),
}
