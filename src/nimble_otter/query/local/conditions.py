"""The local language: SQL conditions and expressions over the columns of a table, read into our own nodes. What each
function takes and gives stands in meaning.py; whatever is not understood is refused at its place, never left out."""

from __future__ import annotations

from collections.abc import Iterable
from functools import cache
from typing import TYPE_CHECKING, Any

from nimble_otter.errors import ConditionError
from nimble_otter.query.lazy import exp
from nimble_otter.query.local import meaning
from nimble_otter.query.local.meaning import Mismatch
from nimble_otter.query.local.operands import COMPARE, OperandReader, as_value, told
from nimble_otter.query.parsed import (
    is_negated,
    literal_of,
    parse_sql,
    positive,
)
from nimble_otter.table.core.columns import Kind, Table
from nimble_otter.table.ops.conditions import (
    All,
    Among,
    AnyOf,
    ColumnAt,
    Compare,
    Either,
    IsEmpty,
    Like,
    Literal,
    Node,
    Not,
    Operand,
    Truth,
)
from nimble_otter.table.ops.filter import fitted
from nimble_otter.table.text.patterns import like_regex, tester
from nimble_otter.translation import tr

if TYPE_CHECKING:
    from sqlglot import Dialect

_SWAPPED = {"<": ">", "<=": ">=", ">": "<", ">=": "<="}
_WINDOWED = (
    "SUM", "COUNT", "AVG", "MIN", "MAX", "ROW_NUMBER", "RANK", "DENSE_RANK", "PERCENT_RANK", "CUME_DIST", "NTILE",
    "LAG", "LEAD", "FIRST_VALUE", "LAST_VALUE", "NTH_VALUE", "STDDEV", "STDDEV_SAMP", "STDDEV_POP", "VARIANCE",
    "VAR_SAMP", "VAR_POP", "MEDIAN", "REGEXP_LIKE", "ARRAY",
)  # fmt: skip
_SPELLED = ("CAST", "TRY_CAST", "EXTRACT", "POSITION", "SUBSTRING", "TRIM", "OVERLAY")


@cache
def local_dialect() -> type[Dialect]:
    """PostgreSQL's grammar, in which functions stay as they are written but for windows and those with a syntax of
    their own; empties are last in any order, as they are here."""
    from sqlglot.dialects.postgres import Postgres

    class Local(Postgres):
        NULL_ORDERING = "nulls_are_last"

        class Parser(Postgres.Parser):  # type: ignore[misc, valid-type]
            FUNCTIONS = {name: Postgres.Parser.FUNCTIONS[name] for name in _WINDOWED}
            FUNCTION_PARSERS = {name: Postgres.Parser.FUNCTION_PARSERS[name] for name in _SPELLED}

    return Local


def parse_condition(text: str, table: Table) -> Node:
    """Parse a condition over the table's columns.

    Names are the result's column names (quoted with " where need be), their origins (station.name), or a column with a
    dotted path into its nested values. Raises: ConditionError with its place.
    """
    if not text.strip():
        raise ConditionError(tr("The condition is empty."), tr("Write one, such as level_m > 0.3."))
    parsed = parse_sql(text, local_dialect(), ConditionError)
    if not isinstance(parsed, exp.Condition):
        raise ConditionError(tr("This is a statement, not a condition."), tr("Write only what comes after WHERE."))
    return _Reader(text, table).condition(parsed)


def parse_expression(text: str, table: Table) -> Operand:
    """Parse an expression over the table's columns. Raises: ConditionError with its place."""
    if not text.strip():
        raise ConditionError(tr("The expression is empty."), tr("Write one, such as round(level_m * 100, 1)."))
    parsed = parse_sql(text, local_dialect(), ConditionError)
    if isinstance(parsed, (exp.Query, exp.Alias)):
        raise ConditionError(tr("This is not one expression."), tr("Write a value, such as level_m * 100."))
    return _Reader(text, table).operand(parsed)


class _Reader(OperandReader):
    """Turns sqlglot's tree into our nodes for one table."""

    # --- conditions ----------------------------------------------------------------------------------------------

    @told
    def condition(self, node: exp.Expr) -> Node:  # noqa: C901 - a branch for each kind of node
        if isinstance(node, exp.Paren):
            return self.condition(node.this)
        if is_negated(node):
            return Not(self.condition(positive(node)))
        if isinstance(node, (exp.And, exp.Or)):
            return (All if isinstance(node, exp.And) else Either)(
                (self.condition(node.left), self.condition(node.right))
            )
        if isinstance(node, exp.Not):
            return Not(self.condition(node.this))
        if (of_list := self._any_of(node)) is not None:
            return of_list
        if isinstance(node, (exp.NullSafeEQ, exp.NullSafeNEQ)):
            same = self._same(node.left, node.right)
            return same if isinstance(node, exp.NullSafeEQ) else Not(same)
        if type(node).__name__ in COMPARE:
            return self._compared(COMPARE[type(node).__name__], node.this, node.expression)
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
            text = meaning.SAID[kind or Kind.TEXT]
            raise Mismatch(
                tr("is {text}, not a condition", text=text), tr("Compare it with something, such as ... > 0.")
            )
        return Truth(operand)

    def _compared(self, op: str, left: exp.Expr, right: exp.Expr) -> Node:
        if isinstance(left, exp.Tuple) and isinstance(right, exp.Tuple):
            return self._rows_compared(op, left, right)
        return self._compare(op, self.operand(left), self.operand(right))

    def _compare(self, op: str, left: Operand, right: Operand) -> Compare:
        """A comparison of two operands whose kinds go together. Raises: Mismatch, ConditionError."""
        one, other = meaning.kind_of(left, self.table), meaning.kind_of(right, self.table)
        for literal, kind, of in ((left, other, right), (right, one, left)):
            if isinstance(literal, Literal) and literal.value is not None and kind is not None:
                name = self.table.fields[of.index].name if isinstance(of, ColumnAt) else tr("This side")
                fitted(literal.value, kind, name)
        if isinstance(left, Literal) ^ isinstance(right, Literal):
            left, right = _as_text_of(left, other), _as_text_of(right, one)
        elif {one, other} == {Kind.CLOCK, Kind.SPAN}:
            left, right = meaning.as_span(left, self.table), meaning.as_span(right, self.table)
        elif one is not None and other is not None and not meaning.go_together(one, other):
            text = tr("can't compare {kind} with {other_kind}", kind=meaning.SAID[one], other_kind=meaning.SAID[other])
            raise Mismatch(text, tr("Write one of them in a cast, such as cast(... as text)."))
        return Compare(op, left, right)

    def _rows_compared(self, op: str, left: exp.Expr, right: exp.Expr) -> Node:
        if op not in ("=", "<>") or len(left.expressions) != len(right.expressions):
            raise Mismatch(tr("compares rows of as many values by = and <> only"), "")
        pairs = zip(left.expressions, right.expressions, strict=True)
        same = All(tuple(self._compared("=", a, b) for a, b in pairs))
        return same if op == "=" else Not(same)

    def _is(self, node: exp.Expr) -> Node:
        said = node.expression
        if isinstance(said, exp.Null):
            return IsEmpty(self.operand(node.this))
        if isinstance(said, exp.Boolean):
            test = self.condition(node.this)
            return All((Not(IsEmpty(as_value(test))), test if said.this else Not(test)))
        raise self._unsupported(node)

    def _same(self, left: exp.Expr, right: exp.Expr) -> Node:
        """IS NOT DISTINCT FROM: never unknown."""
        one, other = self.operand(left), self.operand(right)
        empties = (IsEmpty(one), IsEmpty(other))
        return Either((All(empties), All((self._compare("=", one, other), *(Not(e) for e in empties)))))

    def _between(self, node: exp.Expr) -> Node:
        of, low, high = self.operand(node.this), self.operand(node.args["low"]), self.operand(node.args["high"])
        made = All((self._compare(">=", of, low), self._compare("<=", of, high)))
        if node.args.get("symmetric"):
            return Either((made, All((self._compare(">=", of, high), self._compare("<=", of, low)))))
        return made

    def _among(self, node: exp.Expr) -> Node:
        items = list(node.expressions)
        if not items:
            raise ConditionError(
                tr("IN takes a list of values here."), tr("Write it like river in ('Merrow', 'Sallow').")
            )
        if isinstance(node.this, exp.Tuple):
            return Either(tuple(self._compared("=", node.this, item) for item in items))
        return self._in(self.operand(node.this), items)

    def _in(self, operand: Operand, items: Iterable[exp.Expr]) -> Node:
        made = [self.operand(item) for item in items]
        tests = tuple(self._compare("=", operand, other) for other in made)
        if all(isinstance(t.right, Literal) for t in tests):
            return Among(operand, tuple(t.right.value for t in tests if isinstance(t.right, Literal)))
        return Either(tests)

    def _like(self, node: exp.Expr) -> Node:
        escape: Any = "\\"
        if isinstance(node, exp.Escape):
            literal, node = literal_of(node.expression), node.this
            if literal is None or not isinstance(literal.value, str) or len(literal.value) > 1:
                raise Mismatch(
                    tr("takes one character behind ESCAPE"), tr("Write it like note like '10!%' escape '!'.")
                )
            escape = literal.value
        operand = meaning.wanted(self.operand(node.this), "any", self.table)
        pattern, folded = self.operand(node.expression), isinstance(node, exp.ILike)
        if not isinstance(pattern, Literal):
            meaning.wanted(pattern, "text", self.table)
            return Like(operand, escape, folded, pattern=pattern)
        text = pattern.value
        if not isinstance(text, str):
            raise ConditionError(tr("LIKE takes a pattern in quotes."), tr("Write it like note like '%debris%'."))
        inner = text[1:-1]
        wild = {"%", "_", escape}
        contains = inner if text[:1] == text[-1:] == "%" and not set(inner) & wild and inner else None
        first = text[:-1]
        begins = first if text[-1:] == "%" and not set(first) & wild and first else None
        return Like(operand, like_regex(text, escape), folded, contains, begins)

    def _any_of(self, node: exp.Expr) -> Node | None:
        """'x' = any(tags), any(tags) like 'x%', x = any(array['a', 'b']): some item of a list; or each, with all."""
        sides = [node.args.get("this"), node.args.get("expression")]
        names = [_quantifier(side) for side in sides]
        if not any(names) or isinstance(node, (exp.Not, exp.Paren)):
            return None
        at = 0 if names[0] else 1
        side, beside = sides[at], sides[1 - at]
        assert side is not None  # it has a quantifier
        inner = side.this if names[at] == "any" else side.expressions[0]
        inner = inner.this if isinstance(inner, exp.Paren) else inner
        if isinstance(inner, exp.Array):
            tests = []
            for item in inner.expressions:
                one = node.copy()
                one.set("this" if at == 0 else "expression", item.copy())
                tests.append(self.condition(one))
            return (Either if names[at] == "any" else All)(tuple(tests))
        if names[at] == "all":
            raise self._unsupported(side)
        items = self.operand(inner)
        if type(node).__name__ in COMPARE and beside is not None:
            op = COMPARE[type(node).__name__]
            return AnyOf(items, op if at == 0 else _SWAPPED.get(op, op), self.operand(beside))
        if isinstance(node, (exp.Like, exp.ILike, exp.RegexpLike, exp.RegexpILike)) and at == 0:
            plain = node.copy()
            plain.set("this", inner.copy())
            made = self.condition(plain)
            if isinstance(made, Like) and made.pattern is None:
                return AnyOf(items, like=made)
        raise self._unsupported(node)

    def _regex(self, node: exp.Expr) -> Node:
        """x ~ 'pattern', ~* without regard to case, or regexp_like(x, 'pattern'): a part of the text matches."""
        pattern = literal_of(node.expression)
        if pattern is None or not isinstance(pattern.value, str):
            raise ConditionError(
                tr("A regular expression is written in quotes."), tr("Write it like note ~ '^ice|debris$'.")
            )
        flags = literal_of(node.args["flag"]) if node.args.get("flag") is not None else Literal("")
        if flags is None or not isinstance(flags.value, str) or set(flags.value) - {"i", "c"}:
            raise Mismatch(tr("knows the flags 'i' and 'c' only"), "")
        folded = isinstance(node, exp.RegexpILike) or "i" in flags.value
        tester(pattern.value, not folded)  # says what is wrong with it
        return Like(self.operand(node.this), pattern.value, folded, finds=True)


def _quantifier(node: exp.Expr | None) -> str:
    if isinstance(node, exp.Any):
        return "any"
    is_all = isinstance(node, exp.Anonymous) and str(node.this).lower() == "all" and len(node.expressions) == 1
    return "all" if is_all else ""


def _as_text_of(operand: Operand, other: Kind | None) -> Operand:
    """A double that is written as a text ('NaN'), beside doubles."""
    return meaning.like_other(operand, other) if other is Kind.FLOAT else operand
