"""What can be done with the query's text as a whole: laying it out, columns for *, names, parameters."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

from PySide6.QtWidgets import QInputDialog, QMenu, QPushButton

from nimble_otter.desktop.kit.widgets import calling
from nimble_otter.desktop.query.query_host import QueryHost
from nimble_otter.errors import OtterError
from nimble_otter.query.assist.rewrite import expand_stars, format_sql, make_parameter, name_part, qualify, rename_alias
from nimble_otter.query.sql.names import names_of
from nimble_otter.translation import tr

EDITS = (
    ("format", tr("Format the SQL"), "Ctrl+J, F"),
    ("expand", tr("Expand *"), "Ctrl+J, X"),
    ("qualify", tr("Qualify column names"), "Ctrl+J, Q"),
    ("rename_alias", tr("Rename the table alias…"), "Ctrl+J, A"),
    ("parameter", tr("Make the selected value a parameter"), "Ctrl+J, P"),
    ("name_part", tr("Move the selection into a WITH query"), "Ctrl+J, W"),
    ("mend", tr("Apply the suggested fix"), "Ctrl+J, M"),
    ("comment", tr("Comment or uncomment lines"), "Ctrl+J, C"),
    ("fold", tr("Fold or unfold the brackets here"), "Ctrl+J, B"),
    ("find_text", tr("Find in the text"), "Ctrl+F"),
    ("replace_text", tr("Replace in the text"), "Ctrl+H"),
)
"""Key, name and shortcut of each, in the order of the menu."""


class QueryEdits:
    """Each `do` changes the drawer's text as one step of undo, or says why it can't."""

    def __init__(self, drawer: QueryHost) -> None:
        self._drawer, self._editor = drawer, drawer.editor

    def do(self, key: str) -> None:
        """Do the editing command of this key to the text."""
        open_pull = self._drawer.open_pull
        if open_pull is None:
            return
        simple: dict[str, Callable[[], Any]] = {
            "mend": self._drawer.help.mend, "comment": self._editor.toggle_comment,
            "fold": self._fold,
            "find_text": self._drawer.finder.open, "replace_text": lambda: self._drawer.finder.open(True),
        }  # fmt: skip
        if key in simple:
            simple[key]()
            return
        text, cursor = self._editor.toPlainText(), self._editor.textCursor()
        start, end = cursor.selectionStart(), cursor.selectionEnd()
        try:
            if key == "format":
                written = format_sql(text, self._drawer.help.dialect)
            elif key == "expand":
                written = expand_stars(text, start, self._drawer.help.names() or names_of(()), self._editor.quoted)
            elif key == "qualify":
                written = qualify(text, start, self._drawer.help.names() or names_of(()), self._editor.quoted)
                if written == text:
                    self._drawer.say(tr("Every column here is already qualified, or not known."))
            elif key == "name_part":
                written = name_part(text, start, end)
            elif key == "rename_alias":
                rename_alias(text, start, "alias_")  # says at once when there is none here
                new, is_done = QInputDialog.getText(self._editor, tr("Rename the alias"), tr("Name:"))
                if not is_done or not new.strip():
                    return
                written = rename_alias(text, start, new.strip())
            else:
                written, name, value = make_parameter(text, start, end)
                query = open_pull.pull.query
                open_pull.shaping.put(
                    replace(open_pull.pull, query=replace(query, parameters={**query.parameters, name: value}))
                )
        except OtterError as problem:
            self._drawer.say(str(problem))
            return
        if written != text:
            self._editor.replace_text(written)

    def _fold(self) -> None:
        if not self._editor.fold():
            self._drawer.say(tr("There are no multi-line brackets here."))

    def offer(self, at: QPushButton) -> None:
        """The menu of all of them."""
        menu = QMenu(at)
        for key, name, shortcut in EDITS:
            if key in ("mend", "find_text"):
                menu.addSeparator()
            menu.addAction(f"{name}\t{shortcut}", calling(self.do, key))
        menu.popup(at.mapToGlobal(at.rect().bottomLeft()))
