"""Changes: edits pending on a result, the statements they become, rehearsing and writing them, and the reversal.

`Edits` belongs to one thread; everything else is values. Writing takes a connection and runs in its lane. Read
`edits.py` first, then `plan.py` and `write.py`.
"""

from nimble_otter.changes.checks import checked_with, refuse_broken
from nimble_otter.changes.document_plan import (
    document_target,
    exactly,
    from_json,
    read_document_value,
    to_json,
    with_part,
)
from nimble_otter.changes.edits import DEFAULT, UNSET, Action, Edits
from nimble_otter.changes.fetched_target import target_for, target_of
from nimble_otter.changes.order_tables import script_of_all
from nimble_otter.changes.plan import Guard, Plan, Statement
from nimble_otter.changes.planning import make_plan
from nimble_otter.changes.report import Intent, Outcome, Report
from nimble_otter.changes.shown_rows import ShownRows, rows_after
from nimble_otter.changes.target import Target, find_target
from nimble_otter.changes.unset import Filling, UnsetCell, unset_cell
from nimble_otter.changes.values import read_in_zone, read_value, value_text, without_marks, zoned_text
from nimble_otter.changes.write import look_up, rehearse, render, render_parks, script, write, write_each

__all__ = [
    "DEFAULT",
    "UNSET",
    "Action",
    "Edits",
    "Filling",
    "Guard",
    "Intent",
    "Outcome",
    "Plan",
    "Report",
    "ShownRows",
    "Statement",
    "Target",
    "UnsetCell",
    "checked_with",
    "document_target",
    "exactly",
    "find_target",
    "from_json",
    "look_up",
    "make_plan",
    "read_document_value",
    "read_in_zone",
    "read_value",
    "refuse_broken",
    "rehearse",
    "render",
    "render_parks",
    "rows_after",
    "script",
    "script_of_all",
    "target_for",
    "target_of",
    "to_json",
    "unset_cell",
    "value_text",
    "with_part",
    "without_marks",
    "write",
    "write_each",
    "zoned_text",
]
