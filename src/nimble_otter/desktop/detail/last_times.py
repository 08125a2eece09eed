"""Last times: the rows as they are now beside the deliveries before, shown while a Check or the Send step is edited."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable

from PySide6.QtCore import QRect, Qt
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QWidget

from nimble_otter.desktop.kit.theme import theme, ui_font
from nimble_otter.desktop.kit.widgets import ElidedLabel, Line, ScrolledLines, clear, label, row
from nimble_otter.desktop.pulls.open_pull import OpenPull
from nimble_otter.desktop.runtime.jobs import LOCAL, Report
from nimble_otter.pull import places
from nimble_otter.pull.profiles import MOST_KEYED, Beside, usual
from nimble_otter.stop import StopToken
from nimble_otter.table.text.show import grouped
from nimble_otter.translation import tr, tr_value, trn

_BARS, _LINES = 6, 16
_SHOWN = ("mean", "lowest", "highest", "NULL")
"""Figures of a column that stand there though they are as usual."""


class _Bars(QWidget):
    """Rows of the deliveries, the oldest first; the last bar is now."""

    def __init__(self, counts: list[int]) -> None:
        super().__init__()
        self._counts = counts
        self.setFixedHeight(84)
        self.setAccessibleName(tr("Rows delivered: {values}", values=", ".join(map(str, counts))))

    def paintEvent(self, event: QPaintEvent) -> None:
        """Paint the bars."""
        with QPainter(self) as painter:
            most, width = max(1, *self._counts), self.width() / _BARS
            for index, count in enumerate(self._counts):
                height = max(1, round(66 * count / most))
                rect = QRect(round(index * width + 4), 70 - height, round(width * 0.62), height)
                painter.fillRect(rect, theme["water1" if index == len(self._counts) - 1 else "water3"])
            painter.setFont(ui_font(11))
            painter.setPen(theme["muted"])
            painter.drawText(
                QRect(4, 70, self.width(), 14), Qt.AlignmentFlag.AlignLeft, tr("rows delivered; the last: now")
            )


class LastTimesPage(ScrolledLines):
    """Counts and figures, those outside their usual range in the colour of warnings."""

    def fill(self, found: Beside) -> None:
        """Show how the rows compare."""
        if not found.before:
            self.empty(tr("Nothing was delivered yet to compare with. The next delivery will be remembered."))
            return
        clear(self.lines)
        before = found.before
        count = min(len(before), _BARS - 1)
        title = trn(
            "These rows beside the last delivery", "These rows beside the last {count} deliveries", count, count=count
        )
        self.lines.addWidget(label(title, bold=True, wrap=True))
        self.lines.addSpacing(8)
        self.lines.addWidget(_Bars([*(each.rows for each in reversed(before[:count])), found.now.rows]))
        self._line(tr("rows"), grouped(found.now.rows), f"{found.now.rows - before[0].rows:+}")
        if found.moved is not None:
            for name, value in ((tr("new keys"), found.moved.new), (tr("gone keys"), found.moved.gone),
                                (tr("changed rows"), found.moved.changed)):  # fmt: skip
                self._line(name, grouped(value))
        for word, names in ((tr("new columns"), found.appeared), (tr("columns gone"), found.went),
                            (tr("of another type"), found.other_kind)):  # fmt: skip
            if names:
                self._line(word, ", ".join(names), tone="plum")
        odd = {each.name for each in found.unusual}
        figures = found.now.figures()
        keys = tuple(f"{name} " for name in found.now.key) or ("\0",)
        plain = (name for name in figures if name not in odd and name.endswith(_SHOWN) and not name.startswith(keys))
        chosen = [*odd, *(name for name in plain if figures[name] or usual(name, before) not in ((0, 0), None))]
        for name in [name for name in chosen if name != "rows"][:_LINES]:
            limits = list(dict.fromkeys(_short(name, each) for each in usual(name, before) or ()))
            text = ""
            if limits:
                span = tr("{low} to {high}", low=limits[0], high=limits[1]) if limits[1:] else limits[0]
                text = tr("usual {usual}", usual=span)
            column, _, measure = name.rpartition(" ")
            shown = f"{column} {tr_value(measure)}" if column else tr_value(measure)
            self._line(shown, _short(name, figures[name]), text, "plum" if name in odd else "")
        self.lines.addStretch(1)

    def _line(self, name: str, value: str, beside: str = "", tone: str = "") -> None:
        said = label(value, tone)
        parts = row(ElidedLabel(name, "muted"), said, *([label(beside, "faint", 11)] if beside else []), space=6,
                    margins=(0, 4, 0, 4))  # fmt: skip
        parts.setStretch(0, 1)
        self.lines.addLayout(parts)
        self.lines.addWidget(Line(colour="grid_line"))


def _short(name: str, value: float) -> str:
    if name.endswith(" NULL"):
        return f"{100 * value:.1f} %"
    return (
        grouped(round(value)) if (value == round(value) or abs(value) >= 1e3) and abs(value) < 1e15 else f"{value:.4g}"
    )


def look_back(open_pull: OpenPull, show: Callable[[Beside], None]) -> bool:
    """Lay the rows at the end of the course beside the deliveries before, in the background; False where that is not
    possible, as there are none or too many."""
    from nimble_otter.pull.delivery import remembered  # when first needed: it brings the whole of sending

    course = open_pull.course
    if course is None or course.end.rows > MOST_KEYED:
        return False
    mark, tables = open_pull.remembered_as, open_pull.tables_asked

    def work(stop: StopToken, _: Report) -> Beside:
        return remembered(course, tables, places.state_folder(), mark, dt.datetime.now(), stop)[0]

    open_pull.jobs.submit(LOCAL, f"{open_pull.key} last times", work, show)
    return True
