"""Writing to documents: `$set` and `$unset` matched by `_id` and the values seen, all or none where that can be."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping, Sequence
from dataclasses import replace
from decimal import Decimal
from typing import Any

from nimble_otter.changes.commit import Commit, Note
from nimble_otter.changes.document_plan import exactly, to_json
from nimble_otter.changes.plan import Guard, Pairs, Plan, Statement, StatementKind, reversal
from nimble_otter.changes.report import AT_ONCE, Intent, Outcome, Report, one_by_one, partly
from nimble_otter.errors import (
    ChangeError,
    LostError,
    NoTransactions,
    OtterError,
    OutcomeUnknown,
    SourceError,
)
from nimble_otter.sources.dialects.documents import Documents
from nimble_otter.sources.document_paths import can_be_asked, parts_of, path_of
from nimble_otter.sources.document_writer import DocumentWriter
from nimble_otter.sources.source import Connection
from nimble_otter.stop import NEVER, Progress, StopToken
from nimble_otter.table import MISSING
from nimble_otter.table.core.columns import Missing
from nimble_otter.table.text.show import plain
from nimble_otter.translation import tr
from nimble_otter.values import Value


def render(plan: Plan, statements: Sequence[Statement] | None = None) -> list[str]:
    """The statements in the words of the server's own shell."""
    assert isinstance(plan.dialect, Documents)
    results = []
    for statement in plan.statements if statements is None else statements:
        matched = dict(statement.key) | {path: _seen(value) for path, value in statement.seen if can_be_asked(path)}
        is_new = statement.kind == StatementKind.INSERT
        parts = {
            "whole": _whole(statement) if is_new else {}, "matched": matched,
            "change": {} if is_new else _change(statement.values),
        }  # fmt: skip
        told = {name: to_json(part) for name, part in parts.items()}
        results.append(plan.dialect.statements[statement.kind].format(name=to_json(plan.table), **told))
    return results


def script(plan: Plan, head: str = "") -> str:
    """The statements as a script for the server's shell."""
    return "\n".join([*(f"// {line}" for line in head.splitlines()), *render(plan), ""])


def rehearse(connection: Connection, plan: Plan, stop: StopToken = NEVER, progress: Progress | None = None) -> Report:
    """Run everything in a transaction and roll it back; where there are no transactions, compare with the documents as
    they are. Raises: SourceError's, Stopped."""
    for at_once in (True, False):
        with connection.transaction(stop) as writer:
            run = _Run(writer, plan, stop, progress)
            outcomes = run.all(at_once) if writer.is_atomic else run.compared()
        if outcomes is not None:
            break
    assert outcomes is not None
    text = (
        ""
        if writer.is_atomic
        else tr("The server has no transactions: the documents were compared, and nothing was run.")
    )
    return Report(outcomes, dt.datetime.now(), said=text)


def write(
    connection: Connection,
    plan: Plan,
    stop: StopToken = NEVER,
    progress: Progress | None = None,
    note: Note = lambda intent: None,
) -> Report:
    """All or nothing. Raises: NoTransactions; SourceError's, Stopped (nothing written); ChangeError when a commit that
    was not answered was not done; OutcomeUnknown."""
    for at_once in (True, False):
        report = _write(connection, plan, stop, progress, note, at_once)
        if report is not None:
            break
    assert report is not None
    return report


def _write(
    connection: Connection,
    plan: Plan,
    stop: StopToken,
    progress: Progress | None,
    note: Note,
    at_once: bool,
) -> Report | None:
    """None where the statements must be sent alone to see which of them fails."""
    with (
        Commit(stop, note, lambda intent: look_up(connection, intent)) as commit,
        connection.transaction(stop) as writer,
    ):
        if not writer.is_atomic:
            raise NoTransactions(
                tr("The server has no transactions: the documents can't be written as all or nothing."),
                tr("Write sends them one by one and stops at the first that fails."),
            )
        run = _Run(writer, plan, stop, progress)
        outcomes = run.all(at_once)
        if outcomes is None:
            return None
        if not all(o.is_good for o in outcomes):
            return Report(outcomes, dt.datetime.now())
        written = run.read_back(plan)
        stop.check()
        commit.make(writer, _intent(plan, outcomes, written, run))
    return commit.report()


def write_each(
    connection: Connection,
    plan: Plan,
    stop: StopToken = NEVER,
    progress: Progress | None = None,
    note: Note = lambda intent: None,
) -> Report:
    """One by one until the first that fails or a stop; the report tells exactly which were written."""
    with connection.transaction(stop, atomic=False) as writer:
        run = _Run(writer, plan, NEVER, None)
        note(Intent(plan, {}, {}, "", Report((), dt.datetime.now()), is_atomic=False))
        outcomes, done, written = one_by_one(plan, stop, progress, run.alone, run.read_back)
    return partly(_intent(done, outcomes, written, run).report, plan, done)


class _Run:
    """A plan's statements on one collection; `now` holds the documents as they are, by row id."""

    def __init__(self, writer: DocumentWriter, plan: Plan, stop: StopToken, progress: Progress | None) -> None:
        self._writer, self._plan, self._stop, self._progress = writer, plan, stop, progress
        self.now: dict[int, dict[str, Any] | None] = {}
        self.keys: dict[int, Any] = {}

    def look(self, statements: Sequence[Statement]) -> None:
        """Read the documents that statements speak of."""
        for start in range(0, len(statements), AT_ONCE):
            self._stop.check()
            part = [s for s in statements[start : start + AT_ONCE] if s.kind != StatementKind.INSERT]
            results = self._writer.documents(self._plan.table, [s.key[0][1] for s in part])
            for statement in part:
                self.keys[statement.row_id] = statement.key[0][1]
                self.now[statement.row_id] = next((d for d in results if exactly(d["_id"], statement.key[0][1])), None)

    def compared(self) -> tuple[Outcome, ...]:
        """What would become of each statement, by the documents as they are."""
        self.look(self._plan.statements)
        return tuple(self._problem(s) or Outcome(s, 1) for s in self._plan.statements)

    def all(self, at_once: bool) -> tuple[Outcome, ...] | None:
        """Each has been compared before, and is matched by what was found. With `at_once` they are sent many at a time;
        None when one of them did not touch its document."""
        found = {o.statement.row_id: o for o in self.compared()}
        good = [s for s in self._plan.statements if found[s.row_id].is_good]
        for start in range(0, len(good), AT_ONCE):
            part = good[start : start + AT_ONCE]
            if self._progress is not None:
                self._progress(start, len(good))
            if at_once:
                try:
                    touched = self._writer.bulk(self._plan.table, [self._operation(s) for s in part])
                except LostError:
                    raise
                except SourceError:
                    return None
                if touched != len(part):
                    return None
                continue
            for statement in part:
                found[statement.row_id] = self.one(statement)
                self._stop.check()
                if not found[statement.row_id].is_good and self._writer.is_atomic:
                    return self._rest(found)  # a transaction that met an error takes no further statement
        return tuple(found[s.row_id] for s in self._plan.statements)

    def _rest(self, found: Mapping[int, Outcome]) -> tuple[Outcome, ...]:
        return tuple(found[s.row_id] for s in self._plan.statements)

    def alone(self, statement: Statement) -> Outcome:
        """Read one document and write it."""
        self.look([statement])
        return self.one(statement)

    def one(self, statement: Statement) -> Outcome:
        """Write one document, matched by what was found in it."""
        problem = self._problem(statement)
        if problem is not None:
            return problem
        try:
            touched = self._writer.one(self._plan.table, self._operation(statement))
        except LostError:
            raise
        except SourceError as refused:
            return Outcome(statement, 0, tr("The server refused it: {message}", message=refused.message))
        if touched == 1:
            return Outcome(statement, 1)
        self.look([statement])
        return self._problem(statement) or Outcome(statement, touched, tr("The document changed while it was written."))

    def _operation(self, statement: Statement) -> tuple[object, ...]:
        """(kind, filter or new document, change)."""
        if statement.kind == StatementKind.INSERT:
            document = _whole(statement)
            document = document if "_id" in document else {"_id": self._writer.new_id(), **document}
            self.keys[statement.row_id] = document["_id"]
            return "insert", document, None
        if statement.kind == StatementKind.DELETE:
            return "delete", self._matched(statement), None
        now = self.now[statement.row_id] or {}
        values = statement.values
        if not self._plan.is_exact:
            values = tuple((path, _like(_at(now, path), value)) for path, value in values)
        return "update", self._matched(statement), _change(values)

    def _problem(self, statement: Statement) -> Outcome | None:
        if statement.kind == StatementKind.INSERT:
            return None
        now = self.now.get(statement.row_id)
        if now is None:
            return Outcome(statement, 0, tr("The document is gone: someone else deleted it."), (), True, is_gone=True)
        for path, _ in statement.values:
            parent = _at(now, path.rpartition(".")[0]) if "." in path else now
            if isinstance(parent, list) and not path.rpartition(".")[2].isdigit():
                return Outcome(
                    statement, 0, tr("{path} lies in a list of this document; edit the list as a whole.", path=path)
                )
        differing = tuple((path, _at(now, path)) for path, seen in statement.seen if not as_seen(_at(now, path), seen))
        if not differing:
            return None
        words = ", ".join(tr("{path} is now {shown}", path=path, shown=_shown(value)) for path, value in differing)
        return Outcome(statement, 0, tr("Someone else changed this document: {words}.", words=words), differing, True)

    def _matched(self, statement: Statement) -> dict[str, object]:
        """By what was just found, types included, so that nothing slips in between."""
        now = self.now[statement.row_id] or {}
        paths = [path for path, _ in (*statement.seen, *(statement.values if self._plan.guard != Guard.KEY else ()))]
        return dict(statement.key) | {
            path: _seen(_at(now, path)) for path in dict.fromkeys(paths) if can_be_asked(path)
        }

    def read_back(self, plan: Plan) -> dict[int, dict[str, object] | None]:
        """The documents as they are after writing; by path for those columns that were pulled."""
        keys = {s.row_id: self.keys[s.row_id] for s in plan.statements if s.kind != StatementKind.DELETE}
        results = self._writer.documents(self._plan.table, list(keys.values()))
        rows: dict[int, dict[str, Any] | None] = {s.row_id: None for s in plan.statements}
        for row_id, key in keys.items():
            document: dict[str, Any] = next((d for d in results if exactly(d["_id"], key)), {})
            rows[row_id] = {c.name: _at(document, c.name) for c in self._plan.info.columns}
        return rows


def _intent(
    plan: Plan, outcomes: tuple[Outcome, ...], written: Mapping[int, dict[str, object] | None], run: _Run
) -> Intent:
    """What is committed, with its reversal."""
    at = dt.datetime.now()
    keys: dict[int, Pairs] = {row_id: (("_id", key),) for row_id, key in run.keys.items()}
    whole = {s.row_id: _by_path(run.now.get(s.row_id) or {}) for s in plan.statements if s.kind == StatementKind.DELETE}
    was = replace(plan, statements=tuple(_as_it_was(s, run.now.get(s.row_id)) for s in plan.statements))
    back = replace(plan, statements=tuple(reversal(was, keys, whole, written)), guard=Guard.SEEN, is_exact=True)
    text = script(back, tr("Restores what was written to {table} at {at:%Y-%m-%d %H:%M:%S}.", table=plan.table, at=at))
    return Intent(plan, keys, written, "", Report(outcomes, at, True, written, text, back))


def _by_path(document: Mapping[str, object]) -> dict[str, object]:
    return {path_of(name): value for name, value in document.items()}


def _as_it_was(statement: Statement, document: Mapping[str, Value] | None) -> Statement:
    """With the old values in the types that the document has; the grid knows fewer."""
    if statement.kind != StatementKind.UPDATE or document is None:
        return statement
    return replace(statement, old=tuple((path, _at(document, path)) for path, _ in statement.old))


def look_up(connection: Connection, intent: Intent) -> str:
    """After a commit that was not answered: the documents tell. Returns what to say when it was done. Raises:
    ChangeError when nothing was written; OutcomeUnknown."""
    lost, plan = tr("The server did not confirm the commit"), intent.plan
    try:
        with connection.transaction(atomic=False) as writer:
            again = _Run(writer, plan, NEVER, None)
            again.keys = {row_id: key[0][1] for row_id, key in intent.keys.items()}
            now = again.read_back(plan)
            gone = [s for s in plan.statements if s.kind == StatementKind.DELETE]
            left = writer.documents(plan.table, [s.key[0][1] for s in gone])
    except OtterError as problem:
        raise OutcomeUnknown(
            tr("{lost}, and the documents can't be read: {message}", lost=lost, message=problem.message),
            tr("It is looked up again before anything more is written."),
        ) from problem
    alike = [
        exactly(now[s.row_id], intent.written[s.row_id]) for s in plan.statements if s.kind != StatementKind.DELETE
    ]
    if all(alike) and not left:
        return tr("{lost}, but the documents show that all of it was written.", lost=lost)
    if not any(alike) and len(left) == len(gone):
        raise ChangeError(
            tr("{lost}. The documents show that nothing was written; the changes are still pending.", lost=lost),
            tr("Write them again."),
        )
    raise OutcomeUnknown(
        tr("{lost}; the documents do not show whether it was written.", lost=lost),
        tr("Run the query again and compare before writing."),
    )


def as_seen(now: Value, seen: Value) -> bool:
    """Whether a document's value is what the grid showed of it: decimals and long numbers by value."""
    if isinstance(now, Mapping) and isinstance(seen, Mapping):
        return list(now) == list(seen) and all(as_seen(now[name], seen[name]) for name in now)
    if isinstance(now, list) and isinstance(seen, list):
        return len(now) == len(seen) and all(map(as_seen, now, seen))
    to_decimal = getattr(now, "to_decimal", None)
    if to_decimal is not None and not hasattr(seen, "to_decimal"):
        return bool(to_decimal() == seen)
    if isinstance(now, (int, float)) and isinstance(seen, (int, float)):
        return isinstance(now, bool) is isinstance(seen, bool) and (now == seen or (now != now and seen != seen))
    return exactly(now, seen)


def _at(document: Value, path: str) -> Value:
    """The value at a dotted path; MISSING where it ends."""
    for part in parts_of(path):
        if isinstance(document, Mapping):
            document = document.get(part, MISSING)
        elif isinstance(document, list) and part.isdigit() and int(part) < len(document):
            document = document[int(part)]
        else:
            return MISSING
    return document


def _like(before: Value, value: Value) -> Value:
    """A value in the type of what stood there, where the grid knows fewer types than the server."""
    import bson

    if isinstance(before, bson.Decimal128) and type(value) in (int, float, Decimal):
        return bson.Decimal128(str(value))
    if isinstance(before, bson.Int64) and type(value) is int:
        return bson.Int64(value)
    if isinstance(before, float) and type(value) is int:
        return float(value)
    return value


_TYPES: dict[str, str] = {
    "bool": "bool", "float": "double", "str": "string", "datetime": "date", "ObjectId": "objectId",
    "Decimal128": "decimal", "bytes": "binData", "Int64": "long",
}  # fmt: skip


def _seen(value: Value) -> dict[str, object]:
    """What matches exactly this value: null is not the same as absent, nor 1 the same as 1.0."""
    if isinstance(value, Missing):
        return {"$exists": False}
    if value is None:
        return {"$eq": None, "$type": "null"}
    kind = _TYPES.get(type(value).__name__)
    return {"$eq": value} | ({"$type": kind} if kind else {})


def _change(values: Pairs) -> dict[str, object]:
    made: dict[str, Any] = {}
    for path, value in values:
        if isinstance(value, Missing):
            made.setdefault("$unset", {})[path] = ""
        else:
            made.setdefault("$set", {})[path] = value
    return made


def _whole(statement: Statement) -> dict[str, object]:
    """A new document; dotted paths become objects in objects."""
    whole: dict[str, Any] = {}
    for path, value in statement.values:
        *above, last = parts_of(path)
        inner = whole
        for part in above:
            inner = inner.setdefault(part, {})
        inner[last] = value
    return whole


def _shown(value: Value) -> str:
    if isinstance(value, Missing):
        return tr("not there")
    text = tr("empty") if value is None else plain(value)
    return text if len(text) <= 60 else text[:59] + "…"
