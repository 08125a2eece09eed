"""Top: how many rows, by which order, for each of what."""

from __future__ import annotations

from dataclasses import replace
from functools import partial

from PySide6.QtWidgets import QVBoxLayout

from nimble_otter.desktop.kit.widgets import Line, boxed, button, clear, column, combo, count_field, label, row
from nimble_otter.desktop.steps.step_drawers import StepDrawer
from nimble_otter.pull.steps import SortBy, TopStep
from nimble_otter.translation import tr


class TopDrawer(StepDrawer):
    """The drawer of a Top step: how many rows, by which order, for each of what."""

    title = tr("Top")

    def __init__(self) -> None:
        super().__init__()
        self.head.right.addWidget(button(tr("Add key"), self.add_key))
        self.head.right.addWidget(button(tr("Add for each"), self.add_per))
        self.count = count_field(tr("Rows to keep"), self._counted)
        self._keys, self._per = QVBoxLayout(), QVBoxLayout()
        head = row(label(tr("Keep the first"), "muted"), self.count, label(tr("rows, ordered by"), "muted"), None,
                   margins=(12, 10, 12, 0))  # fmt: skip
        left = boxed(column(head, self.scrolled(self._keys, self.problem), space=0))
        right = boxed(row(self.scrolled(self._per)), "raised")
        self.set_body(left, Line(True, "grid_line"), right, stretch=(3, 0, 2))

    @property
    def step(self) -> TopStep | None:
        """The step, if it is there still."""
        found = self.current
        return found if isinstance(found, TopStep) else None

    def refresh(self) -> None:
        """Show the step as it is now."""
        step = self.step
        if step is None:
            return
        self.tell()
        if not self.is_new():
            return
        clear(self._keys)
        self.count.blockSignals(True)
        self.count.setValue(step.count)
        self.count.blockSignals(False)
        for index, key in enumerate(step.keys):
            name = combo(self.names(key.column), key.column, tr("Key {index}", index=index + 1))
            way = combo(
                [("up", tr("ascending ↑")), ("down", tr("descending ↓"))],
                "down" if key.descending else "up",
                tr("Direction"),
            )
            name.setFixedWidth(180)
            name.activated.connect(lambda _, p=index, w=name: self._set_key(p, column=w.currentData()))
            way.activated.connect(lambda _, p=index, w=way: self._set_key(p, descending=w.currentData() == "down"))
            remove = button("×", partial(self._drop_key, index), "plain", tr("Remove key {index}", index=index + 1))
            self._keys.addLayout(row(name, way, remove, None, space=6))
        if not step.keys:
            self._keys.addWidget(label(tr("No key: the rows in the order they arrive."), "faint"))
        clear(self._per)
        self._per.addWidget(label(tr("For each"), "muted", 12))
        for index, each in enumerate(step.per):
            name = combo(self.names(each), each, tr("For each {index}", index=index + 1))
            name.setFixedWidth(180)
            name.activated.connect(lambda _, p=index, w=name: self._set_per(p, w.currentData()))
            remove = button("×", partial(self._set_per, index, ""), "plain", tr("Remove {each}", each=each))
            self._per.addLayout(row(name, remove, None, space=6))
        if not step.per:
            self._per.addWidget(label(tr("Of all rows together."), "faint"))

    def _counted(self, count: int) -> None:
        if self.step is not None:
            self.put(replace(self.step, count=count), tr("Change top"))

    def _set_key(self, place: int, **changes: object) -> None:
        step = self.step
        if step is not None:
            keys = list(step.keys)
            keys[place] = replace(keys[place], **changes)  # type: ignore[arg-type]
            self.put(replace(step, keys=tuple(keys)), tr("Change top"))

    def _drop_key(self, place: int) -> None:
        step = self.step
        if step is not None:
            self.put(replace(step, keys=(*step.keys[:place], *step.keys[place + 1 :])), tr("Remove key"))

    def _set_per(self, place: int, column: str) -> None:
        step = self.step
        if step is not None:
            per = [*step.per[:place], *([column] if column else []), *step.per[place + 1 :]]
            self.put(replace(step, per=tuple(dict.fromkeys(per))), tr("Change top"))

    def add_key(self) -> None:
        """Order by one more column."""
        step = self.step
        used = {key.column for key in step.keys} if step is not None else set()
        name = next((n for n in self.names() if n not in used), "")
        if step is not None and name:
            self.put(replace(step, keys=(*step.keys, SortBy(name, True))), tr("Add key"))

    def add_per(self) -> None:
        """Take the first rows for each value of one more column."""
        step = self.step
        name = next((n for n in self.names() if step is not None and n not in step.per), "")
        if step is not None and name:
            self.put(replace(step, per=(*step.per, name)), tr("Add for each"))

    def focus_first(self) -> None:
        """Put the keyboard into the number of rows."""
        self.count.setFocus()
        self.count.selectAll()
