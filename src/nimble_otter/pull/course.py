"""Taking rows along the course: each step's result is kept, so that only what changed is done again."""

from __future__ import annotations

import logging
import time
from collections.abc import Mapping
from dataclasses import dataclass, replace

from nimble_otter.errors import ConditionError, Stopped
from nimble_otter.pull.profiles import DeliveryProfile
from nimble_otter.pull.shaped import PartlyDone, Shaped, all_rows
from nimble_otter.pull.steps import Checked, CheckStep, LooksBack, Step, TakesParameters, TakesRows
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table import Table, View
from nimble_otter.translation import tr

log = logging.getLogger(__name__)


@dataclass(frozen=True, slots=True)
class StepResult:
    """What left a step: its rows, the time it took here, and why it was passed over, when it was. `applied` is the step
    with the values of its parameters."""

    step: Step
    shaped: Shaped
    spent_s: float = 0.0
    error: ConditionError | None = None
    applied: Step | None = None


@dataclass(frozen=True, slots=True)
class Course:
    """A table taken along all steps."""

    table: Table
    results: tuple[StepResult, ...] = ()

    @property
    def end(self) -> Shaped:
        """What the last step gave."""
        return self.results[-1].shaped if self.results else all_rows(self.table)

    def whole(self) -> Course:
        """This course, for who takes no step passed over. Raises: ConditionError, the first of its steps."""
        for result in self.results:
            if result.error is not None:
                raise result.error
        return self

    def before(self, at: int) -> Shaped:
        """The rows as they reach step `at`."""
        return self.results[at - 1].shaped if at > 0 else all_rows(self.table)


def checks_of(course: Course) -> list[Checked]:
    """What the check steps of a course found, line by line."""
    return [each for result in course.results if isinstance(result.step, CheckStep) and result.step.on
            for each in result.shaped.checked]  # fmt: skip


def run_course(
    table: Table,
    steps: tuple[Step, ...],
    stop: StopToken = NEVER,
    earlier: Course | None = None,
    values: Mapping[str, object] | None = None,
    others: Mapping[str, View] | None = None,
    last: DeliveryProfile | None = None,
) -> Course:
    """Apply the steps in order; results of `earlier` that still hold (same table, same steps before) are used again.
    `values` are those of the parameters that steps name, `others` the rows of the pulls that they name, `last` the
    profile of the pull's last delivery.

    A step that does not fit lets the rows pass and keeps its error. Raises: Stopped.
    """
    results: list[StepResult] = []
    known = earlier.results if earlier is not None and earlier.table is table else ()
    for index, step in enumerate(steps):
        applied = step.bound(values) if values and isinstance(step, TakesParameters) else step
        if isinstance(applied, TakesRows):
            applied = applied.with_rows(others or {})
        if isinstance(applied, LooksBack):
            applied = applied.against(last)
        if index < len(known) and known[index].step == step and known[index].applied == applied:
            results.append(known[index])
            continue
        known = ()
        before = results[-1].shaped if results else all_rows(table)
        before = replace(before, said="", checked=()) if before.said or before.checked else before
        began = time.perf_counter()
        try:
            shaped, error = (applied.apply(before, stop) if step.on else before), None
        except ConditionError as problem:
            shaped, error = problem.shaped if isinstance(problem, PartlyDone) else before, problem
        except Stopped:
            raise
        except Exception as problem:  # a fault of ours in one step is that step's alone
            log.exception("A step failed: %s", step.kind)
            text = tr("This step failed ({name}).", name=type(problem).__name__)
            shaped, error = before, ConditionError(text, tr("The rows skip it; the log says more."))
            error.__cause__ = problem
        results.append(StepResult(step, shaped, time.perf_counter() - began, error, applied))
    return Course(table, tuple(results))
