"""A plan's statements run in one transaction: rows locked and kept as they were, many statements at a time, each of
which must touch exactly one row, and what hangs on them asked of the server. One file, as all of it is the state of one
transaction."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from nimble_otter.changes.alike import alike, identical
from nimble_otter.changes.edits import DEFAULT
from nimble_otter.changes.literals import is_list
from nimble_otter.changes.order import arranged, candidates
from nimble_otter.changes.plan import Pairs, Plan, Statement
from nimble_otter.changes.report import AT_ONCE, Outcome
from nimble_otter.changes.statement_sql import Bound, Wording
from nimble_otter.errors import ChangeError, LostError, SourceError
from nimble_otter.sources.catalogue import ForeignKey, TableInfo
from nimble_otter.sources.facts import TableFacts
from nimble_otter.sources.session import Done
from nimble_otter.sources.writer import Writer
from nimble_otter.stop import Progress, StopToken
from nimble_otter.table.show import grouped, plain

_SAVE: Bound = ("savepoint nimble_otter", ())
_RELEASE: Bound = ("release savepoint nimble_otter", ())
_BACK = "rollback to savepoint nimble_otter"
Row = dict[str, Any]


@dataclass(slots=True)
class _Side:
    """What a statement changes beside its row, in words: what refuses it, and what is only to be known, of how many
    rows."""

    refused: str = ""
    note: str = ""
    rows: int = 0


class Execution:
    """`before` are the changed rows as they were, by row id, in values that can be put back; `lasting` says what a
    reversal would not restore, as far as that is known from what the statements did."""

    def __init__(self, writer: Writer, plan: Plan, stop: StopToken, progress: Progress | None = None) -> None:
        self._writer, self._stop, self._progress = writer, stop, progress
        self.facts = writer.facts(plan.info)
        self.plan = replace(plan, info=_as_now(plan.info, self.facts))
        self._words = Wording(self.plan)
        self._done: dict[int, Outcome] = {}
        self._new: dict[int, Pairs] = {}
        self._shown: dict[int, Row] = {}
        self._was_halved, self._by_triggers = False, 0
        self.before: dict[int, Row] = {}
        self.lasting = ""

    # --- what there is -----------------------------------------------------------------------------------------

    @property
    def _columns(self) -> list[str]:
        """Every column that a statement can give a value to."""
        return [c.name for c in self.plan.info.columns if not (c.generated and c.generated != "identity")]

    def _read_of(self, statement: Statement) -> list[str]:
        """The columns of a row that are kept before it is changed."""
        if statement.kind == "delete" or self.facts.may_change_more:
            return self._columns
        wanted = {name for name, _ in (*statement.values, *statement.key, *statement.seen)}
        for names in self.facts.uniques:
            wanted |= set(names) if wanted.intersection(names) else set()
        return [name for name in self._columns if name in wanted]

    def _compared(self, statement: Statement) -> list[str]:
        """Columns seen that are compared here, under the lock, and not by the server: lists, which it may not be able
        to compare, and what it sets itself when the row is put aside first."""
        if self.plan.by_values:
            return []
        if any(row == statement.row_id for row, _ in self.plan.parks):
            return [name for name, _ in statement.seen]
        infos = {c.name: c for c in self.plan.info.columns}
        is_here = self.plan.dialect == "postgresql"
        return [n for n, v in statement.seen if is_here and v is not None and n in infos and is_list(infos[n].declared)]

    def _differs(self, statement: Statement) -> bool:
        """Whether a row under lock does not hold what was seen, in what is compared here."""
        held, seen = self._shown[statement.row_id], dict(statement.seen)
        for name in self._compared(statement):
            info = self.plan.column(name)
            is_text = isinstance(seen[name], str) and info is not None and info.word == "text"
            if not (held[name] == seen[name] if is_text else alike(held[name], seen[name])):
                return True
        return False

    def _look(self, statements: Sequence[Statement]) -> None:
        """Lock the rows that are changed and keep them as they are; those that are gone or changed in what can only be
        compared here are done with."""
        for batch in parts(statements, AT_ONCE):
            self._stop.check()
            for statement, row in zip(batch, self._locked(batch), strict=True):
                if row is None:
                    self._done[statement.row_id] = conflict(self.plan, statement, None)
                    continue
                shown, self.before[statement.row_id] = row
                self._shown[statement.row_id] = shown
                if self._differs(statement):
                    self._done[statement.row_id] = conflict(self.plan, statement, self._read({0: statement.key})[0])

    def _locked(self, batch: Sequence[Statement]) -> list[tuple[Row, Row] | None]:
        columns = [self._read_of(s) for s in batch]
        if self.plan.dialect == "sqlite":  # where whoever writes has the file, and one query reads many rows quicker
            every = list(dict.fromkeys(name for own in columns for name in own))
            rows = read_rows(self._writer, self._words, {n: s.key for n, s in enumerate(batch)}, every)
            kept = [
                None if row is None else {name: row[name] for name in own}
                for own, row in zip(columns, rows.values(), strict=True)
            ]
            return [None if row is None else (row, dict(row)) for row in kept]
        for waits in (True, False):
            locks = [self._words.locking(s.key, own, waits) for s, own in zip(batch, columns, strict=True)]
            try:
                found = self._writer.many([_SAVE, *locks, _RELEASE])[1:-1]
                break
            except LostError:
                raise
            except SourceError:
                self._stop.check()
                if not waits:
                    raise
                self._writer.tell(_BACK)  # who may delete may not always lock
        return [self._kept(own, done) for own, done in zip(columns, found, strict=True)]

    def _kept(self, columns: list[str], done: Done) -> tuple[Row, Row] | None:
        if not done.rows:
            return None
        row = done.rows[0]
        shown = dict(zip(columns, row, strict=False))
        return shown, shown | dict(zip(self._words.exact(columns), row[len(columns) :], strict=True))

    # --- running -----------------------------------------------------------------------------------------------

    def all(self) -> tuple[Outcome, ...]:
        """Many at a time while they go well; where they don't, the statement that fails is found by halving."""
        given = self.plan.statements
        self._look([s for s in given if s.kind != "insert"])
        try:
            self.plan = arranged(self.plan, self.facts.uniques, self._shown)
        except ChangeError as refused:
            return tuple(Outcome(s, 0, str(refused)) for s in given)
        self._words = Wording(self.plan)
        for statement in self.plan.statements if self.plan.parks else ():
            if statement.row_id in self._shown and self._differs(statement):
                self._done[statement.row_id] = conflict(self.plan, statement, self._read({0: statement.key})[0])
        left = [s for s in self.plan.statements if s.row_id not in self._done]
        within = [link for link in self.facts.referring if link.table == link.target]
        sides = self._beside(left, [link for link in self.facts.referring if link not in within])
        sides |= self._beside([s for s in left if s.kind == "update"], within)
        before, is_first = self._writer.changed_elsewhere() if self.facts.triggers else None, True
        for batch in self._batches(left):
            self._stop.check()
            if is_first and self.plan.parks and any(s.kind == "update" for s in batch):
                is_first = False
                if (problem := self._put_aside(left)) is not None:
                    return tuple(self._done.get(s.row_id) or problem(s) for s in given)
            if self._progress is not None:
                self._progress(len(self._done), len(given))
            if batch[0].kind == "delete" and within:  # rows of this table may refer to it only since it was written to
                sides |= self._beside(batch, within, [s for s in left if s.kind == "delete"])
            self._batch(batch, sides)
        missed = [o.statement for o in self._done.values() if o.rows == 0 and not o.problem]
        for batch in parts(missed, AT_ONCE):
            rows = self._read({s.row_id: s.key for s in batch})
            for statement in batch:
                self._done[statement.row_id] = conflict(self.plan, statement, rows[statement.row_id])
        if self.plan.dialect == "sqlite":
            self._note_more(self._by_triggers)
        elif before is not None and not self._was_halved:
            own = len(left) + len(self.plan.parks) + sum(side.rows for side in sides.values())
            self._note_more((self._writer.changed_elsewhere() or 0) - before - own)
        else:
            self._note_more(None)
        return tuple(self._done[s.row_id] for s in given)

    def _batches(self, statements: Sequence[Statement]) -> Iterable[list[Statement]]:
        """Parts of the statements, each of one kind."""
        runs: list[list[Statement]] = []
        for statement in statements:
            if runs and runs[-1][-1].kind == statement.kind and len(runs[-1]) < AT_ONCE:
                runs[-1].append(statement)
            else:
                runs.append([statement])
        return runs

    def _put_aside(self, left: Sequence[Statement]) -> Callable[[Statement], Outcome] | None:
        """Give rows that exchange what is unique their temporary values; where the server takes none, what is wrong."""
        ids, parks = {s.row_id for s in left}, dict(self.plan.parks)
        for number, statement in enumerate(self.plan.parked()):
            if statement.row_id not in ids:
                continue
            refused = ""
            for pairs in self._attempts(statement, number + len(left)):
                try:
                    self._writer.many([_SAVE, self._words.bound(replace(statement, values=pairs)), _RELEASE])
                    parks[statement.row_id] = pairs
                    refused = ""
                    break
                except LostError:
                    raise
                except SourceError as problem:
                    self._stop.check()
                    self._writer.tell(_BACK)
                    refused = problem.message
            if refused:
                names = ", ".join(name for name, _ in statement.values)
                text = f"Rows swap their {names}, and the server accepts no temporary value in between: {refused}"
                return lambda s: Outcome(s, 0, text)
        self.plan = replace(self.plan, parks=tuple(parks.items()))
        self._words = Wording(self.plan)
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
        compared = set(self._compared(statement))
        if compared:
            run = replace(run, seen=tuple(pair for pair in run.seen if pair[0] not in compared))
        return self._words.bound(run, self._returning(statement))

    def _batch(self, batch: Sequence[Statement], sides: Mapping[int, _Side]) -> None:
        self._stop.check()
        problem: SourceError | None = None
        found: list[Done] = []
        try:
            found = self._writer.many([_SAVE, *(self._bound(s) for s in batch)])[1:]
        except LostError:
            raise
        except SourceError as refused:
            self._stop.check()  # what a stop ended, a wait for a lock too, is no conflict
            problem = refused
        is_even = problem is None and all(d.touched <= 1 for d in found)
        if is_even or len(batch) == 1:
            self._writer.tell(_RELEASE[0] if is_even else _BACK)
            if is_even:
                for statement, done in zip(batch, found, strict=True):
                    self._done[statement.row_id] = self._good(statement, done, sides.get(statement.row_id, _Side()))
            else:
                self._done[batch[0].row_id] = self._bad(batch[0], found[0] if found else None, problem)
            return
        self._was_halved = True
        self._writer.tell(_BACK)
        half = len(batch) // 2
        self._batch(batch[:half], sides)
        self._batch(batch[half:], sides)

    def _returning(self, statement: Statement) -> tuple[str, ...]:
        """What tells a new row again: its key, where it has one."""
        if statement.kind != "insert" or self.plan.dialect == "mysql":
            return ()
        return self.plan.info.key or self.plan.key

    def _good(self, statement: Statement, done: Done, side: _Side) -> Outcome:
        if statement.kind == "insert" and done.rows:
            self._new[statement.row_id] = tuple(zip(self._returning(statement), done.rows[0], strict=True))
        if done.touched and side.refused:
            return Outcome(statement, 1, side.refused)
        if not done.touched and statement.kind == "insert":
            return Outcome(
                statement, 0, "The server accepted the insert but added no row (a trigger may have rejected it)."
            )
        more = done.beside - side.rows
        self._by_triggers += max(0, more)
        notes = (side.note, f"{counted(more, 'more row')} by triggers" if more > 0 else "")
        return Outcome(statement, done.touched, note="; ".join(note for note in notes if note))

    def _bad(self, statement: Statement, done: Done | None, problem: SourceError | None) -> Outcome:
        if problem is not None:
            hint = f" {problem.hint}" if problem.hint else ""
            return Outcome(statement, 0, f"The server refused it: {problem.message}{hint}")
        assert done is not None
        told = "nothing tells them apart" if self.plan.by_values else "the key does not tell them apart"
        return Outcome(statement, done.touched, f"It would change {grouped(done.touched)} rows; {told}.")

    # --- what hangs on the rows --------------------------------------------------------------------------------

    def _beside(
        self, statements: Sequence[Statement], links: Sequence[ForeignKey], deletes: Sequence[Statement] = ()
    ) -> dict[int, _Side]:
        """By row id, what a statement changes in rows that refer to its row; not counted are rows that are deleted by
        `deletes`."""
        wanted: list[tuple[Statement, ForeignKey, str, Bound]] = []
        for link in links:
            for statement in statements:
                edited = {name for name, _ in statement.values}
                action = link.on_delete if statement.kind == "delete" else link.on_update
                if not action or statement.kind == "insert":
                    continue
                if statement.kind == "update" and not edited.intersection(link.referred):
                    continue
                row = self.before.get(statement.row_id, {})
                key = tuple((name, row.get(name)) for name in link.referred)
                if all(value is not None for _, value in key):
                    wanted.append((statement, link, action, self._words.counting(link, key)))
        found: dict[int, _Side] = {}
        for batch in parts(wanted, AT_ONCE):
            self._stop.check()
            for (statement, link, action, _), done in zip(
                batch, self._writer.many([bound for *_, bound in batch]), strict=True
            ):
                count = int(done.rows[0][0]) - self._own(statement, link, deletes)
                if count <= 0:
                    continue
                side, said = found.setdefault(statement.row_id, _Side()), f"{grouped(count)} of {link.table} ({action})"
                to_null = any(value is None for name, value in statement.values if name in link.referred)
                if statement.kind == "update" and action == "cascade" and not to_null:
                    side.note = f"{side.note}, {said}" if side.note else f"changes with it {said}"
                    side.rows += count
                    continue
                verb = "Deleting" if statement.kind == "delete" else "Changing"
                side.refused = (
                    f"{side.refused[:-1]}, {said}." if side.refused else f"{verb} it would also change {said}."
                )
        return found

    def _own(self, statement: Statement, link: ForeignKey, deletes: Sequence[Statement]) -> int:
        """How many of the rows that refer to a row are deleted by the plan itself."""
        if statement.kind != "delete" or link.table != link.target:
            return 0
        key = [self.before[statement.row_id].get(name) for name in link.referred]
        rows = [self.before.get(s.row_id, {}) for s in deletes]
        return sum(all(alike(row.get(n), v) for n, v in zip(link.columns, key, strict=True)) for row in rows)

    def _note_more(self, count: int | None) -> None:
        """Say what triggers changed in other rows; None: the server does not tell how many."""
        kinds = {s.kind for s in self.plan.statements}
        names = [name for kind in sorted(kinds) for name in self.facts.triggers.get(kind, ())]
        if not names or (count is not None and count <= 0):
            return
        what = (
            f"{counted(count, 'more row')} changed by triggers"
            if count is not None
            else "what triggers change elsewhere"
        )
        self.lasting = f"{what} ({', '.join(dict.fromkeys(names))})"

    # --- afterwards --------------------------------------------------------------------------------------------

    def read_back(self, done: Plan | None = None) -> tuple[dict[int, Row | None], dict[int, Pairs]]:
        """Rows as they are after the statements, and their keys."""
        statements = (done or self.plan).statements
        keys = {s.row_id: self._key_after(s) for s in statements}
        rows = self._read({s.row_id: keys[s.row_id] for s in statements if s.kind != "delete"})
        return {s.row_id: rows.get(s.row_id) for s in statements}, keys

    def with_notes(self, outcomes: Sequence[Outcome], written: Mapping[int, Row | None]) -> tuple[Outcome, ...]:
        """The outcomes, with what the server would keep otherwise than it was given."""
        found = []
        for outcome in outcomes:
            row = written.get(outcome.statement.row_id)
            given = [] if row is None else [p for p in outcome.statement.values if p[0] in row and p[1] is not DEFAULT]
            other = [(name, (row or {})[name]) for name, value in given if not alike((row or {})[name], value)]
            kept = "; ".join(f"{name} is kept as {shown(value)}" for name, value in other[:3])
            found.append(replace(outcome, note="; ".join(part for part in (outcome.note, kept) if part)))
        return tuple(found)

    def alone(self, statement: Statement) -> Outcome:
        """One statement that stays done, as its table knows no other way."""
        if statement.kind != "insert":
            self._look([statement])
            if statement.row_id in self._done:
                return self._done[statement.row_id]
        side = self._beside([statement], self.facts.referring).get(statement.row_id, _Side())
        if side.refused:
            return Outcome(statement, 0, side.refused)
        try:
            done = self._writer.many([self._bound(statement)])[0]
        except LostError:
            raise
        except SourceError as refused:
            self._stop.check()
            return self._bad(statement, None, refused)
        if done.touched > 1:
            return self._bad(statement, done, None)
        outcome = self._good(statement, done, side)
        if done.touched or statement.kind == "insert":
            return outcome
        return conflict(self.plan, statement, self._read({0: statement.key})[0])

    def differences(self) -> list[str]:
        """Where the changed rows are now otherwise than they were `before`: run after the reversal of another one."""
        found: list[str] = []
        for batch in parts(list(self.before), AT_ONCE):
            statements = [s for s in self.plan.statements if s.row_id in set(batch)]
            for statement, row in zip(statements, self._locked(statements), strict=True):
                was = self.before[statement.row_id]
                now = row[1] if row is not None else {}
                found += [name for name, value in was.items() if name not in now or not identical(now[name], value)]
        return list(dict.fromkeys(found))

    def _key_after(self, statement: Statement) -> Pairs:
        """The key of a row once written: an edited key is the new one, a new row's is what the server gave it."""
        if statement.row_id in self._new:
            return self._new[statement.row_id]
        given = dict(statement.values)
        if statement.kind == "insert" and not self.plan.key:
            return statement.values
        before = dict(statement.key)
        return tuple((name, given.get(name, before.get(name))) for name in self.plan.key)

    def _read(self, keys: Mapping[int, Pairs]) -> dict[int, Row | None]:
        return read_rows(self._writer, self._words, keys, [c.name for c in self.plan.info.columns])


def read_rows(
    writer: Writer, words: Wording, keys: Mapping[int, Pairs], columns: Sequence[str]
) -> dict[int, Row | None]:
    """Rows of the plan's table by their keys, some columns of them; None where there is none."""
    found: dict[int, Row | None] = dict.fromkeys(keys)
    for part in parts(list(keys), AT_ONCE):
        names, rows = writer.ask(words.reading([keys[row_id] for row_id in part], columns))
        for row in rows:
            found[part[row[0]]] = dict(zip(names[1:], row[1:], strict=True))
    return found


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


def conflict(plan: Plan, statement: Statement, current: Mapping[str, Any] | None) -> Outcome:
    if current is None:
        said = (
            "is not there as it was seen" if plan.by_values else "is gone: someone else deleted it or changed its key"
        )
        return Outcome(statement, 0, f"The row {said}.", (), True, is_gone=True)
    now = tuple((n, current.get(n)) for n, seen in statement.seen if not alike(current.get(n), seen))
    words = ", ".join(f"{name} is now {shown(value)}" for name, value in now)
    if words:
        return Outcome(statement, 0, f"Someone else changed this row: {words}.", now, True)
    return Outcome(
        statement, 0, "The row still holds what was seen, and the server did not change it: a trigger, a rule or a "
        "row security policy keeps it as it is.",
    )  # fmt: skip


def shown(value: Any) -> str:
    if value is None:
        return "NULL"
    text = plain(value)
    return (text if len(text) <= 60 else text[:59] + "…") or "an empty text"


def counted(count: int, what: str) -> str:
    return f"{grouped(count)} {what}{'s' if count != 1 else ''}"


def parts(items: Iterable[Any], size: int) -> list[list[Any]]:
    whole = list(items)
    return [whole[n : n + size] for n in range(0, len(whole), size)]
