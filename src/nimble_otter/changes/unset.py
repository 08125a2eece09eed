"""What a cell of a new row will hold that nothing was typed into: NULL, the table's default, a number of the server, or
that it has to be filled in."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum

from nimble_otter.sources.catalogue import ColumnInfo
from nimble_otter.sources.dialects import Dialect
from nimble_otter.translation import tr


class Filling(Enum):
    """Where the value of an unset cell comes from; REQUIRED: from nowhere, so that the server would refuse the row;
    ABSENT: a document does without the field."""

    NULL = "NULL"
    DEFAULT = "default"
    ASSIGNED = "assigned"
    COMPUTED = "computed"
    REQUIRED = "required"
    ABSENT = "left out"


@dataclass(frozen=True, slots=True)
class UnsetCell:
    """`expression` is the default as the server writes it."""

    filling: Filling
    expression: str = ""

    @property
    def text(self) -> str:
        """In a cell of the grid: "default now()", "required"."""
        return f"{self.filling.value} {self.expression}".strip()

    @property
    def sentence(self) -> str:
        """In a line of its own: why, and what to do."""
        if self.filling is Filling.REQUIRED:
            return tr("required: NOT NULL without a default")
        if self.filling in (Filling.ASSIGNED, Filling.COMPUTED):
            return tr("{text} by the server", text=self.text)
        return tr("{text}, unless a value is typed", text=self.text) if self.filling is Filling.NULL else self.text


def unset_cell(info: ColumnInfo, dialect: Dialect, alone: bool) -> UnsetCell:
    """What the table puts into a column that an INSERT leaves out. `alone`: no other column is part of its key."""
    if dialect.is_documents:
        return UnsetCell(Filling.ASSIGNED if info.name == "_id" else Filling.ABSENT)
    if info.generated == "identity":
        return UnsetCell(Filling.ASSIGNED)
    if info.generated:
        return UnsetCell(Filling.COMPUTED)
    if info.key and alone and dialect.null_numbers_keys and info.declared.upper() in ("INTEGER", ""):
        return UnsetCell(Filling.ASSIGNED)
    if info.default:
        return UnsetCell(Filling.DEFAULT, " ".join(info.default.split()))
    return UnsetCell(Filling.NULL if info.nullable and not info.key else Filling.REQUIRED)
