"""A SELECT as pieces: tables with their joins, columns, conditions, order, limit, each with its place in the text.

The text is the truth. Pieces are read from it without a grammar, so that what they can't show is still a stretch of
text that stays as it is written; `pieces_edits` changes a piece by changing the text at its place and nowhere else.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace
from itertools import pairwise

from nimble_otter.query.sql.names import Names
from nimble_otter.query.sql.scopes import NOT_NAMES, Token, tokens_of
from nimble_otter.query.sql.statements import statement_at
from nimble_otter.translation import tr

CLAUSES = ("select", "from", "where", "group", "having", "window", "order", "limit", "offset", "fetch", "for")
"""The clauses of a SELECT in the order in which they are written (ISO 9075)."""
AGGREGATES = ("count", "sum", "avg", "min", "max")
_FIGURES = {
    *AGGREGATES, "total", "group_concat", "string_agg", "array_agg", "json_agg", "jsonb_agg", "json_group_array",
    "json_arrayagg", "stddev", "stddev_pop", "stddev_samp", "variance", "var_pop", "var_samp", "median", "mode",
    "percentile_cont", "percentile_disc", "bool_and", "bool_or", "every", "corr", "any_value", "bit_and", "bit_or",
}  # fmt: skip
_SETS = ("union", "except", "intersect")
_JOIN_WORDS = ("natural", "inner", "left", "right", "full", "outer", "cross", "join", "straight_join")
_COMPARING = ("is", "in", "like", "ilike", "between", "regexp", "rlike", "glob", "similar")
_UNLABELLED = ("collate", "interval", "zone", "over", "as", "::")


@dataclass(frozen=True, slots=True)
class Span:
    """text[start:end] of the whole text."""

    text: str
    start: int
    end: int


@dataclass(frozen=True, slots=True)
class Item(Span):
    """One of SELECT, GROUP BY or ORDER BY. `said` is its expression without its name or direction; `alias` and `column`
    where it is a column or a function of one; `function` such as sum, or "count distinct". `role`: "key" of a group,
    "figure" of one, "window", or "constant"."""

    said: str = ""
    label: str = ""
    alias: str = ""
    column: str = ""
    function: str = ""
    way: str = ""
    role: str = "key"

    @property
    def is_star(self) -> bool:
        """Whether it stands for all columns."""
        return self.column == "*" and not self.function


@dataclass(frozen=True, slots=True)
class Link:
    """Columns of a card that equal those of an earlier one, called `other`."""

    other: str
    columns: tuple[str, ...]
    others: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class TableRef(Span):
    """A table in FROM, or a subquery or function as text (`table` is ""). `join` is "" for the first, else inner, left,
    right, full, cross, natural or ","; `joined` are the words that say so, `condition` the ON or USING with its text;
    `rest` what of it is no equality of columns."""

    alias: str = ""
    table: str = ""
    join: str = ""
    joined: Span | None = None
    condition: Span | None = None
    links: tuple[Link, ...] = ()
    rest: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Predicate(Span):
    """A condition: left, operator, right; those are "" where it is something else, such as EXISTS."""

    left: str = ""
    sign: str = ""
    right: str = ""


@dataclass(frozen=True, slots=True)
class Group(Span):
    """Conditions joined by `word` (and, or), whose places are `words`."""

    word: str = "and"
    parts: tuple[Predicate | Group, ...] = ()
    words: tuple[Span, ...] = ()


@dataclass(frozen=True, slots=True)
class QueryModel:
    """`why_not` says why there is nothing to show; then all else is empty. `before` are common table expressions,
    `behind` a UNION and all that follows it: both are kept as text. `clauses` are the places of those there are."""

    text: str
    start: int = 0
    end: int = 0
    why_not: str = ""
    before: Span | None = None
    behind: Span | None = None
    is_distinct: bool = False
    items: tuple[Item, ...] = ()
    cards: tuple[TableRef, ...] = ()
    where: Predicate | Group | None = None
    groups: tuple[Item, ...] = ()
    having: Predicate | Group | None = None
    orders: tuple[Item, ...] = ()
    clauses: dict[str, Span] = field(default_factory=dict)

    @property
    def limit(self) -> str:
        """What stands behind LIMIT; "" where there is none."""
        return self.content("limit")

    def content(self, clause: str) -> str:
        """What stands behind a clause's word, "" where there is none."""
        span = self.clauses.get(clause)
        words = 2 if clause in ("group", "order") else 1
        return span.text.split(None, words)[words].strip() if span and len(span.text.split()) > words else ""

    @property
    def has_aggregates(self) -> bool:
        """Whether a column is a figure of groups."""
        return any(item.role == "figure" for item in self.items)

    def card(self, alias: str) -> TableRef | None:
        """The table of an alias."""
        return next((c for c in self.cards if c.alias.casefold() == alias.casefold()), None)

    def node(self, clause: str, path: Sequence[int]) -> Predicate | Group | None:
        """A condition of WHERE or HAVING by the places of its parts, outermost first."""
        found = self.where if clause == "where" else self.having
        for index in path:
            assert isinstance(found, Group)
            found = found.parts[index]
        return found


def read_pieces(text: str, position: int, names: Names) -> QueryModel:
    """The pieces of the statement around a place. An empty text has none yet, and can be given some."""
    statement = statement_at(text, position)
    if statement is None:
        return QueryModel(text, len(text), len(text))
    base = statement.start
    tokens = [Token(t.kind, t.text, t.start + base, t.end + base) for t in tokens_of(statement.text)]
    return _Reader(text, tokens, names).read(statement.start, statement.end)


def depths_of(tokens: Sequence[Token]) -> list[int]:
    """How deep in brackets and CASE each token stands; those themselves count as outside."""
    results, depth = [], 0
    for token in tokens:
        is_close = token.text in (")", "]") or token.low == "end"
        depth -= is_close and depth > 0
        results.append(depth)
        depth += token.text in ("(", "[") or token.low == "case"
    return results


class _Reader:
    def __init__(self, text: str, tokens: list[Token], names: Names) -> None:
        self.text, self.tokens, self.names = text, tokens, names
        self.depths = depths_of(tokens)

    def span(self, low: int, high: int) -> Span:
        """The text of the tokens low..high (not included)."""
        start, end = self.tokens[low].start, self.tokens[high - 1].end
        return Span(self.text[start:end], start, end)

    def read(self, start: int, end: int) -> QueryModel:
        tokens = self.tokens
        first = 0
        if tokens and tokens[0].low == "with":
            first = next((n for n, t in enumerate(tokens) if t.low == "select" and self.depths[n] == 0), 0)
        if not tokens or tokens[first].low != "select":
            word = tokens[0].text.upper() if tokens and tokens[0].kind == "word" else tr("something else")
            return QueryModel(self.text, start, end, tr("Pieces show a SELECT; this statement is {word}.", word=word))
        before = self.span(0, first) if first else None
        stop = next((n for n in self._outer(first) if tokens[n].low in _SETS), len(tokens))
        behind = self.span(stop, len(tokens)) if stop < len(tokens) else None
        places = self._clauses(first, stop)
        own = {word: self.span(low, high) for word, (low, high) in places.items()}
        low, high = places["select"]
        low += 1
        is_distinct = low < high and tokens[low].low == "distinct"
        low += is_distinct or (low < high and tokens[low].low == "all")
        if is_distinct and low < high and tokens[low].low == "on":
            return QueryModel(self.text, start, end, tr("DISTINCT ON can't be shown in pieces."))
        cards = tuple(self._cards(*places["from"])) if "from" in places else ()
        return QueryModel(
            self.text, start, end, "", before, behind, is_distinct,
            tuple(self._items(low, high)), cards,
            self._clause_condition(places, "where"),
            tuple(self._items(places["group"][0] + 2, places["group"][1])) if "group" in places else (),
            self._clause_condition(places, "having"),
            tuple(self._items(places["order"][0] + 2, places["order"][1], True)) if "order" in places else (),
            own,
        )  # fmt: skip

    def _outer(self, low: int, high: int | None = None) -> Iterator[int]:
        """Tokens as deep as the first one."""
        high = len(self.tokens) if high is None else high
        if low < high:
            yield from (n for n in range(low, high) if self.depths[n] <= self.depths[low])

    def _clauses(self, first: int, stop: int) -> dict[str, tuple[int, int]]:
        starts: list[tuple[str, int]] = []
        rank = -1
        for n in self._outer(first, stop):
            word = self.tokens[n].low
            if word not in CLAUSES or self.tokens[n].kind != "word" or CLAUSES.index(word) <= rank:
                continue
            before = self.tokens[n - 1] if n > first else None
            after = self.tokens[n + 1].low if n + 1 < stop else ""
            if before is not None and (before.text in (".", ":") or (word == "from" and before.low == "distinct")):
                continue
            if word in ("group", "order") and after != "by":
                continue
            starts.append((word, n))
            rank = CLAUSES.index(word)
        ends = [n for _, n in starts[1:]] + [stop]
        return {word: (n, end) for (word, n), end in zip(starts, ends, strict=True)}

    def _split(self, low: int, high: int) -> Iterator[tuple[int, int]]:
        """Stretches between the commas."""
        begin = low
        for n in self._outer(low, high):
            if self.tokens[n].text == ",":
                if n > begin:
                    yield begin, n
                begin = n + 1
        if high > begin:
            yield begin, high

    # --- columns -----------------------------------------------------------------------------------------------

    def _items(self, low: int, high: int, ordered: bool = False) -> Iterator[Item]:
        for begin, end in self._split(low, high):
            whole = self.span(begin, end)
            stop, label, way = end, "", ""
            if ordered:
                lows = [self.tokens[n].low for n in range(begin, end)]
                cut = next((n for n, w in enumerate(lows) if n and w in ("asc", "desc", "nulls")), len(lows))
                stop, way = begin + cut, " ".join(lows[cut:])
            else:
                stop, label = self._label(begin, end)
            alias, column, function = self._column(begin, stop)
            text = self.span(begin, stop).text
            role = self._role(begin, stop)
            yield Item(whole.text, whole.start, whole.end, text, label, alias, column, function, way, role)

    def _role(self, low: int, high: int) -> str:
        """What the query's groups make of an expression."""
        tokens = self.tokens[low : high + 1]
        if any(t.low == "over" for t in tokens[: high - low]):
            return "window"
        pairs = pairwise(tokens)
        if any(t.low in _FIGURES and after.text == "(" for t, after in pairs):
            return "figure"
        return "key" if any(t.kind in ("word", "name") or t.text == "*" for t in tokens[: high - low]) else "constant"

    def _label(self, low: int, high: int) -> tuple[int, str]:
        """Where the expression ends, and the name that is given to it."""
        tokens = self.tokens
        last = tokens[high - 1]
        if high - low < 2 or last.kind not in ("word", "name"):
            return high, ""
        before = tokens[high - 2]
        if before.low == "as":
            return high - 2, last.plain
        is_end = before.kind in ("word", "name", "number", "text") or before.text in (")", "]")
        odd = any(t.low in _UNLABELLED for t in tokens[max(low, high - 4) : high - 1])
        if (
            not is_end
            or odd
            or last.low in NOT_NAMES
            or (before.low in NOT_NAMES and before.low not in ("end", "null"))
        ):
            return high, ""
        return high - 1, last.plain

    def _column(self, low: int, high: int) -> tuple[str, str, str]:
        """(alias, column, function) of a plain column, or of a function of one; "" where it is something else."""
        tokens = self.tokens[low:high]
        if not tokens:
            return "", "", ""
        function = ""
        if len(tokens) > 3 and tokens[0].low in AGGREGATES and tokens[1].text == "(" and tokens[-1].text == ")":
            if [d for d in self.depths[low + 1 : high - 1] if d <= self.depths[low]] != [self.depths[low]]:
                return "", "", ""  # sum(a) / sum(b)
            function, tokens = tokens[0].low, tokens[2:-1]
            if tokens[0].low == "distinct" and len(tokens) > 1:
                function, tokens = f"{function} distinct", tokens[1:]
        names = tokens[::2]
        dots = tokens[1::2]
        plain = all(t.kind in ("word", "name") and t.low not in NOT_NAMES for t in names[:-1])
        last = names[-1]
        plain = plain and (last.text == "*" or (last.kind in ("word", "name") and last.low not in NOT_NAMES))
        if not plain or len(names) != len(dots) + 1 or any(t.text != "." for t in dots):
            return "", "", function
        return ".".join(t.plain for t in names[:-1]), last.plain, function

    # --- tables ------------------------------------------------------------------------------------------------

    def _cards(self, low: int, high: int) -> Iterator[TableRef]:
        at, table_refs = low + 1, list[TableRef]()
        joined: Span | None = None
        join = ""
        while at < high:
            end = self._until(at, high, (*_JOIN_WORDS, "on", "using", ","))
            if end == at:
                at += 1
                continue
            card = self._card(at, end)
            at, condition, links, rest = end, None, list[Link](), list[str]()
            if at < high and self.tokens[at].low in ("on", "using"):
                stop = self._until(at + 1, high, (*_JOIN_WORDS, ","))
                condition = self.span(at, stop)
                found, rest = self._links(at, stop, card.alias, table_refs)
                links, at = found, stop
            card = replace(card, join=join, joined=joined, condition=condition, links=tuple(links), rest=tuple(rest))
            table_refs.append(card)
            yield card
            begin = at
            while at < high and self.tokens[at].low in (*_JOIN_WORDS, ","):
                at += 1
            if at > begin:
                joined = self.span(begin, at)
                words = {t.low for t in self.tokens[begin:at]}
                join = next((w for w in ("left", "right", "full", "cross", "natural", ",") if w in words), "inner")

    def _until(self, low: int, high: int, words: Sequence[str]) -> int:
        for n in self._outer(low, high):
            before = self.tokens[n - 1].text
            after = self.tokens[n + 1].text if n + 1 < high else ""
            if self.tokens[n].low in words and before != "." and not (n > low and after == "(" and before == "="):
                return n
        return high

    def _card(self, low: int, high: int) -> TableRef:
        whole = self.span(low, high)
        tokens = self.tokens[low:high]
        stop = 1
        while stop + 1 < len(tokens) and tokens[stop].text == "." and tokens[stop + 1].kind in ("word", "name"):
            stop += 2
        is_name = tokens[0].kind in ("word", "name") and tokens[0].low not in NOT_NAMES
        is_name = is_name and (stop >= len(tokens) or tokens[stop].text != "(")
        rest = tokens[stop:] if is_name else self._behind_bracket(low, high)
        if rest and rest[0].low == "as":
            rest = rest[1:]
        named = rest and rest[0].kind in ("word", "name") and rest[0].low not in NOT_NAMES
        alias = rest[0].plain if named else tokens[stop - 1].plain if is_name else ""
        written = "".join(t.plain for t in tokens[:stop]) if is_name else ""
        known = self.names.table(written) if written else None
        return TableRef(whole.text, whole.start, whole.end, alias, known.name if known is not None else written)

    def _behind_bracket(self, low: int, high: int) -> list[Token]:
        closes = [n for n in self._outer(low, high) if self.tokens[n].text == ")"]
        return self.tokens[closes[0] + 1 : high] if closes else []

    def _links(self, low: int, high: int, alias: str, earlier: Sequence[TableRef]) -> tuple[list[Link], list[str]]:
        """What joins a card to earlier ones, and what of its condition is something else."""
        pairs: dict[str, list[tuple[str, str]]] = {}
        rest: list[str] = []
        if self.tokens[low].low == "using":
            for token in self.tokens[low + 1 : high]:
                if token.kind in ("word", "name"):
                    pairs.setdefault(self._owner(token.plain, earlier), []).append((token.plain, token.plain))
        else:
            top = self.condition(low + 1, high)
            parts = top.parts if isinstance(top, Group) and top.word == "and" else [top] if top is not None else []
            for part in parts:
                pair = self._pair(part, alias, earlier) if isinstance(part, Predicate) and part.sign == "=" else None
                if pair is None:
                    rest.append(part.text)
                else:
                    pairs.setdefault(pair[0], []).append(pair[1:])
        links = [Link(o, tuple(a for a, _ in found), tuple(b for _, b in found)) for o, found in pairs.items() if o]
        return links, rest

    def _owner(self, column: str, earlier: Sequence[TableRef]) -> str:
        """The earlier card that has a column: the first one known to, else the last."""
        for card in earlier:
            known = self.names.table(card.table) if card.table else None
            if known is not None and any(c.casefold() == column.casefold() for c, _ in known.columns):
                return card.alias
        return earlier[-1].alias if earlier else ""

    def _pair(self, leaf: Predicate, alias: str, earlier: Sequence[TableRef]) -> tuple[str, str, str] | None:
        sides = []
        for text in (leaf.left, leaf.right):
            tokens = tokens_of(text)
            if len(tokens) != 3 or tokens[1].text != "." or any(t.kind not in ("word", "name") for t in tokens[::2]):
                return None
            sides.append((tokens[0].plain.casefold(), tokens[2].plain))
        if sides[1][0] == alias.casefold():
            sides.reverse()
        other = next((c.alias for c in earlier if c.alias.casefold() == sides[1][0]), None)
        if sides[0][0] != alias.casefold() or other is None:
            return None
        return other, sides[0][1], sides[1][1]

    # --- conditions --------------------------------------------------------------------------------------------

    def _clause_condition(self, places: dict[str, tuple[int, int]], clause: str) -> Predicate | Group | None:
        found = places.get(clause)
        return self.condition(found[0] + 1, found[1]) if found else None

    def condition(self, low: int, high: int, outside: Span | None = None) -> Predicate | Group | None:
        """The condition in the tokens low..high; `outside` is its place with brackets around it."""
        if low >= high:
            return None
        whole = outside or self.span(low, high)
        for word in ("or", "and"):
            cuts = self._cuts(low, high, word)
            if cuts:
                edges = zip([low, *(n + 1 for n in cuts)], [*cuts, high], strict=True)
                parts = [self.condition(a, b) for a, b in edges]
                words = tuple(self.span(n, n + 1) for n in cuts)
                return Group(whole.text, whole.start, whole.end, word, tuple(p for p in parts if p), words)
        inner = self._in_brackets(low, high)
        if inner:
            return self.condition(low + 1, high - 1, whole)
        return self._leaf(low, high, whole)

    def _cuts(self, low: int, high: int, word: str) -> list[int]:
        cuts, between = [], 0
        for n in self._outer(low, high):
            between += self.tokens[n].low == "between"
            if self.tokens[n].low == word and self.tokens[n].kind == "word" and n > low:
                if word == "and" and between:
                    between -= 1
                else:
                    cuts.append(n)
        return cuts

    def _in_brackets(self, low: int, high: int) -> bool:
        """Whether one pair of brackets is around all, and no query in it."""
        if self.tokens[low].text != "(" or self.tokens[high - 1].text != ")" or high - low < 3:
            return False
        is_one = all(depth > self.depths[low] for depth in self.depths[low + 1 : high - 1])
        inner = self.tokens[low + 1]
        is_list = any(
            self.tokens[n].text == "," for n in range(low + 1, high - 1) if self.depths[n] == self.depths[low] + 1
        )
        return is_one and not is_list and inner.low not in ("select", "with")

    def _leaf(self, low: int, high: int, whole: Span) -> Predicate:
        if self.tokens[low].low == "not":
            return Predicate(whole.text, whole.start, whole.end)
        for n in self._outer(low, high):
            token = self.tokens[n]
            stop = n + 1
            if token.kind == "mark" and token.text in "=<>!~" and n > low:
                while stop < high and self.tokens[stop].text in tuple("=<>!~*") and self._touch(stop):
                    stop += 1
            elif token.low in _COMPARING or (
                token.low == "not" and n > low and stop < high and self.tokens[stop].low in _COMPARING
            ):
                stop += token.low == "not"
                if self.tokens[stop - 1].low == "is":
                    while stop < high and self.tokens[stop].low in (
                        "not", "null", "true", "false", "distinct", "from", "unknown"
                    ):  # fmt: skip
                        stop += 1
            else:
                continue
            if n == low:
                break
            left = self.span(low, n).text
            sign = "".join(t.text for t in self.tokens[n:stop]) if token.kind == "mark" else (
                " ".join(t.low for t in self.tokens[n:stop])
            )  # fmt: skip
            right = self.span(stop, high).text if stop < high else ""
            return Predicate(whole.text, whole.start, whole.end, left, sign, right)
        return Predicate(whole.text, whole.start, whole.end)

    def _touch(self, n: int) -> bool:
        return self.tokens[n - 1].end == self.tokens[n].start
