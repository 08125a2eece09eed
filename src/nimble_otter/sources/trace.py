"""Where the columns of a query's result come from: table and column by lineage of the text, against the catalogue.

Subqueries, common table expressions and views are followed inwards; a grouping, a union or an expression ends it.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from nimble_otter.query.lazy import exp, qualifying, schemas, sqlglot
from nimble_otter.sources.catalogue import ColumnInfo, EntryKind, TableInfo

KEY_NAME = "otter_key_"
"""Begins the names of key columns that are fetched along unseen."""
_WHOLE = ("group", "distinct", "having")
_DEEPEST = 12


@dataclass(frozen=True, slots=True)
class Origin:
    """A result column's base table and column. `alias` tells the two sides of a self-join apart, and the ways into
    subqueries; `is_direct` is true where each result row holds one row of the table, so that it can be edited."""

    table: str
    column: str
    alias: str
    is_direct: bool

    @property
    def label(self) -> str:
        """ "table.column"."""
        return f"{self.table}.{self.column}"


def trace_origins(
    text: str,
    labels: Sequence[str] | None,
    tables: Sequence[TableInfo],
    dialect: str,
    views: Mapping[str, str] | None = None,
    default: str | None = None,
) -> list[Origin | None]:
    """For each result column its origin, or None for expressions and where the text can't be followed. The answer is
    believed only where it names the same columns as the server (`labels`, None: not known yet). `views` are definitions
    by label, `default` is the schema whose tables have no schema in their label."""
    whole = _qualified(text, tables, dialect, views or {}, default)
    if whole is None or (labels is not None and not _names_agree(whole, labels)):
        return [None] * len(labels or ())
    return [origin for _, origin in _outputs(whole, _Scope({t.name.casefold(): t for t in tables}))]


def is_behind(
    text: str, labels: Sequence[str], tables: Sequence[TableInfo], dialect: str, views: Mapping[str, str],
    default: str | None,
) -> bool:  # fmt: skip
    """Whether the server gives other columns for * than the catalogue has: a table was changed since it was read."""
    if "*" not in text:
        return False
    whole = _qualified(text, tables, dialect, views, default)
    return whole is not None and not _names_agree(whole, labels)


def _qualified(
    text: str, tables: Sequence[TableInfo], dialect: str, views: Mapping[str, str], default: str | None
) -> Any:
    """The query with every column under its table's name and views opened; None where it can't be followed."""
    try:
        parsed = sqlglot.parse_one(text, dialect=dialect)
        if not isinstance(parsed, exp.Select):
            return None
        _hide_coalesce(parsed)
        _join_schemas(parsed, default)
        _open_views(parsed, views, dialect, default)
        schema: dict[str, object] = {
            t.name.lower(): {c.name.lower(): c.declared or "text" for c in t.columns} for t in tables
        }
        shown: dict[str, object] = {
            t.name.lower(): [c.name.lower() for c in t.columns if not c.is_hidden] for t in tables
        }
        has_hidden = any(c.is_hidden for t in tables for c in t.columns)
        return qualifying.qualify(
            parsed.copy(),
            schema=schemas.MappingSchema(schema, visible=shown if has_hidden else None, normalize=False),
            dialect=dialect,
            validate_qualify_columns=False,
            quote_identifiers=False,
        )
    except (sqlglot.errors.SqlglotError, RecursionError, ValueError, KeyError):
        return None


def _names_agree(whole: exp.Expr, labels: Sequence[str]) -> bool:
    if len(whole.expressions) != len(labels):
        return False
    names = (item.alias_or_name.casefold() for item in whole.expressions)  # expressions may have no name of their own
    return all(n == label.casefold() or n.startswith("_col_") for n, label in zip(names, labels, strict=True))


def _hide_coalesce(parsed: exp.Expr) -> None:
    """A coalesce that was written is not one that stands for the column of USING; see `_plain_column`."""
    for node in list(parsed.find_all(exp.Coalesce)):
        node.replace(exp.Anonymous(this="coalesce", expressions=[node.this, *node.expressions]))


@dataclass(frozen=True, slots=True)
class _Scope:
    """What names mean at a depth of the query: the catalogue's tables, and common table expressions with their own
    scope."""

    tables: Mapping[str, TableInfo]
    named: Mapping[str, tuple[Any, Any]] | None = None
    depth: int = 0

    def inside(self, query: Any) -> _Scope:
        known, below = dict(self.named or {}), replace(self, depth=self.depth + 1)
        for cte in query.ctes:
            known[cte.alias.casefold()] = (cte.this, replace(below, named=dict(known)))
        return replace(below, named=known)


def _outputs(query: object, scope: _Scope) -> list[tuple[str, Origin | None]]:
    """Name and origin of each column that a query gives."""
    if not isinstance(query, exp.Select) or scope.depth > _DEEPEST:
        return [(item.alias_or_name.casefold(), None) for item in getattr(query, "selects", [])]
    scope = scope.inside(query)
    parts = [query.args.get("from_") or query.args.get("from"), *(query.args.get("joins") or [])]
    sources = {part.this.alias_or_name.casefold(): part.this for part in parts if part is not None}
    aggregates = any(item.find(exp.AggFunc) and not item.find(exp.Window) for item in query.expressions)
    is_direct = not aggregates and not any(query.args.get(name) for name in _WHOLE)
    results = []
    inner: dict[str, dict[str, Origin | None]] = {}
    for item in query.expressions:
        column = _plain_column(item.unalias())
        origin = _origin(column, sources, scope, inner) if column is not None else None
        if origin is not None and not is_direct:
            origin = replace(origin, is_direct=False)
        results.append((item.alias_or_name.casefold(), origin))
    return results


def _origin(
    column: exp.Expr, sources: Mapping[str, Any], scope: _Scope, inner: dict[str, dict[str, Origin | None]]
) -> Origin | None:
    alias = column.text("table").casefold()
    source = sources.get(alias)
    named = (scope.named or {}).get(source.name.casefold()) if isinstance(source, exp.Table) else None
    if isinstance(source, exp.Table) and named is None:
        info = scope.tables.get(source.name.casefold())
        known = info.column(column.name) if info is not None else None
        return (
            Origin(info.name, known.name, column.text("table"), info.kind == EntryKind.TABLE)
            if info and known
            else None
        )
    if alias not in inner:
        if isinstance(source, exp.Subquery):
            names = source.alias_column_names
            outputs = _outputs(source.this, scope) if not source.args.get("joins") else []
        elif named is not None:
            names, outputs = [], _outputs(*named)
        else:
            return None
        if names:
            outputs = [(n.casefold(), origin) for n, (_, origin) in zip(names, outputs, strict=False)]
        inner[alias] = dict(reversed(outputs))
    found = inner[alias].get(column.name.casefold())
    return replace(found, alias=f"{column.text('table')}/{found.alias}") if found is not None else None


def _join_schemas(parsed: exp.Expr, default: str | None) -> None:
    """Write "schema.table" as one name, as the catalogue does; the bare name becomes its alias."""
    for name in parsed.find_all(exp.Identifier):
        name.set("this", name.this.lower())  # some dialects would tell letters' case apart, the catalogue does not
    for table in list(parsed.find_all(exp.Table)):
        if table.db:
            if not table.alias:
                table.set("alias", exp.TableAlias(this=exp.to_identifier(table.name)))
            if table.db != (default or "").lower():
                table.set("this", exp.to_identifier(f"{table.db}.{table.name}", quoted=True))
            table.set("db", None)


def _open_views(parsed: exp.Expr, views: Mapping[str, str], dialect: str, default: str | None, depth: int = 0) -> None:
    """Put the queries of views in the place of their names."""
    by_name = {name.casefold(): text for name, text in views.items()}
    hidden = {cte.alias.casefold() for cte in parsed.find_all(exp.CTE)}
    for table in list(parsed.find_all(exp.Table)):
        text = by_name.get(table.name.casefold())
        if text is None or table.name.casefold() in hidden or depth > _DEEPEST:
            continue
        made = sqlglot.parse_one(text, dialect=dialect)
        _hide_coalesce(made)
        names = []
        if isinstance(made, exp.Create):
            if isinstance(made.this, exp.Schema):
                names = [exp.to_identifier(c.name.lower()) for c in made.this.expressions]
            made = made.expression
        made = made.unnest() if isinstance(made, exp.Subquery) else made
        if not isinstance(made, exp.Query):
            continue
        _join_schemas(made, default)
        _open_views(made, views, dialect, default, depth + 1)
        alias = exp.TableAlias(this=exp.to_identifier(table.alias_or_name), columns=names)
        table.replace(exp.Subquery(this=made, alias=alias))


def _plain_column(node: object) -> Any:
    if isinstance(node, exp.Coalesce) and node.expressions:
        # USING columns are written as coalesce(a.x, b.x): for an inner join both are the same value
        sides = [node.this, *node.expressions]
        if all(isinstance(s, exp.Column) for s in sides) and len({s.name.casefold() for s in sides}) == 1:
            return sides[0]
    return node if isinstance(node, exp.Column) else None


def with_keys(
    text: str, origins: Sequence[Origin | None], tables: Sequence[TableInfo], dialect: str, quoted: Callable[[str], str]
) -> tuple[str, list[Origin]]:
    """The text with the keys of its tables added as further columns, where the result lacks them, and their origins;
    none where the query groups, or its tables are not named in its own FROM. `quoted` writes a name."""
    by_name = {t.name: t for t in tables}
    wanted: list[Origin] = []
    for alias in dict.fromkeys(o.alias for o in origins if o is not None and o.is_direct and "/" not in o.alias):
        own = [o for o in origins if o is not None and o.alias == alias]
        info = by_name[own[0].table]
        has = {o.column for o in own}
        if info.kind == EntryKind.TABLE and info.keys and not any(has.issuperset(key) for key in info.keys):
            wanted += [replace(own[0], column=name) for name in info.keys[0] if name not in has]
    at = _end_of_list(text, dialect) if wanted else None
    if at is None:
        return text, []
    parsed = sqlglot.parse_one(text, dialect=dialect)
    parts = [parsed.args.get("from_") or parsed.args.get("from"), *(parsed.args.get("joins") or [])]
    named = {p.this.alias_or_name.casefold(): p.this for p in parts if p is not None and isinstance(p.this, exp.Table)}
    added = []
    for number, origin in enumerate(wanted):
        table = named.get(origin.alias.casefold())
        if table is None:
            return text, []
        alias = (table.args["alias"].this if table.alias else table.this).sql(dialect=dialect)
        added.append(f", {alias}.{quoted(origin.column)} as {KEY_NAME}{number}")
    return text[:at] + "".join(added) + text[at:], wanted


def _end_of_list(text: str, dialect: str) -> int | None:
    """Where the columns of the outermost SELECT end."""
    depth, is_open, before = 0, False, None
    for token in sqlglot.tokenize(text, read=dialect):
        kind = token.token_type.name
        depth += (kind == "L_PAREN") - (kind == "R_PAREN")
        if depth == 0 and kind == "SELECT":
            is_open = True
        elif depth == 0 and kind == "FROM" and is_open and before is not None and before.token_type.name != "DISTINCT":
            return int(before.end) + 1
        before = token
    return None


def columns_of(origins: Sequence[Origin | None], tables: Sequence[TableInfo]) -> list[ColumnInfo | None]:
    """The column that each result column comes from; None where it has no origin."""
    by_name = {t.name: t for t in tables}
    return [by_name[origin.table].column(origin.column) if origin else None for origin in origins]
