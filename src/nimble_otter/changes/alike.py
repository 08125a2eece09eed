"""Whether two values as the source stores them are one: `alike` for what was typed, pulled or given against what a
server says, `identical` for two readings of the same server."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping
from contextlib import suppress
from decimal import Decimal, InvalidOperation

from nimble_otter.table.text.show import plain
from nimble_otter.values import Value


def alike(a: object, b: object) -> bool:
    """Numbers by value, the parts of lists and objects likewise, everything else to the letter."""
    if a is None or b is None:
        return a is b
    if isinstance(a, (list, tuple)) and isinstance(b, (list, tuple)):
        return len(a) == len(b) and all(map(alike, a, b))
    if isinstance(a, Mapping) and isinstance(b, Mapping):
        return list(a) == list(b) and all(alike(a[name], b[name]) for name in a)
    if isinstance(a, float) and isinstance(b, float):
        return a == b or (a != a and b != b)
    if a == b and isinstance(a, str) is isinstance(b, str):
        return True
    if isinstance(a, str) and isinstance(b, str) and a[:1].isdigit() and b[:1].isdigit():
        with suppress(ValueError):  # times with more or fewer zeros at their end
            return dt.datetime.fromisoformat(a) == dt.datetime.fromisoformat(b)
    if isinstance(a, bytes) or isinstance(b, bytes):
        return False
    if plain(a) == plain(b):
        return True
    left, right = _number(a), _number(b)
    return left is not None and left == right


def identical(a: object, b: object) -> bool:
    """In type and content; not-a-number is itself."""
    if isinstance(a, (list, tuple)) and isinstance(b, (list, tuple)):
        return len(a) == len(b) and all(map(identical, a, b))
    if isinstance(a, float) and isinstance(b, float):
        return repr(a) == repr(b)
    return type(a) is type(b) and bool(a == b)


def _number(value: Value) -> Decimal | None:
    with suppress(InvalidOperation, ValueError, TypeError):
        return Decimal(str(value) if isinstance(value, float) else value)
    return None
