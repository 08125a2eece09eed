"""A column that grows (a time, an identity): what was delivered up to which value, and asking only for what came since.

The highest value read is kept by schedule and target. The next run asks for rows from there on, less an overlap for
rows that come late, and for those without a value; which of them are new their keys tell (only_new.py)."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass
from decimal import Decimal, InvalidOperation

import numpy as np

from nimble_otter.errors import ConditionError, QueryError
from nimble_otter.pull.model import Pull
from nimble_otter.pull.steps import Condition, FilterStep
from nimble_otter.pull.steps.base import find_column
from nimble_otter.pull.upstream import move_up
from nimble_otter.sources import Connection, Request, fetch
from nimble_otter.stop import StopToken
from nimble_otter.table import Kind, Table
from nimble_otter.table.text.show import plain
from nimble_otter.table.text.text_format import parse_span
from nimble_otter.translation import tr

_NUMBERS = (Kind.INT, Kind.DECIMAL, Kind.FLOAT)


@dataclass(frozen=True, slots=True)
class High:
    """The highest value of a column that was read, as text, and its kind."""

    kind: Kind
    text: str

    def to_text(self) -> str:
        """As it is kept."""
        return f"{self.kind.value}\t{self.text}"

    @classmethod
    def from_text(cls, text: str) -> High | None:
        """What `to_text` made; None for anything else."""
        kind, _, value = text.partition("\t")
        try:
            return cls(Kind(kind), value) if value else None
        except ValueError:
            return None

    def value(self) -> Decimal | dt.datetime | dt.date:
        """To be compared with others of its kind. Raises: ValueError, InvalidOperation."""
        if self.kind in _NUMBERS:
            return Decimal(self.text)
        return dt.date.fromisoformat(self.text) if self.kind is Kind.DATE else dt.datetime.fromisoformat(self.text)


def highest(table: Table, column: str) -> High | None:
    """The highest value of a column; None without any. Raises: ConditionError where it is not one that grows."""
    index = find_column(table, column)
    own = table.columns[index]
    if own.kind not in _NUMBERS and not own.kind.is_moment:
        if own.empty_at().all():
            return None
        raise ConditionError(
            tr("{column} holds {kind_value}, which does not grow.", column=column, kind_value=own.kind.value),
            tr("Name a number, date or time."),
        )
    rows = np.flatnonzero(~own.empty_at())
    if own.kind is Kind.FLOAT:
        rows = rows[np.isfinite(own.data.take(rows))]
    if not len(rows):
        return None
    return High(own.kind, plain(own.value(int(rows[np.argmax(own.data.take(rows))]))))


def check_overlap(overlap: str) -> None:
    """Raises: ConditionError for what is neither a number nor a span."""
    if overlap:
        try:
            Decimal(overlap)
        except InvalidOperation:
            try:
                parse_span(overlap)
            except ValueError as problem:
                raise ConditionError(
                    tr("{overlap} is not an overlap.", overlap=overlap), tr("Write 1 day, 2 hours or 1000.")
                ) from problem


def lowest_asked(high: High, overlap: str) -> str:
    """From which value on rows are asked for. Raises: ConditionError where the overlap is of another kind."""
    value = high.value()
    try:
        if isinstance(value, Decimal):
            return format(value - Decimal(overlap or 0), "f")
        if not overlap:
            return high.text
        if isinstance(value, dt.datetime):
            return (value - parse_span(overlap)).isoformat(" ")
        return (value - parse_span(overlap)).isoformat()
    except (ValueError, InvalidOperation, OverflowError) as problem:
        text = tr("a span such as 1 day") if high.kind.is_moment else tr("a number")
        raise ConditionError(
            tr("{overlap} is not an overlap of {kind_value}.", overlap=overlap, kind_value=high.kind.value),
            tr("Write {text}.", text=text),
        ) from problem


def since(pull: Pull, column: str, high: High, overlap: str) -> Pull:
    """The pull with a first step that keeps rows from there on, and those without a value."""
    low, name = lowest_asked(high, overlap), '"' + column.replace('"', '""') + '"'
    text = low if high.kind in _NUMBERS else f"'{low}'"
    step = FilterStep((Condition("sql", text=f"{name} >= {text} or {name} is null"),), name=tr("since {low}", low=low))
    return pull.with_step(step, 0)


def asked_there(pull: Pull, connection: Connection, stop: StopToken) -> Pull:
    """The same with its first step in the query, where that means the same; else as it is: the step keeps the rows here
    then. Asks for one row, to know the columns. Raises: SourceError's, Stopped."""
    query = pull.query
    if query.language != "sql":
        return pull
    bound = query.bound()
    try:
        first = fetch(connection, Request(bound.text, bound.values, 1, query.language, query.collection), stop)
        moved = move_up(pull, 0, first.table, pull.source.dialect.parser, connection.quoted)
    except (ConditionError, QueryError):
        return pull
    return moved.pull if not moved.notes else pull


def later(a: High | None, b: High | None) -> High | None:
    """The higher of two."""
    if a is None or b is None or a.kind is not b.kind:
        return a or b
    return a if a.value() >= b.value() else b  # type: ignore[operator]
