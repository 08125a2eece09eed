"""What a source holds: tables with their columns and keys, collections with the shapes of their documents."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class ColumnInfo:
    """`word` is the type in one plain word (number, text, time, ...), `key` its place in the primary key from 1 or 0,
    `refers` the table and column that a foreign key points to ("station.station_id")."""

    name: str
    declared: str = ""
    word: str = ""
    key: int = 0
    refers: str = ""
    nullable: bool = True
    default: str = ""


@dataclass(frozen=True, slots=True)
class TableInfo:
    """`kind` is table, view or collection. `rows` is None until counted."""

    name: str
    kind: str = "table"
    columns: tuple[ColumnInfo, ...] = ()
    rows: int | None = None

    @property
    def key(self) -> tuple[str, ...]:
        """The primary key's columns in order; empty where there is none."""
        return tuple(c.name for c in sorted(self.columns, key=lambda c: c.key) if c.key)

    @property
    def has_binary(self) -> bool:
        return any(column.word == "binary" for column in self.columns)

    def column(self, name: str) -> ColumnInfo | None:
        return next((c for c in self.columns if c.name.casefold() == name.casefold()), None)


@dataclass(frozen=True, slots=True)
class Shape:
    """One field set: `fields` are its labels, nested ones with their size ("flood{4}", "readings[ ]")."""

    name: str
    share: float
    fields: tuple[str, ...]
    variants: int = 1


@dataclass(frozen=True, slots=True)
class Shapes:
    """What a sample says of a collection. `types` maps each dotted path to the share of sampled documents by type
    word; what is short of 1 is missing. `differing` are the paths with more than one type or partly missing."""

    collection: str
    sampled: int
    total: int
    shapes: tuple[Shape, ...]
    types: dict[str, dict[str, float]]

    @property
    def differing(self) -> tuple[str, ...]:
        """Paths with several types in 5 % of the documents or more, then those that 1 to 10 % lack."""
        tops = [
            p for p, by in self.types.items() if sum(by.values()) >= 0.05 and len([t for t in by if t != "empty"]) > 1
        ]
        rare = [p for p, by in self.types.items() if 0.9 <= sum(by.values()) < 0.9999 and p not in tops]
        return (*tops, *rare)

    def type_words(self) -> dict[str, set[str]]:
        return {path: {t for t in by if t != "empty"} for path, by in self.types.items()}
