"""A query's rows to a table of the server that runs it, by one statement: they do not pass through this machine.

What would be changed on the way without an error (digits that a column has no room for) is looked for before; the
table is counted before and after, as for rows that are sent from here.
"""

from __future__ import annotations

import re
import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from nimble_otter.errors import SendError
from nimble_otter.query.sql.statements import parameter_places
from nimble_otter.send.ddl import quoted_table, quoter
from nimble_otter.send.transfer import (
    Moved,
    Transfer,
    check_keys,
    commit,
    drop_made,
    find_target,
    insert_head,
    insert_tail_of,
    matched,
    rows_there,
)
from nimble_otter.sources.catalogue import ColumnInfo, TableInfo
from nimble_otter.sources.dialects import Dialect
from nimble_otter.sources.guard import refuse_writing
from nimble_otter.sources.session import Bound
from nimble_otter.sources.source import Connection
from nimble_otter.sources.writer import Writer
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table import Field
from nimble_otter.translation import tr

_NUMBERED = re.compile(r"(.+) \(\d+\)", re.DOTALL)


@dataclass(frozen=True, slots=True)
class AskedThere:
    """A query that only reads, its parameters' values, and the columns that it gives."""

    text: str
    values: Mapping[str, object]
    fields: Sequence[Field]


def statements(asked: AskedThere, wanted: Transfer, info: TableInfo | None, dialect: Dialect) -> list[str]:
    """What the server is asked to do, with the query's parameters as they stand. Raises: SendError."""
    labels = [field.name for field in asked.fields]
    twice = next((base[1] for label in labels if (base := _NUMBERED.fullmatch(label)) and base[1] in labels), None)
    if twice is not None:  # only here it was given another name
        raise SendError(
            tr("Two columns of the query are called {twice}.", twice=twice), tr("Give one another name (AS).")
        )
    places, names = matched(labels, wanted, info)
    quote, table = quoter(dialect), quoted_table(wanted.table, dialect)
    inner = f"(\n{asked.text}\n) as q"
    if not dialect.makes_tables_of_queries:
        raise SendError(
            tr("Rows of a query can't be written on {display_name} itself yet.", display_name=dialect.display_name),
            tr("Let them pass through here."),
        )
    if not wanted.is_new:
        tail = insert_tail_of(wanted, names, info, dialect)
        columns = ", ".join(quote(asked.fields[place].name) for place in places)
        if tail:  # names of the table's own would mean two columns, and without a condition it would be a join's
            renamed = ", ".join(f"{quote(asked.fields[place].name)} as arriving_{place}" for place in places)
            inner, columns = f"(select {renamed} from {inner}) as r", ", ".join(f"arriving_{n}" for n in places)
            tail = f" where 1 = 1{tail}"
        return [f"{insert_head(wanted, names, info, dialect)}\nselect {columns}\nfrom {inner}{tail}"]
    columns = ", ".join(
        quote(name) if name == asked.fields[place].name else f"{quote(asked.fields[place].name)} as {quote(name)}"
        for place, name in zip(places, names, strict=True)
    )
    made = [f"create table {table} as\nselect {columns}\nfrom {inner}"]
    if wanted.keys:
        check_keys(wanted, names)
        if not dialect.adds_keys:
            text = tr("{display_name} adds no key to a table that a query made.", display_name=dialect.display_name)
            raise SendError(text, tr("Leave the key out, or create the table before."))
        made.append(f"alter table {table} add primary key ({', '.join(map(quote, wanted.keys))})")
    return made


def transfer_there(asked: AskedThere, connection: Connection, wanted: Transfer, stop: StopToken = NEVER) -> Moved:
    """Write a query's rows to a table of its own server. All arrive or none. Raises: SendError, NotReading,
    SourceError's, OutcomeUnknown, Stopped."""
    began = time.perf_counter()
    dialect = connection.dialect
    if dialect.is_documents:
        raise SendError(tr("Documents are not written by their server itself."), tr("Let the rows pass through here."))
    refuse_writing(connection.verdict(asked.text), asked.text, connection.is_read_only)
    info = find_target(connection, wanted)
    texts = statements(asked, wanted, info, dialect)
    is_made = False
    try:
        with connection.transaction(stop) as writer:
            before, sent = 0, None
            if info is not None:
                sent = _looked_at(asked, wanted, info, dialect, writer)
                before = rows_there(writer, wanted.table, dialect)
            touched = 0
            for text in texts:
                stop.check()
                touched = writer.execute_many([bound(text, asked.values, dialect)])[0].touched or touched
                is_made = wanted.is_new
            after = rows_there(writer, wanted.table, dialect)
            added = after - before
            sent = added if sent is None else sent
            if added > sent or (wanted.duplicates == "stop" and added != sent):
                kept = (
                    tr("nothing was kept")
                    if dialect.has_transactions
                    else tr("they stay, as the server has no transactions")
                )
                raise SendError(
                    tr("The query gives {sent} rows, but {added} arrived; {kept}.", sent=sent, added=added, kept=kept),
                    tr("Check its triggers."),
                )
            commit(writer, connection, wanted, after)
    except BaseException:
        if is_made and dialect.defining_commits:  # making a table ends the transaction there
            drop_made(connection, wanted)
        raise
    updated = sent - added if wanted.duplicates == "update" else 0
    return Moved(wanted.table, sent, added, updated, sent - added - updated, time.perf_counter() - began)


def _looked_at(asked: AskedThere, wanted: Transfer, info: TableInfo, dialect: Dialect, writer: Writer) -> int:
    """How many rows the query gives. Raises: SendError, where a column there has no room for digits of some of them."""
    places, names = matched([field.name for field in asked.fields], wanted, info)
    quote, tests, told = quoter(dialect), list[str](), list[tuple[str, ColumnInfo]]()
    for place, name in zip(places, names, strict=True):
        there, own = info.column(name), asked.fields[place]
        kind = "" if there is None or own.exact == there.exact != "" else dialect.cast_type(there)
        if there is not None and kind:
            held = quote(own.name)
            tests.append(f"sum(case when {held} <> cast({held} as {kind}) then 1 else 0 end)")
            told.append((own.name, there))
    text = f"select {', '.join(['count(*)', *tests])} from (\n{asked.text}\n) as q"
    row = writer.query(bound(text, asked.values, dialect))[1][0]
    for (name, there), count in zip(told, row[1:], strict=True):
        if int(count or 0):
            raise SendError(
                tr(
                    "{count} values of {name} have digits that {there_name} ({exact}) has no room for.",
                    count=int(count),
                    name=name,
                    there_name=there.name,
                    exact=there.exact or there.declared,
                ),
                tr("Round them in the query."),
            )
    return int(row[0])


def bound(text: str, values: Mapping[str, object], dialect: Dialect) -> Bound:
    """A text with the driver's marks for its parameters, and their values in their order."""
    pieces, given, at = [], [], 0
    for start, end, name in parameter_places(text):
        if name in values:
            pieces.append(text[at:start])
            given.append(dialect.parameter(values[name]))
            at = end
    return dialect.joined([*pieces, text[at:]]), tuple(given)
