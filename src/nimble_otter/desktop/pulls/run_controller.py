"""Running an open pull: its query, a script, a plan, a transaction. There is one way to run, whoever asks for it:
values for the parameters first, then what the statements do, then what has to be asked. What comes back goes to the
pull that asked, whatever is in sight; its pending changes stay until rows come, and are then on these."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Protocol

from nimble_otter.changes import Edits, Target, target_for
from nimble_otter.desktop.pulls.aspect import Aspect
from nimble_otter.desktop.pulls.notice import NOTHING, Notice, warning
from nimble_otter.desktop.pulls.pull_state import COMING, PREVIEW, PullState
from nimble_otter.desktop.pulls.shaping import Shaping
from nimble_otter.desktop.pulls.versions import PullVersions
from nimble_otter.desktop.runtime.jobs import LOCAL
from nimble_otter.errors import OtterError, Place, QueryError, place_of
from nimble_otter.pull import Course
from nimble_otter.pull.costs import Cost
from nimble_otter.pull.history import Ran
from nimble_otter.pull.tree import Opened
from nimble_otter.query.sql.destroying import Destroying, destroying
from nimble_otter.query.sql.effects import Verdict, changes_catalogue, classify
from nimble_otter.query.sql.parameters import Bound
from nimble_otter.query.sql.statements import find_parameters, split_statements
from nimble_otter.sources import Fetched, Request, Source, fetch
from nimble_otter.sources.plans import PlanNode
from nimble_otter.sources.script import Outcome, run_script
from nimble_otter.table import Table
from nimble_otter.table.core.columns import Ids
from nimble_otter.table.text.show import grouped
from nimble_otter.translation import tr, trn

if TYPE_CHECKING:
    from nimble_otter.stop import StopToken

_LONG = 20_000
"""Characters above which what a text does is told beside the window."""
_LONG_TEXT = 100_000
"""Characters from which on nothing is run unasked."""


@dataclass(frozen=True, slots=True)
class ReadStatement:
    """What one statement of a text does, and what it would destroy."""

    text: str
    verdict: Verdict
    destroys: tuple[Destroying, ...] = ()


def read_statements(text: str, dialect: str) -> list[ReadStatement]:
    """Each statement of a text, read. It takes about a millisecond a statement."""
    results = []
    for statement in split_statements(text):
        verdict = classify(statement.text, dialect)
        destroys = () if verdict.reads else tuple(destroying(statement.text, dialect))
        results.append(ReadStatement(statement.text, verdict, destroys))
    return results


@dataclass(frozen=True, slots=True, eq=False)
class Answer:
    """What came of asking unseen."""

    fetched: Fetched
    target: Target
    request: Request
    source: Source


class RunQuestions(Protocol):
    """Asks before statements that write are run."""

    def ask(self, open_pull: PullState, statements: Sequence[ReadStatement], go: Callable[[], None]) -> None:
        """Call `go` once nothing has to be asked, or it was agreed to; the pull may have been closed by then."""

    def before_rows(self, open_pull: PullState, go: Callable[[], None]) -> None:
        """Call `go` to fetch the rows of a query that only reads, at once or when something was done before."""


class Unattended:
    """Where nobody can be asked only statements that read are run."""

    def ask(self, open_pull: PullState, statements: Sequence[ReadStatement], go: Callable[[], None]) -> None:
        """Go on with what only reads; anything else is not run without a person."""
        if all(s.verdict.reads for s in statements):
            go()

    def before_rows(self, open_pull: PullState, go: Callable[[], None]) -> None:
        """Fetch them."""
        go()


class RunController:
    """One for each open pull. Several runs at once are not possible: a newer one takes the place of the one before."""

    def __init__(self, own: PullState, shaping: Shaping, versions: PullVersions, questions: RunQuestions) -> None:
        self._own, self._shaping, self._versions, self._questions = own, shaping, versions, questions
        self._read: tuple[str, list[ReadStatement]] = ("", [])
        """The long text that was read last, and what its statements do."""
        self.missing = ""
        """The parameter without a value for which the last run was not made."""

    def run(self, text: str | None = None, start: int = 0, goes_on: bool = False) -> None:
        """Run a part of the query's text that stands at `start` (None: all of it), once its parameters have values and
        what it does is agreed to. Several statements run one after the other; `goes_on` after errors, too."""
        own, query = self._own, self._own.pull.query
        text = query.text if text is None else text
        self.missing = ""
        if not text.strip():
            self._refuse(tr("The query is empty."), tr("Type one, or open a table from Sources."), None)
            return
        if query.language != "sql":
            self._fetch(text, start)
            return
        unset = self.unset_in(text)
        if unset:
            self.missing = unset[0]
            at = text.find(f":{unset[0]}") + start
            place = place_of(query.text, at, at + len(unset[0]) + 1)
            self._refuse(
                tr("The parameter :{unset} has no value.", unset=unset[0]), tr("Type it on the right, then run."), place
            )
            return
        if own.is_documents:
            self._fetch(text, start)
        elif len(text) > _LONG and self._read[0] != text:
            self._read_first(text, start, goes_on)
        else:
            self._run_read(text, start, goes_on)

    def run_again(self) -> None:
        """Ask anew because of something else that was done: only what reads, and not where the text was changed from
        elsewhere meanwhile."""
        if self.may_run_unasked(self._own.pull.query.text):
            self.run()

    def look(self, done: Callable[[Answer], None], failed: Callable[[OtterError], None]) -> None:
        """Ask the same again without showing or noting anything; not what does more than read."""
        own, bound = self._own, self._bound(self._own.pull.query.text)
        if bound is None or not self.may_run_unasked(own.pull.query.text):
            failed(QueryError(tr("The query can't be asked unseen any more."), tr("Run it, then watch it again.")))
            return
        query, source = own.pull.query, own.hub.known(own.pull.source)
        request = Request(bound.text, bound.values, query.limit, query.language, query.collection, None, True, True)
        by_values = own.pull.by_values

        def work(stop: StopToken, _: object) -> Answer:
            connection = own.hub.connection(source)
            fetched = fetch(connection, request, stop)
            stop.check()
            if fetched.lost is not None:
                raise fetched.lost
            return Answer(fetched, target_for(fetched, connection, source, by_values), request, source)

        own.jobs.submit(own.hub.lane(source), f"{own.key} look", work, done, failed)

    def take_look(self, answer: Answer, moved: Ids, fresh: frozenset[int], then: Callable[[], object]) -> None:
        """Show the rows of a look, shaped; then do something. What is pending on rows lands on them by their key;
        `moved` has the row id now for each before, `fresh` the rows that are marked."""
        own, before = self._own, self._own.table

        def show(course: Course) -> None:
            if own.table is not before:
                return  # it was run meanwhile
            levels = own.opened.levels
            self._lift()
            own.fetched, own.target, own.fetched_at = answer.fetched, answer.target, dt.datetime.now()
            own.asked, own.asked_of, own.report, own.fresh = answer.request, answer.source, None, fresh
            own.course, own.moved, own.opened = course, moved, Opened(levels)
            own.pending.land(answer.fetched.table, answer.target)
            own.tell(Aspect.PULL | Aspect.ROWS | Aspect.EDITS | Aspect.RUN)
            own.jobs.turn.at_end(then)

        self._shaping.shape(answer.fetched.table, show)

    def run_stages(self, count: int) -> None:
        """Ask with the first so many stages of a pipeline only."""
        self._fetch(self._own.pull.query.text, 0, count)

    def preview(self, text: str, start: int) -> None:
        """The first rows of a part of the text; not noted."""
        self._fetch(text, start, preview=True)

    def release(self) -> None:
        """The user wants it to be asked."""
        is_first = self._own.waits
        self._own.waits = False
        self._own.hub.release(self._own.pull)
        if is_first:
            self._own.hub.open(self._own.hub.known(self._own.pull.source))

    def may_run_unasked(self, text: str) -> bool:
        """Whether a text only reads, is one statement with a value for every parameter, and does not come from
        elsewhere."""
        query = self._own.pull.query
        if self._own.waits or len(text) > _LONG_TEXT:
            return False
        if query.language != "sql" or self._own.is_documents:
            return True
        has_values = all(query.parameters.get(name) not in (None, "") for name in find_parameters(text))
        return has_values and len(split_statements(text)) <= 1 and classify(text, self._own.dialect).reads

    def unset_in(self, text: str) -> list[str]:
        """Parameters of a text that have no value."""
        given = self._own.pull.query.parameters
        return [name for name in find_parameters(text) if given.get(name) in (None, "")]

    def _refuse(self, message: str, hint: str, place: Place | None) -> None:
        self._own.error = QueryError(message, hint, place)
        self._own.tell(Aspect.RUN)

    def _run_read(self, text: str, start: int, goes_on: bool) -> None:
        own = self._own
        statements = self._read[1] if self._read[0] == text else read_statements(text, own.dialect)
        if len(statements) > 1 or own.held is not None or any(not s.verdict.reads for s in statements):
            self._questions.ask(own, statements, lambda: self._run_script(text, start, goes_on))
        elif text == own.pull.query.text:
            self._questions.before_rows(own, lambda: self._fetch(text, start))
        else:
            self._fetch(text, start)

    def _read_first(self, text: str, start: int, goes_on: bool) -> None:
        """What a long text does is told beside the window; then it is run, if it is still there."""
        own = self._own

        def go(found: list[ReadStatement]) -> None:
            self._read = (text, found)
            if own.pull.query.text[start : start + len(text)] == text:
                self._run_read(text, start, goes_on)

        own.jobs.submit(
            LOCAL, f"{own.key} read", lambda *_: read_statements(text, own.dialect), go, title=tr("Reading the query")
        )

    def _fetch(self, text: str, start: int, stages: int | None = None, preview: bool = False) -> None:
        """Ask the source in the background; `stages` is how many of a pipeline's. A `preview` takes the first rows."""
        query, bound = self._own.pull.query, self._bound(text)
        if bound is None:
            return
        self.release()
        written, whole = text, query.text
        limit = min(query.limit or PREVIEW, PREVIEW) if preview else query.limit
        request = Request(bound.text, bound.values, limit, query.language, query.collection, stages, True, True)
        source = self._own.hub.known(self._own.pull.source)
        self._own.error, self._own.notice, self._own.outcomes, by_values = None, NOTHING, (), self._own.pull.by_values

        def work(stop: StopToken, report: Callable[[object], None]) -> tuple[Fetched, Target]:
            connection = self._own.hub.connection(source)
            fetched = fetch(connection, request, stop, report)
            return fetched, target_for(fetched, connection, source, by_values)

        def refused(problem: OtterError) -> None:
            if not preview:
                self._note(request, None, 0.0, str(problem), written)
            place = problem.place if isinstance(problem, QueryError) else None
            if isinstance(problem, QueryError) and place is not None and bound.moves:
                first, last = bound.written_at(place.start), bound.written_at(place.end)
                problem.place = place_of(written, first, last)
            self._own.failed(_placed(problem, whole, start))

        self._own.jobs.submit(
            self._own.hub.lane(source), self._own.key, work,
            lambda result: self._fetched(result, request, source, written, preview), refused, self._arriving,
            lambda: self._own.failed(None), title=tr("Running {pull_name}", pull_name=self._own.pull.name),
        )  # fmt: skip
        self._own.tell(Aspect.RUN)

    def _bound(self, text: str | None) -> Bound | None:
        """The text as it is sent; None where a value does not fit, which is said."""
        try:
            return self._own.pull.query.bound(text, self._own.names)
        except QueryError as problem:
            self._own.failed(problem)
            return None

    def _run_script(self, text: str, start: int, goes_on: bool = False) -> None:
        """Run every statement of `text`, which stands at `start` of the query's text, one after the other; `outcomes`
        fills as they end."""
        query, source, bound = self._own.pull.query, self._own.hub.known(self._own.pull.source), self._bound(text)
        if bound is None:
            return
        self.release()
        own_text, text = query.text, bound.text
        statements = split_statements(text)
        request = Request("", bound.values, query.limit)
        self._own.error, self._own.notice, self._own.outcomes = None, NOTHING, ()
        whole, self._own.script_at, self._own.script_of = text, start, source

        def work(stop: StopToken, report: Callable[[object], None]) -> list[Outcome]:
            return run_script(self._own.hub.connection(source), whole, statements, request, stop, report, goes_on)

        def done(outcomes: list[Outcome]) -> None:
            self._own.outcomes = tuple(outcomes)
            for o in outcomes:
                rows = o.fetched.table.rows if o.fetched is not None else o.affected
                asked = replace(request, text=o.statement.text)
                self._note(asked, rows, o.seconds, str(o.error) if o.error is not None else "")
                if o.fetched is not None and o.fetched.all_s and not o.fetched.is_part:
                    self._note_cost(o.fetched, asked)
            self._versions.keep("run")
            if any(changes_catalogue(o.statement.text) and o.error is None for o in outcomes):
                self._own.hub.open(source, again=True)
            last = next((n for n in reversed(range(len(outcomes))) if outcomes[n].fetched is not None), -1)
            failed = next((o.error for o in outcomes if o.error is not None), None)
            if last >= 0:
                self.show_outcome(last)
            self._own.failed(_placed(failed, own_text, start)) if failed is not None else self._own.tell(Aspect.RUN)

        def update(outcomes: list[Outcome]) -> None:
            self._own.outcomes = tuple(outcomes)
            self._own.tell_soon(Aspect.RUN)

        self._own.jobs.submit(
            self._own.hub.lane(source),
            self._own.key,
            work,
            done,
            lambda problem: self._own.failed(_placed(problem, own_text, start)),
            update,
            lambda: self._own.failed(None),
            title=trn(
                "Running {statements_count} statement of {pull_name}",
                "Running {statements_count} statements of {pull_name}",
                len(statements),
                statements_count=len(statements),
                pull_name=self._own.pull.name,
            ),
        )
        self._own.tell(Aspect.RUN)

    def show_outcome(self, at: int, result: int = 0) -> None:
        """Show the rows of a script's statement, of a call that gave several the one asked for."""
        outcome = self._own.outcomes[at]
        every = [f for f in (outcome.fetched, *outcome.more) if f is not None]
        if not every:
            return
        fetched = every[result % len(every)]
        reason = tr("Results of a script are read-only. Run this statement on its own to edit its rows.")
        request = Request(outcome.statement.text, dict(self._own.pull.query.parameters), self._own.pull.query.limit)
        self._fetched((fetched, Target(None, reason=reason)), request, self._own.script_of)

    def stop(self) -> None:
        """Stop what runs for this pull."""
        self._own.jobs.stop(self._own.key)

    def _arriving(self, table: object) -> None:
        """Rows so far: shown as they are, without the steps, until all are here."""
        if isinstance(table, Table):
            own = self._own
            first = own.fetched is None or not own.notice
            self._lift()  # nothing can be changed on rows that are still coming in
            own.fetched = Fetched(table)
            own.course, own.pending.shown = None, Edits(table.rows)
            own.target = Target(None, reason=COMING)
            own.notice = Notice(tr("Rows are still arriving"))
            if first:
                own.opened = Opened()
            own.tell(Aspect.ROWS if first else Aspect.MORE_ROWS)

    def _lift(self) -> None:
        """The rows shown go: what is pending on them waits, and is undone no more by their ids."""
        self._own.pending.lift(self._own.table, self._own.target)
        self._own.undo_stack.rows_changed()

    def _fetched(
        self,
        result: tuple[Fetched, Target],
        request: Request,
        source: Source,
        written: str = "",
        preview: bool = False,
    ) -> None:
        if result[0].was_stopped and not result[0].table.rows and self._own.table is not None:
            self._own.failed(None)  # nothing came: the rows of before stay
            return
        self._lift()
        fetched, self._own.target = result
        before_of = self._own.rows_source
        self._own.fetched, self._own.fetched_at, self._own.report = fetched, dt.datetime.now(), None
        self._own.asked, self._own.asked_of, self._own.is_preview = request, source, preview
        if not self._own.outcomes and not preview:  # a script's were noted when it ended; this only shows one of them
            self._versions.keep("run")
            self._note(request, fetched.table.rows, fetched.all_s, written=written)
            if not fetched.is_part:
                self._note_cost(fetched, request)
        self._own.notice = NOTHING
        if fetched.was_stopped:
            self._own.notice = warning(
                tr("Stopped: these are the first {rows} rows only", rows=grouped(fetched.table.rows))
            )
        elif fetched.lost is not None:
            text = tr("The connection was lost: these are the first {rows} rows only", rows=grouped(fetched.table.rows))
            self._own.notice = warning(text)
            self._own.error = fetched.lost
        elif fetched.was_cut and preview:
            self._own.notice = Notice(
                tr("Preview: the first {preview} rows; Run pulls all of them", preview=grouped(PREVIEW))
            )
        elif fetched.is_full:
            text = tr(
                "Stopped at {rows} rows: the program holds as much memory as it may (Settings)",
                rows=grouped(fetched.table.rows),
            )
            self._own.notice = warning(text)
        elif fetched.was_cut:
            text = tr("Cut at the row limit of {limit}; more rows are at the source", limit=grouped(request.limit or 0))
            self._own.notice = warning(text)
        if fetched.cut:
            count = sum(len(ids) for ids in fetched.cut.values())
            self._add_notice(
                trn(
                    "{count} value is over 64 kB and fetched whole when needed",
                    "{count} values are over 64 kB and fetched whole when needed",
                    count,
                    count=grouped(count),
                )
            )
        waited = self._own.pending.waiting is not None
        left = self._own.pending.land(fetched.table, self._own.target)
        if waited and self._own.edits.count and before_of.url != source.url:
            self._add_notice(
                tr("Changes made on rows of {before_of_name} are pending on these now", before_of_name=before_of.name)
            )
        if left:
            next_run = tr("the next run") if fetched.is_part else tr("a result that has their rows and columns")
            self._add_notice(
                trn(
                    "{left} changed row waits for {next_run}",
                    "{left} changed rows wait for {next_run}",
                    left,
                    left=grouped(left),
                    next_run=next_run,
                )
            )
        before, self._own.compare_with = self._own.compare_with, None
        self._shaping.walk(fresh=True, then=lambda: self._shaping.compare_rows(before) if before is not None else None)
        self._own.tell(Aspect.EDITS | Aspect.RUN)

    def _add_notice(self, said: str) -> None:
        """Behind what is told of the rows already."""
        self._own.notice = self._own.notice.and_also(said)

    def _note(self, request: Request, rows: int | None, seconds: float, error: str = "", written: str = "") -> None:
        """One more run in the history, with its text and values as they were written."""
        source, text = self._own.hub.known(self._own.pull.source), written or request.text
        at = dt.datetime.now().isoformat(timespec="seconds")
        given = {**request.parameters, **self._own.pull.query.parameters}
        values = {name: given[name] for name in find_parameters(text) if name in given}
        ran = Ran(at, source.name, source.url, text, self._own.pull.name, values, rows, round(seconds, 3), error,
                  request.language, request.collection)  # fmt: skip
        self._own.hub.history.add(ran)
        self._own.hub.keep("history", self._own.hub.history.save, tr("The history"))

    def _note_cost(self, fetched: Fetched, request: Request) -> None:
        at = dt.datetime.now().isoformat(" ", "seconds")
        cost = Cost(at, fetched.first_s, fetched.all_s, fetched.table.rows, fetched.table.nbytes)
        self._own.hub.costs.add(self._own.pull.source.url, request.text, cost)
        self._own.hub.keep("costs", self._own.hub.costs.save, tr("The run times"))

    def begin(self) -> None:
        """Open a transaction on the pull's source."""
        self._own.hub.begin(self._own.hub.known(self._own.pull.source), self._ended)

    def end(self, commit: bool) -> None:
        """Commit the transaction that is open on the pull's source, or roll it back."""
        self._own.hub.end(self._own.hub.known(self._own.pull.source), commit, self._ended)

    def _ended(self, problem: OtterError | None) -> None:
        if self._own.is_closed:
            if problem is not None:
                self._own.hub.trouble.emit(f"{self._own.pull.name}: {problem}")
            return
        self._own.failed(problem) if problem is not None else self._own.tell(Aspect.RUN)

    def explain(self, text: str, start: int) -> None:
        """Ask the server for its plan of a part of the text; `plan_tree` follows."""
        query, source, bound = self._own.pull.query, self._own.hub.known(self._own.pull.source), self._bound(text)
        if bound is None:
            return
        request = Request(bound.text, bound.values, None, query.language, query.collection)
        self.release()
        self._own.error = None

        def done(plan: PlanNode) -> None:
            self._own.plan_tree = plan
            self._own.tell(Aspect.RUN)

        self._own.jobs.submit(
            self._own.hub.lane(source), f"{self._own.key} plan",
            lambda stop, _: self._own.hub.connection(source).explain(request, stop), done,
            lambda problem: self._own.failed(_placed(problem, query.text, start)),
            title=tr("Asking for the plan"),
        )  # fmt: skip


def _placed(problem: OtterError, text: str, start: int) -> OtterError:
    """An error of a part of a text, which stands at `start`, with its place in the whole text."""
    if start and isinstance(problem, QueryError) and problem.place is not None:
        problem.place = place_of(text, problem.place.start + start, problem.place.end + start)
    return problem
