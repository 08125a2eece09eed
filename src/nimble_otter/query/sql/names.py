"""The names that a query can use: tables with their columns, and the keys that join them."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass, field


@dataclass(frozen=True, slots=True)
class Key:
    """`columns` refer to the `referred` columns of table `target`, in that order."""

    columns: tuple[str, ...]
    target: str
    referred: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class TableNames:
    """`name` is what queries call the table, with its schema where that is not the default one; `columns` are pairs of
    name and type in a plain word (of collections: dotted paths)."""

    name: str
    kind: str = "table"
    columns: tuple[tuple[str, str], ...] = ()
    keys: tuple[Key, ...] = ()

    @property
    def schema(self) -> str:
        """The schema it lies in."""
        return self.name.rpartition(".")[0]


@dataclass(frozen=True, slots=True)
class Join:
    """A foreign key between two tables, seen from one of them: `columns` here meet `others` of `table`."""

    table: str
    columns: tuple[str, ...]
    others: tuple[str, ...]


@dataclass(slots=True)
class Names:
    """Found by name whatever the letters' case; made once for a catalogue, and asked at every key."""

    tables: tuple[TableNames, ...]
    folded: tuple[str, ...] = ()
    initials: tuple[str, ...] = ()
    _by_name: dict[str, TableNames] = field(default_factory=dict)
    _joins: dict[str, list[Join]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.folded = tuple(t.name.casefold() for t in self.tables)
        self.initials = tuple("".join(part[:1] for part in re.split(r"[\W_]+", name)) for name in self.folded)
        for table in self.tables:
            self._by_name.setdefault(table.name.rpartition(".")[2].casefold(), table)
        self._by_name.update(zip(self.folded, self.tables, strict=True))
        for table in self.tables:
            for key in table.keys:
                self._joins.setdefault(table.name, []).append(Join(key.target, key.columns, key.referred))
                self._joins.setdefault(key.target, []).append(Join(table.name, key.referred, key.columns))

    def table(self, name: str) -> TableNames | None:
        """A table by its name, with or without its schema."""
        table_names = self._by_name.get(name.casefold())
        return table_names or self._by_name.get(name.rpartition(".")[2].casefold())

    def like(self, word: str) -> list[TableNames]:
        """Tables whose name holds a word (in folded letters), or whose parts begin with its letters."""
        if not word:
            return list(self.tables)
        pairs = zip(self.tables, self.folded, self.initials, strict=True)
        return [table for table, name, initials in pairs if word in name or initials.startswith(word)]

    def joins(self, name: str) -> list[Join]:
        """Every foreign key of a table, both ways."""
        return self._joins.get(name, [])


def names_of(tables: Iterable[TableNames]) -> Names:
    """A catalogue as the names that a query can use."""
    return Names(tuple(tables))
