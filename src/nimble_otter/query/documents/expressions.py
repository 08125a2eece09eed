"""SQL expressions as the document server's aggregation expressions, with SQL's NULL.

A value that is null or missing is NULL; operators and functions of it give NULL. Of a condition two expressions are
made: one that holds where it is true, one where it is false; where neither does, it is unknown.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from nimble_otter.query.documents.filters import OPERATORS, OPPOSITE, like_of
from nimble_otter.query.documents.names import Reading
from nimble_otter.query.lazy import exp
from nimble_otter.query.local.meaning import CASTS
from nimble_otter.query.parsed import is_negated, positive
from nimble_otter.translation import tr
from nimble_otter.values import Value

_UNITS = ("year", "quarter", "month", "week", "day", "hour", "minute", "second", "millisecond")
_PARTS = {
    "year": "$year", "month": "$month", "day": "$dayOfMonth", "hour": "$hour", "minute": "$minute", "second": "$second",
    "week": "$isoWeek", "doy": "$dayOfYear", "dow": "$dayOfWeek", "isodow": "$isoDayOfWeek",
}  # fmt: skip
_DATE_FUNCTIONS = {
    "Year": "year", "Month": "month", "Day": "day", "Hour": "hour", "Minute": "minute", "Second": "second",
    "Week": "week", "Quarter": "quarter", "DayOfMonth": "day", "DayOfYear": "doy", "DayOfWeek": "dow",
}  # fmt: skip
_PLAIN = {
    "Abs": "$abs", "Ceil": "$ceil", "Floor": "$floor", "Sqrt": "$sqrt", "Ln": "$ln", "Exp": "$exp", "Pow": "$pow",
    "Trunc": "$trunc",
}  # fmt: skip
_KINDS = {
    "text": "string", "smallint": "int", "integer": "long", "bigint": "long", "double": "double", "real": "double",
    "decimal": "decimal", "bool": "bool", "date": "date", "time": "date", "zoned": "date",
}  # fmt: skip
_CASTS = {name: _KINDS[kind] for name, kind in CASTS.items() if kind in _KINDS}


def known(value: object) -> dict[str, object]:
    """Holds where a value is neither null nor missing."""
    return {"$gt": [value, None]}


def every(parts: Sequence[object], sign: str = "$and") -> Value:
    """All (or with $or any) of conditions, as flat as can be."""
    flat: list[Any] = []
    for part in parts:
        flat += part[sign] if isinstance(part, dict) and set(part) == {sign} else [part]
    return flat[0] if len(flat) == 1 else {sign: flat}


def unless_null(value: object, result: object) -> dict[str, object]:
    """An expression that is `result` where a value is known, else null."""
    return {"$cond": [known(value), result, None]}


class Expressions:
    """Makes expressions of SQL's, for the names that a reading has in scope. Raises: QueryError with its place."""

    def __init__(self, reading: Reading) -> None:
        self.reading = reading

    # --- values ------------------------------------------------------------------------------------------------

    def value(self, node: exp.Expr) -> Value:
        """The expression of a value."""
        given = self.reading.given
        if given is not None and node.sql() in given:
            return given[node.sql()]
        if isinstance(node, exp.Paren):
            return self.value(node.this)
        if self.reading.is_value(node):
            return self._literal(self.reading.value(node))
        if self.reading.is_field(node):
            return self._field(node)
        made = getattr(self, f"_do_{type(node).__name__.lower()}", None)
        if made is not None:
            return made(node)
        name = type(node).__name__
        if name in _PLAIN:
            return {_PLAIN[name]: [self.value(a) for a in (node.this, node.args.get("expression")) if a is not None]}
        if name in _DATE_FUNCTIONS:
            return self._part(_DATE_FUNCTIONS[name], node.this, node)
        if isinstance(node, (exp.Predicate, exp.And, exp.Or, exp.Not, exp.Between)):
            return {"$cond": [self.holds(node), True, {"$cond": [self.holds(node, False), False, None]}]}
        raise self._unknown(node)

    def _unknown(self, node: exp.Expr) -> Exception:
        if isinstance(node, (exp.Subquery, exp.Exists, exp.Select)) or node.find(exp.Select):
            return self.reading.refuse(
                tr("Subqueries in expressions are not supported for collections."), node, tr("Join it in FROM.")
            )
        if isinstance(node, exp.Window):
            return self.reading.refuse(
                tr("Window functions are not supported for collections."),
                node,
                tr("Group or sort the rows here instead."),
            )
        if isinstance(node, exp.AggFunc):
            return self.reading.refuse(
                tr("{name_of_function} can't be used here.", name_of_function=name_of_function(node)),
                node,
                tr("Aggregates belong in SELECT or HAVING."),
            )
        if isinstance(node, exp.Func):
            hint = tr("Functions on texts, numbers, times and lists are available; the guide lists them.")
            return self.reading.refuse(
                tr("{name_of_function} is not supported for collections.", name_of_function=name_of_function(node)),
                node,
                hint,
            )
        return self.reading.refuse(tr("{sql} is not supported for collections.", sql=node.sql()[:40]), node)

    @staticmethod
    def _literal(value: object) -> object:
        return {"$literal": value} if isinstance(value, str) and value.startswith("$") else value

    def _field(self, node: exp.Expr) -> object:
        reading = self.reading.find(node)
        if self.reading.given is None:
            return f"${reading.path}"
        if reading.path in self.reading.given:
            return self.reading.given[reading.path]
        raise self.reading.refuse(tr("{path} must be in GROUP BY or inside a function.", path=reading.path), node)

    def _both(self, sign: str, node: exp.Expr) -> dict[str, object]:
        return {sign: [self.value(node.this), self.value(node.expression)]}

    def _do_add(self, node: exp.Expr) -> object:
        return self._moved(node, "$dateAdd") or self._both("$add", node)

    def _do_sub(self, node: exp.Expr) -> object:
        return self._moved(node, "$dateSubtract") or self._both("$subtract", node)

    def _moved(self, node: exp.Expr, sign: str) -> Value:
        """A time and an interval."""
        if not isinstance(node.expression, exp.Interval):
            return None
        amount, unit = str(node.expression.this.name), str(node.expression.args.get("unit") or "")
        unit = unit.lower().removesuffix("s")
        if not amount.lstrip("-").isdigit() or unit not in _UNITS:
            raise self.reading.refuse(tr("This interval can't be read."), node, tr("Write it like interval '3 days'."))
        return {sign: {"startDate": self.value(node.this), "unit": unit, "amount": int(amount)}}

    def _do_mul(self, node: exp.Expr) -> object:
        return self._both("$multiply", node)

    def _do_div(self, node: exp.Expr) -> object:
        return self._divided("$divide", node.this, node.expression)

    def _do_mod(self, node: exp.Expr) -> object:
        return self._divided("$mod", node.this, node.expression)

    def _divided(self, sign: str, left: exp.Expr, right: exp.Expr) -> object:
        by = self.value(right)
        made = {sign: [self.value(left), by]}
        if isinstance(by, (int, float)) and by:
            return made
        return {"$cond": [{"$eq": [by, 0]}, None, made]}

    def _do_neg(self, node: exp.Expr) -> object:
        return {"$multiply": [self.value(node.this), -1]}

    def _do_round(self, node: exp.Expr) -> object:
        digits = node.args.get("decimals")
        return {"$round": [self.value(node.this), self.value(digits) if digits is not None else 0]}

    def _do_coalesce(self, node: exp.Expr) -> object:
        return {"$ifNull": [*(self.value(a) for a in (node.this, *node.expressions)), None]}

    def _do_nullif(self, node: exp.Expr) -> object:
        value = self.value(node.this)
        return {"$cond": [{"$eq": [value, self.value(node.expression)]}, None, value]}

    def _do_greatest(self, node: exp.Expr) -> object:
        return {"$max": [self.value(a) for a in (node.this, *node.expressions)]}

    def _do_least(self, node: exp.Expr) -> object:
        return {"$min": [self.value(a) for a in (node.this, *node.expressions)]}

    def _do_case(self, node: exp.Expr) -> object:
        branches = []
        for branch in node.args["ifs"]:
            test = branch.this if node.this is None else exp.EQ(this=node.this.copy(), expression=branch.this.copy())
            branches.append({"case": self.holds(test), "then": self.value(branch.args["true"])})
        default = node.args.get("default")
        return {"$switch": {"branches": branches, "default": self.value(default) if default is not None else None}}

    def _do_if(self, node: exp.Expr) -> object:
        other = node.args.get("false")
        return {"$cond": [self.holds(node.this), self.value(node.args["true"]), self.value(other) if other else None]}

    def _do_cast(self, node: exp.Expr) -> object:
        to = node.args["to"]
        wanted = _CASTS.get(to.this.value.lower())
        if wanted is None:
            raise self.reading.refuse(tr("A value can't be cast to {sql}.", sql=to.sql().lower()), node)
        return {"$convert": {"input": self.value(node.this), "to": wanted, "onNull": None}}

    _do_trycast = _do_cast

    # --- texts -------------------------------------------------------------------------------------------------

    def _text(self, node: exp.Expr) -> Value:
        value = self.value(node)
        return value if isinstance(value, str) and not value.startswith("$") else {"$toString": value}

    def _do_lower(self, node: exp.Expr) -> object:
        value = self.value(node.this)
        return unless_null(value, {"$toLower": value})

    def _do_upper(self, node: exp.Expr) -> object:
        value = self.value(node.this)
        return unless_null(value, {"$toUpper": value})

    def _do_length(self, node: exp.Expr) -> object:
        value = self.value(node.this)
        return unless_null(value, {"$strLenCP": {"$toString": value}})

    def _do_trim(self, node: exp.Expr) -> object:
        sign = {"LEADING": "$ltrim", "TRAILING": "$rtrim"}.get(str(node.args.get("position") or "").upper(), "$trim")
        chars = node.args.get("expression")
        return {sign: {"input": self.value(node.this), "chars": self.value(chars) if chars is not None else " "}}

    def _do_dpipe(self, node: exp.Expr) -> object:
        parts = [*node.flatten()]
        return {"$concat": [self._text(part) for part in parts]}

    def _do_concat(self, node: exp.Expr) -> object:
        return {"$concat": [{"$ifNull": [self._text(part), ""]} for part in node.expressions]}

    def _do_substring(self, node: exp.Expr) -> object:
        value, start = self.value(node.this), self.reading.value(node.args["start"])
        length = node.args.get("length")
        if not isinstance(start, int) or start < 1:
            raise self.reading.refuse(tr("substring begins at a whole number from 1."), node)
        size = self.value(length) if length is not None else {"$strLenCP": value}
        return unless_null(value, {"$substrCP": [value, start - 1, size]})

    def _do_left(self, node: exp.Expr) -> object:
        value = self.value(node.this)
        return unless_null(value, {"$substrCP": [value, 0, self.value(node.expression)]})

    def _do_replace(self, node: exp.Expr) -> object:
        replacement = node.args.get("replacement")
        return {"$replaceAll": {"input": self.value(node.this), "find": self.value(node.expression),
                                "replacement": self.value(replacement) if replacement is not None else ""}}  # fmt: skip

    def _do_strposition(self, node: exp.Expr) -> object:
        return {"$add": [{"$indexOfCP": [self.value(node.this), self.value(node.args["substr"])]}, 1]}

    # --- times -------------------------------------------------------------------------------------------------

    def _part(self, part: str, value: exp.Expr, node: exp.Expr) -> Value:
        if part == "quarter":
            return {"$ceil": {"$divide": [{"$month": self.value(value)}, 3]}}
        if part not in _PARTS:
            raise self.reading.refuse(
                tr("{part} is not a part of a time.", part=part),
                node,
                tr("There are {parts}, quarter.", parts=", ".join(_PARTS)),
            )
        made = {_PARTS[part]: self.value(value)}
        return {"$subtract": [made, 1]} if part == "dow" else made  # Sunday is 0 in SQL, 1 at the server

    def _do_extract(self, node: exp.Expr) -> object:
        return self._part(node.this.name.lower(), node.expression, node)

    def _do_timestamptrunc(self, node: exp.Expr) -> object:
        unit = str(node.args["unit"]).lower()
        if unit not in _UNITS:
            raise self.reading.refuse(
                tr("Times can't be truncated to {unit}.", unit=unit),
                node,
                tr("There are {units}.", units=", ".join(_UNITS[:-1])),
            )
        week = {"startOfWeek": "monday"} if unit == "week" else {}
        return {"$dateTrunc": {"date": self.value(node.this), "unit": unit, **week}}

    _do_datetrunc = _do_timestamptrunc

    def _do_date(self, node: exp.Expr) -> object:
        return {"$dateTrunc": {"date": self.value(node.this), "unit": "day"}}

    def _do_timetostr(self, node: exp.Expr) -> object:
        return {"$dateToString": {"date": self.value(node.this), "format": self.reading.value(node.args["format"])}}

    def _do_datediff(self, node: exp.Expr) -> object:
        start, end = self.value(node.expression), self.value(node.this)
        return {"$dateDiff": {"startDate": start, "endDate": end, "unit": "day"}}

    def _do_currenttimestamp(self, node: exp.Expr) -> object:
        return "$$NOW"

    def _do_currentdate(self, node: exp.Expr) -> object:
        return {"$dateTrunc": {"date": "$$NOW", "unit": "day"}}

    # --- lists -------------------------------------------------------------------------------------------------

    def _do_arraysize(self, node: exp.Expr) -> object:
        value = self.value(node.this)
        return {"$cond": [{"$isArray": [value]}, {"$size": value}, None]}

    def _do_bracket(self, node: exp.Expr) -> object:
        return {"$arrayElemAt": [self.value(node.this), self.value(node.expressions[0])]}

    def _do_anonymous(self, node: exp.Expr) -> object:
        name, arguments = str(node.this).lower(), node.expressions
        if name in ("cardinality", "jsonb_array_length", "json_array_length") and len(arguments) == 1:
            return self._do_arraysize(exp.ArraySize(this=arguments[0]))
        if name == "strftime" and len(arguments) == 2:
            return {"$dateToString": {"date": self.value(arguments[1]), "format": self.reading.value(arguments[0])}}
        raise self._unknown(node)

    # --- conditions --------------------------------------------------------------------------------------------

    def holds(self, node: exp.Expr, wanted: bool = True) -> Value:  # noqa: C901 - a branch for each kind of node
        """An expression that is true exactly where a condition is true (`wanted`), or false; never null."""
        if isinstance(node, exp.Paren):
            return self.holds(node.this, wanted)
        if isinstance(node, exp.Not):
            return self.holds(node.this, not wanted)
        if is_negated(node):
            return self.holds(positive(node), not wanted)
        if isinstance(node, (exp.And, exp.Or)):
            sign = "$and" if isinstance(node, exp.And) == wanted else "$or"
            return every([self.holds(node.left, wanted), self.holds(node.right, wanted)], sign)
        if isinstance(node, exp.EQ) and isinstance(node.right, exp.Any):
            items = self.value(node.right.this.unnest())
            found = {"$in": [self.value(node.left), {"$cond": [{"$isArray": [items]}, items, []]}]}
            return every([known(items), found if wanted else {"$not": [found]}])
        if type(node).__name__ in OPERATORS:
            sign = OPERATORS[type(node).__name__]
            left, right = self._sides(node.this, node.expression)
            return self._certain([left, right], {sign if wanted else OPPOSITE[sign]: [left, right]})
        if isinstance(node, exp.Between):
            low, high = node.args["low"], node.args["high"]
            both = exp.And(
                this=exp.GTE(this=node.this, expression=low), expression=exp.LTE(this=node.this, expression=high)
            )
            return self.holds(both, wanted)
        if isinstance(node, exp.Is):
            return self._is(node, wanted)
        if isinstance(node, (exp.NullSafeEQ, exp.NullSafeNEQ)):
            left, right = ({"$ifNull": [side, None]} for side in self._sides(node.left, node.right))
            return {"$eq" if isinstance(node, exp.NullSafeEQ) == wanted else "$ne": [left, right]}
        if isinstance(node, exp.In) and node.expressions:
            return self._among(node, wanted)
        if isinstance(node, (exp.Like, exp.ILike, exp.Escape)):
            regex, options = like_of(self.reading, node)
            return self._matches((node.this if isinstance(node, exp.Escape) else node).this, regex, options, wanted)
        if isinstance(node, (exp.RegexpLike, exp.RegexpILike)):
            options = "i" if isinstance(node, exp.RegexpILike) else ""
            return self._matches(node.this, str(self.reading.value(node.expression)), options, wanted)
        if isinstance(node, exp.Boolean):
            return bool(node.this) == wanted
        if isinstance(node, exp.Predicate):
            raise self._unknown(node)
        return {"$eq": [self.value(node), wanted]}

    def _sides(self, left: exp.Expr, right: exp.Expr) -> list[object]:
        """Both sides of a comparison; a text beside a field of times is a time."""
        sides = []
        for side, other in ((left, right), (right, left)):
            if self.reading.is_value(side):
                types = self.reading.find(other).types if self.reading.is_field(other) else frozenset()
                sides.append(self._literal(self.reading.value(side, types)))
            else:
                sides.append(self.value(side))
        return sides

    @staticmethod
    def _certain(sides: Sequence[object], test: object) -> object:
        """A comparison, where both sides are known."""
        if any(side is None for side in sides):
            return False
        open_sides = [s for s in sides if isinstance(s, (dict, str)) and _may_be_null(s)]
        return every([*(known(side) for side in open_sides), test])

    def _is(self, node: exp.Expr, wanted: bool) -> object:
        value = self.value(node.this) if not isinstance(node.expression, exp.Boolean) else None
        if isinstance(node.expression, exp.Null):
            return {"$lte": [value, None]} if wanted else known(value)
        if isinstance(node.expression, exp.Boolean):
            made = self.holds(node.this, bool(node.expression.this))
            return made if wanted else {"$not": [made]}
        raise self._unknown(node)

    def _among(self, node: exp.Expr, wanted: bool) -> object:
        sides = [self._sides(node.this, item) for item in node.expressions]
        value, items = sides[0][0], [pair[1] for pair in sides]
        has_null = any(item is None for item in items)
        if wanted:
            return self._certain([value], {"$in": [value, [i for i in items if i is not None]]})
        return False if has_null else self._certain([value], {"$not": [{"$in": [value, items]}]})

    def _matches(self, node: exp.Expr, regex: str, options: str, wanted: bool) -> object:
        value = self.value(node)
        is_field = isinstance(value, str)  # which may hold numbers too; what is worked out as a text is one, or null
        is_text = {"$eq": [{"$type": value}, "string"]} if is_field else known(value)
        text = {"$cond": [is_text, value, ""]} if is_field else {"$ifNull": [value, ""]}
        found = {"$regexMatch": {"input": text, "regex": regex, "options": options}}
        return every([is_text, found if wanted else {"$not": [found]}])


def _may_be_null(value: object) -> bool:
    return not isinstance(value, str) or value.startswith("$")


def name_of_function(node: exp.Expr) -> str:
    """What SQL calls a function, in small letters."""
    return str(
        node.sql_name() if isinstance(node, exp.Func) and not isinstance(node, exp.Anonymous) else node.name
    ).lower()
