"""A table's checks, as far as they can be worked out here: what they surely refuse is refused when it is typed.

The server has the last word. A check that names what is not known here (functions, columns that the result lacks, texts
in the order of a collation) is left to it.
"""

from __future__ import annotations

from collections.abc import Mapping
from functools import lru_cache

import numpy as np

from nimble_otter.errors import ConditionError, QueryError, ValueRefused
from nimble_otter.query.lazy import exp, sqlglot
from nimble_otter.query.local.conditions import parse_condition
from nimble_otter.sources.catalogue import TableInfo
from nimble_otter.sources.dialects import Dialect
from nimble_otter.table import Field, Kind, Table
from nimble_otter.table.core.build import column_of
from nimble_otter.table.ops.conditions import All, Among, ColumnAt, Compare, Either, IsEmpty, Node, Not
from nimble_otter.table.ops.filter import false_of
from nimble_otter.translation import tr


@lru_cache(512)
def _read(check: str, parser: str) -> tuple[str, frozenset[str]] | None:
    """The check in the local dialect and the columns that it names; None where it is left to the server."""
    try:
        tree = sqlglot.parse_one(f"select 1 where {check}", read=parser).args["where"].this
    except (sqlglot.errors.SqlglotError, KeyError, AttributeError):
        return None
    if tree.find(exp.Collate, exp.Glob, exp.Subquery, exp.Anonymous):
        return None
    return tree.sql("postgres"), frozenset(column.name.casefold() for column in tree.find_all(exp.Column))


def _ranks_texts(node: object, texts: frozenset[int], folds: bool) -> bool:
    """Whether a condition compares texts by their order, or in a way that the server may take more loosely."""
    if isinstance(node, (All, Either)):
        return any(_ranks_texts(part, texts, folds) for part in node.parts)
    if isinstance(node, Not):
        return _ranks_texts(node.part, texts, folds)
    if isinstance(node, IsEmpty):
        return False
    sides = (node.left, node.right) if isinstance(node, Compare) else (getattr(node, "operand", None),)
    if not all(isinstance(side, ColumnAt) for side in sides[:1]):
        return bool(texts)  # functions of texts are the server's own
    if not any(isinstance(side, ColumnAt) and side.index in texts for side in sides):
        return False
    return folds or not (isinstance(node, Among) or (isinstance(node, Compare) and node.op in ("=", "<>")))


def _folds(table: TableInfo, dialect: Dialect, names: list[str]) -> bool:
    """Whether texts that differ may be equal to the server in some of the columns."""
    infos = [info for name in names if (info := table.column(name)) is not None]
    loose = any(info.folds or info.declared.upper().startswith(("CHAR", "BPCHAR", "CITEXT")) for info in infos)
    return loose or dialect.folds_texts


def checked_with(table: TableInfo, dialect: Dialect, name: str) -> frozenset[str]:
    """The columns, in small letters, that the checks of a column are worked out from; none where it has no check."""
    results = [_read(check, dialect.parser) for check in table.checks or ()]
    return frozenset().union(*(read[1] for read in results if read is not None and name.casefold() in read[1]))


def refuse_broken(table: TableInfo, dialect: Dialect, name: str, values: Mapping[str, object]) -> None:
    """`values` are what a row would hold, by column, `name` the column that is changed. Raises: ValueRefused, where a
    check of the table is surely false then."""
    held = {column.casefold(): value for column, value in values.items()}
    for check in table.checks or ():
        found = _read(check, dialect.parser)
        if found is None or name.casefold() not in found[1] or not found[1] <= held.keys():
            continue
        names = sorted(found[1])
        columns = [column_of([held[n]]) for n in names]
        row = Table(tuple(Field(n, c.kind) for n, c in zip(names, columns, strict=True)), tuple(columns), 1)
        texts = frozenset(n for n, c in enumerate(columns) if c.kind is Kind.TEXT and held[names[n]] is not None)
        try:
            node: Node = parse_condition(found[0], row)
            is_sure = not _ranks_texts(node, texts, _folds(table, dialect, names))
            is_false = is_sure and bool(false_of(node, row, np.arange(1))[0])
        except (ConditionError, QueryError):
            continue
        if is_false:
            raise ValueRefused(
                tr(
                    "{table_name} has a check that {name} would break: {check}.",
                    table_name=table.name,
                    name=name,
                    check=check,
                ),
                tr("Type another value."),
            )
