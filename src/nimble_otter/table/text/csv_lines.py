"""Lines of separated values, as files and services have them (RFC 4180), whatever stands between the values."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator

_MARKS = ",;\t|"
_LOOKED_AT = 20_000


def csv_lines(text: str, mark: str = "") -> Iterator[list[str | None]]:
    """The lines that hold something, an empty value as None. Without a `mark` between the values it is guessed from how
    the text begins. Raises: csv.Error."""
    if not mark:
        try:
            mark = csv.Sniffer().sniff(text[:_LOOKED_AT], _MARKS).delimiter
        except csv.Error:
            mark = ","
    for line in csv.reader(io.StringIO(text, newline=""), delimiter=mark):
        if line:
            yield [value or None for value in line]
