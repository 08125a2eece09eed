"""SQLite files, opened read-only except while a write is under way."""

from __future__ import annotations

import datetime as dt
import os
import re
import sqlite3
import time
from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager, suppress
from dataclasses import replace
from decimal import Decimal
from pathlib import Path
from typing import TYPE_CHECKING

from nimble_otter.errors import ConnectError, LostError, QueryError, SourceError, place_of
from nimble_otter.query.sql.effects import TELLING_PRAGMAS as _TELLING
from nimble_otter.query.sql.effects import TELLING_PRAGMAS_OF as _TELLING_OF
from nimble_otter.sources import facts
from nimble_otter.sources.catalogue import TableInfo
from nimble_otter.sources.dialects.sqlite import SQLITE
from nimble_otter.sources.plans import PlanNode, of_sqlite
from nimble_otter.sources.reflect import Written
from nimble_otter.sources.relational import Relational
from nimble_otter.sources.result_stream import Answer, batches_of
from nimble_otter.sources.session import Bound, Done
from nimble_otter.sources.texts import find_word
from nimble_otter.sources.writer import run_each
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table import Kind
from nimble_otter.translation import tr
from nimble_otter.values import ClientObject, Value

if TYPE_CHECKING:
    from sqlalchemy import Engine, Inspector

LOCK_S = 5.0
"""How long another program may hold the file before writing is given up."""
_AGAIN_S = 0.02
_STEPS = 20_000
"""Of the library's virtual machine, well under a millisecond, after which a run looks whether it was stopped."""


_EFFECTIVE = ("load_extension", "fts3_tokenizer", "writefile", "readfile", "edit")


class SqliteConnection(Relational):
    """See sources.source.Connection."""

    dialect = SQLITE
    word = "SQLite"
    main = "main"
    counts_at_once = True
    marks, no_values = "", ()
    is_typed = False
    facts_of = staticmethod(facts.of_sqlite)
    plan_form = "explain query plan "

    def __init__(self, path: Path) -> None:
        self.path = path
        super().__init__(self._make_engine())
        self._recover()
        try:
            with self.explained():
                self._ask("select count(*) from sqlite_master")
        except SourceError as problem:
            self.close()
            raise ConnectError(
                tr(
                    "{path_name} can't be opened as an SQLite database: {message}",
                    path_name=path.name,
                    message=problem.message,
                ),
                "",
            ) from problem

    def _open(self, read_only: bool, wait_s: float = LOCK_S) -> sqlite3.Connection:
        uri = f"file:{_quoted(self.path)}?mode={'ro' if read_only else 'rw'}"
        connection = sqlite3.connect(uri, uri=True, timeout=wait_s, isolation_level=None, check_same_thread=False)
        connection.set_authorizer(_may_read if read_only else may_write)
        return connection

    def rest(self, idle_s: float) -> None:
        """Nothing: a file that was moved away goes on being read."""

    def _make_engine(self) -> Engine:
        from sqlalchemy import create_engine, pool

        # one connection kept open: a file moved away goes on being read, as the rows on the screen come from it
        return create_engine(
            "sqlite://", creator=lambda: self._open(read_only=True), poolclass=pool.QueuePool, pool_size=1,
            max_overflow=3,
        )  # fmt: skip

    def _recover(self) -> None:
        """What a program left behind that ended in the middle of a write is taken back, which a connection that may
        only read can't do (https://sqlite.org/lockingv3.html, 4.2); one that is still writing is left alone."""
        if not os.path.exists(f"{self.path}-journal"):
            return
        with suppress(sqlite3.Error), closing(self._open(read_only=False, wait_s=0)) as writer:
            writer.execute("select count(*) from sqlite_master").fetchall()

    def _ready(self, stop: StopToken = NEVER, is_sure: bool = False) -> None:
        self._recover()
        super()._ready(stop, is_sure)

    def _ask(self, text: str, values: object = ()) -> list[Value]:
        raw = self._engine.raw_connection()
        try:
            return list(raw.driver_connection.execute(text, values))  # type: ignore[union-attr]
        finally:
            raw.close()

    def _default_schema(self, inspector: Inspector) -> str | None:
        return None

    def _declared(self, schema: str | None, tables: Sequence[str] | None) -> dict[str, dict[str, Written]]:
        texts = dict(self._ask("select name, coalesce(sql, '') from sqlite_master where type in ('table', 'view')"))
        found = {}
        for table in texts if tables is None else [t for t in texts if t in tables]:
            rows = self._ask(f"pragma table_xinfo({quote_name(table)})")
            folds = re.search(r"\bcollate\b", texts[table], re.IGNORECASE) is not None
            found[table] = {
                name: Written(
                    (declared := kind.removesuffix(" GENERATED ALWAYS")),
                    "computed" if hidden > 1 else "",
                    folds,
                    hidden == 1,
                    declared,
                )
                for _, name, kind, _, _, _, hidden in rows
            }
        return found

    def _unique(self, inspector: Inspector, table: TableInfo) -> tuple[tuple[str, ...], ...]:
        """From the file itself: reflection reads the statement's text, and misses some."""
        results = []
        for _, name, is_unique, _, is_partial in self._ask(f"pragma index_list({quote_name(table.name)})"):
            names = [row[2] for row in self._ask(f"pragma index_info({quote_name(name)})")]
            if is_unique and not is_partial and None not in names:  # an expression has no name
                results.append(tuple(names))
        return tuple(results)

    def _kind_of(self, declared: str) -> Kind | None:
        """By the affinity of the column (https://sqlite.org/datatype3.html, 3.1): it decides what may be stored."""
        if found := super()._kind_of(declared):
            return found
        text = declared.upper()
        if "INT" in text:
            return Kind.INT
        has_other = any(word in text for word in ("CHAR", "CLOB", "TEXT", "BLOB"))
        return Kind.FLOAT if not has_other and any(word in text for word in ("REAL", "FLOA", "DOUB")) else None

    def _definition(self, table: TableInfo) -> str | None:
        rows = self._ask(
            "select sql from sqlite_master where tbl_name = ? and sql is not null order by type <> ?, name",
            (table.name, table.kind),
        )
        return ";\n\n".join(row[0] for row in rows) + ";" if rows else ""

    def _indexes(self, table: TableInfo) -> tuple[tuple[str, str], ...]:
        """From their statements: reflection leaves out those over expressions."""
        rows = self._ask("select name, sql from sqlite_master where type = 'index' and tbl_name = ?", (table.name,))
        results = []
        for name, text in rows:
            match = re.search(r"\bon\b.*?(\(.*)$", text or "", re.IGNORECASE | re.DOTALL)
            unique = "unique " if re.match(r"create\s+unique", text or "", re.IGNORECASE) else ""
            results.append((name, unique + (match[1] if match else tr("of a constraint"))))
        return tuple(results)

    def _start(self, answer: Answer, text: str, values: dict[str, object]) -> tuple[list[str], list[Kind | None]]:
        # an interruption that comes before the statement runs would be lost, and the file stay locked
        answer.driver.set_progress_handler(answer.is_stopped, _STEPS)
        answer.driver.execute("begin")  # one state of the file, whoever writes meanwhile
        cursor = answer.cursor = answer.driver.cursor()
        cursor.execute(text, values)
        if cursor.description is None:
            return [], []
        answer.rows = _batches(answer.driver, cursor, text, values)
        return [column[0] for column in cursor.description], [None] * len(cursor.description)

    def release(self, driver: ClientObject) -> None:
        """Take the stop off the connection before others get it."""
        driver.set_progress_handler(None, 0)

    def cancel(self, handle: sqlite3.Connection) -> None:
        """Interrupt what runs on this connection."""
        handle.interrupt()

    def run_many(self, driver: ClientObject, wanted: Sequence[Bound]) -> list[Done]:
        """Run the statements one after the other; what triggers changed is told beside each."""
        results = []
        for one in wanted:
            before = driver.total_changes
            try:
                done = run_each(driver.cursor, [one])[0]
            except OverflowError as problem:
                raise QueryError(tr("A whole number is too large."), tr("It holds 64-bit integers.")) from problem
            results.append(replace(done, beside=driver.total_changes - before - done.touched))
        return results

    def _written(self, values: dict[str, object]) -> dict[str, Value]:
        return {name: _bound(value) for name, value in values.items()}

    def _parse(self, driver: ClientObject, text: str, values: dict[str, object]) -> None:
        try:
            driver.execute(f"explain {text}", values).close()
        except sqlite3.DatabaseError as problem:
            if "not authorized" not in str(problem) and "prohibited" not in str(problem):  # it was understood
                raise

    def _plan_of(self, rows: list[Value]) -> PlanNode:
        return of_sqlite(rows)

    @contextmanager
    def _writing(
        self, messages: list[str], keeps: bool = True, stop: StopToken = NEVER
    ) -> Iterator[sqlite3.Connection]:
        """A connection of its own, as the other one may only read."""
        try:
            writer = self._open(read_only=False, wait_s=0)
            writer.text_factory = surrogate_text
            writer.execute("pragma foreign_keys = on")
            _begin(writer, stop)
            writer.execute(f"pragma busy_timeout = {int(LOCK_S * 1000)}")
        except sqlite3.OperationalError as problem:
            hint = (
                tr("Another program is writing to it; try again.")
                if "locked" in str(problem)
                else tr("Check that you may write the file and its folder.")
            )
            raise LostError(
                tr("{path_name} can't be written: {problem}.", path_name=self.path.name, problem=problem), hint
            ) from problem
        try:
            yield writer
        finally:
            if writer.in_transaction:
                writer.execute("rollback")
            writer.close()

    def translate_error(self, problem: Exception, text: str) -> Exception | None:
        """The server's own text, the place it speaks of, and the nearest name that exists."""
        if not isinstance(problem, sqlite3.Error):
            return None
        message, hint, place = str(problem), "", None
        if getattr(problem, "sqlite_errorname", "") == "SQLITE_CANTOPEN":
            return LostError(
                tr("{path_name} can't be opened any more.", path_name=self.path.name),
                tr("Look whether it was moved, or whether you may still read it."),
            )
        if found := re.match(r'near "(.*)": syntax error', message, re.DOTALL):
            place = find_word(text, found[1])
        elif found := re.match(r"no such (column|table|function): (.+)", message):
            name = found[2].split(".")[-1]
            place = find_word(text, found[2]) or find_word(text, name)
            hint = self._hint(found[1], name, text) if found[1] != "function" else ""
        elif "incomplete input" in message:
            place = place_of(text, len(text.rstrip()) - 1, len(text.rstrip()))
        elif "readonly" in message or "not authorized" in message or "prohibited" in message:
            message = tr("The source is open for reading only")
            hint = tr("Correct cells in the grid and write through Changes. Other files are sources of their own.")
        return QueryError(f"{message[0].upper()}{message[1:]}.", hint, place)


def _batches(driver: sqlite3.Connection, cursor: sqlite3.Cursor, text: str, values: Value) -> Iterator[Sequence[Value]]:
    """Rows with texts decoded by the library, which is a third quicker; when it meets bytes that are not UTF-8 the same
    query is asked again, in the same transaction, with a decoder that lets them pass."""
    done = 0
    try:
        for batch in batches_of(cursor):
            yield batch
            done += len(batch)
        return
    except sqlite3.OperationalError as problem:
        if "decode" not in str(problem):
            raise
    driver.text_factory = surrogate_text
    try:
        again = driver.execute(text, values)
        for batch in batches_of(again):
            fresh = batch[max(0, done) :] if done < len(batch) else []
            done -= len(batch)
            if fresh:
                yield fresh
    finally:
        driver.text_factory = str


def _bound(value: Value) -> object:
    """Days and times as texts that compare with those that are stored: without seconds that are zero, as "12:00" comes
    before "12:00:00". Numbers beyond a double's digits as they are written."""
    if isinstance(value, dt.datetime):
        return value.isoformat(" ", "auto" if value.second or value.microsecond else "minutes")
    if isinstance(value, dt.date):
        return value.isoformat()
    is_beyond = isinstance(value, int) and not -(1 << 63) <= value < 1 << 63  # which is a double there, as in its texts
    try:
        return float(value) if isinstance(value, Decimal) or is_beyond else value
    except OverflowError as problem:
        raise QueryError(tr("A parameter's number is too large."), tr("It takes numbers up to 1.8e308.")) from problem


def _begin(writer: sqlite3.Connection, stop: StopToken) -> None:
    """Begin to write; while another program does, wait, which the library's own waiting could not be stopped in.
    Raises: sqlite3.OperationalError, Stopped."""
    until = time.monotonic() + LOCK_S
    while True:
        try:
            writer.execute("begin immediate")
            return
        except sqlite3.OperationalError as problem:
            if "locked" not in str(problem) or time.monotonic() > until:
                writer.close()
                raise
        if stop.is_set():
            writer.close()
        stop.check()
        time.sleep(_AGAIN_S)


def _may_read(action: int, first: str | None, second: str | None, *_: object) -> int:
    """What statements on a reading connection may do; asked by the library while it prepares one."""
    if action in (sqlite3.SQLITE_SELECT, sqlite3.SQLITE_READ, sqlite3.SQLITE_RECURSIVE, sqlite3.SQLITE_TRANSACTION):
        return sqlite3.SQLITE_OK
    if action == sqlite3.SQLITE_FUNCTION:
        return sqlite3.SQLITE_DENY if second in _EFFECTIVE else sqlite3.SQLITE_OK
    if action == sqlite3.SQLITE_PRAGMA and (first or "").lower() in (_TELLING if second is None else _TELLING_OF):
        return sqlite3.SQLITE_OK
    return sqlite3.SQLITE_DENY


def may_write(action: int, first: str | None, second: str | None, *_: object) -> int:
    """A writing connection reaches no other file."""
    is_out = action in (sqlite3.SQLITE_ATTACH, sqlite3.SQLITE_DETACH)
    return sqlite3.SQLITE_DENY if is_out or second in _EFFECTIVE else sqlite3.SQLITE_OK


def surrogate_text(raw: bytes) -> str:
    """Bytes that are not UTF-8 pass through as surrogates instead of failing the row."""
    return raw.decode("utf-8", "surrogateescape")


def _quoted(path: Path) -> str:
    from urllib.parse import quote

    return quote(str(path.resolve()))


def quote_name(name: str) -> str:
    """A name as SQL takes it whatever is in it."""
    return '"' + name.replace('"', '""') + '"'
