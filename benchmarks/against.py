"""The table engine against well-known libraries on the same columns, in one run.

    benchmarks/sticks.sh                     makes an environment for them in .bench (once)
    .venv/bin/python -m benchmarks.against [ROWS]

What counts is our time as a share of theirs. All use the cores they find, the engine those that the window gives it.
Groups are always made with the figures of each level and the totals; the stick is one level, "each level" all three.
"""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
from pathlib import Path

import numpy as np
from benchmarks.engine import best

from nimble_otter.desktop.runtime.jobs import JobToken
from nimble_otter.memory import settle
from nimble_otter.query.local.conditions import parse_condition
from nimble_otter.table import Column, Field, Kind, Table, View
from nimble_otter.table.core.build import column_of
from nimble_otter.table.ops.filter import filter_view
from nimble_otter.table.ops.group import Aggregate, group_view
from nimble_otter.table.ops.group import AggregateFunction as Agg
from nimble_otter.table.ops.profile import value_counts
from nimble_otter.table.ops.search import Search, find_rows
from nimble_otter.table.ops.sort import SortKey, sort_view

STOP = JobToken()
PYTHON = Path(__file__).parent.parent / ".bench" / "bin" / "python"
GOALS = {
    "sort integer": 0.20, "sort number with empties": 0.20, "sort time": 0.20, "sort three keys": 0.15,
    "sort text, many values": 0.30, "sort text, few values": 0.15, "filter three conditions": 0.60,
    "filter that keeps most": 0.90, "group two keys": 0.15, "group with median, distinct": 0.20,
    "group two keys, and each level": 0.15, "with median, distinct, each level": 0.20, "text equals": 0.4,
    "text begins with": 0.25, "text contains, rare": 0.15, "text contains, frequent": 0.6, "text by expression": 1.0,
    "values with counts, text": 0.5, "values with counts, number": 0.5,
}  # fmt: skip


def make(rows: int, folder: Path) -> Table:
    """Columns as the engine holds them, and the same as files."""
    rng = np.random.default_rng(1)
    words = [f"station {n:04}" for n in range(900)]
    texts = [f"note {n} of the survey" for n in range(rows * 3 // 4)]
    data = {
        "i": rng.integers(-(10**12), 10**12, rows), "f": rng.normal(2, 1, rows), "e": rng.random(rows) < 0.05,
        "t": rng.integers(0, 10**15, rows), "c": rng.integers(0, 900, rows).astype(np.int32),
        "s": rng.integers(0, len(texts), rows), "k": rng.integers(0, 40, rows),
    }  # fmt: skip
    for name, array in data.items():
        np.save(folder / f"{name}.npy", array)
    (folder / "words.txt").write_text("\n".join(words), "utf-8")
    (folder / "texts.txt").write_text("\n".join(texts), "utf-8")
    lookup = np.array(texts, dtype=object)
    coded = column_of(words * 2).take(data["c"].astype(np.int64))
    columns = {
        "i": Column(Kind.INT, data["i"]), "f": Column(Kind.FLOAT, np.where(data["e"], 0.0, data["f"]), data["e"]),
        "t": Column(Kind.TIME, data["t"]), "c": coded, "s": column_of(lookup[data["s"]].tolist()),
        "k": Column(Kind.INT, data["k"]),
    }  # fmt: skip
    return Table(tuple(Field(n, c.kind) for n, c in columns.items()), tuple(columns.values()), rows)


def ours(table: Table, times: int) -> dict[str, float]:
    view = View(table)

    def kept(text: str) -> float:
        node = parse_condition(text, table)
        return best(lambda: filter_view(view, node, STOP), times)

    figures = [
        Aggregate(Agg.COUNT),
        *(Aggregate(f, 1) for f in (Agg.SUM, Agg.MEAN, Agg.MIN, Agg.MAX)),
    ]
    more = [*figures, Aggregate(Agg.MEDIAN, 1), Aggregate(Agg.DISTINCT, 0)]
    keys = {
        "sort integer": [SortKey(0)], "sort number with empties": [SortKey(1)], "sort time": [SortKey(2, True)],
        "sort three keys": [SortKey(5), SortKey(1), SortKey(0)], "sort text, few values": [SortKey(3)],
        "sort text, many values": [SortKey(4)],
    }  # fmt: skip
    found = {name: best(lambda by=by: sort_view(view, by, STOP), times) for name, by in keys.items()}
    basic, wide = (best(lambda f=f: group_view(view, [3, 5], f, STOP), times) for f in (figures, more))
    return found | {
        "filter three conditions": kept("i > 0 and f > 0.3 and c <> 'station 0001'"),
        "filter that keeps most": kept("not (i > 0 and f > 3.5) or c = 'station 0001'"),
        "group two keys": basic, "group two keys, and each level": basic,
        "group with median, distinct": wide, "with median, distinct, each level": wide,
        "text equals": kept("s = 'note 777 of the survey'"), "text begins with": kept("s like 'note 77%'"),
        "text contains, rare": kept("s like '%9999%'"), "text contains, frequent": kept("s like '%survey%'"),
        "text by expression": kept("s ~ '7[0-9]+7 of'"),
        "values with counts, text": best(lambda: value_counts(view, 3, stop=STOP), times),
        "values with counts, number": best(lambda: value_counts(view, 5, stop=STOP), times),
    }  # fmt: skip


def main() -> None:
    settle()
    rows = int(sys.argv[1]) if len(sys.argv) > 1 else 1_000_000
    with tempfile.TemporaryDirectory() as name:
        table = make(rows, Path(name))
        mine = ours(table, 3 if rows <= 2_000_000 else 1)
        said = subprocess.run([PYTHON, Path(__file__).parent / "sticks.py", name], stdout=subprocess.PIPE, check=True)
    theirs = json.loads(said.stdout)
    print(f"{rows} rows; copying memory {theirs['copy']['GB/s']:.1f} GB/s")
    for work, spent in mine.items():
        shares = [f"{spent / times[work]:.2f} of {who}" for who, times in theirs.items() if work in times]
        print(f"{work}: {spent * 1000:.1f} ms, {', '.join(shares)} (goal {GOALS[work]} of polars)")
    size = table.nbytes / theirs["polars"]["bytes"]
    print(f"memory: {table.nbytes / rows:.0f} bytes a row, {size:.2f} of polars (goal 1.2)")
    view = View(table)
    wide = View(Table(table.fields * 2, table.columns * 2, rows))
    for text, before in (("7", ""), ("77", "7"), ("s", ""), ("su", "s")):
        within = find_rows(wide, range(12), Search(before), STOP) if before else None
        spent = best(lambda t=text, w=within: find_rows(wide, range(12), Search(t), STOP, w), 2)
        print(f"find {text!r} in 12 columns{' after ' + before if before else ''}: {spent * 1000:.0f} ms")
    assert len(view) == rows


if __name__ == "__main__":
    main()
