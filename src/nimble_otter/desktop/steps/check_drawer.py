"""Check: its lines with what was found of each, the editor of the selected one, and lines that are suggested."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import partial

from PySide6.QtCore import QModelIndex, QPersistentModelIndex, QSize, Qt
from PySide6.QtGui import QColor, QPalette
from PySide6.QtWidgets import (
    QComboBox,
    QHeaderView,
    QLineEdit,
    QScrollArea,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QTreeWidget,
    QTreeWidgetItem,
    QVBoxLayout,
    QWidget,
)

from nimble_otter.desktop.kit.theme import theme, ui_font
from nimble_otter.desktop.kit.widgets import (
    ElidedLabel,
    Line,
    as_plain,
    boxed,
    button,
    clear,
    column,
    combo,
    label,
    row,
)
from nimble_otter.desktop.pulls.open_pull import OpenPull
from nimble_otter.desktop.runtime.jobs import LOCAL
from nimble_otter.desktop.steps.expression_field import ExpressionField
from nimble_otter.desktop.steps.step_drawers import StepDrawer
from nimble_otter.pull.steps import Checked, CheckLine, CheckStep, Rule
from nimble_otter.pull.steps.check import suggested
from nimble_otter.pull.steps.check_rules import TYPES
from nimble_otter.table.ops.group import AggregateFunction
from nimble_otter.table.text.show import grouped
from nimble_otter.translation import tr, trn

_FORM, _NAME = 290, 92
_RULES = {
    Rule.FILLED: tr("is filled"),
    Rule.UNIQUE: tr("is unique"),
    Rule.AMONG: tr("is one of"),
    Rule.RANGE: tr("is between"),
    Rule.PATTERN: tr("matches"),
    Rule.TYPE: tr("is of type"),
    Rule.NEWEST: tr("newest within"),
    Rule.ELSEWHERE: tr("is in another pull"),
    Rule.AGGREGATE: tr("has an aggregate"),
    Rule.ROWS: tr("rows: count"),
    Rule.SINCE_LAST: tr("rows: against last time"),
    Rule.NO_DUPLICATES: tr("rows: no duplicates"),
    Rule.COLUMNS: tr("columns as last time"),
    Rule.SQL: tr("SQL condition"),
}
_SEVERITY = [("stop", tr("stops the delivery")), ("warn", tr("warns"))]
_MARK, _SUBJECT, _SAYS, _FOUND, _HOW = range(5)


class _Toned(QStyledItemDelegate):
    """Cells keep their colours where they are selected."""

    def initStyleOption(self, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex) -> None:
        """See Qt's."""
        super().initStyleOption(option, index)
        ink = index.data(Qt.ItemDataRole.ForegroundRole)
        if ink is not None:
            option.palette.setBrush(QPalette.ColorRole.HighlightedText, ink)


class CheckDrawer(StepDrawer):
    """The drawer of a Check step. Selecting a line that fails shows the rows that fail it in the grid."""

    title = tr("Check")

    def __init__(self, pulls: Callable[[OpenPull], list[str]]) -> None:
        super().__init__()
        self._pulls = pulls
        self.head.right.addWidget(button(tr("Suggest"), self.suggest, "", tr("Propose checks that these rows pass")))
        self.head.right.addWidget(button(tr("Add check"), self.add))
        self.lines = QTreeWidget()
        self.lines.setObjectName("checks")
        self.lines.setItemDelegate(_Toned(self.lines))
        self.lines.setAccessibleName(tr("Checks"))
        self.lines.setRootIsDecorated(False)
        self.lines.setHeaderHidden(True)
        self.lines.setColumnCount(5)
        header = self.lines.header()
        header.setStretchLastSection(False)
        for index, width in ((_MARK, 34), (_SUBJECT, 130), (_HOW, 48)):
            header.setSectionResizeMode(index, QHeaderView.ResizeMode.Fixed)
            self.lines.setColumnWidth(index, width)
        for index in (_SAYS, _FOUND):
            header.setSectionResizeMode(index, QHeaderView.ResizeMode.Stretch)
        header.setMinimumSectionSize(20)
        self.lines.currentItemChanged.connect(lambda item, _: self._chosen(item))
        self.nothing = label(tr("No check yet. Add one, or let some be suggested from the rows."), "faint", wrap=True)
        self._offers = QVBoxLayout()
        self._offered = boxed(column(self._offers, margins=(12, 8, 12, 8)), "raised")
        self._offers_area = QScrollArea()
        self._offers_area.setWidgetResizable(True)
        self._offers_area.setWidget(self._offered)
        self._offers_area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self._offers_area.hide()
        self._form = QVBoxLayout()
        form = QScrollArea()
        form.setWidgetResizable(True)
        form.setWidget(boxed(column(self._form, None, margins=(12, 10, 12, 8)), "raised"))
        form.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        form.setFixedWidth(_FORM)
        self.editor = form
        self.nothing.setContentsMargins(14, 10, 12, 0)
        left = column(self.nothing, self.lines, self._offers_area, self.problem, space=0)
        self.set_body(boxed(left), Line(True, "grid_line"), form, stretch=(1, 0, 0))
        self._line = -1
        self._is_filling = False

    @property
    def step(self) -> CheckStep | None:
        """The step, if it is there still."""
        found = self.current
        return found if isinstance(found, CheckStep) else None

    # --- the list ----------------------------------------------------------------------------------------------

    def refresh(self) -> None:
        """Show the step as it is now, and what was found."""
        step, open_pull = self.step, self.open_pull
        if step is None or open_pull is None:
            return
        self._tell_found(step, open_pull)
        found = self._found(step, open_pull)
        self._is_filling = True
        if self.lines.topLevelItemCount() != len(step.lines):
            self.lines.clear()
            self.lines.addTopLevelItems([QTreeWidgetItem([""] * 5) for _ in step.lines])
        for index, line in enumerate(step.lines):
            item = self.lines.topLevelItem(index)
            assert item is not None
            self._fill(item, line, found.get(index))
        self._line = min(self._line, len(step.lines) - 1)
        if (current := self.lines.topLevelItem(self._line)) is not None:
            self.lines.setCurrentItem(current)
        self._is_filling = False
        self.nothing.setVisible(not step.lines)
        self.lines.setVisible(bool(step.lines) and self._offers_area.isHidden())
        if self.is_new():
            self._show_form()

    def _tell_found(self, step: CheckStep, open_pull: OpenPull) -> None:
        course = open_pull.course
        self.problem.setVisible(False)
        if course is None or self.at >= len(course.results):
            self.head.words.setText("")
            return
        result = course.results[self.at]
        count = len(result.shaped.checked)
        text = trn(
            "{rows} rows, {count} check",
            "{rows} rows, {count} checks",
            count,
            rows=grouped(result.shaped.rows),
            count=count,
        )
        self.head.words.setText(
            tr("{text}, {spent_s:.0f} ms", text=text, spent_s=result.spent_s * 1000) if step.on else tr("switched off")
        )

    def _found(self, step: CheckStep, open_pull: OpenPull) -> dict[int, Checked]:
        course = open_pull.course
        if course is None or self.at >= len(course.results):
            return {}
        on = [place for place, line in enumerate(step.lines) if line.on]
        return dict(zip(on, course.results[self.at].shaped.checked, strict=False))

    @staticmethod
    def _fill(item: QTreeWidgetItem, line: CheckLine, found: Checked | None) -> None:
        is_failing = found is not None and not found.holds
        mark = "" if found is None else "!" if is_failing else "✓"
        texts = (mark, line.subject, line.words(),
                 found.said if found is not None else tr("off") if not line.on else "",
                 tr("stop") if line.stops else tr("warn"))  # fmt: skip
        tone = "plum" if is_failing and line.stops else "amber_ink" if is_failing else "muted"
        for index, text in enumerate(texts):
            item.setText(index, text)
            item.setToolTip(index, as_plain(text) if index in (_SAYS, _FOUND) else "")
            ink = {_MARK: tone if is_failing else "water1", _FOUND: tone, _HOW: "faint"}.get(index, "ink")
            item.setForeground(index, QColor(theme[ink if line.on else "faint"]))
            item.setFont(index, ui_font(bold=index == _SUBJECT or (index == _MARK and is_failing)))
        item.setTextAlignment(_MARK, Qt.AlignmentFlag.AlignCenter)
        item.setSizeHint(0, QSize(0, 29))
        check, became = line.told, texts[_FOUND] or tr("not checked")
        said = tr("holds: {check}: {found}", check=check, found=became)
        if is_failing:
            said = tr("fails: {check}: {found}", check=check, found=became)
        item.setData(0, Qt.ItemDataRole.AccessibleTextRole, said)

    def _chosen(self, item: QTreeWidgetItem | None) -> None:
        if self._is_filling:
            return
        self._line = self.lines.indexOfTopLevelItem(item) if item is not None else -1
        self._show_form()
        step, open_pull = self.step, self.open_pull
        if step is None or open_pull is None:
            return
        checked = self._found(step, open_pull).get(self._line)
        fails = checked is not None and checked.failing is not None and len(checked.failing) > 0
        open_pull.shaping.show_failing((self.at, self._line) if fails else None)

    # --- the editor --------------------------------------------------------------------------------------------

    @property
    def line(self) -> CheckLine | None:
        """The line that is edited."""
        step = self.step
        return step.lines[self._line] if step is not None and 0 <= self._line < len(step.lines) else None

    def _show_form(self) -> None:
        clear(self._form)
        line = self.line
        self.editor.setVisible(line is not None)
        if line is None:
            return
        rule = combo([(key.value, word) for key, word in _RULES.items()], line.rule.value, tr("What must hold"))
        rule.activated.connect(lambda: self._set_rule(Rule(rule.currentData())))
        self._add(tr("Check"), rule)
        if line.rule.is_of_columns:
            for index, name in enumerate(line.columns or ("",)):
                names = [("", tr("choose a column")), *((n, n) for n in self.names(name))]
                chosen = combo(names, name, tr("Column {index}", index=index + 1))
                chosen.activated.connect(lambda _, p=index, w=chosen: self._set_column(p, str(w.currentData())))
                self._add(tr("Column") if not index else tr("and"), chosen)
            if line.rule is Rule.UNIQUE:
                more = combo(
                    [("", tr("and another column")), *((n, n) for n in self.names())], "", tr("Another column")
                )
                more.activated.connect(lambda: self._set_column(len(line.columns), str(more.currentData())))
                self._add("", more)
        self._add_values(line)
        how = combo(_SEVERITY, "stop" if line.stops else "warn", tr("Where it fails"))
        how.activated.connect(lambda: self._change(stops=how.currentData() == "stop"))
        self._add(tr("Failing"), how)
        switch = button(tr("Switch off") if line.on else tr("Switch on"), lambda: self._change(on=not line.on), "link")
        self._form.addLayout(
            row(switch, button(tr("Remove"), self.remove, "link", tr("Remove this check")), None, space=14)
        )

    def _add_values(self, line: CheckLine) -> None:
        low, high = (*map(str, line.values), "", "")[:2]
        match line.rule:
            case Rule.FILLED:
                self._text(
                    tr("NULL at most"), low, lambda t: self._change(values=(t,) if t else ()), tr("0, 12 or 2 %")
                )
            case Rule.AMONG:
                text = ", ".join(map(str, line.values))
                self._text(tr("Values"), text, lambda t: self._change(values=_listed(t)), tr("with commas between"))
            case Rule.RANGE | Rule.ROWS:
                self._bounds(low, high)
            case Rule.AGGREGATE:
                figures = combo([f.value for f in AggregateFunction], line.figure or "sum", tr("Aggregate"))
                figures.activated.connect(lambda: self._change(figure=str(figures.currentData())))
                self._add(tr("Aggregate"), figures)
                self._other(line, tr("as of the pull"))
                if line.other:
                    self._text(tr("within"), line.tolerance, lambda t: self._change(tolerance=t), tr("0, 1.5 or 2 %"))
                else:
                    self._bounds(low, high)
            case Rule.ELSEWHERE:
                self._other(line, tr("Pull"))
            case Rule.PATTERN:
                self._text(tr("Pattern"), low, lambda t: self._change(values=(t,)), tr("such as [A-Z]{2}\\d+"))
            case Rule.TYPE:
                kinds = combo(list(TYPES), low or "number", tr("Type"))
                kinds.activated.connect(lambda: self._change(values=(str(kinds.currentData()),)))
                self._add(tr("Type"), kinds)
            case Rule.SINCE_LAST:
                self._text(
                    tr("at least %"), low, lambda t: self._change(values=(t,)), tr("of the last delivery's rows")
                )
            case Rule.NEWEST:
                self._text(tr("Age"), low, lambda t: self._change(values=(t,)), tr("2 days, 6 hours, 30 minutes"))
            case Rule.SQL:
                field = ExpressionField(line.text)
                field.setAccessibleName(tr("Condition"))
                field.editingFinished.connect(lambda: self._change(text=field.text().strip()))
                self._add(tr("Condition"), field)

    def _bounds(self, low: str, high: str) -> None:
        self._text(
            tr("at least"), low, lambda t: self._change(values=(t, (*self._values(), "", "")[1])), tr("no bound")
        )
        self._text(tr("at most"), high, lambda t: self._change(values=((*self._values(), "")[0], t)), tr("no bound"))

    def _values(self) -> tuple[object, ...]:
        return self.line.values if self.line is not None else ()

    def _other(self, line: CheckLine, name: str) -> None:
        names = self._pulls(self.open_pull) if self.open_pull is not None else []
        names = names if not line.other or line.other in names else [line.other, *names]
        none = tr("none: between bounds") if line.rule is Rule.AGGREGATE else tr("choose a pull")
        chosen = combo([("", none), *((n, n) for n in names)], line.other, tr("Other pull"))
        chosen.activated.connect(lambda: self._change(other=str(chosen.currentData())))
        self._add(name, chosen)
        if line.other:
            self._text(
                tr("its column"), line.other_column, lambda t: self._change(other_column=t), tr("of the same name")
            )

    def _text(self, name: str, text: str, put: Callable[[str], None], hint: str) -> None:
        field = QLineEdit(text)
        field.setPlaceholderText(hint)
        field.setAccessibleName(name)
        field.editingFinished.connect(lambda: put(field.text().strip()) if field.text().strip() != text else None)
        self._add(name, field)

    def _add(self, name: str, part: QWidget) -> None:
        said = label(name, "muted", 12)
        said.setFixedWidth(_NAME)
        if isinstance(part, QComboBox):
            part.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
            part.setMinimumContentsLength(8)
        line = row(said, part, space=6)
        line.setStretch(1, 1)
        self._form.addLayout(line)

    # --- changing ----------------------------------------------------------------------------------------------

    def _set_rule(self, rule: Rule) -> None:
        line = self.line
        if line is None or line.rule is rule:
            return
        columns = line.columns if rule.is_of_columns else ()
        first = {Rule.TYPE: ("number",), Rule.SINCE_LAST: ("90",), Rule.NEWEST: (tr("2 days"),)}
        made = CheckLine(rule, columns[:1], first.get(rule, ()), "sum" if rule is Rule.AGGREGATE else "",
                         stops=line.stops, on=line.on)  # fmt: skip
        self._put(made)

    def _set_column(self, place: int, name: str) -> None:
        line = self.line
        if line is not None:
            columns = [*line.columns[:place], *([name] if name else []), *line.columns[place + 1 :]]
            self._change(columns=tuple(dict.fromkeys(columns)))

    def _change(self, **changes: object) -> None:
        line = self.line
        if line is not None:
            self._put(replace(line, **changes))  # type: ignore[arg-type]

    def _put(self, line: CheckLine) -> None:
        step = self.step
        if step is not None and step.lines[self._line] != line:
            lines = (*step.lines[: self._line], line, *step.lines[self._line + 1 :])
            self.put(replace(step, lines=lines), tr("Change check"))

    def add(self, line: CheckLine | None = None) -> None:
        """One more line, which is edited then."""
        step = self.step
        if step is not None:
            self._line = len(step.lines)
            made = line or CheckLine(Rule.FILLED, tuple(self.names()[:1]))
            self.put(replace(step, lines=(*step.lines, made)), tr("Add check"))

    def remove(self) -> None:
        """Take the selected line out."""
        step = self.step
        if step is not None and self.line is not None:
            lines = (*step.lines[: self._line], *step.lines[self._line + 1 :])
            self.put(replace(step, lines=lines), tr("Remove check"))

    # --- suggested ---------------------------------------------------------------------------------------------

    def suggest(self) -> None:
        """Propose lines from the figures of the columns; none is taken unasked."""
        open_pull, step = self.open_pull, self.step
        course = open_pull.course if open_pull is not None else None
        if open_pull is None or step is None or course is None:
            return
        before = course.before(self.at)

        def show(lines: list[CheckLine]) -> None:
            known = {(line.rule, line.columns) for line in (self.step.lines if self.step is not None else ())}
            self._offer([line for line in lines if (line.rule, line.columns) not in known])

        open_pull.jobs.submit(
            LOCAL, f"{open_pull.key} suggest", lambda stop, _: suggested(before.flat(), before.shown(), stop), show,
            title=tr("Looking at the columns"),
        )  # fmt: skip

    def _offer(self, lines: list[CheckLine]) -> None:
        clear(self._offers)
        self._offers_area.setVisible(True)
        self.lines.setVisible(False)
        close = button(tr("Back to the checks"), self._close_offers, "link")
        text = tr("Suggested; these rows pass") if lines else tr("Nothing more to suggest for these rows.")
        everything = button(tr("Add all"), lambda: self._take(lines), "link", tr("Add all suggested checks"))
        self._offers.addLayout(row(label(text, "muted", 12), None, *([everything] if lines else []), close, space=12))
        for line in lines:
            name = label(line.subject, bold=True)
            name.setFixedWidth(136)
            rest, says = [other for other in lines if other is not line], ElidedLabel(line.words())
            take = button(tr("Add"), partial(self._take, [line], rest), "link", tr("Add: {told}", told=line.told))
            self._offers.addLayout(parts := row(name, says, take, space=8))
            parts.setStretch(1, 1)

    def _take(self, lines: list[CheckLine], left: list[CheckLine] | None = None) -> None:
        step = self.step
        if step is None:
            return
        self._line = len(step.lines)
        self.put(replace(step, lines=(*step.lines, *lines)), tr("Add checks"))
        if left:
            self._offer(left)
        else:
            self._close_offers()

    def _close_offers(self) -> None:
        self._offers_area.hide()
        self.lines.setVisible(self.step is not None and bool(self.step.lines))

    def begin_at(self, part: str) -> None:
        """Show the line of a column: one that is there, else a new one."""
        step = self.step
        if step is None:
            return
        at = next((n for n, line in enumerate(step.lines) if part in line.columns), None)
        if at is None:
            self.add(CheckLine(Rule.FILLED, (part,)))
        else:
            self._line = at
            self.rebuild()

    def focus_first(self) -> None:
        """Put the keyboard into the list of checks."""
        self.lines.setFocus()


def _listed(text: str) -> tuple[str, ...]:
    """Values with commas between; one in quotes may hold some."""
    import csv

    return tuple(value.strip() for value in next(csv.reader([text], skipinitialspace=True), []) if value.strip())
