"""Reading an OData service: pages of entities, and files of SQLite's that hold them for a query."""

from __future__ import annotations

import math
import sqlite3
import tempfile
import time
from collections.abc import Iterator, Mapping, Sequence
from contextlib import closing, contextmanager
from pathlib import Path
from typing import TYPE_CHECKING
from urllib.parse import urljoin, urlsplit

from nimble_otter.errors import AuthError, ConnectError, LostError
from nimble_otter.sources import odata
from nimble_otter.sources.odata import Way
from nimble_otter.sources.odata_groups import TABLE, Groups, probes, requests_for_texts
from nimble_otter.sources.odata_requests import Asked, Expand
from nimble_otter.sources.sqlite_file import quote_name
from nimble_otter.stop import StopToken
from nimble_otter.translation import tr
from nimble_otter.values import Value

if TYPE_CHECKING:
    from nimble_otter.sources.web_client import WebClient

    _Page = Sequence[Mapping[str, Value]]

FRESH_S = 2.0
"""How long rows are taken for the newest: a run and what is asked beside it see the same ones."""
_PROBED = 50
"""Values of a text column that are looked at to tell how the service compares it: the longest ones."""

_AS_XML = {"Accept": "application/xml"}
"""A service may describe itself in JSON too."""


class NotExpanded(ConnectError):
    """The service brings no entities of other sets along."""


class TextsFold(ValueError):
    """The service may take different texts for the same."""


class EntityReader:
    """Of the service at `root`. `loaded` are the rows that were asked for last, in the end."""

    def __init__(self, client: WebClient, root: str) -> None:
        self._client, self._root = client, root
        self._folder = tempfile.TemporaryDirectory(prefix="nimble-otter-odata-")
        self._version = 0
        self.loaded: list[Asked] = []
        self._wanted: list[Asked] = []
        self._grouped: Asked | None = None
        self.forget()
        self._apart: dict[tuple[str, str, str], bool] = {}
        try:
            self.sets = odata.read_metadata(client.get(urljoin(root, "$metadata"), _AS_XML).data or b"")
        except BaseException:
            self.close()
            raise

    def close(self) -> None:
        """End the connections, and forget the rows."""
        self._client.close()
        self._folder.cleanup()

    def has_rows(self, wanted: list[Asked]) -> bool:
        """Whether the rows that were read last are those of requests, and still taken for the newest."""
        return wanted in (self._wanted, self.loaded) and time.monotonic() - self._rows_at < FRESH_S

    def has_groups(self, wanted: Asked) -> bool:
        """The same of groups."""
        return wanted == self._grouped and time.monotonic() - self._groups_at < FRESH_S

    def forget(self) -> None:
        """What was read before is not what is there."""
        self._rows_at = self._groups_at = -math.inf

    def counted(self, asked: Asked) -> int | None:
        """How many entities a request is about, where the service tells. Raises: AuthError."""
        try:
            reply = self._client.get(urljoin(self._root, asked.counting))
            return int((reply.data or b"").decode("utf-8-sig"))
        except AuthError:
            raise
        except (ConnectError, ValueError):
            return None

    def entities(self, asked: Asked, stop: StopToken) -> Iterator[Mapping[str, Value]]:
        """Those that a request is about, and maybe more. Raises: SourceError's, Stopped."""
        for page in self._pages(asked, [], stop):
            yield from page

    def read(self, wanted: Sequence[Asked], stop: StopToken) -> Path:
        """A new file with every table, and the rows of those that are asked for. Raises: NotExpanded, SourceError's,
        Stopped."""
        path = self._next_file()
        with _writing(path) as base:
            for text in odata.statements(self.sets):
                base.execute(text)
            self.loaded = [self._fetch(base, asked, stop) for asked in wanted]
        self._wanted, self._rows_at = list(wanted), time.monotonic()
        return path

    def read_groups(self, plan: Groups, stop: StopToken) -> Path:
        """A new file with the groups that the service makes. Raises: SourceError's, Stopped; KeyError, ValueError,
        TypeError, sqlite3.Error, where it makes none, or might make others."""
        path = self._next_file()
        with _writing(path) as base:
            for text in plan.statements():
                base.execute(text)
            marks = ", ".join("?" * (len(plan.keys) + len(plan.figures)))
            pages = 0
            for page in self._pages(plan.asked, [], stop):
                base.executemany(f"insert into {quote_name(TABLE)} values ({marks})", map(plan.row, page))
                pages += 1
            told = f"select count(*), sum({quote_name(plan.counted)}) from {quote_name(TABLE)}"
            groups, met = base.execute(told).fetchone()
            is_whole = pages == 1 or met == self.counted(Asked(plan.table.name, filters=plan.filters))
            if not is_whole or (not plan.keys and groups != 1):
                raise ValueError(groups)
            self._check_texts(plan, base, stop)
        self._grouped, self._groups_at = plan.asked, time.monotonic()
        return path

    def _next_file(self) -> Path:
        self._version += 1
        return Path(self._folder.name) / f"{self._version}.sqlite"

    def _fetch(self, base: sqlite3.Connection, asked: Asked, stop: StopToken) -> Asked:
        """Put the rows of a request into their tables; returns what was asked in the end."""
        asked_for = list[Asked]()
        for page in self._pages(asked, asked_for, stop):
            self._keep(base, asked.name, asked.expand, page, stop)
        return asked_for[-1]

    def _keep(
        self, base: sqlite3.Connection, name: str, expand: Sequence[Expand], page: _Page, stop: StopToken
    ) -> None:
        table = self.sets[name]
        marks = ", ".join("?" * max(1, len(table.properties)))
        insert = f"insert or replace into {quote_name(table.name)} values ({marks})"
        base.executemany(insert, (odata.row_of(table, row) for row in page))
        for branch in expand:
            for inside in self._along(branch.way, page, stop):
                self._keep(base, branch.way.target, branch.expand, inside, stop)

    def _along(self, way: Way, page: _Page, stop: StopToken) -> Iterator[_Page]:
        """What came along a way of the entities, with what the service left for further requests."""
        found = list[Mapping[str, Value]]()
        for entity in page:
            inside = entity.get(way.name, 0)
            found += inside if isinstance(inside, list) else [] if inside is None else [inside]
            following = entity.get(f"{way.name}@odata.nextLink") or entity.get(f"{way.name}@nextLink")
            if isinstance(following, str):
                yield from self._pages(Asked(way.target), [], stop, self._following(self._root, following))
        if not all(isinstance(each, dict) for each in found):
            raise NotExpanded(tr("The service did not send what the query joins."))
        yield found

    def _pages(self, asked: Asked, asked_for: list[Asked], stop: StopToken, start: str = "") -> Iterator[_Page]:
        """The entities of a request, or from an address on; `asked_for` gets what the service was asked, in the end."""
        asked_for.append(asked)
        url, seen = start or f"{self._root}{asked.path}", set[str]()
        while url:
            if url in seen:
                raise LostError(tr("The service names the same part again as the next one."), tr("Ask who runs it."))
            seen.add(url)
            try:
                reply = self._client.get(url, None, stop)
            except AuthError:
                raise
            except ConnectError as problem:
                if asked.expand and len(seen) == 1:
                    raise NotExpanded(problem.message, problem.hint) from problem
                if asked.apply or start or len(seen) > 1 or asked == asked.whole:
                    raise
                yield from self._pages(asked.whole, asked_for, stop)  # it does not know how to answer so much
                return
            rows, following = odata.entities(reply.data or b"", reply.url)
            yield rows
            url = self._following(reply.url, following) if following else ""

    def _following(self, url: str, following: str) -> str:
        """The address of the next part. Raises: ConnectError."""
        found = urljoin(url, following)
        if urlsplit(found)[:2] != urlsplit(self._root)[:2]:
            raise ConnectError(tr("The next part is on another host."), tr("Its address was not asked."))
        return found

    def _check_texts(self, plan: Groups, base: sqlite3.Connection, stop: StopToken) -> None:
        """Raises: TextsFold."""
        keys = dict[str, list[str]]()
        for column in (column for column, compared in plan.texts if not compared):
            own = quote_name(column)
            longest = f"where {own} <> '' order by length({own}) desc limit {_PROBED}"
            keys[column] = [row[0] for row in base.execute(f"select {own} from {quote_name(TABLE)} {longest}")]
        for column, compared, texts in probes(plan.texts, keys):
            place = (plan.table.name, column, compared)
            if place not in self._apart:
                self._apart[place] = self._tells_apart(plan.table, column, texts, stop)
            if not self._apart[place]:
                raise TextsFold(column)

    def _tells_apart(self, table: odata.EntitySet, column: str, texts: Sequence[str], stop: StopToken) -> bool:
        for asked, wanted in requests_for_texts(table, column, texts):
            first = next(self._pages(asked, seen := list[Asked](), stop))
            if len(seen) > 1 or any(entity.get(column) not in wanted for entity in first):
                return False
        return True


@contextmanager
def _writing(path: Path) -> Iterator[sqlite3.Connection]:
    """A new file, which is not left behind where it was not written whole."""
    try:
        with closing(sqlite3.connect(path, isolation_level=None)) as base:
            base.execute("pragma synchronous = off")
            base.execute("begin")
            yield base
            base.execute("commit")
    except BaseException:
        path.unlink(missing_ok=True)
        raise
