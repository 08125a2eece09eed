"""Finding the shapes of a collection's documents from a sample: like field sets are one shape, by presence."""

from __future__ import annotations

import datetime as dt
from collections import Counter, defaultdict
from collections.abc import Iterator, Mapping, Sequence
from functools import cache
from typing import Any

from nimble_otter.sources.catalogue import Shape, Shapes
from nimble_otter.translation import tr, trn

Document = Mapping[str, Any]

LIKE = 0.7
"""Two field sets with this share of fields in common are one shape."""
RARE = 0.025
"""Field sets with a smaller share of the documents are counted together."""
ONE_OFF = 0.01
"""So are clusters of several sets none of which has this share: forms that nobody fills in twice."""
DEEPEST = 20
"""Levels of nesting that are looked into."""
_WORDS: list[tuple[type, str]] = [
    (bool, "yes/no"),
    (int, "number"),
    (float, "number"),
    (str, "text"),
    (dt.datetime, "time"),
    (Mapping, "object"),
    (list, "list"),
    (bytes, "binary"),
]


def type_word(value: object) -> str:
    """The plain word for a document value's type."""
    return word_of_type(type(value))  # type: ignore[arg-type]  # a class is hashable


@cache
def word_of_type(kind: type) -> str:
    """The plain word for a type of document values."""
    if kind is type(None):
        return "empty"
    return next((word for known, word in _WORDS if issubclass(kind, known)), kind.__name__)


def find_shapes(collection: str, documents: Sequence[Document], total: int, indexed: tuple[str, ...] = ()) -> Shapes:
    """Shapes of the sampled documents, largest share first; rare field sets together at the end."""
    by_set: dict[frozenset[str], list[Document]] = defaultdict(list)
    for document in documents:
        by_set[frozenset(document) - {"_id"}].append(document)
    clusters: list[tuple[frozenset[str], list[frozenset[str]]]] = []
    for fields in sorted(by_set, key=lambda s: (-len(by_set[s]), sorted(s))):
        home = next((c for c in clusters if _likeness(c[0], fields) >= LIKE), None)
        if home is None:
            clusters.append((fields, [fields]))
        else:
            home[1].append(fields)
    named: list[Shape] = []
    rare_count = rare_sets = 0
    whole = max(1, len(documents))
    for core, members in clusters:
        own = [document for member in members for document in by_set[member]]
        is_one_off = len(members) > 2 and len(by_set[core]) < ONE_OFF * whole
        if len(own) < RARE * whole or is_one_off:
            rare_count, rare_sets = rare_count + len(own), rare_sets + len(members)
            continue
        named.append(Shape(_name(own, core), len(own) / whole, _labels(own, core), len(members), _types(own), own[0]))
    named.sort(key=lambda shape: -shape.share)
    if rare_count:
        named.append(
            Shape(
                tr("one-off forms"),
                rare_count / whole,
                (trn("{count} other field set", "{count} other field sets", rare_sets, count=rare_sets),),
                rare_sets,
            )
        )
    return Shapes(collection, len(documents), total, tuple(named), _types(documents), indexed)


def _likeness(a: frozenset[str], b: frozenset[str]) -> float:
    return len(a & b) / max(1, len(a | b))


def _name(documents: Sequence[Document], core: frozenset[str]) -> str:
    """A text that all documents of the shape share in one field names it, else its most telling fields."""
    for field in documents[0]:
        values = {d.get(field) if isinstance(d.get(field), str) else None for d in documents}
        if field in core and len(values) == 1 and None not in values and len(documents) > 1:
            return str(values.pop())
    return ", ".join(sorted(core)[:3]) or tr("no fields")


def _labels(documents: Sequence[Document], core: frozenset[str]) -> tuple[str, ...]:
    labels = []
    for field in (f for f in documents[0] if f in core):
        value = next((d[field] for d in documents if d.get(field) is not None), None)
        size = f"{{{len(value)}}}" if isinstance(value, Mapping) else ("[ ]" if isinstance(value, list) else "")
        labels.append(field + size)
    return tuple(labels)


def _types(documents: Sequence[Document]) -> dict[str, dict[str, float]]:
    """Each path's types with their share of the objects (or lists, for `path[]`) that could hold it."""
    counts: dict[str, Counter[str]] = {}
    parents: Counter[str] = Counter()
    for document in documents:
        parents[""] += 1
        for path, parent, value in _paths(document, "", 0):
            counts.setdefault(path, Counter())[type_word(value)] += 1
            counts[path]["\0" + parent] += 0
            if isinstance(value, (Mapping, list)):
                parents[path] += 1 if isinstance(value, Mapping) else len(value)
    found = {}
    for path, by in counts.items():
        parent = next(word for word in by if word.startswith("\0"))[1:]
        found[path] = {word: n / max(1, parents[parent]) for word, n in by.most_common() if not word.startswith("\0")}
    return found


def _paths(value: Document, prefix: str, depth: int) -> Iterator[tuple[str, str, object]]:
    """(path, path of what holds it, value) of everything inside; the items of a list are `path[]`."""
    parent = prefix.removesuffix(".")
    for name, inner in value.items():
        path = prefix + name
        yield path, parent, inner
        if isinstance(inner, Mapping) and depth < DEEPEST:
            yield from _paths(inner, f"{path}.", depth + 1)
        elif isinstance(inner, list) and depth < DEEPEST:
            for item in inner[:100]:
                yield f"{path}[]", path, item
                if isinstance(item, Mapping):
                    yield from _paths(item, f"{path}[].", depth + 1)
