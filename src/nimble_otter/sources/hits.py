"""What a statement that destroys would hit, counted at the server before it runs."""

from __future__ import annotations

from dataclasses import dataclass

from nimble_otter.errors import OtterError, Stopped
from nimble_otter.query.sql.destroying import Destroying, Way, destroying
from nimble_otter.query.sql.statements import find_parameters
from nimble_otter.sources.fetch import fetch
from nimble_otter.sources.source import Connection, Request
from nimble_otter.stop import NEVER, StopToken


@dataclass(frozen=True, slots=True)
class Hit:
    """`rows` of the `total` in the table would be hit, None where they were not counted (in time)."""

    text: str
    what: Destroying
    rows: int | None = None
    total: int | None = None

    @property
    def is_every(self) -> bool:
        """Whether it has to be shown before it runs: it hits every row, or what it hits is not known or is no rows."""
        if self.what.way not in (Way.DELETE, Way.UPDATE):
            return True
        if self.what.where is None:
            return True
        return self.rows is None or (self.rows > 0 and self.rows == self.total)


def find_hits(connection: Connection, statements: list[str], request: Request, stop: StopToken = NEVER) -> list[Hit]:
    """What each of the statements would destroy, counted with the parameters of `request`. What a stop, or the server,
    keeps from being counted has no count."""
    results = []
    for text in statements:
        for what in destroying(text, connection.dialect.parser):
            rows = total = None
            if what.is_counted and what.table:
                rows = total = _count(connection, f"select count(*) from {what.table}", request, stop)
                if what.where is not None:
                    rows = _count(connection, f"select count(*) from {what.table} where {what.where}", request, stop)
                elif what.columns:
                    filled = " + ".join(f"count({name})" for name in what.columns)
                    rows = _count(connection, f"select {filled} from {what.table}", request, stop)
            results.append(Hit(text, what, rows, total))
    return results


def _count(connection: Connection, text: str, request: Request, stop: StopToken) -> int | None:
    """One number; None where the server refused or the work was stopped."""
    if stop.is_set():
        return None
    values = {name: request.parameters.get(name) for name in find_parameters(text)}
    try:
        table = fetch(connection, Request(text, values), stop).table
    except (OtterError, Stopped):
        return None
    return int(table.columns[0].value(0)) if table.rows and not stop.is_set() else None
