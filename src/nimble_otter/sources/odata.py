"""OData services (OASIS OData 4.01): what a service has, and what of a SELECT it can be asked for.

The rows of a query's entity sets are fetched and the query is run over them here, so that every SELECT works. What goes
with the request (`$select`, `$filter`, `$orderby`, `$top`) only makes the answer smaller: the service may never leave
out a row that the query would keep. So comparisons go along where both sides mean the same by them, and the query's
own conditions are applied again.
"""

from __future__ import annotations

import base64
import json
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal
from urllib.parse import quote

from nimble_otter.errors import ConnectError
from nimble_otter.query.lazy import exp, sqlglot
from nimble_otter.sources.sqlite_file import quote_name
from nimble_otter.translation import tr
from nimble_otter.values import Value

_EDMX = "{http://docs.oasis-open.org/odata/ns/edmx}"
_EDM = "{http://docs.oasis-open.org/odata/ns/edm}"
DECLARED = {
    "Edm.Int16": "integer", "Edm.Int32": "integer", "Edm.Int64": "integer", "Edm.Byte": "integer",
    "Edm.SByte": "integer",
    "Edm.Double": "real", "Edm.Single": "real", "Edm.Boolean": "boolean", "Edm.Date": "date", "Edm.Guid": "uuid",
    "Edm.TimeOfDay": "time", "Edm.Binary": "blob", "Edm.String": "text", "Edm.Duration": "text",
    "Edm.DateTimeOffset": "timestamp with time zone", "Edm.Decimal": "",
}  # fmt: skip
_NUMBERS = ("Edm.Int16", "Edm.Int32", "Edm.Int64", "Edm.Byte", "Edm.SByte", "Edm.Double", "Edm.Single", "Edm.Decimal")
_SIGNS = {"EQ": "eq", "NEQ": "ne", "GT": "gt", "GTE": "ge", "LT": "lt", "LTE": "le"}
_GUID = re.compile(r"[0-9a-fA-F]{8}(-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}")
_TURNED = {"gt": "lt", "ge": "le", "lt": "gt", "le": "ge"}


@dataclass(frozen=True, slots=True)
class Property:
    """`edm` is its type: one of the standard's own, or that of a structure or a collection; `is_computed`: the service
    gives its value."""

    name: str
    edm: str
    is_computed: bool = False


@dataclass(frozen=True, slots=True)
class Link:
    """`columns` refer to `referred` ones of another set."""

    columns: tuple[str, ...]
    target: str
    referred: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class EntitySet:
    """A table of the service."""

    name: str
    properties: tuple[Property, ...]
    key: tuple[str, ...] = ()
    links: tuple[Link, ...] = ()

    def property(self, name: str) -> Property | None:
        """One of its properties, whatever the case of its letters."""
        return next((p for p in self.properties if p.name.casefold() == name.casefold()), None)


@dataclass(frozen=True, slots=True)
class Asked:
    """A request for rows of a set. Empty: all columns, all rows."""

    name: str
    select: tuple[str, ...] = ()
    filters: tuple[str, ...] = ()
    order: tuple[str, ...] = ()
    top: int | None = None

    @property
    def path(self) -> str:
        """Behind the address of the service."""
        options = {
            "$select": ",".join(self.select), "$filter": " and ".join(self.filters), "$orderby": ",".join(self.order),
            "$top": "" if self.top is None else str(self.top),
        }  # fmt: skip
        told = "&".join(f"{name}={quote(text, safe=',():')}" for name, text in options.items() if text)
        return f"{quote(self.name)}{'?' if told else ''}{told}"

    @property
    def whole(self) -> Asked:
        """The same without what a service may not know how to answer."""
        return Asked(self.name)


def read_metadata(data: bytes) -> dict[str, EntitySet]:
    """The entity sets of a service by their names. Raises: ConnectError, where it is not the description of one."""
    from lxml import etree

    try:
        root = etree.fromstring(data, etree.XMLParser(resolve_entities=False, no_network=True))
    except etree.XMLSyntaxError as problem:
        raise ConnectError(
            tr("The service does not describe itself ($metadata is not XML)."), tr("Check the address.")
        ) from problem
    if root.tag != f"{_EDMX}Edmx":
        raise ConnectError(tr("The service is not one of OData 4."), tr("Its $metadata is of another form."))
    types = {}
    for schema in root.iter(f"{_EDM}Schema"):
        for kind in schema.iterfind(f"{_EDM}EntityType"):
            for space in (schema.get("Namespace"), schema.get("Alias")):
                types[f"{space}.{kind.get('Name')}"] = kind
    sets = {
        str(each.get("Name")): (lineage(types, str(each.get("EntityType"))), each)
        for each in root.iter(f"{_EDM}EntitySet")
    }
    return {name: _entity_set(name, kinds, element) for name, (kinds, element) in sets.items() if kinds}


def lineage(types: Mapping[str, Value], name: str) -> list[Value]:
    """A type and those it is derived from, the first one first."""
    found: list[Value] = []
    while name in types and types[name] not in found:
        found.insert(0, types[name])
        name = str(types[name].get("BaseType"))
    return found


def _says_computed(annotation: Value) -> bool:
    """By the vocabulary `Core`, under its own name or one that the service gave it."""
    is_it = str(annotation.get("Term", "")).endswith(("Core.V1.Computed", "Core.Computed"))
    return is_it and str(annotation.get("Bool", "true")) == "true"


def _entity_set(name: str, kinds: Sequence[Value], element: Value) -> EntitySet:
    targets = {
        each.get("Path", "").rpartition("/")[2]: each.get("Target", "").rpartition("/")[2]
        for each in element.iterfind(f"{_EDM}NavigationPropertyBinding")
    }
    properties, key, links = [], list[str](), []
    for kind in kinds:
        properties += [
            Property(p.get("Name"), p.get("Type"), any(map(_says_computed, p.iterfind(f"{_EDM}Annotation"))))
            for p in kind.iterfind(f"{_EDM}Property")
        ]
        key = key or [ref.get("Name") for ref in kind.iterfind(f"{_EDM}Key/{_EDM}PropertyRef")]
        for way in kind.iterfind(f"{_EDM}NavigationProperty"):
            pairs = [
                (each.get("Property"), each.get("ReferencedProperty"))
                for each in way.iterfind(f"{_EDM}ReferentialConstraint")
            ]
            if pairs and way.get("Name") in targets:
                columns, referred = zip(*pairs, strict=True)
                links.append(Link(columns, targets[way.get("Name")], referred))
    known = {p.name for p in properties}
    return EntitySet(
        name, tuple(properties), tuple(key) if known.issuperset(key) else (),
        tuple(link for link in links if known.issuperset(link.columns)),
    )  # fmt: skip


def create_statement(table: EntitySet, sets: Mapping[str, EntitySet], is_copied: bool = False) -> str:
    """The table of SQLite's that takes the rows of a set. Where they are `copied` to be changed a key is never given by
    SQLite, and nothing is known of the rows of other sets."""
    lines = [_column(p, is_copied, p.name in table.key) for p in table.properties] or ["value"]
    if table.key:
        lines.append(f"primary key ({', '.join(map(quote_name, table.key))})")
    for link in table.links:
        if link.target in sets and not is_copied:
            own, others = (", ".join(map(quote_name, names)) for names in (link.columns, link.referred))
            lines.append(f"foreign key ({own}) references {quote_name(link.target)} ({others})")
    return f"create table {quote_name(table.name)} ({', '.join(lines)})"


def _column(own: Property, is_copied: bool, is_key: bool) -> str:
    kind = DECLARED.get(own.edm, "json")
    kind = "bigint" if is_copied and kind == "integer" else kind  # never the number that SQLite gives a row itself
    return f"{quote_name(own.name)} {kind}".rstrip() + " not null" * (is_copied and is_key)


def row_of(table: EntitySet, given: Mapping[str, Value]) -> list[Value]:
    """An entity as a row of that table."""
    return [_stored(given.get(p.name), p.edm) for p in table.properties]


def _stored(value: Value, edm: str) -> Value:
    if value is None or isinstance(value, bool) or (isinstance(value, float) and edm != "Edm.Decimal"):
        return value
    if isinstance(value, (dict, list)) or edm not in DECLARED:
        return json.dumps(value, ensure_ascii=False)
    if edm == "Edm.Binary" and isinstance(value, str):
        return base64.urlsafe_b64decode(value + "=" * (-len(value) % 4))
    if edm == "Edm.Int64" and isinstance(value, str):
        return int(value)
    if edm == "Edm.DateTimeOffset" and isinstance(value, str):
        return value.replace("T", " ").replace("Z", "+00:00")
    if edm == "Edm.Decimal":
        return exact_number(value)
    if isinstance(value, int) and not -(1 << 63) <= value < 1 << 63:
        return str(value)
    return value.encode("utf-8", "replace").decode() if isinstance(value, str) else value


def exact_number(value: Value) -> Value:
    """A decimal, in the same form whatever it came in: as a whole number or a double where that is exact, else as it
    is written."""
    try:
        number = Decimal(str(value))
        if number == number.to_integral_value():
            return int(number) if abs(number) < 1 << 63 else format(number, "f")
        return float(number) if Decimal(repr(float(number))) == number else str(value)
    except (ArithmeticError, ValueError):
        return value


# --- what of a query goes along --------------------------------------------------------------------------------------


def requests_of(
    text: str, sets: Mapping[str, EntitySet], names: Sequence[str], values: Mapping[str, object], limit: int | None
) -> list[Asked]:
    """A request for each set that a query names. `limit` is how many rows of its result are wanted, None for all."""
    used = [own for name in dict.fromkeys(names) if (own := set_of(name, sets)) is not None]
    try:
        tree = sqlglot.parse_one(text, dialect="sqlite")
    except sqlglot.errors.SqlglotError:
        return [Asked(own.name) for own in used]
    if not isinstance(tree, exp.Select) or len(list(tree.find_all(exp.Select))) > 1:
        return [Asked(own.name) for own in used]
    places = list(tree.find_all(exp.Table))
    by_alias = {place.alias_or_name.casefold(): own for place in places if (own := set_of(place.name, sets))}
    if len(places) != len(by_alias) or len(by_alias) != len(used):
        return [Asked(own.name) for own in used]  # one that is used twice is asked for once, and whole
    query = _Query(tree, by_alias, values)
    return [query.asked(own, limit, len(used) == 1) for own in used]


def text_literal(text: str) -> str:
    """A text as the service and SQLite write it."""
    return "'" + text.replace("'", "''") + "'"


def set_of(name: str, sets: Mapping[str, EntitySet]) -> EntitySet | None:
    """The set that a name in a text is about; None where there is none."""
    bare = name.rpartition(".")[2].strip('"`[]').casefold()
    return next((own for known, own in sets.items() if known.casefold() == bare), None)


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
        query = _Query(around, {place.alias_or_name.casefold(): own}, values)
        yield own.name, frozenset(query.conditions(own)) if len(beside) == 1 else frozenset()


class _Query:
    """One SELECT, UPDATE or DELETE without a SELECT inside, over sets that are each named once."""

    def __init__(self, tree: exp.Expr, sets: Mapping[str, EntitySet], values: Mapping[str, object]) -> None:
        self._tree, self._sets, self._values = tree, sets, values
        where = tree.args.get("where")
        self._parts = list(where.this.flatten() if isinstance(where.this, exp.And) else [where.this]) if where else []

    def asked(self, table: EntitySet, limit: int | None, is_alone: bool) -> Asked:
        filters = self.conditions(table)
        order = self._order(table) if is_alone else ()
        top = self._top(limit) if is_alone and order is not None else None
        return Asked(table.name, self._columns(table), filters, (order or ()) if top is not None else (), top)

    def conditions(self, table: EntitySet) -> tuple[str, ...]:
        """What holds for each of its entities that the query is about, as the service takes it."""
        return tuple(text for part in self._parts if (text := self._filter(part, table)))

    def _columns(self, table: EntitySet) -> tuple[str, ...]:
        """Those that are used; none: all of them."""
        tree = self._tree
        by_name = any(join.args.get("using") or join.args.get("method") for join in tree.args.get("joins") or ())
        stars = [star for star in tree.find_all(exp.Star) if not isinstance(star.parent, exp.Count)]
        if by_name or stars:
            return ()
        used = {p.name for column in tree.find_all(exp.Column) if (p := self._property(column, table)) is not None}
        whole = used | set(table.key) | {name for link in table.links for name in link.columns}
        return tuple(p.name for p in table.properties if p.name in whole)

    def _property(self, column: Value, table: EntitySet) -> Property | None:
        """What a column is in a set; None where it is, or may be, one of another."""
        if not isinstance(column, exp.Column):
            return None
        if column.table:
            return table.property(column.name) if self._sets.get(column.table.casefold()) is table else None
        return table.property(column.name)

    def _filter(self, part: exp.Expr, table: EntitySet) -> str:
        """A condition as the service takes it; "" where it may mean something else there."""
        if isinstance(part, exp.Paren):
            return self._filter(part.this, table)
        if isinstance(part, (exp.Or, exp.And)):
            sides = [self._filter(each, table) for each in part.flatten()]
            kept = [side for side in sides if side]
            is_sure = bool(kept) if isinstance(part, exp.And) else all(sides)
            return f"({f' {type(part).__name__.lower()} '.join(kept)})" if is_sure else ""
        if isinstance(part, exp.In) and not part.args.get("query"):
            property_ = self._sure(part.this, table)
            literals = [self._literal(each, property_) for each in part.expressions] if property_ is not None else []
            is_whole = property_ is not None and literals and all(literals)
            return f"({' or '.join(f'{property_.name} eq {x}' for x in literals)})" if is_whole and property_ else ""
        sign = _SIGNS.get(type(part).__name__.upper(), "")
        if not sign:
            return ""
        for held, other, word in (
            (part.this, part.expression, sign),
            (part.expression, part.this, _TURNED.get(sign, sign)),
        ):
            property_ = self._sure(held, table)
            literal = self._literal(other, property_) if property_ is not None else ""
            is_ordered = property_ is not None and (property_.edm in _NUMBERS or property_.edm == "Edm.Date")
            if property_ is not None and literal and (is_ordered or word == "eq"):
                return f"{property_.name} {word} {literal}"
        return ""

    def _sure(self, column: Value, table: EntitySet) -> Property | None:
        """What a column is, where no other set has one of its name."""
        found = self._property(column, table)
        if found is None or column.table or len(self._sets) == 1:
            return found
        return found if sum(own.property(column.name) is not None for own in self._sets.values()) == 1 else None

    def _literal(self, node: Value, property_: Property) -> str:
        value: Value
        if isinstance(node, exp.Placeholder) and node.name in self._values:
            value = self._values[node.name]
        elif isinstance(node, exp.Neg) and isinstance(node.this, exp.Literal) and not node.this.is_string:
            value = -Decimal(node.this.name)
        elif isinstance(node, exp.Literal):
            value = node.name if node.is_string else Decimal(node.name)
        else:
            return ""
        if property_.edm in _NUMBERS and isinstance(value, (int, float, Decimal)) and not isinstance(value, bool):
            whole = property_.edm not in ("Edm.Double", "Edm.Single", "Edm.Decimal")
            if whole:
                return "" if value != int(value) else str(int(value))
            return format(Decimal(str(value)), "f")
        if property_.edm == "Edm.String" and isinstance(value, str) and value.isprintable():
            return text_literal(value)
        if property_.edm == "Edm.Guid" and isinstance(value, str) and _GUID.fullmatch(value):
            return value
        is_day = property_.edm == "Edm.Date" and isinstance(value, str) and len(value) == 10
        return value if is_day and value.replace("-", "").isdigit() else ""

    def _order(self, table: EntitySet) -> tuple[str, ...] | None:
        """How the service should order; None where it may order otherwise."""
        order = self._tree.args.get("order")
        terms: list[str] = []
        for each in order.expressions if order is not None else ():
            property_ = self._property(each.this, table)
            is_turned = bool(each.args.get("nulls_first")) == bool(each.args.get("desc"))
            if property_ is None or property_.edm not in (*_NUMBERS, "Edm.Date") or is_turned:
                return None
            terms.append(f"{property_.name} desc" if each.args.get("desc") else property_.name)
        return tuple(terms)

    def _top(self, limit: int | None) -> int | None:
        """How many rows of the set are enough; None where that can't be told."""
        tree = self._tree
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


def entities(data: bytes, url: str) -> tuple[list[Mapping[str, Value]], str]:
    """The entities of an answer, and the address of the next part. Raises: ConnectError."""
    from nimble_otter.sources.web_rows import parse_json

    try:
        whole = parse_json(data.decode("utf-8-sig"))
    except (ValueError, RecursionError) as problem:
        raise ConnectError(
            tr("The answer is not JSON."), tr("It came from {start}.", start=url.partition("?")[0])
        ) from problem
    rows = whole.get("value") if isinstance(whole, Mapping) else None
    if not isinstance(rows, list) or not all(isinstance(row, Mapping) for row in rows):
        raise ConnectError(
            tr("The answer is not a list of entities."),
            tr("It came from {start}.", start=url.partition("?")[0]),
        )
    following = whole.get("@odata.nextLink") or whole.get("@nextLink") or ""
    return rows, following if isinstance(following, str) else ""


def etag_of(entity: Mapping[str, Value]) -> str:
    """By what a change of an entity tells that nobody else changed it meanwhile; "" where the service gives none."""
    found = entity.get("@odata.etag") or entity.get("@etag") or ""
    return found if isinstance(found, str) else ""


def statements(sets: Mapping[str, EntitySet], is_copied: bool = False) -> Iterator[str]:
    """What makes the tables of all sets."""
    for own in sets.values():
        yield create_statement(own, sets, is_copied)
