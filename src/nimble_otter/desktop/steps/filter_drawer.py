"""Filter: conditions as lines, the same as SQL under them, and the values of the chosen column with their counts."""

from __future__ import annotations

import re
from dataclasses import replace
from typing import Any

from PySide6.QtCore import QPoint, QRect, QSize, Qt
from PySide6.QtGui import QKeyEvent, QPainter, QPen
from PySide6.QtWidgets import (
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QScrollArea,
    QStyle,
    QStyledItemDelegate,
    QVBoxLayout,
)

from nimble_otter.desktop.kit.theme import code_font, theme, ui_font
from nimble_otter.desktop.kit.widgets import Line, as_plain, boxed, button, clear, column, label, row
from nimble_otter.desktop.pulls.drawer import Drawer
from nimble_otter.desktop.runtime.jobs import LOCAL
from nimble_otter.desktop.steps.condition_row import PICKS, ConditionRow
from nimble_otter.pull.steps import Condition, FilterStep
from nimble_otter.pull.steps.filter import SIGNS
from nimble_otter.table.kernels.keys import object_key
from nimble_otter.table.ops.profile import value_counts
from nimble_otter.table.text.show import grouped, plain, shown
from nimble_otter.translation import tr
from nimble_otter.values import Value

_HOW = tr("Write it as in a WHERE clause: and, or, not, in, like, between, is null.")
MOST_VALUES = 300
MOST_COUNTED = 20_000
_COMPARED = re.compile(r"(>=|<=|<>|!=|=|>|<)\s*(\S.*)")
_BY_SIGN = {sign: operator for operator, sign in SIGNS.items()} | {"!=": "is not"}
_VALUE, _COUNT = Qt.ItemDataRole.UserRole, Qt.ItemDataRole.UserRole + 1


class FilterDrawer(Drawer):
    """The drawer of a Filter step: its conditions, how they are joined, and their SQL."""

    title = tr("Filter")

    def __init__(self) -> None:
        super().__init__()
        self.at = 0
        self._focused = 0
        self.add_button = button(tr("Add condition"), self.add_condition)
        self.head.right.addWidget(self.add_button)
        self._lines = QVBoxLayout()
        self._lines.setSpacing(6)
        self.sql = label("", "muted", 12, wrap=True)
        self.sql.setFont(code_font())
        self.problem = label("", "plum", wrap=True)
        inside = boxed(column(self._lines, self.problem, self.sql, None, space=8, margins=(12, 10, 12, 8)))
        scrolled = QScrollArea()
        scrolled.setWidgetResizable(True)
        scrolled.setWidget(inside)
        self.values_title = label("", "muted", 12, wrap=True)
        self.values = QListWidget()
        self.values.setAccessibleName(tr("Values"))
        self.values.setItemDelegate(_ValuePaint(self.values))
        self.values.itemChanged.connect(lambda _: self._picked())
        self.values.itemClicked.connect(_flip)
        self.search = QLineEdit()
        self.search.setPlaceholderText(tr("Find a value, or > 3"))
        self.search.setToolTip(tr("Enter takes the first value found; > 3, <= 5 or <> x compares"))
        self.search.setAccessibleName(tr("Find a value"))
        self.search.textChanged.connect(self._sift)
        self.search.returnPressed.connect(self._take)
        self.by_value = button(tr("by value"), self._sift, "chip", tr("Sort by value, not by count"))
        self.by_value.setCheckable(True)
        side = boxed(
            column(
                self.values_title,
                row(self.search, self.by_value, space=6),
                self.values,
                space=6,
                margins=(12, 9, 12, 8),
            ),
            "raised",
        )
        side.setFixedWidth(300)
        self.set_body(scrolled, Line(True, "grid_line"), side, stretch=(1, 0, 0))
        self._counts: list[tuple[Any, int]] = []
        self._counts_of: Any = None
        self._rows: list[ConditionRow] = []
        self._shape: Any = None
        self._count: int | None = None

    # --- filling -----------------------------------------------------------------------------------------------

    def show_step(self, at: int) -> None:
        """Show the filter at this place of the course."""
        if at != self.at:
            self._focused, self._shape, self._count = 10**6, None, None  # the last condition
        self.at = at

    @property
    def step(self) -> FilterStep:
        """The step that is shown."""
        assert self.open_pull is not None
        step = self.open_pull.pull.steps[self.at]
        assert isinstance(step, FilterStep)
        return step

    def refresh(self) -> None:
        """Show the step as it is now."""
        open_pull = self.open_pull
        assert open_pull is not None
        if self.at >= len(open_pull.pull.steps) or not isinstance(open_pull.pull.steps[self.at], FilterStep):
            return
        course, table = open_pull.course, open_pull.table
        names: list[str] = []
        if course is not None and self.at < len(course.results):
            result, before = course.results[self.at], course.before(self.at)
            names = [field.name for field in before.table.fields]
            spent = tr("{spent_s:.0f} ms", spent_s=result.spent_s * 1000)
            words = tr(
                "{before} → {after} rows, on this machine, {spent}",
                before=grouped(before.rows),
                after=grouped(result.shaped.rows),
                spent=spent,
            )
            self.head.words.setText(words if self.step.on else tr("switched off"))
            self.problem.setText(str(result.error or ""))
        elif table is not None:
            names = [field.name for field in table.fields]
        self.problem.setVisible(bool(self.problem.text()))
        if self._count is not None and len(self.step.conditions) > self._count:
            self._focused = len(self.step.conditions) - 1  # a condition just added is the one to look at
        self._count = len(self.step.conditions)
        shape = (
            id(open_pull),
            self.at,
            tuple(names),
            tuple((c.operator == "sql", c.operator) for c in self.step.conditions),
        )
        if shape != self._shape:
            self._shape = shape
            self._build(names)
        for condition_row, condition in zip(self._rows, self.step.conditions, strict=True):
            condition_row.fill(condition)
        self.sql.setText(self.step.as_sql())
        self._focused = max(0, min(self._focused, len(self.step.conditions) - 1))
        self._load_values()

    def _build(self, names: list[str]) -> None:
        clear(self._lines)
        self._rows = []
        for place, condition in enumerate(self.step.conditions):
            condition_row = ConditionRow(names, condition)
            condition_row.changed.connect(lambda c, place=place: self._put(place, c))
            condition_row.removed.connect(lambda place=place: self._remove(place))
            condition_row.focused.connect(lambda place=place: self._focus(place))
            self._rows.append(condition_row)
            self._lines.addWidget(condition_row)
        if not self._rows:
            self._lines.addWidget(
                label(tr("No condition yet: every row passes. Add one, or pick values on the right."), "faint")
            )

    def _focus(self, place: int) -> None:
        if place != self._focused:
            self._focused = place
            self._load_values()

    def _load_values(self) -> None:
        """Values of the chosen condition's column, counted in the background."""
        open_pull = self.open_pull
        conditions = self.step.conditions
        course = open_pull.course if open_pull is not None else None
        if open_pull is None or course is None or self.at > len(course.results) or not conditions:
            self.values_title.setText("")
            self.values.clear()
            self.search.setVisible(False)
            self.by_value.setVisible(False)
            return
        condition = conditions[self._focused]
        before = course.before(self.at)
        names = [field.name for field in before.table.fields]
        self.search.setVisible(condition.column in names)
        self.by_value.setVisible(condition.column in names)
        if condition.column not in names:
            text = tr("Rows where any column holds the text.") if condition.operator == "anywhere" else _HOW
            self.values_title.setText(text)
            self.values.clear()
            self._counts_of = None
            return
        index, view = names.index(condition.column), before.flat()
        noun = tr("documents") if open_pull.is_documents else tr("rows")
        self.values_title.setText(
            tr(
                "Values of {column} in the {view_count} {noun}",
                column=condition.column,
                view_count=grouped(len(view)),
                noun=noun,
            )
        )
        wanted = (id(view.table), id(view.ids), index)
        if wanted == self._counts_of:
            self._tick()
            return
        self._counts_of = wanted

        def show(counts: list[tuple[Value, int]]) -> None:
            self._counts = counts
            self._sift()

        if len(view) <= 200_000:
            show(value_counts(view, index, MOST_COUNTED))
        else:
            self.values.clear()
            open_pull.jobs.submit(LOCAL, "values", lambda stop, _: value_counts(view, index, MOST_COUNTED, stop), show)

    def _sift(self) -> None:
        """List the values that the search finds, most frequent first."""
        needle = self.search.text().casefold()
        self.values.blockSignals(True)
        self.values.clear()
        results = [(v, n) for v, n in self._counts if needle in _name(v).casefold()]
        most = max((n for _, n in results), default=1)
        if self.by_value.isChecked():
            results.sort(key=lambda pair: (pair[0] is None, object_key(pair[0])))
        for value, count in results[:MOST_VALUES]:
            item = QListWidgetItem()
            item.setData(_VALUE, (value,))
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Unchecked)
            item.setText(_name(value))
            item.setData(_COUNT, (count, count / most))
            item.setToolTip(as_plain(f"{_name(value)}: {grouped(count)}"))
            self.values.addItem(item)
        if len(results) > MOST_VALUES:
            self.values.addItem(
                tr("{results_count} more: search to see them", results_count=grouped(len(results) - MOST_VALUES))
            )
        self.values.blockSignals(False)
        self._tick()

    def _tick(self) -> None:
        """Tick what passes the chosen condition."""
        if not self.step.conditions:
            return
        condition = self.step.conditions[self._focused]
        chosen = {_name(v) for v in condition.values} | ({_name(None)} if condition.with_empty else set())
        self.values.blockSignals(True)
        for index in range(self.values.count()):
            item = self.values.item(index)
            data = item.data(_VALUE)
            if data is None:
                continue
            inside = _name(data[0]) in chosen
            passes = (
                inside
                if condition.operator == "is one of"
                else (not inside if condition.operator == "is none of" else False)
            )
            item.setCheckState(Qt.CheckState.Checked if passes else Qt.CheckState.Unchecked)
        self.values.blockSignals(False)

    # --- changing ----------------------------------------------------------------------------------------------

    def _picked(self) -> None:
        """A tick makes the condition one of picked values; values out of sight keep their ticks."""
        condition = self.step.conditions[self._focused]
        listed, ticked = [], []
        for index in range(self.values.count()):
            item = self.values.item(index)
            data = item.data(_VALUE)
            if data is not None:
                listed.append(data[0])
                if item.checkState() == Qt.CheckState.Checked:
                    ticked.append(data[0])
        negative = condition.operator == "is none of"
        chosen = [v for v in listed if v not in ticked] if negative else ticked
        seen = {_name(v) for v in listed}
        kept = [v for v in condition.values if condition.operator in PICKS and _name(v) not in seen]
        values = tuple(v for v in [*kept, *chosen] if v is not None)
        empty = None in chosen or (condition.with_empty and _name(None) not in seen)
        operator = condition.operator if condition.operator in PICKS else "is one of"
        self._put(self._focused, replace(condition, operator=operator, values=values, with_empty=empty))

    def _take(self) -> None:
        """Enter: what was typed as a comparison, or the first value found: alone at first, then one more."""
        if not self.step.conditions:
            return
        condition, text = self.step.conditions[self._focused], self.search.text().strip()
        items = [item for n in range(self.values.count()) if (item := self.values.item(n)).data(_VALUE) is not None]
        compared = _COMPARED.fullmatch(text)
        if compared and all(item.text() != text for item in items):
            self._put(self._focused, replace(condition, operator=_BY_SIGN[compared[1]], values=(compared[2],),
                                             with_empty=False))  # fmt: skip
            self.search.clear()
        elif items and text:
            value = items[0].data(_VALUE)[0]
            if condition.operator == "is none of" and not condition.values and not condition.with_empty:
                values = () if value is None else (value,)
                self._put(self._focused, replace(condition, operator="is one of", values=values,
                                                 with_empty=value is None))  # fmt: skip
            else:
                _flip(items[0])
            self.search.selectAll()

    def _put(self, place: int, condition: Condition) -> None:
        assert self.open_pull is not None
        conditions = [*self.step.conditions]
        if conditions[place] != condition:
            conditions[place] = condition
            self.open_pull.shaping.set_step(
                self.at, replace(self.step, conditions=tuple(conditions)), tr("Change filter")
            )

    def _remove(self, place: int) -> None:
        assert self.open_pull is not None
        conditions = (*self.step.conditions[:place], *self.step.conditions[place + 1 :])
        self.open_pull.shaping.set_step(self.at, replace(self.step, conditions=conditions), tr("Remove condition"))

    def add_condition(self) -> None:
        """A condition on the first column that has none yet."""
        open_pull = self.open_pull
        if open_pull is None or open_pull.course is None:
            return
        names = [field.name for field in open_pull.course.before(self.at).table.fields]
        used = {condition.column for condition in self.step.conditions}
        name = next((n for n in names if n not in used), names[0] if names else "")
        self._focused = len(self.step.conditions)
        made = Condition("is not empty", name)
        open_pull.shaping.set_step(
            self.at, replace(self.step, conditions=(*self.step.conditions, made)), tr("Add condition")
        )

    def begin_at(self, part: str) -> None:
        """Where the value of the last condition is chosen or typed."""
        steps = self.open_pull.pull.steps if self.open_pull is not None else ()
        if self.at >= len(steps) or not self._rows or not self.step.conditions:
            return  # it was undone meanwhile
        condition = self.step.conditions[-1]
        if condition.operator in PICKS:
            self.search.setFocus()
        elif self._rows[-1].value.isVisible():
            self._rows[-1].value.setFocus()
        else:
            self._rows[-1].operator.setFocus()

    def focus_first(self) -> None:
        """Put the keyboard into the first condition."""
        if self._rows:
            self._rows[0].setFocus()


def _flip(item: QListWidgetItem) -> None:
    """A click anywhere on a value ticks it or not."""
    if item.data(_VALUE) is not None:
        ticked = item.checkState() == Qt.CheckState.Checked
        item.setCheckState(Qt.CheckState.Unchecked if ticked else Qt.CheckState.Checked)


class _ValuePaint(QStyledItemDelegate):
    """A tick, the value, a bar for its share of the most frequent one, its count."""

    def sizeHint(self, option: object, index: object) -> QSize:
        return QSize(100, 22)

    def editorEvent(self, event: Any, model: Any, option: Any, index: Any) -> bool:
        return isinstance(event, QKeyEvent) and super().editorEvent(event, model, option, index)

    def paint(self, painter: QPainter, option: Any, index: Any) -> None:
        rect, ticked = option.rect, index.data(Qt.ItemDataRole.CheckStateRole)
        if option.state & QStyle.StateFlag.State_HasFocus:
            painter.fillRect(rect, theme["water4"])
        middle = Qt.AlignmentFlag.AlignVCenter
        if index.data(_VALUE) is None:
            painter.setPen(theme["muted"])
            painter.drawText(rect.adjusted(22, 0, 0, 0), middle, str(index.data()))
            return
        box = QRect(rect.left() + 1, rect.center().y() - 6, 13, 13)
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        on = ticked in (2, Qt.CheckState.Checked)
        painter.setPen(QPen(theme["water1" if on else "faint"], 1.3))
        painter.setBrush(theme["water1" if on else "surface"])
        painter.drawRoundedRect(box, 3, 3)
        if on:
            painter.setPen(QPen(theme["on_water"], 1.7))
            painter.drawPolyline([QPoint(box.left() + dx, box.top() + dy) for dx, dy in ((3, 7), (5, 9), (10, 4))])
        painter.restore()
        count, share = index.data(_COUNT)
        name = rect.adjusted(22, 0, 0, 0)
        name.setWidth(round((rect.width() - 22) * 0.42))
        painter.setFont(ui_font())
        painter.setPen(theme["ink"])
        painter.drawText(
            name, middle, painter.fontMetrics().elidedText(index.data(), Qt.TextElideMode.ElideRight, name.width())
        )
        painter.setFont(ui_font(11))
        painter.setPen(theme["faint"])
        painter.drawText(rect.adjusted(0, 0, -4, 0), middle | Qt.AlignmentFlag.AlignRight, grouped(count))
        room = rect.right() - name.right() - 70
        painter.fillRect(
            QRect(name.right() + 10, rect.center().y() - 4, max(2, round(room * share)), 8), theme["water3"]
        )


def _name(value: object) -> str:
    if value is None:
        return tr("∅ empty")
    return shown(value) if isinstance(value, (float, int)) and not isinstance(value, bool) else (plain(value) or "“ ”")
