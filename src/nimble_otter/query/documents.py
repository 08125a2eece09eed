"""SELECT over one collection as the document server's own request: a find, or an aggregation pipeline.

A condition becomes a filter that matches exactly the documents for which it is true. SQL's unknown is kept by pushing
NOT down to the comparisons and by asking for a value in each of them; a missing field counts as NULL.
"""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from typing import Any

from nimble_otter.errors import QueryError
from nimble_otter.query.conditions import is_negated, like_regex, literal_of, name_parts, parse_sql, place_in, positive
from nimble_otter.query.lazy import exp
from nimble_otter.table.filter import parse_time

_OPERATORS = {"EQ": "$eq", "NEQ": "$ne", "LT": "$lt", "LTE": "$lte", "GT": "$gt", "GTE": "$gte"}
_OPPOSITE = {"$eq": "$ne", "$ne": "$eq", "$lt": "$gte", "$gte": "$lt", "$gt": "$lte", "$lte": "$gt"}
_TURNED = {"$lt": "$gt", "$lte": "$gte", "$gt": "$lt", "$gte": "$lte", "$eq": "$eq", "$ne": "$ne"}
_AGGREGATES = {"Sum": "$sum", "Avg": "$avg", "Min": "$min", "Max": "$max"}


@dataclass(frozen=True, slots=True)
class DocumentRequest:
    """What is sent: a find (`filter`, `projection`, `sort`, `limit`) unless `pipeline` is given.

    `columns` are (name shown, path in the answer) in order; empty for `select *`.
    """

    collection: str
    filter: dict[str, Any] = field(default_factory=dict)
    projection: dict[str, Any] | None = None
    sort: tuple[tuple[str, int], ...] = ()
    limit: int | None = None
    pipeline: tuple[dict[str, Any], ...] | None = None
    columns: tuple[tuple[str, str], ...] = ()

    def as_native(self) -> Any:
        """What the server gets, as nested Python values, to be shown."""
        if self.pipeline is not None:
            return list(self.pipeline)
        shown: dict[str, Any] = {"find": self.collection, "filter": self.filter}
        if self.projection:
            shown["projection"] = self.projection
        if self.sort:
            shown["sort"] = dict(self.sort)
        if self.limit is not None:
            shown["limit"] = self.limit
        return shown


def translate_select(
    text: str, types: Mapping[str, set[str]] | None = None, parameters: Mapping[str, Any] | None = None
) -> DocumentRequest:
    """Translate one SELECT. `types` tells the kinds of values seen at a path ("time", "text", ...): a text compared
    with a field of times is sent as a time. Raises: QueryError with its place."""
    parsed = parse_sql(text, "postgres", QueryError)
    if not isinstance(parsed, exp.Select):
        raise QueryError("Only SELECT can be asked of a collection.", "Write it like select * from report where ...")
    return _Translator(text, types or {}, parameters or {}).select(parsed)


class _Translator:
    def __init__(self, text: str, types: Mapping[str, set[str]], parameters: Mapping[str, Any]) -> None:
        self.text = text
        self.types = types
        self.parameters = parameters
        self.alias = ""
        self.renamed: dict[str, str] = {}

    def refuse(self, what: str, node: Any = None, hint: str = "") -> QueryError:
        return QueryError(what, hint, place_in(self.text, node) if node is not None else None)

    def select(self, node: Any) -> DocumentRequest:
        for part, word in (("joins", "JOIN"), ("with_", "WITH")):
            if node.args.get(part):
                raise self.refuse(
                    f"{word} can't be asked of a collection.", None, "Group, sort or filter the result here."
                )
        source = node.args.get("from_") or node.args.get("from")
        if source is None or not isinstance(source.this, exp.Table):
            raise self.refuse("FROM must name one collection.")
        collection = source.this.name
        self.alias = source.this.alias_or_name
        where = node.args.get("where")
        matched = self.condition(where.this) if where else {}
        limit = self._limit(node.args.get("limit"))
        skip = self._limit(node.args.get("offset"), "OFFSET") or 0
        group, distinct = node.args.get("group"), node.args.get("distinct")
        if distinct is not None and (distinct.args.get("on") or any(isinstance(e, exp.Star) for e in node.expressions)):
            raise self.refuse("DISTINCT needs the fields that are to differ.", None, "Write them behind it.")
        if group or distinct or any(isinstance(e.unalias(), exp.AggFunc) for e in node.expressions):
            return self._grouped(node, collection, matched, limit, skip)
        if node.args.get("having"):
            raise self.refuse("HAVING needs groups.", None, "Write WHERE for conditions on documents.")
        columns: list[tuple[str, str]] = []
        if not any(isinstance(e, exp.Star) for e in node.expressions):
            columns = [(e.alias or self.path(e.unalias()), self.path(e.unalias())) for e in node.expressions]
        sort = tuple((self.path(key), way) for key, way in self._order(node, dict(columns)))
        projection: dict[str, Any] | None = None
        if columns:
            paths = [path for _, path in columns]
            keep = [p for p in dict.fromkeys(paths) if not any(p.startswith(q + ".") for q in paths)]
            projection = dict.fromkeys(keep, 1)
            if "_id" not in projection:
                projection["_id"] = 0
        if skip:
            stages: list[dict[str, Any]] = [{"$match": matched}] if matched else []
            stages += [{"$sort": dict(sort)}] if sort else []
            stages.append({"$skip": skip})
            stages += [{"$limit": limit}] if limit is not None else []
            stages += [{"$project": projection}] if projection else []
            return DocumentRequest(collection, {}, None, (), limit, tuple(stages), tuple(columns))
        return DocumentRequest(collection, matched, projection, sort, limit, None, tuple(columns))

    def _limit(self, node: Any, word: str = "LIMIT") -> int | None:
        if node is None:
            return None
        literal = literal_of(node.expression)
        if literal is None or not isinstance(literal.value, int):
            raise self.refuse(f"{word} takes a whole number.")
        return literal.value

    def _order(self, node: Any, names: Mapping[str, str]) -> list[tuple[Any, int]]:
        order = node.args.get("order")
        keys: list[tuple[Any, int]] = []
        for key in order.expressions if order else ():
            way = -1 if key.args.get("desc") else 1
            name = key.this.name if isinstance(key.this, exp.Column) and len(key.this.parts) == 1 else ""
            keys.append((exp.to_column(names[name]) if name in names else key.this, way))
        return keys

    def _grouped(
        self, node: Any, collection: str, matched: dict[str, Any], limit: int | None, skip: int
    ) -> DocumentRequest:
        group = node.args.get("group")
        keys = group.expressions if group else []
        if node.args.get("distinct"):
            if group or any(isinstance(e.unalias(), exp.AggFunc) for e in node.expressions):
                raise self.refuse("DISTINCT of groups can't be asked of a collection.", None, "Leave one of them out.")
            keys = [e.unalias() for e in node.expressions]
        paths = [self.path(key) for key in keys]
        # a missing field and one that is null are one group
        identity = {f"k{n}": {"$ifNull": [f"${path}", None]} for n, path in enumerate(paths)}
        stage: dict[str, Any] = {"_id": identity or None}
        columns: list[tuple[str, str]] = []
        for number, item in enumerate(node.expressions):
            inner = item.unalias()
            if isinstance(inner, exp.AggFunc):
                stage[f"f{number}"] = self._aggregate(inner)
                columns.append((item.alias or inner.sql().lower(), f"f{number}"))
                continue
            path = self.path(inner)
            if path not in paths:
                raise self.refuse(f"{path} must be in GROUP BY or inside a function.", inner)
            columns.append((item.alias or path, f"_id.k{paths.index(path)}"))
        by_name = dict(columns) | {p: f"_id.k{n}" for n, p in enumerate(paths)}
        pipeline: list[dict[str, Any]] = [{"$match": matched}] if matched else []
        having = self._having(node.args.get("having"), stage, paths)
        pipeline.append({"$group": stage})
        pipeline += self._counted(stage)
        pipeline += [{"$match": having}] if having else []
        sort = {}
        for key, way in self._order(node, {}):
            name = key.sql().lower() if isinstance(key, exp.AggFunc) else ".".join(name_parts(key) or [])
            if name not in by_name:
                raise self.refuse(f"{name or key.sql()} is not in the SELECT list.", key, "Give it a name there first.")
            sort[by_name[name]] = way
        if sort:
            pipeline.append({"$sort": sort})
        if skip:
            pipeline.append({"$skip": skip})
        if limit is not None:
            pipeline.append({"$limit": limit})
        return DocumentRequest(collection, {}, None, (), limit, tuple(pipeline), tuple(columns))

    def _having(self, node: Any, stage: dict[str, Any], paths: Sequence[str]) -> dict[str, Any]:
        """The filter of groups; figures that only HAVING names are worked out beside the others."""
        if node is None:
            return {}
        condition = node.this.copy()
        whole = exp.Paren(this=condition)
        for figure in list(whole.find_all(exp.AggFunc)):
            made = self._aggregate(figure)
            name = next((n for n, known in stage.items() if known == made), f"h{len(stage)}")
            stage[name] = made
            figure.replace(exp.column(name))
        self.renamed = {path: f"_id.k{n}" for n, path in enumerate(paths)}
        try:
            return self.condition(whole)
        finally:
            self.renamed = {}

    @staticmethod
    def _counted(stage: dict[str, Any]) -> list[dict[str, Any]]:
        """Sets of different values become their count, without those that are none."""
        sets = [name for name, made in stage.items() if isinstance(made, Mapping) and "$addToSet" in made]
        sizes = {name: {"$size": {"$setDifference": [f"${name}", [None]]}} for name in sets}
        return [{"$addFields": sizes}] if sizes else []

    def _aggregate(self, node: Any) -> dict[str, Any]:
        if isinstance(node, exp.Count):
            if isinstance(node.this, exp.Star):
                return {"$sum": 1}
            if isinstance(node.this, exp.Distinct):
                if len(node.this.expressions) != 1:
                    raise self.refuse("count(distinct ...) takes one field of a collection.", node)
                return {"$addToSet": f"${self.path(node.this.expressions[0])}"}
            return {"$sum": {"$cond": [{"$gt": [f"${self.path(node.this)}", None]}, 1, 0]}}
        if type(node).__name__ in _AGGREGATES:
            return {_AGGREGATES[type(node).__name__]: f"${self.path(node.this)}"}
        raise self.refuse(
            f"{node.sql_name().lower()} can't be asked of a collection.", node, "There are count, sum, avg, min, max."
        )

    def path(self, node: Any) -> str:
        parts = name_parts(node)
        if parts is None:
            raise self.refuse(
                f"{node.sql()[:40]} is not a field.", node, "Only fields and dotted paths can stand here."
            )
        if len(parts) > 1 and parts[0] == self.alias and not self._is_seen(".".join(parts)):
            parts = parts[1:]
        return self.renamed.get(".".join(parts), ".".join(parts))

    def _is_seen(self, path: str) -> bool:
        return path in self.types

    # --- conditions --------------------------------------------------------------------------------------------

    def condition(self, node: Any, negated: bool = False) -> dict[str, Any]:
        """A filter for the documents in which the condition (negated: its NOT) is true."""
        if isinstance(node, exp.Paren):
            return self.condition(node.this, negated)
        if isinstance(node, exp.Not):
            return self.condition(node.this, not negated)
        if is_negated(node):
            return self.condition(positive(node), not negated)
        if isinstance(node, (exp.And, exp.Or)):
            sign = "$and" if isinstance(node, exp.And) != negated else "$or"
            parts = [self.condition(node.left, negated), self.condition(node.right, negated)]
            flat: list[dict[str, Any]] = []
            for part in parts:
                flat += part[sign] if set(part) == {sign} else [part]
            return _merged(flat) if sign == "$and" else {sign: flat}
        if type(node).__name__ in _OPERATORS:
            return self._compared(node, negated)
        if isinstance(node, exp.Between):
            low, high = node.args["low"], node.args["high"]
            both = exp.And(
                this=exp.GTE(this=node.this, expression=low), expression=exp.LTE(this=node.this, expression=high)
            )
            return self.condition(both, negated)
        if isinstance(node, exp.Is) and isinstance(node.expression, exp.Null):
            return {self.path(node.this): {"$ne": None} if negated else None}
        if isinstance(node, exp.In):
            return self._among(node, negated)
        if isinstance(node, (exp.Like, exp.ILike, exp.Escape)):
            return self._like(node, negated)
        if isinstance(node, (exp.Column, exp.Dot)):
            return {self.path(node): not negated}
        raise self.refuse(f"{node.sql()[:40]} can't be asked of a collection.", node)

    def _compared(self, node: Any, negated: bool) -> dict[str, Any]:
        left, right, sign = node.left, node.right, _OPERATORS[type(node).__name__]
        if name_parts(left) is None:
            left, right, sign = right, left, _TURNED[sign]
        path = self.path(left)
        value = self.value(right, path)
        if value is None:
            return _nothing()
        sign = _OPPOSITE[sign] if negated else sign
        if sign == "$ne":
            return {path: {"$nin": [value, None]}}
        if negated and sign != "$eq":  # not (x < 5) holds for values of other types too, but not for none at all
            return {"$and": [{path: {"$not": {_OPPOSITE[sign]: value}}}, {path: {"$ne": None}}]}
        return {path: value if sign == "$eq" and not isinstance(value, (Mapping, re.Pattern)) else {sign: value}}

    def _among(self, node: Any, negated: bool) -> dict[str, Any]:
        path = self.path(node.this)
        values = [self.value(item, path) for item in node.expressions]
        if not values:
            raise self.refuse("IN takes a list of values.", node)
        if not negated:
            return {path: {"$in": [v for v in values if v is not None]}}
        return _nothing() if None in values else {path: {"$nin": [*values, None]}}

    def _like(self, node: Any, negated: bool) -> dict[str, Any]:
        escape: str | None = "\\"
        if isinstance(node, exp.Escape):
            escape, node = node.expression.name, node.this
        pattern = self.value(node.expression, "")
        if not isinstance(pattern, str):
            raise self.refuse("LIKE takes a pattern in quotes.", node)
        regex = {"$regex": f"^{like_regex(pattern, escape)}$", "$options": "is" if isinstance(node, exp.ILike) else "s"}
        path = self.path(node.this)
        return {"$and": [{"$nor": [{path: regex}]}, {path: {"$type": "string"}}]} if negated else {path: regex}

    def value(self, node: Any, path: str) -> Any:
        """A literal or parameter as it is sent for a comparison with the field at `path`."""
        if isinstance(node, exp.Placeholder):
            if node.name not in self.parameters:
                raise self.refuse(f"The parameter :{node.name} has no value.", node, "Give it one beside the query.")
            value = self.parameters[node.name]
        else:
            literal = literal_of(node)
            if literal is None:
                raise self.refuse(f"{node.sql()[:40]} is not a value.", node, "A field is compared with a value here.")
            value = literal.value
        if isinstance(value, Decimal):
            value = float(value)
        if type(value) is dt.date:
            value = dt.datetime.combine(value, dt.time())
        if isinstance(value, str) and self.types.get(path) == {"time"}:
            return parse_time(value, with_time=True) or value
        return value


def _merged(parts: Sequence[dict[str, Any]]) -> dict[str, Any]:
    """One filter of all parts: side by side where the paths differ, which is how one would write it."""
    names = [name for part in parts for name in part]
    if len(set(names)) == len(names) and not any(name.startswith("$") for name in names):
        return {name: test for part in parts for name, test in part.items()}
    return {"$and": list(parts)}


def _nothing() -> dict[str, Any]:
    """A filter that no document matches: the comparison is unknown for all."""
    return {"_id": {"$in": []}}
