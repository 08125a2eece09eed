"""Any other server that SQLAlchemy has a dialect for: opened by its URL, with what that dialect offers."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import suppress
from typing import Any

from nimble_otter.errors import AuthError, ConnectError, LostError, QueryError
from nimble_otter.query.statements import parameter_places
from nimble_otter.sources.answer import batches_of
from nimble_otter.sources.relational import Relational
from nimble_otter.sources.secrets import with_secret
from nimble_otter.table import Kind


class _Other:
    key = "other"
    word = "database"
    schemes = ("*",)

    def takes(self, scheme: str) -> bool:
        """Whether SQLAlchemy knows the dialect and its package is here."""
        from sqlalchemy import make_url
        from sqlalchemy.exc import SQLAlchemyError

        try:
            make_url(f"{scheme}://").get_dialect().import_dbapi()
        except (SQLAlchemyError, ImportError):
            return False
        return True

    def connect(self, url: str, password: str | None = None) -> OtherConnection:
        return OtherConnection(url, password)


class OtherConnection(Relational):
    """See sources.source.Connection. Writing is not offered; whether reads are held to reading is up to the server, so
    every run ends with a rollback."""

    word = "This kind of server"
    is_typed = False

    def __init__(self, url: str, password: str | None) -> None:
        from sqlalchemy import create_engine
        from sqlalchemy.exc import ArgumentError

        try:
            engine = create_engine(with_secret(url, password), pool_size=2, max_overflow=2)
        except ArgumentError:
            raise ConnectError("The URI can't be used.", "Write it like dialect://user@host:port/NAME.") from None
        super().__init__(engine)
        self.dialect = engine.dialect.name
        self._probe()

    def _start(self, answer: Any, text: str, values: dict[str, Any]) -> tuple[list[str], list[Kind | None]]:
        cursor = answer.cursor = answer.driver.cursor()
        if values:
            made = _clause(text, values).compile(dialect=self._engine.dialect)
            bound = made.construct_params(escape_names=False)
            order = made.positiontup
            cursor.execute(str(made), bound if order is None else tuple(bound[name] for name in order))
        else:
            cursor.execute(text)
        if cursor.description is None:
            return [], []
        answer.rows = _batches(cursor)
        return [c[0] for c in cursor.description], [None] * len(cursor.description)

    def _cancel(self, handle: Any) -> None:
        with suppress(Exception):  # not every client can
            handle.cancel()

    def _say(self, problem: Exception, text: str) -> Exception | None:
        base = getattr(self._engine.dialect.loaded_dbapi, "Error", None)
        if base is None or not isinstance(problem, base):
            return None
        said = " ".join(str(part) for part in problem.args) or type(problem).__name__
        low = said.lower()
        if "password" in low or "authentication" in low:
            return AuthError("The server refused the user name or password.", "Check both in the source.")
        if not text:
            return ConnectError(f"The server could not be reached: {said}.", "Check the URI.")
        if "network" in low or "connection" in low or "closed" in low:
            return LostError("The connection to the server was lost.", "Run again; the rows fetched so far are kept.")
        return QueryError(f"The server says: {said}.")


def _clause(text: str, values: dict[str, Any]) -> Any:
    from sqlalchemy import text as clause

    pieces, at = [], 0
    for start, end, name in parameter_places(text):
        pieces += [text[at:start].replace(":", "\\:"), f":{name}"]
        at = end
    return clause("".join(pieces) + text[at:].replace(":", "\\:")).bindparams(**values)


def _batches(cursor: Any) -> Iterator[list[Any]]:
    for batch in batches_of(cursor):
        yield [tuple(row) for row in batch]


DRIVER = _Other()
