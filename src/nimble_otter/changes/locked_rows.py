"""The rows that a plan changes: locked and kept as they were before, compared with what was seen, and read again."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from nimble_otter.changes.alike import alike, identical
from nimble_otter.changes.plan import Pairs, Plan, Statement, StatementKind
from nimble_otter.changes.report import Outcome, batches
from nimble_otter.changes.statement_sql import Wording
from nimble_otter.errors import LostError, SourceError
from nimble_otter.sources.facts import TableFacts
from nimble_otter.sources.session import Done
from nimble_otter.sources.writer import Writer
from nimble_otter.stop import StopToken
from nimble_otter.table.text.show import plain
from nimble_otter.translation import tr

POINT = "nimble_otter"
Row = dict[str, Any]


class LockedRows:
    """`before` are the rows as they were, by row id, in values that can be put back; `shown` as a query gives them."""

    def __init__(self, writer: Writer, plan: Plan, facts: TableFacts, stop: StopToken) -> None:
        self._writer, self._facts, self._stop = writer, facts, stop
        self.before: dict[int, Row] = {}
        self.shown: dict[int, Row] = {}
        self.follow(plan)

    def follow(self, plan: Plan) -> None:
        """Go on with this plan: the same statements, maybe in another order or with rows put aside."""
        self.plan, self.words = plan, Wording(plan)

    @property
    def _columns(self) -> list[str]:
        """Every column that a statement can give a value to."""
        return [c.name for c in self.plan.info.columns if not (c.generated and c.generated != "identity")]

    def _read_of(self, statement: Statement) -> list[str]:
        """The columns of a row that are kept before it is changed."""
        if statement.kind == StatementKind.DELETE or self._facts.may_change_more:
            return self._columns
        wanted = {name for name, _ in (*statement.values, *statement.key, *statement.seen)}
        for names in self._facts.uniques:
            wanted |= set(names) if wanted.intersection(names) else set()
        return [name for name in self._columns if name in wanted]

    def compared(self, statement: Statement) -> list[str]:
        """Columns seen that are compared here, under the lock, and not by the server: lists, which it may not be able
        to compare, and what it sets itself when the row is put aside first."""
        if self.plan.by_values:
            return []
        if any(row == statement.row_id for row, _ in self.plan.parks):
            return [name for name, _ in statement.seen]
        infos, dialect = {c.name: c for c in self.plan.info.columns}, self.plan.dialect
        return [n for n, v in statement.seen if v is not None and n in infos and dialect.compares_here(infos[n])]

    def differs(self, statement: Statement) -> bool:
        """Whether a row under lock does not hold what was seen, in what is compared here."""
        held, seen = self.shown[statement.row_id], dict(statement.seen)
        for name in self.compared(statement):
            info = self.plan.column(name)
            is_text = isinstance(seen[name], str) and info is not None and info.word == "text"
            if not (held[name] == seen[name] if is_text else alike(held[name], seen[name])):
                return True
        return False

    def lock(self, statements: Sequence[Statement]) -> dict[int, Outcome]:
        """Lock the rows that are changed and keep them as they are. Returns, by row id, the conflicts of those that are
        gone or changed in what can only be compared here."""
        found: dict[int, Outcome] = {}
        for batch in batches(statements):
            self._stop.check()
            for statement, row in zip(batch, self._locked(batch), strict=True):
                if row is None:
                    found[statement.row_id] = conflict(self.plan, statement, None)
                    continue
                shown, self.before[statement.row_id] = row
                self.shown[statement.row_id] = shown
                if self.differs(statement):
                    found[statement.row_id] = self.conflict_now(statement)
        return found

    def _locked(self, batch: Sequence[Statement]) -> list[tuple[Row, Row] | None]:
        columns = [self._read_of(s) for s in batch]
        if (
            not self.plan.dialect.lock_suffix
        ):  # where whoever writes has the file, and one query reads many rows quicker
            every = list(dict.fromkeys(name for own in columns for name in own))
            rows = self._read({n: s.key for n, s in enumerate(batch)}, every)
            kept = [
                None if row is None else {name: row[name] for name in own}
                for own, row in zip(columns, rows.values(), strict=True)
            ]
            return [None if row is None else (row, dict(row)) for row in kept]
        for waits in (True, False):
            locks = [self.words.locking(s.key, own, waits) for s, own in zip(batch, columns, strict=True)]
            try:
                dones = self._writer.execute_many(locks, POINT)
                break
            except LostError:
                raise
            except SourceError:
                self._stop.check()
                if not waits:
                    raise
                self._writer.go_back(POINT)  # who may delete may not always lock
        return [self._kept(own, done) for own, done in zip(columns, dones, strict=True)]

    def _kept(self, columns: list[str], done: Done) -> tuple[Row, Row] | None:
        if not done.rows:
            return None
        row = done.rows[0]
        shown = dict(zip(columns, row, strict=False))
        return shown, shown | dict(zip(self.words.exact(columns), row[len(columns) :], strict=True))

    # --- read again --------------------------------------------------------------------------------------------

    def read(self, keys: Mapping[int, Pairs]) -> dict[int, Row | None]:
        """Rows of the plan's table by their keys; None where there is none."""
        return self._read(keys, [c.name for c in self.plan.info.columns])

    def _read(self, keys: Mapping[int, Pairs], columns: Sequence[str]) -> dict[int, Row | None]:
        found: dict[int, Row | None] = dict.fromkeys(keys)
        for part in batches(keys):
            _, rows = self._writer.query(self.words.reading([keys[row_id] for row_id in part], columns))
            for row in rows:
                found[part[row[0]]] = dict(zip(columns, row[1:], strict=True))
        return found

    def conflict_now(self, statement: Statement) -> Outcome:
        """What stands against a statement in its row as it is now."""
        return conflict(self.plan, statement, self.read({0: statement.key})[0])

    def differences(self) -> list[str]:
        """Columns in which the rows are now otherwise than they were `before`: asked after a reversal was tried."""
        names: list[str] = []
        for batch in batches(self.before):
            statements = [s for s in self.plan.statements if s.row_id in set(batch)]
            for statement, row in zip(statements, self._locked(statements), strict=True):
                was = self.before[statement.row_id]
                now = row[1] if row is not None else {}
                names += [name for name, value in was.items() if name not in now or not identical(now[name], value)]
        return list(dict.fromkeys(names))


def conflict(plan: Plan, statement: Statement, current: Mapping[str, object] | None) -> Outcome:
    """What stands against a statement whose row is now `current` (None: it is gone)."""
    if current is None:
        text = (
            tr("is not there as it was seen")
            if plan.by_values
            else tr("is gone: someone else deleted it or changed its key")
        )
        return Outcome(statement, 0, tr("The row {text}.", text=text), (), True, is_gone=True)
    now = tuple((n, current.get(n)) for n, seen in statement.seen if not alike(current.get(n), seen))
    words = ", ".join(tr("{name} is now {value}", name=name, value=shown(value)) for name, value in now)
    if words:
        return Outcome(statement, 0, tr("Someone else changed this row: {words}.", words=words), now, True)
    return Outcome(
        statement, 0, tr("The row still holds what was seen, and the server did not change it: a trigger, a rule or a "
        "row security policy keeps it as it is."),
    )  # fmt: skip


def shown(value: object) -> str:
    """A value in a sentence: NULL by its name, long texts cut."""
    if value is None:
        return "NULL"
    text = plain(value)
    return (text if len(text) <= 60 else text[:59] + "…") or tr("an empty text")
