"""A query over a subquery that only picks columns and rows of a table, as one over the table: so a service is asked for
no more than what steps that were moved upstream need."""

from __future__ import annotations

from collections.abc import Mapping

from nimble_otter.query.lazy import exp
from nimble_otter.values import Value

_SHAPES = ("group", "having", "distinct", "limit", "offset", "windows", "qualify", "joins", "with_", "order",
           "laterals")  # fmt: skip
_ALL = "*"


def flattened(tree: exp.Select) -> exp.Select | None:
    """The query without its innermost frame; None, where it has none, or one that does more."""
    inner = _inside(tree)
    given = _given(inner) if inner is not None and not tree.args.get("joins") else None
    if inner is None or given is None:
        return None
    flat = tree.copy()
    flat.set("from_", inner.args["from_"].copy())
    if _ALL not in given and any(isinstance(each, exp.Star) for each in flat.expressions):
        return None
    aliases = {each.alias.casefold() for each in flat.expressions if isinstance(each, exp.Alias)}
    if not all(_put_in_place(column, given, aliases) for column in list(flat.find_all(exp.Column))):
        return None
    own, where = flat.args.pop("where", None), inner.args.get("where")
    for each in (where.copy() if where is not None else None, own):
        if each is not None:
            for column in each.find_all(exp.Column):
                column.set("table", None)
            flat.where(each.this, copy=False)
    return flat


def _inside(tree: exp.Select) -> exp.Select | None:
    """The subquery that the rows come from, where that only picks columns and rows of one table."""
    source = tree.args.get("from_")
    outer = source.this if source is not None else None
    inner = outer.this if isinstance(outer, exp.Subquery) and not outer.args.get("pivots") else None
    if not isinstance(inner, exp.Select) or any(inner.args.get(name) for name in _SHAPES):
        return None
    table = inner.args.get("from_")
    return inner if table is not None and isinstance(table.this, exp.Table) else None


def _given(inner: exp.Select) -> dict[str, Value] | None:
    """Its columns by their names, or all of them; None, where one is worked out."""
    given = dict[str, Value]()
    for each in inner.expressions:
        column: Value = each.this if isinstance(each, exp.Alias) else each
        if isinstance(column, exp.Star):
            given[_ALL] = column
        elif isinstance(column, exp.Column) and isinstance(column.this, exp.Identifier):
            given[each.alias_or_name.casefold()] = column
        else:
            return None
    return given if _ALL not in given or len(given) == 1 else None


def _put_in_place(column: Value, given: Mapping[str, Value], aliases: set[str]) -> bool:
    """Name the table's own column in place of what the subquery calls so; whether it gives such a one."""
    if isinstance(column.this, exp.Star):
        return False
    wanted = column if _ALL in given else given.get(column.name.casefold())
    if wanted is None:
        return not column.table and column.name.casefold() in aliases
    made = exp.column(wanted.this.copy())
    is_shown = isinstance(column.parent, exp.Select) and column.arg_key == "expressions"
    is_renamed = is_shown and column.name != wanted.name
    column.replace(exp.alias_(made, column.name, quoted=True) if is_renamed else made)
    return True
