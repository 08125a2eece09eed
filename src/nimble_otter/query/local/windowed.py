"""Window functions of the local language: their partition, order and frame, as sqlglot read them."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import suppress
from decimal import Decimal
from typing import Any

from nimble_otter.errors import ConditionError, Place
from nimble_otter.query.lazy import exp
from nimble_otter.table.ops.conditions import Frame, Literal, Operand, Windowed
from nimble_otter.table.ops.windows import WINDOWS
from nimble_otter.table.text.text_format import parse_span
from nimble_otter.translation import tr

_NAMES = {
    "RowNumber": "row_number", "Rank": "rank", "DenseRank": "dense_rank", "PercentRank": "percent_rank",
    "CumeDist": "cume_dist", "Ntile": "ntile", "Lag": "lag", "Lead": "lead", "FirstValue": "first_value",
    "LastValue": "last_value", "NthValue": "nth_value", "Sum": "sum", "Count": "count", "Avg": "avg", "Min": "min",
    "Max": "max", "Median": "median", "Stddev": "stddev", "StddevSamp": "stddev_samp", "StddevPop": "stddev_pop",
    "Variance": "variance", "VariancePop": "var_pop",
}  # fmt: skip
"""sqlglot's name of a window function, and ours."""
_NUMBERS = {"ntile": (0, 1, True), "nth_value": (1, 1, True), "lag": (1, None, False), "lead": (1, None, False)}
"""Which argument is a literal whole number, the least that it may be, whether it must be there."""
_AS = tr("As in rows between 6 preceding and current row.")


def windowed(node: exp.Expr, operand: Callable[[exp.Expr], Operand], place: Place | None) -> Windowed:
    """A window function over rows; without a frame all rows up to each one count, or all where there is no order.
    `operand` reads what is inside. Raises: ConditionError at `place`."""
    inner = node.this
    skips = isinstance(inner, (exp.IgnoreNulls, exp.RespectNulls))
    skips_empty, inner = isinstance(inner, exp.IgnoreNulls), inner.this if skips else inner
    if isinstance(inner, exp.Filter):
        inner = _filtered(inner)
    name = _NAMES.get(type(inner).__name__)
    if name is None:
        text = tr("{sql} is not a window function here.", sql=inner.sql()[:40])
        raise ConditionError(text, tr("There are {windows}.", windows=", ".join(WINDOWS)), place)
    if node.args.get("alias") is not None:
        text = tr("Named windows are not supported here.")
        raise ConditionError(text, tr("Write it out: over (partition by ... order by ...)."), place)
    if skips_empty and name not in ("lag", "lead", "first_value", "last_value", "nth_value"):
        raise ConditionError(tr("{name} already ignores NULL.", name=name), tr("Write it without ignore nulls."), place)
    is_distinct = isinstance(inner.this, exp.Distinct)
    if is_distinct and (name != "count" or len(inner.this.expressions) != 1):
        raise ConditionError(
            tr("{name} takes no distinct values here.", name=name), tr("As in count(distinct x) over (...)."), place
        )
    value = inner.this.expressions[0] if is_distinct else inner.this
    given = [value, inner.args.get("offset"), inner.args.get("default")]
    args = tuple(operand(g) for g in given if g is not None and not isinstance(g, (exp.Star, bool)))
    at, least, is_needed = _NUMBERS.get(name, (0, None, False))
    if is_needed and len(args) <= at:
        raise ConditionError(tr("{name} needs a number.", name=name), tr("As in ntile(4)."), place)
    if name in _NUMBERS and len(args) > at:
        value = getattr(args[at], "value", None) if isinstance(args[at], Literal) else None
        if type(value) is not int or (least is not None and value < least):
            raise ConditionError(tr("{name} takes a whole number.", name=name), tr("As in ntile(4)."), place)
    order = node.args.get("order")
    keys = tuple(
        (operand(k.this), bool(k.args.get("desc")), bool(k.args.get("nulls_first")))
        for k in (order.expressions if order is not None else ())
    )
    per = tuple(operand(p) for p in node.args.get("partition_by") or ())
    return Windowed(name, args, per, keys, _frame(node.args.get("spec"), len(keys), place), is_distinct, skips_empty)


def _filtered(node: exp.Expr) -> object:
    """A figure of the rows for which a condition is true: of what is none for all others."""
    figure, test = node.this.copy(), node.expression.this.copy()
    value = exp.Literal.number(1) if isinstance(figure.this, exp.Star) else figure.this.copy()
    figure.set("this", exp.Case(ifs=[exp.If(this=test, true=value)]))
    return figure


def _frame(spec: exp.Expr | None, keys: int, place: Place | None) -> Frame:
    if spec is None:
        return Frame()
    unit = str(spec.args.get("kind") or "rows").lower()
    if spec.args.get("exclude"):
        raise ConditionError(tr("EXCLUDE is not supported in frames."), tr("Write it without exclude."), place)
    start_side, end_side = (str(spec.args.get(side) or "").lower() for side in ("start_side", "end_side"))
    start = _offset(spec.args.get("start"), start_side, unit, place)
    end = _offset(spec.args.get("end") or "CURRENT ROW", end_side, unit, place)
    if (start is None and start_side == "following") or (end is None and end_side == "preceding"):
        raise ConditionError(tr("The frame ends before it begins."), _AS, place)
    if unit == "range" and (start or end) and keys != 1:
        raise ConditionError(tr("A frame by range needs one column in its order."), tr("Count rows instead."), place)
    return Frame(unit, start, end)


def _offset(bound: object, side: str, unit: str, place: Place | None) -> object:
    """How far from a row, negative before it; None: without bound."""
    if isinstance(bound, str):
        return None if bound.upper() == "UNBOUNDED" else 0
    size: Any = None
    if isinstance(bound, exp.Literal) and not bound.is_string:
        size = Decimal(str(bound.this))
        size = int(size) if size == size.to_integral_value() else size
    elif isinstance(bound, exp.Interval):
        with suppress(ValueError):
            size = parse_span(f"{bound.this.name} {bound.args.get('unit') or ''}".strip().lower())
    if size is None or (unit != "range" and type(size) is not int):
        meant = tr("a number or an interval of days, hours, ...") if unit == "range" else tr("a whole number")
        raise ConditionError(tr("The frame's distance is {meant}.", meant=meant), _AS, place)
    return -size if side == "preceding" else size
