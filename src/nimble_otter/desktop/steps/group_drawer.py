"""Group: what rows are grouped by, and the figures of each group."""

from __future__ import annotations

import math
from dataclasses import replace
from functools import partial

import numpy as np
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QLineEdit, QVBoxLayout

from nimble_otter.desktop.kit.widgets import Line, as_plain, boxed, button, clear, combo, label, row
from nimble_otter.desktop.steps.step_drawers import StepDrawer, moved, movers
from nimble_otter.pull.steps import Computed, ComputeStep, Condition, FigureOf, FilterStep, GroupStep, KeyBy
from nimble_otter.table import Kind
from nimble_otter.table.ops.binning import parts_for
from nimble_otter.table.ops.measures import AggregateFunction
from nimble_otter.translation import tr

FIGURES = [(figure.value, figure.value) for figure in AggregateFunction]
VALUES = tr("each value")


class GroupDrawer(StepDrawer):
    """The drawer of a Group step: its keys, aggregates and conditions."""

    title = tr("Group")

    def __init__(self) -> None:
        super().__init__()
        self.head.right.addWidget(
            button(tr("Keep groups…"), self.add_condition, tip=tr("A condition on the groups' aggregates"))
        )
        compute = button(tr("Compute…"), self.add_compute, tip=tr("A computed column for each group"))
        self.head.right.addWidget(compute)
        self.head.right.addWidget(button(tr("Add column"), self.add_key))
        self.head.right.addWidget(button(tr("Add aggregate"), self.add_figure))
        self._keys, self._figures = QVBoxLayout(), QVBoxLayout()
        left = self.scrolled(self._keys, self.problem)
        right = boxed(row(self.scrolled(self._figures)), "raised")
        self.set_body(left, Line(True, "grid_line"), right, stretch=(1, 0, 1))

    def refresh(self) -> None:
        """Show the step as it is now."""
        step = self.current
        if not isinstance(step, GroupStep):
            return
        self.tell()
        if not self.is_new():
            return
        clear(self._keys)
        self._keys.addWidget(label(tr("Group by, from the outside in"), "muted", 12))
        for index, key in enumerate(step.keys):
            name = combo(self.names(key.column), key.column, tr("Group by {index}", index=index + 1))
            name.setFixedWidth(134)
            name.activated.connect(lambda _, p=index, w=name: self._set_key(p, KeyBy(w.currentData())))
            moving = movers(partial(self._move_key, index), partial(self._remove_key, index))
            self._keys.addLayout(row(name, self._part_field(index, key), *moving, None, space=3))
        if not step.keys:
            self._keys.addWidget(
                label(tr("No column yet. Add one, or drag a header on to the course."), "faint", wrap=True)
            )
        clear(self._figures)
        self._figures.addWidget(label(tr("Aggregates of each group"), "muted", 12))
        for index, figure in enumerate(step.figures):
            self._figures.addLayout(self._figure_row(index, figure))

    def _part_field(self, place: int, key: KeyBy) -> QComboBox:
        """The values themselves, or a part of them; steps and first letters can be typed."""
        field = next((f for f in self.fields() if f.name == key.column), None)
        parts = list(parts_for(field.kind)) if field is not None else []
        if parts == ["steps of 10"]:
            parts = self._steps(key.column)
        elif parts == ["first 1"]:
            parts = ["first 1", "first 2", "first 3"]
        choices = [VALUES, *parts] if not key.part or key.part in parts else [VALUES, key.part, *parts]
        combo_box = combo(
            [(("" if c == VALUES else c), c) for c in choices], key.part, tr("Part of {column}", column=key.column)
        )
        combo_box.setFixedWidth(112)
        if field is not None and (field.kind.is_number or "first 1" in parts):
            combo_box.setEditable(True)
            combo_box.setToolTip(as_plain(tr("Bin width") if field.kind.is_number else tr("Number of letters")))
            editor = combo_box.lineEdit()
            assert editor is not None
            editor.setText(key.part or VALUES)
            editor.editingFinished.connect(lambda p=place, k=key, w=editor: self._typed_part(p, k, w.text()))
        combo_box.activated.connect(
            lambda _, p=place, k=key, w=combo_box: self._set_key(p, replace(k, part=w.currentData()))
        )
        combo_box.setEnabled(len(choices) > 1)
        return combo_box

    def _steps(self, name: str) -> list[str]:
        """Round widths that cut the column's range into some tens of steps."""
        open_pull = self.open_pull
        table = open_pull.table if open_pull is not None else None
        if table is None or all(f.name != name for f in table.fields):
            return ["steps of 1", "steps of 10", "steps of 100"]
        column = table.column(name)
        some = np.arange(min(table.rows, 1000))
        values = [v for v in map(float, filter(None, column.values(some))) if math.isfinite(v)]
        span = max(values) - min(values) if values else 100
        first = math.floor(math.log10(span / 20)) if span > 0 else 0
        widths = [f"{w}e{first + n}" for n in (0, 1) for w in (1, 2, 5)]
        least = 1.0 if column.kind is Kind.INT else 1e-9
        return [f"steps of {float(w):.9g}" for w in widths if float(w) >= least]

    def _figure_row(self, place: int, figure: FigureOf) -> QHBoxLayout:
        kind = combo(FIGURES, figure.figure.value, tr("Aggregate"))
        names: list[str] | list[tuple[str, str]] = self._names_for(figure)
        if figure.figure.of_rows:
            names = [("", tr("rows")), *((n, n) for n in self._names_for(figure))]
        name = combo(names, figure.column, tr("of column"))
        kind.setFixedWidth(124)
        name.setFixedWidth(114)
        kind.activated.connect(lambda _, p=place, w=kind: self._set_figure(p, AggregateFunction(w.currentData())))
        name.activated.connect(lambda _, p=place, w=name: self._put_figure(p, column=w.currentData()))
        moving = movers(partial(self._move_figure, place), partial(self._remove_figure, place))
        if figure.figure is AggregateFunction.COUNT:
            return row(kind, label(tr("of rows"), "faint"), *moving, None, space=3)
        if figure.figure is AggregateFunction.QUANTILE:
            at = QLineEdit(f"{figure.at:g}")
            at.setAccessibleName(tr("Quantile, from 0 to 1"))
            at.setFixedWidth(44)
            at.editingFinished.connect(lambda p=place, w=at: self._typed_quantile(p, w))
            return row(kind, at, label(tr("of"), "faint"), name, *moving, None, space=3)
        return row(kind, label(tr("of"), "faint"), name, *moving, None, space=3)

    def _names_for(self, figure: FigureOf) -> list[str]:
        """Columns that can have the figure."""
        fields = [f.name for f in self.fields() if f.is_amount or not figure.figure.needs_numbers]
        return fields if not figure.column or figure.column in fields else [figure.column, *fields]

    def _step(self) -> GroupStep:
        step = self.current
        assert isinstance(step, GroupStep)
        return step

    def _put(self, name: str, **changes: object) -> None:
        self.put(replace(self._step(), **changes), name)  # type: ignore[arg-type]

    # --- keys --------------------------------------------------------------------------------------------------

    def _set_key(self, place: int, key: KeyBy) -> None:
        keys = list(self._step().keys)
        if keys[place] != key:
            keys[place] = key
            self._put(tr("Change group"), keys=tuple(dict.fromkeys(keys)))
            self.rebuild()

    def _typed_part(self, place: int, key: KeyBy, text: str) -> None:
        """A number alone is a width of steps, or a count of letters."""
        text = " ".join(text.split())
        field = next((f for f in self.fields() if f.name == key.column), None)
        if text.replace(".", "", 1).isdigit() and field is not None:
            text = f"steps of {text}" if field.kind.is_number else f"first {text}"
        if place < len(self._step().keys):
            self._set_key(place, replace(key, part="" if text == VALUES else text))

    def _move_key(self, place: int, way: int) -> None:
        self._put(tr("Change group"), keys=moved(self._step().keys, place, way))

    def _remove_key(self, place: int) -> None:
        keys = self._step().keys
        self._put(tr("Remove column"), keys=(*keys[:place], *keys[place + 1 :]))

    def add_key(self) -> None:
        """Group by one more column."""
        keys = self._step().keys
        used = {key.column for key in keys}
        name = next((n for n in self.names() if n not in used), "")
        if name:
            self._put(tr("Add column"), keys=(*keys, KeyBy(name)))

    def add_condition(self) -> None:
        """A filter behind the groups: it keeps groups by their figures."""
        step = self._step()
        title = step.figures[0].title if step.figures else step.keys[0].title if step.keys else ""
        if self.open_pull is not None and title:
            self.open_pull.shaping.add_step(
                FilterStep((Condition("at least", title, (1,)),)), tr("Keep groups"), self.at + 1
            )
            self.step_wanted.emit(self.at + 1)

    def add_compute(self) -> None:
        """A Compute step behind the groups: its columns are made of their figures."""
        if self.open_pull is not None:
            self.open_pull.shaping.add_step(ComputeStep((Computed("", ""),)), tr("Compute"), self.at + 1)
            self.step_wanted.emit(self.at + 1)

    # --- figures -----------------------------------------------------------------------------------------------

    def _put_figure(self, place: int, **changes: object) -> None:
        figures = list(self._step().figures)
        figures[place] = replace(figures[place], **changes)  # type: ignore[arg-type]
        self._put(tr("Change aggregate"), figures=tuple(dict.fromkeys(figures)))

    def _typed_quantile(self, place: int, field: QLineEdit) -> None:
        try:
            at = float(field.text().replace(",", "."))
        except ValueError:
            at = math.nan
        if place >= len(self._step().figures) or at == self._step().figures[place].at:
            return
        if not 0 <= at <= 1:
            self.problem.setText(tr("A quantile lies between 0 and 1: 0.9 is the value that 9 of 10 rows stay below."))
            self.problem.show()
            return
        self._put_figure(place, at=at)

    def _set_figure(self, place: int, figure: AggregateFunction) -> None:
        before = self._step().figures[place]
        changed = replace(
            before, figure=figure, column="" if figure is AggregateFunction.COUNT else before.column, at=0.5
        )
        fitting = self._names_for(replace(changed, column=""))
        if not figure.of_rows and changed.column not in fitting:
            changed = replace(changed, column=next(iter(fitting), ""))
        elif figure.of_rows and changed.column not in fitting:
            changed = replace(changed, column="")
        if figure is AggregateFunction.QUANTILE:
            changed = replace(changed, at=0.9)
        if figure.of_rows or changed.column:
            self._put_figure(place, figure=changed.figure, column=changed.column, at=changed.at)
        self.rebuild()

    def _move_figure(self, place: int, way: int) -> None:
        self._put(tr("Move aggregate"), figures=moved(self._step().figures, place, way))

    def _remove_figure(self, place: int) -> None:
        figures = self._step().figures
        self._put(tr("Remove aggregate"), figures=(*figures[:place], *figures[place + 1 :]))

    def add_figure(self) -> None:
        """The next figure that is not there yet: the mean of a number, else the count of what is filled."""
        figures = self._step().figures
        keys = {key.column for key in self._step().keys}
        numbers = [f.name for f in self.fields() if f.is_number and f.name not in keys and not f.name.endswith("_id")]
        wanted = [FigureOf(AggregateFunction.COUNT)] + [
            FigureOf(f, n)
            for n in numbers
            for f in (AggregateFunction.MEAN, AggregateFunction.MAX, AggregateFunction.MIN)
        ]
        wanted += [FigureOf(AggregateFunction.DISTINCT, n) for n in self.names() if n not in keys]
        more = next((figure for figure in wanted if figure not in figures), None)
        if more is not None:
            self._put(tr("Add aggregate"), figures=(*figures, more))
