"""What stands beside the statements: what a rehearsal found, a conflict field by field, how rows are matched."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtWidgets import QScrollArea, QVBoxLayout, QWidget

from nimble_otter.changes import Outcome, Report
from nimble_otter.changes.plan import Guard, StatementKind
from nimble_otter.desktop.changes.changes_list import short
from nimble_otter.desktop.kit.widgets import boxed, button, clear, combo, label, row
from nimble_otter.desktop.pulls.open_pull import OpenPull
from nimble_otter.table.text.show import grouped, rows_words
from nimble_otter.translation import tr, trn

WIDTH = 252
GUARDS = (("seen", tr("key and what changes")), ("row", tr("key and the whole row")), ("key", tr("key alone")))
_WHOLE = tr("All or nothing, in one transaction.")
_RISKY = tr("Key alone: changes that others made to the same cells meanwhile are overwritten without warning.")


class ChangesSide(QScrollArea):
    """`resolve(outcome, names, mine)` answers a conflict; `guard` takes how rows are matched."""

    def __init__(
        self, resolve: Callable[[Outcome, list[str], bool], object], go: Callable[[Outcome], object],
        guard: Callable[[Guard], object], by_values: Callable[[], object],
    ) -> None:  # fmt: skip
        super().__init__()
        self._resolve, self._go, self._set_guard, self._by_values = resolve, go, guard, by_values
        self._lines = QVBoxLayout()
        self._lines.setContentsMargins(12, 10, 12, 8)
        self._lines.setSpacing(6)
        self.setWidgetResizable(True)
        self.setWidget(boxed(self._lines, "raised"))
        self.setFixedWidth(WIDTH)

    def fill(self, open_pull: OpenPull, pending: int, problem: str, chosen: Outcome | None) -> None:
        """Bring it up to date; `chosen` is the outcome of the row that is looked at."""
        clear(self._lines)
        report = open_pull.report
        if waits := open_pull.pending.waiting_count:
            text = trn(
                "{waits} change waits for its row: a query that has it shows and writes them.",
                "{waits} changes wait for their rows: a query that has them shows and writes them.",
                waits,
                waits=grouped(waits),
            )
            self.note(text, "amber_ink")
            self._lines.addLayout(row(button(tr("Revert what waits"), open_pull.changes.revert_waiting), None))
        if open_pull.in_doubt:
            self.note(tr("The outcome of the last write is not known yet. Write checks it first."), "plum")
        if problem:
            self.note(problem, "plum")
        elif waits and not open_pull.edits.count and open_pull.reviewing is None:
            if report is not None and report.is_written:
                self._written(report)
        elif open_pull.reviewing is not None:
            self.note(tr("This reverses what was written. It is rehearsed and written like any change."), "muted")
            self._found(report, chosen, open_pull.target.dialect.is_documents)
        elif pending:
            self._found(report, chosen, open_pull.target.dialect.is_documents)
            self._guard(open_pull)
        elif report is not None and report.is_written:
            self._written(report)
        elif not open_pull.target.is_open:
            self.note(open_pull.target.reason, "muted")
            if open_pull.target.could_match:
                self.note(tr("Rows can be matched by all their values; duplicate rows can't be changed."), "muted")
                self._lines.addLayout(row(button(tr("Match by all values"), self._by_values), None))
        else:
            assert open_pull.target.table is not None
            self.note(
                tr(
                    "Edit a cell of {table_name} in the grid: type over it, or F2.",
                    table_name=open_pull.target.table.name,
                ),
                "muted",
            )
            self.note(tr("Ctrl+Insert adds a row, Ctrl+D duplicates, Ctrl+Delete marks rows to delete."), "faint")
        self._lines.addStretch(1)

    def note(self, text: str, tone: str) -> None:
        """Add a line of text, in the tone of a token."""
        self._lines.addWidget(label(text, tone, 12, wrap=True))

    def _pair(self, name: str, value: str, strong: bool = False) -> None:
        self._lines.addLayout(row(label(name, "plum" if strong else "muted", 12, strong), None, label(value, px=12)))

    def _found(self, report: Report | None, chosen: Outcome | None, is_documents: bool) -> None:
        if report is None:
            self.note(tr("Not rehearsed yet. Rehearse runs the statements and rolls them back."), "muted")
        else:
            self._pair(tr("Rehearsed {at:%H:%M:%S}", at=report.at), tr("nothing written"))
            if report.conflicts:
                count = grouped(len(report.conflicts))
                self._pair(
                    tr("In conflict {count}", count=count)
                    if any(o.is_conflict for o in report.conflicts)
                    else tr("Refused {count}", count=count),
                    tr("{good} will succeed", good=grouped(report.good)),
                    True,
                )
            else:
                self._pair(tr("Will succeed"), grouped(report.good))
                if report.lasting:
                    self.note(tr("A reversal would not restore {lasting}.", lasting=report.lasting), "plum")
            if chosen is not None and not chosen.is_good:
                self._conflict(chosen)
            elif chosen is not None and chosen.note:
                self.note(chosen.note, "muted")
        how = tr("All or nothing where the server has transactions, else one by one.") if is_documents else _WHOLE
        self.note(tr("{how} A script that restores the old values is kept.", how=how), "muted")

    def _conflict(self, outcome: Outcome) -> None:
        """Theirs against mine, field by field."""
        if not outcome.now:
            self.note(outcome.problem, "plum")
        if not outcome.is_conflict:
            self._lines.addLayout(row(button(tr("Go to the row"), lambda: self._go(outcome)), None))
            return
        mine, seen = dict(outcome.statement.values), dict(outcome.statement.seen)
        for name, theirs in outcome.now:
            self._pair(name, tr("seen {seen}", seen=short(seen.get(name))), True)
            yours = tr(" · yours {mine}", mine=short(mine[name])) if name in mine else ""
            self.note(tr("theirs {theirs}{yours}", theirs=short(theirs), yours=yours), "")
            self._answers(outcome, [name], " " + name)
        if len(outcome.now) != 1:
            self._answers(outcome, [name for name, _ in outcome.now], "")
        self._lines.addLayout(row(button(tr("Go to the row to edit it"), lambda: self._go(outcome), "quiet"), None))

    def _answers(self, outcome: Outcome, names: list[str], of: str) -> None:
        is_row = outcome.is_gone or outcome.statement.kind == StatementKind.DELETE
        theirs = tr("Leave it out") if outcome.is_gone else (tr("Keep the row") if is_row else tr("Take theirs"))
        items: list[QWidget | None] = [button(theirs, lambda: self._resolve(outcome, names, False))]
        first = items[0]
        assert first is not None
        first.setAccessibleName(f"{theirs}{of}")
        if not outcome.is_gone:
            yours = button(
                tr("Delete it anyway") if is_row else tr("Keep yours"), lambda: self._resolve(outcome, names, True)
            )
            yours.setAccessibleName(f"{yours.text()}{of}")
            items.append(yours)
        self._lines.addLayout(row(*items, None))

    def _guard(self, open_pull: OpenPull) -> None:
        if open_pull.target.by_values:
            self.note(tr("Rows are matched by all their values: the table has no key."), "muted")
            return
        choice = combo(GUARDS, open_pull.pull.guard, tr("Rows are matched by"))
        choice.activated.connect(lambda at: self._set_guard(Guard(GUARDS[at][0])))
        self._lines.addWidget(label(tr("Rows are matched by"), "muted", 12))
        self._lines.addWidget(choice)
        if open_pull.pull.guard == Guard.KEY:
            self.note(_RISKY, "plum")

    def _written(self, report: Report) -> None:
        count = report.good
        self._pair(
            tr("Written at {at:%H:%M:%S}", at=report.at),
            rows_words(count),
        )
        if report.said:
            self.note(report.said, "plum")
        self.note(tr("The rows were read back and are shown as the source has them now."), "muted")
        if report.lasting:
            self.note(tr("The reversal does not restore {lasting}.", lasting=report.lasting), "plum")
        self.note(tr("The reversal restores the old values. Review it to rehearse and write it."), "muted")
