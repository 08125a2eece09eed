"""Versions of a pull: when it was run or saved, what has changed since, and the way back."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QHeaderView, QSplitter, QTreeWidget, QTreeWidgetItem, QWidget

from nimble_otter.desktop.kit.diff_view import DiffView
from nimble_otter.desktop.kit.widgets import boxed, button, column, label, row
from nimble_otter.desktop.pulls.open_pull import OpenPull
from nimble_otter.errors import OtterError
from nimble_otter.pull import Pull, pull_from_text, pull_to_text
from nimble_otter.pull.upstream import difference
from nimble_otter.pull.versions import Version
from nimble_otter.translation import tr

_VERSION = Qt.ItemDataRole.UserRole


class VersionsPage(QWidget):
    """`taken_back` has the pull as it was, for the one that is open; `opened` one for a tab of its own."""

    taken_back = Signal(object)
    opened = Signal(object)
    closed = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("surface")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.title, self.said = label(tr("Versions"), px=18, bold=True), label("", "muted", wrap=True)
        self.list = QTreeWidget()
        self.list.setHeaderLabels([tr("When"), tr("Kept when"), tr("Lines")])
        self.list.setRootIsDecorated(False)
        self.list.setObjectName("rows")
        self.list.setAccessibleName(tr("Versions"))
        self.list.header().setStretchLastSection(False)
        self.list.header().setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        self.list.setColumnWidth(1, 80)
        self.list.setColumnWidth(2, 70)
        self.lines = DiffView(tr("What has changed since"))
        parts = QSplitter(Qt.Orientation.Horizontal)
        parts.addWidget(self.list)
        parts.addWidget(boxed(column(label(tr("From this version to the pull as it is now"), "muted"), self.lines)))
        parts.setStretchFactor(0, 2)
        parts.setStretchFactor(1, 3)
        self.back_button = button(
            tr("Restore"), self._back, "primary", tr("The pull becomes what it was in this version; undo reverts that")
        )
        self.open_button = button(tr("Open as a new pull"), self._open)
        layout = column(
                self.title, self.said, parts,
                row(self.back_button, self.open_button, button(tr("Close"), self.closed.emit), None),
                space=9, margins=(28, 22, 28, 18),
            )  # fmt: skip
        layout.setStretch(2, 1)
        self.setLayout(layout)
        self.list.currentItemChanged.connect(lambda *_: self._show())
        self.list.itemActivated.connect(lambda *_: self._back())
        self._now = ""

    def open(self, open_pull: OpenPull) -> None:
        """The versions of a pull, the latest first."""
        self._now = pull_to_text(open_pull.pull)
        self.title.setText(tr("Versions of {pull_name}", pull_name=open_pull.pull.name))
        versions = open_pull.versions.all()
        self.list.clear()
        for version in reversed(versions):
            changed = sum(mark != " " for mark, _ in difference(version.text, self._now))
            item = QTreeWidgetItem(
                [version.at.replace("T", " ")[:16], version.why, str(changed) if changed else tr("as now")]
            )
            item.setTextAlignment(2, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            item.setData(0, _VERSION, version)
            self.list.addTopLevelItem(item)
        self.said.setText("" if versions else tr("A version is kept at every run and save. There are no versions yet."))
        self.said.setVisible(not versions)
        if versions:
            self.list.setCurrentItem(self.list.topLevelItem(0))  # type: ignore[arg-type]
        self._show()
        self.list.setFocus()

    def _version(self) -> Version | None:
        item = self.list.currentItem()
        return item.data(0, _VERSION) if item is not None else None

    def _show(self) -> None:
        version = self._version()
        self.lines.show_lines(difference(version.text, self._now) if version is not None else [])
        self.back_button.setEnabled(version is not None and version.text != self._now)
        self.open_button.setEnabled(version is not None)

    def _pull(self) -> Pull | None:
        version = self._version()
        try:
            return pull_from_text(version.text, tr("The version")) if version is not None else None
        except OtterError as problem:
            self.said.setText(str(problem))
            self.said.setVisible(True)
            return None

    def _back(self) -> None:
        pull = self._pull()
        if pull is not None and self.back_button.isEnabled():
            self.taken_back.emit(pull)

    def _open(self) -> None:
        pull = self._pull()
        if pull is not None:
            self.opened.emit(pull)
