"""What is known of a query's text before a server sees it."""

from __future__ import annotations

import re

from nimble_otter.errors import Place, QueryError, place_of
from nimble_otter.query.lazy import exp, sqlglot
from nimble_otter.query.sql.statements import find_parameters, split_statements
from nimble_otter.sources.source import Request
from nimble_otter.translation import tr


def one_statement(request: Request) -> str:
    """The text of the only statement. Raises: QueryError, when there is none, are several, or a value is missing."""
    unset = [name for name in find_parameters(request.text) if name not in request.parameters]
    if unset:
        raise QueryError(
            tr("The parameter :{unset} has no value.", unset=unset[0]), tr("Give it one beside the query.")
        )
    statements = split_statements(request.text)
    if len(statements) != 1:
        raise QueryError(
            tr("There is no statement to run.") if not statements else tr("Only one statement can be run at a time."),
            "" if not statements else tr("Put the caret in one, or select it."),
        )
    return statements[0].text


def find_word(text: str, word: str) -> Place | None:
    """Where a name stands in a text: whole words before parts of words."""
    if not word:
        return None
    match = re.search(rf"(?<![\w]){re.escape(word)}(?![\w])", text, re.IGNORECASE) or re.search(re.escape(word), text)
    return place_of(text, match.start(), match.end()) if match else None


def names_in(text: str, dialect: str) -> list[str]:
    """The tables that a query names, with their schemas as written."""
    try:
        parsed = sqlglot.parse_one(text, dialect=dialect)
    except (sqlglot.errors.SqlglotError, RecursionError, ValueError):
        return []
    results = []
    own = {cte.alias.casefold() for cte in parsed.find_all(exp.CTE)}
    for table in parsed.find_all(exp.Table):
        if table.name and (table.db or table.name.casefold() not in own):
            results.append(f"{table.db}.{table.name}" if table.db else table.name)
    return list(dict.fromkeys(results))
