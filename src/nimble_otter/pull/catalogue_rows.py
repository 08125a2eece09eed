"""What a source holds as rows of their own: tables, columns, keys, references, indexes and how many rows there are."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from nimble_otter.errors import SourceError
from nimble_otter.sources import Connection, Request, fetch
from nimble_otter.sources.catalogue import TableInfo
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table import Table
from nimble_otter.table.core.build import table_of
from nimble_otter.translation import tr

KEY = ("table", "part", "name")
Row = tuple[str, str, str, str | None]


def catalogue_rows(
    connection: Connection, counts: bool = False, plainly: bool = False, stop: StopToken = NEVER
) -> Table:
    """A row for each thing that there is: `table`, `part` (table, type, NULL, default, key, reference, index, rows),
    `name`, and what it `says`. `plainly`: types in one plain word, as servers of two kinds have others. With `counts`
    the rows of each table are counted. Raises: SourceError's, Stopped."""
    rows: list[Row] = []
    for info in connection.tables():
        if not info.holds_rows:
            continue
        stop.check()
        rows += _of(info, plainly)
        if not plainly:
            rows += [(info.bare, "index", name, " ".join(says.split())) for name, says in _indexes(connection, info)]
        if counts:
            rows.append((info.bare, "rows", "", str(_count(connection, info, stop))))
    columns: Sequence[Sequence[str | None]] = list(zip(*rows, strict=True)) if rows else ((), (), (), ())
    return table_of(**dict(zip((*KEY, "says"), columns, strict=True)))


def _of(info: TableInfo, plainly: bool) -> Iterator[Row]:
    yield info.bare, "table", "", info.kind.value
    for column in info.columns:
        yield info.bare, "type", column.name, column.word if plainly else column.declared
        is_nullable = column.nullable and not (plainly and column.key)  # a key without saying so, in SQLite
        yield info.bare, "NULL", column.name, "allowed" if is_nullable else tr("NOT NULL")
        if column.default and not plainly:
            yield info.bare, "default", column.name, column.default
        if column.generated:
            yield info.bare, "generated", column.name, "identity" if plainly else column.generated
        if column.refers:
            yield info.bare, "reference", column.name, column.refers
    if info.key:
        yield info.bare, "key", "", ", ".join(info.key)


def _indexes(connection: Connection, info: TableInfo) -> tuple[tuple[str, str], ...]:
    try:
        return connection.describe(info).indexes
    except SourceError:  # what can't be told is not compared
        return ()


def _count(connection: Connection, info: TableInfo, stop: StopToken) -> int:
    request = Request(f"select count(*) as n from {connection.quoted(info.name)}")
    return int(fetch(connection, request, stop).table.columns[0].value(0))
