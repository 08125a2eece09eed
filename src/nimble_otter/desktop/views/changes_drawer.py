"""Changes: what is pending as statements, rehearsing and writing them, and what came of it."""

from __future__ import annotations

from PySide6.QtCore import QTimer, Signal
from PySide6.QtGui import QFont, QTextCharFormat, QTextCursor
from PySide6.QtWidgets import QApplication, QScrollArea, QVBoxLayout

from nimble_otter.changes import Outcome, Plan, Report, render
from nimble_otter.desktop.parts import Line, boxed, button, clear, label, row
from nimble_otter.desktop.theme import theme
from nimble_otter.desktop.views.drawer import Drawer
from nimble_otter.desktop.views.editor import SqlEditor
from nimble_otter.errors import ChangeError
from nimble_otter.table.show import grouped

MOST_SHOWN = 200
_WORDS = {"update": "edited row", "insert": "new row", "delete": "row to delete"}


class ChangesDrawer(Drawer):
    """Writing is asked for by signals: the window knows the lanes."""

    title = "Changes"
    rehearse_wanted = Signal()
    write_wanted = Signal()
    take_back_wanted = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.take_back = button(
            "Take back", self.take_back_wanted.emit, tip="Take back what is selected in the grid, or all"
        )
        self.copy = button("Copy", self._copy, tip="Copy the statements")
        self.rehearse = button("Rehearse", self.rehearse_wanted.emit, tip="Run them in a transaction and roll it back")
        self.write = button("Write", self.write_wanted.emit, "primary")
        for made in (self.take_back, self.copy, self.rehearse, self.write):
            self.head.right.addWidget(made)
        self.text = SqlEditor(numbered=False)
        self.text.setReadOnly(True)
        self.text.setAccessibleName("Statements")
        self._side = QVBoxLayout()
        self._side.setContentsMargins(12, 10, 12, 8)
        self._side.setSpacing(6)
        scrolled = QScrollArea()
        scrolled.setWidgetResizable(True)
        scrolled.setWidget(boxed(self._side))
        side = boxed(row(scrolled), "raised")
        side.setFixedWidth(250)
        self.set_body(self.text, Line(True, "grid_line"), side, stretch=(1, 0, 0))
        self._late = QTimer(self)
        self._late.setSingleShot(True)
        self._late.setInterval(60)
        self._late.timeout.connect(self._fill)

    def refresh(self) -> None:
        if self.isVisible() and self.session is not None and self.session.edits.count > 50:
            self._late.start()  # many: not at every key
        else:
            self._fill()

    def _fill(self) -> None:
        session = self.session
        if session is None:
            return
        pending, busy = session.edits.count, session.jobs.is_running(f"{session.key} write")
        self.write.setText(f"Write {grouped(pending)} change{'s' if pending != 1 else ''}" if pending else "Write")
        for made in (self.take_back, self.copy, self.rehearse, self.write):
            made.setEnabled(bool(pending) and not busy)
        self.copy.setEnabled(bool(pending) or bool(session.reversal))
        self.copy.setText("Copy" if pending or not session.reversal else "Copy reversal")
        clear(self._side)
        plan: Plan | None = None
        problem = ""
        if session.table is not None and pending:
            try:
                plan = session.plan()
            except ChangeError as refused:
                problem = str(refused)
        self._say_head(plan, pending)
        self._fill_text(plan, session.report)
        if problem:
            self._note(problem, "plum")
        elif pending:
            self._fill_report(session.report)
        elif session.report is not None and session.report.is_written:
            self._fill_written(session.report)
        elif not session.target.is_open:
            self._note(session.target.reason, "muted")
        else:
            assert session.target.table is not None
            self._note(f"Edit a cell of {session.target.table.name} in the grid: type over it, or F2.", "muted")
            self._note("Ctrl+Insert adds a row, Ctrl+D duplicates, Ctrl+Delete marks rows to delete.", "faint")
        self._side.addStretch(1)

    def _say_head(self, plan: Plan | None, pending: int) -> None:
        if plan is None:
            self.head.words.setText("nothing pending" if not pending else "")
            return
        hidden = self._hidden()
        said = f"{grouped(pending)} to write · by {', '.join(plan.key)} + values seen"
        self.head.words.setText(said + (f" · {hidden} not in the rows shown" if hidden else ""))

    def _hidden(self) -> int:
        """Pending rows that a filter has taken out of sight."""
        session = self.session
        shaped = session.shaped if session is not None else None
        if session is None or shaped is None or shaped.grouped is not None or shaped.view.ids is None:
            return 0
        touched = {*session.edits.edited_rows, *session.edits.deleted}
        if not touched:
            return 0
        shown = set(shaped.view.ids.tolist()) & touched
        return len(touched) - len(shown)

    def _fill_text(self, plan: Plan | None, report: Report | None) -> None:
        session = self.session
        assert session is not None
        if plan is None:
            self.text.setPlainText(session.reversal)
            return
        shown = plan.statements[:MOST_SHOWN]
        outcomes = {o.statement.row_id: o for o in report.outcomes} if report is not None else {}
        lines: list[str] = []
        marks: list[int] = []
        for number, (statement, text) in enumerate(zip(shown, render(plan, shown), strict=True), 1):
            outcome = outcomes.get(statement.row_id)
            said = _said(outcome)
            head = f"-- {number}  {_WORDS[statement.kind]}{'  ' + said if said else ''}"
            if outcome is not None and not outcome.is_good:
                marks.append(len("\n".join(lines)) + (1 if lines else 0))
            lines += [head, text]
        if len(plan.statements) > MOST_SHOWN:
            lines.append(f"-- and {grouped(len(plan.statements) - MOST_SHOWN)} more; Copy has all of them")
        self.text.setPlainText("\n".join(lines))
        self._strengthen(marks)

    def _strengthen(self, places: list[int]) -> None:
        """Conflicts stand out by weight and colour."""
        from PySide6.QtWidgets import QTextEdit

        found = []
        for place in places:
            mark = QTextEdit.ExtraSelection()
            cursor = QTextCursor(self.text.document())
            cursor.setPosition(place)
            cursor.movePosition(QTextCursor.MoveOperation.EndOfBlock, QTextCursor.MoveMode.KeepAnchor)
            look = QTextCharFormat()
            look.setForeground(theme["plum"])
            look.setFontWeight(QFont.Weight.DemiBold)
            mark.cursor, mark.format = cursor, look
            found.append(mark)
        self.text.setExtraSelections(found)

    def _note(self, text: str, tone: str) -> None:
        self._side.addWidget(label(text, tone, 12, wrap=True))

    def _pair(self, name: str, value: str, strong: bool = False) -> None:
        self._side.addLayout(row(label(name, "plum" if strong else "muted", 12, strong), None, label(value, px=12)))

    def _fill_report(self, report: Report | None) -> None:
        if report is None:
            self._note("Not rehearsed yet. Rehearse runs the statements and rolls them back.", "muted")
        else:
            self._pair(f"Tried at {report.at:%H:%M:%S}", "nothing written")
            self._pair("Will succeed", grouped(report.good))
            if report.conflicts:
                self._pair("In conflict", grouped(len(report.conflicts)), True)
                for outcome in report.conflicts[:5]:
                    self._note(outcome.problem, "plum")
        self._note(
            "All or nothing, in one transaction. A script that puts the old values back is kept with the pull.", "muted"
        )

    def _fill_written(self, report: Report) -> None:
        count = len(report.outcomes)
        self._pair(f"Written at {report.at:%H:%M:%S}", f"{grouped(count)} row{'s' if count != 1 else ''}")
        self._note("The rows were read back and are shown as the source has them now.", "muted")
        self._note("On the left is the reversal: it puts the old values back.", "muted")

    def _copy(self) -> None:
        session = self.session
        if session is None:
            return
        if session.edits.count:
            try:
                QApplication.clipboard().setText("\n".join(render(session.plan())) + "\n")
            except ChangeError as problem:
                QApplication.clipboard().setText(f"-- {problem}\n")
        else:
            QApplication.clipboard().setText(session.reversal)


def _said(outcome: Outcome | None) -> str:
    if outcome is None:
        return ""
    if outcome.is_good:
        beside = f", and {outcome.beside} more by triggers" if outcome.beside else ""
        return f"rehearsed: 1 row{beside}"
    return outcome.problem
