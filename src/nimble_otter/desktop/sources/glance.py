"""Glance: what a table (view, collection, routine) is, and its first rows, over the window and without opening it."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QObject, Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QFrame, QPlainTextEdit, QStackedWidget, QVBoxLayout, QWidget

from nimble_otter.changes import Edits
from nimble_otter.desktop.grid.grid import Grid
from nimble_otter.desktop.grid.model import first_width, model_for
from nimble_otter.desktop.kit.highlighter import Highlighter
from nimble_otter.desktop.kit.theme import code_font
from nimble_otter.desktop.kit.widgets import ElidedLabel, Segments, button, label, row
from nimble_otter.desktop.runtime.connections import ConnectionManager
from nimble_otter.pull.shaped import all_rows
from nimble_otter.sources import Fetched, Request, Source, TableInfo, fetch
from nimble_otter.sources.catalogue import Definition, EntryKind
from nimble_otter.stop import StopToken
from nimble_otter.table import Kind
from nimble_otter.table.text.show import grouped
from nimble_otter.translation import tr

FIRST_ROWS = 50
_WIDTHS = {Kind.TEXT: 130, Kind.TIME: 150, Kind.INT: 90, Kind.FLOAT: 90}


class Glance(QFrame):
    """`opened` when the table is wanted as a pull. Closes on Escape, Space, or a click elsewhere."""

    opened = Signal(object, object)

    def __init__(self, window: QWidget, hub: ConnectionManager) -> None:
        super().__init__(window)
        self._window, self._hub = window, hub
        self.setObjectName("glance")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.title, self.words = label("", px=15, bold=True), ElidedLabel("", "muted", 12)
        self.pages = Segments([tr("Rows"), tr("Columns"), tr("Definition")], self._turn)
        self.pages.setFixedWidth(270)
        self.open_button = button(tr("Open  ↵"), self._open, "primary")
        self.grid, self.columns = Grid(), QPlainTextEdit()
        self.text = QPlainTextEdit()
        for editor, name in ((self.columns, tr("Columns")), (self.text, tr("Definition"))):
            editor.setReadOnly(True)
            editor.setFont(code_font())
            editor.setAccessibleName(name)
            editor.setLineWrapMode(QPlainTextEdit.LineWrapMode.NoWrap)
            editor.document().setDocumentMargin(14)
        self._highlighter = Highlighter(self.text.document())
        self.note = label("", "muted", wrap=True)
        self.note.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self._stack = QStackedWidget()
        for page in (self.grid, self.columns, self.text, self.note):
            self._stack.addWidget(page)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(1, 10, 1, 1)
        head = row(self.title, self.words, self.pages, self.open_button, space=12, margins=(14, 0, 12, 4))
        head.setStretch(1, 1)
        layout.addLayout(head)
        layout.addWidget(self._stack, 1)
        self._said: dict[int, str] = {}
        self._source: Source | None = None
        self._table: TableInfo | None = None
        self._before: QWidget | None = None
        for part in (self, self.grid, self.columns, self.text):
            part.installEventFilter(self)
        self.hide()

    def show_table(self, source: Source, table: TableInfo) -> None:
        """Begin with what the catalogue knows; rows and definition come in the background."""
        self._source, self._table = source, table
        self._before = self._window.focusWidget()
        rows = ("≈ " if table.is_estimate else "") + grouped(table.rows) if table.rows is not None else ""
        noun = tr("documents") if table.kind == EntryKind.COLLECTION else tr("rows")
        count = f" · {rows} {noun}" if rows else ""
        self.title.setText(table.name)
        self.words.setText(
            tr(
                "{kind} in {source_name}{count}{comment}",
                kind=table.kind,
                source_name=source.name,
                count=count,
                comment=" · " + table.comment if table.comment else "",
            )
        )
        self.columns.setPlainText(_columns_text(table))
        self.open_button.setVisible(table.holds_rows)
        self._said = {0: tr("Fetching the first rows."), 2: tr("Fetching the definition.")}
        self.grid.set_model(None, [], False)
        self.text.clear()
        self.pages.choose(0 if table.holds_rows else 2)
        self._turn(self.pages.chosen)
        margin = 90
        width, height = min(940, self._window.width() - 2 * margin), min(470, self._window.height() - 2 * margin)
        self.setGeometry((self._window.width() - width) // 2, 120, width, height)
        self.show()
        self.raise_()
        self.setFocus()
        self._ask(source, table)

    def _ask(self, source: Source, table: TableInfo) -> None:
        def here(page: int, said: str) -> bool:
            if self._table is not table:
                return False
            self._said[page] = said
            self._turn(self.pages.chosen)
            return True

        def show_rows(fetched: Fetched) -> None:
            if here(0, "" if fetched.table.fields else tr("It has no columns.")):
                model = model_for(all_rows(fetched.table), Edits(fetched.table.rows), None, (), {}, {})
                self.grid.set_model(model, [first_width(c, fetched.table, _WIDTHS) for c in model.columns], False)

        def show_definition(found: Definition) -> None:
            if here(2, "" if found.text else tr("The server does not provide its definition.")):
                self.text.setPlainText(_definition_text(found))

        def show_filled(found: str) -> None:
            if self._table is table:
                self.words.setText(f"{self.words.text()} · {found}")

        lane, hub = self._hub.lane(source), self._hub
        if table.holds_rows:
            hub.jobs.submit(
                lane, "glance", lambda stop, _: _first(hub, source, table, stop), show_rows,
                lambda problem: (here(0, str(problem)), None)[1],
            )  # fmt: skip
        if table.has_binary and table.kind == EntryKind.TABLE:
            hub.jobs.submit(lane, "glance binary", lambda stop, _: _filled(hub, source, table, stop), show_filled)
        hub.define(source, table, show_definition, lambda problem: here(2, str(problem)))

    def _turn(self, page: int) -> None:
        text = self._said.get(page, "")
        self.note.setText(text)
        self._stack.setCurrentIndex(3 if text else page)

    def _open(self) -> None:
        source, table = self._source, self._table
        self.close_it()
        if source is not None and table is not None and table.holds_rows:
            self.opened.emit(source, table)

    def close_it(self) -> None:
        """Close it and put the keyboard back to where it was."""
        self._table = None
        self._hub.jobs.stop("glance")
        self.hide()
        if self._before is not None and self._before.isVisible():
            self._before.setFocus()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """Close or open the table by the keyboard."""
        keys = (Qt.Key.Key_Escape, Qt.Key.Key_Space, Qt.Key.Key_Return, Qt.Key.Key_Enter)
        if isinstance(event, QKeyEvent) and event.key() in keys:
            if event.type() == QEvent.Type.ShortcutOverride:
                event.accept()
            elif event.type() == QEvent.Type.KeyPress:
                if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
                    self._open()
                else:
                    self.close_it()
                return True
        if event.type() == QEvent.Type.FocusOut and self.isVisible():
            inside = self._window.focusWidget()
            if inside is not None and inside is not self and not self.isAncestorOf(inside):
                self._before = None
                self.close_it()
        return False


def _first(hub: ConnectionManager, source: Source, table: TableInfo, stop: StopToken) -> Fetched:
    connection = hub.connection(source)
    return fetch(connection, Request(connection.select_all(table.name), limit=FIRST_ROWS), stop)


def _filled(hub: ConnectionManager, source: Source, table: TableInfo, stop: StopToken) -> str:
    """How many rows have content in each binary column."""
    connection = hub.connection(source)
    names = [c.name for c in table.columns if c.word == "binary"]
    counts = ", ".join(f"count({connection.quoted(name)}) as c{n}" for n, name in enumerate(names))
    found = fetch(connection, Request(f"select {counts} from {connection.quoted(table.name)}"), stop).table
    return ", ".join(
        tr("{name} in {value} rows", name=name, value=grouped(c.value(0)))
        for name, c in zip(names, found.columns, strict=True)
    )


def _columns_text(table: TableInfo) -> str:
    """One line a column: name, type, and what else is to be known, in columns."""
    lines = []
    for column in table.columns:
        texts = [tr("key {key}", key=column.key) if column.key else "", f"→ {column.refers}" if column.refers else ""]
        texts += ["" if column.nullable or column.key else tr("not empty")]
        texts += [tr("generated: {generated}", generated=column.generated) if column.generated else ""]
        texts += [tr("default {default}", default=column.default) if column.default else "", column.comment]
        lines.append((column.name, column.declared or column.word, " · ".join(s for s in texts if s)))
    first = max((len(line[0]) for line in lines), default=0)
    second = max((len(line[1]) for line in lines), default=0)
    return "\n".join(f"{a:<{min(first, 32)}}  {b:<{min(second, 24)}}  {c}".rstrip() for a, b, c in lines)


def _definition_text(found: Definition) -> str:
    parts = [found.text]
    for head, pairs in (("constraints", found.constraints), ("indexes", found.indexes)):
        if pairs:
            parts.append(
                f"-- {head}\n" + "\n".join(f"-- {name}: {text}" if name else f"-- {text}" for name, text in pairs)
            )
    return "\n\n".join(parts)
