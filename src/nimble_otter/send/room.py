"""Whether a column of a table that is there holds values as they are: servers round what has more digits, unasked."""

from __future__ import annotations

import re
from collections.abc import Callable
from decimal import Decimal
from typing import Any

import numpy as np

from nimble_otter.errors import SendError
from nimble_otter.sources.catalogue import ColumnInfo
from nimble_otter.sources.dialects import Dialect
from nimble_otter.table import Column, Kind
from nimble_otter.table.core.columns import DAY_US, EPOCH_DAY
from nimble_otter.table.text.show import plain
from nimble_otter.translation import tr

_DECIMAL = re.compile(r"(?:NUMERIC|DECIMAL)(?:\((\d+)(?:, ?(\d+))?\))?", re.I)
_WHOLE = re.compile(r"(?:TINY|SMALL|MEDIUM|BIG|U)?INT(?:EGER|\d+)?\b", re.I)
_CLOCK = re.compile(r"(?:DATETIME(?:64)?|TIMESTAMP|TIME)\b(?:\((\d)[,)])?", re.I)
_CLOCKS = (Kind.TIME, Kind.ZONED, Kind.CLOCK, Kind.SPAN)


def check_room(column: Column, there: ColumnInfo, dialect: Dialect) -> None:
    """Raises: SendError where a column of rows has values that the column there would keep otherwise than they are."""
    declared = there.exact or there.declared
    if dialect.alters_what_has_no_room:
        count, example = _beyond(column, declared, dialect)
        if count:
            text = tr(
                "{there_name} is {declared}: it has no room for {count} values, such as {example}.",
                there_name=there.name,
                declared=there.declared,
                count=count,
                example=plain(example),
            )
            raise SendError(text, tr("Filter such rows out, or send to a wider column."))
    count, example = _altered(column, declared, dialect)
    if count:
        text = tr(
            "{there_name} is {declared}: {count} values, such as {example}, would be rounded.",
            there_name=there.name,
            declared=there.declared.lower(),
            count=count,
            example=plain(example),
        )
        raise SendError(
            text,
            tr("Round them in Compute first, or send to a wider column."),
        )


def _altered(column: Column, declared: str, dialect: Dialect) -> tuple[int, object]:
    """How many values would not be kept, and one of them."""
    if dialect.is_loose:
        return 0, None
    if column.kind in _CLOCKS:
        return _of_times(column, declared, dialect)
    if column.kind is Kind.OBJECT or column.kind.is_number:
        scale = _scale_of(declared, dialect)
        if scale is not None and not _fits(column, scale):
            return _counted(column, lambda v: _digits(v) > scale)
        if re.match(r"DOUBLE|FLOAT8|FLOAT64", declared, re.I) and column.kind in (Kind.DECIMAL, Kind.OBJECT, Kind.INT):
            return _counted(column, lambda v: Decimal(repr(float(v))) != v)
        if dialect.is_single(declared.upper()):
            return _counted(column, lambda v: Decimal(str(np.float32(v))) != Decimal(str(v)))
    return 0, None


def _beyond(column: Column, declared: str, dialect: Dialect) -> tuple[int, object]:
    """How many numbers and dates are beyond what the type holds, and one of them."""
    if re.match(r"U?INT", declared, re.I):
        low, high = dialect.bounds(declared)
        return _counted(column, lambda v: not low <= v <= high)
    sized = _DECIMAL.fullmatch(declared)
    if sized is not None and sized[1]:
        most = Decimal(10) ** (int(sized[1]) - int(sized[2] or 0))
        return _counted(column, lambda v: not -most < v < most)
    if not re.match("DATE", declared, re.I) or column.kind not in (Kind.DATE, Kind.TIME, Kind.ZONED):
        return 0, None
    first, last = (day.toordinal() - EPOCH_DAY for day in dialect.days(declared))
    days = column.data.astype(np.int64) // (1 if column.kind is Kind.DATE else DAY_US)
    places = np.flatnonzero(((days < first) | (days > last)) & ~column.empty_at())
    return len(places), column.values(places[:1])[0] if len(places) else None


def _scale_of(declared: str, dialect: Dialect) -> int | None:
    """Digits behind the point that a type keeps; None where it keeps all, or is none of numbers."""
    if _WHOLE.match(declared) and not declared.rstrip().endswith("]"):
        return 0
    match = _DECIMAL.fullmatch(re.sub(r" (?:unsigned|zerofill)", "", declared, flags=re.I))
    if match is None or (not match[1] and dialect.bare_numeric_keeps_all):
        return None
    return int(match[2] or 0)


def _fits(column: Column, scale: int) -> bool:
    """Whether that is plain without a look at each value."""
    if column.kind is Kind.FLOAT:
        data = column.data[np.isfinite(column.data)]
        return bool((np.round(data, scale) == data).all())
    return column.kind is Kind.INT or (column.kind is Kind.DECIMAL and column.scale <= scale)


def _digits(value: object) -> int:
    number = value if isinstance(value, Decimal) else Decimal(str(value))
    return max(0, -int(number.normalize().as_tuple().exponent)) if number.is_finite() else 0


def _counted(column: Column, is_altered: Callable[[Any], bool]) -> tuple[int, object]:
    results = [
        v for v in column.values() if isinstance(v, (int, float, Decimal)) and not isinstance(v, bool) and v == v
        and abs(v) != float("inf") and is_altered(v)
    ]  # fmt: skip
    return len(results), results[0] if results else None


def _of_times(column: Column, declared: str, dialect: Dialect) -> tuple[int, object]:
    match = _CLOCK.match(declared)
    is_date = re.match(r"DATE\b", declared, re.I) is not None
    if match is None and not is_date:
        return 0, None
    digits = int(match[1]) if match is not None and match[1] else dialect.fraction_digits
    step = DAY_US if is_date else 10 ** (6 - digits)
    odd = (column.data.astype(np.int64) % step != 0) & ~column.empty_at()
    places = np.flatnonzero(odd)
    return len(places), column.values(places[:1])[0] if len(places) else None
