"""What was written, and how it is put back: one file for each write, with its statements, and a log of all.

The plan is kept beside the script so that a reversal can be reviewed, rehearsed and written like any other change. Both
are kept before a write is committed, with a note by which it can be looked up: whoever is stopped, cut off or killed
meanwhile finds the note, and asks the server. The log tells only of what was written.
"""

from __future__ import annotations

import datetime as dt
import json
import os
import uuid
from collections.abc import Callable, Hashable, Iterable
from dataclasses import asdict, dataclass, replace
from pathlib import Path
from typing import Any

from nimble_otter.changes.plan import Guard, Plan, Statement, StatementKind
from nimble_otter.changes.report import Intent, Report
from nimble_otter.errors import CorruptError, OtterError, OutcomeUnknown, SavedError, Stopped
from nimble_otter.files import LONGEST_LOG, append_text, locked, read_text, set_aside, write_text
from nimble_otter.pull.drafts import EditDraft, as_name, edits_in, edits_out, plain_in, plain_out
from nimble_otter.sources.catalogue import ColumnInfo, EntryKind, ForeignKey, TableInfo
from nimble_otter.sources.source import dialect_of
from nimble_otter.translation import tr
from nimble_otter.values import Value

VERSION = 1
_OPEN: set[str] = set()
"""Names of the journals of this process that are in use."""
LOG = "writes.jsonl"


@dataclass(frozen=True, slots=True)
class Written:
    """One write: when, of which pull, to which table of which source, how many statements; `path` is the file with its
    reversal, `was_reversal` tells that it was one itself. `uid` is the pull's, `lasting` what the reversal does not
    bring back."""

    at: dt.datetime
    pull: str
    source: str
    table: str
    statements: int
    path: Path
    was_reversal: bool = False
    uid: str = ""
    lasting: str = ""

    @property
    def script(self) -> Path:
        """The same reversal as a script for the server's own client."""
        return self.path.with_suffix(".sql" if self.path.with_suffix(".sql").exists() else ".js")


@dataclass(frozen=True, slots=True)
class Noted:
    """The note of a write: `outcome` is "" while nothing is known of it, and "written" until the pull has taken that
    it was. `edits` are the changes that it was made from, `keys` the new keys of rows whose keys it changed."""

    path: Path
    written: Written
    url: str
    edits: EditDraft
    keys: dict[Hashable, tuple[Any, ...]]
    outcome: str = ""
    is_alive: bool = False
    """Whether the program that noted it still runs."""

    def intent(self) -> Intent:
        """By what it can be looked up. Raises: CorruptError."""
        whole = _load(self.path)
        try:
            keys = {int(row): tuple(map(tuple, plain_in(key))) for row, key in whole["keys"].items()}
            rows = {int(row): plain_in(values) for row, values in whole["rows"].items()}
            plan = _plan_in(whole["plan"])
            report = Report((), self.written.at, True, rows, "", load_reversal(self.written.path))
            return Intent(plan, keys, rows, str(whole["mark"]), report, bool(whole["is_atomic"]))
        except (KeyError, TypeError, ValueError, AttributeError, ArithmeticError) as problem:
            raise _damaged(self.path) from problem


def _keep_reversal(folder: Path, made: Written, plan: Plan, text: str) -> Written:
    safe = "".join(c if c.isalnum() or c in " -_" else "-" for c in made.pull)[:80]
    stem = f"{made.at:%Y-%m-%d %H%M%S} {safe}"
    path = next(p for n in range(1000) if not (p := folder / f"{stem}{f' {n}' if n else ''}.json").exists())
    whole = {"version": VERSION, **_told(made), "plan": _plan_out(plan)}
    write_text(path.with_suffix(plan.dialect.script_suffix), text)
    write_text(path, json.dumps(whole, ensure_ascii=False, indent=1))
    return replace(made, path=path)


def _log(folder: Path, made: Written) -> None:
    append_text(folder / LOG, json.dumps({**_told(made), "reversal": made.path.name}, ensure_ascii=False) + "\n")


class WriteJournal:
    """The notes of writes under way, beside their reversals. Any thread may call it."""

    def __init__(self, folder: Path) -> None:
        self.folder, self._name = folder, uuid.uuid4().hex
        _OPEN.add(self._name)

    def close(self) -> None:
        """Nobody waits for writes any more: those that are still under way are for the next one to look up."""
        _OPEN.discard(self._name)

    def write(
        self, told: Written, url: str, edits: EditDraft, do: Callable[[Callable[[Intent], object]], Report]
    ) -> tuple[Report, Noted | None]:
        """Write with `do`, which gets what notes it before the commit; note what came of it. Raises: what `do` raises;
        SavedError where it can't be noted, and so is not written."""
        noted: list[Noted] = []

        def note(intent: Intent) -> None:
            noted.append(self._note(told, url, edits, intent))

        try:
            report = do(note)
        except OutcomeUnknown:
            raise  # the note stays
        except (OtterError, Stopped):
            for one in noted:
                self.drop(one)
            raise
        if not noted:
            return report, None
        if not report.is_written:
            self.drop(noted[0])
            return report, None
        return report, self.settle(noted[0], report)

    def _note(self, told: Written, url: str, edits: EditDraft, intent: Intent) -> Noted:
        try:
            report = intent.report
            back = report.back or replace(intent.plan, statements=())
            written = replace(told, at=report.at, statements=len(intent.plan.statements), lasting=report.lasting)
            written = _keep_reversal(self.folder, written, back, report.reversal)
            path = written.path.with_suffix(".intent")
            whole = {
                "version": VERSION, **_told(written), "url": url, "outcome": "", "reversal": written.path.name,
                "process": [*_process(os.getpid()), self._name], "mark": intent.mark, "is_atomic": intent.is_atomic,
                "plan": _plan_out(intent.plan), "edits": edits_out(edits),
                "keys": {str(row): plain_out(key) for row, key in intent.keys.items()},
                "rows": {str(row): plain_out(values) for row, values in intent.written.items()},
                "renamed": _renamed(intent),
            }  # fmt: skip
            write_text(path, json.dumps(whole, ensure_ascii=True))
            return Noted(path, written, url, edits, _names(whole["renamed"]))
        except OSError as problem:
            raise SavedError(
                tr(
                    "The write could not be recorded before running it: {strerror}. Nothing was written.",
                    strerror=problem.strerror,
                ),
                tr("Free some space, or get write permission for {folder}.", folder=self.folder),
            ) from problem

    def settle(self, noted: Noted, report: Report | None = None) -> Noted:
        """It was written: from now on the log tells of it. `report` is of one that was written in part."""
        with locked(noted.path):
            try:
                whole = _load(noted.path)
            except CorruptError:
                return noted
            if whole["outcome"]:
                return replace(noted, outcome="written")
            written = noted.written
            if report is not None and report.back is not None and (report.left or not whole["is_atomic"]):
                written = replace(written, statements=report.good)
                write_text(written.script, report.reversal)
                plain = {"version": VERSION, **_told(written), "plan": _plan_out(report.back)}
                write_text(written.path, json.dumps(plain, ensure_ascii=False, indent=1))
            _log(self.folder, written)
            write_text(noted.path, json.dumps({**whole, "outcome": "written"}, ensure_ascii=True))
        return replace(noted, written=written, outcome="written")

    def drop(self, noted: Noted) -> None:
        """Nothing was written: neither note nor reversal is of use."""
        for path in (noted.path, noted.written.path, noted.written.script):
            path.unlink(missing_ok=True)

    def taken(self, noted: Noted) -> None:
        """The pull knows that it was written, and that is on disk."""
        noted.path.unlink(missing_ok=True)

    def open(self) -> list[Noted]:
        """Every note that is there; damaged ones are set aside."""
        results = []
        for path in sorted(self.folder.glob("*.intent")) if self.folder.is_dir() else ():
            try:
                whole = _load(path)
                written = replace(
                    _written(whole, self.folder / str(whole["reversal"])), statements=int(whole["statements"])
                )
                edits = edits_in(whole["edits"])
                number, *began, name = whole["process"]
                is_own = int(number) == os.getpid()
                is_alive = [number, *began] == _process(int(number)) and (name in _OPEN or not is_own)
                names, outcome = _names(whole["renamed"]), str(whole["outcome"])
                results.append(Noted(path, written, str(whole["url"]), edits, names, outcome, is_alive))
            except CorruptError:
                continue
            except (KeyError, TypeError, ValueError, AttributeError, ArithmeticError, IndexError):
                _damaged(path)
        return results


def _renamed(intent: Intent) -> list[Value]:
    """Pairs of the old and new keys of rows whose keys change."""
    results = []
    for statement in intent.plan.statements:
        new = intent.keys.get(statement.row_id)
        if statement.kind == StatementKind.UPDATE and new is not None and new != statement.key:
            results.append([plain_out([v for _, v in statement.key]), plain_out([v for _, v in new])])
    return results


def _names(renamed: Value) -> dict[Hashable, tuple[object, ...]]:
    return {as_name(tuple(plain_in(old))): tuple(plain_in(new)) for old, new in renamed}


def _process(number: int) -> list[Value]:
    """A process by its number and when it began, as numbers are used again (proc(5)); of one that is over its number
    alone."""
    try:
        return [number, Path(f"/proc/{number}/stat").read_text().rpartition(")")[2].split()[19]]
    except (OSError, IndexError):
        return [number]


def _load(path: Path) -> dict[str, Value]:
    try:
        whole: dict[str, Any] = json.loads(read_text(path, LONGEST_LOG))
        if not isinstance(whole, dict):
            raise TypeError(tr("no object"))
    except (OSError, ValueError, TypeError, RecursionError) as problem:
        raise _damaged(path) from problem
    return whole


def _damaged(path: Path) -> CorruptError:
    aside = set_aside(path)
    return CorruptError(
        tr("The record of a write was damaged; it is kept as {aside_name}.", aside_name=aside.name),
        tr("It is in {parent}.", parent=aside.parent),
    )


def _written(told: dict[str, Value], path: Path) -> Written:
    return Written(
        dt.datetime.fromisoformat(told["at"]), str(told["pull"]), str(told["source"]), str(told["table"]),
        int(told["statements"]), path, bool(told["was_reversal"]), str(told.get("uid", "")),
        str(told.get("lasting", "")),
    )  # fmt: skip


def all_writes(folder: Path, pull: str, source: str, uid: str = "", table: str = "") -> list[Written]:
    """The writes of a pull, and those to its table from others, the latest first; what can't be read of the log is
    passed over. A pull is known by its `uid` whatever it is called now, earlier writes by its name."""
    results = []
    for line in _lines(folder / LOG):
        try:
            told = json.loads(line)
            is_own = (told.get("uid") == uid != "") or (told["pull"], told["source"]) == (pull, source)
            if (is_own or (told["source"], told["table"]) == (source, table)) and (folder / told["reversal"]).exists():
                results.append(_written(told, folder / told["reversal"]))
        except (ValueError, KeyError, TypeError, AttributeError, RecursionError):
            continue
    return results[::-1]


def load_reversal(path: Path) -> Plan:
    """The statements that put a write back. Raises: CorruptError; the file is set aside."""
    try:
        return _plan_in(json.loads(read_text(path, LONGEST_LOG))["plan"])
    except (OSError, ValueError, KeyError, TypeError, AttributeError, RecursionError) as problem:
        aside = set_aside(path)
        raise CorruptError(
            tr("The reversal was damaged; it is kept as {aside_name}.", aside_name=aside.name),
            tr("It is in {parent}.", parent=aside.parent),
        ) from problem


def _lines(path: Path) -> Iterable[str]:
    try:
        return read_text(path, LONGEST_LOG).splitlines()
    except (OSError, UnicodeDecodeError):
        return ()


def _told(made: Written) -> dict[str, Value]:
    return {
        "at": made.at.isoformat(), "pull": made.pull, "source": made.source, "table": made.table,
        "statements": made.statements, "was_reversal": made.was_reversal, "uid": made.uid, "lasting": made.lasting,
    }  # fmt: skip


def _plan_out(plan: Plan) -> dict[str, Value]:
    info: dict[str, Any] = {"name": plan.info.name, "kind": plan.info.kind, "schema": plan.info.schema}
    info |= {"columns": [asdict(column) for column in plan.info.columns]}
    statements = [
        {"kind": s.kind, "row": s.row_id, **{n: plain_out(getattr(s, n)) for n in ("values", "key", "seen", "old")}}
        for s in plan.statements
    ]
    own: dict[str, Any] = {
        "key": list(plan.key),
        "dialect": plan.dialect.key,
        "guard": plan.guard,
        "by_values": plan.by_values,
    }
    own |= {"parks": [[row, plain_out(pairs)] for row, pairs in plan.parks]}
    info |= {"foreign": [asdict(link) for link in plan.info.foreign]}
    return {"table": info, **own, "statements": statements}


def _link_in(link: dict[str, object]) -> ForeignKey:
    own: dict[str, Any] = {name: tuple(value) if isinstance(value, list) else value for name, value in link.items()}
    return ForeignKey(**own)


def _plan_in(plain: dict[str, Value]) -> Plan:
    info = plain["table"]
    columns = tuple(ColumnInfo(**{**c, "values": tuple(c["values"])}) for c in info["columns"])
    statements = []
    for s in plain["statements"]:
        parts = (tuple((name, value) for name, value in plain_in(s[n])) for n in ("values", "key", "seen", "old"))
        statements.append(Statement(StatementKind(s["kind"]), int(s["row"]), *parts))
    foreign = tuple(_link_in(link) for link in info.get("foreign", ()))
    table = TableInfo(str(info["name"]), EntryKind(info["kind"]), columns, schema=str(info["schema"]), foreign=foreign)
    parks = tuple((int(row), tuple(map(tuple, plain_in(pairs)))) for row, pairs in plain.get("parks", ()))
    return Plan(
        table, tuple(plain["key"]), tuple(statements), dialect_of(str(plain["dialect"])), Guard(plain["guard"]),
        bool(plain["by_values"]), is_exact=True, parks=parks,
    )  # fmt: skip
