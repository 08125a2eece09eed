"""DuckDB files, opened for reading except while a write is under way; nothing outside the file can be reached."""

from __future__ import annotations

import re
import time
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any

from nimble_otter.errors import ConnectError, LostError, QueryError, place_of
from nimble_otter.query.sql.statements import find_parameters, mark_parameters
from nimble_otter.sources.address import AddressForm, readable_file
from nimble_otter.sources.catalogue import Definition, TableInfo
from nimble_otter.sources.dialects.duckdb import DUCKDB
from nimble_otter.sources.general import GeneralConnection
from nimble_otter.sources.plans import PlanNode
from nimble_otter.sources.result_stream import Answer, batches_of
from nimble_otter.sources.source import Request, Run
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table import Kind
from nimble_otter.translation import tr
from nimble_otter.values import ClientObject, Value

if TYPE_CHECKING:
    from sqlalchemy import Engine

_CONFIG = {
    "enable_external_access": "false", "autoinstall_known_extensions": "false", "autoload_known_extensions": "false",
    "lock_configuration": "true",
}  # fmt: skip
"""A query reads this file and no other, loads nothing, and can't lift that (documentation, "Securing DuckDB")."""
_PATIENCE_S, _AGAIN_S = 5.0, 0.02
_KEPT_OPEN: dict[Path, list[_Client]] = {}
"""What holds a file open between questions and nothing else, by the file."""
_AS_TEXT = re.compile(r"INTERVAL|TIMESTAMP_NS|TIME_NS|TIME WITH TIME ZONE|BIT$|UNION|VARIANT|GEOMETRY")
"""Types of which the client's values tell less than the database holds."""
_ENDLESS = re.compile(r"DATE$|TIMESTAMP")
"""Types that hold infinity, which the client gives as the last day it knows."""


class _Duckdb:
    key = "duckdb"
    word = "DuckDB"
    schemes = ("duckdb",)
    dialects = (DUCKDB,)
    address = AddressForm(tr("DuckDB file"), 6, "/path/to/survey.duckdb", is_file=True, head=(8, b"DUCK"))

    def takes(self, scheme: str) -> bool:
        return scheme in self.schemes

    def connect(self, url: str, password: str | None = None, clear_password: bool = False) -> DuckdbConnection:
        try:
            import duckdb  # noqa: F401 - to say what is missing
        except ImportError as problem:
            raise ConnectError(
                tr("DuckDB files need the package duckdb."), tr("Install nimble-otter[duckdb].")
            ) from problem
        return DuckdbConnection(readable_file(url, self.key))


class DuckdbConnection(GeneralConnection):
    """See sources.source.Connection."""

    word = "DuckDB"
    main = "main"
    is_typed = True
    plan_form = "explain (format json) "

    def __init__(self, path: Path) -> None:
        self.path = path
        super().__init__("duckdb://", None, DUCKDB)

    def _open(self, writes: bool = False) -> _Client:
        """A connection of its own. The file is open for all of this process either for reading or for writing: whoever
        wants it otherwise waits for the others a while. Raises: what the library raises."""
        import duckdb

        until = time.monotonic() + _PATIENCE_S
        while True:
            for read_only in (False,) if writes else (True, False):  # as it is open, where somebody is writing
                try:
                    return _Client(duckdb.connect(str(self.path), read_only=read_only, config=dict(_CONFIG)))
                except duckdb.ConnectionException as problem:
                    if writes:
                        self._let_go()
                    if time.monotonic() > until:
                        raise problem
            time.sleep(_AGAIN_S)

    @contextmanager
    def kept_open(self) -> Iterator[None]:
        """See `Connection.kept_open`: to open the file takes longer than most questions. Who wants to write it
        meanwhile, by this program, is not kept waiting."""
        own, kept = self._open(), _KEPT_OPEN.setdefault(self.path.resolve(), [])
        kept.append(own)
        try:
            yield
        finally:
            with suppress(ValueError):
                kept.remove(own)
            own.close()

    def _let_go(self) -> None:
        for client in _KEPT_OPEN.pop(self.path.resolve(), ()):
            client.close()

    def names(self) -> list[TableInfo]:
        """See `Connection.names`."""
        with self.explained(), self.kept_open():
            return super().names()

    def tables(self) -> list[TableInfo]:
        """See `Connection.tables`."""
        with self.explained(), self.kept_open():
            return super().tables()

    def describe(self, table: TableInfo) -> Definition:
        """See `Connection.describe`."""
        with self.explained(), self.kept_open():
            return super().describe(table)

    def run(self, request: Request, stop: StopToken) -> Run:
        """See `Connection.run`."""
        with self.explained(request.text), self.kept_open():
            return super().run(request, stop)

    def _make_engine(self, **options: Value) -> Engine:
        from sqlalchemy import create_engine, pool

        DUCKDB.spoken()
        # nothing is kept open between queries: while it is, no other program can write the file
        return create_engine("duckdb://", creator=self._open, poolclass=pool.NullPool)

    def _hold_to_reading(self, engine: Engine) -> None:
        """Connections are opened for reading."""

    def _ready(self, stop: StopToken = NEVER, is_sure: bool = False) -> None:
        """Each query opens the file."""

    def rights(self) -> tuple[str, ...]:
        """See `Connection.rights`."""
        return ()  # there are no triggers, and nobody has rights

    def socket_of(self, driver: object) -> int | None:
        """There is no line to a file."""
        return None

    def _schemas(self, inspector: ClientObject) -> list[str | None]:
        return ["main", *sorted(s for s in inspector.get_schema_names() if s != "main")]

    def _kind_of(self, declared: str) -> Kind | None:
        return None if _AS_TEXT.match(declared) else super()._kind_of(declared)

    def _estimates(self, default: str | None) -> dict[str, int]:
        text = "select schema_name, table_name, estimated_size from duckdb_tables() where not internal"
        return {name if schema == default else f"{schema}.{name}": int(n) for schema, name, n in self._ask(text)}

    def _definition(self, table: TableInfo) -> str | None:
        rows = self._ask(
            "select sql from duckdb_tables() where schema_name = ? and table_name = ? union all "
            "select sql from duckdb_views() where schema_name = ? and view_name = ?",
            (table.schema or "main", table.bare) * 2,
        )
        return "\n".join(row[0] for row in rows) or None

    def _start(self, answer: Answer, text: str, values: dict[str, object]) -> tuple[list[str], list[Kind | None]]:
        if text.startswith(self.plan_form):  # which has no columns to be told before
            return super()._start(answer, text, values)
        cursor = answer.cursor = answer.driver.cursor()
        given = _given(text, values)
        kinds = [(row[0], str(row[1])) for row in _described(cursor, *given)]
        if not kinds:
            return [], []
        odd = [n for n, (_, kind) in enumerate(kinds, 1) if _AS_TEXT.match(kind)]
        endless = [n for n, (_, kind) in enumerate(kinds, 1) if _ENDLESS.match(kind) and n not in odd]
        cursor.execute(_widened(given[0], len(kinds), odd, endless), given[1])
        answer.rows = _with_endless(batches_of(cursor), [n - 1 for n in endless]) if endless else batches_of(cursor)
        return [name for name, _ in kinds], [_hint(kind) for _, kind in kinds]

    def _execute(self, cursor: ClientObject, text: str, values: dict[str, object]) -> None:
        cursor.execute(*_given(text, values))

    @contextmanager
    def _writing(self, messages: list[str], keeps: bool = True, stop: StopToken = NEVER) -> Iterator[_Client]:
        """A connection of its own, once nobody reads the file."""
        import duckdb

        try:
            writer = self._open(writes=True)
        except duckdb.ConnectionException as problem:
            raise LostError(
                tr("{path_name} is still being read.", path_name=self.path.name),
                tr("Wait until its queries have ended, or stop them."),
            ) from problem
        except duckdb.IOException as problem:
            raise LostError(
                tr(
                    "{path_name} can't be written: {first_line}.",
                    path_name=self.path.name,
                    first_line=_first_line(problem),
                ),
                tr("Another program may have it open."),
            ) from problem
        try:
            writer.cursor().execute("begin")
            yield writer
        finally:
            with suppress(duckdb.Error):  # nothing is open after a commit
                writer.rollback()
            writer.close()

    def _parse(self, driver: ClientObject, text: str, values: dict[str, object]) -> None:
        _described(driver.cursor(), *_given(text, values))

    def _plan_of(self, rows: list[Value]) -> PlanNode:
        import json

        return _plan(json.loads(rows[0][1])[0])

    def translate_error(self, problem: Exception, text: str) -> Exception | None:
        """The library's words, the place that they point to, and what it would take instead."""
        import duckdb

        if not isinstance(problem, duckdb.Error):
            return None
        wording = str(problem)
        message = _first_line(problem)
        if not self._is_open or (isinstance(problem, duckdb.IOException) and not text):
            return ConnectError(
                tr(
                    "{path_name} can't be opened as a DuckDB file: {message}.",
                    path_name=self.path.name,
                    message=message,
                ),
                tr("Another program may be writing it, or it is damaged."),
            )
        near = re.search(r'(?:Did you mean|Candidate bindings:) "([^"]+)"', wording)
        place, at = None, re.search(r"^LINE (\d+): (.*)\n( *)\^", wording, re.MULTILINE)
        if at and text and "..." not in at[2]:
            line = int(at[1]) - 1
            start = sum(len(part) + 1 for part in text.split("\n")[:line])
            start += len(at[3]) - len(f"LINE {at[1]}: ")
            word = re.match(r"\w+|\S", text[start:])
            place = place_of(text, start, start + (word.end() if word else 1))
        return QueryError(f"{message}.", tr("The nearest name is {near}.", near=near[1]) if near else "", place)


class _Client:
    """A connection whose cursors share its transaction, which the library's own do not."""

    def __init__(self, own: ClientObject) -> None:
        self._own = own

    def cursor(self) -> _Cursor:
        return _Cursor(self._own)

    def interrupt(self) -> None:
        self._own.interrupt()

    def commit(self) -> None:
        self._own.commit()

    def rollback(self) -> None:
        self._own.rollback()

    def close(self) -> None:
        self._own.close()


class _Cursor:
    """A cursor (PEP 249) that tells how many rows a statement met, which the library gives as a row."""

    def __init__(self, own: ClientObject) -> None:
        self._own = own
        self.description: Any = None
        self.rowcount = -1

    def execute(self, text: str, values: Sequence[object] = ()) -> _Cursor:
        self._own.execute(text, values or None)
        self.description, self.rowcount = self._own.description, -1
        if [column[0] for column in self.description or ()] == ["Count"] and _CHANGE.match(text):
            self.rowcount, self.description = int(self._own.fetchone()[0]), None
        elif not _GIVES_ROWS.match(text):
            self.description = None
        return self

    def fetchmany(self, size: int = 1) -> list[Value]:
        return list(self._own.fetchmany(size))

    def fetchall(self) -> list[Value]:
        return list(self._own.fetchall())

    def fetchone(self) -> Any:
        return self._own.fetchone()

    def close(self) -> None:
        """Nothing is kept."""


_CHANGE = re.compile(r"\s*(?:with\b.*?\)\s*)?(?:insert|update|delete)\b", re.IGNORECASE | re.DOTALL)
_GIVES_ROWS = re.compile(
    r"[\s(]*(?:select|from|with|values|table|insert|update|delete|explain|describe|show|summarize|pragma|pivot|unpivot|"
    r"call|execute)\b", re.IGNORECASE,
)  # fmt: skip


def _given(text: str, values: Mapping[str, object]) -> tuple[str, tuple[object, ...]]:
    """A text with the client's marks, and its values in their order."""
    return mark_parameters(text, values, "dollar"), tuple(values[name] for name in find_parameters(text) if values)


def _described(cursor: ClientObject, text: str, values: Sequence[object]) -> list[Value]:
    """Names and types of a query's columns, without running it."""
    cursor.execute(f"describe {text}", values)
    return list(cursor.fetchall()) if cursor.description else []


def _widened(text: str, count: int, odd: Sequence[int], endless: Sequence[int]) -> str:
    """The query with some columns as texts, and behind the others the texts of those that may hold infinity."""
    if not odd and not endless:
        return text
    parts = [f"cast(#{n} as varchar)" if n in odd else f"#{n}" for n in range(1, count + 1)]
    if endless:
        is_endless = " or ".join(f"isinf(#{n})" for n in endless)
        parts.append(f"case when {is_endless} then [{', '.join(f'cast(#{n} as varchar)' for n in endless)}] end")
    return f"select {', '.join(parts)} from ({text})"


def _with_endless(batches: Iterator[Sequence[Value]], places: Sequence[int]) -> Iterator[list[Value]]:
    """Rows without their last value, which has the texts of those times that are infinite."""
    for batch in batches:
        if not any(row[-1] for row in batch):
            yield [row[:-1] for row in batch]
            continue
        items = []
        for *row, texts in batch:
            for index, text in zip(places, texts or (), strict=False):
                if text is not None and text.endswith("infinity"):
                    row[index] = text
            items.append(tuple(row))
        yield items


_HINTS = (
    (re.compile(r"DATE$"), Kind.DATE), (re.compile(r"TIMESTAMP WITH"), Kind.ZONED),
    (re.compile("TIMESTAMP"), Kind.TIME),
    (re.compile("TIME$"), Kind.CLOCK), (re.compile("UUID"), Kind.UUID), (re.compile("BOOL"), Kind.BOOL),
    (re.compile(r"U?(?:TINY|SMALL|BIG)?INT(?:EGER)?$|UINTEGER$"), Kind.INT), (re.compile("FLOAT|DOUBLE"), Kind.FLOAT),
    (re.compile("DECIMAL"), Kind.DECIMAL),
)  # fmt: skip


def _hint(declared: str) -> Kind | None:
    if _AS_TEXT.match(declared) or declared.endswith("]"):
        return None
    return next((kind for pattern, kind in _HINTS if pattern.match(declared)), None)


def _plan(node: dict[str, Value]) -> PlanNode:
    more = {str(k): str(v) for k, v in (node.get("extra_info") or {}).items()}
    rows = re.sub(r"\D", "", more.pop("Estimated Cardinality", ""))
    text = ", ".join(f"{k}: {v}" for k, v in more.items())
    children = tuple(_plan(child) for child in node.get("children") or ())
    return PlanNode(str(node.get("name", "")).strip().replace("_", " ").lower(), text, int(rows) if rows else None,
                    None, children)  # fmt: skip


def _first_line(problem: Exception) -> str:
    return re.sub(r"^\w+ Error: ", "", str(problem).partition("\n")[0]).rstrip(".!")


DRIVER = _Duckdb()
