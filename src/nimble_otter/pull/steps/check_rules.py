"""What a line of a check says of rows, and whether it holds: each rule is worked out in arrays over all rows."""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from decimal import Decimal
from enum import StrEnum
from typing import Any

import numpy as np

from nimble_otter.errors import ConditionError
from nimble_otter.pull.profiles import DeliveryProfile
from nimble_otter.pull.shaped import Shaped
from nimble_otter.pull.steps.base import find_column
from nimble_otter.pull.steps.filter import Condition, bound_text
from nimble_otter.query.local.conditions import parse_condition
from nimble_otter.query.sql.statements import find_parameters
from nimble_otter.stop import StopToken
from nimble_otter.table import Field, Kind, View
from nimble_otter.table.core.columns import Ids, Table
from nimble_otter.table.kernels.codes import combined_codes
from nimble_otter.table.ops.combine import pair_codes
from nimble_otter.table.ops.conditions import All, ColumnAt, IsEmpty, Like, Node, Not
from nimble_otter.table.ops.filter import filter_view
from nimble_otter.table.ops.group import Aggregate, AggregateFunction, group_view
from nimble_otter.table.text.patterns import compiled
from nimble_otter.table.text.show import grouped, shown
from nimble_otter.translation import tr, trn
from nimble_otter.values import Value


class Rule(StrEnum):
    """What a line says."""

    FILLED = "filled"
    UNIQUE = "unique"
    AMONG = "one of"
    ELSEWHERE = "in another pull"
    RANGE = "between"
    PATTERN = "matches"
    TYPE = "of type"
    NO_DUPLICATES = "no duplicate rows"
    ROWS = "row count"
    SINCE_LAST = "rows against last time"
    AGGREGATE = "aggregate"
    NEWEST = "newest within"
    COLUMNS = "columns as last time"
    SQL = "condition"

    @property
    def is_of_columns(self) -> bool:
        """Whether it is said of columns."""
        return self in _OF_COLUMNS


_OF_COLUMNS = (Rule.FILLED, Rule.UNIQUE, Rule.AMONG, Rule.ELSEWHERE, Rule.RANGE, Rule.PATTERN, Rule.TYPE,
               Rule.AGGREGATE, Rule.NEWEST)  # fmt: skip
TYPES = {
    "whole number": (Kind.INT,), "number": (Kind.INT, Kind.FLOAT, Kind.DECIMAL), "text": (Kind.TEXT,),
    "yes/no": (Kind.BOOL,), "date": (Kind.DATE,), "time": (Kind.TIME, Kind.ZONED), "time of day": (Kind.CLOCK,),
    "interval": (Kind.SPAN,), "uuid": (Kind.UUID,), "nested value": (Kind.OBJECT,),
}  # fmt: skip
_UNITS = {"minute": 60, "hour": 3600, "day": 86_400, "week": 7 * 86_400}
_AGE = re.compile(r"\s*(\d+(?:\.\d+)?)\s*(minute|hour|day|week)s?\s*", re.IGNORECASE)


@dataclass(frozen=True, slots=True)
class CheckLine:
    """What must hold, by its rule. `values`: FILLED the most NULLs (a number, or "2 %"); AMONG the values; RANGE, ROWS
    and AGGREGATE the lowest and highest ("" for no bound); PATTERN a regular expression that the whole value matches;
    TYPE one of TYPES; SINCE_LAST the least percentage; NEWEST an age such as "2 days". `figure` is of AGGREGATE; with
    `other`, a pull's name, its `other_column` has the values (ELSEWHERE) or the same figure within `tolerance`, a
    number or a percentage. `text` is an SQL condition. `stops`: a delivery is held back where it fails."""

    rule: Rule
    columns: tuple[str, ...] = ()
    values: tuple[Any, ...] = ()
    figure: str = ""
    other: str = ""
    other_column: str = ""
    tolerance: str = ""
    text: str = ""
    stops: bool = True
    on: bool = True

    @property
    def subject(self) -> str:
        """Of what it is said."""
        if self.rule.is_of_columns:
            name = ", ".join(self.columns) or tr("no column")
            return tr("{figure} of {name}", figure=self.figure, name=name) if self.rule is Rule.AGGREGATE else name
        return tr("columns") if self.rule is Rule.COLUMNS else tr("rows")

    @property
    def told(self) -> str:
        """What must hold of what."""
        return f"{self.subject} {self.words()}"

    def words(self) -> str:
        """What is said, in a few words."""
        low, high = (*map(_text, self.values), "", "")[:2]
        match self.rule:
            case Rule.FILLED:
                return tr("never NULL") if low in ("", "0") else tr("NULL at most {low}", low=low)
            case Rule.AMONG:
                few = ", ".join(map(_text, self.values[:4]))
                return tr("one of {few}, …", few=few) if len(self.values) > 4 else tr("one of {few}", few=few)
            case Rule.ELSEWHERE:
                return tr(
                    "in {other_column} of {other}",
                    other_column=self.other_column or tr("a column"),
                    other=self.other or tr("another pull"),
                )
            case Rule.ROWS | Rule.RANGE:
                return _between(low, high)
            case Rule.AGGREGATE if self.other:
                within = tr(" within {tolerance}", tolerance=self.tolerance) if self.tolerance not in ("", "0") else ""
                return tr(
                    "as {other_column} of {other}{within}",
                    other_column=self.other_column or ", ".join(self.columns),
                    other=self.other,
                    within=within,
                )
            case Rule.AGGREGATE:
                return _between(low, high)
            case Rule.PATTERN:
                return tr("matches {low}", low=low)
            case Rule.TYPE:
                return tr("holds {low}", low=low)
            case Rule.SINCE_LAST:
                return tr("at least {low} % of last time", low=low)
            case Rule.NEWEST:
                return tr("newest within {low}", low=low)
            case Rule.SQL:
                return " ".join(self.text.split())
        return {Rule.UNIQUE: tr("unique"), Rule.NO_DUPLICATES: tr("no duplicates")}.get(self.rule, tr("as last time"))

    def parameters(self) -> list[str]:
        """Names of the parameters in it: in its condition, or values such as :least."""
        return [*(v[1:] for v in self.values if isinstance(v, str) and re.fullmatch(r":[^\W\d]\w*", v)),
                *find_parameters(self.text)]  # fmt: skip

    def bound(self, given: Mapping[str, object]) -> CheckLine:
        """With the values of those parameters that have one."""
        if not any(name in given for name in self.parameters()):
            return self
        items: list[object] = []
        for value in self.values:
            one = given.get(value[1:], value) if isinstance(value, str) and value.startswith(":") else value
            items += one if isinstance(one, list) else [one]
        return replace(self, values=tuple(items), text=bound_text(self.text, given))


@dataclass(frozen=True, slots=True, eq=False)
class Checked:
    """A line on rows: whether it `holds`, in figures; `failing` are the ids of the rows that fail (of `table`), None
    where it is not said of single rows. What can't be checked does not hold, and `problem` says why."""

    line: CheckLine
    holds: bool
    said: str
    failing: Ids | None = None
    problem: ConditionError | None = None

    def words(self) -> str:
        """The line, and what was found of it."""
        return f"{self.line.told}: {self.said}"

    @property
    def is_stopping(self) -> bool:
        """Whether a delivery is held back by it."""
        return not self.holds and self.line.stops


@dataclass(frozen=True, slots=True, eq=False)
class _Ground:
    """What lines look at: the rows, those of other pulls by name, the profile of the last delivery, the time."""

    view: View
    places: tuple[int, ...]
    fields: tuple[Field, ...]
    others: Mapping[str, View]
    last: DeliveryProfile | None
    now: dt.datetime
    stop: StopToken


def check(
    line: CheckLine,
    shaped: Shaped,
    others: Mapping[str, View],
    last: DeliveryProfile | None,
    stop: StopToken,
    now: dt.datetime | None = None,
) -> Checked:
    """Look whether a line holds. Raises: Stopped."""
    fields = tuple(shaped.shown_fields())
    ground = _Ground(shaped.flat(), shaped.shown(), fields, others, last, now or dt.datetime.now(dt.UTC), stop)
    try:
        return _RULES[line.rule](line, ground)
    except ConditionError as problem:
        return Checked(line, False, problem.message, problem=problem)


def _of_rows(line: CheckLine, ground: _Ground, failing: Ids, word: str, held: str = "", most: int = 0) -> Checked:
    """A line that each row holds or fails."""
    total = len(ground.view)
    holds = len(failing) <= most
    text = f"{grouped(len(failing))} {word}"
    if len(failing) == 0:
        text = held or tr("{total} of {total}", total=grouped(total))
    return Checked(line, holds, text, failing)


def _column(line: CheckLine, ground: _Ground) -> int:
    if not line.columns or not line.columns[0]:
        raise ConditionError(tr("The check names no column."), tr("Choose one."))
    return find_column(ground.view.table, line.columns[0])


def _failing(ground: _Ground, node: Node) -> Ids:
    return filter_view(ground.view, node, ground.stop).row_ids()


def _filled(line: CheckLine, ground: _Ground) -> Checked:
    ids, column = ground.view.row_ids(), ground.view.table.columns[_column(line, ground)]
    failing = ids[column.empty_at(ids)]
    most = _most(line.values[0] if line.values else 0, len(ids))
    share = f" ({100 * len(failing) / len(ids):.1f} %)" if len(failing) else ""
    return _of_rows(line, ground, failing, f"NULL{share}", most=most)


def _most(limit: object, rows: int) -> int:
    text = _text(limit).strip()
    percent = text.endswith("%")
    try:
        number = Decimal(text.rstrip("% ") or 0)
        return int(number * rows / 100 if percent else number)
    except ArithmeticError as problem:
        raise ConditionError(
            tr("{text!r} is not a number of rows or a percentage.", text=text), tr("Type 0, 12 or 2 %.")
        ) from problem


def _unique(line: CheckLine, ground: _Ground) -> Checked:
    table, ids = ground.view.table, ground.view.row_ids()
    if not line.columns:
        raise ConditionError(tr("The check names no column."), tr("Choose one."))
    columns = [table.columns[find_column(table, name)] for name in line.columns]
    gone = np.zeros(len(ids), np.bool_)
    for column in columns:
        gone |= column.empty_at(ids)
    ids = ids[~gone]  # as with UNIQUE in SQL, what has no value equals nothing
    return _of_rows(line, ground, _repeated(columns, ids, ground.stop), tr("rows share a value"))


def _repeated(columns: list[Value], ids: Ids, stop: StopToken) -> Ids:
    codes = combined_codes(columns, ids, stop)
    found: Ids = ids[np.bincount(codes, minlength=1).take(codes) > 1]
    return found


def _no_duplicates(line: CheckLine, ground: _Ground) -> Checked:
    columns = [ground.view.table.columns[place] for place in ground.places]
    failing = _repeated(columns, ground.view.row_ids(), ground.stop)
    return _of_rows(line, ground, failing, tr("rows are there more than once"))


def _among(line: CheckLine, ground: _Ground) -> Checked:
    index = _column(line, ground)
    name = ground.view.table.fields[index].name
    outside = Condition("is none of", name, line.values).node(ground.view.table)
    failing = _failing(ground, All((outside, Not(IsEmpty(ColumnAt(index))))))
    return _of_rows(line, ground, failing, tr("other: {examples}", examples=_examples(ground, index, failing)))


def _elsewhere(line: CheckLine, ground: _Ground) -> Checked:
    index, rows = _column(line, ground), _others(line, ground)
    there = find_column(rows.table, line.other_column or line.columns[0])
    one = Table((ground.view.table.fields[index],), (ground.view.table.columns[index],), ground.view.table.rows)
    mine, theirs, none = pair_codes(View(one, ground.view.ids), rows.table, [(0, there)], ground.stop,
                                    there_ids=rows.row_ids())  # fmt: skip
    known = np.zeros(none + 1, np.bool_)
    known[theirs] = True
    known[none] = True  # no value is not looked for
    failing = ground.view.row_ids()[~known.take(mine)]
    return _of_rows(line, ground, failing, tr("are not there: {examples}", examples=_examples(ground, index, failing)))


def _others(line: CheckLine, ground: _Ground) -> View:
    rows = ground.others.get(line.other)
    if rows is None:
        raise ConditionError(
            tr("There are no rows of {other}.", other=line.other or tr("another pull")),
            tr("Run it, or save it on the shelf."),
        )
    return rows


def _range(line: CheckLine, ground: _Ground) -> Checked:
    index = _column(line, ground)
    failing = _failing(ground, Not(_bounds(line, ground.view.table, ground.view.table.fields[index].name)))
    if not len(failing):
        return _of_rows(line, ground, failing, "")
    ends = [Aggregate(figure, index) for figure in (AggregateFunction.MIN, AggregateFunction.MAX)]
    totals = group_view(View(ground.view.table, failing), [], ends, ground.stop).totals
    low, high = (shown(column.value(0), ground.view.table.fields[index]) for column in totals.columns)
    return _of_rows(
        line,
        ground,
        failing,
        tr("outside, {low}", low=low) if low == high else tr("outside, {low} to {high}", low=low, high=high),
    )


def _bounds(line: CheckLine, table: Table, name: str) -> Node:
    low, high = (*line.values, "", "")[:2]
    wanted = [("at least", low), ("at most", high)]
    nodes = [Condition(operator, name, (value,)).node(table) for operator, value in wanted if _text(value) != ""]
    if not nodes:
        raise ConditionError(tr("The check has no bound."), tr("Type the lowest value, the highest, or both."))
    return All(tuple(nodes))


def _pattern(line: CheckLine, ground: _Ground) -> Checked:
    index = _column(line, ground)
    pattern = _text(line.values[0]) if line.values else ""
    if not pattern:
        raise ConditionError(tr("The check has no pattern."), tr("Type a regular expression."))
    compiled(pattern, True)
    like = Like(ColumnAt(index), f"^(?:{pattern})$", finds=True)
    failing = _failing(ground, Not(like))
    return _of_rows(line, ground, failing, tr("don't match: {examples}", examples=_examples(ground, index, failing)))


def _type(line: CheckLine, ground: _Ground) -> Checked:
    field = ground.view.table.fields[_column(line, ground)]
    wanted = _text(line.values[0]) if line.values else ""
    if wanted not in TYPES:
        raise ConditionError(
            tr("{wanted!r} is not a type.", wanted=wanted), tr("Types are {types}.", types=", ".join(TYPES))
        )
    ids = ground.view.row_ids()
    has_none = bool(ground.view.table.columns[ground.view.table.index(field.name)].empty_at(ids).all())
    return Checked(line, has_none or field.kind in TYPES[wanted], tr("no values") if has_none else field.kind.value)


def _rows(line: CheckLine, ground: _Ground) -> Checked:
    count = len(ground.view)
    low, high = (*line.values, "", "")[:2]
    holds = (_text(low) == "" or count >= _whole(low)) and (_text(high) == "" or count <= _whole(high))
    return Checked(line, holds, tr("{count} rows", count=grouped(count)))


def _whole(value: object) -> Decimal:
    try:
        return Decimal(_text(value))
    except ArithmeticError as problem:
        raise ConditionError(
            tr("{text!r} is not a number.", text=_text(value)), tr("Type one, such as 1000.")
        ) from problem


def _since_last(line: CheckLine, ground: _Ground) -> Checked:
    if ground.last is None:
        return Checked(line, True, tr("no delivery to compare with yet"))
    least, count = _whole((*line.values, 100)[0]), len(ground.view)
    if not ground.last.rows:
        return Checked(line, True, tr("last time there were no rows"))
    share = 100 * count / ground.last.rows
    return Checked(line, share >= least, tr("{share:.1f} % of {rows}", share=share, rows=grouped(ground.last.rows)))


def _figure(line: CheckLine, view: View, name: str, stop: StopToken) -> Table:
    try:
        function = AggregateFunction(line.figure)
    except ValueError as problem:
        known = ", ".join(figure.value for figure in AggregateFunction)
        raise ConditionError(
            tr("{figure!r} is not an aggregate.", figure=line.figure), tr("Available are {known}.", known=known)
        ) from problem
    index = find_column(view.table, name) if name else None
    if index is None and not function.of_rows:
        raise ConditionError(tr("The check names no column."), tr("Choose one."))
    return group_view(view, [], [Aggregate(function, index)], stop).totals


def _aggregate(line: CheckLine, ground: _Ground) -> Checked:
    column = line.columns[0] if line.columns else ""
    own = _figure(line, ground.view, column, ground.stop)
    value = own.columns[0].value(0)
    text = shown(value, own.fields[0])
    if line.other:
        theirs = _figure(line, _others(line, ground), line.other_column or column, ground.stop)
        there = theirs.columns[0].value(0)
        return Checked(
            line,
            _alike(value, there, line.tolerance),
            tr("{text} here, {there} there", text=text, there=shown(there, theirs.fields[0])),
        )
    if value is None:
        return Checked(line, False, tr("no value"))
    holds = len(filter_view(View(own), _bounds(line, own, own.fields[0].name), ground.stop)) == 1
    return Checked(line, holds, text)


def _alike(one: object, other: object, tolerance: str) -> bool:
    if one is None or other is None or tolerance.strip() in ("", "0"):
        return one == other
    try:
        a, b = (Decimal(str(value)) for value in (one, other))
        room = Decimal(tolerance.rstrip("% "))
        return abs(a - b) <= (abs(b) * room / 100 if tolerance.strip().endswith("%") else room)
    except ArithmeticError as problem:
        raise ConditionError(tr("The tolerance is of numbers only."), tr("Type a number or a percentage.")) from problem


def _newest(line: CheckLine, ground: _Ground) -> Checked:
    index = _column(line, ground)
    match = _AGE.fullmatch(_text(line.values[0]) if line.values else "")
    if match is None:
        raise ConditionError(tr("The check names no age."), tr("Type one such as 2 days, 6 hours or 30 minutes."))
    field, ids = ground.view.table.fields[index], ground.view.row_ids()
    if ground.view.table.columns[index].empty_at(ids).all():
        return Checked(line, False, tr("no value"))
    if not field.kind.is_moment:
        raise ConditionError(
            tr(
                "{field_name} holds {kind_value}, which has no age.", field_name=field.name, kind_value=field.kind.value
            ),
            tr("Choose a column of times."),
        )
    totals = group_view(ground.view, [], [Aggregate(AggregateFunction.MAX, index)], ground.stop).totals
    newest = totals.columns[0].value(0)
    if not isinstance(newest, dt.datetime):
        newest = dt.datetime.combine(newest, dt.time())
    now = ground.now if newest.tzinfo is not None else ground.now.astimezone().replace(tzinfo=None)
    age_s = (now - newest).total_seconds()
    if field.kind is Kind.DATE:  # a day is as old as its end
        age_s = max(0.0, age_s - 86_400)
    return Checked(
        line, age_s <= float(match[1]) * _UNITS[match[2].lower()], tr("{age_words} ago", age_words=_age_words(age_s))
    )


def _age_words(seconds: float) -> str:
    weeks, days, hours, minutes = (int(seconds // _UNITS[unit]) for unit in ("week", "day", "hour", "minute"))
    if weeks >= 2:
        return trn("{count} week", "{count} weeks", weeks, count=weeks)
    if days:
        return trn("{count} day", "{count} days", days, count=days)
    if hours:
        return trn("{count} hour", "{count} hours", hours, count=hours)
    if minutes:
        return trn("{count} minute", "{count} minutes", minutes, count=minutes)
    return tr("less than a minute")


def _columns(line: CheckLine, ground: _Ground) -> Checked:
    if ground.last is None:
        return Checked(line, True, tr("no delivery to compare with yet"))
    now = {field.name: field.kind.value for field in ground.fields}
    before = {column.name: column.kind for column in ground.last.columns}
    parts = [("missing", [name for name in before if name not in now]),
             ("new", [name for name in now if name not in before]),
             (tr("of another type"), [name for name in now if before.get(name, now[name]) != now[name]])]  # fmt: skip
    text = "; ".join(f"{', '.join(names)} {word}" for word, names in parts if names)
    return Checked(
        line, not text, text or tr("{now_count} of {before_count}", now_count=len(now), before_count=len(before))
    )


def _sql(line: CheckLine, ground: _Ground) -> Checked:
    if not line.text.strip():
        raise ConditionError(tr("The check has no condition."), tr("Type one, such as level_m < 6."))
    kept = filter_view(ground.view, parse_condition(line.text, ground.view.table), ground.stop).row_ids()
    holds = np.zeros(ground.view.table.rows, np.bool_)
    holds[kept] = True
    ids = ground.view.row_ids()
    return _of_rows(line, ground, ids[~holds.take(ids)], tr("rows fail"))


def _examples(ground: _Ground, place: int, failing: Ids) -> str:
    """The first different values that fail."""
    column, field = ground.view.table.columns[place], ground.view.table.fields[place]
    few = dict.fromkeys(shown(value, field)[:24] for value in column.values(failing[:200]))
    return ", ".join(list(few)[:3]) + (", …" if len(few) > 3 else "")


def _between(low: str, high: str) -> str:
    if low and high:
        return tr("between {low} and {high}", low=low, high=high)
    return tr("at least {low}", low=low) if low else tr("at most {high}", high=high) if high else tr("no bound")


def _text(value: object) -> str:
    return "" if value is None else str(value)


_RULES: dict[Rule, Callable[[CheckLine, _Ground], Checked]] = {
    Rule.FILLED: _filled, Rule.UNIQUE: _unique, Rule.AMONG: _among, Rule.ELSEWHERE: _elsewhere, Rule.RANGE: _range,
    Rule.PATTERN: _pattern, Rule.TYPE: _type, Rule.NO_DUPLICATES: _no_duplicates, Rule.ROWS: _rows,
    Rule.SINCE_LAST: _since_last, Rule.AGGREGATE: _aggregate, Rule.NEWEST: _newest, Rule.COLUMNS: _columns,
    Rule.SQL: _sql,
}  # fmt: skip
