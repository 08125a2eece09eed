"""sqlglot without its cost at start-up: the package is imported when the first of its names is used."""

from __future__ import annotations

import importlib
import logging
from typing import TYPE_CHECKING


class LazyModule:
    """Stands for a module until one of its names is asked for."""

    def __init__(self, name: str) -> None:
        self._name = name

    def __getattr__(self, name: str) -> object:
        found = getattr(importlib.import_module(self._name), name)
        setattr(self, name, found)
        return found


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
