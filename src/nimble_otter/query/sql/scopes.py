"""What a query's text can name at a place, read without a grammar: a text that is being typed is rarely complete."""

from __future__ import annotations

import re
from collections.abc import Collection, Sequence
from dataclasses import dataclass, field

from nimble_otter.query.sql.names import Names

_TOKEN = re.compile(
    r"(?P<comment>--[^\n]*|/\*.*?(?:\*/|\Z))"
    r"|(?P<text>'(?:[^']|'')*(?:'|\Z)|(?<!\w)\$(?P<tag>[^\W\d]\w*|)\$.*?(?:\$(?P=tag)\$|\Z))"
    r"|(?P<name>\"(?:[^\"]|\"\")*(?:\"|\Z)|`[^`]*(?:`|\Z)|(?<![\w\])])\[[^\]]*\])"
    r"|(?P<number>\d[\w.]*)|(?P<word>\w+)|(?P<mark>::|\S)",
    re.DOTALL,
)
CLAUSES = {
    "select", "from", "where", "having", "limit", "offset", "on", "using", "set", "values", "window", "returning",
    "update", "into", "delete", "group", "order", "join", "table",
}  # fmt: skip
_SETS = {"union", "except", "intersect"}
NOT_NAMES = CLAUSES | _SETS | {
    "as", "inner", "left", "right", "full", "cross", "natural", "outer", "lateral", "by", "and", "or", "not", "in",
    "is", "null", "like", "between", "case", "when", "then", "else", "end", "distinct", "all", "asc", "desc", "with",
    "recursive", "exists", "fetch", "only", "for", "tablesample", "partition", "over", "nulls", "first", "last",
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class Token:
    """A word of the text with its place."""

    kind: str
    text: str
    start: int
    end: int

    @property
    def low(self) -> str:
        """Its text in small letters."""
        return self.text.lower() if self.kind == "word" else self.text

    @property
    def plain(self) -> str:
        """A name without its quotes."""
        return self.text[1:-1].replace('""', '"') if self.kind == "name" else self.text


@dataclass(slots=True)
class Ref:
    """A table in FROM: `alias` is what the query calls it; `table` its label, "" for a subquery with own `columns`."""

    alias: str
    table: str
    columns: tuple[str, ...] = ()
    start: int = 0
    end: int = 0


@dataclass(slots=True)
class Select:
    """One SELECT (or UPDATE, DELETE) with what it names; `clauses` are (place, word) in order."""

    start: int
    end: int
    above: Select | None = None
    refs: list[Ref] = field(default_factory=list)
    clauses: list[tuple[int, str]] = field(default_factory=list)
    labels: list[str] = field(default_factory=list)

    def clause_at(self, position: int) -> str:
        """The clause that a place lies in."""
        return next((word for at, word in reversed(self.clauses) if at < position), "")

    def visible(self) -> list[Ref]:
        """Its own tables, then those of the queries around it."""
        return self.refs + (self.above.visible() if self.above is not None else [])


@dataclass(slots=True)
class Reading:
    """All SELECTs of one statement, and the common table expressions by name with their columns."""

    selects: list[Select]
    ctes: dict[str, tuple[str, ...]]

    def at(self, position: int) -> Select | None:
        """The innermost SELECT around a place."""
        inside = [s for s in self.selects if s.start <= position <= s.end]
        return max(inside, key=lambda s: (s.start, -s.end)) if inside else None


def tokens_of(text: str) -> list[Token]:
    """Words, names, texts, numbers and marks; comments are left out."""
    return [
        Token(found.lastgroup or "mark", found[0], found.start(), found.end())
        for found in _TOKEN.finditer(text)
        if found.lastgroup != "comment"
    ]


def is_code(text: str, position: int) -> bool:
    """Whether a place is neither in a text nor in a comment."""
    for match in _TOKEN.finditer(text):
        if match.start() >= position:
            return True
        if match.lastgroup in ("comment", "text") and match.start() < position <= match.end():
            is_open = match.end() == position and (match[0].startswith("--") or not _is_closed(match[0]))
            return match.end() == position and not is_open
    return True


def _is_closed(text: str) -> bool:
    return (text.endswith("*/") and len(text) > 3) if text.startswith("/*") else len(text) > 1 and text.endswith("'")


def read(text: str, names: Names) -> Reading:
    """Read one statement. The columns of subqueries and common table expressions are worked out from `names`."""
    reader = _Reader(tokens_of(text), names, len(text))
    reader.group(0, len(reader.tokens), 0, len(text), None)
    return Reading(reader.selects, reader.ctes)


class _Reader:
    def __init__(self, tokens: Sequence[Token], names: Names, end: int) -> None:
        self.tokens, self.names, self.length = tokens, names, end
        self.selects: list[Select] = []
        self.ctes: dict[str, tuple[str, ...]] = {}

    def _close(self, at: int, high: int) -> int:
        """The token that closes the bracket at `at`, or `high`."""
        depth = 0
        for n in range(at, high):
            depth += {"(": 1, ")": -1}.get(self.tokens[n].text, 0)
            if depth == 0:
                return n
        return high

    def _inner(self, at: int, high: int, above: Select | None) -> tuple[int, list[str]]:
        """Read what stands in a bracket; returns where it closes and the columns of the query in it."""
        close = self._close(at, high)
        end = self.tokens[close].start if close < high else self.length
        if close == high and high < len(self.tokens):
            end = self.tokens[high].start
        return close, self.group(at + 1, close, self.tokens[at].end, end, above)

    def group(self, low: int, high: int, start: int, end: int, above: Select | None) -> list[str]:
        """Read the tokens low..high; returns the columns of the query among them, if there is one."""
        at = self._ctes(low, high) if low < high and self.tokens[low].low == "with" else low
        columns: list[str] | None = None
        while at < high or columns is None:
            stop, depth = at, 0
            while stop < high and not (depth == 0 and self.tokens[stop].low in _SETS):
                depth += {"(": 1, ")": -1}.get(self.tokens[stop].text, 0)
                stop += 1
            piece_start = self.tokens[at].start if at < high and columns is not None else start
            piece_end = self.tokens[stop].start if stop < high else end
            names = self._select(at, stop, piece_start, piece_end, above)
            columns = names if columns is None else columns
            at = stop + 1
            while at < high and self.tokens[at].low in ("all", "distinct"):
                at += 1
        return columns

    def _ctes(self, low: int, high: int) -> int:
        """Read WITH ...; returns the token behind it."""
        at = low + 1
        if at < high and self.tokens[at].low == "recursive":
            at += 1
        while at < high and self.tokens[at].kind in ("word", "name"):
            name, own = self.tokens[at].plain, None
            at += 1
            if at < high and self.tokens[at].text == "(":
                close = self._close(at, high)
                own = tuple(t.plain for t in self.tokens[at + 1 : close] if t.kind in ("word", "name"))
                at = close + 1
            while at < high and self.tokens[at].low in ("as", "not", "materialized"):
                at += 1
            if at >= high or self.tokens[at].text != "(":
                break
            self.ctes[name.casefold()] = own or ()
            at, columns = self._inner(at, high, None)
            self.ctes[name.casefold()] = own or tuple(columns)
            at += 1
            if at < high and self.tokens[at].text == ",":
                at += 1
            else:
                break
        return at

    def _select(self, low: int, high: int, start: int, end: int, above: Select | None) -> list[str]:  # noqa: C901 - a branch for each clause
        tokens = self.tokens
        if not any(t.low in ("select", "update", "delete", "insert", "from") for t in tokens[low:high]):
            at = low
            inner: list[str] = []
            while at < high:  # brackets around a query, or an expression with queries inside
                if tokens[at].text == "(":
                    at, names = self._inner(at, high, above)
                    inner = inner or names
                at += 1
            return inner
        select = Select(start, end, above)
        self.selects.append(select)
        at, waits, items = low, False, list[list[Token]]()
        while at < high:
            token = tokens[at]
            word = token.low
            clause = select.clauses[-1][1] if select.clauses else ""
            is_part = at > low and tokens[at - 1].text == "." and tokens[at - 1].end == token.start
            if token.kind == "word" and word in CLAUSES and not is_part:
                select.clauses.append((token.start, word))
                waits = word in ("from", "join", "update", "into", "table")
                if word == "select":
                    items.append([])
            elif waits and token.kind in ("word", "name") and word not in NOT_NAMES:
                at = self._ref(at, high, select)
                waits = False
                continue
            elif token.text == "(":
                close, columns = self._inner(at, high, select)
                if waits:
                    at = self._alias(close + 1, high, select, tuple(columns), token.start)
                    waits = False
                    continue
                if clause == "select" and items:
                    items[-1].append(Token("group", "()", token.start, tokens[min(close, high - 1)].end))
                at = close
            elif token.text == "," and clause in ("from", "join", "on", "using"):
                waits = True  # one more table of the list
            elif clause == "select" and items:
                if token.text == ",":
                    items.append([])
                elif not (word in ("distinct", "all") and not items[-1]):
                    items[-1].append(token)
            at += 1
        for item in items:
            select.labels += self._labels(item, select)
        return select.labels

    def _ref(self, at: int, high: int, made: Select) -> int:
        first = self.tokens[at]
        parts, last = [first.plain], first
        at += 1
        while at + 1 < high and self.tokens[at].text == "." and self.tokens[at + 1].kind in ("word", "name"):
            last = self.tokens[at + 1]
            parts.append(last.plain)
            at += 2
        name = ".".join(parts)
        columns = self.ctes.get(name.casefold())
        known = self.names.table(name) if columns is None else None
        ref = Ref(parts[-1], known.name if known is not None else ("" if columns is not None else name),
                  columns if columns is not None else tuple(c for c, _ in known.columns) if known is not None else (),
                  first.start, last.end)  # fmt: skip
        made.refs.append(ref)
        if at < high and self.tokens[at].low == "as":
            at += 1
        if at < high and self.tokens[at].kind in ("word", "name") and self.tokens[at].low not in NOT_NAMES:
            ref.alias = self.tokens[at].plain
            at += 1
        return at

    def _alias(self, at: int, high: int, made: Select, columns: tuple[str, ...], start: int) -> int:
        if at < high and self.tokens[at].low == "as":
            at += 1
        if at < high and self.tokens[at].kind in ("word", "name") and self.tokens[at].low not in NOT_NAMES:
            made.refs.append(Ref(self.tokens[at].plain, "", columns, start, self.tokens[at].end))
            at += 1
        return at

    def _labels(self, item: list[Token], made: Select) -> list[str]:
        """The columns that one item of SELECT gives."""
        if not item:
            return []
        if item[-1].text == "*":
            whose = item[-3].plain.casefold() if len(item) >= 3 and item[-2].text == "." else ""
            return [c for ref in made.refs if not whose or ref.alias.casefold() == whose for c in ref.columns]
        if item[-1].kind in ("word", "name") and item[-1].low not in NOT_NAMES:
            return [item[-1].plain]
        return []


def short_alias(table: str, taken: Collection[str]) -> str:
    """A short name for a table: the beginnings of its parts, with a number where that is taken."""
    bare = table.rpartition(".")[2]
    short = "".join(part[:1] for part in re.split(r"[\W_]+", bare) if part).lower() or "t"
    number, text = 2, short
    while text in taken or text in NOT_NAMES:
        text, number = f"{short}{number}", number + 1
    return text
