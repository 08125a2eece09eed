"""The commands, and what goes wrong as exit codes."""

from __future__ import annotations

import argparse
import logging
import sys
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from nimble_otter import __version__
from nimble_otter.cli.delivery import Progress, deliver, deliver_tables, source_named
from nimble_otter.cli.flags import (
    UsageError,
    add_sending,
    describe_formats,
    options_for,
    options_given,
    parse_group,
    parse_parameters,
    parse_sort,
)
from nimble_otter.cli.terminal import tell
from nimble_otter.errors import ChangeError, ConditionError, OtterError, QueryError, SavedError, SendError, SourceError
from nimble_otter.log import start_log
from nimble_otter.memory import settle
from nimble_otter.pull import places
from nimble_otter.pull.deliver import format_of
from nimble_otter.pull.model import Pull, Query, SendPlan
from nimble_otter.pull.steps import ColumnsStep, Condition, FilterStep, Step

log = logging.getLogger(__name__)

_CODES: tuple[tuple[tuple[type[Exception], ...], int], ...] = (
    ((UsageError,), 2),
    ((QueryError, ConditionError), 4),
    ((SourceError, SavedError), 3),
    ((SendError, ChangeError), 5),
)
"""Exit codes of errors, by the first kind that fits."""


def main(arguments: Sequence[str] | None = None) -> int:
    """Run a command; returns the exit code."""
    parser = _parser()
    options = parser.parse_args(arguments)
    start_log(places.state_folder(), "command", options.verbose)
    settle()
    try:
        return int(options.do(options))
    except (UsageError, OtterError) as problem:
        log.warning("%s failed: %s", options.command, type(problem).__name__)
        code = next((code for kinds, code in _CODES if isinstance(problem, kinds)), 1)
        place = problem.place if isinstance(problem, (QueryError, ConditionError)) else None
        if not isinstance(problem, OtterError) or place is None:
            return fail(code, str(problem))
        where = f"line {place.line}, column {place.column}"
        return fail(code, f"{problem.message} ({where}) {problem.hint}".strip())
    except KeyboardInterrupt:
        return fail(130, "Stopped; nothing was delivered.")


def fail(code: int, message: str) -> int:
    """Print one line on standard error; returns the exit code."""
    tell("nimble-otter: " + " ".join(message.split()), sys.stderr)
    return code


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(
        prog="nimble-otter",
        description="Pull rows, shape them here and deliver them. The desktop application is nimble-otter-desktop.",
        epilog="Exit codes: 0 done, 2 usage, 3 source, 4 query, 5 send.",
    )
    parser.add_argument("--version", action="version", version=f"nimble-otter {__version__}")
    parser.add_argument("--verbose", action="store_true", help="log in more detail, and to standard error too")
    commands = parser.add_subparsers(dest="command", required=True, metavar="COMMAND")
    source = "an SQLite file, or the address of a server: postgresql://, mysql://, mongodb://"
    query = commands.add_parser("query", help="ask a source and deliver the rows")
    query.add_argument("--source", required=True, help=source)
    query.add_argument("--sql", required=True, metavar="TEXT", help="the query; :name are parameters")
    query.add_argument("--param", action="append", default=[], metavar="NAME=VALUE", help="a parameter's value")
    query.add_argument("--limit", type=int, metavar="N", help="at most so many rows (none unless given)")
    query.add_argument("--filter", action="append", default=[], metavar="COND", help="keep rows where this holds")
    query.add_argument("--group", metavar="SPEC", help='such as "river, quality: count, sum(flow), mean(level)"')
    query.add_argument("--tree", action="store_true", help="groups of every level with their totals")
    query.add_argument("--sort", metavar="KEYS", help='such as "taken_at desc, level_m"')
    query.add_argument("--columns", metavar="NAMES", help="only these columns, in this order")
    query.set_defaults(do=_query)
    run = commands.add_parser("run", help="run a saved pull and deliver its rows")
    run.add_argument("file", metavar="FILE", help="a pull file")
    run.add_argument("--param", action="append", default=[], metavar="NAME=VALUE", help="a parameter's value")
    run.add_argument("--all", action="store_true", help="all rows and columns as pulled, without the steps")
    run.set_defaults(do=_run)
    tables = commands.add_parser("tables", help="deliver whole tables of a source, each a file, sheet or table")
    tables.add_argument("--source", required=True, help=source)
    tables.add_argument("--names", default="", metavar="NAMES", help="tables, with commas between; all unless given")
    tables.set_defaults(do=_tables)
    for each in (query, run, tables):
        add_sending(each)
    formats = commands.add_parser("formats", help="list the formats and their options")
    formats.set_defaults(do=_formats)
    demo = commands.add_parser("demo", help="write the Merrow river survey, invented sample data, to a folder")
    demo.add_argument("folder", metavar="DIR")
    demo.add_argument(
        "--readings", type=int, default=61_320, metavar="N", help="rows of the reading table (to 10 000 000)"
    )
    demo.set_defaults(do=_demo)
    return parser


def _plans(options: argparse.Namespace, kept: SendPlan | None = None) -> list[SendPlan]:
    """Where the rows go: each --send, or what a saved pull says. Raises: UsageError, SendError."""
    given = options_given(options)
    if options.to:
        given |= {name: value for name in ("duplicates", "map") if (value := getattr(options, name)) is not None}
        if options.send:
            raise UsageError("--to and --send are two deliveries; run them one after the other.")
        return [SendPlan("source", "", {"source": options.to, **given})]
    if not options.send:
        if kept is None:
            raise UsageError(f"{getattr(options, 'file', 'The command')} does not say where to send; give --send PATH.")
        if kept.format in ("source", "clipboard"):
            if kept.format == "clipboard":
                raise UsageError(
                    "The pull goes to the clipboard, which only the desktop application has; give --send PATH."
                )
            return [kept]
        key = options.format or kept.format
        exists = options.exists or ("refuse" if kept.exists == "ask" else kept.exists)
        return [replace(kept, format=key, exists=exists, options={**kept.options, **options_for(key, given, [key])})]
    plans = [SendPlan(options.format or "", path, {}, options.exists or "replace") for path in options.send]
    if "-" in options.send and not options.format:
        raise UsageError("--send - needs --format, as there is no file name to tell it.")
    keys = [format_of(plan).key for plan in plans]
    found = []
    for plan, key in zip(plans, keys, strict=True):
        same = kept is not None and kept.format == key
        own = {**(kept.options if same and kept is not None else {}), **options_for(key, given, keys)}
        if key == "csv" and plan.path.lower().endswith((".tsv", ".tab")):
            own.setdefault("delimiter", "tab")
        found.append(replace(plan, format=key, options=own))
    return found


def _query(options: argparse.Namespace) -> int:
    if options.limit is not None and options.limit < 0:
        raise UsageError("--limit must be 0 or greater.")
    source = source_named(options.source)
    steps: list[Step] = [FilterStep((Condition("sql", text=condition),)) for condition in options.filter]
    if options.group:
        steps.append(parse_group(options.group))
    if options.sort:
        steps.append(parse_sort(options.sort))
    if options.columns:
        names = tuple(name.strip() for name in options.columns.split(",") if name.strip())
        steps.append(ColumnsStep(order=names, only=True))
    named = options.send[0] if options.send and options.send[0] != "-" else ""
    name = Path(named).stem if named and "{" not in named else "query"
    query = Query(options.sql, parameters=parse_parameters(options.param), limit=options.limit)
    plans = [replace(p, scope="tree") if options.tree else p for p in _plans(options)]
    return deliver(Pull(name, source, query, tuple(steps)), plans)


def _run(options: argparse.Namespace) -> int:
    from nimble_otter.pull.file import load_pull

    pull = load_pull(Path(options.file))
    given = parse_parameters(options.param)
    pull = replace(pull, query=replace(pull.query, parameters={**pull.query.parameters, **given}))
    plans = _plans(options, pull.send)
    if options.all or (pull.send is not None and pull.send.scope == "all"):
        pull = replace(pull, steps=())
    return deliver(pull, plans, options.file)


def _tables(options: argparse.Namespace) -> int:
    source = source_named(options.source)
    names = tuple(name.strip() for name in options.names.split(",") if name.strip())
    return deliver_tables(source, names, _plans(options))


def _formats(options: argparse.Namespace) -> int:
    print(describe_formats())
    return 0


def _demo(options: argparse.Namespace) -> int:
    from nimble_otter.demo.survey import write_survey

    if not 0 < options.readings <= 10_000_000:
        raise UsageError("--readings must be between 1 and 10000000.")
    folder = Path(options.folder)
    progress = Progress("readings")
    try:
        folder.mkdir(parents=True, exist_ok=True)
        write_survey(folder / "merrow.sqlite", options.readings, progress=progress)
    except OSError as problem:
        raise SendError(f"{folder} can't be written: {problem.strerror}.") from problem
    progress.end()
    print(folder / "merrow.sqlite")
    return 0
