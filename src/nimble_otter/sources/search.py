"""Finding a value in a source: at the server, table by table."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Any

from nimble_otter.errors import QueryError, SourceError
from nimble_otter.query.sql.statements import parameter_value
from nimble_otter.sources.catalogue import ColumnInfo, EntryKind, TableInfo
from nimble_otter.sources.dialects import Dialect
from nimble_otter.sources.fetch import fetch
from nimble_otter.sources.source import Connection, Request
from nimble_otter.stop import NEVER, Progress, StopToken
from nimble_otter.translation import tr

FIRST_ROWS = 3


@dataclass(frozen=True, slots=True)
class Sought:
    """What to look for. A text that is a number is also compared with number columns. `is_word` and `is_regex` exclude
    each other; both heed `is_cased`."""

    text: str
    is_cased: bool = False
    is_word: bool = False
    is_regex: bool = False


@dataclass(frozen=True, slots=True)
class Hit:
    """One column (or path) with the value: how many rows, the first values, and the request for those rows."""

    table: str
    column: str
    rows: int
    examples: tuple[str, ...]
    request: Request
    problem: str = ""


def find_value(
    connection: Connection,
    tables: Sequence[TableInfo],
    sought: Sought,
    stop: StopToken = NEVER,
    progress: Progress | None = None,
) -> Iterator[Hit]:
    """Hits as they are found, a table after the other; a table that can't be searched gives one hit with its problem.

    Raises: QueryError for a wrong regular expression, SourceError's, Stopped.
    """
    if sought.is_regex:
        try:
            re.compile(sought.text)
        except (re.error, RecursionError, OverflowError) as problem:
            raise QueryError(tr("This is not a regular expression: {problem}.", problem=problem)) from problem
    places = [
        table for table in tables if table.kind in (EntryKind.TABLE, EntryKind.COLLECTION, EntryKind.MATERIALIZED_VIEW)
    ]
    with connection.kept_open():
        for number, table in enumerate(places):
            stop.check()
            if progress is not None:
                progress(number, len(places))
            try:
                if table.kind == EntryKind.COLLECTION:
                    yield from _in_documents(connection, table, sought, stop)
                else:
                    yield from _in_table(connection, table, sought, stop)
            except QueryError as problem:
                yield Hit(table.name, "", 0, (), Request(""), str(problem))


def _in_table(connection: Connection, table: TableInfo, sought: Sought, stop: StopToken) -> Iterator[Hit]:
    conditions = [(c, text) for c in table.columns if (text := condition(connection, c, sought))]
    if not conditions:
        return
    values: dict[str, Any] = {"sought": _value(connection.dialect, sought)}
    number = parameter_value(sought.text)
    if isinstance(number, (int, float)):
        values["number"] = number
    whole = connection.quoted(table.name)
    sums = ", ".join(f"sum(case when {text} then 1 else 0 end) as c{n}" for n, (_, text) in enumerate(conditions))
    counted = fetch(connection, _request(f"select {sums} from {whole}", values), stop).table
    stop.check()
    for (column, text), found in zip(conditions, counted.columns, strict=True):
        rows = int(found.value(0) or 0)
        if not rows:
            continue
        name = connection.quoted(column.name)
        some = _request(f"select {name} from {whole} where {text} limit {FIRST_ROWS}", values)
        examples = tuple(str(v) for v in fetch(connection, some, stop).table.columns[0].values())
        yield Hit(table.name, column.name, rows, examples, _request(f"select *\nfrom {whole}\nwhere {text}\n", values))


def _request(text: str, values: dict[str, object]) -> Request:
    return Request(text, {name: value for name, value in values.items() if f":{name}" in text})


def condition(connection: Connection, column: ColumnInfo, sought: Sought) -> str:
    """Where a column has what is sought, as a condition in the server's dialect; "" where it can't have it."""
    name, dialect = connection.quoted(column.name), connection.dialect
    number = isinstance(parameter_value(sought.text), (int, float)) and not sought.is_regex
    if column.word == "number":
        return f"{name} = :number" if number else ""
    if column.word in ("binary", "yes/no"):
        return ""
    plain = column.word in ("text", "uuid", "any") and not dialect.casts_to_search
    text = name if plain else f"cast({name} as {dialect.text_type})"
    if sought.is_regex or sought.is_word:
        return f"{text} {dialect.regex_operator} :sought"
    if sought.is_cased:
        return dialect.contains(text, ":sought")
    return dialect.contains_folded(text, ":sought")


def _value(dialect: Dialect, sought: Sought) -> str:
    if sought.is_regex or sought.is_word:
        edge = dialect.word_edge
        pattern = sought.text if sought.is_regex else f"{edge}{re.escape(sought.text)}{edge}"
        return dialect.regex(pattern, sought.is_cased)
    return sought.text if sought.is_cased else dialect.folded(sought.text)


def _in_documents(connection: Connection, table: TableInfo, sought: Sought, stop: StopToken) -> Iterator[Hit]:
    """Through every path of text or number that a sample shows; the server evaluates the search."""
    shapes = connection.shapes(table.name)
    number = parameter_value(sought.text)
    for path, types in shapes.types.items():
        stop.check()
        plain = path.replace("[]", "")
        wanted: Any = None
        if "text" in types:
            wanted = {"$regex": _pattern(sought)} | ({} if sought.is_cased else {"$options": "i"})
        elif "number" in types and isinstance(number, (int, float)) and not sought.is_regex:
            wanted = number
        if wanted is None:
            continue
        request = Request(json.dumps({plain: wanted}, ensure_ascii=False), {}, None, "native", table.name)
        counting = json.dumps([{"$match": {plain: wanted}}, {"$count": "n"}])
        try:
            counted = fetch(connection, replace(request, text=counting), stop).table
        except QueryError:
            raise
        except SourceError:
            stop.check()
            raise
        rows = int(counted.columns[0].value(0)) if counted.rows else 0
        if rows:
            found = fetch(connection, replace(request, limit=FIRST_ROWS), stop).table
            field = plain.split(".")[0]
            examples = tuple(str(v)[:80] for v in found.column(field).values())
            yield Hit(table.name, plain, rows, examples, request)


def _pattern(sought: Sought) -> str:
    if sought.is_regex:
        return sought.text
    return rf"\b{re.escape(sought.text)}\b" if sought.is_word else re.escape(sought.text)
