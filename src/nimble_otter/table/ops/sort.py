"""Ordering the rows of a view by columns."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import partial

import numpy as np

from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table.core.columns import Column, Ids, Kind, View
from nimble_otter.table.kernels.keys import key_pieces
from nimble_otter.table.kernels.packing import order_of
from nimble_otter.table.text.collation import ranked


@dataclass(frozen=True, slots=True)
class SortKey:
    """A column's place in the table and how to order by it. NaN comes after all numbers, before the empty ones. `order`
    is one of collation.ORDERS, `language` one of collation.LANGUAGES, for texts."""

    column: int
    descending: bool = False
    empty_first: bool = False
    order: str = ""
    language: str = ""


def sort_view(view: View, keys: Sequence[SortKey], stop: StopToken = NEVER) -> View:
    """The view's rows in order.

    Parameters
    ----------
    view : View
    keys : sequence of SortKey
        The most significant first.
    stop : StopToken

    Returns
    -------
    View
        The same rows; those with equal keys stay in the order that they had.

    Raises
    ------
    Stopped

    Examples
    --------
    >>> from nimble_otter.table.core.build import table_of
    >>> table = table_of(n=[3, None, 1])
    >>> ordered = sort_view(View(table), [SortKey(0, descending=True)])
    >>> table.columns[0].values(ordered.row_ids())
    [3, 1, None]
    """
    if not keys or len(view) < 2:
        return view
    ids = view.row_ids()
    columns = [_ordered(view.table.columns[key.column], ids, key, stop) for key in keys]
    sources = [
        partial(key_pieces, column, ids, key.descending, key.empty_first, stop)
        for column, key in zip(columns, keys, strict=True)
    ]
    loose = _with_value(columns[0], ids, keys[0].empty_first) if len(keys) == 1 else slice(None)
    order = order_of(sources, len(ids), stop, loose)
    return View(view.table, order if view.ids is None else ids.take(order))


def _ordered(column: Column, ids: Ids, key: SortKey, stop: StopToken) -> Column:
    is_own = bool(key.order) and column.kind is Kind.TEXT
    return ranked(column, ids, key.order, key.language, stop) if is_own else column


def _with_value(column: Column, ids: Ids, empty_first: bool) -> slice:
    """Where, in the order by a single key, the rows stand that have a value; the others stay as they were."""
    gone = int(np.count_nonzero(column.empty_at(ids))) if column.empty is not None else 0
    return slice(gone, None) if empty_first else slice(0, len(ids) - gone)
