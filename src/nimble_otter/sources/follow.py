"""From rows to the rows that they refer to, or that refer to them: along foreign keys, composite ones too; from
documents along fields that look like references."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from nimble_otter.sources.catalogue import ForeignKey, TableInfo
from nimble_otter.sources.source import Connection
from nimble_otter.sources.trace import Origin
from nimble_otter.table import MISSING, Table
from nimble_otter.table.text.text_format import render

MOST = 500
"""Different values that are followed at once; a request with more would be refused by some servers."""


@dataclass(frozen=True, slots=True)
class Link:
    """A way from a result to a table: rows of `table` whose `columns` hold what the result has at `places`."""

    table: str
    columns: tuple[str, ...]
    places: tuple[int, ...]
    key: ForeignKey
    is_up: bool
    """Whether the result's rows refer to `table` (else rows of `table` refer to them)."""


def find_links(origins: Sequence[Origin | None], tables: Sequence[TableInfo]) -> list[Link]:
    """Every way out of a result: what its rows refer to first, then what refers to them."""
    by_alias: dict[str, dict[str, int]] = {}
    names: dict[str, str] = {}
    for index, origin in enumerate(origins):
        if origin is not None:
            by_alias.setdefault(origin.alias, {}).setdefault(origin.column, index)
            names[origin.alias] = origin.table
    keys = [key for table in tables for key in table.foreign]
    up, down = [], []
    for alias, own in by_alias.items():
        for key in keys:
            if key.table == names[alias] and all(c in own for c in key.columns):
                up.append(Link(key.target, key.referred, tuple(own[c] for c in key.columns), key, True))
            if key.target == names[alias] and all(c in own for c in key.referred):
                down.append(Link(key.table, key.columns, tuple(own[c] for c in key.referred), key, False))
    found: dict[tuple[object, ...], Link] = {}
    for link in (*up, *down):
        found.setdefault((link.table, link.columns, link.is_up), link)
    return list(found.values())


@dataclass(frozen=True, slots=True)
class Reference:
    """A field of documents that may refer to another collection: by its name, or by holding ids. `targets` are the
    collections it may mean, the likeliest first; which of them is for the user to say."""

    field: str
    place: int
    targets: tuple[str, ...]


def find_references(
    names: Sequence[str], values: Sequence[object], own: str, collections: Sequence[str]
) -> list[Reference]:
    """Fields of one document (`names` with its `values`) that are named or shaped like a reference."""
    others = [name for name in collections if name != own]
    results = []
    for index, (name, value) in enumerate(zip(names, values, strict=True)):
        if name == "_id" or value is None or value is MISSING:
            continue
        stem = re.sub(r"[_.]?(id|ids|ref)$", "", name.casefold())
        named = [c for c in others if stem and c.casefold() in (stem, f"{stem}s", stem.removesuffix("s"))]
        is_id = type(value).__name__ == "ObjectId"
        scalar = not isinstance(value, (dict, list, bool, float))
        if scalar and (is_id or named):
            results.append(Reference(name, index, tuple(named + [c for c in others if c not in named and is_id])))
    return results


def reference_query(values: Sequence[object]) -> str:
    """The native request for the documents with these ids, in MongoDB's extended JSON."""
    from bson import json_util

    wanted = list(values)[:MOST]
    return str(json_util.dumps({"_id": {"$in": wanted}}, json_options=json_util.RELAXED_JSON_OPTIONS, indent=1))


def values_of(link: Link, table: Table, rows: Sequence[int]) -> list[tuple[object, ...]]:
    """The different values that rows have for a link, as the source stores them; rows without a value have none."""
    columns = [table.columns[place] for place in link.places]
    forms = [table.fields[place].form for place in link.places]
    found: dict[tuple[Any, ...], None] = {}
    for row in rows:
        values = tuple(render(c.value(row), form) for c, form in zip(columns, forms, strict=True))
        if all(v is not None and v is not MISSING for v in values):
            found[values] = None
    return list(found)


def follow_query(
    connection: Connection, link: Link, values: Sequence[tuple[object, ...]], count: bool = False
) -> tuple[str, Mapping[str, object]]:
    """(query text, parameters) of the rows at the other end, or of how many they are. At most MOST values are used."""
    parameters: dict[str, Any] = {}
    names = [connection.quoted(column) for column in link.columns]
    wanted = values[:MOST]

    def mark(column: str, number: int, value: object) -> str:
        name = "".join(c if c.isalnum() and c.isascii() else "_" for c in column)
        name = (name if name[:1].isalpha() else f"p_{name}") + (f"_{number + 1}" if len(wanted) > 1 else "")
        parameters[name] = value
        return f":{name}"

    if len(names) == 1:
        marks = [mark(link.columns[0], n, v[0]) for n, v in enumerate(wanted)]
        condition = f"{names[0]} = {marks[0]}" if len(marks) == 1 else f"{names[0]} in ({', '.join(marks)})"
    else:
        condition = "\n   or ".join(
            "(" + " and ".join(f"{q} = {mark(c, n, v)}" for q, c, v in zip(names, link.columns, row, strict=True)) + ")"
            for n, row in enumerate(wanted)
        )
    what = "count(*) as n" if count else "*"
    return f"select {what}\nfrom {connection.quoted(link.table)}\nwhere {condition}\n", parameters
