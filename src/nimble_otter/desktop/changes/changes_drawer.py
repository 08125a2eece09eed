"""Changes: rows that would change and their statements, rehearsing and writing them, what was written before."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtGui import QFont, QTextCharFormat, QTextCursor
from PySide6.QtWidgets import QApplication, QFileDialog, QSplitter, QTextEdit

from nimble_otter.changes import Outcome, Plan, Report, Statement, make_plan, render, render_parks, script
from nimble_otter.changes.plan import Guard
from nimble_otter.desktop.changes.changes_list import ChangesList, waiting_of
from nimble_otter.desktop.changes.changes_side import ChangesSide
from nimble_otter.desktop.kit.editor import SqlEditor
from nimble_otter.desktop.kit.theme import theme
from nimble_otter.desktop.kit.widgets import Line, button
from nimble_otter.desktop.pulls.drawer import Drawer
from nimble_otter.desktop.runtime.jobs import LOCAL
from nimble_otter.errors import ChangeError, OtterError
from nimble_otter.files import write_text
from nimble_otter.pull import places
from nimble_otter.pull.writes import Written, all_writes, load_reversal
from nimble_otter.table.text.show import grouped
from nimble_otter.translation import tr, trn

AT_ONCE = 200
"""Statements that are shown at a time: the page that holds the chosen row."""
_MANY = 2000
"""From here on the statements are made in the background."""
_LONGEST = 3000
"""Characters of a statement that are shown; a line of many more holds the window while it is laid out."""
_WORDS = {"update": tr("edited row"), "insert": tr("new row"), "delete": tr("row to delete")}


class ChangesDrawer(Drawer):
    """Writing is asked for by signals: the window knows the lanes. `row_wanted` asks for a row of the grid."""

    title = tr("Changes")
    rehearse_wanted = Signal()
    write_wanted = Signal()
    revert_wanted = Signal()
    row_wanted = Signal(int, int)
    said = Signal(str, bool)

    def __init__(self) -> None:
        super().__init__()
        self.revert = button(tr("Revert"), self._back, tip=tr("Revert the selected cells, or all changes"))
        self.copy = button(tr("Copy"), self._copy, tip=tr("Copy the statements"))
        self.save = button(tr("Save"), self._save, tip=tr("Save the statements as a script"))
        self.review = button(tr("Review"), self._review, tip=tr("Review the statements that reverse this write"))
        self.rehearse = button(
            tr("Rehearse"), self.rehearse_wanted.emit, tip=tr("Run them in a transaction and roll it back")
        )
        self.write = button(tr("Write"), self.write_wanted.emit, "primary")
        for made in (self.revert, self.copy, self.save, self.review, self.rehearse, self.write):
            self.head.right.addWidget(made)
        self.list = ChangesList()
        self.list.selectionModel().currentChanged.connect(lambda *_: self._chosen())
        self.list.activated.connect(lambda *_: self._go_to_row())
        self.text = SqlEditor(numbered=False)
        self.text.setReadOnly(True)
        self.text.setAccessibleName(tr("Statements"))
        self.text.cursorPositionChanged.connect(self._caret_moved)
        self.side = ChangesSide(self._resolve, self._go, self._set_guard, self._match_by_values)
        split = QSplitter()
        split.setHandleWidth(1)
        split.addWidget(self.list)
        split.addWidget(self.text)
        split.setSizes([230, 320])
        self.set_body(split, Line(True, "grid_line"), self.side, stretch=(1, 0, 0))
        self._plan: Plan | None = None
        self._writes: list[Written] = []
        self._lines: list[int] = []
        self._page = 0
        self._report: Report | None = None
        self._is_filling = False
        self._late = QTimer(self)
        self._late.setSingleShot(True)
        self._late.setInterval(60)
        self._late.timeout.connect(self._fill)

    # --- filling -----------------------------------------------------------------------------------------------

    def refresh(self) -> None:
        """Show what is pending now; with many pending edits a moment later, not at every key."""
        if self.isVisible() and self.open_pull is not None and self.open_pull.edits.count > 50:
            self._late.start()  # many: not at every key
        else:
            self._fill()

    def _fill(self) -> None:
        open_pull = self.open_pull
        if open_pull is None:
            return
        if open_pull.reviewing is None and open_pull.edits.count > _MANY and open_pull.table is not None:
            edits, table, target = open_pull.edits.copied(), open_pull.table, open_pull.target
            guard = open_pull.pull.guard
            open_pull.jobs.submit(
                LOCAL, f"{open_pull.key} plan", lambda *_: make_plan(edits, table, target, guard),
                lambda plan: self._show(plan, "") if open_pull is self.open_pull else None,
                lambda problem: self._show(None, str(problem)) if open_pull is self.open_pull else None,
            )  # fmt: skip
            return
        plan: Plan | None = None
        problem = ""
        if open_pull.reviewing is not None or (open_pull.table is not None and open_pull.edits.count):
            try:
                plan = open_pull.plans.plan()
            except ChangeError as refused:
                problem = str(refused)
        self._show(plan, problem)

    def _show(self, plan: Plan | None, problem: str) -> None:
        open_pull = self.open_pull
        assert open_pull is not None
        pending = open_pull.edits.count if open_pull.reviewing is None else len(open_pull.reviewing.statements)
        busy = open_pull.jobs.is_running(f"{open_pull.key} write")
        report = open_pull.report
        names = [name for _, name in open_pull.target.keys]
        waiting = waiting_of(open_pull.pending.waiting, names) if open_pull.reviewing is None else []
        is_done = not pending and open_pull.reviewing is None and not waiting
        pull, folder = open_pull.pull, places.state_folder() / "reversals"
        table = open_pull.target.table.name if open_pull.target.table is not None else ""
        self._writes = all_writes(folder, pull.name, pull.source.name, open_pull.uid, table) if is_done else []
        same = plan is not None and self._plan is not None and len(plan.statements) == len(self._plan.statements)
        at = self.list.at if same else 0
        self._plan = plan
        outcomes = {o.statement.row_id: o for o in report.outcomes} if report is not None and not is_done else {}
        self._is_filling = True
        shown = plan.statements if plan is not None else ()
        self.list.entries.fill((*shown, *waiting) if shown or waiting else self._writes, outcomes)
        self.list.setVisible(bool(self.list.entries.rowCount()))
        is_new, self._report = report is not None and report is not self._report, report
        if report is not None and report.conflicts and is_new:
            bad = {o.statement.row_id for o in report.conflicts}
            at = next((n for n, s in enumerate(plan.statements if plan else ()) if s.row_id in bad), 0)
        if self.list.entries.rowCount():
            self.list.choose(min(max(0, at), self.list.entries.rowCount() - 1))
        self._is_filling = False
        self._say_head(plan, pending)
        self._fill_text()
        self.side.fill(open_pull, pending, problem, self._outcome())
        words = tr("Write back") if open_pull.reviewing is not None else tr("Write")
        many = trn(
            "{words} {pending} change", "{words} {pending} changes", pending, words=words, pending=grouped(pending)
        )
        self.write.setText(many if pending else tr("Write"))
        self.revert.setText(tr("Leave it") if open_pull.reviewing is not None else tr("Revert"))
        self.review.setVisible(is_done and bool(self._writes))
        for made in (self.revert, self.rehearse, self.write):
            made.setVisible(not is_done or not self._writes)
            made.setEnabled(bool(pending) and not busy)
        self.revert.setEnabled(bool(pending or waiting) and not busy)
        self.copy.setEnabled(bool(self.text.toPlainText()))
        self.save.setEnabled(self.copy.isEnabled())

    def _say_head(self, plan: Plan | None, pending: int) -> None:
        open_pull = self.open_pull
        assert open_pull is not None
        if plan is None:
            waits = open_pull.pending.waiting_count
            text = tr("{waits} wait for their rows", waits=grouped(waits)) if waits else tr("nothing pending")
            self.head.words.setText(text if not pending else "")
            return
        if open_pull.reviewing is not None:
            self.head.words.setText(
                tr(
                    "putting back {pending} of {table} · by {matched_by}",
                    pending=grouped(pending),
                    table=plan.table,
                    matched_by=plan.matched_by,
                )
            )
            return
        hidden, waits = self._hidden(), open_pull.pending.waiting_count
        text = tr("{pending} to write · by {matched_by}", pending=grouped(pending), matched_by=plan.matched_by)
        self.head.words.setText(
            text
            + (tr(" · {hidden} not in the rows shown", hidden=hidden) if hidden else "")
            + (tr(" · {waits} more wait for their rows", waits=grouped(waits)) if waits else "")
        )

    def _hidden(self) -> int:
        """Pending rows that a filter has taken out of sight."""
        open_pull = self.open_pull
        shaped = open_pull.shaped if open_pull is not None else None
        if open_pull is None or shaped is None or shaped.grouped is not None or shaped.view.ids is None:
            return 0
        touched = {*open_pull.edits.edited_rows, *open_pull.edits.deleted}
        if not touched:
            return 0
        shown = set(shaped.view.ids.tolist()) & touched
        return len(touched) - len(shown)

    # --- rows and statements in step ---------------------------------------------------------------------------

    def _statement(self) -> Statement | None:
        at = self.list.at
        return self._plan.statements[at] if self._plan is not None and 0 <= at < len(self._plan.statements) else None

    def _outcome(self) -> Outcome | None:
        statement, report = self._statement(), self.open_pull.report if self.open_pull is not None else None
        if statement is None or report is None:
            return None
        return next((o for o in report.outcomes if o.statement.row_id == statement.row_id), None)

    def _chosen(self) -> None:
        """Another row was chosen: its statement comes into sight."""
        if self._is_filling or self.open_pull is None:
            return
        if self._plan is None or self._page != max(0, self.list.at) // AT_ONCE:
            self._fill_text()
        self._mark()
        pending = self.open_pull.edits.count if self.open_pull.reviewing is None else 1
        self.side.fill(self.open_pull, pending, "", self._outcome())

    def _caret_moved(self) -> None:
        """The caret went to another statement: its row is chosen."""
        if self._is_filling or self._plan is None or not self.text.hasFocus():
            return
        line = self.text.textCursor().blockNumber()
        at = max((n for n, first in enumerate(self._lines) if first <= line), default=-1)
        if at >= 0 and self._page * AT_ONCE + at != self.list.at:
            self.list.choose(self._page * AT_ONCE + at)

    def _fill_text(self) -> None:
        open_pull, plan = self.open_pull, self._plan
        assert open_pull is not None
        self._is_filling = True
        if plan is None:
            chosen = self._writes[self.list.at] if 0 <= self.list.at < len(self._writes) else None
            try:
                self.text.setPlainText(chosen.script.read_text("utf-8") if chosen is not None else open_pull.reversal)
            except OSError as problem:
                self.text.setPlainText(f"-- {problem.strerror}: {chosen.script.name if chosen else ''}")
            self._lines = []
            self._is_filling = False
            return
        self._page = max(0, self.list.at) // AT_ONCE
        first = self._page * AT_ONCE
        shown = plan.statements[first : first + AT_ONCE]
        report = open_pull.report
        outcomes = {o.statement.row_id: o for o in report.outcomes} if report is not None else {}
        parks = render_parks(plan) if not first and plan.parks else []
        lines: list[str] = (
            [tr("{comment} first, because rows swap unique values", comment=plan.comment), *parks] if parks else []
        )
        self._lines = []
        for number, (statement, text) in enumerate(zip(shown, render(plan, shown), strict=True), first + 1):
            message = _said(outcomes.get(statement.row_id))
            self._lines.append(sum(part.count("\n") + 1 for part in lines))
            lines += [
                f"{plan.comment} {number}  {_WORDS[statement.kind]}{'  ' + message if message else ''}",
                _in_short(text),
            ]
        if len(plan.statements) > len(shown):
            more = len(plan.statements) - len(shown)
            lines.append(
                tr("{comment} and {more} more; Copy has all of them", comment=plan.comment, more=grouped(more))
            )
        self.text.setPlainText("\n".join(lines))
        self._is_filling = False
        self._mark()

    def _mark(self) -> None:
        """The chosen statement has a ground of its own; conflicts stand out by weight and colour."""
        plan, open_pull = self._plan, self.open_pull
        if plan is None or open_pull is None:
            self.text.setExtraSelections([])
            return
        first, results = self._page * AT_ONCE, []
        report = open_pull.report
        bad = {o.statement.row_id for o in report.conflicts} if report is not None else set()
        for n, line in enumerate(self._lines):
            statement = plan.statements[first + n]
            if first + n == self.list.at:
                mark = self._block(line + 1)
                mark.format.setBackground(theme["water4"])
                mark.format.setProperty(QTextCharFormat.Property.FullWidthSelection, True)
                results.append(mark)
                if not self.text.hasFocus():
                    self._is_filling = True
                    self.text.setTextCursor(QTextCursor(self.text.document().findBlockByNumber(line)))
                    self._is_filling = False
            if statement.row_id in bad:
                mark = self._block(line)
                mark.format.setForeground(theme["plum"])
                mark.format.setFontWeight(QFont.Weight.DemiBold)
                results.append(mark)
        self.text.setExtraSelections(results)

    def _block(self, line: int) -> QTextEdit.ExtraSelection:
        mark = QTextEdit.ExtraSelection()
        cursor = QTextCursor(self.text.document().findBlockByNumber(line))
        cursor.movePosition(QTextCursor.MoveOperation.EndOfBlock, QTextCursor.MoveMode.KeepAnchor)
        mark.cursor = cursor
        mark.format = QTextCharFormat()
        return mark

    # --- what one does here ------------------------------------------------------------------------------------

    def _go_to_row(self) -> None:
        statement = self._statement()
        if statement is not None and self.open_pull is not None and self.open_pull.reviewing is None:
            places = {info.name: at for at, info in self.open_pull.target.columns}
            at = next((places[name] for name, _ in statement.values if name in places), -1)
            self.row_wanted.emit(statement.row_id, at)

    def _go(self, outcome: Outcome) -> None:
        self._go_to_row()

    def _resolve(self, outcome: Outcome, names: list[str], mine: bool) -> None:
        if self.open_pull is not None:
            self.open_pull.plans.resolve(outcome, names, mine)

    def _set_guard(self, guard: Guard) -> None:
        if self.open_pull is not None:
            self.open_pull.plans.set_guard(guard)

    def _match_by_values(self) -> None:
        if self.open_pull is not None:
            self.open_pull.plans.match_by_values()

    def _back(self) -> None:
        if self.open_pull is not None and self.open_pull.reviewing is not None:
            self.open_pull.plans.review(None)
        else:
            self.revert_wanted.emit()

    def _review(self) -> None:
        if self.open_pull is None or not 0 <= self.list.at < len(self._writes):
            return
        try:
            self.open_pull.plans.review(load_reversal(self._writes[self.list.at].path))
        except OtterError as problem:
            self.said.emit(str(problem), True)

    def _whole_text(self) -> str:
        if self._plan is not None:
            return script(self._plan)
        return self.text.toPlainText()

    def _copy(self) -> None:
        QApplication.clipboard().setText(self._whole_text())
        count = len(self._plan.statements) if self._plan is not None else 0
        self.said.emit(tr("Copied {count} statements", count=grouped(count)) if count else tr("Copied"), False)

    def _save(self) -> None:
        """The statements as a script for the server's own client."""
        open_pull = self.open_pull
        if open_pull is None:
            return
        ends = self._plan.dialect.script_suffix if self._plan is not None else ".sql"
        first = str(Path.home() / f"{open_pull.pull.name}{ends}")
        name, _ = QFileDialog.getSaveFileName(self, tr("Save the statements"), first, tr("Script (*{ends})", ends=ends))
        if not name:
            return
        try:
            write_text(Path(name), self._whole_text(), is_private=False)
        except OSError as problem:
            self.said.emit(
                tr("{name} can't be written: {strerror}. Choose another folder.", name=name, strerror=problem.strerror),
                True,
            )
            return
        self.said.emit(tr("Saved as {name}", name=name), False)

    def focus_first(self) -> None:
        """Put the keyboard into the list of changes."""
        self.list.setFocus(Qt.FocusReason.OtherFocusReason)


def _in_short(text: str) -> str:
    """A statement as it is shown: of a long value the beginning and the end."""
    if len(text) <= _LONGEST:
        return text
    left = len(text) - _LONGEST
    return tr(
        "{start} … {left} more characters; Copy has them … {end}",
        start=text[: _LONGEST - 400],
        left=grouped(left),
        end=text[-400:],
    )


def _said(outcome: Outcome | None) -> str:
    if outcome is None:
        return ""
    if outcome.is_good:
        return tr("rehearsed: 1 row") + (f"; {outcome.note}" if outcome.note else "")
    return outcome.problem
