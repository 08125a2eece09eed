"""Query: the text, its parameters and row limit, what it cost; for documents the request that is sent."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtWidgets import QButtonGroup, QLineEdit, QStackedWidget, QVBoxLayout, QWidget

from nimble_otter.desktop.kit.editor import SqlEditor
from nimble_otter.desktop.kit.find_bar import FindBar
from nimble_otter.desktop.kit.widgets import Line, button, label, row, set_tone
from nimble_otter.desktop.pulls.drawer import Drawer
from nimble_otter.desktop.query.query_edits import QueryEdits
from nimble_otter.desktop.query.query_help import QueryHelp
from nimble_otter.desktop.query.query_side import QuerySide
from nimble_otter.desktop.query.transaction_strip import TransactionStrip
from nimble_otter.desktop.query.waiting_strip import WaitingStrip
from nimble_otter.errors import OtterError, QueryError
from nimble_otter.translation import tr

if TYPE_CHECKING:
    from nimble_otter.desktop.pulls.open_pull import OpenPull
    from nimble_otter.desktop.pulls.workspace import Proposal
    from nimble_otter.desktop.query.pieces import PiecesView

_ROOM = 320
"""Height in which pieces can be seen."""
_LONG = 20_000
"""Characters above which a text is handed on after a pause, not at every key."""


class QueryDrawer(Drawer):
    """The drawer of the query: its text or its pieces, its parameters, and what stands beside them."""

    title = tr("Query")
    room_wanted = Signal(int)
    help_wanted = Signal(str)

    def __init__(self, used: dict[str, int], pulls: Callable[[], Sequence[OpenPull]]) -> None:
        super().__init__()
        self.editor = SqlEditor(quoted=self._quoted)
        self.help = QueryHelp(self.editor, lambda: self.open_pull, used, pulls)
        self.editor.help_with(self.help.complete, self.help.taken)
        self.finder, self.edits = FindBar(self.editor), QueryEdits(self)
        self.text_button = button(
            tr("Edit"), lambda: self.edits.offer(self.text_button), "", tr("Format, expand, rename and more")
        )
        self.text_chip = button(tr("text"), lambda: self.show_text(), "chip", tr("Edit the query as text"))
        self.pieces_chip = button(tr("pieces"), lambda: self.show_pieces(), "chip", tr("Build the query from pieces"))
        self._shapes = QButtonGroup(self)
        for made in (self.text_chip, self.pieces_chip):
            made.setCheckable(True)
            self._shapes.addButton(made)
            self.head.left.addWidget(made)
        self.text_chip.setChecked(True)
        self.sql, self.native = button("SQL", look="chip"), button(tr("native"), look="chip")
        self._languages = QButtonGroup(self)
        for made in (self.sql, self.native):
            made.setCheckable(True)
            self._languages.addButton(made)
            self.head.left.addWidget(made)
        self.run_button = button(
            tr("Run  Ctrl ↵"), self.run, "primary", tr("Run the statement under the caret, or the selection")
        )
        self.stop_button = button(tr("Stop"), self._stop, "", tr("Stop the run and keep the rows so far"))
        self.plan_button = button(
            tr("Plan"), self.show_plan, "", tr("The server's execution plan; the query is not run")
        )
        self.plan_button.setCheckable(True)
        self.all_button = button(tr("Run all"), self.run_all, "", tr("Run every statement (Ctrl+Shift+Enter)"))
        for made in (self.text_button, self.stop_button, self.plan_button, self.all_button, self.run_button):
            self.head.right.addWidget(made)
        self.side = QuerySide(self)
        self.parameters, self.limit, self.sent = self.side.parameters, self.side.limit, self.side.sent
        self.plan, self.outcomes, self.proposal = self.side.plan, self.side.outcomes, self.side.proposal
        self.outcomes.chosen.connect(self._outcome_chosen)
        self.parameters.run_wanted.connect(self.run)
        self.problem = label("", "plum", wrap=True)
        self.problem.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.problem.setContentsMargins(12, 6, 12, 6)
        left = QWidget()
        inner = QVBoxLayout(left)
        inner.setContentsMargins(0, 0, 0, 0)
        inner.setSpacing(0)
        self.pieces: PiecesView | None = None
        self._ways = QStackedWidget()
        self._ways.addWidget(self.editor)
        inner.addWidget(self._ways, 1)
        inner.addWidget(self.finder)
        self.more = button(
            tr("Help"), lambda: self.help_wanted.emit(self._topic), "link", tr("What the guide says of it")
        )
        self.more.setVisible(False)
        self._topic = ""
        beside = row(self.problem, self.more, 8)
        beside.setStretchFactor(self.problem, 1)
        inner.addLayout(beside)
        self.transaction, self.waiting = TransactionStrip(), WaitingStrip()
        self._whole.addWidget(self.waiting)
        self._whole.addWidget(self.transaction)
        self.set_body(left, Line(True, "grid_line"), self.side, stretch=(1, 0, 0))
        self._filling, self._typed_last = False, ""
        self._pause = QTimer(self)
        self._pause.setSingleShot(True)
        self._pause.setInterval(250)
        self._pause.timeout.connect(self._looked)
        self.editor.textChanged.connect(self._typed)
        self.editor.textChanged.connect(self.help.changed)
        self.editor.cursorPositionChanged.connect(self._tell)
        self.help.looked.connect(self._tell)
        self.editor.run_wanted.connect(self.run)
        self.editor.run_all_wanted.connect(self.run_all)
        self.sql.clicked.connect(lambda: self._speak("sql"))
        self.native.clicked.connect(lambda: self._speak("native"))

    # --- text and pieces ---------------------------------------------------------------------------------------

    @property
    def shows_pieces(self) -> bool:
        """Whether the query is shown in pieces."""
        return self._ways.currentIndex() == 1

    def show_pieces(self) -> None:
        """Show the statement under the caret in pieces."""
        pieces = self._made_pieces()
        self._ways.setCurrentIndex(1)
        self.pieces_chip.setChecked(True)
        pieces.rows.place.addWidget(self.parameters)
        self.text_button.hide()
        self.finder.close_bar()
        self.refresh()
        self.room_wanted.emit(_ROOM)
        pieces.focus_first()

    def undoes_pieces(self, key: str, focus: QWidget | None) -> bool:
        """Undo or redo what a piece changed, unless a field that is being typed in has something to undo."""
        if not self.shows_pieces or (focus is not None and not self.isAncestorOf(focus)):
            return False
        if isinstance(focus, QLineEdit) and (focus.isUndoAvailable() if key == "undo" else focus.isRedoAvailable()):
            return False
        self.editor.undo() if key == "undo" else self.editor.redo()
        return True

    def turn_over(self) -> None:
        """From text to pieces, and back."""
        self.show_text() if self.shows_pieces else self.show_pieces()

    def show_text(self, at: int | None = None) -> None:
        """Back to the text, with the caret at a place of it."""
        self._ways.setCurrentIndex(0)
        self.side.take_parameters()
        self.text_button.show()
        self.text_chip.setChecked(True)
        self._fill_plan()
        self.room_wanted.emit(0)
        if at is not None:
            cursor = self.editor.textCursor()
            cursor.setPosition(at)
            self.editor.setTextCursor(cursor)
        self.editor.setFocus()

    def take_value(self, table: str, name: str, said: str) -> None:
        """A value becomes a condition of the query, in text as in pieces."""
        if self.open_pull is None or self.open_pull.pull.query.language != "sql":
            self.say(tr("Values can be added to SQL queries only."))
            return
        shown, text = self.shows_pieces, self.editor.text
        self._made_pieces().refresh()
        self._made_pieces().take_value(table, name, said)
        if not shown and self.editor.text != text:
            self.say(tr("The condition was added to the query. Run applies it; Ctrl+Z removes it."))

    def _made_pieces(self) -> PiecesView:
        if self.pieces is None:
            from nimble_otter.desktop.query.pieces import PiecesView

            self.pieces = PiecesView(self)
            self.pieces.preview_wanted.connect(self._preview)
            self._ways.addWidget(self.pieces)
        return self.pieces

    def _preview(self) -> None:
        """The first rows of the query as it is now, where that asks for nothing more."""
        open_pull = self.open_pull
        if (
            open_pull is None
            or self.pieces is None
            or not self.shows_pieces
            or not self.pieces.rows.preview.isChecked()
        ):
            return
        text, start = self.editor.wanted_text()
        if (
            not open_pull.runs.unset_in(text)
            and open_pull.held is None
            and text.strip()
            and open_pull.edits.count == 0
            and open_pull.runs.may_run_unasked(text)
        ):
            self._take()
            open_pull.runs.preview(text, start)

    # --- filling -----------------------------------------------------------------------------------------------

    def refresh(self) -> None:
        """Show the query as it is now."""
        open_pull = self.open_pull
        assert open_pull is not None
        query = open_pull.pull.query
        self.head.words.setText(tr("on {source_name}", source_name=open_pull.pull.source.name))
        documents = open_pull.is_documents
        self.sql.setVisible(documents)
        self.native.setVisible(documents)
        (self.native if query.language == "native" else self.sql).setChecked(True)
        if self.editor.text != query.text and not (self._pause.isActive() and len(self.editor.text) > _LONG):
            self._filling = True
            self.editor.setPlainText(query.text)
            self._filling = False
        is_json = query.language == "native"
        look = self.editor.highlighter
        if (look.is_json, look.dialect) != (is_json, open_pull.dialect):
            look.is_json, look.dialect = is_json, open_pull.dialect
            look.rehighlight()
        speaks = query.language == "sql"
        self.text_chip.setVisible(speaks)
        self.pieces_chip.setVisible(speaks)
        if not speaks and self.shows_pieces:
            self.show_text()
        if self.shows_pieces and self.pieces is not None:
            self.pieces.refresh()
        running = open_pull.is_running
        self.transaction.show_pull(open_pull)
        self.waiting.show_pull(open_pull)
        self._count_statements()
        self.stop_button.setVisible(running)
        self.run_button.setEnabled(not running)
        self._show_problem(open_pull.error)
        self.side.fill()
        self.outcomes.fill(open_pull.outcomes)
        self._fill_plan()
        self.help.changed()

    def show_pull(self, open_pull: Any) -> None:
        """Show the query of this pull, after taking what was typed for the one before."""
        self.take_text()
        if open_pull is not self.open_pull:
            self.proposal.is_open = False
            self.side.forget()
            self.editor.mark_error(None)
        super().show_pull(open_pull)

    def _show_problem(self, problem: OtterError | None) -> None:
        if problem is None:
            self.editor.mark_error(None)
            self._tell()
            return
        self.problem.setVisible(True)
        set_tone(self.problem, "plum")
        self._topic = problem.topic
        self.more.setVisible(True)
        place = problem.place if isinstance(problem, QueryError) else None
        where = tr("Line {line}, column {column}: ", line=place.line, column=place.column) if place is not None else ""
        self.problem.setText(where + str(problem))
        self.editor.mark_error(place)

    def _tell(self) -> None:
        """What is wrong at the caret, or first in the text, while the server has said nothing."""
        if self.open_pull is None or self.open_pull.error is not None:
            return
        self.more.setVisible(False)
        problem = self.help.at(self.editor.textCursor().position()) or next(iter(self.help.problems), None)
        if problem is None:
            self.problem.setVisible(False)
            return
        mending = tr("  Alt+Enter applies the fix.") if problem.fixes else ""
        self.problem.setText(
            tr(
                "Line {line}, column {column}: {message}{mending}",
                line=problem.place.line,
                column=problem.place.column,
                message=problem.message,
                mending=mending,
            )
        )
        set_tone(self.problem, "plum" if problem.is_error else "muted")
        self.problem.setVisible(True)

    def say(self, text: str) -> None:
        """Why something could not be done with the text."""
        self.problem.setText(text)
        set_tone(self.problem, "muted")
        self.problem.setVisible(True)

    def _count_statements(self) -> None:
        """Running all of them is offered where there are several."""
        several = len(self.editor.statements()) > 1 and self.open_pull is not None and not self.open_pull.is_documents
        self.all_button.setVisible(several)
        self.all_button.setEnabled(self.run_button.isEnabled())

    # --- typing ------------------------------------------------------------------------------------------------

    def _typed(self) -> None:
        if self._filling or self.open_pull is None:
            return
        self._pause.start()
        self._count_statements()
        if len(self.editor.text) <= _LONG:  # else the whole window would be told of it at every key
            self._take()

    def _take(self) -> None:
        """Hand what was typed to the pull."""
        assert self.open_pull is not None
        query = replace(self.open_pull.pull.query, text=self.editor.text)
        if query == self.open_pull.pull.query:
            return
        if self.open_pull.error is not None:
            self.open_pull.forget_error()
            self._show_problem(None)
        self.open_pull.shaping.put(replace(self.open_pull.pull, query=query))

    def take_text(self) -> None:
        """Hand a long text that was typed just now to the pull, before something is done with it."""
        if self._pause.isActive():
            self._looked()

    def _looked(self) -> None:
        self._pause.stop()
        if self.open_pull is not None:
            self._take()
            self.side.fill()

    def _speak(self, language: str) -> None:
        """Go between SQL and the native request; the other text is kept aside and comes back."""
        open_pull = self.open_pull
        assert open_pull is not None
        query = open_pull.pull.query
        if query.language == language:
            return
        name = open_pull.collection
        kept, open_pull.other_text = open_pull.other_text, query.text
        text = kept or ("{}" if language == "native" else f"select *\nfrom {name}")
        open_pull.shaping.change(
            replace(open_pull.pull, query=replace(query, text=text, language=language, collection=name)), tr("Language")
        )
        self.refresh()

    # --- running -----------------------------------------------------------------------------------------------

    def run(self) -> None:
        """Run the statement under the caret, or the selection."""
        open_pull = self.open_pull
        if open_pull is None:
            return
        self._looked()
        text, start = self.editor.wanted_text()
        if open_pull.pull.query.language == "native":
            text, start = self.editor.text, 0
        open_pull.runs.run(text, start, self.side.goes_on.isChecked())
        if open_pull.runs.missing in self.parameters.fields:
            self.parameters.fields[open_pull.runs.missing].setFocus()

    def propose(self, proposal: Proposal) -> None:
        """Show a change of the text beside it, to be accepted or left."""
        self.proposal.propose(proposal, self._fill_plan)
        self._fill_plan()

    def recall(self, way: int) -> None:
        """Previous query in history (-1) or after (1) the one shown; what was typed comes back behind the last."""
        open_pull = self.open_pull
        if open_pull is None:
            return
        texts = open_pull.hub.history.texts(open_pull.hub.known(open_pull.pull.source).url)
        shown = self.editor.text
        if shown in texts:
            at = texts.index(shown) + way
        else:
            self._typed_last, at = shown, len(texts) - 1 if way < 0 else len(texts)
        if 0 <= at <= len(texts):
            self.editor.replace_text(texts[at] if at < len(texts) else self._typed_last)

    def run_all(self) -> None:
        """Run every statement of the text, one after the other."""
        self.editor.selectAll()
        self.run()
        cursor = self.editor.textCursor()
        cursor.clearSelection()
        self.editor.setTextCursor(cursor)

    def _outcome_chosen(self, number: int, place: int) -> None:
        """Show the rows of a statement, and where it stands."""
        open_pull = self.open_pull
        if open_pull is None or open_pull.is_running:
            return
        cursor = self.editor.textCursor()
        start = open_pull.outcomes[number].statement.start + open_pull.script_at
        cursor.setPosition(min(start, len(self.editor.text)))
        self.editor.setTextCursor(cursor)
        open_pull.runs.show_outcome(number, place)

    # --- the plan ----------------------------------------------------------------------------------------------

    def show_plan(self) -> None:
        """Ask for the plan of the statement under the caret, or put the plan away."""
        open_pull = self.open_pull
        if open_pull is None:
            return
        if open_pull.plan_tree is not None or open_pull.jobs.is_running(f"{open_pull.key} plan"):
            open_pull.plan_tree = None
            self._fill_plan()
            return
        text, start = self.editor.wanted_text()
        if open_pull.pull.query.language == "native":
            text, start = self.editor.text, 0
        open_pull.runs.explain(text, start)

    def _fill_plan(self) -> None:
        open_pull = self.open_pull
        tree = open_pull.plan_tree if open_pull is not None else None
        self.plan_button.setChecked(tree is not None)
        has_outcomes = open_pull is not None and bool(open_pull.outcomes)
        page = 3 if self.proposal.is_open else 1 if tree is not None else 2 if has_outcomes else 0
        self.side.turn(page, not self.shows_pieces or bool(page))
        self.plan.fill(tree)

    def _stop(self) -> None:
        if self.open_pull is not None:
            self.open_pull.runs.stop()

    def _quoted(self, name: str) -> str:
        open_pull = self.open_pull
        return name if open_pull is None else open_pull.hub.quoted(open_pull.hub.known(open_pull.pull.source), name)

    def focus_first(self) -> None:
        """Put the keyboard into the text, or on the first piece."""
        if self.shows_pieces and self.pieces is not None:
            self.pieces.focus_first()
        else:
            self.editor.setFocus()

    def insert_name(self, name: str) -> None:
        """Put a name from the catalogue at the caret; in pieces, a table."""
        if self.shows_pieces and self.pieces is not None:
            self.pieces.take_table(name, self.mapToGlobal(self.rect().center()))
            return
        self.editor.insertPlainText(name)
        self.editor.setFocus()
