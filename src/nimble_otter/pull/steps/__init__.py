"""The local steps, one file each: a frozen value with `apply`, a few words for the strip, and a plain form for the
pull file. `STEPS` finds them by their kind."""

from __future__ import annotations

from nimble_otter.pull.steps.base import LooksBack, Step, TakesParameters, TakesRows, find_column
from nimble_otter.pull.steps.check import CheckStep
from nimble_otter.pull.steps.check_rules import Checked, CheckLine, Rule
from nimble_otter.pull.steps.columns import ColumnsStep
from nimble_otter.pull.steps.compare import CompareStep
from nimble_otter.pull.steps.compute import Computed, ComputeStep
from nimble_otter.pull.steps.filter import Condition, FilterStep
from nimble_otter.pull.steps.group import FigureOf, GroupStep, KeyBy, group_keys
from nimble_otter.pull.steps.join import AppendStep, JoinStep
from nimble_otter.pull.steps.open import OpenStep
from nimble_otter.pull.steps.reshape import DistinctStep, PivotStep, SampleStep, TransposeStep, UnpivotStep
from nimble_otter.pull.steps.sort import SortBy, SortStep
from nimble_otter.pull.steps.top import TopStep

_ALL = (
    FilterStep, OpenStep, JoinStep, AppendStep, CompareStep, ComputeStep, TopStep, DistinctStep, SampleStep, GroupStep,
    PivotStep, UnpivotStep, TransposeStep, SortStep, ColumnsStep, CheckStep,
)  # fmt: skip
STEPS: dict[str, type[Step]] = {step.kind: step for step in _ALL}

__all__ = [
    "STEPS",
    "AppendStep",
    "CheckLine",
    "CheckStep",
    "Checked",
    "ColumnsStep",
    "CompareStep",
    "ComputeStep",
    "Computed",
    "Condition",
    "DistinctStep",
    "FigureOf",
    "FilterStep",
    "GroupStep",
    "JoinStep",
    "KeyBy",
    "LooksBack",
    "OpenStep",
    "PivotStep",
    "Rule",
    "SampleStep",
    "SortBy",
    "SortStep",
    "Step",
    "TakesParameters",
    "TakesRows",
    "TopStep",
    "TransposeStep",
    "UnpivotStep",
    "find_column",
    "group_keys",
]
