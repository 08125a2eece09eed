"""Distinct, Sample, Pivot, Unpivot and Transpose."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import replace
from functools import partial

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QCheckBox, QLineEdit, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from nimble_otter.desktop.kit.widgets import boxed, button, clear, column, combo, count_field, label, narrow, row
from nimble_otter.desktop.steps.group_drawer import FIGURES, VALUES
from nimble_otter.desktop.steps.step_drawers import StepDrawer
from nimble_otter.pull.steps import DistinctStep, FigureOf, KeyBy, PivotStep, SampleStep, TransposeStep, UnpivotStep
from nimble_otter.table.ops.binning import parts_for
from nimble_otter.table.ops.measures import AggregateFunction
from nimble_otter.translation import tr


class Ticks(QWidget):
    """Names to tick, with a field that shows only some of them; `ticked` is told at each change."""

    def __init__(self, what: str, ticked: Callable[[tuple[str, ...]], object]) -> None:
        super().__init__()
        self._told = ticked
        self.narrow = QLineEdit()
        self.narrow.setPlaceholderText(tr("Find a column"))
        self.narrow.setAccessibleName(tr("Find a column"))
        self.narrow.setMaximumWidth(260)
        self.narrow.textChanged.connect(self._narrow)
        self.list = QListWidget()
        self.list.setAccessibleName(what)
        self.list.itemChanged.connect(lambda _: self._told(self.chosen()))
        self.setLayout(column(self.narrow, self.list, space=6))

    def fill(self, names: Iterable[str], ticked: Iterable[str]) -> None:
        """Show these names, with those ticked that are in `ticked`."""
        chosen = set(ticked)
        self.list.blockSignals(True)
        top = self.list.verticalScrollBar().value()
        self.list.clear()
        for name in names:
            item = QListWidgetItem(name)
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Checked if name in chosen else Qt.CheckState.Unchecked)
            self.list.addItem(item)
        self.list.blockSignals(False)
        self._narrow()
        self.list.verticalScrollBar().setValue(top)

    def chosen(self) -> tuple[str, ...]:
        """The names that are ticked."""
        items = [self.list.item(n) for n in range(self.list.count())]
        return tuple(item.text() for item in items if item.checkState() == Qt.CheckState.Checked)

    def _narrow(self) -> None:
        narrow(self.list, self.narrow.text())


class DistinctDrawer(StepDrawer):
    """The drawer of a Distinct step: the columns that are compared."""

    title = tr("Distinct")

    def __init__(self) -> None:
        super().__init__()
        self.ticks = Ticks(tr("Columns that are compared"), self._ticked)
        note = label(
            tr("Of rows that are equal in the checked columns (none checked: in all columns) the first is kept."),
            "muted",
            12,
        )
        self.set_body(boxed(column(note, self.ticks, self.problem, margins=(12, 10, 12, 8))))

    def refresh(self) -> None:
        """Show the step as it is now."""
        step = self.current
        if isinstance(step, DistinctStep):
            self.tell()
            self.ticks.fill(self.names(), step.columns)

    def _ticked(self, names: tuple[str, ...]) -> None:
        step = self.current
        if isinstance(step, DistinctStep):
            self.put(replace(step, columns=names), tr("Change distinct"))


class SampleDrawer(StepDrawer):
    """The drawer of a Sample step: how many rows, and which ones."""

    title = tr("Sample")

    def __init__(self) -> None:
        super().__init__()
        self.head.right.addWidget(button(tr("Other rows"), self.draw_again))
        self.count = count_field(tr("Rows to keep"), self._counted)
        words = label(tr("rows, chosen at random, in their order. The same rows are chosen each time."), "muted")
        line = row(label(tr("Keep"), "muted"), self.count, words, None)
        self.set_body(boxed(column(line, self.problem, None, margins=(12, 10, 12, 8))))

    def refresh(self) -> None:
        """Show the step as it is now."""
        step = self.current
        if isinstance(step, SampleStep):
            self.tell()
            self.count.blockSignals(True)
            self.count.setValue(step.count)
            self.count.blockSignals(False)

    def _counted(self, count: int) -> None:
        step = self.current
        if isinstance(step, SampleStep):
            self.put(replace(step, count=count), tr("Change sample"))

    def draw_again(self) -> None:
        """Draw other rows."""
        step = self.current
        if isinstance(step, SampleStep):
            self.put(replace(step, seed=step.seed + 1), tr("Other rows"))

    def focus_first(self) -> None:
        """Put the keyboard into the number of rows."""
        self.count.setFocus()
        self.count.selectAll()


class PivotDrawer(StepDrawer):
    """The drawer of a Pivot step: row keys, the column across, and the aggregates."""

    title = tr("Pivot")

    def __init__(self) -> None:
        super().__init__()
        self.head.right.addWidget(button(tr("Add row key"), self.add_key))
        self._lines = QVBoxLayout()
        self.totals = QCheckBox(tr("Add a total column"))
        self.totals.toggled.connect(lambda on: self._put(totals=on))
        self.set_body(self.scrolled(self._lines, self.totals, self.problem))

    @property
    def step(self) -> PivotStep | None:
        """The step, if it is there still."""
        found = self.current
        return found if isinstance(found, PivotStep) else None

    def refresh(self) -> None:
        """Show the step as it is now."""
        step = self.step
        if step is None:
            return
        self.tell()
        clear(self._lines)
        across = combo(
            [("", tr("choose a column")), *((n, n) for n in self.names(step.column.column))],
            step.column.column,
            tr("Column whose values become columns"),
        )
        across.activated.connect(lambda _, w=across: self._put(column=KeyBy(w.currentData())))
        self._line(tr("Columns"), across, self._part(step.column, lambda key: self._put(column=key)))
        figure = combo(FIGURES, step.figure.figure.value, tr("Aggregate"))
        figure.activated.connect(lambda _, w=figure: self._set_figure(AggregateFunction(w.currentData())))
        fields = [f.name for f in self.fields() if f.is_amount or not step.figure.figure.needs_numbers]
        names = (
            [("", tr("rows")), *((n, n) for n in fields)] if step.figure.figure is AggregateFunction.COUNT else fields
        )
        of = combo(names, step.figure.column, tr("of column"))
        of.setEnabled(step.figure.figure is not AggregateFunction.COUNT)
        of.activated.connect(lambda _, w=of: self._put(figure=replace(step.figure, column=w.currentData())))
        self._line(tr("Cells"), figure, of)
        for index, key in enumerate(step.keys):
            name = combo(self.names(key.column), key.column, tr("Row key {index}", index=index + 1))
            name.activated.connect(lambda _, p=index, w=name: self._set_key(p, KeyBy(w.currentData())))
            remove = button("×", partial(self._drop_key, index), "plain", tr("Remove row key {index}", index=index + 1))
            part = self._part(key, partial(self._set_key, index))
            self._line(tr("Rows") if not index else "", name, part, remove)
        if not step.keys:
            self._lines.addWidget(label(tr("No row key: one row."), "faint"))
        self.totals.blockSignals(True)
        self.totals.setChecked(step.totals)
        self.totals.blockSignals(False)

    def _line(self, title: str, first: QWidget, second: QWidget, *more: QWidget) -> None:
        word = label(title, "muted")
        word.setFixedWidth(64)
        first.setFixedWidth(180)
        second.setFixedWidth(150)
        self._lines.addLayout(row(word, first, second, *more, None, space=6))

    def _part(self, key: KeyBy, take: Callable[[KeyBy], object]) -> QWidget:
        field = next((f for f in self.fields() if f.name == key.column), None)
        parts = list(parts_for(field.kind) if field is not None else ())
        if key.part and key.part not in parts:
            parts.append(key.part)
        combo_box = combo([("", VALUES), *((p, p) for p in parts)], key.part, tr("Part of {column}", column=key.column))
        combo_box.setEnabled(bool(parts))
        combo_box.activated.connect(lambda _, w=combo_box: take(replace(key, part=w.currentData())))
        return combo_box

    def _put(self, **changes: object) -> None:
        if self.step is not None:
            self.put(replace(self.step, **changes), tr("Change pivot"))  # type: ignore[arg-type]

    def _set_figure(self, figure: AggregateFunction) -> None:
        step = self.step
        if step is None:
            return
        fields = [f.name for f in self.fields() if f.is_amount or not figure.needs_numbers]
        name = step.figure.column if step.figure.column in fields else next(iter(fields), "")
        at = 0.9 if figure is AggregateFunction.QUANTILE else 0.5
        self._put(figure=FigureOf(figure, "" if figure is AggregateFunction.COUNT else name, at))

    def _set_key(self, place: int, key: KeyBy) -> None:
        if self.step is not None:
            keys = list(self.step.keys)
            keys[place] = key
            self._put(keys=tuple(dict.fromkeys(keys)))

    def _drop_key(self, place: int) -> None:
        if self.step is not None:
            self._put(keys=(*self.step.keys[:place], *self.step.keys[place + 1 :]))

    def add_key(self) -> None:
        """Add a row key."""
        step = self.step
        if step is not None:
            used = {key.column for key in (*step.keys, step.column)}
            name = next((n for n in self.names() if n not in used), "")
            if name:
                self._put(keys=(*step.keys, KeyBy(name)))


class UnpivotDrawer(StepDrawer):
    """The drawer of an Unpivot step: the columns that become rows."""

    title = tr("Unpivot")

    def __init__(self) -> None:
        super().__init__()
        self.ticks = Ticks(tr("Columns that become rows"), lambda names: self._put(columns=names))
        self.label_name, self.value_name = QLineEdit(), QLineEdit()
        for field, key, text in ((self.label_name, "label", tr("Column of the names")),
                                 (self.value_name, "value", tr("Column of the values"))):  # fmt: skip
            field.setAccessibleName(text)
            field.setFixedWidth(140)
            field.editingFinished.connect(lambda f=field, k=key: self._put(**{k: f.text().strip()}))
        words = row(label(tr("Each checked column becomes a row: its name in"), "muted"), self.label_name,
                    label(tr("its value in"), "muted"), self.value_name, None)  # fmt: skip
        self.set_body(boxed(column(words, self.ticks, self.problem, margins=(12, 10, 12, 8))))

    def refresh(self) -> None:
        """Show the step as it is now."""
        step = self.current
        if isinstance(step, UnpivotStep):
            self.tell()
            self.ticks.fill(self.names(), step.columns)
            self.label_name.setText(step.label)
            self.value_name.setText(step.value)

    def _put(self, **changes: object) -> None:
        step = self.current
        if isinstance(step, UnpivotStep):
            self.put(replace(step, **changes), tr("Change unpivot"))  # type: ignore[arg-type]


class TransposeDrawer(StepDrawer):
    """The drawer of a Transpose step: where the names of the new columns come from."""

    title = tr("Transpose")

    def __init__(self) -> None:
        super().__init__()
        self._lines = QVBoxLayout()
        self.set_body(boxed(column(self._lines, self.problem, None, margins=(12, 10, 12, 8))))

    def refresh(self) -> None:
        """Show the step as it is now."""
        step = self.current
        if not isinstance(step, TransposeStep):
            return
        self.tell()
        clear(self._lines)
        names = combo(
            [("", tr("their numbers")), *((n, n) for n in self.names(step.names))], step.names, tr("Named by")
        )
        names.setFixedWidth(180)
        names.activated.connect(
            lambda _, w=names: self.put(replace(step, names=w.currentData()), tr("Change transpose"))
        )
        self._lines.addLayout(row(label(tr("Each row becomes a column, named by"), "muted"), names, None))
