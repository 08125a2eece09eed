"""The sources of the window: the saved list, open connections in their lanes, catalogues and counts."""

from __future__ import annotations

import time
from collections.abc import Callable
from contextlib import suppress
from dataclasses import replace
from typing import Any

from PySide6.QtCore import QObject, Signal

from nimble_otter.demo import DEMO_SOURCES, resolve
from nimble_otter.desktop.jobs import Jobs, Report, is_left
from nimble_otter.errors import OtterError, Stopped
from nimble_otter.pull import places
from nimble_otter.pull.costs import Costs
from nimble_otter.pull.history import History
from nimble_otter.pull.versions import Versions
from nimble_otter.query.names import Names
from nimble_otter.sources import Connection, Shapes, Source, TableInfo, connect
from nimble_otter.sources.catalogue import Definition
from nimble_otter.sources.held import Held
from nimble_otter.sources.names import names_in_catalogue
from nimble_otter.sources.saved import load_sources, save_sources
from nimble_otter.sources.secrets import recall, remember, split_secret
from nimble_otter.stop import StopToken

SAMPLE = 1000
"""Documents that shapes are found from, unless more are asked for."""


class Hub(QObject):
    """`changed` with a source's name when its catalogue, counts or error are new, "" when the list is."""

    changed = Signal(str)
    trouble = Signal(str)

    def __init__(self, jobs: Jobs) -> None:
        super().__init__()
        self.jobs = jobs
        self._connections: dict[str, Connection] = {}
        self._left: list[Connection] = []
        self.tables: dict[str, list[TableInfo]] = {}
        self.errors: dict[str, OtterError] = {}
        self.shapes: dict[tuple[str, str], Shapes] = {}
        self._names: dict[str, tuple[Any, Names]] = {}
        self.costs = Costs(places.state_folder() / "costs.json")
        self.versions = Versions(places.state_folder() / "versions")
        self.history = History(places.state_folder() / "history.jsonl")
        self._file = places.config_folder() / "sources.toml"
        self.sources: list[Source] = list(DEMO_SOURCES)
        jobs.lane_left.connect(self._leave)

    def load(self) -> None:
        """Read the saved list."""
        try:
            self.sources = [*DEMO_SOURCES, *load_sources(self._file)]
        except OtterError as problem:
            self.trouble.emit(str(problem))
        self.changed.emit("")

    def find(self, name: str) -> Source | None:
        return next((source for source in self.sources if source.name == name), None)

    def known(self, source: Source) -> Source:
        """The saved source that a pull's source means, by URL and then by name; else the source itself."""
        same = [s for s in self.sources if s.url == source.url] or [s for s in self.sources if s.name == source.name]
        return same[0] if same else source

    def add(self, source: Source, password: str | None = None, before: Source | None = None) -> Source:
        """Save a source (or find the one saved with this URL), in the place of `before`; its name is made to differ
        from the others."""
        url, inside = split_secret(source.url)
        if password or inside:
            remember(url, password or inside or "")
        if before is not None:
            return self._replace(before, replace(source, url=url))
        known = next((s for s in self.sources if s.url == url), None)
        if known is not None:
            self.open(known, again=True)
            return known
        name, number = source.name or "source", 2
        while self.find(name) is not None:
            name, number = f"{source.name} {number}", number + 1
        made = replace(source, name=name, url=url)
        self.sources.append(made)
        self._save()
        self.changed.emit("")
        self.open(made)
        return made

    def _replace(self, before: Source, after: Source) -> Source:
        if after.name != before.name and self.find(after.name) is not None:
            after = replace(after, name=before.name)
        self.sources = [after if s == before else s for s in self.sources]
        self.jobs.submit(self.lane(before), f"open {before.url}", lambda *_: self._drop(before))
        self.tables.pop(before.name, None)
        self.errors.pop(before.name, None)
        self._save()
        self.changed.emit("")
        self.open(after)
        return after

    def remove(self, source: Source) -> None:
        """Forget a saved source; pulls that use it keep its URL."""
        self.sources = [s for s in self.sources if s.name != source.name]
        self.jobs.submit(self.lane(source), f"open {source.url}", lambda *_: self._drop(source))
        self.tables.pop(source.name, None)
        self.errors.pop(source.name, None)
        self._save()
        self.changed.emit("")

    def _save(self) -> None:
        try:
            save_sources(self._file, [s for s in self.sources if not s.url.startswith("demo:")])
        except OSError as problem:
            self.trouble.emit(f"The list of sources can't be saved: {problem.strerror}.")

    def names(self, source: Source) -> Names | None:
        """A source's catalogue as names, made once for each reading of it; None while it is not known."""
        tables = self.tables.get(source.name, [])
        if not any(t.columns or t.kind == "collection" for t in tables):
            return None
        mark = (id(tables), len(self.shapes))
        if self._names.get(source.name, (None, None))[0] != mark:
            shapes = {name: found for (own, name), found in self.shapes.items() if own == source.name}
            self._names[source.name] = (mark, names_in_catalogue(tables, shapes))
        return self._names[source.name][1]

    def quoted(self, source: Source, name: str) -> str:
        """A name as queries of this source write it. Quoting asks nothing of the server, so it may be done here."""
        found = self._connections.get(source.url)
        return found.quoted(name) if found is not None else name

    # --- in a source's lane ------------------------------------------------------------------------------------

    @staticmethod
    def lane(source: Source) -> str:
        return f"source {source.url}"

    def connection(self, source: Source) -> Connection:
        """The source's connection, opened when it is not; call it in the source's lane only."""
        found = self._connections.get(source.url)
        if found is None:
            found = self.connect_new(source)
            if is_left():  # it answered too late: another lane has a connection of its own by now
                found.close()
                raise Stopped
            self._connections[source.url] = found
        return found

    def _leave(self, lane: str) -> None:
        """A server that does not answer holds a connection: let it be, the next call opens another."""
        for url in [u for u in self._connections if lane == f"source {u}"]:
            left = self._connections.pop(url)
            self._left.append(left)
            if left.held is not None:
                self.trouble.emit("The open transaction is given up with its connection; nothing of it is written.")

    def _drop(self, source: Source) -> None:
        """Let a connection go; in its lane."""
        found = self._connections.pop(source.url, None)
        if found is not None:
            found.close()

    def close(self) -> None:
        """Close every connection; after the lanes have ended."""
        for connection in (*self._connections.values(), *self._left):
            with suppress(OtterError):
                connection.close()
        self._connections.clear()
        self._left.clear()

    @staticmethod
    def connect_new(source: Source, password: str | None = None) -> Connection:
        """A connection of its own; for testing a source before it is saved."""
        here = resolve(source, places.demo_folder())
        url, inside = split_secret(here.url)
        return connect(replace(here, url=url), password or inside or recall(url))

    def held(self, source: Source) -> Held | None:
        """The transaction that is open on a source."""
        found = self._connections.get(source.url)
        return found.held if found is not None else None

    def holding(self) -> list[Source]:
        """The sources on which a transaction is open, also those that are not saved."""
        urls = [url for url, connection in self._connections.items() if connection.held is not None]
        known = {source.url: source for source in self.sources}
        return [known.get(url) or Source(split_secret(url)[0], url) for url in urls]

    def begin(self, source: Source, done: Callable[[OtterError | None], None]) -> None:
        """Open a transaction; `done` gets what went wrong."""

        def work(stop: StopToken, report: Report) -> None:
            self.connection(source).begin()

        self.jobs.submit(self.lane(source), f"hold {source.url}", work, lambda _: done(None), done, title="Beginning")

    def end(self, source: Source, commit: bool, done: Callable[[OtterError | None], None]) -> None:
        """Commit the open transaction, or roll it back."""

        def work(stop: StopToken, report: Report) -> None:
            self.connection(source).end(commit)

        title = "Committing" if commit else "Rolling back"
        self.jobs.submit(self.lane(source), f"hold {source.url}", work, lambda _: done(None), done, title=title)

    def open(self, source: Source, again: bool = False) -> None:
        """Read the catalogue in the background, then count the tables one by one."""
        if not again and (source.name in self.tables or self.jobs.is_running(f"open {source.url}")):
            return

        def work(stop: StopToken, report: Report) -> list[TableInfo]:
            if again and self.held(source) is None:  # an open transaction would go with its connection
                self._drop(source)
            connection = self.connection(source)
            if source.name not in self.tables:
                report(connection.names())
                stop.check()
            return connection.tables()

        def show(tables: list[TableInfo]) -> None:
            self.errors.pop(source.name, None)
            self.tables[source.name] = list(tables)
            self.changed.emit(source.name)

        def done(tables: list[TableInfo]) -> None:
            show(tables)
            connection = self._connections.get(source.url)
            if connection is not None and connection.counts_at_once:
                self._count(source, tables)

        def fail(problem: OtterError) -> None:
            self.errors[source.name] = problem
            self.tables.pop(source.name, None)
            self.changed.emit(source.name)

        self.jobs.submit(self.lane(source), f"open {source.url}", work, done, fail, show)

    def _count(self, source: Source, tables: list[TableInfo]) -> None:
        """Count every table one by one, on a connection of its own so that nothing waits for it."""

        def work(stop: StopToken, report: Report) -> None:
            connection = self.connect_new(source)
            try:
                wanted = [t for t in tables if t.kind in ("table", "collection")]
                found: dict[str, int] = {}
                told = time.monotonic()
                for table in wanted:
                    stop.check()
                    found[table.name] = connection.count(table.name)
                    if time.monotonic() - told > 0.3:
                        told = time.monotonic()
                        report(dict(found))
                report(found)
            finally:
                connection.close()

        self.jobs.submit(
            f"counts {source.url}", f"counts {source.url}", work, update=lambda found: self._counted(source, found)
        )

    def count_exactly(self, source: Source, table: str) -> None:
        """Count one table at the server, in place of what it reckoned."""

        def work(stop: StopToken, report: Report) -> dict[str, int]:
            return {table: self.connection(source).count(table)}

        def fail(problem: OtterError) -> None:
            self.trouble.emit(str(problem))

        self.jobs.submit(
            self.lane(source), f"count {source.url} {table}", work, lambda found: self._counted(source, found), fail,
            title=f"Counting {table}",
        )  # fmt: skip

    def _counted(self, source: Source, found: dict[str, int] | None) -> None:
        tables = self.tables.get(source.name)
        if found and tables is not None:
            self.tables[source.name] = [
                replace(t, rows=found[t.name], is_estimate=False) if t.name in found else t for t in tables
            ]
            self.changed.emit(source.name)

    def define(self, source: Source, table: TableInfo, done: Any, failed: Any) -> None:
        """The definition of one entry, in the background."""

        def work(stop: StopToken, report: Report) -> Definition:
            return self.connection(source).describe(table)

        self.jobs.submit(self.lane(source), f"define {source.url}", work, done, failed)

    def sample(self, source: Source, collection: str, size: int | None = None) -> None:
        """Find the shapes of a collection in the background; with a size again, from so many documents."""
        key = (source.name, collection)
        if (key in self.shapes and size is None) or self.jobs.is_running(f"shapes {key}"):
            return

        def show(shapes: Shapes) -> None:
            self.shapes[key] = shapes
            self.changed.emit(source.name)

        def work(stop: StopToken, report: Report) -> Shapes:
            return self.connection(source).shapes(collection, size or SAMPLE)

        self.jobs.submit(self.lane(source), f"shapes {key}", work, show, title=f"Sampling {collection}")

    def test(self, source: Source, password: str | None, done: Any, failed: Any) -> None:
        """Connect and read the catalogue, saving nothing; `done` gets what was found in words."""

        def work(stop: StopToken, report: Report) -> str:
            connection = self.connect_new(source, password)
            try:
                tables = connection.tables()
            finally:
                connection.close()
            word = "collections" if tables and tables[0].kind == "collection" else "tables and views"
            return f"It answers: {len(tables)} {word}."

        self.jobs.submit(
            "test", "test", work, done, failed, stopped=lambda: failed(None), title="Testing the source"
        )  # fmt: skip
