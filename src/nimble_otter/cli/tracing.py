"""`trace`: what became of a row of a pull, step by step, or what keeps it out of the query."""

from __future__ import annotations

import argparse
import json
import sys
from dataclasses import asdict, replace

from nimble_otter.cli.delivery import Terminal
from nimble_otter.cli.flags import UsageError, parse_parameters
from nimble_otter.cli.terminal import note, tell
from nimble_otter.pull import places
from nimble_otter.pull.delivery import pulled
from nimble_otter.pull.file import load_pull
from nimble_otter.pull.model import Pull
from nimble_otter.pull.others import saved_path
from nimble_otter.pull.tracing import Trace, find_rows, trace
from nimble_otter.pull.tracing_query import trace_query
from nimble_otter.translation import tr

_MOST_ROWS = 20


def trace_rows(options: argparse.Namespace) -> int:
    """Tell what became of the rows that the condition means. Raises: UsageError, OtterError."""
    path = saved_path(options.file, places.shelf_folders())
    pull = load_pull(path)
    values = {**pull.query.parameters, **parse_parameters(options.param)}
    pull = replace(pull, query=replace(pull.query, parameters=values))
    around = Terminal(str(path), password_file=options.password_file)
    _, course = pulled(pull, around)
    rows = find_rows(course.table, options.where)
    if not len(rows):
        return _asked_again(options, pull, around)
    if len(rows) > _MOST_ROWS and not options.json:
        raise UsageError(
            tr(
                "{rows_count} rows are meant; name fewer than {most_rows}, or use --json.",
                rows_count=len(rows),
                most_rows=_MOST_ROWS + 1,
            )
        )
    traces = [trace(course, row) for row in rows.tolist()]
    if options.json:
        tell(json.dumps([_plain(each) for each in traces], ensure_ascii=False), sys.stdout)
        return 0
    for each in traces:
        for passage in each.passages:
            note(passage.words())
            for remedy in passage.remedies:
                note(tr("    would bring it back: {words}", words=remedy.words))
    return 0


def _plain(found: Trace) -> dict[str, object]:
    lines = [{**asdict(replace(each, remedies=())), "remedies": [remedy.words for remedy in each.remedies]}
             for each in found.passages]  # fmt: skip
    return {"is_there": bool(len(found.rows)), "steps": lines}


def _asked_again(options: argparse.Namespace, pull: Pull, around: Terminal) -> int:
    with around.connected(pull.source) as connection:
        traced = trace_query(
            pull, options.where, connection, tell=lambda text: note(tr("asking: {text}", text=text), sys.stderr)
        )
    if options.json:
        lost = {"part": traced.lost.words, "text": traced.lost.span.text, "start": traced.lost.span.start,
                "end": traced.lost.span.end} if traced.lost is not None else None  # fmt: skip
        plain = {
            "is_there": False,
            "is_returned": traced.is_returned,
            "lost_in_query": lost,
            "asked": list(traced.asked),
        }
        tell(json.dumps(plain, ensure_ascii=False), sys.stdout)
        return 0
    note(tr("Query: {words}", words=traced.words()))
    return 0
