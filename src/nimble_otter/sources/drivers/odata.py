"""OData 4 services: their entity sets are tables, with the keys and links that the service tells of.

A query runs over the rows that its sets have now, or over groups that the service made; see `odata_requests.py` and
`odata_groups.py`. Entities are changed by their ETags, in one change set where the service takes those; see
`odata_session.py`. Signing in is as in `web.py`.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator, Mapping, Sequence
from contextlib import closing, contextmanager
from dataclasses import replace
from typing import TYPE_CHECKING

from nimble_otter.errors import AuthError, ChangeError, QueryError, SourceError
from nimble_otter.query.sql.statements import find_parameters
from nimble_otter.sources import odata
from nimble_otter.sources.address import AddressForm
from nimble_otter.sources.dialects.sqlite import SQLITE
from nimble_otter.sources.odata_changes import Change, send, takes_change_sets
from nimble_otter.sources.odata_groups import Groups, groups_of
from nimble_otter.sources.odata_reading import EntityReader, NotExpanded, TextsFold
from nimble_otter.sources.odata_requests import Asked, requests_of
from nimble_otter.sources.odata_session import EntitySession
from nimble_otter.sources.reflect import Written
from nimble_otter.sources.session import Bound, Done
from nimble_otter.sources.source import Request
from nimble_otter.sources.sqlite_file import SqliteConnection, quote_name
from nimble_otter.sources.texts import names_in, one_statement
from nimble_otter.sources.trace import columns_of
from nimble_otter.sources.writer import run_each
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.translation import tr

if TYPE_CHECKING:
    from nimble_otter.sources.catalogue import TableInfo
    from nimble_otter.sources.source import Run
    from nimble_otter.sources.web_client import WebClient
    from nimble_otter.values import ClientObject, Value

_PREFIX = "odata+"
_TRIES = 3
"""Queries whose groups a service that never made any is asked for."""


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
        self._service = EntityReader(self._client, self._root)
        self._takes_sets: bool | None = None
        self._expands = True
        self._groups: SqliteConnection | None = None
        self._refused, self._failed = set[str](), 0
        try:
            super().__init__(self._service.read([], NEVER))
        except BaseException:
            self._service.close()
            raise

    def run(self, request: Request, stop: StopToken = NEVER) -> Run:
        """The service is asked for the rows that the query is about, or for its groups. Raises: SourceError's,
        Stopped."""
        names = find_parameters(request.text)
        values = {name: request.parameters[name] for name in names if name in request.parameters}
        if (grouped := self._run_over_groups(request, values, stop)) is not None:
            return grouped
        self._load(request, values, stop)
        sent = "\n".join(f"GET {self._root}{asked.shown}" for asked in self._service.loaded)
        return replace(super().run(request, stop), sent=sent)

    def count(self, table: str) -> int:
        """How many rows a set has now, by the service's own count where it has one. Raises: SourceError's."""
        found = self._service.counted(Asked(table))
        if found is None:
            self._load(Request(f"select * from {quote_name(table)}"), {}, NEVER)
            return super().count(table)
        return found

    def close(self) -> None:
        """End the connections, and forget the rows."""
        super().close()
        if self._groups is not None:
            self._groups.close()
        self._service.close()

    def _load(self, request: Request, values: Mapping[str, Value], stop: StopToken) -> None:
        named, sets = names_in(request.text, self.dialect.parser), self._service.sets

        def wanted() -> list[Asked]:
            counted = self._service.counted if self._expands else None
            return requests_of(request.text, sets, named, values, request.limit, counted)

        asked = wanted()
        if not asked or self._service.has_rows(asked):
            return
        before = self.path
        try:
            self.path = self._service.read(asked, stop)
        except NotExpanded:
            self._expands = False
            self.path = self._service.read(wanted(), stop)
        self._engine.dispose()
        before.unlink(missing_ok=True)

    def _run_over_groups(self, request: Request, values: Mapping[str, Value], stop: StopToken) -> Run | None:
        """A query over its groups, made by the service; None where it can't make them, or might make others."""
        if self._groups is None and self._failed >= _TRIES:
            return None
        text = one_statement(request)
        plan = groups_of(text, self._service.sets, values)
        if plan is None or plan.asked.path in self._refused or (labels := _labels(plan, text, values)) is None:
            return None
        if self._groups is None or not self._service.has_groups(plan.asked):
            try:
                path = self._service.read_groups(plan, stop)
            except AuthError:
                raise
            except (SourceError, KeyError, ValueError, TypeError, sqlite3.Error) as problem:
                self._refused.add(plan.asked.path)
                self._failed += not isinstance(problem, TextsFold)
                return None
            before, self._groups = self._groups, SqliteConnection(path)
            if before is not None:
                before.close()
                before.path.unlink(missing_ok=True)
        over = replace(request, text=plan.text(labels), shorten=False, with_keys=False)
        try:
            run = self._groups.run(over, stop)
        except QueryError:  # told by its place in the text as written, by the query over the rows
            self._refused.add(plan.asked.path)
            return None
        return self._as_asked(run, text, labels, plan.asked)

    def _as_asked(self, run: Run, text: str, labels: Sequence[str], asked: Asked) -> Run:
        """The run of a query over groups, told as one over the set that they are made of."""
        tables, origins = self._traced(text, labels)
        known = columns_of(origins, tables)
        fields = tuple(self._field(*each) for each in zip(labels, origins, known, strict=True))
        return replace(
            run, fields=fields, origins=tuple(origins), sent=f"GET {self._root}{asked.shown}", tables=tuple(tables)
        )

    # --- changing entities -----------------------------------------------------------------------------------------

    @property
    def entity_sets(self) -> Mapping[str, odata.EntitySet]:
        """By their names."""
        return self._service.sets

    def entities(self, asked: Asked, stop: StopToken) -> Iterator[Mapping[str, Value]]:
        """Those that a request is about, and maybe more. Raises: SourceError's, Stopped."""
        return self._service.entities(asked, stop)

    def send_changes(self, changes: list[Change]) -> None:
        """Have the service make them: all or none where it takes change sets, else one after the other. Raises:
        SourceError's."""
        self._service.forget()
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
            for own in self._service.sets[name].properties if name in self._service.sets else ():
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


def _labels(plan: Groups, text: str, values: Mapping[str, Value]) -> list[str] | None:
    """How the columns of a query are called; None where it is no query."""
    with closing(sqlite3.connect(":memory:")) as base:
        base.execute(odata.create_statement(plan.table, {}))
        try:
            return [each[0] for each in base.execute(text, values).description]
        except (sqlite3.Error, OverflowError):
            return None


DRIVER = _Odata()
