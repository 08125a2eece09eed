"""What was written, and how it is put back: one file for each write, with its statements, and a log of all.

The plan is kept beside the script so that a reversal can be reviewed, rehearsed and written like any other change.
"""

from __future__ import annotations

import datetime as dt
import json
from collections.abc import Iterable
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

from nimble_otter.changes.plan import Plan, Statement
from nimble_otter.errors import CorruptError
from nimble_otter.files import set_aside, write_text
from nimble_otter.pull.drafts import plain_in, plain_out
from nimble_otter.sources.catalogue import ColumnInfo, TableInfo

VERSION = 1
LOG = "writes.jsonl"


@dataclass(frozen=True, slots=True)
class Written:
    """One write: when, of which pull, to which table of which source, how many statements; `path` is the file with its
    reversal, `was_reversal` tells that it was one itself."""

    at: dt.datetime
    pull: str
    source: str
    table: str
    statements: int
    path: Path
    was_reversal: bool = False

    @property
    def script(self) -> Path:
        """The same reversal as a script for the server's own client."""
        return self.path.with_suffix(".sql" if self.path.with_suffix(".sql").exists() else ".js")


def keep_write(folder: Path, made: Written, plan: Plan, text: str) -> Written:
    """Write the reversal and a line of the log. Raises: OSError."""
    safe = "".join(c if c.isalnum() or c in " -_" else "-" for c in made.pull)
    stem = f"{made.at:%Y-%m-%d %H%M%S} {safe}"
    path = next(p for n in range(1000) if not (p := folder / f"{stem}{f' {n}' if n else ''}.json").exists())
    whole = {"version": VERSION, **_told(made), "plan": _plan_out(plan)}
    write_text(path.with_suffix(".js" if plan.dialect == "documents" else ".sql"), text)
    write_text(path, json.dumps(whole, ensure_ascii=False, indent=1))
    with (folder / LOG).open("a", encoding="utf-8") as log:
        log.write(json.dumps({**_told(made), "reversal": path.name}, ensure_ascii=False) + "\n")
    return Written(made.at, made.pull, made.source, made.table, made.statements, path, made.was_reversal)


def all_writes(folder: Path, pull: str, source: str) -> list[Written]:
    """The writes of a pull, the latest first; what can't be read of the log is passed over."""
    found = []
    for line in _lines(folder / LOG):
        try:
            told = json.loads(line)
            if (told["pull"], told["source"]) == (pull, source) and (folder / told["reversal"]).exists():
                found.append(
                    Written(
                        dt.datetime.fromisoformat(told["at"]), pull, source, str(told["table"]),
                        int(told["statements"]), folder / told["reversal"], bool(told["was_reversal"]),
                    )
                )  # fmt: skip
        except (ValueError, KeyError, TypeError):
            continue
    return found[::-1]


def load_reversal(path: Path) -> Plan:
    """The statements that put a write back. Raises: CorruptError; the file is set aside."""
    try:
        return _plan_in(json.loads(path.read_text("utf-8"))["plan"])
    except (OSError, ValueError, KeyError, TypeError):
        aside = set_aside(path)
        raise CorruptError(
            f"The reversal was damaged; it is kept as {aside.name}.", f"It is in {aside.parent}."
        ) from None


def _lines(path: Path) -> Iterable[str]:
    try:
        return path.read_text("utf-8").splitlines()
    except OSError:
        return ()


def _told(made: Written) -> dict[str, Any]:
    return {
        "at": made.at.isoformat(), "pull": made.pull, "source": made.source, "table": made.table,
        "statements": made.statements, "was_reversal": made.was_reversal,
    }  # fmt: skip


def _plan_out(plan: Plan) -> dict[str, Any]:
    info: dict[str, Any] = {"name": plan.info.name, "kind": plan.info.kind, "schema": plan.info.schema}
    info |= {"columns": [asdict(column) for column in plan.info.columns]}
    statements = [
        {"kind": s.kind, "row": s.row_id, **{n: plain_out(getattr(s, n)) for n in ("values", "key", "seen", "old")}}
        for s in plan.statements
    ]
    own = {"key": list(plan.key), "dialect": plan.dialect, "guard": plan.guard, "by_values": plan.by_values}
    return {"table": info, **own, "statements": statements}


def _plan_in(plain: dict[str, Any]) -> Plan:
    info = plain["table"]
    columns = tuple(ColumnInfo(**{**c, "values": tuple(c["values"])}) for c in info["columns"])
    statements = []
    for s in plain["statements"]:
        parts = (tuple((name, value) for name, value in plain_in(s[n])) for n in ("values", "key", "seen", "old"))
        statements.append(Statement(str(s["kind"]), int(s["row"]), *parts))
    table = TableInfo(str(info["name"]), str(info["kind"]), columns, schema=str(info["schema"]))
    return Plan(
        table, tuple(plain["key"]), tuple(statements), str(plain["dialect"]), str(plain["guard"]),
        bool(plain["by_values"]), is_exact=True,
    )  # fmt: skip
