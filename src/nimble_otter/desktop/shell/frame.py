"""The frame of the window: its parts, how they stand, and their sizes. What they do is in window.py."""

from __future__ import annotations

from dataclasses import replace
from importlib import import_module
from typing import TYPE_CHECKING, cast

from PySide6.QtCore import QEvent, QPoint, Qt, QTimer, Signal
from PySide6.QtGui import QIcon, QKeyEvent, QResizeEvent
from PySide6.QtWidgets import (
    QApplication,
    QMainWindow,
    QMenu,
    QSplitter,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from nimble_otter.changes import Guard
from nimble_otter.desktop.detail.detail import Detail
from nimble_otter.desktop.grid.grid import Grid
from nimble_otter.desktop.kit import tokens
from nimble_otter.desktop.kit.commands import Commands
from nimble_otter.desktop.kit.theme import theme
from nimble_otter.desktop.kit.usual_looks import UsualLooks, use_looks
from nimble_otter.desktop.kit.widgets import boxed
from nimble_otter.desktop.pulls.drafts import DraftStore
from nimble_otter.desktop.pulls.drawer import Drawer
from nimble_otter.desktop.pulls.workspace import Workspace
from nimble_otter.desktop.query.run_questions import AskBeforeRun
from nimble_otter.desktop.runtime.connections import ConnectionManager
from nimble_otter.desktop.runtime.integration import ICON
from nimble_otter.desktop.runtime.jobs import LOCAL, Jobs, Report
from nimble_otter.desktop.runtime.settings import ROW_HEIGHTS, TEXT_SIZES, SettingsStore
from nimble_otter.desktop.runtime.state_store import StateStore
from nimble_otter.desktop.shell.journey import JourneyStrip
from nimble_otter.desktop.shell.menu import fill
from nimble_otter.desktop.shell.start_page import StartPage
from nimble_otter.desktop.shell.status import StatusStrip
from nimble_otter.desktop.shell.title import TitleStrip
from nimble_otter.desktop.sources.sources_pane import SourcesPane
from nimble_otter.desktop.steps.course import CourseStrip
from nimble_otter.desktop.steps.failing_strip import FailingStrip
from nimble_otter.memory import LIMIT
from nimble_otter.pull.model import Pull, Query
from nimble_otter.session_bus import notify
from nimble_otter.sources import Source
from nimble_otter.sources.waits import WAITS
from nimble_otter.stop import StopToken
from nimble_otter.translation import tr

if TYPE_CHECKING:
    from nimble_otter.desktop.changes.changes_drawer import ChangesDrawer
    from nimble_otter.desktop.query.query_drawer import QueryDrawer
    from nimble_otter.desktop.schedule.deliveries_page import DeliveriesPage
    from nimble_otter.desktop.schedule.repeat_page import RepeatPage
    from nimble_otter.desktop.send.send_drawer import SendDrawer
    from nimble_otter.desktop.shell.help_page import HelpPage
    from nimble_otter.desktop.shell.history_page import HistoryPage
    from nimble_otter.desktop.shell.settings_page import SettingsPage
    from nimble_otter.desktop.shell.team_page import TeamPage
    from nimble_otter.desktop.shell.versions_page import VersionsPage
    from nimble_otter.desktop.sources.search_page import SearchPage
    from nimble_otter.desktop.sources.source_page import SourcePage
    from nimble_otter.desktop.steps.filter_drawer import FilterDrawer

_PAGE_COUNT = 11
START, SOURCE, SEARCH, HISTORY, VERSIONS, WORK, DELIVERIES, REPEAT, HELP, SETTINGS, TEAM = range(_PAGE_COUNT)

_DRAWERS = {
    "source": ("sources.source_drawer", "SourceDrawer"),
    "query": ("query.query_drawer", "QueryDrawer"),
    "filter": ("steps.filter_drawer", "FilterDrawer"),
    "sort": ("steps.step_drawers", "SortDrawer"),
    "group": ("steps.group_drawer", "GroupDrawer"),
    "columns": ("steps.columns_drawer", "ColumnsDrawer"),
    "open": ("steps.step_drawers", "OpenDrawer"),
    "top": ("steps.top_drawer", "TopDrawer"),
    "join": ("steps.join_drawer", "JoinDrawer"),
    "compare": ("steps.compare_drawer", "CompareDrawer"),
    "append": ("steps.join_drawer", "AppendDrawer"),
    "distinct": ("steps.reshape_drawers", "DistinctDrawer"),
    "sample": ("steps.reshape_drawers", "SampleDrawer"),
    "pivot": ("steps.reshape_drawers", "PivotDrawer"),
    "unpivot": ("steps.reshape_drawers", "UnpivotDrawer"),
    "transpose": ("steps.reshape_drawers", "TransposeDrawer"),
    "check": ("steps.check_drawer", "CheckDrawer"),
    "compute": ("steps.compute_drawer", "ComputeDrawer"),
    "changes": ("changes.changes_drawer", "ChangesDrawer"),
    "chart": ("chart.drawer", "ChartDrawer"),
    "watch": ("query.watch_drawer", "WatchDrawer"),
    "send": ("send.send_drawer", "SendDrawer"),
}
_PAGES = {
    SOURCE: ("sources.source_page", "SourcePage"),
    SEARCH: ("sources.search_page", "SearchPage"),
    HISTORY: ("shell.history_page", "HistoryPage"),
    VERSIONS: ("shell.versions_page", "VersionsPage"),
    DELIVERIES: ("schedule.deliveries_page", "DeliveriesPage"),
    REPEAT: ("schedule.repeat_page", "RepeatPage"),
    HELP: ("shell.help_page", "HelpPage"),
    SETTINGS: ("shell.settings_page", "SettingsPage"),
    TEAM: ("shell.team_page", "TeamPage"),
}

_LATER = (
    *("pull.deliver", "query.local.conditions", "query.assist.completion", "query.assist.diagnosis", "changes.write"),
    *("send.clipboard", "send.transfer", "send.cells", "sources.drivers.mongodb", "pull.delivery", "pull.schedule_run"),
)
_LATER_VIEWS = (
    *(
        "kit.completion_list",
        "kit.editor",
        "query.query_help",
        "query.parameter_fields",
        "query.query_side",
        "changes.changes_list",
        "changes.changes_side",
    ),
    *("send.send_form", *dict.fromkeys(module for module, _ in (*_DRAWERS.values(), *_PAGES.values()))),
)
WARM_UP_MS = 900
SMALLEST = (630, 390)
"""A screen of 1280 x 800 with text twice as large."""
ROOM = {"right": 960, "left": 720}
"""Width of the window below which a pane gives way to the rows."""


class Frame(QMainWindow):
    """Parts with nothing in them yet; `jobs`, `hub`, `store`, `drafts` and `workspace` are what a window works with.
    `page_made` has the number of a page of the centre that was just made; `looks_changed` says that values are shown
    otherwise, `window_wanted` that another window is."""

    window_wanted = Signal()
    page_made = Signal(int)
    looks_changed = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.setWindowTitle("Nimble Otter")
        self.setWindowIcon(QIcon(str(ICON)))
        self.setMinimumSize(*SMALLEST)
        self.setAcceptDrops(True)
        self._looks = UsualLooks()
        self._alt_alone = False
        self.jobs = Jobs()
        self.store = StateStore()
        self.drafts = DraftStore(self.store)
        self.layout_state = self.store.load_layout()
        self.settings = SettingsStore(self)
        self._team = self.settings.now.team_folder
        self.hub = ConnectionManager(self.jobs)
        self.questions = AskBeforeRun(self)
        self.workspace = Workspace(self.hub, self.store.seat.first_number, self.questions, self)
        self.commands = Commands(self)
        self._build()
        self.settings.changed.connect(self.apply_settings)
        self.settings.trouble.connect(lambda said: self.workspace.say(said, True))
        self.apply_settings()
        self.jobs.long_ended.connect(self._tell_elsewhere)

    def _build(self) -> None:
        self.title, self.course, self.status = TitleStrip(), CourseStrip(), StatusStrip()
        self.sources, self.detail, self.grid = SourcesPane(self.hub), Detail(), Grid()
        self.grid.show_pictures(self.jobs)
        self.drawers: dict[str, Drawer] = {}
        self.drawer_stack = QStackedWidget()
        self._drawer_before = 0
        self.drawer_stack.setMinimumHeight(110)
        self.work = QSplitter(Qt.Orientation.Vertical)
        self.work.setHandleWidth(1)
        self.rows_stack = QStackedWidget()
        self.rows_stack.addWidget(self.grid)
        self.over_rows = QVBoxLayout()
        self.over_rows.setContentsMargins(0, 0, 0, 0)
        self.over_rows.setSpacing(0)
        self.failing_strip = FailingStrip()
        self.over_rows.addWidget(self.failing_strip)
        self.rows_split = QSplitter(Qt.Orientation.Horizontal)
        self.rows_split.setHandleWidth(1)
        self.rows_split.setChildrenCollapsible(False)
        self.rows_split.addWidget(self.rows_stack)
        self.pulls_split = QSplitter(Qt.Orientation.Horizontal)
        self.pulls_split.setHandleWidth(1)
        self.pulls_split.setChildrenCollapsible(False)
        self.pulls_split.addWidget(self.rows_split)
        self.over_rows.addWidget(self.pulls_split, 1)
        self.work.addWidget(boxed(self.over_rows))
        self.work.addWidget(self.drawer_stack)
        self.work.setStretchFactor(0, 1)
        self.work.setCollapsible(0, False)
        self.start_page = StartPage(self.hub)
        self.centre = QStackedWidget()
        self.made_pages: dict[int, QWidget] = {START: self.start_page, WORK: self.work}
        for number in range(_PAGE_COUNT):
            self.centre.addWidget(self.made_pages.get(number) or QWidget())
        self.across = QSplitter(Qt.Orientation.Horizontal)
        self.across.setHandleWidth(1)
        for part in (self.sources, self.centre, self.detail):
            self.across.addWidget(part)
        self.across.setStretchFactor(1, 1)
        self.across.setCollapsible(1, False)
        self.sources.setMinimumWidth(150)
        self.detail.setMinimumWidth(200)
        whole = QWidget()
        column = QVBoxLayout(whole)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self.title)
        column.addWidget(self.course)
        column.addWidget(self.across, 1)
        self.journey = JourneyStrip(self.workspace)
        column.addWidget(self.journey)
        column.addWidget(self.status)
        self.setCentralWidget(whole)

    # --- drawers, made when they are first opened --------------------------------------------------------------

    def drawer_of(self, kind: str) -> Drawer:
        """The drawer of a kind of step (filter, sort) or of a place of the course (source, query, changes, send)."""
        made = self.drawers.get(kind)
        if made is None:
            module, name = _DRAWERS[kind]
            made = getattr(import_module(f"nimble_otter.desktop.{module}"), name)(*self.drawer_parts(kind))
            self.drawers[kind] = made
            self.drawer_stack.addWidget(made)
            self.wire_drawer(kind)
            self._use_editor_look()
        return made

    # --- pages of the centre, made when they are first opened ---------------------------------------------------

    def page_of(self, number: int) -> QWidget:
        """A page of the centre."""
        made = self.made_pages.get(number)
        if made is None:
            module, name = _PAGES[number]
            parts = {HISTORY: (self.hub,), VERSIONS: (), DELIVERIES: (self.jobs,), REPEAT: (self.jobs,),
                     TEAM: (self.jobs,), HELP: (self.commands,), SETTINGS: (self.settings, self.commands)}  # fmt: skip
            made = getattr(import_module(f"nimble_otter.desktop.{module}"), name)(*parts.get(number, (self.hub,)))
            self.made_pages[number] = made
            blank = cast("QWidget", self.centre.widget(number))
            self.centre.insertWidget(number, made)
            self.centre.removeWidget(blank)
            blank.deleteLater()
            self.page_made.emit(number)
        return made

    @property
    def source_page(self) -> SourcePage:
        """The page of a source."""
        return cast("SourcePage", self.page_of(SOURCE))

    @property
    def search_page(self) -> SearchPage:
        """The page that finds a value."""
        return cast("SearchPage", self.page_of(SEARCH))

    @property
    def history_page(self) -> HistoryPage:
        """The page of everything that was run."""
        return cast("HistoryPage", self.page_of(HISTORY))

    @property
    def versions_page(self) -> VersionsPage:
        """The page of what a pull was before."""
        return cast("VersionsPage", self.page_of(VERSIONS))

    @property
    def deliveries_page(self) -> DeliveriesPage:
        """The page of schedules and deliveries."""
        return cast("DeliveriesPage", self.page_of(DELIVERIES))

    @property
    def repeat_page(self) -> RepeatPage:
        """The page on which a delivery gets its times."""
        return cast("RepeatPage", self.page_of(REPEAT))

    @property
    def help_page(self) -> HelpPage:
        """The guide."""
        return cast("HelpPage", self.page_of(HELP))

    @property
    def settings_page(self) -> SettingsPage:
        """The settings."""
        return cast("SettingsPage", self.page_of(SETTINGS))

    @property
    def team_page(self) -> TeamPage:
        """What the team changed."""
        return cast("TeamPage", self.page_of(TEAM))

    def warm_up(self) -> None:
        """Import what the window can do without at first, so that nothing waits for it later: what has classes of Qt
        a piece at a time in this thread, the rest in the background."""

        def work(stop: StopToken, _: Report) -> None:
            for module in _LATER:
                stop.check()
                import_module(f"nimble_otter.{module}")
            import_module("nimble_otter.send").all_formats()

        self.jobs.submit(LOCAL, "warm up", work, lambda _: self._warm_views(list(_LATER_VIEWS)))

    def _warm_views(self, left: list[str]) -> None:
        import_module(f"nimble_otter.desktop.{left.pop(0)}")
        if left:
            QTimer.singleShot(0, self, lambda: self._warm_views(left))

    def drawer_parts(self, kind: str) -> tuple[object, ...]:
        """What a drawer is made with, beside the pull that it shows."""
        return ()

    def wire_drawer(self, kind: str) -> None:
        """Connect a drawer just made; the window knows to what."""

    @property
    def query_drawer(self) -> QueryDrawer:
        """The drawer of the query, made when it is first needed."""
        return cast("QueryDrawer", self.drawer_of("query"))

    @property
    def filter_drawer(self) -> FilterDrawer:
        """The drawer of a filter, made when it is first needed."""
        return cast("FilterDrawer", self.drawer_of("filter"))

    @property
    def changes_drawer(self) -> ChangesDrawer:
        """The drawer of changes, made when it is first needed."""
        return cast("ChangesDrawer", self.drawer_of("changes"))

    @property
    def send_drawer(self) -> SendDrawer:
        """The drawer of deliveries, made when it is first needed."""
        return cast("SendDrawer", self.drawer_of("send"))

    def is_shown(self, *kinds: str) -> bool:
        """Whether one of these drawers is the one in sight."""
        return any(
            self.drawers.get(kind) is self.drawer_stack.currentWidget() for kind in kinds if kind in self.drawers
        )

    def turn_to(self, page: int) -> None:
        """Show a page in the centre."""
        self.centre.setCurrentWidget(self.page_of(page))

    def show_menu(self) -> None:
        """Open the menu under the mark."""
        menu = QMenu(self)
        fill(self.commands, menu)
        menu.exec(self.title.mark.mapToGlobal(QPoint(10, tokens.TITLE)))

    def event(self, event: QEvent) -> bool:
        """Alt alone opens the menu."""
        if isinstance(event, QKeyEvent) and not event.isAutoRepeat():
            if event.type() == QEvent.Type.ShortcutOverride:
                self._alt_alone = event.key() == Qt.Key.Key_Alt
            elif event.type() == QEvent.Type.KeyRelease and event.key() == Qt.Key.Key_Alt and self._alt_alone:
                self._alt_alone = False
                self.show_menu()
                return True
        elif event.type() == QEvent.Type.WindowDeactivate:
            self._alt_alone = False
        return super().event(event)

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Panes that would leave the rows no room step aside until there is some again."""
        super().resizeEvent(event)
        for part, room in ROOM.items():
            widget = {"left": self.sources, "right": self.detail}[part]
            was_room, is_room = event.oldSize().width() >= room, event.size().width() >= room
            if was_room != is_room or event.oldSize().width() < 0:
                widget.setVisible(is_room and self.layout_state.shown.get(part, True))

    def _tell_elsewhere(self, title: str, said: str) -> None:
        """Work that took its time has ended: who looks at another window is told there."""
        if not self.isActiveWindow():
            QApplication.alert(self)
            self.jobs.submit(LOCAL, "notify", lambda *_: notify(title, said))

    def toggle_part(self, part: str, on: bool | None = None) -> None:
        """Show or hide the left pane, the right pane or the drawer."""
        widget = {"left": self.sources, "right": self.detail, "drawer": self.drawer_stack}[part]
        widget.setVisible(not widget.isVisibleTo(self) if on is None else on)
        self.layout_state.shown[part] = widget.isVisibleTo(self)

    def restore_sizes(self) -> None:
        """Give window and panes the sizes of last time, within the screen that is there."""
        state = self.layout_state
        screen = self.screen().availableGeometry() if self.screen() is not None else None
        width, height = state.size
        if screen is not None:
            width, height = min(width, screen.width()), min(height, screen.height())
        self.resize(width, height)
        if state.is_maximized:
            self.setWindowState(Qt.WindowState.WindowMaximized)
        self.across.setSizes([state.left, max(300, width - state.left - state.right), state.right])
        rest = max(200, height - tokens.TITLE - tokens.COURSE - tokens.STATUS - state.drawer)
        self.work.setSizes([rest, state.drawer])
        for part, on in state.shown.items():
            if not on and part in ("left", "right", "drawer"):
                self.toggle_part(part, False)
        self.detail.turn(state.page if state.page in (0, 1, 2) else 1)

    def give_drawer(self, height: int) -> None:
        """At least this height for the drawer, as far as the grid keeps some; 0 for the height of before."""
        grid, drawer = self.work.sizes()
        if not height:
            height, self._drawer_before = self._drawer_before, 0
            if height and drawer > height:
                self.work.setSizes([grid + drawer - height, height])
        elif drawer < height:
            self._drawer_before = drawer
            height = min(height, max(drawer, grid + drawer - 150))
            self.work.setSizes([grid + drawer - height, height])

    def change_text(self, way: int) -> None:
        """Larger text (1) or smaller (-1) from the next start on; 0 for the usual size."""
        wanted = _stage(TEXT_SIZES, self.settings.now.text_percent, way) if way else 100
        self.settings.set("text_percent", wanted)
        self.workspace.say(tr("Text size {wanted} %, from the next start on", wanted=wanted), False)

    def change_theme(self, word: str) -> None:
        """Light or dark, now and from the next start on; "" for what the desktop has."""
        self.settings.set("theme", word)

    def change_rows(self, way: int) -> None:
        """Taller rows (1) or lower ones (-1), one stage further."""
        self.settings.set("row_height", _stage(ROW_HEIGHTS, self.grid.row, way))

    def apply_settings(self) -> None:
        """What is set takes effect."""
        now = self.settings.now
        if theme.chosen != now.theme:
            theme.choose(now.theme)
        looks = UsualLooks(now.null_mark, now.thousands, now.date_form, now.time_form, now.time_zone, now.stripes)
        use_looks(looks)
        if looks != self._looks:
            self._looks = looks
            self.looks_changed.emit()
        if self.grid.row != now.row_height:
            self.grid.set_row_height(now.row_height)
        self._use_editor_look()
        self.hub.history.days = now.history_days
        LIMIT.set(now.memory_mb)
        WAITS.set(now.connect_s, now.answer_s, now.idle_min, now.most_lines)
        if now.team_folder != self._team:
            self._team = now.team_folder
            self.hub.load()
            self.sources.refresh_shelf()
        self.commands.bind(now.keys)

    def _use_editor_look(self) -> None:
        if "query" in self.drawers:
            now = self.settings.now
            self.query_drawer.editor.use_look(now.code_size, now.wrap_lines, now.offer_names)

    def pull_of(self, name: str, source: Source, query: Query) -> Pull:
        """A new pull, with the row limit and the guard that are set."""
        now = self.settings.now
        return Pull(name, source, replace(query, limit=now.row_limit), guard=Guard(now.guard))

    def note_sizes(self) -> None:
        """Write down how the parts stand now, for the next start."""
        state = self.layout_state
        if not self.isMaximized():
            state.size = (self.width(), self.height())
        state.is_maximized = self.isMaximized()
        if self.isVisible():
            left, _, right = self.across.sizes()
            state.left, state.right = left or state.left, right or state.right
            state.drawer = self.work.sizes()[1] or state.drawer
        state.page = self.detail.page


def _stage(stages: tuple[int, ...], now: int, way: int) -> int:
    """The next of some stages."""
    at = min(range(len(stages)), key=lambda n: abs(stages[n] - now))
    return stages[max(0, min(len(stages) - 1, at + way))]
