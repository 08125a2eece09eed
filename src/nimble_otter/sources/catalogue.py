"""What a source holds: tables with their columns and keys, collections with the shapes of their documents."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Any

from nimble_otter.translation import tr, trn

HOLDS_ROWS = ("table", "view", "materialized view", "collection")
"""Kinds of entries that can be opened as a pull."""


class EntryKind(StrEnum):
    """What an entry of a catalogue is."""

    TABLE = "table"
    VIEW = "view"
    MATERIALIZED_VIEW = "materialized view"
    COLLECTION = "collection"
    ROUTINE = "routine"
    SEQUENCE = "sequence"


@dataclass(frozen=True, slots=True)
class ColumnInfo:
    """`word` is the type in one plain word (number, text, time, ...), `key` its place in the primary key from 1 or 0,
    `refers` the table and column that a foreign key points to ("station.station_id"). `generated` is the expression
    of a computed column, or "identity" where the server numbers the rows. `folds`: texts that differ may count as equal
    there; `values` are all that an enumeration takes. `is_always`: the server numbers it, whatever is given;
    `is_hidden`: * leaves it out. `exact` is the type with all that belongs to it, as the server writes it in a new
    table; "" where it is one of this database's own."""

    name: str
    declared: str = ""
    word: str = ""
    key: int = 0
    refers: str = ""
    nullable: bool = True
    default: str = ""
    generated: str = ""
    comment: str = ""
    folds: bool = False
    values: tuple[str, ...] = ()
    is_always: bool = False
    is_hidden: bool = False
    exact: str = ""


@dataclass(frozen=True, slots=True)
class ForeignKey:
    """`columns` of `table` refer to `referred` columns of `target`, in that order. Tables by their label. `on_delete`
    and `on_update` are what happens to the referring rows: cascade, set null, ...; "" where it is refused. `schema`: of
    `table`, where it was asked for."""

    table: str
    columns: tuple[str, ...]
    target: str
    referred: tuple[str, ...]
    on_delete: str = ""
    on_update: str = ""
    schema: str = ""


@dataclass(frozen=True, slots=True)
class Definition:
    """One table (or view, routine, sequence) in full: `text` is its definition as a statement of the server's dialect,
    `constraints` and `indexes` are pairs of (name, what it says)."""

    text: str
    constraints: tuple[tuple[str, str], ...] = ()
    indexes: tuple[tuple[str, str], ...] = ()
    comment: str = ""


@dataclass(frozen=True, slots=True)
class TableInfo:
    """`kind` is table, view, materialized view, collection, routine or sequence. `name` is what queries call it: with
    its schema in front where that is not the default one. `rows` is None until known; `is_estimate`: as the server
    last reckoned, not counted. `unique` are further keys: sets of columns that are unique and never empty, known only
    where there is no primary key; `distinct` are all sets of columns that are unique, and `checks` conditions that each
    row must hold, None before a query named it."""

    name: str
    kind: EntryKind = EntryKind.TABLE
    columns: tuple[ColumnInfo, ...] = ()
    rows: int | None = None
    is_estimate: bool = False
    schema: str = ""
    foreign: tuple[ForeignKey, ...] = ()
    comment: str = ""
    unique: tuple[tuple[str, ...], ...] = ()
    checks: tuple[str, ...] | None = None
    distinct: tuple[tuple[str, ...], ...] | None = None

    @property
    def bare(self) -> str:
        """The name without its schema."""
        return self.name.removeprefix(f"{self.schema}.") if self.schema else self.name

    @property
    def holds_rows(self) -> bool:
        """Whether it can be asked for rows."""
        return self.kind in HOLDS_ROWS

    @property
    def key(self) -> tuple[str, ...]:
        """The primary key's columns in order; empty where there is none."""
        return tuple(c.name for c in sorted(self.columns, key=lambda c: c.key) if c.key)

    @property
    def keys(self) -> tuple[tuple[str, ...], ...]:
        """Every set of columns known to tell the rows apart, the primary key first."""
        return (self.key, *self.unique) if self.key else self.unique

    @property
    def has_binary(self) -> bool:
        """Whether a column holds bytes."""
        return any(column.word == "binary" for column in self.columns)

    def column(self, name: str) -> ColumnInfo | None:
        """A column by its name, in any case; None where there is none."""
        return next((c for c in self.columns if c.name.casefold() == name.casefold()), None)


@dataclass(frozen=True, slots=True)
class Shape:
    """One field set: `fields` are its labels, nested ones with their size ("flood{4}", "readings[ ]"); `types` as in
    Shapes, of this shape's documents alone; `example` is one of them."""

    name: str
    share: float
    fields: tuple[str, ...]
    variants: int = 1
    types: dict[str, dict[str, float]] = field(default_factory=dict)
    example: Mapping[str, Any] | None = None


@dataclass(frozen=True, slots=True)
class Shapes:
    """What a sample says of a collection. `types` maps each dotted path to the share of sampled documents by type
    word; what is short of 1 is missing (`path[]` stands for the items of a list). `indexed` are the paths that lead an
    index, so that searching them is fast. `differing` are the paths with more than one type or partly missing."""

    collection: str
    sampled: int
    total: int
    shapes: tuple[Shape, ...]
    types: dict[str, dict[str, float]]
    indexed: tuple[str, ...] = ()

    @property
    def differing(self) -> tuple[str, ...]:
        """Paths with several types in 5 % of the documents or more, then those that 1 to 10 % lack."""
        tops = [
            p for p, by in self.types.items() if sum(by.values()) >= 0.05 and len([t for t in by if t != "empty"]) > 1
        ]
        rare = [
            p for p, by in self.types.items() if 0.9 <= sum(by.values()) < 0.9999 and p not in tops and "[]" not in p
        ]
        return (*tops, *rare)

    def type_words(self) -> dict[str, set[str]]:
        """The types of each path outside of lists, null left out."""
        return {path: {t for t in by if t != "empty"} for path, by in self.types.items() if "[]" not in path}


def how_many(count: int, is_documents: bool = False) -> str:
    """How many tables and views there are, or collections, in words."""
    if is_documents:
        return trn("{count} collection", "{count} collections", count, count=count)
    return tr("1 table") if count == 1 else tr("{count} tables and views", count=count)
