"""What is picked in a chart, beside it: how many rows, their figures, and what can be done with them."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import Signal

from nimble_otter.desktop.kit.widgets import ElidedLabel, Line, ScrolledLines, button, clear, label, row
from nimble_otter.table.core.columns import Ids
from nimble_otter.table.text.show import grouped
from nimble_otter.translation import tr


@dataclass(frozen=True, slots=True, eq=False)
class Picked:
    """Rows picked in a chart (by id), of how many, what the place is called, and figures of them as texts."""

    title: str
    rows: Ids
    of: int
    figures: tuple[tuple[str, str], ...] = ()


class PickedPage(ScrolledLines):
    """`shown`, `kept`, `left_out`: the rows are to be shown in the grid, or the course is to keep or exclude them."""

    shown = Signal()
    kept = Signal()
    left_out = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.fill(None)

    def fill(self, picked: Picked | None) -> None:
        """Show what is picked."""
        if picked is None:
            self.empty(tr("Drag over the chart, or click a mark, to pick the rows behind it."))
            return
        clear(self.lines)
        title = ElidedLabel(picked.title)
        self.lines.addWidget(title)
        self.lines.addWidget(
            label(
                tr("{rows_count} rows of {of}", rows_count=grouped(len(picked.rows)), of=grouped(picked.of)),
                "muted",
                11,
            )
        )
        self.lines.addSpacing(8)
        for name, value in picked.figures:
            parts = row(ElidedLabel(name, "muted"), label(value), space=6, margins=(0, 3, 0, 3))
            parts.setStretch(0, 1)
            self.lines.addLayout(parts)
            self.lines.addWidget(Line(colour="grid_line"))
        self.lines.addSpacing(10)
        self.lines.addWidget(label(tr("Same rows in the grid"), "muted", 11, bold=True))
        deeds = (
            (tr("Show them"), self.shown),
            (tr("Filter to them"), self.kept),
            (tr("Leave them out"), self.left_out),
        )
        for words, signal in deeds:
            self.lines.addLayout(row(button(words, signal.emit, "link"), None, margins=(0, 1, 0, 1)))
        self.lines.addStretch(1)
