"""What is pending on an open pull: edits with undo, the statements they become, and what came of writing them."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from nimble_otter.changes import (
    DEFAULT,
    DOCUMENTS,
    UNSET,
    Action,
    Outcome,
    Plan,
    Report,
    Target,
    checked_with,
    exactly,
    find_target,
    make_plan,
    read_document_value,
    read_in_zone,
    read_value,
    refuse_broken,
    to_json,
    value_text,
    with_part,
    zoned_text,
)
from nimble_otter.desktop.pulls.notice import NOTHING, Notice
from nimble_otter.desktop.pulls.pending import Snapshot, moved
from nimble_otter.desktop.pulls.pull_state import PullState
from nimble_otter.desktop.pulls.truncated_values import WholeValues
from nimble_otter.desktop.pulls.undo import EditEntry, Entry, WaitingEntry, WrittenEntry
from nimble_otter.desktop.runtime.connections import Hub
from nimble_otter.errors import ChangeError, NoKeyError, ValueRefused
from nimble_otter.pull import Pull
from nimble_otter.pull.drafts import EditDraft
from nimble_otter.sources import ColumnInfo, Fetched, Source
from nimble_otter.sources.long import cut_rows
from nimble_otter.table import MISSING, Field, Kind, Table
from nimble_otter.table.patch import patched


class ChangedPull(PullState):
    """Edits, undo over them and over the pull's text and steps, and taking what was written."""

    def __init__(self, pull: Pull, hub: Hub, path: Path | None = None, number: int = 0) -> None:
        super().__init__(pull, hub, path, number)
        self.whole = WholeValues(self)
        self.fresh: frozenset[int] = frozenset()
        """Row ids of rows just written, as the server has them."""
        self.reviewing: Plan | None = None
        self._reviewing_of: Source | None = None
        """Statements that are looked at in place of what is pending: a reversal."""

    def edit(self, action: Action) -> None:
        """Do something to the pending edits, with undo."""
        opened = self.shaped.opened if self.shaped is not None else {}
        if opened and any(place in opened for _, place, _ in action.cells):
            try:
                action = self._in_wholes(action)
            except ValueRefused as refused:
                self.failed(refused)
                return
        if not (action.cells or action.delete or action.restore or action.add or action.drop):
            return
        self.undo_stack.push(EditEntry(self.edits.apply(action)))
        self.whole.fetch({*(row for row, _, _ in action.cells), *action.delete})  # what is written is matched by them
        self._edited()

    # --- columns that are parts of others ----------------------------------------------------------------------

    def part_of(self, place: int) -> tuple[int, tuple[str, ...]] | None:
        """For a column that is a part of another one: the place of that, and the names that lead to the part."""
        return self.shaped.opened.get(place) if self.shaped is not None else None

    def column_at(self, place: int) -> ColumnInfo:
        """What the column at a place shown is at the source. Raises: NoKeyError that says why it can't be changed."""
        part = self.part_of(place)
        if part is None:
            return self.target.column(place)
        info = self.target.column(part[0])
        if self.target.dialect != DOCUMENTS:
            raise NoKeyError(f"This is a part of {info.name}.", f"Close {info.name} again and edit it as JSON.")
        return ColumnInfo(".".join((info.name, *part[1])))

    def takes(self, place: int) -> bool:
        """Whether the column at a place shown can be changed."""
        try:
            self.column_at(place)
        except NoKeyError:
            return False
        return True

    def field_at(self, place: int) -> Field:
        return self._table_at(place).fields[place]

    def _table_at(self, place: int) -> Table:
        """The table that has a place: the one pulled, or with what steps put behind its columns."""
        assert self.table is not None
        return self.table if place < len(self.table.columns) or self.shaped is None else self.shaped.view.table

    def stored(self, row: int, place: int) -> Any:
        """The value of a cell as it was fetched; of a new row none."""
        return MISSING if self.edits.is_new(row) else self._table_at(place).columns[place].value(row)

    def _in_wholes(self, action: Action) -> Action:
        """Values of parts put into the values that they are parts of. Raises: ValueRefused."""
        cells: list[tuple[int, int, Any]] = []
        wholes: dict[tuple[int, int], Any] = {}
        for row, place, value in action.cells:
            part = self.part_of(place)
            if part is None:
                cells.append((row, place, value))
                continue
            at = (row, part[0])
            if at not in wholes:
                pending = self.edits.cells.get(row, {}).get(part[0], UNSET)
                wholes[at] = self.stored(*at) if pending is UNSET else pending
            value = self.stored(row, place) if value is UNSET else value
            wholes[at] = with_part(wholes[at], part[1], value, self.target.column(part[0]).name)
        for (row, place), whole in wholes.items():
            same = not self.edits.is_new(row) and exactly(whole, self.stored(row, place))
            cells.append((row, place, UNSET if same else whole))
        return replace(action, cells=tuple(cells))

    def default_of(self, info: ColumnInfo) -> Any:
        """What stands for the table's own value in a row that is there. Raises: ValueRefused."""
        if self.target.dialect == "sqlite":
            raise ValueRefused(f"SQLite gives {info.name} its default in new rows alone.", "Type the value.")
        if not info.default and not info.nullable:
            raise ValueRefused(f"{info.name} has no default.", "Type a value.")
        return DEFAULT

    def text_of(self, value: Any, place: int) -> str:
        """A value as one types it into a cell: what `typed` reads back; nested ones as JSON, times in the zone that
        their column is shown in."""
        if value is DEFAULT or value is MISSING or value is None:
            return ""
        field = self._shown_field(place)
        if isinstance(value, Mapping) or (isinstance(value, list) and self.target.dialect == DOCUMENTS):
            return to_json(value)
        if isinstance(value, dt.datetime) and field.kind is Kind.ZONED and field.look is not None and field.look.zone:
            return zoned_text(value, field.look.zone)
        return value_text(value, self.field_at(place))

    def _shown_field(self, place: int) -> Field:
        """The field with the look that steps give it."""
        return (
            self.field_at(place) if self.shaped is None or self.shaped.grouped is not None else self.shaped.field(place)
        )

    def typed(self, text: str | None, place: int, row: int) -> Any:
        """The value of a text for a cell; None is empty. Raises: ChangeError that says why it can't be taken."""
        assert self.table is not None
        stored = self.stored(row, place)
        if self.target.dialect == DOCUMENTS:
            name = self.column_at(place).name
            if text is not None and stored not in (None, MISSING) and text == self.text_of(stored, place):
                return stored
            return read_document_value(text, stored, name)
        info = self.target.column(place)
        look = self._shown_field(place).look
        if text is not None and look is not None and look.zone and self.table.fields[place].kind is Kind.ZONED:
            if stored is not MISSING and stored is not None and text == self.text_of(stored, place):
                return stored
            text = read_in_zone(text, look.zone, info.name)
        value = read_value(text, self.table.fields[place], info, self.target.dialect, stored)
        table, dialect = self.target.table, self.target.dialect
        if table is not None and (needed := checked_with(table, dialect, info.name)):
            refuse_broken(table, dialect, info.name, self._row_with(row, place, value, needed))
        return value

    def _row_with(self, row: int, place: int, value: Any, needed: frozenset[str]) -> dict[str, Any]:
        """What a row would hold in the columns needed, with a value at a place; what is not known is left out."""
        assert self.table is not None
        pending, found = self.edits.cells.get(row, {}), dict[str, Any]()
        for at, info in self.target.columns:
            if info.name.casefold() not in needed:
                continue
            if self.target.dialect == "sqlite" and self.table.fields[at].form not in ("", "0/1"):
                continue  # it is text there
            held = value if at == place else pending.get(at, UNSET)
            if held is UNSET and not self.edits.is_new(row):
                held = self.table.columns[at].value(row)
            if held is not UNSET and held is not DEFAULT:
                found[info.name] = held
        return found

    def _edited(self) -> None:
        self.report = None
        self.edits_changed.emit()

    def undo(self) -> None:
        self._step_back(self.undo_stack.back, self.undo_stack.forth)

    def redo(self) -> None:
        self._step_back(self.undo_stack.forth, self.undo_stack.back)

    @property
    def can_undo(self) -> bool:
        return bool(self.undo_stack.back)

    @property
    def can_redo(self) -> bool:
        return bool(self.undo_stack.forth)

    def _step_back(self, origin: list[Entry], other: list[Entry]) -> None:
        if not origin:
            return
        entry = origin.pop()
        if isinstance(entry, EditEntry):
            other.append(EditEntry(self.edits.apply(entry.action)))
            self._edited()
        elif isinstance(entry, WaitingEntry):
            if self.pending.waiting is None:
                self.pending.wait(entry.edits)
                other.append(entry)
            else:
                other.append(WaitingEntry(self.pending.revert_waiting() or entry.edits))
            self._edited()
        elif isinstance(entry, WrittenEntry):
            self.notice = Notice(
                "What was written is put back under Changes: Review shows its reversal. Undo again goes on before it"
            )
            self.state_changed.emit()
        else:
            other.append(entry.of(self.pull))
            self.take_pull(entry.on(self.pull))

    def take_pull(self, pull: Pull) -> None:
        """Another state of the pull; the course is taken anew where its steps differ."""
        steps_changed, self.pull = pull.steps != self.pull.steps, pull
        self.pull_changed.emit()
        if steps_changed:
            self.walk()

    def revert_waiting(self) -> None:
        """Let go what waits for rows that are not here; undo brings it back."""
        gone = self.pending.revert_waiting()
        if gone is not None:
            self.undo_stack.push(WaitingEntry(gone))
            self._edited()
            self.state_changed.emit()

    def plan(self) -> Plan:
        """The statements under review: of what is pending, or of a reversal. Raises: ChangeError, also where they are
        of another source than the pull's."""
        now = self.hub.known(self.pull.source)
        came = self.rows_source if self.reviewing is None else self._reviewing_of or now
        if came.url != now.url:
            what = "These rows" if self.reviewing is None else "These statements"
            hint = f"Choose {came.name} again, or run the pull: changes then wait for rows that they fit."
            raise ChangeError(f"{what} are of {came.name}; the pull asks {now.name} now.", hint)
        if self.reviewing is not None:
            return self.reviewing
        assert self.table is not None
        return make_plan(self.edits, self.table, self.target, self.pull.guard)

    @staticmethod
    def target_of(fetched: Fetched, dialect: str, by_values: bool) -> Target:
        origins = (*fetched.origins, *fetched.key_origins)
        return find_target(fetched.table, origins, fetched.tables, fetched.unseen, by_values, dialect)

    def match_by_values(self) -> None:
        """Take rows of a table without a key by all their values: asked for, and kept with the pull."""
        self.pull = replace(self.pull, by_values=True)
        self.pull_changed.emit()
        if self.fetched is not None and self.target.could_match:
            self.target = self.target_of(self.fetched, self.target.dialect, True)
        self.edits_changed.emit()
        self.state_changed.emit()

    def take_whole(self, fetched: Fetched, then: Callable[[], object]) -> None:
        """The rows again, with values that were cut before; then something is done with them."""
        self.fetched = fetched
        self.edits_changed.emit()
        self.walk(then=then)

    def settle(self) -> None:
        """Mark what was just written no longer."""
        if self.fresh:
            self.fresh = frozenset()
            self.rows_changed.emit()

    def review(self, plan: Plan | None) -> None:
        """Look at a reversal's statements in place of what is pending; None: back."""
        self.reviewing, self.report = plan, None
        self._reviewing_of = self.hub.known(self.pull.source)
        self.state_changed.emit()

    def set_guard(self, guard: str) -> None:
        """What a changed row must still hold; kept with the pull."""
        self.pull = replace(self.pull, guard=guard)
        self.report = None
        self.pull_changed.emit()
        self.edits_changed.emit()

    def resolve(self, outcome: Outcome, names: Sequence[str], mine: bool) -> None:
        """Answer a conflict in some columns: keep what is pending there against what others wrote, or take theirs."""
        row, places = outcome.statement.row_id, {info.name: at for at, info in self.target.columns}
        theirs = {places[name]: value for name, value in outcome.now if name in names and name in places}
        if outcome.is_gone:
            action = self.edits.take_back(rows=[row])
        elif mine:
            action = Action("Keep mine")
        elif outcome.statement.kind == "delete":
            action = Action("Keep the row", restore=(row,))
        else:
            action = self.edits.take_back(cells=[(row, place) for place in theirs])
        left = tuple(pair for pair in outcome.now if pair[0] not in names)
        report = self.report
        self.take_current({row: theirs} if theirs else {}, action)
        if report is not None:  # what is answered is no conflict any more; what is not is still shown
            rest = [o for o in report.outcomes if o.statement.row_id != row]
            rest += [replace(outcome, now=left)] if left and not outcome.is_gone else []
            self.report = replace(report, outcomes=tuple(rest))
            self.edits_changed.emit()

    def take_current(self, values: Mapping[int, Mapping[int, Any]], action: Action) -> None:
        """What others wrote meanwhile, by row id and place, becomes what was seen; `action` answers it."""
        assert self.fetched is not None
        if values:
            self.fetched = replace(self.fetched, table=patched(self.fetched.table, values))
        for row, own in values.items():
            for place in own:
                self.edits.seen.pop((row, place), None)
        self.edits.apply(action)
        self.undo_stack.rows_changed()  # it would bring back what is not seen now
        self.report, self.course = None, None
        self.walk()
        self.edits_changed.emit()

    def take_written(self, fetched: Fetched, report: Report, fresh: frozenset[int], done: Snapshot) -> None:
        """After a write: the rows as the server has them, `fresh` among them; what was changed since the plan was made,
        and what was not written, is still pending."""
        assert self.table is not None
        left = self.pending.left_after(done, report, self.table, self.target)
        table = fetched.table
        rows = rows_after(report, self.table.rows, table.rows)
        long = fetched.long if fetched.cut else None
        self.fetched = replace(fetched, cut=cut_rows(table, long) if long is not None else {})
        self.target = replace(self.target, unseen=fetched.unseen)
        self.pending.shown = moved(left, rows, table.rows)
        self.report, self.reversal, self.fresh, self.notice = report, report.reversal, fresh, NOTHING
        self.undo_stack.written()
        self.course = None
        self.walk()
        self.edits_changed.emit()
        self.state_changed.emit()

    def take_written_unseen(self, report: Report, done: EditDraft, keys: dict[object, tuple[object, ...]]) -> None:
        """After a write whose rows are not shown any more, or of which is heard only now: nothing of it is pending."""
        self.pending.subtract(done, keys, self.table, self.target)
        self.report, self.reversal = report, report.reversal
        self.undo_stack.written()
        self.edits_changed.emit()
        self.state_changed.emit()


def rows_after(report: Report, before: int, after: int) -> dict[int, int]:
    """Row ids once a report's rows were written, by those of before: deleted ones go, new ones stand at the end."""
    good = [o.statement for o in report.outcomes if o.is_good]
    deleted = np.sort(np.array([s.row_id for s in good if s.kind == "delete"], np.int64))
    added = [s.row_id for s in good if s.kind == "insert" and report.written.get(s.row_id) is not None]
    touched = np.setdiff1d(np.arange(before), deleted)
    found = dict(zip(touched.tolist(), range(len(touched)), strict=True))
    return found | dict(zip(added, range(after - len(added), after), strict=True))
