"""Join and Append: which pull's rows are taken, and how they meet these."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import partial

from PySide6.QtWidgets import QVBoxLayout, QWidget

from nimble_otter.desktop.kit.widgets import boxed, button, clear, combo, label, row
from nimble_otter.desktop.pulls.open_pull import OpenPull
from nimble_otter.desktop.steps.step_drawers import StepDrawer
from nimble_otter.pull.steps import AppendStep, CompareStep, JoinStep
from nimble_otter.table import Field
from nimble_otter.table.ops.combine import How
from nimble_otter.translation import tr, tr_value

_NONE = tr("choose a pull")


class OtherDrawer(StepDrawer):
    """Base of those that take rows of another pull: `pulls` gives the names that can be chosen."""

    says_report = False

    def __init__(self, pulls: Callable[[OpenPull], list[str]], *beside: QWidget) -> None:
        super().__init__()
        self.pulls = pulls
        self.report = label("", "muted", 12, wrap=True)
        self.first, self.lines = QVBoxLayout(), QVBoxLayout()
        self.lines.setSpacing(6)
        self.lines.setContentsMargins(0, 0, 0, 0)
        lines = self.scrolled(self.first, self.report, boxed(self.lines), self.problem)
        self.set_body(lines, *beside, stretch=(1, *(0 for _ in beside)))

    @property
    def step(self) -> JoinStep | AppendStep | CompareStep | None:
        """The step, if it is there still."""
        found = self.current
        return found if isinstance(found, (JoinStep, AppendStep, CompareStep)) else None

    def refresh(self) -> None:
        """Show the step as it is now."""
        step = self.step
        if step is None or self.open_pull is None:
            return
        self.tell()
        clear(self.first)
        names = self.pulls(self.open_pull)
        names = names if not step.other or step.other in names else [step.other, *names]
        other = combo([("", _NONE), *((n, n) for n in names)], step.other, tr("Other pull"))
        other.setFixedWidth(220)
        other.activated.connect(lambda _, w=other: self.choose(w.currentData()))
        self.first.addLayout(row(*self.before_name(), other, *self.behind_name(), None, space=8))
        if not names:
            self.first.addWidget(label(tr("There is no other pull: open one, or save one on the shelf."), "faint"))
        text = ""
        course = self.open_pull.course
        if course is not None and self.at < len(course.results):
            text = course.results[self.at].shaped.said
        self.report.setText(f"{text}." if text else "")
        self.report.setVisible(bool(text))

    def before_name(self) -> list[QWidget]:
        """What stands before the name of the other pull."""
        return []

    def behind_name(self) -> list[QWidget]:
        """What stands behind the name of the other pull."""
        return []

    def their_fields(self) -> tuple[Field, ...]:
        """Columns of the other pull; none while its rows are not there."""
        step = self.step
        view = (
            self.open_pull.shaping.rows_of(step.other) if step is not None and self.open_pull and step.other else None
        )
        return view.table.fields if view is not None else ()

    def choose(self, name: str) -> None:
        """Take another pull."""
        step = self.step
        if step is not None:
            self.put(replace(step, other=name), tr("Choose pull"))


class AppendDrawer(OtherDrawer):
    """The drawer of an Append step: which pull's rows come below."""

    title = tr("Append")

    def before_name(self) -> list[QWidget]:
        """What stands before the name of the other pull."""
        return [label(tr("Append the rows of"), "muted")]

    def behind_name(self) -> list[QWidget]:
        """What stands behind the name of the other pull."""
        return [label(tr("columns matched by name"), "muted")]


class JoinDrawer(OtherDrawer):
    """The drawer of a Join step: which pull, which rows are kept, and by which pairs of columns."""

    title = tr("Join")

    def __init__(self, pulls: Callable[[OpenPull], list[str]]) -> None:
        super().__init__(pulls)
        self.head.right.addWidget(button(tr("Add pair"), self.add_pair))

    @property
    def join(self) -> JoinStep | None:
        """The step, if it is there still."""
        step = self.current
        return step if isinstance(step, JoinStep) else None

    def before_name(self) -> list[QWidget]:
        """What stands before the name of the other pull."""
        step = self.join
        how = combo([(h.value, tr_value(h)) for h in How], step.how.value if step else "", tr("Which rows are kept"))
        how.setFixedWidth(170)
        how.activated.connect(lambda _, w=how: self._put(how=How(w.currentData())))
        return [label(tr("Keep"), "muted"), how, label(tr("joined with"), "muted")]

    def refresh(self) -> None:
        """Show the step as it is now."""
        super().refresh()
        step = self.join
        if step is None:
            return
        clear(self.lines)
        theirs = [f.name for f in self.their_fields()]
        for index, (here, there) in enumerate(step.pairs):
            mine = combo(self.names(here), here, tr("Column here {index}", index=index + 1))
            other = combo(
                theirs if there in theirs else [there, *theirs], there, tr("Column there {index}", index=index + 1)
            )
            for combo_box in (mine, other):
                combo_box.setFixedWidth(180)
            mine.activated.connect(lambda _, p=index, w=mine: self._set(p, 0, w.currentData()))
            other.activated.connect(lambda _, p=index, w=other: self._set(p, 1, w.currentData()))
            remove = button("×", partial(self._drop, index), "plain", tr("Remove pair {index}", index=index + 1))
            word = label(tr("where") if not index else tr("and"), "muted")
            word.setFixedWidth(40)
            self.lines.addLayout(row(word, mine, label("=", "muted"), other, remove, None, space=6))

    def choose(self, name: str) -> None:
        """Another pull: columns of one name are compared first."""
        step = self.join
        if step is None or self.open_pull is None:
            return
        view = self.open_pull.shaping.rows_of(name) if name else None
        theirs = {f.name.casefold(): f for f in view.table.fields} if view is not None else {}
        same = [(f.name, theirs[f.name.casefold()].name) for f in self.fields() if f.name.casefold() in theirs]
        keys = [pair for pair in same if pair[0].casefold().endswith("id")] or same[:1]
        fits = [(here, there) for here, there in step.pairs if there.casefold() in theirs]
        self.put(replace(step, other=name, pairs=tuple(fits or keys)), tr("Choose pull"))

    def _put(self, **changes: object) -> None:
        step = self.join
        if step is not None:
            self.put(replace(step, **changes), tr("Change join"))  # type: ignore[arg-type]

    def _set(self, place: int, side: int, name: str) -> None:
        step = self.join
        if step is not None:
            pairs = [list(pair) for pair in step.pairs]
            pairs[place][side] = name
            self._put(pairs=tuple((a, b) for a, b in pairs))

    def _drop(self, place: int) -> None:
        step = self.join
        if step is not None:
            self._put(pairs=(*step.pairs[:place], *step.pairs[place + 1 :]))

    def add_pair(self) -> None:
        """Join by one more pair of columns."""
        step, theirs = self.join, [f.name for f in self.their_fields()]
        if step is None or not theirs:
            self.problem.setText(tr("Choose a pull that has rows first."))
            self.problem.show()
            return
        used = {here for here, _ in step.pairs}
        here = next((n for n in self.names() if n in theirs and n not in used), "")
        here = here or next((n for n in self.names() if n not in used), "")
        if here:
            self._put(pairs=(*step.pairs, (here, here if here in theirs else theirs[0])))
