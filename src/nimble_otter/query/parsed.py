"""Text of queries, conditions and expressions as the parser's trees: parsing with the place of what is wrong, literals,
names."""

from __future__ import annotations

import datetime as dt
import difflib
import re
from collections.abc import Callable, Mapping
from decimal import Decimal
from typing import TYPE_CHECKING

from nimble_otter.errors import ConditionError, Place, place_of
from nimble_otter.query.lazy import exp, sqlglot
from nimble_otter.table.ops.conditions import Literal
from nimble_otter.translation import tr
from nimble_otter.values import Value

if TYPE_CHECKING:
    from sqlglot.dialects.dialect import DialectType


def local_dialect(empties: str = "nulls_are_last") -> object:
    """PostgreSQL's dialect, but with empties last in any order, as they are here, or where else the parser can have
    them."""
    dialect = sqlglot.Dialect.get_or_raise("postgres")
    dialect.NULL_ORDERING = empties
    return dialect


def parse_sql(text: str, dialect: DialectType, error: Callable[..., Exception]) -> exp.Expr:
    """Parse one expression or statement; raises `error(message, hint, place)`."""
    try:
        parsed = sqlglot.parse_one(text, dialect=dialect)
    except sqlglot.errors.ParseError as problem:
        detail = problem.errors[0] if problem.errors else {}
        word = str(detail.get("highlight") or "")
        place = _place_of_detail(text, detail, word)
        raise error(
            tr("Syntax error at {word!r}.", word=word) if word else tr("The statement is incomplete."), "", place
        ) from problem
    except sqlglot.errors.SqlglotError as problem:
        quote = text.rfind("'")
        raise error(tr("A quote is not closed."), "", place_of(text, max(quote, 0))) from problem
    except RecursionError as problem:
        raise error(tr("The statement is nested too deeply."), "") from problem
    except Exception as problem:
        raise error(tr("The statement is incomplete."), "") from problem
    return parsed


def _place_of_detail(text: str, detail: Mapping[str, Value], word: str) -> Place | None:
    if "line" not in detail:
        return None
    lines = text.split("\n")
    end = sum(len(line) + 1 for line in lines[: int(detail["line"]) - 1]) + int(detail["col"])
    start = max(0, end - max(1, len(word)))
    return place_of(text, start, end)


def place_in(text: str, node: exp.Expr) -> Place | None:
    """Where the first name inside `node` stands in the text, or the function's name itself."""
    if isinstance(node, exp.Func) and "start" in node.meta:
        return place_of(text, int(node.meta["start"]), int(node.meta["end"]) + 1)
    if isinstance(node, exp.Func):
        name = node.name if isinstance(node, exp.Anonymous) else node.sql_name()
        match = re.search(rf"\b{re.escape(str(name))}\s*\(", text, re.IGNORECASE)
        if match:
            return place_of(text, match.start(), match.start() + len(str(name)))
    for part in node.walk(bfs=False):
        if isinstance(part, exp.Identifier) and "start" in part.meta:
            last = node.this if isinstance(node, exp.Column) and isinstance(node.this, exp.Identifier) else part
            return place_of(text, int(part.meta["start"]), int(last.meta.get("end", part.meta["end"])) + 1)
    return None


def literal_of(node: object) -> Literal | None:
    """The value of a literal, signed numbers and DATE/TIMESTAMP literals included; None for anything else."""
    if isinstance(node, exp.Paren):
        return literal_of(node.this)
    if isinstance(node, exp.Null):
        return Literal(None)
    if isinstance(node, exp.Boolean):
        return Literal(bool(node.this))
    if isinstance(node, exp.Neg):
        inner = literal_of(node.this)
        known = inner is not None and type(inner.value) in (int, Decimal)
        return Literal(-inner.value) if inner is not None and known and inner.value else None
    if isinstance(node, exp.Literal):
        if node.is_string:
            return Literal(node.name)
        try:
            return Literal(int(node.name) if node.name.isdecimal() else Decimal(node.name))
        except (ArithmeticError, ValueError) as problem:  # of more digits than Python reads, too
            raise ConditionError(
                tr("{node_name} is not a number.", node_name=node.name[:40]), tr("Write it like 1.5 or 1e3.")
            ) from problem
    if isinstance(node, (exp.ByteString, exp.RawString)) and isinstance(node.this, str):
        return Literal(node.this)
    if isinstance(node, exp.Cast) and isinstance(node.this, exp.Literal) and node.this.is_string:
        if node.to.this in (exp.DataType.Type.DATE,):
            return _moment(node.name, dt.date.fromisoformat)
        if node.to.this in exp.DataType.TEMPORAL_TYPES:
            return _moment(node.name, dt.datetime.fromisoformat)
    return None


def _moment(text: str, read: Callable[[str], object]) -> Literal:
    try:
        return Literal(read(text))
    except ValueError as problem:
        raise ConditionError(
            tr("{text!r} is not a date or time.", text=text), tr("Write it like '2031-05-28 23:00'.")
        ) from problem


def is_negated(node: exp.Expr) -> bool:
    """True for NOT LIKE and IS NOT, which the parser keeps as a mark on the node."""
    return bool((node.this if isinstance(node, exp.Escape) else node).args.get("negate"))


def positive(node: exp.Expr) -> exp.Expr:
    """A copy without that mark."""
    copy = node.copy()
    (copy.this if isinstance(copy, exp.Escape) else copy).set("negate", None)
    return copy


def name_parts(node: object) -> list[str] | None:
    """The names of a dotted path, outermost first, or None when it is something else."""
    if isinstance(node, exp.Column):
        parts = [part.name for part in node.parts]
        return parts if all(parts) else None
    if isinstance(node, exp.Dot):
        left = name_parts(node.this)
        return [*left, node.expression.name] if left is not None and node.expression.name else None
    if isinstance(node, exp.Bracket) and len(node.expressions) == 1:
        left, item = name_parts(node.this), node.expressions[0]
        is_one = isinstance(item, exp.Literal)  # the parser counts from 0; what was [0] is less than that
        return [*left, item.name] if left is not None and is_one else None
    return None


def nearest(name: str, names: list[str]) -> str:
    """The name most like `name`, or ""."""
    folded = {n.casefold(): n for n in names}
    near = difflib.get_close_matches(name.casefold(), list(folded), n=1, cutoff=0.5)
    return folded[near[0]] if near else ""
