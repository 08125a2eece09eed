"""What is wrong, or likely to be, in a query that is being typed: syntax, names, joins, writes of every row."""

from __future__ import annotations

import difflib
import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from typing import Any

from nimble_otter.errors import Place, QueryError, place_of
from nimble_otter.query.documents.translation import translate_select
from nimble_otter.query.lazy import LazyModule, exp
from nimble_otter.query.parsed import parse_sql
from nimble_otter.query.sql.names import Names
from nimble_otter.query.sql.statements import Statement, find_parameters, split_statements
from nimble_otter.translation import tr

_scopes: Any = LazyModule("sqlglot.optimizer.scope")
_SYSTEM = ("information_schema", "pg_catalog", "mysql", "performance_schema", "sys")
_HIDDEN = {"rowid", "oid", "_rowid_", "ctid", "xmin", "xmax", "tableoid", "excluded", "new", "old", "current_date"}
MOST = 50
"""Problems that are told at once."""


@dataclass(frozen=True, slots=True)
class Problem:
    """`place` in the whole text; `fixes` are texts that could stand there instead, the likeliest first. `is_error`:
    the server would refuse it; else it is only suspicious."""

    place: Place
    message: str
    fixes: tuple[str, ...] = ()
    is_error: bool = True


def diagnose(text: str, names: Names | None, dialect: str) -> list[Problem]:
    """Problems in the order of the text. `names` None: the catalogue is not known yet, so names are not looked at."""
    problems: list[Problem] = []
    for statement in split_statements(text):
        try:
            parsed = parse_sql(statement.text, dialect, QueryError)
        except QueryError as wrong:
            if wrong.place is not None:
                problems.append(_moved(Problem(wrong.place, wrong.message), statement, text))
            continue
        own = _Statement(statement, dialect, names)
        told = {(p.place.start, p.message): p for p in own.problems(parsed)}
        problems += [_moved(problem, statement, text) for problem in told.values()]
        if len(problems) >= MOST:
            break
    return sorted(problems, key=lambda p: p.place.start)[:MOST]


def diagnose_documents(text: str, names: Names | None, parameters: Mapping[str, object]) -> list[Problem]:
    """Problems of a SELECT over collections: what can't be asked, and collections that there are not."""
    if not text.strip():
        return []
    unset = dict.fromkeys(find_parameters(text), 0)  # one that has no value yet is asked for, and is no problem
    try:
        request = translate_select(text, None, {**unset, **parameters})
    except QueryError as wrong:
        message = f"{wrong.message} {wrong.hint}".strip()
        return [Problem(wrong.place or place_of(text, 0, len(text.split()[0])), message)]
    results = []
    for name in request.collections if names is not None and names.tables else ():
        if names is not None and names.table(name) is None:
            near = difflib.get_close_matches(name, [t.name for t in names.tables], 3)
            at = next((m.start() for m in re.finditer(rf"\b{re.escape(name)}\b", text)), 0)
            hint = tr(" The nearest is {near}.", near=near[0]) if near else ""
            results.append(
                Problem(
                    place_of(text, at, at + len(name)),
                    tr("There is no collection {name}.{hint}", name=name, hint=hint),
                    tuple(near),
                )
            )
    return results


def _moved(problem: Problem, statement: Statement, text: str) -> Problem:
    place = problem.place
    return replace(problem, place=place_of(text, place.start + statement.start, place.end + statement.start))


class _Statement:
    def __init__(self, statement: Statement, dialect: str, names: Names | None) -> None:
        self.text, self.dialect, self.names = statement.text, dialect, names

    def problems(self, parsed: exp.Expr) -> Iterator[Problem]:
        yield from self._suspicious(parsed)
        if self.names is None or isinstance(parsed, (exp.Create, exp.Command, exp.Drop, exp.Alter)):
            return
        ctes = {cte.alias.casefold() for cte in parsed.find_all(exp.CTE)}
        unknown = set()
        for table in parsed.find_all(exp.Table):
            if not self._is_known(table, ctes):
                unknown.add(table.alias_or_name.casefold())
                yield self._unknown(table.this, "table", [t.name for t in self.names.tables] + sorted(ctes))
        if isinstance(parsed, exp.Query):
            for scope in _scopes.traverse_scope(parsed):
                yield from self._columns(scope, unknown)

    # --- suspicious --------------------------------------------------------------------------------------------

    def _suspicious(self, parsed: exp.Expr) -> Iterator[Problem]:
        if isinstance(parsed, (exp.Update, exp.Delete)) and not parsed.args.get("where"):
            word = self.text.split(None, 1)[0]
            text = tr("This {word} has no WHERE clause: it affects every row.", word=word.lower())
            yield Problem(place_of(self.text, 0, len(word)), text, is_error=False)
        for select in parsed.find_all(exp.Select):
            joins = select.args.get("joins") or []
            says_cross = (
                re.search(r"\bcross\b", self.text, re.IGNORECASE) is not None
            )  # a comma means CROSS to the parser
            for join in joins:
                table = join.this
                is_plain = isinstance(table, exp.Table) and isinstance(table.this, exp.Identifier)
                on = join.args.get("on")  # the parser itself puts TRUE where nothing is written
                has_condition = on is not None and not (isinstance(on, exp.Boolean) and on.this)
                has_condition = (
                    has_condition or join.args.get("using") or join.method or (join.kind == "CROSS" and says_cross)
                )
                if is_plain and not has_condition and not self._meets(select, table.alias_or_name.casefold()):
                    text = tr("Nothing joins {table_name}: this is a cross join.", table_name=table.name)
                    yield Problem(self._place(table.this), text, is_error=False)

    @staticmethod
    def _meets(select: exp.Expr, alias: str) -> bool:
        """Whether WHERE compares a column of this table with one of another, or can't be told."""
        where = select.args.get("where")
        for same in where.find_all(exp.EQ) if where is not None else ():
            sides = [side for side in (same.left, same.right) if isinstance(side, exp.Column)]
            tables = {side.table.casefold() for side in sides}
            if len(sides) == 2 and (alias in tables or "" in tables):
                return True
        return False

    # --- names -------------------------------------------------------------------------------------------------

    def _is_known(self, table: Any, ctes: set[str]) -> bool:
        assert self.names is not None
        if not isinstance(table.this, exp.Identifier) or table.this.meta.get("start") is None:
            return True  # a function, or nothing that stands in the text
        name, schema = table.name.casefold(), table.db.casefold()
        if schema in _SYSTEM or name.startswith(("pg_", "sqlite_")) or (not schema and name in ctes):
            return True
        return self.names.table(f"{table.db}.{table.name}" if schema else table.name) is not None

    def _columns(self, scope: Any, unknown: set[str]) -> Iterator[Problem]:
        own = {alias.casefold(): self._columns_of(source) for alias, source in scope.sources.items()}
        around = self._around(scope)
        labels = {item.alias.casefold() for item in getattr(scope.expression, "selects", []) if item.alias}
        shared = {
            name.name.casefold()
            for join in scope.expression.args.get("joins") or [] for name in join.args.get("using") or []
        }  # fmt: skip
        has_natural = any(join.method for join in scope.expression.args.get("joins") or [])
        for column in scope.columns:
            name, table = column.name.casefold(), column.table.casefold()
            if not isinstance(column.this, exp.Identifier) or column.this.meta.get("start") is None:
                continue
            if name in _HIDDEN or column.args.get("db"):
                continue
            everywhere = {**around, **own}
            if table:
                if table in everywhere:
                    columns = everywhere[table]
                    if columns is not None and name not in _folded(columns):
                        yield self._unknown(column.this, "column", columns, tr(" in {table}", table=column.table))
                elif table not in unknown and not self._is_path(column, everywhere):
                    yield self._unknown(column.args["table"], "table", list(scope.sources), tr(" in this query"))
                continue
            if any(columns is None for columns in everywhere.values()):
                continue
            having = [alias for alias, columns in own.items() if name in _folded(columns or [])]
            if len(having) > 1 and name not in shared and not has_natural:
                fixes = tuple(f"{alias}.{column.name}" for alias in having)
                text = tr(
                    "{column_name} is in {having}; say which one is meant.",
                    column_name=column.name,
                    having=" and ".join(having),
                )
                yield Problem(self._place(column.this), text, fixes)
            elif not having and name not in labels and not any(name in _folded(c or []) for c in around.values()):
                names = [c for columns in everywhere.values() for c in columns or []]
                yield self._unknown(column.this, "column", names)

    def _columns_of(self, source: Any) -> list[str] | None:
        """The columns of a table or subquery; None where they can't be told."""
        assert self.names is not None
        if isinstance(source, exp.Table):
            if not isinstance(source.this, exp.Identifier):
                return None
            known = self.names.table(f"{source.db}.{source.name}" if source.db else source.name)
            return [c for c, _ in known.columns] if known is not None and known.columns else None
        around = source.expression.parent
        while isinstance(around, exp.SetOperation):
            around = around.parent
        if isinstance(around, (exp.CTE, exp.Subquery)) and around.alias_column_names:
            return list(around.alias_column_names)
        selects = getattr(source.expression, "selects", None)
        if selects is None:
            return None
        names: list[str] = []
        for item in selects:
            if not item.is_star:
                names.append(item.alias_or_name)
                continue
            for alias, inner in source.sources.items():
                columns = self._columns_of(inner)
                whose = item.table if isinstance(item, exp.Column) else ""
                if columns is None:
                    return None
                names += columns if not whose or whose.casefold() == alias.casefold() else []
        return names

    def _around(self, scope: Any) -> dict[str, list[str] | None]:
        """The tables of the queries around a subquery, which it may name."""
        found: dict[str, list[str] | None] = {}
        above = scope.parent
        while above is not None:
            if scope.is_cte or scope.is_derived_table:
                break
            if scope.is_subquery:
                for alias, source in above.sources.items():
                    found.setdefault(alias.casefold(), self._columns_of(source))
            scope, above = above, above.parent
        return found

    @staticmethod
    def _is_path(column: exp.Expr, tables: dict[str, list[str] | None]) -> bool:
        """Whether "a.b" may be a field b inside a column a."""
        name = column.text("table").casefold()
        known = [columns for columns in tables.values() if columns is not None]
        return len(known) < len(tables) or any(
            column == name or column.startswith(f"{name}.") for columns in known for column in _folded(columns)
        )

    # --- telling -----------------------------------------------------------------------------------------------

    def _unknown(self, node: exp.Expr, what: str, names: list[str], where: str = "") -> Problem:
        folded = {n.rpartition(".")[2].casefold() if what == "table" else n.casefold(): n for n in names}
        near = difflib.get_close_matches(node.name.casefold(), list(folded), n=3, cutoff=0.5)
        fixes = tuple(folded[n] for n in near)
        hint = tr(" The nearest is {fixes}.", fixes=fixes[0]) if fixes else ""
        return Problem(
            self._place(node),
            tr("There is no {what} {node_name}{where}.{hint}", what=what, node_name=node.name, where=where, hint=hint),
            fixes,
        )

    def _place(self, node: exp.Expr) -> Place:
        meta = node.meta
        return place_of(self.text, meta["start"], meta["end"] + 1)


def _folded(names: list[str]) -> set[str]:
    return {name.casefold() for name in names}
