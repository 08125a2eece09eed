"""The local steps, one file each: a frozen value with `apply`, a few words for the strip, and a plain form for the
pull file. `STEPS` finds them by their kind."""

from __future__ import annotations

from nimble_otter.pull.steps.base import Step, find_column
from nimble_otter.pull.steps.columns import ColumnsStep
from nimble_otter.pull.steps.filter import Condition, FilterStep
from nimble_otter.pull.steps.group import FigureOf, GroupStep
from nimble_otter.pull.steps.open import OpenStep
from nimble_otter.pull.steps.sort import SortBy, SortStep

STEPS: dict[str, type[Step]] = {step.kind: step for step in (FilterStep, OpenStep, GroupStep, SortStep, ColumnsStep)}

__all__ = [
    "STEPS",
    "ColumnsStep",
    "Condition",
    "FigureOf",
    "FilterStep",
    "GroupStep",
    "OpenStep",
    "SortBy",
    "SortStep",
    "Step",
    "find_column",
]
