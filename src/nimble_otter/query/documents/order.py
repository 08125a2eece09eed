"""The order and the types of values in documents (MongoDB manual, "Comparison/Sort Order")."""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Mapping
from typing import Any

from nimble_otter.values import Value

MISSING: Any = object()
"""In place of a field that a document does not have."""
_KINDS: tuple[tuple[Any, int], ...] = (
    (bool, 8), ((int, float), 2), (str, 3), (Mapping, 4), (list, 5), (bytes, 6), (dt.datetime, 9), (re.Pattern, 11),
)  # fmt: skip


class NotHere(Exception):
    """A stage or an operator that is not known."""


def rank(value: object) -> int:
    """The place of a value's type in the order of types."""
    if value is MISSING:
        return 0
    if value is None:
        return 1
    found = next((place for kind, place in _KINDS if isinstance(value, kind)), 7)
    return 2 if found == 7 and hasattr(value, "to_decimal") else found


def compare(left: Value, right: Value) -> int:
    """-1, 0 or 1, by type first."""
    ranks = rank(left), rank(right)
    if ranks[0] != ranks[1]:
        return -1 if ranks[0] < ranks[1] else 1
    if ranks[0] < 2:
        return 0
    if ranks[0] == 4:
        left, right = [[k, v] for k, v in left.items()], [[k, v] for k, v in right.items()]
    if isinstance(left, list):
        for a, b in zip(left, right, strict=False):
            if found := compare(a, b):
                return found
        left, right = len(left), len(right)
    if ranks[0] == 2:
        left, right = number(left), number(right)
    if ranks[0] == 7:
        left, right = str(left), str(right)
    return int(left > right) - int(left < right)


def number(value: Value) -> Value:
    """A number that can be compared with others."""
    return value.to_decimal() if hasattr(value, "to_decimal") else value


def type_name(value: object) -> set[str]:
    """The names of a value's type; whole numbers are int and long by their size."""
    if value is MISSING:
        return set()
    if isinstance(value, bool):
        return {"bool"}
    if isinstance(value, int):
        is_long = type(value).__name__ == "Int64" or not -(1 << 31) <= value < 1 << 31
        return {"number", "long" if is_long else "int"}
    words = ((float, {"double", "number"}), (str, {"string"}), (Mapping, {"object"}), (list, {"array"}),
             (dt.datetime, {"date"}), (bytes, {"binData"}))  # fmt: skip
    if value is None:
        return {"null"}
    if hasattr(value, "to_decimal"):
        return {"decimal", "number"}
    return next((names for kind, names in words if isinstance(value, kind)), {"objectId"})
