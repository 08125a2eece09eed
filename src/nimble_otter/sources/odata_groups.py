"""Groups that an OData service makes itself (OASIS OData Extension for Data Aggregation 4.0), in place of the rows.

A query that groups one set, by columns alone, is asked for as `$apply`: its conditions, the groups and their figures.
What the service answers becomes a table, and the query runs over that instead: its figures are columns of it, so that
orders, further conditions and expressions are what they always are. Nothing is asked so that could come out otherwise:
conditions go along only where the service takes exactly the rows that the query does; groups by texts, and conditions
on them, count only once the service was seen to tell `Mill` from `mill`.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace

from nimble_otter.query.lazy import exp
from nimble_otter.sources import odata
from nimble_otter.sources.odata import DECLARED, EntitySet, Property
from nimble_otter.sources.odata_query import NUMBERS, WHOLE_NUMBERS, QueryOver, query_over, select_of
from nimble_otter.sources.odata_requests import LONGEST, Asked
from nimble_otter.sources.sqlite_file import quote_name
from nimble_otter.values import Value

TABLE = "otter groups"
"""Of the groups, which a query is run over."""
_SEEN = 20
"""Entities that are looked at to tell how texts are compared."""
_KEYS = (*WHOLE_NUMBERS, "Edm.String", "Edm.Boolean", "Edm.Date", "Edm.Guid", "Edm.TimeOfDay")
_ORDERED = (*NUMBERS, "Edm.Date")
_METHODS = {"Sum": "sum", "Min": "min", "Max": "max", "Avg": "average"}


@dataclass(frozen=True, slots=True)
class Figure:
    """A figure of each group: `told` is how it is asked for, `edm` the type of what comes, "" a double or whatever is
    exact."""

    name: str
    told: str
    edm: str = ""


@dataclass(frozen=True, slots=True)
class Groups:
    """What is asked of a service and how a query is run over its answer. `texts`: pairs of a text column and a value
    that it is compared with, "" for columns that are grouped by."""

    table: EntitySet
    keys: tuple[Property, ...]
    figures: tuple[Figure, ...]
    filters: tuple[str, ...]
    texts: tuple[tuple[str, str], ...]
    query: Value

    @property
    def asked(self) -> Asked:
        """The request."""
        told = f"aggregate({','.join(f'{each.told} as {each.name}' for each in self.figures)})"
        if self.keys:
            told = f"groupby(({','.join(p.name for p in self.keys)}),{told})"
        kept = f"filter({' and '.join(self.filters)})/" if self.filters else ""
        return Asked(self.table.name, apply=f"{kept}{told}")

    @property
    def counted(self) -> str:
        """The figure that tells how many entities a group has."""
        return next(each.name for each in self.figures if each.told == "$count")

    def statements(self) -> Iterator[str]:
        """What makes the table of the groups."""
        columns = [f"{quote_name(p.name)} {DECLARED[p.edm]}" for p in self.keys]
        columns += [quote_name(each.name) for each in self.figures]  # of the type that the values have, as figures are
        yield f"create table {quote_name(TABLE)} ({', '.join(columns)})"

    def row(self, given: Mapping[str, Value]) -> list[Value]:
        """A group as a row of that table. Raises: KeyError, ValueError, TypeError, where it is none: the service does
        not know `$apply`, or knows another."""
        names = {p.name for p in self.keys} | {each.name for each in self.figures}
        if {name for name in given if "@" not in name} != names:
            raise KeyError(sorted(names))
        row = [odata.stored(given[p.name], p.edm) for p in self.keys]
        return [*row, *(_figure_value(given[each.name], each) for each in self.figures)]

    def text(self, labels: Sequence[str]) -> str:
        """The query over that table; `labels` are the names that its columns have without an alias."""
        tree = self.query.copy()
        if not any(each.is_star for each in tree.expressions):
            for each, label in zip(list(tree.expressions), labels, strict=True):
                if not isinstance(each, exp.Alias):
                    each.replace(exp.alias_(each.copy(), label, quoted=True))
        return str(tree.sql(dialect="sqlite"))


def _figure_value(value: Value, figure: Figure) -> Value:
    if value is None:
        return None
    if figure.told == "$count":
        return int(value)
    if " with average" in figure.told:
        return float(value)
    if figure.edm in ("Edm.Double", "Edm.Single"):
        return float(value)
    if figure.edm in NUMBERS:
        return odata.exact_number(value)
    return odata.stored(value, figure.edm)


def _of_rows() -> tuple[Value, ...]:
    return (exp.Connector, exp.Cast, exp.Case, exp.If, exp.Coalesce, exp.Abs, exp.Round, exp.Upper, exp.Lower, exp.Trim,
            exp.Length, exp.Nullif)  # fmt: skip


def groups_of(text: str, sets: Mapping[str, EntitySet], values: Mapping[str, object]) -> Groups | None:
    """How the service makes the groups of a query, or of what the query goes on with; None where it could not, or not
    surely the same ones."""
    tree = select_of(text)
    frames = _frames(tree) if tree is not None else []
    for frame in frames:
        query = query_over(frame, sets, values)
        if query is None or len(query.sets) != 1 or (plan := _Planned(query).groups()) is None:
            continue
        if len(plan.asked.path) > LONGEST:
            return None
        if frame is tree:
            return plan
        around = [each for each in frames[0].expressions if not each.is_star]
        if not all(map(_is_named, (*query.tree.expressions, *around))):
            return None
        frame.replace(plan.query)
        return replace(plan, query=tree)
    return None


def _frames(tree: exp.Select) -> list[exp.Select]:
    """A query and those that its rows come from, one inside the other; none, where others stand in it."""
    frames = [tree]
    while (source := frames[-1].args.get("from_")) is not None and isinstance(source.this, exp.Subquery):
        if not isinstance(source.this.this, exp.Select):
            return []
        frames.append(source.this.this)
    is_all = len(list(tree.find_all(exp.Select, exp.SetOperation))) == len(frames)
    return frames if is_all and len(list(tree.find_all(exp.Table))) == 1 else []


def _is_named(shown: exp.Expr) -> bool:
    return isinstance(shown, (exp.Alias, exp.Column)) and not shown.is_star


class _Planned:
    """One query over one set."""

    def __init__(self, query: QueryOver) -> None:
        self._query = query
        self._tree: Value = query.tree.copy()
        (self._table,) = query.sets.values()
        self._keys: dict[str, Property] = {}
        self._figures: dict[str, Figure] = {}
        self._taken = {p.name.casefold() for p in self._table.properties}
        self._taken |= {each.alias.casefold() for each in self._tree.expressions if isinstance(each, exp.Alias)}

    def groups(self) -> Groups | None:
        tree, filters = self._tree, self._filters()
        has_figures = next(tree.find_all(exp.AggFunc), None) is not None
        grouped, is_distinct = tree.args.get("group"), tree.args.get("distinct") is not None
        if filters is None or not (has_figures or grouped or is_distinct) or next(tree.find_all(exp.Window), None):
            return None
        if (grouped is None and is_distinct and has_figures) or not self._is_plain():
            return None
        wanted = self._grouped_by(grouped) if grouped is not None else []
        if wanted is None:
            return None
        if grouped is None and is_distinct:
            wanted = [c for each in tree.expressions for c in each.find_all(exp.Column)]
        for column in wanted:
            property_ = self._query.property(column, self._table)
            if property_ is None or property_.edm not in _KEYS:
                return None
            self._keys[property_.name] = property_
        if not self._replace_figures() or not self._is_of_keys():
            return None
        self._add("$count")
        tree.set("where", None)
        tree.set("group", None)
        tree.set("from_", exp.From(this=exp.to_identifier(TABLE, quoted=True)))
        having = tree.args.get("having")
        if having is not None:
            tree.set("having", None)
            tree.set("where", exp.Where(this=having.this))
        return Groups(
            self._table, tuple(self._keys.values()), tuple(self._figures.values()), filters,
            tuple(self._texts()), tree,
        )  # fmt: skip

    def _is_plain(self) -> bool:
        """Whether each function is one of a figure, or of a row: what is not known may be either."""
        return all(isinstance(each, (exp.AggFunc, *_of_rows())) for each in self._tree.find_all(exp.Func))

    def _filters(self) -> tuple[str, ...] | None:
        told = [self._query.filter(part, self._table, exactly=True) for part in self._query.parts]
        return tuple(told) if all(told) else None

    def _grouped_by(self, grouped: Value) -> list[Value] | None:
        """The columns; None, where it is grouped by something else."""
        if any(value for name, value in grouped.args.items() if name != "expressions"):
            return None
        given = self._tree.expressions
        wanted = []
        for each in grouped.expressions:
            by = each.this if isinstance(each, exp.Paren) else each
            if isinstance(by, exp.Literal) and by.is_int and 0 < int(by.name) <= len(given):
                by = given[int(by.name) - 1]
                by = by.this if isinstance(by, exp.Alias) else by
            elif isinstance(by, exp.Column) and any(by.name.casefold() == a.casefold() for a in self._aliases()):
                return None  # a column or what has its name
            if not isinstance(by, exp.Column):
                return None
            wanted.append(by)
        return wanted

    def _aliases(self) -> set[str]:
        """The names that are given to something else than the column of that name."""
        return {
            each.alias
            for each in self._tree.expressions
            if isinstance(each, exp.Alias)
            and not (isinstance(each.this, exp.Column) and each.this.name.casefold() == each.alias.casefold())
        }

    def _replace_figures(self) -> bool:
        """Put a column in the place of each figure; whether all of them could be asked for."""
        for node in list(self._tree.find_all(exp.AggFunc)):
            if isinstance(node.parent, (exp.Filter, exp.WithinGroup, exp.IgnoreNulls)) or node.find(exp.Order):
                return False
            told = self._told(node)
            if told is None:
                return False
            node.replace(exp.column(exp.to_identifier(self._add(*told), quoted=True)))
        return True

    def _add(self, told: str, edm: str = "Edm.Int64") -> str:
        known = next((each for each in self._figures.values() if each.told == told), None)
        if known is not None:
            return known.name
        name = next(n for i in range(1, 10_000) if (n := f"g{i}") not in self._taken)
        self._taken.add(name)
        self._figures[name] = Figure(name, told, edm)
        return name

    def _told(self, node: exp.Expr) -> tuple[str, str] | None:
        """How a figure is asked for, and the type of what comes."""
        kind, over = type(node).__name__, node.this
        if kind == "Count" and isinstance(over, exp.Star):
            return "$count", "Edm.Int64"
        if node.args.get("expressions") or not isinstance(over, exp.Column):
            return None
        property_ = self._query.property(over, self._table)
        if property_ is None:
            return None
        if kind == "Count" and property_.is_filled:
            return "$count", "Edm.Int64"
        is_fit = property_.edm in NUMBERS or (kind in ("Min", "Max") and property_.edm in _ORDERED)
        if kind not in _METHODS or not is_fit:
            return None
        edm = "Edm.Double" if kind == "Avg" else property_.edm
        return f"{property_.name} with {_METHODS[kind]}", edm

    def _is_of_keys(self) -> bool:
        """Whether nothing else of the set is used; the names of its columns are then those of the groups."""
        figures, aliases = set(self._figures), {a.casefold() for a in self._tree.named_selects}
        tree = self._tree
        if any(each.is_star for each in tree.expressions):
            return False
        for name in ("expressions", "having", "order"):
            given = tree.args.get(name)
            for part in given if isinstance(given, list) else [given] if given is not None else ():
                for column in part.find_all(exp.Column):
                    if column.name in figures and not column.table:
                        continue
                    property_ = self._query.property(column, self._table)
                    if property_ is None:
                        if column.table or name == "expressions" or column.name.casefold() not in aliases:
                            return False
                    elif property_.name not in self._keys:
                        return False
                    column.set("table", None)
        return True

    def _texts(self) -> Iterator[tuple[str, str]]:
        for property_ in self._keys.values():
            if property_.edm == "Edm.String":
                yield property_.name, ""
        for part in self._query.parts:
            for each in part.find_all(exp.EQ, exp.In):
                sides = [each.this, *each.expressions] if isinstance(each, exp.In) else [each.this, each.expression]
                found = [p for side in sides if (p := self._query.property(side, self._table)) is not None]
                if found and found[0].edm == "Edm.String":
                    yield from ((found[0].name, self._query.value(side)) for side in sides
                                if not isinstance(side, exp.Column))  # fmt: skip


# --- texts that a service takes for the same ---------------------------------------------------------------------


def probes(texts: Iterable[tuple[str, str]], keys: Mapping[str, Sequence[str]]) -> Iterator[tuple[str, str, list[str]]]:
    """For each text column, what it was compared with, the text itself or one of its values, and then others that only
    a service takes for the same that ignores case, accents or a blank at the end."""
    for column, compared in texts:
        known = [compared] if compared else keys.get(column, ())
        base = max(known, key=lambda text: sum(map(str.isalpha, text)), default="")
        others = [each for each in (base + " ", _accented(base), _scrambled(base)) if each.strip() and each != base]
        if others:
            yield column, compared, [base, *others]


def requests_for_texts(table: EntitySet, column: str, texts: Sequence[str]) -> Iterator[tuple[Asked, Sequence[str]]]:
    """The first of them asked for alone, and all others: a service that takes them for the same answers both with the
    same entities, which can't have the right text both times."""
    for wanted in (texts[:1], texts[1:]):
        told = " or ".join(f"{column} eq {odata.text_literal(each)}" for each in wanted)
        yield Asked(table.name, (column,), (f"({told})" if len(wanted) > 1 else told,), top=_SEEN), wanted


def _scrambled(text: str) -> str:
    swapped = text.swapcase()
    return swapped if swapped.casefold() == text.casefold() else text


def _accented(text: str) -> str:
    for plain, other in zip("aeiouAEIOU", "áéíóúÁÉÍÓÚ", strict=True):
        for old, new in ((plain, other), (other, plain)):
            if old in text:
                return text.replace(old, new, 1)
    return ""
