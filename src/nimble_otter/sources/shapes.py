"""Finding the shapes of a collection's documents from a sample: like field sets are one shape, by presence."""

from __future__ import annotations

import datetime as dt
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from nimble_otter.sources.catalogue import Shape, Shapes

LIKE = 0.7
"""Two field sets with this share of fields in common are one shape."""
RARE = 0.025
"""Field sets with a smaller share of the documents are counted together."""
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


def type_word(value: Any) -> str:
    """The plain word for a document value's type."""
    if value is None:
        return "empty"
    return next((word for kind, word in _WORDS if isinstance(value, kind)), type(value).__name__)


def find_shapes(collection: str, documents: Sequence[Mapping[str, Any]], total: int) -> Shapes:
    """Shapes of the sampled documents, largest share first; rare field sets together at the end."""
    sets = Counter(frozenset(document) - {"_id"} for document in documents)
    clusters: list[tuple[frozenset[str], list[frozenset[str]]]] = []
    for fields, _ in sorted(sets.items(), key=lambda item: (-item[1], sorted(item[0]))):
        home = next((c for c in clusters if _likeness(c[0], fields) >= LIKE), None)
        if home is None:
            clusters.append((fields, [fields]))
        else:
            home[1].append(fields)
    named: list[Shape] = []
    rare_count = rare_sets = 0
    for core, members in clusters:
        count = sum(sets[m] for m in members)
        own = [d for d in documents if frozenset(d) - {"_id"} in members]
        if count < RARE * len(documents):
            rare_count, rare_sets = rare_count + count, rare_sets + len(members)
            continue
        named.append(Shape(_name(own, core), count / len(documents), _labels(own, core), len(members)))
    named.sort(key=lambda shape: -shape.share)
    if rare_count:
        word = "field set" if rare_sets == 1 else "field sets"
        named.append(Shape("one-off forms", rare_count / len(documents), (f"{rare_sets} other {word}",), rare_sets))
    return Shapes(collection, len(documents), total, tuple(named), _types(documents))


def _likeness(a: frozenset[str], b: frozenset[str]) -> float:
    return len(a & b) / max(1, len(a | b))


def _name(documents: Sequence[Mapping[str, Any]], core: frozenset[str]) -> str:
    """A text that all documents of the shape share in one field names it, else its most telling fields."""
    for field in documents[0]:
        values = {d.get(field) if isinstance(d.get(field), str) else None for d in documents}
        if field in core and len(values) == 1 and None not in values and len(documents) > 1:
            return str(values.pop())
    return ", ".join(sorted(core)[:3]) or "no fields"


def _labels(documents: Sequence[Mapping[str, Any]], core: frozenset[str]) -> tuple[str, ...]:
    labels = []
    for field in (f for f in documents[0] if f in core):
        value = next((d[field] for d in documents if d.get(field) is not None), None)
        size = f"{{{len(value)}}}" if isinstance(value, Mapping) else ("[ ]" if isinstance(value, list) else "")
        labels.append(field + size)
    return tuple(labels)


def _types(documents: Sequence[Mapping[str, Any]]) -> dict[str, dict[str, float]]:
    counts: dict[str, Counter[str]] = {}
    parents: Counter[str] = Counter()
    for document in documents:
        parents[""] += 1
        for path, value in _paths(document, ""):
            counts.setdefault(path, Counter())[type_word(value)] += 1
            if isinstance(value, Mapping):
                parents[path] += 1
    return {
        path: {word: n / parents[path.rpartition(".")[0]] for word, n in by.most_common()}
        for path, by in counts.items()
    }


def _paths(value: Mapping[str, Any], prefix: str) -> Iterator[tuple[str, Any]]:
    for name, inner in value.items():
        yield prefix + name, inner
        if isinstance(inner, Mapping):
            yield from _paths(inner, f"{prefix}{name}.")
