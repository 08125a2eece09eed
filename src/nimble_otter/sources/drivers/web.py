"""JSON and CSV over HTTP(S): what a URL answers is asked like any other rows, and anew at each run.

Behind a # of the URL stand `at` (the path to the rows in JSON), `next` (the path to the URL of the next page; the Link
header is followed anyway), `pages` (how many at most) and `header` (what the password is sent as). A password alone, or
with the user `bearer`, is sent as a bearer token, with another user as basic authentication (RFC 6750, RFC 7617); over
TLS, or to this machine.
"""

from __future__ import annotations

import re
import tempfile
import time
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING
from urllib.parse import parse_qsl, unquote, urljoin, urlsplit

from nimble_otter.errors import ChangeError, ConnectError
from nimble_otter.sources.address import AddressForm
from nimble_otter.sources.dialects.sqlite import SQLITE
from nimble_otter.sources.sqlite_file import SqliteConnection
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.translation import tr

if TYPE_CHECKING:
    from nimble_otter.sources.source import Request, Run
    from nimble_otter.sources.web_client import WebClient
    from nimble_otter.sources.web_rows import Rows
    from nimble_otter.values import ClientObject

FRESH_S = 2.0
"""How long an answer is taken for the newest: a run and what is asked beside it see the same rows."""
_PAGES = 1000
_OPTIONS = ("at", "next", "pages", "header")


class _Web:
    key = "web"
    word = "HTTP"
    schemes = ("http", "https")
    dialects = (SQLITE,)
    address = AddressForm(tr("JSON or CSV over HTTP"), 12, "https://host/levels.json#at=data.items", reads_only=True)

    def takes(self, scheme: str) -> bool:
        return scheme in self.schemes

    def connect(self, url: str, password: str | None = None, clear_password: bool = False) -> WebConnection:
        return WebConnection(url, password, clear_password)


class WebConnection(SqliteConnection):
    """The rows stand in a file of their own while it is open; see sources.source.Connection."""

    word = "HTTP"
    is_read_only = True

    def __init__(self, url: str, password: str | None = None, clear_password: bool = False) -> None:
        self._options = _options_of(url)
        from nimble_otter.sources.web_client import WebClient, signed_in

        self._url, headers = signed_in(url, password, clear_password, self._options.get("header", ""))
        self._client: WebClient = WebClient(self._url, headers)
        self._folder = tempfile.TemporaryDirectory(prefix="nimble-otter-web-")
        self._marks: dict[str, Mapping[str, str]] = {}
        self._asked_at, self._version = 0.0, 0
        try:
            self._load(NEVER)
            super().__init__(self._file)
        except BaseException:
            self._client.close()
            self._folder.cleanup()
            raise

    def run(self, request: Request, stop: StopToken = NEVER) -> Run:
        """The service is asked again, unless it just was. Raises: SourceError's, Stopped."""
        self.refresh(stop)
        return super().run(request, stop)

    def refresh(self, stop: StopToken = NEVER) -> None:
        """Have the newest rows. Raises: SourceError's, Stopped."""
        if time.monotonic() - self._asked_at < FRESH_S:
            return
        before = self._file
        if self._load(stop):
            self.path = self._file
            self._engine.dispose()
            self._known.clear()
            self._has_all = False
            before.unlink(missing_ok=True)

    def close(self) -> None:
        """End the connections, and forget the rows."""
        super().close()
        self._client.close()
        self._folder.cleanup()

    @property
    def _file(self) -> Path:
        return Path(self._folder.name) / f"{self._version}.sqlite"

    def _load(self, stop: StopToken) -> bool:
        """Ask the service; False where it has nothing new."""
        from nimble_otter.sources.web_rows import read_answer, together, write_tables

        tables: dict[str, list[Rows]] = {}
        url, most = self._url, int(self._options.get("pages", _PAGES))
        at, following, seen = self._options.get("at", ""), self._options.get("next", ""), set[str]()
        while url and len(seen) < most and url not in seen:
            seen.add(url)
            reply = self._client.get(url, self._marks.get(url) if len(seen) == 1 else None, stop)
            if reply.data is None:
                self._asked_at = time.monotonic()
                return False
            path = urlsplit(reply.url).path.lower()
            found, named = read_answer(reply.data, reply.content_type, path, at, following)
            for name, rows in found.items():
                tables.setdefault(name, []).append(rows)
            more = reply.following
            if following:
                more = urljoin(reply.url, named) if isinstance(named, str) and named else ""
            if not more:
                self._marks = {url: reply.mark} if len(seen) == 1 else {}
            elif urlsplit(more)[:2] != urlsplit(self._url)[:2]:
                raise ConnectError(tr("The next page is on another host."), tr("Its address was not asked."))
            url = more
        if url and url not in seen and "pages" not in self._options:
            raise ConnectError(
                tr("The service has more than {most} pages.", most=most),
                tr("Say how many behind the #, as pages=5000."),
            )
        self._version += 1
        write_tables(self._file, {name or self._table: together(parts) for name, parts in tables.items()})
        self._asked_at = time.monotonic()
        return True

    @property
    def _table(self) -> str:
        """What the rows are called: by the last part of the path."""
        parts = [part for part in urlsplit(self._url).path.split("/") if part]
        return re.sub(r"\W+", "_", unquote(parts[-1]).rpartition(".")[0] or unquote(parts[-1])) if parts else "rows"

    @contextmanager
    def _writing(self, messages: list[str], keeps: bool = True, stop: StopToken = NEVER) -> Iterator[ClientObject]:
        raise ChangeError(tr("Rows of a web service can't be changed here."), tr("Send them to a table of a database."))
        yield


def _options_of(url: str) -> dict[str, str]:
    options = dict(parse_qsl(urlsplit(url).fragment, keep_blank_values=True))
    odd = [name for name in options if name not in _OPTIONS]
    if odd or not options.get("pages", "1").isdigit():
        raise ConnectError(
            tr("{odd} is not an option of such an address.", odd=odd[0]) if odd else tr("pages is not a number."),
            tr("Behind the # stand {options}.", options=", ".join(_OPTIONS)),
        )
    return options


DRIVER = _Web()
