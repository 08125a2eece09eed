"""Statements that destroy: DROP, TRUNCATE, ALTER that drops, and DELETE or UPDATE, which may mean every row whatever
their WHERE says. What each would hit is counted by `sources.hits` before it runs."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from nimble_otter.query.lazy import exp
from nimble_otter.query.sql.effects import parse
from nimble_otter.translation import tr


class Way(StrEnum):
    """How a statement destroys: by dropping, emptying, altering or without a condition."""

    DROP = "drop"
    TRUNCATE = "truncate"
    ALTER = "alter"
    DELETE = "delete"
    UPDATE = "update"


@dataclass(frozen=True, slots=True)
class Destroying:
    """One thing that a statement would hit. `table` as SQL writes it, "" where it is none; `what` names what goes, in
    the words of the statement; `columns` those that are dropped; `where` is the condition as SQL, None without one or
    where it can't be asked on its own (`is_counted` false)."""

    way: Way
    what: str
    table: str = ""
    columns: tuple[str, ...] = ()
    where: str | None = None
    is_counted: bool = True


def destroying(text: str, dialect: str) -> list[Destroying]:
    """What one statement would destroy; a statement that can't be parsed but begins so is told as a whole."""
    root = parse(text, dialect)
    first = text.split(None, 1)[0].lower() if text.strip() else ""
    if root is None or isinstance(root, exp.Command):
        words = text.lower().split()
        if first in ("drop", "truncate") or (first == "alter" and {"drop", "truncate"} & set(words)):
            way = Way.ALTER if first == "alter" else Way(first)
            return [Destroying(way, " ".join(text.split())[:120], is_counted=False)]
        verb = (
            next((w for w in words if w in ("delete", "update")), "") if first in ("delete", "update", "with") else ""
        )
        return [Destroying(Way(verb), " ".join(text.split())[:120], is_counted=False)] if verb else []
    destroyings: list[Destroying] = []
    if isinstance(root, exp.Create) and root.args.get("replace") and str(root.kind or "").upper() == "TABLE":
        table = root.this.this if isinstance(root.this, exp.Schema) else root.this
        destroyings.append(Destroying(Way.DROP, tr("table {sql}", sql=_sql(table, dialect)), _sql(table, dialect)))
    for node in root.walk():
        if isinstance(node, exp.Drop) and node is root:
            kind = str(node.args.get("kind") or "").lower()
            for target in node.args.get("tables") or [node.this]:
                name = _sql(target, dialect)
                destroyings.append(
                    Destroying(Way.DROP, f"{kind} {name}", name if kind == "table" else "", is_counted=kind == "table")
                )
        elif isinstance(node, exp.TruncateTable):
            destroyings += [
                Destroying(Way.TRUNCATE, tr("table {n}", n=n), n) for n in (_sql(t, dialect) for t in node.expressions)
            ]
        elif isinstance(node, exp.Alter):
            destroyings += _altered(node, dialect)
        elif isinstance(node, (exp.Delete, exp.Update)):
            destroyings.append(_rows(node, dialect))
    return destroyings


def _altered(node: exp.Expr, dialect: str) -> list[Destroying]:
    drops = [a for a in node.args.get("actions") or [] if "Drop" in type(a).__name__]
    if not drops:
        return []
    table = _sql(node.this, dialect)
    kinds = [str(d.args.get("kind") or "column").lower() for d in drops]
    columns = tuple(_sql((d.args.get("tables") or [d.this])[0], dialect) for d, k in zip(drops, kinds, strict=True)
                    if k == "column" and isinstance(d, exp.Drop))  # fmt: skip
    text = ", ".join(_sql(d, dialect).lower() for d in drops)
    return [
        Destroying(Way.ALTER, tr("{text} of {table}", text=text, table=table), table, columns, is_counted=bool(columns))
    ]


def _rows(node: exp.Expr, dialect: str) -> Destroying:
    way = Way.DELETE if isinstance(node, exp.Delete) else Way.UPDATE
    where = node.args.get("where")
    joined = any(node.args.get(name) for name in ("using", "from_", "from", "tables", "limit", "with_", "with"))
    table = node.this
    plain = isinstance(table, exp.Table) and not table.args.get("joins") and not joined
    name = _sql(table, dialect)
    if where is None:
        return Destroying(
            way, tr("rows of {name}", name=name), name if isinstance(table, exp.Table) else "", is_counted=plain
        )
    # bound parameters come out in the driver's form; the source's text has them as :name
    return Destroying(way, tr("rows of {name}", name=name), name if plain else "", (), _sql(where.this, dialect), plain)


def _sql(node: exp.Expr, dialect: str) -> str:
    copy = node.copy()
    for mark in list(copy.find_all(exp.Placeholder)):
        mark.replace(exp.Var(this=f":{mark.name}"))
    return str(copy.sql(dialect=dialect or None))
