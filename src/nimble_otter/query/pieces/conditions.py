"""The conditions of a query as pieces: adding, changing and removing them, each by changing the text at its place."""

from __future__ import annotations

import re
from collections.abc import Collection, Sequence
from decimal import Decimal

from nimble_otter.errors import QueryError
from nimble_otter.query.lazy import exp
from nimble_otter.query.parsed import parse_sql
from nimble_otter.query.pieces.model import CLAUSES, Group, Predicate, QueryModel, Span, depths_of
from nimble_otter.query.sql.scopes import tokens_of
from nimble_otter.translation import tr

SIGNS = ("=", "<>", "<", "<=", ">", ">=", "in", "not in", "like", "not like", "between", "is null", "is not null")
_WORDS = {"group": "group by", "order": "order by"}
_DAY = re.compile(r"\d{4}-\d\d-\d\d([ T]\d\d:.*)?")


def put(text: str, span: Span, new: str) -> str:
    """The text with `new` in the place of a piece."""
    return text[: span.start] + new + text[span.end :]


def has_comment(text: str) -> bool:
    """Whether a text may hold a comment."""
    return "--" in text or "/*" in text


def _clause_place(pieces: QueryModel, clause: str) -> int:
    """Where a clause that is not there yet goes. Raises: QueryError."""
    if not pieces.clauses:
        raise QueryError(tr("There is no query yet."), tr("Add a table first."))
    before = [s.end for word, s in pieces.clauses.items() if CLAUSES.index(word) < CLAUSES.index(clause)]
    return max(before)


def with_clause(pieces: QueryModel, clause: str, said: str) -> str:
    """The text with a clause that it had not. Raises: QueryError, where there is no place for it."""
    if pieces.behind is not None and clause in ("order", "limit", "offset"):
        raise QueryError(tr("What follows is kept as text."), tr("Order and limit of it are changed there."))
    at = _clause_place(pieces, clause)
    return f"{pieces.text[:at]}\n{_WORDS.get(clause, clause)} {said}{pieces.text[at:]}"


def without_clause(pieces: QueryModel, clause: str) -> str:
    """The text without a clause and its keyword."""
    span = pieces.clauses[clause]
    head = pieces.text[: span.start]
    kept = head.rstrip() if not has_comment(head.rpartition("\n")[2]) else head
    return kept + pieces.text[span.end :]


def literal(value: object, dialect: str, shown: str = "") -> str:
    """A value as the dialect writes it. `shown` is what it looks like, for kinds that are written as texts."""
    if isinstance(value, (bool, int, float, str, Decimal)) or value is None:
        return str(exp.convert(value).sql(dialect=dialect or None))
    return str(exp.Literal.string(shown or str(value)).sql(dialect=dialect or None))


def value_said(typed: str, sign: str, is_text: bool, known: Collection[str], dialect: str) -> str:
    """What was typed as the right side of a condition. Words that are no columns of the query (`known`, in folded
    letters) are texts; `is_text`: the column that is compared holds texts or times, so that numbers are too."""
    typed = typed.strip()
    if not typed:
        raise QueryError(tr("The condition has no value."), tr("Type one; '' is an empty text."))
    if sign in ("in", "not in"):
        inner = typed[1:-1].strip() if typed.startswith("(") and typed.endswith(")") else typed
        if re.match(r"(?i)(select|with)\b", inner) or (inner.startswith(":") and "," not in inner):
            return f"({inner})"
        return "(" + ", ".join(_one(part, is_text, known, dialect) for part in _parted(inner, ",")) + ")"
    if sign == "between":
        ends = _parted(typed, "and")
        if len(ends) != 2:
            raise QueryError(tr("BETWEEN takes two values."), tr("Write them like 1 and 5."))
        return " and ".join(_one(end, is_text, known, dialect) for end in ends)
    return _one(typed, is_text, known, dialect)


def _parted(text: str, at: str) -> list[str]:
    tokens = tokens_of(text)
    cuts = [t for t, depth in zip(tokens, depths_of(tokens), strict=True) if depth == 0 and t.low == at]
    starts, ends = [0, *(t.end for t in cuts)], [*(t.start for t in cuts), len(text)]
    return [part for a, b in zip(starts, ends, strict=True) if (part := text[a:b].strip())]


def _one(typed: str, is_text: bool, known: Collection[str], dialect: str) -> str:
    if typed.startswith(("'", ":")) or re.fullmatch(r"(?i)null|true|false|current_\w+", typed):
        return typed
    if _DAY.fullmatch(typed):
        return literal(typed, dialect)
    try:
        node = parse_sql(f"select {typed}", dialect, QueryError)
    except QueryError:
        return literal(typed, dialect)
    items = node.expressions if isinstance(node, exp.Select) else []
    names = [
        c.sql(dialect=dialect or None).replace('"', "").replace("`", "").casefold() for c in node.find_all(exp.Column)
    ]
    if len(items) != 1 or isinstance(items[0], exp.Alias) or any(name not in known for name in names):
        return literal(typed, dialect)
    is_number = isinstance(items[0], exp.Literal) and not items[0].is_string
    return literal(typed, dialect) if is_number and is_text else typed


def add_condition(pieces: QueryModel, clause: str, said: str, path: Sequence[int] = (), word: str = "") -> str:
    """With one more condition: in the group at `path`, or, with `word` and a single condition there, beside it."""
    said = _bracketed(said)
    node = pieces.node(clause, path)
    if node is None:
        return with_clause(pieces, clause, said)
    if isinstance(node, Group) and word in ("", node.word):
        last = node.parts[-1]
        gap = "\n  " if "\n" in pieces.text[node.parts[0].end : last.start] or not path else " "
        return f"{pieces.text[: last.end]}{gap}{node.word} {said}{pieces.text[last.end :]}"
    word = word or "and"
    if not path:
        if isinstance(node, Group) and node.word == "or" and word == "and":
            return put(pieces.text, node, f"({node.text})\n  and {said}")
        return f"{pieces.text[: node.end]}\n  {word} {said}{pieces.text[node.end :]}"
    above = pieces.node(clause, path[:-1])
    assert isinstance(above, Group)
    if above.word == word:
        return f"{pieces.text[: node.end]} {word} {said}{pieces.text[node.end :]}"
    inner = (
        node.text[1:-1] if isinstance(node, Group) and node.text.startswith("(") and node.word == word else node.text
    )
    return put(pieces.text, node, f"({inner} {word} {said})")


def _bracketed(said: str) -> str:
    tokens = tokens_of(said)
    outside = zip(tokens, depths_of(tokens), strict=True)
    return f"({said})" if any(t.low == "or" and depth == 0 for t, depth in outside) else said


def set_condition(pieces: QueryModel, clause: str, path: Sequence[int], said: str) -> str:
    """The text with a condition written anew."""
    node = pieces.node(clause, path)
    assert isinstance(node, Predicate)
    return put(pieces.text, node, _bracketed(said) if path else said)


def said_of(left: str, sign: str, right: str) -> str:
    """A condition of its three parts."""
    return f"{left} {sign}" if sign in ("is null", "is not null") or not right else f"{left} {sign} {right}"


def remove_condition(pieces: QueryModel, clause: str, path: Sequence[int]) -> str:
    """Without a condition or a group of them; comments beside it stay."""
    text = pieces.text
    if not path:
        return without_clause(pieces, clause)
    above, at = pieces.node(clause, path[:-1]), path[-1]
    assert isinstance(above, Group)
    node = above.parts[at]
    if len(above.parts) == 2:
        other = above.parts[1 - at]
        between = text[above.parts[0].end : above.parts[1].start]
        if not has_comment(between):
            is_inner = path[:-1] and isinstance(other, Group) and other.word == "or" and not other.text.startswith("(")
            return put(text, above, f"({other.text})" if is_inner else other.text)
    word = above.words[at - 1] if at else above.words[0]
    low, high = (above.parts[at - 1].end, node.end) if at else (node.start, above.parts[1].start)
    first, last = sorted((word, node), key=lambda s: s.start)
    kept = text[low : first.start] + text[first.end : last.start] + text[last.end : high]
    return text[:low] + (kept if has_comment(kept) else "") + text[high:]


def set_word(pieces: QueryModel, clause: str, path: Sequence[int], word: str) -> str:
    """And for or in a group, and back. A group in one of the other kind keeps to itself by brackets."""
    node = pieces.node(clause, path)
    assert isinstance(node, Group)
    text = pieces.text
    for span in reversed(node.words):
        text = put(text, span, word.upper() if span.text.isupper() else word)
    above = pieces.node(clause, path[:-1]) if path else None
    if isinstance(above, Group) and above.word == "and" and word == "or" and not node.text.startswith("("):
        grown = len(text) - len(pieces.text)
        text = f"{text[: node.start]}({text[node.start : node.end + grown]}){text[node.end + grown :]}"
    return text
