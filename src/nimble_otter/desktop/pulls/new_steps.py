"""New steps: what they begin with, and where in the course they belong."""

from __future__ import annotations

from nimble_otter.pull.steps import (
    AppendStep,
    CheckStep,
    ColumnsStep,
    CompareStep,
    Computed,
    ComputeStep,
    DistinctStep,
    FilterStep,
    GroupStep,
    JoinStep,
    PivotStep,
    SampleStep,
    SortStep,
    Step,
    TopStep,
    TransposeStep,
    UnpivotStep,
)
from nimble_otter.translation import tr

STEP_WORDS = {
    "filter": tr("Filter step"),
    "compute": tr("Compute step"),
    "group": tr("Group step"),
    "sort": tr("Sort step"),
    "top": tr("Top step"),
    "columns": tr("Columns step"),
    "distinct": tr("Distinct step (no duplicate rows)"),
    "sample": tr("Sample step (random rows)"),
    "join": tr("Join step (columns of another pull)"),
    "append": tr("Append step (rows of another pull)"),
    "compare": tr("Compare step (what differs from another pull or file)"),
    "pivot": tr("Pivot step (values into columns)"),
    "unpivot": tr("Unpivot step (columns into rows)"),
    "transpose": tr("Transpose step (rows into columns)"),
    "check": tr("Check step (what must hold before sending)"),
}
_SHAPED = ("group", "pivot", "unpivot", "transpose")
_LATER = {
    "filter": (*_SHAPED, "sort", "columns"), "open": (*_SHAPED, "sort", "columns"), "sample": (*_SHAPED, "columns"),
    "compute": (*_SHAPED, "sort", "columns"), "top": (*_SHAPED, "columns"), "distinct": (*_SHAPED, "columns"),
    "group": ("columns",), "sort": ("columns",),
}  # fmt: skip
"""Steps before which a new one is put; the others come last."""


def new_step(kind: str) -> Step:
    """A step of a kind as it is when it is added: without content."""
    made: dict[str, Step] = {
        "filter": FilterStep(), "compute": ComputeStep((Computed("", ""),)), "group": GroupStep(), "sort": SortStep(),
        "top": TopStep(), "columns": ColumnsStep(), "join": JoinStep(), "append": AppendStep(),
        "compare": CompareStep(),
        "distinct": DistinctStep(), "sample": SampleStep(), "pivot": PivotStep(), "unpivot": UnpivotStep(),
        "transpose": TransposeStep(), "check": CheckStep(),
    }  # fmt: skip
    return made[kind]


def place_for(step: Step, steps: tuple[Step, ...]) -> int:
    """Where a step is put: a filter before groups and sorts, columns at the end."""
    later = _LATER.get(step.kind, ())
    return next((n for n, s in enumerate(steps) if s.kind in later), len(steps))
