"""sqlglot without its cost at start-up: the package is imported when the first of its names is used."""

from __future__ import annotations

import importlib
import logging
from typing import Any


class LazyModule:
    """Stands for a module until one of its names is asked for."""

    def __init__(self, name: str) -> None:
        self._name = name

    def __getattr__(self, name: str) -> Any:
        found = getattr(importlib.import_module(self._name), name)
        setattr(self, name, found)
        return found


logging.getLogger("sqlglot").setLevel(logging.ERROR)  # what it can't parse is told by us, where it matters
exp: Any = LazyModule("sqlglot.expressions")
sqlglot: Any = LazyModule("sqlglot")
qualifying: Any = LazyModule("sqlglot.optimizer.qualify")
schemas: Any = LazyModule("sqlglot.schema")
