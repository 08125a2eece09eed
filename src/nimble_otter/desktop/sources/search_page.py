"""Find a value: through a source's tables, at the server, with hits as they come and a pull of just those rows."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QCheckBox, QHeaderView, QLineEdit, QTreeWidget, QTreeWidgetItem, QWidget

from nimble_otter.desktop.kit.widgets import button, column, combo, label, row, set_tone
from nimble_otter.desktop.runtime.connections import ConnectionManager
from nimble_otter.errors import OtterError
from nimble_otter.pull import Pull, Query
from nimble_otter.sources import Source, TableInfo
from nimble_otter.sources.search import Hit, Sought, find_value
from nimble_otter.table.text.show import grouped
from nimble_otter.translation import tr, trn

if TYPE_CHECKING:
    from collections.abc import Callable

    from nimble_otter.stop import StopToken

ALL = ""
_HIT = Qt.ItemDataRole.UserRole


class SearchPage(QWidget):
    """`opened` with a pull of the rows of a hit."""

    opened = Signal(object)
    closed = Signal()

    def __init__(self, hub: ConnectionManager) -> None:
        super().__init__()
        self.setObjectName("surface")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._hub = hub
        self.source, self.table = combo([], "", tr("Source")), combo([], "", tr("Tables"))
        self.text = QLineEdit()
        self.text.setPlaceholderText(tr("a text or a number"))
        self.text.setAccessibleName(tr("What to find"))
        self.cased, self.word, self.regex = (
            QCheckBox(tr("case")),
            QCheckBox(tr("whole word")),
            QCheckBox(tr("regular expression")),
        )
        self.find_button, self.stop_button = button(tr("Find"), self.search, "primary"), button(tr("Stop"), self._stop)
        self.outcome = label("", "muted", wrap=True)
        self.hits = QTreeWidget()
        self.hits.setHeaderLabels([tr("Table"), tr("Column"), tr("Rows"), tr("First values")])
        self.hits.setRootIsDecorated(False)
        self.hits.setObjectName("rows")
        self.hits.setAccessibleName(tr("Where it was found"))
        self.hits.setUniformRowHeights(True)
        for at, width in enumerate((200, 180, 90)):
            self.hits.setColumnWidth(at, width)
        self.hits.header().setSectionResizeMode(3, QHeaderView.ResizeMode.Stretch)
        self.open_button = button(tr("Open the rows  ↵"), self._open)
        parts = column(
                label(tr("Find a value"), px=18, bold=True), 4,
                row(label(tr("In"), "muted"), self.source, self.table, None),
                row(self.text, self.cased, self.word, self.regex, self.find_button, self.stop_button),
                self.outcome, self.hits,
                row(self.open_button, button(tr("Close"), self.closed.emit), None),
                space=9, margins=(28, 22, 28, 18),
            )  # fmt: skip
        parts.setStretch(5, 1)
        self.setLayout(parts)
        self.source.setMinimumWidth(200)
        self.table.setMinimumWidth(240)
        self.source.currentIndexChanged.connect(lambda _: self._list_tables(ALL))
        self.text.returnPressed.connect(self.search)
        self.word.toggled.connect(lambda on: self.regex.setChecked(self.regex.isChecked() and not on))
        self.regex.toggled.connect(lambda on: self.word.setChecked(self.word.isChecked() and not on))
        self.hits.itemActivated.connect(lambda *_: self._open())
        self.hits.currentItemChanged.connect(lambda *_: self._ready())
        hub.changed.connect(lambda _: self._sources_changed())
        self._ready()

    def open(self, source: Source, table: TableInfo | None) -> None:
        """For one source; of it one table, or all."""
        self.source.blockSignals(True)
        self.source.clear()
        for known in self._hub.sources:
            self.source.addItem(known.name, known.name)
        self.source.setCurrentIndex(max(0, self.source.findData(source.name)))
        self.source.blockSignals(False)
        self._hub.open(source)
        self._list_tables(table.name if table is not None else ALL)
        self.text.setFocus()
        self.text.selectAll()

    def _sources_changed(self) -> None:
        if self.isVisible():
            self._list_tables(str(self.table.currentData() or ""))

    def _list_tables(self, chosen: str) -> None:
        tables = [t for t in self._hub.tables.get(str(self.source.currentData()), []) if t.holds_rows]
        self.table.clear()
        self.table.addItem(
            tr("all {tables_count} tables", tables_count=grouped(len(tables))) if tables else tr("being read"), ALL
        )
        for table in tables:
            self.table.addItem(table.name, table.name)
        self.table.setCurrentIndex(max(0, self.table.findData(chosen)))
        self._ready()

    def _ready(self) -> None:
        running = self._hub.jobs.is_running("search")
        self.find_button.setEnabled(not running)
        self.stop_button.setVisible(running)
        item = self.hits.currentItem()
        self.open_button.setEnabled(item is not None and not item.data(0, _HIT).problem)

    # --- searching ---------------------------------------------------------------------------------------------

    def search(self) -> None:
        """Ask the server, table by table; hits appear as they come."""
        source = self._hub.find(str(self.source.currentData()))
        if source is None or not self.text.text():
            self._say(tr("Type what to find."), "muted")
            return
        sought = Sought(self.text.text(), self.cased.isChecked(), self.word.isChecked(), self.regex.isChecked())
        only = str(self.table.currentData() or "")
        self.hits.clear()
        self._say(tr("Searching."), "muted")

        def work(stop: StopToken, report: Callable[[object], None]) -> int:
            connection = self._hub.connection(source)
            tables = [t for t in connection.tables() if not only or t.name == only]
            count = 0
            for hit in find_value(connection, tables, sought, stop, lambda n, m: report((n, m))):
                report(hit)
                count += not hit.problem
            return count

        def update(what: object) -> None:
            if isinstance(what, Hit):
                self._add(what)

        def done(count: int) -> None:
            self._say(
                trn("Found in {count} column.", "Found in {count} columns.", count, count=count)
                if count
                else tr("Not found in any table."),
                "water" if count else "muted",
            )
            self._ready()

        def failed(problem: OtterError) -> None:
            self._say(str(problem), "plum")
            self._ready()

        def stopped() -> None:
            self._say(tr("Stopped; the tables searched so far are listed."), "muted")
            self._ready()

        self._hub.jobs.submit(
            self._hub.lane(source),
            "search",
            work,
            done,
            failed,
            update,
            stopped,
            tr("Searching {source_name}", source_name=source.name),
        )
        self._ready()

    def _add(self, hit: Hit) -> None:
        rows = "" if hit.problem else grouped(hit.rows)
        item = QTreeWidgetItem([hit.table, hit.column, rows, hit.problem or ", ".join(hit.examples)])
        item.setData(0, _HIT, hit)
        item.setTextAlignment(2, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self.hits.addTopLevelItem(item)
        if self.hits.currentItem() is None and not hit.problem:
            self.hits.setCurrentItem(item)

    def _stop(self) -> None:
        self._hub.jobs.stop("search")

    def _open(self) -> None:
        item, source = self.hits.currentItem(), self._hub.find(str(self.source.currentData()))
        if item is None or source is None or item.data(0, _HIT).problem:
            return
        hit: Hit = item.data(0, _HIT)
        request = hit.request
        query = Query(request.text, request.language, request.collection, dict(request.parameters))
        self.opened.emit(
            Pull(tr("{table} with {text}", table=hit.table, text=self.text.text()[:24]), replace(source), query)
        )

    def _say(self, text: str, tone: str) -> None:
        set_tone(self.outcome, tone)
        self.outcome.setText(text)
