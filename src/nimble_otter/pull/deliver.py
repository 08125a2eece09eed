"""What of a pull is delivered, and where to: for the window and the command line alike.

A query's rows can go straight from the source to the file, some thousand at a time, where no step needs them all.
"""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Callable, Generator, Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from nimble_otter.errors import ConditionError
from nimble_otter.pull.course import run_course
from nimble_otter.pull.model import Pull, SendPlan
from nimble_otter.pull.shaped import Shaped, all_rows, columns_to_send
from nimble_otter.pull.steps import ColumnsStep, FilterStep, Step
from nimble_otter.pull.tree import Opened, tree_to_send
from nimble_otter.send import Names, Rows, fill_name, format_for, format_of_file, rows_of_view, with_suffix
from nimble_otter.send.format import BATCH, Format
from nimble_otter.sources import Connection, Request, TableInfo, fetch
from nimble_otter.stop import StopToken
from nimble_otter.table import Column, Field, Table, TableBuilder
from nimble_otter.table.core.columns import distinct_names
from nimble_otter.translation import tr
from nimble_otter.values import Value


def rows_of_tree(shaped: Shaped, table: str, opened: Opened | None = None) -> Rows:
    """Groups of each level with their totals, as the tree is open (None: all groups, no rows); rows that are not
    grouped as they are."""
    if shaped.grouped is None:
        return rows_to_send(shaped, table)
    return rows_of_view(*tree_to_send(shaped, opened), table)


def rows_to_send(shaped: Shaped, table: str, info: TableInfo | None = None) -> Rows:
    """What is delivered of rows as shown: in their order, with the columns in theirs and the names they are given.
    `info` is the table that they are rows of, for its key and the columns that it fills itself."""
    fields, columns, view = columns_to_send(shaped)
    rows = rows_of_view(fields, columns, view, table, info.key if info is not None else ())
    if info is None:
        if not origin_table(fields):
            return rows
        filled = {f.name for f in fields if f.generated not in ("", "identity")}
        is_numbered = any(f.generated == "identity" for f in fields)
        return replace(rows, computed=frozenset(filled), has_identity=is_numbered)
    own = [shaped.table.fields[place].name for place in shaped.shown()]
    there = {name: info.column(source) for name, source in zip(rows.names, own, strict=True)}
    computed = {name for name, c in there.items() if c is not None and c.generated not in ("", "identity")}
    has_identity = any(c is not None and c.generated == "identity" for c in there.values())
    return replace(rows, computed=frozenset(computed), has_identity=has_identity)


def rows_as_pulled(table: Table, name: str, info: TableInfo | None = None) -> Rows:
    """All rows and columns as the source gave them."""
    return rows_to_send(all_rows(table), name, info)


def table_name(pull: Pull) -> str:
    """What rows of a pull are called where they become a table."""
    return re.sub(r"\W+", "_", pull.name).strip("_").lower() or "result"


def origin_table(fields: Sequence[Field]) -> str:
    """The bare name of the table that all columns with an origin come from; "" where there is no such one."""
    tables = {field.origin.rpartition(".")[0] for field in fields if field.origin}
    return tables.pop().rpartition(".")[2] if len(tables) == 1 else ""


def format_of(plan: SendPlan) -> Format:
    """The plan's format, or the one that its file name says. Raises: SendError."""
    return format_for(plan.format) if plan.format else format_of_file(plan.path)


def path_for(pull: Pull, plan: SendPlan, at: dt.datetime, count: int | None, table: str = "") -> Path:
    """The file that a plan means now. Raises: SendError."""
    names = Names(pull.name, pull.source.name, at, table, count, pull.values())
    name = fill_name(plan.path, names)
    return Path(name if plan.is_as_named else with_suffix(name, format_of(plan))).expanduser()


# --- straight from the source ------------------------------------------------------------------------------------


def can_stream(steps: Sequence[Step]) -> bool:
    """Whether every step that is on looks at one row at a time."""
    return all(isinstance(step, (FilterStep, ColumnsStep)) for step in steps if step.on)


@dataclass(slots=True)
class Streamed:
    """Rows on their way from the source: `cut` says whether the limit left rows there, `read` how many came."""

    rows: Rows
    read: int = 0
    cut: bool = False
    close: Callable[[], None] = lambda: None


def stream_rows(
    connection: Connection,
    request: Request,
    pull: Pull,
    stop: StopToken,
    table: str = "",
    info: TableInfo | None = None,
) -> Streamed:
    """The rows of a query, block by block, through the pull's steps (see `can_stream`). Documents whose fields are not
    chosen are read whole first, as their columns are known only then. Raises: SourceError's, ConditionError."""
    values = pull.values()
    run = connection.run(replace(request, in_columns=True), stop)
    if run.fields is None:
        close = getattr(run.batches, "close", None)
        if close is not None:
            close()
        fetched = fetch(connection, request, stop)
        stop.check()
        fetched.refuse_part()
        shaped = _through(fetched.table, pull, values)
        return Streamed(rows_to_send(shaped, table or table_name(pull), info), fetched.table.rows, fetched.was_cut)
    builder_fields = distinct_names(run.fields)
    blocks = _tables(run.batches, lambda: TableBuilder(builder_fields, run.hints, run.is_typed), request.limit)
    name = table or origin_table(run.fields) or table_name(pull)
    streamed = Streamed(None, close=getattr(run.batches, "close", lambda: None))  # type: ignore[arg-type]
    try:
        first, streamed.cut = next(blocks, (TableBuilder(builder_fields, run.hints, run.is_typed).table(), False))
        begun = rows_to_send(_through(first, pull, values), name, info)
    except BaseException:
        streamed.close()
        raise

    def shaped_blocks(stop: StopToken) -> Iterator[Sequence[Column]]:
        streamed.read = first.rows
        yield from begun.blocks(stop)
        for block, streamed.cut in blocks:
            stop.check()
            streamed.read += block.rows
            yield from rows_to_send(_through(block, pull, values), "").blocks(stop)
        stop.check()

    streamed.rows = replace(begun, blocks=shaped_blocks, count=None)
    return streamed


def table_blocks(connection: Connection, request: Request, stop: StopToken) -> Generator[Table]:
    """The rows of a query as tables of some thousands each; an empty one where there are none. Raises: SourceError's,
    ConditionError, where the columns are known only when all rows are there; Stopped."""
    run = connection.run(replace(request, in_columns=True), stop)
    close = getattr(run.batches, "close", lambda: None)
    try:
        if run.fields is None:
            raise ConditionError(tr("Documents can't be read in stretches."), tr("Choose columns in the query."))
        fields = distinct_names(run.fields)

        def make() -> TableBuilder:
            return TableBuilder(fields, run.hints, run.is_typed)

        count = 0
        for table, _ in _tables(run.batches, make, request.limit):
            stop.check()
            count += table.rows
            yield table
        if not count:
            yield make().table()
    finally:
        close()


def _through(table: Table, pull: Pull, values: Value) -> Shaped:
    return run_course(table, pull.steps, values=values).whole().end


def _tables(
    batches: Iterator[list[Value]], make: Callable[[], TableBuilder], limit: int | None
) -> Iterator[tuple[Table, bool]]:
    """Tables of about BATCH rows, and whether the limit cut."""
    builder, done = make(), 0
    for batch in batches:
        cut = limit is not None and done + len(batch) > limit
        builder.append(batch[: limit - done] if cut and limit is not None else batch)
        done += len(batch)
        if builder.rows >= BATCH or cut:
            yield builder.table(), cut
            builder = make()
        if cut:
            return
    if builder.rows:
        yield builder.table(), False
