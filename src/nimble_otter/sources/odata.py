"""OData services (OASIS OData 4.01): what a service has, and its entities as rows. What it is asked for is in
`odata_requests.py`."""

from __future__ import annotations

import base64
import json
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from decimal import Decimal

from nimble_otter.errors import ConnectError
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


@dataclass(frozen=True, slots=True)
class Property:
    """`edm` is its type: one of the standard's own, or that of a structure or a collection; `is_computed`: the service
    gives its value; `is_filled`: it is never null."""

    name: str
    edm: str
    is_computed: bool = False
    is_filled: bool = False


@dataclass(frozen=True, slots=True)
class Link:
    """`columns` refer to `referred` ones of another set."""

    columns: tuple[str, ...]
    target: str
    referred: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Way:
    """A navigation property: to the entities of `target` whose columns equal the own ones, by `pairs` of (own, other);
    to one of them, or to a list."""

    name: str
    target: str
    pairs: tuple[tuple[str, str], ...]
    is_list: bool = False


@dataclass(frozen=True, slots=True)
class EntitySet:
    """A table of the service."""

    name: str
    properties: tuple[Property, ...]
    key: tuple[str, ...] = ()
    ways: tuple[Way, ...] = ()

    @property
    def links(self) -> tuple[Link, ...]:
        """What refers to entities of another set."""
        return tuple(
            Link(tuple(own for own, _ in way.pairs), way.target, tuple(other for _, other in way.pairs))
            for way in self.ways
            if not way.is_list
        )

    def property(self, name: str) -> Property | None:
        """One of its properties, whatever the case of its letters."""
        return next((p for p in self.properties if p.name.casefold() == name.casefold()), None)


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
    described = {name: _Described(name, kinds, element) for name, (kinds, element) in sets.items() if kinds}
    return {name: each.entity_set(described) for name, each in described.items()}


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


class _Described:
    """An entity set as its service writes of it: the types of its entities, the first one first, and its element."""

    def __init__(self, name: str, kinds: Sequence[Value], element: Value) -> None:
        self.name, self._kinds = name, kinds
        self._targets = {
            each.get("Path", "").rpartition("/")[2]: each.get("Target", "").rpartition("/")[2]
            for each in element.iterfind(f"{_EDM}NavigationPropertyBinding")
        }
        self._properties = tuple(
            Property(
                p.get("Name"), p.get("Type"), any(map(_says_computed, p.iterfind(f"{_EDM}Annotation"))),
                p.get("Nullable") == "false",
            )
            for p in self._all("Property")
        )  # fmt: skip
        self.known = {p.name for p in self._properties}

    def _all(self, tag: str) -> Iterator[Value]:
        return (each for kind in self._kinds for each in kind.iterfind(f"{_EDM}{tag}"))

    def entity_set(self, described: Mapping[str, _Described]) -> EntitySet:
        """With its key and its ways to others of the service, as far as they can be told."""
        keys = ([ref.get("Name") for ref in k.iterfind(f"{_EDM}Key/{_EDM}PropertyRef")] for k in self._kinds)
        found = next((each for each in keys if each), [])
        key = tuple(found) if self.known.issuperset(found) else ()
        properties = tuple(replace(p, is_filled=p.is_filled or p.name in key) for p in self._properties)
        ways = [way for element in self._all("NavigationProperty") if (way := self._way(element, described))]
        return EntitySet(self.name, properties, key, tuple(ways))

    def _way(self, element: Value, described: Mapping[str, _Described]) -> Way | None:
        name, target = element.get("Name"), self._targets.get(element.get("Name"), "")
        if target not in described:
            return None
        is_list = str(element.get("Type")).startswith("Collection(")
        pairs = _pairs(element) if not is_list else described[target].pairs_back(self.name, name, element)
        is_known = all(own in self.known and other in described[target].known for own, other in pairs)
        return Way(name, target, pairs, is_list) if pairs and is_known else None

    def pairs_back(self, target: str, name: str, element: Value) -> tuple[tuple[str, str], ...]:
        """What a list of this set's entities, in another one, goes by: the way back from here that is its partner."""
        for way in self._all("NavigationProperty"):
            is_partner = element.get("Partner") == way.get("Name") or way.get("Partner") == name
            if is_partner and self._targets.get(way.get("Name")) == target:
                return tuple((other, own) for own, other in _pairs(way))
        return ()


def _pairs(way: Value) -> tuple[tuple[str, str], ...]:
    found = way.iterfind(f"{_EDM}ReferentialConstraint")
    return tuple((each.get("Property"), each.get("ReferencedProperty")) for each in found)


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
    return [stored(given.get(p.name), p.edm) for p in table.properties]


def stored(value: Value, edm: str) -> Value:
    """A value of an answer as it stands in a row."""
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


def text_literal(text: str) -> str:
    """A text as the service and SQLite write it."""
    return "'" + text.replace("'", "''") + "'"


def set_of(name: str, sets: Mapping[str, EntitySet]) -> EntitySet | None:
    """The set that a name in a text is about; None where there is none."""
    bare = name.rpartition(".")[2].strip('"`[]').casefold()
    return next((own for known, own in sets.items() if known.casefold() == bare), None)


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
