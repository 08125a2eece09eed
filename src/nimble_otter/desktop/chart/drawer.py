"""The drawer of a chart: its kind, what stands on its axes, and how it looks. Each change is a part of the pull."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import partial
from typing import Any

from PySide6.QtCore import QSize, Qt, Signal
from PySide6.QtWidgets import QComboBox, QGridLayout, QLineEdit, QListWidget, QMenu, QScrollArea, QWidget

from nimble_otter.desktop.kit.widgets import as_plain, boxed, button, clear, column, combo, count_field, label, row
from nimble_otter.desktop.pulls.drawer import Drawer
from nimble_otter.errors import ConditionError
from nimble_otter.pull.charts import Chart, ChartKind, Up
from nimble_otter.pull.charts.model import LEGENDS, ORDERS, PALETTES, STACKS, Note, marks_of, scale_of
from nimble_otter.pull.charts.places import CATEGORY, kind_of
from nimble_otter.pull.charts.suggest import figure_for
from nimble_otter.pull.steps.group import KeyBy
from nimble_otter.table import Field, Kind
from nimble_otter.table.ops.binning import parts_for
from nimble_otter.table.ops.measures import AggregateFunction
from nimble_otter.translation import tr

_KINDS = {
    ChartKind.LINE: tr("Line"),
    ChartKind.AREA: tr("Area"),
    ChartKind.BARS: tr("Bars"),
    ChartKind.SCATTER: tr("Scatter"),
    ChartKind.HISTOGRAM: tr("Histogram"),
    ChartKind.BOX: tr("Box"),
    ChartKind.HEAT: tr("Heat map"),
}
_ORDER_WORDS = {"along": tr("by their order"), "largest": tr("largest first"), "smallest": tr("smallest first"),
                "rows": tr("as the rows come")}  # fmt: skip
_STACK_WORDS = {"beside": tr("beside each other"), "stacked": tr("on each other"), "share": tr("as shares of 100 %")}
_LEGEND_WORDS = {"auto": tr("where it fits"), "beside": tr("above the chart"), "none": tr("none")}
_PALETTE_WORDS = {"river": tr("river"), "strong": tr("strong"), "grey": tr("grey, for print")}
_NO_FIGURE = tr("each row")
_FIGURES = [f for f in AggregateFunction if f not in (AggregateFunction.LIST, AggregateFunction.MODE)]
_FIELD, _PART, _NAME, _TEXT = 106, 109, 82, 154
_KIND_WIDTH = 102


class ChartDrawer(Drawer):
    """`changed` has the chart as it is to be and the name of the change, `keep_wanted` that the rows picked are to be
    kept. The menus of `copy` and `send` are filled by who knows how pictures leave."""

    title = tr("Chart")
    changed = Signal(object, str)
    keep_wanted = Signal()

    def __init__(self, fill: Callable[[ChartDrawer], None]) -> None:
        super().__init__()
        self._fill = fill
        self.keep = button(
            tr("Keep rows picked"), self.keep_wanted.emit, "", tr("Filter the course to the rows picked")
        )
        self.copy = button(tr("Copy"), None, "", tr("Copy the picture, or the values drawn"))
        self.copy.setMenu(QMenu(self.copy))
        self.send = button(tr("Send picture"), None, "primary", tr("Write the picture to a file"))
        self.send.setMenu(QMenu(self.send))
        for each in (self.keep, self.copy, self.send):
            self.head.right.addWidget(each)
        self.kinds = QListWidget()
        self.kinds.setObjectName("plain")
        self.kinds.setAccessibleName(tr("Kind of chart"))
        self.kinds.setFixedWidth(_KIND_WIDTH)
        for kind, words in _KINDS.items():
            self.kinds.addItem(words)
            item = self.kinds.item(self.kinds.count() - 1)
            item.setData(Qt.ItemDataRole.UserRole, kind.value)
            item.setSizeHint(QSize(0, 22))
        self.kinds.currentItemChanged.connect(lambda *_: self._set_kind())
        self.problem = label("", "plum", wrap=True)
        self._data, self._looks = QGridLayout(), QGridLayout()
        for grid in (self._data, self._looks):
            grid.setHorizontalSpacing(6)
            grid.setVerticalSpacing(5)
        both = row(column(self._data, self.problem, None), 18, column(self._looks, None), None, space=0,
                   margins=(14, 10, 12, 8))  # fmt: skip
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setWidget(boxed(both))
        kinds = boxed(column(label(tr("Kind"), "muted", 11), self.kinds, space=4, margins=(12, 10, 4, 8)))
        self.set_body(kinds, area, stretch=(0, 1))
        self._chart: Chart | None = None
        self._fields: Sequence[Field] = ()
        self._built: tuple[object, ...] = ()
        self._looks_built: object = None
        self._set_looks: list[Callable[[Chart], None]] = []
        """Bring the fields of how it looks up to date: they stay where they are as long as they are the same ones."""
        self._is_filling = False

    def refresh(self) -> None:
        """Show the chart as it is now."""
        self._fill(self)

    # --- what is shown -----------------------------------------------------------------------------------------

    def show_chart(self, chart: Chart | None, fields: Sequence[Field], words: str, problem: str, picked: int) -> None:
        """The chart that is edited, the columns there are, what is drawn of it, and how many rows are picked."""
        self._chart, self._fields = chart, fields
        self.head.words.setText(words)
        self.problem.setText(problem)
        self.problem.setVisible(bool(problem))
        for each in (self.copy, self.send):
            each.setEnabled(chart is not None and not problem)
        self.keep.setEnabled(picked > 0)
        built = (chart, tuple(field.name for field in fields), tuple(field.kind for field in fields))
        if built == self._built:
            return
        self._built = built
        self._is_filling = True
        focus = self.focusWidget()
        name = focus.accessibleName() if focus is not None and self.isAncestorOf(focus) else ""
        self.kinds.setEnabled(chart is not None)
        clear(self._data)
        looks = chart is not None and (chart.kind is ChartKind.HEAT, any(up.second for up in chart.up), chart.notes)
        if looks != self._looks_built:
            clear(self._looks)
            self._set_looks.clear()
        if chart is not None:
            self.kinds.setCurrentRow(list(_KINDS).index(chart.kind))
            self._fill_data(chart)
            if looks != self._looks_built:
                self._fill_looks(chart)
            for show in self._set_looks:
                show(chart)
        self._looks_built = looks
        self._is_filling = False
        if name and focus is not self.kinds:
            again = next((w for w in self.findChildren(QWidget) if w.accessibleName() == name), None)
            if again is not None:
                again.setFocus()

    def focus_first(self) -> None:
        """The kinds."""
        self.kinds.setFocus()

    def _line(self, grid: QGridLayout, name: str, *parts: QWidget) -> None:
        at = grid.rowCount()
        said = label(name, "muted")
        said.setFixedWidth(_NAME)
        grid.addWidget(said, at, 0)
        box = boxed(row(*parts, None, space=5))
        grid.addWidget(box, at, 1)

    def _names(self, only: Sequence[Field] | None = None, none: str = "") -> list[tuple[str, str]]:
        fields = self._fields if only is None else only
        return [*([("", none)] if none else []), *((field.name, field.name) for field in fields)]

    def _field(self, name: str) -> Field | None:
        return next((field for field in self._fields if field.name == name), None)

    def _column(self, name: str, current: str, choices: list[tuple[str, str]], put: Any) -> QComboBox:
        if current and all(value != current for value, _ in choices):
            choices = [(current, tr("{current} (gone)", current=current)), *choices]
        combo_box = combo(choices, current, name)
        combo_box.setFixedWidth(_FIELD)
        combo_box.activated.connect(lambda _: put(str(combo_box.currentData() or "")))
        return combo_box

    def _key(self, grid: QGridLayout, words: str, attribute: str, none: str) -> None:
        """A column with a part of its values: along, by or panels."""
        assert self._chart is not None
        key: KeyBy = getattr(self._chart, attribute)
        parts = [self._column(words, key.column, self._names(none=none), partial(self._set_key, attribute))]
        own = self._field(key.column)
        offered = parts_for(own.kind) if own is not None else ()
        is_raw = self._chart.kind in (ChartKind.SCATTER, ChartKind.HISTOGRAM) and attribute == "along"
        if offered and not is_raw:
            known = [("", tr("by value")), *((part, tr("by {part}", part=part)) for part in offered)]
            if key.part and key.part not in offered:
                known.append((key.part, tr("by {part}", part=key.part)))
            part = combo(known, key.part, tr("{words}, part", words=words))
            part.setFixedWidth(_PART)
            part.activated.connect(lambda _: self._put(tr("Change {words}", words=words.lower()), **{attribute: KeyBy(
                key.column, str(part.currentData() or ""))}))  # fmt: skip
            parts.append(part)
        self._line(grid, words, *parts)

    def _fill_data(self, chart: Chart) -> None:
        grid, kind = self._data, chart.kind
        self._key(grid, tr("Along"), "along", tr("none"))
        if kind is not ChartKind.HISTOGRAM:
            for index, up in enumerate(chart.up or (Up(),)):
                self._up_line(grid, chart, index, up)
            if kind in (ChartKind.LINE, ChartKind.AREA, ChartKind.BARS, ChartKind.SCATTER) and chart.up:
                more = button(tr("Another column up"), self._add_up, "link")
                self._line(grid, "", more)
        self._key(grid, tr("Down") if kind is ChartKind.HEAT else tr("Colour"), "by", tr("none"))
        if kind is ChartKind.SCATTER:
            amounts = [field for field in self._fields if kind_of(field) != CATEGORY]
            self._line(grid, tr("Size"), self._column(tr("Size"), chart.size, self._names(amounts, tr("none")),
                                                  lambda name: self._put(tr("Change size"), size=name)))  # fmt: skip
        self._key(grid, tr("Panels"), "panels", tr("none"))
        if kind.stacks:
            self._choice(grid, tr("Series"), "stack", [(key, _STACK_WORDS[key]) for key in STACKS])
        if kind in (ChartKind.BARS, ChartKind.BOX, ChartKind.HEAT):
            self._choice(grid, tr("Order"), "order", [(key, _ORDER_WORDS[key]) for key in ORDERS])
            if any(up.figure for up in chart.up):
                self._number(
                    grid,
                    tr("Only the top"),
                    "top",
                    tr("all"),
                    tr("So many categories; all others together are “other”"),
                )
        if kind is ChartKind.HISTOGRAM:
            self._number(grid, tr("Bins"), "bins", tr("as many as suit"), tr("How many bins of one width"))
        if kind in (ChartKind.BARS, ChartKind.BOX):
            self._choice(grid, tr("Lie"), "sideways", [("", tr("upright")), ("yes", tr("on their side"))])

    def _up_line(self, grid: QGridLayout, chart: Chart, place: int, up: Up) -> None:
        words = tr("Shade") if chart.kind is ChartKind.HEAT else tr("Up") if place == 0 else tr("and")
        is_raw = chart.kind in (ChartKind.SCATTER, ChartKind.BOX)
        amounts = [field for field in self._fields if kind_of(field) != CATEGORY]
        choices = self._names(amounts if is_raw or not up.figure else None, "" if is_raw else tr("rows"))
        parts: list[QWidget] = [
            self._column(f"{words} {place + 1}", up.column, choices, partial(self._set_up_column, place))
        ]
        if not is_raw:
            own = self._field(up.column)
            figures = [f for f in _FIGURES if own is None or own.is_amount or not f.needs_numbers]
            known = [("", _NO_FIGURE), *((f.value, f.value) for f in figures if up.column or f.of_rows)]
            known = known if up.column and chart.kind is not ChartKind.HEAT else known[1:]
            figure = combo(known, up.figure, tr("{words} {place}, aggregate", words=words, place=place + 1))
            figure.setFixedWidth(_PART)
            figure.activated.connect(lambda _: self._set_up(place, figure=str(figure.currentData() or "")))
            parts.append(figure)
        if place or len(chart.up) > 1:
            if chart.kind in (ChartKind.LINE, ChartKind.AREA, ChartKind.BARS):
                side = button(tr("2nd axis"), partial(self._set_up, place, second=not up.second), "chip",
                              tr("On an axis of its own, at the right"))  # fmt: skip
                side.setCheckable(True)
                side.setChecked(up.second)
                parts.append(side)
            parts.append(
                button(
                    "×", partial(self._remove_up, place), "plain", tr("Remove {up_title}", up_title=up.title or "it")
                )
            )
        self._line(grid, words, *parts)

    def _fill_looks(self, chart: Chart) -> None:
        grid = self._looks
        self._text(grid, tr("Title"), "title", Chart.words)
        self._text(grid, tr("Tab says"), "name", Chart.words)
        self._text(grid, tr("Along says"), "x_title", lambda now: now.along.title)
        self._text(grid, tr("Up says"), "y_title", lambda now: ", ".join(up.title for up in now.up))
        if any(up.second for up in chart.up):
            self._text(grid, tr("2nd axis says"), "second_title", lambda _: "")
        self._text(grid, tr("Lines at"), "lines", lambda _: "3.2 flood watch; 2 to 3 usual", marks_of)
        if chart.kind is not ChartKind.HEAT:
            self._text(grid, tr("Scale along"), "x_scale", lambda _: "0 to 4, log, reversed", scale_of)
            self._text(grid, tr("Scale up"), "y_scale", lambda _: "0 to 4, log, reversed", scale_of)
            if any(up.second for up in chart.up):
                self._text(grid, tr("Scale, 2nd"), "second_scale", lambda _: "0 to 4, log, reversed", scale_of)
        self._choice(grid, tr("Legend"), "legend", [(key, _LEGEND_WORDS[key]) for key in LEGENDS])
        self._choice(grid, tr("Colours"), "palette", [(key, _PALETTE_WORDS[key]) for key in PALETTES])
        self._choice(grid, tr("Grid lines"), "grid", [("yes", tr("shown")), ("", tr("none"))])
        for index, note in enumerate(chart.notes):
            line_edit = QLineEdit(note.text)
            line_edit.setAccessibleName(tr("Note {index}", index=index + 1))
            line_edit.setFixedWidth(_TEXT - 30)
            line_edit.editingFinished.connect(partial(self._set_note, index, line_edit))
            self._line(
                grid,
                tr("Note"),
                line_edit,
                button("×", partial(self._remove_note, index), "plain", tr("Remove the note")),
            )

    def _text(
        self, grid: QGridLayout, words: str, attribute: str, hint: Callable[[Chart], str], check: Any = None
    ) -> None:
        line_edit = QLineEdit()
        line_edit.setAccessibleName(words)
        line_edit.setFixedWidth(_TEXT)

        def show(chart: Chart) -> None:
            line_edit.setText(str(getattr(chart, attribute)))
            line_edit.setCursorPosition(0)
            line_edit.setPlaceholderText(hint(chart))

        def done() -> None:
            text = line_edit.text().strip()
            if self._chart is None or text == getattr(self._chart, attribute):
                return
            if check is not None:
                try:
                    check(text)
                except ConditionError as problem:
                    self.problem.setText(str(problem))
                    self.problem.setVisible(True)
                    return
            self._put(tr("Change {words}", words=words.lower()), **{attribute: text})

        line_edit.editingFinished.connect(done)
        self._set_looks.append(show)
        self._line(grid, words, line_edit)

    def _choice(self, grid: QGridLayout, words: str, attribute: str, choices: list[tuple[str, str]]) -> None:
        is_switch = isinstance(getattr(self._chart, attribute), bool)
        combo_box = combo(choices, "", words)
        combo_box.setFixedWidth(_TEXT if grid is self._looks else _FIELD + _PART + 5)

        def show(chart: Chart) -> None:
            value = getattr(chart, attribute)
            combo_box.setCurrentIndex(max(0, combo_box.findData(("yes" if value else "") if is_switch else value)))

        def put(_: int) -> None:
            chosen = str(combo_box.currentData() or "")
            self._put(tr("Change {words}", words=words.lower()), **{attribute: bool(chosen) if is_switch else chosen})

        combo_box.activated.connect(put)
        if grid is self._looks:
            self._set_looks.append(show)
        elif self._chart is not None:
            show(self._chart)
        self._line(grid, words, combo_box)

    def _number(self, grid: QGridLayout, words: str, attribute: str, none: str, tip: str) -> None:
        spin_box = count_field(words, lambda _: None)
        spin_box.setRange(0, 1000)
        spin_box.setFixedWidth(_FIELD)
        spin_box.setSpecialValueText(none)
        spin_box.setToolTip(as_plain(tip))
        spin_box.setValue(getattr(self._chart, attribute))
        spin_box.valueChanged.connect(
            lambda value: self._put(tr("Change {words}", words=words.lower()), **{attribute: value})
        )
        self._line(grid, words, spin_box)

    # --- what is changed ---------------------------------------------------------------------------------------

    def _put(self, name: str, **changes: Any) -> None:
        if self._chart is not None and not self._is_filling:
            self.changed.emit(replace(self._chart, **changes), name)

    def _set_kind(self) -> None:
        item = self.kinds.currentItem()
        if self._chart is None or item is None or self._is_filling:
            return
        kind = ChartKind(item.data(Qt.ItemDataRole.UserRole))
        if kind is not self._chart.kind:
            self.changed.emit(as_kind(self._chart, kind, self._fields), tr("Change kind"))

    def _set_key(self, attribute: str, name: str) -> None:
        own = self._field(name)
        part = ""
        if attribute != "along" and own is not None and own.kind.is_moment:
            part = "year"
        words = {"along": "along", "by": "colour", "panels": "panels"}[attribute]
        self._put(tr("Change {words}", words=words), **{attribute: KeyBy(name, part)})

    def _ups(self) -> list[Up]:
        return list(self._chart.up) if self._chart is not None and self._chart.up else [Up()]

    def _set_up(self, place: int, **changes: Any) -> None:
        ups = self._ups()
        ups[place] = replace(ups[place], **changes)
        self._put(tr("Change up"), up=tuple(ups))

    def _set_up_column(self, place: int, name: str) -> None:
        own, up = self._field(name), self._ups()[place]
        if own is None:
            self._set_up(place, column="", figure=AggregateFunction.COUNT.value)
            return
        figure = up.figure
        if not figure and kind_of(own) == CATEGORY:
            figure = AggregateFunction.DISTINCT.value
        elif figure == AggregateFunction.COUNT.value or (figure and AggregateFunction(figure).needs_numbers
                                                         and not own.is_amount):  # fmt: skip
            figure = figure_for(own) if own.is_amount else AggregateFunction.DISTINCT.value
        self._set_up(place, column=name, figure=figure)

    def _add_up(self) -> None:
        ups = self._ups()
        used = {up.column for up in ups}
        amounts = [field for field in self._fields if field.is_amount]
        own = next((field for field in amounts if field.name not in used), amounts[0] if amounts else None)
        if own is not None:
            self._put(tr("Add a column up"), up=(*ups, Up(own.name, ups[0].figure and figure_for(own))))

    def _remove_up(self, place: int) -> None:
        ups = self._ups()
        ups.pop(place)
        self._put(tr("Remove a column"), up=tuple(ups))

    def _set_note(self, place: int, said: QLineEdit) -> None:
        notes = list(self._chart.notes) if self._chart is not None else []
        if place < len(notes) and notes[place].text != said.text().strip():
            notes[place] = Note(notes[place].x, notes[place].y, said.text().strip())
            self._put(tr("Change note"), notes=tuple(notes))

    def _remove_note(self, place: int) -> None:
        notes = list(self._chart.notes) if self._chart is not None else []
        notes.pop(place)
        self._put(tr("Remove note"), notes=tuple(notes))


def as_kind(chart: Chart, kind: ChartKind, fields: Sequence[Field]) -> Chart:
    """A chart as one of another kind, with what that needs and the rows have."""
    named = {field.name: field for field in fields}
    amounts = [field for field in fields if kind_of(field) != CATEGORY]
    ups = list(chart.up) or [Up()]
    if kind is ChartKind.HISTOGRAM:
        own = named.get(chart.along.column)
        measured = next((up.column for up in ups if up.column in named and named[up.column].is_amount), "")
        column = measured or (chart.along.column if own is not None and kind_of(own) != CATEGORY else "")
        return replace(chart, kind=kind, along=KeyBy(column or (amounts[0].name if amounts else "")))
    if kind in (ChartKind.SCATTER, ChartKind.BOX):
        first = next((field.name for field in amounts if field.name != chart.along.column), "")
        ups = [Up(up.column if up.column in {field.name for field in amounts} else first, "", up.at) for up in ups]
        return replace(chart, kind=kind, up=tuple(ups[:1] if kind is ChartKind.BOX else ups), stack="beside")
    if kind is ChartKind.HEAT:
        up = ups[0] if ups[0].figure else Up(ups[0].column, figure_for(named[ups[0].column]) if ups[0].column in named
                                             else "count")  # fmt: skip
        names = [f.name for f in fields if f.kind in (Kind.TEXT, Kind.BOOL) and f.name != chart.along.column]
        by = chart.by if chart.by.column else KeyBy(names[0] if names else "")
        return replace(chart, kind=kind, up=(up,), by=by, stack="beside")
    if kind is ChartKind.BARS and any(not up.figure for up in ups):
        ups = [up if up.figure or up.column not in named else replace(up, figure=figure_for(named[up.column]))
               for up in ups]  # fmt: skip
    ups = [replace(up, figure="count") if not up.column and not up.figure else up for up in ups]
    stack = chart.stack if kind.stacks else "beside"
    return replace(chart, kind=kind, up=tuple(ups), stack=stack)
