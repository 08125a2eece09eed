"""Sending rows of 12 columns, against the usual way to write each format, and the memory that a stream takes.

    .venv/bin/python -m benchmarks.sending [ROWS]

The sticks: `csv.writer` over the same rows as Python values, `json.dumps` of each row, each value of an insert by
itself, and XlsxWriter with constant memory (a fifth of the rows; `benchmarks/sticks.sh` installs it). Ratios are best
of two, turn about. Memory is the peak of whole processes that stream a query's rows to a CSV file.
"""

from __future__ import annotations

import csv
import json
import sqlite3
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from decimal import Decimal
from pathlib import Path
from typing import Any

from benchmarks.sending_stick import NAMES, row

from nimble_otter.send import Format, Output, Rows, format_for, rows_of_view, send_to_file, settings
from nimble_otter.send.clipboard import copied
from nimble_otter.stop import NEVER
from nimble_otter.table import Field, View
from nimble_otter.table.core.build import TableBuilder
from nimble_otter.table.core.columns import Kind

STREAM = """import sys
from nimble_otter.cli import main
text = "with recursive n(i) as (select 1 union all select i + 1 from n where i < %s) "
text += "select i, i * 1.5 as f, 'note ' || i as t, i %% 7 as w from n"
code = main(["query", "--source", sys.argv[1], "--sql", text, "--send", sys.argv[2]])
peak = next(line for line in open("/proc/self/status") if line.startswith("VmHWM"))
print(code, int(peak.split()[1]) // 1024)
"""


def literal(value: Any) -> str:
    if value is None:
        return "null"
    if isinstance(value, bool):
        return "1" if value else "0"
    if isinstance(value, (int, float, Decimal)):
        return str(value)
    return "'" + str(value).replace("'", "''") + "'"


def stick_csv(rows: list[Any], path: Path) -> None:
    with path.open("w", newline="", encoding="utf-8") as stream:
        writer = csv.writer(stream)
        writer.writerow(NAMES)
        writer.writerows(rows)


def stick_json(rows: list[Any], path: Path) -> None:
    with path.open("w", encoding="utf-8") as stream:
        for values in rows:
            stream.write(json.dumps(dict(zip(NAMES, values, strict=True)), default=str) + "\n")


def stick_sql(rows: list[Any], path: Path) -> None:
    head = f"insert into t ({', '.join(NAMES)}) values\n"
    with path.open("w", encoding="utf-8") as stream:
        for start in range(0, len(rows), 500):
            lines = ["  (" + ", ".join(map(literal, values)) + ")" for values in rows[start : start + 500]]
            stream.write(head + ",\n".join(lines) + ";\n")


def write(rows: Rows, format_: Format, path: Path) -> None:
    """As the sticks: neither flushed to disk nor read back."""
    with path.open("wb") as stream:
        for _ in format_.write(rows, Output(stream, settings(format_, {}), NEVER)):
            pass


def best(work: Callable[[], object]) -> float:
    began = time.perf_counter()
    work()
    return time.perf_counter() - began


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 1_000_000
    rows = [row(n) for n in range(count)]
    builder = TableBuilder([Field(name, Kind.TEXT) for name in NAMES])
    for start in range(0, count, 10_000):
        builder.append(rows[start : start + 10_000])
    table = builder.table()
    ours = rows_of_view(table.fields, table.columns, View(table), "t")
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "out"
        for key, stick, goal in (("csv", stick_csv, 0.5), ("jsonl", stick_json, 0.3), ("sql", stick_sql, 0.5)):
            format_, own, theirs, checks = format_for(key), [], [], []
            for _ in range(2):
                theirs.append(best(lambda s=stick: s(rows, path)))
                own.append(best(lambda f=format_: write(ours, f, path)))
                checks.append(best(lambda f=format_: send_to_file(ours, f, path)))
            share, whole = min(own) / min(theirs), min(checks) / min(theirs)
            print(
                f"{key}: {share:.2f} of the stick ({min(theirs):.1f} s), goal {goal}; read back and flushed {whole:.2f}"
            )
        few = count // 5
        small = rows_of_view(table.fields, table.columns, View(table, table.columns[0].data[:few]), "t")
        own = min(best(lambda: send_to_file(small, format_for("xlsx"), path)) for _ in range(2))
        python = Path(__file__).parents[1] / ".bench" / "bin" / "python"
        script = Path(__file__).with_name("sending_stick.py")
        stick = min(float(subprocess.check_output([python, script, str(few)])) for _ in range(2))
        print(f"xlsx: {own / stick:.3f} of XlsxWriter ({stick:.1f} s for {few} rows), goal .12")
        thin = rows_of_view(table.fields[:10], table.columns[:10], View(table, table.columns[0].data[:100_000]), "t")
        print(f"a million cells to the clipboard: {best(lambda: copied([thin])):.2f} s, goal 2")
        base = Path(folder) / "empty.sqlite"
        sqlite3.connect(base).execute("create table x (a)").connection.close()
        for many in (1_000_000, 10_000_000):
            command = [sys.executable, "-c", STREAM % many, str(base), f"{path}.csv"]
            said = subprocess.check_output(command, text=True)
            print(f"streaming {many} rows: peak {said.split()[-1]} MB")


if __name__ == "__main__":
    main()
