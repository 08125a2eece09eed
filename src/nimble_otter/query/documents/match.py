"""Filters on documents held in memory: the query operators of the document protocol (MongoDB manual, "Query and
Projection Operators"), for servers that answer no such filters themselves and for the demo's stand-in.

A condition on a path holds where any value that the path leads to fulfils it: through lists the path goes into each
item, and a list fulfils what one of its items does. A comparison holds between values of one kind only; null equals a
missing field, too.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from typing import Any

from nimble_otter.query.documents.order import MISSING, NotHere, compare, rank, type_name
from nimble_otter.table.text.patterns import tester
from nimble_otter.values import Value

Document = Mapping[str, Value]


def matches(wanted: Mapping[str, Value], document: Document) -> bool:
    """Whether a document fulfils a filter. Raises: NotHere for an operator that is not known."""
    return all(_part(name, told, document) for name, told in wanted.items())


def _part(name: str, told: Value, document: Document) -> bool:
    if name in _JOINED:
        return _JOINED[name](matches(inner, document) for inner in told)
    if name == "$comment":
        return True
    if name.startswith("$"):
        raise NotHere(name)
    return _fulfils(_values(document, name.split(".")), told)


_JOINED: dict[str, Callable[[Any], bool]] = {"$and": all, "$or": any, "$nor": lambda found: not any(found)}


def _values(value: Value, path: Sequence[str]) -> list[Value]:
    """Every value that a path leads to; MISSING where it leads nowhere."""
    if not path:
        return [value]
    if isinstance(value, Mapping):
        return _values(value[path[0]], path[1:]) if path[0] in value else [MISSING]
    if isinstance(value, list):
        found = [one for item in value if isinstance(item, Mapping) for one in _values(item, path)]
        if path[0].isdigit() and int(path[0]) < len(value):
            found += _values(value[int(path[0])], path[1:])
        return found or [MISSING]
    return [MISSING]


def _fulfils(values: list[Value], told: Value) -> bool:
    if isinstance(told, Mapping) and told and all(name.startswith("$") for name in told):
        options = str(told.get("$options", ""))
        return all(_operator(name, values, inner, options) for name, inner in told.items())
    if _is_pattern(told):
        return _any(values, _of_pattern(told))
    return _any(values, lambda value: _equal(value, told))


def _any(values: list[Value], test: Callable[[Value], bool]) -> bool:
    """Whether one of the values, or an item of one that is a list, passes."""
    return any(test(value) or (isinstance(value, list) and any(map(test, value))) for value in values)


def _equal(value: Value, told: Value) -> bool:
    if told is None:
        return value is None or value is MISSING
    return value is not MISSING and rank(value) == rank(told) and compare(value, told) == 0


def _operator(name: str, values: list[Value], told: Value, options: str) -> bool:
    if name == "$options":
        return True
    if name == "$not":
        return not _fulfils(values, told if isinstance(told, Mapping) else {"$regex": told})
    if name in ("$ne", "$nin"):
        return not _operator({"$ne": "$eq", "$nin": "$in"}[name], values, told, options)
    if name == "$exists":
        return any(value is not MISSING for value in values) is bool(told)
    if name == "$all":
        return bool(told) and all(_fulfils(values, one) for one in told)
    if name == "$elemMatch":
        items = [item for value in values if isinstance(value, list) for item in value]
        is_value = bool(told) and all(one.startswith("$") and one not in _JOINED for one in told)
        return any(_fulfils([item], told) if is_value else isinstance(item, Mapping) and matches(told, item)
                   for item in items)  # fmt: skip
    if name == "$size":
        return any(isinstance(value, list) and len(value) == told for value in values)
    test = _test(name, told, options)
    if name == "$type" and any("array" in _types(told) and isinstance(value, list) for value in values):
        return True
    return _any(values, test)


def _test(name: str, told: Value, options: str) -> Callable[[Value], bool]:
    if name == "$eq":
        return lambda value: _equal(value, told)
    if name == "$in":
        return lambda value: any(_of_pattern(one)(value) if _is_pattern(one) else _equal(value, one) for one in told)
    if name in _ORDERED:
        holds = _ORDERED[name]
        if told is None:
            return lambda value: name in ("$gte", "$lte") and (value is None or value is MISSING)
        return lambda value: value is not MISSING and rank(value) == rank(told) and holds(compare(value, told))
    if name == "$regex":
        return _of_pattern(told) if _is_pattern(told) else _pattern(str(told), options)
    if name == "$type":
        wanted = _types(told)
        return lambda value: bool(wanted & type_name(value))
    if name == "$mod":
        return lambda value: rank(value) == 2 and int(value) % int(told[0]) == told[1]
    raise NotHere(name)


_ORDERED: dict[str, Callable[[int], bool]] = {
    "$gt": lambda order: order > 0, "$gte": lambda order: order >= 0, "$lt": lambda order: order < 0,
    "$lte": lambda order: order <= 0,
}  # fmt: skip


def _types(told: Value) -> set[str]:
    return set(told) if isinstance(told, list) else {str(told)}


def _is_pattern(value: Value) -> bool:
    """Whether it is a regular expression, of Python's or of the protocol's library."""
    return hasattr(value, "pattern") and hasattr(value, "flags")


def _of_pattern(value: Value) -> Callable[[Value], bool]:
    known = ((re.IGNORECASE, "i"), (re.DOTALL, "s"), (re.MULTILINE, "m"))
    return _pattern(str(value.pattern), "".join(sign for flag, sign in known if value.flags & flag))


def _pattern(pattern: str, options: str) -> Callable[[Value], bool]:
    """Raises: ConditionError, where the pattern can't be read."""
    flags = "".join(f"(?{flag})" for flag in options if flag in "sm")
    test = tester(flags + pattern, "i" not in options)
    return lambda value: isinstance(value, str) and test(value)
