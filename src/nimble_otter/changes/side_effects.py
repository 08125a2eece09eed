"""What statements change in other rows: those that refer to theirs, as the server is asked inside the transaction."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from nimble_otter.changes.alike import alike
from nimble_otter.changes.locked_rows import LockedRows
from nimble_otter.changes.plan import Statement, StatementKind
from nimble_otter.changes.report import batches
from nimble_otter.changes.statement_sql import Bound
from nimble_otter.sources.catalogue import ForeignKey
from nimble_otter.sources.writer import Writer
from nimble_otter.stop import StopToken
from nimble_otter.table.text.show import grouped
from nimble_otter.translation import tr


@dataclass(slots=True)
class SideEffect:
    """What a statement changes beside its row, in words: what refuses it, and what is only to be known, of how many
    rows."""

    refused: str = ""
    note: str = ""
    rows: int = 0


class SideEffects:
    """Of statements on rows that are locked."""

    def __init__(self, writer: Writer, rows: LockedRows, stop: StopToken) -> None:
        self._writer, self._rows, self._stop = writer, rows, stop

    def of(
        self, statements: Sequence[Statement], links: Sequence[ForeignKey], deletes: Sequence[Statement] = ()
    ) -> dict[int, SideEffect]:
        """By row id, what a statement changes in rows that refer to its row; not counted are rows that are deleted by
        `deletes`."""
        wanted: list[tuple[Statement, ForeignKey, str, Bound]] = []
        for link in links:
            for statement in statements:
                edited = {name for name, _ in statement.values}
                action = link.on_delete if statement.kind == StatementKind.DELETE else link.on_update
                if not action or statement.kind == StatementKind.INSERT:
                    continue
                if statement.kind == StatementKind.UPDATE and not edited.intersection(link.referred):
                    continue
                row = self._rows.before.get(statement.row_id, {})
                key = tuple((name, row.get(name)) for name in link.referred)
                if all(value is not None for _, value in key):
                    wanted.append((statement, link, action, self._rows.words.counting(link, key)))
        found: dict[int, SideEffect] = {}
        for batch in batches(wanted):
            self._stop.check()
            for (statement, link, action, _), done in zip(
                batch, self._writer.execute_many([bound for *_, bound in batch]), strict=True
            ):
                count = int(done.rows[0][0]) - self._own(statement, link, deletes)
                if count <= 0:
                    continue
                side, text = (
                    found.setdefault(statement.row_id, SideEffect()),
                    tr("{count} of {table} ({action})", count=grouped(count), table=link.table, action=action),
                )
                to_null = any(value is None for name, value in statement.values if name in link.referred)
                if statement.kind == StatementKind.UPDATE and action == "cascade" and not to_null:
                    side.note = f"{side.note}, {text}" if side.note else tr("changes with it {text}", text=text)
                    side.rows += count
                    continue
                verb = tr("Deleting") if statement.kind == StatementKind.DELETE else tr("Changing")
                side.refused = (
                    f"{side.refused[:-1]}, {text}."
                    if side.refused
                    else tr("{verb} it would also change {text}.", verb=verb, text=text)
                )
        return found

    def _own(self, statement: Statement, link: ForeignKey, deletes: Sequence[Statement]) -> int:
        """How many of the rows that refer to a row are deleted by the plan itself."""
        if statement.kind != StatementKind.DELETE or link.table != link.target:
            return 0
        key = [self._rows.before[statement.row_id].get(name) for name in link.referred]
        rows = [self._rows.before.get(s.row_id, {}) for s in deletes]
        return sum(all(alike(row.get(n), v) for n, v in zip(link.columns, key, strict=True)) for row in rows)
