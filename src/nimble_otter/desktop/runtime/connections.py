"""The sources of the window: the saved list, open connections in their lanes, catalogues and counts."""

from __future__ import annotations

import logging
import time
from collections.abc import Callable
from contextlib import suppress
from dataclasses import replace
from typing import Any

from PySide6.QtCore import QObject, QTimer, Signal

from nimble_otter.demo import DEMO_SOURCES, demo_sources, resolve, show_demo
from nimble_otter.desktop.runtime.jobs import LOCAL, Jobs, Report, is_left
from nimble_otter.errors import ConnectError, OtterError, PasswordMissing, SavedError, Stopped
from nimble_otter.pull import places
from nimble_otter.pull.costs import Costs
from nimble_otter.pull.history import History
from nimble_otter.pull.known import KnownPulls
from nimble_otter.pull.model import Pull
from nimble_otter.pull.versions import Versions
from nimble_otter.query.sql.names import Names
from nimble_otter.sources import Connection, Shapes, Source, TableInfo, connect
from nimble_otter.sources.catalogue import Definition, EntryKind, how_many
from nimble_otter.sources.marks import guarded_databases, with_marks
from nimble_otter.sources.names import names_in_catalogue
from nimble_otter.sources.open_transaction import OpenTransaction
from nimble_otter.sources.saved import change_sources, load_sources
from nimble_otter.sources.secrets import forget, hold, look_up, remember
from nimble_otter.sources.team import share, with_team, withdraw
from nimble_otter.sources.urls import read_url
from nimble_otter.sources.waits import WAITS
from nimble_otter.stop import StopToken
from nimble_otter.translation import tr

log = logging.getLogger(__name__)

SAMPLE = 1000
"""Documents that shapes are found from, unless more are asked for."""
_REST_MS = 60_000


class ConnectionManager(QObject):
    """`changed` with a source's name when its catalogue, counts or error are new, "" when the list is.
    `password_wanted` with a source whose server asks for a password that is not known, once until it is given."""

    changed = Signal(str)
    trouble = Signal(str)
    password_wanted = Signal(object)

    def __init__(self, jobs: Jobs) -> None:
        super().__init__()
        self.jobs = jobs
        self._connections: dict[str, Connection] = {}
        self._left: list[Connection] = []
        self.tables: dict[str, list[TableInfo]] = {}
        self.errors: dict[str, OtterError] = {}
        self.shapes: dict[tuple[str, str], Shapes] = {}
        self._marks: dict[Source, tuple[list[Source], Source]] = {}
        self._names: dict[str, tuple[Any, Names]] = {}
        self.costs = Costs(places.state_folder() / "costs.json")
        self.versions = Versions(places.state_folder() / "versions")
        self.history = History(places.state_folder() / "history.jsonl")
        self.known_pulls = KnownPulls(places.state_folder() / "known-pulls.json")
        self._released: set[str] = set()
        self._asked: set[str] = set()
        self._file = places.config_folder() / "sources.toml"
        self.sources: list[Source] = list(demo_sources(self._file.parent))
        jobs.lane_left.connect(self._leave)
        self._rests = QTimer(self, interval=_REST_MS)
        self._rests.timeout.connect(self.rest)
        self._rests.start()

    def load(self) -> None:
        """Read the saved list."""
        try:
            saved = load_sources(self._file)
            self.sources = self._with_team(saved)
            if told := [s for s in saved if s.secret is not None]:  # an earlier version of ours left some
                for source in told:
                    self._remember(source, source.secret.reveal() if source.secret is not None else "")
                change_sources(self._file, lambda found: found)
        except (OtterError, OSError) as problem:
            self.trouble.emit(str(problem))
        self.changed.emit("")

    def _with_team(self, own: list[Source]) -> list[Source]:
        """The demo's sources, one's own, and those of the team that have no name of these."""
        found, troubles = with_team([*demo_sources(self._file.parent), *own], places.team_folder())
        for trouble in troubles:
            self.trouble.emit(trouble)
        return found

    def share(self, source: Source) -> bool:
        """Put a source into the team's folder and take it out of one's own list; False, and told, where that can't
        be."""
        team = places.team_folder()
        if team is None:
            return False
        try:
            share(source, team)
        except OtterError as problem:
            self.trouble.emit(str(problem))
            return False
        self._change(lambda saved: [s for s in saved if s.name != source.name])
        return True

    def find(self, name: str) -> Source | None:
        """The source of this name, if there is one."""
        return next((source for source in self.sources if source.name == name), None)

    def known(self, source: Source) -> Source:
        """The saved source that a pull's source means, by URL and then by name; else the source itself, with the
        marks of those that reach the same."""
        same = [s for s in self.sources if s.url == source.url] or [s for s in self.sources if s.name == source.name]
        return same[0] if same else self._marked(source)

    def _marked(self, source: Source) -> Source:
        kept = self._marks.get(source)
        if kept is None or kept[0] is not self.sources:  # worked out once for each list of sources
            kept = self._marks[source] = (self.sources, with_marks(source, self.sources))
        return kept[1]

    def add(self, source: Source, password: str | None = None, before: Source | None = None) -> Source:
        """Save a source (or find the one saved with this URL), in the place of `before`; its name is made to differ
        from the others."""
        password = password or (source.secret.reveal() if source.secret is not None else None)
        if password:
            self._remember(source, password)
        elif before is not None:
            self._move_password(before, source)
        if before is not None:
            return self._replace(before, source)
        known = next((s for s in self.sources if s.url == source.url), None)
        if known is not None:
            self.open(known, again=True)
            return known
        made = with_marks(replace(source, name=source.name or "source"), self.sources)

        def added(saved: list[Source]) -> list[Source]:
            if any(s.url == made.url for s in saved):  # by another window
                return saved
            taken, name, number = {s.name for s in (*DEMO_SOURCES, *saved)}, made.name, 2
            while name in taken:
                name, number = f"{made.name} {number}", number + 1
            return [*saved, replace(made, name=name)]

        self._change(added)
        made = next((s for s in self.sources if s.url == made.url), made)
        self.open(made)
        return made

    def _replace(self, before: Source, after: Source) -> Source:
        if after.name != before.name and self.find(after.name) is not None:
            after = replace(after, name=before.name)
        self.jobs.submit(self.lane(before), f"open {before.url}", lambda *_: self._drop(before))
        self.tables.pop(before.name, None)
        self.errors.pop(before.name, None)

        if before.is_shared and (team := places.team_folder()) is not None:
            try:
                after = share(after, team, before)
            except OtterError as problem:
                self.trouble.emit(str(problem))
                return before
            self._change(lambda saved: saved)
            self.open(after, again=True)
            return after

        def replaced(saved: list[Source]) -> list[Source]:
            if before.url.startswith("demo:"):  # which is never saved
                return saved
            names = {s.name for s in saved}
            kept = [after if s.name == before.name else s for s in saved]
            return kept if before.name in names else [*kept, after]

        self._change(replaced)
        self.open(after, again=True)
        return after

    def _remember(self, source: Source, password: str) -> None:
        """Keep a password: here at once, and in the keyring, which may ask its user first and take its time."""
        hold(source.url, password)
        self._asked.discard(source.url)

        def told(is_kept: bool) -> None:
            if not is_kept:
                self.trouble.emit(
                    tr(
                        "The password of {source_name} is kept until the program ends: no keyring took it.",
                        source_name=source.name,
                    )
                )

        self.jobs.submit(LOCAL, f"keyring {source.url}", lambda *_: remember(source.url, password), told)

    def _move_password(self, before: Source, after: Source) -> None:
        """Another name, database or option of the same server and user: its password stays known."""
        old, new = read_url(before.url), read_url(after.url)
        if old is None or new is None or before.url == after.url or (old.user, old.where) != (new.user, new.where):
            return

        def move(*_: object) -> None:
            password, _why = look_up(before.url)
            if password is not None:
                remember(after.url, password)
                forget(before.url)

        self.jobs.submit(self.lane(after), f"keyring {after.url}", move)  # before the lane opens it

    def remove(self, source: Source) -> None:
        """Forget a saved source and its password; pulls that use it keep its URL. The demo's are removed together."""
        if source in DEMO_SOURCES:
            self.show_demo(False)
            return
        self.jobs.submit(LOCAL, f"keyring {source.url}", lambda *_: forget(source.url))
        self.jobs.submit(self.lane(source), f"open {source.url}", lambda *_: self._drop(source))
        self.tables.pop(source.name, None)
        self.errors.pop(source.name, None)
        if source.is_shared and (team := places.team_folder()) is not None:
            try:
                withdraw(source, team)
            except OtterError as problem:
                self.trouble.emit(str(problem))
        self._change(lambda saved: [s for s in saved if s.name != source.name])

    @property
    def has_demo(self) -> bool:
        """Whether the demo's sources are in the list."""
        return any(source in DEMO_SOURCES for source in self.sources)

    def show_demo(self, is_shown: bool) -> None:
        """Put the demo's sources into the list, or take them out."""
        try:
            show_demo(self._file.parent, is_shown)
        except OSError as problem:
            self.trouble.emit(tr("The list of sources can't be saved: {strerror}.", strerror=problem.strerror))
        self._change(lambda saved: saved)

    def _change(self, change: Callable[[list[Source]], list[Source]]) -> None:
        """Change the list here and on disk, where another window may have changed it too."""
        own = change([s for s in self.sources if not s.url.startswith("demo:") and not s.is_shared])
        try:
            own = change_sources(self._file, change)
        except OtterError as problem:
            self.trouble.emit(tr("The list of sources was not saved. {problem}", problem=problem))
        except OSError as problem:
            self.trouble.emit(tr("The list of sources can't be saved: {strerror}.", strerror=problem.strerror))
        self.sources = self._with_team(own)
        self.changed.emit("")

    def names(self, source: Source) -> Names | None:
        """A source's catalogue as names, made once for each reading of it; None while it is not known."""
        tables = self.tables.get(source.name, [])
        if not any(t.columns or t.kind == EntryKind.COLLECTION for t in tables):
            return None
        mark = (id(tables), len(self.shapes))
        if self._names.get(source.name, (None, None))[0] != mark:
            shapes = {name: found for (own, name), found in self.shapes.items() if own == source.name}
            self._names[source.name] = (mark, names_in_catalogue(tables, shapes))
        return self._names[source.name][1]

    def quoted(self, source: Source, name: str) -> str:
        """A name as queries of this source write it. Quoting asks nothing of the server, so it may be done here."""
        connection = self._connections.get(source.url)
        return connection.quoted(name) if connection is not None else name

    # --- in a source's lane ------------------------------------------------------------------------------------

    @staticmethod
    def lane(source: Source) -> str:
        """The lane in which work on a source is done one by one."""
        return f"source {source.url}"

    def connection(self, source: Source) -> Connection:
        """The source's connection, opened when it is not; call it in the source's lane only. Raises: ConnectError for
        one that only a pull names which was not run here."""
        found = self._connections.get(source.url)
        if found is None:
            if source.url not in self._released and not any(s.url == source.url for s in self.sources):
                raise ConnectError(
                    tr("This source comes from a pull that has not been run here."), tr("Run the pull first.")
                )
            found = self.connect_new(source)
            if is_left():  # it answered too late: another lane has a connection of its own by now
                found.close()
                raise Stopped
            self._connections[source.url] = found
        return found

    def release(self, pull: Pull) -> None:
        """The user ran a pull: its source may be reached, and it is known from now on."""
        self.reach(self.known(pull.source))
        self.note_known(pull)

    def reach(self, source: Source) -> None:
        """The user wants a source asked that only a pull names."""
        self._released.add(source.url)

    def note_known(self, pull: Pull) -> None:
        """What the pull asks, and whom, is known from now on."""
        if not self.known_pulls.has(pull):
            self.keep(
                f"known {id(pull)}",
                lambda: self.known_pulls.add(pull),
                tr("That {pull_name} was run here", pull_name=pull.name),
            )

    def keep(self, key: str, write: Callable[[], object], what: str) -> None:
        """Write something of ours in the background; where that fails, it is said."""

        def work(*_: object) -> None:
            try:
                write()
            except OSError as problem:
                raise SavedError(
                    tr("{what} can't be kept: {strerror}.", what=what, strerror=problem.strerror)
                ) from problem
            except ValueError as problem:  # of a file that another program has changed
                raise SavedError(tr("{what} can't be kept: {problem}.", what=what, problem=problem)) from problem

        self.jobs.submit(LOCAL, key, work, failed=lambda problem: self.trouble.emit(str(problem)))

    def rest(self) -> None:
        """Close connections that nobody used for as long as the settings say."""
        for url, connection in self._connections.items() if WAITS.idle_s else ():
            self.jobs.submit(f"source {url}", f"rest {url}", lambda *_, own=connection: own.rest(WAITS.idle_s))

    def _leave(self, lane: str) -> None:
        """A server that does not answer holds a connection: let it be, the next call opens another."""
        for url in [u for u in self._connections if lane == f"source {u}"]:
            left = self._connections.pop(url)
            self._left.append(left)
            if left.held is not None:
                self.trouble.emit(tr("The connection was lost; its open transaction was rolled back."))

    def _drop(self, source: Source) -> None:
        """Let a connection go; in its lane."""
        connection = self._connections.pop(source.url, None)
        if connection is not None:
            connection.close()

    def close(self) -> None:
        """Close every connection; after the lanes have ended."""
        for connection in (*self._connections.values(), *self._left):
            with suppress(OtterError):
                connection.close()
        self._connections.clear()
        self._left.clear()

    def connect_new(self, source: Source, password: str | None = None) -> Connection:
        """A connection of its own; for testing a source before it is saved."""
        if source not in self.sources:
            source = with_marks(source, self.sources, names=True)
        guarded = guarded_databases(source, self.sources)
        return connect(resolve(source, places.demo_folder()), password, guarded)

    def held(self, source: Source) -> OpenTransaction | None:
        """The transaction that is open on a source."""
        connection = self._connections.get(source.url)
        return connection.held if connection is not None else None

    def holding(self) -> list[Source]:
        """The sources on which a transaction is open, also those that are not saved."""
        urls = [url for url, connection in self._connections.items() if connection.held is not None]
        known = {source.url: source for source in self.sources}
        return [known.get(url) or Source(url, url) for url in urls]

    def begin(self, source: Source, done: Callable[[OtterError | None], None]) -> None:
        """Open a transaction; `done` gets what went wrong."""

        def work(stop: StopToken, report: Report) -> None:
            self.connection(source).begin()

        self.jobs.submit(
            self.lane(source), f"hold {source.url}", work, lambda _: done(None), done, title=tr("Beginning")
        )

    def end(self, source: Source, commit: bool, done: Callable[[OtterError | None], None]) -> None:
        """Commit the open transaction, or roll it back."""

        def work(stop: StopToken, report: Report) -> None:
            self.connection(source).end(commit)

        title = tr("Committing") if commit else tr("Rolling back")
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
            if isinstance(problem, PasswordMissing) and source in self.sources and source.url not in self._asked:
                self._asked.add(source.url)
                self.password_wanted.emit(source)

        self.jobs.submit(self.lane(source), f"open {source.url}", work, done, fail, show)

    def _count(self, source: Source, tables: list[TableInfo]) -> None:
        """Count every table one by one, on a connection of its own so that nothing waits for it."""

        def work(stop: StopToken, report: Report) -> None:
            connection = self.connect_new(source)
            try:
                wanted = [t for t in tables if t.kind in (EntryKind.TABLE, EntryKind.COLLECTION)]
                found: dict[str, int] = {}
                number = time.monotonic()
                for table in wanted:
                    stop.check()
                    found[table.name] = connection.count(table.name)
                    if time.monotonic() - number > 0.3:
                        number = time.monotonic()
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
            title=tr("Counting {table}", table=table),
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

    def rights(self, source: Source, done: Callable[[tuple[str, ...]], None]) -> None:
        """What the user of a source that is open may do beyond rows, in sentences."""
        if source.url in self._connections:
            work = lambda stop, report: self.connection(source).rights()  # noqa: E731
            self.jobs.submit(self.lane(source), f"rights {source.url}", work, done, lambda _: None)

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

        self.jobs.submit(
            self.lane(source), f"shapes {key}", work, show, title=tr("Sampling {collection}", collection=collection)
        )

    def test(self, source: Source, password: str | None, done: Any, failed: Any) -> None:
        """Connect and read the catalogue, saving nothing; `done` gets what was found in words."""

        def work(stop: StopToken, report: Report) -> str:
            connection = self.connect_new(source, password)
            try:
                tables, rights = connection.tables(), connection.rights()
            finally:
                connection.close()
            is_documents = bool(tables) and tables[0].kind == EntryKind.COLLECTION
            return " ".join((tr("Connected: {how_many}.", how_many=how_many(len(tables), is_documents)), *rights))

        self.jobs.submit(
            "test", "test", work, done, failed, stopped=lambda: failed(None), title=tr("Testing the source")
        )  # fmt: skip
