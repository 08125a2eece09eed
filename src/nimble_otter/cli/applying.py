"""`apply`: a script of statements as one transaction, rehearsed or written."""

from __future__ import annotations

import json
import sys
from argparse import Namespace
from collections.abc import Mapping, Sequence

from nimble_otter.cli.delivery import Terminal, source_named
from nimble_otter.cli.flags import UsageError
from nimble_otter.cli.terminal import note, tell
from nimble_otter.errors import ChangeError, QueryError
from nimble_otter.query.sql.destroying import Way
from nimble_otter.query.sql.statements import split_statements
from nimble_otter.sources.hits import Hit, find_hits
from nimble_otter.sources.script import Outcome, apply_script
from nimble_otter.sources.source import Connection, Request
from nimble_otter.translation import tr, trn


def apply(options: Namespace, text: str, values: Mapping[str, object]) -> int:
    """Run the script and tell what each statement did. Raises: UsageError, ChangeError, SourceError's."""
    source = source_named(options.source, options.password_file)
    request = Request(text, dict(values))
    with Terminal().connected(source) as connection:
        if options.write and not options.yes:
            _refuse_whole(connection, text, request)
        outcomes = apply_script(connection, text, request, options.write)
    failed = next((outcome for outcome in outcomes if outcome.error is not None), None)
    is_written = options.write and failed is None
    _tell(text, outcomes, is_written, options.json)
    if failed is not None:
        assert failed.error is not None
        line = text.count("\n", 0, failed.statement.start) + 1
        message = tr(
            "Line {line}: {message}. Nothing was written.", line=line, message=failed.error.message.rstrip(".")
        )
        raise (QueryError if isinstance(failed.error, QueryError) else ChangeError)(message, failed.error.hint)
    return 0


def _refuse_whole(connection: Connection, text: str, request: Request) -> None:
    hits = find_hits(connection, [s.text for s in split_statements(text)], request)
    if told := [_said(hit) for hit in hits if hit.is_every]:
        raise UsageError(tr("{told}. Nothing was run; --yes says that this is meant.", told="; ".join(told)))


def _said(hit: Hit) -> str:
    verb = {Way.DELETE: "delete", Way.UPDATE: "change", Way.DROP: "drop", Way.TRUNCATE: "empty", Way.ALTER: "alter"}
    rows = tr(" ({rows} rows)", rows=hit.rows) if hit.rows is not None else ""
    whole = tr("every row of ") if hit.what.way in (Way.DELETE, Way.UPDATE) and hit.what.table else ""
    return tr(
        "this would {verb} {whole}{table}{rows}",
        verb=verb.get(hit.what.way, hit.what.way.value),
        whole=whole,
        table=hit.what.table or hit.what.what,
        rows=rows,
    )


def _tell(text: str, outcomes: Sequence[Outcome], is_written: bool, as_json: bool) -> None:
    lines = [
        {
            "line": text.count("\n", 0, outcome.statement.start) + 1,
            "statement": " ".join(outcome.statement.text.split()),
            "rows": outcome.fetched.table.rows if outcome.fetched is not None else outcome.affected,
            "error": outcome.error.message if outcome.error is not None else None,
        }
        for outcome in outcomes
    ]
    if as_json:
        tell(json.dumps({"written": is_written, "statements": lines}, ensure_ascii=False, indent=1))
        return
    failed = tr("failed")
    for line in lines:
        rows = "" if line["rows"] is None else tr("{rows} rows", rows=line["rows"])
        tell(f"{line['line']}\t{failed if line['error'] else rows}\t{str(line['statement'])[:100]}")
    count = sum(1 for outcome in outcomes if outcome.error is None)
    ran = trn("{count} statement", "{count} statements", count, count=count)
    note(tr("{ran} written.", ran=ran) if is_written else tr("{ran} run and rolled back.", ran=ran), sys.stderr)
