"""Compare: the rows here beside those of another pull, and what differs."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import ClassVar, Self

from nimble_otter.entry import Entry
from nimble_otter.errors import ConditionError
from nimble_otter.pull.compared import differences_table, summary
from nimble_otter.pull.row_files import is_rows_file, read_rows
from nimble_otter.pull.shaped import Shaped, made_anew
from nimble_otter.pull.steps.base import find_column
from nimble_otter.pull.steps.join import needed, their_column
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table import Table, View
from nimble_otter.table.ops.alike import EQUAL, Alike
from nimble_otter.table.ops.compare import common_pairs, compare_views
from nimble_otter.translation import tr


@dataclass(frozen=True, slots=True)
class CompareStep:
    """The rows here are the left side, those of the pull `other`, or of the file that it names, the right. Rows are
    matched by `keys`, columns here (none: by position). Columns of one name are compared, and those in `pairs` (here,
    there) that have others; but not those `left_out`. `rules` say for a column here when its values count as the same.
    `with_same` keeps rows that do not differ."""

    kind: ClassVar[str] = "compare"
    other: str = ""
    keys: tuple[str, ...] = ()
    pairs: tuple[tuple[str, str], ...] = ()
    left_out: tuple[str, ...] = ()
    rules: Mapping[str, Alike] = field(default_factory=dict)
    with_same: bool = False
    on: bool = True
    name: str = ""
    rows: View | None = field(default=None, repr=False)

    def words(self) -> str:
        """The step in a line of the course."""
        by = tr(" by {keys}", keys=", ".join(self.keys)) if self.keys else tr(" row by row") if self.other else ""
        return (self.other or tr("nothing")) + by

    @property
    def others(self) -> tuple[str, ...]:
        """The pull whose rows it takes; none where it is a file."""
        return (self.other,) if self.other and not is_rows_file(self.other) else ()

    def with_rows(self, rows: Mapping[str, View]) -> CompareStep:
        """With the rows of the other pull."""
        own = rows.get(self.other)
        return self if own is self.rows else replace(self, rows=own)

    def renamed(self, before: str, after: str) -> CompareStep:
        """With another name for the pull."""
        return replace(self, other=after) if self.other == before else self

    def apply(self, shaped: Shaped, stop: StopToken) -> Shaped:
        """What comes of the rows. Raises: ConditionError."""
        here, there = shaped.as_shown(), self.right(stop)
        pairs, rules = self.paired(here.table, there.table), self.rules_at(here.table)
        if self.is_of_texts:  # a file of texts does not tell an empty text from NULL
            rules = {place: replace(rules.get(place, EQUAL), empty_is_null=True) for place, _ in pairs}
        differences = compare_views(here, there, self.keys, stop, pairs, rules)
        table, compared = differences_table(differences, self.with_same)
        text = summary(differences, self.rules_at(here.table))
        made = made_anew(table, tr("{text}; empty texts count as NULL", text=text) if self.is_of_texts else text)
        is_own = shaped.own_rows and shaped.grouped is None
        return replace(made, compared=replace(compared, places=shaped.shown() if is_own else None))

    @property
    def is_of_texts(self) -> bool:
        """Whether the right side is a file that has nothing but texts."""
        return is_rows_file(self.other) and self.other.lower().endswith((".csv", ".tsv"))

    def right(self, stop: StopToken = NEVER) -> View:
        """The rows that those here are compared with. Raises: ConditionError, Stopped."""
        if is_rows_file(self.other):
            return View(read_rows(self.other, stop))
        needed(self.other, self.rows)
        assert self.rows is not None
        return self.rows

    def paired(self, here: Table, there: Table) -> tuple[tuple[int, int], ...]:
        """The places of the columns that are compared. Raises: ConditionError, where one is not there."""
        found = dict(common_pairs(here, there))
        for left, right in self.pairs:
            found[find_column(here, left)] = their_column(there, self.other, right)
        for name in self.left_out:
            if name not in self.keys:
                found.pop(find_column(here, name), None)
        return tuple(sorted(found.items()))

    def rules_at(self, here: Table) -> dict[int, Alike]:
        """The rules by the places of their columns. Raises: ConditionError, where one is not there."""
        return {find_column(here, name): rule for name, rule in self.rules.items() if rule != EQUAL}

    def to_plain(self) -> dict[str, object]:
        """As a pull file has it."""
        rules = {
            name: {key: value for key, value in (
                ("tolerance", rule.tolerance), ("any_case", rule.any_case), ("any_space", rule.any_space),
                ("empty_is_null", rule.empty_is_null), ("lists_by", rule.lists_by)) if value}
            for name, rule in self.rules.items() if rule != EQUAL
        }  # fmt: skip
        made: dict[str, object] = {"other": self.other, "keys": list(self.keys)}
        made |= {"pairs": [list(pair) for pair in self.pairs]} if self.pairs else {}
        made |= {"left_out": list(self.left_out)} if self.left_out else {}
        made |= {"rules": rules} if rules else {}
        return made | ({"with_same": True} if self.with_same else {})

    @classmethod
    def from_plain(cls, plain: Entry) -> Self:
        """What `to_plain` made. Raises: ValueError."""
        rules = {
            name: Alike(_tolerance(rule.number("tolerance", 0)), rule.flag("any_case"), rule.flag("any_space"),
                        rule.flag("empty_is_null"), rule.text("lists_by", ""))
            for name, rule in plain.named("rules").items()
        }  # fmt: skip
        return cls(plain.text("other"), plain.texts("keys"), plain.pairs("pairs"), plain.texts("left_out"), rules,
                   plain.flag("with_same"))  # fmt: skip


def read_tolerance(text: str) -> float:
    """What a user writes as a tolerance. Raises: ConditionError."""
    try:
        return _tolerance(text.strip() or 0)
    except (ValueError, TypeError) as problem:
        raise ConditionError(
            tr("{text!r} is not a tolerance.", text=text), tr("Write a number such as 0.01 (of times, seconds).")
        ) from problem


def _tolerance(given: object) -> float:
    number = float(given)  # type: ignore[arg-type]
    if not 0 <= number < float("inf"):
        raise ValueError(given)
    return number
