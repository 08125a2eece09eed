"""Rows of files that stand beside pulls, such as deliveries: CSV, JSON, JSON Lines, workbooks, Parquet."""

from __future__ import annotations

import csv
import json
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path

from nimble_otter.errors import ConditionError, ConnectError
from nimble_otter.sources.source import file_driver
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table import MISSING, Field, Kind, Table
from nimble_otter.table.core.build import TableBuilder
from nimble_otter.table.core.columns import distinct_names
from nimble_otter.table.text.csv_lines import csv_lines
from nimble_otter.translation import tr
from nimble_otter.values import Value

SUFFIXES = (".csv", ".tsv", ".json", ".jsonl", ".ndjson", ".xlsx", ".parquet")
_BATCH = 20_000
_ENCODINGS = (("utf-16", (b"\xff\xfe", b"\xfe\xff")), ("utf-8-sig", (b"",)))


def is_rows_file(text: str) -> bool:
    """Whether a text names a file of rows (a workbook's sheet follows behind a #), rather than a pull."""
    return Path(text.partition("#")[0]).suffix.lower() in SUFFIXES


def read_rows(text: str, stop: StopToken = NEVER) -> Table:
    """All rows of such a file; of texts all columns are text, empty ones NULL. Raises: ConditionError, Stopped."""
    name, _, sheet = text.partition("#")
    path = Path(name).expanduser()
    try:
        state = path.stat()
        mark = path, sheet, state.st_mtime_ns, state.st_size
        for known, table in _KEPT:
            if known == mark:
                return table
        table = _read(path, sheet, stop)
        _KEPT[:] = [(mark, table)]
        return table
    except OSError as problem:
        raise ConditionError(
            tr("{path} can't be read: {strerror}.", path=path, strerror=problem.strerror or problem),
            tr("Choose another file."),
        ) from problem
    except (ValueError, KeyError, csv.Error, RecursionError) as problem:
        raise ConditionError(
            tr("{path} can't be read: {problem}.", path=path, problem=problem), tr("Choose another file.")
        ) from problem


_KEPT: list[tuple[tuple[Path, str, int, int], Table]] = []
"""The file read last, as a course is often taken again."""


def _read(path: Path, sheet: str, stop: StopToken) -> Table:
    suffix = path.suffix.lower()
    if suffix in (".csv", ".tsv"):
        return _of_lines(_csv_lines(path, "\t" if suffix == ".tsv" else ""), stop)
    if suffix == ".xlsx":
        return _of_lines(_sheet_lines(path, sheet), stop)
    if suffix == ".parquet":
        return _of_parquet(path)
    return _of_objects(_objects(path, suffix == ".json"), stop)


def _csv_lines(path: Path, mark: str) -> Iterator[list[str | None]]:
    with path.open("rb") as file:
        head = file.read(4)
    encoding = next(name for name, starts in _ENCODINGS if any(head.startswith(start) for start in starts))
    try:
        text = path.read_text(encoding)
    except UnicodeDecodeError:
        text = path.read_text("cp1252", errors="replace")
    yield from csv_lines(text, mark)


def _sheet_lines(path: Path, sheet: str) -> Iterator[Sequence[object]]:
    import zipfile

    from openpyxl import load_workbook
    from openpyxl.utils.exceptions import InvalidFileException

    try:
        book = load_workbook(path, read_only=True, data_only=True)
    except (zipfile.BadZipFile, InvalidFileException) as problem:
        raise ValueError(tr("it is not a workbook ({problem})", problem=problem)) from problem
    try:
        if sheet and sheet not in book.sheetnames:
            raise ValueError(
                tr(
                    "there is no sheet {sheet}; there are {sheets}",
                    sheet=sheet,
                    sheets=", ".join(book.sheetnames),
                )
            )
        yield from (book[sheet] if sheet else book.worksheets[0]).iter_rows(values_only=True)
    finally:
        book.close()


def _of_lines(lines: Iterator[Sequence[object]], stop: StopToken) -> Table:
    """The first line has the names."""
    names = next(lines, None)
    if not names:
        raise ValueError(tr("it has no line of names"))
    fields = [Field(str(name) if name is not None else f"column {n + 1}", Kind.OBJECT) for n, name in enumerate(names)]
    builder = TableBuilder(distinct_names(fields))
    batch: list[list[object]] = []
    for number, line in enumerate(lines, 2):
        row = list(line)
        if len(row) > len(fields):
            raise ValueError(
                tr(
                    "line {number} has {row_count} values, the first has {fields_count} names",
                    number=number,
                    row_count=len(row),
                    fields_count=len(fields),
                )
            )
        batch.append(row + [None] * (len(fields) - len(row)))
        if len(batch) == _BATCH:
            builder.append(batch, stop)
            batch = []
            stop.check()
    builder.append(batch, stop)
    return builder.table()


def _objects(path: Path, is_whole: bool) -> list[Mapping[str, Value]]:
    text = path.read_text("utf-8-sig")
    found = json.loads(text) if is_whole else [json.loads(line) for line in text.splitlines() if line.strip()]
    if isinstance(found, Mapping):  # rows under a name
        lists = [value for value in found.values() if isinstance(value, list)]
        found = lists[0] if len(lists) == 1 else [found]
    if not isinstance(found, list) or not all(isinstance(each, Mapping) for each in found):
        raise ValueError(tr("it is not a list of objects"))
    return found


def _of_objects(objects: Sequence[Mapping[str, Value]], stop: StopToken) -> Table:
    names = list(dict.fromkeys(name for each in objects for name in each))
    builder = TableBuilder(distinct_names(Field(name, Kind.OBJECT) for name in names))
    for start in range(0, len(objects), _BATCH):
        part = objects[start : start + _BATCH]
        builder.append_columns([[each.get(name, MISSING) for each in part] for name in names], len(part), stop)
    return builder.table()


def _of_parquet(path: Path) -> Table:
    try:
        import pyarrow
        import pyarrow.parquet
    except ImportError as problem:
        raise ConditionError(
            tr("Parquet files need the extra parquet."), tr("pip install 'nimble-otter[parquet]'.")
        ) from problem
    try:
        found = pyarrow.parquet.read_table(path)
    except pyarrow.ArrowException as problem:
        raise ValueError(str(problem).splitlines()[0]) from problem
    builder = TableBuilder(distinct_names(Field(name, Kind.OBJECT) for name in found.column_names))
    for batch in found.to_batches(_BATCH):
        builder.append_columns([column.to_pylist() for column in batch.columns], batch.num_rows)
    return builder.table()


"""How a database file of SQLite begins. Source: https://www.sqlite.org/fileformat.html"""


def look_at_file(path: Path) -> None:
    """Look at how a file begins. Raises: ConnectError, where it is not a database, saying what it is."""
    if path.is_dir():
        raise ConnectError(tr("{path_name} is a folder.", path_name=path.name), tr("Choose a database file in it."))
    try:
        is_known, is_empty = file_driver(path) is not None, path.stat().st_size == 0
    except OSError as problem:
        raise ConnectError(
            tr("{path_name} can't be read: {strerror}.", path_name=path.name, strerror=problem.strerror),
            tr("Choose another file."),
        ) from problem
    if is_known:
        return
    if is_empty:
        raise ConnectError(tr("{path_name} is empty.", path_name=path.name), tr("Choose a database file."))
    if is_rows_file(str(path)):
        raise ConnectError(
            tr("{path_name} has rows; it is not a database.", path_name=path.name),
            tr("A Compare step takes it as the other side of a comparison."),
        )
    raise ConnectError(
        tr("{path_name} does not begin as a database of SQLite or DuckDB does.", path_name=path.name),
        tr("It is encrypted, damaged, or of another program."),
    )
