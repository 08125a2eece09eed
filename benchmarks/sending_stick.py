"""Rows to send, and the time that XlsxWriter with constant memory takes for them: run by `sending.py` with a Python of
its own. python sending_stick.py ROWS    prints seconds."""

from __future__ import annotations

import datetime as dt
import sys
import tempfile
import time
from decimal import Decimal
from pathlib import Path
from typing import Any

NAMES = ["id", "a", "level_m", "amount", "taken_at", "on", "station", "note", "e", "ok", "g", "quality"]


def row(n: int) -> tuple[Any, ...]:
    at = dt.datetime(2031, 1, 1) + dt.timedelta(seconds=n)
    return (
        n, n * 7 % 97, n / 3.7, Decimal(n).scaleb(-2), at, at.date(), f"station {n % 42}", f"note {n}, read by hand",
        n % 5 or None, n % 2 == 0, n * 1.5, "good",
    )  # fmt: skip


def main() -> None:
    import xlsxwriter

    rows = [row(n) for n in range(int(sys.argv[1]))]
    with tempfile.TemporaryDirectory() as folder:
        began = time.perf_counter()
        book = xlsxwriter.Workbook(str(Path(folder) / "a.xlsx"), {"constant_memory": True})
        sheet = book.add_worksheet()
        times = book.add_format({"num_format": "yyyy-mm-dd hh:mm:ss"})
        days = book.add_format({"num_format": "yyyy-mm-dd"})
        sheet.write_row(0, 0, NAMES)
        for at, values in enumerate(rows, 1):
            for place, value in enumerate(values):
                if type(value) is dt.datetime:
                    sheet.write_datetime(at, place, value, times)
                elif type(value) is dt.date:
                    sheet.write_datetime(at, place, value, days)
                else:
                    sheet.write(at, place, value)
        book.close()
        print(time.perf_counter() - began)


if __name__ == "__main__":
    main()
