"""Changing a query by its pieces: each function gives the new text, in which only the place of the piece is different.

All of them take the pieces as they are read from the text now. What can't be done raises QueryError with the reason.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

from nimble_otter.errors import QueryError
from nimble_otter.query.assist.rewrite import expand_stars, qualify
from nimble_otter.query.parsed import parse_sql
from nimble_otter.query.pieces.conditions import (
    add_condition,
    has_comment,
    put,
    remove_condition,
    with_clause,
    without_clause,
)
from nimble_otter.query.pieces.model import (
    CLAUSES,
    Group,
    Item,
    Predicate,
    QueryModel,
    Span,
    TableRef,
    depths_of,
    read_pieces,
)
from nimble_otter.query.sql.names import Names
from nimble_otter.query.sql.scopes import short_alias, tokens_of
from nimble_otter.translation import tr

JOINS = {"inner": "join", "left": "left join", "right": "right join", "full": "full join"}
Quoted = Callable[[str], str]


@dataclass(frozen=True, slots=True)
class Route:
    """A way to join a new table: `pairs` of (column of the earlier card, column of the new table) along one key."""

    card: TableRef
    pairs: tuple[tuple[str, str], ...]

    @property
    def said(self) -> str:
        """The columns that meet, in words."""
        return ", ".join(f"{self.card.alias}.{mine} = {its}" for mine, its in self.pairs)

    def condition(self, alias: str, quoted: Quoted) -> str:
        """What stands behind ON, for a table called `alias`."""
        q, own = quoted, quoted(self.card.alias)
        return " and ".join(f"{own}.{q(mine)} = {q(alias)}.{q(its)}" for mine, its in self.pairs)


def _again(before: QueryModel, text: str, names: Names | None = None) -> QueryModel:
    return read_pieces(text, before.start, names or Names(()))


def one_expression(text: str, dialect: str) -> str:
    """A typed expression without what is around it. Raises: QueryError when it is none, or more than one."""
    stripped = text.strip()
    tokens = tokens_of(stripped)
    if not tokens:
        raise QueryError(tr("Nothing is entered here."))
    depths = depths_of(tokens)
    if has_comment(stripped) or any(
        t.text == ";" or (t.text == "," and d == 0) for t, d in zip(tokens, depths, strict=True)
    ):
        raise QueryError(tr("Enter one expression."), tr("Add another piece for each."))
    words = [t.low for t, d in zip(tokens, depths, strict=True) if d == 0 and t.kind == "word"]
    if any(word in CLAUSES and not (word == "from" and "distinct" in words) for word in words):
        raise QueryError(tr("A part of a query can't be used in an expression."), tr("Put a query in brackets."))
    parse_sql(f"select {stripped}", dialect, QueryError)
    return stripped


# --- lists: columns, groups, order -----------------------------------------------------------------------------------


def _insert(pieces: QueryModel, clause: str, items: Sequence[Item], new: str) -> str:
    if not items:
        return with_clause(pieces, clause, new)
    index = items[-1].end
    return f"{pieces.text[:index]}, {new}{pieces.text[index:]}"


def _remove(pieces: QueryModel, clause: str, items: Sequence[Item], at: int) -> str:
    if len(items) == 1:
        if clause == "select":
            raise QueryError(tr("The last column stays: a query needs one."), tr("Add another first."))
        return without_clause(pieces, clause)
    item, text = items[at], pieces.text
    if at + 1 < len(items):
        low, high = item.start, items[at + 1].start
        gap = text[item.end : high]
        return text[:low] + (gap.replace(",", "", 1).lstrip() if has_comment(gap) else "") + text[high:]
    low, high = items[at - 1].end, item.end
    gap = text[low : item.start]
    kept = gap.replace(",", "", 1) if has_comment(gap) else ""
    return text[:low] + (kept.rstrip(" ") if not kept.rstrip(" ").endswith("\n") else kept) + text[high:]


def move_item(pieces: QueryModel, clause: str, at: int, way: int) -> str:
    """An item changes places with its neighbour; comments and layout stay where they are."""
    items, to = _list(pieces, clause), at + way
    if not 0 <= to < len(items):
        return pieces.text
    first, second = sorted((items[at], items[to]), key=lambda i: i.start)
    text = pieces.text
    return text[: first.start] + second.text + text[first.end : second.start] + first.text + text[second.end :]


def _list(pieces: QueryModel, clause: str) -> Sequence[Item]:
    return {"select": pieces.items, "group": pieces.groups, "order": pieces.orders}[clause]


def remove_item(pieces: QueryModel, clause: str, at: int) -> str:
    """Without a column or a key of the order; a column goes from GROUP BY too."""
    text = _remove(pieces, clause, _list(pieces, clause), at)
    return _regrouped(pieces, text) if clause == "select" else text


def add_item(pieces: QueryModel, said: str, label: str = "") -> str:
    """With one more expression in SELECT; in GROUP BY as well where the query is grouped by its columns."""
    if pieces.items and pieces.items[-1].is_star and len(pieces.items) == 1 and not pieces.cards:
        return put(pieces.text, pieces.items[0], said)
    return _regrouped(pieces, _insert(pieces, "select", pieces.items, f"{said} as {label}" if label else said))


def set_said(pieces: QueryModel, clause: str, at: int, said: str) -> str:
    """Another expression for an item, whose name or direction stays."""
    item = _list(pieces, clause)[at]
    text = put(pieces.text, Span(item.said, item.start, item.start + len(item.said)), said)
    return _regrouped(pieces, text) if clause == "select" else text


def rename_item(pieces: QueryModel, at: int, label: str, quoted: Quoted) -> str:
    """The name of a column of the result; none takes it away."""
    item = pieces.items[at]
    if item.is_star:
        raise QueryError(tr("* has no name."), tr("Check single columns to name them."))
    named = label.strip()
    return put(pieces.text, item, f"{item.said} as {quoted(named)}" if named else item.said)


def set_function(pieces: QueryModel, at: int, function: str, quoted: Quoted) -> str:
    """The figure that a column is made into ("" for none); all other columns are then what is grouped by."""
    item = pieces.items[at]
    if any(i.is_star for i in pieces.items) and not (item.is_star and function == "count"):
        raise QueryError(tr("* can't be grouped by."), tr("Check the columns that are wanted first."))
    inner = item.said
    if item.function:
        inner = re.sub(r"(?is)^\w+\s*\(\s*(distinct\s+)?", "", item.said)[:-1].strip()
    automatic = f"{item.column}_{item.function.replace(' ', '_')}"
    label = "" if item.function and item.label == automatic else item.label
    if not function:
        return _regrouped(pieces, put(pieces.text, item, f"{inner} as {quoted(label)}" if label else inner))
    if not label and item.column and item.column != "*":
        label = f"{item.column}_{function.replace(' ', '_')}"
    name, _, distinct = function.partition(" ")
    text = f"{name}({distinct + ' ' if distinct else ''}{inner})"
    return _regrouped(pieces, put(pieces.text, item, f"{text} as {quoted(label)}" if label else text))


def _regrouped(before: QueryModel, text: str) -> str:
    """GROUP BY follows the columns, as long as it held just the columns that are no figures."""
    now = _again(before, text)
    was = _keys(before)
    if [g.said for g in before.groups] != was and before.groups:
        return text  # made by hand
    if before.has_aggregates and was and not before.groups:
        return text
    wanted = _keys(now)
    if [g.said for g in now.groups] == wanted or any(i.is_star for i in now.items):
        return text
    if not wanted:
        return without_clause(now, "group")
    if not now.groups:
        return with_clause(now, "group", ", ".join(wanted))
    first, last = now.groups[0], now.groups[-1]
    return put(text, Span("", first.start, last.end), ", ".join(wanted))


def _keys(pieces: QueryModel) -> list[str]:
    """What the query has to be grouped by: its columns, once one of them is a figure."""
    return [i.said for i in pieces.items if i.role == "key"] if pieces.has_aggregates else []


def add_order(pieces: QueryModel, said: str, descending: bool = False) -> str:
    """The text sorted by one more column, the last."""
    return _insert(pieces, "order", pieces.orders, f"{said} desc" if descending else said)


def turn_order(pieces: QueryModel, at: int) -> str:
    """Ascending for descending and back; NULLS FIRST and LAST stay."""
    item = pieces.orders[at]
    rest = re.sub(r"^(asc|desc)\b\s*", "", item.way)
    way = rest if item.way.startswith("desc") else f"desc {rest}".strip()
    return put(pieces.text, item, f"{item.said} {way}".strip())


def set_distinct(pieces: QueryModel, on: bool) -> str:
    """The text with DISTINCT behind its SELECT, or without."""
    if on == pieces.is_distinct:
        return pieces.text
    if "select" not in pieces.clauses:
        raise QueryError(tr("There is no query yet."), tr("Add a table first."))
    span = pieces.clauses["select"]
    if on:
        at = span.start + len("select")
        return f"{pieces.text[:at]} distinct{pieces.text[at:]}"
    return (
        pieces.text[: span.start] + re.sub(r"(?is)^(select)\s+distinct\b", r"\1", span.text) + pieces.text[span.end :]
    )


def set_limit(pieces: QueryModel, limit: str) -> str:
    """LIMIT as a number or parameter; "" for none."""
    limit = limit.strip()
    if limit and not re.fullmatch(r"\d+|:\w+", limit):
        raise QueryError(
            tr("{limit} is not a limit.", limit=limit), tr("Type a whole number, or a parameter such as :most.")
        )
    if not limit:
        return without_clause(pieces, "limit") if "limit" in pieces.clauses else pieces.text
    if "fetch" in pieces.clauses or (pieces.limit and not re.fullmatch(r"\w+|:\w+", pieces.limit)):
        raise QueryError(tr("The limit is written in a way that pieces can't change."), tr("Change it in the text."))
    if "limit" not in pieces.clauses:
        return with_clause(pieces, "limit", limit)
    span = pieces.clauses["limit"]
    return put(pieces.text, Span("", span.end - len(pieces.limit), span.end), limit)


# --- tables ----------------------------------------------------------------------------------------------------------


def routes(pieces: QueryModel, names: Names, table: str) -> list[Route]:
    """Every key along which a table can be joined to those in the query."""
    results = []
    for card in pieces.cards:
        for join in names.joins(card.table) if card.table else []:
            if join.table == table:
                route = Route(card, tuple(zip(join.columns, join.others, strict=True)))
                if route not in results:
                    results.append(route)
    return results


def add_table(
    pieces: QueryModel, names: Names, table: str, quoted: Quoted, route: Route | None = None, kind: str = "inner"
) -> str:
    """With one more table, joined along a route; without one every row meets every row, until a condition is given."""
    if not pieces.items:
        head = f"select *\nfrom {quoted(table)}"
        return f"{pieces.text[: pieces.end]}{head}{pieces.text[pieces.end :]}"
    if not pieces.cards:
        return with_clause(pieces, "from", quoted(table))
    taken = {card.alias.casefold() for card in pieces.cards}
    has_own = any(
        card.alias.casefold() != card.table.rpartition(".")[2].casefold() for card in pieces.cards if card.table
    )
    bare = table.rpartition(".")[2]
    alias = short_alias(table, taken) if has_own or bare.casefold() in taken else bare
    pieces = _told_apart(pieces, names, table, quoted)
    if route is not None:  # it is the same card, whose place may have moved
        route = replace(route, card=pieces.card(route.card.alias) or route.card)
    named = quoted(table) if alias == bare else f"{quoted(table)} {quoted(alias)}"
    condition = route.condition(alias, quoted) if route is not None else ""
    at = pieces.clauses["from"].end
    head, tail = pieces.text[:at], pieces.text[at:]
    if any(card.join == "," for card in pieces.cards):
        # behind a comma, a join would see only the table next to it
        listed = _again(pieces, f"{head}, {named}{tail}", names)
        return add_condition(listed, "where", condition) if condition else listed.text
    if not condition:
        return f"{head}\ncross join {named}{tail}"
    return f"{head}\n{JOINS[kind]} {named} on {condition}{tail}"


def _told_apart(pieces: QueryModel, names: Names, table: str, quoted: Quoted) -> QueryModel:
    """Columns that the new table has too are written with their table from now on."""
    new = names.table(table)
    folded = {c.casefold() for c, _ in new.columns} if new is not None else set()
    known = [names.table(card.table) for card in pieces.cards]
    same = any(c.casefold() in folded for t in known if t is not None for c, _ in t.columns)
    if not same:
        return pieces
    return _again(pieces, qualify(pieces.text, pieces.start, names, quoted), names)


def set_join(pieces: QueryModel, at: int, kind: str) -> str:
    """Inner, left, right or full for the join of a card."""
    card = pieces.cards[at]
    if card.joined is None or card.condition is None:
        raise QueryError(tr("This join has no condition."), tr("Choose the key to join by first."))
    return put(pieces.text, card.joined, JOINS[kind])


def set_route(pieces: QueryModel, at: int, route: Route, quoted: Quoted) -> str:
    """Another key for the join of a card."""
    return set_join_condition(pieces, at, route.condition(pieces.cards[at].alias, quoted))


def set_join_condition(pieces: QueryModel, at: int, said: str) -> str:
    """Another ON for the join of a card, as text."""
    card = pieces.cards[at]
    if card.joined is None or card.join == ",":
        raise QueryError(tr("This table is listed with a comma."), tr("Its condition is in WHERE."))
    if card.condition is not None:
        return put(pieces.text, card.condition, f"on {said}")
    text = f"{pieces.text[: card.end]} on {said}{pieces.text[card.end :]}"
    return put(text, card.joined, "join")


def remove_table(pieces: QueryModel, at: int) -> tuple[str, int]:
    """(text, count): without a table, and without the columns, conditions and keys of the order that speak of it, whose
    count is given. Raises: QueryError where other tables hang on it."""
    card = pieces.cards[at]
    if len(pieces.cards) == 1:
        raise QueryError(tr("The last table stays: a query needs one."), tr("Add another first."))
    mention = re.compile(rf'(?i)(?<![\w."`])["`]?{re.escape(card.alias)}["`]?\s*\.')
    held = [c for n, c in enumerate(pieces.cards) if n > at and c.condition and mention.search(c.condition.text)]
    if (at and held) or len(held) > 1 or (held and held[0] is not pieces.cards[1]):
        names = ", ".join(c.alias for c in held)
        raise QueryError(
            tr("{names} is joined to {alias}.", names=names, alias=card.alias),
            tr("Remove that first, or join it elsewhere."),
        )
    text, count = pieces.text, 0
    if at:
        assert card.joined is not None
        end = card.condition.end if card.condition is not None else card.end
        gap = text[pieces.cards[at - 1].end : card.joined.start]
        low = card.joined.start - (len(gap) - len(gap.rstrip()))
        text = text[:low] + text[end:]
    else:
        second = pieces.cards[1]
        end = second.condition.end if second.condition is not None else second.end
        text = f"{text[: card.start]}{second.text}{text[end:]}"
    while True:  # one at a time, as each moves the places of the others
        now = _again(pieces, text)
        written = _without_mention(now, mention)
        if written is None:
            return text, count
        text, count = written, count + 1


def _without_mention(pieces: QueryModel, mention: re.Pattern[str]) -> str | None:
    for clause in ("order", "group", "select"):
        for at, item in enumerate(_list(pieces, clause)):
            if mention.search(item.said):
                if clause == "select" and len(pieces.items) == 1:
                    return put(pieces.text, item, "*")
                return _remove(pieces, clause, _list(pieces, clause), at)
    for clause in ("where", "having"):
        path = _mentioned(pieces.node(clause, ()), mention)
        if path is not None:
            return remove_condition(pieces, clause, path)
    return None


def _mentioned(node: Predicate | Group | None, mention: re.Pattern[str]) -> list[int] | None:
    if isinstance(node, Predicate):
        return [] if mention.search(node.text) else None
    for at, part in enumerate(node.parts if node is not None else ()):
        path = _mentioned(part, mention)
        if path is not None:
            return [at, *path]
    return None


# --- ticking columns -------------------------------------------------------------------------------------------------


def is_of(item: Item, card: TableRef, column: str, pieces: QueryModel, names: Names) -> bool:
    """Whether an item is this column of this card, plainly."""
    if item.function or item.column.casefold() != column.casefold():
        return False
    return _is_alias(item.alias, card, pieces, names, column)


def _is_alias(alias: str, card: TableRef, pieces: QueryModel, names: Names, column: str) -> bool:
    if alias:
        return alias.rpartition(".")[2].casefold() == card.alias.casefold()
    for other in pieces.cards:  # a bare name is of the first table that has it
        known = names.table(other.table) if other.table else None
        if known is not None and any(c.casefold() == column.casefold() for c, _ in known.columns):
            return other is card
    return card is pieces.cards[0]


def ticked(pieces: QueryModel, card: TableRef, names: Names) -> set[str]:
    """The columns of a card that the query gives, in folded letters; "*" among them where all are."""
    found = set()
    for item in pieces.items:
        if item.is_star and item.alias.casefold() in ("", card.alias.casefold()):
            found.add("*")
        elif item.column and is_of(item, card, item.column, pieces, names):
            found.add(item.column.casefold())
    return found


def column_said(pieces: QueryModel, card: TableRef, column: str, quoted: Quoted) -> str:
    """A column as the query writes it: with its table where there are several."""
    return f"{quoted(card.alias)}.{quoted(column)}" if len(pieces.cards) > 1 else quoted(column)


def tick(pieces: QueryModel, card: TableRef, column: str, on: bool, names: Names, quoted: Quoted) -> str:
    """With or without a column of a table in SELECT."""
    if on:
        return add_item(pieces, column_said(pieces, card, column, quoted))
    if "*" in ticked(pieces, card, names):
        first = pieces.clauses["select"].start
        pieces = _again(pieces, expand_stars(pieces.text, first + 1, names, quoted), names)
        card = pieces.card(card.alias) or card
    for at, item in enumerate(pieces.items):
        if is_of(item, card, column, pieces, names):
            return remove_item(pieces, "select", at)
    return pieces.text


def only_columns(pieces: QueryModel, card: TableRef, names: Names, quoted: Quoted, on: bool) -> str:
    """All columns of a card, or none of them."""
    known = names.table(card.table)
    text = pieces.text
    for column, _ in known.columns if known is not None else ():
        now = _again(pieces, text, names)
        own = now.card(card.alias)
        has = own is not None and bool(ticked(now, own, names) & {column.casefold(), "*"})
        if own is not None and has != on:
            text = tick(now, own, column, on, names, quoted)
    return text
