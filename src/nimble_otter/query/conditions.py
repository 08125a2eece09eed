"""The local language: SQL conditions and expressions over the columns of a table, read into our own nodes. What each
function takes and gives stands in meaning.py; whatever is not understood is refused at its place, never left out."""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Callable, Iterable
from functools import cache, wraps
from typing import Any, TypeVar

from nimble_otter.errors import ConditionError
from nimble_otter.query import meaning
from nimble_otter.query.lazy import exp
from nimble_otter.query.meaning import Mismatch
from nimble_otter.query.parsed import (
    is_negated,
    literal_of,
    name_parts,
    nearest,
    parse_sql,
    place_in,
    positive,
)
from nimble_otter.query.windowed import windowed
from nimble_otter.table.columns import Kind, Table
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
from nimble_otter.table.dates import in_zone, parse_interval, to_char, unit_of
from nimble_otter.table.filter import fitted
from nimble_otter.table.patterns import like_regex, tester

_COMPARE = {"EQ": "=", "NEQ": "<>", "LT": "<", "LTE": "<=", "GT": ">", "GTE": ">="}
_SIGNS = {"Add": "+", "Sub": "-", "Mul": "*", "Div": "/", "Mod": "%"}
_PARTS = {"year": "year", "month": "month", "day": "day", "hour": "hour", "minute": "minute", "second": "second",
          "week": "week", "quarter": "quarter", "dayofweek": "dow", "dayofyear": "doy",
          "dayofmonth": "day"}  # fmt: skip
_SWAPPED = {"<": ">", "<=": ">=", ">": "<", ">=": "<="}
_WINDOWED = (
    "SUM", "COUNT", "AVG", "MIN", "MAX", "ROW_NUMBER", "RANK", "DENSE_RANK", "PERCENT_RANK", "CUME_DIST", "NTILE",
    "LAG", "LEAD", "FIRST_VALUE", "LAST_VALUE", "NTH_VALUE", "STDDEV", "STDDEV_SAMP", "STDDEV_POP", "VARIANCE",
    "VAR_SAMP", "VAR_POP", "MEDIAN", "REGEXP_LIKE", "ARRAY",
)  # fmt: skip
_SPELLED = ("CAST", "TRY_CAST", "EXTRACT", "POSITION", "SUBSTRING", "TRIM", "OVERLAY")
_CONDITIONS = ("And", "Or", "Not", "Between", "Escape", "Is", "In", "Like", "ILike", "RegexpLike", "RegexpILike",
               "NullSafeEQ", "NullSafeNEQ")  # fmt: skip
_NOW = ("now", "localtimestamp", "current_timestamp", "transaction_timestamp", "statement_timestamp")


Made = TypeVar("Made")


@cache
def local_dialect() -> Any:
    """PostgreSQL's grammar, in which functions stay as they are written but for windows and those with a syntax of
    their own; empties are last in any order, as they are here."""
    from sqlglot.dialects.postgres import Postgres

    class Local(Postgres):  # type: ignore[misc]
        NULL_ORDERING = "nulls_are_last"

        class Parser(Postgres.Parser):  # type: ignore[misc]
            FUNCTIONS = {name: Postgres.Parser.FUNCTIONS[name] for name in _WINDOWED}
            FUNCTION_PARSERS = {name: Postgres.Parser.FUNCTION_PARSERS[name] for name in _SPELLED}

    return Local


def parse_condition(text: str, table: Table) -> Node:
    """Parse a condition over the table's columns.

    Names are the result's column names (quoted with " where need be), their origins (station.name), or a column with a
    dotted path into its nested values. Raises: ConditionError with its place.
    """
    if not text.strip():
        raise ConditionError("The condition is empty.", "Write one, such as level_m > 0.3.")
    parsed = parse_sql(text, local_dialect(), ConditionError)
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


def _told(read: Callable[[_Reader, Any], Made]) -> Callable[[_Reader, Any], Made]:
    """What does not go together is said of the node that is read."""

    @wraps(read)
    def tell(self: _Reader, node: Any) -> Made:
        try:
            return read(self, node)
        except Mismatch as problem:
            said, hint = problem.args
            raise ConditionError(f"{_name_of(node)} {said}.", hint, place_in(self.text, node)) from None
        except ConditionError as wrong:
            if wrong.place is None:
                wrong.place = place_in(self.text, node)
            raise

    return tell


class _Reader:
    """Turns sqlglot's tree into our nodes for one table."""

    def __init__(self, text: str, table: Table) -> None:
        self.text = text
        self.table = table

    # --- conditions ----------------------------------------------------------------------------------------------

    @_told
    def condition(self, node: Any) -> Node:
        if isinstance(node, exp.Paren):
            return self.condition(node.this)
        if is_negated(node):
            return Not(self.condition(positive(node)))
        if isinstance(node, (exp.And, exp.Or)):
            return (All if isinstance(node, exp.And) else Any_)((self.condition(node.left), self.condition(node.right)))
        if isinstance(node, exp.Not):
            return Not(self.condition(node.this))
        if (of_list := self._any_of(node)) is not None:
            return of_list
        if isinstance(node, (exp.NullSafeEQ, exp.NullSafeNEQ)):
            same = self._same(node.left, node.right)
            return same if isinstance(node, exp.NullSafeEQ) else Not(same)
        if type(node).__name__ in _COMPARE:
            return self._compared(_COMPARE[type(node).__name__], node.left, node.right)
        if isinstance(node, exp.Is):
            return self._is(node)
        if isinstance(node, exp.Between):
            return self._between(node)
        if isinstance(node, exp.In):
            return self._among(node)
        if isinstance(node, (exp.Like, exp.ILike, exp.Escape)):
            return self._like(node)
        if isinstance(node, (exp.RegexpLike, exp.RegexpILike)):
            return self._regex(node)
        operand = self.operand(node)
        kind = meaning.kind_of(operand, self.table)
        if kind not in (None, Kind.BOOL) or isinstance(getattr(operand, "value", None), str):
            said = meaning.SAID[kind or Kind.TEXT]
            raise Mismatch(f"is {said}, not a condition", "Compare it with something, such as ... > 0.")
        return Truth(operand)

    def _compared(self, op: str, left: Any, right: Any) -> Node:
        if isinstance(left, exp.Tuple) and isinstance(right, exp.Tuple):
            return self._rows_compared(op, left, right)
        return self._compare(op, self.operand(left), self.operand(right))

    def _compare(self, op: str, left: Operand, right: Operand) -> Compare:
        """A comparison of two operands whose kinds go together. Raises: Mismatch, ConditionError."""
        one, other = meaning.kind_of(left, self.table), meaning.kind_of(right, self.table)
        for literal, kind, of in ((left, other, right), (right, one, left)):
            if isinstance(literal, Literal) and literal.value is not None and kind is not None:
                name = self.table.fields[of.index].name if isinstance(of, ColumnAt) else "This side"
                fitted(literal.value, kind, name)
        if isinstance(left, Literal) ^ isinstance(right, Literal):
            left, right = _as_text_of(left, other), _as_text_of(right, one)
        elif {one, other} == {Kind.CLOCK, Kind.SPAN}:
            left, right = meaning.as_span(left, self.table), meaning.as_span(right, self.table)
        elif one is not None and other is not None and not meaning.go_together(one, other):
            said = f"can't compare {meaning.SAID[one]} with {meaning.SAID[other]}"
            raise Mismatch(said, "Write one of them in a cast, such as cast(... as text).")
        return Compare(op, left, right)

    def _rows_compared(self, op: str, left: Any, right: Any) -> Node:
        if op not in ("=", "<>") or len(left.expressions) != len(right.expressions):
            raise Mismatch("compares rows of as many values by = and <> only", "")
        pairs = zip(left.expressions, right.expressions, strict=True)
        same = All(tuple(self._compared("=", a, b) for a, b in pairs))
        return same if op == "=" else Not(same)

    def _is(self, node: Any) -> Node:
        said = node.expression
        if isinstance(said, exp.Null):
            return IsEmpty(self.operand(node.this))
        if isinstance(said, exp.Boolean):
            test = self.condition(node.this)
            return All((Not(IsEmpty(_as_value(test))), test if said.this else Not(test)))
        raise self._unsupported(node)

    def _same(self, left: Any, right: Any) -> Node:
        """IS NOT DISTINCT FROM: never unknown."""
        one, other = self.operand(left), self.operand(right)
        empties = (IsEmpty(one), IsEmpty(other))
        return Any_((All(empties), All((self._compare("=", one, other), *(Not(e) for e in empties)))))

    def _between(self, node: Any) -> Node:
        of, low, high = self.operand(node.this), self.operand(node.args["low"]), self.operand(node.args["high"])
        made = All((self._compare(">=", of, low), self._compare("<=", of, high)))
        if node.args.get("symmetric"):
            return Any_((made, All((self._compare(">=", of, high), self._compare("<=", of, low)))))
        return made

    def _among(self, node: Any) -> Node:
        items = list(node.expressions)
        if not items:
            raise ConditionError("IN takes a list of values here.", "Write it like river in ('Merrow', 'Sallow').")
        if isinstance(node.this, exp.Tuple):
            return Any_(tuple(self._compared("=", node.this, item) for item in items))
        return self._in(self.operand(node.this), items)

    def _in(self, operand: Operand, items: Iterable[Any]) -> Node:
        made = [self.operand(item) for item in items]
        tests = tuple(self._compare("=", operand, other) for other in made)
        if all(isinstance(t.right, Literal) for t in tests):
            return Among(operand, tuple(t.right.value for t in tests if isinstance(t.right, Literal)))
        return Any_(tests)

    def _like(self, node: Any) -> Node:
        escape: Any = "\\"
        if isinstance(node, exp.Escape):
            said, node = literal_of(node.expression), node.this
            if said is None or not isinstance(said.value, str) or len(said.value) > 1:
                raise Mismatch("takes one character behind ESCAPE", "Write it like note like '10!%' escape '!'.")
            escape = said.value
        operand = meaning.wanted(self.operand(node.this), "any", self.table)
        pattern, folded = self.operand(node.expression), isinstance(node, exp.ILike)
        if not isinstance(pattern, Literal):
            meaning.wanted(pattern, "text", self.table)
            return Like(operand, escape, folded, pattern=pattern)
        text = pattern.value
        if not isinstance(text, str):
            raise ConditionError("LIKE takes a pattern in quotes.", "Write it like note like '%debris%'.")
        inner = text[1:-1]
        wild = {"%", "_", escape}
        contains = inner if text[:1] == text[-1:] == "%" and not set(inner) & wild and inner else None
        first = text[:-1]
        begins = first if text[-1:] == "%" and not set(first) & wild and first else None
        return Like(operand, like_regex(text, escape), folded, contains, begins)

    def _any_of(self, node: Any) -> Node | None:
        """'x' = any(tags), any(tags) like 'x%', x = any(array['a', 'b']): some item of a list; or each, with all."""
        sides = [node.args.get("this"), node.args.get("expression")]
        names = [_quantifier(side) for side in sides]
        if not any(names) or isinstance(node, (exp.Not, exp.Paren)):
            return None
        at = 0 if names[0] else 1
        inner = sides[at].this if names[at] == "any" else sides[at].expressions[0]
        inner = inner.this if isinstance(inner, exp.Paren) else inner
        if isinstance(inner, exp.Array):
            tests = []
            for item in inner.expressions:
                one = node.copy()
                one.set("this" if at == 0 else "expression", item.copy())
                tests.append(self.condition(one))
            return (Any_ if names[at] == "any" else All)(tuple(tests))
        if names[at] == "all":
            raise self._unsupported(sides[at])
        items = self.operand(inner)
        if type(node).__name__ in _COMPARE:
            op = _COMPARE[type(node).__name__]
            return AnyOf(items, op if at == 0 else _SWAPPED.get(op, op), self.operand(sides[1 - at]))
        if isinstance(node, (exp.Like, exp.ILike, exp.RegexpLike, exp.RegexpILike)) and at == 0:
            plain = node.copy()
            plain.set("this", inner.copy())
            made = self.condition(plain)
            if isinstance(made, Like) and made.pattern is None:
                return AnyOf(items, like=made)
        raise self._unsupported(node)

    def _regex(self, node: Any) -> Node:
        """x ~ 'pattern', ~* without regard to case, or regexp_like(x, 'pattern'): a part of the text matches."""
        pattern = literal_of(node.expression)
        if pattern is None or not isinstance(pattern.value, str):
            raise ConditionError("A regular expression stands in quotes.", "Write it like note ~ '^ice|debris$'.")
        flags = literal_of(node.args["flag"]) if node.args.get("flag") is not None else Literal("")
        if flags is None or not isinstance(flags.value, str) or set(flags.value) - {"i", "c"}:
            raise Mismatch("knows the flags 'i' and 'c' only", "")
        folded = isinstance(node, exp.RegexpILike) or "i" in flags.value
        tester(pattern.value, not folded)  # says what is wrong with it
        return Like(self.operand(node.this), pattern.value, folded, finds=True)

    # --- operands ------------------------------------------------------------------------------------------------

    @_told
    def operand(self, node: Any) -> Operand:
        literal = None if isinstance(node, exp.Cast) else literal_of(node)
        if literal is not None:
            return literal
        if isinstance(node, exp.Paren):
            return self.operand(node.this)
        if isinstance(node, (exp.Column, exp.Dot, exp.Bracket)):
            return self.column(node)
        if isinstance(node, exp.Placeholder):
            raise ConditionError(f"The parameter :{node.name} has no value.", "Give it one beside the query.")
        kind = type(node).__name__
        if kind == "Neg":
            inner = self.operand(node.this)
            found = meaning.kind_of(inner, self.table)
            inner = inner if found is Kind.SPAN else meaning.wanted(inner, "number", self.table)
            return Call("neg", (inner,), found)
        if kind in _SIGNS:
            return self._joined(node, _SIGNS[kind])
        if kind == "DPipe":
            return self._written_together(self.operand(node.left), self.operand(node.right))
        if kind == "Window":
            return windowed(node, self.operand, place_in(self.text, node))
        made = self._function(node, kind)
        if made is None:
            raise self._unsupported(node)
        return made

    def _function(self, node: Any, kind: str) -> Operand | None:
        """A function of other operands; None for what is none."""
        if kind in ("Anonymous", "Anonymousagg"):
            return self._called(str(node.this).lower(), list(node.expressions), node)
        if kind == "Pow":
            return self._called("power", [node.this, node.expression], node)
        if kind == "Extract":
            return self._extract(node.this.name, node.expression)
        if kind == "Trim":
            side = {"LEADING": "ltrim", "TRAILING": "rtrim"}.get(str(node.args.get("position") or "").upper(), "trim")
            return self._called(
                side, [node.this, node.expression] if node.args.get("expression") else [node.this], node
            )
        if kind in ("Substring", "Overlay"):
            names = ("this", "start", "length") if kind == "Substring" else ("this", "expression", "from_", "for_")
            return self._called(kind.lower(), [a for a in map(node.args.get, names) if a is not None], node)
        if kind == "StrPosition":
            return self._called("position", [node.this, node.args["substr"]], node)
        if kind in ("Cast", "TryCast"):
            return self._cast(node)
        if kind == "Interval":
            months, span = self._interval(node)
            if months:
                raise Mismatch(
                    "of months has no fixed length", "Add it to a date or time, such as day + interval '1 month'."
                )
            return Literal(span)
        if kind == "AtTimeZone":
            return self._in_zone(node)
        if kind in ("CurrentDate", "CurrentTimestamp", "Localtimestamp"):
            now = dt.datetime.now().replace(microsecond=0)
            return Literal(now.date() if kind == "CurrentDate" else now)
        if kind == "Case":
            return self._case(node)
        if kind == "If":
            branches = ((node.this, node.args["true"]),)
            return self._chosen([(self.condition(t), self.operand(v)) for t, v in branches], node.args.get("false"))
        if kind in _CONDITIONS or kind in _COMPARE:
            return _as_value(self.condition(node))
        return None

    def _joined(self, node: Any, sign: str) -> Operand:
        sides = [node.left, node.right]
        at = next((n for n, side in enumerate(sides) if isinstance(_bare(side), exp.Interval)), None)
        if at is not None and (at == 1 or sign == "+") and sign in "+-":
            months, span = self._interval(_bare(sides[at]))
            if months:
                return self._moved(self.operand(sides[1 - at]), months, span, -1 if sign == "-" else 1)
        left, right, gives = meaning.combined(sign, self.operand(node.left), self.operand(node.right), self.table)
        return Call(sign, (left, right), gives)

    def _moved(self, operand: Operand, months: int, span: dt.timedelta, sign: int) -> Operand:
        operand = meaning.wanted(operand, "moment", self.table)
        kind = meaning.kind_of(operand, self.table)
        kind = kind if kind is Kind.ZONED else Kind.TIME
        made = Call("moved", (operand, Literal(sign * months)), kind)
        return Call("+", (made, Literal(sign * span)), kind) if span else made

    def _interval(self, node: Any) -> tuple[int, dt.timedelta]:
        said = f"{node.this.name} {node.args.get('unit') or ''}" if isinstance(node.this, exp.Literal) else ""
        try:
            return parse_interval(said)
        except (ValueError, OverflowError):
            raise ConditionError(
                "This interval is not understood.", "Write it like interval '3 days'.", place_in(self.text, node)
            ) from None

    def _written_together(self, left: Operand, right: Operand) -> Operand:
        kinds = [meaning.kind_of(o, self.table) for o in (left, right)]
        is_text = any(k in (None, Kind.TEXT) for k in kinds)
        if not is_text:
            raise Mismatch(f"joins texts; here stand {meaning.SAID[kinds[0] or Kind.TEXT]} and "
                           f"{meaning.SAID[kinds[1] or Kind.TEXT]}", "Write one as cast(... as text).")  # fmt: skip
        return Call("||", (left, right), Kind.TEXT)

    def _called(self, name: str, arguments: list[Any], node: Any) -> Operand:
        """A function by its name, with its arguments as it takes them. Raises: ConditionError, Mismatch."""
        name = meaning.ALIKE.get(name, name)
        if name in _PARTS and len(arguments) == 1:
            return self._extract(_PARTS[name], arguments[0])
        if name in _NOW and not arguments:
            return Literal(dt.datetime.now().replace(microsecond=0))
        form = meaning.FORMS.get(name)
        if form is None:
            raise self._unsupported(node)
        if not form.fits(len(arguments)):
            some = str(form.least) if form.least == len(form.takes) else f"{form.least} to {len(form.takes)}"
            some = f"at least {form.least}" if form.many else some
            raise Mismatch(f"takes {some} arguments; {len(arguments)} stand here", f"It is {form.written}.")
        if form.takes[0] == "unit":
            unit = literal_of(arguments[0])
            if unit is None or not isinstance(unit.value, str):
                raise Mismatch("takes its unit in quotes", "Write it like date_trunc('month', day).")
            return self._extract(unit.value, arguments[1]) if name == "extract" else self._cut(unit.value, arguments[1])
        operands = tuple(self.operand(a) for a in arguments)
        if name == "nullif":
            left, right = (
                meaning.like_other(o, meaning.kind_of(operands[1 - n], self.table)) for n, o in enumerate(operands)
            )
            self._compare("=", left, right)
            return Call(name, (left, right), meaning.kind_of(left, self.table))
        if form.takes == ("any",) and form.gives is None:
            operands, gives = meaning.alike(operands, self.table)
            return Call(name, operands, gives)
        fitting = tuple(meaning.wanted(o, form.wants(n), self.table) for n, o in enumerate(operands))
        gives = form.gives or meaning.kind_of(fitting[0], self.table)
        if name == "mod":
            left, right, gives = meaning.combined("%", fitting[0], fitting[1], self.table)
            return Call("%", (left, right), gives)
        if name == "regexp_replace":
            self._check_pattern(fitting)
        if name == "to_char" and isinstance(fitting[1], Literal):
            self._check_form(str(fitting[1].value))
        return Call(meaning.CALLED.get(name, name), fitting, gives)

    def _check_pattern(self, operands: tuple[Operand, ...]) -> None:
        flags = operands[3].value if len(operands) > 3 and isinstance(operands[3], Literal) else ""
        if len(operands) > 3 and (not isinstance(flags, str) or set(flags) - {"g", "i", "c"}):
            raise Mismatch("knows the flags 'g', 'i' and 'c' only", "")
        if isinstance(operands[1], Literal) and isinstance(operands[1].value, str):
            tester(operands[1].value, True)  # says what is wrong with it

    def _check_form(self, form: str) -> None:
        try:
            to_char(dt.datetime(2031, 5, 28), form)
        except ValueError as problem:
            raise Mismatch(f"knows no {problem} in a form", "Write it like 'YYYY-MM-DD HH24:MI:SS'.") from None

    def _extract(self, part: str, of: Any) -> Operand:
        operand = meaning.wanted(self.operand(of), "part", self.table)
        found = unit_of(part) or part.lower()
        gives = meaning.check_part(found, operand, self.table)
        return Call("extract", (Literal(found), operand), gives)

    def _cut(self, unit: str, of: Any) -> Operand:
        found = unit_of(unit) or unit.lower()
        meaning.check_unit(found)
        operand = meaning.wanted(self.operand(of), "moment", self.table)
        zoned = meaning.kind_of(operand, self.table) is Kind.ZONED
        return Call("date_trunc", (Literal(found), operand), Kind.ZONED if zoned else Kind.TIME)

    def _cast(self, node: Any) -> Operand:
        said = node.to.this.value.lower() if hasattr(node.to.this, "value") else ""
        target = meaning.CASTS.get(said)
        sizes = [literal_of(p.this) for p in node.to.expressions]
        is_sized = target == "decimal" or (target == "text" and said != "text")
        bad = any(s is None or type(s.value) is not int or s.value < 0 for s in sizes) or (sizes and not is_sized)
        if target is None or bad or len(sizes) > (2 if target == "decimal" else 1):
            name = node.to.sql(dialect="postgres").lower()
            raise ConditionError(f"A value can't be made {name}.", f"There are {', '.join(meaning.CASTS)}.",
                                 place_in(self.text, node))  # fmt: skip
        operand = self.operand(node.this)
        gives = meaning.cast_kind(operand, target, self.table)
        if isinstance(operand, Literal) and isinstance(operand.value, str) and not sizes:
            return self._read(operand, target)
        return Call("cast", (operand, Literal(target), *(s for s in sizes if s is not None)), gives)

    def _read(self, operand: Literal, target: str) -> Operand:
        """A text in quotes read when the expression is: date '2031-05-28'. Raises: ConditionError."""
        try:
            return meaning.adapted(operand, (target,), "") if target != "text" else operand
        except Mismatch:
            said = meaning.SAID[meaning.cast_kind(operand, target, self.table)]
            hint = "Write it like '2031-05-28 23:00'." if target in ("date", "time", "zoned") else ""
            raise ConditionError(f"{operand.value!r} is not {said}.", hint) from None

    def _in_zone(self, node: Any) -> Operand:
        zone = literal_of(node.args["zone"])
        operand = meaning.wanted(self.operand(node.this), "stamp", self.table)
        if zone is None or not isinstance(zone.value, str):
            raise Mismatch("takes a zone in quotes", "Write it like at at time zone 'Europe/Vienna'.")
        try:
            in_zone(zone.value, dt.datetime(2031, 5, 28))
        except ValueError:
            raise Mismatch(f"knows no zone {zone.value}", "Write it like 'Europe/Vienna' or 'UTC'.") from None
        zoned = meaning.kind_of(operand, self.table) is Kind.ZONED
        return Call("in_zone", (zone, operand), Kind.TIME if zoned else Kind.ZONED)

    def _case(self, node: Any) -> Operand:
        branches = []
        for branch in node.args["ifs"]:
            test = branch.this if node.this is None else exp.EQ(this=node.this.copy(), expression=branch.this.copy())
            branches.append((self.condition(test), self.operand(branch.args["true"])))
        return self._chosen(branches, node.args.get("default"))

    def _chosen(self, branches: list[tuple[Node, Operand]], otherwise: Any) -> Case:
        default = self.operand(otherwise) if otherwise is not None else Literal(None)
        values, _ = meaning.alike([*(value for _, value in branches), default], self.table)
        tests = [test for test, _ in branches]
        return Case(tuple(zip(tests, values[:-1], strict=True)), values[-1])

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
        place = place_in(self.text, node)
        if isinstance(node, exp.Bracket):
            hint = "Items are counted from 1 in brackets, from 0 behind a point: tags[1] is tags.0."
            return ConditionError("There is no such item.", hint, place)
        if isinstance(node, exp.Func):
            name = _name_of(node)
            if name == "age":
                return ConditionError("age gives months and days, which no column here holds.",
                                      "Subtract the times: a - b; or write datediff(a, b).", place)  # fmt: skip
            near = nearest(name, list(meaning.FORMS))
            hint = (
                f"The nearest is {meaning.FORMS[near].written}." if near else f"There are {', '.join(meaning.FORMS)}."
            )
            return ConditionError(f"There is no function {name} here.", hint, place)
        return ConditionError(f"{node.sql()[:60]} can't be used here.", "", place)


def _bare(node: Any) -> Any:
    return _bare(node.this) if isinstance(node, exp.Paren) else node


def _quantifier(node: Any) -> str:
    if isinstance(node, exp.Any):
        return "any"
    is_all = isinstance(node, exp.Anonymous) and str(node.this).lower() == "all" and len(node.expressions) == 1
    return "all" if is_all else ""


def _as_value(test: Node) -> Case:
    """A condition as a value: true, false, or none where it is unknown."""
    return Case(((test, Literal(True)), (Not(test), Literal(False))), Literal(None))


def _as_text_of(operand: Operand, other: Kind | None) -> Operand:
    """A double that is written as a text ('NaN'), beside doubles."""
    return meaning.like_other(operand, other) if other is Kind.FLOAT else operand


def _name_of(node: Any) -> str:
    """What a message calls a node: the function as it is written, or the text itself."""
    if isinstance(node, exp.Anonymous):
        return str(node.this).lower()
    if type(node).__name__ in _SIGNS:
        return _SIGNS[type(node).__name__]
    if isinstance(node, exp.Func) and not isinstance(node, (exp.Case, exp.Cast)):
        return str(node.sql_name()).lower()
    return re.sub(r"\s+", " ", str(node.sql(dialect="postgres")))[:40]
