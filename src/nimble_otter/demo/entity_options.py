"""The options of requests to the stand-in for an OData service (OASIS OData 4.01, part 2, and its extension for data
aggregation): taken apart strictly, as SQL."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass

from nimble_otter.sources.sqlite_file import quote_name

_TOKEN = re.compile(r"\s*('(?:[^']|'')*'|[()]|[\w.:+-]+)")
_SIGNS = {"eq": "is", "ne": "is not", "gt": ">", "ge": ">=", "lt": "<", "le": "<=", "and": "and", "or": "or", "(": "(",
          ")": ")", "null": "null", "true": "true", "false": "false"}  # fmt: skip
_APPLY = re.compile(r"(?:filter\((?P<kept>.*)\)/)?(?:groupby\(\((?P<by>[\w,]+)\),(?P<of>.*)\)|(?P<all>.*))")
_FIGURE = re.compile(r"(?:\$count|(?P<column>\w+) with (?P<method>sum|min|max|average)) as (?P<name>\w+)")
_METHODS = {"sum": "sum", "min": "min", "max": "max", "average": "avg"}


@dataclass(frozen=True, slots=True)
class Branch:
    """One way of `$expand`, with the options in its brackets."""

    name: str
    options: dict[str, str]


def condition_of(text: str, columns: Mapping[str, str], folds: bool = False) -> str:
    """A $filter as SQL. `folds`: texts are equal whatever the case of their letters. Raises: ValueError for anything
    that is not comparisons joined by and, or."""
    parts, at = [], 0
    while at < len(text.rstrip()):
        token = _TOKEN.match(text, at)
        if token is None:
            raise ValueError(text[at:])
        word, at = token[1], token.end()
        if word in _SIGNS:
            parts.append(_SIGNS[word])
        elif word in columns:
            parts.append(quote_name(word))
        elif word.startswith("'"):
            parts.append(f"{word}{' collate nocase' if folds else ''}")
        elif re.fullmatch(r"-?\d+(\.\d+)?", word):
            parts.append(word)
        elif re.fullmatch(r"\d{4}-\d\d-\d\d", word):
            parts.append(f"'{word}'")
        else:
            raise ValueError(word)
    return " ".join(parts)


def groups_of(text: str, name: str, columns: Mapping[str, str], folds: bool = False) -> tuple[str, dict[str, str]]:
    """An $apply as SQL, and the types of what it gives. Raises: ValueError for anything that is not a filter, groups by
    columns and figures of them."""
    match = _APPLY.fullmatch(text)
    told = re.fullmatch(r"aggregate\((.+)\)", (match["of"] or match["all"]) if match else "")
    if match is None or told is None:
        raise ValueError("$apply")
    keys = match["by"].split(",") if match["by"] else []
    if not columns.keys() >= set(keys):
        raise ValueError(match["by"])
    kinds = {key: columns[key] for key in keys}
    shown = [f"{quote_name(k)}{' collate nocase' if folds and kinds[k] == 'Edm.String' else ''}" for k in keys]
    figures = []
    for each in told[1].split(","):
        figure = _FIGURE.fullmatch(each)
        if figure is None or figure["name"] in columns or (figure["column"] or next(iter(columns))) not in columns:
            raise ValueError(each)
        over = f"{_METHODS[figure['method']]}({quote_name(figure['column'])})" if figure["column"] else "count(*)"
        figures.append(f"{over} as {quote_name(figure['name'])}")
        kinds[figure["name"]] = columns[figure["column"]] if figure["method"] in ("min", "max") else ""
    where = f" where {condition_of(match['kept'], columns, folds)}" if match["kept"] else ""
    by = f" group by {', '.join(shown)}" if keys else ""
    return f"select {', '.join([*map(quote_name, keys), *figures])} from {quote_name(name)}{where}{by}", kinds


def branches_of(text: str) -> list[Branch]:
    """An $expand by its ways. Raises: ValueError."""
    found = []
    for part in _split(text, ","):
        match = re.fullmatch(r"(\w+)(?:\((.*)\))?", part)
        options = dict(each.partition("=")[::2] for each in _split(match[2] or "", ";")) if match else {}
        if match is None or not options.keys() <= {"$select", "$filter", "$expand"}:
            raise ValueError(part)
        found.append(Branch(match[1], options))
    return found


def _split(text: str, mark: str) -> Iterator[str]:
    """At marks outside of brackets and texts."""
    start, depth, is_text = 0, 0, False
    for at, letter in enumerate(text):
        is_text ^= letter == "'"
        depth += 0 if is_text else (letter == "(") - (letter == ")")
        if letter == mark and not depth and not is_text:
            yield text[start:at]
            start = at + 1
    if text[start:]:
        yield text[start:]
