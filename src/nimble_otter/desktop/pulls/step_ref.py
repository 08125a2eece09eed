"""A place of a pull's course, as a value."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum


class Place(Enum):
    """What stands along the course, in its order."""

    SOURCE = "source"
    QUERY = "query"
    STEP = "step"
    ADD = "add"
    CHANGES = "changes"
    SEND = "send"
    CHART = "chart"
    """Not of the course: what is drawn of its rows."""
    WATCH = "watch"
    """Not of the course either: what becomes of its rows."""


@dataclass(frozen=True, slots=True)
class StepRef:
    """The source, the query, the local step number `at` (from 0), what is pending, or the delivery."""

    place: Place
    at: int = -1

    @property
    def is_step(self) -> bool:
        """Whether it is a local step."""
        return self.place is Place.STEP


SOURCE, QUERY, ADD = StepRef(Place.SOURCE), StepRef(Place.QUERY), StepRef(Place.ADD)
WATCH = StepRef(Place.WATCH)
CHANGES, SEND, CHART = StepRef(Place.CHANGES), StepRef(Place.SEND), StepRef(Place.CHART)


def step_at(at: int) -> StepRef:
    """The local step number `at`, from 0."""
    return StepRef(Place.STEP, at)
