"""Changes: edits pending on a result, the statements they become, rehearsing and writing them, and the reversal.

`Edits` belongs to one thread; everything else is values. Writing takes a connection and runs in its lane. Read
`edits.py` first, then `plan.py` and `write.py`.
"""

from nimble_otter.changes.checks import checked_with, refuse_broken
from nimble_otter.changes.document_plan import (
    DOCUMENTS,
    document_target,
    exactly,
    from_json,
    read_document_value,
    to_json,
    with_part,
)
from nimble_otter.changes.edits import DEFAULT, UNSET, Action, Edits
from nimble_otter.changes.plan import GUARDS, Plan, Statement, make_plan
from nimble_otter.changes.report import Outcome, Report
from nimble_otter.changes.target import Target, find_target
from nimble_otter.changes.values import read_value, value_text
from nimble_otter.changes.write import rehearse, render, script, write, write_each

__all__ = [
    "DEFAULT",
    "DOCUMENTS",
    "GUARDS",
    "UNSET",
    "Action",
    "Edits",
    "Outcome",
    "Plan",
    "Report",
    "Statement",
    "Target",
    "checked_with",
    "document_target",
    "exactly",
    "find_target",
    "from_json",
    "make_plan",
    "read_document_value",
    "read_value",
    "refuse_broken",
    "rehearse",
    "render",
    "script",
    "to_json",
    "value_text",
    "with_part",
    "write",
    "write_each",
]
