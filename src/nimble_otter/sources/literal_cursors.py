"""Cursors (PEP 249) for clients whose protocol has no place for values: they are written into the text, as literals of
their own kinds."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

from nimble_otter.query.sql.statements import parameter_places
from nimble_otter.sources.dialects import Dialect
from nimble_otter.sources.dialects.general import PLACE
from nimble_otter.values import ClientObject, Value

_VALUE = re.compile(PLACE.format(r"(\d+)"))


def with_literals(text: str, values: Mapping[str, object], dialect: Dialect) -> str:
    """A query with its parameters as literals."""
    pieces, at = [], 0
    for start, end, name in parameter_places(text) if values else ():
        pieces += [text[at:start], dialect.literal(values[name], None)]
        at = end
    return "".join(pieces) + text[at:]


class LiteralConnection:
    """A connection whose cursors write values into the text."""

    def __init__(self, own: ClientObject, dialect: Dialect) -> None:
        self._own, self._dialect = own, dialect

    def cursor(self) -> LiteralCursor:
        """A cursor."""
        return LiteralCursor(self._own.cursor(), self._dialect)

    def commit(self) -> None:
        """Nothing: every statement was done at once."""

    def cancel(self) -> None:
        """End what is under way; any thread may ask."""
        self._own.cancel()


class LiteralCursor:
    """See PEP 249."""

    def __init__(self, own: ClientObject, dialect: Dialect) -> None:
        self._own, self._dialect = own, dialect
        self.rowcount = -1

    @property
    def description(self) -> Value:
        """The columns of a result."""
        return self._own.description

    def execute(self, text: str, values: Sequence[object] = ()) -> None:
        """Run a statement, each of whose marks has the number of its value."""
        self._own.execute(_VALUE.sub(lambda found: self._dialect.literal(values[int(found[1]) - 1], None), text))

    def fetchall(self) -> list[Value]:
        """All rows that are left."""
        return list(self._own.fetchall())

    def fetchmany(self, size: int = 1) -> list[Value]:
        """Rows, at most so many."""
        return list(self._own.fetchmany(size))

    def close(self) -> None:
        """Let go of the statement."""
        self._own.close()
