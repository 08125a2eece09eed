"""The local filter language: SQL conditions over the columns of a table, parsed by sqlglot into our own nodes."""

from __future__ import annotations

import datetime as dt
import difflib
import re
from collections.abc import Callable
from decimal import Decimal
from typing import Any

from nimble_otter.errors import ConditionError, Place, place_of
from nimble_otter.query.lazy import exp, sqlglot
from nimble_otter.query.windowed import windowed
from nimble_otter.table.columns import Table
from nimble_otter.table.conditions import (
    All,
    Among,
    Any_,
    AnyOf,
    Call,
    Case,
    ColumnAt,
    Compare,
    IsEmpty,
    Like,
    Literal,
    Node,
    Not,
    Operand,
    Truth,
)
from nimble_otter.table.patterns import tester

_COMPARE = {"EQ": "=", "NEQ": "<>", "LT": "<", "LTE": "<=", "GT": ">", "GTE": ">="}
_ARITHMETIC = {"Add": "+", "Sub": "-", "Mul": "*", "Div": "/", "Mod": "%"}
_FUNCTIONS = {
    "Abs": "abs", "Lower": "lower", "Upper": "upper", "Length": "length", "Year": "year", "Month": "month",
    "Day": "day", "Ceil": "ceil", "Floor": "floor", "Sqrt": "sqrt", "Ln": "ln", "Exp": "exp", "Sign": "sign",
    "Trunc": "trunc",
    "Pow": "power", "Left": "left", "Right": "right", "Coalesce": "coalesce", "Greatest": "greatest", "Least": "least",
    "Nullif": "nullif", "Reverse": "reverse", "DPipe": "||", "Concat": "concat",
}  # fmt: skip
"""sqlglot's name of a function whose arguments stand in order, and ours."""
_PARTS = {"Hour": "hour", "Minute": "minute", "Second": "second", "Week": "week", "Quarter": "quarter",
          "DayOfWeek": "dow", "DayOfYear": "doy", "DayOfMonth": "day"}  # fmt: skip
CASTS = {
    "text": "text", "varchar": "text", "char": "text", "int": "integer", "bigint": "integer", "smallint": "integer",
    "double": "number", "float": "number", "decimal": "decimal", "boolean": "bool", "date": "date", "timestamp": "time",
    "timestamptz": "time", "datetime": "time",
}  # fmt: skip
"""What a type's name in CAST makes of a value."""
_SAID = (
    "abs round ceil floor trunc sqrt power ln exp sign mod, lower upper trim length substring left right replace "
    "position split_part concat, coalesce nullif greatest least case cast, year month day extract date_trunc age "
    "to_char"
)
_SWAPPED = {"<": ">", "<=": ">=", ">": "<", ">=": "<="}


def parse_condition(text: str, table: Table) -> Node:
    """Parse a condition over the table's columns.

    Names are the result's column names (quoted with " where need be), their origins (station.name), or a column with a
    dotted path into its nested values. Raises: ConditionError with its place.
    """
    if not text.strip():
        raise ConditionError("The condition is empty.", "Write one, such as level_m > 0.3.")
    parsed = parse_sql(text, "postgres", ConditionError)
    if not isinstance(parsed, exp.Condition):
        raise ConditionError("This is a statement, not a condition.", "Write only what comes after WHERE.")
    return _Reader(text, table).condition(parsed)


def parse_expression(text: str, table: Table) -> Operand:
    """Parse an expression over the table's columns. Raises: ConditionError with its place."""
    if not text.strip():
        raise ConditionError("The expression is empty.", "Write one, such as round(level_m * 100, 1).")
    parsed = parse_sql(text, local_dialect(), ConditionError)
    if isinstance(parsed, (exp.Query, exp.Alias)):
        raise ConditionError("This is not one expression.", "Write a value, such as level_m * 100.")
    return _Reader(text, table).operand(parsed)


def local_dialect(empties: str = "nulls_are_last") -> Any:
    """PostgreSQL's dialect, but with empties last in any order, as they are here, or where else the parser can have
    them."""
    made = sqlglot.Dialect.get_or_raise("postgres")
    made.NULL_ORDERING = empties
    return made


def parse_sql(text: str, dialect: Any, error: Callable[..., Exception]) -> Any:
    """Parse one expression or statement; raises `error(message, hint, place)`."""
    try:
        parsed = sqlglot.parse_one(text, dialect=dialect)
    except sqlglot.errors.ParseError as problem:
        detail = problem.errors[0] if problem.errors else {}
        word = str(detail.get("highlight") or "")
        place = _place_of_detail(text, detail, word)
        raise error(
            f"The text stops making sense at {word!r}." if word else "The text is not complete.", "", place
        ) from None
    except sqlglot.errors.SqlglotError:
        quote = text.rfind("'")
        raise error("A quote is not closed.", "", place_of(text, max(quote, 0))) from None
    except RecursionError:
        raise error("The text is nested too deeply.", "") from None
    return parsed


def _place_of_detail(text: str, detail: dict[str, Any], word: str) -> Place | None:
    if "line" not in detail:
        return None
    lines = text.split("\n")
    end = sum(len(line) + 1 for line in lines[: int(detail["line"]) - 1]) + int(detail["col"])
    start = max(0, end - max(1, len(word)))
    return place_of(text, start, end)


def place_in(text: str, node: Any) -> Place | None:
    """Where the first name inside `node` stands in the text, or the function's name itself."""
    if isinstance(node, exp.Func):
        name = node.name if isinstance(node, exp.Anonymous) else node.sql_name()
        found = re.search(rf"\b{re.escape(str(name))}\s*\(", text, re.IGNORECASE)
        if found:
            return place_of(text, found.start(), found.start() + len(str(name)))
    for part in node.walk(bfs=False):
        if isinstance(part, exp.Identifier) and "start" in part.meta:
            last = node.this if isinstance(node, exp.Column) and isinstance(node.this, exp.Identifier) else part
            return place_of(text, int(part.meta["start"]), int(last.meta.get("end", part.meta["end"])) + 1)
    return None


def literal_of(node: Any) -> Literal | None:
    """The value of a literal, signed numbers and DATE/TIMESTAMP literals included; None for anything else."""
    if isinstance(node, exp.Paren):
        return literal_of(node.this)
    if isinstance(node, exp.Null):
        return Literal(None)
    if isinstance(node, exp.Boolean):
        return Literal(bool(node.this))
    if isinstance(node, exp.Neg):
        inner = literal_of(node.this)
        return Literal(-inner.value) if inner and isinstance(inner.value, (int, Decimal)) else None
    if isinstance(node, exp.Literal):
        if node.is_string:
            return Literal(node.name)
        return Literal(int(node.name) if node.name.isdigit() else Decimal(node.name))
    if isinstance(node, exp.Cast) and isinstance(node.this, exp.Literal) and node.this.is_string:
        if node.to.this in (exp.DataType.Type.DATE,):
            return _moment(node.name, dt.date.fromisoformat)
        if node.to.this in exp.DataType.TEMPORAL_TYPES:
            return _moment(node.name, dt.datetime.fromisoformat)
    return None


def _moment(text: str, read: Callable[[str], Any]) -> Literal:
    try:
        return Literal(read(text))
    except ValueError:
        raise ConditionError(f"{text!r} is not a date or time.", "Write it like '2031-05-28 23:00'.") from None


def like_regex(pattern: str, escape: str | None = "\\") -> str:
    """A LIKE pattern as a regular expression for the whole text (ISO 9075: % any text, _ any character)."""
    out, at = [], 0
    while at < len(pattern):
        char = pattern[at]
        if escape and char == escape and at + 1 < len(pattern):
            at += 1
            out.append(re.escape(pattern[at]))
        else:
            out.append({"%": ".*", "_": "."}.get(char, re.escape(char)))
        at += 1
    return "".join(out)


class _Reader:
    """Turns sqlglot's tree into our nodes for one table."""

    def __init__(self, text: str, table: Table) -> None:
        self.text = text
        self.table = table

    def condition(self, node: Any) -> Node:
        if isinstance(node, exp.Paren):
            return self.condition(node.this)
        if is_negated(node):
            return Not(self.condition(positive(node)))
        if isinstance(node, (exp.NullSafeEQ, exp.NullSafeNEQ)):
            same = self._same(self.operand(node.left), self.operand(node.right))
            return same if isinstance(node, exp.NullSafeEQ) else Not(same)
        if isinstance(node, exp.And):
            return All((self.condition(node.left), self.condition(node.right)))
        if isinstance(node, exp.Or):
            return Any_((self.condition(node.left), self.condition(node.right)))
        if isinstance(node, exp.Not):
            return Not(self.condition(node.this))
        if (of_list := self._any_of(node)) is not None:
            return of_list
        if type(node).__name__ in _COMPARE:
            return Compare(_COMPARE[type(node).__name__], self.operand(node.left), self.operand(node.right))
        if isinstance(node, exp.Is) and isinstance(node.expression, exp.Null):
            return IsEmpty(self.operand(node.this))
        if isinstance(node, exp.Is) and isinstance(node.expression, exp.Boolean):
            truth = Compare("=", self.operand(node.this), Literal(bool(node.expression.this)))
            return All((Not(IsEmpty(self.operand(node.this))), truth))
        if isinstance(node, exp.Between):
            low, high = node.args["low"], node.args["high"]
            of = self.operand(node.this)
            return All((Compare(">=", of, self.operand(low)), Compare("<=", of, self.operand(high))))
        if isinstance(node, exp.In):
            return self._among(node)
        if isinstance(node, (exp.Like, exp.ILike, exp.Escape)):
            return self._like(node)
        if isinstance(node, (exp.RegexpLike, exp.RegexpILike)):
            return self._regex(node)
        if isinstance(node, (exp.Column, exp.Dot, exp.Boolean)):
            return Truth(self.operand(node))
        raise self._unsupported(node)

    @staticmethod
    def _same(left: Operand, right: Operand) -> Node:
        """IS NOT DISTINCT FROM: never unknown."""
        empties = (IsEmpty(left), IsEmpty(right))
        return Any_((All(empties), All((Compare("=", left, right), *(Not(e) for e in empties)))))

    def _among(self, node: Any) -> Node:
        values = [literal_of(item) for item in node.expressions]
        if not values or None in values:
            raise ConditionError("IN takes a list of values here.", "Write it like river in ('Merrow', 'Sallow').")
        return Among(self.operand(node.this), tuple(v.value for v in values if v is not None))

    def _like(self, node: Any) -> Node:
        escape = "\\"
        if isinstance(node, exp.Escape):
            escape, node = node.expression.name, node.this
        pattern = literal_of(node.expression)
        if pattern is None or not isinstance(pattern.value, str):
            raise ConditionError("LIKE takes a pattern in quotes.", "Write it like note like '%debris%'.")
        inner = pattern.value[1:-1]
        wild, folded = {"%", "_", escape}, isinstance(node, exp.ILike)
        contains = inner if pattern.value[:1] == pattern.value[-1:] == "%" and not set(inner) & wild and inner else None
        first = pattern.value[:-1]
        begins = first if pattern.value[-1:] == "%" and not set(first) & wild and first else None
        return Like(self.operand(node.this), like_regex(pattern.value, escape), folded, contains, begins)

    def _any_of(self, node: Any) -> Node | None:
        """'x' = any(tags), any(tags) like 'x%': some item of a list."""
        sides = (node.args.get("this"), node.args.get("expression"))
        if not any(isinstance(side, exp.Any) for side in sides) or isinstance(node, (exp.Not, exp.Paren)):
            return None
        is_left = isinstance(sides[0], exp.Any)
        items = self.operand(sides[0 if is_left else 1].this)
        if type(node).__name__ in _COMPARE:
            op = _COMPARE[type(node).__name__]
            return AnyOf(items, op if is_left else _SWAPPED.get(op, op), self.operand(sides[1 if is_left else 0]))
        if isinstance(node, (exp.Like, exp.ILike, exp.RegexpLike, exp.RegexpILike)) and is_left:
            plain = node.copy()
            plain.set("this", sides[0].this)
            made = self.condition(plain)
            if isinstance(made, Like):
                return AnyOf(items, like=made)
        raise self._unsupported(node)

    def _regex(self, node: Any) -> Node:
        """x ~ 'pattern', ~* without regard to case, or regexp_like(x, 'pattern'): a part of the text matches."""
        pattern = literal_of(node.expression)
        if pattern is None or not isinstance(pattern.value, str):
            raise ConditionError("A regular expression stands in quotes.", "Write it like note ~ '^ice|debris$'.")
        flags = node.args.get("flag")
        folded = isinstance(node, exp.RegexpILike) or (flags is not None and "i" in flags.name)
        tester(pattern.value, not folded)  # says what is wrong with it
        return Like(self.operand(node.this), pattern.value, folded, finds=True)

    def operand(self, node: Any) -> Operand:
        literal = literal_of(node)
        if literal is not None:
            return literal
        if isinstance(node, exp.Paren):
            return self.operand(node.this)
        if isinstance(node, exp.Neg):
            return Call("neg", (self.operand(node.this),))
        made = self._function(node)
        if made is not None:
            return made
        if type(node).__name__ in _ARITHMETIC:
            return Call(_ARITHMETIC[type(node).__name__], (self.operand(node.left), self.operand(node.right)))
        if isinstance(node, (exp.Column, exp.Dot)):
            return self.column(node)
        if isinstance(node, exp.Placeholder):
            raise ConditionError(f"The parameter :{node.name} has no value.", "Give it one beside the query.")
        raise self._unsupported(node)

    def _function(self, node: Any) -> Operand | None:
        """A function of other operands; None for what is none."""
        kind = type(node).__name__
        if kind in ("Add", "Sub") and isinstance(node.right, exp.Interval):
            return self._moved(node)
        if kind == "Window":
            return windowed(node, self.operand, place_in(self.text, node))
        if kind in _FUNCTIONS:
            given = [node.this, node.args.get("expression"), *(node.args.get("expressions") or ())]
            return self._call(_FUNCTIONS[kind], [a for a in given if a is not None])
        if kind in _PARTS:
            return Call("extract", (Literal(_PARTS[kind]), self.operand(node.this)))
        if kind == "Extract":
            return Call("extract", (Literal(node.this.name.lower()), self.operand(node.expression)))
        if kind in ("TimestampTrunc", "DateTrunc"):
            return Call("date_trunc", (Literal(str(node.args["unit"]).lower()), self.operand(node.this)))
        if kind == "Trim":
            side = str(node.args.get("position") or "").upper()
            return self._call({"LEADING": "ltrim", "TRAILING": "rtrim"}.get(side, "trim"), [node.this])
        if kind == "Round":
            return self._call("round", [a for a in (node.this, node.args.get("decimals")) if a is not None])
        if kind == "Substring":
            return self._call("substring", [a for a in (node.this, node.args["start"], node.args.get("length")) if a])
        if kind == "Replace":
            return self._call(
                "replace", [node.this, node.expression, node.args.get("replacement") or exp.Literal.string("")]
            )
        if kind == "StrPosition":
            return self._call("position", [node.this, node.args["substr"]])
        if kind == "SplitPart":
            return self._call("split_part", [node.this, node.args["delimiter"], node.args["part_index"]])
        if kind == "TimeToStr":
            return self._call("to_char", [node.this, node.args["format"]])
        if kind == "DateDiff":
            return self._call("days", [node.this, node.expression])
        if kind in ("Cast", "TryCast"):
            wanted = CASTS.get(node.to.this.value.lower())
            if wanted is None:
                raise ConditionError(f"A value can't be made {node.to.sql().lower()}.", "", place_in(self.text, node))
            return Call("cast", (self.operand(node.this), Literal(wanted)))
        if kind in ("CurrentDate", "CurrentTimestamp"):
            now = dt.datetime.now().replace(microsecond=0)
            return Literal(now.date() if kind == "CurrentDate" else now)
        if kind == "Case":
            return self._case(node)
        if kind == "If":
            other = node.args.get("false")
            return Case(((self.condition(node.this), self.operand(node.args["true"])),),
                        self.operand(other) if other is not None else Literal(None))  # fmt: skip
        if kind == "Anonymous" and str(node.this).lower() == "age" and len(node.expressions) in (1, 2):
            ends = [self.operand(e) for e in node.expressions]
            return Call("days", tuple(ends) if len(ends) == 2 else (Literal(dt.date.today()), ends[0]))
        if isinstance(node, exp.Predicate) or kind in ("And", "Or", "Not", "Between"):
            test = self.condition(node)
            return Case(((test, Literal(True)), (Not(test), Literal(False))), Literal(None))
        return None

    def _call(self, name: str, arguments: list[Any]) -> Call:
        return Call(name, tuple(self.operand(a) for a in arguments))

    def _moved(self, node: Any) -> Call:
        amount, unit = str(node.right.this.name), str(node.right.args.get("unit") or "").lower().removesuffix("s")
        if not amount.lstrip("-").isdigit() or unit not in (
            "second",
            "minute",
            "hour",
            "day",
            "week",
            "month",
            "quarter",
            "year",
        ):
            raise ConditionError(
                "This interval is not understood.", "Write it like interval '3 days'.", place_in(self.text, node)
            )
        count = int(amount) * (1 if isinstance(node, exp.Add) else -1)
        return Call("moved", (self.operand(node.left), Literal(count), Literal(unit)))

    def _case(self, node: Any) -> Case:
        branches = []
        for branch in node.args["ifs"]:
            test = branch.this if node.this is None else exp.EQ(this=node.this.copy(), expression=branch.this.copy())
            branches.append((self.condition(test), self.operand(branch.args["true"])))
        default = node.args.get("default")
        return Case(tuple(branches), self.operand(default) if default is not None else Literal(None))

    def column(self, node: Any) -> ColumnAt:
        parts = name_parts(node)
        if parts is None:
            raise self._unsupported(node)
        dotted = ".".join(parts)
        try:
            return ColumnAt(self.table.index(dotted))
        except KeyError:
            pass
        for place, field in enumerate(self.table.fields):
            if field.origin and field.origin.casefold() == dotted.casefold():
                return ColumnAt(place)
        try:
            path = tuple(int(p) if p.isdigit() else p for p in parts[1:])
            return ColumnAt(self.table.index(parts[0]), path)
        except KeyError:
            names = [field.name for field in self.table.fields]
            near = nearest(parts[0], names)
            hint = f"The nearest name is {near}." if near else f"The columns are {', '.join(names[:8])}."
            raise ConditionError(f"There is no column {parts[0]}.", hint, place_in(self.text, node)) from None

    def _unsupported(self, node: Any) -> ConditionError:
        if isinstance(node, exp.Func):
            name = node.name if isinstance(node, exp.Anonymous) else node.sql_name().lower()
            near = nearest(str(name), re.findall(r"\w+", _SAID))
            hint = f"The nearest is {near}." if near else f"There are {_SAID}."
            return ConditionError(f"There is no function {name} here.", hint, place_in(self.text, node))
        return ConditionError(f"{node.sql()[:60]} can't be used here.", "", place_in(self.text, node))


def is_negated(node: Any) -> bool:
    """True for NOT LIKE and IS NOT, which the parser keeps as a mark on the node."""
    return bool((node.this if isinstance(node, exp.Escape) else node).args.get("negate"))


def positive(node: Any) -> Any:
    """A copy without that mark."""
    copy = node.copy()
    (copy.this if isinstance(copy, exp.Escape) else copy).set("negate", None)
    return copy


def name_parts(node: Any) -> list[str] | None:
    """The names of a dotted path, outermost first, or None when it is something else."""
    if isinstance(node, exp.Column):
        parts = [part.name for part in node.parts]
        return parts if all(parts) else None
    if isinstance(node, exp.Dot):
        left = name_parts(node.this)
        return [*left, node.expression.name] if left is not None and node.expression.name else None
    if isinstance(node, exp.Bracket) and len(node.expressions) == 1:
        left = name_parts(node.this)
        return [*left, node.expressions[0].name] if left is not None else None
    return None


def nearest(name: str, names: list[str]) -> str:
    """The name most like `name`, or ""."""
    folded = {n.casefold(): n for n in names}
    near = difflib.get_close_matches(name.casefold(), list(folded), n=1, cutoff=0.5)
    return folded[near[0]] if near else ""
