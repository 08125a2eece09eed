"""The pages in the window's centre (start, source, find a value, history), and what is done from the Sources pane."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

from PySide6.QtCore import SignalInstance

from nimble_otter.desktop.detail.presenter import DetailPresenter
from nimble_otter.desktop.pulls.step_ref import QUERY
from nimble_otter.desktop.runtime.jobs import LOCAL
from nimble_otter.desktop.shell.frame import (
    DELIVERIES,
    HELP,
    HISTORY,
    REPEAT,
    SEARCH,
    SETTINGS,
    SOURCE,
    START,
    TEAM,
    VERSIONS,
    WORK,
    Frame,
)
from nimble_otter.errors import OtterError
from nimble_otter.pull import Pull, Query
from nimble_otter.pull.file import load_pull
from nimble_otter.pull.schedules import Schedule
from nimble_otter.sources import Source, TableInfo
from nimble_otter.sources.calls import call_of
from nimble_otter.translation import tr


class Pages:
    """Turns the window to a page, and acts on what is chosen there."""

    def __init__(self, window: Frame, detail_presenter: DetailPresenter, open_file: Callable[[Path], object]) -> None:
        self._window, self._workspace, self._detail_presenter = window, window.workspace, detail_presenter
        self._open_file = open_file
        sources = window.sources
        sources.collection_chosen.connect(self.describe)
        sources.add_wanted.connect(lambda: self.add_source(False))
        sources.name_wanted.connect(self.insert_name)
        sources.page_wanted.connect(self.edit_source)
        sources.search_wanted.connect(self.search)
        sources.call_wanted.connect(self.call)
        start = window.start_page
        start.source_opened.connect(self.open_source)
        start.pull_opened.connect(open_file)
        start.file_wanted.connect(lambda: window.commands.run("open_database"))
        start.add_wanted.connect(lambda: self.add_source(True))
        start.demo_wanted.connect(lambda: window.commands.run("demo"))
        start.journey_wanted.connect(lambda: window.commands.run("journey"))
        window.journey.demo_wanted.connect(lambda: window.commands.run("demo"))
        window.journey.guide_wanted.connect(lambda: self.help("Start"))
        window.hub.password_wanted.connect(self.ask_password)
        window.page_made.connect(self._wire)

    def _wire(self, number: int) -> None:
        """Connect a page that was just made."""
        window = self._window
        if number == SOURCE:
            window.source_page.saved.connect(self._source_saved)
        elif number == SEARCH:
            window.search_page.opened.connect(self._workspace.open)
        elif number == HISTORY:
            window.history_page.opened.connect(self._workspace.open)
            window.history_page.text_wanted.connect(self._put_text)
            window.history_page.cleared.connect(self._clear_history)
        elif number == VERSIONS:
            window.versions_page.opened.connect(self._workspace.open)
            window.versions_page.taken_back.connect(self._take_back)
        elif number == DELIVERIES:
            deliveries_page = window.deliveries_page
            deliveries_page.opened.connect(self._workspace.open)
            deliveries_page.edit_wanted.connect(self._edit_schedule)
            deliveries_page.repeat_wanted.connect(self.repeat)
            deliveries_page.said.connect(self._workspace.say)
        elif number == TEAM:
            team_page = window.team_page
            team_page.opened.connect(self._open_file)
            team_page.place_wanted.connect(self._show_place)
            team_page.folder_wanted.connect(lambda: self.settings(tr("Folder of the team")))
        elif number == REPEAT:
            window.repeat_page.saved.connect(self._schedule_saved)
        closed: SignalInstance = window.page_of(number).closed  # type: ignore[attr-defined]
        closed.connect(self.deliveries if number == REPEAT else self.leave)

    def close(self) -> None:
        """Leave the page in sight, where it is one that can be left."""
        closed: SignalInstance | None = getattr(self._window.centre.currentWidget(), "closed", None)
        if closed is not None:
            closed.emit()

    def leave(self) -> None:
        """Back to the rows, or the start."""
        self._window.turn_to(WORK if self._workspace.pull is not None else START)

    def add_source(self, server: bool) -> None:
        """Open the page for a new source: a server, or a file."""
        self._window.source_page.open(server)
        self._window.turn_to(SOURCE)

    def take_source(self, path: Path) -> None:
        """Open the page of a source with what its file says."""
        try:
            self._window.source_page.take(path)
        except OtterError as problem:
            self._workspace.say(str(problem), True)
            return
        self._window.turn_to(SOURCE)

    def edit_source(self, source: Source) -> None:
        """Open the page of a source."""
        self._window.source_page.open(source=source)
        self._window.turn_to(SOURCE)

    def ask_password(self, source: Source) -> None:
        """Open the page of a source at its password, unless another source's page is being filled in."""
        if not self._window.source_page.isVisible():
            self._window.source_page.open(source=source)
            self._window.source_page.ask_password(self._window.hub.errors.get(source.name))
            self._window.turn_to(SOURCE)
            self._window.source_page.password.setFocus()

    def _shown_source(self) -> Source | None:
        window = self._window
        return window.hub.known(window.workspace.pull.pull.source) if window.workspace.pull is not None else None

    def search(self, source: Source | None = None, table: TableInfo | None = None) -> None:
        """The page that finds a value, for a source or one table of it."""
        wanted = source or self._shown_source() or next(iter(self._window.hub.sources), None)
        if wanted is None:
            self.add_source(False)
            self._workspace.say(tr("There is no source to search yet; add one here."), True)
            return
        self._window.search_page.open(wanted, table)
        self._window.turn_to(SEARCH)

    def history(self) -> None:
        """The page of everything that was run, first of the source shown."""
        self._window.history_page.open(self._shown_source())
        self._window.turn_to(HISTORY)

    def help(self, part: str = "") -> None:
        """The guide, at what has to do with what is in sight unless a part is named."""
        from nimble_otter.desktop.shell.help_page import SECTIONS

        window, centre = self._window, self._window.centre.currentIndex()
        open_pull = self._workspace.pull
        problem = open_pull.error if open_pull is not None and centre == WORK else None
        if problem is not None and not part:
            self.help_with(problem.topic)
            return
        drawer = next((kind for kind in window.drawers if window.is_shown(kind)), "")
        pages = {SOURCE: "Reach", START: "Reach", SEARCH: "Find", HISTORY: "Keep", VERSIONS: "Keep",
                 DELIVERIES: "Repeat", REPEAT: "Repeat", TEAM: "Keep"}  # fmt: skip
        if window.grid.hasFocus() or not drawer:
            drawer = "grid"
        in_work = "Look" if drawer == "grid" else SECTIONS.get(drawer, "Shape")
        window.help_page.open(part or pages.get(centre, in_work))
        window.turn_to(HELP)

    def help_with(self, topic: str) -> None:
        """What the guide says of an error."""
        from nimble_otter.desktop.shell.help_page import TROUBLE

        self._window.help_page.open(TROUBLE, topic)
        self._window.turn_to(HELP)

    def settings(self, name: str = "") -> None:
        """The settings, at one of them where it is named."""
        self._window.settings_page.open(name)
        self._window.turn_to(SETTINGS)

    def open_demo(self) -> None:
        """The demo's pulls with their sources; all of these come back where they were removed."""
        from nimble_otter.demo import demo_pulls

        hub = self._window.hub
        if not hub.has_demo:
            hub.show_demo(True)
        pulls = demo_pulls()
        for pull in pulls:
            self._workspace.open_quietly(pull)
        for pull in pulls[::-1]:
            hub.open(pull.source)

    def show_demo(self) -> None:
        """The demo's pulls in sight, opened where they are not."""
        from nimble_otter.demo import demo_pulls

        names = [pull.name for pull in demo_pulls()]
        shown = [
            own for own in self._workspace.pulls if own.pull.name in names and own.pull.source.url.startswith("demo:")
        ]
        if not shown:
            self.open_demo()
            shown = self._workspace.pulls[-len(names) :]
        self._workspace.show(shown[0])

    def versions(self) -> None:
        """The page of what the pull shown was at each run and save."""
        if self._workspace.pull is not None:
            self._window.versions_page.open(self._workspace.pull)
            self._window.turn_to(VERSIONS)

    def deliveries(self) -> None:
        """The page of schedules and deliveries."""
        self._window.turn_to(DELIVERIES)
        self._window.deliveries_page.open()

    def team(self) -> None:
        """The page of what the team changed."""
        self._window.turn_to(TEAM)
        self._window.team_page.open()

    def _show_place(self, kind: str, name: str) -> None:
        """What a team shares beside pulls."""
        source = self._window.hub.find(name)
        if kind == "source" and source is not None:
            self.edit_source(source)
        elif kind == "schedule":
            self.deliveries()
        else:
            self.settings()

    def repeat(self) -> None:
        """The page on which the pull in sight gets its times; a schedule runs its file, so it is saved first."""
        open_pull = self._workspace.pull
        if open_pull is None or open_pull.pull.send is None:
            self._workspace.say(tr("Choose a pull and set its Send step first; that is what is repeated."), True)
            return
        if open_pull.path is None or open_pull.pull != open_pull.saved_pull():
            self._window.commands.run("save")
        if open_pull.path is None:
            self._workspace.say(tr("A schedule runs a saved pull: save it first (Ctrl+S)."), True)
            return
        self._window.turn_to(REPEAT)
        self._window.repeat_page.open(open_pull.pull, open_pull.path, ())

    def _edit_schedule(self, schedule: Schedule) -> None:
        try:
            pull = load_pull(Path(schedule.pull))
        except OtterError as problem:
            self._workspace.say(str(problem), True)
            return
        self._window.turn_to(REPEAT)
        self._window.repeat_page.open(pull, Path(schedule.pull), schedule.sends, schedule)

    def _schedule_saved(self, schedule: Schedule) -> None:
        self.deliveries()
        self._workspace.say(f"{schedule.name}: {schedule.table.words()}", False)

    def _take_back(self, pull: Pull) -> None:
        self.leave()
        if self._workspace.pull is not None:
            self._workspace.pull.shaping.change(pull, tr("Restore a version"))
            self._window.grid.setFocus()  # undo means the pull there, and the text in the editor
            self._workspace.say(tr("The version was restored; undo returns to the pull as it was before"), False)

    def copy_pull(self) -> None:
        """The pull shown once more, in a tab of its own."""
        shown = self._workspace.pull
        if shown is not None:
            self._workspace.open(replace(shown.pull, name=tr("{pull_name} copy", pull_name=shown.pull.name)))

    def _put_text(self, text: str) -> None:
        window = self._window
        if window.workspace.pull is None:
            return
        self.leave()
        self._workspace.show_step(QUERY, True)
        window.query_drawer.editor.replace_text(text)

    def _clear_history(self, url: str | None) -> None:
        window = self._window
        window.hub.history.clear(url)
        window.jobs.submit(LOCAL, "history", lambda *_: window.hub.history.keep())

    def _source_saved(self, source: Source) -> None:
        self.leave()
        self._workspace.say(tr("{source_name} is in the list of sources", source_name=source.name), False)
        self.open_source(source)

    def open_source(self, source: Source) -> None:
        """Read a source's catalogue and go to it in the pane."""
        window = self._window
        window.toggle_part("left", True)
        window.hub.open(source)
        window.sources.reveal(source.name, "")
        window.sources.tree.setFocus()

    def call(self, source: Source, routine: TableInfo) -> None:
        """A pull that calls a routine, with a field for each of its arguments."""
        text, asks = call_of(routine, source.dialect, lambda name: self._window.hub.quoted(source, name))
        self._workspace.open(Pull(routine.bare.split("(")[0], source, Query(text, asks=asks)))
        fields = self._window.query_drawer.parameters.fields
        (next(iter(fields.values())) if fields else self._window.query_drawer.editor).setFocus()

    def describe(self, source: Source, collection: str) -> None:
        """Show the shapes of a collection."""
        window = self._window
        window.hub.sample(source, collection)
        self._detail_presenter.show_collection(source, collection)

    def insert_name(self, source: Source, name: str) -> None:
        """Put a name from the catalogue into the query's text."""
        if self._workspace.pull is not None:
            self._workspace.show_step(QUERY, True)
            self._window.query_drawer.insert_name(self._window.hub.quoted(source, name))
