"""The same work with well-known libraries, for comparison: run by `against.py` with a Python of its own.

python sticks.py FOLDER    the folder holds the columns; times in seconds are printed as JSON
"""

from __future__ import annotations

import json
import sqlite3
import sys
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pandas as pd
import polars as pl


def best(work: Callable[[], object], times: int) -> float:
    found = []
    for _ in range(times):
        began = time.perf_counter()
        work()
        found.append(time.perf_counter() - began)
    return min(found)


def load(folder: Path) -> tuple[dict, int]:
    data = {name: np.load(folder / f"{name}.npy") for name in ("i", "f", "e", "t", "c", "s", "k")}
    words = (folder / "words.txt").read_text("utf-8").split("\n")
    texts = (folder / "texts.txt").read_text("utf-8").split("\n")
    return {**data, "words": words, "texts": texts}, len(data["i"])


def polars_times(d: dict, times: int) -> dict[str, float]:
    numbers = pl.Series("f", d["f"]).scatter(np.flatnonzero(d["e"]), None)
    frame = pl.DataFrame({
        "i": d["i"], "f": numbers, "t": pl.Series(d["t"]).cast(pl.Datetime("us")),
        "c": pl.Series(d["words"]).gather(d["c"]), "s": pl.Series(d["texts"]).gather(d["s"]), "k": d["k"],
    })  # fmt: skip
    some = (pl.col("i") > 0) & (pl.col("f") > 0.3) & (pl.col("c") != "station 0001")
    most = ~((pl.col("i") > 0) & (pl.col("f") > 3.5)) | (pl.col("c") == "station 0001")
    basic = [pl.len(), pl.col("f").sum().alias("a"), pl.col("f").mean().alias("b"), pl.col("f").min().alias("d"),
             pl.col("f").max().alias("g")]  # fmt: skip
    more = [*basic, pl.col("f").median().alias("h"), pl.col("i").n_unique().alias("j")]
    work: dict[str, Callable[[], object]] = {
        "sort integer": lambda: frame["i"].arg_sort(),
        "sort number with empties": lambda: frame["f"].arg_sort(nulls_last=True),
        "sort time": lambda: frame["t"].arg_sort(descending=True),
        "sort three keys": lambda: frame.select(pl.arg_sort_by("k", "f", "i")),
        "sort text, few values": lambda: frame["c"].arg_sort(),
        "sort text, many values": lambda: frame["s"].arg_sort(),
        "filter three conditions": lambda: frame.select(some.arg_true()),
        "filter that keeps most": lambda: frame.select(most.arg_true()),
        "group two keys": lambda: frame.group_by("c", "k").agg(basic),
        "group with median, distinct": lambda: frame.group_by("c", "k").agg(more),
        "group two keys, and each level": lambda: [
            frame.group_by("c", "k").agg(basic),
            frame.group_by("c").agg(basic),
            frame.select(basic),
        ],
        "with median, distinct, each level": lambda: [
            frame.group_by("c", "k").agg(more),
            frame.group_by("c").agg(more),
            frame.select(more),
        ],
        "text equals": lambda: frame.select((pl.col("s") == "note 777 of the survey").arg_true()),
        "text begins with": lambda: frame.select(pl.col("s").str.starts_with("note 77").arg_true()),
        "text contains, rare": lambda: frame.select(pl.col("s").str.contains("9999", literal=True).arg_true()),
        "text contains, frequent": lambda: frame.select(pl.col("s").str.contains("survey", literal=True).arg_true()),
        "text by expression": lambda: frame.select(pl.col("s").str.contains(r"7[0-9]+7 of").arg_true()),
        "values with counts, text": lambda: frame["c"].value_counts(sort=True),
        "values with counts, number": lambda: frame["k"].value_counts(sort=True),
    }
    found = {name: best(do, times) for name, do in work.items()}
    found["bytes"] = float(frame.estimated_size())
    return found


def pandas_times(d: dict, times: int) -> dict[str, float]:
    numbers = pd.Series(np.where(d["e"], np.nan, d["f"]))
    frame = pd.DataFrame({"i": d["i"], "f": numbers, "t": pd.to_datetime(d["t"], unit="us"), "k": d["k"]})
    return {
        "sort integer": best(lambda: frame["i"].argsort(kind="stable"), times),
        "sort number with empties": best(lambda: frame["f"].sort_values(kind="stable").index, times),
        "sort time": best(lambda: frame["t"].sort_values(ascending=False, kind="stable").index, times),
    }


def sqlite_times(d: dict) -> dict[str, float]:
    base = sqlite3.connect(":memory:")
    base.execute("create table b (i integer, f real, t integer)")
    numbers = [None if e else v for v, e in zip(d["f"].tolist(), d["e"].tolist(), strict=True)]
    base.executemany("insert into b values (?, ?, ?)", zip(d["i"].tolist(), numbers, d["t"].tolist(), strict=True))

    def walk(by: str) -> float:
        def go() -> None:
            cursor = base.execute(f"select rowid from b order by {by}")
            while cursor.fetchmany(10_000):
                pass

        return best(go, 1)

    found = {"sort integer": walk("i"), "sort number with empties": walk("f"), "sort time": walk("t desc")}
    base.close()
    return found


def main() -> None:
    data, rows = load(Path(sys.argv[1]))
    times = 3 if rows <= 2_000_000 else 1
    source = np.arange(rows * 8, dtype=np.int64)
    copied = source.copy()
    copy = best(lambda: np.copyto(copied, source), 3)
    found = {
        "polars": polars_times(data, times),
        "pandas": pandas_times(data, times),
        "copy": {"GB/s": rows * 128 / copy / 1e9},
    }
    if rows <= 2_000_000:
        found["sqlite3"] = sqlite_times(data)
    print(json.dumps(found))


if __name__ == "__main__":
    main()
