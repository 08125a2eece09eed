"""The window: its parts at work, its commands, and the box that finds them."""

from __future__ import annotations

from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, cast

from PySide6.QtCore import QPoint, Qt
from PySide6.QtWidgets import QApplication, QMenu

from nimble_otter.desktop.grid.rows_views import BOTH, CHART_ALONE
from nimble_otter.desktop.pulls.aspect import Aspect
from nimble_otter.desktop.runtime.state_store import recent_paths
from nimble_otter.desktop.shell.charting import Charting
from nimble_otter.desktop.shell.commands import add_commands, collect_findings
from nimble_otter.desktop.shell.comparing import Comparing
from nimble_otter.desktop.shell.find_box import FindBox
from nimble_otter.desktop.shell.step_pieces import StepPieces
from nimble_otter.desktop.shell.tracing import Tracing
from nimble_otter.desktop.shell.workbench import Workbench
from nimble_otter.pull.steps import Step
from nimble_otter.pull.steps.base import step_title
from nimble_otter.sources.saved import SUFFIX as SOURCE_SUFFIX
from nimble_otter.translation import tr

if TYPE_CHECKING:
    from nimble_otter.desktop.chart.drawer import ChartDrawer
    from nimble_otter.desktop.steps.palette import StepPalette


class Window(Workbench):
    """One window with its own jobs, sources and open pulls."""

    def __init__(self) -> None:
        super().__init__()
        self.charting, self.tracing, self.comparing = Charting(self), Tracing(self), Comparing(self)
        self.status.more_wanted.connect(self._offer_more)
        self.status.view_chosen.connect(self._choose_view)
        self.step_pieces = StepPieces(self.workspace, self)
        self._used: list[tuple[Step, str]] = []
        self.course.add_wanted.connect(self._choose_step)
        self.course.keep_wanted.connect(self.step_pieces.keep)
        self.course.copy_wanted.connect(self.step_pieces.copy)
        self.find_box = FindBox(self.title.box, self, lambda: collect_findings(self))
        add_commands(self, self.find_box)
        self.charting.add_commands()
        self.tracing.add_commands()
        self.grid_presenter.shown.connect(lambda: self.failing_strip.show_pull(self.pull))
        self.drawer_stack.currentChanged.connect(lambda _: self.detail_presenter.refresh())
        self.failing_strip.all_wanted.connect(self._show_all_rows)

    @cached_property
    def step_palette(self) -> StepPalette:
        """Every kind of step, made when it is first wanted."""
        from nimble_otter.desktop.steps.palette import StepPalette

        made = StepPalette()
        made.chosen.connect(lambda kind: self.commands.run(f"add_{kind}"))
        made.piece_chosen.connect(self.step_pieces.add)
        made.piece_dropped.connect(self.step_pieces.drop)
        made.used_chosen.connect(lambda n: self.step_pieces.add_used(*self._used[n]))
        return made

    def _choose_step(self, at: QPoint) -> None:
        from nimble_otter.desktop.steps.palette import TEAM

        if self.pull is not None:
            kinds = [step_title(step.kind) for step in self.pull.pull.steps]
            self._used = self.step_pieces.used(recent_paths(self.layout_state))
            self.step_palette.offer(
                [
                    (piece.name, ", ".join(step_title(step.kind) for step in piece.steps) + TEAM * piece.is_shared)
                    for piece in self.step_pieces.offered()
                ],
                [
                    (
                        step.name or step.words(),
                        tr("{step}, in {where}", step=step_title(step.kind), where=where),
                    )
                    for step, where in self._used
                ],
            )
            self.step_palette.open(at, kinds[-1] if kinds else tr("Query"))

    def _offer_more(self) -> None:
        menu = QMenu(self)
        self.commands.fill_menu(menu, ["more_rows", "all_rows"])
        menu.exec(self.status.more.mapToGlobal(QPoint(0, -menu.sizeHint().height())))

    def _choose_view(self, place: int) -> None:
        self.charting.open(place == BOTH) if place in (CHART_ALONE, BOTH) else self.rows_views.choose(place)

    def drawer_parts(self, kind: str) -> tuple[object, ...]:
        """What a drawer of this kind is made with."""
        return (self.charting.fill_drawer,) if kind == "chart" else super().drawer_parts(kind)

    def wire_drawer(self, kind: str) -> None:
        """Connect a drawer that was just made."""
        super().wire_drawer(kind)
        if kind == "query":
            self.query_drawer.help_wanted.connect(self.pages.help_with)
        if kind == "chart":
            self.charting.wire_drawer(cast("ChartDrawer", self.drawers[kind]))

    def _show_rows(self, what: Aspect) -> None:
        """Rows, and what stands beside them of earlier deliveries, which a delivery just made changes."""
        super()._show_rows(what)
        self.charting.refresh(what)
        self.tracing.refresh(what)
        if what & Aspect.PULL and self.detail.showing_last:
            self.detail_presenter.refresh()

    def _show_all_rows(self) -> None:
        """No longer only those that fail a check."""
        if self.pull is not None:
            self.pull.shaping.show_failing(None)
            self.grid.setFocus()

    def open_any(self, path: Path) -> None:
        """See `Workbench.open_any`; the file of a source fills its page."""
        self.pages.take_source(path) if path.suffix == SOURCE_SUFFIX else super().open_any(path)

    def take_over(self, files: list[str]) -> None:
        """Open what another start of the program was given, and come to the front."""
        for name in files:
            self.open_any(Path(name))
        self.setWindowState(self.windowState() & ~Qt.WindowState.WindowMinimized)
        self.show()
        self.raise_()
        self.activateWindow()
        QApplication.alert(self)  # where the desktop does not let a window come to the front by itself
