"""Filter: conditions that must all hold; each is made by picking values, by comparing, or typed as SQL."""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any, ClassVar, Self

import numpy as np
from numpy.typing import NDArray

from nimble_otter.entry import Entry
from nimble_otter.errors import ConditionError
from nimble_otter.pull.shaped import Shaped
from nimble_otter.pull.steps.base import find_column
from nimble_otter.query.local.conditions import parse_condition
from nimble_otter.query.sql.names import Names
from nimble_otter.query.sql.parameters import find_uses, typed
from nimble_otter.query.sql.statements import find_parameters, parameter_places
from nimble_otter.stop import StopToken
from nimble_otter.table import Kind, Table, View
from nimble_otter.table.ops.conditions import (
    All,
    Among,
    Anywhere,
    ColumnAt,
    Compare,
    Either,
    IsEmpty,
    Like,
    Literal,
    Node,
    Not,
)
from nimble_otter.table.ops.filter import filter_view
from nimble_otter.table.ops.group import Grouped, group_view
from nimble_otter.table.ops.search import Search
from nimble_otter.table.text.patterns import like_regex
from nimble_otter.table.text.show import plain as plain_text
from nimble_otter.translation import tr

_PARAMETER = re.compile(r":[^\W\d]\w*")
SIGNS = {"is": "=", "is not": "<>", "more than": ">", "at least": ">=", "less than": "<", "at most": "<="}
"""Comparisons as SQL writes them."""
_WORDS = {"is": "=", "is not": "≠", "more than": ">", "at least": "≥", "less than": "<", "at most": "≤"}
OPERATORS = (
    "is one of", "is none of", "is", "is not", "more than", "at least", "less than", "at most", "between",
    "contains", "does not contain", "starts with", "is empty", "is not empty",
)  # fmt: skip


def bound_text(text: str, values: Mapping[str, object]) -> str:
    """A text of the local language with the values of its parameters written in."""
    pieces, at = [], 0
    uses = find_uses(text, Names(()))
    for start, end, name in parameter_places(text):
        value = values.get(name)
        if value is None:
            continue
        if isinstance(value, str) and uses[name].many:
            value = typed(value, "", True)
        each = value if isinstance(value, list) else [value]
        pieces += [text[at:start], ", ".join(map(_quoted, each)) or "null"]
        at = end
    return "".join(pieces) + text[at:]


@dataclass(frozen=True, slots=True)
class Condition:
    """`operator` is one of OPERATORS, "sql" with `text`, or "anywhere": any column holds the first of `values`, behind
    which "case", "word" and "pattern" may stand. `values` are texts, numbers, yes/no, times or dates;
    `with_empty` adds rows without a value to "is one of" (and to what "is none of" leaves out)."""

    operator: str
    column: str = ""
    values: tuple[Any, ...] = ()
    with_empty: bool = False
    text: str = ""
    on: bool = True

    def words(self) -> str:
        """The condition in a line of the course."""
        if self.operator == "sql":
            return " ".join(self.text.split())
        if self.operator == "anywhere":
            return tr("any column contains {short}", short=_short(self.values[0]) if self.values else "")
        if self.operator in ("is one of", "is none of"):
            picked = [*map(_short, self.values), *(["∅"] if self.with_empty else [])]
            if not picked:
                return f"{'no' if self.operator == 'is one of' else 'any'} {self.column}"
            one, many = ("=", "in") if self.operator == "is one of" else ("≠", "not in")
            few = ", ".join(picked) if len(picked) <= 2 else tr("{picked_count} values", picked_count=len(picked))
            return f"{self.column} {one if len(picked) == 1 else many} {few}"
        sign = _WORDS.get(self.operator, self.operator)
        return f"{self.column} {sign} {' and '.join(map(_short, self.values))}".strip()

    @property
    def needed(self) -> int:
        """How many values it takes at least."""
        none = ("is empty", "is not empty", "is one of", "is none of", "sql", "anywhere")
        return 2 if self.operator == "between" else 0 if self.operator in none else 1

    def as_sql(self) -> str:
        """The same condition as one would type it."""
        name = '"' + self.column.replace('"', '""') + '"' if not self.column.isidentifier() else self.column
        values = [_quoted(value) for value in self.values]
        values += ["…"] * (self.needed - len(values))  # not written yet
        if self.operator == "sql":
            return self.text.strip()
        if self.operator == "anywhere":
            return f"({self.words()})"
        if self.operator == "is one of":
            inside = f"{name} in ({', '.join(values)})" if values else ""
            parts = [p for p in (inside, f"{name} is null" if self.with_empty else "") if p]
            return f"({' or '.join(parts)})" if len(parts) > 1 else (parts or ["false"])[0]
        if self.operator == "is none of":
            if not values:  # nothing is left out yet
                return f"{name} is not null" if self.with_empty else "true"
            outside = f"{name} not in ({', '.join(values)})"
            return f"{outside} and {name} is not null" if self.with_empty else f"({outside} or {name} is null)"
        if self.operator in SIGNS:
            return f"{name} {SIGNS[self.operator]} {values[0]}"
        if self.operator == "between":
            return f"{name} between {values[0]} and {values[1]}"
        if self.operator in ("is empty", "is not empty"):
            return f"{name} is {'not ' if 'not' in self.operator else ''}null"
        word = plain_text((*self.values, "…")[0]).replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_")
        pattern = _quoted(f"%{word}%" if "contain" in self.operator else f"{word}%")
        return f"{name} {'not ' if 'not' in self.operator else ''}ilike {pattern}"

    def parameters(self) -> list[str]:
        """The names of the parameters in it: in its text, or values such as :since."""
        if self.operator == "sql":
            return find_parameters(self.text)
        return [value[1:] for value in self.values if isinstance(value, str) and _PARAMETER.fullmatch(value)]

    def bound(self, values: Mapping[str, object]) -> Condition:
        """With the values of those parameters that have one."""
        if not any(name in values for name in self.parameters()):
            return self
        if self.operator != "sql":
            items = [values.get(v[1:], v) if isinstance(v, str) and v.startswith(":") else v for v in self.values]
            several = [one for value in items for one in (value if isinstance(value, list) else [value])]
            return replace(self, values=tuple(several))
        return replace(self, text=bound_text(self.text, values))

    def node(self, table: Table) -> Node:
        """Raises: ConditionError."""
        if self.operator == "sql":
            return parse_condition(self.text, table)
        if self.operator == "anywhere":
            search = self.search()
            search.expression()
            return Anywhere(tuple(range(len(table.fields))), search)
        column = ColumnAt(find_column(table, self.column))
        if len(self.values) < self.needed:
            raise ConditionError(
                tr("{column} {operator} needs a value.", column=self.column, operator=self.operator),
                tr("Type it beside the condition."),
            )
        values = tuple(self._typed(table, column.index, value) for value in self.values)
        if self.operator in ("is one of", "is none of"):
            inside: Node = Among(column, values)
            inside = Either((inside, IsEmpty(column))) if self.with_empty else All((inside, Not(IsEmpty(column))))
            return inside if self.operator == "is one of" else Not(inside)
        if self.operator in SIGNS:
            return Compare(SIGNS[self.operator], column, Literal(values[0]))
        if self.operator == "between":
            return All((Compare(">=", column, Literal(values[0])), Compare("<=", column, Literal(values[1]))))
        if self.operator in ("is empty", "is not empty"):
            return IsEmpty(column) if self.operator == "is empty" else Not(IsEmpty(column))
        if self.operator not in OPERATORS:
            raise ConditionError(
                tr("{operator!r} is not a comparison.", operator=self.operator),
                tr("There are {operators}.", operators=", ".join(OPERATORS)),
            )
        word = like_regex(plain_text(self.values[0]).replace("%", "\\%").replace("_", "\\_"))
        regex = f".*{word}.*" if "contain" in self.operator else f"{word}.*"
        like = Like(column, regex, ignore_case=True)
        return Not(like) if "not" in self.operator else like

    def search(self) -> Search:
        """What "anywhere" looks for."""
        text, *ways = (*map(plain_text, self.values), "")[: max(1, len(self.values))]
        return Search(text, *(way in ways for way in ("case", "word", "pattern")))

    @staticmethod
    def _typed(table: Table, index: int, value: object) -> object:
        """Typed text stands for a yes/no in such a column; other kinds read their text when compared."""
        if table.fields[index].kind is Kind.BOOL and isinstance(value, str):
            return value.strip().casefold() in ("yes", "true", "1")
        if table.fields[index].kind is Kind.TEXT:
            return plain_text(value)
        return value


def _short(value: object) -> str:
    text = plain_text(value)
    return text if len(text) <= 24 else f"{text[:23]}…"


def _quoted(value: object) -> str:
    if isinstance(value, (bool, int, float)):
        return plain_text(value)
    return "'" + plain_text(value).replace("'", "''") + "'"


@dataclass(frozen=True, slots=True)
class FilterStep:
    """Keep the rows for which its conditions hold, all of them or any."""

    kind: ClassVar[str] = "filter"
    conditions: tuple[Condition, ...] = ()
    on: bool = True
    name: str = ""

    def words(self) -> str:
        """The step in a line of the course."""
        return " and ".join(c.words() for c in self.conditions if c.on) or tr("nothing")

    def parameters(self) -> list[str]:
        """Parameters that its conditions name."""
        return [name for condition in self.conditions for name in condition.parameters()]

    def bound(self, values: Mapping[str, object]) -> FilterStep:
        """With the values of the parameters in its conditions."""
        made = tuple(condition.bound(values) for condition in self.conditions)
        return self if made == self.conditions else replace(self, conditions=made)

    def as_sql(self) -> str:
        """All conditions as one text of the local language."""
        return "\n  and ".join(c.as_sql() for c in self.conditions if c.on)

    def apply(self, shaped: Shaped, stop: StopToken) -> Shaped:
        """What comes of the rows. Raises: ConditionError."""
        table = shaped.table
        node = All(tuple(condition.node(table) for condition in self.conditions if condition.on))
        if shaped.grouped is None:
            return replace(shaped, view=filter_view(shaped.view, node, stop))
        kept = filter_view(View(table), node, stop).row_ids()
        level = shaped.grouped.levels[-1]
        stays = np.zeros(level.table.rows, np.bool_)
        stays[kept] = True
        rows = stays.take(level.codes)
        view = View(shaped.view.table, level.ids[rows])
        return _regrouped(shaped, group_view(view, shaped.grouped.keys, shaped.grouped.measures, stop), rows)

    def to_plain(self) -> dict[str, object]:
        """As a pull file has it."""
        return {"conditions": [_plain_condition(c) for c in self.conditions]}

    @classmethod
    def from_plain(cls, plain: Entry) -> Self:
        """What `to_plain` made. Raises: ValueError."""
        return cls(tuple(map(_condition, plain.entries("conditions"))))


def _regrouped(shaped: Shaped, again: Grouped, rows: NDArray[np.bool_]) -> Shaped:
    """The groups that are left when only some rows are, with the names and the order that they had."""
    assert shaped.grouped is not None
    before = shaped.grouped
    again = replace(
        again,
        levels=tuple(
            replace(n, table=_named(n.table, o.table)) for n, o in zip(again.levels, before.levels, strict=True)
        ),
        totals=_named(again.totals, before.totals),
    )
    for make in before.further:
        again = again.with_column(make)
    orders = []
    for old, new, order in zip(before.levels, again.levels, shaped.orders, strict=True):
        was = np.empty(new.table.rows, np.int64)
        was[new.codes] = old.codes[rows]
        place = np.empty(len(order), np.int64)
        place[order] = np.arange(len(order))
        orders.append(np.argsort(place[was], kind="stable"))
    return replace(shaped, view=again.view, grouped=again).with_orders(orders)


def _named(table: Table, before: Table) -> Table:
    return table.with_fields(before.fields[: len(table.fields)])


def _plain_condition(condition: Condition) -> dict[str, object]:
    if condition.operator == "sql":
        plain: dict[str, Any] = {"sql": condition.text}
    elif condition.operator == "anywhere":
        plain = {"operator": "anywhere", "values": list(map(plain_text, condition.values))}
    else:
        values = [v if isinstance(v, _TOML) else plain_text(v) for v in condition.values]
        plain = {"column": condition.column, "operator": condition.operator, "values": values}
    if condition.with_empty:
        plain["with_empty"] = True
    return plain | ({} if condition.on else {"on": False})


_TOML = (str, bool, int, float, dt.date, dt.datetime)


def _condition(plain: Entry) -> Condition:
    on, empty = plain.flag("on", True), plain.flag("with_empty")
    if "sql" in plain:
        return Condition("sql", text=plain.text("sql"), on=on)
    operator = plain.text("operator")
    if operator == "anywhere":
        return Condition("anywhere", values=plain.texts("values"), on=on)
    return Condition(operator, plain.text("column"), plain.values("values"), empty, on=on)
