"""A transaction that stays open over several statements, until it is committed or rolled back."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator
from contextlib import AbstractContextManager, contextmanager, suppress
from dataclasses import dataclass
from typing import Any

from nimble_otter.sources.dialects import Dialect
from nimble_otter.values import ClientObject

_POINT = "nimble_otter"


@dataclass(frozen=True, slots=True)
class OpenTransaction:
    """What is told of an open transaction: when it began, and how many statements ran in it."""

    since: dt.datetime
    statements: int = 0


class HeldTransaction:
    """Keeps a driver's writing block open. A statement that fails is undone alone; those before it stay."""

    def __init__(self, writing: AbstractContextManager[object], messages: list[str], dialect: Dialect) -> None:
        self._writing, self.messages, self._dialect = writing, messages, dialect
        self.driver: Any = writing.__enter__()
        self.told = OpenTransaction(dt.datetime.now())

    @contextmanager
    def statement(self) -> Iterator[ClientObject]:
        """The driver's connection for one statement, guarded by a savepoint, where the server has such a thing."""
        self.messages.clear()
        self._tell(self._dialect.savepoint)
        try:
            yield self.driver
        except BaseException:
            with suppress(Exception):  # of a connection that is lost nothing is left to undo
                self._tell(self._dialect.rollback_to_savepoint)
            raise
        self._tell(self._dialect.release_savepoint)
        self.told = OpenTransaction(self.told.since, self.told.statements + 1)

    def end(self, commit: bool) -> None:
        """Raises: what the driver raises when it commits."""
        try:
            if commit:
                self.driver.commit()
        finally:
            self._writing.__exit__(None, None, None)

    def _tell(self, text: str) -> None:
        if not text:
            return
        cursor = self.driver.cursor()
        try:
            cursor.execute(text.format(_POINT))
        finally:
            cursor.close()
