"""Help while a query is typed: what can come next, what is wrong, and how it could be mended."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import partial
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QObject, QTimer, Signal
from PySide6.QtWidgets import QMenu

from nimble_otter.desktop.kit.widgets import calling
from nimble_otter.desktop.runtime.jobs import LOCAL
from nimble_otter.errors import place_of
from nimble_otter.query.assist.completion import Completion, Offer, complete
from nimble_otter.query.assist.diagnosis import Problem, diagnose, diagnose_documents
from nimble_otter.query.assist.native import complete_native
from nimble_otter.query.pieces.conditions import literal
from nimble_otter.query.sql.names import Names, names_of
from nimble_otter.table.text.show import plain
from nimble_otter.table.text.text_format import render

if TYPE_CHECKING:
    from nimble_otter.desktop.kit.editor import SqlEditor
    from nimble_otter.desktop.pulls.open_pull import OpenPull

_PAUSE_MS = 450
_MOST_USED = 400
_MOST_LOOKED_AT = 60_000
"""Characters of a text that is looked at whole; of a longer one, only the statement under the caret."""


class QueryHelp(QObject):
    """`looked` comes when problems were found or are gone. Knows the pull that is shown; `used` counts the names
    that were taken, `pulls` gives all open ones, whose rows hold values seen lately."""

    looked = Signal()

    def __init__(
        self,
        editor: SqlEditor,
        open_pull: Callable[[], OpenPull | None],
        used: dict[str, int],
        pulls: Callable[[], Sequence[OpenPull]],
    ) -> None:
        super().__init__(editor)
        self._editor, self._open_pull, self.used, self.pulls = editor, open_pull, used, pulls
        self.problems: list[Problem] = []
        self._seen: tuple[str, int, str] | None = None
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(_PAUSE_MS)
        self._later.timeout.connect(self._look)
        editor.document().contentsChange.connect(self._edited)

    @property
    def dialect(self) -> str:
        """The dialect of the query's source; empty without a pull."""
        open_pull = self._open_pull()
        return open_pull.dialect if open_pull is not None else ""

    # --- what can come next ------------------------------------------------------------------------------------

    def complete(self, position: int) -> Completion:
        """What can be typed at a position of the text."""
        open_pull, names = self._open_pull(), self.names()
        if open_pull is None:
            return Completion(position)
        if open_pull.pull.query.language != "sql":
            own = names.table(open_pull.collection) if names is not None else None
            fields = own.columns if own is not None else ()
            others = [t.name for t in open_pull.tables]
            return complete_native(self._editor.text, position, fields, others, self.used)
        known, quoted = names or names_of(()), self._editor.quoted
        text, start = self._part(position)
        completion = complete(text, position - start, known, self.dialect, quoted, self.values, self.used)
        return replace(completion, start=completion.start + start)

    def _part(self, position: int) -> tuple[str, int]:
        """The statement around a place and where it begins: the rest of a long text says nothing about it."""
        text, statement = self._editor.text, self._editor.statement()
        if statement is None or not statement.start <= position:
            return text[position:position], position
        return text[statement.start : max(statement.end, position)], statement.start

    def taken(self, offer: Offer) -> None:
        """Remember an offer that was taken, to put it first the next time."""
        self.used[offer.shown] = self.used.pop(offer.shown, 0) + 1
        while len(self.used) > _MOST_USED:
            del self.used[next(iter(self.used))]

    def names(self) -> Names | None:
        """The catalogue of the pull's source as names; None while it is not known."""
        open_pull = self._open_pull()
        return open_pull.names if open_pull is not None else None

    def values(self, table: str, column: str) -> list[str]:
        """Literals of the values that the open pulls' rows hold in a column, the most frequent first."""
        counts: dict[str, int] = {}
        for open_pull in self.pulls():
            fetched = open_pull.fetched
            for index, origin in enumerate(fetched.origins if fetched is not None else ()):
                if fetched is None or origin is None or (origin.table, origin.column) != (table, column):
                    continue
                field = fetched.table.fields[index]
                column_of = fetched.table.columns[index]
                for value in column_of.values(np.arange(min(2000, len(column_of)))):
                    if value is not None and not isinstance(value, bytes):
                        text = literal(value, self.dialect, plain(render(value, field.form)))
                        counts[text] = counts.get(text, 0) + 1
        return sorted((v for v in counts if len(v) < 80), key=lambda v: -counts[v])[:12]

    # --- what is wrong -----------------------------------------------------------------------------------------

    def changed(self) -> None:
        """The text or the catalogue changed: look at it after a pause."""
        self._editor.show_problems(self.problems)
        self.looked.emit()
        self._later.start()

    def _edited(self, at: int, removed: int, added: int) -> None:
        """Problems behind an edit move with the text; one that was edited is looked at anew."""
        kept = []
        whole = self._editor.text
        for problem in self.problems:
            start, end = problem.place.start, problem.place.end
            if start >= at + removed and start > at:
                start, end = start + added - removed, end + added - removed
            elif end >= at:
                self._seen = None
                continue
            if end <= len(whole):
                kept.append(replace(problem, place=place_of(whole, start, end)))
        self.problems = kept

    def _look(self) -> None:
        open_pull = self._open_pull()
        if open_pull is None or open_pull.pull.query.language != "sql":
            self._seen = None
            self._show([])
            return
        whole, names, dialect = self._editor.text, self.names(), self.dialect
        text, start = (whole, 0) if len(whole) < _MOST_LOOKED_AT else self._part(self._editor.textCursor().position())
        if self._seen == (text, id(names), dialect):
            return

        def show(problems: list[Problem]) -> None:
            if self._editor.text == whole:
                problems = [
                    replace(p, place=place_of(whole, p.place.start + start, p.place.end + start)) for p in problems
                ]
                self._seen = (text, id(names), dialect)
                self._show(problems)

        values = dict(open_pull.pull.query.parameters)
        look = (
            partial(diagnose_documents, parameters=values)
            if open_pull.is_documents
            else partial(diagnose, dialect=dialect)
        )
        open_pull.jobs.submit(LOCAL, "diagnosis", lambda *_: look(text, names), show)

    def _show(self, problems: list[Problem]) -> None:
        caret = self._editor.textCursor().position()
        # what is being typed at this moment is not wrong yet
        statement = self._editor.statement()
        end = len(statement.text.rstrip()) + statement.start if statement is not None else -1
        self.problems = [p for p in problems if not (p.place.end == caret == end and p.is_error)]
        self._editor.show_problems(self.problems)
        self.looked.emit()

    def at(self, position: int) -> Problem | None:
        """The problem at a place of the text."""
        return next((p for p in self.problems if p.place.start <= position <= p.place.end), None)

    def mend(self) -> bool:
        """Put the likeliest fix of the problem at the caret, or else of the first one, in its place; a menu where
        there are several. Returns whether there was one."""
        caret = self._editor.textCursor().position()
        problem = self.at(caret) or next((p for p in self.problems if p.fixes), None)
        if problem is None or not problem.fixes:
            return False
        if len(problem.fixes) == 1:
            self._put(problem, problem.fixes[0])
            return True
        menu = QMenu(self._editor)
        for fix in problem.fixes:
            menu.addAction(fix, calling(self._put, problem, fix))
        menu.setActiveAction(menu.actions()[0])
        menu.popup(self._editor.viewport().mapToGlobal(self._editor.cursorRect().bottomLeft()))
        return True

    def _put(self, problem: Problem, fix: str) -> None:
        cursor = self._editor.textCursor()
        cursor.setPosition(problem.place.start)
        cursor.setPosition(problem.place.end, cursor.MoveMode.KeepAnchor)
        cursor.insertText(".".join(self._editor.quoted(part) for part in fix.split(".")))
        self._editor.setTextCursor(cursor)
