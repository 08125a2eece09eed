"""What a pull is made of."""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any

from nimble_otter.changes.plan import Guard
from nimble_otter.pull.charts.model import Chart
from nimble_otter.pull.steps import Step, TakesParameters
from nimble_otter.query.sql.names import Names
from nimble_otter.query.sql.parameters import Ask, Bound, bind, day_of, find_uses, value_of
from nimble_otter.query.sql.statements import find_parameters
from nimble_otter.sources.source import Source
from nimble_otter.values import Value

ROW_LIMIT = 100_000
_IN_NAMES = re.compile(r"\{:(\w+)\}")


@dataclass(frozen=True, slots=True)
class Query:
    """`language` is sql or native; `collection` names what a native request goes to. `parameters` are values as they
    were typed (phrases for days, lists); `asks` say more of some of them."""

    text: str = ""
    language: str = "sql"
    collection: str = ""
    parameters: Mapping[str, Any] = field(default_factory=dict)
    limit: int | None = ROW_LIMIT
    asks: Mapping[str, Ask] = field(default_factory=dict)

    def bound(self, text: str | None = None, names: Names | None = None) -> Bound:
        """The text (or a part of it) with its values as they are sent today. Raises: QueryError."""
        text = self.text if text is None else text
        if self.language != "sql":
            return Bound(text, dict(self.parameters))
        used = find_parameters(text)
        values = {name: value for name, value in self.parameters.items() if name in used}
        return bind(text, values, self.asks, find_uses(text, names or Names(())))


SCOPES = ("shown", "tree", "all", "query", "server")
"""Rows as shown (of groups the deepest level); groups of every level with totals; all rows and columns as pulled; the
same straight from the query, without showing them; the rows at the end of the course, worked out and written by the
server of the query itself."""


@dataclass(frozen=True, slots=True)
class SendPlan:
    """Where rows go: a format's key, a file name with places such as {pull} and {date}, the format's options. `exists`
    says what happens to a file that is there, `scope` (one of SCOPES) which rows go. `is_as_named`: the file's name
    gets no other ending, whatever the format; that is not kept in a pull file."""

    format: str = "csv"
    path: str = "{pull}-{date}"
    options: Mapping[str, Any] = field(default_factory=dict)
    exists: str = "ask"
    scope: str = "shown"
    is_as_named: bool = False


@dataclass(frozen=True, slots=True)
class Pull:
    """A value; `widths` are column widths in pixels by name, `came_from` says what it was followed from. `guard` is
    what a changed row must still hold besides its key (changes.Guard), `by_values` matches rows without a key by all
    their values."""

    name: str
    source: Source
    query: Query = Query()
    steps: tuple[Step, ...] = ()
    send: SendPlan | None = None
    widths: Mapping[str, int] = field(default_factory=dict)
    came_from: str = ""
    guard: Guard = Guard.SEEN
    by_values: bool = False
    charts: tuple[Chart, ...] = ()

    def parameters(self) -> list[str]:
        """Names of all parameters: of the query, of filters, of the delivery's file name."""
        names = find_parameters(self.query.text) if self.query.language == "sql" else []
        names += self.step_parameters()
        names += _IN_NAMES.findall(self.send.path) if self.send is not None else []
        return list(dict.fromkeys(names))

    def step_parameters(self) -> list[str]:
        """Names of those that steps take."""
        return [name for step in self.steps if isinstance(step, TakesParameters) for name in step.parameters()]

    def values(self, today: dt.date | None = None) -> dict[str, Value]:
        """What the parameters of filters and file names stand for today; those without a value are left out. Raises:
        QueryError for one that is not of the kind that was set."""
        today, found = today or dt.date.today(), dict[str, Any]()
        for name in self.parameters():
            value, ask = self.query.parameters.get(name), self.query.asks.get(name, Ask())
            if value in (None, ""):
                continue
            each = value if isinstance(value, list) else [value]
            kind = ask.kind or ("date" if any(isinstance(v, str) and day_of(v, today) for v in each) else "")
            items = [value_of(name, one, kind, bool(ask.kind), today) for one in each]
            found[name] = items if isinstance(value, list) else items[0]
        return found

    def with_chart(self, at: int, chart: Chart) -> Pull:
        """With a chart in the place of another; behind the last: one more."""
        return replace(self, charts=(*self.charts[:at], chart, *self.charts[at + 1 :]))

    def without_chart(self, at: int) -> Pull:
        """Without the chart at a place."""
        return replace(self, charts=(*self.charts[:at], *self.charts[at + 1 :]))

    def with_step(self, step: Step, at: int | None = None) -> Pull:
        """With a step put in at a place (None: at the end)."""
        at = len(self.steps) if at is None else at
        return replace(self, steps=(*self.steps[:at], step, *self.steps[at:]))

    def with_step_at(self, at: int, step: Step) -> Pull:
        """With a step put in at a place."""
        return replace(self, steps=(*self.steps[:at], step, *self.steps[at + 1 :]))

    def without_step(self, at: int) -> Pull:
        """Without the step at a place."""
        return replace(self, steps=(*self.steps[:at], *self.steps[at + 1 :]))

    def with_step_moved(self, at: int, to: int) -> Pull:
        """With a step moved from one place to another."""
        steps = list(self.steps)
        steps.insert(to, steps.pop(at))
        return replace(self, steps=tuple(steps))
