"""Saved pulls that are changed on disk by someone else, in a shared folder or by git, while they are open here."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QFileSystemWatcher, QObject, QTimer, Signal

from nimble_otter.desktop.pulls.aspect import Aspect
from nimble_otter.desktop.pulls.open_pull import OpenPull
from nimble_otter.desktop.pulls.step_ref import QUERY
from nimble_otter.desktop.pulls.workspace import Proposal, Workspace
from nimble_otter.errors import OtterError
from nimble_otter.pull import Pull, places, pull_from_text, pull_to_text
from nimble_otter.pull.merge import Merged, merge
from nimble_otter.pull.upstream import difference
from nimble_otter.translation import tr

_SETTLE_MS = 300
"""A file is often written in several goes."""


_SHARED = ("sources", "pieces", "schedules", "changes")


class FileWatcher(QObject):
    """Looks again at what is open when its file changes, and before it is saved. `shelf_changed` when the files on the
    shelf may be others."""

    shelf_changed = Signal()

    def __init__(self, workspace: Workspace) -> None:
        super().__init__(workspace)
        self._workspace = workspace
        self._watcher = QFileSystemWatcher(self)
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(_SETTLE_MS)
        self._later.timeout.connect(self.look)
        self._watcher.fileChanged.connect(lambda _: self._later.start())
        self._watcher.directoryChanged.connect(lambda _: self._later.start())
        self._told: dict[Path, str] = {}
        self._soon = QTimer(self)
        self._soon.setSingleShot(True)
        self._soon.timeout.connect(self.watch)  # once for all pulls that are opened in one go, as at the start
        workspace.pull_opened.connect(lambda made: self._soon.start(0) if made.path is not None else None)

    def watch(self) -> None:
        """Watch the files of all open pulls, the shelf, and the team's folder."""
        team = places.team_folder()
        folders = {
            *places.shelf_folders(),
            *([team, *(team / name for name in _SHARED)] if team is not None else []),
            *(s.path.parent for s in self._workspace.pulls if s.path is not None),
        }
        files = {str(s.path) for s in self._workspace.pulls if s.path is not None and s.path.exists()}
        wanted = files | {str(folder) for folder in folders if folder.is_dir()}
        known = {*self._watcher.files(), *self._watcher.directories()}
        if gone := sorted(known - wanted):
            self._watcher.removePaths(gone)
        if new := sorted(wanted - known):
            self._watcher.addPaths(new)

    def look(self) -> None:
        """See which open pulls are others on disk now."""
        self.watch()
        self.shelf_changed.emit()
        for open_pull in list(self._workspace.pulls):
            self.take_in(open_pull)

    def take_in(self, open_pull: OpenPull) -> bool:
        """Take in what changed on disk; False, and shown, where that and the changes here touch."""
        text = self._text_of(open_pull)
        if text is None or not open_pull.saved_text or text == open_pull.saved_text:
            return True
        try:
            theirs, base = pull_from_text(text, str(open_pull.path)), pull_from_text(open_pull.saved_text)
        except OtterError as problem:
            self._workspace.say(tr("The file was changed and can't be read: {problem}", problem=problem), True)
            return False
        merged = merge(base, open_pull.pull, theirs)
        if merged.conflicts:
            if self._told.get(open_pull.path or Path()) != text:
                self._told[open_pull.path or Path()] = text
                self._show_both(open_pull, merged, theirs, text)
            return False
        open_pull.saved_text = text
        open_pull.shaping.change(merged.pull, tr("Reloaded from disk"))
        open_pull.waits = open_pull.waits or not self._workspace.hub.known_pulls.has(open_pull.pull)
        open_pull.tell(Aspect.RUN)
        if merged.theirs:
            self._workspace.say(
                tr(
                    "{pull_name} was changed on disk: {theirs} taken in",
                    pull_name=open_pull.pull.name,
                    theirs=", ".join(merged.theirs),
                )
            )
        return True

    @staticmethod
    def _text_of(open_pull: OpenPull) -> str | None:
        try:
            return open_pull.path.read_text("utf-8") if open_pull.path is not None else None
        except (OSError, UnicodeDecodeError):
            return None

    def _show_both(self, open_pull: OpenPull, merged: Merged, theirs: Pull, text: str) -> None:
        """Both in one list, and the choice between them."""
        workspace = self._workspace
        workspace.show(open_pull)
        workspace.show_step(QUERY)
        lines = difference(pull_to_text(open_pull.pull), pull_to_text(theirs))
        notes = [tr("Changed here and on disk: {conflicts}.", conflicts=", ".join(merged.conflicts))]
        notes += [tr("Only on disk: {theirs}.", theirs=", ".join(merged.theirs))] if merged.theirs else []

        def take(pull: Pull) -> None:
            open_pull.saved_text = text
            self._told.pop(open_pull.path or Path(), None)
            open_pull.shaping.change(pull, tr("Reloaded from disk"))
            open_pull.waits = open_pull.waits or not workspace.hub.known_pulls.has(open_pull.pull)
            open_pull.tell(Aspect.PULL)  # what is saved may be what is here now

        title = tr(
            "{pull_name} was changed on disk in the same places as here. − is here, + on disk.",
            pull_name=open_pull.pull.name,
        )
        workspace.propose(
            Proposal(
                title, lines, notes, lambda: take(theirs), tr("Take theirs"), tr("Keep mine"), lambda: take(merged.pull)
            )
        )
        workspace.say(
            tr("{pull_name} was changed on disk and here; choose which to keep", pull_name=open_pull.pull.name), True
        )
