"""An open pull: its text and steps, the rows fetched, their course, what is pending, and undo over all of it."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import suppress
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Any

from nimble_otter.desktop.pulls.notice import Notice, warning
from nimble_otter.desktop.pulls.pull_changes import ChangedPull
from nimble_otter.desktop.pulls.run_controller import RunController, RunQuestions, Unattended
from nimble_otter.desktop.runtime.connections import Hub
from nimble_otter.desktop.runtime.jobs import LOCAL
from nimble_otter.errors import OtterError, QueryError, SavedError
from nimble_otter.pull import Course, Pull, Shaped, pull_to_text, run_course, save_pull
from nimble_otter.pull.steps import Step, TakesRows
from nimble_otter.pull.tree import Opened, TreeLines, tree_lines
from nimble_otter.pull.upstream import Comparison, compare
from nimble_otter.pull.versions import Version, key_of
from nimble_otter.query.effects import classify
from nimble_otter.query.names import Names
from nimble_otter.query.statements import find_parameters, split_statements
from nimble_otter.sources import Fetched
from nimble_otter.table import View
from nimble_otter.table.show import grouped

_AT_ONCE = 2000
"""Rows that are shaped without a job."""
_LONG_TEXT = 100_000
"""Characters from which on a text is read beside the window, and so not unasked."""
_OPENED_AT_ONCE = 20_000
"""Groups that are opened without one."""


RowsOfOthers = Callable[["OpenPull", str, bool], View | None]
"""Gives the rows of another pull by its name to the pull that asks, fresh ones where wanted; None: none yet."""


def no_rows(own: OpenPull, name: str, fresh: bool) -> View | None:
    """What a pull on its own has of others."""
    return None


class OpenPull(ChangedPull):
    """A pull that can be asked, shaped, changed and kept, with undo over all of it."""

    def __init__(
        self,
        pull: Pull,
        hub: Hub,
        path: Path | None = None,
        number: int = 0,
        others: RowsOfOthers = no_rows,
        questions: RunQuestions | None = None,
    ) -> None:
        super().__init__(pull, hub, path, number)
        self._rows_of_others = others
        self.came_from: OpenPull | None = None
        self.runs = RunController(self, questions or Unattended())
        self._looked_whole: Fetched | None = None
        self.script_of = self.hub.known(pull.source)

    # --- asking ------------------------------------------------------------------------------------------------

    def run(self) -> None:
        """Run the whole text of the query."""
        self.runs.run()

    def show_outcome(self, at: int, result: int = 0) -> None:
        self.runs.show_outcome(at, result)

    def failed(self, problem: OtterError | None) -> None:
        self.runs.failed(problem)

    def stop(self) -> None:
        self.jobs.stop(self.key)

    def release(self) -> None:
        """The user wants it to be asked."""
        is_first = self.waits
        self.waits = False
        self.hub.release(self.pull)
        if is_first:
            self.hub.open(self.hub.known(self.pull.source))

    def may_run_unasked(self, text: str) -> bool:
        """Whether a text only reads, is one statement with a value for every parameter, and does not come from
        elsewhere."""
        query = self.pull.query
        if self.waits or len(text) > _LONG_TEXT:
            return False
        if query.language != "sql" or self.is_documents:
            return True
        has_values = all(query.parameters.get(name) not in (None, "") for name in find_parameters(text))
        return has_values and len(split_statements(text)) <= 1 and classify(text, self.dialect).reads

    @property
    def names(self) -> Names | None:
        """The catalogue of the source as names; None while it is not known."""
        return self.hub.names(self.hub.known(self.pull.source))

    def compare_rows(self, before: Shaped) -> None:
        """Say whether the rows are those of before a step was moved."""
        after = self.course.end if self.course is not None else None
        if after is None:
            return

        def done(found: Comparison) -> None:
            if found.is_same:
                self.notice = Notice(f"The same {grouped(found.after)} rows as before")
            elif not found.was_compared:
                said = f"{grouped(found.before)} rows before, {grouped(found.after)} now; too many to compare"
                self.notice = Notice(said)
            else:
                counts = f"{grouped(found.only_before)} only before, {grouped(found.only_after)} only now"
                self.notice = warning(f"The rows differ: {counts}. {'; '.join(found.examples[:2])}")
            self.state_changed.emit()

        self.jobs.submit(
            LOCAL, f"{self.key} compare", lambda stop, _: compare(before, after, stop), done, title="Comparing"
        )

    # --- shaping -----------------------------------------------------------------------------------------------

    def change(self, pull: Pull, name: str, quiet: bool = False) -> None:
        """A new state of the pull, with undo (`quiet`: part of the one before); the course is taken anew."""
        if pull == self.pull:
            return
        if not quiet:
            self.undo_stack.note(self.pull, pull, name)
        self.take_pull(pull)

    def put(self, pull: Pull) -> None:
        """A new state by typing or by the way: one entry of undo for all that is typed in a row, none for widths."""
        before, earlier, self.pull = self._values(), self.pull, pull
        self.undo_stack.note(earlier, pull, "", is_typing=True)
        self.pull_changed.emit()
        if self.course is not None and self._values() != before:
            self.walk()

    def _values(self) -> dict[str, Any]:
        """The values of the parameters that steps name; none that are wrong, which is said beside them."""
        used = self.pull.step_parameters()
        try:
            return {name: value for name, value in self.pull.values().items() if name in used} if used else {}
        except QueryError:
            return {}

    def set_step(self, at: int, step: Step, name: str) -> None:
        self.change(self.pull.with_step_at(at, step), name)

    def add_step(self, step: Step, name: str, at: int | None = None) -> int:
        at = len(self.pull.steps) if at is None else at
        self.change(self.pull.with_step(step, at), name)
        return at

    def walk(self, fresh: bool = False, then: Callable[[], object] = lambda: None) -> None:
        """Take the rows along the course: small tables at once, large ones in the background."""
        table = self.table
        if table is None:
            self.pull_changed.emit()
            return
        steps, earlier, values = self.pull.steps, self.course, self._values()
        if self.whole.read_by(steps) and self._looked_whole is not self.fetched:
            self._looked_whole = self.fetched  # once: where they can't be had, steps take what is there
            self.whole.fetch(None, then)
        others = self._other_rows(fresh)
        if self.show_at is not None and self.show_at >= len(steps):
            self.show_at = None

        def show(course: Course) -> None:
            self.course = course
            if fresh or earlier is None or earlier.end.grouped is not course.end.grouped:
                self.opened = Opened()
            self.pull_changed.emit()
            self.rows_changed.emit()
            then()

        if table.rows <= _AT_ONCE:
            self.jobs.stop(f"{self.key} course")
            show(run_course(table, steps, earlier=earlier, values=values, others=others))
            return
        self.jobs.submit(
            LOCAL, f"{self.key} course", lambda stop, _: run_course(table, steps, stop, earlier, values, others), show,
            title="Shaping",
        )  # fmt: skip

    @property
    def needs(self) -> list[str]:
        """Names of the pulls whose rows its steps take."""
        return [step.other for step in self.pull.steps if isinstance(step, TakesRows) and step.on and step.other]

    def rows_of(self, name: str, fresh: bool = False) -> View | None:
        """Rows of another pull by its name, asked for anew where `fresh`; None while there are none."""
        return self._rows_of_others(self, name, fresh)

    def _other_rows(self, fresh: bool) -> dict[str, View]:
        return {name: rows for name in self.needs if (rows := self.rows_of(name, fresh)) is not None}

    def try_steps(self, steps: tuple[Step, ...], show: Callable[[Course], None]) -> None:
        """What the course would be with other steps, without taking it."""
        table, course, values = self.table, self.course, self._values()
        others = self._other_rows(False)
        if table is not None:
            work = partial(run_course, table, steps, earlier=course, values=values, others=others)
            self.jobs.submit(LOCAL, f"{self.key} try", lambda stop, _: work(stop=stop), show)

    def take_others(self) -> None:
        """The rows of a pull that it takes are other ones now."""
        self.walk()

    def show_rows_at(self, at: int | None) -> None:
        self.show_at = at
        self.opened = Opened()
        self.rows_changed.emit()
        self.pull_changed.emit()

    def open_levels(self, count: int) -> None:
        """Open the groups of the first so many levels, close the others."""
        self._open(Opened(count))

    def toggle_group(self, depth: int, index: int) -> None:
        self._open(self.opened.toggled(depth, index))

    def tree_lines(self) -> TreeLines | None:
        """The lines of the groups shown, as they are open; None where rows are shown."""
        shaped = self.shaped
        if shaped is None or shaped.grouped is None:
            return None
        if self._tree is None or self._tree[0] is not shaped or self._tree[1] != self.opened:
            self._tree = shaped, self.opened, tree_lines(shaped, self.opened)
        return self._tree[2]

    def _open(self, opened: Opened) -> None:
        self.opened, shaped = opened, self.shaped
        if shaped is None or shaped.grouped is None or len(shaped.grouped.view) <= _OPENED_AT_ONCE:
            self.rows_changed.emit()
            return

        def show(lines: TreeLines) -> None:
            self._tree = shaped, opened, lines
            self.rows_changed.emit()

        work = partial(tree_lines, shaped, opened)
        self.jobs.submit(LOCAL, f"{self.key} tree", lambda stop, _: work(stop), show, title="Opening groups")

    # --- keeping -----------------------------------------------------------------------------------------------

    @property
    def _version_key(self) -> str:
        return key_of(self.path, self.number)

    def versions(self) -> list[Version]:
        """The pull as it was at every run and save, the latest at the end."""
        return self.hub.versions.all(self._version_key)

    def keep_version(self, why: str) -> None:
        """Keep the pull as it is now, in the background."""
        key, text = self._version_key, pull_to_text(self.pull)
        self.hub.keep(f"{self.key} version", lambda: self.hub.versions.add(key, why, text), "The version")

    def save(self, path: Path) -> None:
        """Raises: SavedError."""
        if path.exists() and path != self.path and path.is_dir():
            raise SavedError(f"{path} is a folder.")
        pull = replace(self.pull, name=path.stem) if not self.path or path != self.path else self.pull
        save_pull(pull, path)
        if not self.waits:  # it was made here, or has run here
            self.hub.note_known(pull)
        before = self._version_key
        self.pull, self.path, self.saved_text = pull, path, pull_to_text(pull)
        if before != self._version_key:
            with suppress(OSError):  # the pull itself is saved; its past is kept where it was
                self.hub.versions.move(before, self._version_key)
        self.keep_version("saved")
        self.pull_changed.emit()
