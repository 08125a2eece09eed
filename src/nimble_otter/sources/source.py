"""What a source is, what a driver must offer, and finding the driver of a URL."""

from __future__ import annotations

import importlib
import logging
import pkgutil
import re
from collections.abc import Iterator, Mapping, Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass, field, replace
from functools import cache
from pathlib import Path
from typing import TYPE_CHECKING, Any, Protocol, runtime_checkable
from urllib.parse import urlsplit

from nimble_otter.errors import AuthError, ChangeError, ClearPassword, ConnectError, OtterError, PasswordMissing
from nimble_otter.query.sql.effects import Verdict
from nimble_otter.sources import drivers
from nimble_otter.sources.address import AddressForm
from nimble_otter.sources.catalogue import Definition, Shapes, TableInfo
from nimble_otter.sources.client_files import option_password
from nimble_otter.sources.dialects import Dialect
from nimble_otter.sources.dialects.general import general_dialect
from nimble_otter.sources.open_transaction import OpenTransaction
from nimble_otter.sources.plans import PlanNode
from nimble_otter.sources.secrets import look_up, password_from
from nimble_otter.sources.trace import Origin
from nimble_otter.sources.urls import (
    SSH_OPTION,
    Secret,
    dropped_secrets,
    split_replica,
    split_secret,
    without_secrets,
)
from nimble_otter.stop import StopToken
from nimble_otter.table import Field, Kind, Table
from nimble_otter.translation import tr
from nimble_otter.values import ClientObject

if TYPE_CHECKING:
    from nimble_otter.sources.tunnel import Tunnel

log = logging.getLogger(__name__)
_DEMO = {"demo:survey": "sqlite:", "demo:reports": "mongodb://", "demo:service": "odata+http://"}
"""What the demo's sources are before it has set them up."""


@dataclass(frozen=True, slots=True)
class Source:
    """A source. `url` and `name` never hold a password: one that stood in the URL is in `secret`, for this run of the
    program; others are in the system's keyring (see secrets.py). `stage` says what it is for ("test", "production",
    ...), `care` that writes need one more question, `read_only` that nothing is ever written, `clear_password` that
    the server may be told the password without TLS; `password_command` is run at each connection and prints the
    password, which is kept nowhere."""

    name: str
    url: str
    stage: str = ""
    care: bool = False
    read_only: bool = False
    clear_password: bool = False
    password_command: str = ""
    is_shared: bool = field(default=False, compare=False)
    """Whether it stands in the team's folder."""
    secret: Secret | None = field(default=None, compare=False, repr=False)
    left_out: tuple[str, ...] = field(default=(), compare=False, repr=False)
    """Options of the URL that held secrets other than the password; they are not kept, and a source can't do
    without."""

    def __post_init__(self) -> None:
        url, inside = split_secret(self.url)
        object.__setattr__(self, "name", without_secrets(self.name))
        object.__setattr__(self, "left_out", self.left_out or dropped_secrets(self.url))
        object.__setattr__(self, "url", url)
        if inside is not None and self.secret is None:
            object.__setattr__(self, "secret", Secret(inside))

    @property
    def word(self) -> str:
        """The kind of source in a word, for the Sources pane."""
        try:
            return self.driver.word
        except ConnectError:
            return self.url.partition(":")[0]

    @property
    def driver(self) -> Driver:
        """Raises: ConnectError, where there is none for its URL."""
        return driver_for(_DEMO.get(self.url, self.url))

    @property
    def is_read_only(self) -> bool:
        """Whether nothing is ever written there: it is marked so, or of a kind that takes nothing."""
        try:
            return self.read_only or self.driver.address.reads_only
        except ConnectError:
            return self.read_only

    @property
    def dialect(self) -> Dialect:
        """What its server speaks, as far as that is known before it is open."""
        try:
            return next(iter(self.driver.dialects), Dialect())
        except ConnectError:
            return Dialect()


@dataclass(frozen=True, slots=True)
class Request:
    """What to ask. `language` is "sql" or "native" (documents: a JSON filter or pipeline on `collection`; of a pipeline
    only the first `stages`, when that is given). `shorten` lets the server cut long values, where they can be fetched
    whole later; `with_keys` fetches keys that the query leaves out along with it, so that its rows can be changed;
    `in_columns` takes batches of columns, where the source has them, in place of rows."""

    text: str
    parameters: Mapping[str, Any] = field(default_factory=dict)
    limit: int | None = None
    language: str = "sql"
    collection: str = ""
    stages: int | None = None
    shorten: bool = False
    with_keys: bool = False
    in_columns: bool = False


@dataclass(frozen=True, slots=True)
class LongColumns:
    """Columns of a result that the server cuts after LONGEST + 1 characters or bytes, as (place, name in `table`), and
    the key by which they are fetched whole."""

    table: str
    keys: tuple[tuple[int, str], ...]
    columns: tuple[tuple[int, str], ...]


@dataclass(frozen=True, slots=True)
class Run:
    """A request under way. `batches` gives lists of row tuples, or of documents where `fields` is None; it must be
    used up or closed. `sent` is what the server got, for showing. `columns` picks (name, path) out of documents;
    `long` are those that the server cut; `tables` are what the query names; the last `unseen` columns are keys fetched
    along. `collection` is set where each row is a document of it. `is_typed`: the server holds only values of the
    declared types, so that a column without any values has a kind. `first`: a first batch of fewer rows is
    all."""

    batches: Iterator[list[Any]]
    fields: tuple[Field, ...] | None = None
    hints: tuple[Kind | None, ...] = ()
    columns: tuple[tuple[str, str], ...] = ()
    sent: str = ""
    origins: tuple[Origin | None, ...] = ()
    long: LongColumns | None = None
    tables: tuple[TableInfo, ...] = ()
    unseen: int = 0
    collection: str = ""
    is_typed: bool = False
    first: int = 0


@dataclass(frozen=True, slots=True)
class Executed:
    """What a statement that writes did: its results, each with whether the row limit cut it; the rows it touched, None
    where the server does not tell; what the server said beside that."""

    tables: tuple[tuple[Table, bool], ...] = ()
    affected: int | None = None
    messages: tuple[str, ...] = ()


@runtime_checkable
class Listening(Protocol):
    """A connection to a server that tells who listens (its dialect `has_channels`)."""

    def listen(self, channel: str, stop: StopToken) -> Iterator[str]:
        """What is told on a channel, until it is stopped. Raises: SourceError's, Stopped."""


class Connection(Protocol):
    """An open connection; one call at a time. Errors are SourceError's. `counts_at_once`: counting every table is
    cheap enough to be done unasked."""

    counts_at_once: bool
    is_read_only: bool

    def use_tunnel(self, tunnel: Tunnel) -> None:
        """What its line goes through from now on: opened again where it has ended, and closed with the connection."""

    guarded: tuple[str, ...]

    def read_from(self, replica: Connection) -> None:
        """Rows are read from this one until something was written, and it is closed with this connection; only where
        the kind of source `has_replicas`."""

    def rest(self, idle_s: float) -> None:
        """Close what was not used for so long, but for an open transaction; the next question opens it again."""

    @property
    def dialect(self) -> Dialect:
        """What this server speaks."""

    def verdict(self, text: str) -> Verdict:
        """What a text does on this server; `run` and `explain` refuse all that does not only read."""

    def parse(self, request: Request) -> None:
        """Let the server read a statement without running it, as far as it can; where it has no such thing nothing is
        done. Raises: QueryError with the server's words; SourceError's."""

    def names(self) -> list[TableInfo]:
        """The same by name alone, where reading all takes its time."""

    def tables(self) -> list[TableInfo]:
        """Tables, views or collections with their columns, not counted."""

    def count(self, table: str) -> int:
        """How many rows or documents a table has now."""

    def shapes(self, collection: str, sample: int = 1000) -> Shapes:
        """Shapes of a collection's documents; only where there are documents."""

    def kept_open(self) -> AbstractContextManager[None]:
        """Within it many small questions are asked: what is opened for one stays open for the others."""

    def run(self, request: Request, stop: StopToken) -> Run:
        """Ask; the first rows may not have come yet. The token also ends the server's work."""

    def execute(self, request: Request, stop: StopToken) -> Executed:
        """Run one statement that may write, in a transaction that is committed when it succeeds. Raises: SourceError's;
        ChangeError where writing is not possible; OutcomeUnknown when the connection is lost meanwhile."""

    @property
    def held(self) -> OpenTransaction | None:
        """The transaction that is open, if there is one; everything executed goes into it."""

    def begin(self) -> None:
        """Open a transaction that stays open. Raises: SourceError's; ChangeError where that is not possible."""

    def end(self, commit: bool) -> None:
        """Commit it, or roll it back. Raises: SourceError's; OutcomeUnknown when the connection is lost meanwhile."""

    def describe(self, table: TableInfo) -> Definition:
        """The definition of one entry of the catalogue."""

    def explain(self, request: Request, stop: StopToken) -> PlanNode:
        """The server's plan of a query; it is not run."""

    def select_all(self, table: str) -> str:
        """The query text that gives a whole table."""

    def quoted(self, name: str) -> str:
        """A name as queries write it, quoted where it must be."""

    def transaction(self, stop: StopToken = ..., atomic: bool = True) -> AbstractContextManager[ClientObject]:
        """A write transaction of its own, rolled back unless it was committed; without `atomic` only where there are no
        transactions. Gives a Writer (documents: a DocumentWriter)."""

    def without_transactions(self, table: TableInfo) -> str:
        """What keeps a table whose writes can't be rolled back; "" for every other."""

    def outcome_of(self, mark: str) -> bool | None:
        """Whether a transaction that signed with `mark` was committed; None where that can't be told."""

    def rights(self) -> tuple[str, ...]:
        """What the user of this connection may do beyond reading and writing rows, in sentences; a read-only mark can't
        hold back all of that. Raises: SourceError's."""

    def close(self) -> None:
        """Let go of the server."""


class Driver(Protocol):
    """One kind of server. `dialects` are those it may turn out to speak, the usual one first; none where only the
    server tells."""

    key: str
    word: str
    dialects: tuple[Dialect, ...]
    address: AddressForm
    schemes: Sequence[str]
    """Of the URLs it opens; "*" where `takes` tells."""

    def takes(self, scheme: str) -> bool:
        """Whether it opens URLs of a scheme."""

    def connect(self, url: str, password: str | None = None, clear_password: bool = False) -> Connection:
        """`clear_password`: the password may be sent as it is, without TLS."""


def dialect_of(key: str) -> Dialect:
    """The dialect that is kept under a name in plans, fields and options; for one that no driver has what SQLAlchemy
    tells of it, else what the standard says."""
    return _dialects().get(key) or (general_dialect(key) if key else Dialect())


@cache
def written_dialects() -> tuple[tuple[str, str], ...]:
    """The families of dialects that are written to, by their keys, with the names of their servers."""
    names: dict[str, list[str]] = {}
    for dialect in _dialects().values():
        if dialect.writes and not dialect.is_documents:
            names.setdefault(dialect.family, []).append(dialect.display_name)
    return tuple(sorted(((family, " and ".join(own)) for family, own in names.items()), key=lambda pair: pair[1]))


@cache
def _dialects() -> dict[str, Dialect]:
    return {dialect.key: dialect for driver in all_drivers() for dialect in driver.dialects}


@cache
def all_drivers() -> tuple[Driver, ...]:
    """Every driver, found by its file in the drivers folder."""
    names = sorted(module.name for module in pkgutil.iter_modules(drivers.__path__))
    return tuple(importlib.import_module(f"{drivers.__name__}.{name}").DRIVER for name in names)


def driver_for(url: str) -> Driver:
    """The driver of a URL or a file's path. Raises: ConnectError."""
    return _driver_of(url.split(":", 1)[0].lower() if "://" in url or url.startswith("sqlite:") else "sqlite")


@cache
def _driver_of(scheme: str) -> Driver:
    found = all_drivers()
    for driver in sorted(found, key=lambda driver: "*" in driver.schemes):
        if driver.takes(scheme):
            return driver
    known = ", ".join(f"{s}:" for driver in found for s in driver.schemes if s != "*")
    raise ConnectError(
        tr("There is no driver for {scheme}: sources.", scheme=scheme),
        tr("Known are {known} and SQLite files.", known=known),
    )


def check_guarded(guarded: tuple[str, ...], text: str) -> None:
    """Raises: ChangeError, where a statement that writes names a database that is marked read-only."""
    for name in guarded:
        if re.search(rf"(?<!\w){re.escape(name)}(?!\w)", text, re.IGNORECASE):
            raise ChangeError(
                tr("The database {name} is marked read-only on this server.", name=name), tr("Take the mark off first.")
            )


def check_writable(connection: Connection) -> None:
    """Raises: ChangeError, where the source is marked read-only."""
    if connection.is_read_only:
        raise ChangeError(
            tr("This source is marked read-only."), tr("Take the mark off on its page, if that is right.")
        )


def connect(
    source: Source, password: str | None = None, guarded: tuple[str, ...] = (), otherwise: str | None = None
) -> Connection:
    """Open a connection, with the password given, the source's own, the one kept for it, or `otherwise`. Nothing is
    written to the databases that are `guarded`, which the server has beside the source's own. Raises: ConnectError,
    AuthError, PasswordMissing, SourceTimeout."""
    why = ""
    if password is None:
        password, why = known_password(source)
        password = otherwise if password is None else password
    driver = driver_for(source.url)
    if source.left_out:
        raise ConnectError(
            tr("The option {left_out} of the URL holds a secret and is not taken.", left_out=source.left_out[0]),
            tr("Give a user and a password instead."),
        )
    (url, replica), tunnel = split_replica(source.url) if driver.address.has_replicas else (source.url, ""), None
    if f"{SSH_OPTION}=" in url:
        from nimble_otter.sources.tunnel import by_tunnel

        url, tunnel = by_tunnel(url, driver.address)
    try:
        connection = _connected(driver, source, url, password, why)
    except OtterError as problem:
        if tunnel is not None:
            refusal = tunnel.refusal
            tunnel.close()
            if refusal:
                raise ConnectError(
                    f"{tunnel.way}: {refusal}.", tr("Check the host and port of the source.")
                ) from problem
        raise
    if tunnel is not None:
        connection.use_tunnel(tunnel)
    if source.read_only:
        connection.is_read_only = True
    connection.guarded = guarded
    if replica:
        try:
            connection.read_from(connect(replace(source, url=replica), password, guarded))
        except OtterError as problem:
            connection.close()
            where = urlsplit(replica).netloc.rpartition("@")[2]
            raise ConnectError(
                tr("The replica {where} can't be read from: {message}", where=where, message=problem.message),
                problem.hint,
            ) from problem
    log.info("connected to a source of %s%s", connection.dialect.key, ", read-only" if connection.is_read_only else "")
    return connection


def _connected(driver: Driver, source: Source, url: str, password: str | None, why: str) -> Connection:
    try:
        return driver.connect(url, password, source.clear_password)
    except ClearPassword:
        raise
    except AuthError as problem:
        if password is not None:
            raise
        hint = " ".join(filter(None, (why, tr("Enter the password on the source's page."))))
        raise PasswordMissing(
            tr("The server refused the user name without a password, and none is known here."), hint
        ) from problem
    except (KeyError, ValueError, TypeError, AttributeError) as problem:  # what client libraries say to odd URLs
        raise ConnectError(
            tr("The URL can't be used: {without_secrets}.", without_secrets=without_secrets(str(problem))),
            tr("Check it in the source."),
        ) from problem


def known_password(source: Source) -> tuple[str | None, str]:
    """The source's own password, else what its command prints, the keyring or a file of the server's client has for it;
    None with what kept it from being known. Raises: ConnectError, where the command fails."""
    if source.secret is not None:
        return source.secret.reveal(), ""
    if source.password_command:
        return password_from(source.password_command), ""
    kept, why = look_up(source.url)
    return (kept, "") if kept is not None else (option_password(source.url), why)


def source_of_file(path: str | Path) -> Source:
    """A source for a database file, by how it begins; what can't be looked at is taken for SQLite's."""
    path = Path(path).expanduser().resolve()
    try:
        driver = file_driver(path)
    except OSError:
        driver = None
    return Source(path.stem, f"{driver.key if driver is not None else 'sqlite'}:///{path}")


def file_driver(path: Path) -> Driver | None:
    """The driver whose files begin as this one does; None where there is none. Raises: OSError."""
    files = [driver for driver in all_drivers() if driver.address.head[1]]
    with path.open("rb") as file:
        start = file.read(max(at + len(head) for at, head in (driver.address.head for driver in files)))
    return next((d for d in files if start[d.address.head[0] :].startswith(d.address.head[1])), None)
