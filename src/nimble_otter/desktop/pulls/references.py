"""What a column that refers to another table may hold: the keys there, each with a readable column beside it."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from nimble_otter.desktop.pulls.open_pull import OpenPull
from nimble_otter.sources import ColumnInfo, Request, TableInfo, fetch
from nimble_otter.table.text.show import plain
from nimble_otter.translation import tr

if TYPE_CHECKING:
    from nimble_otter.stop import StopToken

MOST = 2000
"""Rows of the referred table that are offered."""


class References:
    """Asked for once for each table; looked up again with the next pull."""

    def __init__(self) -> None:
        self._known: dict[tuple[str, str], list[tuple[str, str]]] = {}

    def find(self, open_pull: OpenPull, info: ColumnInfo, then: Callable[[list[tuple[str, str]]], object]) -> None:
        """Hand over pairs of (key, what to read beside it), now or when they have come."""
        source = open_pull.rows_source
        table, _, column = info.refers.rpartition(".")
        at = (source.name, info.refers)
        if at in self._known:
            then(self._known[at])
            return
        known = next((t for t in open_pull.tables if t.name == table), None)
        names = [column, *([readable] if known is not None and (readable := _readable(known, column)) else [])]

        def work(stop: StopToken, report: Callable[[object], None]) -> list[tuple[str, str]]:
            connection = open_pull.hub.connection(source)
            asked = ", ".join(map(connection.quoted, names))
            text = f"select {asked} from {connection.quoted(table)} order by {connection.quoted(names[-1])}"
            rows = fetch(connection, Request(text, limit=MOST), stop).table
            columns = [[plain(value) for value in made.values()] for made in rows.columns]
            return list(zip(columns[0], columns[1] if len(columns) > 1 else [""] * rows.rows, strict=True))

        def done(found: list[tuple[str, str]]) -> None:
            self._known[at] = found
            then(found)

        # what can't be looked up can still be typed
        open_pull.jobs.submit(
            open_pull.hub.lane(source), f"{open_pull.key} choices", work, done, lambda problem: None,
            title=tr("Looking up {table}", table=table),
        )  # fmt: skip


def _readable(table: TableInfo, key: str) -> str:
    """The column by which a person knows a row: a name or title, else the first text."""
    texts = [c.name for c in table.columns if c.word == "text" and c.name != key and not c.refers]
    named = [name for name in texts if any(word in name.casefold() for word in ("name", "title", "label"))]
    return next(iter(named or texts), "")
