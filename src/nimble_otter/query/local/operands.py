"""Expressions of the local language, read into our own nodes: functions, signs, casts, choices, names of columns. What
each takes and gives stands in meaning.py."""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Callable
from functools import wraps
from typing import Any, TypeVar

from nimble_otter.errors import ConditionError
from nimble_otter.query.lazy import exp
from nimble_otter.query.local import meaning
from nimble_otter.query.local.meaning import Mismatch
from nimble_otter.query.local.windowed import windowed
from nimble_otter.query.parsed import (
    literal_of,
    name_parts,
    nearest,
    place_in,
)
from nimble_otter.table.core.columns import Kind, Table
from nimble_otter.table.ops.conditions import (
    Call,
    Case,
    ColumnAt,
    Compare,
    Literal,
    Node,
    Not,
    Operand,
)
from nimble_otter.table.ops.dates import in_zone, parse_interval, to_char, unit_of
from nimble_otter.table.ops.windows import WINDOWS
from nimble_otter.table.text.patterns import tester
from nimble_otter.translation import tr

COMPARE = {"EQ": "=", "NEQ": "<>", "LT": "<", "LTE": "<=", "GT": ">", "GTE": ">="}
_SIGNS = {"Add": "+", "Sub": "-", "Mul": "*", "Div": "/", "Mod": "%"}
_PARTS = {"year": "year", "month": "month", "day": "day", "hour": "hour", "minute": "minute", "second": "second",
          "week": "week", "quarter": "quarter", "dayofweek": "dow", "dayofyear": "doy",
          "dayofmonth": "day"}  # fmt: skip
_CONDITIONS = ("And", "Or", "Not", "Between", "Escape", "Is", "In", "Like", "ILike", "RegexpLike", "RegexpILike",
               "NullSafeEQ", "NullSafeNEQ")  # fmt: skip
_NOW = ("now", "localtimestamp", "current_timestamp", "transaction_timestamp", "statement_timestamp")


Made = TypeVar("Made")
Parsed = TypeVar("Parsed", bound="exp.Expr")
Reader = TypeVar("Reader", bound="OperandReader")


def told(read: Callable[[Reader, Parsed], Made]) -> Callable[[Reader, Parsed], Made]:
    """What does not go together is said of the node that is read."""

    @wraps(read)
    def tell(self: Reader, node: Parsed) -> Made:
        try:
            return read(self, node)
        except Mismatch as problem:
            said, hint = problem.args
            raise ConditionError(f"{_name_of(node)} {said}.", hint, place_in(self.text, node)) from problem
        except ConditionError as wrong:
            if wrong.place is None:
                wrong.place = place_in(self.text, node)
            raise

    return tell


class OperandReader:
    """Turns sqlglot's tree into our operands for one table."""

    def __init__(self, text: str, table: Table) -> None:
        self.text = text
        self.table = table

    def condition(self, node: exp.Expr) -> Node:
        """A condition that stands inside an expression; see conditions.py."""
        raise NotImplementedError

    def _compare(self, op: str, left: Operand, right: Operand) -> Compare:
        raise NotImplementedError

    @told
    def operand(self, node: exp.Expr) -> Operand:
        """An expression as our own node. Raises: ConditionError with the place."""
        literal = None if isinstance(node, exp.Cast) else literal_of(node)
        if literal is not None:
            return literal
        if isinstance(node, exp.Paren):
            return self.operand(node.this)
        if isinstance(node, (exp.Column, exp.Dot, exp.Bracket)):
            return self.column(node)
        if isinstance(node, exp.Placeholder):
            raise ConditionError(
                tr("The parameter :{node_name} has no value.", node_name=node.name), tr("Give it one beside the query.")
            )
        kind = type(node).__name__
        if kind == "Neg":
            inner = self.operand(node.this)
            found = meaning.kind_of(inner, self.table)
            inner = inner if found is Kind.SPAN else meaning.wanted(inner, "number", self.table)
            return Call("neg", (inner,), found)
        if kind in _SIGNS:
            return self._joined(node, _SIGNS[kind])
        if kind == "DPipe":
            return self._written_together(self.operand(node.this), self.operand(node.expression))
        if kind == "Window":
            return windowed(node, self.operand, place_in(self.text, node))
        made = self._function(node, kind)
        if made is None:
            raise self._unsupported(node)
        return made

    def _function(self, node: exp.Expr, kind: str) -> Operand | None:  # noqa: C901 - a branch for each kind of node
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
                    tr("of months has no fixed length"),
                    tr("Add it to a date or time, such as day + interval '1 month'."),
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
        if kind in _CONDITIONS or kind in COMPARE:
            return as_value(self.condition(node))
        return None

    def _joined(self, node: exp.Expr, sign: str) -> Operand:
        sides = [node.this, node.expression]
        at = next((n for n, side in enumerate(sides) if isinstance(_bare(side), exp.Interval)), None)
        if at is not None and (at == 1 or sign == "+") and sign in "+-":
            months, span = self._interval(_bare(sides[at]))
            if months:
                return self._moved(self.operand(sides[1 - at]), months, span, -1 if sign == "-" else 1)
        left, right, gives = meaning.combined(sign, self.operand(node.this), self.operand(node.expression), self.table)
        return Call(sign, (left, right), gives)

    def _moved(self, operand: Operand, months: int, span: dt.timedelta, sign: int) -> Operand:
        operand = meaning.wanted(operand, "moment", self.table)
        kind = meaning.kind_of(operand, self.table)
        kind = kind if kind is Kind.ZONED else Kind.TIME
        call = Call("moved", (operand, Literal(sign * months)), kind)
        return Call("+", (call, Literal(sign * span)), kind) if span else call

    def _interval(self, node: exp.Expr) -> tuple[int, dt.timedelta]:
        text = f"{node.this.name} {node.args.get('unit') or ''}" if isinstance(node.this, exp.Literal) else ""
        try:
            return parse_interval(text)
        except (ValueError, OverflowError) as problem:
            raise ConditionError(
                tr("This interval can't be read."), tr("Write it like interval '3 days'."), place_in(self.text, node)
            ) from problem

    def _written_together(self, left: Operand, right: Operand) -> Operand:
        kinds = [meaning.kind_of(o, self.table) for o in (left, right)]
        is_text = any(k in (None, Kind.TEXT) for k in kinds)
        if not is_text:
            raise Mismatch(
                tr(
                    "joins texts; here stand {kind} and {other_kind}",
                    kind=meaning.SAID[kinds[0] or Kind.TEXT],
                    other_kind=meaning.SAID[kinds[1] or Kind.TEXT],
                ),
                tr("Write one as cast(... as text)."),
            )
        return Call("||", (left, right), Kind.TEXT)

    def _called(self, name: str, arguments: list[exp.Expr], node: exp.Expr) -> Operand:
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
            some = (
                str(form.least)
                if form.least == len(form.takes)
                else tr("{least} to {takes_count}", least=form.least, takes_count=len(form.takes))
            )
            some = tr("at least {least}", least=form.least) if form.many else some
            raise Mismatch(
                tr("takes {some} arguments, not {arguments_count}", some=some, arguments_count=len(arguments)),
                tr("It is {written}.", written=form.written),
            )
        if form.takes[0] == "unit":
            unit = literal_of(arguments[0])
            if unit is None or not isinstance(unit.value, str):
                raise Mismatch(tr("takes its unit in quotes"), tr("Write it like date_trunc('month', day)."))
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
            raise Mismatch(tr("knows the flags 'g', 'i' and 'c' only"), "")
        if isinstance(operands[1], Literal) and isinstance(operands[1].value, str):
            tester(operands[1].value, True)  # says what is wrong with it

    def _check_form(self, form: str) -> None:
        try:
            to_char(dt.datetime(2031, 5, 28), form)
        except ValueError as problem:
            raise Mismatch(
                tr("knows no {problem} in a form", problem=problem), tr("Write it like 'YYYY-MM-DD HH24:MI:SS'.")
            ) from problem

    def _extract(self, part: str, of: exp.Expr) -> Operand:
        operand = meaning.wanted(self.operand(of), "part", self.table)
        text = unit_of(part) or part.lower()
        gives = meaning.check_part(text, operand, self.table)
        return Call("extract", (Literal(text), operand), gives)

    def _cut(self, unit: str, of: exp.Expr) -> Operand:
        text = unit_of(unit) or unit.lower()
        meaning.check_unit(text)
        operand = meaning.wanted(self.operand(of), "moment", self.table)
        zoned = meaning.kind_of(operand, self.table) is Kind.ZONED
        return Call("date_trunc", (Literal(text), operand), Kind.ZONED if zoned else Kind.TIME)

    def _cast(self, node: exp.Expr) -> Operand:
        said = node.args["to"].this.value.lower() if hasattr(node.args["to"].this, "value") else ""
        target = meaning.CASTS.get(said)
        sizes = [literal_of(p.this) for p in node.args["to"].expressions]
        is_sized = target == "decimal" or (target == "text" and said != "text")
        bad = any(s is None or type(s.value) is not int or s.value < 0 for s in sizes) or (sizes and not is_sized)
        if target is None or bad or len(sizes) > (2 if target == "decimal" else 1):
            name = node.args["to"].sql(dialect="postgres").lower()
            raise ConditionError(
                tr("A value can't be cast to {name}.", name=name),
                tr("There are {casts}.", casts=", ".join(meaning.CASTS)),
                place_in(self.text, node),
            )
        operand = self.operand(node.this)
        gives = meaning.cast_kind(operand, target, self.table)
        if isinstance(operand, Literal) and isinstance(operand.value, str) and not sizes:
            return self._read(operand, target)
        return Call("cast", (operand, Literal(target), *(s for s in sizes if s is not None)), gives)

    def _read(self, operand: Literal, target: str) -> Operand:
        """A text in quotes read when the expression is: date '2031-05-28'. Raises: ConditionError."""
        try:
            return meaning.adapted(operand, (target,), "") if target != "text" else operand
        except Mismatch as problem:
            text = meaning.SAID[meaning.cast_kind(operand, target, self.table)]
            hint = tr("Write it like '2031-05-28 23:00'.") if target in ("date", "time", "zoned") else ""
            raise ConditionError(
                tr("{operand_value!r} is not {text}.", operand_value=operand.value, text=text), hint
            ) from problem

    def _in_zone(self, node: exp.Expr) -> Operand:
        zone = literal_of(node.args["zone"])
        operand = meaning.wanted(self.operand(node.this), "stamp", self.table)
        if zone is None or not isinstance(zone.value, str):
            raise Mismatch(tr("takes a zone in quotes"), tr("Write it like at at time zone 'Europe/Vienna'."))
        try:
            in_zone(zone.value, dt.datetime(2031, 5, 28))
        except ValueError as problem:
            raise Mismatch(
                tr("knows no zone {zone_value}", zone_value=zone.value), tr("Write it like 'Europe/Vienna' or 'UTC'.")
            ) from problem
        zoned = meaning.kind_of(operand, self.table) is Kind.ZONED
        return Call("in_zone", (zone, operand), Kind.TIME if zoned else Kind.ZONED)

    def _case(self, node: exp.Expr) -> Operand:
        branches = []
        for branch in node.args["ifs"]:
            test = branch.this if node.this is None else exp.EQ(this=node.this.copy(), expression=branch.this.copy())
            branches.append((self.condition(test), self.operand(branch.args["true"])))
        return self._chosen(branches, node.args.get("default"))

    def _chosen(self, branches: list[tuple[Node, Operand]], otherwise: exp.Expr | None) -> Case:
        default = self.operand(otherwise) if otherwise is not None else Literal(None)
        values, _ = meaning.alike([*(value for _, value in branches), default], self.table)
        tests = [test for test, _ in branches]
        return Case(tuple(zip(tests, values[:-1], strict=True)), values[-1])

    def column(self, node: exp.Expr) -> ColumnAt:
        """A column by its name. Raises: ConditionError, where there is none."""
        parts = name_parts(node)
        if parts is None:
            raise self._unsupported(node)
        dotted = ".".join(parts)
        try:
            return ColumnAt(self.table.index(dotted))
        except KeyError:
            pass
        for index, field in enumerate(self.table.fields):
            if field.origin and field.origin.casefold() == dotted.casefold():
                return ColumnAt(index)
        try:
            path = tuple(int(p) if p.isdigit() else p for p in parts[1:])
            return ColumnAt(self.table.index(parts[0]), path)
        except KeyError as problem:
            names = [field.name for field in self.table.fields]
            near = nearest(parts[0], names)
            hint = (
                tr("The nearest name is {near}.", near=near)
                if near
                else tr("The columns are {names}.", names=", ".join(names[:8]))
            )
            raise ConditionError(
                tr("There is no column {parts}.", parts=parts[0]), hint, place_in(self.text, node)
            ) from problem

    def _unsupported(self, node: exp.Expr) -> ConditionError:
        place = place_in(self.text, node)
        if isinstance(node, exp.Bracket):
            hint = tr("Items are counted from 1 in brackets, from 0 behind a point: tags[1] is tags.0.")
            return ConditionError(tr("There is no such item."), hint, place)
        if isinstance(node, exp.Func):
            name = _name_of(node)
            if name == "age":
                return ConditionError(tr("age gives months and days, which no column here holds."),
                                      tr("Subtract the times: a - b; or write datediff(a, b)."), place)  # fmt: skip
            if name in WINDOWS:
                hint = tr("Write {name}(...) over (...), or group by a column.", name=name)
                return ConditionError(tr("{name} goes over several rows.", name=name), hint, place)
            near = nearest(name, list(meaning.FORMS))
            hint = (
                tr("The nearest is {written}.", written=meaning.FORMS[near].written)
                if near
                else tr("There are {forms}.", forms=", ".join(meaning.FORMS))
            )
            return ConditionError(tr("There is no function {name} here.", name=name), hint, place)
        return ConditionError(tr("{sql} can't be used here.", sql=node.sql()[:60]), "", place)


def _bare(node: exp.Expr) -> Any:
    return _bare(node.this) if isinstance(node, exp.Paren) else node


def as_value(test: Node) -> Case:
    """A condition as a value: true, false, or none where it is unknown."""
    return Case(((test, Literal(True)), (Not(test), Literal(False))), Literal(None))


def _name_of(node: exp.Expr) -> str:
    """What a message calls a node: the function as it is written, or the text itself."""
    if isinstance(node, exp.Anonymous):
        return str(node.this).lower()
    if type(node).__name__ in _SIGNS:
        return _SIGNS[type(node).__name__]
    if isinstance(node, exp.Func) and not isinstance(node, (exp.Case, exp.Cast)):
        return str(node.sql_name()).lower()
    return re.sub(r"\s+", " ", str(node.sql(dialect="postgres")))[:40]
