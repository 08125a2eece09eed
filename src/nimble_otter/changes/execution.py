"""A plan's statements run in one transaction: many at a time, each of which must touch exactly one row."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import replace

from nimble_otter.changes.alike import alike
from nimble_otter.changes.edits import DEFAULT
from nimble_otter.changes.locked_rows import POINT, LockedRows, Row, conflict, shown
from nimble_otter.changes.order import arranged, candidates
from nimble_otter.changes.plan import Pairs, Plan, Statement, StatementKind
from nimble_otter.changes.report import AT_ONCE, Outcome, batches
from nimble_otter.changes.side_effects import SideEffect, SideEffects
from nimble_otter.changes.statement_sql import Bound
from nimble_otter.errors import ChangeError, LostError, SourceError
from nimble_otter.sources.catalogue import TableInfo
from nimble_otter.sources.facts import TableFacts
from nimble_otter.sources.session import Done
from nimble_otter.sources.writer import Writer
from nimble_otter.stop import Progress, StopToken
from nimble_otter.table.text.show import grouped
from nimble_otter.translation import tr, trn

_NOT_TRIED = tr(
    "Not tried: the server has no savepoints, and its transaction ended with the first statement that failed."
)


class Execution:
    """`before` are the changed rows as they were, by row id, in values that can be put back; `lasting` says what a
    reversal would not restore, as far as that is known from what the statements did."""

    def __init__(self, writer: Writer, plan: Plan, stop: StopToken, progress: Progress | None = None) -> None:
        self._writer, self._stop, self._progress = writer, stop, progress
        self.facts = writer.facts(plan.info)
        self._rows = LockedRows(writer, replace(plan, info=_as_now(plan.info, self.facts)), self.facts, stop)
        self._sides = SideEffects(writer, self._rows, stop)
        self._done: dict[int, Outcome] = {}
        self._new: dict[int, Pairs] = {}
        self._was_halved, self._by_triggers, self._is_saved, self._is_over = False, 0, False, False
        self.lasting = ""

    @property
    def plan(self) -> Plan:
        """The plan as it is run: with the table's columns as they are now, its statements in the order that works."""
        return self._rows.plan

    @property
    def before(self) -> Mapping[int, Row]:
        """The changed rows as they were, by row id, in values that can be put back."""
        return self._rows.before

    def differences(self) -> list[str]:
        """Columns in which the changed rows are now otherwise than they were `before`."""
        return self._rows.differences()

    # --- running -----------------------------------------------------------------------------------------------

    def all(self) -> tuple[Outcome, ...]:
        """Many at a time while they go well; where they don't, the statement that fails is found by halving."""
        given = self.plan.statements
        self._done |= self._rows.lock([s for s in given if s.kind != StatementKind.INSERT])
        try:
            self._rows.follow(arranged(self.plan, self.facts.uniques, self._rows.shown))
        except ChangeError as refused:
            return tuple(Outcome(s, 0, str(refused)) for s in given)
        for statement in self.plan.statements if self.plan.parks else ():
            if statement.row_id in self._rows.shown and self._rows.differs(statement):
                self._done[statement.row_id] = self._rows.conflict_now(statement)
        left = [s for s in self.plan.statements if s.row_id not in self._done]
        within = [link for link in self.facts.referring if link.table == link.target]
        sides = self._sides.of(left, [link for link in self.facts.referring if link not in within])
        sides |= self._sides.of([s for s in left if s.kind == StatementKind.UPDATE], within)
        before, is_first = self._writer.changed_elsewhere() if self.facts.triggers else None, True
        for batch in self._batches(left):
            self._stop.check()
            if is_first and self.plan.parks and any(s.kind == StatementKind.UPDATE for s in batch):
                is_first = False
                if (problem := self._put_aside(left)) is not None:
                    return tuple(self._done.get(s.row_id) or problem(s) for s in given)
            if self._progress is not None:
                self._progress(len(self._done), len(given))
            if within and batch[0].kind == StatementKind.DELETE:
                # rows of this table may refer to it only since it was written to
                sides |= self._sides.of(batch, within, [s for s in left if s.kind == StatementKind.DELETE])
            if self._is_over:
                self._done |= {s.row_id: Outcome(s, 0, _NOT_TRIED) for s in batch}
                continue
            self._batch(batch, sides)
        if self._is_over:
            return tuple(self._done[s.row_id] for s in given)
        self._explain_missed()
        self._tell_of_triggers(before, len(left), sides)
        return tuple(self._done[s.row_id] for s in given)

    def _explain_missed(self) -> None:
        """Say why statements met no row: what stands there now."""
        missed = [o.statement for o in self._done.values() if o.rows == 0 and not o.problem]
        for batch in batches(missed):
            rows = self._rows.read({s.row_id: s.key for s in batch})
            for statement in batch:
                self._done[statement.row_id] = conflict(self.plan, statement, rows[statement.row_id])

    def _tell_of_triggers(self, before: int | None, count: int, sides: Mapping[int, SideEffect]) -> None:
        """How many rows triggers changed: `before` were changed when `count` statements began, where that is told."""
        if self.plan.dialect.tells_rows_beside:
            self._note_more(self._by_triggers)
        elif before is not None and not self._was_halved:
            own = count + len(self.plan.parks) + sum(side.rows for side in sides.values())
            self._note_more((self._writer.changed_elsewhere() or 0) - before - own)
        else:
            self._note_more(None)

    def _batches(self, statements: Sequence[Statement]) -> Iterable[list[Statement]]:
        """Parts of the statements, each of one kind."""
        runs: list[list[Statement]] = []
        for statement in statements:
            if runs and runs[-1][-1].kind == statement.kind and len(runs[-1]) < AT_ONCE:
                runs[-1].append(statement)
            else:
                runs.append([statement])
        if not self._writer.can_go_back:  # one that fails can't be looked for by halving
            return [[statement] for run in runs for statement in run]
        return runs

    def _put_aside(self, left: Sequence[Statement]) -> Callable[[Statement], Outcome] | None:
        """Give rows that exchange what is unique their temporary values; where the server takes none, what is wrong."""
        ids, parks = {s.row_id for s in left}, dict(self.plan.parks)
        self._is_saved = False  # on some servers a savepoint of the same name takes the place of the one before
        for number, statement in enumerate(self.plan.parked()):
            if statement.row_id not in ids:
                continue
            refused = ""
            for pairs in self._attempts(statement, number + len(left)):
                try:
                    self._writer.execute_many([self._rows.words.bound(replace(statement, values=pairs))], POINT)
                    parks[statement.row_id] = pairs
                    refused = ""
                    break
                except LostError:
                    raise
                except SourceError as problem:
                    self._stop.check()
                    self._writer.go_back(POINT)
                    refused = problem.message
            if refused:
                names = ", ".join(name for name, _ in statement.values)
                text = tr(
                    "Rows swap their {names}, and the server accepts no temporary value in between: {refused}",
                    names=names,
                    refused=refused,
                )
                return lambda s: Outcome(s, 0, text)
        self._rows.follow(replace(self.plan, parks=tuple(parks.items())))
        return None

    def _attempts(self, statement: Statement, number: int) -> Iterable[Pairs]:
        """The temporary values that were chosen, then others for each of them."""
        yield statement.values
        for name, _ in statement.values:
            info = self.plan.column(name)
            is_referred = any(name in link.referred for link in self.facts.referring)
            for value in candidates(info, number) if info is not None else ():
                if value is None and is_referred:
                    continue
                yield tuple((n, value if n == name else v) for n, v in statement.values)

    def _bound(self, statement: Statement) -> Bound:
        run = self.plan.as_run(statement)
        compared = set(self._rows.compared(statement))
        if compared:
            run = replace(run, seen=tuple(pair for pair in run.seen if pair[0] not in compared))
        return self._rows.words.bound(run, self._returning(statement))

    def _batch(self, batch: Sequence[Statement], sides: Mapping[int, SideEffect]) -> None:
        self._stop.check()
        problem: SourceError | None = None
        dones: list[Done] = []
        is_again, self._is_saved = self._is_saved, True  # going back to a savepoint keeps it
        try:
            dones = self._writer.execute_many([self._bound(s) for s in batch], POINT, stays=True, is_again=is_again)
        except LostError:
            raise
        except SourceError as refused:
            self._stop.check()  # what a stop ended, a wait for a lock too, is no conflict
            problem = refused
        is_even = problem is None and all(d.touched <= 1 for d in dones)
        if is_even or len(batch) == 1:
            if is_even:
                for statement, done in zip(batch, dones, strict=True):
                    side = sides.get(statement.row_id, SideEffect())
                    self._done[statement.row_id] = self._good(statement, done, side)
            else:
                self._go_back()
                self._done[batch[0].row_id] = self._bad(batch[0], dones[0] if dones else None, problem)
            return
        self._was_halved = True
        self._go_back()
        half = len(batch) // 2
        self._batch(batch[:half], sides)
        self._batch(batch[half:], sides)

    def _go_back(self) -> None:
        """To before the statement that failed; where the server has no savepoints, nothing more can be tried."""
        if self._writer.can_go_back:
            self._writer.go_back(POINT)
        else:
            self._is_over = True

    def _returning(self, statement: Statement) -> tuple[str, ...]:
        """What tells a new row again: its key, where it has one."""
        if statement.kind != StatementKind.INSERT or not self.plan.dialect.returns_keys:
            return ()
        return self.plan.info.key or self.plan.key

    def _good(self, statement: Statement, done: Done, side: SideEffect) -> Outcome:
        if statement.kind == StatementKind.INSERT and done.rows:
            self._new[statement.row_id] = tuple(zip(self._returning(statement), done.rows[0], strict=True))
        if done.touched and side.refused:
            return Outcome(statement, 1, side.refused)
        if not done.touched and statement.kind == StatementKind.INSERT:
            return Outcome(
                statement, 0, tr("The server accepted the insert but added no row (a trigger may have rejected it).")
            )
        more = done.beside - side.rows
        self._by_triggers += max(0, more)
        by_triggers = trn("{count} more row by triggers", "{count} more rows by triggers", more, count=grouped(more))
        notes = (side.note, by_triggers if more > 0 else "")
        return Outcome(statement, done.touched, note="; ".join(note for note in notes if note))

    def _bad(self, statement: Statement, done: Done | None, problem: SourceError | None) -> Outcome:
        if problem is not None:
            hint = f" {problem.hint}" if problem.hint else ""
            return Outcome(
                statement, 0, tr("The server refused it: {message}{hint}", message=problem.message, hint=hint)
            )
        assert done is not None
        text = tr("nothing tells them apart") if self.plan.by_values else tr("the key does not tell them apart")
        return Outcome(
            statement,
            done.touched,
            tr("It would change {touched} rows; {text}.", touched=grouped(done.touched), text=text),
        )

    def _note_more(self, count: int | None) -> None:
        """Say what triggers changed in other rows; None: the server does not tell how many."""
        kinds = {s.kind for s in self.plan.statements}
        names = [name for kind in sorted(kinds) for name in self.facts.triggers.get(kind, ())]
        if not names or (count is not None and count <= 0):
            return
        what = (
            trn(
                "{count} more row changed by triggers",
                "{count} more rows changed by triggers",
                count,
                count=grouped(count),
            )
            if count is not None
            else tr("what triggers change elsewhere")
        )
        self.lasting = f"{what} ({', '.join(dict.fromkeys(names))})"

    # --- afterwards --------------------------------------------------------------------------------------------

    def read_back(self, done: Plan | None = None) -> tuple[dict[int, Row | None], dict[int, Pairs]]:
        """Rows as they are after the statements, and their keys."""
        statements = (done or self.plan).statements
        keys = {s.row_id: self._key_after(s) for s in statements}
        rows = self._rows.read({s.row_id: keys[s.row_id] for s in statements if s.kind != StatementKind.DELETE})
        return {s.row_id: rows.get(s.row_id) for s in statements}, keys

    def with_notes(self, outcomes: Sequence[Outcome], written: Mapping[int, Row | None]) -> tuple[Outcome, ...]:
        """The outcomes, with what the server would keep otherwise than it was given."""
        results = []
        for outcome in outcomes:
            row = written.get(outcome.statement.row_id)
            given = [] if row is None else [p for p in outcome.statement.values if p[0] in row and p[1] is not DEFAULT]
            other = [(name, (row or {})[name]) for name, value in given if not alike((row or {})[name], value)]
            kept = "; ".join(
                tr("{name} is kept as {value}", name=name, value=shown(value)) for name, value in other[:3]
            )
            results.append(replace(outcome, note="; ".join(part for part in (outcome.note, kept) if part)))
        return tuple(results)

    def alone(self, statement: Statement) -> Outcome:
        """One statement that stays done, as its table knows no other way."""
        if statement.kind != StatementKind.INSERT:
            conflicts = self._rows.lock([statement])
            if conflicts:
                return conflicts[statement.row_id]
        side = self._sides.of([statement], self.facts.referring).get(statement.row_id, SideEffect())
        if side.refused:
            return Outcome(statement, 0, side.refused)
        try:
            done = self._writer.execute_many([self._bound(statement)])[0]
        except LostError:
            raise
        except SourceError as refused:
            self._stop.check()
            return self._bad(statement, None, refused)
        if done.touched > 1:
            return self._bad(statement, done, None)
        outcome = self._good(statement, done, side)
        if done.touched or statement.kind == StatementKind.INSERT:
            return outcome
        return self._rows.conflict_now(statement)

    def _key_after(self, statement: Statement) -> Pairs:
        """The key of a row once written: an edited key is the new one, a new row's is what the server gave it."""
        if statement.row_id in self._new:
            return self._new[statement.row_id]
        given = dict(statement.values)
        if statement.kind == StatementKind.INSERT and not self.plan.key:
            return statement.values
        before = dict(statement.key)
        return tuple((name, given.get(name, before.get(name))) for name in self.plan.key)


def _as_now(info: TableInfo, facts: TableFacts) -> TableInfo:
    """The table with the columns that it has now."""
    if not facts.columns:
        return info
    from nimble_otter.sources.catalogue import ColumnInfo
    from nimble_otter.sources.reflect import word_of

    columns = []
    for fact in facts.columns:
        known = info.column(fact.name)
        known = known or ColumnInfo(fact.name, fact.declared.upper(), word_of(fact.declared))
        generated = "computed" if fact.generated else (known.generated if known.generated == "identity" else "")
        columns.append(replace(known, name=fact.name, generated=generated, is_always=fact.is_always))
    return replace(info, columns=tuple(columns))
