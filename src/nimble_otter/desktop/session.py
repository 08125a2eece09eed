"""An open pull: its text and steps, the rows fetched, their course, what is pending, and undo over all of it."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from contextlib import suppress
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Any

from nimble_otter.changes import Edits, Target, document_target
from nimble_otter.desktop.hub import Hub
from nimble_otter.desktop.jobs import LOCAL
from nimble_otter.desktop.pull_changes import ChangedPull
from nimble_otter.desktop.pull_state import MOST_UNDO, PREVIEW
from nimble_otter.errors import OtterError, QueryError, SavedError, place_of
from nimble_otter.pull import Course, Pull, Shaped, pull_to_text, run_course, save_pull
from nimble_otter.pull.costs import Cost
from nimble_otter.pull.drafts import attach, detach
from nimble_otter.pull.history import Ran
from nimble_otter.pull.steps import Step, TakesRows
from nimble_otter.pull.tree import Opened, TreeLines, tree_lines
from nimble_otter.pull.upstream import Comparison, compare
from nimble_otter.pull.versions import Version, key_of
from nimble_otter.query.kinds import changes_catalogue
from nimble_otter.query.names import Names
from nimble_otter.query.parameters import Bound
from nimble_otter.query.statements import find_parameters, split_statements
from nimble_otter.sources import Fetched, Request, Source, fetch
from nimble_otter.sources.plans import PlanNode
from nimble_otter.sources.script import Outcome, run_script
from nimble_otter.table import Table, View
from nimble_otter.table.show import grouped

_AT_ONCE = 20_000
"""Rows that are shaped without a job."""


class OpenPull(ChangedPull):
    """A pull that can be asked, shaped, changed and kept, with undo over all of it."""

    def __init__(self, pull: Pull, hub: Hub, path: Path | None = None, number: int = 0) -> None:
        super().__init__(pull, hub, path, number)
        self.came_from: OpenPull | None = None
        self._script_of = self.hub.known(pull.source)

    # --- asking ------------------------------------------------------------------------------------------------

    def run(self, text: str | None = None, stages: int | None = None, preview: bool = False) -> None:
        """Ask the source in the background; `text` is a part of the query's text to run instead of all of it, `stages`
        how many of a pipeline's. A `preview` takes the first rows and is not noted."""
        query, bound = self.pull.query, self._bound(text)
        if bound is None:
            return
        written = text or query.text
        limit = min(query.limit or PREVIEW, PREVIEW) if preview else query.limit
        request = Request(bound.text, bound.values, limit, query.language, query.collection, stages, True, True)
        source = self.hub.known(self.pull.source)
        self._waited = self.waiting
        if self.edits.count and self.table is not None:
            shown = detach(self.edits, self.table, self.target)
            self.waiting = shown if self.waiting is None else shown + self.waiting
        self.error, self.notice, self.outcomes, by_values = None, "", (), self.pull.by_values

        def work(stop: Any, report: Callable[[Any], None]) -> tuple[Fetched, Target]:
            connection = self.hub.connection(source)
            fetched = fetch(connection, request, stop, report)
            if source.read_only:
                return fetched, Target(None, reason=f"{source.name} is marked read-only on its page.")
            if not connection.can_write:
                return fetched, Target(None, reason=f"Rows of {source.word} can't be changed yet; send them instead.")
            if not fetched.origins:
                if not fetched.collection:
                    return fetched, Target(
                        None, reason="The request groups or joins documents; a row is not one of them."
                    )
                return fetched, document_target(fetched.table, fetched.collection, fetched.unseen)
            # whether the key tells all rows apart takes a moment on many rows, so it is seen here
            return fetched, self._target_of(fetched, connection.writes_as, by_values)

        def refused(problem: OtterError) -> None:
            if not preview:
                self._note(request, None, 0.0, str(problem), written)
            place = problem.place if isinstance(problem, QueryError) else None
            if isinstance(problem, QueryError) and place is not None and bound.moves:
                start, end = bound.written_at(place.start), bound.written_at(place.end)
                problem.place = place_of(written, start, end)
            self.failed(problem)

        self.jobs.submit(
            self.hub.lane(source), self.key, work,
            lambda result: self._fetched(result, request, source, written, preview), refused, self._arriving,
            lambda: self.failed(None), title=f"Running {self.pull.name}",
        )  # fmt: skip
        self.state_changed.emit()

    @property
    def names(self) -> Names | None:
        """The catalogue of the source as names; None while it is not known."""
        return self.hub.names(self.hub.known(self.pull.source))

    def _bound(self, text: str | None) -> Bound | None:
        """The text as it is sent; None where a value does not fit, which is said."""
        try:
            return self.pull.query.bound(text, self.names)
        except QueryError as problem:
            self.failed(problem)
            return None

    def run_script(self, text: str, start: int, goes_on: bool = False) -> None:
        """Run every statement of `text`, which stands at `start` of the query's text, one after the other; `outcomes`
        fills as they end."""
        query, source, bound = self.pull.query, self.hub.known(self.pull.source), self._bound(text)
        if bound is None:
            return
        text = bound.text
        statements = split_statements(text)
        request = Request("", bound.values, query.limit)
        self.error, self.notice, self.outcomes = None, "", ()
        whole, self.run_at, self.script_at, self._script_of = text, start, start, source

        def work(stop: Any, report: Callable[[Any], None]) -> list[Outcome]:
            return run_script(self.hub.connection(source), whole, statements, request, stop, report, goes_on)

        def done(outcomes: list[Outcome]) -> None:
            self.outcomes = tuple(outcomes)
            for o in outcomes:
                rows = o.fetched.table.rows if o.fetched is not None else o.affected
                asked = replace(request, text=o.statement.text)
                self._note(asked, rows, o.seconds, str(o.error) if o.error is not None else "")
                if o.fetched is not None and o.fetched.all_s and not o.fetched.is_part:
                    self._note_cost(o.fetched, asked)
            self._keep_version("run")
            if any(changes_catalogue(o.statement.text) and o.error is None for o in outcomes):
                self.hub.open(source, again=True)
            last = next((n for n in reversed(range(len(outcomes))) if outcomes[n].fetched is not None), -1)
            failed = next((o.error for o in outcomes if o.error is not None), None)
            if last >= 0:
                self.show_outcome(last)
            self.failed(failed) if failed is not None else self.state_changed.emit()

        def update(outcomes: list[Outcome]) -> None:
            self.outcomes = tuple(outcomes)
            self.state_changed.emit()

        self.jobs.submit(
            self.hub.lane(source), self.key, work, done, self.failed, update, lambda: self.failed(None),
            title=f"Running {len(statements)} statement{'s' if len(statements) != 1 else ''} of {self.pull.name}",
        )  # fmt: skip
        self.state_changed.emit()

    def show_outcome(self, at: int, result: int = 0) -> None:
        """Show the rows of a script's statement, of a call that gave several the one asked for."""
        outcome = self.outcomes[at]
        every = [f for f in (outcome.fetched, *outcome.more) if f is not None]
        if not every:
            return
        fetched = every[result % len(every)]
        reason = "Rows of a script can't be changed; run the statement alone."
        request = Request(outcome.statement.text, dict(self.pull.query.parameters), self.pull.query.limit)
        self._fetched((fetched, Target(None, reason=reason)), request, self._script_of)

    def stop(self) -> None:
        self.jobs.stop(self.key)

    def _arriving(self, table: Any) -> None:
        """Rows so far: shown as they are, without the steps, until all are here."""
        if isinstance(table, Table):
            first = self.fetched is None or not self.notice
            self.fetched = Fetched(table)
            self.course, self.edits = None, Edits(table.rows)
            self.target = Target(None, reason="Rows are still coming in.")
            self.notice = "Rows are still coming in"
            if first:
                self.opened = Opened()
            (self.rows_changed if first else self.more_rows).emit()

    def _fetched(
        self,
        result: tuple[Fetched, Target],
        request: Request,
        source: Source,
        written: str = "",
        preview: bool = False,
    ) -> None:
        if result[0].was_stopped and not result[0].table.rows and self.table is not None:
            self.failed(None)  # nothing came: the rows of before stay
            return
        fetched, self.target = result
        before_of = self.rows_source
        self.fetched, self.fetched_at, self.report = fetched, dt.datetime.now(), None
        self.asked, self.asked_of, self.is_preview = request, source, preview
        if not self.outcomes and not preview:  # a script's were noted when it ended; this only shows one of them
            self._keep_version("run")
            self._note(request, fetched.table.rows, fetched.all_s, written=written)
            if not fetched.is_part:
                self._note_cost(fetched, request)
        self.notice = ""
        if fetched.was_stopped:
            self.notice = f"Stopped: these are the first {grouped(fetched.table.rows)} rows only"
        elif fetched.lost is not None:
            self.notice = f"The connection was lost: these are the first {grouped(fetched.table.rows)} rows only"
            self.error = fetched.lost
        elif fetched.was_cut and preview:
            self.notice = f"Preview: the first {grouped(PREVIEW)} rows; Run pulls all of them"
        elif fetched.was_cut:
            self.notice = f"Cut at the row limit of {grouped(request.limit or 0)}; more rows are at the source"
        if fetched.cut:
            count = sum(len(ids) for ids in fetched.cut.values())
            said = "1 value is" if count == 1 else f"{grouped(count)} values are"
            self._add_notice(f"{said} over 64 kB and fetched whole when needed")
        self.edits = Edits(fetched.table.rows)
        self._undo = [entry for entry in self._undo if entry[0] == "pull"]
        self._redo.clear()
        if self.waiting is not None:
            self.edits, left = attach(self.waiting, fetched.table, self.target)
            if self.edits.count and before_of.url != source.url:
                self._add_notice(f"Changes made on rows of {before_of.name} are pending on these now")
            fits = self.target.is_open and left.names <= {f.name for f in fetched.table.fields}
            self.waiting = left if left.count and (fetched.is_part or not fits) else None
            if self.waiting is not None:
                next_run = "the next run" if fetched.is_part else "a result that has their rows and columns"
                self._add_notice(f"{left.count} changed rows wait for {next_run}")
            elif left.count:
                self.notice = f"{left.count} changed rows are not in the result any more; their changes were left out"
        before, self.compare_with = self.compare_with, None
        self._walk(fresh=True, then=lambda: self._compare(before) if before is not None else None)
        self.edits_changed.emit()
        self.state_changed.emit()

    def _add_notice(self, said: str) -> None:
        """Behind what is told of the rows already."""
        self.notice += f"; {said}" if self.notice else said

    def _compare(self, before: Shaped) -> None:
        """Say whether the rows are those of before a step was moved."""
        after = self.course.end if self.course is not None else None
        if after is None:
            return

        def done(found: Comparison) -> None:
            if found.is_same:
                self.notice = f"The same {grouped(found.after)} rows as before"
            elif not found.was_compared:
                self.notice = f"{grouped(found.before)} rows before, {grouped(found.after)} now; too many to compare"
            else:
                counts = f"{grouped(found.only_before)} only before, {grouped(found.only_after)} only now"
                self.notice = f"The rows differ: {counts}. {'; '.join(found.examples[:2])}"
            self.state_changed.emit()

        self.jobs.submit(
            LOCAL, f"{self.key} compare", lambda stop, _: compare(before, after, stop), done, title="Comparing"
        )

    def _note(self, request: Request, rows: int | None, seconds: float, error: str = "", written: str = "") -> None:
        """One more run in the history, with its text and values as they were written."""
        source, text = self.hub.known(self.pull.source), written or request.text
        at = dt.datetime.now().isoformat(timespec="seconds")
        given = {**request.parameters, **self.pull.query.parameters}
        values = {name: given[name] for name in find_parameters(text) if name in given}
        ran = Ran(at, source.name, source.url, text, self.pull.name, values, rows, round(seconds, 3), error,
                  request.language, request.collection)  # fmt: skip
        self.hub.history.add(ran)
        self.jobs.submit(LOCAL, "history", lambda *_: self.hub.history.save())

    def _note_cost(self, fetched: Fetched, request: Request) -> None:
        at = dt.datetime.now().isoformat(" ", "seconds")
        cost = Cost(at, fetched.first_s, fetched.all_s, fetched.table.rows, fetched.table.nbytes)
        self.hub.costs.add(self.pull.source.url, request.text, cost)
        self.jobs.submit(LOCAL, "costs", lambda *_: self.hub.costs.save())

    def explain(self, text: str) -> None:
        """Ask the server for its plan of a query; `plan_tree` and `state_changed` follow."""
        query, source, bound = self.pull.query, self.hub.known(self.pull.source), self._bound(text)
        if bound is None:
            return
        request = Request(bound.text, bound.values, None, query.language, query.collection)
        self.error = None

        def done(plan: PlanNode) -> None:
            self.plan_tree = plan
            self.state_changed.emit()

        self.jobs.submit(
            self.hub.lane(source), f"{self.key} plan",
            lambda stop, _: self.hub.connection(source).explain(request, stop), done, self.failed,
            title="Asking for the plan",
        )  # fmt: skip

    def failed(self, problem: OtterError | None) -> None:
        self.error = problem
        if self.waiting is not None and self.table is not None and self.edits.count:
            self.waiting = self._waited  # the rows of before are still shown with what is pending on them
        self.notice = "Stopped before the first row" if problem is None else ""
        self.state_changed.emit()

    # --- shaping -----------------------------------------------------------------------------------------------

    def change(self, pull: Pull, name: str, quiet: bool = False) -> None:
        """A new state of the pull, with undo (`quiet`: part of the one before); the course is taken anew."""
        if pull == self.pull:
            return
        steps_changed = pull.steps != self.pull.steps
        if not quiet:
            self._undo.append(("pull", (self.pull, name)))
            del self._undo[:-MOST_UNDO]
            self._redo.clear()
        self.pull = pull
        self.pull_changed.emit()
        if steps_changed:
            self._walk()

    def put(self, pull: Pull) -> None:
        """A new state without an entry of undo of its own: typing, column widths."""
        before, self.pull = self._values(), pull
        self.pull_changed.emit()
        if self.course is not None and self._values() != before:
            self._walk()

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

    def _walk(self, fresh: bool = False, then: Callable[[], object] = lambda: None) -> None:
        """Take the rows along the course: small tables at once, large ones in the background."""
        table = self.table
        if table is None:
            self.pull_changed.emit()
            return
        steps, earlier, values = self.pull.steps, self.course, self._values()
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

    def _other_rows(self, fresh: bool) -> dict[str, View]:
        return {name: rows for name in self.needs if (rows := self.others(name, fresh)) is not None}

    def try_steps(self, steps: tuple[Step, ...], show: Callable[[Course], None]) -> None:
        """What the course would be with other steps, without taking it."""
        table, course, values = self.table, self.course, self._values()
        others = self._other_rows(False)
        if table is not None:
            work = partial(run_course, table, steps, earlier=course, values=values, others=others)
            self.jobs.submit(LOCAL, f"{self.key} try", lambda stop, _: work(stop=stop), show)

    def take_others(self) -> None:
        """The rows of a pull that it takes are other ones now."""
        self._walk()

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
        if shaped is None or shaped.grouped is None or len(shaped.grouped.view) <= _AT_ONCE:
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

    def _keep_version(self, why: str) -> None:
        """Keep the pull as it is now, in the background."""
        key, text = self._version_key, pull_to_text(self.pull)
        self.jobs.submit(LOCAL, f"{self.key} version", lambda *_: self.hub.versions.add(key, why, text))

    def save(self, path: Path) -> None:
        """Raises: SavedError."""
        if path.exists() and path != self.path and path.is_dir():
            raise SavedError(f"{path} is a folder.")
        pull = replace(self.pull, name=path.stem) if not self.path or path != self.path else self.pull
        save_pull(pull, path)
        before = self._version_key
        self.pull, self.path, self.saved_text = pull, path, pull_to_text(pull)
        if before != self._version_key:
            with suppress(OSError):  # the pull itself is saved; its past is kept where it was
                self.hub.versions.move(before, self._version_key)
        self._keep_version("saved")
        self.pull_changed.emit()
