"""What is dragged about: names from the catalogue, headers and values from the grid."""

from __future__ import annotations

import json

from PySide6.QtCore import QMimeData, Qt
from PySide6.QtGui import QDrag
from PySide6.QtWidgets import QWidget

NAME_DRAG = "application/x-nimble-otter-name"
"""A table's or column's name, to be quoted where it lands."""
FIELD_DRAG = "application/x-nimble-otter-field"
"""A column of the catalogue with its table."""
COLUMN_DRAG = "application/x-nimble-otter-column"
"""A header of the grid."""
KEY_DRAG = "application/x-nimble-otter-key"
"""A column that the grid is grouped by, out of its header."""
VALUE_DRAG = "application/x-nimble-otter-value"
"""A value of the grid with the column it stands in."""


def text_in(data: QMimeData, kind: str) -> str:
    """The text that dragged data holds of a kind."""
    return bytes(data.data(kind).data()).decode()


def put_parts(data: QMimeData, kind: str, *parts: str) -> None:
    """Put texts into dragged data as one kind."""
    data.setData(kind, json.dumps(parts).encode())


def parts_in(data: QMimeData, kind: str) -> list[str]:
    """The texts that `put_parts` put there."""
    return [str(part) for part in json.loads(text_in(data, kind))]


def drag_column(origin: QWidget, name: str, kind: str = COLUMN_DRAG) -> None:
    """Carry a header of the grid, until it is dropped."""
    drag, data = QDrag(origin), QMimeData()
    data.setData(kind, name.encode())
    data.setText(name)
    drag.setMimeData(data)
    drag.exec(Qt.DropAction.CopyAction)


def value_data(table: str, column: str, said: str) -> QMimeData:
    """A value as it is written in a query; dropped on a text it is that."""
    data = QMimeData()
    put_parts(data, VALUE_DRAG, table, column, said)
    data.setText(said)
    return data


def drag_value(origin: QWidget, parts: tuple[str, str, str]) -> None:
    """Carry a value of the grid, until it is dropped."""
    drag = QDrag(origin)
    drag.setMimeData(value_data(*parts))
    drag.exec(Qt.DropAction.CopyAction)
