"""Rewriting a query's text at a place: columns for *, a literal as a parameter, a part as a named query, an alias
renamed, the layout made even. Each gives the new text, or raises QueryError that says why not."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable
from typing import Any

from nimble_otter.errors import QueryError, place_of
from nimble_otter.query.lazy import sqlglot
from nimble_otter.query.parsed import parse_sql
from nimble_otter.query.sql.names import Names
from nimble_otter.query.sql.scopes import NOT_NAMES, Select, Token, read, tokens_of
from nimble_otter.query.sql.statements import (
    Statement,
    find_parameters,
    parameter_value,
    split_statements,
    statement_at,
)
from nimble_otter.translation import tr


def _statement(text: str, position: int) -> Statement:
    statement = statement_at(text, position)
    if statement is None:
        raise QueryError(tr("There is no statement here."))
    return statement


def expand_stars(text: str, position: int, names: Names, quoted: Callable[[str], str]) -> str:
    """The text with every * of the SELECT around `position` written as its columns."""
    statement = _statement(text, position)
    reading = read(statement.text, names)
    select = reading.at(max(0, position - statement.start)) or (reading.selects[0] if reading.selects else None)
    tokens = tokens_of(statement.text)
    changes: list[tuple[int, int, str]] = []
    for at, token in enumerate(tokens):
        if token.text != "*" or select is None or reading.at(token.start) is not select or at == 0:
            continue
        before = tokens[at - 1]
        whose = tokens[at - 2].plain.casefold() if before.text == "." and at > 1 else ""
        if select.clause_at(token.start) != "select" or not (whose or before.low in ("select", "distinct", "all", ",")):
            continue
        refs = [r for r in select.refs if not whose or r.alias.casefold() == whose]
        if any(not r.columns for r in refs) or not refs:
            raise QueryError(tr("The columns behind * are not known here."), tr("Open the source to have them read."))
        several = len(select.refs) > 1
        columns = [f"{quoted(r.alias)}.{quoted(c)}" if several else quoted(c) for r in refs for c in r.columns]
        changes.append((tokens[at - 2].start if whose else token.start, token.end, ", ".join(columns)))
    if not changes:
        raise QueryError(tr("There is no * in this SELECT."))
    return _changed(text, statement.start, changes)


def qualify(text: str, position: int, names: Names, quoted: Callable[[str], str]) -> str:
    """The text with the columns of the SELECT around `position` written with their table, those that one table alone
    has. Names that the SELECT itself gives, and those after USING, stay as they are."""
    statement = _statement(text, position)
    reading = read(statement.text, names)
    select = reading.at(max(0, position - statement.start)) or (reading.selects[0] if reading.selects else None)
    owners: dict[str, list[str]] = {}
    for ref in select.refs if select is not None else ():
        for column in ref.columns:
            owners.setdefault(column.casefold(), []).append(ref.alias)
    tokens, changes = tokens_of(statement.text), list[tuple[int, int, str]]()
    for n, token in enumerate(tokens):
        owner = owners.get(token.plain.casefold(), []) if token.kind in ("word", "name") else []
        if select is None or len(owner) != 1 or reading.at(token.start) is not select:
            continue
        before, after = tokens[n - 1], tokens[n + 1].text if n + 1 < len(tokens) else ""
        clause = select.clause_at(token.start)
        is_name = before.kind in ("word", "name", "number", "text") or before.text == ")"
        is_given = clause == "select" and is_name and before.low not in NOT_NAMES
        if after in (".", "(") or before.text in (".", "::", ":") or before.low == "as" or is_given:
            continue
        if clause not in ("select", "where", "on", "group", "having", "order"):
            continue
        if clause == "order" and token.plain.casefold() in {label.casefold() for label in select.labels}:
            continue
        changes.append((token.start, token.start, f"{quoted(owner[0])}."))
    return _changed(text, statement.start, changes)


def rename_alias(text: str, position: int, new: str) -> str:
    """The text with the table alias at `position` called `new` everywhere in its SELECT."""
    statement = _statement(text, position)
    at = position - statement.start
    tokens = tokens_of(statement.text)
    word = next((t for t in tokens if t.start <= at <= t.end and t.kind in ("word", "name")), None)
    reading = read(statement.text, Names(()))
    select = _owner(reading.at(at), word)
    if select is None or word is None:
        raise QueryError(tr("There is no table alias here."), tr("Put the caret on one, such as s in s.name."))
    if not re.fullmatch(r"\w+", new) or new.casefold() in NOT_NAMES or new[0].isdigit():
        raise QueryError(tr("{new} can't be a name.", new=new), tr("Use letters, digits and _."))
    if any(r.alias.casefold() == new.casefold() for r in select.refs):
        raise QueryError(tr("{new} is already used in this query.", new=new), tr("Use another name."))
    ref = next(r for r in select.refs if _same(r.alias, word))
    changes = []
    declared = [t for t in tokens if t.start >= ref.end and _same(ref.alias, t)]
    for n, token in enumerate(tokens):
        if not _same(ref.alias, token) or not select.start <= token.start <= select.end:
            continue
        behind = tokens[n + 1].text if n + 1 < len(tokens) else ""
        if _owner(reading.at(token.start), token) is not select:
            continue  # a subquery's own alias of this name
        is_use = behind == "." and not (n and tokens[n - 1].text == ".") and token.start != ref.start
        is_declared = bool(declared) and token is declared[0] and tokens[n - 1].end >= ref.end - 1
        if is_use or (is_declared and behind != "."):
            changes.append((token.start, token.end, new))
    if ref.alias.casefold() == statement.text[ref.start : ref.end].rpartition(".")[2].strip('"`').casefold():
        changes.append((ref.end, ref.end, f" {new}"))  # the table stood under its own name
    return _changed(text, statement.start, changes)


def _owner(select: Select | None, word: Token | None) -> Select | None:
    """The innermost SELECT around that has a table of this alias."""
    while select is not None and (word is None or not any(_same(r.alias, word) for r in select.refs)):
        select = select.above
    return select


def _same(alias: str, token: Token) -> bool:
    return token.kind in ("word", "name") and token.plain.casefold() == alias.casefold()


def name_part(text: str, start: int, end: int, name: str = "part") -> str:
    """The text with the query at start..end (with or without its brackets) as a common table expression."""
    statement = _statement(text, start)
    inner = text[start:end].strip()
    has_brackets = inner.startswith("(") and inner.endswith(")")
    body = inner[1:-1].strip() if has_brackets else inner
    if not re.match(r"(?i)(select|with)\b", body) or body == statement.text:
        raise QueryError(tr("Only a SELECT inside the query can be named."), tr("Select one, with its brackets."))
    outside = has_brackets or (text[:start].rstrip().endswith("(") and text[end:].lstrip().startswith(")"))
    if not outside:
        raise QueryError(tr("The selection is not a whole query in brackets."), tr("Select it with its brackets."))
    if not has_brackets:
        start, end = text.rindex("(", 0, start), text.index(")", end) + 1
    taken = {t.plain.casefold() for t in tokens_of(statement.text)}
    number, value = 2, name
    while value.casefold() in taken:
        value, number = f"{name}{number}", number + 1
    is_table = re.search(r"(?i)(from|join|,)\s*$", text[:start]) is not None
    rest = text[statement.start : start] + (value if is_table else f"(select * from {value})") + text[end:]
    begun = re.match(r"(?i)with\s+(recursive\s+)?", rest)
    if begun:
        head = f"{begun[0]}{value} as (\n  {body}\n),\n"
        return text[: statement.start] + head + rest[begun.end() :]
    return text[: statement.start] + f"with {value} as (\n  {body}\n)\n" + rest


def make_parameter(text: str, start: int, end: int) -> tuple[str, str, object]:
    """(text, name, value): the literal at start..end as a parameter named after the column before it."""
    literal = text[start:end].strip()
    if not re.fullmatch(r"'(?:[^']|'')*'|-?\d+(\.\d+)?", literal):
        raise QueryError(tr("The selection is not a value."), tr("Select a number, or a text with its quotes."))
    words = [t.plain for t in tokens_of(text[:start]) if t.kind in ("word", "name") and t.low not in NOT_NAMES]
    name = re.sub(r"\W+", "_", words[-1]) if words else "value"
    taken, number, found = set(find_parameters(text)), 2, name
    while found in taken:
        found, number = f"{name}{number}", number + 1
    value = literal[1:-1].replace("''", "'") if literal.startswith("'") else parameter_value(literal)
    return text[:start] + f":{found}" + text[end:], found, value


def format_sql(text: str, dialect: str) -> str:
    """Every statement laid out evenly, keywords in the letters in which the first one is written. Raises: QueryError,
    also when the layout could not be made without changing what is said."""
    pieces, at = [], 0
    for statement in split_statements(text):
        parsed = parse_sql(statement.text, dialect, QueryError)
        names = find_parameters(statement.text)
        options: dict[str, Any] = {"pretty": True, "normalize_functions": False, "comments": True}
        written = parsed.sql(dialect=dialect or None, **options)
        for name in names:  # some dialects write parameters in the manner of their driver
            written = written.replace(f"%({name})s", f":{name}").replace(f"@{name}", f":{name}")
        written = lower_keywords(written, statement.text)
        same = sqlglot.parse_one(written, dialect=dialect or None) == parsed and find_parameters(written) == names
        lost = _digits(statement.text) - _digits(written)  # what the parser passed over is in no tree
        if not same or lost or _comments(written) < _comments(statement.text):
            place = place_of(text, statement.start, statement.start + 1)
            raise QueryError(
                tr("This can't be formatted without changing its meaning."), tr("It is left as it was."), place
            )
        pieces += [text[at : statement.start], written]
        at = statement.end
    return "".join(pieces) + text[at:]


def _digits(text: str) -> Counter[str]:
    """The runs of digits in a text."""
    return Counter(re.findall(r"\d+", text))


def _comments(text: str) -> int:
    bare = re.sub(r"'(?:[^']|'')*'|\"[^\"]*\"", "", text)
    return len(re.findall(r"--|/\*", bare))


def lower_keywords(text: str, before: str) -> str:
    """A text made by the parser with its keywords in small letters, if `before` begins with one; names keep theirs."""
    if not before.lstrip()[:1].islower():
        return text
    names = {t.text for t in tokens_of(before) if t.kind == "word"}
    pieces, at = [], 0
    for token in tokens_of(text):
        pieces.append(text[at : token.start])
        is_word = token.kind == "word" and token.text.isupper() and token.text not in names
        pieces.append(token.text.lower() if is_word else token.text)
        at = token.end
    return "".join(pieces) + text[at:]


def _changed(text: str, start: int, changes: list[tuple[int, int, str]]) -> str:
    for begin, end, new in sorted(changes, reverse=True):
        text = text[: start + begin] + new + text[start + end :]
    return text
