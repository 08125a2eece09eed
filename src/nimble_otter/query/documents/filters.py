"""Conditions on documents as the server's filters, which can use its indexes.

A filter matches exactly the documents for which the condition is true. SQL's unknown is kept by pushing NOT down to the
comparisons and by asking for a value in each of them; a missing field counts as NULL.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from typing import Any

from nimble_otter.query.documents.names import Found, NotPlain, Reading
from nimble_otter.query.lazy import exp
from nimble_otter.query.parsed import is_negated, positive
from nimble_otter.table.text.patterns import like_regex
from nimble_otter.translation import tr
from nimble_otter.values import Value

OPERATORS = {"EQ": "$eq", "NEQ": "$ne", "LT": "$lt", "LTE": "$lte", "GT": "$gt", "GTE": "$gte"}
OPPOSITE = {"$eq": "$ne", "$ne": "$eq", "$lt": "$gte", "$gte": "$lt", "$gt": "$lte", "$lte": "$gt"}
_TURNED = {"$lt": "$gt", "$lte": "$gte", "$gt": "$lt", "$gte": "$lte", "$eq": "$eq", "$ne": "$ne"}


class Filters:
    """Makes filters of conditions. Raises: NotPlain where a condition needs an expression."""

    def __init__(self, reading: Reading) -> None:
        self.reading = reading

    def condition(self, node: exp.Expr, negated: bool = False) -> dict[str, Value]:
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
            return merged(flat) if sign == "$and" else {sign: flat}
        if type(node).__name__ in OPERATORS:
            return self._compared(node, negated)
        if isinstance(node, exp.Between):
            low, high = node.args["low"], node.args["high"]
            both = exp.And(
                this=exp.GTE(this=node.this, expression=low), expression=exp.LTE(this=node.this, expression=high)
            )
            return self.condition(both, negated)
        if isinstance(node, exp.Is) and isinstance(node.expression, exp.Null):
            return {self._path(node.this): {"$ne": None} if negated else None}
        if isinstance(node, exp.In) and not node.args.get("query"):
            return self._among(node, negated)
        if isinstance(node, (exp.Like, exp.ILike, exp.Escape)):
            return self._like(node, negated)
        if self.reading.is_field(node):
            return {self._path(node): not negated}
        raise self.reading.refuse(
            tr("{sql} is not supported for collections.", sql=node.sql()[:40]), node, "", NotPlain
        )

    def _field(self, node: exp.Expr) -> Found:
        if self.reading.given is not None:
            raise NotPlain(tr("These rows are groups."))
        reading = self.reading.find(node)
        if reading.path.startswith("$"):
            raise NotPlain(tr("This is not a field."))
        return reading

    def _path(self, node: exp.Expr) -> str:
        return self._field(node).path

    def _compared(self, node: exp.Expr, negated: bool) -> dict[str, object]:
        left, right, sign = node.this, node.expression, OPERATORS[type(node).__name__]
        if not self.reading.is_field(left):
            left, right, sign = right, left, _TURNED[sign]
        if isinstance(right, exp.Any):  # 'x' = any(tags): a filter looks through lists
            left, right = right.this.unnest(), left
        reading = self._field(left)
        value = self.reading.value(right, reading.types)
        path = reading.path
        if value is None:
            return nothing()
        sign = OPPOSITE[sign] if negated else sign
        if sign == "$ne":
            return {path: {"$nin": [value, None]}}
        if negated and sign != "$eq":  # not (x < 5) holds for values of other types too, but not for none at all
            return {"$and": [{path: {"$not": {OPPOSITE[sign]: value}}}, {path: {"$ne": None}}]}
        return {path: value if sign == "$eq" and not isinstance(value, (Mapping, re.Pattern)) else {sign: value}}

    def _among(self, node: exp.Expr, negated: bool) -> dict[str, object]:
        reading = self._field(node.this)
        values = [self.reading.value(item, reading.types) for item in node.expressions]
        if not values:
            raise self.reading.refuse(tr("IN takes a list of values."), node)
        if not negated:
            return {reading.path: {"$in": [v for v in values if v is not None]}}
        return nothing() if None in values else {reading.path: {"$nin": [*values, None]}}

    def _like(self, node: exp.Expr, negated: bool) -> dict[str, object]:
        regex, options = like_of(self.reading, node)
        test = {"$regex": regex, "$options": options}
        path = self._path((node.this if isinstance(node, exp.Escape) else node).this)
        return {"$and": [{"$nor": [{path: test}]}, {path: {"$type": "string"}}]} if negated else {path: test}


def like_of(reading: Reading, node: exp.Expr) -> tuple[str, str]:
    """(regular expression, options) of a LIKE."""
    escape: str | None = "\\"
    if isinstance(node, exp.Escape):
        escape, node = node.expression.name, node.this
    pattern = reading.value(node.expression)
    if not isinstance(pattern, str):
        raise reading.refuse(tr("LIKE takes a pattern in quotes."), node)
    return f"^{like_regex(pattern, escape)}$", "is" if isinstance(node, exp.ILike) else "s"


def merged(parts: Sequence[dict[str, object]]) -> dict[str, object]:
    """One filter of all parts: side by side where the paths differ, which is how one would write it."""
    names = [name for part in parts for name in part]
    if len(set(names)) == len(names) and not any(name.startswith("$") for name in names):
        return {name: test for part in parts for name, test in part.items()}
    return {"$and": list(parts)}


def nothing() -> dict[str, object]:
    """A filter that no document matches: the comparison is unknown for all."""
    return {"_id": {"$in": []}}
