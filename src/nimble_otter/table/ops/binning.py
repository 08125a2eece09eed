"""Coarser values to group by: parts of dates and times, steps of numbers, first letters of texts."""

from __future__ import annotations

import re
from collections.abc import Callable
from decimal import Decimal, InvalidOperation
from typing import Any

import numpy as np
from numpy.typing import NDArray

from nimble_otter.errors import ConditionError
from nimble_otter.table.core.build import column_of
from nimble_otter.table.core.columns import DAY_US, CodedText, Column, Ids, Kind, Mask, pick, placed
from nimble_otter.table.kernels.codes import codes_of
from nimble_otter.table.kernels.numeric import largest
from nimble_otter.translation import tr
from nimble_otter.values import Value

_WEEKDAYS = ("1 Monday", "2 Tuesday", "3 Wednesday", "4 Thursday", "5 Friday", "6 Saturday", "7 Sunday")
OF_DATES = ("year", "quarter", "month", "week", "day", "month of year", "weekday")
OF_TIMES = (*OF_DATES, "hour", "hour of day")
_STEP = re.compile(r"steps of (\S+)")
_LETTERS = re.compile(r"first (\d+)")


def parts_for(kind: Kind) -> tuple[str, ...]:
    """The parts that columns of a kind can be grouped by; "steps of 10" and "first 1" stand for any number."""
    if kind is Kind.DATE:
        return OF_DATES
    if kind.is_moment:
        return OF_TIMES
    if kind.is_number:
        return ("steps of 10",)
    return {Kind.CLOCK: ("hour of day",), Kind.TEXT: ("first 1",)}.get(kind, ())


def part_column(column: Column, part: str, ids: Ids, name: str) -> Column:
    """The part of each row's value: a column as long as the whole one, filled for the rows `ids`.

    Parts of dates are written as ISO 8601 has them (2031, 2031-Q2, 2031-05, 2031-W22), hours as times, steps of numbers
    as their lower ends. Raises: ConditionError where the column has no such part.
    """
    step, letters = _STEP.fullmatch(part), _LETTERS.fullmatch(part)
    if column.empty_at(ids).all():  # a column without a value has no kind of its own
        return column_of([None] * len(column))
    if step is not None and column.kind.is_number:
        return _steps(column, _step_of(step.group(1)), ids)
    if letters is not None and column.kind is Kind.TEXT:
        return _first_letters(column, int(letters.group(1)), ids)
    if part not in parts_for(column.kind) or not (column.kind.is_moment or column.kind is Kind.CLOCK):
        raise ConditionError(
            tr(
                "{name} holds {kind_value}, which can't be grouped by {part}.",
                name=name,
                kind_value=column.kind.value,
                part=part,
            ),
            tr("There are {parts_for}.", parts_for=", ".join(parts_for(column.kind)))
            if parts_for(column.kind)
            else tr("Group by its values."),
        )
    return _of_moments(column, part, ids)


def _step_of(text: str) -> Decimal:
    try:
        step = Decimal(text)
    except InvalidOperation:
        step = Decimal(0)
    if not step.is_finite() or step <= 0 or -int(step.as_tuple().exponent) > 9:
        raise ConditionError(tr("{text} is not a step.", text=text), tr("Write a number above 0, such as 10 or 0.5."))
    return step


def _spread(column: Column, ids: Ids, data: NDArray[np.generic], kind: Kind, empty: Mask, scale: int = 0) -> Column:
    """A whole column with values at the rows `ids`, none elsewhere."""
    return placed(Column(kind, data, empty, scale=scale), len(column), ids)


def _steps(column: Column, step: Decimal, ids: Ids) -> Column:
    """The lower end of the step that each number is in."""
    empty, scale = column.empty_at(ids), max(0, -int(step.as_tuple().exponent))
    width = int(step.scaleb(scale))
    if column.kind is Kind.FLOAT:
        numbers = pick(column.data, ids)
        empty = empty | ~np.isfinite(numbers)
        numbers = np.where(empty, 0.0, numbers)
        if np.abs(numbers).max(initial=0.0) / float(step) > 2.0**52:
            raise ConditionError(tr("The steps are too small for numbers this large."), tr("Take larger ones."))
        places = np.floor(numbers / float(step))
        places += numbers >= _ends(places + 1, width, scale)  # dividing may round over an end
        places -= numbers < _ends(places, width, scale)
        lower = places.astype(np.int64) * width
    else:
        data, common = pick(column.data, ids), max(scale, column.scale)
        up, wide = 10 ** (common - column.scale), width * 10 ** (common - scale)
        if largest(data) * up >= 1 << 62:
            raise ConditionError(tr("The numbers are too large for such steps."), tr("Take larger ones."))
        lower = data.astype(np.int64) * up // wide * width
    return _spread(column, ids, lower, Kind.DECIMAL if scale else Kind.INT, empty, scale)


def _ends(places: NDArray[np.float64], width: int, scale: int) -> NDArray[np.float64]:
    return places * width / 10.0**scale


def _first_letters(column: Column, count: int, ids: Ids) -> Column:
    def cut(text: object) -> Value:
        return text[:count] if isinstance(text, str) else None

    if isinstance(column, CodedText):
        short = list(dict.fromkeys(word[:count] for word in column.words))
        place = {word: code for code, word in enumerate(short)}
        codes = np.array([place[word[:count]] for word in column.words], np.int32)
        return CodedText(Kind.TEXT, codes.take(column.data), column.empty, words=tuple(short))
    values: list[Any] = [None] * len(column)
    for row, text in zip(ids.tolist(), column.values(ids), strict=True):
        values[row] = cut(text)
    return column_of(values)


def _of_moments(column: Column, part: str, ids: Ids) -> Column:
    data, empty = pick(column.data, ids).astype(np.int64), column.empty_at(ids)
    if part == "hour of day":
        return _spread(column, ids, data % DAY_US // 3_600_000_000, Kind.INT, empty)
    if part == "hour":
        return _spread(column, ids, data - data % 3_600_000_000, column.kind, empty)
    days = data if column.kind is Kind.DATE else data // DAY_US
    if part == "day":
        return _spread(column, ids, days.astype(np.int32), Kind.DATE, empty)
    if part == "weekday":
        return _words(column, ids, (days + 3) % 7, lambda number: _WEEKDAYS[number], empty)
    if part == "week":
        return _words(column, ids, (days + 3) // 7, _week, empty)
    months = days.astype("M8[D]").astype("M8[M]").astype(np.int64)
    if part == "year":
        return _spread(column, ids, months // 12 + 1970, Kind.INT, empty)
    if part == "month of year":
        return _spread(column, ids, months % 12 + 1, Kind.INT, empty)
    if part == "quarter":
        return _words(column, ids, months // 3, lambda n: f"{n // 4 + 1970:04}-Q{n % 4 + 1}", empty)
    return _words(column, ids, months, lambda n: f"{n // 12 + 1970:04}-{n % 12 + 1:02}", empty)


def _week(number: int) -> str:
    """ISO 8601: weeks begin on Monday, and the first of a year is the one with its first Thursday."""
    year, week, _ = (np.datetime64(number * 7 - 3, "D").item()).isocalendar()
    return f"{year:04}-W{week:02}"


def _words(column: Column, ids: Ids, numbers: Ids, word: Callable[[int], str], empty: Mask) -> Column:
    numbers = np.where(empty, 0, numbers)
    codes, first = codes_of(Column(Kind.INT, numbers), np.arange(len(ids)))
    words = tuple(word(int(numbers[place])) for place in first) or ("",)
    made = _spread(column, ids, codes.astype(np.int32), Kind.INT, empty)
    return CodedText(Kind.TEXT, made.data, made.empty, words=words)
