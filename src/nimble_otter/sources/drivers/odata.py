"""OData 4 services: their entity sets are tables, with the keys and links that the service tells of.

A query runs over the rows that its sets have now; see `sources/odata.py` for what the service is asked. Entities are
changed by their ETags, in one change set where the service takes those; see `odata_session.py`. Signing in is as in
`web.py`.
"""

from __future__ import annotations

import sqlite3
import tempfile
import time
from collections.abc import Iterator, Mapping, Sequence
from contextlib import closing, contextmanager
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING
from urllib.parse import urljoin, urlsplit

from nimble_otter.errors import AuthError, ChangeError, ConnectError, LostError, QueryError
from nimble_otter.query.sql.statements import find_parameters
from nimble_otter.sources import odata
from nimble_otter.sources.address import AddressForm
from nimble_otter.sources.dialects.sqlite import SQLITE
from nimble_otter.sources.odata_changes import Change, send, takes_change_sets
from nimble_otter.sources.odata_session import EntitySession
from nimble_otter.sources.reflect import Written
from nimble_otter.sources.session import Bound, Done
from nimble_otter.sources.sqlite_file import SqliteConnection, quote_name
from nimble_otter.sources.texts import names_in
from nimble_otter.sources.writer import run_each
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.translation import tr

if TYPE_CHECKING:
    from nimble_otter.sources.catalogue import TableInfo
    from nimble_otter.sources.source import Request, Run
    from nimble_otter.sources.web_client import WebClient
    from nimble_otter.values import ClientObject, Value

FRESH_S = 2.0
"""How long rows are taken for the newest: a run and what is asked beside it see the same ones."""
_PREFIX = "odata+"


class _Odata:
    key = "odata"
    word = "OData"
    schemes = ("odata+https", "odata+http")
    dialects = (SQLITE,)
    address = AddressForm(tr("OData service"), 13, "odata+https://host/service/")

    def takes(self, scheme: str) -> bool:
        return scheme in self.schemes

    def connect(self, url: str, password: str | None = None, clear_password: bool = False) -> OdataConnection:
        return OdataConnection(url.removeprefix(_PREFIX), password, clear_password)


class OdataConnection(SqliteConnection):
    """The rows asked for last stand in a file of their own; see sources.source.Connection."""

    word = "OData"
    rehearsal_note = tr("The service was not asked to change anything: the rows were compared with what it has now.")

    def __init__(self, url: str, password: str | None = None, clear_password: bool = False) -> None:
        from nimble_otter.sources.web_client import WebClient, signed_in

        self._root, headers = signed_in(url.partition("#")[0], password, clear_password)
        self._root += "" if self._root.endswith("/") else "/"
        self._client: WebClient = WebClient(self._root, {**headers, "OData-MaxVersion": "4.01"})
        self._folder = tempfile.TemporaryDirectory(prefix="nimble-otter-odata-")
        self._takes_sets: bool | None = None
        self._version, self._loaded, self._loaded_at = 0, list[odata.Asked](), 0.0
        try:
            self._sets = odata.read_metadata(self._client.get(urljoin(self._root, "$metadata")).data or b"")
            self._write([], NEVER)
            super().__init__(self._file)
        except BaseException:
            self._client.close()
            self._folder.cleanup()
            raise

    @property
    def _file(self) -> Path:
        return Path(self._folder.name) / f"{self._version}.sqlite"

    def run(self, request: Request, stop: StopToken = NEVER) -> Run:
        """The service is asked for the rows that the query is about. Raises: SourceError's, Stopped."""
        names = find_parameters(request.text)
        values = {name: request.parameters[name] for name in names if name in request.parameters}
        named = names_in(request.text, self.dialect.parser)
        wanted = odata.requests_of(request.text, self._sets, named, values, request.limit)
        self._load(wanted, stop)
        sent = "\n".join(f"GET {self._root}{asked.path}" for asked in self._loaded)
        return replace(super().run(request, stop), sent=sent)

    def count(self, table: str) -> int:
        """How many rows a set has now, by the service's own count where it has one. Raises: SourceError's."""
        try:
            reply = self._client.get(urljoin(self._root, f"{odata.Asked(table).path}/$count"))
            return int((reply.data or b"").decode("utf-8-sig"))
        except AuthError:
            raise
        except (ConnectError, ValueError):
            self._load([odata.Asked(table)], NEVER)
            return super().count(table)

    def close(self) -> None:
        """End the connections, and forget the rows."""
        super().close()
        self._client.close()
        self._folder.cleanup()

    def _load(self, wanted: list[odata.Asked], stop: StopToken) -> None:
        is_fresh = time.monotonic() - self._loaded_at < FRESH_S
        if not wanted or (is_fresh and wanted == self._loaded):
            return
        before = self._file
        self._write(wanted, stop)
        self.path = self._file
        self._engine.dispose()
        before.unlink(missing_ok=True)

    def _write(self, wanted: list[odata.Asked], stop: StopToken) -> None:
        """A new file with every table, and the rows of those that are asked for."""
        self._version += 1
        with closing(sqlite3.connect(self._file, isolation_level=None)) as base:
            base.execute("pragma synchronous = off")
            base.execute("begin")
            for text in odata.statements(self._sets):
                base.execute(text)
            loaded = [self._fetch(base, asked, stop) for asked in wanted]
            base.execute("commit")
        self._loaded, self._loaded_at = loaded, time.monotonic()

    def _fetch(self, base: sqlite3.Connection, asked: odata.Asked, stop: StopToken) -> odata.Asked:
        """Put the rows of a request into their table; returns what was asked in the end."""
        table = self._sets[asked.name]
        marks = ", ".join("?" * max(1, len(table.properties)))
        insert = f"insert or replace into {quote_name(table.name)} values ({marks})"
        asked_for = list[odata.Asked]()
        rows = self._entities(asked, asked_for, stop)
        base.executemany(insert, (odata.row_of(table, row) for row in rows))
        return asked_for[-1]

    def _entities(
        self, asked: odata.Asked, asked_for: list[odata.Asked], stop: StopToken
    ) -> Iterator[Mapping[str, Value]]:
        """Those of a request, page by page; `asked_for` gets what the service was asked, in the end."""
        asked_for.append(asked)
        url, seen = f"{self._root}{asked.path}", set[str]()
        while url:
            if url in seen:
                raise LostError(tr("The service names the same part again as the next one."), tr("Ask who runs it."))
            seen.add(url)
            try:
                reply = self._client.get(url, None, stop)
            except AuthError:
                raise
            except ConnectError:
                if len(seen) > 1 or asked == asked.whole:
                    raise
                yield from self._entities(asked.whole, asked_for, stop)  # it does not know how to answer so much
                return
            rows, following = odata.entities(reply.data or b"", reply.url)
            yield from rows
            url = urljoin(reply.url, following) if following else ""
            if url and urlsplit(url)[:2] != urlsplit(self._root)[:2]:
                raise ConnectError(tr("The next part is on another host."), tr("Its address was not asked."))

    # --- changing entities -----------------------------------------------------------------------------------------

    @property
    def entity_sets(self) -> Mapping[str, odata.EntitySet]:
        """By their names."""
        return self._sets

    def entities(self, asked: odata.Asked, stop: StopToken) -> Iterator[Mapping[str, Value]]:
        """Those that a request is about, and maybe more. Raises: SourceError's, Stopped."""
        return self._entities(asked, [], stop)

    def send_changes(self, changes: list[Change]) -> None:
        """Have the service make them: all or none where it takes change sets, else one after the other. Raises:
        SourceError's."""
        self._loaded_at = -FRESH_S  # what was read before is not what is there
        if self._has_change_sets():
            send(self._client, self._root, changes)
            return
        for done, change in enumerate(changes):
            try:
                send(self._client, self._root, [change])
            except QueryError as problem:
                if done:
                    raise QueryError(
                        tr(
                            "{message} {done} of {changes_count} were changed before.",
                            message=problem.message,
                            done=done,
                            changes_count=len(changes),
                        )
                    ) from problem
                raise

    def _has_change_sets(self) -> bool:
        if self._takes_sets is None:
            self._takes_sets = takes_change_sets(self._client, self._root)
        return self._takes_sets

    def begin(self) -> None:
        """Open a transaction that stays open. Raises: ChangeError, where it could not be committed as a whole."""
        if not self._has_change_sets():
            raise ChangeError(
                tr("The service takes no change sets: what is done in a transaction could not be done as a whole."),
                tr("Run the statements by themselves."),
            )
        super().begin()

    def without_transactions(self, table: TableInfo) -> str:
        """A service that takes no change sets makes changes one by one."""
        return "" if self._has_change_sets() else tr("a service without change sets")

    def run_many(self, driver: ClientObject, wanted: Sequence[Bound]) -> list[Done]:
        """Run the statements over the copies; see `EntitySession`."""
        results = []
        for one in wanted:
            results += run_each(driver.cursor, [one])
            if driver.at_once:
                driver.flush()
        return results

    def _declared(self, schema: str | None, tables: Sequence[str] | None) -> dict[str, dict[str, Written]]:
        told = super()._declared(schema, tables)
        for name, columns in told.items():
            for own in self._sets[name].properties if name in self._sets else ():
                if own.is_computed and own.name in columns:
                    columns[own.name] = replace(columns[own.name], generated="computed")
        return told

    @contextmanager
    def _writing(self, messages: list[str], keeps: bool = True, stop: StopToken = NEVER) -> Iterator[EntitySession]:
        session = sqlite3.connect(":memory:", isolation_level=None, check_same_thread=False, factory=EntitySession)
        try:
            session.begin(self, stop, at_once=not self._has_change_sets())
            yield session
        finally:
            session.close()


DRIVER = _Odata()
