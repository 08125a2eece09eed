"""A pull and its course: one source, one query, the steps taken on its rows, and where the rows go.

A `Pull` is a value: every change makes a new one, and undo keeps the old. `run_course` applies steps to a fetched
table; `load_pull`/`save_pull` read and write the pull file (docs/pull-file.md). Read `model.py` first, then
`course.py`; a step is one file in `steps/`.
"""

from nimble_otter.pull.course import Course, StepResult, run_course
from nimble_otter.pull.file import load_pull, pull_from_text, pull_to_text, save_pull
from nimble_otter.pull.model import Pull, Query, SendPlan
from nimble_otter.pull.shaped import Shaped

__all__ = [
    "Course",
    "Pull",
    "Query",
    "SendPlan",
    "Shaped",
    "StepResult",
    "load_pull",
    "pull_from_text",
    "pull_to_text",
    "run_course",
    "save_pull",
]
