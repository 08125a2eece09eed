"""The cells of an open pull as they are edited: what a column is at the source, a value as typed, a text as a value."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping
from typing import Any

from nimble_otter.changes import (
    DEFAULT,
    UNSET,
    Filling,
    UnsetCell,
    checked_with,
    read_document_value,
    read_in_zone,
    read_value,
    refuse_broken,
    to_json,
    unset_cell,
    value_text,
    zoned_text,
)
from nimble_otter.desktop.kit.usual_looks import usual_looks
from nimble_otter.desktop.pulls.pull_state import PullState
from nimble_otter.errors import NoKeyError, ValueRefused
from nimble_otter.sources import ColumnInfo
from nimble_otter.table import MISSING, Field, Kind, Table
from nimble_otter.table.text.typed_look import as_typed, is_as_shown
from nimble_otter.translation import tr
from nimble_otter.values import Value


class CellValues:
    """Rows are row ids, places those of the columns shown."""

    def __init__(self, own: PullState) -> None:
        self._own = own

    def part_of(self, place: int) -> tuple[int, tuple[str, ...]] | None:
        """For a column that is a part of another one: the place of that, and the names that lead to the part."""
        return self._own.shaped.opened.get(place) if self._own.shaped is not None else None

    def column_at(self, place: int) -> ColumnInfo:
        """What the column at a place shown is at the source. Raises: NoKeyError that says why it can't be changed."""
        part = self.part_of(place)
        if part is None:
            return self._own.target.column(place)
        info = self._own.target.column(part[0])
        if not self._own.target.dialect.is_documents:
            raise NoKeyError(
                tr("This is a part of {info_name}.", info_name=info.name),
                tr("Close {info_name} again and edit it as JSON.", info_name=info.name),
            )
        return ColumnInfo(".".join((info.name, *part[1])))

    def takes(self, place: int) -> bool:
        """Whether the column at a place shown can be changed."""
        try:
            self.column_at(place)
        except NoKeyError:
            return False
        return True

    def field_at(self, place: int) -> Field:
        """The field of a column of the stored table or of what the steps made."""
        return self._table_at(place).fields[place]

    def _table_at(self, place: int) -> Table:
        """The table that has a place: the one pulled, or with what steps put behind its columns."""
        assert self._own.table is not None
        return (
            self._own.table
            if place < len(self._own.table.columns) or self._own.shaped is None
            else self._own.shaped.view.table
        )

    def stored(self, row: int, place: int) -> Value:
        """The value of a cell as it was fetched; of a new row none."""
        return MISSING if self._own.edits.is_new(row) else self._table_at(place).columns[place].value(row)

    def unset(self) -> dict[int, UnsetCell]:
        """By place: what a new row will hold in the columns that nothing is typed into."""
        target, opened = self._own.target, self._own.shaped.opened if self._own.shaped is not None else {}
        alone = sum(info.key > 0 for info in target.table.columns) == 1 if target.table is not None else False
        cells = {place: unset_cell(info, target.dialect, alone) for place, info in target.columns}
        parts = {place: UnsetCell(Filling.ABSENT) for place, (whole, _) in opened.items() if whole in cells}
        return {**cells, **parts}

    def default_of(self, info: ColumnInfo) -> object:
        """What stands for the table's own value in a row that is there. Raises: ValueRefused."""
        if not self._own.target.dialect.takes_default_in_update:
            name = self._own.target.dialect.display_name
            raise ValueRefused(
                tr("{name} gives {info_name} its default in new rows only.", name=name, info_name=info.name),
                tr("Type the value."),
            )
        if not info.default and not info.nullable:
            raise ValueRefused(tr("{info_name} has no default.", info_name=info.name), tr("Type a value."))
        return DEFAULT

    def text_of(self, value: object, place: int) -> str:
        """A value as one types it into a cell: what `typed` reads back; nested ones as JSON, times in the zone that
        their column is shown in."""
        if value is DEFAULT or value is MISSING or value is None:
            return ""
        field = self._shown_field(place)
        if isinstance(value, Mapping) or (isinstance(value, list) and self._own.target.dialect.is_documents):
            return to_json(value)
        if isinstance(value, dt.datetime) and field.kind is Kind.ZONED and field.look is not None and field.look.zone:
            return zoned_text(value, field.look.zone)
        return value_text(value, self.field_at(place))

    def _shown_field(self, place: int) -> Field:
        """The field with the look that steps give it."""
        return (
            self.field_at(place)
            if self._own.shaped is None or self._own.shaped.grouped is not None
            else usual_looks().of(self._own.shaped.field(place))
        )

    def typed(self, text: str | None, place: int, row: int) -> Value:
        """The value of a text for a cell; None is empty. Raises: ChangeError that says why it can't be taken."""
        assert self._own.table is not None
        stored, look = self.stored(row, place), self._shown_field(place).look
        if text is not None and look is not None:
            if is_as_shown(text, stored, look):
                return stored
            text = as_typed(text, look, self.field_at(place).kind, stored)
        if self._own.target.dialect.is_documents:
            name = self.column_at(place).name
            if text is not None and stored not in (None, MISSING) and text == self.text_of(stored, place):
                return stored
            return read_document_value(text, stored, name)
        info = self._own.target.column(place)
        if text is not None and look is not None and look.zone and self._own.table.fields[place].kind is Kind.ZONED:
            if stored is not MISSING and stored is not None and text == self.text_of(stored, place):
                return stored
            text = read_in_zone(text, look.zone, info.name)
        value = read_value(text, self._own.table.fields[place], info, self._own.target.dialect, stored)
        table, dialect = self._own.target.table, self._own.target.dialect
        if table is not None and (needed := checked_with(table, dialect, info.name)):
            refuse_broken(table, dialect, info.name, self._row_with(row, place, value, needed))
        return value

    def _row_with(self, row: int, place: int, value: object, needed: frozenset[str]) -> dict[str, object]:
        """What a row would hold in the columns needed, with a value at a place; what is not known is left out."""
        assert self._own.table is not None
        pending, found = self._own.edits.cells.get(row, {}), dict[str, Any]()
        for at, info in self._own.target.columns:
            if info.name.casefold() not in needed:
                continue
            if self._own.target.dialect.times_are_texts and self._own.table.fields[at].form not in ("", "0/1"):
                continue  # it is text there
            held = value if at == place else pending.get(at, UNSET)
            if held is UNSET and not self._own.edits.is_new(row):
                held = self._own.table.columns[at].value(row)
            if held is not UNSET and held is not DEFAULT:
                found[info.name] = held
        return found
