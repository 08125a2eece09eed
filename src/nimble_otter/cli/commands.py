"""The commands, and what goes wrong as exit codes."""

from __future__ import annotations

import argparse
import logging
import os
import re
import signal
import sys
import threading
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import replace
from functools import partial
from pathlib import Path

from nimble_otter.cli.charting import add_chart
from nimble_otter.cli.delivery import Progress, Wishes, deliver, deliver_tables, source_named, with_password
from nimble_otter.cli.flags import (
    UsageError,
    add_compare,
    add_schedule,
    add_sending,
    describe_formats,
    options_for,
    options_given,
    parse_group,
    parse_parameters,
    parse_sort,
)
from nimble_otter.cli.outline import outline
from nimble_otter.cli.terminal import be_quiet, tell
from nimble_otter.errors import (
    ChangeError,
    ChecksFailed,
    ConditionError,
    OtterError,
    QueryError,
    SavedError,
    SendError,
    SourceError,
)
from nimble_otter.log import start_log
from nimble_otter.memory import settle
from nimble_otter.pull import places
from nimble_otter.pull.deliver import format_of
from nimble_otter.pull.model import Pull, Query, SendPlan
from nimble_otter.pull.steps import ColumnsStep, Condition, FilterStep, Step
from nimble_otter.translation import tr

log = logging.getLogger(__name__)

_CODES: tuple[tuple[tuple[type[Exception], ...], int], ...] = (
    ((UsageError,), 2),
    ((QueryError, ConditionError), 4),
    ((SourceError, SavedError), 3),
    ((ChecksFailed,), 6),
    ((SendError, ChangeError), 5),
)
"""Exit codes of errors, by the first kind that fits."""


def main(arguments: Sequence[str] | None = None) -> int:
    """Run a command; returns the exit code."""
    options = parser().parse_args(arguments)
    start_log(places.state_folder(), "command", options.verbose)
    be_quiet(options.quiet)
    settle()
    ended: list[int] = []
    try:
        with _ended_by_signals(ended):
            code = int(options.do(options))
            sys.stdout.flush()
            return code
    except BrokenPipeError:  # who read the rows has enough of them
        sys.stdout = open(os.devnull, "w")  # noqa: SIM115 - what is left to be written at the end goes nowhere
        return 0
    except OSError as problem:
        return fail(5, tr("The rows can't be written: {strerror}.", strerror=problem.strerror))
    except (UsageError, OtterError) as problem:
        log.warning("%s failed: %s", options.command, type(problem).__name__)
        code = next((code for kinds, code in _CODES if isinstance(problem, kinds)), 1)
        place = problem.place if isinstance(problem, (QueryError, ConditionError)) else None
        if not isinstance(problem, OtterError) or place is None:
            return fail(code, str(problem))
        where = tr("line {line}, column {column}", line=place.line, column=place.column)
        return fail(code, f"{problem.message} ({where}) {problem.hint}".strip())
    except KeyboardInterrupt:
        return fail(128 + (ended[0] if ended else signal.SIGINT), tr("Stopped; nothing was delivered."))


@contextmanager
def _ended_by_signals(ended: list[int]) -> Iterator[None]:
    """Being told to end, or losing the terminal, ends as cleanly as Ctrl+C; `ended` is told which it was. Raises:
    KeyboardInterrupt, also where a client that was interrupted makes an error of its own of it."""

    def end(number: int, _: object) -> None:
        ended.append(number)
        raise KeyboardInterrupt

    if threading.current_thread() is not threading.main_thread():
        yield
        return
    before = {number: signal.signal(number, end) for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)}
    try:
        yield
    except Exception as problem:
        if ended:
            raise KeyboardInterrupt from problem
        raise
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)


def fail(code: int, message: str) -> int:
    """Print one line on standard error; returns the exit code."""
    tell("nimble-otter: " + " ".join(message.split()), sys.stderr)
    return code


def parser() -> argparse.ArgumentParser:
    """The parser of all commands and their flags."""
    whole, commands = outline()
    source = tr("an SQLite file, or the address of a server: postgresql://, mysql://, mongodb://")
    query = commands["query"]
    query.add_argument("--source", required=True, help=source)
    text = query.add_mutually_exclusive_group(required=True)
    text.add_argument("--sql", metavar="TEXT", help=tr("the query; :name are parameters; - reads standard input"))
    text.add_argument("--sql-file", metavar="FILE", help=tr("a file with the query; - is standard input"))
    query.add_argument("--param", action="append", default=[], metavar="NAME=VALUE", help=tr("a parameter's value"))
    query.add_argument("--limit", type=int, metavar="N", help=tr("at most so many rows (none unless given)"))
    query.add_argument("--filter", action="append", default=[], metavar="COND", help=tr("keep rows where this holds"))
    query.add_argument("--group", metavar="SPEC", help=tr('such as "river, quality: count, sum(flow), mean(level)"'))
    query.add_argument("--tree", action="store_true", help=tr("groups of every level with their totals"))
    query.add_argument("--sort", metavar="KEYS", help=tr('such as "taken_at desc, level_m"'))
    query.add_argument("--columns", metavar="NAMES", help=tr("only these columns, in this order"))
    query.set_defaults(do=_query)
    run = commands["run"]
    run.add_argument("file", metavar="FILE", help=tr("a pull file, or the name of a pull on the shelf"))
    run.add_argument("--param", action="append", default=[], metavar="NAME=VALUE", help=tr("a parameter's value"))
    run.add_argument("--all", action="store_true", help=tr("all rows and columns as pulled, without the steps"))
    run.set_defaults(do=_run)
    tables = commands["tables"]
    tables.add_argument("--source", required=True, help=source)
    tables.add_argument(
        "--names", default="", metavar="NAMES", help=tr("tables, with commas between; all unless given")
    )
    tables.set_defaults(do=_tables)
    run.add_argument("--send-anyway", action="store_true", help=tr("deliver rows although checks fail"))
    for each in (query, run):
        each.add_argument("--fail-if-cut", action="store_true", help=tr("fail where a limit left rows at the source"))
        each.add_argument(
            "--report", choices=("text", "json"), default="text", help=tr("how standard error tells of it")
        )
    for each in (query, run, tables):
        add_sending(each)
    for each in (query, run, tables, commands["describe"], commands["sources"], commands["find"], commands["apply"]):
        each.add_argument(
            "--password-file", default="", metavar="FILE", help=tr("a file whose first line is the password")
        )
    _add_listing(commands, source)
    add_chart(commands["chart"])
    add_compare(commands["compare"])
    commands["compare"].set_defaults(do=_compare)
    trace = commands["trace"]
    trace.add_argument("file", metavar="PULL", help=tr("a pull file, or the name of a pull on the shelf"))
    trace.add_argument("--where", required=True, metavar="COND", help=tr('which row, such as "reading_id = 42"'))
    trace.add_argument("--json", action="store_true", help=tr("as JSON"))
    trace.add_argument("--param", action="append", default=[], metavar="NAME=VALUE", help=tr("a parameter's value"))
    trace.add_argument(
        "--password-file", default="", metavar="FILE", help=tr("a file whose first line is the password")
    )
    trace.set_defaults(do=_trace)
    add_schedule(commands["schedule"])
    commands["schedule"].set_defaults(do=_schedule)
    formats = commands["formats"]
    formats.set_defaults(do=_formats)
    demo = commands["demo"]
    demo.add_argument("folder", metavar="DIR")
    demo.add_argument(
        "--readings", type=int, default=61_320, metavar="N", help=tr("rows of the reading table (to 10 000 000)")
    )
    demo.set_defaults(do=_demo)
    return whole


def _add_listing(commands: Mapping[str, argparse.ArgumentParser], source: str) -> None:
    """The commands that tell what there is."""
    sources = commands["sources"]
    sources.add_argument(
        "what", nargs="?", default="list", choices=("list", "add", "test", "remove", "export", "import")
    )
    sources.add_argument("name", nargs="?", default="", metavar="NAME", help=tr("of import: a file"))
    sources.add_argument(
        "address",
        nargs="?",
        default="",
        metavar="ADDRESS",
        help=tr("of add: {source}; of export: a file; of import: another name", source=source),
    )
    sources.add_argument("--stage", default="", metavar="WORD", help=tr("of add: its environment, such as production"))
    sources.add_argument(
        "--password-command",
        default="",
        metavar="COMMAND",
        help=tr("of add: run at each connection, its first line is the password"),
    )
    sources.add_argument("--read-only", action="store_true", help=tr("of add: never write there"))
    sources.add_argument("--care", action="store_true", help=tr("of add: ask once more before writing"))
    describe = commands["describe"]
    describe.add_argument("--source", required=True, help=source)
    describe.add_argument("table", metavar="TABLE")
    find = commands["find"]
    find.add_argument("--source", required=True, help=source)
    find.add_argument("value", metavar="VALUE")
    find.add_argument("--names", default="", metavar="NAMES", help=tr("tables, with commas between; all unless given"))
    find.add_argument("--match-case", action="store_true", help=tr("letters as they are given"))
    ways = find.add_mutually_exclusive_group()
    ways.add_argument("--word", action="store_true", help=tr("whole words only"))
    ways.add_argument("--regex", action="store_true", help=tr("VALUE is a regular expression"))
    apply = commands["apply"]
    apply.add_argument("--source", required=True, help=source)
    apply.add_argument("script", metavar="SCRIPT", help=tr("a file of SQL statements; - is standard input"))
    what = apply.add_mutually_exclusive_group(required=True)
    what.add_argument("--rehearse", action="store_true", help=tr("run it, tell what it did, and roll it back"))
    what.add_argument("--write", action="store_true", help=tr("run it and commit, if every statement succeeds"))
    apply.add_argument("--param", action="append", default=[], metavar="NAME=VALUE", help=tr("a parameter's value"))
    apply.add_argument("--yes", action="store_true", help=tr("also what would empty, drop or change a whole table"))
    commands["history"].add_argument("--pull", default="", metavar="NAME", help=tr("only those of this pull"))
    for name in ("history", "team"):
        commands[name].add_argument("--most", type=int, default=50, metavar="N", help=tr("at most so many (50)"))
    for name in ("sources", "describe", "find", "shelf", "team", "history"):
        commands[name].set_defaults(do=partial(_listed, name))
    apply.set_defaults(do=_apply)
    for name in ("sources", "describe", "find", "apply", "shelf", "team", "history", "tables"):
        commands[name].add_argument("--json", action="store_true", help=tr("tell it as JSON"))


def _schedule(options: argparse.Namespace) -> int:
    from nimble_otter.cli import scheduling

    return scheduling.schedule(options, _plans(options) if options.send or options.to else [])


def _compare(options: argparse.Namespace) -> int:
    from nimble_otter.cli import comparing

    return comparing.compare(options, _plans(options) if options.send or options.to else [])


def _trace(options: argparse.Namespace) -> int:
    from nimble_otter.cli import tracing

    return tracing.trace_rows(options)


def _listed(name: str, options: argparse.Namespace) -> int:
    from nimble_otter.cli import listing

    return int(getattr(listing, name)(options))


def _apply(options: argparse.Namespace) -> int:
    from nimble_otter.cli import applying

    text = text_of(options.script)
    return applying.apply(options, text, _parameters(options.param, text, ()))


def _plans(options: argparse.Namespace, kept: SendPlan | None = None) -> list[SendPlan]:
    """Where the rows go: each --send, or what a saved pull says. Raises: UsageError, SendError."""
    given = options_given(options)
    if options.to:
        given |= {name: value for name in ("duplicates", "map") if (value := getattr(options, name)) is not None}
        if options.send:
            raise UsageError(tr("--to and --send are two deliveries; run them one after the other."))
        return [
            SendPlan("source", "", {"source": options.to, **given}, scope="server" if options.on_server else "shown")
        ]
    if options.on_server:
        raise UsageError(tr("--on-server needs --to, the source of the query, and --table."))
    if not options.send:
        if kept is None:  # to whom asked: readable on a terminal, for other programs in a pipe
            key = options.format or ("text" if sys.stdout.isatty() else "csv")
            return [SendPlan(key, "-", options_for(key, given, [key]))]
        if kept.format in ("source", "clipboard"):
            if kept.format == "clipboard":
                raise UsageError(
                    tr("The pull goes to the clipboard, which only the desktop application has; give --send PATH.")
                )
            return [kept]
        key = options.format or kept.format
        exists = options.exists or ("refuse" if kept.exists == "ask" else kept.exists)
        return [replace(kept, format=key, exists=exists, options={**kept.options, **options_for(key, given, [key])})]
    paths = ["-" if path == "/dev/stdout" else path for path in options.send]
    plans = [SendPlan(options.format or ("csv" if path == os.devnull else ""), path, {}, options.exists or "replace")
             for path in paths]  # fmt: skip
    if "-" in options.send and not options.format:
        raise UsageError(tr("--send - needs --format, as there is no file name to tell it."))
    keys = [format_of(plan).key for plan in plans]
    results = []
    for plan, key in zip(plans, keys, strict=True):
        same = kept is not None and kept.format == key
        own = {**(kept.options if same and kept is not None else {}), **options_for(key, given, keys)}
        if key == "csv" and plan.path.lower().endswith((".tsv", ".tab")):
            own.setdefault("delimiter", "tab")
        is_as_named = bool(options.format and Path(plan.path).suffix)
        results.append(replace(plan, format=key, options=own, is_as_named=is_as_named))
    return results


def _query(options: argparse.Namespace) -> int:
    if options.limit is not None and options.limit < 0:
        raise UsageError(tr("--limit must be 0 or greater."))
    source = source_named(options.source, options.password_file)
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
    text = _text_of(options)
    query = Query(
        text, parameters=_parameters(options.param, " ".join((text, *options.filter)), ()), limit=options.limit
    )
    if options.tree and options.on_server:
        raise UsageError(tr("--tree is put together here; leave it or --on-server out."))
    plans = [replace(p, scope="tree") if options.tree else p for p in _plans(options)]
    return deliver(Pull(name, source, query, tuple(steps)), plans, _wishes(options))


def _text_of(options: argparse.Namespace) -> str:
    """The query, from where it stands. Raises: SavedError."""
    path = options.sql_file or ("-" if options.sql == "-" else "")
    return text_of(path) if path else str(options.sql)


def text_of(path: str) -> str:
    """A text in a file, or on standard input for "-". Raises: SavedError."""
    try:
        raw = sys.stdin.buffer.read() if path == "-" else Path(path).read_bytes()
        return raw.decode("utf-8-sig")
    except OSError as problem:
        raise SavedError(tr("{path} can't be read: {strerror}.", path=path, strerror=problem.strerror)) from problem
    except UnicodeDecodeError as problem:
        raise SavedError(tr("{path} is not UTF-8 text.", path=path), tr("Save it as UTF-8.")) from problem


def _parameters(given: Sequence[str], text: str, kept: Iterable[str]) -> dict[str, object]:
    """The values that were given. Raises: UsageError for one that the query does not have."""
    from nimble_otter.query.sql.statements import find_parameters

    found, known = parse_parameters(given), {*find_parameters(text), *kept}
    for name in found:
        if name not in known:
            has = tr("it has {known}", known=", ".join(sorted(known))) if known else tr("it has none")
            raise UsageError(tr("The query has no parameter {name}; {has}.", name=name, has=has))
    return found


def _run(options: argparse.Namespace) -> int:
    from nimble_otter.pull.file import load_pull
    from nimble_otter.pull.others import saved_path

    path = saved_path(options.file, places.shelf_folders())
    pull = load_pull(path)
    pull = replace(pull, source=with_password(pull.source, options.password_file))
    in_steps = re.findall(r":(\w+)", repr(pull.steps))  # more than there are, for what stands in quotes
    given = _parameters(options.param, pull.query.text, [*pull.query.parameters, *in_steps])
    pull = replace(pull, query=replace(pull.query, parameters={**pull.query.parameters, **given}))
    plans = _plans(options, pull.send)
    if options.all or (pull.send is not None and pull.send.scope == "all"):
        pull = replace(pull, steps=())
    return deliver(pull, plans, _wishes(options), str(path))


def _wishes(options: argparse.Namespace) -> Wishes:
    return Wishes(options.fail_if_cut, getattr(options, "send_anyway", False), options.report == "json")


def _tables(options: argparse.Namespace) -> int:
    if not options.send and not options.to:
        return _listed("tables", options)
    source = source_named(options.source, options.password_file)
    names = tuple(name.strip() for name in options.names.split(",") if name.strip())
    return deliver_tables(source, names, _plans(options))


def _formats(options: argparse.Namespace) -> int:
    print(describe_formats())
    return 0


def _demo(options: argparse.Namespace) -> int:
    from nimble_otter.demo.survey import write_survey

    if not 0 < options.readings <= 10_000_000:
        raise UsageError(tr("--readings must be between 1 and 10000000."))
    folder = Path(options.folder)
    progress = Progress(tr("readings"))
    try:
        folder.mkdir(parents=True, exist_ok=True)
        write_survey(folder / "merrow.sqlite", options.readings, progress=progress)
    except OSError as problem:
        raise SendError(
            tr("{folder} can't be written: {strerror}.", folder=folder, strerror=problem.strerror)
        ) from problem
    progress.end()
    print(folder / "merrow.sqlite")
    return 0
