"""The course of an open pull: its steps, the rows along them, groups opened and closed."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from nimble_otter.desktop.pulls.aspect import Aspect
from nimble_otter.desktop.pulls.notice import Notice, warning
from nimble_otter.desktop.pulls.pull_state import PullState
from nimble_otter.desktop.pulls.truncated_values import TruncatedValues
from nimble_otter.desktop.runtime.jobs import LOCAL
from nimble_otter.errors import QueryError
from nimble_otter.pull import Course, Pull, Shaped, places, run_course
from nimble_otter.pull.profiles import DeliveryProfile, load_profiles
from nimble_otter.pull.steps import LooksBack, Step, TakesRows
from nimble_otter.pull.tree import Opened, TreeLines, tree_lines
from nimble_otter.pull.upstream import Comparison, compare
from nimble_otter.sources import Fetched
from nimble_otter.table import Table, View
from nimble_otter.table.text.show import grouped
from nimble_otter.translation import tr

_AT_ONCE = 2000
"""Rows that are shaped without a job."""
_OPENED_AT_ONCE = 20_000
"""Groups that are opened without one."""


RowsOfOthers = Callable[[PullState, str, bool], View | None]
"""Gives the rows of another pull by its name to the pull that asks, fresh ones where wanted; None: none yet."""


def no_rows(own: PullState, name: str, fresh: bool) -> View | None:
    """What a pull on its own has of others."""
    return None


class Shaping:
    """Takes the rows along the steps: small tables at once, large ones beside the window."""

    def __init__(self, own: PullState, others: RowsOfOthers) -> None:
        self._own, self._rows_of_others = own, others
        self.truncated = TruncatedValues(own, self.take_whole)
        self._looked_whole: Fetched | None = None
        self._tree: tuple[Shaped, Opened, TreeLines] | None = None

    def forget(self) -> None:
        """Hold no rows any more."""
        self._tree = self._looked_whole = None

    def change(self, pull: Pull, name: str, quiet: bool = False) -> None:
        """A new state of the pull, with undo (`quiet`: part of the one before); the course is taken anew."""
        if pull == self._own.pull:
            return
        if not quiet:
            self._own.undo_stack.note(self._own.pull, pull, name)
        self.take_pull(pull)

    def put(self, pull: Pull) -> None:
        """A new state by typing or by the way: one entry of undo for all that is typed in a row, none for widths."""
        before, earlier, self._own.pull = self._values(), self._own.pull, pull
        self._own.undo_stack.note(earlier, pull, "", is_typing=True)
        self._own.tell(Aspect.PULL)
        if self._own.course is not None and self._values() != before:
            self.walk()

    def _values(self) -> dict[str, object]:
        """The values of the parameters that steps name; none that are wrong, which is said beside them."""
        used = self._own.pull.step_parameters()
        try:
            return {name: value for name, value in self._own.pull.values().items() if name in used} if used else {}
        except QueryError:
            return {}

    def set_step(self, at: int, step: Step, name: str) -> None:
        """Put a step in the place of another."""
        self.change(self._own.pull.with_step_at(at, step), name)

    def add_step(self, step: Step, name: str, at: int | None = None) -> int:
        """Add a step at a place, else at the end; gives its place."""
        at = len(self._own.pull.steps) if at is None else at
        self.change(self._own.pull.with_step(step, at), name)
        return at

    def walk(self, fresh: bool = False, then: Callable[[], object] = lambda: None) -> None:
        """Take the rows along the course: small tables at once, large ones in the background."""
        table = self._own.table
        if table is None:
            self._own.tell(Aspect.PULL)
            return
        steps, earlier, values = self._own.pull.steps, self._own.course, self._values()
        if self.truncated.read_by(steps) and self._looked_whole is not self._own.fetched:
            self._looked_whole = self._own.fetched  # once: where they can't be had, steps take what is there
            self.truncated.fetch(None, then)
        others, last = self._other_rows(fresh), self._last()
        if self._own.show_at is not None and self._own.show_at >= len(steps):
            self._own.show_at = None

        def show(course: Course) -> None:
            self._own.course = course
            if fresh or earlier is None or earlier.end.grouped is not course.end.grouped:
                self._own.opened = Opened()
            self._own.tell(Aspect.PULL | Aspect.ROWS)
            self._own.jobs.turn.at_end(then)  # what follows may look at what the window shows

        if table.rows <= _AT_ONCE:
            self._own.jobs.stop(f"{self._own.key} course")
            show(run_course(table, steps, earlier=earlier, values=values, others=others, last=last))
            return
        self._own.jobs.submit(
            LOCAL,
            f"{self._own.key} course",
            lambda stop, _: run_course(table, steps, stop, earlier, values, others, last),
            show,
            title=tr("Shaping"),
        )

    def shape(self, table: Table, show: Callable[[Course], None]) -> None:
        """What the course makes of other rows than those there are, in the background."""
        steps, values, last, others = self._own.pull.steps, self._values(), self._last(), self._other_rows(False)
        self._own.jobs.submit(
            LOCAL,
            f"{self._own.key} shape",
            lambda stop, _: run_course(table, steps, stop, None, values, others, last),
            show,
        )

    @property
    def needs(self) -> list[str]:
        """Names of the pulls whose rows its steps take."""
        taking = [step for step in self._own.pull.steps if isinstance(step, TakesRows) and step.on]
        return [name for step in taking for name in step.others]

    def rows_of(self, name: str, fresh: bool = False) -> View | None:
        """Rows of another pull by its name, asked for anew where `fresh`; None while there are none."""
        return self._rows_of_others(self._own, name, fresh)

    def _other_rows(self, fresh: bool) -> dict[str, View]:
        return {name: rows for name in self.needs if (rows := self.rows_of(name, fresh)) is not None}

    def try_steps(self, steps: tuple[Step, ...], show: Callable[[Course], None]) -> None:
        """What the course would be with other steps, without taking it."""
        table, course, values = self._own.table, self._own.course, self._values()
        others = self._other_rows(False)
        if table is not None:
            work = partial(run_course, table, steps, earlier=course, values=values, others=others)
            self._own.jobs.submit(LOCAL, f"{self._own.key} try", lambda stop, _: work(stop=stop), show)

    def take_others(self) -> None:
        """The rows of a pull that it takes are other ones now."""
        self.walk()

    def take_pull(self, pull: Pull) -> None:
        """Another state of the pull; the course is taken anew where its steps differ."""
        steps_changed, self._own.pull = pull.steps != self._own.pull.steps, pull
        self._own.tell(Aspect.PULL)
        if steps_changed:
            self.walk()

    def take_whole(self, fetched: Fetched, then: Callable[[], object]) -> None:
        """The rows again, with values that were cut before; then something is done with them."""
        self._own.fetched = fetched
        self._own.tell(Aspect.EDITS)
        self.walk(then=then)

    def show_failing(self, line: tuple[int, int] | None) -> None:
        """Show only the rows that fail a line of a check, by the step's place and the line's; None for all again."""
        if self._own.failing_of != line:
            self._own.failing_of = line
            self._own.tell(Aspect.ROWS | Aspect.PULL)

    def _last(self) -> DeliveryProfile | None:
        """What the last delivery remembers, where a step looks at it; read once."""
        own = self._own
        if own.last_profile is None and any(isinstance(step, LooksBack) for step in own.pull.steps):
            profiles = load_profiles(places.state_folder(), own.remembered_as)
            own.last_profile = profiles[0] if profiles else None
        return own.last_profile

    def show_rows_at(self, at: int | None) -> None:
        """Show the rows as of a step; None for those at the end."""
        self._own.show_at, self._own.failing_of = at, None
        self._own.opened = Opened()
        self._own.tell(Aspect.ROWS | Aspect.PULL)

    def open_levels(self, count: int) -> None:
        """Open the groups of the first so many levels, close the others."""
        self._open(Opened(count))

    def toggle_group(self, depth: int, index: int) -> None:
        """Open or fold one group."""
        self._open(self._own.opened.toggled(depth, index))

    def open_around(self, row: int) -> None:
        """Open the groups that a row is in."""
        shaped = self._own.shaped
        if shaped is not None and shaped.grouped is not None:
            self._open(self._own.opened.around(shaped, row))

    def tree_lines(self) -> TreeLines | None:
        """The lines of the groups shown, as they are open; None where rows are shown."""
        shaped = self._own.shaped
        if shaped is None or shaped.grouped is None:
            return None
        if self._tree is None or self._tree[0] is not shaped or self._tree[1] != self._own.opened:
            self._tree = shaped, self._own.opened, tree_lines(shaped, self._own.opened)
        return self._tree[2]

    def _open(self, opened: Opened) -> None:
        self._own.opened, shaped = opened, self._own.shaped
        if shaped is None or shaped.grouped is None or len(shaped.grouped.view) <= _OPENED_AT_ONCE:
            self._own.tell(Aspect.ROWS)
            return

        def show(lines: TreeLines) -> None:
            self._tree = shaped, opened, lines
            self._own.tell(Aspect.ROWS)

        work = partial(tree_lines, shaped, opened)
        self._own.jobs.submit(
            LOCAL, f"{self._own.key} tree", lambda stop, _: work(stop), show, title=tr("Opening groups")
        )

    def compare_rows(self, before: Shaped) -> None:
        """Say whether the rows are those of before a step was moved."""
        after = self._own.course.end if self._own.course is not None else None
        if after is None:
            return

        def done(found: Comparison) -> None:
            if found.is_same:
                self._own.notice = Notice(tr("The same {after} rows as before", after=grouped(found.after)))
            elif not found.was_compared:
                text = tr(
                    "{before} rows before, {after} now; too many to compare",
                    before=grouped(found.before),
                    after=grouped(found.after),
                )
                self._own.notice = Notice(text)
            else:
                counts = tr(
                    "{only_before} only before, {only_after} only now",
                    only_before=grouped(found.only_before),
                    only_after=grouped(found.only_after),
                )
                self._own.notice = warning(
                    tr("The rows differ: {counts}. {examples}", counts=counts, examples="; ".join(found.examples[:2]))
                )
            self._own.tell(Aspect.RUN)

        self._own.jobs.submit(
            LOCAL, f"{self._own.key} compare", lambda stop, _: compare(before, after, stop), done, title=tr("Comparing")
        )
