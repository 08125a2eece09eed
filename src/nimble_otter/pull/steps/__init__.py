"""The local steps, one file each: a frozen value with `apply`, a few words for the strip, and a plain form for the
pull file. `STEPS` finds them by their kind."""

from __future__ import annotations

from nimble_otter.pull.steps.base import Step, TakesParameters, find_column
from nimble_otter.pull.steps.columns import ColumnsStep
from nimble_otter.pull.steps.compute import Computed, ComputeStep
from nimble_otter.pull.steps.filter import Condition, FilterStep
from nimble_otter.pull.steps.group import FigureOf, GroupStep, KeyBy, group_keys
from nimble_otter.pull.steps.open import OpenStep
from nimble_otter.pull.steps.sort import SortBy, SortStep
from nimble_otter.pull.steps.top import TopStep

_ALL = (FilterStep, OpenStep, ComputeStep, TopStep, GroupStep, SortStep, ColumnsStep)
STEPS: dict[str, type[Step]] = {step.kind: step for step in _ALL}

__all__ = [
    "STEPS",
    "ColumnsStep",
    "ComputeStep",
    "Computed",
    "Condition",
    "FigureOf",
    "FilterStep",
    "GroupStep",
    "KeyBy",
    "OpenStep",
    "SortBy",
    "SortStep",
    "Step",
    "TakesParameters",
    "TopStep",
    "find_column",
    "group_keys",
]
