"""Series: going on with what the first values begin."""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Sequence
from decimal import Decimal

from nimble_otter.table import MISSING
from nimble_otter.values import Value


def series(values: Sequence[object]) -> list[object]:
    """The values with those behind the first two made to go on: by their difference (numbers, days, times), by one or a
    day where there is only one to begin with; texts that end in a number count on; others are repeated."""
    filled = [value for value in values[:2] if value is not None and value is not MISSING]
    if not filled:
        return list(values)
    first = filled[0]
    step = _step(first, filled[1] if len(filled) > 1 and len(values) > 2 else None)
    begin = 2 if len(filled) > 1 and len(values) > 2 else 1
    items = list(values[:begin])
    for number in range(begin, len(values)):
        items.append(_after(first, step, number))
    return items


def _step(first: Value, second: Value) -> Value:
    if isinstance(first, bool):
        return None
    if isinstance(first, str):
        ends = [re.search(r"\d+$", text) for text in (first, second) if isinstance(text, str)]
        if ends and all(ends) and (len(ends) == 1 or _stem(first) == _stem(second)):
            numbers = [int(end[0]) for end in ends if end is not None]
            return numbers[1] - numbers[0] if len(numbers) == 2 else 1
        return None
    same = second is not None and type(second) is type(first)
    if isinstance(first, (int, float, Decimal)):
        one = type(first)(1)
        return _exact(second) - _exact(first) if same else one
    if isinstance(first, dt.date):
        return second - first if same and isinstance(second, dt.date) else dt.timedelta(days=1)
    return None


def _after(first: Value, step: Value, number: int) -> Value:
    if step is None:
        return first
    if isinstance(first, str):
        digits = re.search(r"\d+$", first)
        assert digits is not None
        return f"{_stem(first)}{int(digits[0]) + step * number:0{len(digits[0])}}"
    if isinstance(first, float):
        return float(_exact(first) + Decimal(step) * number)
    return first + step * number


def _exact(value: object) -> Value:
    """Floats by their written digits, so that 0.1 goes on with 0.2 and 0.3."""
    return Decimal(repr(value)) if isinstance(value, float) else value


def _stem(text: str) -> str:
    return re.sub(r"\d+$", "", text)
