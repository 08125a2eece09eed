"""What can come next in a query that is being typed: names in scope, joins along keys, functions, keywords, values."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

from nimble_otter.query.assist.functions import functions_of
from nimble_otter.query.sql.names import Names
from nimble_otter.query.sql.scopes import NOT_NAMES, Reading, Ref, Select, Token, is_code, read, short_alias, tokens_of
from nimble_otter.query.sql.statements import statement_at
from nimble_otter.translation import tr

MOST = 60
"""Offers at one place."""
_MANY = 400
"""Tables that are ranked; more of them fit one or two letters alone."""
_BEGIN = ("select", "with", "insert into", "update", "delete from", "explain", "create table", "create view")
_AFTER = {
    "select": ("from", "as", "distinct", "case when"),
    "from": ("join", "left join", "where", "group by", "order by", "limit", "as", "cross join", "union all"),
    "join": ("on", "using", "join", "left join", "where", "group by", "order by", "limit", "as"),
    "on": ("and", "or", "join", "left join", "where", "group by", "order by", "limit"),
    "using": ("join", "left join", "where", "group by", "order by", "limit"),
    "where": ("and", "or", "in", "between", "like", "is null", "is not null", "group by", "order by", "limit"),
    "group": ("having", "order by", "limit"),
    "having": ("and", "or", "order by", "limit"),
    "order": ("asc", "desc", "nulls first", "nulls last", "limit"),
    "limit": ("offset",),
    "update": ("set",),
    "set": ("where", "returning"),
    "delete": ("from",),
}  # fmt: skip
_COLUMN_CLAUSES = ("select", "where", "on", "group", "order", "having", "set", "using", "returning")
_WORDS_OF_TWO = {"group": "by", "order": "by"}


@dataclass(frozen=True, slots=True)
class Offer:
    """`text` replaces what was typed so far; `label` is shown, with `note` (a type, a table) beside it. `kind` is
    column, table, join, function, keyword, value or schema."""

    text: str
    kind: str
    note: str = ""
    label: str = ""

    @property
    def shown(self) -> str:
        """What stands in the list."""
        return self.label or self.text


@dataclass(frozen=True, slots=True)
class Completion:
    """Offers, best first, for the text from `start` to the caret."""

    start: int
    offers: tuple[Offer, ...] = ()


def complete(
    text: str,
    position: int,
    names: Names,
    dialect: str = "",
    quoted: Callable[[str], str] = str,
    values: Callable[[str, str], Sequence[str]] = lambda table, column: (),
    used: Mapping[str, int] | None = None,
) -> Completion:
    """Offers for a caret at `position`; none inside texts and comments.

    `quoted` writes a name as the source takes it; `values(table, column)` gives literals seen lately; `used` counts how
    often an offer was taken, which ranks it higher.
    """
    statement = statement_at(text, position)
    start = statement.start if statement is not None and statement.start <= position else position
    end = statement.end if statement is not None and position <= statement.end else position
    own, at = text[start : max(end, position)], position - start
    typed = re.search(r"((?:(?:\w+|\"[^\"]*\")\.)*)(\"?\w*)$", own[:at])
    assert typed is not None
    path, word = typed[1], typed[2]
    if word.startswith('"') and '"' not in own[at:].split("\n")[0]:
        own = (
            own[: at - len(word)] + " " + own[at - len(word) + 1 :]
        )  # a quote that is not closed yet hides what follows
    if not is_code(own, at) or (word[:1].isdigit()):
        return Completion(position)
    before = tokens_of(own[: at - len(path) - len(word)])
    if before and before[-1].text == ":" and not path:  # a parameter's name
        return Completion(position)
    context = _Context(read(own, names), at - len(path) - len(word), names, dialect, quoted, values, before,
                       word.lstrip('"').casefold())  # fmt: skip
    offers = context.behind_dot(path[:-1]) if path else context.offers()
    begin = position - len(word)
    return Completion(begin, tuple(ranked(offers, word.lstrip('"'), used or {})))


def ranked(offers: Sequence[Offer], word: str, used: Mapping[str, int]) -> list[Offer]:
    """Those that the word may stand for: by how well it fits, then by use, then in the order given."""
    folded = word.casefold()
    scored = []
    for order, offer in enumerate(offers):
        fit = _fit(offer.shown.casefold(), folded)
        if offer.kind in ("function", "keyword") and fit == 2:
            continue  # so many have any two letters somewhere
        if fit is not None and not (offer.kind == "keyword" and offer.text == folded):
            scored.append((fit, -used.get(offer.shown, 0), order, offer))
    scored.sort(key=lambda s: s[:3])
    found = {s[3].text: s[3] for s in reversed(scored)}
    return list(reversed(found.values()))[:MOST]


def _fit(name: str, word: str) -> int | None:
    """0 where a name begins with the word, 1 where a part of it does, 2 where the word is inside or its letters are
    the beginnings of parts, None where it does not fit."""
    if not word or name.startswith(word):
        return 0
    parts = re.split(r"[\W_]+", name)
    if any(part.startswith(word) for part in parts):
        return 1
    if len(word) > 1 and (word in name or "".join(part[:1] for part in parts).startswith(word)):
        return 2
    return None


@dataclass(slots=True)
class _Context:
    reading: Reading
    position: int
    names: Names
    dialect: str
    quoted: Callable[[str], str]
    values: Callable[[str, str], Sequence[str]]
    before: Sequence[Token]
    word: str

    @property
    def select(self) -> Select | None:
        return self.reading.at(self.position)

    def _columns(self, ref: Ref) -> list[tuple[str, str]]:
        known = self.names.table(ref.table) if ref.table else None
        return list(known.columns) if known is not None else [(c, "") for c in ref.columns]

    # --- behind a dot ------------------------------------------------------------------------------------------

    def behind_dot(self, path: str) -> list[Offer]:
        """Columns of an alias, tables of a schema, fields inside an object."""
        select, folded = self.select, path.replace('"', "").casefold()
        refs = select.visible() if select is not None else []
        for ref in refs:
            is_here = ref.start <= self.position <= ref.end
            if not is_here and (ref.alias.casefold() == folded or ref.table.casefold() == folded):
                return [Offer(self.quoted(name), "column", word) for name, word in self._columns(ref)]
        inner = [
            Offer(name[len(folded) + 1 :], "column", word)
            for ref in refs for name, word in self._columns(ref) if name.casefold().startswith(f"{folded}.")
        ]  # fmt: skip
        if inner:
            return inner
        return [
            Offer(self.quoted(t.name.rpartition(".")[2]), "table", t.kind)
            for t in self.names.tables
            if t.schema.casefold() == folded
        ]

    # --- elsewhere ---------------------------------------------------------------------------------------------

    def offers(self) -> list[Offer]:
        select = self.select
        last = self.before[-1] if self.before else None
        if last is None or (last.text == "(" and select is None):
            return [Offer(word, "keyword") for word in _BEGIN]
        clause = select.clause_at(self.position) if select is not None else ""
        word = last.low
        if word in _WORDS_OF_TWO and last.kind == "word":
            return [Offer("by", "keyword")]
        if word in ("from", "join", "into", "update", "table") or (word == "," and clause in ("from", "join")):
            return [*(self._joins(select) if select is not None and word == "join" else []), *self._tables()]
        found: list[Offer] = []
        if select is not None and word == "on":
            found += self._conditions(select)
        if select is not None and clause in _COLUMN_CLAUSES:
            found += self._values(select)
            ends = last.kind in ("word", "name", "number", "text") and word not in NOT_NAMES
            if ends or word == ")":
                return found + self._keywords(clause)
            found += self._scope(select, clause)
            found += [Offer(_call(f), "function", f[f.index("(") :], _name(f)) for f in functions_of(self.dialect)]
            if clause == "select" and word == "select":
                found += [Offer("distinct", "keyword"), Offer("*", "keyword")]
            found += [Offer(w, "keyword") for w in ("case when", "not", "exists", "null")]
            return found
        if select is None:
            return [Offer(word, "keyword") for word in _BEGIN] + self._tables()
        return found + self._keywords(clause)

    def _keywords(self, clause: str) -> list[Offer]:
        return [Offer(word, "keyword") for word in _AFTER.get(clause, _BEGIN)]

    def _tables(self) -> list[Offer]:
        offers = [Offer(name, "table", tr("in this query")) for name in self.reading.ctes]
        rows = [t for t in self.names.like(self.word) if t.kind not in ("routine", "sequence")]
        offers += [Offer(self.quoted(t.name), "table", t.kind, t.name) for t in rows[:_MANY]]
        schemas = dict.fromkeys(t.schema for t in self.names.tables if t.schema)
        return offers + [Offer(f"{schema}.", "schema", "schema") for schema in schemas]

    def _scope(self, select: Select, clause: str) -> list[Offer]:
        """Columns of the tables in the query: those whose name stands for one table plainly, the others with it."""
        refs = select.visible()
        counts: dict[str, int] = {}
        for ref in refs:
            for name, _ in self._columns(ref):
                counts[name.casefold()] = counts.get(name.casefold(), 0) + 1
        results = []
        for ref in refs:
            for name, word in self._columns(ref):
                written = self.quoted(name) if "." not in name else name
                text = written if counts[name.casefold()] == 1 else f"{self.quoted(ref.alias)}.{written}"
                results.append(Offer(text, "column", f"{ref.alias} · {word}" if word else ref.alias, name))
        if clause in ("order", "group", "having"):
            results += [Offer(self.quoted(label), "column", tr("of the result")) for label in select.labels]
        return results + [Offer(f"{self.quoted(ref.alias)}.", "table", ref.table or "subquery") for ref in refs]

    # --- joins -------------------------------------------------------------------------------------------------

    def _joins(self, select: Select) -> list[Offer]:
        """Whole joins to the tables that a key leads to from those in the query."""
        offers: list[Offer] = []
        taken = {ref.alias.casefold() for ref in select.refs}
        here = [r for r in select.refs if r.start < self.position]
        for ref in here:
            for join in self.names.joins(ref.table):
                if self.word not in join.table.casefold():
                    continue
                if len(offers) >= MOST:
                    return offers
                alias = short_alias(join.table, taken)
                condition = self._condition(ref, join.columns, alias, join.others)
                own = self.quoted(join.table)
                text = f"{own} {alias} on {condition}" if alias != join.table else f"{own} on {condition}"
                offers.append(Offer(text, "join", tr("by {columns}", columns=", ".join(join.columns)), text))
        return offers

    def _conditions(self, select: Select) -> list[Offer]:
        """Join conditions along keys between the table just joined and those before it."""
        here = [r for r in select.refs if r.start < self.position]
        results = []
        for other in here[:-1]:
            for join in self.names.joins(here[-1].table):
                if join.table == other.table:
                    text = self._condition(other, join.others, here[-1].alias, join.columns)
                    results.append(Offer(text, "join", "key"))
        return results

    def _condition(self, ref: Ref, columns: Sequence[str], alias: str, others: Sequence[str]) -> str:
        q = self.quoted
        pairs = zip(columns, others, strict=True)
        return " and ".join(f"{q(ref.alias)}.{q(mine)} = {q(alias)}.{q(its)}" for mine, its in pairs)

    # --- values ------------------------------------------------------------------------------------------------

    def _values(self, select: Select) -> list[Offer]:
        """Values seen lately of the column that is compared."""
        tokens = list(self.before)
        while tokens and (tokens[-1].kind in ("text", "number") or tokens[-1].text == ","):
            tokens.pop()  # further values of a list
        while tokens and (tokens[-1].text in ("=", "(", "<", ">", "!") or tokens[-1].low in ("in", "not", "like")):
            tokens.pop()
        if len(tokens) == len(self.before) or not tokens or tokens[-1].kind not in ("word", "name"):
            return []
        name = tokens[-1].plain
        alias = tokens[-3].plain.casefold() if len(tokens) > 2 and tokens[-2].text == "." else ""
        for ref in select.visible():
            if alias and ref.alias.casefold() != alias:
                continue
            known = next((c for c, _ in self._columns(ref) if c.casefold() == name.casefold()), None)
            if known is not None and ref.table:
                return [Offer(value, "value", known) for value in self.values(ref.table, known)]
        return []


def _name(call: str) -> str:
    return call[: call.index("(")]


def _call(call: str) -> str:
    """What is put in: with the caret's place behind the bracket, or whole where there is nothing to fill in."""
    name = _name(call)
    return call if call.endswith(("()", "(*)")) else f"{name}("
