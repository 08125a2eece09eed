"""Why a row never came: the query asked again for that row alone, with its joins and conditions loosened, then
tightened one by one; the first that loses it is named with its place in the text."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace

from nimble_otter.errors import ConditionError
from nimble_otter.pull.delivery import request_of
from nimble_otter.pull.model import Pull
from nimble_otter.query.pieces.model import Group, Predicate, QueryModel, Span, read_pieces
from nimble_otter.query.sql.names import Names
from nimble_otter.query.sql.scopes import tokens_of
from nimble_otter.sources import Connection, fetch
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.translation import tr

_MOST_ASKED = 40
_SHARP = ("inner", "right")
_ORDER = {"the join": 0, "the limi": 2}


@dataclass(frozen=True, slots=True)
class Loosening:
    """A part of the query that may lose rows: what stands instead of it, and what it is called."""

    span: Span
    instead: str
    words: str


@dataclass(frozen=True, slots=True)
class QueryTrace:
    """What came of it: `is_returned`, the row is in the query's result now; else `lost` is the part that loses it
    (None: it is not there even without joins and conditions). `asked` are the requests that were sent."""

    is_returned: bool
    lost: Loosening | None
    asked: tuple[str, ...]

    def words(self) -> str:
        """In a sentence."""
        if self.is_returned:
            return tr("The query returns the row now; it was not there when it ran, or the row limit left it out.")
        if self.lost is None:
            return tr("No table that the query reads has such a row.")
        return tr("Left out by {words}: {split}", words=self.lost.words, split=" ".join(self.lost.span.text.split()))


def loosenings(text: str) -> tuple[Loosening, ...]:
    """The parts of a SELECT that can lose rows: joins, then conditions, those of inner SELECTs first, then limits.
    Raises: ConditionError, where it is none."""
    found: list[Loosening] = []
    for start, inner in _selects(text):
        model = read_pieces(inner, len(inner) - 1, Names(()))
        if model.why_not:
            if start == 0:
                raise ConditionError(
                    tr("The query can't be traced: {why_not}", why_not=model.why_not), tr("Trace a SELECT.")
                )
            continue
        found += [replace(each, span=Span(each.span.text, each.span.start + start, each.span.end + start))
                  for each in _of(model)]  # fmt: skip
    return tuple(sorted(found, key=lambda part: _ORDER.get(part.words[:8], 1)))


def _of(model: QueryModel) -> Iterator[Loosening]:
    for card in model.cards:
        if card.joined is not None and card.join in _SHARP:
            word = "full" if card.join == "right" else "left"
            condition = f" {' '.join(card.condition.text.split())}" if card.condition is not None else ""
            span = Span(f"{card.joined.text} {card.text}{condition}", card.joined.start, card.joined.end)
            yield Loosening(
                span,
                tr("{word} join", word=word),
                tr("the join with {alias}", alias=card.alias or card.table or tr("a subquery")),
            )
    for clause, node in (("where", model.where), ("having", model.having)):
        if node is None:
            continue
        parts: tuple[Predicate | Group, ...] = (node,)
        if isinstance(node, Group) and node.word == "and":
            parts = node.parts
        for part in parts:
            yield Loosening(
                Span(part.text, part.start, part.end), "1 = 1", tr("the condition of {clause}", clause=clause.upper())
            )
    limit = model.clauses.get("limit")
    if limit is not None:
        offset = model.clauses.get("offset")
        end = offset.end if offset is not None and offset.start > limit.start else limit.end
        yield Loosening(Span(model.text[limit.start : end], limit.start, end), "", tr("the limit"))


def _selects(text: str) -> Iterator[tuple[int, str]]:
    """(start, text) of each SELECT in brackets, the innermost first, then the whole."""
    opened: list[int] = []
    tokens = tokens_of(text)
    for number, token in enumerate(tokens):
        if token.text == "(":
            opened.append(number)
        elif token.text == ")" and opened:
            begin = opened.pop()
            if begin + 1 < number and tokens[begin + 1].low == "select":
                start = tokens[begin + 1].start
                yield start, text[start : token.start]
    yield 0, text


def loosened(text: str, parts: tuple[Loosening, ...]) -> str:
    """The query with something else in the place of some parts. One inside another that is replaced goes with it."""
    written = text
    outer: list[Loosening] = []
    for each in sorted(parts, key=lambda p: (p.span.start, -p.span.end)):
        if not any(o.span.start <= each.span.start and each.span.end <= o.span.end for o in outer):
            outer.append(each)
    for each in reversed(outer):
        written = written[: each.span.start] + each.instead + written[each.span.end :]
    return written


def trace_query(
    pull: Pull,
    condition: str,
    connection: Connection,
    stop: StopToken = NEVER,
    tell: Callable[[str], None] = lambda text: None,
) -> QueryTrace:
    """Find what keeps a row out of a pull's query; `condition` says which, in the server's own words, by the columns of
    the result. Only reads, and no more than a row at a time; `tell` is told of each request before it is sent. Raises:
    ConditionError, SourceError's, Stopped."""
    if connection.dialect.is_documents:
        raise ConditionError(tr("Requests for documents can't be traced."), tr("Trace the rows that came."))
    text = pull.query.text.rstrip().rstrip(";")
    parts = loosenings(text)
    asked: list[str] = []

    def is_there(query: str) -> bool:
        stop.check()
        if len(asked) >= _MOST_ASKED:
            raise ConditionError(
                tr(
                    "The query was asked {most_asked} times; it has too many conditions to go on.",
                    most_asked=_MOST_ASKED,
                )
            )
        wrapped = f"select 1 as traced from (\n{query}\n) traced where {condition}"
        tell(wrapped)
        asked.append(wrapped)
        one = replace(pull, query=replace(pull.query, text=wrapped, limit=1))
        return fetch(connection, request_of(one, connection), stop).table.rows > 0

    if is_there(text):
        return QueryTrace(True, None, tuple(asked))
    if not parts or not is_there(loosened(text, parts)):
        return QueryTrace(False, None, tuple(asked))
    low, high = 0, len(parts)  # the row is there without the parts from `low` on, and not without those from `high` on
    while high - low > 1:
        middle = (low + high) // 2
        if is_there(loosened(text, parts[middle:])):
            low = middle
        else:
            high = middle
    return QueryTrace(False, parts[low], tuple(asked))
