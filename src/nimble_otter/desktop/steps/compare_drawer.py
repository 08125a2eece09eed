"""Compare: with what these rows are compared, by which key, which columns how; and bringing one side into line."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from itertools import combinations

from PySide6.QtWidgets import QCheckBox, QComboBox, QFileDialog, QGridLayout, QLineEdit, QWidget

from nimble_otter.desktop.kit.widgets import as_plain, button, clear, combo, label, row
from nimble_otter.desktop.pulls.open_pull import OpenPull
from nimble_otter.desktop.runtime.jobs import LOCAL
from nimble_otter.desktop.steps.bring_into_line import BringIntoLine
from nimble_otter.desktop.steps.join_drawer import OtherDrawer
from nimble_otter.errors import ConditionError, OtterError
from nimble_otter.pull.compared import Compared, find_key
from nimble_otter.pull.row_files import SUFFIXES, is_rows_file
from nimble_otter.pull.steps import CompareStep
from nimble_otter.pull.steps.compare import read_tolerance
from nimble_otter.stop import StopToken
from nimble_otter.table import Field, Kind, View
from nimble_otter.table.ops.alike import EQUAL, Alike, are_comparable, reconciled
from nimble_otter.translation import tr

_TIMES = (Kind.TIME, Kind.ZONED, Kind.DATE, Kind.CLOCK, Kind.SPAN)
_TEXT_RULES = (("any_case", tr("any case")), ("any_space", tr("any spaces")), ("empty_is_null", tr("empty is NULL")))
_NO_COLUMN = tr("not compared")


class CompareDrawer(OtherDrawer):
    """The drawer of a Compare step. `show_pending` shows a pull of which differences became pending changes."""

    title = tr("Compare")

    def __init__(
        self,
        pulls: Callable[[OpenPull], list[str]],
        open_pulls: Callable[[], Sequence[OpenPull]],
        show_pending: Callable[[OpenPull], None],
    ) -> None:
        panel = BringIntoLine(open_pulls, show_pending)
        super().__init__(pulls, panel)
        self.panel = panel
        self._keys = QLineEdit()
        self._keys.setAccessibleName(tr("Matched by"))
        self._keys.setPlaceholderText(tr("row by row"))
        self._keys.setFixedWidth(130)
        self._keys.editingFinished.connect(self._set_keys)
        self.same = QCheckBox(tr("same rows, too"))
        self.same.clicked.connect(lambda on: self._put(with_same=bool(on)))
        self.pairs = QGridLayout()
        self.pairs.setHorizontalSpacing(10)
        self.pairs.setVerticalSpacing(5)
        self.pairs.setColumnStretch(6, 1)
        self.lines.addLayout(row(label(tr("Matched by"), "muted"), self._keys, self.same, None, space=8))
        self.lines.addLayout(self.pairs)

    @property
    def compare(self) -> CompareStep | None:
        """The step, if it is there still."""
        step = self.current
        return step if isinstance(step, CompareStep) else None

    def before_name(self) -> list[QWidget]:
        """What stands before the name of the other pull."""
        return [label(tr("These rows against"), "muted")]

    def behind_name(self) -> list[QWidget]:
        """What stands behind the name of the other pull."""
        return [button(tr("A file…"), self.ask_file, "", tr("A delivered file: CSV, JSON, XLSX or Parquet"))]

    def refresh(self) -> None:
        """Show the step as it is now."""
        super().refresh()
        step = self.compare
        if step is None:
            return
        self._keys.setText(", ".join(step.keys))
        self.same.setChecked(step.with_same)
        clear(self.pairs)
        there = self.their_fields()
        if there:
            self._show_pairs(step, there)
        assert self.open_pull is not None
        self.panel.show_step(self.open_pull, step, self.compared)

    def their_fields(self) -> tuple[Field, ...]:
        """Columns of the other side; none while its rows are not there."""
        step, compared = self.compare, self.compared
        if step is not None and is_rows_file(step.other):
            return compared.found.there.table.fields if compared is not None else ()
        return super().their_fields()

    @property
    def compared(self) -> Compared | None:
        """What the step found."""
        course = self.open_pull.course if self.open_pull is not None else None
        if course is None or self.at >= len(course.results) or course.results[self.at].error is not None:
            return None
        return course.results[self.at].shaped.compared if self.compare is not None else None

    # --- what is compared ----------------------------------------------------------------------------------------

    def choose(self, name: str) -> None:
        """Take another side; a key is found where the one there is does not fit."""
        step, open_pull = self.compare, self.open_pull
        if step is None or open_pull is None or open_pull.course is None:
            return
        here = open_pull.course.before(self.at).as_shown()
        wanted = [open_pull.table.fields[p].name for p, _ in open_pull.target.keys
                  if open_pull.table is not None and p < len(open_pull.table.fields)]  # fmt: skip
        compare_step = replace(step, other=name, pairs=(), left_out=(), rules={})
        rows = open_pull.shaping.rows_of(name) if name and not is_rows_file(name) else None

        def work(stop: StopToken, _: object) -> tuple[str, ...]:
            there: View = rows if rows is not None else compare_step.right(stop)
            return find_key(here, there, wanted, stop)

        def done(keys: tuple[str, ...]) -> None:
            if self.compare is step:
                self.put(replace(compare_step, keys=keys), tr("Choose the other side"))

        def failed(problem: Exception) -> None:
            if self.compare is step:
                self.put(replace(compare_step, keys=tuple(wanted)), tr("Choose the other side"))
            if isinstance(problem, OtterError):
                self.problem.setText(str(problem))
                self.problem.show()

        if not name or (rows is None and not is_rows_file(name)):
            self.put(replace(compare_step, keys=tuple(wanted)), tr("Choose the other side"))
            return
        open_pull.jobs.submit(LOCAL, f"{open_pull.key} find key", work, done, failed, title=tr("Finding a key"))

    def ask_file(self) -> None:
        """Compare with the rows of a file."""
        kinds = " ".join(f"*{suffix}" for suffix in SUFFIXES)
        path, _ = QFileDialog.getOpenFileName(self, tr("Compare with a file"), "", tr("Rows ({kinds})", kinds=kinds))
        if path:
            self.choose(path)

    def _put(self, **changes: object) -> None:
        step = self.compare
        if step is not None:
            self.put(replace(step, **changes), tr("Change comparison"))  # type: ignore[arg-type]

    def _set_keys(self) -> None:
        step = self.compare
        keys = tuple(name.strip() for name in self._keys.text().split(",") if name.strip())
        if step is not None and keys != step.keys:
            self._put(keys=keys)

    def _show_pairs(self, step: CompareStep, there: tuple[Field, ...]) -> None:
        by_name, given = {f.name.casefold(): f for f in there}, dict(step.pairs)
        for index, title in enumerate((tr("column here"), "", tr("against"), tr("within"), "")):
            self.pairs.addWidget(label(title, "faint", 12), 0, index)
        for line, field in enumerate(self.fields(), 1):
            if field.name in step.keys:
                continue
            other = by_name.get(given.get(field.name, field.name).casefold())
            is_out = field.name in step.left_out or other is None
            chosen = other.name if other is not None and not is_out else ""
            choices = [("", _NO_COLUMN), *((f.name, f.name) for f in there)]
            against = combo(choices, chosen, tr("Compared with {field_name}", field_name=field.name))
            against.setFixedWidth(140)
            against.activated.connect(lambda _, n=field.name, w=against: self._pair(n, str(w.currentData())))
            name = label(field.name)
            name.setMaximumWidth(120)
            name.setToolTip(as_plain(field.name))
            self.pairs.addWidget(name, line, 0)
            self.pairs.addWidget(label("=" if not is_out else "", "muted"), line, 1)
            self.pairs.addWidget(against, line, 2)
            if is_out or other is None:
                continue
            self._show_rule(line, field, other, step.rules.get(field.name, EQUAL))

    def _show_rule(self, line: int, field: Field, other: Field, rule: Alike) -> None:
        if not are_comparable(field.kind, other.kind):
            words = tr(
                "{kind} can't be compared with {other_kind}",
                kind=field.kind.value,
                other_kind=other.kind.value,
            )
            self.pairs.addWidget(label(words, "plum", 12), line, 4)
            return
        if field.is_number or field.kind in _TIMES:
            within = QLineEdit(f"{rule.tolerance:g}" if rule.tolerance else "")
            within.setAccessibleName(tr("Tolerance of {field_name}", field_name=field.name))
            within.setPlaceholderText("0" if field.is_number else "0 s")
            within.setFixedWidth(56)
            within.editingFinished.connect(lambda w=within, f=field: self._set_tolerance(f.name, w.text()))
            self.pairs.addWidget(within, line, 3)
        if field.kind is Kind.OBJECT and other.kind is Kind.OBJECT:
            inside = QLineEdit(rule.lists_by)
            inside.setAccessibleName(tr("Field that matches the items of lists in {field_name}", field_name=field.name))
            inside.setPlaceholderText(tr("lists by"))
            inside.setToolTip(tr("A field that the items of a list have: they are matched by it, whatever their order"))
            inside.setFixedWidth(100)
            inside.editingFinished.connect(lambda w=inside, f=field: self._set_rule(f.name, lists_by=w.text().strip()))
            self.pairs.addWidget(inside, line, 3, 1, 2)
        if field.kind is Kind.TEXT:
            self.pairs.addWidget(self._text_rule(field.name, rule), line, 3, 1, 2)
        elif words := reconciled(field.kind, other.kind):
            self.pairs.addWidget(label(words, "faint", 12), line, 4)

    def _text_rule(self, name: str, rule: Alike) -> QComboBox:
        """When texts count as the same."""
        chosen = "+".join(key for key, _ in _TEXT_RULES if getattr(rule, key))
        choices = {"": tr("exactly")}
        for count in (1, 2, 3):
            for some in combinations(_TEXT_RULES, count):
                choices["+".join(key for key, _ in some)] = ", ".join(words for _, words in some)
        combo_box = combo(choices.items(), chosen, tr("When texts of {name} are the same", name=name))
        combo_box.setFixedWidth(120)
        combo_box.view().setMinimumWidth(260)
        combo_box.activated.connect(lambda _: self._set_rule(
            name, **{key: key in str(combo_box.currentData()).split("+") for key, _ in _TEXT_RULES}))  # fmt: skip
        return combo_box

    def _pair(self, here: str, there: str) -> None:
        step = self.compare
        if step is None:
            return
        pairs = {a: b for a, b in step.pairs if a != here}
        out = [name for name in step.left_out if name != here]
        if there and there.casefold() != here.casefold():
            pairs[here] = there
        if not there:
            out.append(here)
        self._put(pairs=tuple(pairs.items()), left_out=tuple(out))

    def _set_rule(self, name: str, **changes: object) -> None:
        step = self.compare
        if step is not None:
            rule = replace(step.rules.get(name, EQUAL), **changes)  # type: ignore[arg-type]
            rules = {n: r for n, r in {**step.rules, name: rule}.items() if r != EQUAL}
            if rules != dict(step.rules):
                self._put(rules=rules)

    def _set_tolerance(self, name: str, text: str) -> None:
        try:
            self._set_rule(name, tolerance=read_tolerance(text.removesuffix("s")))
        except ConditionError as problem:
            self.problem.setText(str(problem))
            self.problem.show()
