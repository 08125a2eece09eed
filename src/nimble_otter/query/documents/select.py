"""One SELECT over collections as stages: FROM with its joins and lists, WHERE, groups, columns, order, limit."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from nimble_otter.errors import QueryError
from nimble_otter.query.documents.expressions import Expressions, every, known
from nimble_otter.query.documents.figures import Figures
from nimble_otter.query.documents.filters import Filters, merged
from nimble_otter.query.documents.names import NotPlain, Reading, Source, Types
from nimble_otter.query.documents.request import Built, DocumentRequest, Stages, distinct, paged
from nimble_otter.query.lazy import exp
from nimble_otter.query.parsed import name_parts
from nimble_otter.translation import tr
from nimble_otter.values import Value

SourceOf = Callable[[Any, Mapping[str, Any]], Built]
"""Gives what a part of FROM gives, with the common table expressions in scope."""


@dataclass(slots=True)
class _Column:
    """A column of the result: its label, the field it gets, its expression in SQL."""

    label: str
    field: str
    node: exp.Expr
    made: Any = None


class SelectStages:
    """One SELECT on its way to stages."""

    def __init__(
        self, base: Reading, source_of: SourceOf, node: exp.Expr, ctes: Mapping[str, Value], fields: Sequence[str]
    ) -> None:
        self.source_of, self.node, self.ctes, self.fields = source_of, node, ctes, fields
        self.reading = base.within(())
        self.stages: Stages = []

    def refuse(self, what: str, node: exp.Expr | None = None, hint: str = "") -> QueryError:
        """An error that says what can't be asked of documents."""
        return self.reading.refuse(what, node, hint)

    def build(self, is_top: bool) -> Built:
        """All stages, in their order. Raises: QueryError with the place."""
        node = self.node
        source = node.args.get("from_") or node.args.get("from")
        if source is None:
            raise self.refuse(tr("FROM must name a collection."))
        first, joins = source.this, node.args.get("joins") or []
        if isinstance(first, exp.Unnest):
            raise self.refuse(
                tr("unnest needs the collection whose lists it opens."),
                None,
                tr("Write from report r, unnest(r.list) x."),
            )
        base = self.source_of(first, self.ctes)
        alias = first.alias_or_name or "q"
        self.reading.sources = (Source(alias, "", base.types),)
        self.stages = list(base.stages)
        document_request = self._find(base) if is_top and not joins and not base.stages else None
        if document_request is not None:
            return Built(base.collection, [], document_request.columns, base.types, document_request)
        later = self._joined(alias, base, joins)
        self._match(later)
        figures = self._grouped()
        columns = self._columns()
        if figures is None and node.args.get("having"):
            raise self.refuse(tr("HAVING needs groups."), None, tr("Write WHERE for conditions on documents."))
        if node.args.get("having"):
            self._match([node.args["having"].this])
        if columns is None:
            self._whole()
            return Built(base.collection, self.stages, (), self._types_of_whole(base))
        self._shown(columns)
        return Built(
            base.collection, self.stages, tuple((c.label, c.field) for c in columns), self._types_after(columns)
        )

    # --- a find ------------------------------------------------------------------------------------------------

    def _find(self, base: Built) -> DocumentRequest | None:
        """The request as a find, where it asks for nothing else than that can do."""
        node = self.node
        others = ("group", "distinct", "having", "windows", "qualify", "laterals")
        if any(node.args.get(name) for name in others):
            return None
        items = node.expressions
        is_whole = len(items) == 1 and isinstance(items[0], exp.Star)
        order = node.args.get("order")
        try:
            if not is_whole and not all(self.reading.is_field(i.unalias()) and i.unalias().name != "*" for i in items):
                return None
            columns = [] if is_whole else [(self._label(i), self.reading.find(i.unalias()).path) for i in items]
            names = dict(columns)
            where = node.args.get("where")
            matched = Filters(self.reading).condition(where.this) if where else {}
            sort = []
            for key in order.expressions if order else ():
                if _is_turned(key) or not self.reading.is_field(key.this):
                    return None
                path = names.get(key.this.sql()) or self.reading.find(key.this).path
                sort.append((path, -1 if key.args.get("desc") else 1))
        except NotPlain:
            return None
        if any(path == "$ROOT" for _, path in columns):
            return None
        projection = _projection([path for _, path in columns])
        pages = paged(self.reading, node)
        limit = next((stage["$limit"] for stage in pages if "$limit" in stage), None)
        if "$skip" in (pages[0] if pages else {}) or any("$match" in stage for stage in pages):
            stages: Stages = [{"$match": matched}] if matched else []
            stages += [{"$sort": dict(sort)}] if sort else []
            stages += [*pages, *([{"$project": projection}] if projection else [])]
            return DocumentRequest(base.collection, {}, None, (), limit, tuple(stages), tuple(columns))
        return DocumentRequest(base.collection, matched, projection, tuple(sort), limit, None, tuple(columns))

    def _label(self, item: exp.Expr) -> str:
        if item.alias:
            return str(item.alias)
        parts = name_parts(item)
        if not parts:
            return str(item.sql()).lower()
        is_alias = len(parts) > 1 and any(
            s.alias == parts[0] and not s.has(".".join(parts)) for s in self.reading.sources
        )
        return ".".join(parts[1:] if is_alias else parts)

    # --- FROM --------------------------------------------------------------------------------------------------

    def _joined(self, alias: str, base: Built, joins: Sequence[Any]) -> list[Value]:
        """The stages of FROM; returns the conditions of WHERE that are still to be asked."""
        where = self.node.args.get("where")
        conditions = list(where.this.flatten()) if where and isinstance(where.this, exp.And) else []
        conditions = conditions or ([where.this] if where else [])
        if not joins:
            return conditions
        results = [self._source_of(join) for join in joins]
        all_sources = [Source(alias, f"{alias}.", base.types), *(source for source, _ in results)]
        for source in all_sources:
            if not _is_name(source.alias):
                raise self.refuse(
                    tr("{alias} can't be a name here.", alias=source.alias),
                    None,
                    tr("Give it an alias of letters and digits."),
                )
        self.reading.sources = tuple(all_sources)
        for join in joins:
            for name in join.args.get("using") or ():
                self.reading.merged.setdefault(name.name, alias)
        early = [c for c in conditions if c.find(exp.Column) and self.reading.aliases(c) == {alias}]
        own = self.reading.within([Source(alias, "", base.types)])
        self._match(early, own)
        self.stages.append({"$replaceRoot": {"newRoot": {alias: "$$ROOT"}}})
        for index, (join, (source, built)) in enumerate(zip(joins, results, strict=True)):
            self._join(join, all_sources[: index + 1], source, built)
        self.reading.sources = tuple(all_sources)
        return [c for c in conditions if not any(c is e for e in early)]

    def _source_of(self, join: exp.Expr) -> tuple[Source, Built | None]:
        """What is joined: its names, and its query where it is no list."""
        made = join.this
        unnest = made.this if isinstance(made, exp.Lateral) else made
        if isinstance(unnest, exp.Unnest):
            name = made.alias or unnest.alias
            if not name:
                raise self.refuse(tr("unnest needs a name."), unnest, tr("Write unnest(r.list) x."))
            alias = made.args.get("alias") or unnest.args.get("alias")
            for column in alias.columns if alias is not None else ():
                self.reading.renamed[column.name] = name
            place = unnest.args.get("offset")
            if place:
                self.reading.renamed["ordinality" if place is True else place.name] = f"{name}_at"
            return Source(name, f"{name}.", {}, True), None
        built = self.source_of(made, self.ctes)
        name = made.alias_or_name
        if not name:
            raise self.refuse(tr("A query in brackets needs a name."), None, tr("Write (select ...) q."))
        return Source(name, f"{name}.", built.types), built

    def _join(self, join: exp.Expr, earlier: Sequence[Source], source: Source, built: Built | None) -> None:
        side = str(join.args.get("side") or "").upper()
        if side in ("RIGHT", "FULL") or str(join.args.get("method") or "").upper() == "NATURAL":
            word = side or "NATURAL"
            raise self.refuse(
                tr("{word} JOIN is not supported for collections.", word=word),
                join.this,
                tr("Swap the two and use LEFT JOIN."),
            )
        if built is None:
            unnest = join.this.this if isinstance(join.this, exp.Lateral) else join.this
            self._unnest(join, unnest, earlier, source, side == "LEFT")
            return
        name = source.alias
        variable = Source(name, f"$b_{name}.", built.types)
        conditions = self._on(join, earlier, source)
        inside = self.reading.within([*earlier, variable])
        inside.merged = {}
        pair = next((p for c in conditions if (p := self._pair(c, earlier, source)) is not None), None)
        lookup: dict[str, Any] = {"from": built.collection, "as": name}
        tests = []
        if pair is not None and not built.stages:
            local, foreign, condition = pair
            if not local.endswith("._id"):
                # the server would join what is missing to what is missing
                self.stages.append({"$set": {name: {"$ifNull": [f"${local}", {"$literal": {"no": "value"}}]}}})
                local = name
            lookup |= {"localField": local, "foreignField": foreign}
            conditions = [c for c in conditions if c is not condition]
        else:
            lookup["pipeline"] = built.stages
        tests += [Expressions(inside).holds(c) for c in conditions]
        self.stages.append({"$lookup": lookup})
        if tests:
            kept = {"$filter": {"input": f"${name}", "as": f"b_{name}", "cond": every(tests)}}
            self.stages.append({"$set": {name: kept}})
        self.stages.append({"$unwind": {"path": f"${name}", "preserveNullAndEmptyArrays": side == "LEFT"}})

    def _on(self, join: exp.Expr, earlier: Sequence[Source], source: Source) -> list[Value]:
        on = join.args.get("on")
        if on is not None:
            return list(on.flatten()) if isinstance(on, exp.And) else [on]
        items = []
        for name in join.args.get("using") or ():
            owner = next((s for s in earlier if s.has(name.name)), earlier[0])
            items.append(
                exp.EQ(
                    this=exp.column(name.name, table=owner.alias), expression=exp.column(name.name, table=source.alias)
                )
            )
        return items

    def _pair(
        self, node: exp.Expr, earlier: Sequence[Source], source: Source
    ) -> tuple[str, str, exp.Expression] | None:
        """(path before, path in the joined document, condition) of an equality of two fields."""
        if not isinstance(node, exp.EQ) or not (self.reading.is_field(node.left) and self.reading.is_field(node.right)):
            return None
        both = self.reading.within([*earlier, source])
        left, right = both.find(node.left), both.find(node.right)
        if left.alias == source.alias:
            left, right = right, left
        if right.alias != source.alias or left.alias == source.alias:
            return None
        return left.path, right.path.removeprefix(source.prefix), node

    def _unnest(self, join: exp.Expr, unnest: exp.Expr, earlier: Sequence[Source], source: Source, keeps: bool) -> None:
        on = join.args.get("on")
        if on is not None and not (isinstance(on, exp.Boolean) and on.this):
            raise self.refuse(
                tr("unnest takes no join condition."), None, tr("Write ON true, and the condition in WHERE.")
            )
        if len(unnest.expressions) != 1:
            raise self.refuse(tr("unnest opens one list."), unnest)
        listed = Expressions(self.reading.within(earlier)).value(unnest.expressions[0])
        name = source.alias
        self.stages.append({"$set": {name: listed}})
        stage: dict[str, Any] = {"path": f"${name}", "preserveNullAndEmptyArrays": keeps}
        place = unnest.args.get("offset")
        if place:
            stage["includeArrayIndex"] = f"{name}_at"
        self.stages.append({"$unwind": stage})
        if place:
            self.stages.append({"$set": {f"{name}_at": {"$add": [f"${name}_at", 1]}}})

    # --- WHERE, GROUP BY ---------------------------------------------------------------------------------------

    def _match(self, conditions: Sequence[exp.Expr], reading: Reading | None = None) -> None:
        """One stage for all conditions: a filter of those that can be one, an expression of the others."""
        reading = reading or self.reading
        filters, tests = [], []
        for condition in conditions:
            for part in condition.flatten() if isinstance(condition, exp.And) else [condition]:
                try:
                    filters.append(Filters(reading).condition(part))
                except NotPlain:
                    tests.append(Expressions(reading).holds(part))
        made = merged(filters) if filters else {}
        if tests:
            made = {**made, "$expr": every(tests)}
        if made:
            self.stages.append({"$match": made})

    def _grouped(self) -> Figures | None:
        """The stages of GROUP BY; afterwards only keys and figures can be named."""
        figures = Figures(self.reading, self.node)
        if not figures.is_needed:
            return None
        self.stages += figures.stages()
        self.reading.given = figures.given
        return figures

    # --- SELECT, ORDER BY --------------------------------------------------------------------------------------

    def _columns(self) -> list[_Column] | None:
        """The columns of the result; None for the rows as they are."""
        items = self.node.expressions
        if any(_is_star(item) for item in items):
            if self.node.args.get("distinct"):
                raise self.refuse(tr("DISTINCT needs a list of fields."), None, tr("List them after it."))
            if self.reading.given is not None:
                raise self.refuse(tr("* can't stand beside groups."), None, tr("Write the columns."))
            return None
        taken: set[str] = set()
        values = []
        for number, item in enumerate(items):
            label = self._label(item)
            name = self.fields[number] if number < len(self.fields) else _field_of(label, number, taken)
            taken.add(name)
            values.append(_Column(label, name, item.unalias()))
        return values

    def _whole(self) -> None:
        """Rows as they are: all documents, one source's of them, or both with what is worked out beside."""
        items, several = self.node.expressions, len(self.reading.sources) > 1
        stars = [i for i in items if _is_star(i)]
        extra: dict[str, Any] = {}
        for item in items:
            if not _is_star(item):
                if not item.alias or not _is_name(item.alias):
                    raise self.refuse(
                        tr("Next to *, a column needs a name."), item.unalias(), tr("Write it like a + b as sum.")
                    )
                extra[item.alias] = Expressions(self.reading).value(item.unalias())
        whose = [i.table for i in stars if isinstance(i, exp.Column)]
        self._sort([], extra)
        self.stages += paged(self.reading, self.node)
        if several and len(whose) == 1 and len(stars) == 1:
            inner: Any = {"$ifNull": [f"${whose[0]}", {}]}
            if extra:
                inner = {"$mergeObjects": [inner, extra]}
            self.stages.append({"$replaceRoot": {"newRoot": inner}})
        elif extra:
            self.stages.append({"$set": extra})

    def _shown(self, columns: Sequence[_Column]) -> None:
        expressions = Expressions(self.reading)
        is_distinct = bool(self.node.args.get("distinct"))
        for column in columns:
            column.made = expressions.value(column.node)
            if isinstance(column.made, (int, float, bool)) or column.made is None or _is_constant(column.made):
                column.made = {"$literal": column.made}
            if is_distinct:
                column.made = {"$ifNull": [column.made, None]}
        projection = {"_id": 0} | {column.field: column.made for column in columns}
        if is_distinct:
            self.stages += [{"$project": projection}, *distinct()]
            self._sort_distinct(columns)
            self.stages += paged(self.reading, self.node)
            return
        self._sort(columns, {})
        self.stages += paged(self.reading, self.node)
        self.stages.append({"$project": projection})

    def _keys(self) -> list[exp.Expr]:
        order = self.node.args.get("order")
        return list(order.expressions) if order is not None else []

    def _named(self, node: exp.Expr, columns: Sequence[_Column]) -> _Column | None:
        """The column of the result that a key of the order names, by its place or its name."""
        if isinstance(node, exp.Literal) and not node.is_string and node.name.isdigit():
            if not 0 < int(node.name) <= len(columns):
                raise self.refuse(
                    tr("There is no column {node_name}.", node_name=node.name),
                    None,
                    tr("ORDER BY counts columns from 1."),
                )
            return columns[int(node.name) - 1]
        if isinstance(node, exp.Column) and len(node.parts) == 1:
            return next((c for c in columns if c.label == node.name), None)
        return None

    def _sort(self, columns: Sequence[_Column], extra: Mapping[str, object]) -> None:
        """ORDER BY, before rows are cut to their columns; keys that are no fields are worked out first."""
        sort: dict[str, int] = {}
        computed: dict[str, Any] = {}
        for number, key in enumerate(self._keys()):
            way = -1 if key.args.get("desc") else 1
            column = self._named(key.this, columns)
            label = key.this.name if isinstance(key.this, exp.Column) and len(key.this.parts) == 1 else ""
            value = column.made if column is not None else extra.get(label)
            if value is None:
                value = Expressions(self.reading).value(key.this)
            if _is_turned(key):
                computed[f"s{number}e"] = {"$cond": [known(value), 0, 1]}
                sort[f"s{number}e"] = -1 if key.args.get("nulls_first") else 1
            if isinstance(value, str) and value.startswith("$") and not value.startswith("$$"):
                sort[value[1:]] = way
            else:
                computed[f"s{number}"] = value
                sort[f"s{number}"] = way
        if computed:
            self.stages.append({"$set": computed})
        if sort:
            self.stages.append({"$sort": sort})
        if computed and not columns:
            self.stages.append({"$project": dict.fromkeys(computed, 0)})

    def _sort_distinct(self, columns: Sequence[_Column]) -> None:
        sort = {}
        for key in self._keys():
            same = [c for c in columns if c.node.sql() == key.this.sql() or c.label == key.this.name]
            column = self._named(key.this, columns) or next(iter(same), None)
            if column is None:
                raise self.refuse(
                    tr("{sql} is not in the SELECT list.", sql=key.this.sql()[:40]),
                    key.this,
                    tr("Write it there first."),
                )
            sort[column.field] = -1 if key.args.get("desc") else 1
        if sort:
            self.stages.append({"$sort": sort})

    # --- kinds of values ---------------------------------------------------------------------------------------

    def _types_of_whole(self, base: Built) -> Types:
        if len(self.reading.sources) == 1:
            return base.types
        return {f"{s.alias}.{path}": words for s in self.reading.sources for path, words in s.types.items()}

    def _types_after(self, columns: Sequence[_Column]) -> Types:
        found: dict[str, set[str]] = {}
        for column in columns:
            if self.reading.is_field(column.node):
                owner = self.reading.find(column.node)
                source = next(s for s in self.reading.sources if s.alias == owner.alias)
                path = owner.path.removeprefix(source.prefix)
                for known_path, words in source.types.items():
                    if known_path == path or known_path.startswith(f"{path}."):
                        found[column.field + known_path[len(path) :]] = words
            else:
                found[column.field] = set()
        return found


def _projection(paths: Sequence[str]) -> dict[str, object] | None:
    keep = [p for p in dict.fromkeys(paths) if not any(p.startswith(q + ".") for q in paths)]
    if not keep:
        return None
    return {**dict.fromkeys(keep, 1), **({} if "_id" in keep else {"_id": 0})}


def _is_star(item: exp.Expr) -> bool:
    return isinstance(item, exp.Star) or (isinstance(item, exp.Column) and isinstance(item.this, exp.Star))


def _is_turned(key: exp.Expr) -> bool:
    """Whether empties are wanted at the end where the server does not put them."""
    return bool(key.args.get("nulls_first")) == bool(key.args.get("desc"))


def _is_constant(value: exp.Expr) -> bool:
    return isinstance(value, str) and not value.startswith("$")


def _is_name(label: str) -> bool:
    return re.fullmatch(r"[^\W\d]\w*", label) is not None


def _field_of(label: str, number: int, taken: set[str]) -> str:
    """The field that a column gets: its name where a field can be called that."""
    name = label.rpartition(".")[2]
    return name if _is_name(name) and name not in taken else f"c{number}"
