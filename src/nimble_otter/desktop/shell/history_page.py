"""History: everything that was run, found by its words, to be read, opened again or put into the query."""

from __future__ import annotations

from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtWidgets import QHeaderView, QLineEdit, QPlainTextEdit, QSplitter, QTreeWidget, QTreeWidgetItem, QWidget

from nimble_otter.desktop.kit.highlighter import Highlighter
from nimble_otter.desktop.kit.theme import code_font, theme
from nimble_otter.desktop.kit.widgets import button, column, combo, label, row
from nimble_otter.desktop.runtime.connections import ConnectionManager
from nimble_otter.pull import Pull, Query
from nimble_otter.pull.history import DAYS, Ran
from nimble_otter.sources import Source
from nimble_otter.table.text.show import grouped, plain
from nimble_otter.translation import tr, trn

_RAN = Qt.ItemDataRole.UserRole
_MOST = 500


class HistoryPage(QWidget):
    """`opened` has a pull of a run; `text_wanted` a text for the query that is open; `cleared` the source's URL."""

    opened = Signal(object)
    text_wanted = Signal(str)
    closed = Signal()
    cleared = Signal(object)

    def __init__(self, hub: ConnectionManager) -> None:
        super().__init__()
        self.setObjectName("surface")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._hub = hub
        self.words, self.source = QLineEdit(), combo([], "", tr("Source"))
        self.words.setPlaceholderText(tr("words of the text, the pull or the error"))
        self.words.setAccessibleName(tr("Words to find"))
        self.words.setClearButtonEnabled(True)
        self.source.setMinimumWidth(200)
        self.found = label("", "muted")
        self.list = QTreeWidget()
        self.list.setHeaderLabels([tr("When"), tr("Source"), tr("Text"), tr("Rows"), tr("Time")])
        self.list.setRootIsDecorated(False)
        self.list.setUniformRowHeights(True)
        self.list.setObjectName("rows")
        self.list.setAccessibleName(tr("Runs"))
        for at, width in ((0, 150), (1, 130), (3, 90), (4, 76)):
            self.list.setColumnWidth(at, width)
        self.list.header().setStretchLastSection(False)
        self.list.header().setSectionResizeMode(2, QHeaderView.ResizeMode.Stretch)
        for at in (3, 4):
            self.list.headerItem().setTextAlignment(at, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self.text = QPlainTextEdit()
        self.text.setReadOnly(True)
        self.text.setFont(code_font())
        self.text.setAccessibleName(tr("The text that ran"))
        Highlighter(self.text.document())
        parts = QSplitter(Qt.Orientation.Vertical)
        parts.addWidget(self.list)
        parts.addWidget(self.text)
        parts.setStretchFactor(0, 3)
        parts.setStretchFactor(1, 1)
        self.open_button = button(tr("Open as a pull  ↵"), self._open, "primary")
        self.put_button = button(tr("Put into the query"), self._put)
        self.clear_button = button(
            tr("Forget these…"), self._clear, "", tr("Forget the runs on this source, or all of them")
        )
        self.sure_button = button(tr("Yes, forget them"), self._sure, "primary")
        layout = column(
                label(tr("History"), px=18, bold=True), 4, row(self.words, self.source, self.found), parts,
                row(self.open_button, self.put_button, button(tr("Close"), self.closed.emit), None, self.clear_button,
                    self.sure_button),
                space=9, margins=(28, 22, 28, 18),
            )  # fmt: skip
        layout.setStretch(3, 1)
        self.setLayout(layout)
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(120)
        self._later.timeout.connect(self.refresh)
        self.words.textEdited.connect(lambda _: self._later.start())
        self.words.returnPressed.connect(self._open)
        self.source.currentIndexChanged.connect(lambda _: self.refresh())
        self.list.currentItemChanged.connect(lambda *_: self._show())
        self.list.itemActivated.connect(lambda *_: self._open())

    def open(self, source: Source | None) -> None:
        """All runs, or those on a source."""
        self.source.blockSignals(True)
        self.source.clear()
        self.source.addItem(tr("all sources"), None)
        for known in self._hub.sources:
            self.source.addItem(known.name, known.url)
        self.source.setCurrentIndex(max(0, self.source.findData(source.url) if source is not None else 0))
        self.source.blockSignals(False)
        self.refresh()
        self.words.setFocus()
        self.words.selectAll()

    def refresh(self) -> None:
        """List what the words find."""
        rans = self._hub.history.search(self.words.text(), self.source.currentData())
        self.list.clear()
        for ran in rans[:_MOST]:
            rows = tr("error") if ran.error else "" if ran.rows is None else grouped(ran.rows)
            text = " ".join(ran.text.split())[:300]
            item = QTreeWidgetItem([ran.at.replace("T", " ")[:19], ran.source, text, rows, f"{ran.seconds:.2f} s"])
            item.setData(0, _RAN, ran)
            for at in (3, 4):
                item.setTextAlignment(at, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            if ran.error:
                item.setForeground(3, theme["plum"])
            self.list.addTopLevelItem(item)
        more = tr(", the latest {most} are listed", most=_MOST) if len(rans) > _MOST else ""
        nothing = (
            tr("Nothing was run in the last {days} days", days=DAYS)
            if not self.words.text()
            else tr("No run contains these words")
        )
        self.found.setText(
            trn(
                "{rans_count} run{more}", "{rans_count} runs{more}", len(rans), rans_count=grouped(len(rans)), more=more
            )
            if rans
            else nothing
        )
        if rans:
            self.list.setCurrentItem(self.list.topLevelItem(0))  # type: ignore[arg-type]
        self.sure_button.hide()
        self.clear_button.show()
        self.clear_button.setEnabled(bool(self._hub.history.runs()))
        self._show()

    def _ran(self) -> Ran | None:
        item = self.list.currentItem()
        return item.data(0, _RAN) if item is not None else None

    def _show(self) -> None:
        ran = self._ran()
        values = "" if ran is None else "\n".join(f":{n} = {plain(v)}" for n, v in ran.parameters.items())
        error = f"\n\n-- {ran.error}" if ran is not None and ran.error else ""
        self.text.setPlainText("" if ran is None else ran.text + (f"\n\n{values}" if values else "") + error)
        for made in (self.open_button, self.put_button):
            made.setEnabled(ran is not None)

    def _open(self) -> None:
        ran = self._ran()
        if ran is None:
            return
        source = next((s for s in self._hub.sources if s.url == ran.url), Source(ran.source, ran.url))
        query = Query(ran.text, ran.language, ran.collection, dict(ran.parameters))
        self.opened.emit(Pull(ran.pull or tr("from history"), source, query))

    def _put(self) -> None:
        ran = self._ran()
        if ran is not None:
            self.text_wanted.emit(ran.text)

    def _clear(self) -> None:
        """Ask once more in place, without a dialog."""
        self.clear_button.hide()
        self.sure_button.show()
        self.sure_button.setFocus()

    def _sure(self) -> None:
        self.cleared.emit(self.source.currentData())
        self.refresh()
