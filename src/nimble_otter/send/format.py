"""What a format is, and the rows it is handed."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, BinaryIO, Protocol

from nimble_otter.stop import StopToken
from nimble_otter.table import Column, Field, View

BATCH = 4096


@dataclass(frozen=True, slots=True)
class Option:
    """One setting of a format. `kind` is choice, text or yes/no; `choices` are (value, label)."""

    name: str
    label: str
    kind: str
    default: Any
    choices: tuple[tuple[str, str], ...] = ()


@dataclass(frozen=True, slots=True, eq=False)
class Rows:
    """Columns over the rows of a view, in its order; `table` names the table in SQL inserts."""

    fields: Sequence[Field]
    columns: Sequence[Column]
    view: View
    table: str = "result"

    def __len__(self) -> int:
        return len(self.view)

    @property
    def names(self) -> list[str]:
        return [field.name for field in self.fields]

    def batches(self, stop: StopToken) -> Iterator[list[list[Any]]]:
        """Lists of Python values, one a column, for at most BATCH rows at a time. Raises: Stopped."""
        for start in range(0, len(self.view), BATCH):
            stop.check()
            ids = self.view.row_ids(start, start + BATCH)
            yield [column.values(ids) for column in self.columns]


class Format(Protocol):
    """`suffix` ends its files' names; only formats that are text go to the clipboard."""

    key: str
    word: str
    suffix: str
    is_text: bool
    options: Sequence[Option]

    def write(self, rows: Rows, stream: BinaryIO, options: Mapping[str, Any], stop: StopToken) -> Iterator[int]:
        """Write everything; yields the rows done so far now and then. Raises: SendError, Stopped."""


def settings(format_: Format, given: Mapping[str, Any]) -> dict[str, Any]:
    """All options of a format, the given ones over the defaults."""
    return {option.name: given.get(option.name, option.default) for option in format_.options}
