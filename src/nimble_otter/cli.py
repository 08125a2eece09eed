"""The command line, on the core alone: query, run, demo. Exit codes: 0 done, 2 usage, 3 source, 4 query, 5 send."""

from __future__ import annotations

import argparse
import datetime as dt
import os
import re
import sys
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from nimble_otter import __version__
from nimble_otter.errors import ConditionError, OtterError, QueryError, SavedError, SendError, SourceError
from nimble_otter.memory import settle
from nimble_otter.pull.model import Pull, Query, SendPlan
from nimble_otter.pull.steps import (
    ColumnsStep,
    Condition,
    FigureOf,
    FilterStep,
    GroupStep,
    KeyBy,
    SortBy,
    SortStep,
    Step,
)
from nimble_otter.query import parameter_value
from nimble_otter.sources.names import names_in_catalogue
from nimble_otter.table.group import Figure

if TYPE_CHECKING:
    from nimble_otter.sources import Fetched
    from nimble_otter.table import Table

_COUNT = re.compile(r"(?P<figure>[a-zA-Z ]+?)(?: (?P<at>0?\.\d+))?\s*(?:\(\s*(?P<column>[^)]*?)\s*\))?")


class UsageError(Exception):
    """A wrong argument."""


def main(arguments: Sequence[str] | None = None) -> int:
    """Run a command; returns the exit code."""
    parser = _parser()
    options = parser.parse_args(arguments)
    settle()
    try:
        if options.command == "demo":
            return _demo(options)
        if options.command == "query":
            return _pull(_query_pull(options), options.send)
        return _pull(_saved_pull(options), options.send, options.file)
    except UsageError as problem:
        return _fail(2, str(problem))
    except (QueryError, ConditionError) as problem:
        where = f" (line {problem.place.line}, column {problem.place.column})" if problem.place else ""
        return _fail(4, f"{problem.message}{where} {problem.hint}".strip())
    except (SourceError, SavedError) as problem:
        return _fail(3, str(problem))
    except SendError as problem:
        return _fail(5, str(problem))
    except KeyboardInterrupt:
        return _fail(130, "Stopped; nothing was delivered.")


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(
        prog="nimble-otter",
        description="Pull rows, shape them here, deliver them. Without a window; the window is nimble-otter-desktop.",
        epilog="Exit codes: 0 done, 2 usage, 3 source, 4 query, 5 send.",
    )
    parser.add_argument("--version", action="version", version=f"nimble-otter {__version__}")
    commands = parser.add_subparsers(dest="command", required=True, metavar="COMMAND")
    query = commands.add_parser("query", help="ask a source and deliver the rows")
    query.add_argument("--source", required=True, help="an SQLite file, sqlite:///FILE or mongodb://HOST:PORT/NAME")
    query.add_argument("--sql", required=True, metavar="TEXT", help="the query; :name are parameters")
    query.add_argument("--param", action="append", default=[], metavar="NAME=VALUE", help="a parameter's value")
    query.add_argument("--limit", type=int, metavar="N", help="at most so many rows (none unless given)")
    query.add_argument("--filter", action="append", default=[], metavar="COND", help="keep rows where this holds")
    query.add_argument("--group", metavar="SPEC", help='such as "river, quality: count, sum(flow), mean(level)"')
    query.add_argument("--sort", metavar="KEYS", help='such as "taken_at desc, level_m"')
    query.add_argument("--columns", metavar="NAMES", help="only these columns, in this order")
    query.add_argument("--send", required=True, metavar="PATH", help="a file ending in .csv, .xlsx, .json or .sql")
    query.add_argument("--table", metavar="NAME", help="the table named in SQL inserts")
    run = commands.add_parser("run", help="run a saved pull and deliver its rows")
    run.add_argument("file", metavar="FILE", help="a pull file")
    run.add_argument("--param", action="append", default=[], metavar="NAME=VALUE", help="a parameter's value")
    run.add_argument("--send", metavar="PATH", help="deliver here instead of where the pull says")
    demo = commands.add_parser("demo", help="write the Merrow river survey, invented sample data, to a folder")
    demo.add_argument("folder", metavar="DIR")
    demo.add_argument(
        "--readings", type=int, default=61_320, metavar="N", help="rows of the reading table (to 10 000 000)"
    )
    return parser


def _fail(code: int, message: str) -> int:
    print("nimble-otter: " + " ".join(message.split()), file=sys.stderr)
    return code


class _Progress:
    """Counts on stderr, only when that is a terminal."""

    def __init__(self, what: str) -> None:
        self.what = what
        self.is_on = sys.stderr.isatty()

    def __call__(self, done: int, total: int | None = None) -> None:
        if self.is_on:
            print(f"\r{self.what} {done}{f' of {total}' if total else ''}  ", end="", file=sys.stderr, flush=True)

    def end(self) -> None:
        if self.is_on:
            print("\r\033[K", end="", file=sys.stderr, flush=True)


def parse_parameters(given: Sequence[str]) -> dict[str, Any]:
    """NAME=VALUE pairs; whole numbers and decimals become numbers, a value in quotes stays text."""
    found: dict[str, Any] = {}
    for item in given:
        name, equals, text = item.partition("=")
        if not equals or not name.isidentifier():
            raise UsageError(f"--param {item!r} is not NAME=VALUE.")
        found[name] = parameter_value(text)
    return found


def parse_group(spec: str) -> GroupStep:
    """ "a, taken_at by month: count, sum(c), mean(c)"; without figures the rows are counted."""
    keys, _, figures = spec.partition(":")
    names = [name.strip() for name in keys.split(",") if name.strip()]
    if not names:
        raise UsageError("--group names no columns.")
    known = ", ".join(figure.value for figure in Figure)
    chosen = []
    for part in re.findall(r"[^,(]+(?:\([^)]*\))?", figures):
        match = _COUNT.fullmatch(part.strip())
        if match is None or match["figure"].lower() not in {f.value for f in Figure}:
            raise UsageError(f"--group: {part.strip()!r} is no figure; there are {known}.")
        figure = Figure(match["figure"].lower())
        if not figure.of_rows and not match["column"]:
            raise UsageError(f"--group: {figure.value} needs a column, as in {figure.value}(level_m).")
        column = "" if figure is Figure.COUNT else match["column"] or ""
        chosen.append(FigureOf(figure, column, float(match["at"] or 0.5)))
    by = [KeyBy(column.strip(), part.strip()) for column, _, part in (name.partition(" by ") for name in names)]
    return GroupStep(tuple(by), tuple(chosen) or (FigureOf(Figure.COUNT),))


def parse_sort(spec: str) -> SortStep:
    """ "a desc, b": asc unless said; "nulls first" or "nulls last" may follow."""
    keys = []
    for part in spec.split(","):
        match = re.fullmatch(r"\s*(.+?)(?:\s+(asc|desc))?(?:\s+nulls\s+(first|last))?\s*", part, re.IGNORECASE)
        if match is None:
            raise UsageError(f"--sort: {part!r} is no column.")
        keys.append(
            SortBy(match[1].strip('"'), (match[2] or "").lower() == "desc", (match[3] or "").lower() == "first")
        )
    return SortStep(tuple(keys))


def _query_pull(options: argparse.Namespace) -> Pull:
    from nimble_otter.sources.source import Source, source_of_file

    if options.limit is not None and options.limit < 0:
        raise UsageError("--limit takes a number from 0.")
    text = options.source
    source = Source(text, text) if "://" in text or text.startswith("demo:") else source_of_file(text)
    steps: list[Step] = [FilterStep((Condition("sql", text=condition),)) for condition in options.filter]
    if options.group:
        steps.append(parse_group(options.group))
    if options.sort:
        steps.append(parse_sort(options.sort))
    if options.columns:
        names = tuple(name.strip() for name in options.columns.split(",") if name.strip())
        steps.append(ColumnsStep(order=names, only=True))
    name = Path(options.send).stem
    send = SendPlan("", options.send, {"table": options.table} if options.table else {})
    query = Query(options.sql, parameters=parse_parameters(options.param), limit=options.limit)
    return Pull(name, source, query, tuple(steps), send)


def _saved_pull(options: argparse.Namespace) -> Pull:
    from nimble_otter.pull.file import open_pull

    pull = open_pull(Path(options.file))
    given = parse_parameters(options.param)
    pull = replace(pull, query=replace(pull.query, parameters={**pull.query.parameters, **given}))
    if options.send:
        same = pull.send is not None and options.send.lower().endswith(f".{pull.send.format}")
        kept = pull.send.options if same and pull.send is not None else {}
        pull = replace(pull, send=SendPlan("", options.send, kept))
    if pull.send is None:
        raise UsageError(f"{options.file} does not say where to send; give --send PATH.")
    return pull


def _fetch(pull: Pull) -> Fetched:
    """The rows of a pull's query."""
    from nimble_otter.demo import resolve
    from nimble_otter.pull.places import demo_folder
    from nimble_otter.sources import Request, connect, fetch
    from nimble_otter.sources.secrets import recall, split_secret

    url, password = split_secret(resolve(pull.source, demo_folder()).url)
    connection = connect(replace(pull.source, url=url), password or recall(url))
    try:
        reading, query = _Progress("reading"), pull.query
        names = names_in_catalogue(connection.tables()) if query.parameters else None
        bound = query.bound(None, names)
        request = Request(bound.text, bound.values, query.limit, query.language, query.collection)
        fetched = fetch(connection, request, on_snapshot=lambda table: reading(table.rows))
        reading.end()
    finally:
        connection.close()
    return fetched


def _pull(pull: Pull, given: str | None, file: str = "") -> int:
    from nimble_otter.pull import places
    from nimble_otter.pull.others import find_pull, walk
    from nimble_otter.pull.shaped import columns_to_send
    from nimble_otter.send import Rows, fill_name, format_for, format_of_file, send_to_file

    assert pull.send is not None
    now = dt.datetime.now()
    format_ = format_for(pull.send.format) if pull.send.format else format_of_file(pull.send.path)
    folders = tuple(dict.fromkeys((*([Path(file).resolve().parent] if file else []), places.shelf_folder())))
    fetched = _fetch(pull)

    def other_rows(other: Pull) -> Table:
        found = _fetch(other)
        if found.was_cut:
            print(f"{other.name}: the limit of {other.query.limit} left rows at the source", file=sys.stderr)
        return found.table

    course = walk(pull, fetched.table, lambda name: find_pull(name, folders), other_rows)
    values = pull.values()
    for result in course.results:
        if result.error is not None:
            raise result.error
    fields, columns, view = columns_to_send(course.end)
    path = fill_name(pull.send.path, pull.name, pull.source.name, len(view), now, values)
    path += "" if path.lower().endswith(format_.suffix) else format_.suffix
    writing = _Progress("writing")
    sent = send_to_file(
        Rows(fields, columns, view, pull.name), format_, Path(path), pull.send.options, progress=writing
    )
    writing.end()
    cut = f"; the limit of {pull.query.limit} left rows at the source" if fetched.was_cut and given != "-" else ""
    print(f"{sent.rows} rows, {len(fields)} columns to {sent.path}{cut}")
    return 0


def _demo(options: argparse.Namespace) -> int:
    from nimble_otter.demo.survey import write_survey

    if not 0 < options.readings <= 10_000_000:
        raise UsageError("--readings takes a number from 1 to 10000000.")
    folder = Path(options.folder)
    progress = _Progress("readings")
    try:
        folder.mkdir(parents=True, exist_ok=True)
        write_survey(folder / "merrow.sqlite", options.readings, progress=progress)
    except OSError as problem:
        raise SendError(f"{folder} can't be written: {problem.strerror}.") from None
    progress.end()
    print(folder / "merrow.sqlite")
    return 0


if __name__ == "__main__":
    try:
        sys.exit(main())
    except BrokenPipeError:
        os._exit(0)
    except OtterError as unknown:
        sys.exit(_fail(3, str(unknown)))
