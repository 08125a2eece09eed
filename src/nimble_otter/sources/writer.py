"""A transaction that changes rows: many statements at a time, so that a far server does not make each of them wait."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import suppress
from typing import TYPE_CHECKING

from nimble_otter.sources.catalogue import TableInfo
from nimble_otter.sources.dialects import Dialect
from nimble_otter.sources.facts import TableFacts
from nimble_otter.sources.session import Bound, Done, Writing
from nimble_otter.sources.source import check_guarded
from nimble_otter.values import ClientObject, Value

if TYPE_CHECKING:
    from sqlalchemy.engine.interfaces import DBAPIConnection


class Writer:
    """One transaction on a relational server, rolled back unless `commit` was called. Errors are SourceError's."""

    def __init__(self, connection: Writing, driver: DBAPIConnection) -> None:
        self._connection, self.driver = connection, driver
        self.mark = ""

    @property
    def dialect(self) -> Dialect:
        """In which the statements are written."""
        return self._connection.dialect

    @property
    def rehearsal_note(self) -> str:
        """What is said of every rehearsal here; see `Relational`."""
        return self._connection.rehearsal_note

    @property
    def can_go_back(self) -> bool:
        """Whether the server has savepoints."""
        return bool(self.dialect.savepoint)

    def go_back(self, point: str) -> None:
        """To a savepoint, which stays. Only where `can_go_back`."""
        self.execute(self.dialect.rollback_to_savepoint.format(point))

    def execute_many(
        self, wanted: Sequence[Bound], point: str = "", stays: bool = False, is_again: bool = False
    ) -> list[Done]:
        """Run statements in their order. When one fails the transaction is only good for going back to a savepoint.

        A savepoint of the name `point` stands before them, where the server has such a thing; it is released after them
        unless it `stays`, and `is_again` where one of that name stands from before."""
        if self._connection.guarded:
            for text, _ in wanted:
                check_guarded(self._connection.guarded, text)
        words = self.dialect
        frees = [(words.release_savepoint.format(point), ())] if point and words.release_savepoint else []
        before = [
            *(frees if is_again else []),
            *([(words.savepoint.format(point), ())] if point and words.savepoint else []),
        ]
        after = [] if stays else frees
        with self._connection.explained():
            done = self._connection.run_many(self.driver, [*before, *wanted, *after])
        return done[len(before) : len(before) + len(wanted)]

    def query(self, bound: Bound) -> tuple[list[str], list[tuple[Value, ...]]]:
        """Names and rows of a query of our own."""
        with self._connection.explained():
            cursor = self._connection.reading_cursor(self.driver)
            try:
                cursor.execute(*bound)
                return [c[0] for c in cursor.description], [tuple(row) for row in cursor.fetchall()]
            finally:
                with suppress(Exception):
                    cursor.close()

    def facts(self, table: TableInfo) -> TableFacts:
        """What hangs on a table now, as this transaction sees it."""
        own = self._connection
        return own.facts_of(
            lambda text, values: self.query((text, values))[1], table.schema or None, table.bare, own.default_schema
        )

    def changed_elsewhere(self) -> int | None:
        """Rows that this transaction has changed so far in all tables; None where the server does not tell."""
        text = self._connection.counts_changes
        return int(self.query((text, ()))[1][0][0]) if text else None

    def execute(self, text: str) -> None:
        """A statement that gives nothing."""
        with self._connection.explained():
            cursor = self.driver.cursor()
            try:
                cursor.execute(text)
            finally:
                with suppress(Exception):
                    cursor.close()

    def check_deferred(self) -> None:
        """Let the server check now what it would check at the commit."""
        for text in self._connection.settles:
            self.execute(text)

    def record_transaction_id(self) -> None:
        """Note by what the transaction can be asked for afterwards, where the server has such a thing."""
        if self._connection.signs:
            self.mark = str(self.query((self._connection.signs, ()))[1][0][0])

    def commit(self) -> None:
        """Raises: SourceError's; after LostError the outcome is not known."""
        self._connection.has_written = True
        with self._connection.explained():
            self.driver.commit()


def run_each(make_cursor: Callable[[], ClientObject], wanted: Sequence[Bound]) -> list[Done]:
    """Statements one after the other, for a server that is near."""
    results = []
    for text, values in wanted:
        cursor = make_cursor()
        try:
            cursor.execute(text, values)
            rows = tuple(map(tuple, cursor.fetchall())) if cursor.description is not None else ()
            results.append(Done(len(rows) if rows else max(cursor.rowcount, 0), rows))
        finally:
            with suppress(Exception):
                cursor.close()
    return results
