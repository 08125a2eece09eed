"""What a rehearsal or a write came to: an outcome for each statement, and the report of all."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from nimble_otter.changes.plan import Pairs, Plan, Statement


@dataclass(frozen=True, slots=True)
class Outcome:
    """What one statement did or would do. `now` holds, for a conflict, the columns that differ from what was seen with
    their present values; `problem` says in words what is wrong; `note` what is worth knowing though it succeeds (rows
    that triggers changed too, values that the server keeps otherwise); `is_gone`: the row is not there any more."""

    statement: Statement
    rows: int
    problem: str = ""
    now: Pairs = ()
    is_conflict: bool = False
    note: str = ""
    is_gone: bool = False

    @property
    def is_good(self) -> bool:
        return self.rows == 1 and not self.problem


@dataclass(frozen=True, slots=True)
class Report:
    """All outcomes. When `is_written`: `written` has each row as the server now has it (by row id, None: deleted),
    `reversal` the script that puts the old values back and `back` its statements as a plan; `left` are statements that
    were not run, where they are written one by one. `said` is what else is to be known."""

    outcomes: tuple[Outcome, ...]
    at: dt.datetime
    is_written: bool = False
    written: Mapping[int, dict[str, Any] | None] = field(default_factory=dict)
    reversal: str = ""
    back: Plan | None = None
    said: str = ""
    left: tuple[Statement, ...] = ()

    @property
    def good(self) -> int:
        return sum(outcome.is_good for outcome in self.outcomes)

    @property
    def conflicts(self) -> tuple[Outcome, ...]:
        return tuple(outcome for outcome in self.outcomes if not outcome.is_good)
