"""Every operation over every kind, each line as multiples of its own median: what stands out is a slow path.

    .venv/bin/python -m benchmarks.matrix [ROWS]

The values, operations and kinds are those of tests/unit/test_line_speed.py, where calls are counted. The time is the
best of three.
"""

from __future__ import annotations

import sys
import time
from statistics import median

from tests.unit.test_line_speed import EXPRESSION, MAKE, OPERATIONS, WHERE, table_of

from nimble_otter.errors import OtterError
from nimble_otter.table.core.columns import View

TIMES, LIMIT = 3, 3.0


def main(rows: int) -> None:
    """Print the matrix, and the cells over the limit."""
    kinds = [kind for kind in MAKE if kind not in ("bytes", "lists", "objects")]
    views = {kind: View(table_of(kind, rows)) for kind in kinds}
    print(f"{rows:,} rows\n{'':22}{'ms':>7} " + " ".join(f"{kind[:9]:>9}" for kind in kinds))
    slow = []
    for name, work in OPERATIONS.items():
        took: dict[str, float] = {}
        for kind in kinds:
            if (name == "filter" and kind not in WHERE) or (name == "compute" and kind not in EXPRESSION):
                continue
            try:
                took[kind] = min(_timed(work, views[kind], kind) for _ in range(TIMES))
            except (OtterError, AssertionError):  # a figure of numbers alone, a format that needs a file
                continue
        if len(took) > 1:
            middle = median(took.values())
            line = [f"{took[kind] / middle:9.2f}" if kind in took else f"{'-':>9}" for kind in kinds]
            print(f"{name:22}{middle * 1e3:7.1f} " + " ".join(line), flush=True)
            slow += [f"{name} of {kind}: {t / middle:.1f}" for kind, t in took.items() if t > LIMIT * middle]
    print(f"over {LIMIT:g} times the median: {'; '.join(slow) or 'none'}")


def _timed(work: object, view: View, kind: str) -> float:
    begin = time.perf_counter()
    work(view, kind)  # type: ignore[operator]
    return time.perf_counter() - begin


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 300_000)
