"""Which table of a result can be changed, by what key, and for every other column why not."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from nimble_otter.errors import NoKeyError
from nimble_otter.sources.catalogue import ColumnInfo, EntryKind, TableInfo
from nimble_otter.sources.dialects import Dialect
from nimble_otter.sources.dialects.sqlite import SQLITE
from nimble_otter.sources.trace import Origin
from nimble_otter.table import Column, Field, Table, View
from nimble_otter.table.ops.group import group_view
from nimble_otter.translation import tr, tr_value
from nimble_otter.values import Value


@dataclass(frozen=True, slots=True)
class Target:
    """`keys` and `columns` map places in the result to columns of `table`; `refusals` the other places to reasons.
    Keys that the result does not show are in `unseen`, their places counted on from the result's own. `by_values`: the
    table has no key, so that all its columns in the result are it.

    `table` is None where nothing can be changed; `reason` says why. `could_match`: rows of a table without a key could
    be matched by all their values, if that is asked for. `dialect` is that of the statements; `computed` are columns
    that the table works out itself, read back with the others.
    """

    table: TableInfo | None
    keys: tuple[tuple[int, str], ...] = ()
    columns: tuple[tuple[int, ColumnInfo], ...] = ()
    refusals: tuple[tuple[int, str], ...] = ()
    reason: str = ""
    unseen: Table | None = None
    by_values: bool = False
    could_match: bool = False
    dialect: Dialect = SQLITE
    computed: tuple[tuple[int, str], ...] = ()

    def column(self, place: int) -> ColumnInfo:
        """The column behind a place in the result. Raises: NoKeyError that says why it can't be changed."""
        for at, info in self.columns:
            if at == place:
                return info
        raise NoKeyError(dict(self.refusals).get(place, self.reason) or tr("This column can't be changed."))

    def takes(self, place: int) -> bool:
        """Whether the column at a place can be changed."""
        return any(at == place for at, _ in self.columns)

    @property
    def is_open(self) -> bool:
        """Whether anything can be changed."""
        return self.table is not None

    def held(self, table: Table, place: int) -> Column:
        """The values at a place of the result, or of the key columns behind it."""
        own = len(table.columns)
        return table.columns[place] if place < own or self.unseen is None else self.unseen.columns[place - own]

    def field(self, table: Table, place: int) -> Field:
        """The field at a place of the result, or of the keys behind it."""
        own = len(table.columns)
        return table.fields[place] if place < own or self.unseen is None else self.unseen.fields[place - own]

    def values(self, table: Table, place: int, rows: Sequence[int]) -> dict[int, Value]:
        """The values of some rows by their row id, taken at once."""
        ids = np.array(rows, np.int64)
        return dict(zip(rows, self.held(table, place).values(ids), strict=True)) if len(ids) else {}

    def value(self, table: Table, place: int, row: int) -> Value:
        """The value of a row at such a place."""
        return self.held(table, place).value(row)


def find_target(
    table: Table,
    origins: Sequence[Origin | None],
    tables: Sequence[TableInfo],
    unseen: Table | None = None,
    by_values: bool = False,
    dialect: Dialect = SQLITE,
) -> Target:
    """Choose the first table in the query whose whole key is in the result, once for each row. `origins` are of the
    result's columns and then of those in `unseen`; `by_values`: a table without a key is taken by all its values."""
    by_name = {t.name: t for t in tables}
    reasons: dict[str, str] = {}
    could_match = False
    chosen: tuple[str, TableInfo, dict[str, int], tuple[str, ...]] | None = None
    for alias in dict.fromkeys(o.alias for o in origins if o is not None):
        own = {o.column: index for index, o in reversed(list(enumerate(origins))) if o is not None and o.alias == alias}
        name = next(o.table for o in origins if o is not None and o.alias == alias)
        info = by_name[name]
        is_keyless = info.kind == EntryKind.TABLE and not info.keys
        key = tuple(own) if is_keyless and by_values else _key(info, own)
        problem = _problem(table, unseen, info, own, key, [o for o in origins if o is not None and o.alias == alias])
        could_match = could_match or (is_keyless and not by_values and problem == _keyless(info))
        if problem:
            reasons[alias] = problem
        elif chosen is None:
            chosen = (alias, info, own, key)
        else:
            reasons[alias] = tr(
                "Changes go to {chosen_name} here; open {name} to change it.", chosen_name=chosen[1].name, name=name
            )
    if chosen is None:
        reason = next(iter(reasons.values()), tr("No column of the result comes straight from a table."))
        return Target(None, reason=reason, could_match=could_match)
    alias, info, own, key = chosen
    columns, refusals, computed = [], [], []
    for index, origin in enumerate(origins[: len(table.fields)]):
        if origin is None:
            refusals.append(
                (
                    index,
                    tr(
                        "{fields_name} is computed by the query; there is no column to write to.",
                        fields_name=table.fields[index].name,
                    ),
                )
            )
        elif origin.alias != alias:
            refusals.append(
                (
                    index,
                    reasons.get(origin.alias, tr("{origin_label} can't be changed here.", origin_label=origin.label)),
                )
            )
        elif own[origin.column] != index:
            refusals.append(
                (index, tr("{origin_label} is in the result twice; change the first one.", origin_label=origin.label))
            )
        else:
            known = info.column(origin.column)
            assert known is not None
            if known.generated and known.generated != "identity":
                refusals.append(
                    (
                        index,
                        tr("{origin_label} is a generated column; the table computes it.", origin_label=origin.label),
                    )
                )
                computed.append((index, known.name))
            else:
                columns.append((index, known))
    keys = tuple((own[column], column) for column in key)
    is_by_values = by_values and not info.keys
    return Target(
        info, keys, tuple(columns), tuple(refusals), "", unseen, is_by_values, False, dialect, tuple(computed)
    )


def _key(info: TableInfo, own: dict[str, int]) -> tuple[str, ...]:
    """The first of the table's keys that is in the result, else its primary one."""
    whole = [key for key in info.keys if all(column in own for column in key)]
    return whole[0] if whole else next(iter(info.keys), ())


def _keyless(info: TableInfo) -> str:
    return tr("{table} has no key, so its rows can't be identified.", table=info.name)


def _problem(
    table: Table,
    unseen: Table | None,
    info: TableInfo,
    own: dict[str, int],
    key: tuple[str, ...],
    origins: Sequence[Origin],
) -> str:
    if info.kind not in (EntryKind.TABLE, EntryKind.VIEW):
        return tr(
            "{info_name} is a {kind}; its rows are maintained by the server.",
            info_name=info.name,
            kind=tr_value(info.kind),
        )
    if info.kind == EntryKind.VIEW:
        return tr("{info_name} is a view; open the table behind it to change it.", info_name=info.name)
    if not origins[0].is_direct:
        return tr("The query groups or merges rows, so a result row is not one row of the table.")
    if not key:
        return _keyless(info)
    absent = [column for column in key if column not in own]
    if absent:
        return tr(
            "The key of {info_name} is not in the result; add {absent} to the query.",
            info_name=info.name,
            absent=", ".join(absent),
        )
    if not info.keys:
        return ""  # rows that are alike are told when they are written
    whole = table if unseen is None else replace(
        table, fields=(*table.fields, *unseen.fields), columns=(*table.columns, *unseen.columns)
    )  # fmt: skip
    places = [own[column] for column in key]
    filled = np.arange(table.rows)[~np.any([whole.columns[p].empty_at() for p in places], axis=0)]
    if len(filled) and group_view(View(whole, filled), places, []).leaves.rows < len(filled):
        return tr(
            "Rows of {info_name} appear more than once in the result; open {info_name} to change it.",
            info_name=info.name,
        )
    return ""
