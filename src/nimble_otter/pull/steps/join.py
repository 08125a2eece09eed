"""Join and Append: rows of another pull beside or under those of this one."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import ClassVar, Self

from nimble_otter.entry import Entry
from nimble_otter.errors import ConditionError
from nimble_otter.pull.shaped import Shaped, made_anew
from nimble_otter.pull.steps.base import find_column
from nimble_otter.stop import StopToken
from nimble_otter.table import Table, View
from nimble_otter.table.ops.combine import How, JoinReport, appended, join
from nimble_otter.table.text.show import grouped
from nimble_otter.translation import tr


@dataclass(frozen=True, slots=True)
class JoinStep:
    """`other` is the name of a pull, `pairs` are columns (here, there) that must be equal. `rows` are the other pull's,
    handed in by who runs the course."""

    kind: ClassVar[str] = "join"
    other: str = ""
    pairs: tuple[tuple[str, str], ...] = ()
    how: How = How.LEFT
    on: bool = True
    name: str = ""
    rows: View | None = field(default=None, repr=False)

    def words(self) -> str:
        """The step in a line of the course."""
        by = ", ".join(here if here == there else f"{here} = {there}" for here, there in self.pairs)
        other = self.other or tr("nothing")
        return tr("{other} by {columns}", other=other, columns=by) if by else other

    @property
    def others(self) -> tuple[str, ...]:
        """The pull whose rows it takes."""
        return (self.other,) if self.other else ()

    def with_rows(self, rows: Mapping[str, View]) -> JoinStep:
        """With the rows of the other pull."""
        own = rows.get(self.other)
        return self if own is self.rows else replace(self, rows=own)

    def renamed(self, before: str, after: str) -> JoinStep:
        """With another name for the pull."""
        return replace(self, other=after) if self.other == before else self

    def apply(self, shaped: Shaped, stop: StopToken) -> Shaped:
        """What comes of the rows. Raises: ConditionError."""
        rows, on = needed(self.other, self.rows), self.places(shaped)
        table, report = join(shaped.as_shown(), rows, on, self.how, stop)
        return made_anew(table, _told(report, self.other))

    def places(self, shaped: Shaped) -> list[tuple[int, int]]:
        """The places of the columns that are compared. Raises: ConditionError."""
        if not self.pairs:
            raise ConditionError(
                tr("The join has no columns to compare."), tr("Choose a pair of columns in its drawer.")
            )
        here, there = shaped.as_shown().table, needed(self.other, self.rows)
        return [(find_column(here, mine), their_column(there, self.other, theirs)) for mine, theirs in self.pairs]

    def to_plain(self) -> dict[str, object]:
        """As a pull file has it."""
        return {"other": self.other, "how": self.how.value, "pairs": [list(pair) for pair in self.pairs]}

    @classmethod
    def from_plain(cls, plain: Entry) -> Self:
        """What `to_plain` made. Raises: ValueError."""
        older = isinstance(plain.value("on", True), list)  # which had the pairs where others say whether they are on
        return cls(
            plain.text("other"), plain.pairs("on" if older else "pairs"), plain.member("how", How, How.LEFT.value)
        )


@dataclass(frozen=True, slots=True)
class AppendStep:
    """The rows of the pull `other` under these, columns matched by name."""

    kind: ClassVar[str] = "append"
    other: str = ""
    on: bool = True
    name: str = ""
    rows: View | None = field(default=None, repr=False)

    def words(self) -> str:
        """The step in a line of the course."""
        return self.other or tr("nothing")

    @property
    def others(self) -> tuple[str, ...]:
        """The pull whose rows it takes."""
        return (self.other,) if self.other else ()

    def with_rows(self, rows: Mapping[str, View]) -> AppendStep:
        """With the rows of the other pull."""
        own = rows.get(self.other)
        return self if own is self.rows else replace(self, rows=own)

    def renamed(self, before: str, after: str) -> AppendStep:
        """With another name for the pull."""
        return replace(self, other=after) if self.other == before else self

    def apply(self, shaped: Shaped, stop: StopToken) -> Shaped:
        """What comes of the rows. Raises: ConditionError."""
        rows = needed(self.other, self.rows)
        view = shaped.as_shown()
        here = view.table.take(view.row_ids()) if view.ids is not None else view.table
        names = {f.name.casefold() for f in here.fields}
        theirs = {f.name.casefold() for f in rows.fields}
        only = [f.name for f in here.fields if f.name.casefold() not in theirs]
        more = [f.name for f in rows.fields if f.name.casefold() not in names]
        text = tr(
            "{here} rows here, {there} of {other}", here=grouped(here.rows), there=grouped(rows.rows), other=self.other
        )
        text += tr("; empty there: {only}", only=", ".join(only)) if only else ""
        text += tr("; empty here: {more}", more=", ".join(more)) if more else ""
        return made_anew(appended(here, rows), text)

    def to_plain(self) -> dict[str, object]:
        """As a pull file has it."""
        return {"other": self.other}

    @classmethod
    def from_plain(cls, plain: Entry) -> Self:
        """What `to_plain` made. Raises: ValueError."""
        return cls(plain.text("other"))


def needed(other: str, rows: View | None) -> Table:
    """Raises: ConditionError where there are no rows of the other pull."""
    if not other:
        raise ConditionError(tr("No other pull is chosen."), tr("Choose one in the drawer."))
    if rows is None:
        raise ConditionError(
            tr("There are no rows of {other}.", other=other), tr("Open that pull and run it, or save it on the shelf.")
        )
    return rows.table if rows.ids is None else rows.table.take(rows.ids)


def their_column(rows: Table, other: str, name: str) -> int:
    """The place of a column of the other pull. Raises: ConditionError."""
    try:
        return find_column(rows, name)
    except ConditionError as problem:
        raise ConditionError(
            tr("There is no column {name} in {other}.", name=name, other=other), problem.hint
        ) from problem


def _told(report: JoinReport, other: str) -> str:
    lines = [tr("{matched} rows matched a row of {other}", matched=grouped(report.matched), other=other)]
    if report.multiplied:
        lines.append(tr("{multiplied} of them matched several", multiplied=grouped(report.multiplied)))
    if report.left_alone:
        lines.append(tr("{left_alone} matched none", left_alone=grouped(report.left_alone)))
    if report.right_alone:
        lines.append(
            tr("{right_alone} rows of {other} were not matched", right_alone=grouped(report.right_alone), other=other)
        )
    return ", ".join(lines)
