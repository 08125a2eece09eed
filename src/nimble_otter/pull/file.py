"""The pull file: readable text (TOML 1.0) that can be kept in git; see docs/pull-file.md. It holds no secret."""

from __future__ import annotations

import datetime as dt
import tomllib
from contextlib import suppress
from dataclasses import replace
from pathlib import Path
from typing import Any

import tomli_w

from nimble_otter.changes.plan import Guard
from nimble_otter.entry import Entry
from nimble_otter.errors import CorruptError, SavedError, TooNewError
from nimble_otter.files import read_text, write_text
from nimble_otter.pull.charts.model import MOST_CHARTS, Chart
from nimble_otter.pull.merge import merge
from nimble_otter.pull.model import SCOPES, Pull, Query, SendPlan
from nimble_otter.pull.places import is_ours, team_folder
from nimble_otter.pull.steps import STEPS, Step
from nimble_otter.query.sql.parameters import Ask
from nimble_otter.sources.source import Source
from nimble_otter.sources.urls import without_secrets
from nimble_otter.team_changes import noting
from nimble_otter.translation import tr
from nimble_otter.values import Value

FORMAT = "nimble otter pull"
VERSION = 2
_LATER = ("check", "compare")
"""Of a pull with a check, a comparison or a chart; others are written as 1, which every version of ours reads."""
SUFFIX = ".pull"
LONGEST = 16_000_000
"""Characters of a pull file; a query with a long list of keys has some millions."""
MOST_STEPS = 500
_WIDEST = 5000


def pull_to_text(pull: Pull) -> str:
    """The file's text; the same pull always gives the same text."""
    query: dict[str, Any] = {"text": pull.query.text, "language": pull.query.language}
    if pull.query.collection:
        query["collection"] = pull.query.collection
    query["limit"] = pull.query.limit if pull.query.limit is not None else "none"
    if pull.query.parameters:
        query["parameters"] = {name: _plain(value) for name, value in sorted(pull.query.parameters.items())}
    if pull.query.asks:
        query["asks"] = {
            name: {k: v for k, v in (("kind", ask.kind), ("choices", ask.choices)) if v}
            for name, ask in sorted(pull.query.asks.items())
        }
    whole: dict[str, Any] = {
        "format": FORMAT,
        "version": VERSION if pull.charts or any(step.kind in _LATER for step in pull.steps) else 1,
        "name": pull.name,
        "source": {"name": pull.source.name, "url": pull.source.url},
        "query": query,
    }
    if pull.steps:
        whole["step"] = [_plain_step(step) for step in pull.steps]
    if pull.charts:
        whole["chart"] = [chart.to_plain() for chart in pull.charts]
    if pull.send is not None:
        options = {name: _plain(value) for name, value in sorted(pull.send.options.items())}
        whole["send"] = {
            "format": pull.send.format,
            "path": pull.send.path,
            **({"exists": pull.send.exists} if pull.send.exists != "ask" else {}),
            **({"scope": pull.send.scope} if pull.send.scope != "shown" else {}),
            **({"options": options} if options else {}),
        }
    changes = {"guard": pull.guard} if pull.guard != Guard.SEEN else {}
    if changes or pull.by_values:
        whole["changes"] = changes | ({"by_values": True} if pull.by_values else {})
    if pull.came_from:
        whole["came_from"] = pull.came_from
    if pull.widths:
        whole["widths"] = dict(sorted(pull.widths.items()))
    text = tomli_w.dumps(whole)
    return text if r"\r" in text else tomli_w.dumps(whole, multiline_strings=True)  # TOML's long texts lose a \r


def _plain(value: object) -> Value:
    if isinstance(value, (list, tuple)):
        return [_plain(item) for item in value]
    if isinstance(value, str):
        return without_secrets(value)
    if isinstance(value, (bool, int, float, dt.date, dt.datetime)):
        return value
    raise SavedError(tr("A {name} can't be kept in a pull file.", name=type(value).__name__))


def _plain_step(step: Step) -> dict[str, object]:
    plain: dict[str, object] = {"kind": step.kind}
    if not step.on:
        plain["on"] = False
    if step.name:
        plain["name"] = step.name
    return plain | step.to_plain()


def pull_from_text(text: str, where: str = tr("The pull")) -> Pull:
    """Raises: CorruptError, TooNewError."""
    if len(text) > LONGEST:
        raise CorruptError(
            tr("{where} is longer than a pull file can be.", where=where),
            tr("At most {longest:,} characters are read.", longest=LONGEST),
        )
    try:
        whole = tomllib.loads(text.removeprefix("\ufeff"))
    except (ValueError, RecursionError) as problem:  # also numbers of thousands of digits, and lists nested as deep
        raise CorruptError(
            tr("{where} is not a readable pull file: {problem}.", where=where, problem=problem),
            tr("Correct it there, or use an older copy."),
        ) from problem
    if whole.get("format") != FORMAT:
        raise CorruptError(
            tr("{where} is not a pull file.", where=where),
            tr('Its first line should be format = "{format}".', format=FORMAT),
        )
    version = whole.get("version")
    if not isinstance(version, int) or version < 1:
        raise CorruptError(tr("{where} has no version.", where=where))
    if version > VERSION:
        raise TooNewError(
            tr("{where} was written by a newer Nimble Otter (file version {version}).", where=where, version=version),
            tr("Update, then open it."),
        )
    try:
        return _pull(Entry(whole, tr("the file")))
    except (ValueError, ArithmeticError, RecursionError) as problem:
        raise CorruptError(
            tr("{where} is incomplete or invalid: {problem}.", where=where, problem=problem),
            tr("See docs/pull-file.md."),
        ) from problem


def _send(plain: Entry) -> SendPlan:
    format_, options = plain.text("format"), plain.mapping("options")
    layout = options.pop("layout", "")
    if format_ == "json" and layout == "lines":  # before JSON Lines was a format of its own
        format_ = "jsonl"
    scope = plain.word("scope", SCOPES, "shown")
    return SendPlan(format_, plain.text("path"), options, plain.text("exists", "ask"), scope)


def _pull(whole: Entry) -> Pull:
    query, source, changes, widths = map(whole.entry, ("query", "source", "changes", "widths"))
    steps, charts = whole.values("step"), whole.values("chart")
    if len(charts) > MOST_CHARTS:
        raise ValueError(
            tr(
                "there are {charts_count} charts; at most {most_charts} are taken",
                charts_count=len(charts),
                most_charts=MOST_CHARTS,
            )
        )
    if len(steps) > MOST_STEPS:
        raise ValueError(
            tr(
                "there are {steps_count} steps; at most {most_steps} are taken",
                steps_count=len(steps),
                most_steps=MOST_STEPS,
            )
        )
    limit = None if query.value("limit", "none") == "none" else query.whole("limit")
    if limit is not None and not 0 <= limit < 1 << 62:
        raise ValueError(tr("the limit is out of range"))
    return Pull(
        whole.text("name"),
        Source(source.text("name"), source.text("url")),
        Query(
            query.text("text"),
            query.text("language", "sql"),
            query.text("collection", ""),
            {name: _checked(name, value) for name, value in query.mapping("parameters").items()},
            limit,
            {name: Ask(ask.text("kind", ""), ask.text("choices", "")) for name, ask in query.named("asks").items()},
        ),
        tuple(_step(step, tr("step {k}", k=k)) for k, step in enumerate(steps, 1)),
        _send(whole.entry("send")) if "send" in whole else None,
        {name: min(max(widths.whole(name), 0), _WIDEST) for name in widths},
        whole.text("came_from", ""),
        changes.member("guard", Guard, Guard.SEEN.value),
        changes.flag("by_values"),
        tuple(Chart.from_plain(Entry(chart, tr("chart {k}", k=k))) for k, chart in enumerate(charts, 1)),
    )


def _checked(name: object, value: object) -> object:
    """A parameter's value: one of TOML's plain ones, or a list of them."""
    for one in value if isinstance(value, list) else [value]:
        is_plain = isinstance(one, (str, bool, int, float, dt.date, dt.datetime, dt.time))
        if not is_plain:
            raise ValueError(tr("the value of the parameter {name} is of no supported kind", name=name))
    return value


def _step(given: object, at: str) -> Step:
    kind = Entry(given, at).word("kind", STEPS)
    plain = Entry(given, f"{at} ({kind})")
    step = STEPS[kind].from_plain(plain)
    on = not isinstance(plain.value("on", True), list) or kind != "join"  # an older join's pairs
    return replace(step, on=plain.flag("on", True) if on else True, name=plain.text("name", ""))  # type: ignore[type-var]


def save_pull(pull: Pull, path: Path) -> None:
    """Raises: SavedError."""
    try:
        with noting(team_folder(), path, pull.name, _difference):
            write_text(path, pull_to_text(pull), is_private=is_ours(path))
    except OSError as problem:
        raise SavedError(
            tr("{path} can't be written: {strerror}.", path=path, strerror=problem.strerror),
            tr("Choose another folder."),
        ) from problem


def _difference(before: str, after: str) -> str:
    """Which parts of a pull are others, in a few words."""
    with suppress(SavedError):
        old = pull_from_text(before)
        return ", ".join(merge(old, old, pull_from_text(after)).theirs)
    return ""


def load_pull(path: Path) -> Pull:
    """Raises: SavedError and its kinds; the file is left as it is."""
    try:
        text = read_text(path)
    except OSError as problem:
        raise SavedError(tr("{path} can't be read: {strerror}.", path=path, strerror=problem.strerror)) from problem
    except UnicodeDecodeError as problem:
        raise CorruptError(
            tr("{path_name} is not text.", path_name=path.name), tr("A pull file is UTF-8 text.")
        ) from problem
    return pull_from_text(text, path.name)
