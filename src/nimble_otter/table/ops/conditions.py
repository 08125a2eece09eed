"""What a filter is made of, once parsed: operands and conditions. `filter.py` evaluates them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from nimble_otter.table.core.columns import Kind
from nimble_otter.table.ops.search import Search


@dataclass(frozen=True, slots=True)
class ColumnAt:
    """A column by its place in the table, or a part of its nested values by path."""

    index: int
    path: tuple[str | int, ...] = ()


@dataclass(frozen=True, slots=True)
class Literal:
    """int, Decimal, str, bool, date, datetime or None."""

    value: Any


@dataclass(frozen=True, slots=True)
class Call:
    """An arithmetic sign or the name of a function (see functions.FUNCTIONS) over operands; `gives` is the kind that it
    gives in all rows, where that is known before."""

    name: str
    args: tuple[Operand, ...]
    gives: Kind | None = None


@dataclass(frozen=True, slots=True)
class Case:
    """The value of the first branch whose condition is true, else `default`."""

    branches: tuple[tuple[Node, Operand], ...]
    default: Operand


@dataclass(frozen=True, slots=True)
class Frame:
    """Which rows around each one a window function takes, counted in `unit`: "rows", "groups" of rows that are alike in
    the order, or "range", the distance of the order's key (a number or a timedelta). `start` and `end` lie so far
    behind a row, or before it where negative; None is the partition's own end."""

    unit: str = "range"
    start: Any = None
    end: Any = 0


@dataclass(frozen=True, slots=True)
class Windowed:
    """A window function (see windows.WINDOWS) over the rows that are alike in `per`, in order of `by`: each an operand,
    whether descending, whether empty first. What says how many rows, or which part, is a literal whole number.
    `distinct` values count once; `skips_empty` (IGNORE NULLS) takes the next row that has a value."""

    name: str
    args: tuple[Operand, ...]
    per: tuple[Operand, ...] = ()
    by: tuple[tuple[Operand, bool, bool], ...] = ()
    frame: Frame = Frame()
    distinct: bool = False
    skips_empty: bool = False


Operand = ColumnAt | Literal | Call | Case | Windowed


@dataclass(frozen=True, slots=True)
class Compare:
    """`op` is one of = <> < <= > >=."""

    op: str
    left: Operand
    right: Operand


@dataclass(frozen=True, slots=True)
class IsEmpty:
    """IS NULL; a missing field counts as empty."""

    operand: Operand


@dataclass(frozen=True, slots=True)
class Among:
    """IN (...): unknown, not false, where nothing matches and the list holds NULL (ISO 9075)."""

    operand: Operand
    values: tuple[Any, ...]


@dataclass(frozen=True, slots=True)
class Like:
    """`regex` is the pattern as a regular expression that must match the whole text (with `finds`: a part of it);
    `contains` the plain text to look for where the pattern is only that between two %, `begins` that before one. With
    `pattern`, each row has a LIKE pattern of its own, and `regex` is its escape character."""

    operand: Operand
    regex: str
    ignore_case: bool = False
    contains: str | None = None
    begins: str | None = None
    finds: bool = False
    pattern: Operand | None = None


@dataclass(frozen=True, slots=True)
class Truth:
    """A yes/no operand used as a condition."""

    operand: Operand


@dataclass(frozen=True, slots=True)
class AnyOf:
    """Whether an item of a list compares so with a value, or matches a pattern (`like`); what is no list counts as its
    one item."""

    items: Operand
    op: str = "="
    value: Operand | None = None
    like: Like | None = None


@dataclass(frozen=True, slots=True)
class Anywhere:
    """Whether any of the columns holds a text (see search.py)."""

    columns: tuple[int, ...]
    search: Search


@dataclass(frozen=True, slots=True)
class Not:
    """A condition turned round; NULL stays unknown."""

    part: Node


@dataclass(frozen=True, slots=True)
class All:
    """AND; true when there are no parts."""

    parts: tuple[Node, ...]


@dataclass(frozen=True, slots=True)
class Either:
    """OR; false when there are no parts."""

    parts: tuple[Node, ...]


Node = Compare | IsEmpty | Among | Like | Truth | AnyOf | Anywhere | Not | All | Either
