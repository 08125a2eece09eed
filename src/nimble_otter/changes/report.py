"""What a rehearsal or a write came to: an outcome for each statement, and the report of all."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field, replace
from typing import Any, TypeVar

from nimble_otter.changes.plan import Pairs, Plan, Statement
from nimble_otter.errors import LostError, OutcomeUnknown, SourceError, Stopped
from nimble_otter.stop import Progress, StopToken
from nimble_otter.translation import tr

AT_ONCE = 250
"""Statements sent before their answers are waited for."""
Made = TypeVar("Made")


def batches(items: Iterable[Made]) -> list[list[Made]]:
    """What is sent at once each time."""
    whole = list(items)
    return [whole[n : n + AT_ONCE] for n in range(0, len(whole), AT_ONCE)]


@dataclass(frozen=True, slots=True)
class Outcome:
    """What one statement did or would do. `now` holds, for a conflict, the columns that differ from what was seen with
    their present values; `problem` says in words what is wrong; `note` what is worth knowing though it succeeds (rows
    that triggers changed too, values that the server keeps otherwise); `is_gone`: the row no longer exists."""

    statement: Statement
    rows: int
    problem: str = ""
    now: Pairs = ()
    is_conflict: bool = False
    note: str = ""
    is_gone: bool = False

    @property
    def is_good(self) -> bool:
        """Whether it touched exactly its row."""
        return self.rows == 1 and not self.problem


@dataclass(frozen=True, slots=True)
class Report:
    """All outcomes. When `is_written`: `written` has each row as the server now has it (by row id, None: deleted),
    `reversal` the script that puts the old values back and `back` its statements as a plan; `left` are statements that
    were not run, where they are written one by one. `said` is what else is to be known, `lasting` what the reversal
    would not restore, in words."""

    outcomes: tuple[Outcome, ...]
    at: dt.datetime
    is_written: bool = False
    written: Mapping[int, dict[str, Any] | None] = field(default_factory=dict)
    reversal: str = ""
    back: Plan | None = None
    said: str = ""
    left: tuple[Statement, ...] = ()
    lasting: str = ""

    @property
    def good(self) -> int:
        """How many statements succeeded."""
        return sum(outcome.is_good for outcome in self.outcomes)

    @property
    def conflicts(self) -> tuple[Outcome, ...]:
        """Those that did not."""
        return tuple(outcome for outcome in self.outcomes if not outcome.is_good)


@dataclass(frozen=True, slots=True)
class Intent:
    """A write that is about to be committed, and by what it can be looked up: the keys of its rows as written, the rows
    as they are to be, and the `mark` of its transaction; `report` is what it comes to when it was committed. Without
    `is_atomic` its statements are written one by one."""

    plan: Plan
    keys: Mapping[int, Pairs]
    written: Mapping[int, dict[str, Any] | None]
    mark: str
    report: Report
    is_atomic: bool = True


def one_by_one(
    plan: Plan,
    stop: StopToken,
    progress: Progress | None,
    alone: Callable[[Statement], Outcome],
    finish: Callable[[Plan], Made],
) -> tuple[tuple[Outcome, ...], Plan, Made]:
    """Statements one after the other until one fails or it is stopped: their outcomes, the plan of those that were done
    and what `finish` makes of it. Raises: OutcomeUnknown when the connection is lost meanwhile."""
    outcomes: list[Outcome] = []
    try:
        for number, statement in enumerate(plan.statements):
            if stop.is_set():
                break
            if progress is not None:
                progress(number, len(plan.statements))
            outcomes.append(alone(statement))
            if not outcomes[-1].is_good:
                break
        done = replace(plan, statements=tuple(o.statement for o in outcomes if o.is_good))
        return tuple(outcomes), done, finish(done)
    except LostError as problem:
        what = tr("documents") if plan.dialect.is_documents else tr("statements")
        raise OutcomeUnknown(
            tr(
                "The connection was lost. {outcomes_count} of {statements_count} {what} were "
                "written; whether the next one was is not known.",
                outcomes_count=len(outcomes),
                statements_count=len(plan.statements),
                what=what,
            ),
            tr("Run the query again before writing again."),
        ) from problem


def partly(report: Report, plan: Plan, done: Plan) -> Report:
    """The report of those that were done, with what is left of the plan."""
    return replace(report, left=plan.statements[len(done.statements) :], is_written=bool(done.statements))


def nothing_written(problem: SourceError | Stopped) -> SourceError | Stopped:
    """What ended a write before its commit, with the word that nothing was written."""
    nothing = tr("Nothing was written.")
    if isinstance(problem, SourceError) and nothing not in str(problem):
        problem.message = f"{problem.message} {nothing}"
    return problem
