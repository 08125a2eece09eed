"""What a service answered, as tables: JSON and CSV taken apart, and written into a database file of SQLite's, where
they are asked like any other rows. Types are those that every value of a column fits; nothing of a value is lost.
"""

from __future__ import annotations

import csv
import json
import math
import re
import sqlite3
from collections.abc import Iterator, Mapping, Sequence
from contextlib import closing
from dataclasses import dataclass
from decimal import Decimal
from pathlib import Path

from nimble_otter.errors import ConnectError
from nimble_otter.sources.sqlite_file import quote_name
from nimble_otter.table.core.columns import Field, Kind, distinct_names
from nimble_otter.table.text.csv_lines import csv_lines
from nimble_otter.translation import tr
from nimble_otter.values import Value

MOST_COLUMNS = 1900
"""As many as a table of SQLite's has, with room."""
_CHARSET = re.compile(r"charset=\"?([\w.:-]+)", re.I)
_WHOLE = re.compile(r"-?(?:0|[1-9]\d{0,17})")
_NUMBER = re.compile(r"-?(?:0|[1-9]\d*)(?:\.\d+)?(?:[eE][+-]?\d{1,3})?")
_DAY = re.compile(r"\d{4}-\d\d-\d\d")
_TIME = re.compile(r"\d{4}-\d\d-\d\d[ T]\d\d:\d\d(?::\d\d(?:\.\d{1,6})?)?")


@dataclass(frozen=True, slots=True)
class Rows:
    """A table: the names of its columns and its rows, each as long."""

    names: tuple[str, ...]
    rows: Sequence[Sequence[Value]]


def read_answer(
    data: bytes, content_type: str, path: str, at: str = "", following: str = ""
) -> tuple[dict[str, Rows], Value]:
    """The tables of an answer by their names ("" is that of the whole), and what stands where the next page is named:
    None where that is nowhere. `at` and `following` are the paths to the rows and to that name in JSON, with dots
    between. Raises: ConnectError, where there are no rows."""
    text = _decoded(data, content_type)
    if path.endswith((".csv", ".tsv")) or "csv" in content_type or "tab-separated" in content_type:
        return {"": _of_lines(text, "\t" if path.endswith(".tsv") or "tab-sep" in content_type else "")}, None
    try:
        whole = parse_json(text)
    except RecursionError as problem:
        raise ConnectError(tr("The answer is nested too deeply."), tr("Check the address.")) from problem
    except ValueError as problem:
        lines = [line for line in text.splitlines() if line.strip()]
        try:
            whole = [parse_json(line) for line in lines]  # JSON Lines
        except ValueError:
            if "\n" in text and not text.lstrip().startswith(("<", "{", "[")):
                return {"": _of_lines(text, "")}, None
            raise ConnectError(
                tr(
                    "The answer is neither JSON nor CSV ({start}).",
                    start=content_type.partition(";")[0] or tr("of no type"),
                ),
                tr("Check the address in a browser."),
            ) from problem
    return _of_json(_value_at(whole, at) if at else whole, at), _named(whole, following)


def together(parts: Sequence[Rows]) -> Rows:
    """The rows of all pages, with the columns of any."""
    names = tuple(dict.fromkeys(name for part in parts for name in part.names))
    if all(part.names == names for part in parts):
        return Rows(names, [row for part in parts for row in part.rows])
    rows: list[list[Value]] = []
    for part in parts:
        places = {name: at for at, name in enumerate(part.names)}
        rows += [[row[places[name]] if name in places else None for name in names] for row in part.rows]
    return Rows(names, rows)


def parse_json(text: str) -> Value:
    """JSON with numbers that a double would change as texts. Raises: ValueError, RecursionError."""
    return json.loads(text, parse_float=_float, parse_constant=str)


def _float(text: str) -> float | str:
    """A double, where that is what is written; else its text."""
    number = float(text)
    return number if math.isfinite(number) and Decimal(text) == Decimal(repr(number)) else text


def _named(whole: Value, path: str) -> Value:
    try:
        return _value_at(whole, path) if path else None
    except ConnectError:  # the last page has none
        return None


def _value_at(whole: Value, path: str) -> Value:
    """What stands at a path of names and numbers with dots between. Raises: ConnectError."""
    for name in path.split("."):
        if isinstance(whole, Mapping) and name in whole:
            whole = whole[name]
        elif isinstance(whole, list) and name.isdigit() and int(name) < len(whole):
            whole = whole[int(name)]
        else:
            raise ConnectError(
                tr("The answer has no {path}.", path=path), tr("Check “at” behind the # of the address.")
            )
    return whole


def write_tables(file: Path, tables: Mapping[str, Rows]) -> None:
    """Write them into a new database file. Raises: ConnectError, where one has too many columns."""
    with closing(sqlite3.connect(file, isolation_level=None)) as connection:
        connection.execute("pragma synchronous = off")
        connection.execute("begin")
        for name, table in tables.items():
            if len(table.names) > MOST_COLUMNS:
                raise ConnectError(
                    tr("The answer has {names_count} columns.", names_count=len(table.names)),
                    tr("At most {most_columns} are taken.", most_columns=MOST_COLUMNS),
                )
            columns = list(zip(*table.rows, strict=True)) if table.rows else [()] * len(table.names)
            typed = [_typed(column) for column in columns]
            fields = ", ".join(f"{quote_name(n)} {kind}" for n, (kind, _) in zip(table.names, typed, strict=True))
            connection.execute(f"create table {quote_name(name)} ({fields})")
            marks = ", ".join("?" * len(table.names))
            rows = zip(*(values for _, values in typed), strict=True)
            connection.executemany(f"insert into {quote_name(name)} values ({marks})", rows)
        connection.execute("commit")


def _decoded(data: bytes, content_type: str) -> str:
    match = _CHARSET.search(content_type)
    for name in (["utf-16"] if data[:2] in (b"\xff\xfe", b"\xfe\xff") else []) + ["utf-8-sig"]:
        try:
            return data.decode(name)
        except UnicodeDecodeError:
            continue
    try:
        return data.decode(match[1] if match else "cp1252", "replace")
    except LookupError:
        return data.decode("cp1252", "replace")


def _of_lines(text: str, mark: str) -> Rows:
    try:
        lines = list(csv_lines(text, mark))
    except csv.Error as problem:
        raise ConnectError(
            tr("The CSV can't be read: {problem}.", problem=problem), tr("Check the address.")
        ) from problem
    if not lines:
        raise ConnectError(tr("The answer has no line of names."), tr("Check the address."))
    names, width = lines[0], len(lines[0])
    for number, line in enumerate(lines[1:], 2):
        if len(line) > width:
            raise ConnectError(
                tr(
                    "Line {number} has {line_count} values, the first has {width} names.",
                    number=number,
                    line_count=len(line),
                    width=width,
                ),
                tr("Ask who made it."),
            )
    return Rows(_names([name or "" for name in names]), [line + [None] * (width - len(line)) for line in lines[1:]])


def _of_json(found: Value, at: str) -> dict[str, Rows]:
    if isinstance(found, Mapping):
        lists = {name: own for name, own in found.items() if _is_rows(own)}
        if len(lists) == 1:
            return {"": _of_objects(next(iter(lists.values())))}
        if lists:
            return {str(name): _of_objects(own) for name, own in lists.items()}
        found = [found]
    if isinstance(found, list) and found and all(isinstance(each, list) for each in found):
        width = max(map(len, found))
        rows = [[*each, *[None] * (width - len(each))] for each in found]
        return {"": Rows(tuple(f"column {n}" for n in range(1, width + 1)), rows)}
    if not isinstance(found, list):
        raise ConnectError(
            tr("At {at} of the answer there are no rows.", at=at or tr("the top")),
            tr("Say where they are: #at=data.items"),
        )
    return {"": _of_objects(found)}


def _is_rows(value: Value) -> bool:
    return isinstance(value, list) and bool(value) and all(isinstance(each, Mapping) for each in value)


def _of_objects(objects: Sequence[Value]) -> Rows:
    if not all(isinstance(each, Mapping) for each in objects):
        return Rows(("value",), [[each] for each in objects])
    names = list(dict.fromkeys(name for each in objects for name in each)) or ["value"]
    return Rows(_names(names), [[each.get(name) for name in names] for each in objects])


def _names(names: Sequence[object]) -> tuple[str, ...]:
    """Names that differ, also but for letters' case, as SQL takes them."""
    plain = (str(name).replace("\0", "").strip() for name in names)
    return tuple(f.name for f in distinct_names(Field(n or f"column {k}", Kind.TEXT) for k, n in enumerate(plain, 1)))


def _typed(column: Sequence[Value]) -> tuple[str, Iterator[Value]]:
    """The declared type of a column and its values as they are stored."""
    types = {type(value) for value in column} - {type(None)}
    if types == {bool}:
        return "boolean", iter(column)
    if types == {int} and all(value is None or -(1 << 63) <= value < 1 << 63 for value in column):
        return "integer", iter(column)
    if types and types <= {int, float}:
        if all(value is None or abs(value) < 1 << 53 for value in column):
            return "real", iter(column)
        return "", (value if value is None or abs(value) < 1 << 63 else str(value) for value in column)
    if types == {str}:
        for kind, pattern, read in (
            ("integer", _WHOLE, int), ("real", _NUMBER, float), ("date", _DAY, str), ("timestamp", _TIME, str),
        ):  # fmt: skip
            if all(value is None or pattern.fullmatch(value) for value in column) and (
                kind != "real" or all(value is None or _is_kept(value) for value in column)
            ):
                return kind, (None if value is None else read(value) for value in column)
        return "text", (None if value is None else _storable(value) for value in column)
    if types and types <= {dict, list}:
        return "json", (None if value is None else json.dumps(value, ensure_ascii=False) for value in column)
    return "", (json.dumps(value, ensure_ascii=False) if isinstance(value, (dict, list)) else value
                if not isinstance(value, int) or abs(value) < 1 << 63 else str(value) for value in column)  # fmt: skip


def _storable(text: str) -> str:
    """The text, with a mark in place of half characters, which no database holds."""
    return text if text.isascii() else text.encode("utf-8", "replace").decode()


def _is_kept(text: str) -> bool:
    """Whether a number in text is the same once it is a double: identifiers and long decimals stay texts."""
    digits = re.sub(r"[eE].*|[-.]", "", text).lstrip("0")
    return len(digits) <= 15 and isinstance(_float(text), float)
