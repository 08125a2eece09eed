"""Compute: columns by name and expression, and what an expression can be made of."""

from __future__ import annotations

from dataclasses import replace
from functools import partial

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QLineEdit, QTreeWidget, QTreeWidgetItem, QVBoxLayout

from nimble_otter.desktop.kit.theme import code_font, theme
from nimble_otter.desktop.kit.widgets import Line, as_plain, boxed, button, clear, column, label, row
from nimble_otter.desktop.steps.expression_field import ExpressionField
from nimble_otter.desktop.steps.step_drawers import StepDrawer
from nimble_otter.errors import ConditionError
from nimble_otter.pull.steps import Computed, ComputeStep
from nimble_otter.query.local.conditions import parse_expression
from nimble_otter.table import Table
from nimble_otter.translation import tr

_FUNCTIONS = (
    ("round(n, digits)", tr("number")),
    ("abs(n)", tr("number")),
    ("sqrt(n)", tr("number")),
    ("coalesce(a, b)", tr("the first not empty")),
    ("nullif(a, b)", tr("NULL where equal")),
    ("greatest(a, b)", tr("the most")),
    ("least(a, b)", tr("the least")),
    ("case when a > 1 then b else c end", tr("by conditions")),
    ("lower(t)", tr("text")),
    ("upper(t)", tr("text")),
    ("trim(t)", tr("text")),
    ("length(t)", tr("characters")),
    ("substring(t, 1, 3)", tr("from, how many")),
    ("left(t, 3)", tr("text")),
    ("replace(t, 'a', 'b')", tr("text")),
    ("split_part(t, '-', 1)", tr("text")),
    ("a || b", tr("joined texts")),
    ("concat_ws('-', a, b)", tr("joined texts")),
    ("lpad(t, 5, '0')", tr("filled")),
    ("regexp_replace(t, '[0-9]+', '')", tr("text")),
    ("year(d)", tr("part of a time")),
    ("month(d)", tr("part of a time")),
    ("extract(dow from d)", tr("part of a time")),
    ("date_trunc('month', d)", tr("its beginning")),
    ("d - e", tr("days, interval")),
    ("datediff(d, e)", tr("days between")),
    ("d + interval '1 month'", tr("later")),
    ("to_char(d, 'YYYY-MM')", tr("text of a time")),
    ("cast(a as integer)", tr("kind")),
    ("sum(n) over (partition by a order by d)", tr("running")),
    ("rank() over (order by n desc)", tr("place")),
    ("lag(n) over (order by d)", tr("the row before")),
    ("avg(n) over (order by d rows 6 preceding)", tr("of seven rows")),
    ("sum(n) over (order by d range interval '7 days' preceding)", tr("of seven days")),
    ("ntile(4) over (order by n)", tr("quarter")),
)


def _written(name: str) -> str:
    """A column's name as an expression writes it."""
    return name if name.isidentifier() and name.islower() else '"' + name.replace('"', '""') + '"'


class ComputeDrawer(StepDrawer):
    """Every change is taken when a field is left or Enter is pressed; a wrong one says what is wrong, and stays."""

    title = tr("Compute")

    def __init__(self) -> None:
        super().__init__()
        self.head.right.addWidget(button(tr("Add column"), self.add))
        self._lines = QVBoxLayout()
        self.fields_of: list[tuple[QLineEdit, ExpressionField]] = []
        self._last: ExpressionField | None = None
        self.help = QTreeWidget()
        self.help.setColumnCount(2)
        self.help.setHeaderHidden(True)
        self.help.setRootIsDecorated(False)
        self.help.setAccessibleName(tr("Columns and functions; Enter inserts one into the expression"))
        self.help.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.help.itemActivated.connect(lambda item: self._put_in(item))
        self.help.itemDoubleClicked.connect(lambda item: self._put_in(item))
        note = label(tr("Double-click inserts it into the expression"), "muted", 11)
        side = boxed(column(note, self.help, space=4, margins=(12, 8, 8, 6)), "raised")
        side.setFixedWidth(300)
        self.set_body(self.scrolled(self._lines, self.problem), Line(True, "grid_line"), side, stretch=(1, 0, 0))

    def refresh(self) -> None:
        """Show the step as it is now."""
        step = self.current
        if not isinstance(step, ComputeStep):
            return
        self.tell()
        for computed in step.columns:
            self._say_place(computed.text)
        held = next(((n, w) for n, pair in enumerate(self.fields_of) for w, f in enumerate(pair) if f.hasFocus()), None)
        if [(a.text(), b.text()) for a, b in self.fields_of] != [(c.label, c.text) for c in step.columns]:
            self._fill(step)
            if held is not None and held[0] < len(self.fields_of):
                field = self.fields_of[held[0]][held[1]]
                field.show()  # one just made is not seen yet, and takes no keyboard
                field.setFocus()
                field.end(False)
        self._fill_help()

    def _fill(self, step: ComputeStep) -> None:
        self.fields_of, self._last = [], None  # before they go: one that loses the keyboard by it is not read
        clear(self._lines)
        for index, computed in enumerate(step.columns):
            name, text = QLineEdit(computed.label), ExpressionField(computed.text)
            name.setPlaceholderText(tr("name"))
            name.setAccessibleName(tr("Name of computed column {index}", index=index + 1))
            name.setFixedWidth(130)
            text.setPlaceholderText(tr("expression, such as round(level_m * 100, 1)"))
            text.setAccessibleName(tr("Expression of computed column {index}", index=index + 1))
            name.setCursorPosition(0)
            for field in (name, text):
                field.editingFinished.connect(partial(self._read, index))
            remove = button("×", partial(self._remove, index), "plain", tr("Remove"))
            sign = label("=", "muted")
            line = row(name, sign, text, remove, space=6)
            line.setStretch(2, 1)
            text.lead(line, name, sign, remove)
            self._lines.addLayout(line)
            self.fields_of.append((name, text))
        if not step.columns:
            self._lines.addWidget(label(tr("No column yet. Add one."), "faint"))

    def _fill_help(self) -> None:
        step = self.current
        own = [c.label for c in step.columns if c.label] if isinstance(step, ComputeStep) else []
        names = [*((f.name, f.kind.value) for f in self.fields()), *((label, tr("computed")) for label in own)]
        wanted = [*((_written(name), kind) for name, kind in names), *_FUNCTIONS]
        shown = (self.help.topLevelItem(n) for n in range(self.help.topLevelItemCount()))
        if [item.text(0) for item in shown if item is not None] == [w[0] for w in wanted]:
            return
        self.help.clear()
        for text, note in wanted:
            item = QTreeWidgetItem([text, note])
            item.setFont(0, code_font(11))
            item.setForeground(1, theme["muted"])
            item.setToolTip(0, as_plain(text))
            self.help.addTopLevelItem(item)
        self.help.setColumnWidth(0, 168)

    def _put_in(self, item: QTreeWidgetItem) -> None:
        field = next((text for _, text in self.fields_of if text is self._last), None)
        field = field or (self.fields_of[-1][1] if self.fields_of else None)
        if field is not None:
            if not field.hasFocus() and not field.cursorPosition():
                field.end(False)  # one that nobody is in takes it at its end
            field.insert(item.text(0))
            field.setFocus()

    def _read(self, place: int) -> None:
        step = self.current
        if not isinstance(step, ComputeStep) or place >= len(self.fields_of) or place >= len(step.columns):
            return
        name, text = self.fields_of[place]
        self._last = text
        computed = Computed(name.text().strip(), text.text().strip())
        if computed == step.columns[place] or not computed.text:
            return
        if not computed.label:
            computed = replace(computed, label=self._free(step))
        columns = (*step.columns[:place], computed, *step.columns[place + 1 :])
        self.put(replace(step, columns=columns), tr("Change compute"))

    def _say_place(self, text: str) -> None:
        """Where in the expression the problem is."""
        open_pull = self.open_pull
        if open_pull is None or open_pull.table is None or not self.problem.text():
            return
        try:
            parse_expression(text, Table(self.fields(), (), 0))
        except ConditionError as problem:
            if problem.place is not None:
                self.problem.setText(tr("Column {column}: {problem}", column=problem.place.column, problem=problem))

    @staticmethod
    def _free(step: ComputeStep) -> str:
        taken = {c.label for c in step.columns}
        return next(n for n in (f"computed{k or ''}" for k in range(100)) if n not in taken)

    def _remove(self, place: int) -> None:
        step = self.current
        if isinstance(step, ComputeStep):
            self.put(replace(step, columns=(*step.columns[:place], *step.columns[place + 1 :])), tr("Remove column"))

    def add(self) -> None:
        """Add an empty column, unless there is one already."""
        step = self.current
        if isinstance(step, ComputeStep) and all(c.text for c in step.columns):
            self.put(replace(step, columns=(*step.columns, Computed("", ""))), tr("Add column"))
        if self.fields_of:
            self.fields_of[-1][0].show()
            self.fields_of[-1][0].setFocus()

    def focus_first(self) -> None:
        """Put the keyboard into the first field."""
        if self.fields_of:
            self.fields_of[0][0].setFocus()
