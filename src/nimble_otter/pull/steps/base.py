"""What every step has."""

from __future__ import annotations

from collections.abc import Mapping
from typing import ClassVar, Protocol, Self, runtime_checkable

from nimble_otter.entry import Entry
from nimble_otter.errors import ConditionError
from nimble_otter.pull.profiles import DeliveryProfile
from nimble_otter.pull.shaped import Shaped
from nimble_otter.query.parsed import nearest
from nimble_otter.stop import StopToken
from nimble_otter.table import Table, View
from nimble_otter.translation import tr, tr_value


class Step(Protocol):
    """`on` is False when the step is switched off; `name` is what the user called it, or ""."""

    kind: ClassVar[str]

    @property
    def on(self) -> bool:
        """Whether the step is done."""

    @property
    def name(self) -> str:
        """A name that the user gave it; "" for none."""

    def words(self) -> str:
        """The content in a few words."""

    def apply(self, shaped: Shaped, stop: StopToken) -> Shaped:
        """Raises: ConditionError where the step does not fit the rows any more, Stopped."""

    def to_plain(self) -> dict[str, object]:
        """What the pull file holds of it, without kind, on and name."""

    @classmethod
    def from_plain(cls, plain: Entry) -> Self:
        """Raises: ValueError on what `to_plain` would not write."""


@runtime_checkable
class TakesParameters(Protocol):
    """A step whose texts may name parameters."""

    def parameters(self) -> list[str]:
        """Their names."""

    def bound(self, values: Mapping[str, object]) -> Step:
        """The step with the values of those that have one."""


@runtime_checkable
class TakesRows(Protocol):
    """A step that takes the rows of other pulls, by their names."""

    @property
    def others(self) -> tuple[str, ...]:
        """The pulls whose rows it takes."""

    def with_rows(self, rows: Mapping[str, View]) -> Step:
        """The step with those rows, as far as they are there."""

    def renamed(self, before: str, after: str) -> Step:
        """The step with another name for one of the pulls."""


@runtime_checkable
class LooksBack(Protocol):
    """A step that looks at the last delivery of its pull."""

    def against(self, last: DeliveryProfile | None) -> Step:
        """The step beside that (None: there was none)."""


def find_column(table: Table, name: str) -> int:
    """The place of a column. Raises: ConditionError that names the nearest."""
    try:
        return table.index(name)
    except KeyError as problem:
        near = nearest(name, [field.name for field in table.fields])
        raise ConditionError(
            tr("There is no column {name} here.", name=name),
            tr("The nearest name is {near}.", near=near) if near else "",
        ) from problem


def step_title(kind: str) -> str:
    """What a kind of step is called."""
    return tr_value(kind.capitalize())
