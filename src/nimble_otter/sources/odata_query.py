"""What of a SELECT an OData service understands: the columns, conditions and orders by which both mean the same."""

from __future__ import annotations

import re
import struct
from collections.abc import Iterator, Mapping
from datetime import date
from decimal import Decimal

from nimble_otter.query.lazy import exp, sqlglot
from nimble_otter.sources.odata import EntitySet, Property, set_of, text_literal
from nimble_otter.sources.odata_flat import flattened
from nimble_otter.values import Value

WHOLE_NUMBERS = ("Edm.Int16", "Edm.Int32", "Edm.Int64", "Edm.Byte", "Edm.SByte")
NUMBERS = (*WHOLE_NUMBERS, "Edm.Double", "Edm.Single", "Edm.Decimal")
_SIGNS = {"EQ": "eq", "NEQ": "ne", "GT": "gt", "GTE": "ge", "LT": "lt", "LTE": "le"}
_GUID = re.compile(r"[0-9a-fA-F]{8}(-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}")
_TURNED = {"gt": "lt", "ge": "le", "lt": "gt", "le": "ge"}


def select_of(text: str) -> exp.Select | None:
    """A text as a SELECT; None, where it is something else."""
    try:
        tree = sqlglot.parse_one(text, dialect="sqlite")
    except (sqlglot.errors.SqlglotError, RecursionError):
        return None
    return tree if isinstance(tree, exp.Select) else None


def query_over(tree: exp.Select, sets: Mapping[str, EntitySet], values: Mapping[str, object]) -> QueryOver | None:
    """A SELECT over sets, each named once, as it would be without a plain SELECT inside; None, where it is another."""
    while (flat := flattened(tree)) is not None:
        tree = flat
    if len(list(tree.find_all(exp.Select, exp.SetOperation))) > 1 or tree.args.get("with_"):
        return None
    places = list(tree.find_all(exp.Table))
    by_alias = {place.alias_or_name.casefold(): own for place in places if (own := set_of(place.name, sets))}
    is_each_once = len(places) == len(by_alias) == len({own.name for own in by_alias.values()})
    return QueryOver(tree, by_alias, values) if is_each_once else None


def conditions_inside(
    tree: exp.Expr | None, sets: Mapping[str, EntitySet], values: Mapping[str, object]
) -> Iterator[tuple[str, frozenset[str]]]:
    """For each place in a statement where it reads a set, or changes its entities: the set, and conditions that hold
    for all of them; none: it may be about any."""
    for place in tree.find_all(exp.Table) if tree is not None else ():
        own = set_of(place.name, sets)
        around = place.find_ancestor(exp.Select, exp.Update, exp.Delete, exp.Insert)
        if own is None or around is None:
            continue
        if isinstance(around, exp.Insert):
            if around.args.get("conflict") or around.args.get("alternative"):
                yield own.name, frozenset()
            continue
        beside = [each for each in around.find_all(exp.Table) if set_of(each.name, sets) is not None]
        query = QueryOver(around, {place.alias_or_name.casefold(): own}, values)
        yield own.name, frozenset(query.conditions(own)) if len(beside) == 1 else frozenset()


class QueryOver:
    """One SELECT, UPDATE or DELETE without a SELECT inside, over `sets` by their aliases, each named once."""

    def __init__(self, tree: exp.Expr, sets: Mapping[str, EntitySet], values: Mapping[str, object]) -> None:
        self.tree, self.sets, self._values = tree, sets, values
        where = tree.args.get("where")
        self.parts = list(where.this.flatten() if isinstance(where.this, exp.And) else [where.this]) if where else []
        self.joins = tree.args.get("joins") or ()
        self._is_inner = not any(join.side or join.method for join in self.joins)

    def conditions(self, table: EntitySet) -> tuple[str, ...]:
        """What holds for each of its entities that the query is about, as the service takes it."""
        return tuple(text for part in self.parts if (text := self.filter(part, table)))

    def columns(self, table: EntitySet) -> tuple[str, ...]:
        """Those that are used; none: all of them."""
        tree = self.tree
        by_name = any(join.args.get("using") or join.args.get("method") for join in self.joins)
        stars = [star for star in tree.find_all(exp.Star) if not isinstance(star.parent, exp.Count)]
        if by_name or stars:
            return ()
        used = {p.name for column in tree.find_all(exp.Column) if (p := self.property(column, table)) is not None}
        whole = used | set(table.key) | {name for link in table.links for name in link.columns}
        return tuple(p.name for p in table.properties if p.name in whole)

    def property(self, column: Value, table: EntitySet) -> Property | None:
        """What a column is in a set; None where it is, or may be, one of another."""
        if not isinstance(column, exp.Column):
            return None
        if column.table:
            return table.property(column.name) if self.sets.get(column.table.casefold()) is table else None
        return table.property(column.name)

    def filter(self, part: exp.Expr, table: EntitySet, exactly: bool = False) -> str:
        """A condition as the service takes it, which holds for every entity that the condition holds for, and
        `exactly` for those; "" where it may mean something else there."""
        if isinstance(part, exp.Paren):
            return self.filter(part.this, table, exactly)
        if isinstance(part, (exp.Or, exp.And)):
            sides = [self.filter(each, table, exactly) for each in part.flatten()]
            kept = [side for side in sides if side]
            is_sure = bool(kept) if isinstance(part, exp.And) and not exactly else all(sides)
            return f"({f' {type(part).__name__.lower()} '.join(kept)})" if is_sure else ""
        if isinstance(part, exp.In) and not part.args.get("query"):
            property_ = self.sure(part.this, table)
            literals = [self._literal(each, property_) for each in part.expressions] if property_ is not None else []
            is_whole = property_ is not None and literals and all(literals)
            return f"({' or '.join(f'{property_.name} eq {x}' for x in literals)})" if is_whole and property_ else ""
        return self._empty(part, table) or self._compared(part, table, exactly)

    def _empty(self, part: exp.Expr, table: EntitySet) -> str:
        """Whether there is a value; among rows that an outer join fills up the service would leave out too many."""
        test = part.this if isinstance(part, exp.Not) else part
        is_one = isinstance(test, exp.Is) and isinstance(test.expression, exp.Null) and self._is_inner
        property_ = self.sure(test.this, table) if is_one else None
        return f"{property_.name} {'eq' if test is part else 'ne'} null" if property_ is not None else ""

    def _compared(self, part: exp.Expr, table: EntitySet, exactly: bool) -> str:
        sign = _SIGNS.get(type(part).__name__.upper(), "")
        if not sign:
            return ""
        for held, other, word in (
            (part.this, part.expression, sign),
            (part.expression, part.this, _TURNED.get(sign, sign)),
        ):
            property_ = self.sure(held, table)
            literal = self._literal(other, property_) if property_ is not None else ""
            if property_ is not None and literal and word in _words_of(property_.edm):
                text = f"{property_.name} {word} {literal}"
                null_too = exactly and word == "ne" and not property_.is_filled
                return f"({text} and {property_.name} ne null)" if null_too else text
        return ""

    def sure(self, column: Value, table: EntitySet) -> Property | None:
        """What a column is, where no other set has one of its name."""
        found = self.property(column, table)
        if found is None or column.table or len(self.sets) == 1:
            return found
        return found if sum(own.property(column.name) is not None for own in self.sets.values()) == 1 else None

    def value(self, node: Value) -> Value:
        """What stands in the text, or is given for a parameter; None where it is something else."""
        if isinstance(node, exp.Placeholder):
            return self._values.get(node.name)
        if isinstance(node, exp.Neg) and isinstance(node.this, exp.Literal) and not node.this.is_string:
            return -Decimal(node.this.name)
        if isinstance(node, exp.Literal):
            return node.name if node.is_string else Decimal(node.name)
        return node.this if isinstance(node, exp.Boolean) else None

    def _literal(self, node: Value, property_: Property) -> str:
        value = self.value(node)
        if property_.edm == "Edm.Boolean":
            return "" if isinstance(value, str) or value not in (0, 1) else str(bool(value)).lower()
        if property_.edm in NUMBERS and isinstance(value, (int, float, Decimal)) and not isinstance(value, bool):
            if property_.edm in WHOLE_NUMBERS:
                return "" if value != int(value) else str(int(value))
            return "" if property_.edm == "Edm.Single" and not _is_single(value) else format(Decimal(str(value)), "f")
        if property_.edm == "Edm.String" and isinstance(value, str) and value.isprintable():
            return text_literal(value)
        if property_.edm == "Edm.Guid" and isinstance(value, str) and _GUID.fullmatch(value):
            return value
        return value if property_.edm == "Edm.Date" and isinstance(value, str) and _is_day(value) else ""

    def order(self, table: EntitySet) -> tuple[str, ...] | None:
        """How the service should order; None where it may order otherwise."""
        order = self.tree.args.get("order")
        terms: list[str] = []
        for each in order.expressions if order is not None else ():
            property_ = self.property(each.this, table)
            is_turned = bool(each.args.get("nulls_first")) == bool(each.args.get("desc"))
            if property_ is None or property_.edm not in (*NUMBERS, "Edm.Date") or is_turned:
                return None
            terms.append(f"{property_.name} desc" if each.args.get("desc") else property_.name)
        return tuple(terms)

    def top(self, limit: int | None) -> int | None:
        """How many rows of the set are enough; None where that can't be told."""
        tree = self.tree
        if any(tree.args.get(name) for name in ("where", "group", "having", "distinct", "windows", "qualify")):
            return None
        if next(tree.find_all(exp.AggFunc, exp.Window), None) is not None:
            return None
        counts = []
        for name in ("limit", "offset"):
            node = tree.args.get(name)
            value = node.expression if node is not None else None
            if node is not None and not (isinstance(value, exp.Literal) and value.is_int):
                return None
            counts.append(int(value.name) if isinstance(value, exp.Literal) else None)
        own, offset = counts
        wanted = [n for n in (own, None if limit is None else limit + 1) if n is not None]
        return min(wanted) + (offset or 0) if wanted else None


def _words_of(edm: str) -> tuple[str, ...]:
    """How values of a type are compared by everyone alike."""
    if edm in NUMBERS or edm == "Edm.Date":
        return tuple(_SIGNS.values())
    return ("eq", "ne") if edm == "Edm.Boolean" else ("eq",)


def _is_single(value: Value) -> bool:
    """Whether a number is one of four bytes too; another would be compared as a number that it is not."""
    try:
        return bool(struct.unpack("<f", struct.pack("<f", float(value)))[0] == value)
    except (OverflowError, ValueError):
        return False


def _is_day(text: str) -> bool:
    try:
        return date.fromisoformat(text).isoformat() == text
    except ValueError:
        return False
