"""The flags: of the queries, of the steps, and one for each option that a format has."""

from __future__ import annotations

import argparse
import re
from collections.abc import Sequence
from typing import Any

from nimble_otter.pull.steps import FigureOf, GroupStep, KeyBy, SortBy, SortStep
from nimble_otter.query import parameter_value
from nimble_otter.send import EXISTS, Option, all_formats, format_for
from nimble_otter.table.ops.group import AggregateFunction
from nimble_otter.translation import tr

_COUNT = re.compile(r"(?P<figure>[a-zA-Z ]+?)(?: (?P<at>0?\.\d+))?\s*(?:\(\s*(?P<column>[^)]*?)\s*\))?")

_KEY = re.compile(
    r'\s*("(?:[^"]|"")+"|[^,"\s][^,"]*?)(?:\s+(asc|desc))?(?:\s+nulls\s+(first|last))?\s*(?:,|$)', re.IGNORECASE
)


class UsageError(Exception):
    """A wrong argument."""


def parse_parameters(given: Sequence[str]) -> dict[str, object]:
    """NAME=VALUE pairs; whole numbers and decimals become numbers, a value in quotes stays text. A name that is given
    several times has all its values."""
    found: dict[str, Any] = {}
    for item in given:
        name, equals, text = item.partition("=")
        if not equals or not name.isidentifier():
            raise UsageError(tr("--param {item!r} is not NAME=VALUE.", item=item))
        value = parameter_value(text)
        found[name] = [*_as_list(found[name]), value] if name in found else value
    return found


def _as_list(value: object) -> list[object]:
    return value if isinstance(value, list) else [value]


def parse_group(spec: str) -> GroupStep:
    """ "a, taken_at by month: count, sum(c), mean(c)"; without figures the rows are counted."""
    keys, _, figures = spec.partition(":")
    names = [name.strip() for name in keys.split(",") if name.strip()]
    if not names:
        raise UsageError(tr("--group names no columns."))
    known = ", ".join(figure.value for figure in AggregateFunction)
    chosen = []
    for part in re.findall(r"[^,(]+(?:\([^)]*\))?", figures):
        match = _COUNT.fullmatch(part.strip())
        if match is None or match["figure"].lower() not in {f.value for f in AggregateFunction}:
            raise UsageError(
                tr("--group: {part!r} is not an aggregate; available are {known}.", part=part.strip(), known=known)
            )
        figure = AggregateFunction(match["figure"].lower())
        if not figure.of_rows and not match["column"]:
            raise UsageError(
                tr("--group: {figure_value} needs a column, as in {figure_value}(level_m).", figure_value=figure.value)
            )
        column = "" if figure is AggregateFunction.COUNT else match["column"] or ""
        chosen.append(FigureOf(figure, column, float(match["at"] or 0.5)))
    by = [KeyBy(column.strip(), part.strip()) for column, _, part in (name.partition(" by ") for name in names)]
    return GroupStep(tuple(by), tuple(chosen) or (FigureOf(AggregateFunction.COUNT),))


def parse_sort(spec: str) -> SortStep:
    """ "a desc, b": asc unless said; "nulls first" or "nulls last" may follow."""
    keys, at = [], 0
    while at < len(spec):
        match = _KEY.match(spec, at)
        if match is None:
            raise UsageError(tr("--sort: {spec!r} is not a column.", spec=spec[at:]))
        name = match[1][1:-1].replace('""', '"') if match[1].startswith('"') else match[1]
        keys.append(SortBy(name, (match[2] or "").lower() == "desc", (match[3] or "").lower() == "first"))
        at = match.end()
    if not keys:
        raise UsageError(tr("--sort names no column."))
    return SortStep(tuple(keys))


def add_sending(parser: argparse.ArgumentParser) -> None:
    """--send, what comes with it, and the options of all formats (see `nimble-otter formats`)."""
    parser.add_argument(
        "--send", action="append", default=[], metavar="PATH",
        help=tr("a file whose ending says the format, with {pull} {source} {table} {date:%%Y-%%m} {time} {count} "
        "{param.NAME} filled in; - is standard output; may be given several times"),
    )  # fmt: skip
    parser.add_argument(
        "--to",
        metavar="SOURCE",
        help=tr("another source for the rows, in its --table: a new one, with --key, or one there"),
    )
    parser.add_argument(
        "--duplicates", choices=("stop", "skip", "update"), help=tr("of --to: rows whose key already exists")
    )
    parser.add_argument(
        "--on-server", action="store_true",
        help=tr("of --to: the query's own server computes all steps and writes the rows; they do not "
"pass through here"),
    )  # fmt: skip
    parser.add_argument("--map", metavar="PAIRS", help=tr('of --to: such as "level_m = level, note =" (left out)'))
    parser.add_argument("--format", metavar="KEY", help=tr("the format, where the file's name does not say it"))
    ways = dict((*EXISTS, *(change for format_ in all_formats() for change in format_.changes)))
    ways.pop("ask")
    parser.add_argument("--exists", choices=ways, help=tr("what happens to an existing file: replace by default"))
    group = parser.add_argument_group(tr("options of formats (nimble-otter formats lists which has which)"))
    for name, options in _options().items():
        flag = f"--{name.replace('_', '-')}"
        option = options[0]
        if option.kind == "yes/no":
            group.add_argument(flag, dest=_dest(name), action=argparse.BooleanOptionalAction, help=option.label)
        else:
            choices = list(dict.fromkeys(key for each in options for key, _ in each.choices))
            text = option.label + (f": {', '.join(choices)}" if choices else "")
            group.add_argument(flag, dest=_dest(name), metavar=option.kind.upper()[:6], help=text.replace("%", "%%"))


def _dest(name: str) -> str:
    return f"option_{name}"


def _options() -> dict[str, list[Option]]:
    found: dict[str, list[Option]] = {}
    for format_ in all_formats():
        for option in format_.options:
            found.setdefault(option.name, []).append(option)
    return found


def options_given(arguments: argparse.Namespace) -> dict[str, object]:
    """The options of formats that were given, by their names."""
    found = {name: getattr(arguments, _dest(name)) for name in _options()}
    return {name: value for name, value in found.items() if value is not None}


def options_for(key: str, given: dict[str, object], keys: Sequence[str]) -> dict[str, object]:
    """Those that a format has. Raises: UsageError for one that none of the formats in use has."""
    own = {option.name for option in format_for(key).options}
    known = {option.name for each in keys for option in format_for(each).options}
    for name in given:
        if name not in known:
            flag = f"--{name.replace('_', '-')}"
            has = ", ".join(f.key for f in all_formats() if name in {o.name for o in f.options})
            raise UsageError(
                tr("{flag} is not an option of {keys}; {has} has it.", flag=flag, keys=" or ".join(keys), has=has)
            )
    return {name: value for name, value in given.items() if name in own}


def describe_formats() -> str:
    """What `nimble-otter formats` prints."""
    lines = []
    for format_ in all_formats():
        lines.append(f"{format_.key}  {format_.word}, *{format_.suffix}")
        for option in format_.options:
            text = ", ".join(key for key, _ in option.choices) or option.kind
            usual = {True: "yes", False: "no", "": "none"}.get(option.default, option.default)
            lines.append(f"    --{option.name.replace('_', '-'):<14} {option.label}: {text} ({usual})")
        changes = ", ".join(f"{way} ({word})" for way, word in format_.changes)
        lines.append(f"    --exists         replace, number, refuse{', ' + changes if changes else ''}")
    return "\n".join(lines)


def add_schedule(schedule: argparse.ArgumentParser) -> None:
    """The words of `schedule`."""
    words = ("list", "add", "remove", "pause", "resume", "run", "log", "units", "marks", "reset", "share", "unshare",
             "take-over")  # fmt: skip
    schedule.add_argument("what", nargs="?", default="list", choices=words)
    schedule.add_argument(
        "subject", nargs="?", default="", metavar="NAME", help=tr("of add: a pull, by its file or name")
    )
    when = schedule.add_argument_group(tr("when (of add)"))
    when.add_argument("--every", default="day", choices=("hour", "day", "weekday", "week", "month", "minutes"))
    when.add_argument("--at", default="", metavar="TIME", help=tr("such as 04:30; of an hour its minute, such as :15"))
    when.add_argument("--on", default="", metavar="DAYS", help=tr("of a week Mon,Thu; of a month 1 to 31, or last"))
    when.add_argument("--minutes", type=int, default=15, metavar="N", help=tr("5, 10, 15, 20 or 30"))
    when.add_argument("--calendar", default="", metavar="EXPRESSION", help=tr('five fields, such as "30 4 * * 1-5"'))
    when.add_argument(
        "--time-zone", default="", metavar="NAME", help=tr("such as Europe/Lisbon; the machine's own if unset")
    )
    when.add_argument("--between", default="", metavar="HOURS", help=tr("runs only then, such as 08:00-18:00"))
    when.add_argument("--missed", default="run", choices=("run", "skip"), help=tr("a run that the machine was off for"))
    schedule.add_argument(
        "--name", default="", metavar="NAME", help=tr("of add: what it is called; the pull's name if unset")
    )
    schedule.add_argument("--to-value", default="", metavar="VALUE", help=tr("of reset: only rows from this one on"))
    schedule.add_argument(
        "--param", action="append", default=[], metavar="NAME=VALUE", help=tr("of add: a parameter's value")
    )
    schedule.add_argument("--tries", type=int, default=4, metavar="N", help=tr("of add: how often a source is tried"))
    schedule.add_argument(
        "--tell", default="failed", choices=("failed", "always", "never"), help=tr("by a notification")
    )
    schedule.add_argument("--by", default="", choices=("systemd", "cron", "none"), help=tr("what starts it"))
    schedule.add_argument(
        "--only-new", action="store_true", help=tr("of add: deliver each row once, told apart by --new-key")
    )
    schedule.add_argument("--changed-too", action="store_true", help=tr("of add: and again when it changed"))
    schedule.add_argument(
        "--new-key", default="", metavar="NAMES", help=tr("columns that tell rows apart; the pull's key if unset")
    )
    schedule.add_argument(
        "--grows", default="", metavar="COLUMN", help=tr("with --only-new: ask only for rows that are not lower in it")
    )
    schedule.add_argument(
        "--overlap", default="", metavar="SPAN", help=tr("of --grows: for rows that come late, such as 1 day or 1000")
    )
    schedule.add_argument("--send-anyway", action="store_true", help=tr("of add: deliver rows although checks fail"))
    schedule.add_argument(
        "--password-file", default="", metavar="FILE", help=tr("a file whose first line is the password")
    )
    schedule.add_argument("--due", action="store_true", help=tr("of run: only where the timetable says so now"))
    schedule.add_argument("--last", type=int, default=50, metavar="N", help=tr("of log: at most so many (50)"))
    schedule.add_argument(
        "--report", choices=("text", "json"), default="text", help=tr("how standard error tells of it")
    )
    schedule.add_argument("--json", action="store_true", help=tr("tell it as JSON"))
    add_sending(schedule)


_SIDE = tr(
    "a pull (its file, or its name on the shelf), SOURCE#TABLE, or a file of rows: .csv .json .jsonl .xlsx .parquet"
)


def add_compare(parser: argparse.ArgumentParser) -> None:
    """The words of `compare`, whose key is that of the comparison."""
    add_sending(parser)
    parser.set_defaults(**{_dest("key"): None})
    own = parser.add_argument_group(tr("comparing"), conflict_handler="resolve")
    parser.add_argument("left", metavar="LEFT", help=_SIDE)
    parser.add_argument("right", metavar="RIGHT", help=tr("the same of the other side"))
    own.add_argument("--key", default="", metavar="COLUMNS", help=tr("what tells rows apart; found unless given"))
    own.add_argument("--by-position", action="store_true", help=tr("the first row with the first, and so on"))
    own.add_argument("--pair", action="append", default=[], metavar="LEFT=RIGHT", help=tr("columns of other names"))
    own.add_argument("--leave-out", default="", metavar="COLUMNS", help=tr("columns that are not compared"))
    own.add_argument("--tolerance", action="append", default=[], metavar="COLUMN=N",
                        help=tr("numbers no further apart are the same; of times, seconds"))  # fmt: skip
    own.add_argument("--any-case", default="", metavar="COLUMNS", help=tr("texts whatever their case"))
    own.add_argument("--any-space", default="", metavar="COLUMNS", help=tr("texts whatever their spaces"))
    own.add_argument("--empty-is-null", default="", metavar="COLUMNS", help=tr("empty texts as NULL"))
    own.add_argument("--lists-by", action="append", default=[], metavar="COLUMN=FIELD",
                        help=tr("items of lists matched by a field inside, in any order"))  # fmt: skip
    own.add_argument("--all", action="store_true", help=tr("rows that are the same, too"))
    own.add_argument(
        "--schema", action="store_true", help=tr("LEFT and RIGHT are sources: their tables, columns, keys")
    )
    own.add_argument("--all-tables", action="store_true", help=tr("LEFT and RIGHT are sources: the rows of each table"))
    own.add_argument("--counts", action="store_true", help=tr("of --schema: the number of rows of each table, too"))
    own.add_argument("--large", action="store_true", help=tr("read both in the order of --key, without holding them"))
    own.add_argument("--script", default="", metavar="FILE",
                        help=tr("statements that make LEFT like RIGHT, in the order of foreign keys"))  # fmt: skip
    own.add_argument("--write", action="store_true", help=tr("make LEFT like RIGHT, in batches with a reversal each"))
    own.add_argument("--batch", type=int, default=50_000, metavar="N", help=tr("rows of a batch of --write"))
    own.add_argument("--yes", action="store_true", help=tr("of --write: also where the source asks for care"))
    own.add_argument("--no-insert", action="store_true", help=tr("of --script, --write: leave out what only RIGHT has"))
    own.add_argument(
        "--no-update", action="store_true", help=tr("of --script, --write: leave rows that differ as they are")
    )
    own.add_argument("--delete", action="store_true", help=tr("of --script, --write: delete what only LEFT has"))
    own.add_argument("--json", action="store_true", help=tr("the counts as JSON"))
    own.add_argument("--param", action="append", default=[], metavar="NAME=VALUE", help=tr("a parameter's value"))
    own.add_argument("--password-file", default="", metavar="FILE", help=tr("a file whose first line is the password"))
