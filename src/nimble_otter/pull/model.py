"""What a pull is made of."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any

from nimble_otter.pull.steps import Step
from nimble_otter.sources.source import Source

ROW_LIMIT = 100_000


@dataclass(frozen=True, slots=True)
class Query:
    """`language` is sql or native; `collection` names what a native request goes to."""

    text: str = ""
    language: str = "sql"
    collection: str = ""
    parameters: Mapping[str, Any] = field(default_factory=dict)
    limit: int | None = ROW_LIMIT


@dataclass(frozen=True, slots=True)
class SendPlan:
    """Where rows go: a format's key, a file name with places such as {pull} and {date}, the format's options."""

    format: str = "csv"
    path: str = "{pull}-{date}"
    options: Mapping[str, Any] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Pull:
    """A value; `widths` are column widths in pixels by name, `came_from` says what it was followed from."""

    name: str
    source: Source
    query: Query = Query()
    steps: tuple[Step, ...] = ()
    send: SendPlan | None = None
    widths: Mapping[str, int] = field(default_factory=dict)
    came_from: str = ""

    def with_step(self, step: Step, at: int | None = None) -> Pull:
        """With a step put in at a place (None: at the end)."""
        at = len(self.steps) if at is None else at
        return replace(self, steps=(*self.steps[:at], step, *self.steps[at:]))

    def with_step_at(self, at: int, step: Step) -> Pull:
        return replace(self, steps=(*self.steps[:at], step, *self.steps[at + 1 :]))

    def without_step(self, at: int) -> Pull:
        return replace(self, steps=(*self.steps[:at], *self.steps[at + 1 :]))

    def with_step_moved(self, at: int, to: int) -> Pull:
        steps = list(self.steps)
        steps.insert(to, steps.pop(at))
        return replace(self, steps=tuple(steps))
