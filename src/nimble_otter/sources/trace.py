"""Where the columns of a query's result come from: table and column by lineage of the text, against the catalogue."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from nimble_otter.query.lazy import exp, qualifying, sqlglot
from nimble_otter.sources.catalogue import TableInfo


@dataclass(frozen=True, slots=True)
class Origin:
    """A result column's base table and column. `alias` tells the two sides of a self-join apart; `is_direct` is true
    where each result row holds one row of the table, so that it can be edited."""

    table: str
    column: str
    alias: str
    is_direct: bool

    @property
    def label(self) -> str:
        return f"{self.table}.{self.column}"


def trace_origins(text: str, labels: Sequence[str], tables: Sequence[TableInfo], dialect: str) -> list[Origin | None]:
    """For each result column (named `labels` by the server) its origin, or None for expressions and where the text
    can't be followed. The answer is believed only where it names the same columns as the server."""
    nothing: list[Origin | None] = [None] * len(labels)
    try:
        parsed = sqlglot.parse_one(text, dialect=dialect)
        if not isinstance(parsed, exp.Select):
            return nothing
        _join_schemas(parsed)
        schema = {t.name.lower(): {c.name.lower(): c.declared or "text" for c in t.columns} for t in tables}
        whole = qualifying.qualify(
            parsed.copy(), schema=schema, dialect=dialect, validate_qualify_columns=False, quote_identifiers=False
        )
    except (sqlglot.errors.SqlglotError, RecursionError, ValueError, KeyError):
        return nothing
    if len(whole.expressions) != len(labels):
        return nothing
    for item, label in zip(whole.expressions, labels, strict=True):
        name = item.alias_or_name.casefold()
        if name != label.casefold() and not name.startswith("_col_"):  # expressions without a name of their own
            return nothing
    by_name = {t.name.casefold(): t for t in tables}
    direct = not (whole.args.get("group") or whole.args.get("distinct") or whole.args.get("having"))
    direct = direct and not any(item.find(exp.AggFunc) and not item.find(exp.Window) for item in whole.expressions)
    scope = _direct_tables(whole)
    origins: list[Origin | None] = []
    for item in whole.expressions:
        origins.append(_origin(_plain_column(item.unalias()), scope, by_name, direct))
    return origins


def _join_schemas(parsed: Any) -> None:
    """Write "schema.table" as one name, as the catalogue does; the bare name becomes its alias."""
    for name in parsed.find_all(exp.Identifier):
        name.set("this", name.this.lower())  # some dialects would tell letters' case apart, the catalogue does not
    for table in list(parsed.find_all(exp.Table)):
        if table.db:
            if not table.alias:
                table.set("alias", exp.TableAlias(this=exp.to_identifier(table.name)))
            table.set("this", exp.to_identifier(f"{table.db}.{table.name}", quoted=True))
            table.set("db", None)


def _direct_tables(select: Any) -> dict[str, Any]:
    """Tables in FROM and JOIN by alias; subqueries and common table expressions are not tables."""
    hidden = {cte.alias.casefold() for cte in select.find_all(exp.CTE)}
    parts = [select.args.get("from_") or select.args.get("from"), *(select.args.get("joins") or [])]
    tables = [part.this for part in parts if part is not None and isinstance(part.this, exp.Table)]
    return {t.alias_or_name.casefold(): t for t in tables if t.name.casefold() not in hidden}


def _plain_column(node: Any) -> Any:
    if isinstance(node, exp.Coalesce) and node.expressions:
        # USING columns are written as coalesce(a.x, b.x): for an inner join both are the same value
        sides = [node.this, *node.expressions]
        if all(isinstance(s, exp.Column) for s in sides) and len({s.name.casefold() for s in sides}) == 1:
            return sides[0]
    return node if isinstance(node, exp.Column) else None


def _origin(column: Any, scope: dict[str, Any], tables: dict[str, TableInfo], direct: bool) -> Origin | None:
    if column is None:
        return None
    table = scope.get(column.table.casefold())
    info = tables.get(table.name.casefold()) if table is not None else None
    known = info.column(column.name) if info is not None else None
    if info is None or known is None:
        return None
    return Origin(info.name, known.name, column.table, direct and info.kind == "table")


def declared_kinds(origins: Sequence[Origin | None], tables: Sequence[TableInfo]) -> list[str]:
    """The declared type of each result column, "" where it has no origin."""
    by_name = {t.name: t for t in tables}
    found = []
    for origin in origins:
        info = by_name[origin.table].column(origin.column) if origin else None
        found.append(info.declared if info else "")
    return found
