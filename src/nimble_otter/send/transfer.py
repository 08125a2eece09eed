"""Rows to another source: they become a table, or are added to one, in batches inside one transaction.

Columns are matched by name unless told otherwise. Rows whose key is there already stop everything, are skipped, or
update the row that is there. Before the commit the table's rows are counted and must come out as they should.
"""

from __future__ import annotations

import json
import time
import uuid
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, field, replace

from nimble_otter.errors import LostError, OutcomeUnknown, SendError, SourceError, ValueRefused
from nimble_otter.send.ddl import create_table, quoted_table, quoter
from nimble_otter.send.format import Output, Rows
from nimble_otter.send.literals import Literals
from nimble_otter.send.room import check_room
from nimble_otter.send.texts import even_times
from nimble_otter.send.transfer_documents import documents_of, to_documents, whole_text
from nimble_otter.sources.catalogue import TableInfo
from nimble_otter.sources.dialects import Dialect
from nimble_otter.sources.session import Bound
from nimble_otter.sources.source import Connection
from nimble_otter.sources.writer import Writer
from nimble_otter.stop import NEVER, Progress, StopToken
from nimble_otter.table import MISSING, Column, Field
from nimble_otter.table.text.show import jsonable
from nimble_otter.table.text.text_format import render
from nimble_otter.translation import tr
from nimble_otter.values import Value

DUPLICATES = (
    ("stop", tr("stop, nothing is written")),
    ("skip", tr("skip the row")),
    ("update", "update the row there"),
)
_ROWS, _PARAMETERS = 500, 30_000
"""Rows in a statement, and the parameters that every server takes in one."""


@dataclass(frozen=True, slots=True)
class Transfer:
    """Where rows go: a table's name, and whether it is made `new` with these `keys`. `columns` maps names of ours to
    those there, None where a column is left out; the others keep their names."""

    table: str
    is_new: bool = False
    keys: tuple[str, ...] = ()
    duplicates: str = "stop"
    columns: Mapping[str, str | None] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Moved:
    """What arrived: rows that are new there, rows that were updated, rows that were skipped."""

    table: str
    sent: int
    added: int
    updated: int
    skipped: int
    seconds: float


def transfer_from(options: Mapping[str, object]) -> Transfer:
    """What a plan's options say: table, key, duplicates, and map ("ours = theirs, left_out ="). Raises: SendError."""
    name = str(options.get("table", "")).strip()
    if not name:
        raise SendError(tr("The rows have no table to go to."), tr("Choose one, or name a new one."))
    duplicates = str(options.get("duplicates", "stop"))
    if duplicates not in dict(DUPLICATES):
        raise SendError(
            tr("There is no duplicate handling {duplicates} with duplicates.", duplicates=duplicates),
            tr("There are {choices}.", choices=", ".join(dict(DUPLICATES))),
        )
    keys = tuple(key.strip() for key in str(options.get("key", "")).split(",") if key.strip())
    mapped: dict[str, str | None] = {}
    for pair in str(options.get("map", "")).split(","):
        ours, equals, theirs = pair.partition("=")
        if equals:
            mapped[ours.strip()] = theirs.strip() or None
        elif pair.strip():
            raise SendError(tr("{pair!r} maps nothing.", pair=pair.strip()), tr("Write it like level_m = level."))
    return Transfer(name, False, keys, duplicates, mapped)


def matched(columns: Sequence[str], wanted: Transfer, info: TableInfo | None) -> tuple[list[int], list[str]]:
    """Which columns go, by their places, and what they are called there. Raises: SendError where one has no place
    there, two go to one, or one that may not be empty gets nothing."""
    places, names = [], []
    for index, name in enumerate(columns):
        target = wanted.columns.get(name, name)
        if target is None:
            continue
        if info is not None and info.columns:
            there = info.column(target)
            if there is None:
                known = ", ".join(c.name for c in info.columns)
                raise SendError(
                    tr(
                        "{info_name} has no column {target}; it has {known}.",
                        info_name=info.name,
                        target=target,
                        known=known,
                    ),
                    tr("Map it to one, or leave it out."),
                )
            if there.generated and there.generated != "identity":
                raise SendError(
                    tr("{info_name} computes {there_name} itself.", info_name=info.name, there_name=there.name),
                    tr("Leave that column out."),
                )
            target = there.name
        places.append(index)
        names.append(target)
    if not places:
        raise SendError(tr("No column would be sent."), tr("Keep at least one."))
    twice = next((name for name in names if names.count(name) > 1), None)
    if twice is not None:
        raise SendError(tr("Two columns would go to {twice}.", twice=twice), tr("Map each to a column of its own."))
    for column in info.columns if info is not None else ():
        if not column.nullable and not column.default and not column.generated and column.name not in names:
            if column.key and column.word == "number":
                continue  # many servers number such rows themselves
            raise SendError(
                tr(
                    "{column_name} of {info_name} may not be empty, but no column goes there.",
                    column_name=column.name,
                    info_name=info.name if info else "",
                ),
                tr("Map one to it."),
            )
    return places, names


def preview(rows: Rows, wanted: Transfer, dialect: Dialect, info: TableInfo | None, count: int = 3) -> str:
    """The statements as text: the table's definition where it is made, and an insert of the first rows. For documents
    the first ones as JSON. Raises: SendError."""
    places, names = matched(rows.names, wanted, None if wanted.is_new else info)
    block = next(rows.blocks(NEVER), None)
    if dialect.is_documents:
        texts = [
            json.dumps(jsonable(d), ensure_ascii=False, indent=1) for d in documents_of(block or (), places, names)
        ]
        return "\n".join(texts[:count]) or "{}"
    created = ""
    if wanted.is_new:
        created = _definition(rows, wanted, places, names, block, dialect) + ";\n\n"
    text = _insert(wanted, names, info, dialect).replace("?", "…")
    if block is not None and len(block[0]):
        writer = Literals(dialect, Output(None, {}, NEVER))  # type: ignore[arg-type]
        import numpy as np

        few = np.arange(min(count, len(block[0])))
        lines = zip(*(writer.of(rows.fields[p], block[p].take(few)) for p in places), strict=True)
        values = ",\n".join("  (" + ", ".join(v.decode("utf-8", "replace") for v in line) + ")" for line in lines)
        head, _, tail = text.partition("\x00")
        text = f"{head}\n{values}{tail and chr(10) + tail.strip()}"
    return created + text.replace("\x00", "…") + ";"


def transfer(
    rows: Rows,
    connection: Connection,
    wanted: Transfer,
    stop: StopToken = NEVER,
    progress: Progress | None = None,
) -> Moved:
    """Send the rows. All arrive or none; where a server has no transactions, how many arrived is said.

    Raises: SendError, SourceError's, OutcomeUnknown, Stopped.
    """
    began = time.perf_counter()
    info = find_target(connection, wanted)
    places, names = matched(rows.names, wanted, info)
    tell = progress or (lambda done, total: None)
    if connection.dialect.is_documents:
        moved = to_documents(rows, connection, wanted.table, wanted.duplicates, places, names, stop, tell)
    elif info is not None and not connection.dialect.has_transactions and connection.dialect.makes_tables_of_queries:
        moved = _by_staging(rows, connection, wanted, places, names, info, stop, tell)
    else:
        moved = _to_table(rows, connection, wanted, places, names, info, stop, tell)
    sent, added, updated = moved
    return Moved(wanted.table, sent, added, updated, sent - added - updated, time.perf_counter() - began)


def find_target(connection: Connection, wanted: Transfer) -> TableInfo | None:
    """The table that rows go to; None where it is made. Raises: SendError, SourceError's."""
    info = next((t for t in connection.tables() if t.name.casefold() == wanted.table.casefold()), None)
    if wanted.is_new and info is not None:
        raise SendError(
            tr("{info_name} already exists.", info_name=info.name), tr("Choose another name, or add the rows to it.")
        )
    if not wanted.is_new and info is None and not connection.dialect.is_documents:
        raise SendError(tr("There is no table {table}.", table=wanted.table), tr("Create it, or choose another."))
    return info


# --- tables ------------------------------------------------------------------------------------------------------


def _to_table(
    rows: Rows, connection: Connection, wanted: Transfer, places: list[int], names: list[str], info: TableInfo | None,
    stop: StopToken, tell: Callable[[int, int | None], object],
) -> tuple[int, int, int]:  # fmt: skip
    dialect = connection.dialect
    blocks = rows.blocks(stop)
    block = next(blocks, None)
    results = [info.column(n) if info else None for n in names]
    lists = [(";" if c.declared.upper().startswith("BOX") else ",") if c and c.word == "list" else "" for c in results]
    if wanted.is_new:
        lists = [dialect.list_mark(rows.fields[index]) for index in places]
    sent, was_made = 0, False
    try:
        with connection.transaction(stop) as writer:
            if wanted.is_new:
                writer.execute(_definition(rows, wanted, places, names, block, dialect))
                was_made = True
                if dialect.defining_commits:  # some do so by themselves, others know the table only after it
                    writer.commit()
            before = rows_there(writer, wanted.table, dialect)
            insert = _insert(wanted, names, info, dialect)
            while block is not None:
                for index, there in zip(places, results, strict=True):
                    if there is not None:
                        check_room(block[index], there, dialect)
                for values, count in _values(rows, block, places, lists, dialect):
                    stop.check()
                    writer.execute_many(_inserts(insert, len(places), values, count, dialect))
                    sent += count
                    tell(sent, rows.count)
                block = next(blocks, None)
            after = rows_there(writer, wanted.table, dialect)
            added = after - before
            if added > sent or (wanted.duplicates == "stop" and added != sent):
                kept = tr("; nothing was kept") if dialect.has_transactions else ""
                raise SendError(
                    tr("{sent} rows were sent, but {added} are there{kept}.", sent=sent, added=added, kept=kept),
                    tr("Check its triggers."),
                )
            commit(writer, connection, wanted, after)
    except BaseException as problem:
        if was_made and dialect.defining_commits:  # making a table ends the transaction there
            drop_made(connection, wanted)
        elif sent and not dialect.has_transactions and isinstance(problem, (SourceError, SendError)):
            text = tr(
                "{message} {sent} rows were written before: the server has no transactions.",
                message=problem.message,
                sent=sent,
            )
            raise SendError(text, tr("Check the table before sending again.")) from problem
        raise
    return sent, added, sent - added if wanted.duplicates == "update" else 0


def rows_there(writer: Writer, table: str, dialect: Dialect) -> int:
    """How many rows a table has, as the transaction sees it."""
    counting = dialect.mark(f"select count(*) from {quoted_table(table, dialect)}")
    return int(writer.query((counting, ()))[1][0][0])


def _by_staging(
    rows: Rows, connection: Connection, wanted: Transfer, places: list[int], names: list[str], info: TableInfo,
    stop: StopToken, tell: Callable[[int, int | None], object],
) -> tuple[int, int, int]:  # fmt: skip
    """Rows to a table of a server without transactions: to one beside it first, and from there by one statement."""
    dialect = connection.dialect
    quote, own = quoter(dialect), quoted_table(wanted.table, dialect)
    beside = f"{wanted.table}_arriving_{uuid.uuid4().hex[:8]}"
    columns, staging = ", ".join(map(quote, names)), quoted_table(beside, dialect)
    head, tail = insert_head(wanted, names, info, dialect), insert_tail_of(wanted, names, info, dialect)
    with connection.transaction(stop) as writer:
        writer.execute(f"create table {staging} as select {columns} from {own} where 1 = 0")
        try:
            arriving = replace(wanted, table=beside, duplicates="stop")
            sent, _, _ = _to_table(rows, connection, arriving, places, names, info, stop, tell)
            before = rows_there(writer, wanted.table, dialect)
            writer.execute(f"{head} select {columns} from {staging}{tail}")
            added = rows_there(writer, wanted.table, dialect) - before
        finally:
            with suppress(SourceError):
                writer.execute(f"drop table {staging}")
    if added != sent and wanted.duplicates == "stop":
        raise SendError(
            tr("{sent} rows were sent, but {added} more are in {table}.", sent=sent, added=added, table=wanted.table),
            tr("Another program may write there."),
        )
    return sent, added, sent - added if wanted.duplicates == "update" else 0


def commit(writer: Writer, connection: Connection, wanted: Transfer, after: int) -> None:
    """Commit; when the connection is lost in it the table is counted, as nobody can know otherwise."""
    try:
        writer.commit()
    except LostError as lost:
        try:
            number = connection.count(wanted.table)
        except SourceError:
            number = None
        text = (
            tr("could not be counted")
            if number is None
            else tr("holds {number} rows by now; with all it would hold {after}", number=number, after=after)
        )
        raise OutcomeUnknown(
            tr(
                "The connection was lost in the last step: {message} {table} {text}.",
                message=lost.message,
                table=wanted.table,
                text=text,
            ),
            tr("Check it before sending again."),
        ) from lost


def check_keys(wanted: Transfer, names: Sequence[str]) -> None:
    """Raises: SendError, where the key of a new table names no column of it."""
    unknown = next((key for key in wanted.keys if key not in names), None)
    if unknown is not None:
        raise SendError(
            tr("The key names {unknown}, which is not a column.", unknown=unknown),
            tr("There are {names}.", names=", ".join(names)),
        )


def drop_made(connection: Connection, wanted: Transfer) -> None:
    """Take back a table that was made where making one ends the transaction."""
    with suppress(SourceError), connection.transaction() as writer:
        writer.execute(f"drop table {quoted_table(wanted.table, connection.dialect)}")
        writer.commit()


def _definition(
    rows: Rows, wanted: Transfer, places: Sequence[int], names: Sequence[str], block: Sequence[Column] | None,
    dialect: Dialect,
) -> str:  # fmt: skip
    fields = [replace(rows.fields[place], name=name) for place, name in zip(places, names, strict=True)]
    check_keys(wanted, names)
    return create_table(wanted.table, fields, [block[p] for p in places] if block else (), wanted.keys, dialect)


def _insert(wanted: Transfer, names: Sequence[str], info: TableInfo | None, dialect: Dialect) -> str:
    """The text of an insert, with a zero character where the rows stand."""
    return f"{insert_head(wanted, names, info, dialect)} values \x00{insert_tail_of(wanted, names, info, dialect)}"


def insert_head(wanted: Transfer, names: Sequence[str], info: TableInfo | None, dialect: Dialect) -> str:
    """An insert up to its rows."""
    columns = ", ".join(map(quoter(dialect), names))
    identity = any(c.generated == "identity" for c in (info.columns if info else ()) if c.name in names)
    tail = dialect.overrides_identity if identity else ""
    return f"insert into {quoted_table(wanted.table, dialect)} ({columns}){tail}"


def insert_tail_of(wanted: Transfer, names: Sequence[str], info: TableInfo | None, dialect: Dialect) -> str:
    """What an insert says of rows whose key is there. Raises: SendError, ValueRefused."""
    if wanted.duplicates == "stop":
        return ""
    keys = wanted.keys if wanted.is_new else (info.key if info is not None else ())
    if not keys or not set(keys) <= set(names):
        raise SendError(
            tr("{table} has no key among the columns sent.", table=wanted.table),
            tr("Let duplicates stop, or send its key."),
        )
    return dialect.insert_tail(wanted.duplicates, keys, [name for name in names if name not in keys], quoter(dialect))


def _inserts(insert: str, width: int, values: tuple[object, ...], count: int, dialect: Dialect) -> list[Bound]:
    """One statement for all rows, or one for each where the server takes no more at a time."""
    if dialect.takes_many_rows:
        return [(_with_rows(insert, width, count, dialect), values)]
    text = _with_rows(insert, width, 1, dialect)
    return [(text, values[at : at + width]) for at in range(0, len(values), width)]


def _with_rows(insert: str, width: int, count: int, dialect: Dialect) -> str:
    head, _, tail = insert.partition("\x00")
    between = [*[", "] * (width - 1), "), ("] * count
    return dialect.joined([f"{head}(", *between[:-1], f"){tail}"])


def _values(
    rows: Rows, block: Sequence[Column], places: Sequence[int], lists: Sequence[str], dialect: Dialect
) -> Iterator[tuple[tuple[object, ...], int]]:
    """Values of some rows, row by row, as the driver takes them, and how many rows they are."""
    columns = [
        [_given(value, dialect, between) for value in _held(rows.fields[p], block[p], dialect)]
        for p, between in zip(places, lists, strict=True)
    ]
    lines = list(zip(*columns, strict=True))
    size = max(1, min(_ROWS, _PARAMETERS // len(places)))
    for start in range(0, len(lines), size):
        part = lines[start : start + size]
        yield tuple(value for row in part for value in row), len(part)


def _held(field: Field, column: Column, dialect: Dialect) -> list[Value]:
    """Values of a column; where times are texts as their source writes them."""
    if not dialect.times_are_texts:
        return column.values()
    return [render(v, field.form) for v in column.values()] if field.form else even_times(column)


def _given(value: object, dialect: Dialect, between: str) -> Value:
    """A value as the driver of a dialect takes it; `between` stands between the items of a list of its own."""
    if value is None or value is MISSING:
        return None
    try:
        return whole_text(value) if isinstance(value, str) else dialect.parameter(value, between)
    except ValueRefused as refused:
        raise SendError(refused.message, refused.hint) from refused
