"""Source: what the pull reads from, whether it is reached, and putting another in its place."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtWidgets import QVBoxLayout

from nimble_otter.desktop.kit.widgets import button, clear, combo, label, row
from nimble_otter.desktop.pulls.drawer import Drawer
from nimble_otter.sources.catalogue import how_many
from nimble_otter.table.text.show import grouped
from nimble_otter.translation import tr


class SourceDrawer(Drawer):
    """The drawer of the source: what it is, its rights, and its transaction."""

    title = tr("Source")

    def __init__(self) -> None:
        super().__init__()
        self.head.right.addWidget(button(tr("Read again"), self._again, tip=tr("Read the catalogue again")))
        self._lines = QVBoxLayout()
        self._lines.setContentsMargins(14, 12, 14, 8)
        self._lines.setSpacing(8)
        self._whole.addLayout(self._lines, 1)

    def refresh(self) -> None:
        """Show the source as it is now."""
        open_pull = self.open_pull
        assert open_pull is not None
        hub, source = open_pull.hub, open_pull.hub.known(open_pull.pull.source)
        self.head.words.setText(source.word)
        clear(self._lines)
        choice = combo([s.name for s in hub.sources], source.name, tr("Source"))
        if hub.find(source.name) is None:
            choice.insertItem(0, source.name, source.name)
            choice.setCurrentIndex(0)
        choice.setMinimumWidth(220)
        choice.activated.connect(lambda _: self._choose(choice.currentData()))
        self._pair(tr("Reads from"), choice)
        self._pair(
            tr("Where"), label(tr("the demo, on this machine") if source.url.startswith("demo:") else source.url)
        )
        problem = hub.errors.get(source.name)
        tables = hub.tables.get(source.name)
        if problem is not None:
            self._pair(tr("State"), label(str(problem), "plum", wrap=True))
        elif tables is not None:
            rows = sum(table.rows or 0 for table in tables)
            noun = tr("documents") if open_pull.is_documents else tr("rows")
            self._pair(tr("State"), label(f"{how_many(len(tables), open_pull.is_documents)}, {grouped(rows)} {noun}"))
        else:
            self._pair(tr("State"), label(tr("being opened"), "muted"))
        writes = tr("opened for reading; a write is reviewed first")
        if source.read_only:
            writes = tr("marked read-only")
        elif source.is_read_only:
            writes = tr("read-only by its kind")
        elif not open_pull.can_write:
            writes = tr("can't be written yet")
        if source.stage or source.care:
            lines = [source.stage, tr("take care: a write is asked about once more") if source.care else ""]
            self._pair(tr("Marks"), label(", ".join(s for s in lines if s)))
        self._pair(tr("Writes"), label(writes, "muted"))
        self._lines.addStretch(1)

    def _pair(self, name: str, value: object) -> None:
        head = label(name, "muted")
        head.setFixedWidth(100)
        self._lines.addLayout(row(head, value, None, space=8))  # type: ignore[arg-type]

    def _again(self) -> None:
        if self.open_pull is not None:
            self.open_pull.hub.open(self.open_pull.hub.known(self.open_pull.pull.source), again=True)

    def _choose(self, name: str) -> None:
        open_pull = self.open_pull
        source = open_pull.hub.find(name) if open_pull is not None else None
        if open_pull is not None and source is not None and source != open_pull.pull.source:
            open_pull.shaping.change(replace(open_pull.pull, source=source), tr("Change source"))
            open_pull.hub.open(source)
            self.refresh()
