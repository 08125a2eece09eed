"""What an OData service is asked for, for a query.

The rows of a query's entity sets are fetched and the query is run over them here, so that every SELECT works. What goes
with the request (`$select`, `$filter`, `$orderby`, `$top`, and with `$expand` the entities of other sets) only makes
the answers smaller: the service may never leave out a row that the query would keep. So comparisons go along where both
sides mean the same by them, and the query's own conditions are applied again. For what a service groups itself see
`odata_groups.py`.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from urllib.parse import quote

from nimble_otter.query.lazy import exp
from nimble_otter.sources.odata import EntitySet, Way, set_of
from nimble_otter.sources.odata_query import QueryOver, query_over, select_of

LONGEST = 6000
"""Characters of a request: services take no address of any length."""
_Pair = tuple[str, str]


@dataclass(frozen=True, slots=True)
class Expand:
    """What comes with each entity along one of its ways."""

    way: Way
    select: tuple[str, ...] = ()
    filters: tuple[str, ...] = ()
    expand: tuple[Expand, ...] = ()

    @property
    def text(self) -> str:
        """As an option of a request."""
        options = {
            "$select": ",".join(self.select), "$filter": " and ".join(self.filters),
            "$expand": ",".join(each.text for each in self.expand),
        }  # fmt: skip
        told = ";".join(f"{name}={text}" for name, text in options.items() if text)
        return f"{self.way.name}({told})" if told else self.way.name


@dataclass(frozen=True, slots=True)
class Asked:
    """A request for rows of a set, with those of others that `expand` leads to, or for groups that `apply` makes of
    them. Empty: all columns, all rows."""

    name: str
    select: tuple[str, ...] = ()
    filters: tuple[str, ...] = ()
    order: tuple[str, ...] = ()
    top: int | None = None
    expand: tuple[Expand, ...] = ()
    apply: str = ""

    @property
    def path(self) -> str:
        """Behind the address of the service."""
        options = {
            "$select": ",".join(self.select), "$filter": " and ".join(self.filters), "$orderby": ",".join(self.order),
            "$top": "" if self.top is None else str(self.top), "$expand": ",".join(each.text for each in self.expand),
            "$apply": self.apply,
        }  # fmt: skip
        told = "&".join(f"{name}={quote(text, safe=',():$;=/')}" for name, text in options.items() if text)
        return f"{quote(self.name)}{'?' if told else ''}{told}"

    @property
    def shown(self) -> str:
        """The same to be read."""
        return self.path.replace("%20", " ").replace("%27", "'")

    @property
    def counting(self) -> str:
        """Where the service tells how many entities it is about."""
        told = f"?$filter={quote(' and '.join(self.filters), safe=',():')}" if self.filters else ""
        return f"{quote(self.name)}/$count{told}"

    @property
    def whole(self) -> Asked:
        """The same without what a service may not know how to answer."""
        return Asked(self.name)


def requests_of(
    text: str,
    sets: Mapping[str, EntitySet],
    names: Sequence[str],
    values: Mapping[str, object],
    limit: int | None,
    counted: Callable[[Asked], int | None] | None = None,
) -> list[Asked]:
    """A request for each set that a query names, or for several together. `limit` is how many rows of its result are
    wanted, None for all; `counted` tells how many entities a request is about, where it is known (None: nothing is
    asked together)."""
    used = [own for name in dict.fromkeys(names) if (own := set_of(name, sets)) is not None]
    tree = select_of(text)
    query = query_over(tree, sets, values) if tree is not None else None
    if query is None or len(query.sets) != len(used):
        return [Asked(own.name) for own in used]  # one that is used twice is asked for once, and whole
    asked = {own.name: _asked(query, own, limit, len(used) == 1) for own in used}
    return list(asked.values()) if counted is None or len(used) == 1 else _joined(query, asked, counted)


def _asked(query: QueryOver, table: EntitySet, limit: int | None, is_alone: bool) -> Asked:
    """What of a set the query needs."""
    order = query.order(table) if is_alone else ()
    top = query.top(limit) if is_alone and order is not None else None
    kept = (order or ()) if top is not None else ()
    asked = Asked(table.name, query.columns(table), query.conditions(table), kept, top)
    return asked if len(asked.path) <= LONGEST else replace(asked, filters=())


# --- several sets in one request ---------------------------------------------------------------------------------


def _joined(query: QueryOver, asked: Mapping[str, Asked], counted: Callable[[Asked], int | None]) -> list[Asked]:
    """The requests for each set, with entities of some expanded from one that is narrowed, where fewer come so.
    `counted` tells how many entities a request is about."""
    plan = _Joined(query, asked, counted)
    roots = [each for each in asked.values() if each.filters and plan.named(each.name).key]
    trees = [(root, *plan.expanded(root, root)) for root in roots]
    found = max(trees, key=lambda each: len(each[2]), default=None)
    if found is None or not found[2]:
        return list(asked.values())
    root, branches, taken = found
    whole = replace(root, expand=branches)
    return [whole, *(each for name, each in asked.items() if name not in taken and name != root.name)]


class _Joined:
    def __init__(self, query: QueryOver, asked: Mapping[str, Asked], counted: Callable[[Asked], int | None]) -> None:
        self._query, self._asked, self._counted = query, asked, counted
        self._equal = self._equalities()

    def expanded(
        self, at: Asked, root: Asked, met: frozenset[str] = frozenset()
    ) -> tuple[tuple[Expand, ...], frozenset[str]]:
        """What a set's entities bring along, and which sets come so."""
        branches, met = list[Expand](), met | {at.name}
        taken = frozenset[str]()
        for way in self.named(at.name).ways:
            target = self._asked.get(way.target)
            if target is None or way.target in met | taken or not self.named(way.target).key:
                continue
            if not all((at.name, own) in self._equal.get((way.target, other), ()) for own, other in way.pairs):
                continue
            if not way.is_list and not (at is root and self._is_less(root, target)):
                continue
            inside, more = self.expanded(target, root, met | taken)
            filters = target.filters if way.is_list else ()
            branches.append(Expand(way, target.select, filters, inside))
            taken |= more | {way.target}
        return tuple(branches), taken

    def _is_less(self, root: Asked, target: Asked) -> bool:
        """Whether an entity for each one of the root's is less than all that the other set's own request is about."""
        if target.filters or (own := self._counted(root)) is None:
            return False
        other = self._counted(target)
        return other is not None and own < other

    def named(self, name: str) -> EntitySet:
        return next(own for own in self._query.sets.values() if own.name == name)

    def _equalities(self) -> dict[_Pair, set[_Pair]]:
        """By set and column those of others that it must equal for a row of its own set to be in the result."""
        found: dict[_Pair, set[_Pair]] = {}
        if any(join.side in ("RIGHT", "FULL") or join.method or join.args.get("using") for join in self._query.joins):
            return found
        for part in self._query.parts:
            self._add_equality(part, found)
        for join in self._query.joins:
            on = join.args.get("on")
            own = self._query.sets.get(join.this.alias_or_name.casefold()) if join.side == "LEFT" else None
            for part in on.flatten() if isinstance(on, exp.And) else [on] if on is not None else ():
                self._add_equality(part, found, own)
        return found

    def _add_equality(self, part: exp.Expr, found: dict[_Pair, set[_Pair]], only: EntitySet | None = None) -> None:
        if isinstance(part, exp.Paren):
            part = part.this
        if not isinstance(part, exp.EQ):
            return
        sides = [
            (own, p)
            for column in (part.this, part.expression)
            for own in self._query.sets.values()
            if (p := self._query.sure(column, own)) is not None
        ]
        if len(sides) != 2 or sides[0][0] is sides[1][0]:
            return
        for (own, mine), (other, theirs) in (sides, sides[::-1]):
            if only is None or own is only:
                found.setdefault((own.name, mine.name), set()).add((other.name, theirs.name))
