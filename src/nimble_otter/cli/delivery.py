"""From a source to files or standard output: streamed where no step needs all the rows at once."""

from __future__ import annotations

import datetime as dt
import os
import sys
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, BinaryIO, TextIO, cast

from nimble_otter.cli.flags import UsageError
from nimble_otter.cli.terminal import HarmlessOutput, harmless, tell
from nimble_otter.errors import SendError
from nimble_otter.pull.model import Pull, SendPlan
from nimble_otter.sources.names import names_in_catalogue
from nimble_otter.stop import StopToken

if TYPE_CHECKING:
    from nimble_otter.send import Rows, Sent
    from nimble_otter.send.format import Format
    from nimble_otter.sources import Connection, Request, Source
    from nimble_otter.table import Table


class Progress:
    """Counts on stderr, only when that is a terminal."""

    def __init__(self, what: str) -> None:
        self.what = what
        self.is_on = sys.stderr.isatty()

    def __call__(self, done: int, total: int | None = None) -> None:
        if self.is_on:
            print(
                f"\r{harmless(self.what)} {done}{f' of {total}' if total else ''}  ",
                end="",
                file=sys.stderr,
                flush=True,
            )

    def end(self) -> None:
        if self.is_on:
            print("\r\033[K", end="", file=sys.stderr, flush=True)


def saved_sources() -> list[Source]:
    """The demo's and the saved ones. Raises: SavedError's."""
    from nimble_otter.demo import DEMO_SOURCES
    from nimble_otter.pull import places
    from nimble_otter.sources.saved import load_sources

    return [*DEMO_SOURCES, *load_sources(places.config_folder() / "sources.toml")]


def source_named(text: str) -> Source:
    """A source by its URI, its file, or the name it is saved under. Raises: SourceError."""
    from nimble_otter.sources.source import Source, source_of_file

    if "://" in text or text.startswith("demo:"):
        return Source(text, text)
    if not Path(text).exists():
        named = next((source for source in saved_sources() if source.name == text), None)
        if named is not None:
            return named
    return source_of_file(text)


def _connected(source: Source) -> Connection:
    from nimble_otter.demo import resolve
    from nimble_otter.pull.places import demo_folder
    from nimble_otter.sources import connect
    from nimble_otter.sources.marks import guarded_databases, with_marks
    from nimble_otter.sources.secrets import recall

    saved = saved_sources()
    marked = source if source in saved else with_marks(source, saved, names=True)
    password = None
    if marked.secret is None and recall(marked.url) is None:
        password = os.environ.get("NIMBLE_OTTER_PASSWORD")  # which no other user sees, as arguments are seen
    return connect(resolve(marked, demo_folder()), password, guarded=guarded_databases(marked, saved))


def _request(connection: Connection, pull: Pull) -> Request:
    from nimble_otter.sources import Request

    query = pull.query
    names = names_in_catalogue(connection.tables()) if query.parameters else None
    bound = query.bound(None, names)
    return Request(bound.text, bound.values, query.limit, query.language, query.collection)


def _fetched(pull: Pull) -> tuple[Table, bool]:
    """The rows of a pull's query, and whether the limit cut them. Raises: SourceError's."""
    from nimble_otter.sources import fetch

    connection, reading = _connected(pull.source), Progress("reading")
    try:
        fetched = fetch(connection, _request(connection, pull), on_snapshot=lambda table: reading(table.rows))
    finally:
        reading.end()
        connection.close()
    if fetched.lost is not None:
        raise fetched.lost
    return fetched.table, fetched.was_cut


def deliver(pull: Pull, plans: Sequence[SendPlan], file: str = "") -> int:
    """Run a pull and send its rows to each of the plans."""
    from nimble_otter.pull.deliver import can_stream

    if len(plans) == 1 and can_stream(pull.steps):
        return _streamed(pull, plans[0])
    return _held(pull, plans, file)


def _streamed(pull: Pull, plan: SendPlan) -> int:
    from nimble_otter.pull.deliver import stream_rows
    from nimble_otter.send import needs_count

    connection, stop = _connected(pull.source), StopToken()
    try:
        streamed = stream_rows(connection, _request(connection, pull), pull, stop)
        try:
            if needs_count(plan.path):
                return _held(pull, [plan])
            _send(pull, streamed.rows, plan)
        finally:
            streamed.close()
    finally:
        connection.close()
    _say_cut(pull, streamed.cut)
    return 0


def _held(pull: Pull, plans: Sequence[SendPlan], file: str = "") -> int:
    from nimble_otter.pull import places
    from nimble_otter.pull.deliver import origin_table, rows_of_tree, rows_to_send, table_name
    from nimble_otter.pull.others import find_pull, walk

    folders = tuple(dict.fromkeys((*([Path(file).resolve().parent] if file else []), places.shelf_folder())))
    table, was_cut = _fetched(pull)

    def other_rows(other: Pull) -> Table:
        found, cut = _fetched(other)
        _say_cut(other, cut, f"{other.name}: ")
        return found

    course = walk(pull, table, lambda name: find_pull(name, folders), other_rows)
    for result in course.results:
        if result.error is not None:
            raise result.error
    for plan in plans:
        make = rows_of_tree if plan.scope == "tree" else rows_to_send
        _send(pull, make(course.end, origin_table(table.fields) or table_name(pull)), plan)
    _say_cut(pull, was_cut)
    return 0


def _say_cut(pull: Pull, cut: bool, who: str = "") -> None:
    if cut:
        tell(f"{who}the limit of {pull.query.limit} left rows at the source", sys.stderr)


def _send(pull: Pull, rows: Rows, plan: SendPlan, table: str = "") -> None:
    from nimble_otter.pull.deliver import format_of, path_for
    from nimble_otter.send import send_to_file

    if plan.format == "source":
        _transfer(rows, plan)
        return
    if plan.path == "-":
        _to_output(rows, format_of(plan), plan.options)
        return
    path = path_for(pull, plan, dt.datetime.now(), rows.count, table or rows.table)
    writing = Progress("writing")
    sent = send_to_file(rows, format_of(plan), path, plan.options, progress=writing, exists=plan.exists)
    writing.end()
    _say(pull, plan, sent, f"{len(rows.fields)} columns")


def _transfer(rows: Rows, plan: SendPlan) -> None:
    """To another source: a new table where there is none of that name."""
    from nimble_otter.send.transfer import transfer, transfer_from

    wanted = transfer_from(plan.options)
    source = source_named(str(plan.options.get("source", "")))
    connection, writing = _connected(source), Progress("writing")
    try:
        is_there = any(table.name.casefold() == wanted.table.casefold() for table in connection.tables())
        wanted = replace(wanted, is_new=not is_there and not connection.dialect.is_documents)
        moved = transfer(rows, connection, wanted, progress=writing)
    finally:
        writing.end()
        connection.close()
    said = f"{moved.added} new rows, {moved.updated} updated, {moved.skipped} skipped"
    tell(f"{said} in {moved.table} of {source.name}")


def _say(pull: Pull, plan: SendPlan, sent: Sent, what: str, stream: TextIO | None = None) -> None:
    from nimble_otter.pull import places
    from nimble_otter.pull.deliver import delivered, keep_delivery

    tell(f"{sent.rows} rows, {what} to {sent.path}", stream or sys.stdout)
    for note in sent.notes:
        tell(f"  {note}", sys.stderr)
    if sent.beside is not None:
        tell(f"  {sent.beside[1]} files in {sent.beside[0]}", sys.stderr)
    try:
        keep_delivery(places.state_folder(), delivered(pull, plan.format, sent, dt.datetime.now()))
    except OSError:  # the delivery itself stands
        tell("  the log of deliveries can't be written", sys.stderr)


def _to_output(rows: Rows, format_: Format, options: Any) -> None:
    from nimble_otter.send import Output, settings

    if not format_.is_text:
        raise SendError(f"{format_.word} is not text.", "Send it to a file.")
    given = settings(format_, options)
    if given.get("binary") == "files":
        raise SendError("Files can't be written beside standard output.", "Choose hex or base64.")
    count, stream = 0, cast("BinaryIO", HarmlessOutput(sys.stdout.buffer, sys.stdout.isatty()))
    for done in format_.write(rows, Output(stream, given, StopToken())):
        count = done
        stream.flush()
    tell(f"{count} rows, {len(rows.fields)} columns", sys.stderr)


def deliver_tables(source: Source, names: tuple[str, ...], plans: Sequence[SendPlan]) -> int:
    """Send whole tables: each to a file of its own where the file name has {table}, else all to one file."""
    from nimble_otter.pull.deliver import format_of, path_for, stream_rows
    from nimble_otter.pull.model import Query
    from nimble_otter.send import send_tables
    from nimble_otter.sources import Request

    connection = _connected(source)
    try:
        known = {table.name: table for table in connection.tables() if table.holds_rows}
        for name in names:
            if name not in known:
                raise UsageError(f"There is no table {name} in {source.name}; there are {', '.join(list(known)[:20])}.")
        wanted = [known[name] for name in names] or [t for t in known.values() if t.kind in ("table", "collection")]
        whole = Pull(source.name, source, Query(""))
        for plan in plans:
            opened: list[Any] = []

            def rows_of(table: Any, opened: list[Any] = opened) -> Rows:
                request = Request(connection.select_all(table.name))
                streamed = stream_rows(connection, request, whole, StopToken(), table.name, table)
                opened.append(streamed)
                return streamed.rows

            format_ = format_of(plan)
            try:
                if "{table}" in plan.path or len(wanted) == 1:
                    for table in wanted:
                        _send(whole, rows_of(table), plan, table.name)
                else:
                    path = path_for(whole, plan, dt.datetime.now(), None)
                    lazily = [(table.name, _later(rows_of, table)) for table in wanted]
                    sent = send_tables(lazily, format_, path, plan.options, exists=plan.exists)
                    _say(whole, plan, sent, f"{len(wanted)} tables")
            finally:
                for streamed in opened:
                    streamed.close()
    finally:
        connection.close()
    return 0


def _later(rows_of: Any, table: Any) -> Any:
    """Rows that are asked for only when their turn comes, as a connection gives those of one query at a time."""
    return lambda: rows_of(table)
