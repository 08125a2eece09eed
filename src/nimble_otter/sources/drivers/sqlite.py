"""SQLite files, opened read-only except while a write is under way."""

from __future__ import annotations

import os
import re
import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any

from nimble_otter.errors import ConnectError, LostError, Place, QueryError, SourceError, place_of
from nimble_otter.query.conditions import nearest
from nimble_otter.query.statements import find_parameters, split_statements
from nimble_otter.sources.catalogue import ColumnInfo, Shapes, TableInfo
from nimble_otter.sources.source import Request, Run
from nimble_otter.sources.trace import declared_kinds, trace_origins
from nimble_otter.stop import StopToken
from nimble_otter.table import Field, Kind

if TYPE_CHECKING:
    from sqlalchemy import Engine

BATCH = 1000
_WORDS = [
    (re.compile(r"BLOB|BINARY", re.I), "binary"),
    (re.compile(r"DATE.*TIME|TIMESTAMP|DATETIME", re.I), "time"),
    (re.compile(r"DATE", re.I), "date"),
    (re.compile(r"BOOL", re.I), "yes/no"),
    (re.compile(r"INT|REAL|FLOA|DOUB|NUM|DEC", re.I), "number"),
    (re.compile(r"CHAR|CLOB|TEXT", re.I), "text"),
]
_KINDS = {"time": Kind.TIME, "date": Kind.DATE, "yes/no": Kind.BOOL}


def word_of(declared: str) -> str:
    """The plain word for a declared type (SQLite's affinity rules, with times told apart)."""
    return next((word for pattern, word in _WORDS if pattern.search(declared)), "any")


class _Sqlite:
    key = "sqlite"
    word = "SQLite"
    schemes = ("sqlite",)

    def connect(self, url: str, password: str | None = None) -> SqliteConnection:
        path = Path(re.sub(r"^sqlite:(///?)?", "", url) if url.startswith("sqlite:") else url).expanduser()
        return SqliteConnection(path)


class SqliteConnection:
    """See sources.source.Connection."""

    dialect = "sqlite"

    def __init__(self, path: Path) -> None:
        if not path.is_file():
            raise ConnectError(f"There is no file {path}.", "Pick another file, or put it back where it was.")
        if not os.access(path, os.R_OK):
            raise ConnectError(f"The file {path} may not be read.", "Ask its owner for the right to read it.")
        self.path = path
        self._tables: list[TableInfo] | None = None
        try:
            self._reader = self._open(read_only=True)
            self._reader.execute("select count(*) from sqlite_master").fetchone()
        except sqlite3.DatabaseError as problem:
            raise ConnectError(f"{path.name} can't be opened as an SQLite database: {problem}.", "") from None

    def _open(self, read_only: bool) -> sqlite3.Connection:
        uri = f"file:{_quoted(self.path)}?mode={'ro' if read_only else 'rw'}"
        connection = sqlite3.connect(uri, uri=True, timeout=5, isolation_level=None, check_same_thread=False)
        connection.text_factory = _text
        return connection

    def _engine(self) -> Engine:
        from sqlalchemy import create_engine, pool

        return create_engine("sqlite://", creator=lambda: self._open(read_only=True), poolclass=pool.NullPool)

    def tables(self) -> list[TableInfo]:
        from sqlalchemy import inspect
        from sqlalchemy.exc import SQLAlchemyError

        engine = self._engine()
        try:
            inspector = inspect(engine)
            columns: dict[Any, Any] = inspector.get_multi_columns(kind=_any_kind())
            keys: dict[Any, Any] = inspector.get_multi_pk_constraint()
            foreign: dict[Any, Any] = inspector.get_multi_foreign_keys()
            views = set(inspector.get_view_names())
        except (SQLAlchemyError, sqlite3.Error) as problem:
            raise SourceError(f"The catalogue of {self.path.name} can't be read: {problem}.") from None
        finally:
            engine.dispose()
        found = []
        for (schema, name), infos in columns.items():
            key = (keys.get((schema, name)) or {}).get("constrained_columns") or []
            refers: dict[str, str] = {}
            for constraint in foreign.get((schema, name)) or []:
                targets = constraint["referred_columns"] or constraint["constrained_columns"]
                for own, target in zip(constraint["constrained_columns"], targets, strict=False):
                    refers[own] = f"{constraint['referred_table']}.{target}"
            declared: dict[str, str] = {
                row[1]: row[2] for row in self._reader.execute(f"pragma table_xinfo({quote_name(name)})")
            }
            made = tuple(
                ColumnInfo(
                    info["name"],
                    declared.get(info["name"], ""),
                    word_of(declared.get(info["name"], "")),
                    key.index(info["name"]) + 1 if info["name"] in key else 0,
                    refers.get(info["name"], ""),
                    bool(info["nullable"]),
                    str(info["default"] or ""),
                )
                for info in infos
            )
            found.append(TableInfo(name, "view" if name in views else "table", made))
        self._tables = sorted(found, key=lambda t: (t.kind == "view", t.name.casefold()))
        return self._tables

    def count(self, table: str) -> int:
        try:
            return int(self._reader.execute(f"select count(*) from {quote_name(table)}").fetchone()[0])
        except sqlite3.Error as problem:
            raise SourceError(f"{table} can't be counted: {problem}.") from None

    def shapes(self, collection: str, sample: int = 1000) -> Shapes:
        raise SourceError("SQLite has no collections.")

    def select_all(self, table: str) -> str:
        return f"select *\nfrom {shown_name(table)}"

    def run(self, request: Request, stop: StopToken) -> Run:
        names = find_parameters(request.text)
        unset = [name for name in names if name not in request.parameters]
        if unset:
            raise QueryError(f"The parameter :{unset[0]} has no value.", "Give it one beside the query.")
        statements = split_statements(request.text)
        if len(statements) != 1:
            raise QueryError(
                "There is no statement to run." if not statements else "Only one statement can be run at a time.",
                "" if not statements else "Put the caret in one, or select it.",
            )
        text = statements[0].text
        cursor = self._reader.cursor()
        stop.on_stop(self._reader.interrupt)
        try:
            cursor.execute(text, {name: request.parameters[name] for name in names})
        except sqlite3.Error as problem:
            stop.forget(self._reader.interrupt)
            stop.check()
            raise self._explain(problem, request.text) from None
        if cursor.description is None:
            cursor.close()
            stop.forget(self._reader.interrupt)
            if self._reader.in_transaction:  # BEGIN was typed: later pulls would see old rows
                self._reader.rollback()
            raise QueryError("The statement gave no rows.", "Ask with SELECT; write through Changes.")
        labels = [column[0] for column in cursor.description]
        tables = self._tables if self._tables is not None else self.tables()
        origins = trace_origins(text, labels, tables, self.dialect)
        words = [word_of(d) for d in declared_kinds(origins, tables)]
        fields = tuple(
            Field(label, Kind.TEXT, origin.label if origin else "")
            for label, origin in zip(labels, origins, strict=True)
        )
        hints = tuple(_KINDS.get(word) for word in words)
        return Run(self._batches(cursor, request.text, stop), fields, hints, (), text, tuple(origins))

    def _batches(self, cursor: sqlite3.Cursor, text: str, stop: StopToken) -> Iterator[list[Any]]:
        try:
            while batch := cursor.fetchmany(BATCH):
                yield batch
        except sqlite3.OperationalError as problem:
            if not stop.is_set():
                raise self._explain(problem, text) from None
        except sqlite3.Error as problem:
            raise self._explain(problem, text) from None
        finally:
            stop.forget(self._reader.interrupt)
            cursor.close()

    @contextmanager
    def transaction(self) -> Iterator[sqlite3.Connection]:
        """A write connection with BEGIN IMMEDIATE done; rolled back unless the block commits it."""
        try:
            writer = self._open(read_only=False)
            writer.execute("pragma foreign_keys = on")
            writer.execute("begin immediate")
        except sqlite3.OperationalError as problem:
            hint = (
                "Another program is writing to it; try again."
                if "locked" in str(problem)
                else ("Check that you may write the file and its folder.")
            )
            raise LostError(f"{self.path.name} can't be written: {problem}.", hint) from None
        try:
            yield writer
        finally:
            if writer.in_transaction:
                writer.execute("rollback")
            writer.close()

    def close(self) -> None:
        self._reader.close()

    def _explain(self, problem: sqlite3.Error, text: str) -> QueryError:
        """The server's own text, the place it speaks of, and the nearest name that exists."""
        message, hint, place = str(problem), "", None
        if found := re.match(r'near "(.*)": syntax error', message, re.DOTALL):
            place = _find_word(text, found[1])
        elif found := re.match(r"no such (column|table|function): (.+)", message):
            name = found[2].split(".")[-1]
            place = _find_word(text, found[2]) or _find_word(text, name)
            tables = self._tables if self._tables is not None else self.tables()
            names = [t.name for t in tables]
            if found[1] == "column":
                names = [
                    c.name for t in tables if re.search(rf"\b{re.escape(t.name)}\b", text, re.I) for c in t.columns
                ]
            near = nearest(name, names) if found[1] != "function" else ""
            hint = f"The nearest name is {near}." if near else ""
        elif "incomplete input" in message:
            place = place_of(text, len(text.rstrip()) - 1, len(text.rstrip()))
        elif "readonly" in message:
            message, hint = (
                "The source is open for reading only",
                "Correct cells in the grid and write through Changes.",
            )
        return QueryError(f"{message[0].upper()}{message[1:]}.", hint, place)


def _any_kind() -> Any:
    from sqlalchemy.engine.reflection import ObjectKind

    return ObjectKind.ANY


def _text(raw: bytes) -> str:
    """Bytes that are not UTF-8 pass through as surrogates instead of failing the row."""
    return raw.decode("utf-8", "surrogateescape")


def _quoted(path: Path) -> str:
    from urllib.parse import quote

    return quote(str(path.resolve()))


def quote_name(name: str) -> str:
    """A name as SQL takes it whatever is in it."""
    return '"' + name.replace('"', '""') + '"'


def shown_name(name: str) -> str:
    """A name quoted only where it must be."""
    from sqlalchemy.dialects.sqlite import dialect

    return str(dialect().identifier_preparer.quote(name))


def _find_word(text: str, word: str) -> Place | None:
    found = re.search(rf"(?<![\w]){re.escape(word)}(?![\w])", text, re.IGNORECASE) or re.search(re.escape(word), text)
    return place_of(text, found.start(), found.end()) if found and word else None


DRIVER = _Sqlite()
