"""What the team changed in its folder: by whom, when and how; and a word on it while it happens."""

from __future__ import annotations

import datetime as dt
from pathlib import Path

from PySide6.QtCore import QObject, Qt, QUrl, Signal
from PySide6.QtGui import QDesktopServices
from PySide6.QtWidgets import QHeaderView, QLineEdit, QTreeWidget, QTreeWidgetItem, QWidget

from nimble_otter.desktop.kit.widgets import as_plain, button, column, label, row
from nimble_otter.desktop.runtime.jobs import LOCAL, Jobs, Report
from nimble_otter.pull import places
from nimble_otter.stop import StopToken
from nimble_otter.table.text.show import grouped, moment_words
from nimble_otter.team_changes import TeamChange, myself, team_changes
from nimble_otter.translation import tr, tr_value, trn

_CHANGE = Qt.ItemDataRole.UserRole


def _changes(stop: StopToken, _: Report) -> list[TeamChange]:
    """Raises: SavedError, where the folder is not there."""
    folder = places.team_folder()
    return team_changes(folder) if folder is not None else []


class TeamNews(QObject):
    """Tells once of what others change while the window is open, by `said`."""

    said = Signal(str)

    def __init__(self, jobs: Jobs, parent: QObject) -> None:
        super().__init__(parent)
        self._jobs = jobs
        self._known: set[TeamChange] | None = None

    def look(self) -> None:
        """Read the changes in the background; those of the first time are not news."""
        if places.team_folder() is not None:
            self._jobs.submit(LOCAL, "team", _changes, self._take, lambda problem: None)

    def _take(self, changes: list[TeamChange]) -> None:
        before, self._known = self._known, set(changes)
        new = [change for change in changes if before is not None and change not in before and change.who != myself()]
        if new:
            more = (
                tr(", and {new_count} more: see What the team changed", new_count=grouped(len(new) - 1))
                if len(new) > 1
                else ""
            )
            self.said.emit(f"{_words(new[0])}{more}")


class TeamPage(QWidget):
    """`opened` with the path of a pull, `place_wanted` with the kind and the name of what else is to be shown;
    `folder_wanted` where none is set."""

    opened = Signal(object)
    place_wanted = Signal(str, str)
    folder_wanted = Signal()
    closed = Signal()

    def __init__(self, jobs: Jobs) -> None:
        super().__init__()
        self.setObjectName("surface")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._jobs, self._shown = jobs, list[TeamChange]()
        self.words = QLineEdit()
        self.words.setPlaceholderText(tr("words of the name, the person or what changed"))
        self.words.setAccessibleName(tr("Words to find"))
        self.words.setClearButtonEnabled(True)
        self.words.setFixedWidth(330)
        self.words.textEdited.connect(lambda _: self._show())
        self.words.returnPressed.connect(lambda: self._open())
        self.found, self.problem = label("", "muted"), label("", "plum", wrap=True)
        self.problem.hide()
        self.list = QTreeWidget()
        self.list.setHeaderLabels([tr("When"), tr("Who"), tr("What"), tr("Name"), tr("How")])
        self.list.setRootIsDecorated(False)
        self.list.setUniformRowHeights(True)
        self.list.setObjectName("rows")
        self.list.setAccessibleName(tr("Changes"))
        for at, width in enumerate((130, 128, 144, 130)):
            self.list.setColumnWidth(at, width)
        self.list.header().setStretchLastSection(False)
        self.list.header().setSectionResizeMode(4, QHeaderView.ResizeMode.Stretch)
        self.list.itemActivated.connect(lambda *_: self._open())
        self.list.currentItemChanged.connect(lambda *_: self._enable())
        self.nothing = label("", "faint", wrap=True)
        self.open_button = button(
            tr("Open"), self._open, "primary", tr("The pull, the page of the source or the schedules")
        )
        self.folder_button = button(tr("Show the folder"), self._folder)
        self.set_button = button(tr("Name the folder…"), self.folder_wanted.emit)
        layout = column(
            label(tr("What the team changed"), px=18, bold=True), 4, row(self.words, self.found, None),
            self.problem, self.nothing, self.list,
            row(self.open_button, self.folder_button, self.set_button, button(tr("Close"), self.closed.emit), None),
            space=9, margins=(28, 22, 28, 18),
        )  # fmt: skip
        layout.setStretch(layout.indexOf(self.list), 1)
        self.setLayout(layout)

    def open(self) -> None:
        """Show what there is now."""
        self.refresh()
        self.words.setFocus()

    def refresh(self) -> None:
        """Read the changes anew, in the background."""

        def show(changes: list[TeamChange]) -> None:
            self._shown = changes
            self._say("")
            self._show()

        self._jobs.submit(LOCAL, "team page", _changes, show, lambda problem: self._say(str(problem)))
        self._show()

    def _say(self, problem: str) -> None:
        self.problem.setText(problem)
        self.problem.setVisible(bool(problem))

    def _show(self) -> None:
        folder, words = places.team_folder(), self.words.text().casefold().split()
        self.list.clear()
        for change in self._shown:
            name = change.name if change.kind != change.name else ""
            texts = [
                _when(change),
                change.who,
                tr("{what} the {kind}", what=tr_value(change.what), kind=tr_value(change.kind)),
                name,
                change.said,
            ]
            if not all(word in " ".join(texts).casefold() for word in words):
                continue
            item = QTreeWidgetItem(texts)
            item.setData(0, _CHANGE, change)
            for at in (3, 4):
                item.setToolTip(at, as_plain(texts[at]))
            self.list.addTopLevelItem(item)
        count = self.list.topLevelItemCount()
        self.found.setText(trn("{count} change", "{count} changes", count, count=grouped(count)) if count else "")
        said = (
            tr("No change has these words.")
            if self._shown
            else tr("Nothing was changed in {folder} yet.", folder=folder)
        )
        self.nothing.setText(
            said if folder is not None else
            tr("A team shares sources, pulls, pieces, schedules and settings in a folder on a share "
"or in git.")
        )  # fmt: skip
        self.nothing.setVisible(not count)
        self.list.setVisible(count > 0)
        self.set_button.setVisible(folder is None)
        self.folder_button.setVisible(folder is not None)
        if count:
            self.list.setCurrentItem(self.list.topLevelItem(0))  # type: ignore[arg-type]
        self._enable()

    def _change(self) -> TeamChange | None:
        item = self.list.currentItem()
        return item.data(0, _CHANGE) if item is not None else None

    def _enable(self) -> None:
        change, folder = self._change(), places.team_folder()
        is_there = change is not None and folder is not None and (folder / change.file).exists()
        self.open_button.setEnabled(is_there and change is not None and change.kind != "piece")

    def _open(self) -> None:
        change, folder = self._change(), places.team_folder()
        if change is None or folder is None or not self.open_button.isEnabled():
            return
        if change.kind == "pull":
            self.opened.emit(folder / Path(change.file))
        else:
            self.place_wanted.emit(change.kind, change.name)

    def _folder(self) -> None:
        QDesktopServices.openUrl(QUrl.fromLocalFile(str(places.team_folder())))


def _when(change: TeamChange) -> str:
    return moment_words(dt.datetime.fromisoformat(change.at).astimezone()) if change.at else ""


def _words(change: TeamChange) -> str:
    who = change.who or tr("Somebody")
    name = f" {change.name}" if change.kind != change.name else ""
    said = f" ({change.said})" if change.said else ""
    return tr(
        "{who} {what} the {kind}{name}{said}",
        who=who,
        what=tr_value(change.what),
        kind=tr_value(change.kind),
        name=name,
        said=said,
    )
