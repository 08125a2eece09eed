"""Changes: edits pending on a result, the statements they become, rehearsing and writing them, and the reversal.

`Edits` belongs to one thread; everything else is values. Writing takes a connection and runs in its lane. Read
`edits.py` first, then `plan.py` and `write.py`.
"""

from nimble_otter.changes.edits import UNSET, Action, Edits
from nimble_otter.changes.plan import Plan, Statement, make_plan, render
from nimble_otter.changes.target import Target, find_target
from nimble_otter.changes.values import read_value, value_text
from nimble_otter.changes.write import Outcome, Report, rehearse, write

__all__ = [
    "UNSET",
    "Action",
    "Edits",
    "Outcome",
    "Plan",
    "Report",
    "Statement",
    "Target",
    "find_target",
    "make_plan",
    "read_value",
    "rehearse",
    "render",
    "value_text",
    "write",
]
