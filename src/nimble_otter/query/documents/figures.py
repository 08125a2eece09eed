"""GROUP BY over documents: keys and figures as a $group stage, and what they are called behind it."""

from __future__ import annotations

from typing import Any

from nimble_otter.query.documents.expressions import Expressions, known, name_of_function
from nimble_otter.query.documents.names import Reading
from nimble_otter.query.lazy import exp
from nimble_otter.translation import tr
from nimble_otter.values import Value

_SIMPLE = {"Avg": "$avg", "Min": "$min", "Max": "$max", "Stddev": "$stdDevSamp", "StddevSamp": "$stdDevSamp",
           "StddevPop": "$stdDevPop"}  # fmt: skip
_KNOWN = tr("Available: count, sum, avg, min, max, stddev, string_agg and array_agg.")


class Figures:
    """The groups of one SELECT. A missing field and null are one group. `given` says, once the stages are made, what
    each key (by its path or its text) and each figure (by its text) is behind them."""

    def __init__(self, reading: Reading, node: exp.Expr) -> None:
        self.reading, self.node = reading, node
        self.values = Expressions(reading)
        group = node.args.get("group")
        self.keys: list[Any] = [self._meant(key) for key in group.expressions] if group is not None else []
        parts = [*node.expressions, node.args.get("having"), node.args.get("order")]
        self.figures = {f.sql(): f for part in parts if part is not None for f in _figures_in(part)}
        self.given: dict[str, Any] = {}
        self._stage: dict[str, Any] = {}
        self._none: dict[str, Any] = {}

    @property
    def is_needed(self) -> bool:
        """Whether documents are grouped at all."""
        return bool(self.keys or self.figures)

    def _meant(self, key: exp.Expr) -> object:
        """What a key stands for: a column by its place or the name that SELECT gives it."""
        items = self.node.expressions
        if isinstance(key, exp.Literal) and not key.is_string and key.name.isdigit():
            if not 0 < int(key.name) <= len(items):
                raise self.reading.refuse(
                    tr("There is no column {key_name}.", key_name=key.name), None, tr("GROUP BY counts columns from 1.")
                )
            return items[int(key.name) - 1].unalias()
        named = next(
            (i.unalias() for i in items if i.alias and i.alias == key.name and isinstance(key, exp.Column)), None
        )
        return named if named is not None and not self.reading.is_field(named) else key

    def stages(self) -> list[dict[str, Value]]:
        """The stages that make rows of groups. Raises: QueryError for a figure that there is not."""
        keys = {}
        for number, key in enumerate(self.keys):
            keys[f"k{number}"] = {"$ifNull": [self.values.value(key), None]}
            self.given[key.sql()] = f"$_id.k{number}"
            if self.reading.is_field(key):
                self.given[self.reading.find(key).path] = f"$_id.k{number}"
        for number, (text, figure) in enumerate(self.figures.items()):
            self.given[text] = self._figure(figure, f"f{number}")
        group = {"$group": {"_id": keys or None, **self._stage}}
        if self.keys:
            return [group]
        # of no rows at all there is one group too, which the server leaves out
        empty = {"$literal": [{"_id": None, **self._none}]}
        rows = {"$cond": [{"$eq": [{"$size": "$rows"}, 0]}, empty, "$rows"]}
        return [{"$facet": {"rows": [group]}}, {"$project": {"rows": rows}}, {"$unwind": "$rows"},
                {"$replaceRoot": {"newRoot": "$rows"}}]  # fmt: skip

    def _put(self, name: str, made: object, none: object) -> str:
        self._stage[name], self._none[name] = made, none
        return f"${name}"

    def _figure(self, node: exp.Expr, name: str) -> object:
        """Add a figure to the stage; returns what it is behind it."""
        test: Any = None
        if isinstance(node, exp.Filter):
            node, test = node.this, self.values.holds(node.expression.this)
        inner = node.this
        is_distinct = isinstance(inner, exp.Distinct)
        if is_distinct:
            if len(inner.expressions) != 1:
                raise self.reading.refuse(tr("DISTINCT takes one field inside an aggregate."), node)
            inner = inner.expressions[0]
        if isinstance(node, exp.Count):
            if is_distinct:
                return {"$size": self._set(inner, name, test)}
            is_row = isinstance(inner, (exp.Star, exp.Literal))
            counted = True if is_row else known(self.values.value(inner))
            tests = [t for t in (counted, test) if t is not None and t is not True]
            made: Any = {"$cond": [tests[0] if len(tests) == 1 else {"$and": tests}, 1, 0]} if tests else 1
            return self._put(name, {"$sum": made}, 0)
        kind = type(node).__name__
        if kind == "Sum":
            if is_distinct:
                found = self._set(inner, name, test)
                return {"$cond": [{"$gt": [{"$size": found}, 0]}, {"$sum": found}, None]}
            value = self._if(self.values.value(inner), test)
            self._put(f"{name}n", {"$sum": {"$cond": [known(value), 1, 0]}}, 0)
            self._put(name, {"$sum": value}, None)  # 0 of nothing, where SQL has NULL
            return {"$cond": [{"$gt": [f"${name}n", 0]}, f"${name}", None]}
        if kind in _SIMPLE and not is_distinct:
            return self._put(name, {_SIMPLE[kind]: self._if(self.values.value(inner), test)}, None)
        if kind in ("GroupConcat", "ArrayAgg"):
            pushed = self._put(name, {"$push": self._if(self.values.value(inner), test)}, [])
            listed = {"$filter": {"input": pushed, "as": "i", "cond": known("$$i")}}
            if kind == "ArrayAgg":
                return {"$cond": [{"$gt": [{"$size": listed}, 0]}, listed, None]}
            between = self.reading.value(node.args["separator"]) if node.args.get("separator") is not None else ","
            joined = {"$concat": [{"$ifNull": [{"$concat": ["$$value", between]}, ""]}, {"$toString": "$$this"}]}
            return {"$reduce": {"input": listed, "initialValue": None, "in": joined}}
        raise self.reading.refuse(
            tr("{name_of_function} is not supported for collections.", name_of_function=name_of_function(node)),
            node,
            _KNOWN,
        )

    @staticmethod
    def _if(value: object, test: object) -> object:
        return value if test is None else {"$cond": [test, value, None]}

    def _set(self, inner: exp.Expr, name: str, test: object) -> object:
        """The different values, without those that are none."""
        text = self._put(name, {"$addToSet": self._if(self.values.value(inner), test)}, [])
        return {"$setDifference": [text, [None]]}


def _figures_in(node: exp.Expr) -> list[exp.Expr]:
    """The figures in an expression, outermost only; those of window functions are none."""
    if isinstance(node, (exp.Window, exp.Subquery, exp.Select)):
        return []
    if isinstance(node, exp.Filter) and isinstance(node.this, exp.AggFunc):
        return [node]
    if isinstance(node, exp.AggFunc):
        return [node]
    return [found for child in node.iter_expressions() for found in _figures_in(child)]
