"""The right pane: the current cell, its record, figures of its column, or the shapes of a collection."""

from __future__ import annotations

import json
from functools import partial
from typing import Any

from PySide6.QtCore import QRect, Qt, Signal
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import (
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from nimble_otter.desktop.detail.cell_page import CellPage
from nimble_otter.desktop.detail.last_times import LastTimesPage
from nimble_otter.desktop.detail.record_page import RecordPage
from nimble_otter.desktop.kit import tokens
from nimble_otter.desktop.kit.theme import code_font, theme, ui_font
from nimble_otter.desktop.kit.widgets import (
    ElidedLabel,
    Line,
    ScrolledLines,
    Segments,
    as_plain,
    button,
    clear,
    column,
    label,
    row,
)
from nimble_otter.sources import Shape, Shapes
from nimble_otter.table import Field
from nimble_otter.table.ops.profile import Profile
from nimble_otter.table.text.show import grouped, jsonable, shown
from nimble_otter.translation import tr

CELL, RECORD, COLUMN = 0, 1, 2


class Detail(QWidget):
    """`step_wanted` -1 or 1: the record before or after. `turned`: another page was chosen."""

    step_wanted = Signal(int)
    turned = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("paper")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.segments = Segments([tr("Cell"), tr("Record"), tr("Column")], self._turn)
        self.segments.setAccessibleName(tr("Detail"))
        self.cell, self.record, self.column, self.shapes = CellPage(), RecordPage(), _ColumnPage(), _ShapesPage()
        self.last = LastTimesPage()
        self.record.step_wanted.connect(self.step_wanted.emit)
        self._pages = QStackedWidget()
        for page in (self.cell, self.record, self.column, self.shapes, self.last):
            self._pages.addWidget(page)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(12, 10, 12, 8)
        layout.setSpacing(10)
        layout.addWidget(self.segments)
        layout.addWidget(self._pages, 1)
        self.showing_shapes = self.showing_last = False
        self._picked: QWidget | None = None
        self.turn(RECORD)

    @property
    def page(self) -> int:
        """The page that is in front: cell, record or column."""
        return self.segments.chosen

    def turn(self, page: int) -> None:
        """Bring a page to the front."""
        self.segments.choose(page)
        self._turn(page)

    def _turn(self, page: int) -> None:
        takes_its_place = {COLUMN: (self.showing_shapes, 3), RECORD: (self.showing_last, 4)}
        if self._picked is not None:
            takes_its_place[COLUMN] = (True, self._pages.indexOf(self._picked))
        is_other, other = takes_its_place.get(page, (False, page))
        shown = other if is_other else page
        self._pages.setCurrentIndex(shown)
        self.turned.emit()

    def offer_last(self, is_offered: bool) -> None:
        """Show earlier deliveries in place of the record, as long as checks or a delivery are edited."""
        if self.showing_last != is_offered:
            self.showing_last = is_offered
            self.segments.rename(RECORD, tr("Last times") if is_offered else tr("Record"))
            self._turn(self.page)

    def offer_picked(self, page: QWidget | None) -> None:
        """Show what is picked in a chart in place of column figures, as long as something is."""
        if page is self._picked:
            return
        if page is not None and self._pages.indexOf(page) < 0:
            self._pages.addWidget(page)
        before, self._picked = self._picked, page
        self.segments.rename(
            COLUMN, tr("Picked") if page is not None else tr("Shapes") if self.showing_shapes else tr("Column")
        )
        if page is not None and before is None:
            self._page_before = self.page
            self.segments.choose(COLUMN)
        elif page is None and self.page == COLUMN:
            self.segments.choose(self._page_before)
        self._turn(self.page)

    _page_before = RECORD

    def offer_shapes(self, shapes: Shapes | None, name: str = "") -> None:
        """Show shapes in place of column figures, as long as a collection is selected."""
        self.showing_shapes = bool(name)
        self.segments.rename(COLUMN, tr("Shapes") if name else tr("Column"))
        if name:
            self.shapes.fill(shapes, name)
            self.segments.choose(COLUMN)
        self._turn(self.page)


class _ColumnPage(ScrolledLines):
    def __init__(self) -> None:
        super().__init__()
        self.empty(tr("Select a column to see its statistics."))

    def busy(self, field: Field) -> None:
        self.empty(tr("Computing statistics of {field_name}.", field_name=field.name))

    def fill(self, field: Field, found: Profile) -> None:
        clear(self.lines)
        self.lines.addWidget(
            ElidedLabel(f"{field.name} — {field.origin or field.note or field.kind.value}", "muted", 11)
        )
        self.lines.addSpacing(12 if found.bins else 6)
        if found.bins:
            self.lines.addWidget(_Histogram(found.bins))
            low, high = shown(_few(found.bin_low), field), shown(_few(found.bin_high), field)
            self.lines.addLayout(row(label(low, "muted", 11), None, label(high, "", 11), margins=(0, 3, 0, 4)))
        for name, value in _figures(found, field):
            self.lines.addLayout(row(label(name, "muted"), ElidedLabel(value, right=True), margins=(0, 3, 0, 3)))
        if found.frequent:
            self.lines.addSpacing(10)
            self.lines.addWidget(label(tr("Most frequent"), "muted", tokens.SMALL_PX, True))
            self.lines.addSpacing(4)
            most = found.frequent[0][1]
            for value, count in found.frequent:
                self.lines.addWidget(_Frequent(shown(value, field) or "“ ”", count, count / most))
        if found.patterns:
            self.lines.addSpacing(10)
            head = label(tr("Forms"), "muted", tokens.SMALL_PX, True)
            head.setToolTip(tr("A and a mean letters, 9 a digit, + one or more of the same"))
            self.lines.addWidget(head)
            for form, share in found.patterns:
                elided_label = ElidedLabel(form or "“ ”")
                elided_label.setFont(code_font())
                percent = label(f"{100 * share:.0f} %", "faint", tokens.SMALL_PX)
                self.lines.addLayout(row(elided_label, percent, margins=(0, 3, 0, 3)))
        self.lines.addStretch(1)


def _few(value: object) -> object:
    return round(value, 3) if isinstance(value, float) else value


def _figures(found: Profile, field: Field) -> list[tuple[str, str]]:
    share = f" · {100 * found.empty / found.rows:.0f} %" if found.rows and found.empty else ""
    figures: list[tuple[str, Any]] = [
        (tr("rows"), grouped(found.rows)),
        (tr("empty"), f"{grouped(found.empty)}{share}"),
        (tr("distinct"), grouped(found.distinct)),
    ]
    counts = len(figures)
    if not found.bins:
        figures += [(tr("lowest"), found.smallest), (tr("highest"), found.largest)]
    figures += [(tr("shortest"), found.shortest), (tr("longest"), found.longest)]
    figures += [(tr("mean"), found.mean), (tr("median"), found.median), (tr("sum"), found.total)]
    figures += [(tr("spread (sd)"), found.spread)]
    figures += [(tr("a quarter below"), found.low_quarter), (tr("a quarter above"), found.high_quarter)]
    return [(name, v if n < counts else shown(_few(v), field)) for n, (name, v) in enumerate(figures) if v is not None]


class _Histogram(QWidget):
    def __init__(self, bins: tuple[int, ...]) -> None:
        super().__init__()
        self._bins = bins
        self.setFixedHeight(62)
        self.setAccessibleName(tr("Histogram"))
        self.setToolTip(tr("Rows in equal steps from lowest to highest: ") + ", ".join(map(str, bins)))

    def paintEvent(self, event: QPaintEvent) -> None:
        with QPainter(self) as painter:
            most, width = max(self._bins) or 1, self.width() / len(self._bins)
            for index, count in enumerate(self._bins):
                height = round((self.height() - 2) * count / most) if count else 0
                left = round(index * width)
                bar = QRect(
                    left, self.height() - max(height, 1 if count else 0), round((index + 1) * width) - left - 2, height
                )
                painter.fillRect(bar, theme["water2"])
            painter.fillRect(QRect(0, self.height() - 1, self.width(), 1), theme["line"])


class _Frequent(QWidget):
    """A value, a bar for its share of the most frequent one, and how often it is there."""

    def __init__(self, text: str, count: int, share: float) -> None:
        super().__init__()
        self._text, self._count, self._share = text, grouped(count), share
        self.setFixedHeight(22)
        self.setAccessibleName(f"{text}: {count}")
        self.setToolTip(as_plain(f"{text}: {self._count}"))

    def paintEvent(self, event: QPaintEvent) -> None:
        with QPainter(self) as painter:
            painter.setFont(ui_font())
            painter.setPen(theme["ink"])
            middle = Qt.AlignmentFlag.AlignVCenter
            painter.setFont(ui_font())
            need = painter.fontMetrics().horizontalAdvance(self._text) + 10
            name = max(round(self.width() * 0.32), min(need, round(self.width() * 0.58)))
            text = painter.fontMetrics().elidedText(self._text, Qt.TextElideMode.ElideRight, name - 8)
            painter.drawText(QRect(0, 0, name - 6, self.height()), middle, text)
            painter.setFont(ui_font(tokens.SMALL_PX))
            painter.setPen(theme["faint"])
            painter.drawText(self.rect(), middle | Qt.AlignmentFlag.AlignRight, self._count)
            room = self.width() - name - painter.fontMetrics().horizontalAdvance(self._count) - 10
            painter.fillRect(QRect(name, self.height() // 2 - 4, max(2, round(room * self._share)), 8), theme["water3"])


class _ShapesPage(ScrolledLines):
    """`sample_wanted` with how many documents to sample instead."""

    sample_wanted = Signal(int)

    def fill(self, shapes: Shapes | None, name: str) -> None:
        if shapes is None:
            self.empty(tr("Sampling {name} to find its shapes.", name=name))
            return
        clear(self.lines)
        head = tr(
            "{collection} — {sampled} of {total} documents sampled",
            collection=shapes.collection,
            sampled=grouped(shapes.sampled),
            total=grouped(shapes.total),
        )
        self.lines.addWidget(label(head, "muted", tokens.SMALL_PX, True, wrap=True))
        sizes = [n for n in (100, 1000, 10_000, 100_000) if n != shapes.sampled and n <= 10 * max(10, shapes.total)]
        links = [
            button(grouped(n), partial(self.sample_wanted.emit, n), "link", tr("Sample {n} documents", n=grouped(n)))
            for n in sizes
        ]
        self.lines.addLayout(row(label(tr("sample"), "faint", tokens.SMALL_PX), *links, None, space=8))
        for shape in shapes.shapes:
            self.lines.addWidget(_ShapeBox(shape))
            self.lines.addWidget(Line())
        if shapes.differing:
            self.lines.addSpacing(12)
            self.lines.addWidget(label(tr("Fields with mixed types"), "muted", tokens.SMALL_PX, True))
            self.lines.addSpacing(4)
            for path in shapes.differing[:12]:
                by = shapes.types[path]
                whole = sum(by.values())
                parts = [
                    f"{word} {100 * share / (whole if whole > 0.9 else whole or 1):.0f} %" for word, share in by.items()
                ]
                if 0.9 <= whole < 0.9999:
                    parts = [f"{word} {100 * share:.0f} %" for word, share in by.items()]
                    parts.append(tr("missing {whole:.0f} %", whole=100 * (1 - whole)))
                line = row(
                    label(path, "muted", tokens.SMALL_PX), ElidedLabel(" · ".join(parts), "muted", 11, right=True)
                )
                line.setStretch(1, 1)
                line.setContentsMargins(0, 6, 0, 6)
                self.lines.addLayout(line)
                self.lines.addWidget(Line())
        if shapes.indexed:
            self.lines.addSpacing(12)
            self.lines.addWidget(label(tr("Indexed fields, fast to search"), "muted", tokens.SMALL_PX, True))
            self.lines.addWidget(label(", ".join(shapes.indexed), "muted", tokens.SMALL_PX, wrap=True))
        self.lines.addStretch(1)


def _shape_told(shape: Shape) -> str:
    """Every field's types and share, and one document as an example."""
    lines = [
        f"{path}: " + ", ".join(f"{word} {100 * n:.0f} %" for word, n in by.items()) for path, by in shape.types.items()
    ]
    if len(lines) > 30:
        lines = [*lines[:30], tr("… {lines_count} more fields", lines_count=grouped(len(lines) - 30))]
    if shape.example is not None:
        lines += ["", tr("for example"), json.dumps(jsonable(shape.example), ensure_ascii=False, indent=1)[:900]]
    return "\n".join(lines)


class _ShapeBox(QWidget):
    def __init__(self, shape: Shape) -> None:
        super().__init__()
        self.setToolTip(as_plain(_shape_told(shape)))
        self._share = shape.share
        name, fields = ElidedLabel(shape.name), label(", ".join(shape.fields), "muted", tokens.SMALL_PX, wrap=True)
        name.setFont(ui_font(bold=True))
        percent = label(f"{100 * shape.share:.0f} %")
        self._bar = _ShareBar(shape.share)
        head = row(name, percent)
        head.setStretch(0, 1)
        self.setLayout(column(head, self._bar, fields, space=6, margins=(0, 8, 0, 8)))


class _ShareBar(QWidget):
    def __init__(self, share: float) -> None:
        super().__init__()
        self._share = share
        self.setFixedHeight(5)

    def paintEvent(self, event: QPaintEvent) -> None:
        with QPainter(self) as painter:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(theme["sunk"])
            painter.drawRoundedRect(self.rect(), 2, 2)
            painter.setBrush(theme["water2"])
            painter.drawRoundedRect(QRect(0, 0, max(4, round(self.width() * min(1.0, self._share))), 5), 2, 2)
