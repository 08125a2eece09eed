"""sqlglot without its cost at start-up: the package is imported when the first of its names is used."""

from __future__ import annotations

import importlib
import logging
import re
from typing import TYPE_CHECKING, Any


class LazyModule:
    """Stands for a module until one of its names is asked for."""

    def __init__(self, name: str) -> None:
        self._name = name

    def __getattr__(self, name: str) -> object:
        module = importlib.import_module(self._name)
        if self._name.startswith("sqlglot"):
            keep_intervals_whole()
        found = getattr(module, name)
        setattr(self, name, found)
        return found


class _WholeIntervals:
    """The pattern by which sqlglot (30.30) takes a number and its unit out of the text of an interval. It passes over
    whatever else stands there: of '1 day 02:00:00' it leaves '1 day', of '1 day ago' too. Here a text is taken apart
    only where nothing of it is lost."""

    def __init__(self, pattern: re.Pattern[str]) -> None:
        self._pattern = pattern

    def findall(self, text: str) -> list[tuple[str, str]]:
        """Number and unit; where there is more, so many pairs that the text is left as it is."""
        pairs: list[tuple[str, str]] = self._pattern.findall(text)
        return pairs if len(pairs) != 1 or self._pattern.fullmatch(text) else [*pairs, ("", "")]


def keep_intervals_whole() -> None:
    """Once sqlglot is loaded: what it parses keeps the whole text of an interval."""
    expressions: Any = importlib.import_module("sqlglot.expressions")
    if isinstance(expressions.INTERVAL_STRING_RE, re.Pattern):
        expressions.INTERVAL_STRING_RE = _WholeIntervals(expressions.INTERVAL_STRING_RE)


logging.getLogger("sqlglot").setLevel(logging.ERROR)  # what it can't parse is told by us, where it matters
if TYPE_CHECKING:
    import sqlglot
    from sqlglot import expressions as exp
    from sqlglot import schema as schemas
    from sqlglot.optimizer import qualify as qualifying
else:
    exp = LazyModule("sqlglot.expressions")
    sqlglot = LazyModule("sqlglot")
    qualifying = LazyModule("sqlglot.optimizer.qualify")
    schemas = LazyModule("sqlglot.schema")

__all__ = ["LazyModule", "exp", "qualifying", "schemas", "sqlglot"]
