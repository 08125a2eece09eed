"""A source's catalogue as the names that completion, diagnosis and parameters look through."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from nimble_otter.query.sql.names import Key, Names, TableNames, names_of
from nimble_otter.sources.catalogue import Shapes, TableInfo


def names_in_catalogue(tables: Sequence[TableInfo], shapes: Mapping[str, Shapes] | None = None) -> Names:
    """`shapes` by collection: their paths are what queries of documents can name."""
    items = []
    for table in tables:
        columns = [(c.name, c.word) for c in table.columns]
        known = (shapes or {}).get(table.name)
        if known is not None:
            columns = [(path, " or ".join(sorted(words))) for path, words in known.type_words().items()]
        keys = tuple(Key(f.columns, f.target, f.referred) for f in table.foreign)
        items.append(TableNames(table.name, table.kind, tuple(columns), keys))
    return names_of(items)
