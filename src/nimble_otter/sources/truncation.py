"""Long values: cut by the server when rows of a table are fetched to be looked at, and fetched whole by key later."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

import numpy as np

from nimble_otter.errors import QueryError
from nimble_otter.query.lazy import exp, sqlglot
from nimble_otter.sources.catalogue import ColumnInfo, TableInfo
from nimble_otter.sources.dialects import Dialect
from nimble_otter.sources.source import Connection, LongColumns, Request
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table import Column, Kind, Table
from nimble_otter.table.core.columns import BufferText, CodedText, Ids
from nimble_otter.table.text.show import LONGEST, plain
from nimble_otter.table.text.text_format import render
from nimble_otter.translation import tr
from nimble_otter.values import Value

_AT_ONCE = 20
_STRETCH = 1 << 13
"""Rows whose whole values are asked for in one query."""


def is_long(column: ColumnInfo) -> bool:
    """Whether values of this column may be long at all."""
    text = column.declared.upper()
    return column.word == "binary" or any(word in text for word in ("TEXT", "CLOB")) or text == "VARCHAR"


def shorten(
    text: str, table: TableInfo, dialect: Dialect, quoted: Callable[[str], str]
) -> tuple[str, LongColumns] | None:
    """The text with its long columns cut by the server, when it is a plain query of one table that gives the table's
    whole key; None for every other text, which then runs as it is."""
    items = _items(text, dialect.parser)
    if items is None or not table.key:
        return None
    names = {c.name.casefold(): c for c in table.columns}
    pieces: list[str] = []
    columns: list[tuple[str, str]] = []
    for item in items:
        if item == "*":
            columns += [(c.name, c.name) for c in table.columns]
        elif item is not None and item[0].casefold() in names:
            columns.append((names[item[0].casefold()].name, item[1]))
        else:
            return None
    long = []
    for index, (name, label) in enumerate(columns):
        own = quoted(name)
        if is_long(names[name.casefold()]) and name not in table.key:
            long.append((index, name))
            whole, cut = f"{dialect.byte_length}({own})", f"substr({own}, 1, {LONGEST + 1})"
            own = f"case when {whole} > {LONGEST} then {cut} else {own} end"
        pieces.append(f"{own} as {quoted(label)}" if own != label else own)
    places = {name: index for index, (name, _) in reversed(list(enumerate(columns)))}
    if not long or any(name not in places for name in table.key):
        return None
    span = _span(text, dialect.parser)
    if span is None:
        return None
    start, end = span
    keys = tuple((places[name], name) for name in table.key)
    return text[:start] + ", ".join(pieces) + text[end:], LongColumns(table.name, keys, tuple(long))


def _span(text: str, dialect: str) -> tuple[int, int] | None:
    """Where the list of columns begins and ends, between SELECT and FROM; None for a query in other words (TABLE t)."""
    tokens = sqlglot.tokenize(text, read=dialect)
    end = next((n for n, token in enumerate(tokens) if token.token_type.name == "FROM"), 0)
    if tokens[0].token_type.name != "SELECT" or end < 2:
        return None
    return tokens[1].start, tokens[end - 1].end + 1


def _items(text: str, dialect: str) -> list[Value] | None:
    """The columns that a plain query of one table asks for, as "*" or (name, label); None for any other query."""
    try:
        parsed = sqlglot.parse_one(text, dialect=dialect)
    except (sqlglot.errors.SqlglotError, RecursionError, ValueError):
        return None
    others = ("group", "distinct", "having", "joins", "with_", "with", "laterals", "windows", "into", "kind", "hint")
    if not isinstance(parsed, exp.Select) or any(parsed.args.get(name) for name in others):
        return None
    source = parsed.args.get("from_") or parsed.args.get("from")
    if source is None or not isinstance(source.this, exp.Table) or source.this.args.get("joins"):
        return None
    results: list[Any] = []
    for item in parsed.expressions:
        inner = item.unalias()
        if isinstance(inner, exp.Star) or (isinstance(inner, exp.Column) and isinstance(inner.this, exp.Star)):
            if inner.args.get("except_") or inner.args.get("except") or inner.args.get("replace"):
                return None
            results.append("*")
        elif isinstance(inner, exp.Column):
            results.append((inner.name, item.alias_or_name))
        else:
            return None
    return results


def cut_rows(table: Table, long: LongColumns, stop: StopToken = NEVER) -> dict[int, Ids]:
    """Row ids of the values that were cut, by place; only places that have some."""
    found = {}
    for index, _ in long.columns:
        ids = _over(table.columns[index], stop)
        if len(ids):
            found[index] = ids
    return found


def _over(column: Column, stop: StopToken) -> Ids:
    if isinstance(column, CodedText):
        words = np.array([len(word) > LONGEST for word in column.words], np.bool_)
        over = words.take(column.data) if words.any() else np.zeros(len(column), np.bool_)
        return np.flatnonzero(over & ~column.empty_at())
    if isinstance(column, BufferText):
        some = np.flatnonzero(column.ends - column.data > LONGEST)
    elif column.kind is Kind.OBJECT:
        some = np.arange(len(column))
    else:
        return np.zeros(0, np.int64)
    hits: list[int] = []
    for start in range(0, len(some), _STRETCH):
        stop.yield_control()
        ids = some[start : start + _STRETCH]
        pairs = zip(ids.tolist(), column.values(ids), strict=True)
        hits += [n for n, v in pairs if isinstance(v, (str, bytes)) and len(v) > LONGEST]
    return np.array(hits, np.int64)


def fetch_whole(
    connection: Connection,
    table: Table,
    long: LongColumns,
    cells: Mapping[int, Sequence[int]],
    stop: StopToken = NEVER,
    progress: Callable[[int, int], None] | None = None,
) -> dict[int, dict[int, Value]]:
    """The whole values of `cells` (places by row id), by row id and place. Raises: SourceError's; QueryError when a row
    is not there any more; Stopped."""
    names = dict(long.columns)
    key_columns = [connection.quoted(name) for _, name in long.keys]
    rows, found = sorted(cells), dict[int, dict[int, Any]]()
    for start in range(0, len(rows), _AT_ONCE):
        stop.check()
        some = rows[start : start + _AT_ONCE]
        places = sorted({place for row in some for place in cells[row]})
        values, wanted, clauses = dict[str, Any](), dict[tuple[str, ...], int](), []
        for row in some:
            key = [render(table.columns[p].value(row), table.fields[p].form) for p, _ in long.keys]
            wanted[tuple(map(plain, key))] = row
            marks = [f"k{row}_{n}" for n in range(len(key))]
            values |= dict(zip(marks, key, strict=True))
            clauses.append(" and ".join(f"{c} = :{m}" for c, m in zip(key_columns, marks, strict=True)))
        asked = ", ".join([*key_columns, *(connection.quoted(names[place]) for place in places)])
        text = f"select {asked} from {connection.quoted(long.table)} where ({') or ('.join(clauses)})"
        for batch in connection.run(Request(text, values), stop).batches:
            for record in batch:
                row = wanted[tuple(plain(v) for v in record[: len(long.keys)])]
                found[row] = dict(zip(places, record[len(long.keys) :], strict=True))
        if progress is not None:
            progress(len(found), len(rows))
    absent = [row for row in rows if row not in found]
    if absent:
        raise QueryError(
            tr("{absent_count} of the rows are not at the source any more.", absent_count=len(absent)),
            tr("Run the query again."),
        )
    return {row: {place: v for place, v in own.items() if place in cells[row]} for row, own in found.items()}
