"""The parts of the window at work: which pull is shown, and what listens to what."""

from __future__ import annotations

import datetime as dt
from dataclasses import replace
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QTimer
from PySide6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent

from nimble_otter.desktop.changes.write_controller import WriteController
from nimble_otter.desktop.detail.follow import Follower
from nimble_otter.desktop.detail.presenter import DetailPresenter
from nimble_otter.desktop.grid.actions import GridActions
from nimble_otter.desktop.grid.beside import BesidePull
from nimble_otter.desktop.grid.column_actions import ColumnActions
from nimble_otter.desktop.grid.presenter import GridPresenter
from nimble_otter.desktop.grid.rows_find import RowsFind
from nimble_otter.desktop.grid.rows_views import RowsViews
from nimble_otter.desktop.grid.side_by_side import SideBySide
from nimble_otter.desktop.pulls.aspect import Aspect
from nimble_otter.desktop.pulls.drawer import Drawer
from nimble_otter.desktop.pulls.file_watcher import FileWatcher
from nimble_otter.desktop.pulls.new_steps import place_for
from nimble_otter.desktop.pulls.notice import Notice
from nimble_otter.desktop.pulls.open_pull import OpenPull
from nimble_otter.desktop.pulls.step_ref import CHANGES, QUERY, StepRef, step_at
from nimble_otter.desktop.query.transaction_strip import ask_to_end
from nimble_otter.desktop.query.upstream import Upstream
from nimble_otter.desktop.runtime.state_store import recent_paths, remember_recent
from nimble_otter.desktop.shell.chord_hints import ChordHints
from nimble_otter.desktop.shell.closing import Closing
from nimble_otter.desktop.shell.frame import START, WARM_UP_MS, WORK, Frame
from nimble_otter.desktop.shell.pages import Pages
from nimble_otter.desktop.shell.status_text import show_status, work_words
from nimble_otter.desktop.shell.tabs import tab_of
from nimble_otter.desktop.shell.team_page import TeamNews
from nimble_otter.desktop.shell.telling import Telling
from nimble_otter.desktop.sources.glance import Glance
from nimble_otter.errors import ConnectError, OtterError
from nimble_otter.pull import Pull, Query, load_pull, places
from nimble_otter.pull.file import SUFFIX
from nimble_otter.pull.row_files import look_at_file
from nimble_otter.pull.steps import Step
from nimble_otter.sources import Source, TableInfo
from nimble_otter.sources.catalogue import EntryKind
from nimble_otter.sources.source import source_of_file
from nimble_otter.translation import tr

if TYPE_CHECKING:
    from nimble_otter.desktop.send.sending import Sending

FRESH_MS = 6000
"""How long rows that were read back after a write are marked."""


class Workbench(Frame):
    """Everything of the window but its commands."""

    def __init__(self) -> None:
        super().__init__()
        workspace, grid = self.workspace, self.grid
        self.writes = WriteController(
            self.jobs, self.hub, self.drafts, self.store.reversals, workspace.say, workspace.find
        )
        self.actions_on_grid = GridActions(workspace, grid, self.layout_state)
        self.column_actions = ColumnActions(workspace, grid, self.actions_on_grid, self.commands)
        self.grid_presenter = GridPresenter(workspace, grid)
        self.detail_presenter = DetailPresenter(workspace, self.detail, grid)
        self.follower = Follower(workspace, self.detail, grid, self.layout_state)
        self.side = SideBySide(workspace, grid, self.rows_stack)
        self.beside = BesidePull(workspace, grid)
        self.pulls_split.addWidget(self.beside)
        self.rows_views = RowsViews(workspace, grid, self.side, self.rows_stack)
        self.glance = Glance(self, self.hub)
        self.file_watcher = FileWatcher(workspace)
        self.team_news = TeamNews(self.jobs, self)
        self.closing = Closing(self, workspace, self.drafts, self.keep_drafts)
        self.pages = Pages(self, self.detail_presenter, self.open_file)
        self.rows_find = RowsFind(workspace, grid, self.actions_on_grid, self.column_actions)
        self.over_rows.insertWidget(0, self.rows_find)
        self.upstream, self.telling = Upstream(workspace), Telling(self, self.say, self._show_failed)
        self.chord_hints = ChordHints(self, self.commands)
        self._wire()
        self._drawn: tuple[OpenPull, StepRef] | None = None
        """The place of a course whose editor is up to date."""
        self._draft_timer = QTimer(self)
        self._draft_timer.setSingleShot(True)
        self._draft_timer.setInterval(300)
        self._draft_timer.timeout.connect(lambda: self.keep_drafts(True))
        self.restore_sizes()

    # --- parts -------------------------------------------------------------------------------------------------

    def _wire(self) -> None:
        tabs = self.title.tabs
        workspace = self.workspace
        workspace.leaving.connect(self._leave)
        workspace.current_changed.connect(self._show_current)
        workspace.pull_opened.connect(self._listen)
        workspace.noticed.connect(self._tell)
        workspace.step_wanted.connect(self._show_step)
        workspace.proposed.connect(lambda proposal: self.query_drawer.propose(proposal))
        tabs.chosen.connect(self.show_pull)
        tabs.closed.connect(self.close_pull)
        tabs.added.connect(self.new_pull)
        tabs.moved.connect(workspace.move)
        workspace.moved.connect(self._show_tabs)
        workspace.moved.connect(lambda: self._draft_timer.start())
        self.title.mark.clicked.connect(self.show_menu)
        self.sources.opened.connect(self.open_table)
        self.sources.send_wanted.connect(lambda *what: self.sending.ask_tables(self, *what))
        self.sources.table_chosen.connect(lambda *_: self.detail.offer_shapes(None))
        self.sources.shelf_opened.connect(self.open_file)
        self.sources.glance_wanted.connect(self.glance.show_table)
        self.glance.opened.connect(self.open_table)
        self.course.chosen.connect(self.open_drawer)
        self.course.run_wanted.connect(lambda: self.commands.run("run"))
        self.questions.whole_offered.connect(self.upstream.offer)
        self.course.upstream_wanted.connect(self.upstream.move_up)
        self.course.upstream_all_wanted.connect(self.upstream.move_all)
        self.course.down_wanted.connect(self.upstream.move_down)
        self.course.column_dropped.connect(self.actions_on_grid.group_by)
        for part in (self.actions_on_grid, self.beside):
            part.copy_wanted.connect(
                lambda open_pull, blocks, form, exact: self.sending.copy(
                    open_pull, blocks, form, self.layout_state.copying, exact
                )
            )
        self.beside.opened.connect(lambda: self.pulls_split.setSizes([self.pulls_split.width() // 2] * 2))
        self.actions_on_grid.condition_wanted.connect(self.ask_for)
        self.looks_changed.connect(lambda: self.grid_presenter.show(True))
        self.grid_presenter.shown.connect(self.follower.refresh)
        self.grid_presenter.shown.connect(self.rows_views.refresh)
        self.rows_views.offered.connect(self.status.show_views)
        self.detail_presenter.figures_changed.connect(self.status.figures.setText)
        self.follower.origin_wanted.connect(self._show_origin)
        self.file_watcher.shelf_changed.connect(self._look_at_shelf)
        self.team_news.said.connect(lambda text: self.say(text, False))
        self.settings.changed.connect(self.file_watcher.watch)
        self.grid.key_dropped.connect(self.actions_on_grid.stop_grouping)
        self.grid.width_changed.connect(self._width_set)
        self.status.stop_wanted.connect(self.jobs.stop_all)
        self.jobs.changed.connect(self._show_work)
        self.jobs.crashed.connect(self.telling.crash)
        self.hub.changed.connect(self._sources_changed)
        self.hub.trouble.connect(self._trouble)

    def drawer_parts(self, kind: str) -> tuple[object, ...]:
        """What a drawer of this kind is made with."""
        if kind == "query":
            return self.layout_state.used, lambda: self.pulls
        if kind == "send":
            return self.sending, self.hub, lambda: self.layout_state.copying
        if kind == "compare":
            return self.workspace.dependencies.names_for, lambda: self.pulls, self._show_pending
        return (self.workspace.dependencies.names_for,) if kind in ("join", "append", "check") else ()

    def wire_drawer(self, kind: str) -> None:
        """Connect a drawer that was just made."""
        self.drawers[kind].step_wanted.connect(self.workspace.show_local_step)
        if kind == "query":
            self.query_drawer.room_wanted.connect(self.give_drawer)
        elif kind == "changes":
            changes = self.changes_drawer
            changes.rehearse_wanted.connect(self.rehearse)
            changes.write_wanted.connect(self.write)
            changes.revert_wanted.connect(self.actions_on_grid.revert)
            changes.row_wanted.connect(self.actions_on_grid.go_to_row)
            changes.said.connect(self.say)
        elif kind == "send":
            send = self.send_drawer
            send.write_wanted.connect(self.send)
            send.anyway_wanted.connect(lambda: self.send(True))
            send.repeat_wanted.connect(lambda: self.pages.repeat())
            send.locale_set.connect(lambda locale: setattr(self.layout_state, "copying", locale))

    def rehearse(self) -> None:
        """Rehearse what is pending on the pull in sight, or the reversal that is reviewed."""
        if self.pull is not None:
            self.writes.rehearse(self.pull)

    def write(self) -> None:
        """Write it."""
        if self.pull is not None:
            self.writes.write(self.pull)

    def send(self, anyway: bool = False) -> None:
        """Write the delivery of the pull in sight, as its drawer has it; `anyway` although checks fail."""
        if self.pull is not None:
            self.sending.send(self.pull, self.send_drawer.plan, anyway)

    # --- which pull --------------------------------------------------------------------------------------------

    @cached_property
    def sending(self) -> Sending:
        """Made when it is first needed: what it needs takes a while to import."""
        from nimble_otter.desktop.send.sending import Sending

        return Sending(self.jobs, self.hub, self.store.folder, self.say, self.send_folder)

    @property
    def pulls(self) -> list[OpenPull]:
        """The pulls that are open, in the order of the tabs."""
        return self.workspace.pulls

    @property
    def current(self) -> int:
        """The place of the pull that is shown; -1 for the start page."""
        return self.workspace.current

    @property
    def pull(self) -> OpenPull | None:
        """The pull that is shown, if one is."""
        return self.workspace.pull

    def begin(self, demo: bool = False) -> None:
        """Sources, drafts of last time; with `demo` its two pulls when nothing else is open."""
        self.hub.load()
        for name, pull, draft in self.drafts.load(self.layout_state.order):
            number = int(name.rpartition("-")[2]) if name.rpartition("-")[2].isdigit() else self.workspace.next_number
            open_pull = self.workspace.open_quietly(pull, Path(draft.path) if draft.path else None, number)
            open_pull.saved_text = draft.saved_text
            open_pull.pending.wait(draft.edits)
            open_pull.uid = draft.uid or open_pull.uid
            open_pull.waits = bool(pull.query.text.strip()) and not self.hub.known_pulls.has(pull)
        self.writes.begin()
        if not self.pulls and demo:
            self.pages.open_demo()
        self.show_pull(min(max(0, self.layout_state.current), len(self.pulls) - 1))
        (self.grid if self.pulls else self.sources.tree).setFocus()
        for problem in (*self.store.problems, *filter(None, [self.hub.known_pulls.problem])):
            self._trouble(problem)
        self.store.problems.clear()
        QTimer.singleShot(200, self, lambda: self.drawer_of("query"))  # ready before the first pull is opened
        QTimer.singleShot(WARM_UP_MS, self, self.warm_up)
        QTimer.singleShot(600, self, self.file_watcher.look)  # what was saved elsewhere since the last time

    def _listen(self, open_pull: OpenPull) -> None:
        """Hear of a pull that was just opened."""
        open_pull.changed.connect(lambda what: self._changed(open_pull, what))

    def _look_at_shelf(self) -> None:
        """Files on the shelf, or in the team's folder, may be others."""
        self.sources.refresh_shelf()
        if places.team_folder() is not None:
            self.hub.load()
            self.team_news.look()

    def send_folder(self) -> str:
        """Where the files of new deliveries go."""
        return self.settings.now.send_folder.rstrip("/") or "/"

    def add_pull(self, pull: Pull, path: Path | None = None, run: bool = False) -> OpenPull:
        """Open a pull in a tab of its own and show it."""
        return self.workspace.open(pull, path, run)

    def show_pull(self, at: int) -> None:
        """Show the pull of a tab; -1 the start page."""
        self.workspace.show_at(at)

    def _leave(self) -> None:
        self._take_text()
        self.grid.close_editor()
        self.say("")

    def _show_current(self) -> None:
        """Show the pull in sight; fetch its rows when it has none and nothing to be asked first."""
        open_pull, self._drawn = self.pull, None
        self.course.show_pull(open_pull)
        for drawer in self.drawers.values():
            drawer.open_pull = open_pull
        self.course.setVisible(open_pull is not None)
        self.turn_to(WORK if open_pull is not None else START)
        self._show_tabs()
        if open_pull is None:
            self.start_page.refresh(recent_paths(self.layout_state))
            self.grid.set_model(None, [], False)
            self.detail_presenter.refresh()
            show_status(self.status, self.pull)
            return
        if not open_pull.waits:
            self.hub.open(self.hub.known(open_pull.pull.source))
        self.grid_presenter.show(False)
        self.open_drawer(QUERY if open_pull.waits else open_pull.selected, focus=False)
        if (
            open_pull.table is None
            and open_pull.error is None
            and open_pull.pull.query.text.strip()
            and not open_pull.is_running
            and not open_pull.outcomes
            and open_pull.runs.may_run_unasked(open_pull.pull.query.text)
        ):
            open_pull.runs.run()
        show_status(self.status, self.pull)

    def close_pull(self, at: int, ask: bool = True) -> None:
        """Close a pull; asks first where something would be lost, unless `ask` is False."""
        self.closing.close(at, ask)

    def new_pull(self) -> None:
        """An empty pull on the source of the one shown, else the first."""
        source = self.pull.pull.source if self.pull is not None else next(iter(self.hub.sources), None)
        if source is None:
            self.pages.add_source(False)
            self.say(tr("There is no source to ask yet; add one here."), True)
            return
        self.add_pull(self.pull_of(tr("New pull"), source, Query("")))
        self.query_drawer.focus_first()

    def open_table(self, source: Source, table: TableInfo) -> None:
        """A pull of a whole table, under the row limit."""
        quoted = self.hub.quoted(source, table.name)
        collection = table.name if table.kind == EntryKind.COLLECTION else ""
        pull = self.pull_of(table.name, source, Query(f"select *\nfrom {quoted}\n", collection=collection))
        open_pull = next((s for s in self.pulls if replace(s.pull, widths={}) == pull and not s.pending.count), None)
        if open_pull is not None:
            self.workspace.show(open_pull)
            return
        self.add_pull(pull)

    def open_file(self, path: Path) -> None:
        """Open a saved pull, or show it when it is open."""
        already = next((n for n, s in enumerate(self.pulls) if s.path == path), None)
        if already is not None:
            self.show_pull(already)
            return
        try:
            pull = load_pull(path)
        except OtterError as problem:
            self.say(str(problem), True)
            return
        remember_recent(self.layout_state, path)
        self.add_pull(pull, path)

    def open_database(self, path: Path) -> None:
        """Add an SQLite file to the sources and open its catalogue; what is none is told, and not added."""
        try:
            look_at_file(path)
        except ConnectError as problem:
            self.say(str(problem), True)
            return
        source = self.hub.add(source_of_file(path))
        self.pages.open_source(source)

    def save_pull(self, path: Path | None = None) -> None:
        """Save the pull shown; without a path to where it was, or to the shelf under its name."""
        open_pull = self.pull
        if open_pull is None:
            return
        self._take_text()
        safe = "".join("-" if c in '/\\:*?"<>|' else c for c in open_pull.pull.name).strip() or "pull"
        if open_pull.path is not None and path in (None, open_pull.path) and not self.file_watcher.take_in(open_pull):
            return  # both are shown, and one is chosen first
        target = path or open_pull.path or _free(places.shelf_folder() / f"{safe}{SUFFIX}")
        try:
            open_pull.versions.save(target)
        except OtterError as problem:
            self.say(str(problem), True)
            return
        remember_recent(self.layout_state, target)
        self.sources.refresh_shelf()
        self.file_watcher.watch()
        self.say(tr("Saved as {target}", target=target), False)
        self._show_tabs()

    def _take_text(self) -> None:
        if "query" in self.drawers:
            self.query_drawer.take_text()

    def rename_pull(self, name: str) -> None:
        """Another name for the pull shown; pulls that take its rows go on doing so."""
        if self.pull is not None and name.strip():
            before = self.pull.pull.name
            self.pull.shaping.change(replace(self.pull.pull, name=name.strip()), tr("Rename"))
            self.workspace.dependencies.renamed(self.pull, before)

    # --- drawers -----------------------------------------------------------------------------------------------

    def open_drawer(self, ref: StepRef, focus: bool = True) -> None:
        """Show the editor of a place of the course."""
        open_pull = self.pull
        if open_pull is None:
            return
        if ref.is_step or self._drawn != (open_pull, ref):
            open_pull.selected = ref
            self._show_selected(open_pull)
        if not self.drawer_stack.isVisibleTo(self.work):
            self.toggle_part("drawer", True)
        if focus and not self.course.hasFocus():
            self.drawer.focus_first()

    def _show_selected(self, open_pull: OpenPull) -> None:
        """The editor of the step that is selected, whose place or kind may be another now."""
        ref = open_pull.selected if open_pull.selected.at < len(open_pull.pull.steps) else QUERY
        drawer = self.drawer_of(open_pull.pull.steps[ref.at].kind if ref.is_step else ref.place.value)
        if ref.is_step:
            drawer.show_step(ref.at)
        open_pull.selected, self._drawn = ref, (open_pull, ref)
        self.course.select(ref)
        self.course.refresh()
        self.drawer_stack.setCurrentWidget(drawer)
        drawer.show_pull(open_pull)

    def _show_step(self, ref: StepRef, focus: bool, part: str) -> None:
        self.open_drawer(ref, focus)
        if part:
            self.drawer.begin_at(part)

    def _show_origin(self, source: str, table: str, column: str) -> None:
        """Go to a place of the catalogue."""
        self.toggle_part("left", True)
        self.sources.reveal(source, table, column)
        self.sources.tree.setFocus()

    def ask_for(self, table: str, column: str, said: str) -> None:
        """A value of the grid becomes a condition of the query."""
        self.open_drawer(QUERY, focus=False)
        self.query_drawer.take_value(table, column, said)

    @property
    def drawer(self) -> Drawer:
        """The drawer that is shown."""
        shown = self.drawer_stack.currentWidget()
        assert isinstance(shown, Drawer)
        return shown

    def add_step(self, step: Step) -> None:
        """Put a step where it belongs: a filter before groups and sorts, columns at the end."""
        open_pull = self.pull
        if open_pull is None:
            return
        at = place_for(step, open_pull.pull.steps)
        open_pull.shaping.add_step(step, tr("Add {kind}", kind=step.kind), at)
        self.open_drawer(step_at(at))

    def _show_pending(self, open_pull: OpenPull) -> None:
        self.workspace.show(open_pull)
        self.open_drawer(CHANGES)

    # --- what changed ------------------------------------------------------------------------------------------

    def _changed(self, open_pull: OpenPull, what: Aspect) -> None:
        """Bring each part that shows something of it up to date, once."""
        if what & Aspect.ROWS:
            self.workspace.dependencies.changed(open_pull)
        if what & Aspect.EDITS and open_pull.fresh:
            open_pull.after(FRESH_MS, open_pull.plans.settle)
        if what & Aspect.EDITS and open_pull.edits.count:
            self.say("")
        if what & (Aspect.PULL | Aspect.EDITS):
            self._draft_timer.start()
            self._show_tabs()
        if open_pull is not self.pull:
            return
        if what & Aspect.RUN:
            self.telling.of_run(open_pull)
        self._show_rows(what)
        if what & Aspect.PULL and open_pull.selected.is_step:
            self._show_selected(open_pull)
        else:
            self.course.refresh()
            if what & ~(Aspect.EDITS | Aspect.MORE_ROWS) or (what & Aspect.EDITS and self.is_shown("changes", "send")):
                self.drawer.refresh()
        show_status(self.status, self.pull)

    def _show_rows(self, what: Aspect) -> None:
        """The grid, and the finder over it, as far as something of them changed."""
        if what & (Aspect.ROWS | Aspect.EDITS):
            self.grid_presenter.show(True)
        elif what & Aspect.MORE_ROWS:
            self.grid_presenter.lengthen()
        if what & Aspect.EDITS:
            self.rows_find.take_edits()
        if what & (Aspect.ROWS | Aspect.MORE_ROWS):
            self.rows_find.refresh()

    def _show_failed(self) -> None:
        if not self.is_shown("query"):
            self.open_drawer(QUERY, focus=False)

    def _sources_changed(self, name: str) -> None:
        self.course.refresh()
        if self.pull is not None and self.is_shown("source", "query"):
            self.drawer.refresh()
        if self.detail.showing_shapes:
            self.detail_presenter.show_shapes()

    def _width_set(self, name: str, width: int) -> None:
        if self.pull is not None:
            self.pull.shaping.put(replace(self.pull.pull, widths={**self.pull.pull.widths, name: width}))

    def _show_tabs(self) -> None:
        self.title.tabs.show_tabs([tab_of(open_pull) for open_pull in self.pulls], self.current)
        name = self.pull.pull.name if self.pull is not None else ""
        self.setWindowTitle(tr("{name} — Nimble Otter", name=name) if name else "Nimble Otter")

    def _show_work(self) -> None:
        self.status.show_work(work_words(self.jobs))
        if self.pull is not None and self.is_shown("query"):
            self.query_drawer.stop_button.setVisible(self.pull.is_running)
            self.query_drawer.run_button.setEnabled(not self.pull.is_running)

    def _trouble(self, text: str) -> None:
        """Something of ours went wrong beside what the user did: it stays told until it is read."""
        self.say(text, True)
        self.status.keep(text)

    def _tell(self, notice: Notice) -> None:
        self.status.say(notice.text, notice.is_warning)

    def say(self, text: str, problem: bool = False) -> None:
        """Say something in the status strip."""
        self.workspace.say(text, problem)

    # --- the frame ---------------------------------------------------------------------------------------------

    def keep_drafts(self, later: bool = False) -> None:
        """Everything open, as it is now, to disk."""
        self._take_text()
        for open_pull in self.pulls:
            (self.drafts.keep_later if later else self.drafts.keep)(open_pull)
        state = self.layout_state
        state.order = [f"pull-{open_pull.number}" for open_pull in self.pulls]
        state.current = self.current
        self.note_sizes()
        self.store.save_layout(state)
        for problem in self.store.problems:
            self.say(problem, True)
        self.store.problems.clear()
        shown = self.pull
        if shown is not None and shown.edits.count and not shown.is_running:
            self.status.fetched.setText(tr("Draft kept on disk {now:%H:%M:%S}", now=dt.datetime.now()))

    def closeEvent(self, event: QCloseEvent) -> None:
        """Close unless something is pending that the reader wants to keep."""
        if not self.closing.may_close():
            event.ignore()
            return
        if holding := self.hub.holding():
            event.ignore()
            ask_to_end(self, self.hub, holding, self.close)
            return
        self._draft_timer.stop()
        self.keep_drafts()
        for open_pull in self.pulls:
            open_pull.hush()
        self.jobs.close()
        self.writes.journal.close()
        self.hub.close()
        self.store.seat.release()
        event.accept()

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        """Take files that are dragged here."""
        if event.mimeData().hasUrls() and any(url.isLocalFile() for url in event.mimeData().urls()):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        """Open the files that were dropped."""
        for url in event.mimeData().urls():
            if url.isLocalFile():
                self.open_any(Path(url.toLocalFile()))
        event.acceptProposedAction()

    def open_any(self, path: Path) -> None:
        """A pull file is opened, anything else is taken for a database."""
        if path.suffix == SUFFIX:
            self.open_file(path)
        else:
            self.open_database(path)


def _free(path: Path) -> Path:
    """A path that is not taken: "name 2.pull" and so on."""
    number, file = 2, path
    while file.exists():
        file = path.with_name(f"{path.stem} {number}{path.suffix}")
        number += 1
    return file
