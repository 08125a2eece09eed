"""Check: what must hold for the rows at its place before they are delivered. It changes no row."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import ClassVar, Self

from nimble_otter.entry import Entry
from nimble_otter.pull.profiles import DeliveryProfile
from nimble_otter.pull.shaped import Shaped
from nimble_otter.pull.steps.check_rules import Checked, CheckLine, Rule, check
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table import Kind, View
from nimble_otter.table.ops.profile import profile
from nimble_otter.table.text.show import plain
from nimble_otter.translation import tr, trn
from nimble_otter.values import Value

_FEW = 12
"""Different texts up to which a list of them is suggested."""
_PLAIN = (str, bool, int, float)
_TEXTS = ("figure", "other", "other_column", "tolerance", "text")


@dataclass(frozen=True, slots=True)
class CheckStep:
    """`rows` are those of the pulls that lines name, `last` the profile of the last delivery; both are handed in by who
    runs the course."""

    kind: ClassVar[str] = "check"
    lines: tuple[CheckLine, ...] = ()
    on: bool = True
    name: str = ""
    rows: Mapping[str, View] = field(default_factory=dict, repr=False)
    last: DeliveryProfile | None = field(default=None, repr=False)

    def words(self) -> str:
        """The step in a line of the course."""
        count = sum(1 for line in self.lines if line.on)
        return trn("{count} check", "{count} checks", count, count=count) if count else tr("nothing")

    @property
    def others(self) -> tuple[str, ...]:
        """The pulls that its lines name."""
        return tuple(dict.fromkeys(line.other for line in self.lines if line.on and line.other))

    def with_rows(self, rows: Mapping[str, View]) -> CheckStep:
        """With the rows of other pulls."""
        own = {name: rows[name] for name in self.others if name in rows}
        return self if own == self.rows else replace(self, rows=own)

    def renamed(self, before: str, after: str) -> CheckStep:
        """With another name for one of the pulls."""
        lines = tuple(replace(line, other=after) if line.other == before else line for line in self.lines)
        return self if lines == self.lines else replace(self, lines=lines)

    def against(self, last: DeliveryProfile | None) -> CheckStep:
        """Beside the last delivery."""
        return self if last == self.last else replace(self, last=last)

    def parameters(self) -> list[str]:
        """Parameters that its lines name."""
        return [name for line in self.lines for name in line.parameters()]

    def bound(self, values: Mapping[str, object]) -> CheckStep:
        """With the values of the parameters in its lines."""
        lines = tuple(line.bound(values) for line in self.lines)
        return self if lines == self.lines else replace(self, lines=lines)

    def apply(self, shaped: Shaped, stop: StopToken) -> Shaped:
        """The same rows, with what was found of each line that is on. Raises: Stopped."""
        checked = tuple(check(line, shaped, self.rows, self.last, stop) for line in self.lines if line.on)
        return replace(shaped, checked=checked)

    def to_plain(self) -> dict[str, object]:
        """As a pull file has it."""
        return {"lines": [_plain(line) for line in self.lines]}

    @classmethod
    def from_plain(cls, plain: Entry) -> Self:
        """What `to_plain` made. Raises: ValueError."""
        return cls(tuple(map(_line, plain.entries("lines"))))


def _plain(line: CheckLine) -> dict[str, object]:
    made: dict[str, object] = {"rule": line.rule.value}
    if line.columns:
        made["columns"] = list(line.columns)
    if line.values:
        made["values"] = [value if isinstance(value, _PLAIN) else plain(value) for value in line.values]
    for name in _TEXTS:
        if getattr(line, name):
            made[name] = getattr(line, name)
    return made | ({} if line.stops else {"severity": "warn"}) | ({} if line.on else {"on": False})


def _line(plain: Entry) -> CheckLine:
    stops = plain.word("severity", ("stop", "warn"), "stop") == "stop"
    texts = {name: plain.text(name, "") for name in _TEXTS}
    line = CheckLine(plain.member("rule", Rule), plain.texts("columns"), plain.values("values"))
    return replace(line, stops=stops, on=plain.flag("on", True), **texts)  # type: ignore[arg-type]


def suggested(view: View, places: Sequence[int], stop: StopToken = NEVER) -> list[CheckLine]:
    """Lines that hold for these rows now, from the figures of their columns: each is for a person to take or leave.
    Raises: Stopped."""
    lines = []
    for index in places:
        stop.check()
        own, found = view.table.fields[index], profile(view, index, stop=stop)
        name = (own.name,)
        filled = found.rows - found.empty
        if not filled:
            continue
        if found.distinct == filled >= 20 and own.kind in (Kind.INT, Kind.TEXT, Kind.UUID):
            lines.append(CheckLine(Rule.UNIQUE, name))
        if not found.empty:
            lines.append(CheckLine(Rule.FILLED, name))
        if own.kind is Kind.TEXT and found.distinct <= _FEW and found.distinct * 4 <= filled:
            ids = view.row_ids()
            values = dict.fromkeys(value for value, _ in _frequent(view, index, found.distinct, stop))
            lines.append(CheckLine(Rule.AMONG, name, tuple(sorted(v for v in values if len(ids) and v is not None))))
        elif own.kind.is_number and found.distinct < filled:
            lines.append(CheckLine(Rule.RANGE, name, (plain(found.smallest), plain(found.largest))))
    return [*lines, CheckLine(Rule.SINCE_LAST, values=(90,)), CheckLine(Rule.COLUMNS, stops=False)]


def _frequent(view: View, place: int, most: int, stop: StopToken) -> list[tuple[Value, int]]:
    from nimble_otter.table.ops.profile import value_counts

    return value_counts(view, place, most + 1, stop)


def stopping(checked: Sequence[Checked]) -> list[Checked]:
    """The lines that hold a delivery back."""
    return [each for each in checked if each.is_stopping]
