"""Connections to engines that keep no sessions, keys or transactions: each query has a line of its own, each statement
is done at once."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, ClassVar

from nimble_otter.sources.dialects import Dialect
from nimble_otter.sources.general import GeneralConnection
from nimble_otter.sources.result_stream import Answer
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table.core.parts import ColumnBatch
from nimble_otter.translation import tr
from nimble_otter.values import ClientObject, Value

if TYPE_CHECKING:
    from sqlalchemy import Engine


class EngineConnection(GeneralConnection):
    """See sources.source.Connection."""

    is_typed = True
    speaks: ClassVar[Dialect]
    edits_none = ""
    """Why its cells are not edited in place, as a sentence."""

    def __init__(self) -> None:
        super().__init__(f"{self.speaks.key}://", None, self.speaks)

    def _open(self) -> ClientObject:
        """A client's connection of its own, for reading. Raises: what the client raises."""
        raise NotImplementedError

    def _make_engine(self, **options: Value) -> Engine:
        from sqlalchemy import create_engine, pool

        self.speaks.spoken()
        return create_engine(f"{self.speaks.key}://", creator=lambda: self._open(), poolclass=pool.NullPool)

    def _hold_to_reading(self, engine: Engine) -> None:
        """There are no sessions to be held: a text is read before, or each request told."""

    def _ready(self, stop: StopToken = NEVER, is_sure: bool = False) -> None:
        """Each query opens a line."""

    def _give(self, answer: Answer, batches: Iterator[ColumnBatch]) -> None:
        """The rows of a query, as its reader takes them."""
        answer.rows = batches if answer.in_columns else (list(batch.as_rows()) for batch in batches)

    def _schemas(self, inspector: ClientObject) -> list[str | None]:
        own = inspector.default_schema_name
        return [own, *sorted(name for name in inspector.get_schema_names() if name != own)]

    def _met(self, cursor: ClientObject, text: str, rows: tuple[tuple[Value, ...], ...]) -> int:
        return len(rows)  # the server does not tell

    def rights(self) -> tuple[str, ...]:
        """See `Connection.rights`."""
        return (
            tr("Each statement is done at once: there are no transactions, and nothing is rehearsed or rolled back."),
            self.edits_none,
        )
