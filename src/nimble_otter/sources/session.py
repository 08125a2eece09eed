"""What a statement or a transaction under way asks of the connection that it belongs to."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass
from typing import Any, Protocol

from nimble_otter.sources.dialects import Dialect
from nimble_otter.sources.facts import Ask, TableFacts
from nimble_otter.values import ClientObject

Bound = tuple[str, tuple[Any, ...]]
"""A statement with the driver's markers, and its values in their order."""


@dataclass(frozen=True, slots=True)
class Done:
    """What a statement did: rows touched, rows given back, and how many rows triggers and keys changed beside (0 where
    the server does not tell)."""

    touched: int
    rows: tuple[tuple[Any, ...], ...] = ()
    beside: int = 0


class Explaining(Protocol):
    """Tells the driver's errors in our words."""

    def translate_error(self, problem: Exception, text: str) -> Exception | None:
        """An error of the driver in our words; None where it is not one of the driver's."""

    def drop_connections(self) -> None:
        """Believe no connection of before any more: the line was lost."""


class Running(Protocol):
    """Has a query under way: `drains`, whether a connection given back reads all rows that are left first."""

    drains: bool

    def explained(self, text: str = "") -> AbstractContextManager[None]:
        """What is done inside has its errors told in our words."""

    def handle_of(self, driver: object) -> object:
        """By what a query is cancelled from another thread."""

    def socket_of(self, driver: object) -> int | None:
        """The number of the socket of a client's connection; None where there is none to be cut."""

    def cancel(self, handle: ClientObject) -> None:
        """Cancel what runs."""

    def abandon(self, driver: object, cursor: object) -> None:
        """The line of this connection was cut while rows were left: nobody waits for them."""

    def release(self, driver: object) -> None:
        """What is left to do before a connection goes back."""

    def note_use(self) -> None:
        """The line was in use just now; it need not be tried before the next statement."""


class Writing(Protocol):
    """Has a transaction under way; what is not said here stands at `Relational`."""

    guarded: tuple[str, ...]
    counts_changes: str
    rehearsal_note: str
    settles: tuple[str, ...]
    signs: str
    has_written: bool
    default_schema: str | None

    @property
    def dialect(self) -> Dialect:
        """What the server speaks."""

    def explained(self, text: str = "") -> AbstractContextManager[None]:
        """What is done inside has its errors told in our words."""

    def run_many(self, driver: object, wanted: Sequence[Bound]) -> list[Done]:
        """Run statements in their order, with as few waits as the driver can."""

    def reading_cursor(self, driver: object) -> ClientObject:
        """A cursor that gives values in the forms in which a query gives them."""

    def facts_of(self, ask: Ask, schema: str | None, name: str, default: str | None) -> TableFacts:
        """What hangs on a table, asked on the connection that writes."""
