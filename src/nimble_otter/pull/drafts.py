"""Drafts: unsaved pulls and pending edits, written as one works, so that a crash loses nothing.

Edits are kept by key, not by row id, with the values seen: after a restart the rows are fetched again and the edits
find their rows; what someone else changed meanwhile shows as a conflict when it is written.
"""

from __future__ import annotations

import base64
import datetime as dt
import json
from collections.abc import Mapping
from dataclasses import dataclass, field
from decimal import Decimal
from pathlib import Path
from typing import Any

from nimble_otter.changes.edits import DEFAULT, Edits
from nimble_otter.changes.target import Target
from nimble_otter.errors import CorruptError
from nimble_otter.files import set_aside, write_text
from nimble_otter.table import MISSING, Table

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
        return len({*(key for key, _, _ in self.cells), *self.deleted}) + len(self.added)

    @property
    def names(self) -> set[str]:
        """The columns that have edits."""
        return {name for _, new, _ in self.cells for name in new} | {name for new in self.added for name in new}

    def __add__(self, other: EditDraft) -> EditDraft:
        return EditDraft(self.cells + other.cells, self.deleted + other.deleted, self.added + other.added)


@dataclass(frozen=True, slots=True)
class Draft:
    """One open pull: its text as a pull file, where it was saved, and what is pending."""

    pull_text: str
    path: str = ""
    saved_text: str = ""
    edits: EditDraft = field(default_factory=EditDraft)


def detach(edits: Edits, table: Table, target: Target) -> EditDraft:
    """Pending edits as a draft."""

    rows = [row for row in (*edits.cells, *edits.deleted) if not edits.is_new(row)]
    places = {place for row in edits.cells for place in edits.cells[row]}
    keys = [target.values(table, place, rows) for place, _ in target.keys]
    held = {place: target.values(table, place, rows) for place in places}

    def key(row: int) -> tuple[Any, ...]:
        return tuple(values[row] for values in keys)

    def seen(row: int, place: int) -> Any:
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
    wanted = {key for key, _, _ in draft.cells} | set(draft.deleted)
    rows: dict[tuple[Any, ...], int] = {}
    if wanted and target.is_open:
        keys = zip(*(target.held(table, place).values() for place, _ in target.keys), strict=True)
        rows = {key: row for row, key in enumerate(keys) if key in wanted}
    found = [rows[key] for key, _, _ in draft.cells if key in rows]
    here = {f.name for f in table.fields}
    held = {name: target.values(table, table.index(name), found) for name in draft.names & here}
    for key, new, old in draft.cells:
        row = rows.get(key)
        if row is None:
            lost.append((key, new, old))
            continue
        if not new.keys() <= here:
            gone = new.keys() - here
            lost.append((key, {n: new[n] for n in gone}, {n: v for n, v in old.items() if n in gone}))
        for name, value in ((n, v) for n, v in new.items() if n in here):
            place = table.index(name)
            edits.cells.setdefault(row, {})[place] = value
            now = held[name][row]
            if old.get(name) != (None if now is MISSING else now):
                edits.seen[row, place] = old.get(name)
    for key in draft.deleted:
        if key in rows:
            edits.deleted[rows[key]] = None
        else:
            lost_deletes.append(key)
    whole = [values for values in draft.added if values.keys() <= here]
    for row, values in zip(edits.new_ids(len(whole)), whole, strict=True):
        edits.added[row] = -1
        if values:
            edits.cells[row] = {table.index(name): value for name, value in values.items()}
    return edits, EditDraft(tuple(lost), tuple(lost_deletes), tuple(v for v in draft.added if not v.keys() <= here))


def save_draft(folder: Path, name: str, draft: Draft) -> None:
    """Write one draft; quick enough to be called after every edit."""
    edits = {
        "cells": [[plain_out(k), plain_out(new), plain_out(old)] for k, new, old in draft.edits.cells],
        "deleted": [plain_out(key) for key in draft.edits.deleted],
        "added": [plain_out(values) for values in draft.edits.added],
    }
    whole = {"version": VERSION, "pull": draft.pull_text, "path": draft.path, "saved": draft.saved_text, "edits": edits}
    write_text(
        folder / f"{name}.json", json.dumps(whole, ensure_ascii=True, indent=1 if draft.edits.count < 1000 else None)
    )


def load_draft(path: Path) -> Draft:
    """Raises: CorruptError; the file is set aside, not deleted."""
    try:
        whole = json.loads(path.read_text("utf-8"))
        edits = whole["edits"]
        return Draft(
            whole["pull"],
            whole["path"],
            whole["saved"],
            EditDraft(
                tuple((tuple(plain_in(k)), plain_in(new), plain_in(old)) for k, new, old in edits["cells"]),
                tuple(tuple(plain_in(key)) for key in edits["deleted"]),
                tuple(plain_in(values) for values in edits["added"]),
            ),
        )
    except (OSError, ValueError, KeyError, TypeError):
        aside = set_aside(path)
        raise CorruptError(f"A draft was damaged; it is kept as {aside.name}.", f"It is in {aside.parent}.") from None


def drop_draft(folder: Path, name: str) -> None:
    (folder / f"{name}.json").unlink(missing_ok=True)


def plain_out(value: Any) -> Any:
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


def plain_in(value: Any) -> Any:
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
