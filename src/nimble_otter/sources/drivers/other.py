"""Any other server that SQLAlchemy has a dialect for: opened by its URL, with what that dialect offers."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import suppress
from typing import TYPE_CHECKING, Any

from nimble_otter.errors import AuthError, ConnectError, LostError, QueryError
from nimble_otter.query.lazy import sqlglot
from nimble_otter.query.sql.statements import parameter_places
from nimble_otter.sources.address import AddressForm
from nimble_otter.sources.dialects import Dialect
from nimble_otter.sources.relational import Relational
from nimble_otter.sources.result_stream import batches_of
from nimble_otter.sources.urls import check_options, with_secret
from nimble_otter.table import Kind

if TYPE_CHECKING:
    from sqlalchemy.engine.interfaces import DBAPIConnection

_WORD = r"[\w.,\- ]{1,80}"
_OPTIONS = dict.fromkeys(
    ("charset", "encoding", "driver", "Encrypt", "TrustServerCertificate", "timeout", "connect_timeout", "sslmode",
     "ssl_mode", "service_name", "schema", "warehouse", "role", "http_path", "catalog", "auth", "protocol", "secure",
     "application_name", "tds_version", "autocommit"),
    _WORD,
)  # fmt: skip
"""Options that a URL may give to a package of which little is known: none that takes a path, a host or a statement."""


class _Other:
    key = "other"
    word = "database"
    schemes = ("*",)
    dialects = ()
    address = AddressForm("Other, by URI", 5, "dialect://user@host/name")

    def takes(self, scheme: str) -> bool:
        """Whether SQLAlchemy knows the dialect and its package is here."""
        from sqlalchemy import make_url
        from sqlalchemy.exc import SQLAlchemyError

        try:
            make_url(f"{scheme}://").get_dialect().import_dbapi()
        except (SQLAlchemyError, ImportError):
            return False
        return True

    def connect(self, url: str, password: str | None = None, clear_password: bool = False) -> OtherConnection:
        check_options(url, _OPTIONS)
        return OtherConnection(url, password)


_PARSERS = {"postgresql": "postgres", "mariadb": "mysql", "mssql": "tsql"}


class _Compiled(Dialect):
    """One of which its name is known."""

    def __init__(self, name: str) -> None:
        self.key = self.family = self.compiler = self.display_name = name
        self.keys = (name,)
        self.parser = _PARSERS.get(name, name)
        if sqlglot.Dialect.get(self.parser) is None:
            self.parser = ""


class OtherConnection(Relational):
    """See sources.source.Connection. Writing is not offered: only what the guard reads as reading is sent, in a session
    set to reading where the dialect has such a thing, and every run ends with a rollback."""

    word = "This kind of server"
    is_typed = False

    def __init__(self, url: str, password: str | None) -> None:
        from sqlalchemy import create_engine
        from sqlalchemy.exc import ArgumentError

        try:
            engine = create_engine(with_secret(url, password), pool_size=2, max_overflow=2)
        except ArgumentError as problem:
            raise ConnectError("The URI can't be used.", "Write it like dialect://user@host:port/NAME.") from problem
        hold_to_reading(engine)
        super().__init__(engine)
        self._spoken = _Compiled(engine.dialect.name)
        self._probe()

    @property
    def dialect(self) -> Dialect:
        """The general dialect: what the database's own package tells."""
        return self._spoken

    def _start(self, answer: Any, text: str, values: dict[str, object]) -> tuple[list[str], list[Kind | None]]:
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

    def cancel(self, handle: Any) -> None:
        """Nothing: there is no general way to stop a query from outside."""
        with suppress(Exception):  # not every client can
            handle.cancel()

    def translate_error(self, problem: Exception, text: str) -> Exception | None:
        """The client's error as one of ours."""
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


_READ_ONLY = {
    "postgresql": "set session characteristics as transaction read only",
    "mysql": "set session transaction read only",
    "mariadb": "set session transaction read only",
    "sqlite": "pragma query_only = on",
}


def hold_to_reading(engine: Any) -> None:
    """Every new connection of the engine is told to only read, where its dialect has such a statement."""
    from sqlalchemy import event

    text = _READ_ONLY.get(engine.dialect.name)

    @event.listens_for(engine, "connect")
    def prepare(connection: DBAPIConnection, record: object) -> None:
        if text:
            cursor = connection.cursor()
            cursor.execute(text)
            cursor.close()
            connection.commit()


def _clause(text: str, values: dict[str, object]) -> Any:
    from sqlalchemy import text as clause

    pieces, at = [], 0
    for start, end, name in parameter_places(text):
        pieces += [text[at:start].replace(":", "\\:"), f":{name}"]
        at = end
    return clause("".join(pieces) + text[at:].replace(":", "\\:")).bindparams(**values)


def _batches(cursor: object) -> Iterator[list[Any]]:
    for batch in batches_of(cursor):
        yield [tuple(row) for row in batch]


DRIVER = _Other()
