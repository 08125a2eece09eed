"""OData 4 services: their entity sets are tables that are read, with the keys and links that the service tells of.

A query runs over the rows that its sets have now; see `sources/odata.py` for what the service is asked. Signing in is
as in `web.py`.
"""

from __future__ import annotations

import sqlite3
import tempfile
import time
from collections.abc import Iterator
from contextlib import closing, contextmanager
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING
from urllib.parse import urljoin, urlsplit

from nimble_otter.errors import AuthError, ChangeError, ConnectError, LostError
from nimble_otter.query.sql.statements import find_parameters
from nimble_otter.sources import odata
from nimble_otter.sources.address import AddressForm
from nimble_otter.sources.dialects.sqlite import SQLITE
from nimble_otter.sources.sqlite_file import SqliteConnection, quote_name
from nimble_otter.sources.texts import names_in
from nimble_otter.stop import NEVER, StopToken

if TYPE_CHECKING:
    from nimble_otter.sources.source import Request, Run
    from nimble_otter.sources.web_client import WebClient
    from nimble_otter.values import ClientObject

FRESH_S = 2.0
"""How long rows are taken for the newest: a run and what is asked beside it see the same ones."""
_PREFIX = "odata+"


class _Odata:
    key = "odata"
    word = "OData"
    schemes = ("odata+https", "odata+http")
    dialects = (SQLITE,)
    address = AddressForm("OData service", 13, "odata+https://host/service/", reads_only=True)

    def takes(self, scheme: str) -> bool:
        return scheme in self.schemes

    def connect(self, url: str, password: str | None = None, clear_password: bool = False) -> OdataConnection:
        return OdataConnection(url.removeprefix(_PREFIX), password, clear_password)


class OdataConnection(SqliteConnection):
    """The rows asked for last stand in a file of their own; see sources.source.Connection."""

    word = "OData"
    is_read_only = True

    def __init__(self, url: str, password: str | None = None, clear_password: bool = False) -> None:
        from nimble_otter.sources.web_client import WebClient, signed_in

        self._root, headers = signed_in(url.partition("#")[0], password, clear_password)
        self._root += "" if self._root.endswith("/") else "/"
        self._client: WebClient = WebClient(self._root, {**headers, "OData-MaxVersion": "4.01"})
        self._folder = tempfile.TemporaryDirectory(prefix="nimble-otter-odata-")
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
        url, seen = f"{self._root}{asked.path}", set[str]()
        while url:
            if url in seen:
                raise LostError("The service names the same part again as the next one.", "Ask who runs it.")
            seen.add(url)
            try:
                reply = self._client.get(url, None, stop)
            except AuthError:
                raise
            except ConnectError:
                if len(seen) > 1 or asked == asked.whole:
                    raise
                return self._fetch(base, asked.whole, stop)  # it does not know how to answer so much
            rows, following = odata.entities(reply.data or b"", reply.url)
            base.executemany(insert, (odata.row_of(table, row) for row in rows))
            url = urljoin(reply.url, following) if following else ""
            if url and urlsplit(url)[:2] != urlsplit(self._root)[:2]:
                raise ConnectError("The next part is on another host.", "Its address was not asked.")
        return asked

    @contextmanager
    def _writing(self, messages: list[str], keeps: bool = True, stop: StopToken = NEVER) -> Iterator[ClientObject]:
        raise ChangeError("Rows of an OData service can't be changed here.", "Send them to a table of a database.")
        yield


DRIVER = _Odata()
